"""Streets along what was surveyed or drawn: a survey line, with those that go on from it, as a centreline."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from humble_loop.engine.in_pieces import InPieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.bend_fit import turn_between
from humble_loop.geometry.bends import BendInput, chain_from_bends
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.line_fit import Fitted, fit_line
from humble_loop.kinds.street import edits
from humble_loop.kinds.street.model import Bend, Street
from humble_loop.kinds.street.plan import frame_of
from humble_loop.kinds.survey_line.lines import SurveyedLine, vertices
from humble_loop.kinds.survey_line.model import SurveyLine, set_survey_line
from humble_loop.lines.describe import Choice, Fact, Sheet, SheetRow
from humble_loop.lines.line import line_plan
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError, made, the
from humble_loop.site.model import Site

_MEET = 0.1  # metres between ends of lines that go on from one another
_MOST_BENDS = 400  # of a street along a line as it stands
_COLUMNS = ("bend", "easting", "northing", "radius", "turns")
_BETWEEN, _MOST_BETWEEN = 2.0, 600  # metres between places of a midline, and how many
_APART, _MOST_PAIRS = 60.0, 12  # metres between two lines with a midline, and how many are offered
_SAG = 0.05  # metres between what is lit up and the line


@dataclass(frozen=True)
class Source:
    """A survey line with those of its code that go on from it: their names in order, and their points (n, 2)."""

    names: tuple[str, ...]
    points: Floats


@query
def source(q: Engine, id: str) -> Source:
    """What a street along a survey line follows: the line as far as it goes, or midway to the one that was chosen with it."""
    mine, other = joined(q, id), parts.one(q, SurveyLine, id).midline_with
    if not other or parts.ids(q, SurveyLine).count(other) == 0:
        return mine
    beyond = joined(q, other)
    points = midway(mine.points, beyond.points)
    if len(points) < 2:
        name, with_ = parts.one(q, SurveyLine, id).name, parts.one(q, SurveyLine, other).name
        raise Unsolved(name, f"{with_} does not run beside it", "choose another line, or none, in 'midline with'")
    return Source((*mine.names, *beyond.names), points)


def midway(a: Floats, b: Floats) -> Floats:
    """Points (n, 2) halfway between places on a line and the nearest on another, where these lie square to it."""
    one, two = Chain.from_points(a), Chain.from_points(b)
    s = np.union1d(one.starts, np.linspace(0.0, one.total, int(np.clip(one.total / _BETWEEN, 2, _MOST_BETWEEN)) + 1))
    places = one.points_at(s)
    feet = two.feet(places)
    middles: Floats = 0.5 * (places + two.points_at(feet.chainages))
    return np.asarray(middles[feet.square])


@query
def joined(q: Engine, id: str) -> Source:
    """A survey line as far as it goes: at each end the one line of its code that begins or ends there goes on."""
    code, points = parts.one(q, SurveyLine, id).code, vertices(q, id)[:, :2]
    names, taken = [parts.one(q, SurveyLine, id).name], {id}
    others = [i for i in parts.ids(q, SurveyLine) if code and parts.one(q, SurveyLine, i).code == code]
    for at_end in (True, False):
        while True:
            end = points[-1] if at_end else points[0]
            found = [(i, p) for i in others if i not in taken and (p := _from(vertices(q, i)[:, :2], end)) is not None]
            if len(found) != 1:
                break
            i, more = found[0]
            taken.add(i)
            name = parts.one(q, SurveyLine, i).name
            points = np.concatenate([points, more[1:]] if at_end else [more[:0:-1], points])
            names = [*names, name] if at_end else [name, *names]
    return Source(tuple(names), points)


def _from(points: Floats, end: Floats) -> Floats | None:
    """A line's points from a place where it begins or ends; None where it does neither, or both."""
    near = [bool(np.hypot(*(p - end)) <= _MEET) for p in (points[0], points[-1])]
    if near == [True, False]:
        return points
    return points[::-1] if near == [False, True] else None


@query
def _fitting(q: Engine, id: str) -> InPieces[Fitted]:
    return InPieces(fit_line(source(q, id).points, parts.settings(q).fit_tolerance))


def fitted(q: Engine, id: str) -> Fitted:
    """The centreline of few bends along a survey line, from the site's origin."""
    try:
        return _fitting(q, id).result(q)
    except ValueError as error:
        raise Unsolved(parts.one(q, SurveyLine, id).name, str(error), "survey it again") from None


def street_sheet(q: Engine, id: str) -> Sheet:
    """What a street along a survey line would be, how far it departs from it, and making one."""
    of, pair = SurveyedLine(id), _midline(q, id)
    none = np.empty((0, 2))
    between = SheetRow((Fact("bend", "text", "midline with"), pair, None, None, None), (0.0, 0.0), none)
    line = q.attempt(source, id)
    if isinstance(line, Unsolved):
        return Sheet("Street along it", of, _COLUMNS, (between,), str(line))
    found, within = fitted(q, id), parts.settings(q).fit_tolerance
    chain, _ = chain_from_bends(found.bends)
    e0, n0 = parts.origin(q)
    corners = np.array([b[:2] for b in found.bends])
    rows = []
    for k, b in enumerate(found.bends):
        inner = 0 < k < len(found.bends) - 1
        turn = (
            float(np.degrees(turn_between(corners[k] - corners[k - 1], corners[k + 1] - corners[k]))) if inner else None
        )
        s = float(chain.feet(corners[k]).chainages[0])
        cells = (
            Fact("bend", "count", k + 1),
            Fact("easting", "level", b.easting + e0),
            Fact("northing", "level", b.northing + n0),
            Fact("radius", "length", b.radius) if inner else None,
            Fact("turns", "turn", turn) if turn is not None else None,
        )
        lit = chain.points_at(chain.sampled(sag=_SAG))
        rows.append(SheetRow(cells, (s, s), lit))
    rows.append(between)
    beside = Fact("street beside it", "length", 0.0, "set", _beside(id, line.names[0], found.bends, (e0, n0)))
    rows.append(SheetRow((Fact("bend", "text", "beside at"), beside, None, None, None), (0.0, 0.0), none))
    name = line.names[0]
    bends = len(found.bends) - 2
    told = f"{bends} bend{'' if bends == 1 else 's'}; it departs by {1000 * found.departure:.0f} mm at most, near {found.at:.1f} m"
    if found.departure > within:
        told += f", more than the {1000 * within:.0f} mm that the site allows for a fit"
    if len(line.names) > 1:
        told = f"{'Midway, with' if pair.current else 'With'} {', '.join(line.names[1:])}: {told}"
    actions: tuple[tuple[str, Edit], ...] = (
        ("Street along it", lambda s: along(s, name, found.bends, (e0, n0), id)),
        ("Street as it stands", lambda s: as_it_stands(s, name, line.points, (e0, n0))),
    )
    return Sheet("Street along it", of, _COLUMNS, tuple(rows), told, actions)


def _midline(q: Engine, id: str) -> Choice:
    """With which other survey line a street runs between; those of its code come first, and the nearest."""
    here, places = parts.one(q, SurveyLine, id), vertices(q, id)[:, :2]
    found = []
    for i in parts.ids(q, SurveyLine):
        plan = q.attempt(line_plan, SurveyedLine(i)) if i != id else None
        if plan is None or isinstance(plan, Unsolved):
            continue
        away = float(np.abs(plan.base.feet(places).offsets).min())
        if away <= _APART:
            other = parts.one(q, SurveyLine, i)
            found.append((other.code != here.code, away, i, other.name))
    options = (("", "no other line"), *((i, name) for _, _, i, name in sorted(found)[:_MOST_PAIRS]))
    return Choice(
        "midline with", options, here.midline_with, lambda v: lambda s: set_survey_line(s, id, midline_with=v)
    )


def along(
    site: Site, name: str, bends: tuple[BendInput, ...], origin: tuple[float, float], line: str = "", at: float = 0.0
) -> Site:
    """Add a street through bends that are measured from ``origin``, of the class and section drawn last.

    It remembers the survey ``line`` that it lies along, and how far to the left of it.
    """
    return edits.add_street(site, name, _bends(bends, origin), along=line, beside=at, **edits.like_the_last(site))


def _bends(bends: tuple[BendInput, ...], origin: tuple[float, float]) -> list[Bend]:
    e, n = origin
    return [made(Bend, easting=b.easting + e, northing=b.northing + n, radius=b.radius) for b in bends]


def laid_along(q: Engine, street: str) -> str | None:
    """The name of the survey line that a street was laid along; None where there is none, or it is gone."""
    of = frame_of(q, street).along
    return parts.one(q, SurveyLine, of).name if of and of in parts.ids(q, SurveyLine) else None


def laid_again(q: Engine, street: str) -> Edit:
    """The edit that lays a street along its survey line as that is now, in the direction in which the street runs."""

    def edit(site: Site) -> Site:
        frame = frame_of(q, street)
        try:
            found = fitted(q, frame.along).bends
        except Unsolved as unsolved:
            raise EditError(str(unsolved)) from None
        fresh = _bends(beside(found, frame.beside) if frame.beside else found, parts.origin(q))
        old = the(site, Street, street).bends
        if _far(old[0], fresh[-1]) + _far(old[-1], fresh[0]) < _far(old[0], fresh[0]) + _far(old[-1], fresh[-1]):
            fresh.reverse()
        return edits.set_street(site, street, bends=tuple(fresh))

    return edit


def _far(a: Bend, b: Bend) -> float:
    return float(np.hypot(a.easting - b.easting, a.northing - b.northing))


def as_it_stands(site: Site, name: str, points: Floats, origin: tuple[float, float]) -> Site:
    """Add a street through all points of a line: every turn of it is a kink, and told as one."""
    keep = np.concatenate([[True], np.hypot(*np.diff(points, axis=0).T) > 1e-3])
    if keep.sum() > _MOST_BENDS:
        raise EditError(
            f"it has {int(keep.sum())} points; a street takes {_MOST_BENDS} bends at most, so have it fitted"
        )
    return along(site, name, tuple(BendInput(float(e), float(n)) for e, n in points[keep]), origin)


def _beside(line: str, name: str, bends: tuple[BendInput, ...], origin: tuple[float, float]) -> Callable[[float], Edit]:
    return lambda offset: lambda s: along(s, name, beside(bends, offset), origin, line, offset)


def beside(bends: tuple[BendInput, ...], offset: float) -> tuple[BendInput, ...]:
    """The bends of the line that runs ``offset`` metres to the left of one without transitions (right below zero).

    Raises EditError where an arc's centre lies nearer than that.
    """
    corners = np.array([b[:2] for b in bends])
    u = np.diff(corners, axis=0)
    u /= np.hypot(u[:, 0], u[:, 1])[:, None]
    left = np.column_stack([-u[:, 1], u[:, 0]])
    found = [corners[0] + offset * left[0]]
    radii = [0.0]
    for k in range(1, len(bends) - 1):
        turn = turn_between(u[k - 1], u[k])
        # On the bisector: both legs are moved by the offset.
        found.append(corners[k] + offset * (left[k - 1] + left[k]) / (1.0 + float(u[k - 1] @ u[k])))
        radius = bends[k].radius - np.sign(turn) * offset if bends[k].radius > 0 else 0.0
        if bends[k].radius > 0 and radius <= 0:
            raise EditError(
                f"bend {k + 1} has a radius of {bends[k].radius:.2f} m: nothing runs {abs(offset):g} m inside it"
            )
        radii.append(float(radius))
    found.append(corners[-1] + offset * left[-1])
    radii.append(0.0)
    return tuple(BendInput(float(e), float(n), r) for (e, n), r in zip(found, radii))
