"""Board, the planner's desk, and find."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response

from vornet.flows.judge import approval
from vornet.flows.pages import board, first_week
from vornet.io import tables
from vornet.web.pages import Form, database, needs, recording, render, sheet, today, visitor
from vornet.words.say import each, say

router = APIRouter()


@router.get("/", dependencies=[needs("see")])
def show(request: Request, show: str = "all", depot: str = "", q: str = "", page: int = 0) -> Response:
    """What needs whom today."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = board.board(connection, show, depot, q[:80], max(page, 0), today(request))
        begun = first_week.led(connection, visitor(request))
    return render(request, "board.html", **found, begun=begun)


@router.get("/board.csv", dependencies=[needs("see")])
def as_csv(request: Request, show: str = "all", depot: str = "", q: str = "") -> Response:
    """The Board's rows as CSV."""
    rows: list[dict[str, Any]] = []
    with database(request).fleet(visitor(request).fleet_id) as connection:
        page = 0
        while True:
            found = board.board(connection, show, depot, q[:80], page, today(request))
            rows += found["rows"]
            if not found["more"]:
                break
            page += 1
    said = [
        {k: v for k, v in r.items() if k != "visit"}
        | {"open_faults": each(r["open_faults"]), "reason": say(r["reason"]), "visit_on": r["visit"]["on_day"] if r["visit"] else None}
        for r in rows
    ]
    return sheet(tables.as_csv(tables.for_people(said)), "board.csv")


@router.get("/decide", dependencies=[needs("see_intervals")])
def desk(request: Request, show: str = "all", page: int = 0) -> Response:
    """Every compartment's interval answer."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = board.desk(connection, show, max(page, 0))
    return render(request, "decide.html", **found, approved=0, refused=[])


@router.post("/decide/approve", dependencies=[needs("approve_interval")])
def approve_many(request: Request, form: Form) -> Response:
    """Approve many proposals as they were shown; what is refused is named with its reason."""
    who, shown = visitor(request), {}
    for compartment_id in form.ids("id"):
        try:
            shown[compartment_id] = float(form.get(f"p{compartment_id}", ""))
        except ValueError:
            continue
    with recording(request) as connection:
        done, refused = approval.approve_many(
            connection, who.fleet_id, {k: v for k, v in shown.items() if 0 < v < 1e7}, who.name, today(request)
        )
    with database(request).fleet(who.fleet_id) as connection:
        found = board.desk(connection, form.get("show", "all"), 0)
    return render(request, "decide.html", 422 if refused and not done else 200, **found, approved=len(done), refused=refused)


@router.get("/find", dependencies=[needs("see")])
def find(request: Request, q: str = "") -> Response:
    """What fits the typed text, as a list to choose from."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = board.find(connection, q)
    return render(request, "found.html", found=found, q=q.strip())
