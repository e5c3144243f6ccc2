"""The picture of one interval: chances, cones, schools, walls and money on one axis of hours (or km)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import date
from typing import Any

import numpy as np

from vornet.core import money
from vornet.core.decision import Policy
from vornet.core.oil_life import DAYS_A_YEAR
from vornet.core.picture import Along, along
from vornet.core.policy import Where
from vornet.core.prices import DrainCost, drain_cost
from vornet.flows.judge import approval, held, in_force, policies, prices
from vornet.flows.pages.compartment import row_of
from vornet.store.database import Connection, query

#: the axis goes on so far beyond what it has to show, and never farther than so many of today's intervals
ROOM, FARTHEST = 1.08, 2.2


@dataclass(frozen=True)
class Costs:
    """What an interval costs an hour, along the axis of the picture. ``spread``: one standard error of the yearly saving, as a share."""

    drain: DrainCost
    currency: str
    per_hour: np.ndarray
    cheapest: money.Cheapest
    calendar: float
    said_by: dict[str, str]


@dataclass(frozen=True)
class Interval:
    """Everything the page of one interval shows. ``table`` None: no property answers, and the decision says why."""

    row: dict[str, Any]
    decision: dict[str, Any]
    versions: list[dict[str, Any]]
    table: Along | None
    to_h: float
    costs: Costs | None
    lacking: tuple[str, ...]
    currency: str
    rate_per_year: float | None
    litres: float | None
    seen: str
    policy: Policy
    said_by: dict[str, Where]
    held: held.Standing | None
    days: int | None
    course: list[dict[str, Any]]
    waits: list[dict[str, Any]]


def _axis(decision: dict[str, Any], current: float | None) -> float:
    """Where the axis ends."""
    flags = [decision["safe"], decision["proposed"], decision["evidence_cap"], *decision["schools"].values()]
    base = current or decision["proposed"] or decision["safe"] or 500.0
    near = [x for x in flags if x is not None and math.isfinite(x) and x <= FARTHEST * base]
    end = ROOM * max([1.5 * base, *near])
    step = 10 ** math.floor(math.log10(end))
    return float(next(step * k for k in (1, 1.2, 1.5, 2, 2.5, 3, 4, 5, 6, 8, 10) if step * k >= end))


def load(connection: Connection, compartment_id: int, today: date) -> Interval | None:
    """The picture's facts; None when there is no such compartment, or nothing was decided for it yet."""
    row = row_of(connection, compartment_id)
    if row is None or row["decision"] is None:
        return None
    decision: dict[str, Any] = row["decision"]
    versions = in_force.said_of(connection, compartment_id)
    to_h = _axis(decision, row["interval_meter"])
    policy, said_by = policies.in_force(connection, today).of(row)
    reckoned = approval.reckoned(connection, row, today)
    table = None if reckoned is None else along(reckoned, to_h, policy.confidence)
    known = prices.in_force(connection, today)
    litres = row["capacity_l"] or row["system_volume_l"]
    drain = drain_cost(said := known.of(row["family"], row["unit"]), litres)
    lacking = (*drain.missing, *(() if known.currency else ("currency",)))
    costs = None
    if table is not None and not lacking:
        calendar = decision["schools"].get("calendar") or math.inf
        costs = _costs(table, drain, known.currency, calendar, {k: s.scope for k, s in said.items()})
    rate = row["rate_per_day"] * DAYS_A_YEAR if row["rate_per_day"] else None
    return Interval(
        row, decision, versions, table, to_h, costs, lacking, known.currency, rate, litres, approval.seen(decision, versions), policy,
        said_by, held_since(connection, compartment_id), in_force.register_said(connection, [compartment_id], today)[compartment_id]["days"],
        in_force.course(connection, compartment_id), in_force.waits_here(connection, compartment_id, today),
    )  # fmt: skip


def held_since(connection: Connection, compartment_id: int) -> held.Standing | None:
    """Whether the approved interval in force has held, as the last evaluation saw it."""
    kept = connection.execute(query("board.reckoning"), {"compartment_id": compartment_id}).fetchone()
    return held.read(kept["held_since"]) if kept is not None and kept["held_since"] else None


def _costs(table: Along, drain: DrainCost, currency: str, calendar: float, said_by: dict[str, str]) -> Costs:
    hours = np.minimum(table.hours[1:], calendar)

    def chance(t: np.ndarray) -> np.ndarray:
        return np.asarray(np.interp(t, table.hours, table.any_act))

    per_hour = money.cost_per_hour(hours, chance(hours), drain.total, drain.consequence)
    least = money.cheapest(chance, drain.total, drain.consequence, float(table.hours[1]), float(table.hours[-1]), calendar)
    return Costs(drain, currency, per_hour, least, calendar, said_by)
