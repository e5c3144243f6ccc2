"""Can this result be true? Checks that hold a sample before it moves anything.

Each check has a name (``checks``), its evidence as a fact, facts for its remedy, and leaves the sample as it
was. A person releases, corrects or rejects what is held.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from vornet.core import swaps
from vornet.core.charges import Charges, cut
from vornet.core.errors import InputError
from vornet.core.expected import (
    ADDITIVES,
    AT,
    BATCH_SPREAD,
    COLUMNS,
    WEAR,
    Expectation,
    Usual,
    at_places,
    misfit,
    usual,
)
from vornet.core.fact import Fact, told
from vornet.core.history import History
from vornet.core.identity import identify
from vornet.core.limits import DUTIES
from vornet.core.measurands import INDEX, MEASURANDS
from vornet.core.meter import MOST_PER_DAY
from vornet.core.precision import BETWEEN_DATES, PrecisionTable
from vornet.core.viscosity import blending_index, viscosity_index

#: how far a sample's meter may stray from readings of the same day; common practice, no source
METER_SLACK_H, METER_SLACK_KM = 12.0, 400.0
#: a unit may run this many times its usual for a while; common practice, no source
MOST_OF_USUAL = 4.0
#: viscosity index of an engine oil lies within
INDEX_RANGE = (50.0, 250.0)
#: standard deviations: a slip of unit is off by more, and fits within the second once put right
SLIP_SD, SLIP_FITS_SD = 8.0, 3.5
#: additives: farther than this from the oil that should be in there, root mean square and largest, in sd
IDENTITY_SD, IDENTITY_LARGEST_SD = 2.5, 5.0
#: another oil explains the sample when it makes up at least this share and halves the misfit
OTHER_OIL_SHARE = 0.03
MIXTURE_FITS_SD = 6.0
#: what service takes away of an additive without its being another oil; common practice, no source
DEPLETION = {"b": 0.5, "p": 0.15, "zn": 0.15, "mo": 0.15, "ca": 0.10, "mg": 0.10, "s": 0.15, "ba": 0.1}
#: dirt that a bottle brings: standard deviations and mg/kg above what was to be expected
DIRTY_SD, DIRTY_PPM = 6.0, {"si": 10.0, "al": 5.0, "na": 8.0}
#: a wear metal that falls inside a charge by more than this, in sd, in at least two metals
FALL_SD, FALL_FEWEST = 3.0, 2
#: a charge that lost more than this share of its oil was drained rather than topped up
DRAIN_SHARE = 0.45


@dataclass(frozen=True)
class Finding:
    """A reason to hold sample number ``sample`` (index into the history's samples); ``detail`` what speaks for it, where a part
    of kind "another_bottle" stands for another sample, by its index; ``facts`` for its remedy, where sample numbers are indices too."""

    sample: int
    reason: str
    detail: Fact
    facts: dict[str, Any] = field(default_factory=dict, compare=False)


@dataclass(frozen=True)
class MeterPoints:
    """Trusted running totals, one row a reading, sorted by compartment, then day. Shape (P,). ``per_day`` usual use of
    each compartment's meter, shape (C,), NaN unknown."""

    comp: np.ndarray
    day: np.ndarray
    total: np.ndarray
    per_day: np.ndarray | None = None


def _meter(history: History, points: MeterPoints) -> list[Finding]:
    """Meter behind the reading before it, ahead of the one after it, faster than the clock or far beyond usual use."""
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
    most = np.where(distance, MOST_PER_DAY["km"], MOST_PER_DAY["h"])
    total, prior, later = samples.total, points.total[at_before], points.total[at_after]
    days = samples.day - points.day[at_before] + 1
    usual_a_day = np.full(len(total), np.nan) if points.per_day is None else points.per_day[samples.comp]
    with np.errstate(invalid="ignore"):
        back = has_before & (total < prior - slack)
        ahead = has_after & ~back & (total > later + slack)
        jump = has_before & ~has_after & ~back & (total > prior + most * days + slack)
        beyond = has_before & ~has_after & ~back & ~jump & (usual_a_day > 0)
        beyond &= total > prior + MOST_OF_USUAL * usual_a_day * (days + 3) + 3 * slack
    out = []
    for i in np.flatnonzero(back | ahead | jump | beyond).tolist():
        meter, gained, between = "km" if distance[i] else "h", float(total[i] - prior[i]), float(days[i] - 1)
        if back[i]:
            detail = told("meter_back", total=total[i], prior=prior[i], meter=meter)
        elif ahead[i]:
            detail = told("meter_ahead", total=total[i], later=later[i], meter=meter)
        elif jump[i]:
            detail = told("meter_jump", gain=gained, days=between, meter=meter)
        else:
            detail = told("meter_beyond_use", gain=gained, days=between, usual=usual_a_day[i], meter=meter)
        out.append(Finding(i, detail.kind, detail))
    return out


def _hours(history: History, charges: Charges, bad_meter: set[int]) -> list[Finding]:
    """Oil older than its fill, or a sample before it."""
    samples, out = history.samples, []
    given, known = samples.oil_hours, charges.oil_hours
    slack = np.maximum(np.where(history.compartments.distance[samples.comp], 500.0, 25.0), 0.1 * np.nan_to_num(known))
    with np.errstate(invalid="ignore"):
        too_old = (given > known + slack) & ~np.isnan(charges.fill[charges.charge_of])
        early = samples.total < charges.fill[charges.charge_of] - slack
    for i in np.flatnonzero(too_old):
        if i not in bad_meter:
            meter = "km" if history.compartments.distance[samples.comp[i]] else "h"
            out.append(Finding(int(i), "oil_hours_exceed_drain", told("oil_hours", given=given[i], known=known[i], meter=meter)))
    for i in np.flatnonzero(early & ~too_old):
        if i not in bad_meter:
            out.append(Finding(int(i), "sample_before_fill", told("before_fill")))
    return out


def _physics(history: History, charges: Charges) -> list[Finding]:
    """What no oil can do: thinner cold than hot, an index out of range, more base than new, less than nothing."""
    samples, out = history.samples, []
    values = samples.values
    v40, v100 = values[:, INDEX["v40"]], values[:, INDEX["v100"]]
    engine = np.array([d.endswith("engine") for d in DUTIES])[history.compartments.duty[samples.comp]]
    with np.errstate(invalid="ignore", divide="ignore"):
        wrong_way = v40 <= v100
        odd = engine & ~wrong_way & (v100 >= 2) & ((v40 / v100 < 5) | (v40 / v100 > 10))
        fresh = history.oils.new[charges.oil[charges.charge_of]][:, INDEX["bn"]]
        bn = values[:, INDEX["bn"]]
        sd = history.precision.columns_sd(fresh[:, None], ["bn"])[:, 0] * BETWEEN_DATES
        above = engine & (bn > np.maximum(fresh + 3.5 * sd, fresh * 1.15))
        negative = (values < 0).any(axis=1)
    for i in np.flatnonzero(wrong_way):
        out.append(Finding(int(i), "viscosity_order", told("viscosity_order", v40=v40[i], v100=v100[i])))
    for i in np.flatnonzero(odd):
        try:
            index = viscosity_index(float(v40[i]), float(v100[i]))
        except InputError:
            continue
        if not INDEX_RANGE[0] <= index <= INDEX_RANGE[1]:
            low, high = INDEX_RANGE
            detail = told("viscosity_index", v40=v40[i], v100=v100[i], index=index, low=low, high=high)
            out.append(Finding(int(i), "viscosity_index", detail))
    for i in np.flatnonzero(above):
        out.append(Finding(int(i), "bn_above_new", told("bn_above_new", of="bn", bn=bn[i], new=fresh[i])))
    for i in np.flatnonzero(negative):
        out.append(Finding(int(i), "negative_value", told("negative_value")))
    return out


_SLIP_KEYS = (*(k for k in ADDITIVES if k != "mo"), "v40", "v100", "bn", "an", "oxidation", "nitration", "sulfation", "water_ppm", *WEAR)
_OFTEN = {"%": 1e4, "g/kg": 1e3, "A/0.1 mm": 1e2}


def _slips(values: np.ndarray, expectation: Expectation, precision: PrecisionTable) -> dict[int, list[tuple[str, int]]]:
    """Values that are off by a power of ten and fit once put right: sample → (key, power) of what to multiply with."""
    found: dict[int, list[tuple[str, int]]] = {}
    total = expectation.total_sd
    for key in _SLIP_KEYS:
        k = AT[key]
        x, mean, sd = values[:, k], expectation.mean[:, k], total[:, k]
        with np.errstate(invalid="ignore", divide="ignore"):
            # below one the lab's own digits hide it; a metal must be past what wear could make it
            off = np.abs(x - mean) / sd
            ratio = mean / x
            power = np.round(np.log10(ratio))
            put_right = np.abs(x * 10.0**power - mean) / np.maximum(sd, 0.1 * mean)
            slip = (np.abs(power) >= 1) & (np.abs(power) <= 4) & (x > 0) & (put_right < SLIP_FITS_SD)
            large = (off > SLIP_SD) | ((power >= 1) & (mean > 5 * sd / 2) & (x < mean / 8))
            if key == "water_ppm":  # dry oil is dry; only water given in per cent is plain
                slip &= (power >= 3) & (x < 1)
            elif key in ("oxidation", "nitration", "sulfation"):  # ageing may bring ten times as much; only the unit's hundred is a slip
                slip &= np.abs(power) == 2
            elif key in ADDITIVES:
                slip &= mean >= 50
            elif key in ("v40", "v100"):  # well known, so a slip of the point leaves the figure itself
                slip &= np.abs(x * 10.0**power - mean) < 0.06 * mean
            slip &= large & (mean > 4 * precision.columns_sd(mean[:, None], [key])[:, 0])
            if key in WEAR:  # a bearing can shed ten times as much; only a slip that is exact, or up by a hundred
                slip &= (power <= -2) & (put_right < 2)
        for i in np.flatnonzero(slip):
            found.setdefault(int(i), []).append((key, int(power[i])))
    return found


def _slip_finding(i: int, slips: Sequence[tuple[str, int]], values: np.ndarray, expectation: Expectation) -> Finding:
    parts = []
    for key, power in slips:
        m = MEASURANDS[INDEX[key]]
        k = AT[key]
        x, right = values[i, k], values[i, k] * 10.0**power
        named = next((u for u, f in _OFTEN.items() if f == 10.0**power), None)
        fits = named and (m.unit == "mg/kg") == (named != "A/0.1 mm")
        guess = told("slip_unit", unit=named) if named and fits else told("slip_times", times=10.0**-power)
        parts.append(told("slip", guess, of=key, value=x, right=right, usual=expectation.mean[i, k]))
    return Finding(i, "unit_slip", told("slips", *parts), {"factors": {key: 10.0**power for key, power in slips}})


def _misfit_of_oil(
    values: np.ndarray, known: Usual, charges: Charges, expectation: Expectation, precision: PrecisionTable
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Root mean square and largest misfit of the additives against the charge's start, and which were compared (N, 8)."""
    columns = [AT[k] for k in ADDITIVES]
    x, start = values[:, columns], known.start[charges.charge_of][:, columns]
    spread = known.start_sd[charges.charge_of][:, columns]
    expected = expectation.mean[:, columns]
    with np.errstate(invalid="ignore"):
        sd = np.hypot(BETWEEN_DATES * precision.columns_sd(start, list(ADDITIVES)), spread)
        lowest = np.minimum(start, expected) * (1 - np.array([DEPLETION[k] for k in ADDITIVES]) * (start > 20))
        highest = np.maximum(start, expected)
        z = np.where(x < lowest, (x - lowest) / sd, np.where(x > highest, (x - highest) / sd, 0.0))
        excess = (values - expectation.mean) / expectation.total_sd
        salt = np.fmax(excess[:, AT["na"]], excess[:, AT["k"]]) > 4
        rise = values - expectation.mean
        salt &= np.fmax(rise[:, AT["na"]], rise[:, AT["k"]]) > 8
    compared = ~np.isnan(x) & ~np.isnan(lowest)
    # boron comes with coolant, magnesium with sea water: what a salt explains is no evidence of another oil
    for key in ("b", "mg"):
        compared[:, ADDITIVES.index(key)] &= ~salt
    with np.errstate(invalid="ignore"):  # brass sheds zinc
        brass = rise[:, AT["cu"]] > 25
    compared[:, ADDITIVES.index("zn")] &= ~(brass & (x[:, ADDITIVES.index("zn")] > highest[:, ADDITIVES.index("zn")]))
    z = np.where(compared, z, 0.0)
    n = compared.sum(axis=1)
    return np.sqrt((z**2).sum(axis=1) / np.maximum(n, 1)), np.abs(z).max(axis=1, initial=0.0), compared


#: how far a share of another oil must explain the additives better than what should be in there: a likelihood ratio as a
#: chi-square of one degree of freedom, and more for every oil tried (Bonferroni on its tail)
SHARE_GAIN, LEAST_JOINT_SHARE = 14.0, 0.05
#: additives of one batch differ from the record's together by this share; common practice, no source
COMMON = 0.03
#: one batch's viscosity against another's, relative, one standard deviation; common practice, no source
THICKNESS_SPREAD = 0.015
#: what moves viscosity by itself: fuel, soot and what oxidised, in sd
MOVED_SD = 3.0


def _other_share(
    history: History, charges: Charges, known: Usual, values: np.ndarray, expectation: Expectation, compared: np.ndarray
) -> np.ndarray:
    """Whether a share of one other oil explains what all additives and the viscosity do together, (N,), bool.

    Generalised least squares of the share along the way from what was to be expected to the other oil (Aitken 1935), with a
    part common to all additives taken out by Sherman and Morrison's formula; thickness by its blending index, left out where
    fuel, soot or oxidation moved it.
    """
    keys = [AT[k] for k in ADDITIVES]
    mean, x = expectation.mean[:, keys], values[:, keys]
    start = known.start[charges.charge_of][:, keys]
    # service takes boron and phosphorus away; of the others what it takes here is in what was to be expected
    low = np.minimum(mean, start) * (1 - np.array([DEPLETION[k] if k in ("b", "p") else 0.0 for k in ADDITIVES]))
    high = np.maximum(mean, start)
    ok = compared & ~np.isnan(mean) & ~np.isnan(x)
    v = AT["v100"]
    with np.errstate(invalid="ignore", divide="ignore"):
        thick = blending_index(expectation.mean[:, v])
        thicker = blending_index(values[:, v]) - thick
        # the index moves by 14.534 / ((ν + 0.8)·ln(ν + 0.8)) a mm²/s
        nu = np.maximum(expectation.mean[:, v], 2.0) + 0.8
        # batches of one oil differ in thickness by less than in their additives
        batch = np.abs(expectation.mean[:, v])
        own_sd = np.sqrt(np.maximum(expectation.total_sd[:, v] ** 2 - (BATCH_SPREAD * batch) ** 2, 0) + (THICKNESS_SPREAD * batch) ** 2)
        thick_sd = 14.534 / (nu * np.log(nu)) * own_sd
        z = (values - expectation.mean) / expectation.total_sd
        moved = np.fmax(np.fmax(z[:, AT["fuel_pct"]], z[:, AT["soot_pct"]]), z[:, AT["oxidation"]]) > MOVED_SD
        sd = np.hypot(BETWEEN_DATES * history.precision.columns_sd(mean, list(ADDITIVES)), known.start_sd[charges.charge_of][:, keys])
    thick_ok = ~moved & np.isfinite(thick) & np.isfinite(thicker) & (thick_sd > 0)
    r = np.where(x < low, x - low, np.where(x > high, x - high, 0.0))
    r = np.column_stack([np.where(ok, r, 0.0), np.where(thick_ok, thicker, 0.0)])
    with np.errstate(invalid="ignore", divide="ignore"):
        w = np.column_stack([np.where(ok, 1 / sd**2, 0.0), np.where(thick_ok, 1 / thick_sd**2, 0.0)])
    common = COMMON * np.column_stack([np.where(ok, mean, 0.0), np.zeros(len(r))])
    best = np.zeros(len(r))
    oils, declared = history.oils.new, charges.oil[charges.charge_of]
    for o in range(len(oils)):
        new = oils[o, [INDEX[k] for k in ADDITIVES]]
        told = np.r_[~np.isnan(new), bool(oils[o, INDEX["v100"]] >= 2)]
        if told[:-1].sum() < 2:
            continue
        way = np.where(ok, np.nan_to_num(new) - mean, 0.0)
        thin = np.where(thick_ok, blending_index(oils[o, [INDEX["v100"]]]) - thick, 0.0) if told[-1] else np.zeros(len(r))
        d, wo = np.column_stack([way, thin]), np.where(told, w, 0.0)
        scale = 1 + (wo * common**2).sum(axis=1)
        rc, dc = (wo * r * common).sum(axis=1), (wo * d * common).sum(axis=1)
        cross, norm = (wo * r * d).sum(axis=1) - rc * dc / scale, (wo * d * d).sum(axis=1) - dc**2 / scale
        with np.errstate(invalid="ignore", divide="ignore"):
            gain = np.where((norm > 0) & (cross / norm >= LEAST_JOINT_SHARE) & (declared != o), cross**2 / norm, 0.0)
        best = np.maximum(best, np.nan_to_num(gain))
    return np.asarray(best > SHARE_GAIN + 2 * np.log(max(len(oils) - 1, 1)))


def _identity(
    i: int, history: History, charges: Charges, known: Usual, values: np.ndarray, compared: np.ndarray, names: Sequence[str]
) -> Finding | None:
    """Which oils explain sample ``i``'s additives; None when the oil that should be in there does."""
    keys = [k for j, k in enumerate(ADDITIVES) if compared[i, j]]
    if len(keys) < 2:
        return None
    declared = int(charges.oil[charges.charge_of[i]])
    start = known.start[charges.charge_of[i]]
    oils = [(DECLARED, {k: float(start[AT[k]]) for k in keys})]
    for o in range(len(names)):
        new = history.oils.new[o]
        given = {k: float(new[INDEX[k]]) for k in keys}
        if o != declared and not any(np.isnan(v) for v in given.values()):
            oils.append((names[o], given))
    sample = {k: float(values[i, AT[k]]) for k in keys}
    fit = identify(sample, oils, precision=history.precision, declared=oils[0][0])
    own = next((s for n, s in fit.shares if n == oils[0][0]), 0.0)
    alone = identify(sample, oils[:1], precision=history.precision).residual
    others = [(n, s) for n, s in fit.shares if n != oils[0][0] and s >= OTHER_OIL_SHARE]
    worst = sorted(keys, key=lambda k: -abs(sample[k] - start[AT[k]]) / history.precision.standard_deviation(k, float(start[AT[k]])))[:3]
    figures = told("figures", *(told("figure_for", of=k, value=sample[k], new=start[AT[k]]) for k in worst))
    oil = names[declared] if 0 <= declared < len(names) else ""
    if others and fit.residual < min(0.6 * alone, MIXTURE_FITS_SD):
        mine = [(oil, own)] if own > 0.005 else []
        shares = told("shares", *(told("share", oil=name, share=share) for name, share in (*mine, *others)))
        facts = {"shares": {oil or "the oil on record": own, **dict(others)}, "residual": fit.residual}
        return Finding(i, "wrong_oil", told("other_oil", shares, figures), facts)
    runner = told("nearest", oil=fit.runner_up[0]) if fit.runner_up else told("nothing")
    return Finding(i, "wrong_oil", told("no_oil", figures, runner, oil=oil), {"shares": {}, "residual": fit.residual})


#: the oil that the record says is in there, among those tried
DECLARED = "declared"


def _dirty(history: History, charges: Charges, values: np.ndarray, expectation: Expectation, usable: np.ndarray) -> list[Finding]:
    """Silicon, aluminium or sodium high once, with nothing else that would come with it and no wear to follow.

    Once: neither the sample before, whose own departure is taken to go on, nor the one after shows it; wear and water that
    had been there before come with nothing. A later sample of the same charge without it settles it, water or not: what a
    charge has taken up does not leave it.
    """
    samples, out = history.samples, []
    n = len(values)
    goes_on = swaps.going_on(history, charges, values, expectation, np.ones(n, dtype=bool), usable)
    rise = values - np.fmax(expectation.mean, goes_on.mean)
    z = np.fmin((values - expectation.mean) / expectation.total_sd, (values - goes_on.mean) / goes_on.total_sd)
    by_itself = (values - expectation.mean) / expectation.total_sd

    def high(key: str, sd: float) -> np.ndarray:
        with np.errstate(invalid="ignore"):
            return np.asarray(np.nan_to_num(z[:, AT[key]], nan=0.0) > sd)

    hit = {}
    for key, least in DIRTY_PPM.items():
        with np.errstate(invalid="ignore"):
            hit[key] = high(key, DIRTY_SD) & (rise[:, AT[key]] >= least)
    gas = np.array([d.startswith("gas") for d in DUTIES])[history.compartments.duty[samples.comp]]
    any_hit = hit["na"] | hit["al"] | (hit["si"] & ~(gas & ~high("al", 3)))
    wear = high("fe", 4) | high("cr", 4) | (high("fe", 2.5) & high("cr", 2))
    with np.errstate(invalid="ignore"):
        company = high("b", 4) | (rise[:, AT["k"]] > 0.2 * np.maximum(rise[:, AT["na"]], 0) + 3)
        wet = high("water_ppm", 3) | (high("water_ppm", 2) & (rise[:, AT["water_ppm"]] > 300))
        sea = rise[:, AT["mg"]] > np.maximum(rise[:, AT["na"]], 0) / 20 + 3 * expectation.total_sd[:, AT["mg"]]
    salt_story = hit["na"] & (company | wet | sea)
    alone_al = hit["al"] & ~hit["si"]  # aluminium without silicon is a piston, not dust
    following = np.full(n, -1)
    chain = np.flatnonzero(usable)
    same = samples.comp[chain[1:]] == samples.comp[chain[:-1]] if len(chain) > 1 else np.zeros(0, dtype=bool)
    following[chain[:-1][same]] = chain[1:][same]
    after = np.maximum(following, 0)
    stays, gone = np.zeros(n, dtype=bool), np.ones(n, dtype=bool)
    within = (following >= 0) & (charges.charge_of[after] == charges.charge_of)
    for key in DIRTY_PPM:
        with np.errstate(invalid="ignore"):
            there = np.nan_to_num(by_itself[after, AT[key]], nan=0.0) > 3
            fell = values[after, AT[key]] < values[:, AT[key]] - 0.5 * rise[:, AT[key]]
        # the next one shows it too, by itself or because it went on
        stays |= hit[key] & (following >= 0) & there & ~fell
        gone &= ~hit[key] | (within & fell & (np.abs(np.nan_to_num(z[after, AT[key]])) < 4))
    settled = any_hit & gone
    held = (any_hit & ~wear & ~salt_story & ~alone_al & ~stays) | (settled & ~wear & ~company)
    for i in np.flatnonzero(held & usable):
        keys = [k for k in ("si", "al", "na") if hit[k][i]]
        figures = (told("dirty_figure", of=k, value=values[i, AT[k]], expected=expectation.mean[i, AT[k]]) for k in keys)
        after_it = [told("dirty_settled")] if settled[i] else [told("dirty_clean")] if following[i] >= 0 else []
        out.append(Finding(int(i), "dirty_bottle", told("dirty", told("figures", *figures), *after_it), {"keys": keys}))
    return out


def _falls(history: History, charges: Charges, usable: np.ndarray) -> list[Finding]:
    """Wear metals that fall inside a charge by more than recorded oil and the method's precision allow."""
    samples, fillings, out = history.samples, history.fillings, []
    chain = np.flatnonzero(usable & ~np.isnan(charges.oil_hours))
    if len(chain) < 2:
        return []
    a, b = chain[:-1], chain[1:]
    together = (charges.charge_of[a] == charges.charge_of[b]) & (charges.oil_hours[b] >= charges.oil_hours[a])
    a, b = a[together], b[together]
    if not len(a):
        return []
    columns = [INDEX[k] for k in WEAR if k != "ni"]
    keys = [k for k in WEAR if k != "ni"]
    system = history.compartments.system_l[samples.comp[a]]
    thinned = np.ones(len(a))
    order = np.argsort(charges.charge_of_filling, kind="stable")
    of = charges.charge_of_filling[order]
    first, last = np.searchsorted(of, charges.charge_of[a]), np.searchsorted(of, charges.charge_of[a], "right")
    for p in np.flatnonzero(last > first):
        mine = order[first[p] : last[p]]
        at = charges.filling_hours[mine]
        between = mine[(at >= charges.oil_hours[a[p]] - 1e-9) & (at <= charges.oil_hours[b[p]])]
        thinned[p] = np.prod(1 - np.clip(np.fmax(fillings.in_l[between], fillings.out_l[between]) / system[p], 0, 0.9))
    before, after = samples.values[a][:, columns], samples.values[b][:, columns]
    should = before * thinned[:, None]
    sd = BETWEEN_DATES * np.hypot(history.precision.columns_sd(before, keys), history.precision.columns_sd(after, keys))
    with np.errstate(invalid="ignore", divide="ignore"):
        fall = (should - after) / sd
        fell = (fall > FALL_SD) & (should > 5)
        stayed = np.where(fell, after / should, np.nan)
    for p in np.flatnonzero(fell.sum(axis=1) >= FALL_FEWEST):
        kept = float(np.nanmedian(stayed[p]))
        i = int(b[p])
        metals = np.flatnonzero(fell[p])[:3]
        fallen = told("figures", *(told("fell", of=keys[j], before=before[p, j], after=after[p, j]) for j in metals))
        litres = float(system[p] * (1 - kept)) if np.isfinite(system[p]) else None
        facts: dict[str, Any] = {"share": 1 - kept, "litres": litres, "after": int(a[p])}
        if 1 - kept >= DRAIN_SHARE:
            out.append(Finding(i, "unrecorded_drain", told("unrecorded_drain", fallen, share=1 - kept), facts))
        elif 1 - kept >= 0.08:
            amount = [] if litres is None else [told("about_litres", litres=litres)]
            out.append(Finding(i, "unrecorded_top_up", told("unrecorded_top_up", fallen, *amount, share=1 - kept), facts))
    return out


def _believe(history: History, charges: Charges, group: np.ndarray, bad_meter: set[int], names: Sequence[str]) -> list[Finding]:
    """The checks that need to know what is usual: units, swaps, identity, falls, dirt; the first that explains wins."""
    samples = history.samples
    values = samples.values[:, COLUMNS]
    censored = (samples.below | samples.above) != 0
    if censored.any():  # a censored value is not what the oil holds
        bits = np.array([1 << int(c) for c in COLUMNS], dtype=np.int64)
        values = np.where((samples.below | samples.above)[:, None] & bits != 0, np.nan, values)
    known = usual(history, charges)
    expectation = at_places(history, known, charges.charge_of, samples.comp, charges.oil_hours)
    placed = ~np.isnan(charges.oil_hours)
    for i in bad_meter:
        placed[i] = False
    out: list[Finding] = []
    explained: set[int] = set()

    slips = _slips(values, expectation, history.precision)
    corrected = values.copy()
    for i, found in slips.items():
        for key, power in found:
            corrected[i, AT[key]] *= 10.0**power
    square, largest, compared = _misfit_of_oil(corrected, known, charges, expectation, history.precision)
    strange = (square > IDENTITY_SD) & (largest > IDENTITY_LARGEST_SD)
    slips = {i: found for i, found in slips.items() if not strange[i]}  # another oil is not another unit
    corrected[strange] = values[strange]
    distance, number, _ = misfit(corrected, expectation)
    # of a charge that nobody saw begin only its oil is known
    begun = charges.number[charges.charge_of] > 0
    suspect = (((swaps.chance(distance, number) < swaps.SUSPECT) & begun) | strange) & placed
    # the joint likelihood of one other oil's share, where no single additive is plain
    shared = _other_share(history, charges, known, corrected, expectation, compared) & placed
    strange |= shared
    suspect |= shared
    right = replace(history, samples=replace(samples, values=_with(samples.values, corrected)))
    found_swaps, undecided = swaps.swapped(right, charges, known, group, placed, suspect)
    if slips:  # a column that looks like another unit's may be another engine's
        slipped = np.zeros(len(values), dtype=bool)
        slipped[list(slips)] = True
        as_printed, _ = swaps.swapped(history, charges, known, group, placed, suspect & slipped)
        held = {i for s in found_swaps for i in (s.first, s.second)}
        found_swaps += [s for s in as_printed if not {s.first, s.second} & held]
    for swap in found_swaps:
        for one, other in ((swap.first, swap.second), (swap.second, swap.first)):
            times = told("over_a_million") if swap.log_ratio > 13.8 else told("times", times=np.exp(swap.log_ratio))
            facts = {"other": other, "log_ratio": swap.log_ratio, "pairs": swap.pairs}
            like = []
            if swap.or_with >= 0 and one == swap.first:
                like.append(told("as_like", told("another_bottle", sample=swap.or_with)))
                facts["like"] = swap.or_with
            detail = told("swapped", told("another_bottle", sample=other), times, *like, pairs=swap.pairs)
            out.append(Finding(one, "swapped_bottle", detail, facts))
            explained.add(one)
    open_labels = {s.first: s for s in undecided}
    for i, found in slips.items():
        if i not in explained:
            out.append(_slip_finding(i, found, values, expectation))
    for at in np.flatnonzero(strange).tolist():
        if at not in explained:
            finding = _identity(at, history, charges, known, corrected, compared, names)
            if finding is not None:
                if at in open_labels:
                    other = open_labels[at].second
                    more = told("labels_open", told("another_bottle", sample=other))
                    finding = replace(finding, detail=told("reason_and", finding.detail, more), facts={**finding.facts, "other": other})
                out.append(finding)
                explained.add(at)
    usable = samples.usable & placed
    for i in explained:
        usable[i] = False
    falls = _falls(right, charges, usable)
    out += falls
    for finding in falls:
        usable[finding.sample] = False
    dirty = _dirty(history, charges, corrected, expectation, usable)
    if dirty:  # a bottle that was dirty says nothing of the one after it
        clean = usable.copy()
        clean[[f.sample for f in dirty]] = False
        held = {f.sample for f in dirty}
        dirty += [f for f in _dirty(history, charges, corrected, expectation, clean) if f.sample not in held]
    out += dirty
    return out


def _with(values: np.ndarray, columns: np.ndarray) -> np.ndarray:
    out = values.copy()
    block = out[:, COLUMNS]
    out[:, COLUMNS] = np.where(np.isnan(columns), block, columns)
    return out


def screen(
    history: History, charges: Charges, points: MeterPoints, group: np.ndarray | None = None, oils: Sequence[str] | None = None
) -> list[Finding]:
    """Every reason to hold, for every sample of the history.

    ``group`` (N,): samples that travelled together (a parcel, or a unit's day), below zero alone; ``oils`` their names.
    What is held in the first pass no longer sets the start of the next charge in the second.
    """
    samples = history.samples
    if not len(samples.comp):
        return []
    group = np.full(len(samples.comp), -1) if group is None else group
    names = [f"oil {i}" for i in range(len(history.oils.new))] if oils is None else oils
    first = _meter(history, points)
    bad_meter = {f.sample for f in first}
    first += _hours(history, charges, bad_meter)
    sure = first + _physics(history, charges)
    believed = _believe(history, charges, group, bad_meter, names)
    if believed:
        usable = samples.usable.copy()
        usable[[f.sample for f in believed]] = False
        again = replace(history, samples=replace(samples, usable=usable))
        recut = cut(again)
        believed = _believe(replace(history, samples=replace(samples, usable=samples.usable)), recut, group, bad_meter, names)
    told = {f.sample for f in believed if f.reason in ("swapped_bottle", "wrong_oil", "unit_slip")}
    return [f for f in sure if not (f.sample in told and f.reason in _FOLLOWS)] + believed


#: what a swap, another oil or another unit explains as well
_FOLLOWS = ("bn_above_new", "viscosity_index", "viscosity_order")
