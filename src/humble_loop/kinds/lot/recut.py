"""Rows of lots when their street is cut, made longer or joined: each stays where it stands, with what was set on its lots."""

from __future__ import annotations

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.lot.layout import LotFrame, lots_of_row
from humble_loop.kinds.lot.model import LotRow, PadChoice, lot_id
from humble_loop.kinds.street.plan import chain_of, frame_of, name_of
from humble_loop.site.edits import EditError, changed, free_id, free_name
from humble_loop.site.model import Site

_SAME = 1e-6  # metres between two chainages that are one


def recut(q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
    """The site with a street's rows of lots cut as the street was: see ``Kind.recut``."""
    for row in site.owned(LotRow, street):
        if row.place == "head":
            site = site.put(changed(row, street=rest)) if rest else site
        else:
            site = _cut(q, site, row, kept, rest)
    return site


def rejoined(q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
    """The site with the rows of lots of a street that became part of another: see ``Kind.rejoined``."""
    rows = site.owned(LotRow, gone)
    if rows and back:
        name = name_of(q, gone)
        raise EditError(
            f"the lots of '{name}' are numbered against the way '{name_of(q, street)}' was drawn: join from '{name}' instead"
        )
    for row in rows:
        if row.place == "head":
            site = site.put(changed(row, street=street))
            continue
        begin, end = _kept(q, row, _frames(q, row), (-1.0, chain_of(q, gone).total + 1.0))
        values = {k: None if v is None else start + v - 1.0 for k, v in (("start", begin), ("end", end))}
        site = site.put(changed(row, street=street, **values))
    return site


def _frames(q: Engine, row: LotRow) -> tuple[LotFrame, ...]:
    made = q.attempt(lots_of_row, row.id)
    return () if isinstance(made, Unsolved) else made


def _cut(q: Engine, site: Site, row: LotRow, kept: tuple[float, float], rest: str) -> Site:
    begin, finish = kept
    if rest and row.start is not None and row.start >= finish:
        end = None if row.end is None else row.end - finish
        return site.put(changed(row, street=rest, start=row.start - finish, end=end))
    frames = _frames(q, row)
    spans = [_span(q, f) for f in frames]
    here = [f for f, (a, b) in zip(frames, spans) if a >= begin - _SAME and b <= finish + _SAME]
    there = [f for f, (a, _) in zip(frames, spans) if a >= finish - _SAME]
    pads = site.owned(PadChoice, row.id)
    start, end = _kept(q, row, frames, kept)
    values: dict[str, float | int | None] = {"start": start, "end": end}
    passed = 0.0
    if here and begin > 0.0 and here[0] is not frames[0]:  # the first that is left stays, with its number
        passed = here[0].along - 0.5 * here[0].width
        values |= {"start": _span(q, here[0])[0] - begin, "first_number": here[0].number}
    if here and here[-1] is not frames[-1]:
        values["end"] = _span(q, here[-1])[1] - begin
    site = site.put(changed(row, **values))
    for pad in pads:
        if pad.along is not None and passed:
            site = site.put(changed(pad, along=pad.along - passed))
    return _rest(site, row, pads, there, finish, rest, _span(q, there[0])[0]) if rest and there else site


def _rest(
    site: Site, row: LotRow, pads: tuple[PadChoice, ...], lots: list[LotFrame], finish: float, rest: str, first: float
) -> Site:
    """The lots of a row beyond a cut as a row of the other street's, with their numbers and what was set on them."""
    name = free_name(site, LotRow, row.name)
    end = None if row.end is None else row.end - finish
    own = {"id": free_id(site, LotRow, name), "name": name, "street": rest}
    fresh = changed(row, **own, start=first - finish, end=end, first_number=lots[0].number)
    site = site.put(fresh)
    passed, numbers = lots[0].along - 0.5 * lots[0].width, {f.number for f in lots}
    for pad in pads:
        if pad.number in numbers:
            along = None if pad.along is None else pad.along - passed
            moved = changed(pad, id=lot_id(fresh.id, pad.number), row=fresh.id, along=along)
            site = site.without(PadChoice, pad.id).put(moved)
    return site


def _kept(
    q: Engine, row: LotRow, frames: tuple[LotFrame, ...], kept: tuple[float, float]
) -> tuple[float | None, float | None]:
    """Where a row begins and ends on what is left of its street; on one that is longer, where its lots stand now."""
    begin, finish = kept
    start, end = row.start, row.end
    if frames and start is None and begin < 0.0:
        start = _drawn(q, row.street, frames[0].first.along)
    if frames and end is None and finish > chain_of(q, row.street).total + _SAME:
        last = frames[-1]
        end = (
            _drawn(q, row.street, last.last.along) if last.first.line == last.last.line else None
        )  # it goes round a head
    if start is not None and begin >= 0.0 and start <= begin:
        start = None  # what it began with is gone
    return (None if start is None else start - begin), (None if end is None else end - begin)


def _drawn(q: Engine, street: str, s: float) -> float:
    """A chainage as the street runs now, as it was drawn."""
    return chain_of(q, street).total - s if frame_of(q, street).turned else s


def _span(q: Engine, lot: LotFrame) -> tuple[float, float]:
    """Chainages, as the street was drawn, between which a lot's frontage lies; up to the end for one that goes round its head."""
    street, total = lot.row.street, chain_of(q, lot.row.street).total
    if lot.first.line != lot.last.line:
        return _drawn(q, street, lot.first.along), total
    return _drawn(q, street, lot.first.along), _drawn(q, street, lot.last.along)
