"""The finished surface over the ground in three dimensions."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QVBoxLayout, QWidget

from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme
from humble_loop.engine.query import Unsolved
from humble_loop.ground.surface import Surface
from humble_loop.lines.faces import Piece, finished_mesh
from humble_loop.whole.overlaps import ground_left
from humble_loop.whole.things import all_faces

_COLOURS = {
    "carriageway": "#7F8084",
    "junction": "#7F8084",
    "bulb": "#7F8084",
    "kerb": "#D8D6CF",
    "path": "#C9B99A",
    "verge": "#9DB27E",
    "batter": "#B3A36F",
    "lot": "#C3CF9E",
    "ground": "#C0A27C",
}
_OTHER = "#C9BFA6"


class SolidView(QWidget):
    """A 3D view; it is made when first shown, since it needs a graphics context."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._theme: Theme | None = None
        self._plotter: object = None
        self._meshes: dict[object, tuple[Surface, object]] = {}  # what each mesh was made from, and the mesh
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(250)
        self._later.timeout.connect(self.refresh)
        session.changed.connect(self._if_visible)

    def paint_in(self, theme: Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        if self._plotter is not None:
            self._plotter.set_background(theme.paper)  # type: ignore[attr-defined]

    def _if_visible(self) -> None:
        if self.isVisible() and not self._session.dragging:
            self._later.start()

    def open(self) -> None:
        """Make the view and look at the whole design."""
        if self._plotter is None:
            from pyvistaqt import QtInteractor  # heavy, and wanted only here

            plotter: Any = QtInteractor(self, auto_update=False)
            self._column.addWidget(plotter)
            self._plotter = plotter
            plotter.enable_anti_aliasing("ssaa")
            if self._theme is not None:
                plotter.set_background(self._theme.paper)
        self.refresh()
        self._plotter.view_isometric()  # type: ignore[attr-defined]
        self._plotter.camera.elevation = -8  # type: ignore[attr-defined]
        self._look_at_design()

    def fit(self) -> None:
        """Look at the whole design again."""
        if self._plotter is not None:
            self._look_at_design()

    def _look_at_design(self) -> None:
        plotter = self._plotter
        bounds = [m.bounds for key, (_, m) in self._meshes.items() if key != "ground"]  # type: ignore[attr-defined]
        if bounds:
            b = np.array(bounds)
            low, high = b[:, ::2].min(axis=0), b[:, 1::2].max(axis=0)
            plotter.reset_camera(bounds=(low[0], high[0], low[1], high[1], low[2], high[2]))  # type: ignore[attr-defined]
            plotter.camera.zoom(1.5)  # type: ignore[attr-defined]
        plotter.render()  # type: ignore[attr-defined]

    def refresh(self) -> None:
        """Show the surface as it is now; only pieces that changed are made again."""
        plotter = self._plotter
        if plotter is None:
            return
        q = self._session.engine
        wanted: dict[object, tuple[Surface, Piece | None]] = {}
        ground = q.attempt(ground_left)
        if not isinstance(ground, Unsolved) and not ground.empty:
            wanted["ground"] = (ground, None)
        for id in all_faces(q):
            made = q.attempt(finished_mesh, id)
            if not isinstance(made, Unsolved) and not made.surface.empty:
                wanted[id] = (made.surface, made)
        for key in [k for k in self._meshes if k not in wanted]:
            plotter.remove_actor(str(key))  # type: ignore[attr-defined]
            del self._meshes[key]
        for key, (surface, piece) in wanted.items():
            if key in self._meshes and self._meshes[key][0] is surface:
                continue
            self._meshes[key] = surface, self._add(str(key), surface, piece)
        plotter.render()  # type: ignore[attr-defined]

    def _add(self, name: str, surface: Surface, piece: Piece | None) -> object:
        """A mesh with a tone for each role: kerbs, paths, verges and pads are told apart."""
        import pyvista

        points = surface.points
        faces = np.column_stack([np.full(len(surface.triangles), 3), surface.triangles]).ravel()
        mesh = pyvista.PolyData(points, faces)
        roles = ("ground",) if piece is None else piece.roles
        tones = np.array([_rgb(_COLOURS.get(r, _OTHER)) for r in roles], dtype=np.uint8)
        which = np.zeros(len(surface.triangles), dtype=np.int64) if piece is None else piece.role_of
        mesh.cell_data["tone"] = tones[which]
        self._plotter.add_mesh(  # type: ignore[attr-defined]
            mesh,
            scalars="tone",
            rgb=True,
            name=name,
            smooth_shading=False,
            show_edges=False,
            ambient=0.35,
            diffuse=0.7,
            specular=0.0,
            reset_camera=False,
        )
        return mesh

    def close_view(self) -> None:
        """Let go of the graphics context."""
        if self._plotter is not None:
            self._plotter.close()  # type: ignore[attr-defined]
            self._plotter = None
            self._meshes.clear()


def _rgb(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)
