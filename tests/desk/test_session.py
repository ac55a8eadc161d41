"""The session without a window: edits, drags, undo, choice, and paint that colour-blind eyes can tell apart."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QWidget

from humble_loop.desk.dragging import Dragging, Tag
from humble_loop.desk.session import Session, Station
from humble_loop.desk.theme import DARK, LIGHT
from humble_loop.engine.query import Unsolved
from humble_loop.formats.errors import FormatError
from humble_loop.kinds.street import Street, StreetLine
from humble_loop.lines.describe import Handle
from humble_loop.lines.line import ThingId
from tests import edits
from tests.conftest import t_site


@pytest.fixture
def session(qapp):
    made = Session()
    made.take(t_site())
    made.notices = []
    made.said_words = []
    made.changed.connect(lambda: made.notices.append("changed"))
    made.said.connect(made.said_words.append)
    return made


def move(distance):
    return lambda site: edits.move_bend(site, "side", 1, 100 + distance, 60)


def test_an_edit_is_one_notice_and_one_step(session):
    before = session.site
    assert session.do("Move", move(3))
    assert session.notices == ["changed"]
    assert session.undo_words == "Move"
    session.undo()
    assert session.site is before
    assert session.redo_words == "Move"
    assert session.said_words == ["Undone: Move"]


def test_an_edit_that_cannot_be_made_says_why_and_changes_nothing(session):
    before = session.site
    assert not session.do("Move", lambda s: edits.set_bend(s, "side", 9, radius=1))
    assert session.site is before
    assert session.notices == []
    assert session.said_words == ["'Side' has no bend 10"]


def test_what_an_edit_adds_is_chosen_if_it_is_one_thing(session):
    assert session.do_and_choose("End in a bulb", lambda s: edits.set_head(s, "side", "end"))
    assert session.chosen.thing == ThingId("turning_head", "side:end")
    session.choose(ThingId("street", "side"))
    assert session.do_and_choose("Move", move(3))
    assert session.do_and_choose("Lots", lambda s: edits.add_lot_row(s, "side", "left", frontage=12, start=20))
    assert session.chosen.thing == ThingId("street", "side")


def test_an_edit_that_changes_nothing_is_no_step(session):
    session.do("Nothing", lambda s: s)
    assert session.undo_words == ""


def test_a_handle_of_what_cannot_be_worked_out_any_more_ends_its_drag(session, qapp):
    def gone(*asked):
        raise Unsolved("Side", "it is 13,001 km long", "draw it shorter")

    view = QWidget()
    dragging = Dragging(session, Tag(view))
    handle = Handle(
        ("h",), (0.0, 0.0), "Side lane", "square", lambda place: (move(place[0]), ()), (), rule=gone, instead=gone
    )
    dragging.begin(handle, QPoint())
    dragging.move((3.0, 0.0), QPoint())
    dragging.finish()
    assert not session.dragging
    assert session.site.all(Street)[1].bends[1].easting == 103
    # And one whose move cannot be told says why, and changes nothing.
    before = session.site
    dragging.begin(Handle(("h",), (0.0, 0.0), "Side lane", "square", gone, ()), QPoint())
    dragging.move((5.0, 0.0), QPoint())
    dragging.finish()
    assert session.site is before


def test_previews_are_of_the_drags_beginning_and_become_one_step(session):
    before = session.site
    session.begin()
    for d in (1, 2, 3):
        assert session.preview(move(d)) == ""
    assert session.dragging
    assert session.site.all(Street)[1].bends[1].easting == 103
    session.commit("Drag")
    assert not session.dragging
    session.undo()
    assert session.site is before
    session.redo()
    assert session.site.all(Street)[1].bends[1].easting == 103


def test_a_preview_that_makes_no_sense_keeps_the_last_good_one(session):
    session.begin()
    session.preview(move(2))
    why = session.preview(lambda s: edits.set_corner(s, "side", "start", "left", radius=-1))
    assert "more than zero" in why
    assert session.site.all(Street)[1].bends[1].easting == 102
    session.cancel()
    assert session.site.all(Street)[1].bends[1].easting == 100


def test_undo_waits_for_the_end_of_a_drag(session):
    session.do("First", move(1))
    session.begin()
    session.preview(move(5))
    session.undo()
    assert session.site.all(Street)[1].bends[1].easting == 105
    session.cancel()
    session.undo()
    assert session.site.all(Street)[1].bends[1].easting == 100


def test_a_new_edit_clears_what_could_be_done_again(session):
    session.do("First", move(1))
    session.undo()
    session.do("Second", move(2))
    assert session.redo_words == ""


def test_unsaved_is_about_the_site_not_about_steps(session, tmp_path):
    assert not session.unsaved
    session.do("Move", move(1))
    assert session.unsaved
    session.undo()
    assert not session.unsaved
    with pytest.raises(FormatError, match="no file yet"):
        session.save()
    session.do("Move", move(1))
    session.save(tmp_path / "a.hloop")
    assert not session.unsaved


def test_choosing_another_street_lets_the_section_cursor_go(session):
    session.choose(ThingId("street", "side"))
    session.point_at(100, 20, Station(StreetLine("side"), 20.0))
    session.choose(ThingId("street", "side"), ("vip", "side", 1))
    assert session.station == Station(StreetLine("side"), 20.0)
    session.choose(ThingId("street", "through"))
    assert session.station is None


# Machado, Oliveira and Fernandes (2009), full severity, on linear RGB.
SIGHT = {
    "protan": [[0.152286, 1.052583, -0.204868], [0.114503, 0.786281, 0.099216], [-0.003882, -0.048116, 1.051998]],
    "deutan": [[0.367322, 0.860646, -0.227968], [0.280085, 0.672501, 0.047413], [-0.011820, 0.042940, 0.968881]],
    "tritan": [[1.255528, -0.076749, -0.178779], [-0.078411, 0.930809, 0.147602], [0.004733, 0.691367, 0.303900]],
}


def seen(colour, sight):
    rgb = np.array([int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)])
    linear = np.where(rgb <= 0.04045, rgb / 12.92, ((rgb + 0.055) / 1.055) ** 2.4)
    return np.clip(np.array(SIGHT[sight]) @ linear, 0, 1) ** (1 / 2.4)


@pytest.mark.parametrize("theme", [LIGHT, DARK], ids=lambda t: t.name)
@pytest.mark.parametrize("sight", list(SIGHT))
@pytest.mark.parametrize(
    ("a", "b"), [("left_lip", "right_lip"), ("left_lip", "crown"), ("cut", "fill"), ("crown", "ground")]
)
def test_colours_that_mean_different_things_stay_apart_in_any_sight(theme, sight, a, b):
    assert np.linalg.norm(seen(getattr(theme, a), sight) - seen(getattr(theme, b), sight)) > 0.12
