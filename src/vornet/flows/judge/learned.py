"""Figures of the register against what was poured and read: doubts raised, taken or kept by a person."""

from __future__ import annotations

from collections import defaultdict
from datetime import date
from typing import Any

from vornet.core import learned
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.store.database import Connection, query

FIELD_WORDS = {
    "capacity_l": "Refill with filter", "capacity_without_filter_l": "Refill without filter",
    "volume_between_marks_l": "Between the marks",
}  # fmt: skip


def refresh(connection: Connection, fleet_id: int, compartments: list[int] | None = None) -> int:
    """Compare the register with the measurements of some compartments (or all); the doubts there are."""
    only = {"compartments": compartments}
    pourings: dict[int, list[learned.Pouring]] = defaultdict(list)
    for r in connection.execute(query("units.pourings"), only).fetchall():
        pourings[r["compartment_id"]].append(learned.Pouring(r["volume_in_l"], r["reading_after"], r["filter_changed"]))
    topped: dict[int, list[learned.ToppedUp]] = defaultdict(list)
    for r in connection.execute(query("units.topped_up"), only).fetchall():
        topped[r["compartment_id"]].append(learned.ToppedUp(r["litres"], r["reading_before"], r["reading_after"]))
    raised, gone = [], []
    known = {(d["compartment_id"], d["field"]) for d in connection.execute(query("units.doubts"), only).fetchall()}
    for r in connection.execute(query("units.register_figures"), only).fetchall():
        i = r["compartment_id"]
        if len(pourings[i]) < learned.FEWEST and len(topped[i]) < learned.FEWEST:
            continue
        found = learned.doubts(r["capacity_l"], r["capacity_without_filter_l"], r["volume_between_marks_l"], pourings[i], topped[i])
        for d in found:
            e = d.learned
            raised.append({
                "fleet_id": fleet_id, "compartment_id": i, "field": d.field, "said": d.said, "learned": e.value,
                "low": e.low, "high": e.high, "n": e.n,
            })  # fmt: skip
        mine = {d.field for d in found}
        gone += [{"compartment_id": i, "field": f} for f in FIELD_WORDS if f not in mine and (i, f) in known]
    with connection.cursor() as cursor:
        cursor.executemany(query("units.clear_doubt"), gone)
        cursor.executemany(query("units.put_doubt"), raised)
    return len(raised)


def doubts(connection: Connection, compartments: list[int] | None = None) -> list[dict[str, Any]]:
    return connection.execute(query("units.doubts"), {"compartments": compartments}).fetchall()


def settle(connection: Connection, fleet_id: int, compartment_id: int, field: str, taken: bool, why: str, by: str, today: date) -> None:
    """Take the learned figure into the register (source: measured), or keep what it says, with a reason."""
    from vornet.flows.register import units

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
