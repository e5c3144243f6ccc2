"""Single rows and short lists that pages and forms read beside what they are about."""

from __future__ import annotations

from datetime import date
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.register.units import Wanted
from vornet.store.database import Connection, query

Row = dict[str, Any]


def compartment(connection: Connection, compartment_id: int) -> Row | None:
    """A compartment with its unit and where it stands; None when it is not in this fleet."""
    return connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()


def latest_meter(connection: Connection, unit_id: int, meter_no: int) -> Row | None:
    """What a unit's meter was last read at."""
    return connection.execute(query("board.latest_meter"), {"unit_id": unit_id, "meter_no": meter_no}).fetchone()


def sisters(connection: Connection, unit_id: int) -> list[Row]:
    """The compartments of a unit."""
    return connection.execute(query("board.sisters"), {"unit_id": unit_id}).fetchall()


def unit(connection: Connection, unit_id: int) -> Row | None:
    return connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()


def depots(connection: Connection) -> list[str]:
    return [d["name"] for d in connection.execute(query("board.depots")).fetchall()]


def oils(connection: Connection) -> list[Row]:
    return connection.execute(query("register.oils")).fetchall()


def oil_names(connection: Connection) -> list[str]:
    return [o["name"] for o in oils(connection)]


def oil_list(connection: Connection) -> list[Row]:
    """Every oil with how much it is used, and every concession that was made."""
    return connection.execute(query("units.oil_list")).fetchall()


def concessions(connection: Connection, oil_id: int | None = None) -> list[Row]:
    """Oils poured where another was meant; of one oil or of all."""
    return connection.execute(query("units.concessions"), {"oil_id": oil_id}).fetchall()


def oil(connection: Connection, oil_id: int) -> dict[str, Any] | None:
    """An oil with its batches, where it runs and its concessions."""
    row = connection.execute(query("units.oil"), {"oil_id": oil_id}).fetchone()
    if row is None:
        return None
    return {
        "oil": row, "batches": connection.execute(query("register.batches"), {"oil_id": oil_id}).fetchall(),
        "use": connection.execute(query("units.oil_use"), {"oil_id": oil_id}).fetchall(), "concessions": concessions(connection, oil_id),
    }  # fmt: skip


def templates(connection: Connection) -> list[Row]:
    """Patterns for new units."""
    return connection.execute(query("register.templates")).fetchall()


def facets(connection: Connection) -> Row:
    """What the register's list can be narrowed by."""
    return connection.execute(query("units.facets")).fetchone() or {}


def listed(connection: Connection, wanted: Wanted) -> list[Row]:
    """The register's list as it is narrowed, whole."""
    return connection.execute(query("units.list"), wanted.parameters(None)).fetchall()


def compartments(connection: Connection, today: date, only: list[int]) -> list[Row]:
    """Compartments as the register has them."""
    return connection.execute(query("register.compartments"), {"today": today, "only": only}).fetchall()


def places(connection: Connection) -> list[Row]:
    """Every place a sample can come from, by name."""
    return connection.execute(query("results.places")).fetchall()


def counts_of(connection: Connection, compartment_id: int, on: date) -> str:
    """hours or distance, as a compartment's meter counts."""
    row = connection.execute(query("labs.place_bottle"), {"compartment_id": compartment_id, "on": on}).fetchone()
    return "distance" if row and row["meter_unit"] == "km" else "hours"


def labs(connection: Connection, today: date) -> list[Row]:
    """Labs with how long they take."""
    return connection.execute(query("labs.labs"), {"today": today}).fetchall()


def open_job(connection: Connection, unit_id: int) -> Row | None:
    """The card that waits for a unit already."""
    return connection.execute(query("jobs.open_of_unit"), {"unit_id": unit_id}).fetchone()


def photo(connection: Connection, photo_id: str) -> Row | None:
    return connection.execute(query("jobs.photo"), {"photo_id": photo_id}).fetchone()


def file(connection: Connection, import_file_id: int) -> Row | None:
    """A file that came in and what became of it."""
    return connection.execute(query("results.file"), {"import_file_id": import_file_id}).fetchone()


def attachment(connection: Connection, attachment_id: int) -> Row | None:
    return connection.execute(query("units.attachment"), {"attachment_id": attachment_id}).fetchone()


def remove_attachment(connection: Connection, fleet_id: int, attachment_id: int, by: str) -> int | None:
    """Take a file away from its unit, whose id is given back; None when there is no such file."""
    row = connection.execute(query("units.remove_attachment"), {"attachment_id": attachment_id}).fetchone()
    if row is None:
        return None
    fleets.audit(connection, fleet_id, by, "file removed", row["name"])
    return int(row["unit_id"])


def item(connection: Connection, item_id: int) -> Row | None:
    """A service item with what it asks for and when it is due."""
    return connection.execute(query("plan.item"), {"item_id": item_id}).fetchone()


def records_of(connection: Connection, item_id: int) -> list[Row]:
    """What was done of a service item, newest first."""
    return connection.execute(query("plan.records_of"), {"item_id": item_id}).fetchall()


def own_compartment(connection: Connection, unit_id: int, compartment_id: int | None) -> Row:
    """A compartment of this very unit. Raises InputError for another's, or none."""
    row = compartment(connection, compartment_id) if compartment_id is not None else None
    if row is None or row["unit_id"] != unit_id:
        raise InputError("compartment", "choose one of this unit's")
    return row
