"""A drain put right, at its own page under its compartment."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.core import job, measures
from vornet.core.errors import FormErrors, InputError
from vornet.core.measures import Hand
from vornet.flows.lab import put_right
from vornet.web import forms
from vornet.web.drain_form import DrainForm
from vornet.web.pages import Form, database, hand, needs, recording, render, today, visitor

router = APIRouter()

_FILTER = {True: "yes", False: "no", None: ""}
_KINDS = {"meter": "", "volume_out_l": "volume", "volume_in_l": "volume"}


def _of(request: Request, compartment_id: int, drain_id: int) -> dict[str, Any]:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        try:
            row = put_right.drain_of(connection, drain_id)
        except InputError:
            row = {}
    if row.get("compartment_id") != compartment_id:
        raise HTTPException(404, "There is no such drain here; it may have been put right meanwhile.")
    return row


def _kind(row: dict[str, Any], name: str) -> str:
    return _KINDS[name] or ("distance" if row["meter_unit"] == "km" else "hours")


def _figure(value: float | None, kind: str, by: Hand) -> str:
    number = measures.shown(value, kind, by.system)
    return "" if number is None else f"{number:.2f}".rstrip("0").rstrip(".").replace(".", by.mark or ".")


def _words(value: Any) -> list[str]:
    return [value] if isinstance(value, str) else [v for v in value or [] if isinstance(v, str)]


def _as_typed(row: dict[str, Any], by: Hand) -> dict[str, str]:
    """The drain as its form shows it: what comes back with the same text was not changed."""
    shown = {name: _figure(row[name], _kind(row, name), by) for name in _KINDS}
    looks = {name: ",".join(k for k in words if k in _words(row["extra"].get(name))) for name, words in put_right.LOOKS.items()}
    return {**looks, "magnet_grade": "" if row["magnet_grade"] is None else str(row["magnet_grade"]), "air_filter": row["air_filter"] or "",
            "on": row["on_day"].isoformat(), "unit": row["unit"], "compartment": row["compartment"],
            "filter_changed": _FILTER[row["filter_changed"]], **shown}  # fmt: skip


def _page(request: Request, row: dict[str, Any], fields: dict[str, str], errors: dict[str, str] | None = None) -> Response:
    return render(
        request, "drain_right.html", 422 if errors else 200, row=row, fields=fields, errors=errors or {}, looks=put_right.LOOKS,
        one_word=put_right.ONE_WORD, magnet_words=job.MAGNET, air_filters=job.AIR_FILTERS,
    )  # fmt: skip


@router.get("/compartments/{compartment_id}/drains/{drain_id}", dependencies=[needs("log_work")])
def ask(request: Request, compartment_id: int, drain_id: int) -> Response:
    """A drain as it stands, to be put right or taken back."""
    row = _of(request, compartment_id, drain_id)
    return _page(request, row, _as_typed(row, hand(request)))


@router.post("/compartments/{compartment_id}/drains/{drain_id}", dependencies=[needs("log_work")])
def save(request: Request, compartment_id: int, drain_id: int, posted: Form) -> Response:
    """Another day, meter, volume, filter or place; or the drain taken back. With the reason; the old row stays."""
    row, who, by = _of(request, compartment_id, drain_id), visitor(request), hand(request)
    fields = {k: str(v)[:300] for k, v in posted.items()}
    form, before = DrainForm(fields, by), _as_typed(row, by)
    try:
        with recording(request) as connection:
            if fields.get("do") == "take":
                put_right.take_back(connection, who.fleet_id, drain_id, fields.get("why", ""), who.name)
                return RedirectResponse(f"/compartments/{compartment_id}#drains", 303)
            right: dict[str, Any] = {}
            for name, label in (("meter", "the meter"), ("volume_out_l", "oil out"), ("volume_in_l", "oil in")):
                if name in fields and form.text(name) != before[name]:
                    right[name] = form.amount(name, _kind(row, name), label)
            if "meter" in right and right["meter"] is None:
                form.errors.setdefault("meter", "the meter is needed")
            if form.text("on") != before["on"]:
                right["on_day"] = form.day(today(request))
            if "filter_changed" in fields and form.text("filter_changed") != before["filter_changed"]:
                right["filter_changed"] = {"yes": True, "no": False}.get(form.text("filter_changed"))
            right |= _seen(posted, fields, before)
            unit, compartment = form.text("unit") or before["unit"], form.text("compartment") or before["compartment"]
            if (unit, compartment) != (before["unit"], before["compartment"]):
                right["compartment_id"] = put_right.place_named(connection, unit, compartment)["compartment_id"]
            if form.errors:
                raise FormErrors(form.errors)
            change = put_right.Change(right, fields.get("why", ""))
            put_right.correct_drain(connection, who.fleet_id, drain_id, change, who.name, today(request))
    except FormErrors as error:
        return _page(request, row, {**before, **fields}, error.errors)
    except InputError as error:
        return _page(request, row, {**before, **fields}, {error.field: error.why})
    return RedirectResponse(f"/compartments/{right.get('compartment_id', compartment_id)}#drains", 303)


def _seen(posted: Any, fields: dict[str, str], before: dict[str, str]) -> dict[str, Any]:
    """Grades and looks that were typed otherwise than they stand."""
    right: dict[str, Any] = {}
    if "magnet_grade" in fields and fields["magnet_grade"] != before["magnet_grade"]:
        right["magnet_grade"] = int(fields["magnet_grade"]) if fields["magnet_grade"] in "01234" and fields["magnet_grade"] else None
    if "air_filter" in fields and fields["air_filter"] != before["air_filter"]:
        right["air_filter"] = fields["air_filter"] or None
    for name in put_right.LOOKS if "looks" in fields else ():
        chosen = posted.many(name)
        if ",".join(chosen) != before[name]:
            right[name] = (chosen[0] if chosen and chosen[0] else None) if name in put_right.ONE_WORD else chosen
    return right


@router.post("/compartments/{compartment_id}/samples/{sample_id}/move", dependencies=[needs("settle_holds")])
def move_sample(request: Request, compartment_id: int, sample_id: int, posted: Form) -> Response:
    """A sample that was drawn elsewhere goes there, with its bottle."""
    who, by = visitor(request), hand(request)
    with recording(request) as connection:
        to = put_right.place_named(connection, posted.get("unit", ""), posted.get("compartment", ""))["compartment_id"]
        counts = put_right.counts(connection, to)
        meter = forms.read(forms.Field("meter", "Meter", "distance" if counts == "km" else "hours"), posted.get("meter", ""), by)
        new_id = put_right.move_sample(connection, who.fleet_id, sample_id, to, meter, posted.get("why", ""), who.name)
    return RedirectResponse(f"/compartments/{to}/samples/{new_id}", 303)
