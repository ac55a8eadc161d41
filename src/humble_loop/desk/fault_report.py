"""What went wrong in the program, for sending to those who mend it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QPlainTextEdit, QPushButton, QVBoxLayout, QWidget


class FaultReport(QDialog):
    """The text of a fault, to be read and copied."""

    def __init__(self, text: str, log: Path, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("What went wrong")
        self.resize(760, 380)
        words = QLabel(
            "This tells where in Humble Loop it went wrong, and nothing of your site: no names, levels or places.\n"
            "Your work is as it was; undo the last step if something looks odd. Please send the text to whoever looks "
            "after Humble Loop for you."
        )
        words.setWordWrap(True)
        self.text = QPlainTextEdit(text)
        self.text.setReadOnly(True)
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        kept = QLabel(f"Kept in {log}")
        kept.setProperty("role", "quiet")
        copy, close = QPushButton("Copy"), QPushButton("Close")
        copy.clicked.connect(lambda: QGuiApplication.clipboard().setText(text))
        close.clicked.connect(self.close)
        buttons = QHBoxLayout()
        buttons.addWidget(kept, 1)
        buttons.addWidget(copy)
        buttons.addWidget(close)
        column = QVBoxLayout(self)
        column.addWidget(words)
        column.addWidget(self.text, 1)
        column.addLayout(buttons)
