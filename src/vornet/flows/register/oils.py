"""Keeping oils and their deliveries."""

from __future__ import annotations

from typing import Any

from vornet.core.errors import FormErrors, InputError
from vornet.flows.house import fleets
from vornet.flows.register import dump, register
from vornet.flows.register.units import checked, laid_over
from vornet.io import register_file
from vornet.io.register_file import Oil
from vornet.store import queue
from vornet.store.database import Connection, query


def save_oil(connection: Connection, fleet_id: int, oil_id: int | None, given: dict[str, Any], by: str) -> int:
    """Add or change an oil. Raises FormErrors by field."""
    was: dict[str, Any] = {}
    if oil_id is not None:
        row = connection.execute(query("units.oil"), {"oil_id": oil_id}).fetchone()
        if row is None:
            raise InputError("oil", "is not in this fleet")
        was = dump.oil_out(row)
    merged = laid_over(was, given)
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
    batch = checked(register_file.Batch, laid_over({}, given))
    connection.execute(
        query("register.put_batch"),
        {"fleet_id": fleet_id, "oil": row["name"], **batch.model_dump(include=set(register_file.Batch.model_fields))},
    )
    fleets.audit(connection, fleet_id, by, "batch noted", f"{row['name']} {batch.batch}", litres=batch.litres)
