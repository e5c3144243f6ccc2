"""What litres poured and levels read say about a compartment: refill capacity and the volume between the marks.

A level reading is 0 at MIN and 1 at MAX. Every estimate carries its 95 % band (Student t); a figure of the
register is doubted only when it lies outside the band and the difference would be seen on the dipstick.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

#: pourings a capacity needs before it is spoken of, top-ups with both levels read for the marks
FEWEST = 3
#: a difference smaller than this share, or this many litres, is not worth a word; common practice, no source
NOTICEABLE_SHARE, NOTICEABLE_L = 0.03, 0.2


@dataclass(frozen=True)
class Estimate:
    """``value`` with its 95 % band ``low``–``high`` (L) from ``n`` observations."""

    value: float
    low: float
    high: float
    n: int


@dataclass(frozen=True)
class Pouring:
    """A refill: litres in, the level found after it (None: taken as at MAX), whether the filter was changed."""

    litres: float
    reading_after: float | None = None
    filter_changed: bool | None = True


@dataclass(frozen=True)
class ToppedUp:
    """A top-up with the level read before and after it."""

    litres: float
    reading_before: float
    reading_after: float


@dataclass(frozen=True)
class Doubt:
    """A register figure that what was measured speaks against, with the figure proposed instead."""

    field: str
    said: float | None
    learned: Estimate


def _t(dof: int) -> float:
    from scipy import special

    return float(special.stdtrit(dof, 0.975))


def between_marks(top_ups: Sequence[ToppedUp]) -> Estimate | None:
    """Volume between the marks (L): litres against change of reading, a line through the origin.

    V = Σ l·Δr / Σ Δr², standard error from the residuals with n − 1 degrees of freedom. Top-ups that moved
    the level by less than a tenth tell nothing and are left out. None below ``FEWEST``.

    >>> between_marks([ToppedUp(1.0, 0.0, 0.5), ToppedUp(2.1, 0.0, 1.0), ToppedUp(0.9, 0.5, 1.0)]).value
    2.0333333333333337
    """
    change = np.array([t.reading_after - t.reading_before for t in top_ups], float)
    litres = np.array([t.litres for t in top_ups], float)
    told = change >= 0.1
    change, litres = change[told], litres[told]
    n = len(change)
    if n < FEWEST:
        return None
    weight = float(change @ change)
    value = float(change @ litres) / weight
    rest = litres - value * change
    reach = _t(n - 1) * float(np.sqrt(rest @ rest / (n - 1) / weight))
    return Estimate(value, max(value - reach, 0.0), value + reach, n)


def capacity(pourings: Sequence[Pouring], between_marks_l: float | None, with_filter: bool) -> Estimate | None:
    """Refill capacity to MAX (L): mean of litres in, each made up by what its level says was still missing.

    Only refills with (or without) a filter change; one far from the others (beyond 5 robust standard
    deviations) is a slip of the pen and left out. None below ``FEWEST``.
    """
    got = []
    for p in pourings:
        if p.filter_changed is None or p.filter_changed != with_filter:
            continue
        missing = 0.0
        if p.reading_after is not None:
            if between_marks_l is None:
                continue
            missing = (1 - p.reading_after) * between_marks_l
        got.append(p.litres + missing)
    x = np.array(got, float)
    if len(x) >= 5:
        spread = 1.4826 * float(np.median(np.abs(x - np.median(x))))
        x = x[np.abs(x - np.median(x)) <= 5 * max(spread, 0.01 * float(np.median(x)))]
    n = len(x)
    if n < FEWEST:
        return None
    reach = _t(n - 1) * float(x.std(ddof=1)) / np.sqrt(n)
    value = float(x.mean())
    return Estimate(value, max(value - reach, 0.0), value + reach, n)


def doubts(
    capacity_l: float | None,
    capacity_without_filter_l: float | None,
    between_marks_l: float | None,
    pourings: Sequence[Pouring],
    top_ups: Sequence[ToppedUp],
) -> list[Doubt]:
    """Figures of the register that the measurements speak against, or that it lacks and they give."""
    marks = between_marks(top_ups)
    scale = marks.value if marks else between_marks_l
    found = (
        ("volume_between_marks_l", between_marks_l, marks),
        ("capacity_l", capacity_l, capacity(pourings, scale, True)),
        ("capacity_without_filter_l", capacity_without_filter_l, capacity(pourings, scale, False)),
    )
    return [
        Doubt(field, said, estimate) for field, said, estimate in found
        if estimate is not None and (said is None or _speaks_against(said, estimate))
    ]  # fmt: skip


def _speaks_against(said: float, estimate: Estimate) -> bool:
    apart = abs(said - estimate.value)
    noticeable = max(NOTICEABLE_SHARE * estimate.value, min(NOTICEABLE_L, 0.2 * estimate.value))
    return not estimate.low <= said <= estimate.high and apart > noticeable
