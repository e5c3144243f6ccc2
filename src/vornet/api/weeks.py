"""The weeks for programs, the pages' twins: crew hours, units' days, plans, visits, jobs, kit, stock, and what was done.

A token plans in the name of whoever made it, within its scope.
"""

from __future__ import annotations

from datetime import date, timedelta
from typing import Annotated

from fastapi import APIRouter, Request
from pydantic import Field
from starlette.exceptions import HTTPException

from vornet.api.decide import Id, Place, Sent, Why
from vornet.api.exchange import permitted, today_of
from vornet.api.weeks_out import (
    CardsOut,
    DayOut,
    DepotOut,
    DoneOut,
    DueOut,
    JobOut,
    KitOut,
    OilOut,
    OptionOut,
    PlacelessOut,
    PlanOut,
    ProposalOut,
    StockOut,
    ThingOut,
    VisitAskedOut,
    day_row,
    proposal_out,
    visit_out,
)
from vornet.flows.house.people import Visitor
from vornet.flows.judge.settle import settling
from vornet.flows.plan import stock
from vornet.flows.weeks import calendar, depots, done, kit, levelling, tasks
from vornet.flows.work import cards

router = APIRouter(prefix="/api/v1", tags=["weeks"])
Hours = Annotated[float, Field(ge=0, le=1000, description="crew hours")]


class WeekIn(Sent):
    hours: Annotated[list[Hours], Field(min_length=7, max_length=7, description="Monday first")]
    bays: Annotated[list[Annotated[int, Field(ge=0, le=1000)]], Field(min_length=7, max_length=7)] | None = None


class ZoneIn(Sent):
    zone: Annotated[str, Field(max_length=60, description="an IANA name such as Pacific/Auckland; empty: the fleet's")]


class DayIn(Sent):
    hours: Hours
    bays: Annotated[int, Field(ge=0, le=1000)] | None = None
    why: Why = ""


class RotaIn(Sent):
    kind: Annotated[str, Field(max_length=20, description="weekdays, rotation or days")]
    weekdays: Annotated[list[Annotated[int, Field(ge=0, le=6)]], Field(max_length=7)] | None = None
    anchor: date | None = None
    there: Annotated[int, Field(ge=1, le=366)] | None = None
    away: Annotated[int, Field(ge=0, le=366)] | None = None
    days: Annotated[list[date], Field(max_length=2000)] | None = None


class PlanIn(Sent):
    days: Annotated[int, Field(description="28 or 91")] = 28


class MoveIn(Sent):
    on: date
    depot_id: Id | None = None


class FixIn(Sent):
    fixed: bool = True


class TookIn(Sent):
    hours: Annotated[float, Field(gt=0, le=200)]


class VisitIn(Sent):
    unit_id: Id
    on: date
    tasks: Annotated[list[Annotated[str, Field(max_length=60)]], Field(max_length=100, description="keys of what is due on the unit")]


class CardsIn(Sent):
    week: date
    depot_id: Id | None = None


class MoveStockIn(Sent):
    depot_id: Id
    thing: Annotated[str, Field(max_length=200, description="'oil NAME' in litres, a part by its name in pieces")]
    kind: Annotated[str, Field(max_length=20, description="counted, received or used")]
    amount: Annotated[float, Field(ge=0, lt=1e9)]
    on: date | None = None
    note: Why = ""


def _id(value: int, what: str) -> int:
    if not 0 < value < 2**62:
        raise HTTPException(404, f"there is no such {what} in this fleet")
    return value


# ---- capacities ------------------------------------------------------------------------------------------------
@router.get("/depots")
def get_depots(request: Request, who: Visitor = permitted("see")) -> list[DepotOut]:
    """Crew hours and bays by weekday, and the days that are different in the year ahead."""
    day = today_of(request)
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = depots.all_of(connection, day, 365)
        other = depots.days_of(connection, day, 365)
    return [
        DepotOut(depot_id=d.depot_id, name=d.name, hours=list(d.week.hours), bays=list(d.week.bays) if d.week.bays else None, zone=d.zone,
                 said=d.said, other=[day_row(o) for o in other if o["depot_id"] == d.depot_id])
        for d in found.values()
    ]  # fmt: skip


@router.put("/depots/{depot_id}/week")
def put_week(request: Request, depot_id: int, given: WeekIn, who: Visitor = permitted("plan_weeks", by_token=True)) -> list[DepotOut]:
    """A depot's crew hours, and bays where they count, from Monday to Sunday."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        depots.set_week(connection, who.fleet_id, _id(depot_id, "depot"), given.hours, given.bays, who.name)
    return get_depots(request, who)


@router.put("/depots/{depot_id}/zone")
def put_zone(request: Request, depot_id: int, given: ZoneIn, who: Visitor = permitted("plan_weeks", by_token=True)) -> list[DepotOut]:
    """The time a depot keeps: what is entered there from now on is of its own day."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        depots.set_zone(connection, who.fleet_id, _id(depot_id, "depot"), given.zone, who.name)
    return get_depots(request, who)


@router.put("/depots/{depot_id}/days/{on}")
def put_day(
    request: Request, depot_id: int, on: date, given: DayIn, who: Visitor = permitted("plan_weeks", by_token=True)
) -> list[DepotOut]:  # fmt: skip
    """A day on which a depot has other hours; a holiday has none."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        depots.set_day(connection, who.fleet_id, _id(depot_id, "depot"), on, given.hours, given.bays, given.why, who.name)
    return get_depots(request, who)


@router.delete("/depots/{depot_id}/days/{on}")
def drop_day(request: Request, depot_id: int, on: date, who: Visitor = permitted("plan_weeks", by_token=True)) -> list[DepotOut]:
    """The weekday holds again."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        depots.drop_day(connection, who.fleet_id, _id(depot_id, "depot"), on, who.name)
    return get_depots(request, who)


@router.get("/units/{unit_id}/days")
def get_rota(request: Request, unit_id: int, who: Visitor = permitted("see")) -> list[date]:
    """The days of the next thirteen weeks on which a unit is at its depot."""
    day = today_of(request)
    with request.app.state.db.fleet(who.fleet_id) as connection:
        if levelling.unit(connection, _id(unit_id, "unit")) is None:
            raise HTTPException(404, "there is no such unit in this fleet")
        rota = depots.rotas(connection, unit_id).get(unit_id)
    span = range(day.toordinal(), day.toordinal() + 91)
    return [date.fromordinal(d) for d in span if rota is None or rota.is_there(d)]


@router.put("/units/{unit_id}/days")
def put_rota(request: Request, unit_id: int, given: RotaIn, who: Visitor = permitted("plan_weeks", by_token=True)) -> list[date]:
    """On which days a unit is at its depot."""
    rule = given.model_dump(mode="json", exclude_none=True)
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        depots.set_rota(connection, who.fleet_id, _id(unit_id, "unit"), rule, who.name)
    return get_rota(request, unit_id, who)


@router.delete("/units/{unit_id}/days")
def drop_rota(request: Request, unit_id: int, who: Visitor = permitted("plan_weeks", by_token=True)) -> list[date]:
    """The unit is at its depot on any day."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        depots.drop_rota(connection, who.fleet_id, _id(unit_id, "unit"), who.name)
    return get_rota(request, unit_id, who)


# ---- plans -----------------------------------------------------------------------------------------------------
@router.post("/plans")
def post_plan(request: Request, given: PlanIn, who: Visitor = permitted("plan_weeks", by_token=True)) -> ProposalOut:
    """Have a plan worked out; ask for it again until its state is ready or failed."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        number = levelling.ask(connection, who.fleet_id, today_of(request), given.days, who.name)
    return get_plan(request, number, who)


@router.get("/plans/{proposal_id}")
def get_plan(request: Request, proposal_id: int, who: Visitor = permitted("see")) -> ProposalOut:
    """A plan that was worked out: what moves, what is new, what has no day, why, and the cheapest way out."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = levelling.proposal(connection, _id(proposal_id, "plan"))
    if found is None:
        raise HTTPException(404, "there is no such plan in this fleet")
    return proposal_out(found)


@router.post("/plans/{proposal_id}/accept")
def accept_plan(request: Request, proposal_id: int, who: Visitor = permitted("plan_weeks", by_token=True)) -> ProposalOut:
    """Take a plan; refused where what it rests on has changed since."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        levelling.accept(connection, who.fleet_id, _id(proposal_id, "plan"), who.name, today_of(request))
    return get_plan(request, proposal_id, who)


@router.post("/plans/{proposal_id}/drop")
def drop_plan(request: Request, proposal_id: int, who: Visitor = permitted("plan_weeks", by_token=True)) -> ProposalOut:
    """Leave the plan that stands as it is."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        levelling.drop(connection, who.fleet_id, _id(proposal_id, "plan"), who.name)
    return get_plan(request, proposal_id, who)


@router.get("/weeks")
def get_weeks(
    request: Request, first: date | None = None, weeks: Annotated[int, Field(ge=1, le=13)] = 4, depot: Place = "",
    who: Visitor = permitted("see"),
) -> PlanOut:  # fmt: skip
    """The plan that stands: depots by day with their visits, and what has no day."""
    day = today_of(request)
    start = kit.week_of(first or day)[0]
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = calendar.read(connection, who.fleet_id, day, start, weeks, depot)
    days = [
        DayOut(depot=row.name, on=d.on, hours=d.hours, bays=d.bays, used=d.used, why=d.why, visits=[visit_out(v) for v in d.visits])
        for row in found.rows for d in row.days if d.hours or d.visits
    ]  # fmt: skip
    placeless = [
        PlacelessOut(unit=v["unit"], tasks=v["keys"], why=v["why"], way=v["way"])
        for v in found.placeless
    ]  # fmt: skip
    return PlanOut(first=start, days=days, missed=[visit_out(v) for v in found.missed], placeless=placeless)


@router.get("/visits/{visit_id}")
def get_visit(request: Request, visit_id: int, who: Visitor = permitted("see")) -> VisitAskedOut:
    """A visit with what every day of thirteen weeks would cost."""
    day = today_of(request)
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = calendar.pick(connection, who.fleet_id, _id(visit_id, "visit"), day, day, calendar.AROUND_DAYS)
    if found is None:
        raise HTTPException(404, "there is no such visit in the plan of this fleet")
    options = [
        OptionOut(on=o.on, loss_h=o.loss_h, life_used=o.share, unused_l=o.unused_l, room_h=o.room, there=o.there, inside=o.inside,
                  chance_due_before=o.chance_late)
        for o in found.options
    ]  # fmt: skip
    return VisitAskedOut(visit=visit_out(found.shown), due=found.due, earliest=found.earliest, latest=found.latest, options=options)


@router.post("/visits")
def post_visit(request: Request, given: VisitIn, who: Visitor = permitted("plan_weeks", by_token=True)) -> VisitAskedOut:
    """Put what is due on a unit on a day by hand; the visit is fixed there."""
    day = today_of(request)
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        number = levelling.put_by_hand(connection, who.fleet_id, given.unit_id, given.on, given.tasks, who.name, day)
    return get_visit(request, number, who)


@router.get("/units/{unit_id}/due")
def get_due(request: Request, unit_id: int, who: Visitor = permitted("see")) -> list[DueOut]:
    """What falls due on a unit in the year ahead, with its key, window and hours."""
    day = today_of(request)
    with request.app.state.db.fleet(who.fleet_id) as connection:
        terms = depots.terms(connection, who.fleet_id)
        found = [
            d for d in tasks.due_by(connection, day, day + timedelta(days=levelling.FAR_DAYS), terms) if d.unit_id == _id(unit_id, "unit")
        ]
    return [DueOut(key=d.task.key, what=d.what, hours=d.task.hours, due=tasks.day_of(d.task.due), earliest=tasks.day_of(d.task.earliest),
                   latest=tasks.day_of(d.task.latest), why=d.why) for d in sorted(found, key=lambda d: d.task.due)]  # fmt: skip


@router.post("/visits/{visit_id}/move")
def move_visit(request: Request, visit_id: int, given: MoveIn, who: Visitor = permitted("plan_weeks", by_token=True)) -> VisitAskedOut:
    """Put a visit on another day, or at another depot; it is fixed there from then on."""
    day = today_of(request)
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        levelling.move(connection, who.fleet_id, _id(visit_id, "visit"), given.on, who.name, day, given.depot_id)
    return get_visit(request, visit_id, who)


@router.post("/visits/{visit_id}/fix")
def fix_visit(request: Request, visit_id: int, given: FixIn, who: Visitor = permitted("plan_weeks", by_token=True)) -> VisitAskedOut:
    """Hold a visit to its day, or let it go again."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        levelling.fix(connection, who.fleet_id, _id(visit_id, "visit"), given.fixed, who.name)
    return get_visit(request, visit_id, who)


class CancelIn(Sent):
    why: Annotated[str, Field(min_length=1, max_length=300)]


@router.post("/visits/{visit_id}/cancel")
def cancel_visit(request: Request, visit_id: int, given: CancelIn, who: Visitor = permitted("plan_weeks", by_token=True)) -> dict[str, int]:
    """Take a visit out of the plan; what it was for comes up again."""
    day = today_of(request)
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        levelling.cancel(connection, who.fleet_id, _id(visit_id, "visit"), given.why, who.name, day)
    return {"cancelled": visit_id}


@router.post("/visits/{visit_id}/took")
def visit_took(request: Request, visit_id: int, given: TookIn, who: Visitor = permitted("plan_weeks", by_token=True)) -> VisitAskedOut:
    """How long a visit took; what is planned next learns from it."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        levelling.set_took(connection, who.fleet_id, _id(visit_id, "visit"), given.hours, who.name)
    return get_visit(request, visit_id, who)


# ---- jobs, kit, stock, looked back on --------------------------------------------------------------------------
@router.get("/jobs")
def get_jobs(request: Request, state: Annotated[str, Field(max_length=20)] = "todo", who: Visitor = permitted("see")) -> list[JobOut]:
    """Job cards: todo, done, part, stopped, cancelled or all."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = cards.cards(connection, state)["rows"]
    return [JobOut(job_id=r["job_id"], unit_id=r["unit_id"], unit=r["unit"], depot=r["depot"], planned_on=r["planned_on"], state=r["state"],
                   parts=r["parts"] or [], reasons=r["reasons"] or "") for r in found]  # fmt: skip


@router.post("/jobs/from-week")
def post_cards(request: Request, given: CardsIn, who: Visitor = permitted("plan_weeks", by_token=True)) -> CardsOut:
    """Job cards for every visit of a week that has none yet."""
    day = today_of(request)
    first, last = kit.week_of(given.week)
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        made = levelling.make_cards(connection, who.fleet_id, max(first, day), last, given.depot_id, who.name)
    return CardsOut(jobs=made)


@router.get("/kit")
def get_kit(request: Request, week: date | None = None, who: Visitor = permitted("see")) -> list[KitOut]:
    """What the visits of a week take along, depot by depot."""
    day = today_of(request)
    first, last = kit.week_of(week or day)
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = kit.of_days(connection, first, last, day)
    return [
        KitOut(depot=k.depot, oils=[OilOut(oil=o.oil, litres=o.litres, pack_l=o.packs.pack_l, packs=o.packs.packs, left_l=o.packs.left_l)
                                    for o in k.oils],
               parts=[ThingOut(name=t.name, amount=t.amount, instead=list(t.instead), never=list(t.never)) for t in k.parts],
               tools=list(k.tools), wrenches_nm=[list(w) for w in k.wrenches], unknown=list(k.unknown))
        for k in found
    ]  # fmt: skip


@router.get("/stock")
def get_stock(request: Request, who: Visitor = permitted("see")) -> list[StockOut]:
    """What depots count, against what their visits of four weeks use; what runs out first comes first."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = stock.lines(connection, today_of(request))

    def day(x: int | None) -> date | None:
        return None if x is None else tasks.day_of(x)

    return [
        StockOut(depot_id=x.depot_id, depot=x.depot, thing=x.thing, unit=x.unit, there=x.outlook.there, needed=x.outlook.needed,
                 runs_out=day(x.outlook.runs_out), order=x.outlook.order, order_by=day(x.outlook.order_by), too_late=x.outlook.too_late,
                 lead_days=x.lead_days, least=x.least, waits=list(x.outlook.waits))
        for x in found
    ]  # fmt: skip


@router.post("/stock")
def post_stock(request: Request, given: MoveStockIn, who: Visitor = permitted("keep_stock", by_token=True)) -> list[StockOut]:
    """Something counted, received or used at a depot."""
    day = today_of(request)
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        if given.depot_id not in depots.all_of(connection, day, 1):
            raise HTTPException(404, "there is no such depot in this fleet")
        stock.move(
            connection, who.fleet_id, given.depot_id, given.thing, given.kind, given.amount, given.on or day, given.note, who.name, day
        )
    return get_stock(request, who)


@router.get("/done")
def get_done(request: Request, since: date | None = None, until: date | None = None, who: Visitor = permitted("see")) -> list[DoneOut]:
    """What was planned against what was done."""
    day = today_of(request)
    last = min(until or day, kit.LAST_DAY)
    first = since or max(last, kit.FIRST_DAY) - timedelta(days=56)
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = done.between(connection, first, last, day)["rows"]
    return [
        DoneOut(visit_id=r["visit_id"], unit=r["unit"], depot=r["depot"], what=r["what"], first_planned=r["first_on"], planned=r["on_day"],
                due=r["due_day"], done=r["task_done_on"], kept=r["word"], days=r["days"], unused_l=r["unused_l"], over_l=r["over_l"],
                planned_h=r["hours"], took_h=r["took_h"])
        for r in rows
    ]  # fmt: skip
