"""The cross section at the cursor."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtWidgets import QWidget

from humble_loop.desk.drawing import CrossView, cross_view
from humble_loop.desk.follower import Follower
from humble_loop.desk.layers import Label, PolygonLayer
from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme
from humble_loop.desk.view import DrawingView
from humble_loop.engine.query import Unsolved
from humble_loop.formats.quantities import show_chainage, show_grade, show_length
from humble_loop.kinds.street.plan import centreline
from humble_loop.lines.describe import Place

_STRETCH = 5.0  # levels are drawn this much larger than distances, so that a crossfall can be seen


_CLEAR = {"lip": -0.14, "toe": -0.14}  # metres from a point to its level: lips and toes have theirs below


class CrossSection(DrawingView):
    """Design and ground across the chosen street, looking along increasing chainage."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent, axes=False)
        self.plotItem.vb.setAspectLocked(True, ratio=1.0 / _STRETCH)
        self._ground, self._design = self.curve(3), self.curve(6)
        self._between = PolygonLayer(1)
        self.add_layer(self._between)
        self._fitted: str | None = None
        self._crown = 0.0
        # It may need batters, or a cut through the whole surface, so it follows a drag at a slower pace.
        self._follower = Follower(session, self.refresh, self, lambda: False, apart=0.5)
        session.chosen_changed.connect(self.refresh)
        session.cursor_moved.connect(self._on_cursor)

    def _on_cursor(self) -> None:
        if not self.session.dragging:
            self.refresh()

    def paint_in(self, theme: Theme) -> None:
        super().paint_in(theme)
        self._ground.setPen(theme.pen("ground", 1.3, Qt.PenStyle.DashLine))
        self._design.setPen(theme.pen("crown", 2.0))
        self.refresh()

    def refresh(self) -> None:
        """Show the section at the cursor's chainage, or half way along the chosen street."""
        q, street = self.session.engine, self.session.street
        if self.theme is None or not self.isVisible():
            return
        if not street or isinstance(line := q.attempt(centreline, street), Unsolved):
            self._ground.setData([], [])
            self._design.setData([], [])
            self._between.show_shapes([])
            self.labels.show_labels([Label(0, 0, "choose a street", "quiet", 12, 400, 0, True)])
            return
        s = self._chainage(line.chain.total)
        made = cross_view(q, street, s)
        self._ground.setData(made.ground[:, 0], made.ground[:, 1])
        self._design.setData(made.design[:, 0], made.design[:, 1])
        crown = (
            made.crown
            if np.isfinite(made.crown)
            else float(np.nanmean(made.ground[:, 1]))
            if np.isfinite(made.ground[:, 1]).any()
            else 0.0
        )
        # The section follows the crown from place to place, but stays still while something is dragged.
        if self._fitted != street:
            self._fitted = street
            reach = (
                1.15 * max(abs(float(made.design[0, 0])), abs(float(made.design[-1, 0]))) if len(made.design) else 12.0
            )
            reach = float(np.clip(reach, 6.0, 16.0))
            self.plotItem.vb.setRange(QRectF(-reach, crown - 1.0, 2 * reach, 2.0), padding=0)
        elif not self.session.dragging:
            self.plotItem.vb.translateBy(y=crown - self._crown)
        if not self.session.dragging:
            self._crown = crown
        self._show_fill(made.design, made.ground)
        self._show_labels(made)

    def fit(self) -> None:
        """Show the whole section again."""
        self._fitted = None
        self.refresh()

    def _chainage(self, total: float) -> float:
        station = self.session.station
        here = station is not None and getattr(station.line, "street", "") == self.session.street
        return station.chainage if here and station else 0.5 * total

    def caption(self) -> str:
        """The chainage shown, in words; '' when no street is."""
        q, street, settings = self.session.engine, self.session.street, self.session.site.settings
        line = q.attempt(centreline, street) if street else None
        if line is None or isinstance(line, Unsolved):
            return ""
        return show_chainage(self._chainage(line.chain.total), settings.chainage_format, settings.units)

    def _show_fill(self, design: np.ndarray, ground: np.ndarray) -> None:
        assert self.theme is not None
        known = ground[np.isfinite(ground[:, 1])]
        design = design[np.isfinite(design[:, 1])]
        if len(design) < 3 or len(known) < 2:
            self._between.show_shapes([])
            return
        x = np.unique(
            np.concatenate([design[:, 0], known[(known[:, 0] > design[0, 0]) & (known[:, 0] < design[-1, 0]), 0]])
        )
        d, g = np.interp(x, design[:, 0], design[:, 1]), np.interp(x, known[:, 0], known[:, 1])
        none = self.theme.pen("paper", 0.0, alpha=0)
        shapes = []
        for low, high, role in ((np.minimum(d, g), g, "cut"), (g, np.maximum(d, g), "fill")):
            ring = np.concatenate([np.column_stack([x, high]), np.column_stack([x, low])[::-1]])
            shapes.append((ring, self.theme.colour(role, 60), none))
        self._between.show_shapes(shapes)

    def _show_labels(self, made: CrossView) -> None:
        unit, design, names = self.session.site.settings.units, made.design, made.names
        labels = []
        points = dict(zip(names, design)) if names and "crown" in names else {}
        if points:
            k = names.index("crown")
            for i in (k - 1, k + 1):
                if 0 <= i < len(names):
                    run = design[i] - design[k]
                    middle = 0.5 * (design[i] + design[k])
                    labels.append(
                        Label(
                            middle[0],
                            middle[1] + 0.1,
                            show_grade(float(run[1] / abs(run[0]))),
                            "crown",
                            12,
                            500,
                            1,
                            True,
                        )
                    )
        for i, (name, p) in enumerate(zip(names, design)):
            side = "left" if i < (names.index("crown") if "crown" in names else 0) else "right"
            if name in ("crown", "lip", "boundary", "toe"):
                role = {"crown": "crown", "lip": f"{side}_lip"}.get(name, "quiet")
                labels.append(
                    Label(
                        p[0],
                        p[1] + _CLEAR.get(name, 0.1),
                        f"{name} {show_length(float(p[1]), unit)}",
                        role,
                        11,
                        500 if name == "crown" else 400,
                        2,
                    )
                )
        if made.words:
            labels.append(Label(0, self._crown, made.words, "quiet", 12, 400, 3, True))
        self.labels.show_labels(labels)

    def zoom(self, factor: float, about: Place, keys: Qt.KeyboardModifier) -> None:
        del keys
        self.plotItem.vb.scaleBy((factor, factor), center=about)
