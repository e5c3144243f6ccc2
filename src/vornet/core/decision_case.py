"""What an outcome rests on: one compartment's answers, terms, verdicts and faults, with how they are counted."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from vornet.core.decision import (
    ANSWERED,
    Policy,
    PropertyAnswer,
    Terms,
)
from vornet.core.fact import Fact, told

#: a bottle that settles something is drawn in this last part of the interval
LATE = 0.85
#: share of the interval from which a bottle can show that a fault is gone
HALF_OF = 0.5


@dataclass(frozen=True)
class Case:
    """Everything an outcome rests on, of one compartment. ``joint``, ``running`` and their ``_as_is`` twins: safe hours of all
    properties together, ∞ never, NaN none told; ``mild``: the joint ones had bends that nobody saw been feared less. ``longest``:
    the least of the deepest samples of answered properties. ``held``: bottles that wait for somebody to settle them and stand against a
    longer interval until then. ``on_oil``: oil hours of the running charge's last sample."""

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
    held: tuple[Fact, ...]
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


def rounded_down(value: float, step: float) -> float:
    return math.floor(value / step + 1e-9) * step


def finite(x: float) -> float | None:
    return float(x) if math.isfinite(x) else None


def keys_of(answers: list[PropertyAnswer]) -> tuple[str, ...]:
    return tuple(a.key for a in answers)


def limiting_first(case: Case) -> list[PropertyAnswer]:
    """Answered properties, the one that limits first: the likeliest to be past its limit at the joint safe hours."""
    told = case.in_state(ANSWERED)
    return sorted(told, key=lambda a: (math.inf if a.safe is None else a.safe, -(a.chance_at_safe or 0.0)))
