"""A few values of one measurand in a row of a table: a line, the last one marked, a limit where it is near."""

from __future__ import annotations

from markupsafe import Markup

WIDTH, HEIGHT, EDGE = 84.0, 20.0, 3.0


def spark(values: list[float], watch: float | None = None) -> Markup:
    """Values oldest first; nothing for fewer than two. The scale holds the values, and the limit unless it is far off."""
    if len(values) < 2:
        return Markup("")
    low, high = min(values), max(values)
    if watch is not None and low - 0.6 * (high - low) <= watch <= high + 0.6 * (high - low):
        low, high = min(low, watch), max(high, watch)
    span = (high - low) or 1.0
    step = (WIDTH - 2 * EDGE) / (len(values) - 1)

    def y(v: float) -> float:
        return HEIGHT - EDGE - (v - low) / span * (HEIGHT - 2 * EDGE)

    points = " ".join(f"{EDGE + i * step:.1f},{y(v):.1f}" for i, v in enumerate(values))
    line = ""
    if watch is not None and low <= watch <= high:
        line = f'<path class="spark-limit" d="M0,{y(watch):.1f} H{WIDTH:g}"/>'
    return Markup(
        f'<svg class="spark" viewBox="0 0 {WIDTH:g} {HEIGHT:g}" width="{WIDTH:g}" height="{HEIGHT:g}" aria-hidden="true">{line}'
        f'<polyline points="{points}"/><circle cx="{WIDTH - EDGE:g}" cy="{y(values[-1]):.1f}" r="2.4"/></svg>'
    )
