"""From safe hours to an answer: what is allowed, which guards bite and what lifts them, the outcome, and the next best bottle.

Hours stand for km where a compartment counts distance.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from vornet.core.decision import (
    ANSWERED,
    HOLD,
    IMPOSSIBLE,
    LENGTHEN,
    NO_LIMIT,
    NOT_ENOUGH,
    SHORTEN,
    UNANSWERED,
    UNMEASURED,
    Decision,
    Guard,
    NextSample,
    Policy,
    PropertyAnswer,
    Terms,
)
from vornet.core.fact import Fact, told
from vornet.core.judge import RUN_ON
from vornet.core.oil_properties import BY_PROPERTY, PROPERTIES
from vornet.core.outlook import Outlook

#: with too few charges an interval is shortened only when safe hours fall clearly short of it
CLEARLY_SHORT = 0.9
#: a property told by too few charges waits for more only while its safe hours are less than so many times the interval
NEAR = 2.0
#: a bottle that settles something is drawn in this last part of the interval
LATE = 0.85
#: share of the interval from which a bottle can show that a fault is gone
HALF_OF = 0.5
#: oil hours at which a bottle is weighed, as shares of the interval
BOTTLES = (0.6, 1.0)


@dataclass(frozen=True)
class Case:
    """Everything an outcome rests on, of one compartment. ``joint``, ``running`` and their ``_as_is`` twins: safe hours of all
    properties together, ∞ never, NaN none told; ``mild``: the joint ones had bends that nobody saw been feared less. ``longest``:
    the least of the deepest samples of answered properties. ``changed_after_approval``: the interval in force was approved on
    another oil's evidence. ``on_oil``: oil hours of the running charge's last sample."""

    distance: bool
    current: float | None
    answers: tuple[PropertyAnswer, ...]
    policy: Policy
    terms: Terms
    verdicts: np.ndarray
    unsigned: int
    passed_over: int
    joint: float
    mild: float
    joint_as_is: float
    running: float
    running_as_is: float
    longest: float | None
    faults: tuple[Fact, ...]
    open_keys: tuple[str, ...]
    schools: dict[str, float | None]
    share: float
    slopes: bytes
    changed_after_approval: bool
    oil: str
    on_oil: float

    @property
    def unit(self) -> str:
        return "km" if self.distance else "h"

    @property
    def step(self) -> float:
        return self.policy.step_km if self.distance else self.policy.step_h

    def told(self, kind: str, *parts: Fact, **things: float | str | tuple[str, ...]) -> Fact:
        """A fact about this compartment: lengths on its meter, its oil by name."""
        return told(kind, *parts, **things, meter=self.unit, oil=self.oil)

    def in_state(self, state: str) -> list[PropertyAnswer]:
        return [a for a in self.answers if a.state == state]

    @property
    def evidence_cap(self) -> float | None:
        return None if self.longest is None else self.policy.beyond_sampled * self.longest

    @property
    def base(self) -> float | None:
        return self.current if self.current is not None else self.longest


def _down(value: float, step: float) -> float:
    return math.floor(value / step + 1e-9) * step


def _number(x: float) -> float | None:
    return float(x) if math.isfinite(x) else None


def _keys(answers: list[PropertyAnswer]) -> tuple[str, ...]:
    return tuple(a.key for a in answers)


def _ranked(case: Case) -> list[PropertyAnswer]:
    """Answered properties, the one that limits first: the likeliest to be past its limit at the joint safe hours."""
    told = case.in_state(ANSWERED)
    return sorted(told, key=lambda a: (math.inf if a.safe is None else a.safe, -(a.chance_at_safe or 0.0)))


def _few(case: Case, ranked: list[PropertyAnswer]) -> list[PropertyAnswer]:
    """Answered properties that too few charges tell, where that matters: the limiting one, and any that may come near."""
    needed, base = case.policy.charges_needed, case.base
    few = [a for a in ranked if a.n < needed]
    near = [a for a in few if a.safe is not None and base is not None and a.safe < NEAR * base]
    return few if ranked and ranked[0] in few and not near else near


@dataclass
class _Rules:
    """Guards as they are asked; ``ceilings``: how far each lets the proposal go, where it limits lengthening."""

    guards: list[Guard]
    ceilings: dict[str, float]

    def ask(self, key: str, bites: bool, fact: Fact, ceiling: float = math.inf, lifts: Fact | None = None) -> bool:
        self.guards.append(Guard(key, bool(bites), fact, lifts if bites else None))
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
    which = told("charges_of", of=_keys(few)) if few and few[0] is not ranked[0] else told("charges_limiting")
    return told("charges", which, n=n, needed=needed), max(needed - n, 0)


def _blocks(case: Case, rules: _Rules, ranked: list[PropertyAnswer], base: float) -> None:
    """Guards that stop lengthening altogether, until something lifts them."""
    faults = case.faults
    rules.ask("open_fault", bool(faults), told("open_faults", *faults) if faults else told("no_open_fault"),
              base if faults else math.inf, told("lifts_fault"))  # fmt: skip
    calm, to_go, fact = _verdicts(case)
    rules.ask("verdicts", not calm, fact, math.inf if calm else base, told("lifts_verdicts", to_go=to_go))
    few = _few(case, ranked)
    fact, more = _charges(case, few, ranked)
    rules.ask("charges", bool(few), fact, base if few else math.inf, told("lifts_charges", more=more))
    for state in (UNANSWERED, NO_LIMIT):
        if lacking := _keys(case.in_state(state)):
            rules.ask(state, True, told(state, of=lacking), base, case.told(f"lifts_{state}", of=lacking))
    if wrong := case.in_state(IMPOSSIBLE):
        rules.ask("impossible", True, _impossible(wrong), base, told("lifts_impossible"))
    if bounded := [a for a in ranked if a.bounded]:
        n = max(a.bounded for a in bounded)
        rules.ask("bounded", True, told("bounded", n=n, of=_keys(bounded)), base, told("lifts_bounded"))
    if missing := case.in_state(UNMEASURED):
        rules.ask("unmeasured", False, told("unmeasured", of=_keys(missing)))
    never = bool(ranked) and not math.isfinite(case.joint)
    rules.ask("never", never, told("never" if never else "within_reach"), base if never else math.inf, told("lifts_never"))


def _impossible(wrong: list[PropertyAnswer]) -> Fact:
    return told("impossible", *(told("impossible_limit", of=a.key, new=a.new_oil or 0.0, limit=a.limit or 0.0) for a in wrong))


@dataclass(frozen=True)
class _Reach:
    """How far an interval may go: ``safe`` hours (NaN none told) and ``as_is`` with the faults standing; ``free`` before any rule,
    ``allowed`` after what caps it; ``pushed``: the key of what forces a shorter one beside the oil itself."""

    safe: float
    as_is: float
    free: float
    allowed: float
    pushed: str


def _caps(case: Case, rules: _Rules, told_any: bool) -> _Reach:
    """What caps the interval, and how far it may go under them."""
    terms = case.terms
    safe = case.joint if told_any else math.nan
    as_is = float(np.fmin(case.joint_as_is, safe))  # charges that a fault moved never flatter
    free = math.inf if math.isnan(safe) else safe
    allowed, pushed = free, ""
    if case.faults:
        allowed = min(free, math.inf if math.isnan(as_is) else as_is, math.inf if case.current is None else case.current)
    for key, limit in (("cap", terms.cap), ("oil_cap", terms.oil_cap)):
        if limit is not None:
            rules.ask(key, allowed > limit, case.told(key, limit=limit), limit, told("lifts_cap"))
            if limit < allowed:
                allowed, pushed = limit, key
    fallen = case.changed_after_approval and terms.stated is not None and case.current is not None and terms.stated < case.current
    if fallen and terms.stated is not None:
        rules.ask("oil_change", True, case.told("oil_change", limit=terms.stated), terms.stated,
                  case.told("lifts_oil_change", needed=case.policy.charges_needed))  # fmt: skip
        if terms.stated < allowed:
            allowed, pushed = terms.stated, "oil_change"
    return _Reach(safe, as_is, free, allowed, pushed)


def _steps(case: Case, rules: _Rules, allowed: float) -> None:
    """Guards that let the interval move so far and no farther."""
    policy, terms, base, cap = case.policy, case.terms, case.base, case.evidence_cap
    if cap is not None:
        rules.ask("sampled", allowed > cap, case.told("sampled", times=policy.beyond_sampled, limit=cap), cap,
                  case.told("lifts_sampled", longest=case.longest or 0))  # fmt: skip
    if base is not None:
        most = base * (1 + policy.most_at_once)
        rules.ask("step", allowed > most, case.told("step", share=policy.most_at_once, limit=most), most, told("lifts_step"))
    if terms.calendar is not None:
        sooner = allowed > terms.calendar and (case.current is None or terms.calendar > 0)
        rules.ask("calendar", sooner, case.told("calendar", limit=terms.calendar), max(terms.calendar, case.current or 0.0),
                  told("lifts_calendar"))  # fmt: skip


def _answer(case: Case, rules: _Rules, reach: _Reach, ranked: list[PropertyAnswer]) -> tuple[str, float | None, Fact]:
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
        proposed = _down(allowed, case.step) or float(math.floor(allowed)) or None
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
    blocked = [bites[k].fact for k in ("open_fault", "verdicts", "no_limit", "impossible", "bounded", "never") if k in bites]
    if blocked:
        return HOLD, base, told("reasons", *blocked)
    worth_it = base * (1 + policy.least_gain)
    proposed = _down(min(allowed, ceiling), case.step)
    if proposed > base and min(allowed, ceiling) >= worth_it:
        return LENGTHEN, proposed, case.told("longer", safe=safe, of=best.key)
    biting = [g.fact for g in rules.guards if g.bites and rules.ceilings.get(g.key, math.inf) < worth_it]
    return HOLD, base, biting[-1] if biting else case.told("too_little", safe=safe, base=base)


def outcome(case: Case, outlook: Outlook, rows: np.ndarray, margin: np.ndarray, ref: float) -> Decision:
    """The decision of one compartment. ``rows`` (P,): its properties' rows in ``outlook`` (−1 none), ``margin`` (P,)."""
    ranked = _ranked(case)
    best = ranked[0] if ranked else None
    second = ranked[1] if len(ranked) > 1 else None
    base, cap = case.base, case.evidence_cap
    rules = _Rules([], {})
    _blocks(case, rules, ranked, base if base is not None else math.inf)
    reach = _caps(case, rules, best is not None)
    _steps(case, rules, reach.allowed)
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
        sample_at = (_down(LATE * base, case.step) or LATE * base, base)
    limiting = best.key if best and best.safe is not None else None
    safe = reach.safe
    decision = Decision(
        result, proposed, case.current, _number(safe), _number(reach.as_is), best is not None and not math.isfinite(safe), limiting,
        second.key if second and second.safe is not None else None, second.safe if second else None,
        cap is not None and not math.isnan(safe) and safe > cap, cap, _number(case.running), _number(case.running_as_is),
        _running_limiting(ranked), best.n if best else max((a.n for a in case.answers), default=0), case.share, reason, sample_at, guards,
        case.faults, {**case.schools, "condition": _number(safe)}, case.open_keys, None, case.answers, case.slopes,
    )  # fmt: skip
    return replace(
        decision,
        next_sample=_next_sample(case, decision, {g.key: g for g in rules.guards if g.bites}, rules.ceilings, outlook, rows, margin, ref),
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
        return told("few_charges", of=_keys(thin))
    if wrong := case.in_state(IMPOSSIBLE):
        return _impossible(wrong)
    if unknown := case.in_state(NO_LIMIT):
        return told("limits_unknown", of=_keys(unknown))
    return told("nothing_measured")


def _why_shorter(case: Case, reach: _Reach, base: float, best: PropertyAnswer | None) -> Fact:
    allowed, safe = reach.allowed, reach.safe
    if reach.pushed in ("cap", "oil_cap"):
        return case.told(f"{reach.pushed}_below", limit=allowed, base=base)
    if reach.pushed == "oil_change":
        return case.told("oil_change", limit=allowed)
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
    return replace(guard, worth=max(_down(reach, step) - now, 0.0) if math.isfinite(reach) else None)


def _next_sample(
    case: Case, decision: Decision, bites: dict[str, Guard], ceilings: dict[str, float], outlook: Outlook, rows: np.ndarray,
    margin: np.ndarray, ref: float,
) -> NextSample | None:  # fmt: skip
    """The bottle most worth drawing for this decision."""
    base = case.base
    unknown = case.in_state(NO_LIMIT)
    if unknown:
        return NextSample("new_oil", case.told("bottle_new", of=_keys(unknown)), None, None)
    if base is None:
        return None
    late = (_down(LATE * base, case.step) or LATE * base, base)
    if case.faults:
        half = max(HALF_OF * base, case.on_oil)
        return NextSample("used", told("bottle_fault"), (half, base), None)
    thin = case.in_state(UNANSWERED)
    if thin or not case.in_state(ANSWERED):
        return NextSample("used", told("bottle_thin", of=_keys(thin)) if thin else told("bottle_any"), late, None)
    if "charges" in bites or "bounded" in bites:
        return NextSample("used", told("bottle_charge"), late, None)
    if "verdicts" in bites:
        lifts = bites["verdicts"].lifts
        return NextSample("used", told("bottle_verdict", *filter(None, [lifts])), (max(0.5 * base, case.on_oil), base), None)
    if decision.outcome == NOT_ENOUGH and decision.safe is not None and decision.safe < base <= case.mild:
        middle = (_down(HALF_OF * base, case.step) or HALF_OF * base, 0.6 * base)
        return NextSample("used", told("bottle_bend"), middle, None)
    found = _weighed(case, decision, ceilings, outlook, rows, margin, ref, base)
    if found is not None:
        return found
    if "sampled" in bites and case.longest is not None:
        return NextSample("used", told("bottle_end"), (max(late[0], case.longest), max(base, case.longest)), None)
    return None


@lru_cache(maxsize=16)
def _scores(confidence: float) -> tuple[float, np.ndarray]:
    """(one-sided normal quantile, what a bottle may show in standard scores, evenly likely)."""
    from scipy import special

    return float(special.ndtri(confidence)), special.ndtri((np.arange(41) + 0.5) / 41)


def _weighed(
    case: Case, decision: Decision, ceilings: dict[str, float], outlook: Outlook, rows: np.ndarray, margin: np.ndarray, ref: float,
    base: float,
) -> NextSample | None:  # fmt: skip
    """Of bottles at several oil hours the one most likely to change the proposal, by what it may show and what would follow.

    Preposterior, by normal approximation of the limiting property: the bottle's rise is drawn from the outlook, moves its mean by
    the share e²/(e² + τ² + noise²), and the safe hours follow.
    """
    if decision.limiting is None or decision.proposed is None or decision.safe is None:
        return None
    best = next(a for a in case.answers if a.key == decision.limiting)
    j = PROPERTIES.index(BY_PROPERTY[best.key])
    if rows[j] < 0 or not best.safe or best.mean_se is None:
        return None
    m, tau, e, p = (float(x[0]) for x in outlook.of(rows[[j]]).moments())
    noise = math.sqrt(max(best.n * e**2 - tau**2, (0.3 * e) ** 2))
    z, scores = _scores(case.policy.confidence)
    lean = decision.safe / best.safe  # the other properties' part
    ceiling = min(ceilings.values(), default=math.inf)
    found: tuple[float, float] | None = None
    for share in BOTTLES:
        at = share * base
        if at <= case.on_oil + 0.1 * base:
            continue
        v = (noise / max((at / ref) ** p, 1e-6)) ** 2
        gain = e**2 / (e**2 + tau**2 + v)
        seen = m + gain * math.sqrt(e**2 + tau**2 + v) * scores
        spread = math.sqrt(tau**2 + (1 - gain) * e**2)
        reach = margin[j] * (1 - case.share) / np.maximum(seen + z * spread, 1e-9)
        safe = lean * ref * np.maximum(reach, 0) ** (1 / p)
        # every figure on the same approximation, so that only the bottle makes a difference
        today = lean * ref * (max(margin[j] * (1 - case.share) / max(m + z * math.hypot(tau, e), 1e-9), 0.0)) ** (1 / p)

        def answer(hours: np.ndarray | float) -> np.ndarray:
            return np.floor(np.minimum(hours, ceiling) / case.step + 1e-9)

        chance = float(np.mean(answer(safe) != answer(today)))
        if found is None or chance > found[1] + 0.02:
            found = (at, chance)
    if found is None or found[1] < 0.02:
        return None
    at, chance = found
    return NextSample("used", case.told("bottle_weighed", at=at, of=best.key), (_down(at, case.step) or at, at), chance)
