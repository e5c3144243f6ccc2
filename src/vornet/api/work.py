"""Work at the unit for programs, the pages' twins: drains, top-ups, level checks, events, symptoms, jobs, and what is put right of them.

A token works in the name of whoever made it, within its scope; every door is the one that a page goes through.
"""

from __future__ import annotations

import uuid
from datetime import date, datetime
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field
from starlette.exceptions import HTTPException

from vornet.api.decide import Id, Sent, Why
from vornet.api.exchange import permitted, today_of
from vornet.core.drain import DrainFacts
from vornet.core.errors import InputError
from vornet.flows.house import days
from vornet.flows.house.people import Visitor
from vornet.flows.judge.settle import settling
from vornet.flows.lab import put_right
from vornet.flows.register import units
from vornet.flows.work import cards, drain, noted, notes, put_off, reopen

router = APIRouter(prefix="/api/v1", tags=["work"])
Litres = Annotated[float, Field(gt=0, le=1e5, description="L")]
Level = Annotated[float, Field(ge=-1, le=2, description="0 at MIN, 1 at MAX")]
Meter = Annotated[float, Field(ge=0, le=1e9, description="h or km, as the compartment counts")]
Words = Annotated[str, Field(max_length=2000)]


class DrainIn(Sent):
    on: date
    meter: Meter
    level_before: Level | None = None
    level_missing_l: Annotated[float, Field(ge=-1e4, le=1e5)] | None = None
    volume_out_l: Annotated[float, Field(ge=0, le=1e5)] | None = None
    volume_out_kind: Literal["measured", "estimated"] = "measured"
    volume_in_l: Litres | None = None
    filter_changed: bool = True
    magnet_grade: Annotated[int, Field(ge=0, le=4)] | None = None
    air_filter: Literal["clean", "dusty", "blocked", "leaking"] | None = None
    oil: Annotated[str, Field(max_length=120)] = ""
    batch: Annotated[str, Field(max_length=120)] = ""
    ambient_c: Annotated[float, Field(ge=-60, le=70)] | None = None
    reading_after: Level | None = None
    concession: Annotated[str, Field(max_length=500)] = ""
    sample_no: Annotated[str, Field(max_length=80)] = ""
    oil_looks: list[str] = Field(default=[], max_length=10)
    filter_looks: list[str] = Field(default=[], max_length=10)
    strainer_look: Annotated[str, Field(max_length=20)] | None = None
    as_found: list[str] = Field(default=[], max_length=10)
    note: Words = ""
    client_id: uuid.UUID | None = Field(default=None, description="the same one a second time changes nothing")


class DrainRightIn(Sent):
    """What was wrong, and why: what is not named stays as it was. ``unit`` and ``compartment`` move it."""

    on: date | None = None
    meter: Meter | None = None
    volume_out_l: Annotated[float, Field(ge=0, le=1e5)] | None = None
    volume_in_l: Annotated[float, Field(ge=0, le=1e5)] | None = None
    filter_changed: bool | None = None
    magnet_grade: Annotated[int, Field(ge=0, le=4)] | None = None
    air_filter: Literal["clean", "dusty", "blocked", "leaking"] | None = None
    oil_looks: Annotated[list[str], Field(max_length=10)] | None = None
    filter_looks: Annotated[list[str], Field(max_length=10)] | None = None
    strainer_look: Annotated[str, Field(max_length=20)] | None = None
    as_found: Annotated[list[str], Field(max_length=10)] | None = None
    compartment_id: Id | None = None
    why: Why = ""


class NoteIn(Sent):
    kind: Literal["level", "topup", "event", "symptom", "coolant"]
    on: date
    meter: Meter | None = None
    reading: Level | None = None
    litres: Litres | None = None
    reading_before: Level | None = None
    reading_after: Level | None = None
    what: Annotated[str, Field(max_length=300, description="a symptom; of an event: part_change, repair, overhaul, component_exchange")] = ""
    litres_out: Annotated[float, Field(ge=0, le=1e5)] | None = None
    litres_in: Annotated[float, Field(ge=0, le=1e5)] | None = None
    note: Words = ""
    client_id: uuid.UUID | None = Field(default=None, description="the same one a second time changes nothing")


class NoteRightIn(Sent):
    on: date | None = None
    meter: Meter | None = None
    reading: Level | None = None
    litres: Litres | None = None
    reading_before: Level | None = None
    reading_after: Level | None = None
    what: Annotated[str, Field(max_length=300)] | None = None
    litres_out: Annotated[float, Field(ge=0, le=1e5)] | None = None
    litres_in: Annotated[float, Field(ge=0, le=1e5)] | None = None
    note: Words | None = None
    compartment_id: Id | None = None
    why: Why = ""


class ReadingRightIn(Sent):
    meter: Meter | None = Field(default=None, description="none: it is taken back")
    on: date | None = None
    why: Why = ""


class WhyIn(Sent):
    why: Why = ""


class MoveIn(Sent):
    compartment_id: Id
    meter: Meter | None = None
    why: Why = ""


class PartIn(Sent):
    task: Literal["filter", "magnetic_filter", "breather"]
    compartment_id: Id


class JobIn(Sent):
    unit_id: Id
    on: date
    compartments: list[Id] = Field(default=[], max_length=50)
    bottles: list[Id] = Field(default=[], max_length=50)
    items: list[Id] = Field(default=[], max_length=100)
    parts: list[PartIn] = Field(default=[], max_length=50)
    sample: bool = True
    note: Annotated[str, Field(max_length=500)] = ""


class DrainOut(BaseModel):
    drain_id: int
    compartment_id: int
    on: date
    meter: float
    volume_out_l: float | None
    volume_out_kind: str
    level_missing_l: float | None
    volume_in_l: float | None
    filter_changed: bool | None
    magnet_grade: int | None
    air_filter: str | None
    sample_no: str | None
    note: str
    by: str
    seen: dict[str, Any] = Field(description="what else was noted of it: looks, how it was closed")


class NoteOut(BaseModel):
    kind: str
    note_id: int
    on: date
    meter: float | None
    litres: float | None
    litres_out: float | None
    litres_in: float | None
    reading_before: float | None
    reading_after: float | None
    what: str
    note: str
    by: str
    holds: bool = Field(description="false: put right or taken back since, and why stands in ``why``")
    why: str


class ReadingOut(BaseModel):
    reading_id: int
    on: date
    meter: float
    meter_no: int
    by: str
    holds: bool
    why: str


class PartOut(BaseModel):
    part_id: int
    what: str
    task: str
    state: str
    reason: str
    drain_id: int | None


class JobWholeOut(BaseModel):
    job_id: int
    unit_id: int
    unit: str
    on: date
    state: str
    note: str
    opened_at: datetime | None
    closed_at: datetime | None
    parts: list[PartOut]


class RowOut(BaseModel):
    id: int


_NOTED = ("kind", "meter", "litres", "litres_out", "litres_in", "reading_before", "reading_after", "what", "note")


def known_id(value: int, what: str) -> int:
    if not 0 < value < 2**62:
        raise HTTPException(404, f"there is no such {what} in this fleet")
    return value


# ---- drains ----------------------------------------------------------------------------------------------------
@router.get("/compartments/{compartment_id}/drains")
def get_drains(request: Request, compartment_id: int, who: Visitor = permitted("see")) -> list[DrainOut]:
    """Drains of a compartment that hold, newest first, with what was seen at them."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        place = drain.place(connection, known_id(compartment_id, "compartment"))
    return [
        DrainOut(drain_id=d["drain_id"], compartment_id=compartment_id, on=d["on_day"], by=d["recorded_by"], seen=d["extra"],
                 **{k: d[k] for k in ("meter", "volume_out_l", "volume_out_kind", "level_missing_l", "volume_in_l", "filter_changed",
                                      "magnet_grade", "air_filter", "sample_no", "note")})
        for d in place["drains"]
    ]  # fmt: skip


@router.post("/compartments/{compartment_id}/drains")
def post_drain(request: Request, compartment_id: int, given: DrainIn, who: Visitor = permitted("log_work", by_token=True)) -> RowOut:
    """A drain as somebody noted it; what cannot be is refused with its field."""
    day = today_of(request)
    facts = DrainFacts(given.level_before, given.level_missing_l, given.volume_out_l, given.volume_out_kind, given.filter_changed,
                       level_after=given.reading_after)  # fmt: skip
    noted_ = drain.Drained(
        given.on, given.meter, facts, given.volume_in_l, given.magnet_grade, given.air_filter, given.oil, given.batch, given.ambient_c,
        given.reading_after, given.concession, given.sample_no, given.note, given.client_id,
    )  # fmt: skip
    seen = {k: getattr(given, k) for k in put_right.LOOKS if getattr(given, k)}
    for name, value in seen.items():
        if any(v not in put_right.LOOKS[name] for v in ([value] if isinstance(value, str) else value)):
            raise InputError(name, f"some of {', '.join(put_right.LOOKS[name])}")
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        return RowOut(id=drain.log(connection, who.fleet_id, known_id(compartment_id, "compartment"), noted_, who.name, day, seen))


@router.post("/drains/{drain_id}/put-right")
def right_drain(request: Request, drain_id: int, given: DrainRightIn, who: Visitor = permitted("log_work", by_token=True)) -> RowOut:
    """A drain put right: only what is named changes; its bottle, its job and its sample go with it. The old row stays."""
    day = today_of(request)
    named = given.model_dump(exclude_unset=True, exclude={"why"})
    if "on" in named:
        named["on_day"] = named.pop("on")
    if named.get("meter", 0) is None or named.get("on_day", 0) is None:
        raise InputError("meter" if named.get("meter", 0) is None else "on", "cannot be nothing")
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        change = put_right.Change(named, given.why)
        return RowOut(id=put_right.correct_drain(connection, who.fleet_id, known_id(drain_id, "drain"), change, who.name, day))


@router.post("/drains/{drain_id}/take-back")
def back_drain(request: Request, drain_id: int, given: WhyIn, who: Visitor = permitted("log_work", by_token=True)) -> RowOut:
    """A drain that never was. Its bottle stays, as one drawn between drains."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        put_right.take_back(connection, who.fleet_id, known_id(drain_id, "drain"), given.why, who.name)
    return RowOut(id=drain_id)


# ---- notes between drains --------------------------------------------------------------------------------------
@router.get("/compartments/{compartment_id}/notes")
def get_notes(request: Request, compartment_id: int, who: Visitor = permitted("see")) -> list[NoteOut]:
    """Levels, top-ups, events, symptoms and coolant of a compartment, newest first, also what does not hold any more."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        drain.place(connection, known_id(compartment_id, "compartment"))
        rows = noted.listed(connection, compartment_id, 1000)
    return [
        NoteOut(note_id=r["row_id"], on=r["on_day"], by=r["recorded_by"], holds=r["superseded_by"] is None, why=r["superseded_why"] or "",
                **{k: r[k] for k in _NOTED})
        for r in rows
    ]  # fmt: skip


@router.post("/compartments/{compartment_id}/notes")
def post_note(request: Request, compartment_id: int, given: NoteIn, who: Visitor = permitted("log_work", by_token=True)) -> dict[str, str]:
    """A level, a top-up, an event, a symptom or coolant made up."""
    day, at = today_of(request), known_id(compartment_id, "compartment")
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        place = drain.place(connection, at)
        if given.client_id and not notes.heard_first(connection, who.fleet_id, str(given.client_id), given.kind):
            return {"said": "kept already"}
        if given.kind in ("level", "topup", "event") and given.meter is None:
            raise InputError("meter", "is missing")
        meter = given.meter or 0.0
        if given.kind == "level":
            if given.reading is None:
                raise InputError("reading", "where it stands")
            notes.level_check(connection, who.fleet_id, at, given.on, meter, given.reading, who.name, day)
        elif given.kind == "topup":
            if given.litres is None:
                raise InputError("litres", "how much went in")
            levels = given.reading_before, given.reading_after
            notes.top_up(connection, who.fleet_id, at, given.on, meter, given.litres, *levels, who.name, day)
        elif given.kind == "event":
            notes.event(connection, who.fleet_id, at, given.what or "part_change", given.on, meter, given.litres_out, given.litres_in, "",
                        given.note, who.name, day)  # fmt: skip
        else:
            days.check_past(connection, given.on, day, compartment_id=at)
            put_off.observe(connection, who.fleet_id, place["unit_id"], at, given.kind, given.what, given.litres, given.meter, given.on,
                            given.note, str(given.client_id or uuid.uuid4()), who.name)  # fmt: skip
    return {"said": "kept"}


@router.post("/notes/{kind}/{note_id}/put-right")
def right_note(request: Request, kind: str, note_id: int, given: NoteRightIn, who: Visitor = permitted("log_work", by_token=True)) -> RowOut:
    """A note put right: only what is named changes, the old row stays with the reason."""
    day, named = today_of(request), given.model_dump(exclude_unset=True, exclude={"why"})
    if "on" in named:
        named["on_day"] = named.pop("on")
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        change = noted.Change({k: v for k, v in named.items() if v is not None}, given.why)
        return RowOut(id=noted.correct(connection, who.fleet_id, kind, known_id(note_id, "note"), change, who.name, day))


@router.post("/notes/{kind}/{note_id}/take-back")
def back_note(request: Request, kind: str, note_id: int, given: WhyIn, who: Visitor = permitted("log_work", by_token=True)) -> RowOut:
    """A note of something that never was."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        noted.take_back(connection, who.fleet_id, kind, known_id(note_id, "note"), given.why, who.name)
    return RowOut(id=note_id)


# ---- readings, samples -----------------------------------------------------------------------------------------
@router.get("/units/{unit_id}/readings")
def get_readings(request: Request, unit_id: int, who: Visitor = permitted("see")) -> list[ReadingOut]:
    """A unit's latest meter readings, also those that were put right."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = notes.readings(connection, known_id(unit_id, "unit"))
    return [ReadingOut(reading_id=r["reading_id"], on=r["on_day"], meter=r["meter"], meter_no=r["meter_no"], by=r["recorded_by"],
                       holds=r["superseded_by"] is None, why=r["superseded_why"] or "") for r in rows]  # fmt: skip


@router.post("/readings/{reading_id}/put-right")
def right_reading(request: Request, reading_id: int, given: ReadingRightIn, who: Visitor = permitted("log_work", by_token=True)) -> RowOut:
    """A reading put right, or taken back where no figure takes its place."""
    day = today_of(request)
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        notes.correct_reading(connection, who.fleet_id, known_id(reading_id, "reading"), given.meter, given.on, given.why, who.name, day)
    return RowOut(id=reading_id)


@router.post("/samples/{sample_id}/move")
def move_sample(request: Request, sample_id: int, given: MoveIn, who: Visitor = permitted("settle_holds", by_token=True)) -> RowOut:
    """A sample that stood under the wrong compartment goes where it was drawn, with its bottle."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        moved = put_right.move_sample(
            connection, who.fleet_id, known_id(sample_id, "sample"), given.compartment_id, given.meter, given.why, who.name
        )
    return RowOut(id=moved)


# ---- jobs ------------------------------------------------------------------------------------------------------
@router.post("/jobs")
def post_job(request: Request, given: JobIn, who: Visitor = permitted("log_work", by_token=True)) -> JobWholeOut:
    """A job card for one visit."""
    parts: list[tuple[str, int]] = [(p.task, p.compartment_id) for p in given.parts]
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        job_id = cards.make(
            connection, who.fleet_id, given.unit_id, given.compartments, given.items, given.on, given.sample, given.note, who.name,
            given.bottles, parts,
        )  # fmt: skip
    return get_job(request, job_id, who)


@router.get("/jobs/{job_id}")
def get_job(request: Request, job_id: int, who: Visitor = permitted("see")) -> JobWholeOut:
    """One card with its parts and how each ended."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = cards.card(connection, known_id(job_id, "job"), today_of(request))
    if found is None:
        raise HTTPException(404, "there is no such job in this fleet")
    job = found["job"]
    return JobWholeOut(
        job_id=job_id, unit_id=job["unit_id"], unit=job["unit"], on=job["planned_on"], state=job["state"], note=job["note"],
        opened_at=job["opened_at"], closed_at=job["closed_at"],
        parts=[PartOut(part_id=p["part_id"], what=p["title"], task=p["task"] if p["compartment_id"] else "item", state=p["state"],
                       reason=p["reason"], drain_id=p["drain_id"]) for p in found["parts"]],
    )  # fmt: skip


@router.post("/jobs/{job_id}/cancel")
def cancel_job(request: Request, job_id: int, given: WhyIn, who: Visitor = permitted("log_work", by_token=True)) -> JobWholeOut:
    """A card that is not done."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        cards.cancel(connection, who.fleet_id, known_id(job_id, "job"), given.why, who.name)
    return get_job(request, job_id, who)


@router.post("/jobs/{job_id}/parts/{part_id}/reopen")
def reopen_part(
    request: Request, job_id: int, part_id: int, given: WhyIn, who: Visitor = permitted("log_work", by_token=True)
) -> JobWholeOut:  # fmt: skip
    """A part closed by mistake: what followed from its closing is taken back."""
    day = today_of(request)
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        reopen.reopen(connection, who.fleet_id, known_id(job_id, "job"), known_id(part_id, "part"), given.why, who.name, day)
    return get_job(request, job_id, who)


@router.post("/jobs/{job_id}/restore")
def restore_job(request: Request, job_id: int, given: WhyIn, who: Visitor = permitted("log_work", by_token=True)) -> JobWholeOut:
    """A card that was cancelled by mistake is planned again."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        reopen.restore(connection, who.fleet_id, known_id(job_id, "job"), given.why, who.name)
    return get_job(request, job_id, who)


@router.post("/units/{unit_id}/remove", status_code=204)
def remove_unit(request: Request, unit_id: int, given: WhyIn, who: Visitor = permitted("edit_register", by_token=True)) -> None:
    """A unit made by mistake, on which nothing hangs; one with history is retired by the register instead."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        units.remove_unit(connection, who.fleet_id, known_id(unit_id, "unit"), given.why, who.name)


@router.post("/compartments/{compartment_id}/remove", status_code=204)
def remove_compartment(request: Request, compartment_id: int, who: Visitor = permitted("edit_register", by_token=True)) -> None:
    """A compartment made by mistake, on which nothing hangs."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        units.remove_compartment(connection, who.fleet_id, known_id(compartment_id, "compartment"), who.name)
