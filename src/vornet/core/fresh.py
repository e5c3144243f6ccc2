"""What new oil holds: the record, a sample of new oil, or an estimate from used samples, each known from a day on.

Starts of charges, limits above new oil and the deciding of intervals all ask here, so that they agree. Who judges a sample
asks as of its day, who decides today asks as of now.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np

from vornet.core.measurands import COUNT, KEYS, MEASURANDS

#: nothing of these is in new oil unless its record or a sample says otherwise
ABSENT_WHEN_NEW = np.array([m.group in ("wear", "contaminant", "particles") or m.key == "soot_pct" for m in MEASURANDS])
#: later than any day
NOW = float("inf")


@dataclass(frozen=True)
class Step:
    """From ``day`` (ordinal) on this oil's measurand is known as ``value`` ± ``sd``; ``estimated`` from used samples."""

    oil: int
    measurand: int
    day: float
    value: float
    sd: float
    estimated: bool


@dataclass(frozen=True)
class Known:
    """Shape (N, COUNT) each: ``value`` NaN where not known, ``sd`` one standard deviation, ``estimated`` bool."""

    value: np.ndarray
    sd: np.ndarray
    estimated: np.ndarray


@dataclass(frozen=True)
class Fresh:
    """``recorded`` (O, COUNT): what oil records say, NaN unknown; ``steps``: what came to be known, by oil, measurand, day."""

    recorded: np.ndarray
    steps: tuple[Step, ...] = ()
    _columns: dict[int, tuple[np.ndarray, ...]] = field(default_factory=dict, init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        by: dict[int, list[Step]] = {}
        for s in self.steps:
            by.setdefault(s.measurand, []).append(s)
        for m, mine in by.items():
            mine.sort(key=lambda s: (s.oil, s.day))
            self._columns[m] = (
                np.array([s.oil * _SPAN + s.day for s in mine]), np.array([s.oil for s in mine]), np.array([s.value for s in mine]),
                np.array([s.sd for s in mine]), np.array([s.estimated for s in mine]),
            )  # fmt: skip

    def with_steps(self, steps: Iterable[Step]) -> Fresh:
        return Fresh(self.recorded, (*self.steps, *steps))

    def at(self, oil: np.ndarray, day: np.ndarray | float = NOW) -> Known:
        """What is known of these oils (N,) on these days (N,); a step counts from the day after it was taken."""
        value = self.recorded[oil].copy()
        sd, estimated = np.zeros_like(value), np.zeros(value.shape, dtype=bool)
        days = np.minimum(np.broadcast_to(np.asarray(day, dtype=float), np.shape(oil)), _SPAN - 2)
        place = oil * _SPAN + np.nan_to_num(days)
        for m, (key, oils, values, sds, guessed) in self._columns.items():
            at = np.searchsorted(key, place, "left") - 1
            held = np.maximum(at, 0)
            use = (at >= 0) & (oils[held] == oil) & np.isnan(value[:, m])
            value[use, m], sd[use, m], estimated[use, m] = values[held[use]], sds[held[use]], guessed[held[use]]
        value = np.where(np.isnan(value) & ABSENT_WHEN_NEW, 0.0, value)
        return Known(value, sd, estimated)

    def lacking(self) -> np.ndarray:
        """Which oils' records lack what used samples could tell; (O, COUNT), bool."""
        return np.asarray(np.isnan(self.recorded) & _TELLABLE)


_SPAN = 10_000_000.0
#: what used samples can tell of new oil: its own properties and additives, and silicon, which antifoam carries
_TELLABLE = np.array([not ABSENT_WHEN_NEW[i] or k == "si" for i, k in enumerate(KEYS)]) & (np.array(KEYS) != "vi")
assert len(_TELLABLE) == COUNT
