"""Keeping the register: units, compartments, templates, many at once. One validator for files, forms and programs."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from datetime import date
from typing import Any

from pydantic import ValidationError

from vornet.core.errors import FormErrors, InputError
from vornet.flows.house import fleets
from vornet.flows.judge import learned
from vornet.flows.plan import service
from vornet.flows.register import register
from vornet.io import pictures, register_file
from vornet.io.equipment import ServiceItem
from vornet.io.register_file import Compartment, Oil, RegisterFile, Template, Unit
from vornet.store import queue
from vornet.store.database import Connection, query

SORTS = ("unit", "kind", "family", "depot", "oil", "volume", "capacity", "interval", "due", "state")
STATE_WORDS = {"in_service": "in service", "laid_up": "laid up", "retired": "retired"}
PAGE = 100
MOST_AT_ONCE = 6000


def checked(model: type[Any], given: dict[str, Any]) -> Any:
    """Validate; every problem ends up under the field it names."""
    try:
        return model.model_validate(given)
    except ValidationError as error:
        errors: dict[str, str] = {}
        for one in error.errors(include_url=False):
            where, why = register_file.plain(dict(one))
            head, _, rest = why.partition(" ")
            if head.rstrip(":") in {*model.model_fields, *Compartment.model_fields, *ServiceItem.model_fields,
                                    "torque_min_nm", "torque_max_nm", "turns", "torque_nm", "min_c"}:  # fmt: skip
                where, why = ".".join(filter(None, [where, head.rstrip(":")])), rest
            errors.setdefault(where or "form", why)
        raise FormErrors(errors) from None


# ---- looking ---------------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class Wanted:
    """What the register's list is narrowed to, how it is sorted, which page."""

    q: str = ""
    depot: str = ""
    kind: str = ""
    family: str = ""
    oil: str = ""
    state: str = ""
    doubted: bool = False
    sort: str = "unit"
    down: bool = False
    page: int = 0

    def parameters(self, limit: int | None, only: list[int] | None = None) -> dict[str, Any]:
        like = "%" + self.q.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
        return {
            "q": self.q, "like": like, "depot": self.depot, "kind": self.kind, "family": self.family, "oil": self.oil,
            "state": self.state, "doubted": self.doubted, "sort": self.sort if self.sort in SORTS else "unit",
            "down": self.down, "only": only, "limit": limit, "offset": PAGE * self.page if limit else 0,
        }  # fmt: skip


def listing(connection: Connection, wanted: Wanted) -> dict[str, Any]:
    """One page of the register's list, and what it can be narrowed by."""
    rows = connection.execute(query("units.list"), wanted.parameters(PAGE)).fetchall()
    facets = connection.execute(query("units.facets")).fetchone()
    return {"rows": rows, "total": rows[0]["total"] if rows else 0, "facets": facets, "wanted": wanted}


def ids_of(connection: Connection, wanted: Wanted) -> list[int]:
    """Every compartment that a narrowing leaves, up to ``MOST_AT_ONCE``."""
    rows = connection.execute(query("units.list"), wanted.parameters(MOST_AT_ONCE) | {"offset": 0}).fetchall()
    return [r["compartment_id"] for r in rows]


def what_they_count(connection: Connection, ids: list[int], today: date) -> str:
    """h or km, whichever most of some compartments' meters count."""
    rows = connection.execute(query("register.compartments"), {"today": today, "only": ids}).fetchall()
    return "km" if sum(r["meter_unit"] == "km" for r in rows) * 2 > len(rows) else "h"


def page(connection: Connection, unit_id: int, today: date) -> dict[str, Any] | None:
    """Everything about one unit; None when it is not in this fleet."""
    unit = connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()
    if unit is None:
        return None
    mine = {"unit_id": unit_id}
    full = register.units_out(connection, today, [unit_id])[0]
    standing = connection.execute(query("units.compartments_in_full"), mine).fetchall()
    ids = [r["compartment_id"] for r in standing]
    doubts: dict[int, list[dict[str, Any]]] = {}
    for d in learned.doubts(connection, ids) if ids else []:
        doubts.setdefault(d["compartment_id"], []).append(d)
    return {
        "unit": unit, "document": full,
        "compartments": [
            {"id": s["compartment_id"], "standing": s, "c": c, "doubts": doubts.get(s["compartment_id"], [])}
            for s, c in zip(standing, full["compartments"], strict=True)
        ],
        "items": connection.execute(query("register.service_items"), {"units": [unit_id]}).fetchall(),
        "states": connection.execute(query("register.states"), mine).fetchall(),
        "meters": {r["meter_no"]: r for r in connection.execute(query("units.latest_meters"), mine).fetchall()},
        "events": connection.execute(query("units.events_of"), mine).fetchall(),
        "attachments": connection.execute(query("units.attachments_of"), mine).fetchall(),
        "shared": connection.execute(query("units.shared_here"), mine).fetchall(),
        "schools": fleets.settings(connection)["schools"],
    }  # fmt: skip


def name_of(connection: Connection, compartment_id: int) -> str:
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    return f"{row['unit']} {row['compartment']}" if row else ""


def compartment_document(connection: Connection, compartment_id: int, today: date) -> dict[str, Any]:
    """A compartment as the register file says it. Raises InputError when it is not in this fleet."""
    rows = connection.execute(query("register.compartments"), {"today": today, "only": [compartment_id]}).fetchall()
    if not rows:
        raise InputError("compartment", "is not in this fleet")
    return register.compartment_out(rows[0])


# ---- changing one ----------------------------------------------------------------------------------------------
def _merged(was: dict[str, Any], changes: dict[str, Any]) -> dict[str, Any]:
    out = {**was, **changes}
    return {k: v for k, v in out.items() if v not in (None, "", [], {})}


def save_unit(connection: Connection, fleet_id: int, unit_id: int, changes: dict[str, Any], by: str, today: date) -> None:
    """Change a unit's facts; keys not given stay. Raises FormErrors by field."""
    found = connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()
    if found is None:
        raise InputError("unit", "is not in this fleet")
    was = register.units_out(connection, today, [unit_id])[0]
    del was["compartments"]
    now = checked(Unit, _merged(was, changes))
    if now.unit != found["unit"]:
        if connection.execute(query("units.unit_by_name"), {"name": now.unit}).fetchone():
            raise FormErrors({"unit": f"there is a unit named {now.unit!r} already"})
        connection.execute(query("units.rename_unit"), {"unit_id": unit_id, "name": now.unit})
    connection.execute(query("register.put_depots"), {"fleet_id": fleet_id, "names": [now.depot] if now.depot else []})
    connection.execute(query("register.put_unit"), register.unit_parameters(fleet_id, now))
    connection.execute(query("register.recount"))
    diff = fleets.changed(was, _merged(was, changes))
    if diff:
        fleets.audit(connection, fleet_id, by, "unit changed", now.unit, **diff)
    if set(diff) & {"meter_unit", "second_meter_unit", "estimated_per_day"}:
        queue.touch_units(connection, [unit_id])


def set_state(connection: Connection, fleet_id: int, unit_id: int, state: str, on: date, note: str, by: str, today: date) -> None:
    """Lay a unit up, retire it or take it back into service from a day on."""
    unit = connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()
    if unit is None:
        raise InputError("unit", "is not in this fleet")
    if state not in STATE_WORDS:
        raise InputError("state", f"one of {', '.join(STATE_WORDS)}")
    connection.execute(
        query("register.put_state"),
        {"fleet_id": fleet_id, "unit_id": unit_id, "on_day": on, "state": state, "note": note.strip()[:500], "by": by},
    )
    connection.execute(query("register.refresh_states"), {"today": today})
    fleets.audit(connection, fleet_id, by, f"unit {STATE_WORDS[state]}", unit["unit"], on=str(on), note=note.strip())
    queue.touch_units(connection, [unit_id])


def save_compartment(connection: Connection, fleet_id: int, compartment_id: int, changes: dict[str, Any], by: str, today: date) -> None:
    """Change a compartment's register; keys not given stay. Raises FormErrors by field."""
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    if row is None:
        raise InputError("compartment", "is not in this fleet")
    was = compartment_document(connection, compartment_id, today)
    merged = _merged(was, changes)
    now: Compartment = checked(Compartment, merged)
    diff = fleets.changed(was, merged)
    if not diff:
        return
    unit = _unit_model(connection, row["unit_id"], today)
    _references(connection, now, unit)
    if now.compartment != row["compartment"]:
        taken = [s["name"] for s in connection.execute(query("board.sisters"), {"unit_id": row["unit_id"]}).fetchall()]
        if now.compartment in taken:
            raise FormErrors({"compartment": f"{row['unit']} has a compartment {now.compartment!r} already"})
        connection.execute(query("units.rename_compartment"), {"compartment_id": compartment_id, "name": now.compartment})
    parameters = register.compartment_parameters(fleet_id, row["unit_id"], unit, now)
    connection.execute(query("register.put_compartment"), parameters)
    _put_interval(connection, fleet_id, compartment_id, was, now, str(parameters["counts"]), by, today)
    fleets.audit(connection, fleet_id, by, "compartment changed", f"{row['unit']} {now.compartment}", **diff)
    queue.touch(connection, fleet_id, [compartment_id])


def _put_interval(
    connection: Connection, fleet_id: int, compartment_id: int, was: dict[str, Any], now: Compartment, counts: str, by: str,
    today: date,
) -> None:  # fmt: skip
    meter = now.interval_km if counts == "km" else now.interval_h
    before = (was.get(f"interval_{counts}"), was.get("interval_days"))
    if (meter, now.interval_days) != before and (meter or now.interval_days):
        register.put_intervals(connection, fleet_id, [(compartment_id, meter, now.interval_days)], by, today)


def _unit_model(connection: Connection, unit_id: int, today: date) -> Unit:
    document = register.units_out(connection, today, [unit_id])[0]
    return Unit.model_validate({**document, "compartments": []})


def _references(connection: Connection, c: Compartment, unit: Unit) -> None:
    """What a compartment names must be there. Raises FormErrors by field."""
    errors = {}
    oils = {o["name"] for o in connection.execute(query("register.oils")).fetchall()}
    if c.oil and c.oil not in oils:
        errors["oil"] = f"there is no oil named {c.oil!r} in the library"
    for i, band in enumerate(c.oils):
        if band.oil not in oils:
            errors[f"oils.{i}.oil"] = f"there is no oil named {band.oil!r} in the library"
    if c.meter_no == 2 and not unit.second_meter_unit:
        errors["meter_no"] = f"{unit.unit} has one meter"
    if c.shared_with:
        known = connection.execute(query("units.unit_by_name"), {"name": c.shared_with.unit}).fetchone()
        if known is None:
            errors["shared_with"] = f"there is no unit named {c.shared_with.unit!r}"
        elif c.shared_with.unit == unit.unit:
            errors["shared_with"] = "is this unit itself"
    if errors:
        raise FormErrors(errors)


def add_compartment(connection: Connection, fleet_id: int, unit_id: int, given: dict[str, Any], by: str, today: date) -> int:
    """A new compartment of a unit. Raises FormErrors by field."""
    unit = _unit_model(connection, unit_id, today)
    c: Compartment = checked(Compartment, _merged({}, given))
    _references(connection, c, unit)
    sisters = [s["name"] for s in connection.execute(query("board.sisters"), {"unit_id": unit_id}).fetchall()]
    if c.compartment in sisters:
        raise FormErrors({"compartment": f"{unit.unit} has a compartment {c.compartment!r} already"})
    parameters = register.compartment_parameters(fleet_id, unit_id, unit, c)
    connection.execute(query("register.put_compartment"), parameters)
    made = connection.execute(query("board.sisters"), {"unit_id": unit_id}).fetchall()
    compartment_id = int(next(s["compartment_id"] for s in made if s["name"] == c.compartment))
    _put_interval(connection, fleet_id, compartment_id, {}, c, str(parameters["counts"]), by, today)
    fleets.audit(connection, fleet_id, by, "compartment added", f"{unit.unit} {c.compartment}", kind=c.kind)
    queue.touch(connection, fleet_id, [compartment_id])
    return compartment_id


def remove_compartment(connection: Connection, fleet_id: int, compartment_id: int, by: str) -> None:
    """Take out a compartment that has no history; one with drains or samples stays."""
    name = name_of(connection, compartment_id)
    row = connection.execute(query("units.remove_compartment"), {"compartment_id": compartment_id}).fetchone()
    if row is None:
        raise InputError("compartment", "has drains or samples: retire the unit instead, so that its history stays")
    fleets.audit(connection, fleet_id, by, "compartment removed", name)


# ---- new from a pattern ----------------------------------------------------------------------------------------
def pattern_of(connection: Connection, unit_id: int, today: date) -> dict[str, Any]:
    """A unit without its name and history: what a template holds and a copy takes over."""
    documents = register.units_out(connection, today, [unit_id])
    if not documents:
        raise InputError("unit", "is not in this fleet")
    unit = documents[0]
    own = {"unit", "depot", "compartments", "states", "serial", "plate", "year"}
    items = [service.out(r) for r in connection.execute(query("register.service_items"), {"units": [unit_id]}).fetchall()]
    return {
        "unit": {k: v for k, v in unit.items() if k not in own},
        "compartments": [{k: v for k, v in c.items() if k != "shared_with"} for c in unit["compartments"]],
        "service_items": [{k: v for k, v in i.items() if k != "unit"} for i in items],
    }  # fmt: skip


def save_template(connection: Connection, fleet_id: int, name: str, unit_id: int, by: str, today: date) -> None:
    """Keep a unit's pattern under a name, for more of its kind."""
    template = checked(Template, {"name": name, **pattern_of(connection, unit_id, today)})
    content = template.model_dump(exclude={"name"}, mode="json")
    connection.execute(
        query("register.put_template"), {"fleet_id": fleet_id, "name": template.name, "content": json.dumps(content), "by": by}
    )
    fleets.audit(connection, fleet_id, by, "template kept", template.name, compartments=len(template.compartments))


def remove_template(connection: Connection, fleet_id: int, template_id: int, by: str) -> None:
    row = connection.execute(query("register.remove_template"), {"template_id": template_id}).fetchone()
    if row is None:
        raise InputError("template", "is not in this fleet")
    fleets.audit(connection, fleet_id, by, "template removed", row["name"])


@dataclass(frozen=True)
class NewUnit:
    """A unit to be made: its own facts, the pattern it follows, and where its meter stands on a day."""

    unit: dict[str, Any]
    pattern: dict[str, Any]
    meter: float | None
    on: date


def make_unit(connection: Connection, fleet_id: int, new: NewUnit, by: str, today: date) -> int:
    """A unit with the compartments and plan of its pattern, no history. Raises FormErrors by field."""
    unit = checked(Unit, _merged(new.pattern.get("unit", {}), new.unit))
    if connection.execute(query("units.unit_by_name"), {"name": unit.unit}).fetchone():
        raise FormErrors({"unit": f"there is a unit named {unit.unit!r} already"})
    if new.on > today:
        raise FormErrors({"on": "this day is still to come"})
    document: dict[str, Any] = {
        "units": [{**unit.model_dump(mode="json", exclude_unset=True), "compartments": new.pattern.get("compartments", [])}],
        "service_items": [{**i, "unit": unit.unit} for i in new.pattern.get("service_items", ())],
        "readings": [{"unit": unit.unit, "on": new.on.isoformat(), "meter": new.meter}] if new.meter is not None else [],
    }
    taken = register_file.understand(document)
    if taken.problems:
        raise FormErrors({f"{p.where} {p.field}".strip(): p.why for p in taken.problems})
    _take(connection, fleet_id, taken, by, today)
    row = connection.execute(query("units.unit_by_name"), {"name": unit.unit}).fetchone()
    assert row is not None
    fleets.audit(
        connection, fleet_id, by, "unit added", unit.unit, compartments=len(taken.units[0][1]),
        service_items=len(taken.service_items),
    )  # fmt: skip
    queue.touch_units(connection, [row["unit_id"]])
    return int(row["unit_id"])


def _take(connection: Connection, fleet_id: int, document: RegisterFile, by: str, today: date) -> None:
    report = register.RegisterReport("", problems=document.problems)
    register.take(connection, fleet_id, document, report, by, today)
    if report.problems:
        raise FormErrors({f"{p.where} {p.field}".strip(): p.why for p in report.problems})


# ---- many at once ----------------------------------------------------------------------------------------------
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
    return _change_items(connection, fleet_id, rows, change, value, by, today, apply)


def _change_compartments(
    connection: Connection, fleet_id: int, rows: list[dict[str, Any]], change: Change, value: Any, by: str, today: date,
    apply: bool,
) -> list[Line]:  # fmt: skip
    out: list[Line] = []
    units = {u["unit_id"]: u for u in connection.execute(query("register.units")).fetchall()}
    oils = {o["name"] for o in connection.execute(query("register.oils")).fetchall()}
    parameters, versions, audits, touched = [], [], [], []
    for r in rows:
        was = register.compartment_out(r)
        field = f"{change.key}_{r['meter_unit']}" if change.kind == "meter" else change.key
        where = f"{r['unit']} {r['name']}"
        merged = _merged(was, {field: value})
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
        out.append(Line(where, was.get(field), value, same=same))
        if same or not apply:
            continue
        u = units[r["unit_id"]]
        unit = Unit(unit=u["name"], model=u["model"], meter_unit=u["meter_unit"], second_meter_unit=u["second_meter_unit"])
        bound = register.compartment_parameters(fleet_id, r["unit_id"], unit, now)
        parameters.append(bound)
        if change.key in ("interval", "interval_days"):
            meter = now.interval_km if bound["counts"] == "km" else now.interval_h
            versions.append((r["compartment_id"], meter, now.interval_days))
        audits.append((where, {field: [was.get(field), value]}))
        touched.append(r["compartment_id"])
    if touched:
        with connection.cursor() as cursor:
            cursor.executemany(query("register.put_compartment"), parameters)
        register.put_intervals(connection, fleet_id, versions, by, today)
        _audit_many(connection, fleet_id, by, "compartment changed", audits)
        queue.touch(connection, fleet_id, touched)
    return out


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
    for document in register.units_out(connection, today, sorted(wanted)):
        del document["compartments"]
        try:
            now = checked(Unit, _merged(document, {change.key: value}))
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
    connection: Connection, fleet_id: int, rows: list[dict[str, Any]], change: Change, value: Any, by: str, today: date,
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
            service.check(connection, item, known, meter)
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


def plan_words(i: dict[str, Any]) -> str:
    """What makes an item due, in words: 'every 500 h or 365 days'."""
    u = i["meter_unit"]
    parts = []
    if i["every_meter"]:
        parts.append(f"{i['every_meter']:,.0f} {u}")
    if i["every_days"]:
        parts.append(f"{i['every_days']:,} days")
    words = "every " + " or ".join(parts) if parts else ""
    extra = []
    if i["every_nth"]:
        extra.append(f"every {service.ordinal(i['every_nth'])} {i['nth_of']}")
    if i["season"]:
        extra.append(f"before {date(2000, int(i['season'][:2]), int(i['season'][3:])):%-d %b} each year")
    if i["first_meter"]:
        extra.append(f"first at {i['first_meter']:,.0f} {u}")
    if i["condition"]:
        extra.append(f"by look: {i['condition']}")
    return ", ".join(filter(None, [words, *extra]))


# ---- oils ------------------------------------------------------------------------------------------------------
def save_oil(connection: Connection, fleet_id: int, oil_id: int | None, given: dict[str, Any], by: str, today: date) -> int:
    """Add or change an oil. Raises FormErrors by field."""
    was: dict[str, Any] = {}
    if oil_id is not None:
        row = connection.execute(query("units.oil"), {"oil_id": oil_id}).fetchone()
        if row is None:
            raise InputError("oil", "is not in this fleet")
        was = register.oil_out(row)
    merged = _merged(was, given)
    oil: Oil = checked(Oil, merged)
    known = {o["name"]: o["oil_id"] for o in connection.execute(query("register.oils")).fetchall()}
    if oil.name in known and known[oil.name] != oil_id:
        raise FormErrors({"name": f"there is an oil named {oil.name!r} already"})
    if oil_id is not None and oil.name != was["name"]:
        connection.execute(query("units.rename_oil"), {"oil_id": oil_id, "name": oil.name})
    connection.execute(query("register.put_oil"), register.oil_parameters(fleet_id, oil))
    found = {o["name"]: o["oil_id"] for o in connection.execute(query("register.oils")).fetchall()}[oil.name]
    fleets.audit(connection, fleet_id, by, "oil changed" if was else "oil added", oil.name, **fleets.changed(was, merged))
    users = connection.execute(query("units.oil_use"), {"oil_id": found}).fetchall()
    if was and users and fleets.changed(was, merged).keys() - {"approvals", "grade"}:
        queue.touch(connection, fleet_id, [u["compartment_id"] for u in users])
    return int(found)


def save_batch(connection: Connection, fleet_id: int, oil_id: int, given: dict[str, Any], by: str) -> None:
    """A batch of an oil; the number of its new-oil sample links it to its result."""
    row = connection.execute(query("units.oil"), {"oil_id": oil_id}).fetchone()
    if row is None:
        raise InputError("oil", "is not in this fleet")
    batch = checked(register_file.Batch, _merged({}, given))
    connection.execute(
        query("register.put_batch"),
        {"fleet_id": fleet_id, "oil": row["name"], **batch.model_dump(include=set(register_file.Batch.model_fields))},
    )
    fleets.audit(connection, fleet_id, by, "batch noted", f"{row['name']} {batch.batch}", litres=batch.litres)


# ---- attachments -----------------------------------------------------------------------------------------------
LARGEST_ATTACHMENT = 20_000_000
ATTACHMENT_KINDS = {"manual": "manual", "plate": "plate photo", "drawing": "drawing", "photo": "photo"}


def attachable(content: bytes) -> tuple[bytes, str]:
    """What is kept of a manual (PDF) or a picture, and its media type. Pictures are drawn anew, so that no place or camera data
    stays in them. Raises InputError for anything else."""
    if len(content) > LARGEST_ATTACHMENT:
        raise InputError("file", f"is larger than {LARGEST_ATTACHMENT // 1_000_000} MB")
    if content[:5] == b"%PDF-":
        return content, "application/pdf"
    return pictures.redrawn(content), "image/jpeg"


def attach(
    connection: Connection, fleet_id: int, unit_id: int, compartment_id: int | None, kind: str, name: str, kept: tuple[bytes, str],
    by: str,
) -> None:  # fmt: skip
    """Keep a manual or a picture beside a unit. ``kept``: as ``attachable`` gives it."""
    unit = connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()
    if unit is None:
        raise InputError("unit", "is not in this fleet")
    if kind not in ATTACHMENT_KINDS:
        raise InputError("kind", f"one of {', '.join(ATTACHMENT_KINDS)}")
    content, media = kept
    connection.execute(
        query("units.put_attachment"),
        {"fleet_id": fleet_id, "unit_id": unit_id, "compartment_id": compartment_id, "name": name[:200], "kind": kind,
         "media_type": media, "content": content, "sha256": hashlib.sha256(content).digest(), "by": by},
    )  # fmt: skip
    fleets.audit(connection, fleet_id, by, "file attached", unit["unit"], name=name[:200], kind=kind)
