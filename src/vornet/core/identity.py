"""Which oil is it? Non-negative shares of known oils that best explain a sample's additives."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from vornet.core.errors import InputError
from vornet.core.precision import START, PrecisionTable

ADDITIVES = ("ca", "mg", "zn", "p", "b", "mo", "ba", "s")
#: weight of the row that holds the shares' sum to one, and the fewest additives that tell oils apart
_SUM_WEIGHT, FEWEST = 1e4, 2
#: at most this many oils explain a sample; a share below this is noise
MOST_OILS, LEAST_SHARE = 3, 0.005


#: one more oil must lessen the squared misfit (in standard deviations) by this; common practice, no source
NEXT_OIL = 9.0
#: pairs that a third oil is tried beside
_TRIED_BESIDE = 12


def _few_oils(
    a: np.ndarray, y: np.ndarray, solve: Callable[[list[int]], tuple[np.ndarray, float]], declared: int | None
) -> tuple[list[int], np.ndarray, float]:
    """(oils, shares, squared misfit): the fewest that explain y (K,) out of the columns of a (K, oils)."""
    count = a.shape[1]

    def better(x: float, y: float, more: int) -> bool:
        return x < y - NEXT_OIL * more

    single = ((a - y[:, None]) ** 2).sum(axis=0)
    if declared is not None:
        single[declared] -= NEXT_OIL
    one = int(np.argmin(single))
    best, (shares, square) = [one], solve([one])
    if count > 1:
        i, j = np.triu_indices(count, 1)
        apart = a[:, i] - a[:, j]
        norm = (apart**2).sum(axis=0)
        with np.errstate(invalid="ignore", divide="ignore"):
            share = np.clip(np.where(norm > 0, ((y[:, None] - a[:, j]) * apart).sum(axis=0) / norm, 0.5), 0, 1)
        misfit = ((a[:, j] + share * apart - y[:, None]) ** 2).sum(axis=0)
        if declared is not None:
            misfit -= np.where((i == declared) | (j == declared), NEXT_OIL, 0.0)
        order = np.argsort(misfit, kind="stable")
        pair = [int(i[order[0]]), int(j[order[0]])]
        x, found = solve(pair)
        if better(found, square, 1):
            best, shares, square = pair, x, found
        if count > 2 and len(y) > 2:
            beside = {tuple(sorted((int(i[p]), int(j[p]), k))) for p in order[:_TRIED_BESIDE] for k in range(count) if k not in (i[p], j[p])}
            three = min(((*solve(list(t)), list(t)) for t in beside), key=lambda f: f[1] - (NEXT_OIL if declared in f[2] else 0.0))
            if better(three[1], square, 3 - len(best)):
                best, shares, square = three[2], three[0], three[1]
    return best, shares, square


@dataclass(frozen=True)
class Identity:
    """``shares`` (name, share) largest first; ``residual`` root mean square of misfits in standard deviations;
    ``runner_up`` the best other single oil with its residual."""

    shares: tuple[tuple[str, float], ...]
    residual: float
    runner_up: tuple[str, float] | None


def identify(
    sample: Mapping[str, float],
    oils: Sequence[tuple[str, Mapping[str, float]]],
    without: Sequence[str] = (),
    precision: PrecisionTable = START,
    declared: str | None = None,
) -> Identity:
    """Solve for the shares of ``oils`` in ``sample`` (mg/kg), every additive scaled by its precision.

    Every single oil and every pair is tried, and a third beside the best pairs, so that a long list hides nobody; one more
    oil is taken only when it explains so much more (NEXT_OIL). ``declared``, which should be in there, is preferred where
    the difference cannot be told.

    Additives that the sample or any oil lacks, and those in ``without`` (explained by salt, dirt or wear),
    are left out. Source: non-negative least squares (Lawson & Hanson 1974).

    >>> a, b = {"ca": 2400, "zn": 1200, "p": 1050}, {"ca": 20, "zn": 30, "p": 1350}
    >>> [(n, round(s, 2)) for n, s in identify({"ca": 1924, "zn": 966, "p": 1110}, [("A", a), ("B", b)]).shares]
    [('A', 0.8), ('B', 0.2)]
    """
    from scipy.optimize import nnls

    if not oils:
        raise InputError("oils", "at least one oil is needed")
    names = [name for name, _ in oils]
    if len(set(names)) < len(names):
        raise InputError("oils", "two oils have one name")
    keys = [k for k in ADDITIVES if k in sample and k not in without and all(k in v for _, v in oils)]
    if len(keys) < FEWEST:
        raise InputError("sample", f"at least {FEWEST} additives that the sample and every oil give are needed ({', '.join(ADDITIVES)})")
    target = np.array([sample[k] for k in keys], float)
    sd = np.array([precision.standard_deviation(k, sample[k]) for k in keys])
    matrix = np.array([[v[k] for _, v in oils] for k in keys], float)

    a, y = matrix / sd[:, None], target / sd

    def solve(columns: list[int]) -> tuple[np.ndarray, float]:
        x, _ = nnls(np.vstack([a[:, columns], np.full(len(columns), _SUM_WEIGHT)]), np.append(y, _SUM_WEIGHT))
        x = x / x.sum() if x.sum() > 0 else np.full(len(columns), 1 / len(columns))
        return x, float(((a[:, columns] @ x - y) ** 2).sum())

    best, shares, square = _few_oils(a, y, solve, [n == declared for n in names].index(True) if declared in names else None)
    residual = math.sqrt(square / len(keys))
    found = sorted(((names[i], float(s)) for i, s in zip(best, shares, strict=True) if s > LEAST_SHARE), key=lambda pair: -pair[1])
    total = sum(s for _, s in found)
    others = [(names[i], math.sqrt(solve([i])[1] / len(keys))) for i in range(len(oils)) if names[i] != found[0][0]]
    return Identity(tuple((n, s / total) for n, s in found), residual, min(others, key=lambda o: o[1]) if others else None)
