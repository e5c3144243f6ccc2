"""How deciding properties moved in every charge: what counts as evidence, and each charge's rise with its error.

Evidence is what the oil in use now showed in this compartment since it was last overhauled or exchanged. A charge's rise is
fitted through its own start, whose error (what stayed behind, the batch, an estimated new oil) counts as one more unknown.
A value known only to lie beyond a limit of the method, on the limit's side, is a rise at least that steep; on the other side
it is taken at that figure, which errs towards the limit.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.causes import CAUSES
from vornet.core.charges import Charges
from vornet.core.diagnose import PROBABLE
from vornet.core.fresh import NOW
from vornet.core.history import History
from vornet.core.judge import Judgement
from vornet.core.measurands import INDEX
from vornet.core.oil_properties import (
    BY_PROPERTY,
    MOVED_BY,
    MOVED_BY_CAUSE,
    PROPERTIES,
    PROPERTY_COUNT,
    SIGNS,
    property_sd,
    property_values,
)  # fmt: skip
from vornet.core.outlook import BENDS, Rises

#: batches of one oil differ by about this share, one standard deviation; common practice, no source
BATCH_SPREAD = 0.015


@dataclass(frozen=True)
class NewOil:
    """New-oil value of each property (rows, P) by what is known now, its standard deviation, and whether it is an estimate."""

    value: np.ndarray
    sd: np.ndarray
    estimated: np.ndarray


def new_oil_of(history: History, oil: np.ndarray) -> NewOil:
    """What new oil of these oils (rows,) shows as properties."""
    known = history.known.at(oil, NOW)
    sd = [np.sqrt(sum(known.sd[:, INDEX[k]] ** 2 for k in (p.measurand, p.less) if k)) for p in PROPERTIES]
    guessed = [np.any([known.estimated[:, INDEX[k]] for k in (p.measurand, p.less) if k], axis=0) for p in PROPERTIES]
    return NewOil(property_values(known.value), np.stack(sd, axis=1), np.stack(guessed, axis=1))


@dataclass(frozen=True)
class Readings:
    """Properties of all samples, (N, P): ``value``, whether it ``counts``, whether it is a ``bound`` on the limit's side, ``sd``."""

    value: np.ndarray
    counts: np.ndarray
    bound: np.ndarray
    sd: np.ndarray


def readings(history: History) -> Readings:
    samples = history.samples
    value = property_values(samples.values)
    bound = np.zeros(value.shape, dtype=bool)
    if (samples.below | samples.above).any():
        for j, p in enumerate(PROPERTIES):
            towards, other = (samples.above, samples.below) if p.side == "high" else (samples.below, samples.above)
            bound[:, j] = (towards >> np.int64(INDEX[p.measurand])) & 1 == 1
            if p.less:  # subtracted, so its sides are turned round
                bound[:, j] |= (other >> np.int64(INDEX[p.less])) & 1 == 1
    counts = samples.usable[:, None] & np.isfinite(value)
    return Readings(value, counts, bound, property_sd(samples.values, history.precision))


def oil_now(history: History, charges: Charges) -> tuple[np.ndarray, np.ndarray]:
    """(running charge of each compartment, the oil in it), (C,)."""
    count = len(history.compartments.duty)
    running = charges.first + np.bincount(charges.comp, minlength=count) - 1
    return running, charges.oil[running]


def evidence_charges(history: History, charges: Charges) -> np.ndarray:
    """Charges (H,) that say how the oil in use now ages in this compartment as it is now: bool."""
    _, oil = oil_now(history, charges)
    renewed = history.compartments.overhaul[charges.comp]
    with np.errstate(invalid="ignore"):
        since = np.isnan(renewed) | (charges.fill >= renewed - 1)
    return np.asarray((charges.number > 0) & (charges.oil == oil[charges.comp]) & since)


def moved_by_faults(charges: Charges, judgement: Judgement, usable: np.ndarray) -> np.ndarray:
    """Charges whose properties a contamination or a probable cause moved, (H, P), bool."""
    total, of = len(charges.comp), charges.charge_of
    moved = np.zeros((total, PROPERTY_COUNT), dtype=bool)
    for key, names in MOVED_BY.items():
        hit = np.zeros(total, dtype=bool)
        hit[of[judgement.past.watch[:, INDEX[key]] & usable]] = True
        for name in names:
            moved[:, PROPERTIES.index(BY_PROPERTY[name])] |= hit
    for k, cause in enumerate(CAUSES):
        rows = (judgement.diagnosis.strength[:, k] >= PROBABLE) & usable
        for name in MOVED_BY_CAUSE.get(cause.key, ()):
            moved[of[rows], PROPERTIES.index(BY_PROPERTY[name])] = True
    return moved


def reference_hours(history: History, charges: Charges, evidence: np.ndarray) -> np.ndarray:
    """Oil hours at which rises are compared, (C,): the usual age of each compartment's last sample of a charge, so that a bend
    that nobody sees leans nothing there; without samples its interval, else 500."""
    comps, n = history.compartments, len(charges.comp)
    last = np.zeros(n)
    ok = history.samples.usable & ~np.isnan(charges.oil_hours) & evidence[charges.charge_of]
    np.maximum.at(last, charges.charge_of[ok], charges.oil_hours[ok])
    seen = last > 0
    total = np.bincount(charges.comp[seen], last[seen], len(comps.duty))
    count = np.bincount(charges.comp[seen], minlength=len(comps.duty))
    with np.errstate(invalid="ignore", divide="ignore"):
        usual = total / count
    interval = np.where(np.isnan(comps.interval) | (comps.interval <= 0), np.where(comps.distance, 20_000.0, 500.0), comps.interval)
    return np.where(count > 0, np.maximum(usual, 1.0), interval)


@dataclass(frozen=True)
class Paths:
    """Charges of properties, shape (H, P) unless said: ``rise`` (H, P, B) at reference hours by bend, positive towards the
    limit, ``var`` its squared error, ``misfit`` inside the charge; ``samples``, ``start``, ``start_sd``; ``bounded``: by a bound;
    ``deepest`` (C, P): longest oil hours that meters bear out at which the property was sampled, in evidence."""

    rise: np.ndarray
    var: np.ndarray
    misfit: np.ndarray
    samples: np.ndarray
    start: np.ndarray
    start_sd: np.ndarray
    bounded: np.ndarray
    deepest: np.ndarray

    def rises(self, comp: np.ndarray, include: np.ndarray) -> Rises:
        """Charges to include (H, P) as rows of groups compartment × P + property, in order of time."""
        h, j = np.nonzero(include & ~np.isnan(self.rise[:, :, 0]))
        group = comp[h] * PROPERTY_COUNT + j
        order = np.lexsort((h, group))
        h, j, group = h[order], j[order], group[order]
        return Rises(group, self.rise[h, j], self.var[h, j], self.misfit[h, j], np.maximum(self.samples[h, j] - 1, 0))


@dataclass(frozen=True)
class Refreshed:
    """Samples drawn after a part change of their charge: ``rows`` (R,) of them, ``kept`` (R,) the share of the charge's start that was still
    in the oil, ``aged`` (R, len(BENDS)) what its ageing came to, in units of the rise at reference hours."""

    rows: np.ndarray
    kept: np.ndarray
    aged: np.ndarray


def refreshed(history: History, charges: Charges, ref: np.ndarray, undone: np.ndarray) -> Refreshed:
    """What part changes took out of the ageing that samples show, of the compartments ``undone`` (C,), bool.

    Oil ages along h^p whatever is in the sump; a part change leaves a share φ = (V − out)/(V − out + in) of what had aged so far, the rest
    is new oil: the deviation from new oil is d = d₀·Πφ + k·Σ(uᵢ₊₁ᵖ − uᵢᵖ)·Πφ of the changes after it, u = h/ref.
    """
    fillings, samples = history.fillings, history.samples
    system = history.compartments.system_l[fillings.comp]
    with np.errstate(invalid="ignore", divide="ignore"):
        phi = (system - fillings.out_l) / (system - fillings.out_l + fillings.in_l)
    at = np.flatnonzero(fillings.parts & undone[fillings.comp] & (phi > 0) & (phi < 1) & np.isfinite(charges.filling_hours))
    by_charge: dict[int, list[tuple[float, float]]] = {}
    for i in at.tolist():
        by_charge.setdefault(int(charges.charge_of_filling[i]), []).append((float(charges.filling_hours[i]), float(phi[i])))
    rows = np.flatnonzero(np.isin(charges.charge_of, list(by_charge)) & (charges.oil_hours > 0))
    kept, aged = np.ones(len(rows)), np.zeros((len(rows), len(BENDS)))
    for n, i in enumerate(rows.tolist()):
        before, share = 0.0, np.zeros(len(BENDS))
        for hours, left in sorted(by_charge[int(charges.charge_of[i])]):
            if hours >= charges.oil_hours[i]:
                break
            now = hours / ref[samples.comp[i]]
            aged[n] = (aged[n] + now**BENDS - share) * left
            kept[n] *= left
            before, share = now, now**BENDS
        aged[n] += (charges.oil_hours[i] / ref[samples.comp[i]]) ** BENDS - before**BENDS
    return Refreshed(rows, kept, aged)


def paths(
    history: History, charges: Charges, read: Readings, fresh: np.ndarray, ref: np.ndarray, evidence: np.ndarray,
    undone: np.ndarray | None = None,
) -> Paths:  # fmt: skip
    """Fit every property in every charge. ``charges`` with starts as known now, ``fresh`` (C, P) new oil in use; ``undone`` (C,), bool:
    whose part changes are taken out again, so that their oil is reckoned as it ages without them (None: nobody's)."""
    total, of, h = len(charges.comp), charges.charge_of, charges.oil_hours
    start = property_values(charges.start)
    start_sd = np.stack([np.sqrt(sum(charges.start_sd[:, INDEX[k]] ** 2 for k in (p.measurand, p.less) if k)) for p in PROPERTIES], axis=1)
    start_sd = np.hypot(start_sd, BATCH_SPREAD * np.abs(np.nan_to_num(fresh[charges.comp])))
    shape = (total, PROPERTY_COUNT, len(BENDS))
    rise, var, misfit = np.full(shape, np.nan), np.full(shape, np.nan), np.zeros(shape)
    samples, bounded = np.zeros(shape[:2], dtype=int), np.zeros(shape[:2], dtype=bool)
    deepest = np.full((len(history.compartments.duty), PROPERTY_COUNT), -np.inf)
    none = np.zeros(len(history.compartments.duty), dtype=bool)
    part = refreshed(history, charges, ref, none if undone is None else undone)
    after = np.full(len(h), -1)
    after[part.rows] = np.arange(len(part.rows))
    for j in range(PROPERTY_COUNT):
        there = read.counts[:, j] & (h > 0)
        deep = np.flatnonzero(there & charges.metered & evidence[of])
        np.maximum.at(deepest[:, j], history.samples.comp[deep], h[deep])
        rows = np.flatnonzero(there & ~np.isnan(start[of, j]))
        exact = rows[~read.bound[rows, j]]
        samples[:, j] = np.bincount(of[exact], minlength=total)
        c = of[exact]
        share = h[exact] / ref[charges.comp[c]]
        a, origin, at = _origin(part, after[exact], start[c, j], fresh[charges.comp[c], j])
        r = SIGNS[j] * (read.value[exact, j] - origin)
        w = 1 / np.maximum(read.sd[exact, j], 1e-6) ** 2
        held = np.bincount(c, w * a * a, total) + 1 / np.maximum(start_sd[:, j], 1e-6) ** 2
        left = np.bincount(c, w * a * r, total)
        squares = np.bincount(c, w * r * r, total)
        for b, p in enumerate(BENDS):
            u = share**p
            if len(part.rows):
                u = np.where(at >= 0, part.aged[at, b], u)
            wu = np.bincount(c, w * a * u, total)
            with np.errstate(invalid="ignore", divide="ignore"):
                info = np.bincount(c, w * u * u, total) - wu**2 / held
                k = (np.bincount(c, w * u * r, total) - wu * left / held) / info
                told = (samples[:, j] > 0) & (info > 0)
                rise[:, j, b] = np.where(told, k, np.nan)
                var[:, j, b] = np.where(told, 1 / info, np.nan)
                misfit[:, j, b] = np.where(told, np.maximum(squares - left**2 / held - k**2 * info, 0), 0.0)
        bound = rows[read.bound[rows, j]]
        _, origin, at = _origin(part, after[bound], start[of[bound], j], fresh[charges.comp[of[bound]], j])
        hours = (h[bound] / ref[charges.comp[of[bound]]])[:, None] ** BENDS
        if len(part.rows):
            hours = np.where(at[:, None] >= 0, part.aged[at], hours)
        _bounds(of[bound], SIGNS[j] * (read.value[bound, j] - origin), hours, read.sd[bound, j], start_sd[of[bound], j], j, rise, var,
                bounded, samples)  # fmt: skip
    return Paths(rise, var, misfit, samples, start, start_sd, bounded, np.where(np.isfinite(deepest), deepest, np.nan))


def _origin(part: Refreshed, after: np.ndarray, start: np.ndarray, new: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(share of the start that is left, what the value would be without ageing, place in ``part``, −1 none) of samples; ``after`` their place
    there, ``start`` of their charge, ``new`` oil: nobody knows what took the place of the rest where that is not known."""
    if not len(part.rows):
        return np.ones(len(after)), start, after
    at = np.where(np.isnan(new), -1, after)
    kept = np.where(at >= 0, part.kept[at], 1.0)
    return kept, np.where(at >= 0, new + kept * (start - new), start), at


def _bounds(
    charge: np.ndarray, beyond: np.ndarray, hours: np.ndarray, sd: np.ndarray, start_sd: np.ndarray, j: int, rise: np.ndarray,
    var: np.ndarray, bounded: np.ndarray, samples: np.ndarray,
) -> None:  # fmt: skip
    """Bounds on the limit's side: a charge rises at least so steeply. In place. ``beyond`` and ``hours`` (rows, B): how far each lies from
    where its charge began, and its ageing in units of the rise at reference hours."""
    for i, c in enumerate(charge.tolist()):
        for b in range(len(BENDS)):
            u = hours[i, b]
            k = beyond[i] / u
            if np.isnan(rise[c, j, b]) or k > rise[c, j, b]:
                rise[c, j, b], var[c, j, b] = k, (sd[i] ** 2 + start_sd[i] ** 2) / u**2
                bounded[c, j] = True
        samples[c, j] = max(samples[c, j], 1)
