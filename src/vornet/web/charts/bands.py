"""The 90 % band of a due day as a small bar beside it: every row of a list on the same days."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta
from typing import Any

from markupsafe import Markup

WIDTH, HEIGHT = 116.0, 14.0
#: rows share a span of days; what lies beyond it is cut
LEAST_DAYS, MOST_DAYS = 21, 240


def span(rows: Sequence[dict[str, Any]], today: date) -> tuple[date, int]:
    """(first day, days) that every row's bar is drawn on."""
    ends = [r["due_last"] or r["due_day"] for r in rows if r["due_day"] is not None]
    last = max(ends, default=today)
    return today - timedelta(days=7), min(max((last - today).days + 10, LEAST_DAYS), MOST_DAYS)


def band(row: dict[str, Any], today: date, on: tuple[date, int]) -> Markup:
    """One row: the band, the due day as a tick, today as a hairline; a due day without a band is a tick alone."""
    if row["due_day"] is None:
        return Markup("")
    first, days = on

    def x(day: date) -> float:
        return min(max((day - first).days / days, 0.0), 1.0) * (WIDTH - 2) + 1

    words = f"due {row['due_day'].day} {row['due_day']:%b}"
    bar = ""
    if row["due_first"] and row["due_last"]:
        left, right = x(row["due_first"]), x(row["due_last"])
        bar = f'<rect class="due-band" x="{left:.1f}" y="3" width="{max(right - left, 1.5):.1f}" height="8"/>'
        words += f", nine in ten from {row['due_first'].day} {row['due_first']:%b} to {row['due_last'].day} {row['due_last']:%b}"
    size = f'viewBox="0 0 {WIDTH:g} {HEIGHT:g}" width="{WIDTH:g}" height="{HEIGHT:g}"'
    return Markup(f'<svg class="due-bar" {size} role="img" aria-label="{words}">'
                  f'<title>{words}</title><path class="due-now" d="M{x(today):.1f},0 V{HEIGHT:g}"/>{bar}'
                  f'<path class="due-tick" d="M{x(row["due_day"]):.1f},1 V{HEIGHT - 1:g}"/></svg>')  # fmt: skip
