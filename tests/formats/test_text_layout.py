"""Text points in every layout that surveyors send: read as they are meant, or refused or doubted in words."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.formats.errors import FormatError
from humble_loop.formats.points_text import points_in, read_points_text
from humble_loop.formats.text_layout import read_lines
from humble_loop.formats.text_recognition import recognised
from tests.conftest import examples

ROWS = [
    ("101", 312408.125, 6251977.5, 41.25, "NS"),
    ("102", 312418.375, 6251977.25, 41.5, "LIP1"),
    ("103", 312418.5, 6251987.75, 42.0, "LIP1"),
    ("104", 312408.0, 6251987.0, 41.125, "NS"),
    ("105", 312428.25, 6251982.5, 41.875, "TOP OF BANK"),
    ("106", 312431.0, 6251990.125, 43.0, ""),
]
POINTS = np.array([r[1:4] for r in ROWS])


def write(path, text, encoding="utf-8"):
    path.write_bytes(text.encode(encoding))
    return path


def text_of(rows, separator=",", decimal="."):
    return "\n".join(separator.join(str(c).replace(".", decimal) for c in row) for row in rows)


def read(tmp_path, text, encoding="utf-8", **how):
    return read_points_text(write(tmp_path / "p.txt", text, encoding), **how)


HEADERS = {
    "English": ["Point No.", "Easting", "Northing", "Elevation", "Description"],
    "short": ["PT", "E", "N", "RL", "CODE"],
    "with units": ["Pt", "Easting (m)", "Northing [m]", "R.L. (m)", "Feature code"],
    "joined units": ["Id", "East_m", "North_m", "Height_m", "Remarks"],
    "German": ["Punktnummer", "Rechtswert", "Hochwert", "Höhe", "Bezeichnung"],
    "quoted": ['"Number"', '"Easting"', '"Northing"', '"Level"', '"Code"'],
}


@pytest.mark.parametrize("header", HEADERS)
@pytest.mark.parametrize(("separator", "decimal"), [(",", "."), (";", "."), (";", ","), ("\t", ","), ("|", ".")])
def test_headers_in_other_words_with_units_and_any_separator(tmp_path, header, separator, decimal):
    got = read(tmp_path, separator.join(HEADERS[header]) + "\n" + text_of(ROWS, separator, decimal))
    assert got.points == pytest.approx(POINTS, abs=1e-9)
    assert [line.name for line in got.lines] == ["LIP1"]
    assert got.notes == []


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "cp1252"])
@pytest.mark.parametrize("end", ["\n", "\r\n", "\r"])
def test_letters_and_line_ends_of_every_system(tmp_path, encoding, end):
    text = "Nr;Rechtswert;Hochwert;Höhe;Bezeichnung\n" + text_of(
        [*ROWS, ("107", 312400.0, 6251999.0, 40.0, "Böschung2")], ";", ","
    )
    file = tmp_path / "p.txt"
    file.write_bytes(text.replace("\n", end).encode(encoding))
    got = read_points_text(file)
    assert len(got.points) == 7
    assert got.points[:6] == pytest.approx(POINTS, abs=1e-9)


def test_between_blanks_a_code_may_have_blanks(tmp_path):
    text = "\n".join("  ".join(str(c) for c in row) for row in ROWS)
    lines = text.split("\n")
    layout = recognised(tmp_path, lines)
    assert layout.columns == ("number", "easting", "northing", "level", "code")
    found = points_in(tmp_path, lines, layout)
    assert found.values == pytest.approx(POINTS)
    assert found.codes == [r[4] for r in ROWS]


@pytest.mark.parametrize("comment", ["# job 14", "// job 14", "! job 14", "%", "* * *", "; job 14", "-- job", "'job"])
def test_empty_and_comment_lines_are_passed_over_wherever_they_are(tmp_path, comment):
    rows = text_of(ROWS).split("\n")
    text = "\n".join(["", comment, *rows[:2], "", "   ", comment, ",,,,", *rows[2:], "", comment, ""])
    assert read(tmp_path, text).points == pytest.approx(POINTS)


def test_a_header_may_stand_in_a_comment_and_its_unit_in_a_line_of_its_own(tmp_path):
    text = "Job: brickworks\nDate: 3 May\n\n# nr;east;north;level;code\n" + text_of(ROWS, ";", ",")
    assert read(tmp_path, text).points == pytest.approx(POINTS, abs=1e-9)
    text = "nr,east,north,level\n-,ft,ft,ft\n" + text_of([r[:4] for r in ROWS])
    assert read(tmp_path, text).points == pytest.approx(POINTS * 0.3048, abs=1e-6)


@pytest.mark.parametrize(
    ("words", "metres"),
    [
        ("E (ft),N (ft),Z (ft)", 0.3048),
        ("Easting_mm,Northing_mm,Level_mm", 0.001),
        ("x [us-ft],y [us-ft],z [us-ft]", 1200 / 3937),
    ],
)
def test_a_unit_in_the_header_holds(tmp_path, words, metres):
    got = read(tmp_path, words + "\n" + text_of([r[1:4] for r in ROWS]), units="m")
    assert got.points == pytest.approx(POINTS * metres, abs=1e-6)


def test_two_units_in_one_header_are_refused(tmp_path):
    with pytest.raises(FormatError, match="different units"):
        read(tmp_path, "E (m),N (m),Z (ft)\n" + text_of([r[1:4] for r in ROWS]))


ORDERS = {
    "places only": ("easting", "northing", "level"),
    "code behind": ("easting", "northing", "level", "code"),
    "with numbers": ("number", "easting", "northing", "level"),
    "code before": ("number", "code", "easting", "northing", "level"),
}


@pytest.mark.parametrize("order", ORDERS)
def test_without_a_header_columns_are_found_by_what_stands_in_them_and_that_is_told(tmp_path, order):
    at = {"number": 0, "easting": 1, "northing": 2, "level": 3, "code": 4}
    rows = [tuple(row[at[role]] for role in ORDERS[order]) for row in ROWS[:5]]
    file = write(tmp_path / "p.txt", text_of(rows, ";"))
    assert recognised(file, read_lines(file)).columns == ORDERS[order]
    got = read_points_text(file)
    assert got.points == pytest.approx(POINTS[:5])
    assert any("it has no header" in note for note in got.notes)


def test_numbers_of_points_may_have_letters(tmp_path):
    rows = [(f"P{r[0]}", *r[1:]) for r in ROWS]
    assert read(tmp_path, text_of(rows)).points == pytest.approx(POINTS)


def test_commas_for_both_are_refused_and_never_read_wrongly(tmp_path):
    """'1,4000,25,8000,5,50,1' is point 1 at 4000.25, 8000.5, level 50.1; taken by columns it would lie at 4000, 25."""
    text = "1,4000,25,8000,5,50,1\n2,4010,5,8000,25,50,3\n3,4010,75,8010,5,50,2\n"
    for header in ("", "nr,east,north,level\n"):
        with pytest.raises(FormatError, match="commas stand for both"):
            read(tmp_path, header + text)
    # A header that has a name for every column settles it.
    got = read(tmp_path, "nr,east,north,level,a,b,c\n" + text)
    assert got.points[0] == pytest.approx([4000, 25, 8000])


def test_a_decimal_comma_in_one_column_is_doubted_or_refused(tmp_path):
    text = "1,4000.25,8000.5,50,1\n2,4010.5,8000.25,50,3\n3,4010.75,8010.5,50,2\n"
    assert any("if those are decimals" in note for note in read(tmp_path, text).notes)
    with pytest.raises(FormatError, match="line 2"):
        read(
            tmp_path,
            "number;easting;northing;level\n".replace(";", "\t")
            + "1\t4000.25\t8000.5\t50,1\n2\t4010.5\t8000.25\t50,3\n",
        )


def test_levels_that_are_missing_are_left_out_and_told(tmp_path):
    rows = [
        *ROWS,
        ("107", 312401.0, 6251980.0, "", "X"),
        ("108", 312402.0, 6251980.0, "-", "X"),
        ("109", 312403.5, 6251980.5, "N/A", "X"),
    ]
    got = read(tmp_path, "nr,east,north,level,code\n" + text_of(rows))
    assert got.points == pytest.approx(POINTS)
    assert got.notes == ["p.txt: 3 points without a level are left out"]


def test_a_few_lines_that_are_no_points_are_told_and_many_are_refused(tmp_path):
    many = [(k, 1000.5 + k, 2000.25 + k * k, 50.0 + 0.01 * k, "A") for k in range(200)]
    text = text_of(many).split("\n")
    text[120] = "120,end of sheet 1,,,"
    got = read(tmp_path, "\n".join([*text, "Total: 200 points"]))
    assert len(got.points) == 199
    told = [n for n in got.notes if "left out" in n]
    assert told == [
        "p.txt: line 121 is left out: '120,end of sheet 1,,,'",
        "p.txt: line 201 is left out: 'Total: 200 points'",
    ]
    text[20:60] = ["x,y"] * 40
    with pytest.raises(FormatError, match="line 21"):
        read(tmp_path, "\n".join(text))


@pytest.mark.parametrize("value", ["1_000", "nan", "inf", "1e999", "0x10", "1,234.5", "１２"])
def test_what_python_would_take_for_a_number_and_people_would_not_is_none(tmp_path, value):
    with pytest.raises(FormatError, match="line 2"):
        read(tmp_path, f"e;n;z\n{value};1.5;2.5\n10.5;20.5;3.5\n30.5;20.5;4.5\n")


def test_quoted_cells_may_hold_separators(tmp_path):
    text = 'nr,e,n,z,code\n1,"10.5","20.5",3.5,"TREE, ""OLD"""\n2,11.5,21.5,3.5,"LIP1"\n3,11.5,31.5,3.5,LIP1\n'
    lines = text.split("\n")
    found = points_in(tmp_path, lines, recognised(tmp_path, lines))
    assert found.codes == ['TREE, "OLD"', "LIP1", "LIP1"]
    assert found.values[0] == pytest.approx([10.5, 20.5, 3.5])


def test_what_is_said_holds_against_what_is_found(tmp_path):
    text = text_of([(r[2], r[1], r[3], 7) for r in ROWS], ";")  # northing first, and nothing says so
    got = read(tmp_path, text, columns=("northing", "easting", "level", "skipped"))
    assert got.points == pytest.approx(POINTS)
    assert got.notes == []
    with pytest.raises(FormatError, match="more than one easting"):
        read(tmp_path, text, columns=("easting", "easting", "level"))
    got = read(tmp_path, "1,5;2,5;3,5\n4,5;2,5;3,5\n", separator=";", decimal=",")
    assert got.points[0] == pytest.approx([1.5, 2.5, 3.5])
    with pytest.raises(FormatError, match="semicolons"):
        read(tmp_path, "1,5,2,5,3,5\n", separator=",", decimal=",")


place = st.tuples(
    st.integers(300_000_000, 320_000_000), st.integers(6_200_000_000, 6_300_000_000), st.integers(-9_000, 900_000)
).map(lambda v: tuple(k / 1000 for k in v))


@examples(60)
@given(
    points=st.lists(place, min_size=3, max_size=30),
    separator=st.sampled_from([",", ";", "\t", "|", " ", "   "]),
    decimal=st.sampled_from([".", ","]),
    header=st.sampled_from(
        [None, "number {0}easting {0}northing{0}level{0}code", "# Nr{0}E{0}N{0}RL{0}Code", "pt{0}x{0}y{0}z{0}desc"]
    ),
    numbers=st.booleans(),
    codes=st.booleans(),
    encoding=st.sampled_from(["utf-8", "utf-8-sig", "utf-16", "utf-16-be"]),
    end=st.sampled_from(["\n", "\r\n", "\r"]),
    blank=st.integers(0, 5),
)
def test_points_in_a_random_layout_come_back(
    tmp_path_factory, points, separator, decimal, header, numbers, codes, encoding, end, blank
):
    if separator == decimal == ",":
        decimal = "."
    if header:
        numbers = codes = True
    rows = [
        ([f"{k + 1}"] if numbers else []) + [f"{v:.3f}".replace(".", decimal) for v in p] + (["NS"] if codes else [])
        for k, p in enumerate(points)
    ]
    lines = ([header.format(separator)] if header else []) + [separator.join(r) for r in rows]
    lines.insert(min(blank, len(lines)), "")
    file = tmp_path_factory.mktemp("layout") / "p.txt"
    file.write_bytes(end.join(lines).encode(encoding))
    assert read_points_text(file).points == pytest.approx(np.array(points), abs=1e-9)


def test_lines_above_the_points_that_hold_numbers_too_are_no_points(tmp_path):
    text = "Job 14 of 2026\nStation 1000 setup 3\n" + "\n".join(" ".join(map(str, r[:4])) for r in ROWS)
    got = read(tmp_path, text)
    assert got.points == pytest.approx(POINTS)
    assert not any("left out" in note for note in got.notes)


@pytest.mark.parametrize("first", ["0,0", "0,0,", "0,0,,"])
def test_no_row_under_a_header_is_lost_however_short_it_is(tmp_path, first):
    got = read(tmp_path, f"easting,northing,radius\n{first}\n100,0,25\n100,100,\n")
    assert [(b.easting, b.northing) for b in got.streets[0].bends] == [(0.0, 0.0), (100.0, 0.0), (100.0, 100.0)]
    rows = text_of(ROWS).split("\n")
    got = read(tmp_path, "\n".join(["number,easting,northing,level,code", "100,312400.5,6251970.5", *rows]))
    assert got.points == pytest.approx(POINTS)
    assert got.notes == ["p.txt: 1 points without a level are left out"]
