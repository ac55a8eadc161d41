"""Where turning heads stand: at which end of a street, as it runs now."""

from __future__ import annotations

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.chain import Chain
from humble_loop.kinds.junction.nodes import leg_of
from humble_loop.kinds.street.plan import drawn_end, is_new, name_of
from humble_loop.kinds.turning_head.model import TurningHead
from humble_loop.site import parts
from humble_loop.site.model import End, Side, other_end, other_side

_CALLED = {"bulb": "bulb", "hammerhead": "hammerhead", "Y": "Y head", "left arm": "head", "right arm": "head"}


def heads_of(q: Engine, street: str) -> tuple[tuple[End, TurningHead], ...]:
    """The heads of a street, with the ends where they stand as it runs now."""
    if not is_new(q, street):
        return ()
    return tuple((drawn_end(q, street, h.end), h) for h in parts.owned(q, TurningHead, street))


def of_head(q: Engine, id: str) -> tuple[str, End]:
    """The street and its end as it runs now, from a head's id."""
    street, _, end = id.rpartition(":")
    return street, drawn_end(q, street, "start" if end == "start" else "end")


def head_at(q: Engine, street: str, end: End) -> TurningHead:
    """The head at a street's end. Raises Unsolved when there is none."""
    found = next((h for e, h in heads_of(q, street) if e == end), None)
    if found is None:
        raise Unsolved(name_of(q, street), f"it has no turning head at its {end}")
    return found


def head_name(q: Engine, street: str, end: End) -> str:
    """What a head is called: 'Kiln Court bulb'; where a street has one at both ends the one at its start says so."""
    made = dict(heads_of(q, street))
    name = f"{name_of(q, street)} {_CALLED[made[end].kind] if end in made else 'head'}"
    return f"{name} at its start" if len(made) > 1 and end == "start" else name


def approach(q: Engine, street: str, end: End) -> Chain:
    """The street's chain run towards the head, which stands at its end."""
    return leg_of(q, street, other_end(end))


def own_side(end: End, seen: Side) -> Side:
    """The street's own side that is ``seen`` left or right looking towards the head."""
    return seen if end == "end" else other_side(seen)
