"""The fleet's data for programs: registers, results, judgements, intervals and due lists, by token or session.

A token acts as its owner within its scopes. Reading also works with a signed-in browser; whatever changes
something needs a token, so that no page elsewhere can make a browser do it.
"""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

from fastapi import APIRouter, Depends, Request
from starlette.exceptions import HTTPException

from vornet.api.bodies import Raw, takes
from vornet.core.errors import InputError
from vornet.flows.house import access, days
from vornet.flows.house.people import Visitor
from vornet.flows.judge import judgements
from vornet.flows.lab import results
from vornet.flows.plan import service
from vornet.flows.register import dump, register
from vornet.flows.work import notes
from vornet.io import apart

router = APIRouter(prefix="/api/v1", tags=["fleet"])
LARGEST = 200_000_000


def permitted(right: str, by_token: bool = False) -> Any:
    """Who asks, where they may; ``by_token``: only with a token, never with a browser's session."""

    def check(request: Request) -> Visitor:
        who: Visitor | None = request.state.visitor
        if who is None:
            raise HTTPException(401, "sign in, or send a token that has not ended")
        if by_token and who.scopes is None:
            raise HTTPException(403, "this needs an API token, not a browser's session")
        if not who.may(right):
            words = access.RIGHTS[right].words
            kind = "this token" if who.scopes is not None else who.role
            raise HTTPException(403, f"to {words} is for {access.who_may(right)}; {kind} may not")
        request.state.taken = right == "export" and request.method == "GET"  # told in the audit trail
        return who

    check.right = right  # type: ignore[attr-defined]
    return Depends(check)


def today_of(request: Request) -> date:
    """The day it is in the caller's fleet; fixed for demo and screenshots."""
    fixed: date | None = request.app.state.fixed_today
    who = getattr(request.state, "visitor", None)
    return fixed or days.day_in(who.zone if who else "UTC")


@router.get("/register")
def get_register(request: Request, who: Visitor = permitted("export")) -> dict[str, Any]:
    """The whole register, in the shape that PUT takes (docs/formats.md)."""
    return dump.dump(request.app.state.db, who.fleet, today_of(request))


@router.put("/register", dependencies=[takes(LARGEST)])
def put_register(request: Request, body: Raw, who: Visitor = permitted("edit_register", by_token=True)) -> dict[str, Any]:
    """Load or update the register from a register document; rows that do not fit are listed, the rest goes in."""
    return apart.long(register.load_and_judge, request.app.state.db.location, body, fleet=who.fleet, by=who.name, today=today_of(request))


@router.post("/results", dependencies=[takes(LARGEST)])
def post_results(
    request: Request, body: Raw, name: str = "results.csv", lab: str = "", who: Visitor = permitted("take_files", by_token=True)
) -> dict[str, Any]:
    """Take lab results in: the body is the file (wide or long; CSV, TSV, XLSX, ODS, JSON)."""
    where = request.app.state.db.location
    return apart.long(
        results.load_and_judge, where, body, fleet=who.fleet, name=name[:200], by=who.name, lab=lab[:80], today=today_of(request)
    )


@router.post("/readings")
def post_readings(request: Request, rows: list[notes.ReadingIn], who: Visitor = permitted("log_work", by_token=True)) -> dict[str, Any]:
    """Meter readings: [{unit, on, meter, meter_no}]. One that goes back is refused by its place in the list."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        return notes.take(connection, who.fleet_id, rows, who.name, today_of(request))


@router.get("/judgements")
def get_judgements(request: Request, who: Visitor = permitted("export")) -> list[dict[str, Any]]:
    """Every sample with its proposed verdict, its evidence and its holds."""
    return judgements.judgements(request.app.state.db, who.fleet)


@router.get("/intervals")
def get_intervals(request: Request, who: Visitor = permitted("export")) -> list[dict[str, Any]]:
    """Every compartment's interval decision."""
    return judgements.intervals(request.app.state.db, who.fleet)


@router.get("/due")
def get_due(request: Request, days: int = 30, depot: str = "", who: Visitor = permitted("see")) -> list[dict[str, Any]]:
    """Oil drains and service items due within so many days, soonest first."""
    if not 0 <= days <= 3660:
        raise InputError("days", "0 to 3660")
    with request.app.state.db.fleet(who.fleet_id) as connection:
        found = service.due_list(connection, today_of(request), days, depot, "all", 0, 100_000)["rows"]
    until = today_of(request) + timedelta(days=days)
    return [{**r, "until": until} for r in found]
