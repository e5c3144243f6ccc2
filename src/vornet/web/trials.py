"""Trials: begun at one compartment or a few of a family, followed bottle by bottle, adopted or fallen back from, rolled out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from markupsafe import Markup
from starlette.exceptions import HTTPException

from vornet.core import measures
from vornet.core.errors import InputError
from vornet.flows.judge import trials as flow
from vornet.io import tables
from vornet.web.charts import trial as chart
from vornet.web.pages import Form, database, inside, needs, opened, recording, render, sheet, today, typed, visitor
from vornet.words.writing import figure

router = APIRouter()
#: what stands against one of a family following, said on the page
AGAINST = {
    "there": "runs as long already", "fault": "a fault is open", "cap": "beyond its cap", "unknown": "its own oil has not been told yet",
    "oil": "its own oil does not last so long", "guard": "a rule of its own policy",
}  # fmt: skip
#: which trials are shown: key, words, which fit
FILTERS: tuple[tuple[str, str, Callable[[dict[str, Any]], bool]], ...] = (
    ("all", "All", lambda t: True), ("running", "On trial", lambda t: t["state"] == "running"),
    ("ripe", "May be adopted", lambda t: t["state"] == "running" and t["progress"].get("word") == "ripe"),
    ("late", "A bottle late or missed", lambda t: t["state"] == "running" and any(
        s["state"] in ("late", "missed") for s in t["progress"].get("steps", ()))),
    ("stopped", "Stopped", lambda t: t["state"] == "stopped"), ("adopted", "Adopted", lambda t: t["state"] == "adopted"),
    ("fell_back", "Fell back", lambda t: t["state"] == "fell_back"),
)  # fmt: skip
ORDERS: dict[str, tuple[str, Callable[[dict[str, Any]], Any]]] = {
    "first": ("urgency", lambda t: 0), "unit": ("unit", lambda t: (t["unit"], t["compartment"])),
    "family": ("family", lambda t: (t["family"], t["unit"])), "next": ("next bottle", lambda t: (t["next_day"] is None, t["next_day"])),
    "gain": ("how much longer", lambda t: -t["length"] / t["before"]),
}  # fmt: skip
STATES = {"running": "running", "ripe": "may be adopted", "unread": "ended without its bottle", "stop": "stopped"}


def strip(request: Request, t: dict[str, Any]) -> Markup:
    """A trial's strip in the reader's units."""
    kind = "distance" if t["meter_unit"] == "km" else "hours"
    system = visitor(request).measures
    factor, unit = measures.shown(1.0, kind, system) or 1.0, measures.unit(kind, system)
    steps = t["progress"].get("steps") or [{"at": at, "state": "ahead", "drawn_at": None, "verdict": None} for at in t["steps"]]
    on_oil = t["oil_hours"] if t["state"] == "running" else None
    return Markup(chart.strip(steps, t["before"], t["length"], on_oil, lambda h: f"{figure(h * factor)} {unit}", f"trial{t['trial_id']}"))


def _back(form: Form, otherwise: str) -> Response:
    return RedirectResponse(inside(form.get("back", otherwise), otherwise), 303)


def _page(request: Request, error: str = "", form: Form | None = None, status: int = 200) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = flow.listed(connection)
        counts = {key: sum(fits(t) for t in rows) for key, _, fits in FILTERS}
        rollouts = flow.rollouts(connection)
        families = flow.families(connection)
        family = (form.get("family", "") if form else request.query_params.get("family", ""))[:120]
        mates = flow.mates(connection, family) if family else []
    usual = Counter(m["proposed_meter"] for m in mates if m["outcome"] == "lengthen" and m["proposed_meter"]).most_common(1)
    show, by = request.query_params.get("show", "all"), request.query_params.get("by", "first")
    fits = next((f for key, _, f in FILTERS if key == show), FILTERS[0][2])
    rows = sorted(filter(fits, rows), key=ORDERS[by][1]) if by in ORDERS and by != "first" else list(filter(fits, rows))
    return render(
        request, "trials.html", status, rows=rows, counts=counts, filters=FILTERS, show=show, by=by, orders=ORDERS,
        rollouts=rollouts, families=families, family=family, mates=mates, error=error,
        usual=usual[0][0] if usual else None,
        form=opened(form or {}), strip=lambda t: strip(request, t), state_words=flow.STATE_WORDS, words=STATES, tab="trials",
    )  # fmt: skip


@router.get("/decide/trials", dependencies=[needs("see_intervals")])
def show(request: Request) -> Response:
    """Every trial, what needs somebody first; roll-outs; a new one."""
    return _page(request)


@router.get("/decide/trials.csv", dependencies=[needs("export")])
def as_csv(request: Request) -> Response:
    """Every trial as CSV."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = flow.listed(connection)
    return sheet(tables.as_csv(tables.for_people([flow.flat(t) for t in rows])), "trials.csv")


@router.post("/trials/{trial_id}/adopt", dependencies=[needs("approve_interval")])
def adopt(request: Request, trial_id: int, form: Form) -> Response:
    """The tried length becomes the interval, by name."""
    who = visitor(request)
    with recording(request) as connection:
        flow.adopt(connection, who.fleet_id, trial_id, form.get("why", ""), who.name, today(request))
    return _back(form, "/decide/trials")


@router.post("/trials/{trial_id}/fall-back", dependencies=[needs("approve_interval")])
def fall_back(request: Request, trial_id: int, form: Form) -> Response:
    """End a trial and run again what was run before."""
    who = visitor(request)
    with recording(request) as connection:
        flow.fall_back(connection, who.fleet_id, trial_id, form.get("why", ""), who.name, today(request))
    return _back(form, "/decide/trials")


@router.post("/trials/{trial_id}/seen", dependencies=[needs("approve_interval")])
def seen(request: Request, trial_id: int, form: Form) -> Response:
    """Take note that a trial stopped."""
    who = visitor(request)
    with recording(request) as connection:
        flow.take_note(connection, who.fleet_id, trial_id, who.name)
    return _back(form, "/decide/trials")


@router.post("/decide/roll-outs", dependencies=[needs("approve_interval")])
def roll_out(request: Request, form: Form) -> Response:
    """Begin trials of one length on a few compartments of a family."""
    who = visitor(request)
    try:
        kind = "distance" if form.get("counts") == "km" else "hours"
        length = typed(form, "interval", kind, request)
        if length is None:
            raise InputError("interval", "is missing")
        with recording(request) as connection:
            made, refused = flow.roll_out(
                connection, who.fleet_id, form.get("family", "")[:120], length, form.ids("id"), form.get("why", ""), who.name, today(request)
            )
    except InputError as error:
        return _page(request, f"{error.field}: {error.why}", form, 422)
    return _rollout(request, made, refused=refused)


def _rollout(request: Request, rollout_id: int, error: str = "", done: int = 0, refused: Any = (), status: int = 200) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = flow.rollout(connection, rollout_id)
    if found is None:
        raise HTTPException(404, "There is no such roll-out in this fleet.")
    return render(
        request, "rollout.html", status, **opened(found), error=error, done=done, refused=refused, strip=lambda t: strip(request, t),
        state_words=flow.STATE_WORDS, words=STATES, against=AGAINST, needed=flow.TRIALS_NEEDED,
    )  # fmt: skip


@router.get("/decide/roll-outs/{rollout_id}", dependencies=[needs("see_intervals")])
def show_rollout(request: Request, rollout_id: int) -> Response:
    """A family's roll-out: its trials, and what each of the rest's own oil says."""
    return _rollout(request, rollout_id)


@router.post("/decide/roll-outs/{rollout_id}", dependencies=[needs("approve_interval")])
def follow_suit(request: Request, rollout_id: int, form: Form) -> Response:
    """Approve the tried length for the chosen rest, or close the roll-out."""
    who = visitor(request)
    try:
        with recording(request) as connection:
            if form.get("close"):
                flow.close(connection, who.fleet_id, rollout_id, form.get("closing", ""), who.name, today(request))
                return RedirectResponse("/decide/trials", 303)
            done, refused = flow.follow_suit(connection, who.fleet_id, rollout_id, form.ids("id"), who.name, today(request))
    except InputError as error:
        return _rollout(request, rollout_id, f"{error.field}: {error.why}", status=422)
    return _rollout(request, rollout_id, done=len(done), refused=refused, status=422 if refused and not done else 200)
