"""Falls across a street and heights over the old surface. Expected values are worked out by hand on a straight street."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.model import Ground
from humble_loop.kinds.kerb_line.crossfall_sheet import crossfall_sheet
from humble_loop.kinds.kerb_line.model import KerbLine, KerbVip, add_kerb_line
from humble_loop.kinds.street.crossfalls import crossfalls, over_the_old, over_words
from humble_loop.kinds.street.edits import reverse_street
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.lines.line import line
from humble_loop.site.edits import EditError
from humble_loop.whole.tables import table
from tests import edits
from tests.kinds.test_elements import E0, N0
from tests.kinds.test_sections import straight
from tests.kinds.test_ties import DROP, crown, on_ground


def test_falls_and_heights_along_a_street():
    """The ground rises with the street, 0.05 lower than its crown, level across."""
    site = on_ground(0.01, 0.0, 59.95)
    site = add_kerb_line(site, "line", "left", [KerbVip(chainage=s, level=crown(s) - 0.136) for s in (0.0, 200.0)])
    made = crossfalls(Engine(site), "line", 50.0)
    assert made.chainages.tolist() == [0.0, 50.0, 100.0, 150.0, 200.0]
    assert made.over == pytest.approx(0.05, abs=1e-6)
    assert made.left.crossfall == pytest.approx(0.04)  # 0.136 over 3.4 m
    assert made.right.crossfall == pytest.approx(0.03)
    assert made.left.over == pytest.approx(0.05 - 0.136, abs=1e-6)
    assert made.right.over == pytest.approx(0.05 - DROP, abs=1e-6)
    assert made.right.path_fall == pytest.approx(0.02)
    assert made.right.lip_out == pytest.approx(3.4)


def test_the_table_has_them_and_leaves_out_what_is_not_there():
    q = Engine(on_ground(0.01, 0.0, 59.95))
    made = table(q, "crossfalls", "Line", 100.0)
    row = dict(zip(made.columns, made.rows[1]))
    assert row["crown"] == pytest.approx(61.0)
    assert row["left_lip"] == pytest.approx(61.0 - DROP)
    assert row["left_crossfall"] == pytest.approx(0.03)
    assert row["crown_over_old"] == pytest.approx(0.05, abs=1e-6)
    no_ground = table(Engine(straight()), "crossfalls", "Line", 100.0)
    assert dict(zip(no_ground.columns, no_ground.rows[1]))["crown_over_old"] is None


def test_the_least_and_greatest_height_over_the_old_surface_is_exact():
    """The old surface is a tent: level 60 at y = -10 and 10, with a ridge at y = 1 whose height has one peak of 60.9 at x = 50 and
    60.3 at x = 0 and 100. The crown rises at 1 % from 60 and falls at 3 % to both sides, so that over the peak it is 60.5 - 0.03 - 60.9.
    """
    points = [(x, y, 60.0) for y in (-10.0, 10.0) for x in (0.0, 50.0, 100.0)]
    points += [(0.0, 1.0, 60.3), (50.0, 1.0, 60.9), (100.0, 1.0, 60.3)]
    triangles = [[0, 1, 6], [1, 7, 6], [1, 2, 7], [2, 8, 7], [6, 7, 3], [7, 4, 3], [7, 8, 4], [8, 5, 4]]
    surface = Surface(np.array(points), np.array(triangles)).shifted(E0, N0)
    site = edits.add_ground(straight(length=100.0), Ground(name="Tent", surface=surface))
    least, greatest = over_the_old(Engine(site), "line")
    assert least.over == pytest.approx(60.5 - 0.03 - 0.9 - 60.0, abs=1e-6)
    assert (least.chainage, least.offset) == (pytest.approx(50.0, abs=1e-6), pytest.approx(1.0, abs=1e-6))
    # Greatest at the far end of the crown: 61 over 60 + 0.3 × 10 / 11. To the right the crossfall is steeper than the tent.
    assert greatest.over == pytest.approx(61.0 - 60.0 - 0.3 * 10.0 / 11.0, abs=1e-6)
    assert (greatest.chainage, greatest.offset) == (pytest.approx(100.0), pytest.approx(0.0, abs=1e-6))
    rows = {r[1]: r for r in table(Engine(site), "overlay").rows}
    assert rows["least"][3] == pytest.approx(-least.over)
    assert rows["greatest"][3] == 0.0


def test_without_ground_there_is_nothing_to_lie_over():
    assert over_the_old(Engine(straight()), "line") is None
    assert table(Engine(straight()), "overlay").rows == ()


def test_levels_and_falls_are_typed_in_rows():
    site = on_ground(0.01, 0.0, 59.95)
    rows = crossfall_sheet(Engine(site), "line").rows
    row = next(r for r in rows if r.cells[0].value == pytest.approx(100.0))
    assert row.cells[5].value == pytest.approx(61.0)
    raised = row.cells[5].edit(61.05)(site)
    assert float(line(Engine(raised), StreetLine("line")).rule.levels([100.0])[0]) == pytest.approx(61.05)
    with pytest.raises(EditError, match=r"no levels of its own at 100\.00"):
        row.cells[4].edit(0.04)(site)
    own = add_kerb_line(site, "line", "left", [KerbVip(chainage=s, level=crown(s) - DROP) for s in (0.0, 200.0)])
    for made, at, side in ((own, 100.0, "left"), (reverse_street(own, "line", 200.0), 100.0, "right")):
        rows = crossfall_sheet(Engine(made), "line").rows
        row = next(r for r in rows if r.cells[0].value == pytest.approx(at))
        cell = row.cells[4] if side == "left" else row.cells[6]
        typed = cell.edit(0.04)(made)
        fall = crossfalls(Engine(typed), "line", 100.0).side(side).crossfall[1]
        assert fall == pytest.approx(0.04)
        # Typed again the same VIP moves.
        again = next(r for r in crossfall_sheet(Engine(typed), "line").rows if r.cells[0].value == pytest.approx(at))
        twice = (again.cells[4] if side == "left" else again.cells[6]).edit(0.035)(typed)
        assert len(twice.all(KerbLine)[0].vips) == 3


def test_the_overlay_says_how_far_all_of_it_lies_over_the_old_surface():
    words = over_words(Engine(on_ground(0.01, 0.0, 59.95)), "line")
    assert "least −0.052" in words
    assert "greatest 0.050" in words
    assert "trimmed up to 0.052" in words
    assert over_words(Engine(straight()), "line") == ""
