"""A fleet's history, or some families of it, read from the database into the columns that core works on."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import date
from typing import Any

import numpy as np

from vornet.core import due as due_rules
from vornet.core import meter as meter_rules
from vornet.core.charges import Charges, cut
from vornet.core.decision import Policy
from vornet.core.diagnose import AIR_FILTER, REPAIR_DAYS, Seen
from vornet.core.drain import SYSTEM_OVER_REFILL
from vornet.core.history import (
    DRAIN_MATCH_DAYS,
    Compartments,
    Drains,
    Fillings,
    History,
    Levels,
    Oils,
    Samples,
    has_stood,
    part_of,
    rows_of,
)  # fmt: skip
from vornet.core.limits import DUTIES, FixedLimit, LimitTable, duty_of, table
from vornet.core.measurands import COUNT
from vornet.core.precision import PRECISION, Precision, arranged
from vornet.core.screening import MeterPoints
from vornet.flows.house import meters
from vornet.flows.judge import new_oil, taught
from vornet.store import bulk
from vornet.store.database import Connection, query

#: more days than any date has, to put compartment and day into one number
DAYS = 10_000_000
#: beyond this a value or a meter is no measurement
MOST_VALUE = 1e12


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
    oil_caps: list[dict[str, float | None]]
    changes: dict[int, list[tuple[int, float, float]]]
    limits: LimitTable
    limit_set_id: int
    policy: Policy
    seen: Seen
    found: np.ndarray  # samples that called what the workshop then confirmed, (N,)
    teaching: np.ndarray  # what people said of each sample as to what is usual, (N,)
    factors: dict[str, np.ndarray]  # what findings made of signs' weights, by cause and sign, (families,)

    def without(self, comps: np.ndarray) -> Loaded:
        """The same with nothing on record of some compartments (``comps``: (C,) bool), which stay in their places."""
        h = self.history
        rows, drains = ~comps[h.samples.comp], ~comps[h.drains.comp]
        some = replace(
            h, samples=rows_of(h.samples, rows), drains=rows_of(h.drains, drains), fillings=rows_of(h.fillings, ~comps[h.fillings.comp]),
            levels=rows_of(h.levels, ~comps[h.levels.comp]),
        )  # fmt: skip
        points = ~comps[self.points.comp]
        return replace(
            self, history=some, sample_ids=self.sample_ids[rows], drain_ids=self.drain_ids[drains],
            proposed_drain=self.proposed_drain[drains],
            points=MeterPoints(self.points.comp[points], self.points.day[points], self.points.total[points], self.points.per_day),
            seen=Seen(*(x[rows] for x in (self.seen.air_filter, self.seen.repair, self.seen.coolant_low))),
            found=self.found[rows], teaching=self.teaching[rows],
        )  # fmt: skip

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
            found=self.found[rows], teaching=self.teaching[rows], factors={k: x[families] for k, x in self.factors.items()},
        )  # fmt: skip


def limits_on(connection: Connection, today: date) -> tuple[LimitTable, int]:
    """The fixed limits in force on a day, and their version's id."""
    row = connection.execute(query("register.default_limits"), {"today": today}).fetchone()
    assert row is not None, "every fleet is made with a first limit set"
    return table([FixedLimit(**r) for r in row["limits"]]), row["limit_set_id"]


def precision_on(connection: Connection, today: date) -> list[Precision]:
    """The fleet's own precision rows in force on a day; none: the start values stand."""
    row = connection.execute(query("register.precision"), {"today": today}).fetchone()
    return [Precision(**r) for r in row["rows"]] if row else []


def factors_on(connection: Connection, today: date, families: list[str]) -> dict[str, np.ndarray]:
    """Factors on signs' weights in force on a day, by cause and sign, one a family; what nobody signed is 1."""
    out: dict[str, np.ndarray] = {}
    at = {name: i for i, name in enumerate(families)}
    for row in connection.execute(query("learning.in_force"), {"today": today}):
        if row["family"] in at:
            for key, factor in row["factors"].items():
                out.setdefault(key, np.ones(len(families)))[at[row["family"]]] = float(factor)
    return out


def policy_on(connection: Connection, today: date) -> Policy:
    row = connection.execute(query("register.policy"), {"today": today}).fetchone()
    return Policy(**row["rules"]) if row else Policy()


def _totals(unit: np.ndarray, day: np.ndarray, meter: np.ndarray, changes: dict[int, list[tuple[int, float, float]]]) -> np.ndarray:
    total = meter.astype(float).copy()
    for unit_id, mine in changes.items():
        for i in np.flatnonzero(unit == unit_id):
            total[i] = meter_rules.running_total(meter[i], int(day[i]), mine)
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
    oil_ids = [o["oil_id"] for o in oil_rows]
    oil_at = {oil_id: i for i, oil_id in enumerate(oil_ids)}
    new = np.full((len(oil_rows) + 1, COUNT), np.nan)
    density = np.full(len(oil_rows) + 1, 0.87)
    for i, o in enumerate(oil_rows):
        known = np.array(o["new_values"], dtype=float)
        new[i] = np.where(np.isfinite(known), known, np.nan)
        density[i] = o["density_kg_l"] or 0.87
    unknown_oil = len(oil_rows)

    def oil_index(oil: np.ndarray) -> np.ndarray:
        unique, inverse = np.unique(oil, return_inverse=True)
        return np.array([oil_at.get(int(o), -1) for o in unique], dtype=int)[inverse] if len(oil) else oil.astype(int)

    changes = meters.changes_by_meter(connection)
    only: dict[str, object] = {"compartments": compartments}
    d = bulk.read_columns(
        connection, query("history.drains"),
        [("id", "i8"), ("comp", "i8"), ("day", "day"), ("meter", "f8"), ("out_l", "f8"), ("missing_l", "f8"),
         ("oil", "i8"), ("magnet", "f8"), ("estimated", "b")], only,
    )  # fmt: skip
    f = bulk.read_columns(
        connection, query("history.fillings"),
        [("comp", "i8"), ("day", "day"), ("meter", "f8"), ("in_l", "f8"), ("out_l", "f8"), ("part", "b")], only,
    )  # fmt: skip
    v = bulk.read_columns(connection, query("history.levels"), [("comp", "i8"), ("day", "day"), ("meter", "f8"), ("missing_l", "f8")], only)
    s = bulk.read_columns(
        connection, query("history.samples" if compartments is None else "history.samples_of"),
        [("id", "i8"), ("comp", "i8"), ("day", "day"), ("meter", "f8"), ("oil_hours", "f8"), ("topup_l", "f8"),
         ("drained", "b"), ("below", "i8"), ("above", "i8"), ("lab", "i8"), ("values", "values")],
        None if compartments is None else only,
    )  # fmt: skip
    m = bulk.read_columns(
        connection,
        query("history.meter_readings" if compartments is None else "history.meters_of"),
        [("meter_id", "i8"), ("day", "day"), ("meter", "f8")],
        None if compartments is None else only,
    )
    s["values"] = np.where(np.abs(s["values"]) < MOST_VALUE, s["values"], np.nan)  # no sum of squares may overflow
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
    if compartments is None:  # a drain is a reading too; of a part of the fleet, also the drains of what is not in it
        m = {k: np.concatenate([x, d[k]]) for k, x in m.items()}
    m = _with_estimates(m, rows, today)

    families = sorted({r["family"] for r in rows})
    family_at = {name: i for i, name in enumerate(families)}
    overhaul = np.full(len(rows), np.nan)
    comp_at = {int(c): i for i, c in enumerate(ids)}
    for r in connection.execute(query("history.overhauls")).fetchall():
        if r["compartment_id"] in comp_at and r["on_day"] <= today:
            i = comp_at[r["compartment_id"]]
            day = r["on_day"].toordinal()
            overhaul[i] = meter_rules.running_total(r["meter"], day, changes.get(int(meter_of[i]), []))

    def number(name: str) -> np.ndarray:
        return np.array([math.nan if r[name] is None else r[name] for r in rows], dtype=float)

    system = number("system_volume_l")
    capacity = number("capacity_l")
    system = np.where(np.isnan(system), capacity * SYSTEM_OVER_REFILL, system)
    comps = Compartments(
        duty=np.array([DUTIES.index(duty_of(r["kind"], r["fuel"])) for r in rows], dtype=int),
        family=np.array([family_at[r["family"]] for r in rows], dtype=int),
        oil=np.array([oil_at.get(r["oil_id"], unknown_oil) for r in rows], dtype=int),
        system_l=system, refill_l=capacity, interval=number("interval_meter"),
        distance=np.array([r["meter_unit"] == "km" for r in rows], dtype=bool), overhaul=overhaul,
        evaporates=np.array([(r["facts"] or {}).get("oil_loss") == "clean" for r in rows], dtype=bool),
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
        s["values"], s["below"], s["above"], _stood(connection, s["id"]), s["lab"],
    )  # fmt: skip
    precision = arranged([*PRECISION, *precision_on(connection, today)])
    history = History(
        comps, Oils(new, density),
        Drains(drains["comp"], drains["day"], drains["total"], drains["out_l"], drains["missing_l"], drains["oil"],
               drains["magnet"], drains["estimated"].astype(bool)),
        Fillings(f["comp"][fo], f["day"][fo], f["total"][fo], f["in_l"][fo], f["out_l"][fo],
                 f["part"][fo].astype(bool)), samples,
        Levels(v["comp"][vo], v["day"][vo], v["total"][vo], v["missing_l"][vo]), precision, new_oil.known(connection, oil_at, new, precision),
    )  # fmt: skip
    found = taught.confirmed(connection, ids, s["comp"], s["day"], s["id"])
    return Loaded(
        history, ids, s["id"], rows, families, points, rate, latest_total, latest_day, proposed, drain_ids,
        oil_ids, [o["name"] for o in oil_rows], [{u: o["facts"].get(f"cap_{u}") for u in ("h", "km")} for o in oil_rows], changes,
        limits, limit_set_id, policy_on(connection, today),
        _seen(connection, ids, samples, compartments), found, taught.teaching(connection, compartments, s["id"], found),
        factors_on(connection, today, families),
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
    bad = np.array([AIR_FILTER.get(r["air_filter"], 0.0) for r in found] or [0.0])
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
    d: dict[str, np.ndarray], s: dict[str, np.ndarray], comps: Compartments, oil_index: Callable[..., Any]
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


def tried_on(connection: Connection, families: list[str], most: int) -> tuple[list[int], int, int]:
    """Compartments of as many of these families, in their order, as hold ``most`` samples (always the first), and
    (samples they have, samples that all of them have): what can be tried out while somebody waits."""
    counts = {r["compartment_id"]: r["n"] for r in connection.execute(query("history.sample_counts")).fetchall()}
    of: dict[str, list[int]] = {f: [] for f in families}
    for r in connection.execute(query("register.duties")).fetchall():
        if r["family"] in of:
            of[r["family"]].append(r["compartment_id"])
    sizes = {f: sum(counts.get(c, 0) for c in of[f]) for f in families}
    chosen: list[int] = []
    samples = 0
    for i, f in enumerate(families):
        if i == 0 or samples + sizes[f] <= most:
            chosen += of[f]
            samples += sizes[f]
    return chosen, samples, sum(sizes.values())


def without_held(connection: Connection, loaded: Loaded) -> Loaded:
    """As loaded, with the samples that stand held or rejected no longer usable."""
    out = [r["sample_id"] for r in connection.execute(query("history.standing_holds")).fetchall()]
    samples = replace(loaded.history.samples, usable=~np.isin(loaded.sample_ids, out))
    return replace(loaded, history=replace(loaded.history, samples=samples))


def drop_held(connection: Connection, loaded: Loaded) -> tuple[Loaded, Charges]:
    """The history without the samples that stand held or rejected, and its charges."""
    loaded = without_held(connection, loaded)
    return loaded, cut(loaded.history)
