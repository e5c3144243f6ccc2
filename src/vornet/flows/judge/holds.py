"""Screening what was loaded: holds raised, kept and cleared, and what is held taken out of the history."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import date
from typing import Any

import numpy as np

from vornet.core.charges import cut
from vornet.core.fact import Fact, told
from vornet.core.screening import Finding, screen
from vornet.flows.judge.digests import digest
from vornet.flows.judge.fleet_history import Loaded, without_held
from vornet.store.database import Connection, as_json, query


def _together(connection: Connection, loaded: Loaded) -> np.ndarray:
    """The parcel that each sample travelled in, below zero where none is known, whom days must bring together; shape (N,)."""
    own = np.full(len(loaded.sample_ids), -1, dtype=np.int64)
    parcels = connection.execute(query("history.parcels")).fetchall()
    if parcels:
        of = {r["sample_id"]: r["shipment_id"] for r in parcels}
        for i in np.flatnonzero(np.isin(loaded.sample_ids, list(of))):
            own[i] = int(of[int(loaded.sample_ids[i])])
    return own


def _placed_facts(loaded: Loaded, numbers: dict[int, str], finding: Finding) -> tuple[str, str]:
    """A finding's detail and facts as JSON, with sample numbers and names in place of positions."""

    def place(i: int) -> dict[str, Any]:
        sample_id = int(loaded.sample_ids[i])
        r = loaded.register[loaded.history.samples.comp[i]]
        return {"sample_id": sample_id, "sample_no": numbers.get(sample_id, ""), "unit": r["unit"], "compartment": r["name"],
                "on": date.fromordinal(int(loaded.history.samples.day[i])).isoformat()}  # fmt: skip

    def named(fact: Fact) -> Fact:
        if fact.kind != "another_bottle":
            return fact
        it = place(int(fact.numbers["sample"]))
        return told("bottle", unit=it["unit"], compartment=it["compartment"], no=it["sample_no"])

    facts = {name: place(int(x)) if name in ("other", "after", "like") else x for name, x in finding.facts.items()}
    return as_json(finding.detail.changed(named).plain()), json.dumps(facts, default=float)


def tried(loaded: Loaded) -> None:
    """Screen without writing, to see whether it can be done."""
    points = replace(loaded.points, per_day=loaded.rate_per_day)
    screen(loaded.history, cut(loaded.history), points, np.arange(len(loaded.sample_ids)), loaded.oil_names)


def hold(connection: Connection, fleet_id: int, loaded: Loaded, compartments: list[int] | None = None, known: bytes | None = None) -> Loaded:
    """Screen, write new holds, clear those that no longer hold, and take what is held out of the history.

    With ``compartments`` only their samples' holds are written: whoever else was loaded lacks its company here. ``known``:
    digest of the last screening of all; of the same again the holds stand as they are.
    """
    points = replace(loaded.points, per_day=loaded.rate_per_day)
    together = _together(connection, loaded)
    settled = {(r["sample_id"], r["reason"]) for r in connection.execute(query("history.settled_holds")).fetchall()}
    was = {(r["sample_id"], r["reason"]): as_json(r["detail"]) for r in connection.execute(query("history.open_holds")).fetchall()}
    if compartments is None:
        rests_on = loaded.history, loaded.sample_ids, points, together, loaded.oil_names, sorted(settled)
        if known is not None and known == digest(*rests_on, sorted(was)):
            return without_held(connection, loaded)
    findings = screen(loaded.history, cut(loaded.history), points, together, loaded.oil_names)
    ours = np.ones(len(loaded.sample_ids), dtype=bool)
    if compartments is not None:
        ours = np.isin(loaded.compartment_ids[loaded.history.samples.comp], compartments)
    mine = set(loaded.sample_ids[ours].tolist())
    ids = [int(loaded.sample_ids[f.sample]) for f in findings]
    others = [int(loaded.sample_ids[int(f.facts[k])]) for f in findings for k in ("other", "after", "like") if k in f.facts]
    numbers = {r["sample_id"]: r["sample_no"] for r in connection.execute(query("history.numbers_of"), {"samples": others}).fetchall()}
    found = {
        (sample_id, f.reason): _placed_facts(loaded, numbers, f)
        for sample_id, f in zip(ids, findings, strict=True) if sample_id in mine
    }  # fmt: skip
    fresh = [
        {"fleet_id": fleet_id, "sample_id": sample_id, "reason": reason, "detail": detail, "facts": facts}
        for (sample_id, reason), (detail, facts) in found.items()
        if (sample_id, reason) not in settled and was.get((sample_id, reason)) != detail
    ]
    gone = [{"sample_id": i, "reason": r} for i, r in was if i in mine and (i, r) not in found]
    with connection.cursor() as cursor:
        cursor.executemany(query("history.raise_hold"), fresh)
        cursor.executemany(query("history.clear_hold"), gone)
    if compartments is None:
        now = connection.execute(query("history.open_holds")).fetchall()
        rested_on = digest(*rests_on, sorted((r["sample_id"], r["reason"]) for r in now))
        connection.execute(query("history.put_digest"), {"fleet_id": fleet_id, "part": "", "families": [], "digest": rested_on})
    return without_held(connection, loaded)
