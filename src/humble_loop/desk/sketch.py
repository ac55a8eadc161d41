"""Drawing a street by clicking: it snaps to a street's centreline, squares up to it, and is engineered as it grows."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeyEvent

from humble_loop.desk.values import show
from humble_loop.desk.view import DrawingView
from humble_loop.engine.query import Cancelled, Unsolved
from humble_loop.formats.quantities import NotAQuantity, parse_length
from humble_loop.geometry.arrays import Floats, bearing_of
from humble_loop.geometry.bends import BendInput, chain_from_bends
from humble_loop.geometry.tangential import (
    Arc,
    Step,
    arc_to,
    drawn,
    heading_towards,
    last_arc,
    place_on_arc,
    radii,
)
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.bends import proposed_radius
from humble_loop.kinds.street.depth import DepthBand, depth_band
from humble_loop.kinds.street.edits import add_street, like_the_last
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.model import Bend, Street
from humble_loop.kinds.street.plan import class_of
from humble_loop.kinds.street.snap import SQUARE, Snap, angle_between, snap_to_street, squared_from_arc, squared_up
from humble_loop.lines.describe import Place
from humble_loop.lines.line import ThingId
from humble_loop.site import parts
from humble_loop.site.edits import Edit, free_id, free_name
from humble_loop.site.library import StreetClass
from humble_loop.site.model import Site

_EXACTLY = 1e-6  # degrees from a right angle that are a matter of rounding
_PATIENCE = 0.05  # seconds in which depths are told under the moving hand


class Sketch:
    """One street being drawn.

    The site is previewed with the street in it, so its returns, batters, cut and fill are the real ones; it is the
    chosen thing meanwhile, so that its sections are seen as it grows. Places are measured from the site's origin.
    """

    def __init__(
        self, plan: DrawingView, show_band: Callable[[DepthBand | None], None], ended: Callable[[], None]
    ) -> None:
        self._plan, self._session, self._show_band, self._ended = plan, plan.session, show_band, ended
        self._before = self._session.chosen.thing
        self._like = like_the_last(self._session.site, self._before.id if self._before else "")
        self._meets = ""
        self._session.begin()
        self._points: list[Place] = []
        self._steps: list[Step] = []  # from the first point to the second, and so on
        self._by_arc = False  # whether the next step is an arc
        self._heading: float | None = None
        self._cursor: Place | None = None
        self._text = ""
        self._name = free_name(self._session.site, Street, "Street")
        self.id = free_id(self._session.site, Street, self._name)
        self._say("click where the street begins; near a centreline it snaps")

    def move(self, place: Place, reach: float) -> None:
        """The mouse is at a place."""
        self._cursor, _ = self._held(place, reach)
        self._show()

    def click(self, place: Place, reach: float) -> None:
        """Put a point down."""
        at, snap = self._held(place, reach)
        if not self._points:
            self._heading = snap.heading if snap else None
        elif np.hypot(at[0] - self._points[-1][0], at[1] - self._points[-1][1]) < 0.5:
            return
        if self._points:
            self._steps.append(Step("arc" if self._by_arc else "straight", at))
        self._points.append(at)
        self._text = ""
        if len(self._points) > 1 and snap is not None:
            self.finish()
            return
        self._cursor = at
        self._show()

    def _held(self, place: Place, reach: float) -> tuple[Place, Snap | None]:
        """The place after snapping, squaring up and a typed length, and what it snapped to."""
        q = self._session.engine
        snap = snap_to_street(q, place, reach, self.id)
        self._meets = f"on {snap.words}" if snap else ""
        if not self._points:
            return (snap.place if snap else place), snap
        if self._by_arc and (end := drawn(self._points[0], self._steps).end) is not None:
            return self._on_arc(end, snap.place if snap else place, snap)
        if snap is not None:
            arc = last_arc(self._points[0], self._steps)
            snap = squared_from_arc(q, snap, arc) if arc else squared_up(q, snap, self._points[-1])
            angle = self._angle(snap, arc)
            square = (
                "square" if abs(angle - 90.0) < _EXACTLY else f"at {show('angle', angle, self._session.site.settings)}"
            )
            self._meets = f"meets {snap.words} {square}"
            return snap.place, snap
        last = np.array(self._points[-1])
        d = np.array(place) - last
        if len(self._points) == 1 and self._heading is not None:
            side = np.array([-np.sin(self._heading), np.cos(self._heading)])
            along = float(d @ side)
            if abs(along) > 1e-6 and np.arccos(np.clip(abs(along) / np.hypot(*d), -1, 1)) < SQUARE:
                d = side * along
                self._meets = "leaves square"
        if self._text:
            try:
                length = parse_length(self._text, self._session.site.settings.units)
                d = d / max(float(np.hypot(*d)), 1e-9) * length
            except NotAQuantity:
                pass
        at = last + d
        return (float(at[0]), float(at[1])), None

    def _angle(self, snap: Snap, arc: Arc | None) -> float:
        """Degrees at which the leg under the hand meets a street; from an arc it leaves that tangentially."""
        heading = heading_towards(arc, snap.place) if arc else None
        if heading is None:
            return angle_between(snap, self._points[-1])
        turn = float(np.degrees(heading - snap.heading)) % 180.0
        return min(turn, 180.0 - turn)

    def _on_arc(self, end: tuple[Floats, float], place: Place, snap: Snap | None) -> tuple[Place, Snap | None]:
        """The end of an arc that leaves the line tangentially: at a place, or of a typed radius as near to it as it gets."""
        if not self._text:
            return place, snap
        try:
            radius = parse_length(self._text, self._session.site.settings.units)
        except NotAQuantity:
            return place, snap
        return (place_on_arc(end, radius, place), None) if radius > 0 else (place, snap)

    def _bends(self, points: list[Place]) -> list[Bend]:
        """Bends through ``points`` with the radius that is drawn, or that their class proposes, or the largest that fits."""
        radius = proposed_radius(parts.one(self._session.engine, StreetClass, self._like["street_class"]))
        corners = drawn(points[0], self._all_steps(points)).vertices
        made = [BendInput(*v.place, r) for v, r in zip(corners, radii(corners, radius), strict=True)]
        problems = chain_from_bends(made)[1]
        largest = {
            p.index: float(np.floor(p.largest))
            for p in problems
            if p.kind == "radius" and corners[p.index].radius is None
        }
        e, n = self._origin(points)
        return [
            Bend(easting=b.easting + e, northing=b.northing + n, radius=largest.get(i, b.radius))
            for i, b in enumerate(made)
        ]

    def _all_steps(self, points: list[Place]) -> list[Step]:
        """The steps between ``points``: those put down, and the one under the hand."""
        under_hand = [Step("arc" if self._by_arc else "straight", p) for p in points[len(self._steps) + 1 :]]
        return [*self._steps[: len(points) - 1], *under_hand]

    def _origin(self, points: list[Place]) -> tuple[float, float]:
        del points
        return parts.origin(self._session.engine)

    def _edit(self, points: list[Place], *, turned: bool = False) -> Edit:
        def edit(site: Site) -> Site:
            bends = self._bends(points)
            return add_street(site, self._name, bends[::-1] if turned else bends, **self._like)

        return edit

    def _show(self) -> None:
        points = [*self._points, self._cursor] if self._cursor else list(self._points)
        if len(points) >= 2 and np.hypot(points[-1][0] - points[-2][0], points[-1][1] - points[-2][1]) < 0.01:
            points.pop()
        if len(points) < 2:
            first = "click where the street begins; near a centreline it snaps"
            self._say("click the next point" if self._points else first)
            return
        why = self._session.preview(self._edit(points))
        self._session.choose(ThingId("street", self.id))
        told = [self._leg(points), self._meets]
        try:
            with self._session.engine.within(_PATIENCE):
                band = depth_band(self._session.engine, self.id)
                told += [self._grades(points), self._depth(band)]
        except Cancelled:
            band = None  # it is shown when the hand rests
        except Unsolved as unsolved:
            band = None
            why = why or unsolved.message
        self._show_band(band)
        other = "straight on" if self._by_arc else "an arc"
        ends = f"A for {other}; double-click or Enter ends it, Esc gives it up"
        self._say("<br>".join(words for words in (*told, why, ends) if words))

    def _leg(self, points: list[Place]) -> str:
        """The last leg's length and bearing; of an arc its radius and how far it turns."""
        settings = self._session.site.settings
        if self._by_arc and (made := drawn(points[0], self._all_steps(points)[:-1]).end) is not None:
            arc = arc_to(*made, points[-1])
            typed = f" (typed {self._text})" if self._text else ""
            turn = show("turn", float(np.degrees(arc.sweep)), settings)
            return f"arc of radius <b>{show('length', abs(arc.radius), settings)}</b>{typed}, turns {turn}"
        d = np.array(points[-1]) - points[-2]
        bearing = float(bearing_of(np.arctan2(d[1], d[0])))
        typed = f" (typed {self._text})" if self._text else ""
        return f"leg <b>{show('length', float(np.hypot(*d)), settings)}</b>{typed}, bearing {show('bearing', bearing, settings)}"

    def _grades(self, points: list[Place]) -> str:
        """How the ground falls along the last leg, and the grade line that is proposed there."""
        q, settings = self._session.engine, self._session.site.settings
        ends = ground_of(q).levels(np.array(points[-2:]))
        length = float(np.hypot(*(np.array(points[-1]) - points[-2])))
        ground = float(ends[1] - ends[0]) / max(length, 1e-9)
        grade, rules = float(grade_line(q, self.id).profile.grades[-1]), class_of(q, self.id)
        steep = abs(grade) > rules.most_grade
        words = f"ground {show('grade', ground, settings)}, grade <b>{show('grade', grade, settings)}</b>"
        return words + (f": more than {show('grade', rules.most_grade, settings)}" if steep else "")

    def _depth(self, band: DepthBand) -> str:
        """Cut or fill at the end that is being drawn, and how far its batters reach."""
        settings, depth = self._session.site.settings, float(band.depths[-1])
        if not np.isfinite(depth):
            return "no ground here"
        left, right = (show("length", float(r), settings) for r in band.reach[-1])
        word = "cut" if depth < 0 else "fill"
        return f"{word} <b>{show('length', abs(depth), settings)}</b> here, batters reach {left} left, {right} right"

    def _say(self, words: str) -> None:
        at = self._plan.pixel(self._cursor) if self._cursor else QPoint(20, 20)
        self._plan.tag.show_at(at, [f"<b>{self._name}</b>", words])

    def key(self, event: QKeyEvent) -> bool:
        """Take a key; returns whether it was for the sketch."""
        if event.key() == Qt.Key.Key_Escape:
            self.cancel()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if self._text and self._cursor is not None and self._points:
                self.click(self._cursor, 0.0)
            else:
                self.finish()
        elif event.key() == Qt.Key.Key_Backspace:
            if self._text:
                self._text = self._text[:-1]
            elif self._points:
                self._points.pop()
                self._steps = self._steps[: max(len(self._points) - 1, 0)]
            self._show()
        elif event.text() in ("a", "A"):
            self._by_arc, self._text = not self._by_arc, ""
            self._show()
        elif event.text() and (event.text().isdigit() or event.text() in ".+-*/mftin "):
            self._text += event.text()
            if self._cursor is not None:
                self._cursor, _ = self._held(self._cursor, 0.0)
            self._show()
        else:
            return False
        return True

    def finish(self) -> None:
        """Keep the street, if it has two points."""
        if len(self._points) < 2:
            self.cancel()
            return
        # Drawn towards a street, it is kept leaving from there, so that a head can stand at its free end.
        q = self._session.engine
        first, last = self._points[0], self._points[-1]
        turned = bool(snap_to_street(q, last, 0.05, self.id)) and not snap_to_street(q, first, 0.05, self.id)
        if why := self._session.preview(self._edit(self._points, turned=turned)):
            self._say(f"{why}<br>Backspace takes the last point back")
            return
        self._session.commit(f"Draw {self._name}")
        self._ended()
        self._session.choose(ThingId("street", self.id))

    def cancel(self) -> None:
        """Give the street up; everything is as before."""
        self._session.cancel()
        self._ended()
        self._session.choose(self._before)
