"""One interval on one axis: what moves with the hand comes with the page; approving it."""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from datetime import date
from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from markupsafe import Markup
from starlette.exceptions import HTTPException

from vornet.core import measures
from vornet.core import trial as trials_of
from vornet.core.errors import InputError
from vornet.core.policy import RULES
from vornet.core.prices import YEARS_DIFFER
from vornet.flows.judge import approval, in_force, trials
from vornet.flows.pages import interval as flow
from vornet.flows.pages.interval import Interval
from vornet.web import trials as web_trials
from vornet.web.charts import course as course_chart
from vornet.web.charts import interval as chart
from vornet.web.charts.interval import Cone, Flag, Wall
from vornet.web.pages import (
    NO_COMPARTMENT,
    CompartmentRow,
    Form,
    database,
    day_of,
    needs,
    number_of,
    opened,
    recording,
    render,
    today,
    typed,
    visitor,
)
from vornet.web.policy import said_value
from vornet.words.en import AS_READ
from vornet.words.say import say
from vornet.words.writing import day as day_words
from vornet.words.writing import figure

router = APIRouter()
SCHOOL_WORDS = {
    "maker": "maker's cap", "printed": "maker's printed", "indicator": "indicator", "supplier": "oil supplier's claim",
    "house_rule": "house rule", "calendar": "calendar", "fixed_last_sample": "last sample's line",
    "statistical": "statistics", "condition": "safe hours",
}  # fmt: skip
#: guards that are a wall along the axis
WALLS = ("cap", "oil_cap", "filter", "bypass", "sampled", "step", "calendar")


def kind_of(found: Interval) -> str:
    return "distance" if found.row["meter_unit"] == "km" else "hours"


COURSE_ENDS = {
    "later": "replaced",
    "oil_change": "another oil was poured",
    "overhaul": "overhauled or exchanged",
    "withdrawn": "withdrawn",
    "charge_ended": "the trial's charge was drained",
}


def _course(found: Interval, words: Callable[[float], str], today: date) -> Markup:
    """The picture of what was in force; '' where nothing ever changed."""
    steps = []
    for r in found.course:
        figure_of = words(r["value"]) if r["fact"] == "length" and r["value"] else f"{r['value']:.0f} days" if r["value"] else "none"
        since = "from the start" if r["from_start"] else f"from {day_words(r['from_day'])}"
        until = f" until {day_words(r['until_day'])}" if r["until_day"] else ""
        ended = f", {COURSE_ENDS[r['why']]}" if r["why"] else ""
        steps.append(course_chart.Step(
            r["fact"], r["value"], -1 if r["from_start"] else r["from_day"].toordinal(),
            None if r["until_day"] is None else r["until_day"].toordinal(), r["state"],
            r["origin"], figure_of, f"{figure_of}, {r['approved_by']}, {since}{until}{ended}",
        ))  # fmt: skip
    said = "; ".join(s.title for s in steps)
    return Markup(course_chart.picture(steps, today.toordinal(), day_words, said))


def _walls(found: Interval, system: str) -> list[tuple[str, str, str, float, bool]]:
    """Guards that stand along the axis: (key, words, what lifts it, where, whether it bites now)."""
    out = []
    for g in found.decision["guards"]:
        at = g["limit"]
        if g["key"] in WALLS and at is not None and math.isfinite(at):
            out.append(
                (
                    g["key"],
                    say(g["fact"], system, AS_READ),
                    say(g["lifts"], system, AS_READ) if g["lifts"] else "",
                    float(at),
                    bool(g["bites"]),
                )
            )
    return sorted(out, key=lambda w: w[3])


def policy_words(found: Interval) -> list[tuple[str, str, str]]:
    """The rules this was decided by, as (what, its value, who says it)."""
    scopes = {"": "start value", "fleet": "the fleet's", "duty": "its duty's", "family": "its family's", "unit": "its own"}
    return [(RULES[key].words, said_value(key, w.value), scopes[w.scope]) for key, w in found.said_by.items()
            if w.value != 0 and not key.endswith("_h" if found.row["meter_unit"] == "km" else "_km")]  # fmt: skip


def _sides_cost(found: Interval, factor: float) -> tuple[float | None, float | None] | None:
    """What an hour cost at the length before an approval and costs at the one since, per shown unit; None without prices."""
    if found.held is None or found.costs is None or found.table is None:
        return None

    def at(length: float | None) -> float | None:
        if length is None or found.costs is None or found.table is None or not 0 < length <= found.to_h:
            return None
        return float(np.interp(length, found.table.hours[1:], found.costs.per_hour)) / factor

    return at(found.held.before), at(found.held.version["meter"])


def _words(factor: float, unit: str) -> Callable[[float], str]:
    return lambda h: f"{figure(h * factor)} {unit}"


def _context(request: Request, found: Interval, shown: str, hand: float | None, before: float | None = None) -> dict[str, Any]:
    """``before``: what was run before a trial that runs now; it is what others are compared with."""
    system, kind = visitor(request).measures, kind_of(found)
    factor, unit = measures.shown(1.0, kind, system) or 1.0, measures.unit(kind, system)
    row, decision, table = found.row, found.decision, found.table
    base = {
        "row": row, "found": found, "decision": decision, "kind": kind, "unit": row["meter_unit"], "school_words": SCHOOL_WORDS,
        "seen": found.seen, "policy_words": policy_words(found),
        "current": before or row["interval_meter"], "walls": (walls := _walls(found, system)), "sides_cost": _sides_cost(found, factor),
        "drawn": None, "data": "", "picked": None, "course_drawn": _course(found, _words(factor, unit), today(request)),
    }  # fmt: skip
    if table is None:
        return base
    limiting = decision["limiting"]
    picked = next((p for wanted in (shown, limiting) for p in table.properties if p.key == wanted), table.properties[0])
    flags = [Flag(f"{SCHOOL_WORDS[k]} {figure(v * factor)}", v) for k, v in decision["schools"].items()
             if v is not None and math.isfinite(v) and k in SCHOOL_WORDS]  # fmt: skip
    current = before or row["interval_meter"]
    at = min(hand or decision["proposed"] or current or decision["safe"] or found.to_h / 2, found.to_h)
    cone = Cone(
        picked.name, f"{picked.unit}{' · limits it' if picked.key == limiting else ''}".strip(" ·"), table.hours,
        picked.low, picked.middle,
        picked.high, picked.watch, picked.act, picked.past,
    )  # fmt: skip
    costs = found.costs
    hard = [x for k, _, _, x, _ in walls if k in ("cap", "oil_cap", "filter", "bypass", "calendar")]
    reach = min([*hard, math.inf if decision["safe"] is None else decision["safe"], 9 * found.to_h])
    trial = trials_of.steps(at, current, reach)
    drawn, places = chart.picture(
        flags, [Wall(words, x) for _, words, _, x, _ in walls], cone, table.hours, table.any_past, table.as_is, 1 - found.policy.confidence,
        None if costs is None else costs.per_hour, current, at, trial, _words(factor, unit),
        lambda v: figure(v, 1 if abs(v) >= 10 else 2), f"{found.currency} per {unit}" if costs else "",
    )  # fmt: skip

    def plain(x: np.ndarray) -> list[float]:
        return [round(float(v), 5) for v in x]

    data = {
        "to": found.to_h, "places": places.__dict__, "factor": factor, "unit": unit, "hand": at, "today": current, "safe": decision["safe"],
        "any": plain(table.any_past), "act": plain(table.any_act), "asIs": None if table.as_is is None else plain(table.as_is),
        "properties": [{"name": p.name, "chance": plain(p.chance)} for p in table.properties],
        "cost": None if costs is None else {"drain": costs.drain.total, "risk": costs.drain.consequence, "calendar":
                None if math.isinf(costs.calendar) else costs.calendar, "currency": costs.currency},
        "rate": found.rate_per_year, "litres": found.litres, "litreUnit": measures.unit("volume", system),
        "litreFactor": measures.shown(1.0, "volume", system), "differ": YEARS_DIFFER,
        "schools": [{"key": k, "at": v} for k, v in decision["schools"].items() if v is not None and math.isfinite(v)],
        "walls": [{"key": k, "at": x} for k, _, _, x, _ in walls], "trial": trials_of.STEPS,
        "step": found.policy.step_km if row["meter_unit"] == "km" else found.policy.step_h,
        "caps": reach,
    }  # fmt: skip
    return base | {"drawn": drawn, "data": json.dumps(data).replace("<", "\\u003c"), "picked": picked, "at": at}


def as_proposed(row: dict[str, Any], meter: float) -> float:
    """The proposal itself, where it comes back as it was shown in the fleet's unit."""
    proposed = (row["decision"] or {}).get("proposed")
    return float(proposed) if proposed and abs(meter - proposed) < 1e-4 * proposed else meter


def page(
    request: Request, compartment_id: int, error: str = "", form: dict[str, Any] | None = None, failed: str = "Not approved"
) -> Response:
    """The page of one interval; with ``error`` what was typed stays."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = flow.load(connection, compartment_id, today(request))
        tried = trials.listed(connection, compartment_id)
        ripe = next((t for t in tried if t["state"] == "running" and t["progress"].get("word") == trials_of.RIPE), None)
        against = trials.what_stands_against(connection, ripe) if ripe is not None else []
        turned_down = approval.declined(connection, date.min, date.max, compartment_id)
    if found is None:
        raise HTTPException(404, NO_COMPARTMENT)
    shown = request.query_params.get("property", "")[:40]
    return render(
        request, "interval.html", 422 if error else 200, error=error, form=opened(form or {}), failed=failed,
        tried=tried, turned_down=turned_down, stands_against=[f.plain() for f in against],
        strip=lambda t: web_trials.strip(request, t), trial_words=trials.STATE_WORDS,
        **_context(request, found, shown, None, next((t["before"] for t in tried if t["state"] == "running"), None)),
    )  # fmt: skip


@router.get("/compartments/{compartment_id}/interval", dependencies=[needs("see_intervals")])
def show(request: Request, compartment_id: int) -> Response:
    """The interval of one compartment: picture, money, walls, approval."""
    return page(request, compartment_id)


@router.post("/compartments/{compartment_id}/interval", dependencies=[needs("approve_interval")])
def approve(request: Request, compartment_id: int, row: CompartmentRow, form: Form) -> Response:
    """Approve an interval, by name. What cannot be is said on the page, with what was typed."""
    who = visitor(request)
    try:
        meter = typed(form, "interval", "distance" if row["meter_unit"] == "km" else "hours", request)
        if meter is None:
            raise InputError("interval", "is missing")
        meter = as_proposed(row, meter)
        days = number_of(form.get("days"), "days") or None
        with recording(request) as connection:
            approval.approve(
                connection, who.fleet_id, compartment_id, meter, form.get("why", ""), who.name, today(request), days=days,
                effective_from=day_of(form.get("effective_from"), "effective_from", today(request)), rests_on=form.get("seen", "")[:40],
                upholds=form.get("upholds") == "1",
            )  # fmt: skip
    except InputError as error:
        if form.get("seen"):
            return page(request, compartment_id, f"{error.field.replace('_', ' ')}: {error.why}", form)
        raise
    return RedirectResponse(f"/compartments/{compartment_id}#decision", 303)


@router.post("/compartments/{compartment_id}/interval/withdraw", dependencies=[needs("approve_interval")])
def withdraw(request: Request, compartment_id: int, row: CompartmentRow, form: Form) -> Response:
    """Take back what was approved for a day to come and has not begun."""
    who = visitor(request)
    try:
        with recording(request) as connection:
            interval_id = int(number_of(form.get("interval_id"), "interval_id") or 0)
            in_force.withdraw(connection, who.fleet_id, compartment_id, interval_id, form.get("why", ""), who.name, today(request))
    except InputError as error:
        return page(request, compartment_id, f"{error.field}: {error.why}", form, "Not withdrawn")
    return RedirectResponse(f"/compartments/{compartment_id}/interval", 303)


@router.post("/compartments/{compartment_id}/trial", dependencies=[needs("approve_interval")])
def begin_trial(request: Request, compartment_id: int, row: CompartmentRow, form: Form) -> Response:
    """Begin a trial of a longer interval in the charge that runs."""
    who = visitor(request)
    try:
        length = typed(form, "interval", "distance" if row["meter_unit"] == "km" else "hours", request)
        if length is None:
            raise InputError("interval", "is missing")
        length = as_proposed(row, length)
        with recording(request) as connection:
            trials.start(
                connection, who.fleet_id, compartment_id, length, form.get("why", ""), who.name, today(request),
                rests_on=form.get("seen", "")[:40],
            )  # fmt: skip
    except InputError as error:
        if form.get("seen"):
            return page(request, compartment_id, f"{error.field.replace('_', ' ')}: {error.why}", form, "Not begun")
        raise
    return RedirectResponse(f"/compartments/{compartment_id}/interval", 303)


@router.post("/compartments/{compartment_id}/decline", dependencies=[needs("approve_interval")])
def decline(request: Request, compartment_id: int, row: CompartmentRow, form: Form) -> Response:
    """Say that a proposal is not followed, and why."""
    who = visitor(request)
    try:
        with recording(request) as connection:
            approval.decline(connection, who.fleet_id, compartment_id, form.get("why", ""), who.name, today(request))
    except InputError as error:
        return page(request, compartment_id, f"{error.field}: {error.why}", form, "Not kept")
    return RedirectResponse(f"/compartments/{compartment_id}/interval", 303)
