"""One unit: its facts, meters, compartments and plan; the forms that change them."""

from __future__ import annotations

import uuid
from typing import Any
from urllib.parse import quote

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.api.bodies import takes
from vornet.core import measures, schools
from vornet.core.errors import FormErrors, InputError
from vornet.core.measures import Hand
from vornet.flows.house import fleets, meters
from vornet.flows.house.people import Visitor
from vornet.flows.judge import learned
from vornet.flows.pages import rows as rows_of
from vornet.flows.plan import service
from vornet.flows.register import attachments, doubts, templates, units
from vornet.flows.work import notes
from vornet.io import equipment
from vornet.io.equipment import READINGS, ServiceItem
from vornet.store.database import Connection
from vornet.web import forms
from vornet.web.pages import CompartmentRow, Form, Posted, database, day_of, hand, needs, opened, recording, render, today, visitor

router = APIRouter()


def _unit(request: Request, unit_id: int) -> dict[str, Any]:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = units.page(connection, unit_id, today(request))
    if found is None:
        raise HTTPException(404, "There is no such unit in this fleet.")
    return found


def _show(request: Request, unit_id: int, error: str = "", **more: Any) -> Response:
    found = opened(_unit(request, unit_id))
    in_force = {c["id"]: schools.in_force(found["schools"], c["c"].get("schools", {})) for c in found["compartments"]}
    return render(
        request, "unit.html", 422 if error else 200, **found, error=error, in_force=in_force, all_schools=schools.SCHOOLS,
        words=equipment, state_words=units.STATE_WORDS, plan_words=units.plan_words, event_words=notes.EVENT_WORDS,
        field_words=learned.FIELD_WORDS, attachment_kinds=attachments.ATTACHMENT_KINDS, reading_words=service.reading_words, **more,
    )  # fmt: skip


@router.get("/units/new", dependencies=[needs("edit_register")])
def new(request: Request, template: int | None = None, copy: int | None = None) -> Response:
    """A unit from a template, from another unit, or from nothing."""
    return _new(request, template, copy, {}, {})


def _new(request: Request, template: int | None, copy: int | None, form: dict[str, str], errors: dict[str, str]) -> Response:
    who = visitor(request)
    with database(request).fleet(who.fleet_id) as connection:
        templates = rows_of.templates(connection)
        oils = rows_of.oil_names(connection)
        facets = rows_of.facets(connection)
        pattern, follows = _pattern(connection, template, copy, today(request))
    return render(
        request, "unit_new.html", 422 if errors else 200, templates=templates, pattern=opened(pattern), follows=follows,
        chosen=template, copy=copy, form=form, errors=errors, oils=oils, depots=(facets or {}).get("depots") or [],
        fields=forms.UNIT_FIELDS, kinds=forms.KINDS, shown=forms.shown, Field=forms.Field, plan_words=_words_of(pattern),
    )  # fmt: skip


def _words_of(pattern: dict[str, Any]) -> list[str]:
    u = pattern.get("unit", {}).get("meter_unit", "h")
    out = []
    for i in pattern.get("service_items", ()):
        row = {k: i.get(k) for k in service.RULES} | {
            "every_meter": i.get(f"every_{u}"), "first_meter": i.get(f"first_{u}"), "meter_unit": u,
        }  # fmt: skip
        place = f"{i['compartment']}: " if i.get("compartment") else ""
        out.append(f"{place}{i['item']}, {units.plan_words(row)}")
    return out


def _pattern(connection: Any, template: int | None, copy: int | None, day: Any) -> tuple[dict[str, Any], str]:
    if template is not None:
        rows = rows_of.templates(connection)
        row = next((t for t in rows if t["template_id"] == template), None)
        if row is None:
            raise HTTPException(404, "There is no such template in this fleet.")
        return row["content"], row["name"]
    if copy is not None:
        try:
            unit = rows_of.unit(connection, copy)
            return templates.pattern_of(connection, copy, day), unit["unit"] if unit else ""
        except InputError:
            raise HTTPException(404, "There is no such unit in this fleet.") from None
    return {"unit": {"meter_unit": "h"}, "compartments": [], "service_items": []}, ""


@router.post("/units/new", dependencies=[needs("edit_register")])
def make(request: Request, form: Form) -> Response:
    """Make the unit that the form describes, with its pattern's compartments as they were adjusted."""
    who, errors = visitor(request), {}  # type: ignore[var-annotated]
    ids = {k: int(form[k]) if form.get(k, "").isdigit() else None for k in ("template", "copy")}
    given = forms.read_fields(forms.UNIT_FIELDS, form, hand(request), errors)
    try:
        on = day_of(form.get("on"), "on", today(request))
        with recording(request) as connection:
            pattern, _ = _pattern(connection, ids["template"], ids["copy"], today(request))
            counts = given.get("meter_unit") or pattern["unit"].get("meter_unit", "h")
            kind = "distance" if counts == "km" else "hours"
            meter = forms.read(forms.Field("meter", "Meter", kind), form.get("meter", ""), hand(request))
            compartments = _adjusted(pattern.get("compartments", []), form, hand(request), errors)
            if errors:
                raise FormErrors(errors)
            unit_id = templates.make_unit(
                connection, who.fleet_id,
                templates.NewUnit(
                    {k: v for k, v in given.items() if v is not None}, {**pattern, "compartments": compartments}, meter, on
                ),
                who.name, today(request),
            )  # fmt: skip
    except InputError as error:
        found = getattr(error, "errors", None) or {error.field: error.why}
        return _new(request, ids["template"], ids["copy"], form, found)
    return RedirectResponse(f"/units/{unit_id}", 303)


_ADJUSTED = (forms.Field("compartment", "Name"), forms.Field("oil", "Oil", "oil"),
             forms.Field("system_volume_l", "Whole system", "volume"), forms.Field("capacity_l", "Refill", "volume"))  # fmt: skip


def _adjusted(compartments: list[dict[str, Any]], form: dict[str, str], by: Hand, errors: dict[str, str]) -> list[dict[str, Any]]:
    """A pattern's compartments with what the form says differently; one left out is left out, new ones at the end."""
    out = []
    for i, c in enumerate(compartments):
        if form.get(f"c.{i}.with", "yes") != "yes":
            continue
        changes = forms.read_fields(_ADJUSTED, form, by, errors, f"c.{i}.")
        out.append({**c, **{k: v for k, v in changes.items() if v is not None}})
    for i in range(len(compartments), len(compartments) + 8):
        if not form.get(f"c.{i}.compartment", "").strip():
            continue
        fresh = forms.read_fields(_ADJUSTED, form, by, errors, f"c.{i}.")
        fresh["kind"] = form.get(f"c.{i}.kind", "other")
        out.append({k: v for k, v in fresh.items() if v is not None})
    return out


@router.get("/units/{unit_id}", dependencies=[needs("see")])
def show(request: Request, unit_id: int) -> Response:
    """One unit and everything the register knows of it."""
    return _show(request, unit_id)


@router.get("/units/{unit_id}/edit", dependencies=[needs("edit_register")])
def edit(request: Request, unit_id: int) -> Response:
    found = _unit(request, unit_id)
    values = {f.key: forms.shown(f, found["document"].get(f.key), visitor(request).measures) for f in forms.UNIT_FIELDS}
    return render(request, "unit_edit.html", unit=found["unit"], values=values, errors={}, fields=forms.UNIT_FIELDS)


@router.post("/units/{unit_id}/edit", dependencies=[needs("edit_register")])
def save(request: Request, unit_id: int, form: Form) -> Response:
    who, errors = visitor(request), {}  # type: ignore[var-annotated]
    given = forms.read_fields(forms.UNIT_FIELDS, form, hand(request), errors)
    try:
        if errors:
            raise FormErrors(errors)
        with recording(request) as connection:
            units.save_unit(connection, who.fleet_id, unit_id, given, who.name, today(request))
    except InputError as error:
        found = getattr(error, "errors", None) or {error.field: error.why}
        unit = _unit(request, unit_id)["unit"]
        return render(request, "unit_edit.html", 422, unit=unit, values=form, errors=found, fields=forms.UNIT_FIELDS)
    return RedirectResponse(f"/units/{unit_id}", 303)


def _small(request: Request, unit_id: int, form: Posted, do: Any) -> Response:
    """A small form on the unit's page: done, or the page again with the sentence why not."""
    who = visitor(request)

    try:
        with recording(request) as connection:
            do(connection, who, form)
    except InputError as error:
        words = {"meter": "Meter", "litres": "Litres", "on": "Day", "reading": "Level", "why": "Reason", "file": "File"}
        return _show(request, unit_id, f"{words.get(error.field, error.field)}: {error.why}")
    return RedirectResponse(f"/units/{unit_id}{form.get('back', '')}", 303)


def _meter(form: dict[str, Any], counts: str, by: Hand) -> float:
    kind = "distance" if counts == "km" else "hours"
    meter = forms.read(forms.Field("meter", "Meter", kind), form.get("meter", ""), by)
    if meter is None:
        raise InputError("meter", "is missing")
    return float(meter)


@router.post("/units/{unit_id}/state", dependencies=[needs("edit_register")])
def set_state(request: Request, unit_id: int, form: Form) -> Response:
    """Laid up, retired, or back in service."""

    def do(connection: Connection, who: Visitor, form: Posted) -> None:
        on = day_of(form.get("on"), "on", today(request))
        units.set_state(connection, who.fleet_id, unit_id, form.get("state", ""), on, form.get("note", ""), who.name, today(request))

    return _small(request, unit_id, form, do)


@router.post("/units/{unit_id}/meter", dependencies=[needs("log_work")])
def read_meter(request: Request, unit_id: int, form: Form) -> Response:
    """One reading of one of the unit's meters."""

    def do(connection: Connection, who: Visitor, form: Posted) -> None:
        unit = rows_of.unit(connection, unit_id)
        if unit is None:
            raise InputError("unit", "is not in this fleet")
        number = 2 if form.get("meter_no") == "2" else 1
        counts = unit["second_meter_unit"] if number == 2 else unit["meter_unit"]
        on = day_of(form.get("on"), "on", today(request))
        notes.read_meter(connection, who.fleet_id, unit_id, number, _meter(form, counts, hand(request)), on, who.name, today(request))

    return _small(request, unit_id, form, do)


def _compartment(connection: Connection, unit_id: int, form: Posted) -> dict[str, Any]:
    return rows_of.own_compartment(connection, unit_id, form.id("compartment_id"))


@router.post("/units/{unit_id}/top-up", dependencies=[needs("log_work")])
def top_up(request: Request, unit_id: int, form: Form) -> Response:
    """Make-up oil, or a level read with nothing added."""

    def do(connection: Connection, who: Visitor, form: Posted) -> None:
        row = _compartment(connection, unit_id, form)
        on, meter = day_of(form.get("on"), "on", today(request)), _meter(form, row["meter_unit"], hand(request))
        level = {k: measures.level(form.get(k, ""), k, hand(request).mark) for k in ("reading_before", "reading_after")}
        litres = forms.read(forms.Field("litres", "Litres", "volume"), form.get("litres", ""), hand(request))
        if litres is None:
            if level["reading_before"] is None:
                raise InputError("litres", "give what went in, or the level that was read")
            notes.level_check(connection, who.fleet_id, row["compartment_id"], on, meter, level["reading_before"], who.name, today(request))
            return
        notes.top_up(
            connection, who.fleet_id, row["compartment_id"], on, meter, litres, level["reading_before"],
            level["reading_after"], who.name, today(request),
        )  # fmt: skip

    return _small(request, unit_id, form, do)


@router.post("/units/{unit_id}/event", dependencies=[needs("log_work")])
def event(request: Request, unit_id: int, form: Form) -> Response:
    """A repair, part change, overhaul or exchange."""

    def do(connection: Connection, who: Visitor, form: Posted) -> None:
        row = _compartment(connection, unit_id, form)
        volumes = {k: forms.read(forms.Field(k, k, "volume"), form.get(k, ""), hand(request)) for k in ("litres_out", "litres_in")}
        notes.event(
            connection, who.fleet_id, row["compartment_id"], form.get("kind", ""), day_of(form.get("on"), "on", today(request)),
            _meter(form, row["meter_unit"], hand(request)), volumes["litres_out"], volumes["litres_in"], form.get("serial", ""),
            form.get("note", ""), who.name, today(request),
        )  # fmt: skip

    return _small(request, unit_id, form, do)


@router.post("/units/{unit_id}/template", dependencies=[needs("edit_register")])
def keep_template(request: Request, unit_id: int, form: Form) -> Response:
    """Keep this unit's pattern for more of its kind."""

    def do(connection: Connection, who: Visitor, form: Posted) -> None:
        templates.save_template(connection, who.fleet_id, form.get("name", ""), unit_id, who.name, today(request))

    return _small(request, unit_id, form, do)


@router.post("/units/{unit_id}/attachments", dependencies=[needs("edit_register"), takes(attachments.LARGEST_ATTACHMENT + 100_000)])
def attach(request: Request, unit_id: int, form: Form) -> Response:
    """A manual or a picture."""
    upload, who = form.files.get("file"), visitor(request)
    try:
        if upload is None:
            raise InputError("file", "choose one first")
        kept = attachments.attachable(upload.file.read(attachments.LARGEST_ATTACHMENT + 1))
        with recording(request) as connection:
            compartment_id = _compartment(connection, unit_id, form)["compartment_id"] if form.get("compartment_id") else None
            attachments.attach(connection, who.fleet_id, unit_id, compartment_id, form.get("kind", ""), str(upload.filename), kept, who.name)
    except InputError as error:
        return _show(request, unit_id, f"File: {error.why}")
    return RedirectResponse(f"/units/{unit_id}#attachments", 303)


@router.get("/attachments/{attachment_id}", dependencies=[needs("see")])
def attachment(request: Request, attachment_id: int) -> Response:
    """A manual or picture as it is kept."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = rows_of.attachment(connection, attachment_id)
    if found is None:
        raise HTTPException(404, "There is no such file in this fleet.")
    inline = "inline" if found["media_type"].startswith("image/") else "attachment"
    return Response(
        bytes(found["content"]), media_type=found["media_type"],
        headers={"Content-Disposition": f"{inline}; filename*=UTF-8''{quote(found['name'])}"},
    )  # fmt: skip


@router.post("/attachments/{attachment_id}/remove", dependencies=[needs("edit_register")])
def remove_attachment(request: Request, attachment_id: int, form: Form) -> Response:
    who = visitor(request)
    with recording(request) as connection:
        unit_id = rows_of.remove_attachment(connection, who.fleet_id, attachment_id, who.name)
    if unit_id is None:
        raise HTTPException(404, "There is no such file in this fleet.")
    return RedirectResponse(f"/units/{unit_id}#attachments", 303)


# ---- one compartment's register --------------------------------------------------------------------------------
def _compartment_form(
    request: Request, unit: dict[str, Any], compartment_id: int | None, document: dict[str, Any], counts: str,
    errors: dict[str, str],
) -> Response:  # fmt: skip
    with database(request).fleet(visitor(request).fleet_id) as connection:
        oils = rows_of.oil_names(connection)
        house = fleets.settings(connection)["schools"]
    return render(
        request, "compartment_edit.html", 422 if errors else 200, unit=unit, compartment_id=compartment_id, c=opened(document),
        groups=forms.compartment_groups(counts), lists=forms.LISTS, shown=forms.shown, errors=errors, oils=oils,
        schools=schools.SCHOOLS, in_force=schools.in_force(house, {}), school_words=schools.words, sources=equipment.SOURCES,
        counts=counts, label_of=forms.label_of,
    )  # fmt: skip


@router.get("/compartments/{compartment_id}/register", dependencies=[needs("edit_register")])
def edit_compartment(request: Request, compartment_id: int, row: CompartmentRow) -> Response:
    """Everything the register holds of one compartment."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        document = units.compartment_document(connection, compartment_id, today(request))
    return _compartment_form(request, row, compartment_id, document, row["meter_unit"], {})


@router.post("/compartments/{compartment_id}/register", dependencies=[needs("edit_register")])
def save_compartment(request: Request, compartment_id: int, row: CompartmentRow, form: Form) -> Response:
    who = visitor(request)
    given, errors = forms.read_compartment(form, row["meter_unit"], hand(request))
    try:
        if errors:
            raise FormErrors(errors)
        with recording(request) as connection:
            units.save_compartment(connection, who.fleet_id, compartment_id, given, who.name, today(request))
    except InputError as error:
        found = getattr(error, "errors", None) or {error.field: error.why}
        return _compartment_form(request, row, compartment_id, given, row["meter_unit"], found)
    return RedirectResponse(f"/units/{row['unit_id']}#c{compartment_id}", 303)


@router.get("/units/{unit_id}/compartments/new", dependencies=[needs("edit_register")])
def new_compartment(request: Request, unit_id: int) -> Response:
    unit = _unit(request, unit_id)["unit"]
    return _compartment_form(request, unit, None, {"kind": "engine"}, unit["meter_unit"], {})


@router.post("/units/{unit_id}/compartments/new", dependencies=[needs("edit_register")])
def add_compartment(request: Request, unit_id: int, form: Form) -> Response:
    who, unit = visitor(request), _unit(request, unit_id)["unit"]
    given, errors = forms.read_compartment(form, unit["meter_unit"], hand(request))
    try:
        if errors:
            raise FormErrors(errors)
        with recording(request) as connection:
            made = units.add_compartment(connection, who.fleet_id, unit_id, given, who.name, today(request))
    except InputError as error:
        found = getattr(error, "errors", None) or {error.field: error.why}
        return _compartment_form(request, unit, None, given, unit["meter_unit"], found)
    return RedirectResponse(f"/units/{unit_id}#c{made}", 303)


@router.post("/compartments/{compartment_id}/remove", dependencies=[needs("edit_register")])
def remove_compartment(request: Request, compartment_id: int, row: CompartmentRow, form: Form) -> Response:
    """Take out a compartment that has no history."""
    who = visitor(request)
    with recording(request) as connection:
        units.remove_compartment(connection, who.fleet_id, compartment_id, who.name)
    return RedirectResponse(f"/units/{row['unit_id']}", 303)


@router.post("/compartments/{compartment_id}/doubt", dependencies=[needs("edit_register")])
def settle_doubt(request: Request, compartment_id: int, row: CompartmentRow, form: Form) -> Response:
    """Take what was learned, or keep what the register says."""

    def do(connection: Connection, who: Visitor, form: Posted) -> None:
        doubts.settle(
            connection, who.fleet_id, compartment_id, form.get("field", ""), form.get("do") == "take", form.get("why", ""),
            who.name, today(request),
        )  # fmt: skip

    return _small(request, row["unit_id"], form, do)


# ---- service items ---------------------------------------------------------------------------------------------
def _item_form(
    request: Request, unit: dict[str, Any], compartments: list[dict[str, Any]], values: dict[str, str], errors: dict[str, str],
    item_id: int | None, counts: str,
) -> Response:  # fmt: skip
    return render(
        request, "item_edit.html", 422 if errors else 200, unit=unit, compartments=compartments, values=opened(values), errors=errors,
        item_id=item_id, fields=forms.item_fields(counts), counts=counts, readings=READINGS,
    )  # fmt: skip


def _places(request: Request, unit_id: int) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    found = _unit(request, unit_id)
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
    given, errors = forms.read_item(form, counts, hand(request))
    for key in ("every", "first"):
        if f"{key}_meter" in given:
            given[f"{key}_{counts}"] = given.pop(f"{key}_meter")
    try:
        if errors:
            raise FormErrors(errors)
        item = units.checked(ServiceItem, {**given, "unit": unit["unit"], "compartment": chosen or None})
        with recording(request) as connection:
            service.put(connection, who.fleet_id, item, who.name, today(request))
    except InputError as error:
        found = getattr(error, "errors", None) or {error.field: error.why}
        renamed = {k.replace(f"_{counts}", "_meter") if k.startswith(("every_", "first_")) else k: v for k, v in found.items()}
        return _item_form(request, unit, places, form, renamed, None, counts)
    return RedirectResponse(f"/units/{unit_id}#plan", 303)


@router.post("/items/{item_id}/remove", dependencies=[needs("edit_register")])
def remove_item(request: Request, item_id: int, form: Form) -> Response:
    item, who = _item(request, item_id), visitor(request)
    with recording(request) as connection:
        service.remove(connection, who.fleet_id, item_id, who.name)
    return RedirectResponse(f"/units/{item['unit_id']}#plan", 303)


@router.get("/items/{item_id}", dependencies=[needs("see")])
def show_item(request: Request, item_id: int) -> Response:
    """One service item: what it asks for, when it is due, what was found."""
    return _item_page(request, item_id, "", {})


def _item_page(request: Request, item_id: int, error: str, form: dict[str, str]) -> Response:
    item = _item(request, item_id)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        records = rows_of.records_of(connection, item_id)
        latest = rows_of.latest_meter(connection, item["unit_id"], item["meter_no"])
    wanted = item["facts"].get("reading")
    kind = READINGS.get((wanted or {}).get("type", ""))
    return render(
        request, "item.html", 422 if error else 200, item=opened(item), records=opened(records), error=error, form=form, kind=kind,
        wanted=opened(wanted), plan_words=units.plan_words, latest=latest, client_id=str(uuid.uuid4()),
        within=service.within_words,
    )  # fmt: skip


@router.post("/items/{item_id}", dependencies=[needs("log_work")])
def record_item(request: Request, item_id: int, form: Form) -> Response:
    """Done, looked at, or not done, with what was read."""
    item, who = _item(request, item_id), visitor(request)
    try:
        reading = _reading(item, form, hand(request))
        text = form.get("meter", "").strip()
        meter = _meter(form, item["meter_unit"], hand(request)) if text else None
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
