"""Log a drain: choose the compartment, type what was measured, see what follows."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.core.errors import FormErrors, InputError
from vornet.flows.pages import board
from vornet.flows.work import drain as flow
from vornet.web.drain_form import DrainForm
from vornet.web.pages import NO_COMPARTMENT, Form, database, hand, needs, recording, render, today, visitor

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


def _form(request: Request, form: Mapping[str, str]) -> DrainForm:
    return DrainForm({k: v[:3000] for k, v in form.items()}, hand(request))


def _page(request: Request, row: dict[str, Any], form: DrainForm, errors: dict[str, str] | None = None) -> Response:
    following = flow.follow(row, form.drained(row["meter_unit"], today(request)), today(request))
    form.errors = {**(errors or {}), **form.errors} if errors is not None else {}
    return render(
        request, "drain.html", 422 if form.errors else 200, row=row, form=form, sums=following, magnet=flow.MAGNET,
        air=flow.AIR_FILTERS, reasons=[],
    )  # fmt: skip


@router.get("/compartments/{compartment_id}/drain", dependencies=[needs("log_work")])
def ask(request: Request, compartment_id: int) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        try:
            row = flow.place(connection, compartment_id)
        except InputError:
            raise HTTPException(404, NO_COMPARTMENT) from None
    there = today(request) + row["ahead"]
    form = DrainForm({"on": there.isoformat(), "client_id": str(uuid.uuid4()), "filter_changed": "yes"}, hand(request))
    return _page(request, row, form)


@router.post("/compartments/{compartment_id}/drain/figures", dependencies=[needs("log_work")])
def figures(request: Request, compartment_id: int, posted: Form) -> Response:
    """The numbers that follow from what is typed so far."""
    form, day, reasons = _form(request, posted), today(request), []
    with database(request).fleet(visitor(request).fleet_id) as connection:
        row = flow.place(connection, compartment_id)
        drained = form.drained(row["meter_unit"], day)
        following = flow.follow(row, drained, day)
        try:
            reasons = flow.concession_reasons(connection, row, drained)
        except InputError as error:
            form.errors[error.field] = error.why
    form.errors = {**following.errors, **form.errors}
    if not form.text("meter"):
        form.errors.pop("meter", None)
    return render(request, "drain_figures.html", row=row, form=form, sums=following, reasons=reasons)


@router.post("/compartments/{compartment_id}/drain", dependencies=[needs("log_work")])
def save(request: Request, compartment_id: int, posted: Form) -> Response:
    form, who, day = _form(request, posted), visitor(request), today(request)
    with database(request).fleet(who.fleet_id) as connection:
        row = flow.place(connection, compartment_id)
    drained = form.drained(row["meter_unit"], day)
    try:
        if form.errors:
            raise FormErrors(form.errors)
        with recording(request) as connection:
            saved = flow.log(connection, who.fleet_id, compartment_id, drained, who.name, day)
    except FormErrors as error:
        return _page(request, row, form, {**flow.follow(row, drained, day).errors, **error.errors})
    return RedirectResponse(f"/compartments/{compartment_id}?logged={saved}", 303)
