"""Patterns: kept from a unit, and units made from them."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import date
from typing import Any

from vornet.core.errors import FormErrors, InputError
from vornet.flows.house import days, fleets
from vornet.flows.plan import service
from vornet.flows.register import dump, register
from vornet.flows.register.units import checked, laid_over
from vornet.io import register_file
from vornet.io.register_file import RegisterFile, Template, Unit
from vornet.store import queue
from vornet.store.database import Connection, query


def pattern_of(connection: Connection, unit_id: int, today: date) -> dict[str, Any]:
    """A unit without its name and history: what a template holds and a copy takes over."""
    documents = dump.units_out(connection, today, [unit_id])
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
    unit = checked(Unit, laid_over(new.pattern.get("unit", {}), new.unit))
    if connection.execute(query("units.unit_by_name"), {"name": unit.unit}).fetchone():
        raise FormErrors({"unit": f"there is a unit named {unit.unit!r} already"})
    if new.on > days.latest(connection, today):
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
