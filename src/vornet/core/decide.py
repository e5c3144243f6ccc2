"""Moving the interval: safe hours per deciding property, guards, and an outcome with its reasons.

Follow one compartment: slopes of its charges through their own start → mean and spread, spread shrunk
to the family's → safe hours of a standing interval at the policy's confidence → the smallest names the
limiting property → guards → Lengthen, Hold, Shorten or Not enough evidence.
Hours stand for km where a compartment counts distance.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from vornet.core.causes import CAUSES
from vornet.core.diagnose import PROBABLE, STRENGTHS
from vornet.core.history import Charges, History, new_oil, offsets
from vornet.core.judge import RUN_ON, Judgement
from vornet.core.limits import LimitTable
from vornet.core.measurands import BY_KEY, CONDITIONS, INDEX, MEASURANDS, SETTLING, WEAR_METALS, spoken
from vornet.core.properties import (
    BY_PROPERTY,
    MOVED_BY,
    MOVED_BY_CAUSE,
    PROPERTIES,
    PROPERTY_COUNT,
    SIGNS,
    property_limits,
    property_sd,
    property_values,
)  # fmt: skip
from vornet.core.safe_hours import SlopeFit, first_crossing, fit_slopes, standing_interval

LENGTHEN, HOLD, SHORTEN, NOT_ENOUGH = "lengthen", "hold", "shorten", "not_enough"
#: with too few charges an interval is shortened only when safe hours fall clearly short of it
CLEARLY_SHORT = 0.9
OUTCOME_WORDS = {
    LENGTHEN: "Lengthen", HOLD: "Hold", SHORTEN: "Shorten", NOT_ENOUGH: "Not enough evidence",
}  # fmt: skip


@dataclass(frozen=True)
class Policy:
    """The rules by which an interval may move; a dated version of a fleet's policy."""

    confidence: float = 0.95
    limit: str = "watch"
    run_on_needed: int = 3
    charges_needed: int = 3
    most_at_once: float = 0.25
    beyond_sampled: float = 1.25
    step_h: float = 25.0
    step_km: float = 1000.0
    house_share: float = 0.5


@dataclass(frozen=True)
class Guard:
    """A rule that was asked. ``bites`` when it changed or blocked the answer."""

    key: str
    bites: bool
    text: str


class ChargeSlope(NamedTuple):
    """Slope of one property over one charge, per meter unit; ``used`` in the safe hours, or left out: a fault moved it."""

    key: str
    charge: int
    start: float
    slope: float
    se: float
    samples: int
    used: bool


@dataclass(frozen=True)
class PropertyAnswer:
    """One property's way from numbers to safe hours; None = not known, ``never`` = no limit within reach."""

    key: str
    name: str
    unit: str
    side: str
    new_oil: float | None
    new_oil_estimated: bool
    limit: float | None
    n: int
    mean_slope: float | None
    between_sd: float | None
    mean_se: float | None
    dof: float
    t: float | None
    mean_crossing: float | None
    safe: float | None
    safe_as_is: float | None
    never: bool
    running_safe: float | None
    running_never: bool
    running_start: float | None
    running_slope: float | None
    running_slope_sd: float | None


@dataclass(frozen=True)
class Decision:
    """Answer for one compartment. Lengths in meter units. ``safe`` None with ``never``: no limit in reach."""

    outcome: str
    proposed: float | None
    current: float | None
    safe: float | None
    safe_as_is: float | None
    never: bool
    limiting: str | None
    next_limiting: str | None
    next_safe: float | None
    beyond_evidence: bool
    evidence_cap: float | None
    running_safe: float | None
    running_limiting: str | None
    charges: int
    residual_share: float
    reason: str
    sample_at: tuple[float, float] | None
    guards: tuple[Guard, ...]
    open_faults: tuple[str, ...]
    schools: dict[str, float | None]
    properties: tuple[PropertyAnswer, ...] = field(default=())
    slopes: bytes = field(default=b"", repr=False)

    def charge_slopes(self) -> list[ChargeSlope]:
        """The slopes behind the answers, by property, then charge."""
        return charge_slopes_of(self.slopes)


def charge_slopes_of(packed: bytes) -> list[ChargeSlope]:
    """Unpack ``Decision.slopes``: rows of seven little-endian float32, property number, then as in ChargeSlope."""
    rows = np.frombuffer(packed, "<f4").reshape(-1, 7).tolist()
    return [ChargeSlope(PROPERTIES[int(j)].key, int(n), y, b, se, int(k), bool(used)) for j, n, y, b, se, k, used in rows]


@dataclass(frozen=True)
class Slopes:
    """Charge slopes of all properties: arrays of shape (H, PROPERTY_COUNT). Positive towards the limit."""

    slope: np.ndarray
    se2: np.ndarray
    samples: np.ndarray
    start: np.ndarray
    moved: np.ndarray


#: new-oil value of each property per oil (O, P), and where it is an estimate
FreshOil = tuple[np.ndarray, np.ndarray]


def _told(history: History) -> tuple[np.ndarray, np.ndarray]:
    """Property values of all samples, and which of them say what they seem to; both (N, P)."""
    samples = history.samples
    values = property_values(samples.values)
    ok = samples.usable[:, None] & ~np.isnan(values)
    below = samples.below | samples.above
    if below.any():
        for j, p in enumerate(PROPERTIES):
            if p.key == "soot_pct":
                continue
            bits = (1 << INDEX[p.measurand]) | ((1 << INDEX[p.less]) if p.less else 0)
            ok[:, j] &= (below & bits) == 0
    return values, ok


def lacks_new_oil(history: History) -> bool:
    """Is any oil in use without a new-oil value on record, so that ``fresh_oil`` has to estimate?"""
    used = np.union1d(history.compartments.oil, history.drains.oil[history.drains.oil >= 0]).astype(int)
    return bool(np.isnan(property_values(new_oil(history.oils))[used]).any())


def fresh_oil(history: History, charges: Charges) -> FreshOil:
    """New-oil value of each property per oil (O, P), and where it is an estimate.

    Not on record: intercept of a straight line through the oil's own samples over oil hours, from ten
    samples on.
    """
    known = property_values(new_oil(history.oils))
    estimated = np.zeros_like(known, dtype=bool)
    oil = charges.oil[charges.charge_of]
    used = np.bincount(oil, minlength=len(known)) > 0
    if not np.isnan(known[used]).any():
        return known, estimated
    values, ok = _told(history)
    h = charges.oil_hours
    for o, j in np.argwhere(np.isnan(known) & used[:, None]):
        rows = ok[:, j] & (oil == o) & ~np.isnan(h)
        if rows.sum() >= 10 and np.ptp(h[rows]) > 0:
            known[o, j] = np.polyfit(h[rows], values[rows, j], 1)[1]
            estimated[o, j] = True
    return known, estimated


def charge_slopes(
    history: History, charges: Charges, judgement: Judgement, values: np.ndarray, ok: np.ndarray, fresh: np.ndarray
) -> Slopes:
    """Least squares through each charge's own start: b = Σh(y−y₀)/Σh², se² = σ²/Σh²."""
    samples = history.samples
    total = len(charges.comp)
    start = property_values(charges.start)
    # where the record lacks the new-oil value the start falls back on the estimate
    start = np.where(np.isnan(start) & (charges.number > 0)[:, None], fresh[charges.oil], start)
    sd = property_sd(samples.values, history.precision)
    h, of = charges.oil_hours, charges.charge_of
    slope, se2 = np.full((total, PROPERTY_COUNT), np.nan), np.full((total, PROPERTY_COUNT), np.nan)
    counts = np.zeros((total, PROPERTY_COUNT), dtype=int)
    for j in range(PROPERTY_COUNT):
        rows = np.flatnonzero(ok[:, j] & (h > 0) & ~np.isnan(start[of, j]))
        if not len(rows):
            continue
        c = of[rows]
        hh = np.bincount(c, h[rows] ** 2, total)
        hy = np.bincount(c, h[rows] * (values[rows, j] - start[c, j]), total)
        noise = np.bincount(c, h[rows] ** 2 * sd[rows, j] ** 2, total)
        counts[:, j] = np.bincount(c, minlength=total)
        with np.errstate(invalid="ignore", divide="ignore"):
            slope[:, j] = SIGNS[j] * hy / hh
            se2[:, j] = noise / hh**2
    moved = np.zeros((total, PROPERTY_COUNT), dtype=bool)
    for key, names in MOVED_BY.items():
        hit = np.zeros(total, dtype=bool)
        rows = judgement.past.watch[:, INDEX[key]] & samples.usable
        hit[of[rows]] = True
        for name in names:
            moved[:, PROPERTIES.index(BY_PROPERTY[name])] |= hit
    for k, cause in enumerate(CAUSES):
        rows = (judgement.diagnosis.strength[:, k] >= PROBABLE) & samples.usable
        for name in MOVED_BY_CAUSE.get(cause.key, ()):
            moved[of[rows], PROPERTIES.index(BY_PROPERTY[name])] = True
    return Slopes(slope, se2, counts, start, moved)


def _fit(slopes: Slopes, charges: Charges, history: History, include: np.ndarray) -> SlopeFit:
    comps = history.compartments
    h, j = np.nonzero(include & ~np.isnan(slopes.slope))
    group = charges.comp[h] * PROPERTY_COUNT + j
    families = int(comps.family.max(initial=0)) + 1
    family = (comps.family[:, None] * PROPERTY_COUNT + np.arange(PROPERTY_COUNT)).ravel()
    fit = fit_slopes(slopes.slope[h, j], slopes.se2[h, j], group, family, families * PROPERTY_COUNT)
    shape = (len(comps.duty), PROPERTY_COUNT)
    return SlopeFit(*(getattr(fit, name).reshape(shape) for name in ("mean", "between_var", "mean_var", "dof", "n")))


def _quantile(dof: np.ndarray, confidence: float) -> np.ndarray:
    from scipy import special

    known = np.maximum(dof, 1.0)
    unique, inverse = np.unique(known, return_inverse=True)
    return np.where(dof > 0, special.stdtrit(unique, confidence)[inverse].reshape(dof.shape), np.nan)


def _residual_share(charges: Charges, count: int) -> np.ndarray:
    """Usual residual share of each compartment: the mean over its charges' starts."""
    started = ~np.isnan(charges.share)
    n = np.bincount(charges.comp[started], minlength=count)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.bincount(charges.comp[started], charges.share[started], count) / n
    return np.where(n > 0, mean, 0.0)


def _statistical(
    history: History, values: np.ndarray, ok: np.ndarray, judgement: Judgement, fresh: np.ndarray
) -> np.ndarray:
    """Family limits mean + 2s towards each property's limit, as a rise above new oil; (C, P), NaN below 10."""
    comps, samples = history.compartments, history.samples
    families = int(comps.family.max(initial=0)) + 1
    out = np.full((families, PROPERTY_COUNT), np.nan)
    family = comps.family[samples.comp]
    rise = SIGNS * (values - fresh)
    for j in range(PROPERTY_COUNT):
        rows = ok[:, j] & ~judgement.break_in & ~np.isnan(rise[:, j])
        n = np.bincount(family[rows], minlength=families)
        with np.errstate(invalid="ignore", divide="ignore"):
            mean = np.bincount(family[rows], rise[rows, j], families) / n
            square = np.bincount(family[rows], rise[rows, j] ** 2, families) / n
            sd = np.sqrt(np.maximum(square - mean**2, 0) * n / (n - 1))
        out[:, j] = np.where(n >= 10, mean + 2 * sd, np.nan)
    return out[comps.family]


def open_faults(history: History, charges: Charges, judgement: Judgement) -> list[list[str]]:
    """Contamination and abnormal wear still open, per compartment, as sentences.

    A drain hides a fault, it does not mend it: a condition past its watch limit stays open until a later
    sample is clear at half the oil hours at which it was seen, or more; a probable or strong cause likewise.
    What sinks is not shown clear by a sample from oil that had stood.
    """
    samples = history.samples
    at = [INDEX[k] for k in CONDITIONS]
    past = judgement.past.watch[:, at] & samples.usable[:, None]
    wear = np.array([BY_KEY[k].group == "wear" or k == "si" for k in CONDITIONS])
    past &= ~(judgement.break_in[:, None] & wear)
    shift = (judgement.shift.real | judgement.bend.real) & samples.usable[:, None]
    magnet = (judgement.magnet >= 3) & ~judgement.break_in
    out: list[list[str]] = [[] for _ in history.compartments.duty]
    start = offsets(samples.comp, len(out))
    faults = [k for k, cause in enumerate(CAUSES) if cause.grave != "note" or cause.key == "condensation"]
    strength = judgement.diagnosis.strength[:, faults]
    held = strength >= PROBABLE
    marked = np.unique(samples.comp[past.any(axis=1) | shift.any(axis=1) | magnet | held.any(axis=1)])
    for c in marked:
        seen: dict[str, tuple[float, str]] = {}
        for i in range(start[c], start[c + 1]):
            if not samples.usable[i]:
                continue
            hours, stood = float(np.nan_to_num(charges.oil_hours[i])), bool(samples.settled[i])
            for k, key in enumerate(CONDITIONS):
                value = samples.values[i, at[k]]
                if past[i, k]:
                    m = MEASURANDS[at[k]]
                    limit = judgement.past.limits["high"][0][i, at[k]]
                    seen[key] = (hours, f"{m.name} {value:,.{m.decimals}f} past watch {limit:g} {m.unit}".strip())
                elif key in seen and not math.isnan(value) and hours >= 0.5 * seen[key][0] and not (stood and key in SETTLING):
                    del seen[key]
            for k, key in enumerate(WEAR_METALS):
                if shift[i, k]:
                    seen["rate " + key] = (hours, f"{BY_KEY[key].name} wears faster than usual")
                elif "rate " + key in seen and hours >= 0.5 * seen["rate " + key][0] and not stood:
                    del seen["rate " + key]
            for k, at_cause in enumerate(faults):
                cause = CAUSES[at_cause]
                if held[i, k]:
                    seen[cause.key] = (hours, f"{cause.name} ({STRENGTHS[int(strength[i, k])]})")
                elif cause.key in seen and not strength[i, k] and hours >= 0.5 * seen[cause.key][0] and not stood:
                    del seen[cause.key]
            if magnet[i]:
                seen["magnet"] = (hours, f"magnet grade {judgement.magnet[i]:.0f} at the last drain")
            elif judgement.magnet[i] < 3:
                seen.pop("magnet", None)
        out[c] = [text for _, text in seen.values()]
    return out


def _down(value: float, step: float) -> float:
    return math.floor(value / step + 1e-9) * step


def _number(x: float) -> float | None:
    return float(x) if math.isfinite(x) else None


@dataclass(frozen=True)
class Terms:
    """What the register and the calendar add for one compartment, in meter units; None = unknown."""

    cap: float | None = None
    calendar: float | None = None


def decide(
    history: History,
    charges: Charges,
    judgement: Judgement,
    table: LimitTable,
    policy: Policy,
    terms: list[Terms],
    verdicts: np.ndarray | None = None,
    signed: np.ndarray | None = None,
    only: Sequence[int] | None = None,
    oils: FreshOil | None = None,
) -> list[Decision]:
    """A decision for every compartment of the history, or for ``only`` those, in their order.

    ``verdicts``: (N,) codes that stand (signed, else proposed); defaults to the proposals. ``signed`` (N,), bool: which of
    them a person has signed; none unless given. ``oils``: new-oil values, where the history is a part of a larger one.
    """
    comps, samples = history.compartments, history.samples
    count = len(comps.duty)
    values, ok = _told(history)
    fresh, estimated = oils or fresh_oil(history, charges)
    slopes = charge_slopes(history, charges, judgement, values, ok, fresh)
    started = (charges.number > 0)[:, None]
    clean = _fit(slopes, charges, history, started & ~slopes.moved)
    as_is = _fit(slopes, charges, history, started)

    running = charges.first + np.bincount(charges.comp, minlength=count) - 1
    oil = charges.oil[running]
    limit = property_limits(table, comps.duty, history.oils.new[oil], fresh[oil], act=policy.limit == "act")
    margin = SIGNS * (limit - fresh[oil])
    share = _residual_share(charges, count)
    t = _quantile(clean.dof, policy.confidence)
    safe = standing_interval(margin, clean, share[:, None], t)
    t_as_is = _quantile(as_is.dof, policy.confidence)
    safe_now = standing_interval(margin, as_is, share[:, None], t_as_is)

    # the running charge: its own start, its own slope so far, shrunk to what this compartment usually does
    own, own_se2 = slopes.slope[running], slopes.se2[running]
    with np.errstate(invalid="ignore", divide="ignore"):
        tau2 = np.maximum(clean.between_var, 1e-30)
        weight = np.where(np.isnan(own), 0.0, tau2 / (tau2 + own_se2))
        run_slope = np.where(weight > 0, weight * np.nan_to_num(own) + (1 - weight) * clean.mean, clean.mean)
        run_var = (1 - weight) * clean.between_var + (1 - weight) ** 2 * clean.mean_var
    run_margin = SIGNS * (limit - slopes.start[running])
    run_safe = first_crossing(run_margin, run_slope, run_var, np.zeros_like(run_margin), t)

    stat = _statistical(history, values, ok, judgement, fresh[charges.oil[charges.charge_of]])
    faults = open_faults(history, charges, judgement)
    stands = judgement.proposed if verdicts is None else verdicts
    start = offsets(samples.comp, count)
    hours = np.where(samples.usable, charges.oil_hours, np.nan)
    by_comp: list[list[int]] = [[] for _ in range(count)]
    some = np.flatnonzero((charges.number > 0) & slopes.samples.any(axis=1))
    for h, c in zip(some.tolist(), charges.comp[some].tolist(), strict=True):
        by_comp[c].append(h)

    measured = np.zeros(limit.shape, dtype=int)
    np.add.at(measured, charges.comp[charges.number > 0], slopes.samples[charges.number > 0])
    told: np.ndarray = ~np.isnan(limit) & (measured > 0)
    packed = _packed_slopes(slopes, charges, told)
    figures = _figures(clean, slopes, safe, safe_now, limit, fresh[oil], t, share, run_safe, run_slope, run_var, running)
    out = []
    for c in range(count) if only is None else only:
        rows = slice(start[c], start[c + 1])
        answers = _answers(c, told, figures, estimated[oil])
        counted = samples.usable[rows] & (stands[rows] >= 0)
        weak = samples.settled[rows] & (stands[rows] == RUN_ON)  # clean, but what sinks was not in the bottle
        verdict_rows = stands[rows][counted & ~weak]
        unsigned = 0 if signed is None else int((~signed[rows][counted & ~weak])[-policy.run_on_needed :].sum())
        passed_over = int((counted & weak)[-policy.run_on_needed :].sum())
        sampled = hours[rows]
        longest = float(np.nanmax(sampled)) if len(sampled) and not np.isnan(sampled).all() else None
        schools = _schools(c, policy, terms[c], slopes, by_comp[c], limit, stat, clean)
        out.append(
            _outcome(
                comps, c, answers, policy, terms[c], verdict_rows, unsigned, passed_over, longest, faults[c], schools, float(share[c]),
                packed[c],
            )
        )
    return out


def _packed_slopes(slopes: Slopes, charges: Charges, told: np.ndarray) -> list[bytes]:
    """``Decision.slopes`` of every compartment. ``told`` (C, P): properties that are answered for."""
    started: np.ndarray = (charges.number > 0) & slopes.samples.any(axis=1)
    h, j = np.nonzero(~np.isnan(slopes.slope) & told[charges.comp] & started[:, None])
    order = np.lexsort((h, j, charges.comp[h]))
    h, j = h[order], j[order]
    rows = np.column_stack([
        j, charges.number[h], slopes.start[h, j], SIGNS[j] * slopes.slope[h, j], np.sqrt(slopes.se2[h, j]), slopes.samples[h, j],
        ~slopes.moved[h, j],
    ]).astype("<f4")  # fmt: skip
    at = offsets(charges.comp[h], len(told)).tolist()
    return [rows[a:b].tobytes() for a, b in itertools.pairwise(at)]


def _figures(
    clean: SlopeFit, slopes: Slopes, safe: np.ndarray, safe_now: np.ndarray, limit: np.ndarray, fresh: np.ndarray, t: np.ndarray,
    share: np.ndarray, run_safe: np.ndarray, run_slope: np.ndarray, run_var: np.ndarray, running: np.ndarray,
) -> dict[str, list[list[float]]]:  # fmt: skip
    """What answers are made of, each (C, P), as lists: read one by one."""
    with np.errstate(invalid="ignore", divide="ignore"):
        crossing = np.where(clean.mean > 0, SIGNS * (limit - fresh) * (1 - share[:, None]) / clean.mean, np.nan)
        found = {
            "limit": limit, "fresh": fresh, "n": clean.n, "mean": SIGNS * clean.mean, "dof": clean.dof, "t": t, "crossing": crossing,
            "between": np.sqrt(np.maximum(clean.between_var, 0)), "mean_se": np.sqrt(clean.mean_var), "safe": safe, "safe_now": safe_now,
            "run_safe": run_safe, "run_start": slopes.start[running], "run_slope": SIGNS * run_slope, "run_sd": np.sqrt(run_var),
        }  # fmt: skip
    return {k: v.tolist() for k, v in found.items()}


def _answers(c: int, told: np.ndarray, figures: dict[str, list[list[float]]], estimated: np.ndarray) -> tuple[PropertyAnswer, ...]:
    out = []
    of = {k: v[c] for k, v in figures.items()}
    for j in np.flatnonzero(told[c]).tolist():
        p, f = PROPERTIES[j], {k: v[j] for k, v in of.items()}
        out.append(
            PropertyAnswer(
                p.key, p.name, p.unit, p.side, _number(f["fresh"]), bool(estimated[c, j]), _number(f["limit"]), int(f["n"]),
                _number(f["mean"]), _number(f["between"]), _number(f["mean_se"]), f["dof"], _number(f["t"]), _number(f["crossing"]),
                _number(f["safe"]), _number(f["safe_now"]), f["safe"] == math.inf, _number(f["run_safe"]), f["run_safe"] == math.inf,
                _number(f["run_start"]), _number(f["run_slope"]), _number(f["run_sd"]),
            )
        )  # fmt: skip
    return tuple(out)


def _schools(
    c: int, policy: Policy, terms: Terms, slopes: Slopes, mine: list[int],
    limit: np.ndarray, stat: np.ndarray, clean: SlopeFit,
) -> dict[str, float | None]:  # fmt: skip
    """What each school would say: maker, house rule, calendar, last sample's line, statistical limits."""
    last_line = statistical = math.inf
    if mine:
        h = mine[-1]
        for j in range(PROPERTY_COUNT):
            if math.isnan(limit[c, j]):
                continue
            if slopes.samples[h, j] and slopes.slope[h, j] > 0:
                room = SIGNS[j] * (limit[c, j] - slopes.start[h, j])
                last_line = min(last_line, max(room, 0.0) / slopes.slope[h, j])
            if not math.isnan(stat[c, j]) and clean.mean[c, j] > 0:
                statistical = min(statistical, max(stat[c, j], 0.0) / clean.mean[c, j])
    return {
        "maker": terms.cap,
        "house_rule": None if terms.cap is None else terms.cap * policy.house_share,
        "calendar": terms.calendar,
        "fixed_last_sample": _number(last_line),
        "statistical": _number(statistical),
    }


def _outcome(
    comps: object, c: int, answers: tuple[PropertyAnswer, ...], policy: Policy, terms: Terms,
    verdicts: np.ndarray, unsigned: int, passed_over: int, longest: float | None, faults: list[str],
    schools: dict[str, float | None], share: float, slopes: bytes,
) -> Decision:  # fmt: skip
    distance = bool(comps.distance[c])  # type: ignore[attr-defined]
    interval = float(comps.interval[c])  # type: ignore[attr-defined]
    unit, step = ("km", policy.step_km) if distance else ("h", policy.step_h)
    current = None if math.isnan(interval) else interval

    def length(x: float) -> str:
        return f"{x:,.0f} {unit}"

    told = [a for a in answers if a.safe is not None or a.never]
    ranked = sorted(told, key=lambda a: math.inf if a.safe is None else a.safe)
    best = ranked[0] if ranked else None
    second = ranked[1] if len(ranked) > 1 else None
    safe = math.inf if best is None or best.safe is None else best.safe
    as_is_all = [a.safe_as_is for a in answers if a.safe_as_is is not None]
    safe_as_is = min(as_is_all) if as_is_all else math.inf
    charges = best.n if best else max((a.n for a in answers), default=0)
    run = [a for a in answers if a.running_safe is not None]
    run_best = min(run, key=lambda a: a.running_safe or 0.0) if run else None
    evidence_cap = None if longest is None else policy.beyond_sampled * longest
    never = best is not None and best.safe is None

    guards: list[Guard] = []
    may_lengthen = True

    def guard(key: str, bites: bool, text: str) -> bool:
        guards.append(Guard(key, bool(bites), text))
        return bool(bites)

    if guard("open_fault", bool(faults), "Open: " + "; ".join(faults) if faults else "No open fault"):
        may_lengthen = False
    recent = verdicts[-policy.run_on_needed :]
    calm = len(recent) >= policy.run_on_needed and bool(np.all(recent == RUN_ON))
    good = 0
    for v in recent[::-1]:
        if v != RUN_ON:
            break
        good += 1
    to_go = policy.run_on_needed - good
    text = f"Last {policy.run_on_needed} verdicts are Run on" if calm else f"Run on: {to_go} more samples to go"
    if unsigned:
        text += f" ({unsigned} of them only proposed, not signed)"
    if passed_over:
        text += f"; {passed_over} drawn after the oil had stood not counted"
    if guard("verdicts", not calm, text):
        may_lengthen = False
    few = charges < policy.charges_needed
    guard("charges", few, f"{charges} of {policy.charges_needed} charges sampled for the limiting property")
    text = "No limit is within reach: that alone never lengthens" if never else "A limit is within reach"
    if guard("never", never, text):
        may_lengthen = False

    allowed = safe
    if faults and current is not None:
        allowed = min(safe, safe_as_is, current)
    cap_bites = terms.cap is not None and allowed > terms.cap
    if terms.cap is not None:
        guard("cap", cap_bites, f"Maker's or warranty cap {length(terms.cap)}")
        allowed = min(allowed, terms.cap)
    base = current if current is not None else longest
    ceiling = math.inf
    if evidence_cap is not None:
        bites = allowed > evidence_cap
        text = f"At most {policy.beyond_sampled:g} × the longest oil hours sampled: {length(evidence_cap)}"
        guard("sampled", bites, text)
        ceiling = min(ceiling, evidence_cap)
    if base is not None:
        most = base * (1 + policy.most_at_once)
        guard("step", allowed > most, f"At most +{policy.most_at_once:.0%} at once: {length(most)}")
        ceiling = min(ceiling, most)
    if terms.calendar is not None:
        bites = allowed > terms.calendar and (current is None or terms.calendar > 0)
        guard("calendar", bites, f"The calendar limit falls at about {length(terms.calendar)}")
        ceiling = min(ceiling, max(terms.calendar, current or 0.0))

    proposed: float | None
    sample_at = None
    if best is None:
        outcome, proposed = NOT_ENOUGH, current
        reason = "No deciding property has been measured in a charge with a known start"
    elif base is None:
        outcome, proposed, reason = NOT_ENOUGH, None, "No interval on record to move"
    elif allowed < base and not (few and allowed >= CLEARLY_SHORT * base):
        outcome = SHORTEN
        proposed = _down(allowed, step) or float(math.floor(allowed))  # never more than is safe, not even one step
        if cap_bites and allowed == terms.cap:
            reason = f"The maker's cap of {length(allowed)} lies below the {length(base)} it runs today"
        elif faults and allowed == safe_as_is < safe:
            reason = f"Safe for {length(allowed)} as it is now, with the fault open"
            reason += f"; {length(safe)} once repaired" if math.isfinite(safe) else ""
        else:
            reason = f"Safe for {length(allowed)} of the {length(base)} it runs today, limited by {spoken(best.name)}"
    elif few:
        outcome, proposed = NOT_ENOUGH, base
        reason = f"{charges} of {policy.charges_needed} charges sampled"
    elif longest is not None and longest * policy.beyond_sampled < base:
        outcome, proposed = NOT_ENOUGH, base
        reason = f"Never sampled beyond {length(longest)} of a {length(base)} interval"
    elif not may_lengthen:
        outcome, proposed = HOLD, base
        reason = "; ".join(g.text for g in guards if g.bites and g.key in ("open_fault", "verdicts", "never"))
    else:
        proposed = _down(min(allowed, ceiling), step)
        if proposed > base:
            outcome = LENGTHEN
            reason = f"Safe for {length(safe)}, limited by {spoken(best.name)}"
        else:
            outcome, proposed = HOLD, base
            biting = [g.text for g in guards if g.bites]
            reason = biting[-1] if biting else f"Safe for {length(safe)}: no full step above {length(base)}"
    if outcome == NOT_ENOUGH and base is not None:
        sample_at = (_down(0.85 * base, step) or 0.85 * base, base)
    schools = {**schools, "condition": _number(safe)}
    return Decision(
        outcome, proposed, current, _number(safe), _number(safe_as_is), never,
        best.key if best and best.safe is not None else None,
        second.key if second and second.safe is not None else None, second.safe if second else None,
        evidence_cap is not None and safe > evidence_cap, evidence_cap,
        run_best.running_safe if run_best else None, run_best.key if run_best else None,
        charges, share, reason, sample_at, tuple(guards), tuple(faults), schools, answers, slopes,
    )  # fmt: skip
