"""What a decision is made by and what it says: policy, terms, guards, each property's answer, and the whole.

Hours stand for km where a compartment counts distance.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from vornet.core.fact import Fact
from vornet.core.oil_properties import PROPERTIES

LENGTHEN, HOLD, SHORTEN, NOT_ENOUGH = "lengthen", "hold", "shorten", "not_enough"
OUTCOME_WORDS = {
    LENGTHEN: "Lengthen", HOLD: "Hold", SHORTEN: "Shorten", NOT_ENOUGH: "Not enough evidence",
}  # fmt: skip


@dataclass(frozen=True)
class Policy:
    """The rules by which an interval may move; a dated version of a fleet's policy."""

    confidence: float = 0.95
    limit: str = "watch"
    run_on_needed: int = 3
    charges_needed: int = 3
    most_at_once: float = 0.25
    least_gain: float = 0.07
    beyond_sampled: float = 1.25
    step_h: float = 25.0
    step_km: float = 1000.0
    house_share: float = 0.5
    house_h: float = 0.0
    house_km: float = 0.0
    school: str = "condition"
    part_changes: str = "without"


@dataclass(frozen=True, kw_only=True)
class Terms:
    """What the register and the calendar add for one compartment, in meter units; None = unknown.

    ``oil_cap``: the most that the oil in use may run;
    ``trial``: the length that is on trial now. ``printed``: the maker's printed interval, apart from his cap; ``indicator``: what the
    on-board indicator asks for; ``claim``: the life the oil's supplier claims; ``filter``, ``bypass``: how long they may stay in.
    """

    cap: float | None = None
    calendar: float | None = None
    oil_cap: float | None = None
    trial: float | None = None
    printed: float | None = None
    indicator: float | None = None
    claim: float | None = None
    filter: float | None = None
    bypass: float | None = None


@dataclass(frozen=True)
class Guard:
    """A rule that was asked. ``bites`` when it changed or blocked the answer; then ``lifts`` says what lifts it, and ``worth``
    how much longer the proposal would be were this the only one gone (meter units). ``limit``: where it stands as a wall along the hours
    (None: it is none); ``ceiling``: the longest interval it lets through (None: any)."""

    key: str
    bites: bool
    fact: Fact
    lifts: Fact | None = None
    worth: float | None = None
    limit: float | None = None
    ceiling: float | None = None


@dataclass(frozen=True)
class NextSample:
    """The bottle that would most likely move this decision: ``kind`` used or new_oil, ``at`` oil hours (from, to) of the bottle,
    ``chance`` that the proposal then differs, None where a rule waits for it rather than a figure."""

    kind: str
    fact: Fact
    at: tuple[float, float] | None
    chance: float | None


class ChargeSlope(NamedTuple):
    """Slope of one property over one charge at reference hours, per meter unit; ``used`` in the safe hours, or left out: a
    fault moved it."""

    key: str
    charge: int
    start: float
    slope: float
    se: float
    samples: int
    used: bool


#: how a deciding property stands: it answers; it was measured too thinly to; its limit hangs on a new oil nobody knows; its new oil is
#: past the limit already; it was never measured here
ANSWERED, UNANSWERED, NO_LIMIT, IMPOSSIBLE, UNMEASURED = "answered", "unanswered", "no_limit", "impossible", "unmeasured"


@dataclass(frozen=True, kw_only=True)
class PropertyAnswer:
    """One property's way from numbers to safe hours; None = not known, ``never`` = no limit within reach.

    Slopes per meter unit at ``ref`` oil hours, along oil hours to the power ``bend``. ``borrowed``: the family's charges of
    this oil, none of its own; ``pace``: the last charges age so many times as fast and decide; ``bounded``: charges known only
    to be at least so steep; ``deepest``: longest oil hours at which it was sampled; ``chance_at_safe`` at the joint safe hours.
    """

    key: str
    name: str
    unit: str
    side: str
    state: str
    new_oil: float | None
    new_oil_estimated: bool
    limit: float | None
    n: int
    mean_slope: float | None
    between_sd: float | None
    mean_se: float | None
    bend: float | None
    ref: float | None
    mean_crossing: float | None
    safe: float | None
    safe_as_is: float | None
    never: bool
    running_safe: float | None
    running_never: bool
    running_start: float | None
    running_slope: float | None
    running_slope_sd: float | None
    borrowed: bool = False
    pace: float | None = None
    bounded: int = 0
    deepest: float | None = None
    chance_at_safe: float | None = None


@dataclass(frozen=True, kw_only=True)
class Decision:
    """Answer for one compartment. Lengths in meter units. ``safe``: where the chance that any property is past its limit
    reaches 1 − confidence; None with ``never``: no limit in reach. ``act_now``, ``act_proposed``: the chance of being past an act limit at
    the end of charges of the current and of the proposed length."""

    outcome: str
    proposed: float | None
    current: float | None
    safe: float | None
    safe_as_is: float | None
    never: bool
    limiting: str | None
    next_limiting: str | None
    next_safe: float | None
    beyond_evidence: bool
    evidence_cap: float | None
    running_safe: float | None
    running_as_is: float | None
    running_limiting: str | None
    charges: int
    residual_share: float
    reason: Fact
    sample_at: tuple[float, float] | None
    guards: tuple[Guard, ...]
    open_faults: tuple[Fact, ...]
    schools: dict[str, float | None]
    open_measurands: tuple[str, ...] = ()
    next_sample: NextSample | None = None
    properties: tuple[PropertyAnswer, ...] = field(default=())
    slopes: bytes = field(default=b"", repr=False)
    reckoning: bytes = field(default=b"", repr=False)
    act_now: float | None = None
    act_proposed: float | None = None

    def charge_slopes(self) -> list[ChargeSlope]:
        """The slopes behind the answers, by property, then charge."""
        return charge_slopes_of(self.slopes)


def charge_slopes_of(packed: bytes) -> list[ChargeSlope]:
    """Unpack ``Decision.slopes``: rows of seven little-endian float32, property number, then as in ChargeSlope."""
    rows = np.frombuffer(packed, "<f4").reshape(-1, 7).tolist()
    return [ChargeSlope(PROPERTIES[int(j)].key, int(n), y, b, se, int(k), bool(used)) for j, n, y, b, se, k, used in rows]
