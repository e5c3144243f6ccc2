"""The application: pages and API on one FastAPI app, with sessions, CSRF and a strict content policy."""

from __future__ import annotations

import secrets
from collections.abc import Awaitable, Callable
from datetime import date
from importlib.resources import files
from pathlib import Path

import structlog
from fastapi import FastAPI, Request, Response
from fastapi.openapi.utils import get_openapi
from fastapi.responses import JSONResponse, RedirectResponse
from fastapi.staticfiles import StaticFiles
from starlette.exceptions import HTTPException

from vornet import __version__
from vornet.api import calculators, exchange
from vornet.core.errors import InputError
from vornet.flows import calc
from vornet.flows.house import people
from vornet.flows.work import jobs
from vornet.store.database import Database
from vornet.web import (
    admin,
    board,
    bottles,
    compartment,
    drain,
    lab,
    library,
    limits,
    paper,
    plan,
    report,
    review,
    signin,
    unit,
)
from vornet.web import calculators as calculator_pages
from vornet.web import job as job_pages
from vornet.web.pages import render

# tracebacks without local values: those can hold what people typed
structlog.configure(processors=[
    structlog.processors.TimeStamper(fmt="iso", utc=True), structlog.processors.add_log_level,
    structlog.dev.ConsoleRenderer(colors=False, exception_formatter=structlog.dev.plain_traceback),
])  # fmt: skip
log = structlog.get_logger()
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
OPEN_PATHS = ("/sign-in", "/set-up", "/static/", "/api/v1/calc/", "/api/v1/openapi.json", "/healthy")
DIST = Path(str(files("vornet.web"))) / "static" / "dist"


def create_app(db: Database, today: date | None = None, demo: bool = False) -> FastAPI:
    """The application over a database. ``today`` fixes the day; ``demo`` shows sign-ins on the sign-in page."""
    app = FastAPI(title="Vornet", version=__version__, docs_url=None, redoc_url=None, openapi_url=None)
    app.state.db, app.state.fixed_today, app.state.demo = db, today, demo
    app.mount("/static", StaticFiles(directory=DIST, check_dir=False), name="static")
    for module in (
        signin, board, compartment, drain, bottles, lab, review, limits, report, plan, job_pages, paper, unit, library,
        calculator_pages, admin,
    ):  # fmt: skip
        app.include_router(module.router, include_in_schema=False)
    app.include_router(calculators.router)
    app.include_router(exchange.router)

    @app.get("/healthy", include_in_schema=False)
    def healthy() -> dict[str, str]:
        return {"vornet": __version__}

    @app.get("/api/v1/openapi.json", include_in_schema=False)
    def openapi() -> dict[str, object]:
        document = get_openapi(title="Vornet", version=__version__, routes=app.routes)
        schemas = document.setdefault("components", {}).setdefault("schemas", {})
        for calculator in calc.CALCULATORS.values():
            template = "#/components/schemas/{model}"
            schemas.update(calculator.given.model_json_schema(ref_template=template).get("$defs", {}))
        return document

    @app.middleware("http")
    async def guard(request: Request, call_next: Callable[[Request], Awaitable[Response]]) -> Response:
        path = request.url.path
        request.state.visitor = None
        token = request.cookies.get(signin.COOKIE)
        bearer = request.headers.get("Authorization", "")
        job = job_pages.DEVICE_PATH.match(path)
        if job and request.headers.get("X-Job-Key"):
            request.state.visitor = jobs.device_owner(db, request.headers["X-Job-Key"], int(job[1]))
            if request.state.visitor is None:
                return JSONResponse({"detail": "this job's key has ended: open the job again"}, 401)
        elif bearer[:7].lower() == "bearer " and path.startswith("/api/"):
            request.state.visitor = people.bearer(db, bearer[7:].strip())
        elif token and not path.startswith("/static/"):
            request.state.visitor = people.visitor(db, token)
        if request.state.visitor is None and not path.startswith(OPEN_PATHS):
            if path.startswith("/api/"):
                response: Response = calculators.problem(401, "Who is asking", "sign in, or send a token that has not ended")
                response.headers["WWW-Authenticate"] = "Bearer"
            elif request.headers.get("HX-Request"):
                response = Response(status_code=401, headers={"HX-Redirect": "/sign-in"})
            else:
                response = RedirectResponse(f"/sign-in?to={path}", status_code=303)
        else:
            response = await call_next(request)
        response.headers["Content-Security-Policy"] = POLICY
        response.headers["X-Content-Type-Options"] = "nosniff"
        response.headers["Referrer-Policy"] = "same-origin"
        if path.startswith("/static/"):
            response.headers["Cache-Control"] = "public, max-age=3600"
        elif "cache-control" not in response.headers:
            response.headers["Cache-Control"] = "no-store"
        return response

    def failed(request: Request, status: int, title: str, detail: str) -> Response:
        if request.url.path.startswith("/api/"):
            return calculators.problem(status, title, detail)
        if request.state.visitor is None:
            return JSONResponse({"detail": detail}, status)
        return render(request, "problem.html", status=status, title=title, detail=detail)

    @app.exception_handler(InputError)
    async def bad_input(request: Request, error: InputError) -> Response:
        return failed(request, 422, "That does not fit", str(error))

    @app.exception_handler(HTTPException)
    async def http_error(request: Request, error: HTTPException) -> Response:
        titles = {404: "Nothing here", 403: "Not allowed", 405: "Not allowed", 413: "Too large"}
        return failed(request, error.status_code, titles.get(error.status_code, "That did not work"), str(error.detail))

    @app.exception_handler(Exception)
    async def broken(request: Request, error: Exception) -> Response:
        number = secrets.token_hex(4)
        log.error("request failed", number=number, path=request.url.path, exc_info=error)
        return failed(request, 500, "Something broke", f"It is written down as {number}. Nothing you entered was changed.")

    return app
