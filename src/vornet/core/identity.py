"""Which oil is it? Non-negative shares of known oils that best explain a sample's additives."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from vornet.core.errors import InputError
from vornet.core.precision import START, PrecisionTable

ADDITIVES = ("ca", "mg", "zn", "p", "b", "mo", "ba", "s")
#: weight of the row that holds the shares' sum to one, and the fewest additives that tell oils apart
_SUM_WEIGHT, FEWEST = 1e4, 2
#: at most this many oils explain a sample; a share below this is noise
MOST_OILS, LEAST_SHARE = 3, 0.005


@dataclass(frozen=True)
class Identity:
    """``shares`` (name, share) largest first; ``residual`` root mean square of misfits in standard deviations;
    ``runner_up`` the best other single oil with its residual."""

    shares: tuple[tuple[str, float], ...]
    residual: float
    runner_up: tuple[str, float] | None


def identify(
    sample: Mapping[str, float], oils: Sequence[tuple[str, Mapping[str, float]]], without: Sequence[str] = (),
    precision: PrecisionTable = START,
) -> Identity:
    """Solve for the shares of ``oils`` in ``sample`` (mg/kg), every additive scaled by its precision.

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

    def solve(columns: list[int]) -> tuple[np.ndarray, float]:
        a = np.vstack([matrix[:, columns] / sd[:, None], np.full(len(columns), _SUM_WEIGHT)])
        x, _ = nnls(a, np.append(target / sd, _SUM_WEIGHT))
        x = x / x.sum() if x.sum() > 0 else np.full(len(columns), 1 / len(columns))
        misfit = (matrix[:, columns] @ x - target) / sd
        return x, float(np.sqrt(np.mean(misfit**2)))

    every = list(range(len(oils)))
    shares, _ = solve(every)
    best = [i for i in sorted(every, key=lambda i: -shares[i]) if shares[i] > LEAST_SHARE][:MOST_OILS] or [0]
    shares, residual = solve(best)
    found = sorted(
        ((names[i], float(s)) for i, s in zip(best, shares, strict=True) if s > LEAST_SHARE), key=lambda pair: -pair[1]
    )
    total = sum(s for _, s in found)
    others = [(names[i], solve([i])[1]) for i in every if names[i] != found[0][0]]
    return Identity(tuple((n, s / total) for n, s in found), residual, min(others, key=lambda o: o[1]) if others else None)
