"""Where driveways lie in plan: each square to the kerb or at an angle of its own, near a side line of its lot, from the lip to the pad."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.driveway.model import DrivewayChoice
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.lot.layout import LotFrame, lot, lots_of_row, lots_on
from humble_loop.kinds.lot.plan import Frontage, frontage, lot_plan
from humble_loop.kinds.street.lowered import TAPER, kerb_count
from humble_loop.kinds.street.plan import StreetLine, street_ids
from humble_loop.kinds.street.section import SideShape, side_shape
from humble_loop.kinds.turning_head.layout import HeadLine, head_shape
from humble_loop.lines.kind import Lowers
from humble_loop.lines.line import LineId, LinePlan, line_plan
from humble_loop.site import parts

WIDTH = 3.0  # metres of a driveway: a car with its doors open, typical
FLARE = 0.5  # metres by which it is wider on both sides at the lip, typical
_BESIDE = 1.0  # metres between a driveway and its lot's side line: a fence, and somebody who walks beside a car
_STEP = 0.5  # metres along a frontage between places that are tried
_TRIES, _MET = 30, 1e-10  # by which, and to how many metres, it is found where a line is crossed
_GRAZES = 0.1  # sine of the angle below which a line is not crossed
_ALONG = 0.5  # sine of the angle below which a driveway ends square and not along its pad's edge
_MOST = 60.0  # metres from the boundary within which a pad is looked for


@dataclass(frozen=True)
class Sizes:
    """How a driveway lies and how wide it is, in metres: see ``DrivewayChoice``."""

    at: float
    skew: float  # degrees
    width: float
    flare: float


@dataclass(frozen=True)
class Way:
    """A driveway in plan: its lot, the boundary line that it crosses and the chainage ``s`` there, its ``sizes``.

    ``lip``, ``boundary`` and ``pad`` (2,) are where its middle line crosses these; it runs straight, ``out`` metres from the lip to the boundary and ``run``
    from there to the pad, along ``ahead`` (2,). At chainage ``lip_s`` it crosses the lip, which runs along ``kerb`` (2,) there, and it ends along ``edge`` (2,) of the pad; both
    are directions to the left as it is driven into. The lip has ``stretch`` metres to one of its chainage there.
    """

    lot: str
    line: LineId
    s: float
    lip_s: float
    sizes: Sizes
    kerb: Floats
    edge: Floats
    lip: Floats
    boundary: Floats
    pad: Floats
    ahead: Floats
    out: float
    run: float
    stretch: float

    @property
    def slant(self) -> float:
        """Metres of kerb that a metre of its width takes: 1 where it is square to that."""
        return 1.0 / _cross(self.ahead, self.kerb)

    @property
    def ring(self) -> Floats:
        """Its outline (n, 2), from the lip to the pad."""
        half = 0.5 * self.sizes.width * self.slant * self.kerb
        end = 0.5 * self.sizes.width / _cross(self.ahead, self.edge) * self.edge
        wide = (0.5 * self.sizes.width + self.sizes.flare) * self.slant * self.kerb
        return np.array(
            [
                self.lip - wide,
                self.boundary - half,
                self.pad - end,
                self.pad + end,
                self.boundary + half,
                self.lip + wide,
            ]
        )


def all_lots(q: Engine) -> tuple[LotFrame, ...]:
    """Every lot of the site."""
    found: list[LotFrame] = []
    for street in street_ids(q):
        made = q.attempt(lots_on, street)
        found += () if isinstance(made, Unsolved) else made
    return tuple(found)


@query
def placed(q: Engine, row: str) -> dict[str, DrivewayChoice]:
    """What was chosen of the driveways of a row, by the lots that stand there now."""
    made, found = lots_of_row(q, row), dict[str, DrivewayChoice]()
    for choice in sorted(parts.owned(q, DrivewayChoice, row), key=lambda c: c.number):
        here = min(made, key=lambda f, c=choice: _away(f, c), default=None)  # type: ignore[misc]
        if here is not None and _away(here, choice) <= 0.5 * here.width and here.id not in found:
            found[here.id] = choice
    return found


def _away(frame: LotFrame, choice: DrivewayChoice) -> float:
    """How far (m) along its row a lot stands from where a choice was made; by its number where that is not known."""
    if choice.along is None:
        return 0.0 if frame.number == choice.number else np.inf
    return abs(frame.along - choice.along)


def choice_of(q: Engine, id: str) -> DrivewayChoice | None:
    """What was chosen of a lot's driveway."""
    return placed(q, id.rpartition("#")[0]).get(id)


def wanted(q: Engine, id: str) -> bool:
    """Whether a lot has a driveway."""
    made = choice_of(q, id)
    return made is None or made.wanted


def name_of(q: Engine, id: str) -> str:
    """'Kiln Court L3 driveway'."""
    return f"{lot(q, id).name} driveway"


@query
def sizes_of(q: Engine, id: str) -> Sizes:
    """A driveway's sizes: as chosen, else near the beginning of the frontage or its end, whichever the ground is higher at: a car climbs less there where
    the pad lies above, and water along the kerb runs away from it. Where it would pass the pad there it lies elsewhere on the frontage.
    """
    made, front = choice_of(q, id), frontage(q, id)
    long = float(np.hypot(*np.diff(front.points, axis=0).T).sum())
    width = WIDTH if made is None or made.width is None else made.width
    flare = FLARE if made is None or made.flare is None else made.flare
    skew = 0.0 if made is None or made.skew is None else made.skew
    if made is not None and made.at is not None:
        return Sizes(made.at, skew, width, flare)
    beside = min(_BESIDE + 0.5 * width, 0.5 * long)
    ends = [long - beside, beside] if _rises(q, front) else [beside, long - beside]
    between = np.arange(beside, max(long - beside, beside) + _STEP, _STEP).tolist()
    pad = lot_plan(q, id).pad
    at = next((at for at in (*ends, *between) if len(pad) and _meets(q, front, at, skew, pad) is not None), ends[0])
    return Sizes(round(at, 2), skew, width, flare)


def _rises(q: Engine, front: Frontage) -> bool:
    """Whether the ground as found is higher at a frontage's end than where it begins: it stays while levels are dragged."""
    first, last = ground_of(q).levels(front.points[[0, -1]])
    return bool(last > first)


@query
def way_of(q: Engine, id: str) -> Way:
    """A lot's driveway in plan. Raises Unsolved where it does not come to its pad."""
    name, sizes, front, plan = name_of(q, id), sizes_of(q, id), frontage(q, id), lot_plan(q, id)
    d = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(front.points, axis=0).T))])
    if not 0.5 * sizes.width <= sizes.at <= d[-1] - 0.5 * sizes.width:
        most = max(d[-1] - 0.5 * sizes.width, 0.5 * sizes.width)
        words = f"{sizes.at:.2f} m along the frontage it lies beyond the lot, which is {d[-1]:.2f} m wide there"
        raise Unsolved(name, words, f"put it between {0.5 * sizes.width:.2f} and {most:.2f} m")
    on, s, boundary, ahead = _crossed(q, front, sizes.at, sizes.skew)
    at_lip = line_plan(q, lip_of(on))
    lip_s = met_by(at_lip, boundary, ahead, s)
    if lip_s is None:
        raise Unsolved(name, "at this angle it does not come to the lip", "turn it nearer to square")
    lip, heading = at_lip.points([lip_s])[0], float(at_lip.base.at([lip_s]).headings[0])
    out = float(np.hypot(*(boundary - lip)))
    kerb = np.array([np.cos(heading), np.sin(heading)])
    kerb = kerb if _cross(ahead, kerb) > 0.0 else -kerb  # to the left
    if not len(plan.pad):
        raise Unsolved(
            name, "its lot has no pad to which it could run", "lessen the setback or gaps, or enlarge the lot"
        )
    run = _meets(q, front, sizes.at, sizes.skew, plan.pad)
    if run is None:
        words = f"{'square to the kerb' if sizes.skew == 0.0 else 'at this angle'} it passes its pad"
        raise Unsolved(name, words, "slide it along the frontage, turn it, or lessen the lot's setback and gaps")
    at_pad = boundary + run * ahead
    edge = _edge_at(plan.pad, at_pad, ahead)
    kerb, edge, lip, boundary, at_pad, ahead = (frozen(v) for v in (kerb, edge, lip, boundary, at_pad, ahead))
    stretch = float(at_lip.stretch([lip_s])[0])
    return Way(id, on, s, lip_s, sizes, kerb, edge, lip, boundary, at_pad, ahead, out, run, stretch)


def _crossed(q: Engine, front: Frontage, at: float, skew: float) -> tuple[LineId, float, Floats, Floats]:
    """The boundary line ``at`` metres along a frontage, the chainage and the place (2,) there, and which way (2,) a driveway goes in."""
    d = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(front.points, axis=0).T))])
    i = int(np.clip(np.searchsorted(d, at, side="right") - 1, 0, len(d) - 2))
    which, t = int(front.which[i + 1]), (at - d[i]) / (d[i + 1] - d[i])
    begin = front.along[i] if front.which[i] == which else front.along[i + 1]
    s, on = float(begin + t * (front.along[i + 1] - begin)), front.lines[which]
    lip, boundary = line_plan(q, lip_of(on)).points([s])[0], line_plan(q, on).points([s])[0]
    (x, y), turn = (boundary - lip) / float(np.hypot(*(boundary - lip))), np.radians(skew)
    return on, s, boundary, np.array([np.cos(turn) * x + np.sin(turn) * y, np.cos(turn) * y - np.sin(turn) * x])


def _meets(q: Engine, front: Frontage, at: float, skew: float, pad: Floats) -> float | None:
    """How far (m) it is from the boundary to a pad along a driveway; None where that is passed."""
    _, _, boundary, ahead = _crossed(q, front, at, skew)
    met = shapely.intersection(shapely.LineString([boundary, boundary + _MOST * ahead]), shapely.Polygon(pad))
    return None if met.is_empty else float(shapely.Point(boundary).distance(met))


def _edge_at(pad: Floats, place: Floats, ahead: Floats) -> Floats:
    """The direction (2,) of a pad's edge at a place on it, to the left of ``ahead``; square to that where the edge runs nearly along it."""
    ends = np.roll(pad, -1, axis=0)
    away = shapely.distance(shapely.linestrings(np.stack([pad, ends], axis=1)), shapely.Point(place))
    step = (ends - pad)[int(np.argmin(away))]
    found = step / max(float(np.hypot(*step)), 1e-12)
    found = found if _cross(ahead, found) > 0.0 else -found
    return found if _cross(ahead, found) > _ALONG else np.array([-ahead[1], ahead[0]])


def at_the_lip(way: Way) -> tuple[float, float]:
    """Chainages of the lip between which a driveway leaves it."""
    half = (0.5 * way.sizes.width + way.sizes.flare) * way.slant / way.stretch
    return way.lip_s - half, way.lip_s + half


def lowers(q: Engine, lip: LineId) -> tuple[Lowers, ...]:
    """Where the kerb along a street's or a head's lip is down for driveways: as wide as they are at the lip, and at the back of the kerb."""
    found = []
    for frame in lots_on(q, lip.street) if isinstance(lip, (StreetLine, HeadLine)) else ():
        way = q.attempt(way_of, frame.id) if wanted(q, frame.id) else None
        if isinstance(way, Way) and lip_of(way.line) == lip:
            begin, finish = at_the_lip(way)
            shape = shape_at(q, way.line, way.s)
            aside = (
                float(shape.out[kerb_count(shape.roles)]) * abs(float(way.ahead @ way.kerb)) * way.slant / way.stretch
            )
            found.append(Lowers(begin - aside, finish + aside, TAPER / way.stretch))
    return tuple(found)


def shape_at(q: Engine, boundary: LineId, s: float) -> SideShape:
    """The section outside the lip of a street or a head where a driveway crosses its boundary."""
    if isinstance(boundary, StreetLine):
        assert boundary.side is not None
        return side_shape(q, boundary.street, boundary.side, s)
    assert isinstance(boundary, HeadLine)
    return head_shape(q, boundary.street, boundary.end).first


def met_by(plan: LinePlan, place: Floats, ahead: Floats, s: float) -> float | None:
    """The chainage, near ``s``, at which a line crosses the straight through a place (2,) along ``ahead`` (2,); None where it does not."""
    found = float(all_met_by(plan, place[None], ahead, s)[0])
    return found if np.isfinite(found) else None


def all_met_by(plan: LinePlan, places: Floats, ahead: Floats, s: float) -> Floats:
    """The same of straights through several places (n, 2): chainages (n,), NaN where they are not crossed."""
    x = np.full(len(places), s)
    for _ in range(_TRIES):
        frames = plan.base.at(x)
        to = plan.points(x, frames) - places
        off = to[:, 0] * ahead[1] - to[:, 1] * ahead[0]
        open_ = np.abs(off) >= _MET
        if not open_.any():
            return x
        slope = plan.stretch(x) * (np.cos(frames.headings) * ahead[1] - np.sin(frames.headings) * ahead[0])
        x = np.where(open_, x - off / np.where(np.abs(slope) < _GRAZES, np.nan, slope), x)
        if np.isnan(x).all():
            return x
    return np.where(np.abs(off) < _MET, x, np.nan)


def _cross(a: Floats, b: Floats) -> float:
    """Positive where ``b`` (2,) is to the left of ``a`` (2,)."""
    return float(a[0] * b[1] - a[1] * b[0])


def lip_of(boundary: LineId) -> LineId:
    """The lip inside a boundary line of a street or a head."""
    values: Any = boundary
    found: LineId = replace(values, point="lip")
    return found
