"""Logging a drain: figures that follow as one types, checks, and the charge that starts with it."""

from __future__ import annotations

import json
import math
import uuid
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from vornet.core import concession, measures, volumes
from vornet.core.errors import InputError
from vornet.core.measurands import BY_KEY, INDEX, KEYS
from vornet.core.meter import running_total
from vornet.flows.house import fleets, meters
from vornet.store import queue
from vornet.store.database import Connection, query

AIR_FILTERS = ("clean", "dusty", "blocked", "leaking")
MAGNET = ("clean", "fine fuzz", "a few flecks", "thick furry build-up", "slivers or chips")
#: a meter gains at most this much a day (h, km)
MOST_PER_DAY = {"h": 24.0, "km": 2000.0}


@dataclass
class DrainForm:
    """What was typed, as text; ``errors`` by field."""

    fields: dict[str, str]
    errors: dict[str, str] = field(default_factory=dict)
    system: str = measures.SI

    def amount(self, name: str, kind: str, label: str, low: float = 0.0, high: float = 1e7) -> float | None:
        """A typed quantity in its stored unit (`9.5 qt` is understood), None when blank; notes an error by field."""
        text = self.fields.get(name, "").strip()
        if not text:
            return None
        try:
            value = measures.typed(text, kind, self.system, name)
        except InputError as error:
            self.errors[name] = error.why
            return None
        if not low <= value <= high:
            bounds = [f"{measures.shown(x, kind, self.system):g}" for x in (low, high)]
            self.errors[name] = f"{label} must lie between {bounds[0]} and {bounds[1]} {measures.unit(kind, self.system)}"
            return None
        return value

    def meter(self, unit: str) -> float | None:
        """The meter as typed, in h or km."""
        return self.amount("meter", "distance" if unit == "km" else "hours", "the meter")

    def volume(self, name: str, label: str, low: float = 0.0, high: float = 1e5) -> float | None:
        return self.amount(name, "volume", label, low, high)

    def level(self, name: str) -> float | None:
        try:
            return measures.level(self.fields.get(name, ""), name)
        except InputError as error:
            self.errors[name] = error.why
            return None

    def day(self, today: date) -> date | None:
        text = self.fields.get("on", "").strip() or today.isoformat()
        try:
            on = date.fromisoformat(text)
        except ValueError:
            self.errors["on"] = f"{text[:30]!r} is not a date"
            return None
        if on > today:
            self.errors["on"] = "this day is still to come"
            return None
        return on


@dataclass(frozen=True)
class Figures:
    """What follows from the figures so far; None = not enough typed yet."""

    oil_hours: float | None
    residual_l: float | None
    residual_share: float | None
    assumed: str
    refill_l: float
    first_pour_l: float
    starts: tuple[dict[str, Any], ...]
    next_due: float | None
    due_days: int | None
    gain: float | None


def place(connection: Connection, compartment_id: int) -> dict[str, Any]:
    """The compartment with its unit's latest meter and its last sample. Raises InputError when unknown."""
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    if row is None:
        raise InputError("compartment", "is not in this fleet")
    which = {"unit_id": row["unit_id"], "meter_no": row["meter_no"]}
    row["latest"] = connection.execute(query("board.latest_meter"), which).fetchone()
    row["last"] = connection.execute(query("board.last_sample_values"), {"compartment_id": compartment_id}).fetchone()
    row["oils"] = [o["name"] for o in connection.execute(query("register.oils")).fetchall()]
    row["fresh"] = dict(zip(KEYS, row["new_values"] or (), strict=False))
    row["changes"] = meters.changes_by_meter(connection).get(row["meter_id"], [])
    row["drains"] = connection.execute(query("board.drains_of"), {"compartment_id": compartment_id}).fetchall()
    return row


def figures(row: dict[str, Any], form: DrainForm, today: date) -> Figures:
    """Residual, start of the next charge, refill, next due: from what has been typed so far. Notes errors by field."""
    system = row["system_volume_l"] or (row["capacity_l"] or 0) * 1.05
    on = form.day(today)
    meter = form.meter(row["meter_unit"])
    out_l = form.volume("volume_out_l", "oil out")
    missing = form.volume("level_missing_l", "oil missing", -50)
    filter_changed = form.fields.get("filter_changed", "yes") == "yes"
    if meter is None and "meter" not in form.errors:
        form.errors["meter"] = "the meter is needed"
    oil_hours = gain = None
    if meter is not None and on is not None:
        total = running_total(meter, on.toordinal(), row["changes"])
        oil_hours, gain = _meter_checks(row, form, on, total)
    capacity = row["capacity_l"] or system
    if not filter_changed and row["capacity_without_filter_l"]:
        capacity = row["capacity_without_filter_l"]
    residual, assumed = None, ""
    if system:
        if out_l is not None:
            try:
                residual = volumes.residual_l(system, out_l, missing or 0.0)
            except InputError as error:
                form.errors["level_missing_l" if error.field == "level_missing_l" else "volume_out_l"] = error.why
            assumed = "" if missing is not None else "level not read: taken as full"
        elif "volume_out_l" not in form.errors:
            residual, assumed = max(system - capacity, 0.0), "litres out not measured: system less refill capacity"
    share = None if residual is None or not system else residual / system
    measured = out_l is not None and residual is not None
    target = system - residual if measured and system and residual is not None else capacity
    following = starts(row, share)
    interval, days = row["interval_meter"], None
    return Figures(
        oil_hours, residual, share, assumed, target, 0.9 * target, following,
        meter + interval if meter is not None and interval else None, days, gain,
    )  # fmt: skip


def _meter_checks(row: dict[str, Any], form: DrainForm, on: date, total: float) -> tuple[float | None, float | None]:
    """Oil hours and meter gain; notes a meter that goes back or jumps."""
    unit, latest = row["meter_unit"], row["latest"]
    gain = None
    if latest is not None:
        known = running_total(latest["meter"], latest["on_day"].toordinal(), row["changes"])
        gain = total - known
        days = (on - latest["on_day"]).days
        if days >= 0 and gain < -0.5:
            form.errors["meter"] = f"the meter goes back: it read {latest['meter']:,.0f} {unit} on {latest['on_day']}"
        elif days >= 0 and gain > MOST_PER_DAY[unit] * (days + 1):
            form.errors["meter"] = f"{gain:,.0f} {unit} more in {days} days cannot be"
        elif days < 0 and gain > 0.5:
            form.errors["meter"] = f"ahead of the reading of {latest['on_day']}: {latest['meter']:,.0f} {unit}"
    before = [d for d in row["drains"] if d["on_day"] < on]
    if not before:
        return None, gain
    fill = running_total(before[0]["meter"], before[0]["on_day"].toordinal(), row["changes"])
    if total < fill and "meter" not in form.errors:
        form.errors["meter"] = f"below the last drain's {before[0]['meter']:,.0f} {unit} on {before[0]['on_day']}"
    return total - fill, gain


def starts(row: dict[str, Any], share: float | None) -> tuple[dict[str, Any], ...]:
    """What the next charge starts with: f·old + (1−f)·new oil, from the last sample of the charge that ends."""
    last, drains = row["last"], row["drains"]
    if share is None or last is None or (drains and last["sampled_on"] <= drains[0]["on_day"]):
        return ()
    out = []
    for key in ("fe", "cu", "si", "soot_pct"):
        old, new = last["values"][INDEX[key]], row["fresh"].get(key, math.nan)
        if old == old:
            start = share * old + (1 - share) * (0.0 if math.isnan(new) else new)
            out.append({"m": BY_KEY[key], "old": old, "start": start})
    return tuple(out)


@dataclass(frozen=True)
class Poured:
    """The oil that went in: its id, and what is kept beside it (weather, batch, level after, concession)."""

    oil_id: int | None
    facts: dict[str, Any]


def concession_reasons(connection: Connection, row: dict[str, Any], form: DrainForm) -> list[str]:
    """Why the chosen oil in this weather would be a concession; empty when it is not."""
    oils = {o["name"]: o for o in connection.execute(query("register.oils")).fetchall()}
    chosen = form.fields.get("oil", "").strip() or row["oil"]
    if not chosen:
        return []
    if chosen not in oils:
        form.errors["oil"] = f"there is no oil named {chosen!r} in the register"
        return []
    ambient = form.amount("ambient_c", "temperature", "the air temperature", -60, 70)
    facts = row["facts"]
    bands = [concession.Band(b["oil"], b.get("min_c"), b.get("max_c"), bool(b.get("alternative"))) for b in facts.get("oils", ())]
    return concession.reasons(
        chosen, row["oil"], bands, ambient, facts.get("required_approvals", ()), oils[chosen]["facts"].get("approvals", ())
    )


def _poured(connection: Connection, row: dict[str, Any], form: DrainForm) -> Poured:
    """Check the oil that went in; one outside the register's needs a reason, which is kept as a concession."""
    reasons = concession_reasons(connection, row, form)
    chosen = form.fields.get("oil", "").strip() or row["oil"]
    why = form.fields.get("concession", "").strip()[:500]
    if reasons and not why:
        form.errors["concession"] = "; ".join(reasons) + ": say why it goes in all the same"
    facts: dict[str, Any] = {
        "ambient_c": form.amount("ambient_c", "temperature", "the air temperature", -60, 70),
        "batch": form.fields.get("batch", "").strip()[:120], "reading_after": form.level("reading_after"),
        "concession": f"{'; '.join(reasons)}. {why}" if reasons and why else "",
    }  # fmt: skip
    oil_id = next((o["oil_id"] for o in connection.execute(query("register.oils")).fetchall() if o["name"] == chosen), None)
    return Poured(oil_id, {k: v for k, v in facts.items() if v not in (None, "")})


def log(
    connection: Connection, fleet_id: int, compartment_id: int, form: DrainForm, by: str, today: date,
    facts: dict[str, Any] | None = None,
) -> int | None:  # fmt: skip
    """Check and keep a drain, then evaluate its compartment. None when something is wrong (``form.errors``).

    ``facts``: what a job saw beside the form, kept with the drain. The form's client id makes a second
    sending of the same form change nothing.
    """
    row = place(connection, compartment_id)
    figures(row, form, today)
    on = form.day(today)
    volume_in = form.volume("volume_in_l", "oil in")
    if volume_in is not None and row["system_volume_l"] and volume_in > 1.25 * row["system_volume_l"]:
        form.errors["volume_in_l"] = f"{volume_in:g} L is more than the {row['system_volume_l']:g} L the system holds"
    magnet = form.fields.get("magnet_grade", "")
    if magnet not in ("", "0", "1", "2", "3", "4"):
        form.errors["magnet_grade"] = "a grade from 0 to 4"
    air = form.fields.get("air_filter", "")
    if air not in ("", *AIR_FILTERS):
        form.errors["air_filter"] = f"one of {', '.join(AIR_FILTERS)}"
    kind = form.fields.get("volume_out_kind", "measured")
    out_l = form.volume("volume_out_l", "oil out")
    poured = _poured(connection, row, form)
    try:
        client = uuid.UUID(form.fields.get("client_id", ""))
    except ValueError:
        client = uuid.uuid4()
    again = connection.execute(query("board.drain_by_client"), {"client_id": client}).fetchone()
    if again:
        return int(again["drain_id"])
    if on is not None:
        same = connection.execute(query("board.drain_on_day"), {"compartment_id": compartment_id, "on": on}).fetchone()
        if same:
            form.errors["on"] = f"a drain on {on} is on record already, at {same['meter']:,.0f} {row['meter_unit']}"
    if form.errors:
        return None
    saved = connection.execute(
        query("board.put_drain"),
        {
            "fleet_id": fleet_id, "compartment_id": compartment_id, "on": on, "meter": form.meter(row["meter_unit"]),
            "volume_out_l": out_l, "volume_in_l": volume_in,
            "volume_out_kind": "unknown" if out_l is None else ("estimated" if kind == "estimated" else "measured"),
            "level_missing_l": form.volume("level_missing_l", "oil missing", -50),
            "oil_id": poured.oil_id, "extra": json.dumps({**(facts or {}), **poured.facts}),
            "filter_changed": form.fields.get("filter_changed", "yes") == "yes",
            "magnet_grade": int(magnet) if magnet else None, "air_filter": air or None,
            "sample_no": form.fields.get("sample_no", "").strip()[:80] or None,
            "note": form.fields.get("note", "").strip()[:2000], "client_id": client, "by": by,
        },
    ).fetchone()  # fmt: skip
    assert saved is not None
    fleets.audit(
        connection, fleet_id, by, "drain logged", f"{row['unit']} {row['compartment']}", on=str(on),
        meter=form.fields.get("meter"), out_l=out_l, in_l=volume_in, **poured.facts,
    )  # fmt: skip
    if poured.facts.get("concession"):
        fleets.audit(connection, fleet_id, by, "oil concession", f"{row['unit']} {row['compartment']}", on=str(on), **poured.facts)
    queue.touch(connection, fleet_id, [compartment_id])
    return int(saved["drain_id"])
