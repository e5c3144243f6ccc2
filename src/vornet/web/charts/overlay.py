"""Charges laid over one another along the hours on oil (or one after another along the calendar): is this one as the
others were? The running charge is drawn strongest, older ones paler; sister units lie underneath."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

from vornet.web.charts.ribbon import Scale, nice_ticks
from vornet.words.writing import figure

WIDTH, PANEL_H, GAP, LEFT, RIGHT, TOP = 1200, 150, 46, 150, 40, 18


@dataclass(frozen=True)
class Line:
    """One charge: points (along, value), its title; ``weight`` 0 oldest … 1 running; ``sister`` for another unit's;
    ``undiluted``: not as measured but as it would have shown without top-ups."""

    points: tuple[tuple[float, float], ...]
    title: str
    weight: float
    sister: bool = False
    undiluted: bool = False


@dataclass(frozen=True)
class Sheet:
    """One measurand."""

    name: str
    unit: str
    lines: tuple[Line, ...]
    watch: tuple[float, ...] = ()
    act: tuple[float, ...] = ()


def _f(x: float) -> str:
    return f"{x:.1f}"


def y_scale(sheet: Sheet, top: float) -> Scale:
    """Everything drawn fits; a limit joins where it does not squash the lines."""
    values = [v for line in sheet.lines for _, v in line.points] or [0.0, 1.0]
    low, high = min(values), max(values)
    for limit in (*sheet.watch, *sheet.act):
        if high < limit <= high + 1.2 * max(high - min(low, 0.0), 1e-9):
            high = limit
        if low > limit >= low - 1.2 * max(high - low, 1e-9):
            low = limit
    if 0 < low < 0.55 * high:
        low = 0.0
    pad = 0.07 * ((high - low) or 1.0)
    return Scale(low - (pad if low else 0.0), high + pad, top + PANEL_H, top)


def draw(sheets: Sequence[Sheet], along: str, say: tuple[float, float], ticks: Sequence[tuple[float, str]] = ()) -> str:
    """SVG of the sheets under one another. ``along``: unit of the axis; ``say``: its range; ``ticks``: own labels, if any."""
    low, high = say
    sx = Scale(low, max(high, low + 1e-6), LEFT, WIDTH - RIGHT)
    height = TOP + len(sheets) * (PANEL_H + GAP)
    out = [f'<svg class="ribbon overlay" viewBox="0 0 {WIDTH} {height}" role="group" aria-label="Charges laid over one another">']
    top = float(TOP)
    for sheet in sheets:
        sy = y_scale(sheet, top)
        out.append(f'<g class="panel"><text class="panel-name" x="14" y="{top + 16}">{escape(sheet.name)}</text>')
        out.append(f'<text class="panel-unit" x="14" y="{top + 32}">{escape(sheet.unit)}</text>')
        for tick in nice_ticks(sy.low, sy.high, 4):
            out.append(f'<path class="grid" d="M{LEFT},{_f(sy(tick))} H{WIDTH - RIGHT}"/>')
            out.append(f'<text class="tick-y" x="{LEFT - 8}" y="{_f(sy(tick) + 4)}">{tick:g}</text>')
        for word, limits in (("watch", sheet.watch), ("act", sheet.act)):
            for limit in limits:
                if sy.low <= limit <= sy.high:
                    out.append(f'<path class="limit {word}" d="M{LEFT},{_f(sy(limit))} H{WIDTH - RIGHT}"/>')
                    out.append(f'<text class="limit-name {word} end" x="{WIDTH - RIGHT}" y="{_f(sy(limit) - 4)}">{word} {limit:g}</text>')
        for line in sorted(sheet.lines, key=lambda x: (not x.sister, x.weight)):
            kind = "undiluted" if line.undiluted else "sister" if line.sister else "running" if line.weight >= 1 else "past"
            points = " ".join(f"{_f(sx(x))},{_f(sy(y))}" for x, y in line.points)
            shade = "" if line.sister else f' stroke-opacity="{0.25 + 0.6 * line.weight:.2f}"'
            out.append(f'<g class="over {kind}"><title>{escape(line.title)}</title><polyline points="{points}"{shade}/>')
            if not line.undiluted:
                r = 2.2 if line.sister else 3
                out += [f'<circle cx="{_f(sx(x))}" cy="{_f(sy(y))}" r="{r}"{shade}/>' for x, y in line.points]
            out.append("</g>")
        bottom = top + PANEL_H + 18
        for at, text in ticks or [(t, f"{figure(t)} {along}") for t in nice_ticks(low, high, 8)]:
            out.append(f'<text class="tick-x" x="{_f(sx(at))}" y="{_f(bottom)}">{escape(text)}</text>')
        out.append("</g>")
        top += PANEL_H + GAP
    out.append("</svg>")
    return "".join(out)
