"""Nothing is built twice: faces that overlap are found, told, and counted once."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.united import united
from humble_loop.ground.cut import Lost, Remainder, cutting, joined
from humble_loop.ground.surface import Surface
from humble_loop.ground.volume import Volume, volume_between
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.junction.nodes import unworked
from humble_loop.kinds.street.earthworks import ground_under
from humble_loop.kinds.street.order import built_before, decided_order
from humble_loop.kinds.street.side import boundary_width
from humble_loop.lines.faces import FaceId, Sheet, face, finished_mesh
from humble_loop.lines.findings import Finding, Mend, failed
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of
from humble_loop.site.model import SIDES
from humble_loop.whole.batters import clear_batter, hinges, is_batter, meeting
from humble_loop.whole.keeping_off import Kept, keeping_off
from humble_loop.whole.places import face_tree, footprint, near
from humble_loop.whole.things import faces_of, name_of, thing_of

_ASKED = 16  # plans between two moments at which the work can be given up
_ONE_PLACE = 1.0  # metres from what is built twice within which that is one place
_BATTERS = 5.0  # metres beside the streets that cross
_SLIVER = 0.01  # m2 of overlap that is a matter of rounding
_HAIR = 1e-9  # m2 of what stands in the place of a face that is
_SELF = 1e-6  # m2 of a batter over itself that is a matter of rounding
_NEXT_TO = 1e-4  # metres within which a batter ends against something
_SEAM = 0.05  # metres along which it may seem to
_BESIDE = 0.02  # metres from a corner's centre
_STEP = 0.05  # metres off the ground that is a matter of rounding


@dataclass(frozen=True)
class Overlap:
    """Where a face lies over an earlier one, in plan."""

    earlier: FaceId
    plan: shapely.Geometry


@query
def overlaps_of(q: Engine, id: FaceId) -> tuple[Overlap, ...]:
    """Where a face lies over faces that come before it: what is built before batters, then by order.

    A batter overlaps what is built only where it ends against it; batters that overlap make a valley or a ridge, except
    a cut with a fill.
    """
    earlier = near(q, id).before
    if not earlier:
        return ()
    if is_batter(q, id):
        shares = _under_a_batter(q, id, earlier)
    else:
        mine = footprint(q, id).plan
        shares = [(o, shapely.intersection(mine, footprint(q, o).plan)) for o in earlier if _overlap(mine, q, o)]
    least = {True: _HAIR, False: _SLIVER}
    return tuple(Overlap(o, shared) for o, shared in shares if shared.area > least[o.takes_over])


def _under_a_batter(q: Engine, id: FaceId, earlier: tuple[FaceId, ...]) -> list[tuple[FaceId, shapely.Geometry]]:
    mine, over = footprint(q, id).plan, clear_batter(q, id).over
    found = []
    if over:
        rim = shapely.union(hinges(q, id), plan_of(counted(q, id)).boundary)
        found = [(o, plan) for o, plan in over if rim.intersection(plan.buffer(_NEXT_TO)).length > _SEAM]
    clashes = [(o, meeting(q, o, id).clash) for o in earlier if is_batter(q, o) and _overlap(mine, q, o)]
    return [*found, *clashes]


@query
def counted(q: Engine, id: FaceId) -> Surface:
    """A face's mesh without what other faces have there, so that each square metre counts once.

    Where a face other than a batter lies over itself, whole triangles are left out: there it is counted once to the
    nearest triangle.
    """
    return _counting(q, id).result(q)[0]


@query
def _counting(q: Engine, id: FaceId) -> InPieces[Remainder]:
    if is_batter(q, id):
        surface, lost = clear_batter(q, id).surface, _lost_to_batters(q, id)
        return InPieces(cutting(surface, shapely.Polygon(), lost))
    surface = finished_mesh(q, id).surface
    built = [footprint(q, o.earlier).plan for o in overlaps_of(q, id)]
    twice = footprint(q, id).twice > _SLIVER
    if not built and not twice:
        return InPieces(cutting(surface, shapely.Polygon()))
    plans = shapely.polygons(surface.points[surface.triangles][:, :, :2])
    again = np.flatnonzero(_covered_before(plans)) if twice else np.empty(0, dtype=np.int64)
    return InPieces(cutting(surface, united(built), Lost(again, plans[again])))


@query
def standing_surface(q: Engine, id: FaceId) -> Surface:
    """What stands of a face where it is read in the order of faces: a batter where it governs, any other face all of it."""
    return counted(q, id) if id.gives_way else finished_mesh(q, id).surface


def _lost_to_batters(q: Engine, id: FaceId) -> Lost:
    """What a batter loses to those near it, and to itself."""
    mine = footprint(q, id).plan
    before, after = ([o for o in those if is_batter(q, o) and _overlap(mine, q, o)] for those in near(q, id))
    found = [*(meeting(q, o, id).second for o in before), *(meeting(q, id, o).first for o in after)]
    if footprint(q, id).twice > _SELF:
        itself = meeting(q, id, id)
        found += [itself.first, itself.second]
    return Lost.all(found)


def _overlap(mine: shapely.Geometry, q: Engine, other: FaceId) -> bool:
    theirs = footprint(q, other).plan
    return bool(shapely.intersects(mine, theirs)) and not shapely.touches(mine, theirs)


def _covered_before(plans: np.ndarray) -> np.ndarray:
    """Whether the middle of each triangle lies in one that comes before it."""
    middles = shapely.centroid(plans)
    inner, outer = shapely.STRtree(plans).query(middles, predicate="within")
    out = np.zeros(len(plans), dtype=bool)
    out[inner[outer < inner]] = True
    return out


@query
def counted_volume(q: Engine, id: FaceId) -> Volume:
    """Cut and fill of a face against its ground, each square metre once: the current ground, or with it the earthworks of streets that are
    built before its own (see ``built_over``).
    """
    street = kind_of(id.kind).built_with(q, id)
    return volume_between(ground_of(q) if street is None else ground_under(q, street), counted(q, id))


@query
def built_over(q: Engine, street: str) -> Volume:
    """Cut and fill of earthworks that are made first and lie below what a street then builds over them.

    With these the volumes of all faces are, on balance, those from the current ground to the finished surface.
    """
    if not built_before(q, street):
        return Volume(0.0, 0.0, 0.0)
    return volume_between(ground_of(q), _ground_below(q, street).result(q)[0])


@query
def _ground_below(q: Engine, street: str) -> InPieces[Remainder]:
    """The part of the ground under a street, with earlier earthworks, on which it builds."""
    made = [
        counted(q, id)
        for id in faces_of(q, ThingId("street", street))
        if not isinstance(q.attempt(counted, id), Unsolved)
    ]
    ground = ground_under(q, street)
    if ground.empty:
        return InPieces(cutting(ground, shapely.Polygon()))
    beside = shapely.box(*ground.bounds).buffer(_BESIDE).difference(united([plan_of(m) for m in made]))
    return InPieces(cutting(ground, beside))


@query
def overlap_findings(q: Engine, thing: ThingId) -> tuple[Finding, ...]:
    """Findings on what a thing lies over: one for each other thing and each place, however many faces of both meet there."""
    found, over = _pairs(q, thing)
    found = list(found)
    for other, batters in over:
        title = f"{name_of(q, thing)} batters" if batters else name_of(q, thing)
        found += _over(q, thing, title, other, batters)
    return tuple(found)


_Over = dict[tuple[ThingId, bool], list[tuple[FaceId, Overlap]]]


@query
def _pairs(q: Engine, thing: ThingId) -> tuple[list[Finding], _Over]:
    """What a thing's faces are told for themselves, and by other thing, batters apart, which of them lie over faces of it."""
    found: list[Finding] = []
    over: _Over = {}
    for id in faces_of(q, thing):
        made = q.attempt(_face_overlaps, id)
        if isinstance(made, Unsolved):
            found.append(failed(made, thing))
            continue
        alone, overlaps = made
        found += alone
        for o in overlaps:
            if o.earlier.takes_over:
                continue  # it is meant to stand there
            over.setdefault((thing_of(q, o.earlier), is_batter(q, id)), []).append((id, o))
    return found, over


@query
def _face_overlaps(q: Engine, id: FaceId) -> tuple[tuple[Finding, ...], tuple[Overlap, ...]]:
    """What is to be told of a face alone, and what it lies over."""
    twice, found = footprint(q, id).twice, []
    if twice > _SLIVER and not is_batter(q, id):
        words = f"{twice:.2f} m² of it lie over itself; there it is counted once"
        remedy = "enlarge the radius of the bend there, or narrow the section"
        title, place = finished_mesh(q, id).title, place_in(footprint(q, id).plan)
        found.append(Finding("built twice", thing_of(q, id), title, words, remedy, twice, 0.0, place=place))
    return (*found, *_in_the_air(q, id)), overlaps_of(q, id)


@query
def _shared(q: Engine, thing: ThingId, other: ThingId, batters: bool) -> InPieces[_Shared]:
    """The places at which a thing lies over another: which of its pairs of faces meet there, and what they share."""
    pairs = _pairs(q, thing)[1][other, batters]
    plans, owner = shapely.get_parts(np.array([o.plan for _, o in pairs], dtype=object), return_index=True)
    return InPieces(_by_place(plans, owner))


_Shared = list[tuple[list[int], shapely.Geometry]]


def _by_place(plans: np.ndarray, owner: np.ndarray) -> Pieces[_Shared]:
    """Plans that lie within one place of one another, directly or through others, with the owners of each and their union."""
    from scipy.sparse import coo_array  # takes long to load, and is seldom wanted
    from scipy.sparse.csgraph import connected_components

    tree, first, second = shapely.STRtree(plans), [], []
    for i, plan in enumerate(plans):
        if i % _ASKED == 0:
            yield
        with np.errstate(over="ignore", invalid="ignore"):  # of streets that reach as far as numbers do
            near = tree.query(plan, predicate="dwithin", distance=2.0 * _ONE_PLACE)
        first += [i] * len(near)
        second += near.tolist()
    n = len(plans)
    count, label = connected_components(coo_array((np.ones(len(first)), (first, second)), shape=(n, n)))
    found = []
    for k in range(count):
        here = np.flatnonzero(label == k)
        shared = yield from joined(list(plans[here]))
        found.append((owner[here].tolist(), shared))
    return found


def _over(q: Engine, thing: ThingId, several: str, other: ThingId, batters: bool) -> list[Finding]:
    """Where faces of a thing lie over those of another: each place once. ``several`` is what more than one are called."""
    told, pairs = _crossings(q, thing, other), _pairs(q, thing)[1][other, batters]
    found = []
    for here, shared in _shared(q, thing, other, batters).result(q):
        mine = [pairs[i] for i in here]
        if shapely.distance(told, shared) <= 0.0:
            continue  # a finding of its own tells that streets cross there
        own, theirs = {id for id, _ in mine}, {o.earlier for _, o in mine}
        title = finished_mesh(q, own.pop()).title if len(own) == 1 else several
        beneath = finished_mesh(q, theirs.pop()).title if len(theirs) == 1 else name_of(q, other)
        words = f"{shared.area:.2f} m² of it lie over {beneath}; there it is not counted"
        remedy = "move one of them, or lessen a depth, a radius or a batter's height"
        if batters and other.kind in _CARRIES:
            built = [(id, o.earlier) for id, o in mine if not o.earlier.gives_way]
            kept = keeping_off(q, *({ids[k] for ids in built} for k in (0, 1)))
            if kept is not None:
                found.append(_lands(q, thing, title, other, kept, shared))
                continue
        area, place, mend = float(shared.area), place_in(shared), None
        if batters and thing.kind == other.kind == "street" and all(o.earlier.gives_way for _, o in mine):
            remedy = f"choose which of both streets is built later, or {remedy}"
            later = f"Build {name_of(q, thing)} after {name_of(q, other)}"
            mend = Mend(later, decided_order(thing.id, other.id, thing.id))
        found.append(
            Finding("built twice", thing, title, words, remedy, area, 0.0, place=place, mend=mend, also=(other,))
        )
    return found


_CARRIES = ("street", "junction", "turning_head", "knuckle", "roundabout")  # what others' batters may not come down on


def _lands(q: Engine, thing: ThingId, title: str, other: ThingId, kept: Kept, shared: shapely.Geometry) -> Finding:
    """Where a batter comes down on a street, or cuts under it, with the least that keeps it off."""
    does = "its fill comes down on" if kept.fill else "its cut goes under"
    words = f"{does} {name_of(q, other)}, over {shared.area:.2f} m², which are not counted to it"
    shift = np.ceil(100.0 * kept.shift) / 100.0
    remedy = f"{shift:.2f} m further away it stays off"
    if kept.slope is not None:
        # Steeper than it must be, by less than a hundredth.
        run = np.floor(100.0 / kept.slope) / 100.0
        remedy += f", or with a batter of 1:{run:g}" if run > 0 else ""
    remedy += "; or plan a wall, or lessen its height"
    value = float(shared.area)
    return Finding("batter on a street", thing, title, words, remedy, value, 0.0, place=kept.at, also=(other,))


def _crossings(q: Engine, thing: ThingId, other: ThingId) -> shapely.Geometry:
    """Where two streets cross without a junction, in plan: as far as both are wide, and their batters beside that."""
    if thing.kind != "street" or other.kind != "street":
        return shapely.Polygon()
    first, second = sorted((thing.id, other.id))
    half = [max(float(boundary_width(q, s, side).values.max()) for side in SIDES) for s in (first, second)]
    nodes = [n for n in unworked(q, first) if n.id.meeting == "crossing" and second in n.id.members]
    return united([shapely.Point(n.place).buffer(math.hypot(*half) + _BATTERS) for n in nodes])


def place_in(plan: shapely.Geometry) -> tuple[float, float] | None:
    """A place within what is shared; None where of that, once it is put together, nothing is left: a face folded over itself so that it cancels out."""
    at = shapely.point_on_surface(plan)
    return None if at.is_empty else (float(at.x), float(at.y))


def _in_the_air(q: Engine, id: FaceId) -> list[Finding]:
    """Where the batters of a corner end at its centre, off the ground, and nothing goes on from there."""
    made = face(q, id)
    if not isinstance(made, Sheet) or not made.at_centre.any():
        return []
    found = []
    everything = (id, *(o for those in near(q, id) for o in those))
    for x, y, z in np.unique(made.points[made.at_centre, -1].round(6), axis=0):
        turn = np.linspace(0.0, 2 * np.pi, 12, endpoint=False)
        round_it = np.array([x, y]) + _BESIDE * np.column_stack([np.cos(turn), np.sin(turn)])
        bare = ~np.any([np.isfinite(standing_surface(q, o).levels(round_it)) for o in everything], axis=0)
        height = abs(float(ground_of(q).levels(np.array([[x, y]]))[0]) - z)
        if bare.any() and height > _STEP:
            words = f"round the corner it ends {height:.2f} m off the ground, and no batter goes on from there"
            remedy = "enlarge the return's radius, bring the levels nearer the ground, or plan a wall"
            found.append(
                Finding("batter ends in the air", thing_of(q, id), made.title, words, remedy, height, place=(x, y))
            )
    return found


@query
def ground_left(q: Engine) -> Surface:
    """The current ground where nothing is designed."""
    return _leaving_ground(q).result(q)[0]


@query
def _leaving_ground(q: Engine) -> InPieces[Remainder]:
    plans = [_standing_plan(q, id) for id in face_tree(q).ids]
    return InPieces(cutting(ground_of(q), united(plans)))


def _standing_plan(q: Engine, id: FaceId) -> shapely.Geometry:
    if is_batter(q, id) and clear_batter(q, id).over:
        return plan_of(counted(q, id))
    return footprint(q, id).plan


def plan_of(surface: Surface) -> shapely.Geometry:
    """The plan of a surface as polygons."""
    if surface.empty:
        return shapely.Polygon()
    return united(shapely.polygons(surface.points[surface.triangles][:, :, :2]))
