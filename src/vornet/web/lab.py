"""The Lab inbox: what came in, what is held and why, and the keys that clear it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any
from urllib.parse import quote

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response, StreamingResponse
from starlette.exceptions import HTTPException

from vornet.api.bodies import takes
from vornet.core.errors import InputError
from vornet.core.measurands import INDEX, MEASURANDS
from vornet.flows.house.access import RIGHTS, who_may
from vornet.flows.lab import files, held_rows, held_samples, inbox
from vornet.io import apart
from vornet.io.lab_header import Meaning
from vornet.store.database import Connection
from vornet.web.pages import Form, database, hand, named, needs, number_like, recording, render, sheet, today, visitor

router = APIRouter()
LARGEST = 200_000_000
KINDS = {"holds": "Samples held", "rows": "Rows that wait", "files": "Files"}


@router.get("/lab", dependencies=[needs("see_lab")])
def show(request: Request, show: str = "", at: int = 0, error: str = "", said: str = "") -> Response:
    """What waits for a person: samples that may not be true, rows without a place; and the files they came in."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        context = _inbox(connection, show, at)
    template = "lab_inbox.html" if request.headers.get("HX-Request") else "lab.html"
    return render(request, template, 422 if error else 200, error=error[:500], said=said[:300], **context)


def _inbox(connection: Connection, show: str, at: int) -> dict[str, Any]:
    found = inbox.inbox(connection)
    shown = show if show in KINDS else "holds" if found["holds"] else "rows" if found["rows"] else "files"
    items = found[shown] if shown != "files" else []
    place = min(max(at, 0), max(len(items) - 1, 0))
    opened: dict[str, Any] = {}
    if shown == "holds" and items:
        opened = {"hold": items[place], "beside": held_samples.beside(connection, items[place])}
    elif shown == "rows" and items:
        opened = {"row": items[place]}
    return {**found, "shown": shown, "at": place, "kinds": KINDS, "opened": opened}


def _answer(request: Request, act: Callable[[Connection], str | None], show: str, at: int) -> Response:
    """Do something to the thing that is open, and show the list with the next one open; what went wrong is said there."""
    error, said = "", ""
    try:
        with recording(request) as connection:
            said = act(connection) or ""
    except InputError as problem:
        error = str(problem)
    if not request.headers.get("HX-Request"):
        if error:
            raise InputError("", error)
        return RedirectResponse(f"/lab?show={show}&at={at}", 303)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        context = _inbox(connection, show, at)
    return render(request, "lab_inbox.html", 422 if error else 200, error=error, said=said, **context)


def _place(form: dict[str, Any]) -> int:
    text = form.get("at", "0")
    return int(text) if number_like(text) and len(text) < 6 else 0


@router.post("/lab", dependencies=[needs("take_files"), takes(LARGEST + 100_000)])
def take(request: Request, form: Form) -> Response:
    """A file dropped: results go on the queue; a register (JSON with units) goes in at once."""
    upload, who, db = form.files.get("file"), visitor(request), database(request)
    if upload is None:
        return _refused("choose a file first")
    name, lab = str(upload.filename)[:200], form.get("lab", "")[:80]
    try:
        content = inbox.register_in(upload.file)
        if content is not None and not who.may("edit_register"):
            raise InputError("file", f"is a register document: to {RIGHTS['edit_register'].words} is for {who_may('edit_register')}")
        if content is not None:
            file_id = apart.long(inbox.take_register, db.location, who.fleet, content, name=name, by=who.name, today=today(request))
        else:
            with db.fleet(who.fleet_id) as connection:
                file_id = inbox.take(connection, who.fleet_id, upload.file, name=name, lab=lab, by=who.name).import_file_id
    except InputError as error:
        return _refused(f"{name}: {error}. Nothing was changed.")
    return RedirectResponse(f"/lab/files/{file_id}", 303)


def _refused(text: str) -> Response:
    return RedirectResponse(f"/lab?show=files&error={quote(text[:400])}", 303)


@router.post("/lab/retry", dependencies=[needs("take_files")])
def retry(request: Request, form: Form) -> Response:
    """Read the files with waiting rows again."""
    who = visitor(request)
    with recording(request) as connection:
        count = inbox.retry(connection, who.fleet_id)
    return RedirectResponse(f"/lab?show=rows&said={quote(f'{count} files are read again')}", 303)


@router.get("/lab/waiting.csv", dependencies=[needs("see_lab")])
def waiting(request: Request) -> Response:
    """What waits, as CSV."""
    text = inbox.waiting_csv(database(request), visitor(request).fleet_id)
    return sheet(text, "lab-waiting.csv")


# ---- held rows -----------------------------------------------------------------------------------------


@router.post("/lab/rows/{held_row_id}", dependencies=[needs("take_files")])
def row(request: Request, held_row_id: int, form: Form) -> Response:
    """Put a row away, take it in with corrected cells, or let it replace the sample that has its number."""
    who, do, why = visitor(request), form.get("do", "away"), form.get("why", "")
    cells = {k[5:]: str(v) for k, v in form.items() if k.startswith("cell.")}

    def act(connection: Connection) -> str:
        return held_rows.act(connection, who.fleet_id, held_row_id, do, cells, why, who.name, hand(request).mark)

    return _answer(request, act, "rows", _place(form))


# ---- held samples --------------------------------------------------------------------------------------


@router.post("/lab/holds/{hold_id}", dependencies=[needs("settle_holds")])
def settle(request: Request, hold_id: int, form: Form) -> Response:
    """Release, reject, correct, swap back, or record the oil that nobody recorded; with a reason."""
    who, day = visitor(request), today(request)
    do, why = str(form.get("do", form.get("settlement", ""))), form.get("why", "")
    typed = {k[6:]: str(v) for k, v in form.items() if k.startswith("value.")}

    def act(connection: Connection) -> str:
        return held_samples.act(connection, who.fleet_id, hold_id, do, typed, why, who.name, day, hand(request).mark)

    return _answer(request, act, "holds", _place(form))


# ---- files ---------------------------------------------------------------------------------------------


def _file(request: Request, import_file_id: int, error: str = "", typed: dict[str, Meaning] | None = None) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = inbox.file_page(connection, import_file_id)
    if found is None:
        raise HTTPException(404, "There is no such file.")
    part = request.headers.get("HX-Request") and not error
    return render(
        request, "lab_file_part.html" if part else "lab_file.html", 422 if error else 200, **found, error=error, typed=typed or {},
        choices=inbox.choices(), measurands=MEASURANDS,
    )  # fmt: skip


@router.get("/lab/files/{import_file_id}", dependencies=[needs("see_lab")])
def file(request: Request, import_file_id: int) -> Response:
    """One file: how it was read, what became of its rows, headings to explain."""
    return _file(request, import_file_id)


@router.post("/lab/files/{import_file_id}/headings", dependencies=[needs("take_files")])
def explain(request: Request, import_file_id: int, form: Form) -> Response:
    """Say once what a lab's headings mean; the file is read with them."""
    who = visitor(request)
    said: dict[str, Meaning] = {}
    n = 0
    while (name := form.get(f"name.{n}")) is not None:
        key = str(form.get(f"key.{n}", "?"))
        if key != "?":
            unit = str(form.get(f"unit.{n}", "")).strip() if key in INDEX else ""
            said[str(name)] = Meaning("" if key == "-" else key, unit)
        n += 1
    try:
        with recording(request) as connection:
            inbox.explain(connection, who.fleet_id, import_file_id, form.get("lab", "")[:80], said, who.name)
    except InputError as error:
        return _file(request, import_file_id, str(error), said)
    return RedirectResponse(f"/lab/files/{import_file_id}", 303)


@router.get("/lab/files/{import_file_id}/rows/{row_no}", dependencies=[needs("see_lab")])
def row_as_it_came(request: Request, import_file_id: int, row_no: int, key: str = "") -> Response:
    """A row of the lab's file as it came."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = inbox.row_as_it_came(connection, import_file_id, row_no)
    if found is None:
        raise HTTPException(404, "There is no such row.")
    return render(request, "lab_row.html", **found, key=key)


@router.get("/lab/files/{import_file_id}/original", dependencies=[needs("see_lab")])
def original(request: Request, import_file_id: int) -> Response:
    """The file as it came, byte for byte."""
    db, fleet_id = database(request), visitor(request).fleet_id
    with db.fleet(fleet_id) as connection:
        found = inbox.original(connection, import_file_id)
    if found is None:
        raise HTTPException(404, "There is no such file.")

    def pieces() -> Iterator[bytes]:
        n = 0
        while True:  # a transaction a piece: whoever reads slowly holds no connection
            with db.fleet(fleet_id) as connection:
                piece = files.piece(connection, import_file_id, n)
            if not piece:
                return
            yield piece
            n += 1

    return StreamingResponse(
        pieces(), media_type="application/octet-stream",
        headers=named(found[0]["name"]),
    )  # fmt: skip
