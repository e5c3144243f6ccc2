"""Review: the analyst's queue, one sample a screen, keys only; open actions; what the workshop found."""

from __future__ import annotations

import math
from datetime import date
from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.core.causes import NAMES, ORDER, main_keys
from vornet.core.errors import InputError
from vornet.core.judge import NONE
from vornet.core.measurands import INDEX
from vornet.flows.judge import verdicts
from vornet.flows.pages import compartment as compartments
from vornet.store.database import Connection
from vornet.web.charts.spark import spark
from vornet.web.compartment import ribbon_of
from vornet.web.pages import Form, database, day_of, inside, maybe_day, needs, number_of, opened, recording, render, today, visitor

router = APIRouter()
#: values of a measurand in a row of the table
SPARK = 12


@router.get("/review", dependencies=[needs("see_review")])
def show(request: Request, at: int = 0, sample: int = 0, error: str = "", said: str = "", older: bool = False) -> Response:
    """The next sample that waits for a signature; ``older`` ones where they are asked for."""
    return _page(request, at, sample, {}, error, said, older=older)


@router.get("/review/next", dependencies=[needs("see_review")])
def following(request: Request, signed: str = "", at: int = 0, older: bool = False) -> Response:
    """What comes after samples that are being signed (``signed``: their ids), fetched while the one before is read."""
    return _page(request, at, 0, {}, said="signed", older=older, signed=_ids(signed))


def _ids(text: str) -> frozenset[int]:
    """Samples whose signatures are still on their way, as the page names them."""
    return frozenset(number_of(part, "signed") for part in text.split(",")[:50] if part)


def _page(
    request: Request, at: int, sample: int, typed: dict[str, Any], error: str = "", said: str = "", status: int = 200,
    older: bool = False, signed: frozenset[int] = frozenset(),
) -> Response:  # fmt: skip
    day = today(request)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        waiting = [r for r in verdicts.queue(connection, day, older=older) if r["sample_id"] not in signed]
        # counted once a visit: whoever goes on from sample to sample does not wait for it
        going_on = bool(request.headers.get("HX-Request")) and bool(waiting)
        rest = None if going_on else verdicts.waiting(connection, day, older=not older)
        if sample:
            at = next((i for i, r in enumerate(waiting) if r["sample_id"] == sample), -1)
        else:
            at = min(max(at, 0), max(len(waiting) - 1, 0))
        chosen = sample or (waiting[at]["sample_id"] if waiting else 0)
        found = _opened(request, connection, chosen, day) if chosen else None
    counts = {code: sum(r["proposed"] == code for r in waiting) for code in (3, 2, 1, 0, -1)}
    part = request.headers.get("HX-Request")
    return render(
        request, "review_part.html" if part else "review.html", status, waiting=waiting, at=at, counts=counts, o=found,
        typed=opened(typed), error=error, said=said, most=verdicts.MOST_QUEUED, queue_days=verdicts.QUEUE_DAYS, older=older, rest=rest,
    )  # fmt: skip


def _opened(request: Request, connection: Connection, sample_id: int, day: date) -> dict[str, Any] | None:
    judged = verdicts.judged(connection, sample_id)
    if judged is None:
        return None
    facts = compartments.load(connection, judged["compartment_id"], day)
    assert facts is not None
    detail = compartments.sample_detail(facts, sample_id)
    if detail is None:
        return None
    hypotheses = judged["hypotheses"] or []
    rates = {r["m"].key: r for r in detail["rates"]}
    oil = facts.charges.oil[facts.charges.charge_of[[detail["at"]]]]
    fresh = facts.loaded.history.known.at(oil, facts.loaded.history.samples.day[[detail["at"]]]).value[0]
    rows = [_row(facts, detail, r, rates, fresh) for r in detail["rows"]]
    speaks = {k for h in hypotheses if h["strength"] != "possible" for k in main_keys(h["key"])}
    first = [r for r in rows if r["mark"] or r["m"].key in speaks or (r["rate"] and (r["rate"]["real"] or r["rate"]["bent"]))]
    actions = verdicts.open_actions(connection, judged["compartment_id"])
    closed = verdicts.closed_on(connection, sample_id)
    return {
        "judged": judged, "facts": facts, "s": detail, "row": facts.row, "unit": facts.unit, "hypotheses": hypotheses,
        "names": NAMES, "first": first, "rest": [r for r in rows if r not in first],
        "drawing": ribbon_of(facts, [], False, visitor(request).measures), "phrases": verdicts.phrases(hypotheses, judged["proposed"]),
        "suggested": verdicts.suggested(hypotheses, judged["proposed"], day), "actions": actions,
        "closable": [a for a in actions if a["sampled_on"] < judged["sampled_on"]] + closed, "closed": {a["action_id"] for a in closed},
        "around": compartments.around(facts, detail),
        "verdicts": verdicts.of_sample(connection, sample_id), "causes": [(k, NAMES[k]) for k in ORDER], "none": judged["proposed"] == NONE,
    }  # fmt: skip


def _row(facts: compartments.Facts, detail: dict[str, Any], row: dict[str, Any], rates: dict[str, Any], fresh: np.ndarray) -> dict[str, Any]:
    """A value's line; ``fresh`` (COUNT,) new oil as it was known then."""
    m, samples = INDEX[row["m"].key], facts.loaded.history.samples
    upto = np.flatnonzero(samples.usable & ~np.isnan(samples.values[:, m]) & (np.arange(len(samples.comp)) <= detail["at"]))[-SPARK:]
    new = float(fresh[m])
    return {
        **row, "spark": spark(samples.values[upto, m].tolist(), (row["watch"] or [None])[-1]), "new": None if math.isnan(new) else new,
        "rate": rates.get(row["m"].key),
    }  # fmt: skip


def _actions(form: dict[str, Any]) -> tuple[verdicts.Action, ...]:
    out = []
    what = form.get("action", "").strip()
    if form.get("with_action") and what:
        out.append(verdicts.Action(
            what, "do", form.get("owner", ""), maybe_day(form.get("due"), "due"), form.get("cause", ""),
        ))  # fmt: skip
    if form.get("resample"):
        out.append(verdicts.Action("Sample again", "resample", form.get("owner", ""), maybe_day(form.get("resample_by"), "resample_by")))
    return tuple(out)


@router.get("/review/actions", dependencies=[needs("see_review")])
def actions(request: Request, compartment: int = 0, error: str = "") -> Response:
    """What is to be done, by whom, until when; what was found; how often each cause was right."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        context = verdicts.follow_up(connection, compartment or None)
    return render(
        request, "actions.html", 422 if error else 200, error=error, names=NAMES, causes=[(k, NAMES[k]) for k in ORDER],
        compartment=compartment, **context,
    )  # fmt: skip


@router.post("/review/findings", dependencies=[needs("record_finding")])
def finding(request: Request, form: Form) -> Response:
    """Record what was really wrong."""
    who = visitor(request)
    with recording(request) as connection:
        compartment_id = number_of(form.get("compartment"), "compartment")
        verdicts.record_finding(
            connection, who.fleet_id, compartment_id, day_of(form.get("on"), "on", today(request)), form.get("cause", ""),
            form.get("note", ""), by=who.name, today=today(request), closes=tuple(number_of(a, "closes") for a in form.many("closes")),
        )  # fmt: skip
    return RedirectResponse("/review/actions", 303)


@router.post("/review/{sample_id}", dependencies=[needs("sign_verdict")])
def sign(request: Request, sample_id: int, form: Form) -> Response:
    """Sign and show the next."""
    who, at, older = visitor(request), number_of(form.get("at"), "at"), bool(form.get("older"))
    try:
        with recording(request, at_once=0) as connection:
            verdicts.sign(
                connection, who.fleet_id, sample_id, form.get("verdict", ""), by=who.name, today=today(request),
                cause=form.get("cause", ""), comment=form.get("comment", ""), reason=form.get("reason", ""),
                actions=_actions(form), closes=tuple(number_of(a, "closes") for a in form.many("closes")),
            )  # fmt: skip
    except InputError as problem:
        if request.headers.get("HX-Request"):
            return _page(request, at, sample_id, dict(form), str(problem), status=422, older=older)
        raise
    if request.headers.get("X-Next-Is-There"):  # whoever asked has the next sample before their eyes
        return Response(status_code=204)
    if request.headers.get("HX-Request"):
        return _page(request, max(at, 0), 0, {}, said="signed", older=older, signed=_ids(form.get("signing", "")))
    return RedirectResponse(f"/review?at={max(at, 0)}{'&older=1' if older else ''}", 303)


@router.post("/stops/{sample_id}", dependencies=[needs("hear_stop")])
def hear_stop(request: Request, sample_id: int, form: Form) -> Response:
    """Whoever answers for a unit has heard that it is to stop."""
    who = visitor(request)
    with recording(request) as connection:
        verdicts.hear_stop(connection, who.fleet_id, sample_id, by=who.name, note=form.get("note", ""))
    return RedirectResponse(inside(form.get("back", "/")), 303)
