"""How much of its oil's life a compartment used before it was drained: poured away early, or run past what was safe.

Hours stand for km where a compartment counts distance.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from vornet.core.decision import Decision

#: charges that ended within so many days before today are summed, and drawn
LOOK_BACK_DAYS = 730
DAYS_A_YEAR = 365.25


@dataclass(frozen=True)
class Charge:
    """One charge: from its fill to its drain (None: it still runs), days as ordinals, and how long it ran, or has run so far (None: not
    known)."""

    fill_day: int
    end_day: int | None
    hours: float | None


@dataclass(frozen=True)
class OilLife:
    """``used``: share of the safe life at the drain, on average; ``early_l``: litres a year that still had life; ``overrun``: hours run past
    what is safe, within the time looked back upon. None: nobody knows what is safe, or no charge ended."""

    charges: tuple[Charge, ...]
    used: float | None
    early_l: float | None
    overrun: float | None


def life_of(decision: Decision) -> float | None:
    """The life oil has in a compartment: its safe hours, with a fault open as it is now, as far as evidence and the maker's cap let it
    run; None where no safe hours are told."""
    if decision.safe is None:
        return None
    as_is = decision.safe_as_is if decision.open_faults else None
    bounds = (decision.safe, as_is, decision.evidence_cap, decision.schools.get("maker"))
    return min(x for x in bounds if x is not None)


def oil_life(charges: Sequence[Charge], life: float | None, litres: float | None, today: int) -> OilLife:
    """The charges of one compartment, oldest first, against the ``life`` its oil has there now and the ``litres`` a drain pours away.

    >>> oil_life([Charge(1, 100, 300.0), Charge(100, 200, 600.0)], 600.0, 40.0, 731)
    OilLife(charges=(Charge(fill_day=1, end_day=100, hours=300.0), Charge(fill_day=100, end_day=200, hours=600.0)), used=0.75, \
early_l=10.006849315068493, overrun=0.0)
    """
    since = today - LOOK_BACK_DAYS
    recent = tuple(c for c in charges if c.end_day is None or c.end_day > since)
    done = [c.hours for c in recent if c.end_day is not None and c.hours is not None and c.hours > 0]
    if life is None or not life > 0 or not math.isfinite(life) or not done:
        return OilLife(recent, None, None, None)
    shares = [hours / life for hours in done]
    years = LOOK_BACK_DAYS / DAYS_A_YEAR
    early = None if litres is None else litres * sum(max(1 - s, 0.0) for s in shares) / years
    return OilLife(recent, sum(shares) / len(shares), early, sum(max(h - life, 0.0) for h in done))
