"""A fleet's history, or some families of it, read from the database into the columns that core works on."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any

import numpy as np

from vornet.core import due as due_rules
from vornet.core import meter as meter_rules
from vornet.core.charges import Charges, cut
from vornet.core.decision import Policy, Terms
from vornet.core.diagnose import REPAIR_DAYS
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
from vornet.core.limits import DUTIES, FixedLimit, LimitTable, duty_of
from vornet.core.limits import arranged as arranged_limits
from vornet.core.measurands import COUNT
from vornet.core.meter_points import Points, read_off, standing, with_samples
from vornet.core.policy import RULES, Where, nearest
from vornet.core.precision import PRECISION, Precision, arranged
from vornet.core.proposed_drains import DAYS, Drawn, proposed_drains
from vornet.core.screening import MeterPoints
from vornet.core.seen import LASTING, NOTICED, NOTICED_DAYS, STILL_SPEAKS, Seen, blown_out, signs_at_drain, signs_read
from vornet.flows.house import days, meters
from vornet.flows.judge import new_oil, taught
from vornet.store import bulk
from vornet.store.database import Connection, query

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
    oil_caps: list[dict[str, float | None]]  # by h and km; claim_h, claim_km: what its supplier claims
    changes: dict[int, list[tuple[int, float, float]]]
    limits: LimitTable
    limit_set_id: int
    policies: list[Policy]
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
            seen=self.seen.rows(rows),
            found=self.found[rows], teaching=self.teaching[rows],
        )  # fmt: skip

    def part(self, keep: np.ndarray) -> Loaded:
        """Some compartments of it (``keep``: (C,) bool), whole families together, numbered anew."""
        history, rows = part_of(self.history, keep)
        families = np.unique(self.history.compartments.family[keep])
        drains, mine, number, per_day = keep[self.history.drains.comp], keep[self.points.comp], np.cumsum(keep) - 1, self.points.per_day
        points = MeterPoints(number[self.points.comp[mine]], self.points.day[mine], self.points.total[mine],
                             None if per_day is None else per_day[keep])  # fmt: skip
        return replace(
            self, history=history, compartment_ids=self.compartment_ids[keep], sample_ids=self.sample_ids[rows],
            drain_ids=self.drain_ids[drains], proposed_drain=self.proposed_drain[drains],
            points=points,
            register=[r for r, k in zip(self.register, keep.tolist(), strict=True) if k],
            families=[self.families[f] for f in families], rate_per_day=self.rate_per_day[keep],
            latest_total=self.latest_total[keep], latest_day=self.latest_day[keep],
            policies=[x for x, k in zip(self.policies, keep.tolist(), strict=True) if k],
            seen=self.seen.rows(rows),
            found=self.found[rows], teaching=self.teaching[rows], factors={k: x[families] for k, x in self.factors.items()},
        )  # fmt: skip


def limits_on(connection: Connection, today: date) -> tuple[list[FixedLimit], int]:
    """The fixed limits in force on a day, and their version's id."""
    row = connection.execute(query("register.default_limits"), {"today": today}).fetchone()
    assert row is not None, "every fleet is made with a first limit set"
    return [FixedLimit(**r) for r in row["limits"]], row["limit_set_id"]


def with_limits(loaded: Loaded, rows: Sequence[FixedLimit]) -> Loaded:
    """The same under other limits: the table, and which of its rows each compartment has."""
    comps = loaded.history.compartments
    limits, mine = arranged_limits(rows, comps.duty, [r["family"] for r in loaded.register], [r["unit"] for r in loaded.register])
    return replace(loaded, limits=limits, history=replace(loaded.history, compartments=replace(comps, limit_row=mine)))


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


def policies_on(connection: Connection, today: date) -> dict[tuple[str, str], dict[str, Any]]:
    """The rules said on a day, by (scope, place)."""
    rows = connection.execute(query("money.policies"), {"today": today}).fetchall()
    return {(r["scope"], r["place"]): {k: v for k, v in r["rules"].items() if k in RULES} for r in rows}


@dataclass(frozen=True)
class Policies:
    """What is in force on a day: by (scope, place), the rules said there."""

    rows: dict[tuple[str, str], dict[str, Any]]

    def of(self, row: dict[str, Any]) -> tuple[Policy, dict[str, Where]]:
        """The policy of a compartment (its ``unit``, ``family`` and ``duty``), and who says each rule."""
        places = {"unit": row["unit"], "family": row["family"], "duty": row["duty"] or "", "fleet": ""}
        return nearest({scope: self.rows.get((scope, place), {}) for scope, place in places.items()})


def policies_in_force(connection: Connection, today: date) -> Policies:
    """The policies of a day."""
    return Policies(policies_on(connection, today))


def _policies(said: dict[tuple[str, str], dict[str, Any]], rows: list[dict[str, Any]]) -> list[Policy]:
    """The policy of each compartment; where nobody says anything near, one and the same."""
    if not any(scope != "fleet" for scope, _ in said):
        return [nearest({"fleet": said.get(("fleet", ""), {})})[0]] * len(rows)
    by_scope = [{"unit": r["unit"], "family": r["family"], "duty": r["duty"] or "", "fleet": ""} for r in rows]
    return [nearest({s: said.get((s, place), {}) for s, place in mine.items()})[0] for mine in by_scope]


def _totals(unit: np.ndarray, day: np.ndarray, meter: np.ndarray, changes: dict[int, list[tuple[int, float, float]]]) -> np.ndarray:
    total = meter.astype(float).copy()
    for unit_id, mine in changes.items():
        for i in np.flatnonzero(unit == unit_id):
            total[i] = meter_rules.running_total(meter[i], int(day[i]), mine)
    return total


#: so few compartments are read as plain results
FEW = 8
#: the columns of what is read, by query
_DRAINS = [("id", "i8"), ("comp", "i8"), ("day", "day"), ("meter", "f8"), ("out_l", "f8"), ("missing_l", "f8"), ("oil", "i8"),
           ("magnet", "f8"), ("estimated", "b")]  # fmt: skip
_FILLINGS = [("comp", "i8"), ("day", "day"), ("meter", "f8"), ("in_l", "f8"), ("out_l", "f8"), ("part", "b")]
_LEVELS = [("comp", "i8"), ("day", "day"), ("meter", "f8"), ("missing_l", "f8")]
_SAMPLES = [("id", "i8"), ("comp", "i8"), ("day", "day"), ("meter", "f8"), ("oil_hours", "f8"), ("topup_l", "f8"), ("drained", "b"),
            ("below", "i8"), ("above", "i8"), ("lab", "i8"), ("values", "values")]  # fmt: skip
_READINGS = [("meter_id", "i8"), ("day", "day"), ("meter", "f8")]
_Columns = dict[str, np.ndarray]


@dataclass(frozen=True)
class _OnRecord:
    """What was poured, read and sampled, as columns by name; compartments as places in ``ids``, meters as running totals."""

    drains: _Columns
    fillings: _Columns
    levels: _Columns
    samples: _Columns
    readings: Points


def load(connection: Connection, today: date, compartments: list[int] | None = None) -> Loaded:
    """Read a fleet, or the given compartments, into columns. Drains and readings after ``today`` do not exist yet, but for those of a
    depot whose calendar is ahead of the fleet's."""
    latest = days.latest(connection, today)
    rows = connection.execute(query("register.compartments"), {"today": today, "only": compartments}).fetchall()
    rows.sort(key=lambda r: r["compartment_id"])
    ids = np.array([r["compartment_id"] for r in rows], dtype=np.int64)
    meter_of = np.array([r["meter_id"] for r in rows], dtype=np.int64)
    limit_rows, limit_set_id = limits_on(connection, today)
    oil_rows = connection.execute(query("register.oils")).fetchall()
    oil_ids = [o["oil_id"] for o in oil_rows]
    oils = _oils(oil_rows)
    changes = meters.changes_by_meter(connection)
    it = _on_record(connection, (today, latest), compartments, rows, ids, meter_of, changes)

    families = sorted({r["family"] for r in rows})
    overhauls = _overhauls(connection, latest, ids, meter_of, changes)
    comps = _compartments(rows, families, {oil_id: i for i, oil_id in enumerate(oil_ids)}, overhauls)
    limits, mine = arranged_limits(limit_rows, comps.duty, [r["family"] for r in rows], [r["unit"] for r in rows])
    comps = replace(comps, limit_row=mine)
    known = with_samples(standing(it.readings, meter_of), it.samples["comp"], it.samples["day"], it.samples["total"], today.toordinal())
    rate = known.per_day
    rate[np.array([r["state"] != "in_service" for r in rows], dtype=bool)] = 0.0  # stands still: due by calendar
    s = _ordered_samples(it.samples, it.readings)
    drains, proposed = _with_proposed(it.drains, s, comps, oil_ids)
    fo, vo = (np.lexsort((block["total"], block["comp"])) for block in (it.fillings, it.levels))
    f, v = {k: x[fo] for k, x in it.fillings.items()}, {k: x[vo] for k, x in it.levels.items()}
    samples = Samples(
        s["comp"], s["day"], s["total"], s["oil_hours"], s["topup_l"], s["drained"], np.ones(len(s["id"]), dtype=bool),
        s["values"], s["below"], s["above"], _stood(connection, s["id"]), s["lab"],
    )  # fmt: skip
    precision = arranged([*PRECISION, *precision_on(connection, today)])
    history = History(
        comps, oils,
        Drains(drains["comp"], drains["day"], drains["total"], drains["out_l"], drains["missing_l"], drains["oil"],
               drains["magnet"], drains["estimated"].astype(bool)),
        Fillings(f["comp"], f["day"], f["total"], f["in_l"], f["out_l"], f["part"].astype(bool)), samples,
        Levels(v["comp"], v["day"], v["total"], v["missing_l"]), precision,
        new_oil.known(connection, {oil_id: i for i, oil_id in enumerate(oil_ids)}, oils.new, precision),
    )  # fmt: skip
    found = taught.confirmed(connection, ids, s["comp"], s["day"], s["id"])
    return Loaded(
        history, ids, s["id"], rows, families, MeterPoints(known.points.meter, known.points.day, known.points.total), rate, known.total,
        known.day, proposed, drains["id"], oil_ids, [o["name"] for o in oil_rows],
        [caps_of_oil(o) for o in oil_rows], changes,
        limits, limit_set_id, _policies(policies_on(connection, today), rows),
        _seen(connection, ids, samples, compartments), found, taught.teaching(connection, compartments, s["id"], found),
        factors_on(connection, today, families),
    )  # fmt: skip


def caps_of_oil(oil: dict[str, Any] | None) -> dict[str, float | None]:
    """What an oil may run and what its supplier claims, by ``h``, ``km``, ``claim_h``, ``claim_km``; {} without a record."""
    if oil is None:
        return {}
    return {u: oil["facts"].get(f"cap_{u}") for u in ("h", "km")} | {f"claim_{u}": oil["facts"].get(f"claim_{u}") for u in ("h", "km")}


def terms_of(row: dict[str, Any], oil: dict[str, float | None], rate_per_day: float = 0.0) -> Terms:
    """What register and calendar add for one compartment (a row of ``register.compartments``) on an oil (``caps_of_oil``)."""
    u, facts, days = row["meter_unit"], row["facts"] or {}, row["interval_days"]
    return Terms(
        cap=row["cap_meter"], calendar=rate_per_day * days if days and rate_per_day > 0 else None, oil_cap=oil.get(u),
        trial=row["trial_length"], claim=oil.get(f"claim_{u}"),
        **{name: facts.get(f"{name}_{u}") for name in ("printed", "indicator", "filter", "bypass")},
    )  # fmt: skip


def _oils(rows: list[dict[str, Any]]) -> Oils:
    """Oils in the order of the library, and one more of which nothing is known."""
    new = np.full((len(rows) + 1, COUNT), np.nan)
    density = np.full(len(rows) + 1, 0.87)
    for i, o in enumerate(rows):
        known = np.array(o["new_values"], dtype=float)
        new[i] = np.where(np.isfinite(known), known, np.nan)
        density[i] = o["density_kg_l"] or 0.87
    return Oils(new, density)


def _on_record(
    connection: Connection, until: tuple[date, date], compartments: list[int] | None, rows: list[dict[str, Any]], ids: np.ndarray,
    meter_of: np.ndarray, changes: dict[int, list[tuple[int, float, float]]],
) -> _OnRecord:  # fmt: skip
    """Everything poured, read and sampled, of the fleet or of some compartments, up to ``until``, the fleet's today and the latest
    day anywhere in it (samples: all there are)."""
    only: dict[str, object] = {"compartments": compartments}
    whole, few = compartments is None, compartments is not None and len(compartments) <= FEW
    d = bulk.read_columns(connection, query("history.drains"), _DRAINS, only, few)
    f = bulk.read_columns(connection, query("history.fillings"), _FILLINGS, only, few)
    v = bulk.read_columns(connection, query("history.levels"), _LEVELS, only, few)
    some = None if whole else only
    s = bulk.read_columns(connection, query("history.samples" if whole else "history.samples_of"), _SAMPLES, some, few)
    m = bulk.read_columns(connection, query("history.meter_readings" if whole else "history.meters_of"), _READINGS, some, few)
    s["values"] = np.where(np.abs(s["values"]) < MOST_VALUE, s["values"], np.nan)  # no sum of squares may overflow
    last = until[1].toordinal()
    d, f, m, v = ({k: x[block["day"] <= last] for k, x in block.items()} for block in (d, f, m, v))
    for block in (d, f, s, v):
        inside = np.isin(block["comp"], ids)
        for k in block if not inside.all() else ():
            block[k] = block[k][inside]
        block["meter_id"] = meter_of[np.searchsorted(ids, block["comp"])] if len(ids) else block["comp"]
        block["total"] = _totals(block["meter_id"], block["day"], block["meter"], changes)
        block["comp"] = np.searchsorted(ids, block["comp"])
    m["total"] = _totals(m["meter_id"], m["day"], m["meter"], changes)
    if whole:  # a drain is a reading too; of a part of the fleet, also the drains of what is not in it
        m = {k: np.concatenate([x, d[k]]) for k, x in m.items()}
    return _OnRecord(d, f, v, s, _with_estimates(Points(m["meter_id"], m["day"], m["total"]), rows, until[0].toordinal()))


def _overhauls(
    connection: Connection, latest: date, ids: np.ndarray, meter_of: np.ndarray, changes: dict[int, list[tuple[int, float, float]]]
) -> np.ndarray:  # fmt: skip
    """Running total at the last overhaul, (C,), NaN none."""
    out = np.full(len(ids), np.nan)
    place = {int(c): i for i, c in enumerate(ids)}
    for r in connection.execute(query("history.overhauls")).fetchall():
        if r["compartment_id"] in place and r["on_day"] <= latest:
            i = place[r["compartment_id"]]
            out[i] = meter_rules.running_total(r["meter"], r["on_day"].toordinal(), changes.get(int(meter_of[i]), []))
    return out


def _compartments(rows: list[dict[str, Any]], families: list[str], oil_at: dict[int, int], overhaul: np.ndarray) -> Compartments:
    def number(name: str) -> np.ndarray:
        return np.array([math.nan if r[name] is None else r[name] for r in rows], dtype=float)

    family_at = {name: i for i, name in enumerate(families)}
    system, capacity = number("system_volume_l"), number("capacity_l")
    return Compartments(
        duty=np.array([DUTIES.index(duty_of(r["kind"], r["fuel"])) for r in rows], dtype=int),
        family=np.array([family_at[r["family"]] for r in rows], dtype=int),
        oil=np.array([oil_at.get(r["oil_id"], len(oil_at)) for r in rows], dtype=int),
        system_l=np.where(np.isnan(system), capacity * SYSTEM_OVER_REFILL, system), refill_l=capacity, interval=number("interval_meter"),
        distance=np.array([r["meter_unit"] == "km" for r in rows], dtype=bool), overhaul=overhaul,
        evaporates=np.array([(r["facts"] or {}).get("oil_loss") == "clean" for r in rows], dtype=bool),
    )  # fmt: skip


def _with_estimates(points: Points, rows: list[dict[str, Any]], last: int) -> Points:
    """Meter points, and for units without a meter the estimate for day ``last`` from the last figure on record."""
    extra: dict[int, float] = {}
    for r in rows:
        meter_id = int(r["meter_id"])
        if not r["estimated_per_day"] or r["state"] != "in_service" or meter_id in extra:
            continue
        mine = points.meter == meter_id
        if mine.any() and (day := int(points.day[mine].max())) < last:
            extra[meter_id] = due_rules.estimated(float(points.total[mine].max()), day, last, r["estimated_per_day"])
    if not extra:
        return points
    added = Points(np.array(list(extra), dtype=np.int64), np.full(len(extra), last, dtype=np.int64), np.array(list(extra.values())))
    return Points(*(np.concatenate(pair) for pair in zip(points, added, strict=True)))


def _ordered_samples(s: _Columns, readings: Points) -> _Columns:
    """Samples by compartment and day; a missing meter is read off the unit's own readings around that day."""
    order = np.lexsort((s["id"], s["total"], s["day"], s["comp"]))
    s = {k: v[order] for k, v in s.items()}
    unknown = np.isnan(s["total"]) & np.isnan(s["oil_hours"])
    return {**s, "total": read_off(readings, s["meter_id"], s["day"], s["total"], unknown)}


def _with_proposed(d: _Columns, s: _Columns, comps: Compartments, oil_ids: list[int]) -> tuple[_Columns, np.ndarray]:
    """Drains on record and those that samples speak of, by compartment, day and total; which are only proposed (volumes unknown)."""
    drawn = Drawn(s["comp"], s["day"], s["total"], s["oil_hours"], s["drained"])
    added = proposed_drains(d["comp"], d["day"], drawn, comps.interval)
    place = {oil_id: i for i, oil_id in enumerate(oil_ids)}
    blank = {"out_l": math.nan, "missing_l": math.nan, "oil": -1, "magnet": math.nan, "estimated": False, "id": -1}
    whole = {**d, "oil": np.array([place.get(int(o), -1) for o in d["oil"]], dtype=np.int64)}
    extra = [{**p._asdict(), **blank} for p in added]
    out = {
        k: np.concatenate([whole[k].astype(kind), np.array([row[k] for row in extra], dtype=kind)])
        for k in ("comp", "day", "total", *blank)
        for kind in (float if k in ("total", "out_l", "missing_l", "magnet") else np.int64,)
    }
    order = np.lexsort((out["total"], out["day"], out["comp"]))
    proposed = np.arange(len(order)) >= len(d["comp"])
    return {k: v[order] for k, v in out.items()}, proposed[order]


def _last_before(comp: np.ndarray, day: np.ndarray, found_comp: np.ndarray, found_day: np.ndarray) -> np.ndarray:
    """Index of the last row of the same compartment on or before each day, -1 none. ``found`` sorted by both; (N,)."""
    key = found_comp.astype(np.int64) * DAYS + found_day
    at = np.searchsorted(key, comp.astype(np.int64) * DAYS + day, "right") - 1
    if not len(key):
        return np.full(len(comp), -1)
    return np.where((at >= 0) & (found_comp[np.maximum(at, 0)] == comp), at, -1)


def _seen(connection: Connection, ids: np.ndarray, samples: Samples, only: list[int] | None) -> Seen:
    """What was seen at drains, noticed and done between them, beside the samples."""
    where = {int(c): i for i, c in enumerate(ids)}
    degrees: dict[str, np.ndarray] = {}
    here: dict[str, np.ndarray] = {}

    def rows(name: str) -> _SeenRows:
        found = [r for r in connection.execute(query(name), {"only": only}).fetchall() if r["compartment_id"] in where]
        return _SeenRows(where, found)

    def put(kept: dict[str, np.ndarray], sign: str, degree: np.ndarray) -> None:
        if degree.any():
            kept[sign] = np.maximum(kept[sign], degree) if sign in kept else degree

    _seen_at_drains(rows("history.looks"), samples, lambda sign, degree: put(degrees, sign, degree), lambda sign, x: put(here, sign, x))
    repairs = rows("history.repairs")
    put(degrees, "repair", repairs.within(samples.comp, samples.day, REPAIR_DAYS, np.ones(len(repairs.rows))))
    noticed, read = rows("history.noticed"), rows("history.items_read")
    said = [_noticed(r) for r in noticed.rows], [_item_read(r) for r in read.rows]
    for block, signs in zip((noticed, read), said, strict=True):
        for sign in sorted({name for row in signs for name in row}):
            degree = np.array([row.get(sign, 0.0) for row in signs])
            some = block.only(degree > 0)
            put(degrees, sign, some.within(samples.comp, samples.day + DRAIN_MATCH_DAYS, NOTICED_DAYS + DRAIN_MATCH_DAYS, degree[degree > 0]))
    return Seen(len(samples.comp), degrees, here)


class _SeenRows:
    """Rows of compartments by place and day, in that order."""

    def __init__(self, where: dict[int, int], rows: list[dict[str, Any]]) -> None:
        comp = np.array([where[r["compartment_id"]] for r in rows], dtype=np.int64)
        day = np.array([r["on_day"].toordinal() for r in rows], dtype=np.int64)
        order = np.lexsort((day, comp))
        self.comp, self.day, self.rows = comp[order], day[order], [rows[i] for i in order]

    def only(self, keep: np.ndarray) -> _SeenRows:
        out = _SeenRows({}, [])
        out.comp, out.day, out.rows = self.comp[keep], self.day[keep], [r for r, k in zip(self.rows, keep.tolist(), strict=True) if k]
        return out

    def last(self, comp: np.ndarray, day: np.ndarray) -> np.ndarray:
        return _last_before(comp, day, self.comp, self.day)

    def within(self, comp: np.ndarray, day: np.ndarray, days: int, degree: np.ndarray) -> np.ndarray:
        """Degree of the last row on or before each day where it is at most so many days old, else 0; shape of ``comp``."""
        if not len(self.rows):
            return np.zeros(len(comp))
        at = self.last(comp, day)
        return np.where((at >= 0) & (day - self.day[at] <= days), degree[at], 0.0)


_Put = Callable[[str, np.ndarray], None]


def _seen_at_drains(drains: _SeenRows, samples: Samples, put: _Put, put_here: _Put) -> None:
    """What each drain showed, to the samples that it speaks of."""
    if not drains.rows:
        return
    # what was seen at the drain a sample was drawn at belongs to it, even when it is dated a little later
    at = drains.last(samples.comp, samples.day + np.where(samples.drained, DRAIN_MATCH_DAYS, 0))
    known = at >= 0
    own = known & (samples.day - drains.day[at] <= np.where(samples.drained, DRAIN_MATCH_DAYS, 0))
    shown = [signs_at_drain(r["air_filter"], r["extra"] or {}) for r in drains.rows]
    before, after = _blown_out(drains)
    renewed = np.array([(r["extra"] or {}).get("air_action") == "replaced" for r in drains.rows])
    for sign in sorted({name for row in shown for name in row}):
        degree = np.array([row.get(sign, 0.0) for row in shown])
        if sign == "air_filter":  # an element stays as it was found, also behind it, until a new one goes in
            put(sign, np.where(known & (own | ~renewed[at]), degree[at], 0.0))
            continue
        now = np.where(own, degree[at], 0.0)
        put_here(sign, now)
        if sign in LASTING:
            now = np.maximum(now, np.where(known & ~own, STILL_SPEAKS * degree[at], 0.0))
        put(sign, now)
    # a charge ran with what had been done to its filter before its own drain
    put("air_blown", np.where(known, np.where(own, before[at], after[at]), 0.0))


def _blown_out(drains: _SeenRows) -> tuple[np.ndarray, np.ndarray]:
    """How much an air filter's cleanings speak before and after each drain, (D,) each."""
    before, after = np.zeros(len(drains.rows)), np.zeros(len(drains.rows))
    actions: list[str | None] = []
    for i, r in enumerate(drains.rows):
        if i and drains.comp[i] != drains.comp[i - 1]:
            actions = []
        before[i] = blown_out(actions)
        actions.append((r["extra"] or {}).get("air_action"))
        after[i] = blown_out(actions)
    return before, after


def _noticed(row: dict[str, Any]) -> dict[str, float]:
    if row["kind"] == "coolant":
        return {"coolant_low": 1.0}
    sign = NOTICED.get(row["what"])
    return {sign: 1.0} if sign else {}


def _item_read(row: dict[str, Any]) -> dict[str, float]:
    reading = row["reading"] or {}
    values = reading.get("values") or [reading.get("value")]
    return signs_read(row["type"], values if isinstance(values, list) else [])


def _stood(connection: Connection, sample_ids: np.ndarray) -> np.ndarray:
    """Which samples were drawn from oil that had cooled or stood, by what the bottle's record says; shape (N,)."""
    drawn = connection.execute(query("history.drawn")).fetchall()
    return np.isin(sample_ids, [r["sample_id"] for r in drawn if has_stood(r["warmth"], r["minutes"])])


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
    rows = connection.execute(query("history.standing_holds")).fetchall()
    out, waits = [r["sample_id"] for r in rows], [r["sample_id"] for r in rows if r["waits"]]
    samples = replace(loaded.history.samples, usable=~np.isin(loaded.sample_ids, out), waits=np.isin(loaded.sample_ids, waits))
    return replace(loaded, history=replace(loaded.history, samples=samples))


def drop_held(connection: Connection, loaded: Loaded) -> tuple[Loaded, Charges]:
    """The history without the samples that stand held or rejected, and its charges."""
    loaded = without_held(connection, loaded)
    return loaded, cut(loaded.history)
