"""Approving an interval: by a named person, from a day on, on evidence that is kept with it."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

import numpy as np

from vornet.core import reckoning
from vornet.core.against import days_against
from vornet.core.decision import Decision, Terms
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge import decision_record, fleet_history, in_force, turns
from vornet.flows.judge.judging import judge_loaded
from vornet.store import queue
from vornet.store.database import Connection, query
from vornet.words.say import say

#: how far ahead an interval may be approved, and its calendar limit
AHEAD, MOST_DAYS = timedelta(days=366), 3650


class Changed(InputError):
    """What the approval rested on is no longer what stands: it is shown anew, and asked again."""


def seen(decision: dict[str, Any], versions: list[dict[str, Any]]) -> str:
    """What an approval rests on, as a short text: the decision's figures, and how much was said of the interval before."""
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
    judgement = judge_loaded(loaded, charges)
    at = int(np.flatnonzero(loaded.compartment_ids == row["compartment_id"])[0])
    return reckoning.of(loaded.history, charges, judgement, loaded.limits, loaded.policies, at)


def chance_of(connection: Connection, row: dict[str, Any], meter: float, today: date) -> float | None:
    """Chance that any property is past its limit at the end of charges of this length, as it is reckoned today."""
    found = reckoned(connection, row, today)
    return None if found is None else found.chance(meter)


def still_stands(figures: dict[str, Any], said: list[dict[str, Any]], rests_on: str) -> None:
    """Raise Changed where what was on the page (``seen``) is no longer what stands, or nobody says what was."""
    if not rests_on:
        raise Changed("rests_on", "is missing: an approval says which evidence it was made on, as the page or the API shows it")
    if rests_on == seen(figures, said):
        return
    another = max(said, key=lambda v: v["interval_id"]) if not rests_on.endswith(f".{len(said)}") and said else None
    what = "what it rests on has changed since the page was opened"
    if another is not None and another["meter"]:
        verb = "approved" if another["origin"] == "approved" else "put in force"
        what = f"{another['approved_by']} has {verb} {another['meter']:g} meanwhile"
    raise Changed("interval", f"{what}: look again, and approve if it still holds")


@dataclass(frozen=True, kw_only=True)
class Asked:
    """What one approval is about, read while its family is held."""

    row: dict[str, Any]
    figures: dict[str, Any]
    decision: Decision | None
    said: list[dict[str, Any]]

    @property
    def name(self) -> str:
        return f"{self.row['unit']} {self.row['compartment']}"

    @property
    def stamp(self) -> str:
        return seen(self.figures, self.said)

    @property
    def current(self) -> float | None:
        return None if self.row["interval_meter"] is None else float(self.row["interval_meter"])


def asked(connection: Connection, compartment_id: int, today: date) -> Asked:
    """Hold the compartment's family, and read what a decision of its interval rests on. Raises InputError."""
    turns.hold_for(connection, [compartment_id], today)
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    if row is None:
        raise InputError("compartment", "is not in this fleet")
    figures = decision_record.opened(row["decision"], row["slopes"]) or {}
    return Asked(row=row, figures=figures, decision=decision_record.typed(row["decision"]), said=in_force.said_of(connection, compartment_id))


def check_length(it: Asked, meter: float, why: str, caps: Terms) -> None:
    """What may be approved as a length. Raises InputError by field. ``caps``: as the register says them."""
    unit, current = it.row["meter_unit"], it.current
    if not 0 < meter <= 1e6:
        raise InputError("interval", "an interval must be above zero")
    for limit, what in (
        (caps.cap, "the maker's or warranty cap of {}"), (caps.oil_cap, "the {} that the oil in use may run"),
        (caps.filter, "the {} that the oil filter may run"), (caps.bypass, "the {} that the bypass filter may run"),
    ):  # fmt: skip
        if limit is not None and meter > limit:
            raise InputError("interval", f"{meter:g} {unit} is beyond {what.format(f'{limit:g} {unit}')}")
    longer = current is not None and meter > current
    if longer and it.decision is not None and it.decision.open_faults:
        raise InputError("interval", FAULT_OPEN)
    if not why.strip() and (it.decision is None or meter != it.decision.proposed):
        raise InputError("why", "say why, because this is not what Vornet proposes")


FAULT_OPEN = (
    "cannot be lengthened while a fault is open: a clean sample, a signed finding, or a second person's "
    "signature that it is none closes it first"
)


def check_days(it: Asked, days: int, days_now: int | None, why: str, most_at_once: float) -> None:
    """What may be approved as a calendar limit: guarded as hours are. Raises InputError by field."""
    if not 1 <= days <= MOST_DAYS:
        raise InputError("days", f"lies outside 1 to {MOST_DAYS}")
    if days_now is None or days <= days_now or it.decision is None:
        return
    if it.decision.open_faults:
        raise InputError("days", FAULT_OPEN)
    against = days_against(it.decision, days, days_now, most_at_once)
    if against and not why.strip():
        raise InputError("why", f"say why, because something stands against so many days: {'; '.join(say(f) for f in against)}")


def check_start(start: date, today: date) -> None:
    if not today <= start <= today + AHEAD:
        raise InputError("effective_from", "takes effect today or within the year to come")


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
    turns.hold_for(connection, list(shown), today)
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
                it = asked(connection, compartment_id, today)
                approve(connection, fleet_id, compartment_id, now, "", by, today, rests_on=it.stamp)
            done.append(compartment_id)
        except InputError as error:
            refused.append(Refused(compartment_id, name, error.why))
    return done, refused


def approve(
    connection: Connection, fleet_id: int, compartment_id: int, meter: float, why: str, by: str, today: date, *,
    rests_on: str, days: int | None = None, effective_from: date | None = None, upholds: bool = False, after_trial: bool = False,
) -> None:  # fmt: skip
    """A named person approves an interval; the old one stays on record. ``days``: the calendar limit beside it, None keeps the one
    there is; ``rests_on``: what was on the page (``seen``); ``upholds``: what waits for its day still holds; ``after_trial``: its trial has
    just been adopted. What takes effect on a day to come begins then, once the guards let it (core/in_force.py). A shorter length ends a
    trial that runs. Raises InputError, Changed."""
    it = asked(connection, compartment_id, today)
    still_stands(it.figures, it.said, rests_on)
    start = effective_from or today
    check_start(start, today)
    check_length(it, meter, why, caps_of(connection, compartment_id, today))
    now = in_force.register_said(connection, [compartment_id], today)[compartment_id]
    days = None if days == now["days"] else days
    if days is not None:
        policy, _ = fleet_history.policies_in_force(connection, today).of(it.row)
        check_days(it, days, now["days"], why, policy.most_at_once)
    _end_trial(connection, fleet_id, it, meter, start, today, by, after_trial)
    evidence = it.figures | {"chance_at_approved": chance_of(connection, it.row, meter, today)}
    in_force.say(connection, fleet_id, [in_force.Statement(
        compartment_id=compartment_id, on=start, origin="approved", by=by, length=meter, days=days, says_calendar=days is not None,
        why=why.strip(), evidence=json.dumps(evidence), upholds=upholds,
    )], today)  # fmt: skip
    fleets.audit(
        connection, fleet_id, by, "interval approved", it.name, interval=meter, days=days, effective_from=str(start), before=it.current,
        proposed=None if it.decision is None else it.decision.proposed, why=why.strip(), upholds=upholds,
    )  # fmt: skip
    queue.touch(connection, fleet_id, [compartment_id])


def _end_trial(
    connection: Connection, fleet_id: int, it: Asked, meter: float, start: date, today: date, by: str, after_trial: bool
) -> None:  # fmt: skip
    """While a trial runs nothing longer than what ran before it is approved, and nothing for later; a shorter one ends it."""
    if after_trial:
        return
    trial = connection.execute(query("trials.running"), {"compartments": [it.row["compartment_id"]]}).fetchone()
    if trial is None:
        return
    if meter > trial["before"] or start > today:
        raise InputError("interval", "a trial runs here: adopt it, or fall back from it, first; a shorter one can be approved at any time")
    ending = f"a shorter interval was approved: {meter:g} {it.row['meter_unit']}"
    connection.execute(query("trials.end"), {"trial_id": trial["trial_id"], "state": "fell_back", "on": today, "by": by, "ending": ending})
    fleets.audit(connection, fleet_id, by, "trial ended by a shorter interval", it.name, of=trial["length"], interval=meter)


def caps_of(connection: Connection, compartment_id: int, today: date) -> Terms:
    """What maker, oil in use and filters allow, as the register says it."""
    row = connection.execute(query("register.compartments"), {"today": today, "only": [compartment_id]}).fetchone()
    ground = connection.execute(query("in_force.ground_of"), {"compartments": [compartment_id], "today": today}).fetchone()
    assert row is not None and ground is not None
    oil = next((o for o in connection.execute(query("register.oils")).fetchall() if o["oil_id"] == ground["oil_id"]), None)
    return fleet_history.terms_of(row, fleet_history.caps_of_oil(oil))


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
