"""The table of kerbs: closed element by element, with centres where the arcs turn about, and level and grade at their seams."""

import numpy as np
import pytest
from lxml import etree

from humble_loop.engine.query import Engine
from humble_loop.formats.bring_in import bring_in
from humble_loop.formats.landxml import write_landxml
from humble_loop.kinds.island.model import add_island
from humble_loop.kinds.survey_line.lines import vertices
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.kinds.turning_head import HeadLine
from humble_loop.lines.line import line
from humble_loop.lines.table import NoSuchTable
from humble_loop.site import parts
from humble_loop.site.libraries import new_site
from humble_loop.whole.delivery import delivery
from humble_loop.whole.tables import table
from tests.conftest import t_site
from tests.kinds.test_heads import ended, grounded
from tests.kinds.test_knuckles import knuckled


def rows_of(site, of=None):
    made = table(Engine(site), "kerbs", of)
    return [dict(zip(made.columns, r)) for r in made.rows]


def assert_joined(rows):
    """Each element begins where the one before ends, at its level and grade; arcs turn about their centres."""
    for a, b in zip(rows[:-1], rows[1:]):
        for key in ("easting", "northing", "level", "grade"):
            assert b[f"start_{key}"] == pytest.approx(a[f"end_{key}"], abs=1e-9)
    for r in rows:
        if r["radius"]:
            for end in ("start", "end"):
                away = np.hypot(r[f"{end}_easting"] - r["centre_easting"], r[f"{end}_northing"] - r["centre_northing"])
                assert away == pytest.approx(r["radius"], abs=1e-9)
            assert r["length"] == pytest.approx(r["radius"] * np.radians(r["sweep_deg"]))


@pytest.mark.parametrize("kind", ["bulb", "hammerhead", "Y", "left arm", "right arm"])
def test_heads_are_joined_element_by_element(kind):
    rows = rows_of(ended(-0.03, kind))
    assert len(rows) == {"bulb": 3, "hammerhead": 11, "Y": 13, "left arm": 8, "right arm": 8}[kind]
    assert_joined(rows)


def test_a_knuckle_has_both_its_lips():
    rows = rows_of(knuckled(inner=13.0))
    outer = [r for r in rows if "inside" not in r["line"]]
    assert [r["radius"] for r in outer] == pytest.approx([13.0, 8.5, 13.0])
    assert [r["radius"] for r in rows if r not in outer] == pytest.approx([13.0])
    assert_joined(outer)


def test_an_island_closes():
    rows = rows_of(add_island(grounded(ended()), "s", 60.0, 70.0), "S island at 60")
    assert [r["kind"] for r in rows] == ["straight", "arc", "straight", "arc"]
    assert (rows[-1]["end_easting"], rows[-1]["end_northing"]) == pytest.approx(
        (rows[0]["start_easting"], rows[0]["start_northing"]), abs=1e-9
    )
    assert rows[-1]["end_level"] == pytest.approx(rows[0]["start_level"], abs=1e-9)


def test_returns_by_hand_and_what_is_not_there():
    """R 8 about (89, 11.5) and (111, 11.5)."""
    rows = rows_of(t_site())
    centres = sorted((r["centre_easting"], r["centre_northing"]) for r in rows)
    assert centres == [pytest.approx((89.0, 11.5)), pytest.approx((111.0, 11.5))]
    with pytest.raises(NoSuchTable, match="called 'nothing'"):
        rows_of(t_site(), "nothing")


def test_they_are_delivered_as_plan_features_with_their_levels(tmp_path):
    site = add_island(grounded(ended(-0.03, "hammerhead")), "s", 60.0, 70.0)
    q = Engine(site)
    write_landxml(delivery(q), tmp_path / "a.xml")
    back, _ = bring_in(new_site(), [tmp_path / "a.xml"])
    e = Engine(back)
    origin = np.array([*parts.origin(e), 0.0]) - np.array([*parts.origin(q), 0.0])
    read = {s.name: vertices(e, s.id) + origin for s in back.all(SurveyLine)}
    head, lip = read["S hammerhead lip"], line(q, HeadLine("s", "end"))
    assert np.abs(lip.plan.base.feet(head[:, :2]).offsets).max() < 0.01
    assert head[[0, -1], 2] == pytest.approx(lip.rule.levels([0.0, lip.plan.end]))
    assert np.isfinite(head[:, 2]).all()
    written = etree.parse(tmp_path / "a.xml").iterfind(
        ".//{*}PlanFeature[@name='S hammerhead lip']/{*}CoordGeom/*/{*}Start"
    )
    levels = [float(start.text.split()[2]) for start in written]
    assert levels == pytest.approx(lip.rule.levels(lip.plan.base.starts[:-1]))
    assert "S island at 60 lip" in read
