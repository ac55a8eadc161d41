"""Handles of a grade line in its long section: VIPs, the ends and middles of their curves, and legs."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.street import edits
from humble_loop.kinds.street.grades import HELD, vip_edits
from humble_loop.kinds.street.levels import MOST_SHOWN, GradeLine, grade_line, proposed_vips
from humble_loop.kinds.street.plan import class_of, is_new, name_of, vips_of
from humble_loop.lines.describe import Handle, Place, Told, Typed
from humble_loop.lines.quantity import percent
from humble_loop.site.edits import Edit, EditError
from humble_loop.site.model import Site

_LEAST_CHANGE = 1e-6  # of grade, from which a VIP may have a curve


def section_handles(q: Engine, street: str) -> tuple[Handle, ...]:
    """A street's grade line in its long section. VIPs come last, so that they are taken where others lie on them."""
    made = q.attempt(grade_line, street)
    if isinstance(made, Unsolved) or (not is_new(q, street) and not vips_of(q, street)):
        return ()
    n = len(made.states)
    found: list[Handle] = []
    if n <= MOST_SHOWN:
        found += [h for i in range(n - 1) if (h := _leg(q, street, i)) is not None]
        found += [h for i in range(1, n - 1) for h in _curve(q, street, i)]
    return (*found, *(_vip(q, street, i) for i in range(n)))


def vip_room(q: Engine, street: str, i: int) -> tuple[float, float] | None:
    """Levels that VIP ``i`` may take for the legs on both sides to keep the class's least and most grade.

    The falls keep their present direction. None when no level keeps both.
    """
    p, rules = grade_line(q, street).profile, class_of(q, street)
    low, high = -np.inf, np.inf
    for other, leg in ((i - 1, i - 1), (i + 1, i)):
        if not 0 <= other < p.chainages.size:
            continue
        run = abs(float(p.chainages[i] - p.chainages[other]))
        up = (p.grades[leg] >= 0) == (other < i)
        close, far = rules.least_grade * run, rules.most_grade * run
        z = float(p.levels[other])
        low, high = max(low, z + close if up else z - far), min(high, z + far if up else z - close)
    return (float(low), float(high)) if low <= high else None


def _vip(q: Engine, street: str, i: int) -> Handle:
    made, name, edit_for = grade_line(q, street), name_of(q, street), vip_edits(q, street, i)
    state, s0, z0 = made.states[i], float(made.profile.chainages[i]), float(made.profile.levels[i])
    ends = (0, len(made.states) - 1)

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        s, z = round(place[0], 2), round(place[1], 3)
        inner = i not in ends
        told = (Told("at", "chainage", s if inner else s0), Told("level", "level", z, z0))
        return edit_for(level=z, **({"chainage": s} if inner else {})), told

    def rule(q: Engine) -> str:
        now = q.attempt(grade_line, street)
        if isinstance(now, Unsolved):
            return now.message
        grades = now.profile.grades
        k = min(i, len(grades))
        before = percent(float(grades[k - 1])) if k > 0 else "–"
        after = percent(float(grades[k])) if k < len(grades) else "–"
        room = vip_room(q, street, min(i, len(now.states) - 1))
        words = f"{room[0]:.3f} to {room[1]:.3f} keeps the grades" if room else "no level keeps both grades"
        return f"{before} in, {after} out; {words}"

    typed = (
        Typed("grade", "a grade as 2.5% or 1:40", lambda v: edit_for(grade=v)),
        Typed("level", "a level", lambda v: edit_for(level=v)),
    )
    return Handle(("vip", street, i), (s0, z0), f"{name} VIP {i + 1}", "square", moved, typed, rule, state)


def _leg(q: Engine, street: str, i: int) -> Handle | None:
    """The middle of the leg after VIP ``i``: dragged, it moves parallel, or about the end that is held; None where both are."""
    made, name = grade_line(q, street), name_of(q, street)
    p = made.profile
    free = [k for k in (i, i + 1) if made.states[k] not in HELD]
    if not free:
        return None
    s0, s1, z0, z1 = (float(v) for v in (*p.chainages[i : i + 2], *p.levels[i : i + 2]))
    middle = (0.5 * (s0 + s1), 0.5 * (z0 + z1))
    grade = (z1 - z0) / (s1 - s0)

    def by(rise: float) -> Edit:
        return _levels(q, street, {k: float(p.levels[k]) + rise for k in free})

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        rise = round((place[1] - middle[1]) * 2.0 / len(free), 3)  # about a held end the middle rises half as much
        turned = ((z1 + rise * (i + 1 in free)) - (z0 + rise * (i in free))) / (s1 - s0)
        told = Told("raised", "level", rise) if rise >= 0 else Told("lowered", "level", -rise)
        return by(rise), (told, Told("grade", "grade", turned, grade))

    def about_the_first(value: float) -> Edit:
        if made.states[i + 1] in HELD:
            return _levels(q, street, {i: z1 - value * (s1 - s0)})
        return _levels(q, street, {i + 1: z0 + value * (s1 - s0)})

    typed = (
        Typed("level", "how much to raise it", by),
        Typed("grade", "a grade as 2.5% or 1:40, about its first VIP", about_the_first),
    )
    held = "" if len(free) == 2 else f"turns about its {made.states[i if i not in free else i + 1]} end"
    key, title = ("leg", street, i), f"{name} leg {i + 1}"
    return Handle(key, middle, title, "round", moved, typed, lambda q: held, "worked out")


def _levels(q: Engine, street: str, levels: dict[int, float]) -> Edit:
    """The edit that sets the levels of some VIPs of a grade line at once; a proposed line is set first, as it stands."""
    made, name = grade_line(q, street), name_of(q, street)
    kept = proposed_vips(q, street) if "proposed" in made.states else []
    index = _set_index(made) if kept else made.index

    def edit(site: Site) -> Site:
        fresh = edits.set_vips(site, street, kept) if kept else site
        for k, level in levels.items():
            if index[k] < 0:
                raise EditError(f"{name}: this level is tied to the other street's lip; change it there")
            fresh = edits.set_vip(fresh, street, index[k], level=level)
        return fresh

    return edit


def _set_index(made: GradeLine) -> tuple[int, ...]:
    """The place of each VIP of a proposed line among the VIPs that are set when it is; −1 for tied ones."""
    return tuple(
        -1 if state == "tied" else sum(st != "tied" for st in made.states[:i]) for i, state in enumerate(made.states)
    )


def _curve(q: Engine, street: str, i: int) -> list[Handle]:
    """The ends of the curve at VIP ``i``, which give it its length, and its middle, which a level takes it through."""
    made, name = grade_line(q, street), name_of(q, street)
    p = made.profile
    s, z, length, change = (float(v[i]) for v in (p.chainages, p.levels, p.curves, p.changes))
    if abs(change) < _LEAST_CHANGE or made.states[i] in HELD:
        return []
    edit_for = vip_edits(q, street, i)
    room = 2.0 * float(min(s - p.chainages[i - 1], p.chainages[i + 1] - s))

    def to(wanted: float) -> tuple[Edit, tuple[Told, ...]]:
        kept = round(float(np.clip(wanted, 0.0, room)), 2)
        told = Told("curve", "length", kept, length), Told("K", "rate", kept / (100.0 * abs(change)))
        return edit_for(curve_length=kept), told

    def through(level: float) -> float:
        """The length with which the curve passes a level at its VIP: it departs by an eighth of change times length."""
        return 8.0 * (level - z) / change

    typed = (Typed("length", "a length", lambda v: edit_for(curve_length=v)), _by_k(edit_for, change))
    title, found = f"{name} VIP {i + 1} curve", []
    for key, at in (("curve start", s - 0.5 * length), ("curve end", s + 0.5 * length)):
        ends = lambda place: to(2.0 * abs(place[0] - s))  # noqa: E731
        at = float(np.clip(at, p.chainages[0], p.chainages[-1]))  # a curve may be longer than there is room for
        place = (at, float(p.level([at])[0]))
        if length > 0.0:
            found.append(Handle((key, street, i), place, title, "round", ends, typed, state="worked out"))
    middle, over = (s, float(p.level([s])[0])), lambda place: to(through(place[1]))
    levels = (Typed("level", "a level to pass through", lambda v: edit_for(curve_length=max(through(v), 0.0))),)
    if length > 0.0:
        found.append(Handle(("curve middle", street, i), middle, title, "round", over, levels, state="worked out"))
    return found


def _by_k(edit_for: Callable[..., Edit], change: float) -> Typed:
    return Typed("length", "k and a rate", lambda v: edit_for(curve_length=100.0 * v * abs(change)), "k")


# Rounding


def rounded(q: Engine, street: str, along: float, up: float) -> Edit:
    """The edit that rounds VIPs to whole steps ``along`` (m, ends apart) and ``up`` (m); one that would come upon its
    neighbour keeps its chainage, and a locked one keeps both. A proposed line is set with it.
    """
    made = grade_line(q, street)
    vips = proposed_vips(q, street) if "proposed" in made.states else list(vips_of(q, street))

    def edit(site: Site) -> Site:
        kept = [v.chainage for v in vips]
        fresh = []
        for k, v in enumerate(vips):
            if v.locked:
                fresh.append(v)
                continue
            at = round(round(v.chainage / along) * along, 3)
            low = kept[k - 1] if k else -np.inf
            high = kept[k + 1] if k + 1 < len(kept) else np.inf
            if 0 < k < len(vips) - 1 and low + along / 2 < at < high - along / 2:
                kept[k] = at
            level = None if v.level is None else round(round(v.level / up) * up, 3)
            fresh.append(v.model_copy(update={"chainage": kept[k], "level": level}))
        return edits.set_vips(site, street, fresh)

    return edit
