"""The button that says, and changes, how many times larger than distances a view draws levels."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Protocol

from PySide6.QtCore import SignalInstance
from PySide6.QtWidgets import QMenu, QToolButton


class Stretched(Protocol):
    """A view whose levels can be drawn larger than its distances."""

    stretched: SignalInstance

    def choose_stretch(self, stretch: float | None) -> None:
        """Draw levels so many times as large; None for what suits the view."""


class StretchButton(QToolButton):
    """Shows the exaggeration in use; its menu chooses another."""

    def __init__(self, view: Stretched, stretches: Sequence[float], usual: str) -> None:
        super().__init__()
        self.setToolTip("How many times larger levels are drawn than distances")
        self.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self)
        if usual:
            menu.addAction(usual, partial(view.choose_stretch, None))
        for stretch in stretches:
            menu.addAction(f"{stretch:g} ×", partial(view.choose_stretch, stretch))
        self.setMenu(menu)
        view.stretched.connect(lambda stretch: self.setText(f"{stretch:g} ×"))
