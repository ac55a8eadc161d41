"""Where streets meet end to end, in plan: which go on as one another, and why others do not."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen, tangents
from humble_loop.kinds.continuation.model import ContinuationChoice, set_continuation
from humble_loop.kinds.junction.nodes import JOIN, joint, taken
from humble_loop.kinds.street.plan import (
    centreline,
    chain_of,
    class_of,
    drawn_end,
    end_chainage,
    end_point,
    is_new,
    name_of,
    near,
    street_ids,
)
from humble_loop.kinds.turning_head.place import heads_of
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.model import ENDS, End

_MEET = 1e-3  # metres within which two ends are one place
_KINK = 1e-4  # radians by which a line that goes on straight turns at most: 1 mm of gap 10 m from the crown


@dataclass(frozen=True, order=True)
class Tip:
    """An end of a street, as it runs now."""

    street: str
    end: End


@dataclass(frozen=True)
class Meet:
    """A place (2,) at which ends of streets lie, told with the street whose id comes first; ``why`` says why none goes on as another."""

    place: Floats
    tips: tuple[Tip, ...]
    why: str = ""


@query
def tips_at(q: Engine, street: str, end: End) -> tuple[Tip, ...]:
    """The other streets' ends that lie at a street's end, where that leaves no other as a side street."""
    if isinstance(q.attempt(joint, street, end), Unsolved) or joint(q, street, end) is not None:
        return ()
    here, found = end_point(q, street, end), []
    if taken(q, street, here):
        return ()
    for other in near(q, street):
        if isinstance(q.attempt(centreline, other), Unsolved):
            continue
        for its in ENDS:
            if np.hypot(*(end_point(q, other, its) - here)) <= JOIN and joint(q, other, its) is None:
                found.append(Tip(other, its))
    return tuple(sorted(found))


@query
def meets_of(q: Engine, street: str) -> tuple[Meet, ...]:
    """The places at which a street's ends lie with others', of those whose ids come after it; existing ones among themselves are as they are."""
    if isinstance(q.attempt(centreline, street), Unsolved):
        return ()
    found = []
    for end in ENDS:
        others = tips_at(q, street, end)
        tips = (Tip(street, end), *others)
        if others and street < min(t.street for t in others) and any(is_new(q, t.street) for t in tips):
            found.append(Meet(frozen(end_point(q, street, end)), tips, _why(q, tips)))
    return tuple(found)


def _why(q: Engine, tips: tuple[Tip, ...]) -> str:
    """Why streets do not go on as one another; '' where they do."""
    if len(tips) > 2:
        return f"the ends of {len(tips)} streets lie there"
    for t in tips:
        if any(end == t.end for end, _ in heads_of(q, t.street)):
            return f"a turning head stands at the {t.end} of {name_of(q, t.street)}"
    one, other = tips
    apart = float(np.hypot(*(end_point(q, one.street, one.end) - end_point(q, other.street, other.end))))
    if apart > _MEET:
        return f"their ends lie {apart:.3f} m apart"
    kink = abs(kink_of(q, one, other))
    return f"they meet at a kink of {np.degrees(kink):.2f}°" if kink > _KINK else ""


def kink_of(q: Engine, one: Tip, other: Tip) -> float:
    """By how much (radians) a line turns that runs out of one street's end and into the other's."""
    u, v = outwards(q, one), -outwards(q, other)
    return float(np.arctan2(u[0] * v[1] - u[1] * v[0], u @ v))


def outwards(q: Engine, tip: Tip) -> Floats:
    """The unit vector (2,) in which a street would go on past its end."""
    heading = chain_of(q, tip.street).at([end_chainage(q, tip.street, tip.end)]).headings[0]
    return tangents(heading) * (1.0 if tip.end == "end" else -1.0)


@dataclass(frozen=True)
class Continuation:
    """Where a street goes on as another: the end that ``holds`` and the one that ``follows`` it, over ``taper`` metres; its ``place`` (2,)."""

    holds: Tip
    follows: Tip
    taper: float
    place: Floats

    @property
    def same_way(self) -> bool:
        """Whether both run the same way there, so that left is left."""
        return self.holds.end != self.follows.end

    @property
    def tips(self) -> tuple[Tip, Tip]:
        """Both, the one whose id comes first before the other."""
        one, other = sorted((self.holds, self.follows))
        return one, other


@query
def continuations_of(q: Engine, street: str) -> tuple[Continuation, ...]:
    """The continuations at a street's ends."""
    found = []
    for end in ENDS:
        others = tips_at(q, street, end) if not isinstance(q.attempt(centreline, street), Unsolved) else ()
        if len(others) == 1 and tips_at(q, others[0].street, others[0].end) == (Tip(street, end),):
            tips = tuple(sorted((Tip(street, end), *others)))
            made = q.attempt(continuation, *tips)
            if isinstance(made, Continuation):
                found.append(made)
    return tuple(found)


@query
def continuation(q: Engine, one: Tip, other: Tip) -> Continuation | None:
    """How two ends, the one whose street's id comes first before the other, go on; None where they do not."""
    if not (is_new(q, one.street) or is_new(q, other.street)) or _why(q, (one, other)):
        return None
    chosen = choice_at(q, one, other)
    holds = holder_of(q, one, other, chosen)
    follows = other if holds == one else one
    taper = chosen.taper if chosen is not None else ContinuationChoice.model_fields["taper"].default
    taper = min(taper, chain_of(q, follows.street).total)
    return Continuation(holds, follows, taper, frozen(end_point(q, holds.street, holds.end)))


def holder_of(q: Engine, one: Tip, other: Tip, chosen: ContinuationChoice | None) -> Tip:
    """Whose levels and section hold: an existing street's, else as chosen, else those of the one whose class is made for more speed, else
    of the one that was drawn first.
    """
    if is_new(q, one.street) != is_new(q, other.street):
        return other if is_new(q, one.street) else one
    if chosen is not None and chosen.holds is not None:
        return one if chosen.holds == one.street else other
    sight = [class_of(q, t.street).sight_distance for t in (one, other)]
    if sight[0] != sight[1]:
        return one if sight[0] > sight[1] else other
    return min((one, other), key=lambda t: street_ids(q).index(t.street))


def choice_at(q: Engine, one: Tip, other: Tip) -> ContinuationChoice | None:
    """What was decided where two ends meet."""
    id = id_of(q, one, other)
    return next((c for c in parts.owned(q, ContinuationChoice, one.street) if c.id == id), None)


def id_of(q: Engine, one: Tip, other: Tip) -> str:
    """The id of the place where two ends meet, which reversing a street does not change."""
    return "+".join(f"{t.street}:{drawn_end(q, t.street, t.end)}" for t in (one, other))


def decided(q: Engine, made: Continuation, **values: Any) -> Edit:
    """The edit that decides about a continuation."""
    one, other = made.tips
    ends = (one.street, drawn_end(q, one.street, one.end), other.street, drawn_end(q, other.street, other.end))
    return lambda site: set_continuation(site, *ends, **values)


def of_id(q: Engine, id: str) -> Continuation:
    """The continuation of an id. Raises Unsolved where streets do not go on so any more."""
    first = id.split(":", 1)[0]
    for made in continuations_of(q, first):
        if id_of(q, *made.tips) == id:
            return made
    raise Unsolved(id, "these streets do not meet end to end any more", "choose something else")


def all_continuations(q: Engine) -> tuple[Continuation, ...]:
    """Every continuation of the site."""
    return tuple(c for s in street_ids(q) for c in continuations_of(q, s) if c.tips[0].street == s)


def name_at(q: Engine, made: Continuation) -> str:
    """The name that was given, else 'The one that holds – the other'."""
    chosen = choice_at(q, *made.tips)
    return (chosen.name if chosen else None) or f"{name_of(q, made.holds.street)} – {name_of(q, made.follows.street)}"
