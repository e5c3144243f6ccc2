"""What the API answers about the weeks."""

from __future__ import annotations

from datetime import date
from typing import Any

from pydantic import BaseModel, Field

from vornet.flows.weeks import calendar


class OtherDayOut(BaseModel):
    on: date
    hours: float
    bays: int | None
    why: str


class DepotOut(BaseModel):
    depot_id: int
    name: str
    hours: list[float] = Field(description="crew hours, Monday first")
    bays: list[int] | None
    zone: str = Field(description="the time it keeps, by its IANA name; empty: the fleet's")
    said: bool = Field(description="false: nobody has said yet and the usual week stands in")
    other: list[OtherDayOut]


class TaskOut(BaseModel):
    key: str = Field(description="drain:ID, item:ID, bottle:ID, action:ID or look:ID")
    what: str
    hours: float
    due: date
    latest: date
    life_used: float | None = Field(description="share of the oil's life that is used on the visit's day")
    done: bool


class VisitOut(BaseModel):
    visit_id: int
    unit_id: int
    unit: str
    on: date
    hours: float
    state: str = Field(description="planned, card, under_way or done")
    fixed: bool
    late: bool = Field(description="its day is past its last day")
    job_id: int | None
    tasks: list[TaskOut]


class DayOut(BaseModel):
    depot: str
    on: date
    hours: float
    bays: int | None
    used: float
    why: str
    visits: list[VisitOut]


class PlacelessOut(BaseModel):
    unit: str
    tasks: list[str]
    why: str
    way: str


class PlanOut(BaseModel):
    first: date
    days: list[DayOut] = Field(description="days with crew hours or visits")
    missed: list[VisitOut] = Field(description="planned for a day that is over, and not made")
    placeless: list[PlacelessOut]


class OptionOut(BaseModel):
    on: date
    loss_h: float = Field(description="what it loses, in crew hours' worth of oil life")
    life_used: float | None
    unused_l: float
    room_h: float = Field(description="crew hours left with it there; below zero: more than there are")
    there: bool
    inside: bool = Field(description="inside its window")
    chance_due_before: float | None


class VisitAskedOut(BaseModel):
    visit: VisitOut
    due: date
    earliest: date
    latest: date
    options: list[OptionOut]


class ProposedOut(BaseModel):
    unit: str
    on: date | None
    was_on: date | None
    hours: float
    tasks: list[str]
    why: str
    way: str


class ProposalOut(BaseModel):
    proposal_id: int
    state: str = Field(description="working, ready, accepted, dropped or failed")
    progress: str
    first_day: date
    days: int
    moves: int
    unplaced: int
    optimal: bool
    loss_h: float
    visits: list[ProposedOut]


class DueOut(BaseModel):
    key: str
    what: str
    hours: float
    due: date
    earliest: date
    latest: date
    why: str = Field(description="due, safe (its safe life ends before its interval), past, asked or lay_up")


class JobOut(BaseModel):
    job_id: int
    unit_id: int
    unit: str
    depot: str | None
    planned_on: date
    state: str
    parts: list[str]
    reasons: str


class CardsOut(BaseModel):
    jobs: list[int]


class OilOut(BaseModel):
    oil: str
    litres: float
    pack_l: float
    packs: int
    left_l: float


class ThingOut(BaseModel):
    name: str
    amount: float
    instead: list[str]
    never: list[str]


class KitOut(BaseModel):
    depot: str
    oils: list[OilOut]
    parts: list[ThingOut]
    tools: list[str]
    wrenches_nm: list[list[float]]
    unknown: list[str]


class StockOut(BaseModel):
    depot_id: int
    depot: str
    thing: str
    unit: str = Field(description="L or pcs")
    there: float
    needed: float
    runs_out: date | None
    order: float
    order_by: date | None
    too_late: bool
    lead_days: int
    least: float
    waits: list[str]


class DoneOut(BaseModel):
    visit_id: int
    unit: str
    depot: str | None
    what: str
    first_planned: date
    planned: date
    due: date
    done: date | None
    kept: str = Field(description="on_day, early, late, missed or open")
    days: int | None
    unused_l: float
    over_l: float
    planned_h: float
    took_h: float | None


def day_row(o: dict[str, Any]) -> OtherDayOut:
    return OtherDayOut(on=o["on_day"], hours=o["hours"], bays=o["bays"], why=o["why"])


def visit_out(v: calendar.Shown) -> VisitOut:
    parts = [TaskOut(key=p.key, what=p.what, hours=p.hours, due=p.due, latest=p.latest, life_used=p.share, done=p.done) for p in v.parts]
    return VisitOut(visit_id=v.visit_id, unit_id=v.unit_id, unit=v.unit, on=v.on, hours=v.hours, state=v.state, fixed=v.fixed, late=v.late,
                    job_id=v.job_id, tasks=parts)  # fmt: skip


def proposal_out(r: dict[str, Any]) -> ProposalOut:
    plan = r["plan"]
    visits = [ProposedOut(unit=v["unit"], on=v["on"], was_on=v["was_on"], hours=v["hours"], tasks=[t["key"] for t in v["tasks"]],
                          why=v.get("why", ""), way=v.get("way", "")) for v in plan.get("visits", ())]  # fmt: skip
    return ProposalOut(
        proposal_id=r["proposal_id"], state=r["state"], progress=r["progress"], first_day=r["first_day"], days=r["days"],
        moves=plan.get("moves", 0), unplaced=plan.get("unplaced", 0), optimal=plan.get("optimal", False),
        loss_h=plan.get("sums", {}).get("loss_h", 0.0), visits=visits,
    )  # fmt: skip
