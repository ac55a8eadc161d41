"""The level trail: the reasons behind a level, as steps with numbers, back to set levels and ground.

A step's value is the sum of its terms; a term that rests on another step is a factor times that step's value. The
steps read the same queries as everything else, so they cannot disagree with the model.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from humble_loop.site.model import End, Side
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine, Unsolved
from humble_loop.solve.head import head_levels, head_outline, require_head
from humble_loop.solve.junction import (
    ENDS,
    joint,
    junction_name,
    kerb_return,
    leg_side,
    require_joint,
    return_levels,
    throat,
)
from humble_loop.solve.lot import find_lot, frontage_levels, frontage_stretches, pad
from humble_loop.solve.section import Edge, is_new, roadside, side_shape
from humble_loop.solve.street import (
    chain_of,
    crossfall,
    crown_levels,
    grade_line,
    ground_of,
    lane_width,
    lip_line,
)
from humble_loop.solve.surface import PieceId, probe


@dataclass(frozen=True)
class Term:
    """A part of a step's value. ``amount`` is ``factor`` times the value of ``step`` where there is one."""

    words: str
    amount: float
    step: Step | None = None
    factor: float = 1.0


@dataclass(frozen=True)
class Step:
    """A quantity and how it comes about.

    ``source`` is 'set', 'proposed', 'tied', 'ground', 'survey' or 'worked out'. A step without terms is where a
    trail ends: a set value, a proposal, or the ground.
    """

    quantity: str
    value: float
    rule: str
    source: str
    terms: tuple[Term, ...] = ()

    def walk(self) -> Iterator[Step]:
        """This step and all it rests on."""
        yield self
        for t in self.terms:
            if t.step is not None:
                yield from t.step.walk()

    def lines(self, depth: int = 0, every: int = 12) -> list[str]:
        """The trail as indented text, at most ``every`` deep."""
        pad_ = "  " * depth
        out = [f"{pad_}{self.quantity} = {_number(self.value)}  [{self.source}] {self.rule}"]
        for t in self.terms:
            if t.step is None or depth >= every:
                out.append(f"{pad_}  {t.amount:+.4f}  {t.words}")
            elif t.factor == 1.0:
                out.extend(t.step.lines(depth + 1, every))
            else:
                out.append(f"{pad_}  {t.amount:+.4f}  {t.words}, times")
                out.extend(t.step.lines(depth + 2, every))
        return out


def _number(value: float) -> str:
    return f"{value:.4f}"


def _percent(value: float) -> str:
    return f"{100 * value:+.2f} %".replace("-", "−")


def _made(quantity: str, rule: str, terms: list[Term], source: str = "worked out") -> Step:
    return Step(quantity, float(sum(t.amount for t in terms)), rule, source, tuple(terms))


def _term(words: str, step: Step, factor: float = 1.0) -> Term:
    return Term(words, factor * step.value, step, factor)


def explain_vip(q: Engine, street: str, i: int) -> Step:
    """The level of VIP ``i`` of the grade line as worked out."""
    line, name = grade_line(q, street), parts.street_name(q, street)
    s, z = float(line.profile.chainages[i]), float(line.profile.levels[i])
    what = f"{name} VIP at {s:.2f}"
    state, index = line.states[i], line.index[i]
    if not is_new(q, street) and index < 0:
        return Step(what, z, "the ground under the existing street", "ground")
    if state == "tied":
        end: End = "start" if i == 0 else "end"
        return _made(
            what,
            f"tied to the lip of {parts.street_name(q, require_joint(q, street, end).through)} at the throat",
            [_term("throat", explain_throat(q, street, end))],
            "tied",
        )
    if state == "set":
        vip = parts.street_vips(q, street)[index]
        if vip.grade is not None:
            run = s - float(line.profile.chainages[i - 1])
            return _made(
                what,
                f"grade set to {_percent(vip.grade)} from the VIP before",
                [
                    _term("VIP before", explain_vip(q, street, i - 1)),
                    Term(f"{_percent(vip.grade)} × {run:.2f} m", z - float(line.profile.levels[i - 1])),
                ],
                "set",
            )
        return Step(what, z, "level set", "set")
    return Step(what, z, "proposed from the ground", "proposed")


def explain_leg(q: Engine, street: str, i: int) -> Step:
    """The grade of leg ``i`` of a grade line, from its two VIPs."""
    p = grade_line(q, street).profile
    run = float(p.chainages[i + 1] - p.chainages[i])
    return _made(
        f"grade from {p.chainages[i]:.2f} to {p.chainages[i + 1]:.2f}",
        f"level difference over {run:.2f} m",
        [
            _term("VIP after", explain_vip(q, street, i + 1), 1.0 / run),
            _term("VIP before", explain_vip(q, street, i), -1.0 / run),
        ],
    )


def _on_profile(q: Engine, street: str, s: float) -> Step:
    p = grade_line(q, street).profile
    i = int(np.clip(np.searchsorted(p.chainages, s, side="right") - 1, 0, p.chainages.size - 2))
    run = s - float(p.chainages[i])
    terms = [_term("VIP", explain_vip(q, street, i))]
    if run != 0:
        leg = explain_leg(q, street, i)
        terms.append(_term(f"{_percent(leg.value)} × {run:.2f} m", leg, run))
    for vip in (i, i + 1):
        into = 0.5 * float(p.curves[vip]) - abs(s - float(p.chainages[vip]))
        if into > 0:
            amount = float(p.changes[vip]) / (2 * float(p.curves[vip])) * into * into
            terms.append(
                Term(
                    f"parabola of {p.curves[vip]:.2f} m, {_percent(float(p.changes[vip]))} change, {into:.2f} m into it",
                    amount,
                )
            )
    return _made(f"{parts.street_name(q, street)} crown at {s:.2f}", "on the grade line", terms)


def explain_crown(q: Engine, street: str, s: float) -> Step:
    """The crown's level at a chainage."""
    what = f"{parts.street_name(q, street)} crown at {s:.2f}"
    for end in ENDS:
        j = joint(q, street, end)
        if j is None or not is_new(q, street):
            continue
        t = throat(q, street, end)
        if (s < t.side_chainage - 1e-9) if end == "start" else (s > t.side_chainage + 1e-9):
            if not is_new(q, j.through):
                return Step(what, float(crown_levels(q, street, [s])[0]), "on the existing street's surface", "ground")
            side: Side = "left" if j.through_side > 0 else "right"
            foot = chain_of(q, j.through).feet(chain_of(q, street).points_at([s]))
            fall, out = parts.section(q, j.through).side(side).lane.grade, abs(float(foot.offsets[0]))
            return _made(
                what,
                f"on the surface of {parts.street_name(q, j.through)}, whose crown holds",
                [
                    _term("through crown", _on_profile(q, j.through, float(foot.chainages[0]))),
                    Term(f"{_percent(fall)} × {out:.2f} m", fall * out),
                ],
                "tied",
            )
    return _on_profile(q, street, s)


def explain_lip_line(q: Engine, street: str, side: Side, s: float) -> Step:
    """The level of a street's lip line as other things tie to it, at its own chainage."""
    lip = lip_line(q, street, side)
    what = f"{parts.street_name(q, street)} {side} lip at {s:.2f}"
    if lip.surveyed:
        named = parts.street_frame(q, street).left_lip if side == "left" else parts.street_frame(q, street).right_lip
        words = f"surveyed lip '{parts.survey_line(q, named).name}'" if named else "the ground at the existing lip"
        return Step(what, lip.level(s), words, "survey" if named else "ground")
    fall = float(lip.crossfall(s))
    return _made(
        what,
        "crown and crossfall",
        [
            _term("crown", _on_profile(q, street, s)),
            Term(f"crossfall {_percent(fall)} × {lip.width:.2f} m", fall * lip.width),
        ],
    )


def explain_throat(q: Engine, street: str, end: End) -> Step:
    """The level at a throat: the through lip's level where the side crown line crosses it."""
    j, t = require_joint(q, street, end), throat(q, street, end)
    lip = explain_lip_line(q, j.through, "left" if j.through_side > 0 else "right", t.through_at)
    return _made(
        f"{junction_name(q, street, end)} throat", "the through lip's level there", [_term("through lip", lip)], "tied"
    )


def explain_lip(q: Engine, street: str, side: Side, s: float) -> Step:
    """The level of a street's lip at a chainage, by its section."""
    fall, width = float(crossfall(q, street, side)(s)), lane_width(q, street, side)
    normal = parts.section(q, street).side(side).lane.grade
    words = f"crossfall {_percent(fall)} × {width:.2f} m"
    if abs(fall - normal) > 1e-12:
        words += ", turning from flat along the through lip"
    return _made(
        f"{parts.street_name(q, street)} {side} lip at {s:.2f}",
        "crown and crossfall",
        [_term("crown", explain_crown(q, street, s)), Term(words, fall * width)],
    )


def _lip_grade(q: Engine, street: str, s: float, value: float, words: str) -> Step:
    """A lip's grade: that of the leg of the grade line there, and what curves and offset add."""
    p = grade_line(q, street).profile
    if not is_new(q, street):
        return Step(words, value, "grade of the existing lip", "survey")
    i = int(np.clip(np.searchsorted(p.chainages, s, side="right") - 1, 0, p.chainages.size - 2))
    leg = explain_leg(q, street, i)
    factor = 1.0 if value * leg.value >= 0 else -1.0
    terms = [_term("leg of the grade line", leg, factor)]
    rest = value - factor * leg.value
    if abs(rest) > 1e-15:
        terms.append(Term("curve of the grade line, and the lip's length against the centreline's", rest))
    return _made(words, "grade of the lip there, in the direction of the return", terms)


def explain_return(q: Engine, street: str, end: End, corner: Side, s: float) -> Step:
    """The level on a return, ``s`` metres from the through lip."""
    j, made, cubic = (
        require_joint(q, street, end),
        kerb_return(q, street, end, corner),
        return_levels(q, street, end, corner).cubic,
    )
    side = leg_side(end, corner)
    w = cubic.weights([s])[0]
    through_side: Side = "left" if j.through_side > 0 else "right"
    start = explain_lip_line(q, j.through, through_side, made.through_at)
    normal, width = parts.section(q, street).side(side).lane.grade, lane_width(q, street, side)
    finish = _made(
        f"{parts.street_name(q, street)} {side} lip at {made.side_chainage:.2f}",
        "crown and normal crossfall",
        [
            _term("crown", explain_crown(q, street, made.side_chainage)),
            Term(f"crossfall {_percent(normal)} × {width:.2f} m", normal * width),
        ],
    )
    return _made(
        f"{junction_name(q, street, end)} {corner} return, {s:.2f} m along",
        "cubic meeting both lips in level and grade",
        [
            _term("through lip's level", start, float(w[0])),
            _term(
                "through lip's grade",
                _lip_grade(q, j.through, made.through_at, cubic.m0, "grade leaving the through lip"),
                float(w[1]),
            ),
            _term("side lip's level", finish, float(w[2])),
            _term(
                "side lip's grade",
                _lip_grade(q, street, made.side_chainage, cubic.m1, "grade reaching the side lip"),
                float(w[3]),
            ),
        ],
        "tied",
    )


def explain_ring(q: Engine, street: str, u: float) -> Step:
    """The level of a bulb's lip, ``u`` metres round from the left lip's tangent point."""
    levels = head_levels(q, street)
    p = levels.profile
    i = int(np.clip(np.searchsorted(p.chainages, u, side="right") - 1, 0, p.chainages.size - 2))
    run, length = u - float(p.chainages[i]), float(p.chainages[i + 1] - p.chainages[i])
    terms = [
        _term("before", _ring_vip(q, street, i), 1 - run / length),
        _term("after", _ring_vip(q, street, i + 1), run / length),
    ]
    for vip in (i, i + 1):
        into = 0.5 * float(p.curves[vip]) - abs(u - float(p.chainages[vip]))
        if into > 0:
            terms.append(
                Term(
                    f"parabola of {p.curves[vip]:.2f} m",
                    float(p.changes[vip]) / (2 * float(p.curves[vip])) * into * into,
                )
            )
    return _made(f"{parts.street_name(q, street)} bulb lip, {u:.2f} m round", "on the ring's grade line", terms)


def _ring_vip(q: Engine, street: str, i: int) -> Step:
    levels, outline, head = head_levels(q, street), head_outline(q, street), require_head(q, street)
    p, name = levels.profile, parts.street_name(q, street)
    z = float(p.levels[i])
    if i in (0, 4):
        side: Side = "left" if i == 0 else "right"
        s = outline.base_left if i == 0 else outline.base_right
        normal, width = parts.section(q, street).side(side).lane.grade, lane_width(q, street, side)
        return _made(
            f"{name} {side} lip where the bulb begins",
            "crown and crossfall",
            [
                _term("crown", _on_profile(q, street, s)),
                Term(f"crossfall {_percent(normal)} × {width:.2f} m", normal * width),
            ],
        )
    if i in (1, 3):
        base = _ring_vip(q, street, 0 if i == 1 else 4)
        return _made(
            f"{name} bulb, {p.chainages[i]:.2f} m round",
            "runs on at the straight lip's grade",
            [_term("straight lip", base), Term("its grade × half the rounding", z - base.value)],
        )
    end = chain_of(q, street).total
    radial = levels.centre - head.fall * head.radius
    if abs(z - radial) < 1e-12:
        return _made(
            f"{name} bulb, half way round",
            "the wanted radial fall from the centre",
            [
                _term("bulb centre", explain_crown(q, street, end)),
                Term(f"−{100 * head.fall:.2f} % × {head.radius:.2f} m", -head.fall * head.radius),
            ],
        )
    least = parts.street_class(q, street).least_kerb_fall
    sign = 1.0 if levels.outlet == "street" else -1.0
    runs = {1: float(p.chainages[2] - p.chainages[1]), 3: float(p.chainages[3] - p.chainages[2])}
    governs = min(runs, key=lambda k: abs(float(p.levels[k]) + sign * least * runs[k] - z))
    return _made(
        f"{name} bulb, half way round",
        f"least kerb fall of {100 * least:.2f} % along the lip to the {levels.outlet}",
        [
            _term("where the ring's own grade begins", _ring_vip(q, street, governs)),
            Term(f"{_percent(sign * least)} × {runs[governs]:.2f} m", sign * least * runs[governs]),
        ],
    )


def explain_edge_lip(q: Engine, edge: Edge, along: float) -> Step:
    """The lip's level on any edge of the road."""
    if edge[0] == "side":
        return explain_lip(q, edge[1], edge[2], along)  # type: ignore[arg-type]
    if edge[0] == "corner":
        return explain_return(q, edge[1], edge[2], edge[3], along)  # type: ignore[arg-type]
    return explain_ring(q, edge[1], along)


def explain_roadside(q: Engine, edge: Edge, row: int, name: str) -> Step:
    """The level of a section point ('lip', 'invert', ..., 'boundary') at row ``row`` of a roadside."""
    side = roadside(q, edge)
    k, along = side.names.index(name), float(side.along[row])
    lip = explain_edge_lip(q, edge, along)
    what = f"{side.title} {name} at {along:.2f}"
    if k == 0:
        return lip
    rises, words = _rises(q, edge, side.names, row, k)
    if edge[0] == "corner" and not is_new(q, require_joint(q, edge[1], edge[2]).through):  # type: ignore[arg-type]
        t = along / float(side.along[-1])
        here = ground_of(q).levels(side.points[row, k, :2][None])[0]
        ground = float(here) if np.isfinite(here) else lip.value + sum(rises)
        designed = _made(f"{name} by the section", "lip and rises", [_term("lip", lip), *map(Term, words, rises)])
        return _made(
            what,
            "growing out of the ground along an existing street",
            [
                _term(f"{100 * (1 - t):.0f} % of the ground", Step("ground", ground, "", "ground"), 1 - t),
                _term(f"{100 * t:.0f} % of the section", designed, t),
            ],
        )
    return _made(what, "out from the lip by the typical section", [_term("lip", lip), *map(Term, words, rises)])


def _rises(q: Engine, edge: Edge, names: tuple[str, ...], row: int, k: int) -> tuple[list[float], list[str]]:
    side = roadside(q, edge)
    if edge[0] == "side":
        first = last = side_shape(q, edge[1], edge[2])  # type: ignore[arg-type]
        t = 0.0
    elif edge[0] == "head":
        first, last = side_shape(q, edge[1], "left"), side_shape(q, edge[1], "right")
        t = float(side.along[row] / head_outline(q, edge[1]).ring.total)
    else:
        j = require_joint(q, edge[1], edge[2])  # type: ignore[arg-type]
        last = side_shape(q, edge[1], leg_side(edge[2], edge[3]))  # type: ignore[arg-type]
        other = side_shape(q, j.through, "left" if j.through_side > 0 else "right")
        first = other if is_new(q, j.through) and other.names == last.names else last
        t = float(side.along[row] / kerb_return(q, edge[1], edge[2], edge[3]).arc.length)  # type: ignore[arg-type]
    rise = (1 - t) * first.rise + t * last.rise
    return [float(v) for v in np.diff(rise[: k + 1])], [f"{a} to {b}" for a, b in zip(names[:k], names[1 : k + 1])]


def explain_pad(q: Engine, street: str, lot: str) -> Step:
    """A pad's level: set, or the ground's median held within its window."""
    made, rules = pad(q, street, lot), parts.street_class(q, street)
    what = f"{lot} pad"
    if made.state == "set":
        return Step(what, made.level, "level set", "set")
    if np.isfinite(made.wanted) and made.low <= made.wanted <= made.high:
        return Step(what, made.level, "median of the ground under it, where cut and fill are least", "ground")
    grade = (
        rules.least_lot_fall if not np.isfinite(made.wanted) or made.wanted < made.low else rules.most_driveway_grade
    )
    rule = (
        "the least that falls to the street"
        if grade == rules.least_lot_fall
        else "the most that the driveway can climb"
    )
    return _made(
        what,
        f"{rule} (the ground would have it at {made.wanted:.3f})",
        [
            _term("boundary", _frontage_middle(q, street, lot)),
            Term(f"{_percent(grade)} × {made.run:.2f} m", grade * made.run),
        ],
        "proposed",
    )


def _frontage_middle(q: Engine, street: str, lot: str) -> Step:
    front = frontage_levels(q, street, lot)
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(front[:, :2], axis=0).T))])
    middle = 0.5 * float(along[-1])
    i = int(np.clip(np.searchsorted(along, middle, side="right") - 1, 0, len(along) - 2))
    t = (middle - float(along[i])) / float(along[i + 1] - along[i])
    return _made(
        f"{lot} boundary at the middle of its frontage",
        "between two rows of the roadside",
        [
            _term("row before", _boundary_at(q, street, lot, front[i]), 1 - t),
            _term("row after", _boundary_at(q, street, lot, front[i + 1]), t),
        ],
    )


def _boundary_at(q: Engine, street: str, lot: str, point: np.ndarray) -> Step:
    for edge, _, _ in frontage_stretches(q, street, find_lot(q, street, lot)):
        line = roadside(q, edge).points[:, -1]
        d = np.hypot(*(line[:, :2] - point[:2]).T)
        if d.min() < 1e-6:
            return explain_roadside(q, edge, int(np.argmin(d)), roadside(q, edge).names[-1])
    raise Unsolved(lot, "its frontage is not on the roadside")


def trail_at(q: Engine, easting: float, northing: float) -> Step:
    """The trail of the finished level at any place: the nearest named line, and from there on the surface to here."""
    found = probe(q, easting, northing)
    if found.piece is None:
        if not np.isfinite(found.ground):
            raise Unsolved(f"{easting:.3f}, {northing:.3f}", "there is neither ground nor design here")
        return Step("ground", found.ground, "the current ground", "ground")
    base = _nearest_line(q, found.piece, np.array([easting, northing]))
    if abs(base.value - found.finished) < 5e-10:
        return base
    return _made(
        "finished level here",
        f"on {found.title}",
        [
            _term("nearest line", base),
            Term("from there to here on the surface", found.finished - base.value),
        ],
    )


def _nearest_line(q: Engine, piece: PieceId, at: np.ndarray) -> Step:
    kind, rest = piece[0], piece[1:]
    if kind in ("roadside", "batter"):
        side = roadside(q, rest)
        d = np.hypot(side.points[:, :, 0] - at[0], side.points[:, :, 1] - at[1])
        if kind == "batter":
            d = d[:, -1:]
        row, k = np.unravel_index(int(np.argmin(d)), d.shape)
        return explain_roadside(q, rest, int(row), side.names[-1 if kind == "batter" else int(k)])
    if kind == "lot":
        return explain_pad(q, rest[0], rest[1])
    street = rest[0]
    chain = chain_of(q, street)
    foot = chain.feet(at)
    s, offset = float(foot.chainages[0]), float(foot.offsets[0])
    if kind == "bulb":
        ring = head_outline(q, street).ring
        round_ = ring.feet(at)
        if abs(float(round_.offsets[0])) < abs(offset):
            return explain_ring(q, street, float(round_.chainages[0]))
        return explain_crown(q, street, s)
    if kind == "junction":
        end: End = rest[1]  # type: ignore[assignment]
        best = (abs(offset), "")
        for corner in ("left", "right"):
            arc = kerb_return(q, street, end, corner).arc.chain.feet(at)
            best = min(best, (abs(float(arc.offsets[0])), corner))
        if best[1]:
            corner_: Side = "left" if best[1] == "left" else "right"
            arc = kerb_return(q, street, end, corner_).arc.chain.feet(at)
            return explain_return(q, street, end, corner_, float(arc.chainages[0]))
        return explain_crown(q, street, s)
    side_: Side = "left" if rest[1] == "left" else "right"
    if abs(offset) > 0.5 * lane_width(q, street, side_):
        return explain_lip(q, street, side_, s)
    return explain_crown(q, street, s)
