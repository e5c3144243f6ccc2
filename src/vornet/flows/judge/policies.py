"""Policies: dated, versioned rules by fleet, duty, family and unit; tried before they are saved."""

from __future__ import annotations

import json
from collections import Counter
from dataclasses import replace
from datetime import date
from typing import Any

from vornet.core.decision import Policy
from vornet.core.errors import FormErrors, InputError
from vornet.core.policy import SCOPES, checked, contradictions, nearest
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate, fleet_history, taught
from vornet.flows.judge.fleet_history import Policies
from vornet.store import queue
from vornet.store.database import Connection, Location, opened, query
from vornet.words.say import say

SCOPE_WORDS = {"fleet": "the whole fleet", "duty": "a duty", "family": "a family", "unit": "one unit"}
#: compartments whose decision would change, named
NAMED = 40


def in_force(connection: Connection, today: date) -> Policies:
    """The policies of a day."""
    return fleet_history.policies_in_force(connection, today)


def places(connection: Connection) -> dict[str, list[str]]:
    """Duties, families and units that rules can be said for."""
    rows = connection.execute(query("money.policy_places")).fetchall()
    return {scope: sorted({r[scope] for r in rows if r[scope]}) for scope in ("duty", "family", "unit")}


def versions(connection: Connection) -> list[dict[str, Any]]:
    """Every version, the newest first."""
    return connection.execute(query("money.policy_versions")).fetchall()


def _touched_by(connection: Connection, scope: str, place: str) -> list[dict[str, Any]]:
    """Compartments that a scope's rules are for: (compartment, unit, family, duty, its interval and what it counts)."""
    rows = connection.execute(query("money.policy_places")).fetchall()
    return [r for r in rows if scope == "fleet" or r[scope] == place]


def proposed(
    connection: Connection, scope: str, place: str, given: dict[str, Any], today: date
) -> tuple[dict[tuple[str, str], dict[str, Any]], dict[str, Any]]:
    """All rules as they would be, and what this scope would say. Raises FormErrors by field: what cannot be, and what contradicts."""
    known = places(connection)
    if scope not in SCOPES:
        raise FormErrors({"where": f"one of {', '.join(SCOPE_WORDS)}"})
    place = "" if scope == "fleet" else place
    if scope != "fleet" and place not in known[scope]:
        raise FormErrors({"where": f"choose a {scope} of this fleet"})
    rules = checked(given)
    rows = {**in_force(connection, today).rows, (scope, place): rules}
    would = Policies(rows)
    by_policy: dict[Policy, list[tuple[float, str]]] = {}
    for r in _touched_by(connection, scope, place):
        by_policy.setdefault(would.of(r)[0], []).extend([(r["meter"], r["counts"])] if r["meter"] else [])
    wrong: dict[str, str] = {}
    system = fleets.settings(connection)["measures"]
    for policy, intervals in by_policy.items():
        wrong |= {f.kind: say(f, system) for f in contradictions(policy, intervals)}
    if not by_policy:
        wrong |= {f.kind: say(f, system) for f in contradictions(nearest({scope: rules})[0])}
    if wrong:
        raise FormErrors(wrong)
    return rows, rules


def what_if(connection: Connection, scope: str, place: str, given: dict[str, Any], today: date) -> dict[str, Any]:
    """Which decisions would change, and how, were the rules saved. Raises FormErrors; nothing is written."""
    rows, _ = proposed(connection, scope, place, given, today)
    mine = [r["compartment_id"] for r in _touched_by(connection, scope, "" if scope == "fleet" else place)]
    mates = (
        [r["compartment_id"] for r in connection.execute(query("history.family_mates"), {"compartments": mine}).fetchall()] if mine else []
    )
    if not mates:
        return {"n": 0, "changed": [], "counts": {}, "more": 0}
    loaded, charges = fleet_history.drop_held(connection, fleet_history.load(connection, today, mates))
    signed = taught.signed_verdicts(connection, mates)
    now = evaluate.work(loaded, charges, signed, mine).decisions
    would = Policies(rows)
    then = evaluate.work(replace(loaded, policies=[would.of(r)[0] for r in loaded.register]), charges, signed, mine).decisions
    changed, counts = [], Counter[str]()
    for c, decision in now.items():
        other, row = then[c], loaded.register[c]
        if (decision.outcome, decision.proposed) == (other.outcome, other.proposed):
            continue
        counts[f"{decision.outcome}→{other.outcome}"] += 1
        changed.append({
            "compartment_id": int(loaded.compartment_ids[c]), "unit": row["unit"], "compartment": row["name"],
            "meter_unit": row["meter_unit"], "was": decision.outcome, "becomes": other.outcome, "was_at": decision.proposed,
            "becomes_at": other.proposed, "today": decision.current, "reason": other.reason.plain(),
        })  # fmt: skip
    changed.sort(key=lambda r: abs((r["becomes_at"] or 0) - (r["was_at"] or 0)) / (r["today"] or 1), reverse=True)
    return {"n": len(now), "changed": changed[:NAMED], "counts": dict(counts), "more": max(len(changed) - NAMED, 0)}


def what_if_apart(location: Location, fleet_id: int, scope: str, place: str, given: dict[str, Any], today: date) -> dict[str, Any]:
    """``what_if`` for a process of its own, which opens the database by itself."""
    with opened(location) as db, db.fleet(fleet_id) as connection:
        return what_if(connection, scope, place, given, today)


def save(
    connection: Connection, fleet_id: int, by: str, scope: str, place: str, given: dict[str, Any], why: str, effective_from: date,
    today: date,
) -> None:  # fmt: skip
    """A new version of what one scope says; what it touches is decided anew. Raises FormErrors, InputError."""
    if not why.strip():
        raise InputError("why", "say why: whoever reads it in a year asks")
    if effective_from < today:
        raise InputError("effective_from", "rules hold from today on, or later")
    queue.hold(connection, "rules")
    was = in_force(connection, today).rows
    rows, rules = proposed(connection, scope, place, given, today)
    place = "" if scope == "fleet" else place
    if rules == was.get((scope, place), {}):
        raise InputError("rules", "are as they were: nothing was kept")
    assert rows
    connection.execute(
        query("money.put_policy"),
        {"fleet_id": fleet_id, "scope": scope, "place": place, "effective_from": effective_from, "rules": json.dumps(rules), "by": by,
         "why": why.strip()[:400]},
    )  # fmt: skip
    fleets.audit(
        connection,
        fleet_id,
        by,
        "policy set",
        place or SCOPE_WORDS["fleet"],
        effective_from=str(effective_from),
        why=why.strip()[:400],
        **fleets.changed(was.get((scope, place), {}), rules),
    )
    queue.touch(connection, fleet_id, [r["compartment_id"] for r in _touched_by(connection, scope, place)])
