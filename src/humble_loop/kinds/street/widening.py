"""Widenings: stretches of a side along which the lip, or another point, follows a line in plan."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.chain import Chain
from humble_loop.kinds.street.model import Street, Widening
from humble_loop.kinds.street.plan import box, chain_of, near
from humble_loop.kinds.street.spans import cut_span, moved_span
from humble_loop.kinds.survey_line.lines import vertices
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.site import parts
from humble_loop.site.edits import EditError, changed, free_id, made, the
from humble_loop.site.library import WIDEST_STRIP
from humble_loop.site.model import SIDES, Side, Site, other_side, side_sign

STEP = 0.5  # metres along a line between places at which it is measured, its vertices besides
_WITHIN = 0.0005  # metres: what lies between them and is nearer to straight is left out
MOST = 20_000  # such places
_SHORT = 0.005  # metres by which a line may end before its stretch
_ROUGH = 4.0  # the same, where it is only asked which lines run beside a street
_FAR = 30.0  # metres from the centreline at which a line is still offered
_APART = 60.0  # metres from centreline to centreline at which a street is still offered
_MEANT = 0.6  # metres from a line within which a hand that moves a lip may mean it
_OFFERED = 40


@dataclass(frozen=True)
class Followed:
    """A widening of a ``point`` as the street runs: its id, from ``begin`` to ``finish``, ``taper`` (m), and metres ``out`` (n,) from the
    centreline at chainages ``at`` (n,), straight between; ``wrong`` says why it is left out or cut short, and ``remedy`` what helps.
    """

    id: str
    begin: float
    finish: float
    taper: float
    at: Floats
    out: Floats
    wrong: str = ""
    remedy: str = ""
    point: str = "lip"

    def lip(self, s: Floats, normal: Floats) -> Floats:
        """Metres (n,) from the centreline to the lip at chainages, where the section alone has it at ``normal`` (n,)."""
        if not len(self.at):
            return normal
        begin, finish = max(self.begin, float(self.at[0])), min(self.finish, float(self.at[-1]))
        taper = min(self.taper, 0.5 * (finish - begin))
        share = np.clip(np.minimum(s - begin, finish - s) / max(taper, _WITHIN), 0.0, 1.0)
        found: Floats = normal + share * (np.interp(s, self.at, self.out) - normal)
        return found

    @property
    def stations(self) -> Floats:
        """Chainages between which the lip is straight in the street's terms, where its section alone does not change."""
        if not len(self.at):
            return np.empty(0)
        begin, finish = max(self.begin, float(self.at[0])), min(self.finish, float(self.at[-1]))
        taper = min(self.taper, 0.5 * (finish - begin))
        inner = self.at[(self.at > begin) & (self.at < finish)]
        return np.unique(np.concatenate([[begin, begin + taper, finish - taper, finish], inner]))


@dataclass(frozen=True)
class Traced:
    """What a widening follows, in plan: its name and places (n, 2) along it; or in ``wrong`` why it is not there."""

    name: str
    places: Floats
    wrong: str = ""


def beside_it(chain: Chain, w: Widening, side: Side, span: tuple[float, float], line: Traced) -> Followed:
    """A widening where the line that it follows runs beside the street's ``chain``; ``side`` and ``span`` as the street runs."""
    begin, finish = span

    def none(wrong: str, remedy: str) -> Followed:
        return Followed(w.id, begin, finish, w.taper, np.empty(0), np.empty(0), wrong, remedy, w.point)

    name = f"'{line.name}'"
    if line.wrong:
        return none(line.wrong, "choose another line, or remove it")
    feet = chain.feet(line.places, extend=True)
    s, out = feet.chainages, feet.offsets * side_sign(side)
    if s[0] > s[-1]:
        s, out = s[::-1], out[::-1]
    # What lies further before the street or beyond it is not beside it.
    beside = (s > -2.0 * STEP) & (s < chain.total + 2.0 * STEP) & (np.abs(out) < WIDEST_STRIP)
    s, out = s[beside], out[beside]
    if len(s) < 2 or s[-1] < begin or s[0] > finish:
        return none(f"{name} does not run beside the street there", "choose another line, or move the stretch")
    inside = (s[1:] > begin) & (s[:-1] < finish)
    if np.any(np.diff(s)[inside] <= 0.0):
        return none(
            f"{name} turns back or jumps beside the street there", "choose another line, or shorten the stretch"
        )
    near = np.concatenate([inside, [False]]) | np.concatenate([[False], inside])
    s, out = s[near], out[near] + w.beside
    if out.min() <= 0.0:
        more = f" with {w.beside:g} m beside it" if w.beside else ""
        return none(
            f"{name}{more} does not stay on the {side} of the centreline", "choose another line, or shorten the stretch"
        )
    thin = shapely.get_coordinates(shapely.simplify(shapely.LineString(np.column_stack([s, out])), _WITHIN))
    at, beyond = (frozen(v) for v in thin.T)
    wrong = remedy = ""
    if at[0] > begin + _SHORT or at[-1] < finish - _SHORT:
        low, high = max(float(at[0]), begin), min(float(at[-1]), finish)
        wrong = f"{name} runs beside it from {low:.2f} to {high:.2f} only"
        remedy = "shorten the stretch, or choose another line"
    return Followed(w.id, begin, finish, w.taper, at, beyond, wrong, remedy, w.point)


@query
def sides_in_a_ring(q: Engine) -> frozenset[tuple[str, Side]]:
    """Sides of streets, as drawn, that at last follow themselves in plan: found from what follows what alone."""
    follows: dict[tuple[str, Side], set[tuple[str, Side]]] = {}
    for id in parts.ids(q, Widening):
        w = parts.one(q, Widening, id)
        if w.of_side is not None:
            follows.setdefault((w.street, w.side), set()).add((w.line, w.of_side))

    def reached(start: tuple[str, Side]) -> set[tuple[str, Side]]:
        seen: set[tuple[str, Side]] = set()
        todo = list(follows[start])
        while todo:
            if (one := todo.pop()) not in seen:
                seen.add(one)
                todo += follows.get(one, ())
        return seen

    return frozenset(side for side in follows if side in reached(side))


@query
def lines_beside(q: Engine, street: str) -> tuple[tuple[str, str, Side, float, float], ...]:
    """Survey lines beside a street, the nearest first: id, name, side, and from where to where (as the street runs)."""
    chain, (w, s, e, n), found = chain_of(q, street), box(q, street), []
    middle, reach = shapely.Point(0.5 * (w + e), 0.5 * (s + n)), 0.5 * float(np.hypot(e - w, n - s)) + _FAR
    for id in parts.ids(q, SurveyLine):
        line = shapely.LineString(vertices(q, id)[:, :2])
        if not shapely.dwithin(line, middle, reach) or line.length > MOST * _ROUGH:
            continue
        feet = chain.feet(shapely.get_coordinates(shapely.segmentize(line, _ROUGH)))
        on = (feet.chainages > 0.0) & (feet.chainages < chain.total) & (np.abs(feet.offsets) < _FAR)
        if on.sum() < 2:
            continue
        at, out = feet.chainages[on], feet.offsets[on]
        if np.all(out > 0.0) or np.all(out < 0.0):
            side: Side = "left" if out[0] > 0.0 else "right"
            low, high = float(at.min()), float(at.max())
            found.append((float(np.abs(out).mean()), (id, parts.one(q, SurveyLine, id).name, side, low, high)))
    return tuple(row for _, row in sorted(found)[:_OFFERED])


@query
def streets_beside(q: Engine, street: str) -> tuple[tuple[str, Side, float, float], ...]:
    """Streets that run beside a street, the nearest first: id, on which side, and from where to where (as the street runs)."""
    chain, found = chain_of(q, street), []
    for id in near(q, street):
        other = chain_of(q, id)
        feet = chain.feet(other.points_at(np.linspace(0.0, other.total, 2 + int(other.total / _ROUGH))))
        for side in SIDES:
            out = feet.offsets * side_sign(side)
            on = (feet.chainages > 0.0) & (feet.chainages < chain.total) & (out > 0.0) & (out < _APART)
            at = feet.chainages[on]
            if on.sum() > 1 and np.ptp(at) > _APART:  # one that only meets or crosses it does not run beside it
                found.append((float(out[on].mean()), (id, side, float(at.min()), float(at.max()))))
    return tuple(row for _, row in sorted(found)[:_OFFERED])


def lines_at(q: Engine, street: str, side: Side, s: float, out: float) -> tuple[tuple[str, str, float, float], ...]:
    """Survey lines that a side could follow past a place ``out`` metres from the centreline at chainage ``s``, the nearest
    first, none further than a hand means: id, name, and from where to where they run beside it (as the street runs).
    """
    chain = chain_of(q, street)
    across = shapely.LineString(chain.points_at([s, s], side_sign(side) * np.array([0.0, out + _MEANT])))
    centre, found = shapely.Point(chain.points_at([s])[0]), []
    for id, name, beside, low, high in lines_beside(q, street):
        if beside == side and low < s < high:
            met = shapely.intersection(across, shapely.LineString(vertices(q, id)[:, :2]))
            away = abs(shapely.distance(centre, met) - out) if not met.is_empty else np.inf
            if away <= _MEANT:
                found.append((float(away), (id, name, low, high)))
    return tuple(row for _, row in sorted(found))


# Edits


def add_widening(
    site: Site, street: str, side: Side, begin: float, finish: float, line: str, point: str = "lip", **values: Any
) -> Site:
    """Let the lip of a side, or another point, follow a survey line, or with ``of_point`` (and ``of_side``) that of the street ``line``,
    in plan over a stretch; sides and chainages are as drawn.
    """
    the(site, Street, street)
    id = free_id(site, Widening, f"{street} {side} widening")
    return _put(
        site,
        made(Widening, id=id, street=street, side=side, begin=begin, finish=finish, line=line, point=point, **values),
    )


def set_widening(site: Site, id: str, **values: Any) -> Site:
    """Change a widening's ``side``, ``begin``, ``finish``, ``taper``, ``beside`` or what it follows, as drawn."""
    return _put(site, changed(the(site, Widening, id), **values), gone="line" not in values)


def _put(site: Site, fresh: Widening, gone: bool = False) -> Site:
    """The site with a widening; what it follows must be there, unless it may be ``gone``."""
    if not gone:
        the(site, Street if fresh.of_point else SurveyLine, fresh.line)
    for other in site.owned(Widening, fresh.street):
        if (
            other.id != fresh.id
            and (other.side, other.point) == (fresh.side, fresh.point)
            and other.begin < fresh.finish
            and other.finish > fresh.begin
        ):
            raise EditError(
                f"the {fresh.side} {fresh.point} has a widening from {other.begin:.2f} to {other.finish:.2f} already;"
                " change that one, or end one before the other begins"
            )
    return site.put(fresh)


def recut_widenings(site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
    """The site with a street's widenings cut as the street was: see ``Kind.recut``."""
    for old in site.owned(Widening, street):
        site = site.without(Widening, old.id)
        here, there = cut_span((old.begin, old.finish), kept, rest)
        if here:
            site = site.put(changed(old, begin=here[0], finish=here[1]))
        if there:
            id = free_id(site, Widening, f"{rest} {old.side} widening")
            line = rest if old.of_point and old.line == street else old.line
            site = site.put(changed(old, id=id, street=rest, begin=there[0], finish=there[1], line=line))
    return site


def rejoined_widenings(site: Site, gone: str, street: str, start: float, back: bool) -> Site:
    """The site with the widenings of a street that became part of another, and those that follow it: see ``Kind.rejoined``."""
    for old in site.all(Widening):
        values: dict[str, Any] = {}
        if old.of_point and old.line == gone:
            values = {"line": street, "of_side": other_side(old.of_side) if back and old.of_side else old.of_side}
        if old.street == gone:
            begin, finish = moved_span((old.begin, old.finish), start, back)
            side = other_side(old.side) if back else old.side
            values |= {"street": street, "side": side, "begin": begin, "finish": finish}
            values["id"] = free_id(site, Widening, f"{street} {side} widening")
        if values:
            site = site.without(Widening, old.id).put(changed(old, **values))
    return site
