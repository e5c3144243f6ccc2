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
