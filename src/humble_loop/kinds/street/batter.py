"""Batters: from a boundary line to the ground, and round the corners of boundaries.

Where a boundary bends towards its batters, these run together at the centre of the bend. There they all meet at one
level: the lowest that a cut reaches there, the highest that a fill does. So none is steeper than its slope, and nothing
gapes between them; beside the corner batters return to their own slope over a short run. What lies beyond the centre is
for the batters of both legs: where those overlap, the lower governs in cut and the higher in fill (a valley or a ridge).
An arc beside a tighter one, as in a three-centred return, is a leg of that one's corner; its batters end at its own centre at the
latest, which others have reached by then.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Bools, Floats, Ints, left_normals
from humble_loop.geometry.chain import Chain
from humble_loop.ground.meet import toes
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.lines.faces import Sheet
from humble_loop.lines.line import LineId, LinePlan, line, line_plan
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.site import parts

_ON = 1e-6  # metres along a line within which places are one
_LEVEL = 1e-9  # metres within which a hinge lies on the ground
_NARROWS = 10.0  # metres along a boundary over which benches narrow to nothing
_WIDTH = 1e-3  # metres of a bench that is none
_MOST_BENCHES = 40  # one above another; beyond these a batter goes on at its slope


@dataclass(frozen=True)
class Ease:
    """How batters beside the end of a corner turn to it: by how much (m) a cut arrives lower and a fill higher.

    That holds at ``inner`` metres out, abreast of the centre, and dies out over a run along the boundary; from there on
    they go on at their own slopes. None where no batter turns.
    """

    inner: float
    cut: float | None
    fill: float | None
    cut_run: float
    fill_run: float


@dataclass(frozen=True)
class Corner:
    """An arc of a boundary line, from ``begin`` to ``finish`` along its base, whose batters run to one ``centre``.

    ``cut`` and ``fill`` are the levels at which they meet there; NaN where none gets so far. ``eased`` tells, for both
    ends, how the batters beside turn to it.
    """

    begin: float
    finish: float
    centre: tuple[float, float]
    cut: float
    fill: float
    eased: tuple[Ease, Ease]


def outwards(plan: LinePlan, s: Floats) -> Floats:
    """Unit vectors (n, 2) from the road at places on a boundary line, square to its base."""
    found: Floats = left_normals(plan.base.at(s).headings) * np.sign(plan.offset.values.sum())
    return found


@dataclass(frozen=True)
class _Arriving:
    """Rows (n,) of a corner: hinge levels, distances to its centre, which are in cut and in fill, and the levels (n, 2) at
    which their own slopes arrive there in cut and fill.
    """

    level: Floats
    inner: Floats
    cut: Bools
    fill: Bools
    own: Floats


def feet(q: Engine, boundary: LineId, s: Floats) -> Floats:
    """Where the batters beside a boundary line begin (n, 3): on it, or beyond what stands along it there, a drain say."""
    found = line(q, boundary).points(s)
    for last in _last_beyond(q, boundary):
        made = line(q, last)
        on = made.plan.covers(s)
        found[on] = made.points(s[on])
    return found


def _last_beyond(q: Engine, boundary: LineId) -> tuple[LineId, ...]:
    return tuple(row[-1] for kind in kinds() for row in kind.beyond(q, boundary))


def _arriving(q: Engine, boundary: LineId, s: Floats, centre: Floats) -> _Arriving:
    hinges, slopes = feet(q, boundary, s), own_slopes(q, boundary, s)
    inner, under = np.hypot(*(hinges[:, :2] - centre).T), ground_of(q).levels(hinges[:, :2])
    own = hinges[:, 2:] + slopes * [1.0, -1.0] * inner[:, None]
    return _Arriving(hinges[:, 2], inner, under > hinges[:, 2] + _LEVEL, under < hinges[:, 2] - _LEVEL, own)


def own_slopes(q: Engine, boundary: LineId, s: Floats) -> Floats:
    """Cut and fill slope (n, 2), as rises per metre, of the batter at places on a boundary line, away from corners."""
    return kind_of(boundary.kind).slopes(q, boundary, s)


@query
def corners_of(q: Engine, boundary: LineId) -> tuple[Corner, ...]:
    """The corners of a boundary line that the batters beside it can reach the centre of."""
    plan, reach = line_plan(q, boundary), parts.settings(q).batter_reach
    base, side = plan.base, float(np.sign(plan.offset.values.sum()))
    if ground_of(q).empty:
        return ()
    found = []
    for k, last in _tightest(base, side):
        begin, finish = max(base.starts[k], plan.start), min(base.starts[last + 1], plan.end)
        inner = 1.0 / abs(base.k0[k]) - np.abs(plan.offset.values)
        if finish - begin < _ON or inner.max() > reach or inner.min() <= 0:
            continue
        rows = kind_of(boundary.kind).rows_on(q, boundary)
        rows = rows[(rows > begin + _ON) & (rows < finish - _ON)]
        s = np.concatenate([[begin], rows, [finish]])
        centre = base.xy[k] + left_normals(base.heading[k]) / base.k0[k]
        made, there = _arriving(q, boundary, s, centre), float(ground_of(q).levels(centre[None])[0])
        lowest, highest = made.own[made.cut, 0].min(initial=np.inf), made.own[made.fill, 1].max(initial=-np.inf)
        lowest, highest = (v if deep else np.nan for v, deep in ((lowest, lowest < there), (highest, highest > there)))
        slopes = own_slopes(q, boundary, s)
        eased = _ease(made, 0, slopes[0], lowest, highest), _ease(made, -1, slopes[-1], lowest, highest)
        found.append(
            Corner(
                float(begin), float(finish), (float(centre[0]), float(centre[1])), float(lowest), float(highest), eased
            )
        )
    return tuple(found)


def _bends(base: Chain, side: float) -> Floats:
    """How sharply each element of a line bends to a side (+1 left), in 1/m; 0 for all but arcs to that side."""
    found: Floats = np.where((base.k0 == base.k1) & (base.k0 * side > 0), np.abs(base.k0), 0.0)
    return found


def _tightest(base: Chain, side: float) -> list[tuple[int, int]]:
    """Arcs to a side that no tighter one adjoins, each from its first element to its last."""
    bend, found, k = _bends(base, side), list[tuple[int, int]](), 0
    while k < len(bend):
        last = k
        while last + 1 < len(bend) and abs(bend[last + 1] - bend[k]) <= _ALIKE * bend[k]:
            last += 1
        before, after = bend[k - 1] if k else 0.0, bend[last + 1] if last + 1 < len(bend) else 0.0
        if bend[k] > max(before, after):
            found.append((k, last))
        k = last + 1
    return found


def _stops(plan: LinePlan, s: Floats, corner: Bools) -> Floats:
    """How far out (n,) rows of a boundary line may go, infinitely far but on arcs that a tighter one adjoins: to their own centres."""
    base, side = plan.base, float(np.sign(plan.offset.values.sum()))
    bend, tight = _bends(base, side), np.zeros(len(base.k0), dtype=bool)
    for first, last in _tightest(base, side):
        tight[first : last + 1] = True
    found = np.full(len(s), np.inf)
    for k in np.flatnonzero((bend > 0) & ~tight):
        on = ~corner & (s > base.starts[k] - _ON) & (s < base.starts[k + 1] + _ON)
        found[on] = np.maximum(1.0 / bend[k] - np.abs(plan.offset(s[on])), 0.0)
    return found


_ALIKE = 1e-9  # of a bend, within which another is as sharp
_DIES_OUT = 6.0  # times the run on which a slope rises by as much as it arrives off its own level


def _ease(made: _Arriving, i: int, slopes: Floats, lowest: float, highest: float) -> Ease:
    """How batters turn to a corner's end, whose rows all arrive at ``lowest`` in cut and at ``highest`` in fill.

    What is lost must die out more slowly than the other leg's batter rises, so that that one stays above this one (below
    it, in fill) where it ends, and no step stands there.
    """
    cut = float(made.own[i, 0] - lowest) if made.cut[i] and np.isfinite(lowest) else None
    fill = float(highest - made.own[i, 1]) if made.fill[i] and np.isfinite(highest) else None
    runs = (_DIES_OUT * (cut or 0.0) / slopes[0], _DIES_OUT * (fill or 0.0) / slopes[1])
    return Ease(float(made.inner[i]), cut, fill, float(runs[0]), float(runs[1]))


@dataclass(frozen=True)
class Rise:
    """How batters rise and fall at places (n,) of a boundary line: cut and fill slopes (n, 2), as rises per metre.

    They run at ``first`` for ``until`` metres and from there at ``own``, or end there where ``ends`` is true. Where
    ``through`` is true, they get so far whatever the ground is before that. ``stop`` metres out they end at the latest. ``benches`` (n, 3), if any, are the height between
    benches, the width and the grade of each.
    """

    first: Floats
    own: Floats
    until: Floats
    ends: Bools
    through: Bools
    stop: Floats
    benches: Floats | None = None

    @staticmethod
    def steady(slopes: Floats) -> Rise:
        """At slopes (n, 2) all the way."""
        no = np.zeros(len(slopes), dtype=bool)
        far = np.full(len(slopes), np.inf)
        return Rise(slopes, slopes, far, no, no, far)


def rise_at(q: Engine, boundary: LineId, s: Floats, within: Bools | None = None) -> Rise:
    """How batters rise beside a boundary line. The batter there and the lots beside it ask this, so they agree.

    ``within`` (n,) tells which places are to be taken as a corner's own, those at its ends among them.
    """
    own = own_slopes(q, boundary, s)
    first, until = own.copy(), np.full(len(s), np.inf)
    ends, through = np.zeros(len(s), dtype=bool), np.zeros(len(s), dtype=bool)
    within = np.ones(len(s), dtype=bool) if within is None else within
    for corner in corners_of(q, boundary):
        on = np.flatnonzero(within & (s > corner.begin - _ON) & (s < corner.finish + _ON))
        if on.size:
            made = _arriving(q, boundary, s[on], np.array(corner.centre))
            cut, fill = made.cut & np.isfinite(corner.cut), made.fill & np.isfinite(corner.fill)
            first[on[cut], 0] = ((corner.cut - made.level) / made.inner)[cut]
            first[on[fill], 1] = ((made.level - corner.fill) / made.inner)[fill]
            turned = cut | fill
            until[on[turned]], ends[on[turned]] = made.inner[turned], True
    for at, side, eased in _eased_beside(q, boundary):
        beyond = (s - at) * side if side else np.abs(s - at)
        for k, (by, run) in enumerate(((eased.cut, eased.cut_run), (eased.fill, eased.fill_run))):
            if by is None:
                continue
            near = ~ends & (beyond > -_ON) & (beyond < max(run, _ON))
            first[near, k] -= by / eased.inner * (1.0 - np.maximum(beyond[near], 0.0) / max(run, _ON))
            until[near] = eased.inner
            through |= near & (beyond < _ON)
    return Rise(first, own, until, ends, through | ends, _stops(line_plan(q, boundary), s, ends))


def _eased_beside(q: Engine, boundary: LineId) -> list[tuple[float, int, Ease]]:
    """Ends of corners of a boundary line or beside it: place, direction away from the corner (0 for both), how batters turn."""
    found = []
    for corner in corners_of(q, boundary):
        found += [(corner.begin, -1, corner.eased[0]), (corner.finish, 1, corner.eased[1])]
    for kind in kinds():
        for at, other, place in kind.corners_on(q, boundary):
            corners = q.attempt(corners_of, other)
            for corner in () if isinstance(corners, Unsolved) else corners:
                ends = zip((corner.begin, corner.finish), corner.eased)
                found += [(at, 0, eased) for end, eased in ends if abs(end - place) < _ON]
    return found


def batter(q: Engine, title: str, boundary: LineId, s: Floats, joined: Bools, ground: Surface) -> Sheet:
    """The batter outside a boundary line at rows (n,), from there to the ground, where nothing adjoins the boundary."""
    if ground.empty:
        return no_batter(title, boundary)
    middle = 0.5 * (s[:-1] + s[1:])
    free = np.asarray(joined).copy()
    for kind in kinds():
        for low, high in kind.cover(q, boundary):
            free &= ~((middle > low) & (middle < high))
    corner = np.zeros(len(middle), dtype=np.int64)
    for k, c in enumerate(corners_of(q, boundary), start=1):
        corner[(middle > c.begin) & (middle < c.finish)] = k
    if not free.any():
        return no_batter(title, boundary)
    runs = _runs(free, corner)
    index = np.concatenate(runs)
    within = np.concatenate([np.full(len(r), corner[r[0]] > 0) for r in runs])
    together = np.ones(len(index) - 1, dtype=bool)
    together[np.cumsum([len(r) for r in runs])[:-1] - 1] = False
    rise, ways = rise_at(q, boundary, s[index], within), outwards(line_plan(q, boundary), s[index])
    rise = replace(rise, benches=_benches(q, boundary, s, runs, rise))
    lines = (boundary, *_last_beyond(q, boundary))
    return sheet(q, title, lines, feet(q, boundary, s[index]), ways, rise, together, ground)


def _benches(q: Engine, boundary: LineId, s: Floats, runs: list[Ints], rise: Rise) -> Floats:
    """The benches (n, 3) of rows: towards the ends of a run, where something else goes on, and towards rows that turn to a
    corner they narrow to nothing.
    """
    index = np.concatenate(runs)
    found = kind_of(boundary.kind).benches(q, boundary, s[index])
    if not found[:, 1].any():
        return found
    turned, first = np.isfinite(rise.until), 0
    for run in runs:
        own = slice(first, first + len(run))
        first += len(run)
        stops = np.concatenate([s[run[[0, -1]]], s[run][turned[own]]])
        far = np.abs(s[run][:, None] - stops).min(axis=1)
        found[own, 1] *= np.minimum(far / _NARROWS, 1.0)
    return found


def _runs(free: Bools, corner: Ints) -> list[Ints]:
    """Rows of each unbroken run of free intervals (n,) of one corner, or of none.

    A row at the end of a corner stands in two: the corner's own ends at its centre, the leg's goes on.
    """
    at = np.flatnonzero(free)
    breaks = np.flatnonzero((np.diff(at) > 1) | (np.diff(corner[at]) != 0)) + 1
    return [np.append(run, run[-1] + 1) for run in np.split(at, breaks)]


def sheet(
    q: Engine,
    title: str,
    lines: tuple[LineId, ...],
    hinges: Floats,
    directions: Floats,
    rise: Rise,
    joined: Bools,
    ground: Surface,
) -> Sheet:
    """Rows from ``hinges`` (n, 3) to the exact meeting with the ground, or as far as they go.

    A row that finds no ground within the site's reach ends on the ground there, steeper.
    """
    furthest = parts.settings(q).batter_reach
    reach = np.minimum(rise.stop, furthest)
    (cut, fill), (own_cut, own_fill) = rise.first.T, rise.own.T
    most = np.minimum(reach, rise.until)
    found = toes(ground, hinges, directions, cut, fill, most)
    short = (~found.met | rise.through) & (rise.until < reach)
    toe, met = found.points.copy(), found.met | (short & rise.ends)
    slope = np.where(found.cut, cut, -fill)
    toe[short] = hinges[short] + np.column_stack([directions, slope])[short] * most[short, None]
    kink = np.flatnonzero(short & ~rise.ends)
    bend = hinges.copy()  # of a straight row the second point is its first again
    if kink.size:
        bend[kink] = toe[kink]
        on = toes(ground, toe[kink], directions[kink], own_cut[kink], own_fill[kink], (reach - most)[kink])
        toe[kink], met[kink] = on.points, on.met
    stopped = ~met & (rise.stop < furthest)
    steep = np.where(found.cut, own_cut, -own_fill)
    gone = np.where(short, most, 0.0)
    toe[stopped] = (bend + np.column_stack([directions, np.where(short, steep, slope)]) * (reach - gone)[:, None])[
        stopped
    ]
    met = met | stopped
    benched = () if rise.benches is None else _benched(ground, hinges, directions, rise, found.cut, toe, met, reach)
    toe[:, 2] = np.where(np.isfinite(toe[:, 2]), toe[:, 2], hinges[:, 2])
    points = np.stack([hinges, toe], axis=1)
    if kink.size or benched:
        between = [np.where(np.isfinite(p), p, toe) for p in benched]
        points = np.stack([hinges, *([bend] if kink.size else ()), *between, toe], axis=1)
    return Sheet(title, "batter", points, joined, lines, met, (short & rise.ends) | stopped)


def _benched(
    ground: Surface, hinges: Floats, directions: Floats, rise: Rise, cut: Bools, toe: Floats, met: Bools, reach: Floats
) -> list[Floats]:
    """The edges (each (n, 3)) of benches, from the hinges outwards; NaN where a row ends before. ``toe`` and ``met`` of rows with
    benches are worked out anew.
    """
    assert rise.benches is not None
    every, width, grade = rise.benches.T
    left = np.hypot(*(toe - hinges)[:, :2].T)
    slope = np.where(cut, rise.own[:, 0], rise.own[:, 1])
    run = every / slope
    rows = np.flatnonzero((width > _WIDTH) & np.isinf(rise.until) & (left > run))
    found: list[Floats] = []
    here, gone = hinges.copy(), np.zeros(len(hinges))
    while rows.size and len(found) < 2 * _MOST_BENCHES:
        for length, steep in ((run, slope), (width, grade)):
            up = np.where(cut, steep, -steep)
            found.append(np.full_like(toe, np.nan))
            if not rows.size:
                continue
            most = np.minimum(length, reach - gone)[rows]
            made = toes(ground, here[rows], directions[rows], np.abs(up[rows]), np.abs(up[rows]), most)
            here[rows] += np.column_stack([directions, up])[rows] * most[:, None]
            gone[rows] += most
            ended = made.met | (gone[rows] >= reach[rows] - _ON)
            done = rows[ended]
            toe[done], met[done] = made.points[ended], made.met[ended]
            rows = rows[~ended]
            found[-1][rows] = here[rows]
    if rows.size:
        cut_on, fill_on = rise.own[rows].T
        last = toes(ground, here[rows], directions[rows], cut_on, fill_on, (reach - gone)[rows])
        toe[rows], met[rows] = last.points, last.met
    return found


def no_batter(title: str, *lines: LineId) -> Sheet:
    """Without ground a slope ends nowhere, so there is none."""
    none = np.empty(0, np.bool_)
    return Sheet(title, "batter", np.empty((0, 2, 3)), none, lines, none, none)
