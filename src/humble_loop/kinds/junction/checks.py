"""Rules of a junction: throat, returns, their falls and low points; and meetings that are not laid out yet."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.ground.hollow import Hollow
from humble_loop.kinds.junction.approach import RULES as APPROACH_RULES
from humble_loop.kinds.junction.approach import approach_findings
from humble_loop.kinds.junction.corners import (
    Return,
    ReturnLine,
    change_corner,
    corner_choice,
    corner_name,
    kerb_return,
    largest_radius,
    mouth,
    through_lip,
)
from humble_loop.kinds.junction.faces import JunctionFace, faces_of
from humble_loop.kinds.junction.layout import fits_through, throat
from humble_loop.kinds.junction.medians import RULES as MEDIAN_RULES
from humble_loop.kinds.junction.medians import median_findings
from humble_loop.kinds.junction.nodes import Arm, arm_name, joints_on, node_id, require_joint, unworked
from humble_loop.kinds.junction.nose import RULES as NOSE_RULES
from humble_loop.kinds.junction.nose import nose_findings
from humble_loop.kinds.junction.ramps import RULES as RAMP_RULES
from humble_loop.kinds.junction.ramps import ramp_findings
from humble_loop.kinds.junction.splay import RULES as SPLAY_RULES
from humble_loop.kinds.junction.splay import splay_findings
from humble_loop.kinds.junction.windows import window_findings
from humble_loop.kinds.street.checks import face_findings, standing_water
from humble_loop.kinds.street.plan import class_of, is_new, name_of
from humble_loop.lines.faces import Patch, face, finished_mesh
from humble_loop.lines.findings import Finding, Mend, failed, point, share, too_high, too_low, unique
from humble_loop.lines.line import ThingId, line, line_plan
from humble_loop.lines.rules import CubicBetween
from humble_loop.site.model import SIDES, Side

RULES = (
    *APPROACH_RULES,
    *SPLAY_RULES,
    *RAMP_RULES,
    *NOSE_RULES,
    *MEDIAN_RULES,
    "return too steep",
    "return too flat",
    "return on a taper",
    "return outside its fall window",
    "low point without a pit",
    "corners run into one another",
)
_BESIDE = 1e-5  # metres by which returns may overlap that stand beside one another
_STANDS = 2.0  # metres from a low point within which standing water is of it
_SLANT = 1e-3  # metres of width per metre of lip beside which nothing is seen


@query
def arm_findings(q: Engine, street: str, arm: Arm) -> tuple[Finding, ...]:
    """Findings on an arm of a junction."""
    if not is_new(q, street):
        return ()
    of, at = ThingId("junction", node_id(q, street, arm)), point(require_joint(q, street, arm).node)
    t = q.attempt(throat, street, arm)
    if isinstance(t, Unsolved):
        return (failed(t, of, at),)
    found: list[Finding] = [*approach_findings(q, street, arm, of), *median_findings(q, street, arm, of)]
    whole = True
    for corner in SIDES:
        made = q.attempt(kerb_return, street, arm, corner)
        lip = q.attempt(line, ReturnLine(street, arm, corner))
        bad = made if isinstance(made, Unsolved) else lip if isinstance(lip, Unsolved) else None
        if bad is not None:
            whole = False
            mend = _smaller(q, street, arm, corner) if isinstance(made, Unsolved) else None
            found.append(replace(failed(bad, of, at), mend=mend))
            continue
        found += _return(q, street, arm, corner, of)
        found += window_findings(q, street, arm, corner, of)
        found += splay_findings(q, street, arm, corner, of)
        found += nose_findings(q, street, arm, corner, of)
        found += ramp_findings(q, street, arm, corner, of)
    if whole:
        found += _beside_others(q, street, arm, of)
        found += face_findings(q, of, faces_of(q, street, arm), at, pits_of(q, street, arm))
    return unique(found)


def pits_of(q: Engine, street: str, arm: Arm) -> Floats:
    """Where pits stand round an arm (k, 2): at the low points of returns that have one, or half way along."""
    found = []
    for corner in SIDES:
        made = q.attempt(line, ReturnLine(street, arm, corner))
        if isinstance(made, Unsolved) or not corner_choice(q, street, arm, corner).pit:
            continue
        assert isinstance(made.rule, CubicBetween)
        low = [t.chainage for t in made.rule.turning_points() if t.kind == "low"]
        found.append(made.points(low or [0.5 * made.plan.end])[:, :2])
    return np.concatenate(found) if found else np.empty((0, 2))


@query
def hollows_of(q: Engine, street: str, arm: Arm, pits: bool) -> tuple[Hollow, ...]:
    """Where water stands in an arm of a junction, in spite of its pits or without them."""
    id = JunctionFace(street, arm, "patch")
    piece, shape = q.attempt(finished_mesh, id), q.attempt(face, id)
    if isinstance(piece, Unsolved) or not isinstance(shape, Patch):
        return ()
    return tuple(standing_water(piece.surface, shape, pits_of(q, street, arm) if pits else np.empty((0, 2))))


def _smaller(
    q: Engine, street: str, arm: Arm, corner: Side, fits: Callable[[Return], bool] = lambda made: True
) -> Mend | None:
    """The edit that gives a corner the largest radius that fits, where less than it has does."""
    if corner_choice(q, street, arm, corner).shape != "arc":
        return None
    largest = largest_radius(q, street, arm, corner, fits)
    edit = change_corner(q, street, arm, corner, radius=largest)
    return Mend(f"Radius {largest:.2f} m", edit) if largest else None


def _beside_others(q: Engine, street: str, arm: Arm, of: ThingId) -> list[Finding]:
    """Arms that leave the through street on the same side and so near that their returns overlap; each two are told once."""
    j, mine, found = require_joint(q, street, arm), mouth(q, street, arm), []
    for other, its in joints_on(q, j.through):
        if (other, str(its)) >= (street, str(arm)) or require_joint(q, other, its).lip_side != j.lip_side:
            continue
        theirs = mouth(q, other, its)
        if mine is None or theirs is None or mine[0] >= theirs[1] - _BESIDE or theirs[0] >= mine[1] - _BESIDE:
            continue
        low, high = max(mine[0], theirs[0]), min(mine[1], theirs[1])
        words = f"its returns and those of {arm_name(q, other, its)} overlap by {high - low:.2f} m along {name_of(q, j.through)}"
        at = point(line_plan(q, through_lip(j)).points([0.5 * (low + high)])[0])
        remedy, name = "lessen their radii, or move the two junctions apart", arm_name(q, street, arm)
        rule, other_junction = "corners run into one another", ThingId("junction", node_id(q, other, its))
        mend = _clear_of(q, street, arm, theirs, mine)
        if mend is not None:
            remedy = (
                f"lessen its radius: {mend.words.lower()} leaves the others theirs; or move the two junctions apart"
            )
        found.append(
            Finding(rule, of, name, words, remedy, high - low, 0.0, place=at, mend=mend, also=(other_junction,))
        )
    return found


def _clear_of(q: Engine, street: str, arm: Arm, theirs: tuple[float, float], mine: tuple[float, float]) -> Mend | None:
    """The edit that makes the return of an arm on the side of its neighbour so small that both have room."""
    nearer = mine[0] < theirs[0]
    for corner in SIDES:
        made = q.attempt(kerb_return, street, arm, corner)
        if isinstance(made, Unsolved) or (made.through_at == mine[0]) == nearer:
            continue
        clear = (
            (lambda r: r.through_at <= theirs[0] + _BESIDE)
            if nearer
            else (lambda r: r.through_at >= theirs[1] - _BESIDE)
        )
        return _smaller(q, street, arm, corner, clear)
    return None


def _return(q: Engine, street: str, arm: Arm, corner: Side, of: ThingId) -> list[Finding]:
    rules, name = class_of(q, street), corner_name(q, street, arm, corner)
    made = line(q, ReturnLine(street, arm, corner))
    assert isinstance(made.rule, CubicBetween)
    cubic, found = made.rule.cubic, []

    def place(s: float) -> tuple[float, float]:
        return point(made.plan.points([s])[0])

    if not fits_through(q, street, arm, corner):
        words = (
            "its return starts where the through street has no lip of its own: another junction or a head stands there"
        )
        remedy = "lessen its radius, or move the two junctions apart"
        found.append(Finding("corners run into one another", of, name, words, remedy, place=place(0.0)))
    for words, at, slant in zip(("starts", "ends"), (0.0, cubic.length), kerb_return(q, street, arm, corner).slants):
        if abs(slant) > _SLANT:
            told = f"it {words} where the lip's width changes, by {share(abs(slant))}; verge and path do not fit one another there"
            remedy = "end the change of width before the return, or begin it beyond"
            found.append(Finding("return on a taper", of, name, told, remedy, abs(slant), _SLANT, at, place(at)))
    s = np.linspace(0.0, cubic.length, 81)
    grade = np.abs(cubic.grade(s))
    steepest = int(np.argmax(grade))
    if too_high(float(grade[steepest]), rules.most_return_fall):
        words = f"it falls at {share(float(grade[steepest]))}, more than {share(rules.most_return_fall)}"
        remedy, at = "enlarge its radius or ease the side street's first grade", float(s[steepest])
        value, limit = float(grade[steepest]), rules.most_return_fall
        found.append(Finding("return too steep", of, name, words, remedy, value, limit, at, place(at)))
    turning, water = cubic.turning_points(), hollows_of(q, street, arm, False)
    pit = corner_choice(q, street, arm, corner).pit
    for t in turning:
        if t.kind == "low" and not pit:
            stands = any(np.hypot(*(h.point[:2] - place(t.chainage))) < _STANDS for h in water)
            words = (
                f"water stands at {t.level:.3f}, {t.chainage:.2f} m along the return"
                if stands
                else f"water meets at {t.level:.3f}, {t.chainage:.2f} m along the return, and crosses the junction from there"
            )
            remedy = "put a pit there, or settle the junction, or change the side street's first grade"
            mend = Mend("Put a pit there", change_corner(q, street, arm, corner, pit=True))
            where = place(t.chainage)
            found.append(
                Finding(
                    "low point without a pit",
                    of,
                    name,
                    words,
                    remedy,
                    chainage=t.chainage,
                    place=where,
                    mend=mend,
                    severity="broken" if stands else "near",
                )
            )
    flattest = int(np.argmin(grade))
    if not turning and too_low(float(grade[flattest]), rules.least_return_fall):
        words = f"it falls at only {share(float(grade[flattest]))}, less than {share(rules.least_return_fall)}"
        remedy, at = "steepen the side street's first grade or the through street there", float(s[flattest])
        value, limit = float(grade[flattest]), rules.least_return_fall
        found.append(Finding("return too flat", of, name, words, remedy, value, limit, at, place(at)))
    return found


@query
def meeting_findings(q: Engine, street: str) -> tuple[Finding, ...]:
    """Places at which a street crosses others where no junction is laid out."""
    found = []
    for node in unworked(q, street):
        streets = tuple(dict.fromkeys(leg.street for leg in node.legs))
        names = " and ".join(name_of(q, s) for s in streets)
        words = f"{names} cross, and no junction is laid out there: {node.why}"
        if all(is_new(q, s) for s in streets):
            words += "; each is built through the other, and what they share is counted once"
        remedy = (
            "let them cross more squarely and apart from other junctions, or end one of them on the other's centreline"
        )
        of, also = ThingId("street", streets[0]), tuple(ThingId("street", s) for s in streets[1:])
        found.append(Finding("streets meet unworked", of, names, words, remedy, place=point(node.place), also=also))
    return tuple(found)
