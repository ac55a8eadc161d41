"""Where roundabouts lie: their middles and circles in plan, from centrelines alone; and the streets that are their legs."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, gate, query
from humble_loop.geometry.arrays import Floats, frozen, left_normals, tangents
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.crossing import crossings
from humble_loop.kinds.junction.nodes import JOIN
from humble_loop.kinds.roundabout.model import Roundabout, RoundaboutLeg, Way
from humble_loop.kinds.street.plan import (
    box,
    centreline,
    chain_of,
    end_point,
    frame_of,
    is_new,
    name_of,
    street_ids,
    streets_in,
)
from humble_loop.lines.kind import Meeting
from humble_loop.lines.table import NoSuchTable
from humble_loop.site import parts
from humble_loop.site.library import RoundaboutPreset
from humble_loop.site.model import ENDS, Side, other_side

_SHORTEST = 1.0  # metres of a leg outside its circle, or it is none


def roundabout_of(q: Engine, id: str) -> Roundabout:
    """A roundabout as the site keeps it."""
    return parts.one(q, Roundabout, id)


def roundabout_ids(q: Engine) -> tuple[str, ...]:
    """Ids of all roundabouts that are laid."""
    return tuple(i for i in parts.ids(q, Roundabout) if roundabout_of(q, i).laid)


@query
def sizes_of(q: Engine, id: str) -> RoundaboutPreset:
    """A roundabout's sizes: its preset's, with what was chosen in their place."""
    made = roundabout_of(q, id)
    preset = parts.one(q, RoundaboutPreset, made.preset)
    chosen = {k: v for k in _CHOSEN if (v := getattr(made, k)) is not None}
    return preset.model_copy(update=chosen)


_CHOSEN = ("radius", "width", "lanes", "apron", "apron_up", "apron_rise", "kerb_up", "mound", "fall")


def leg_choice(q: Engine, id: str, street: str, way: Way) -> RoundaboutLeg:
    """What was decided about a leg."""
    found = (g for g in roundabout_of(q, id).legs if (g.street, g.way) == (street, way))
    return next(found, RoundaboutLeg(street=street, way=way))


@query
def middle_of(q: Engine, id: str) -> Floats:
    """The middle (2,) of a roundabout. Raises Unsolved where its streets do not meet any more."""
    made = roundabout_of(q, id)
    if made.street not in street_ids(q):
        raise Unsolved(made.name or "a roundabout", "the street that it stands on is not there", "take it away")
    return frozen(_place(q, made) + [made.east, made.north])


def _place(q: Engine, made: Roundabout) -> Floats:
    chain = chain_of(q, made.street)
    at = chain.total - made.at if frame_of(q, made.street).turned else made.at
    if made.other is None:
        if not -_OFF <= at <= chain.total + _OFF:
            raise Unsolved(
                made.name or f"{name_of(q, made.street)} roundabout",
                "its street does not reach so far any more",
                "move it back, or take it away",
            )
        found: Floats = chain.points_at([min(max(at, 0.0), chain.total)])[0]
        return found
    meetings = _meetings(q, made.street, made.other) if made.other in street_ids(q) else np.empty(0)
    if not len(meetings):
        raise Unsolved(
            made.name or f"{name_of(q, made.street)} roundabout",
            "the two streets that it joins do not meet any more",
            "bring them together, or take it away",
        )
    return np.asarray(chain.points_at([meetings[np.argmin(np.abs(meetings - at))]])[0])


_OFF = 5.0  # metres beyond its end by which a street may have become shorter


@query
def _meetings(q: Engine, street: str, other: str) -> Floats:
    """Chainages (n,) of a street at which it crosses another, or one ends on the other."""
    mine, theirs = chain_of(q, street), chain_of(q, other)
    found = crossings(mine, theirs)[:, 0].tolist()
    for end in ENDS:
        foot = mine.feet(end_point(q, other, end))
        if abs(float(foot.offsets[0])) <= JOIN:
            found.append(float(foot.chainages[0]))
        if abs(float(theirs.feet(end_point(q, street, end)).offsets[0])) <= JOIN:
            found.append(0.0 if end == "start" else mine.total)
    return frozen(np.array(sorted(found)))


@gate
def meetings(q: Engine) -> tuple[tuple[str, Meeting], ...]:
    """The circles of all roundabouts, each with its id."""
    found = []
    for id in roundabout_ids(q):
        middle, sizes = q.attempt(middle_of, id), q.attempt(sizes_of, id)
        if not isinstance(middle, Unsolved) and not isinstance(sizes, Unsolved):
            found.append((id, Meeting((float(middle[0]), float(middle[1])), sizes.radius)))
    return tuple(found)


@gate
def rounds_near(q: Engine, street: str) -> tuple[tuple[str, Meeting], ...]:
    """The roundabouts whose circles a street may reach."""
    every = meetings(q)
    if not every or isinstance(made := q.attempt(box, street), Unsolved):
        return ()
    w, s, e, n = made
    return tuple(
        (id, m)
        for id, m in every
        if w <= m.place[0] + m.radius
        and e >= m.place[0] - m.radius
        and s <= m.place[1] + m.radius
        and n >= m.place[1] - m.radius
    )


def circle_of(middle: Floats, radius: float, begin: float) -> Chain:
    """A whole circle anticlockwise about a middle (2,), from the angle ``begin`` (radians from east)."""
    start = middle + radius * tangents(begin)
    k = 1.0 / radius
    return Chain.from_elements(start, begin + 0.5 * np.pi, [Element(2.0 * np.pi * radius, k, k)])


@dataclass(frozen=True)
class Leg:
    """A street as it leaves a roundabout: in the direction ``way`` (+1 onwards as it runs now, -1 back), which was ``drawn``.

    ``chain`` runs outwards from its chainage ``inner``, inside the circle, and crosses that after ``throat`` metres, at ``angle`` (radians
    from east) seen from the middle. ``offset`` is how far (m) to the left of the middle it would pass, going outwards.
    """

    street: str
    way: int
    drawn: Way
    inner: float
    chain: Chain
    throat: float
    angle: float
    offset: float

    def along(self, u: float) -> float:
        """The street's chainage ``u`` metres along the leg."""
        return self.inner + self.way * u

    @property
    def at(self) -> float:
        """The street's chainage at the throat."""
        return self.along(self.throat)

    def own_side(self, seen: Side) -> Side:
        """The street's own side that is ``seen`` left or right going outwards; and the other way round."""
        return seen if self.way > 0 else other_side(seen)

    @cached_property
    def key(self) -> str:
        """What tells it from the others, as it was drawn."""
        return f"{self.street}:{self.drawn}"


@query
def legs_of(q: Engine, id: str) -> tuple[Leg, ...]:
    """The legs of a roundabout, anticlockwise from east. Raises Unsolved where there are none."""
    middle, radius = middle_of(q, id), sizes_of(q, id).radius
    around = (*(middle - radius), *(middle + radius))
    found: list[Leg] = []
    for street in streets_in(q, (around[0], around[1], around[2], around[3])):
        if is_new(q, street) and not isinstance(made := q.attempt(centreline, street), Unsolved):
            turned = frame_of(q, street).turned
            found += _legs(street, made.chain, middle, radius, turned)
    if not found:
        raise Unsolved(roundabout_name(q, id), "no new street leaves its circle", "draw one to it, or move it onto one")
    return tuple(sorted(found, key=lambda leg: leg.angle))


def _legs(street: str, chain: Chain, middle: Floats, radius: float, turned: bool) -> list[Leg]:
    at = np.array(chain.leaves(middle, radius))
    if not len(at):
        return []
    frames = chain.at(at)
    outwards = np.einsum("ij,ij->i", tangents(frames.headings), frames.points - middle)
    found = []
    for k, (s, out) in enumerate(zip(at.tolist(), outwards.tolist())):
        way = 1 if out > 0 else -1
        # It leaves from half way to where the street comes in, or from its end within the circle.
        if way > 0:
            inner = 0.5 * (s + float(at[k - 1])) if k and outwards[k - 1] <= 0 else 0.0
            leg = chain.part(inner, chain.total) if chain.total - inner > _SHORTEST else None
        else:
            last = k + 1 < len(at) and outwards[k + 1] > 0
            inner = 0.5 * (s + float(at[k + 1])) if last else chain.total
            leg = chain.part(0.0, inner).reversed() if inner > _SHORTEST else None
        throat = abs(s - inner)
        if leg is None or leg.total - throat < _SHORTEST:
            continue
        throat = _exactly(leg, float(throat), middle, radius)
        place, heading = leg.points_at([throat])[0] - middle, float(leg.at([throat]).headings[0])
        drawn: Way = "onwards" if (way > 0) != turned else "back"
        offset = float(place @ left_normals(heading))
        angle = float(np.arctan2(place[1], place[0]))
        angle += 2.0 * np.pi if angle < -_SAME_WAY else 0.0
        found.append(Leg(street, way, drawn, float(inner), leg, throat, angle, offset))
    return found


_SAME_WAY = 1e-9  # radians from due east that are a matter of rounding
_STEPS = 4


def _exactly(leg: Chain, u: float, middle: Floats, radius: float) -> float:
    """Where a leg leaves a circle, to the last digit."""
    for _ in range(_STEPS):
        east, north, heading, _ = leg.place(u)
        dx, dy = east - middle[0], north - middle[1]
        away = float(np.hypot(dx, dy))
        u -= (away - radius) * away / float(dx * np.cos(heading) + dy * np.sin(heading))
    return float(u)


def leg_of(q: Engine, id: str, key: str) -> Leg:
    """A leg by its key. Raises Unsolved where it is not there any more."""
    found = next((g for g in legs_of(q, id) if g.key == key), None)
    if found is None:
        raise Unsolved(roundabout_name(q, id), "it has no such leg any more")
    return found


@query
def legs_on(q: Engine, street: str) -> tuple[tuple[str, Leg], ...]:
    """The legs of roundabouts that a street is, each with its roundabout's id."""
    found = []
    for id, _ in rounds_near(q, street) if is_new(q, street) else ():
        legs = q.attempt(legs_of, id)
        found += [(id, g) for g in (() if isinstance(legs, Unsolved) else legs) if g.street == street]
    return tuple(found)


@dataclass(frozen=True)
class LegSizes:
    """The sizes of a leg as they are used, in metres and degrees; see ``RoundaboutLeg``. An outer radius of 0 is none: one arc. A bypass lane of 0 is
    none, and the radius of its kerb is 0 where it is as proposed.
    """

    entry: float
    exit: float
    entry_lanes: int
    exit_lanes: int
    entry_radius: float
    exit_radius: float
    entry_outer: float
    entry_turn: float
    exit_outer: float
    exit_turn: float
    flare: float
    splitter: float
    splitter_width: float
    splitter_offset: float
    crossing: float
    crossing_width: float
    bypass: float
    bypass_radius: float
    bypass_taper: float


_SIZES = (
    "entry",
    "exit",
    "entry_lanes",
    "exit_lanes",
    "entry_radius",
    "exit_radius",
    "flare",
    "splitter",
    "splitter_width",
    "crossing",
    "crossing_width",
)


def leg_sizes(q: Engine, id: str, leg: Leg) -> LegSizes:
    """A leg's sizes: as chosen, else its preset's."""
    return _leg_sizes(q, id, leg.street, leg.drawn)


@query
def _leg_sizes(q: Engine, id: str, street: str, drawn: Way) -> LegSizes:
    """The same by what a leg is: they stay where the circle or its legs are moved."""
    chosen, preset = leg_choice(q, id, street, drawn), sizes_of(q, id)
    values = {k: (getattr(preset, k) if (v := getattr(chosen, k)) is None else v) for k in _SIZES}
    for end in ("entry", "exit"):
        outer, turn = getattr(chosen, f"{end}_outer"), getattr(chosen, f"{end}_turn")
        values |= {f"{end}_outer": outer or 0.0, f"{end}_turn": OUTER_TURN if turn is None else turn}
    bypass = chosen.bypass or 0.0
    taper = _TAPER * bypass if chosen.bypass_taper is None else chosen.bypass_taper
    values |= {"bypass": bypass, "bypass_radius": chosen.bypass_radius or 0.0, "bypass_taper": taper}
    return LegSizes(**values, splitter_offset=chosen.splitter_offset)


_TAPER = 6.0  # times its width over which a bypass lane comes and goes unless it is said otherwise: aside by a metre in a second at 20 km/h, typical
OUTER_TURN = 10.0  # degrees by which an outer arc turns unless it is said otherwise: a fifth of what an entry turns in all, typical


def entry_side(q: Engine) -> Side:
    """The side of a leg, seen going outwards, on which traffic comes in."""
    return "right" if parts.settings(q).traffic == "left" else "left"


def roundabout_name(q: Engine, id: str) -> str:
    """The name that was given, else its street's, with the other's where that has several."""
    made = roundabout_of(q, id)
    if made.name:
        return made.name
    if made.street not in street_ids(q):
        return "A roundabout"
    several = len([r for r in parts.owned(q, Roundabout, made.street) if r.laid]) > 1
    other = f" / {name_of(q, made.other)}" if several and made.other and made.other in street_ids(q) else ""
    return f"{name_of(q, made.street)}{other} roundabout"


def asked(q: Engine, of: str | None) -> list[str]:
    """The roundabouts that a table is asked for: by id, name or street, or all. Raises NoSuchTable where there is none such."""
    ids = [i for i in roundabout_ids(q) if of in (None, i, roundabout_name(q, i), roundabout_of(q, i).street)]
    if of is not None and not ids:
        raise NoSuchTable(f"there is no roundabout called '{of}'")
    return ids


def leg_name(q: Engine, id: str, leg: Leg) -> str:
    """The street's name, and of one that has two legs which way it goes."""
    name = name_of(q, leg.street)
    legs = q.attempt(legs_of, id)
    both = not isinstance(legs, Unsolved) and sum(g.street == leg.street for g in legs) > 1
    return f"{name} {compass(leg)}" if both else name


def compass(leg: Leg) -> str:
    """Which way a leg goes, in a word."""
    heading = float(leg.chain.at([leg.throat]).headings[0])
    return COMPASS[int(np.round(np.degrees(heading) / 45.0)) % 8]


COMPASS = ("east", "north-east", "north", "north-west", "west", "south-west", "south", "south-east")
