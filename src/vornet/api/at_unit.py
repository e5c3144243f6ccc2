"""What hangs on units, for programs, the pages' twins: files, pictures, service items and their records, patterns, figures in doubt, what
was put off."""

from __future__ import annotations

import uuid
from datetime import date, datetime
from typing import Annotated, Literal

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field
from starlette.exceptions import HTTPException

from vornet.api.bodies import Raw, takes
from vornet.api.decide import Id, Sent, Why
from vornet.api.exchange import permitted, today_of
from vornet.api.work import Level, WhyIn, Words, known_id
from vornet.flows.house.people import Visitor
from vornet.flows.judge import learned
from vornet.flows.judge.settle import settling
from vornet.flows.pages import rows as rows_of
from vornet.flows.plan import service
from vornet.flows.register import attachments, doubts, templates
from vornet.flows.work import photos, put_off

router = APIRouter(prefix="/api/v1", tags=["at the unit"])
Place = Annotated[str, Field(max_length=120)]


class FileOut(BaseModel):
    attachment_id: int
    compartment_id: int | None
    name: str
    kind: str
    media_type: str
    bytes: int


class PictureOut(BaseModel):
    photo_id: uuid.UUID
    compartment_id: int | None
    item_id: int | None
    place: str
    about: str
    at: datetime
    by: str


class PhotoOut(BaseModel):
    photo_id: uuid.UUID


class RecordOut(BaseModel):
    record_id: int
    on: date
    meter: float | None
    outcome: str
    note: str
    by: str


class TemplateOut(BaseModel):
    template_id: int
    name: str


class DoubtOut(BaseModel):
    compartment_id: int
    unit: str
    compartment: str
    field: str
    said: float | None
    learned: float
    low: float | None
    high: float | None
    n: int
    settled: str | None


class DoubtIn(Sent):
    field: Annotated[str, Field(max_length=60)]
    do: Literal["take", "keep"]
    why: Why = ""


class PutOffOut(BaseModel):
    deferred_id: int
    unit_id: int
    unit: str
    compartment: str | None
    kind: str
    what: str
    owner: str
    due_on: date | None
    level_left: float | None


class DealtIn(Sent):
    finding: Words = ""
    level: Level | None = None


# ---- files and pictures ----------------------------------------------------------------------------------------
@router.get("/units/{unit_id}/attachments")
def get_attachments(request: Request, unit_id: int, who: Visitor = permitted("see")) -> list[FileOut]:
    """Manuals and pictures of a unit."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = attachments.of_unit(connection, known_id(unit_id, "unit"))
    return [FileOut(**{k: r[k] for k in FileOut.model_fields}) for r in rows]


@router.post("/units/{unit_id}/attachments", dependencies=[takes(attachments.LARGEST_ATTACHMENT)], status_code=204)
def post_attachment(
    request: Request, unit_id: int, body: Raw, name: Annotated[str, Field(max_length=200)],
    kind: Literal["manual", "plate", "drawing", "photo"] = "manual", compartment_id: Id | None = None,
    who: Visitor = permitted("edit_register", by_token=True),
) -> None:  # fmt: skip
    """A manual (PDF) or a picture beside a unit: the body is the file."""
    kept = attachments.attachable(body)
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        if compartment_id is not None:
            rows_of.own_compartment(connection, unit_id, compartment_id)
        attachments.attach(connection, who.fleet_id, known_id(unit_id, "unit"), compartment_id, kind, name, kept, who.name)


@router.post("/attachments/{attachment_id}/remove", status_code=204)
def remove_attachment(request: Request, attachment_id: int, who: Visitor = permitted("edit_register", by_token=True)) -> None:
    """A file taken away from its unit."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        if rows_of.remove_attachment(connection, who.fleet_id, known_id(attachment_id, "file"), who.name) is None:
            raise HTTPException(404, "there is no such file in this fleet")


@router.get("/units/{unit_id}/pictures")
def get_pictures(request: Request, unit_id: int, who: Visitor = permitted("see")) -> list[PictureOut]:
    """Pictures of a unit, newest first."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = photos.of_unit(connection, known_id(unit_id, "unit"), None, 1000)
    return [PictureOut(**{k: r[k] for k in PictureOut.model_fields}) for r in rows]


@router.post("/units/{unit_id}/pictures", dependencies=[takes(photos.LARGEST_PHOTO)], status_code=201)
def post_picture(
    request: Request, unit_id: int, body: Raw, about: Annotated[str, Field(max_length=120)] = "", place: Place = "",
    compartment_id: Id | None = None, item_id: Id | None = None, client_id: uuid.UUID | None = None,
    who: Visitor = permitted("log_work", by_token=True),
) -> PhotoOut:  # fmt: skip
    """A picture of a unit, or of one of its compartments or service items: the body is the photo. The same client_id twice is one."""
    fresh, photo_id = photos.photo_drawn(body), client_id or uuid.uuid4()
    of = photos.Of(known_id(unit_id, "unit"), compartment_id, item_id=item_id, place=place.strip())
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        photos.keep(connection, who, of, str(photo_id), about.strip(), fresh)
    return PhotoOut(photo_id=photo_id)


@router.post("/pictures/{photo_id}/take-back", status_code=204)
def back_picture(request: Request, photo_id: uuid.UUID, given: WhyIn, who: Visitor = permitted("log_work", by_token=True)) -> None:
    """A picture of something else: shown no more, and kept with the reason."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        photos.take_back(connection, who.fleet_id, str(photo_id), given.why, who.name)


# ---- service items, patterns -----------------------------------------------------------------------------------
@router.get("/items/{item_id}/records")
def get_records(request: Request, item_id: int, who: Visitor = permitted("see")) -> list[RecordOut]:
    """What was done of a service item, newest first."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        if rows_of.item(connection, known_id(item_id, "service item")) is None:
            raise HTTPException(404, "there is no such service item in this fleet")
        rows = rows_of.records_of(connection, item_id)
    return [RecordOut(on=r["on_day"], by=r["recorded_by"], **{k: r[k] for k in ("record_id", "meter", "outcome", "note")}) for r in rows]


@router.post("/items/{item_id}/records/{record_id}/take-back", status_code=204)
def back_record(request: Request, item_id: int, record_id: int, given: WhyIn, who: Visitor = permitted("log_work", by_token=True)) -> None:
    """A record of something that was not done, with the reason."""
    known_id(item_id, "service item"), known_id(record_id, "record")
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        service.take_back(connection, who.fleet_id, item_id, record_id, given.why, who.name)


@router.post("/items/{item_id}/remove", status_code=204)
def remove_item(request: Request, item_id: int, who: Visitor = permitted("edit_register", by_token=True)) -> None:
    """A service item taken out of the plan."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        service.remove(connection, who.fleet_id, known_id(item_id, "service item"), who.name)


@router.get("/templates")
def get_templates(request: Request, who: Visitor = permitted("see")) -> list[TemplateOut]:
    """Patterns for new units."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        return [TemplateOut(template_id=r["template_id"], name=r["name"]) for r in rows_of.templates(connection)]


@router.post("/templates/{template_id}/remove", status_code=204)
def remove_template(request: Request, template_id: int, who: Visitor = permitted("edit_register", by_token=True)) -> None:
    """A pattern taken out; units made from it stay as they are."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        templates.remove_template(connection, who.fleet_id, known_id(template_id, "pattern"), who.name)


# ---- figures in doubt, what was put off ------------------------------------------------------------------------
@router.get("/doubts")
def get_doubts(request: Request, who: Visitor = permitted("see")) -> list[DoubtOut]:
    """Figures of the register that what was poured and read speaks against; also those that somebody settled."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = learned.doubts(connection)
    return [DoubtOut(**{k: r[k] for k in DoubtOut.model_fields}) for r in rows]


@router.post("/compartments/{compartment_id}/doubt", status_code=204)
def settle_doubt(request: Request, compartment_id: int, given: DoubtIn, who: Visitor = permitted("edit_register", by_token=True)) -> None:
    """The learned figure taken into the register, or what it says kept, with the reason."""
    day, taken = today_of(request), given.do == "take"
    known_id(compartment_id, "compartment")
    with settling(request.app.state.db, who.fleet_id, day) as connection:
        doubts.settle(connection, who.fleet_id, compartment_id, given.field, taken, given.why, who.name, day)


@router.get("/put-off")
def get_put_off(request: Request, who: Visitor = permitted("see")) -> list[PutOffOut]:
    """What was put off and is still open, by its day (200 at most)."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = put_off.deferred(connection)
    return [PutOffOut(**{k: r[k] for k in PutOffOut.model_fields}) for r in rows]


@router.post("/put-off/{deferred_id}", status_code=204)
def deal_with(request: Request, deferred_id: int, given: DealtIn, who: Visitor = permitted("log_work", by_token=True)) -> None:
    """Dealt with: what was found; of a re-check the level, which is an alarm where it has fallen."""
    known_id(deferred_id, "put-off thing")
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        put_off.close_deferred(connection, who.fleet_id, deferred_id, given.finding, given.level, who.name)
