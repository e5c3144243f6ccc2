"""Planned against done: what came early, late or not at all, and what that cost in oil life."""

from __future__ import annotations

from dataclasses import dataclass

#: so near to its day it was on it
ON_DAY = 0


@dataclass(frozen=True)
class Kept:
    """One thing that was planned: ``word`` on_day, early, late, open (its day is still to come) or missed; ``days`` done after its planned
    day; ``unused_l`` oil life poured away by draining before it was due, ``over_l`` run past it."""

    word: str
    days: int | None
    unused_l: float
    over_l: float


def kept(planned: int, done: int | None, today: int, due: float, life_days: float, litres: float | None) -> Kept:
    """Days are ordinals. A drain's oil life lost is the share of its life before its due day, times its litres; past it the same over.

    >>> kept(100, 102, 120, 110, 80, 40)
    Kept(word='late', days=2, unused_l=4.0, over_l=0.0)
    >>> kept(100, None, 120, 110, 80, 40)
    Kept(word='missed', days=None, unused_l=0.0, over_l=5.0)
    """
    at = done if done is not None else max(today, planned)
    share = (due - at) / max(life_days, 1.0)
    amount = litres or 0.0
    unused = max(share, 0.0) * amount if done is not None else 0.0
    over = max(-share, 0.0) * amount
    if done is None:
        return Kept("missed" if planned < today else "open", None, 0.0, over if planned < today else 0.0)
    days = done - planned
    word = "on_day" if abs(days) <= ON_DAY else "late" if days > 0 else "early"
    return Kept(word, days, unused, over)
