"""One compartment: the charge ribbon, its measurands, its samples, and the decision opened up."""

from __future__ import annotations

import math
from datetime import date
from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from markupsafe import Markup
from starlette.exceptions import HTTPException

from vornet.core import measures
from vornet.core.errors import InputError
from vornet.core.measurands import BY_KEY, INDEX
from vornet.flows import compartment as flow
from vornet.flows.compartment import Facts
from vornet.store.database import query
from vornet.web.charts import ribbon
from vornet.web.pages import checked_form, database, figure, needs, render, short_day, today, typed, visitor

router = APIRouter()
#: charges drawn unless all are asked for
RECENT = 9


def _facts(request: Request, compartment_id: int) -> Facts:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        facts = flow.load(connection, compartment_id, today(request))
    if facts is None:
        raise HTTPException(404, "There is no such compartment in this fleet.")
    return facts


def _interval_on(facts: Facts, day: float) -> float | None:
    meter = None
    for version in facts.intervals:
        if math.isnan(day) or version["effective_from"].toordinal() <= day:
            meter = version["meter"] or meter
    return meter


def ribbon_of(facts: Facts, keys: list[str], everything: bool, system: str = measures.SI) -> Markup:
    """The compartment's history as a drawing."""
    charges, samples, unit = facts.charges, facts.loaded.history.samples, facts.unit
    latest = float(facts.loaded.latest_total[0])
    count = len(charges.comp)
    first = 0 if everything or count <= RECENT + 1 else count - RECENT
    first = max(first, 1) if count > 1 else 0
    life = facts.row["running_safe"] or facts.row["interval_meter"]
    decision = facts.row["decision"] or {}
    usual_life = decision.get("safe") or life
    blocks = []
    for h in range(first, count):
        running = h == count - 1
        fill = float(charges.fill[h])
        end = (latest if running else float(charges.end[h]))
        if math.isnan(fill) or math.isnan(end):
            mine = samples.total[charges.charge_of == h]
            if not len(mine) or np.isnan(mine).all():
                continue
            fill, end = float(np.nanmin(mine)), float(np.nanmax(mine)) if math.isnan(end) else end
        grade = charges.magnet[h]
        hours = max(end - fill, 0)
        title = f"Charge {charges.number[h]}: {figure(hours)} {unit}" + (", running" if running else "")
        if not running:
            title += f", drained at {figure(end)} {unit}"
        if grade == grade:
            title += f", magnet grade {grade:.0f}"
        blocks.append(ribbon.Block(
            fill, max(end, fill + 1e-6), life if running else usual_life, _interval_on(facts, float(charges.fill_day[h])),
            running, not math.isnan(charges.fill[h]), title, None if grade != grade else int(grade),
        ))  # fmt: skip
    shown = charges.charge_of >= first
    at = np.where(np.isnan(samples.total), charges.fill[charges.charge_of] + charges.oil_hours, samples.total)
    at = np.where(samples.drained, np.fmin(at, np.where(np.isnan(charges.end[charges.charge_of]), np.inf,
                                                        charges.end[charges.charge_of])), at)  # fmt: skip
    notches = []
    for i in np.flatnonzero(shown & ~np.isnan(at)):
        word = flow.sample_word(facts, int(i))
        known = facts.samples.get(int(facts.loaded.sample_ids[i]), {})
        words = {"run_on": "Run on", "watch": "Watch", "act": "Act", "stop": "Stop", "none": "No verdict", "held": "Held"}
        title = (
            f"{words[word]} (proposed) · sample {known.get('sample_no', '')} · {figure(charges.oil_hours[i])} {unit} on "
            f"this oil · {short_day(date.fromordinal(int(samples.day[i])))} {date.fromordinal(int(samples.day[i])).year}"
        )
        notches.append(ribbon.Notch(float(at[i]), word, title, int(facts.loaded.sample_ids[i])))
    fillings = facts.loaded.history.fillings
    drops = tuple(
        ribbon.Drop(float(fillings.total[i]), float(fillings.in_l[i]))
        for i in np.flatnonzero(charges.charge_of_filling >= first) if fillings.in_l[i] > 0
    )  # fmt: skip
    drains = tuple(float(charges.fill[h]) for h in range(max(first, 1), count))
    panels = tuple(_panel(facts, key, first, at, latest) for key in keys)
    if not blocks:
        return Markup("")
    whole = ribbon.Ribbon(
        tuple(blocks), tuple(notches), drops, panels, unit, start=min(b.fill for b in blocks), drains=drains
    )
    if system == measures.US:
        kind = "distance" if unit == "km" else "hours"
        factor = measures.shown(1.0, kind, system) or 1.0
        whole = ribbon.in_unit(whole, factor, measures.unit(kind, system), lambda text: measures.said(text, system))
    return Markup(ribbon.draw(whole))


def _panel(facts: Facts, key: str, first: int, at: np.ndarray, latest: float) -> ribbon.Panel:
    charges, samples, m = facts.charges, facts.loaded.history.samples, INDEX[key]
    measurand, unit = BY_KEY[key], facts.unit
    x = samples.values[:, m]
    lines, points = [], []
    for h in range(first, len(charges.comp)):
        rows = np.flatnonzero((charges.charge_of == h) & ~np.isnan(x) & ~np.isnan(at))
        good = [i for i in rows if samples.usable[i]]
        line = [(float(at[i]), float(x[i])) for i in sorted(good, key=lambda i: at[i])]
        if not math.isnan(charges.start[h, m]) and not math.isnan(charges.fill[h]) and line:
            line.insert(0, (float(charges.fill[h]), float(charges.start[h, m])))
        if len(line) > 1:
            lines.append(tuple(line))
        for i in rows:
            known = facts.samples.get(int(facts.loaded.sample_ids[i]), {})
            held = not samples.usable[i]
            title = (
                f"{measurand.name} {figure(x[i], measurand.decimals)} {measurand.unit} · sample {known.get('sample_no', '')}"
                f" · {figure(charges.oil_hours[i])} {unit} on this oil{' · held' if held else ''}"
            )
            points.append(ribbon.Point(float(at[i]), float(x[i]), title, int(facts.loaded.sample_ids[i]), held))
    watch: list[float] = []
    act: list[float] = []
    if len(samples.comp):
        for side in ("low", "high"):
            for out, which in ((watch, 0), (act, 1)):
                limit = facts.judgement.past.limits[side][which][-1, m]
                if math.isfinite(limit):
                    out.append(round(float(limit), 3))
    base = facts.baselines.get(key)
    band = None
    if base and base["n"] >= 10:
        band = (max(base["mean"] - 2 * base["sd"], 0.0), base["mean"] + 2 * base["sd"])
    return ribbon.Panel(
        key, measurand.name, measurand.unit, tuple(lines), tuple(points), tuple(watch), tuple(act), band,
        _cones(facts, key, latest),
    )  # fmt: skip


def _cones(facts: Facts, key: str, latest: float) -> tuple[ribbon.Cone, ...]:
    """The running charge's forecast, solid from its last sample on; the next charge's, dashed."""
    guess, charges, m = flow.forecast(facts, key), facts.charges, INDEX[key]
    interval = facts.row["interval_meter"]
    running = len(charges.comp) - 1
    fill = float(charges.fill[running])
    if guess is None or not interval or math.isnan(fill):
        return ()
    samples = facts.loaded.history.samples
    mine = np.flatnonzero((charges.charge_of == running) & samples.usable & ~np.isnan(samples.values[:, m]))
    begin, level, noise = 0.0, float(charges.start[running, m]), 0.0
    if len(mine):
        i = mine[np.argmax(charges.oil_hours[mine])]
        begin, level, noise = float(charges.oil_hours[i]), float(samples.values[i, m]), guess.sd
    if math.isnan(level):
        return ()
    end = max(interval, latest - fill)

    def cone(origin: float, at: float, y: float, noise: float, until: float, solid: bool) -> ribbon.Cone | None:
        if until <= at:
            return None
        points = []
        for step in range(7):
            h = (until - at) * step / 6
            middle = y + guess.slope * h
            reach = guess.t * math.sqrt((guess.slope_sd * h) ** 2 + noise**2)
            points.append((origin + at + h, max(middle - reach, 0.0), max(middle, 0.0), middle + reach))
        return ribbon.Cone(tuple(points), solid)

    share = (facts.row["decision"] or {}).get("residual_share") or 0.0
    fresh = float(facts.loaded.history.oils.new[charges.oil[running], m])
    fresh = 0.0 if math.isnan(fresh) else fresh
    ended = level + guess.slope * max(end - begin, 0)
    following = share * ended + (1 - share) * fresh
    cones = (
        cone(fill, begin, level, noise, end, True),
        cone(fill + end, 0.0, following, 0.0, interval, False),
    )
    return tuple(c for c in cones if c is not None)


def _context(request: Request, facts: Facts, asked: list[str], everything: bool) -> dict[str, Any]:
    keys = flow.panels_asked(facts, asked)
    trends = {key: flow.trend_of(facts, key) for key in keys}
    return {
        "row": facts.row, "unit": facts.unit, "keys": keys, "measured": [BY_KEY[k] for k in flow.measured(facts)],
        "drawing": ribbon_of(facts, keys, everything, visitor(request).measures),
        "everything": everything, "facts": facts, "by_key": BY_KEY,
        "decision": facts.row["decision"], "trends": trends, "charges": len(facts.charges.comp) - 1, "recent": RECENT,
        "use": flow.oil_use(facts), "change": flow.change_of_oil(facts),
    }  # fmt: skip


@router.get("/compartments/{compartment_id}", dependencies=[needs("see")])
def show(request: Request, compartment_id: int, all: int = 0) -> Response:
    """What has happened in here."""
    facts = _facts(request, compartment_id)
    asked = request.query_params.getlist("m")
    context = _context(request, facts, asked, bool(all))
    part = request.headers.get("HX-Request") and request.query_params.get("part") == "charts"
    return render(request, "charts.html" if part else "compartment.html", **context)


@router.get("/compartments/{compartment_id}/samples/{sample_id}", dependencies=[needs("see")])
def sample(request: Request, compartment_id: int, sample_id: int) -> Response:
    """One sample opened."""
    facts = _facts(request, compartment_id)
    detail = flow.sample_detail(facts, sample_id)
    if detail is None:
        raise HTTPException(404, "There is no such sample in this compartment.")
    part = request.headers.get("HX-Request")
    return render(request, "sample_part.html" if part else "sample.html", row=facts.row, unit=facts.unit, s=detail)


@router.post("/compartments/{compartment_id}/interval", dependencies=[needs("approve_interval")])
async def approve(request: Request, compartment_id: int) -> Response:
    """Approve an interval, by name."""
    form = await checked_form(request)
    who = visitor(request)
    with database(request).fleet(who.fleet_id) as connection:
        row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
        if row is None:
            raise HTTPException(404, "There is no such compartment in this fleet.")
        meter = typed(form, "interval", "distance" if row["meter_unit"] == "km" else "hours", request)
        if meter is None:
            raise InputError("interval", "is missing")
        proposed = (row["decision"] or {}).get("proposed")
        if proposed and abs(meter - proposed) < 1e-4 * proposed:
            meter = proposed  # the proposal as shown in the fleet's unit, sent back
        flow.approve(
            connection, who.fleet_id, compartment_id, meter, str(form.get("why", "")), who.name, today(request)
        )
    return RedirectResponse(f"/compartments/{compartment_id}#decision", 303)
