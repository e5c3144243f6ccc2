"""The library: the register's list, many changed at once, oils, templates, files in and out."""

from __future__ import annotations

import json
from typing import Any
from urllib.parse import urlencode

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.api.bodies import takes
from vornet.core import measures
from vornet.core.errors import FormErrors, InputError
from vornet.core.measurands import KEYS, MEASURANDS
from vornet.core.measures import Hand
from vornet.flows.judge import learned
from vornet.flows.lab import inbox
from vornet.flows.pages import rows as rows_of
from vornet.flows.register import dump, lists, many, oils, templates, units
from vornet.io import apart, equipment, tables, workbook
from vornet.web import both, forms
from vornet.web.pages import (
    Form,
    Posted,
    database,
    hand,
    in_field,
    maybe_day,
    named,
    needs,
    number_like,
    opened,
    recording,
    render,
    sheet,
    today,
    visitor,
)
from vornet.words.writing import figure, marked

router = APIRouter()
LARGEST = 60_000_000
_NARROW = ("q", "depot", "kind", "family", "oil", "state")


def _wanted(params: Any) -> units.Wanted:
    page = str(params.get("page", "0"))
    return units.Wanted(
        **{k: str(params.get(k, ""))[:120] for k in _NARROW}, doubted=bool(params.get("doubted")),
        sort=str(params.get("sort", "unit")), down=bool(params.get("down")), page=min(int(page), 10_000) if number_like(page) else 0,
    )  # fmt: skip


def _query_string(wanted: units.Wanted, **changes: Any) -> str:
    """A list's address with something changed."""
    now = {k: getattr(wanted, k) for k in (*_NARROW, "sort")} | {
        "doubted": 1 if wanted.doubted else "", "down": 1 if wanted.down else "", "page": wanted.page or "",
    } | changes  # fmt: skip
    return urlencode({k: v for k, v in now.items() if v not in ("", None, False)})


@router.get("/library", dependencies=[needs("see")])
def show(request: Request) -> Response:
    """The register: every compartment, filtered and sorted."""
    wanted = _wanted(request.query_params)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = units.listing(connection, wanted)
    template = "library_rows.html" if request.headers.get("HX-Request") else "library.html"
    return render(
        request, template, **found, link=lambda **c: _query_string(wanted, **c), state_words=units.STATE_WORDS, tab="units",
        most=units.MOST_AT_ONCE, each=units.PAGE,
    )  # fmt: skip


@router.get("/library.csv", dependencies=[needs("export")])
def list_file(request: Request) -> Response:
    """The list as it is narrowed, as CSV."""
    wanted = _wanted(request.query_params)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = rows_of.listed(connection, wanted)
    keys = ("unit", "compartment", "kind", "family", "depot", "model", "duty", "state", "oil", "system_volume_l", "capacity_l",
            "meter_unit", "interval_meter", "due_day", "items")  # fmt: skip
    return sheet(tables.as_csv([{k: r[k] for k in keys} for r in rows]), "compartments.csv")


def _file(content: str | bytes, media: str, name: str) -> Response:
    return Response(content, media_type=media, headers=named(name))


# ---- many at once ----------------------------------------------------------------------------------------------
def _selection(request: Request, form: Posted) -> list[int]:
    if form.get("all"):
        with database(request).fleet(visitor(request).fleet_id) as connection:
            ids = units.ids_of(connection, _wanted(form))
    else:
        ids = [*form.ids("id"), *(int(i) for i in form.get("ids", "").split(",") if number_like(i))]
    form.pop("id", None)
    return list(dict.fromkeys(ids))


@router.post("/library/change", dependencies=[needs("edit_register")])
def change(request: Request, form: Form) -> Response:
    """Choose what to change on a selection, see what would change, then do it."""
    ids = _selection(request, form)
    who = visitor(request)
    if not ids:
        return RedirectResponse("/library?" + _query_string(_wanted(form)), 303)
    key, step = form.get("what", ""), form.get("step", "choose")
    if "counts" not in form:
        with recording(request) as connection:
            form["counts"] = units.what_they_count(connection, ids, today(request))
    lines: list[many.Line] = []
    errors: dict[str, str] = {}
    if key in many.CHANGES and step in ("look", "do"):
        try:
            value = _value(many.CHANGES[key], form, hand(request))
            with recording(request) as connection:
                lines = many.change_many(connection, who.fleet_id, ids, key, value, who.name, today(request), apply=step == "do")
        except InputError as error:
            errors = getattr(error, "errors", None) or {error.field: error.why}
    with recording(request) as connection:
        oils = rows_of.oil_names(connection)
    counts = form["counts"]
    return render(
        request, "change.html", 422 if errors else 200, ids=ids, form=opened(form), what=many.CHANGES.get(key), changes=many.CHANGES,
        lines=lines, errors=errors, done=step == "do" and not errors, oils=oils, words=equipment,
        item_fields=forms.item_fields(counts), tab="units", shown=_shown,
    )  # fmt: skip


def _shown(change: many.Change, line: many.Line, value: Any, system: str) -> str:
    """A preview's figure as the fleet reads it."""
    if value in (None, ""):
        return "–"
    if change.kind == "volume" and isinstance(value, int | float):
        shown = measures.shown(float(value), "volume", system)
        return f"{figure(shown, 1)} {measures.unit('volume', system)}"
    if isinstance(value, float):
        return marked(f"{value:,.6g}")
    return str(value)


def _value(change: many.Change, form: dict[str, str], by: Hand) -> Any:
    text = form.get("value", "").strip()
    if change.kind == "item":
        counts = form.get("counts", "h")
        given, errors = forms.read_item(form, counts, by)
        if not given.get("item"):
            errors["item"] = "give the item a name"
        if errors:
            raise FormErrors(errors)
        return {**given, "on_compartment": form.get("on_compartment") == "yes"}
    if change.kind == "volume":
        return forms.read(forms.Field("value", change.words, "volume"), text, by)
    if change.kind == "meter":
        kind = "distance" if form.get("counts") == "km" else "hours"
        value = forms.read(forms.Field("value", change.words, kind), text, by)
        if value is not None and value <= 0:
            raise InputError("value", "an interval of zero is always due: give a length")
        return value
    if change.kind == "int":
        value = forms.read(forms.Field("value", change.words, "int"), text, by)
        if value is not None and value <= 0:
            raise InputError("value", "an interval of zero is always due: give a length")
        return value
    if not text and change.key not in ("duty", "model", "depot"):
        raise InputError("value", "is missing")
    return text


# ---- what the register doubts ----------------------------------------------------------------------------------
@router.get("/library/doubts", dependencies=[needs("see")])
def doubts(request: Request) -> Response:
    """Figures that what was poured and read speaks against."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = learned.doubts(connection)
    return render(request, "doubts.html", rows=rows, field_words=learned.FIELD_WORDS, tab="doubts")


# ---- templates -------------------------------------------------------------------------------------------------
@router.get("/library/templates", dependencies=[needs("see")])
def show_templates(request: Request) -> Response:
    """Patterns for new units."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = rows_of.templates(connection)
    return render(request, "templates.html", rows=rows, tab="templates")


@router.post("/library/templates/{template_id}/remove", dependencies=[needs("edit_register")])
def remove_template(request: Request, template_id: int, form: Form) -> Response:
    who = visitor(request)
    with recording(request) as connection:
        templates.remove_template(connection, who.fleet_id, template_id, who.name)
    return RedirectResponse("/library/templates", 303)


# ---- oils ------------------------------------------------------------------------------------------------------
@router.get("/library/oils", dependencies=[needs("see")])
def show_oils(request: Request) -> Response:
    """The oil library."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = rows_of.oil_list(connection)
        concessions = rows_of.concessions(connection)
    for r in rows:
        r["new"] = dict(zip(KEYS, r["new_values"], strict=False))
    return render(request, "oils.html", rows=opened(rows), concessions=concessions, tab="oils")


def _oil(request: Request, oil_id: int | None, values: dict[str, str] | None, errors: dict[str, str]) -> Response:
    found: dict[str, Any] = {"oil": None, "batches": [], "use": [], "concessions": [], "new": {}}
    if oil_id is not None:
        with database(request).fleet(visitor(request).fleet_id) as connection:
            known = rows_of.oil(connection, oil_id)
        if known is None:
            raise HTTPException(404, "There is no such oil in this fleet.")
        found = {**known, "new": dump.oil_out(known["oil"])}
    if values is None:
        document = found["new"]
        values = {f.key: forms.shown(f, document.get(f.key), visitor(request).measures) for f in forms.OIL_FIELDS}
        values |= {k: in_field(document[k]) for k in KEYS if k in document}
    return render(
        request, "oil.html", 422 if errors else 200, **opened(found), values=values, errors=errors, fields=forms.OIL_FIELDS,
        measurands=MEASURANDS, batch_fields=forms.BATCH_FIELDS, by_key={m.key: i for i, m in enumerate(MEASURANDS)}, tab="oils",
    )  # fmt: skip


@router.get("/library/oils/new", dependencies=[needs("edit_oils")])
def new_oil(request: Request) -> Response:
    return _oil(request, None, None, {})


@router.get("/library/oils/{oil_id}", dependencies=[needs("see")])
def show_oil(request: Request, oil_id: int) -> Response:
    """One oil: what it is when new, its approvals, its batches, where it runs."""
    return _oil(request, oil_id, None, {})


def _save_oil(request: Request, oil_id: int | None, form: Posted) -> Response:
    who, errors = visitor(request), {}  # type: ignore[var-annotated]
    try:
        with recording(request) as connection:
            if oil_id is not None:
                both.merge(request, connection, form, lambda: _oil(request, oil_id, None, {}))
            given = forms.read_fields(forms.OIL_FIELDS, form, hand(request), errors)
            given |= forms.read_fields(tuple(forms.Field(k, k, "number") for k in KEYS), form, hand(request), errors)
            if errors:
                raise FormErrors(errors)
            saved = oils.save_oil(connection, who.fleet_id, oil_id, given, who.name)
    except InputError as error:
        return _oil(request, oil_id, form, getattr(error, "errors", None) or {error.field: error.why})
    return RedirectResponse(f"/library/oils/{saved}", 303)


@router.post("/library/oils/new", dependencies=[needs("edit_oils")])
def add_oil(request: Request, form: Form) -> Response:
    return _save_oil(request, None, form)


@router.post("/library/oils/{oil_id}", dependencies=[needs("edit_oils")])
def save_oil(request: Request, oil_id: int, form: Form) -> Response:
    return _save_oil(request, oil_id, form)


@router.post("/library/oils/{oil_id}/batches", dependencies=[needs("edit_oils")])
def add_batch(request: Request, oil_id: int, form: Form) -> Response:
    """A batch that came in."""
    who, errors = visitor(request), {}  # type: ignore[var-annotated]
    given = forms.read_fields(forms.BATCH_FIELDS, form, hand(request), errors)
    try:
        if errors:
            raise FormErrors(errors)
        maybe_day(form.get("received_on"), "received_on")
        with recording(request) as connection:
            oils.save_batch(connection, who.fleet_id, oil_id, given, who.name)
    except InputError as error:
        return _oil(request, oil_id, None, {"batch": f"{error.field}: {error.why}"})
    return RedirectResponse(f"/library/oils/{oil_id}#batches", 303)


# ---- files -----------------------------------------------------------------------------------------------------
@router.get("/library/files", dependencies=[needs("export")])
def files(request: Request, done: int = 0) -> Response:
    """The register in and out as JSON, XLSX and CSV."""
    return _files(request, done)


def _files(request: Request, done: int = 0, error: str = "") -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = rows_of.file(connection, done) if done else None
        mine = lists.files(connection)
    return render(request, "files.html", 422 if error else 200, file=found, error=error, lists=mine, tables=workbook.TABLES, tab="files")


@router.get("/library/register.{layout}", dependencies=[needs("export")])
def export(request: Request, layout: str, table: str = "compartments", template: int = 0) -> Response:
    """The register as one file; ``template``: an empty workbook that explains its columns."""
    who = visitor(request)
    document = {"fleet": who.fleet} if template else dump.dump(database(request), who.fleet, today(request))
    if layout == "json":
        return _file(json.dumps(document, ensure_ascii=False, indent=1), "application/json", "register.json")
    if layout == "xlsx":
        media = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
        return _file(workbook.as_xlsx(document), media, "register-template.xlsx" if template else "register.xlsx")
    if layout == "zip":
        return _file(workbook.as_zip(document), "application/zip", "register.zip")
    if layout == "csv":
        return sheet(workbook.as_csv(document, table), f"{table}.csv")
    raise HTTPException(404, "json, xlsx, zip or csv")


@router.post("/library/files", dependencies=[needs("edit_register"), takes(LARGEST + 100_000)])
def take(request: Request, form: Form) -> Response:
    """A register file in: good rows go in, bad ones are listed. A list in columns of its own is explained first."""
    upload, who = form.files.get("file"), visitor(request)
    if upload is None:
        return _files(request, error="Choose a file first.")
    content, name = upload.file.read(LARGEST + 1), str(upload.filename)[:200]
    if len(content) > LARGEST:
        return _files(request, error=f"{name} is larger than {LARGEST // 1_000_000} MB: import it with the vornet command.")

    try:
        if workbook.looks_flat(name, content) and not workbook.is_ours(name, content):
            with recording(request) as connection:
                made = lists.keep(connection, who.fleet_id, name, content, who.name)
            return RedirectResponse(f"/library/lists/{made}", 303)
        where = database(request).location
        file_id = apart.long(inbox.take_register, where, who.fleet, content, name=name, by=who.name, today=today(request))
    except InputError as error:
        return _files(request, error=f"{name}: {error}. Nothing was changed.")
    return RedirectResponse(f"/library/files?done={file_id}", 303)
