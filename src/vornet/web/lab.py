"""Results in: drop a file, see what went in, what was held and why; settle what is held."""

from __future__ import annotations

import json
from urllib.parse import quote

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import RedirectResponse, Response
from starlette.datastructures import UploadFile as FormFile
from starlette.exceptions import HTTPException

from vornet.core.errors import InputError
from vornet.flows import evaluate, inbox, register, results
from vornet.web.pages import checked_form, database, needs, render, today, visitor

router = APIRouter()
LARGEST = 60_000_000


@router.get("/lab", dependencies=[needs("see_lab")])
def show(request: Request, file: int | None = None, error: str = "") -> Response:
    """Files that came in, and what waits."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = inbox.inbox(connection, file)
    return render(request, "lab.html", 422 if error else 200, error=error[:500], chosen=file, **found)


@router.post("/lab", dependencies=[needs("take_files")])
async def take(request: Request) -> Response:
    """A file dropped: a register (JSON with units) or results."""
    form = await checked_form(request)
    upload = form.get("file")
    if not isinstance(upload, FormFile) or not upload.filename:
        return _refused("choose a file first")
    content = await upload.read(LARGEST + 1)
    if len(content) > LARGEST:
        return _refused(f"{upload.filename} is larger than {LARGEST // 1_000_000} MB: import it with the vornet command")
    try:
        file_id = await run_in_threadpool(_take, request, upload.filename[:200], content, str(form.get("lab", ""))[:80])
    except InputError as error:
        return _refused(f"{upload.filename}: {error}. Nothing was changed.")
    return RedirectResponse(f"/lab?file={file_id}" if file_id else "/lab?file=0", 303)


def _refused(text: str) -> Response:
    return RedirectResponse(f"/lab?error={quote(text[:400])}", 303)


def _is_register(content: bytes) -> bool:
    if content.lstrip()[:1] != b"{":
        return False
    try:
        document = json.loads(content)
    except ValueError:
        return False
    return isinstance(document, dict) and bool({"units", "oils", "drains", "readings"} & set(document))


def _take(request: Request, name: str, content: bytes, lab: str) -> int | None:
    who, db, day = visitor(request), database(request), today(request)
    if _is_register(content):
        report = register.load(db, content, fleet=who.fleet, by=who.name, today=day)
        evaluate.evaluate(db, who.fleet, day)
        with db.fleet(who.fleet_id) as connection:
            return inbox.note_register(connection, who.fleet_id, name, content, report, who.name)
    taken = results.load(db, content, fleet=who.fleet, name=name, by=who.name, lab=lab)
    if taken.new_oil:
        evaluate.evaluate(db, who.fleet, day)
    elif taken.compartments:
        evaluate.evaluate(db, who.fleet, day, sorted(taken.compartments))
    return taken.import_file_id


@router.post("/lab/retry", dependencies=[needs("take_files")])
async def retry(request: Request) -> Response:
    """Read the files with waiting rows again."""
    await checked_form(request)
    who, db = visitor(request), database(request)

    def again() -> None:
        reports = results.retry(db, who.fleet, who.name)
        touched = sorted({c for r in reports for c in r.compartments})
        if touched:
            evaluate.evaluate(db, who.fleet, today(request), touched)

    await run_in_threadpool(again)
    return RedirectResponse("/lab", 303)


@router.post("/lab/rows/{held_row_id}", dependencies=[needs("take_files")])
async def dismiss(request: Request, held_row_id: int) -> Response:
    form = await checked_form(request)
    who = visitor(request)
    with database(request).fleet(who.fleet_id) as connection:
        inbox.dismiss(connection, who.fleet_id, held_row_id, str(form.get("why", "")), who.name)
    return RedirectResponse("/lab", 303)


@router.post("/lab/holds/{hold_id}", dependencies=[needs("settle_holds")])
async def settle(request: Request, hold_id: int) -> Response:
    """Release or reject a held sample, with a reason."""
    form = await checked_form(request)
    who = visitor(request)
    with database(request).fleet(who.fleet_id) as connection:
        inbox.settle(
            connection, who.fleet_id, hold_id, str(form.get("settlement", "")), str(form.get("why", "")), who.name,
            today(request),
        )  # fmt: skip
    return RedirectResponse("/lab", 303)


@router.get("/lab/files/{import_file_id}", dependencies=[needs("see_lab")])
def original(request: Request, import_file_id: int) -> Response:
    """The file as it came."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = inbox.original(connection, import_file_id)
    if found is None:
        raise HTTPException(404, "There is no such file.")
    name = quote(found["name"])
    return Response(
        found["content"], media_type="application/octet-stream",
        headers={"Content-Disposition": f"attachment; filename*=UTF-8''{name}"},
    )  # fmt: skip
