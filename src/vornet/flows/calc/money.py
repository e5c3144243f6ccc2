"""What an interval costs an hour, and at what age a part is best replaced."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from vornet.core import money
from vornet.core.errors import InputError
from vornet.flows.calc.base import Answer, Calculator, Given, Number, answered, asked

Hours = Annotated[float, Field(gt=0, le=1e7)]
Cost = Annotated[float, Field(ge=0, le=1e12)]


class IntervalCostIn(Given):
    start: Annotated[Number, asked("Starts at", "", 10)]
    limit: Annotated[Number, asked("Limit", "", 3.3)]
    side: Literal["high", "low"] | None = None
    slope_mean_per_h: Annotated[Number, asked("Mean slope of charges, per h", "", -0.0091)]
    slope_sd_per_h: Annotated[float, asked("Spread of slopes, per h", "", 0.0009, ge=0, le=1e9)]
    drain_cost: Annotated[Cost, asked("A drain costs", "", 620)]
    consequence: Annotated[Cost, asked("Running past the limit costs", "", 9000)]
    from_h: Annotated[Hours, asked("Between", "h", 200)]
    to_h: Annotated[Hours, asked("and", "h", 1200)]
    calendar_h: Annotated[Hours | None, asked("The calendar drains at", "h")] = None
    hours: Annotated[list[Hours], asked("Cost at, h", "", [500, 625, 700], max_length=10_000)] = []


class CostAt(Answer):
    h: Annotated[float, answered("at, h")]
    chance: Annotated[float, answered("chance past the limit")]
    cost_per_h: Annotated[float, answered("cost per h")]


class IntervalCostOut(Answer):
    cheapest_h: Annotated[float, answered("cheapest, h")]
    cheapest_cost_per_h: Annotated[float, answered("its cost per h")]
    at: list[CostAt]


def interval_cost(given: IntervalCostIn) -> IntervalCostOut:
    """Cost per hour of drains at a fixed interval, and the cheapest interval."""
    if given.to_h < given.from_h:
        raise InputError("to_h", "must not be before from_h")
    sign = 1.0 if (given.side or ("high" if given.limit >= given.start else "low")) == "high" else -1.0
    margin, slope = sign * (given.limit - given.start), sign * given.slope_mean_per_h
    chance, calendar = money.straight_chance(margin, slope, given.slope_sd_per_h), given.calendar_h or np.inf
    jump = [margin / slope] if margin > 0 and slope > 0 else []
    found = money.cheapest(chance, given.drain_cost, given.consequence, given.from_h, given.to_h, calendar, jump)
    at = np.minimum(np.array(given.hours, dtype=float), calendar)
    past = chance(at)
    cost = money.cost_per_hour(at, past, given.drain_cost, given.consequence) if len(at) else at
    return IntervalCostOut(
        cheapest_h=found.hours, cheapest_cost_per_h=found.cost,
        at=[CostAt(h=h, chance=float(p), cost_per_h=float(c)) for h, p, c in zip(given.hours, past, cost, strict=True)],
    )  # fmt: skip


class AgeReplacementIn(Given):
    shape: Annotated[float, asked("Weibull shape", "", 2.5, gt=0.05, le=100)]
    scale_h: Annotated[Hours, asked("Weibull scale", "h", 1000)]
    planned_cost: Annotated[float, asked("Replacing as planned costs", "", 620, gt=0, le=1e12)]
    failure_cost: Annotated[float, asked("Replacing after it failed costs", "", 9000, gt=0, le=1e12)]
    hours: Annotated[list[Hours], asked("Cost at, h", "", [300, 500], max_length=10_000)] = []


class AgeCostAt(Answer):
    h: Annotated[float, answered("at, h")]
    cost_per_h: Annotated[float, answered("cost per h")]


class AgeReplacementOut(Answer):
    optimum_h: Annotated[float | None, answered("best replaced at, h (none: run to failure)")]
    optimum_cost_per_h: Annotated[float, answered("its cost per h")]
    run_to_failure_cost_per_h: Annotated[float, answered("run to failure, cost per h")]
    at: list[AgeCostAt]


def age_replacement(given: AgeReplacementIn) -> AgeReplacementOut:
    """The age at which replacing costs least an hour, for a Weibull life."""
    found = money.age_replacement(given.shape, given.scale_h, given.planned_cost, given.failure_cost)
    costs = money.age_replacement_cost(given.shape, given.scale_h, given.planned_cost, given.failure_cost, np.array(given.hours))
    return AgeReplacementOut(
        optimum_h=found.optimum_h, optimum_cost_per_h=found.cost_per_h, run_to_failure_cost_per_h=found.run_to_failure,
        at=[AgeCostAt(h=h, cost_per_h=float(c)) for h, c in zip(given.hours, costs, strict=True)],
    )  # fmt: skip


CALCULATORS = (
    Calculator(
        "interval-cost",
        IntervalCostIn,
        IntervalCostOut,
        interval_cost,
        "What an interval costs",
        "(drain + P(T)·consequence)/T, P(T) = Φ((mT − D)/(sT)); past the calendar as at the calendar",
        "renewal at a fixed interval; the chance from a slope that scatters normally",
        4,
    ),
    Calculator(
        "age-replacement",
        AgeReplacementIn,
        AgeReplacementOut,
        age_replacement,
        "Best age to replace",
        "(planned·R(T) + failure·F(T)) / ∫₀ᵀR dt, Weibull",
        "Barlow & Hunter 1960",
        4,
    ),
)
