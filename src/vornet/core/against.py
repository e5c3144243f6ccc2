"""What stands against a length or a calendar limit today: asked before a longer one is approved without a reason, adopted, rolled out,
written into the register, or begins on the day it was approved for.

Hours stand for km where a compartment counts distance.
"""

from __future__ import annotations

from vornet.core.decision import Decision
from vornet.core.fact import Fact, told

#: walls that no reason lifts: what the maker, the oil and the filters allow
CAPS = ("cap", "oil_cap", "filter", "bypass")
#: guards about the state of the compartment: they stand against more days as against more hours
STATE = ("open_fault", "held_bottle", "verdicts")
#: figures are kept rounded; so much more is not longer
_SAME = 1 + 1e-9


def caps_against(decision: Decision, length: float) -> list[Fact]:
    """The maker's, the oil's and the filters' walls that a length is beyond."""
    return [g.fact for g in decision.guards if g.key in CAPS and g.limit is not None and length > g.limit * _SAME]


def length_against(decision: Decision, length: float, meter: str) -> list[Fact]:
    """Everything that stands against running so long from today on; [] nothing. No longer than what is in force, only the caps can."""
    if decision.current is not None and length <= decision.current * _SAME:
        return caps_against(decision, length)
    out = [g.fact for g in decision.guards if (g.bites if g.limit is None else length > g.limit * _SAME)]
    known = [x for x in (decision.safe, decision.safe_as_is if decision.open_faults else None) if x is not None]
    if known and length > min(known) * _SAME:
        out.append(told("beyond_safe", safe=min(known), meter=meter))
    if decision.safe is None and not decision.never:
        out.append(decision.reason)
    return list({repr(f): f for f in out}.values())


def state_against(decision: Decision) -> list[Fact]:
    """What of the compartment's state stands against any longer calendar limit, or none at all."""
    return [g.fact for g in decision.guards if g.key in STATE and g.bites]


def days_against(decision: Decision, days: float, today: float | None, most_at_once: float) -> list[Fact]:
    """Everything that stands against a calendar limit; [] nothing. ``today``: the one in force, None none (then none is longer)."""
    if today is None or days <= today:
        return []
    out = state_against(decision)
    if days > today * (1 + most_at_once) * _SAME:
        out.append(told("days_step", share=most_at_once, days=int(today * (1 + most_at_once))))
    return out
