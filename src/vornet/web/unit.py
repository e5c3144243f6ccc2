"""One unit: its facts, meters, compartments and plan; the forms that change them."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.core import measures, schools
from vornet.core.errors import FormErrors, InputError
from vornet.core.measures import Hand
from vornet.flows.house import days
from vornet.flows.house.people import Visitor
from vornet.flows.judge import learned
from vornet.flows.pages import open_ends
from vornet.flows.pages import rows as rows_of
from vornet.flows.plan import planned, service
from vornet.flows.register import attachments, templates, units
from vornet.flows.work import cards, noted, notes, photos
from vornet.io import equipment
from vornet.store.database import Connection
from vornet.web import both, forms
from vornet.web.pages import Form, Posted, database, day_of, hand, maybe_day, needs, opened, recording, render, today, visitor

router = APIRouter()


def unit_or_404(request: Request, unit_id: int) -> dict[str, Any]:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = units.page(connection, unit_id, today(request))
    if found is None:
        raise HTTPException(404, "There is no such unit in this fleet.")
    return found


def show_unit(request: Request, unit_id: int, error: str = "", **more: Any) -> Response:
    found = opened(unit_or_404(request, unit_id))
    with database(request).fleet(visitor(request).fleet_id) as connection:
        ends = open_ends.open_ends(connection, today(request), unit_id)
        visits = planned.next_by_key(connection, [f"drain:{c['id']}" for c in found["compartments"]])
        visit = planned.next_of_units(connection, [unit_id]).get(unit_id)
        readings = notes.readings(connection, unit_id)
        pictures = photos.of_unit(connection, unit_id)
        there = max(today(request), today(request) + days.ahead(connection, unit_id=unit_id))
        lately, jobs = noted.of_unit(connection, unit_id), cards.of_unit(connection, unit_id)
    in_force = {c["id"]: schools.in_force(found["schools"], c["c"].get("schools", {})) for c in found["compartments"]}
    return render(
        request, "unit.html", 422 if error else 200, **found, error=error, in_force=in_force, all_schools=schools.SCHOOLS,
        words=equipment, state_words=units.STATE_WORDS, plan_words=units.plan_words, event_words=notes.EVENT_WORDS,
        field_words=learned.FIELD_WORDS, attachment_kinds=attachments.ATTACHMENT_KINDS, reading_words=service.reading_words, ends=ends,
        visits=visits, visit=visit, readings=readings, pictures=pictures, lately=lately, jobs=jobs, there=there,
        state_of_job=cards.STATE_WORDS, **more,
    )  # fmt: skip


@router.get("/units/{unit_id}", dependencies=[needs("see")])
def show(request: Request, unit_id: int) -> Response:
    """One unit and everything the register knows of it."""
    return show_unit(request, unit_id)


@router.get("/units/{unit_id}/edit", dependencies=[needs("edit_register")])
def edit(request: Request, unit_id: int) -> Response:
    found = unit_or_404(request, unit_id)
    values = {f.key: forms.shown(f, found["document"].get(f.key), visitor(request).measures) for f in forms.UNIT_FIELDS}
    return render(request, "unit_edit.html", unit=found["unit"], values=values, errors={}, fields=forms.UNIT_FIELDS)


@router.post("/units/{unit_id}/edit", dependencies=[needs("edit_register")])
def save(request: Request, unit_id: int, form: Form) -> Response:
    who, errors = visitor(request), {}  # type: ignore[var-annotated]
    try:
        with recording(request) as connection:
            both.merge(request, connection, form, lambda: edit(request, unit_id))
            given = forms.read_fields(forms.UNIT_FIELDS, form, hand(request), errors)
            if errors:
                raise FormErrors(errors)
            units.save_unit(connection, who.fleet_id, unit_id, given, who.name, today(request))
    except InputError as error:
        found = getattr(error, "errors", None) or {error.field: error.why}
        unit = unit_or_404(request, unit_id)["unit"]
        return render(request, "unit_edit.html", 422, unit=unit, values=form, errors=found, fields=forms.UNIT_FIELDS)
    return RedirectResponse(f"/units/{unit_id}", 303)


def small(request: Request, unit_id: int, form: Posted, do: Any) -> Response:
    """A small form on the unit's page: done, or the page again with the sentence why not."""
    who = visitor(request)

    try:
        with recording(request) as connection:
            do(connection, who, form)
    except InputError as error:
        words = {"meter": "Meter", "litres": "Litres", "on": "Day", "reading": "Level", "why": "Reason", "file": "File"}
        return show_unit(request, unit_id, f"{words.get(error.field, error.field)}: {error.why}")
    return RedirectResponse(f"/units/{unit_id}{form.get('back', '')}", 303)


def typed_meter(form: dict[str, Any], counts: str, by: Hand) -> float:
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

    return small(request, unit_id, form, do)


@router.post("/units/{unit_id}/remove", dependencies=[needs("edit_register")])
def remove(request: Request, unit_id: int, form: Form) -> Response:
    """Delete a unit made by mistake; what holds history is retired instead."""
    who = visitor(request)
    unit_or_404(request, unit_id)
    try:
        with recording(request) as connection:
            units.remove_unit(connection, who.fleet_id, unit_id, form.get("why", ""), who.name)
    except InputError as error:
        return show_unit(request, unit_id, f"{error.field}: {error.why}")
    return RedirectResponse("/library", 303)


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
        notes.read_meter(connection, who.fleet_id, unit_id, number, typed_meter(form, counts, hand(request)), on, who.name, today(request))

    return small(request, unit_id, form, do)


@router.post("/units/{unit_id}/readings/{reading_id}", dependencies=[needs("log_work")])
def correct_reading(request: Request, unit_id: int, reading_id: int, form: Form) -> Response:
    """A wrong reading put right, or taken back, with the reason; the old row stays."""

    def do(connection: Connection, who: Visitor, form: Posted) -> None:
        row = next((r for r in notes.readings(connection, unit_id) if r["reading_id"] == reading_id), None)
        unit = rows_of.unit(connection, unit_id)
        if row is None or unit is None:
            raise InputError("reading", "is not among this unit's latest readings")
        counts = unit["second_meter_unit"] if row["meter_no"] == 2 else unit["meter_unit"]
        taken = form.get("do") == "take"
        meter = None if taken else typed_meter(form, counts, hand(request))
        if not taken and meter is None:
            raise InputError("meter", "is missing")
        on = maybe_day(form.get("on"), "on")
        notes.correct_reading(connection, who.fleet_id, reading_id, meter, on, form.get("why", ""), who.name, today(request))

    return small(request, unit_id, form, do)


def compartment(connection: Connection, unit_id: int, form: Posted) -> dict[str, Any]:
    return rows_of.own_compartment(connection, unit_id, form.id("compartment_id"))


@router.post("/units/{unit_id}/top-up", dependencies=[needs("log_work")])
def top_up(request: Request, unit_id: int, form: Form) -> Response:
    """Make-up oil, or a level read with nothing added."""

    def do(connection: Connection, who: Visitor, form: Posted) -> None:
        row = compartment(connection, unit_id, form)
        on, meter = day_of(form.get("on"), "on", today(request)), typed_meter(form, row["meter_unit"], hand(request))
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

    return small(request, unit_id, form, do)


@router.post("/units/{unit_id}/event", dependencies=[needs("log_work")])
def event(request: Request, unit_id: int, form: Form) -> Response:
    """A repair, part change, overhaul or exchange."""

    def do(connection: Connection, who: Visitor, form: Posted) -> None:
        row = compartment(connection, unit_id, form)
        volumes = {k: forms.read(forms.Field(k, k, "volume"), form.get(k, ""), hand(request)) for k in ("litres_out", "litres_in")}
        notes.event(
            connection, who.fleet_id, row["compartment_id"], form.get("kind", ""), day_of(form.get("on"), "on", today(request)),
            typed_meter(form, row["meter_unit"], hand(request)), volumes["litres_out"], volumes["litres_in"], form.get("serial", ""),
            form.get("note", ""), who.name, today(request),
        )  # fmt: skip

    return small(request, unit_id, form, do)


@router.post("/units/{unit_id}/template", dependencies=[needs("edit_register")])
def keep_template(request: Request, unit_id: int, form: Form) -> Response:
    """Keep this unit's pattern for more of its kind."""

    def do(connection: Connection, who: Visitor, form: Posted) -> None:
        templates.save_template(connection, who.fleet_id, form.get("name", ""), unit_id, who.name, today(request))

    return small(request, unit_id, form, do)
