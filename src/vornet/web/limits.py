"""Limits: the set in force beside what history says, what would change before it is saved; and whether the scheme works."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.core.errors import InputError
from vornet.core.limits import DUTIES
from vornet.core.measurands import BY_KEY, MEASURANDS
from vornet.flows import backtest as backtests
from vornet.flows import limits
from vornet.store.database import Connection
from vornet.web.pages import checked_form, database, needs, opened, render, today, visitor

router = APIRouter()


def _context(request: Request, connection: Connection, duty: str, family: str) -> dict[str, Any]:
    day = today(request)
    duty = duty if duty in DUTIES else DUTIES[0]
    now = limits.in_force(connection, day)
    rows = sorted((r for r in now["rows"] if r.duty == duty), key=lambda r: [m.key for m in MEASURANDS].index(r.key))
    families = limits.families_of(connection, duty)
    family = family if family in families else (families[0] if families else "")
    known = limits.suggestions(connection, family, rows, day) if family else {}
    return {
        "duty": duty, "duties": limits.DUTY_WORDS, "rows": rows, "now": now, "families": families, "family": family, "known": known,
        "by_key": BY_KEY, "basis": limits.BASIS_WORDS, "methods": limits.METHODS, "versions": limits.versions(connection),
        "measurands": MEASURANDS,
    }  # fmt: skip


@router.get("/limits", dependencies=[needs("see_review")])
def show(request: Request, duty: str = "", family: str = "") -> Response:
    """The limits in force, with the statistical school beside them."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        context = _context(request, connection, duty, family)
    return render(request, "limits.html", typed=opened({}), error="", **context)


@router.post("/limits/what-if", dependencies=[needs("see_review")])
async def what_if(request: Request) -> Response:
    """What the figures as typed would change; nothing is written."""
    form = await checked_form(request)
    duty = str(form.get("duty", ""))
    error, found = "", None
    with database(request).fleet(visitor(request).fleet_id) as connection:
        try:
            rows = limits.typed(limits.in_force(connection, today(request))["rows"], duty, form)
            found = limits.what_if(connection, rows, duty, today(request), str(form.get("family", "")))
        except InputError as problem:
            error = str(problem)
    return render(request, "what_if.html", 422 if error else 200, found=found, error=error)


@router.post("/limits", dependencies=[needs("edit_limits")])
async def save(request: Request) -> Response:
    """A new version of the limits, in force from today."""
    form = await checked_form(request)
    who, duty = visitor(request), str(form.get("duty", ""))
    with database(request).fleet(who.fleet_id) as connection:
        try:
            rows = limits.typed(limits.in_force(connection, today(request))["rows"], duty, form)
            limits.save(connection, who.fleet_id, rows, duty, by=who.name, why=str(form.get("why", "")), today=today(request))
        except InputError as problem:
            context = _context(request, connection, duty, str(form.get("family", "")))
            return render(request, "limits.html", 422, typed=opened(dict(form)), error=str(problem), **context)
    return RedirectResponse(f"/limits?duty={duty}", 303)


@router.get("/limits/precision", dependencies=[needs("see_review")])
def show_precision(request: Request) -> Response:
    """How well each measurand is known."""
    return _precision(request, {}, "")


def _precision(request: Request, typed: dict[str, Any], error: str) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = limits.precision_rows(connection, today(request))
        versions = limits.precision_versions(connection)
    return render(
        request, "precision.html", 422 if error else 200, rows=rows, typed=opened(typed), error=error, versions=versions, by_key=BY_KEY
    )


@router.post("/limits/precision", dependencies=[needs("edit_limits")])
async def save_precision(request: Request) -> Response:
    """A new version of the fleet's own precision."""
    form = await checked_form(request)
    who = visitor(request)
    try:
        with database(request).fleet(who.fleet_id) as connection:
            limits.save_precision(connection, who.fleet_id, form, by=who.name, why=str(form.get("why", "")), today=today(request))
    except InputError as problem:
        return _precision(request, dict(form), str(problem))
    return RedirectResponse("/limits/precision", 303)


@router.get("/backtest", dependencies=[needs("see_review")])
def backtest(request: Request, version: int = 0) -> Response:
    """The whole history through every way of judging, against what was found."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        known = limits.versions(connection)
        chosen = next((v for v in known if v["version"] == version), None)
        sets = {f"limits version {version}": [limits.FixedLimit(**r) for r in chosen["limits"]]} if chosen else {}
        found = backtests.backtest(connection, today(request), sets)
    return render(request, "backtest.html", found=found, versions=known, version=version)
