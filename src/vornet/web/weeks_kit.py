"""Kit and stock of the weeks, what was done against what was planned, and the week on paper."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.core import measures
from vornet.core.errors import InputError
from vornet.flows.plan import stock
from vornet.flows.weeks import depots, done, kit, tasks
from vornet.io import tables
from vornet.web import week_paper
from vornet.web.pages import (
    Form,
    begins,
    database,
    day_of,
    hand,
    maybe_day,
    named,
    needs,
    number_of,
    recording,
    render,
    sheet,
    today,
    visitor,
)
from vornet.web.paper import pdf

router = APIRouter()
XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


def _week(request: Request, week: str) -> tuple[date, date]:
    return kit.week_of(maybe_day(week, "week") or today(request), begins(request))


@router.get("/weeks/kit", dependencies=[needs("see")])
def kit_page(request: Request, week: str = "", error: str = "", said: str = "") -> Response:
    """What a week's visits take along, depot by depot; what is there, and what is to be ordered by when."""
    try:
        first, last = _week(request, week)
    except InputError as wrong:
        (first, last), error = kit.week_of(today(request), begins(request)), f"week: {wrong.why}"
    day = today(request)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = kit.of_days(connection, first, last, day)
        lines = stock.lines(connection, day)
        places = list(depots.all_of(connection, day, 1).values())
        batches = tasks.new_batches(connection, day)
    names = sorted({t.name for k in found for v in k.visits for t in v.things} | {line.thing for line in lines})
    return render(
        request, "weeks_kit.html", 422 if error else 200, kits=found, lines=lines, first=first, last=last, places=places, names=names,
        shopping=[x for x in lines if x.outlook.order > 0], before=first - timedelta(days=7), after=first + timedelta(days=7), error=error,
        said=said[:200], day_of=tasks.day_of, batches=batches, lead=stock.USUAL_LEAD_DAYS,
    )  # fmt: skip


@router.get("/weeks/kit.{kind}", dependencies=[needs("see")])
def kit_taken(request: Request, kind: str, week: str = "") -> Response:
    """The week's kit, or with ``shopping`` what is to be ordered, as csv or xlsx."""
    first, last = _week(request, week)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = kit.rows(kit.of_days(connection, first, last, today(request)))
        orders = [_order(x) for x in kit.shopping(connection, today(request))]
    if kind == "csv":
        return sheet(tables.as_csv(rows), f"kit-{first}.csv")
    if kind == "xlsx":
        return Response(tables.as_xlsx({"kit": rows, "to order": orders}), media_type=XLSX, headers=named(f"kit-{first}.xlsx"))
    raise HTTPException(404, "The kit comes as csv or xlsx.")


def _order(x: stock.Line) -> dict[str, Any]:
    by = x.outlook.order_by
    return {"depot": x.depot, "what": x.thing, "there": x.outlook.there, "needed": x.outlook.needed, "order": x.outlook.order, "unit": x.unit,
            "order_by": tasks.day_of(by) if by else None, "too_late": x.outlook.too_late, "waits": "; ".join(x.outlook.waits)}  # fmt: skip


@router.post("/weeks/stock", dependencies=[needs("keep_stock")])
def stock_move(request: Request, form: Form) -> Response:
    """Something counted, received or used at a depot; or how long it takes to come and the least to have."""
    who, day, what = visitor(request), today(request), form.get("kind", "counted")
    thing = form.get("thing", "").strip()
    try:
        with recording(request) as connection:
            if what == "terms":
                least = _amount(request, form.get("least", "0") or "0", thing, "least")
                stock.set_thing(connection, who.fleet_id, thing, number_of(form.get("lead_days"), "lead_days"), least, who.name, day)
            else:
                amount = _amount(request, form.get("amount", ""), thing, "amount")
                stock.move(connection, who.fleet_id, form.id("depot") or 0, thing, what, amount, day_of(form.get("on"), "on", day),
                           form.get("note", ""), who.name, day)  # fmt: skip
    except InputError as error:
        return kit_page(request, form.get("week", ""), f"{error.field.replace('_', ' ')}: {error.why}")
    return RedirectResponse(f"/weeks/kit?week={form.get('week', '')}&said=Kept#stock", 303)


def _amount(request: Request, text: str, thing: str, field: str) -> float:
    """Litres of an oil in the fleet's unit, pieces of anything else. Raises InputError."""
    if not text.strip():
        raise InputError(field, "how much")
    if thing.startswith("oil "):
        return measures.typed(text, "volume", hand(request), field)
    return measures.number(text, field, hand(request).mark)


# ---- looked back on --------------------------------------------------------------------------------------------
def _span(request: Request, since: str, until: str) -> tuple[date, date]:
    day = today(request)
    last = min(maybe_day(until, "until") or day, kit.LAST_DAY)
    return maybe_day(since, "since") or max(last, kit.FIRST_DAY) - timedelta(days=56), last


@router.get("/weeks/done", dependencies=[needs("see")])
def done_page(request: Request, since: str = "", until: str = "") -> Response:
    """What came early, late or not at all, and what it cost in oil life."""
    error = ""
    try:
        first, last = _span(request, since, until)
        with database(request).fleet(visitor(request).fleet_id) as connection:
            found = done.between(connection, first, last, today(request))
    except InputError as wrong:
        error, day = f"{wrong.field}: {wrong.why}", today(request)
        with database(request).fleet(visitor(request).fleet_id) as connection:
            found = done.between(connection, day - timedelta(days=56), day, day)
    return render(request, "weeks_done.html", 422 if error else 200, **found, words=done.WORDS, error=error)


@router.get("/weeks/done.{kind}", dependencies=[needs("see")])
def done_taken(request: Request, kind: str, since: str = "", until: str = "") -> Response:
    """The same as csv, xlsx or pdf."""
    first, last = _span(request, since, until)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = done.between(connection, first, last, today(request))
    name = f"done-{first}-{last}"
    if kind == "csv":
        return sheet(tables.as_csv(done.table(found)), f"{name}.csv")
    if kind == "xlsx":
        return Response(tables.as_xlsx({"done against planned": done.table(found)}), media_type=XLSX, headers=named(f"{name}.xlsx"))
    if kind == "pdf":
        return pdf(request, "paper_done.html", name, fleet=visitor(request).fleet, words=done.WORDS, **found)
    raise HTTPException(404, "It comes as csv, xlsx or pdf.")


@router.get("/weeks.pdf", dependencies=[needs("see")])
def week_on_paper(request: Request, week: str = "", depot: str = "") -> Response:
    """The week for the workshop's wall."""
    first, _ = _week(request, week)
    day = today(request)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        ids = [d.depot_id for d in depots.all_of(connection, first, 1).values() if not depot or d.name == depot]
        found = week_paper.found(connection, first, ids if depot else None, day)
    return pdf(request, "paper_plan.html", f"week-{first}", fleet=visitor(request).fleet, **found)
