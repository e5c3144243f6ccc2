"""What was put off, and what is noted in between."""

from __future__ import annotations

import uuid
from datetime import date
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.store.database import Connection, query


def deferred(connection: Connection, unit_id: int | None = None) -> list[dict[str, Any]]:
    return connection.execute(query("jobs.deferred"), {"unit_id": unit_id}).fetchall()


def close_deferred(connection: Connection, fleet_id: int, deferred_id: int, finding: str, level: float | None, by: str) -> str:
    """Something put off is dealt with; a re-check's level that has fallen is an alarm. Returns 'fallen' or ''."""
    if not finding.strip() and level is None:
        raise InputError("finding", "say what was found or done")
    row = connection.execute(
        query("jobs.close_deferred"), {"deferred_id": deferred_id, "by": by, "finding": finding.strip()[:500] or f"level {level:g}"}
    ).fetchone()
    if row is None:
        raise InputError("deferred", "is dealt with already")
    fallen = row["kind"] == "recheck" and level is not None and row["level_left"] is not None and level < row["level_left"] - 0.15
    fleets.audit(connection, fleet_id, by, "put-off item closed", row["what"], finding=finding, level=level, fallen=bool(fallen))
    if fallen:
        connection.execute(
            query("jobs.put_deferred"),
            {"fleet_id": fleet_id, "unit_id": row["unit_id"], "compartment_id": row["compartment_id"], "job_id": None,
             "entry_id": uuid.uuid4(), "kind": "defect", "part": "", "owner": "", "due_on": None, "level_left": level, "by": by,
             "what": f"Level fell from {row['level_left']:.2f} to {level:.2f} after the first run: look for the leak"},
        )  # fmt: skip
    return "fallen" if fallen else ""


def recent(connection: Connection, limit: int = 30) -> list[dict[str, Any]]:
    """Compartments that somebody noted something at, latest first."""
    rows = connection.execute(query("jobs.recent")).fetchall()
    return sorted(rows, key=lambda r: r["at"], reverse=True)[:limit]


def observe(
    connection: Connection, fleet_id: int, unit_id: int, compartment_id: int | None, kind: str, what: str, litres: float | None,
    meter: float | None, on: date, note: str, client_id: str, by: str,
) -> None:  # fmt: skip
    """A symptom or coolant made up, noted in between."""
    if kind not in ("symptom", "coolant"):
        raise InputError("kind", "symptom or coolant")
    if not what.strip() and litres is None:
        raise InputError("what", "say what was noticed")
    try:
        client = uuid.UUID(client_id)
    except ValueError:
        client = uuid.uuid4()
    connection.execute(
        query("jobs.put_observation"),
        {"fleet_id": fleet_id, "unit_id": unit_id, "compartment_id": compartment_id, "on_day": on, "meter": meter, "kind": kind,
         "what": what.strip()[:300] or "coolant made up", "litres": litres, "note": note.strip()[:1000], "client_id": client, "by": by},
    )  # fmt: skip
    fleets.audit(connection, fleet_id, by, kind, f"unit {unit_id}", noticed=what.strip(), litres=litres)
