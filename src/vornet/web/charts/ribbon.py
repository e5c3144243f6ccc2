"""The charge ribbon and the measurand panels under it, on one axis along the meter.

``scale`` turns running totals into pixels; everything else asks it. Colours of oil are literal (oil looks
the same by day and night); all other colours come from CSS classes.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from html import escape

from vornet.words.writing import figure, marked

LEFT, RIGHT, TOP = 158, 24, 34
BLOCK_H, DROP_Y, PANEL_H, PANEL_GAP = 34, 52, 118, 26

#: share of safe life → oil tone
OIL_TONES: tuple[tuple[float, str], ...] = (
    (0.0, "#e9ba5c"), (0.35, "#c98a2c"), (0.65, "#84521e"), (0.90, "#462e1c"), (1.0, "#261e1a"), (1.3, "#181616"),
)  # fmt: skip
DROP_PATH = "M0,-8 C3.6,-3 6,0.2 6,3.2 A6,6 0 0 1 -6,3.2 C-6,0.2 -3.6,-3 0,-8 Z"


def oil_tone(share: float) -> str:
    """Colour of oil that has used ``share`` of its safe life.

    >>> oil_tone(0)
    '#e9ba5c'
    """
    for (a, low), (b, high) in zip(OIL_TONES, OIL_TONES[1:], strict=False):
        if share <= b:
            w = max(0.0, (share - a) / (b - a))
            mix = [round(int(low[i : i + 2], 16) * (1 - w) + int(high[i : i + 2], 16) * w) for i in (1, 3, 5)]
            return "#" + "".join(f"{c:02x}" for c in mix)
    return OIL_TONES[-1][1]


@dataclass(frozen=True)
class Block:
    """One charge: from fill to end along the meter; ``life`` its safe life, ``frame`` the interval approved then."""

    fill: float
    end: float
    life: float | None
    frame: float | None
    running: bool
    known_start: bool
    title: str
    magnet: int | None = None


@dataclass(frozen=True)
class Notch:
    """One sample: where, its verdict (run_on, watch, act, stop, none, held), title and id; ``signed`` or only proposed."""

    at: float
    word: str
    title: str
    sample_id: int
    signed: bool = False


@dataclass(frozen=True)
class Drop:
    """A top-up: where and how much."""

    at: float
    litres: float


@dataclass(frozen=True)
class Point:
    at: float
    value: float
    title: str
    sample_id: int
    held: bool = False


@dataclass(frozen=True)
class Cone:
    """A forecast: (at, low, middle, high) along the meter; ``solid`` for the running charge."""

    points: tuple[tuple[float, float, float, float], ...]
    solid: bool


@dataclass(frozen=True)
class Panel:
    """One measurand: its lines per charge, points, limits, baseline band and forecasts."""

    key: str
    name: str
    unit: str
    lines: tuple[tuple[tuple[float, float], ...], ...]
    points: tuple[Point, ...]
    watch: tuple[float, ...] = ()
    act: tuple[float, ...] = ()
    band: tuple[float, float] | None = None
    cones: tuple[Cone, ...] = ()


@dataclass(frozen=True)
class Mark:
    """Something done or found inside or between charges: a flag over the ribbon, with its words."""

    at: float
    title: str


@dataclass(frozen=True)
class Ribbon:
    blocks: tuple[Block, ...]
    notches: tuple[Notch, ...]
    drops: tuple[Drop, ...]
    panels: tuple[Panel, ...]
    unit: str
    width: int = 1200
    start: float | None = None
    end: float | None = None
    drains: tuple[float, ...] = field(default=())
    marks: tuple[Mark, ...] = field(default=())
    planned: tuple[Mark, ...] = field(default=())


def in_unit(ribbon: Ribbon, factor: float, unit: str, say: Callable[[str], str]) -> Ribbon:
    """The same ribbon along a meter shown in another unit: every place times ``factor``, titles through ``say``."""

    def at(x: float | None) -> float | None:
        return None if x is None else x * factor

    panels = tuple(
        replace(
            p, lines=tuple(tuple((x * factor, y) for x, y in line) for line in p.lines),
            points=tuple(replace(q, at=q.at * factor, title=say(q.title)) for q in p.points),
            cones=tuple(replace(c, points=tuple((x * factor, lo, mid, hi) for x, lo, mid, hi in c.points)) for c in p.cones),
        )
        for p in ribbon.panels
    )  # fmt: skip
    blocks = tuple(
        replace(b, fill=b.fill * factor, end=b.end * factor, life=at(b.life), frame=at(b.frame), title=say(b.title)) for b in ribbon.blocks
    )
    return replace(
        ribbon, blocks=blocks, panels=panels, unit=unit, start=at(ribbon.start), end=at(ribbon.end),
        notches=tuple(replace(n, at=n.at * factor, title=say(n.title)) for n in ribbon.notches),
        marks=tuple(replace(m, at=m.at * factor, title=say(m.title)) for m in ribbon.marks),
        planned=tuple(replace(m, at=m.at * factor, title=say(m.title)) for m in ribbon.planned),
        drops=tuple(replace(d, at=d.at * factor) for d in ribbon.drops), drains=tuple(x * factor for x in ribbon.drains),
    )  # fmt: skip


@dataclass(frozen=True)
class Scale:
    """A linear scale from data to pixels."""

    low: float
    high: float
    first: float
    last: float

    def __call__(self, x: float) -> float:
        return self.first + (x - self.low) / (self.high - self.low) * (self.last - self.first)


def nice_ticks(low: float, high: float, about: int = 6) -> list[float]:
    """Round figures inside [low, high], about ``about`` of them."""
    if not high > low:
        return [low]
    raw = (high - low) / about
    power = 10 ** math.floor(math.log10(raw))
    step = next(m * power for m in (1, 2, 2.5, 5, 10) if m * power >= raw)
    first = math.ceil(low / step - 1e-9)
    return [k * step for k in range(first, math.floor(high / step + 1e-9) + 1)]


def x_scale(ribbon: Ribbon) -> Scale:
    low = ribbon.start if ribbon.start is not None else min(b.fill for b in ribbon.blocks)
    ends = [b.end for b in ribbon.blocks] + [b.fill + b.frame for b in ribbon.blocks if b.frame and b.running]
    ends += [m.at for m in ribbon.planned]
    ends += [p[0] for panel in ribbon.panels for cone in panel.cones for p in cone.points]
    high = ribbon.end if ribbon.end is not None else max(ends)
    return Scale(low, max(high, low + 1), LEFT, ribbon.width - RIGHT)


def y_scale(panel: Panel, top: float) -> Scale:
    """A panel's scale: everything drawn fits; limits that lie far above all data do not squash it."""
    values = [p.value for p in panel.points] + [v for line in panel.lines for _, v in line]
    for cone in panel.cones:
        values += [m for _, _, m, _ in cone.points]
        values += [v for p in cone.points[-1:] for v in (p[1], p[3])]
    values += list(panel.band or ())
    low, high = min(values, default=0.0), max(values, default=1.0)
    reach = high - min(low, 0.0)
    for limit in (*panel.watch, *panel.act):
        if limit > high:
            high = limit if limit <= high + 1.6 * max(reach, 1e-9) else high
        low = min(low, limit) if limit < low and limit >= low - 1.2 * max(high - low, 1e-9) else low
    if low > 0 and low < 0.55 * high:
        low = 0.0
    pad = 0.07 * (high - low or 1.0)
    return Scale(low - (pad if low else 0.0), high + pad, top + PANEL_H, top)


def _plain(x: float) -> str:
    """A figure as its reader writes it, without zeros that say nothing."""
    return marked(f"{x:g}")


def _f(x: float) -> str:
    return f"{x:.1f}"


def verdict_drop(word: str, x: float, y: float, title: str = "", extra: str = "", signed: bool = False) -> str:
    """The verdict drop: empty, half full, full, full with a bar; hatched when held; dashed while only proposed."""
    inner = f'<path class="drop-line" d="{DROP_PATH}"/>'
    if word == "watch":
        inner = f'<path class="drop-half" d="M-6,2 H6 V3.2 A6,6 0 0 1 -6,3.2 Z"/>{inner}'
    elif word in ("act", "stop"):
        bar = '<path class="drop-bar" d="M-9,3.4 H9"/>' if word == "stop" else ""
        inner = f'<path class="drop-full" d="{DROP_PATH}"/>{bar}'
    elif word == "held":
        inner = f'<path class="drop-held" d="{DROP_PATH}"/><path class="drop-line" d="M-4,5 L4,-2 M-5,1 L1,-4 M-1,8 L5,3"/>'
    label = f"<title>{escape(title)}</title>" if title else ""
    return f'<g class="drop drop-{word}{" signed" if signed else ""}" transform="translate({_f(x)},{_f(y)})"{extra}>{label}{inner}</g>'


def _block(block: Block, i: int, sx: Scale) -> str:
    x0, x1 = sx(block.fill), sx(block.end)
    w = max(x1 - x0 - 1.5, 1.0)
    y = TOP
    out = []
    if block.frame:
        fx = min(sx(block.fill + block.frame), sx.last)
        out.append(f'<path class="frame" d="M{_f(x0)},{y + 4} V{y - 6} H{_f(fx)} V{y + 4}"/>')
    if not block.known_start or block.life is None:
        fill = "url(#hatch)"
        out.append(
            f'<rect class="charge unknown" x="{_f(x0)}" y="{y}" width="{_f(w)}" height="{BLOCK_H}" rx="3" fill="{fill}">'
            f"<title>{escape(block.title)}</title></rect>"
        )
        return "".join(out)
    used = (block.end - block.fill) / block.life
    stops = []
    shares = [s for s, _ in OIL_TONES if s < used] + [used]
    for share in shares:
        at = share / used if used > 0 else 0
        stops.append(f'<stop offset="{at:.3f}" stop-color="{oil_tone(share)}"/>')
    out.append(f'<defs><linearGradient id="oil{i}">{"".join(stops)}</linearGradient></defs>')
    bottom = y + BLOCK_H
    kink = ""
    if block.magnet is not None and block.magnet >= 3:
        mid = x0 + w * 0.86
        kink = f"L{_f(mid + 7)},{bottom} L{_f(mid)},{bottom + 7} L{_f(mid - 7)},{bottom} "
    shape = f"M{_f(x0)},{y} H{_f(x0 + w)} V{bottom} {kink}H{_f(x0)} Z"
    out.append(
        f'<path class="charge{" running" if block.running else ""}" d="{shape}" fill="url(#oil{i})">'
        f"<title>{escape(block.title)}</title></path>"
    )
    return "".join(out)


def _panel(panel: Panel, top: float, sx: Scale, drains: tuple[float, ...]) -> str:
    sy = y_scale(panel, top)
    out = [f'<g class="panel" data-key="{panel.key}">']
    out.append(f'<text class="panel-name" x="14" y="{top + 16}">{escape(panel.name)}</text>')
    out.append(f'<text class="panel-unit" x="14" y="{top + 32}">{escape(panel.unit)}</text>')
    tag = f"{panel.name} {panel.unit}".strip()
    out.append(f'<text class="panel-tag" x="{sx.last}" y="{top - 5}" aria-hidden="true">{escape(tag)}</text>')
    inside = [v for v in (*panel.watch, *panel.act) if sy.low <= v <= sy.high]
    if panel.band:
        a, b = sy(min(panel.band[1], sy.high)), sy(max(panel.band[0], sy.low))
        out.append(
            f'<rect class="band" x="{sx.first}" y="{_f(a)}" width="{_f(sx.last - sx.first)}" height="{_f(max(b - a, 1))}">'
            "<title>usual for the family: mean ± 2 s</title></rect>"
        )
    for at in drains:
        out.append(f'<path class="drain-line" d="M{_f(sx(at))},{_f(top)} V{_f(top + PANEL_H)}"/>')
    for word, limits in (("watch", panel.watch), ("act", panel.act)):
        for limit in limits:
            if sy.low <= limit <= sy.high:
                y = sy(limit)
                near = any(abs(sy(v) - y) < 11 and v != limit and v in panel.act for v in inside) if word == "watch" else False
                ty = y + (12 if near else 3.5)
                out.append(f'<path class="limit {word}" d="M{sx.first},{_f(y)} H{_f(sx.last)}"/>')
                out.append(f'<text class="limit-name {word}" x="{sx.first - 8}" y="{_f(ty)}">{word} {_plain(limit)}</text>')
    for tick in nice_ticks(sy.low, sy.high, 3):
        if all(abs(sy(v) - sy(tick)) > 15 for v in inside):
            out.append(f'<text class="tick-y" x="{sx.first - 8}" y="{_f(sy(tick) + 3.5)}">{_plain(tick)}</text>')
    for cone in panel.cones:
        upper = " ".join(f"{_f(sx(a))},{_f(sy(min(h, sy.high)))}" for a, _, _, h in cone.points)
        lower = " ".join(f"{_f(sx(a))},{_f(sy(max(lo, sy.low)))}" for a, lo, _, _ in reversed(cone.points))
        middle = " ".join(f"{_f(sx(a))},{_f(sy(min(max(m, sy.low), sy.high)))}" for a, _, m, _ in cone.points)
        kind = "solid" if cone.solid else "dashed"
        out.append(f'<polygon class="cone {kind}" points="{upper} {lower}"/>')
        out.append(f'<polyline class="cone-line {kind}" points="{middle}"/>')
    for line in panel.lines:
        d = " ".join(f"{_f(sx(a))},{_f(sy(v))}" for a, v in line)
        out.append(f'<polyline class="path" points="{d}"/>')
    for p in panel.points:
        held = " held" if p.held else ""
        out.append(
            f'<circle class="point{held}" cx="{_f(sx(p.at))}" cy="{_f(sy(p.value))}" r="3.4" '
            f'data-sample="{p.sample_id}" data-say="{escape(p.title)}"><title>{escape(p.title)}</title></circle>'
        )
    out.append("</g>")
    return "".join(out)


def draw(ribbon: Ribbon) -> str:
    """The whole picture as one SVG element."""
    if not ribbon.blocks:
        return ""
    sx = x_scale(ribbon)
    panels_top = TOP + BLOCK_H + DROP_Y
    height = panels_top + len(ribbon.panels) * (PANEL_H + PANEL_GAP) + 26
    out = [
        f'<svg class="ribbon" viewBox="0 0 {ribbon.width} {height}" role="group" '
        'aria-label="Oil charges along the meter, with samples and measurands">',
        '<defs><pattern id="hatch" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">'
        '<path class="hatch-line" d="M0,0 V6"/></pattern>'
        f'<clipPath id="plot"><rect x="{LEFT - 1}" y="0" width="{ribbon.width - LEFT - RIGHT + 14}" height="{height}"/>'
        "</clipPath></defs>",
        f'<text class="panel-name" x="14" y="{TOP + 15}">Oil charges</text>',
        f'<text class="panel-unit" x="14" y="{TOP + 31}">frame: interval</text>',
        '<g clip-path="url(#plot)">',
    ]
    out += [_block(b, i, sx) for i, b in enumerate(ribbon.blocks)]
    for d in ribbon.drops:
        r = min(2.0 + 0.9 * math.sqrt(d.litres), 6.5)
        litres = _plain(d.litres)
        out.append(
            f'<circle class="topup" cx="{_f(sx(d.at))}" cy="{TOP - 16}" r="{r:.1f}">'
            f"<title>topped up {litres} L at {figure(d.at)} {ribbon.unit}</title></circle>"
        )
    for mark in ribbon.marks:
        x = sx(mark.at)
        if sx.first <= x <= sx.last:
            out.append(
                f'<g class="mark-flag" tabindex="0" role="img" aria-label="{escape(mark.title)}" data-say="{escape(mark.title)}">'
                f'<title>{escape(mark.title)}</title><path d="M{_f(x)},{TOP + BLOCK_H} V{TOP - 22} h9 l-3,4 l3,4 h-9"/></g>'
            )
    for mark in ribbon.planned:
        x, y = sx(mark.at), TOP + BLOCK_H + 18
        out.append(
            f'<g class="phial-of ahead" tabindex="0" role="img" aria-label="{escape(mark.title)}" data-say="{escape(mark.title)}">'
            f'<title>{escape(mark.title)}</title><path class="notch" d="M{_f(x)},{TOP + BLOCK_H - 8} v12"/>'
            f'<path class="phial" d="M{_f(x - 2)},{_f(y - 9)} h4 v5 l3,3.5 v8.5 h-10 v-8.5 l3,-3.5 z"/></g>'
        )
    for n in ribbon.notches:
        x = sx(n.at)
        out.append(f'<path class="notch" d="M{_f(x)},{TOP + BLOCK_H - 8} V{TOP + BLOCK_H + 4}"/>')
        out.append(
            verdict_drop(
                n.word, x, TOP + BLOCK_H + 18, n.title,
                f' tabindex="0" role="button" data-sample="{n.sample_id}" data-say="{escape(n.title)}" '
                f'aria-label="{escape(n.title)}"', n.signed,
            )
        )  # fmt: skip
    out.append("</g>")
    top = float(panels_top)
    for panel in ribbon.panels:
        out.append(_panel(panel, top, sx, ribbon.drains))
        top += PANEL_H + PANEL_GAP
    for tick in nice_ticks(sx.low, sx.high, 9):
        out.append(f'<text class="tick-x" x="{_f(sx(tick))}" y="{_f(top - 4)}">{figure(tick)} {ribbon.unit}</text>')
    out.append("</svg>")
    return "".join(out)


#: what the page's style sheet says, in literal colours: a printed drawing carries its own
PAPER_STYLE = (
    "text{font-family:Barlow,sans-serif} .panel-name{font-size:15px;font-weight:600;fill:#16262c} "
    ".panel-unit,.tick-x,.tick-y,.limit-name{font-size:13px;fill:#42545c} .panel-tag{display:none} .tick-x{text-anchor:middle} "
    ".tick-y,.limit-name{text-anchor:end} .limit{fill:none;stroke-width:1.2} .limit.watch{stroke:#8a5a00;stroke-dasharray:2 4} "
    ".limit.act{stroke:#a3281e} .band{fill:#dfe8ea} .drain-line{stroke:#c5d0d4} .path{fill:none;stroke:#16262c;stroke-width:1.6} "
    ".point{fill:#fff;stroke:#16262c;stroke-width:1.5} .cone{fill:#0f6b78;fill-opacity:.15} .cone-line{fill:none;stroke:#0f6b78;"
    "stroke-width:1.4} .dashed{stroke-dasharray:4 4} .charge{stroke:#16262c;stroke-width:.6} .charge.unknown{stroke:#5d7079;"
    "stroke-dasharray:3 3} .hatch-line{stroke:#5d7079} .frame{fill:none;stroke:#42545c;stroke-width:1.1} .topup{fill:#0f6b78} "
    ".notch{stroke:#42545c;stroke-width:1.2} .drop-line{fill:none;stroke:#16262c;stroke-width:1.3} "
    ".drop-run_on .drop-line,.drop-none .drop-line{fill:#fff} .drop-half{fill:#8a5a00} .drop-full{fill:#a3281e} "
    ".phial{fill:none;stroke:#0f6b78;stroke-width:1.3} "
    ".drop-bar{stroke:#16262c;stroke-width:2.4} .drop-held{fill:#fff} .mark-flag path{fill:#fff;stroke:#16262c;stroke-width:1.2}"
)


def on_paper(drawing: str) -> str:
    """A drawing with its own style, for PDF; a charge in the one tone its oil had at the end (paper knows no gradient here)."""
    if not drawing:
        return ""
    for name, stops in re.findall(r'<linearGradient id="(oil\d+)">(.*?)</linearGradient>', drawing):
        last = re.findall(r'stop-color="([^"]+)"', stops)[-1]
        drawing = drawing.replace(f'fill="url(#{name})"', f'fill="{last}"')
    start, rest = drawing.split(">", 1)
    return f"{start}><style>{PAPER_STYLE}</style>{rest}"


def life_bar(used: float | None, life: float | None, due: float | None, solid: bool, width: int = 170) -> str:
    """A list's headroom bar: ends where the safe life ends, oil tone for what is used, a tick where it is due.

    Hollow when there are no safe hours and the interval stands in for them.
    """
    if used is None or not life:
        return '<svg class="life" viewBox="0 0 170 16" aria-hidden="true"><rect class="life-none" x="0.5" y="3.5" width="169" height="9" rx="2"/></svg>'  # noqa: E501
    longest = max(life, used, due or 0.0) * 1.02
    w = (width - 2) / longest
    tone = oil_tone(used / life)
    over = used > life
    hollow = "" if solid else " hollow"
    parts = [f'<rect class="life-frame{hollow}" x="0.5" y="3.5" width="{life * w:.1f}" height="9" rx="2"/>']
    parts.append(f'<rect class="life-used" x="1" y="4" width="{max(used * w - 1, 0):.1f}" height="8" rx="1.5" fill="{tone}"/>')
    if over:
        parts.append(f'<path class="life-end" d="M{life * w:.1f},1 V15"/>')
    if due:
        parts.append(f'<path class="life-due" d="M{due * w:.1f},1.5 l-3,-1.5 h6 z M{due * w:.1f},1 V15"/>')
    return f'<svg class="life" viewBox="0 0 {width} 16" aria-hidden="true">{"".join(parts)}</svg>'
