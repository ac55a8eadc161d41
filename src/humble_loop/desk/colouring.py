"""The plan coloured by how the chosen street falls across, or lies over the old surface: each piece with its figure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QColor, QPen
from PySide6.QtWidgets import QMenu, QToolButton

from humble_loop.desk.idle import IdleWork
from humble_loop.desk.layers import Label, LabelLayer, PolygonLayer, Shape
from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.formats.quantities import show_grade, show_length
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.street.crossfalls import Across, crossfalls
from humble_loop.kinds.street.plan import chain_of, class_of, is_new
from humble_loop.site.model import SIDES, side_sign

NOTHING, CROSSFALL, OVER, PATHS = "No colour", "Crossfall", "Height over the old surface", "Fall of paths"
KINDS = (NOTHING, CROSSFALL, OVER, PATHS)
_STEP = 2.0  # metres of a piece along the street
_PIECES = 600  # of one side at most: longer ones on a long street
_FIGURES = 10  # pieces from one figure to the next
_DEEP = 0.15  # metres over the old surface, or under it, at which its colour is at its strongest
_PATH = 0.01, 0.04  # falls of a path to the kerb between which it drains and is easy to walk: typical
_ALPHA = 150


@dataclass(frozen=True)
class Coloured:
    """Pieces of a street between ``chainages`` (n / 2 + 1,), those of its left side first: corners (n, 4, 2), and of each its value (n,), NaN for none; ``low`` and ``high`` are what it should keep to,
    where something is asked.
    """

    chainages: Floats
    corners: Floats
    values: Floats
    low: float | None
    high: float | None


@query
def coloured(q: Engine, street: str, kind: str) -> Coloured:
    """What a street is coloured by, piece by piece between its rows. Raises Unsolved where it has no levels."""
    step = max(_STEP, chain_of(q, street).total / _PIECES)
    made, rules = crossfalls(q, street, step), class_of(q, street)
    corners, values = [], []
    for side in SIDES:
        a = made.side(side)
        inner, outer, value = _of_side(kind, a, made.over)
        sign, s = side_sign(side), made.chainages
        p, r = (chain_of(q, street).points_at(s, sign * v) for v in (inner, outer))
        corners.append(np.stack([p[:-1], p[1:], r[1:], r[:-1]], axis=1))
        values.append(0.5 * (value[:-1] + value[1:]))
    asked: tuple[float | None, float | None] = {
        CROSSFALL: (rules.least_crossfall, rules.most_crossfall), PATHS: _PATH, OVER: (None, None)
    }[kind]  # fmt: skip
    return Coloured(made.chainages, frozen(np.concatenate(corners)), frozen(np.concatenate(values)), *asked)


def _of_side(kind: str, a: Across, crown_over: Floats) -> tuple[Floats, Floats, Floats]:
    """Where pieces of a side lie, from and to (metres from the crown), and the value of each."""
    nothing = np.zeros_like(a.lip_out)
    if kind == PATHS:
        return a.path_in, a.path_out, a.path_fall
    return nothing, a.lip_out, a.crossfall if kind == CROSSFALL else 0.5 * (crown_over + a.over)


Piece = tuple[float, float, QColor | None, QColor | None]
"""A piece of the strip: from and to (chainages), and the colours of its left and right half."""


class Colouring(QObject):
    """Colours the plan, and says what the colours are."""

    shown = Signal(object)  # the pieces of the strip, or none
    told = Signal(str)  # what the colours say

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session, self.kind = session, NOTHING
        self.theme: Theme | None = None
        self.pieces, self.figures = PolygonLayer(10), LabelLayer()
        self.figures.setZValue(58)
        self.button = QToolButton()
        self.button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.button.setText(NOTHING)
        self.button.setToolTip("What the chosen street is coloured by")
        menu = QMenu(self.button)
        for kind in KINDS:
            menu.addAction(kind, partial(self.choose, kind))
        self.button.setMenu(menu)
        self._later = IdleWork(self, lambda seconds: session.engine.within(seconds))
        session.changed.connect(self.refresh)
        session.chosen_changed.connect(self.refresh)

    def paint_in(self, theme: Theme) -> None:
        """Take a theme's colours."""
        self.theme = theme
        self.refresh()

    def choose(self, kind: str) -> None:
        """Colour by something else, or by nothing."""
        self.kind = kind
        self.button.setText(kind)
        self.told.emit(self.legend())
        self.refresh()

    @property
    def settled(self) -> bool:
        """Whether the colours are those of the site as it is."""
        return not self._later.busy

    def refresh(self) -> None:
        """Colour the chosen street as it is now; while something is dragged, when the hand rests."""
        if self.kind == NOTHING:
            self._later.stop()
            self._show((), (), [])
            return
        self._later.begin([self._work], 250 if self._session.dragging else 30)

    def _work(self) -> None:
        q, street = self._session.engine, self._session.street
        made = q.attempt(coloured, street, self.kind) if street and is_new(q, street) else None
        if made is None or isinstance(made, Unsolved) or self.theme is None:
            self._show((), (), [])
            return
        none, shapes, labels = QPen(Qt.PenStyle.NoPen), [], []
        half = len(made.values) // 2
        for k in np.flatnonzero(np.isfinite(made.values)).tolist():
            value = float(made.values[k])
            shapes.append((made.corners[k], self._colour(made, value), none))
            if (k % half if half else k) % _FIGURES == _FIGURES // 2:
                x, y = made.corners[k].mean(axis=0)
                text = show_length(value, self._session.site.settings.units) if self.kind == OVER else show_grade(value)
                labels.append(Label(float(x), float(y), text, self._role(made, value), 11, 500, 6, True, 2.0))
        at, colours = (
            made.chainages.tolist(),
            [self._colour(made, float(v)) if np.isfinite(v) else None for v in made.values],
        )
        self._show(shapes, labels, list(zip(at[:-1], at[1:], colours[:half], colours[half:])))

    def _show(self, shapes: Sequence[Shape], labels: Sequence[Label], strip: list[Piece]) -> None:
        self.pieces.show_shapes(shapes)
        self.figures.show_labels(labels)
        self.shown.emit(strip)

    def _role(self, made: Coloured, value: float) -> str:
        if made.low is not None and value < made.low - 1e-9:
            return "near"
        return "broken" if made.high is not None and value > made.high + 1e-9 else "ink"

    def _colour(self, made: Coloured, value: float) -> QColor:
        """Within what is asked teal, stronger the steeper it is; too flat amber, too steep red. Over the old surface teal, under it brown."""
        assert self.theme is not None
        if made.low is None or made.high is None:
            share = min(abs(value) / _DEEP, 1.0)
            return self.theme.colour("cut" if value < 0 else "fill", int(30 + (_ALPHA - 30) * share))
        role = self._role(made, value)
        if role != "ink":
            return self.theme.colour(role, _ALPHA)
        share = (value - made.low) / max(made.high - made.low, 1e-9)
        return self.theme.colour("fill", int(40 + (_ALPHA - 40) * min(max(share, 0.0), 1.0)))

    def legend(self) -> str:
        """What the colours say, in words."""
        if self.kind == OVER:
            return "teal over the old surface, brown under it"
        return "" if self.kind == NOTHING else "teal as asked, amber too flat, red too steep"
