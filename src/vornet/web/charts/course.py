"""The course of an interval: what was in force along the calendar, as steps; what waits and what never began beside it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date
from html import escape

WIDTH, LEFT, RIGHT, TOP, HEIGHT, LANE = 860, 64, 96, 26, 120, 30
#: before the first change there is room for so large a share of what is shown
ROOM = 0.06
#: a label needs so much room, in the picture's units a letter
LETTER = 7.0


@dataclass(frozen=True)
class Step:
    """One span as it is drawn: ``fact`` length or calendar, days as ordinals (``start`` −1: from the start, ``end`` None: open), ``state`` as
    core has it, ``words`` its figure with its unit, ``title`` all that is said of it."""

    fact: str
    value: float | None
    start: int
    end: int | None
    state: str
    origin: str
    words: str
    title: str


def picture(steps: Sequence[Step], today: int, day_words: Callable[[date], str], said: str) -> str:
    """One SVG element; '' where nothing ever changed or waits. ``said``: what a reader without eyes is told."""
    lengths = [s for s in steps if s.fact == "length" and s.value]
    if len(lengths) < 2 and len([s for s in steps if s.fact == "calendar"]) < 2:
        return ""
    known = [d for s in steps for d in (s.start, s.end) if d is not None and d >= 0]
    last = max([today, *known])
    changes = sorted(known) or [today]
    first = changes[0] - max(int(0.15 * (last - changes[0])), 45)
    end = last + max(int(ROOM * (last - first)), 14)
    top = max((s.value for s in lengths if s.value), default=1.0) * 1.12
    low = min((s.value for s in lengths if s.value), default=0.0) * 0.75

    def x(day: float) -> float:
        return LEFT + (WIDTH - LEFT - RIGHT) * (min(max(day, first), end) - first) / (end - first)

    def y(value: float) -> float:
        return TOP + HEIGHT * (1 - (value - low) / ((top - low) or 1.0))

    bottom = TOP + HEIGHT
    out = [f'<svg class="course" viewBox="0 0 {WIDTH} {bottom + LANE + 34}" role="img" aria-label="{escape(said)}">']
    out.append(f'<text class="course-lane" x="0" y="{TOP + HEIGHT / 2 + 4:.1f}">length</text>')
    out.append(f'<path class="course-axis" d="M{LEFT},{bottom} H{WIDTH - RIGHT}"/>')
    at = x(today)
    out.append(f'<path class="course-today" d="M{at:.1f},{TOP - 10} V{bottom + LANE}"/>')
    out.append(f'<text class="course-now" x="{at + 4:.1f}" y="{TOP - 12}">today</text>')
    stood = [s for s in lengths if s.state in ("stood", "stands")]
    for before, after in zip(stood, stood[1:], strict=False):
        if before.value is not None and after.value is not None:
            out.append(f'<path class="course-step" d="M{x(after.start):.1f},{y(before.value):.1f} V{y(after.value):.1f}"/>')
    taken: list[tuple[float, float, float]] = []
    for s in lengths:
        out.append(_length(s, x, y, end, taken))
    out += _calendar([s for s in steps if s.fact == "calendar"], x, end, bottom + 18)
    marked = sorted({d for s in steps for d in (s.start, s.end) if d is not None and first <= d <= end})
    out += _days(marked, x, bottom + LANE + 24, day_words)
    return "".join([*out, "</svg>"])


def _length(s: Step, x: Callable[[float], float], y: Callable[[float], float], end: int, taken: list[tuple[float, float, float]]) -> str:
    assert s.value is not None
    left, right, at = x(s.start), x(s.end if s.end is not None and s.state != "never" else end), y(s.value)
    inner = f"<title>{escape(s.title)}</title>"
    if s.state == "never":
        place = x(s.end if s.end is not None else s.start)
        inner += f'<path class="course-never" d="M{place - 5:.1f},{at - 5:.1f} l10,10 m0,-10 l-10,10"/>'
        left = right = place
    else:
        kind = "waits" if s.state == "waits" else "trial" if s.origin == "trial" else "stood"
        inner += f'<path class="course-{kind}" d="M{left:.1f},{at:.1f} H{max(right, left + 2):.1f}"/>'
    words = s.words + {"waits": ", waits", "never": ", never began"}.get(s.state, ", on trial" if s.origin == "trial" else "")
    width = LETTER * len(words)
    begin = min(left + 2, WIDTH - width - 2)
    high = at - 7
    if any(abs(h - high) < 14 and begin < b and a < begin + width for a, b, h in taken):
        high = at + 17
    if not any(abs(h - high) < 14 and begin < b and a < begin + width for a, b, h in taken):
        taken.append((begin, begin + width, high))
        inner += f'<text class="course-words" x="{begin:.1f}" y="{high:.1f}">{escape(words)}</text>'
    return f"<g>{inner}</g>"


def _calendar(steps: Sequence[Step], x: Callable[[float], float], end: int, top: float) -> list[str]:
    out = [f'<text class="course-lane" x="0" y="{top + 4:.1f}">days</text>'] if steps else []
    for s in steps:
        if s.state == "never" or s.value is None:
            continue
        left, right = x(s.start), x(s.end if s.end is not None else end)
        kind = "waits" if s.state == "waits" else "stood"
        line = f"M{left:.1f},{top:.1f} H{max(right, left + 2):.1f}"
        out.append(f'<g><title>{escape(s.title)}</title><path class="course-{kind} course-days" d="{line}"/>')
        if right - left > LETTER * len(s.words):
            out.append(f'<text class="course-words" x="{left + 2:.1f}" y="{top - 5:.1f}">{escape(s.words)}</text>')
        out.append("</g>")
    return out


def _days(days: Sequence[int], x: Callable[[float], float], at: float, day_words: Callable[[date], str]) -> list[str]:
    out, right = [], -1e9
    for day in days:
        words = day_words(date.fromordinal(day))
        width = LETTER * len(words)
        begin = min(max(x(day) - width / 2, 0), WIDTH - width)
        if begin > right + 8:
            out.append(f'<text class="course-day" x="{begin:.1f}" y="{at:.1f}">{escape(words)}</text>')
            right = begin + width
    return out
