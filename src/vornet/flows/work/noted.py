"""What was noted between drains: listed with what was put right of it, corrected, taken back, undone in the first minute.

The row as it was typed stays, with the reason; a correction changes only what it names; what was judged from it is judged again.
"""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from datetime import date
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import days, fleets
from vornet.flows.work import notes, put_off
from vornet.store import queue
from vornet.store.database import Connection, query

#: kinds of notes, as people call them
KINDS: dict[str, str] = {"level": "level", "topup": "top-up", "event": "part change, repair", "symptom": "symptom", "coolant": "coolant"}
#: what of each kind can be put right
FIELDS: dict[str, tuple[str, ...]] = {
    "level": ("reading",), "topup": ("litres", "reading_before", "reading_after"), "event": ("what", "litres_out", "litres_in", "note"),
    "symptom": ("what", "note"), "coolant": ("litres", "note"),
}  # fmt: skip
#: kinds of which one meter on one day has one
LOGS = ("level", "topup", "event")
#: a note that holds; setting one aside; the row that took its place
_ONE = {
    "level": query("put_right.level"), "topup": query("put_right.topup"), "event": query("put_right.event"),
    "symptom": query("put_right.symptom"), "coolant": query("put_right.coolant"),
}  # fmt: skip
_SET_ASIDE = {
    "level": query("put_right.level_set_aside"), "topup": query("put_right.topup_set_aside"), "event": query("put_right.event_set_aside"),
    "symptom": query("put_right.observation_set_aside"), "coolant": query("put_right.observation_set_aside"),
}  # fmt: skip
_AGAIN = {
    "level": query("put_right.level_again"), "topup": query("put_right.topup_again"), "event": query("put_right.event_again"),
    "symptom": query("put_right.observation_again"), "coolant": query("put_right.observation_again"),
}  # fmt: skip
#: a slip may be undone without a reason for so long, seconds
UNDO_S = 60


@dataclass(frozen=True)
class Change:
    """What was wrong with a note: the right values by name (FIELDS, and on_day, meter, compartment_id), and why."""

    right: dict[str, Any]
    why: str


def listed(connection: Connection, compartment_id: int, limit: int = 60) -> list[dict[str, Any]]:
    """Everything noted at a compartment, newest first, with what was put right."""
    return connection.execute(query("put_right.noted"), {"compartment_id": compartment_id, "limit": limit}).fetchall()


def of_unit(connection: Connection, unit_id: int, limit: int = 20) -> list[dict[str, Any]]:
    """What was drained and noted at a unit's compartments lately, as it holds, newest first."""
    return connection.execute(query("put_right.noted_of_unit"), {"unit_id": unit_id, "limit": limit}).fetchall()


def one(connection: Connection, kind: str, row_id: int) -> dict[str, Any]:
    """A note that holds, with its place. Raises InputError when it is not there or was put right meanwhile."""
    row = connection.execute(_ONE[kind], {"row_id": row_id}).fetchone() if kind in KINDS else None
    if row is None:
        raise InputError("note", "is not there, or was put right meanwhile")
    found: dict[str, Any] = row
    return found


def correct(connection: Connection, fleet_id: int, kind: str, row_id: int, change: Change, by: str, today: date) -> int:
    """Put a note right; the id of the row that holds now. Raises InputError by field, and then nothing is changed."""
    if not change.why.strip():
        raise InputError("why", "say in a few words what was wrong with it")
    old = one(connection, kind, row_id)
    names = (*FIELDS[kind], "on_day", "meter", "compartment_id")
    right = {name: change.right[name] for name in names if name in change.right and change.right[name] != old[name]}
    if not right:
        raise InputError("why", "nothing is changed: type what is right, or take it back")
    now = {**old, **right}
    days.check_past(connection, now["on_day"], today, compartment_id=now["compartment_id"])
    if "compartment_id" in right:
        _moves_to(connection, now["compartment_id"])
    with connection.transaction():
        _supersede(connection, kind, row_id, row_id, change.why)  # so that it is not held against itself
        if kind in LOGS and connection.execute(_AGAIN[kind], {**now, "row_id": row_id}).fetchone() is not None:
            raise InputError("on", "something else of its kind is noted there already: put that right, or name another meter")
        _put(connection, fleet_id, kind, now, by, today)
        new = connection.execute(_AGAIN[kind], {**now, "row_id": row_id}).fetchone()
        assert new is not None
        _supersede(connection, kind, row_id, int(new["row_id"]), change.why)
    was = {name: str(old[name]) for name in right}
    fleets.audit(connection, fleet_id, by, f"{KINDS[kind]} put right", f"{old['unit']} {old['compartment']}", was=was,
                 now={name: str(value) for name, value in right.items()}, why=change.why.strip())  # fmt: skip
    queue.touch(connection, fleet_id, sorted({old["compartment_id"], now["compartment_id"]}))
    return int(new["row_id"])


def take_back(connection: Connection, fleet_id: int, kind: str, row_id: int, why: str, by: str) -> None:
    """A note of something that never was."""
    if not why.strip():
        raise InputError("why", "say in a few words why it never was")
    old = one(connection, kind, row_id)
    _supersede(connection, kind, row_id, row_id, why)
    fleets.audit(connection, fleet_id, by, f"{KINDS[kind]} taken back", f"{old['unit']} {old['compartment']}",
                 was={"on": str(old["on_day"]), "meter": old["meter"]}, why=why.strip())  # fmt: skip
    queue.touch(connection, fleet_id, [old["compartment_id"]])


def just_now(connection: Connection, compartment_id: int, by: str) -> dict[str, Any] | None:
    """What somebody noted at a compartment within the last minute, the newest: {kind, row_id, said, seconds}; None nothing."""
    return connection.execute(
        query("put_right.just_now"), {"compartment_id": compartment_id, "by": by, "seconds": UNDO_S}
    ).fetchone()  # fmt: skip


def undo(connection: Connection, fleet_id: int, compartment_id: int, kind: str, row_id: int, by: str, today: date) -> None:
    """Take back one's own slip of the last minute, no reason asked. Raises InputError when the minute is over."""
    row = just_now(connection, compartment_id, by)
    if row is None or (row["kind"], row["row_id"]) != (kind, row_id):
        raise InputError("note", "the minute for undoing is over: put it right in the list of the compartment, with the reason")
    if kind == "meter":
        notes.correct_reading(connection, fleet_id, row_id, None, None, "undone in the first minute", by, today)
    else:
        take_back(connection, fleet_id, kind, row_id, "undone in the first minute", by)


def _moves_to(connection: Connection, compartment_id: int) -> None:
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    if row is None:
        raise InputError("compartment", "is not in this fleet")
    if row["state"] == "retired":
        raise InputError("compartment", f"{row['unit']} is retired: nothing is noted there any more")


def _supersede(connection: Connection, kind: str, row_id: int, by_id: int, why: str) -> None:
    connection.execute(_SET_ASIDE[kind], {"row_id": row_id, "by_id": by_id, "why": why.strip()[:300]})


def _put(connection: Connection, fleet_id: int, kind: str, now: dict[str, Any], by: str, today: date) -> None:
    """A note as it stands now, through the doors that a new one goes through."""
    place, on, meter = now["compartment_id"], now["on_day"], now["meter"]
    if kind == "level":
        notes.level_check(connection, fleet_id, place, on, meter, now["reading"], by, today)
    elif kind == "topup":
        notes.top_up(connection, fleet_id, place, on, meter, now["litres"], now["reading_before"], now["reading_after"], by, today)
    elif kind == "event":
        notes.event(connection, fleet_id, place, now["what"], on, meter, now["litres_out"], now["litres_in"], now["serial"] or "",
                    now["note"], by, today)  # fmt: skip
    else:
        row = connection.execute(query("board.compartment"), {"compartment_id": place}).fetchone()
        assert row is not None
        now["client_id"] = str(uuid.uuid4())
        put_off.observe(connection, fleet_id, row["unit_id"], place, kind, now["what"], now["litres"], meter, on, now["note"],
                        now["client_id"], by)  # fmt: skip
