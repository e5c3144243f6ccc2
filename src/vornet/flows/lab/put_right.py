"""A drain put right: on another day, at another meter, with other volumes, at the place it really was, or taken back.

The row as it was typed stays, with the reason. What is not named stays as it was; the bottle, the job and, where the drain moves, the
sample that came of the bottle go with it; everything judged from it is judged again.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import date
from typing import Any

from vornet.core import job
from vornet.core.drain import DrainFacts
from vornet.core.drain import figures as worked
from vornet.core.errors import FormErrors, InputError
from vornet.flows.house import days, fleets, meters
from vornet.flows.lab import held_samples
from vornet.flows.work.drain import AIR_FILTERS, sump
from vornet.store import queue
from vornet.store.database import Connection, query

#: what can be put right, by the column it stands in
NAMES = ("compartment_id", "on_day", "meter", "volume_out_l", "volume_in_l", "filter_changed", "magnet_grade", "air_filter")
#: what was seen at it, kept beside the columns: one word, or several
LOOKS: dict[str, dict[str, str]] = {
    "oil_looks": job.OIL_LOOKS, "filter_looks": job.FILTER_LOOKS, "strainer_look": job.STRAINER_LOOKS, "as_found": job.AS_FOUND,
}  # fmt: skip
ONE_WORD = ("strainer_look",)


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


def counts(connection: Connection, compartment_id: int) -> str:
    """What a compartment's meter counts: h or km."""
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    return "h" if row is None else str(row["meter_unit"])


def correct_drain(connection: Connection, fleet_id: int, drain_id: int, change: Change, by: str, today: date) -> int:
    """Put a drain right; the id of the row that holds now. Raises FormErrors by field, and then nothing is changed."""
    if not change.why.strip():
        raise FormErrors({"why": "say in a few words what was wrong with it"})
    old = drain_of(connection, drain_id)
    right = {name: change.right[name] for name in NAMES if name in change.right and change.right[name] != old[name]}
    looks = _looks(old, change)
    if not right and not looks:
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
        row_now = {**now, "drain_id": drain_id, "kind": kind, "by": by, **_extra(looks, right)}
        new = connection.execute(query("put_right.again"), row_now).fetchone()
        assert new is not None
        new_id = int(new["drain_id"])
        _supersede(connection, drain_id, new_id, change.why)
        connection.execute(query("put_right.part_follows"), {"drain_id": drain_id, "new_id": new_id})
        numbers = connection.execute(query("put_right.bottle_follows"), {**now, "drain_id": drain_id, "new_id": new_id}).fetchall()
        _samples_follow(connection, fleet_id, numbers, old, (now, row), change.why, by)
    was = {name: str(old[name]) for name in right} | {name: str(old["extra"].get(name)) for name in looks}
    fleets.audit(connection, fleet_id, by, "drain put right", f"{old['unit']} {old['compartment']}", was=was,
                 now={name: str(value) for name, value in (right | looks).items()}, why=change.why.strip(), on=str(now["on_day"]),
                 at=f"{row['unit']} {row['compartment']}")  # fmt: skip
    queue.touch(connection, fleet_id, sorted({old["compartment_id"], now["compartment_id"]}))
    return new_id


def _looks(old: dict[str, Any], change: Change) -> dict[str, Any]:
    """What was seen that is put right, by name; None taken away. Raises FormErrors for words that are none of its own."""
    out: dict[str, Any] = {}
    for name, words in LOOKS.items():
        if name not in change.right:
            continue
        value = change.right[name] or None
        if any(v not in words for v in ([value] if isinstance(value, str) else value or [])):
            raise FormErrors({name: f"some of {', '.join(words)}"})
        if value != (old["extra"].get(name) or None):
            out[name] = value
    return out


def _extra(looks: dict[str, Any], right: dict[str, Any]) -> dict[str, Any]:
    """What stands beside the columns: set, and taken away. A magnet graded anew is no longer the sum of its plugs."""
    gone = [name for name, value in looks.items() if value is None]
    if "magnet_grade" in right:
        gone.append("magnets")
    return {"set": json.dumps({name: value for name, value in looks.items() if value is not None}), "gone": gone}


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


def move_sample(
    connection: Connection, fleet_id: int, sample_id: int, to: int, meter: float | None, why: str, by: str
) -> int:  # fmt: skip
    """A sample that stood under the wrong compartment: what the lab printed goes with it, its bottle too; the id of the row that holds.
    ``meter``: what was read there, None: read off that unit's own readings. Raises InputError by field, and then nothing is changed."""
    old = held_samples.whole(connection, sample_id)
    row = connection.execute(query("board.compartment"), {"compartment_id": to}).fetchone()
    if row is None:
        raise InputError("compartment", "is not in this fleet")
    if to == old["compartment_id"]:
        raise InputError("compartment", "it stands there already")
    if meter is not None:
        meters.check(connection, row["unit_id"], row["meter_no"], row["meter_unit"], meter, old["sampled_on"])
    same_unit = row["unit_id"] == old["unit_id"]
    changes = {"compartment_id": to, "unit_id": row["unit_id"], "oil_id": row["oil_id"], "oil_hours": None, "topup_l": None,
               "meter": meter if meter is not None else old["meter"] if same_unit else None}  # fmt: skip
    with connection.transaction():
        new_id = held_samples.follow_drain(
            connection, fleet_id, sample_id, changes, f"drawn at {row['unit']} {row['compartment']}", why, by
        )  # fmt: skip
        connection.execute(query("put_right.bottle_moves"), {"sample_no": old["sample_no"], "from": old["compartment_id"], "to": to,
                                                             "meter": changes["meter"]})  # fmt: skip
    return new_id


def _supersede(connection: Connection, drain_id: int, by_id: int, why: str) -> None:
    connection.execute(query("put_right.supersede"), {"drain_id": drain_id, "by_id": by_id, "why": why.strip()[:300]})


def _errors(connection: Connection, row: dict[str, Any], old: dict[str, Any], now: dict[str, Any], today: date) -> dict[str, str]:
    """What cannot be of a drain as it would stand now, by field."""
    errors: dict[str, str] = {}
    if now["on_day"] > today and now["on_day"] > today + days.ahead(connection, compartment_id=row["compartment_id"]):
        errors["on"] = "this day is still to come"
    if now["magnet_grade"] not in (None, 0, 1, 2, 3, 4):
        errors["magnet_grade"] = "a grade from 0 to 4"
    if now["air_filter"] not in (None, *AIR_FILTERS):
        errors["air_filter"] = f"one of {', '.join(AIR_FILTERS)}"
    if row["state"] == "retired" and row["compartment_id"] != old["compartment_id"]:
        errors["compartment"] = f"{row['unit']} is retired: nothing is drained there any more"
    same = connection.execute(
        query("board.drain_on_day"), {"compartment_id": row["compartment_id"], "on": now["on_day"]}
    ).fetchone()  # fmt: skip
    if same:
        errors["on"] = f"a drain on {now['on_day']} is on record already, at {same['meter']:.0f} {row['meter_unit']}"
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
