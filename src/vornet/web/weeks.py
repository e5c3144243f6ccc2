"""The weeks: visits by depot and day, moved by hand or worked out anew; crew hours, units' days."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.core import crew, measures
from vornet.core.errors import InputError
from vornet.flows.house import days
from vornet.flows.pages import board
from vornet.flows.plan import planned
from vornet.flows.weeks import calendar, depots, kit, levelling, tasks
from vornet.io import calendar_file
from vornet.web.charts import weeks as chart
from vornet.web.pages import (
    Form,
    Posted,
    begins,
    database,
    hand,
    inside,
    maybe_day,
    needs,
    number_like,
    number_of,
    recording,
    render,
    today,
    visitor,
)
from vornet.words.writing import short_day

router = APIRouter(prefix="/weeks")
NO_VISIT = "There is no such visit in the plan of this fleet."


def span_of(request: Request, first: str, weeks: int) -> tuple[date, int]:
    """(first day, weeks) asked for: the week that runs, four of them, unless said."""
    weeks = weeks if weeks in calendar.SPANS else calendar.SPANS[0]
    try:
        on = maybe_day(first, "from") or today(request)
    except InputError:
        on = today(request)
    return kit.week_of(on, begins(request))[0], weeks


def _address(first: date, weeks: int, depot: str = "", pick: int = 0, show: str = "") -> str:
    from urllib.parse import urlencode

    asked = {"from": first.isoformat(), "weeks": weeks, "depot": depot, "pick": pick or "", "show": show}
    return "/weeks?" + urlencode({k: v for k, v in asked.items() if v != ""})


@router.get("", dependencies=[needs("see")])
def show(
    request: Request, weeks: int = 4, depot: str = "", pick: int = 0, show: str = "", said: str = "", error: str = ""
) -> Response:  # fmt: skip
    """Visits on their days by depot, what could not be placed, and the plan that waits for a yes."""
    first, weeks = span_of(request, request.query_params.get("from", ""), weeks)
    day, who = today(request), visitor(request)
    with database(request).fleet(who.fleet_id) as connection:
        waiting = levelling.proposal(connection)
        proposed = waiting["plan"] if waiting and waiting["state"] == "ready" and show == "proposed" else None
        found = calendar.read(connection, who.fleet_id, day, first, weeks, depot[:120], proposed)
        picked = calendar.pick(connection, who.fleet_id, pick, day, first, weeks * 7) if pick and not proposed else None
        depot_names = board.depots(connection)
        undated = tasks.undated(connection)
    drawn = chart.draw(found, day, lambda v: _address(first, weeks, depot, v.visit_id), pick, short_day)
    return render(
        request, "weeks.html", found=found, drawn=drawn, first=first, last=first + timedelta(days=weeks * 7 - 1), weeks=weeks, depot=depot,
        depots=depot_names, picked=picked, strip=chart.strip(picked, first, weeks * 7) if picked else None, proposal=waiting,
        proposed=proposed is not None, undated=undated, spans=calendar.SPANS, here=_address(first, weeks, depot),
        state_words=chart.STATE_WORDS,
        before=_address(first - timedelta(days=weeks * 7), weeks, depot), after=_address(first + timedelta(days=weeks * 7), weeks, depot),
        said=said[:200], error=error[:300], kinds=crew.KIND_WORDS, fits=calendar.fits, address=lambda n: _address(first, n, depot),
        as_proposed=_address(first, weeks, depot, show="proposed"), on_phone=_by_day(found, day),
        this_week=kit.week_of(day, begins(request))[0],
        tones=chart.tones((0.3, 0.65, 0.9, 1.0, 1.2)), to_pick=lambda i: _address(first, weeks, depot, i),
    )  # fmt: skip


def _by_day(found: calendar.Weeks, day: date) -> list[tuple[date, list[tuple[str, calendar.Day]]]]:
    """The days to come that have visits, with the depots', for a narrow page."""
    by_day: dict[date, list[tuple[str, calendar.Day]]] = {}
    for row in found.rows:
        for d in row.days:
            if d.visits and d.on >= day:
                by_day.setdefault(d.on, []).append((row.name, d))
    return sorted(by_day.items())


@router.get("/visits/{visit_id}", dependencies=[needs("see")])
def picked(request: Request, visit_id: int, weeks: int = 4, depot: str = "") -> Response:
    """One visit opened: its window, and what every day for it would cost."""
    first, weeks = span_of(request, request.query_params.get("from", ""), weeks)
    who = visitor(request)
    with database(request).fleet(who.fleet_id) as connection:
        found = calendar.pick(connection, who.fleet_id, visit_id, today(request), first, weeks * 7)
    if found is None:
        raise HTTPException(404, NO_VISIT)
    return render(
        request, "weeks_picked.html", picked=found, strip=chart.strip(found, first, weeks * 7), here=_address(first, weeks, depot[:120]),
        fits=calendar.fits, state_words=chart.STATE_WORDS,
    )  # fmt: skip


# ---- a plan is worked out --------------------------------------------------------------------------------------
@router.post("/propose", dependencies=[needs("plan_weeks")])
def propose(request: Request, form: Form) -> Response:
    """Have a plan worked out; a worker does it while the page says how far it is."""
    who = visitor(request)
    with recording(request) as connection:
        levelling.ask(connection, who.fleet_id, today(request), number_of(form.get("days", "28"), "days"), who.name)
    return RedirectResponse(inside(form.get("back", ""), "/weeks"), 303)


@router.get("/proposal", dependencies=[needs("see")])
def proposal_now(request: Request) -> Response:
    """How far the plan is that is worked out; asked again while it is."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = levelling.proposal(connection)
    response = render(request, "weeks_proposal.html", proposal=found, proposed=False, as_proposed="", here="/weeks")
    if found is None or found["state"] != "working":
        response.headers["HX-Refresh"] = "true"
    return response


@router.post("/proposal/{proposal_id}/{answer}", dependencies=[needs("plan_weeks")])
def answer(request: Request, proposal_id: int, answer: str, form: Form) -> Response:
    """Take the plan, or leave it."""
    who, back = visitor(request), inside(form.get("back", ""), "/weeks")
    if answer not in ("accept", "drop"):
        raise HTTPException(404, "accept or drop")
    try:
        with recording(request) as connection:
            if answer == "accept":
                n = levelling.accept(connection, who.fleet_id, proposal_id, who.name, today(request))
                return RedirectResponse(_with(back, "said", f"{n} visits stand in the plan"), 303)
            levelling.drop(connection, who.fleet_id, proposal_id, who.name)
    except InputError as error:
        return RedirectResponse(_with(back, "error", error.why), 303)
    return RedirectResponse(back, 303)


def _with(address: str, key: str, value: str) -> str:
    from urllib.parse import quote

    return f"{address}{'&' if '?' in address else '?'}{key}={quote(value)}"


# ---- by hand ---------------------------------------------------------------------------------------------------
@router.post("/visits/{visit_id}/{what}", dependencies=[needs("plan_weeks")])
def change(request: Request, visit_id: int, what: str, form: Form) -> Response:
    """Move, fix, let go, take out, make its card, say what it took."""
    who, day, back = visitor(request), today(request), inside(form.get("back", ""), "/weeks")
    try:
        with recording(request) as connection:
            if what == "move":
                on = maybe_day(form.get("on"), "on")
                if on is None:
                    raise InputError("on", "choose a day")
                levelling.move(connection, who.fleet_id, visit_id, on, who.name, day, form.id("depot"))
            elif what in ("fix", "let-go"):
                levelling.fix(connection, who.fleet_id, visit_id, what == "fix", who.name)
            elif what == "cancel":
                levelling.cancel(connection, who.fleet_id, visit_id, form.get("why", ""), who.name, day)
                return RedirectResponse(back, 303)
            elif what == "card":
                v = levelling.visit(connection, visit_id)
                if v is None or v["state"] != "planned":
                    raise HTTPException(404, NO_VISIT)
                job_id = v["job_id"] or levelling.make_card(connection, who.fleet_id, v, who.name)
                if not job_id:
                    raise InputError("visit", "there is nothing on it that a job card is made of")
                return RedirectResponse(f"/jobs/{job_id}", 303)
            elif what == "took":
                hours = measures.number(form.get("hours", ""), "hours", hand(request).mark) if form.get("hours", "").strip() else None
                if hours is None:
                    raise InputError("hours", "how long did it take")
                levelling.set_took(connection, who.fleet_id, visit_id, hours, who.name)
            else:
                raise HTTPException(404, "There is no such step.")
    except InputError as error:
        return RedirectResponse(_with(_with(back, "pick", str(visit_id)), "error", error.why), 303)
    return RedirectResponse(_with(back, "pick", str(visit_id)), 303)


@router.post("/cards", dependencies=[needs("plan_weeks")])
def make_cards(request: Request, form: Form) -> Response:
    """Job cards for every visit of a week that has none."""
    who, back = visitor(request), inside(form.get("back", ""), "/weeks")
    first, last = kit.week_of(maybe_day(form.get("week"), "week") or today(request), begins(request))
    with recording(request) as connection:
        made = levelling.make_cards(connection, who.fleet_id, max(first, today(request)), last, form.id("depot"), who.name)
    return RedirectResponse(_with(back, "said", f"{len(made)} job cards made"), 303)


@router.get("/units/{unit_id}", dependencies=[needs("plan_weeks")])
def unit_new(request: Request, unit_id: int, error: str = "") -> Response:
    """What is due on a unit, to be put on a day by hand; and the days it is at its depot."""
    who, day = visitor(request), today(request)
    with database(request).fleet(who.fleet_id) as connection:
        terms = depots.terms(connection, who.fleet_id)
        due = [d for d in tasks.due_by(connection, day, day + timedelta(days=levelling.FAR_DAYS), terms) if d.unit_id == unit_id]
        unit = levelling.unit(connection, unit_id)
        rows = depots.rota_rows(connection, unit_id)
        visits = planned.next_by_key(connection, [d.task.key for d in due])
    if unit is None:
        raise HTTPException(404, "There is no such unit in this fleet.")
    rota = crew.rota_of(rows[0]["rule"]) if rows else None
    spans = calendar_file.spans([date.fromordinal(d) for d in rota.days if d >= day.toordinal()]) if rota else []
    return render(
        request, "weeks_unit.html", 422 if error else 200, unit=unit, due=sorted(due, key=lambda d: d.task.due), visits=visits, rota=rota,
        rota_words=depots.rota_words(rota) if rota else "", weekdays=depots.WEEKDAYS, error=error, day_of=tasks.day_of, spans=spans[:12],
        anchor=date.fromordinal(rota.anchor) if rota and rota.anchor else day,
    )  # fmt: skip


@router.post("/units/{unit_id}", dependencies=[needs("plan_weeks")])
def unit_put(request: Request, unit_id: int, form: Form) -> Response:
    """Put what is due on a day."""
    who = visitor(request)
    try:
        on = maybe_day(form.get("on"), "on")
        if on is None:
            raise InputError("on", "choose a day")
        with recording(request) as connection:
            visit_id = levelling.put_by_hand(connection, who.fleet_id, unit_id, on, form.many("task"), who.name, today(request))
    except InputError as error:
        return unit_new(request, unit_id, f"{error.field}: {error.why}")
    return RedirectResponse(_address(kit.week_of(on, begins(request))[0], 4, "", visit_id), 303)


@router.post("/units/{unit_id}/days", dependencies=[needs("plan_weeks")])
def unit_days(request: Request, unit_id: int, form: Form) -> Response:
    """The days on which a unit is at its depot: any, weekdays, a rotation, by name, or from a calendar file."""
    who = visitor(request)
    try:
        rule = _rule(form, today(request))
        with recording(request) as connection:
            if rule is None:
                depots.drop_rota(connection, who.fleet_id, unit_id, who.name)
            else:
                depots.set_rota(connection, who.fleet_id, unit_id, rule, who.name)
    except InputError as error:
        return unit_new(request, unit_id, f"{error.field}: {error.why}")
    return RedirectResponse(f"/weeks/units/{unit_id}", 303)


def _rule(form: Posted, day: date) -> dict[str, Any] | None:
    kind = form.get("kind", "")
    if "file" in form.files:
        return depots.rota_from_calendar(form.files["file"].file.read(calendar_file.LARGEST_FILE + 1), day)
    if kind == "any":
        return None
    if kind == "weekdays":
        return {"kind": "weekdays", "weekdays": form.ids("weekday")}
    if kind == "rotation":
        there, away = number_of(form.get("there"), "there"), number_of(form.get("away"), "away")
        return {"kind": "rotation", "anchor": form.get("anchor", ""), "there": there, "away": away}
    if kind == "days":
        return {"kind": "days", "days": form.get("days", "").replace(",", " ").split()}
    raise InputError("kind", "choose how the days are told")


# ---- crew ------------------------------------------------------------------------------------------------------
@router.get("/depots", dependencies=[needs("see")])
def depots_page(request: Request, error: str = "", said: str = "") -> Response:
    """Crew hours and bays by weekday, days that are different, hours by kind of work, units with days of their own."""
    who, day = visitor(request), today(request)
    with database(request).fleet(who.fleet_id) as connection:
        found = list(depots.all_of(connection, day, 400).values())
        terms = depots.terms(connection, who.fleet_id)
        other = depots.days_of(connection, day, 400)
        rotas = [r | {"words": depots.rota_words(crew.rota_of(r["rule"]))} for r in depots.rota_rows(connection)]
    return render(
        request, "weeks_depots.html", 422 if error else 200, found=found, terms=terms, other=other, rotas=rotas, weekdays=depots.WEEKDAYS,
        kinds=crew.KIND_WORDS, usual=crew.USUAL_H, names={d.depot_id: d.name for d in found}, zones=days.zones(), error=error,
        said=said[:200],
    )  # fmt: skip


def _figure(form: Posted, name: str, request: Request) -> float | None:
    text = form.get(name, "").strip()
    return measures.number(text, name, hand(request).mark) if text else None


@router.post("/depots", dependencies=[needs("plan_weeks")])
def depots_change(request: Request, form: Form) -> Response:
    """Crew hours of a depot, a day that is different, or hours by kind of work."""
    who, what = visitor(request), form.get("what", "")
    try:
        with recording(request) as connection:
            if what == "week":
                hours = [_figure(form, f"hours_{i}", request) or 0.0 for i in range(7)]
                bays = [form.get(f"bays_{i}", "").strip() for i in range(7)]
                counted = [int(b) if number_like(b) else 0 for b in bays] if any(bays) else None
                depots.set_week(connection, who.fleet_id, form.id("depot") or 0, hours, counted, who.name)
                if "zone" in form:
                    depots.set_zone(connection, who.fleet_id, form.id("depot") or 0, form.get("zone", ""), who.name)
            elif what == "day":
                first, last = maybe_day(form.get("on"), "on"), maybe_day(form.get("until"), "until")
                if first is None:
                    raise InputError("on", "choose a day")
                last = last or first
                if not 0 <= (last - first).days <= 60:
                    raise InputError("until", "from the first day to two months after it")
                for i in range((last - first).days + 1):
                    on, hours_there = first + timedelta(days=i), _figure(form, "hours", request) or 0.0
                    depots.set_day(
                        connection, who.fleet_id, form.id("depot"), on, hours_there, form.id("bays"), form.get("why", ""), who.name
                    )
            elif what == "drop-day":
                on = maybe_day(form.get("on"), "on") or today(request)
                depots.drop_day(connection, who.fleet_id, form.id("depot") or 0, on, who.name)
            elif what == "hours":
                said = {k: _figure(form, f"hours_{k}", request) for k in crew.USUAL_H}
                set_up, worth = _figure(form, "set_up_h", request), _figure(form, "visit_worth_h", request)
                depots.set_terms(connection, who.fleet_id, said, 0.0 if set_up is None else set_up, 0.0 if worth is None else worth, who.name)
            else:
                raise InputError("what", "choose what to set")
    except InputError as error:
        return depots_page(request, error=f"{error.field.replace('_', ' ')}: {error.why}")
    return RedirectResponse("/weeks/depots?said=Kept", 303)
