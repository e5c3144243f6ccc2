"""Drawn examples of what is graded at a drain: magnets, oil, filter pleats, a dipstick and a sight glass. Vornet's own."""

from __future__ import annotations

STEEL, DARK, OIL = "#9aa8ad", "#38484f", "#84521e"


def _svg(body: str, width: int = 64, height: int = 48) -> str:
    return f'<svg class="grade-art" viewBox="0 0 {width} {height}" width="{width}" height="{height}" aria-hidden="true">{body}</svg>'


def magnet(grade: int) -> str:
    """A plug's magnetic end from the side: bare, fuzz, flecks, thick fur, slivers. Grades 0–4."""
    parts = [
        f'<rect x="4" y="10" width="16" height="28" rx="2" fill="{STEEL}"/>',
        f'<rect x="20" y="14" width="14" height="20" fill="{STEEL}"/>',
        f'<rect x="34" y="16" width="10" height="16" rx="1" fill="{DARK}"/>',
    ]
    if grade == 1:
        parts += [_hair(44, 17 + i * 2.0, 2.5, 0.6) for i in range(8)]
    if grade == 2:
        parts += [_hair(44, 17 + i * 2.0, 3, 0.6) for i in range(8)]
        parts += [f'<rect x="{45 + 2 * (i % 2)}" y="{18 + 4 * i}" width="2.4" height="1.6" fill="{STEEL}"/>' for i in range(4)]
    if grade == 3:
        parts.append(f'<path d="M43 12C52 10 58 17 58 24S52 38 43 36Z" fill="{DARK}"/>')
        parts += [_hair(56, 13 + i * 2.1, 5, 0.9) for i in range(11)]
    if grade == 4:
        parts.append(f'<path d="M43 14C50 13 54 18 54 24S50 35 43 34Z" fill="{DARK}"/>')
        parts += [f'<path d="M{47 + i} {15 + 5 * i}l{9 - i} {(-1) ** i * 4}l-1.6 2.4Z" fill="{STEEL}" stroke="{DARK}" stroke-width=".5"/>'
                  for i in range(5)]  # fmt: skip
    return _svg("".join(parts))


def _hair(x: float, y: float, length: float, width: float) -> str:
    return f'<path d="M{x} {y:.1f}l{length} {-0.8 if int(y) % 2 else 0.8}" stroke="{DARK}" stroke-width="{width}" fill="none"/>'


def oil(look: str) -> str:
    """A bottle of oil: dark, milky, thin with fuel, gritty, glittering, with coolant under it."""
    fill = {"milky": "#cdb892", "fuel": "#a9803f", "coolant": OIL}.get(look, "#3a281b")
    parts = [f'<path d="M22 6h20v6l6 6v26H16V18l6-6Z" fill="{fill}" stroke="{DARK}" stroke-width="1.5"/>']
    if look == "coolant":
        parts.append('<path d="M16.8 34h30.4v9.2H16.8Z" fill="#4fa39b"/>')
    if look in ("grit", "glitter"):
        colour = "#0d0a08" if look == "grit" else "#e8d9a8"
        parts += [f'<circle cx="{20 + (i * 7) % 25}" cy="{22 + (i * 5) % 20}" r="1.2" fill="{colour}"/>' for i in range(14)]
    if look == "fuel":
        parts.append('<path d="M28 3c2-3 5 1 8-2" stroke="#38484f" fill="none" stroke-width="1.2"/>')
    return _svg("".join(parts))


def strainer(look: str) -> str:
    """A strainer's mesh from above: clean, sludge over it, chunks on it."""
    lines = [f'<path d="M{10 + 6 * i} 8v32M8 {10 + 6 * i}h48" stroke="{DARK}" stroke-width=".9"/>' for i in range(5)]
    lines += [f'<path d="M{40 + 6 * i} 8v32" stroke="{DARK}" stroke-width=".9"/>' for i in range(3)]
    parts = [f'<rect x="8" y="8" width="48" height="32" rx="4" fill="none" stroke="{STEEL}" stroke-width="2.4"/>', *lines]
    if look == "sludge":
        parts.append(f'<path d="M10 22C18 16 26 28 34 21S50 17 54 24V38H10Z" fill="{OIL}" opacity=".85"/>')
    if look == "chunks":
        chunks = ((14, 14), (27, 25), (40, 15), (47, 30), (19, 32))
        parts += [f'<path d="M{x} {y}l6-2 3 4-3 4-6-1Z" fill="{STEEL}" stroke="{DARK}"/>' for x, y in chunks]
    return _svg("".join(parts))


def pleats(look: str) -> str:
    """An element's pleats opened: clean, metal, sludge, collapsed, the old seal left."""
    if look == "collapsed":
        line = "M4 12L14 36 18 20 26 40 30 14 36 34 44 30 48 40 60 10"
    else:
        line = "M4 12" + "".join(f"L{4 + 7 * i} {36 if i % 2 else 12}" for i in range(1, 9))
    parts = [f'<path d="{line}" fill="none" stroke="{DARK}" stroke-width="2.2"/>']
    if look == "metal":
        parts += [f'<rect x="{10 + 7 * i}" y="{24 + 3 * (i % 2)}" width="3.4" height="1.8" fill="{STEEL}" stroke="{DARK}" stroke-width=".4"/>'
                  for i in range(7)]  # fmt: skip
    if look == "sludge":
        parts.append(f'<path d="M6 34Q32 46 60 32L58 40Q32 48 8 40Z" fill="{OIL}"/>')
    if look == "seal_left":
        parts.append(f'<ellipse cx="32" cy="42" rx="26" ry="4" fill="none" stroke="{OIL}" stroke-width="3"/>')
    return _svg("".join(parts))


def level(glass: bool) -> str:
    """A dipstick between MIN and MAX, or a sight glass; the page moves the element ``.oil-line`` (0 at MIN, 1 at MAX)."""
    if glass:
        body = (
            f'<circle cx="70" cy="60" r="50" fill="none" stroke="{DARK}" stroke-width="4"/>'
            f'<clipPath id="round"><circle cx="70" cy="60" r="48"/></clipPath>'
            f'<rect class="oil-line" x="20" y="60" width="100" height="80" fill="{OIL}" clip-path="url(#round)"/>'
            '<path d="M8 60h8M124 60h8" stroke="currentColor" stroke-width="2"/>'
        )
        return f'<svg class="level-art" data-from="85" data-to="60" viewBox="0 0 140 120" aria-hidden="true">{body}</svg>'
    marks = "".join(f'<path d="M52 {y}h12" stroke="currentColor" stroke-width="1"/>' for y in (62.5, 75, 87.5))
    body = (
        f'<path d="M58 4v112" stroke="{STEEL}" stroke-width="12" stroke-linecap="round"/>'
        f'<rect class="oil-line" x="52" y="75" width="12" height="47" fill="{OIL}"/>'
        f'<path d="M50 50h16M50 100h16" stroke="{DARK}" stroke-width="3"/>{marks}'
        '<text x="74" y="55" class="level-mark">MAX</text><text x="74" y="105" class="level-mark">MIN</text>'
    )
    return f'<svg class="level-art" data-from="100" data-to="50" viewBox="0 0 140 124" aria-hidden="true">{body}</svg>'
