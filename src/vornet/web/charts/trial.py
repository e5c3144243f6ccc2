"""The strip of a trial: its charge from fill to end, the oil's colour as far as it has run, its bottles under it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from html import escape
from typing import Any

from vornet.web.charts.ribbon import OIL_TONES, oil_tone, verdict_drop

WIDTH, LEFT, RIGHT, BAR_Y, BAR_H = 560, 8, 30, 22, 18
#: room that a letter of the labels takes
LETTER = 6.4
WORDS = {"waits": "result still to come", "ahead": "to draw", "late": "late", "missed": "missed"}
#: verdict words by code
DROPS = {0: "run_on", 1: "watch", 2: "act", 3: "stop"}


def _bottle(x: float, y: float, state: str, title: str) -> str:
    inner = f'<path class="phial" d="M{x - 2:.1f},{y - 9:.1f} h4 v5 l3,3.5 v8.5 h-10 v-8.5 l3,-3.5 z"/>'
    if state == "waits":
        inner += f'<path class="phial-full" d="M{x - 4.5:.1f},{y + 2:.1f} h9 v5.5 h-9 z"/>'
    if state == "missed":
        inner += f'<path class="phial-missed" d="M{x - 6:.1f},{y + 8:.1f} L{x + 6:.1f},{y - 9:.1f}"/>'
    return f'<g class="phial-of {state}"><title>{escape(title)}</title>{inner}</g>'


def strip(
    steps: Sequence[Mapping[str, Any]], before: float, length: float, on_oil: float | None, words: Callable[[float], str], name: str
) -> str:  # fmt: skip
    """The strip as one SVG element. ``steps`` as the trial keeps them; ``words`` writes a length in the reader's unit; ``name`` makes
    the gradient's id its own."""
    end: float = max(max(s["at"] for s in steps), length, on_oil or 0.0) * 1.02
    scale: float = (WIDTH - LEFT - RIGHT) / end

    def sx(x: float) -> float:
        return LEFT + x * scale

    out = [f'<svg class="trial-strip" viewBox="0 0 {WIDTH} 88" role="img" aria-label="{escape(_said(steps, words))}">']
    used = min(on_oil or 0.0, end)
    if used > 0:
        share = used / length
        stops = "".join(
            f'<stop offset="{s / share:.3f}" stop-color="{oil_tone(s)}"/>' for s in [*(t for t, _ in OIL_TONES if t < share), share]
        )
        out.append(f'<defs><linearGradient id="{name}">{stops}</linearGradient></defs>')
        out.append(f'<rect x="{LEFT}" y="{BAR_Y}" width="{used * scale:.1f}" height="{BAR_H}" rx="3" fill="url(#{name})"/>')
    last = max(s["at"] for s in steps)
    out.append(f'<rect class="strip-frame" x="{LEFT}" y="{BAR_Y}" width="{last * scale:.1f}" height="{BAR_H}" rx="3"/>')
    right = sx(length) > WIDTH - 60  # its words hang to the left there, and the other's farther left
    said = f"on trial {words(length)}"
    free = sx(length) - 4 - LETTER * len(said) - 8 if right else sx(length)
    for at, word, kind in ((before, f"before {words(before)}", "before"), (length, said, "length")):
        out.append(f'<path class="strip-{kind}" d="M{sx(at):.1f},{BAR_Y - 6} V{BAR_Y + BAR_H + 4}"/>')
        anchor = ' text-anchor="end"' if kind == "before" or right else ""
        place = min(sx(at) - 4, free) if kind == "before" else sx(at) + (-4 if right else 4)
        out.append(f'<text class="strip-words" x="{place:.1f}" y="{BAR_Y - 8}"{anchor}>{escape(word)}</text>')
    for s in steps:
        x, y = sx(s["at"]), BAR_Y + BAR_H + 17
        if s["state"] == "drawn":
            out.append(verdict_drop(DROPS.get(s["verdict"] or 0, "none"), x, y, f"bottle at {words(s['drawn_at'])}"))
        else:
            out.append(_bottle(x, y, s["state"], f"bottle at {words(s['at'])}: {WORDS[s['state']]}"))
        late = ' class="late"' if s["state"] in ("late", "missed") else ""
        out.append(f'<text{late} text-anchor="middle" x="{x:.1f}" y="{y + 25:.1f}">{escape(words(s["at"]).split()[0])}</text>')
    out.append("</svg>")
    return "".join(out)


def _said(steps: Sequence[Mapping[str, Any]], words: Callable[[float], str]) -> str:
    def state(s: Mapping[str, Any]) -> str:
        return f"drawn, {DROPS.get(s['verdict'] or 0, '').replace('_', ' ')}" if s["state"] == "drawn" else WORDS[s["state"]]

    return "; ".join(f"bottle at {words(s['at'])}: {state(s)}" for s in steps)
