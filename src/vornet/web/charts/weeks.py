"""The weeks drawn: crew hours are a shore, visits are blocks of oil as high as their hours and as dark as their oil will be on that day."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from html import escape

from markupsafe import Markup

from vornet.flows.weeks.calendar import Day, Picked, Row, Shown, Weeks
from vornet.web.charts.ribbon import oil_tone

WIDTH, LEFT, RIGHT, TOP = 1240.0, 138.0, 12.0, 40.0
#: a crew hour is at most so high, the highest day at most that high, a visit at least so high, px
HOUR, HIGHEST, LEAST = 6.0, 96.0, 7.0
#: between one depot and the next: its weeks' sums, and air
UNDER, AIR, HEAD = 20.0, 16.0, 12.0
STRIP_H = 84.0
STATE_WORDS = {"planned": "planned", "card": "card made", "under_way": "under way", "done": "done"}


@dataclass(frozen=True)
class Axis:
    """Days along the page: place of a day's left edge, and how wide a day is."""

    first: date
    days: int

    @property
    def step(self) -> float:
        return (WIDTH - LEFT - RIGHT) / self.days

    def x(self, day: date) -> float:
        """
        >>> round(Axis(date(2026, 1, 5), 28).x(date(2026, 1, 12)), 1)
        410.5
        """
        return LEFT + (day - self.first).days * self.step


def scale(weeks: Weeks) -> float:
    """px a crew hour."""
    most = max((max(d.hours, d.used) for r in weeks.rows for d in r.days), default=8.0)
    return min(HOUR, HIGHEST / max(most, 1.0))


def draw(
    weeks: Weeks, today: date, href: Callable[[Shown], str], picked: int | None = None, day_words: Callable[[date], str] = str
) -> Markup:
    """The span: weeks across, a depot a row."""
    axis, px = Axis(weeks.first, weeks.days), scale(weeks)
    out, y = [], TOP
    for row in weeks.rows:
        high = max(max(d.hours, d.used) for d in row.days) * px
        high = max(high, 34.0)
        base = y + HEAD + high
        out.append(_row(row, axis, base, high, px, href, picked))
        y = base + UNDER + AIR
    height = max(y - AIR + 6, TOP + 40)
    lines = "".join(_week(axis, weeks.first + timedelta(days=i), height, weeks.days > 40) for i in range(0, weeks.days, 7))
    end = WIDTH - RIGHT
    now = ""
    if 0 <= (today - weeks.first).days < weeks.days:
        x = axis.x(today)
        now = f'<path class="now" d="M{x:.1f},{TOP - 8:.0f} V{height:.0f}"/>'
        now += f'<text class="now-word" x="{x + 3:.1f}" y="{TOP + 5:.0f}">today</text>'
    label = f"Visits by depot and day from {day_words(weeks.first)}"
    return Markup(
        f'<svg class="weeks" id="weeks" viewBox="0 0 {WIDTH:g} {height:.0f}" role="group" aria-label="{escape(label)}" '
        f'data-first="{weeks.first.isoformat()}" data-days="{weeks.days}" data-left="{LEFT:g}" data-step="{axis.step:.4f}" '
        f'data-width="{WIDTH:g}" data-hour="{px:.4f}">{lines}'
        f'<path class="edge" d="M{end:g},{TOP - 30:g} V{height:.0f}"/>{now}{"".join(out)}</svg>'
    )  # fmt: skip


def _week(axis: Axis, first: date, height: float, narrow: bool) -> str:
    x, no = axis.x(first), (first + timedelta(days=-first.weekday() % 7)).isocalendar().week  # of the Monday in it
    words = f"{no}" if narrow else f"Week {no}"
    return (f'<path class="edge" d="M{x:.1f},{TOP - 30:g} V{height:.0f}"/>'
            f'<text class="week-no" x="{x + 4:.1f}" y="{TOP - 20:g}">{words}</text>'
            f'<text class="week-day" x="{x + 4:.1f}" y="{TOP - 6:g}">{first.day} {first:%b}</text>')  # fmt: skip


def _row(row: Row, axis: Axis, base: float, high: float, px: float, href: Callable[[Shown], str], picked: int | None) -> str:
    used, there = sum(d.used for d in row.days), sum(d.hours for d in row.days)
    crew = sorted({d.hours for d in row.days if d.hours > 0})
    hours = "no crew hours" if not crew else f"crew {crew[-1]:g} h a day" if len(crew) == 1 else f"crew {crew[0]:g}–{crew[-1]:g} h a day"
    share = f"{100 * used / there:.0f} % used" if there else ""
    usual = " · as usual" if row.depot and not row.depot.said else ""
    out = [f'<text class="depot" x="0" y="{base - 34:.0f}">{escape(row.name[:20])}</text>'
           f'<text class="crew" x="0" y="{base - 17:.0f}">{hours}</text>'
           f'<text class="crew" x="0" y="{base - 2:.0f}">{share}{usual}</text>']  # fmt: skip
    out += [_day(d, axis, base, high, px, href, picked) for d in row.days]
    out.append(_shore(row, axis, base, px))
    for first, week_used, week_there, over in row.weeks():
        x, wide = axis.x(first) + 4, axis.step * 7
        if over > 0.05:
            words, kind = (f"over by {over:.1f} h" if wide > 90 else f"+{over:.0f} h"), "load over"
        elif week_used == 0:
            words, kind = ("empty" if week_there else "closed"), "load none"
        else:
            words, kind = f"{week_used:.0f} of {week_there:.0f} h" if wide > 90 else f"{week_used:.0f}/{week_there:.0f} h", "load"
        out.append(f'<text class="{kind}" x="{x:.1f}" y="{base + 15:.0f}">{words}</text>')
    return f'<g class="depot-row">{"".join(out)}</g>'


def _shore(row: Row, axis: Axis, base: float, px: float) -> str:
    """The outline of what the crew has: what stands above it is more than there is."""
    path, level = [f"M{LEFT:.1f},{base:.1f}"], 0.0
    for d in row.days:
        x = axis.x(d.on)
        if d.hours != level:
            path.append(f"H{x:.1f} V{base - d.hours * px:.1f}")
            level = d.hours
    path.append(f"H{WIDTH - RIGHT:.1f} V{base:.1f}")
    return f'<path class="shore" d="{" ".join(path)}"/>'


def words_of(v: Shown) -> str:
    """A visit in one sentence, for whoever cannot see it."""
    what = ", ".join(p.what for p in v.parts)
    dark = "" if v.darkest is None else f"; oil at {100 * v.darkest:.0f} % of its life"
    flags = [
        STATE_WORDS[v.state],
        *(["fixed"] if v.fixed else []),
        *(["past its last day"] if v.late else []),
        *([v.change] if v.change else []),
    ]
    return f"{v.unit}, {v.on.day} {v.on:%b}, {v.hours:.1f} h: {what}{dark}; {', '.join(flags)}"


def _day(day: Day, axis: Axis, base: float, deep: float, px: float, href: Callable[[Shown], str], picked: int | None) -> str:
    x, width = axis.x(day.on), axis.step
    out = [f'<rect class="day-hit" x="{x:.1f}" y="{base - deep:.0f}" width="{width:.2f}" height="{deep:.0f}">'
           f"<title>{escape(day.why)}</title></rect>" if day.why else ""]  # fmt: skip
    if day.why and width > 14 and 7.0 * len(day.why) < deep:
        turned = f"translate({x + width / 2 + 4:.1f},{base - 5:.0f}) rotate(-90)"
        out.append(f'<text class="why-day" transform="{turned}">{escape(day.why)}</text>')
    y = base
    gap = 2.0 if width > 14 else 1.0
    for v in day.visits:
        high = max(v.hours * px, LEAST if width > 14 else 4.0)
        out.append(_block(v, x + gap, y - high, width - 2 * gap, high - gap, href(v), v.visit_id == picked and picked != 0))
        y -= high
    return "".join(out)


def _block(v: Shown, x: float, y: float, width: float, high: float, link: str, picked: bool) -> str:
    classes = " ".join(["visit", f"v-{v.state}", *(["fixed"] if v.fixed else []), *(["late"] if v.late else []),
                        *([f"c-{v.change}"] if v.change else []), *(["picked"] if picked else [])])  # fmt: skip
    whole = sum(p.hours for p in v.parts) or 1.0
    inside, at = [], y + high
    for p in v.parts:
        part = high * p.hours / whole
        at -= part
        tone = "" if p.share is None else f' fill="{oil_tone(max(p.share, 0.0))}"'
        box = f'x="{x:.1f}" y="{at:.1f}" width="{width:.1f}" height="{max(part - 0.5, 0.6):.1f}"'
        inside.append(f'<rect class="{"oil" if tone else "dry"}" {box}{tone}/>')
    marks = ""
    if v.fixed:
        marks += f'<path class="pin" d="M{x:.1f},{y - 1:.1f} h{width:.1f}"/>'
    if v.state in ("card", "under_way"):
        marks += f'<circle class="carded" cx="{x + width - 4:.1f}" cy="{y + min(5, high / 2):.1f}" r="2.4"/>'
    if v.state == "done":
        marks += f'<path class="ticked" d="M{x + width / 2 - 4:.1f},{y + high / 2:.1f} l3,3 l5,-6"/>'
    if v.late:
        marks += f'<path class="flag" d="M{x:.1f},{y:.1f} h7 l-7,7Z"/>'
    frame = f'<rect class="frame" x="{x:.1f}" y="{y:.1f}" width="{width:.1f}" height="{max(high, 1):.1f}"/>'
    said = escape(words_of(v))
    return (f'<a class="{classes}" href="{escape(link)}" data-visit="{v.visit_id}" data-on="{v.on.isoformat()}" aria-label="{said}">'
            f"<title>{said}</title>{''.join(inside)}{frame}{marks}</a>")  # fmt: skip


# ---- one visit's days ------------------------------------------------------------------------------------------
def strip(p: Picked, first: date, days: int) -> Markup:
    """A picked visit on the same days: its window, the due day with its band, the block where it is, and what each day would lose."""
    axis = Axis(first, days)
    last = first + timedelta(days=days)
    mid = 52.0

    def clip(d: date) -> float:
        return axis.x(min(max(d, first), last))

    lines = []
    if p.band:
        a, b = clip(p.band[0]), clip(p.band[1] + timedelta(days=1))
        lines.append(f'<rect class="due-band" x="{a:.1f}" y="{mid - 15:.0f}" width="{max(b - a, 0):.1f}" height="30"/>')
    a, b = clip(p.earliest), clip(p.latest + timedelta(days=1))
    lines.append(f'<rect class="window" x="{a:.1f}" y="{mid - 3:.0f}" width="{max(b - a, 0):.1f}" height="6"/>')
    if first <= p.due < last:
        x = axis.x(p.due) + axis.step / 2
        lines.append(
            f'<path class="due-tick" d="M{x:.1f},{mid - 14:.0f} v28"/><text class="due-word" x="{x:.1f}" y="{mid + 28:.0f}">due</text>'
        )
    most = max((o.loss_h for o in p.options if o.inside), default=0.0) or 1.0
    for o in p.options:
        if o.inside and o.there:
            high = 20 * min(o.loss_h / most, 1.0)
            kind = "loss-bar" if o.room >= -1e-9 else "loss-bar full"
            left, wide = axis.x(o.on) + 1, max(axis.step - 2, 1)
            box = f'x="{left:.1f}" y="{mid - 18 - high:.1f}" width="{wide:.1f}" height="{max(high, 1):.1f}"'
            lines.append(f'<rect class="{kind}" {box}/>')
    here = p.shown
    if first <= here.on < last:
        tone = oil_tone(max(here.darkest, 0.0)) if here.darkest is not None else "none"
        left, wide = axis.x(here.on) + 1, max(axis.step - 2, 4)
        lines.append(f'<rect class="here" id="strip-here" x="{left:.1f}" y="{mid - 12:.0f}" width="{wide:.1f}" height="24" fill="{tone}"/>')
    lines.append(f'<rect class="ghost" id="strip-ghost" x="-99" y="{mid - 14:.0f}" width="{max(axis.step, 6):.1f}" height="28"/>')
    said = (f"Window {p.earliest.day} {p.earliest:%b} to {p.latest.day} {p.latest:%b}, due {p.due.day} {p.due:%b}"
            + (f", nine in ten between {p.band[0].day} {p.band[0]:%b} and {p.band[1].day} {p.band[1]:%b}" if p.band else ""))  # fmt: skip
    return Markup(f'<svg class="weeks strip" viewBox="0 0 {WIDTH:g} {STRIP_H:g}" role="img" aria-label="{escape(said)}">'
                  f'<text class="depot" x="0" y="{mid - 6:.0f}">{escape(here.unit[:19])}</text>'
                  f'<text class="crew" x="0" y="{mid + 11:.0f}">{here.hours:.1f} h</text>{"".join(lines)}</svg>')  # fmt: skip


def tones(shares: Sequence[float]) -> list[str]:
    """Colours of a legend's steps."""
    return [oil_tone(s) for s in shares]
