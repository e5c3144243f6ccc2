"""Trials of longer intervals: begun by a planner, followed by every evaluation, stopped by a bad bottle, adopted or fallen back from;
and a length rolled out to a family from trials on a few."""

from __future__ import annotations

import json
import math
from collections import defaultdict
from dataclasses import asdict, replace
from datetime import date
from typing import TYPE_CHECKING, Any

import numpy as np

from vornet.core import trial as rules
from vornet.core.against import CAPS, caps_against, length_against
from vornet.core.decision import Decision
from vornet.core.errors import InputError
from vornet.core.fact import Fact
from vornet.core.oil_properties import PROPERTIES, decides
from vornet.core.trial import Bottle, Progress
from vornet.flows.house import fleets
from vornet.flows.judge import approval, decision_record, in_force, learning, turns
from vornet.store import queue
from vornet.store.database import Connection, as_json, query
from vornet.words.say import say

if TYPE_CHECKING:
    from vornet.flows.judge.evaluate import Worked

#: walls that a trial stays within, beside the safe hours; step and sampled hours bound its length, not its last bottle
HARD = (*CAPS, "calendar", "school")
ALL = (*HARD, "step", "sampled")
#: guards that stop a trial as they stop lengthening
BLOCKS = ("held_bottle", "verdicts", "charges", "unanswered", "no_limit", "impossible", "bounded", "never")
#: trials that end well before a family's rest follows; common practice, no source
TRIALS_NEEDED = 2


def reach(decision: Decision, keys: tuple[str, ...] = HARD) -> float:
    """The least of safe hours and the walls of these kinds; ∞ where nothing limits."""
    walls = [g.limit for g in decision.guards if g.key in keys and g.limit is not None]
    return float(min([math.inf if decision.safe is None else decision.safe, *walls]))


def start(
    connection: Connection, fleet_id: int, compartment_id: int, length: float, why: str, by: str, today: date, *,
    rests_on: str, rollout_id: int | None = None, since: date | None = None,
) -> int:  # fmt: skip
    """Begin a trial in the charge that runs: the interval becomes the trial's from today (or ``since`` a day before, in the same
    charge), its bottles are planned. Raises InputError by field, Changed."""
    begun = since or today
    it = approval.asked(connection, compartment_id, today)
    row, decision = it.row, it.decision
    if row["state"] != "in_service":
        word = {"laid_up": "is laid up", "retired": "is no longer in the fleet"}[row["state"]]
        raise InputError("compartment", f"{row['unit']} {word}: nothing can be tried on it")
    if connection.execute(query("trials.running"), {"compartments": [compartment_id]}).fetchone():
        raise InputError("interval", "a trial runs here already: let it end, or fall back from it")
    approval.still_stands(it.figures, it.said, rests_on)
    before, unit = it.current, row["meter_unit"]
    if before is None or decision is None:
        raise InputError("interval", "there is none on record yet: approve one first, then try a longer one")
    if not length > before:
        raise InputError(
            "interval", f"a trial is of a longer interval than the {before:g} {unit} it runs today; a shorter is approved at once"
        )
    approval.check_length(it, length, "on trial", approval.caps_of(connection, compartment_id, today))
    _within_reach(decision, length, unit)
    _bottles_ahead(row, length)
    planned = rules.steps(length, before, reach(decision))
    evidence = json.dumps(it.figures | {"chance_at_approved": approval.chance_of(connection, row, length, today)})
    made = connection.execute(
        query("trials.put"),
        {"fleet_id": fleet_id, "compartment_id": compartment_id, "rollout_id": rollout_id, "length": length, "before": before,
         "steps": planned, "why": why.strip()[:400], "on": begun, "by": by, "evidence": evidence},
    ).fetchone()  # fmt: skip
    if made is None:
        raise InputError("interval", "a trial runs here already: somebody began one in the same moment")
    in_force.say(connection, fleet_id, [in_force.Statement(
        compartment_id=compartment_id, on=begun, origin="trial", by=by, length=planned[-1], why=why.strip(), evidence=evidence,
        trial_id=made["trial_id"],
    )], today)  # fmt: skip
    fleets.audit(connection, fleet_id, by, "trial begun", it.name, interval=length, before=before, bottles=planned, why=why.strip()[:400])
    queue.touch(connection, fleet_id, [compartment_id])
    return int(made["trial_id"])


def _within_reach(decision: Decision, length: float, unit: str) -> None:
    """A trial goes nowhere that a decision would not: within safe hours, caps, the step and what was sampled."""
    most = reach(decision, ALL)
    blocked = next((g for g in decision.guards if g.bites and g.key in BLOCKS), None)
    if blocked is not None:
        raise InputError("interval", f"cannot be tried yet: {say(blocked.fact)}")
    unknown = next((g for g in decision.guards if g.bites and g.key == "school" and g.limit is None), None)
    if unknown is not None:
        raise InputError("interval", f"cannot be tried yet: {say(unknown.fact)}")
    if decision.safe is None and not decision.never:
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
    True when what is in force has changed: then decisions are to be made anew (the register rows are changed in place)."""
    loaded = worked.loaded
    mine = [int(loaded.compartment_ids[c]) for c in worked.decisions]
    running = connection.execute(query("trials.running"), {"compartments": mine}).fetchall()
    if not running:
        return False
    waiting: dict[int, list[float]] = defaultdict(list)
    for b in connection.execute(query("trials.waiting_bottles"), {"compartments": [t["compartment_id"] for t in running]}).fetchall():
        waiting[b["compartment_id"]].append(float(b["oil_hours"]))
    changed = False
    for t in running:
        c = int(np.flatnonzero(loaded.compartment_ids == t["compartment_id"])[0])
        found = progress_of(worked, c, t, waiting[t["compartment_id"]], signed, today)
        connection.execute(
            query("trials.follow"),
            {
                "trial_id": t["trial_id"],
                "progress": as_json(plain(found)),
                "next_at": found.next_at,
                "next_day": next_day(worked, c, t, found),
            },
        )
        if found.word in (rules.STOP, rules.UNREAD) and found.stop is not None:
            _fall_back(connection, fleet_id, t, found.stop, worked, c, today)
            changed = True
    return changed


def next_day(worked: Worked, c: int, trial: dict[str, Any], found: Progress) -> date | None:
    """The day of the next bottle, counted from the last reading; None where it cannot be told."""
    loaded, rate = worked.loaded, float(worked.loaded.rate_per_day[c])
    on_oil, read = _on_oil(worked, c, trial["started_on"]), float(loaded.latest_day[c])
    if found.next_at is None or not rate > 0 or on_oil is None or math.isnan(read):
        return None
    return date.fromordinal(int(read) + min(math.ceil((found.next_at - on_oil) / rate), 3650))


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


def _by_now(worked: Worked, c: int, on_oil: float | None, today: date) -> float | None:
    """Oil hours of today: as of the last reading, and as the unit usually runs since then."""
    rate, read = float(worked.loaded.rate_per_day[c]), float(worked.loaded.latest_day[c])
    if on_oil is None or not rate > 0 or math.isnan(read):
        return on_oil
    return on_oil + rate * max(today.toordinal() - read, 0.0)


def progress_of(
    worked: Worked, c: int, trial: dict[str, Any], waiting: list[float], signed: dict[int, int], today: date
) -> Progress:  # fmt: skip
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
    on_oil = _on_oil(worked, c, trial["started_on"])
    now = on_oil if ended else _by_now(worked, c, on_oil, today)
    in_force_now = loaded.register[c]["interval_meter"]
    replaced = not ended and in_force_now is not None and abs(in_force_now - trial["steps"][-1]) > 1e-6 * trial["steps"][-1]
    return rules.progress(
        trial["length"], trial["steps"], bottles, now, ended, safe, decision.open_faults,
        loaded.register[c]["meter_unit"], loaded.register[c]["state"] == "retired", replaced,
    )  # fmt: skip


def _fall_back(connection: Connection, fleet_id: int, trial: dict[str, Any], stop: Fact, worked: Worked, c: int, today: date) -> None:
    """A rule of the trial, agreed when it began, ends it: the interval goes back at once, in the name of who began it."""
    decision, row, compartment_id = worked.decisions[c], worked.loaded.register[c], int(trial["compartment_id"])
    safe = decision.safe_as_is if decision.open_faults and decision.safe_as_is is not None else decision.safe
    now = row["interval_meter"]
    known = [trial["before"], *([safe] if safe is not None and safe > 0 else []), *([now] if now is not None else [])]
    reason = say(stop)
    connection.execute(
        query("trials.end"), {"trial_id": trial["trial_id"], "state": "stopped", "on": today, "by": "a rule of the trial", "ending": reason}
    )
    name = f"{row['unit']} {row['name']}"
    _put_back(connection, fleet_id, name, trial, min(known), today, f"the trial stopped: {reason}", trial["started_by"])
    back = in_force.register_said(connection, [compartment_id], today)[compartment_id]["length"]
    row["interval_meter"], row["trial_length"] = back, None
    worked.loaded.history.compartments.interval[c] = math.nan if back is None else back


def _put_back(
    connection: Connection, fleet_id: int, name: str, trial: dict[str, Any], length: float, today: date, why: str, by: str
) -> None:  # fmt: skip
    in_force.say(connection, fleet_id, [in_force.Statement(
        compartment_id=trial["compartment_id"], on=today, origin="fell_back", by=by, length=length, why=why[:400], evidence="{}",
        trial_id=trial["trial_id"],
    )], today)  # fmt: skip
    fleets.audit(connection, fleet_id, by, "trial stopped, interval fell back", name, interval=length, of=trial["length"], why=why[:400])


def _one(connection: Connection, trial_id: int, today: date) -> dict[str, Any]:
    """A trial that runs, its family held so that nobody ends it or judges it meanwhile."""
    found = listed(connection, trial_id=trial_id)
    if not found:
        raise InputError("trial", "is not in this fleet")
    turns.hold_for(connection, [found[0]["compartment_id"]], today)
    found = listed(connection, trial_id=trial_id)
    if found[0]["state"] != "running":
        raise InputError("trial", f"has ended already: {STATE_WORDS[found[0]['state']].lower()} by {found[0]['ended_by']}")
    return found[0]


STATE_WORDS = {"running": "On trial", "stopped": "Stopped", "adopted": "Adopted", "fell_back": "Fell back"}


def adopt(connection: Connection, fleet_id: int, trial_id: int, why: str, by: str, today: date) -> None:
    """The tried length becomes the interval, by name. Its last bottle is asked like every other: what stands against the length today is
    told, and only a reason goes beyond it. Raises InputError while its bottle at the new length has not been read, and what an approval is
    refused for."""
    t = _one(connection, trial_id, today)
    if t["progress"].get("word") != rules.RIPE:
        raise InputError("trial", "cannot be adopted yet: the bottle at the new length has not been drawn, or its result is still to come")
    it = approval.asked(connection, t["compartment_id"], today)
    against = [] if it.decision is None else adoption_against(it.decision, t["length"], t["meter_unit"])
    if against and not why.strip():
        raise InputError(
            "why", f"say why, because something stands against {t['length']:g} {t['meter_unit']}: {'; '.join(map(say, against))}"
        )
    connection.execute(query("trials.end"), {"trial_id": trial_id, "state": "adopted", "on": today, "by": by, "ending": why.strip()[:400]})
    read = sum(s["state"] == rules.DRAWN for s in t["progress"]["steps"])
    said = why.strip() or f"adopted after its trial: {read} bottles, all good"
    approval.approve(connection, fleet_id, t["compartment_id"], t["length"], said, by, today, rests_on=it.stamp, after_trial=True)
    fleets.audit(connection, fleet_id, by, "trial adopted", f"{t['unit']} {t['compartment']}", interval=t["length"], before=t["before"])


def what_stands_against(connection: Connection, trial: dict[str, Any]) -> list[Fact]:
    """What stands today against adopting a trial."""
    row = connection.execute(query("board.compartment"), {"compartment_id": trial["compartment_id"]}).fetchone()
    decision = None if row is None else decision_record.typed(row["decision"])
    return [] if decision is None else adoption_against(decision, trial["length"], trial["meter_unit"])


def adoption_against(decision: Decision, length: float, meter: str) -> list[Fact]:
    """What stands against a tried length once its bottles are read: everything but that it is on trial, and the step from what is in force
    when its charge has ended (it was within a step when the trial began)."""
    asked = replace(
        decision, current=None if decision.current is None else min(decision.current, length * (1 - 1e-6)),
        guards=tuple(g for g in decision.guards if g.key not in ("trial", "step")),
    )  # fmt: skip
    return length_against(asked, length, meter)


def fall_back(connection: Connection, fleet_id: int, trial_id: int, why: str, by: str, today: date) -> None:
    """End a trial and go back to what was run before it, or to its safe hours where they are less; a reason is asked for."""
    t = _one(connection, trial_id, today)
    if not why.strip():
        raise InputError("why", "say why the trial ends without being adopted")
    it = approval.asked(connection, t["compartment_id"], today)
    connection.execute(query("trials.end"), {"trial_id": trial_id, "state": "fell_back", "on": today, "by": by, "ending": why.strip()[:400]})
    now = in_force.register_said(connection, [t["compartment_id"]], today)[t["compartment_id"]]["length"]
    back = min([t["before"], *([now] if now is not None else [])])
    _put_back(connection, fleet_id, it.name, t, back, today, why.strip(), by)
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
    turns.hold_for(connection, list(mates), today)
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
                it = approval.asked(connection, c, today)
                start(connection, fleet_id, c, length, why, by, today, rollout_id=made["rollout_id"], rests_on=it.stamp)
        except InputError as error:
            refused.append(approval.Refused(c, f"{mates[c]['unit']} {mates[c]['compartment']}", error.why))
    if len(refused) == len(picked):
        raise InputError("compartments", "none can try it: " + "; ".join(f"{r.name} {r.why}" for r in refused[:3]))
    fleets.audit(connection, fleet_id, by, "roll-out begun", family, interval=length, trials=len(picked) - len(refused))
    return int(made["rollout_id"]), refused


def rollout(connection: Connection, rollout_id: int) -> dict[str, Any] | None:
    """A roll-out: its trials, and the family's rest with what each one's own decision says against the length. ``ready``: two compartments
    adopted it and hold it still, and no trial of it stopped or fell back."""
    found = connection.execute(query("trials.rollouts"), {"rollout_id": rollout_id}).fetchone()
    if found is None:
        return None
    own = listed(connection, rollout_id=rollout_id)
    trying = {t["compartment_id"] for t in own}
    mates = connection.execute(query("trials.family"), {"family": found["family"]}).fetchall()
    rest = [r | _stands(r, found["length"]) for r in mates if r["compartment_id"] not in trying]
    came_back = [r for r in mates if r["compartment_id"] in {t["compartment_id"] for t in own if t["state"] == "adopted"}
                 and (r["held_word"] == "back" or r["interval_meter"] is None or r["interval_meter"] < found["length"])]  # fmt: skip
    adopted = {t["compartment_id"] for t in own if t["state"] == "adopted"} - {r["compartment_id"] for r in came_back}
    ready = len(adopted) >= TRIALS_NEEDED and not found["failed"] and not came_back
    return {"rollout": found, "trials": own, "rest": rest, "ready": ready, "came_back": came_back}


def _stands(r: dict[str, Any], length: float) -> dict[str, Any]:
    """What stands against one compartment's following, by every guard of its own policy: ``stands`` a key for the page ('' nothing), and
    ``against`` the facts."""
    if r["interval_meter"] is not None and r["interval_meter"] >= length:
        return {"stands": "there", "against": []}
    decision = decision_record.typed(decision_record.opened(r["decision"], None))
    if decision is None:
        return {"stands": "unknown", "against": []}
    against = length_against(decision, length, r["meter_unit"])
    if not against:
        return {"stands": "", "against": []}
    if decision.open_faults:
        return {"stands": "fault", "against": against}
    if caps_against(decision, length):
        return {"stands": "cap", "against": against}
    if decision.safe is None and not decision.never:
        return {"stands": "unknown", "against": against}
    return {"stands": "oil" if decision.safe is not None and decision.safe < length else "guard", "against": against}


def follow_suit(
    connection: Connection, fleet_id: int, rollout_id: int, chosen: list[int], by: str, today: date
) -> tuple[list[int], list[approval.Refused]]:
    """Approve the tried length for the family's rest, each on its own: (approved, refused). Raises InputError while the trials have not
    ended well, or the intervals that were adopted did not hold."""
    found = rollout(connection, rollout_id)
    if found is None:
        raise InputError("rollout", "is not in this fleet")
    turns.hold_for(connection, [r["compartment_id"] for r in found["rest"]] + [t["compartment_id"] for t in found["trials"]], today)
    found = rollout(connection, rollout_id)
    assert found is not None
    if found["came_back"]:
        names = ", ".join(f"{r['unit']} {r['compartment']}" for r in found["came_back"])
        raise InputError("trials", f"the tried length did not hold where it was adopted: {names}")
    if not found["ready"]:
        raise InputError("trials", f"{TRIALS_NEEDED} of its trials have to be adopted first, and none stopped or fallen back")
    rest, length = {r["compartment_id"]: r for r in found["rest"]}, found["rollout"]["length"]
    done: list[int] = []
    refused: list[approval.Refused] = []
    why = f"rolled out to {found['rollout']['family']} after {found['rollout']['adopted']} trials held"
    for c in chosen:
        if c not in rest:
            continue
        name = f"{rest[c]['unit']} {rest[c]['compartment']}"
        try:
            if rest[c]["stands"]:
                reasons = "; ".join(map(say, rest[c]["against"])) or "it runs so long already, or nothing was decided for it yet"
                raise InputError("interval", f"its own evidence does not bear it: {reasons}")
            with connection.transaction():
                it = approval.asked(connection, c, today)
                approval.approve(connection, fleet_id, c, length, why, by, today, rests_on=it.stamp)
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
