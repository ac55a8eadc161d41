"""How an island shows itself, and how it is taken in hand."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.island.layout import (
    IslandLine,
    corners_placed,
    island_name,
    island_of,
    islands_on,
    names_of,
    outline,
    placed,
    reaches,
)
from humble_loop.kinds.island.model import Island, IslandCorner, add_island, remove_island, set_corners, set_island
from humble_loop.kinds.island.way import LEAST_LANE, sweep_of, swept_width, way_round
from humble_loop.kinds.junction.corners import Return, kerb_return
from humble_loop.kinds.junction.layout import throat
from humble_loop.kinds.junction.nodes import Arm, CrossingArm, arms_at, require_joint
from humble_loop.kinds.street.plan import chain_of, frame_of, is_new, name_of
from humble_loop.kinds.street.side import lip_width
from humble_loop.kinds.turning_head.layout import outline as head_outline
from humble_loop.kinds.turning_head.place import head_at, of_head
from humble_loop.kinds.turning_head.sizes import head_sizes, vehicle_of
from humble_loop.lines.describe import (
    LABEL_RANKS,
    Actions,
    Choice,
    Drawing,
    Fact,
    Handle,
    Label,
    Note,
    Place,
    Row,
    Sheet,
    SheetRow,
    Stroke,
    Told,
    Typed,
    Unit,
    joined_up,
)
from humble_loop.lines.line import line_plan
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError, changed
from humble_loop.site.library import KerbShape
from humble_loop.site.model import SIDES, End, Site

_SAG = 0.01  # metres between a drawn chord and its curve
_BACK = 1.0  # metres from the throat to an island that is proposed there
_NARROWEST, _WIDEST = 1.0, 2.0  # metres that it is wide there: a shipped kerb on both sides, or somebody with a pram
_BEHIND = 1.2  # metres that it is wide at its other end, at most
_LONG = 10.0  # metres that it is long
_LEAST = 0.4  # metres of a width that is dragged
_STEP = 0.5  # metres to which an island in a head is proposed
_NOSE = 0.4  # of a bulb's radius that a teardrop's nose reaches beyond its round end
_NARROW = 1.2  # metres that it is wide there
_SHAPES = (("round", "round at both ends"), ("corners", "corners with arcs"))
_CORNER: tuple[tuple[str, Unit], ...] = (("at", "chainage"), ("beside", "length"), ("radius", "size"))


def drawing(q: Engine, id: str) -> Drawing:
    """The lip, and the back of its kerb."""
    by_role: dict[str, list[Floats]] = {}
    for name, role in ((names_of(q, id)[0], "return"), (names_of(q, id)[-1], "kerb")):
        plan = q.attempt(line_plan, IslandLine(id, name))
        if not isinstance(plan, Unsolved):
            by_role.setdefault(role, []).extend(plan.points(s) for s in plan.runs(_SAG))
    return Drawing(tuple(Stroke(role, joined_up(runs)) for role, runs in by_role.items()))


def facts(q: Engine, id: str) -> tuple[Row, ...]:
    """Where an island stands, its widths and its kerb."""
    made, name = island_of(q, id), island_name(q, id)
    begin, finish, wide_begin, wide_finish, beside = placed(q, made)
    given = bool(made.name)
    rename = _to(id, "name")
    rows: list[Row] = [
        Fact(
            "name",
            "text",
            name,
            "set" if given else "proposed",
            lambda v: rename(v or None),
            rename(None if given else name),
        )
    ]
    turned, total = frame_of(q, made.street).turned, chain_of(q, made.street).total

    def place(key: str) -> Callable[[float], Edit]:
        return lambda v: _to(id, key)(total - v if turned else v)

    first, last = ("finish", "begin") if turned else ("begin", "finish")
    rows += [
        Fact("from", "chainage", begin, "set", place(first)),
        Fact("to", "chainage", finish, "set", place(last)),
        Fact("wide where it begins", "size", wide_begin, "set", _to(id, f"wide_{first}")),
        Fact("wide where it ends", "size", wide_finish, "set", _to(id, f"wide_{last}")),
        Fact("left of the centreline", "length", beside, "set", lambda v: _to(id, "beside")(-v if turned else v)),
    ]
    rows.insert(1, _shape(q, id))
    if made.corners:
        rows = rows[:2]  # its corners stand in rows of their own
    kerbs = [("", "as the section's"), *((i, parts.one(q, KerbShape, i).name) for i in parts.ids(q, KerbShape))]
    rows.append(Choice("kerb", tuple(kerbs), made.kerb, _to(id, "kerb")))
    paved = _to(id, "paved")
    tops = (("paved", "paved"), ("planted", "planted"))
    rows.append(Choice("within it", tops, "paved" if made.paved else "planted", lambda v: paved(v == "paved")))
    rows += _way_rows(q, id)
    rows.append(Actions(((f"Take {name} away", lambda s: remove_island(s, id)),)))
    return tuple(rows)


def _way_rows(q: Engine, id: str) -> list[Row]:
    """The way round it, where it is in a head."""
    made = q.attempt(way_round, id)
    if made is None or isinstance(made, Unsolved):
        return []
    rows: list[Row] = [
        Fact("least way round", "length", made.width),
        Fact("where is wanted", "length", made.wanted),
    ]
    if made.travelled is not None:
        rows.append(Fact("the travelled way turns by", "angle", sweep_of(made.travelled)))
    return rows


def _shape(q: Engine, id: str) -> Choice:
    """Round at both ends, or any run of arcs."""
    made = island_of(q, id)
    now = "corners" if made.corners else "round"

    def edit(value: str) -> Edit:
        if value == now:
            return lambda site: site
        corners = boxed(made) if value == "corners" else ()
        return lambda site: set_corners(site, id, corners)

    return Choice("shape", _SHAPES, now, edit)


def boxed(made: Island) -> tuple[IslandCorner, ...]:
    """Four corners about an island that is round at both ends, whose arcs are as wide as those are."""
    found = []
    for at, wide, way in ((made.begin, made.wide_begin, -1.0), (made.finish, made.wide_finish, 1.0)):
        for side in (1.0, -1.0):
            place = round(at + way * 0.5 * wide, 3), round(made.beside + side * 0.5 * wide, 3)
            found.append(IslandCorner(at=place[0], beside=place[1], radius=round(0.45 * wide, 3)))
    one, two, three, four = found
    return one, two, four, three


def corner_sheet(q: Engine, id: str) -> Sheet:
    """The corners of an island in rows."""
    made, line_id = corners_placed(q, island_of(q, id)), IslandLine(id)
    rows = []
    for k, corner in enumerate(made):
        after = made[(k + 1) % len(made)]
        middle = corner.model_copy(
            update={"at": 0.5 * (corner.at + after.at), "beside": 0.5 * (corner.beside + after.beside), "radius": 0.5}
        )
        actions = [("Add a corner after it", corners_edit(q, id, [*made[: k + 1], middle, *made[k + 1 :]]))]
        if len(made) > 3:
            actions.append(("Remove", corners_edit(q, id, [*made[:k], *made[k + 1 :]])))
        cells = (
            Fact("corner", "count", k + 1),
            *(
                Fact(key, unit, getattr(corner, key), "set", partial(_corner_to, q, id, k, key))
                for key, unit in _CORNER
            ),
        )
        chain = chain_of(q, island_of(q, id).street)
        lit = chain.points_at([corner.at], [corner.beside])
        rows.append(SheetRow(cells, (0.0, -1.0), lit, held=("island corner", id, k), actions=tuple(actions)))
    note = "Chainages and metres left of the centreline of its street. Drag a corner in the plan, or type it"
    return Sheet("Corners", line_id, ("corner", "at", "beside", "radius"), tuple(rows), note)


def corners_edit(q: Engine, id: str, corners: Sequence[IslandCorner]) -> Edit:
    """The edit that gives an island corners, told as its street runs now."""
    made = island_of(q, id)
    if frame_of(q, made.street).turned:
        total = chain_of(q, made.street).total
        corners = [c.model_copy(update={"at": total - c.at, "beside": -c.beside}) for c in corners]
    return lambda site: set_corners(site, id, tuple(corners))


def _corner_to(q: Engine, id: str, k: int, key: str, value: float) -> Edit:
    corners = list(corners_placed(q, island_of(q, id)))
    try:
        corners[k] = changed(corners[k], **{key: value})
    except EditError as error:
        words = str(error)

        def refuse(site: Site) -> Site:
            raise EditError(words)

        return refuse
    return corners_edit(q, id, corners)


def details(q: Engine, id: str) -> Drawing:
    """The travelled way round it, and where the way is narrowest."""
    made = q.attempt(way_round, id)
    if made is None or isinstance(made, Unsolved):
        return Drawing()
    strokes = [Stroke("leader", np.array([made.inside, made.outside]))]
    if made.travelled is not None:
        s = made.travelled.sampled(sag=_SAG)
        strokes.append(Stroke("way", made.travelled.points_at(s)))
    e, n = (0.5 * (made.inside + made.outside)).tolist()
    label = Label((e, n), "near", LABEL_RANKS["spot"], unit="length", value=made.width, centred=True)
    return Drawing(tuple(strokes), (), (label,))


def about_head(q: Engine, id: str) -> tuple[Row, ...]:
    """The islands of a head, and putting one in it, where its vehicle has room to go round."""
    street, end = of_head(q, id)
    head = q.attempt(head_outline, street, end)
    rows: list[Row] = []
    for made in islands_on(q, street):
        way = q.attempt(way_round, made.id)
        if way is not None and not isinstance(way, Unsolved) and way.end == end:
            rows += [Note(island_name(q, made.id)), *facts(q, made.id)]
    if isinstance(head, Unsolved) or head_at(q, street, end).kind != "bulb" or rows:
        return tuple(rows)
    radius, wanted = head_sizes(q, street, end).radius, swept_width(q, street, end)
    room = float(np.floor((radius - wanted) / _STEP) * _STEP)
    vehicle = vehicle_of(head_at(q, street, end)).name
    if room < 1.0:
        return (Note(f"An island in it would leave a {vehicle} less than {wanted:.2f} m to go round", heading=False),)
    turned, total = frame_of(q, street).turned, chain_of(q, street).total
    here = 0.0 if end == "start" else total
    beside = float(chain_of(q, street).feet([head.centre], extend=True).offsets[0])
    at, left = (total - here, -beside) if turned else (here, beside)
    way_in = -1.0 if at > 0.5 * total else 1.0  # towards the street
    drop = _teardrop(q, street, end, radius, wanted, room)
    nose = at + way_in * (drop + _NOSE * radius)
    low, high = sorted((at, nose))
    wide = (_NARROW, 2.0 * drop) if low == nose else (2.0 * drop, _NARROW)
    return (
        Actions(
            (
                (
                    "Round island in it",
                    lambda s: add_island(
                        s, street, at, at, wide_begin=2 * room, wide_finish=2 * room, beside=left, paved=False
                    ),
                ),
                (
                    "Teardrop island in it",
                    lambda s: add_island(
                        s, street, low, high, wide_begin=wide[0], wide_finish=wide[1], beside=left, paved=False
                    ),
                ),
            )
        ),
    )


def _to(id: str, key: str) -> Callable[[Any], Edit]:
    return lambda value: lambda s: set_island(s, id, **{key: value})


def about_street(q: Engine, street: str) -> tuple[Row, ...]:
    """A street's islands, for its facts."""
    rows: list[Row] = []
    for made in islands_on(q, street):
        rows += [Note(island_name(q, made.id)), *facts(q, made.id)]
    return tuple(rows)


def splitter(q: Engine, street: str, arm: Arm) -> Edit | None:
    """The edit that puts an island before a junction, on the side street's centreline: it begins a metre behind the throat; None where
    the street is existing, or too short for one.
    """
    t = q.attempt(throat, street, arm)
    if isinstance(t, Unsolved) or not is_new(q, street):
        return None
    j, total = require_joint(q, street, arm), chain_of(q, street).total
    ends = sorted(t.place.side_chainage + j.way * u for u in (_BACK + 1.0, _BACK + _LONG))
    if ends[0] < 0.0 or ends[1] > total:
        return None
    # As wide as leaves a lane on both sides, if its kerb has room in that.
    room = sum(lip_width(q, street, side).one(t.place.side_chainage) for side in SIDES) - 2.0 * LEAST_LANE
    near = float(np.clip(np.floor(10.0 * room) / 10.0, _NARROWEST, _WIDEST))
    wide = (near, min(near, _BEHIND)) if j.way > 0 else (min(near, _BEHIND), near)
    if frame_of(q, street).turned:
        ends, wide = [total - ends[1], total - ends[0]], wide[::-1]
    return lambda s: add_island(s, street, ends[0], ends[1], wide_begin=wide[0], wide_finish=wide[1])


def nose(q: Engine, id: str, way: int) -> tuple[str, Edit] | None:
    """Words and the edit that put an island on the centreline of the street that runs through a junction, beyond its returns onwards (+1) or
    back (-1): the nose of a median, or a refuge. None where the street is existing or too short.
    """
    arms = arms_at(q, id)
    through = require_joint(q, *arms[0]).through if arms else ""
    if not through or not is_new(q, through):
        return None
    made = [q.attempt(kerb_return, *arm, corner) for arm in arms for corner in SIDES]
    at = [m.through_at for m in made if isinstance(m, Return)]
    total = chain_of(q, through).total
    if not at:
        return None
    begin = max(at) if way > 0 else min(at)
    low, high = sorted(begin + way * u for u in (_BACK + 0.5 * _BEHIND, _BACK + _LONG))
    if low < 0.0 or high > total:
        return None
    if frame_of(q, through).turned:
        low, high = total - high, total - low
    words = f"Island on {name_of(q, through)} {'beyond' if way > 0 else 'before'} it"
    return words, lambda s: add_island(s, through, low, high, wide_begin=_BEHIND, wide_finish=_BEHIND)


def about_junction(q: Engine, id: str) -> tuple[Row, ...]:
    """Islands that can be put on the legs of a junction, for its facts."""
    offers = []
    for street, arm in arms_at(q, id):
        if (edit := splitter(q, street, arm)) is not None:
            where = f", {arm}" if isinstance(arm, CrossingArm) else ""
            offers.append((f"Island on {name_of(q, street)}{where}", edit))
    offers += [made for way in (-1, 1) if (made := nose(q, id, way)) is not None]
    return (Actions(tuple(offers)),) if offers else ()


def _teardrop(q: Engine, street: str, end: End, radius: float, wanted: float, room: float) -> float:
    """The radius of a teardrop's round end: as far as its sides, which run on from there towards the street, leave the way round too.

    Seen from the centre a side lies r / cos of the angle from its normal away; its normal lies acos((r − t) / d) from the street.
    """
    head = head_outline(q, street, end)
    toward = head.ring.points_at([0.0, head.ring.total]).mean(axis=0) - head.centre
    rim = head.ring.points_at([head.ends[0] if head.returns[0] else head.ends[1]])[0] - head.centre
    last = float(np.arccos(toward @ rim / np.hypot(*toward) / np.hypot(*rim)))
    drop = room
    while drop > _NARROW:
        normal = float(np.arccos(np.clip((drop - 0.5 * _NARROW) / (drop + _NOSE * radius), -1.0, 1.0)))
        if radius - drop / np.cos(max(0.0, normal - last)) >= wanted:
            break
        drop -= 0.1
    return round(drop, 2)


def handles(q: Engine, id: str) -> tuple[Handle, ...]:
    """Both ends, dragged along the street and beside it, and the sides at the ends, to make it wider."""
    made = island_of(q, id)
    if made.corners:
        return tuple(_corner(q, id, k) for k in range(len(made.corners)))
    if isinstance(q.attempt(outline, id), Unsolved):
        return ()
    return tuple(h for end in ("begin", "finish") for h in (_end(q, id, end), _width(q, id, end)) if made)


def _corner(q: Engine, id: str, k: int) -> Handle:
    chain, corners = chain_of(q, island_of(q, id).street), corners_placed(q, island_of(q, id))
    c = corners[k]
    east, north = chain.points_at([c.at], [c.beside])[0].tolist()

    def to(**values: float) -> Edit:
        return corners_edit(q, id, [*corners[:k], c.model_copy(update=values), *corners[k + 1 :]])

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        foot = chain.feet([place], extend=True)
        at, beside = round(float(foot.chainages[0]), 2), round(float(np.clip(foot.offsets[0], -50.0, 50.0)), 2)
        return to(at=at, beside=beside), (Told("at", "chainage", at, c.at), Told("left", "length", beside, c.beside))

    typed = (Typed("size", "a radius", lambda v: to(radius=float(np.clip(v, 0.1, 200.0)))),)
    return Handle(
        ("island corner", id, k), (east, north), f"{island_name(q, id)} corner {k + 1}", "square", moved, typed
    )


def _end(q: Engine, id: str, end: str) -> Handle:
    made, chain = island_of(q, id), chain_of(q, island_of(q, id).street)
    begin, finish, *_, beside = placed(q, made)
    at = begin if end == "begin" else finish
    turned = frame_of(q, made.street).turned
    key = {"begin": "finish", "finish": "begin"}[end] if turned else end
    east, north = chain.points_at([at], [beside])[0].tolist()

    def edit_for(s: float) -> Edit:
        return _to(id, key)(chain.total - s if turned else s)

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        s = float(np.clip(chain.feet([place], extend=True).chainages[0], *reaches(q, made.street)))
        s = round(min(s, finish) if end == "begin" else max(s, begin), 1)
        return edit_for(s), (Told("at", "chainage", s, at),)

    title = f"{island_name(q, id)} {'beginning' if end == 'begin' else 'end'}"
    return Handle(
        ("island end", id, end), (east, north), title, "square", moved, (Typed("chainage", "a chainage", edit_for),)
    )


def _width(q: Engine, id: str, end: str) -> Handle:
    made, chain = island_of(q, id), chain_of(q, island_of(q, id).street)
    begin, finish, wide_begin, wide_finish, beside = placed(q, made)
    at, wide = (begin, wide_begin) if end == "begin" else (finish, wide_finish)
    key = {"begin": "finish", "finish": "begin"}[end] if frame_of(q, made.street).turned else end
    east, north = chain.points_at([at], [beside + 0.5 * wide])[0].tolist()

    def edit_for(value: float) -> Edit:
        return _to(id, f"wide_{key}")(value)

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        value = max(_LEAST, round(2.0 * abs(float(chain.feet([place]).offsets[0]) - beside), 2))
        return edit_for(value), (Told("wide", "length", value, wide),)

    title = f"{island_name(q, id)} width"
    return Handle(
        ("island width", id, end), (east, north), title, "round", moved, (Typed("size", "a width", edit_for),)
    )
