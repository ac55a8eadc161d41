"""Fall windows when their street is cut, made longer or joined: each stays where it stands."""

from __future__ import annotations

from humble_loop.kinds.fall_window.model import LEAST, FallWindow
from humble_loop.kinds.street.spans import cut_span, moved_span
from humble_loop.kinds.tie.recut import of_the_other
from humble_loop.site.edits import changed, free_id
from humble_loop.site.model import Site, other_side


def recut(site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
    """The site with a street's fall windows cut as the street was: see ``Kind.recut``."""
    for old in site.owned(FallWindow, street):
        site = site.without(FallWindow, old.id)
        here, there = cut_span(old.span, kept, rest)
        if here and here[1] - here[0] >= LEAST:
            site = site.put(changed(old, begin=here[0], finish=here[1]))
        if there and there[1] - there[0] >= LEAST:
            id = free_id(site, FallWindow, f"{rest} {old.side or ''} {old.point} window")
            source = old.source.model_copy(update={"of": rest}) if old.source.of == street else old.source
            site = site.put(changed(old, id=id, street=rest, source=source, begin=there[0], finish=there[1]))
    return site


def rejoined(site: Site, gone: str, street: str, start: float, back: bool) -> Site:
    """The site with the fall windows of a street that became part of another, and those from it: see ``Kind.rejoined``."""
    for old in site.owned(FallWindow, gone):
        begin, finish = moved_span(old.span, start, back)
        side = other_side(old.side) if back and old.side else old.side
        id = free_id(site, FallWindow, f"{street} {side or ''} {old.point} window")
        source = of_the_other(old.source, gone, street, back)
        fresh = changed(old, id=id, street=street, side=side, begin=begin, finish=finish, source=source)
        site = site.without(FallWindow, old.id).put(fresh)
    for w in site.all(FallWindow):
        if w.source.of == gone and w.source.what == "point":
            site = site.put(changed(w, source=of_the_other(w.source, gone, street, back)))
    return site
