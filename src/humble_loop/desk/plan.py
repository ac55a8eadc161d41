"""The plan: ground, streets, lots and findings from above, with handles on the chosen street."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial

import numpy as np
import pyqtgraph as pg
import shapely
from PySide6.QtCore import QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPen
from PySide6.QtWidgets import QWidget

from humble_loop.desk.dragging import Place
from humble_loop.desk.drawing import (
    BatterLines,
    LotLines,
    StreetLines,
    batter_lines,
    fine_contours,
    ground_contours,
    joined_up,
    lot_lines,
    street_lines,
)
from humble_loop.desk.handles import plan_handles
from humble_loop.desk.layers import ArrowLayer, CrossLayer, Label, PolygonLayer, SignLayer
from humble_loop.desk.session import Chosen, Session
from humble_loop.desk.sketch import Sketch
from humble_loop.desk.theme import Theme
from humble_loop.desk.view import DrawingView
from humble_loop.formats.quantities import show_grade, show_length
from humble_loop.geometry.arrays import Floats
from humble_loop.solve import parts
from humble_loop.solve.checks import Finding
from humble_loop.solve.engine import Engine, Unsolved
from humble_loop.solve.junction import all_joints, joint, throat
from humble_loop.solve.lot import lots, pad
from humble_loop.solve.section import batters, edges
from humble_loop.solve.street import centreline, chain_of, grade_line
from humble_loop.solve.surface import finished_mesh, street_pieces

_ROLES = {
    "centreline": ("crown", 1.2, Qt.PenStyle.DashDotLine),
    "left_lip": ("left_lip", 1.8, Qt.PenStyle.SolidLine),
    "right_lip": ("right_lip", 1.8, Qt.PenStyle.SolidLine),
    "returns": ("crown", 1.8, Qt.PenStyle.SolidLine),
    "kerbs": ("quiet", 0.9, Qt.PenStyle.SolidLine),
    "paths": ("quiet", 0.7, Qt.PenStyle.SolidLine),
    "boundaries": ("ink", 1.1, Qt.PenStyle.SolidLine),
    "toes": ("quiet", 0.7, Qt.PenStyle.DotLine),
    "cut_hachures": ("cut", 0.8, Qt.PenStyle.SolidLine),
    "fill_hachures": ("fill", 0.8, Qt.PenStyle.SolidLine),
}
_STREET_ROLES, _BATTER_ROLES = list(StreetLines.__dataclass_fields__), list(BatterLines.__dataclass_fields__)
_SOON, _PAUSE = 25, 110  # milliseconds until the rest is shown: after a change, and when a drag pauses
_CHOOSE = 14.0  # pixels from a line within which it is chosen


class PlanView(DrawingView):
    """The site from above."""

    sketch_ended = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent, axes=False)
        self.plotItem.vb.setAspectLocked(True)
        self._items: dict[tuple[str, str], pg.PlotCurveItem] = {}
        self._shown: dict[tuple[str, str], object] = {}
        self._contours = self.curve(1, "pairs"), self.curve(2, "pairs")
        self._survey = self.curve(4)
        self._fine = self.curve(18, "pairs")
        self._halo = self.curve(25)
        self.lots, self.signs, self.cross, self.arrows = PolygonLayer(10), SignLayer(), CrossLayer(), ArrowLayer()
        for layer in (self.lots, self.signs, self.cross, self.arrows):
            self.add_layer(layer)
        self.sketch: Sketch | None = None
        self.show_flow = True
        self._findings: tuple[Finding, ...] = ()
        self._lot_data: dict[str, LotLines] = {}
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self._refresh_slowly)
        self._queue: list[Callable[[], object]] = []
        self._behind = False
        self._follow = QTimer(self)
        self._follow.setSingleShot(True)
        self._follow.timeout.connect(self._show_near)
        session.drag_painted.connect(self._on_drag_painted)
        self.clicked.connect(self._on_click)
        self.hovered.connect(self._on_hover)
        session.changed.connect(self.refresh)
        session.chosen_changed.connect(self._on_chosen)
        session.cursor_moved.connect(self._on_cursor)

    def paint_in(self, theme: Theme) -> None:
        super().paint_in(theme)
        self._contours[0].setPen(theme.faint("ground", 0.3))
        self._contours[1].setPen(theme.faint("ground", 0.6))
        self._survey.setPen(theme.faint("ground", 0.7, Qt.PenStyle.DashLine))
        self._fine.setPen(theme.faint("window", 0.5))
        self._halo.setPen(theme.pen("chosen", 7.0, alpha=60))
        for (_, role), item in self._items.items():
            item.setPen(self._pen(role))
        self._show_lots()
        self._show_labels()

    def _pen(self, role: str) -> QPen:
        assert self.theme is not None
        name, width, style = _ROLES[role]
        return self.theme.pen(name, width, style) if width > 1.0 else self.theme.faint(name, 0.85, style)

    # Showing the site

    def refresh(self) -> None:
        """Show the site: what a drag needs at once, the rest as soon as there is time."""
        if self.theme is None:
            return
        q = self.session.engine
        ids = parts.street_ids(q)
        for key in [k for k in self._items if k[0] not in ids]:
            self.plotItem.removeItem(self._items.pop(key))
            self._shown.pop(key, None)
        if self.session.dragging and self.sketch is None and not self.dragging.active:
            # Another view is dragged: the plan follows when the hand pauses.
            self._fill_queue(ids, ())
            self._later.start(_PAUSE)
            return
        if self.dragging.active:
            # What is under the hand leads, at once; its street follows when that is painted.
            self._show_under_hand()
            self._behind = True
            self._fill_queue(ids, ())
            self._later.start(_PAUSE)
            return
        urgent = self._show_near()
        self._fill_queue(ids, urgent)
        self._later.start(_PAUSE if self.session.dragging else _SOON)

    def _show_under_hand(self) -> None:
        held, place = self.dragging.handle, self.dragging.place
        if held is not None and place is not None:
            moved = [replace(h, place=place) if h.title == held.title else h for h in self.handles.handles]
            self.handles.show_handles(moved)
        self._show_halo()

    def _on_drag_painted(self) -> None:
        if self._behind:
            self._behind = False
            self._follow.start(0)

    def _show_near(self) -> list[str]:
        """Show the street in hand and those that change with it, and its handles; returns their ids."""
        urgent = self._urgent(parts.street_ids(self.session.engine))
        for street in urgent:
            self._show_street(street)
            if self.sketch is not None:
                self._show_batters(street)  # while sketching, their reach is what one wants to see
        self.handles.show_handles([] if self.sketch else plan_handles(self.session))
        self._show_halo()
        return urgent

    def _urgent(self, ids: tuple[str, ...]) -> list[str]:
        """The street in hand, and those whose lines change with it."""
        mine = self.session.chosen.street
        if not self.session.dragging:
            return list(ids) if len(ids) <= 4 else [mine] if mine in ids else []
        near = {s for s, _, t in all_joints(self.session.engine) if t == mine} | {mine}
        if self.sketch is not None and ids:
            near.add(ids[-1])
        return [s for s in ids if s in near]

    def _fill_queue(self, ids: tuple[str, ...], done: Sequence[str]) -> None:
        """Line up what is to be shown when there is time, in steps of a few milliseconds each."""
        q = self.session.engine
        steps: list[Callable[[], object]] = [partial(self._show_street, s) for s in ids if s not in done]
        for s in ids:
            # Asked one by one, so that what is drawn of the whole street afterwards is quickly answered.
            steps += [partial(self._split, partial(_edge_steps, q, s)), partial(self._show_batters, s)]
            steps += [partial(self._split, partial(_lot_steps, q, s)), partial(self._take_lots, s)]
            steps += [partial(self._split, partial(_piece_steps, q, s)), partial(q.attempt, fine_contours, s)]
        self._queue = [*steps, self._show_ground, self._show_lots, self._show_fine, self._show_labels]

    def _split(self, steps: Callable[[], list[Callable[[], object]]]) -> None:
        self._queue[:0] = steps()

    def _refresh_slowly(self) -> None:
        """Work the queue in slices short enough not to be felt."""
        until = time.perf_counter() + 0.012
        while self._queue and time.perf_counter() < until:
            self._queue.pop(0)()
        if self._queue:
            self._later.start(0)

    def _take_lots(self, street: str) -> None:
        made = self.session.engine.attempt(lot_lines, street)
        known = parts.street_ids(self.session.engine)
        self._lot_data = {s: v for s, v in self._lot_data.items() if s in known}
        if isinstance(made, LotLines):
            self._lot_data[street] = made

    @property
    def settled(self) -> bool:
        """Whether everything that is to be shown is shown."""
        return not self._queue

    def _show_street(self, street: str) -> None:
        self._show_lines(street, self.session.engine.attempt(street_lines, street), _STREET_ROLES)

    def _show_batters(self, street: str) -> None:
        self._show_lines(street, self.session.engine.attempt(batter_lines, street), _BATTER_ROLES)

    def _show_lines(self, street: str, made: StreetLines | BatterLines | Unsolved, roles: Sequence[str]) -> None:
        for role in roles:
            key = (street, role)
            line = np.empty((0, 2)) if isinstance(made, Unsolved) else getattr(made, role)
            if self._shown.get(key) is line:
                continue
            if key not in self._items:
                item = self.curve(30 + list(_ROLES).index(role) * 0.1)
                item.setPen(self._pen(role))
                self._items[key] = item
            self._items[key].setData(line[:, 0], line[:, 1])
            self._shown[key] = line

    def _show_ground(self) -> None:
        made = self.session.engine.attempt(ground_contours)
        if not isinstance(made, Unsolved) and self._shown.get(("", "ground")) is not made:
            self._shown[("", "ground")] = made
            for item, line in zip(self._contours, made[:2]):
                item.setData(line[:, 0], line[:, 1])
        lines = self.session.site.survey_lines
        if self._shown.get(("", "survey")) is not lines:
            self._shown[("", "survey")] = lines
            flat = joined_up([np.array([v[:2] for v in line.vertices]) for line in lines])
            self._survey.setData(flat[:, 0], flat[:, 1])

    def _show_fine(self) -> None:
        made = [self.session.engine.attempt(fine_contours, s) for s in parts.street_ids(self.session.engine)]
        good = [m for m in made if not isinstance(m, Unsolved)]
        pairs = np.concatenate([m[0] for m in good]) if good else np.empty((0, 2))
        self._fine.setData(pairs[:, 0], pairs[:, 1])
        self.arrows.show_arrows(np.concatenate([m[1] for m in good]) if good and self.show_flow else np.empty((0, 4)))

    def _show_lots(self) -> None:
        if self.theme is None:
            return
        t, shapes = self.theme, []
        outline = t.pen("lot", 1.0)
        for data in self._lot_data.values():
            for k, name in enumerate(data.names):
                chosen = self.session.chosen.kind == "lot" and self.session.chosen.detail == name
                shapes.append(
                    (
                        data.outlines[k],
                        t.colour("chosen", 26) if chosen else None,
                        t.pen("chosen", 2.0) if chosen else outline,
                    )
                )
                pen = (
                    t.pen("broken", 1.8)
                    if data.out_of_window[k]
                    else t.pen("ink", 1.4 if data.states[k] == "set" else 0.7, alpha=160)
                )
                shapes.append((data.pads[k], self._depth_colour(float(data.depths[k])), pen))
        self.lots.show_shapes(shapes)

    def _depth_colour(self, depth: float) -> QColor:
        """Brown where the pad is cut, teal where it is filled, stronger with depth up to 1.5 m."""
        assert self.theme is not None
        share = min(abs(depth) / 1.5, 1.0) if np.isfinite(depth) else 0.0
        return self.theme.colour("cut" if depth < 0 else "fill", int(25 + 125 * share))

    def _show_halo(self) -> None:
        street = self.session.chosen.street
        made = (
            self.session.engine.attempt(centreline, street) if street in parts.street_ids(self.session.engine) else None
        )
        if made is None or isinstance(made, Unsolved):
            self._halo.setData([], [])
            return
        p = made.chain.points_at(made.chain.sampled(sag=0.02))
        self._halo.setData(p[:, 0], p[:, 1])

    def show_findings(self, findings: tuple[Finding, ...]) -> None:
        """Put signs where findings are."""
        self._findings = findings
        self.signs.show_signs([(*f.place, f.severity == "broken") for f in findings if f.place])

    def _show_labels(self) -> None:
        q, unit = self.session.engine, self.session.site.settings.units
        labels: list[Label] = []
        for street in parts.street_ids(q):
            line = q.attempt(centreline, street)
            if isinstance(line, Unsolved):
                continue
            e, n = line.chain.points_at([0.5 * line.chain.total])[0]
            labels.append(Label(e, n, parts.street_name(q, street), "crown", 14, 600, 0))
            labels += self._grade_labels(street)
        for data in self._lot_data.values():
            for k, name in enumerate(data.names):
                e, n = data.pads[k].mean(axis=0)
                mark = "" if data.states[k] == "proposed" else "● "
                labels.append(Label(e, n, f"{mark}{show_length(float(data.levels[k]), unit)}", "ink", 12, 500, 2, True))
                labels.append(Label(e, n + 4.5, name.rsplit(" ", 1)[-1], "quiet", 11, 400, 4, True))
        labels += self._throat_labels() + self._contour_labels()
        self.labels.show_labels(labels)

    def _grade_labels(self, street: str) -> list[Label]:
        q = self.session.engine
        line = q.attempt(grade_line, street)
        if isinstance(line, Unsolved) or len(line.states) > 12:
            return []
        p, found = line.profile, []
        for s, g in zip(0.5 * (p.chainages[:-1] + p.chainages[1:]), p.grades):
            e, n = chain_of(q, street).points_at([s])[0]
            found.append(Label(e, n, show_grade(float(g)), "crown", 11, 400, 3))
        return found

    def _throat_labels(self) -> list[Label]:
        q, found = self.session.engine, []
        for side, end, _ in all_joints(q):
            t = q.attempt(throat, side, end)
            if not isinstance(t, Unsolved) and not isinstance(q.attempt(joint, side, end), Unsolved):
                found.append(
                    Label(
                        float(t.point[0]),
                        float(t.point[1]),
                        show_length(t.level, self.session.site.settings.units),
                        "crown",
                        12,
                        500,
                        1,
                    )
                )
        return found

    def _contour_labels(self) -> list[Label]:
        made = self.session.engine.attempt(ground_contours)
        if isinstance(made, Unsolved) or not len(made[3]):
            return []
        found = []
        for level in np.unique(made[3]):
            pieces = made[1].reshape(-1, 2, 2)[made[3] == level]
            for k in range(len(pieces) // 3, len(pieces), max(1, len(pieces) // 2)):
                e, n = pieces[k].mean(axis=0)
                found.append(Label(float(e), float(n), f"{level:.1f}", "ground", 11, 400, 8, True))
        return found

    def lot_names(self, street: str) -> tuple[str, ...]:
        """Names of a street's lots as drawn."""
        data = self._lot_data.get(street)
        return data.names if data else ()

    def fit(self) -> None:
        """Show everything."""
        boxes = [self._bounds_of(s) for s in parts.street_ids(self.session.engine)]
        boxes = [b for b in boxes if b is not None]
        surface = parts.current_surface(self.session.engine)
        if surface is not None:
            boxes.append(np.array(surface.bounds))
        if not boxes:
            self.plotItem.vb.setRange(QRectF(0, 0, 400, 300), padding=0)
            return
        b = np.array(boxes)
        self._look_at(b[:, :2].min(axis=0), b[:, 2:].max(axis=0))

    def fit_street(self, street: str) -> None:
        """Show one street with its lots."""
        b = self._bounds_of(street)
        if b is not None:
            self._look_at(b[:2] - 38.0, b[2:] + 38.0)

    def look_at(self, easting: float, northing: float, across: float = 50.0) -> None:
        """Show a place, ``across`` metres wide."""
        c = np.array([easting, northing])
        self._look_at(c - across / 2, c + across / 2)

    def _bounds_of(self, street: str) -> Floats | None:
        line = self.session.engine.attempt(centreline, street)
        if isinstance(line, Unsolved):
            return None
        p = line.chain.points_at(line.chain.sampled(sag=0.5))
        return np.concatenate([p.min(axis=0), p.max(axis=0)])

    def _look_at(self, low: Floats, high: Floats) -> None:
        self.plotItem.vb.setRange(QRectF(low[0], low[1], high[0] - low[0], high[1] - low[1]), padding=0.03)

    # Choosing, hovering, drawing

    def _metres(self, pixels: float) -> float:
        size = self.plotItem.vb.viewPixelSize()
        return float(pixels * size[0])

    def _on_chosen(self) -> None:
        self._show_lots()
        self.refresh()

    def _on_cursor(self) -> None:
        self.cross.show_at(self.session.cursor)

    def _on_hover(self, x: float, y: float) -> None:
        station = None
        street = self.session.chosen.street
        if street and not self.session.dragging:
            line = self.session.engine.attempt(centreline, street)
            if not isinstance(line, Unsolved):
                foot = line.chain.feet([(x, y)])
                if abs(float(foot.offsets[0])) < 40.0:
                    station = (street, float(foot.chainages[0]))
        self.session.point_at(x, y, station)
        if self.sketch is not None:
            self.sketch.move((x, y), self._metres(12.0))

    def _on_click(self, x: float, y: float) -> None:
        if self.sketch is not None:
            self.sketch.click((x, y), self._metres(12.0))
            return
        self.session.choose(self.thing_at((x, y)))
        self.session.point_asked.emit(x, y)

    def thing_at(self, place: Place) -> Chosen:
        """The bulb, junction, street or lot at a place; nothing far from all."""
        q = self.session.engine
        best, nearest = Chosen(), max(self._metres(_CHOOSE), 4.0)
        for street in parts.street_ids(q):
            line = q.attempt(centreline, street)
            if isinstance(line, Unsolved):
                continue
            foot = line.chain.feet([place])
            distance = abs(float(foot.offsets[0]))
            if distance < nearest:
                best, nearest = Chosen("street", street), distance
        if best.kind:
            return best
        for street, data in self._lot_data.items():
            for name, outline in zip(data.names, data.outlines):
                if shapely.contains_xy(shapely.Polygon(outline), *place):
                    return Chosen("lot", street, name)
        return best

    def start_sketch(self) -> None:
        """Begin to draw a street."""
        self.sketch = Sketch(self)
        self.setFocus()
        self.refresh()

    def end_sketch(self) -> None:
        """Called by the sketch when it is done or given up."""
        self.sketch = None
        self.tag.hide()
        self.refresh()
        self.sketch_ended.emit()

    def may_rest(self) -> bool:
        return self.sketch is None and super().may_rest()

    def may_drag(self) -> bool:
        return self.sketch is None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.sketch is not None:
            self.sketch.finish()
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.sketch is not None and self.sketch.key(event):
            return
        super().keyPressEvent(event)

    def event(self, event: object) -> bool:
        drawing = getattr(self, "sketch", None) is not None
        if (
            drawing
            and isinstance(event, QKeyEvent)
            and event.type() == event.Type.ShortcutOverride
            and not event.modifiers()
        ):
            event.accept()
            return True
        return super().event(event)


def _edge_steps(q: Engine, street: str) -> list[Callable[[], object]]:
    return [partial(q.attempt, batters, edge) for edge in edges(q, street)]


def _lot_steps(q: Engine, street: str) -> list[Callable[[], object]]:
    made = q.attempt(lots, street)
    return [] if isinstance(made, Unsolved) else [partial(q.attempt, pad, street, lot.name) for lot in made]


def _piece_steps(q: Engine, street: str) -> list[Callable[[], object]]:
    made = q.attempt(street_pieces, street)
    drawn = () if isinstance(made, Unsolved) else made
    return [partial(q.attempt, finished_mesh, p) for p in drawn if p[0] in ("carriageway", "junction", "bulb")]
