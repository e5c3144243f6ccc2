"""Trials of longer intervals: begun by a planner, followed by every evaluation, stopped by a bad bottle, adopted or fallen back from;
and a length rolled out to a family from trials on a few."""

from __future__ import annotations

import json
import math
from collections import defaultdict
from dataclasses import asdict
from datetime import date, timedelta
from typing import TYPE_CHECKING, Any

import numpy as np

from vornet.core import trial as rules
from vornet.core.errors import InputError
from vornet.core.fact import Fact
from vornet.core.oil_properties import PROPERTIES, decides
from vornet.core.trial import Bottle, Progress
from vornet.flows.house import fleets
from vornet.flows.judge import approval, decision_record, learning
from vornet.store import queue
from vornet.store.database import Connection, as_json, query
from vornet.words.say import say

if TYPE_CHECKING:
    from vornet.flows.judge.evaluate import Worked

#: walls that a trial stays within, beside the safe hours; step and sampled hours bound its length, not its last bottle
HARD = ("cap", "oil_cap", "filter", "bypass", "calendar", "oil_change", "school")
ALL = (*HARD, "step", "sampled")
#: guards that stop a trial as they stop lengthening
BLOCKS = ("verdicts", "charges", "unanswered", "no_limit", "impossible", "bounded", "never")
#: trials that end well before a family's rest follows; common practice, no source
TRIALS_NEEDED = 2


def reach(decision: dict[str, Any], keys: tuple[str, ...] = HARD) -> float:
    """The least of safe hours and the walls of these kinds; ∞ where nothing limits."""
    walls = [g["fact"].get("numbers", {}).get("limit", math.inf) for g in decision.get("guards", ()) if g["key"] in keys]
    return float(min([math.inf if decision.get("safe") is None else decision["safe"], *walls]))


def start(
    connection: Connection, fleet_id: int, compartment_id: int, length: float, why: str, by: str, today: date, *,
    rollout_id: int | None = None, rests_on: str = "", since: date | None = None,
) -> int:  # fmt: skip
    """Begin a trial in the charge that runs: the interval becomes the trial's from today (or ``since`` a day before, in the same
    charge), its bottles are planned. Raises InputError by field, Changed."""
    begun = since or today
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    if row is None:
        raise InputError("compartment", "is not in this fleet")
    name = f"{row['unit']} {row['compartment']}"
    if row["state"] != "in_service":
        word = {"laid_up": "is laid up", "retired": "is no longer in the fleet"}[row["state"]]
        raise InputError("compartment", f"{row['unit']} {word}: nothing can be tried on it")
    decision = decision_record.opened(row["decision"], row["slopes"]) or {}
    versions = connection.execute(query("register.intervals_of"), {"compartment_id": compartment_id}).fetchall()
    approval.still_stands(decision, versions, rests_on)
    before, unit = row["interval_meter"], row["meter_unit"]
    if before is None:
        raise InputError("interval", "there is none on record yet: approve one first, then try a longer one")
    if not length > before:
        raise InputError(
            "interval", f"a trial is of a longer interval than the {before:g} {unit} it runs today; a shorter is approved at once"
        )
    if connection.execute(query("trials.running"), {"compartments": [compartment_id]}).fetchone():
        raise InputError("interval", "a trial runs here already: let it end, or fall back from it")
    approval.check(row, decision, length, "on trial", None, today, today)
    _within_reach(decision, length, unit)
    _bottles_ahead(row, length)
    planned = rules.steps(length, before, reach(decision))
    evidence = decision | {"chance_at_approved": approval.chance_of(connection, row, length, today)}
    kept = versions[-1]["days"] if versions else None
    connection.execute(
        query("register.put_interval"),
        {"fleet_id": fleet_id, "compartment_id": compartment_id, "effective_from": begun, "meter": planned[-1], "days": kept,
         "origin": "trial", "approved_by": by, "why": why.strip(), "evidence": json.dumps(evidence)},
    )  # fmt: skip
    made = connection.execute(
        query("trials.put"),
        {"fleet_id": fleet_id, "compartment_id": compartment_id, "rollout_id": rollout_id, "length": length, "before": before,
         "steps": planned, "why": why.strip()[:400], "on": begun, "by": by, "evidence": json.dumps(evidence)},
    ).fetchone()  # fmt: skip
    if made is None:
        raise InputError("interval", "a trial runs here already: somebody began one in the same moment")
    fleets.audit(connection, fleet_id, by, "trial begun", name, interval=length, before=before, bottles=planned, why=why.strip()[:400])
    queue.touch(connection, fleet_id, [compartment_id])
    return int(made["trial_id"])


def _within_reach(decision: dict[str, Any], length: float, unit: str) -> None:
    """A trial goes nowhere that a decision would not: within safe hours, caps, the step and what was sampled."""
    most = reach(decision, ALL)
    blocked = next((g for g in decision.get("guards", ()) if g["bites"] and g["key"] in BLOCKS), None)
    if blocked is not None:
        raise InputError("interval", f"cannot be tried yet: {say(blocked['fact'])}")
    if decision.get("safe") is None and not decision.get("never"):
        raise InputError("interval", "no property answers yet how long the oil is safe: nothing can be tried")
    if length > most * 1.0001:
        raise InputError(
            "interval", f"{length:g} {unit} is beyond the {most:.0f} {unit} that its safe hours, caps and steps allow for a trial"
        )


def _bottles_ahead(row: dict[str, Any], length: float) -> None:
    on_oil = row["oil_hours"]
    if on_oil is None:
        raise InputError("interval", "how long this oil has run is not known: record its drain, or read the meter, first")
    if on_oil > rules.BEGINS_BEFORE * length:
        raise InputError(
            "interval", f"{on_oil:.0f} {row['meter_unit']} on this oil: too few bottles can still be drawn; begin after the next drain"
        )


def follow(connection: Connection, fleet_id: int, worked: Worked, signed: dict[int, int], today: date) -> bool:
    """See how far the trials of what was worked are, and keep it; stop those that a rule of theirs stops, whose interval falls back.
    True when an interval has fallen back: then decisions are to be made anew (the register rows are changed in place)."""
    loaded = worked.loaded
    mine = [int(loaded.compartment_ids[c]) for c in worked.decisions]
    running = connection.execute(query("trials.running"), {"compartments": mine}).fetchall()
    if not running:
        return False
    waiting: dict[int, list[float]] = defaultdict(list)
    for b in connection.execute(query("trials.waiting_bottles"), {"compartments": [t["compartment_id"] for t in running]}).fetchall():
        waiting[b["compartment_id"]].append(float(b["oil_hours"]))
    fallen = False
    for t in running:
        c = int(np.flatnonzero(loaded.compartment_ids == t["compartment_id"])[0])
        found, row = progress_of(worked, c, t, waiting[t["compartment_id"]], signed), loaded.register[c]
        rate = float(loaded.rate_per_day[c])
        on_oil = _on_oil(worked, c, t["started_on"])
        day = None
        if found.next_at is not None and rate > 0 and on_oil is not None:
            day = today + timedelta(days=min(max(math.ceil((found.next_at - on_oil) / rate), 0), 3650))
        connection.execute(
            query("trials.follow"),
            {"trial_id": t["trial_id"], "progress": as_json(plain(found)), "next_at": found.next_at, "next_day": day},
        )
        if found.word == rules.STOP and found.stop is not None:
            _fall_back(connection, fleet_id, t, row, found.stop, worked, c, today)
            fallen = True
    return fallen


def plain(found: Progress) -> dict[str, Any]:
    """As it is kept."""
    return {"word": found.word, "next_at": found.next_at, "stop": found.stop.plain() if found.stop else None,
            "steps": [asdict(s) for s in found.steps]}  # fmt: skip


def charge_of(worked: Worked, c: int, started: date) -> int:
    """The charge that a trial runs in: the one that ran when it began; −1 none."""
    charges = worked.charges
    filled = (charges.comp == c) & ~(charges.fill_day > started.toordinal())
    return int(np.flatnonzero(filled)[-1]) if filled.any() else -1


def _on_oil(worked: Worked, c: int, started: date) -> float | None:
    h = charge_of(worked, c, started)
    if h < 0:
        return None
    end = worked.charges.end[h]
    on = float((worked.loaded.latest_total[c] if math.isnan(end) else end) - worked.charges.fill[h])
    return on if math.isfinite(on) else None


def progress_of(worked: Worked, c: int, trial: dict[str, Any], waiting: list[float], signed: dict[int, int]) -> Progress:
    """How far one trial is by what was worked; ``waiting``: oil hours of bottles whose result is still to come."""
    loaded, charges, samples = worked.loaded, worked.charges, worked.loaded.history.samples
    h = charge_of(worked, c, trial["started_on"])
    deciding = decides(loaded.limits, loaded.history.compartments.limited)[c]
    past = learning.past_limit(worked.judgement) & deciding
    bottles = []
    for i in np.flatnonzero((charges.charge_of == h) & (charges.oil_hours > 0)).tolist():
        at, sample_id = float(charges.oil_hours[i]), int(loaded.sample_ids[i])
        if not samples.usable[i]:
            bottles.append(Bottle(at, None, (), sample_id))
            continue
        verdict = signed.get(sample_id, int(worked.judgement.proposed[i]))
        over = tuple(p.key for k, p in enumerate(PROPERTIES) if past[i, k])
        bottles.append(Bottle(at, max(verdict, 0), over, sample_id))
    bottles += [Bottle(at, None) for at in waiting]
    decision = worked.decisions[c]
    safe = decision.running_as_is if decision.open_faults and decision.running_as_is is not None else decision.running_safe
    ended = h >= 0 and not math.isnan(charges.end[h])
    return rules.progress(
        trial["length"], trial["steps"], bottles, _on_oil(worked, c, trial["started_on"]), ended, safe, decision.open_faults,
        loaded.register[c]["meter_unit"], loaded.register[c]["state"] == "retired",
    )  # fmt: skip


def _fall_back(
    connection: Connection, fleet_id: int, trial: dict[str, Any], row: dict[str, Any], stop: Fact, worked: Worked, c: int, today: date
) -> None:  # fmt: skip
    """A rule of the trial, agreed when it began, stops it: the interval goes back at once, in the name of who began it."""
    decision = worked.decisions[c]
    safe = decision.safe_as_is if decision.open_faults and decision.safe_as_is is not None else decision.safe
    back = min([trial["before"], *([safe] if safe is not None and safe > 0 else [])])
    reason = say(stop)
    connection.execute(
        query("trials.end"), {"trial_id": trial["trial_id"], "state": "stopped", "on": today, "by": "a rule of the trial", "ending": reason}
    )
    _put_back(connection, fleet_id, row, trial, back, today, f"the trial stopped: {reason}", trial["started_by"])
    row["interval_meter"], row["trial_length"] = back, None
    worked.loaded.history.compartments.interval[c] = back


def _put_back(
    connection: Connection, fleet_id: int, row: dict[str, Any], trial: dict[str, Any], length: float, today: date, why: str, by: str
) -> None:  # fmt: skip
    versions = connection.execute(query("register.intervals_of"), {"compartment_id": trial["compartment_id"]}).fetchall()
    connection.execute(
        query("register.put_interval"),
        {"fleet_id": fleet_id, "compartment_id": trial["compartment_id"], "effective_from": today, "meter": length,
         "days": versions[-1]["days"] if versions else None, "origin": "fell_back", "approved_by": by, "why": why[:400], "evidence": "{}"},
    )  # fmt: skip
    name = f"{row['unit']} {row.get('compartment') or row['name']}"
    fleets.audit(connection, fleet_id, by, "trial stopped, interval fell back", name, interval=length, of=trial["length"], why=why[:400])


def _one(connection: Connection, trial_id: int) -> dict[str, Any]:
    connection.execute(query("trials.lock"), {"trial_id": trial_id})
    found = listed(connection, trial_id=trial_id)
    if not found:
        raise InputError("trial", "is not in this fleet")
    if found[0]["state"] != "running":
        raise InputError("trial", f"has ended already: {STATE_WORDS[found[0]['state']].lower()} by {found[0]['ended_by']}")
    return found[0]


STATE_WORDS = {"running": "On trial", "stopped": "Stopped", "adopted": "Adopted", "fell_back": "Fell back"}


def adopt(connection: Connection, fleet_id: int, trial_id: int, why: str, by: str, today: date) -> None:
    """The tried length becomes the interval, by name. Raises InputError while its bottle at the new length has not been read, and what
    an approval is refused for."""
    t = _one(connection, trial_id)
    if t["progress"].get("word") != rules.RIPE:
        raise InputError("trial", "cannot be adopted yet: the bottle at the new length has not been drawn, or its result is still to come")
    connection.execute(query("trials.end"), {"trial_id": trial_id, "state": "adopted", "on": today, "by": by, "ending": why.strip()[:400]})
    read = sum(s["state"] == rules.DRAWN for s in t["progress"]["steps"])
    said = why.strip() or f"adopted after its trial: {read} bottles, all good"
    approval.approve(connection, fleet_id, t["compartment_id"], t["length"], said, by, today, after_trial=True)
    fleets.audit(connection, fleet_id, by, "trial adopted", f"{t['unit']} {t['compartment']}", interval=t["length"], before=t["before"])


def fall_back(connection: Connection, fleet_id: int, trial_id: int, why: str, by: str, today: date) -> None:
    """End a trial and go back to what was run before it; a reason is asked for."""
    t = _one(connection, trial_id)
    if not why.strip():
        raise InputError("why", "say why the trial ends without being adopted")
    connection.execute(query("trials.end"), {"trial_id": trial_id, "state": "fell_back", "on": today, "by": by, "ending": why.strip()[:400]})
    _put_back(connection, fleet_id, t, t, t["before"], today, why.strip(), by)
    queue.touch(connection, fleet_id, [t["compartment_id"]])


def take_note(connection: Connection, fleet_id: int, trial_id: int, by: str) -> None:
    """Somebody has seen that a trial stopped: it is no longer called out."""
    if connection.execute(query("trials.seen"), {"trial_id": trial_id, "by": by}).fetchone():
        fleets.audit(connection, fleet_id, by, "stopped trial seen", f"trial {trial_id}")


def listed(
    connection: Connection, compartment_id: int | None = None, rollout_id: int | None = None, trial_id: int | None = None
) -> list[dict[str, Any]]:  # fmt: skip
    """Trials, what needs somebody first."""
    return connection.execute(
        query("trials.list"), {"compartment_id": compartment_id, "rollout_id": rollout_id, "trial_id": trial_id}
    ).fetchall()


def flat(t: dict[str, Any]) -> dict[str, Any]:
    """A trial as other programs read it."""
    keys = ("trial_id", "unit", "compartment", "family", "meter_unit", "length", "before", "started_on", "started_by", "why", "state",
            "next_at", "next_day", "ended_on", "ended_by", "ending", "chance")  # fmt: skip
    steps = t["progress"].get("steps") or [{"at": at, "state": rules.AHEAD} for at in t["steps"]]
    return {k: t[k] for k in keys} | {"progress": t["progress"].get("word", rules.RUNNING),
                                      "bottles": "; ".join(f"{s['at']:g} {s['state']}" for s in steps)}  # fmt: skip


def rollouts(connection: Connection) -> list[dict[str, Any]]:
    """Roll-outs, open ones first."""
    return connection.execute(query("trials.rollouts"), {"rollout_id": None}).fetchall()


def families(connection: Connection) -> list[dict[str, Any]]:
    """Families that a length can be rolled out to."""
    return connection.execute(query("trials.families")).fetchall()


def mates(connection: Connection, family: str) -> list[dict[str, Any]]:
    """A family's compartments with what each one's decision says."""
    return connection.execute(query("trials.family"), {"family": family}).fetchall()


def stopped(connection: Connection, unit_id: int | None = None) -> list[dict[str, Any]]:
    """Trials that stopped and that nobody has taken note of."""
    return connection.execute(query("trials.stopped"), {"unit_id": unit_id}).fetchall()


# ---- a family follows ------------------------------------------------------------------------------------------
def roll_out(
    connection: Connection, fleet_id: int, family: str, length: float, chosen: list[int], why: str, by: str, today: date
) -> tuple[int, list[approval.Refused]]:
    """Begin trials of one length on a few compartments of a family: (the roll-out, who was refused). Raises InputError when none begins."""
    mates = {r["compartment_id"]: r for r in connection.execute(query("trials.family"), {"family": family}).fetchall()}
    if not mates:
        raise InputError("family", "choose a family of this fleet")
    if not 0 < length <= 1e6:
        raise InputError("interval", "an interval must be above zero")
    picked = [c for c in chosen if c in mates]
    if not picked:
        raise InputError("compartments", "choose at least one compartment that tries it")
    made = connection.execute(
        query("trials.put_rollout"),
        {"fleet_id": fleet_id, "family": family, "length": length, "why": why.strip()[:400], "on": today, "by": by},
    ).fetchone()
    assert made is not None
    refused: list[approval.Refused] = []
    for c in picked:
        try:
            with connection.transaction():
                start(connection, fleet_id, c, length, why, by, today, rollout_id=made["rollout_id"])
        except InputError as error:
            refused.append(approval.Refused(c, f"{mates[c]['unit']} {mates[c]['compartment']}", error.why))
    if len(refused) == len(picked):
        raise InputError("compartments", "none can try it: " + "; ".join(f"{r.name} {r.why}" for r in refused[:3]))
    fleets.audit(connection, fleet_id, by, "roll-out begun", family, interval=length, trials=len(picked) - len(refused))
    return int(made["rollout_id"]), refused


def rollout(connection: Connection, rollout_id: int) -> dict[str, Any] | None:
    """A roll-out: its trials, and the family's rest with what each one's own oil says of the length."""
    found = connection.execute(query("trials.rollouts"), {"rollout_id": rollout_id}).fetchone()
    if found is None:
        return None
    own = listed(connection, rollout_id=rollout_id)
    trying = {t["compartment_id"] for t in own}
    rest = [
        r | {"stands": _stands(r, found["length"])}
        for r in connection.execute(query("trials.family"), {"family": found["family"]}).fetchall()
        if r["compartment_id"] not in trying
    ]
    return {"rollout": found, "trials": own, "rest": rest, "ready": found["adopted"] >= min(TRIALS_NEEDED, len(own)) and not found["failed"]}


def _stands(r: dict[str, Any], length: float) -> str:
    """What stands against one compartment's following; '' nothing. Keys, said on the page."""
    if r["interval_meter"] is not None and r["interval_meter"] >= length:
        return "there"
    if r["open_faults"]:
        return "fault"
    if r["cap_meter"] is not None and length > r["cap_meter"]:
        return "cap"
    if r["safe"] is None and not r["never"]:
        return "unknown"
    return "oil" if r["safe"] is not None and r["safe"] < length else ""


def follow_suit(
    connection: Connection, fleet_id: int, rollout_id: int, chosen: list[int], by: str, today: date
) -> tuple[list[int], list[approval.Refused]]:
    """Approve the tried length for the family's rest, each on its own: (approved, refused). Raises InputError while the trials have not
    ended well."""
    found = rollout(connection, rollout_id)
    if found is None:
        raise InputError("rollout", "is not in this fleet")
    if not found["ready"]:
        raise InputError("trials", f"{min(TRIALS_NEEDED, len(found['trials']))} of its trials have to be adopted first, and none stopped")
    rest, length = {r["compartment_id"]: r for r in found["rest"]}, found["rollout"]["length"]
    done: list[int] = []
    refused: list[approval.Refused] = []
    why = f"rolled out to {found['rollout']['family']} after {found['rollout']['adopted']} trials held"
    for c in chosen:
        if c not in rest:
            continue
        name = f"{rest[c]['unit']} {rest[c]['compartment']}"
        try:
            if rest[c]["stands"] in ("oil", "unknown"):
                raise InputError("interval", "its own oil does not last so long, or has not been told: it is decided by itself")
            with connection.transaction():
                approval.approve(connection, fleet_id, c, length, why, by, today)
            done.append(c)
        except InputError as error:
            refused.append(approval.Refused(c, name, error.why))
    return done, refused


def close(connection: Connection, fleet_id: int, rollout_id: int, closing: str, by: str, today: date) -> None:
    """Nothing more follows from a roll-out; trials that run go on."""
    row = connection.execute(
        query("trials.close_rollout"), {"rollout_id": rollout_id, "on": today, "by": by, "closing": closing.strip()[:400]}
    ).fetchone()
    if row is None:
        raise InputError("rollout", "is closed already")
    fleets.audit(connection, fleet_id, by, "roll-out closed", f"roll-out {rollout_id}", why=closing.strip()[:400])
