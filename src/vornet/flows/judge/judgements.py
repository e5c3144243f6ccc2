"""What Vornet concluded, for other programs: judgements per sample, intervals per compartment."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

from vornet.core.causes import OF_HOLDS
from vornet.core.judge import VERDICTS
from vornet.flows.house import fleets
from vornet.flows.judge import decision_record, in_force, trials
from vornet.store.database import Connection, Database, query
from vornet.words.say import each, say


def judgements(db: Database, fleet: str) -> list[dict[str, Any]]:
    """Every sample with its proposal, and every row that is held with a sample number. See docs/formats.md."""
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as connection:
        held: dict[int, list[dict[str, Any]]] = defaultdict(list)
        for h in connection.execute(query("results.holds_everything")).fetchall():
            held[h["sample_id"]].append({"reason": h["reason"], "detail": say(h["detail"])})
        out = []
        for r in connection.execute(query("history.judgements")).fetchall():
            mine = held.get(r["sample_id"], [])
            proposed = None if mine or r["proposed"] is None else VERDICTS.get(r["proposed"])
            out.append({
                "sample_no": r["sample_no"], "lab": r["lab"], "unit": r["unit"], "compartment": r["compartment"],
                "sampled_on": r["sampled_on"].isoformat(), "proposed": proposed, "evidence": each(r["evidence"]),
                "hypotheses": _held_for(mine) or [
                    {"key": h["key"], "strength": h["strength"], "evidence": each(h["evidence"])} for h in r["hypotheses"] or []
                ],
                "held": mine, "signed": VERDICTS.get(r["signed"]), "signed_by": r["signed_by"],
                "comment": r["comment"], "signed_cause": r["signed_cause"], "signed_reason": r["signed_reason"],
            })  # fmt: skip
        out += _held_rows(connection, {(r["lab"], r["sample_no"]) for r in out})
    return out


def _held_for(held: list[dict[str, str]]) -> list[dict[str, Any]]:
    """Holds that are themselves an answer: another oil, another's bottle, a dirty one."""
    return [{"key": OF_HOLDS[h["reason"]][0], "strength": "probable", "evidence": [h["detail"]]} for h in held if h["reason"] in OF_HOLDS]


def _held_rows(connection: Connection, known: set[tuple[str, str]]) -> list[dict[str, Any]]:
    waiting: dict[tuple[str, str], dict[str, Any]] = {}
    for r in connection.execute(query("results.held_rows_everything")).fetchall():
        key = (r["lab"], r["sample_no"])
        if key in known:
            continue
        row = waiting.setdefault(key, {
            "sample_no": r["sample_no"], "lab": r["lab"], "unit": r["unit_name"], "compartment": r["compartment_name"],
            "sampled_on": r["sampled_on"].isoformat() if r["sampled_on"] else None, "proposed": None, "evidence": [],
            "hypotheses": [], "held": [], "signed": None, "signed_by": None,
        })  # fmt: skip
        row["held"].append({"reason": r["reason"], "detail": r["detail"]})
    return list(waiting.values())


def _rounded(x: float | None) -> float | None:
    return None if x is None else round(x, 2)


def intervals(db: Database, fleet: str) -> list[dict[str, Any]]:
    """Every compartment's decision; keys end in _h or _km as its meter counts."""
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as connection:
        units = {r["unit_id"]: r["name"] for r in connection.execute(query("history.unit_names"))}
        places = {r["compartment_id"]: r for r in connection.execute(query("history.compartment_names"))}
        rows = connection.execute(query("history.decisions")).fetchall()
        latest: dict[int, dict[str, Any]] = {}
        for t in trials.listed(connection):
            held = latest.get(t["compartment_id"])
            if held is None or (t["state"] == "running", t["trial_id"]) > (held["state"] == "running", held["trial_id"]):
                latest[t["compartment_id"]] = t
    for r in rows:
        place = places[r["compartment_id"]]
        r |= {"unit": units[place["unit_id"]], "compartment": place["name"], "meter_unit": place["counts"],
              "trial": latest.get(r["compartment_id"]), "decision": decision_record.opened(r["decision"], None)}  # fmt: skip
    return [_interval(r) for r in sorted(rows, key=lambda r: (r["unit"], r["compartment_id"]))]


def interval_versions(connection: Connection, compartment_id: int) -> list[dict[str, Any]]:
    """Every version of a compartment's interval, oldest first."""
    return in_force.said_of(connection, compartment_id)


def _interval(r: dict[str, Any]) -> dict[str, Any]:
    d, u, bottle, t = r["decision"], r["meter_unit"], r["decision"]["next_sample"], r["trial"]
    return {
        "unit": r["unit"], "compartment": r["compartment"], f"current_{u}": d["current"], "outcome": d["outcome"],
        f"proposed_{u}": d["proposed"], f"safe_{u}": _rounded(d["safe"]), f"safe_{u}_as_is": _rounded(d["safe_as_is"]),
        "limiting": d["limiting"], f"next_{u}": _rounded(d["next_safe"]), "next_limiting": d["next_limiting"],
        "guards": [
            {"key": g["key"], "bites": g["bites"], "text": say(g["fact"]), "lifts": say(g["lifts"]) if g["lifts"] else "",
             f"worth_{u}": g["worth"]} for g in d["guards"]
        ],
        "schools": {k: _rounded(v) for k, v in d["schools"].items()}, "charges": d["charges"],
        "never_within_reach": d["never"], "beyond_evidence": d["beyond_evidence"],
        f"evidence_cap_{u}": _rounded(d["evidence_cap"]), f"running_safe_{u}": _rounded(d["running_safe"]),
        "running_limiting": d["running_limiting"], f"oil_{u}": _rounded(r["oil_hours"]), "open_faults": each(d["open_faults"]),
        f"headroom_{u}": _rounded(r["headroom_now"]), f"headroom_{u}_repaired": _rounded(r["headroom"]),
        "trial": t and {
            "state": t["state"], f"length_{u}": t["length"], f"before_{u}": t["before"], "started_on": t["started_on"].isoformat(),
            "started_by": t["started_by"], f"next_bottle_{u}": t["next_at"], "progress": t["progress"].get("word", "running"),
            "ended_on": t["ended_on"].isoformat() if t["ended_on"] else None, "ended_by": t["ended_by"], "ending": t["ending"],
        },
        "residual_share": round(d["residual_share"], 4), "reason": say(r["reason"]), "sample_at": d["sample_at"],
        "next_sample": bottle and {"at": bottle["at"], "kind": bottle["kind"], "text": say(bottle["fact"]), "chance": bottle["chance"]},
        "properties": [
            {"key": p["key"], "state": p["state"], "charges": p["n"], f"safe_{u}": _rounded(p["safe"]), "bend": _rounded(p["bend"]),
             "borrowed": p["borrowed"], "bounded": p["bounded"]}
            for p in d["properties"]
        ],
    }  # fmt: skip
