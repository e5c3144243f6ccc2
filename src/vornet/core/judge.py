"""Judging samples: past which limits, a real shift of wear rate, what the magnet says; then a proposal.

The machine proposes, a person signs. A judgement uses nothing later than its sample.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from vornet.core.causes import CAUSES
from vornet.core.charges import Charges
from vornet.core.compare import ACT_MARGIN_SD, Past, past_limits
from vornet.core.departures import AT, AT_CHARGE, CUSUM_LIMIT, NEVER_TEACHES, OWN_STRETCHES, Departures, departures
from vornet.core.diagnose import (
    PROBABLE,
    STRENGTHS,
    STRONG,
    Diagnosis,
    Factors,
    diagnose,
    evidence_of,
    nothing_found,
)
from vornet.core.fact import Fact, told
from vornet.core.history import History
from vornet.core.limits import DUTIES, LimitTable
from vornet.core.measurands import INDEX, KEYS, MEASURANDS, WEAR_METALS
from vornet.core.precision import BETWEEN_DATES, LABS_APART
from vornet.core.rates import StretchRates
from vornet.core.seen import COARSE, GRAVE, METAL, WATER, Seen, nothing_seen

RUN_ON, WATCH, ACT, STOP, NONE = 0, 1, 2, 3, -1
VERDICTS: dict[int, str] = {RUN_ON: "run_on", WATCH: "watch", ACT: "act", STOP: "stop"}
WORDS: dict[str, str] = {"run_on": "Run on", "watch": "Watch", "act": "Act", "stop": "Stop"}

#: one-sided chance below which a stretch's wear rate counts as shifted
SHIFT_P = 0.0005
#: charges of one's own before a shift can be told
SHIFT_FEWEST = 4
#: standard errors by which a rate must have risen inside its charge
BEND_SD = 3.5
#: a shift or a bend matters when it would add this share of the watch limit within one interval
SHIFT_MATTERS = 0.5
#: an engine is unlike its family rather than ill while it wears at most so many times as fast as the family usually does
UNLIKE_AT_MOST = 2.0
#: compartments of a family besides one's own, before the family says what is usual
FAMILY_FEWEST = 2
#: a departure from one's own past below this, in sd, is none
STEADY_SD = 2.5


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
    """``proposed`` (N,): code of VERDICTS or NONE; the parts it rests on. ``steady`` (N, COUNT): watch limits passed as always."""

    proposed: np.ndarray
    past: Past
    shift: Shift
    bend: Bend
    an_above_bn: np.ndarray
    magnet: np.ndarray
    break_in: np.ndarray
    diagnosis: Diagnosis
    steady: np.ndarray
    seen: Seen


def rate_shift(history: History, charges: Charges, rates: StretchRates, past: Past, teaching: np.ndarray | None = None) -> Shift:
    """Stretch wear rates against the compartment's own charges before this one.

    A random-effects model (Searle, Casella & McCulloch 1992): what differs from charge to charge is shared by a charge's
    stretches, so the past counts by charges; what differs inside a charge is pooled over them. A shift is real when the
    rate lies beyond the one-sided Student limit of that prediction (degrees of freedom by Satterthwaite 1946), beyond
    three standard errors, and would matter within one interval. Where earlier charges were read by another lab the
    prediction carries what labs may differ by. Break-in charges teach nothing and are not judged by rate; a sample from
    oil that had stood is judged (it reads low, so a rise is real) but teaches nothing, nor does one signed Act or Stop.
    """
    from scipy import special

    samples, comps = history.samples, history.compartments
    metals = rates.rate.shape[1]
    h, of = len(charges.comp), charges.charge_of
    usable = samples.usable & ~charges.break_in[of]
    r = np.where(usable[:, None], rates.rate, np.nan)
    seen = ~np.isnan(r)
    taught = seen & ~samples.settled[:, None]
    if teaching is not None:
        taught &= (teaching > NEVER_TEACHES)[:, None]
    span = np.nan_to_num(rates.to_h - rates.from_h)[:, None]
    labs = samples.labs

    def of_charge(block: np.ndarray) -> np.ndarray:
        out = np.zeros((h, metals))
        np.add.at(out, of, block)
        return out

    def before(block: np.ndarray) -> np.ndarray:
        """Summed over the compartment's earlier charges, (H, 7)."""
        sums = np.cumsum(block, axis=0) - block
        return np.asarray(sums - sums[charges.first[charges.comp]])

    with np.errstate(invalid="ignore", divide="ignore"):
        weight = np.where(taught, span, 0.0)
        stretches, hours = of_charge(taught.astype(float)), of_charge(weight)
        mean_of = of_charge(np.where(taught, weight * r, 0.0)) / hours
        told = hours > 0
        noise_of = of_charge(np.where(taught, (weight * rates.se) ** 2, 0.0)) / hours**2
        inside = of_charge(np.where(taught, (r - mean_of[of]) ** 2, 0.0))
        filled, one = np.where(told, mean_of, 0.0), told.astype(float)
        count = before(one)
        mean = before(filled) / count
        between = np.maximum(before(filled**2) / count - mean**2, 0) * count / (count - 1)
        # never steadier than what the readings of a charge can tell
        between = np.maximum(between, before(np.where(told, noise_of, 0.0)) / count)
        free = before(np.where(told, np.maximum(stretches - 1, 0), 0.0))
        within = before(np.where(told, inside, 0.0)) / free
        k = of
        many = free[k] > 0
        within_one = np.where(many, np.maximum(within[k], rates.se**2), 0.0)
        alone = np.where(many, 0.0, np.maximum(rates.se**2 - between[k], 0.0))
        elsewhere = _by_other_labs(samples.comp, charges, labs, taught.any(axis=1))
        apart = elsewhere[:, None] * (LABS_APART / BETWEEN_DATES * rates.reading_sd / span) ** 2 * _per_reading(history, charges)
        first_part = between[k] * (1 + 1 / count[k])
        spread = np.sqrt(first_part + within_one + alone + apart)
        dof = (first_part + within_one) ** 2 / (
            first_part**2 / np.maximum(count[k] - 1, 1) + np.where(many, within_one**2 / np.maximum(free[k], 1), 0.0)
        )
        dof = np.clip(np.nan_to_num(dof, nan=1.0), 1, 60).astype(int)
        quantile = special.stdtrit(np.arange(1.0, 61.0), 1 - SHIFT_P)[dof - 1]
        watch = past.limits["high"][0][:, [INDEX[key] for key in WEAR_METALS]]
        interval = np.where(np.isnan(comps.interval), 500.0, comps.interval)[samples.comp]
        gain = (rates.rise_100h - mean[k] / rates.rate * rates.rise_100h) / 100 * interval[:, None]
        real = (
            seen & (count[k] >= SHIFT_FEWEST) & (r - mean[k] > quantile * spread)
            & (r - mean[k] > 3 * rates.se) & (gain > SHIFT_MATTERS * watch)
        )  # fmt: skip
    return Shift(real, mean[k], spread)


def _per_reading(history: History, charges: Charges) -> np.ndarray:
    """(mg/h per mg/kg and hour)², (N, 1): what turns a reading's error over a stretch into a rate's."""
    comp = history.samples.comp
    return np.asarray((history.oils.density[charges.oil[charges.charge_of]] * history.compartments.system_l[comp])[:, None] ** 2)


def _by_other_labs(comp: np.ndarray, charges: Charges, labs: np.ndarray, taught: np.ndarray) -> np.ndarray:
    """Share of the compartment's taught samples before each sample's charge that another lab read, (N,)."""
    out = np.zeros(len(comp))
    known = taught & (labs >= 0)
    for lab in np.unique(labs[known]):
        mine = np.zeros(len(charges.comp))
        every = np.zeros(len(charges.comp))
        np.add.at(mine, charges.charge_of[known & (labs == lab)], 1.0)
        np.add.at(every, charges.charge_of[known], 1.0)
        start = charges.first[charges.comp]
        mine, every = (x - x[start] for x in (np.cumsum(mine) - mine, np.cumsum(every) - every))
        here = labs == lab
        total = every[charges.charge_of[here]]
        out[here] = np.where(total > 0, 1 - mine[charges.charge_of[here]] / np.maximum(total, 1), 0.0)
    return out


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


def family_before(history: History) -> np.ndarray:
    """How many other compartments of its family had a sample before each sample, (N,)."""
    samples, family = history.samples, history.compartments.family
    usable = np.flatnonzero(samples.usable)
    comp, at = np.unique(samples.comp[usable], return_index=True)
    first = samples.day[usable[at]]
    span = np.int64(10_000_000)
    key = np.sort(family[comp].astype(np.int64) * span + first)
    mine = family[samples.comp].astype(np.int64) * span
    before = np.searchsorted(key, mine + samples.day, "left") - np.searchsorted(key, mine, "left")
    own_first = np.full(len(family), np.iinfo(np.int64).max)
    own_first[comp] = first
    return np.asarray(before - (own_first[samples.comp] < samples.day))


def steady_ones(history: History, past: Past, d: Departures) -> np.ndarray:
    """Wear metals past their watch limit, but not half way to act, that are there as always, (N, COUNT), bool.

    The compartment has a past of its own (OWN_STRETCHES), its rate over stretch and charge is what that past says and no
    drift lasts, and it wears at most UNLIKE_AT_MOST times as fast as its family, of which others are known: an engine that
    is unlike, not one that is ill. The limit stays marked, and stands against lengthening as before.
    """
    out = np.zeros_like(past.watch_high)
    others = family_before(history) >= FAMILY_FEWEST
    for key in WEAR_METALS:
        m, stretch, charge = INDEX[key], AT[key], AT_CHARGE[key]
        watch, act = past.limits["high"][0][:, m], past.limits["high"][1][:, m]
        value = history.samples.values[:, m]
        with np.errstate(invalid="ignore"):
            usual = np.maximum(d.usual[:, stretch], d.usual[:, charge])
            out[:, m] = (
                past.watch_high[:, m] & ~past.act_high[:, m] & (value <= 0.5 * (watch + act)) & others
                & (d.n[:, stretch] >= OWN_STRETCHES)
                & (d.z[:, stretch] < STEADY_SD) & (d.z[:, charge] < STEADY_SD)
                & (d.drift[:, stretch] < CUSUM_LIMIT) & (d.drift[:, charge] < CUSUM_LIMIT)
                & (usual <= UNLIKE_AT_MOST * d.family[:, charge])
            )  # fmt: skip
    return out


def told_by_eye(seen: Seen, break_in: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """What was seen at the sample's own drain: (worth a Watch, worth an Act), (N,) bool. In a break-in charge metal counts one step less."""
    watch, act = np.zeros(seen.n, dtype=bool), np.zeros(seen.n, dtype=bool)
    for sign in (*COARSE, *WATER):
        here = seen.at_drain(sign) > 0
        softer = break_in & (sign in METAL)
        act |= here & ~softer & (sign in GRAVE)
        watch |= here & (~softer | (sign in GRAVE))
    return watch, act


def propose(
    history: History, charges: Charges, past: Past, shift: Shift, bend: Bend, found: Diagnosis, seen: Seen | None = None
) -> Judgement:  # fmt: skip
    """The verdict each sample deserves, worst sign first.

    Stop: magnet grade 4, or a strong stop-worthy cause with an act limit passed. Act: an act limit passed by more
    than 2 sd, AN above BN by more than 2 sd, chunks in the strainer or coolant seen in the oil, or a strong fault. Watch: any
    watch limit passed but by what was steady and unlike all along (``steady_ones``), magnet grade 3, glitter, grit, metal in the
    filter, a filter that collapsed or milky oil at the drain (too coarse for what the lab burns, or settled before it), a
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
    steady = steady_ones(history, past, found.departures) & ~np.any(found.strength >= PROBABLE, axis=1, keepdims=True)
    watch = (past.watch & ~softened & ~steady).any(axis=1) | (past.act_clear & softened).any(axis=1)
    with np.errstate(invalid="ignore"):
        watch |= crossed | shift.real.any(axis=1) | bend.real.any(axis=1) | ((magnet >= 3) & ~break_in)
        stop = magnet >= 4
    seen = seen or nothing_seen(len(samples.comp))
    by_eye, by_eye_act = told_by_eye(seen, break_in)
    watch, act = watch | by_eye, act | by_eye_act
    for k, cause in enumerate(CAUSES):
        strength = found.strength[:, k]
        if cause.passes:
            continue
        if cause.grave == "note":
            watch |= strength >= PROBABLE
            continue
        watch |= strength >= PROBABLE
        act |= strength >= STRONG
        if cause.grave == "stop":
            stop |= (strength >= STRONG) & past.act[:, [INDEX[m] for m in cause.limits]].any(axis=1)
    proposed = np.where(stop, STOP, np.where(act, ACT, np.where(watch, WATCH, RUN_ON)))
    nothing = ~past.limited.any(axis=1) & ~stop & ~watch & ~act
    proposed = np.where(samples.usable & ~nothing, proposed, NONE)
    return Judgement(proposed, past, shift, bend, crossed, magnet, break_in, found, steady, seen)


def judge(
    history: History,
    charges: Charges,
    rates: StretchRates,
    table: LimitTable,
    seen: Seen | None = None,
    causes: bool = True,
    teaching: np.ndarray | None = None,
    factors: Factors | None = None,
) -> Judgement:
    """Judge every sample of a history: compare, look for shifts and for causes, propose.

    ``teaching`` (N,): what people said each sample shows of the usual, as in ``departures``; ``factors`` what findings made
    of the signs' weights, as in ``diagnose``.

    ``causes`` False leaves them out, for who only wants limits and rates laid beside a judgement that is kept already.
    """
    past = past_limits(history, charges, table)
    if causes:
        departed = departures(history, charges, rates, past, teaching)
        found = diagnose(history, charges, past, departed, seen or nothing_seen(len(history.samples.comp)), factors)
    else:
        found = nothing_found(len(history.samples.comp))
    shift, bend = rate_shift(history, charges, rates, past, teaching), rate_bend(history, charges, rates, past)
    return propose(history, charges, past, shift, bend, found, seen)


def causes_of(judgement: Judgement, i: int, per: Fact | None = None) -> list[dict[str, Any]]:
    """Causes of sample ``i``, best first: {key, strength, score, evidence}, the evidence as plain facts. ``per``: over how long
    rates are said."""
    found = judgement.diagnosis
    return [
        {
            "key": CAUSES[k].key, "strength": STRENGTHS[int(found.strength[i, k])], "score": round(float(found.score[i, k]), 2),
            "evidence": [fact.plain() for fact in evidence_of(found, k, i, per)],
        }
        for k in found.best_first(i)
    ]  # fmt: skip


def _as_always(judgement: Judgement, i: int, key: str) -> Fact:
    d, column = judgement.diagnosis.departures, AT_CHARGE[key]
    return told("as_always", z=d.z[i, column], n=d.n[i, AT[key]], times=d.usual[i, column] / d.family[i, column])


def _limits_passed(history: History, judgement: Judgement, i: int) -> list[Fact]:
    past, values, out = judgement.past, history.samples.values[i], []
    for side, flags, hard in (
        ("high", past.watch_high[i], past.act_high[i]), ("low", past.watch_low[i], past.act_low[i]),
    ):  # fmt: skip
        watch, act = past.limits[side]
        for m in np.flatnonzero(flags):
            word, limit = ("act", act[i, m]) if hard[m] else ("watch", watch[i, m])
            more = [told("barely")] if hard[m] and not past.act_clear[i, m] else []
            if side == "high" and judgement.steady[i, m]:
                more.append(_as_always(judgement, i, KEYS[m]))
            out.append(told("past_limit", *more, of=KEYS[m], value=values[m], side=side, limit=word, bound=limit))
    return out


def _rates_changed(history: History, judgement: Judgement, rates: StretchRates, i: int) -> list[Fact]:
    meter = "km" if history.compartments.distance[history.samples.comp[i]] else "h"
    out = []
    for m in np.flatnonzero(judgement.shift.real[i]):
        out.append(told("wears", of=WEAR_METALS[m], rate=rates.rate[i, m], since=rates.from_h[i], usual=judgement.shift.usual[i, m],
                        spread=judgement.shift.spread[i, m], meter=meter))  # fmt: skip
    for m in np.flatnonzero(judgement.bend.real[i]):
        before = judgement.bend.before[i, m]
        out.append(told("wears_faster", of=WEAR_METALS[m], rate=rates.rate[i, m], since=rates.from_h[i], before=before,
                        z=(rates.rate[i, m] - before) / judgement.bend.sd[i, m], meter=meter))  # fmt: skip
    return out


def evidence(history: History, judgement: Judgement, rates: StretchRates, i: int) -> list[Fact]:
    """What speaks for sample ``i``'s proposal, with values and limits."""
    values, past = history.samples.values[i], judgement.past
    out = _limits_passed(history, judgement, i)
    if judgement.an_above_bn[i]:
        out.append(told("an_past_bn", of="bn", an=values[INDEX["an"]], bn=values[INDEX["bn"]]))
    out += _rates_changed(history, judgement, rates, i)
    if judgement.magnet[i] >= 3:
        out.append(told("magnet", grade=judgement.magnet[i], found="chips" if judgement.magnet[i] >= 4 else "furry"))
    for sign in (*COARSE, *WATER):
        if judgement.seen.at_drain(sign)[i] > 0:
            out.append(told("seen_here" if sign in COARSE else "seen_water", seen=sign))
    if judgement.break_in[i] and out:
        out.append(told("break_in"))
    if history.samples.settled[i]:
        out.append(told("stood"))
    if judgement.proposed[i] >= ACT and not (judgement.diagnosis.strength[i] >= PROBABLE).any() and judgement.diagnosis.signs:
        hard = tuple(KEYS[m] for m in np.flatnonzero(past.act_high[i] | past.act_low[i]))
        out.append(told("no_cause", of=hard) if hard else told("no_cause_seen"))
    if judgement.proposed[i] == NONE and history.samples.usable[i]:
        out.append(told("nothing_limited"))
    return out
