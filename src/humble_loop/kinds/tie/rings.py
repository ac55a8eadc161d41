"""Ties that at last follow themselves: found from what follows what alone, before any level is asked for."""

from __future__ import annotations

from humble_loop.engine.query import Engine, query
from humble_loop.kinds.street.plan import frame_of, is_new, street_ids
from humble_loop.kinds.street.side import SideCourse, course
from humble_loop.kinds.tie.model import LevelTie
from humble_loop.site import parts
from humble_loop.site.model import other_side


@query
def in_a_ring(q: Engine, id: str) -> bool:
    """Whether a tie's source rests, through whatever other ties, on the tie itself."""
    seen: set[str] = set()
    todo = list(rests_on(q, id))
    while todo:
        other = todo.pop()
        if other == id:
            return True
        if other not in seen:
            seen.add(other)
            todo += rests_on(q, other)
    return False


@query
def rests_on(q: Engine, id: str) -> tuple[str, ...]:
    """The ties on which the source of a tie rests at once: those of its street's side that move it."""
    source = parts.one(q, LevelTie, id).source
    if source.what != "point" or source.side is None or source.of not in street_ids(q) or not is_new(q, source.of):
        return ()
    side = other_side(source.side) if frame_of(q, source.of).turned else source.side
    made = course(q, source.of, side)
    k = _place(made, source.point)
    found = []
    for tie in parts.owned(q, LevelTie, source.of):
        j = _place(made, tie.point)
        if tie.side == source.side and k is not None and j is not None and _moves(made, j, k):
            found.append(tie.id)
    return tuple(found)


def _place(made: SideCourse, point: str) -> int | None:
    name = made.names[-1] if point == "boundary" else point
    return made.names.index(name) if name in made.names else None


def _moves(made: SideCourse, j: int, k: int) -> bool:
    """Whether point ``k`` of a side moves with point ``j``: the carriageway as one, the roadside with it and outwards, and inwards
    from the boundary as far as the kerb.
    """
    if k <= made.lip:
        return j <= made.lip
    inwards = j == len(made.names) - 1 and any(made.pieces[i] != "kerb" for i in range(made.lip + 1, k + 1))
    return j <= k or inwards
