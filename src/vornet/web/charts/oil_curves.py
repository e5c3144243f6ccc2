"""Small pictures beside the calculators: a line with one point on it, and grade bands with a mark."""

from __future__ import annotations

import math
from collections.abc import Sequence

WIDTH, HEIGHT, LEFT, BOTTOM = 300, 130, 44, 22


def line(points: Sequence[tuple[float, float]], mark: tuple[float, float], x_unit: str, y_unit: str) -> str:
    """A curve on a logarithmic axis with the answer marked. Points (x, y), y above zero."""
    if len(points) < 2:
        return ""
    xs = [x for x, _ in points] + [mark[0]]
    ys = [math.log10(y) for _, y in points] + [math.log10(mark[1])]
    x0, x1, y0, y1 = min(xs), max(xs), min(ys), max(ys)

    def at(x: float, y: float) -> tuple[float, float]:
        px = LEFT + (x - x0) / ((x1 - x0) or 1) * (WIDTH - LEFT - 10)
        py = HEIGHT - BOTTOM - (math.log10(y) - y0) / ((y1 - y0) or 1) * (HEIGHT - BOTTOM - 12)
        return px, py

    path = "M" + "L".join(f"{px:.1f} {py:.1f}" for px, py in (at(x, y) for x, y in points))
    mx, my = at(*mark)
    ticks = "".join(
        f'<text class="curve-text" x="{LEFT - 6}" y="{at(x0, 10**p)[1] + 4:.1f}" text-anchor="end">{10**p:g}</text>'
        f'<path class="curve-grid" d="M{LEFT} {at(x0, 10**p)[1]:.1f}H{WIDTH - 10}"/>'
        for p in range(math.ceil(y0), math.floor(y1) + 1)
    )
    ends = "".join(
        f'<text class="curve-text" x="{at(x, 10**y0)[0]:.1f}" y="{HEIGHT - 6}" text-anchor="{a}">{x:g}</text>'
        for x, a in ((x0, "start"), (x1, "end"))
    )
    middle = (LEFT + WIDTH - 10) / 2
    return (
        f'<svg class="curve" viewBox="0 0 {WIDTH} {HEIGHT}" width="{WIDTH}" height="{HEIGHT}" role="img" '
        f'aria-label="{mark[1]:.3g} {y_unit} at {mark[0]:g} {x_unit}">{ticks}<path class="curve-line" d="{path}"/>'
        f'<circle class="curve-mark" cx="{mx:.1f}" cy="{my:.1f}" r="4.5"/>{ends}'
        f'<text class="curve-text" x="{middle}" y="{HEIGHT - 6}" text-anchor="middle">{x_unit}, {y_unit}</text></svg>'
    )


def bands(grades: Sequence[tuple[str, float, float | None]], mark: float) -> str:
    """Grade ranges (name, low, high) as overlapping bars, with the oil's own viscosity drawn through them."""
    low, high = min(a for _, a, _ in grades), max(b or a * 1.3 for _, a, b in grades)
    low, high = min(low, mark), max(high, mark)

    def at(x: float) -> float:
        return LEFT + (x - low) / (high - low) * (WIDTH - LEFT - 10)

    step = (HEIGHT - BOTTOM - 4) / len(grades)
    bars = "".join(
        f'<rect class="curve-band{" curve-fits" if a <= mark < (b or math.inf) else ""}" x="{at(a):.1f}" y="{4 + i * step:.1f}" '
        f'width="{at(b or high) - at(a):.1f}" height="{step - 2:.1f}"/>'
        f'<text class="curve-text" x="{LEFT - 6}" y="{4 + i * step + step / 2 + 3:.1f}" text-anchor="end">{name}</text>'
        for i, (name, a, b) in enumerate(grades)
    )
    return (
        f'<svg class="curve" viewBox="0 0 {WIDTH} {HEIGHT}" width="{WIDTH}" height="{HEIGHT}" role="img" '
        f'aria-label="{mark:g} mm²/s among the SAE engine grades">{bars}<path class="curve-line" d="M{at(mark):.1f} 2V{HEIGHT - BOTTOM}"/>'
        f'<text class="curve-text" x="{at(mark):.1f}" y="{HEIGHT - 6}" text-anchor="middle">{mark:g} mm²/s</text></svg>'
    )
