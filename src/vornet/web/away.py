"""Where no signal is: the worker that keeps the day's pages on a phone, and which pages those are."""

from __future__ import annotations

import json
from functools import lru_cache

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from vornet.flows.work import my_day
from vornet.web.pages import Form, asset_version, database, needs, recording, today, visitor
from vornet.web.server import DIST

router = APIRouter()


@lru_cache(maxsize=1)
def worker_text() -> str:
    """The worker with the version of what this installation ships and the addresses of it."""
    version = asset_version()
    files = sorted(p.relative_to(DIST).as_posix() for p in DIST.rglob("*") if p.is_file() and not p.name.startswith((".", "away_worker")))
    loaded = [f"/static/{name}" if name.startswith("fonts/") else f"/static/{name}?v={version}" for name in files]
    text = (DIST / "away_worker.js").read_text()
    return text.replace("{{version}}", version).replace("{{assets}}", json.dumps(loaded))


@router.get("/sw.js")
def worker() -> Response:
    """The service worker. It is nobody's: there is nothing in it but addresses of what every page loads."""
    return Response(worker_text(), media_type="text/javascript", headers={"Cache-Control": "no-cache", "Service-Worker-Allowed": "/"})


@router.get("/jobs/away.json", dependencies=[needs("log_work")])
def away(request: Request) -> Response:
    """Addresses of the pages that a phone keeps for today."""
    who = visitor(request)
    with database(request).fleet(who.fleet_id) as connection:
        return JSONResponse({"pages": my_day.kept(connection, who, today(request))})


@router.post("/jobs/depot", dependencies=[needs("log_work")])
def depot(request: Request, form: Form) -> Response:
    """Where one works: whose jobs stand first."""
    with recording(request) as connection:
        my_day.work_at(connection, visitor(request), form.id("depot"))
    return RedirectResponse("/jobs", 303)
