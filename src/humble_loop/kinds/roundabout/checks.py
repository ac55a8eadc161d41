"""Rules of a roundabout: that it can be laid out, carries the lanes that come to it, and drains."""

from __future__ import annotations

from functools import partial

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.crossing import crossings
from humble_loop.ground.merge import same_places
from humble_loop.ground.surface import Surface
from humble_loop.kinds.roundabout.faces import RoundaboutFace, across, faces_of
from humble_loop.kinds.roundabout.faults import faults
from humble_loop.kinds.roundabout.gaps import Kerb
from humble_loop.kinds.roundabout.layout import KerbLine, kerb_name, lane_kerb
from humble_loop.kinds.roundabout.leg_islands import island_faces
from humble_loop.kinds.roundabout.levels import CircleLine, circle_plane
from humble_loop.kinds.roundabout.model import Roundabout, add_pit
from humble_loop.kinds.roundabout.paths import entry_angle, paths
from humble_loop.kinds.roundabout.place import (
    Leg,
    circle_of,
    entry_side,
    leg_choice,
    leg_name,
    leg_sizes,
    legs_of,
    middle_of,
    roundabout_name,
    roundabout_of,
    sizes_of,
)
from humble_loop.kinds.roundabout.turning import drivings
from humble_loop.kinds.roundabout.vips import pit_offers, pits_of
from humble_loop.kinds.street.checks import face_findings, standing_water
from humble_loop.kinds.street.edits import set_street
from humble_loop.kinds.street.plan import centreline, is_new, name_of, streets_in
from humble_loop.lines.faces import SAME, Patch, finished_mesh, levels_on
from humble_loop.lines.findings import Finding, Mend, failed, point, share, too_high, too_low, unique
from humble_loop.lines.line import ThingId, line
from humble_loop.site.edits import the
from humble_loop.site.model import Site

RULES = (
    "roundabout drainage",
    "roundabout too flat",
    "legs near one another",
    "lanes of a roundabout",
    "width of a roundabout",
    "leg not laid out",
    "entry too fast",
    "change of speed in a roundabout",
    "entry angle",
    "vehicle over a kerb of a roundabout",
    "car on the apron",
)
LEAST_LANE = 3.0  # metres, typical: a lane on which a vehicle turns
_FLATTEST = 0.005  # of the carriageway round it, typical: below it water stands on asphalt
_SLOWS = 20.0  # km/h, typical: who has to slow down by more does not
_FLAT_ANGLE, _STEEP_ANGLE = 20.0, 60.0  # degrees, typical: over the shoulder below, hard on the brakes above
_STEP = 0.25  # metres between places of a kerb at which it is looked for low points
_AT = 1.0  # metres from a low point within which a pit takes its water
_INTO = 0.5  # metres into the carriageway at which it is seen whether that lies lower
_LEVEL = 1e-9


def roundabout_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Findings on a roundabout."""
    of, name = ThingId("roundabout", id), roundabout_name(q, id)
    middle = q.attempt(middle_of, id)
    if isinstance(middle, Unsolved):
        return (failed(middle, of),)
    at = point(middle)
    wrong = [failed(u, of, at) for u in faults(q, id)]
    legs = q.attempt(legs_of, id)
    if isinstance(legs, Unsolved):
        return unique([*wrong, *_existing(q, id, of, name)])
    found = [*wrong, *_existing(q, id, of, name), *_near(q, id, of, legs), *_lanes(q, id, of, legs)]
    level = q.attempt(line, CircleLine(id))
    if isinstance(level, Unsolved):
        return unique([*found, failed(level, of, at)])
    if not any("kerb" in u.message for u in wrong):
        found += [*_driven(q, id, of, legs), *_passing(q, id, of, legs)]
    if not wrong:
        found += [*_flat(q, id, of, name), *_standing(q, id, of, legs)]
    return unique(found)


def _standing(q: Engine, id: str, of: ThingId, legs: tuple[Leg, ...]) -> list[Finding]:
    """Where water stands, on kerbs and in faces; and faces that cannot be made."""
    faces, at = (*faces_of(q, id), *island_faces(q, id)), point(middle_of(q, id))
    # A mouth lets its water into the circle, and that has to take it: hollows are looked for in all of the carriageway together.
    found = [f for f in face_findings(q, of, faces, at, pits_of(q, id)) if f.rule != "hollow"]
    return [*_water(q, id, of, legs), *_hollows(q, id, of, legs), *found]


def _hollows(q: Engine, id: str, of: ThingId, legs: tuple[Leg, ...]) -> list[Finding]:
    """Where water would stand on the carriageway, which it leaves by pits and along the legs."""
    ids = (RoundaboutFace(id, "circle"), *(RoundaboutFace(id, "mouth", g.key) for g in legs))
    made = [q.attempt(finished_mesh, i) for i in ids]
    edges = [q.attempt(across, id, g.key) for g in legs]
    meshes = [m.surface for m in made if not isinstance(m, Unsolved) and not m.surface.empty]
    ends = [e for e in edges if not isinstance(e, Unsolved)]
    if len(meshes) < len(ids) or not ends:
        return []  # what is missing is told by itself
    points = np.concatenate([m.points for m in meshes])
    begins = np.cumsum([0, *(len(m.points) for m in meshes)])
    triangles = np.concatenate([m.triangles + n for m, n in zip(meshes, begins)])
    first, place = same_places(points, SAME)
    whole = Patch(roundabout_name(q, id), "junction", points[:1], (), (), np.concatenate(ends)[:, :2])
    found = []
    for hollow in standing_water(Surface(points[first], place[triangles]), whole, pits_of(q, id)):
        words = f"water stands {1000 * hollow.depth:.0f} mm deep at {hollow.point[2]:.3f} on its carriageway, over {hollow.area:.1f} m²"
        remedy = "put a pit there, or change the levels of the circle or of the leg there"
        where = point(hollow.point)
        found.append(Finding("hollow", of, whole.title, words, remedy, hollow.depth, 0.0, place=where))
    return found


def _existing(q: Engine, id: str, of: ThingId, name: str) -> list[Finding]:
    """Existing streets that come into the circle: nothing is built on them."""
    middle, radius = middle_of(q, id), sizes_of(q, id).radius
    w, s = (middle - radius).tolist()
    e, n = (middle + radius).tolist()
    found = []
    for street in streets_in(q, (w, s, e, n)):
        laid = q.attempt(centreline, street)
        if (
            is_new(q, street)
            or isinstance(laid, Unsolved)
            or not len(crossings(laid.chain, circle_of(middle, radius, 0.0)))
        ):
            continue
        words = f"{name_of(q, street)} comes into it and is an existing street, so no leg is laid out for it"
        remedy = f"make {name_of(q, street)} a new street, or end it short of the circle"
        also, mend = (
            (ThingId("street", street),),
            Mend(f"Make {name_of(q, street)} a new street", partial(_new, street=street)),
        )
        found.append(Finding(RULES[5], of, name, words, remedy, place=point(middle), also=also, mend=mend))
    return found


def _new(site: Site, street: str) -> Site:
    """The site with a street that is designed, and no longer only found."""
    return set_street(site, street, kind="new")


def _near(q: Engine, id: str, of: ThingId, legs: tuple[Leg, ...]) -> list[Finding]:
    """Legs between which the kerb has no room for the radii that were chosen."""
    found = []
    for leg in legs:
        made = q.attempt(lane_kerb, id, leg.key)
        if isinstance(made, Unsolved) or not (made.alone or _chosen(q, id, leg, legs[made.last], made)):
            continue
        where = point(made.chain.points_at([0.5 * made.chain.total])[0])
        one, other = (leg_name(q, id, g) for g in (leg, legs[made.last]))
        k = int(np.argmin([r - w for r, w in zip(made.radii, made.wanted)]))
        tightest, wanted = made.radii[k], made.wanted[k]
        if made.alone:
            words = f"{one} and {other} are so near one another that the kerb between them is one arc of {tightest:.2f} m outside the circle"
        else:
            words = f"{one} and {other} leave the kerb between them a radius of {tightest:.2f} m, less than the {wanted:g} m that was chosen"
        remedy = "lessen both radii, enlarge the circle, or turn the legs apart"
        also = tuple(ThingId("roundabout_leg", f"{id}|{g.key}") for g in (leg, legs[made.last]))
        found.append(
            Finding(
                RULES[2],
                of,
                kerb_name(q, id, leg.key),
                words,
                remedy,
                tightest,
                wanted,
                place=where,
                severity="near",
                also=also,
            )
        )
    return found


def _chosen(q: Engine, id: str, leg: Leg, other: Leg, made: Kerb) -> bool:
    """Whether somebody chose a radius that is lessened: what is proposed may give way."""
    entry = entry_side(q)
    for k, (g, seen) in enumerate(((leg, "left"), (other, "right"))):
        chosen = leg_choice(q, id, g.street, g.drawn)
        given = chosen.entry_radius if seen == entry else chosen.exit_radius
        if given is not None and made.radii[k] < given - 1e-9:
            return True
    return False


def _lanes(q: Engine, id: str, of: ThingId, legs: tuple[Leg, ...]) -> list[Finding]:
    """Lanes that do not go on, and widths that do not hold them."""
    sizes, found = sizes_of(q, id), []

    def tell(
        rule: int, part: str, words: str, remedy: str, value: float, limit: float, place: tuple[float, float]
    ) -> None:
        found.append(Finding(RULES[rule], of, part, words, remedy, value, limit, place=place))

    name, middle = roundabout_name(q, id), point(middle_of(q, id))
    each = sizes.width / sizes.lanes
    if too_low(each, LEAST_LANE):
        words = f"its carriageway of {sizes.width:.2f} m leaves {each:.2f} m to each of {sizes.lanes} lanes, less than {LEAST_LANE:g} m"
        tell(4, name, words, f"make it {sizes.lanes * LEAST_LANE:.2f} m wide", each, LEAST_LANE, middle)
    for leg in legs:
        own, called = leg_sizes(q, id, leg), f"{name}, {leg_name(q, id, leg)}"
        place = point(leg.chain.points_at([leg.throat])[0])
        for what, wide, lanes in (("entry", own.entry, own.entry_lanes), ("exit", own.exit, own.exit_lanes)):
            if lanes > sizes.lanes:
                words = f"its {what} has {lanes} lanes, and {sizes.lanes} go{'es' if sizes.lanes == 1 else ''} round"
                tell(
                    3, called, words, f"give its {what} {sizes.lanes}, or the circle {lanes}", lanes, sizes.lanes, place
                )
            if too_low(wide / lanes, LEAST_LANE):
                words = f"its {what} of {wide:.2f} m leaves {wide / lanes:.2f} m to each of {lanes} lanes, less than {LEAST_LANE:g} m"
                tell(4, called, words, f"make it {lanes * LEAST_LANE:.2f} m wide", wide / lanes, LEAST_LANE, place)
        if own.bypass > 0.0 and too_low(own.bypass, LEAST_LANE):
            words = f"its bypass lane is {own.bypass:.2f} m wide, less than {LEAST_LANE:g} m"
            tell(4, called, words, f"make it {LEAST_LANE:.2f} m wide", own.bypass, LEAST_LANE, place)
        if too_high(own.entry, sizes.width):
            words = f"its entry of {own.entry:.2f} m is wider than the carriageway round, {sizes.width:.2f} m"
            tell(
                4,
                called,
                words,
                "make the entry narrower or the carriageway round wider",
                own.entry,
                sizes.width,
                place,
            )
    return found


def _driven(q: Engine, id: str, of: ThingId, legs: tuple[Leg, ...]) -> list[Finding]:
    """How fast cars come in and how much they slow down for the way round, and at what angle they meet those who go round."""
    found: list[Finding] = []
    made = q.attempt(paths, id)
    names, most = {g.key: leg_name(q, id, g) for g in legs}, sizes_of(q, id).most_entry_kmh
    if isinstance(made, Unsolved):
        return found
    for leg in legs:
        mine = [p for p in made if p.begin == leg.key]
        part = f"{roundabout_name(q, id)}, {names[leg.key]}"
        if not mine:
            continue
        fast = max(mine, key=lambda p: p.speeds[0])
        if too_high(fast.speeds[0], most):
            words = f"a car that goes to {names[fast.finish]} comes in at {fast.speeds[0]:.0f} km/h on a radius of {fast.radii[0]:.0f} m, more than {most:g} km/h"
            remedy = "lessen its entry radius or width, widen its splitter island, or enlarge the central island"
            found.append(Finding(RULES[6], of, part, words, remedy, fast.speeds[0], most, place=point(fast.at[0])))
        jump = max(mine, key=lambda p: p.speeds[0] - p.speeds[1])
        by = jump.speeds[0] - jump.speeds[1]
        if too_high(by, _SLOWS):
            words = f"a car that goes to {names[jump.finish]} slows down by {by:.0f} km/h from its entry to the way round, more than {_SLOWS:g}"
            remedy = "lessen its entry radius, or make the way round wider"
            found.append(
                Finding(RULES[7], of, part, words, remedy, by, _SLOWS, place=point(jump.at[1]), severity="near")
            )
        angle = entry_angle(q, id, leg)
        if too_low(angle, _FLAT_ANGLE) or too_high(angle, _STEEP_ANGLE):
            low = angle < _FLAT_ANGLE
            limit = _FLAT_ANGLE if low else _STEEP_ANGLE
            words = f"those who come in meet those who go round at {angle:.0f}°, {'less' if low else 'more'} than {limit:g}°"
            remedy = f"{'lessen' if low else 'enlarge'} its entry radius"
            where = point(leg.chain.points_at([leg.throat])[0])
            found.append(Finding(RULES[8], of, part, words, remedy, angle, limit, place=where, severity="near"))
    return found


_LARGE, _SMALL = "waste", "car"  # who has to get round on kerbs' near side, and who has to off the apron


def _passing(q: Engine, id: str, of: ThingId, legs: tuple[Leg, ...]) -> list[Finding]:
    """Where a waste collection vehicle or a car reaches over a kerb or cannot be led round, and where a car has to use the apron."""
    names, name, found = {g.key: leg_name(q, id, g) for g in legs}, roundabout_name(q, id), list[Finding]()
    for vehicle in (_LARGE, _SMALL):
        made = q.attempt(drivings, id, vehicle)
        for d in () if isinstance(made, Unsolved) else made:
            goes = f"a {d.vehicle} that drives from {names[d.begin]} to {names[d.finish]}"
            if np.isnan(d.over_kerb):
                words, remedy = f"{goes} cannot be led round", "enlarge the circle, or the radii of its legs"
                found.append(Finding(RULES[9], of, name, words, remedy, place=point(middle_of(q, id))))
            elif d.over_kerb > 0.0:
                words = f"{goes} reaches {d.over_kerb:.2f} m over a kerb"
                remedy = "make the entry, the exit or the way round wider there, enlarge a radius, or widen the apron"
                found.append(Finding(RULES[9], of, name, words, remedy, d.over_kerb, 0.0, place=d.worst))
            elif vehicle == _SMALL and d.apron > 0.0:
                words = f"{goes} has to go {d.apron:.2f} m onto the apron"
                remedy = "make the way round wider, and the apron narrower by as much"
                found.append(Finding(RULES[10], of, name, words, remedy, d.apron, 0.0, place=d.worst, severity="near"))
    return found


def settled(site: Site, id: str) -> Site:
    """Pits put where water stands beside a roundabout's kerbs, until it stands nowhere; as many times as that takes."""
    for _ in range(_ROUNDS):
        fresh = drained(Engine(site), site, id)
        if fresh is site:
            return site
        site = fresh
    return site


def drained(q: Engine, site: Site, id: str) -> Site:
    """The site of an engine with a pit wherever water stands on a roundabout now; itself where it stands nowhere."""
    if isinstance(middle := q.attempt(middle_of, id), Unsolved) or isinstance(q.attempt(legs_of, id), Unsolved):
        return site
    for f in _standing(q, id, ThingId("roundabout", id), legs_of(q, id)):
        if f.rule not in (RULES[0], "hollow") or f.place is None:
            continue
        out = np.array(f.place) - middle
        bearing = round(float(np.mod(90.0 - np.degrees(np.arctan2(out[1], out[0])), 360.0)), 2)
        if all(abs((p - bearing + 180.0) % 360.0 - 180.0) > _SAME_PIT for p in the(site, Roundabout, id).pits):
            site = add_pit(site, id, bearing)
    return site


_ROUNDS = 4  # times that it is looked where water still stands
_SAME_PIT = 1.0  # degrees within which a pit is there already


def _flat(q: Engine, id: str, of: ThingId, name: str) -> list[Finding]:
    """Where the carriageway round is nearly level both ways."""
    if roundabout_of(q, id).levels == "own":
        return []
    plane = circle_plane(q, id)
    angles = np.linspace(0.0, 2.0 * np.pi, 73)[:-1]
    out = np.column_stack([np.cos(angles), np.sin(angles)])
    steep = np.hypot(*(plane.slope - plane.fall * out).T)
    k = int(np.argmin(steep))
    if not too_low(float(steep[k]), _FLATTEST):
        return []
    words = f"its carriageway falls by only {share(float(steep[k]))} where it is flattest, less than {share(_FLATTEST)}"
    where = point(plane.middle + (plane.radius - 0.5 * sizes_of(q, id).width) * out[k])
    remedy = "let it fall outwards, or tilt it"
    return [Finding(RULES[1], of, name, words, remedy, float(steep[k]), _FLATTEST, place=where)]


def _water(q: Engine, id: str, of: ThingId, legs: tuple[Leg, ...]) -> list[Finding]:
    """Low points of its kerbs at which the carriageway beside does not fall away, and no pit stands."""
    found, pits = [], pits_of(q, id)
    beside = (RoundaboutFace(id, "circle"), *(RoundaboutFace(id, "mouth", g.key) for g in legs))
    for leg in legs:
        kerb = q.attempt(line, KerbLine(id, leg.key))
        if isinstance(kerb, Unsolved):
            continue
        s = np.linspace(0.0, kerb.plan.end, 3 + int(kerb.plan.end / _STEP))
        z = kerb.rule.levels(s)
        low = np.flatnonzero((z[1:-1] < z[:-2] - _LEVEL) & (z[1:-1] < z[2:] - _LEVEL)) + 1
        for k in low.tolist():
            place = kerb.plan.points([s[k]])[0]
            inwards = kerb.plan.base.points_at([s[k]], _INTO)
            if float(levels_on(q, beside, inwards)[0]) < z[k] - _LEVEL:
                continue
            if len(pits) and np.hypot(*(pits - place).T).min() <= _AT:
                continue
            bearing = float(np.mod(90.0 - np.degrees(np.arctan2(*(place - middle_of(q, id))[::-1])), 360.0))
            words = f"water stands at {z[k]:.3f} on its kerb, {s[k]:.2f} m along, at a bearing of {bearing:.0f}°"
            ((offer, edit),) = pit_offers(q, id, round(bearing, 2))
            mend = Mend(offer, edit) if offer.startswith("Put") else None
            remedy = "put a pit there, or change its levels"
            found.append(
                Finding(
                    RULES[0],
                    of,
                    kerb_name(q, id, leg.key),
                    words,
                    remedy,
                    chainage=float(s[k]),
                    place=point(place),
                    mend=mend,
                )
            )
    return found
