"""Job cards: the list, making one, the card, the steps at the unit, and what devices send."""

from __future__ import annotations

import json
import re
import uuid
from datetime import UTC, date, datetime, timedelta
from typing import Any

from fastapi import APIRouter, Depends, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response
from markupsafe import Markup
from starlette.exceptions import HTTPException

from vornet.api.bodies import Raw, takes
from vornet.core import cautions, measures, measuring, seen, written_day
from vornet.core import drain as drains
from vornet.core import job as rules
from vornet.core.errors import InputError
from vornet.flows.house import days
from vornet.flows.judge import trials
from vornet.flows.pages import board, looks
from vornet.flows.pages import rows as rows_of
from vornet.flows.register import units
from vornet.flows.work import cards, entries, my_day, noted, notes, photos, put_off, reopen, series
from vornet.io.equipment import READINGS, TIGHTENING
from vornet.store.database import Connection
from vornet.web import forms
from vornet.web.charts import grades
from vornet.web.pages import (
    ASSUMED,
    Form,
    OpenForm,
    compartment_row,
    database,
    day_of,
    from_here,
    hand,
    needs,
    opened,
    recording,
    render,
    today,
    visitor,
)
from vornet.words import writing
from vornet.words.writing import figure

router = APIRouter()
#: paths that a device's job key opens, session or not
DEVICE_PATH = re.compile(r"^/jobs/(\d+)/(entries|photos)$")
LARGEST_SENDING = 4_000_000


def _card(request: Request, job_id: int) -> dict[str, Any]:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = cards.card(connection, job_id, today(request))
    if found is None:
        raise HTTPException(404, "There is no such job card in this fleet.")
    return found


@router.get("/jobs", dependencies=[needs("see")])
def show_list(request: Request, state: str = "todo") -> Response:
    """Job cards, what is to do first; what was put off beside them."""
    who = visitor(request)
    with database(request).fleet(who.fleet_id) as connection:
        found = cards.cards(connection, state)
        waiting = put_off.deferred(connection)
        mine = my_day.day(connection, who, today(request)) if found["state"] == "todo" else {}
        depots, works_at = my_day.depots(connection), my_day.works_at(connection, who)
    return render(
        request, "jobs.html", **found, groups=mine, group_words=my_day.GROUPS, depots=depots, works_at=works_at, put_off=waiting,
        state_words=cards.STATE_WORDS, defer_words=cards.DEFER_WORDS,
    )  # fmt: skip


@router.get("/units/{unit_id}/job", dependencies=[needs("log_work")])
def new(request: Request, unit_id: int, compartment: int | None = None, bottle: int | None = None) -> Response:
    """What a visit to this unit is for: what is due is ticked already."""
    return _new(request, unit_id, compartment, "", bottle)


def _new(request: Request, unit_id: int, compartment: int | None, error: str, bottle: int | None = None) -> Response:
    day = today(request)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = units.page(connection, unit_id, day)
        if found is None:
            raise HTTPException(404, "There is no such unit in this fleet.")
        waiting = rows_of.open_job(connection, unit_id)
        trial_of = {t["compartment_id"]: t for t in trials.listed(connection) if t["state"] == "running"}
    soon = day + timedelta(days=21)
    return render(
        request, "job_new.html", 422 if error else 200, **opened(found), soon=soon, chosen=compartment, error=error, waiting=waiting,
        bottle=bottle, trial_of=trial_of,
        plan_words=units.plan_words,
    )  # fmt: skip


@router.post("/units/{unit_id}/job", dependencies=[needs("log_work")])
def make(request: Request, unit_id: int, form: Form) -> Response:
    who = visitor(request)
    try:
        on = day_of(form.get("on"), "on", today(request))
        with recording(request) as connection:
            job_id = cards.make(
                connection, who.fleet_id, unit_id, form.ids("compartment"), form.ids("item"), on, form.get("sample") == "yes",
                form.get("note", ""), who.name, form.ids("bottle"), _part_tasks(form.many("part")),
            )  # fmt: skip
    except InputError as error:
        return _new(request, unit_id, None, error.why)
    return RedirectResponse(f"/jobs/{job_id}/do" if form.get("go") else f"/jobs/{job_id}", 303)


def _part_tasks(chosen: list[str]) -> list[tuple[str, int]]:
    """Filters, magnetic filters and breathers as the form names them: task, then compartment."""
    pairs = [text.partition(":") for text in chosen]
    return [(task, int(number)) for task, _, number in pairs if number.isdigit()]


@router.get("/jobs/{job_id}", dependencies=[needs("see")])
def show(request: Request, job_id: int) -> Response:
    """The card: what is needed, what is done, how it ended."""
    found = _card(request, job_id)
    return render(request, "job_card.html", **_words(opened(found)))


def _words(found: dict[str, Any]) -> dict[str, Any]:
    return {
        **found, "state_words": cards.STATE_WORDS, "magnet_words": rules.MAGNET, "looks": rules.OIL_LOOKS,
        "filter_looks": rules.FILTER_LOOKS, "air_filters": rules.AIR_FILTERS, "air_actions": rules.AIR_ACTIONS,
        "strainer_looks": rules.STRAINER_LOOKS, "as_found": rules.AS_FOUND, "ways": rules.WAYS, "warmth": rules.WARMTH,
        "stops": rules.STOPS, "defer_words": cards.DEFER_WORDS, "tightening": TIGHTENING, "readings": READINGS,
    }  # fmt: skip


@router.post("/jobs/{job_id}/cancel", dependencies=[needs("log_work")])
def cancel(request: Request, job_id: int, form: Form) -> Response:
    who = visitor(request)
    with recording(request) as connection:
        cards.cancel(connection, who.fleet_id, job_id, form.get("why", ""), who.name)
    return RedirectResponse("/jobs", 303)


@router.post("/jobs/{job_id}/restore", dependencies=[needs("log_work")])
def restore(request: Request, job_id: int, form: Form) -> Response:
    """A card cancelled by mistake."""
    who = visitor(request)
    with recording(request) as connection:
        reopen.restore(connection, who.fleet_id, job_id, form.get("why", ""), who.name)
    return RedirectResponse(f"/jobs/{job_id}", 303)


@router.post("/jobs/{job_id}/parts/{part_id}/reopen", dependencies=[needs("log_work")])
def reopen_part(request: Request, job_id: int, part_id: int, form: Form) -> Response:
    """A part closed by mistake, opened again with the reason."""
    who = visitor(request)
    with recording(request) as connection:
        reopen.reopen(connection, who.fleet_id, job_id, part_id, form.get("why", ""), who.name, today(request))
    return RedirectResponse(f"/jobs/{job_id}", 303)


@router.get("/compartments/{compartment_id}/oil-change", dependencies=[needs("log_work")])
def oil_change(request: Request, compartment_id: int) -> Response:
    """What a change of oil takes here, as a series of drain-and-fills."""
    return _oil_change(request, compartment_id, {})


def _oil_change(request: Request, compartment_id: int, form: dict[str, str], error: str = "") -> Response:
    day, row = today(request), compartment_row(request, compartment_id)
    values = {"oil": row["oil"] or "", "target": "5", "on": day.isoformat(), "apart": "1", **form}
    found = None
    with database(request).fleet(visitor(request).fleet_id) as connection:
        oils = rows_of.oil_names(connection)
        try:
            found = series.plan(connection, compartment_id, *_series(values, hand(request), day), day)
        except InputError as problem:
            error = error or problem.why
    status = 422 if error and form else 200
    return render(request, "oil_change.html", status, row=opened(row), values=values, oils=oils, found=found, error=error)


def _series(values: dict[str, str], by: Any, day: date) -> tuple[str, float, date, int]:
    share = measures.number(values.get("target", "").rstrip("% ") or "5", "target", by.mark) / 100
    apart = measures.number(values.get("apart", "") or "1", "apart", by.mark)
    if apart != int(apart):
        raise InputError("apart", "whole days")
    return values.get("oil", ""), share, day_of(values.get("on"), "on", day), int(apart)


@router.post("/compartments/{compartment_id}/oil-change", dependencies=[needs("log_work")])
def make_series(request: Request, compartment_id: int, form: Form) -> Response:
    """The cards of the series; ``do=look`` only says what it would take."""
    who, day = visitor(request), today(request)
    if form.get("do") != "look":
        try:
            with recording(request) as connection:
                made = series.make(connection, who.fleet_id, compartment_id, *_series(form, hand(request), day), who.name, day)
        except InputError as error:
            return _oil_change(request, compartment_id, dict(form), error.why)
        return RedirectResponse(f"/jobs/{made[0]}", 303)
    return _oil_change(request, compartment_id, dict(form))


# ---- at the unit -----------------------------------------------------------------------------------------------
def screens(found: dict[str, Any]) -> list[dict[str, Any]]:
    """One step a screen, in order: the kit, then every compartment's own steps (safe and meter once), then items."""
    out: list[dict[str, Any]] = [{"part": None, "step": rules.Step("kit", "Is it all here?"), "p": None}]
    once: set[tuple[str, int]] = set()
    for p in found["parts"]:
        if p["compartment_id"] is None:
            out.append({"part": p["part_id"], "step": rules.Step("item", p["title"]), "p": p})
            continue
        for step in p["steps"]:
            key = (step.key, p["meter_no"] if step.key == "meter" else 0)
            if step.key in ("safe", "meter"):
                if key in once:
                    continue
                once.add(key)
            out.append({"part": p["part_id"], "step": step, "p": p})
    return out


#: kinds of quantities that are typed at the unit
PHONE_KINDS = ("volume", "hours", "distance", "temperature", "mass", "length", "pressure", "torque")


def job_rules() -> dict[str, float]:
    """The figures that the phone's rules share with core's."""
    return {
        "system_over_refill": drains.SYSTEM_OVER_REFILL, "first_share": drains.FIRST_SHARE, "full_from": drains.FULL_FROM,
        "full_to": drains.FULL_TO, "out_slack": drains.OUT_SLACK, "poured_share": drains.POURED_SHARE, "poured_l": drains.POURED_L,
    }  # fmt: skip


def _device_data(request: Request, found: dict[str, Any], token: str, last: dict[Any, dict[str, Any]]) -> dict[str, Any]:
    system, day = visitor(request).measures, today(request)
    liters = measures.shown(1.0, "volume", system) or 1.0
    parts = {}
    for p in found["parts"]:
        if p["compartment_id"] is None:
            continue
        d, place = p["document"], p["place"]
        meter_kind = "distance" if place["meter_unit"] == "km" else "hours"
        parts[p["part_id"]] = {
            "title": p["title"], "task": p["task"], "system": d.get("system_volume_l"), "capacity": d.get("capacity_l"),
            "without": d.get("capacity_without_filter_l"), "marks": d.get("volume_between_marks_l"),
            "filters": bool(d.get("filters")), "pack": p["kit"].pack_l,
            "drains": [x["place"] for x in d.get("drain_points", ())] or ["drain"],
            "gate": p["task"] == rules.DRAIN and rules.fills_first(p["kind"], d), "pour": p["schools"].get("pour", "approach"),
            "barred": [b for f in d.get("filters", ()) for b in f.get("barred", ())], **cards.meter_bounds(place, day),
            "starts": cards.start_values(place), "interval": place["after_drain"][0],
            "interval_other": place["after_drain"][1], "oil": place["oil"],
            "meter_no": place["meter_no"],
            "meter_unit": measures.unit(meter_kind, system), "meter_factor": measures.shown(1.0, meter_kind, system),
            "latest": place["latest"]["meter"] if place["latest"] else None,
            "meter_kind": meter_kind,
            "weigh": {"density": p["density_kg_l"], "expansion": measuring.EXPANSION_PER_K, "reference": measuring.REFERENCE_C},
        }  # fmt: skip
    return {
        "id": found["job"]["job_id"], "now": datetime.now(UTC).timestamp() * 1000, "token": token, "me": visitor(request).name,
        "volume": measures.unit("volume", system), "volume_factor": liters, "specs": parts, "rules": job_rules(), "assumed": ASSUMED,
        "mass_factor": measures.shown(1.0, "mass", system),
        "hand": {"mark": hand(request).mark, "day_first": writing.day_first(), "months": written_day.MONTHS,
                 "us": system == measures.US, "kinds": {k: measures.written(k) for k in PHONE_KINDS}},
        "stops": {k: s.do_now for k, s in rules.STOPS.items()},
        "last_photos": {
            f"{p['part_id']}|{place}": {"id": str(row["photo_id"]), "about": row["about"], "on": row["at"].date().isoformat()}
            for p in found["parts"] for (compartment, item, place), row in last.items()
            if (p["compartment_id"], p["item_id"]) == (compartment, item)
        },
    }  # fmt: skip


@router.get("/jobs/{job_id}/do", dependencies=[needs("log_work")])
def do(request: Request, job_id: int) -> Response:
    """The steps, one a screen; works without a connection from the moment it is opened."""
    who = visitor(request)
    with database(request).fleet(who.fleet_id) as connection:
        found = cards.card(connection, job_id, today(request))
        if found is None:
            raise HTTPException(404, "There is no such job card in this fleet.")
        if found["job"]["state"] == "cancelled":
            raise HTTPException(404, "This job was cancelled.")
        begun = entries.begun_by_others(connection, who, job_id)
        token = entries.open_on_device(connection, who, job_id)
        state = entries.standing(connection, job_id)
        last = photos.last_ones(connection, found["job"]["unit_id"], job_id)
    found = opened(found)
    data = _device_data(request, found, token, last) | {"entries": state["entries"], "parts_now": state["parts"]}
    return render(
        request, "job_do.html", here_unit=found["job"]["unit_id"], **_words(found), screens=screens(found),
        data=json.dumps(data, default=str),
        art_magnet=lambda g: Markup(grades.magnet(g)), art_oil=lambda k: Markup(grades.oil(k)),
        art_pleats=lambda k: Markup(grades.pleats(k)), art_level=lambda g: Markup(grades.level(g)),
        art_strainer=lambda k: Markup(grades.strainer(k)), begun=begun,
        last={p["part_id"]: _last_looks(p) for p in found["parts"] if p["compartment_id"] is not None}, caution_of=cautions.of_item,
        bleeds=cautions.bleeds, blown={p["part_id"]: _blown(p) for p in found["parts"] if p["compartment_id"] is not None},
        tightened=rules.TIGHTENED, filter_checks=rules.FILTER_CHECKS, breathers=rules.BREATHERS, part_actions=rules.PART_ACTIONS,
    )  # fmt: skip


def _last_looks(part: dict[str, Any]) -> list[dict[str, Any]]:
    """What was seen at this compartment's last drains, newest first."""
    return [{"on": d["on_day"], "looks": looks.of_drain(d)} for d in part["place"]["drains"][:2]]


def _blown(part: dict[str, Any]) -> int:
    """How often the air filter was blown out since it was new."""
    return seen.times_blown([(d.get("extra") or {}).get("air_action") for d in reversed(part["place"]["drains"])])


def _device_may(request: Request) -> None:
    """Only with a job key (the guard has looked at it), only from our own pages, only who may log work."""
    if not request.headers.get("X-Job-Key") or not from_here(request):
        raise HTTPException(403, "Entries come from the job's own page.")


@router.post("/jobs/{job_id}/entries", dependencies=[needs("log_work"), Depends(_device_may), takes(LARGEST_SENDING)])
def take_entries(request: Request, job_id: int, body: Raw) -> Response:
    """What a device has to say; each entry is kept once, whatever happens to the connection."""
    try:
        sent = json.loads(body)
        rows = sent["entries"]
    except (ValueError, TypeError, KeyError, RecursionError):
        return JSONResponse({"detail": "entries: is not understood"}, 422)
    if not isinstance(rows, list):
        return JSONResponse({"detail": "entries: is not a list"}, 422)
    who = visitor(request)

    try:
        with recording(request) as connection:
            answer = entries.take(connection, who, job_id, rows, datetime.now(UTC), today(request))
    except InputError as error:
        return JSONResponse({"detail": str(error)}, 404)
    return JSONResponse(json.loads(json.dumps(answer | {"now": datetime.now(UTC).timestamp() * 1000}, default=str)))


@router.post("/jobs/{job_id}/photos", dependencies=[needs("log_work"), Depends(_device_may), takes(photos.LARGEST_PHOTO + 100_000)])
def take_photo(request: Request, job_id: int, form: OpenForm) -> Response:
    """One photo from a device."""
    upload, who = form.files.get("file"), visitor(request)
    if upload is None:
        return JSONResponse({"detail": "photo: is missing"}, 422)
    try:
        fresh = photos.photo_drawn(upload.file.read(photos.LARGEST_PHOTO + 1))
        with recording(request) as connection:
            photos.keep_photo(
                connection, who, job_id, form.get("id", ""), form.id("part"), form.get("place", ""), form.get("about", ""), fresh
            )
    except InputError as error:
        return JSONResponse({"detail": str(error)}, 422)
    return JSONResponse({"kept": form.get("id", "")})


@router.get("/jobs/photos/{photo_id}", dependencies=[needs("see")])
def photo(request: Request, photo_id: str) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        row = None
        if re.fullmatch(r"[0-9a-f-]{36}", photo_id):
            row = rows_of.photo(connection, photo_id)
    if row is None:
        raise HTTPException(404, "There is no such photo in this fleet.")
    return Response(bytes(row["content"]), media_type="image/jpeg")


# ---- put off ---------------------------------------------------------------------------------------------------
@router.post("/deferred/{deferred_id}", dependencies=[needs("log_work")])
def close_deferred(request: Request, deferred_id: int, form: Form) -> Response:
    """Dealt with: what was found; for a re-check the level."""
    who = visitor(request)
    with recording(request) as connection:
        put_off.close_deferred(
            connection,
            who.fleet_id,
            deferred_id,
            form.get("finding", ""),
            measures.level(form.get("level", ""), "level", hand(request).mark),
            who.name,
        )
    return RedirectResponse("/jobs", 303)


# ---- in between ------------------------------------------------------------------------------------------------
SYMPTOMS = ("noise", "hard shifting", "hard starting", "lamp", "smell", "smoke", "leak under it", "low power")


def _quick(request: Request, compartment_id: int, error: str = "", saved: str = "") -> Response:
    day = today(request)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        row = compartment_row(request, compartment_id)
        latest = rows_of.latest_meter(connection, row["unit_id"], row["meter_no"])
        sisters = rows_of.sisters(connection, row["unit_id"])
        slip = noted.just_now(connection, compartment_id, visitor(request).name)
        there = max(day, day + days.ahead(connection, compartment_id=compartment_id))
    guess = None
    if latest:
        guess = latest["meter"] + max((day - latest["on_day"]).days, 0) * (row["rate_per_day"] or 0.0)
    return render(
        request, "quick.html", 422 if error else 200, here_unit=row["unit_id"], row=opened(row),
        latest=latest, guess=guess, error=error, saved=saved, there=there,
        symptoms=SYMPTOMS, sisters=sisters, slip=slip, client_id=str(uuid.uuid4()), glass=row["facts"].get("level_method") == "sight_glass",
        event_words=notes.EVENT_WORDS,
    )  # fmt: skip


@router.get("/q", dependencies=[needs("log_work")])
def choose_quick(request: Request, q: str = "") -> Response:
    """Compartments that were noted lately, or found by name."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        if q.strip():
            rows = [r for r in board.find(connection, q, 30) if r["kind"] == "compartment"]
        else:
            rows = put_off.recent(connection)
    return render(request, "quick_choose.html", rows=rows, q=q[:80])


@router.get("/q/{compartment_id}", dependencies=[needs("log_work")])
def quick(request: Request, compartment_id: int, saved: str = "") -> Response:
    """What the QR on a compartment opens: level, top-up, meter, coolant, symptom, part change."""
    return _quick(request, compartment_id, saved=saved[:80])


@router.post("/q/{compartment_id}", dependencies=[needs("log_work")])
def note(request: Request, compartment_id: int, form: Form) -> Response:
    """One thing noted in between; from a phone's script it comes with an id of its own, and counts once."""
    who, day, sent = visitor(request), today(request), request.headers.get("X-Note")
    try:
        said = _note(request, compartment_id, form, who, day, sent)
        if sent:
            return JSONResponse({"said": said})
    except InputError as error:
        if sent:
            return JSONResponse({"detail": str(error)}, 422)
        words = {"meter": "Meter", "litres": "Litres", "reading": "Level", "level": "Level", "on": "Day", "what": "What"}
        return _quick(request, compartment_id, f"{words.get(error.field, error.field)}: {error.why}")
    return RedirectResponse(f"/q/{compartment_id}?saved={said}", 303)


def _note(request: Request, compartment_id: int, form: dict[str, str], who: Any, day: date, sent: str | None) -> str:
    do_, system = form.get("do", ""), hand(request)
    with recording(request) as connection:
        if sent and not notes.heard_first(connection, who.fleet_id, sent, do_):
            return "Kept already"
        row = rows_of.compartment(connection, compartment_id)
        if row is None:
            raise InputError("compartment", "is not in this fleet")
        on = day_of(form.get("on"), "on", day)
        days.check_past(connection, on, day, compartment_id=compartment_id)
        kind = "distance" if row["meter_unit"] == "km" else "hours"
        meter = forms.read(forms.Field("meter", "Meter", kind), form.get("meter", ""), system)
        volume = {k: forms.read(forms.Field(k, k, "volume"), form.get(k, ""), system) for k in ("litres", "litres_out", "litres_in")}
        level, after = (measures.level(form.get(k, ""), k, hand(request).mark) for k in ("level", "level_after"))
        if do_ in ("level", "topup", "meter", "part") and meter is None:
            raise InputError("meter", "is missing")
        if do_ == "level":
            if level is None:
                raise InputError("level", "tap where it stands")
            notes.level_check(connection, who.fleet_id, compartment_id, on, meter, level, who.name, day)
            return "Level kept" + _loss(connection, compartment_id, row)
        if do_ == "topup":
            if volume["litres"] is None:
                raise InputError("litres", "how much went in")
            notes.top_up(connection, who.fleet_id, compartment_id, on, meter, volume["litres"], level, after, who.name, day)
            return "Top-up kept"
        if do_ == "meter":
            notes.read_meter(connection, who.fleet_id, row["unit_id"], row["meter_no"], meter, on, who.name, day)
            return "Meter kept"
        if do_ == "part":
            notes.event(
                connection, who.fleet_id, compartment_id, form.get("kind", "part_change"), on, meter, volume["litres_out"],
                volume["litres_in"], "", form.get("note", ""), who.name, day,
            )  # fmt: skip
            return "Part change kept"
        if do_ in ("symptom", "coolant"):
            put_off.observe(
                connection, who.fleet_id, row["unit_id"], compartment_id, do_, form.get("what", ""), volume["litres"], meter, on,
                form.get("note", ""), form.get("client_id", ""), who.name,
            )  # fmt: skip
            return "Noted"
    raise InputError("what", "choose what to note")


def _loss(connection: Connection, compartment_id: int, row: dict[str, Any]) -> str:
    """What the last stretch lost, by the level just read and the one before it, in words; '' where it cannot be told."""
    found = notes.last_stretch(connection, compartment_id, row["volume_between_marks_l"])
    if found is None:
        return ""
    lost, per_1000, length = found
    if lost <= 0:
        return f": nothing lost in the last {figure(length)} {row['meter_unit']}"
    return f": {figure(lost, 2)} L lost in the last {figure(length)} {row['meter_unit']}, {figure(per_1000, 1)} L per {figure(1000)}"
