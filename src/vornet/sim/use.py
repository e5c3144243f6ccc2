"""How units are used from day to day, and whether a due day that was forecast lies inside its band."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.due import forecast

#: how a unit runs: much the same every day; a pace that wanders; whole weeks in which it stands
KINDS = ("daily", "drifting", "idle")
#: days on record, days between readings, days to look ahead
PAST, APART, AHEAD = (30, 240), (2, 14), (8, 90)


def running(kind: str, days: int, rng: np.random.Generator) -> np.ndarray:
    """Meter gained on each of so many days, shape (days,)."""
    per_day = float(rng.uniform(2, 14))
    week = np.where(np.arange(days) % 7 < rng.integers(5, 8), 1.0, 0.15)
    gained = per_day * week * np.clip(rng.normal(1, 0.25, days), 0.05, None)
    if kind == "drifting":
        level, out = 0.0, np.zeros(days)
        for d in range(days):  # comes back over some months, and wanders by a third meanwhile
            level = 0.985 * level + rng.normal(0, 0.05)
            out[d] = np.exp(level)
        gained *= out
    elif kind == "idle":
        weeks = rng.random(days // 7 + 1) < rng.uniform(0.1, 0.35)
        gained *= ~np.repeat(weeks, 7)[:days]
    return np.minimum(gained, 23.5)


@dataclass(frozen=True)
class Covered:
    kind: str
    forecasts: int
    inside: int
    width_days: float


def covered(kind: str, seed: int, units: int = 400) -> Covered:
    """Forecast the due day of so many units from their readings, then let them run on."""
    rng = np.random.default_rng([seed, KINDS.index(kind)])
    inside, n, widths = 0, 0, []
    for _ in range(units):
        past, ahead = int(rng.integers(*PAST)), int(rng.integers(*AHEAD))
        gained = running(kind, past + 400, rng)
        meter = np.concatenate([[0.0], np.cumsum(gained)])  # meter[d]: at noon of day d
        step = int(rng.integers(*APART))
        days = np.arange(past % step, past + 1, step)
        if len(days) < 3:
            continue
        due_total = meter[past] + (meter[past] - meter[0]) / past * ahead
        truly = int(np.argmax(meter >= due_total)) if meter[-1] >= due_total else len(meter)
        f = forecast(days, np.round(meter[days], 1), 0.0, 0, due_total, None)
        if f.earliest is None or f.latest is None:
            continue
        n += 1
        inside += f.earliest <= truly <= f.latest
        widths.append(f.latest - f.earliest)
    return Covered(kind, n, inside, float(np.median(widths)) if widths else float("nan"))
