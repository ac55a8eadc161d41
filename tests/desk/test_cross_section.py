"""The cross section can be read: figures clear of lines and of one another, at a scale that suits what is shown."""

from itertools import combinations

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from humble_loop.desk import cross_section
from humble_loop.desk.drawing import cross_view
from humble_loop.desk.session import Station
from humble_loop.desk.stretch_button import StretchButton
from humble_loop.engine.query import Cancelled
from humble_loop.formats.quantities import show_chainage
from humble_loop.kinds.street import StreetLine, Vip
from humble_loop.kinds.street.plan import chain_of
from humble_loop.lines.line import ThingId
from tests import edits
from tests.conftest import court_site


def shown(drive, site, street, chainage):
    """The cross section at a place, painted."""
    d = drive(site)
    d.session.choose(ThingId("street", street))
    d.session.station = Station(StreetLine(street), chainage)
    view = d.window.cross_section
    view.refresh()
    d.settle()  # a view that is not done in its time goes on in pieces
    view.grab()
    return d, view


def pixels(view, points):
    p = points[np.isfinite(points).all(axis=1)]
    at = [view.plotItem.vb.mapViewToDevice(QPointF(*map(float, q))) for q in p]
    return np.array([(a.x(), a.y()) for a in at])


def test_both_sides_have_their_names_offsets_levels_and_falls(drive, court):
    _, view = shown(drive, court, "court", 60.0)
    columns = {(p.texts[0], round(p.x, 2)): p.texts for p, _ in view.band.columns}
    for name, x in (("crown", 0.0), ("lip", -2.9), ("lip", 2.9), ("boundary", -7.65), ("boundary", 7.65)):
        _, offset, level = columns[name, x]
        assert offset == f"{abs(x):.3f}"
        made = view._made
        z = made.design[list(np.round(made.design[:, 0], 2)).index(x), 1]
        assert level == f"{z:.3f}"
    assert [f.text for f, _ in view.band.falls] == ["2.00 %", "−3.00 %", "−3.00 %", "2.00 %"]


@pytest.mark.parametrize("chainage", [30.0, 60.0, 75.0])
def test_no_figure_touches_a_line_or_another(drive, court, chainage):
    _, view = shown(drive, court, "court", chainage)
    boxes = [b for _, b in view.band.columns] + [b for _, b in view.band.falls]
    assert len(boxes) >= 8
    assert not any(a.intersects(b) for a, b in combinations(boxes, 2))
    for line in (view._made.design, view._made.ground):
        path = pixels(view, line)
        x = np.linspace(path[0, 0], path[-1, 0], 4000)
        y = np.interp(x, path[:, 0], path[:, 1])
        for box in boxes:
            inside = (x > box.left()) & (x < box.right()) & (y > box.top()) & (y < box.bottom())
            assert not inside.any()


def test_each_section_fills_its_view_at_its_own_scale(drive):
    site = court_site()
    high = edits.set_vips(site, "court", [Vip(chainage=0, level=50), Vip(chainage=130, level=64)])
    _, view = shown(drive, site, "court", 60.0)
    (x0, x1), (y0, y1) = view.plotItem.vb.viewRange()
    assert (x0, x1) == pytest.approx((-1.3 * 7.65, 1.3 * 7.65))
    flat = (y1 - y0) / (x1 - x0)
    _, view = shown(drive, high, "court", 60.0)
    (x0, x1), (y0, y1) = view.plotItem.vb.viewRange()
    design = view._made.design
    assert x0 < design[:, 0].min() < design[:, 0].max() < x1
    assert y0 < design[:, 1].min() < design[:, 1].max() < y1
    assert (y1 - y0) / (x1 - x0) > 1.9 * flat  # levels are drawn less enlarged, so that all of it is seen


def test_the_exaggeration_is_chosen_and_a_double_click_fits(drive, court):
    d, view = shown(drive, court, "court", 60.0)
    button = d.window._panes["Cross section"].findChildren(StretchButton)[0]
    assert button.text() == "5 ×"
    next(a for a in button.menu().actions() if a.text() == "1 ×").trigger()
    (x0, x1), (y0, y1) = view.plotItem.vb.viewRange()
    vb = view.plotItem.vb
    assert (x1 - x0) / vb.width() == pytest.approx((y1 - y0) / vb.height())
    assert button.text() == "1 ×"
    view.zoom(0.2, (5.0, y0), Qt.KeyboardModifier.NoModifier)
    zoomed = view.plotItem.vb.viewRange()
    d.session.station = Station(StreetLine("court"), 62.0)
    view.refresh()
    assert view.plotItem.vb.viewRange() == zoomed  # the hand's view stays from place to place
    QTest.mouseDClick(view.viewport(), Qt.MouseButton.LeftButton)
    assert view.plotItem.vb.viewRange()[0] == pytest.approx([x0, x1], rel=0.02)


def test_nothing_rescales_while_something_is_dragged(drive, court):
    d, view = shown(drive, court, "court", 60.0)
    before = view.plotItem.vb.viewRange()
    d.session.begin()
    d.session.preview(lambda s: edits.set_vips(s, "court", [Vip(chainage=0, level=60), Vip(chainage=130, level=64)]))
    view.refresh()
    assert view.plotItem.vb.viewRange() == before
    d.session.cancel()


def test_an_existing_street_and_a_head_say_what_is_shown(drive, brickworks, court):
    _, view = shown(drive, brickworks, "claypit-road", 100.0)
    assert "existing street" in view.band._words
    assert [p.texts[0] for p, _ in view.band.columns if not p.mark] == ["crown"]
    assert {"LIP1", "LIP2", "KERB1"} <= {p.texts[0] for p in view.band._points if p.mark}  # as they were surveyed
    _, view = shown(drive, court, "court", 1000.0)
    assert "the surface is cut" in view.band._words
    assert [p.texts[0] for p, _ in view.band.columns] == ["crown", "edge", "edge"]


def test_while_something_is_dragged_the_section_follows_and_batters_when_the_hand_rests(drive, court, monkeypatch):
    d, view = shown(drive, court, "through", 30.0)
    assert view._made.names.count("toe") == 2
    in_a_hurry = [True]

    def in_time(q, street, s, *, batters=True):
        if batters and in_a_hurry:
            raise Cancelled
        return cross_view(q, street, s, batters=batters)

    monkeypatch.setattr(cross_section, "cross_view", in_time)
    section = d.window.long_section
    handle = next(h for h in section.handles.handles if h.title.endswith("VIP 1"))
    above = (handle.place[0], handle.place[1] + 0.5)
    d.drag(section, handle.place, above, release=False)
    d.qtbot.waitUntil(lambda: view._made.names.count("toe") == 0, timeout=5000)
    assert view._made.words == "batters follow when the hand rests"
    in_a_hurry.clear()
    d.qtbot.waitUntil(lambda: view._made.names.count("toe") == 2, timeout=5000)
    assert view._made.words == ""
    assert np.array_equal(view._made.design, cross_view(d.session.engine, "through", 30.0).design)
    d.release(section, above)


def test_the_caption_names_the_place_that_is_shown_when_the_street_grows(drive, court):
    d = drive(court)
    d.session.choose(ThingId("street", "court"))
    d.settle()
    caption = d.window._panes["Cross section"].caption

    def half_way():
        return show_chainage(0.5 * chain_of(d.session.engine, "court").total, "0+000.00", "m")

    before = half_way()
    assert caption.text().endswith(before)
    d.session.do("Lengthen it", lambda s: edits.move_bend(s, "court", 2, 175.0, 140.0))
    d.settle()
    assert half_way() != before
    assert caption.text().endswith(half_way())
