"""A fleet's history as columns, and its cutting into charges.

A charge runs from one drain to the next. Charge 0 of every compartment is what ran before its first
recorded drain: its start is unknown, so nothing is fitted through it. Hours stand for the meter's unit.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field, fields, replace
from typing import Any, TypeVar

import numpy as np

from vornet.core.fresh import Fresh
from vornet.core.measurands import INDEX, MEASURANDS
from vornet.core.precision import START, PrecisionTable
from vornet.core.volumes import SPREAD

#: a sample marked as drawn at the drain belongs to a drain at most this many days away
DRAIN_MATCH_DAYS = 3
#: engines and gears run in over about this much after new or overhauled; common practice, no source
BREAK_IN_H, BREAK_IN_KM = 250.0, 5000.0
#: minutes after stopping from which what sinks is no longer in the stream; common practice, no source
STOOD_AFTER_MIN = 30.0
#: what comes and goes within days: a level, which no rate leads to
COMES_AND_GOES = np.array([m.group == "particles" or m.key in ("water_ppm", "fuel_pct", "glycol_pct") for m in MEASURANDS])
#: charges of one compartment scatter about its usual rate by about this share (one standard deviation, beforehand): for what a charge
#: hands on and for safe hours alike; common practice, no source
CHARGE_SPREAD = 0.3
#: of a rate that nobody knows yet: by the end of the charge the value may have moved by this share of new oil
UNKNOWN_MOVE = 0.4


@dataclass(frozen=True)
class Compartments:
    """Shape (C,). ``duty`` index into limits.DUTIES; litres; ``interval``/``cap`` in meter units, NaN unknown;
    ``overhaul`` running total of the last overhaul or exchange, NaN none; ``distance`` counts km; ``evaporates``: the oil
    that is lost leaves its metal behind; ``limit_row`` the row of the limit table, None: the duty's."""

    duty: np.ndarray
    family: np.ndarray
    oil: np.ndarray
    system_l: np.ndarray
    refill_l: np.ndarray
    interval: np.ndarray
    distance: np.ndarray
    overhaul: np.ndarray
    evaporates: np.ndarray | None = None
    limit_row: np.ndarray | None = None

    @property
    def limited(self) -> np.ndarray:
        """Each compartment's row of a limit table: its own or its family's where there is one, else its duty's; shape (C,)."""
        return self.duty if self.limit_row is None else self.limit_row

    @property
    def loses_clean(self) -> np.ndarray:
        """``evaporates`` with nothing on record read as lost with its metal; shape (C,), bool."""
        return np.zeros(len(self.duty), dtype=bool) if self.evaporates is None else self.evaporates


@dataclass(frozen=True)
class Oils:
    """``new``: (O, COUNT) new-oil values, NaN unknown; ``density`` kg/L, shape (O,)."""

    new: np.ndarray
    density: np.ndarray


@dataclass(frozen=True)
class Drains:
    """Sorted by compartment, then day. ``day`` ordinal; ``total`` running total of the meter; litres, NaN unknown;
    ``estimated``: litres out were estimated, not measured."""

    comp: np.ndarray
    day: np.ndarray
    total: np.ndarray
    out_l: np.ndarray
    missing_l: np.ndarray
    oil: np.ndarray
    magnet: np.ndarray
    estimated: np.ndarray | None = None


@dataclass(frozen=True)
class Fillings:
    """Top-ups and part changes (``part``, or where it is not given whatever took oil out) inside charges, sorted by
    compartment, then running total."""

    comp: np.ndarray
    day: np.ndarray
    total: np.ndarray
    in_l: np.ndarray
    out_l: np.ndarray
    part: np.ndarray | None = None

    @property
    def parts(self) -> np.ndarray:
        """Which are part changes, shape (F,), bool."""
        return self.out_l > 0 if self.part is None else self.part


@dataclass(frozen=True)
class Samples:
    """Sorted by compartment, then day. ``values`` (N, COUNT); ``below``/``above`` bit masks of censored values;
    ``usable`` False while held; ``waits``: held and nobody has settled it yet;
    ``stood``: drawn after the oil had stood or cooled, so what sinks reads low; ``lab`` who
    measured, any number a lab, below zero unknown."""

    comp: np.ndarray
    day: np.ndarray
    total: np.ndarray
    oil_hours: np.ndarray
    topup_l: np.ndarray
    drained: np.ndarray
    usable: np.ndarray
    values: np.ndarray
    below: np.ndarray
    above: np.ndarray
    stood: np.ndarray | None = None
    lab: np.ndarray | None = None
    waits: np.ndarray | None = None

    @property
    def unsettled(self) -> np.ndarray:
        """``waits`` with nothing on record read as none; shape (N,), bool."""
        return np.zeros(len(self.comp), dtype=bool) if self.waits is None else self.waits

    @property
    def labs(self) -> np.ndarray:
        """``lab`` with nobody named taken for one and the same; shape (N,), int."""
        return np.zeros(len(self.comp), dtype=np.int64) if self.lab is None else self.lab

    @property
    def settled(self) -> np.ndarray:
        """``stood`` with nothing on record read as drawn warm and running; shape (N,), bool."""
        return np.zeros(len(self.comp), dtype=bool) if self.stood is None else self.stood


def read_as(samples: Samples, columns: np.ndarray, once: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(value, its standard deviation) of readings that something is reckoned from, (N, len(columns)).

    ``once`` (same shape) is the method's own. Of ``<L`` only an interval is known: its middle, as uncertain as the interval
    is wide (uniform, L/√12). ``>L`` stands at L, which is the least it can be.
    """
    x = samples.values[:, columns]
    if not samples.below.any():
        return x, once
    below = (samples.below[:, None] >> columns.astype(np.int64)) & 1 == 1
    return np.where(below, x / 2, x), np.where(below, np.abs(x) / math.sqrt(12), once)


@dataclass(frozen=True)
class Levels:
    """Levels read with nothing added, sorted by compartment, then running total. ``missing_l`` below MAX (L)."""

    comp: np.ndarray
    day: np.ndarray
    total: np.ndarray
    missing_l: np.ndarray


def has_stood(warmth: str | None, minutes: float | None) -> bool:
    """Was a bottle drawn from oil that had cooled, or stood longer than ``STOOD_AFTER_MIN`` minutes?"""
    return warmth == "cool" or (minutes is not None and minutes > STOOD_AFTER_MIN)


def no_levels() -> Levels:
    return Levels(np.zeros(0, dtype=int), np.zeros(0, dtype=int), np.zeros(0), np.zeros(0))


@dataclass(frozen=True)
class History:
    compartments: Compartments
    oils: Oils
    drains: Drains
    fillings: Fillings
    samples: Samples
    levels: Levels = field(default_factory=no_levels)
    precision: PrecisionTable = field(default=START, repr=False)
    fresh: Fresh | None = field(default=None, repr=False)

    @property
    def known(self) -> Fresh:
        """What is known of new oil; of a history that says nothing else, the oils' records."""
        return Fresh(self.oils.new) if self.fresh is None else self.fresh


_Block = TypeVar("_Block", Compartments, Drains, Fillings, Samples, Levels)


def rows_of(block: _Block, keep: np.ndarray, renamed: np.ndarray | None = None) -> _Block:
    """Some rows of a block (``keep``: mask or index), its compartments numbered anew by ``renamed`` where given."""
    columns: dict[str, Any] = {f.name: getattr(block, f.name) for f in fields(block)}
    kept: dict[str, Any] = {name: None if x is None else x[keep] for name, x in columns.items()}
    if renamed is not None:
        kept["comp"] = renamed[kept["comp"]]
    return type(block)(**kept)


def part_of(history: History, keep: np.ndarray) -> tuple[History, np.ndarray]:
    """Some compartments of a history (``keep``: (C,) bool), numbered anew, families too; and which samples they have, (N,)."""
    number = np.cumsum(keep) - 1
    comps = rows_of(history.compartments, keep)
    comps = replace(comps, family=np.unique(comps.family, return_inverse=True)[1])
    samples = keep[history.samples.comp]
    return replace(
        history, compartments=comps, samples=rows_of(history.samples, samples, number),
        drains=rows_of(history.drains, keep[history.drains.comp], number),
        fillings=rows_of(history.fillings, keep[history.fillings.comp], number),
        levels=rows_of(history.levels, keep[history.levels.comp], number),
    ), samples  # fmt: skip


SPREADS = (SPREAD["estimated"], SPREAD["measured"])
KEY = 10_000_000  # days fit below this


def offsets(comp: np.ndarray, count: int) -> np.ndarray:
    """Where each compartment's rows start in an array sorted by ``comp``; shape (count + 1,)."""
    return np.searchsorted(comp, np.arange(count + 1))


def sums(values: np.ndarray, group: np.ndarray, count: int) -> np.ndarray:
    """Sum of the rows of each group, (count, K): ``values`` (N, K), numbers or truths, ``group`` (N,).

    >>> sums(np.array([[1, 2], [3, 4], [5, 6]]), np.array([1, 0, 1]), 3).tolist()
    [[3.0, 4.0], [6.0, 8.0], [0.0, 0.0]]
    """
    k = values.shape[1]
    place = (group[:, None] * k + np.arange(k)).ravel()
    return np.bincount(place, values.ravel(), count * k).reshape(count, k)


def column(samples: Samples, key: str) -> np.ndarray:
    """One measurand of all samples, shape (N,)."""
    return samples.values[:, INDEX[key]]
