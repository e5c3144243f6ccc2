"""Past which limits: every sample against the fixed limits, censored values by what they prove."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vornet.core.charges import Charges
from vornet.core.history import History, Samples
from vornet.core.limits import LimitTable
from vornet.core.measurands import COUNT, KEYS
from vornet.core.precision import LABS_APART

#: an act limit must be passed by this many standard deviations before it says Act
ACT_MARGIN_SD = 2.0


@dataclass(frozen=True)
class Past:
    """Which limits each sample is past. Shape (N, COUNT), bool; ``act_clear`` by more than 2 sd."""

    watch_high: np.ndarray
    act_high: np.ndarray
    watch_low: np.ndarray
    act_low: np.ndarray
    act_clear: np.ndarray
    limited: np.ndarray
    limits: dict[str, tuple[np.ndarray, np.ndarray]]

    @property
    def watch(self) -> np.ndarray:
        return np.asarray(self.watch_high | self.watch_low)

    @property
    def act(self) -> np.ndarray:
        return np.asarray(self.act_high | self.act_low)


def _masks(bits: np.ndarray, columns: Sequence[int]) -> np.ndarray:
    """Bit masks (N,) as booleans (N, len(columns))."""
    if not bits.any():
        return np.zeros((len(bits), len(columns)), dtype=bool)
    return np.asarray((bits[:, None] >> np.array(columns, dtype=np.int64)) & 1 == 1)


def by_other_labs(samples: Samples, oil: np.ndarray) -> np.ndarray:
    """Share of the samples of the same oil (``oil`` (N,)) drawn before each that another lab read, (N,)."""
    labs = samples.labs
    order = np.flatnonzero(samples.usable & (labs >= 0))
    order = order[np.argsort(samples.day[order], kind="stable")]
    out = np.zeros(len(labs))
    for o in np.unique(oil[order]):
        mine = order[oil[order] == o]
        before = np.searchsorted(samples.day[mine], samples.day[mine], "left")
        for lab in np.unique(labs[mine]):
            by_it = np.r_[0, np.cumsum(labs[mine] == lab)]
            here = labs[mine] == lab
            out[mine[here]] = np.where(before[here] > 0, 1 - by_it[before[here]] / np.maximum(before[here], 1), 0.0)
    return out


def past_limits(history: History, charges: Charges, table: LimitTable) -> Past:
    """Compare every sample with the fixed limits; censored values by what they prove.

    ``<L`` is past a low limit at or above L and never past a high one; ``>L`` is past a high limit at or
    below L, otherwise unknown.
    """
    samples = history.samples
    columns = [i for i in range(COUNT) if any(np.isfinite(table.watch[s][:, i]).any() for s in ("high", "low"))]
    n = len(samples.comp)
    duty = history.compartments.limited[samples.comp]
    fresh = history.known.at(charges.oil[charges.charge_of], samples.day)
    limits = table.resolve(duty, fresh.value, columns)
    x = samples.values[:, columns]
    below, above = _masks(samples.below, columns), _masks(samples.above, columns)
    sd = history.precision.columns_sd(x, [KEYS[i] for i in columns])

    def full(block: np.ndarray, blank: object) -> np.ndarray:
        out = np.full((n, COUNT), blank)
        out[:, columns] = block
        return out

    with np.errstate(invalid="ignore"):
        (wh, ah), (wl, al) = limits["high"], limits["low"]
        exact_low = ~above
        watch_high, act_high = (x > wh) & ~below, (x > ah) & ~below
        watch_high |= above & (x >= wh)
        act_high |= above & (x >= ah)
        watch_low, act_low = (x < wl) & exact_low, (x < al) & exact_low
        watch_low |= below & (x <= wl)
        act_low |= below & (x <= al)
        # of new oil that was only estimated the limit is as uncertain as the estimate, and as what labs differ by where
        # another one read the bottles it was made from
        guessed = fresh.estimated[:, columns]
        apart = np.zeros_like(sd)
        if guessed.any():
            apart = LABS_APART * np.nan_to_num(sd) * by_other_labs(samples, charges.oil[charges.charge_of])[:, None]
        error = np.where(guessed, np.hypot(fresh.sd[:, columns], apart), 0.0)
        sd = np.hypot(sd, error)
        watch_high &= (x > wh + error) | above | (table.basis["high"][:, columns][duty] == 0)
        watch_low &= (x < wl - error) | below | (table.basis["low"][:, columns][duty] == 0)
        clear = (act_high & ((x - ah > ACT_MARGIN_SD * sd) | above)) | (act_low & (al - x > ACT_MARGIN_SD * sd))
    limited = ~np.isnan(x) & (np.isfinite(wh) | np.isfinite(wl))
    return Past(
        full(watch_high, False), full(act_high, False), full(watch_low, False), full(act_low, False),
        full(clear, False), full(limited, False),
        {"high": (full(wh, np.nan), full(ah, np.nan)), "low": (full(wl, np.nan), full(al, np.nan))},
    )  # fmt: skip
