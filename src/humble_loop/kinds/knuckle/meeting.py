"""Where two streets meet end to end at an elbow: one of them goes round it, with a knuckle, and the other goes on from there."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.elbows import bends_of_chain
from humble_loop.kinds.continuation.meets import Tip, kink_of, tips_at
from humble_loop.kinds.knuckle.layout import ring
from humble_loop.kinds.knuckle.model import Knuckle, add_knuckle
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.joining import Joint, joined, joints
from humble_loop.kinds.street.model import Street
from humble_loop.kinds.street.plan import chain_of, end_point, frame_of, is_new, name_of
from humble_loop.kinds.street.side import lip_width
from humble_loop.site.edits import Edit, EditError, changed, the
from humble_loop.site.model import ENDS, SIDES, End, Site, other_end

LEAST_TURN = 40.0  # degrees that an elbow turns at least
_INSIDE = 6.0  # metres of the lip's radius inside the elbow, typical: a car goes round it without leaving its half
_STEP = 0.5  # metres to which the bend's radius is proposed
_BEYOND = 2.0  # metres from where the bulge comes back to the lip to where the other street goes on


def elbows_at(q: Engine, street: str) -> list[tuple[End, Tip]]:
    """The ends of a street that meet one other new street's end at an elbow, with that."""
    others = [(end, tips_at(q, street, end)) for end in ENDS] if is_new(q, street) else []
    pairs = [(end, tips[0]) for end, tips in others if len(tips) == 1 and is_new(q, tips[0].street)]
    return [(end, tip) for end, tip in pairs if abs(np.degrees(kink_of(q, Tip(street, end), tip))) >= LEAST_TURN]


def elbow_of(q: Engine, street: str, end: End, other: Tip) -> Edit:
    """The edit that takes a street round an elbow with a knuckle; the other, shorter by that, goes on from its new end.

    Both keep their names, classes and what was wanted of their levels; what hangs on them stays where it stands.
    """

    def edit(site: Site) -> Site:
        names, far = (
            f"{name_of(q, street)} and {name_of(q, other.street)}",
            end_point(q, other.street, other_end(other.end)),
        )
        joint = next((j for j in joints(q, street, end) if (j.other, j.end) == (other.street, other.end)), None)
        if joint is None or len(joint.points) > 1:
            raise EditError(f"{names} do not meet with free ends; bring these together first")
        place = np.array(joint.points[0])
        widened = joined(q, street, end, replace(joint, radii=(_radius(q, street, end, names, joint),)))(site)
        widened, knuckle = _with_knuckle(widened, street, place)
        return _named(_parted(widened, street, knuckle, far), site, street, other.street, far)

    return edit


def _radius(q: Engine, street: str, end: End, names: str, joint: Joint) -> float:
    """The radius of the bend: what leaves the lip inside it its own, or as much as both legs have room for."""
    at = 0.0 if end == "start" else chain_of(q, street).total
    wide = max(lip_width(q, street, side).one(at) for side in SIDES)
    most, wanted = joint.radii[0], float(np.ceil((wide + _INSIDE) / _STEP) * _STEP)
    if most < wanted:
        raise EditError(
            f"{names} have room for a bend of {max(most, 0.0):.2f} m only where they meet, and {wanted:g} m are wanted; make their last straights longer"
        )
    return wanted


def _with_knuckle(site: Site, street: str, place: Floats) -> tuple[Site, str]:
    """With a knuckle on the bend of a street that is nearest to a place; and its id."""
    q = Engine(site)
    chain = chain_of(q, street)
    bend = min(bends_of_chain(chain), key=lambda b: float(np.hypot(*(chain.points_at([b.middle])[0] - place))))
    at = chain.total - bend.middle if frame_of(q, street).turned else bend.middle
    site, before = add_knuckle(site, street, round(at, 2)), {k.id for k in site.all(Knuckle)}
    return site, next(k.id for k in site.all(Knuckle) if k.id not in before)


def _parted(site: Site, street: str, knuckle: str, far: Floats) -> Site:
    """With the street cut beyond a knuckle, on the way to a place."""
    q, chain = Engine(site), chain_of(Engine(site), street)
    here = q.attempt(ring, knuckle, "outer")
    if isinstance(here, Unsolved):
        raise EditError(f"{here.thing}: {here.message}; {here.remedy}")
    onwards = chain.feet([far], extend=True).chainages[0] > here.finish
    at = here.finish + _BEYOND if onwards else here.begin - _BEYOND
    for change in frame_of(q, street).changes:  # a section turns into the other's where they met
        begin, finish = change.chainage, change.chainage + change.taper
        if begin <= at <= finish:
            at = finish + _STEP if onwards else begin - _STEP
    return split(q, street, float(at))(site)


def _named(site: Site, before: Site, street: str, other: str, far: Floats) -> Site:
    """With the names, classes and wishes that both streets had, that of the ``other`` for the one that ends at its ``far`` end."""
    q = Engine(site)
    fresh = next(s.id for s in site.all(Street) if all(s.id != old.id for old in before.all(Street)))
    ends = {s: min(float(np.hypot(*(end_point(q, s, e) - far))) for e in ENDS) for s in (street, fresh)}
    other_now = min(ends, key=lambda s: ends[s])
    for now, was in ((other_now, other), ({street: fresh, fresh: street}[other_now], street)):
        old = the(before, Street, was)
        values = {"name": old.name, "street_class": old.street_class, "wanted": old.wanted}
        site = site.put(changed(the(site, Street, now), **values))
    return site
