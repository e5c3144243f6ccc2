"""Findings that move how strongly a sign speaks: what they say, what it would have changed, and who signed it. And calibration:
of what was called, how much the workshop confirmed; of the charges run to their approved length, how many ended past a limit."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import date
from typing import Any

import numpy as np

from vornet.core import learning
from vornet.core.causes import CAUSES, NAMES
from vornet.core.charges import Charges, cut
from vornet.core.errors import InputError
from vornet.core.held import AT_END, RUN_OUT
from vornet.core.judge import VERDICTS, Judgement
from vornet.core.measurands import INDEX
from vornet.core.oil_properties import PROPERTIES, decides
from vornet.flows.house import fleets
from vornet.flows.judge import fleet_history
from vornet.flows.judge.fleet_history import Loaded
from vornet.flows.judge.judging import judge_loaded
from vornet.store import queue
from vornet.store.database import Connection, query
from vornet.words.say import say

#: charges and versions shown
MOST_CHARGES, MOST_VERSIONS, MOST_LISTED = 500, 30, 12


@dataclass(frozen=True)
class Proposed:
    """What a family's findings say: ``rows`` suggestions, ``past`` what signing them would have changed."""

    family: str
    rows: list[learning.Suggestion]
    past: dict[str, Any]


def findings_of(recorded: Sequence[dict[str, Any]], loaded: Loaded) -> list[tuple[int, int, int, str]]:
    """Recorded findings as core takes them: (number, compartment, day, cause), of compartments that were loaded."""
    at = {int(c): i for i, c in enumerate(loaded.compartment_ids)}
    return [
        (int(f["finding_id"]), at[f["compartment_id"]], f["on_day"].toordinal(), f["cause"]) for f in recorded if f["compartment_id"] in at
    ]


def propose(loaded: Loaded, judgement: Judgement, findings: Sequence[tuple[int, int, int, str]], only: str = "") -> list[Proposed]:
    """What findings say, family by family, with what each would have changed over the history."""
    known = learning.cases(loaded.history, judgement.diagnosis, findings)
    out = []
    for f, family in enumerate(loaded.families):
        if only and family != only:
            continue
        now = {k: float(x[f]) for k, x in loaded.factors.items()}
        rows = learning.suggest(known, f, now)
        if rows:
            out.append(Proposed(family, rows, _past(loaded, f, rows)))
    return out


def _past(whole: Loaded, family: int, rows: Sequence[learning.Suggestion]) -> dict[str, Any]:
    """What other weights would have changed: verdicts from → to, first causes from → to, and the newest samples among them.
    Only the family itself is judged again, before and after."""
    loaded = whole.part(whole.history.compartments.family == family)
    factors = {k: x.copy() for k, x in loaded.factors.items()}
    for r in rows:
        factors.setdefault(learning.key_of(r.cause, r.sign), np.ones(1))[0] = r.proposed
    history, charges = loaded.history, cut(loaded.history)
    before, after = judge_loaded(loaded, charges), judge_loaded(replace(loaded, factors=factors), charges)
    mine = np.flatnonzero(history.samples.usable)

    def first(j: Judgement, i: int) -> str:
        best = j.diagnosis.best_first(i)
        return CAUSES[best[0]].key if best else ""

    verdicts: Counter[tuple[str, str]] = Counter()
    causes: Counter[tuple[str, str]] = Counter()
    listed: list[dict[str, Any]] = []
    for i in mine[np.argsort(-history.samples.day[mine], kind="stable")].tolist():
        was, now = VERDICTS.get(int(before.proposed[i]), "none"), VERDICTS.get(int(after.proposed[i]), "none")
        said, says = first(before, i), first(after, i)
        if was != now:
            verdicts[(was, now)] += 1
        if said != says:
            causes[(said, says)] += 1
        if (was != now or said != says) and len(listed) < MOST_LISTED:
            r = loaded.register[history.samples.comp[i]]
            listed.append({
                "sample_id": int(loaded.sample_ids[i]), "compartment_id": int(r["compartment_id"]), "unit": r["unit"],
                "compartment": r["name"], "on": date.fromordinal(int(history.samples.day[i])).isoformat(), "was": was, "now": now,
                "said": said, "says": says,
            })  # fmt: skip
    return {
        "samples": len(mine), "verdicts": [[*k, n] for k, n in verdicts.most_common()], "causes": [[*k, n] for k, n in causes.most_common()],
        "listed": listed,
    }  # fmt: skip


def sign(connection: Connection, fleet_id: int, family: str, chosen: Mapping[str, float], *, by: str, why: str, today: date) -> None:
    """Sign what a family's findings say: ``chosen`` key → factor, as it was shown. Raises InputError when the findings say
    something else by now, or when no reason is given."""
    said = why.strip()
    if not said:
        raise InputError("why", "say why you sign this")
    connection.execute(query("learning.lock"), {"fleet_id": fleet_id})
    recorded = connection.execute(query("verdicts.findings"), {"compartment_id": None, "limit": 10_000}).fetchall()
    register = connection.execute(query("register.duties")).fetchall()
    mine = [r["compartment_id"] for r in register if r["family"] == family]
    if not mine:
        raise InputError("family", "there is no such family")
    loaded, charges = fleet_history.drop_held(connection, fleet_history.load(connection, today, mine))
    judgement = judge_loaded(loaded, charges)
    found = next((p for p in propose(loaded, judgement, findings_of(recorded, loaded), family)), None)
    offered = {learning.key_of(r.cause, r.sign): r for r in found.rows} if found else {}
    if not chosen or any(k not in offered or abs(offered[k].proposed - x) > 1e-9 for k, x in chosen.items()):
        raise InputError("sign", "the findings say something else by now: look again before you sign")
    rows = [offered[k] for k in chosen]
    f = loaded.families.index(family)
    factors = {k: float(x[f]) for k, x in loaded.factors.items() if x[f] != 1.0} | {k: offered[k].proposed for k in chosen}
    past = _past(loaded, f, rows)
    _put(connection, fleet_id, family, factors, [asdict(r) for r in rows], past, by, said, today)
    queue.touch(connection, fleet_id, mine)


def take_back(connection: Connection, fleet_id: int, family: str, *, by: str, why: str, today: date) -> None:
    """All signs of a family speak as the trade has them again; the versions stay on record."""
    said = why.strip()
    if not said:
        raise InputError("why", "say why you take it back")
    now = {r["family"]: r["factors"] for r in connection.execute(query("learning.in_force"), {"today": today})}
    if not now.get(family):
        raise InputError("family", "has nothing to take back")
    changed = [
        dict(zip(("cause", "sign"), key.split("|"), strict=True)) | {"now": x, "proposed": 1.0, "n": 0, "right": 0}
        for key, x in now[family].items()
    ]
    _put(connection, fleet_id, family, {}, changed, {}, by, said, today)
    mine = [r["compartment_id"] for r in connection.execute(query("register.duties")) if r["family"] == family]
    queue.touch(connection, fleet_id, mine)


def _put(
    connection: Connection, fleet_id: int, family: str, factors: dict[str, float], changed: list[dict[str, Any]], past: dict[str, Any],
    by: str, why: str, today: date,
) -> None:  # fmt: skip
    connection.execute(
        query("learning.put"),
        {"fleet_id": fleet_id, "family": family, "on": today, "factors": json.dumps(factors), "changed": json.dumps(changed),
         "past": json.dumps(past), "why": why[:1000], "by": by},
    )  # fmt: skip
    fleets.audit(connection, fleet_id, by, "signs weighed anew", family, why=why, factors=json.dumps(factors))


def in_force(connection: Connection, today: date) -> list[dict[str, Any]]:
    """Weights in force, family by family, in words; families whose signs speak as the trade has them are left out."""
    rows = connection.execute(query("learning.in_force"), {"today": today}).fetchall()
    for r in rows:
        r["lines"] = [
            {"name": NAMES.get(key.split("|")[0], key), "words": say(learning.sign_of(key.split("|")[1])), "factor": x}
            for key, x in sorted(r["factors"].items())
        ]
    return [r for r in rows if r["lines"]]


def versions(connection: Connection) -> list[dict[str, Any]]:
    """What was signed so far, newest first, in words."""
    rows = connection.execute(query("learning.versions"), {"limit": MOST_VERSIONS}).fetchall()
    for r in rows:
        r["lines"] = [{**c, "name": NAMES.get(c["cause"], c["cause"]), "words": say(learning.sign_of(c["sign"]))} for c in r["changed"]]
    return rows


@dataclass(frozen=True)
class Ended:
    """Charges run to their approved length: ``n``, ``past`` a watch limit of a deciding property in their last sample,
    ``expected`` by the chances reckoned when their intervals were approved, ``unread`` without a sample near their end."""

    n: int
    past: int
    expected: float
    low: float
    high: float
    unread: int


def ended_past(connection: Connection, loaded: Loaded, charges: Charges, judgement: Judgement) -> Ended:
    """Of the charges run to their approved length, how many ended past the limit, beside how many were to be expected."""
    at = {int(c): i for i, c in enumerate(loaded.compartment_ids)}
    samples = loaded.history.samples
    deciding = decides(loaded.limits, loaded.history.compartments.limited)
    passed = past_limit(judgement)
    n = past = unread = 0
    expected = 0.0
    for row in connection.execute(query("learning.approved_charges"), {"limit": MOST_CHARGES}):
        c = at.get(row["compartment_id"])
        if c is None or not row["meant"] or not row["ran"] or row["ran"] < RUN_OUT * row["meant"]:
            continue
        mine = np.flatnonzero(
            (samples.comp == c) & samples.usable & (samples.day > row["filled_on"].toordinal())
            & (samples.day <= row["ended_on"].toordinal() + 3) & (charges.oil_hours >= AT_END * row["ran"])
        )  # fmt: skip
        if not len(mine):
            unread += 1
            continue
        i = int(mine[-1])
        n += 1
        past += bool((passed[i] & deciding[c]).any())
        expected += _chance(row, loaded.policies[c].confidence)
    low, high = learning.interval_of(past, n)
    return Ended(n, past, expected, low, high, unread)


def past_limit(judgement: Judgement) -> np.ndarray:
    """Which deciding properties each sample is past their watch limit in, (N, PROPERTY_COUNT), bool."""
    sides = {"high": judgement.past.watch_high, "low": judgement.past.watch_low}
    columns = [judgement.an_above_bn if p.less else sides[p.side][:, INDEX[p.measurand]] for p in PROPERTIES]
    return np.stack(columns, axis=1)


def _chance(row: dict[str, Any], confidence: float) -> float:
    """The chance reckoned at approval; of an interval approved before it was kept, what the policy allows."""
    return float(row["chance"]) if row["chance"] is not None else 1 - confidence
