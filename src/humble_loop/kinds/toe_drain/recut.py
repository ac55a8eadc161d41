"""What was chosen of drains when their street is cut, made longer or joined: each stretch stays where it stands."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from humble_loop.kinds.street.spans import cut_span, moved_span
from humble_loop.kinds.toe_drain.model import DrainChoice, DrainGrade
from humble_loop.site.edits import changed, free_id
from humble_loop.site.model import Site, other_side

_LEAST = 1e-6  # metres of a stretch that is none


def recut(site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
    """The site with a street's stretches of drain cut as the street was: see ``Kind.recut``."""
    begin, finish = kept
    for old in site.owned(DrainChoice, street):
        site = site.without(DrainChoice, old.id)
        here, there = cut_span((old.begin, old.finish), kept, rest)
        if here:
            site = site.put(changed(old, begin=here[0], finish=here[1]))
        if there:
            id = free_id(site, DrainChoice, f"{rest} {old.side} drain")
            site = site.put(changed(old, id=id, street=rest, begin=there[0], finish=there[1]))
    for grade in site.owned(DrainGrade, street):
        site = site.without(DrainGrade, grade.id)
        near = _between(grade.levels, begin, finish)
        if len(near) > 1:
            site = site.put(changed(grade, levels=tuple((s - begin, z) for s, z in near)))
        far = _between(grade.levels, finish, np.inf) if rest else []
        if len(far) > 1:
            id = free_id(site, DrainGrade, f"{rest} {grade.side} drain")
            levels = tuple((s - finish, z) for s, z in far)
            site = site.put(changed(grade, id=id, street=rest, levels=levels))
    return site


def _between(levels: Sequence[tuple[float, float]], low: float, high: float) -> list[tuple[float, float]]:
    """The part of a grade line between two chainages, with its level where it is cut."""
    s, z = np.array(levels).T
    a, b = max(low, float(s[0])), min(high, float(s[-1]))
    if b - a <= _LEAST:
        return []
    at = np.unique(np.concatenate([[a], s[(s > a) & (s < b)], [b]]))
    return list(zip(at.tolist(), np.interp(at, s, z).tolist()))


def rejoined(site: Site, gone: str, street: str, start: float, back: bool) -> Site:
    """The site with the stretches of drain of a street that became part of another: see ``Kind.rejoined``."""
    for old in site.owned(DrainChoice, gone):
        span = moved_span((old.begin, old.finish), start, back)
        side = other_side(old.side) if back else old.side
        id = free_id(site, DrainChoice, f"{street} {side} drain")
        fresh = changed(old, id=id, street=street, side=side, begin=span[0], finish=span[1])
        site = site.without(DrainChoice, old.id).put(fresh)
    for grade in site.owned(DrainGrade, gone):
        levels = sorted((start - s, z) if back else (start + s, z) for s, z in grade.levels)
        side = other_side(grade.side) if back else grade.side
        id = free_id(site, DrainGrade, f"{street} {side} drain")
        site = site.without(DrainGrade, grade.id).put(
            changed(grade, id=id, street=street, side=side, levels=tuple(levels))
        )
    return site
