"""Drains that samples speak of and nobody recorded."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from vornet.core.history import DRAIN_MATCH_DAYS

#: more days than any date has, to put compartment and day into one number
DAYS = 10_000_000
#: a fill that the oil hours tell lies beyond the one before by more than this, h, or this share of the interval; common practice,
#: no source
SLACK_H, SLACK_SHARE = 20.0, 0.05


class ProposedDrain(NamedTuple):
    """Compartment (its place), ordinal day, running total; volumes nobody knows."""

    comp: int
    day: int
    total: float


class Drawn(NamedTuple):
    """Samples by compartment and day, shape (N,): place, ordinal day, running total and oil hours as the label said them (NaN not
    given), and whether it was drawn at a drain."""

    comp: np.ndarray
    day: np.ndarray
    total: np.ndarray
    oil_hours: np.ndarray
    drained: np.ndarray


def proposed_drains(comp: np.ndarray, day: np.ndarray, samples: Drawn, interval: np.ndarray) -> list[ProposedDrain]:
    """What is to be added to the drains on record (``comp``, ``day``: (D,)), ``interval`` (C,), NaN none.

    A sample marked as drawn at a drain with none on record within three days proposes one on its day; a compartment without
    any drain takes its fills from the oil hours that the lab was told.

    >>> one = Drawn(np.array([0]), np.array([100]), np.array([750.0]), np.array([250.0]), np.array([False]))
    >>> proposed_drains(np.zeros(0, int), np.zeros(0, int), one, np.array([500.0]))
    [ProposedDrain(comp=0, day=99, total=500.0)]
    """
    out: list[ProposedDrain] = []
    have: dict[int, list[int]] = {}

    def add(c: int, on: int, total: float) -> None:
        out.append(ProposedDrain(c, on, total))
        have.setdefault(c, []).append(on)

    key = np.sort(comp.astype(np.int64) * DAYS + day)
    at = samples.comp.astype(np.int64) * DAYS + samples.day
    near = np.searchsorted(key, at + DRAIN_MATCH_DAYS, "right") > np.searchsorted(key, at - DRAIN_MATCH_DAYS, "left")
    for i in np.flatnonzero(samples.drained & ~np.isnan(samples.total) & ~near):
        c, on = int(samples.comp[i]), int(samples.day[i])
        if not any(abs(on - known) <= DRAIN_MATCH_DAYS for known in have.get(c, ())):
            add(c, on, float(samples.total[i]))
    bare = np.bincount(comp.astype(int), minlength=len(interval)) == 0
    bare[np.array(list(have), dtype=int)] = False
    told = ~np.isnan(samples.total) & ~np.isnan(samples.oil_hours) & (samples.oil_hours > 0)
    last: dict[int, tuple[float, int]] = {}
    for i in np.flatnonzero(told & bare[samples.comp]):
        c, on = int(samples.comp[i]), int(samples.day[i])
        fill = float(samples.total[i] - samples.oil_hours[i])
        before = last.get(c)
        usual = 0.0 if math.isnan(interval[c]) else float(interval[c])
        if before is None or fill > before[0] + max(SLACK_H, SLACK_SHARE * usual):
            add(c, on - 1 if before is None else max(before[1], on - 1), fill)
            last[c] = (fill, on)
        else:
            last[c] = (before[0], on)
    return out
