"""A leg of a roundabout in hand: handles whose places are measured as one of its sizes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from humble_loop.engine.query import Engine
from humble_loop.kinds.roundabout.model import set_leg
from humble_loop.kinds.roundabout.place import Leg, leg_name, leg_sizes
from humble_loop.lines.describe import Handle, Place, Told, Typed
from humble_loop.site.edits import Edit

_DIGITS = 2
_LEAST = 0.5  # metres of a size that is dragged


def to_leg(id: str, leg: Leg, key: str) -> Callable[[Any], Edit]:
    """The edit that sets one of a leg's sizes."""
    return lambda value: lambda s: set_leg(s, id, leg.street, leg.drawn, **{key: value})


class LegHand:
    """The handles of a leg's sizes."""

    def __init__(self, q: Engine, id: str, leg: Leg) -> None:
        self.q, self.id, self.leg, self.sizes = q, id, leg, leg_sizes(q, id, leg)
        self.name = leg_name(q, id, leg)

    def along(self, place: Place) -> float:
        """Metres along the leg of a place."""
        return float(self.leg.chain.feet([place], extend=True).chainages[0])

    def beside(self, u: float, offset: float) -> Place:
        """The place ``u`` metres along the leg and ``offset`` to its left."""
        e, n = self.leg.chain.points_at([u], offset)[0].tolist()
        return float(e), float(n)

    def handle(
        self,
        size: str,
        words: str,
        place: Place,
        measure: Callable[[Place], float],
        rule: Callable[[Engine], str],
        key: tuple[Any, ...] = (),
        was: float | None = None,
    ) -> Handle:
        """A handle at a place, which is measured as one of the leg's sizes; ``was`` is that where it is as proposed."""
        edit, before = to_leg(self.id, self.leg, size), float(getattr(self.sizes, size)) if was is None else was

        def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
            now = max(_LEAST, round(measure(place), _DIGITS))
            return edit(now), (Told(words, "length", now, before),)

        held = (f"leg {size}", self.id, self.leg.key, *key)
        return Handle(held, place, f"{self.name} {words}", "round", moved, (Typed("size", f"a {words}", edit),), rule)
