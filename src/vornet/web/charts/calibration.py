"""What was said beside what came of it: shares of calls confirmed, and of charges past their limit, each with its interval."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

from markupsafe import Markup

WIDTH, LEFT, RIGHT, ROW, TOP = 860.0, 300.0, 190.0, 44.0, 26.0


@dataclass(frozen=True)
class Line:
    """One question: ``share`` seen with its interval (None: nobody looked), ``expected`` what was reckoned, in words ``said``."""

    name: str
    under: str
    share: float | None
    low: float
    high: float
    said: str
    expected: float | None = None


def picture(lines: Sequence[Line]) -> Markup:
    """Rows of dots on a scale from none to all; a bar for the 95 % interval, a notch for what was expected."""
    height = TOP + ROW * len(lines) + 8
    span = WIDTH - LEFT - RIGHT

    def x(share: float) -> float:
        return LEFT + span * share

    out = [f'<svg class="calibration" viewBox="0 0 {WIDTH:g} {height:g}" role="img" aria-label="What was said beside what came of it">']
    for tick in (0.0, 0.25, 0.5, 0.75, 1.0):
        out.append(f'<path class="grid" d="M{x(tick):.1f},{TOP - 6:g} V{height - 8:g}"/>')
        out.append(f'<text class="tick-x" x="{x(tick):.1f}" y="14">{tick:.0%}</text>')
    for i, line in enumerate(lines):
        y = TOP + ROW * i + ROW / 2
        out.append(f'<text class="row-name" x="0" y="{y - 3:.1f}">{escape(line.name)}</text>')
        out.append(f'<text class="row-under" x="0" y="{y + 14:.1f}">{escape(line.under)}</text>')
        if line.share is not None:
            out.append(f'<path class="interval" d="M{x(line.low):.1f},{y:.1f} H{max(x(line.high), x(line.low) + 1):.1f}"/>')
            out.append(f'<circle class="seen" cx="{x(line.share):.1f}" cy="{y:.1f}" r="5"/>')
        else:
            out.append(f'<path class="interval none" d="M{x(0):.1f},{y:.1f} H{x(1):.1f}"/>')
        if line.expected is not None:
            out.append(f'<path class="expected" d="M{x(line.expected):.1f},{y - 10:.1f} v20"/>')
        out.append(f'<text class="row-said" x="{WIDTH - RIGHT + 14:g}" y="{y + 5:.1f}">{escape(line.said)}</text>')
    out.append("</svg>")
    return Markup("".join(out))
