"""What is open and belongs to somebody: stops, things put off, visits that will miss a part, samples that are late, drains without one."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date
from typing import Any

from vornet.flows.judge import verdicts
from vornet.flows.plan import planned
from vornet.flows.work import put_off
from vornet.store.database import Connection, query


@dataclass(frozen=True)
class OpenEnds:
    stops: list[dict[str, Any]]
    put_off: list[dict[str, Any]]
    missing: list[dict[str, Any]]
    late_samples: list[dict[str, Any]] = field(default_factory=list)
    silent_drains: list[dict[str, Any]] = field(default_factory=list)

    def __bool__(self) -> bool:
        return bool(self.stops or self.put_off or self.missing or self.late_samples or self.silent_drains)


def open_ends(connection: Connection, today: date, unit_id: int | None = None, samples: bool = False) -> OpenEnds:
    """Of the fleet, or of one unit; ``samples``: with late samples and the drains of the last weeks without one."""
    stops = [s for s in verdicts.unheard_stops(connection) if unit_id is None or s["unit_id"] == unit_id]
    off = [d for d in put_off.deferred(connection, unit_id) if d["closed_at"] is None]
    missing = connection.execute(query("stock.short"), {"unit_id": unit_id}).fetchall()
    late: list[dict[str, Any]] = []
    silent: list[dict[str, Any]] = []
    if samples:
        late = connection.execute(query("labs.late_samples"), {"today": today}).fetchall()
        silent = connection.execute(query("labs.silent_drains"), {"today": today}).fetchall()
    return OpenEnds(stops, off, missing, late, silent)


def with_visits(connection: Connection, rows: list[dict[str, Any]], key: str = "drain") -> list[dict[str, Any]]:
    """Rows of compartments with the next visit that each is drained in."""
    keys = [f"{r.get('what') or key}:{r.get('id') or r['compartment_id']}" for r in rows]
    found = planned.next_by_key(connection, keys)
    return [r | {"visit": found.get(k)} for r, k in zip(rows, keys, strict=True)]
