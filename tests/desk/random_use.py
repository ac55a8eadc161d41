"""Somebody who does anything at all in the window: seeded gestures on every view, typing, undo, stages, tables, themes.

``python -m tests.desk.random_use SEED COUNT`` runs it by itself and prints what it found.
"""

from __future__ import annotations

import gc
import importlib
import random
import resource
import sys
import threading
import time
import traceback
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field

import shiboken6
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QtMsgType, qInstallMessageHandler
from PySide6.QtGui import QEnterEvent, QKeyEvent, QMouseEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QDialog,
    QFileDialog,
    QLineEdit,
    QMessageBox,
    QWidget,
)

from humble_loop.desk.app import settle
from humble_loop.desk.window import MainWindow
from humble_loop.lines.standing import kinds
from humble_loop.whole.things import things_of

LEFT, RIGHT, NO_KEY = Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton, Qt.KeyboardModifier.NoModifier
TYPED = [
    *(
        "0",
        "1",
        "-1",
        "12.5",
        "3%",
        "1:20",
        "0+123",
        "1e300",
        "-1e300",
        "1e-300",
        "nan",
        "inf",
        "abc",
        "",
        "  ",
        "9" * 400,
    ),
    *(
        "41.25",
        "25",
        "r25",
        "250",
        "99999",
        "0.001",
        "Kiln Court",
        "\N{RIGHT-TO-LEFT OVERRIDE}x",
        "=1+1",
        "☃",
        "12ft",
        "150mm",
    ),
]
NEVER = {"Open", "Save as", "Bring in", "Read lines again", "Export", "Quit", "Browse"}


@dataclass
class Findings:
    """What went wrong, and what it cost."""

    faults: list[str] = field(default_factory=list)
    slow: list[tuple[float, str]] = field(default_factory=list)
    slowest: float = 0.0
    widgets: list[int] = field(default_factory=list)
    memory: list[float] = field(default_factory=list)
    done: Counter[str] = field(default_factory=Counter)


class Watch:
    """Looks now and then where a gesture is that takes long."""

    def __init__(self, after: float = 0.1) -> None:
        self.began, self.after = 0.0, after
        self.seen: Counter[str] = Counter()
        self._samples: Counter[str] = Counter()
        self._of = threading.get_ident()
        threading.Thread(target=self._look, daemon=True).start()

    def _look(self) -> None:
        began = 0.0
        while True:
            time.sleep(0.05)
            if self.began != began:
                began, self._samples = self.began, Counter()
            if began and time.monotonic() - began > self.after:
                self._samples[self._where(sys._current_frames().get(self._of))] += 1

    @staticmethod
    def _where(frame) -> str:
        """The innermost function, the two of ours round it, those of the window, and what the driver was at."""
        places: list[str] = []
        driver = ""
        inner = f"{frame.f_code.co_filename.rpartition('/')[2]}:{frame.f_code.co_name}" if frame else "?"
        while frame is not None:
            if "humble_loop" in frame.f_code.co_filename and "query.py" not in frame.f_code.co_filename:
                places.append(f"{frame.f_code.co_filename.rpartition('humble_loop/')[2]}:{frame.f_code.co_name}")
            if not driver and frame.f_code.co_filename == __file__:
                driver = f"driver:{frame.f_lineno}"
            frame = frame.f_back
        return " < ".join([inner, *places[:2], "…", *[p for p in places[2:] if p.startswith("desk")][:5], driver])

    def told(self) -> str:
        """Where the gesture spent its time: the places seen most, and how often."""
        found = self._samples.most_common(3)
        for place, times in found:
            self.seen[place] += times
        return "; ".join(f"{times} × {place}" for place, times in found)


class RandomUser:
    """One seeded stream of gestures at one window."""

    def __init__(
        self, window: MainWindow, seed: int, *, solid: bool = False, say: Callable[[str], object] = lambda words: None
    ) -> None:
        self.say = say
        # The hand is over the cross section, so that its handles are there.
        window.cross_section.enterEvent(QEnterEvent(QPointF(), QPointF(), QPointF()))
        self.w, self.rng, self.found, self.watch = window, random.Random(seed), Findings(), Watch()
        self._gestures = [
            (10, self.drag),
            (8, self.click),
            (4, self.double_click),
            (6, self.wheel),
            (6, self.move),
            (5, self.key),
            (6, self.type_a_fact),
            (3, self.choose_in_a_combo),
            (3, self.press_a_button),
            (7, self.choose_a_thing),
            (6, self.undo_or_redo),
            (3, self.undo_in_a_drag),
            (3, self.lose_the_thing_while_typing),
            (5, self.sketch),
            (2, self.stage),
            (1, self.theme),
            (2, self.tables),
            (4, self.sheets),
            (2, self.find),
            (1, self.resize),
            (1, self.fold),
        ] + ([(1, self.solid)] if solid else [])

    # Running

    def use(self, count: int) -> Findings:
        """Do ``count`` gestures; what is raised meanwhile is noted and goes on."""
        before, hook = qInstallMessageHandler(self._on_message), sys.excepthook
        sys.excepthook = self._on_fault
        weights, gestures = zip(*self._gestures)
        try:
            for k in range(count):
                gesture = self.rng.choices(gestures, weights)[0]
                self._once(gesture.__name__, gesture)
                if k % 200 == 0:
                    self._measure()
                    self.say(f"{k}: {len(self.found.faults)} faults, slowest {self.found.slowest:.2f} s")
            self._measure()
        finally:
            sys.excepthook = hook
            qInstallMessageHandler(before)
        return self.found

    def _once(self, name: str, gesture) -> None:
        self.found.done[name] += 1
        self.words = name
        self.watch.began = time.monotonic()
        try:
            gesture()
        except Exception as error:  # noqa: BLE001 - whatever it is
            self._on_fault(type(error), error, error.__traceback__)
        self._look()
        self._close_dialogs()
        self.watch.began = 0.0

    def _look(self) -> None:
        """Let the window answer, and note how long one had to wait since the last move, click or key."""
        QApplication.processEvents()
        took = time.monotonic() - self.watch.began
        self.found.slowest = max(self.found.slowest, took)
        if took > 1.0:
            self.found.slow.append((took, self.words))
            self.say(f"  {took:.2f} s: {self.words}, in {self.watch.told()}")
        self.watch.began = time.monotonic()

    def _on_fault(self, kind, error, trace) -> None:
        self.found.faults.append(f"{self.words}: " + "".join(traceback.format_exception(kind, error, trace))[-1500:])
        self.say(self.found.faults[-1])

    def _on_message(self, kind: QtMsgType, context, message: str) -> None:
        if kind in (QtMsgType.QtCriticalMsg, QtMsgType.QtFatalMsg) or "QPainter" in message or "QWidget::" in message:
            self.found.faults.append(f"{self.words}: {message}")

    def _measure(self) -> None:
        """Note what the window holds with nothing chosen: the rows of what is chosen, many or few, pile up nowhere."""
        self.w.session.choose(None)
        settle(QApplication.instance(), self.w)
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        gc.collect()
        self.found.widgets.append(len(QApplication.allWidgets()))
        with open("/proc/self/statm") as file:
            self.found.memory.append(int(file.read().split()[1]) * resource.getpagesize() / 1e6)

    def _close_dialogs(self) -> None:
        popup = QApplication.activePopupWidget()
        if popup is not None:
            popup.close()
        for top in QApplication.topLevelWidgets():
            if isinstance(top, QDialog) and top.isVisible() and top is not self.w.tables and top.isModal():
                top.reject()

    def _type(self, widget: QWidget, text: str) -> None:
        """Type any letters: Qt's own helper ends the process at one that no keyboard has."""
        for letter in text:
            for kind in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease):
                if shiboken6.isValid(widget):
                    QApplication.sendEvent(widget, QKeyEvent(kind, 0, NO_KEY, letter))
            self._look()

    # Where

    def _view(self) -> QWidget:
        w = self.w
        views = [w.plan, w.plan, w.long_section, w.cross_section, w.strip, w.curvature]
        view = self.rng.choice(views)
        self.words += f" in {type(view).__name__}"
        return view.viewport() if hasattr(view, "viewport") else view

    def _place(self, view: QWidget) -> QPoint:
        return QPoint(self.rng.randrange(max(view.width(), 1)), self.rng.randrange(max(view.height(), 1)))

    def _hand(self, view: QWidget) -> QPoint:
        """Mostly a handle of the view, where it has some: elsewhere a press only moves the paper."""
        owner = view.parentWidget()
        layer = getattr(owner, "handles", None)
        if layer is not None and layer.handles and self.rng.random() < 0.6:
            return owner.pixel(self.rng.choice(layer.handles).place)
        return self._place(view)

    def _send_move(self, view: QWidget, at: QPoint, buttons=Qt.MouseButton.NoButton) -> None:
        place = QPointF(at)
        event = QMouseEvent(
            QEvent.Type.MouseMove, place, view.mapToGlobal(place), Qt.MouseButton.NoButton, buttons, NO_KEY
        )
        QApplication.sendEvent(view, event)

    # Gestures

    def move(self) -> None:
        view = self._view()
        for _ in range(4):
            self._send_move(view, self._place(view))
            self._look()

    def click(self) -> None:
        view = self._view()
        QTest.mouseClick(view, self.rng.choice([LEFT, LEFT, LEFT, RIGHT]), NO_KEY, self._hand(view))

    def double_click(self) -> None:
        view = self._view()
        QTest.mouseDClick(view, LEFT, NO_KEY, self._hand(view))

    def drag(self, in_the_middle=None) -> None:
        view = self._view()
        QTest.mousePress(view, LEFT, NO_KEY, self._hand(view))
        for k in range(self.rng.randrange(1, 6)):
            at = self._place(view) if self.rng.random() < 0.9 else QPoint(self.rng.randrange(-9000, 9000), -9000)
            self._send_move(view, at, LEFT)
            self._look()
            if in_the_middle is not None and k == 0:
                in_the_middle()
            if self.rng.random() < 0.15:
                self._type(view, self.rng.choice(TYPED)[:20])
        if self.rng.random() < 0.1:
            QTest.keyClick(view, Qt.Key.Key_Escape)
        QTest.mouseRelease(view, LEFT, NO_KEY, self._place(view))

    def undo_in_a_drag(self) -> None:
        self.drag(
            lambda: self.rng.choice([self.w.session.undo, self.w.session.redo, self.choose_a_thing, self.theme])()
        )

    def wheel(self) -> None:
        view = self._view()
        at, turn = QPointF(self._place(view)), self.rng.choice([-120, 120]) * self.rng.choice([1, 1, 5, 40])
        for _ in range(self.rng.randrange(1, 8)):
            event = QWheelEvent(
                at,
                view.mapToGlobal(at),
                QPoint(),
                QPoint(0, turn),
                Qt.MouseButton.NoButton,
                NO_KEY,
                Qt.ScrollPhase.NoScrollPhase,
                False,
            )
            QApplication.sendEvent(view, event)
        self._look()
        if self.rng.random() < 0.5:
            self.w.fit()

    def key(self) -> None:
        view = self._view()
        keys = [
            Qt.Key.Key_Escape,
            Qt.Key.Key_Return,
            Qt.Key.Key_Delete,
            Qt.Key.Key_Backspace,
            Qt.Key.Key_Tab,
            Qt.Key.Key_Home,
        ]
        if self.rng.random() < 0.5:
            QTest.keyClick(view, self.rng.choice(keys))
        else:
            self._type(view, self.rng.choice(TYPED)[:30])

    def _facts(self, kind: type) -> list:
        return [x for x in self.w.facts.findChildren(kind) if x.isVisible() and x.isEnabled()]

    def type_a_fact(self) -> None:
        edits = self._facts(QLineEdit)
        if not edits:
            self.choose_a_thing()
            return
        edit, text = self.rng.choice(edits), self.rng.choice(TYPED)
        self.words += f" {text[:20]!r}"
        edit.setFocus()
        edit.selectAll()
        self._type(edit, text[:60])
        if shiboken6.isValid(edit):
            QTest.keyClick(
                edit, self.rng.choice([Qt.Key.Key_Return, Qt.Key.Key_Return, Qt.Key.Key_Tab, Qt.Key.Key_Escape])
            )

    def lose_the_thing_while_typing(self) -> None:
        edits = self._facts(QLineEdit)
        if not edits:
            self.choose_a_thing()
            return
        edit = self.rng.choice(edits)
        edit.setFocus()
        self._type(edit, "7")
        for _ in range(self.rng.randrange(1, 4)):
            self.rng.choice([self.w.session.undo, self.w.session.redo, self.choose_a_thing])()
            self._look()
        if shiboken6.isValid(edit):
            QTest.keyClick(edit, Qt.Key.Key_Return)

    def sheets(self) -> None:
        """Elements, levels, sections: show them, choose a row, type into a cell or choose from its list."""
        panel = self.w.sheets
        if not panel.isVisible() or self.rng.random() < 0.1:
            self.w.toggle_sheets()
            return
        titles = panel.findChildren(QAbstractButton)
        if titles and self.rng.random() < 0.4:
            self.rng.choice(titles).click()
        rows, columns = panel.model.rowCount(), panel.model.columnCount()
        if not rows or not panel.view.isVisible():
            self.choose_a_thing()
            return
        index = panel.model.index(self.rng.randrange(rows), self.rng.randrange(columns))
        panel.view.setCurrentIndex(index)
        self._look()
        index = panel.view.currentIndex()  # another line's rows may be shown by now
        if not index.isValid() or not index.flags() & Qt.ItemFlag.ItemIsEditable:
            return
        panel.view.edit(index)
        combo = next((c for c in panel.view.findChildren(QComboBox) if c.isVisible()), None)
        if combo is not None and combo.count():
            combo.hidePopup()
            combo.setCurrentIndex(self.rng.randrange(combo.count()))
            combo.activated.emit(combo.currentIndex())
            return
        editor = next((e for e in panel.view.findChildren(QLineEdit) if e.isVisible()), None)
        if editor is None:
            return
        text = self.rng.choice(TYPED)
        self.words += f" {text[:20]!r}"
        editor.selectAll()
        self._type(editor, text[:60])
        if self.rng.random() < 0.2:
            self.rng.choice([self.w.session.undo, self.choose_a_thing])()
            self._look()
        if shiboken6.isValid(editor):
            QTest.keyClick(editor, self.rng.choice([Qt.Key.Key_Return, Qt.Key.Key_Return, Qt.Key.Key_Escape]))

    def choose_in_a_combo(self) -> None:
        combos = [c for c in self._facts(QComboBox) if c.count()]
        if combos:
            combo = self.rng.choice(combos)
            combo.setCurrentIndex(self.rng.randrange(combo.count()))
            combo.activated.emit(combo.currentIndex())

    def press_a_button(self) -> None:
        rows = [*self._facts(QAbstractButton), *self.w._tool_row.findChildren(QAbstractButton)]
        buttons = [
            b for b in rows if b.isVisible() and b.isEnabled() and not NEVER & {b.text(), b.toolTip().split("  (")[0]}
        ]
        buttons = [b for b in buttons if "3D" not in b.text() and "3D" not in b.toolTip()]
        if buttons:
            button = self.rng.choice(buttons)
            self.words += f" {button.text()!r}"
            button.click()

    def choose_a_thing(self) -> None:
        kind = self.rng.choice(kinds())
        things = things_of(self.w.session.engine, kind.key)
        self.w.session.choose(self.rng.choice(things) if things and self.rng.random() < 0.95 else None)

    def undo_or_redo(self) -> None:
        for _ in range(self.rng.randrange(1, 4)):
            self.rng.choice([self.w.session.undo, self.w.session.undo, self.w.session.redo])()
            self._look()

    def sketch(self) -> None:
        self.w.draw_street()
        view = self.w.plan.viewport()
        for _ in range(self.rng.randrange(0, 5)):
            at = self._place(view)
            self._send_move(view, at)
            self._look()
            QTest.mouseClick(view, LEFT, NO_KEY, at)
            self._look()
            if self.rng.random() < 0.2:
                self._type(self.w.plan, self.rng.choice(TYPED)[:20])
        QTest.keyClick(
            self.w.plan,
            self.rng.choice([Qt.Key.Key_Return, Qt.Key.Key_Return, Qt.Key.Key_Escape, Qt.Key.Key_Backspace]),
        )

    def stage(self) -> None:
        self.w.stage_row.choose(self.rng.randrange(6))

    def theme(self) -> None:
        self.w.other_theme()

    def tables(self) -> None:
        if self.w.tables is not None and self.w.tables.isVisible():
            combos = self.w.tables.findChildren(QComboBox)
            if combos and self.rng.random() < 0.8:
                combo = self.rng.choice(combos)
                if combo.count():
                    combo.setCurrentIndex(self.rng.randrange(combo.count()))
                    combo.activated.emit(combo.currentIndex())
            else:
                self.w.tables.close()
        else:
            self.w.open_tables()

    def find(self) -> None:
        self.w.finder.open()
        self._look()
        edits = self.w.finder.findChildren(QLineEdit)
        if edits:
            words = ["kiln", "lot", "claypit 120", "levels", "theme", "r", "flow", *TYPED]
            self._type(edits[0], self.rng.choice(words)[:30])
            QTest.keyClick(edits[0], Qt.Key.Key_Escape)
        self.w.finder.close()

    def resize(self) -> None:
        self.w.resize(self.rng.randrange(500, 1600), self.rng.randrange(350, 1000))

    def fold(self) -> None:
        self.w.index.setVisible(not self.w.index.isVisible())

    def solid(self) -> None:
        self.w.toggle_solid()


def unasked(patch) -> None:
    """No dialog waits for anybody: ``patch(object, name, value)`` puts answers in their place."""
    patch(QMessageBox, "warning", lambda *a, **k: QMessageBox.StandardButton.Ok)
    patch(QMessageBox, "question", lambda *a, **k: QMessageBox.StandardButton.Cancel)
    for name in ("getOpenFileName", "getSaveFileName"):
        patch(QFileDialog, name, lambda *a, **k: ("", ""))
    patch(QFileDialog, "getOpenFileNames", lambda *a, **k: ([], ""))


def main(seed: int, count: int, whole: bool = False) -> int:
    """Use the demo's first stage at random, or the whole of it, and print what was found."""
    from humble_loop.demo import demo_site, first_stage
    from humble_loop.desk.garbage import attend
    from humble_loop.desk.session import Session
    from humble_loop.desk.settings import unkept_settings
    from humble_loop.desk.theme import font, load_fonts

    importlib.import_module("scipy.optimize")  # as the application does beside its first picture
    app = QApplication([])
    load_fonts()
    app.setFont(font(13))
    unasked(setattr)
    session = Session()
    session.take(demo_site() if whole else first_stage())
    window = MainWindow(session, unkept_settings())
    attend(window)
    window.show()
    window.fit()
    user = RandomUser(window, seed, say=lambda words: print(words, flush=True))
    found = user.use(count)
    for place, times in user.watch.seen.most_common(12):
        print(times, place)
    for fault in list(dict.fromkeys(found.faults))[:10]:
        print(fault, "\n")
    print(
        f"{len(found.faults)} faults; slowest {found.slowest:.2f} s; over 1 s: {sorted(found.slow, reverse=True)[:8]}"
    )
    print("widgets", found.widgets[:: max(1, len(found.widgets) // 12)])
    print("MB", [round(m) for m in found.memory[:: max(1, len(found.memory) // 12)]])
    return 1 if found.faults else 0


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]), int(sys.argv[2]), "whole" in sys.argv))
