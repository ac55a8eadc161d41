"""Rules of a street's own lines: bends, grades, curves, crossfalls, ends, and whether it stands on the ground."""

from __future__ import annotations

from functools import partial

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.bend_fit import turn_between
from humble_loop.geometry.bends import BendInput, BendProblem, lay_bends
from humble_loop.geometry.sight import curve_for_sight, sight_along
from humble_loop.ground.hollow import Hollow, hollows
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.edits import remove_bend, set_bend, set_vip, set_vips, unlock_vip
from humble_loop.kinds.street.faces import faces_of
from humble_loop.kinds.street.levels import MOST_SHOWN, GradeLine, carried, end_ties, grade_line, own_grades, tolerances
from humble_loop.kinds.street.model import Vip
from humble_loop.kinds.street.order import NEITHER, decided_order, ring_through
from humble_loop.kinds.street.plan import (
    bends_of,
    centreline,
    chain_of,
    class_of,
    ground_along,
    is_new,
    name_of,
    vips_of,
    wanted_of,
)
from humble_loop.kinds.street.section import own_range
from humble_loop.kinds.street.section_checks import section_findings
from humble_loop.lines.faces import FaceId, Patch, Piece, Sheet, face, finished_mesh
from humble_loop.lines.findings import Finding, Mend, failed, point, share, too_high, too_low, unique
from humble_loop.lines.line import ThingId
from humble_loop.site.library import StreetClass
from humble_loop.site.model import SIDES

DAMP = 0.003  # metres of standing water that is a matter of rounding
_SAME_PLACE = 1e-4  # metres between points of an outline that are one
_NO_PITS = np.empty((0, 2))
_KINK = 0.01  # degrees by which a line may turn without a curve as a matter of rounding
_ON = 1e-6  # metres along a street within which places are one
_SHARP = 0.01  # grade change at a VIP from which a curve is wanted

PLAN_RULES = (
    "bends that do not fit",
    "radius",
    "kink",
    "points at one place",
    "ring of ties",
    "streets meet unworked",
    "order in a ring",
)
LEVEL_RULES = (
    "grade too flat",
    "grade too steep",
    "curve too short",
    "curves overlap",
    "sight over a crest",
    "grade line too short",
    "locked VIP off the line",
    "proposal leaves its tolerance",
    "low point along the street",
)


def thing(street: str) -> ThingId:
    """A street's id as a thing."""
    return ThingId("street", street)


def place(q: Engine, street: str, chainage: float) -> tuple[float, float]:
    """A place on a street's centreline."""
    return point(chain_of(q, street).points_at([chainage])[0])


@query
def street_findings(q: Engine, street: str) -> tuple[Finding, ...]:
    """Findings on a street."""
    bends = bends_of(q, street)
    at = (bends[0][0], bends[0][1])
    laid = q.attempt(centreline, street)
    if isinstance(laid, Unsolved):
        return (failed(laid, thing(street), at),)
    found = [f for those in bend_findings(q, street).values() for f in those]
    levels = q.attempt(grade_line, street)
    if not is_new(q, street):
        return (*found, *([failed(levels, thing(street), at)] if isinstance(levels, Unsolved) else []))
    found += section_findings(q, street)
    found += _order(q, street)
    found += _ground(q, street)
    if isinstance(levels, Unsolved):
        return (*found, failed(levels, thing(street), place(q, street, 0.5 * laid.chain.total)))
    found += level_findings(q, street)
    found += face_findings(q, thing(street), faces_of(q, street), at)
    return unique(found)


def _order(q: Engine, street: str) -> list[Finding]:
    """Streets that are to be built before it and yet wait for it; each such pair is told of both."""
    return [
        Finding(
            "order in a ring",
            thing(street),
            name_of(q, street),
            f"it is to be built after {name_of(q, other)}, which has to wait for it: neither has the other's earthworks as its ground",
            "choose anew which of the streets there is built later",
            place=place(q, street, 0.5 * chain_of(q, street).total),
            mend=Mend(f"{name_of(q, street)} does not wait", decided_order(street, other, NEITHER)),
            also=(thing(other),),
        )
        for other in ring_through(q, street)
    ]


@query
def bend_findings(q: Engine, street: str) -> dict[int, tuple[Finding, ...]]:
    """Findings on a street's bends, by their place in its line."""
    found: dict[int, list[Finding]] = {}
    for problem in centreline(q, street).problems:
        found.setdefault(problem.index, []).append(_misfit(q, street, problem))
    if is_new(q, street):
        for i in range(1, len(bends_of(q, street)) - 1):
            found.setdefault(i, []).extend(_curve_wanted(q, street, i))
    return {i: tuple(those) for i, those in sorted(found.items()) if those}


def _misfit(q: Engine, street: str, p: BendProblem) -> Finding:
    """A bend that could not be drawn as designed."""
    e, n, *_ = bends_of(q, street)[p.index]
    of, part, at = thing(street), f"{name_of(q, street)} bend {p.index + 1}", (e, n)
    if p.kind == "repeated":
        words, remedy = "it stands at the same place as the point before it", "remove one of the two"
        mend = Mend("Remove it", partial(remove_bend, street=street, index=p.index))
        return Finding("points at one place", of, part, words, remedy, place=at, mend=mend)
    if p.kind == "transition":
        words = f"its transitions ({p.wanted:.2f} m together) turn more than the bend does"
        remedy = f"at most {p.largest:.2f} m together fit"
        return Finding("bends that do not fit", of, part, words, remedy, p.wanted, p.largest, place=at)
    if p.kind == "turn":
        words = f"what lies beside its own arc turns {p.wanted:.2f}°, and the bend {p.largest:.2f}°"
        return Finding(
            "bends that do not fit", of, part, words, "lessen its outer turns", p.wanted, p.largest, place=at
        )
    largest = float(np.floor(p.largest * 100) / 100)
    words = f"a radius of {p.wanted:g} m needs more than the legs beside it"
    remedy, mend = f"the largest radius that fits is {largest:.2f} m", _radius_mend(street, p.index, largest)
    return Finding("bends that do not fit", of, part, words, remedy, p.wanted, p.largest, place=at, mend=mend)


def _curve_wanted(q: Engine, street: str, i: int) -> list[Finding]:
    """A bend whose radius is less than the class's least, or that has none."""
    bends, least = bends_of(q, street), class_of(q, street).least_radius
    e, n, radius, *_ = bends[i]
    of, part = thing(street), f"{name_of(q, street)} bend {i + 1}"
    if radius > 0 and too_low(radius, least):
        words, remedy = f"radius {radius:g} m is less than {least:g} m", "enlarge the radius"
        mend = _radius_mend(street, i, least)
        return [Finding("radius", of, part, words, remedy, radius, least, place=(e, n), mend=mend)]
    before, at, after = (np.array(b[:2]) for b in bends[i - 1 : i + 2])
    turn = abs(float(np.degrees(turn_between(at - before, after - at))))
    if radius <= 0 and turn > _KINK:
        words = f"the line turns by {turn:.2f}° without a curve"
        remedy = "give it a radius, or leave it where the break is meant"
        mend = _radius_mend(street, i, _fitting(bends, i, least))
        return [Finding("kink", of, part, words, remedy, turn, 0.0, place=(e, n), severity="near", mend=mend)]
    return []


def _fitting(bends: tuple[BendInput, ...], i: int, radius: float) -> float:
    """The radius, or the largest whole centimetres of it that fit, for bend ``i``."""
    tried = [b._replace(radius=radius) if k == i else b for k, b in enumerate(bends)]
    misfit = next((p for p in lay_bends(tried).problems if p.index == i and p.kind == "radius"), None)
    return radius if misfit is None else float(np.floor(misfit.largest * 100) / 100)


def _radius_mend(street: str, i: int, radius: float) -> Mend:
    return Mend(f"Set the radius to {radius:g} m", lambda s: set_bend(s, street, i, radius=radius))


def _ground(q: Engine, street: str) -> list[Finding]:
    name, of = name_of(q, street), thing(street)
    if ground_of(q).empty:
        words, remedy = "there is no ground, so its earthworks end nowhere", "bring in a survey"
        return [Finding("ground", of, name, words, remedy, severity="near", place=place(q, street, 0.0))]
    ground = ground_along(q, street)
    off = ~np.isfinite(ground.levels)
    if not off.any():
        return []
    s = float(ground.chainages[max(int(np.argmax(off)) - 1, 0)])  # the last place still on the ground
    words, remedy = f"from chainage {s:.2f} it leaves the ground", "move it onto the ground, or bring in more survey"
    return [Finding("street off the ground", of, name, words, remedy, chainage=s, place=place(q, street, s))]


@query
def level_findings(q: Engine, street: str) -> tuple[Finding, ...]:
    """Findings on the grade line of a new street."""
    levels = grade_line(q, street)
    checks = (_grades, _curves, _sight, _departures, _low_points, _ends)
    return tuple(f for check in checks for f in check(q, street, levels))


def _grades(q: Engine, street: str, levels: GradeLine) -> list[Finding]:
    rules, profile, found, name, of = class_of(q, street), levels.profile, [], name_of(q, street), thing(street)
    vips = vips_of(q, street)
    for i, g in enumerate(own_grades(q, street)):
        low = too_low(abs(_entered(vips, levels, i, float(g))), rules.least_grade)
        if low or too_high(abs(g), rules.most_grade):
            s = float(0.5 * (profile.chainages[i] + profile.chainages[i + 1]))
            limit = rules.least_grade if low else rules.most_grade
            words = (
                f"from {profile.chainages[i]:.2f} to {profile.chainages[i + 1]:.2f} it is at {share(float(g))}, "
                f"{'less' if low else 'more'} than {share(limit)}"
            )
            rule = "grade too flat" if low else "grade too steep"
            remedy, at = "raise or lower one of its VIPs", place(q, street, s)
            found.append(Finding(rule, of, name, words, remedy, abs(float(g)), limit, s, at))
    return found


def _entered(vips: tuple[Vip, ...], levels: GradeLine, leg: int, grade: float) -> float:
    """A leg's grade as it was entered, where it was, so that a limit typed exactly is met exactly."""
    i = levels.index[leg + 1]
    if i >= 0 and vips[i].grade is not None:
        return float(vips[i].grade or 0.0)
    return grade


def needed_curve(rules: StreetClass, change: float) -> float:
    """The least curve length (m) for a change of grade."""
    k = rules.least_crest_k if change < 0 else rules.least_sag_k
    return max(rules.least_curve_length, k * abs(change) * 100.0)


def _curves(q: Engine, street: str, levels: GradeLine) -> list[Finding]:
    rules, profile, found, name, of = class_of(q, street), levels.profile, [], name_of(q, street), thing(street)
    for i in range(1, len(profile.chainages) - 1):
        change, have = float(profile.changes[i]), float(profile.curves[i])
        need = needed_curve(rules, change)
        if abs(change) < _SHARP or not too_low(have, need) or levels.states[i] == "tied":
            continue
        s, j, crest = float(profile.chainages[i]), levels.index[i], change < 0
        mend = None
        if j >= 0:
            mend = Mend(
                f"Make the curve {need:.2f} m long", partial(set_vip, street=street, index=j, curve_length=need)
            )
        words = (
            f"the {'crest' if crest else 'sag'} at {s:.2f} turns by {share(abs(change))} over {have:.2f} m; "
            f"K {rules.least_crest_k if crest else rules.least_sag_k:g} and {rules.least_curve_length:g} m need {need:.2f} m"
        )
        at = place(q, street, s)
        found.append(Finding("curve too short", of, name, words, "lengthen the curve", have, need, s, at, mend=mend))
    for i, over in profile.overlaps():
        s = float(profile.chainages[i])
        words = f"the curves at {s:.2f} and {profile.chainages[i + 1]:.2f} overlap by {over:.2f} m"
        remedy, at = "shorten one of them or move the VIPs apart", place(q, street, s)
        found.append(Finding("curves overlap", of, name, words, remedy, over, 0.0, s, at))
    return found


def _sight(q: Engine, street: str, levels: GradeLine) -> list[Finding]:
    """Crests over which a driver sees less far than the class asks; one finding each, at the worst place."""
    rules, found, name, of = class_of(q, street), [], name_of(q, street), thing(street)
    if rules.sight_distance <= 0 or len(levels.states) > MOST_SHOWN:
        return []
    p, heights = levels.profile, (rules.eye_height, rules.target_height)
    s, seen = sight_along(p, rules.sight_distance, *heights)
    short = np.flatnonzero(seen < rules.sight_distance * (1.0 - 1e-9))
    crests = np.flatnonzero((p.changes < 0) & (np.array(levels.states) != "tied"))
    if not len(crests):
        return []
    nearest = crests[np.argmin(np.abs(s[short][:, None] - p.chainages[crests]), axis=1)]
    for i in np.unique(nearest).tolist():
        part = short[nearest == i]
        worst = int(part[np.argmin(seen[part])])
        at, j = float(p.chainages[i]), levels.index[i]
        need = curve_for_sight(rules.sight_distance, float(p.changes[i]), *heights)
        mend = None
        if j >= 0 and need > p.curves[i] and levels.states[i] != "locked":
            mend = Mend(
                f"Make the curve {need:.2f} m long", partial(set_vip, street=street, index=j, curve_length=need)
            )
        words = (
            f"over the crest at {at:.2f} a target {rules.target_height:g} m high is seen from {seen[worst]:.1f} m only, "
            f"looking from {s[worst]:.2f}; its class wants {rules.sight_distance:g} m"
        )
        spot, limit = place(q, street, float(s[worst])), rules.sight_distance
        found.append(
            Finding(
                "sight over a crest",
                of,
                name,
                words,
                "lengthen its curve",
                float(seen[worst]),
                limit,
                at,
                spot,
                mend=mend,
            )
        )
    return found


def _departures(q: Engine, street: str, levels: GradeLine) -> list[Finding]:
    """Where a proposed line leaves the ground by more than its class allows."""
    if "proposed" not in levels.states:
        return []
    (cut, fill), found = tolerances(q, street), []
    ground, s = ground_along(q, street), levels.profile.chainages
    within = (ground.chainages >= s[0]) & (ground.chainages <= s[-1]) & np.isfinite(ground.levels)
    at = ground.chainages[within]
    above = levels.profile.level(at) - ground.levels[within] - wanted_of(q, street).raised
    for word, depths, limit in (("cut", -above, cut), ("fill", above, fill)):
        if not len(at) or not too_high(float(depths.max()), limit):
            continue
        k = int(np.argmax(depths))
        most, where = float(depths[k]), float(at[k])
        words = f"at {where:.2f} the proposal has {most:.2f} m of {word}; at most {limit:g} m is wanted"
        remedy = "no line within its grades does better with these ties: set its VIPs, or move the street"
        of, name, spot = thing(street), name_of(q, street), place(q, street, where)
        found.append(
            Finding("proposal leaves its tolerance", of, name, words, remedy, most, limit, where, spot, severity="near")
        )
    return found


def _low_points(q: Engine, street: str, levels: GradeLine) -> list[Finding]:
    found = []
    for t in levels.profile.turning_points():
        held = any(c.begin - _ON <= t.chainage <= c.finish + _ON for c in carried(q, street))
        if t.kind == "low" and not held:
            words = (
                f"its crown is lowest at {t.chainage:.2f}, level {t.level:.3f}: water comes from both ways and stands"
            )
            remedy = "see that pits take it there, or move a VIP so that it falls one way"
            found.append(
                Finding(
                    "low point along the street",
                    thing(street),
                    name_of(q, street),
                    words,
                    remedy,
                    chainage=t.chainage,
                    place=place(q, street, t.chainage),
                    severity="near",
                )
            )
    return found


def _ends(q: Engine, street: str, levels: GradeLine) -> list[Finding]:
    return [*_locked_off(q, street, levels), *_short(q, street, levels)]


def _locked_off(q: Engine, street: str, levels: GradeLine) -> list[Finding]:
    """Locked VIPs that the line cannot pass: beyond the street's end, or where a junction holds it."""
    found = []
    for i, v in enumerate(vips_of(q, street)):
        if v.locked and i not in levels.index:
            words = f"its locked VIP at {v.chainage:.2f} lies where the grade line does not reach, so it holds nothing"
            mend = Mend("Unlock it", partial(unlock_vip, street=street, index=i))
            at, of = place(q, street, float(np.clip(v.chainage, 0.0, chain_of(q, street).total))), thing(street)
            remedy = "unlock it and take it out, or lengthen the street"
            name, rule = name_of(q, street), "locked VIP off the line"
            found.append(
                Finding(rule, of, name, words, remedy, chainage=v.chainage, place=at, severity="near", mend=mend)
            )
    return found


def _short(q: Engine, street: str, levels: GradeLine) -> list[Finding]:
    profile, total = levels.profile, chain_of(q, street).total
    low = min(own_range(q, street, side)[0] for side in SIDES)
    first, last = float(profile.chainages[0]), float(profile.chainages[-1])
    held = {end for end, _ in end_ties(q, street)}
    late, early = "start" not in held and first > low + 1e-6, "end" not in held and last < total - 1e-6
    if not (late or early):
        return []
    s = first if late else last
    words = f"its grade line runs from {first:.2f} to {last:.2f}, the street from 0 to {total:.2f}"
    at, remedy = place(q, street, min(max(s, 0.0), total)), "run it on to the street's end"
    vips = _run_on(q, street, levels, (0.0 if late else None, total if early else None))
    mend = Mend("Run it on as it falls", lambda site: set_vips(site, street, vips)) if vips else None
    name = name_of(q, street)
    return [Finding("grade line too short", thing(street), name, words, remedy, chainage=s, place=at, mend=mend)]


def _run_on(q: Engine, street: str, levels: GradeLine, to: tuple[float | None, float | None]) -> list[Vip]:
    """The VIPs of a street with its first and last legs run on to chainages; a locked VIP stays, and another stands beyond it. None where
    none is set.
    """
    vips, p = list(vips_of(q, street)), levels.profile
    if not vips or len(p.grades) < 1:
        return []
    for end, leg, at in ((0, 0, to[0]), (-1, len(p.grades) - 1, to[1])):
        if at is None:
            continue
        z = float(p.levels[end] + p.grades[leg] * (at - p.chainages[end]))
        fresh = Vip(chainage=at, level=round(z, 6))
        if vips[end].locked:
            vips.insert(0 if end == 0 else len(vips), fresh)
        else:
            vips[end] = fresh
    return vips


def face_findings(
    q: Engine, of: ThingId, faces: tuple[FaceId, ...], at: tuple[float, float], pits: Floats = _NO_PITS
) -> list[Finding]:
    """Faces that could not be made, hollows inside patches that no pit (k, 2) drains, and batters that do not reach the ground."""
    found = []
    for id in faces:
        made = q.attempt(finished_mesh, id)
        if isinstance(made, Unsolved):
            found.append(failed(made, of, at))
            continue
        shape = face(q, id)
        if isinstance(shape, Patch):
            found += _hollows(of, made, shape, pits)
        if isinstance(shape, Sheet) and not ground_of(q).empty:
            missed = np.flatnonzero(~shape.met)
            if missed.size:
                hinge, toe = shape.points[int(missed[0]), [0, -1]]
                reach = float(np.hypot(*(toe - hinge)[:2]))
                words = f"from {hinge[2]:.3f} the batter meets no ground within {reach:.1f} m at {missed.size} rows, so it is drawn steeper"
                remedy = "a wall or a steeper batter is needed, or the street moved"
                found.append(
                    Finding(
                        "batter finds no ground", of, shape.title, words, remedy, place=point(hinge), severity="near"
                    )
                )
    return found


def _hollows(of: ThingId, piece: Piece, patch: Patch, pits: Floats) -> list[Finding]:
    """Where water would stand inside a patch."""
    found = []
    for hollow in standing_water(piece.surface, patch, pits):
        words = f"water stands {1000 * hollow.depth:.0f} mm deep at {hollow.point[2]:.3f} inside it, over {hollow.area:.1f} m²"
        remedy = "change the levels of the street there, its crossfall or its radial fall, or put a pit there"
        place = point(hollow.point)
        found.append(Finding("hollow", of, piece.title, words, remedy, hollow.depth, 0.0, place=place))
    return found


def standing_water(surface: Surface, patch: Patch, pits: Floats) -> list[Hollow]:
    """Hollows of a patch that water leaves neither over its outlets nor by pits (k, 2)."""
    if patch.outlets is None and not len(pits):
        return hollows(surface, DAMP)
    rim = np.unique(surface.outline_edges)
    ways_out = surface.points[rim, :2] if patch.outlets is None else patch.outlets
    open_ = [rim[_nearest(surface.points[rim, :2], ways_out) < _SAME_PLACE]]
    if len(pits):
        away = np.hypot(*(surface.points[:, None, :2] - pits[None]).transpose(2, 0, 1))
        open_ += [np.flatnonzero(away[:, k] < away[:, k].min() + _SAME_PLACE) for k in range(len(pits))]
    return hollows(surface, DAMP, np.unique(np.concatenate(open_)))


def _nearest(points: Floats, others: Floats) -> Floats:
    """Metres (n,) from each point to the nearest of some others."""
    found: Floats = np.hypot(*(points[:, None] - others[None]).transpose(2, 0, 1)).min(axis=1)
    return found
