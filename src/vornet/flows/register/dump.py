"""Giving a register back: in the shape that loading reads."""

from __future__ import annotations

from collections import defaultdict
from datetime import date
from typing import Any

import numpy as np

from vornet.core.measurands import KEYS
from vornet.flows.house import fleets
from vornet.flows.plan import service
from vornet.store.database import Connection, Database, query
from vornet.words.say import each


def compartment_rows(connection: Connection, today: date) -> list[dict[str, Any]]:
    return connection.execute(query("register.compartments"), {"today": today, "only": None}).fetchall()


def dump(db: Database, fleet: str, today: date, history: bool = True) -> dict[str, Any]:
    """The whole register in the shape ``load`` reads; without ``history`` only oils and units."""
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as connection:

        def rows(name: str) -> list[dict[str, Any]]:
            return connection.execute(query(f"register.{name}")).fetchall()

        if not history:
            return {"fleet": fleet, "oils": oils_out(connection), "units": units_out(connection, today)}
        settings = rows("fleet")[0]
        document: dict[str, Any] = {
            "fleet": fleet,
            "settings": _some({k: settings[k] for k in ("measures", "zone", "schools")}),
            "oils": oils_out(connection),
            "units": units_out(connection, today),
            "meter_changes": [
                {"unit": r["unit"], "on": r["on_day"].isoformat(), **_which(r), "old": r["old_meter"], "new": r["new_meter"]}
                for r in rows("meter_changes")
            ],
            "readings": [
                {"unit": r["unit"], "on": r["on_day"].isoformat(), "meter": r["meter"], **_which(r)} for r in rows("readings")
            ],
            **service.dump(connection),
            "templates": [{"name": r["name"], **r["content"]} for r in rows("templates")],
        }  # fmt: skip
        for name in ("drains", "top_ups", "level_checks", "events"):
            document[name] = [_log_out(r) for r in rows(name)]
        document["intervals"] = [
            _some({
                "unit": r["unit"], "compartment": r["compartment"], "on": r["effective_from"].isoformat(),
                f"interval_{r['meter_unit']}": r["meter"] if r["says_length"] else None,
                "interval_days": r["days"] if r["says_calendar"] else None, "origin": r["origin"],
                "approved_by": r["approved_by"], "why": r["why"],
            })
            for r in rows("intervals")
        ]  # fmt: skip
    return document


def units_out(connection: Connection, today: date, only: list[int] | None = None) -> list[dict[str, Any]]:
    """Units with their compartments as a register file says them; ``only`` these unit ids."""
    compartments: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for c in compartment_rows(connection, today):
        compartments[c["unit_id"]].append(compartment_out(c))
    states: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for s in connection.execute(query("register.states"), {"unit_id": None}).fetchall():
        states[s["unit_id"]].append(_some({"on": s["on_day"].isoformat(), "state": s["state"], "note": s["note"]}))
    return [
        _some({
            "unit": u["name"], "depot": u["depot"], "model": u["model"], "duty": u["duty"],
            "meter_unit": u["meter_unit"], "second_meter_unit": u["second_meter_unit"],
            "estimated_per_day": u["estimated_per_day"], **u["facts"], "states": states[u["unit_id"]],
        }) | {"compartments": compartments[u["unit_id"]]}
        for u in connection.execute(query("register.units")).fetchall()
        if only is None or u["unit_id"] in only
    ]  # fmt: skip


def oils_out(connection: Connection) -> list[dict[str, Any]]:
    """Oils with their batches as a register file says them."""
    batches: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for b in connection.execute(query("register.batches"), {"oil_id": None}).fetchall():
        on = b["received_on"].isoformat() if b["received_on"] else None
        batches[b["oil_id"]].append(_some({
            "batch": b["batch"], "received_on": on, "litres": b["litres"], "sample_no": b["sample_no"], "note": b["note"],
        }))  # fmt: skip
    return [
        oil_out(o) | ({"batches": batches[o["oil_id"]]} if batches[o["oil_id"]] else {})
        for o in connection.execute(query("register.oils")).fetchall()
    ]


def _which(r: dict[str, Any]) -> dict[str, int]:
    return {"meter_no": 2} if r["meter_no"] == 2 else {}


def _some(row: dict[str, Any]) -> dict[str, Any]:
    return {k: v for k, v in row.items() if v not in (None, "", [], {})}


def oil_out(o: dict[str, Any]) -> dict[str, Any]:
    values = {k: v for k, v in zip(KEYS, o["new_values"], strict=False) if not np.isnan(v)}
    return _some({"name": o["name"], "grade": o["grade"], "density_kg_l": o["density_kg_l"], **values, **o["facts"]})


def compartment_out(c: dict[str, Any]) -> dict[str, Any]:
    suffix = c["meter_unit"]
    return _some({
        "compartment": c["name"], "kind": c["kind"], "fuel": c["fuel"], "family": c["family"],
        "system_volume_l": c["system_volume_l"], "capacity_l": c["capacity_l"],
        "capacity_without_filter_l": c["capacity_without_filter_l"],
        "volume_between_marks_l": c["volume_between_marks_l"], "oil": c["oil"],
        f"interval_{suffix}": c["interval_meter"], f"cap_{suffix}": c["cap_meter"],
        "interval_days": c["interval_days"], "meter_no": 2 if c["meter_no"] == 2 else None,
        "shared_with": {"unit": c["shared_unit"]} if c["shared_unit"] else None, **c["facts"],
    })  # fmt: skip


def _log_out(r: dict[str, Any]) -> dict[str, Any]:
    row = {**r, **r["extra"], "on": r["on_day"].isoformat()}
    if against := row.pop("concession_of", None):
        row["concession"] = f"{'; '.join(each(against))}. {row['concession']}"
    del row["on_day"], row["extra"]
    if row.get("volume_out_l") is None and row.get("volume_out_kind") == "unknown":
        del row["volume_out_kind"]
    return _some({k: row[k] for k in ("unit", "compartment", "on", *(k for k in row))})
