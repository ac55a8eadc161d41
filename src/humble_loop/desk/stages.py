"""The stage row: the stages of the work in order, each with a dot that fills as its things are settled."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QColor, QIcon, QPainter, QPixmap
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QToolButton, QWidget

from humble_loop.desk.theme import Theme
from humble_loop.engine.query import Engine, Unsolved
from humble_loop.lines.findings import Finding
from humble_loop.lines.standing import kinds
from humble_loop.whole.findings import stage_of
from humble_loop.whole.things import progress_of


@dataclass(frozen=True)
class Stage:
    """A stage of the work: its title and icon."""

    title: str
    icon: str


STAGES = (
    Stage("Ground", "ground"),
    Stage("Streets", "street"),
    Stage("Levels", "levels"),
    Stage("Sections", "section"),
    Stage("Junctions", "junction"),
    Stage("Turning heads", "head"),
    Stage("Lots", "lot"),
    Stage("Findings", "finding"),
    Stage("Hand-over", "handover"),
)


def stage_index(title: str) -> int:
    """The place of a stage."""
    return next(i for i, stage in enumerate(STAGES) if stage.title == title)


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

    def show_progress(self, q: Engine, findings: tuple[Finding, ...], theme: Theme) -> None:
        """Fill the dots: how far each stage's things are settled, and whether rules of it are broken."""
        shares: dict[str, list[float]] = {}
        for kind in kinds():
            found = q.attempt(progress_of, kind.key)
            for title, value in () if isinstance(found, Unsolved) else found.items():
                shares.setdefault(title, []).append(value)
        broken = Counter(stage_of(f) for f in findings if f.severity == "broken")
        for stage, button in zip(STAGES, self.buttons):
            bad = sum(broken.values()) if stage.title == "Findings" else broken[stage.title]
            values = shares.get(stage.title)
            share = sum(values) / len(values) if values else None
            button.setIcon(_dot(theme, share, bool(bad)))
            words = "nothing yet" if share is None else f"{100 * share:.0f} % settled"
            button.setToolTip(f"{stage.title}: {words}" + (f", {bad} broken" if bad else ""))
            if stage.title == "Findings":
                button.setText(f"Findings {bad}" if bad else "Findings")


def _dot(theme: Theme, share: float | None, broken: bool) -> QIcon:
    pixmap = QPixmap(24, 24)
    pixmap.fill(Qt.GlobalColor.transparent)
    with QPainter(pixmap) as painter:
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
    pixmap.setDevicePixelRatio(2.0)
    return QIcon(pixmap)
