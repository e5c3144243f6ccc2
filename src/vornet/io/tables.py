"""Tables out as CSV, safe to open in a spreadsheet: no cell can carry a live formula."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence
from typing import Any

FORMULA = ("=", "+", "-", "@", "\t", "\r")


def cell(value: Any) -> Any:
    """A cell's text; one that a spreadsheet would run is quoted with an apostrophe."""
    if value is None:
        return ""
    if isinstance(value, dict | list):
        value = json.dumps(value, ensure_ascii=False)
    if isinstance(value, str) and value.startswith(FORMULA):
        return "'" + value
    return value


def as_csv(rows: Sequence[dict[str, Any]]) -> str:
    """Rows as CSV with a header from all their keys, in order of first appearance."""
    names = list(dict.fromkeys(name for row in rows for name in row))
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(names)
    writer.writerows([cell(row.get(n)) for n in names] for row in rows)
    return out.getvalue()


def fill_sheet(sheet: Any, rows: Sequence[dict[str, Any]], columns: Sequence[str], heading: Any) -> None:
    """Write rows under their headings; text stays text, whatever it looks like."""
    for x, column in enumerate(columns):
        sheet.write_string(0, x, column, heading)
        sheet.set_column(x, x, max(10, min(len(column) + 2, 26)))
    for y, row in enumerate(rows, 1):
        for x, column in enumerate(columns):
            value = row.get(column)
            if isinstance(value, bool):
                sheet.write_boolean(y, x, value)
            elif isinstance(value, int | float):
                sheet.write_number(y, x, value)
            elif value not in (None, ""):
                sheet.write_string(y, x, str(value))


def as_xlsx(sheets: dict[str, Sequence[dict[str, Any]]]) -> bytes:
    """Tables as a workbook, one sheet each; text stays text, no cell is a formula or a link."""
    import xlsxwriter

    out = io.BytesIO()
    options = {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False, "nan_inf_to_errors": True}
    with xlsxwriter.Workbook(out, options) as book:
        head = book.add_format({"bold": True, "bottom": 1})
        for name, rows in sheets.items():
            sheet = book.add_worksheet(name[:31])
            safe = [{k: cell(v) for k, v in row.items()} for row in rows]
            fill_sheet(sheet, safe, list(dict.fromkeys(n for row in rows for n in row)), head)
            sheet.freeze_panes(1, 1)
    return out.getvalue()
