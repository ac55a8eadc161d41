"""The button that says, and changes, how many times larger than distances a view draws levels; and what else it shows."""

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


class Shows(Protocol):
    """A view that leaves out what is not wanted."""

    shown: set[str]

    def show_part(self, part: str, wanted: bool) -> None:
        """Show a part of it, or leave it out."""


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

    def offer(self, view: Shows, parts: Sequence[str]) -> None:
        """Let the menu tick which parts of the view are shown."""
        self.setToolTip(f"{self.toolTip()}, and what is shown")
        menu = self.menu()
        menu.addSeparator()
        for part in parts:
            action = menu.addAction(part)
            action.setCheckable(True)
            action.setChecked(part in view.shown)
            action.toggled.connect(partial(view.show_part, part))
