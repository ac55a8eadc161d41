"""Tables as files: CSV, or a spreadsheet (XLSX)."""

from __future__ import annotations

import csv
from io import BytesIO, StringIO
from pathlib import Path

from humble_loop.formats.errors import FormatError
from humble_loop.formats.safe_write import write_whole
from humble_loop.lines.table import Table

ENDINGS = (".csv", ".xlsx")
_MOST_ROWS = 1_048_575  # of a spreadsheet, under its head
_WIDEST = 40  # letters of a column
_LOOKED_AT = 200  # rows for the width of columns


def write_table(made: Table, name: str, path: Path) -> None:
    """Write a table, with its unit in a column, as the ending of ``path`` says. Raises FormatError for another ending, or where a
    spreadsheet has no room for it.
    """
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise FormatError(path, f"a table is written as {' or '.join(ENDINGS)}; choose one of these endings")
    made = made.written()
    write_whole(path, [_as_csv(made) if ending == ".csv" else _as_xlsx(made, name, path)])


def _as_csv(made: Table) -> bytes:
    text = StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(made.columns)
    writer.writerows(["" if v is None else repr(v) if isinstance(v, float) else v for v in row] for row in made.rows)
    return text.getvalue().encode()


def _as_xlsx(made: Table, name: str, path: Path) -> bytes:
    """One sheet: numbers as numbers, texts never as formulas or links, the head kept in view."""
    import xlsxwriter  # takes a while to load, and is seldom wanted

    if len(made.rows) > _MOST_ROWS:
        raise FormatError(
            path, f"{len(made.rows):,} rows are more than a spreadsheet has; write .csv, or a wider interval"
        )
    out = BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False})
    sheet = book.add_worksheet(name[:31])
    head = book.add_format({"bold": True, "bottom": 1})
    for k, column in enumerate(made.columns):
        sheet.write_string(0, k, column, head)
        texts = [
            column,
            *(f"{r[k]:.3f}" if isinstance(r[k], float) else str(r[k] or "") for r in made.rows[:_LOOKED_AT]),
        ]
        sheet.set_column(k, k, min(max(map(len, texts)) + 2, _WIDEST))
    for i, row in enumerate(made.rows, start=1):
        for k, value in enumerate(row):
            if isinstance(value, (bool, str)):
                sheet.write_string(i, k, str(value))
            elif value is not None:
                sheet.write_number(i, k, value)
    sheet.freeze_panes(1, 0)
    book.close()
    return out.getvalue()
