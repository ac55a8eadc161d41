"""Paint and type: two themes, and everything that takes a colour takes it from here."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cache

from PySide6.QtCore import QByteArray, Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPainter, QPen, QPixmap
from PySide6.QtSvg import QSvgRenderer

from humble_loop.data import path

FAMILY = "Barlow Semi Condensed"


@dataclass(frozen=True)
class Theme:
    """The colours of one theme, each for one role."""

    name: str
    paper: str
    panel: str
    line: str
    ink: str
    quiet: str
    ground: str
    crown: str
    left_lip: str
    right_lip: str
    window: str
    window_alpha: int
    chosen: str
    broken: str
    near: str
    cut: str
    fill: str
    lot: str

    def pen(self, role: str, width: float = 1.0, style: Qt.PenStyle = Qt.PenStyle.SolidLine, alpha: int = 255) -> QPen:
        """A cosmetic pen in the colour of ``role``."""
        colour = self.colour(role, alpha)
        pen = QPen(colour, width, style, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin)
        pen.setCosmetic(True)
        return pen

    def faint(self, role: str, share: float, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> QPen:
        """A hairline in the colour of ``role`` mixed into the paper: as faint as a transparent one, far quicker."""
        a, b = QColor(getattr(self, role)), QColor(self.paper)
        mixed = [
            round(share * x + (1 - share) * y)
            for x, y in ((a.red(), b.red()), (a.green(), b.green()), (a.blue(), b.blue()))
        ]
        pen = QPen(QColor(*mixed), 1.0, style)
        pen.setCosmetic(True)
        return pen

    def colour(self, role: str, alpha: int = 255) -> QColor:
        """The colour of ``role``."""
        colour = QColor(getattr(self, role))
        colour.setAlpha(alpha)
        return colour

    def depth_colour(self, depth: float) -> QColor:
        """Brown where the ground is cut (below zero), teal where it is filled, stronger with depth up to 1.5 m."""
        share = min(abs(depth) / 1.5, 1.0) if math.isfinite(depth) else 0.0
        return self.colour("cut" if depth < 0 else "fill", int(25 + 125 * share))


LIGHT = Theme(
    "light",
    "#F6F2E9",
    "#FCFAF5",
    "#D9D2C3",
    "#1F2A33",
    "#5F656C",
    "#8A6B4A",
    "#17324D",
    "#B0701A",
    "#76407A",
    "#2C8C7C",
    36,
    "#0B6F78",
    "#B3392B",
    "#8A5A06",
    "#A8712B",
    "#2E8B80",
    "#CFC6B2",
)
DARK = Theme(
    "dark",
    "#20242A",
    "#282D34",
    "#3D444D",
    "#E8E4DA",
    "#A6ACB2",
    "#B9946A",
    "#A9C7E8",
    "#E0A24A",
    "#C794CB",
    "#55B7A6",
    46,
    "#39B6C0",
    "#F07A6A",
    "#E9B452",
    "#C98F4B",
    "#4FB3A6",
    "#4B535D",
)
THEMES = {"light": LIGHT, "dark": DARK}


def load_fonts() -> None:
    """Make the shipped type available to the application."""
    for file in sorted(path("fonts").glob("*.ttf")):
        QFontDatabase.addApplicationFont(str(file))


@cache
def font(size: int = 13, weight: int = 400) -> QFont:
    """The application's type in pixels, with tabular figures."""
    made = QFont(FAMILY)
    made.setPixelSize(size)
    made.setWeight(QFont.Weight(weight))
    made.setFeature(QFont.Tag("tnum"), 1)
    return made


@cache
def icon(name: str, colour: str) -> QIcon:
    """A shipped icon drawn in ``colour``."""
    text = path("icons", f"{name}.svg").read_text(encoding="utf-8").replace("currentColor", colour)
    pixmap = QPixmap(40, 40)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    QSvgRenderer(QByteArray(text.encode())).render(painter)
    painter.end()
    pixmap.setDevicePixelRatio(2.0)
    return QIcon(pixmap)


def style_sheet(t: Theme) -> str:
    """The widgets' style."""
    return f"""
    * {{ font-family: "{FAMILY}"; font-size: 13px; color: {t.ink}; }}
    QMainWindow, QDialog, QWidget#page {{ background: {t.paper}; }}
    QWidget#panel, QScrollArea#panel, QFrame#panel {{ background: {t.panel}; border: none; }}
    QLabel[role="title"] {{ font-size: 14px; font-weight: 600; }}
    QLabel[role="head"] {{ color: {t.quiet}; font-size: 12px; font-weight: 500; }}
    QLabel[role="quiet"] {{ color: {t.quiet}; font-size: 12px; }}
    QLabel[role="broken"] {{ color: {t.broken}; }}
    QLabel[role="near"] {{ color: {t.near}; }}
    QToolButton {{ background: transparent; border: 1px solid transparent; border-radius: 4px; padding: 3px 8px; }}
    QToolButton:hover {{ background: {t.line}; }}
    QToolButton:checked {{ background: {t.paper}; border: 1px solid {t.chosen}; color: {t.chosen}; font-weight: 600; }}
    QToolButton:disabled {{ color: {t.quiet}; }}
    QToolButton#stage {{ padding: 5px 10px; border: none; border-bottom: 2px solid transparent; border-radius: 0; }}
    QToolButton#stage:checked {{ background: transparent; border-bottom: 2px solid {t.chosen}; color: {t.ink}; }}
    QToolButton#mark {{ padding: 0; font-size: 14px; }}
    QToolButton#mark:disabled {{ color: {t.quiet}; }}
    QToolButton::menu-indicator {{ image: none; }}
    QComboBox::drop-down {{ border: none; width: 16px; }}
    QLineEdit:read-only {{ border-color: transparent; }}
    QPushButton {{ background: {t.panel}; border: 1px solid {t.line}; border-radius: 4px; padding: 4px 10px; }}
    QPushButton:hover {{ border-color: {t.chosen}; }}
    QPushButton:default {{ border-color: {t.chosen}; }}
    QLineEdit, QComboBox, QSpinBox {{ background: {t.paper}; border: 1px solid {t.line}; border-radius: 3px; padding: 2px 5px;
        selection-background-color: {t.chosen}; selection-color: {t.paper}; }}
    QLineEdit:focus, QComboBox:focus {{ border-color: {t.chosen}; }}
    QLineEdit:read-only {{ color: {t.quiet}; background: transparent; }}
    QLineEdit[bad="true"] {{ border-color: {t.broken}; }}
    QComboBox QAbstractItemView {{ background: {t.panel}; selection-background-color: {t.line}; selection-color: {t.ink}; }}
    QTreeWidget, QListWidget, QTableView {{ background: {t.panel}; border: none; outline: none; alternate-background-color: {t.paper};
        selection-background-color: {t.line}; selection-color: {t.ink}; gridline-color: {t.line}; }}
    QTreeWidget::item, QListWidget::item {{ padding: 2px 1px; }}
    QTreeWidget::item:selected, QListWidget::item:selected {{ background: {t.line}; color: {t.ink}; }}
    QPushButton:disabled {{ color: {t.quiet}; background: transparent; border-color: {t.line}; }}
    QHeaderView {{ background: {t.panel}; border: none; }}
    QHeaderView::section {{ background: {t.panel}; border: none; border-bottom: 1px solid {t.line}; padding: 3px 6px; color: {t.quiet}; }}
    QTableView#sheet {{ selection-color: palette(highlighted-text); font-size: 12px; }}
    QTableView#sheet QHeaderView::section {{ font-size: 12px; padding: 3px 4px; }}
    QSplitter::handle {{ background: {t.line}; }}
    QSplitter::handle:horizontal {{ width: 1px; }} QSplitter::handle:vertical {{ height: 1px; }}
    QMenu {{ background: {t.panel}; border: 1px solid {t.line}; }} QMenu::item {{ padding: 4px 18px; }}
    QMenu::item:selected {{ background: {t.line}; }}
    QToolTip {{ background: {t.panel}; color: {t.ink}; border: 1px solid {t.line}; padding: 3px; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; }} QScrollBar:horizontal {{ background: transparent; height: 9px; }}
    QScrollBar::handle {{ background: {t.line}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QProgressBar {{ background: {t.paper}; border: 1px solid {t.line}; border-radius: 3px; text-align: center; }}
    QProgressBar::chunk {{ background: {t.window}; }}
    """
