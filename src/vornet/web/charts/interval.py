"""One axis of hours: schools as flags, guards as walls, the limiting property as a cone, the chance of being past a limit, the cost an hour.

Two upright lines: today's interval, and the one in the hand, which the page moves. Everything is placed by ``x`` and ``y`` here once; the
script moves what hangs on the line by the same numbers, handed over with the page.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from html import escape

import numpy as np
from markupsafe import Markup

WIDTH, LEFT, RIGHT = 900.0, 132.0, 20.0
SCHOOLS_TOP, LANE = 8.0, 18.0
CONE, CHANCE, COST, GAP = 190.0, 84.0, 84.0, 26.0


@dataclass(frozen=True)
class Flag:
    """A school's answer: its words, and where it stands."""

    words: str
    at: float


@dataclass(frozen=True)
class Wall:
    """A guard that lets the interval go so far: its words, and where."""

    words: str
    at: float


@dataclass(frozen=True)
class Cone:
    """A property along the hours: edges and middle, its limits, and what finished charges were measured at."""

    name: str
    under: str
    hours: np.ndarray
    low: np.ndarray
    middle: np.ndarray
    high: np.ndarray
    watch: float | None
    act: float | None
    past: Sequence[tuple[int, float, float]]


@dataclass(frozen=True)
class Places:
    """Where things are, for the script: pixels of the axis' ends and of the two lanes it follows."""

    left: float
    right: float
    top: float
    bottom: float
    height: float


Scale = Callable[[float], float]


def _scale(low: float, high: float, top: float, height: float) -> Scale:
    span = (high - low) or 1.0
    return lambda v: top + height * (1 - (v - low) / span)


def _line(xs: Sequence[float], ys: Sequence[float]) -> str:
    return "M" + " L".join(f"{x:.1f},{y:.1f}" for x, y in zip(xs, ys, strict=True))


def _name(out: list[str], y: float, name: str, under: str) -> None:
    out.append(f'<text class="lane-name" x="0" y="{y:.1f}">{escape(name)}</text>')
    out.append(f'<text class="lane-under" x="0" y="{y + 16:.1f}">{escape(under)}</text>')


def _flags(out: list[str], flags: Sequence[Flag], x: Scale, end: float, bottom: float) -> float:
    """Flags in as many lanes as their words need; the height they take."""
    lanes: list[float] = []
    for flag in sorted(flags, key=lambda f: f.at):
        at = x(min(flag.at, end))
        width = 8 + 6.6 * len(flag.words)
        back = at + width > WIDTH  # its words hang to the left
        begin = at - width if back else at
        lane = next((i for i, taken in enumerate(lanes) if begin > taken + 8), len(lanes))
        if lane == len(lanes):
            lanes.append(0.0)
        lanes[lane] = begin + width
        y = SCHOOLS_TOP + 10 + LANE * lane
        beyond = flag.at > end
        out.append(f'<path class="flag-pole" d="M{at:.1f},{y:.1f} V{bottom:.1f}"/>')
        out.append(f'<circle class="flag" cx="{at:.1f}" cy="{y:.1f}" r="4"/>' if not beyond else
                   f'<path class="flag" d="M{at - 5:.1f},{y - 4:.1f} l6,4 -6,4Z"/>')  # fmt: skip
        out.append(f'<text class="flag-words{" back" if back else ""}" x="{at + (-9 if back else 9):.1f}" y="{y + 4:.1f}">'
                   f"{escape(flag.words)}</text>")  # fmt: skip
    return SCHOOLS_TOP + LANE * max(len(lanes), 1)


def _cone(out: list[str], cone: Cone, x: Scale, top: float, fig: Callable[[float], str]) -> None:
    values = [*cone.low[np.isfinite(cone.low)], *cone.high[np.isfinite(cone.high)], *(v for *_, v in cone.past)]
    values += [v for v in (cone.watch, cone.act) if v is not None]
    low, high = min(values), max(values)
    margin = 0.06 * ((high - low) or 1.0)
    y = _scale(low - margin, high + margin, top, CONE)
    xs = [x(h) for h in cone.hours]
    edge = _line(xs, [y(v) for v in cone.high]) + " L" + _line(xs[::-1], [y(v) for v in cone.low[::-1]])[1:] + "Z"
    out.append(f'<path class="cone" d="{edge}"/>')
    for charge in sorted({n for n, *_ in cone.past}):
        mine = sorted((h, v) for n, h, v in cone.past if n == charge)
        if len(mine) > 1:
            out.append(f'<path class="past" d="{_line([x(h) for h, _ in mine], [y(v) for _, v in mine])}"/>')
        for h, v in mine:
            out.append(f'<circle class="past-dot" cx="{x(h):.1f}" cy="{y(v):.1f}" r="2"><title>charge {charge}: {fig(v)}</title></circle>')
    out.append(f'<path class="middle" d="{_line(xs, [y(v) for v in cone.middle])}"/>')
    marks = [(kind, at) for kind, at in (("watch", cone.watch), ("act", cone.act)) if at is not None]
    near = len(marks) == 2 and abs(y(marks[0][1]) - y(marks[1][1])) < 13
    for i, (kind, at) in enumerate(marks):
        nudge = (-4 if y(at) <= y(marks[1 - i][1]) else 12) if near else 4
        out.append(f'<path class="limit {kind}" d="M{LEFT:g},{y(at):.1f} H{WIDTH - RIGHT:g}"/>')
        out.append(f'<text class="limit-words {kind}" x="{LEFT - 8:g}" y="{y(at) + nudge:.1f}">{kind} {fig(at)}</text>')


def picture(
    flags: Sequence[Flag], walls: Sequence[Wall], cone: Cone, hours: np.ndarray, chance: np.ndarray, as_is: np.ndarray | None, target: float,
    cost: np.ndarray | None, today: float | None, hand: float, trial: Sequence[float], tick_words: Callable[[float], str],
    fig: Callable[[float], str], cost_words: str,
) -> tuple[Markup, Places]:  # fmt: skip
    """The drawing, and where the script finds things. ``cost`` (T − 1,) from the second of ``hours`` on, None without prices."""
    end = float(hours[-1])

    def x(h: float) -> float:
        return LEFT + (WIDTH - LEFT - RIGHT) * h / end

    body: list[str] = []
    probe: list[str] = []
    cone_top = _flags(probe, flags, x, end, 0) + 22
    chance_top = cone_top + CONE + GAP + 6
    cost_top = chance_top + CHANCE + GAP
    bottom = cost_top + COST if cost is not None else chance_top + CHANCE
    height = bottom + 62
    _name(body, SCHOOLS_TOP + 14, "Schools", "what each says")
    _flags(body, flags, x, end, cone_top - 6)
    for wall in walls:
        if wall.at < end:
            body.append(f'<rect class="wall" x="{x(wall.at):.1f}" y="{cone_top:.1f}" width="{WIDTH - RIGHT - x(wall.at):.1f}" '
                        f'height="{bottom - cone_top:.1f}"><title>{escape(wall.words)}</title></rect>')  # fmt: skip
            body.append(f'<path class="wall-edge" d="M{x(wall.at):.1f},{cone_top:.1f} V{bottom:.1f}"/>')
    _name(body, cone_top + 14, cone.name, cone.under)
    _cone(body, cone, x, cone_top, fig)
    _name(body, chance_top + 14, "Chance past", "at the drain")
    y = _scale(0, 1, chance_top, CHANCE)
    xs = [x(h) for h in hours]
    body.append(f'<path class="base" d="M{LEFT:g},{y(0):.1f} H{WIDTH - RIGHT:g}"/>')
    body.append(f'<path class="target" d="M{LEFT:g},{y(target):.1f} H{WIDTH - RIGHT:g}"/>')
    body.append(f'<text class="limit-words watch" x="{LEFT - 8:g}" y="{y(target) + 4:.1f}">{target:.0%}</text>')
    if as_is is not None:
        body.append(f'<path class="curve as-is" d="{_line(xs, [y(v) for v in as_is])}"/>')
    body.append(f'<path class="curve" d="{_line(xs, [y(v) for v in chance])}"/>')
    if cost is not None:
        _name(body, cost_top + 14, "Cost", cost_words)
        shown = np.minimum(cost, 4 * cost.min()) if cost.min() > 0 else cost
        scale = _scale(float(shown.min()), float(shown.max()), cost_top + 6, COST - 12)
        body.append(f'<path class="base" d="M{LEFT:g},{cost_top + COST:.1f} H{WIDTH - RIGHT:g}"/>')
        body.append(f'<path class="curve" d="{_line(xs[1:], [scale(v) for v in shown])}"/>')
    for tick in _ticks(end):
        body.append(f'<text class="axis" x="{x(tick):.1f}" y="{bottom + 16:.1f}">{escape(tick_words(tick))}</text>')
        body.append(f'<path class="tick" d="M{x(tick):.1f},{bottom:.1f} v4"/>')
    if today is not None:
        body.append(f'<path class="today" d="M{x(today):.1f},{cone_top - 14:.1f} V{bottom:.1f}"><title>today</title></path>')
    drops = "".join(
        f'<path class="bottle" d="M{x(h):.1f},{bottom + 26:.1f} q6,8 6,12 a6,6 0 0 1 -12,0 q0,-4 6,-12Z"/>' for h in trial if h <= end
    )
    body.append(f'<g id="trial-drops"><text class="lane-under" x="0" y="{bottom + 42:.1f}">trial bottles</text>{drops}</g>')
    body.append(f'<path id="hand" class="hand" d="M{x(hand):.1f},{cone_top - 14:.1f} V{bottom + 4:.1f}"/>')
    drawn = (f'<svg id="axis" class="one-axis" viewBox="0 0 {WIDTH:g} {height:.0f}" role="img" '
             f'aria-label="The interval on one axis">{"".join(body)}</svg>')  # fmt: skip
    return Markup(drawn), Places(LEFT, WIDTH - RIGHT, cone_top - 14, bottom, height)


def _ticks(end: float) -> list[float]:
    raw = end / 6
    step = 10 ** np.floor(np.log10(raw))
    step *= min((1, 2, 5, 10), key=lambda k: abs(k * step - raw))
    return [float(t) for t in np.arange(0, end + 1e-9, step)]
