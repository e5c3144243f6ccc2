"""Manuals and pictures that hang on a unit."""

from __future__ import annotations

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.api.bodies import takes
from vornet.core.errors import InputError
from vornet.flows.pages import rows as rows_of
from vornet.flows.register import attachments
from vornet.web.pages import Form, database, named, needs, recording, visitor
from vornet.web.unit import compartment, show_unit

router = APIRouter()


@router.post("/units/{unit_id}/attachments", dependencies=[needs("edit_register"), takes(attachments.LARGEST_ATTACHMENT + 100_000)])
def attach(request: Request, unit_id: int, form: Form) -> Response:
    """A manual or a picture."""
    upload, who = form.files.get("file"), visitor(request)
    try:
        if upload is None:
            raise InputError("file", "choose one first")
        kept = attachments.attachable(upload.file.read(attachments.LARGEST_ATTACHMENT + 1))
        with recording(request) as connection:
            compartment_id = compartment(connection, unit_id, form)["compartment_id"] if form.get("compartment_id") else None
            attachments.attach(connection, who.fleet_id, unit_id, compartment_id, form.get("kind", ""), str(upload.filename), kept, who.name)
    except InputError as error:
        return show_unit(request, unit_id, f"File: {error.why}")
    return RedirectResponse(f"/units/{unit_id}#attachments", 303)


@router.get("/attachments/{attachment_id}", dependencies=[needs("see")])
def attachment(request: Request, attachment_id: int) -> Response:
    """A manual or picture as it is kept."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = rows_of.attachment(connection, attachment_id)
    if found is None:
        raise HTTPException(404, "There is no such file in this fleet.")
    shown = named(found["name"], inline=found["media_type"].startswith("image/"))
    return Response(bytes(found["content"]), media_type=found["media_type"], headers=shown)


@router.post("/attachments/{attachment_id}/remove", dependencies=[needs("edit_register")])
def remove_attachment(request: Request, attachment_id: int, form: Form) -> Response:
    who = visitor(request)
    with recording(request) as connection:
        unit_id = rows_of.remove_attachment(connection, who.fleet_id, attachment_id, who.name)
    if unit_id is None:
        raise HTTPException(404, "There is no such file in this fleet.")
    return RedirectResponse(f"/units/{unit_id}#attachments", 303)
