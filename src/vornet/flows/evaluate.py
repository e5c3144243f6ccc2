"""Evaluating a fleet: load → cut into charges → screen → judge → decide → write where everything stands.

Everything is worked in columns for many compartments at once; one compartment is a batch of its family.
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, fields, is_dataclass, replace
from datetime import date
from functools import lru_cache
from hashlib import blake2b
from importlib.resources import files
from typing import Any
from zlib import crc32

import numpy as np

from vornet.core import due as due_rules
from vornet.core.causes import CAUSES
from vornet.core.decide import Decision, FreshOil, Policy, Terms, decide, fresh_oil, lacks_new_oil
from vornet.core.diagnose import REPAIR_DAYS, Seen
from vornet.core.history import (
    DRAIN_MATCH_DAYS,
    Charges,
    Compartments,
    Drains,
    Fillings,
    History,
    Levels,
    Oils,
    Samples,
    cut,
    has_stood,
    hours_on_charge,
    part_of,
)  # fmt: skip
from vornet.core.judge import NONE, RUN_ON, Judgement, causes_of, evidence, judge
from vornet.core.limits import DUTIES, FixedLimit, LimitTable, duty_of, healthy_rows, table
from vornet.core.measurands import COUNT, KEYS
from vornet.core.precision import PRECISION, Precision, arranged
from vornet.core.rates import StretchRates, stretch_rates
from vornet.core.screening import Finding, MeterPoints, screen
from vornet.flows import fleets, kept_decision, learned, register, results, service
from vornet.store import bulk
from vornet.store.database import Connection, Database, query

Progress = Callable[[str], None]
#: how long before a finding a call was about it, days; common practice, no source
CONFIRMED_DAYS = 183
#: samples judged at one go
AT_ONCE = 8_000
#: more days than any date has, to put compartment and day into one number
DAYS = 10_000_000


@dataclass(frozen=True)
class Loaded:
    """A fleet (or some families of it) as core wants it, with the ids and facts around it."""

    history: History
    compartment_ids: np.ndarray
    sample_ids: np.ndarray
    register: list[dict[str, Any]]
    families: list[str]
    points: MeterPoints
    rate_per_day: np.ndarray
    latest_total: np.ndarray
    latest_day: np.ndarray
    proposed_drain: np.ndarray
    drain_ids: np.ndarray
    oil_ids: list[int]
    oil_names: list[str]
    changes: dict[int, list[tuple[int, float, float]]]
    limits: LimitTable
    limit_set_id: int
    policy: Policy
    seen: Seen

    def part(self, keep: np.ndarray) -> Loaded:
        """Some compartments of it (``keep``: (C,) bool), whole families together; meter points and drains stay behind."""
        history, rows = part_of(self.history, keep)
        families = np.unique(self.history.compartments.family[keep])
        return replace(
            self, history=history, compartment_ids=self.compartment_ids[keep], sample_ids=self.sample_ids[rows],
            register=[r for r, k in zip(self.register, keep.tolist(), strict=True) if k],
            families=[self.families[f] for f in families], rate_per_day=self.rate_per_day[keep],
            latest_total=self.latest_total[keep], latest_day=self.latest_day[keep],
            seen=Seen(*(x[rows] for x in (self.seen.air_filter, self.seen.repair, self.seen.coolant_low))),
        )  # fmt: skip


@dataclass(frozen=True)
class Worked:
    """What core made of it; ``decisions`` by compartment number."""

    loaded: Loaded
    charges: Charges
    rates: StretchRates
    judgement: Judgement
    decisions: dict[int, Decision]

    @property
    def cause_keys(self) -> tuple[str, ...]:
        """Columns of the diagnosis."""
        return tuple(c.key for c in CAUSES)


def limits_on(connection: Connection, today: date) -> tuple[LimitTable, int]:
    """The fixed limits in force on a day, and their version's id."""
    row = connection.execute(query("register.default_limits"), {"today": today}).fetchone()
    assert row is not None, "every fleet is made with a first limit set"
    return table([FixedLimit(**r) for r in row["limits"]]), row["limit_set_id"]


def precision_on(connection: Connection, today: date) -> list[Precision]:
    """The fleet's own precision rows in force on a day; none: the start values stand."""
    row = connection.execute(query("register.precision"), {"today": today}).fetchone()
    return [Precision(**r) for r in row["rows"]] if row else []


def policy_on(connection: Connection, today: date) -> Policy:
    row = connection.execute(query("register.policy"), {"today": today}).fetchone()
    return Policy(**row["rules"]) if row else Policy()


def _totals(
    unit: np.ndarray, day: np.ndarray, meter: np.ndarray, changes: dict[int, list[tuple[int, float, float]]]
) -> np.ndarray:
    total = meter.astype(float).copy()
    for unit_id, mine in changes.items():
        for i in np.flatnonzero(unit == unit_id):
            total[i] = due_rules.running_total(meter[i], int(day[i]), mine)
    return total


def load(connection: Connection, today: date, compartments: list[int] | None = None) -> Loaded:
    """Read a fleet, or the given compartments, into columns. Drains and readings after ``today`` do not exist yet."""
    rows = connection.execute(query("register.compartments"), {"today": today, "only": compartments}).fetchall()
    limits, limit_set_id = limits_on(connection, today)
    ids = np.array([r["compartment_id"] for r in rows], dtype=np.int64)
    order = np.argsort(ids)
    rows, ids = [rows[i] for i in order], ids[order]
    meter_of = np.array([r["meter_id"] for r in rows], dtype=np.int64)

    oil_rows = connection.execute(query("register.oils")).fetchall()
    sampled = results.new_oil_values(connection)
    oil_ids = [o["oil_id"] for o in oil_rows]
    oil_at = {oil_id: i for i, oil_id in enumerate(oil_ids)}
    new = np.full((len(oil_rows) + 1, COUNT), np.nan)
    density = np.full(len(oil_rows) + 1, 0.87)
    for i, o in enumerate(oil_rows):
        known = np.array(o["new_values"], dtype=float)
        new[i] = np.where(np.isnan(known) & (o["oil_id"] in sampled), sampled.get(o["oil_id"], known), known)
        density[i] = o["density_kg_l"] or 0.87
    unknown_oil = len(oil_rows)

    def oil_index(oil: np.ndarray) -> np.ndarray:
        unique, inverse = np.unique(oil, return_inverse=True)
        return np.array([oil_at.get(int(o), -1) for o in unique], dtype=int)[inverse] if len(oil) else oil.astype(int)

    changes = register.changes_by_meter(connection)
    only: dict[str, object] = {"compartments": compartments}
    d = bulk.read_columns(
        connection, query("history.drains"),
        [("id", "i8"), ("comp", "i8"), ("day", "day"), ("meter", "f8"), ("out_l", "f8"), ("missing_l", "f8"),
         ("oil", "i8"), ("magnet", "f8"), ("estimated", "b")], only,
    )  # fmt: skip
    f = bulk.read_columns(
        connection, query("history.fillings"),
        [("comp", "i8"), ("day", "day"), ("meter", "f8"), ("in_l", "f8"), ("out_l", "f8")], only,
    )  # fmt: skip
    v = bulk.read_columns(
        connection, query("history.levels"), [("comp", "i8"), ("day", "day"), ("meter", "f8"), ("missing_l", "f8")], only
    )
    s = bulk.read_columns(
        connection, query("history.samples" if compartments is None else "history.samples_of"),
        [("id", "i8"), ("comp", "i8"), ("day", "day"), ("meter", "f8"), ("oil_hours", "f8"), ("topup_l", "f8"),
         ("drained", "b"), ("below", "i8"), ("above", "i8"), ("values", "values")],
        None if compartments is None else only,
    )  # fmt: skip
    m = bulk.read_columns(
        connection, query("history.meters" if compartments is None else "history.meters_of"),
        [("meter_id", "i8"), ("day", "day"), ("meter", "f8")], None if compartments is None else only,
    )
    last = today.toordinal()
    d = {k: x[d["day"] <= last] for k, x in d.items()}
    f = {k: x[f["day"] <= last] for k, x in f.items()}
    m = {k: x[m["day"] <= last] for k, x in m.items()}
    v = {k: x[v["day"] <= last] for k, x in v.items()}
    for block in (d, f, s, v):
        inside = np.isin(block["comp"], ids)
        if not inside.all():
            for k in block:
                block[k] = block[k][inside]
        block["meter_id"] = meter_of[np.searchsorted(ids, block["comp"])] if len(ids) else block["comp"]
        block["total"] = _totals(block["meter_id"], block["day"], block["meter"], changes)
        block["comp"] = np.searchsorted(ids, block["comp"])
    m["total"] = _totals(m["meter_id"], m["day"], m["meter"], changes)
    m = _with_estimates(m, rows, today)

    families = sorted({r["family"] for r in rows})
    family_at = {name: i for i, name in enumerate(families)}
    overhaul = np.full(len(rows), np.nan)
    comp_at = {int(c): i for i, c in enumerate(ids)}
    for r in connection.execute(query("history.overhauls")).fetchall():
        if r["compartment_id"] in comp_at and r["on_day"] <= today:
            i = comp_at[r["compartment_id"]]
            day = r["on_day"].toordinal()
            overhaul[i] = due_rules.running_total(r["meter"], day, changes.get(int(meter_of[i]), []))

    def number(name: str) -> np.ndarray:
        return np.array([math.nan if r[name] is None else r[name] for r in rows], dtype=float)

    system = number("system_volume_l")
    capacity = number("capacity_l")
    system = np.where(np.isnan(system), capacity * 1.05, system)
    comps = Compartments(
        duty=np.array([DUTIES.index(duty_of(r["kind"], r["fuel"])) for r in rows], dtype=int),
        family=np.array([family_at[r["family"]] for r in rows], dtype=int),
        oil=np.array([oil_at.get(r["oil_id"], unknown_oil) for r in rows], dtype=int),
        system_l=system, refill_l=capacity, interval=number("interval_meter"),
        distance=np.array([r["meter_unit"] == "km" for r in rows], dtype=bool), overhaul=overhaul,
    )  # fmt: skip
    points, rate, latest_total, latest_day = _meters(m, meter_of, ids, s, today)
    rate[np.array([r["state"] != "in_service" for r in rows], dtype=bool)] = 0.0  # stands still: due by calendar
    s = _ordered_samples(s, m)
    drains, proposed = _with_proposed(d, s, comps, oil_index)
    drain_ids = drains.pop("id")
    fo = np.lexsort((f["total"], f["comp"]))
    vo = np.lexsort((v["total"], v["comp"]))
    samples = Samples(
        s["comp"], s["day"], s["total"], s["oil_hours"], s["topup_l"], s["drained"], np.ones(len(s["id"]), dtype=bool),
        s["values"], s["below"], s["above"], _stood(connection, s["id"]),
    )  # fmt: skip
    history = History(
        comps, Oils(new, density),
        Drains(drains["comp"], drains["day"], drains["total"], drains["out_l"], drains["missing_l"], drains["oil"],
               drains["magnet"], drains["estimated"].astype(bool)),
        Fillings(f["comp"][fo], f["day"][fo], f["total"][fo], f["in_l"][fo], f["out_l"][fo]), samples,
        Levels(v["comp"][vo], v["day"][vo], v["total"][vo], v["missing_l"][vo]), arranged([*PRECISION, *precision_on(connection, today)]),
    )  # fmt: skip
    return Loaded(
        history, ids, s["id"], rows, families, points, rate, latest_total, latest_day, proposed, drain_ids,
        oil_ids, [o["name"] for o in oil_rows], changes, limits, limit_set_id, policy_on(connection, today),
        _seen(connection, ids, samples, compartments),
    )  # fmt: skip


def _last_before(comp: np.ndarray, day: np.ndarray, found_comp: np.ndarray, found_day: np.ndarray) -> np.ndarray:
    """Index of the last row of the same compartment on or before each day, -1 none. ``found`` sorted by both; (N,)."""
    key = found_comp.astype(np.int64) * DAYS + found_day
    at = np.searchsorted(key, comp.astype(np.int64) * DAYS + day, "right") - 1
    if not len(key):
        return np.full(len(comp), -1)
    return np.where((at >= 0) & (found_comp[np.maximum(at, 0)] == comp), at, -1)


def _seen(connection: Connection, ids: np.ndarray, samples: Samples, only: list[int] | None) -> Seen:
    """What was seen at drains and done between them, beside the samples."""
    n = len(samples.comp)

    def rows(name: str) -> tuple[np.ndarray, np.ndarray, list[dict[str, Any]]]:
        found = [r for r in connection.execute(query(name), {"only": only}).fetchall() if r["compartment_id"] in where]
        comp = np.array([where[r["compartment_id"]] for r in found], dtype=np.int64)
        day = np.array([r["on_day"].toordinal() for r in found], dtype=np.int64)
        order = np.lexsort((day, comp))
        return comp[order], day[order], [found[i] for i in order]

    where = {int(c): i for i, c in enumerate(ids)}
    air, repair, coolant = np.zeros(n), np.zeros(n), np.zeros(n)
    comp, day, found = rows("history.air_filters")
    # what was seen at the drain a sample was drawn at belongs to it, even when it is dated a little later
    at = _last_before(samples.comp, samples.day + np.where(samples.drained, DRAIN_MATCH_DAYS, 0), comp, day)
    bad = np.array([{"dusty": 0.6, "blocked": 1.0, "leaking": 1.0}.get(r["air_filter"], 0.0) for r in found] or [0.0])
    air = np.where(at >= 0, bad[at], 0.0)
    comp, day, found = rows("history.repairs")
    at = _last_before(samples.comp, samples.day, comp, day)
    repair = ((at >= 0) & (samples.day - (day if len(day) else np.zeros(1))[at] <= REPAIR_DAYS)).astype(float)
    comp, day, found = rows("history.coolant_low")
    at = _last_before(samples.comp, samples.day + DRAIN_MATCH_DAYS, comp, day)
    coolant = ((at >= 0) & (samples.day - (day if len(day) else np.zeros(1))[at] <= 90)).astype(float)
    return Seen(air, repair, coolant)


def _stood(connection: Connection, sample_ids: np.ndarray) -> np.ndarray:
    """Which samples were drawn from oil that had cooled or stood, by what the bottle's record says; shape (N,)."""
    drawn = connection.execute(query("history.drawn")).fetchall()
    return np.isin(sample_ids, [r["sample_id"] for r in drawn if has_stood(r["warmth"], r["minutes"])])


def _with_estimates(m: dict[str, np.ndarray], rows: list[dict[str, Any]], today: date) -> dict[str, np.ndarray]:
    """Meter points, and for units without a meter the estimate for today from the last figure on record."""
    last = today.toordinal()
    extra: dict[int, tuple[float, float]] = {}
    for r in rows:
        meter_id = int(r["meter_id"])
        if not r["estimated_per_day"] or r["state"] != "in_service" or meter_id in extra:
            continue
        mine = m["meter_id"] == meter_id
        if mine.any():
            day = int(m["day"][mine].max())
            total = float(m["total"][mine].max())
            if day < last:
                extra[meter_id] = (last, due_rules.estimated(total, day, last, r["estimated_per_day"]))
    if not extra:
        return m
    ids = np.array(list(extra), dtype=np.int64)
    days = np.array([d for d, _ in extra.values()], dtype=np.int64)
    totals = np.array([t for _, t in extra.values()])
    return {
        "meter_id": np.concatenate([m["meter_id"], ids]), "day": np.concatenate([m["day"], days]),
        "meter": np.concatenate([m["meter"], totals]), "total": np.concatenate([m["total"], totals]),
    }  # fmt: skip


def _meters(
    m: dict[str, np.ndarray], meter_of: np.ndarray, ids: np.ndarray, s: dict[str, np.ndarray], today: date
) -> tuple[MeterPoints, np.ndarray, np.ndarray, np.ndarray]:
    """Trusted meter points per compartment; use per day; the latest total and its day, samples included."""
    order = np.lexsort((m["total"], m["day"], m["meter_id"]))
    unit, day, total = m["meter_id"][order], m["day"][order], m["total"][order]
    keep = np.ones(len(unit), dtype=bool)
    if len(unit) > 1:
        keep[1:] = (np.diff(unit) != 0) | (np.diff(day) != 0) | (np.diff(total) != 0)
    unit, day, total = unit[keep], day[keep], total[keep]
    count = len(ids)
    rate, latest, latest_day = (np.full(count, np.nan) for _ in range(3))
    first = {int(u): (int(a), int(b)) for u, a, b in zip(
        np.unique(unit), np.searchsorted(unit, np.unique(unit)), np.searchsorted(unit, np.unique(unit), "right"),
        strict=True)}  # fmt: skip
    by_unit: dict[int, float] = {}
    comp, pday, ptotal = [], [], []
    for c in range(count):
        span = first.get(int(meter_of[c]))
        if span is None:
            continue
        a, b = span
        if int(meter_of[c]) not in by_unit:
            by_unit[int(meter_of[c])] = due_rules.recent_rate(day[a:b], total[a:b])
        rate[c] = by_unit[int(meter_of[c])]
        latest[c], latest_day[c] = total[b - 1], day[b - 1]
        comp.append(np.full(b - a, c))
        pday.append(day[a:b])
        ptotal.append(total[a:b])
    # a believable sample is a reading too: only forwards, and not faster than the clock
    recent = np.flatnonzero(~np.isnan(s["total"]) & (s["day"] <= today.toordinal()))
    best = np.full(count, -np.inf)
    np.maximum.at(best, s["comp"][recent], s["day"][recent])
    for i in recent[s["day"][recent] == best[s["comp"][recent]]]:
        c = s["comp"][i]
        gap = s["day"][i] - latest_day[c]
        if np.isnan(latest_day[c]) or (gap > 0 and 0 <= s["total"][i] - latest[c] <= 2000 * gap):
            if not np.isnan(latest_day[c]) and s["total"][i] - latest[c] > max(24.0, 3 * np.nan_to_num(rate[c])) * gap:
                continue
            latest[c], latest_day[c] = s["total"][i], s["day"][i]

    def joined(parts: list[np.ndarray]) -> np.ndarray:
        return np.concatenate(parts) if parts else np.zeros(0)

    return MeterPoints(joined(comp).astype(int), joined(pday), joined(ptotal)), rate, latest, latest_day


def _ordered_samples(s: dict[str, np.ndarray], m: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    """Samples by compartment and day; a missing meter is read off the unit's own readings around that day."""
    order = np.lexsort((s["id"], s["total"], s["day"], s["comp"]))
    s = {k: v[order] for k, v in s.items()}
    blank = np.flatnonzero(np.isnan(s["total"]) & np.isnan(s["oil_hours"]))
    for unit_id in np.unique(s["meter_id"][blank]):
        mine = m["meter_id"] == unit_id
        at = blank[s["meter_id"][blank] == unit_id]
        if mine.sum() >= 2:
            by_day = np.argsort(m["day"][mine], kind="stable")
            days, totals = m["day"][mine][by_day], m["total"][mine][by_day]
            inside = (s["day"][at] >= days[0]) & (s["day"][at] <= days[-1])
            s["total"][at[inside]] = np.interp(s["day"][at[inside]], days, totals)
    return s


def _with_proposed(
    d: dict[str, np.ndarray], s: dict[str, np.ndarray], comps: Compartments, oil_index: Callable
) -> tuple[dict[str, np.ndarray], np.ndarray]:
    """Drains on record, and those that samples speak of but nobody recorded (proposed, volumes unknown).

    A sample marked as drawn at a drain with none on record within three days proposes one on its day; a
    compartment without any drain takes its fills from the oil hours that the lab was told.
    """
    names = ("comp", "day", "total", "out_l", "missing_l", "oil", "magnet", "estimated", "id")
    added: list[tuple[float, ...]] = []
    have: dict[int, list[int]] = {}

    def add(c: int, day: int, total: float) -> None:
        added.append((c, day, total, math.nan, math.nan, -1, math.nan, False, -1))
        have.setdefault(c, []).append(day)

    key = np.sort(d["comp"].astype(np.int64) * DAYS + d["day"])
    at = s["comp"].astype(np.int64) * DAYS + s["day"]
    near = np.searchsorted(key, at + DRAIN_MATCH_DAYS, "right") > np.searchsorted(key, at - DRAIN_MATCH_DAYS, "left")
    for i in np.flatnonzero(s["drained"] & ~np.isnan(s["total"]) & ~near):
        c, day = int(s["comp"][i]), int(s["day"][i])
        if not any(abs(day - known) <= DRAIN_MATCH_DAYS for known in have.get(c, ())):
            add(c, day, float(s["total"][i]))
    bare = np.bincount(d["comp"].astype(int), minlength=len(comps.duty)) == 0
    bare[np.array(list(have), dtype=int)] = False
    told = ~np.isnan(s["total"]) & ~np.isnan(s["oil_hours"]) & (s["oil_hours"] > 0)
    last: dict[int, tuple[float, int]] = {}
    for i in np.flatnonzero(told & bare[s["comp"]]):
        c, fill = int(s["comp"][i]), float(s["total"][i] - s["oil_hours"][i])
        before = last.get(c)
        slack = max(20.0, 0.05 * float(np.nan_to_num(comps.interval[c])))
        if before is None or fill > before[0] + slack:
            day = int(s["day"][i]) - 1 if before is None else max(before[1], int(s["day"][i]) - 1)
            add(c, day, fill)
            last[c] = (fill, int(s["day"][i]))
        else:
            last[c] = (before[0], int(s["day"][i]))
    extra = np.array(added, dtype=float).reshape(-1, len(names))
    whole = {**d, "oil": oil_index(d["oil"])}
    out = {
        k: np.concatenate([whole[k].astype(kind), extra[:, j].astype(kind)])
        for j, k in enumerate(names)
        for kind in (float if k in ("total", "out_l", "missing_l", "magnet") else np.int64,)
    }
    order = np.lexsort((out["total"], out["day"], out["comp"]))
    proposed = np.arange(len(order)) >= len(d["comp"])
    return {k: v[order] for k, v in out.items()}, proposed[order]


def _together(connection: Connection, loaded: Loaded) -> np.ndarray:
    """Which samples travelled together: a parcel's, else those of one unit drawn on one day; shape (N,)."""
    samples = loaded.history.samples
    unit = np.array([r["unit_id"] for r in loaded.register], dtype=np.int64)
    own = unit[samples.comp] * DAYS + samples.day.astype(np.int64)
    parcels = connection.execute(query("history.parcels")).fetchall()
    if parcels:
        of = {r["sample_id"]: r["shipment_id"] for r in parcels}
        for i in np.flatnonzero(np.isin(loaded.sample_ids, list(of))):
            own[i] = -int(of[int(loaded.sample_ids[i])]) - 1
    return np.unique(own, return_inverse=True)[1]


def _placed_facts(loaded: Loaded, numbers: dict[int, str], finding: Finding) -> tuple[str, str]:
    """A finding's sentence and facts with sample numbers and names in place of positions."""
    facts, detail = dict(finding.facts), finding.detail
    for name in ("other", "after"):
        if name in facts:
            i = int(facts[name])
            sample_id = int(loaded.sample_ids[i])
            r = loaded.register[loaded.history.samples.comp[i]]
            facts[name] = {
                "sample_id": sample_id, "sample_no": numbers.get(sample_id, ""), "unit": r["unit"], "compartment": r["name"],
                "on": date.fromordinal(int(loaded.history.samples.day[i])).isoformat(),
            }  # fmt: skip
    if "other" in facts:
        other = facts["other"]
        detail = detail.replace("{other}", f"{other['unit']} {other['compartment']} (sample {other['sample_no']})")
    return detail, json.dumps(facts, default=float)


def _hold(
    connection: Connection, fleet_id: int, loaded: Loaded, compartments: list[int] | None = None, known: bytes | None = None
) -> Loaded:
    """Screen, write new holds, clear those that no longer hold, and take what is held out of the history.

    With ``compartments`` only their samples' holds are written: whoever else was loaded lacks its company here. ``known``:
    digest of the last screening of all; of the same again the holds stand as they are.
    """
    points = replace(loaded.points, per_day=loaded.rate_per_day)
    together = _together(connection, loaded)
    settled = {(r["sample_id"], r["reason"]) for r in connection.execute(query("history.settled_holds")).fetchall()}
    was = {(r["sample_id"], r["reason"]): r["detail"] for r in connection.execute(query("history.open_holds")).fetchall()}
    if compartments is None:
        rests_on = loaded.history, loaded.sample_ids, points, together, loaded.oil_names, sorted(settled)
        if known is not None and known == _digest(*rests_on, sorted(was)):
            return _without_held(connection, loaded)
    findings = screen(loaded.history, cut(loaded.history), points, together, loaded.oil_names)
    ours = np.ones(len(loaded.sample_ids), dtype=bool)
    if compartments is not None:
        ours = np.isin(loaded.compartment_ids[loaded.history.samples.comp], compartments)
    mine = set(loaded.sample_ids[ours].tolist())
    ids = [int(loaded.sample_ids[f.sample]) for f in findings]
    others = [int(loaded.sample_ids[int(f.facts[k])]) for f in findings for k in ("other", "after") if k in f.facts]
    numbers = {
        r["sample_id"]: r["sample_no"] for r in connection.execute(query("history.numbers_of"), {"samples": others}).fetchall()
    }
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
        digest = _digest(*rests_on, sorted((r["sample_id"], r["reason"]) for r in now))
        connection.execute(query("history.put_digest"), {"fleet_id": fleet_id, "part": "", "families": [], "digest": digest})
    return _without_held(connection, loaded)


def _without_held(connection: Connection, loaded: Loaded) -> Loaded:
    out = [r["sample_id"] for r in connection.execute(query("history.standing_holds")).fetchall()]
    samples = replace(loaded.history.samples, usable=~np.isin(loaded.sample_ids, out))
    return replace(loaded, history=replace(loaded.history, samples=samples))


def drop_held(connection: Connection, loaded: Loaded) -> tuple[Loaded, Charges]:
    """The history without the samples that stand held or rejected, and its charges."""
    loaded = _without_held(connection, loaded)
    return loaded, cut(loaded.history)


def work(
    loaded: Loaded, charges: Charges, today: date, signed: dict[int, int] | None = None, only: list[int] | None = None,
    oils: FreshOil | None = None,
) -> Worked:  # fmt: skip
    """Judge everything that was loaded and decide it, or ``only`` those compartments (their ids). ``signed``: verdicts by
    sample id, which stand before proposals; ``oils``: new-oil values, where more was loaded than this."""
    rates = stretch_rates(loaded.history, charges)
    judgement = judge(loaded.history, charges, rates, loaded.limits, loaded.seen)
    terms = []
    for c, r in enumerate(loaded.register):
        rate, days = loaded.rate_per_day[c], r["interval_days"]
        calendar = rate * days if days and rate > 0 else None
        terms.append(Terms(r["cap_meter"], calendar))
    known = signed or {}
    stands = np.array([known.get(i, p) for i, p in zip(loaded.sample_ids.tolist(), judgement.proposed.tolist(), strict=True)], dtype=int)
    by_hand = np.isin(loaded.sample_ids, list(known))
    mine = range(len(terms)) if only is None else np.flatnonzero(np.isin(loaded.compartment_ids, only)).tolist()
    decisions = decide(loaded.history, charges, judgement, loaded.limits, loaded.policy, terms, stands, by_hand, mine, oils)
    return Worked(loaded, charges, rates, judgement, dict(zip(mine, decisions, strict=True)))


def _parts(loaded: Loaded) -> Iterator[tuple[str, np.ndarray]]:
    """(name, mask of compartments (C,)) of batches: whole families, about AT_ONCE samples, so that their columns stay near
    the processor. A family stays in its batch whatever joins the fleet, until the fleet has doubled."""
    batches = 1 << max(0, round(math.log2(max(len(loaded.sample_ids), 1) / AT_ONCE)))
    of_family = np.array([crc32(name.encode()) % batches for name in loaded.families])
    batch = of_family[loaded.history.compartments.family]
    for b in np.unique(batch).tolist():
        yield f"{b + 1} of {batches}", batch == b


@lru_cache(maxsize=1)
def _rules() -> bytes:
    """What the rules are, as a digest of their sources: other rules, other judgements."""
    sources = sorted((p for p in files("vornet.core").iterdir() if p.name.endswith(".py")), key=lambda p: p.name)
    return blake2b(b"".join(p.read_bytes() for p in sources), digest_size=16).digest()


def _digest(*facts: object) -> bytes:
    """Digest of arrays, blocks of arrays and plain values."""
    out = blake2b(_rules(), digest_size=16)

    def take(x: object) -> None:
        if isinstance(x, np.ndarray) and x.dtype != object:
            out.update(f"{x.dtype}{x.shape}".encode())
            out.update(np.ascontiguousarray(x).view(np.uint8).data if x.size else b"")
        elif is_dataclass(x):
            for f in fields(x):
                take(getattr(x, f.name))
        elif isinstance(x, (list, tuple)) and any(isinstance(y, np.ndarray) for y in x):
            for y in x:
                take(y)
        else:
            out.update(repr(x).encode())

    for fact in facts:
        take(fact)
    return out.digest()


def _digest_of_part(part: Loaded, signed: dict[int, int], found: np.ndarray, today: date) -> bytes:
    """Everything that the evaluation of these families rests on."""
    duties = np.unique(part.history.compartments.duty)
    limits = [block[side][duties] for block in (part.limits.watch, part.limits.act, part.limits.basis) for side in ("high", "low")]
    codes = np.array([signed.get(i, NONE) for i in part.sample_ids.tolist()])
    return _digest(
        today, part.history, part.compartment_ids, part.sample_ids, part.register, part.rate_per_day, part.latest_total,
        part.latest_day, limits, part.policy, part.seen, codes, found,
    )  # fmt: skip


def evaluate(
    db: Database,
    fleet: str,
    today: date,
    compartments: list[int] | None = None,
    progress: Progress = lambda step: None,
    afresh: bool = False,
) -> dict[str, int]:
    """Evaluate a fleet as of ``today``; with ``compartments`` only those are written (their families are read).

    Families of which nothing has changed since they were last evaluated keep what was written then, unless ``afresh``.
    """
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as connection:
        return evaluate_within(connection, fleet_id, today, compartments, progress, afresh)


def signed_verdicts(connection: Connection, compartments: list[int] | None) -> dict[int, int]:
    """Signed verdicts by sample id."""
    which = "verdicts.signed" if compartments is None else "verdicts.signed_of"
    rows = connection.execute(query(which), {"compartments": compartments}).fetchall()
    return {r["sample_id"]: r["verdict"] for r in rows}


def confirmed(connection: Connection, loaded: Loaded) -> np.ndarray:
    """Samples that called a fault which the workshop then confirmed, shape (N,): Watch or worse, proposed or signed, within
    ``CONFIRMED_DAYS`` before the finding."""
    samples = loaded.history.samples
    out = np.zeros(len(samples.comp), dtype=bool)
    where = {int(c): i for i, c in enumerate(loaded.compartment_ids)}
    found = connection.execute(query("verdicts.confirmed"), {"only": loaded.compartment_ids.tolist()}).fetchall()
    called = {r["sample_id"] for r in connection.execute(query("verdicts.called"), {"only": [f["compartment_id"] for f in found]})}
    for f in found:
        day = f["on_day"].toordinal()
        out |= (samples.comp == where[f["compartment_id"]]) & (samples.day <= day) & (samples.day > day - CONFIRMED_DAYS)
    return out & np.isin(loaded.sample_ids, list(called))


def healthy(connection: Connection, loaded: Loaded, charges: Charges, signed: dict[int, int]) -> np.ndarray:
    """Which samples say what is usual, shape (N,)."""
    return _healthy(loaded, charges, signed, confirmed(connection, loaded))


def _healthy(loaded: Loaded, charges: Charges, signed: dict[int, int], found: np.ndarray) -> np.ndarray:
    samples = loaded.history.samples
    codes = np.array([signed.get(i, NONE) for i in loaded.sample_ids.tolist()], dtype=int)
    return healthy_rows(samples.usable, samples.settled, charges.break_in[charges.charge_of], codes, found)


def evaluate_within(
    connection: Connection,
    fleet_id: int,
    today: date,
    compartments: list[int] | None = None,
    progress: Progress = lambda step: None,
    afresh: bool = False,
) -> dict[str, int]:
    """As ``evaluate``, inside a transaction that is already open."""
    mates = screened = None
    if compartments is not None:
        # their bottles' company is screened with them: a swap has two sides
        company = connection.execute(query("history.company"), {"compartments": list(compartments), "today": today}).fetchall()
        screened = sorted({*compartments, *(r["compartment_id"] for r in company)})
        rows = connection.execute(query("history.family_mates"), {"compartments": screened}).fetchall()
        mates = [r["compartment_id"] for r in rows]
    progress("reading")
    loaded = load(connection, today, mates)
    if not len(loaded.compartment_ids):
        return {"compartments": 0, "samples": 0, "held": 0}
    known: dict[str, bytes] = {}
    if screened is None and not afresh:
        known = {r["part"]: bytes(r["digest"]) for r in connection.execute(query("history.digests"))}
    elif screened is not None:  # some are written: what all were last worked from no longer describes them
        connection.execute(query("history.forget_digests"), {"families": loaded.families})
    progress("screening")
    loaded = _hold(connection, fleet_id, loaded, screened, known.get(""))
    progress("judging")
    signed = signed_verdicts(connection, mates)
    found = confirmed(connection, loaded)
    oils = fresh_oil(loaded.history, cut(loaded.history)) if lacks_new_oil(loaded.history) else None
    for name, keep in _parts(loaded):
        part, marked = loaded.part(keep), found[keep[loaded.history.samples.comp]]
        if screened is None:
            digest = _digest_of_part(part, signed, marked, today)
            if known.get(name) == digest:
                continue
            kept = {"fleet_id": fleet_id, "part": name, "families": part.families, "digest": digest}
            connection.execute(query("history.put_digest"), kept)
        charges = cut(part.history)
        worked = work(part, charges, today, signed, screened, oils)
        _write_evaluations(connection, fleet_id, worked, screened)
        _write_standing(connection, fleet_id, worked, today)
        _write_baselines(connection, fleet_id, worked, today, _healthy(part, charges, signed, marked))
    touched = None
    if screened is not None:
        mine = set(screened)
        touched = sorted({r["unit_id"] for r in loaded.register if r["compartment_id"] in mine})
    service.refresh(connection, today, touched)
    learned.refresh(connection, fleet_id, screened)
    held = int((~loaded.history.samples.usable).sum())
    return {"compartments": len(loaded.compartment_ids), "samples": len(loaded.sample_ids), "held": held}


def _write_evaluations(
    connection: Connection, fleet_id: int, worked: Worked, compartments: list[int] | None
) -> None:
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
        words, held_for = "{}", "[]"
        if speak:
            sentences = evidence(loaded.history, judgement, worked.rates, i)
            quoted = (json.dumps(text, ensure_ascii=False) for text in sentences)
            words = "{" + ",".join(quoted).replace("\\", "\\\\") + "}"
            r = loaded.register[samples.comp[i]]
            span = f"per {r['interval_meter'] or (20_000 if r['meter_unit'] == 'km' else 500):,.0f} {r['meter_unit']}"
            held_for = json.dumps(causes_of(judgement, i, span), ensure_ascii=False).replace("\\", "\\\\")
        on = date.fromordinal(int(samples.day[i]))
        on_oil = h if h == h else "NaN"
        lines.append(f"{sample_id}\t{proposed}\t{loaded.limit_set_id}\t{on_oil}\t{words}\t{held_for}\t{on}\n")
    with connection.cursor() as cursor, cursor.copy(query("history.copy_evaluation")) as copy:
        copy.write("".join(lines))
    connection.execute(query("history.insert_evaluations"), {"fleet_id": fleet_id})
    connection.execute(query("history.empty_staging"))


def _none_if_nan(x: float) -> float | None:
    return None if x is None or not math.isfinite(x) else float(x)


def _write_standing(connection: Connection, fleet_id: int, worked: Worked, today: date) -> None:
    loaded, charges, samples = worked.loaded, worked.charges, worked.loaded.history.samples
    count = len(loaded.compartment_ids)
    oil_hours = hours_on_charge(charges, loaded.latest_total)
    running = charges.first + np.bincount(charges.comp, minlength=count) - 1
    last = np.full(count, -1)
    judged = samples.usable
    last[samples.comp[judged]] = np.flatnonzero(judged)
    held = np.bincount(samples.comp[~samples.usable], minlength=count)
    rows = []
    for c, decision in worked.decisions.items():
        compartment_id, r, i = int(loaded.compartment_ids[c]), loaded.register[c], int(last[c])
        figures, slopes = kept_decision.packed(decision)
        h = running[c]
        interval = r["interval_meter"] or math.nan
        due = due_rules.due(
            charges.fill[h], charges.fill_day[h], interval, r["interval_days"] or math.nan, loaded.latest_total[c],
            loaded.latest_day[c], loaded.rate_per_day[c],
        )  # fmt: skip
        hours = float(oil_hours[c])
        to_due = interval - hours
        due_day = date.fromordinal(int(due.day)) if math.isfinite(due.day) and 1 < due.day < 3_600_000 else None
        if due_day is not None and due.driver == "calendar" and loaded.rate_per_day[c] > 0:
            to_due = min(to_due, (due.day - today.toordinal()) * loaded.rate_per_day[c])
        safe = decision.running_safe
        ceiling = max(decision.evidence_cap or 0.0, interval if interval == interval else 0.0)
        open_end = safe is not None and bool(ceiling) and safe > ceiling
        headroom = None
        if math.isfinite(hours):
            if safe is not None:
                headroom = min(safe, ceiling or safe) - hours
            elif math.isfinite(interval):
                headroom = interval - hours
        ranking = min([x for x in (headroom, to_due) if x is not None and math.isfinite(x)], default=1e9)
        # in days of recent use, so that hours and kilometres can stand in one list
        rate = loaded.rate_per_day[c]
        ranking /= rate if rate > 0 else max(_none_if_nan(interval) or 365.0, 1.0) / 365
        if decision.open_faults:
            ranking = min(ranking, 0.0)
        rows.append({
            "fleet_id": fleet_id, "compartment_id": compartment_id, "as_of": today,
            "meter_day": None if math.isnan(loaded.latest_day[c]) else date.fromordinal(int(loaded.latest_day[c])),
            "oil_hours": _none_if_nan(hours), "headroom": headroom, "headroom_is_safe": safe is not None,
            "headroom_open": open_end, "running_safe": safe,
            "limiting": decision.running_limiting or decision.limiting, "interval_meter": r["interval_meter"],
            "to_due": _none_if_nan(to_due), "due_meter": _none_if_nan(due.total), "due_day": due_day,
            "due_driver": due.driver, "rate_per_day": _none_if_nan(loaded.rate_per_day[c]),
            "last_sample_id": int(loaded.sample_ids[i]) if i >= 0 else None,
            "last_proposed": int(worked.judgement.proposed[i]) if i >= 0 else None,
            "last_sampled_on": date.fromordinal(int(samples.day[i])) if i >= 0 else None,
            "held": int(held[c]), "open_faults": list(decision.open_faults), "outcome": decision.outcome,
            "proposed_meter": decision.proposed, "reason": decision.reason, "ranking": ranking,
            "decision": figures, "slopes": slopes,
        })  # fmt: skip
    with connection.cursor() as cursor:
        cursor.executemany(query("history.put_standing"), rows)


def _write_baselines(connection: Connection, fleet_id: int, worked: Worked, today: date, usual: np.ndarray) -> None:
    """Family mean and spread of each measurand over healthy history, as of today."""
    loaded, samples = worked.loaded, worked.loaded.history.samples
    usual = usual & (worked.judgement.proposed != NONE)
    family = loaded.history.compartments.family[samples.comp]
    count = len(loaded.families)
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
            rows.append({
                "fleet_id": fleet_id, "family": loaded.families[f], "measurand": KEYS[m], "as_of": today,
                "n": int(n[f]), "mean": float(mean[f]), "sd": float(sd[f]),
            })  # fmt: skip
    with connection.cursor() as cursor:
        cursor.executemany(query("history.put_baseline"), rows)
