"""Kerb shapes point by point, and the library that keeps them. Measures are millimetres from the lip."""

import json

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.formats.errors import FormatError
from humble_loop.formats.own_library import OwnLibrary
from humble_loop.kinds.street import Street, StreetLine
from humble_loop.kinds.street.kerbs import add_kerb_point, copy_kerb, kerb_sheets, remove_kerb_point, set_kerb_point
from humble_loop.lines.line import line
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from humble_loop.site.library import KerbPart, KerbShape, TypicalSection
from tests import edits
from tests.kinds.test_sections import LOCAL, site_bends, straight

BARRIER = "barrier"  # invert 300 / -25, top 330 / 120, back 450 / 125


def shape(site, id=BARRIER):
    return site.find(KerbShape, id)


def sheet(site):
    q = Engine(site)
    return kerb_sheets(q, "line")[0].make(q)


def test_a_point_that_is_moved_moves_the_streets_line():
    site = set_kerb_point(straight(), BARRIER, 1, up=150.0)
    q = Engine(site)
    lip, top = (line(q, StreetLine("line", n, "left")) for n in ("lip", "top of kerb"))
    assert top.rule.levels([50.0])[0] - lip.rule.levels([50.0])[0] == pytest.approx(0.150)
    site = set_kerb_point(site, BARRIER, 2, out=500.0)
    back = line(Engine(site), StreetLine("line", "back of kerb", "left")).plan
    assert back.offset.one(0.0) == pytest.approx(3.9)


def test_a_point_is_added_half_way_and_beyond_the_last():
    site = add_kerb_point(straight(), BARRIER, 0)
    added = shape(site).points[1]
    assert (added.point, added.out, added.up) == ("break", 315.0, 47.5)
    site = add_kerb_point(site, BARRIER, -1)
    assert (shape(site).points[0].out, shape(site).points[0].up) == (150.0, -12.5)
    assert shape(site).points[0].point == "break 2"
    site = add_kerb_point(site, BARRIER, 4)
    assert (shape(site).points[-1].out, shape(site).points[-1].up) == (550.0, 130.0)
    site = remove_kerb_point(site, BARRIER, 5)
    assert shape(site).points[-1].point == "back of kerb"


@pytest.mark.parametrize(
    ("do", "words"),
    [
        (lambda s: set_kerb_point(s, BARRIER, 1, out=250.0), "further out"),
        (lambda s: set_kerb_point(s, BARRIER, 1, out=300.0), "further out"),
        (lambda s: set_kerb_point(s, BARRIER, 1, point="invert"), "two of its points are called 'invert'"),
        (lambda s: set_kerb_point(s, BARRIER, 1, point="  "), "letter or a digit"),
        (lambda s: set_kerb_point(s, BARRIER, 9, up=1.0), "no point 10"),
        (lambda s: set_kerb_point(s, BARRIER, 1, up=float("nan")), "up"),
        (
            lambda s: remove_kerb_point(remove_kerb_point(remove_kerb_point(s, BARRIER, 0), BARRIER, 0), BARRIER, 0),
            "besides its lip",
        ),
    ],
)
def test_what_folds_back_or_has_no_point_is_refused(do, words):
    with pytest.raises(EditError, match=words):
        do(straight())


def test_the_rows_tell_widths_and_heights_and_are_typed_into():
    site = straight()
    made = sheet(site)
    assert made.title == "Kerb"
    assert [r.cells[0].value for r in made.rows] == [
        "Barrier kerb and channel",
        "lip",
        "invert",
        "top of kerb",
        "back of kerb",
        "lining",
    ]
    assert [(r.cells[3].value, r.cells[4].value) for r in made.rows[2:-1]] == [
        (300.0, -25.0),
        (30.0, 145.0),
        (120.0, 5.0),
    ]
    assert np.array([p[1:] for p in made.shape]) == pytest.approx(
        np.array([(0, 0), (0.3, -0.025), (0.33, 0.12), (0.45, 0.125)])
    )
    site = made.rows[3].cells[2].edit(110.0)(site)
    assert shape(site).points[1].up == 110.0
    site = sheet(site).rows[-1].cells[4].edit(150.0)(site)
    assert shape(site).lining == 150.0
    site = sheet(site).rows[0].cells[0].edit("Council kerb")(site)
    assert shape(site).name == "Council kerb"


def test_a_copy_is_taken_by_the_streets_own_sections_only():
    site = edits.add_street(straight(), "Other", site_bends(), section="access-place")
    site = copy_kerb(site, BARRIER, (LOCAL,))
    kerbs = [p.kerb for p in site.find(TypicalSection, LOCAL).left.parts if isinstance(p, KerbPart)]
    assert kerbs != [BARRIER]
    assert shape(site, kerbs[0]).points == shape(site).points
    assert site.find(TypicalSection, "access-place") == straight().find(TypicalSection, "access-place")
    assert site.find(Street, "line").section == LOCAL


# The designer's own library


def test_what_is_made_is_kept_for_other_sites_at_once(tmp_path):
    library = OwnLibrary(tmp_path / "library")
    library.keep(straight())
    assert not (tmp_path / "library").exists()  # nothing is there that is not shipped
    site = copy_kerb(straight(), BARRIER, (LOCAL,))
    mine = next(k for k in site.all(KerbShape) if k.id not in {s.id for s in new_site().all(KerbShape)})
    library.keep(set_kerb_point(site, mine.id, 1, up=140.0))
    fresh = OwnLibrary(tmp_path / "library").added_to(new_site())
    assert fresh.find(KerbShape, mine.id).points[1].up == 140.0
    assert fresh.find(KerbShape, BARRIER) == new_site().find(KerbShape, BARRIER)


def test_shapes_of_several_sites_are_kept_side_by_side(tmp_path):
    library = OwnLibrary(tmp_path)
    library.keep(new_site().put(KerbShape(id="a", name="A", points=shape(new_site()).points)))
    library.keep(new_site().put(KerbShape(id="b", name="B", points=shape(new_site()).points)))
    assert {s.id for s in library.shapes()} == {"a", "b"}


def test_a_site_keeps_its_own_shape_of_that_name(tmp_path):
    library = OwnLibrary(tmp_path)
    mine = KerbShape(id="a", name="A", points=shape(new_site()).points)
    library.keep(new_site().put(mine))
    other = new_site().put(KerbShape(id="a", name="A", points=mine.points[:1]))
    assert library.added_to(other).find(KerbShape, "a").points == mine.points[:1]


@pytest.mark.parametrize("text", ["", "{", "[]", '{"kerb_shapes": 3}', '{"kerb_shapes": [{"id": "x"}]}', "\x00" * 20])
def test_a_damaged_library_is_told_and_left_alone(tmp_path, text):
    file = tmp_path / "kerb_shapes.json"
    file.write_text(text)
    library = OwnLibrary(tmp_path)
    with pytest.raises(FormatError, match="your own library cannot be read"):
        library.added_to(new_site())
    with pytest.raises(FormatError):
        library.keep(new_site().put(KerbShape(id="a", name="A", points=shape(new_site()).points)))
    assert file.read_text() == text


def test_the_library_is_an_open_file(tmp_path):
    OwnLibrary(tmp_path).keep(new_site().put(KerbShape(id="a", name="Größe", points=shape(new_site()).points)))
    rows = json.loads((tmp_path / "kerb_shapes.json").read_text(encoding="utf-8"))["kerb_shapes"]
    assert rows[0]["name"] == "Größe"
    assert rows[0]["points"][0] == {"point": "invert", "out": 300.0, "up": -25.0}
