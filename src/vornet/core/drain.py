"""One arithmetic of a drain: what was in, what came out, what stayed, what the next charge starts with, how much to pour.

Desk, phone, register file and ledger all ask here; the phone's own copy (``web/static/job_rules.js``) is held to it by tests.
Volumes in L; levels 0 at MIN, 1 at MAX. All of it is a mass balance over one well-mixed oil system.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from vornet.core import volumes
from vornet.core.errors import InputError

#: a whole system holds about this many times what a refill takes, where the register does not say; common practice, no source
SYSTEM_OVER_REFILL = 1.05
#: fills short, then approaches; common practice, no source (85–95 %)
FIRST_SHARE = 0.9
#: a level at least this high is full enough; above the second it is too much; common practice, no source
FULL_FROM, FULL_TO = 0.85, 1.05
#: what a measuring can may be off by before more came out than was in
OUT_SLACK = 1e-3
#: more poured than so many times the room there was, and a litre, is a slip
POURED_SHARE, POURED_L = 1.25, 1.0
#: what was taken for granted, in the order it is said
LEVEL_NOT_READ, MARKS_UNKNOWN, OUT_NOT_MEASURED = "level_not_read", "marks_unknown", "out_not_measured"


@dataclass(frozen=True)
class Sump:
    """One oil system as the register knows it, in L; None is unknown."""

    system_l: float | None
    refill_l: float | None
    refill_without_filter_l: float | None = None
    between_marks_l: float | None = None
    has_filter: bool = False

    @property
    def holds_l(self) -> float | None:
        """The whole system full to the mark; None where nothing tells."""
        if self.system_l:
            return self.system_l
        return whole(self.refill_l) if self.refill_l else None

    def capacity_l(self, filter_changed: bool) -> float | None:
        """What a refill takes."""
        return self.refill_without_filter_l if not filter_changed and self.refill_without_filter_l else self.refill_l


@dataclass(frozen=True)
class DrainFacts:
    """What was read and measured at a drain. ``level_before`` a reading between the marks, ``missing_l`` the same as litres below
    full (below zero: overfull), where somebody gave that instead; ``level_after`` read once it had run."""

    level_before: float | None = None
    missing_l: float | None = None
    out_l: float | None = None
    out_kind: str = "measured"
    filter_changed: bool = True
    prefilled: bool = False
    poured_l: float = 0.0
    level_after: float | None = None


@dataclass(frozen=True)
class DrainFigures:
    """What follows; None = not enough yet. ``assumed``: what was taken for granted, as keys."""

    missing_l: float | None
    residual_l: float | None
    residual_share: float | None
    residual_sd_l: float | None
    target_l: float | None
    first_pour_l: float | None
    poured_l: float
    level: float | None
    add_l: float | None
    fall_l: float
    assumed: tuple[str, ...]


def whole(refill_l: float) -> float:
    """The whole system (L) about which only the refill is known.

    >>> whole(20.0)
    21.0
    """
    return refill_l * SYSTEM_OVER_REFILL


def sump_of(facts: Mapping[str, Any]) -> Sump:
    """A sump from a compartment as the register says it, keys as in a register file."""
    return Sump(
        facts.get("system_volume_l"), facts.get("capacity_l"), facts.get("capacity_without_filter_l"), facts.get("volume_between_marks_l"),
        bool(facts.get("filters")),
    )  # fmt: skip


def start_value(share: Any, old: Any, new: Any) -> Any:
    """What a charge starts with of a value, a number or an array of them: f·old + (1 − f)·new, ``share`` f being what stayed behind.

    >>> start_value(0.1, 50.0, 0.0)
    5.0
    """
    return share * old + (1 - share) * new


def figures(sump: Sump, facts: DrainFacts, pour: str = "approach") -> DrainFigures:
    """Residual, refill target, what is poured and what is still to add.

    An overfull system held more than its volume, so more of it stays when the same comes out. Raises InputError (fields
    ``level_missing_l``, ``drained_volume_l``, ``poured_l``) when the facts cannot be. ``pour``: short and then up to the mark
    (approach), all of it at once (all), or what came out with what was low before (returned), which needs no capacity.

    >>> figures(Sump(60, 55, 53, 4), DrainFacts(level_before=1.5, out_l=54)).residual_l
    8.0
    """
    holds, capacity = sump.holds_l, sump.capacity_l(facts.filter_changed)
    assumed: list[str] = []
    missing = facts.missing_l
    if missing is None and facts.level_before is not None and sump.between_marks_l:
        missing = volumes.level_missing_l(facts.level_before, sump.between_marks_l)
    elif missing is None:
        assumed.append(LEVEL_NOT_READ if facts.level_before is None else MARKS_UNKNOWN)
    residual = None
    if facts.out_l is not None and holds:
        residual = _residual(holds, facts.out_l, missing or 0.0)
    elif holds and capacity:
        residual = max(holds - capacity, 0.0)
        assumed.append(OUT_NOT_MEASURED)
    target = holds - residual if facts.out_l is not None and residual is not None and holds else capacity
    if target is None and pour == "returned" and facts.out_l is not None:
        target = facts.out_l + (missing or 0.0)
    if holds and residual is not None and facts.poured_l > (holds - residual) * POURED_SHARE + POURED_L:
        raise InputError("poured_l", f"{facts.poured_l:g} L poured is more than the {holds - residual:.1f} L that fits")
    add = None
    if facts.level_after is not None and sump.between_marks_l:
        low = facts.level_after < FULL_FROM
        add = max(round(volumes.level_missing_l(facts.level_after, sump.between_marks_l), 2), 0.0) if low else 0.0
    elif target is not None:
        add = max(target - facts.poured_l, 0.0)
    fall = 0.0
    if facts.filter_changed and not facts.prefilled and sump.refill_l and sump.refill_without_filter_l:
        fall = sump.refill_l - sump.refill_without_filter_l
    first = None if target is None else (FIRST_SHARE if pour == "approach" else 1.0) * target
    return DrainFigures(
        missing, residual, residual / holds if residual is not None and holds else None, _residual_sd(residual, facts), target,
        first, facts.poured_l, facts.level_after, add, fall, tuple(assumed),
    )  # fmt: skip


def _residual(holds: float, out_l: float, missing: float) -> float:
    held = holds - missing
    return volumes.residual_l(holds, min(out_l, held) if held < out_l <= held * (1 + OUT_SLACK) else out_l, missing)


def _residual_sd(residual: float | None, facts: DrainFacts) -> float | None:
    """One standard deviation of the residual (L): the drained volume's, or a share of a residual nobody measured."""
    if residual is None:
        return None
    if facts.out_l is None or facts.out_kind == "unknown":
        return volumes.UNMEASURED * residual
    return volumes.volume_sd(facts.out_l, facts.out_kind)
