"""Numbers as people write them."""

import warnings

import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.formats.quantities import (
    NotAQuantity,
    parse_chainage,
    parse_grade,
    parse_length,
    show_area,
    show_chainage,
    show_grade,
    show_length,
    show_volume,
)


@pytest.mark.parametrize(
    ("text", "unit", "metres"),
    [
        ("12", "m", 12.0),
        ("12ft", "m", 3.6576),
        ("150mm", "m", 0.15),
        ("150 mm", "ft", 0.15),
        ("0.35+1.2", "m", 1.55),
        ("−2.5", "m", -2.5),
        ("10", "ft", 3.048),
        ("5ft 6in", "m", 1.6764),
        ("2m - 150mm", "m", 1.85),
        ("3*1.5", "m", 4.5),
        ("12,5", "m", 12.5),
        (" 1.25 ", "m", 1.25),
        ("1us-ft", "m", 1200 / 3937),
        ("1'6\"", "m", 0.4572),
        ("(2+1)/2", "m", 1.5),
    ],
)
def test_lengths(text, unit, metres):
    assert parse_length(text, unit) == pytest.approx(metres, rel=1e-12)


@pytest.mark.parametrize(
    ("text", "ratio"),
    [
        ("2.5%", 0.025),
        ("1:20", 0.05),
        ("-1:40", -0.025),
        ("0.4", 0.004),  # a plain number is percent, however small
        ("0.5", 0.005),
        ("3", 0.03),
        ("−2.5 %", -0.025),
        ("0.5%", 0.005),
    ],
)
def test_grades(text, ratio):
    assert parse_grade(text) == pytest.approx(ratio, rel=1e-12)


@pytest.mark.parametrize(
    ("text", "metres"), [("0+123.45", 123.45), ("1+023.5", 1023.5), ("1+23.45", 123.45), ("85", 85.0)]
)
def test_chainages(text, metres):
    assert parse_chainage(text) == pytest.approx(metres)


@pytest.mark.parametrize(
    "text",
    [
        "",
        "abc",
        "1/0",
        "__import__('os')",
        "2**999999",
        "1 2",
        "12ft 3",
        "lambda: 1",
        "1e400",
        "[1]",
        "True",
        "(" * 500,
    ],
)
@pytest.mark.parametrize("parse", [parse_length, parse_grade, parse_chainage])
def test_nonsense_gets_a_sentence_with_examples(text, parse):
    with pytest.raises(NotAQuantity) as caught:
        parse(text)
    assert "\n" not in str(caught.value)


@pytest.mark.parametrize("text", ["0x1for x in y", "1if 2", "12and"])
def test_nonsense_leaves_no_words_in_the_terminal(text):
    with warnings.catch_warnings(record=True) as said:
        warnings.simplefilter("always")
        with pytest.raises(NotAQuantity):
            parse_grade(text)
    assert said == []


def test_a_ratio_to_nothing_is_refused():
    with pytest.raises(NotAQuantity, match="zero"):
        parse_grade("1:0")


@given(st.floats(-1e4, 1e4), st.sampled_from(["m", "ft", "us-ft"]))
def test_what_is_shown_can_be_typed(value, unit):
    assert parse_length(show_length(value, unit, 6), unit) == pytest.approx(value, abs=1e-4)


@given(st.floats(0, 99_000), st.sampled_from(["0+000.00", "0+00.00", "0.00"]))
def test_chainages_shown_can_be_typed(value, style):
    assert parse_chainage(show_chainage(value, style)) == pytest.approx(value, abs=0.0051)


def test_showing():
    assert show_length(38.0642) == "38.064"
    assert show_length(-0.0001) == "0.000"
    assert show_length(float("nan")) == "–"
    assert show_length(3.048, "ft") == "10.00"
    assert show_volume(-0.01) == "0.0 m³"
    assert show_area(-2.04) == "−2.0 m²"
    assert show_grade(-0.025) == "−2.50 %"
    assert show_grade(-0.000001) == "0.00 %"
    assert show_chainage(1023.456) == "1+023.46"
    assert show_chainage(123.45, "0+00.00") == "1+23.45"
    assert show_chainage(999.999) == "1+000.00"
