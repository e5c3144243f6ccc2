"""Approving an interval: by a named person, from a day on, on evidence that is kept with it."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

import numpy as np

from vornet.core import reckoning
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge import decision_record, fleet_history, learning
from vornet.store import queue
from vornet.store.database import Connection, query

#: how far ahead an interval may be approved, and its calendar limit
AHEAD, MOST_DAYS = timedelta(days=366), 3650


class Changed(InputError):
    """What the approval rested on is no longer what stands: it is shown anew, and asked again."""


def seen(decision: dict[str, Any], versions: list[dict[str, Any]]) -> str:
    """What an approval rests on, as a short text: the decision's figures, and how many versions of the interval there were."""
    figures = {k: v for k, v in decision.items() if k not in ("properties", "slopes")}
    said = hashlib.blake2b(json.dumps(figures, sort_keys=True, default=str).encode(), digest_size=9).hexdigest()
    return f"{said}.{len(versions)}"


def reckoned(connection: Connection, row: dict[str, Any], today: date) -> reckoning.Reckoning | None:
    """What a compartment's chances are reckoned from, as its evaluation left it; worked now where an earlier version left none. ``row`` as
    ``board.compartment`` has it; None where no property answers."""
    kept = connection.execute(query("board.reckoning"), {"compartment_id": row["compartment_id"]}).fetchone()
    if kept is not None and kept["reckoning"] is not None:
        return reckoning.unpacked(kept["reckoning"]) if len(kept["reckoning"]) else None
    mine = [r["compartment_id"] for r in connection.execute(query("register.duties")) if r["family"] == row["family"]]
    loaded, charges = fleet_history.drop_held(connection, fleet_history.load(connection, today, mine))
    judgement = learning.judged(loaded, charges)
    at = int(np.flatnonzero(loaded.compartment_ids == row["compartment_id"])[0])
    return reckoning.of(loaded.history, charges, judgement, loaded.limits, loaded.policies, at)


def chance_of(connection: Connection, row: dict[str, Any], meter: float, today: date) -> float | None:
    """Chance that any property is past its limit at the end of charges of this length, as it is reckoned today."""
    found = reckoned(connection, row, today)
    return None if found is None else found.chance(meter)


def still_stands(decision: dict[str, Any], versions: list[dict[str, Any]], rests_on: str) -> None:
    """Raise Changed where what was on the page (``seen``) is no longer what stands; '' was not looked at."""
    if not rests_on or rests_on == seen(decision, versions):
        return
    another = max(versions, key=lambda v: v["recorded_at"]) if not rests_on.endswith(f".{len(versions)}") and versions else None
    what = f"{another['approved_by']} has approved {another['meter']:g} meanwhile" if another else (
        "what it rests on has changed since the page was opened")  # fmt: skip
    raise Changed("interval", f"{what}: look again, and approve if it still holds")


def versions_of(connection: Connection, compartments: list[int]) -> dict[int, list[dict[str, Any]]]:
    """The interval's versions, oldest first, of those compartments that ever had one approved."""
    out: dict[int, list[dict[str, Any]]] = {}
    for r in connection.execute(query("register.approved_versions"), {"compartments": compartments}).fetchall():
        out.setdefault(r["compartment_id"], []).append(r)
    return out


def check(row: dict[str, Any], decision: dict[str, Any], meter: float, why: str, days: int | None, start: date, today: date) -> None:
    """What may be approved. Raises InputError by field."""
    unit = row["meter_unit"]
    if not 0 < meter <= 1e6:
        raise InputError("interval", "an interval must be above zero")
    if row["cap_meter"] and meter > row["cap_meter"]:
        raise InputError("interval", f"{meter:g} {unit} is beyond the maker's or warranty cap of {row['cap_meter']:g} {unit}")
    for key, what in (("oil_cap", "the oil in use"), ("filter", "the oil filter"), ("bypass", "the bypass filter")):
        cap = next((g["fact"]["numbers"]["limit"] for g in decision.get("guards", []) if g["key"] == key and "numbers" in g["fact"]), None)
        if cap is not None and meter > cap:
            raise InputError("interval", f"{meter:g} {unit} is beyond the {cap:g} {unit} that {what} may run")
    longer = row["interval_meter"] is not None and meter > row["interval_meter"]
    if longer and decision.get("open_faults"):
        raise InputError(
            "interval", "cannot be lengthened while a fault is open: a clean sample, a signed finding, or a second person's "
            "signature that it is none closes it first"
        )  # fmt: skip
    if days is not None and not 1 <= days <= MOST_DAYS:
        raise InputError("days", f"lies outside 1 to {MOST_DAYS}")
    if not today <= start <= today + AHEAD:
        raise InputError("effective_from", "takes effect today or within the year to come")
    if meter != decision.get("proposed") and not why.strip():
        raise InputError("why", "say why, because this is not what Vornet proposes")


@dataclass(frozen=True)
class Refused:
    """One of many that was not approved: which, and why."""

    compartment_id: int
    name: str
    why: str


def approve_many(
    connection: Connection, fleet_id: int, shown: dict[int, float], by: str, today: date
) -> tuple[list[int], list[Refused]]:  # fmt: skip
    """Approve proposals as they were shown (compartment → length): (approved, refused). Each stands alone: what was proposed is approved
    only where it is proposed still, and one that is refused costs none of the others."""
    done: list[int] = []
    refused: list[Refused] = []
    for compartment_id, meter in shown.items():
        row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
        if row is None:
            refused.append(Refused(compartment_id, "", "is not in this fleet"))
            continue
        name, now = f"{row['unit']} {row['compartment']}", row["proposed_meter"]
        try:
            if row["outcome"] not in ("lengthen", "shorten") or now is None or abs(now - meter) > 1e-4 * meter:
                what = (
                    f"{now:g} {row['meter_unit']} now"
                    if now is not None and row["outcome"] in ("lengthen", "shorten")
                    else "nothing to approve now"
                )
                raise Changed("interval", f"the proposal has changed since the page was opened: {what}")
            with connection.transaction():
                approve(connection, fleet_id, compartment_id, now, "", by, today)
            done.append(compartment_id)
        except InputError as error:
            refused.append(Refused(compartment_id, name, error.why))
    return done, refused


def approve(
    connection: Connection, fleet_id: int, compartment_id: int, meter: float, why: str, by: str, today: date, *,
    days: int | None = None, effective_from: date | None = None, rests_on: str = "", after_trial: bool = False,
) -> None:  # fmt: skip
    """A named person approves an interval; the old one stays on record. ``days``: the calendar limit beside it, None keeps the one
    there is; ``rests_on``: what was on the page (``seen``), '' for whoever did not look at one; ``after_trial``: its trial has
    just been adopted. Raises InputError, Changed."""
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    if row is None:
        raise InputError("compartment", "is not in this fleet")
    decision = decision_record.opened(row["decision"], row["slopes"]) or {}
    versions = connection.execute(query("register.intervals_of"), {"compartment_id": compartment_id}).fetchall()
    still_stands(decision, versions, rests_on)
    if not after_trial and connection.execute(query("trials.running"), {"compartments": [compartment_id]}).fetchone():
        raise InputError("interval", "a trial runs here: adopt it, or fall back from it, first")
    start = effective_from or today
    check(row, decision, meter, why, days, start, today)
    kept = days if days is not None else versions[-1]["days"] if versions else None
    evidence = decision | {"chance_at_approved": chance_of(connection, row, meter, today)}
    connection.execute(
        query("register.put_interval"),
        {"fleet_id": fleet_id, "compartment_id": compartment_id, "effective_from": start, "meter": meter, "days": kept,
         "origin": "approved", "approved_by": by, "why": why.strip(), "evidence": json.dumps(evidence)},
    )  # fmt: skip
    fleets.audit(
        connection, fleet_id, by, "interval approved", f"{row['unit']} {row['compartment']}", interval=meter, days=kept,
        effective_from=str(start), before=row["interval_meter"], proposed=decision.get("proposed"), why=why.strip(),
    )  # fmt: skip
    queue.touch(connection, fleet_id, [compartment_id])


def decline(connection: Connection, fleet_id: int, compartment_id: int, why: str, by: str, today: date) -> None:
    """A proposal that is not followed: who says so, and why; it is told beside it until something else is proposed."""
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    if row is None:
        raise InputError("compartment", "is not in this fleet")
    if row["outcome"] not in ("lengthen", "shorten"):
        raise InputError("compartment", "nothing is proposed for it that could be declined")
    if not why.strip():
        raise InputError("why", "say why the proposal is not followed")
    connection.execute(
        query("money.put_declined"),
        {"fleet_id": fleet_id, "compartment_id": compartment_id, "outcome": row["outcome"], "proposed": row["proposed_meter"],
         "current": row["interval_meter"], "why": why.strip()[:400], "on": today, "by": by},
    )  # fmt: skip
    fleets.audit(
        connection, fleet_id, by, "proposal declined", f"{row['unit']} {row['compartment']}", proposed=row["proposed_meter"],
        outcome=row["outcome"], why=why.strip()[:400],
    )  # fmt: skip


def declined(connection: Connection, since: date, until: date, compartment_id: int | None = None) -> list[dict[str, Any]]:
    """Proposals that were not followed in a span of days, newest first."""
    asked = {"since": since, "until": until, "compartment_id": compartment_id}
    return connection.execute(query("money.declined"), asked).fetchall()
