"""The stage row: the stages of the work in order, each with a dot that fills as its things are settled."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QColor, QIcon, QPainter, QPixmap
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QToolButton, QWidget

from humble_loop.desk.theme import Theme
from humble_loop.site.model import Site
from humble_loop.solve.checks import Finding


@dataclass(frozen=True)
class Stage:
    """A stage: its title, icon, and how far it is: a share of things settled (None where there are none)."""

    title: str
    icon: str
    share: Callable[[Site], float | None]
    rules: tuple[str, ...]


def _of(count: int, done: int) -> float | None:
    return done / count if count else None


STAGES = (
    Stage("Ground", "ground", lambda s: 1.0 if s.grounds else None, ("ground", "street off the ground")),
    Stage(
        "Streets",
        "street",
        lambda s: _of(len(s.streets), len(s.streets)),
        ("bends that do not fit", "radius", "points at one place", "ring of ties"),
    ),
    Stage(
        "Levels",
        "levels",
        lambda s: _of(
            sum(t.kind == "new" for t in s.streets), sum(t.kind == "new" and bool(t.vips) for t in s.streets)
        ),
        ("grade too flat", "grade too steep", "curve too short", "curves overlap", "grade line too short"),
    ),
    Stage(
        "Sections", "section", lambda s: _of(len(s.streets), len(s.streets)), ("crossfall", "batter finds no ground")
    ),
    Stage(
        "Junctions",
        "junction",
        lambda s: _of(len(s.junctions), len(s.junctions)),
        ("return too steep", "return too flat", "low point without a pit"),
    ),
    Stage(
        "Turning heads",
        "head",
        lambda s: _of(sum(bool(t.head) for t in s.streets), sum(bool(t.head) for t in s.streets)),
        ("bulb drainage", "bulb radius"),
    ),
    Stage("Lots", "lot", lambda s: _of(len(s.lot_rows), len(s.lot_rows)), ("pad out of its window", "lots")),
    Stage("Findings", "finding", lambda s: None, ()),
    Stage("Hand-over", "handover", lambda s: None, ()),
)


class StageRow(QWidget):
    """Buttons of the stages."""

    chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self._theme: Theme | None = None
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(6, 0, 6, 0)
        self._row.setSpacing(0)
        self._group = QButtonGroup(self)
        self.buttons: list[QToolButton] = []
        for i, stage in enumerate(STAGES):
            button = QToolButton()
            button.setObjectName("stage")
            button.setText(stage.title)
            button.setCheckable(True)
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            button.setIconSize(QSize(12, 12))
            self._group.addButton(button, i)
            self._row.addWidget(button)
            self.buttons.append(button)
        self._row.addStretch(1)
        self._group.idClicked.connect(self.chosen)

    def add_right(self, widget: QWidget) -> None:
        """Put a widget at the right-hand end."""
        self._row.addWidget(widget)

    def choose(self, index: int) -> None:
        """Choose a stage."""
        self.buttons[index].setChecked(True)
        self.chosen.emit(index)

    def show_progress(self, site: Site, findings: tuple[Finding, ...], theme: Theme) -> None:
        """Fill the dots."""
        for stage, button in zip(STAGES, self.buttons):
            bad = [f for f in findings if f.rule in stage.rules or (stage.title == "Findings")]
            broken = sum(f.severity == "broken" for f in bad)
            share = stage.share(site)
            button.setIcon(_dot(theme, share, bool(broken)))
            words = "nothing yet" if share is None else f"{100 * share:.0f} % settled"
            button.setToolTip(f"{stage.title}: {words}" + (f", {broken} broken" if broken else ""))
            if stage.title == "Findings":
                button.setText(f"Findings {broken}" if broken else "Findings")


def _dot(theme: Theme, share: float | None, broken: bool) -> QIcon:
    pixmap = QPixmap(24, 24)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    role = "broken" if broken else "window" if share else "quiet"
    painter.setPen(theme.pen(role, 3.0))
    painter.setBrush(QColor(theme.panel))
    painter.drawEllipse(4, 4, 16, 16)
    if share:
        painter.setBrush(theme.colour(role))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawPie(4, 4, 16, 16, 90 * 16, -int(360 * 16 * share))
    if broken:
        painter.setPen(theme.pen("panel" if share else "broken", 3.0))
        painter.drawLine(12, 8, 12, 13)
        painter.drawPoint(12, 17)
    painter.end()
    pixmap.setDevicePixelRatio(2.0)
    return QIcon(pixmap)
