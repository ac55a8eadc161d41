"""Edits that make one street of two: end to end as they lie, or by a bend or a straight that bridges what is between them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, tangents
from humble_loop.geometry.bends import BendInput, lay_bends
from humble_loop.geometry.chain import STRAIGHT, Chain
from humble_loop.kinds.street.edits import remove_street, reverse_street
from humble_loop.kinds.street.faces import open_ends
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.model import Bend, SectionChange, Street, Vip, bend_input
from humble_loop.kinds.street.plan import centreline, chain_of, frame_of, streets_in, vips_of
from humble_loop.lines.standing import kinds
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError, changed, made, the
from humble_loop.site.model import ENDS, End, Site

FAR = 150.0  # metres between two ends that are offered to be joined
_MOST = 3  # of them at one end
_SAG = 0.05  # metres between what is lit up and the line
_MEET = 1e-3  # metres within which two ends are one place
_ON = 1e-6  # radians by which a line that goes on straight turns at most
_WIDEST = np.radians(170.0)  # that a bend between two streets turns by at most
_SHARE = 0.45  # of the shorter leg that a bend takes where a straight bridges
_NONE = -1.0  # the radius of a bend that is none
_TAPER = 10.0  # metres over which one's section turns into the other's


@dataclass(frozen=True)
class Joint:
    """Two ends that can be joined, and how: ``points`` (n, 2) from one to the other, the ends themselves the first and last;
    one point where they meet.

    ``radii`` (n,) are of the bends there: 0 where there is no room for one, below zero where the line goes on straight. Of
    three points the middle one is where both last elements, run on straight, meet.
    """

    other: str
    end: End
    points: tuple[tuple[float, float], ...]
    radii: tuple[float, ...]

    @property
    def length(self) -> float:
        """Metres between both ends, along the legs."""
        return float(np.hypot(*np.diff(np.array(self.points), axis=0).T).sum()) if len(self.points) > 1 else 0.0


def bridge_points(joint: Joint) -> Floats:
    """What bridges two ends in plan (n, 2), its bend laid."""
    if len(joint.points) < 2:
        return np.array(joint.points)
    chain = lay_bends([BendInput(*p, max(r, 0.0)) for p, r in zip(joint.points, joint.radii)]).chain
    return chain.points_at(chain.sampled(sag=_SAG))


@query
def joints(q: Engine, street: str, end: End) -> tuple[Joint, ...]:
    """What a street can be joined to at an end, the nearest first: ends of streets of its kind that nothing else takes up."""
    if not _free(q, street, end):
        return ()
    tip = _tip(chain_of(q, street), end)[0]
    around = (tip[0] - FAR, tip[1] - FAR, tip[0] + FAR, tip[1] + FAR)
    found = []
    for other in streets_in(q, (float(around[0]), float(around[1]), float(around[2]), float(around[3]))):
        laid = q.attempt(centreline, other)
        if other == street or isinstance(laid, Unsolved) or frame_of(q, other).kind != frame_of(q, street).kind:
            continue
        for theirs in ENDS:
            far = float(np.hypot(*(_tip(laid.chain, theirs)[0] - tip)))
            if far <= FAR and _free(q, other, theirs):
                found.append((far, _bridge(chain_of(q, street), end, other, laid.chain, theirs)))
    found.sort(key=lambda f: f[0])
    return tuple(joint for _, joint in found[:_MOST])


def _free(q: Engine, street: str, end: End) -> bool:
    if frame_of(q, street).kind == "existing" or end in (goes.end for k in kinds() for goes in k.goes_on(q, street)):
        return True
    free = q.attempt(open_ends, street)
    return not isinstance(free, Unsolved) and end in free


def _tip(chain: Chain, end: End) -> tuple[Floats, Floats, float]:
    """A street's end: the point, the unit vector outwards, and how much of its last element is straight (m)."""
    s, k = (0.0, 0) if end == "start" else (chain.total, -1)
    at = chain.at([s])
    outwards = tangents(at.headings[0]) * (1.0 if end == "end" else -1.0)
    last = chain.elements[k]
    return at.points[0], outwards, last.length if last.kind == STRAIGHT else 0.0


def _bridge(chain: Chain, end: End, other: str, theirs: Chain, their_end: End) -> Joint:
    (a, u, room_a), (b, v, room_b) = _tip(chain, end), _tip(theirs, their_end)
    across = b - a
    gap = float(np.hypot(*across))
    turn = float(np.arctan2(u[0] * -v[1] - u[1] * -v[0], -(u @ v)))  # from one's heading to the way into the other
    if gap < _MEET:
        return Joint(other, their_end, (_pair(a),), (_fits(min(room_a, room_b) * _SHARE, turn),))
    det = u[0] * v[1] - u[1] * v[0]
    if abs(turn) > _ON and abs(turn) < _WIDEST and det != 0:
        along = float((across[0] * v[1] - across[1] * v[0]) / det)
        back = float((across[0] * u[1] - across[1] * u[0]) / det)
        if 0 < along < 2 * FAR and 0 < back < 2 * FAR:
            middle = a + along * u
            return Joint(
                other, their_end, (_pair(a), _pair(middle), _pair(b)), (_NONE, _fits(min(along, back), turn), _NONE)
            )
    way = across / gap
    first = float(np.arctan2(u[0] * way[1] - u[1] * way[0], u @ way))
    last = float(np.arctan2(way[0] * -v[1] - way[1] * -v[0], -(way @ v)))
    radii = tuple(_fits(min(room, gap) * _SHARE, t) for room, t in ((room_a, first), (room_b, last)))
    return Joint(other, their_end, (_pair(a), _pair(b)), radii)


def _pair(p: Floats) -> tuple[float, float]:
    return float(p[0]), float(p[1])


def _fits(tangent: float, turn: float) -> float:
    """The radius of a bend with a tangent length; below zero where nothing turns."""
    return _NONE if abs(turn) < _ON else tangent / float(np.tan(0.5 * min(abs(turn), _WIDEST)))


def joined(q: Engine, street: str, end: End, joint: Joint) -> Edit:
    """The edit that makes ``street`` go on as the other at an end. It keeps its name, direction, class and section; what hangs
    on the other hangs on it then, and stays where it stands.
    """

    def edit(site: Site) -> Site:
        mine, other = the(site, Street, street), the(site, Street, joint.other)
        theirs = chain_of(q, joint.other)
        same_way = joint.end != end  # whether the other goes on the way this one runs
        turned = site if same_way else reverse_street(site, other.id, theirs.total)
        if mine.kind == "existing" and _lips(mine) != _lips(the(turned, Street, other.id)):
            raise EditError(f"'{mine.name}' and '{other.name}' have other lines as lips: take these out first")
        onward = the(turned, Street, other.id)
        bends = _bends(q, mine, onward, end, joint)
        total = lay_bends([bend_input(b) for b in bends]).chain.total
        own, rest = chain_of(q, street).total, theirs.total
        shift, begin = (0.0, total - rest) if end == "end" else (total - own, 0.0)
        vips = _vips(q, mine, other.id, end, joint, shift, begin, same_way, rest)
        first, second = (mine, onward) if end == "end" else (onward, mine)
        at = (shift, begin) if end == "end" else (begin, shift)
        values = {"bends": bends, "vips": vips, "section": first.section, "changes": _changes(first, second, *at)}
        site = site.put(changed(mine, **values, proposed_between=False))
        moved = total - own - shift if mine.turned else shift  # where it was drawn from, it now lies so far along
        for kind in kinds():
            site = kind.recut(q, site, street, (-moved, total - moved), "")
        # A chainage r of the other, as drawn, is one of this street as it runs, and so one of it as it was drawn.
        sign, start = (1.0, begin) if same_way else (-1.0, begin + rest)
        if other.turned:
            sign, start = -sign, start + sign * rest
        if mine.turned:
            sign, start = -sign, total - start
        for kind in kinds():
            site = kind.rejoined(q, site, other.id, street, start, sign < 0)
        return remove_street(site, other.id)

    return edit


def _lips(street: Street) -> tuple[str | None, str | None]:
    return street.left_lip, street.right_lip


def _bends(q: Engine, mine: Street, onward: Street, end: End, joint: Joint) -> tuple[Bend, ...]:
    """Intersection points of both and of what bridges them."""
    origin = np.array(parts.origin(q))
    between = []
    for p, radius in zip(joint.points, joint.radii):
        if radius >= 0:
            e, n = np.array(p) + origin
            between.append(made(Bend, easting=float(e), northing=float(n), radius=radius))
    if end == "end":
        return (*mine.bends[:-1], *between, *onward.bends[1:])
    return (*onward.bends[:-1], *between[::-1], *mine.bends[1:])


def _vips(
    q: Engine, mine: Street, other: str, end: End, joint: Joint, shift: float, begin: float, same_way: bool, rest: float
) -> tuple[Vip, ...]:
    """The VIPs of both as they stand; none where neither's are set. Where their ends are one place this one's level holds."""
    set_there = bool(vips_of(q, other))
    if not (mine.vips or set_there) or (mine.kind == "existing" and not (mine.vips and set_there)):
        return ()
    theirs, own = _standing(q, other, joint.end), _standing(q, mine.id, end)
    if not same_way:
        theirs = [v.model_copy(update={"chainage": rest - v.chainage}) for v in reversed(theirs)]
    own = [v.model_copy(update={"chainage": v.chainage + shift}) for v in own]
    theirs = [v.model_copy(update={"chainage": v.chainage + begin}) for v in theirs]
    first, second = (own, theirs) if end == "end" else (theirs, own)
    if not first or not second:
        return tuple(first or second)
    if second[0].chainage - first[-1].chainage < _MEET:
        if end == "end":
            second = second[1:]
        else:
            first = first[:-1]
    return tuple(v for v in (*first, *second))


def _standing(q: Engine, street: str, joint: End) -> list[Vip]:
    """The VIPs of a street's grade line as it stands, without an end that is tied elsewhere than at the joint."""
    line = q.attempt(grade_line, street)
    if isinstance(line, Unsolved):
        return []
    last = len(line.states) - 1
    found = []
    for i, state in enumerate(line.states):
        at_joint = i == (0 if joint == "start" else last)
        if state == "tied" and not at_joint:
            continue
        found.append(line.as_it_stands(i))
    return found


def _changes(first: Street, second: Street, at: float, begin: float) -> tuple[SectionChange, ...]:
    """Changes of section of two streets one after the other, which begin at chainages of the joined one."""
    mine = [changed(c, chainage=c.chainage + at) for c in first.changes]
    here = first.changes[-1].section if first.changes else first.section
    turn = [] if here == second.section else [made(SectionChange, chainage=begin, section=second.section, taper=_TAPER)]
    return (*mine, *turn, *(changed(c, chainage=c.chainage + begin) for c in second.changes))
