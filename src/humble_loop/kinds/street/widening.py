"""Widenings: stretches of a side along which the lip follows a survey line in plan."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import shapely

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.street.model import Street, Widening
from humble_loop.kinds.street.plan import box, chain_of, frame_of
from humble_loop.kinds.street.spans import cut_span, moved_span
from humble_loop.kinds.survey_line.lines import vertices
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.site import parts
from humble_loop.site.edits import EditError, changed, free_id, made, the
from humble_loop.site.library import WIDEST_STRIP
from humble_loop.site.model import Side, Site, other_side, side_sign

_STEP = 0.5  # metres along a survey line between places at which it is measured, its vertices besides
_WITHIN = 0.0005  # metres: what lies between them and is nearer to straight is left out
_MOST = 20_000  # such places
_SHORT = 0.005  # metres by which a line may end before its stretch
_ROUGH = 4.0  # the same, where it is only asked which lines run beside a street
_FAR = 30.0  # metres from the centreline at which a line is still offered
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


@query
def followed(q: Engine, street: str, side: Side) -> tuple[Followed, ...]:
    """The widenings of a side of a street as it runs, in order."""
    frame, total = frame_of(q, street), chain_of(q, street).total
    drawn = other_side(side) if frame.turned else side
    found = []
    for w in parts.owned(q, Widening, street):
        if w.side == drawn:
            span = (total - w.finish, total - w.begin) if frame.turned else (w.begin, w.finish)
            found.append(replace(_followed(q, street, side, w, span), point=w.point))
    found.sort(key=lambda f: f.begin)
    return tuple(found)


def _followed(q: Engine, street: str, side: Side, w: Widening, span: tuple[float, float]) -> Followed:
    begin, finish = span

    def none(wrong: str, remedy: str) -> Followed:
        return Followed(w.id, begin, finish, w.taper, np.empty(0), np.empty(0), wrong, remedy)

    if w.line not in parts.ids(q, SurveyLine):
        return none("the survey line that it follows is not there any more", "choose another line, or remove it")
    name, chain = parts.one(q, SurveyLine, w.line).name, chain_of(q, street)
    line = shapely.LineString(vertices(q, w.line)[:, :2])
    if line.length > _MOST * _STEP:
        return none(f"'{name}' is too long to be followed", "cut it, or choose another line")
    places = shapely.get_coordinates(shapely.segmentize(line, _STEP))
    feet = chain.feet(places, extend=True)
    s, out = feet.chainages, feet.offsets * side_sign(side)
    if s[0] > s[-1]:
        s, out = s[::-1], out[::-1]
    # What lies further before the street or beyond it is not beside it.
    beside = (s > -2.0 * _STEP) & (s < chain.total + 2.0 * _STEP) & (np.abs(out) < WIDEST_STRIP)
    s, out = s[beside], out[beside]
    if len(s) < 2 or s[-1] < begin or s[0] > finish:
        return none(f"'{name}' does not run beside the street there", "choose another line, or move the stretch")
    inside = (s[1:] > begin) & (s[:-1] < finish)
    if np.any(np.diff(s)[inside] <= 0.0):
        return none(
            f"'{name}' turns back or jumps beside the street there", "choose another line, or shorten the stretch"
        )
    near = np.concatenate([inside, [False]]) | np.concatenate([[False], inside])
    s, out = s[near], out[near]
    if out.min() <= 0.0:
        return none(
            f"'{name}' does not stay on the {side} of the centreline", "choose another line, or shorten the stretch"
        )
    thin = shapely.get_coordinates(shapely.simplify(shapely.LineString(np.column_stack([s, out])), _WITHIN))
    at, beyond = (frozen(v) for v in thin.T)
    if at[0] > begin + _SHORT or at[-1] < finish - _SHORT:
        low, high = max(float(at[0]), begin), min(float(at[-1]), finish)
        wrong = f"'{name}' runs beside it from {low:.2f} to {high:.2f} only"
        return Followed(w.id, begin, finish, w.taper, at, beyond, wrong, "shorten the stretch, or choose another line")
    return Followed(w.id, begin, finish, w.taper, at, beyond)


@query
def lines_beside(q: Engine, street: str) -> tuple[tuple[str, str, Side, float, float], ...]:
    """Survey lines beside a street, the nearest first: id, name, side, and from where to where (as the street runs)."""
    chain, (w, s, e, n), found = chain_of(q, street), box(q, street), []
    middle, reach = shapely.Point(0.5 * (w + e), 0.5 * (s + n)), 0.5 * float(np.hypot(e - w, n - s)) + _FAR
    for id in parts.ids(q, SurveyLine):
        line = shapely.LineString(vertices(q, id)[:, :2])
        if not shapely.dwithin(line, middle, reach) or line.length > _MOST * _ROUGH:
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
    site: Site, street: str, side: Side, begin: float, finish: float, line: str, point: str = "lip"
) -> Site:
    """Let the lip of a side, or another point, follow a survey line in plan over a stretch; side and chainages are as drawn."""
    the(site, Street, street)
    the(site, SurveyLine, line)
    id = free_id(site, Widening, f"{street} {side} widening")
    fresh = made(Widening, id=id, street=street, side=side, begin=begin, finish=finish, line=line, point=point)
    return _put(site, fresh)


def set_widening(site: Site, id: str, **values: Any) -> Site:
    """Change a widening's ``side``, ``begin``, ``finish``, ``line`` or ``taper``, as drawn."""
    if "line" in values:
        the(site, SurveyLine, values["line"])
    return _put(site, changed(the(site, Widening, id), **values))


def _put(site: Site, fresh: Widening) -> Site:
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
            site = site.put(changed(old, id=id, street=rest, begin=there[0], finish=there[1]))
    return site


def rejoined_widenings(site: Site, gone: str, street: str, start: float, back: bool) -> Site:
    """The site with the widenings of a street that became part of another: see ``Kind.rejoined``."""
    for old in site.owned(Widening, gone):
        begin, finish = moved_span((old.begin, old.finish), start, back)
        side = other_side(old.side) if back else old.side
        id = free_id(site, Widening, f"{street} {side} widening")
        fresh = changed(old, id=id, street=street, side=side, begin=begin, finish=finish)
        site = site.without(Widening, old.id).put(fresh)
    return site
