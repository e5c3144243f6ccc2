"""Changing from one oil to another: how much of the old one is left, by volumes and by what tells the two apart."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vornet.core.charges import Charges
from vornet.core.history import History
from vornet.core.job import marker_share
from vornet.core.measurands import INDEX

#: the share of old oil a change aims for; common practice, no source
TARGET = 0.05
#: a change is spoken of for so many charges after it
SPOKEN_OF = 4
#: additives that may tell two oils apart
MARKERS = ("ca", "mg", "zn", "p", "b", "mo")


@dataclass(frozen=True)
class ChangeOfOil:
    """A change from one oil to another under way: drains so far, share of the old one left by volumes, and by a
    marker element (share, sd, its key), how many drains reach the target."""

    old: str
    new: str
    drains: int
    share: float
    target: float
    needed: int
    marker: tuple[float, float, str] | None


def change_of_oil(history: History, charges: Charges, names: Sequence[str]) -> ChangeOfOil | None:
    """The change of oil that one compartment is in or has just made; None when its last drains poured one oil. ``names`` of the
    library's oils."""
    oils = charges.oil.tolist()
    changed = [h for h in range(1, len(oils)) if oils[h] != oils[h - 1]]
    if not changed or len(oils) - changed[-1] > SPOKEN_OF:
        return None
    at = changed[-1]
    old, new = oils[at - 1], oils[at]
    if max(old, new) >= len(names):
        return None
    shares = charges.share[at:]
    return ChangeOfOil(
        names[old], names[new], len(shares), float(np.prod(shares)), TARGET, drains_needed(float(np.mean(shares))),
        _marker(history, charges, at, old, new),
    )  # fmt: skip


def drains_needed(share: float, target: float = TARGET) -> int:
    """How many drain-and-fills that each leave ``share`` behind bring the old oil below ``target``: shareⁿ ≤ target.

    >>> drains_needed(0.25), drains_needed(0.05), drains_needed(0.1)
    (3, 1, 2)
    """
    each = min(max(share, 0.01), 0.9)
    return max(1, math.ceil(math.log(target) / math.log(each) - 1e-9))


def _marker(history: History, charges: Charges, at: int, old: int, new: int) -> tuple[float, float, str] | None:
    """Old oil's share from the additive that tells the two oils apart best, in the newest sample since the change."""
    samples = history.samples
    fresh = history.known.at(np.arange(len(history.oils.new))).value
    since = np.flatnonzero((charges.charge_of >= at) & samples.usable)
    if not len(since):
        return None
    best = None
    for key in MARKERS:
        m = INDEX[key]
        before, after, x = fresh[old, m], fresh[new, m], samples.values[since[-1], m]
        if math.isnan(before) or math.isnan(after) or math.isnan(x):
            continue
        sd = history.precision.standard_deviation(key, max(before, after))
        found = marker_share(float(before), float(x), float(after), sd)
        if found and (best is None or found[1] < best[1]):
            best = (*found, key)
    return best
