"""A street's grade line VIP by VIP, and what crosses it, in rows."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.gradeline import Turning
from humble_loop.kinds.street import edits
from humble_loop.kinds.street.checks import level_findings
from humble_loop.kinds.street.levels import MOST_SHOWN, grade_line, own_grades, proposed_vips
from humble_loop.kinds.street.model import Vip
from humble_loop.kinds.street.plan import StreetLine, chain_of, ground_along, is_new, name_of
from humble_loop.lines.anchor import FOLLOWING, following_facts
from humble_loop.lines.describe import Crossing, Fact, Sheet, SheetRow
from humble_loop.lines.line import LineId
from humble_loop.lines.standing import kinds
from humble_loop.site.edits import Edit, EditError
from humble_loop.site.model import Site, State

HELD = ("tied", "locked")  # states of levels that no hand moves
_SAG = 0.02  # metres between what is lit up and the line
_LIT = 4.0  # metres to either side of a VIP without a curve that are lit up


@dataclass(frozen=True)
class VipRow:
    """A VIP: chainage and level (m), grades in and out (ratios, NaN at an end), its curve's length (m) and rate K (m for
    each percent, NaN without), and the high or low point on it.
    """

    chainage: float
    level: float
    state: State
    grade_in: float
    grade_out: float
    curve: float
    k: float
    turning: Turning | None

    @property
    def change(self) -> float:
        """Change of grade as a ratio, NaN at an end."""
        return self.grade_out - self.grade_in


def vip_rows(q: Engine, street: str) -> tuple[VipRow, ...]:
    """A street's VIPs in order."""
    made = grade_line(q, street)
    p = made.profile
    grades = np.concatenate([[np.nan], own_grades(q, street), [np.nan]])
    found = []
    for i, (s, z, curve) in enumerate(zip(p.chainages.tolist(), p.levels.tolist(), p.curves.tolist())):
        change = abs(float(grades[i + 1] - grades[i]))
        k = curve / (100.0 * change) if curve > 0 and change > 1e-9 else float("nan")
        half = max(0.5 * curve, 1e-6)
        turning = next((t for t in p.turning_points() if abs(t.chainage - s) <= half), None)
        found.append(VipRow(s, z, made.states[i], float(grades[i]), float(grades[i + 1]), curve, k, turning))
    return tuple(found)


def vip_edits(q: Engine, street: str, i: int) -> Callable[..., Edit]:
    """For VIP ``i`` of a grade line: the edit that changes fields of it. A proposed line is set first, as it stands."""
    made, name = grade_line(q, street), name_of(q, street)
    kept = proposed_vips(q, street) if made.states[i] == "proposed" else []
    index = sum(1 for st in made.states[:i] if st != "tied") if kept else made.index[i]

    def edit_for(**values: float) -> Edit:
        def edit(site: Site) -> Site:
            fresh = edits.set_vips(site, street, kept) if kept else site
            if index < 0:
                raise EditError(f"{name}: this level is tied to the other street's lip; change it there")
            return edits.set_vip(fresh, street, index, **values)

        return edit

    return edit_for


def locking(q: Engine, street: str, i: int) -> tuple[tuple[str, Edit], ...]:
    """What locks VIP ``i`` of a grade line where it is, or unlocks it; nothing for a tied one, or one that is gone."""
    made = grade_line(q, street)
    if i >= len(made.states):
        return ()
    state, index, level = made.states[i], made.index[i], float(made.profile.levels[i])
    if state == "tied":
        return ()
    if made.follows and made.follows[i] is not None:
        return (("Set its level free", lambda s: edits.follow_vip(s, street, index, None, round(level, 6))),)
    if state == "locked":
        return (("Unlock the VIP", lambda s: edits.unlock_vip(s, street, index)),)
    if state == "proposed":
        chainage, curve = float(made.profile.chainages[i]), float(made.profile.curves[i])
        fresh = Vip(chainage=chainage, level=level, curve_length=curve)
        return (("Lock the VIP", lambda s: edits.lock_proposed(s, street, fresh)),)
    return (("Lock the VIP", lambda s: edits.lock_vip(s, street, index, level)),)


# Sheets

_COLUMNS = ("chainage", "level", "grade in", "grade out", "change", "curve", "K", "high or low", "there at")


def grade_sheet(q: Engine, street: str) -> Sheet:
    """The grade line, to be read and edited."""
    line = StreetLine(street)
    made = q.attempt(grade_line, street)
    if isinstance(made, Unsolved):
        return Sheet("Grade line", line, _COLUMNS, (), made.message)
    if len(made.states) > MOST_SHOWN:
        return Sheet("Grade line", line, _COLUMNS, (), "its levels are the ground's: set VIPs to design it")
    wrong = level_findings(q, street) if is_new(q, street) else ()
    told = vip_rows(q, street)
    columns = _COLUMNS if any(v.turning for v in told) else _COLUMNS[:-2]
    follows = grade_line(q, street).follows
    s = np.array([v.chainage for v in told])
    of = np.array([int(np.clip(np.searchsorted(s, f.chainage + 1e-6) - 1, 0, len(s) - 1)) for f in wrong], dtype=int)
    rows = []
    for i, v in enumerate(told):
        half = max(0.5 * v.curve, _LIT)
        mine = tuple(f for f, k in zip(wrong, of) if k == i)
        reach = float(max(s[0], v.chainage - half)), float(min(s[-1], v.chainage + half))
        begin = float(s[0] if i == 0 else 0.5 * (s[i - 1] + s[i]))
        end = float(s[-1] if i == len(s) - 1 else 0.5 * (s[i] + s[i + 1]))
        cells = _cells(q, street, i, v, len(told))[: len(columns)]
        if follows:
            cells = (*cells, *_following(q, street, i))
        lit = _along(q, street, *reach)
        rows.append(SheetRow(cells, (begin, end), lit, mine, ("vip", street, i), locking(q, street, i)))
    return Sheet("Grade line", line, (*columns, *FOLLOWING) if follows else columns, tuple(rows))


def _following(q: Engine, street: str, i: int) -> tuple[Fact | None, Fact | None]:
    """What a VIP follows, and by how much."""
    made = grade_line(q, street)
    anchor, index, level = made.follows[i], made.index[i], float(made.profile.levels[i])
    if anchor is None:
        return None, None
    return following_facts(q, anchor, lambda a: lambda s: edits.follow_vip(s, street, index, a, round(level, 6)))


def _cells(q: Engine, street: str, i: int, v: VipRow, count: int) -> tuple[Fact | None, ...]:
    states = grade_line(q, street).states
    to = vip_edits(q, street, i) if v.state not in HELD else None
    after = vip_edits(q, street, i + 1) if i + 1 < count and states[i + 1] not in HELD else None
    inner = 0 < i < count - 1

    def field(key: str, editor: Callable[..., Edit] | None) -> Callable[[float], Edit] | None:
        return None if editor is None else lambda value: editor(**{key: value})

    def by_k(value: float) -> Edit:
        assert to is not None
        return to(curve_length=value * 100.0 * abs(v.change))

    curve = v.state if v.curve > 0 else "worked out"
    return (
        Fact("chainage", "chainage", v.chainage, v.state, field("chainage", to) if inner else None),
        Fact("level", "level", v.level, v.state, field("level", to)),
        Fact("grade in", "grade", v.grade_in, "worked out", field("grade", to) if i else None) if i else None,
        Fact("grade out", "grade", v.grade_out, "worked out", field("grade", after)) if i < count - 1 else None,
        Fact("change", "grade", v.change) if inner else None,
        Fact("curve length", "length", v.curve, curve, field("curve_length", to)) if inner else None,
        Fact("K", "rate", v.k, "worked out", by_k if to else None) if inner else None,
        Fact("high or low", "level", v.turning.level, before=v.turning.kind) if v.turning else None,
        Fact("there at", "chainage", v.turning.chainage) if v.turning else None,
    )


@dataclass(frozen=True)
class CrossingRow:
    """Another line that is met: what it is, the chainage there (m), its level, the street's and the ground's."""

    words: str
    chainage: float
    level: float
    own: float
    ground: float
    line: LineId | None


def crossing_rows(q: Engine, street: str) -> tuple[CrossingRow, ...]:
    """What meets or crosses a street's crown, in order of chainage."""
    met: list[Crossing] = [c for kind in kinds() for c in kind.section_marks(q, StreetLine(street))]
    met.sort(key=lambda c: c.chainage)
    s = np.array([c.chainage for c in met])
    made = q.attempt(grade_line, street)
    own: Floats = np.full(len(s), np.nan) if isinstance(made, Unsolved) else made.profile.level(s)
    g = ground_along(q, street)
    ground = np.interp(s, g.chainages, g.levels) if len(g.chainages) else np.full(len(s), np.nan)
    return tuple(
        CrossingRow(c.words, c.chainage, c.level, float(z), float(under), c.line)
        for c, z, under in zip(met, own, ground)
    )


def crossing_sheet(q: Engine, street: str) -> Sheet:
    """What meets or crosses the street, with both levels."""
    columns = ("with", "chainage", "its level", "level", "difference", "ground")
    rows = []
    for c in crossing_rows(q, street):
        cells = (
            Fact("with", "text", c.words),
            Fact("chainage", "chainage", c.chainage),
            Fact("its level", "level", c.level),
            Fact("level", "level", c.own),
            Fact("difference", "level", c.own - c.level),
            Fact("ground", "level", c.ground),
        )
        reach = c.chainage - _LIT, c.chainage + _LIT
        rows.append(SheetRow(cells, reach, _along(q, street, *reach)))
    note = "" if rows else "nothing meets or crosses it"
    return Sheet("Crossings", StreetLine(street), columns, tuple(rows), note)


def _along(q: Engine, street: str, begin: float, end: float) -> Floats:
    """The street's line in plan between two chainages."""
    chain = chain_of(q, street)
    low, high = max(begin, 0.0), min(end, chain.total)
    s = chain.sampled(sag=_SAG)
    return chain.points_at(np.concatenate([[low], s[(s > low) & (s < high)], [high]]))
