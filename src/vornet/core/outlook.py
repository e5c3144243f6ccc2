"""The chance that a property is past its limit after T oil hours: one function for guards, picture, money and trial alike.

Every charge of a compartment gives a rise k at reference hours with its error, along y − y₀ = k·(h/ref)^p. Charges of one
compartment scatter about its mean by τ, and nobody knows p, τ or the lab's true noise for sure: all three are integrated over a
grid by how well they explain the charges (within charges for p and the noise, between charges for τ), a half-normal prior on
τ in shares of the rise (never below LEAST_SPREAD of it). The compartment's own charges count in full, the others of its family with at
most FAMILY_WEIGHT degrees of freedom, each charge once. A late change of pace is one more possibility beside no change: the
last two or three charges about a mean of their own, by their Bayes factor, and alone once they differ by DRIFT_SD.

Rises are positive towards the limit. Hours stand for km where a compartment counts distance. Sources: restricted likelihood
(Harville 1977), half-normal prior on a spread (Gelman 2006); the grid, its prior widths and caps are chosen, see
docs/method.md, and held to by simulation.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from vornet.core.history import CHARGE_SPREAD

#: powers of oil hours tried; what accelerates takes the cautious prior, what does not the narrow one (half-normal widths)
BENDS = np.array([1.0, 1.3, 1.6, 2.0, 2.5])
CAUTIOUS_BEND, USUAL_BEND = 0.8, 0.2
#: for shortening a bend that nobody has seen is feared less
MILD_BEND = 0.4
#: between-charge spread tried, in shares of the rise; CHARGE_SPREAD is the width of its half-normal prior
SPREADS = np.array([0.05, 0.09, 0.15, 0.24, 0.38, 0.6])
LEAST_SPREAD = 0.05
#: the lab's true noise against the precision assumed, tried
NOISES = np.array([1.0, 0.5])
#: the other charges of a family count at most like this many degrees of freedom of one's own spread
FAMILY_WEIGHT = 24.0
#: a late change of pace: chance beforehand of each place it may have begun, its size in shares of the rise, charges that show it
DRIFT_PRIOR, DRIFT_SIZE, DRIFT_LAST, DRIFT_EARLIER = 0.2, 0.35, (2, 3), 2
#: beyond this the recent charges alone decide, standard deviations
DRIFT_SD = 2.2
#: of a rise nobody knows here yet: it differs from the family's by this share, where fewer than three compartments tell
UNLIKE = 0.3
#: hours looked at, as multiples of the reference: beyond the last, never within reach
NEAREST, FARTHEST = 0.01, 20.0


@dataclass(frozen=True)
class Rises:
    """Charges of groups (a compartment's property), rows in order of group, then time. Shape (E,) or (E, len(BENDS)).

    ``rise`` at reference hours, ``var`` its squared error, ``misfit`` what is left of the charge's own samples in squared
    standard deviations, ``free`` samples less one.
    """

    group: np.ndarray
    rise: np.ndarray
    var: np.ndarray
    misfit: np.ndarray
    free: np.ndarray


@dataclass(frozen=True)
class Outlook:
    """What the next charge of each group may do: a mixture over K parts, bends × spreads without a late change, bends with one.

    Shape (G, K): ``weight``, ``mean`` and ``mean_var`` of the rise at reference hours, ``spread_var`` between charges; ``bend``
    (K,) or (G, K). ``n`` (G,) charges; ``told`` (G,) False where no spread can be told or borrowed; ``borrowed`` (G,): the family's
    charges alone; ``drifted`` (G,): the last charges decide, and by how much they rise faster (``pace``).
    """

    weight: np.ndarray
    mean: np.ndarray
    mean_var: np.ndarray
    spread_var: np.ndarray
    bend: np.ndarray
    n: np.ndarray
    told: np.ndarray
    borrowed: np.ndarray
    drifted: np.ndarray
    pace: np.ndarray

    def moments(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """(mean rise, between-charge sd, standard error of the mean, bend) of each group, (G,)."""
        mean = (self.weight * self.mean).sum(axis=1)
        between = np.sqrt((self.weight * self.spread_var).sum(axis=1))
        error = np.sqrt((self.weight * (self.mean_var + (self.mean - mean[:, None]) ** 2)).sum(axis=1))
        return mean, between, error, (self.weight * self.bend).sum(axis=1)

    def mildly(self, cautious: np.ndarray) -> Outlook:
        """The same had bends been feared less beforehand, where they were feared much (``cautious``: (G,) bool)."""
        b = np.broadcast_to(self.bend, self.weight.shape) - 1
        lean = np.where(cautious[:, None], np.exp(-0.5 * b**2 * (MILD_BEND**-2 - CAUTIOUS_BEND**-2)), 1.0)
        weight = self.weight * lean
        return replace(self, weight=weight / weight.sum(axis=1, keepdims=True))

    def of(self, rows: np.ndarray) -> Outlook:
        """Some groups of it."""
        bend = self.bend if self.bend.ndim == 1 else self.bend[rows]
        return Outlook(
            self.weight[rows], self.mean[rows], self.mean_var[rows], self.spread_var[rows], bend, self.n[rows], self.told[rows],
            self.borrowed[rows], self.drifted[rows], self.pace[rows],
        )  # fmt: skip


def _prior(cautious: np.ndarray) -> np.ndarray:
    """Log prior of the bends, (G, len(BENDS))."""
    width = np.where(cautious, CAUTIOUS_BEND, USUAL_BEND)[:, None]
    log = -0.5 * ((BENDS - 1) / width) ** 2
    return np.asarray(log - np.log(np.exp(log).sum(axis=1, keepdims=True)))


def _spread_prior() -> np.ndarray:
    """Log prior of the spreads, (len(SPREADS),): half-normal density times the width of each cell."""
    edges = np.r_[0.0, 0.5 * (SPREADS[1:] + SPREADS[:-1]), SPREADS[-1] * 1.25]
    mass = np.exp(-0.5 * (SPREADS / CHARGE_SPREAD) ** 2) * np.diff(edges)
    return np.asarray(np.log(mass / mass.sum()))


def _sums(group: np.ndarray, groups: int, w: np.ndarray, k: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    return np.bincount(group, w, groups), np.bincount(group, w * k, groups)


def _scales(r: Rises, b: int, groups: int, family: np.ndarray, families: int) -> np.ndarray:
    """What a share of the rise is a share of, (G,): the compartment's own mean rise, not less than half of its family's, nor
    than twice the scatter that errors do not explain."""
    k, v = r.rise[:, b], np.maximum(r.var[:, b], 1e-30)
    n = np.bincount(r.group, minlength=groups)
    s0, s1 = _sums(r.group, groups, 1 / v, k)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.where(s0 > 0, s1 / s0, 0.0)
        q = np.bincount(r.group, (k - mean[r.group]) ** 2 / v, groups)
        s00 = np.bincount(r.group, 1 / v**2, groups)
        scatter = np.where(n > 1, np.maximum(q - (n - 1), 0) / (s0 - s00 / s0), 0.0)
        usual = np.bincount(family, np.abs(mean) * n, families) / np.maximum(np.bincount(family, n, families), 1)
    return np.asarray(np.maximum(np.maximum(np.abs(mean), 0.5 * usual[family]), 2 * np.sqrt(np.nan_to_num(scatter))) + 1e-12)


def fit(rises: Rises, family: np.ndarray, families: int, cautious: np.ndarray) -> Outlook:
    """The outlook of every group. ``family`` (G,): which groups share their spread and their bend, in 0 … ``families`` − 1;
    ``cautious`` (G,): the property accelerates, as far as anybody knows beforehand."""
    groups, r = len(family), rises
    g, n = r.group, np.bincount(r.group, minlength=groups)
    shape = (len(BENDS), len(SPREADS), len(NOISES), groups)
    own, mean, var = np.zeros(shape), np.zeros(shape), np.zeros(shape)
    late, late_mean, late_var = (np.full((len(BENDS), len(SPREADS), groups), x) for x in (-np.inf, 0.0, 0.0))
    within, spread_var = np.zeros((len(BENDS), len(NOISES), groups)), np.zeros((len(BENDS), len(SPREADS), groups))
    first = np.searchsorted(g, np.arange(groups))
    from_end = first[g] + n[g] - 1 - np.arange(len(g))
    lasts = [(from_end < last) for last in DRIFT_LAST]
    may = [n >= last + DRIFT_EARLIER for last in DRIFT_LAST]
    clear, pace = np.zeros(groups), np.ones(groups)
    scale_at = np.zeros((len(BENDS), groups))
    for b in range(len(BENDS)):
        k, v0 = r.rise[:, b], np.maximum(r.var[:, b], 1e-30)
        scale = scale_at[b] = _scales(r, b, groups, family, families)
        for j, noise in enumerate(NOISES):
            within[b, j] = np.bincount(g, -0.5 * r.misfit[:, b] / noise**2 - r.free * np.log(noise) + 0.5 * np.log(v0), groups)
        for s, share in enumerate(SPREADS):
            spread_var[b, s] = (share * scale) ** 2
            for j, noise in enumerate(NOISES):
                w = 1 / (spread_var[b, s][g] + noise**2 * v0)
                s0, s1 = _sums(g, groups, w, k)
                with np.errstate(invalid="ignore", divide="ignore"):
                    m = np.where(s0 > 0, s1 / s0, 0.0)
                    mean[b, s, j], var[b, s, j] = m, np.where(s0 > 0, 1 / s0, 0.0)
                    own[b, s, j] = 0.5 * (np.bincount(g, np.log(w) - w * (k - m[g]) ** 2, groups) - np.where(s0 > 0, np.log(s0), 0.0))
                if j == 0:  # with a better lab it hardly differs
                    _late(late, late_mean, late_var, (b, s), s0, s1, w, k, g, lasts, may, scale)
                if j == 0 and s == 1 and b == 0:
                    clear, pace = _plain_drift(s0, s1, w, k, g, lasts, may)
    drifted = clear > DRIFT_SD
    weight = _weights(own, late, within, n, family, families, cautious, drifted)
    # the lab's noise is put together again: its means hardly differ
    total = weight.sum(axis=3)  # (2, B, S, G)
    means, vars_ = (np.stack([x, np.broadcast_to(y[:, :, None], shape)]) for x, y in ((mean, late_mean), (var, late_var)))
    with np.errstate(invalid="ignore", divide="ignore"):
        m = np.where(total > 0, (weight * means).sum(axis=3) / total, mean[None, :, :, 0])
        v = np.where(total > 0, (weight * (vars_ + (means - m[:, :, :, None]) ** 2)).sum(axis=3) / total, var[None, :, :, 0])
    free = np.maximum(n - 1, 0)
    family_free = np.bincount(family, free, families)[family]
    told = (n > 0) & (family_free > 0)
    late_parts = _together(total[1], m[1], v[1], spread_var)
    parts = [
        np.concatenate([x.reshape(-1, groups), y]).T
        for x, y in zip((total[0], m[0], v[0], spread_var), late_parts, strict=True)
    ]  # fmt: skip
    weight, mean_, var_, tau = (np.ascontiguousarray(x) for x in parts)
    bend = np.concatenate([np.repeat(BENDS, len(SPREADS)), BENDS])
    out = Outlook(weight, mean_, var_, tau, bend, n, told, np.zeros(groups, dtype=bool), drifted, pace)
    return _with_borrowed(out, family, family_free)


def _together(total: np.ndarray, m: np.ndarray, v: np.ndarray, tau2: np.ndarray) -> tuple[np.ndarray, ...]:
    """Parts (B, S, G) put together over the spreads by their moments: (weight, mean, its variance, spread's variance), (B, G)."""
    weight = total.sum(axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        share = np.where(weight[:, None] > 0, total / weight[:, None], 1 / len(SPREADS))
    mean = (share * m).sum(axis=1)
    return weight, mean, (share * (v + (m - mean[:, None]) ** 2)).sum(axis=1), (share * tau2).sum(axis=1)


def _late(
    late: np.ndarray, late_mean: np.ndarray, late_var: np.ndarray, at: tuple[int, int], s0: np.ndarray, s1: np.ndarray, w: np.ndarray,
    k: np.ndarray, g: np.ndarray, lasts: list[np.ndarray], may: list[np.ndarray], scale: np.ndarray,
) -> None:  # fmt: skip
    """How likely a late change of pace is beside none, and what the recent charges' mean would be; in place, at one node."""
    size = (DRIFT_SIZE * scale) ** 2
    best, weights = [], []
    for recent, able in zip(lasts, may, strict=True):
        if not able.any():
            continue
        r0, r1 = _sums(g[recent], len(s0), w[recent], k[recent])
        e0, e1 = s0 - r0, s1 - r1
        with np.errstate(invalid="ignore", divide="ignore"):
            before, now = e1 / e0, r1 / r0
            apart, v = now - before, 1 / e0 + 1 / r0
            factor = 0.5 * np.log(v / (v + size)) + 0.5 * apart**2 * (1 / v - 1 / (v + size)) + np.log(2 * DRIFT_PRIOR)
            # only towards the limit: what got slower may do so once, what got faster must be believed
            factor = np.where(able & (apart > 0), factor, -np.inf)
            prior = 1 / e0 + size
            gain = prior / (prior + 1 / r0)
        best.append((before + gain * apart, gain / r0))
        weights.append(factor)
    if not weights:
        return
    top = np.logaddexp.reduce(weights, axis=0)
    with np.errstate(invalid="ignore"):
        share = [np.where(np.isfinite(x), np.exp(x - top), 0.0) for x in weights]
    m = sum(np.where(p > 0, p * x, 0.0) for p, (x, _) in zip(share, best, strict=True))
    v = sum(np.where(p > 0, p * (y + (x - m) ** 2), 0.0) for p, (x, y) in zip(share, best, strict=True))
    late[at], late_mean[at], late_var[at] = top, m, v


def _plain_drift(
    s0: np.ndarray, s1: np.ndarray, w: np.ndarray, k: np.ndarray, g: np.ndarray, lasts: list[np.ndarray], may: list[np.ndarray]
) -> tuple[np.ndarray, np.ndarray]:
    """(standard deviations by which the last charges rise faster than those before, by what factor), (G,)."""
    clear, pace = np.zeros(len(s0)), np.ones(len(s0))
    for recent, able in zip(lasts, may, strict=True):
        r0, r1 = _sums(g[recent], len(s0), w[recent], k[recent])
        e0, e1 = s0 - r0, s1 - r1
        with np.errstate(invalid="ignore", divide="ignore"):
            z = np.where(able, (r1 / r0 - e1 / e0) / np.sqrt(1 / e0 + 1 / r0), 0.0)
            ratio = (r1 / r0) / (e1 / e0)
        pace = np.where(z > clear, ratio, pace)
        clear = np.maximum(clear, np.nan_to_num(z))
    return clear, pace


def _weights(
    own: np.ndarray, late: np.ndarray, within: np.ndarray, n: np.ndarray, family: np.ndarray, families: int, cautious: np.ndarray,
    drifted: np.ndarray,
) -> np.ndarray:  # fmt: skip
    """Posterior of (no change, late change) × bends × spreads × noises, (2, B, S, N, G)."""
    free = np.maximum(n - 1, 0)
    alone = np.where(free > 0, own, 0.0)  # of one charge nothing is told

    def over_family(x: np.ndarray) -> np.ndarray:
        flat = x.reshape(-1, x.shape[-1])
        return np.stack([np.bincount(family, row, families)[family] for row in flat]).reshape(x.shape)

    others = over_family(alone) - alone
    other_free = np.maximum(np.bincount(family, free, families)[family] - free, 0)
    tempered = np.minimum(1.0, FAMILY_WEIGHT / np.maximum(other_free, 1e-9))
    log = (
        _prior(cautious).T[:, None, None, :] + _spread_prior()[None, :, None, None] + others * tempered
        + over_family(within)[:, None, :, :]
    )  # fmt: skip
    both = np.stack([alone + log, alone + log + late[:, :, None]])
    both[0] = np.where(drifted & np.isfinite(late).any(axis=(0, 1)), -np.inf, both[0])
    both -= both.max(axis=(0, 1, 2, 3), keepdims=True)
    weight = np.exp(both)
    return np.asarray(weight / weight.sum(axis=(0, 1, 2, 3), keepdims=True))


def _with_borrowed(out: Outlook, family: np.ndarray, family_free: np.ndarray) -> Outlook:
    """Groups without a charge of their own borrow the family's mean, with what compartments of a family differ by."""
    lacking = np.flatnonzero((out.n == 0) & (family_free > 0))
    if not len(lacking):
        return out
    has = np.flatnonzero(out.n > 0)
    mean, _, error, _ = out.moments()
    weight, means, variances, spread = (x.copy() for x in (out.weight, out.mean, out.mean_var, out.spread_var))
    told, borrowed = out.told.copy(), out.borrowed.copy()
    for f in np.unique(family[lacking]):
        some = has[family[has] == f]
        mine = lacking[family[lacking] == f]
        between = np.var(mean[some], ddof=1) - np.mean(error[some] ** 2) if len(some) >= 3 else 0.0
        least = (UNLIKE if len(some) < 3 else 0.15) * abs(mean[some].mean())
        unlike = max(between, least**2)
        weight[mine] = out.weight[some].mean(axis=0)
        m = out.mean[some].mean(axis=0)
        means[mine], variances[mine] = m, unlike * (1 + 1 / len(some)) + out.mean_var[some].mean(axis=0) / len(some)
        spread[mine] = out.spread_var[some].mean(axis=0)
        told[mine], borrowed[mine] = True, True
    return Outlook(weight, means, variances, spread, out.bend, out.n, told, borrowed, out.drifted, out.pace)


@dataclass(frozen=True)
class Standing:
    """An interval kept for good, of G groups: ``margin`` (G,) from new oil to the limit, ``new_var`` squared error of that
    new oil, ``share`` left behind at each drain, ``ref`` reference hours."""

    outlook: Outlook
    margin: np.ndarray
    new_var: np.ndarray
    share: np.ndarray
    ref: np.ndarray

    def of(self, rows: np.ndarray) -> Standing:
        """Some groups of it."""
        return Standing(self.outlook.of(rows), self.margin[rows], self.new_var[rows], self.share[rows], self.ref[rows])

    def chance(self, hours: np.ndarray) -> np.ndarray:
        """Chance of being past the limit at the end of charges of ``hours`` (G,), carry-over included: a charge starts where
        those before it ended, so it ends at k·u/(1 − f), u = (T/ref)^p, and scatters by τ·u/√(1 − f²)."""
        middle, var = self._parts(hours)
        return _past(self.outlook.weight, middle, var, self.margin)

    def rise(self, hours: np.ndarray, share: float) -> np.ndarray:
        """The rise above new oil that a ``share`` of charges of ``hours`` (G,) stay below, (G,); by the same reckoning as the chance."""
        from scipy import special

        middle, var = self._parts(hours)
        sd = np.sqrt(np.maximum(var, 1e-30))
        low, high = (middle - 9 * sd).min(axis=1), (middle + 9 * sd).max(axis=1)
        for _ in range(24):  # to a ten-millionth of the spread
            at = 0.5 * (low + high)
            below = (self.outlook.weight * special.ndtr((at[:, None] - middle) / sd)).sum(axis=1) < share
            low, high = np.where(below, at, low), np.where(below, high, at)
        return np.asarray(0.5 * (low + high))

    def _parts(self, hours: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(middle, variance) of the rise in each part of the mixture, (G, K)."""
        o, f = self.outlook, self.share[:, None]
        u = (hours / self.ref)[:, None] ** o.bend
        middle = o.mean * u / (1 - f)
        # an error of the new oil leans the rises the other way: it cancels at the hours sampled, and grows beyond
        new_var = self.new_var[:, None] * np.maximum(u, np.abs(1 - u)) ** 2
        return middle, o.spread_var * u**2 / (1 - f**2) + o.mean_var * (u / (1 - f)) ** 2 + new_var


@dataclass(frozen=True)
class Running:
    """The running charge of G groups: ``margin`` from its own start to the limit, ``start_var``, its own rise so far and
    that rise's squared error (NaN: none yet)."""

    outlook: Outlook
    margin: np.ndarray
    start_var: np.ndarray
    rise: np.ndarray
    rise_var: np.ndarray
    ref: np.ndarray

    def of(self, rows: np.ndarray) -> Running:
        """Some groups of it."""
        return Running(self.outlook.of(rows), self.margin[rows], self.start_var[rows], self.rise[rows], self.rise_var[rows], self.ref[rows])

    def _drawn(self) -> tuple[np.ndarray, np.ndarray]:
        o = self.outlook
        known = ~np.isnan(self.rise)[:, None]
        with np.errstate(invalid="ignore", divide="ignore"):
            w = np.where(known, o.spread_var / (o.spread_var + np.nan_to_num(self.rise_var)[:, None]), 0.0)
        mean = w * np.nan_to_num(self.rise)[:, None] + (1 - w) * o.mean
        return mean, (1 - w) * o.spread_var + (1 - w) ** 2 * o.mean_var

    def chance(self, hours: np.ndarray) -> np.ndarray:
        """Chance of being past the limit once this charge has run ``hours`` (G,)."""
        mean, var = self._drawn()
        u = (hours / self.ref)[:, None] ** self.outlook.bend
        return _past(self.outlook.weight, mean * u, var * u**2 + self.start_var[:, None], self.margin)

    def moments(self) -> tuple[np.ndarray, np.ndarray]:
        """(mean rise, its standard deviation) of this charge at reference hours, (G,)."""
        mean, var = self._drawn()
        weight = self.outlook.weight
        middle = (weight * mean).sum(axis=1)
        return middle, np.sqrt((weight * (var + (mean - middle[:, None]) ** 2)).sum(axis=1))


def _past(weight: np.ndarray, middle: np.ndarray, var: np.ndarray, margin: np.ndarray) -> np.ndarray:
    from scipy import special

    with np.errstate(invalid="ignore", divide="ignore"):
        z = (middle - margin[:, None]) / np.sqrt(np.maximum(var, 1e-30))
    return np.where(margin <= 0, 1.0, (weight * special.ndtr(z)).sum(axis=1))


def any_chance(each: np.ndarray, compartment: np.ndarray, event: np.ndarray, count: int) -> np.ndarray:
    """Chance that any property of a compartment is past its limit, (count,). ``each`` (G,); properties of one ``event`` (G,)
    are one thing seen twice (base number, and base over acid number) and count once, others as independent: with properties
    that move together the answer is on the safe side."""
    events = int(event.max(initial=-1)) + 1
    wide = max(events, 1)
    most = np.zeros(count * wide)
    with np.errstate(invalid="ignore"):
        np.maximum.at(most, compartment * wide + event, each)
    return np.asarray(1 - np.prod(1 - most.reshape(count, wide), axis=1))


def hours_until(chance: Callable[[np.ndarray], np.ndarray], target: float | np.ndarray, ref: np.ndarray, rounds: int = 10) -> np.ndarray:
    """Hours (G,) at which ``chance(hours)`` reaches ``target``, by halving, then a straight line between the last two; ∞ where it
    never does within FARTHEST × ``ref``. To about 1 in 10,000."""
    low, high = NEAREST * ref, FARTHEST * ref
    under, over = chance(low), chance(high)
    never, at_once = over < target, under >= target
    for _ in range(rounds):
        middle = np.sqrt(low * high)
        here = chance(middle)
        past = here >= target
        low, high = np.where(past, low, middle), np.where(past, middle, high)
        under, over = np.where(past, under, here), np.where(past, here, over)
    with np.errstate(invalid="ignore", divide="ignore"):
        part = np.clip(np.nan_to_num((target - under) / (over - under), nan=0.5), 0, 1)
    return np.where(at_once, 0.0, np.where(never, np.inf, low * (high / low) ** part))
