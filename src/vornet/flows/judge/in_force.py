"""What is in force, kept: whatever is said of an interval goes in here, what follows from it is worked by ``core.in_force`` and kept in one
table that everybody reads, and what waits for its day is asked about on it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import TYPE_CHECKING, Any

import numpy as np

from vornet.core import in_force as rule
from vornet.core.against import caps_against, days_against, length_against, state_against
from vornet.core.errors import InputError
from vornet.core.fact import Fact
from vornet.core.in_force import Ground, Said, Span
from vornet.flows.house import fleets
from vornet.flows.judge import decision_record, fleet_history
from vornet.store import queue
from vornet.store.database import Connection, as_json, query
from vornet.words import say as words

if TYPE_CHECKING:
    from vornet.flows.judge.evaluate import Worked

LENGTH, CALENDAR = "length", "calendar"


@dataclass(frozen=True, kw_only=True)
class Statement:
    """What somebody says of a compartment's interval, from a day on: a length, a calendar limit, or both."""

    compartment_id: int
    on: date
    origin: str
    by: str
    length: float | None = None
    days: int | None = None
    says_length: bool = True
    says_calendar: bool = False
    why: str = ""
    evidence: str | None = None
    upholds: bool = False
    trial_id: int | None = None


def say(connection: Connection, fleet_id: int, statements: Sequence[Statement], today: date) -> None:
    """Keep statements, with the oil in use and the last overhaul as of today, and work anew what is in force."""
    if not statements:
        return
    ids = sorted({s.compartment_id for s in statements})
    rows = connection.execute(query("in_force.ground_of"), {"compartments": ids, "today": today}).fetchall()
    ground = {r["compartment_id"]: r for r in rows}
    with connection.cursor() as cursor:
        cursor.executemany(query("in_force.put"), [
            {"fleet_id": fleet_id, "compartment_id": s.compartment_id, "effective_from": s.on, "meter": s.length, "days": s.days,
             "origin": s.origin, "approved_by": s.by, "why": s.why, "evidence": s.evidence, "says_length": s.says_length,
             "says_calendar": s.says_calendar, "said_on": today, "oil_id": ground[s.compartment_id]["oil_id"],
             "renewed_on": ground[s.compartment_id]["renewed_on"], "upholds": s.upholds, "trial_id": s.trial_id}
            for s in statements
        ])  # fmt: skip
    refresh(connection, fleet_id, ids)


def refresh(connection: Connection, fleet_id: int, compartments: Sequence[int] | None = None) -> None:
    """Work anew what is in force, of some compartments or of all, and keep what is different."""
    asked: dict[str, Any] = {"compartments": None if compartments is None else list(compartments)}
    said: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for r in connection.execute(query("in_force.said"), asked):
        said[r["compartment_id"]].append(r)
    kept: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for r in connection.execute(query("in_force.kept"), asked):
        kept[r["compartment_id"]].append(r)
    ground = _grounds(connection, [c for c, rows in said.items() if any(r["origin"] in rule.EVIDENCED for r in rows)])
    stale, rows = [], []
    for c in sorted(said.keys() | kept.keys()):
        fresh = _rows(fleet_id, c, said[c], ground.get(c, Ground()), kept[c])
        if [tuple(r[k] for k in _COMPARED) for r in fresh] != [tuple(r[k] for k in _COMPARED) for r in kept[c]]:
            stale.append(c)
            rows += fresh
    if stale:
        connection.execute(query("in_force.forget"), {"compartments": stale})
        with connection.cursor() as cursor:
            cursor.executemany(query("in_force.keep"), rows)


_COMPARED = ("fact", "place", "interval_id", "origin", "value", "from_day", "until_day", "state", "why", "by_id")


def _grounds(connection: Connection, compartments: list[int]) -> dict[int, Ground]:
    if not compartments:
        return {}
    oils: dict[int, list[tuple[int, int]]] = defaultdict(list)
    renewals: dict[int, list[int]] = defaultdict(list)
    for r in connection.execute(query("in_force.oils"), {"compartments": compartments}):
        oils[r["compartment_id"]].append((r["on_day"].toordinal(), r["oil"]))
    for r in connection.execute(query("in_force.renewals"), {"compartments": compartments}):
        renewals[r["compartment_id"]].append(r["on_day"].toordinal())
    return {c: Ground(oils=tuple(oils[c]), renewals=tuple(renewals[c])) for c in compartments}


def _rows(fleet_id: int, compartment_id: int, said: list[dict[str, Any]], ground: Ground, kept: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Spans of both facts as they are kept, what was asked about what waits taken over."""
    asked = {(r["fact"], r["interval_id"]): (r["held_up"], r["asked_on"]) for r in kept if r["state"] == rule.WAITS}
    out = []
    for fact in (CALENDAR, LENGTH):  # as they are read, in order of their names
        spans = rule.history([_said(r, fact) for r in said if r[f"says_{fact}"]], ground)
        for place, s in enumerate(spans):
            held_up, on = asked.get((fact, s.key), (None, None)) if s.state == rule.WAITS else (None, None)
            out.append({
                "fleet_id": fleet_id, "compartment_id": compartment_id, "fact": fact, "place": place, "interval_id": s.key,
                "origin": s.origin, "value": s.value, "from_day": date.fromordinal(s.start),
                "until_day": None if s.end is None else date.fromordinal(s.end), "state": s.state, "why": s.why, "by_id": s.by,
                "held_up": None if held_up is None else as_json(held_up), "asked_on": on,
            })  # fmt: skip
    return out


def _said(r: dict[str, Any], fact: str) -> Said:
    def day(name: str) -> int | None:
        return None if r[name] is None else int(r[name].toordinal())

    value = r["meter"] if fact == LENGTH else r["days"]
    return Said(
        key=r["interval_id"], on=r["effective_from"].toordinal(), said_on=r["said_on"].toordinal(), origin=r["origin"],
        value=None if value is None else float(value), oil=r["oil_id"], renewed=day("renewed_on"), upholds=r["upholds"],
        begun_on=day("begun_on"), withdrawn_on=day("withdrawn_on"), ends_on=day("ends_on"),
    )  # fmt: skip


def spans_of(course: Iterable[dict[str, Any]], fact: str) -> list[Span]:
    """Kept rows of one fact as core has them."""
    return [
        Span(key=r["interval_id"], origin=r["origin"], value=r["value"], start=r["from_day"].toordinal(),
             end=None if r["until_day"] is None else r["until_day"].toordinal(), state=r["state"], why=r["why"])
        for r in course if r["fact"] == fact
    ]  # fmt: skip


def course(connection: Connection, compartment_id: int) -> list[dict[str, Any]]:
    """The history of a compartment's interval: both facts, what stood when, on whose word, why it ended. ``from_start``: it was the
    register's before anybody said another; ``order``: lengths first, the latest first."""
    rows = connection.execute(query("in_force.course"), {"compartment_id": compartment_id}).fetchall()
    return [
        r | {"from_start": r["from_day"] <= fleets.ALWAYS, "order": (r["fact"] == CALENDAR, -r["from_day"].toordinal(), -r["place"])}
        for r in rows
    ]


def stood(connection: Connection, compartments: Sequence[int]) -> dict[int, list[dict[str, Any]]]:
    """Lengths that stood, oldest first, of those compartments that ever had one approved that began."""
    out: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for r in connection.execute(query("in_force.stood"), {"compartments": list(compartments)}):
        out[r["compartment_id"]].append(r)
    return out


def lengths(connection: Connection, compartment_id: int) -> list[dict[str, Any]]:
    """Lengths that stood, oldest first: for frames along the meter and lists."""
    return [
        {**r, "effective_from": r["from_day"], "meter": r["value"]} for r in course(connection, compartment_id)
        if r["fact"] == LENGTH and r["state"] in (rule.STANDS, rule.STOOD) and r["until_day"] != r["from_day"]
    ]  # fmt: skip


def said_of(connection: Connection, compartment_id: int) -> list[dict[str, Any]]:
    """Everything that was said of a compartment's interval, oldest first."""
    return connection.execute(query("in_force.said_of"), {"compartment_id": compartment_id}).fetchall()


def waits_here(connection: Connection, compartment_id: int, today: date) -> list[dict[str, Any]]:
    """What waits of one compartment for its day or for what stands against it, soonest first."""
    return connection.execute(query("in_force.waits_here"), {"compartment_id": compartment_id, "today": today}).fetchall()


def held_up(connection: Connection, today: date, units: Sequence[int] | None = None) -> list[dict[str, Any]]:
    """What was approved for a day that has come, and something stands against it: for Board and mail."""
    return connection.execute(query("in_force.held_up"), {"today": today, "units": None if units is None else list(units)}).fetchall()


def after_drain(connection: Connection, compartment_id: int, on: date) -> tuple[float | None, float | None]:
    """The length that stands once the compartment is drained on a day: (filled with the oil in use, filled with another). A trial ends with
    its charge, and what rests on an oil ends with it."""
    said = connection.execute(query("in_force.said"), {"compartments": [compartment_id]}).fetchall()
    ground = _grounds(connection, [compartment_id])[compartment_id]
    rows = [_said(r, LENGTH) for r in said if r["says_length"]]
    tried = [r for r in rows if r.origin == rule.TRIAL and r.ends_on is None]
    day = max([on.toordinal(), *(r.on + 1 for r in tried)])  # a drain of the day a trial began is not its charge's
    rows = [replace(r, ends_on=day) if r in tried else r for r in rows]
    here = rule.on_day(rule.history(rows, ground), day)
    other = rule.on_day(rule.history(rows, replace(ground, oils=(*ground.oils, (day, -1)))), day)
    return (None if here is None else here.value), (None if other is None else other.value)


def register_said(connection: Connection, compartments: Sequence[int], today: date) -> dict[int, dict[str, Any]]:
    """What the register itself last said of each fact, and what stands today since when, by compartment."""
    rows = connection.execute(query("in_force.register_said"), {"compartments": list(compartments), "today": today}).fetchall()
    return {r["compartment_id"]: r for r in rows}


def refusal(
    connection: Connection, compartment_id: int, length: float | None, days: int | None, days_now: int | None, today: date
) -> tuple[str, str] | None:  # fmt: skip
    """Why the register may not say this by itself, as (``interval`` or ``interval_days``, why); None where it may: a longer one, where
    something that was judged here stands against it, takes a name and a reason on the interval's own page."""
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    decision = None if row is None else decision_record.typed(row["decision"])
    if row is None or decision is None:
        return None
    meter, seen = row["meter_unit"], row["last_sample_id"] is not None or bool(row["held"])
    if length is not None:
        against = length_against(decision, length, meter) if seen else caps_against(decision, length)
        if against:
            return "interval", f"{length:g} {meter} {_needs_approval(against)}"
    if days is not None and seen:
        policy, _ = fleet_history.policies_in_force(connection, today).of(row)
        against = days_against(decision, days, days_now, policy.most_at_once)
        if against:
            return "interval_days", f"{days} days {_needs_approval(against)}"
    return None


def clearing_refused(connection: Connection, compartment_id: int, now: dict[str, Any], clears: frozenset[str]) -> tuple[str, str] | None:
    """Why a fact may not be taken away, or None: without the other a drain never comes due, and what was approved is not taken back so."""
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    decision = None if row is None else decision_record.typed(row["decision"])
    if {"length", "days"} <= clears or (LENGTH in clears and now["days"] is None) or ("days" in clears and now["length"] is None):
        return "interval", "without a length and a calendar limit its drain would never come due"
    if LENGTH in clears and now["origin"] in rule.EVIDENCED:
        return "interval", "was approved: another length is approved in its place"
    if "days" in clears and decision is not None and (against := state_against(decision)):
        return "interval_days", f"no calendar limit {_needs_approval(against)}"
    return None


def _needs_approval(against: Sequence[Fact]) -> str:
    said = "; ".join(words.say(f) for f in against[:3])
    return f"is longer than what is in force, and something stands against it ({said}): approve it on its interval's page"


def withdraw(connection: Connection, fleet_id: int, compartment_id: int, interval_id: int, why: str, by: str, today: date) -> None:
    """Take back what waits for its day. Raises InputError."""
    mine = [w for w in waits_here(connection, compartment_id, today) if w["interval_id"] == interval_id]
    if not mine:
        raise InputError("interval", "does not wait any more: it has begun, or was ended")
    connection.execute(
        query("in_force.withdraw"), {"fleet_id": fleet_id, "interval_id": interval_id, "on": today, "by": by, "why": why.strip()[:400]}
    )
    refresh(connection, fleet_id, [compartment_id])
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    assert row is not None
    fleets.audit(
        connection, fleet_id, by, "approval withdrawn", f"{row['unit']} {row['compartment']}", interval=mine[0]["value"],
        effective_from=str(mine[0]["from_day"]), why=why.strip()[:400],
    )  # fmt: skip
    queue.touch(connection, fleet_id, [compartment_id])


def begin(connection: Connection, fleet_id: int, worked: Worked, today: date) -> bool:
    """Ask the guards about what waits and whose day has come: what they let begins today, of what they do not it is kept what stands against
    it. True when something has begun: then decisions are to be made anew (the register rows are changed in place)."""
    loaded = worked.loaded
    mine = {int(loaded.compartment_ids[c]): c for c in worked.decisions}
    rows = connection.execute(query("in_force.due"), {"compartments": list(mine), "today": today}).fetchall()
    if not rows:
        return False
    facts: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for r in rows:
        facts[r["interval_id"]].append(r)
    begun: list[int] = []
    for interval_id, waiting in facts.items():
        c = mine[waiting[0]["compartment_id"]]
        against = [f for r in waiting for f in _against(worked, c, r)]
        if against:
            connection.execute(query("in_force.hold_up"), {
                "compartment_id": waiting[0]["compartment_id"], "interval_id": interval_id, "on": today,
                "held_up": as_json([f.plain() for f in against]),
            })  # fmt: skip
        else:
            connection.execute(query("in_force.begin"), {"fleet_id": fleet_id, "interval_id": interval_id, "on": today})
            begun.append(waiting[0]["compartment_id"])
    if not begun:
        return False
    refresh(connection, fleet_id, begun)
    for r in connection.execute(query("in_force.register_said"), {"compartments": begun, "today": today}):
        c = mine[r["compartment_id"]]
        loaded.register[c]["interval_meter"], loaded.register[c]["interval_days"] = r["length"], r["days"]
        loaded.history.compartments.interval[c] = np.nan if r["length"] is None else r["length"]
    return True


def _against(worked: Worked, c: int, waiting: dict[str, Any]) -> list[Fact]:
    decision, row = worked.decisions[c], worked.loaded.register[c]
    policy = worked.loaded.policies[c]
    if waiting["fact"] == LENGTH:
        return length_against(decision, waiting["value"], row["meter_unit"])
    return days_against(decision, waiting["value"], row["interval_days"], policy.most_at_once)
