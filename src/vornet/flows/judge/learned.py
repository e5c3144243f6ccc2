"""Figures of the register against what was poured and read: doubts raised, taken or kept by a person."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

from vornet.core import learned
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
    """Figures in doubt of some compartments, or of all."""
    return connection.execute(query("units.doubts"), {"compartments": compartments}).fetchall()
