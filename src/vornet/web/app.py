"""The application: pages and API on one FastAPI app, with sessions, CSRF and a strict content policy."""

from __future__ import annotations

import logging
import secrets
from datetime import date
from typing import Any

from fastapi import FastAPI, Request, Response
from fastapi.exceptions import RequestValidationError
from fastapi.openapi.utils import get_openapi
from fastapi.responses import JSONResponse
from fastapi.staticfiles import StaticFiles
from psycopg import DataError
from psycopg.errors import CheckViolation, DeadlockDetected, SerializationFailure
from psycopg_pool import PoolTimeout
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException

from vornet import __version__
from vornet.api import at_unit, calculators, decide, exchange, hooks, told
from vornet.api import lab as lab_api
from vornet.api import limits as limits_api
from vornet.api import weeks as weeks_api
from vornet.api import work as work_api
from vornet.core.errors import InputError
from vornet.flows import calc
from vornet.flows.house.passwords import Busy
from vornet.io import apart
from vornet.io.apart import TOO_MUCH, Ended
from vornet.store.database import Database
from vornet.web import (
    account,
    admin,
    again,
    attachments,
    away,
    begin,
    board,
    bottles,
    compartment,
    compartment_form,
    drain,
    in_oil,
    interval,
    items,
    lab,
    library,
    limits,
    lists,
    noted,
    observed,
    paper,
    pictures,
    plan,
    policy,
    prices,
    put_right,
    report,
    review,
    signin,
    trials,
    unit,
    unit_new,
    waste,
    webhooks,
    weeks,
    weeks_kit,
    weeks_told,
    welcome,
)
from vornet.web import calculators as calculator_pages
from vornet.web import job as job_pages
from vornet.web.guard import Guard
from vornet.web.pages import render
from vornet.web.server import APART, DIST

log = logging.getLogger("vornet")


#: how an operation of the API says no (RFC 9457)
PROBLEM = {
    "title": "Problem", "type": "object", "required": ["type", "title", "status", "detail"],
    "properties": {
        "type": {"type": "string"}, "title": {"type": "string"}, "status": {"type": "integer"},
        "detail": {"type": "string", "description": "what is wrong, in one sentence"},
    },
}  # fmt: skip
REFUSED = {
    "401": "Nobody is signed in, or the token has ended", "403": "Not for this role or this token", "404": "Nothing there",
    "413": "Too large", "422": "It does not fit; the detail says why", "503": "Busy: try again later",
}  # fmt: skip


def _pairs_as_items(schema: Any) -> None:
    """Pairs and the like of one kind, said in the way that every reader of descriptions understands."""
    if isinstance(schema, list):
        for part in schema:
            _pairs_as_items(part)
    elif isinstance(schema, dict):
        kinds = schema.get("prefixItems")
        if kinds and all(kind == kinds[0] for kind in kinds):
            schema["items"] = schema.pop("prefixItems")[0]
        for part in schema.values():
            _pairs_as_items(part)


def create_app(db: Database, today: date | None = None, demo: bool = False) -> FastAPI:
    """The application over a database. ``today`` fixes the day; ``demo`` shows sign-ins on the sign-in page."""
    apart.prepare(*APART)
    app = FastAPI(title="Vornet", version=__version__, docs_url=None, redoc_url=None, openapi_url=None)
    app.state.db, app.state.fixed_today, app.state.demo = db, today, demo
    app.mount("/static", StaticFiles(directory=DIST, check_dir=False), name="static")
    app.mount("/docs", StaticFiles(directory=DIST / "docs", html=True, check_dir=False), name="docs")
    for module in (
        signin, account, welcome, begin, board, compartment, interval, trials, prices, policy, in_oil, drain, bottles, lab, review, limits,
        report, plan, weeks_kit, weeks_told, weeks,
        away, job_pages, paper, put_right, noted, pictures, unit_new, unit, compartment_form, items, attachments, waste, library, lists,
        calculator_pages, admin, webhooks, observed,
    ):  # fmt: skip
        app.include_router(module.router, include_in_schema=False)
    for api in (calculators, exchange, hooks, decide, weeks_api, work_api, lab_api, limits_api, at_unit, told):
        app.include_router(api.router)

    @app.get("/healthy", include_in_schema=False)
    async def healthy() -> dict[str, str]:
        return {"vornet": __version__}  # on the loop itself: it answers whatever the threads are doing

    @app.get("/api/v1/openapi.json", include_in_schema=False)
    def openapi() -> dict[str, object]:
        document = get_openapi(title="Vornet", version=__version__, routes=app.routes)
        schemas = document.setdefault("components", {}).setdefault("schemas", {})
        schemas["Problem"] = PROBLEM
        schemas.pop("HTTPValidationError", None), schemas.pop("ValidationError", None)
        refused = {"content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}}
        for operations in document["paths"].values():
            for operation in operations.values():
                operation["responses"] |= {code: {"description": said, **refused} for code, said in REFUSED.items()}
        for calculator in calc.calculators():
            template = "#/components/schemas/{model}"
            schemas.update(calculator.given.model_json_schema(ref_template=template).get("$defs", {}))
        _pairs_as_items(document)
        return document

    def failed(request: Request, status: int, title: str, detail: str) -> Response:
        if request.url.path.startswith("/api/"):
            return calculators.problem(status, title, detail)
        if request.state.visitor is None or job_pages.DEVICE_PATH.match(request.url.path):
            return JSONResponse({"detail": detail}, status)
        return render(request, "problem.html", status=status, title=title, detail=detail)

    @app.exception_handler(InputError)
    async def bad_input(request: Request, error: InputError) -> Response:
        page = await again.shown_again(app, request, error)
        return await run_in_threadpool(failed, request, 422, "That does not fit", str(error)) if page is None else page

    @app.exception_handler(RequestValidationError)
    def not_as_described(request: Request, error: RequestValidationError) -> Response:
        """What is wrong and where; what was sent is not sent back (it need not be text at all)."""
        wrong = [{"where": ".".join(ascii(part)[:60].strip("'") for part in e["loc"]), "why": e["msg"]} for e in error.errors()]
        said = "; ".join(f"{w['where']}: {w['why']}" for w in wrong[:5])
        if request.url.path.startswith("/api/"):
            return calculators.problem(422, "That does not fit", said, errors=wrong)
        return failed(request, 422, "That does not fit", said)

    @app.exception_handler(DataError)
    @app.exception_handler(CheckViolation)
    def no_such_value(request: Request, error: Exception) -> Response:
        """A letter or a size no column takes: nothing of it was kept."""
        return failed(request, 422, "That does not fit", "A letter or a number here is one the records cannot keep. Nothing was changed.")

    @app.exception_handler(Ended)
    @app.exception_handler(PoolTimeout)
    def busy(request: Request, error: Exception) -> Response:
        why = error.why if isinstance(error, Ended) else TOO_MUCH
        response = failed(request, 503, "Not just now", why[:1].upper() + why[1:] + ".")
        response.headers["Retry-After"] = "30"
        return response

    @app.exception_handler(Busy)
    def many_at_once(request: Request, error: Busy) -> Response:
        response = failed(request, 503, "Not just now", str(error)[:1].upper() + str(error)[1:] + ".")
        response.headers["Retry-After"] = "5"
        return response

    @app.exception_handler(HTTPException)
    def http_error(request: Request, error: HTTPException) -> Response:
        titles = {404: "Nothing here", 403: "Not allowed", 405: "Not allowed", 413: "Too large"}
        return failed(request, error.status_code, titles.get(error.status_code, "That did not work"), str(error.detail))

    def broken(request: Request, error: Exception) -> Response:
        if isinstance(error, PoolTimeout):  # before any route was reached
            return busy(request, error)
        if isinstance(error, (DeadlockDetected, SerializationFailure)):
            return failed(request, 503, "Not just now", "Somebody else wrote the same at this moment. Nothing was changed: send it again.")
        number = secrets.token_hex(4)
        log.error("request failed: %s %s", number, request.url.path, exc_info=error)
        return failed(request, 500, "Something broke", f"It is written down as {number}. Nothing you entered was changed.")

    app.add_middleware(Guard, db=db, broken=broken)
    return app
