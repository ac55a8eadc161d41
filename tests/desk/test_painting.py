"""No view works anything out while it paints, and what fails in a paint is told in its place."""

import sys

import numpy as np
import pytest
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QTransform

from humble_loop.desk.layers import Layer, SignLayer
from humble_loop.desk.painting import guarded
from humble_loop.desk.theme import THEMES
from humble_loop.engine.query import Engine
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kinds


@pytest.fixture
def faults(monkeypatch):
    """What was reported as a fault of ours."""
    found = []
    monkeypatch.setattr(sys, "excepthook", lambda kind, error, trace: found.append(error))
    return found


@pytest.mark.parametrize("name", ["plan", "long_section", "cross_section", "strip"])
def test_no_view_asks_the_engine_while_it_paints(drive, brickworks, monkeypatch, name):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "kiln-court"))
    d.settle()
    d.window.long_section.point_station(40.0)
    view = getattr(d.window, name)
    asked, ask = [], Engine.ask
    monkeypatch.setattr(Engine, "ask", lambda q, what, args: asked.append(what) or ask(q, what, args))
    (view.viewport() if hasattr(view, "viewport") else view).repaint()
    assert asked == []
    d.session.point_at(120.0, 190.0)
    assert asked  # the cursor does ask, so what is counted is counted


def test_a_strip_zoomed_in_without_end_still_paints(drive, brickworks, faults):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "kiln-court"))
    d.settle()
    d.window.long_section.plotItem.vb.setRange(QRectF(50.0, 40.0, 1e-9, 1e-9), padding=0)
    d.window.strip.repaint()
    d.qtbot.wait(10)
    assert faults == []
    far = [d.window.strip.pixel(s) for s in (0.0, 1e6)]
    assert far == [-60.0, d.window.strip.width() + 60.0]


def test_a_strip_whose_marks_cannot_be_worked_out_shows_the_rest(drive, brickworks, monkeypatch):
    d = drive(brickworks)
    street = next(k for k in kinds() if k.key == "street")
    monkeypatch.setattr(type(street), "ribbon", lambda self, q, street: [][1])
    monkeypatch.setattr(Engine, "strict", False)
    d.session.engine.forget()
    d.session.choose(ThingId("street", "kiln-court"))
    d.settle()
    d.window.strip.repaint()
    assert d.window.isVisible()


@pytest.mark.parametrize("name", ["plan", "long_section", "cross_section"])
@pytest.mark.parametrize("factor", [0.5, 2.0])
def test_zooming_and_panning_without_end_stops_where_numbers_end(drive, brickworks, faults, name, factor):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "kiln-court"))
    d.window.long_section.point_station(40.0)
    d.settle()
    view = getattr(d.window, name)
    for _ in range(200):
        (x0, x1), (y0, y1) = view.plotItem.vb.viewRange()
        view.zoom(factor, (0.4 * x0 + 0.6 * x1, 0.7 * y0 + 0.3 * y1), Qt.KeyboardModifier.NoModifier)
        view.pan(100.0 * (x1 - x0), -50.0 * (y1 - y0))
    view.viewport().repaint()
    d.qtbot.wait(200)  # labels find their places when the view rests
    assert faults == []
    (x0, x1), (y0, y1) = view.plotItem.vb.viewRange()
    assert 0.009 < x1 - x0 < 1.1e7
    assert max(map(abs, (x0, x1, y0, y1))) < 1.1e8
    view.fit()
    d.qtbot.wait(50)
    (x0, x1), _ = view.plotItem.vb.viewRange()
    assert 5.0 < x1 - x0 < 2000.0


class Broken(Layer):
    def boundingRect(self):
        return QRectF(0, 0, 100, 100)

    def draw(self, painter):
        painter.fillRect(QRectF(0, 0, 1, 1), QColor("blue"))
        raise ZeroDivisionError("deep inside")


def test_what_fails_in_a_paint_is_told_in_its_place_and_reported_once(qtbot, faults):
    image = QImage(400, 60, QImage.Format.Format_RGB32)
    layer = Broken()
    layer.theme = THEMES["light"]
    for _ in range(3):
        image.fill(QColor("white"))
        with QPainter(image) as painter:
            painter.scale(30.0, 30.0)
            layer.paint(painter)
            assert painter.worldTransform().m11() == 30.0  # the next layer finds the painter as it should be
    qtbot.wait(20)
    assert [str(e) for e in faults] == ["deep inside"]
    dark = sum(image.pixelColor(x, y).lightness() < 200 for x in range(400) for y in range(60))
    assert dark > 300  # the box and its sentence
    assert image.pixelColor(200, 50) == QColor("white")  # in pixels, not in the layer's coordinates


def test_a_plan_with_a_broken_layer_goes_on(drive, brickworks, faults):
    d = drive(brickworks)
    plan = d.window.plan
    plan.add_layer(Broken())
    plan.layers[-1].theme = plan.theme
    for k in range(5):
        plan.pan(1.0 * k, 0.0)
        plan.viewport().repaint()
    d.settle()
    assert d.window.isVisible()
    assert len(faults) <= 1


def test_a_paint_that_goes_well_is_left_alone(qtbot, faults):
    image = QImage(20, 20, QImage.Format.Format_RGB32)
    image.fill(QColor("white"))
    with QPainter(image) as painter:
        guarded(painter, lambda p: p.fillRect(QRectF(0, 0, 20, 20), QColor("green")))
    assert image.pixelColor(10, 10) == QColor("green")
    assert faults == []


def test_the_site_is_painted_again_only_when_it_has_changed_and_not_with_the_cursor(drive, brickworks, monkeypatch):
    d = drive(brickworks)
    plan, painted = d.window.plan, []
    strokes = plan.drawing.strokes
    draw = strokes.draw
    monkeypatch.setattr(strokes, "draw", lambda painter: (painted.append(1), draw(painter)))

    def frame() -> int:
        painted.clear()
        plan.viewport().repaint()
        return len(painted)

    frame()
    d.window.session.point_at(150.0, 180.0)
    before = plan.grab().toImage()
    assert frame() == 0
    key = next(key for key in strokes._kept if strokes.lines_of(key))
    strokes.show_strokes(key, ())
    assert frame() == 1
    assert plan.grab().toImage() != before
    plan.pan(3.0, 0.0)
    assert frame() == 1
    plan.paint_in(THEMES["dark"])
    assert frame() == 1
    assert frame() == 0


def test_a_sign_stands_with_its_foot_where_the_finding_is(qtbot):
    layer = SignLayer()
    layer.theme = THEMES["light"]
    layer.boundingRect = lambda: QRectF(0, 0, 200, 100)
    layer.show_signs([(50.0, 60.0, True), (52.0, 61.0, True), (120.0, 60.0, False)])
    image = QImage(200, 100, QImage.Format.Format_RGB32)
    image.fill(QColor("white"))
    with QPainter(image) as painter:
        painter.setWorldTransform(QTransform())
        layer.paint(painter)
    inked = np.array([[image.pixelColor(x, y).lightness() < 235 for x in range(200)] for y in range(100)])
    for left, right, foot in ((35, 85, 50), (105, 135, 120)):
        rows, columns = np.nonzero(inked[:, left:right])
        assert abs(rows.max() - 60) <= 2
        assert rows.min() < 40
        assert abs(np.median(columns) + left - foot) <= 1  # the two that are one place are one sign
    assert not inked[:, 85:105].any()
