"""Ties when their street is cut, made longer or joined: each stays where it stands, and what follows a point of the street goes on to."""

from __future__ import annotations

from humble_loop.kinds.street.spans import cut_span, moved_span
from humble_loop.kinds.tie.model import LEAST, LevelTie, Source
from humble_loop.site.edits import changed, free_id
from humble_loop.site.model import Site, other_side


def recut(site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
    """The site with a street's ties cut as the street was: see ``Kind.recut``."""
    for old in site.owned(LevelTie, street):
        site = site.without(LevelTie, old.id)
        here, there = cut_span(old.span, kept, rest)
        if here and here[1] - here[0] >= LEAST:
            site = site.put(_part(old, here, kept[0]))
        if there and there[1] - there[0] >= LEAST:
            id = free_id(site, LevelTie, f"{rest} {old.side} {old.point} tie")
            part = _part(old, there, kept[1])
            source = part.source.model_copy(update={"of": rest}) if part.source.of == street else part.source
            site = site.put(changed(part, id=id, street=rest, source=source))
    return site


def _part(old: LevelTie, span: tuple[float, float], origin: float) -> LevelTie:
    """A tie on a part of its stretch, given as it will be, ``origin`` less than it is; a taper that is cut off is none."""
    begin, finish = span[0] + origin, span[1] + origin
    length = old.finish - old.begin
    rise = [old.rise_in + (old.rise_out - old.rise_in) * (s - old.begin) / length for s in (begin, finish)]
    into = min(old.taper_in, finish - begin) if begin <= old.begin + 1e-6 else 0.0
    out = min(old.taper_out, finish - begin - into) if finish >= old.finish - 1e-6 else 0.0
    return changed(old, begin=span[0], finish=span[1], rise_in=rise[0], rise_out=rise[1], taper_in=into, taper_out=out)


def rejoined(site: Site, gone: str, street: str, start: float, back: bool) -> Site:
    """The site with the ties of a street that became part of another, and those that follow it: see ``Kind.rejoined``."""
    for old in site.owned(LevelTie, gone):
        begin, finish = moved_span(old.span, start, back)
        side = other_side(old.side) if back else old.side
        values = {"begin": begin, "finish": finish, "side": side, "street": street}
        if back:
            values |= {"taper_in": old.taper_out, "taper_out": old.taper_in}
            values |= {"rise_in": old.rise_out, "rise_out": old.rise_in}
        id = free_id(site, LevelTie, f"{street} {side} {old.point} tie")
        fresh = changed(old, id=id, source=of_the_other(old.source, gone, street, back), **values)
        site = site.without(LevelTie, old.id).put(fresh)
    for tie in site.all(LevelTie):
        if tie.source.of == gone and tie.source.what == "point":
            site = site.put(changed(tie, source=of_the_other(tie.source, gone, street, back)))
    return site


def of_the_other(source: Source, gone: str, street: str, back: bool) -> Source:
    """A source that is a street which became part of another, as that one's; any other as it is."""
    if source.what != "point" or source.of != gone:
        return source
    side = other_side(source.side) if back and source.side else source.side
    return source.model_copy(update={"of": street, "side": side})
