"""The finished surface over the ground in three dimensions."""

from __future__ import annotations

import importlib
import threading
from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from humble_loop.desk.idle import IdleWork
from humble_loop.desk.session import Session
from humble_loop.desk.solid_scene import Lines3D, contours, edges_of, tones_of
from humble_loop.desk.theme import Theme
from humble_loop.engine.query import Unsolved
from humble_loop.ground.surface import Surface
from humble_loop.lines.faces import FaceId, Piece, finished_mesh
from humble_loop.lines.line import ThingId
from humble_loop.whole.overlaps import counted, ground_left
from humble_loop.whole.things import all_faces, all_things, thing_of

STRETCHES = (1.0, 2.0, 3.0, 5.0)
_LIBRARY = "pyvistaqt"  # heavy, and wanted only here
_LOOK = 60  # milliseconds between two looks at whether the library is there


class SolidView(QWidget):
    """A 3D view. It is made when first shown, since it needs a graphics context, and filled piece by piece."""

    stretched = Signal(float)  # how many times larger levels are drawn than distances

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._theme: Theme | None = None
        self._plotter: Any = None
        self._meshes: dict[object, tuple[object, Any]] = {}  # what each mesh was made from, and the mesh
        self.stretch = 1.0
        self._wait = QLabel("Making the view …")
        self._wait.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._wait.setProperty("role", "quiet")
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.addWidget(self._wait)
        self._loading: threading.Thread | None = None
        self._loaded = QTimer(self)
        self._loaded.setInterval(_LOOK)
        self._loaded.timeout.connect(self._if_loaded)
        self._work = IdleWork(self, lambda seconds: session.engine.within(seconds))
        self._seen = False
        session.changed.connect(self._if_visible)
        session.chosen_changed.connect(self._orbit_chosen)

    def paint_in(self, theme: Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        if self._plotter is not None:
            self._plotter.set_background(theme.paper)

    @property
    def busy(self) -> bool:
        """Whether something is still to be shown."""
        return self._loaded.isActive() or self._work.busy

    def _if_visible(self) -> None:
        if self.isVisible() and not self._session.dragging and self._plotter is not None:
            self.refresh(after=250)

    def open(self) -> None:
        """Make the view and look at the whole design; the window stays free meanwhile."""
        if self._plotter is not None:
            self.refresh()
        elif self._loading is None:
            self._loading = threading.Thread(target=importlib.import_module, args=(_LIBRARY,), daemon=True)
            self._loading.start()
            self._loaded.start()

    def _if_loaded(self) -> None:
        if self._loading is not None and self._loading.is_alive():
            return
        self._loaded.stop()
        from pyvistaqt import QtInteractor  # in memory by now

        self._plotter = QtInteractor(self, auto_update=False)
        self._wait.hide()
        self._column.addWidget(self._plotter)
        self._plotter.enable_anti_aliasing("ssaa")
        if self._theme is not None:
            self._plotter.set_background(self._theme.paper)
        self._plotter.set_scale(zscale=self.stretch)
        self.stretched.emit(self.stretch)
        self.refresh()

    def choose_stretch(self, stretch: float | None) -> None:
        """Draw levels ``stretch`` times as large as distances; None for 1."""
        self.stretch = stretch or 1.0
        if self._plotter is not None:
            self._plotter.set_scale(zscale=self.stretch)
            self.fit()
        self.stretched.emit(self.stretch)

    def fit(self) -> None:
        """Look at the whole design again, or at what is chosen."""
        if self._plotter is None:
            return
        self._plotter.view_isometric()
        self._plotter.camera.elevation = -8
        box = self._box(None)
        if box is not None:
            low, high = box
            self._plotter.reset_camera(bounds=(low[0], high[0], low[1], high[1], low[2], high[2]))
            self._plotter.camera.zoom(1.5)
        self._orbit_chosen()
        self._plotter.render()

    def nearer(self, times: float) -> None:
        """Look closer, or from farther away."""
        if self._plotter is not None:
            self._plotter.camera.zoom(times)
            self._plotter.render()

    def _orbit_chosen(self) -> None:
        """Turn about the thing that is chosen: the eye keeps its distance and direction to it."""
        thing = self._session.chosen.thing
        if self._plotter is None or thing is None or not self.isVisible():
            return
        box = self._box(thing)
        if box is None:
            return
        camera, middle = self._plotter.camera, 0.5 * (box[0] + box[1])
        eye = np.array(camera.position) + middle - np.array(camera.focal_point)
        camera.focal_point, camera.position = tuple(middle), tuple(eye)
        self._plotter.render()

    def _box(self, thing: ThingId | None) -> tuple[np.ndarray, np.ndarray] | None:
        """Low and high corner, as drawn, of a thing's faces, or of all of the design."""
        keys, q = [k for k in self._meshes if not isinstance(k, str | tuple)], self._session.engine
        if thing is not None:
            keys = [k for k in keys if isinstance(k, FaceId) and thing_of(q, k) == thing]
        if not keys:
            return None
        b = np.array([self._meshes[k][1].bounds for k in keys])
        scale = np.array([1.0, 1.0, self.stretch])
        return b[:, ::2].min(axis=0) * scale, b[:, 1::2].max(axis=0) * scale

    # What is shown

    def refresh(self, after: int = 0) -> None:
        """Show the design as it is now, piece by piece; only pieces that changed are made again."""
        if self._plotter is None:
            return
        q = self._session.engine
        faces, things = all_faces(q), all_things(q)
        wanted = {"ground", "contours", *faces, *(("edges", t) for t in things)}
        steps: list[Callable[[], object]] = [partial(self._drop, key) for key in self._meshes if key not in wanted]
        steps += [partial(self._show_face, id) for id in faces]
        steps += [partial(self._show_lines, ("edges", t), partial(q.attempt, edges_of, t)) for t in things]
        steps += [self._show_ground, partial(self._show_lines, "contours", partial(q.attempt, contours)), self._shown]
        self._work.begin(steps, after)

    def _shown(self) -> None:
        if not self._seen:
            self._seen = True
            self.fit()
        self._plotter.render()

    def _drop(self, key: object) -> None:
        self._plotter.remove_actor(str(key), render=False)
        self._meshes.pop(key, None)

    def _show_ground(self) -> None:
        ground = self._session.engine.attempt(ground_left)
        if not isinstance(ground, Unsolved):
            self._show_surface("ground", ground, None)

    def _show_face(self, id: FaceId) -> None:
        q = self._session.engine
        piece, once = q.attempt(finished_mesh, id), q.attempt(counted, id)
        if isinstance(piece, Unsolved) or isinstance(once, Unsolved):
            if id in self._meshes:
                self._drop(id)
            return
        # Where another face has taken part of it, its triangles are others than those whose roles are known.
        whole = once is piece.surface
        self._show_surface(id, once, piece if whole else _of_one_role(piece, len(once.triangles)))

    def _show_surface(self, key: object, surface: Surface, piece: Piece | None) -> None:
        import pyvista

        if key in self._meshes and self._meshes[key][0] is surface:
            return
        if surface.empty:
            if key in self._meshes:
                self._drop(key)
            return
        faces = np.column_stack([np.full(len(surface.triangles), 3), surface.triangles]).ravel()
        mesh = pyvista.PolyData(surface.points, faces)
        tones = tones_of(piece, len(surface.triangles))
        self._put(key, surface, mesh, tones, smooth_shading=False, ambient=0.35, diffuse=0.7, specular=0.0)

    def _show_lines(self, key: object, ask: Callable[[], Lines3D | Unsolved]) -> None:
        import pyvista

        made = ask()
        if isinstance(made, Unsolved) or not len(made.points):
            if key in self._meshes:
                self._drop(key)
            return
        if key in self._meshes and self._meshes[key][0] is made:
            return
        starts = np.concatenate([[0], np.cumsum(made.counts)])
        cells = np.insert(np.arange(len(made.points)), starts[:-1], made.counts)
        mesh = pyvista.PolyData(np.array(made.points), lines=cells)
        width = 1.0 if key == "contours" else 1.7
        self._put(key, made, mesh, made.colours.astype(np.uint8), line_width=width, lighting=False)

    def _put(self, key: object, source: object, mesh: Any, tones: np.ndarray, **how: Any) -> None:
        """Show a mesh, made from ``source``, with a colour (m, 3) for each of its cells, in place of the one before."""
        mesh.cell_data["tone"] = tones
        self._meshes[key] = source, mesh
        self._plotter.add_mesh(mesh, scalars="tone", rgb=True, name=str(key), reset_camera=False, render=False, **how)

    def close_view(self) -> None:
        """Let go of the graphics context."""
        self._loaded.stop()
        self._work.stop()
        if self._plotter is not None:
            self._plotter.close()
            self._plotter = None
            self._meshes.clear()


def _of_one_role(piece: Piece, triangles: int) -> Piece:
    return Piece(piece.title, piece.role, piece.surface, piece.lines, (piece.role,), np.zeros(triangles, np.int64))
