"""To what share a section point is held along a stretch."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.kinds.street.holding import ON
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.kinds.street.section import gaps, own_range
from humble_loop.kinds.street.side import course
from humble_loop.lines.varying import Varying

_SUDDEN = 0.05  # metres in which what has no taper begins
_CLEAR = 3.0  # metres over which a point goes back to the section beside a corner that stands in its way


def share_along(q: Engine, id: StreetLine, span: tuple[float, float], tapers: tuple[float, float]) -> Varying:
    """From nothing to all of it over the tapers (m) at both ends of a span of chainages; next to at once where there is none.

    Where a stretch begins or ends without a taper at the lip's own end, returns and heads meet a point of the carriageway there: it
    has all of it. Their roadsides do not know of levels beyond the lip: what is held there goes back to the section before them.
    """
    assert id.side is not None
    made, lip = course(q, id.street, id.side), own_range(q, id.street, id.side)
    meets = made.names.index(id.point) <= made.lip
    begin, finish = span
    sudden = min(_SUDDEN, 0.25 * (finish - begin))
    at = [begin, begin + max(tapers[0], sudden), finish - max(tapers[1], sudden), finish]
    if at[1] > at[2]:
        at[1] = at[2] = 0.5 * (at[1] + at[2])
    first, last = begin <= lip[0] + ON and not tapers[0], finish >= lip[1] - ON and not tapers[1]
    share = Varying.of(at, [float(first and meets), 1.0, 1.0, float(last and meets)])
    return share if meets else _clear_of(share, gaps(q, id.street, id.side))


def _clear_of(share: Varying, holes: tuple[tuple[float, float], ...]) -> Varying:
    """A share that is nothing where other things go on in place of the roadside, and comes back over a short way."""
    begin, finish = share.at[[0, -1]]
    for a, b in holes:
        out = Varying.of([a - _CLEAR, a, b, b + _CLEAR], [1.0, 0.0, 0.0, 1.0])
        share = share.times_varying(out)
    # A hole that lies across an end, or beyond it, does not make the stretch longer: the next one may begin there.
    at = np.union1d(share.at[(share.at > begin) & (share.at < finish)], [begin, finish])
    return Varying.of(at, share(at))
