"""The document's models: frozen, strict, and plain in JSON."""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from humble_loop.formats.site_file import site_from_json, site_json
from humble_loop.kinds.lot import LotRow
from humble_loop.kinds.street import Bend, Street, Vip
from humble_loop.kinds.turning_head.model import TurningHead
from humble_loop.site.edits import sentence
from humble_loop.site.libraries import new_site
from humble_loop.site.model import Settings, slug
from tests.conftest import examples, t_site


def test_models_are_frozen():
    site = t_site()
    with pytest.raises(ValidationError):
        site.name = "other"
    with pytest.raises(ValidationError):
        site.all(Street)[0].bends[0].easting = 5.0


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: Bend(easting=float("nan"), northing=0), "usable coordinate"),
        (lambda: Bend(easting=2e8, northing=0), "usable coordinate"),
        (lambda: Bend(easting=0, northing=0, radius=-1), "negative"),
        (lambda: Vip(chainage=0), "either a level or a grade"),
        (lambda: Vip(chainage=0, level=1, grade=0.1), "either a level or a grade"),
        (lambda: TurningHead(street="s", radius=0), "more than zero"),
        (lambda: TurningHead(street="s", kind="square"), "bulb"),
        (lambda: Settings(units="cubits"), "'m', 'ft' or 'us-ft'"),
        (lambda: LotRow(name="r", street="s", place="left", frontage=float("inf")), "more than zero"),
        (lambda: Street(name="s", bends=()), "at least 2"),
    ],
)
def test_values_that_make_no_sense_are_refused_with_a_sentence(make, words):
    with pytest.raises(ValidationError) as caught:
        make()
    assert words in sentence(caught.value)
    assert "\n" not in sentence(caught.value)


@pytest.mark.parametrize(
    ("name", "expected"),
    [("Kiln Court", "kiln-court"), ("  St. John's  Road ", "st-john-s-road"), ("—", "unnamed"), ("A1/B2", "a1-b2")],
)
def test_ids_come_from_names(name, expected):
    assert slug(name) == expected


names = st.text(st.characters(categories=("L", "Nd", "Zs")), min_size=1, max_size=12)
bends = st.lists(
    st.builds(Bend, easting=st.floats(-1e5, 1e5), northing=st.floats(-1e5, 1e5), radius=st.floats(0, 500)),
    min_size=2,
    max_size=5,
)


@examples(40)
@given(names, bends, st.lists(st.floats(-50, 50), max_size=4))
def test_any_site_comes_back_from_its_json(name, points, levels):
    vips = tuple(Vip(chainage=10.0 * i, level=z) for i, z in enumerate(levels))
    site = new_site(name).put(Street(name=name, bends=tuple(points), vips=vips))
    back = site_from_json(Path("site.json"), site_json(site).encode(), lambda name: None)
    assert back == site


def test_looking_a_thing_up_by_id():
    site = t_site()
    assert site.find(Street, "side") is site.all(Street)[1]
    assert site.find(Street, "nowhere") is None
