"""Bearings as surveyors write them."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.formats.bearings import parse_angle, parse_bearing, show_bearing, show_turn
from humble_loop.formats.quantities import NotAQuantity


@pytest.mark.parametrize(
    ("text", "degrees"),
    [
        ("112°30'15\"", 112 + 30 / 60 + 15 / 3600),
        ("112°30′15″", 112 + 30 / 60 + 15 / 3600),
        ("112 30 15", 112 + 30 / 60 + 15 / 3600),
        ("112-30-15", 112 + 30 / 60 + 15 / 3600),
        ("112d30m", 112.5),
        ("112°30'", 112.5),
        ("112,504", 112.504),
        ("7.5", 7.5),
        ("360", 0.0),
        ("N 67°30' E", 67.5),
        ("S67 30E", 112.5),
        ("S 12.25 W", 192.25),
        ("n 0 w", 0.0),
        ("N 10 W", 350.0),
        ("S 0 E", 180.0),
    ],
)
def test_bearings_in_every_form(text, degrees):
    assert parse_bearing(text) == pytest.approx(degrees, abs=1e-12)


@pytest.mark.parametrize(
    "text", ["", "north", "12:30:15:20", "N 91 E", "10°60'", "10°59'61\"", "-5", "400", "12.5°30'"]
)
def test_what_is_no_bearing_is_said_in_one_sentence(text):
    with pytest.raises(NotAQuantity) as error:
        parse_bearing(text)
    assert text.strip() in str(error.value)


@given(st.integers(0, 1_295_999))
def test_what_is_shown_can_be_typed(seconds):
    shown = show_bearing(seconds / 3600.0)
    assert round(parse_bearing(shown) * 3600.0) == seconds


def test_rounding_never_shows_sixty_seconds():
    assert show_bearing(359.99999) == "0°00′00″"
    assert show_bearing(12.9999999) == "13°00′00″"
    assert show_bearing(np.nan) == "–"
    assert show_turn(-12.504166666666666) == "12°30′15″ R"
    assert show_turn(90.0) == "90°00′00″ L"
    assert parse_angle("270 00 00") == 270.0
