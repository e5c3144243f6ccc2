"""A new unit: from a pattern, from another unit, or from nothing."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.core.errors import FormErrors, InputError
from vornet.core.measures import Hand
from vornet.flows.pages import rows as rows_of
from vornet.flows.plan import service
from vornet.flows.register import templates, units
from vornet.web import forms
from vornet.web.pages import Form, database, day_of, hand, needs, number_like, opened, recording, render, today, visitor

router = APIRouter()


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
    ids = {k: int(form[k]) if number_like(form.get(k, "")) else None for k in ("template", "copy")}
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
