"""A new fleet's first steps, and the sample files beside them."""

from __future__ import annotations

from importlib.resources import files

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.flows.pages import first_week
from vornet.web.pages import Form, database, named, needs, recording, render, visitor

router = APIRouter()
#: files to try things with
SAMPLES = ("fleet-list.csv", "lab-results.csv")


@router.get("/begin", dependencies=[needs("see")])
def show(request: Request) -> Response:
    """What comes first in a new fleet."""
    who = visitor(request)
    with database(request).fleet(who.fleet_id) as connection:
        found = first_week.guide(connection, who)
    return render(request, "begin.html", **found)


@router.post("/begin", dependencies=[needs("edit_settings")])
def leave(request: Request, form: Form) -> Response:
    """Leave a step aside or take it up again; or leave the guide."""
    key = form.get("step", "")
    with recording(request) as connection:
        first_week.leave(connection, key)
    return RedirectResponse("/" if key == "all" else "/begin", 303)


@router.get("/samples/{name}", dependencies=[needs("see")])
def sample(request: Request, name: str) -> Response:
    """A made-up file of a kind, to try taking one in."""
    if name not in SAMPLES:
        raise HTTPException(404, f"One of {', '.join(SAMPLES)}.")
    content = (files("vornet.web") / "samples" / name).read_bytes()
    return Response(content, media_type="text/csv; charset=utf-8", headers=named(name))
