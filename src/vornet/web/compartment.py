"""One compartment: the charge ribbon, its measurands, its samples, and the decision opened up."""

from __future__ import annotations

import math
from datetime import date
from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import Response
from markupsafe import Markup
from starlette.exceptions import HTTPException

from vornet.core import forecast, measures, oil_change
from vornet.core.causes import NAMES
from vornet.core.measurands import BY_KEY, INDEX, WEAR_METALS
from vornet.core.rates import without_top_ups
from vornet.flows.judge import verdicts
from vornet.flows.lab import held_samples
from vornet.flows.pages import compartment as flow
from vornet.flows.pages.compartment import Facts
from vornet.flows.work import noted, notes
from vornet.web.charts import overlay, ribbon
from vornet.web.pages import (
    NO_COMPARTMENT,
    database,
    needs,
    render,
    today,
    visitor,
)
from vornet.words.writing import day, figure

router = APIRouter()
#: charges drawn unless all are asked for
RECENT = 9


def facts_of(request: Request, compartment_id: int) -> Facts:
    """A compartment of the visitor's fleet, worked; 404 when there is none."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        facts = flow.load(connection, compartment_id, today(request))
    if facts is None:
        raise HTTPException(404, NO_COMPARTMENT)
    return facts


_EVENT_WORDS = {
    "part_change": "Part changed", "repair": "Repaired", "overhaul": "Overhauled", "component_exchange": "Exchanged", "finding": "Found",
    "seen": "Seen at the drain", "noticed": "Noticed",
}  # fmt: skip


def _found(event: dict[str, Any]) -> str:
    cause, _, rest = str(event["note"]).partition(":")
    named = NAMES.get(cause, "nothing wrong" if cause == "nothing" else "something else" if cause == "other" else cause)
    return f"{named}{':' + rest if rest else ''}" if event["kind"] == "finding" else str(event["note"])


def _interval_on(facts: Facts, day: float) -> float | None:
    meter = None
    for version in facts.intervals:
        if math.isnan(day) or version["effective_from"].toordinal() <= day:
            meter = version["meter"] or meter
    return meter


def _planned(facts: Facts, fill: float) -> tuple[ribbon.Mark, ...]:
    """Bottles of a trial that runs, still to be drawn."""
    t = next((t for t in facts.trials if t["state"] == "running"), None)
    if t is None or math.isnan(fill):
        return ()
    return tuple(
        ribbon.Mark(fill + s["at"], f"Bottle for the trial at {figure(s['at'])} {facts.unit} on this oil")
        for s in t["progress"].get("steps", ())
        if s["state"] in ("ahead", "late")
    )


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
        end = latest if running else float(charges.end[h])
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
        how = f"signed by {known['signed_by']}" if known.get("signed") is not None else "proposed"
        title = (
            f"{words[word]} ({how}) · sample {known.get('sample_no', '')} · {figure(charges.oil_hours[i])} {unit} on "
            f"this oil · {day(date.fromordinal(int(samples.day[i])))}"
        )
        notches.append(ribbon.Notch(float(at[i]), word, title, int(facts.loaded.sample_ids[i]), flow.is_signed(facts, int(i))))
    fillings = facts.loaded.history.fillings
    drops = tuple(
        ribbon.Drop(float(fillings.total[i]), float(fillings.in_l[i]))
        for i in np.flatnonzero(charges.charge_of_filling >= first) if fillings.in_l[i] > 0
    )  # fmt: skip
    drains = tuple(float(charges.fill[h]) for h in range(max(first, 1), count))
    marks = tuple(
        ribbon.Mark(
            float(e["total"]),
            f"{_EVENT_WORDS.get(e['kind'], e['kind'])} {day(e['on_day'])}" + (f": {_found(e)}" if e["note"] else ""),
        )
        for e in facts.events
    )
    panels = tuple(_panel(facts, key, first, at, latest) for key in keys)
    if not blocks:
        return Markup("")
    whole = ribbon.Ribbon(tuple(blocks), tuple(notches), drops, panels, unit, start=min(b.fill for b in blocks), drains=drains, marks=marks,
                          planned=_planned(facts, float(charges.fill[-1]) if count else math.nan))  # fmt: skip
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
    interval = facts.row["interval_meter"]
    share = (facts.row["decision"] or {}).get("residual_share") or 0.0
    found = forecast.cones(facts.loaded.history, facts.charges, key, interval, latest, share) if interval else []
    return tuple(ribbon.Cone(cone.points, cone.running) for cone in found)


#: how a compartment's values can be laid out
VIEWS = {"": "along the meter", "over": "charges over one another", "date": "along the calendar", "sisters": "beside sister units"}


def _lines(facts: Facts, key: str, view: str, c: int, sister: bool) -> list[overlay.Line]:
    """The charges of compartment ``c`` (a row of what is loaded) as lines of one measurand."""
    charges, samples, m = facts.charges, facts.loaded.history.samples, INDEX[key]
    mine = np.flatnonzero(charges.comp == c)
    newest = int(mine[-1])
    shown = mine[-3:] if sister else mine[-RECENT:]
    r, out = facts.loaded.register[c], []
    for h in shown.tolist():
        rows = np.flatnonzero((charges.charge_of == h) & samples.usable & ~np.isnan(samples.values[:, m]) & ~np.isnan(charges.oil_hours))
        rows = rows[np.argsort(charges.oil_hours[rows])]
        if not len(rows):
            continue
        along = samples.day[rows] if view == "date" else charges.oil_hours[rows]
        points = list(zip(along.astype(float).tolist(), samples.values[rows, m].tolist(), strict=True))
        start, day = float(charges.start[h, m]), float(charges.fill_day[h])
        if not math.isnan(start) and not math.isnan(charges.fill[h]):
            points.insert(0, (day if view == "date" else 0.0, start))
        place = f"{r['unit']} {r['name']}, " if sister else ""
        weight = 1.0 if h == newest else max(0.0, 1 - (newest - h) / RECENT)
        if not sister and view == "over" and key in WEAR_METALS:
            out += _undiluted(facts, key, rows, start, int(charges.number[h]))
        out.append(overlay.Line(tuple(points), f"{place}charge {charges.number[h]}{', running' if h == newest else ''}", weight, sister))
    return out


def _undiluted(facts: Facts, key: str, rows: np.ndarray, start: float, number: int) -> list[overlay.Line]:
    """What a charge would have shown without top-ups, where that differs: its start and the ledger's rises added up."""
    rates = facts.rates
    would = without_top_ups(start, rates.rise_100h[rows, WEAR_METALS.index(key)], rates.from_h[rows], rates.to_h[rows])
    if np.isnan(would).any():
        return []
    shown = facts.loaded.history.samples.values[rows, INDEX[key]]
    if np.all(np.abs(would - shown) < 0.04 * np.maximum(shown, 1.0)):
        return []
    points = ((0.0, start), *zip(facts.charges.oil_hours[rows].tolist(), would.tolist(), strict=True))
    return [overlay.Line(points, f"charge {number}, without top-ups", 0.5, undiluted=True)]


def overlay_of(request: Request, facts: Facts, keys: list[str], view: str) -> Markup:
    """Charges over one another, by hours on oil, by date, or beside those of the family's other units."""
    who, wide, own = visitor(request), facts, 0
    if view == "sisters":
        with database(request).fleet(who.fleet_id) as connection:
            wide, own = flow.with_family(connection, facts, today(request))
    sheets = []
    for key in keys:
        m, measurand = INDEX[key], BY_KEY[key]
        lines = [line for c in range(len(wide.loaded.register)) for line in _lines(wide, key, view, c, c != own)]
        limits: dict[int, tuple[float, ...]] = {0: (), 1: ()}
        if len(facts.loaded.history.samples.comp):
            for which in (0, 1):
                found = (float(facts.judgement.past.limits[side][which][-1, m]) for side in ("low", "high"))
                limits[which] = tuple(round(x, 3) for x in found if math.isfinite(x))
        sheets.append(overlay.Sheet(measurand.name, measurand.unit, tuple(lines), limits[0], limits[1]))
    xs = [x for s in sheets for line in s.lines for x, _ in line.points]
    if not xs:
        return Markup("")
    if view == "date":
        first, last = date.fromordinal(int(min(xs))), date.fromordinal(int(max(xs)))
        months = [date(y, mo, 1) for y in range(first.year, last.year + 1) for mo in (1, 4, 7, 10)]
        ticks = [(float(d.toordinal()), f"{d:%b %Y}") for d in months if first <= d <= last]
        return Markup(overlay.draw(sheets, "", (min(xs), max(xs)), ticks))
    kind = "distance" if facts.unit == "km" else "hours"
    factor = measures.shown(1.0, kind, who.measures) or 1.0
    ticks = [(t / factor, f"{figure(t)} {measures.unit(kind, who.measures)}") for t in ribbon.nice_ticks(0.0, max(xs) * factor, 8)]
    return Markup(overlay.draw(sheets, facts.unit, (0.0, max(xs)), ticks))


def _context(request: Request, facts: Facts, asked: list[str], everything: bool, view: str = "") -> dict[str, Any]:
    keys = flow.panels_asked(facts, asked)
    view = view if view in VIEWS else ""
    trends = {key: forecast.pace(facts.loaded.history, facts.charges, key) for key in keys}
    return {
        "row": facts.row, "unit": facts.unit, "keys": keys, "measured": [BY_KEY[k] for k in flow.measured(facts)],
        "drawing": overlay_of(request, facts, keys, view) if view else ribbon_of(facts, keys, everything, visitor(request).measures),
        "view": view, "views": VIEWS,
        "everything": everything, "facts": facts, "by_key": BY_KEY,
        "decision": facts.row["decision"], "trends": trends, "charges": len(facts.charges.comp) - 1, "recent": RECENT,
        "use": flow.oil_use(facts), "change": oil_change.change_of_oil(facts.loaded.history, facts.charges, facts.loaded.oil_names),
    }  # fmt: skip


@router.get("/compartments/{compartment_id}", dependencies=[needs("see")])
def show(request: Request, compartment_id: int, all: int = 0, view: str = "") -> Response:
    """What has happened in here."""
    facts = facts_of(request, compartment_id)
    asked = request.query_params.getlist("m")
    context = _context(request, facts, asked, bool(all), view)
    if request.headers.get("HX-Request") and request.query_params.get("part") == "charts":
        return render(request, "charts.html", **context)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        made = noted.listed(connection, compartment_id)
    return render(request, "compartment.html", **context, notes_made=made, event_words=notes.EVENT_WORDS)


@router.get("/compartments/{compartment_id}/samples/{sample_id}", dependencies=[needs("see")])
def sample(request: Request, compartment_id: int, sample_id: int) -> Response:
    """One sample opened."""
    facts = facts_of(request, compartment_id)
    detail = flow.sample_detail(facts, sample_id)
    if detail is None:
        raise HTTPException(404, "There is no such sample in this compartment.")
    with database(request).fleet(visitor(request).fleet_id) as connection:
        versions, heard = held_samples.history_of(connection, sample_id), verdicts.heard(connection, sample_id)
    part = request.headers.get("HX-Request")
    template = "sample_part.html" if part else "sample.html"
    around = flow.around(facts, detail)
    return render(request, template, row=facts.row, unit=facts.unit, s=detail, versions=versions, heard=heard, around=around)
