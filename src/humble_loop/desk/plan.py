"""The plan: the site from above, as its things describe themselves, with handles on the chosen one.

Places are measured from the site's origin; only what people read is as they know it.
"""

from __future__ import annotations

import time
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPen
from PySide6.QtWidgets import QWidget

from humble_loop.desk.drawing import details, outline
from humble_loop.desk.drawing import lit as lit_of
from humble_loop.desk.fixed_fall import FixedFall
from humble_loop.desk.follower import Follower, InTime
from humble_loop.desk.layers import CrossLayer, PolygonLayer, SignLayer
from humble_loop.desk.picking import thing_at
from humble_loop.desk.placing import Placing
from humble_loop.desk.session import Session, Station
from humble_loop.desk.site_drawing import SiteDrawing
from humble_loop.desk.sketch import Sketch
from humble_loop.desk.theme import Theme
from humble_loop.desk.view import DrawingView
from humble_loop.desk.welcome import Welcome
from humble_loop.engine.query import Cancelled, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.ground.reads import current_surface
from humble_loop.kinds.street.bends import add_bend
from humble_loop.kinds.street.depth import DepthBand
from humble_loop.kinds.street.plan import StreetLine, boxes, centreline
from humble_loop.lines.describe import Handle, Place
from humble_loop.lines.findings import Finding
from humble_loop.lines.line import ThingId, line_plan
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.whole.things import things_by_street, things_of

_SOON, _PAUSE = 25, 110  # milliseconds until the rest is shown: after a change, and when a drag pauses
_PATIENCE = 0.12  # seconds that a change may hold the hand up; what is not shown by then comes in pieces
_LEADS = 0.035  # seconds: a dragged thing's lines that take longer follow a frame later than its handle
_SLICE = 0.016  # seconds in which those of other things that change with it are shown before a frame; what is left comes with the next
_BEHIND = 0.2  # seconds that these may be behind while the hand goes on
_SMALL = 12  # things that are drawn at once, all of them
_CHOOSE = 14.0  # pixels from a thing within which it is chosen


class PlanView(DrawingView):
    """The site from above."""

    sketch_ended = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent, axes=False)
        self.plotItem.vb.setAspectLocked(True)
        self._halo, self._lit = self.curve(25), self.curve(24)
        self.drawing = SiteDrawing(self)
        self.signs, self.cross, self._band = SignLayer(), CrossLayer(), PolygonLayer(9)
        for layer in (self.signs, self.cross, self._band):
            self.add_layer(layer)
        self.sketch: Sketch | Placing | FixedFall | None = None
        self.welcome = Welcome(self)
        self._findings: tuple[Finding, ...] = ()
        self._took = 0.0
        # It may rest on how lots lie, which takes a while on a large site.
        self._halo_in_time = InTime(session, self._refresh_halo, self, lambda: self.dragging.active)
        self._handles_in_time = InTime(session, self._show_handles, self, lambda: self.dragging.active)
        # While something is dragged here: what changes with it, itself first; which of these are still to be shown, and whether itself is;
        # how long its own lines take, and when all were last shown.
        self._near: tuple[ThingId, ...] = ()
        self._waiting: tuple[ThingId, ...] = ()
        self._own_waits, self._own_took, self._all_shown = False, 0.0, 0.0
        self._handles_follow = Follower(session, self._follow_drag, self, lambda: False)
        self._follow = QTimer(self)
        self._follow.setSingleShot(True)
        self._follow.timeout.connect(self._show_waiting)
        self.hand_painted.connect(self._on_hand_painted)
        self.dragging.ended.connect(lambda: self.drawing.lift(()))
        self.clicked.connect(self._on_click)
        self.hovered.connect(self._on_hover)
        session.changed.connect(self.refresh)
        session.chosen_changed.connect(self._on_chosen)
        session.cursor_moved.connect(self._on_cursor)

    def paint_in(self, theme: Theme) -> None:
        super().paint_in(theme)
        self._halo.setPen(theme.pen("chosen", 7.0, alpha=60))
        self._lit.setPen(theme.pen("chosen", 11.0, alpha=150))
        self.welcome.paint_in(theme)
        self.drawing.recolour()

    # Showing the site

    def refresh(self) -> None:
        """Show the site: what a drag needs at once, the rest as soon as there is time."""
        if self.theme is None:
            return
        self.welcome.show_for(self.session)
        if self.session.dragging and self.sketch is None and not self.dragging.active:
            self.drawing.show_rest((), _PAUSE)  # another view is dragged: the plan follows when the hand pauses
            return
        if self.dragging.active:
            self._near = self._near or self._urgent_in_time()
            self._waiting, self._own_waits = self._near, bool(self._near)
            self.drawing.lift(self._near)
            self._move_held()
            if self._own_took <= _LEADS:
                self._show_waiting()
            self.drawing.show_rest((), _PAUSE)
            return
        self.drawing.show_rest(self._show_near(), _PAUSE if self.session.dragging else _SOON)

    # While something is dragged here

    def _move_held(self) -> None:
        """Put the handle in hand where the hand is; the others follow when there is time."""
        held, place = self.dragging.handle, self.dragging.place
        if held is not None and place is not None:
            moved = [replace(h, place=place) if h.key == held.key else h for h in self.handles.handles]
            self.handles.show_handles(moved)

    def _show_waiting(self) -> None:
        """Show the lines of what is in hand, and of as many of those that change with it as there is time for before a frame."""
        began = time.perf_counter()
        late = began - self._all_shown > _BEHIND  # those that come last must not wait for as long as the hand moves
        try:
            with self.session.engine.within(_PATIENCE):
                while self._waiting and (self._own_waits or late or time.perf_counter() - began < _SLICE):
                    self.drawing.show_now(self._waiting[:1], whole=False)
                    self._waiting = self._waiting[1:]
                    if self._own_waits:
                        # What took long once is not tried again at every second move.
                        self._own_took, self._own_waits = max(time.perf_counter() - began, 0.8 * self._own_took), False
        except Cancelled:
            self._follow.start(0)
            return
        if not self._waiting:
            self._own_waits, self._all_shown = False, began
            self._show_halo()

    def _on_hand_painted(self) -> None:
        if self._waiting:
            self._follow.start(0)

    @property
    def lines_wait(self) -> bool:
        return self._own_waits

    def _follow_drag(self) -> None:
        """See anew which things change with what is dragged, and where all its handles now are."""
        if not self.dragging.active:
            self._near = ()
            return
        self._near = self._urgent_in_time() or self._near
        self._handles_in_time.now()

    def _urgent_in_time(self) -> tuple[ThingId, ...]:
        try:
            with self.session.engine.within(_PATIENCE):
                return self._urgent()
        except Cancelled:
            return ()

    # What is in hand, while nothing is dragged here

    def _show_near(self) -> tuple[ThingId, ...]:
        """Show the thing in hand, those that change with it, and their handles; returns them."""
        began = time.perf_counter()
        shown: tuple[ThingId, ...] = ()
        try:
            with self.session.engine.within(_PATIENCE):
                urgent = self._urgent()
                # While sketching, the reach of batters is what one wants to see, if it is there soon.
                self.drawing.show_now(urgent, whole=self.sketch is not None and self._took < _PATIENCE)
                shown = urgent
                self._show_handles()
        except Cancelled:
            # They come in pieces like the rest; while something is sketched, with the next move.
            if not self.session.dragging:
                self._handles_in_time.now()
        self._show_halo()
        # A sketch that took long is shown without its batters for a few moves, and not at every second one.
        self._took = max(time.perf_counter() - began, 0.8 * self._took if self.sketch is not None else 0.0)
        return shown

    def _urgent(self) -> tuple[ThingId, ...]:
        """The thing in hand with what stands on the same street, or at first all of a small site."""
        q = self.session.engine
        singly = [k.key for k in kinds() if not k.together and k.key != "ground"]
        if not self.session.dragging and sum(len(things_of(q, key)) for key in singly) <= _SMALL:
            return tuple(t for key in singly for t in things_of(q, key))
        # What meets them elsewhere is drawn when there is time.
        streets = self._streets()
        hasty = [key for key in singly if not kind_of(key).at_leisure]
        found = [t for key in hasty for s in streets for t in things_by_street(q, key).get(s, ())]
        thing = self.session.thing
        return tuple(dict.fromkeys([thing, *found] if thing in found else found))

    def _streets(self) -> tuple[str, ...]:
        """The streets that the thing in hand is or stands on."""
        thing, q = self.session.thing, self.session.engine
        if thing is not None:
            try:
                if found := kind_of(thing.kind).streets_of(q, thing):
                    return found
            except Unsolved:
                pass
        street = self.session.street if self.sketch is None else self.sketch.id
        return (street,) if street else ()

    def _show_handles(self) -> None:
        self.handles.chosen = self.session.chosen.held
        self.handles.show_handles([] if self.sketch else self._handles())

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

    @property
    def settled(self) -> bool:
        """Whether everything that is to be shown is shown."""
        return self.drawing.settled and not self._handles_in_time.busy

    def _show_halo(self) -> None:
        self._halo_in_time.now()

    def _refresh_halo(self) -> None:
        line, thing, q = self.session.section_line, self.session.thing, self.session.engine
        lit = q.attempt(lit_of, thing) if thing is not None else None
        if lit is not None and not isinstance(lit, Unsolved):
            self._halo.setData(lit[:, 0], lit[:, 1])
            return
        plan = q.attempt(line_plan, line) if line is not None else None
        if plan is None or isinstance(plan, Unsolved):
            self._halo.setData([], [])
            return
        p = np.concatenate([plan.points(s) for s in plan.runs(0.02)] or [np.empty((0, 2))])
        self._halo.setData(p[:, 0], p[:, 1])

    def show_band(self, band: DepthBand | None) -> None:
        """Colour a strip by how deep it lies in the ground or above it, or show none."""
        if band is None or self.theme is None:
            self._band.show_shapes(())
            return
        depths = 0.5 * (band.depths[:-1] + band.depths[1:])
        corners = np.stack([band.edges[:-1, 0], band.edges[1:, 0], band.edges[1:, 1], band.edges[:-1, 1]], axis=1)
        pen = QPen(Qt.PenStyle.NoPen)
        self._band.show_shapes(
            [(c, self.theme.depth_colour(float(d)), pen) for c, d in zip(corners, depths) if np.isfinite(d)]
        )

    def light_up(self, points: Floats | None) -> None:
        """Light up a part of a line (n, 2), or nothing."""
        p = np.empty((0, 2)) if points is None else points
        self._lit.setData(p[:, 0], p[:, 1])

    def show_findings(self, findings: tuple[Finding, ...]) -> None:
        """Put signs where findings are."""
        self._findings = findings
        self.signs.show_signs([(*f.place, f.severity == "broken") for f in findings if f.place])

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

    def take_handle(self, handle: Handle) -> None:
        self._near, self._own_took, self._all_shown = (), 0.0, time.perf_counter()
        super().take_handle(handle)

    def _metres(self, pixels: float) -> float:
        size = self.plotItem.vb.viewPixelSize()
        return float(pixels * size[0])

    def _on_chosen(self) -> None:
        self.drawing.show_chosen_area()
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
        try:
            with self.session.engine.within(_PATIENCE):
                thing = self.thing_at((x, y))
        except Cancelled:
            self.session.said.emit("What lies there is still being worked out: click again in a moment")
            return
        self.session.choose(thing)
        self.session.point_asked.emit(x, y)

    def thing_at(self, place: Place) -> ThingId | None:
        """The thing at a place; None far from all."""
        return thing_at(self.session.engine, place, max(self._metres(_CHOOSE), 4.0))

    def start_sketch(self) -> None:
        """Begin to draw a street."""
        self.sketch = Sketch(self, self.show_band, self.end_sketch)
        self.setFocus()
        self.refresh()

    def start_placing(self) -> None:
        """Begin to place a roundabout."""
        self.sketch = Placing(self, self.end_sketch)
        self.setFocus()
        self.refresh()

    def start_fixed_fall(self) -> None:
        """Begin to mark two places on lines."""
        self.sketch = FixedFall(self, self.end_sketch, self.light_up)
        self.setFocus()
        self.refresh()

    def end_sketch(self) -> None:
        """Called by the sketch when it is done or given up."""
        self.sketch = None
        self.tag.hide()
        self.show_band(None)
        self.refresh()
        self.sketch_ended.emit()

    def may_rest(self) -> bool:
        return self.sketch is None and super().may_rest()

    def may_drag(self) -> bool:
        return self.sketch is None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.sketch is not None:
            self.sketch.finish()
        else:
            self._add_bend(self.place(event.position()))
        event.accept()

    def _add_bend(self, place: Place) -> None:
        """Add a bend to the chosen street where its line was double-clicked."""
        q, thing = self.session.engine, self.session.thing
        laid = q.attempt(centreline, thing.id) if thing is not None and thing.kind == "street" else None
        if thing is None or laid is None or isinstance(laid, Unsolved):
            return
        if abs(float(laid.chain.feet([place]).offsets[0])) < self._metres(_CHOOSE):
            self.session.do("Add a bend", add_bend(q, thing.id, place))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.sketch is not None and self.sketch.key(event):
            return
        super().keyPressEvent(event)

    def focusNextPrevChild(self, onwards: bool) -> bool:
        """Tab leaves the plan, but not while something is drawn: it is that one's."""
        return self.sketch is None and super().focusNextPrevChild(onwards)

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
