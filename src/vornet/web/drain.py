"""Log a drain: choose the compartment, type what was measured, see what follows."""

from __future__ import annotations

import uuid
from collections.abc import Mapping

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.core.errors import InputError
from vornet.flows.pages import board
from vornet.flows.work import drain as flow
from vornet.web.pages import Form, database, needs, recording, render, today, visitor

router = APIRouter()


@router.get("/drain", dependencies=[needs("log_work")])
def choose(request: Request, q: str = "") -> Response:
    """Which compartment was drained: what is due comes first."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        if q.strip():
            rows = [r for r in board.find(connection, q, 30) if r["kind"] == "compartment"]
        else:
            rows = board.board(connection, "all", "", "", 0, today(request))["rows"][:30]
    return render(request, "drain_choose.html", rows=rows, q=q)


def _form(request: Request, form: Mapping[str, str]) -> flow.DrainForm:
    return flow.DrainForm({k: v[:3000] for k, v in form.items()}, system=visitor(request).measures)


def _page(request: Request, row: dict, form: flow.DrainForm, saved: bool = False) -> Response:
    sums = flow.figures(row, form, today(request))
    if not form.fields.get("sent"):
        form.errors.clear()
    return render(
        request, "drain.html", 422 if form.errors else 200, row=row, form=form, sums=sums, magnet=flow.MAGNET,
        air=flow.AIR_FILTERS, saved=saved, reasons=[],
    )  # fmt: skip


@router.get("/compartments/{compartment_id}/drain", dependencies=[needs("log_work")])
def ask(request: Request, compartment_id: int) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        try:
            row = flow.place(connection, compartment_id)
        except InputError:
            raise HTTPException(404, "There is no such compartment in this fleet.") from None
    form = flow.DrainForm({"on": today(request).isoformat(), "client_id": str(uuid.uuid4()), "filter_changed": "yes"})
    form.system = visitor(request).measures
    return _page(request, row, form)


@router.post("/compartments/{compartment_id}/drain/figures", dependencies=[needs("log_work")])
def figures(request: Request, compartment_id: int, posted: Form) -> Response:
    """The numbers that follow from what is typed so far."""
    form = _form(request, posted)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        row = flow.place(connection, compartment_id)
        sums = flow.figures(row, form, today(request))
        reasons = flow.concession_reasons(connection, row, form)
    if not form.fields.get("meter", "").strip():
        form.errors.pop("meter", None)
    return render(request, "drain_figures.html", row=row, form=form, sums=sums, reasons=reasons)


@router.post("/compartments/{compartment_id}/drain", dependencies=[needs("log_work")])
def save(request: Request, compartment_id: int, posted: Form) -> Response:
    form = _form(request, {**posted, "sent": "1"})
    who = visitor(request)
    with recording(request) as connection:
        saved = flow.log(connection, who.fleet_id, compartment_id, form, who.name, today(request))
        if saved is None:
            return _page(request, flow.place(connection, compartment_id), form)
    return RedirectResponse(f"/compartments/{compartment_id}?logged={saved}", 303)
