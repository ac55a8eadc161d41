"""Edits: pure, sharing, and refusing nonsense in one sentence."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.formats.export import export
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.junction.model import JunctionChoice
from humble_loop.kinds.lot.kind import line_with_lots, pad_windows
from humble_loop.kinds.lot.layout import lots_on
from humble_loop.kinds.lot.model import LotRow
from humble_loop.kinds.lot.model import set_pad as set_pad_of
from humble_loop.kinds.street import Bend, Street, Vip
from humble_loop.kinds.street.grade_handles import vip_room
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.plan import ground_along
from humble_loop.kinds.street.show import keep
from humble_loop.kinds.survey_line import SurveyLine
from humble_loop.site.edits import EditError, free_name
from humble_loop.site.libraries import new_site
from humble_loop.site.library import KerbPoint, KerbShape, SectionSide, StreetClass, Strip
from humble_loop.whole.delivery import delivery
from humble_loop.whole.finished import whole_surface
from tests import edits
from tests.asking import crown_levels, pad_of
from tests.conftest import t_site


def test_an_edit_leaves_the_old_site_alone_and_shares_what_it_does_not_touch():
    old = t_site()
    new = edits.move_bend(old, "side", 1, 101.0, 61.0)
    assert old.all(Street)[1].bends[1].easting == 100
    assert new.all(Street)[0] is old.all(Street)[0]
    assert new.things["sections"] is old.things["sections"]
    assert new.all(Street)[1].bends[0] is old.all(Street)[1].bends[0]


NONSENSE = {
    "bend to nowhere": lambda s: edits.move_bend(s, "side", 1, float("nan"), 0),
    "bend beyond the world": lambda s: edits.move_bend(s, "side", 1, 1e12, 0),
    "negative radius": lambda s: edits.set_bend(s, "side", 1, radius=-5),
    "no such bend": lambda s: edits.set_bend(s, "side", 7, radius=5),
    "no such street": lambda s: edits.set_bend(s, "nowhere", 0, radius=5),
    "no such vip": lambda s: edits.set_vip(s, "side", 5, level=1),
    "level not a number": lambda s: edits.set_vip(s, "side", 0, level=float("inf")),
    "vips cross": lambda s: edits.set_vip(s, "through", 0, chainage=300),
    "one point street": lambda s: edits.add_street(s, "x", [Bend(easting=0, northing=0)]),
    "too few bends": lambda s: edits.remove_bend(s, "side", 0),
    "radius zero": lambda s: edits.set_corner(s, "side", "start", "left", radius=0),
    "bulb without radius": lambda s: edits.set_head(s, "side", radius=0),
    "divisions zero": lambda s: edits.set_corner(s, "side", "start", "left", divisions=0),
    "pad not a number": lambda s: set_pad_of(s, "row", 1, float("nan")),
    "frontage zero": lambda s: edits.add_lot_row(s, "side", "left", frontage=0),
    "row nowhere": lambda s: edits.set_lot_row(s, "x", frontage=3),
    "lots in the air": lambda s: edits.add_lot_row(s, "side", "above"),
    "no name": lambda s: edits.rename_street(s, "side", "  "),
    "taken name": lambda s: edits.rename_street(s, "side", "Through"),
    "interval zero": lambda s: edits.set_settings(s, row_interval=0),
    "unknown field": lambda s: edits.set_street(s, "side", colour="red"),
    "reverse a street set by grade": lambda s: edits.reverse_street(s, "side", 60),
}


@pytest.mark.parametrize("name", list(NONSENSE))
def test_nonsense_is_refused_in_one_sentence(name):
    site = t_site()
    with pytest.raises(EditError) as caught:
        NONSENSE[name](site)
    assert "\n" not in str(caught.value)
    assert site == t_site()


WILD = [
    "Side\x00\x1b[31m street",
    "\ud800half",
    "line\nbreak\r\n\tand tab",
    "\u202egnirts",
    "=HYPERLINK(1)",
    "  @+-=cmd",
    "x" * 5000,
    "Ⅷ Straße 道路",
]


@pytest.mark.parametrize("name", WILD)
def test_a_name_is_cleaned_where_it_enters_and_every_writer_works(name, tmp_path):
    site = edits.rename_street(t_site(), "side", name)
    kept = site.find(Street, "side").name
    assert kept
    assert len(kept) <= 120
    assert kept.isprintable()
    assert kept[0] not in "=+-@"
    kept.encode("utf-8")
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").find(Street, "side").name == kept
    for ending in ("xml", "dxf", "csv"):
        export(delivery(Engine(site)), tmp_path / f"a.{ending}")


@pytest.mark.parametrize("name", ["", "  ", "\x00\x07", "=+-@", "\u200b\u202e"])
def test_a_name_of_nothing_is_refused_by_hand_and_replaced_from_a_file(name):
    with pytest.raises(EditError, match="a name needs"):
        edits.rename_street(t_site(), "side", name)
    assert SurveyLine(name=name, vertices=((0, 0, None), (1, 1, None))).name == "Survey line"
    assert SurveyLine(name=name, code="LIP", vertices=((0, 0, None), (1, 1, None))).name == "LIP"
    assert free_name(t_site(), Street, name) == "Street"


def test_names_and_ids_are_made_unique():
    site = edits.add_street(t_site(), "Side", [Bend(easting=0, northing=9), Bend(easting=9, northing=9)])
    assert [s.id for s in site.all(Street)] == ["through", "side", "side-2"]
    assert site.all(Street)[-1].name == "Side 2"
    line = SurveyLine(name="L", vertices=((0, 0, None), (1, 1, None)))
    assert [
        i.id for i in edits.add_survey_lines(edits.add_survey_lines(site, [line]), [line, line]).all(SurveyLine)
    ] == [
        "l",
        "l-2",
        "l-3",
    ]


def test_removing_a_street_takes_its_choices_and_lots_along():
    site = edits.set_corner(t_site(), "side", "start", "left", radius=9)
    site = edits.add_lot_row(site, "side", "left")
    gone = edits.remove_street(site, "side")
    assert (gone.all(JunctionChoice), gone.all(LotRow), len(gone.all(Street))) == ((), (), 1)


def test_reversing_twice_is_no_change():
    site = edits.set_vips(
        t_site(), "side", [Vip(chainage=30, level=22.2, curve_length=8), Vip(chainage=60, level=22.5)]
    )
    site = edits.add_lot_row(edits.set_corner(site, "side", "start", "left", radius=9), "side", "left", start=20)
    assert edits.reverse_street(edits.reverse_street(site, "side", 60.0), "side", 60.0) == site


def test_setting_a_level_clears_a_grade_and_the_other_way():
    site = edits.set_vip(t_site(), "side", 0, level=23.0)
    assert (site.all(Street)[1].vips[0].level, site.all(Street)[1].vips[0].grade) == (23.0, None)
    site = edits.set_vip(site, "side", 0, grade=0.02)
    assert (site.all(Street)[1].vips[0].level, site.all(Street)[1].vips[0].grade) == (None, 0.02)


def test_kerbs_run_outwards_and_sides_begin_with_the_lane():
    with pytest.raises(ValueError, match="further out"):
        KerbShape(name="k", points=(KerbPoint(point="a", out=300, up=0), KerbPoint(point="b", out=200, up=0)))
    with pytest.raises(ValueError, match="crown to the lip"):
        SectionSide(parts=(Strip(to="boundary", width=3),))


def test_the_shipped_libraries_say_what_they_are():
    from humble_loop.data import path

    for file in path("libraries").glob("*.json"):
        assert "typical, check your authority's" in file.read_text(encoding="utf-8")
    assert {c.id for c in new_site().all(StreetClass)} == {"local", "access", "collector"}


# Proposals


def test_keeping_a_proposal_changes_nothing_but_whose_it_is(court):
    q = Engine(court)
    before = grade_line(q, "court")
    kept = keep(q, "court")(court)
    after = grade_line(Engine(kept), "court")
    s = np.linspace(before.profile.chainages[0], before.profile.chainages[-1], 50)
    assert after.profile.level(s) == pytest.approx(before.profile.level(s), abs=1e-9)
    assert before.states[1] == "proposed"
    assert after.states[1] == "set"


def test_a_proposed_grade_line_keeps_the_classs_grades_and_stays_near_the_ground(court):
    q = Engine(court)
    line, ground = grade_line(q, "through"), ground_along(q, "through")
    assert np.all(np.abs(line.profile.grades) >= 0.005 - 1e-12)
    assert np.all(np.abs(line.profile.grades) <= 0.16)
    known = np.isfinite(ground.levels)
    assert np.abs(line.profile.level(ground.chainages[known]) - ground.levels[known]).max() < 4.1


def test_a_street_is_lined_with_lots_once(court):
    bare = court.replaced("lot_rows", ())
    q = Engine(bare)
    lined = line_with_lots(q, "court")(bare)
    assert {r.place for r in lined.all(LotRow)} == {"left", "right", "head"}
    again = Engine(lined)
    assert len(lots_on(again, "court")) > 8
    with pytest.raises(EditError, match="has room"):
        line_with_lots(again, "court")(lined)
    assert not whole_surface(again).surface.empty


# Fall windows


def test_a_pads_window_for_the_crown_is_its_own_shifted(court):
    q = Engine(court)
    for w in pad_windows(q, "court"):
        made = pad_of(q, w.rule.split(":")[0])
        crown = crown_levels(q, "court", [0.5 * (w.chainages[0] + w.chainages[1])])[0]
        assert w.low == pytest.approx([crown + made.wanted - made.high] * 2)
        assert w.high - w.low == pytest.approx([made.high - made.low] * 2)


def test_a_vips_window_keeps_both_legs_within_the_classs_grades():
    site = edits.set_vips(
        t_site(), "through", [Vip(chainage=0, level=20), Vip(chainage=100, level=22), Vip(chainage=200, level=26)]
    )
    q = Engine(site)
    low, high = vip_room(q, "through", 1)
    # Least 0.5 %, most 16 % on legs of 100 m that both rise: 20.5 to 36 from below, 10 to 25.5 from above.
    assert (low, high) == pytest.approx((20.5, 25.5))
    for level in (low, high):
        grades = grade_line(Engine(edits.set_vip(site, "through", 1, level=level)), "through").profile.grades
        assert np.all((grades >= 0.005 - 1e-12) & (grades <= 0.16 + 1e-12))
