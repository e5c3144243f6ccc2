"""Limits and findings for programs, the pages' twins: the set in force, what another would change, a new version; what was found."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Literal

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field

from vornet.api.decide import Id, Sent, Why
from vornet.api.exchange import permitted, today_of
from vornet.api.work import RowOut
from vornet.core.errors import InputError
from vornet.core.limits import FixedLimit
from vornet.flows.house.people import Visitor
from vornet.flows.judge import limits, verdicts
from vornet.flows.judge.settle import settling
from vornet.io import apart

router = APIRouter(prefix="/api/v1", tags=["limits"])
Name = Annotated[str, Field(max_length=120)]
Figure = Annotated[float, Field(ge=-1e9, le=1e9)]


class LimitRow(Sent):
    duty: Annotated[str, Field(max_length=40)]
    family: Name = ""
    unit: Annotated[str, Field(max_length=120, description="of a family, of a unit, or of the whole duty")] = ""
    key: Annotated[str, Field(max_length=40, description="the measurand")]
    side: Literal["high", "low"]
    basis: Literal["absolute", "above_new", "percent"]
    watch: Figure
    act: Figure
    source: Annotated[str, Field(max_length=300)] = ""


class LimitsOut(BaseModel):
    version: int
    effective_from: date
    limits: list[LimitRow]


class LimitsIn(Sent):
    limits: Annotated[list[LimitRow], Field(max_length=5000, description="the whole set: what is not here has no limit")]
    why: Why = ""
    version: int | None = Field(default=None, description="the version this was made from: refused where another is in force meanwhile")


class TriedIn(Sent):
    limits: Annotated[list[LimitRow], Field(max_length=5000)]
    duty: Annotated[str, Field(max_length=40)]
    family: Annotated[str, Field(max_length=120, description="tried there first, where all is too much to wait for")] = ""


class TriedOut(BaseModel):
    samples: int = Field(description="that it was tried on")
    of: int = Field(description="that there are")
    counts: dict[str, int] = Field(description="by 'before→after'")
    changed: list[limits.Change]


class PrecisionRow(Sent):
    key: Annotated[str, Field(max_length=40)]
    scale: Annotated[float, Field(ge=0, le=1e9, description="standard deviation: the larger of floor and scale * x ** power + constant")]
    power: Annotated[float, Field(ge=0, le=10)]
    constant: Figure
    floor: Annotated[float, Field(ge=0, le=1e9)]


class PrecisionOut(PrecisionRow):
    source: str


class PrecisionIn(Sent):
    rows: Annotated[list[PrecisionRow], Field(max_length=200)]
    why: Why = ""


class FindingIn(Sent):
    compartment_id: Id
    on: date
    cause: Annotated[str, Field(max_length=60, description="a cause's key, nothing, or other with a note")]
    note: Annotated[str, Field(max_length=2000)] = ""
    closes: list[Id] = Field(default=[], max_length=50, description="open actions of the compartment")


class FindingOut(BaseModel):
    finding_id: int
    compartment_id: int
    unit: str
    compartment: str
    on: date
    cause: str
    note: str
    by: str


def _rows(given: list[LimitRow]) -> list[FixedLimit]:
    return limits.checked([FixedLimit(**{**r.model_dump(), "source": r.source or "from a program"}) for r in given])


@router.get("/limits")
def get_limits(request: Request, who: Visitor = permitted("see_review")) -> LimitsOut:
    """The fixed limits in force: of duties, and of families and units where they have their own."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        now = limits.in_force(connection, today_of(request))
    shown = [LimitRow(**row) for row in limits.as_rows(now["rows"])]
    return LimitsOut(version=now["version"], effective_from=now["effective_from"], limits=shown)


@router.put("/limits")
def put_limits(request: Request, given: LimitsIn, who: Visitor = permitted("edit_limits", by_token=True)) -> LimitsOut:
    """A new version of the whole set, in force from today; what it touches is judged anew."""
    rows = _rows(given.limits)
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        now = limits.to_change(connection, today_of(request))["version"]
        if given.version not in (None, now):
            raise InputError("version", f"is {given.version}, and {now} is in force meanwhile: read it again")
        limits.save(connection, who.fleet_id, rows, "", by=who.name, why=given.why, today=today_of(request), about="by a program")
    return get_limits(request, who)


@router.post("/limits/what-if")
def limits_what_if(request: Request, given: TriedIn, who: Visitor = permitted("see_review", by_token=True)) -> TriedOut:
    """What proposals a set would change against the one in force; nothing is written."""
    rows = _rows(given.limits)
    where = request.app.state.db.location
    found = apart.long(limits.what_if_apart, where, who.fleet_id, rows, given.duty, today_of(request), given.family)
    return TriedOut(
        samples=found["samples"], of=found["of"], counts={f"{a}→{b}": n for (a, b), n in found["counts"].items()},
        changed=found["changes"],
    )  # fmt: skip


@router.get("/limits/precision")
def get_precision(request: Request, who: Visitor = permitted("see_review")) -> list[PrecisionOut]:
    """How well each measurand is known."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = limits.precision_rows(connection, today_of(request))
    return [PrecisionOut(**{k: getattr(r, k) for k in PrecisionOut.model_fields}) for r in rows]


@router.put("/limits/precision")
def put_precision(request: Request, given: PrecisionIn, who: Visitor = permitted("edit_limits", by_token=True)) -> list[PrecisionOut]:
    """A new version of the fleet's own precision; measurands that are not named stay as they are."""
    form = {f"{n}.{r.key}": repr(getattr(r, n)) for r in given.rows for n in ("scale", "power", "constant", "floor")}
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        limits.save_precision(connection, who.fleet_id, form, by=who.name, why=given.why, today=today_of(request))
    return get_precision(request, who)


@router.get("/findings")
def get_findings(request: Request, compartment_id: int | None = None, who: Visitor = permitted("see_review")) -> list[FindingOut]:
    """What workshops really found, newest first (1,000 at most)."""
    if compartment_id is not None and not 0 < compartment_id < 2**62:
        return []
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = verdicts.findings(connection, compartment_id, 1000)
    return [FindingOut(on=r["on_day"], by=r["recorded_by"], **{k: r[k] for k in (
        "finding_id", "compartment_id", "unit", "compartment", "cause", "note")}) for r in rows]  # fmt: skip


@router.post("/findings", status_code=201)
def post_finding(request: Request, given: FindingIn, who: Visitor = permitted("record_finding", by_token=True)) -> RowOut:
    """What was really wrong; it is set against what was held of it."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        made = verdicts.record_finding(
            connection, who.fleet_id, given.compartment_id, given.on, given.cause, given.note, by=who.name, today=today_of(request),
            closes=tuple(given.closes),
        )  # fmt: skip
    return RowOut(id=made)
