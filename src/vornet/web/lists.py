"""A fleet's own list: its headings explained once with a preview, taken in, and the rows that wait mended in the page."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.api.bodies import takes
from vornet.core.errors import InputError
from vornet.flows.register import lists
from vornet.io import fleet_list, list_header
from vornet.io.fleet_list import Assumed
from vornet.io.list_cells import text_of
from vornet.io.list_header import FIELDS, METER_UNITS, TIME_UNITS, UNITS_OF, VOLUME_UNITS, Column
from vornet.web.forms import KINDS
from vornet.web.pages import Form, Posted, database, needs, opened, recording, render, today, visitor

router = APIRouter()
#: no list of headings is longer; what the form may carry
MOST_COLUMNS = 400
FILE_S = 300


def _choices() -> list[tuple[str, list[tuple[str, str]]]]:
    """What a heading may mean, by what it is said of."""
    groups: dict[str, list[tuple[str, str]]] = {"the unit": [], "its compartment": []}
    for f in FIELDS.values():
        groups["its compartment" if f.of_compartment else "the unit"].append((f.key, f.words))
    return list(groups.items())


def _page(
    request: Request, list_file_id: int, error: str = "", status: int = 200, typed: dict[int, dict[str, str]] | None = None
) -> Response:
    who, day = visitor(request), today(request)
    with database(request).fleet(who.fleet_id) as connection:
        file = lists.file(connection, list_file_id)
        if file is None:
            raise HTTPException(404, "There is no such list.")
        context: dict[str, Any] = {"file": file, "tried": None, "columns": [], "waiting": [], "counts": opened(file["counts"])}
        if file["state"] == "mapping":
            try:
                found = lists.tried(connection, who.fleet_id, file, who.name, day)
                context |= {"tried": found, "columns": _columns(found.sheet), "problems": _problems(found), "counts": opened(found.counts)}
            except InputError as trouble:
                error, status = error or str(trouble), 422
        else:
            context["waiting"] = lists.waiting(connection, list_file_id)
            for row in context["waiting"]:
                kept = (typed or {}).get(row["list_row_id"], {})
                row["fields"] = [(name, kept.get(name, shown), why) for name, shown, why in row["fields"]]
    return render(
        request, "list.html", status, **context, error=error, assumed=Assumed.of(file["assumed"]), questions=fleet_list.QUESTIONS,
        choices=_choices(), units=(*VOLUME_UNITS, *METER_UNITS, *TIME_UNITS), compartments=_USUAL, tab="files",
        kinds=[words for _, words in KINDS],
    )  # fmt: skip


#: compartments that a list about one of them is about
_USUAL = ("Engine", "Gearbox", "Hydraulics", "Final drive", "Axle", "Differential", "Compressor")


def _columns(sheet: fleet_list.Sheet) -> list[dict[str, Any]]:
    """Each heading with what it is taken for and some of what stands under it."""
    out = []
    for i, name in enumerate(sheet.names):
        examples = [text_of(row.cells[name])[:40] for row in sheet.rows if name in row.cells]
        column = sheet.columns.get(i)
        if not examples and column is None:
            continue
        out.append({"name": name, "letter": list_header.letter(i), "column": column, "examples": list(dict.fromkeys(examples))[:3]})
    return out


def _problems(found: lists.Tried) -> list[tuple[int, str, str, str]]:
    """What waits: row, heading with its letter, the cell, why."""
    rows = {row.number: row.cells for row in found.sheet.rows}
    return [
        (number, fleet_list.column_name(found.sheet, p.heading), text_of(rows.get(number, {}).get(p.heading, ""))[:40], p.why)
        for number, several in sorted(found.problems.items()) for p in several
    ]  # fmt: skip


@router.post("/library/lists", dependencies=[needs("edit_register"), takes(lists.LARGEST + 100_000)])
def put(request: Request, form: Form) -> Response:
    """Keep a list; its headings are explained on the page that follows."""
    upload, who = form.files.get("file"), visitor(request)
    if upload is None:
        raise InputError("file", "choose a file first")
    content = upload.file.read(lists.LARGEST + 1)
    with recording(request) as connection:
        made = lists.keep(connection, who.fleet_id, str(upload.filename), content, who.name)
    return RedirectResponse(f"/library/lists/{made}", 303)


@router.get("/library/lists/{list_file_id}", dependencies=[needs("edit_register")])
def show(request: Request, list_file_id: int) -> Response:
    """What a list would do, or what waits of it."""
    return _page(request, list_file_id)


def _said(form: Posted) -> dict[str, Column | None]:
    """What a form says of headings, where it says something else than the heading does by itself."""
    out: dict[str, Column | None] = {}
    for i in range(MOST_COLUMNS):
        name = form.get(f"name.{i}")
        if name is None:
            continue
        key, unit, compartment = (form.get(f"{what}.{i}", "").strip() for what in ("key", "unit", "compartment"))
        was = (form.get(f"was.{i}", ""), form.get(f"was_unit.{i}", ""), form.get(f"was_compartment.{i}", ""))
        if key not in FIELDS or unit not in UNITS_OF.get(FIELDS[key].kind, ()):
            unit = ""
        if (key, unit, compartment) == was or key == "?":
            continue
        named = compartment[:120] if key in FIELDS and FIELDS[key].of_compartment else ""
        out[name[:160]] = Column("" if key == "-" else key, unit, named)
    return out


def _assumed(form: Posted) -> Assumed:
    order = {"day": True, "month": False}.get(form.get("day_first", ""))
    return Assumed.of({
        "counts": form.get("counts"), "compartment": form.get("about"), "decimal": {"comma": ",", "point": "."}.get(form.get("decimal", "")),
        "day_first": order, "carry": form.get("carry", "yes") == "yes", "apart": form.get("apart") == "yes",
    })  # fmt: skip


@router.post("/library/lists/{list_file_id}", dependencies=[needs("edit_register")])
def act(request: Request, list_file_id: int, form: Form) -> Response:
    """Read it again with what was said, take it in, or put it away."""
    who = visitor(request)
    do = form.get("do", "")
    try:
        with recording(request, FILE_S) as connection:
            if do == "forget":
                lists.forget(connection, list_file_id)
                return RedirectResponse("/library/files", 303)
            if "name.0" in form:
                lists.explain(connection, who.fleet_id, list_file_id, _said(form), _assumed(form))
            if do == "take":
                lists.take(connection, who.fleet_id, list_file_id, who.name, today(request))
    except InputError as error:
        return _page(request, list_file_id, f"{error.field}: {error.why}", 422)
    return RedirectResponse(f"/library/lists/{list_file_id}", 303)


@router.post("/library/lists/{list_file_id}/rows/{list_row_id}", dependencies=[needs("edit_register")])
def mend(request: Request, list_file_id: int, list_row_id: int, form: Form) -> Response:
    """Read a row that waits once more with what was typed, or leave it out for a reason."""
    who = visitor(request)
    typed = {form[f"name.{i}"][:160]: form.get(f"cell.{i}", "")[:4000] for i in range(MOST_COLUMNS) if f"name.{i}" in form}
    try:
        with recording(request) as connection:
            if form.get("do") == "leave":
                lists.leave_out(connection, who.fleet_id, list_row_id, form.get("why", ""), who.name)
            else:
                lists.mend(connection, who.fleet_id, list_row_id, typed, who.name, today(request))
    except InputError as error:
        return _page(request, list_file_id, f"{error.field}: {error.why}", 422, {list_row_id: typed})
    return RedirectResponse(f"/library/lists/{list_file_id}#waits", 303)
