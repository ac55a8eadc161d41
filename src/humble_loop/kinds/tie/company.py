"""Who follows whom through ties."""

from __future__ import annotations

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.tie.levels import levels_of, source_line, tie_of
from humble_loop.kinds.tie.model import LevelTie
from humble_loop.lines.kind import Following
from humble_loop.lines.line import ThingId
from humble_loop.site import parts


@query
def followings_of(q: Engine) -> tuple[Following, ...]:
    """The followings of all ties, in order; of those whose source is gone none."""
    found = []
    for id in parts.ids(q, LevelTie):
        other, k = q.attempt(source_line, id), q.attempt(tie_of, id)
        if isinstance(other, Unsolved) or isinstance(k, Unsolved):
            continue
        follower = ThingId("street", levels_of(q, id).street)
        found.append(Following(follower, other.thing if other else None, f"{k.side} {k.point}", ThingId("tie", id)))
    return tuple(found)
