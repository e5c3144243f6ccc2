"""Intervals for programs: prices and policies in force, and the tables behind the picture of one interval; the page's twins."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field
from starlette.exceptions import HTTPException

from vornet.api.exchange import permitted, today_of
from vornet.flows.house.people import Visitor
from vornet.flows.judge import policies, prices
from vornet.flows.pages import interval

router = APIRouter(prefix="/api/v1", tags=["intervals"])


class PricesOf(BaseModel):
    scope: str = Field(description="fleet, family or unit")
    place: str = Field(description="the family's or the unit's name, '' for the fleet")
    prices: dict[str, float]


class PricesOut(BaseModel):
    currency: str = Field(description="three letters, '' where none was chosen")
    in_force: list[PricesOf]


class PolicyOf(BaseModel):
    scope: str = Field(description="fleet, duty, family or unit")
    place: str
    rules: dict[str, float | int | str]


class PropertyOut(BaseModel):
    key: str
    unit: str
    side: str
    new_oil: float
    watch: float | None
    act: float | None
    low: list[float] = Field(description="one in twenty ends below this at the drain, one in twenty above high")
    middle: list[float]
    high: list[float]
    chance: list[float]


class IntervalOut(BaseModel):
    compartment_id: int
    unit: str
    compartment: str
    counts: str = Field(description="h or km: what all lengths are in")
    outcome: str
    current: float | None
    proposed: float | None
    safe: float | None
    schools: dict[str, float | None]
    hours: list[float] = Field(description="lengths that the tables are for; between two a straight line")
    chance_past: list[float] = Field(description="chance that some property is past the policy's limit at the drain")
    chance_past_act: list[float]
    chance_as_is: list[float] | None = Field(description="with what an open fault moved counted too; null where none did")
    properties: list[PropertyOut]
    drain_cost: float | None
    consequence: float | None
    currency: str
    cheapest: float | None
    held: str | None = Field(description="held, early or back; null where no approved interval is in force")


@router.get("/prices")
def get_prices(request: Request, who: Visitor = permitted("see_intervals")) -> PricesOut:
    """Prices in force today."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = prices.in_force(connection, today_of(request))
    rows = [PricesOf(scope=scope, place=place, prices=said) for (scope, place), said in found.rows.items()]
    return PricesOut(currency=found.currency, in_force=rows)


@router.get("/policies")
def get_policies(request: Request, who: Visitor = permitted("see_intervals")) -> list[PolicyOf]:
    """Rules in force today; what nobody says is a start value."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = policies.in_force(connection, today_of(request)).rows
    return [PolicyOf(scope=scope, place=place, rules=rules) for (scope, place), rules in found.items()]


@router.get("/compartments/{compartment_id}/interval")
def get_interval(request: Request, compartment_id: int, who: Visitor = permitted("see_intervals")) -> IntervalOut:
    """The picture of one interval as tables."""
    if not 0 < compartment_id < 2**62:
        raise HTTPException(404, "there is no such compartment in this fleet")
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = interval.load(connection, compartment_id, today_of(request))
    if found is None:
        raise HTTPException(404, "there is no such compartment in this fleet, or nothing was decided for it yet")
    table, decision, row, costs = found.table, found.decision, found.row, found.costs

    def plain(x: Any) -> list[float]:
        return [] if x is None else [float(v) for v in x]

    properties = [
        PropertyOut(key=p.key, unit=p.unit, side=p.side, new_oil=p.new_oil, watch=p.watch, act=p.act, low=plain(p.low),
                    middle=plain(p.middle), high=plain(p.high), chance=plain(p.chance))
        for p in (table.properties if table else ())
    ]  # fmt: skip
    return IntervalOut(
        compartment_id=compartment_id, unit=row["unit"], compartment=row["compartment"], counts=row["meter_unit"], outcome=row["outcome"],
        current=row["interval_meter"], proposed=decision["proposed"], safe=decision["safe"], schools=decision["schools"],
        hours=plain(table.hours if table else None), chance_past=plain(table.any_past if table else None),
        chance_past_act=plain(table.any_act if table else None),
        chance_as_is=plain(table.as_is) if table is not None and table.as_is is not None else None, properties=properties,
        drain_cost=costs.drain.total if costs else None, consequence=costs.drain.consequence if costs else None, currency=found.currency,
        cheapest=costs.cheapest.hours if costs else None, held=found.held.found.word if found.held else None,
    )  # fmt: skip
