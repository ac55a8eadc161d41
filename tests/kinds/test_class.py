"""Rules of a street's class: shown and changed in rows, and what they find."""

import pytest

from humble_loop.engine.query import Engine
from humble_loop.geometry.sight import curve_for_sight
from humble_loop.kinds.street import Street
from humble_loop.kinds.street.checks import level_findings
from humble_loop.kinds.street.class_sheet import RULES, class_sheet, own_class, set_rule
from humble_loop.kinds.street.edits import lock_vip
from humble_loop.site.edits import EditError
from humble_loop.site.library import StreetClass
from tests import edits
from tests.kinds.test_grade_handles import graded

CREST = graded((0, 10, 0), (150, 19, 40), (300, 10, 0))  # +6 % and -6 % over 40 m


def over_crests(site):
    return [f for f in level_findings(Engine(site), "line") if f.rule == "sight over a crest"]


def test_a_crest_that_hides_what_lies_behind_it_is_a_finding_that_lengthens_its_curve():
    (found,) = over_crests(set_rule(CREST, "local", sight_distance=60.0))
    # S = sqrt(200 K) (sqrt 1.1 + sqrt 0.2) with K 3.33, as far as the curve reaches.
    assert found.value == pytest.approx(38.6, abs=1.3)
    assert (found.limit, found.chainage) == (60.0, 150.0)
    mended = found.mend.edit(set_rule(CREST, "local", sight_distance=60.0))
    assert mended.find(Street, "line").vips[1].curve_length == pytest.approx(curve_for_sight(60.0, 0.12, 1.1, 0.2))
    assert not over_crests(mended)


def test_a_crest_of_the_least_rate_is_seen_over_in_each_shipped_class():
    for rules in CREST.all(StreetClass):
        change = 0.12
        length = max(rules.least_curve_length, 100.0 * change * rules.least_crest_k)
        site = edits.set_street(CREST, "line", street_class=rules.id)
        assert not over_crests(edits.set_vip(site, "line", 1, curve_length=length)), rules.name


def test_a_locked_crest_has_no_remedy_to_click_and_none_is_told_where_no_distance_is_wanted():
    site = set_rule(lock_vip(CREST, "line", 1, 19.0), "local", sight_distance=60.0)
    assert over_crests(site)[0].mend is None
    assert not over_crests(set_rule(CREST, "local", sight_distance=0.0))


def test_every_rule_of_a_class_stands_in_its_sheet_and_is_changed_there():
    assert set(RULES) == set(StreetClass.model_fields) - {"id", "name"}
    rows = {r.cells[0].value: r for r in class_sheet(Engine(CREST), "line").rows}
    site = rows["greatest grade"].cells[1].edit(0.05)(CREST)
    assert [f.rule for f in level_findings(Engine(site), "line")].count("grade too steep") == 2
    with pytest.raises(EditError):
        rows["greatest grade"].cells[1].edit(-0.05)(CREST)
    site = rows["class"].cells[1].edit("Lane of the north")(site)
    assert site.find(StreetClass, "local").name == "Lane of the north"


def test_a_street_gets_a_class_of_its_own_where_others_share_it():
    site = edits.add_street(CREST, "Other", CREST.find(Street, "line").bends)
    sheet = class_sheet(Engine(site), "line")
    assert "for Other too" in sheet.note
    ((words, own),) = sheet.actions
    assert words == "Own class for Line"
    fresh = own(site)
    assert fresh.find(Street, "line").street_class == "line-class"
    assert fresh.find(Street, "other").street_class == "local"
    assert not class_sheet(Engine(fresh), "line").actions
    assert own_class(fresh, "line").find(Street, "line").street_class == "line-class-2"
