"""Can this result be true? Checks that hold a sample before it moves anything.

Each check has a name, a sentence with its evidence, and leaves the sample as it was. A person
releases or rejects what is held.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core import precision
from vornet.core.history import Charges, History
from vornet.core.limits import DUTIES
from vornet.core.measurands import INDEX

#: a meter cannot gain more than this a day
MOST_PER_DAY_H, MOST_PER_DAY_KM = 24.0, 2000.0
#: how far a sample's meter may stray from readings of the same day; common practice, no source
METER_SLACK_H, METER_SLACK_KM = 12.0, 400.0


@dataclass(frozen=True)
class Finding:
    """A reason to hold sample number ``sample`` (index into the history's samples)."""

    sample: int
    reason: str
    detail: str


@dataclass(frozen=True)
class MeterPoints:
    """Trusted running totals, one row a reading, sorted by compartment, then day. Shape (P,)."""

    comp: np.ndarray
    day: np.ndarray
    total: np.ndarray


def _meter(history: History, points: MeterPoints) -> list[Finding]:
    """Meter behind the reading before it, ahead of the one after it, or faster than the clock."""
    samples = history.samples
    if not len(points.comp) or not len(samples.comp):
        return []
    span = 10_000_000
    key = points.comp.astype(np.int64) * span + points.day
    wanted = samples.comp.astype(np.int64) * span + samples.day
    before = np.searchsorted(key, wanted, "right") - 1
    after = np.searchsorted(key, wanted, "left")
    at_before, at_after = np.clip(before, 0, len(key) - 1), np.clip(after, 0, len(key) - 1)
    has_before = (before >= 0) & (points.comp[at_before] == samples.comp)
    has_after = (after < len(key)) & (points.comp[at_after] == samples.comp)
    distance = history.compartments.distance[samples.comp]
    slack = np.where(distance, METER_SLACK_KM, METER_SLACK_H)
    most = np.where(distance, MOST_PER_DAY_KM, MOST_PER_DAY_H)
    total, prior, later = samples.total, points.total[at_before], points.total[at_after]
    days = samples.day - points.day[at_before] + 1
    with np.errstate(invalid="ignore"):
        back = has_before & (total < prior - slack)
        ahead = has_after & ~back & (total > later + slack)
        jump = has_before & ~has_after & ~back & (total > prior + most * days + slack)
    out = []
    for i in np.flatnonzero(back | ahead | jump):
        unit = "km" if distance[i] else "h"
        if back[i]:
            why = f"the meter goes back: {total[i]:,.0f} {unit} after a reading of {prior[i]:,.0f} {unit}"
            out.append(Finding(int(i), "meter_back", why))
        elif ahead[i]:
            why = f"the meter is ahead of a later reading: {total[i]:,.0f} {unit}, then {later[i]:,.0f} {unit}"
            out.append(Finding(int(i), "meter_ahead", why))
        else:
            gain = total[i] - prior[i]
            why = f"the meter jumps: {gain:,.0f} {unit} more in {days[i] - 1:.0f} days"
            out.append(Finding(int(i), "meter_jump", why))
    return out


def screen(history: History, charges: Charges, points: MeterPoints) -> list[Finding]:
    """Every reason to hold, for every sample of the history."""
    samples = history.samples
    if not len(samples.comp):
        return []
    out = _meter(history, points)
    values, bad_meter = samples.values, {f.sample for f in out}

    given, known = samples.oil_hours, charges.oil_hours
    slack = np.maximum(np.where(history.compartments.distance[samples.comp], 500.0, 25.0), 0.1 * np.nan_to_num(known))
    with np.errstate(invalid="ignore"):
        too_old = (given > known + slack) & ~np.isnan(charges.fill[charges.charge_of])
        early = samples.total < charges.fill[charges.charge_of] - slack
    for i in np.flatnonzero(too_old):
        if i not in bad_meter:
            why = f"{given[i]:,.0f} oil hours, but only {known[i]:,.0f} since the last drain on record"
            out.append(Finding(int(i), "oil_hours_exceed_drain", why))
    for i in np.flatnonzero(early & ~too_old):
        if i not in bad_meter:
            out.append(Finding(int(i), "sample_before_fill", "the meter lies before the fill of this charge"))

    v40, v100 = values[:, INDEX["v40"]], values[:, INDEX["v100"]]
    with np.errstate(invalid="ignore"):
        for i in np.flatnonzero(v40 <= v100):
            why = f"viscosity {v40[i]:g} mm²/s at 40 °C is not above {v100[i]:g} mm²/s at 100 °C"
            out.append(Finding(int(i), "viscosity_order", why))
        fresh = history.oils.new[charges.oil[charges.charge_of]][:, INDEX["bn"]]
        bn = values[:, INDEX["bn"]]
        sd = precision.columns_sd(fresh[:, None], ["bn"])[:, 0] * precision.BETWEEN_DATES
        engine = np.array([d.endswith("engine") for d in DUTIES])[history.compartments.duty[samples.comp]]
        above = engine & (bn > np.maximum(fresh + 3.5 * sd, fresh * 1.15))
        for i in np.flatnonzero(above):
            why = f"base number {bn[i]:.2f} is above the new oil's {fresh[i]:.2f} mg KOH/g"
            out.append(Finding(int(i), "bn_above_new", why))
        negative = np.flatnonzero((values < 0).any(axis=1))
    for i in negative:
        out.append(Finding(int(i), "negative_value", "a measured value is below zero"))
    return out
