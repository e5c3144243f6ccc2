"""The rules by which an interval may move: what they are, what cannot be, what cannot be together, and whose say is nearest.

Rules are said for a fleet, a duty, a family or one unit; for each rule the nearest that says it wins.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

from vornet.core.decision import Policy
from vornet.core.errors import InputError
from vornet.core.fact import Fact, told

#: the nearest first
SCOPES = ("unit", "family", "duty", "fleet")
LIMITS = ("watch", "act")
#: whether oil is judged as it ages without the part changes that were made, or as it does with them, because they go on
PART_CHANGES = ("without", "go_on")
#: whose figure an interval may never go beyond, beside the oil's own safe hours and every cap
SCHOOLS = ("condition", "printed", "house_rule", "indicator", "supplier", "calendar", "fixed_last_sample", "statistical")


#: to run to the act limit one has to be at least so sure; a charge is sampled at most so often
SURE_OF_ACT, BOTTLES_A_CHARGE = 0.95, 4


@dataclass(frozen=True)
class Rule:
    """One rule: what it is in words, its unit, and between what it may lie (for figures), or its choices."""

    key: str
    words: str
    unit: str = ""
    low: float = 0.0
    high: float = 0.0
    whole: bool = False
    choices: tuple[str, ...] = ()


RULES: dict[str, Rule] = {
    r.key: r
    for r in (
        Rule("confidence", "Sure of not being past the limit", "share", 0.8, 0.999),
        Rule("limit", "Safe hours run to the limit", choices=LIMITS),
        Rule("school", "Never beyond", choices=SCHOOLS),
        Rule("run_on_needed", "Verdicts Run on in a row", "", 1, 12, whole=True),
        Rule("charges_needed", "Charges sampled", "", 2, 20, whole=True),
        Rule("most_at_once", "Longest step at once", "share", 0.01, 1.0),
        Rule("least_gain", "Nothing moves for less than", "share", 0.0, 0.5),
        Rule("beyond_sampled", "Beyond the longest sampled", "times", 1.0, 1.5),
        Rule("step_h", "Full steps", "h", 1, 1000),
        Rule("step_km", "Full steps", "km", 1, 50_000),
        Rule("house_share", "House rule: share of the maker's cap", "share", 0.1, 1.0),
        Rule("house_h", "House rule as a figure", "h", 0, 100_000),
        Rule("house_km", "House rule as a figure", "km", 0, 5_000_000),
        Rule("part_changes", "Part changes within a charge", choices=PART_CHANGES),
    )
}


@dataclass(frozen=True)
class Where:
    """A rule in force, and which scope says it ('' for the start value)."""

    value: Any
    scope: str


def nearest(by_scope: Mapping[str, Mapping[str, Any]]) -> tuple[Policy, dict[str, Where]]:
    """The policy of a compartment from what each scope says, and for each rule who says it.

    >>> policy, where = nearest({"fleet": {"confidence": 0.9}, "unit": {"confidence": 0.97}})
    >>> policy.confidence, where["confidence"].scope, where["limit"].scope
    (0.97, 'unit', '')
    """
    found, start = {}, asdict(Policy())
    for key in RULES:
        scope = next((s for s in SCOPES if key in by_scope.get(s, {})), "")
        found[key] = Where(by_scope[scope][key] if scope else start[key], scope)
    return replace(Policy(), **{key: w.value for key, w in found.items()}), found


def checked(given: Mapping[str, Any]) -> dict[str, Any]:
    """What one scope says, each rule as it is kept. Raises InputError by key."""
    out: dict[str, Any] = {}
    for key, value in given.items():
        rule = RULES.get(key)
        if rule is None:
            raise InputError(key, "is not a rule that is kept")
        if rule.choices:
            if value not in rule.choices:
                raise InputError(key, f"one of {', '.join(rule.choices)}")
            out[key] = value
            continue
        if isinstance(value, bool) or not isinstance(value, int | float) or not rule.low <= value <= rule.high:
            low, high = (f"{x * 100:g} %" if rule.unit == "share" else f"{x:g}" for x in (rule.low, rule.high))
            raise InputError(key, f"{rule.words.lower()}: between {low} and {high}")
        if rule.whole and value != int(value):
            raise InputError(key, f"{rule.words.lower()}: a whole number")
        out[key] = int(value) if rule.whole else float(value)
    return out


def contradictions(policy: Policy, intervals: Sequence[tuple[float, str]] = ()) -> list[Fact]:
    """What of a policy cannot be together; ``intervals``: (length, h or km) of the compartments it is for."""
    out: list[Fact] = []
    for length, unit in sorted(intervals):
        step = policy.step_km if unit == "km" else policy.step_h
        if length * policy.most_at_once < step:
            out.append(told("step_too_fine", step=step, interval=length, meter=unit))
            break
    if policy.least_gain >= policy.most_at_once:
        out.append(told("gain_beyond_step", gain=policy.least_gain, step=policy.most_at_once))
    if policy.limit == "act" and policy.confidence < SURE_OF_ACT:
        out.append(told("act_unsure", sure=SURE_OF_ACT))
    if policy.run_on_needed > BOTTLES_A_CHARGE * policy.charges_needed:
        out.append(told("more_verdicts_than_bottles", verdicts=policy.run_on_needed, charges=policy.charges_needed))
    if policy.school == "house_rule" and policy.house_share >= 1 and not (policy.house_h or policy.house_km):
        out.append(told("house_beyond_cap"))
    if policy.beyond_sampled <= 1 and policy.least_gain > 0:
        out.append(told("no_room_to_learn"))
    return out


def each(policy: Policy | Sequence[Policy], count: int) -> list[Policy]:
    """One policy a compartment."""
    return [policy] * count if isinstance(policy, Policy) else list(policy)
