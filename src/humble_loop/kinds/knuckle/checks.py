"""Rules of a knuckle: its lips fit, drain, and lie no flatter and no steeper from the crown than the class allows."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.knuckle.faces import faces_of
from humble_loop.kinds.knuckle.layout import (
    KnuckleLine,
    elbow,
    knuckle_name,
    knuckle_of,
    knuckles_on,
    lip_of,
    lip_rule,
    ring,
    rings_of,
    side_of,
)
from humble_loop.kinds.knuckle.windows import falls_of
from humble_loop.kinds.street.checks import face_findings
from humble_loop.kinds.street.plan import chain_of, class_of, is_new
from humble_loop.kinds.street.section import gaps
from humble_loop.lines.abreast import abreast
from humble_loop.lines.findings import Finding, failed, point, share, too_high, too_low, unique
from humble_loop.lines.line import ThingId, line

RULES = ("knuckle drainage", "knuckle too flat", "fall round a knuckle", "knuckles overlap")
_AT = 1.0  # metres from a low point within which a pit takes its water
_LEVEL = 1e-9


def knuckle_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Findings on a knuckle."""
    k, of, name = knuckle_of(q, id), ThingId("knuckle", id), knuckle_name(q, id)
    chain = chain_of(q, k.street)
    at = point(chain.points_at([float(np.clip(k.at, 0.0, chain.total))])[0])
    if not is_new(q, k.street):
        words = "its street is an existing one, at which nothing is built"
        return (Finding("cannot be worked out", of, name, words, "make the street a new one, or remove it", place=at),)
    bend = q.attempt(elbow, id)
    if isinstance(bend, Unsolved):
        return (failed(bend, of, at),)
    at = point(chain.points_at([bend.middle])[0])
    found: list[Finding] = []
    for which in ("outer", "inner") if k.inner is not None else ("outer",):
        made = q.attempt(ring, id, which)
        if isinstance(made, Unsolved):
            found.append(failed(made, of, at))
            continue
        rule = q.attempt(lip_rule, id, which)
        if isinstance(rule, Unsolved):
            found.append(failed(rule, of, at))
    found += _overlaps(q, id, of, name)
    if not found:
        found += [*_water(q, id, of, name), *_falls(q, id, of, name)]
        found += face_findings(q, of, faces_of(q, id), at, pits_of(q, id))
    return unique(found)


def pits_of(q: Engine, id: str) -> Floats:
    """Where a pit stands on a bulge's lip (k, 2): at its low points, or in its middle."""
    if not knuckle_of(q, id).pit:
        return np.empty((0, 2))
    lip, made = line(q, KnuckleLine(id)), ring(q, id, "outer")
    lows = [t.chainage for t in lip_rule(q, id, "outer").turning_points() if t.kind == "low"]
    found: Floats = lip.plan.points(lows or [made.middle])
    return found


def _water(q: Engine, id: str, of: ThingId, name: str) -> list[Finding]:
    """Low points of the lips without a pit, and stretches along which water hardly runs."""
    found, k, rules = list[Finding](), knuckle_of(q, id), class_of(q, knuckle_of(q, id).street)
    for which in rings_of(q, id):
        rule, plan = lip_rule(q, id, which), line(q, KnuckleLine(id, which)).plan
        street = line(q, lip_of(q, id, which))
        for t in rule.turning_points():
            if t.kind == "low" and not (k.pit and which == "outer"):
                beside = abreast(street.plan, plan.points([t.chainage])).at
                if float(street.rule.levels(beside)[0]) < t.level - _LEVEL:
                    continue  # from there it falls to the street's lip, along which water runs on
                words = f"water stands at {t.level:.3f} on its {which} lip, {t.chainage:.2f} m along"
                remedy = "put a pit there, or let it rise from the street's lip"
                where = point(plan.points([t.chainage])[0])
                found.append(Finding(RULES[0], of, name, words, remedy, chainage=t.chainage, place=where))
        if not rule.turning_points():
            s = np.linspace(0.0, rule.length, 81)
            grade = np.abs(rule.cubic.grade(s))
            n = int(np.argmin(grade))
            if too_low(float(grade[n]), rules.least_kerb_fall):
                words = (
                    f"its {which} lip falls at only {share(float(grade[n]))}, less than {share(rules.least_kerb_fall)}"
                )
                where, least = point(plan.points([s[n]])[0]), rules.least_kerb_fall
                remedy = "change its fall or a level of it"
                found.append(Finding(RULES[1], of, name, words, remedy, float(grade[n]), least, float(s[n]), where))
    return found


def _falls(q: Engine, id: str, of: ThingId, name: str) -> list[Finding]:
    """The fall between the street's lip and the bulge's where that is widest, and of the halves of the carriageway over the bend."""
    found, k, rules = list[Finding](), knuckle_of(q, id), class_of(q, knuckle_of(q, id).street)
    made = ring(q, id, "outer")
    s, fall = falls_of(q, id)
    n = int(np.argmin(np.abs(s - made.middle)))
    value = float(fall[n])
    flat, steep = too_low(abs(value), rules.least_radial_fall), too_high(abs(value), rules.most_radial_fall)
    if flat or steep:
        way = "falls" if value > 0 else "rises"
        limit = rules.least_radial_fall if flat else rules.most_radial_fall
        words = f"from the street's lip to its own it {way} at {share(abs(value))}, {'less' if flat else 'more'} than {share(limit)}"
        place = point(made.chain.points_at([made.middle])[0])
        remedy = "change its fall, or the level in its middle"
        found.append(Finding(RULES[2], of, name, words, remedy, abs(value), limit, made.middle, place))
    for which, across in (("outer", k.across), ("inner", k.inner_across)):
        # One that is asked to be level is meant to be.
        if across is not None and abs(across) > _LEVEL:
            flat, steep = too_low(abs(across), rules.least_crossfall), too_high(abs(across), rules.most_crossfall)
            if flat or steep:
                limit = rules.least_crossfall if flat else rules.most_crossfall
                words = f"over it the {which} half of the carriageway lies at {share(across)}, {'less' if flat else 'more'} than {share(limit)}"
                remedy = "change that crossfall, or let it be level"
                place = point(chain_of(q, k.street).points_at([elbow(q, id).middle])[0])
                found.append(Finding(RULES[2], of, name, words, remedy, abs(across), limit, place=place))
    return found


def _overlaps(q: Engine, id: str, of: ThingId, name: str) -> list[Finding]:
    """Others that take some of the same lip: a second knuckle, or the mouth of a junction."""
    k, found = knuckle_of(q, id), []
    for which in rings_of(q, id):
        made, side = ring(q, id, which), side_of(q, id, which)
        for other in knuckles_on(q, k.street):
            if other.id < id and which in rings_of(q, other.id) and side_of(q, other.id, which) == side:
                theirs = ring(q, other.id, which)
                if theirs.begin < made.finish and theirs.finish > made.begin:
                    words = f"it and {knuckle_name(q, other.id)} take the same lip"
                    where = point(made.chain.points_at([made.middle])[0])
                    found.append(Finding(RULES[3], of, name, words, "remove one of them", place=where))
        if not found and any(a < made.begin - 1e-6 and b > made.begin + 1e-6 for a, b in gaps(q, k.street, side)):
            words = f"its {which} lip begins where another opening of the kerb stands"
            where = point(made.chain.points_at([0.0])[0])
            found.append(Finding(RULES[3], of, name, words, "lessen its radii, or move the junction", place=where))
    return found
