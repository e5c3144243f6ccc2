"""Bottles and parcels: what is to be sent, what is on its way, what is late; labs and how long they take."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.core import measures
from vornet.core.errors import InputError
from vornet.flows.lab import labs, parcels
from vornet.flows.pages import rows as rows_of
from vornet.io import tables
from vornet.web.pages import Form, database, day_of, hand, needs, number_like, opened, recording, render, sheet, today, typed, visitor
from vornet.web.paper import pdf

router = APIRouter()


def _page(request: Request, error: str = "", form: dict[str, Any] | None = None, open_form: str = "") -> Response:
    who, day = visitor(request), today(request)
    with database(request).fleet(who.fleet_id) as connection:
        found = parcels.overview(connection, day)
        depots = [b["depot"] for b in found["to_send"]]
        lab_id = parcels.lab_for(connection, day, depots) if found["labs"] else None
        oils = rows_of.oils(connection)
        places = rows_of.places(connection)
    places = sorted((p for p in places if p["compartment_id"]), key=lambda p: (p["unit"], p["compartment"]))
    return render(
        request, "bottles.html", 422 if error else 200, **found, error=error, form=opened(form or {}), open_form=open_form, usual_lab=lab_id,
        oils=oils, places=places, how=parcels.HOW, state_words=parcels.STATE_WORDS, ways=labs.WAYS,
    )  # fmt: skip


@router.get("/lab/bottles", dependencies=[needs("see_bottles")])
def show(request: Request) -> Response:
    """What is to be sent, on its way, late, and back."""
    return _page(request)


@router.get("/lab/bottles.csv", dependencies=[needs("see_bottles")])
def as_csv(request: Request) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = parcels.shown(connection, today(request))
    names = ("sample_no", "state", "unit", "compartment", "oil", "batch", "drawn_on", "meter", "shipment", "lab", "sent_on", "received_on",
             "reported_on", "late", "lost_why")  # fmt: skip
    text = tables.as_csv([{n: r[n] if isinstance(r[n], str | float | int | None) else str(r[n]) for n in names} for r in rows])
    return sheet(text, "bottles.csv")


@router.post("/lab/bottles", dependencies=[needs("ship_bottles")])
def draw(request: Request, form: Form) -> Response:
    """Register a bottle drawn between drains, or of new oil."""
    who = visitor(request)

    def act() -> Response:
        try:
            place, oil = form.get("compartment", ""), form.get("oil", "")
            with recording(request) as connection:
                counts = rows_of.counts_of(connection, int(place), today(request)) if number_like(place) else "hours"
                conditions = {k: str(form.get(k, "")) for k in ("sample_how", "warmth")}
                waited = form.get("minutes", "").strip()
                minutes = measures.number(waited, "minutes", hand(request).mark) if waited else None
                parcels.draw(
                    connection, who.fleet_id, sample_no=form.get("sample_no", ""),
                    compartment_id=int(place) if number_like(place) else None, oil_id=int(oil) if number_like(oil) else None,
                    batch=form.get("batch", ""), on=day_of(form.get("on"), "on", today(request)),
                    meter=typed(form, "meter", counts, request), conditions={**conditions, "minutes": minutes}, by=who.name,
                    today=today(request),
                )  # fmt: skip
        except InputError as error:
            return _page(request, str(error), form, "draw")
        return RedirectResponse("/lab/bottles", 303)

    return act()


@router.post("/lab/bottles/{bottle_id}", dependencies=[needs("ship_bottles")])
def bottle(request: Request, bottle_id: int, form: Form) -> Response:
    """Give a bottle up, find it again, or take it out of its parcel."""
    who, do = visitor(request), form.get("do", "")
    with recording(request) as connection:
        parcels.change(connection, who.fleet_id, bottle_id, do, form.get("why", ""), who.name, today(request))
    return RedirectResponse(form.get("back", "") if form.get("back", "").startswith("/lab/") else "/lab/bottles", 303)


@router.post("/lab/parcels", dependencies=[needs("ship_bottles")])
def pack(request: Request, form: Form) -> Response:
    """The chosen bottles go into a new parcel."""
    who = visitor(request)
    chosen = form.ids("id")
    lab = form.get("lab", "")
    try:
        with recording(request) as connection:
            parcel = parcels.pack(
                connection, who.fleet_id, chosen, int(lab) if number_like(lab) else 0, form.get("note", ""), who.name, today(request)
            )
    except InputError as error:
        return _page(request, str(error), form, "")
    return RedirectResponse(f"/lab/parcels/{parcel}", 303)


def _parcel(request: Request, shipment_id: int) -> dict[str, Any]:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = parcels.packing_list(connection, shipment_id, today(request))
    if found is None:
        raise HTTPException(404, "There is no such parcel in this fleet.")
    return found


@router.get("/lab/parcels/{shipment_id}", dependencies=[needs("see_bottles")])
def parcel(request: Request, shipment_id: int) -> Response:
    """A parcel's packing list and where its bottles are."""
    return render(request, "parcel.html", **_parcel(request, shipment_id), state_words=parcels.STATE_WORDS)


@router.get("/lab/parcels/{shipment_id}/packing-list.pdf", dependencies=[needs("see_bottles")])
def paper(request: Request, shipment_id: int) -> Response:
    """The packing list to put into the parcel."""
    found = _parcel(request, shipment_id)
    return pdf(request, "paper_parcel.html", f"parcel-{found['shipment']['number']}", **found)


@router.get("/lab/parcels/{shipment_id}/packing-list.json", dependencies=[needs("see_bottles")])
def as_json(request: Request, shipment_id: int) -> Response:
    """The packing list in the shape labs are told it."""
    return JSONResponse(_parcel(request, shipment_id)["document"])


@router.post("/lab/parcels/{shipment_id}/send", dependencies=[needs("ship_bottles")])
def send(request: Request, shipment_id: int, form: Form) -> Response:
    """The parcel has left."""
    who = visitor(request)
    with recording(request) as connection:
        parcels.send(connection, who.fleet_id, shipment_id, day_of(form.get("on"), "on", today(request)), who.name, today(request))
    return RedirectResponse(f"/lab/parcels/{shipment_id}", 303)


@router.post("/lab/received", dependencies=[needs("ship_bottles")])
def received(request: Request, form: Form) -> Response:
    """The lab has a bottle, and said so by telephone."""
    who = visitor(request)
    with recording(request) as connection:
        parcels.receive(connection, who.fleet_id, form.get("sample_no", ""), day_of(form.get("on"), "on", today(request)), who.name)
    return RedirectResponse(form.get("back", "") if form.get("back", "").startswith("/lab/") else "/lab/bottles", 303)


# ---- labs ----------------------------------------------------------------------------------------------


def _labs(request: Request, error: str = "", form: dict[str, Any] | None = None) -> Response:
    day = today(request)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = rows_of.labs(connection, day)
        depots = rows_of.depots(connection)
    return render(
        request, "labs.html", 422 if error else 200, labs=found, depots=depots, ways=labs.WAYS, error=error, form=opened(form or {})
    )


@router.get("/lab/labs", dependencies=[needs("see_bottles")])
def show_labs(request: Request) -> Response:
    """Labs: turnaround, ways in, and what their headings were said to mean."""
    return _labs(request)


@router.post("/lab/labs", dependencies=[needs("keep_labs")])
def put_lab(request: Request, form: Form) -> Response:
    who = visitor(request)
    days = form.get("usual_days", "10").strip()
    try:
        with recording(request) as connection:
            labs.put(
                connection, who.fleet_id, name=form.get("name", ""), way=form.get("way", "hand"),
                address=form.get("address", ""), key=form.get("key", ""), usual_days=int(days) if number_like(days) else 0,
                depots=[str(d) for d in form.many("depots") if str(d)], by=who.name,
            )  # fmt: skip
    except InputError as error:
        return _labs(request, str(error), form)
    return RedirectResponse("/lab/labs", 303)


@router.post("/lab/labs/{lab_id}/forget", dependencies=[needs("keep_labs")])
def forget(request: Request, lab_id: int, form: Form) -> Response:
    """Forget what one heading of a lab was said to mean."""
    who = visitor(request)
    with recording(request) as connection:
        labs.forget_meaning(connection, who.fleet_id, lab_id, form.get("heading", ""), who.name)
    return RedirectResponse("/lab/labs", 303)
