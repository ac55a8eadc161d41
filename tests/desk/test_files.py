"""Files by the window: open, save, recovery, what is dropped on it, and what it writes for others."""

import json
import signal
import subprocess
import sys
import time

import ezdxf
import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QMessageBox, QPushButton

from humble_loop.demo import survey_files
from humble_loop.formats.bring_in import Options, bring_in
from humble_loop.formats.recovery import lost_sessions, recover
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.lot import PadChoice
from humble_loop.kinds.street import Street
from humble_loop.kinds.survey_line.model import SurveyLine
from tests import edits
from tests.conftest import court_site
from tests.formats.landxml_text import landxml


def view_range(view):
    return [tuple(r) for r in view.plotItem.vb.viewRange()]


def test_open_save_and_recent(drive, brickworks, tmp_path, monkeypatch):
    file = tmp_path / "job.hloop"
    save_site(brickworks, file)
    d = drive()
    d.window.files.open_path(file)
    assert d.site.name == "The old brickworks"
    assert not d.session.unsaved
    d.session.do("Set pad", lambda s: edits.set_pad(s, "Kiln Court L2", 41.5))
    assert d.window.windowTitle().startswith("• ")
    assert d.window.files.save()
    assert ("kiln-court-left", 2, 41.5) in [(p.row, p.number, p.level) for p in load_site(file).all(PadChoice)]
    other = tmp_path / "other"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(other), ""))
    assert d.window.files.save_as()
    assert load_site(tmp_path / "other.hloop").name == "The old brickworks"
    assert json.loads(str(d.window._settings.value("recent"))) == [str(tmp_path / "other.hloop"), str(file)]


def answer(monkeypatch, words, asked):
    """Every question is answered by the button of these words."""

    def press(box):
        asked.append(box.text())
        next(b for b in box.buttons() if b.text().replace("&", "") == words).click()

    monkeypatch.setattr(QMessageBox, "exec", press)


def test_of_two_windows_that_save_one_file_the_second_is_told(drive, brickworks, tmp_path, monkeypatch):
    file, asked = tmp_path / "job.hloop", []
    save_site(brickworks, file)
    d = drive()
    d.window.files.open_path(file)
    d.session.do("Set pad", lambda s: edits.set_pad(s, "Kiln Court L2", 41.5))
    theirs = edits.set_pad(brickworks, "Kiln Court L1", 43.0)
    save_site(theirs, file)  # by the other window
    answer(monkeypatch, "Cancel", asked)
    assert not d.window.files.save()
    assert "another window" in asked[0]
    assert "job.hloop.bak" in asked[0]
    assert d.session.unsaved
    assert load_site(file).all(PadChoice) == theirs.all(PadChoice)
    answer(monkeypatch, "Another name", asked)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "mine.hloop"), ""))
    assert d.window.files.save()
    assert (load_site(tmp_path / "mine.hloop").all(PadChoice)) == d.site.all(PadChoice)
    assert load_site(file).all(PadChoice) == theirs.all(PadChoice)
    # From now on it is its own file, and nobody asks.
    d.session.do("Set pad", lambda s: edits.set_pad(s, "Kiln Court L2", 41.6))
    assert d.window.files.save()
    assert len(asked) == 2


def test_saving_over_what_another_window_wrote_keeps_that_as_the_backup(drive, brickworks, tmp_path, monkeypatch):
    file = tmp_path / "job.hloop"
    save_site(brickworks, file)
    d = drive()
    d.window.files.open_path(file)
    d.session.do("Set pad", lambda s: edits.set_pad(s, "Kiln Court L2", 41.5))
    theirs = edits.set_pad(brickworks, "Kiln Court L1", 43.0)
    save_site(theirs, file)
    answer(monkeypatch, "Save over it", [])
    assert d.window.files.save()
    assert load_site(file).all(PadChoice) == d.site.all(PadChoice)
    assert load_site(tmp_path / "job.hloop.bak").all(PadChoice) == theirs.all(PadChoice)


def test_a_name_that_gets_its_ending_here_does_not_replace_a_file_unasked(drive, brickworks, tmp_path, monkeypatch):
    file, asked = tmp_path / "job.hloop", []
    save_site(brickworks, file)
    d = drive()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "job"), ""))
    monkeypatch.setattr(
        QMessageBox, "question", lambda *a, **k: asked.append(a[2]) or QMessageBox.StandardButton.Cancel
    )
    assert not d.window.files.save_as()
    assert "job.hloop" in asked[0]
    assert load_site(file).name == "The old brickworks"
    monkeypatch.setattr(QMessageBox, "question", lambda *a, **k: QMessageBox.StandardButton.Save)
    assert d.window.files.save_as()
    assert load_site(file).name == d.site.name != "The old brickworks"


@pytest.mark.parametrize(
    "content", [b"", b"\x00\x01nonsense" * 50, b'{"format": "humble-loop-site", "version": 99, "site": {}}']
)
def test_a_bad_site_file_says_so_and_the_present_site_stays(drive, brickworks, tmp_path, complaints, content):
    d = drive(brickworks)
    bad = tmp_path / "bad.hloop"
    bad.write_bytes(content)
    before = d.site
    d.window.files.open_path(bad)
    assert d.site is before
    assert len(complaints) == 1
    assert str(bad) in complaints[0]
    assert "Traceback" not in complaints[0]


def drop(window, paths):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(p)) for p in paths])
    event = QDropEvent(
        QPointF(300, 300), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)


def test_survey_files_dropped_on_the_window_are_brought_in(drive):
    d = drive()
    drop(d.window, survey_files())
    QTest.keyClick(preview_of(d), Qt.Key.Key_Return)
    d.qtbot.waitUntil(lambda: bool(d.site.all(Ground)), timeout=20000)
    assert len(d.site.all(Ground)) == 2
    assert d.session.undo_words == "Bring in files"
    d.settle()
    (x0, x1), _ = view_range(d.window.plan)
    assert x0 < 100 < x1


def test_a_bad_file_dropped_says_so_and_loses_nothing(drive, brickworks, tmp_path, complaints):
    d = drive(brickworks)
    before = d.site
    bad = tmp_path / "survey.csv"
    bad.write_text("1,10\n")
    drop(d.window, [bad])
    d.qtbot.waitUntil(lambda: bool(complaints), timeout=20000)
    assert "survey.csv: line 1" in complaints[0]
    assert d.site is before


def test_a_change_is_on_disk_within_seconds_and_offered_after_a_crash(drive, brickworks, tmp_path, monkeypatch):
    d = drive(brickworks)
    d.session.do("Set pad", lambda s: edits.set_pad(s, "Kiln Court L2", 41.75))
    started = time.monotonic()
    d.qtbot.waitUntil(lambda: any((tmp_path / "recovery").glob("*/site.json")), timeout=5000)
    assert time.monotonic() - started < 4.0
    assert lost_sessions(tmp_path / "recovery") == []
    # As if this process had died: nobody holds its folder.
    next((tmp_path / "recovery").glob("*/running")).unlink()
    (lost,) = lost_sessions(tmp_path / "recovery")
    other = drive()

    monkeypatch.setattr(QMessageBox, "question", lambda *a: QMessageBox.StandardButton.Open)
    other.window.files.offer_recovery(lost)
    assert ("kiln-court-left", 2, 41.75) in [(p.row, p.number, p.level) for p in other.site.all(PadChoice)]
    assert other.session.unsaved


def test_a_window_that_is_ended_from_outside_puts_its_work_on_disk_first(tmp_path):
    """As at the end of a desktop session: not even the second before the next recovery copy is lost."""
    code = """
import sys
from pathlib import Path
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from humble_loop.desk.app import _end_on_signals
from humble_loop.desk.session import Session
from humble_loop.site.libraries import new_site
app = QApplication([])
session = Session(Path(sys.argv[1]))
def begin():
    session.do("Take another site", lambda site: new_site("just changed"))
    print("ready", flush=True)
_end_on_signals(app, session)
QTimer.singleShot(0, begin)
sys.exit(app.exec())
"""
    process = subprocess.Popen([sys.executable, "-c", code, str(tmp_path)], stdout=subprocess.PIPE, text=True)
    assert process.stdout.readline() == "ready\n"
    process.send_signal(signal.SIGTERM)
    process.communicate(timeout=30)
    assert process.returncode == 0
    (lost,) = lost_sessions(tmp_path)
    assert recover(lost).name == "just changed"


def test_a_recovered_site_does_not_overwrite_what_was_saved_since_the_crash(drive, brickworks, tmp_path, monkeypatch):
    file, asked = tmp_path / "job.hloop", []
    save_site(brickworks, file)
    d = drive()
    d.window.files.open_path(file)
    d.session.do("Set pad", lambda s: edits.set_pad(s, "Kiln Court L2", 41.75))
    d.session.write_recovery()
    next((tmp_path / "recovery").glob("*/running")).unlink()  # as if this process had died
    (lost,) = lost_sessions(tmp_path / "recovery")
    theirs = edits.set_pad(brickworks, "Kiln Court L1", 43.0)
    save_site(theirs, file)
    other = drive()
    monkeypatch.setattr(QMessageBox, "question", lambda *a: QMessageBox.StandardButton.Open)
    other.window.files.offer_recovery(lost)
    answer(monkeypatch, "Cancel", asked)
    assert not other.window.files.save()
    assert "another window" in asked[0]
    assert load_site(file).all(PadChoice) == theirs.all(PadChoice)


def test_closing_properly_leaves_no_recovery_copy(drive, brickworks, tmp_path):
    d = drive(brickworks)
    d.session.do("Set pad", lambda s: edits.set_pad(s, "Kiln Court L2", 41.75))
    d.session.write_recovery()
    assert list((tmp_path / "recovery").iterdir())
    d.session.save(tmp_path / "x.hloop")
    assert not list((tmp_path / "recovery").iterdir())


def test_what_was_altered_is_listed_and_a_click_shows_its_place(drive, tmp_path):
    d = drive(court_site())
    body = """<Alignments><Alignment name="Old" staStart="0"><CoordGeom>
      <Line><Start>300 0</Start><End>300 50</End></Line><Line><Start>300 55</Start><End>330 90</End></Line>
      </CoordGeom></Alignment></Alignments>"""
    drop(d.window, [landxml(tmp_path, body)])
    d.qtbot.waitUntil(lambda: d.window.files.report is not None, timeout=20000)
    report = d.window.files.report
    model = report.view.model()
    assert [model.index(0, k).data() for k in range(2)] == [
        "altered alignment",
        "'Old': a gap of 5.000 m between a line and a line is closed by a straight",
    ]
    report.view.clicked.emit(model.index(0, 0))
    (x0, x1), (y0, y1) = view_range(d.window.plan)
    e, n = d.site.origin
    assert (0.5 * (x0 + x1) + e, 0.5 * (y0 + y1) + n) == pytest.approx((50, 300), abs=1e-6)
    report.close()


def test_an_export_is_written_beside_the_window_as_the_site_was(drive, brickworks, tmp_path):
    d = drive(brickworks)
    said = []
    d.session.said.connect(said.append)
    target = tmp_path / "out.dxf"
    d.window.files.export_to(target)
    started = d.window.files._exporter
    # The window goes on meanwhile: what is changed now is not in the file.
    street = d.site.all(Street)[0]
    d.session.do("Remove", lambda s: edits.remove_street(s, street.id))
    d.window.files.export_to(tmp_path / "second.dxf")
    assert said[-1] == "A file is being written already"
    d.qtbot.waitUntil(started.isFinished, timeout=60000)
    d.qtbot.waitUntil(lambda: "Written out.dxf" in said, timeout=2000)
    assert len(ezdxf.readfile(target).modelspace()) > 100
    assert not (tmp_path / "second.dxf").exists()
    assert not list(tmp_path.glob(".out*"))


def test_an_export_that_is_given_up_or_cannot_be_written_leaves_nothing(drive, brickworks, tmp_path, complaints):
    d = drive(brickworks)
    d.window.files.export_to(tmp_path / "a.xml")
    d.window.files._exporter.requestInterruption()
    d.qtbot.waitUntil(lambda: bool(complaints), timeout=60000)
    assert complaints.pop() == "Given up; nothing was written"
    d.qtbot.waitUntil(d.window.files._exporter.isFinished, timeout=5000)
    d.window.files.export_to(tmp_path / "nowhere" / "a.csv")
    d.qtbot.waitUntil(lambda: bool(complaints), timeout=60000)
    assert "cannot be written" in complaints.pop()
    d.qtbot.waitUntil(d.window.files._exporter.isFinished, timeout=5000)
    d.window.files.export_to(tmp_path / "a.pdf")
    d.qtbot.waitUntil(lambda: bool(complaints), timeout=60000)
    assert complaints.pop() == f"{tmp_path / 'a.pdf'}: files ending in '.pdf' cannot be written; use .xml, .dxf or .csv"
    assert not list(tmp_path.glob("*a.*"))


# Text files whose layout leaves doubts


ROWS = [(f"{k}", 8000.5 + 7 * (k % 9), 4000.25 + 11 * (k // 9), 50 + 0.1 * k) for k in range(80)]


def northing_first(path):
    """A file without a header: number, easting as it seems, northing as it seems, level; and it is the other way about."""
    path.write_text("\n".join(";".join(str(v).replace(".", ",") for v in row) for row in ROWS))
    return path


def preview_of(d):
    d.qtbot.waitUntil(lambda: d.window.files.texts.preview is not None, timeout=5000)
    return d.window.files.texts.preview


def choose(combo, words):
    combo.setCurrentText(words)
    combo.activated.emit(combo.currentIndex())


def test_a_file_without_a_header_is_shown_and_set_right_before_it_is_read(drive, tmp_path):
    d = drive()
    drop(d.window, [northing_first(tmp_path / "levels.txt")])
    preview = preview_of(d)
    assert (preview.separator.currentText(), preview.decimal.currentText()) == ("semicolon", "comma")
    assert [c.currentText() for c in preview._combos] == ["number", "easting", "northing", "level"]
    assert "no header" in preview.doubts.text()
    assert preview.words.text() == "80 points: E 8,000.50 to 8,056.50, N 4,000.25 to 4,088.25, levels 50.00 to 57.90 m"
    choose(preview._combos[1], "northing")
    assert [c.currentText() for c in preview._combos] == ["number", "northing", "skipped", "level"]
    assert "no easting column" in preview.doubts.text()
    assert not preview.bring_in.isEnabled()
    choose(preview._combos[2], "easting")
    assert preview.words.text().startswith("80 points: E 4,000.25 to 4,088.25")
    choose(preview.unit, "ft")
    assert preview.words.text().endswith(" ft")
    preview.bring_in.click()
    d.qtbot.waitUntil(lambda: bool(d.site.all(Ground)), timeout=10000)
    points = d.site.all(Ground)[0].surface.points
    assert points[:, 0].min() == pytest.approx(4000.25 * 0.3048, abs=1e-6)
    assert points[:, 1].max() == pytest.approx(8056.5 * 0.3048, abs=1e-6)
    # The next file of the kind begins with what was said about this one.
    drop(d.window, [northing_first(tmp_path / "more.txt")])
    preview = preview_of(d)
    assert [c.currentText() for c in preview._combos] == ["number", "northing", "easting", "level"]
    assert preview.unit.currentText() == "ft"
    assert "as you said" in preview.doubts.text()
    preview.reject()
    assert not d.window.files.texts.busy
    assert len(d.site.all(Ground)) == 1


def test_another_separator_is_tried_at_once_and_what_does_not_fit_is_said(drive, tmp_path):
    d = drive()
    drop(d.window, [northing_first(tmp_path / "levels.txt")])
    preview = preview_of(d)
    choose(preview.separator, "tab")
    assert not preview.bring_in.isEnabled()
    assert "hold no points" in preview.doubts.text()
    choose(preview.separator, "semicolon")
    assert preview.bring_in.isEnabled()
    QTest.keyClick(preview, Qt.Key.Key_Escape)
    d.qtbot.waitUntil(lambda: not d.window.files.texts.busy)
    assert d.site.all(Ground) == ()
    assert "Given up" in d.window.status.said.text()


def plain(path, offset):
    path.write_text(
        "number,easting,northing,level\n" + "\n".join(f"{k},{8100 + offset + k % 5},{4100 + k},{50}" for k in range(30))
    )
    return path


def test_of_several_files_without_doubts_that_are_alike_one_is_shown(drive, tmp_path):
    d = drive()
    swapped = [northing_first(tmp_path / name) for name in ("a.txt", "b.txt")]
    sure = [plain(tmp_path / f"sure {k}.csv", 10 * k) for k in range(3)]
    drop(d.window, [swapped[0], *sure, swapped[1]])
    for name in ("a.txt", "sure 0.csv", "b.txt"):
        preview = preview_of(d)
        assert name in preview.windowTitle()
        d.window.files.texts.preview.bring_in.click()
        d.qtbot.waitUntil(lambda p=preview: d.window.files.texts.preview is not p)
    d.qtbot.waitUntil(lambda: bool(d.site.all(Ground)), timeout=10000)
    assert len(d.site.all(Ground)[0].surface.points) == 170  # those that stand in both files once


def test_a_file_that_leaves_no_doubts_is_shown_and_can_be_read_in_another_way(drive, tmp_path):
    d = drive()
    drop(d.window, [plain(tmp_path / "survey.csv", 0)])
    preview = preview_of(d)
    assert preview.doubts.text() == ""
    choose(preview._combos[1], "northing")
    choose(preview._combos[2], "easting")
    QTest.keyClick(preview, Qt.Key.Key_Return)
    d.qtbot.waitUntil(lambda: bool(d.site.all(Ground)), timeout=10000)
    assert d.site.all(Ground)[0].surface.points[:, 0].min() == pytest.approx(4100)
    drop(d.window, [plain(tmp_path / "next.csv", 10)])
    assert [c.currentText() for c in preview_of(d)._combos] == ["number", "northing", "easting", "level"]
    d.window.files.texts.preview.reject()


def test_commas_for_both_can_be_looked_at_but_not_brought_in(drive, tmp_path):
    d = drive()
    file = tmp_path / "both.csv"
    file.write_text("1,4000,25,8000,5,50,1\n2,4010,5,8000,25,50,3\n3,4010,75,8010,5,50,2\n")
    drop(d.window, [file])
    preview = preview_of(d)
    assert "commas stand for both" in preview.doubts.text()
    assert not preview.bring_in.isEnabled()
    preview.reject()


# Lines whose file is read again


def kerbs(path, shift=0.0):
    rows = ["number,easting,northing,level,code"]
    for code, north in (("KERB1", 8000.0), ("KERB2", 8020.0)):
        for k in range(4):
            rows.append(
                f"{len(rows)},{4000.0 + 20 * k},{north + (shift if code == 'KERB1' else 0.0):.3f},{50 + 0.1 * k:.3f},{code}"
            )
    path.write_text("\n".join(rows) + "\n")
    return path


def test_lines_are_read_again_and_taken_where_they_are_ticked(drive, tmp_path, monkeypatch, complaints):
    d = drive()
    file, said = kerbs(tmp_path / "kerbs.csv"), []
    d.session.said.connect(said.append)
    d.session.do("Bring in", lambda s: bring_in(s, [file], Options(breakline_codes=("KERB",)))[0])
    lines = [line.name for line in d.site.all(SurveyLine)]
    assert lines == ["KERB1", "KERB2"]
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(file), ""))
    again = next(c.do for c in d.window._commands if c.words == "Read lines again")
    d.window.run(again)
    preview_of(d).bring_in.click()  # a text file's layout is looked at here too
    d.qtbot.waitUntil(lambda: "Its lines are as they were" in said, timeout=20000)
    kerbs(file, 0.25)
    d.window.run(again)
    preview_of(d).bring_in.click()
    d.qtbot.waitUntil(lambda: d.window.files.changes is not None, timeout=20000)
    changes = d.window.files.changes
    assert [changes.list.item(k).text() for k in range(changes.list.count())] == ["KERB1: moved by 0.250 m at most"]
    changes.list.setCurrentRow(0)
    (x0, x1), (y0, y1) = view_range(d.window.plan)
    e, n = d.site.origin
    assert (0.5 * (x0 + x1) + e, 0.5 * (y0 + y1) + n) == pytest.approx((4040.0, 8000.25), abs=1e-6)
    x, y = d.window.plan._lit.getData()
    assert (x[2] + e, y[2] + n) == pytest.approx((4040.0, 8000.25))  # where it is now
    take = next(b for b in changes.findChildren(QPushButton) if b.text() == "Take what is ticked")
    QTest.mouseClick(take, Qt.MouseButton.LeftButton)
    assert not changes.isVisible()
    assert not len(d.window.plan._lit.getData()[0] if d.window.plan._lit.getData()[0] is not None else ())
    assert d.site.all(SurveyLine)[0].vertices[0][:2] == (4000.0, 8000.25)
    assert d.window.session.site.all(SurveyLine)[1].vertices[0][:2] == (4000.0, 8020.0)
    d.session.undo()
    assert d.site.all(SurveyLine)[0].vertices[0][:2] == (4000.0, 8000.0)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(kerbs(tmp_path / "other.csv")), ""))
    d.window.run(again)
    preview_of(d).bring_in.click()
    d.qtbot.waitUntil(lambda: bool(complaints), timeout=20000)
    assert complaints.pop() == "other.csv: no line of the site came from it; its lines came from kerbs.csv"
