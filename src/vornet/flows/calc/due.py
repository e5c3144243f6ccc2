"""When the next drain is due."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from vornet.core import due as due_rules
from vornet.core.errors import InputError
from vornet.flows.calc.base import Answer, Calculator, Given, answered, asked

Day = date  # a field may be called date, too


class ReadingIn(Given):
    date: Day
    meter: Annotated[float, Field(ge=0, le=1e9)]


class LastDrainIn(Given):
    date: Annotated[Day, asked("Last drain", "day", "2025-12-01")]
    meter: Annotated[float, asked("at meter", "", 900, ge=0, le=1e9)]


class LimitIn(Given):
    meter: Annotated[float | None, asked("Interval", "h or km", 500, gt=0, le=1e9)] = None
    days: Annotated[int | None, asked("or days", "", 365, gt=0, le=100_000)] = None


class DueIn(Given):
    readings: Annotated[
        list[ReadingIn],
        asked(
            "Meter readings: day and figure, a line each",
            "",
            [{"date": "2026-01-01", "meter": 1000}, {"date": "2026-01-08", "meter": 1070}, {"date": "2026-01-15", "meter": 1150}],
            min_length=1,
            max_length=100_000,
        ),
    ]
    last_drain: LastDrainIn
    interval: LimitIn
    today: Annotated[date, asked("Today", "day", "2026-01-20")]


class DueOut(Answer):
    due_meter: Annotated[float | None, answered("due at meter")]
    due_date: Annotated[date | None, answered("due on")]
    earliest: date | None
    latest: date | None
    driver: Annotated[Literal["meter", "calendar"], answered("driven by")]


def due(given: DueIn) -> DueOut:
    """When the next drain is due: by meter, forecast from the recent readings, or by calendar."""
    for i, reading in enumerate(given.readings):
        if reading.date > given.today:
            raise InputError(f"readings[{i}].date", f"{reading.date} is after today, {given.today}")
    if given.last_drain.date > given.today:
        raise InputError("last_drain.date", f"{given.last_drain.date} is after today, {given.today}")
    order = sorted(range(len(given.readings)), key=lambda i: (given.readings[i].date, given.readings[i].meter))
    for before, now in zip(order, order[1:], strict=False):
        a, b = given.readings[before], given.readings[now]
        if b.meter < a.meter:
            raise InputError(f"readings[{now}].meter", f"the meter goes back: {b.meter:g} after {a.meter:g}")
    drain = given.last_drain
    for i in order:
        r = given.readings[i]
        if r.date > drain.date and r.meter < drain.meter:
            raise InputError(f"readings[{i}].meter", f"the meter goes back: {r.meter:g} after the drain at {drain.meter:g}")
        if r.date < drain.date and r.meter > drain.meter:
            raise InputError(f"readings[{i}].meter", f"the meter goes back: the drain at {drain.meter:g} is after {r.meter:g}")
    days = np.array([given.readings[i].date.toordinal() for i in order])
    totals = np.array([given.readings[i].meter for i in order])
    if totals[-1] < drain.meter:  # the drain is the last that was read
        days, totals = np.append(days, drain.date.toordinal()), np.append(totals, drain.meter)
    answer = due_rules.forecast(
        days, totals, given.last_drain.meter, given.last_drain.date.toordinal(), given.interval.meter, given.interval.days
    )
    dates = [_date(x) for x in (answer.due_day, answer.earliest, answer.latest)]
    driver: Literal["meter", "calendar"] = "meter" if answer.driver == "meter" else "calendar"
    return DueOut(due_meter=answer.due_total, due_date=dates[0], earliest=dates[1], latest=dates[2], driver=driver)


def _date(ordinal: int | None) -> date | None:
    return date.fromordinal(ordinal) if ordinal is not None and 1 <= ordinal <= date.max.toordinal() else None


CALCULATORS = (
    Calculator(
        "due",
        DueIn,
        DueOut,
        due,
        "When is it due",
        "earliest of meter and calendar; the rate is the median of pairwise slopes, its band 90 %",
        "Sen 1968",
        0,
    ),
)
