"""The cross section at the cursor."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QContextMenuEvent, QEnterEvent, QMouseEvent
from PySide6.QtWidgets import QMenu, QWidget

from humble_loop.desk.across import Across, Met, across
from humble_loop.desk.drawing import CrossView, cross_view
from humble_loop.desk.follower import Follower, InTime
from humble_loop.desk.layers import Label, PolygonLayer
from humble_loop.desk.section_band import BAND, BandPoint, LegFall, SectionBand
from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme
from humble_loop.desk.view import DrawingView
from humble_loop.engine.query import Unsolved
from humble_loop.formats.quantities import show_chainage, show_grade, show_length
from humble_loop.kinds.street.holding import holds
from humble_loop.kinds.street.plan import StreetLine, centreline, is_new
from humble_loop.kinds.street.side import section_at
from humble_loop.lines.describe import Handle, Place
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.site.edits import Edit
from humble_loop.site.model import Side

STRETCHES = (1.0, 2.0, 5.0, 10.0)
NAMES, LEVELS, FALLS, MET, SURFACES = "names", "offsets and levels", "falls", "other lines", "other surfaces"
SHOWN = (NAMES, LEVELS, FALLS, MET, SURFACES)
_USUAL = 5.0  # levels are drawn this much larger than distances, so that a crossfall can be seen, if there is room
_AFTER = 15  # milliseconds after the cursor has moved
_LEAST_FALL = 0.3  # metres: a leg shorter than this is a kerb's, and has no fall to tell
_APART = 13.0  # pixels between handles
_RANKS = {"crown": 0, "lip": 1, "boundary": 1, "toe": 2, "edge": 2}


class CrossSection(DrawingView):
    """Design and ground across the chosen street, looking along increasing chainage."""

    placed = Signal()  # another place is shown
    stretched = Signal(float)  # how many times larger levels are drawn than distances

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent, axes=False)
        self.stretch: float | None = None  # as chosen; None for the usual one, or less where the section is high
        self.shown = set(SHOWN)
        self._ground, self._design, self._others = self.curve(3), self.curve(6), self.curve(2)
        self._between, self.band = PolygonLayer(1), SectionBand()
        self.add_layer(self._between)
        self.add_layer(self.band)
        self._shown_at = 0.0
        self._at_hand = False  # handles are shown while the mouse is here
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self.refresh)
        self._shown: tuple[object, ...] = ()
        self._by_hand = False
        self._made: CrossView | None = None
        self._beside = Across()
        # It may need batters, or a cut through the whole surface, so it follows a drag at a slower pace.
        self.in_time = InTime(session, self._refresh, self, lambda: self.dragging.active)
        self._follower = Follower(session, self.refresh, self, lambda: self.dragging.active, apart=0.5)
        session.chosen_changed.connect(lambda: self._soon.start(0))  # after what was clicked is lit
        self.plotItem.vb.sigResized.connect(lambda: self._scale())
        session.cursor_moved.connect(self._on_cursor)

    def _on_cursor(self) -> None:
        if not self.session.dragging and not self._soon.isActive():
            self._soon.start(_AFTER)  # the hand does not wait for it: only the last of several places is shown

    def paint_in(self, theme: Theme) -> None:
        super().paint_in(theme)
        self._ground.setPen(theme.pen("ground", 1.3, Qt.PenStyle.DashLine))
        self._design.setPen(theme.pen("crown", 2.0))
        self._others.setPen(theme.pen("quiet", 1.1, Qt.PenStyle.DotLine))
        self.refresh()

    def refresh(self) -> None:
        """Show the section at the cursor's chainage, or half way along the chosen street."""
        self.in_time.now()

    def _refresh(self) -> None:
        q, street = self.session.engine, self.session.street
        if self.theme is None or not self.isVisible():
            return
        if not street or isinstance(line := q.attempt(centreline, street), Unsolved):
            for curve in (self._ground, self._design, self._others):
                curve.setData([], [])
            self.labels.show_labels([])
            self._between.show_shapes([])
            self.band.show_figures((), (), (), "choose a street to see its cross section")
            self.handles.show_handles([])
            return
        s = self._chainage(line.chain.total)
        if self.session.dragging:
            self._show(street, s, cross_view(q, street, s, batters=False))
        self._show(street, s, cross_view(q, street, s))

    def _show(self, street: str, s: float, made: CrossView) -> None:
        beside = Across()
        if not self.session.dragging and self.shown & {MET, SURFACES}:
            beside = across(self.session.engine, street, s, made.reach)  # may be given up: nothing has been shown yet
        elsewhere = self._made is None or self._shown_at != s
        self._made, self._shown_at, self._beside = made, s, beside
        if elsewhere:
            self.placed.emit()
        self._ground.setData(made.ground[:, 0], made.ground[:, 1])
        self._design.setData(made.design[:, 0], made.design[:, 1])
        # Another place is shown at its own scale; nothing rescales while a street that is shown is dragged.
        another = self._shown[:1] != (street,)
        if another:
            self._by_hand = False
        if another or (self._shown != (street, s) and not self.session.dragging):
            self._shown = (street, s)
            self._scale()
        self._show_fill(made.design, made.ground)
        self._show_others()
        self._show_figures(made)
        self._show_handles(street, s, made)

    def show_part(self, part: str, wanted: bool) -> None:
        """Show names, levels, falls, other lines or other surfaces, or leave them out."""
        (self.shown.add if wanted else self.shown.discard)(part)
        self.refresh()

    def _show_others(self) -> None:
        """Other surfaces, each with its name where it begins, and names of services and streets where they are met."""
        surfaces = self._beside.surfaces if SURFACES in self.shown else ()
        if self._made is not None and np.isfinite(self._made.found).all(axis=1).any():
            surfaces = (*surfaces, ("as found", self._made.found))
        gap = np.full((1, 2), np.nan)
        points = (
            np.concatenate([p for _, surface in surfaces for p in (surface, gap)]) if surfaces else np.empty((0, 2))
        )
        self._others.setData(points[:, 0], points[:, 1])
        labels = []
        for name, surface in surfaces:
            x, z = surface[np.isfinite(surface[:, 1])][0]
            labels.append(Label(float(x), float(z), name, "quiet", 11, 400, 4))
        unit = self.session.site.settings.units
        for m in self._met():
            if m.role != "ground":
                labels.append(Label(m.x, m.z, f"{m.name} {show_length(m.z, unit)}", m.role, 11, 500, 3))
        self.labels.show_labels(labels)

    def _show_handles(self, street: str, s: float, made: CrossView) -> None:
        """Handles of the typical section, where it is what is shown, while the hand is here or drags one."""
        own = "crown" in made.names and "lip" in made.names
        wanted = own and (self._at_hand or self.dragging.active)
        thing = ThingId("street", street)
        q = self.session.engine
        found: tuple[Handle, ...] = ()
        if wanted:
            found = kind_of(thing.kind).cross_handles(q, thing, s)
            found += tuple(h for kind in kinds() for h in kind.cross_handles_about(q, thing, s))
        self.handles.show_handles(found if self.dragging.active else self._apart(found))

    def _apart(self, handles: Sequence[Handle]) -> list[Handle]:
        """Those that can be told from one another at this scale: ends of strips from the outermost, then middles."""
        kept: list[Handle] = []
        taken: dict[bool, list[float]] = {False: [], True: []}  # rings stand apart from all others
        rings = [h for h in handles if h.shape == "ring"]  # in the order in which they are wanted
        others = sorted(
            (h for h in handles if h.shape != "ring"), key=lambda h: (h.shape != "square", -abs(h.place[0]))
        )
        for handle in (*others, *rings):
            x, beside = float(self.pixel(handle.place).x()), taken[handle.shape == "ring"]
            if all(abs(x - other) >= _APART for other in beside):
                kept.append(handle)
                beside.append(x)
        return kept

    def enterEvent(self, event: QEnterEvent) -> None:
        super().enterEvent(event)
        self.show_hand(True)

    def show_hand(self, here: bool) -> None:
        """Show handles, as while the mouse is here, or no longer."""
        self._at_hand = here
        self.refresh()

    def leaveEvent(self, event: QEvent) -> None:
        super().leaveEvent(event)
        self._at_hand = False
        if not self.dragging.active:
            self.handles.show_handles([])

    def offers(self, place: Place) -> tuple[tuple[str, Edit], ...]:
        """What can be done with the piece of the section at a place: others beside it, its order, its end."""
        thing, q = self.session.thing, self.session.engine
        if thing is None or self._made is None or "lip" not in self._made.names:
            return ()
        try:
            rows = kind_of(thing.kind).cross_rows(q, thing, self._shown_at)
        except Unsolved:
            return ()
        row = next((r for r in rows if r.across and r.across[0] <= place[0] <= r.across[1]), None)
        return row.actions if row is not None else ()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        offers = self.offers(self.place(QPointF(event.pos())))
        event.accept()
        if not offers or self.dragging.active:
            return
        menu = QMenu(self)
        for words, edit in offers:
            menu.addAction(words, partial(self.session.do, words, edit))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    def fit(self) -> None:
        """Show the whole section again."""
        self._by_hand, self._shown = False, ()
        self.refresh()

    def choose_stretch(self, stretch: float | None) -> None:
        """Draw levels ``stretch`` times as large as distances; None for as much as there is room for, up to 5."""
        self.stretch = stretch
        self.fit()

    def _scale(self) -> None:
        """Set the view so that the section fills it above the band, without changing what the hand has set."""
        made, vb = self._made, self.plotItem.vb
        if made is None or self._by_hand:
            return
        wide, high = max(float(vb.width()), 50.0), max(float(vb.height()) - BAND - 30.0, 30.0)
        reach = max(made.reach, 1.0)
        inside = made.ground[np.abs(made.ground[:, 0]) <= reach]
        levels = np.concatenate([made.design[:, 1], inside[:, 1], [m.z for m in self._met()]])
        levels = levels[np.isfinite(levels)]
        if not len(levels):
            return
        low, rise = float(levels.min()), float(np.ptp(levels))
        across = wide / (2.0 * reach)  # pixels to a metre
        fits = [k for k in STRETCHES if k <= _USUAL and rise * k * across <= high] or [STRETCHES[0]]
        stretch = self.stretch or fits[-1]
        up = across * stretch
        bottom = low - (0.5 * (high - rise * up) + BAND) / up
        vb.setAspectLocked(False)
        vb.setRange(QRectF(-reach, bottom, 2.0 * reach, float(vb.height()) / up), padding=0)
        self.stretched.emit(stretch)

    def _chainage(self, total: float) -> float:
        station = self.session.station
        here = station is not None and getattr(station.line, "street", "") == self.session.street
        return station.chainage if here and station else 0.5 * total

    def caption(self) -> str:
        """The chainage shown, in words; '' when no street is."""
        q, street, settings = self.session.engine, self.session.street, self.session.site.settings
        line = q.attempt(centreline, street) if street else None
        if line is None or isinstance(line, Unsolved):
            return ""
        s = self._chainage(line.chain.total)
        section, turning = section_at(q, street, s)
        into = f"  turning into {section.name}" if turning and is_new(q, street) else ""
        return show_chainage(s, settings.chainage_format, settings.units) + into

    def _show_fill(self, design: np.ndarray, ground: np.ndarray) -> None:
        assert self.theme is not None
        known = ground[np.isfinite(ground[:, 1])]
        design = design[np.isfinite(design[:, 1])]
        if len(design) < 3 or len(known) < 2:
            self._between.show_shapes([])
            return
        x = np.unique(
            np.concatenate([design[:, 0], known[(known[:, 0] > design[0, 0]) & (known[:, 0] < design[-1, 0]), 0]])
        )
        d, g = np.interp(x, design[:, 0], design[:, 1]), np.interp(x, known[:, 0], known[:, 1])
        none = self.theme.pen("paper", 0.0, alpha=0)
        shapes = []
        for low, high, role in ((np.minimum(d, g), g, "cut"), (g, np.maximum(d, g), "fill")):
            ring = np.concatenate([np.column_stack([x, high]), np.column_stack([x, low])[::-1]])
            shapes.append((ring, self.theme.colour(role, 60), none))
        self._between.show_shapes(shapes)

    def _met(self) -> tuple[Met, ...]:
        return self._beside.met if MET in self.shown else ()

    def _show_figures(self, made: CrossView) -> None:
        design, names = made.design, made.names
        crown = names.index("crown") if "crown" in names else len(names)
        points: list[BandPoint] = []
        falls: list[LegFall] = []
        for i, (name, (x, z)) in enumerate(zip(names, design)):
            if not name:
                continue
            side: Side = "left" if i < crown else "right"
            role = {"crown": "crown", "lip": f"{side}_lip"}.get(name, "quiet")
            texts = self._texts(f"◆ {name}" if self._is_held(name, side) else name, float(x), float(z))
            points.append(BandPoint(float(x), float(z), texts, role, _RANKS.get(name, 3)))
        named = [i for i, name in enumerate(names) if name]
        for i, j in zip(named[:-1], named[1:]) if FALLS in self.shown else ():
            (x0, z0), (x1, z1) = design[i], design[j]
            if made.words or x1 - x0 < _LEAST_FALL:
                continue
            outwards = 1.0 if i >= crown else -1.0
            text = show_grade(outwards * float((z1 - z0) / (x1 - x0)))
            if falls and falls[-1].x1 == x0 and falls[-1].text == text and j != crown + 1:
                falls[-1] = replace(falls[-1], x1=x1, y1=z1)  # one fall over several strips is told once
            else:
                falls.append(LegFall(x0, z0, x1, z1, text))
        if "crown" not in names and np.isfinite(made.crown):
            points.append(BandPoint(0.0, made.crown, self._texts("crown", 0.0, made.crown), "crown", 0))
        for m in self._met():
            texts = self._texts(m.name, m.x, m.z) if m.role == "ground" else ("", "", "")  # others have a label
            points.append(BandPoint(m.x, m.z, texts, m.role, 4, mark=True))
        self.band.show_figures(points, falls, (design, made.ground), made.words)

    def _is_held(self, name: str, side: Side) -> bool:
        """Whether a section point is held by a tie or by levels of its own where the section is."""
        q, s = self.session.engine, self._shown_at
        if name == "crown" or not is_new(q, self.session.street):
            return False
        made = q.attempt(holds, StreetLine(self.session.street, name, side))
        return not isinstance(made, Unsolved) and any(h.share.one(s) > 0.5 for h in made)

    def _texts(self, name: str, x: float, z: float) -> tuple[str, str, str]:
        """What stands under a point: its name, how far it lies from the centreline, its level; as much as is wanted."""
        unit, named = self.session.site.settings.units, name if NAMES in self.shown else ""
        if LEVELS not in self.shown:
            return named, "", ""
        return named, show_length(abs(x), unit), show_length(z, unit)

    def pan(self, dx: float, dy: float) -> None:
        self._by_hand = True
        super().pan(dx, dy)

    def zoom(self, factor: float, about: Place, keys: Qt.KeyboardModifier) -> None:
        self._by_hand = True
        super().zoom(factor, about, keys)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.fit()
        event.accept()
