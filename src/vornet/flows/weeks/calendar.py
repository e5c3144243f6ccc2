"""The weeks as a page reads them: depots with crew hours and visits by day, one visit opened with what every day for it would cost."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import Any

from vornet.core import visits as rules
from vornet.core.due import chance_due_within
from vornet.core.level import EXACT
from vornet.flows.weeks import depots as depots_of
from vornet.flows.weeks import levelling, tasks
from vornet.store.database import Connection, query

#: spans that the page shows, weeks
SPANS = (4, 13)
#: so many visits without a day are named; the others are counted
MOST_PLACELESS = 30
#: days around a picked visit that it could be put on
AROUND_DAYS = 13 * 7


@dataclass(frozen=True)
class Part:
    """One thing done in a visit: hours, and the share of its oil's life used on the visit's day (None: no oil)."""

    key: str
    what: str
    hours: float
    share: float | None
    due: date
    latest: date
    done: bool


@dataclass(frozen=True)
class Shown:
    """A visit on its day. ``state``: planned, card, under_way, done; ``late``: its day is past what its oil or item allows;
    ``change``: '', new, moved (in a proposal)."""

    visit_id: int
    unit_id: int
    unit: str
    on: date
    hours: float
    parts: tuple[Part, ...]
    state: str
    fixed: bool
    late: bool
    job_id: int | None = None
    change: str = ""

    @property
    def darkest(self) -> float | None:
        return max((p.share for p in self.parts if p.share is not None), default=None)


@dataclass
class Day:
    on: date
    hours: float
    bays: int | None
    why: str = ""
    visits: list[Shown] = field(default_factory=list)

    @property
    def used(self) -> float:
        return math.fsum(v.hours for v in self.visits)

    @property
    def over(self) -> float:
        """Crew hours that are not there."""
        return max(self.used - self.hours, 0.0)

    @property
    def over_bays(self) -> int:
        return 0 if self.bays is None else max(len(self.visits) - self.bays, 0)


@dataclass(frozen=True)
class Row:
    """One depot over the span."""

    depot: depots_of.Depot | None
    days: tuple[Day, ...]

    @property
    def name(self) -> str:
        return self.depot.name if self.depot else levelling.NOWHERE

    def weeks(self) -> list[tuple[date, float, float, float]]:
        """(first day, hours used, hours there are, hours over) of each week."""
        out = []
        for i in range(0, len(self.days), 7):
            mine = self.days[i : i + 7]
            out.append((mine[0].on, math.fsum(d.used for d in mine), math.fsum(d.hours for d in mine), math.fsum(d.over for d in mine)))
        return out


@dataclass(frozen=True)
class Weeks:
    first: date
    days: int
    rows: tuple[Row, ...]
    missed: tuple[Shown, ...]
    placeless: list[dict[str, Any]]
    count: int

    @property
    def without_a_day(self) -> int:
        return self.placeless[0]["total"] if self.placeless else 0

    @property
    def late(self) -> int:
        """Visits on a day that is behind what their oil or item allows by what is known now: somebody fixed them, or things got worse."""
        return sum(v.late for r in self.rows for d in r.days for v in d.visits)


def read(
    connection: Connection, fleet_id: int, today: date, first: date, weeks: int, depot: str = "", proposed: dict[str, Any] | None = None
) -> Weeks:  # fmt: skip
    """So many weeks from the first day of one; of one depot, or of all that have crew hours or visits. ``proposed``: a proposal's plan
    drawn in place of the one that stands."""
    days = weeks * 7
    terms = depots_of.terms(connection, fleet_id)
    found = depots_of.all_of(connection, first, days)
    span = {"visit_id": None, "first": min(first, today - timedelta(days=60)), "last": first + timedelta(days=days - 1), "depot_id": None}
    rows = connection.execute(query("weeks.visits"), span).fetchall()
    now = tasks.as_now(connection, today, terms, [t for v in rows if v["state"] == "planned" for t in v["tasks"] or ()])
    shown = [(_shown(v, now), v["depot_id"]) for v in rows]
    if proposed is not None:
        kept = [x for x, v in zip(shown, rows, strict=True) if v["state"] == "done" or levelling.keeps_its_day(v, today)]
        shown = kept + [_of_plan(v) for v in proposed["visits"] if v["on"]]
    by_depot: dict[int, dict[date, list[Shown]]] = {}
    missed: list[Shown] = []
    for v, depot_id in shown:
        if v.on < today and v.state != "done":
            missed.append(v)
        if first <= v.on:
            by_depot.setdefault(depot_id or 0, {}).setdefault(v.on, []).append(v)
    served = {r["depot_id"] for r in connection.execute(query("weeks.units_of_depots")).fetchall()}
    out = []
    for d in [*found.values(), None]:
        mine = by_depot.get(d.depot_id if d else 0, {})
        if (
            (d is None and not mine)
            or (d is not None and not mine and d.depot_id not in served)
            or (depot and (d is None or d.name != depot))
        ):
            continue
        out.append(Row(d, tuple(_day(d, first + timedelta(days=i), mine) for i in range(days))))
    placeless = [] if proposed else connection.execute(query("weeks.placeless"), {"limit": MOST_PLACELESS}).fetchall()
    count = sum(len(day.visits) for r in out for day in r.days)
    return Weeks(first, days, tuple(out), tuple(missed), placeless, count)


def _day(depot: depots_of.Depot | None, on: date, visits: dict[date, list[Shown]]) -> Day:
    hours, bays = depot.week.on(on.toordinal()) if depot else (0.0, None)
    mine = sorted(visits.get(on, ()), key=lambda v: (-v.hours, v.unit, v.visit_id))
    return Day(on, hours, bays, depot.why.get(on.toordinal(), "") if depot else "", mine)


def _state(v: dict[str, Any]) -> str:
    if v["state"] == "done":
        return "done"
    return {"planned": "card", "open": "under_way"}.get(v["job_state"] or "", "planned")


def _shown(v: dict[str, Any], now: dict[str, tasks.Due]) -> Shown:
    parts, late = [], False
    for t in v["tasks"] or ():
        live = now.get(t["key"]) if v["state"] == "planned" and t["done_on"] is None else None
        task = live.task if live else tasks.task_of(t)
        at = (v["done_on"] or v["on_day"]) if v["state"] == "done" else v["on_day"]
        parts.append(Part(t["key"], t["what"], t["hours"], task.share(at.toordinal()), tasks.day_of(task.due), tasks.day_of(task.latest),
                          t["done_on"] is not None))  # fmt: skip
        late |= v["state"] == "planned" and t["done_on"] is None and v["on_day"].toordinal() > task.latest
    return Shown(v["visit_id"], v["unit_id"], v["unit"], v["on_day"], v["hours"], tuple(parts), _state(v), v["fixed"], late, v["job_id"])


def _of_plan(v: dict[str, Any]) -> tuple[Shown, int | None]:
    on = date.fromisoformat(v["on"])
    parts = [Part(t["key"], t["what"], t["hours"], tasks.task_of(t).share(on.toordinal()), date.fromisoformat(t["due"]),
                  date.fromisoformat(t["latest"]), False) for t in v["tasks"]]  # fmt: skip
    change = "new" if v["was"] is None else "moved" if v["was_on"] != v["on"] else ""
    shown = Shown(v["was"] or 0, v["unit_id"], v["unit"], on, v["hours"], tuple(parts), "planned", False, False, None, change)
    return shown, v["depot_id"]


# ---- one visit -------------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class Option:
    """A day that a visit could be on: what it loses, how far the oil's life is used, and whether there is room."""

    on: date
    loss_h: float
    share: float | None
    unused_l: float
    room: float
    there: bool
    inside: bool
    chance_late: float | None


@dataclass(frozen=True)
class Picked:
    """A visit opened: its window, the day its oil is due with the 90 % band, and every day for it."""

    visit: dict[str, Any]
    shown: Shown
    lead: rules.Task
    lead_what: str
    why: str
    due: date
    earliest: date
    latest: date
    band: tuple[date, date] | None
    options: tuple[Option, ...]
    rota: str

    def on(self, day: date) -> Option | None:
        return next((o for o in self.options if o.on == day), None)


def pick(connection: Connection, fleet_id: int, visit_id: int, today: date, first: date, days: int) -> Picked | None:
    """One visit with what every day of a span (from today on) would cost; None when it is not there."""
    v = levelling.visit(connection, visit_id)
    if v is None:
        return None
    terms = depots_of.terms(connection, fleet_id)
    open_tasks = [t for t in v["tasks"] or () if t["done_on"] is None]
    now = tasks.as_now(connection, today, terms, open_tasks)
    things = [now[t["key"]].task if t["key"] in now else tasks.task_of(t) for t in open_tasks] or [tasks.task_of(t) for t in v["tasks"]]
    lead = max(things, key=lambda t: (t.share_due is not None, t.worth))
    live = now.get(lead.key)
    what = next((t["what"] for t in v["tasks"] if t["key"] == lead.key), "")
    band = (live.first, live.last) if live and live.first and live.last else None
    earliest, latest = max(t.earliest for t in things), min(t.latest for t in things)
    begin = max(first, today)
    span = max((first + timedelta(days=days) - begin).days, 1)
    rota = depots_of.rotas(connection, v["unit_id"]).get(v["unit_id"])
    there = set(rota.among(begin.toordinal(), span)) if rota else None
    depot = depots_of.all_of(connection, begin, span).get(v["depot_id"] or 0)
    used = _used(connection, v, begin, span)
    litres = {t["key"]: t["litres"] or 0.0 for t in v["tasks"]}
    options = []
    for i in range(span):
        on = begin + timedelta(days=i)
        day = on.toordinal()
        hours, bays = depot.week.on(day) if depot else (0.0, None)
        taken, count = used.get(on, (0.0, 0))
        room = hours - taken - v["hours"]
        if bays is not None and count >= bays:
            room = min(room, -v["hours"])
        unused = math.fsum(max(t.due - day, 0.0) / t.life_days * litres.get(t.key, 0.0) for t in things)
        options.append(Option(on, math.fsum(t.loss(day) for t in things), lead.share(day), unused, room, there is None or day in there,
                              earliest <= day <= latest, _chance(band, day, today)))  # fmt: skip
    return Picked(
        v, _shown(v, now), lead, what, live.why if live else "", tasks.day_of(lead.due), tasks.day_of(earliest),
        tasks.day_of(latest), band, tuple(options), depots_of.rota_words(rota) if rota else "",
    )  # fmt: skip


def _chance(band: tuple[date, date] | None, day: int, today: date) -> float | None:
    """Chance that it is due before a day, by its band; None where there is none."""
    if band is None:
        return None
    first, last = ((edge - today).days for edge in band)
    return chance_due_within((first, last), day - today.toordinal())


def _used(connection: Connection, v: dict[str, Any], first: date, days: int) -> dict[date, tuple[float, int]]:
    """(hours, visits) of the other visits at its depot by day."""
    span = {"visit_id": None, "first": first, "last": first + timedelta(days=days - 1), "depot_id": v["depot_id"] or -1}
    out: dict[date, tuple[float, int]] = {}
    for other in connection.execute(query("weeks.visits"), span).fetchall():
        if other["visit_id"] != v["visit_id"]:
            hours, count = out.get(other["on_day"], (0.0, 0))
            out[other["on_day"]] = (hours + other["hours"], count + 1)
    return out


def fits(option: Option) -> bool:
    return option.there and option.inside and option.room >= -EXACT
