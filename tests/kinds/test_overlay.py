"""Overlay on an old pavement beside new full depth: areas by hand, and whether there is room for it."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.street import Bend, Street, StreetLine, Vip
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.edits import reverse_street, set_street
from humble_loop.kinds.street.joining import joined, joints
from humble_loop.kinds.street.model import FullDepth, SectionChange
from humble_loop.kinds.street.overlay import (
    add_full_depth,
    add_overlay_layer,
    change_overlay,
    full_depths,
    overlay_sheet,
    remove_overlay_layer,
    set_overlay,
)
from humble_loop.kinds.street.plan import chain_of
from humble_loop.lines.line import line
from humble_loop.site.edits import EditError, changed
from humble_loop.site.libraries import new_site
from humble_loop.site.library import Overlay, TypicalSection
from humble_loop.whole.findings import findings
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import plane_ground

E, N = 312_000.0, 6_252_000.0
LOCAL, WIDE, BESIDE = "local-street", 3.4, 0.6


def straight(*, ground=None, points=((0, 0), (200, 0))):
    """A street with the shipped section at level 50, 200 m long, with an overlay."""
    site = new_site()
    if ground is not None:
        site = edits.add_ground(site, Ground(name="g", surface=ground.shifted(E, N)))
    bends = [Bend(easting=E + p[0], northing=N + p[1], radius=p[2] if len(p) > 2 else 0.0) for p in points]
    vips = (Vip(chainage=0, level=50), Vip(chainage=200, level=50))
    return set_overlay(edits.add_street(site, "Line", bends, vips=vips), LOCAL, True)


def areas(site, street="line"):
    """Square metres by what is built: 'full depth' and 'overlay'."""
    made = table(Engine(site), "pavement", street)
    rows = [dict(zip(made.columns, r)) for r in made.rows]
    return {r["build"]: r["area"] for r in rows}


def test_the_old_pavement_stays_but_beside_the_kerbs():
    made = table(Engine(straight()), "pavement", "line")
    rows = [dict(zip(made.columns, r)) for r in made.rows]
    assert [(r["build"], r["layer"]) for r in rows] == [
        ("full depth", "asphalt"),
        ("full depth", "base"),
        ("full depth", "subbase"),
        ("overlay", "asphalt"),
        ("trimmed", "old pavement"),
    ]
    assert rows[0]["area"] == pytest.approx(200 * 2 * BESIDE)
    assert rows[3]["area"] == rows[4]["area"] == pytest.approx(200 * 2 * (WIDE - BESIDE))
    assert rows[4]["volume"] == pytest.approx(200 * 2 * (WIDE - BESIDE) * 0.03)
    assert areas(set_overlay(straight(), LOCAL, False)) == {"full depth": pytest.approx(200 * 2 * WIDE)}
    assert areas(change_overlay(straight(), LOCAL, beside_kerb=9.0))["overlay"] == pytest.approx(0.0)


def test_on_a_stretch_all_of_it_is_new():
    made = areas(add_full_depth(straight(), "line", 53.0, 84.0))
    assert made["overlay"] == pytest.approx(169 * 2 * (WIDE - BESIDE))
    assert made["full depth"] == pytest.approx(200 * 2 * BESIDE + 31 * 2 * (WIDE - BESIDE))


def test_on_an_arc_the_strips_are_rings():
    # An arc of 60 m to the left by 90 degrees between straights of 40 m.
    site = straight(points=((0, 0), (100, 0, 60), (100, 100)))
    straights, turn, inner = 80.0, np.pi / 2, WIDE - BESIDE
    left = turn * (60.0**2 - (60.0 - inner) ** 2) / 2
    right = turn * ((60.0 + inner) ** 2 - 60.0**2) / 2
    assert areas(site)["overlay"] == pytest.approx(straights * 2 * inner + left + right, rel=2e-4)


def test_where_the_section_changes_only_one_has_it():
    plain = changed(straight().find(TypicalSection, LOCAL), id="plain", name="Plain", overlay=None)
    site = straight().put(plain)
    site = set_street(site, "line", changes=(SectionChange(chainage=100.0, section="plain", taper=10.0),))
    made = table(Engine(site), "pavement", "line")
    rows = {(r[1], r[2]): r[5] for r in made.rows}
    assert rows["Local street, 6.8 m between lips", "overlay"] == pytest.approx(105 * 2 * (WIDE - BESIDE), rel=1e-6)
    assert rows["Plain", "full depth"] == pytest.approx(95 * 2 * WIDE, rel=1e-6)
    assert ("Plain", "overlay") not in rows


def test_a_stretch_stays_where_it_is_when_its_street_is_turned_cut_and_joined():
    site = add_full_depth(straight(), "line", 53.0, 84.0)
    back = reverse_street(site, "line", 200.0)
    assert [s[:2] for s in full_depths(Engine(back), "line")] == [(116.0, 147.0)]
    assert areas(back) == {k: pytest.approx(v) for k, v in areas(site).items()}
    two = split(Engine(site), "line", 60.0)(site)
    assert [(f.street, f.begin, f.finish) for f in two.all(FullDepth)] == [("line", 53.0, 60.0), ("line-2", 0.0, 24.0)]
    q = Engine(two)
    again = joined(q, "line", "end", joints(q, "line", "end")[0])(two)
    assert sorted((f.begin, f.finish) for f in again.all(FullDepth)) == [(53.0, 60.0), (60.0, pytest.approx(84.0))]
    assert areas(again) == {k: pytest.approx(v) for k, v in areas(site).items()}


def test_without_room_it_is_told_and_mended_by_trimming():
    # The old surface lies at 49.95: over it stand 0.05 at the crown and, 2.8 m beside, 0.05 - 0.084 = -0.034.
    # With 0.03 trimmed and 0.04 laid, 0.044 is missing there.
    site = straight(ground=plane_ground(0.0, 0.0, 49.95))
    found = [f for f in findings(Engine(site)) if f.rule == "overlay has no room"]
    assert [f.value for f in found] == [pytest.approx(-0.044, abs=1e-9)]
    assert "44 mm too high" in found[0].message
    mended = found[0].mend.apply(site)
    assert mended.find(TypicalSection, LOCAL).overlay.trim == pytest.approx(0.075)
    assert not [f for f in findings(Engine(mended)) if f.rule == "overlay has no room"]
    whole = add_full_depth(site, "line", -1.0, 201.0)
    assert not [f for f in findings(Engine(whole)) if f.rule == "overlay has no room"]
    low = straight(ground=plane_ground(0.0, 0.0, 49.9))
    assert not [f for f in findings(Engine(low)) if f.rule == "overlay has no room"]


def test_its_measures_are_rows_and_are_typed_into():
    site = set_overlay(straight(), LOCAL, False)
    first = overlay_sheet(Engine(site), "line").rows[0]
    site = first.cells[1].edit("yes")(site)
    rows = overlay_sheet(Engine(site), "line").rows
    assert [r.cells[0].value for r in rows[1:]] == ["full depth beside kerbs", "trimmed, mm", "laid, mm"]
    site = rows[2].cells[2].edit(45.0)(site)
    site = rows[3].cells[2].edit(50.0)(site)
    site = rows[1].cells[2].edit(0.8)(site)
    site = dict(rows[3].actions)["Add a layer under it"](site)
    over = site.find(TypicalSection, LOCAL).overlay
    assert (over.trim, over.beside_kerb, [x.thickness for x in over.layers]) == (0.045, 0.8, [0.05, 0.02])
    made = overlay_sheet(Engine(site), "line")
    site = dict(made.actions)["Full depth from 80 to 120"](site)
    row = overlay_sheet(Engine(site), "line").rows[-1]
    assert row.points[[0, -1]] == pytest.approx(np.array([(80, 0), (120, 0)]))
    site = row.cells[3].edit(90.0)(site)
    assert [s[:2] for s in full_depths(Engine(site), "line")] == [(90.0, 120.0)]
    turned = reverse_street(site, "line", 200.0)
    row = overlay_sheet(Engine(turned), "line").rows[-1]
    assert [c.value for c in row.cells[3:]] == [80.0, 110.0]
    turned = row.cells[4].edit(100.0)(turned)
    assert [(f.begin, f.finish) for f in turned.all(FullDepth)] == [(100.0, 120.0)]
    assert dict(row.actions)["Remove"](turned).all(FullDepth) == ()


def test_what_makes_no_sense_is_refused_and_it_comes_back_from_its_file(tmp_path):
    site = add_overlay_layer(add_full_depth(straight(), "line", 53.0, 84.0), LOCAL)
    save_site(site, tmp_path / "a.hloop")
    again = load_site(tmp_path / "a.hloop")
    assert again.find(TypicalSection, LOCAL) == site.find(TypicalSection, LOCAL)
    assert again.all(FullDepth) == site.all(FullDepth)
    site = remove_overlay_layer(site, LOCAL, 0)
    with pytest.raises(EditError, match="take the overlay away"):
        remove_overlay_layer(site, LOCAL, 0)
    with pytest.raises(EditError, match="no overlay"):
        change_overlay(set_overlay(site, LOCAL, False), LOCAL, trim=0.02)
    with pytest.raises(EditError, match="cannot end at"):
        add_full_depth(site, "line", 20.0, 10.0)
    assert Overlay().thickness == pytest.approx(0.04)
    assert site.find(Street, "line").section == LOCAL
    assert chain_of(Engine(site), "line").total == pytest.approx(200.0)
    assert line(Engine(site), StreetLine("line")).plan.end == pytest.approx(200.0)
