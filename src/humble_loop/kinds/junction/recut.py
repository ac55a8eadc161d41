"""What was chosen of junctions when a street is cut, made longer or joined: it stays at its node."""

from __future__ import annotations

from dataclasses import dataclass, replace

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.junction.lanes import swapped_legs
from humble_loop.kinds.junction.model import CrossingChoice, JunctionChoice, crossing_corner
from humble_loop.kinds.junction.nodes import crossings_of, joints_on, node_id
from humble_loop.kinds.street.model import Street
from humble_loop.kinds.street.plan import chain_of, frame_of, near
from humble_loop.site.edits import changed
from humble_loop.site.library import StreetClass
from humble_loop.site.model import SIDES, Side, Site, other_end, other_side


@dataclass(frozen=True)
class _Place:
    """A crossing: chainages, as drawn, on a street that is changed and on the other; what was chosen there, whether the street's
    sides are swapped, and whether its crown holds.
    """

    street: str
    at: float
    other: str
    beside: float
    choice: CrossingChoice | None
    holds: bool
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
    if back:  # what leaves it leaves it the other way round now
        for side, arm in joints_on(q, gone):
            choice_there = site.find(JunctionChoice, node_id(q, side, arm))
            if choice_there is not None:
                site = site.put(swapped_legs(choice_there))
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
            found.append(
                _Place(street, *((a, other, b) if street == first else (b, other, a)), choice, c.holder == street)
            )
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
            holder = p.street if p.holds else p.other
            if p.choice is None and _by_default(site, p.street, p.other) != holder:
                # Whose crown holds stays, though what it was told by, the order in which they were drawn, does not.
                p = replace(p, choice=CrossingChoice(first=first, second=second, count=count, through=holder))
            if p.choice is not None:
                through = p.street if p.choice.through in streets else p.choice.through
                if through is None and _by_default(site, p.street, p.other) != holder:
                    through = holder
                corners = _corners(p, first)
                named = {"first": first, "second": second, "count": count, "through": through}
                fresh = changed(p.choice, id="", **named, **corners, **_reaches(p, first))
                site = site.put(fresh)
    return site


def _by_default(site: Site, street: str, other: str) -> str:
    """Whose crown holds where nothing was chosen: see ``holder_of``."""
    a, b = (site.find(Street, i) for i in (street, other))
    if a is None or b is None or a.kind != b.kind:
        return street if a is not None and a.kind == "existing" else other
    classes = [site.find(StreetClass, s.street_class) for s in (a, b)]
    sight = [c.sight_distance if c else 0.0 for c in classes]
    if sight[0] != sight[1]:
        return street if sight[0] > sight[1] else other
    order = [s.id for s in site.all(Street)]
    return min((street, other), key=order.index)


def _reaches(p: _Place, first: str) -> dict[str, object]:
    """How far a crossing's arms reach, by the names that they have where ``first`` is the first of its streets."""
    assert p.choice is not None
    before = ("first", "second") if p.choice.second == p.other else ("second", "first")
    now = ("first", "second") if p.street == first else ("second", "first")
    ways = ("onwards", "back")
    found = {}
    for way, turned in zip(ways, ways[::-1] if p.swapped else ways):
        found[f"{now[0]}_{way}"] = getattr(p.choice, f"{before[0]}_{turned}")
        found[f"{now[1]}_{way}"] = getattr(p.choice, f"{before[1]}_{way}")
    names = {f"{b} {w}": f"{n} {t}" for b, n in zip(before, now) for w, t in _ways(p, n == now[0])}
    found["lanes"] = tuple(changed(v, leg=names.get(v.leg, v.leg)) for v in p.choice.lanes)
    return found


def _ways(p: _Place, own: bool) -> tuple[tuple[str, str], ...]:
    """What the two ways along a street were called, and are now."""
    ways = ("onwards", "back")
    return tuple(zip(ways, ways[::-1] if own and p.swapped else ways))


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
