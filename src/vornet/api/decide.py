"""Intervals for programs, the pages' twins: prices, policies, decisions, the tables behind a picture, approvals, trials, roll-outs.

A token decides in the name of whoever made it, within its scope.
"""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any

from fastapi import APIRouter, Request
from pydantic import BaseModel, ConfigDict, Field
from starlette.exceptions import HTTPException

from vornet.api.exchange import permitted, today_of
from vornet.flows.house.people import Visitor
from vornet.flows.judge import approval, in_force, judgements, policies, prices, trials
from vornet.flows.judge.settle import settling
from vornet.flows.pages import board, interval
from vornet.io import apart
from vornet.words.say import say

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
    rests_on: str = Field(description="send it back with an approval or a trial, which is refused where something has changed since")


class Sent(BaseModel):
    """What a program sends: every field known, every number finite."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


Length = Annotated[float, Field(gt=0, le=1e6, description="h or km, as the compartment counts")]
Why = Annotated[str, Field(max_length=400)]
Place = Annotated[str, Field(max_length=120)]
#: keys of rows are whole numbers that the database can hold
Id = Annotated[int, Field(gt=0, lt=2**62)]


class DeclineIn(Sent):
    why: Why


class PricesIn(Sent):
    scope: str = Field(description="fleet, family or unit", max_length=20)
    place: Place = ""
    prices: Annotated[dict[str, float | None], Field(max_length=40)]
    currency: str = Field("", max_length=8, description="three letters; left out, the fleet's own stays")
    effective_from: date | None = None


class PolicyIn(Sent):
    scope: str = Field(description="fleet, duty, family or unit", max_length=20)
    place: Place = ""
    rules: Annotated[dict[str, float | int | str], Field(max_length=40)]
    why: Why = ""
    effective_from: date | None = None


class Change(BaseModel):
    unit: str
    compartment: str
    counts: str
    today: float | None
    was: str
    was_at: float | None
    becomes: str
    becomes_at: float | None
    reason: str


class WhatIfOut(BaseModel):
    compartments: int = Field(description="that the rules are for")
    counts: dict[str, int] = Field(description="by 'was→becomes'")
    changed: list[Change] = Field(description="the largest first; the others are counted only")


class DecisionOut(BaseModel):
    compartment_id: int
    unit: str
    compartment: str
    depot: str | None
    counts: str = Field(description="h or km: what all lengths are in")
    outcome: str
    current: float | None
    proposed: float | None
    safe: float | None
    limiting: str | None
    reason: str
    schools: dict[str, float | None]
    held: str | None
    trial: str | None = Field(description="running, ripe or unread while a trial runs")


#: the evidence that a decision was made on, as it was shown
RestsOn = Annotated[str, Field(min_length=1, max_length=40, description="as the interval's own answer gives it: what was looked at")]


class ApprovalIn(Sent):
    interval: Length
    why: Why = ""
    days: Annotated[int, Field(ge=1, le=3650)] | None = None
    effective_from: date | None = None
    upholds: bool = Field(False, description="what was approved for a day to come still holds; else this ends it")
    rests_on: RestsOn


class ApprovalOut(BaseModel):
    effective_from: date
    interval: float | None
    days: int | None
    origin: str = Field(description="register, stated, approved, trial or fell_back")
    by: str | None
    why: str | None


class WithdrawIn(Sent):
    why: Why = ""


class SpanOut(BaseModel):
    fact: str = Field(description="length or calendar: two facts with two histories")
    value: float | None = Field(description="h or km as the compartment counts, or days; null: none was said")
    from_day: date
    until_day: date | None = Field(description="the first day on which it does not stand any more; null: open")
    state: str = Field(description="stands, stood, waits (for its day, or for what stands against it), never (ended before it began)")
    origin: str
    by: str
    why_ended: str = Field(description="later, oil_change, overhaul, withdrawn, charge_ended, or nothing")
    approval_id: int
    against: list[str] = Field(description="what stood against one that waits when it was last asked")


class TrialIn(Sent):
    interval: Length
    why: Why = ""
    rests_on: RestsOn


class EndIn(Sent):
    why: Why = ""


class BottleOut(BaseModel):
    at: float
    state: str = Field(description="drawn, waits, ahead, late or missed")
    drawn_at: float | None
    verdict: int | None


class TrialOut(BaseModel):
    trial_id: int
    compartment_id: int
    unit: str
    compartment: str
    counts: str
    length: float
    before: float
    started_on: date
    started_by: str
    why: str
    state: str = Field(description="running, stopped, adopted or fell_back")
    progress: str = Field(description="running, ripe, unread or stop")
    bottles: list[BottleOut]
    next_at: float | None
    next_day: date | None
    ended_on: date | None
    ended_by: str | None
    ending: str
    rollout_id: int | None


class RollOutIn(Sent):
    family: Place
    interval: Length
    compartments: Annotated[list[Id], Field(max_length=200)]
    why: Why = ""


class RefusedOut(BaseModel):
    compartment_id: int
    name: str
    why: str


class MateOut(BaseModel):
    compartment_id: int
    unit: str
    compartment: str
    current: float | None
    safe: float | None
    against: str = Field(description="there, fault, cap, unknown or oil; '' nothing stands against its following")


class RollOutOut(BaseModel):
    rollout_id: int
    family: str
    length: float
    ready: bool = Field(description="its trials are adopted and none has stopped: the rest may follow")
    trials: list[TrialOut]
    rest: list[MateOut]
    refused: list[RefusedOut] = []


class ChosenIn(Sent):
    compartments: Annotated[list[Id], Field(max_length=1000)]


class FollowedOut(BaseModel):
    approved: list[int]
    refused: list[RefusedOut]


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
        rests_on=found.seen,
    )  # fmt: skip


@router.put("/prices")
def put_prices(request: Request, given: PricesIn, who: Visitor = permitted("edit_prices", by_token=True)) -> PricesOut:
    """A new version of what one place says things cost; a price left out is not said there."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        if given.currency:
            prices.set_currency(connection, who.fleet_id, who.name, given.currency)
        start = given.effective_from or today_of(request)
        prices.put(connection, who.fleet_id, who.name, given.scope, given.place, start, dict(given.prices))
    return get_prices(request, who)


@router.put("/policies")
def put_policy(request: Request, given: PolicyIn, who: Visitor = permitted("edit_policy", by_token=True)) -> list[PolicyOf]:
    """A new version of what one scope says; a rule left out is not said there. Contradictions are refused in words."""
    day = today_of(request)
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        policies.save(
            connection, who.fleet_id, who.name, given.scope, given.place, dict(given.rules), given.why, given.effective_from or day, day
        )
    return get_policies(request, who)


@router.post("/policies/what-if")
def what_if(request: Request, given: PolicyIn, who: Visitor = permitted("see_intervals")) -> WhatIfOut:
    """Which decisions would change were the rules saved; nothing is."""
    where, day = request.app.state.db.location, today_of(request)
    found = apart.long(policies.what_if_apart, where, who.fleet_id, given.scope, given.place, dict(given.rules), day)
    changed = [
        Change(unit=r["unit"], compartment=r["compartment"], counts=r["meter_unit"], today=r["today"], was=r["was"], was_at=r["was_at"],
               becomes=r["becomes"], becomes_at=r["becomes_at"], reason=say(r["reason"]))
        for r in found["changed"]
    ]  # fmt: skip
    return WhatIfOut(compartments=found["n"], counts=found["counts"], changed=changed)


@router.get("/decisions")
def get_decisions(
    request: Request, outcome: Annotated[str, Field(max_length=20)] = "all", page: Annotated[int, Field(ge=0, le=100_000)] = 0,
    who: Visitor = permitted("see_intervals"),
) -> list[DecisionOut]:  # fmt: skip
    """Every compartment's answer, sixty a page, what changes most first; ``outcome``: all, shorten, lengthen, hold, not_enough, back or
    trial."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = board.desk(connection, outcome, page)
    return [
        DecisionOut(
            compartment_id=r["compartment_id"], unit=r["unit"], compartment=r["compartment"], depot=r["depot"], counts=r["meter_unit"],
            outcome=r["outcome"], current=r["interval_meter"], proposed=r["proposed_meter"], safe=r["safe"], limiting=r["deciding"],
            reason=say(r["reason"]), schools=r["schools"] or {}, held=r["held_word"], trial=r["trial_word"],
        )
        for r in found["rows"]
    ]  # fmt: skip


@router.get("/compartments/{compartment_id}/approvals")
def get_approvals(request: Request, compartment_id: Id, who: Visitor = permitted("see_intervals")) -> list[ApprovalOut]:
    """Every version of a compartment's interval, oldest first."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = judgements.interval_versions(connection, compartment_id)
    if not rows:
        raise HTTPException(404, "there is no such compartment in this fleet, or no interval of it is on record")
    return [ApprovalOut(effective_from=r["effective_from"], interval=r["meter"], days=r["days"], origin=r["origin"], by=r["approved_by"],
                        why=r["why"]) for r in rows]  # fmt: skip


def _course(connection: Any, compartment_id: int) -> list[SpanOut]:
    rows = in_force.course(connection, compartment_id)
    if not rows:
        raise HTTPException(404, "there is no such compartment in this fleet, or no interval of it is on record")
    return [SpanOut(fact=r["fact"], value=r["value"], from_day=r["from_day"], until_day=r["until_day"], state=r["state"], origin=r["origin"],
                    by=r["approved_by"], why_ended=r["why"], approval_id=r["interval_id"], against=[say(f) for f in r["held_up"] or ()])
            for r in rows]  # fmt: skip


@router.get("/compartments/{compartment_id}/in-force")
def get_in_force(request: Request, compartment_id: Id, who: Visitor = permitted("see_intervals")) -> list[SpanOut]:
    """What was in force when, on whose word, why it ended, and what waits: lengths and calendar limits."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        return _course(connection, compartment_id)


@router.post("/compartments/{compartment_id}/approvals/{approval_id}/withdraw")
def post_withdraw(
    request: Request, compartment_id: Id, approval_id: Id, given: WithdrawIn, who: Visitor = permitted("approve_interval", by_token=True)
) -> list[SpanOut]:
    """Take back what was approved for a day to come and has not begun."""
    day = today_of(request)
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        in_force.withdraw(connection, who.fleet_id, compartment_id, approval_id, given.why, who.name, day)
        return _course(connection, compartment_id)


@router.post("/compartments/{compartment_id}/approvals")
def post_approval(
    request: Request, compartment_id: Id, given: ApprovalIn, who: Visitor = permitted("approve_interval", by_token=True)
) -> list[ApprovalOut]:
    """Approve an interval in the name of the token's owner; what the page refuses is refused here."""
    day = today_of(request)
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        approval.approve(
            connection, who.fleet_id, compartment_id, given.interval, given.why, who.name, day, days=given.days,
            effective_from=given.effective_from, rests_on=given.rests_on, upholds=given.upholds,
        )  # fmt: skip
    return get_approvals(request, compartment_id, who)


def _trial(t: dict[str, Any]) -> TrialOut:
    steps = t["progress"].get("steps") or [{"at": at, "state": "ahead", "drawn_at": None, "verdict": None} for at in t["steps"]]
    return TrialOut(
        **{k: t[k] for k in ("trial_id", "compartment_id", "unit", "compartment", "length", "before", "started_on", "started_by", "why",
                             "state", "next_at", "next_day", "ended_on", "ended_by", "ending", "rollout_id")},
        counts=t["meter_unit"], progress=t["progress"].get("word", "running"),
        bottles=[BottleOut(at=s["at"], state=s["state"], drawn_at=s["drawn_at"], verdict=s["verdict"]) for s in steps],
    )  # fmt: skip


@router.get("/trials")
def get_trials(request: Request, who: Visitor = permitted("see_intervals")) -> list[TrialOut]:
    """Every trial, what needs somebody first."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        return [_trial(t) for t in trials.listed(connection)]


@router.post("/compartments/{compartment_id}/decline", status_code=204)
def decline(request: Request, compartment_id: Id, given: DeclineIn, who: Visitor = permitted("approve_interval", by_token=True)) -> None:
    """A proposal that is not followed, and why; told beside it until something else is proposed."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        approval.decline(connection, who.fleet_id, compartment_id, given.why, who.name, today_of(request))


@router.post("/compartments/{compartment_id}/trials")
def post_trial(request: Request, compartment_id: Id, given: TrialIn, who: Visitor = permitted("approve_interval", by_token=True)) -> TrialOut:
    """Begin a trial of a longer interval in the charge that runs."""
    day = today_of(request)
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        made = trials.start(
            connection, who.fleet_id, compartment_id, given.interval, given.why, who.name, day, rests_on=given.rests_on
        )  # fmt: skip
    return _one(request, made, who)


def _one(request: Request, trial_id: int, who: Visitor) -> TrialOut:
    with request.app.state.db.fleet(who.fleet_id) as connection:
        return _trial(trials.listed(connection, trial_id=trial_id)[0])


@router.post("/trials/{trial_id}/adopt")
def adopt(request: Request, trial_id: Id, given: EndIn, who: Visitor = permitted("approve_interval", by_token=True)) -> TrialOut:
    """The tried length becomes the interval, once its bottle at that length was read and is good."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        trials.adopt(connection, who.fleet_id, trial_id, given.why, who.name, today_of(request))
    return _one(request, trial_id, who)


@router.post("/trials/{trial_id}/fall-back")
def fall_back(request: Request, trial_id: Id, given: EndIn, who: Visitor = permitted("approve_interval", by_token=True)) -> TrialOut:
    """End a trial and run again what was run before; it asks why."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        trials.fall_back(connection, who.fleet_id, trial_id, given.why, who.name, today_of(request))
    return _one(request, trial_id, who)


def _refused(rows: list[approval.Refused]) -> list[RefusedOut]:
    return [RefusedOut(compartment_id=r.compartment_id, name=r.name, why=r.why) for r in rows]


@router.get("/roll-outs/{rollout_id}")
def get_rollout(request: Request, rollout_id: Id, who: Visitor = permitted("see_intervals")) -> RollOutOut:
    """A family's roll-out: its trials, and what each of the rest's own oil says."""
    return _rollout(request, rollout_id, who)


def _rollout(request: Request, rollout_id: int, who: Visitor, refused: list[approval.Refused] | None = None) -> RollOutOut:
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = trials.rollout(connection, rollout_id)
    if found is None:
        raise HTTPException(404, "there is no such roll-out in this fleet")
    rest = [MateOut(compartment_id=r["compartment_id"], unit=r["unit"], compartment=r["compartment"], current=r["interval_meter"],
                    safe=r["safe"], against=r["stands"]) for r in found["rest"]]  # fmt: skip
    of = found["rollout"]
    return RollOutOut(rollout_id=of["rollout_id"], family=of["family"], length=of["length"], ready=found["ready"],
                      trials=[_trial(t) for t in found["trials"]], rest=rest, refused=_refused(refused or []))  # fmt: skip


@router.post("/roll-outs")
def post_rollout(request: Request, given: RollOutIn, who: Visitor = permitted("approve_interval", by_token=True)) -> RollOutOut:
    """Begin trials of one length on a few compartments of a family."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        made, refused = trials.roll_out(
            connection, who.fleet_id, given.family, given.interval, list(given.compartments), given.why, who.name, today_of(request)
        )
    return _rollout(request, made, who, refused)


@router.post("/roll-outs/{rollout_id}/follow")
def follow(request: Request, rollout_id: Id, given: ChosenIn, who: Visitor = permitted("approve_interval", by_token=True)) -> FollowedOut:
    """Approve the tried length for the family's rest, each on its own."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        done, refused = trials.follow_suit(connection, who.fleet_id, rollout_id, list(given.compartments), who.name, today_of(request))
    return FollowedOut(approved=done, refused=_refused(refused))
