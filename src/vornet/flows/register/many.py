"""Many at once: one field of a selection, looked at before it is done."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import date
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.plan import service
from vornet.flows.register import dump, register
from vornet.flows.register.units import MOST_AT_ONCE, checked, laid_over, plan_words
from vornet.io.equipment import ServiceItem
from vornet.io.register_file import Compartment, Unit
from vornet.store import queue
from vornet.store.database import Connection, query


@dataclass(frozen=True)
class Change:
    """One field that can be changed on a selection: where it lives and what kind of figure it takes."""

    key: str
    words: str
    of: str  # compartment, unit or item
    kind: str


CHANGES: dict[str, Change] = {
    c.key: c
    for c in (
        Change("oil", "Oil", "compartment", "oil"),
        Change("interval", "Interval by meter", "compartment", "meter"),
        Change("interval_days", "Interval in days", "compartment", "int"),
        Change("cap", "Maker's cap", "compartment", "meter"),
        Change("family", "Family", "compartment", "text"),
        Change("system_volume_l", "System volume", "compartment", "volume"),
        Change("capacity_l", "Refill with filter", "compartment", "volume"),
        Change("capacity_without_filter_l", "Refill without filter", "compartment", "volume"),
        Change("volume_between_marks_l", "Between the marks", "compartment", "volume"),
        Change("level_method", "Level read by", "compartment", "level_method"),
        Change("sampling_point", "Sample drawn at", "compartment", "sampling_point"),
        Change("depot", "Depot", "unit", "text"),
        Change("duty", "Duty", "unit", "text"),
        Change("model", "Model", "unit", "text"),
        Change("item", "Service item: add or change", "item", "item"),
        Change("item_gone", "Service item: take out", "item", "text"),
    )
}


@dataclass(frozen=True)
class Line:
    """One line of a preview: what changes where, from what to what, or why it cannot."""

    where: str
    was: Any
    now: Any
    problem: str = ""
    same: bool = False


def change_many(connection: Connection, fleet_id: int, ids: list[int], key: str, value: Any, by: str, today: date, apply: bool) -> list[Line]:
    """Change one field of many compartments, of their units, or of their plans; without ``apply`` only a preview.

    Lines with a problem are never applied, the others are.
    """
    change = CHANGES.get(key)
    if change is None:
        raise InputError("what", f"one of {', '.join(CHANGES)}")
    if not ids:
        raise InputError("ids", "nothing is selected")
    if len(ids) > MOST_AT_ONCE:
        raise InputError("ids", f"at most {MOST_AT_ONCE:,} at once")
    rows = connection.execute(query("register.compartments"), {"today": today, "only": ids}).fetchall()
    if change.of == "compartment":
        return _change_compartments(connection, fleet_id, rows, change, value, by, today, apply)
    if change.of == "unit":
        return _change_units(connection, fleet_id, rows, change, value, by, today, apply)
    return _change_items(connection, fleet_id, rows, change, value, by, apply)


def _change_compartments(
    connection: Connection, fleet_id: int, rows: list[dict[str, Any]], change: Change, value: Any, by: str, today: date,
    apply: bool,
) -> list[Line]:  # fmt: skip
    out: list[Line] = []
    units = {u["unit_id"]: u for u in connection.execute(query("register.units")).fetchall()}
    oils = {o["name"] for o in connection.execute(query("register.oils")).fetchall()}
    parameters, versions, audits, touched = [], [], [], []
    for r in rows:
        was = dump.compartment_out(r)
        field = f"{change.key}_{r['meter_unit']}" if change.kind == "meter" else change.key
        where = f"{r['unit']} {r['name']}"
        merged = laid_over(was, {field: value})
        if change.kind == "volume":  # where the new figure comes from is not said
            merged["sources"] = {k: v for k, v in was.get("sources", {}).items() if k != field}
        try:
            now: Compartment = checked(Compartment, merged)
            if now.oil and now.oil not in oils:
                raise InputError("oil", f"there is no oil named {now.oil!r} in the library")
        except InputError as error:
            out.append(Line(where, was.get(field), value, error.why))
            continue
        same = was.get(field) == merged.get(field)
        wanted = _interval(r, change, now) if change.key in ("interval", "interval_days") and not same else None
        if wanted is not None and (why := register.intervals_refused(connection, [wanted], today).get(r["compartment_id"])):
            out.append(Line(where, was.get(field), value, why[1]))
            continue
        out.append(Line(where, was.get(field), value, same=same))
        if same or not apply:
            continue
        u = units[r["unit_id"]]
        unit = Unit(unit=u["name"], model=u["model"], meter_unit=u["meter_unit"], second_meter_unit=u["second_meter_unit"])
        bound = register.compartment_parameters(fleet_id, r["unit_id"], unit, now)
        parameters.append(bound)
        if wanted is not None:
            versions.append(wanted)
        audits.append((where, {field: [was.get(field), value]}))
        touched.append(r["compartment_id"])
    if touched:
        with connection.cursor() as cursor:
            cursor.executemany(query("register.put_compartment"), parameters)
        register.put_intervals(connection, fleet_id, versions, by, today)
        _audit_many(connection, fleet_id, by, "compartment changed", audits)
        queue.touch(connection, fleet_id, touched)
    return out


def _interval(row: dict[str, Any], change: Change, now: Compartment) -> register.Wanted:
    """What a change of the length, or of the calendar limit, says of an interval: the other one stays."""
    length = (now.interval_km if row["meter_unit"] == "km" else now.interval_h) if change.key == "interval" else None
    days = now.interval_days if change.key == "interval_days" else None
    clears = frozenset() if length or days else frozenset(("length" if change.key == "interval" else "days",))
    return register.Wanted(row["compartment_id"], length, days, clears)


def _audit_many(connection: Connection, fleet_id: int, by: str, what: str, lines: list[tuple[str, dict[str, Any]]]) -> None:
    with connection.cursor() as cursor:
        cursor.executemany(query("register.audit"), [
            {"fleet_id": fleet_id, "who": by, "what": what, "about": about, "detail": json.dumps(detail, default=str)}
            for about, detail in lines
        ])  # fmt: skip


def _change_units(
    connection: Connection, fleet_id: int, rows: list[dict[str, Any]], change: Change, value: Any, by: str, today: date,
    apply: bool,
) -> list[Line]:  # fmt: skip
    wanted = {r["unit_id"] for r in rows}
    out, parameters, audits = [], [], []
    for document in dump.units_out(connection, today, sorted(wanted)):
        del document["compartments"]
        try:
            now = checked(Unit, laid_over(document, {change.key: value}))
        except InputError as error:
            out.append(Line(document["unit"], document.get(change.key), value, error.why))
            continue
        same = document.get(change.key) == (value or None)
        out.append(Line(document["unit"], document.get(change.key), value, same=same))
        if not same:
            parameters.append(register.unit_parameters(fleet_id, now))
            audits.append((document["unit"], {change.key: [document.get(change.key), value]}))
    if apply and parameters:
        if change.key == "depot" and value:
            connection.execute(query("register.put_depots"), {"fleet_id": fleet_id, "names": [value]})
        with connection.cursor() as cursor:
            cursor.executemany(query("register.put_unit"), parameters)
        _audit_many(connection, fleet_id, by, "unit changed", audits)
    return out


def _change_items(
    connection: Connection, fleet_id: int, rows: list[dict[str, Any]], change: Change, value: Any, by: str,
    apply: bool,
) -> list[Line]:  # fmt: skip
    """Add or change an item on each unit (or on each selected compartment), or take one out by its name."""
    units = sorted({r["unit_id"] for r in rows})
    known = connection.execute(query("register.service_items"), {"units": units}).fetchall()
    if change.key == "item_gone":
        name = str(value).strip().casefold()
        mine = [i for i in known if i["item"].casefold() == name]
        if not mine:
            raise InputError("value", f"none of them has a service item {value!r}")
        lines = [Line(" ".join(filter(None, [i["unit"], i["compartment"], i["item"]])), plan_words(i), None) for i in mine]
        if apply:
            for i in mine:
                service.remove(connection, fleet_id, i["item_id"], by)
        return lines
    on_compartment = bool(value.get("on_compartment"))
    by_place = {(i["unit"], i["compartment"], i["item"].casefold()): i for i in known}
    counts = {u["unit_id"]: u["meter_unit"] for u in connection.execute(query("register.units")).fetchall()}
    out, parameters, audits, seen = [], [], [], set()
    for r in rows:
        place = (r["unit"], r["name"] if on_compartment else None)
        if place in seen:
            continue
        seen.add(place)
        where = " ".join(filter(None, place))
        meter = r["meter_unit"] if on_compartment else counts[r["unit_id"]]
        given = {k: v for k, v in value.items() if k not in ("on_compartment", "every_meter", "first_meter")}
        given |= {"unit": r["unit"], "compartment": place[1]}
        for key in ("every", "first"):
            if value.get(f"{key}_meter") is not None:
                given[f"{key}_{meter}"] = value[f"{key}_meter"]
        item_name = str(value.get("item", ""))
        was = by_place.get((*place, item_name.casefold()))
        try:
            item: ServiceItem = checked(ServiceItem, {k: v for k, v in given.items() if v not in (None, "")})
            service.check(item, known, meter)
        except InputError as error:
            out.append(Line(where, plan_words(was) if was else None, None, error.why))
            continue
        bound = service.parameters(fleet_id, r["unit_id"], r["compartment_id"] if on_compartment else None, meter, item)
        fresh = {**bound, "meter_unit": meter, "facts": json.loads(str(bound["facts"]))}
        same = was is not None and all(was[k] == fresh[k] for k in service.RULES) and was["facts"] == fresh["facts"]
        out.append(Line(where, plan_words(was) if was else None, plan_words(fresh), same=same))
        if not same:
            parameters.append(bound)
            audits.append((f"{where} {item.item}", {"plan": [plan_words(was) if was else None, plan_words(fresh)]}))
    if apply and parameters:
        with connection.cursor() as cursor:
            cursor.executemany(query("register.put_item"), parameters)
        _audit_many(connection, fleet_id, by, "service item changed", audits)
        queue.touch_plans(connection, fleet_id, units)
    return out
