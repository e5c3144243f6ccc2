"""Keeping the register: units, compartments, templates, many at once. One validator for files, forms and programs."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Any

from pydantic import ValidationError

from vornet.core.errors import FormErrors, InputError
from vornet.flows.house import fleets
from vornet.flows.judge import learned
from vornet.flows.plan import service
from vornet.flows.register import attachments, dump, register
from vornet.io import register_file
from vornet.io.equipment import ServiceItem
from vornet.io.register_file import Compartment, Unit
from vornet.store import queue
from vornet.store.database import Connection, query

SORTS = ("unit", "kind", "family", "depot", "oil", "volume", "capacity", "interval", "due", "state")
STATE_WORDS = {"in_service": "in service", "laid_up": "laid up", "retired": "retired"}
PAGE = 100
#: compartments that are changed at once
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
    rows = connection.execute(query("units.list"), wanted.parameters(PAGE), prepare=False).fetchall()
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
    full = dump.units_out(connection, today, [unit_id])[0]
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
        "attachments": attachments.of_unit(connection, unit_id),
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
    return dump.compartment_out(rows[0])


def laid_over(was: dict[str, Any], changes: dict[str, Any]) -> dict[str, Any]:
    out = {**was, **changes}
    return {k: v for k, v in out.items() if v not in (None, "", [], {})}


def save_unit(connection: Connection, fleet_id: int, unit_id: int, changes: dict[str, Any], by: str, today: date) -> None:
    """Change a unit's facts; keys not given stay. Raises FormErrors by field."""
    found = connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()
    if found is None:
        raise InputError("unit", "is not in this fleet")
    was = dump.units_out(connection, today, [unit_id])[0]
    del was["compartments"]
    now = checked(Unit, laid_over(was, changes))
    if now.unit != found["unit"]:
        if connection.execute(query("units.unit_by_name"), {"name": now.unit}).fetchone():
            raise FormErrors({"unit": f"there is a unit named {now.unit!r} already"})
        connection.execute(query("units.rename_unit"), {"unit_id": unit_id, "name": now.unit})
    connection.execute(query("register.put_depots"), {"fleet_id": fleet_id, "names": [now.depot] if now.depot else []})
    connection.execute(query("register.put_unit"), register.unit_parameters(fleet_id, now))
    connection.execute(query("register.recount"))
    diff = fleets.changed(was, laid_over(was, changes))
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
    merged = laid_over(was, changes)
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
    length = meter if meter != before[0] else None
    days = now.interval_days if now.interval_days != before[1] else None
    clears = frozenset(fact for fact, new, old in zip(("length", "days"), (meter, now.interval_days), before, strict=True) if old and not new)
    if not (length or days or clears):
        return
    refused = register.put_intervals(connection, fleet_id, [register.Wanted(compartment_id, length, days, clears)], by, today)
    if (why := refused.get(compartment_id)) is not None:
        field = f"interval_{counts}" if why[0] == "interval" else why[0]
        raise FormErrors({field: why[1]})


def _unit_model(connection: Connection, unit_id: int, today: date) -> Unit:
    document = dump.units_out(connection, today, [unit_id])[0]
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
    c: Compartment = checked(Compartment, laid_over({}, given))
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


def holds(connection: Connection, unit_id: int | None, compartment_id: int | None = None) -> list[str]:
    """What hangs on a unit, or on one compartment, in words: '3 drains'; nothing for what was made by mistake."""
    rows = connection.execute(query("units.holds"), {"unit_id": unit_id, "compartment_id": compartment_id}).fetchall()
    return [f"{r['n']:,} {r['what'] if r['n'] != 1 else _one(r['what'])}" for r in rows]


def _one(words: str) -> str:
    return {"part changes and repairs": "part change or repair", "things noticed": "thing noticed", "levels read": "level read",
            "parts of jobs": "part of a job"}.get(words, words.removesuffix("s"))  # fmt: skip


def _stays(what: str, held: list[str]) -> str:
    return f"holds {', '.join(held)}: it stays, so that its history does. {what}"


def remove_compartment(connection: Connection, fleet_id: int, compartment_id: int, by: str) -> None:
    """Take out a compartment that nothing hangs on. Raises InputError saying what does, and what to do instead."""
    name = name_of(connection, compartment_id)
    if held := holds(connection, None, compartment_id):
        raise InputError("compartment", _stays("An exchanged one is noted as an exchange; retire the unit when it goes", held))
    row = connection.execute(query("units.remove_compartment"), {"compartment_id": compartment_id}).fetchone()
    if row is None:
        raise InputError("compartment", "is not in this fleet")
    fleets.audit(connection, fleet_id, by, "compartment removed", name)


def remove_unit(connection: Connection, fleet_id: int, unit_id: int, why: str, by: str) -> None:
    """Delete a unit that was made by mistake and that nothing hangs on, for a reason. Raises InputError saying what does."""
    unit = connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()
    if unit is None:
        raise InputError("unit", "is not in this fleet")
    if not why.strip():
        raise InputError("why", "say why it is deleted")
    if held := holds(connection, unit_id):
        raise InputError("unit", _stays("Retire it instead: then it is planned and judged no more, and is still in the Library", held))
    connection.execute(query("units.remove_unit"), {"unit_id": unit_id})
    fleets.audit(connection, fleet_id, by, "unit deleted", unit["unit"], why=why.strip()[:400])


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
