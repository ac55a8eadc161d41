"""The long section of the chosen street: ground, crown, lips and fall windows on one chainage axis."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt, QTimer
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QWidget

from humble_loop.desk.dragging import Handle, Place
from humble_loop.desk.drawing import SectionLines, section_lines
from humble_loop.desk.follower import Follower
from humble_loop.desk.handles import vip_handles
from humble_loop.desk.layers import CrossLayer, Label, PolygonLayer, SignLayer
from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme
from humble_loop.desk.view import DrawingView
from humble_loop.formats.quantities import show_grade, show_length
from humble_loop.propose.grade import proposed_vips
from humble_loop.site import edits
from humble_loop.site.model import Site, Vip
from humble_loop.solve import parts
from humble_loop.solve.engine import Unsolved
from humble_loop.solve.section import is_new
from humble_loop.solve.street import chain_of, grade_line
from humble_loop.solve.window import pad_windows


class LongSection(DrawingView):
    """Levels along the chosen street. Drag a VIP; double-click the grade line to add one; Delete removes it."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent, axes=True)
        self.windows, self.cross, self.signs = PolygonLayer(2), CrossLayer(vertical_only=True), SignLayer()
        for layer in (self.windows, self.cross, self.signs):
            self.add_layer(layer)
        self._lines = {
            name: self.curve(z) for name, z in (("ground", 4), ("left", 6), ("right", 7), ("crown", 9), ("tangents", 8))
        }
        self._fitted = ""
        self._shown: object = None
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self._show_windows)
        self.plotItem.getAxis("left").setWidth(46)
        self.plotItem.getAxis("bottom").setHeight(20)
        self.hovered.connect(self._on_hover)
        self.clicked.connect(self._on_click)
        self._follower = Follower(session, self.refresh, self, lambda: self.dragging.active)
        session.chosen_changed.connect(self._on_chosen)
        session.cursor_moved.connect(self._on_cursor)

    def paint_in(self, theme: Theme) -> None:
        super().paint_in(theme)
        self._lines["ground"].setPen(theme.pen("ground", 1.3, Qt.PenStyle.DashLine))
        self._lines["left"].setPen(theme.pen("left_lip", 1.1, Qt.PenStyle.SolidLine))
        self._lines["right"].setPen(theme.pen("right_lip", 1.1, Qt.PenStyle.DashDotLine))
        self._lines["crown"].setPen(theme.pen("crown", 2.2))
        self._lines["tangents"].setPen(theme.pen("crown", 0.8, Qt.PenStyle.DotLine))
        self.refresh()

    @property
    def street(self) -> str:
        """The street shown, or ''."""
        chosen = self.session.chosen.street
        return chosen if chosen in parts.street_ids(self.session.engine) else ""

    def refresh(self) -> None:
        """Show the street as it is now; the scale stays."""
        if self.theme is None:
            return
        made = self.session.engine.attempt(section_lines, self.street) if self.street else None
        if not isinstance(made, SectionLines):
            for line in self._lines.values():
                line.setData([], [])
            self.handles.show_handles([])
            self.labels.show_labels([])
            self.windows.show_shapes([])
            return
        if made is not self._shown:
            self._shown = made
            self._lines["ground"].setData(*made.ground)
            self._lines["left"].setData(*made.left)
            self._lines["right"].setData(*made.right)
            self._lines["crown"].setData(made.chainages, made.crown)
        handles = vip_handles(self.session)
        self._lines["tangents"].setData([h.place[0] for h in handles], [h.place[1] for h in handles])
        self.handles.show_handles(handles)
        if self._fitted != self.street and not self.session.dragging:
            self.fit()
        self._show_labels(made)
        self._later.start(600 if self.session.dragging else 60)

    @property
    def has_windows(self) -> bool:
        """Whether fall windows of lots lie behind the street shown."""
        made = self.session.engine.attempt(pad_windows, self.street) if self.street else ()
        return not isinstance(made, Unsolved) and bool(made)

    def fit(self) -> None:
        """Show the whole street."""
        made = self._shown
        if not isinstance(made, SectionLines):
            return
        self._fitted = self.street
        levels = np.concatenate([made.crown, made.ground[1]])
        levels = levels[np.isfinite(levels)]
        low, high = (levels.min(), levels.max()) if levels.size else (0.0, 10.0)
        room = max(0.18 * (high - low), 0.4)
        length = float(made.chainages[-1])
        self.plotItem.vb.setRange(QRectF(-0.03 * length, low - room, 1.06 * length, high - low + 2.2 * room), padding=0)

    def _show_windows(self) -> None:
        if self.theme is None or not self.street:
            return
        made = self.session.engine.attempt(pad_windows, self.street)
        if isinstance(made, Unsolved):
            made = ()
        pen, fill = self.theme.pen("window", 0.8, alpha=110), self.theme.colour("window", self.theme.window_alpha)
        self.windows.show_shapes(
            [
                (np.array([(w.start, w.low), (w.end, w.low), (w.end, w.high), (w.start, w.high)]), fill, pen)
                for w in made
            ]
        )

    def _show_labels(self, made: SectionLines) -> None:
        q, unit = self.session.engine, self.session.site.settings.units
        labels: list[Label] = []
        line = q.attempt(grade_line, self.street)
        if not isinstance(line, Unsolved) and is_new(q, self.street):
            p = line.profile
            for s0, s1, g in zip(p.chainages[:-1], p.chainages[1:], p.grades):
                s = 0.5 * (s0 + s1)
                labels.append(Label(float(s), float(p.level([s])[0]), show_grade(float(g)), "crown", 12, 500, 1))
            for s, z, c, change in zip(p.chainages, p.levels, p.curves, p.changes):
                text = show_length(float(z), unit)
                if c > 0 and abs(change) > 1e-9:
                    text += f"  L {c:.0f}  K {c / abs(100 * change):.1f}"
                labels.append(Label(float(s), float(z), text, "ink", 11, 400, 2))
            for t in p.turning_points():
                labels.append(Label(t.chainage, t.level, f"{t.kind} {show_length(t.level, unit)}", "quiet", 11, 400, 4))
        for name, s, z in made.crossings:
            labels.append(Label(s, z, f"{name} {show_length(z, unit)}", "chosen", 11, 500, 3))
        self.labels.show_labels(labels)

    def take_handle(self, handle: Handle) -> None:
        index = next((i for i, h in enumerate(self.handles.handles) if h.title == handle.title), -1)
        self.session.choose_vip(index)

    def _on_chosen(self) -> None:
        if self.street != self._fitted:
            self._shown = None
        self.refresh()

    def _on_hover(self, x: float, y: float) -> None:
        del y
        self.point_station(x)

    def point_station(self, chainage: float) -> None:
        """Move the shared cursor to a chainage of the street shown."""
        if not self.street or self.session.dragging:
            return
        line = chain_of(self.session.engine, self.street)
        s = float(np.clip(chainage, 0.0, line.total))
        e, n = line.points_at([s])[0]
        self.session.point_at(float(e), float(n), (self.street, s))

    def _on_cursor(self) -> None:
        station = self.session.station
        here = station is not None and station[0] == self.street
        self.cross.show_at((station[1], 0.0) if here and station else None)

    def _on_click(self, x: float, y: float) -> None:
        del y
        self.point_station(x)
        if self.session.cursor and self.street:
            self.session.point_asked.emit(*self.session.cursor)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.add_vip(self.place(event.position()))
        event.accept()

    def add_vip(self, place: Place) -> None:
        """Add a VIP at a place of the long section."""
        q, street = self.session.engine, self.street
        if not street or not is_new(q, street):
            return
        line = q.attempt(grade_line, street)
        kept = [] if isinstance(line, Unsolved) or parts.street_vips(q, street) else proposed_vips(q, street)
        fresh = Vip(chainage=round(place[0], 2), level=round(place[1], 3))

        def edit(site: Site) -> Site:
            old = kept or list(edits.street_of(site, street).vips)
            return edits.set_vips(site, street, [*(v for v in old if abs(v.chainage - fresh.chainage) > 0.01), fresh])

        self.session.do(f"Add a VIP at {place[0]:.2f}", edit)

    def remove_chosen_vip(self) -> None:
        """Take the chosen VIP out."""
        q, street, i = self.session.engine, self.street, self.session.chosen.vip
        line = q.attempt(grade_line, street) if street else None
        if line is None or isinstance(line, Unsolved) or not 0 <= i < len(line.index):
            return
        index = line.index[i]
        if index < 0:
            self.session.said.emit("That VIP is tied or proposed; only set VIPs can be removed")
            return
        self.session.do("Remove a VIP", lambda site: edits.remove_vip(site, street, index))
        self.session.choose_vip(-1)

    def zoom(self, factor: float, about: Place, keys: Qt.KeyboardModifier) -> None:
        """The wheel zooms both ways; with Ctrl only levels, with Shift only along."""
        x = 1.0 if keys & Qt.KeyboardModifier.ControlModifier else factor
        y = 1.0 if keys & Qt.KeyboardModifier.ShiftModifier else factor
        self.plotItem.vb.scaleBy((x, y), center=about)
