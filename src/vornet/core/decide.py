"""Moving the interval: safe hours per deciding property and of all of them, guards, and an outcome with its reasons.

Follow one compartment: charges of the oil in use → rises through their own starts (``paths``) → what the next charge may do
(``outlook``) → safe hours of a standing interval, where the chance that any property is past its limit reaches 1 − p → guards
(``guards``) → Lengthen, Hold, Shorten or Not enough evidence. Hours stand for km where a compartment counts distance.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from vornet.core.decision import (
    ANSWERED,
    IMPOSSIBLE,
    NO_LIMIT,
    UNANSWERED,
    UNMEASURED,
    Decision,
    Policy,
    PropertyAnswer,
    Terms,
)
from vornet.core.faults import open_faults
from vornet.core.guards import Case, outcome
from vornet.core.history import Charges, History, as_known_now, offsets
from vornet.core.judge import RUN_ON, Judgement
from vornet.core.limits import LimitTable
from vornet.core.oil_properties import ACCELERATES, EVENTS, PROPERTIES, PROPERTY_COUNT, SIGNS, decides, property_limits
from vornet.core.outlook import Outlook, Running, Standing, any_chance, fit, hours_until
from vornet.core.paths import (
    NewOil,
    Paths,
    Readings,
    evidence_charges,
    moved_by_faults,
    new_oil_of,
    oil_now,
    paths,
    readings,
    reference_hours,
)


@dataclass(frozen=True)
class _View:
    """Safe hours by one set of charges: ``each`` (C, P) of a property (NaN not told), ``joint`` (C,) of any (NaN none told),
    ``mild`` (C,) the same had bends that nobody saw been feared less,
    ``chance`` (C, P) at the joint hours, the same for the running charge, and the outlook by row of ``at`` (C, P; −1 none)."""

    outlook: Outlook
    at: np.ndarray
    each: np.ndarray
    joint: np.ndarray
    mild: np.ndarray
    chance: np.ndarray
    running: np.ndarray
    running_joint: np.ndarray
    run_rise: np.ndarray
    run_sd: np.ndarray
    standing: Standing
    comp: np.ndarray
    event: np.ndarray


@dataclass(frozen=True)
class _Ground:
    """What both views stand on. Shape (C, P) unless said."""

    comp_of_oil: np.ndarray  # (C,) family and oil in use, counted from 0
    families: int
    margin: np.ndarray
    new_var: np.ndarray
    ref: np.ndarray  # (C,)
    base: np.ndarray  # (C,) the interval in force, ∞ none
    share: np.ndarray  # (C,)
    run_margin: np.ndarray
    run_start_var: np.ndarray
    running: np.ndarray  # (C,) index of the running charge


def _residual_share(charges: Charges, count: int) -> np.ndarray:
    """Usual residual share of each compartment: the mean over its charges' starts."""
    started = ~np.isnan(charges.share)
    n = np.bincount(charges.comp[started], minlength=count)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.bincount(charges.comp[started], charges.share[started], count) / n
    return np.where(n > 0, np.minimum(mean, 0.9), 0.0)


def _view(ground: _Ground, path: Paths, charges: Charges, include: np.ndarray, only: np.ndarray, confidence: float) -> _View:
    """Safe hours by the charges ``include`` (H, P), for compartments ``only`` (C,), bool, with their families' help."""
    count = len(ground.ref)
    family = (ground.comp_of_oil[:, None] * PROPERTY_COUNT + np.arange(PROPERTY_COUNT)).ravel()
    with np.errstate(invalid="ignore"):
        asked = ground.margin > 0
    helps = np.isin(ground.comp_of_oil, ground.comp_of_oil[only])
    rises = path.rises(charges.comp, include & (asked & helps[:, None])[charges.comp])
    cautious = np.tile(ACCELERATES, count)
    everyone = fit(rises, family, ground.families * PROPERTY_COUNT, cautious)
    comp, prop = np.divmod(np.arange(count * PROPERTY_COUNT), PROPERTY_COUNT)
    told = everyone.told & only[comp] & ~np.isnan(ground.margin.ravel()) & (ground.margin.ravel() > 0)
    rows = np.flatnonzero(told)
    o, c, j = everyone.of(rows), comp[rows], prop[rows]
    at = np.full((count, PROPERTY_COUNT), -1)
    at[c, j] = np.arange(len(rows))
    standing = Standing(o, ground.margin[c, j], ground.new_var[c, j], ground.share[c], ground.ref[c])
    h = ground.running[c]
    # the running charge's own rise has its say where it is among the charges
    own = np.where(include[h, j], path.rise[h, j, 0], np.nan)
    own_var = path.var[h, j, 0]
    running = Running(o, ground.run_margin[c, j], ground.run_start_var[c, j], own, own_var, ground.ref[c])
    target = 1 - confidence

    def placed(x: np.ndarray) -> np.ndarray:
        out = np.full((count, PROPERTY_COUNT), np.nan)
        out[c, j] = x
        return out

    def joint(of: Standing | Running, some: np.ndarray | None = None) -> np.ndarray:
        """Joint hours of the compartments of all rows, or of ``some``; NaN elsewhere."""
        mine = np.arange(len(c)) if some is None else some
        which, place = np.unique(c[mine], return_inverse=True)
        part, event = of.of(mine), EVENTS[j[mine]]
        found = hours_until(lambda t: any_chance(part.chance(t[place]), place, event, len(which)), target, ground.ref[which])
        out = np.full(count, np.nan)
        out[which] = found
        return out

    together = joint(standing)
    # only where it may matter: a shorter interval is not proposed for fear of a bend alone
    short = np.flatnonzero((together < ground.base)[c])
    mild = np.where(np.isnan(again := joint(replace(standing, outlook=o.mildly(cautious[rows])), short)), together, again)
    capped = np.where(np.isfinite(together), together, 10 * ground.ref)
    rise, sd = running.moments()
    return _View(
        o, at, placed(hours_until(standing.chance, target, ground.ref[c])), together, mild, placed(standing.chance(capped[c])),
        placed(hours_until(running.chance, target, ground.ref[c])), joint(running), placed(rise), placed(sd),
        standing, c, EVENTS[j],
    )  # fmt: skip


def _statistical(history: History, read: Readings, judgement: Judgement, fresh: np.ndarray) -> np.ndarray:
    """Family limits mean + 2s towards each property's limit, as a rise above new oil; (C, P), NaN below 10."""
    comps, samples = history.compartments, history.samples
    families = int(comps.family.max(initial=0)) + 1
    out = np.full((families, PROPERTY_COUNT), np.nan)
    family = comps.family[samples.comp]
    rise = SIGNS * (read.value - fresh)
    for j in range(PROPERTY_COUNT):
        rows = read.counts[:, j] & ~read.bound[:, j] & ~judgement.break_in & ~np.isnan(rise[:, j])
        n = np.bincount(family[rows], minlength=families)
        with np.errstate(invalid="ignore", divide="ignore"):
            mean = np.bincount(family[rows], rise[rows, j], families) / n
            square = np.bincount(family[rows], rise[rows, j] ** 2, families) / n
            sd = np.sqrt(np.maximum(square - mean**2, 0) * n / (n - 1))
        out[:, j] = np.where(n >= 10, mean + 2 * sd, np.nan)
    return np.asarray(out[comps.family])


class _Prepared(NamedTuple):
    """What decisions and chances are reckoned from."""

    now: Charges
    read: Readings
    running: np.ndarray
    oil: np.ndarray
    evidence: np.ndarray
    moved: np.ndarray
    fresh: NewOil
    limit: np.ndarray
    ref: np.ndarray
    path: Paths
    share: np.ndarray
    ground: _Ground


def _prepared(history: History, charges: Charges, judgement: Judgement, table: LimitTable, policy: Policy) -> _Prepared:
    comps = history.compartments
    now = as_known_now(history, charges)
    read = readings(history)
    running, oil = oil_now(history, charges)
    evidence = evidence_charges(history, charges)
    fresh = new_oil_of(history, oil)
    limit = property_limits(table, comps.duty, history.known.at(oil).value, act=policy.limit == "act")
    ref = reference_hours(history, charges, evidence)
    path = paths(history, now, read, fresh.value, ref, evidence)
    share = _residual_share(charges, len(comps.duty))
    base = np.where(np.isnan(comps.interval), np.inf, comps.interval)
    _, both = np.unique(comps.family.astype(np.int64) * (len(history.oils.new) + 2) + oil, return_inverse=True)
    ground = _Ground(
        both, int(both.max(initial=0)) + 1, SIGNS * (limit - fresh.value), fresh.sd**2, ref, base, share,
        SIGNS * (limit - path.start[running]), np.nan_to_num(path.start_sd[running]) ** 2, running,
    )  # fmt: skip
    moved = moved_by_faults(charges, judgement, history.samples.usable)
    return _Prepared(now, read, running, oil, evidence, moved, fresh, limit, ref, path, share, ground)


def chance_at(
    history: History, charges: Charges, judgement: Judgement, table: LimitTable, policy: Policy, compartment: int, hours: float
) -> float | None:
    """Chance that any deciding property of a compartment is past its limit at the end of charges of so many hours, by the
    charges that speak for a healthy one; None where none can be told."""
    p = _prepared(history, charges, judgement, table, policy)
    only = np.zeros(len(history.compartments.duty), dtype=bool)
    only[compartment] = True
    view = _view(p.ground, p.path, p.now, p.evidence[:, None] & ~p.moved, only, policy.confidence)
    mine = np.flatnonzero(view.comp == compartment)
    if not len(mine):
        return None
    each = view.standing.of(mine).chance(np.full(len(mine), hours))
    return float(any_chance(each, np.zeros(len(mine), dtype=int), view.event[mine], 1)[0])


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
    oil_names: Sequence[str] | None = None,
) -> list[Decision]:
    """A decision for every compartment of the history, or for ``only`` those, in their order.

    ``verdicts``: (N,) codes that stand (signed, else proposed); defaults to the proposals. ``signed`` (N,), bool: which of
    them a person has signed; none unless given. ``oil_names`` for what is said about oils.
    """
    comps, samples = history.compartments, history.samples
    count = len(comps.duty)
    p = _prepared(history, charges, judgement, table, policy)
    now, read, running, oil, evidence, moved, fresh, limit, ref, path, share, ground = p
    wanted = np.zeros(count, dtype=bool)
    wanted[list(range(count) if only is None else only)] = True
    clean = _view(ground, path, now, evidence[:, None] & ~moved, wanted, policy.confidence)
    touched = np.zeros(count, dtype=bool)
    touched[charges.comp[(moved & evidence[:, None] & ~np.isnan(path.rise[:, :, 0])).any(axis=1)]] = True
    as_is = _view(ground, path, now, np.repeat(evidence[:, None], PROPERTY_COUNT, 1), wanted & touched, policy.confidence) if (
        wanted & touched).any() else None  # fmt: skip

    deciding = decides(table, comps.duty)
    measured = np.zeros((count, PROPERTY_COUNT), dtype=int)
    np.add.at(measured, samples.comp, read.counts)
    used = evidence[:, None] & ~moved & ~np.isnan(path.rise[:, :, 0])
    bounded = np.zeros((count, PROPERTY_COUNT), dtype=int)
    np.add.at(bounded, charges.comp, used & path.bounded)
    own = np.zeros((count, PROPERTY_COUNT), dtype=int)
    np.add.at(own, charges.comp, used)
    faults = open_faults(history, charges, judgement)
    stands = judgement.proposed if verdicts is None else verdicts
    start = offsets(samples.comp, count)
    stat = _statistical(history, read, judgement, new_oil_of(history, charges.oil[charges.charge_of]).value)
    packed = _packed_slopes(path, charges, moved, evidence, deciding, ref)
    answers_of = _Answers(clean, as_is, ground, fresh, limit, path, deciding, measured, own, bounded, touched)
    last_of = _last_charges(charges, path, evidence)
    out = []
    for c in range(count) if only is None else only:
        rows = slice(start[c], start[c + 1])
        answers = answers_of.of(c)
        counted = samples.usable[rows] & (stands[rows] >= 0)
        weak = samples.settled[rows] & (stands[rows] == RUN_ON)  # clean, but what sinks was not in the bottle
        firm = counted & ~weak
        interval = float(comps.interval[c])
        deepest = [a.deepest for a in answers if a.state == ANSWERED and a.deepest is not None]
        at = int(running[c])
        joint_as_is = float(as_is.joint[c]) if as_is is not None and touched[c] else float(clean.joint[c])
        run_as_is = float(as_is.running_joint[c]) if as_is is not None and touched[c] else float(clean.running_joint[c])
        case = Case(
            distance=bool(comps.distance[c]), current=None if math.isnan(interval) else interval, answers=answers, policy=policy,
            terms=terms[c], verdicts=stands[rows][firm], unsigned=0 if signed is None else
            int((~signed[rows][firm])[-policy.run_on_needed :].sum()), passed_over=int((counted & weak)[-policy.run_on_needed :].sum()),
            joint=float(clean.joint[c]), mild=float(clean.mild[c]), joint_as_is=joint_as_is,
            running=float(clean.running_joint[c]), running_as_is=run_as_is,
            longest=min(deepest) if deepest else None, faults=tuple(f.fact for f in faults[c]),
            open_keys=tuple(dict.fromkeys(k for f in faults[c] for k in f.keys)),
            schools=_schools(c, policy, terms[c], path, last_of[c], limit, stat, answers, ref), share=float(share[c]), slopes=packed[c],
            changed_after_approval=_changed_after(charges, at, int(oil[c]), terms[c]),
            oil=oil_names[oil[c]] if oil_names is not None and oil[c] < len(oil_names) else "", on_oil=float(samples_on(charges, at)),
        )  # fmt: skip
        out.append(outcome(case, clean.outlook, clean.at[c], ground.margin[c], float(ref[c])))
    return out


def samples_on(charges: Charges, running: int) -> float:
    """Oil hours of the latest sample of the running charge; 0 none."""
    mine = charges.oil_hours[charges.charge_of == running]
    return float(np.nanmax(mine)) if len(mine) and not np.isnan(mine).all() else 0.0


def _changed_after(charges: Charges, running: int, oil: int, terms: Terms) -> bool:
    """Was the oil in use now first poured after the interval in force had been approved, on another oil's evidence?"""
    if terms.approved_day is None:
        return False
    first = running
    while first > 0 and charges.comp[first - 1] == charges.comp[running] and charges.number[first - 1] > 0 and charges.oil[first - 1] == oil:
        first -= 1
    return bool(charges.number[first] > 0 and charges.number[first - 1] >= 0 and charges.comp[first - 1] == charges.comp[running]
                and charges.oil[first - 1] != oil and charges.fill_day[first] >= terms.approved_day)  # fmt: skip


def _packed_slopes(
    path: Paths, charges: Charges, moved: np.ndarray, evidence: np.ndarray, deciding: np.ndarray, ref: np.ndarray
) -> list[bytes]:
    """``Decision.slopes`` of every compartment. ``deciding`` (C, P): properties that are answered for."""
    h, j = np.nonzero(~np.isnan(path.rise[:, :, 0]) & deciding[charges.comp] & evidence[:, None])
    order = np.lexsort((h, j, charges.comp[h]))
    h, j = h[order], j[order]
    per = ref[charges.comp[h]]
    rows = np.column_stack([
        j, charges.number[h], path.start[h, j], SIGNS[j] * path.rise[h, j, 0] / per, np.sqrt(path.var[h, j, 0]) / per,
        path.samples[h, j], ~moved[h, j],
    ]).astype("<f4")  # fmt: skip
    at = offsets(charges.comp[h], len(deciding)).tolist()
    return [rows[a:b].tobytes() for a, b in itertools.pairwise(at)]


def _last_charges(charges: Charges, path: Paths, evidence: np.ndarray) -> list[int]:
    """The last charge of each compartment with anything measured, −1 none."""
    out = [-1] * len(charges.first)
    some = np.flatnonzero(evidence & (path.samples > 0).any(axis=1))
    for h, c in zip(some.tolist(), charges.comp[some].tolist(), strict=True):
        out[c] = h
    return out


def _number(x: float) -> float | None:
    return float(x) if math.isfinite(x) else None


class _Answers:
    """Makes the answers of one compartment after another out of the columns."""

    def __init__(
        self, clean: _View, as_is: _View | None, ground: _Ground, fresh: NewOil, limit: np.ndarray, path: Paths, deciding: np.ndarray,
        measured: np.ndarray, own: np.ndarray, bounded: np.ndarray, touched: np.ndarray,
    ) -> None:  # fmt: skip
        mean, between, error, bend = clean.outlook.moments() if len(clean.outlook.n) else (np.zeros(0),) * 4
        ref = ground.ref[:, None]

        def placed(x: np.ndarray) -> np.ndarray:
            return np.where(clean.at >= 0, np.append(x, np.nan)[clean.at], np.nan)

        with np.errstate(invalid="ignore", divide="ignore"):
            p = placed(bend)
            reach = ground.margin * (1 - ground.share[:, None]) / placed(mean)
            crossing = np.where(reach > 0, ref * np.maximum(reach, 0) ** (1 / p), np.nan)
        safe_as_is = np.where(touched[:, None], as_is.each, clean.each) if as_is is not None else clean.each
        columns = {
            "limit": limit, "fresh": fresh.value, "mean": SIGNS * placed(mean) / ref, "between": placed(between) / ref,
            "error": placed(error) / ref, "bend": p, "crossing": crossing, "safe": clean.each, "safe_as_is": safe_as_is,
            "run": clean.running, "run_start": path.start[ground.running], "run_slope": SIGNS * clean.run_rise / ref,
            "run_sd": clean.run_sd / ref, "pace": placed(np.where(clean.outlook.drifted, clean.outlook.pace, np.nan)),
            "deepest": path.deepest, "chance": clean.chance,
        }  # fmt: skip
        self._columns = {k: v.tolist() for k, v in columns.items()}
        self._borrowed = np.where(clean.at >= 0, np.append(clean.outlook.borrowed, False)[clean.at], False)
        self._margin, self._at, self._deciding, self._measured = ground.margin, clean.at, deciding, measured
        self._own, self._bounded, self._estimated, self._ref = own, bounded, fresh.estimated, ground.ref

    def of(self, c: int) -> tuple[PropertyAnswer, ...]:
        of = {k: v[c] for k, v in self._columns.items()}
        out = []
        for j in np.flatnonzero(self._deciding[c]).tolist():
            p, f = PROPERTIES[j], {k: v[j] for k, v in of.items()}
            if not self._measured[c, j]:
                state = UNMEASURED
            elif math.isnan(self._margin[c, j]):
                state = NO_LIMIT
            elif self._margin[c, j] <= 0:
                state = IMPOSSIBLE
            else:
                state = ANSWERED if self._at[c, j] >= 0 else UNANSWERED
            out.append(
                PropertyAnswer(
                    p.key, p.name, p.unit, p.side, state, _number(f["fresh"]), bool(self._estimated[c, j]), _number(f["limit"]),
                    int(self._own[c, j]), _number(f["mean"]), _number(f["between"]), _number(f["error"]), _number(f["bend"]),
                    float(self._ref[c]), _number(f["crossing"]), _number(f["safe"]), _number(f["safe_as_is"]), f["safe"] == math.inf,
                    _number(f["run"]), f["run"] == math.inf, _number(f["run_start"]), _number(f["run_slope"]), _number(f["run_sd"]),
                    bool(self._borrowed[c, j]), _number(f["pace"]), int(self._bounded[c, j]), _number(f["deepest"]),
                    _number(f["chance"]),
                )
            )  # fmt: skip
        return tuple(out)


def _schools(
    c: int, policy: Policy, terms: Terms, path: Paths, last: int, limit: np.ndarray, stat: np.ndarray,
    answers: tuple[PropertyAnswer, ...], ref: np.ndarray,
) -> dict[str, float | None]:  # fmt: skip
    """What each school would say: maker, house rule, calendar, last sample's line, statistical limits."""
    last_line = statistical = math.inf
    for a in answers:
        j = next(i for i, p in enumerate(PROPERTIES) if p.key == a.key)
        if a.limit is None:
            continue
        rise = path.rise[last, j, 0] if last >= 0 else math.nan
        if rise > 0:
            room = SIGNS[j] * (limit[c, j] - path.start[last, j])
            last_line = min(last_line, max(room, 0.0) / rise * float(ref[c]))
        towards = SIGNS[j] * (a.mean_slope or 0.0)
        if not math.isnan(stat[c, j]) and towards > 0:
            statistical = min(statistical, max(stat[c, j], 0.0) / towards)
    return {
        "maker": terms.cap,
        "house_rule": None if terms.cap is None else terms.cap * policy.house_share,
        "calendar": terms.calendar,
        "fixed_last_sample": _number(last_line),
        "statistical": _number(statistical),
    }
