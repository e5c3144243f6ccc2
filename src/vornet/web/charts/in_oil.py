"""A compartment's last charges as a thin ribbon on one calendar, each in the colours its oil went through; and the life used as a bar."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from html import escape

from markupsafe import Markup

from vornet.web.charts.ribbon import OIL_TONES, oil_tone

WIDTH, HEIGHT = 640.0, 14.0
#: gradients are made for life used in steps of a twentieth, so many
STEP, STEPS = 0.05, 28
BAR, BAR_END = 150.0, 1.25


def gradients() -> Markup:
    """The colours oil goes through up to each share of its life, once a page."""
    out = []
    for i in range(1, STEPS + 1):
        end = i * STEP
        stops = [(0.0, oil_tone(0.0)), *((s, tone) for s, tone in OIL_TONES if 0 < s < end), (end, oil_tone(end))]
        inside = "".join(f'<stop offset="{s / end:.3f}" stop-color="{tone}"/>' for s, tone in stops)
        out.append(f'<linearGradient id="oil{i}">{inside}</linearGradient>')
    return Markup(f'<svg class="defs" width="0" height="0" aria-hidden="true"><defs>{"".join(out)}</defs></svg>')


def _tone(share: float | None) -> str:
    if share is None:
        return ""
    return f"url(#oil{min(max(round(share / STEP), 1), STEPS)})"


def ticks(today: date, days: int) -> list[tuple[float, str]]:
    """Half-years along the calendar: (place, words)."""
    first = today.toordinal() - days
    out = []
    for year in range(date.fromordinal(first).year, today.year + 1):
        for month, word in ((1, "Jan"), (7, "Jul")):
            on = date(year, month, 1).toordinal()
            if first + 25 <= on <= today.toordinal() - 25:
                out.append((WIDTH * (on - first) / days, f"{word} {year}"))
    return out


def ribbon(charges: Sequence[Sequence[float | None]], life: float | None, today: date, days: int, words: str) -> Markup:
    """One row: blocks from fill to drain; the running one ends today. Without a known life the blocks are hatched."""
    first, out = today.toordinal() - days, []
    for fill, end, hours in charges:
        if fill is None:
            continue
        left = WIDTH * max(fill - first, 0) / days
        right = WIDTH * ((end if end is not None else today.toordinal()) - first) / days
        share = hours / life if hours is not None and life else None
        tone = _tone(share)
        width = max(right - left - 1.6, 0.8)
        fill_as = f'fill="{tone}"' if tone else 'class="unknown"'
        past = f'<path class="past-life" d="M{left + width * life / hours:.1f},{HEIGHT - 1:.0f} H{left + width:.1f}"/>' if (
            share and life and hours and share > 1) else ""  # fmt: skip
        out.append(f'<rect x="{left:.1f}" y="1" width="{width:.1f}" height="{HEIGHT - 3:g}" rx="1.5" {fill_as}/>{past}')
    return Markup(f'<svg class="thin-ribbon" viewBox="0 0 {WIDTH:g} {HEIGHT:g}" preserveAspectRatio="none" role="img" '
                  f'aria-label="{escape(words)}">{"".join(out)}</svg>')  # fmt: skip


def bar(used: float | None) -> Markup:
    """Life used at the drain, on average, with a mark where the safe life ends."""
    mark, width = BAR / BAR_END, min(used or 0.0, BAR_END) / BAR_END * BAR
    inside = "" if used is None else f'<rect x="0" y="2" width="{width:.1f}" height="9" fill="{oil_tone(used)}"/>'
    return Markup(f'<svg class="used-bar" viewBox="0 0 {BAR:g} 13" width="{BAR:g}" height="13" aria-hidden="true">'
                  f'<rect class="bar-frame" x=".5" y="1.5" width="{BAR - 1:g}" height="10"/>{inside}'
                  f'<path class="bar-mark" d="M{mark:.1f},0 V13"/></svg>')  # fmt: skip
