"""Cutting a tie: its section point keeps the levels that it has, and from then on they are its own."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import unique_chainages
from humble_loop.kinds.kerb_line.model import KerbLine, KerbVip, line_words
from humble_loop.kinds.street.holding import holds, put_apart
from humble_loop.kinds.street.plan import StreetLine, chain_of
from humble_loop.kinds.tie.levels import levels_of, tie_of
from humble_loop.kinds.tie.model import LevelTie
from humble_loop.lines.describe import Actions, Row
from humble_loop.lines.line import line
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError, free_id, made
from humble_loop.site.model import Site

_WITHIN = 0.001  # metres of level that own levels may lie beside the tied ones
_STEP = 1.0  # metres between places at which they are taken, besides where the tie bends
_MOST = 200  # VIPs: more are thinned


def facts_about_tie(q: Engine, tie: str) -> tuple[Row, ...]:
    """Cutting a tie."""
    return (Actions((("Cut it, and keep the levels", cut(q, tie)),)),)


def cut(q: Engine, tie: str) -> Edit:
    """The edit that takes a tie away and gives its point own levels where the tie held it."""

    def edit(site: Site) -> Site:
        t = parts.one(q, LevelTie, tie)
        vips, tapers = _vips(q, tie)
        site = site.without(LevelTie, tie)
        id = free_id(site, KerbLine, f"{t.street} {t.side} {line_words(t.point)}")
        own = made(
            KerbLine,
            id=id,
            street=t.street,
            side=t.side,
            point=t.point,
            vips=vips,
            taper_in=tapers[0],
            taper_out=tapers[1],
        )
        return put_apart(site, own)

    return edit


def _vips(q: Engine, tie: str) -> tuple[tuple[KerbVip, ...], tuple[float, float]]:
    """VIPs and tapers, as the street was drawn, of the levels that a tie gives its point."""
    k, own = tie_of(q, tie), levels_of(q, tie)
    point = StreetLine(k.street, k.name, k.side)
    hold = next((h for h in holds(q, point) if h.line == own), None)
    tied = q.attempt(line, own)
    if hold is None or isinstance(tied, Unsolved):
        raise EditError("the tie holds nothing, so there are no levels to keep; remove it instead")
    begin, finish = max(k.begin, float(hold.share.at.min())), min(k.finish, float(hold.share.at.max()))
    rule = line(q, point).rule if k.least else tied.rule  # one that only keeps it up has its point's own levels besides
    s = unique_chainages([begin, finish], np.arange(begin, finish, _STEP), rule.key_places(), low=begin, high=finish)
    z = rule.levels(s)
    course, within = np.column_stack([s, z])[np.isfinite(z)], _WITHIN
    while len(thin := shapely.get_coordinates(shapely.simplify(shapely.LineString(course), within))) > _MOST:
        within *= 2.0
    tapers = (0.0, 0.0) if k.least else (min(k.taper_in, finish - begin), min(k.taper_out, finish - begin))
    if k.side != parts.one(q, LevelTie, tie).side:
        thin, tapers = np.column_stack([chain_of(q, k.street).total - thin[::-1, 0], thin[::-1, 1]]), tapers[::-1]
    return tuple(KerbVip(chainage=round(float(a), 4), level=round(float(b), 4)) for a, b in thin), tapers
