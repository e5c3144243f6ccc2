"""Plan: services and oil drains, soonest first, with what drives each."""

from __future__ import annotations

from fastapi import APIRouter, Request
from fastapi.responses import Response

from vornet.flows.judge import verdicts
from vornet.flows.pages import board, open_ends
from vornet.flows.plan import service
from vornet.flows.weeks import tasks
from vornet.io import tables
from vornet.web.charts import bands
from vornet.web.pages import database, named, needs, render, today, visitor

router = APIRouter()
HORIZONS = ((14, "2 weeks"), (30, "30 days"), (90, "3 months"), (365, "a year"))
FILTERS = (("all", "Due within"), ("overdue", "Overdue"), ("drains", "Oil drains"), ("bottles", "Trial bottles"), ("items", "Service items"),
           ("unknown", "No record yet"), ("condition", "By look"))  # fmt: skip


@router.get("/plan", dependencies=[needs("see")])
def show(request: Request, show: str = "all", depot: str = "", days: int = 30, page: int = 0) -> Response:
    """What is due, when, and why then."""
    show = show if show in dict(FILTERS) else "all"
    days = min(max(days, 1), 3660)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = service.due_list(connection, today(request), days, depot[:120], show, max(page, 0))
        depots = board.depots(connection)
        asked = verdicts.resamples(connection)
        found["rows"] = open_ends.with_visits(connection, found["rows"])
        ends = open_ends.open_ends(connection, today(request), samples=True)
        batches = tasks.new_batches(connection, today(request))
    span = bands.span(found["rows"], today(request))
    return render(
        request,
        "plan.html",
        **found,
        ends=ends,
        batches=batches,
        band=lambda r: bands.band(r, today(request), span),
        show=show,
        depot=depot,
        days=days,
        filters=FILTERS,
        horizons=HORIZONS,
        depots=depots,
        asked=asked,
    )


@router.get("/plan.csv", dependencies=[needs("see")])
def as_csv(request: Request, show: str = "all", depot: str = "", days: int = 30) -> Response:
    """The due list as CSV."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = service.due_list(connection, today(request), min(max(days, 1), 3660), depot[:120], show, 0, 100_000)
    keys = (
        "due_day",
        "due_first",
        "due_last",
        "unit",
        "compartment",
        "item",
        "depot",
        "driver",
        "due_meter",
        "meter_unit",
        "to_due",
        "last_day",
    )
    return Response(
        tables.as_csv([{k: r[k] for k in keys} for r in found["rows"]]), media_type="text/csv",
        headers=named("due.csv"),
    )  # fmt: skip
