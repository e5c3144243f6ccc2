"""Judging samples: past which limits, a real shift of wear rate, what the magnet says; then a proposal.

The machine proposes, a person signs. A judgement uses nothing later than its sample.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from vornet.core.causes import CAUSES
from vornet.core.compare import ACT_MARGIN_SD, Past, past_limits
from vornet.core.departures import departures
from vornet.core.diagnose import (
    PROBABLE,
    STRENGTHS,
    STRONG,
    Diagnosis,
    Seen,
    diagnose,
    evidence_of,
    nothing_found,
    nothing_seen,
)
from vornet.core.history import Charges, History, offsets
from vornet.core.limits import DUTIES, LimitTable
from vornet.core.measurands import INDEX, KEYS, MEASURANDS, WEAR_METALS
from vornet.core.rates import StretchRates

RUN_ON, WATCH, ACT, STOP, NONE = 0, 1, 2, 3, -1
VERDICTS: dict[int, str] = {RUN_ON: "run_on", WATCH: "watch", ACT: "act", STOP: "stop"}
WORDS: dict[str, str] = {"run_on": "Run on", "watch": "Watch", "act": "Act", "stop": "Stop"}

#: one-sided chance below which a stretch's wear rate counts as shifted
SHIFT_P = 0.0005
#: stretches of one's own before a shift can be told
SHIFT_FEWEST = 4
#: standard errors by which a rate must have risen inside its charge
BEND_SD = 3.5
#: a shift or a bend matters when it would add this share of the watch limit within one interval
SHIFT_MATTERS = 0.5


@dataclass(frozen=True)
class Shift:
    """A wear rate that left its own past: metals of WEAR_METALS, shape (N, 7)."""

    real: np.ndarray
    usual: np.ndarray
    spread: np.ndarray


@dataclass(frozen=True)
class Bend:
    """A wear rate that rose inside its charge, against the stretch before: metals of WEAR_METALS, shape (N, 7), mg/h."""

    real: np.ndarray
    before: np.ndarray
    sd: np.ndarray


@dataclass(frozen=True)
class Judgement:
    """``proposed`` (N,): code of VERDICTS or NONE; the parts it rests on."""

    proposed: np.ndarray
    past: Past
    shift: Shift
    bend: Bend
    an_above_bn: np.ndarray
    magnet: np.ndarray
    break_in: np.ndarray
    diagnosis: Diagnosis


def rate_shift(history: History, charges: Charges, rates: StretchRates, past: Past) -> Shift:
    """Stretch wear rates against the compartment's own earlier ones.

    A shift is real when the rate lies beyond the one-sided Student limit of its own past (which holds
    the measurement noise already), beyond three standard errors, and would matter within one interval.
    Break-in charges teach nothing and are not judged by rate; a sample from oil that had stood is judged
    (it reads low, so a rise is real) but teaches nothing.
    """
    from scipy import special

    samples, comps = history.samples, history.compartments
    n, metals = rates.rate.shape
    usable = samples.usable & ~charges.break_in[charges.charge_of]
    r = np.where(usable[:, None], rates.rate, np.nan)
    seen = ~np.isnan(r)
    start = offsets(samples.comp, len(comps.duty))[samples.comp]

    def before(block: np.ndarray) -> np.ndarray:
        sums = np.vstack([np.zeros((1, metals)), np.cumsum(block, axis=0)])
        return sums[np.arange(n)] - sums[start]

    taught = seen & ~samples.settled[:, None]
    filled = np.where(taught, r, 0.0)
    count = before(taught.astype(float))
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = before(filled) / count
        variance = np.maximum(before(filled * filled) / count - mean**2, 0) * count / (count - 1)
        spread = np.sqrt(np.maximum(variance, rates.se**2) * (1 + 1 / count))
        dof = np.clip(count - 1, 1, 60).astype(int)
        quantile = special.stdtrit(np.arange(1.0, 61.0), 1 - SHIFT_P)[dof - 1]
        watch = past.limits["high"][0][:, [INDEX[k] for k in WEAR_METALS]]
        interval = np.where(np.isnan(comps.interval), 500.0, comps.interval)[samples.comp]
        gain = (rates.rise_100h - mean / rates.rate * rates.rise_100h) / 100 * interval[:, None]
        real = (
            seen & (count >= SHIFT_FEWEST) & (r - mean > quantile * spread)
            & (r - mean > 3 * rates.se) & (gain > SHIFT_MATTERS * watch)
        )  # fmt: skip
    return Shift(real, mean, spread)


def rate_bend(history: History, charges: Charges, rates: StretchRates, past: Past) -> Bend:
    """Stretch wear rates against the stretch before in the same charge: no past of one's own is needed.

    Real when the rise lies beyond ``BEND_SD`` of its standard errors, the reading that both stretches share counted, and
    would add SHIFT_MATTERS of the watch limit within one interval. Break-in charges are not judged by rate.
    """
    samples, comps = history.samples, history.compartments
    usable = samples.usable & ~charges.break_in[charges.charge_of]
    change, sd = rates.change()
    watch = past.limits["high"][0][:, [INDEX[k] for k in WEAR_METALS]]
    interval = np.where(np.isnan(comps.interval), 500.0, comps.interval)[samples.comp]
    with np.errstate(invalid="ignore", divide="ignore"):
        gain = change / rates.rate * rates.rise_100h / 100 * interval[:, None]
        real = usable[:, None] & (change > BEND_SD * sd) & (gain > SHIFT_MATTERS * watch)
    return Bend(real, rates.rate - change, sd)


def propose(history: History, charges: Charges, past: Past, shift: Shift, bend: Bend, found: Diagnosis) -> Judgement:
    """The verdict each sample deserves, worst sign first.

    Stop: magnet grade 4, or a strong stop-worthy cause with an act limit passed. Act: an act limit passed by more
    than 2 sd, AN above BN by more than 2 sd, or a strong fault. Watch: any watch limit passed, magnet grade 3, a
    probable cause, also one that is only to be noted, or a wear rate that really shifted or bent. In a break-in charge metal says
    one step less. Nothing that a limit applies to, or held: none.
    """
    samples = history.samples
    bn, an = samples.values[:, INDEX["bn"]], samples.values[:, INDEX["an"]]
    with np.errstate(invalid="ignore"):
        sd = np.hypot(*history.precision.columns_sd(np.stack([bn, an], axis=1), ["bn", "an"]).T)
        engine = np.array([name.endswith("engine") for name in DUTIES])[history.compartments.duty[samples.comp]]
        crossed = engine & (an > bn)  # gears and hydraulics have no base to lose
        crossed_clear = engine & (an - bn > ACT_MARGIN_SD * sd)
    magnet = np.where(samples.drained, charges.magnet[charges.charge_of], np.nan)
    break_in = charges.break_in[charges.charge_of]
    metal = np.array([m.group == "wear" or m.key == "si" for m in MEASURANDS])
    softened = break_in[:, None] & metal
    act = ((past.act_clear & ~softened).any(axis=1)) | crossed_clear
    watch = (past.watch & ~softened).any(axis=1) | (past.act_clear & softened).any(axis=1)
    with np.errstate(invalid="ignore"):
        watch |= crossed | shift.real.any(axis=1) | bend.real.any(axis=1) | ((magnet >= 3) & ~break_in)
        stop = magnet >= 4
    for k, cause in enumerate(CAUSES):
        strength = found.strength[:, k]
        if cause.key == "break_in":
            continue
        if cause.grave == "note":
            watch |= strength >= PROBABLE
            continue
        watch |= strength >= PROBABLE
        act |= strength >= STRONG
        if cause.grave == "stop":
            stop |= (strength >= STRONG) & past.act[:, [INDEX[m] for m in cause.limits]].any(axis=1)
    proposed = np.where(stop, STOP, np.where(act, ACT, np.where(watch, WATCH, RUN_ON)))
    nothing = ~past.limited.any(axis=1) & ~stop & ~watch
    proposed = np.where(samples.usable & ~nothing, proposed, NONE)
    return Judgement(proposed, past, shift, bend, crossed, magnet, break_in, found)


def judge(
    history: History, charges: Charges, rates: StretchRates, table: LimitTable, seen: Seen | None = None, causes: bool = True
) -> Judgement:
    """Judge every sample of a history: compare, look for shifts and for causes, propose.

    ``causes`` False leaves them out, for who only wants limits and rates laid beside a judgement that is kept already.
    """
    past = past_limits(history, charges, table)
    if causes:
        departed = departures(history, charges, rates, past)
        found = diagnose(history, charges, past, departed, seen or nothing_seen(len(history.samples.comp)))
    else:
        found = nothing_found(len(history.samples.comp))
    shift, bend = rate_shift(history, charges, rates, past), rate_bend(history, charges, rates, past)
    return propose(history, charges, past, shift, bend, found)


def causes_of(judgement: Judgement, i: int, interval: str = "an interval") -> list[dict[str, Any]]:
    """Causes of sample ``i``, best first: {key, strength, score, evidence}."""
    found = judgement.diagnosis
    return [
        {
            "key": CAUSES[k].key, "strength": STRENGTHS[int(found.strength[i, k])], "score": round(float(found.score[i, k]), 2),
            "evidence": evidence_of(found, k, i, interval),
        }
        for k in found.best_first(i)
    ]  # fmt: skip


def _figure(key: str, value: float) -> str:
    m = MEASURANDS[INDEX[key]]
    return f"{value:,.{m.decimals}f} {m.unit}".strip()


def evidence(history: History, judgement: Judgement, rates: StretchRates, i: int) -> list[str]:
    """What speaks for sample ``i``'s proposal, one sentence each, with values and limits."""
    past, values, out = judgement.past, history.samples.values[i], []
    for side, flags, hard in (
        ("high", past.watch_high[i], past.act_high[i]), ("low", past.watch_low[i], past.act_low[i]),
    ):  # fmt: skip
        watch, act = past.limits[side]
        for m in np.flatnonzero(flags):
            key, name = KEYS[m], MEASURANDS[m].name
            word, limit = ("act", act[i, m]) if hard[m] else ("watch", watch[i, m])
            where = "above" if side == "high" else "below"
            close = "" if not hard[m] or past.act_clear[i, m] else ", by less than two standard deviations"
            out.append(f"{name} {_figure(key, values[m])} is {where} {word} {_figure(key, limit)}{close}")
    if judgement.an_above_bn[i]:
        out.append(f"Acid number {values[INDEX['an']]:.2f} has passed base number {values[INDEX['bn']]:.2f} mg KOH/g")
    for m in np.flatnonzero(judgement.shift.real[i]):
        name = MEASURANDS[INDEX[WEAR_METALS[m]]].name
        unit = "km" if history.compartments.distance[history.samples.comp[i]] else "h"
        digits = 4 if unit == "km" else 2
        out.append(
            f"{name} wears at {rates.rate[i, m]:.{digits}f} mg/{unit} since {rates.from_h[i]:,.0f} {unit}, "
            f"usual {judgement.shift.usual[i, m]:.{digits}f} ± {judgement.shift.spread[i, m]:.{digits}f}"
        )
    for m in np.flatnonzero(judgement.bend.real[i]):
        name = MEASURANDS[INDEX[WEAR_METALS[m]]].name
        unit = "km" if history.compartments.distance[history.samples.comp[i]] else "h"
        digits = 4 if unit == "km" else 2
        out.append(
            f"{name} wears faster inside this charge: {rates.rate[i, m]:.{digits}f} mg/{unit} since {rates.from_h[i]:,.0f} {unit}, "
            f"{judgement.bend.before[i, m]:.{digits}f} before ({(rates.rate - judgement.bend.before)[i, m] / judgement.bend.sd[i, m]:.1f} sd)"
        )
    if judgement.magnet[i] >= 3:
        word = "slivers or chips" if judgement.magnet[i] >= 4 else "thick furry build-up"
        out.append(f"Magnet grade {judgement.magnet[i]:.0f} at the drain: {word}")
    if judgement.break_in[i] and out:
        out.append("Break-in charge: metal counts one step less")
    if history.samples.settled[i]:
        out.append("Drawn after the oil had stood or cooled: metal, dirt and water may be higher. Sample again warm")
    if judgement.proposed[i] >= ACT and not (judgement.diagnosis.strength[i] >= PROBABLE).any() and judgement.diagnosis.signs:
        hard = ", ".join(MEASURANDS[m].spoken for m in np.flatnonzero(past.act_high[i] | past.act_low[i]))
        out.append(f"No cause fits: {hard or 'what was seen'} stands alone, without the signs that would name one")
    if judgement.proposed[i] == NONE and history.samples.usable[i]:
        out.append("No value that a limit applies to")
    return out
