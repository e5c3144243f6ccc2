"""Figures of the register that what was poured and read speaks against: listed, taken or kept by a person."""

from __future__ import annotations

from datetime import date
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge.learned import FIELD_WORDS
from vornet.flows.register import units
from vornet.store.database import Connection, query


def settle(connection: Connection, fleet_id: int, compartment_id: int, field: str, taken: bool, why: str, by: str, today: date) -> None:
    """Take the learned figure into the register (source: measured), or keep what it says, with a reason."""
    if field not in FIELD_WORDS:
        raise InputError("field", f"one of {', '.join(FIELD_WORDS)}")
    if not taken and not why.strip():
        raise InputError("why", "say in a few words why the register's figure stays")
    row = connection.execute(
        query("units.settle_doubt"),
        {"compartment_id": compartment_id, "field": field, "settled": "taken" if taken else "kept", "by": by,
         "why": why.strip()[:500]},
    ).fetchone()  # fmt: skip
    if row is None:
        raise InputError("field", "is not in doubt")
    if not taken:
        fleets.audit(
            connection, fleet_id, by, "register figure kept", units.name_of(connection, compartment_id), field=field,
            said=row["said"], learned=row["learned"], why=why.strip(),
        )  # fmt: skip
        return
    value = round(row["learned"], 2 if row["learned"] < 10 else 1)
    was = units.compartment_document(connection, compartment_id, today)
    sources = {**was.get("sources", {}), field: "measured"}
    changes: dict[str, Any] = {field: value, "sources": sources}
    if field == "capacity_l" and was.get("system_volume_l") and value > was["system_volume_l"]:
        changes["system_volume_l"] = value
        sources["system_volume_l"] = "measured"
    without = was.get("capacity_without_filter_l")
    if field == "capacity_l" and without and without > value:
        # the filter's own share is what the register said it was
        changes["capacity_without_filter_l"] = round(max(value - ((was.get("capacity_l") or without) - without), 0.1), 2)
        sources["capacity_without_filter_l"] = "guessed"
    units.save_compartment(connection, fleet_id, compartment_id, changes, by, today)
