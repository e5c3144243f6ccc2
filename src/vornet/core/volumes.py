"""Drain-and-fill arithmetic: what stayed behind, what the next charge starts with, how much to pour.

Volumes in litres. All formulas follow from a mass balance over one well-mixed oil system.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from vornet.core.errors import InputError

#: an exact fit needs no further pack and no further drain
EXACT = 1e-9


@dataclass(frozen=True)
class CarryOver:
    """Residual volume (L), its share of the next charge (0–1) and the value that charge starts with."""

    residual_l: float
    residual_share: float
    start_value: float


@dataclass(frozen=True)
class Refill:
    """How to pour a refill: first short, then approach; counted in packs."""

    target_l: float
    first_pour_l: float
    top_up_l: float
    whole_packs: int
    from_last_pack_l: float
    left_in_last_pack_l: float


def level_missing_l(reading: float, between_marks_l: float) -> float:
    """Volume missing (L) for a dipstick reading: 0 at MIN, 1 at MAX. Above MAX the result is negative."""
    return (1.0 - reading) * between_marks_l


def stretch_loss(missing_before_l: float, missing_now_l: float, added_l: float, length: float) -> tuple[float, float] | None:
    """(litres lost, litres per 1,000 of the meter) between two levels read with ``added_l`` poured in between, over ``length`` h or km.

    None where no meter passed. Below nothing: the level rose by itself, which is no loss.

    >>> stretch_loss(0.5, 1.5, 2.0, 120)
    (3.0, 25.0)
    """
    if not length > 0:
        return None
    lost = missing_now_l - missing_before_l + added_l
    return lost, 1000 * lost / length


def residual_l(system_volume_l: float, drained_l: float, missing_l: float = 0.0) -> float:
    """Oil left behind at a drain (L): oil present before it less what came out, filter's contents included.

    Raises InputError when more came out than the system can have held.

    >>> residual_l(40, 33, 3)
    4.0
    """
    if not system_volume_l > 0:
        raise InputError("system_volume_l", "the system volume must be above zero")
    if drained_l < 0:
        raise InputError("drained_volume_l", "a drained volume cannot be negative")
    if missing_l >= system_volume_l:
        raise InputError("level_missing_l", f"{missing_l:g} L missing leaves nothing in {system_volume_l:g} L")
    left = system_volume_l - missing_l - drained_l
    if left < -1e-9:
        held = system_volume_l - missing_l
        raise InputError("drained_volume_l", f"{drained_l:g} L came out, but the system held only {held:g} L before the drain")
    return max(float(left), 0.0)


def carry_over(
    system_volume_l: float,
    drained_volume_l: float,
    old_value: float,
    new_value: float,
    missing_l: float = 0.0,
) -> CarryOver:
    """Start value of the next charge: C₀ = f·C_end_of_old + (1−f)·C_new with f = residual / system volume.

    >>> carry_over(40, 33, 50, 0, missing_l=3)
    CarryOver(residual_l=4.0, residual_share=0.1, start_value=5.0)
    """
    left = residual_l(system_volume_l, drained_volume_l, missing_l)
    share = left / system_volume_l
    return CarryOver(left, share, share * old_value + (1 - share) * new_value)


def flush(system_volume_l: float, drained_volume_l: float, target_share: float) -> tuple[int, float]:
    """Full drain-and-fills until the old oil's share is at or below ``target_share``: (drains, final share).

    >>> flush(40, 30, 0.05)
    (3, 0.015625)
    """
    if not 0 < target_share < 1:
        raise InputError("target_share", "the target must lie between 0 and 1")
    share = residual_l(system_volume_l, drained_volume_l) / system_volume_l
    if share >= 1:
        raise InputError("drained_volume_l", "nothing comes out: no number of drains reaches the target")
    if share <= EXACT:
        return 1, 0.0
    drains = max(1, math.ceil(math.log(target_share) / math.log(share) - EXACT))
    return drains, share**drains


def refill(capacity_l: float, pack_l: float, residual: float = 0.0, first_pour_share: float = 0.9) -> Refill:
    """Split a refill into a first pour and an approach, and count it in packs of ``pack_l``."""
    if not capacity_l > 0:
        raise InputError("capacity_l", "the capacity must be above zero")
    if not pack_l > 0:
        raise InputError("pack_l", "a pack must hold something")
    if residual < 0 or residual >= capacity_l:
        raise InputError("residual_l", "the residual must be at least 0 and below the capacity")
    if not 0 < first_pour_share <= 1:
        raise InputError("first_pour_share", "the first pour is a share between 0 and 1")
    target = capacity_l - residual
    packs = target / pack_l
    if packs > 1e9:
        raise InputError("pack_l", "that is more packs than anyone can count")
    whole = math.floor(packs + EXACT)
    rest = target - whole * pack_l
    if rest <= EXACT * max(1.0, target):
        rest = 0.0
    first = first_pour_share * target
    return Refill(target, first, target - first, whole, rest, pack_l - rest if rest else 0.0)


#: one standard deviation of a drained volume by how it was come by: (share of it, at least L); common practice, no source
SPREAD = {"measured": (0.01, 0.15), "estimated": (0.06, 0.5)}
#: and of a residual that was not measured at all, as a share of itself
UNMEASURED = 0.4


def volume_sd(litres: float, kind: str) -> float:
    """One standard deviation (L) of a drained volume that was ``measured`` or ``estimated``.

    >>> volume_sd(50, "measured"), volume_sd(50, "estimated")
    (0.5, 3.0)
    """
    share, least = SPREAD["estimated" if kind == "estimated" else "measured"]
    return max(share * litres, least)
