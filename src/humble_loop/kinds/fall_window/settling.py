"""Settling: VIPs of a street's crown and of its own levels, together, so that every fall window and limit holds. Proposals, each with
its reason where none is possible.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, cast

import numpy as np

from humble_loop.engine.in_pieces import InPieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, unique_chainages
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.fall_window.levels import all_windows, asked_of, lines_asked, window_runs
from humble_loop.kinds.kerb_line.levels import KerbLevels, all_on
from humble_loop.kinds.kerb_line.levels import as_it_runs as kerb_line_runs
from humble_loop.kinds.kerb_line.levels import rule_of as kerb_rule
from humble_loop.kinds.kerb_line.model import KerbLine, set_kerb_vip
from humble_loop.kinds.street.edits import set_vip, set_vips
from humble_loop.kinds.street.levels import grade_line, proposed_vips
from humble_loop.kinds.street.plan import StreetLine, class_of, is_new, name_of, vips_of
from humble_loop.kinds.street.widening import lines_beside
from humble_loop.kinds.tie.model import Source
from humble_loop.kinds.tie.source import beside_source
from humble_loop.lines.describe import Fact, Sheet, SheetRow
from humble_loop.lines.findings import share
from humble_loop.lines.line import LineId, line, line_plan
from humble_loop.lines.linear import levels_by, unfolded
from humble_loop.lines.quantity import Decided, Quantity
from humble_loop.propose.settle import NotSolved, Rule, Settled, Wanted, settled
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.model import SIDES, Site

Near = Literal["present", "ground", "line"]
VipKey = tuple[str, str, int]  # "vip", "proposed vip" or "kerb vip", the street or kerb line, and which of its VIPs
_COLUMNS = ("proposal", "lines", "VIPs moved", "moves down to", "moves up to", "off on average", "because of")
_STEP = 2.0  # metres between places at which rules and wishes are asked, besides where lines and windows bend
_BREAK = 0.02  # change of grade at a VIP without a curve that a proposal makes at most, or leaves where it is more: typical at town speeds
_SAME = 5e-5  # metres of a VIP that is not moved: levels are kept to a tenth of a millimetre
_NONE = np.empty((0, 2))


@dataclass(frozen=True)
class Movable:
    """A line with its VIPs: what may be moved of it."""

    line: LineId
    profile: Profile
    vips: tuple[Quantity, ...]
    title: str
    least_grade: float


@dataclass(frozen=True)
class Proposal:
    """Levels (k,) that were worked out for the decisions with these keys, where they were (k,), and what came of it."""

    keys: tuple[VipKey, ...]
    before: Floats
    made: Settled
    length: float


def movable(q: Engine, id: LineId) -> Movable | None:
    """A crown or a kerb line whose VIPs can be moved."""
    if isinstance(id, KerbLevels):
        rule = kerb_rule(q, id)
        rules = class_of(q, id.street)
        least = rules.least_kerb_fall if parts.one(q, KerbLine, id.id).point == "lip" else 0.0
        return Movable(id, rule.profile, rule.vips, line_plan(q, id).title, least)
    if isinstance(id, StreetLine) and id.side is None and is_new(q, id.street):
        made = q.attempt(grade_line, id.street)
        if not isinstance(made, Unsolved):
            title = f"{name_of(q, id.street)} crown"
            return Movable(id, made.profile, made.vips, title, class_of(q, id.street).least_grade)
    return None


def street_of(id: LineId) -> str:
    """The street of a line that can be moved."""
    assert isinstance(id, (StreetLine, KerbLevels))
    return id.street


def lines_together(q: Engine, street: str) -> tuple[LineId, ...]:
    """A street's crown and all its own levels."""
    kerbs = [KerbLevels(id, street) for side in SIDES for id in all_on(q, street, side)]
    return (StreetLine(street), *kerbs)


@query
def settling(q: Engine, lines: tuple[LineId, ...], near: Near, of: str) -> Proposal:
    """VIPs of some lines together so that every rule holds. Raises Unsolved where they have no levels, or nothing is there to be near."""
    begun = _begun(q, lines, near, of)
    try:
        return Proposal(begun.keys, begun.before, begun.work.result(q), begun.length)
    except NotSolved as error:
        raise Unsolved("settling", str(error), "move a VIP by hand, and settle again") from None


@dataclass(frozen=True)
class _Begun:
    keys: tuple[VipKey, ...]
    before: Floats
    work: InPieces[Settled]
    length: float


@query
def _begun(q: Engine, lines: tuple[LineId, ...], near: Near, of: str) -> _Begun:
    found = [m for id in lines if (m := movable(q, id)) is not None]
    decided: dict[VipKey, float] = {
        cast(VipKey, v.origin.key): float(v.value[0]) for m in found for v in m.vips if isinstance(v.origin, Decided)
    }
    keys = tuple(decided)
    if not keys:
        raise Unsolved("settling", "none of its levels can be moved", "set VIPs first, or unlock one")
    before = np.array(list(decided.values()))
    asked = _lines_asked(q, lines)
    rules = [r for id in asked for r in _of_windows(q, id, keys)] + [r for m in found for r in _of_grades(q, m, keys)]
    wanted, length = _wanted(q, found, keys, before, near, of)
    return _Begun(keys, before, InPieces(settled(before, _free(q, keys), rules, wanted)), length)


def _free(q: Engine, keys: tuple[VipKey, ...]) -> np.ndarray:
    """Which decisions may be moved: VIPs that are not locked."""
    free = []
    for key in keys:
        what, of, i = key
        if what == "kerb vip":
            free.append(not parts.one(q, KerbLine, of).vips[i].locked)
        else:
            free.append(not (what == "vip" and vips_of(q, of)[i].locked))
    return np.array(free, dtype=bool)


def _places(m: Movable, low: float, high: float, *more: Floats) -> Floats:
    return unique_chainages(
        [low, high], np.arange(low, high, _STEP), m.profile.key_chainages(), *more, low=low, high=high
    )


def _lines_asked(q: Engine, lines: tuple[LineId, ...]) -> tuple[LineId, ...]:
    """The lines whose windows are kept: those that are moved, and all others of the street that have some, since what they fall from may
    be moved.
    """
    street = street_of(lines[0])
    targets = dict.fromkeys(window_runs(q, id).line for id in asked_of(q, street))
    others = [id for target in targets for id in lines_asked(q, target)]
    return tuple(dict.fromkeys((*lines, *lines_together(q, street), *others)))


def _of_windows(q: Engine, id: LineId, keys: tuple[VipKey, ...]) -> list[Rule]:
    """That a line lies in its fall windows, each of which may move with another line that is moved; what nothing moves is left out."""
    found, made = [], q.attempt(line, id)
    if isinstance(made, Unsolved):
        return []
    for w in all_windows(q, id):
        low, high = float(w.chainages[0]), float(w.chainages[-1])
        if not w.asked or high - low < 1e-6:
            continue
        s = unique_chainages(w.chainages, np.arange(low, high, _STEP), made.rule.key_places(), low=low, high=high)
        own = levels_by(q, id, s, keys)
        below, above = (
            np.interp(s, w.chainages, e) if np.isfinite(e).all() else np.full(len(s), e[0]) for e in (w.low, w.high)
        )
        if w.follows is not None:
            other, at = w.follows
            there = levels_by(q, other, np.interp(s, w.chainages, at), keys)
            now = line(q, other).rule.levels(np.interp(s, w.chainages, at))
            below, above = below - now, above - now
            own = own.less(there)
        on = np.isfinite(own.constant) & np.any(own.factors != 0.0, axis=1)
        if on.any():
            limits = below[on] - own.constant[on], above[on] - own.constant[on]
            found.append(Rule(f"{made.title}: {w.told}", own.factors[on], *limits))
    return found


def _of_grades(q: Engine, m: Movable, keys: tuple[VipKey, ...]) -> list[Rule]:
    """That each leg keeps its class's grades the way it falls, and each VIP the curve or the break that it has."""
    street = street_of(m.line)
    rules, p, found = class_of(q, street), m.profile, []
    vips = [unfolded(q, v, keys) for v in m.vips]
    level = np.concatenate([v.constant for v in vips])
    by = np.concatenate([v.factors for v in vips])
    runs = np.diff(p.chainages)
    grade, turn = np.diff(level) / runs, np.diff(by, axis=0) / runs[:, None]
    for i, now in enumerate(p.grades.tolist()):
        steep = max(rules.most_grade, m.least_grade)
        low, high = (m.least_grade, steep) if now >= 0.0 else (-steep, -m.least_grade)
        words = (
            f"{m.title}: {share(m.least_grade)} to {share(steep)} from {p.chainages[i]:.2f} to {p.chainages[i + 1]:.2f}"
        )
        found.append(Rule(words, turn[i : i + 1], np.array([low - grade[i]]), np.array([high - grade[i]])))
    for i in range(1, len(vips) - 1):
        change, length = float(p.changes[i]), float(p.curves[i])
        if length > 0.0:
            crest, sag = (length / (100.0 * k) if k > 0.0 else np.inf for k in (rules.least_crest_k, rules.least_sag_k))
            crest, sag = max(crest, -change), max(sag, change)
            asked = f"its curve of {length:g} m"
        else:
            crest = sag = max(_BREAK, abs(change))
            asked = f"no curve, so at most {share(crest)} of break"
        words = f"{m.title} at {p.chainages[i]:.2f}: {asked}"
        now = float(grade[i] - grade[i - 1])
        found.append(Rule(words, (turn[i] - turn[i - 1])[None], np.array([-crest - now]), np.array([sag - now])))
    return found


def _wanted(
    q: Engine, lines: list[Movable], keys: tuple[VipKey, ...], before: Floats, near: Near, of: str
) -> tuple[Wanted, float]:
    """What the lines should be near, metre by metre, and how many metres of them that is."""
    factors, to, weights = [], [], []
    for m in lines:
        s = _places(m, float(m.profile.chainages[0]), float(m.profile.chainages[-1]))
        own = levels_by(q, m.line, s, keys)
        if near == "present":
            wish = own.constant + own.factors @ before
        else:
            source = Source() if near == "ground" else Source(what="line", of=of)
            wish, _ = beside_source(q, source, line_plan(q, m.line), s)
        along = np.gradient(s)
        along[[0, -1]] *= 0.5
        on = np.isfinite(wish) & np.isfinite(own.constant)
        factors.append(own.factors[on])
        to.append(wish[on] - own.constant[on])
        weights.append(along[on])
    made = Wanted(np.concatenate(factors), np.concatenate(to), np.concatenate(weights))
    if len(made.to) < 2:
        raise Unsolved("settling", "there is nothing there to be near", "take another proposal")
    return made, float(made.weights.sum())


# Shown and taken


def settle_sheet(q: Engine, id: LineId) -> Sheet:
    """Proposals that keep every rule: of the line alone, and of the street's crown and own levels together."""
    street = street_of(id)
    together = lines_together(q, street)
    groups: list[tuple[str, tuple[LineId, ...]]] = [("this line", (id,))]
    if len(together) > 1:
        groups.append(("crown and own levels", together))
    rows = []
    for words, lines in groups:
        offers: list[tuple[str, Near, str]] = [("least change", "present", ""), ("nearest the ground", "ground", "")]
        if isinstance(id, KerbLevels) and lines == (id,):
            side = kerb_line_runs(q, id.id).side
            beside = [row for row in lines_beside(q, street) if row[2] == side]
            offers += [(f"nearest {name}", "line", of) for of, name, *_ in beside[:2]]
        for said, near, of in offers:
            made = q.attempt(settling, lines, near, of)
            if not isinstance(made, Unsolved):
                rows.append(_row(q, id, said, words, made))
    note = "VIPs stay where they stand along the line; locked ones keep their level. The chosen one is drawn in the long section"
    return Sheet(
        "Settle", id, _COLUMNS, tuple(rows), note if rows else "There is nothing to be settled: no VIPs that can move"
    )


def _row(q: Engine, shown: LineId, said: str, words: str, made: Proposal) -> SheetRow:
    first = Fact("proposal", "text", said), Fact("lines", "text", words)
    if made.made.conflict:
        reason = f"cannot be: no levels keep all of {'; '.join(made.made.conflict)}"
        return SheetRow((*first, None, None, None, None, Fact("because of", "text", reason)), (0.0, 0.0), _NONE)
    moved = made.made.levels - made.before
    cells = (
        *first,
        Fact("VIPs moved", "count", int((np.abs(moved) > _SAME).sum())),
        Fact("moves down to", "level", max(0.0, -float(moved.min()))),
        Fact("moves up to", "level", max(0.0, float(moved.max()))),
        Fact("off on average", "level", made.made.off / max(made.length, 1e-9)),
        None,
    )
    mine, ghost = movable(q, shown), None
    if mine is not None:
        places = _places(mine, float(mine.profile.chainages[0]), float(mine.profile.chainages[-1]))
        ghost = np.column_stack([places, levels_by(q, shown, places, made.keys).value(made.made.levels)])
    return SheetRow(cells, (0.0, 0.0), _NONE, actions=(("Take it", taken(q, made)),), ghost=ghost)


def taken(q: Engine, made: Proposal) -> Edit:
    """The edit that sets the levels of a proposal."""
    values = {key: round(float(z), 6) for key, z in zip(made.keys, made.made.levels)}
    proposed = {of for what, of, _ in values if what == "proposed vip"}

    def edit(site: Site) -> Site:
        for street in proposed:
            states = grade_line(q, street).states
            vips, k = proposed_vips(q, street), 0
            for i, state in enumerate(states):
                if state != "tied":
                    key = ("proposed vip", street, i)
                    if key in values:
                        vips[k] = vips[k].model_copy(update={"level": values[key]})
                    k += 1
            site = set_vips(site, street, vips)
        for (what, of, i), z in values.items():
            if what == "kerb vip" and not parts.one(q, KerbLine, of).vips[i].locked:
                site = set_kerb_vip(site, of, i, level=z)
            elif what == "vip" and not vips_of(q, of)[i].locked:
                site = set_vip(site, of, i, level=z)
        return site

    return edit
