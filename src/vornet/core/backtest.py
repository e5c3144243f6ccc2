"""Playing a history through several ways of judging and setting it against what was really found.

Every way uses, for each sample, only what was known on its day.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vornet.core.compare import Past
from vornet.core.departures import AT, Departures
from vornet.core.history import History, sums
from vornet.core.judge import ACT, RUN_ON, WATCH
from vornet.core.limits import FEWEST, LimitTable
from vornet.core.measurands import COUNT, WEAR_METALS

#: how long before a finding a call may still be about it, and after it until it is mended, days; common practice, no source
ABOUT_DAYS = 270
#: days of one step in time: family limits are those of its start
STEP_DAYS = 30


@dataclass(frozen=True)
class Found:
    """A fault that the workshop found: compartment (row of the history), day (ordinal), and the place in words."""

    comp: int
    day: int
    place: str


@dataclass(frozen=True)
class Way:
    """One way of judging over a history. ``spoken``: findings called (Watch or worse) before they were recorded;
    ``lead_days``, ``lead_samples``: medians over those; ``idle``: calls per 100 samples where nothing was found."""

    key: str
    name: str
    watch: int
    act: int
    findings: int
    spoken: int
    lead_days: float | None
    lead_samples: float | None
    idle: float
    missed: tuple[str, ...]


def by_fixed_limits(past: Past) -> np.ndarray:
    """Codes (N,) by the fixed limits alone."""
    return np.where(past.act_clear.any(axis=1), ACT, np.where(past.watch.any(axis=1), WATCH, RUN_ON))


def by_rates(departed: Departures) -> np.ndarray:
    """Codes (N,) by rates of wear, dirt and salt alone: degree 1 of a rise is Watch, 1.5 Act."""
    rise = departed.up()[:, [AT[k] for k in (*WEAR_METALS, "si", "na", "k")]].max(axis=1, initial=0.0)
    return np.where(rise >= 1.5, ACT, np.where(rise >= 1.0, WATCH, RUN_ON))


def by_family(history: History, teaches: np.ndarray, limits: LimitTable) -> np.ndarray:
    """Codes (N,) by mean + 2 s and + 3 s of the family's own past as it stood at each step of time, from ``FEWEST`` values on.

    ``teaches`` (N,): neither running in nor signed or found to be faulty.
    """
    samples = history.samples
    family, x = history.compartments.family[samples.comp], samples.values
    families = int(family.max(initial=-1)) + 1
    n, total, square = (np.zeros((families, COUNT)) for _ in range(3))
    code = np.full(len(x), RUN_ON)
    step = samples.day.astype(np.int64) // STEP_DAYS
    limited = np.isfinite(limits.watch["high"]).any(axis=0)
    for at in np.unique(step):
        rows = np.flatnonzero((step == at) & samples.usable)
        f = family[rows]
        with np.errstate(invalid="ignore", divide="ignore"):
            mean = total[f] / n[f]
            sd = np.sqrt(np.maximum(square[f] / n[f] - mean**2, 0) * n[f] / (n[f] - 1))
            far = np.where((n[f] >= FEWEST) & limited, (x[rows] - mean) / sd, np.nan)
            code[rows] = np.where((far > 3).any(axis=1), ACT, np.where((far > 2).any(axis=1), WATCH, RUN_ON))
        good = rows[teaches[rows]]
        ok = ~np.isnan(x[good])
        n += sums(ok, family[good], len(n))
        total += sums(np.where(ok, x[good], 0.0), family[good], len(n))
        square += sums(np.where(ok, x[good] ** 2, 0.0), family[good], len(n))
    return code


def against_findings(key: str, name: str, codes: np.ndarray, history: History, findings: Sequence[Found]) -> Way:
    """How a way of judging, as codes (N,), did against what was found."""
    samples = history.samples
    code = np.where(samples.usable, codes, RUN_ON)
    about = np.zeros(len(code), dtype=bool)  # calls that a finding bears out, or that came after it and before it was mended
    lead_days, lead_samples, missed = [], [], []
    for found in findings:
        mine = samples.comp == found.comp
        window = np.flatnonzero(mine & samples.usable & (samples.day <= found.day) & (samples.day > found.day - ABOUT_DAYS))
        called = window[code[window] >= WATCH]
        about[called] = True
        about |= mine & (samples.day > found.day) & (samples.day <= found.day + ABOUT_DAYS)
        if len(called):
            lead_days.append(found.day - int(samples.day[called[0]]))
            lead_samples.append(int((window >= called[0]).sum()))
        else:
            missed.append(found.place)
    idle = int(((code >= WATCH) & ~about).sum())
    return Way(
        key, name, int((code == WATCH).sum()), int((code >= ACT).sum()), len(findings), len(lead_days),
        float(np.median(lead_days)) if lead_days else None, float(np.median(lead_samples)) if lead_samples else None,
        100 * idle / max(int(samples.usable.sum()), 1), tuple(missed),
    )  # fmt: skip
