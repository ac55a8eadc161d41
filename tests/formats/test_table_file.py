"""Tables as files, read again as others read them."""

import csv
import zipfile

import pytest
from lxml import etree

from humble_loop.formats.errors import FormatError
from humble_loop.formats.table_file import write_table
from humble_loop.lines.table import Table

MADE = Table(("street", "chainage", "level"), (("=1+1", 0.0, 61.25), ("Line", 10.5, None)))
_NS = {"x": "http://schemas.openxmlformats.org/spreadsheetml/2006/main"}


def test_csv_has_full_numbers_and_the_unit(tmp_path):
    write_table(MADE, "levels", tmp_path / "a.csv")
    rows = list(csv.reader((tmp_path / "a.csv").read_text().splitlines()))
    assert rows == [
        ["street", "chainage", "level", "unit"],
        ["=1+1", "0.0", "61.25", "m"],
        ["Line", "10.5", "", "m"],
    ]


def test_a_spreadsheet_has_numbers_and_no_formulas(tmp_path):
    write_table(MADE, "levels", tmp_path / "a.xlsx")
    with zipfile.ZipFile(tmp_path / "a.xlsx") as file:
        sheet = etree.fromstring(file.read("xl/worksheets/sheet1.xml"))
        words = etree.fromstring(file.read("xl/sharedStrings.xml")).xpath("//x:t/text()", namespaces=_NS)
    cells = {c.get("r"): (c.get("t"), c.findtext("x:v", namespaces=_NS)) for c in sheet.iter(f"{{{_NS['x']}}}c")}
    assert cells["C2"] == (None, "61.25")
    assert cells["A2"][0] == "s"
    assert "=1+1" in words
    assert "C3" not in cells
    assert not sheet.findall(".//x:f", namespaces=_NS)


def test_another_ending_is_refused_and_nothing_is_written(tmp_path):
    with pytest.raises(FormatError, match=r"\.csv or \.xlsx"):
        write_table(MADE, "levels", tmp_path / "a.docx")
    assert list(tmp_path.iterdir()) == []
