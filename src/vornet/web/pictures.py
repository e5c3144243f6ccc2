"""Pictures of a unit: taken anywhere, shown beside the last one of the same place, taken back with the reason."""

from __future__ import annotations

import re
import uuid

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.api.bodies import takes
from vornet.core.errors import InputError
from vornet.flows.work import photos
from vornet.web.pages import Form, inside, needs, recording, visitor

router = APIRouter()


@router.post("/units/{unit_id}/pictures", dependencies=[needs("log_work"), takes(photos.LARGEST_PHOTO + 100_000)])
def keep(request: Request, unit_id: int, form: Form) -> Response:
    """A picture of the unit, or of one of its compartments, items, symptoms or put-off things."""
    upload, who = form.files.get("file"), visitor(request)
    if upload is None or not upload.filename:
        raise InputError("picture", "choose one first")
    fresh = photos.photo_drawn(upload.file.read(photos.LARGEST_PHOTO + 1))
    of = photos.Of(
        unit_id, form.id("compartment_id"), item_id=form.id("item_id"), observation_id=form.id("observation_id"),
        deferred_id=form.id("deferred_id"), place=form.get("place", "").strip()[:120],
    )  # fmt: skip
    with recording(request) as connection:
        photos.keep(connection, who, of, str(uuid.uuid4()), form.get("about", "").strip(), fresh)
    return RedirectResponse(inside(form.get("back", "") or f"/units/{unit_id}#pictures"), 303)


@router.post("/pictures/{photo_id}/back", dependencies=[needs("log_work")])
def back(request: Request, photo_id: str, form: Form) -> Response:
    """A picture of something else: shown no more."""
    if not re.fullmatch(r"[0-9a-f-]{36}", photo_id):
        raise InputError("picture", "is not there")
    who = visitor(request)
    with recording(request) as connection:
        unit_id = photos.take_back(connection, who.fleet_id, photo_id, form.get("why", ""), who.name)
    return RedirectResponse(f"/units/{unit_id}#pictures", 303)
