"""The kind: fall windows."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.fall_window import show
from humble_loop.kinds.fall_window.checks import RULES, window_findings
from humble_loop.kinds.fall_window.levels import all_windows, target_of, title_of, window_of, window_runs, windows_on
from humble_loop.kinds.fall_window.model import FallWindow
from humble_loop.kinds.fall_window.recut import recut, rejoined
from humble_loop.kinds.fall_window.settling import movable, settle_sheet
from humble_loop.kinds.fall_window.tables import TABLES
from humble_loop.lines.describe import Drawing, Row, SheetOf, Window
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import Kind
from humble_loop.lines.line import LineId, ThingId, line_plan
from humble_loop.lines.standing import kind_of
from humble_loop.site import parts
from humble_loop.site.model import Site

_OF = ("street", "kerb_line", "tie")  # kinds of things whose lines fall windows are of


class FallWindows(Kind):
    """What lines have to keep for something else to fall to them."""

    key, title, stage = "fall_window", "Fall windows", "Levels"
    models = (FallWindow,)
    rules = dict.fromkeys(RULES, "Levels")
    tables = TABLES

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, i) for i in parts.ids(q, FallWindow))

    def name(self, q: Engine, thing: ThingId) -> str:
        return title_of(q, thing.id)

    def under(self, q: Engine, thing: ThingId) -> ThingId | None:
        return ThingId("street", parts.one(q, FallWindow, thing.id).street)

    def progress(self, q: Engine) -> dict[str, float]:
        return {}

    def windows(self, q: Engine, line: LineId) -> tuple[Window, ...]:
        target = target_of(q, line)
        if target is None:
            return ()
        made = (q.attempt(window_of, id) for id in windows_on(q, target))
        return tuple(w for w in made if w is not None and not isinstance(w, Unsolved))

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        return recut(site, street, kept, rest)

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        return rejoined(site, gone, street, start, back)

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return window_findings(q, thing.id)

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        return show.drawing_of(q, thing.id)

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return show.facts_of(q, thing.id)

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        line = kind_of(other.kind).section_line(q, other) if other.kind in _OF else None
        return () if line is None else show.facts_about_line(q, line)

    def sheets(self, q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
        return (SheetOf("Fall window", lambda q: show.sheet_of(q, thing.id)),)

    def sheets_about(self, q: Engine, other: ThingId) -> tuple[SheetOf, ...]:
        """The room left, where there are windows."""
        line = kind_of(other.kind).section_line(q, other) if other.kind in _OF else None
        target = None if line is None else target_of(q, line)
        if line is None or target is None or isinstance(q.attempt(line_plan, target), Unsolved):
            return ()
        found = []
        if windows_on(q, target) or (other.kind == "kerb_line" and all_windows(q, line)):
            found.append(SheetOf("Room left", lambda q: show.room_sheet(q, line)))
        if movable(q, line) is not None:
            found.append(SheetOf("Settle", lambda q: settle_sheet(q, line)))
        return tuple(found)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        made = q.attempt(window_runs, thing.id)
        return None if isinstance(made, Unsolved) else made.line

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        return np.inf  # it lies on the line that it is of, which is what a click means
