"""From safe hours and guards to an answer: Lengthen, Hold, Shorten or Not enough evidence, with its reason.

Hours stand for km where a compartment counts distance.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from vornet.core.decision import (
    HOLD,
    IMPOSSIBLE,
    LENGTHEN,
    NO_LIMIT,
    NOT_ENOUGH,
    SHORTEN,
    UNANSWERED,
    Decision,
    Guard,
    PropertyAnswer,
)
from vornet.core.decision_case import LATE, Case, finite, keys_of, limiting_first, rounded_down
from vornet.core.fact import Fact, told
from vornet.core.guards import Reach, Rules, blocks, caps, impossible, steps
from vornet.core.next_bottle import next_sample
from vornet.core.outlook import Outlook

#: with too few charges an interval is shortened only when safe hours fall clearly short of it
CLEARLY_SHORT = 0.9
#: guards that hold an interval where it is, in the order they are told
HOLDING = ("open_fault", "held_bottle", "verdicts", "no_limit", "impossible", "bounded", "never")


def _answer(case: Case, rules: Rules, reach: Reach, ranked: list[PropertyAnswer]) -> tuple[str, float | None, Fact]:
    """(outcome, proposed interval, why)."""
    policy, base, cap, safe, allowed, pushed = case.policy, case.base, case.evidence_cap, reach.safe, reach.allowed, reach.pushed
    best, faults = (ranked[0] if ranked else None), case.faults
    bites = {g.key: g for g in rules.guards if g.bites}
    ceiling = min(rules.ceilings.values(), default=math.inf)
    few = "charges" in bites
    known = best is not None or (bool(faults) and math.isfinite(reach.as_is)) or bool(pushed)
    if base is None:
        return NOT_ENOUGH, None, told("no_interval") if best else _nothing(case)
    unsampled = case.told("beyond_sampled", longest=case.longest or 0, base=base)
    if best is not None and allowed == safe < base <= case.mild and not pushed:
        bends = best if best.chance_at_safe is None else max(ranked, key=lambda a: a.chance_at_safe or 0.0)
        mild = case.told("at_least", mild=case.mild) if math.isfinite(case.mild) else told("no_reach")
        return NOT_ENOUGH, base, unsampled if cap is not None and cap < base else case.told("bends", mild, safe=safe, of=bends.key)
    if known and allowed < base and not (few and allowed >= CLEARLY_SHORT * base and not pushed):
        proposed = rounded_down(allowed, case.step) or float(math.floor(allowed)) or None
        return SHORTEN, proposed, _why_shorter(case, reach, base, best)
    if best is None:
        stands = bool(faults) and math.isfinite(reach.as_is)
        return (HOLD, base, bites["open_fault"].fact) if stands else (NOT_ENOUGH, base, _nothing(case))
    if "unanswered" in bites:
        return NOT_ENOUGH, base, bites["unanswered"].fact
    if few:
        fact = bites["charges"].fact
        return NOT_ENOUGH, base, replace(fact, parts=tuple(p for p in fact.parts if p.kind != "charges_limiting"))
    if cap is not None and cap < base:
        return NOT_ENOUGH, base, unsampled
    blocked = [bites[k].fact for k in HOLDING if k in bites]
    if "school" in bites and bites["school"].limit is None:
        blocked.append(bites["school"].fact)
    if blocked:
        return HOLD, base, told("reasons", *blocked)
    worth_it = base * (1 + policy.least_gain)
    proposed = rounded_down(min(allowed, ceiling), case.step)
    if proposed > base and min(allowed, ceiling) >= worth_it:
        return LENGTHEN, proposed, case.told("longer", safe=safe, of=best.key)
    biting = [g.fact for g in rules.guards if g.bites and rules.ceilings.get(g.key, math.inf) < worth_it]
    return HOLD, base, biting[-1] if biting else case.told("too_little", safe=safe, base=base)


def outcome(case: Case, outlook: Outlook, rows: np.ndarray, margin: np.ndarray, ref: float) -> Decision:
    """The decision of one compartment. ``rows`` (P,): its properties' rows in ``outlook`` (−1 none), ``margin`` (P,)."""
    ranked = limiting_first(case)
    best = ranked[0] if ranked else None
    second = ranked[1] if len(ranked) > 1 else None
    base, cap = case.base, case.evidence_cap
    rules = Rules([], {})
    blocks(case, rules, ranked, base if base is not None else math.inf)
    reach = caps(case, rules, best is not None)
    steps(case, rules, reach.allowed)
    result, proposed, reason = _answer(case, rules, reach, ranked)
    also = []
    if best is not None and best.pace and best.pace > 1:
        also.append(told("faster_lately", pace=best.pace))
    if best is not None and best.borrowed:
        also.append(case.told("by_family"))
    if also:
        reason = told("and_so", reason, *also)
    guards = tuple(_worth(g, rules.ceilings, reach.free, proposed, base, case.step, result) for g in rules.guards)
    sample_at = None
    if result == NOT_ENOUGH and base is not None:
        sample_at = (rounded_down(LATE * base, case.step) or LATE * base, base)
    limiting = best.key if best and best.safe is not None else None
    safe = reach.safe
    decision = Decision(
        outcome=result, proposed=proposed, current=case.current, safe=finite(safe), safe_as_is=finite(reach.as_is),
        never=best is not None and not math.isfinite(safe), limiting=limiting,
        next_limiting=second.key if second and second.safe is not None else None, next_safe=second.safe if second else None,
        beyond_evidence=cap is not None and not math.isnan(safe) and safe > cap, evidence_cap=cap, running_safe=finite(case.running),
        running_as_is=finite(case.running_as_is), running_limiting=_running_limiting(ranked),
        charges=best.n if best else max((a.n for a in case.answers), default=0), residual_share=case.share, reason=reason,
        sample_at=sample_at, guards=guards, open_faults=case.faults, schools={**case.schools, "condition": finite(safe)},
        open_measurands=case.open_keys, properties=case.answers, slopes=case.slopes,
    )  # fmt: skip
    return replace(
        decision,
        next_sample=next_sample(case, decision, {g.key: g for g in rules.guards if g.bites}, rules.ceilings, outlook, rows, margin, ref),
    )


def _running_limiting(ranked: list[PropertyAnswer]) -> str | None:
    told = [a for a in ranked if a.running_safe is not None]
    return min(told, key=lambda a: a.running_safe or 0.0).key if told else None


def _nothing(case: Case) -> Fact:
    """Why no deciding property answers."""
    if thin := case.in_state(UNANSWERED):
        if all(a.n == 0 for a in thin):
            return case.told("no_charge_yet")
        if max(a.n for a in thin) == 1:
            return case.told("one_charge")
        return told("few_charges", of=keys_of(thin))
    if wrong := case.in_state(IMPOSSIBLE):
        return impossible(wrong)
    if unknown := case.in_state(NO_LIMIT):
        return told("limits_unknown", of=keys_of(unknown))
    return told("nothing_measured")


def _why_shorter(case: Case, reach: Reach, base: float, best: PropertyAnswer | None) -> Fact:
    allowed, safe = reach.allowed, reach.safe
    if reach.pushed in ("cap", "oil_cap", "filter", "bypass"):
        return case.told(f"{reach.pushed}_below", limit=allowed, base=base)
    if reach.pushed == "school":
        return case.told("school", limit=allowed, school=case.policy.school)
    if case.faults and allowed == reach.as_is and allowed != safe:
        repaired = (case.told("repaired", safe=safe),) if math.isfinite(safe) else ()
        return case.told("as_it_is", *repaired, limit=allowed)
    assert best is not None
    if allowed < 1:
        return told("too_close", of=best.key)
    return case.told("shorter", safe=allowed, base=base, of=best.key)


def _worth(
    guard: Guard, ceilings: dict[str, float], free: float, proposed: float | None, base: float | None, step: float, result: str
) -> Guard:
    """The guard with what its going alone would be worth: how much further the proposal could go, all others standing."""
    if not guard.bites or base is None or proposed is None or guard.key not in ceilings:
        return guard
    rest = [x for k, x in ceilings.items() if k != guard.key]
    reach = min([free, *rest])
    now = proposed if result != SHORTEN else min(proposed, base)
    return replace(guard, worth=max(rounded_down(reach, step) - now, 0.0) if math.isfinite(reach) else None)
