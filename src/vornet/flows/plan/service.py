"""Service plans: items in and out, what was done, and when each is due."""

from __future__ import annotations

import json
import math
from collections import defaultdict
from datetime import date, timedelta
from typing import Any, Protocol

import numpy as np

from vornet.core import due as due_rules
from vornet.core import meter as meter_rules
from vornet.core import plan
from vornet.core.errors import InputError
from vornet.flows.house import days, fleets, meters
from vornet.io.equipment import READINGS, ServiceItem
from vornet.io.register_file import Problem, RegisterFile
from vornet.store import bulk, queue
from vornet.store.database import Connection, query

#: the columns that make an item due
RULES = ("every_meter", "every_days", "every_nth", "nth_of", "first_meter", "season", "condition")
#: what an item may ride on besides another item of its unit
OIL_DRAIN = "oil drain"


class Counted(Protocol):
    """What a load reports into: how many of each, and what was wrong."""

    counts: dict[str, int]
    problems: list[Problem]


def parameters(fleet_id: int, unit_id: int, compartment_id: int | None, counts: str, item: ServiceItem) -> dict[str, object]:
    """What ``register.put_item`` binds. ``counts``: h or km, as the meter of the item's place counts."""
    given = item.model_dump(mode="json", exclude_unset=True)
    columns = {"unit", "compartment", "item", "every_h", "every_km", "every_days", "every_nth", "nth_of", "first_h",
               "first_km", "season", "condition"}  # fmt: skip
    facts = {k: v for k, v in given.items() if k not in columns and v not in (None, "", [], {})}
    return {
        "fleet_id": fleet_id, "unit_id": unit_id, "compartment_id": compartment_id, "name": item.item,
        "every_meter": item.every_km if counts == "km" else item.every_h, "every_days": item.every_days,
        "every_nth": item.every_nth, "nth_of": item.nth_of,
        "first_meter": item.first_km if counts == "km" else item.first_h, "season": item.season,
        "condition": item.condition, "facts": json.dumps(facts),
    }  # fmt: skip


def fits_meter(item: ServiceItem, counts: str) -> None:
    """Raise InputError when an item's figures are all in the other meter's unit: it would never come due."""
    wrong = item.every_h if counts == "km" else item.every_km
    own = item.every_km if counts == "km" else item.every_h
    if wrong and not own:
        name = "every_h" if counts == "km" else "every_km"
        raise InputError(name, f"this meter counts {counts}: give every_{counts}")


def load(connection: Connection, fleet_id: int, document: RegisterFile, report: Counted, by: str) -> None:
    """A register file's service items and what was done."""
    if not document.service_items and not document.service_records:
        return
    places = _places(connection)
    rows, names = [], {(r["unit"], r["compartment"], r["item"].casefold()) for r in _items(connection)}
    names |= {(i.unit, i.compartment, i.item.casefold()) for _, i in document.service_items}
    for n, item in document.service_items:
        where = f"service_items[{n}]"
        place = places.get((item.unit, item.compartment))
        if place is None:
            report.problems.append(_no_place(where, places, item.unit, item.compartment))
            continue
        try:
            fits_meter(item, place["counts"])
            _rides_on(item, names)
        except InputError as error:
            report.problems.append(Problem(where, error.field, error.why))
            continue
        rows.append(parameters(fleet_id, place["unit_id"], place["compartment_id"], place["counts"], item))
    with connection.cursor() as cursor:
        cursor.executemany(query("register.put_item"), rows)
    report.counts["service_items"] = len(rows)
    ids = {(r["unit"], r["compartment"], r["item"]): r["item_id"] for r in _items(connection)}
    records = {}
    for n, record in document.service_records:
        item_id = ids.get((record.unit, record.compartment, record.item))
        if item_id is None:
            at = f" on {record.compartment}" if record.compartment else ""
            why = f"{record.unit} has no service item {record.item!r}{at}"
            report.problems.append(Problem(f"service_records[{n}]", "item", why))
            continue
        records[(item_id, record.on)] = [item_id, record.on, record.meter, record.outcome, json.dumps(record.reading), record.note]
    added, _ = bulk.append(connection, bulk.RECORDS, fleet_id, records.values(), by, "register file")
    report.counts["service_records"] = added


def _items(connection: Connection, units: list[int] | None = None) -> list[dict[str, Any]]:
    return connection.execute(query("register.service_items"), {"units": units}).fetchall()


def _places(connection: Connection) -> dict[tuple[str, str | None], dict[str, Any]]:
    out: dict[tuple[str, str | None], dict[str, Any]] = {}
    for u in connection.execute(query("register.units")).fetchall():
        out[(u["name"], None)] = {"unit_id": u["unit_id"], "compartment_id": None, "counts": u["meter_unit"]}
    for c in connection.execute(query("register.compartments"), {"today": date.max, "only": None}).fetchall():
        out[(c["unit"], c["name"])] = {
            "unit_id": c["unit_id"], "compartment_id": c["compartment_id"], "counts": c["meter_unit"],
        }  # fmt: skip
    return out


def _no_place(where: str, places: dict[Any, Any], unit: str, compartment: str | None) -> Problem:
    if (unit, None) not in places:
        return Problem(where, "unit", f"there is no unit named {unit!r}")
    return Problem(where, "compartment", f"unit {unit!r} has no compartment {compartment!r}")


def _rides_on(item: ServiceItem, names: set[tuple[str, str | None, str]]) -> None:
    if not item.nth_of:
        return
    if item.nth_of.casefold() == OIL_DRAIN:
        if item.compartment is None:
            raise InputError("nth_of", "an item that rides on the oil drain needs its compartment")
        return
    if not {(item.unit, None, item.nth_of.casefold()), (item.unit, item.compartment, item.nth_of.casefold())} & names:
        raise InputError("nth_of", f"{item.unit} has no service item {item.nth_of!r}, so this never comes due")


def ordinal(n: int) -> str:
    return plan.ordinal_word(n)


def check(item: ServiceItem, known: list[dict[str, Any]], counts: str) -> None:
    """Raise InputError when an item could never come due where it is put."""
    fits_meter(item, counts)
    mine = [r for r in known if r["unit"] == item.unit]
    _rides_on(item, {(r["unit"], r["compartment"], r["item"].casefold()) for r in mine})
    _no_circle(item, mine)


def put(connection: Connection, fleet_id: int, item: ServiceItem, by: str) -> None:
    """Add or change one item. Raises InputError naming the field."""
    place = _places(connection).get((item.unit, item.compartment))
    if place is None:
        raise InputError("compartment" if item.compartment else "unit", "is not in this fleet")
    mine = _items(connection, [place["unit_id"]])
    check(item, mine, place["counts"])
    was = next((r for r in mine if (r["compartment"], r["item"]) == (item.compartment, item.item)), None)
    connection.execute(
        query("register.put_item"),
        parameters(fleet_id, place["unit_id"], place["compartment_id"], place["counts"], item),
    )
    fleets.audit(
        connection, fleet_id, by, "service item changed" if was else "service item added",
        " ".join(filter(None, [item.unit, item.compartment, item.item])), **item.model_dump(mode="json", exclude_none=True),
    )  # fmt: skip
    queue.touch_plans(connection, fleet_id, [place["unit_id"]])


def _no_circle(item: ServiceItem, mine: list[dict[str, Any]]) -> None:
    rides = {r["item"].casefold(): (r["nth_of"] or "").casefold() for r in mine}
    rides[item.item.casefold()] = (item.nth_of or "").casefold()
    seen, at = set(), item.item.casefold()
    while rides.get(at):
        if at in seen:
            raise InputError("nth_of", f"{item.item} and {item.nth_of} ride on each other, so neither comes due")
        seen.add(at)
        at = rides[at]


def remove(connection: Connection, fleet_id: int, item_id: int, by: str) -> None:
    """Take an item out of the plan; what was done stays in the audit trail."""
    row = connection.execute(query("register.remove_item"), {"item_id": item_id}).fetchone()
    if row is None:
        raise InputError("item", "is not in this fleet")
    fleets.audit(connection, fleet_id, by, "service item removed", row["name"])


def record(
    connection: Connection, fleet_id: int, item_id: int, on: date, meter: float | None, outcome: str,
    reading: dict[str, Any], note: str, by: str, today: date,
) -> None:  # fmt: skip
    """Note that an item was done, looked at or not done; the due dates of its unit follow."""
    item = next(iter(connection.execute(query("plan.item"), {"item_id": item_id}).fetchall()), None)
    if item is None:
        raise InputError("item", "is not in this fleet")
    days.check_past(connection, on, today, unit_id=item["unit_id"])
    if outcome not in ("done", "looked_at", "not_done"):
        raise InputError("outcome", "done, looked at or not done")
    if outcome == "not_done" and not note.strip():
        raise InputError("note", "say why it was not done")
    bulk.append(
        connection, bulk.RECORDS, fleet_id,
        [[item_id, on, meter, outcome, json.dumps(reading), note.strip()[:2000]]], by, "corrected",
    )  # fmt: skip
    fleets.audit(
        connection, fleet_id, by, f"service {outcome.replace('_', ' ')}",
        " ".join(filter(None, [item["unit"], item["compartment"], item["item"]])), on=str(on), meter=meter, reading=reading,
    )  # fmt: skip
    queue.touch_plans(connection, fleet_id, [item["unit_id"]])


def take_back(connection: Connection, fleet_id: int, item_id: int, record_id: int, why: str, by: str) -> None:
    """A record of something that was not done: it stays, with the reason, and counts no more. Raises InputError by field."""
    if not why.strip():
        raise InputError("why", "say in a few words what was wrong with it")
    row = connection.execute(
        query("plan.record_back"), {"item_id": item_id, "record_id": record_id, "why": why.strip()[:300]}
    ).fetchone()  # fmt: skip
    if row is None:
        raise InputError("record", "is not there, or was put right meanwhile")
    about = " ".join(filter(None, [row["unit"], row["compartment"], row["item"]]))
    fleets.audit(connection, fleet_id, by, "service taken back", about, was=str(row["on_day"]), why=why.strip())
    queue.touch_plans(connection, fleet_id, [row["unit_id"]])


def refresh(connection: Connection, today: date, units: list[int] | None = None) -> None:
    """Work out anew when the items of some units (or all) are due."""
    items = _items(connection, units)
    if not items:
        return
    done: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for r in connection.execute(query("register.service_records"), {"units": units}).fetchall():
        done[r["item_id"]].append(r)
    meters = _Meters(connection, units, today)
    drains: dict[int, list[int]] = defaultdict(list)
    for r in connection.execute(query("register.drain_days"), {"units": units}).fetchall():
        drains[r["compartment_id"]].append(r["on_day"].toordinal())
    standing = {r["compartment_id"]: r for r in connection.execute(query("plan.oil_drains_due"), {"units": units}).fetchall()}
    work = _Work(items, done, meters, drains, standing, today.toordinal())
    rows = []
    for r in items:
        found = work.due(r)
        last = work.last(r["item_id"])
        day = None
        if found.day is not None and math.isfinite(found.day) and 1 < found.day < 3_600_000:
            day = date.fromordinal(int(found.day))
        fresh = (found.total, day, found.driver, found.rest, last and last["on_day"], last and last["meter"])
        if fresh != tuple(r[k] for k in ("due_meter", "due_day", "driver", "to_due", "last_day", "last_meter")):
            keys = ("due_meter", "due_day", "driver", "to_due", "last_day", "last_meter")
            rows.append({"item_id": r["item_id"], **dict(zip(keys, fresh, strict=True))})
    with connection.cursor() as cursor:
        cursor.executemany(query("register.item_due"), rows)


class _Meters:
    """Latest running total, its day and the recent rate of every meter that some units have."""

    def __init__(self, connection: Connection, units: list[int] | None, today: date) -> None:
        self.changes = meters.changes_by_meter(connection)
        points: dict[int, list[tuple[int, float]]] = defaultdict(list)
        for r in connection.execute(query("plan.meter_points"), {"units": units}).fetchall():
            day = r["on_day"].toordinal()
            if day <= today.toordinal():
                total = meter_rules.running_total(r["meter"], day, self.changes.get(r["meter_id"], []))
                points[r["meter_id"]].append((day, total))
        self.points = {k: sorted(v) for k, v in points.items()}

    def total(self, meter_id: int, meter: float | None, on: date) -> float | None:
        if meter is None:
            return None
        return meter_rules.running_total(meter, on.toordinal(), self.changes.get(meter_id, []))

    def at(self, meter_id: int, day: int) -> float | None:
        """The running total on a day, read off the points around it."""
        mine = self.points.get(meter_id)
        if not mine:
            return None
        days, totals = zip(*mine, strict=True)
        return float(np.interp(day, days, totals)) if days[0] <= day else None

    def latest(self, meter_id: int) -> tuple[float | None, int | None, float]:
        mine = self.points.get(meter_id)
        if not mine:
            return None, None, 0.0
        recent = mine[-due_rules.RECENT_READINGS :]
        rate = due_rules.recent_rate(np.array([d for d, _ in recent]), np.array([t for _, t in recent]))
        return mine[-1][1], mine[-1][0], 0.0 if math.isnan(rate) else rate


class _Work:
    """One refresh: items with what was done, so that an item may ask after the one it rides on."""

    def __init__(
        self, items: list[dict[str, Any]], done: dict[int, list[dict[str, Any]]], meters: _Meters,
        drains: dict[int, list[int]], standing: dict[int, dict[str, Any]], today: int,
    ) -> None:  # fmt: skip
        self.done, self.meters, self.drains, self.standing, self.today = done, meters, drains, standing, today
        self.by_name: dict[tuple[int, str], list[dict[str, Any]]] = defaultdict(list)
        for r in items:
            self.by_name[(r["unit_id"], r["item"].casefold())].append(r)
        self.found: dict[int, plan.ItemDue] = {}

    def last(self, item_id: int) -> dict[str, Any] | None:
        return next((r for r in reversed(self.done[item_id]) if r["outcome"] == "done"), None)

    def due(self, r: dict[str, Any], depth: int = 0) -> plan.ItemDue:
        if r["item_id"] in self.found:
            return self.found[r["item_id"]]
        row = self.last(r["item_id"])
        last = None
        if row is not None:
            total = self.meters.total(r["meter_id"], row["meter"], row["on_day"])
            if total is None:
                total = self.meters.at(r["meter_id"], row["on_day"].toordinal())
            last = plan.Last(row["on_day"].toordinal(), total)
        latest_total, latest_day, rate = self.meters.latest(r["meter_id"])
        if r["state"] != "in_service":
            rate = 0.0
        season = (int(r["season"][:2]), int(r["season"][3:])) if r["season"] else None
        item = plan.Item(
            r["every_meter"], r["every_days"], r["every_nth"], r["nth_of"] or "", r["first_meter"], season,
            bool(r["condition"]), r["since"].toordinal(),
        )  # fmt: skip
        found = plan.item_due(item, last, 0.0, latest_total, latest_day, rate, self.today, self._base(r, last, depth), self._out(r))
        self.found[r["item_id"]] = found
        return found

    def _out(self, r: dict[str, Any]) -> bool:
        """Whether the newest record looked at it and found it out of tolerance."""
        newest = self.done[r["item_id"]][-1] if self.done[r["item_id"]] else None
        wanted = r["facts"].get("reading")
        if newest is None or newest["outcome"] != "looked_at" or not wanted or "value" not in newest["reading"]:
            return False
        good = tuple(wanted.get("good", ()))
        return not plan.within(newest["reading"]["value"], wanted.get("low"), wanted.get("high"), good)

    def _base(self, r: dict[str, Any], last: plan.Last | None, depth: int) -> plan.Base | None:
        if not r["every_nth"] or depth > 8:
            return None
        since = last.day if last else -1
        if r["nth_of"].casefold() == OIL_DRAIN:
            s = self.standing.get(r["compartment_id"])
            if s is None:
                return None
            count = sum(1 for day in self.drains[r["compartment_id"]] if day > since) if last else 0
            day = s["due_day"].toordinal() if s["due_day"] else None
            return plan.Base(count, s["due_meter"], day, s["interval_meter"], s["interval_days"])
        mine = self.by_name.get((r["unit_id"], r["nth_of"].casefold()), [])
        at = next((b for b in mine if b["compartment_id"] == r["compartment_id"]), mine[0] if mine else None)
        if at is None:
            return None
        base = self.due(at, depth + 1)
        count = sum(1 for b in self.done[at["item_id"]] if b["outcome"] == "done" and b["on_day"].toordinal() > since)
        return plan.Base(count if last else 0, base.total, base.day, at["every_meter"], at["every_days"])


def due_list(connection: Connection, today: date, horizon_days: int, depot: str, what: str, page: int, each: int = 100) -> dict[str, Any]:
    """Services and oil drains due within a horizon, soonest first, with how many there are of each state."""
    parameters = {
        "today": today, "until": today + timedelta(days=horizon_days), "depot": depot, "what": what,
        "limit": each + 1, "offset": each * page,
    }  # fmt: skip
    rows = connection.execute(query("plan.due"), parameters, prepare=False).fetchall()
    counts = rows[0]["counts"]
    found = [{k: v for k, v in r.items() if k != "counts"} for r in rows if r["what"] is not None]
    return {"rows": found[:each], "more": len(found) > each, "counts": counts, "page": page}


def out(r: dict[str, Any]) -> dict[str, Any]:
    """An item as a register file says it."""
    u = r["meter_unit"]
    row = {
        "unit": r["unit"], "compartment": r["compartment"], "item": r["item"], f"every_{u}": r["every_meter"],
        "every_days": r["every_days"], "every_nth": r["every_nth"], "nth_of": r["nth_of"], f"first_{u}": r["first_meter"],
        "season": r["season"], "condition": r["condition"], **r["facts"],
    }  # fmt: skip
    return {k: v for k, v in row.items() if v not in (None, "", [], {})}


def dump(connection: Connection) -> dict[str, list[dict[str, Any]]]:
    """Items and records as a register file says them."""
    records = connection.execute(query("register.service_records"), {"units": None}).fetchall()
    return {
        "service_items": [out(r) for r in _items(connection)],
        "service_records": [
            {k: v for k, v in {
                "unit": r["unit"], "compartment": r["compartment"], "item": r["item"], "on": r["on_day"].isoformat(),
                "meter": r["meter"], "outcome": r["outcome"], "reading": r["reading"], "note": r["note"],
            }.items() if v not in (None, "", [], {})}
            for r in records
        ],
    }  # fmt: skip


def reading_words(reading: dict[str, Any] | None) -> str:
    """A wanted reading's name, '' for none."""
    return READINGS[reading["type"]][0] if reading and reading.get("type") in READINGS else ""


def within_words(wanted: dict[str, Any] | None, reading: dict[str, Any]) -> str:
    """'in tolerance', 'out of tolerance', or '' when there is nothing to compare."""
    if not wanted or "value" not in reading:
        return ""
    inside = plan.within(reading["value"], wanted.get("low"), wanted.get("high"), tuple(wanted.get("good", ())))
    return "in tolerance" if inside else "out of tolerance"
