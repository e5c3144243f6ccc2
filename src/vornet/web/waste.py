"""Used oil and filters: what left each depot, month by month, against what was poured."""

from __future__ import annotations

from datetime import date
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response
from starlette.exceptions import HTTPException

from vornet.core.errors import InputError
from vornet.flows.plan import waste
from vornet.io import tables
from vornet.web.pages import database, day_of, named, needs, render, sheet, today, visitor
from vornet.web.paper import pdf

router = APIRouter(prefix="/waste")


def _asked(request: Request, since: str, until: str) -> tuple[date, date]:
    """The span asked for; the year to today unless said."""
    day = today(request)
    last = day_of(until, "until", day)
    return day_of(since, "since", date(last.year, 1, 1) if not until else last.replace(day=1)), last


def _found(request: Request, first: date, last: date) -> dict[str, Any]:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        return waste.ledger(connection, first, last)


@router.get("", dependencies=[needs("see")])
def show(request: Request, since: str = "", until: str = "") -> Response:
    """Months by depot, with what was handed over."""
    try:
        first, last = _asked(request, since, until)
        return render(request, "waste.html", **_found(request, first, last), error="")
    except InputError as error:
        day = today(request)
        found = _found(request, date(day.year, 1, 1), day)
        return render(request, "waste.html", 422, **found, error=f"{error.field}: {error.why}")


@router.get(".{kind}", dependencies=[needs("see")])
def taken(request: Request, kind: str, since: str = "", until: str = "") -> Response:
    """The same as csv, xlsx or pdf."""
    first, last = _asked(request, since, until)
    found, name = _found(request, first, last), f"used-oil-{first}-{last}"
    if kind == "pdf":
        return pdf(request, "paper_waste.html", name, fleet=visitor(request).fleet, **found)
    if kind == "csv":
        return sheet(tables.as_csv(tables.for_people(waste.rows(found))), f"{name}.csv")
    if kind == "xlsx":
        media = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
        return Response(
            tables.as_xlsx({"months": waste.rows(found), "handed over": found["handed"]}), media_type=media, headers=named(f"{name}.xlsx")
        )
    raise HTTPException(404, "The ledger comes as csv, xlsx or pdf.")
