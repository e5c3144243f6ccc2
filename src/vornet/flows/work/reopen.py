"""A part of a job that was closed by mistake is opened again: what followed from its closing is taken back, what was entered stays."""

from __future__ import annotations

from datetime import date
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.plan import stock
from vornet.store import queue
from vornet.store.database import Connection, query

#: a slip on the phone may be undone without a reason for so long, seconds
UNDO_S = 60
#: entries that close a part
CLOSING = ("done", "stop", "item", "defer")


def undo(connection: Connection, fleet_id: int, job_id: int, part_id: int, at: float, by: str, today: date) -> None:
    """Open a part again that the same person closed within the last minute; ``at`` when they said so, s. Raises InputError when it was
    somebody else, or the minute is over."""
    closing = [
        r for r in connection.execute(query("jobs.entries"), {"job_id": job_id}).fetchall()
        if r["part_id"] == part_id and r["key"] in CLOSING and (r["key"] != "defer" or r["value"].get("instead"))
    ]  # fmt: skip
    last = max(closing, key=lambda r: r["at"], default=None)
    if last is None or last["by"] != by or not 0 <= at - last["at"].timestamp() <= UNDO_S:
        raise InputError("undo", "the minute for undoing is over: open it again on the job's card, with the reason")
    reopen(connection, fleet_id, job_id, part_id, "undone in the first minute", by, today)


def reopen(connection: Connection, fleet_id: int, job_id: int, part_id: int, why: str, by: str, today: date) -> None:
    """Open a closed part of a job again. Raises InputError when the lab has reported its bottle already."""
    if not why.strip():
        raise InputError("why", "say in a few words why it is opened again")
    connection.execute(query("jobs.lock"), {"job_id": job_id})
    job = connection.execute(query("jobs.job"), {"job_id": job_id}).fetchone()
    parts = {p["part_id"]: p for p in connection.execute(query("jobs.parts"), {"job_id": job_id}).fetchall()}
    part = parts.get(part_id)
    if job is None or part is None:
        raise InputError("part", "is not part of this job")
    if part["state"] == "open":
        raise InputError("part", "is open already")
    mine = {"part_id": part_id, "job_id": job_id, "compartment_id": part["compartment_id"], "item_id": part["item_id"],
            "drain_id": part["drain_id"], "why": why.strip()[:300], "by": by, "fleet_id": fleet_id, "on": today}  # fmt: skip
    number = part["figures"].get("sample_no") or _bottle_of(connection, part)
    if number and connection.execute(query("jobs.reported"), {"sample_no": number}).fetchone():
        raise InputError("part", f"the lab has reported its bottle {number}: put the drain right on its own page")
    if part["drain_id"] is not None:
        connection.execute(query("put_right.supersede"), {"drain_id": part["drain_id"], "by_id": part["drain_id"], "why": mine["why"]})
    if number:
        connection.execute(query("jobs.drop_bottle"), {"sample_no": number})
    for step in (
        query("jobs.drop_waste"), query("jobs.drop_deferred"), query("jobs.set_record_aside"), query("jobs.stock_back"),
        query("jobs.stock_free"), query("jobs.part_open"), query("jobs.job_open"),
    ):  # fmt: skip
        connection.execute(step, mine)
    stock.refresh_short(connection, today)
    name = part["compartment"] or part["item"]
    fleets.audit(connection, fleet_id, by, "job part opened again", f"{job['unit']} {name}", job=job_id, was=part["state"], why=why.strip())
    if part["compartment_id"] is not None:
        queue.touch(connection, fleet_id, [part["compartment_id"]])
    else:
        queue.touch_plans(connection, fleet_id, [job["unit_id"]])


def _bottle_of(connection: Connection, part: dict[str, Any]) -> str | None:
    row = connection.execute(query("jobs.bottle_of_drain"), {"drain_id": part["drain_id"]}).fetchone() if part["drain_id"] else None
    return row["sample_no"] if row else None


def restore(connection: Connection, fleet_id: int, job_id: int, why: str, by: str) -> None:
    """A card that was cancelled by mistake is planned again."""
    if not why.strip():
        raise InputError("why", "say in a few words why it is wanted again")
    row = connection.execute(query("jobs.restore"), {"job_id": job_id}).fetchone()
    if row is None:
        raise InputError("job", "is not cancelled")
    fleets.audit(connection, fleet_id, by, "job wanted again", f"job {job_id}", why=why.strip())
