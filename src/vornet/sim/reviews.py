"""What the demo's analyst has signed so far, what is being done about it, and what the workshop found."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

from vornet.flows.judge import verdicts
from vornet.store.database import Connection, query

#: verdicts by their codes, as people sign them
VERDICT_NAMES = {code: name for name, code in verdicts.CODES.items()}

#: samples of the last days wait for the analyst
UNSIGNED_DAYS = 24
#: (unit, compartment, cause found, days before today, note)
FOUND = (
    ("Bus 12", "engine", "dirt", 760, "Intake hose had chafed through behind the filter; hose and element replaced."),
    ("GS Quenholm 2", "engine", "cooler_leaching", 480, "New oil cooler fitted in spring; no wear in bearings when opened."),
    ("WB Fulmar", "engine", "spent_additive", 70, "Fuel from the old tank is high in sulfur."),
    ("Bus 17", "engine", "combustion", 40, "Two injectors dribbling; a set is on order."),
    ("MV Tavrinne Light", "port engine", "nothing", 210, "Looked because of a noise: fan belt."),
    ("Bus 21", "engine", "blow_by", 46, "Leak-down 38 % on two cylinders; rings on order."),
    ("Bus 24", "rear axle", "gear_or_valve", 150, "Grey paste on the magnet; run on and look again."),
    ("Bus 24", "rear axle", "gear_or_valve", 95, "One tooth of the pinion chipped."),
    ("Bus 24", "rear axle", "gear_or_valve", 60, "Pitting on the crown wheel when the cover was off."),
    ("Bus 23", "gearbox", "bushing", 52, "Bronze thrust washer worn through."),
    ("GS Quenholm 1", "engine", "overheated_oil", 38, "Oil cooler's thermostat stuck; oil 20 K too hot."),
    ("WB Dunlin", "engine", "condensation", 90, "Laid up half the summer; breather dripping."),
    ("Bus 14", "engine", "nothing", 130, "Looked because of the smoke: cold start, nothing found."),
    ("Bus 18", "engine", "nothing", 300, "Noise was a loose heat shield."),
)
#: (unit, compartment, what, owner, days from today)
OPEN = (
    ("MV Sulvenna", "starboard engine", "coolant", "Pressure-test the cooling system", "Workshop Northholm", 1),
    ("MV Hallovane", "starboard engine", "dirt", "Look for the leak in the intake, change the element", "Sunniva Holtane", 3),
    ("Bus 15", "engine", "bearing", "Cut the filter open, check oil pressure", "Workshop Morvane", 5),
)


def load(connection: Connection, fleet_id: int, analyst: str, until: date) -> None:
    """Sign the history as proposed, record findings and open a few actions, once; sign on to a later ``until``."""
    verdicts.sign_history(connection, until - timedelta(days=UNSIGNED_DAYS), analyst)
    if connection.execute(query("verdicts.findings"), {"compartment_id": None, "limit": 1}).fetchone():
        return
    for unit, compartment, cause, days, note in FOUND:
        compartment_id = _compartment(connection, unit, compartment)
        if compartment_id is not None:
            verdicts.record_finding(
                connection, fleet_id, compartment_id, until - timedelta(days=days), cause, note, by="Workshop", today=until
            )
    for unit, compartment, cause, what, owner, days in OPEN:
        compartment_id = _compartment(connection, unit, compartment)
        signed = _last_signed(connection, compartment_id) if compartment_id is not None else None
        if signed:
            verdicts.sign(
                connection, fleet_id, signed["sample_id"], VERDICT_NAMES[signed["verdict"]], by=analyst, today=until, cause=cause,
                comment=what + ".", reason="" if signed["verdict"] == signed["proposed"] else "as before",
                actions=(verdicts.Action(what, "do", owner, until + timedelta(days=days), cause),),
            )  # fmt: skip


def _compartment(connection: Connection, unit: str, compartment: str) -> int | None:
    row = connection.execute(query("units.unit_by_name"), {"name": unit}).fetchone()
    if row is None:
        return None
    mine = connection.execute(query("board.sisters"), {"unit_id": row["unit_id"]}).fetchall()
    return next((int(c["compartment_id"]) for c in mine if c["name"] == compartment), None)


def _last_signed(connection: Connection, compartment_id: int) -> dict[str, Any] | None:
    return connection.execute(query("verdicts.last_signed"), {"compartment_id": compartment_id}).fetchone()
