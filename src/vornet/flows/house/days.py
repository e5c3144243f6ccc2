"""What day it is in a fleet: the calendar's day in the fleet's own zone, wherever the server stands; at a depot that keeps another
time, that depot's."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo, available_timezones

from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.store.database import Connection, Database, query

#: the clock; a test may put another one here
now: Callable[[], datetime] = lambda: datetime.now(UTC)  # noqa: E731 - replaced as a whole


def day_in(zone: str) -> date:
    """Today in a zone, by its IANA name."""
    return now().astimezone(ZoneInfo(zone)).date()


def day_here(connection: Connection, fixed: date | None = None) -> date:
    """Today in the fleet of this transaction; ``fixed`` where an application lives in one day."""
    return fixed or day_in(fleets.settings(connection)["zone"])


def day_of(db: Database, fleet_id: int, fixed: date | None = None) -> date:
    """Today in a fleet; UTC's day where it was taken away meanwhile."""
    if fixed is not None:
        return fixed
    with db.fleet(fleet_id) as connection:
        found = fleets.settings_or_none(connection)
    return day_in(found["zone"] if found else "UTC")


def _zones_at(connection: Connection, depot_id: int | None, unit_id: int | None, compartment_id: int | None) -> tuple[str, str]:
    """(the fleet's zone, the zone there)."""
    place = {"depot_id": depot_id, "unit_id": unit_id, "compartment_id": compartment_id}
    row = connection.execute(query("register.zone_at"), place).fetchone()
    assert row is not None
    return row["fleet"], row["there"]


def zone_at(connection: Connection, *, depot_id: int | None = None, unit_id: int | None = None, compartment_id: int | None = None) -> str:
    """The zone a depot keeps, or the depot of a unit or compartment: its own, or the fleet's where it has none."""
    return _zones_at(connection, depot_id, unit_id, compartment_id)[1]


def ahead(
    connection: Connection, *, depot_id: int | None = None, unit_id: int | None = None, compartment_id: int | None = None
) -> timedelta:  # fmt: skip
    """What the calendar at a depot, or at that of a unit or compartment, is ahead of the fleet's now: no day, one, or one behind."""
    fleet, there = _zones_at(connection, depot_id, unit_id, compartment_id)
    return day_in(there) - day_in(fleet)


def latest(connection: Connection, today: date) -> date:
    """The latest day that it is anywhere in the fleet, when it is ``today`` in the fleet's own zone; ``today`` of any other time."""
    rows = connection.execute(query("register.zones_kept")).fetchall()
    if not rows or day_in(fleets.settings(connection)["zone"]) != today:
        return today
    return max([today, *(day_in(r["zone"]) for r in rows)])


def check_past(
    connection: Connection, on: date, today: date, *, depot_id: int | None = None, unit_id: int | None = None,
    compartment_id: int | None = None, field: str = "on",
) -> None:  # fmt: skip
    """Raises InputError for a day that has come neither in the fleet (``today``) nor there."""
    if on > today and on > today + ahead(connection, depot_id=depot_id, unit_id=unit_id, compartment_id=compartment_id):
        raise InputError(field, "this day is still to come")


@lru_cache(maxsize=1)
def zones() -> list[str]:
    """Zones to choose from: places, and UTC first."""
    areas = ("Africa", "America", "Antarctica", "Arctic", "Asia", "Atlantic", "Australia", "Europe", "Indian", "Pacific")
    return ["UTC", *sorted(z for z in available_timezones() if z.split("/")[0] in areas)]
