"""What was noted between drains, put right or undone where it stands."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.core import measures
from vornet.core.errors import InputError
from vornet.core.measures import Hand
from vornet.flows.lab import put_right
from vornet.flows.work import noted, notes
from vornet.web import forms
from vornet.web.pages import Form, database, hand, maybe_day, needs, recording, render, today, visitor

router = APIRouter()
_VOLUMES = ("litres", "litres_out", "litres_in")
_LEVELS = ("reading", "reading_before", "reading_after")
LABELS = {
    "reading": "Level, 0 MIN to 1 MAX", "reading_before": "Level found", "reading_after": "Level after", "litres": "Poured",
    "litres_out": "Oil out", "litres_in": "Oil in", "what": "What", "note": "Note",
}  # fmt: skip


def _of(request: Request, compartment_id: int, kind: str, row_id: int) -> dict[str, Any]:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        try:
            row = noted.one(connection, kind, row_id)
        except InputError:
            row = {}
    if row.get("compartment_id") != compartment_id:
        raise HTTPException(404, "There is no such note here; it may have been put right meanwhile.")
    return row


def _kind_of(row: dict[str, Any], name: str) -> str:
    return "volume" if name in _VOLUMES else "distance" if row["meter_unit"] == "km" else "hours"


def _as_typed(row: dict[str, Any], kind: str, by: Hand) -> dict[str, str]:
    """The note as its form shows it: what comes back with the same text was not changed."""
    out = {"on": row["on_day"].isoformat(), "unit": row["unit"], "compartment": row["compartment"]}
    for name in (*noted.FIELDS[kind], "meter"):
        value = row[name]
        if value is None or isinstance(value, str):
            out[name] = value or ""
        else:
            number = value if name in _LEVELS else measures.shown(value, _kind_of(row, name), by.system)
            out[name] = f"{number:.3f}".rstrip("0").rstrip(".").replace(".", by.mark or ".")
    return out


def _page(request: Request, kind: str, row: dict[str, Any], fields: dict[str, str], errors: dict[str, str] | None = None) -> Response:
    return render(
        request, "note_right.html", 422 if errors else 200, row=row, kind=kind, kind_words=noted.KINDS[kind], names=noted.FIELDS[kind],
        labels=LABELS, fields=fields, errors=errors or {}, event_words=notes.EVENT_WORDS, volumes=_VOLUMES,
    )  # fmt: skip


@router.get("/compartments/{compartment_id}/notes/{note}/{note_id}", dependencies=[needs("log_work")])
def ask(request: Request, compartment_id: int, note: str, note_id: int) -> Response:
    """A note as it stands, to be put right or taken back."""
    row = _of(request, compartment_id, note, note_id)
    return _page(request, note, row, _as_typed(row, note, hand(request)))


@router.post("/compartments/{compartment_id}/notes/{note}/{note_id}", dependencies=[needs("log_work")])
def save(request: Request, compartment_id: int, note: str, note_id: int, posted: Form) -> Response:
    """Another day, meter, figure or place; or the note taken back. With the reason; the old row stays."""
    row, who, by = _of(request, compartment_id, note, note_id), visitor(request), hand(request)
    fields, before = {k: str(v)[:2000] for k, v in posted.items()}, _as_typed(row, note, by)
    to = compartment_id
    try:
        with recording(request) as connection:
            if fields.get("do") == "take":
                noted.take_back(connection, who.fleet_id, note, note_id, fields.get("why", ""), who.name)
            else:
                right: dict[str, Any] = {}
                for name in (*noted.FIELDS[note], "meter"):
                    if name in fields and fields[name].strip() != before[name]:
                        right[name] = _value(row, name, fields[name].strip(), by)
                if fields.get("on", before["on"]) != before["on"]:
                    right["on_day"] = maybe_day(fields["on"], "on") or row["on_day"]
                where = tuple(fields.get(k, "").strip() or before[k] for k in ("unit", "compartment"))
                if where != (before["unit"], before["compartment"]):
                    to = right["compartment_id"] = put_right.place_named(connection, *where)["compartment_id"]
                change = noted.Change(right, fields.get("why", ""))
                noted.correct(connection, who.fleet_id, note, note_id, change, who.name, today(request))
    except InputError as error:
        return _page(request, note, row, {**before, **fields}, {error.field: error.why})
    return RedirectResponse(f"/compartments/{to}#between", 303)


def _value(row: dict[str, Any], name: str, text: str, by: Hand) -> Any:
    if name in ("what", "note"):
        return text
    if name in _LEVELS:
        return measures.level(text, name, by.mark)
    found = forms.read(forms.Field(name, LABELS.get(name, "Meter"), _kind_of(row, name)), text, by)
    if name == "meter" and found is None:
        raise InputError("meter", "is missing")
    return found


@router.post("/compartments/{compartment_id}/notes/{note}/{note_id}/undo", dependencies=[needs("log_work")])
def undo(request: Request, compartment_id: int, note: str, note_id: int, form: Form) -> Response:
    """One's own slip of the last minute taken back."""
    who = visitor(request)
    with recording(request) as connection:
        noted.undo(connection, who.fleet_id, compartment_id, note, note_id, who.name, today(request))
    return RedirectResponse(f"/q/{compartment_id}?saved=Undone", 303)
