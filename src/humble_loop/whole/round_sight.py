"""What drivers see at a roundabout: those who come in, those who go round, and those who come to a crossing."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, gate, query
from humble_loop.geometry.arrays import Floats, frozen, tangents
from humble_loop.geometry.spline_path import evenly
from humble_loop.kinds.roundabout import CircleLine
from humble_loop.kinds.roundabout.place import (
    Leg,
    asked,
    leg_name,
    leg_sizes,
    legs_of,
    middle_of,
    roundabout_name,
    sizes_of,
)
from humble_loop.kinds.roundabout.ways import Driven, Way, driven
from humble_loop.kinds.street.plan import class_of
from humble_loop.lines.describe import Fact, Sheet, SheetOf, SheetRow
from humble_loop.lines.faces import FaceId
from humble_loop.lines.findings import Finding, point
from humble_loop.lines.line import ThingId
from humble_loop.lines.table import Table
from humble_loop.site.model import side_sign
from humble_loop.whole.places import face_tree
from humble_loop.whole.sight import first_hidden, lots_in

Position = Literal["waiting", "approaching", "going round", "before the crossing"]
_POSITIONS = get_args(Position)
RULES = ("sight at a roundabout", "lot in sight of a roundabout")
_BACK = {"waiting": 2.5, "approaching": 15.0}
"""Metres from the circle at which a driver's eyes are: a bonnet's length from those who go round, and where he begins to slow down; typical."""
_GAP = 35.0  # metres along which one sees who comes round: five seconds at 25 km/h, typical
_SHARE = {"waiting": 1.0, "approaching": 0.5}  # of that
_AHEAD = 22.0  # metres along the way round that are seen by who goes round: to stop at 25 km/h, typical
_TO_CROSSING = 25.0  # metres before a crossing at which both its ends are seen: to stop at 30 km/h, typical
_BEHIND = 0.8  # metres behind the kerb at which somebody waits
_FIRST, _EVERY = 4.0, 2.0  # metres to the first vehicle looked at, and on to the next
_COLUMNS = ("leg", "position", "wanted", "seen", "hidden by", "lots in it")


@dataclass(frozen=True)
class RoundSight:
    """What is seen from a position on a leg of a roundabout, or as one goes round past it: metres ``wanted`` and ``seen``, what hides the first that is not, where,
    what is to be kept clear (n, 2), and which lots lie in that (m2).
    """

    leg: str
    position: Position
    wanted: float
    seen: float
    hidden_by: str
    place: tuple[float, float]
    clear: Floats
    lots: tuple[tuple[ThingId, str, float], ...]


@gate
def _faces_round(q: Engine, id: str) -> tuple[FaceId, ...]:
    """Faces that may stand in what is seen at a roundabout."""
    (e, n), r = middle_of(q, id), sizes_of(q, id).radius + _GAP + _TO_CROSSING
    return tuple(face_tree(q).near(float(e) - r, float(n) - r, float(e) + r, float(n) + r))


@query
def round_sights(q: Engine, id: str) -> tuple[RoundSight, ...]:
    """What is seen at a roundabout, leg by leg. Raises Unsolved where a kerb cannot be made."""
    found = []
    for leg in legs_of(q, id):
        crossed = leg_sizes(q, id, leg).crossing > 0.0
        found += [_sight(q, id, leg.key, p) for p in _POSITIONS if crossed or p != "before the crossing"]
    return tuple(found)


@query
def _sight(q: Engine, id: str, key: str, position: Position) -> RoundSight:
    """What is seen from one position: each by itself, so that none of them takes long."""
    made = driven(q, id)
    k = next(i for i, w in enumerate(made.ways) if w.leg.key == key)
    way = made.ways[k]
    if position == "before the crossing":
        return _at_crossing(q, id, made, way, leg_sizes(q, id, way.leg).crossing)
    if position == "going round":
        lane, turn = 0.5 * (made.radius + made.island), 1.0 if made.entry == "left" else -1.0
        ahead = way.leg.angle + turn * np.arange(0.0, _AHEAD + _EVERY, _EVERY) / lane
        places = made.middle + lane * tangents(ahead)
        return _seen(q, id, way.leg, position, places[0], places[1:], _AHEAD)
    upstream = made.ways[(k + 1) % len(made.ways)] if made.entry == "right" else made.ways[k - 1]
    eye = way.driver(made.entry, _BACK[position])
    return _seen(q, id, way.leg, position, eye, _coming(made, way, upstream), _SHARE[position] * _GAP)


def _coming(made: Driven, way: Way, upstream: Way) -> Floats:
    """Where those are (n, 2) whom one has to let pass: back along the way round to the leg before, and out along its entry."""
    lane = 0.5 * (made.radius + made.island)
    back = 1.0 if made.entry == "right" else -1.0  # against the way round
    sweep = float(np.mod(back * (upstream.leg.angle - way.leg.angle), 2.0 * np.pi)) or 2.0 * np.pi
    round_ = made.middle + lane * tangents(way.leg.angle + back * np.linspace(0.0, sweep, 40))
    return evenly(np.concatenate([round_, upstream.lane(made.entry)]), _EVERY)


def _seen(q: Engine, id: str, leg: Leg, position: Position, eye: Floats, places: Floats, wanted: float) -> RoundSight:
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(places, axis=0).T))])
    on = (run >= _FIRST) & (run <= wanted)
    targets, d, rules = places[on], run[on], class_of(q, leg.street)
    faces = _faces_round(q, id)
    k, hidden_by, at = first_hidden(q, eye, targets, (rules.eye_height, rules.target_height), faces)
    # Where the leg before ends nobody comes from beyond.
    seen = wanted if k == len(d) else float(d[k - 1]) if k else 0.0
    clear = np.concatenate([[eye], places[: max(int(np.sum(run <= wanted)), 1)]])
    lots = lots_in(q, clear, faces) if len(clear) > 3 else ()
    return RoundSight(leg.key, position, wanted, seen, hidden_by, at, frozen(clear), lots)


def _at_crossing(q: Engine, id: str, made: Driven, way: Way, crossing: float) -> RoundSight:
    """Whether somebody who waits at either end of a leg's crossing is seen by who comes in."""
    leg, rules = way.leg, class_of(q, way.leg.street)
    u = min(leg.throat + crossing, leg.chain.total)
    ends = [
        leg.chain.points_at([u], way.lips[seen].offset(u) + side_sign(seen) * _BEHIND)[0]
        for seen in (made.entry, made.exit)
    ]
    eye = way.driver(made.entry, crossing + _TO_CROSSING)
    faces, targets = _faces_round(q, id), np.array(ends)
    hidden = [first_hidden(q, eye, t[None], (rules.eye_height, rules.eye_height - 0.5), faces) for t in targets]
    gone = next((h for h in hidden if h[0] == 0), None)
    seen = _TO_CROSSING if gone is None else 0.0
    nowhere = (float("nan"), float("nan"))
    by, at = ("", nowhere) if gone is None else gone[1:]
    return RoundSight(leg.key, "before the crossing", _TO_CROSSING, seen, by, at, frozen(np.array([eye, *targets])), ())


# What is wrong, and what people read


@query
def round_sight_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Where less is seen than is wanted; where only a lot lies in between, as near."""
    made = q.attempt(round_sights, id)
    if isinstance(made, Unsolved):
        return ()  # what is in the way of a kerb is told by itself
    of, found, names = ThingId("roundabout", id), [], {g.key: leg_name(q, id, g) for g in legs_of(q, id)}
    for s in made:
        name = f"{roundabout_name(q, id)}, {names[s.leg]}"
        if s.seen < s.wanted * (1.0 - 1e-9):
            words = f"{s.position}, a driver sees {s.seen:.0f} m, and {s.wanted:.0f} m are wanted: {s.hidden_by} is in the way"
            if s.position == "before the crossing":
                words = (
                    f"{s.wanted:.0f} m {s.position} a driver does not see who waits at it: {s.hidden_by} is in the way"
                )
            remedy = "lower what is in the way, or move it back"
            severity: Literal["broken", "near"] = "near" if s.position == "approaching" else "broken"
            found.append(Finding(RULES[0], of, name, words, remedy, s.seen, s.wanted, place=s.place, severity=severity))
        elif s.lots and s.position == "waiting":
            called, area = " and ".join(n for _, n, _ in s.lots), sum(a for _, _, a in s.lots)
            words = f"{area:.0f} m² of {called} lie in what a waiting driver has to see"
            remedy = "keep that corner free of fences and hedges"
            at, also = point(s.clear.mean(axis=0)), tuple(t for t, _, _ in s.lots)
            found.append(Finding(RULES[1], of, name, words, remedy, area, 0.0, place=at, severity="near", also=also))
    return tuple(found)


def round_sight_sheets(thing: ThingId) -> tuple[SheetOf, ...]:
    """The sheet of a roundabout that says what is seen at it."""
    return (SheetOf("Sight", lambda q: round_sight_sheet(q, thing.id)),) if thing.kind == "roundabout" else ()


def round_sight_sheet(q: Engine, id: str) -> Sheet:
    """What is seen from each leg, the worst first; what has to be clear for the chosen row is lit in plan."""
    made, rows = q.attempt(round_sights, id), []
    names = {} if isinstance(made, Unsolved) else {g.key: leg_name(q, id, g) for g in legs_of(q, id)}
    for s in sorted(() if isinstance(made, Unsolved) else made, key=lambda s: s.seen / max(s.wanted, 1e-9)):
        cells = (
            Fact("leg", "text", names[s.leg]),
            Fact("position", "text", s.position),
            Fact("wanted", "length", s.wanted),
            Fact("seen", "length", s.seen),
            Fact("hidden by", "text", s.hidden_by) if s.hidden_by else None,
            Fact("lots in it", "text", ", ".join(name for _, name, _ in s.lots)) if s.lots else None,
        )
        rows.append(SheetRow(cells, (0.0, -1.0), np.concatenate([s.clear, s.clear[:1]])))
    note = (
        made.message
        if isinstance(made, Unsolved)
        else "Over the finished surface and the ground; the chosen row lights up what is to be clear"
    )
    return Sheet("Sight", CircleLine(id), _COLUMNS, tuple(rows), note)


def round_sight_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row for each leg and position of every roundabout."""
    del every
    out = []
    for id in asked(q, of):
        made = q.attempt(round_sights, id)
        for s in () if isinstance(made, Unsolved) else made:
            leg = next(g for g in legs_of(q, id) if g.key == s.leg)
            lots = ", ".join(name for _, name, _ in s.lots)
            out.append(
                (
                    roundabout_name(q, id),
                    leg_name(q, id, leg),
                    s.position,
                    s.wanted,
                    s.seen,
                    s.hidden_by,
                    lots,
                    *s.place,
                )
            )
    columns = ("roundabout", "leg", "position", "wanted", "seen", "hidden_by", "lots", "easting", "northing")
    return Table(columns, tuple(out), (("easting", "northing"),))
