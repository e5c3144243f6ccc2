"""Signing: the queue, a verdict with its reason, what is to be done and by whom, and what was really wrong.

The machine proposes, a person signs; both are kept. An action closes only on a later sample or a recorded finding.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from vornet.core.causes import DO, DUE_DAYS, NAMES, ORDER, READY, READY_WITHOUT
from vornet.core.errors import InputError
from vornet.core.judge import ACT, NONE, RUN_ON, VERDICTS
from vornet.flows.house import days, fleets
from vornet.store.database import Connection, query
from vornet.store.queue import touch

#: samples older than this are history, not work: what a new customer brings along need not be signed one by one
QUEUE_DAYS = 120
MOST_QUEUED = 200
CODES = {word: code for code, word in VERDICTS.items()}
NOTHING, OTHER = "nothing", "other"


@dataclass(frozen=True)
class Action:
    """Something to be done about a verdict. ``kind`` do or resample."""

    what: str
    kind: str = "do"
    owner: str = ""
    due_on: date | None = None
    cause: str = ""


def _span(today: date, older: bool) -> dict[str, date]:
    edge = today - timedelta(days=QUEUE_DAYS)
    return {"since": date.min, "until": edge} if older else {"since": edge, "until": date.max}


def queue(connection: Connection, today: date, limit: int = MOST_QUEUED, older: bool = False) -> list[dict[str, Any]]:
    """Unsigned samples of the last ``QUEUE_DAYS``, or ``older`` ones, worst first, then oldest."""
    return connection.execute(query("verdicts.queue"), {**_span(today, older), "limit": limit}).fetchall()


def waiting(connection: Connection, today: date, older: bool = False) -> int:
    """How many samples wait for a signature, counted as Review does: up to ``MOST_QUEUED``."""
    row = connection.execute(query("verdicts.waiting"), {**_span(today, older), "most": MOST_QUEUED}).fetchone()
    return int(row["n"]) if row else 0


def unheard_stops(connection: Connection) -> list[dict[str, Any]]:
    """Stops, proposed or signed, that nobody who answers for the unit has said they heard; oldest first."""
    return connection.execute(query("verdicts.stops")).fetchall()


def hear_stop(connection: Connection, fleet_id: int, sample_id: int, by: str, note: str = "") -> None:
    """Somebody who answers for the unit has heard of a stop. Raises InputError when it no longer stands."""
    said = _text(note, "note", 500)
    row = connection.execute(query("verdicts.hear_stop"), {"fleet_id": fleet_id, "sample_id": sample_id, "by": by, "note": said}).fetchone()
    if row is None:
        if connection.execute(query("verdicts.heard"), {"sample_id": sample_id}).fetchone():
            return
        raise InputError("stop", "does not stand any more")
    fleets.audit(connection, fleet_id, by, "stop heard", str(row["compartment_id"]), why=said)


def heard(connection: Connection, sample_id: int) -> dict[str, Any] | None:
    """Who heard of a sample's stop, and when."""
    return connection.execute(query("verdicts.heard"), {"sample_id": sample_id}).fetchone()


def closed_on(connection: Connection, sample_id: int) -> list[dict[str, Any]]:
    """Actions that were closed on a sample."""
    return connection.execute(query("verdicts.closed_on"), {"sample_id": sample_id}).fetchall()


def phrases(hypotheses: list[dict[str, Any]], proposed: int) -> list[str]:
    """Comments ready to be taken and changed, best first: what each cause calls for, then what the verdict does."""
    out = [DO[h["key"]] for h in hypotheses if h["strength"] != "possible"]
    return list(dict.fromkeys([*out, READY.get(proposed, READY_WITHOUT)]))


def suggested(hypotheses: list[dict[str, Any]], proposed: int, today: date) -> Action | None:
    """The action a proposal calls for, with its day; None for Run on."""
    if proposed <= RUN_ON:
        return None
    best = next((h for h in hypotheses if h["strength"] != "possible"), None)
    due = today + timedelta(days=DUE_DAYS[proposed])
    if best is None:
        return Action("Sample again at half the interval", "resample", "", due)
    return Action(DO[best["key"]], "do", "", due, best["key"])


def _text(value: str, field: str, most: int = 1000) -> str:
    plain = value.strip()
    if len(plain) > most:
        raise InputError(field, f"is longer than {most} characters")
    return plain


def sign(
    connection: Connection, fleet_id: int, sample_id: int, verdict: str, *, by: str, today: date, cause: str = "", comment: str = "",
    reason: str = "", actions: tuple[Action, ...] = (), closes: tuple[int, ...] = (),
) -> int:  # fmt: skip
    """Sign a verdict on a sample; returns its id. A reason is asked when it differs from the proposal. Signed again, it takes
    back what the one before opened, and opens again what that one closed and this one does not.

    ``closes``: open actions of the compartment that this sample, drawn later, shows to have worked. Raises InputError
    by field; nothing is written then.
    """
    if verdict not in CODES:
        raise InputError("verdict", "is run_on, watch, act or stop")
    code = CODES[verdict]
    judged = connection.execute(query("verdicts.judged"), {"sample_id": sample_id}).fetchone()
    if judged is None:
        raise InputError("sample", "there is no such sample, or it has not been evaluated")
    if connection.execute(query("verdicts.held"), {"sample_id": sample_id}).fetchone():
        raise InputError("sample", "is held: clear it in the Lab inbox first")
    reason, comment = _text(reason, "reason"), _text(comment, "comment", 4000)
    if code != judged["proposed"] and judged["proposed"] != NONE and not reason:
        raise InputError("reason", "say why your verdict differs from the proposal")
    if cause and cause not in NAMES:
        raise InputError("cause", "is not one Vornet knows")
    for action in actions:
        _check_action(action, today)
    before = connection.execute(query("verdicts.current"), {"sample_id": sample_id}).fetchone()
    if before:
        connection.execute(query("verdicts.supersede"), {"verdict_id": before["verdict_id"]})
    row = connection.execute(
        query("verdicts.sign"),
        {"fleet_id": fleet_id, "sample_id": sample_id, "compartment_id": judged["compartment_id"], "verdict": code,
         "proposed": judged["proposed"], "hypotheses": json.dumps(judged["hypotheses"]), "evidence": json.dumps(judged["evidence"] or []),
         "limit_set_id": judged["limit_set_id"], "cause": cause, "comment": comment, "reason": reason, "by": by},
    ).fetchone()  # fmt: skip
    assert row is not None
    verdict_id = int(row["verdict_id"])
    if before:  # what the one before opened, and closed, follows
        connection.execute(query("verdicts.superseded_by"), {"verdict_id": before["verdict_id"], "by": verdict_id})
        connection.execute(query("verdicts.withdraw"), {"before": before["verdict_id"], "now": verdict_id, "by": by})
        connection.execute(query("verdicts.reopen"), {"sample_id": sample_id, "closes": list(closes)})
    for action in actions:
        _open(connection, fleet_id, judged["compartment_id"], sample_id, verdict_id, action, by)
    _close_resamples(connection, judged, by)
    for action_id in closes:
        already = connection.execute(query("verdicts.action"), {"action_id": action_id}).fetchone()
        if already is None or already["closed_sample_id"] != sample_id:
            close_on_sample(connection, fleet_id, action_id, sample_id, by)
    fleets.audit(
        connection, fleet_id, by, "verdict signed", judged["sample_no"], verdict=verdict, why=reason,
        proposed=VERDICTS.get(judged["proposed"], "none"),
    )  # fmt: skip
    connection.execute(query("history.rank"), {"only": [judged["compartment_id"]]})  # the Board's order at once
    # the guards ask for the last verdicts, the signed ones first
    touch(connection, fleet_id, [int(judged["compartment_id"])])
    return verdict_id


def sign_history(connection: Connection, until: date, by: str) -> int:
    """Agree with every proposal on samples drawn up to a day that nobody has signed; how many."""
    return connection.execute(query("verdicts.sign_many"), {"until": until, "by": by}).rowcount


def _check_action(action: Action, today: date) -> None:
    if action.kind not in ("do", "resample"):
        raise InputError("action", "is something to do, or a sample to draw again")
    if not _text(action.what, "action", 500):
        raise InputError("action", "say what is to be done")
    if action.due_on is not None and action.due_on < today:
        raise InputError("due", "is before today")


def _open(
    connection: Connection, fleet_id: int, compartment_id: int, sample_id: int, verdict_id: int | None, action: Action, by: str
) -> None:
    connection.execute(
        query("verdicts.open_action"),
        {"fleet_id": fleet_id, "compartment_id": compartment_id, "sample_id": sample_id, "verdict_id": verdict_id,
         "kind": action.kind, "cause": action.cause, "what": action.what.strip(), "owner": action.owner.strip()[:80],
         "due_on": action.due_on, "by": by},
    )  # fmt: skip


def ask_again(connection: Connection, fleet_id: int, compartment_id: int, sample_id: int, by: str, today: date) -> None:
    """Ask for another bottle of a compartment because this one could not be believed."""
    action = Action("Sample again", "resample", "", today + timedelta(days=DUE_DAYS[ACT]))
    _open(connection, fleet_id, compartment_id, sample_id, None, action, by)


def _close_resamples(connection: Connection, judged: dict[str, Any], by: str) -> None:
    """A sample that was asked for has come: the asking is done."""
    for action in connection.execute(query("verdicts.actions"), {"compartment_id": judged["compartment_id"]}).fetchall():
        if action["kind"] == "resample" and action["sampled_on"] < judged["sampled_on"]:
            connection.execute(
                query("verdicts.close_on_sample"), {"action_id": action["action_id"], "sample_id": judged["sample_id"], "by": by}
            )


def close_on_sample(connection: Connection, fleet_id: int, action_id: int, sample_id: int, by: str) -> None:
    """Close an action on a later sample of its compartment. Raises InputError for an earlier one."""
    action = connection.execute(query("verdicts.action"), {"action_id": action_id}).fetchone()
    judged = connection.execute(query("verdicts.judged"), {"sample_id": sample_id}).fetchone()
    if action is None or judged is None or action["compartment_id"] != judged["compartment_id"]:
        raise InputError("action", "there is no such action here")
    if judged["sampled_on"] <= action["sampled_on"] or judged["sample_id"] == action["sample_id"]:
        raise InputError("action", "closes on a sample drawn after the one it was opened on, or on a finding")
    connection.execute(query("verdicts.close_on_sample"), {"action_id": action_id, "sample_id": sample_id, "by": by})
    fleets.audit(connection, fleet_id, by, "action closed", str(action_id), on_sample=judged["sample_no"])


def record_finding(
    connection: Connection, fleet_id: int, compartment_id: int, on: date, cause: str, note: str, *, by: str, today: date,
    sample_id: int | None = None, closes: tuple[int, ...] = (),
) -> int:  # fmt: skip
    """What the workshop really found: a cause, ``nothing``, or ``other`` with a note. It is set against what was held."""
    if cause not in NAMES and cause not in (NOTHING, OTHER):
        raise InputError("cause", "choose what was found")
    days.check_past(connection, on, today, compartment_id=compartment_id)
    note = _text(note, "note", 2000)
    if cause == OTHER and not note:
        raise InputError("note", "say what it was")
    said = connection.execute(query("verdicts.said_lately"), {"compartment_id": compartment_id, "on": on}).fetchall()
    row = connection.execute(
        query("verdicts.put_finding"),
        {"fleet_id": fleet_id, "compartment_id": compartment_id, "sample_id": sample_id, "on": on, "cause": cause, "note": note,
         "said": json.dumps([{"key": r["key"], "strength": r["strength"]} for r in said]), "by": by},
    ).fetchone()  # fmt: skip
    assert row is not None
    for action_id in closes:
        action = connection.execute(query("verdicts.action"), {"action_id": action_id}).fetchone()
        if action is None or action["compartment_id"] != compartment_id:
            raise InputError("action", "there is no such action here")
        connection.execute(query("verdicts.close_on_finding"), {"action_id": action_id, "finding_id": row["finding_id"], "by": by})
    fleets.audit(connection, fleet_id, by, "finding recorded", str(compartment_id), cause=cause, why=note)
    return int(row["finding_id"])


def score(connection: Connection) -> list[dict[str, Any]]:
    """How often each cause was right where the workshop looked: named, right, missed; in the trade's order."""
    rows = connection.execute(query("verdicts.score")).fetchall()
    place = {key: i for i, key in enumerate(ORDER)}
    out = [{**r, "name": NAMES.get(r["key"], r["key"])} for r in rows]
    return sorted(out, key=lambda r: place.get(r["key"], 99))


def judged(connection: Connection, sample_id: int) -> dict[str, Any] | None:
    """A sample's proposal as it stands; None when it has none."""
    return connection.execute(query("verdicts.judged"), {"sample_id": sample_id}).fetchone()


def open_actions(connection: Connection, compartment_id: int | None) -> list[dict[str, Any]]:
    """Open actions of a compartment, or of all."""
    return connection.execute(query("verdicts.actions"), {"compartment_id": compartment_id}).fetchall()


def of_sample(connection: Connection, sample_id: int) -> list[dict[str, Any]]:
    """Every verdict signed on a sample, newest first."""
    return connection.execute(query("verdicts.of_sample"), {"sample_id": sample_id}).fetchall()


def follow_up(connection: Connection, compartment_id: int | None = None, limit: int = 40) -> dict[str, Any]:
    """Open and closed actions, findings, and the running score of causes."""
    mine = {"compartment_id": compartment_id, "limit": limit}
    return {
        "open": open_actions(connection, compartment_id),
        "closed": connection.execute(query("verdicts.actions_closed"), mine).fetchall(),
        "findings": findings(connection, compartment_id, limit),
        "score": score(connection),
    }


def findings(connection: Connection, compartment_id: int | None, limit: int) -> list[dict[str, Any]]:
    """What workshops found, of a compartment or of all, newest first."""
    return connection.execute(query("verdicts.findings"), {"compartment_id": compartment_id, "limit": limit}).fetchall()


def resamples(connection: Connection) -> list[dict[str, Any]]:
    """Samples asked for and still awaited, soonest first."""
    return connection.execute(query("verdicts.resamples")).fetchall()
