"""What is handed on: a sample's report, a compartment's history, the fleet's week."""

from __future__ import annotations

import math
from datetime import date, timedelta
from typing import Any

from vornet.core.causes import NAMES
from vornet.core.judge import VERDICTS
from vornet.core.measurands import KEYS
from vornet.flows.judge import verdicts
from vornet.flows.pages import compartment
from vornet.store.database import Connection, query

WEEK_DAYS = 7


def history_rows(facts: compartment.Facts) -> list[dict[str, Any]]:
    """One row a sample, oldest first: where, when, verdict proposed and signed, cause, every value measured."""
    samples, out = facts.loaded.history.samples, []
    for i, sample_id in enumerate(facts.loaded.sample_ids.tolist()):
        known = facts.samples.get(sample_id, {})
        hypotheses = known.get("hypotheses") or []
        hours = float(facts.charges.oil_hours[i])
        u = facts.unit
        row: dict[str, Any] = {
            "sample_no": known.get("sample_no"), "lab": known.get("lab"), "sampled_on": date.fromordinal(int(samples.day[i])).isoformat(),
            f"meter_{u}": None if math.isnan(samples.total[i]) else round(float(samples.total[i]), 1),
            f"oil_{u}": None if math.isnan(hours) else round(hours, 1), "charge": int(facts.charges.number[facts.charges.charge_of[i]]),
            "held": not bool(samples.usable[i]), "proposed": compartment.proposed_word(facts, i),
            "signed": VERDICTS.get(-1 if known.get("signed") is None else int(known["signed"])),
            "signed_by": known.get("signed_by"), "comment": known.get("verdict_comment"), "reason": known.get("verdict_reason"),
            "first_cause": hypotheses[0]["key"] if hypotheses else None, "strength": hypotheses[0]["strength"] if hypotheses else None,
        }  # fmt: skip
        for m, key in enumerate(KEYS):
            value = float(samples.values[i, m])
            if not math.isnan(value):
                sign = "<" if (samples.below[i] >> m) & 1 else ">" if (samples.above[i] >> m) & 1 else ""
                row[key] = f"{sign}{value:g}" if sign else round(value, 6)
        out.append(row)
    return out


#: of a drain, what is only there to be read on a page
_FOR_PAGES = ("drain_id", "extra", "looks", "closed", "left", "left_defects", "left_found_on")


def _drain(row: dict[str, Any]) -> dict[str, Any]:
    """A drain as a file says it, what was seen in words."""
    said = {k: (v.isoformat() if isinstance(v, date) else v) for k, v in row.items() if k not in _FOR_PAGES}
    return {**said, "seen": "; ".join(f"{look.what} {look.words}" for look in row["looks"])}


def history_document(facts: compartment.Facts) -> dict[str, Any]:
    """A compartment's history as one document."""
    r = facts.row
    return {
        "unit": r["unit"], "compartment": r["compartment"], "kind": r["kind"], "family": r["family"], "oil": r["oil"],
        "meter_unit": facts.unit, "samples": history_rows(facts),
        "drains": [_drain(d) for d in facts.drains],
        "intervals": [
            {"effective_from": v["effective_from"].isoformat(), "meter": v["meter"]} for v in facts.intervals
        ],
    }  # fmt: skip


def week(connection: Connection, today: date) -> dict[str, Any]:
    """The fleet's week: verdicts signed, what is open and late, what waits, who needs someone first, intervals moved."""
    since = today - timedelta(days=WEEK_DAYS)
    signed = connection.execute(query("verdicts.signed_between"), {"since": since, "until": today}).fetchall()
    board = connection.execute(
        query("board.rows"), {"show": "all", "depot": "", "q": "", "like": "", "limit": 12, "offset": 0, "since": today}
    ).fetchall()
    follow = verdicts.follow_up(connection)
    return {
        "since": since, "signed": signed, "counts": {VERDICTS[c]: sum(s["verdict"] == c for s in signed) for c in VERDICTS},
        "bad": [s for s in signed if s["verdict"] >= 1], "open": follow["open"],
        "late": [a for a in follow["open"] if a["due_on"] and a["due_on"] < today], "waiting": verdicts.waiting(connection, today),
        "held": (connection.execute(query("board.waiting")).fetchone() or {"held": 0})["held"], "board": board, "names": NAMES,
        "counted": connection.execute(query("board.counts")).fetchone(), "findings": [f for f in follow["findings"] if f["on_day"] > since],
        "intervals": connection.execute(query("verdicts.intervals_moved"), {"since": since}).fetchall(),
    }  # fmt: skip
