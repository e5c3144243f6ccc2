"""The lab's side for programs, the pages' twins: what is held and what waits, bottles, parcels, labs.

A token works in the name of whoever made it, within its scope; every door is the one that a page goes through.
"""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field
from starlette.exceptions import HTTPException

from vornet.api.decide import Id, Sent, Why
from vornet.api.exchange import permitted, today_of
from vornet.api.work import Meter, RowOut, known_id
from vornet.core.errors import InputError
from vornet.flows.house.people import Visitor
from vornet.flows.judge.settle import settling
from vornet.flows.lab import held_rows, held_samples, inbox, labs, parcels
from vornet.flows.pages import rows as rows_of

router = APIRouter(prefix="/api/v1", tags=["lab"])
Number = Annotated[str, Field(max_length=80, description="the number on the bottle's label")]
Cell = Annotated[str, Field(max_length=500)]


class HoldOut(BaseModel):
    hold_id: int
    sample_id: int
    sample_no: str
    lab: str
    unit: str | None
    compartment: str | None
    sampled_on: date
    reason: str


class HeldRowOut(BaseModel):
    held_row_id: int
    import_file_id: int
    file: str
    row_no: int
    reason: str
    field: str
    detail: str
    cells: dict[str, str] = Field(description="as they came, by heading")


class SettleIn(Sent):
    do: Literal["released", "rejected", "again", "correct", "swap", "record"] = Field(
        description="again: rejected, and another bottle asked for; swap: two labels changed over; record: the oil that nobody recorded"
    )
    why: Why = ""
    values: dict[str, Cell] = Field(
        default={}, max_length=60, description="to correct: measurands by key, meter, oil_hours, sampled_on; '' was not measured"
    )


class HeldRowIn(Sent):
    do: Literal["away", "take", "replace"] = Field(description="replace: it takes the place of the sample that has its number")
    cells: dict[str, Cell] = Field(default={}, max_length=400, description="corrected cells by heading")
    why: Why = ""


class Said(BaseModel):
    said: str


class BottleOut(BaseModel):
    bottle_id: int
    sample_no: str
    state: str = Field(description=f"one of {', '.join(parcels.STATES)}")
    unit: str | None
    compartment: str | None
    oil: str | None
    batch: str
    drawn_on: date
    meter: float | None
    shipment_id: int | None
    shipment: str | None
    lab: str | None
    sent_on: date | None
    received_on: date | None
    reported_on: date | None
    late: bool | None
    lost_why: str | None


class BottleIn(Sent):
    sample_no: Number
    on: date
    compartment_id: Id | None = Field(default=None, description="none: a bottle of new oil, which names its oil")
    oil_id: Id | None = None
    batch: Annotated[str, Field(max_length=80)] = ""
    meter: Meter | None = None
    sample_how: Literal["", "mid_stream", "valve", "tube"] = ""
    warmth: Literal["", "hot", "warm", "cold"] = ""
    minutes: Annotated[float, Field(ge=0, le=100_000, description="since it last ran")] | None = None


class BottleChangeIn(Sent):
    do: Literal["lose", "find", "unpack"]
    why: Why = ""


class ReceivedIn(Sent):
    sample_no: Number
    on: date


class ParcelIn(Sent):
    bottles: Annotated[list[Id], Field(max_length=500)]
    lab_id: Id
    note: Annotated[str, Field(max_length=300)] = ""


class OnIn(Sent):
    on: date


class ParcelOut(BaseModel):
    shipment_id: int
    number: str
    lab: str
    made_on: date
    sent_on: date | None
    note: str
    bottles: int
    received: int
    reported: int
    lost: int
    late: bool | None


class LabIn(Sent):
    name: Annotated[str, Field(max_length=200)]
    way: Literal["hand", "pull", "folder"] = "hand"
    address: Annotated[str, Field(max_length=300)] = ""
    key: Annotated[str, Field(max_length=300, description="'' leaves the one that is kept")] = ""
    usual_days: Annotated[int, Field(ge=1, le=365)] = 10
    depots: list[Annotated[str, Field(max_length=120)]] = Field(default=[], max_length=100)


class LabOut(BaseModel):
    lab_id: int
    name: str
    way: str
    address: str
    has_key: bool
    usual_days: int
    depots: list[str]
    headings: dict[str, Any] = Field(description="what headings of its files were said to mean")
    trouble: str


class HeadingIn(Sent):
    heading: Annotated[str, Field(max_length=300)]


# ---- what is held ----------------------------------------------------------------------------------------------
@router.get("/holds")
def get_holds(request: Request, who: Visitor = permitted("see_lab")) -> list[HoldOut]:
    """Samples kept out because they may not be true, newest first (200 at most)."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        return [HoldOut(**{k: h[k] for k in HoldOut.model_fields}) for h in inbox.inbox(connection)["holds"]]


@router.post("/holds/{hold_id}")
def settle_hold(request: Request, hold_id: int, given: SettleIn, who: Visitor = permitted("settle_holds", by_token=True)) -> Said:
    """A held sample released, rejected, corrected or swapped back, or the oil recorded that nobody recorded; with a reason."""
    known_id(hold_id, "held sample")
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        do, typed = given.do, dict(given.values)
        return Said(said=held_samples.act(connection, who.fleet_id, hold_id, do, typed, given.why, who.name, today_of(request)))


@router.get("/held-rows")
def get_held_rows(request: Request, who: Visitor = permitted("see_lab")) -> list[HeldRowOut]:
    """Rows of lab files that found no place, newest file first (200 at most)."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = inbox.inbox(connection)["rows"]
    return [HeldRowOut(file=r["file_name"], cells=r["original"], **{k: r[k] for k in (
        "held_row_id", "import_file_id", "row_no", "reason", "field", "detail")}) for r in rows]  # fmt: skip


@router.post("/held-rows/{held_row_id}")
def settle_row(request: Request, held_row_id: int, given: HeldRowIn, who: Visitor = permitted("take_files", by_token=True)) -> Said:
    """A waiting row put away, taken in with corrected cells, or let in for the sample that has its number."""
    known_id(held_row_id, "waiting row")
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        return Said(said=held_rows.act(connection, who.fleet_id, held_row_id, given.do, dict(given.cells), given.why, who.name))


# ---- bottles and parcels ---------------------------------------------------------------------------------------
@router.get("/bottles")
def get_bottles(request: Request, who: Visitor = permitted("see_bottles")) -> list[BottleOut]:
    """Bottles under way and those of the last weeks, newest first."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = parcels.shown(connection, today_of(request))
    return [BottleOut(**{k: r[k] for k in BottleOut.model_fields}) for r in rows]


@router.post("/bottles", status_code=201)
def post_bottle(request: Request, given: BottleIn, who: Visitor = permitted("ship_bottles", by_token=True)) -> RowOut:
    """A bottle drawn between drains, or of new oil."""
    conditions = {k: getattr(given, k) for k in ("sample_how", "warmth", "minutes")}
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        made = parcels.draw(
            connection, who.fleet_id, sample_no=given.sample_no, compartment_id=given.compartment_id, oil_id=given.oil_id,
            batch=given.batch, on=given.on, meter=given.meter, conditions=conditions, by=who.name, today=today_of(request),
        )  # fmt: skip
    return RowOut(id=made)


@router.post("/bottles/received", status_code=204)
def bottle_received(request: Request, given: ReceivedIn, who: Visitor = permitted("ship_bottles", by_token=True)) -> None:
    """The lab has a bottle."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        parcels.receive(connection, who.fleet_id, given.sample_no, given.on, who.name)


@router.post("/bottles/{bottle_id}", status_code=204)
def change_bottle(request: Request, bottle_id: int, given: BottleChangeIn, who: Visitor = permitted("ship_bottles", by_token=True)) -> None:
    """A bottle given up, found again, or taken out of a parcel that has not left."""
    known_id(bottle_id, "bottle")
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        parcels.change(connection, who.fleet_id, bottle_id, given.do, given.why, who.name, today_of(request))


@router.get("/parcels")
def get_parcels(request: Request, who: Visitor = permitted("see_bottles")) -> list[ParcelOut]:
    """Parcels to labs, newest first, with how far their bottles are."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = parcels.shipments(connection, today_of(request))
    return [ParcelOut(**{k: r[k] for k in ParcelOut.model_fields}) for r in rows]


@router.get("/parcels/{shipment_id}")
def get_parcel(request: Request, shipment_id: int, who: Visitor = permitted("see_bottles")) -> dict[str, Any]:
    """A parcel's packing list in the shape labs are told it."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = parcels.packing_list(connection, known_id(shipment_id, "parcel"), today_of(request))
    if found is None:
        raise HTTPException(404, "there is no such parcel in this fleet")
    document: dict[str, Any] = found["document"]
    return document


@router.post("/parcels", status_code=201)
def post_parcel(request: Request, given: ParcelIn, who: Visitor = permitted("ship_bottles", by_token=True)) -> RowOut:
    """Bottles put into a new parcel to a lab."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        return RowOut(id=parcels.pack(connection, who.fleet_id, given.bottles, given.lab_id, given.note, who.name, today_of(request)))


@router.post("/parcels/{shipment_id}/send", status_code=204)
def send_parcel(request: Request, shipment_id: int, given: OnIn, who: Visitor = permitted("ship_bottles", by_token=True)) -> None:
    """The parcel has left."""
    known_id(shipment_id, "parcel")
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        parcels.send(connection, who.fleet_id, shipment_id, given.on, who.name, today_of(request))


# ---- labs ------------------------------------------------------------------------------------------------------
@router.get("/labs")
def get_labs(request: Request, who: Visitor = permitted("see_bottles")) -> list[LabOut]:
    """Labs and how their files come in; never their keys."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = rows_of.labs(connection, today_of(request))
    return [LabOut(headings=r["meanings"], **{k: r[k] for k in LabOut.model_fields if k != "headings"}) for r in rows]


@router.put("/labs")
def put_lab(request: Request, given: LabIn, who: Visitor = permitted("keep_labs", by_token=True)) -> RowOut:
    """A lab made or changed, by its name."""
    with settling(request.app.state.db, who.fleet_id, today_of(request)) as connection:
        return RowOut(id=labs.put(connection, who.fleet_id, **given.model_dump(), by=who.name))


@router.post("/labs/{lab_id}/forget", status_code=204)
def forget_heading(request: Request, lab_id: int, given: HeadingIn, who: Visitor = permitted("keep_labs", by_token=True)) -> None:
    """What one heading of a lab's files was said to mean is forgotten."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        if all(r["lab_id"] != lab_id or given.heading not in r["meanings"] for r in rows_of.labs(connection, today_of(request))):
            raise InputError("heading", "is not one that this lab's files were explained with")
        labs.forget_meaning(connection, who.fleet_id, known_id(lab_id, "lab"), given.heading, who.name)
