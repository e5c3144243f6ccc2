"""What day it is in a fleet: the calendar's day in the fleet's own zone, wherever the server stands."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, date, datetime
from functools import lru_cache
from zoneinfo import ZoneInfo, available_timezones

from vornet.flows.house import fleets
from vornet.store.database import Connection, Database

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


@lru_cache(maxsize=1)
def zones() -> list[str]:
    """Zones to choose from: places, and UTC first."""
    areas = ("Africa", "America", "Antarctica", "Arctic", "Asia", "Atlantic", "Australia", "Europe", "Indian", "Pacific")
    return ["UTC", *sorted(z for z in available_timezones() if z.split("/")[0] in areas)]
