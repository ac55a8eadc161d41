"""Text made as arrays says what it would say number by number."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.formats.text_table import HERE, decimals, hexadecimals, rows


def told(column):
    return [bytes(row).decode() for row in column]


@given(st.lists(st.floats(-1e9, 1e9), min_size=1, max_size=20), st.integers(1, 12))
def test_numbers_are_told_in_one_width_with_at_least_the_decimals_asked_for(values, places):
    found = told(decimals(np.array(values), places))
    assert len({len(text) for text in found}) == 1
    for text, value in zip(found, values, strict=True):
        assert text.startswith(f"{value:.{places}f}")
        assert set(text[len(f"{value:.{places}f}") :]) <= {"0"}


@given(st.lists(st.integers(0, 16**8 - 1), min_size=1, max_size=20))
def test_handles_are_told_in_base_sixteen(numbers):
    assert told(hexadecimals(np.array(numbers), 8)) == [f"{n:08X}" for n in numbers]


def test_columns_stand_where_the_words_leave_room():
    table = rows(f"<{HERE}|{HERE}>\n", decimals(np.array([-1.5, 312408.25]), 2), hexadecimals(np.array([10, 171]), 2))
    assert table.tobytes().decode() == "<-1.500000|0A>\n<312408.25|AB>\n"


def test_no_rows_are_no_text():
    empty = np.empty(0)
    assert decimals(empty).shape == (0, 0)
    assert rows(f"a{HERE}b", decimals(empty)).tobytes() == b""


def test_words_may_have_any_letters():
    assert rows(f"Größe {HERE}", decimals(np.array([2.0]), 1)).tobytes().decode() == "Größe 2.0"
    with pytest.raises(ValueError, match="none"):
        decimals(np.array([np.nan, 1.0]))
