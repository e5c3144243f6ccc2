"""Safe hours of a fleet by one set of charges or another: each property's, all of them together, the running charge's."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from vornet.core.charges import Charges, as_known_now
from vornet.core.decision import (
    Policy,
)
from vornet.core.history import History
from vornet.core.judge import Judgement
from vornet.core.limits import LimitTable
from vornet.core.oil_properties import ACCELERATES, EVENTS, PROPERTY_COUNT, SIGNS, property_limits
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
from vornet.core.policy import each


@dataclass(frozen=True)
class SafeBy:
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
class Ground:
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


def safe_by(ground: Ground, path: Paths, charges: Charges, include: np.ndarray, only: np.ndarray, confidence: np.ndarray) -> SafeBy:
    """Safe hours by the charges ``include`` (H, P), for compartments ``only`` (C,), bool, with their families' help; ``confidence`` (C,)."""
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
        found = hours_until(lambda t: any_chance(part.chance(t[place]), place, event, len(which)), target[which], ground.ref[which])
        out = np.full(count, np.nan)
        out[which] = found
        return out

    together = joint(standing)
    # only where it may matter: a shorter interval is not proposed for fear of a bend alone
    short = np.flatnonzero((together < ground.base)[c])
    mild = np.where(np.isnan(again := joint(replace(standing, outlook=o.mildly(cautious[rows])), short)), together, again)
    capped = np.where(np.isfinite(together), together, 10 * ground.ref)
    rise, sd = running.moments()
    return SafeBy(
        o, at, placed(hours_until(standing.chance, target[c], ground.ref[c])), together, mild, placed(standing.chance(capped[c])),
        placed(hours_until(running.chance, target[c], ground.ref[c])), joint(running), placed(rise), placed(sd),
        standing, c, EVENTS[j],
    )  # fmt: skip


class Prepared(NamedTuple):
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
    ground: Ground


def prepared(history: History, charges: Charges, judgement: Judgement, table: LimitTable, policy: Policy | Sequence[Policy]) -> Prepared:
    comps = history.compartments
    now = as_known_now(history, charges)
    read = readings(history)
    running, oil = oil_now(history, charges)
    evidence = evidence_charges(history, charges)
    fresh = new_oil_of(history, oil)
    to_act = np.array([x.limit == "act" for x in each(policy, len(comps.duty))])
    known = history.known.at(oil).value
    limit = property_limits(table, comps.limited, known)
    if to_act.any():
        limit = np.where(to_act[:, None], property_limits(table, comps.limited, known, act=True), limit)
    ref = reference_hours(history, charges, evidence)
    undone = np.array([x.part_changes == "without" for x in each(policy, len(comps.duty))], dtype=bool)
    path = paths(history, now, read, fresh.value, ref, evidence, undone)
    share = _residual_share(charges, len(comps.duty))
    base = np.where(np.isnan(comps.interval), np.inf, comps.interval)
    _, both = np.unique(comps.family.astype(np.int64) * (len(history.oils.new) + 2) + oil, return_inverse=True)
    ground = Ground(
        both, int(both.max(initial=0)) + 1, SIGNS * (limit - fresh.value), fresh.sd**2, ref, base, share,
        SIGNS * (limit - path.start[running]), np.nan_to_num(path.start_sd[running]) ** 2, running,
    )  # fmt: skip
    moved = moved_by_faults(charges, judgement, history.samples.usable)
    return Prepared(now, read, running, oil, evidence, moved, fresh, limit, ref, path, share, ground)


def confidences(policy: Policy | Sequence[Policy], count: int) -> np.ndarray:
    """How sure each compartment's policy wants to be, (C,)."""
    return np.array([x.confidence for x in each(policy, count)])
