"""One compartment as the register has it: its form, and what the register doubts of it."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.core import schools
from vornet.core.errors import FormErrors, InputError
from vornet.flows.house import fleets
from vornet.flows.house.people import Visitor
from vornet.flows.pages import rows as rows_of
from vornet.flows.register import doubts, units
from vornet.io import equipment
from vornet.store.database import Connection
from vornet.web import both, forms
from vornet.web.pages import CompartmentRow, Form, Posted, database, hand, needs, opened, recording, render, today, visitor
from vornet.web.unit import show_unit, small, unit_or_404

router = APIRouter()


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
    given: dict[str, Any] = {}
    try:
        with recording(request) as connection:
            try:
                both.merge(request, connection, form, lambda: edit_compartment(request, compartment_id, row))
            finally:
                given, errors = forms.read_compartment(form, row["meter_unit"], hand(request))
            if errors:
                raise FormErrors(errors)
            units.save_compartment(connection, who.fleet_id, compartment_id, given, who.name, today(request))
    except InputError as error:
        found = getattr(error, "errors", None) or {error.field: error.why}
        return _compartment_form(request, row, compartment_id, given, row["meter_unit"], found)
    return RedirectResponse(f"/units/{row['unit_id']}#c{compartment_id}", 303)


@router.get("/units/{unit_id}/compartments/new", dependencies=[needs("edit_register")])
def new_compartment(request: Request, unit_id: int) -> Response:
    unit = unit_or_404(request, unit_id)["unit"]
    return _compartment_form(request, unit, None, {"kind": "engine"}, unit["meter_unit"], {})


@router.post("/units/{unit_id}/compartments/new", dependencies=[needs("edit_register")])
def add_compartment(request: Request, unit_id: int, form: Form) -> Response:
    who, unit = visitor(request), unit_or_404(request, unit_id)["unit"]
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
    try:
        with recording(request) as connection:
            units.remove_compartment(connection, who.fleet_id, compartment_id, who.name)
    except InputError as error:
        return show_unit(request, row["unit_id"], f"{row['compartment']} {error.why}")
    return RedirectResponse(f"/units/{row['unit_id']}", 303)


@router.post("/compartments/{compartment_id}/doubt", dependencies=[needs("edit_register")])
def settle_doubt(request: Request, compartment_id: int, row: CompartmentRow, form: Form) -> Response:
    """Take what was learned, or keep what the register says."""

    def do(connection: Connection, who: Visitor, form: Posted) -> None:
        doubts.settle(
            connection, who.fleet_id, compartment_id, form.get("field", ""), form.get("do") == "take", form.get("why", ""),
            who.name, today(request),
        )  # fmt: skip

    return small(request, row["unit_id"], form, do)
