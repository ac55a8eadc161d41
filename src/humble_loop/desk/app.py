"""Starting the application: its arguments, its window, pictures of its views."""

from __future__ import annotations

import argparse
import importlib
import os
import signal
import socket
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from types import TracebackType

from platformdirs import user_data_path, user_state_path
from PySide6.QtCore import QPointF, QRectF, QSocketNotifier, QTimer
from PySide6.QtGui import QEnterEvent
from PySide6.QtWidgets import QApplication

from humble_loop import faults
from humble_loop.cli import OneLineParser, complain
from humble_loop.desk.colouring import CROSSFALL
from humble_loop.desk.fault_report import FaultReport
from humble_loop.desk.garbage import attend
from humble_loop.desk.session import Session
from humble_loop.desk.settings import kept_settings, unkept_settings
from humble_loop.desk.theme import THEMES, font, load_fonts
from humble_loop.desk.window import MainWindow
from humble_loop.formats.errors import FormatError
from humble_loop.formats.own_library import OwnLibrary
from humble_loop.formats.recovery import lost_sessions
from humble_loop.formats.site_file import load_site
from humble_loop.kinds.fall_window.model import add_window
from humble_loop.kinds.kerb_line.model import KerbLine
from humble_loop.kinds.lot.layout import lots_on
from humble_loop.kinds.street.grades import locking
from humble_loop.kinds.tie.model import Source
from humble_loop.lines.describe import Fact
from humble_loop.lines.line import ThingId
from humble_loop.site.libraries import new_site
from humble_loop.site.model import Site

_LATER = 3000  # milliseconds after the window has opened
VIEWS = (
    "overview",
    "dark",
    "junction",
    "bulb",
    "long-section",
    "elements",
    "proposals",
    "section",
    "roundabout",
    "own-levels",
    "drains",
    "lots",
    "findings",
    "trail",
    "ties",
    "3d",
    "sketch",
    "empty",
    "text",
)


def run(arguments: Sequence[str]) -> int:
    """Open the window on a file, the demo, or an empty site; or take a picture and exit."""
    parser = OneLineParser(
        prog="humble-loop",
        description="Streets, turning heads, kerb levels and lots.",
        epilog="Without a window: new, report, probe, check, export, schema (each with --help).",
    )
    parser.add_argument("file", nargs="?", type=Path, help="a site to open")
    parser.add_argument("--demo", action="store_true", help="open the demo site, the old brickworks")
    parser.add_argument("--shot", type=Path, metavar="OUT.png", help="take a picture of a view, then exit")
    parser.add_argument("--view", choices=VIEWS, default="overview", help="which view the picture shows")
    options = parser.parse_args(list(arguments))
    try:
        site = _site(options)
    except FormatError as error:
        complain(str(error))
        return 2
    if not _has_screen():
        complain("there is no screen to open a window on; use a desktop, 'make demo', or a virtual screen (xvfb-run)")
        return 2
    app = QApplication.instance() or QApplication(["humble-loop"])
    assert isinstance(app, QApplication)
    app.setStyle("Fusion")
    load_fonts()
    app.setFont(font(13))
    picture = options.shot is not None
    state = user_state_path("humble-loop")
    settings = unkept_settings() if picture else kept_settings(state)
    library = None if picture else OwnLibrary(user_data_path("humble-loop") / "library")
    session = Session(None if picture else state / "recovery", library)
    if site is not None:
        session.take(site, options.file)
    window = MainWindow(session, settings)
    attend(window)
    if session.trouble:
        window.say(session.trouble)
    sys.excepthook = _reporter(window, faults.log_file())
    window.show()
    app.processEvents()
    window.fit()
    if options.demo:
        _show_demo(window)
    if picture:
        return take_picture(app, window, options.shot, options.view)
    _load_beside(app)
    lost = lost_sessions(state / "recovery")
    if lost:
        window.files.offer_recovery(lost[0])
    _end_on_signals(app, session)
    return int(app.exec())


def _load_beside(app: QApplication) -> None:
    """Load what proposals are worked out with while nobody waits: when it is asked for, it would hold the hand up."""

    def load() -> None:
        threading.Thread(target=importlib.import_module, args=("scipy.optimize",), daemon=True).start()

    QTimer.singleShot(_LATER, app, load)


def _site(options: argparse.Namespace) -> Site | None:
    if options.demo:
        from humble_loop.demo import demo_site  # reads the survey; wanted only here

        return demo_site()
    return load_site(options.file) if options.file else None


def _has_screen() -> bool:
    return any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))


def _end_on_signals(app: QApplication, session: Session) -> None:
    """A window that is told to end from outside puts its work on disk first: the next start offers it."""
    told, tells = socket.socketpair()
    tells.setblocking(False)
    signal.set_wakeup_fd(tells.fileno())
    for ending in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(ending, lambda number, frame: None)  # what counts is the byte that arrives at the other end
    listener = QSocketNotifier(told.fileno(), QSocketNotifier.Type.Read, app)

    def end() -> None:
        session.write_recovery()
        tells.close()
        told.close()
        app.exit(0)

    listener.activated.connect(end)


def _reporter(window: MainWindow, log: Path) -> Callable[..., None]:
    """What becomes of a fault of ours: one sentence for the designer, who is offered where it was for sending to us."""

    def report(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        del trace
        text = faults.log(error, log)
        window.say(f"Something went wrong here ({kind.__name__}); your work is safe, undo the last step")
        window.status.offer_details(lambda: FaultReport(text, log, window).show())

    return report


def _show_demo(window: MainWindow) -> None:
    """Something worth seeing: Kiln Court chosen, the estate in the plan."""
    window.stage_row.choose(1)
    window.session.choose(ThingId("street", "kiln-court"))
    window.plan.fit()
    _ask(window, 4150.0, 8186.0)


def _look_at(window: MainWindow, easting: float, northing: float, across: float) -> None:
    e, n = window.session.origin
    window.plan.look_at(easting - e, northing - n, across)


def _ask(window: MainWindow, easting: float, northing: float) -> None:
    e, n = window.session.origin
    window.session.point_asked.emit(easting - e, northing - n)


def settle(app: QApplication, window: MainWindow) -> None:
    """Let the window catch up with everything that waits."""
    longest = time.monotonic() + 60.0
    while time.monotonic() < longest:
        app.processEvents()
        if window.settled:
            break
        time.sleep(0.001)  # a library that is loaded beside the window gets its turn
    # Views that refresh a moment after a change (index, facts) get that moment.
    until = time.monotonic() + 0.4
    while time.monotonic() < until:
        app.processEvents()


def take_picture(app: QApplication, window: MainWindow, target: Path, view: str) -> int:
    """Show a view of the demo and write a picture of the window."""
    window.resize(1280, 800)
    settle(app, window)
    pose = POSES.get(view)
    if pose is not None:
        pose(window)
    settle(app, window)
    settle(app, window)
    shown = (window.files.texts.preview if view == "text" else None) or window
    screen = window.screen()
    image = screen.grabWindow(shown.winId()) if view == "3d" else shown.grab()
    ok = image.save(str(target))
    window.files.stop()
    window.session.take(window.session.site)
    window.close()
    if not ok:
        complain(f"{target}: the picture cannot be written; choose another place")
        return 2
    return 0


def _junction(window: MainWindow) -> None:
    """The sheet of the four-way at which Saggar Street crosses Firebrick Street."""
    window.stage_row.choose(4)
    window.session.choose(ThingId("junction", "firebrick-street:saggar-street:0"))
    window.open_junction_sheet()
    _look_at(window, 4241.0, 8258.0, 36.0)
    _ask(window, 4246.0, 8266.0)


def _bulb(window: MainWindow) -> None:
    """Kiln Court's bulb with its island, and its lip's levels in rows and in the long section."""
    window.stage_row.choose(5)
    window.session.choose(ThingId("turning_head", "kiln-court:end"))
    window.show_sheet("Lip levels")
    _look_at(window, 4179.5, 8187.5, 40.0)
    _ask(window, 4190.0, 8191.0)


def _knuckle(window: MainWindow) -> None:
    """Ember Loop's knuckle, in the dark theme."""
    window.paint_in(THEMES["dark"])
    window.stage_row.choose(5)
    window.session.choose(ThingId("knuckle", "ember-loop-knuckle"))
    _look_at(window, 4066.0, 8068.0, 66.0)
    _ask(window, 4057.0, 8063.5)


def _long_section(window: MainWindow) -> None:
    window.stage_row.choose(2)
    window.session.choose(ThingId("street", "ember-loop"))
    window.session.choose(ThingId("street", "ember-loop"), ("vip", "ember-loop", 2))
    window.long_section.point_station(92.0)


def _elements(window: MainWindow) -> None:
    window.stage_row.choose(2)
    window.session.choose(ThingId("street", "ember-loop"))
    window.toggle_sheets()
    window.sheets.show_sheet("Grade line")
    window.plan.fit_thing(ThingId("street", "ember-loop"))
    window.sheets.view.setCurrentIndex(window.sheets.model.index(3, 0))


def _proposals(window: MainWindow) -> None:
    """What is proposed for Ember Loop's grade line, with the balanced one chosen, and one VIP locked."""
    window.stage_row.choose(2)
    for words, edit in locking(window.session.engine, "ember-loop", 2):
        window.session.do(words, edit)
    window.session.choose(ThingId("street", "ember-loop"))
    window.toggle_sheets()
    window.sheets.show_sheet("Proposals")
    window.plan.fit_thing(ThingId("street", "ember-loop"))
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    settle(app, window)
    rows = [str(r.cells[0].value) for r in window.sheets.model.sheet.rows if isinstance(r.cells[0], Fact)]
    window.sheets.view.setCurrentIndex(window.sheets.model.index(rows.index("balance the earth"), 0))


def _section(window: MainWindow) -> None:
    """Ember Loop's section piece by piece, where it has a parking lane, as the hand finds it."""
    session = window.session
    window.stage_row.choose(3)
    session.choose(ThingId("street", "ember-loop"))
    window.show_sheet("Section from 464")
    _look_at(window, 4292.0, 8066.0, 130.0)
    window.long_section.point_station(490.0)
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    settle(app, window)
    window.sheets.view.setCurrentIndex(window.sheets.model.index(1, 0))
    window.cross_section.enterEvent(QEnterEvent(QPointF(), QPointF(), QPointF()))


def _roundabout(window: MainWindow) -> None:
    """Firebrick Street's roundabout: how fast cars come in and go round, one of their paths lit up, and the circle's levels."""
    window.stage_row.choose(4)
    window.session.choose(ThingId("roundabout", "firebrick-street-roundabout"))
    window.show_sheet("Paths")
    _look_at(window, 4234.0, 8060.0, 70.0)
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    settle(app, window)
    window.sheets.view.setCurrentIndex(window.sheets.model.index(1, 0))


def _own_levels(window: MainWindow) -> None:
    """Claypit Road's north kerb with levels of its own, between what the crown and what the boundary leave it."""
    session = window.session
    kerb = session.site.all(KerbLine)[-1]
    boundary = Source(what="point", of=kerb.street, point="boundary", side=kerb.side)
    edit = lambda s: add_window(s, kerb.street, kerb.side, "lip", boundary, 20.0, 420.0, least=0.02, most=0.05)  # noqa: E731
    session.do("Add a fall window", edit)
    window.stage_row.choose(2)
    session.choose(ThingId("kerb_line", kerb.id))
    window.toggle_sheets()
    window.sheets.show_sheet("Room left")
    _look_at(window, 4226.0, 8304.0, 70.0)
    window.long_section.point_station(200.0)
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    settle(app, window)
    window.long_section.plotItem.vb.setRange(QRectF(186.0, 41.25, 26.0, 0.8), padding=0)  # near enough to see the bands


def _ties(window: MainWindow) -> None:
    """What Claypit Road follows and what follows it, a VIP in hand, the rings in its cross section, and its crossfalls in colour."""
    session = window.session
    window.stage_row.choose(2)
    session.choose(ThingId("street", "claypit-road"), ("vip", "claypit-road", 6))
    window.facts.reasons.show_part(1)
    window.facts.setSizes([240, 450])
    window.colouring.choose(CROSSFALL)
    _look_at(window, 4230.0, 8304.0, 60.0)
    window.long_section.point_station(300.0)
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    settle(app, window)
    window.cross_section.show_hand(True)


def _drains(window: MainWindow) -> None:
    """The drains at the toe of Kiln Court's cuts, one chosen, and the section there."""
    window.stage_row.choose(3)
    window.session.choose(ThingId("street", "kiln-court"))
    window.show_sheet("Drains")
    _look_at(window, 4112.0, 8180.0, 74.0)
    window.long_section.point_station(26.0)
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    settle(app, window)
    window.sheets.view.setCurrentIndex(window.sheets.model.index(0, 0))


def _lots(window: MainWindow) -> None:
    """Lots with their driveways, and the vehicle that has least left under it on one of them."""
    window.stage_row.choose(6)
    named = {f.name: f.id for f in lots_on(window.session.engine, "ember-loop")}
    window.session.choose(ThingId("driveway", named["Ember Loop R8"]))
    _look_at(window, 4075.0, 8180.0, 100.0)


def _trail(window: MainWindow) -> None:
    """Why the far lip of Hopper Lane's hammerhead has its level."""
    window.stage_row.choose(5)
    window.session.choose(ThingId("turning_head", "hopper-lane:end"))
    _look_at(window, 4299.0, 8140.5, 44.0)
    _ask(window, 4290.4, 8134.6)


def _solid(window: MainWindow) -> None:
    """Flue Rise, which climbs away from Ember Loop on fill that comes down on that one's earthworks; across it both."""
    window.stage_row.choose(3)
    window.session.choose(ThingId("street", "flue-rise"))
    _look_at(window, 4150.0, 8086.0, 90.0)
    window.long_section.point_station(38.0)
    _ask(window, 4148.9, 8081.6)
    window.toggle_solid()
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    settle(app, window)
    window.solid.nearer(4.0)


def _sketch(window: MainWindow) -> None:
    _look_at(window, 4318.0, 8190.0, 150.0)
    window.draw_street()
    sketch = window.plan.sketch
    assert sketch is not None
    e, n = window.session.origin
    for place in ((4376.5 - e, 8196.0 - n), (4322.0 - e, 8194.0 - n)):
        sketch.move(place, 2.0)
        sketch.click(place, 2.0)
    sketch.move((4282.0 - e, 8212.0 - n), 2.0)


def _empty(window: MainWindow) -> None:
    window.session.take(new_site())
    window.stage_row.choose(0)
    window.plan.fit()


def _text(window: MainWindow) -> None:
    """The surveyor's points as another program might have written them: no header, and semicolons between columns."""
    from humble_loop.demo import survey_files

    rows = next(p for p in survey_files() if p.suffix == ".csv").read_text(encoding="utf-8").splitlines()[1:]
    with tempfile.TemporaryDirectory(prefix="humble-loop-") as folder:
        file = Path(folder) / "brickworks points.txt"
        file.write_text("\n".join(row.replace(",", ";").replace(".", ",") for row in rows), encoding="utf-8")
        window.files.bring_in([file])
        until = time.monotonic() + 10.0
        while window.files.texts.preview is None and time.monotonic() < until:
            QApplication.processEvents()


POSES: dict[str, Callable[[MainWindow], object]] = {
    "overview": lambda w: None,
    "dark": _knuckle,
    "junction": _junction,
    "bulb": _bulb,
    "long-section": _long_section,
    "elements": _elements,
    "proposals": _proposals,
    "section": _section,
    "roundabout": _roundabout,
    "own-levels": _own_levels,
    "drains": _drains,
    "lots": _lots,
    "findings": lambda w: w.stage_row.choose(7),
    "trail": _trail,
    "ties": _ties,
    "3d": _solid,
    "sketch": _sketch,
    "empty": _empty,
    "text": _text,
}
