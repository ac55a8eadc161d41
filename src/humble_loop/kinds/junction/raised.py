"""Raised tables: how far one raises its streets, and where it does not fit."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.junction.corners import Return, kerb_return
from humble_loop.kinds.junction.model import PLANE, RaisedTable
from humble_loop.kinds.junction.nodes import (
    Arm,
    CrossingArm,
    arms_at,
    arms_of,
    choice_at,
    decided,
    joints_on,
    junction_name,
    leg_of,
    node_id,
    require_joint,
)
from humble_loop.kinds.street.holding import holds
from humble_loop.kinds.street.levels import grade_line, raised
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new, name_of
from humble_loop.kinds.street.section import own_range
from humble_loop.kinds.street.side import course, drawn_side, lip_offset, lip_width
from humble_loop.lines.describe import Fact, Row
from humble_loop.lines.findings import Finding, point, share
from humble_loop.lines.kind import Raise, Turn
from humble_loop.lines.line import ThingId
from humble_loop.site.edits import Edit, changed
from humble_loop.site.model import SIDES, Side

_BENT, _ROOM, _ABOVE, _HELD, _WATER = RULES = (
    "plane over a curve",
    "table without room",
    "table above the kerb",
    "table on a held lip",
    "water stands before the table",
)
_ON = 1e-6  # metres within which places are one
_PLACES = 33  # along a plane at which the through street's grade is looked at
_FLAT = 1e-4  # of grade, at which water runs neither way


def chosen_table(q: Engine, street: str, arm: Arm) -> RaisedTable | None:
    """The table that was chosen for an arm's junction; never on an existing street, whose surface is the ground's."""
    chosen = choice_at(q, street, arm)
    if chosen is None or chosen.table is None:
        return None
    return chosen.table if is_new(q, street) and is_new(q, require_joint(q, street, arm).through) else None


@query
def table_of(q: Engine, street: str, arm: Arm) -> RaisedTable | None:
    """The table of an arm's junction; None while its returns do not all fit, which say how far it goes: then everything is as without one."""
    table = chosen_table(q, street, arm)
    if table is None:
        return None
    made = [q.attempt(kerb_return, *a, corner) for a in arms_at(q, node_id(q, street, arm)) for corner in SIDES]
    return table if all(isinstance(m, Return) for m in made) else None


def plane_of(q: Engine, street: str, arm: Arm) -> RaisedTable | None:
    """The table of an arm's junction where that is one plane."""
    table = table_of(q, street, arm)
    return table if table is not None and table.plane else None


@query
def table_end(q: Engine, street: str, arm: Arm) -> float:
    """The side street's chainage at which a junction's table ends along an arm. Raises Unsolved where its returns do not fit."""
    table, j = table_of(q, street, arm), require_joint(q, street, arm)
    assert table is not None
    ends = [kerb_return(q, street, arm, corner).leg_at for corner in SIDES]
    return j.along(min(max(ends) + table.beyond, leg_of(q, street, arm).total))


def plane_fall(q: Engine, street: str, arm: Arm) -> float:
    """The grade outwards from the through street's crown, towards an arm, of a table that is one plane."""
    table, j = plane_of(q, street, arm), require_joint(q, street, arm)
    assert table is not None
    if isinstance(arm, CrossingArm):
        return table.fall if drawn_side(q, j.through, j.lip_side) == "left" else -table.fall
    return table.fall


@query
def turns_of(q: Engine, street: str, side: Side) -> tuple[Turn, ...]:
    """How planes turn the crossfall of the streets that run through them."""
    found, done = [], set()
    for other, arm in joints_on(q, street):
        id, table = node_id(q, other, arm), plane_of(q, other, arm)
        extent = _extent(q, id, street) if table is not None and id not in done else None
        done.add(id)
        if table is None or extent is None:
            continue
        across = plane_fall(q, other, arm)
        across = across if require_joint(q, other, arm).lip_side == side else -across
        for at, way in ((extent[0] - table.beyond, -1), (extent[1] + table.beyond, 1)):
            found.append(Turn(at, at + way * table.ramp, way > 0, across, "one plane over the junction"))
    return tuple(found)


@query
def raises_of(q: Engine, street: str) -> tuple[Raise, ...]:
    """Where the tables of its junctions raise a street."""
    found, done = [], set()
    for side, arm in (*((street, arm) for arm in arms_of(q, street)), *joints_on(q, street)):
        id = node_id(q, side, arm)
        if id not in done and (table := table_of(q, side, arm)) is not None:
            done.add(id)
            extent = _extent(q, id, street)
            if extent is not None and table.by > 0:
                begin, finish = extent
                found.append(Raise(begin - table.beyond, finish + table.beyond, table.by, table.ramp))
    return tuple(found)


def _extent(q: Engine, id: str, street: str) -> tuple[float, float] | None:
    """The chainages of a street between which the returns of a junction stand; None where one has none."""
    at = []
    for side, arm in arms_at(q, id):
        j = require_joint(q, side, arm)
        made = [q.attempt(kerb_return, side, arm, corner) for corner in SIDES]
        returns = [m for m in made if isinstance(m, Return)]
        if len(returns) < len(made):
            return None
        if side == street:
            at += [j.side_chainage, *(r.side_chainage for r in returns)]
        if j.through == street:
            at += [r.through_at for r in returns]
            if plane_of(q, side, arm) is not None:
                # The plane goes on along the arm: abreast of its end the through street still lies in it.
                u, leg = abs(table_end(q, side, arm) - j.side_chainage), leg_of(q, side, arm)
                wide = max(float(lip_width(q, side, s).values.max()) for s in SIDES)
                at += chain_of(q, street).feet(leg.points_at([u, u], np.array([-wide, wide]))).chainages.tolist()
    return (min(at), max(at)) if at else None


def table_edges(q: Engine, id: str) -> list[Floats]:
    """The lines (each (2, 2)) across its streets at which a junction's table and its ramps end, in plan."""
    arms = arms_at(q, id)
    table = table_of(q, *arms[0]) if arms else None
    found: list[Floats] = []
    for street in (require_joint(q, *arms[0]).through, arms[0][0]) if table is not None else ():
        assert table is not None
        extent, chain = _extent(q, id, street), chain_of(q, street)
        if extent is None:
            continue
        for at, way in ((extent[0] - table.beyond, -1), (extent[1] + table.beyond, 1)):
            for s in (at, at + way * table.ramp):
                if not _at_the_node(q, id, street, at, way) and 0.0 <= s <= chain.total:
                    out = [lip_offset(q, street, side).one(s) for side in SIDES]
                    found.append(chain.points_at([s, s], np.array(out)))
    return found


# As facts


def with_table(q: Engine, street: str, arm: Arm, table: RaisedTable | None) -> Edit:
    """The edit that gives a junction a raised table, or takes it away."""
    return decided(q, street, arm, table=table)


def table_rows(q: Engine, street: str, arm: Arm) -> tuple[Row, ...]:
    """The sizes of a junction's table."""
    table = chosen_table(q, street, arm)
    if table is None:
        return ()

    def to(key: str) -> Callable[[float], Edit]:
        return lambda v: with_table(q, street, arm, changed(table, **{key: v}))

    sizes = (("raised by", "by"), ("ramps", "ramp"), ("flat beyond the returns", "beyond"))
    normal = PLANE if table.plane else RaisedTable()
    if table.plane:
        state = "set" if table.fall != normal.fall else "proposed"
        towards = "rises to the left by" if isinstance(arm, CrossingArm) else "rises towards the side street by"
        rows = [Fact(towards, "grade", table.fall, state, to("fall"), inner=True)]
    else:
        rows = []
    return *rows, *(
        Fact(
            words,
            "size",
            getattr(table, key),
            "set" if getattr(table, key) != getattr(normal, key) else "proposed",
            to(key),
            inner=True,
        )
        for words, key in sizes
    )


# Where it does not fit


def table_findings(q: Engine, id: str) -> list[Finding]:
    """A table without room for its ramps, above a kerb, beside a lip that is held, or before which water stands."""
    arms = arms_at(q, id)
    table = chosen_table(q, *arms[0]) if arms else None
    if table is None:
        return []
    of, name, found = ThingId("junction", id), junction_name(q, *arms[0]), []
    j = require_joint(q, *arms[0])
    for street in (j.through, arms[0][0]):
        extent = _extent(q, id, street)
        if extent is None:
            place = point(j.node)
            words = "its returns do not all fit, so nothing is raised"
            return [Finding(_ROOM, of, name, words, "mend its corners first", place=place)]
        begin, finish = extent[0] - table.beyond, extent[1] + table.beyond
        for at, way in ((begin, -1), (finish, 1)):
            if _at_the_node(q, id, street, at, way):
                continue
            end = at + way * table.ramp
            found += _room(q, of, name, street, table, at, end)
            found += _water(q, of, name, street, table, at, end, way)
        found += _kerbs(q, of, name, street, table, begin, finish)
    if table.plane and (extent := _extent(q, id, j.through)) is not None:
        found += _bent(q, of, name, j.through, extent)
    return found


def _bent(q: Engine, of: ThingId, name: str, street: str, extent: tuple[float, float]) -> list[Finding]:
    """Where the through street's grade turns inside a table that is to be one plane."""
    made = q.attempt(grade_line, street)
    if isinstance(made, Unsolved):
        return []
    turn = float(np.ptp(made.profile.grade(np.linspace(*extent, _PLACES))))
    if turn <= _FLAT:
        return []
    words = f"the grade of {name_of(q, street)} turns by {share(turn)} within it, so that it is not one plane"
    remedy, at = "keep that street's VIPs and their curves away from the junction", 0.5 * sum(extent)
    return [Finding(_BENT, of, name, words, remedy, turn, _FLAT, at, _place(q, street, at), severity="near")]


def _at_the_node(q: Engine, id: str, street: str, at: float, way: int) -> bool:
    """Whether a street ends at the junction in that direction, so that no ramp stands there."""
    total = chain_of(q, street).total
    return (at <= _ON and way < 0) or (at >= total - _ON and way > 0)


def _place(q: Engine, street: str, at: float) -> tuple[float, float]:
    chain = chain_of(q, street)
    return point(chain.points_at([min(max(at, 0.0), chain.total)])[0])


def _room(q: Engine, of: ThingId, name: str, street: str, table: RaisedTable, at: float, end: float) -> list[Finding]:
    """Ramps that reach past a street's own carriageway, or into those of another table."""
    for side in SIDES:
        low, high = own_range(q, street, side)
        short = max(low - min(at, end), max(at, end) - high)
        if short > _ON:
            words = f"its ramp on {name_of(q, street)} reaches {short:.2f} m past where that has a lip of its own"
            remedy = "shorten the ramp, or move what stands there further off"
            return [Finding(_ROOM, of, name, words, remedy, short, 0.0, chainage=end, place=_place(q, street, end))]
    if raised(q, street).one(end) > _ON:
        words = f"its ramp on {name_of(q, street)} runs into that of another table"
        return [
            Finding(
                _ROOM,
                of,
                name,
                words,
                "shorten both ramps, or make one table of both junctions",
                chainage=end,
                place=_place(q, street, end),
            )
        ]
    return []


def _water(
    q: Engine, of: ThingId, name: str, street: str, table: RaisedTable, at: float, end: float, way: int
) -> list[Finding]:
    """A ramp that rises against the water in the channels."""
    line = q.attempt(grade_line, street)
    if isinstance(line, Unsolved):
        return []
    grade = float(line.profile.grade([end])[0]) * -way  # towards the table
    rises = grade + table.by / table.ramp
    if not np.isfinite(grade) or grade > -_FLAT or rises <= 0:
        return []
    words = f"on {name_of(q, street)} both channels fall towards its ramp and end there"
    remedy = "put pits there, or lead the channels through the ramp under covers"
    return [Finding(_WATER, of, name, words, remedy, chainage=end, place=_place(q, street, end), severity="near")]


def _kerbs(
    q: Engine, of: ThingId, name: str, street: str, table: RaisedTable, begin: float, finish: float
) -> list[Finding]:
    found = []
    for side in SIDES:
        made = course(q, street, side)
        upstand = 0.0
        for k in range(made.lip + 1, len(made.names)):
            if made.pieces[k] != "kerb":
                break
            upstand = max(upstand, float(np.interp(begin, made.at, made.rises[:, made.lip + 1 : k + 1].sum(axis=1))))
        if table.by > upstand + _ON:
            words = f"it stands {table.by - upstand:.3f} m above the {side} kerb of {name_of(q, street)}, and water leaves over it"
            remedy = f"raise it by {upstand:.3f} m at most, or give the street a higher kerb"
            found.append(
                Finding(
                    _ABOVE,
                    of,
                    name,
                    words,
                    remedy,
                    table.by,
                    upstand,
                    place=_place(q, street, 0.5 * (begin + finish)),
                )
            )
        for hold in holds(q, StreetLine(street, "lip", side)):
            low, high = float(hold.share.at.min()), float(hold.share.at.max())
            if low < finish + table.ramp and high > begin - table.ramp:
                words = f"the {side} lip of {name_of(q, street)} is held by {hold.words} there, and is not raised with the crown"
                remedy = "end there what holds the lip, or raise it by as much"
                at = max(low, begin - table.ramp)
                found.append(Finding(_HELD, of, name, words, remedy, chainage=at, place=_place(q, street, at)))
                break
    return found
