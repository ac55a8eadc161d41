"""How drains show themselves: in plan, facts and rows."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street import section_edits
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of
from humble_loop.kinds.street.side import drawn_side, sections_along
from humble_loop.kinds.toe_drain.level_sheet import graded
from humble_loop.kinds.toe_drain.model import (
    DrainChoice,
    by_the_ground,
    choose_drain,
    follow_the_street,
)
from humble_loop.kinds.toe_drain.place import Stretch, has_drain, lines_of, own_profile
from humble_loop.kinds.toe_drain.roadside import beside, where
from humble_loop.kinds.toe_drain.runs import Run, invert_line, invert_of_stretch, lining_volume, runs
from humble_loop.lines.describe import Choice, Drawing, Fact, Label, Note, Row, Sheet, SheetRow, Stroke, joined_up
from humble_loop.lines.line import line_plan
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.library import KerbShape
from humble_loop.site.model import SIDES, Side

_COLUMNS = ("side", "from", "to", "length", "shape", "invert from", "invert to", "least fall", "water runs")
_SAG = 0.03  # metres between a drawn chord and its curve
_FRESH = 0.25, 0.75  # shares of a street between which a stretch is offered where none stands


def drawing(q: Engine, street: str, side: Side) -> Drawing:
    """The drains' inverts and far edges, and the fall of each."""
    found: dict[str, list[Floats]] = {}
    own = lines_of(q, street, side)
    for shape, round in dict.fromkeys((id.shape, id.round) for id in own):
        last = next(id for id in reversed(own) if (id.shape, id.round) == (shape, round))
        for role, id in (("drain", invert_line(q, street, side, shape, round)), ("path", last)):
            plan = line_plan(q, id)
            found.setdefault(role, []).extend(plan.points(s) for s in plan.runs(_SAG))
    labels = []
    for run in runs(q, street, side):
        middle = 0.5 * sum(run.stretch.full)
        e, n = line_plan(q, invert_of_stretch(q, run.stretch)).points([middle])[0]
        fall = abs(run.last - run.first) / max(run.length, 1e-9)
        labels.append(Label((float(e), float(n)), "crown", 3, unit="grade", value=fall))
    return Drawing(tuple(Stroke(role, joined_up(lines)) for role, lines in found.items()), (), tuple(labels))


def drain_facts(q: Engine, street: str, side: Side) -> tuple[Row, ...]:
    """Which drain stands along a side, on what terms, and how much of it."""
    drawn, rows = drawn_side(q, street, side), list[Row]()
    shapes = tuple((k, parts.kerb_shape(q, k).name) for k in parts.ids(q, KerbShape))
    sections = {section.id: section for _, section in sections_along(q, street)}
    for section in sections.values():
        drain = section.side(drawn).drain
        if drain is None:
            continue
        if len(sections) > 1:
            rows.append(Note(section.name))

        def to(key: str, section: str = section.id) -> Callable[[Any], Edit]:
            return lambda v: lambda s: section_edits.change_toe_drain(s, section, drawn, **{key: v})

        pick = lambda v, id=section.id: lambda s: section_edits.set_toe_drain(s, id, drawn, v)  # noqa: E731
        rows += [
            Choice("shape", shapes, drain.shape, pick),
            Fact("shortest", "length", drain.least_length, "set", to("least_length")),
            Fact("gaps closed below", "length", drain.least_gap, "set", to("least_gap")),
            Fact("rises out over", "length", drain.taper, "set", to("taper")),
            Fact("least fall", "grade", drain.least_fall, "set", to("least_fall")),
        ]
    made = q.attempt(runs, street, side)
    if isinstance(made, Unsolved):
        return (*rows, Note(f"{made.message}; {made.remedy}"))
    length = sum(r.stretch.finish - r.stretch.begin for r in made)
    lining = sum(lining_volume(q, r) for r in made)
    return (*rows, Fact("stands on", "length", length), Fact("lining", "volume", lining))


def drain_sheet(q: Engine, street: str) -> Sheet:
    """Each drain of a street, and each stretch where one is left out."""
    rows: list[SheetRow] = []
    adds: list[tuple[str, Edit]] = []
    total = chain_of(q, street).total
    for side in SIDES:
        if not has_drain(q, street, side):
            continue
        made = q.attempt(runs, street, side)
        rows += [] if isinstance(made, Unsolved) else [_row(q, street, side, r) for r in made]
        rows += _left_out(q, street, side)
        a, b = (float(round(v * total)) for v in _FRESH)
        adds.append((f"{side.capitalize()} drain from {a:g} to {b:g}", _choose(q, street, side, a, b, True)))
    note = (
        "A drain stands where the ground is above its invert across its whole width: type where it is to begin or end"
    )
    if not adds:
        note = "No section here has a drain: choose one in the last row of a side, under Section"
    elif not rows:
        note = "Nowhere does the ground stand above a drain's invert; one can be wanted all the same"
    return Sheet("Drains", StreetLine(street), _COLUMNS, tuple(rows), note, tuple(adds))


def _row(q: Engine, street: str, side: Side, run: Run) -> SheetRow:
    d, told = run.stretch, beside(q, run.stretch.boundary)
    state, place = "set" if d.chosen else "proposed", where(d.boundary)
    graded = own_profile(q, d) is not None
    own, back = ("set", _follow(q, street, side, d)) if graded else ("proposed", None)
    ends = [told.chainage(v) for v in (d.begin, d.finish)]
    cells = (
        Fact("side", "text", f"{side}, {place}" if place else side),
        Fact("from", "chainage", ends[0], state, None if place else lambda v: _moved(q, street, side, d, v, d.finish)),
        Fact("to", "chainage", ends[1], state, None if place else lambda v: _moved(q, street, side, d, d.begin, v)),
        Fact("length", "length", d.finish - d.begin),
        Fact("shape", "text", parts.kerb_shape(q, d.shape).name),
        Fact(
            "invert from", "level", run.first, own, None if place else _graded(q, street, side, run, first=True), back
        ),
        Fact("invert to", "level", run.last, own, None if place else _graded(q, street, side, run, first=False), back),
        Fact("least fall", "grade", run.least_fall),
        Fact("water runs", "text", run.runs_to),
    )
    spans = told.chosen_by(d.begin, d.finish)
    actions = [("Leave it out", _each(spans, lambda s, a, b: _choose(q, street, s, a, b, False)))]
    if graded:
        actions.append(("Follow the street's levels", _follow(q, street, side, d)))
    if d.chosen:
        actions.append(("By the ground", _each(spans, lambda s, a, b: _by_ground(q, street, s, a, b))))
    return SheetRow(cells, (min(ends), max(ends)), _lit(q, d), actions=tuple(actions))


def _each(spans: tuple[tuple[Side, tuple[float, float]], ...], edit: Callable[[Side, float, float], Edit]) -> Edit:
    """The edit that does something on several stretches of sides, one after another."""

    def done(site: Any) -> Any:
        for side, (a, b) in spans:
            site = edit(side, a, b)(site)
        return site

    return done


def _graded(q: Engine, street: str, side: Side, run: Run, *, first: bool) -> Callable[[float], Edit]:
    """An invert that is typed at an end sets it in the drain's own grade line, which at first is straight to its other end."""
    (begin, finish), own = run.stretch.full, own_profile(q, run.stretch)

    def typed(value: float) -> Edit:
        between = () if own is None else tuple(zip(own.chainages.tolist(), own.levels.tolist()))[1:-1]
        ends = (begin, value if first else run.first), (finish, run.last if first else value)
        return graded(q, street, side, (ends[0], *(v for v in between if begin < v[0] < finish), ends[1]))

    return typed


def _follow(q: Engine, street: str, side: Side, d: Stretch) -> Edit:
    drawn, (a, b) = drawn_side(q, street, side), _as_drawn(q, street, d.begin, d.finish)
    return lambda s: follow_the_street(s, street, drawn, a, b)


def _left_out(q: Engine, street: str, side: Side) -> list[SheetRow]:
    drawn, found = drawn_side(q, street, side), []
    for c in parts.owned(q, DrainChoice, street):
        if c.side == drawn and not c.stands:
            a, b = _as_drawn(q, street, c.begin, c.finish)
            span = (Fact("from", "chainage", a, "set"), Fact("to", "chainage", b, "set"))
            cells = (
                Fact("side", "text", side),
                *span,
                Fact("length", "length", b - a),
                Fact("shape", "text", "left out"),
                None,
                None,
                None,
                None,
            )
            points = chain_of(q, street).points_at([max(a, 0.0), min(b, chain_of(q, street).total)])
            back: tuple[tuple[str, Edit], ...] = (("By the ground", _by_ground(q, street, side, a, b)),)
            found.append(SheetRow(cells, (a, b), points, actions=back))
    return found


def _lit(q: Engine, d: Stretch) -> Floats:
    plan = line_plan(q, invert_of_stretch(q, d))
    runs_ = [s[(s >= d.begin - 1e-6) & (s <= d.finish + 1e-6)] for s in plan.runs(_SAG)]
    return joined_up([plan.points(s) for s in runs_ if len(s) > 1])


def _moved(q: Engine, street: str, side: Side, d: Stretch, begin: float, finish: float) -> Edit:
    """The edit that has a drain begin and end elsewhere: where it goes on it is wanted, where it ends earlier left out."""

    def edit(s: Any) -> Any:
        if begin > d.begin:
            s = _choose(q, street, side, d.begin, min(begin, d.finish), False)(s)
        elif finish < d.finish:
            s = _choose(q, street, side, max(finish, d.begin), d.finish, False)(s)
        else:
            s = _choose(q, street, side, begin, finish, True)(s)
        return s

    return edit


def _choose(q: Engine, street: str, side: Side, begin: float, finish: float, stands: bool) -> Edit:
    drawn, (a, b) = drawn_side(q, street, side), _as_drawn(q, street, begin, finish)
    return lambda s: choose_drain(s, street, drawn, a, b, stands)


def _by_ground(q: Engine, street: str, side: Side, begin: float, finish: float) -> Edit:
    drawn, (a, b) = drawn_side(q, street, side), _as_drawn(q, street, begin, finish)
    return lambda s: by_the_ground(s, street, drawn, a, b)


def _as_drawn(q: Engine, street: str, begin: float, finish: float) -> tuple[float, float]:
    """Chainages of the street as it runs as it was drawn, and the other way round."""
    total = chain_of(q, street).total
    return (total - finish, total - begin) if frame_of(q, street).turned else (begin, finish)
