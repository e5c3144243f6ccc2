"""A drain put right: on another day, at another meter, with other volumes, at the place it really was, or taken back.

The row as it was typed stays, with the reason. What is not named stays as it was; the bottle, the job and, where the drain moves, the
sample that came of the bottle go with it; everything judged from it is judged again.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Any

from vornet.core.drain import DrainFacts
from vornet.core.drain import figures as worked
from vornet.core.errors import FormErrors, InputError
from vornet.flows.house import fleets, meters
from vornet.flows.lab import held_samples
from vornet.flows.work.drain import sump
from vornet.store import queue
from vornet.store.database import Connection, query

#: what can be put right, by the column it stands in
NAMES = ("compartment_id", "on_day", "meter", "volume_out_l", "volume_in_l", "filter_changed")


@dataclass(frozen=True)
class Change:
    """What was wrong with a drain: the right figures by column (one of NAMES; litres, hours or km), and why."""

    right: dict[str, Any]
    why: str


def drain_of(connection: Connection, drain_id: int) -> dict[str, Any]:
    """A drain that holds, with its place. Raises InputError when it is not there or was put right meanwhile."""
    row = connection.execute(query("put_right.drain"), {"drain_id": drain_id}).fetchone()
    if row is None:
        raise InputError("drain", "is not there, or was put right meanwhile")
    found: dict[str, Any] = row
    return found


def place_named(connection: Connection, unit: str, compartment: str) -> dict[str, Any]:
    """The compartment somebody named. Raises InputError by field."""
    row = connection.execute(query("put_right.place"), {"unit": unit.strip(), "compartment": compartment.strip()}).fetchone()
    if row is None:
        raise InputError("compartment", f"there is no {compartment.strip()[:60]!r} on a unit named {unit.strip()[:60]!r}")
    found: dict[str, Any] = row
    return found


def correct_drain(connection: Connection, fleet_id: int, drain_id: int, change: Change, by: str, today: date) -> int:
    """Put a drain right; the id of the row that holds now. Raises FormErrors by field, and then nothing is changed."""
    if not change.why.strip():
        raise FormErrors({"why": "say in a few words what was wrong with it"})
    old = drain_of(connection, drain_id)
    right = {name: change.right[name] for name in NAMES if name in change.right and change.right[name] != old[name]}
    if not right:
        raise FormErrors({"why": "nothing is changed: type what is right, or take the drain back"})
    now = {**{name: old[name] for name in NAMES}, **right}
    with connection.transaction():
        _supersede(connection, drain_id, drain_id, change.why)  # so that it is not held against itself
        row = connection.execute(query("board.compartment"), {"compartment_id": now["compartment_id"]}).fetchone()
        if row is None:
            raise FormErrors({"compartment": "is not in this fleet"})
        errors = _errors(connection, row, old, now, today)
        if errors:
            raise FormErrors(errors)
        kind = "measured" if "volume_out_l" in right and now["volume_out_l"] is not None else None
        new = connection.execute(query("put_right.again"), {**now, "drain_id": drain_id, "kind": kind, "by": by}).fetchone()
        assert new is not None
        new_id = int(new["drain_id"])
        _supersede(connection, drain_id, new_id, change.why)
        connection.execute(query("put_right.part_follows"), {"drain_id": drain_id, "new_id": new_id})
        numbers = connection.execute(query("put_right.bottle_follows"), {**now, "drain_id": drain_id, "new_id": new_id}).fetchall()
        _samples_follow(connection, fleet_id, numbers, old, (now, row), change.why, by)
    was = {name: str(old[name]) for name in right}
    fleets.audit(connection, fleet_id, by, "drain put right", f"{old['unit']} {old['compartment']}", was=was,
                 now={name: str(value) for name, value in right.items()}, why=change.why.strip(), on=str(now["on_day"]),
                 at=f"{row['unit']} {row['compartment']}")  # fmt: skip
    queue.touch(connection, fleet_id, sorted({old["compartment_id"], now["compartment_id"]}))
    return new_id


def take_back(connection: Connection, fleet_id: int, drain_id: int, why: str, by: str) -> None:
    """A drain that never was. Its bottle stays, as one drawn without a drain. Raises FormErrors by field."""
    if not why.strip():
        raise FormErrors({"why": "say in a few words why it never was"})
    old = drain_of(connection, drain_id)
    _supersede(connection, drain_id, drain_id, why)
    connection.execute(query("put_right.part_follows"), {"drain_id": drain_id, "new_id": None})
    numbers = connection.execute(query("put_right.bottle_stays"), {"drain_id": drain_id}).fetchall()
    _samples_follow(connection, fleet_id, numbers, old, None, why, by)
    was = {"on": str(old["on_day"]), "meter": old["meter"]}
    fleets.audit(connection, fleet_id, by, "drain taken back", f"{old['unit']} {old['compartment']}", was=was, why=why.strip())
    queue.touch(connection, fleet_id, [old["compartment_id"]])


def _supersede(connection: Connection, drain_id: int, by_id: int, why: str) -> None:
    connection.execute(query("put_right.supersede"), {"drain_id": drain_id, "by_id": by_id, "why": why.strip()[:300]})


def _errors(connection: Connection, row: dict[str, Any], old: dict[str, Any], now: dict[str, Any], today: date) -> dict[str, str]:
    """What cannot be of a drain as it would stand now, by field."""
    errors: dict[str, str] = {}
    if now["on_day"] > today:
        errors["on"] = "this day is still to come"
    if row["state"] == "retired" and row["compartment_id"] != old["compartment_id"]:
        errors["compartment"] = f"{row['unit']} is retired: nothing is drained there any more"
    same = connection.execute(
        query("board.drain_on_day"), {"compartment_id": row["compartment_id"], "on": now["on_day"]}
    ).fetchone()  # fmt: skip
    if same:
        errors["on"] = f"a drain on {now['on_day']} is on record already, at {same['meter']:,.0f} {row['meter_unit']}"
    try:
        meters.check(connection, row["unit_id"], row["meter_no"], row["meter_unit"], now["meter"], now["on_day"])
    except InputError as error:
        errors["meter"] = error.why
    try:
        worked(sump(row), DrainFacts(missing_l=old["level_missing_l"], out_l=now["volume_out_l"], poured_l=now["volume_in_l"] or 0.0,
                                     out_kind="estimated" if old["volume_out_kind"] == "estimated" else "measured",
                                     filter_changed=now["filter_changed"] is not False))  # fmt: skip
    except InputError as error:
        errors[{"drained_volume_l": "volume_out_l", "poured_l": "volume_in_l"}.get(error.field, error.field)] = error.why
    return errors


def _samples_follow(
    connection: Connection, fleet_id: int, numbers: list[dict[str, Any]], old: dict[str, Any],
    where: tuple[dict[str, Any], dict[str, Any]] | None, why: str, by: str,
) -> None:  # fmt: skip
    """What the lab reported of a drain's bottles goes with it: to its place, and to its day and meter where it had the drain's own.
    ``where``: the drain as it stands now and its place; None: it never was, and its sample was drawn from oil that ran on."""
    mine = {n["sample_no"] for n in numbers} | ({old["sample_no"]} if old["sample_no"] else set())
    found = connection.execute(query("put_right.samples"), {"numbers": sorted(mine), "compartment_id": old["compartment_id"]}).fetchall()
    for sample in found:
        changes: dict[str, Any] = {}
        if where is None:
            changes = {"drained": False, "filter_changed": False} if sample["drained"] else {}
        else:
            now, place = where
            if place["compartment_id"] != old["compartment_id"]:
                changes |= {**{name: place[name] for name in ("compartment_id", "unit_id", "oil_id")}, "oil_hours": None, "topup_l": None}
            if sample["sampled_on"] == old["on_day"] != now["on_day"]:
                changes["sampled_on"] = now["on_day"]
            if sample["meter"] == old["meter"] != now["meter"]:
                changes |= {"meter": now["meter"], "oil_hours": None}
        if changes:
            what = "its drain never was" if where is None else f"with its drain, now on {where[0]['on_day']} at {where[1]['unit']}"
            held_samples.follow_drain(connection, fleet_id, sample["sample_id"], changes, what, why, by)
