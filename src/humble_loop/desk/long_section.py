"""The long section of the chosen line: ground, levels, other lines and fall windows on one chainage axis."""

from __future__ import annotations

from functools import partial

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QContextMenuEvent, QMouseEvent
from PySide6.QtWidgets import QLabel, QMenu, QWidget

from humble_loop.desk.drawing import SectionView, abreast, earlier_under, section_view
from humble_loop.desk.follower import Follower, InTime
from humble_loop.desk.idle import IdleWork
from humble_loop.desk.layers import CrossLayer, Label, PolygonLayer, Shape, SignLayer
from humble_loop.desk.session import Session, Station
from humble_loop.desk.theme import Theme
from humble_loop.desk.view import DrawingView
from humble_loop.engine.query import Cancelled, Engine, Unsolved
from humble_loop.formats.quantities import show_grade, show_length
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.fall_window.levels import all_windows, room_on
from humble_loop.kinds.street.company import lines_near
from humble_loop.kinds.street.grades import locking
from humble_loop.kinds.street.levels import grade_line, own_grades
from humble_loop.kinds.street.plan import StreetLine, is_new
from humble_loop.kinds.street.show import add_vip
from humble_loop.lines.describe import Handle, Place
from humble_loop.lines.line import LineId, line, line_plan
from humble_loop.lines.rules import OnGradeLine
from humble_loop.lines.standing import kind_of
from humble_loop.site.edits import Edit
from humble_loop.site.model import SIDES

STRETCHES = (1.0, 2.0, 5.0, 10.0, 20.0, 50.0)
_MOST_BESIDE = 4  # lines beside the one shown
_AFTER = 15  # milliseconds after the cursor has moved
_AT_ONCE = 0.012  # seconds in which what stands on a line follows the cursor
_ROUND_IT = 2.5  # metres beyond both ends of a line that are seen where something stands on it
_FAR = 30.0  # metres to which an edge that is open is drawn
_MOST_BOUNDS = 12  # edges of windows that are named at the cursor
_MOST_ALSO, _MOST_OFFERED = 3, 12  # other lines that are shown with it, and that are offered


class LongSection(DrawingView):
    """Levels along the chosen street. Drag a VIP; double-click the grade line to add one; Delete removes it."""

    windows_shown = Signal(str)  # what fall windows lie behind the line shown, in words
    stretched = Signal(float)  # how many times larger levels are drawn than distances

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent, axes=True)
        self.labels.clear_of = self.handles
        self.windows, self.cross, self.signs = PolygonLayer(2), CrossLayer(vertical_only=True), SignLayer()
        self.room = PolygonLayer(3)
        for layer in (self.windows, self.room, self.cross, self.signs):
            self.add_layer(layer)
        self._lines = {
            name: self.curve(z)
            for name, z in (
                ("ground", 4),
                ("earlier", 4.5),
                *((f"beside {k}", 6 + 0.1 * k) for k in range(_MOST_BESIDE)),
                *((f"also {k}", 5 + 0.1 * k) for k in range(_MOST_ALSO)),
                ("tangents", 8),
                ("own", 9),
                ("standing", 9.5),
                ("ghost", 10),
            )
        }
        self._figures: list[Label] = []  # of the line itself
        self._named: list[Label] = []  # of other lines
        self._bounds: list[Label] = []  # of what bounds it at the cursor
        self._stands: list[Label] = []  # of what stands on it
        self.stretch: float | None = None  # as chosen; None for all of the line in all of the view
        self._also: dict[LineId, list[LineId]] = {}  # other lines that were asked for with each
        self._fitted: LineId | None = None
        self._stood: LineId | None = None  # the line that was fitted with what stands on it
        self._shown: object = None
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self._bounds_in_time)
        self._later = IdleWork(self, lambda seconds: session.engine.within(seconds))
        self._nothing = QLabel("choose a street or a turning head to see its long section", self)
        self._nothing.move(8, 2)
        self.plotItem.getAxis("left").setWidth(46)
        self.plotItem.getAxis("bottom").setHeight(20)
        self.plotItem.vb.sigRangeChanged.connect(self._tell_stretch)
        self.hovered.connect(self._on_hover)
        self.clicked.connect(self._on_click)
        self.in_time = InTime(session, self._refresh, self, lambda: self.dragging.active)
        self._follower = Follower(session, self.refresh, self, lambda: self.dragging.active)
        session.chosen_changed.connect(self._on_chosen)
        session.cursor_moved.connect(self._on_cursor)

    def paint_in(self, theme: Theme) -> None:
        super().paint_in(theme)
        self._nothing.setStyleSheet(f"color: {theme.quiet}; background: transparent; font-size: 11px")
        self._lines["ground"].setPen(theme.pen("ground", 1.3, Qt.PenStyle.DashLine))
        self._lines["earlier"].setPen(theme.pen("ground", 1.6))
        self._lines["own"].setPen(theme.pen("crown", 2.2))
        for k, style in enumerate((Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine)):
            self._lines[f"also {k}"].setPen(theme.pen("ink", 1.2, style))
        self._lines["ghost"].setPen(theme.pen("chosen", 2.2, Qt.PenStyle.DashLine))
        self._lines["tangents"].setPen(theme.pen("crown", 0.8, Qt.PenStyle.DotLine))
        self.refresh()

    def _pen_beside(self, name: str, role: str) -> None:
        assert self.theme is not None
        colour, style = {
            "left lip": ("left_lip", Qt.PenStyle.SolidLine),
            "right lip": ("right_lip", Qt.PenStyle.DashDotLine),
        }.get(role, ("quiet", Qt.PenStyle.SolidLine))
        self._lines[name].setPen(self.theme.pen(colour, 1.1, style))

    @property
    def line(self) -> LineId | None:
        """The line shown."""
        return self.session.section_line

    @property
    def street(self) -> str:
        """The street shown, or '' where the line is no street's crown."""
        line = self.line
        return line.street if isinstance(line, StreetLine) and line.side is None else ""

    @property
    def lines_wait(self) -> bool:
        return self.in_time.busy

    @property
    def settled(self) -> bool:
        """Whether all is shown, and what stands on the line as well."""
        return not (self.in_time.busy or self._later.busy)

    def refresh(self) -> None:
        """Show the line as it is now; the scale stays."""
        self.in_time.now()

    def _refresh(self) -> None:
        if self.theme is None:
            return
        line = self.line
        made = self.session.engine.attempt(section_view, line) if line is not None else None
        if not isinstance(made, SectionView):
            for curve in self._lines.values():
                curve.setData([], [])
            self.handles.show_handles([])
            self.labels.show_labels([])
            self.windows.show_shapes([])
            self.room.show_shapes([])
            self._show_axes(False)
            return
        self._show_axes(True)
        if made is not self._shown:
            self._shown = made
            self._lines["ground"].setData(*made.ground)
            self._lines["own"].setData(made.chainages, made.levels)
            for k in range(_MOST_BESIDE):
                role, s, z = made.beside[k] if k < len(made.beside) else ("", np.empty(0), np.empty(0))
                self._pen_beside(f"beside {k}", role)
                self._lines[f"beside {k}"].setData(s, z)
        self._show_also()
        self._show_handles()
        if self._fitted != line:
            self.fit()
            if self.session.dragging:
                self._fitted = None  # it is being drawn, and grows
        self._show_labels(made)
        self._later.begin(
            [self._show_earlier, self._show_windows, self._show_standing], 600 if self.session.dragging else 60
        )

    @property
    def earlier(self) -> tuple[Floats, Floats]:
        """What is shown of earthworks that are built before: chainages and levels."""
        s, z = self._lines["earlier"].getData()
        return (np.empty(0), np.empty(0)) if s is None else (s, z)

    # Other lines on the same axis

    @property
    def also(self) -> tuple[LineId, ...]:
        """Other lines that are shown with this one, abreast of it."""
        return tuple(self._also.get(self.line, ())) if self.line is not None else ()

    def show_also(self, other: LineId, shown: bool) -> None:
        """Show another line with this one, or no longer; of more than are shown at once the first makes room."""
        if self.line is None:
            return
        kept = [i for i in self.also if i != other]
        self._also[self.line] = [*kept, other][-_MOST_ALSO:] if shown else kept
        self._shown = None
        self.refresh()

    def _show_also(self) -> None:
        if not self.also and not self._named:
            return  # curves that stay empty are not given nothing again: it would paint them
        q, self._named = self.session.engine, []
        for k in range(_MOST_ALSO):
            made = q.attempt(abreast, self.line, self.also[k]) if self.line and k < len(self.also) else None
            s, z = (np.empty(0), np.empty(0)) if made is None or isinstance(made, Unsolved) else made
            self._lines[f"also {k}"].setData(s, z, connect="finite")
            there = np.flatnonzero(np.isfinite(z))
            if len(there):
                at = int(there[int(0.85 * (len(there) - 1))])
                title = line_plan(q, self.also[k]).title
                self._named.append(Label(float(s[at]), float(z[at]), title, "ink", 11, 500, 3))

    def offered(self) -> list[tuple[str, LineId, bool]]:
        """Lines that can be shown with this one: what they are called, which, and whether they are shown."""
        if not self.street:
            return []
        q = self.session.engine
        near = q.attempt(lines_near, self.street)
        ids = [] if isinstance(near, Unsolved) else [id for _, id in near]
        lips = [StreetLine(id.street, "lip", side) for id in ids if isinstance(id, StreetLine) for side in SIDES]
        streets = [id for id in ids if isinstance(id, StreetLine)]
        rest = [id for id in ids if not isinstance(id, StreetLine)]
        wanted = [*self.also, *(i for i in (*streets, *lips, *rest) if i not in self.also)]
        found = []
        for id in wanted[:_MOST_OFFERED]:
            made = q.attempt(line_plan, id)
            if not isinstance(made, Unsolved):
                found.append((made.title, id, id in self.also))
        return found

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        event.accept()
        if self.dragging.active:
            return
        menu = QMenu(self)
        place = self.place(QPointF(event.pos()))
        for words, edit in self.offers_at(place):
            menu.addAction(words, partial(self.session.do, words, edit))
        if self.street and is_new(self.session.engine, self.street):
            menu.addAction(
                f"Add a VIP at {show_length(place[0], self.session.site.settings.units, 2)}",
                partial(self.add_vip, place),
            )
        handle = self.handle_at(QPointF(event.pos()))
        if handle is not None and handle.key[0] == "vip":
            for words, edit in locking(self.session.engine, handle.key[1], handle.key[2]):
                menu.addAction(words, partial(self.session.do, words, edit))
        menu.addSeparator()
        for words, id, shown in self.offered():
            action = menu.addAction(f"Show {words}")
            action.setCheckable(True)
            action.setChecked(shown)
            action.triggered.connect(partial(self.show_also, id, not shown))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        if menu.actions():
            menu.popup(event.globalPos())

    def offers_at(self, place: Place) -> tuple[tuple[str, Edit], ...]:
        """What the chosen thing offers at a place of its long section."""
        thing, q = self.session.thing, self.session.engine
        if thing is None or self.line is None or kind_of(thing.kind).section_line(q, thing) != self.line:
            return ()
        made = q.attempt(line_plan, self.line)
        if isinstance(made, Unsolved) or not made.start <= place[0] <= made.end:
            return ()
        return kind_of(thing.kind).section_offers(q, thing, place)

    def show_ghost(self, proposed: Floats | None) -> None:
        """Draw chainages and levels (n, 2) that are proposed, or nothing."""
        shown = self._lines["ghost"].xData
        if proposed is None and (shown is None or not len(shown)):
            return
        made = np.empty((0, 2)) if proposed is None else proposed
        self._lines["ghost"].setData(made[:, 0], made[:, 1])

    def _show_axes(self, shown: bool) -> None:
        for name in ("left", "bottom"):
            self.plotItem.getAxis(name).setVisible(shown)
        self._nothing.setVisible(not shown)

    def _show_handles(self) -> None:
        thing = self.session.thing
        handles: tuple[Handle, ...] = ()
        if thing is not None:
            try:
                handles = kind_of(thing.kind).section_handles(self.session.engine, thing)
            except Unsolved:
                handles = ()
        vips = [h.place for h in handles if h.shape == "square"]
        self._lines["tangents"].setData([s for s, _ in vips], [z for _, z in vips])
        self.handles.chosen = self.session.chosen.held
        self.handles.show_handles(handles)

    def fit(self) -> None:
        """Show the whole street."""
        made = self._shown
        if not isinstance(made, SectionView):
            return
        self._fitted = self.line
        levels = np.concatenate([made.levels, made.ground[1]])
        levels = levels[np.isfinite(levels)]
        low, high = (levels.min(), levels.max()) if levels.size else (0.0, 10.0)
        room = max(0.18 * (high - low), 0.4)
        begin, length = 0.0, max(float(made.chainages[-1]), 1.0)
        stands = self._lines["standing"].xData
        if stands is not None and np.isfinite(stands).any():  # what stands on it is seen before and after it as well
            begin, length = -_ROUND_IT, length + 2.0 * _ROUND_IT
        # What stands on a line is seen as it is, and not taller.
        stretch = self.stretch or (1.0 if begin < 0.0 else None)
        vb, tall, bottom = self.plotItem.vb, high - low + 2.2 * room, low - room
        if stretch is not None:
            wide, deep = max(float(vb.width()), 50.0), max(float(vb.height()), 30.0)
            bottom += 0.5 * tall
            tall = deep / wide * 1.06 * length / stretch
            bottom -= 0.5 * tall
        vb.setRange(QRectF(begin - 0.03 * length, bottom, 1.06 * length, tall), padding=0)

    def choose_stretch(self, stretch: float | None) -> None:
        """Draw levels ``stretch`` times as large as distances; None for all of the line in all of the view."""
        self.stretch = stretch
        self.fit()

    def _tell_stretch(self, *_: object) -> None:
        across, up = self.plotItem.vb.viewPixelSize()
        if np.isfinite(across) and np.isfinite(up) and up > 0:
            self.stretched.emit(float(f"{across / up:.2g}"))

    def _show_earlier(self) -> None:
        """What is built before the street, where that is its ground."""
        made = self.session.engine.attempt(earlier_under, self.line) if self.line is not None else None
        self._lines["earlier"].setData(
            *((np.empty(0), np.empty(0)) if made is None or isinstance(made, Unsolved) else made)
        )

    def _show_windows(self) -> None:
        if self.theme is None or self.line is None:
            return
        q = self.session.engine
        made, left = q.attempt(all_windows, self.line), q.attempt(room_on, self.line)
        made = () if isinstance(made, Unsolved) else made
        left = () if isinstance(left, Unsolved) else tuple(r for r in left if len(r.windows) > 1)
        self.windows_shown.emit(", ".join(dict.fromkeys(w.told for w in made)))
        alpha = self.theme.window_alpha
        pen, fill = self.theme.pen("window", 0.8, alpha=110), self.theme.colour("window", alpha)
        self.windows.show_shapes([(_band(w.chainages, w.low, w.high), fill, pen) for w in made])
        # Where several lie over one another: what they leave together, and where that is nothing.
        shapes: list[Shape] = []
        edge, room = self.theme.pen("window", 1.6), self.theme.colour("window", min(255, 2 * alpha))
        wrong, none = self.theme.pen("broken", 1.6), self.theme.colour("broken", 60)
        for r in left:
            for a, b in _runs(r.short <= 0.0):
                shapes.append((_band(r.chainages[a:b], r.low[a:b], r.high[a:b]), room, edge))
            for a, b in _runs(r.short > 0.0):
                shapes.append((_band(r.chainages[a:b], r.high[a:b], r.low[a:b]), none, wrong))
        self.room.show_shapes(shapes)
        self._show_bounds()

    def _bounds_in_time(self) -> None:
        """Name them at a new place of the cursor, where that is known already or soon is."""
        if not self._later.busy:  # else they are named at the end of what is being worked out
            self._later.begin([self._show_bounds], 0)

    def _show_bounds(self) -> None:
        """Name, at the cursor, what bounds the level of the line there: the window of each edge, and its level."""
        q, line, station = self.session.engine, self.line, self.session.station
        labels: list[Label] = []
        if not self.isVisible():
            return
        if line is not None and station is not None and station.line == line and not self.session.dragging:
            every = q.attempt(all_windows, line)
            s, unit = station.chainage, self.session.site.settings.units
            found = () if isinstance(every, Unsolved) else every
            said = [w.told for w in found]
            for w in found:
                words = w.told if said.count(w.told) == 1 else w.rule
                edges = w.at(s)
                for z, word in zip(edges or (), ("lowest", "highest")):
                    if np.isfinite(z):
                        labels.append(Label(s, z, f"{word} {show_length(z, unit)}: {words}", "window", 11, 500, 2))
        if labels != self._bounds:
            self._bounds = labels[:_MOST_BOUNDS]
            self._put_labels()

    def _show_standing(self) -> None:
        """Show what stands on the line, at the cursor or where it matters most."""
        q, line, station = self.session.engine, self.line, self.session.station
        s = station.chainage if station is not None and station.line == line else None
        try:
            made = None if line is None else kind_of(line.kind).standing_on(q, line, s)
        except Unsolved:
            made = None
        points = np.empty((0, 2)) if made is None else made.points
        self._lines["standing"].setData(points[:, 0], points[:, 1])
        if made is not None and self.theme is not None:
            self._lines["standing"].setPen(self.theme.pen(made.role, 1.8))
        self._stands = [] if made is None else [Label(*made.place, made.words, made.role, 13, 600, 0)]
        self._put_labels()
        if made is not None and self._stood != line:
            self._stood = line
            self.fit()

    def _stand_in_time(self) -> None:
        """The same while the cursor moves, where it is known already."""
        try:
            with self.session.engine.within(_AT_ONCE):
                self._show_standing()
        except Cancelled:
            return

    def _put_labels(self) -> None:
        self.labels.show_labels([*self._figures, *self._named, *self._bounds, *self._stands])

    def _show_labels(self, made: SectionView) -> None:
        q, unit = self.session.engine, self.session.site.settings.units
        labels: list[Label] = []
        p = self._grades(q)
        if p is not None:
            grades = own_grades(q, self.street) if self.street else p.grades
            for s0, s1, g in zip(p.chainages[:-1], p.chainages[1:], grades):
                s = 0.5 * (s0 + s1)
                if np.isfinite(g):
                    labels.append(Label(float(s), float(p.level([s])[0]), show_grade(float(g)), "crown", 12, 500, 2))
            for s, z, c, change in zip(p.chainages, p.levels, p.curves, p.changes):
                text = show_length(float(z), unit)
                if c > 0 and abs(change) > 1e-9:
                    text += f"  L {c:.0f}  K {c / abs(100 * change):.1f}"
                labels.append(Label(float(s), float(z), text, "ink", 11, 400, 1))
            for t in p.turning_points():
                labels.append(Label(t.chainage, t.level, f"{t.kind} {show_length(t.level, unit)}", "quiet", 11, 400, 4))
        for c in made.crossings:
            labels.append(Label(c.chainage, c.level, f"{c.words} {show_length(c.level, unit)}", "chosen", 11, 500, 3))
        self._figures = labels
        self._put_labels()

    def _grades(self, q: Engine) -> Profile | None:
        """The grade line that is shown with its figures: a new street's, or that of any other line that lies on one."""
        if self.street:
            made = q.attempt(grade_line, self.street)
            return None if isinstance(made, Unsolved) or not is_new(q, self.street) else made.profile
        found = q.attempt(line, self.line) if self.line is not None else None
        if found is None or isinstance(found, Unsolved) or not isinstance(found.rule, OnGradeLine):
            return None
        return found.rule.profile

    def _on_chosen(self) -> None:
        if self.line != self._fitted:
            self._shown = None
        self.refresh()

    def _on_hover(self, x: float, y: float) -> None:
        del y
        self.point_station(x)

    def point_station(self, chainage: float) -> None:
        """Move the shared cursor to a chainage of the line shown."""
        line = self.line
        if line is None or self.session.dragging:
            return
        plan = self.session.engine.attempt(line_plan, line)
        if isinstance(plan, Unsolved):
            return
        s = float(np.clip(chainage, plan.start, plan.end))
        e, n = plan.points([s])[0]
        self.session.point_at(float(e), float(n), Station(line, s))

    def _on_cursor(self) -> None:
        station = self.session.station
        here = station is not None and station.line == self.line
        self.cross.show_at((station.chainage, 0.0) if here and station else None)
        if not self.session.dragging:
            self._stand_in_time()
            self._soon.start(_AFTER)

    def _on_click(self, x: float, y: float) -> None:
        del y
        self.point_station(x)
        if self.session.cursor and self.line is not None:
            self.session.point_asked.emit(*self.session.cursor)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.add_vip(self.place(event.position()))
        event.accept()

    def add_vip(self, place: Place) -> None:
        """Add a VIP at a place of the long section."""
        q, street = self.session.engine, self.street
        if street and is_new(q, street):
            self.session.do(f"Add a VIP at {place[0]:.2f}", add_vip(q, street, *place))
        elif offered := self.offers_at(place):
            self.session.do(*offered[0])

    def zoom(self, factor: float, about: Place, keys: Qt.KeyboardModifier) -> None:
        """The wheel zooms both ways; with Ctrl only levels, with Shift only along."""
        x = 1.0 if keys & Qt.KeyboardModifier.ControlModifier else factor
        y = 1.0 if keys & Qt.KeyboardModifier.ShiftModifier else factor
        self.plotItem.vb.scaleBy((x, y), center=about)


def _band(s: Floats, low: Floats, high: Floats) -> Floats:
    """The outline (n, 2) of a band; an open edge is drawn far off."""
    ends = np.concatenate([low, high])
    known = ends[np.isfinite(ends)]
    far = (known.min() - _FAR, known.max() + _FAR) if known.size else (-_FAR, _FAR)
    low, high = np.where(np.isfinite(low), low, far[0]), np.where(np.isfinite(high), high, far[1])
    return np.column_stack([np.concatenate([s, s[::-1]]), np.concatenate([low, high[::-1]])])


def _runs(on: np.ndarray) -> list[tuple[int, int]]:
    """Stretches of places, one after the other, at which something holds, with the place before and after where they share it."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], on.astype(np.int8), [0]])))
    found = [(max(0, int(a) - 1) if a else 0, min(len(on), int(b) + 1)) for a, b in zip(edges[::2], edges[1::2])]
    return [(a, b) for a, b in found if b - a > 1]
