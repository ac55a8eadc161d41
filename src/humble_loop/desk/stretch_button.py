"""The button that says, and changes, how many times larger than distances a cross section draws levels."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QMenu, QToolButton

from humble_loop.desk.cross_section import STRETCHES, CrossSection


class StretchButton(QToolButton):
    """Shows the exaggeration in use; its menu chooses another."""

    def __init__(self, view: CrossSection) -> None:
        super().__init__()
        self.setToolTip("How many times larger levels are drawn than distances")
        self.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self)
        menu.addAction("As there is room", partial(view.choose_stretch, None))
        for stretch in STRETCHES:
            menu.addAction(f"{stretch:g} ×", partial(view.choose_stretch, stretch))
        self.setMenu(menu)
        view.stretched.connect(lambda stretch: self.setText(f"{stretch:g} ×"))
