"""A fleet's history as it stood on an earlier day, and what would have been held then, with nothing known of later."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from typing import Any

import numpy as np

from vornet.core.charges import cut
from vornet.core.history import History
from vornet.core.screening import Finding, MeterPoints, screen
from vornet.flows.judge.fleet_history import Loaded


def _some(block: Any, there: np.ndarray) -> Any:
    return type(block)(*(None if column is None else column[there] for column in vars(block).values()))


def as_of(history: History, day: date) -> tuple[History, np.ndarray]:
    """The history up to a day, and which of its samples were there (N,)."""
    last = day.toordinal()
    there = history.samples.day <= last
    return replace(
        history, samples=_some(history.samples, there), drains=_some(history.drains, history.drains.day <= last),
        fillings=_some(history.fillings, history.fillings.day <= last), levels=_some(history.levels, history.levels.day <= last),
    ), there  # fmt: skip


def held_then(loaded: Loaded, together: np.ndarray, day: date) -> list[Finding]:
    """What screening would have held on a day; ``sample`` counts in the whole history. ``together`` (N,) as in ``screen``."""
    history, there = as_of(loaded.history, day)
    known = loaded.points.day <= day.toordinal()
    points = MeterPoints(loaded.points.comp[known], loaded.points.day[known], loaded.points.total[known], loaded.rate_per_day)
    index = np.flatnonzero(there)
    found = screen(history, cut(history), points, together[there], loaded.oil_names)
    return [replace(f, sample=int(index[f.sample])) for f in found]
