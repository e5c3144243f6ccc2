"""Reads the first sheet with rows of an XLSX or ODS workbook; run as a process of its own with a limit on memory and
time, so that a workbook made to burst takes nothing else with it.

``python -m vornet.io.sheet_reader`` takes the workbook on stdin and answers one JSON list of texts a row.
"""

from __future__ import annotations

import io
import json
import sys
from datetime import date, datetime, timedelta
from typing import Any

MEMORY_BYTES, SECONDS = 1_500_000_000, 120


def text_of(cell: Any) -> str:
    """A cell as text: whole numbers without .0, dates as ISO, yes and no as true and false."""
    if isinstance(cell, bool):
        return str(cell).lower()
    if isinstance(cell, float):
        return str(int(cell)) if cell.is_integer() and abs(cell) < 1e15 else repr(cell)
    if isinstance(cell, datetime):
        return cell.date().isoformat()
    if isinstance(cell, date):
        return cell.isoformat()
    if isinstance(cell, timedelta):
        return str(cell.total_seconds() / 3600)
    return str(cell)


def main() -> None:
    """Write the rows, each as one line of JSON; exit 3 when the workbook cannot be read."""
    import resource

    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
    from python_calamine import CalamineWorkbook

    try:
        book = CalamineWorkbook.from_filelike(io.BytesIO(sys.stdin.buffer.read()))
        for name in book.sheet_names:
            rows = book.get_sheet_by_name(name).to_python(skip_empty_area=False)
            if len(rows) > 1:
                break
        else:
            rows = []
        for row in rows:
            sys.stdout.write(json.dumps([text_of(c) for c in row]) + "\n")
    except BaseException:  # the reader's own panics are not Exceptions
        sys.exit(3)


if __name__ == "__main__":
    main()
