"""What the plan draws, as queries: a view redraws a thing only when the answer is another object."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.chain import Chain
from humble_loop.ground.contour import contour_segments
from humble_loop.ground.surface import Surface
from humble_loop.site.model import End, Side
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine, Unsolved, query
from humble_loop.solve.head import head_outline, ring_normals
from humble_loop.solve.junction import (
    ENDS,
    SIDES,
    Joint,
    joint,
    joints_on,
    kerb_return,
    leg_side,
    require_joint,
    throat,
)
from humble_loop.solve.lot import lot_plan, lots, pad
from humble_loop.solve.section import (
    Edge,
    batters,
    edges,
    gaps,
    half_road,
    is_new,
    roadside,
    side_shape,
    strip_range,
)
from humble_loop.solve.street import (
    chain_of,
    crown_levels,
    ground_along,
    ground_of,
    lane_width,
    lip_line,
    lip_plan,
    side_sign,
)
from humble_loop.solve.surface import finished_mesh, street_pieces

_GAP = np.full((1, 2), np.nan)
_SAG = 0.03  # metres between a drawn chord and its curve


def joined_up(lines: list[Floats]) -> Floats:
    """Lines (each (k, 2)) as one array with NaN between, as plots take them."""
    if not lines:
        return np.empty((0, 2))
    return frozen(np.concatenate([p for line in lines for p in (line[:, :2], _GAP)]))


@dataclass(frozen=True)
class StreetLines:
    """A street in plan: NaN-separated lines (n, 2) by role."""

    centreline: Floats
    left_lip: Floats
    right_lip: Floats
    returns: Floats
    kerbs: Floats
    paths: Floats
    boundaries: Floats


_ROLE_OF = {
    "lip": "returns",
    "back of kerb": "kerbs",
    "path front": "paths",
    "path back": "paths",
    "boundary": "boundaries",
}


@query
def street_lines(q: Engine, street: str) -> StreetLines:
    """The lines of a street in plan, as far as they can be worked out.

    They rest on nothing that has a level, so a street is drawn before it has any, and stays as it is while
    levels are dragged.
    """
    chain = chain_of(q, street)
    by_role: dict[str, list[Floats]] = {k: [] for k in StreetLines.__dataclass_fields__ if k != "centreline"}
    for side in SIDES:
        lip = q.attempt(lip_plan, street, side)
        if not isinstance(lip, Unsolved):
            low, high = strip_range(q, street, side) if is_new(q, street) else (0.0, lip.chain.total)
            by_role[f"{side}_lip"].append(lip.chain.points_at(_within(lip.chain, low, high), lip.offset))
    for edge in edges(q, street):
        lines = q.attempt(edge_lines, edge)
        if isinstance(lines, Unsolved):
            continue
        for name, runs in lines:
            role = _ROLE_OF.get(name)
            if role is not None and (role, edge[0]) != ("returns", "side"):
                by_role[role].extend(runs)
    centreline_ = joined_up([chain.points_at(chain.sampled(sag=_SAG))])
    return StreetLines(centreline_, **{k: joined_up(v) for k, v in by_role.items()})


def _within(chain: Chain, low: float, high: float) -> Floats:
    """Chainages from ``low`` to ``high`` that follow the chain closely."""
    s = chain.sampled(sag=_SAG, reach=8.0)
    return np.concatenate([[low], s[(s > low + 1e-6) & (s < high - 1e-6)], [high]])


@query
def edge_lines(q: Engine, edge: Edge) -> tuple[tuple[str, tuple[Floats, ...]], ...]:
    """The lines of section points beside an edge of the road, in plan: name, and runs of points (n, 2)."""
    if edge[0] == "side":
        street, side = edge[1], SIDES[0] if edge[2] == "left" else SIDES[1]
        chain, shape, sign = chain_of(q, street), side_shape(q, street, side), side_sign(side)
        low, high = strip_range(q, street, side)
        holes = gaps(q, street, side)
        starts, ends = [low, *(b for _, b in holes)], [*(a for a, _ in holes), high]
        pieces = [_within(chain, a, b) for a, b in zip(starts, ends) if b > a]
        width = lane_width(q, street, side)
        return tuple(
            (name, tuple(chain.points_at(s, sign * (width + out)) for s in pieces))
            for name, out in zip(shape.names, shape.out)
        )
    if edge[0] == "corner":
        street, end, corner = edge[1], *_end_and_side(edge[2], edge[3])
        arc, last = kerb_return(q, street, end, corner).arc, side_shape(q, street, leg_side(end, corner))
        j = require_joint(q, street, end)
        first = side_shape(q, j.through, "left" if j.through_side > 0 else "right")
        line, first = arc.chain, first if is_new(q, j.through) and first.names == last.names else last
        outwards = (arc.centre - line.points_at(s := line.sampled(sag=_SAG))) / arc.radius
    else:
        outline = head_outline(q, edge[1])
        line, first, last = outline.ring, side_shape(q, edge[1], "left"), side_shape(q, edge[1], "right")
        outwards = ring_normals(outline, s := line.sampled(sag=_SAG, reach=8.0))
        if first.names != last.names:
            first = last
    t = (s / line.total)[:, None]
    base = line.points_at(s)
    return tuple(
        (name, (base + outwards * ((1 - t) * a + t * b),)) for name, a, b in zip(last.names, first.out, last.out)
    )


def _end_and_side(end: str, side: str) -> tuple[End, Side]:
    return ENDS[0] if end == "start" else ENDS[1], SIDES[0] if side == "left" else SIDES[1]


@dataclass(frozen=True)
class BatterLines:
    """A street's batters in plan: toes, and hachures of cut and fill, as NaN-separated lines (n, 2)."""

    toes: Floats
    cut_hachures: Floats
    fill_hachures: Floats


@query
def batter_lines(q: Engine, street: str) -> BatterLines:
    """The batters of a street in plan, with hachures from the top of the slope, long and short in turn."""
    by_role: dict[str, list[Floats]] = {"toes": [], "cut_hachures": [], "fill_hachures": []}
    for edge in edges(q, street):
        made = q.attempt(batters, edge)
        if isinstance(made, Unsolved) or not len(made.index):
            continue
        hinge, toe = roadside(q, edge).points[made.index, -1, :2], made.toes.points[:, :2]
        by_role["toes"].extend(np.split(toe, np.flatnonzero(~made.joined) + 1))
        for k, (h, t, cut) in enumerate(zip(hinge, toe, made.toes.cut)):
            top, bottom = (t, h) if cut else (h, t)
            stroke = np.stack([top, top + (bottom - top) * (0.9 if k % 2 else 0.45)])
            by_role["cut_hachures" if cut else "fill_hachures"].append(stroke)
    return BatterLines(**{k: joined_up(v) for k, v in by_role.items()})


@dataclass(frozen=True)
class LotLines:
    """Lots of a street in plan: for each its name, outline, pad, pad level, mean cut (−) or fill (+) depth, and state."""

    names: tuple[str, ...]
    outlines: tuple[Floats, ...]
    pads: tuple[Floats, ...]
    levels: Floats
    depths: Floats
    states: tuple[str, ...]
    out_of_window: tuple[bool, ...]


@query
def lot_lines(q: Engine, street: str) -> LotLines:
    """The lots of a street as the plan draws them."""
    names, outlines, pads, levels, depths, states, out = [], [], [], [], [], [], []
    for lot in lots(q, street):
        plan, level = q.attempt(lot_plan, street, lot.name), q.attempt(pad, street, lot.name)
        if isinstance(plan, Unsolved) or isinstance(level, Unsolved):
            continue
        names.append(lot.name)
        outlines.append(plan.outline)
        pads.append(plan.pad)
        levels.append(level.level)
        depths.append(level.level - level.wanted)
        states.append(level.state)
        out.append(not level.low - 1e-6 <= level.level <= level.high + 1e-6)
    return LotLines(
        tuple(names), tuple(outlines), tuple(pads), frozen(levels), frozen(depths), tuple(states), tuple(out)
    )


@query
def ground_contours(q: Engine) -> tuple[Floats, Floats, Floats, Floats]:
    """Contours of the ground as pairs of points (2k, 2): ordinary and every fifth, with their levels (k,)."""
    interval = parts.settings(q).contour_interval
    segments, levels = contour_segments(ground_of(q), interval)
    main = np.abs(np.mod(np.round(levels / interval), 5)) < 0.5
    return (
        frozen(segments[~main].reshape(-1, 2)),
        frozen(segments[main].reshape(-1, 2)),
        frozen(levels[~main]),
        frozen(levels[main]),
    )


@query
def fine_contours(q: Engine, street: str) -> tuple[Floats, Floats]:
    """Fine contours as pairs of points across a street's carriageway, junctions and bulb, and flow arrows (n, 4)."""
    interval = parts.settings(q).fine_contour_interval
    pairs, arrows = [], []
    for piece in street_pieces(q, street):
        if piece[0] not in ("carriageway", "junction", "bulb"):
            continue
        made = q.attempt(finished_mesh, piece)
        if isinstance(made, Unsolved) or made.surface.empty:
            continue
        segments, _ = contour_segments(made.surface, interval)
        pairs.append(segments.reshape(-1, 2))
        arrows.append(_flow(made.surface))
    return (
        frozen(np.concatenate(pairs)) if pairs else np.empty((0, 2)),
        frozen(np.concatenate(arrows)) if arrows else np.empty((0, 4)),
    )


def _flow(surface: Surface) -> Floats:
    """Arrows (n, 4) on a regular grid: place and unit direction of the steepest fall."""
    west, south, east, north = surface.bounds
    step = 3.0
    x, y = np.meshgrid(
        np.arange(np.ceil(west / step), np.floor(east / step) + 1) * step,
        np.arange(np.ceil(south / step), np.floor(north / step) + 1) * step,
    )
    at = np.column_stack([x.ravel(), y.ravel()])
    if not len(at):
        return np.empty((0, 4))
    slope = -surface.slopes(at)
    size = np.hypot(slope[:, 0], slope[:, 1])
    keep = np.isfinite(size) & (size > 1e-4)
    return np.column_stack([at[keep], slope[keep] / size[keep, None]])


@dataclass(frozen=True)
class SectionLines:
    """A street's long section: chainages (n,) with levels of ground, crown and lips, and grade line points."""

    chainages: Floats
    crown: Floats
    ground: tuple[Floats, Floats]
    left: tuple[Floats, Floats]
    right: tuple[Floats, Floats]
    crossings: tuple[tuple[str, float, float], ...]


@query
def section_lines(q: Engine, street: str) -> SectionLines:
    """What the long section of a street draws."""
    chain = chain_of(q, street)
    ground = ground_along(q, street)
    s = np.unique(np.concatenate([np.linspace(0, chain.total, 161), chain.key_chainages()]))
    try:
        crown = crown_levels(q, street, s)
    except Unsolved:
        crown = np.full_like(s, np.nan)
    lips = {}
    for side in SIDES:
        if is_new(q, street):
            half = q.attempt(half_road, street, side)
            lips[side] = (np.empty(0), np.empty(0)) if isinstance(half, Unsolved) else (half.chainages, half.lip[:, 2])
        else:
            lip = q.attempt(lip_line, street, side)
            if isinstance(lip, Unsolved):
                lips[side] = (np.empty(0), np.empty(0))
            else:
                feet = chain.feet(lip.chain.points_at(lip.profile.chainages, lip.offset))
                lips[side] = (feet.chainages, lip.profile.levels)
    return SectionLines(
        frozen(s), frozen(crown), (ground.chainages, ground.levels), lips["left"], lips["right"], _crossings(q, street)
    )


def _crossings(q: Engine, street: str) -> tuple[tuple[str, float, float], ...]:
    """Other streets on this one: name, chainage here and level of their crown there."""
    found = []
    for other, end in joints_on(q, street):
        j, t = q.attempt(joint, other, end), q.attempt(throat, other, end)
        if isinstance(j, Joint) and not isinstance(t, Unsolved):
            found.append((parts.street_name(q, other), j.through_chainage, t.level))
    for end in ENDS:
        j = q.attempt(joint, street, end)
        if isinstance(j, Joint):
            t = q.attempt(throat, street, end)
            if not isinstance(t, Unsolved):
                found.append((parts.street_name(q, j.through), t.side_chainage, t.level))
    return tuple(found)


@dataclass(frozen=True)
class CrossLines:
    """A cross section as it is looked at along increasing chainage: distance to the right, and level.

    ``ground`` (n, 2); ``design`` (m, 2) from the left toe to the right one, with point names.
    """

    ground: Floats
    design: Floats
    names: tuple[str, ...]
    crown: float


def cross_lines(q: Engine, street: str, chainage: float, reach: float = 16.0) -> CrossLines | None:
    """The cross section of a street at a chainage, at the nearest worked row; None where nothing is designed."""
    chain = chain_of(q, street)
    s = float(np.clip(chainage, 0.0, chain.total))
    offsets = np.linspace(-reach, reach, 129)
    p = chain.points_at(np.full_like(offsets, s), offsets)
    ground = np.column_stack([-offsets[::-1], ground_of(q).levels(p)[::-1]])
    try:
        crown = float(crown_levels(q, street, [s])[0])
    except Unsolved:
        return CrossLines(frozen(ground), np.empty((0, 2)), (), float("nan"))
    design, names = [(0.0, crown)], ["crown"]
    if is_new(q, street):
        for side in SIDES:
            line, line_names = _half_section(q, street, side, s)
            design = [*line[::-1], *design] if side == "left" else [*design, *line]
            names = [*line_names[::-1], *names] if side == "left" else [*names, *line_names]
    array = np.array(design)
    array = array[np.argsort(array[:, 0], kind="stable")]
    order = np.argsort([d[0] for d in design], kind="stable")
    return CrossLines(frozen(ground), frozen(array), tuple(names[i] for i in order), crown)


def _half_section(q: Engine, street: str, side: str, s: float) -> tuple[list[tuple[float, float]], list[str]]:
    side_ = SIDES[0] if side == "left" else SIDES[1]
    sign = 1.0 if side == "left" else -1.0
    beside = q.attempt(roadside, ("side", street, side))
    if (
        isinstance(beside, Unsolved)
        or len(beside.along) < 2
        or not beside.along[0] - 1e-6 <= s <= beside.along[-1] + 1e-6
    ):
        return [], []
    i = int(np.clip(np.searchsorted(beside.along, s, side="right") - 1, 0, len(beside.along) - 2))
    if not beside.joined[i]:
        return [], []
    t = (s - beside.along[i]) / (beside.along[i + 1] - beside.along[i])
    base = chain_of(q, street).points_at(beside.along[i : i + 2])
    out = np.hypot(*(beside.points[i : i + 2, :, :2] - base[:, None, :]).transpose(2, 0, 1))
    offset = -sign * ((1 - t) * out[0] + t * out[1])
    level = (1 - t) * beside.points[i, :, 2] + t * beside.points[i + 1, :, 2]
    line, names = list(zip(offset.tolist(), level.tolist())), list(beside.names)
    made = q.attempt(batters, ("side", street, side_))
    if not isinstance(made, Unsolved):
        at = np.flatnonzero((made.index == i) | (made.index == i + 1))
        if len(at) == 2 and made.joined[at[0]]:
            reach = (1 - t) * made.toes.reach[at[0]] + t * made.toes.reach[at[1]]
            z = (1 - t) * made.toes.points[at[0], 2] + t * made.toes.points[at[1], 2]
            line.append((line[-1][0] - sign * float(reach), float(z)))
            names.append("toe")
    return line, names
