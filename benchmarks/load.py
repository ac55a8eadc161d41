"""The window on a whole estate: opening, panning, zooming, choosing, a pad edit, the status line; and exports."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from benchmarks.yardstick import slowness
from humble_loop.demo import repeated_site
from humble_loop.desk.garbage import attend
from humble_loop.desk.session import Session
from humble_loop.desk.settings import unkept_settings
from humble_loop.desk.theme import font, load_fonts
from humble_loop.desk.window import MainWindow
from humble_loop.formats.site_file import save_site
from humble_loop.kinds.lot.layout import lots_on
from humble_loop.kinds.lot.model import set_pad
from humble_loop.lines.line import ThingId
from humble_loop.site.libraries import new_site

_STEPS = 40


def window_seconds(times: int) -> dict[str, tuple[float, float]]:
    """Seconds, on the estate ``times`` over, of what a person waits for: the frame that 95 % of frames keep within;
    and how slow the machine was around it.
    """
    app = QApplication.instance() or QApplication([])
    assert isinstance(app, QApplication)
    load_fonts()
    app.setFont(font(13))
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "estate.hloop"
        save_site(repeated_site(times), file)
        window = MainWindow(Session(), unkept_settings())
        attend(window)
        window.show()
        _settle(app, window)
        out = {}
        out["first picture"] = _with_slowness(
            lambda: _timed(lambda: (window.files.open_path(file), window.plan.viewport().repaint()))
        )
    out["settled"] = _with_slowness(lambda: _timed(lambda: _settle(app, window)))
    plan, session = window.plan, window.session
    (x0, x1), _ = plan.plotItem.vb.viewRange()

    def pan() -> None:
        plan.pan(0.002 * (x1 - x0), 0.0)
        plan.viewport().repaint()

    def zoom(factor: float) -> None:
        plan.zoom(factor, (0.5 * (x0 + x1), 100.0), Qt.KeyboardModifier.NoModifier)
        plan.viewport().repaint()

    out["pan"] = _late(lambda _: pan(), _STEPS)
    out["zoom"] = _late(lambda k: zoom(0.9 if k < _STEPS / 2 else 1 / 0.9), _STEPS)
    out["blocked after a pad edit"] = _with_slowness(lambda: _pad_edit(app, window))
    lots = [f for s in ("ember-loop", "kiln-court") for f in lots_on(session.engine, s)]

    def choose(k: int) -> None:
        session.choose(ThingId("lot", lots[k % len(lots)].id))
        plan.viewport().repaint()

    out["choosing"] = _late(choose, 20)
    rng = np.random.default_rng(3)
    places = np.column_stack([rng.uniform(0.2 * x0 + 0.8 * x1, x1, 200), rng.uniform(50, 250, 200)])
    _timed(lambda: session.point_at(*places[0]))
    out["status line"] = _late(lambda k: session.point_at(*places[k].tolist()), len(places))
    session.take(new_site())  # or the window would go on with what is left to be shown
    window.close()
    return out


def export_seconds(times: int) -> dict[str, tuple[float, float]]:
    """Seconds of each export of the estate ``times`` over, from its file, in a process of its own as the window does it;
    and how slow the machine was around it.
    """
    out = {}
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "estate.hloop"
        save_site(repeated_site(times), file)
        for ending in ("xml", "dxf", "csv"):
            target = str(Path(folder) / f"out.{ending}")
            command = [sys.executable, "-m", "humble_loop", "export", str(file), "--to", target]
            out[ending] = _with_slowness(
                lambda command=command: _timed(lambda: subprocess.run(command, check=True, capture_output=True))
            )
    return out


def _pad_edit(app: QApplication, window: MainWindow) -> float:
    """The longest that the window does not answer, from the edit of a pad until all has caught up with it."""
    session = window.session
    frame = lots_on(session.engine, "kiln-court")[3]
    longest = _timed(lambda: session.do("Set pad", lambda s: set_pad(s, frame.row.id, frame.number, 41.3, frame.along)))
    until = time.monotonic() + 60.0
    while not window.settled and time.monotonic() < until:
        longest = max(longest, _timed(app.processEvents))
        time.sleep(0.001)
    return longest


def _settle(app: QApplication, window: MainWindow) -> None:
    until = time.monotonic() + 900.0
    while time.monotonic() < until:
        app.processEvents()
        if window.settled:
            return
        time.sleep(0.001)


def _timed(what: Callable[[], object]) -> float:
    started = time.perf_counter()
    what()
    return time.perf_counter() - started


def _late(do: Callable[[int], object], times: int) -> tuple[float, float]:
    """The seconds within which 95 % of some doings end, and how slow the machine was."""
    return _with_slowness(lambda: float(np.percentile([_timed(lambda k=k: do(k)) for k in range(times)], 95)))


def _with_slowness(measure: Callable[[], float]) -> tuple[float, float]:
    before = slowness()
    seconds = measure()
    return seconds, 0.5 * (before + slowness())
