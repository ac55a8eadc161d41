"""Kerb lines when their street is cut, made longer or joined: each stays where it stands."""

from __future__ import annotations

import numpy as np

from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.kerb_line.beginning import between
from humble_loop.kinds.kerb_line.model import KerbLine, KerbVip, line_words
from humble_loop.site.edits import changed, free_id
from humble_loop.site.model import Site, other_side

_LEAST = 0.1  # metres of a stretch that is none


def recut(site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
    """The site with a street's kerb lines cut as the street was: see ``Kind.recut``."""
    for old in site.owned(KerbLine, street):
        site = site.without(KerbLine, old.id)
        here = _part(old, kept[0], kept[1], kept[0])
        if here is not None:
            site = site.put(here)
        there = _part(old, max(kept), np.inf, kept[1]) if rest else None
        if there is not None:
            site = site.put(
                changed(there, id=free_id(site, KerbLine, f"{rest} {old.side} {line_words(old.point)}"), street=rest)
            )
    return site


def _part(old: KerbLine, low: float, high: float, origin: float) -> KerbLine | None:
    """What lies between two chainages, measured from ``origin``; a taper that is cut off is none."""
    begin, finish = max(low, old.begin), min(high, old.finish)
    if finish - begin < _LEAST:
        return None
    n = len(old.vips)
    curves = [v.curve_length if 0 < i < n - 1 else 0.0 for i, v in enumerate(old.vips)]
    p = between(Profile.of([v.chainage for v in old.vips], [v.level for v in old.vips], curves), begin, finish)
    kept = [v for v in old.vips if v.locked]
    vips = tuple(
        KerbVip(
            chainage=float(s) - origin,
            level=float(z),
            curve_length=float(c),
            locked=any(abs(s - v.chainage) < _LEAST for v in kept),
            follows=next((v.follows for v in kept if abs(s - v.chainage) < _LEAST), None),
        )
        for s, z, c in zip(p.chainages, p.levels, p.curves)
    )
    tapers = {
        "taper_in": min(old.taper_in, finish - begin) if begin == old.begin else 0.0,
        "taper_out": old.taper_out if finish == old.finish else 0.0,
    }
    tapers["taper_out"] = min(tapers["taper_out"], finish - begin - tapers["taper_in"])
    return changed(old, vips=vips, **tapers)


def rejoined(site: Site, gone: str, street: str, start: float, back: bool) -> Site:
    """The site with the kerb lines of a street that became part of another: see ``Kind.rejoined``."""
    for old in site.owned(KerbLine, gone):
        vips = [v.model_copy(update={"chainage": start - v.chainage if back else start + v.chainage}) for v in old.vips]
        side = other_side(old.side) if back else old.side
        tapers = (old.taper_out, old.taper_in) if back else (old.taper_in, old.taper_out)
        fresh = changed(
            old,
            id=free_id(site, KerbLine, f"{street} {side} {line_words(old.point)}"),
            street=street,
            side=side,
            vips=tuple(reversed(vips) if back else vips),
            taper_in=tapers[0],
            taper_out=tapers[1],
        )
        site = site.without(KerbLine, old.id).put(fresh)
    return site
