"""The bottle most worth drawing for a decision."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

from vornet.core.decision import (
    ANSWERED,
    NO_LIMIT,
    NOT_ENOUGH,
    UNANSWERED,
    Decision,
    Guard,
    NextSample,
)
from vornet.core.decision_case import HALF_OF, LATE, Case, keys_of, rounded_down
from vornet.core.fact import told
from vornet.core.oil_properties import BY_PROPERTY, PROPERTIES
from vornet.core.outlook import Outlook

#: oil hours at which a bottle is weighed, as shares of the interval
BOTTLES = (0.6, 1.0)


def next_sample(
    case: Case, decision: Decision, bites: dict[str, Guard], ceilings: dict[str, float], outlook: Outlook, rows: np.ndarray,
    margin: np.ndarray, ref: float,
) -> NextSample | None:  # fmt: skip
    """The bottle most worth drawing for this decision."""
    base = case.base
    unknown = case.in_state(NO_LIMIT)
    if unknown:
        return NextSample("new_oil", case.told("bottle_new", of=keys_of(unknown)), None, None)
    if base is None:
        return None
    late = (rounded_down(LATE * base, case.step) or LATE * base, base)
    if case.faults:
        half = max(HALF_OF * base, case.on_oil)
        return NextSample("used", told("bottle_fault"), (half, base), None)
    thin = case.in_state(UNANSWERED)
    if thin or not case.in_state(ANSWERED):
        return NextSample("used", told("bottle_thin", of=keys_of(thin)) if thin else told("bottle_any"), late, None)
    if "charges" in bites or "bounded" in bites:
        return NextSample("used", told("bottle_charge"), late, None)
    if "verdicts" in bites:
        lifts = bites["verdicts"].lifts
        return NextSample("used", told("bottle_verdict", *filter(None, [lifts])), (max(0.5 * base, case.on_oil), base), None)
    if decision.outcome == NOT_ENOUGH and decision.safe is not None and decision.safe < base <= case.mild:
        middle = (rounded_down(HALF_OF * base, case.step) or HALF_OF * base, 0.6 * base)
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
    return NextSample("used", case.told("bottle_weighed", at=at, of=best.key), (rounded_down(at, case.step) or at, at), chance)
