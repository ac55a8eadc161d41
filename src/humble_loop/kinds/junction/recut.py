"""What was chosen of junctions when a street is cut, made longer or joined: it stays at its node."""

from __future__ import annotations

from dataclasses import dataclass, replace

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.junction.model import CrossingChoice, JunctionChoice, crossing_corner
from humble_loop.kinds.junction.nodes import crossings_of
from humble_loop.kinds.street.plan import chain_of, frame_of, near
from humble_loop.site.edits import changed
from humble_loop.site.model import SIDES, Side, Site, other_end, other_side


@dataclass(frozen=True)
class _Place:
    """A crossing: chainages, as drawn, on a street that is changed and on the other; what was chosen there, and whether the street's
    sides are swapped.
    """

    street: str
    at: float
    other: str
    beside: float
    choice: CrossingChoice | None
    swapped: bool = False


def recut(q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
    """See ``Kind.recut``."""
    end = site.find(JunctionChoice, f"{street}:end")
    if rest and end is not None:
        site = site.without(JunctionChoice, end.id).put(changed(end, id="", side=rest))
    places, (begin, finish) = _places(q, site, street), kept
    here = [replace(p, at=p.at - begin) for p in places if begin < p.at <= finish]
    there = [replace(p, street=rest, at=p.at - finish) for p in places if rest and p.at > finish]
    return _told_anew(site, [*here, *there], street)


def rejoined(q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
    """See ``Kind.rejoined``."""
    for choice in site.owned(JunctionChoice, gone):
        end = other_end(choice.end) if back else choice.end
        site = site.without(JunctionChoice, choice.id).put(changed(choice, id="", side=street, end=end))
    moved = [
        replace(p, street=street, at=start - p.at if back else start + p.at, swapped=back)
        for p in _places(q, site, gone)
        if p.other != street
    ]
    own = [p for p in _places(q, site, street) if p.other != gone]
    return _told_anew(site, [*own, *moved], gone, street)


def _places(q: Engine, site: Site, street: str) -> list[_Place]:
    """Every crossing of a street with others."""
    found = []
    for other in near(q, street):
        first, second = sorted((street, other))
        made = q.attempt(crossings_of, first, second)
        for c in () if isinstance(made, Unsolved) else made:
            a, b = (_drawn(q, s, at) for s, at in zip((first, second), c.chainages))
            choice = site.find(CrossingChoice, f"{first}:{second}:{c.count}")
            found.append(_Place(street, *((a, other, b) if street == first else (b, other, a)), choice))
    return found


def _drawn(q: Engine, street: str, s: float) -> float:
    return chain_of(q, street).total - s if frame_of(q, street).turned else s


def _told_anew(site: Site, places: list[_Place], *streets: str) -> Site:
    """The site with what was chosen of crossings told by the streets that they are of now, in their order along the first."""
    for p in places:
        if p.choice is not None:
            site = site.without(CrossingChoice, p.choice.id)
    pairs: dict[tuple[str, str], list[_Place]] = {}
    for p in places:
        first, second = sorted((p.street, p.other))
        pairs.setdefault((first, second), []).append(p)
    for (first, second), those in pairs.items():
        for count, p in enumerate(sorted(those, key=lambda p: p.at if p.street == first else p.beside)):
            if p.choice is not None:
                through = p.street if p.choice.through in streets else p.choice.through
                corners = _corners(p, first)
                fresh = changed(p.choice, id="", first=first, second=second, count=count, through=through, **corners)
                site = site.put(fresh)
    return site


def _corners(p: _Place, first: str) -> dict[str, object]:
    """What was chosen of a crossing's corners, by the names that they have where ``first`` is the first of its streets."""
    assert p.choice is not None
    found = {}
    for own in SIDES:
        for across in SIDES:
            was: tuple[Side, Side] = (other_side(own) if p.swapped else own, across)
            before = was if p.choice.second == p.other else was[::-1]
            now = (own, across) if p.street == first else (across, own)
            found[crossing_corner(now)] = getattr(p.choice, crossing_corner((before[0], before[1])))
    return found
