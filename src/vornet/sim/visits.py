"""Job cards of the demo fleet in every state, through the same doors a phone uses."""

from __future__ import annotations

import uuid
from datetime import UTC, date, datetime, timedelta
from typing import Any

from vornet.flows.house.people import Visitor
from vornet.flows.work import cards, entries, put_off
from vornet.store.database import Connection, query

_NAMES = uuid.UUID("6f1d3c52-0000-4000-8000-000000000000")


def load(connection: Connection, who: Visitor, until: date) -> None:
    """Make the demo's job cards once: planned, under way, done, closed in part, stopped, cancelled."""
    counts = connection.execute(query("jobs.counts")).fetchone()
    if counts and counts["all"]:
        return
    visits = _Visits(connection, who, until)
    visits.planned("Bus 11", ["engine"], ["Fuel filter", "Air filter"], 1)
    visits.planned("MV Hallovane", ["ramp hydraulics"], ["Grease round"], 2)
    visits.under_way("GS Ostrelle 2")
    visits.done("Boat Lift")
    visits.in_part("Fuel Barge")
    visits.stopped("MV Ardessa Voe", "port gearbox")
    visits.cancelled("Quay Crane 2")
    visits.noticed("Bus 17", "engine", "smoke", 6, "blue, when it is cold")
    visits.noticed("Bus 22", "engine", "leak under it", 3, "drops under the filter after a night")
    visits.noticed("MV Hallovane", "port engine", "noise", 9, "a knock below, gone when warm")


class _Visits:
    def __init__(self, connection: Connection, who: Visitor, until: date) -> None:
        self.connection, self.who, self.until = connection, who, until
        self.now = datetime(until.year, until.month, until.day, 14, tzinfo=UTC)
        self.count = 0

    def _card(self, unit: str, compartments: list[str], items: list[str], days: int = 0) -> tuple[int, dict[str, int], float]:
        c = self.connection
        unit_id = c.execute(query("units.unit_by_name"), {"name": unit}).fetchone()["unit_id"]  # type: ignore[index]
        mine = {s["name"]: s["compartment_id"] for s in c.execute(query("board.sisters"), {"unit_id": unit_id}).fetchall()}
        plan = {i["item"]: i["item_id"] for i in c.execute(query("register.service_items"), {"units": [unit_id]}).fetchall()}
        job_id = cards.make(
            c, self.who.fleet_id, unit_id, [mine[n] for n in compartments], [plan[n] for n in items if n in plan],
            self.until + timedelta(days=days), True, "", "Ingrid Valmorra",
        )  # fmt: skip
        parts = {p["compartment"] or p["item"]: p["part_id"] for p in c.execute(query("jobs.parts"), {"job_id": job_id}).fetchall()}
        latest = c.execute(query("board.latest_meter"), {"unit_id": unit_id, "meter_no": 1}).fetchone()
        return job_id, parts, latest["meter"] if latest else 0.0

    def _say(self, job_id: int, *rows: tuple[int | None, str, Any]) -> None:
        sent = []
        for part, key, value in rows:
            self.count += 1
            at = self.now - timedelta(hours=3) + timedelta(minutes=self.count)
            sent.append({"id": str(uuid.uuid5(_NAMES, f"{self.until} {self.count}")), "part": part, "key": key, "value": value,
                         "at": at.timestamp() * 1000, "skew": 0})  # fmt: skip
        entries.open_on_device(self.connection, self.who, job_id)
        answer = entries.take(self.connection, self.who, job_id, sent, self.now, self.until)
        if answer["refused"]:
            raise RuntimeError(f"the demo's visit was refused: {answer['refused']}")

    def _drained(self, part: int, meter: float, out: float, poured: float, drain_points: list[str]) -> list[tuple[int | None, str, Any]]:
        return [
            (None, "safe", {"Level ground, brake on, wheels chocked": True}), (None, "meter", meter), (part, "level_before", 0.8),
            (part, "way", "plug"), (part, "warmth", "warm"), (part, "minutes", 12.0), (part, "magnets", {drain_points[0]: 1}),
            (part, "oil_looks", ["normal"]), (part, "filter_changed", "yes"), (part, "filter_looks", ["clean"]), (part, "out_l", out),
            (part, "out_kind", "measured"), (part, "shut", dict.fromkeys(drain_points, True)),
            (part, "torque", dict.fromkeys(drain_points, "wrench")), (part, "seals_new", "yes"), (part, "pour", {"litres": poured}),
            (part, "level_read", {"reading": 0.98, "run": True}), (part, "leaks", "none"), (part, "waste_l", out), (part, "done", {}),
        ]  # fmt: skip

    def planned(self, unit: str, compartments: list[str], items: list[str], days: int) -> None:
        self._card(unit, compartments, items, days)

    def under_way(self, unit: str) -> None:
        job_id, parts, meter = self._card(unit, ["engine"], ["Belt"])
        part = parts["engine"]
        self._say(job_id, (None, "meter", meter), (part, "level_before", 0.6), (part, "warmed_min", 5.0), (part, "way", "plug"),
                  (part, "warmth", "warm"))  # fmt: skip

    def done(self, unit: str) -> None:
        job_id, parts, meter = self._card(unit, ["hydraulics"], [])
        self._say(job_id, *self._drained(parts["hydraulics"], meter, 127.0, 128.5, ["lowest point"]))

    def in_part(self, unit: str) -> None:
        job_id, parts, meter = self._card(unit, ["crane hydraulics"], ["Hoses"])
        self._say(
            job_id, *self._drained(parts["crane hydraulics"], meter, 72.0, 73.2, ["lowest point"]),
            (parts["Hoses"], "defer", {"kind": "part_missing", "what": "hose end chafed, none in stock", "part": "hose 3/4 in, 1.2 m",
                                       "owner": "stores", "due_on": (self.until + timedelta(days=9)).isoformat(), "instead": True}),
        )  # fmt: skip

    def stopped(self, unit: str, compartment: str) -> None:
        job_id, parts, meter = self._card(unit, [compartment], [])
        self._say(
            job_id, (None, "meter", meter),
            (parts[compartment], "stop", {"reason": "fill_plug", "note": "hex rounded, leave it to the workshop"}),
        )  # fmt: skip

    def cancelled(self, unit: str) -> None:
        job_id, _, _ = self._card(unit, ["hydraulics"], [])
        cards.cancel(self.connection, self.who.fleet_id, job_id, "the crane is needed all week", self.who.name)

    def noticed(self, unit: str, compartment: str, what: str, days: int, note: str) -> None:
        unit_id = self.connection.execute(query("units.unit_by_name"), {"name": unit}).fetchone()["unit_id"]  # type: ignore[index]
        sisters = self.connection.execute(query("board.sisters"), {"unit_id": unit_id}).fetchall()
        mine = next((s["compartment_id"] for s in sisters if s["name"] == compartment), None)
        put_off.observe(
            self.connection, self.who.fleet_id, unit_id, mine, "symptom", what, None, None, self.until - timedelta(days=days), note,
            str(uuid.uuid5(_NAMES, f"{self.until} {unit} {what}")), self.who.name,
        )  # fmt: skip
