"""What the application does beside its window when it has started."""

import gc
import importlib
import threading

from humble_loop.desk import app


def test_what_proposals_need_is_loaded_beside_the_window(qtbot, qapp, monkeypatch):
    """The timer outlives whoever set it: what it starts must not be gone by then (the process ended with a crash)."""
    loaded = []
    monkeypatch.setattr(app, "_LATER", 30)
    monkeypatch.setattr(importlib, "import_module", lambda name: loaded.append((name, threading.current_thread())))
    app._load_beside(qapp)
    gc.collect()
    qtbot.waitUntil(lambda: bool(loaded), timeout=3000)
    ((name, thread),) = loaded
    assert name == "scipy.optimize"
    assert thread is not threading.main_thread()
