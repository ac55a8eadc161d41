"""How a leg of a roundabout shows itself, and how it is taken in hand."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, left_normals, tangents
from humble_loop.geometry.corners import OuterArc
from humble_loop.kinds.roundabout.aside import passes_by
from humble_loop.kinds.roundabout.bypass import bypass_beside, bypass_why, gap_key
from humble_loop.kinds.roundabout.bypass_show import bypass_facts, bypass_handles
from humble_loop.kinds.roundabout.gaps import Kerb, arc_radius, lane_edge, outer_arc
from humble_loop.kinds.roundabout.layout import kerb_after, lane_kerb, leg_edge, lip_edge, turn_with_room
from humble_loop.kinds.roundabout.leg_hand import LegHand, to_leg
from humble_loop.kinds.roundabout.leg_islands import PARTS, LegIslandLine, pieces_of
from humble_loop.kinds.roundabout.model import set_leg
from humble_loop.kinds.roundabout.place import (
    OUTER_TURN,
    Leg,
    entry_side,
    leg_choice,
    leg_name,
    leg_of,
    leg_sizes,
    legs_of,
    middle_of,
    roundabout_name,
    sizes_of,
)
from humble_loop.kinds.roundabout.splitters import splitters
from humble_loop.kinds.street.show import SAG
from humble_loop.lines.describe import (
    LABEL_RANKS,
    Actions,
    Drawing,
    Fact,
    Handle,
    Label,
    Note,
    Place,
    Row,
    Unit,
)
from humble_loop.lines.drawn import drawn_in, strokes
from humble_loop.site.edits import Edit, EditError
from humble_loop.site.model import SIDES, Side, Site, other_side, side_sign

_INSIDE = 1e-9  # metres


def leg_thing(id: str, key: str) -> str:
    """The id of a leg as a thing."""
    return f"{id}|{key}"


def of_thing(thing: str) -> tuple[str, str]:
    """A roundabout's id and a leg's key from that."""
    id, _, key = thing.partition("|")
    return id, key


def kerbs_beside(q: Engine, id: str, leg: Leg) -> dict[Side, Kerb]:
    """The kerbs on both sides of a leg, those that can be made."""
    made = {seen: q.attempt(kerb_after, id, gap_key(q, id, leg, seen)) for seen in SIDES}
    return {seen: kerb for seen, kerb in made.items() if isinstance(kerb, Kerb)}


def edges_beside(q: Engine, id: str, leg: Leg) -> dict[Side, Kerb]:
    """The edges of its lanes to and from the circle on both sides: its kerbs, but beside bypass lanes."""
    made = {seen: q.attempt(lane_kerb, id, gap_key(q, id, leg, seen)) for seen in SIDES}
    return {seen: kerb for seen, kerb in made.items() if isinstance(kerb, Kerb)}


def arc_points(made: Kerb, seen: Side) -> Floats:
    """The arc of a kerb that belongs to a leg on its left or right (n, 2), from the circle outwards."""
    a, b = made.ends
    part = (0.0, a) if seen == "left" else (b, made.chain.total)
    s = np.linspace(*part, 25)
    points = made.chain.points_at(s)
    return points[::-1] if seen == "left" else points


def drawing(q: Engine, id: str, key: str) -> Drawing:
    """Its kerbs' arcs, the circle between them, and its islands."""
    leg = leg_of(q, id, key)
    arcs = [arc_points(made, seen) for seen, made in kerbs_beside(q, id, leg).items()]
    lines = (
        (role, LegIslandLine(id, key, part, n, point))
        for part in PARTS
        for n in pieces_of(q, id, key, part)
        for point, role in (("lip", "return"), ("kerb back", "kerb"))
    )
    islands = drawn_in(q, lines, SAG)
    returns = arcs + islands.pop("return", [])
    return strokes({"return": returns, "give way": [_across(q, id, leg)], **islands})


def lit(q: Engine, id: str, key: str) -> Floats:
    """Its kerbs' arcs, the circle between them, and its islands (n, 2)."""
    return np.concatenate([np.empty((0, 2)), *(s.points for s in drawing(q, id, key).strokes if s.role != "kerb")])


def _across(q: Engine, id: str, leg: Leg) -> Floats:
    """The circle between the edges of a leg's lanes (n, 2)."""
    kerbs = edges_beside(q, id, leg)
    if len(kerbs) < 2:
        return np.empty((0, 2))
    begin, finish = kerbs["right"].angles[1], kerbs["left"].angles[0]
    turn = float(np.mod(finish - begin, 2.0 * np.pi))
    found: Floats = middle_of(q, id) + sizes_of(q, id).radius * tangents(np.linspace(begin, begin + turn, 33))
    return found


def details(q: Engine, id: str, key: str) -> Drawing:
    """The radii of its kerbs, and of the edges of its lanes beside a bypass lane."""
    leg, labels = leg_of(q, id, key), []
    kerbs, edges = kerbs_beside(q, id, leg), edges_beside(q, id, leg)
    beside = [(seen, edge) for seen, edge in edges.items() if edge is not kerbs.get(seen)]
    for seen, made in (*kerbs.items(), *beside):
        # One arc from leg to leg is told once, by the leg on whose left it begins.
        for k in made.arcs(0 if seen == "left" else 1) if seen == "left" or not made.alone else ():
            e, n = made.chain.points_at([0.5 * (made.chain.starts[k] + made.chain.starts[k + 1])])[0].tolist()
            words = f"R {round(1.0 / abs(float(made.chain.k0[k])), 6):g}"
            labels.append(Label((e, n), "quiet", LABEL_RANKS["spot"], words=words, centred=True))
    return Drawing((), (), tuple(labels))


# Facts


def facts(q: Engine, id: str, key: str) -> tuple[Row, ...]:
    """How it comes in and goes out, its bypass lane and its splitter island."""
    leg, entry = leg_of(q, id, key), entry_side(q)
    made, edges = leg_choice(q, id, leg.street, leg.drawn), edges_beside(q, id, leg)
    sizes, aside = leg_sizes(q, id, leg), passes_by(q, id, leg)

    def size(label: str, name: str, unit: Unit = "size") -> Fact:
        given, used, edit = getattr(made, name), getattr(sizes, name), to_leg(id, leg, name)
        typed = edit if unit != "count" else (lambda v: edit(int(v)))
        return Fact(
            label,
            unit,
            used,
            "proposed" if given is None else "set",
            typed,
            edit(None if given is not None else used),
            inner=True,
        )

    rows: list[Row] = [
        Fact("of", "text", roundabout_name(q, id)),
        Fact("passes left of the middle", "length", leg.offset, "set" if aside else "worked out", aside),
    ]
    for words, name, seen in (("Entry", "entry", entry), ("Exit", "exit", other_side(entry))):
        rows += [
            Note(words),
            size("width", name),
            size("lanes", f"{name}_lanes", "count"),
            size("radius", f"{name}_radius"),
        ]
        if seen in edges:
            used = edges[seen].radii[0 if seen == "left" else 1]
            if abs(used - getattr(sizes, f"{name}_radius")) > 1e-6:
                rows.append(Fact("as it fits beside the next leg", "length", used, inner=True))
        else:
            rows.append(Note(_why(q, id, leg, seen), heading=False))
        rows += _outer(q, id, leg, seen, name)
    rows += bypass_facts(q, id, leg)
    rows += [
        Note("Approach"),
        size("widens over", "flare"),
        Note("Splitter island"),
        size("length from the circle", "splitter", "length"),
    ]
    if sizes.splitter > 0.0:
        rows += _splitter(q, id, leg, size)
    return tuple(rows)


def _splitter(q: Engine, id: str, leg: Leg, size: Callable[[str, str, Unit], Fact]) -> list[Row]:
    """What there is to say of a leg's splitter island besides its length; ``size`` makes the fact of one of the leg's sizes."""
    beside, edit = leg_sizes(q, id, leg).splitter_offset, to_leg(id, leg, "splitter_offset")
    rows: list[Row] = [
        size("wide", "splitter_width", "size"),
        Fact("left of the centreline", "length", beside, "set", edit, inner=True),
        size("opens before the circle", "crossing", "length"),
    ]
    if leg_sizes(q, id, leg).crossing > 0.0:
        rows.append(size("for a crossing", "crossing_width", "size"))
    laid = q.attempt(splitters, id, leg.key)
    if isinstance(laid, Unsolved):
        rows.append(Note(f"{laid.message}; {laid.remedy}", heading=False))
    return rows


def _outer(q: Engine, id: str, leg: Leg, seen: Side, name: str) -> tuple[Row, ...]:
    """The arc at the lip of an entry or an exit, or that it can have one."""
    sizes = leg_sizes(q, id, leg)
    outer, turn = f"{name}_outer", f"{name}_turn"
    if outer_arc(q, sizes, seen) is None:
        return (Actions(((f"An outer arc at the {name}'s lip", _with_outer(q, id, leg, seen, name)),)),)
    rows = (
        Fact("radius at the lip", "size", getattr(sizes, outer), "set", to_leg(id, leg, outer), inner=True),
        Fact("turns", "angle", getattr(sizes, turn), "set", to_leg(id, leg, turn), inner=True),
    )
    return (*rows, Actions((("One arc again", lambda s: set_leg(s, id, leg.street, leg.drawn, **{outer: None})),)))


def _with_outer(q: Engine, id: str, leg: Leg, seen: Side, name: str) -> Edit:
    """An outer arc that turns as far as one typically does, or as far as there is room for."""

    def edit(site: Site) -> Site:
        sizes = leg_sizes(q, id, leg)
        arc = OuterArc(_WIDER * arc_radius(q, sizes, seen), float(np.radians(OUTER_TURN)))
        turn = turn_with_room(q, id, leg, seen, arc)
        if turn <= 0.0:
            raise EditError(
                f"{leg_name(q, id, leg)} has no room for an outer arc; lessen its radius, or enlarge the circle"
            )
        return set_leg(site, id, leg.street, leg.drawn, **{f"{name}_outer": arc.radius, f"{name}_turn": turn})

    return edit


_WIDER = 2.5  # times the radius at the circle that one at the lip has to begin with; typical


def _why(q: Engine, id: str, leg: Leg, seen: Side) -> str:
    made = q.attempt(kerb_after, id, gap_key(q, id, leg, seen))
    return f"{made.message}; {made.remedy}" if isinstance(made, Unsolved) else ""


# By hand


def handles(q: Engine, id: str, key: str) -> tuple[Handle, ...]:
    """On both sides where its kerb touches the lip (its radius), where it is at its width, and where it has widened; its bypass lane and its splitter
    island.
    """
    hand = LegHand(q, id, leg_of(q, id, key))
    sides = [h for seen in SIDES for h in _side_handles(hand, seen)]
    return (*sides, *bypass_handles(hand), *(_splitter_handles(hand) if hand.sizes.splitter > 0.0 else ()))


def _side_handles(hand: LegHand, seen: Side) -> list[Handle]:
    q, id, leg, sizes, sign = hand.q, hand.id, hand.leg, hand.sizes, side_sign(seen)
    name, n = "entry" if seen == entry_side(q) else "exit", 0 if seen == "left" else 1
    lip, bypass, turned = lip_edge(q, leg, seen), bypass_beside(q, id, leg, seen), edges_beside(q, id, leg).get(seen)
    edge = lip if bypass is None else lane_edge(q, leg, sizes, seen)
    at = leg_edge(q, id, leg, seen) if turned is None else turned.leg_at[n]
    size, frame = sizes_of(q, id).radius, leg.chain.at([leg.throat])
    from_middle, heading = frame.points[0] - middle_of(q, id), float(frame.headings[0])
    across = sign * float(from_middle @ left_normals(heading)) + abs(edge.offset(at))
    abreast = leg.throat - float(from_middle @ tangents(heading))
    outer = outer_arc(q, sizes, seen)

    def radius(place: Place) -> float:
        # An arc that touches the circle and a straight lip ``across`` from the middle does so x from abreast of it: (R + r)2 = (d + r)2 + x2.
        x = max(hand.along(place) - abreast, 0.0)
        if outer is None:
            return float(np.clip((x * x + across * across - size * size) / (2.0 * max(size - across, 0.1)), 1.0, 400.0))
        # With one of r1 that turns by t at the lip its centre lies r1 + (r - r1) cos t from that, and (r1 - r) sin t short of where it touches.
        tried = np.geomspace(1.0, 400.0, 2000)
        beside = across + outer.radius + (tried - outer.radius) * np.cos(outer.turn)
        out = np.sqrt(np.maximum((size + tried) ** 2 - beside**2, 0.0))
        touched = out + (outer.radius - tried) * np.sin(outer.turn)
        return float(np.interp(x, np.maximum.accumulate(touched), tried))

    full = max(at, leg.throat + sizes.splitter)
    beside = abs(edge.offset(full)) - float(getattr(sizes, name))

    def wide(place: Place) -> float:
        return sign * float(leg.chain.feet([place]).offsets[0]) - beside

    def rule(q: Engine) -> str:
        legs = q.attempt(legs_of, id)
        now = None if isinstance(legs, Unsolved) else next((g for g in legs if g.key == leg.key), None)
        return "" if now is None else _why(q, id, now, seen) or bypass_why(q, id, gap_key(q, id, now, seen))

    found = [
        hand.handle(f"{name}_radius", f"{name} radius", hand.beside(at, edge.offset(at)), radius, rule),
        hand.handle(name, f"{name} width", hand.beside(full, edge.offset(full)), wide, rule),
    ]
    if bypass is None:
        flared = min(full + sizes.flare, leg.chain.total)
        place = hand.beside(flared, lip.offset(flared))
        found.append(hand.handle("flare", "flare", place, lambda p: hand.along(p) - full, rule, (name,)))
    return found


def _splitter_handles(hand: LegHand) -> list[Handle]:
    id, leg, sizes = hand.id, hand.leg, hand.sizes
    offset, nose = sizes.splitter_offset, leg.throat + sizes.splitter

    def out(place: Place) -> float:
        return hand.along(place) - leg.throat

    def wide(place: Place) -> float:
        return 2.0 * abs(float(leg.chain.feet([place]).offsets[0]) - offset)

    def rule(q: Engine) -> str:
        made = q.attempt(splitters, id, leg.key)
        return made.message if isinstance(made, Unsolved) else ""

    half = 0.5 * sizes.splitter_width
    found = [
        hand.handle("splitter", "length of its splitter island", hand.beside(nose, offset), out, rule),
        hand.handle(
            "splitter_width",
            "width of its splitter island",
            hand.beside(nose - 2.0 * half, offset + half),
            wide,
            rule,
        ),
    ]
    if sizes.crossing > 0.0:
        words = "distance of its crossing from the circle"
        found.append(hand.handle("crossing", words, hand.beside(leg.throat + sizes.crossing, offset), out, rule))
    return found


def at(q: Engine, id: str, key: str, place: Place) -> float:
    """How near a place is to where a leg comes in."""
    leg = leg_of(q, id, key)
    last = max(leg_edge(q, id, leg, seen) for seen in SIDES)
    s = np.linspace(leg.throat, max(last, leg.throat + 1.0), 9)
    middle = shapely.LineString(leg.chain.points_at(s))
    wide = max(abs(lip_edge(q, leg, seen).offset(last)) for seen in SIDES)
    away = float(shapely.distance(middle, shapely.Point(place)))
    return max(away - wide, _INSIDE)
