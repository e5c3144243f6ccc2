"""Guards: rules that let an interval move or not, what each lets it go to, and what lifts it.

Hours stand for km where a compartment counts distance.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from vornet.core.decision import (
    IMPOSSIBLE,
    NO_LIMIT,
    UNANSWERED,
    UNMEASURED,
    Guard,
    PropertyAnswer,
)
from vornet.core.decision_case import Case, keys_of
from vornet.core.fact import Fact, told
from vornet.core.judge import RUN_ON

#: caps that another part lifts
FILTERS = ("filter", "bypass")
#: a property told by too few charges waits for more only while its safe hours are less than so many times the interval
NEAR = 2.0


def _few(case: Case, ranked: list[PropertyAnswer]) -> list[PropertyAnswer]:
    """Answered properties that too few charges tell, where that matters: the limiting one, and any that may come near."""
    needed, base = case.policy.charges_needed, case.base
    few = [a for a in ranked if a.n < needed]
    near = [a for a in few if a.safe is not None and base is not None and a.safe < NEAR * base]
    return few if ranked and ranked[0] in few and not near else near


@dataclass
class Rules:
    """Guards as they are asked; ``ceilings``: how far each lets the proposal go, where it limits lengthening."""

    guards: list[Guard]
    ceilings: dict[str, float]

    def ask(
        self, key: str, bites: bool, fact: Fact, ceiling: float = math.inf, lifts: Fact | None = None, wall: float | None = None
    ) -> bool:  # fmt: skip
        """``ceiling``: how far it lets the proposal go; ``wall``: where it stands along the hours."""
        self.guards.append(Guard(key, bool(bites), fact, lifts if bites else None, None, wall, ceiling if math.isfinite(ceiling) else None))
        if bites or math.isfinite(ceiling):
            self.ceilings[key] = ceiling
        return bool(bites)


def _verdicts(case: Case) -> tuple[bool, int, Fact]:
    """(are the last verdicts all Run on, how many more are needed, what is to be said of it)."""
    needed = case.policy.run_on_needed
    recent = case.verdicts[-needed:]
    calm = len(recent) >= needed and bool(np.all(recent == RUN_ON))
    good = 0
    for v in recent[::-1]:
        if v != RUN_ON:
            break
        good += 1
    more = [told("unsigned", n=case.unsigned)] if case.unsigned else []
    if case.passed_over:
        more.append(told("passed_over", n=case.passed_over))
    to_go = needed - good
    return calm, to_go, told("calm", *more, needed=needed) if calm else told("verdicts_to_go", *more, to_go=to_go)


def _charges(case: Case, few: list[PropertyAnswer], ranked: list[PropertyAnswer]) -> tuple[Fact, int]:
    """(how many of the charges needed there are, how many are lacking)."""
    needed = case.policy.charges_needed
    n = min((a.n for a in few), default=ranked[0].n if ranked else max((a.n for a in case.answers), default=0))
    which = told("charges_of", of=keys_of(few)) if few and few[0] is not ranked[0] else told("charges_limiting")
    return told("charges", which, n=n, needed=needed), max(needed - n, 0)


def blocks(case: Case, rules: Rules, ranked: list[PropertyAnswer], base: float) -> None:
    """Guards that stop lengthening altogether, until something lifts them."""
    faults = case.faults
    rules.ask("open_fault", bool(faults), told("open_faults", *faults) if faults else told("no_open_fault"),
              base if faults else math.inf, told("lifts_fault"))  # fmt: skip
    held = case.held
    rules.ask("held_bottle", bool(held), told("held_bottles", *held) if held else told("no_held_bottle"), base if held else math.inf,
              told("lifts_held_bottle"))  # fmt: skip
    calm, to_go, fact = _verdicts(case)
    rules.ask("verdicts", not calm, fact, math.inf if calm else base, told("lifts_verdicts", to_go=to_go))
    few = _few(case, ranked)
    fact, more = _charges(case, few, ranked)
    rules.ask("charges", bool(few), fact, base if few else math.inf, told("lifts_charges", more=more))
    for state in (UNANSWERED, NO_LIMIT):
        if lacking := keys_of(case.in_state(state)):
            rules.ask(state, True, told(state, of=lacking), base, case.told(f"lifts_{state}", of=lacking))
    if wrong := case.in_state(IMPOSSIBLE):
        rules.ask("impossible", True, impossible(wrong), base, told("lifts_impossible"))
    if bounded := [a for a in ranked if a.bounded]:
        n = max(a.bounded for a in bounded)
        rules.ask("bounded", True, told("bounded", n=n, of=keys_of(bounded)), base, told("lifts_bounded"))
    if missing := case.in_state(UNMEASURED):
        rules.ask("unmeasured", False, told("unmeasured", of=keys_of(missing)))
    never = bool(ranked) and not math.isfinite(case.joint)
    rules.ask("never", never, told("never" if never else "within_reach"), base if never else math.inf, told("lifts_never"))


def impossible(wrong: list[PropertyAnswer]) -> Fact:
    return told("impossible", *(told("impossible_limit", of=a.key, new=a.new_oil or 0.0, limit=a.limit or 0.0) for a in wrong))


@dataclass(frozen=True)
class Reach:
    """How far an interval may go: ``safe`` hours (NaN none told) and ``as_is`` with the faults standing; ``free`` before any rule,
    ``allowed`` after what caps it; ``pushed``: the key of what forces a shorter one beside the oil itself."""

    safe: float
    as_is: float
    free: float
    allowed: float
    pushed: str


def caps(case: Case, rules: Rules, told_any: bool) -> Reach:
    """What caps the interval, and how far it may go under them."""
    terms = case.terms
    safe = case.joint if told_any else math.nan
    as_is = float(np.fmin(case.joint_as_is, safe))  # charges that a fault moved never flatter
    free = math.inf if math.isnan(safe) else safe
    allowed, pushed = free, ""
    if case.faults:
        allowed = min(free, math.inf if math.isnan(as_is) else as_is, math.inf if case.current is None else case.current)
    for key, limit in (("cap", terms.cap), ("oil_cap", terms.oil_cap), ("filter", terms.filter), ("bypass", terms.bypass)):
        if limit is not None:
            lifts = told("lifts_filter" if key in FILTERS else "lifts_cap")
            rules.ask(key, allowed > limit, case.told(key, limit=limit), limit, lifts, limit)
            if limit <= allowed:
                allowed, pushed = limit, key
    school = case.policy.school
    figure = case.schools.get(school) if school != "condition" else None
    if figure is not None and math.isfinite(figure):
        rules.ask("school", allowed > figure, case.told("school", limit=figure, school=school), figure, told("lifts_school"), figure)
        if figure <= allowed:
            allowed, pushed = figure, "school"
    elif school != "condition":  # a rule whose figure nobody knows is no leave to go on: what is run stays
        base = case.base
        rules.ask("school", True, case.told("school_unknown", school=school), math.inf if base is None else base,
                  told("lifts_school_unknown", school=school))  # fmt: skip
    return Reach(safe, as_is, free, allowed, pushed)


def steps(case: Case, rules: Rules, allowed: float) -> None:
    """Guards that let the interval move so far and no farther."""
    policy, terms, base, cap = case.policy, case.terms, case.base, case.evidence_cap
    if cap is not None:
        rules.ask("sampled", allowed > cap, case.told("sampled", times=policy.beyond_sampled, limit=cap), cap,
                  case.told("lifts_sampled", longest=case.longest or 0), cap)  # fmt: skip
    if base is not None:
        most = base * (1 + policy.most_at_once)
        rules.ask("step", allowed > most, case.told("step", share=policy.most_at_once, limit=most), most, told("lifts_step"), most)
    if terms.trial is not None and base is not None:
        rules.ask("trial", allowed > base, case.told("trial", limit=terms.trial), base, told("lifts_trial"))
    if terms.calendar is not None:
        sooner = allowed > terms.calendar and (case.current is None or terms.calendar > 0)
        rules.ask("calendar", sooner, case.told("calendar", limit=terms.calendar), max(terms.calendar, case.current or 0.0),
                  told("lifts_calendar"), terms.calendar)  # fmt: skip
