"""Meters of units: replacements on record, and new figures held against the others."""

from __future__ import annotations

from collections import defaultdict
from datetime import date
from typing import Any

from vornet.core import meter as rules
from vornet.store.database import Connection, query


def changes_by_meter(connection: Connection) -> dict[int, list[tuple[int, float, float]]]:
    """Meter replacements by meter (unit_id · 2, one more for a unit's second) as (ordinal day, old, new), oldest first."""
    out: dict[int, list[tuple[int, float, float]]] = defaultdict(list)
    for r in connection.execute(query("register.meter_changes")).fetchall():
        out[r["meter_id"]].append((r["on_day"].toordinal(), r["old_meter"], r["new_meter"]))
    return out


def known(row: dict[str, Any], changes: list[tuple[int, float, float]]) -> rules.Known:
    """A reading, drain or other figure on record ({on_day, meter}) with its running total."""
    day = row["on_day"].toordinal()
    return rules.Known(day, row["meter"], rules.running_total(row["meter"], day, changes))


def check(connection: Connection, unit_id: int, meter_no: int, unit: str, meter: float, on: date, field: str = "meter") -> None:
    """Raise InputError when a figure goes back, runs ahead of a later one, or gains more than days allow."""
    changes = changes_by_meter(connection).get(unit_id * 2 + meter_no - 1, [])
    around = connection.execute(query("units.meter_around"), {"unit_id": unit_id, "meter_no": meter_no, "on": on}).fetchall()
    total = rules.running_total(meter, on.toordinal(), changes)
    rules.check(total, on.toordinal(), [known(r, changes) for r in around], unit, field)
