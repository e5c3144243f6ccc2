"""Samples that are held: laid beside what they are doubted against, released, rejected, corrected or swapped back."""

from __future__ import annotations

import math
from datetime import date, timedelta
from typing import Any

from vornet.core import measures
from vornet.core.checks import CHECKS
from vornet.core.errors import InputError
from vornet.core.measurands import BY_KEY, INDEX, KEYS, MEASURANDS
from vornet.flows.house import days, fleets
from vornet.flows.judge import verdicts
from vornet.flows.lab.held_rows import reason_given
from vornet.flows.work import drain, notes
from vornet.io.cells import LARGEST, read_number
from vornet.store import queue
from vornet.store.database import Connection, query
from vornet.words.writing import read_day

SETTLED = ("released", "rejected")


def hold(connection: Connection, hold_id: int) -> dict[str, Any]:
    """One hold with its sample. Raises InputError when it is settled or not there."""
    row = connection.execute(query("results.holds"), {"limit": 1, "hold_id": hold_id}).fetchone()
    if row is None:
        raise InputError("hold", "is settled already")
    row["check"] = CHECKS.get(row["reason"])
    found: dict[str, Any] = row
    return found


#: which measurands speak to a hold
_SPEAKING = {
    "wrong_oil": ("ca", "mg", "zn", "p", "b", "mo", "s", "v40", "v100"),
    "swapped_bottle": ("ca", "zn", "p", "s", "v40", "v100", "fe", "cu", "bn", "an", "soot_pct", "oxidation"),
    "dirty_bottle": ("si", "al", "na", "k", "fe", "cr", "cu", "water_ppm"),
    "unrecorded_drain": ("fe", "cr", "cu", "pb", "al", "sn", "bn", "soot_pct", "oxidation"),
    "unrecorded_top_up": ("fe", "cr", "cu", "pb", "al", "sn", "bn", "soot_pct", "oxidation"),
    "viscosity_order": ("v40", "v100"), "viscosity_index": ("v40", "v100", "ca", "zn", "p", "s"),
    "bn_above_new": ("bn", "an", "ca", "mg", "zn"),
}  # fmt: skip
_OTHERWISE = ("fe", "cu", "si", "na", "v100", "bn", "water_ppm")


def beside(connection: Connection, found: dict[str, Any]) -> dict[str, Any]:
    """The held sample beside its neighbours, the new oil and, of a swap, the other bottle: columns and rows."""
    own = whole(connection, found["sample_id"])
    around = connection.execute(
        query("results.around"), {"compartment_id": own["compartment_id"], "on": own["sampled_on"], "sample_id": own["sample_id"]}
    ).fetchall()
    columns = [{"name": day_words(r["sampled_on"]), "values": r["values"], "below": r["below"], "kind": ""} for r in around]
    at = sum(r["sampled_on"] < own["sampled_on"] for r in around)
    this = {"name": "this sample", "values": own["values"], "below": own["below"], "kind": "this"}
    columns.insert(at, this)
    fresh = connection.execute(query("results.new_oil_of"), {"compartment_id": own["compartment_id"]}).fetchone()
    if fresh and fresh["new_values"]:
        columns.insert(0, {"name": "new oil", "values": fresh["new_values"], "below": 0, "kind": "new"})
    other = found["facts"].get("other")
    if other:
        try:
            theirs = whole(connection, int(other["sample_id"]))
        except InputError:
            theirs = None
        if theirs:
            columns.append({"name": f"{other['unit']} {other['compartment']}", "values": theirs["values"], "below": theirs["below"],
                            "kind": "other"})  # fmt: skip
    keys = _SPEAKING.get(found["reason"], ())
    factors = found["facts"].get("factors", {})
    keys = (*factors, *(k for k in _OTHERWISE if k not in factors)) if factors else keys or _OTHERWISE
    rows = []
    for key in keys:
        m = INDEX[key]
        cells = [c["values"][m] if m < len(c["values"]) else None for c in columns]
        if any(x is not None and x == x for x in cells):
            signs = ["<" if (c["below"] >> m) & 1 else "" for c in columns]
            rows.append({"m": BY_KEY[key], "cells": list(zip(cells, signs, strict=True))})
    put_right = {key: own["values"][INDEX[key]] * factor for key, factor in factors.items()}
    return {"columns": columns, "rows": rows, "put_right": put_right, "sample": own}


def day_words(on: date) -> str:
    return f"{on.day} {on:%b %Y}"


def settle(connection: Connection, fleet_id: int, hold_id: int, settlement: str, why: str, by: str, today: date, again: bool = False) -> None:
    """Release a held sample into judgement, or reject it for good; then evaluate its compartment.

    ``again``: with a rejection, ask for another bottle; it stands on the Plan until it comes.
    """
    if settlement not in SETTLED:
        raise InputError("settlement", "release it or reject it")
    said = reason_given(why)
    row = connection.execute(query("results.settle_hold"), {"hold_id": hold_id, "by": by, "settlement": settlement, "why": said}).fetchone()
    if row is None:
        raise InputError("hold", "is settled already")
    sample = connection.execute(query("results.sample_compartment"), {"sample_id": row["sample_id"]}).fetchone()
    assert sample is not None
    if settlement == "rejected":  # the sample is out: its other holds need nobody any more
        connection.execute(query("results.settle_others"), {"sample_id": row["sample_id"], "by": by, "why": f"rejected: {said}"[:500]})
        if again:
            verdicts.ask_again(connection, fleet_id, sample["compartment_id"], row["sample_id"], by, today)
    fleets.audit(connection, fleet_id, by, f"sample {settlement}", sample["sample_no"], why=said, again=again)
    queue.touch(connection, fleet_id, [sample["compartment_id"]])


def _replace(
    connection: Connection, fleet_id: int, old: dict[str, Any], changes: dict[str, Any], kind: str, what: str, why: str, by: str
) -> int:
    """A sample's row superseded by a changed one; what was released stays released, what was held is looked at anew."""
    connection.execute(query("results.step_aside"), {"sample_id": old["sample_id"]})
    new = connection.execute(query("results.insert_changed"), {**old, **changes, "fleet_id": fleet_id, "by": by}).fetchone()
    assert new is not None
    ids = {"sample_id": new["sample_id"], "old_sample_id": old["sample_id"]}
    connection.execute(query("results.superseded"), {**ids, "why": f"{kind} by {by}: {why}"[:300]})
    connection.execute(query("results.carry_releases"), {**ids, "fleet_id": fleet_id})
    connection.execute(query("results.clear_holds"), {"sample_id": old["sample_id"], "by": by, "why": f"{kind}: {why}"[:500]})
    connection.execute(
        query("results.put_correction"), {"fleet_id": fleet_id, **ids, "kind": kind, "what": what[:1000], "why": why, "by": by}
    )
    return int(new["sample_id"])


def whole(connection: Connection, sample_id: int) -> dict[str, Any]:
    """Every column of a sample that holds. Raises InputError when it was replaced meanwhile."""
    row = connection.execute(query("results.whole_sample"), {"sample_id": sample_id}).fetchone()
    if row is None:
        raise InputError("sample", "has been replaced meanwhile: look again")
    found: dict[str, Any] = row
    return found


def _typed(cell: str, name: str, mark: str) -> tuple[float, str]:
    """A result as a person types it: (value, '' | '<' | '>'), NaN when not measured. Raises InputError; also for what may be two numbers."""
    as_printed = read_number(cell)
    if not isinstance(as_printed, str) and math.isnan(as_printed[0]):
        return as_printed
    plain = cell.lstrip("<>≤≥= ")
    value = measures.number(plain, name, mark)
    if abs(value) > LARGEST:
        raise InputError(name, f"{cell[:40]} is out of range")
    return value, "" if plain == cell else "<" if cell[0] in "<≤" else ">"


def correct(
    connection: Connection, fleet_id: int, sample_id: int, typed: dict[str, str], why: str, by: str, today: date, mark: str = "."
) -> int:  # fmt: skip
    """Correct a sample: values by measurand key, ``meter``, ``oil_hours``, ``sampled_on``; a blank value was not
    measured. ``mark``: the decimal mark of whoever types, '' not known. What the lab printed stays on record. Returns the new sample's
    id. Raises InputError by field."""
    said = reason_given(why)
    old = whole(connection, sample_id)
    values = list(old["values"]) + [None] * (len(KEYS) - len(old["values"]))
    below, above = old["below"], old["above"]
    changes: dict[str, Any] = {}
    told: list[str] = []
    for name, text in typed.items():
        cell = text.strip()
        if name in INDEX:
            m = INDEX[name]
            number = _typed(cell, name, mark)
            was = values[m]
            new = None if number[0] != number[0] else number[0]
            sign = "<" if (below >> m) & 1 else ">" if (above >> m) & 1 else ""
            if new == was and number[1] == sign:
                continue
            values[m] = new if new is not None else float("nan")
            below = (below & ~(1 << m)) | ((1 << m) if number[1] == "<" else 0)
            above = (above & ~(1 << m)) | ((1 << m) if number[1] == ">" else 0)
            label = BY_KEY[name].spoken
            told.append(f"{label} {sign}{_shown(was)} to {cell or 'not measured'}")
        elif name in ("meter", "oil_hours"):
            number = _typed(cell, name, mark)
            if number[1] or number[0] < 0:
                raise InputError(name, "must be a plain number")
            new = None if number[0] != number[0] else number[0]
            if new != old[name]:
                changes[name] = new
                told.append(f"{name.replace('_', ' ')} {_shown(old[name])} to {cell or 'unknown'}")
        elif name == "sampled_on":
            day = read_day(cell, name)
            if day is None:
                raise InputError(name, "a day up to today")
            days.check_past(connection, day, today, compartment_id=old["compartment_id"], field=name)
            if day != old["sampled_on"]:
                changes[name] = day
                told.append(f"day {old['sampled_on']} to {day}")
        else:
            raise InputError(name, "cannot be corrected here")
    if not told:
        raise InputError("values", "nothing is changed: type what is right, or release it")
    changes |= {"values": [float("nan") if v is None else v for v in values], "below": below, "above": above}
    new_id = _replace(connection, fleet_id, old, changes, "corrected", "; ".join(told), said, by)
    fleets.audit(connection, fleet_id, by, "sample corrected", old["sample_no"], changes=told, why=said)
    if old["compartment_id"] is not None:
        queue.touch(connection, fleet_id, [old["compartment_id"]])
    return new_id


def follow_drain(connection: Connection, fleet_id: int, sample_id: int, changes: dict[str, Any], what: str, why: str, by: str) -> int:
    """A sample goes with its drain that was put right: ``changes`` by column. Its row as it was stays on record; what was signed of it is
    to be judged again. The new sample's id."""
    said = reason_given(why)
    old = whole(connection, sample_id)
    new_id = _replace(connection, fleet_id, old, changes, "corrected", what, said, by)
    fleets.audit(connection, fleet_id, by, "sample put right", old["sample_no"], now=what, why=said)
    places = {old["compartment_id"], changes.get("compartment_id", old["compartment_id"])} - {None}
    queue.touch(connection, fleet_id, sorted(places))
    return new_id


def _shown(value: float | None) -> str:
    return "unknown" if value is None or value != value else f"{value:g}"


_PRINTED = ("values", "below", "above", "comment", "severity", "import_file_id", "row_no")


def swap(connection: Connection, fleet_id: int, hold_id: int, why: str, by: str) -> None:
    """Two bottles carried each other's labels: exchange what the lab printed between them; both rows stay on record."""
    said = reason_given(why)
    found = hold(connection, hold_id)
    other = found["facts"].get("other")
    if found["reason"] != "swapped_bottle" or not other:
        raise InputError("hold", "is not about swapped bottles")
    a, b = whole(connection, found["sample_id"]), whole(connection, int(other["sample_id"]))
    for mine, theirs in ((a, b), (b, a)):
        what = f"results exchanged with sample {theirs['sample_no']}"
        _replace(connection, fleet_id, mine, {k: theirs[k] for k in _PRINTED}, "swapped", what, said, by)
    fleets.audit(connection, fleet_id, by, "bottles swapped back", f"{a['sample_no']} and {b['sample_no']}", why=said)
    queue.touch(connection, fleet_id, {a["compartment_id"], b["compartment_id"]} - {None})


def record_oil(connection: Connection, fleet_id: int, hold_id: int, by: str, today: date) -> str:
    """Record the drain or top-up that a fall inside a charge speaks of, half way between the two samples."""
    found = hold(connection, hold_id)
    before = found["facts"].get("after")
    if found["reason"] not in ("unrecorded_drain", "unrecorded_top_up") or not before:
        raise InputError("hold", "is not about oil that nobody recorded")
    earlier, later = whole(connection, int(before["sample_id"])), whole(connection, found["sample_id"])
    if earlier["meter"] is None or later["meter"] is None:
        raise InputError("meter", "one of the two samples has no meter: log it on the compartment's page")
    on = earlier["sampled_on"] + timedelta(days=max((later["sampled_on"] - earlier["sampled_on"]).days // 2, 0))
    meter = round((earlier["meter"] + later["meter"]) / 2, 1)
    if found["reason"] == "unrecorded_top_up":
        litres = round(float(found["facts"]["litres"]), 1)
        notes.top_up(connection, fleet_id, later["compartment_id"], on, meter, litres, None, None, by, today)
        return f"{litres:g} L top-up on {on} recorded"
    found_drain = drain.Drained(on, meter, note="found from the oil: nobody recorded it")
    drain.log(connection, fleet_id, later["compartment_id"], found_drain, by, today, {"found_from_sample": later["sample_no"]})
    return f"drain on {on} recorded"


def act(
    connection: Connection, fleet_id: int, hold_id: int, do: str, typed: dict[str, str], why: str, by: str, today: date, mark: str = "."
) -> str:  # fmt: skip
    """What a person decides about a held sample: ``released``, ``rejected``, ``again`` (rejected, another bottle asked for), ``correct``
    (``typed`` as ``correct`` takes it), ``swap``, ``record``; what was done, in a sentence. Raises InputError by field."""
    if do == "swap":
        swap(connection, fleet_id, hold_id, why or "labels changed over", by)
        return "results exchanged; both are judged in their own places"
    if do == "record":
        return record_oil(connection, fleet_id, hold_id, by, today)
    if do == "correct":
        correct(connection, fleet_id, hold(connection, hold_id)["sample_id"], typed, why, by, today, mark)
        return "corrected and screened again"
    if do == "again":
        settle(connection, fleet_id, hold_id, "rejected", why, by, today, again=True)
        return "rejected; another bottle is asked for, and stands on the Plan"
    settle(connection, fleet_id, hold_id, do, why, by, today)
    return "released into judgement" if do == "released" else "rejected"


def history_of(connection: Connection, sample_id: int) -> list[dict[str, Any]]:
    """Every row a sample's number has had, newest first: re-issues and corrections, with what changed."""
    rows = connection.execute(query("results.versions"), {"sample_id": sample_id}).fetchall()
    for newer, older in zip(rows, rows[1:], strict=False):
        newer["changed"] = _differences(older, newer)
    for row in rows:
        row.setdefault("changed", [])
    return rows


def _differences(older: dict[str, Any], newer: dict[str, Any]) -> list[str]:
    out = []
    for m, (x, y) in enumerate(zip(older["values"], newer["values"], strict=False)):
        if x != y and not (x != x and y != y):
            out.append(f"{MEASURANDS[m].name} {_shown(x)} to {_shown(y)}")
    for name in ("meter", "oil_hours", "sampled_on"):
        if older[name] != newer[name]:
            out.append(f"{name.replace('_', ' ')} {older[name]} to {newer[name]}")
    return out
