"""The fleet in oil: which drains are honey, which run black, and what it comes to."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response

from vornet.core.oil_life import LOOK_BACK_DAYS
from vornet.flows.pages import in_oil as flow
from vornet.io import tables
from vornet.web.charts import in_oil as chart
from vornet.web.pages import database, needs, render, sheet, today, visitor

router = APIRouter(prefix="/decide/fleet")


def _load(request: Request, by: str, family: str, depot: str, page: int) -> dict[str, Any]:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        return flow.load(connection, by, family[:120], depot[:120], max(page, 0), today(request))


@router.get("", dependencies=[needs("see_intervals")])
def show(request: Request, by: str = "early", family: str = "", depot: str = "", page: int = 0) -> Response:
    """Every compartment's last charges as a thin ribbon, a row each."""
    found, day = _load(request, by, family, depot, page), today(request)
    part = request.headers.get("HX-Request") and page
    return render(
        request, "in_oil_rows.html" if part else "in_oil.html", **found, bar=chart.bar, gradients=chart.gradients,
        ticks=chart.ticks(day, LOOK_BACK_DAYS),
        ribbon=lambda r: chart.ribbon(r["charges"] or [], r["life"], day, LOOK_BACK_DAYS, f"charges of {r['unit']} {r['compartment']}"),
        months=round(LOOK_BACK_DAYS / 30.4), axis=chart.WIDTH,
    )  # fmt: skip


@router.get(".csv", dependencies=[needs("export")])
def as_csv(request: Request, by: str = "early", family: str = "", depot: str = "") -> Response:
    """All rows as CSV, in the order shown."""
    rows: list[dict[str, Any]] = []
    page = 0
    while True:
        found = _load(request, by, family, depot, page)
        rows += [{k: v for k, v in r.items() if k not in ("charges", "open_faults", "compartment_id")} for r in found["rows"]]
        if not found["more"]:
            break
        page += 1
    return sheet(tables.as_csv(tables.for_people(rows)), "fleet-in-oil.csv")
