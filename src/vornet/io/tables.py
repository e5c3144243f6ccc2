"""Tables out as CSV, safe to open in a spreadsheet: no cell can carry a live formula."""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Sequence
from typing import Any

#: where a spreadsheet would begin a formula: at the start of a cell, and after whatever another separator than ours would make a start
_RUNS = re.compile(r"(^|[;|\t\r\n])(?='*[=+\-@\t\r])")
_HELD = re.compile(r"(^|[;|\t\r\n])'(?='*[=+\-@\t\r])")


def cell(value: Any) -> Any:
    """A cell's text; what a spreadsheet would run, whatever it takes for the separator, is held by an apostrophe.

    >>> cell("=1+1"), cell("worn; see;=cmd|-9"), cell("-5 °C outside"), cell(-5)
    ("'=1+1", "worn; see;'=cmd|'-9", "'-5 °C outside", -5)
    >>> let_go(cell("it's;'=x")) == "it's;'=x"
    True
    """
    if value is None:
        return ""
    if isinstance(value, dict | list):
        value = json.dumps(value, ensure_ascii=False)
    return _RUNS.sub(r"\1'", value) if isinstance(value, str) else value


def let_go(text: str) -> str:
    """A text that ``cell`` wrote, as it was before."""
    return _HELD.sub(r"\1", text)


def for_people(rows: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    """Rows as people open them: without numbers that mean something to this program only, figures to six digits.

    >>> for_people([{"unit": "T1", "unit_id": 7, "headroom": 123.4567891, "n": 3}])
    [{'unit': 'T1', 'headroom': 123.457, 'n': 3}]
    """
    return [{k: _six(v) for k, v in row.items() if not (k == "id" or k.endswith("_id"))} for row in rows]


def _six(value: Any) -> Any:
    if not isinstance(value, float):
        return value
    short = float(f"{value:.6g}")
    return int(short) if short.is_integer() and abs(short) < 1e15 else short


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
