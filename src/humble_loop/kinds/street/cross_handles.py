"""Handles of a typical section in a street's cross section: where each strip ends, and its middle."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.street import section_edits as edits
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new, name_of, street_ids
from humble_loop.kinds.street.section import own_range
from humble_loop.kinds.street.section_sheet import uses
from humble_loop.kinds.street.side import course, drawn_side, points_of, section_at
from humble_loop.kinds.street.widening import add_widening, lines_at
from humble_loop.lines.describe import Handle, Place, Told, Typed
from humble_loop.lines.line import line
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.library import Strip, TypicalSection
from humble_loop.site.model import SIDES, Side, side_sign

_WIDTH, _FALL = 0.05, 0.001  # to what a width (m) and a fall are rounded while they are dragged
_LEAST = 0.05  # metres of a strip that is dragged to nothing
_SHORT = 0.3  # metres of a strip that is too short for a handle in its middle


def cross_handles(q: Engine, street: str, chainage: float) -> tuple[Handle, ...]:
    """Where each strip ends, to be made wider, and its middle, to be made steeper. Places are metres to the right and levels.

    None where the section is turning into another, or is not the street's own.
    """
    if not is_new(q, street):
        return ()
    section, turning = section_at(q, street, chainage)
    if turning:
        return ()
    middles: list[Handle] = []
    ends: list[Handle] = []
    for side in SIDES:
        drawn = drawn_side(q, street, side)
        names, k = points_of(q, section.side(drawn)).names, 0
        for i, p in enumerate(section.side(drawn).parts):
            last = k + (1 if isinstance(p, Strip) else len(parts.kerb_shape(q, p.kerb).points))
            inner, outer = (_place(q, street, side, names[n], chainage) for n in (k, last))
            k = last
            if not isinstance(p, Strip) or inner is None or outer is None:
                continue
            of = _Strip(q, street, section, side, drawn, i, p, chainage)
            ends.append(of.end(inner, outer, names[last]))
            if p.width >= _SHORT:
                middles.append(of.middle(inner, outer))
    return (*middles, *ends)


def _place(q: Engine, street: str, side: Side, name: str, chainage: float) -> Place | None:
    """Where a section point is, metres to the right of the centreline and level; None where it is not there."""
    made = q.attempt(line, StreetLine(street) if name == "crown" else StreetLine(street, name, side))
    if isinstance(made, Unsolved):
        return None
    plan = made.plan
    if not plan.start - 1e-6 <= chainage <= plan.end + 1e-6 or any(a < chainage < b for a, b in plan.gaps):
        return None
    level = float(made.rule.levels([chainage])[0])
    return (-plan.offset.one(chainage), level) if np.isfinite(level) else None


class _Strip:
    """One strip of a section as it lies in a street's cross section."""

    def __init__(
        self,
        q: Engine,
        street: str,
        section: TypicalSection,
        side: Side,
        drawn: Side,
        index: int,
        strip: Strip,
        chainage: float,
    ) -> None:
        self._section, self._side, self._drawn, self._index, self._strip = section.id, side, drawn, index, strip
        self._q, self._street, self._chainage = q, street, chainage
        self._words = f"{name_of(q, street)} {'both sides' if section.linked else side}"

    def _to(self, key: str) -> Callable[[float], Edit]:
        return lambda v: lambda s: edits.set_strip(s, self._section, self._drawn, self._index, **{key: v})

    def end(self, inner: Place, outer: Place, name: str) -> Handle:
        """The outer end: dragged, the strip becomes wider."""
        outwards, to = -side_sign(self._side), self._to("width")

        def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
            width = max(_LEAST, round(outwards * (place[0] - inner[0]) / _WIDTH) * _WIDTH)
            return to(width), (Told("width", "length", width, self._strip.width),)

        key = ("width", self._street, self._side, self._index)
        return Handle(
            key,
            outer,
            f"{self._words} {name}",
            "square",
            moved,
            (Typed("size", "a width", to),),
            self._shared(),
            instead=partial(self._following, name),
        )

    def _following(self, name: str, place: Place) -> tuple[tuple[str, Edit], ...]:
        """Lines that a point could follow where it was let go, with the section left as it was."""
        q, street, width = self._q, self._street, self._strip.width
        turned, total = frame_of(q, street).turned, chain_of(q, street).total
        low, high = own_range(q, street, self._side)
        found = []
        for id, of, first, last in lines_at(q, street, self._side, self._chainage, abs(place[0])):
            begin, finish = max(first, low), min(last, high)
            span = (total - finish, total - begin) if turned else (begin, finish)
            found.append((f"Let the {name} follow {of} instead", self._followed(width, span, id, name)))
        return tuple(found)

    def _followed(self, width: float, span: tuple[float, float], line: str, name: str) -> Edit:
        outermost = name == course(self._q, self._street, self._side).names[-1]
        point = "boundary" if outermost else name
        return lambda s: add_widening(self._to("width")(width)(s), self._street, self._drawn, *span, line, point)

    def middle(self, inner: Place, outer: Place) -> Handle:
        """The middle: dragged, the strip becomes steeper."""
        half, to = 0.5 * abs(outer[0] - inner[0]), self._to("grade")

        def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
            grade = round((place[1] - inner[1]) / half / _FALL) * _FALL
            return to(grade), (Told("fall", "grade", grade, self._strip.grade),)

        key = ("fall", self._street, self._side, self._index)
        at = (0.5 * (inner[0] + outer[0]), 0.5 * (inner[1] + outer[1]))
        words = f"{self._words} {self._strip.piece}"
        return Handle(key, at, words, "round", moved, (Typed("grade", "a fall", to),), self._shared())

    def _shared(self) -> Callable[[Engine], str]:
        """For which other streets it changes, in words."""
        section = self._section

        def rule(q: Engine) -> str:
            others = sum(uses(q, s, section) for s in street_ids(q)) - 1
            return f"also for {others} other street{'s' if others > 1 else ''}" if others else ""

        return rule
