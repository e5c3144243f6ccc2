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
from vornet.core.judge import RUN_ON
from vornet.core.measurands import spoken
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
    faults: tuple[str, ...]
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

    def length(self, x: float) -> str:
        return f"{x:,.0f} {self.unit}"

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


def _names(answers: list[PropertyAnswer]) -> str:
    """Names inside a sentence, each thing once: thickening and thinning are one viscosity."""
    return ", ".join(dict.fromkeys(spoken(a.name).partition(", ")[0] for a in answers))


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

    def ask(self, key: str, bites: bool, text: str, ceiling: float = math.inf, lifts: str = "") -> bool:
        self.guards.append(Guard(key, bool(bites), text, lifts if bites else ""))
        if bites or math.isfinite(ceiling):
            self.ceilings[key] = ceiling
        return bool(bites)


def _verdict_words(case: Case) -> tuple[bool, int, str]:
    """(are the last verdicts all Run on, how many more are needed, in words)."""
    needed = case.policy.run_on_needed
    recent = case.verdicts[-needed:]
    calm = len(recent) >= needed and bool(np.all(recent == RUN_ON))
    good = 0
    for v in recent[::-1]:
        if v != RUN_ON:
            break
        good += 1
    text = f"Last {needed} verdicts are Run on" if calm else f"Run on: {needed - good} more samples to go"
    if case.unsigned:
        text += f" ({case.unsigned} of them only proposed, not signed)"
    if case.passed_over:
        text += f"; {case.passed_over} drawn after the oil had stood not counted"
    return calm, needed - good, text


def _blocks(case: Case, rules: _Rules, ranked: list[PropertyAnswer], base: float) -> None:
    """Guards that stop lengthening altogether, until something lifts them."""
    faults = case.faults
    rules.ask("open_fault", bool(faults), "Open: " + "; ".join(faults) if faults else "No open fault", base if faults else math.inf,
              "A later sample whose rise is back at the usual, or a finding, closes it")  # fmt: skip
    calm, to_go, text = _verdict_words(case)
    rules.ask("verdicts", not calm, text, math.inf if calm else base, f"{to_go} more in a row that say Run on")
    few = _few(case, ranked)
    n = min((a.n for a in few), default=ranked[0].n if ranked else max((a.n for a in case.answers), default=0))
    needed = case.policy.charges_needed
    word = f" ({_names(few)})" if few and few[0] is not ranked[0] else " for the limiting property"
    more = max(needed - n, 0)
    rules.ask("charges", bool(few), f"{n} of {needed} charges sampled{word}", base if few else math.inf,
              f"{more} more {'charge' if more == 1 else 'charges'} of this oil, each sampled near its end")  # fmt: skip
    thin, unknown, wrong = case.in_state(UNANSWERED), case.in_state(NO_LIMIT), case.in_state(IMPOSSIBLE)
    if thin:
        rules.ask("unanswered", True, f"Measured too seldom to answer: {_names(thin)}", base,
                  f"Bottles late in the next charges with {_names(thin)} measured")  # fmt: skip
    if unknown:
        rules.ask("no_limit", True, f"Limit not known without the new oil's value: {_names(unknown)}", base,
                  f"A sample of new {case.oil or 'oil'} with {_names(unknown)} measured")  # fmt: skip
    if wrong:
        rules.ask("impossible", True, f"This limit cannot hold for this oil: {_said_impossible(wrong)}", base,
                  "Another limit for this oil, or its new-oil value put right")  # fmt: skip
    bounded = [a for a in ranked if a.bounded]
    if bounded:
        n = max(a.bounded for a in bounded)
        rules.ask("bounded", True, f"Known only to lie beyond what the lab reports in {n} charges: {_names(bounded)}", base,
                  "Figures from the lab in place of bounds, over as many charges as are needed")  # fmt: skip
    missing = case.in_state(UNMEASURED)
    if missing:
        rules.ask("unmeasured", False, f"Never measured here, so not weighed: {_names(missing)}")
    never = bool(ranked) and not math.isfinite(case.joint)
    text = "No limit is within reach: that alone never lengthens" if never else "A limit is within reach"
    rules.ask("never", never, text, base if never else math.inf, "Samples at greater oil age, until a limit comes into reach")


def _said_impossible(wrong: list[PropertyAnswer]) -> str:
    return "; ".join(f"{spoken(a.name)} of new oil {a.new_oil:g}, limit {a.limit:g} {a.unit}".strip() for a in wrong)


def outcome(case: Case, outlook: Outlook, rows: np.ndarray, margin: np.ndarray, ref: float) -> Decision:
    """The decision of one compartment. ``rows`` (P,): its properties' rows in ``outlook`` (−1 none), ``margin`` (P,)."""
    policy, terms, step, length = case.policy, case.terms, case.step, case.length
    ranked = _ranked(case)
    best = ranked[0] if ranked else None
    second = ranked[1] if len(ranked) > 1 else None
    base, cap = case.base, case.evidence_cap
    faults = case.faults
    rules = _Rules([], {})
    floor = base if base is not None else math.inf
    _blocks(case, rules, ranked, floor)

    safe = case.joint if best is not None else math.nan
    as_is = float(np.fmin(case.joint_as_is, safe))  # charges that a fault moved never flatter
    free = math.inf if math.isnan(safe) else safe
    allowed = free
    if faults:
        allowed = min(free, math.inf if math.isnan(as_is) else as_is, math.inf if case.current is None else case.current)
    pushed = ""  # what forces a shorter interval beside the oil itself
    for key, limit, text in (
        ("cap", terms.cap, "Maker's or warranty cap"), ("oil_cap", terms.oil_cap, f"What {case.oil or 'the oil'} may run at most"),
    ):  # fmt: skip
        if limit is not None:
            rules.ask(key, allowed > limit, f"{text} {length(limit)}", limit, "The maker's written consent to more")
            if limit < allowed:
                allowed, pushed = limit, key
    fallen = case.changed_after_approval and terms.stated is not None and case.current is not None and terms.stated < case.current
    if fallen:
        assert terms.stated is not None
        rules.ask("oil_change", True, f"Approved on another oil's evidence: back to {length(terms.stated)} until {case.oil or 'this oil'} "
                  "has charges of its own", terms.stated, f"{policy.charges_needed} charges of {case.oil or 'this oil'}")  # fmt: skip
        if terms.stated < allowed:
            allowed, pushed = terms.stated, "oil_change"
    if cap is not None:
        text = f"At most {policy.beyond_sampled:g} × the longest oil hours sampled: {length(cap)}"
        rules.ask("sampled", allowed > cap, text, cap, f"A bottle later than {length(case.longest or 0)} on one oil")
    if base is not None:
        most = base * (1 + policy.most_at_once)
        rules.ask("step", allowed > most, f"At most +{policy.most_at_once:.0%} at once: {length(most)}", most,
                  "A next step, once this one holds")  # fmt: skip
    if terms.calendar is not None:
        sooner = allowed > terms.calendar and (case.current is None or terms.calendar > 0)
        rules.ask("calendar", sooner, f"The calendar limit falls at about {length(terms.calendar)}", max(terms.calendar, case.current or 0.0),
                  "A longer calendar limit, or more use")  # fmt: skip

    bites = {g.key: g for g in rules.guards if g.bites}
    ceiling = min(rules.ceilings.values(), default=math.inf)
    few = "charges" in bites
    proposed: float | None
    known = best is not None or (bool(faults) and math.isfinite(as_is)) or bool(pushed)
    if base is None:
        result, proposed = NOT_ENOUGH, None
        reason = "No interval on record to move" if best else _nothing(case)
    elif best is not None and allowed == safe < base <= case.mild and not pushed:
        bends = best if best.chance_at_safe is None else max(ranked, key=lambda a: a.chance_at_safe or 0.0)
        result, proposed = NOT_ENOUGH, base
        reason = (f"Safe for {length(safe)} should {spoken(bends.name)} bend as it may, {_at_least(case)} if it does not: no bottle "
                  "half way has shown which")  # fmt: skip
        if cap is not None and cap < base:
            reason = f"Never sampled beyond {length(case.longest or 0)} of a {length(base)} interval"
    elif known and allowed < base and not (few and allowed >= CLEARLY_SHORT * base and not pushed):
        result, proposed, reason = SHORTEN, _down(allowed, step) or float(math.floor(allowed)) or None, _why_shorter(
            case, allowed, base, pushed, best, safe, as_is)  # fmt: skip
    elif best is None:
        result, proposed = (HOLD, base) if faults and math.isfinite(as_is) else (NOT_ENOUGH, base)
        reason = bites["open_fault"].text if result == HOLD else _nothing(case)
    elif "unanswered" in bites:
        result, proposed, reason = NOT_ENOUGH, base, bites["unanswered"].text
    elif few:
        result, proposed = NOT_ENOUGH, base
        reason = bites["charges"].text.replace(" for the limiting property", "")
    elif cap is not None and cap < base:
        result, proposed = NOT_ENOUGH, base
        reason = f"Never sampled beyond {length(case.longest or 0)} of a {length(base)} interval"
    else:
        blocked = [bites[k].text for k in ("open_fault", "verdicts", "no_limit", "impossible", "bounded", "never") if k in bites]
        proposed = _down(min(allowed, ceiling), step)
        if blocked:
            result, proposed, reason = HOLD, base, "; ".join(blocked)
        elif proposed > base and min(allowed, ceiling) >= base * (1 + policy.least_gain):
            result, reason = LENGTHEN, f"Safe for {length(safe)}, limited by {spoken(best.name)}"
        else:
            result, proposed = HOLD, base
            biting = [g.text for g in rules.guards if g.bites and rules.ceilings.get(g.key, math.inf) < base * (1 + policy.least_gain)]
            reason = biting[-1] if biting else f"Safe for {length(safe)}: too little above {length(base)} to move for"
    if best is not None and best.pace and best.pace > 1:
        reason += f". The last charges age {best.pace:.1f} times as fast as those before, and decide"
    if best is not None and best.borrowed:
        reason += f". Told by the family's charges of {case.oil or 'this oil'}, none of its own yet"
    guards = tuple(_worth(g, rules.ceilings, free, proposed, base, step, result) for g in rules.guards)
    sample_at = None
    if result == NOT_ENOUGH and base is not None:
        sample_at = (_down(LATE * base, step) or LATE * base, base)
    limiting = best.key if best and best.safe is not None else None
    decision = Decision(
        result, proposed, case.current, _number(safe), _number(as_is), best is not None and not math.isfinite(safe), limiting,
        second.key if second and second.safe is not None else None, second.safe if second else None,
        cap is not None and not math.isnan(safe) and safe > cap, cap, _number(case.running), _number(case.running_as_is),
        _running_limiting(ranked), best.n if best else max((a.n for a in case.answers), default=0), case.share, reason, sample_at, guards,
        faults, {**case.schools, "condition": _number(safe)}, case.open_keys, None, case.answers, case.slopes,
    )  # fmt: skip
    return replace(decision, next_sample=_next_sample(case, decision, bites, rules.ceilings, outlook, rows, margin, ref))


def _at_least(case: Case) -> str:
    return case.length(case.mild) if math.isfinite(case.mild) else "without a limit in reach"


def _running_limiting(ranked: list[PropertyAnswer]) -> str | None:
    told = [a for a in ranked if a.running_safe is not None]
    return min(told, key=lambda a: a.running_safe or 0.0).key if told else None


def _nothing(case: Case) -> str:
    """Why no deciding property answers."""
    if case.in_state(UNANSWERED):
        thin = case.in_state(UNANSWERED)
        if all(a.n == 0 for a in thin):
            return f"No charge of {case.oil or 'the oil in use'} has been sampled yet"
        if max(a.n for a in thin) == 1:
            return f"Only one charge of {case.oil or 'the oil in use'} has been sampled, and of one no spread can be told"
        return f"So few charges tell no spread: {_names(thin)}"
    if case.in_state(IMPOSSIBLE):
        return f"This limit cannot hold for this oil: {_said_impossible(case.in_state(IMPOSSIBLE))}"
    if case.in_state(NO_LIMIT):
        return f"Limits not known without the new oil's values: {_names(case.in_state(NO_LIMIT))}"
    return "No deciding property has been measured in a charge with a known start"


def _why_shorter(case: Case, allowed: float, base: float, pushed: str, best: PropertyAnswer | None, safe: float, as_is: float) -> str:
    length = case.length
    if pushed == "cap":
        return f"The maker's cap of {length(allowed)} lies below the {length(base)} it runs today"
    if pushed == "oil_cap":
        return f"{case.oil or 'The oil'} may run {length(allowed)} at most, and it runs {length(base)} today"
    if pushed == "oil_change":
        return f"Approved on another oil's evidence: back to {length(allowed)} until {case.oil or 'this oil'} has charges of its own"
    if case.faults and allowed == as_is and allowed != safe:
        reason = f"Safe for {length(allowed)} as it is now, with the fault open"
        return reason + (f"; {length(safe)} once repaired" if math.isfinite(safe) else "")
    assert best is not None
    if allowed < 1:
        return f"New oil lies too close to the limit of {spoken(best.name)} to run at all"
    return f"Safe for {length(allowed)} of the {length(base)} it runs today, limited by {spoken(best.name)}"


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
        return NextSample("new_oil", f"A bottle of new {case.oil or 'oil'}: without it no limit for {_names(unknown)}", None, None)
    if base is None:
        return None
    late = (_down(LATE * base, case.step) or LATE * base, base)
    if case.faults:
        half = max(HALF_OF * base, case.on_oil)
        text = "A bottle from warm oil at half the interval or later: it shows whether the fault is gone"
        return NextSample("used", text, (half, base), None)
    thin = case.in_state(UNANSWERED)
    if thin or not case.in_state(ANSWERED):
        what = _names(thin) if thin else "what wears the oil out"
        return NextSample("used", f"A bottle late in this charge with {what} measured", late, None)
    if "charges" in bites or "bounded" in bites:
        return NextSample("used", "A bottle late in this charge, with figures rather than bounds: one charge more that counts", late, None)
    if "verdicts" in bites:
        return NextSample("used", f"The next bottle from warm oil: {bites['verdicts'].lifts}", (max(0.5 * base, case.on_oil), base), None)
    if decision.outcome == NOT_ENOUGH and decision.safe is not None and decision.safe < base <= case.mild:
        middle = (_down(HALF_OF * base, case.step) or HALF_OF * base, 0.6 * base)
        return NextSample("used", "A bottle half way through a charge, and one at its end: together they show whether it bends", middle, None)
    found = _weighed(case, decision, ceilings, outlook, rows, margin, ref, base)
    if found is not None:
        return found
    if "sampled" in bites and case.longest is not None:
        return NextSample("used", "A bottle at the end of this charge: what lies beyond the oldest oil sampled is not proposed",
                          (max(late[0], case.longest), max(base, case.longest)), None)  # fmt: skip
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
    text = f"A bottle at about {case.length(at)}, with {spoken(best.name)} measured"
    return NextSample("used", text, (_down(at, case.step) or at, at), chance)
