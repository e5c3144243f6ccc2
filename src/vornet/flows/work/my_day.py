"""A technician's day: his own jobs, his depot's, then what is nearby or waits; and what a phone keeps of it for where no signal is."""

from __future__ import annotations

from datetime import date
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house.people import Visitor
from vornet.store.database import Connection, query

#: groups of a day's page, in order, with what stands over them
GROUPS: dict[str, str] = {
    "mine": "Yours, under way", "today": "Today", "late": "Planned for before", "coming": "The days after", "elsewhere": "At other depots",
}  # fmt: skip
#: so many days ahead are kept on the phone
KEPT_DAYS = 2
#: so many jobs at most are kept on the phone
MOST_KEPT = 40


def depots(connection: Connection) -> list[dict[str, Any]]:
    return connection.execute(query("jobs.depots")).fetchall()


def works_at(connection: Connection, who: Visitor) -> int | None:
    row = connection.execute(query("jobs.works_at"), {"account_id": who.account_id}).fetchone()
    return row["depot_id"] if row else None


def work_at(connection: Connection, who: Visitor, depot_id: int | None) -> None:
    """Say where one works; None: nowhere in particular."""
    if depot_id is None:
        connection.execute(query("jobs.works_nowhere"), {"account_id": who.account_id})
        return
    if depot_id not in {d["depot_id"] for d in depots(connection)}:
        raise InputError("depot", "is not in this fleet")
    connection.execute(query("jobs.work_at"), {"fleet_id": who.fleet_id, "account_id": who.account_id, "depot_id": depot_id})


def group(row: dict[str, Any], who: Visitor, depot_id: int | None, today: date) -> str:
    """Which of GROUPS a job that is to be done stands in."""
    if row["state"] == "open" and (row["opened_by"] == who.name or row["mine"]):
        return "mine"
    if depot_id is not None and row["depot_id"] != depot_id:
        return "elsewhere"
    if row["planned_on"] == today or row["state"] == "open":
        return "today"
    return "late" if row["planned_on"] < today else "coming"


def day(connection: Connection, who: Visitor, today: date) -> dict[str, list[dict[str, Any]]]:
    """Jobs to do by group, those that are empty left out."""
    depot_id = works_at(connection, who)
    rows = connection.execute(query("jobs.to_do"), {"me": who.name}).fetchall()
    out: dict[str, list[dict[str, Any]]] = {}
    for row in rows:
        out.setdefault(group(row, who, depot_id, today), []).append(row)
    return {g: out[g] for g in GROUPS if g in out}


def kept(connection: Connection, who: Visitor, today: date) -> list[str]:
    """Addresses of the pages that a phone keeps for where no signal is: the day's jobs, their labels, notes of their compartments, and the
    last pictures of each place."""
    found = day(connection, who, today)
    rows = [r for g in ("mine", "today", "late") for r in found.get(g, ())]
    rows += [r for r in found.get("coming", ()) if (r["planned_on"] - today).days <= KEPT_DAYS]
    rows = rows[:MOST_KEPT]
    out = ["/jobs", "/q"]
    for r in rows:
        out += [f"/jobs/{r['job_id']}", f"/jobs/{r['job_id']}/do"]
        out += [f"/jobs/{r['job_id']}/labels.pdf"] if r["bottles"] else []
        out += [f"/q/{c}" for c in r["compartments"] or ()]
    units = sorted({r["unit_id"] for r in rows})
    pictures = connection.execute(query("jobs.last_of_units"), {"units": units}).fetchall()
    return list(dict.fromkeys([*out, *(f"/jobs/photos/{p['photo_id']}" for p in pictures)]))
