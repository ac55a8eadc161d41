"""How a turning head shows itself."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, left_normals, tangents
from humble_loop.kinds.junction.nodes import joint, taken
from humble_loop.kinds.junction.vehicles import VEHICLES
from humble_loop.kinds.street.plan import chain_of, drawn_end, end_point, is_new, name_of
from humble_loop.kinds.street.show import SAG, role_in_plan
from humble_loop.kinds.turning_head.layout import HeadLine, HeadShape, head_shape, leaves_at, outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.kinds.turning_head.model import HeadKind, remove_head, set_head, shape_head
from humble_loop.kinds.turning_head.place import approach, head_at, head_name, heads_of
from humble_loop.kinds.turning_head.sizes import HeadSizes, head_sizes
from humble_loop.kinds.turning_head.vips import difference, plan_handles, to_own, to_radial
from humble_loop.lines.describe import (
    Actions,
    Choice,
    Drawing,
    Fact,
    Handle,
    Mark,
    Note,
    Place,
    Row,
    Told,
    Typed,
    Unit,
)
from humble_loop.lines.drawn import drawn_in, strokes
from humble_loop.site.edits import Edit
from humble_loop.site.model import ENDS, SIDES, End, Side, side_sign

SHAPES: tuple[tuple[HeadKind, str], ...] = (
    ("bulb", "bulb"),
    ("hammerhead", "hammerhead"),
    ("Y", "Y"),
    ("left arm", "an arm to the left"),
    ("right arm", "an arm to the right"),
)
_OFFERS: tuple[tuple[HeadKind, str, str], ...] = (
    ("bulb", "End it in a bulb", "Begin it with a bulb"),
    ("hammerhead", "End it in a hammerhead", "Begin it with a hammerhead"),
)
_SIDED = (("both", "on both sides"), ("left", "to the left"), ("right", "to the right"))
_OUTLETS = (("auto", "by itself"), ("street", "to the street"), ("pit", "to a pit"), ("draw", "to a draw"))
_ENDS = (("kerb", "kerb"), ("open", "kerb down, for a driveway"))
_LEAST = 0.5  # metres of a size that is dragged
_RIM = np.cos(np.pi / 4), np.sin(np.pi / 4)  # ahead and to the left: where the rim is taken, aside of the turn


def drawing(q: Engine, street: str, end: End) -> Drawing:
    """The lines round a head."""
    shape = _shape(q, street, end)
    names = ("lip",) if shape is None else shape.first.names
    lines = ((role_in_plan(point, None, corner=True), HeadLine(street, end, point)) for point in names)
    return strokes(drawn_in(q, lines, SAG))


def _shape(q: Engine, street: str, end: End) -> HeadShape | None:
    try:
        return head_shape(q, street, end)
    except Unsolved:
        return None


# Facts


class _Head:
    """A head with its sizes, and the facts and edits of them."""

    def __init__(self, q: Engine, street: str, end: End) -> None:
        self.q, self.street, self.end = q, street, end
        self.choice, self.drawn = head_at(q, street, end), drawn_end(q, street, end)
        made = q.attempt(head_sizes, street, end)
        self.sizes: HeadSizes | None = None if isinstance(made, Unsolved) else made
        laid = q.attempt(outline, street, end)
        self.laid = None if isinstance(laid, Unsolved) else laid
        self.wrong = f"{laid.message}; {laid.remedy}" if isinstance(laid, Unsolved) else ""

    def to(self, key: str) -> Callable[[Any], Edit]:
        return lambda value: lambda site: set_head(site, self.street, self.drawn, **{key: value})

    def size(self, label: str, key: str, used: float, unit: Unit = "size", inner: bool = False) -> Fact:
        """A size as it is used: set, or proposed until it is."""
        given, edit = getattr(self.choice, key) is not None, self.to(key)
        switch = edit(None) if given else edit(round(used, 4))
        return Fact(label, unit, used, "set" if given else "proposed", edit, switch, inner=inner)

    def bulb(self, sizes: HeadSizes) -> list[Row]:
        rows: list[Row] = [
            self.size("bulb radius", "radius", sizes.radius),
            Choice("swells", _SIDED, self.choice.sided, self.to("sided")),
        ]
        if self.choice.sided == "both":
            rows.append(Fact("offset left", "length", self.choice.offset, "set", self.to("offset")))
        for k, seen in enumerate(SIDES):
            if self.choice.sided in ("both", seen):
                rows += self._return(k, seen)
        return rows

    def _return(self, k: int, seen: Side) -> list[Row]:
        """The return on one side: its radius, and how far before the centre it begins; either follows from the other."""
        if self.laid is None or self.sizes is None:
            return []
        begins = f"approach_{seen}"
        approached = getattr(self.choice, begins) is not None
        starts = self.to(begins)
        base = (self.laid.base_left, self.laid.base_right)[k]
        back = approach(self.q, self.street, self.end).total - base
        if not approached:
            radius = self.size(f"{seen} return", f"return_{seen}", self.laid.returns[k], inner=True)
        else:
            radius = Fact(f"{seen} return", "size", self.laid.returns[k], "worked out", inner=True)
        state, switch = ("set", starts(None)) if approached else ("worked out", None)
        return [radius, Fact("begins before the centre", "size", back, state, starts, switch, inner=True)]

    def arms(self, sizes: HeadSizes) -> list[Row]:
        rows: list[Row] = []
        for seen, long in zip(SIDES, (sizes.left_arm, sizes.right_arm)):
            if long:
                rows.append(self.size(f"{seen} arm", f"{seen}_arm", long))
                rows.append(self._end(seen))
        rows += [
            self.size("arms' width", "arm_width", sizes.arm_width),
            self.size("arms' angle", "arm_angle", sizes.arm_angle, "angle"),
            self.size("return radius", "return_radius", max(sizes.returns)),
            self.size("corner radius", "corner", sizes.corner),
        ]
        return rows

    def _end(self, seen: Side) -> Choice:
        opened = self.choice.open_ends
        to = self.to("open_ends")

        def edit(value: str) -> Edit:
            rest = tuple(s for s in opened if s != seen)
            return to((*rest, seen) if value == "open" else rest)

        return Choice("its end", _ENDS, "open" if seen in opened else "kerb", edit, True)


def facts(q: Engine, street: str, end: End) -> tuple[Row, ...]:
    """Shape, sizes and levels of a head."""
    h = _Head(q, street, end)
    shape: Callable[[Any], Edit] = lambda kind: lambda site: shape_head(site, street, h.drawn, kind)  # noqa: E731
    rows: list[Row] = [
        Choice("shape", SHAPES, h.choice.kind, shape),
        Choice("for a", tuple((v.key, v.name) for v in VEHICLES), h.choice.vehicle, h.to("vehicle")),
    ]
    if h.sizes is not None:
        rows += h.bulb(h.sizes) if h.choice.kind == "bulb" else h.arms(h.sizes)
    if h.laid is None:
        return (*rows, Note(h.wrong), _away(h))
    return (*rows, *_level_rows(h), _away(h))


def _level_rows(h: _Head) -> list[Row]:
    q, street, end, own = h.q, h.street, h.end, bool(h.choice.vips)
    rows: list[Row] = [_ways(h)]
    if not own:
        rows += [
            Fact("radial fall", "grade", h.choice.fall, "set", h.to("fall")),
            Choice("drains", _OUTLETS, h.choice.outlet, h.to("outlet")),
        ]
    levels = q.attempt(ring_levels, street, end)
    if isinstance(levels, Unsolved):
        return [*rows, Note(f"{levels.message}; {levels.remedy}")]
    assert h.laid is not None
    turn = float(levels.rule.levels([levels.turn])[0])
    away = float(np.hypot(*(h.laid.ring.points_at([levels.turn])[0] - h.laid.centre)))
    what = "high point of the lip" if levels.outlet == "street" else levels.outlet
    rows += [
        Fact("centre", "level", levels.centre, "tied"),
        Fact(what, "level", turn, "worked out" if own else "proposed"),
    ]
    if not own:
        total, edit = h.laid.ring.total, h.to("turn")
        given = h.choice.turn is not None
        to: Callable[[Any], Edit] = lambda v: edit(round(float(np.clip(v / total, 0.005, 0.995)), 6))  # noqa: E731
        switch = edit(None) if given else to(levels.turn)
        rows.append(Fact("which is round", "length", levels.turn, "set" if given else "proposed", to, switch))
    return [*rows, Fact("fall from the centre there", "grade", (levels.centre - turn) / away)]


def _ways(h: _Head) -> Choice:
    """Both ways of levels, and what going over to the other would do."""
    by = difference(h.q, h.street, h.end)
    told = "" if by is None else f" (down to −{by[0]:.3f}, up to +{by[1]:.3f} m)"
    options = (("radial", f"fall from its centre{told}"), ("own", "its own grade line"))
    q, street, end = h.q, h.street, h.end
    now = "own" if h.choice.vips else "radial"

    def edit(value: str) -> Edit:
        if value == now:
            return lambda site: site
        return to_own(q, street, end) if value == "own" else to_radial(q, street, end)

    return Choice("levels of its lip", options, now, edit)


def _away(h: _Head) -> Actions:
    words = f"Take the {'bulb' if h.choice.kind == 'bulb' else 'head'} away"
    return Actions(((words, lambda s: remove_head(s, h.street, h.drawn)),))


def about_street(q: Engine, street: str) -> tuple[Row, ...]:
    """A street's heads, or the offer of one, for its facts."""
    if not is_new(q, street):
        return ()
    rows: list[Row] = []
    standing = dict(heads_of(q, street))
    offers: list[tuple[str, Edit]] = []
    for end in ENDS:
        if end in standing:
            words = head_name(q, street, end).removeprefix(f"{name_of(q, street)} ").capitalize()
            rows += [
                Note(words if end == "end" or "start" in words else f"{words} at its start"),
                *facts(q, street, end),
            ]
        elif joint(q, street, end) is None and not taken(q, street, end_point(q, street, end)):
            drawn = drawn_end(q, street, end)
            for kind, at_end, at_start in _OFFERS:
                words = at_end if end == "end" else at_start
                offers.append((words, lambda s, d=drawn, k=kind: shape_head(s, street, d, k)))  # type: ignore[misc]
    if offers and not standing:
        rows.append(Actions(tuple(offers)))
    return tuple(rows)


# By hand


def handles(q: Engine, street: str, end: End) -> tuple[Handle, ...]:
    """A head's sizes, and its levels where they are dragged round its lip."""
    h = _Head(q, street, end)
    sized = _bulb_handles(h) if h.choice.kind == "bulb" else _arm_handles(h)
    return (*sized, *plan_handles(q, street, end))


def _told(h: _Head) -> Callable[[Engine], str]:
    def rule(q: Engine) -> str:
        made = q.attempt(outline, h.street, h.end)
        return made.message if isinstance(made, Unsolved) else f"lip {made.ring.total:.2f} round"

    return rule


def _frame(h: _Head) -> tuple[Floats, Floats, Floats]:
    """The street's end (2,), and the directions (2,) straight ahead and to the left there."""
    chain = approach(h.q, h.street, h.end)
    heading = float(chain.at([chain.total]).headings[0])
    return chain.points_at([chain.total])[0], tangents(heading), left_normals(heading)


def _sized(h: _Head, key: str, place: Floats, title: str, value: float, measure: Callable[[Place], float]) -> Handle:
    """A handle whose place is measured as one of the head's sizes."""
    edit, label = h.to(key), title

    def moved(at: Place) -> tuple[Edit, tuple[Told, ...]]:
        now = max(_LEAST, round(measure(at), 2))
        return edit(now), (Told(label, "length", now, value),)

    name = head_name(h.q, h.street, h.end)
    by = (Typed("size", f"a {title}", edit),)
    at = float(place[0]), float(place[1])
    full = name if key == "radius" else f"{name} {title}"
    return Handle((f"head {key}", h.street, h.end), at, full, "round", moved, by, _told(h))


def _bulb_handles(h: _Head) -> tuple[Handle, ...]:
    """The rim, the centre, and where each return begins on its straight lip."""
    tip, ahead, left = _frame(h)
    sizes = h.sizes
    if sizes is None:
        return ()
    centre = tip + left * h.choice.offset if h.laid is None else h.laid.centre
    found = [
        _sized(
            h,
            "radius",
            centre + sizes.radius * (_RIM[0] * ahead + _RIM[1] * left),
            "radius",
            sizes.radius,
            lambda p: float(np.hypot(*(np.array(p) - centre))),
        )
    ]
    if h.choice.sided == "both":
        edit, inside = h.to("offset"), centre + ahead * 0.35 * sizes.radius

        def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
            value = round(float((np.array(place) - tip) @ left), 2)
            return edit(value), (Told("offset to the left", "length", value, h.choice.offset),)

        typed = (Typed("length", "an offset to the left", edit),)
        name = head_name(h.q, h.street, h.end)
        at = float(inside[0]), float(inside[1])
        found.append(Handle(("head offset", h.street, h.end), at, f"{name} offset", "round", moved, typed, _told(h)))
    if h.laid is not None:
        chain = approach(h.q, h.street, h.end)
        ends = (h.laid.base_left, 0.0), (h.laid.base_right, h.laid.ring.total)
        for seen, (base, at_ring) in zip(SIDES, ends):
            if h.choice.sided in ("both", seen):
                place = h.laid.ring.points_at([at_ring])[0]
                back: Callable[[Place], float] = lambda p: chain.total - float(chain.feet([p]).chainages[0])  # noqa: E731
                found.append(_sized(h, f"approach_{seen}", place, f"{seen} approach", chain.total - base, back))
    return tuple(found)


def _arm_handles(h: _Head) -> tuple[Handle, ...]:
    """The ends of the arms, and how wide they are."""
    tip, ahead, left = _frame(h)
    if h.sizes is None:
        return ()
    found, angle, half = [], np.radians(h.sizes.arm_angle), 0.5 * h.sizes.arm_width
    for seen, long in zip(SIDES, (h.sizes.left_arm, h.sizes.right_arm)):
        if not long:
            continue
        sign = side_sign(seen)
        out = np.cos(angle) * ahead + np.sin(angle) * sign * left
        along: Callable[[Place], float] = lambda p, out=out: float((np.array(p) - tip) @ out)  # type: ignore[misc]  # noqa: E731
        found.append(_sized(h, f"{seen}_arm", tip + long * out, f"{seen} arm", long, along))
        if len(found) == 1:
            square = np.sin(angle) * ahead - np.cos(angle) * sign * left  # from the arm's middle to its far edge
            wide: Callable[[Place], float] = lambda p, square=square: 2.0 * float((np.array(p) - tip) @ square)  # type: ignore[misc]  # noqa: E731
            found.append(
                _sized(h, "arm_width", tip + 0.6 * long * out + half * square, "width of its arms", 2.0 * half, wide)
            )
    return tuple(found)


def ribbon(q: Engine, street: str) -> tuple[Mark, ...]:
    """Heads at the ends of a street's strip."""
    found = []
    for end, head in heads_of(q, street):
        laid = q.attempt(outline, street, end)
        if isinstance(laid, Unsolved):
            continue
        at = [leaves_at(q, street, end, seen) for seen in SIDES]
        total, beyond = chain_of(q, street).total, float(np.hypot(*(laid.ring.points_at([laid.turn])[0] - laid.centre)))
        a, b = (min(at), total + beyond) if end == "end" else (-beyond, max(at))
        found.append(Mark("head", "across", a, b, "bulb" if head.kind == "bulb" else "head"))
    return tuple(found)
