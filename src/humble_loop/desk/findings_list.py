"""Findings as a list: sign, rule, thing, what is wrong and what would mend it, one click from its place."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from humble_loop.desk.session import Session
from humble_loop.lines.findings import Finding

_MOST = 25  # rows shown at once


def findings_box(session: Session, findings: Sequence[Finding], show_at: Callable[[float, float], None]) -> QWidget:
    """The widget that lists findings, worst first."""
    box = QWidget()
    column = QVBoxLayout(box)
    column.setContentsMargins(0, 0, 0, 6)
    column.setSpacing(3)
    for f in findings[:_MOST]:
        _add(column, session, f, show_at)
    if len(findings) > _MOST:
        more = QLabel(f"and {len(findings) - _MOST} more: see the table of findings")
        more.setProperty("role", "quiet")
        column.addWidget(more)
    return box


def _add(column: QVBoxLayout, session: Session, f: Finding, show_at: Callable[[float, float], None]) -> None:
    sign = "▲" if f.severity == "broken" else "◇"
    label = QLabel(f"{sign} <b>{f.rule}</b>, {f.thing}: {f.message}. <i>{f.remedy[:1].upper()}{f.remedy[1:]}.</i>")
    label.setProperty("role", f.severity)
    label.setWordWrap(True)
    label.setTextInteractionFlags(Qt.TextInteractionFlag.NoTextInteraction)
    column.addWidget(label)
    line = QHBoxLayout()
    if f.place:
        place = f.place
        show = QPushButton("Show")
        show.clicked.connect(lambda: show_at(*place))
        line.addWidget(show)
    if f.mend:
        mend = f.mend
        button = QPushButton(mend.words)
        button.clicked.connect(lambda: session.do(mend.words, mend.apply))
        line.addWidget(button)
    line.addStretch(1)
    column.addLayout(line)
