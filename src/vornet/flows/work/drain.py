"""Logging a drain: figures that follow from what is known so far, checks, and the charge that starts with it."""

from __future__ import annotations

import json
import math
import uuid
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

from vornet.core import concession
from vornet.core import meter as meters_rules
from vornet.core.drain import DrainFacts, DrainFigures, Sump, start_value
from vornet.core.drain import figures as worked
from vornet.core.errors import FormErrors, InputError
from vornet.core.fact import Fact
from vornet.core.measurands import BY_KEY, INDEX, KEYS, Measurand
from vornet.flows.house import days, fleets, meters
from vornet.flows.judge import in_force
from vornet.store import queue
from vornet.store.database import Connection, query
from vornet.words.say import each

AIR_FILTERS = ("clean", "dusty", "blocked", "leaking")
MAGNET = ("clean", "fine fuzz", "a few flecks", "thick furry build-up", "slivers or chips")
#: what the next charge starts with is told of these
STARTS = ("fe", "cu", "si", "soot_pct")
#: fields of core's arithmetic as a drain names them
_FIELDS = {"drained_volume_l": "volume_out_l", "poured_l": "volume_in_l"}


#: of a compartment that nothing was judged of yet: whatever is to come has come
FAR = date(9000, 1, 1)
#: a drain at which nothing was measured
NOTHING_READ = DrainFacts()


@dataclass(frozen=True)
class Drained:
    """A drain as somebody noted it; stored units, None where it was not said."""

    on: date
    meter: float | None
    facts: DrainFacts = NOTHING_READ
    in_l: float | None = None
    magnet_grade: int | None = None
    air_filter: str | None = None
    oil: str = ""
    batch: str = ""
    ambient_c: float | None = None
    reading_after: float | None = None
    concession: str = ""
    sample_no: str = ""
    note: str = ""
    client_id: uuid.UUID | None = None


@dataclass(frozen=True)
class Start:
    """What the next charge starts with of a measurand, out of what the old one ended with."""

    m: Measurand
    old: float
    start: float


@dataclass(frozen=True)
class Following:
    """What follows from a drain as far as it is noted: the oil's age, its arithmetic, what the next charge starts with, when it is
    due; ``errors`` by field."""

    oil_hours: float | None
    sums: DrainFigures | None
    starts: tuple[Start, ...]
    next_due: float | None
    errors: dict[str, str]


def place(connection: Connection, compartment_id: int) -> dict[str, Any]:
    """The compartment with its unit's latest meter and its last sample. Raises InputError when unknown."""
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    if row is None:
        raise InputError("compartment", "is not in this fleet")
    which = {"unit_id": row["unit_id"], "meter_no": row["meter_no"]}
    row["latest"] = connection.execute(query("board.latest_meter"), which).fetchone()
    row["last"] = connection.execute(query("board.last_sample_values"), {"compartment_id": compartment_id}).fetchone()
    row["oils"] = [o["name"] for o in connection.execute(query("register.oils")).fetchall()]
    row["fresh"] = dict(zip(KEYS, row["new_values"] or (), strict=False))
    row["changes"] = meters.changes_by_meter(connection).get(row["meter_id"], [])
    row["ahead"] = max(days.ahead(connection, compartment_id=compartment_id), timedelta(0))
    row["drains"] = connection.execute(query("board.drains_of"), {"compartment_id": compartment_id}).fetchall()
    row["after_drain"] = in_force.after_drain(connection, compartment_id, row["as_of"] or FAR)
    found: dict[str, Any] = row
    return found


def next_interval(row: dict[str, Any], oil: str) -> float | None:
    """How long the next charge is to run on an oil ('' the one in use): after a trial what ran before it, on another oil the register's."""
    same, other = row["after_drain"]
    found: float | None = same if not oil or oil == row["oil"] else other
    return found


def sump(row: dict[str, Any]) -> Sump:
    """A place's oil system."""
    return Sump(
        row["system_volume_l"], row["capacity_l"], row["capacity_without_filter_l"], row["volume_between_marks_l"],
        bool(row["facts"].get("filters")),
    )  # fmt: skip


def follow(row: dict[str, Any], drained: Drained, today: date) -> Following:
    """What follows from what is noted so far, and what is wrong with it."""
    errors: dict[str, str] = {}
    if drained.on > today + row["ahead"]:
        errors["on"] = "this day is still to come"
    oil_hours = None
    if drained.meter is None:
        errors["meter"] = "the meter is needed"
    else:
        try:
            oil_hours = _oil_hours(row, drained.on, drained.meter)
        except InputError as error:
            errors["meter"] = error.why
    sums = None
    try:
        sums = worked(sump(row), replace(drained.facts, poured_l=drained.in_l or 0.0))
    except InputError as error:
        errors[_FIELDS.get(error.field, error.field)] = error.why
    interval = next_interval(row, drained.oil)
    due = drained.meter + interval if drained.meter is not None and interval else None
    return Following(oil_hours, sums, starts(row, sums.residual_share if sums else None), due, errors)


def _oil_hours(row: dict[str, Any], on: date, meter: float) -> float | None:
    """Age of the oil at a drain. Raises InputError for a meter that goes back or jumps."""
    unit, changes, day = row["meter_unit"], row["changes"], on.toordinal()
    total = meters_rules.running_total(meter, day, changes)
    if row["latest"] is not None:
        meters_rules.check(total, day, [meters.known(row["latest"], changes)], unit)
    before = next((d for d in row["drains"] if d["on_day"] < on), None)
    if before is None:
        return None
    fill = meters.known(before, changes)
    if total < fill.total:
        raise InputError("meter", f"below the last drain's {fill.shown:.0f} {unit} on {before['on_day']}")
    return total - fill.total


def starts(row: dict[str, Any], share: float | None) -> tuple[Start, ...]:
    """What the next charge starts with, from the last sample of the charge that ends."""
    if share is None:
        return ()
    return tuple(Start(BY_KEY[key], old, start_value(share, old, new)) for key, old, new in ends(row))


def ends(row: dict[str, Any]) -> list[tuple[str, float, float]]:
    """(measurand, what the charge that ends was last seen with, what new oil has) of what is told."""
    last, drains = row["last"], row["drains"]
    if last is None or (drains and last["sampled_on"] <= drains[0]["on_day"]):
        return []
    out = []
    for key in STARTS:
        old, new = last["values"][INDEX[key]], row["fresh"].get(key, math.nan)
        if old == old:
            out.append((key, old, 0.0 if math.isnan(new) else new))
    return out


def concession_reasons(connection: Connection, row: dict[str, Any], drained: Drained) -> list[Fact]:
    """Why the chosen oil in this weather would be a concession; empty when it is not. Raises InputError for an unknown oil."""
    oils = {o["name"]: o for o in connection.execute(query("register.oils")).fetchall()}
    chosen = drained.oil or row["oil"]
    if not chosen:
        return []
    if chosen not in oils:
        raise InputError("oil", f"there is no oil named {chosen!r} in the register")
    facts = row["facts"]
    bands = [concession.Band(b["oil"], b.get("min_c"), b.get("max_c"), bool(b.get("alternative"))) for b in facts.get("oils", ())]
    return concession.reasons(
        chosen, row["oil"], bands, drained.ambient_c, facts.get("required_approvals", ()), oils[chosen]["facts"].get("approvals", ())
    )


def _check(connection: Connection, row: dict[str, Any], drained: Drained, today: date) -> tuple[dict[str, str], list[Fact]]:
    """What is wrong with a drain by field, and why its oil is a concession."""
    errors = follow(row, drained, today).errors
    if drained.magnet_grade not in (None, 0, 1, 2, 3, 4):
        errors["magnet_grade"] = "a grade from 0 to 4"
    if drained.air_filter not in (None, *AIR_FILTERS):
        errors["air_filter"] = f"one of {', '.join(AIR_FILTERS)}"
    reasons: list[Fact] = []
    try:
        reasons = concession_reasons(connection, row, drained)
    except InputError as error:
        errors[error.field] = error.why
    if reasons and not drained.concession:
        errors["concession"] = "; ".join(each(reasons)) + ": say why it goes in all the same"
    which = {"compartment_id": row["compartment_id"], "on": drained.on}
    same = connection.execute(query("board.drain_on_day"), which).fetchone()
    if same:
        errors["on"] = f"a drain on {drained.on} is on record already, at {same['meter']:.0f} {row['meter_unit']}"
    return errors, reasons


def log(
    connection: Connection, fleet_id: int, compartment_id: int, drained: Drained, by: str, today: date, seen: dict[str, Any] | None = None
) -> int:  # fmt: skip
    """Check and keep a drain; its id. Raises FormErrors by field.

    ``seen``: what a job saw beside it, kept with the drain. The same client id a second time changes nothing.
    """
    row = place(connection, compartment_id)
    client = drained.client_id or uuid.uuid4()
    again = connection.execute(query("board.drain_by_client"), {"client_id": client}).fetchone()
    if again:
        return int(again["drain_id"])
    errors, reasons = _check(connection, row, drained, today)
    if errors:
        raise FormErrors(errors)
    kept = {
        "ambient_c": drained.ambient_c, "batch": drained.batch[:120], "reading_after": drained.reading_after,
        "concession": drained.concession[:500] if reasons else "",
    }  # fmt: skip
    against = {"concession_of": [fact.plain() for fact in reasons]} if reasons else {}
    kept = {k: v for k, v in kept.items() if v not in (None, "")}
    chosen = drained.oil or row["oil"]
    oil_id = next((o["oil_id"] for o in connection.execute(query("register.oils")).fetchall() if o["name"] == chosen), None)
    facts = drained.facts
    sums = worked(sump(row), facts)
    saved = connection.execute(
        query("board.put_drain"),
        {
            "fleet_id": fleet_id, "compartment_id": compartment_id, "on": drained.on, "meter": drained.meter, "volume_out_l": facts.out_l,
            "volume_in_l": drained.in_l,
            "volume_out_kind": "unknown" if facts.out_l is None else ("estimated" if facts.out_kind == "estimated" else "measured"),
            "level_missing_l": None if sums.missing_l is None else round(sums.missing_l, 3),
            "oil_id": oil_id, "extra": json.dumps({**(seen or {}), **kept, **against}), "filter_changed": facts.filter_changed,
            "magnet_grade": drained.magnet_grade, "air_filter": drained.air_filter, "sample_no": drained.sample_no.strip()[:80] or None,
            "note": drained.note.strip()[:2000], "client_id": client, "by": by,
        },
    ).fetchone()  # fmt: skip
    assert saved is not None
    about = f"{row['unit']} {row['compartment']}"
    fleets.audit(
        connection, fleet_id, by, "drain logged", about, on=str(drained.on), meter=drained.meter, out_l=facts.out_l, in_l=drained.in_l, **kept
    )
    if kept.get("concession"):
        fleets.audit(connection, fleet_id, by, "oil concession", about, on=str(drained.on), because="; ".join(each(reasons)), **kept)
    queue.touch(connection, fleet_id, [compartment_id])
    return int(saved["drain_id"])
