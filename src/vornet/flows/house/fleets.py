"""Fleets: find one by name, make one, remove one."""

from __future__ import annotations

import json
from dataclasses import asdict
from datetime import date
from typing import Any
from zoneinfo import ZoneInfo

from vornet.core import schools
from vornet.core.errors import InputError
from vornet.core.limits import FIXED_LIMITS
from vornet.store.database import Connection, Database, query

#: versions that were in force before anyone said when
ALWAYS = date(1990, 1, 1)


#: rows at one go from which on what the database knows of its tables is old
BULK = 1000


def took_in(connection: Connection, rows: int) -> None:
    """After so many rows at one go: have statistics collected, so that what is read next is planned on what is there."""
    if rows >= BULK:
        connection.execute(query("history.collect_statistics"))


def find(db: Database, name: str) -> int:
    """The fleet's id. Raises InputError naming the fleets there are."""
    with db.anyone() as connection:
        row = connection.execute(query("register.fleet_named"), {"name": name}).fetchone()
    if row is None or row["id"] is None:
        known = ", ".join(names(db)) or "none yet"
        raise InputError("fleet", f"there is no fleet named {name!r} (known: {known})")
    return int(row["id"])


def names(db: Database) -> list[str]:
    with db.anyone() as connection:
        return [r["name"] for r in connection.execute(query("register.fleet_names")).fetchall()]


def only(db: Database) -> str:
    """The name of the one fleet there is. Raises InputError when there are several or none."""
    known = names(db)
    if len(known) == 1:
        return known[0]
    if not known:
        raise InputError("fleet", "there is no fleet yet: import a register file first")
    raise InputError("fleet", f"say which with --fleet NAME: {', '.join(known)}")


def check_zone(zone: str) -> str:
    """A time zone by its IANA name. Raises InputError when there is none of that name."""
    try:
        ZoneInfo(zone)
    except (KeyError, ValueError, OSError):
        raise InputError("zone", f"{zone[:60]!r} is not a time zone such as Europe/Oslo or UTC") from None
    return zone


def settings(connection: Connection) -> dict[str, Any]:
    """Name, zone, units of measure and schools of the fleet of this transaction."""
    row = connection.execute(query("register.fleet")).fetchone()
    assert row is not None
    found: dict[str, Any] = row
    return found


def settings_or_none(connection: Connection) -> dict[str, Any] | None:
    """The same, None when the fleet was taken away meanwhile."""
    return connection.execute(query("register.fleet")).fetchone()


def set_settings(connection: Connection, fleet_id: int, by: str, zone: str, measures: str, chosen: dict[str, object]) -> None:
    """Set the fleet's zone, units of measure (si or us) and schools of practice."""
    if measures not in ("si", "us"):
        raise InputError("measures", "si or us")
    was = settings(connection)
    kept = schools.checked(chosen)
    connection.execute(query("register.put_settings"), {"zone": check_zone(zone), "measures": measures, "schools": json.dumps(kept)})
    audit(
        connection,
        fleet_id,
        by,
        "settings changed",
        was["name"],
        **changed({"zone": was["zone"], "measures": was["measures"], **was["schools"]}, {"zone": zone, "measures": measures, **kept}),
    )


def changed(was: dict[str, Any], now: dict[str, Any]) -> dict[str, list[Any]]:
    """What differs between two states of a thing, as {field: [was, now]}: what an audit line says of a change."""
    keys = [k for k in {**was, **now} if was.get(k) != now.get(k)]
    return {k: [was.get(k), now.get(k)] for k in keys}


def find_or_make(db: Database, name: str, zone: str = "UTC", demo: bool = False) -> int:
    """The fleet's id, made with the default limits when it is new."""
    with db.anyone() as connection:
        row = connection.execute(query("register.fleet_named"), {"name": name}).fetchone()
        if row and row["id"] is not None:
            return int(row["id"])
        made = connection.execute(query("register.fleet_make"), {"name": name, "zone": zone, "demo": demo}).fetchone()
        assert made is not None
        fleet_id = int(made["id"])
    with db.fleet(fleet_id) as connection:
        limits = json.dumps([asdict(row) for row in FIXED_LIMITS])
        connection.execute(
            query("register.put_limits"),
            {"fleet_id": fleet_id, "effective_from": ALWAYS, "limits": limits, "by": "Vornet's start values", "why": "start values"},
        )
    return fleet_id


def delete(db: Database, name: str) -> None:
    """Remove a fleet and everything in it: as the database's owner, for the application may not."""
    fleet_id = find(db, name)
    with db.as_owner() as connection:
        connection.execute(query("register.fleet_drop"), {"fleet_id": fleet_id})


def audit(connection: Connection, fleet_id: int, who: str, what: str, about: str, **detail: object) -> None:
    """Add one line to the fleet's audit trail."""
    connection.execute(
        query("register.audit"),
        {"fleet_id": fleet_id, "who": who, "what": what, "about": about, "detail": json.dumps(detail, default=str)},
    )
