"""What was decided of continuations when a street is cut or joined: it stays with the end, and whose levels hold does not change."""

from __future__ import annotations

from humble_loop.engine.query import Engine
from humble_loop.kinds.continuation.meets import Continuation, Tip, choice_at, continuations_of
from humble_loop.kinds.continuation.model import ContinuationChoice
from humble_loop.kinds.street.plan import drawn_end
from humble_loop.site.edits import changed
from humble_loop.site.model import End, Site, other_end


def recut(q: Engine, site: Site, street: str, rest: str) -> Site:
    """See ``Kind.recut``: the end of a street that was split, as drawn, is the rest's."""
    for made in continuations_of(q, street) if rest else ():
        own = next(t for t in made.tips if t.street == street)
        if drawn_end(q, street, own.end) == "end":
            site = _moved(q, site, made, own, rest, "end")
    return site


def rejoined(q: Engine, site: Site, gone: str, street: str, back: bool) -> Site:
    """See ``Kind.rejoined``: the far end of what became part of a street is that street's; where both met nothing is decided any more."""
    for made in continuations_of(q, gone):
        own = next(t for t in made.tips if t.street == gone)
        end = drawn_end(q, gone, own.end)
        if street in (t.street for t in made.tips):
            if (choice := choice_at(q, *made.tips)) is not None:
                site = site.without(ContinuationChoice, choice.id)
        else:
            site = _moved(q, site, made, own, street, other_end(end) if back else end)
    return site


def _moved(q: Engine, site: Site, made: Continuation, own: Tip, street: str, end: End) -> Site:
    """The site in which an end (as drawn) of another street is where one was."""
    other = next(t for t in made.tips if t != own)
    old, its = choice_at(q, *made.tips), drawn_end(q, other.street, other.end)
    (first, first_end), (second, second_end) = sorted(((street, end), (other.street, its)))
    holds = street if made.holds == own else other.street
    fresh = ContinuationChoice(first=first, first_end=first_end, second=second, second_end=second_end, holds=holds)
    if old is not None:
        site, fresh = site.without(ContinuationChoice, old.id), changed(fresh, name=old.name, taper=old.taper)
    return site.put(fresh)
