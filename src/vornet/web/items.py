"""Items of a service plan: how they are planned, and what was done."""

from __future__ import annotations

import uuid
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.core.errors import FormErrors, InputError
from vornet.core.measures import Hand
from vornet.flows.house import meters
from vornet.flows.pages import rows as rows_of
from vornet.flows.plan import service
from vornet.flows.register import units
from vornet.flows.work import photos
from vornet.io.equipment import READINGS, ServiceItem
from vornet.web import both, forms
from vornet.web.pages import Form, database, day_of, hand, needs, opened, recording, render, today, visitor
from vornet.web.unit import typed_meter, unit_or_404

router = APIRouter()


def _item_form(
    request: Request, unit: dict[str, Any], compartments: list[dict[str, Any]], values: dict[str, str], errors: dict[str, str],
    item_id: int | None, counts: str,
) -> Response:  # fmt: skip
    return render(
        request, "item_edit.html", 422 if errors else 200, unit=unit, compartments=compartments, values=opened(values), errors=errors,
        item_id=item_id, fields=forms.item_fields(counts), counts=counts, readings=READINGS,
    )  # fmt: skip


def _places(request: Request, unit_id: int) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    found = unit_or_404(request, unit_id)
    return found["unit"], [{"id": c["id"], "name": c["c"]["compartment"]} for c in found["compartments"]]


@router.get("/units/{unit_id}/items/new", dependencies=[needs("edit_register")])
def new_item(request: Request, unit_id: int, compartment: str = "") -> Response:
    unit, places = _places(request, unit_id)
    return _item_form(request, unit, places, {"compartment": compartment}, {}, None, unit["meter_unit"])


@router.get("/items/{item_id}/edit", dependencies=[needs("edit_register")])
def edit_item(request: Request, item_id: int) -> Response:
    item = _item(request, item_id)
    unit, places = _places(request, item["unit_id"])
    values = forms.item_shown(item, item["meter_unit"], visitor(request).measures) | {"compartment": item["compartment"] or ""}
    return _item_form(request, unit, places, values, {}, item_id, item["meter_unit"])


def _item(request: Request, item_id: int) -> dict[str, Any]:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        item = rows_of.item(connection, item_id)
    if item is None:
        raise HTTPException(404, "There is no such service item in this fleet.")
    found: dict[str, Any] = item
    return found


@router.post("/units/{unit_id}/items", dependencies=[needs("edit_register")])
def save_item(request: Request, unit_id: int, form: Form) -> Response:
    """Add or change a service item, by its name."""
    who = visitor(request)
    unit, places = _places(request, unit_id)
    chosen = form.get("compartment", "")
    counts = unit["meter_unit"]
    with recording(request) as connection:
        for place in places:
            if place["name"] == chosen:
                row = rows_of.compartment(connection, place["id"])
                counts = row["meter_unit"] if row else counts
    item_id = form.id("item_id")
    try:
        with recording(request) as connection:
            if item_id is not None:
                both.merge(request, connection, form, lambda: edit_item(request, item_id))
            given, errors = forms.read_item(form, counts, hand(request))
            for key in ("every", "first"):
                if f"{key}meter" in given:
                    given[f"{key}_{counts}"] = given.pop(f"{key}meter")
            if errors:
                raise FormErrors(errors)
            item = units.checked(ServiceItem, {**given, "unit": unit["unit"], "compartment": chosen or None})
            service.put(connection, who.fleet_id, item, who.name)
    except InputError as error:
        found = getattr(error, "errors", None) or {error.field: error.why}
        renamed = {k.replace(f"_{counts}", "meter") if k.startswith(("every_", "first_")) else k: v for k, v in found.items()}
        return _item_form(request, unit, places, form, renamed, item_id, counts)
    return RedirectResponse(f"/units/{unit_id}#plan", 303)


@router.post("/items/{item_id}/remove", dependencies=[needs("edit_register")])
def remove_item(request: Request, item_id: int, form: Form) -> Response:
    item, who = _item(request, item_id), visitor(request)
    with recording(request) as connection:
        service.remove(connection, who.fleet_id, item_id, who.name)
    return RedirectResponse(f"/units/{item['unit_id']}#plan", 303)


@router.post("/items/{item_id}/records/{record_id}/back", dependencies=[needs("log_work")])
def back(request: Request, item_id: int, record_id: int, form: Form) -> Response:
    """A record of something that was not done is taken back, with the reason."""
    who = visitor(request)
    with recording(request) as connection:
        service.take_back(connection, who.fleet_id, item_id, record_id, form.get("why", ""), who.name)
    return RedirectResponse(f"/items/{item_id}", 303)


@router.get("/items/{item_id}", dependencies=[needs("see")])
def show_item(request: Request, item_id: int) -> Response:
    """One service item: what it asks for, when it is due, what was found."""
    return _item_page(request, item_id, "", {})


def _item_page(request: Request, item_id: int, error: str, form: dict[str, str]) -> Response:
    item = _item(request, item_id)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        records = rows_of.records_of(connection, item_id)
        latest = rows_of.latest_meter(connection, item["unit_id"], item["meter_no"])
        pictures = [p for p in photos.of_unit(connection, item["unit_id"], None, 200) if p["item_id"] == item_id]
    wanted = item["facts"].get("reading")
    kind = READINGS.get((wanted or {}).get("type", ""))
    return render(
        request, "item.html", 422 if error else 200, item=opened(item), records=opened(records), error=error, form=form, kind=kind,
        wanted=opened(wanted), plan_words=units.plan_words, latest=latest, client_id=str(uuid.uuid4()),
        within=service.within_words, pictures=pictures,
    )  # fmt: skip


@router.post("/items/{item_id}", dependencies=[needs("log_work")])
def record_item(request: Request, item_id: int, form: Form) -> Response:
    """Done, looked at, or not done, with what was read."""
    item, who = _item(request, item_id), visitor(request)
    try:
        reading = _reading(item, form, hand(request))
        text = form.get("meter", "").strip()
        meter = typed_meter(form, item["meter_unit"], hand(request)) if text else None
        on = day_of(form.get("on"), "on", today(request))
        with recording(request) as connection:
            if meter is not None:
                meters.check(connection, item["unit_id"], item["meter_no"], item["meter_unit"], meter, on)
            service.record(
                connection, who.fleet_id, item_id, on, meter, form.get("outcome", "done"), reading, form.get("note", ""),
                who.name, today(request),
            )  # fmt: skip
    except InputError as error:
        return _item_page(request, item_id, f"{error.field}: {error.why}", form)
    return RedirectResponse(f"/items/{item_id}", 303)


def _reading(item: dict[str, Any], form: dict[str, str], by: Hand) -> dict[str, Any]:
    out: dict[str, Any] = {}
    wanted = item["facts"].get("reading")
    text = form.get("value", "").strip()
    if wanted and text:
        kind = READINGS[wanted["type"]][1]
        if kind in forms.QUANTITIES:
            out["value"] = forms.read(forms.Field("value", "Value", kind), text, by)
        elif kind == "choice" and text not in READINGS[wanted["type"]][2]:
            raise InputError("value", f"one of {', '.join(READINGS[wanted['type']][2])}")
        else:
            out["value"] = text[:500]
    route = item["facts"].get("grease")
    if route:
        missed = forms.read(forms.Field("missed", "Missed", "int"), form.get("missed", ""), by) or 0
        if not 0 <= missed <= route["points"]:
            raise InputError("missed", f"this route has {route['points']} points")
        out |= {"greased": route["points"] - missed, "missed": missed, "cleaned": form.get("cleaned") == "yes"}
    return out
