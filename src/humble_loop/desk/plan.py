"""The plan: the site from above, as its things describe themselves, with handles on the chosen one.

Places are measured from the site's origin; only what people read is as they know it.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np
from PySide6.QtCore import QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPen
from PySide6.QtWidgets import QWidget

from humble_loop.desk.drawing import WITH_CONTOURS, details, fine_lines, outline, outline_of_all
from humble_loop.desk.layers import (
    ArrowLayer,
    CrossLayer,
    Label,
    PairsLayer,
    PolygonLayer,
    Shape,
    SignLayer,
    StrokeLayer,
)
from humble_loop.desk.picking import thing_at
from humble_loop.desk.session import Session, Station
from humble_loop.desk.sketch import Sketch
from humble_loop.desk.theme import Theme
from humble_loop.desk.values import show
from humble_loop.desk.view import DrawingView
from humble_loop.desk.welcome import Welcome
from humble_loop.engine.query import Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.ground.reads import current_surface
from humble_loop.kinds.street.plan import StreetLine, boxes
from humble_loop.lines import describe
from humble_loop.lines.describe import Drawing, Handle, Place
from humble_loop.lines.faces import FaceId, finished_mesh
from humble_loop.lines.findings import Finding
from humble_loop.lines.line import ThingId, line_plan
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.whole.things import all_things, faces_of

_ROLES: dict[str, tuple[str, float, Qt.PenStyle, float]] = {
    # role: colour, width, dash, and from how many pixels to a metre it is drawn
    "contours": ("ground", 0.3, Qt.PenStyle.SolidLine, 0.4),
    "main contours": ("ground", 0.6, Qt.PenStyle.SolidLine, 0.15),
    "survey": ("ground", 0.7, Qt.PenStyle.DashLine, 0.5),
    "centreline": ("crown", 1.2, Qt.PenStyle.DashDotLine, 0.0),
    "left lip": ("left_lip", 1.8, Qt.PenStyle.SolidLine, 0.25),
    "right lip": ("right_lip", 1.8, Qt.PenStyle.SolidLine, 0.25),
    "return": ("crown", 1.8, Qt.PenStyle.SolidLine, 0.25),
    "kerb": ("quiet", 0.9, Qt.PenStyle.SolidLine, 2.0),
    "path": ("quiet", 0.7, Qt.PenStyle.SolidLine, 1.5),
    "boundary": ("ink", 1.1, Qt.PenStyle.SolidLine, 0.15),
    "toe": ("quiet", 0.7, Qt.PenStyle.DotLine, 1.0),
    "cut hachure": ("cut", 0.8, Qt.PenStyle.SolidLine, 1.5),
    "fill hachure": ("fill", 0.8, Qt.PenStyle.SolidLine, 1.5),
}
_OTHER = ("ink", 1.1, Qt.PenStyle.SolidLine, 0.0)
_SOON, _PAUSE = 25, 110  # milliseconds until the rest is shown: after a change, and when a drag pauses
_CHOOSE = 14.0  # pixels from a thing within which it is chosen
_SLICE = 0.010  # seconds of work between two frames


def _pen(theme: Theme, role: str) -> tuple[QPen, float]:
    colour, width, style, least = _ROLES.get(role, _OTHER)
    if width < 0.7:
        return theme.faint(colour, width, style), least
    return (theme.pen(colour, width, style) if width > 1.0 else theme.faint(colour, 0.85, style)), least


def _outline_of(thing: ThingId) -> ThingId:
    """Under what a thing's outline is kept, beside its details."""
    return ThingId(thing.kind, f"{thing.id} outline")


class PlanView(DrawingView):
    """The site from above."""

    sketch_ended = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent, axes=False)
        self.plotItem.vb.setAspectLocked(True)
        self._halo = self.curve(25)
        self.ground_lines, self.strokes = StrokeLayer(2, _pen), StrokeLayer(30, _pen)
        self.areas, self.fine = PolygonLayer(10), PairsLayer(18, "window", 3.0)
        self.signs, self.cross, self.arrows = SignLayer(), CrossLayer(), ArrowLayer()
        self.chosen_area = PolygonLayer(11)
        areas = (self.areas, self.chosen_area)
        for layer in (self.ground_lines, self.strokes, *areas, self.fine, self.signs, self.cross, self.arrows):
            self.add_layer(layer)
        self.sketch: Sketch | None = None
        self.show_flow = True
        self.welcome = Welcome(self)
        self._findings: tuple[Finding, ...] = ()
        self._drawn: dict[ThingId, Drawing] = {}
        self._areas_in: Theme | None = None
        self._labels_of: dict[int, tuple[Drawing, list[Label]]] = {}
        self._labels_in: object = None
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
        self._halo.setPen(theme.pen("chosen", 7.0, alpha=60))
        self.welcome.paint_in(theme)
        self._show_areas()
        self._show_labels()

    # Showing the site

    def refresh(self) -> None:
        """Show the site: what a drag needs at once, the rest as soon as there is time."""
        if self.theme is None:
            return
        self.welcome.show_for(self.session)
        if self.session.dragging and self.sketch is None and not self.dragging.active:
            self._fill_queue(())  # another view is dragged: the plan follows when the hand pauses
            self._later.start(_PAUSE)
            return
        if self.dragging.active:
            # What is under the hand leads, at once; its lines follow when that is painted.
            self._show_under_hand()
            self._behind = True
            self._fill_queue(())
            self._later.start(_PAUSE)
            return
        self._fill_queue(self._show_near())
        self._later.start(_PAUSE if self.session.dragging else _SOON)

    def _show_under_hand(self) -> None:
        held, place = self.dragging.handle, self.dragging.place
        if held is not None and place is not None:
            moved = [replace(h, place=place) if h.key == held.key else h for h in self.handles.handles]
            self.handles.show_handles(moved)
        self._show_halo()

    def _on_drag_painted(self) -> None:
        if self._behind:
            self._behind = False
            self._follow.start(0)

    def _show_near(self) -> tuple[ThingId, ...]:
        """Show the things in hand, and those that change with them, and their handles; returns them."""
        urgent = self._urgent()
        for thing in urgent:
            self._show_outline(thing)
            if self.sketch is not None:
                self._show_details(thing)  # while sketching, batters' reach is what one wants to see
        self.handles.chosen = self.session.chosen.held
        self.handles.show_handles([] if self.sketch else self._handles())
        self._show_halo()
        return urgent

    def _urgent(self) -> tuple[ThingId, ...]:
        """The thing in hand with what stands on the same street, or at first all of a small site."""
        q = self.session.engine
        things = [t for t in all_things(q) if not kind_of(t.kind).together and t.kind != "ground"]
        if not self.session.dragging and len(things) <= 12:
            return tuple(things)
        street = self.session.street if self.sketch is None else self.sketch.id
        if not street:
            return ()
        return tuple(t for t in things if t.kind != "lot" and _concerns(t, street))

    def _handles(self) -> list[Handle]:
        thing, q = self.session.thing, self.session.engine
        if thing is None:
            return []
        found: list[Handle] = []
        for kind in kinds():
            try:
                found += kind.handles(q, thing) if kind.key == thing.kind else kind.handles_about(q, thing)
            except Unsolved:
                continue
        return found

    def _fill_queue(self, done: tuple[ThingId, ...]) -> None:
        """Line up what is to be shown when there is time, in steps of a few milliseconds each."""
        q = self.session.engine
        things = [t for t in all_things(q) if not kind_of(t.kind).together]
        at_once = set(done)
        steps: list[Callable[[], object]] = [partial(self._show_outline, t) for t in things if t not in at_once]
        steps += [partial(self._show_together, k.key) for k in kinds() if k.together]
        for t in things:
            steps += [partial(self._show_faces_first, t), partial(self._show_details, t)]
        self._queue = [*steps, self._forget_gone, self._show_areas, self._show_labels, self._show_fine]

    def _show_faces_first(self, thing: ThingId) -> None:
        """Faces one by one, so that what is drawn of the whole thing afterwards is quickly answered."""
        q = self.session.engine
        made = q.attempt(faces_of, thing)
        if not isinstance(made, Unsolved) and thing.kind != "lot":
            self._queue[:0] = [partial(q.attempt, finished_mesh, id) for id in made]

    def _refresh_slowly(self) -> None:
        """Work the queue in slices short enough not to be felt."""
        until = time.perf_counter() + _SLICE
        while self._queue and time.perf_counter() < until:
            self._queue.pop(0)()
        if self._queue:
            self._later.start(0)

    @property
    def settled(self) -> bool:
        """Whether everything that is to be shown is shown."""
        return not self._queue

    def _show_outline(self, thing: ThingId) -> None:
        made = self.session.engine.attempt(outline, thing)
        self.strokes.show_strokes(thing, () if isinstance(made, Unsolved) else made.strokes)
        if not isinstance(made, Unsolved) and (made.areas or made.labels):
            self._drawn[_outline_of(thing)] = made

    def _show_together(self, kind: str) -> None:
        made = self.session.engine.attempt(outline_of_all, kind)
        self.ground_lines.show_strokes(kind, () if isinstance(made, Unsolved) else made.strokes)

    def _show_details(self, thing: ThingId) -> None:
        made = self.session.engine.attempt(details, thing)
        if isinstance(made, Unsolved):
            made = Drawing()
        layer = self.ground_lines if thing.kind == "ground" else self.strokes
        layer.show_strokes((thing, "details"), made.strokes)
        self._drawn[thing] = made

    def _forget_gone(self) -> None:
        things = set(all_things(self.session.engine))
        keys = {*things, *((t, "details") for t in things)}
        self.strokes.keep_only(keys)
        self.ground_lines.keep_only({*keys, *(k.key for k in kinds() if k.together)})
        self._drawn = {t: d for t, d in self._drawn.items() if ThingId(t.kind, t.id.removesuffix(" outline")) in things}

    def _show_fine(self) -> None:
        """Fine contours and flow arrows, face by face."""
        q = self.session.engine
        found = []
        for thing in all_things(q):
            made = q.attempt(faces_of, thing)
            for id in () if isinstance(made, Unsolved) or thing.kind == "lot" else made:
                mesh = q.attempt(finished_mesh, id)
                if not isinstance(mesh, Unsolved) and mesh.role in WITH_CONTOURS:
                    found.append(id)
        self._queue += [partial(q.attempt, fine_lines, id) for id in found]
        self._queue.append(partial(self._take_fine, found))

    def _take_fine(self, faces: list[FaceId]) -> None:
        made = [self.session.engine.attempt(fine_lines, id) for id in faces]
        good = [m for m in made if not isinstance(m, Unsolved)]
        self.fine.show_pairs([m[0] for m in good])
        arrows = np.concatenate([m[1] for m in good]) if good and self.show_flow else np.empty((0, 4))
        self.arrows.show_arrows(arrows)

    def _show_areas(self) -> None:
        if self.theme is None:
            return
        if self._areas_in is not self.theme:
            self._areas_in = self.theme
            self.areas.show_shapes(())  # all in other colours
        self.areas.show_groups((d, partial(self._shapes_of, d)) for d in self._drawn.values() if d.areas)
        self._show_chosen_area()

    def _shapes_of(self, drawn: Drawing) -> list[Shape]:
        assert self.theme is not None
        t = self.theme
        shapes: list[Shape] = []
        for area in drawn.areas:
            if area.role != "pad":
                shapes.append((area.ring, None, t.pen("lot", 1.0)))
                continue
            set_ = area.state == "set"
            pen = t.pen("broken", 1.8) if area.wrong else t.pen("ink", 1.4 if set_ else 0.7, alpha=160)
            shapes.append((area.ring, self._depth_colour(area.depth), pen))
        return shapes

    def _show_chosen_area(self) -> None:
        """Light up the area of what is chosen, apart from all others, so that choosing costs the same in any site."""
        if self.theme is None:
            return
        thing, t = self.session.chosen.thing, self.theme
        drawn = [d for d in (self._drawn.get(thing), self._drawn.get(_outline_of(thing))) if d] if thing else []
        areas = [a for d in drawn for a in d.areas if a.role != "pad" and a.thing == thing]
        self.chosen_area.show_shapes([(a.ring, t.colour("chosen", 26), t.pen("chosen", 2.0)) for a in areas])

    def _depth_colour(self, depth: float) -> QColor:
        """Brown where the ground is cut, teal where it is filled, stronger with depth up to 1.5 m."""
        assert self.theme is not None
        share = min(abs(depth) / 1.5, 1.0) if np.isfinite(depth) else 0.0
        return self.theme.colour("cut" if depth < 0 else "fill", int(25 + 125 * share))

    def _show_halo(self) -> None:
        line = self.session.section_line
        plan = self.session.engine.attempt(line_plan, line) if line is not None else None
        if plan is None or isinstance(plan, Unsolved):
            self._halo.setData([], [])
            return
        p = np.concatenate([plan.points(s) for s in plan.runs(0.02)] or [np.empty((0, 2))])
        self._halo.setData(p[:, 0], p[:, 1])

    def show_findings(self, findings: tuple[Finding, ...]) -> None:
        """Put signs where findings are."""
        self._findings = findings
        self.signs.show_signs([(*f.place, f.severity == "broken") for f in findings if f.place])

    def _show_labels(self) -> None:
        settings = self.session.site.settings
        old = self._labels_of if self._labels_in is settings else {}
        self._labels_in, self._labels_of = settings, {}
        for d in self._drawn.values():
            if not d.labels:
                continue
            kept = old.get(id(d))
            if kept is None or kept[0] is not d:
                kept = d, [_label(la, settings) for la in d.labels]
            self._labels_of[id(d)] = kept
        self.labels.show_labels([la for _, labels in self._labels_of.values() for la in labels])

    def fit(self) -> None:
        """Show everything."""
        q = self.session.engine
        made = boxes(q).boxes
        found = [made] if len(made) else []
        surface = current_surface(q)
        if surface is not None:
            found.append(np.array([surface.bounds]))
        if not found:
            self.plotItem.vb.setRange(QRectF(0, 0, 400, 300), padding=0)
            return
        b = np.concatenate(found)
        self._look_at(b[:, :2].min(axis=0), b[:, 2:].max(axis=0))

    def fit_thing(self, thing: ThingId) -> None:
        """Show one thing with what is round it."""
        q = self.session.engine
        made = q.attempt(details, thing), q.attempt(outline, thing)
        points = [s.points for d in made if not isinstance(d, Unsolved) for s in d.strokes]
        points += [a.ring for d in made if not isinstance(d, Unsolved) for a in d.areas]
        p = np.concatenate(points) if points else np.empty((0, 2))
        p = p[np.isfinite(p[:, 0])]
        if len(p):
            self._look_at(p.min(axis=0) - 12.0, p.max(axis=0) + 12.0)

    def look_at(self, east: float, north: float, across: float = 50.0) -> None:
        """Show a place (from the site's origin), ``across`` metres wide."""
        c = np.array([east, north])
        self._look_at(c - across / 2, c + across / 2)

    def _look_at(self, low: Floats, high: Floats) -> None:
        self.plotItem.vb.setRange(QRectF(low[0], low[1], high[0] - low[0], high[1] - low[1]), padding=0.03)

    # Choosing, hovering, drawing

    def _metres(self, pixels: float) -> float:
        size = self.plotItem.vb.viewPixelSize()
        return float(pixels * size[0])

    def _on_chosen(self) -> None:
        self._show_chosen_area()
        if not self.session.dragging:
            self._show_near()

    def _on_cursor(self) -> None:
        self.cross.show_at(self.session.cursor)

    def _on_hover(self, x: float, y: float) -> None:
        station = None
        street = self.session.street
        if street and not self.session.dragging:
            plan = self.session.engine.attempt(line_plan, StreetLine(street))
            if not isinstance(plan, Unsolved) and self.session.section_line == StreetLine(street):
                foot = plan.base.feet([(x, y)])
                if abs(float(foot.offsets[0])) < 40.0:
                    station = Station(StreetLine(street), float(foot.chainages[0]))
        self.session.point_at(x, y, station)
        if self.sketch is not None:
            self.sketch.move((x, y), self._metres(12.0))

    def _on_click(self, x: float, y: float) -> None:
        if self.sketch is not None:
            self.sketch.click((x, y), self._metres(12.0))
            return
        self.session.choose(self.thing_at((x, y)))
        self.session.point_asked.emit(x, y)

    def thing_at(self, place: Place) -> ThingId | None:
        """The thing at a place; None far from all."""
        return thing_at(self.session.engine, place, max(self._metres(_CHOOSE), 4.0))

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


def _concerns(thing: ThingId, street: str) -> bool:
    """Whether a thing is a street or stands on it; what meets it elsewhere is drawn when there is time."""
    return thing.id == street or thing.id.startswith(f"{street}:")


_RANK_LEAST = {2: 1.8, 3: 0.8, 4: 3.0, 8: 0.5}  # pixels to a metre from which labels of a rank are worth placing


def _label(label: describe.Label, settings: object) -> Label:
    text = label.words if label.unit == "text" else show(label.unit, label.value, settings)  # type: ignore[arg-type]
    if label.state == "set":
        text = f"● {text}"
    least = _RANK_LEAST.get(label.rank, 0.0)
    return Label(*label.place, text, label.role, label.size, label.weight, label.rank, label.centred, least)
