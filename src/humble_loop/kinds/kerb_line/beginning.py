"""The first levels of a kerb or boundary line: those that the lip or boundary has now, by few VIPs."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.kerb_line.levels import kerb_lines_on, name_on
from humble_loop.kinds.kerb_line.model import KerbLine, KerbVip, add_kerb_line
from humble_loop.kinds.street.cutting import cut_line
from humble_loop.kinds.street.levels import GradeLine, grade_line
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new, name_of
from humble_loop.kinds.street.section import own_range
from humble_loop.lines.line import line
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError, made
from humble_loop.site.model import Side, Site, State, other_side

_LEAST = 5.0  # metres of a stretch that is worth a kerb line
_NEAR = 0.01  # metres from an end at which a VIP is left out


def own_levels(q: Engine, street: str, side: Side, point: str) -> Edit | None:
    """The edit that gives the longest stretch of a side's lip or boundary that has none yet its own grade line, as it lies now; None where
    there is no room for one.
    """
    if not is_new(q, street) or isinstance(q.attempt(grade_line, street), Unsolved):
        return None
    low, high = own_range(q, street, side)
    taken = [parts.one(q, KerbLine, id) for id in kerb_lines_on(q, street, side, point)]
    total, turned = chain_of(q, street).total, frame_of(q, street).turned
    ends = sorted((total - k.finish, total - k.begin) if turned else (k.begin, k.finish) for k in taken)
    free, at = [], low
    for a, b in ends:
        free.append((at, min(a, high)))
        at = max(at, b)
    free.append((at, high))
    begin, finish = max(free, key=lambda f: f[1] - f[0])
    if finish - begin < _LEAST:
        return None

    def edit(site: Site) -> Site:
        vips = vips_as_it_lies(q, street, side, point, begin, finish)
        if turned:
            vips = [v.model_copy(update={"chainage": total - v.chainage}) for v in reversed(vips)]
        return add_kerb_line(site, street, other_side(side) if turned else side, vips, point)

    return edit


def vips_as_it_lies(q: Engine, street: str, side: Side, point: str, begin: float, finish: float) -> list[KerbVip]:
    """VIPs that lay a grade line where the lip or boundary now is: the crown's, lower or higher by what lies between, and both
    ends.
    """
    name = name_on(q, street, side, point)
    crown, lip = line(q, StreetLine(street)).rule, line(q, StreetLine(street, name, side)).rule
    p = grade_line(q, street).profile
    a, b = max(begin, float(p.chainages[0])), min(finish, float(p.chainages[-1]))
    if b - a < _LEAST:
        raise EditError(
            f"'{name_of(q, street)}' has no levels from {begin:.2f} to {finish:.2f}; give it a grade line first"
        )
    part = between(p, a, b)
    at = np.unique(np.concatenate([[begin, finish], part.chainages]))
    keep = [s for s in at if s in (begin, finish) or (s > begin + _NEAR and s < finish - _NEAR)]
    found = []
    for s in keep:
        k = int(np.argmin(np.abs(part.chainages - s)))
        inner = abs(float(part.chainages[k]) - s) < _NEAR and s not in (begin, finish)
        rise = float(lip.levels([s])[0] - crown.levels([s])[0])
        level = float(part.levels[k]) + rise if inner else float(lip.levels([s])[0])
        curve = float(part.curves[k]) if inner else 0.0
        found.append(made(KerbVip, chainage=float(s), level=round(level, 4), curve_length=curve))
    return found


def between(p: Profile, begin: float, finish: float) -> Profile:
    """Part of a grade line, with parabolas that are cut made two."""

    def cut(profile: Profile, s: float, part: int) -> Profile:
        n = profile.chainages.size
        states: tuple[State, ...] = tuple("set" for _ in range(n))
        vips, shift = cut_line(GradeLine(profile, states, (-1,) * n, ()), s)[part], (0.0, s)[part]
        rows = np.array([(v.chainage + shift, v.level, v.curve_length) for v in vips], dtype=np.float64)
        rows[[0, -1], 2] = 0.0
        return Profile.of(*rows.T)

    if begin > p.chainages[0] + _NEAR:
        p = cut(p, begin, 1)
    if finish < p.chainages[-1] - _NEAR:
        p = cut(p, finish, 0)
    return p
