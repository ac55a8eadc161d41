"""The finished surface over the ground in three dimensions."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QVBoxLayout, QWidget

from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme
from humble_loop.ground.surface import Surface
from humble_loop.solve import parts
from humble_loop.solve.engine import Unsolved
from humble_loop.solve.surface import all_pieces, finished_mesh

_COLOURS = {
    "carriageway": "#8C8B88",
    "junction": "#96948F",
    "bulb": "#96948F",
    "roadside": "#C9BFA6",
    "batter": "#A9B88A",
    "lot": "#C7D0A2",
}
_LIFT = 0.02  # metres by which the design is drawn above coincident ground


class SolidView(QWidget):
    """A 3D view; it is made when first shown, since it needs a graphics context."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._theme: Theme | None = None
        self._plotter: object = None
        self._meshes: dict[object, tuple[Surface, object]] = {}  # what each mesh was made from, and the mesh
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
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

            plotter = QtInteractor(self, auto_update=False)
            self.layout().addWidget(plotter)
            self._plotter = plotter
            plotter.enable_anti_aliasing("ssaa")
            if self._theme is not None:
                plotter.set_background(self._theme.paper)
        self.refresh()
        self._plotter.view_isometric()  # type: ignore[attr-defined]
        self._plotter.camera.elevation = -8  # type: ignore[attr-defined]
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
        wanted: dict[object, tuple[Surface, str]] = {}
        ground = parts.current_surface(q)
        if ground is not None:
            wanted["ground"] = (ground, "#B79A78")
        for piece in all_pieces(q):
            made = q.attempt(finished_mesh, piece)
            if not isinstance(made, Unsolved) and not made.surface.empty:
                wanted[piece] = (made.surface, _COLOURS.get(made.kind, "#C9BFA6"))
        for key in [k for k in self._meshes if k not in wanted]:
            plotter.remove_actor(str(key))  # type: ignore[attr-defined]
            del self._meshes[key]
        for key, (surface, colour) in wanted.items():
            if key in self._meshes and self._meshes[key][0] is surface:
                continue
            self._meshes[key] = surface, self._add(str(key), surface, colour, key == "ground")
        plotter.render()  # type: ignore[attr-defined]

    def _add(self, name: str, surface: Surface, colour: str, is_ground: bool) -> object:
        import pyvista

        points = surface.points - [*self._origin(), 0.0]
        points[:, 2] += 0.0 if is_ground else _LIFT
        faces = np.column_stack([np.full(len(surface.triangles), 3), surface.triangles]).ravel()
        mesh = pyvista.PolyData(points, faces)
        self._plotter.add_mesh(  # type: ignore[attr-defined]
            mesh,
            color=colour,
            name=name,
            smooth_shading=False,
            opacity=0.55 if is_ground else 1.0,
            show_edges=False,
            ambient=0.35,
            diffuse=0.7,
            specular=0.0,
            reset_camera=False,
        )
        return mesh

    def _origin(self) -> tuple[float, float]:
        surface = parts.current_surface(self._session.engine)
        if surface is not None:
            return surface.bounds[:2]
        first = self._session.site.streets[0].bends[0] if self._session.site.streets else None
        return (first.easting, first.northing) if first else (0.0, 0.0)

    def close_view(self) -> None:
        """Let go of the graphics context."""
        if self._plotter is not None:
            self._plotter.close()  # type: ignore[attr-defined]
            self._plotter = None
            self._meshes.clear()
