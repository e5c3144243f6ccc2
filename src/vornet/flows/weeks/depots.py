"""Depots with their crew hours and bays, hours by kind of work, and the days on which units are there."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from vornet.core import crew, visits
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.io import calendar_file
from vornet.store.database import Connection, query

#: more crew hours, or bays, than any depot has in a day
MOST_HOURS, MOST_BAYS = 1000.0, 1000
WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
#: how far ahead a calendar file is read
AHEAD_DAYS = 400


@dataclass(frozen=True)
class Depot:
    """A depot as the weeks see it; ``said`` False where nobody has said its hours and the usual week stands in; ``zone`` '' where it
    keeps its fleet's time."""

    depot_id: int
    name: str
    week: crew.Week
    said: bool
    why: dict[int, str]
    zone: str = ""

    def span(self, first: date, days: int) -> tuple[tuple[float, ...], tuple[int, ...] | None]:
        """(hours, bays or None) of every day of a span."""
        found = [self.week.on(first.toordinal() + i) for i in range(days)]
        hours = tuple(h for h, _ in found)
        return hours, tuple(b or 0 for _, b in found) if self.week.bays else None


@dataclass(frozen=True)
class Terms:
    """What planning goes by in a fleet: hours by kind as said, what work really took over that, and what a visit costs and is worth."""

    said: dict[str, float]
    learned: dict[str, float]
    jobs: int
    set_up_h: float = visits.SET_UP_H
    visit_worth_h: float = visits.VISIT_WORTH_H

    def hours(self, kind: str) -> float:
        return round(crew.hours_of(kind, self.said, self.learned), 2)


def terms(connection: Connection, fleet_id: int) -> Terms:
    row = connection.execute(query("weeks.settings"), {"fleet_id": fleet_id}).fetchone()
    kept = (row or {}).get("weeks") or {}
    set_up = float(kept.get("set_up_h", visits.SET_UP_H))
    said = {k: float(v) for k, v in kept.get("hours", {}).items()}
    done = [_took(r, said, set_up) for r in connection.execute(query("weeks.took")).fetchall()]
    return Terms(said, crew.factors(done), len(done), set_up, float(kept.get("visit_worth_h", visits.VISIT_WORTH_H)))


def _took(r: dict[str, Any], said: dict[str, float], set_up: float) -> crew.Took:
    """What a visit's work took, making ready left out, against what is said of such work (not against what was learned before)."""
    plain = {kind: n * crew.hours_of(kind, said, {}) for kind, n in (r["planned"] or {}).items()}
    return crew.Took(plain, max(r["took_h"] - set_up, 0.05))


def set_terms(connection: Connection, fleet_id: int, hours: dict[str, float | None], set_up_h: float, visit_worth_h: float, by: str) -> None:
    """Hours by kind of work (None: as usual), what every visit takes, and what one fewer is worth. Raises InputError."""
    kept: dict[str, float] = {}
    for kind, value in hours.items():
        if kind not in crew.USUAL_H:
            raise InputError("hours", f"{kind!r} is no kind of work")
        if value is not None:
            if not 0 < value <= 100:
                raise InputError(f"hours_{kind}", "from a few minutes to 100 hours")
            kept[kind] = value
    for name, value in (("set_up_h", set_up_h), ("visit_worth_h", visit_worth_h)):
        if not 0 <= value <= 100:
            raise InputError(name, "from 0 to 100 hours")
    document = {"hours": kept, "set_up_h": set_up_h, "visit_worth_h": visit_worth_h}
    connection.execute(query("weeks.put_settings"), {"fleet_id": fleet_id, "weeks": json.dumps(document)})
    fleets.audit(connection, fleet_id, by, "hours of work set", "weeks", **document)


def all_of(connection: Connection, first: date, days: int) -> dict[int, Depot]:
    """Every depot, with what is different on the days of a span."""
    other: dict[int, dict[int, tuple[float, int | None]]] = {}
    why: dict[int, dict[int, str]] = {}
    span = {"first": first, "last": first + timedelta(days=days)}
    for r in connection.execute(query("weeks.depot_days"), span).fetchall():
        day = r["on_day"].toordinal()
        other.setdefault(r["depot_id"], {})[day] = (r["hours"], r["bays"])
        why.setdefault(r["depot_id"], {})[day] = r["why"]
    out = {}
    for r in connection.execute(query("weeks.depots")).fetchall():
        hours = tuple(r["hours"]) if r["hours"] else crew.USUAL_WEEK
        bays = tuple(r["bays"]) if r["bays"] else None
        mine = r["depot_id"]
        out[mine] = Depot(mine, r["name"], crew.Week(hours, bays, other.get(mine, {})), bool(r["hours"]), why.get(mine, {}), r["zone"] or "")
    return out


def set_week(connection: Connection, fleet_id: int, depot_id: int, hours: list[float], bays: list[int] | None, by: str) -> None:
    """A depot's crew hours, and bays where they count, from Monday to Sunday. Raises InputError by field."""
    if len(hours) != 7 or (bays is not None and len(bays) != 7):
        raise InputError("hours", "seven days, Monday first")
    for i, h in enumerate(hours):
        if not 0 <= h <= MOST_HOURS:
            raise InputError(f"hours_{i}", f"{WEEKDAYS[i]}: from 0 to {MOST_HOURS:g} crew hours")
    for i, b in enumerate(bays or ()):
        if not 0 <= b <= MOST_BAYS:
            raise InputError(f"bays_{i}", f"{WEEKDAYS[i]}: from 0 to {MOST_BAYS} bays")
    row = connection.execute(query("weeks.set_week"), {"depot_id": depot_id, "hours": hours, "bays": bays}).fetchone()
    if row is None:
        raise InputError("depot", "is not in this fleet")
    fleets.audit(connection, fleet_id, by, "crew hours set", row["name"], hours=hours, bays=bays)


def set_zone(connection: Connection, fleet_id: int, depot_id: int, zone: str, by: str) -> None:
    """The time a depot keeps, by its IANA name; '' the fleet's. What is entered there from now on is of its own day; what is on record
    stays. Raises InputError."""
    kept = fleets.check_zone(zone.strip()) if zone.strip() else None
    row = connection.execute(query("weeks.set_zone"), {"depot_id": depot_id, "zone": kept}).fetchone()
    if row is None:
        raise InputError("depot", "is not in this fleet")
    if row["was"] != kept:
        fleets.audit(connection, fleet_id, by, "zone set", row["name"], zone=[row["was"] or "the fleet's", kept or "the fleet's"])


def set_day(connection: Connection, fleet_id: int, depot_id: int | None, on: date, hours: float, bays: int | None, why: str, by: str) -> None:
    """A day on which a depot (None: every depot) has other hours: a holiday has none. Raises InputError by field."""
    if not 0 <= hours <= MOST_HOURS:
        raise InputError("hours", f"from 0 to {MOST_HOURS:g} crew hours")
    if bays is not None and not 0 <= bays <= MOST_BAYS:
        raise InputError("bays", f"from 0 to {MOST_BAYS} bays")
    done = connection.execute(
        query("weeks.put_depot_day"),
        {"fleet_id": fleet_id, "depot_id": depot_id, "on_day": on, "hours": hours, "bays": bays, "why": why.strip()[:200]},
    )
    if not done.rowcount:
        raise InputError("depot", "is not in this fleet")
    fleets.audit(connection, fleet_id, by, "day set", str(on), depot=depot_id, hours=hours, bays=bays, why=why.strip())


def drop_day(connection: Connection, fleet_id: int, depot_id: int, on: date, by: str) -> None:
    connection.execute(query("weeks.drop_depot_day"), {"depot_id": depot_id, "on_day": on})
    fleets.audit(connection, fleet_id, by, "day set back", str(on), depot=depot_id)


def days_of(connection: Connection, first: date, days: int) -> list[dict[str, Any]]:
    return connection.execute(query("weeks.depot_days"), {"first": first, "last": first + timedelta(days=days)}).fetchall()


# ---- where units are -------------------------------------------------------------------------------------------
def rotas(connection: Connection, unit_id: int | None = None) -> dict[int, crew.Rota]:
    """Rotas by unit; a unit without one is there on any day."""
    return {r["unit_id"]: crew.rota_of(r["rule"]) for r in rota_rows(connection, unit_id)}


def rota_rows(connection: Connection, unit_id: int | None = None) -> list[dict[str, Any]]:
    return connection.execute(query("weeks.rotas"), {"unit_id": unit_id}).fetchall()


def set_rota(connection: Connection, fleet_id: int, unit_id: int, rule: dict[str, Any], by: str) -> None:
    """On which days a unit is at its depot. Raises InputError by field."""
    crew.rota_of(rule)
    unit = connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()
    if unit is None:
        raise InputError("unit", "is not in this fleet")
    connection.execute(query("weeks.put_rota"), {"fleet_id": fleet_id, "unit_id": unit_id, "rule": json.dumps(rule), "by": by})
    fleets.audit(connection, fleet_id, by, "days at the depot set", unit["unit"], **{k: v for k, v in rule.items() if k != "days"})


def drop_rota(connection: Connection, fleet_id: int, unit_id: int, by: str) -> None:
    """The unit is there on any day."""
    if connection.execute(query("weeks.drop_rota"), {"unit_id": unit_id}).fetchone() is not None:
        fleets.audit(connection, fleet_id, by, "days at the depot set", f"unit {unit_id}", kind="any day")


def rota_from_calendar(content: bytes, today: date) -> dict[str, Any]:
    """A rota from an iCalendar file: the days its events cover, from today on. Raises InputError."""
    days = calendar_file.days(content, today, today + timedelta(days=AHEAD_DAYS))
    if not days:
        raise InputError("file", f"no event in it covers a day from {today} on")
    return {"kind": "days", "days": [d.isoformat() for d in days][: crew.MOST_DAYS]}


def rota_words(rota: crew.Rota) -> str:
    """A rota as a sentence says it."""
    if rota.kind == "weekdays":
        return "on " + ", ".join(WEEKDAYS[d] for d in rota.weekdays)
    if rota.kind == "rotation":
        there, since = f"{rota.there} day{'s' if rota.there > 1 else ''}", date.fromordinal(rota.anchor)
        return f"{there} there, {rota.away} away, counted from {since.day} {since:%b %Y}"
    return f"{len(rota.days)} days by name"
