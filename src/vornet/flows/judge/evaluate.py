"""Evaluating a fleet: load → cut into charges → screen → judge → decide → write where everything stands.

Everything is worked in columns for many compartments at once; one compartment is a batch of its family.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any
from zlib import crc32

import numpy as np

from vornet.core import due as due_rules
from vornet.core import oil_life
from vornet.core.causes import CAUSES
from vornet.core.charges import Charges, cut, hours_on_charge
from vornet.core.decide import decide
from vornet.core.decision import Decision, Terms
from vornet.core.fact import told
from vornet.core.history import History
from vornet.core.judge import NONE, RUN_ON, Judgement, causes_of, evidence
from vornet.core.limits import healthy_rows
from vornet.core.measurands import COUNT, KEYS
from vornet.core.rates import StretchRates, stretch_rates
from vornet.core.standing import days_left, headroom
from vornet.flows.house import fleets
from vornet.flows.judge import aside, decision_record, digests, held, holds, in_force, learned, new_oil, taught, trials, turns
from vornet.flows.judge.fleet_history import Loaded, load, terms_of, without_held
from vornet.flows.judge.judging import judge_loaded
from vornet.flows.plan import bands, service
from vornet.store import bulk, queue
from vornet.store.database import Connection, Database, as_json, query

Progress = Callable[[str], None]
#: samples judged at one go
AT_ONCE = 8_000


@dataclass(frozen=True)
class Worked:
    """What core made of it; ``decisions`` by compartment number, ``stands`` the verdict of each sample that stands."""

    loaded: Loaded
    charges: Charges
    rates: StretchRates
    judgement: Judgement
    decisions: dict[int, Decision]
    stands: np.ndarray

    @property
    def cause_keys(self) -> tuple[str, ...]:
        """Columns of the diagnosis."""
        return tuple(c.key for c in CAUSES)


def work(loaded: Loaded, charges: Charges, signed: dict[int, int] | None = None, only: list[int] | None = None) -> Worked:
    """Judge everything that was loaded and decide it, or ``only`` those compartments (their ids). ``signed``: verdicts by
    sample id, which stand before proposals."""
    rates = stretch_rates(loaded.history, charges)
    judgement = judge_loaded(loaded, charges, rates)
    running = charges.first + np.bincount(charges.comp, minlength=len(loaded.register)) - 1
    terms = [_terms(loaded, c, int(charges.oil[running[c]])) for c in range(len(loaded.register))]
    known = signed or {}
    stands = np.array([known.get(i, p) for i, p in zip(loaded.sample_ids.tolist(), judgement.proposed.tolist(), strict=True)], dtype=int)
    by_hand = np.isin(loaded.sample_ids, list(known))
    mine = range(len(terms)) if only is None else np.flatnonzero(np.isin(loaded.compartment_ids, only)).tolist()
    decisions = decide(loaded.history, charges, judgement, loaded.limits, loaded.policies, terms, stands, by_hand, mine, loaded.oil_names)
    return Worked(loaded, charges, rates, judgement, dict(zip(mine, decisions, strict=True)), stands)


def _terms(loaded: Loaded, c: int, oil: int) -> Terms:
    """What register and calendar add for compartment ``c``, which runs on ``oil`` now."""
    return terms_of(loaded.register[c], loaded.oil_caps[oil] if 0 <= oil < len(loaded.oil_caps) else {}, float(loaded.rate_per_day[c]))


def parts_of(loaded: Loaded) -> Iterator[tuple[str, np.ndarray]]:
    """(name, mask of compartments (C,)) of batches: whole families, about AT_ONCE samples, so that their columns stay near
    the processor. A family stays in its batch whatever joins the fleet, until the fleet has doubled."""
    batches = 1 << max(0, round(math.log2(max(len(loaded.sample_ids), 1) / AT_ONCE)))
    of_family = np.array([crc32(name.encode()) % batches for name in loaded.families])
    batch = of_family[loaded.history.compartments.family]
    for b in np.unique(batch).tolist():
        yield f"{b + 1} of {batches}", batch == b


def evaluate(
    db: Database,
    fleet: str,
    today: date,
    compartments: list[int] | None = None,
    progress: Progress = lambda step: None,
    afresh: bool = False,
) -> dict[str, Any]:
    """Evaluate a fleet as of ``today``; with ``compartments`` only those are written (their families are read).

    Families of which nothing has changed since they were last evaluated keep what was written then, unless ``afresh``.
    """
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as connection:
        if compartments is None:
            queue.take_touched(connection)  # all of it is looked at now
        return evaluate_within(connection, fleet_id, today, compartments, progress, afresh)


def healthy(loaded: Loaded, charges: Charges, signed: dict[int, int]) -> np.ndarray:
    """Which samples say what is usual, shape (N,)."""
    samples = loaded.history.samples
    codes = np.array([signed.get(i, NONE) for i in loaded.sample_ids.tolist()], dtype=int)
    return healthy_rows(samples.usable, samples.settled, charges.break_in[charges.charge_of], codes, loaded.found)


def evaluate_within(
    connection: Connection,
    fleet_id: int,
    today: date,
    compartments: list[int] | None = None,
    progress: Progress = lambda step: None,
    afresh: bool = False,
) -> dict[str, Any]:
    """As ``evaluate``, inside a transaction that is already open. ``set_aside`` in the answer: compartments whose history
    stopped the judgement, by name and why; nobody else waits for them, and they are tried again every time."""
    mates = written = None
    if compartments is not None:
        written = turns.with_company(connection, compartments, today)
        rows = connection.execute(query("history.family_mates"), {"compartments": written}).fetchall()
        mates = [r["compartment_id"] for r in rows]
    progress("reading")
    turns.hold_families(connection, None if written is None else [
        r["family"] for r in connection.execute(query("history.families_of"), {"compartments": written}).fetchall()])  # fmt: skip
    in_force.refresh(connection, fleet_id, written)
    loaded = load(connection, today, mates)
    if not len(loaded.compartment_ids):
        return {"compartments": 0, "samples": 0, "held": 0, "set_aside": []}
    known: dict[str, bytes] = {}
    if written is None and not afresh:
        known = {r["part"]: bytes(r["digest"]) for r in connection.execute(query("history.digests"))}
    elif written is not None:  # some are written: what all were last worked from no longer describes them
        connection.execute(query("history.forget_digests"), {"families": loaded.families})
    left_out = aside.Aside(connection, fleet_id, loaded, written)
    progress("screening")
    loaded = screened(connection, fleet_id, loaded, today, written, left_out, known.get(""))
    progress("judging")
    signed = taught.signed_verdicts(connection, mates)
    parts = list(parts_of(loaded))
    if written is None:  # batches of another size say nothing any more
        connection.execute(query("history.keep_digests"), {"parts": ["", "learned", *(name for name, _ in parts)]})
    for name, keep in parts:
        part = loaded.part(keep)
        if written is None:
            digest = digests.digest_of_part(part, signed, today)
            if known.get(name) == digest:
                continue
            kept = {"fleet_id": fleet_id, "part": name, "families": part.families, "digest": digest}
            connection.execute(query("history.put_digest"), kept)

        def judged(some: Loaded) -> Loaded:
            judge_and_write(connection, fleet_id, some, today, signed, written, left_out)
            return some

        before = len(left_out.found)
        left_out.through(part, judged, tried)
        if written is None and len(left_out.found) > before:  # somebody was left out: to be worked again, whatever comes
            connection.execute(query("history.forget_digests"), {"families": part.families})
    touched = None
    if written is not None:
        mine = set(written)
        touched = sorted({r["unit_id"] for r in loaded.register if r["compartment_id"] in mine})
    service.refresh(connection, today, touched)
    bands.refresh(connection, today, touched)
    poured = b""
    if written is None:  # what was poured and read is in logs that only grow
        poured = digests.digest(connection.execute(query("history.logs")).fetchone(), loaded.register)
    if written is not None or known.get("learned") != poured:
        learned.refresh(connection, fleet_id, written)
        if written is None:
            kept = {"fleet_id": fleet_id, "part": "learned", "families": [], "digest": poured}
            connection.execute(query("history.put_digest"), kept)
    connection.execute(query("history.rank"), {"only": written})
    if written is None:
        connection.execute(query("history.judged_on"), {"today": today})
    on_hold = int((~loaded.history.samples.usable).sum())
    return {
        "compartments": len(loaded.compartment_ids), "samples": len(loaded.sample_ids), "held": on_hold, "set_aside": left_out.settle(),
    }  # fmt: skip


def screened(
    connection: Connection, fleet_id: int, loaded: Loaded, today: date, written: list[int] | None, left_out: aside.Aside,
    known: bytes | None,
) -> Loaded:  # fmt: skip
    """As loaded, without what is held and with estimates of new oil, both written down. ``known``: digest of the last screening."""
    loaded = left_out.through(loaded, lambda some: holds.hold(
        connection, fleet_id, _with_new_oil(connection, fleet_id, some, today, written), written, known), holds.tried)  # fmt: skip
    return left_out.through(loaded, lambda some: _with_new_oil(connection, fleet_id, some, today, written, keep=True), _new_oil_tried)


def tried(loaded: Loaded) -> None:
    """Judge and decide without writing, to see whether it can be done."""
    work(loaded, cut(loaded.history))


def _new_oil_tried(loaded: Loaded) -> None:
    new_oil.made_anew(loaded.history)


def _with_new_oil(
    connection: Connection, fleet_id: int, loaded: Loaded, today: date, written: list[int] | None, keep: bool = False
) -> Loaded:
    """As loaded, with estimates of new oil that no record tells, from what is not held; ``keep`` them beside the fleet's oils."""

    def others(ids: list[int]) -> History:
        return without_held(connection, load(connection, today, ids)).history

    firm = without_held(connection, loaded).history
    if written is None:
        firm = new_oil.made_anew(firm)
        if keep:
            new_oil.keep(connection, fleet_id, firm, loaded.oil_ids)
    else:
        firm = new_oil.for_some(connection, fleet_id, firm, loaded.oil_ids, others)
    return replace(loaded, history=replace(loaded.history, fresh=firm.fresh))


def judge_and_write(
    connection: Connection, fleet_id: int, part: Loaded, today: date, signed: dict[int, int], written: list[int] | None,
    left_out: aside.Aside,
) -> None:  # fmt: skip
    """Judge and decide some families and write where everything stands; with ``written`` of those compartments only."""
    charges = cut(part.history)
    worked = work(part, charges, signed, written)
    if trials.follow(connection, fleet_id, worked, signed, today):  # intervals fell back: decided anew by them
        worked = work(part, charges, signed, written)
    if in_force.begin(connection, fleet_id, worked, today):  # what was approved for today has begun
        worked = work(part, charges, signed, written)
    _write_evaluations(connection, fleet_id, worked, written)
    _write_standing(connection, fleet_id, worked, today, left_out.ids)
    _write_baselines(connection, fleet_id, worked, today, healthy(part, charges, signed))


def _write_evaluations(connection: Connection, fleet_id: int, worked: Worked, compartments: list[int] | None) -> None:
    loaded, judgement, samples = worked.loaded, worked.judgement, worked.loaded.history.samples
    write = np.ones(len(samples.comp), dtype=bool)
    if compartments is not None:
        write = np.isin(loaded.compartment_ids[samples.comp], list(compartments))
    known = bulk.read_columns(
        connection, query("history.known_evaluations"), [("id", "i8"), ("p", "i2"), ("l", "i8"), ("h", "f8")],
        {"samples": loaded.sample_ids.tolist()},
    )  # fmt: skip
    said = (judgement.proposed != RUN_ON) | samples.settled | (judgement.diagnosis.strength > 0).any(axis=1)
    if len(known["id"]):
        order = np.argsort(known["id"])
        ids = known["id"][order]
        at = np.clip(np.searchsorted(ids, loaded.sample_ids), 0, len(ids) - 1)
        same = (ids[at] == loaded.sample_ids) & (known["p"][order][at] == judgement.proposed)
        same &= known["l"][order][at] == loaded.limit_set_id
        hours = known["h"][order][at]
        same &= (hours == worked.charges.oil_hours) | (np.isnan(hours) & np.isnan(worked.charges.oil_hours))
        # sentences may change while the proposal stays; those few are always written again
        write &= ~same | said
        stale = loaded.sample_ids[write & np.isin(loaded.sample_ids, ids)]
        connection.execute(query("history.forget_evaluations"), {"samples": stale.tolist()})
    connection.execute(query("history.evaluation_staging"))
    index = np.flatnonzero(write)
    lines = []
    hours_list = worked.charges.oil_hours[index].tolist()
    for i, sample_id, proposed, h, speak in zip(
        index.tolist(), loaded.sample_ids[index].tolist(), judgement.proposed[index].tolist(), hours_list,
        said[index].tolist(), strict=True,
    ):  # fmt: skip
        facts, held_for = "[]", "[]"
        if speak:
            r = loaded.register[samples.comp[i]]
            span = told("per", span=r["interval_meter"] or (20_000 if r["meter_unit"] == "km" else 500), meter=r["meter_unit"])
            facts = _for_copy([fact.plain() for fact in evidence(loaded.history, judgement, worked.rates, i)])
            held_for = _for_copy(causes_of(judgement, i, span))
        on = date.fromordinal(int(samples.day[i]))
        on_oil = h if h == h else "NaN"
        lines.append(f"{sample_id}\t{proposed}\t{loaded.limit_set_id}\t{on_oil}\t{facts}\t{held_for}\t{on}\n")
    with connection.cursor() as cursor, cursor.copy(query("history.copy_evaluation")) as copy:
        copy.write("".join(lines))
    connection.execute(query("history.insert_evaluations"), {"fleet_id": fleet_id})
    connection.execute(query("history.empty_staging"))


def _for_copy(what: Any) -> str:
    """JSON as a cell of PostgreSQL's text COPY."""
    return as_json(what).replace("\\", "\\\\")


def _none_if_nan(x: float) -> float | None:
    return None if x is None or not math.isfinite(x) else float(x)


def _write_standing(connection: Connection, fleet_id: int, worked: Worked, today: date, skip: set[int]) -> None:
    loaded, charges, samples = worked.loaded, worked.charges, worked.loaded.history.samples
    count = len(loaded.compartment_ids)
    oil_hours = hours_on_charge(charges, loaded.latest_total)
    running = charges.first + np.bincount(charges.comp, minlength=count) - 1
    last = np.full(count, -1)
    judged = samples.usable
    last[samples.comp[judged]] = np.flatnonzero(judged)
    on_hold = np.bincount(samples.comp[~samples.usable], minlength=count)
    rows = []
    versions = in_force.stood(connection, [int(loaded.compartment_ids[c]) for c in worked.decisions])
    for c, decision in worked.decisions.items():
        compartment_id, r, i = int(loaded.compartment_ids[c]), loaded.register[c], int(last[c])
        if compartment_id in skip:
            continue
        figures, slopes = decision_record.packed(decision)
        h = running[c]
        interval = r["interval_meter"] or math.nan
        due = due_rules.due(
            charges.fill[h], charges.fill_day[h], interval, r["interval_days"] or math.nan, loaded.latest_total[c],
            loaded.latest_day[c], loaded.rate_per_day[c],
        )  # fmt: skip
        hours = float(oil_hours[c])
        early = due_rules.first_drain(
            (r["facts"] or {}).get(f"first_drain_{r['meter_unit']}"), charges.fill[h], loaded.history.compartments.overhaul[c],
            loaded.latest_total[c], bool(charges.number[h] > 0),
        )  # fmt: skip
        breaks_in = early is not None and not early >= due.total
        if early is not None and breaks_in:
            first = due_rules.due(early, math.nan, 0.0, math.nan, loaded.latest_total[c], loaded.latest_day[c], loaded.rate_per_day[c])
            due = due_rules.with_first_drain(due, first)
        to_due = interval - hours
        if breaks_in:
            to_due = float(np.fmin(to_due, due.total - loaded.latest_total[c]))
        due_day = date.fromordinal(int(due.day)) if math.isfinite(due.day) and 1 < due.day < 3_600_000 else None
        if due_day is not None and due.driver == "calendar" and loaded.rate_per_day[c] > 0:
            to_due = min(to_due, (due.day - today.toordinal()) * loaded.rate_per_day[c])
        faulty = bool(decision.open_faults)
        room = headroom(hours, decision.running_safe, decision.running_as_is, decision.evidence_cap, _none_if_nan(interval), faulty)
        ranking = days_left(room.now, to_due, loaded.rate_per_day[c], _none_if_nan(interval))
        rows.append({
            "fleet_id": fleet_id, "compartment_id": compartment_id, "as_of": today,
            "meter_day": None if math.isnan(loaded.latest_day[c]) else date.fromordinal(int(loaded.latest_day[c])),
            "oil_hours": _none_if_nan(hours), "headroom": room.repaired, "headroom_is_safe": room.is_safe,
            "headroom_open": room.open_end, "running_safe": decision.running_safe, "headroom_as_is": room.as_is,
            "open_measurands": list(decision.open_measurands),
            "limiting": decision.running_limiting or decision.limiting, "interval_meter": r["interval_meter"],
            "to_due": _none_if_nan(to_due), "due_meter": _none_if_nan(due.total), "due_day": due_day,
            "due_driver": due.driver, "rate_per_day": _none_if_nan(loaded.rate_per_day[c]),
            "last_sample_id": int(loaded.sample_ids[i]) if i >= 0 else None,
            "last_proposed": int(worked.judgement.proposed[i]) if i >= 0 else None,
            "last_sampled_on": date.fromordinal(int(samples.day[i])) if i >= 0 else None,
            "held": int(on_hold[c]), "open_faults": as_json([f.plain() for f in decision.open_faults]), "outcome": decision.outcome,
            "proposed_meter": decision.proposed, "reason": as_json(decision.reason.plain()), "ranking": ranking,
            "decision": figures, "slopes": slopes, "reckoning": decision.reckoning,
            "act_now": decision.act_now, "act_proposed": decision.act_proposed,
            **_held(worked, c, versions.get(compartment_id, ()), today),
            **_oil_life(charges, range(int(charges.first[c]), int(h) + 1), hours, decision, r, today),
        })  # fmt: skip
    with connection.cursor() as cursor:
        cursor.executemany(query("history.put_standing"), rows)


def _held(worked: Worked, c: int, versions: Sequence[dict[str, Any]], today: date) -> dict[str, Any]:
    """Whether the compartment's approved interval has held, for lists."""
    found = None
    if versions:
        safe = held.safe_now(worked.decisions[c])
        found = held.standing(worked.loaded, worked.charges, worked.judgement, worked.stands, c, versions, safe, today.toordinal())
    return {"held_word": found.found.word if found else None, "held_back": found.found.back_to if found else None,
            "held_since": as_json(held.plain(found)) if found else None}  # fmt: skip


def _oil_life(charges: Charges, rows: range, on_oil: float, decision: Decision, row: dict[str, Any], today: date) -> dict[str, Any]:
    """The compartment's last charges against the life their oil has here; ``on_oil``: how long the running one has run."""
    life = oil_life.life_of(decision)
    mine = [
        oil_life.Charge(
            int(charges.fill_day[h]), None if math.isnan(charges.end[h]) else int(charges.end_day[h]),
            _none_if_nan(on_oil if math.isnan(charges.end[h]) else float(charges.end[h] - charges.fill[h])),
        )
        for h in rows
        if not math.isnan(charges.fill_day[h])
    ]  # fmt: skip
    found = oil_life.oil_life(mine, life, row["capacity_l"] or row["system_volume_l"], today.toordinal())
    drawn = [[k.fill_day, k.end_day, None if k.hours is None else round(k.hours, 1)] for k in found.charges]
    return {"charges": as_json(drawn), "life": life, "life_used": found.used, "early_l": found.early_l, "overrun": found.overrun}


def _write_baselines(connection: Connection, fleet_id: int, worked: Worked, today: date, usual: np.ndarray) -> None:
    """Family mean and spread of each measurand over healthy history, as of today; what is as it was keeps its day."""
    loaded, samples = worked.loaded, worked.loaded.history.samples
    usual = usual & (worked.judgement.proposed != NONE)
    family = loaded.history.compartments.family[samples.comp]
    count = len(loaded.families)
    kept = connection.execute(query("history.latest_baselines"), {"families": loaded.families, "today": today}).fetchall()
    stands = {(r["family"], r["measurand"]): (r["n"], r["mean"], r["sd"]) for r in kept}
    rows = []
    for m in range(COUNT):
        x = samples.values[:, m]
        at = usual & ~np.isnan(x)
        n = np.bincount(family[at], minlength=count)
        if not n.any():
            continue
        with np.errstate(invalid="ignore", divide="ignore"):
            mean = np.bincount(family[at], x[at], count) / n
            spread = np.bincount(family[at], (x[at] - mean[family[at]]) ** 2, count)
            sd = np.sqrt(spread / (n - 1))
        for f in np.flatnonzero(n >= 10):
            now = int(n[f]), float(mean[f]), float(sd[f])
            was = stands.get((loaded.families[f], KEYS[m]))
            if was is None or was[0] != now[0] or not all(math.isclose(a, b, rel_tol=1e-12) for a, b in zip(was[1:], now[1:], strict=True)):
                rows.append({
                    "fleet_id": fleet_id, "family": loaded.families[f], "measurand": KEYS[m], "as_of": today,
                    "n": now[0], "mean": now[1], "sd": now[2],
                })  # fmt: skip
    with connection.cursor() as cursor:
        cursor.executemany(query("history.put_baseline"), rows)
