"""The own grade lines of drains, level by level in rows."""

from __future__ import annotations

from collections.abc import Callable

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of
from humble_loop.kinds.street.side import drawn_side
from humble_loop.kinds.toe_drain.model import set_drain_grade
from humble_loop.kinds.toe_drain.place import has_drain, own_levels
from humble_loop.kinds.toe_drain.runs import Run, invert_line, runs
from humble_loop.lines.describe import Fact, Sheet, SheetRow
from humble_loop.lines.line import line_plan
from humble_loop.site.edits import Edit, EditError
from humble_loop.site.model import SIDES, Side

_COLUMNS = ("side", "level", "chainage", "invert", "fall on")
Levels = tuple[tuple[float, float], ...]


def drain_level_sheet(q: Engine, street: str) -> Sheet:
    """Each level of each drain that has a grade line of its own; a drain that follows the street is given one."""
    rows: list[SheetRow] = []
    adds: list[tuple[str, Edit]] = []
    for side in SIDES:
        made = q.attempt(runs, street, side) if has_drain(q, street, side) else ()
        # A drain round a corner or a head follows their levels; only those beside the street's own boundary can have their own.
        for run in () if isinstance(made, Unsolved) else (r for r in made if r.stretch.round is None):
            own = own_levels(q, run.stretch)
            if own is None:
                begin, finish = run.stretch.full
                levels = ((begin, run.first), (finish, run.last))
                adds.append((f"Own levels for the {side} drain from {begin:.0f}", graded(q, street, side, levels)))
            else:
                rows += _rows(q, street, side, run, tuple(zip(*(v.tolist() for v in own))))
    note = (
        "Levels of inverts, straight between them"
        if rows
        else "Every drain follows its street; one can be given levels of its own"
    )
    return Sheet("Drain levels", StreetLine(street), _COLUMNS, tuple(rows), note, tuple(adds))


def _rows(q: Engine, street: str, side: Side, run: Run, levels: Levels) -> list[SheetRow]:
    plan, found = line_plan(q, invert_line(q, street, side, run.stretch.shape)), []
    for i, (s, z) in enumerate(levels):
        fall = (z - levels[i + 1][1]) / (levels[i + 1][0] - s) if i + 1 < len(levels) else None
        cells = (
            Fact("side", "text", side),
            Fact("level", "count", i + 1),
            Fact("chainage", "chainage", s, "set", _moved(q, street, side, levels, i, z)),
            Fact("invert", "level", z, "set", _raised(q, street, side, levels, i, s)),
            Fact("fall on", "grade", fall) if fall is not None else None,
        )
        actions: list[tuple[str, Edit]] = []
        if i + 1 < len(levels):
            half = (0.5 * (s + levels[i + 1][0]), 0.5 * (z + levels[i + 1][1]))
            actions.append(
                ("Add a level after it", graded(q, street, side, (*levels[: i + 1], half, *levels[i + 1 :])))
            )
        actions.append(("Remove", _without(q, street, side, levels, i)))
        found.append(SheetRow(cells, (s, s), plan.points([min(max(s, plan.start), plan.end)]), actions=tuple(actions)))
    return found


def graded(q: Engine, street: str, side: Side, levels: Levels) -> Edit:
    """The edit that gives a drain these levels, told as the street runs."""
    drawn, total, turned = drawn_side(q, street, side), chain_of(q, street).total, frame_of(q, street).turned
    placed = tuple((total - s if turned else s, z) for s, z in levels)
    return lambda site: set_drain_grade(site, street, drawn, placed)


def _moved(q: Engine, street: str, side: Side, levels: Levels, i: int, z: float) -> Callable[[float], Edit]:
    return lambda s: graded(q, street, side, (*levels[:i], (s, z), *levels[i + 1 :]))


def _raised(q: Engine, street: str, side: Side, levels: Levels, i: int, s: float) -> Callable[[float], Edit]:
    return lambda z: graded(q, street, side, (*levels[:i], (s, z), *levels[i + 1 :]))


def _without(q: Engine, street: str, side: Side, levels: Levels, i: int) -> Edit:
    if len(levels) > 2:
        return graded(q, street, side, (*levels[:i], *levels[i + 1 :]))

    def refused(site: object) -> object:
        raise EditError(
            "a drain's own grade line needs two levels; let it follow the street again instead, under Drains"
        )

    return refused  # type: ignore[return-value]
