"""Reports: a sample, a compartment's history, the fleet's week, as PDF and as data."""

from __future__ import annotations

import json
from datetime import timedelta

from fastapi import APIRouter, Request
from fastapi.responses import Response
from markupsafe import Markup
from starlette.exceptions import HTTPException

from vornet.core.causes import NAMES
from vornet.flows.judge import trials, verdicts
from vornet.flows.pages import compartment as compartments
from vornet.flows.pages import period, report
from vornet.io import tables
from vornet.web.charts.ribbon import on_paper
from vornet.web.compartment import facts_of, ribbon_of
from vornet.web.pages import database, day_of, named, needs, today, visitor
from vornet.web.paper import pdf

router = APIRouter()
XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


def _drawing(request: Request, facts: compartments.Facts, keys: list[str]) -> Markup:
    return Markup(on_paper(str(ribbon_of(facts, keys, False, visitor(request).measures))))


@router.get("/compartments/{compartment_id}/samples/{sample_id}/report.pdf", dependencies=[needs("see")])
def sample(request: Request, compartment_id: int, sample_id: int) -> Response:
    """One sample on paper: verdict, causes with their evidence, values, the charges around it."""
    facts = facts_of(request, compartment_id)
    detail = compartments.sample_detail(facts, sample_id)
    if detail is None:
        raise HTTPException(404, "There is no such sample in this compartment.")
    with database(request).fleet(visitor(request).fleet_id) as connection:
        actions = [a for a in verdicts.open_actions(connection, compartment_id) if a["sample_id"] == sample_id]
    speaks = [r["m"].key for r in detail["rows"] if r["mark"]]
    keys = [*speaks, *(k for k in compartments.panels_asked(facts, []) if k not in speaks)][:3]
    return pdf(
        request, "paper_sample.html", f"sample-{detail['known'].get('sample_no', sample_id)}", row=facts.row, unit=facts.unit, s=detail,
        names=NAMES, drawing=_drawing(request, facts, keys), actions=actions, around=compartments.around(facts, detail),
    )  # fmt: skip


@router.get("/compartments/{compartment_id}/history.{kind}", dependencies=[needs("see")])
def history(request: Request, compartment_id: int, kind: str) -> Response:
    """A compartment's history: pdf, csv, xlsx or json."""
    facts = facts_of(request, compartment_id)
    name = f"{facts.row['unit']} {facts.row['compartment']}"
    rows = report.history_rows(facts)
    if kind == "pdf":
        keys = compartments.panels_asked(facts, request.query_params.getlist("m"))[:4]
        return pdf(
            request, "paper_history.html", name, row=facts.row, unit=facts.unit, rows=rows[::-1], drawing=_drawing(request, facts, keys),
            drains=facts.drains, names=NAMES, decision=facts.row["decision"],
        )  # fmt: skip
    if kind == "csv":
        content, media = tables.as_csv(rows).encode(), "text/csv; charset=utf-8"
    elif kind == "xlsx":
        content = tables.as_xlsx({"samples": rows, "drains": report.history_document(facts)["drains"]})
        media = XLSX
    elif kind == "json":
        content, media = json.dumps(report.history_document(facts), ensure_ascii=False, indent=1).encode(), "application/json"
    else:
        raise HTTPException(404, "A history comes as pdf, csv, xlsx or json.")
    return Response(content, media_type=media, headers=named(f"{name}.{kind}"))


@router.get("/reports/week.pdf", dependencies=[needs("see_review")])
def week(request: Request) -> Response:
    """The fleet's week on a page or two."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = report.week(connection, today(request))
    return pdf(request, "paper_week.html", f"week-{today(request)}", fleet=visitor(request).fleet, **found)


@router.get("/reports/intervals.{kind}", dependencies=[needs("see_intervals")])
def intervals(request: Request, kind: str, since: str = "", until: str = "") -> Response:
    """A period for management: decisions, by whom, on which evidence, saving, what held; pdf, xlsx, or its decisions
    as csv. A year to today unless said."""
    day = today(request)
    last = day_of(until, "until", day)
    first = day_of(since, "since", last - timedelta(days=365))
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = period.report(connection, first, last, day)
    name = f"intervals-{first}-{last}"
    if kind == "pdf":
        return pdf(request, "paper_period.html", name, fleet=visitor(request).fleet, state_words=trials.STATE_WORDS, **found)
    if kind == "xlsx":
        return Response(tables.as_xlsx(period.sheets(found)), media_type=XLSX, headers=named(f"{name}.xlsx"))
    if kind == "csv":
        content = tables.as_csv(period.sheets(found)["decisions"])
        return Response(content, media_type="text/csv", headers=named(f"{name}.csv"))
    raise HTTPException(404, "This report comes as pdf, xlsx or csv.")
