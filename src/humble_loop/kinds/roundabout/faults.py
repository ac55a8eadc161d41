"""Why a roundabout, or a part of it, cannot be laid out: one sentence each, of the first thing that is in the way."""

from __future__ import annotations

from collections.abc import Iterator

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.roundabout.bypass import bypass_after
from humble_loop.kinds.roundabout.layout import kerb_after
from humble_loop.kinds.roundabout.leg_islands import PARTS, outlines
from humble_loop.kinds.roundabout.levels import rings_of
from humble_loop.kinds.roundabout.place import legs_of, middle_of


def faults(q: Engine, id: str) -> Iterator[Unsolved]:
    """What is in the way, one after the other: of all of it, of its kerbs and bypass lanes, of the islands of its legs. In plan alone."""
    for part in (q.attempt(middle_of, id), q.attempt(rings_of, id)):
        if isinstance(part, Unsolved):
            yield part
            return
    legs = q.attempt(legs_of, id)
    if isinstance(legs, Unsolved):
        yield legs
        return
    for leg in legs:
        parts = q.attempt(kerb_after, id, leg.key), q.attempt(bypass_after, id, leg.key)
        yield from (made for made in parts if isinstance(made, Unsolved))
    for leg in legs:
        islands = (q.attempt(outlines, id, leg.key, part) for part in PARTS)
        yield from (made for made in islands if isinstance(made, Unsolved))


def why_not(q: Engine, id: str) -> str:
    """The first of these in words; '' where there is none."""
    return next((f"{u.thing}: {u.message}" for u in faults(q, id)), "")
