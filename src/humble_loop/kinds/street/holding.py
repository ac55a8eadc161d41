"""Stretches along which a section point of a street is held in level by something else: what they have in common, whatever holds."""

from __future__ import annotations

from typing import Annotated, ClassVar

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of
from humble_loop.lines.rules import Hold
from humble_loop.lines.standing import kinds
from humble_loop.site.edits import EditError
from humble_loop.site.model import Side, Site, Thing, between, other_side

ON = 0.01  # metres along the street within which two ends are one


class HeldPoint(Thing):
    """A stretch of a street's section point that is held: on its ``side``, the ``point`` by its name, 'boundary' for the outermost.

    Over ``taper_in`` metres after its beginning and ``taper_out`` before its end the point comes to what holds it from
    where the section would have it, and goes back there; nothing where it begins or ends at once. Side and chainages are those of the
    street as it was drawn.
    """

    owned_by: ClassVar[str] = "streets"

    street: str
    side: Side
    point: str = "lip"
    taper_in: Annotated[float, between(0.0, 500.0)] = 0.0
    taper_out: Annotated[float, between(0.0, 500.0)] = 0.0

    @property
    def span(self) -> tuple[float, float]:
        """Chainages from and to."""
        raise NotImplementedError

    @property
    def called(self) -> str:
        """What such a thing is called."""
        return self.words

    @property
    def owner(self) -> str | None:
        """The street."""
        return self.street


def put_apart(site: Site, fresh: HeldPoint) -> Site:
    """The site with a stretch, or EditError where another already holds the same point there."""
    begin, finish = fresh.span
    for model in HeldPoint.__subclasses__():
        for other in site.owned(model, fresh.street):
            same = (other.side, other.point) == (fresh.side, fresh.point) and other is not fresh
            if same and (type(other), other.id) != (type(fresh), fresh.id):
                low, high = other.span
                if low < finish and high > begin:
                    raise EditError(
                        f"the {fresh.side} {fresh.point} has a {other.called} from {low:.2f} to {high:.2f} already;"
                        f" change that one, or let the {fresh.called} ({begin:.2f} to {finish:.2f}) end where it begins"
                    )
    return site.put(fresh)


def as_it_runs(q: Engine, held: HeldPoint) -> tuple[Side, float, float, float, float]:
    """Side, from, to, taper at the start and at the end of a stretch as its street runs now."""
    begin, finish = held.span
    if not frame_of(q, held.street).turned:
        return held.side, begin, finish, held.taper_in, held.taper_out
    total = chain_of(q, held.street).total
    return other_side(held.side), total - finish, total - begin, held.taper_out, held.taper_in


@query
def holds(q: Engine, id: StreetLine) -> tuple[Hold, ...]:
    """How a street's line is held by other kinds. Of two that overlap, as no edit makes them but a file may have them, the one of the
    earlier kind holds, and of one kind that which begins first.
    """
    found: list[Hold] = []
    for kind in kinds():
        for hold in kind.holds(q, id):
            low, high = hold.share.at.min(), hold.share.at.max()
            if all(high <= h.share.at.min() + ON or low >= h.share.at.max() - ON for h in found):
                found.append(hold)
    return tuple(sorted(found, key=lambda h: float(np.min(h.share.at))))
