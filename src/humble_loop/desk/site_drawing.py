"""What the plan draws of the site, thing by thing: outlines at once, the rest when there is time."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import partial

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QPen

from humble_loop.desk.drawing import MOST_FINE_IN_ALL, WITH_CONTOURS, details, fine_lines, outline, outline_of_all
from humble_loop.desk.idle import IdleWork, Steps
from humble_loop.desk.layers import ArrowLayer, Label, PairsLayer, PolygonLayer, Shape, StrokeLayer
from humble_loop.desk.theme import Theme
from humble_loop.desk.values import show
from humble_loop.desk.view import DrawingView
from humble_loop.engine.query import Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.lines import describe
from humble_loop.lines.describe import Drawing
from humble_loop.lines.faces import FaceId, finished_mesh
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.whole.hachures import batter_strokes
from humble_loop.whole.overlaps import counted
from humble_loop.whole.things import all_things, faces_of, things_of

_ROLES: dict[str, tuple[str, float, Qt.PenStyle, float]] = {
    # role: colour, width, dash, and from how many pixels to a metre it is drawn
    "contours": ("ground", 0.3, Qt.PenStyle.SolidLine, 0.4),
    "main contours": ("ground", 0.6, Qt.PenStyle.SolidLine, 0.15),
    "survey": ("ground", 0.7, Qt.PenStyle.DashLine, 0.5),
    "service": ("near", 1.1, Qt.PenStyle.DashDotDotLine, 0.3),
    "centreline": ("crown", 1.2, Qt.PenStyle.DashDotLine, 0.0),
    "kerb line": ("window", 3.2, Qt.PenStyle.SolidLine, 0.25),
    "tie": ("window", 2.6, Qt.PenStyle.DashLine, 0.25),
    "leader": ("near", 0.8, Qt.PenStyle.DotLine, 1.5),
    "fall window": ("window", 1.2, Qt.PenStyle.DotLine, 1.0),
    "left lip": ("left_lip", 1.8, Qt.PenStyle.SolidLine, 0.25),
    "right lip": ("right_lip", 1.8, Qt.PenStyle.SolidLine, 0.25),
    "return": ("crown", 1.8, Qt.PenStyle.SolidLine, 0.25),
    "kerb": ("quiet", 0.9, Qt.PenStyle.SolidLine, 2.0),
    "path": ("quiet", 0.7, Qt.PenStyle.SolidLine, 1.5),
    "drain": ("crown", 1.4, Qt.PenStyle.DashLine, 0.4),
    "way": ("crown", 1.1, Qt.PenStyle.DotLine, 1.5),
    "give way": ("crown", 1.2, Qt.PenStyle.DashLine, 1.5),
    "boundary": ("ink", 1.1, Qt.PenStyle.SolidLine, 0.15),
    "toe": ("quiet", 0.7, Qt.PenStyle.DotLine, 1.0),
    "driveway": ("quiet", 1.1, Qt.PenStyle.SolidLine, 2.0),
    "driveway clear": ("fill", 2.2, Qt.PenStyle.SolidLine, 2.0),
    "driveway near": ("near", 2.6, Qt.PenStyle.SolidLine, 0.25),
    "driveway touches": ("broken", 2.6, Qt.PenStyle.SolidLine, 0.25),
    "cut hachure": ("cut", 0.8, Qt.PenStyle.SolidLine, 1.5),
    "fill hachure": ("fill", 0.8, Qt.PenStyle.SolidLine, 1.5),
}
_OTHER = ("ink", 1.1, Qt.PenStyle.SolidLine, 0.0)


def _pen(theme: Theme, role: str) -> tuple[QPen, float]:
    colour, width, style, least = _ROLES.get(role, _OTHER)
    if width < 0.7:
        return theme.faint(colour, width, style), least
    return (theme.pen(colour, width, style) if width > 1.0 else theme.faint(colour, 0.85, style)), least


def _outline_of(thing: ThingId) -> ThingId:
    """Under what a thing's outline is kept, beside its details."""
    return ThingId(thing.kind, f"{thing.id} outline")


class SiteDrawing:
    """The layers of a view that show the site, and the work of keeping them up to date."""

    def __init__(self, view: DrawingView) -> None:
        self._view, self._session = view, view.session
        self.ground_lines, self.strokes = StrokeLayer(2, _pen), StrokeLayer(30, _pen)
        # What is in hand, and what moves with it, apart from all that stays, so that a frame of a drag paints little.
        self.held, self.lifted = StrokeLayer(30.6, _pen), StrokeLayer(30.3, _pen)
        self._lifted: dict[ThingId, StrokeLayer] = {}
        self.areas, self.chosen_area = PolygonLayer(10), PolygonLayer(11)
        self.fine, self.arrows = PairsLayer(18, "window", 3.0), ArrowLayer()
        for layer in (
            self.ground_lines,
            self.strokes,
            self.lifted,
            self.held,
            self.areas,
            self.chosen_area,
            self.fine,
            self.arrows,
        ):
            view.add_layer(layer)
        self.show_flow = True
        self.drawn: dict[ThingId, Drawing] = {}
        self._areas_in: Theme | None = None
        self._labels_of: dict[int, tuple[Drawing, list[Label]]] = {}
        self._labels_in: object = None
        self._fine_shown: tuple[bool, list[int]] = (True, [])
        self._fine_of: list[tuple[Floats, Floats]] = []
        self._listed: list[tuple[ThingId, ...]] = []
        self._work = IdleWork(view, lambda seconds: view.session.engine.within(seconds))

    @property
    def theme(self) -> Theme | None:
        """The colours that everything is drawn in."""
        return self._view.theme

    @property
    def settled(self) -> bool:
        """Whether everything that is to be shown is shown."""
        return not self._work.busy

    def lift(self, things: Sequence[ThingId]) -> None:
        """Draw the outlines of some things apart from all others, the first by itself: while they are dragged."""
        now = {t: self.lifted if k else self.held for k, t in enumerate(things)}
        for thing in now.keys() | self._lifted.keys():
            source, target = self._lifted.get(thing, self.strokes), now.get(thing, self.strokes)
            if source is not target:
                source.give(thing, target)
        self._lifted = now

    def show_now(self, things: Iterable[ThingId], *, whole: bool) -> None:
        """Show some things at once: their outlines, or all of them."""
        for thing in things:
            self._show_outline(thing)
            if whole:
                self._show_details(thing)

    def show_rest(self, done: Iterable[ThingId], after: int) -> None:
        """Show everything but the outlines of what is done, ``after`` milliseconds from now, a piece a step."""
        together = [partial(self._show_together, k.key) for k in kinds() if k.together]
        last = [self._forget_gone, self.show_areas, self.show_labels, self._show_fine]
        self._work.begin([partial(self._outlines, set(done)), *together, self._all_details, *last], after)

    def _things(self) -> Iterator[ThingId]:
        return (t for t in all_things(self._session.engine) if not kind_of(t.kind).together)

    def _outlines(self, done: set[ThingId]) -> Steps:
        yield partial(all_things, self._session.engine)
        for thing in self._things():
            if thing not in done:
                yield partial(self._show_outline, thing)

    def _all_details(self) -> Steps:
        q = self._session.engine
        yield partial(all_things, q)
        for thing in self._things():
            yield partial(q.attempt, faces_of, thing)
            made = q.attempt(faces_of, thing)
            # Faces one by one, so that what is drawn of the whole thing afterwards is quickly answered.
            for id in () if isinstance(made, Unsolved) or thing.kind == "lot" else made:
                yield partial(q.attempt, finished_mesh, id)
                if id.gives_way:
                    yield partial(q.attempt, counted, id)
                    yield partial(q.attempt, batter_strokes, id)
            yield partial(self._show_details, thing)

    def _show_outline(self, thing: ThingId) -> None:
        made = self._session.engine.attempt(outline, thing)
        layer = self._lifted.get(thing, self.strokes)
        layer.show_strokes(thing, () if isinstance(made, Unsolved) else made.strokes)
        if not isinstance(made, Unsolved) and (made.areas or made.labels):
            self.drawn[_outline_of(thing)] = made

    def _show_together(self, kind: str) -> None:
        made = self._session.engine.attempt(outline_of_all, kind)
        self.ground_lines.show_strokes(kind, () if isinstance(made, Unsolved) else made.strokes)

    def _show_details(self, thing: ThingId) -> None:
        made = self._session.engine.attempt(details, thing)
        if isinstance(made, Unsolved):
            made = Drawing()
        layer = self.ground_lines if thing.kind == "ground" else self.strokes
        layer.show_strokes((thing, "details"), made.strokes)
        self.drawn[thing] = made

    def _forget_gone(self) -> None:
        lists = [things_of(self._session.engine, k.key) for k in kinds()]
        if len(lists) == len(self._listed) and all(a is b for a, b in zip(lists, self._listed, strict=True)):
            return
        self._listed = lists
        things = {t for one in lists for t in one}
        keys = {*things, *((t, "details") for t in things)}
        for layer in (self.strokes, self.lifted, self.held):
            layer.keep_only(keys)
        self.ground_lines.keep_only({*keys, *(k.key for k in kinds() if k.together)})
        self.drawn = {t: d for t, d in self.drawn.items() if ThingId(t.kind, t.id.removesuffix(" outline")) in things}

    def _show_fine(self) -> Steps:
        """Fine contours and flow arrows, face by face."""
        q = self._session.engine
        yield partial(all_things, q)
        found: list[FaceId] = []
        for thing in self._things():
            made = q.attempt(faces_of, thing)
            for face in () if isinstance(made, Unsolved) or thing.kind == "lot" else made:
                mesh = q.attempt(finished_mesh, face)
                if not isinstance(mesh, Unsolved) and mesh.role in WITH_CONTOURS:
                    found.append(face)
                    yield partial(q.attempt, fine_lines, face)
            yield None
        made_of = [q.attempt(fine_lines, face) for face in found]
        good = [m for m in made_of if not isinstance(m, Unsolved)]
        whole = len(good) == len(made_of) and sum(len(m[0]) for m in good) <= 2 * MOST_FINE_IN_ALL
        if not whole:
            every = self._session.site.settings.fine_contour_interval
            self._session.said.emit(
                f"Fine contours every {every:g} m would be too many to draw: give them a larger interval"
            )
            good = [(np.empty((0, 2)), m[1]) for m in good]
        shown = (self.show_flow, [id(m) for m in good])
        if shown == self._fine_shown:
            return
        self._fine_shown, self._fine_of = shown, good  # kept, so that their ids stay theirs
        self.fine.show_pairs([m[0] for m in good])
        arrows = np.concatenate([m[1] for m in good]) if good and self.show_flow else np.empty((0, 4))
        self.arrows.show_arrows(arrows)

    def show_areas(self) -> None:
        """Show lots and pads."""
        if self.theme is None:
            return
        if self._areas_in is not self.theme:
            self._areas_in = self.theme
            self.areas.show_shapes(())  # all in other colours
        self.areas.show_groups((d, partial(self._shapes_of, d)) for d in self.drawn.values() if d.areas)
        self.show_chosen_area()

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
            shapes.append((area.ring, t.depth_colour(area.depth), pen))
        return shapes

    def show_chosen_area(self) -> None:
        """Light up the area of what is chosen, apart from all others, so that choosing costs the same in any site."""
        if self.theme is None:
            return
        thing, t = self._session.chosen.thing, self.theme
        drawn = [d for d in (self.drawn.get(thing), self.drawn.get(_outline_of(thing))) if d] if thing else []
        areas = [a for d in drawn for a in d.areas if a.role != "pad" and a.thing == thing]
        self.chosen_area.show_shapes([(a.ring, t.colour("chosen", 26), t.pen("chosen", 2.0)) for a in areas])

    def show_labels(self) -> None:
        """Put labels where they belong."""
        settings = self._session.site.settings
        old = self._labels_of if self._labels_in is settings else {}
        self._labels_in, self._labels_of = settings, {}
        for d in self.drawn.values():
            if not d.labels:
                continue
            kept = old.get(id(d))
            if kept is None or kept[0] is not d:
                kept = d, [_label(la, settings) for la in d.labels]
            self._labels_of[id(d)] = kept
        self._view.labels.show_labels([la for _, labels in self._labels_of.values() for la in labels])

    def recolour(self) -> None:
        """Show areas and labels in the colours of another theme."""
        self.show_areas()
        self.show_labels()


_RANK_LEAST = {
    2: 1.8,
    3: 0.8,
    4: 3.0,
    5: 7.0,
    8: 0.5,
}  # pixels to a metre from which labels of a rank are worth placing


def _label(label: describe.Label, settings: object) -> Label:
    text = label.words if label.unit == "text" else show(label.unit, label.value, settings)  # type: ignore[arg-type]
    if label.state == "set":
        text = f"● {text}"
    least = _RANK_LEAST.get(label.rank, 0.0)
    return Label(*label.place, text, label.role, label.size, label.weight, label.rank, label.centred, least)
