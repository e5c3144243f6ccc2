"""What falls due, unit by unit, as things with hours, a window of days and what losing their life is worth."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from vornet.core import trial as trial_rules
from vornet.core import visits as rules
from vornet.core.crew import Rota
from vornet.core.prices import drain_cost
from vornet.flows.judge import prices
from vornet.flows.judge.fleet_history import caps_of_oil, terms_of
from vornet.flows.weeks.depots import Depot, Terms
from vornet.store.database import Connection, query

#: days that a life lasts where neither meter nor calendar says; common practice, no source
USUAL_LIFE_DAYS = 180.0
#: a bottle counts for its step when it is drawn so near to it, as a share of the trial's length; kept a little inside what counts
BOTTLE_NEAR = trial_rules.NEAR * 0.8
#: what waiting with something that was asked for costs: like a life of so many days worth so many crew hours; common practice, no source
ASKED_WORTH_H, ASKED_LIFE_DAYS = 4.0, 60.0


@dataclass(frozen=True)
class Due:
    """One thing that falls due, with what pages say of it."""

    task: rules.Task
    what: str
    unit_id: int
    unit: str
    depot_id: int | None
    compartment_id: int | None = None
    item_id: int | None = None
    litres: float | None = None
    why: str = "due"
    first: date | None = None
    last: date | None = None

    def plain(self) -> dict[str, Any]:
        """For a visit's record."""
        t = self.task
        return {
            "key": t.key, "what": self.what, "compartment_id": self.compartment_id, "item_id": self.item_id, "hours": t.hours,
            "due": day_of(t.due), "earliest": day_of(t.earliest), "latest": day_of(t.latest), "worth": t.worth, "life_days": t.life_days,
            "litres": self.litres, "share_due": t.share_due,
        }  # fmt: skip


def day_of(x: float) -> date:
    return date.fromordinal(min(max(math.floor(x), 1), 3_600_000))


def _sooner_the_better(key: str, what: str) -> bool:
    """Whether it was asked for and is no bottle: a bottle is drawn on its day."""
    return key.split(":")[0] in ("action", "look") and not what.startswith("Bottle")


def task_of(row: dict[str, Any]) -> rules.Task:
    """A task from a visit's record."""

    def ordinal(value: Any) -> int:
        return (date.fromisoformat(value) if isinstance(value, str) else value).toordinal()

    return rules.Task(
        row["key"], row["hours"], ordinal(row["due"]), ordinal(row["earliest"]), ordinal(row["latest"]), row["worth"], row["life_days"],
        row["share_due"], soon=ordinal(row["earliest"]) if _sooner_the_better(row["key"], row["what"]) else None,
    )  # fmt: skip


def due_by(connection: Connection, today: date, until: date, terms: Terms) -> list[Due]:
    """Everything that falls due up to a day, what is past due too, units in service alone."""
    span = {"until": until, "only": None}
    drains = _drains(connection, today, terms, None)
    out = [d for d in drains if d.task.due <= until.toordinal()]
    drained = {d.compartment_id: d.task.due for d in drains}
    out += [_item(r, today, terms) for r in connection.execute(query("weeks.items"), span).fetchall()]
    for r in connection.execute(query("weeks.bottles"), span).fetchall():
        bottle = _bottle(r, today, terms)
        at_drain = drained.get(r["compartment_id"])
        if at_drain is None or abs(at_drain - bottle.task.due) > bottle.task.latest - bottle.task.due:
            out.append(bottle)  # else the drain's own bottle is the trial's
    out += [_asked(r, today, terms) for r in connection.execute(query("weeks.asked"), span).fetchall()]
    return out


def _drains(connection: Connection, today: date, terms: Terms, only: list[int] | None) -> list[Due]:
    price_list = prices.in_force(connection, today)
    rows = connection.execute(query("weeks.drains"), {"only": only}).fetchall()
    return [d for r in rows if (d := _drain(r, today, terms, price_list))]


def as_now(connection: Connection, today: date, terms: Terms, planned: Sequence[dict[str, Any]]) -> dict[str, Due]:
    """Drains and items of some visits' records, as they fall due by what is known now; by key."""
    compartments = sorted({t["compartment_id"] for t in planned if t["key"].startswith("drain:")})
    items = sorted({t["item_id"] for t in planned if t["key"].startswith("item:")})
    found = _drains(connection, today, terms, compartments) if compartments else []
    if items:
        rows = connection.execute(query("weeks.items"), {"until": date.max, "only": items}).fetchall()
        found += [_item(r, today, terms) for r in rows]
    return {d.task.key: d for d in found}


def lay_up(facts: dict[str, Any], near: float) -> tuple[float, float] | None:
    """The unit's yearly lay-up around a day, as (first day, last day); None where it has none."""
    start, end = facts.get("lay_up_from"), facts.get("lay_up_to")
    if not start or not end:
        return None
    year = date.fromordinal(int(near)).year
    for y in (year - 1, year, year + 1):
        first = _on(y, start)
        last = _on(y if end >= start else y + 1, end)
        if first.toordinal() <= near <= last.toordinal():
            return first.toordinal(), last.toordinal()
    return None


def _on(year: int, month_day: str) -> date:
    month, day = int(month_day[:2]), int(month_day[3:])
    while True:
        try:
            return date(year, month, day)
        except ValueError:
            day -= 1  # a 29 February, or a day that its month has not


def _drain(r: dict[str, Any], today: date, terms: Terms, price_list: prices.PriceList) -> Due | None:
    if r["due_day"] is None:
        return None
    now, due = today.toordinal(), float(r["due_day"].toordinal())
    rate = r["rate_per_day"] or 0.0
    by_meter = r["due_driver"] in ("meter", "break-in")
    if by_meter and rate > 0 and r["interval_meter"]:
        life_days = r["interval_meter"] / rate
    else:
        life_days = float(r["interval_days"] or USUAL_LIFE_DAYS)
    past = r["to_due"] is not None and r["to_due"] < 0
    seen = (r["meter_day"] or today).toordinal()
    # if the unit runs as hard as its band says, days are worth so much less
    hard = (r["due_first"].toordinal() - seen) / (due - seen) if r["due_first"] and due > seen and by_meter else 1.0
    hard = min(max(hard, 0.2), 1.0)

    def reached(hours: float | None) -> float | None:
        return None if hours is None or rate <= 0 else seen + hours / rate * hard

    safe_day = reached(r["headroom_now"]) if r["headroom_is_safe"] else None
    if r["headroom_now"] is not None and r["headroom_now"] <= 0 and r["headroom_is_safe"]:
        safe_day = float(now - 1)
    on_oil = r["oil_hours"] or 0.0
    caps = terms_of(r | {"meter_unit": r["counts"], "trial_length": None}, caps_of_oil({"facts": r["oil_facts"] or {}}))
    hard_days = [reached(x - on_oil) for x in (caps.cap, caps.oil_cap, caps.filter, caps.bypass) if x is not None]
    if r["interval_days"] and r["fill_day"]:
        hard_days.append(float(r["fill_day"] + r["interval_days"]))
    hard_day = min((d for d in hard_days if d is not None), default=None)
    before = rules.before_lay_up(due, lay_up(r["unit_facts"] or {}, due))
    laid = before != due
    window = rules.drain_window(
        float(now - 1) if past else before, life_days, now, safe_day=min(safe_day, before) if laid and safe_day else safe_day,
        hard_day=min(hard_day, before) if laid and hard_day else (before if laid else hard_day),
    )  # fmt: skip
    hours = terms.hours(r["kind"])
    said = price_list.of(r["family"], r["unit"])
    cost = drain_cost(said, r["capacity_l"] or r["system_volume_l"])
    labour = said["labour_per_h"].value if "labour_per_h" in said else None
    worth = rules.worth(hours, None if cost.missing else cost.total, labour)
    share = _share(r, window.due, rate, seen, by_meter)
    over = r["headroom_is_safe"] and r["headroom_now"] is not None and r["headroom_now"] <= 0
    first, last = _band(r, window.why, seen, rate)
    task = rules.Task(
        f"drain:{r['compartment_id']}", hours, window.due, window.earliest, window.latest, worth, max(life_days, 1.0), share,
        rules.PAST_LATE if over else rules.LATE,
    )  # fmt: skip
    return Due(
        task, f"Drain {r['compartment']}", r["unit_id"], r["unit"], r["depot_id"], r["compartment_id"],
        litres=r["capacity_l"] or r["system_volume_l"], why="lay_up" if laid and window.why == "due" else window.why,
        first=first, last=last,
    )  # fmt: skip


def _band(r: dict[str, Any], why: str, seen: int, rate: float) -> tuple[date | None, date | None]:
    """The 90 % band of the day it is due: of its interval's end, or of the end of its safe life where that comes first; none where it is
    past."""
    if why == "past" or not r["due_first"] or not r["due_last"]:
        return None, None
    if why != "safe" or rate <= 0 or r["headroom_now"] is None or r["due_day"].toordinal() <= seen:
        return r["due_first"], r["due_last"]
    share = (r["headroom_now"] / rate) / (r["due_day"].toordinal() - seen)
    first, last = (day_of(seen + (day.toordinal() - seen) * share) for day in (r["due_first"], r["due_last"]))
    return first, last


def _share(r: dict[str, Any], due: float, rate: float, seen: int, by_meter: bool) -> float | None:
    """Share of the oil's life that is used on a day: of its safe life where that is known, of its interval else."""
    life = r["life"] or r["interval_meter"]
    if by_meter and life and r["oil_hours"] is not None:
        return float((r["oil_hours"] + rate * (due - seen)) / life)
    if r["interval_days"] and r["fill_day"]:
        return float((due - r["fill_day"]) / r["interval_days"])
    return float((r["oil_hours"] + rate * (due - seen)) / life) if life and r["oil_hours"] is not None else None


def _item(r: dict[str, Any], today: date, terms: Terms) -> Due:
    rate = r["rate_per_day"] or 0.0
    lives = [float(r["every_days"])] if r["every_days"] else []
    if r["every_meter"] and rate > 0:
        lives.append(r["every_meter"] / rate)
    life_days = min(lives, default=365.0 if r["driver"] == "season" else USUAL_LIFE_DAYS)
    due = float(r["due_day"].toordinal())
    window = rules.item_window(rules.before_lay_up(due, lay_up(r["unit_facts"] or {}, due)), life_days, today.toordinal())
    hours = float((r["facts"] or {}).get("hours") or terms.hours("item"))
    task = rules.Task(f"item:{r['item_id']}", hours, window.due, window.earliest, window.latest, rules.worth(hours, None, None), life_days)
    what = r["item"] + (f", {r['compartment']}" if r["compartment"] else "")
    return Due(task, what, r["unit_id"], r["unit"], r["depot_id"], r["compartment_id"], r["item_id"], why=window.why, first=r["due_first"],
               last=r["due_last"])  # fmt: skip


def _bottle(r: dict[str, Any], today: date, terms: Terms) -> Due:
    rate = r["rate_per_day"] or 0.0
    life_days = r["length"] / rate if rate > 0 else USUAL_LIFE_DAYS
    window = rules.bottle_window(float(r["next_day"].toordinal()), BOTTLE_NEAR * life_days, today.toordinal())
    hours = terms.hours("bottle")
    task = rules.Task(f"bottle:{r['compartment_id']}", hours, window.due, window.earliest, window.latest, 4.0, life_days)
    return Due(task, f"Bottle for the trial, {r['compartment']}", r["unit_id"], r["unit"], r["depot_id"], r["compartment_id"], why=window.why)


def _asked(r: dict[str, Any], today: date, terms: Terms) -> Due:
    window = rules.asked_window(None if r["due_on"] is None else float(r["due_on"].toordinal()), today.toordinal())
    hours = terms.hours("bottle" if r["bottle"] else "look")
    # a bottle is drawn on its day: too early it proves little; everything else is done the sooner the better
    soon = None if r["bottle"] else float(today.toordinal())
    task = rules.Task(r["key"], hours, window.due, window.earliest, window.latest, ASKED_WORTH_H, ASKED_LIFE_DAYS, soon=soon)
    words = str(r["what"]).strip()
    what = (f"Bottle: {words}" if r["bottle"] else words) + (f", {r['compartment']}" if r["compartment"] else "")
    return Due(
        task, what[:200], r["unit_id"], r["unit"], r["depot_id"], r["compartment_id"], why="asked" if window.why == "due" else window.why
    )


@dataclass(frozen=True)
class Planned:
    """A visit as it is worked out: what is done in it, and the days on which the unit is there (None: any)."""

    unit_id: int
    unit: str
    depot_id: int | None
    things: tuple[Due, ...]
    visit: rules.Visit
    days: tuple[int, ...] | None


def visits_of(found: Sequence[Due], rotas: dict[int, Rota], depots: dict[int, Depot], first: date, days: int, terms: Terms) -> list[Planned]:
    """What falls due joined into visits, unit by unit: those days alone on which the unit is there."""
    by_unit: dict[int, list[Due]] = defaultdict(list)
    for d in found:
        by_unit[d.unit_id].append(d)
    out = []
    for unit_id, mine in by_unit.items():
        rota, depot = rotas.get(unit_id), depots.get(mine[0].depot_id or 0)
        there = None if rota is None else tuple(rota.among(first.toordinal(), days))
        longest = max(depot.span(first, days)[0], default=0.0) if depot else math.inf
        of = {d.task.key: d for d in mine}
        joined = rules.join(
            [d.task for d in mine], days=there, set_up=terms.set_up_h, visit_worth=terms.visit_worth_h, most_hours=longest or math.inf
        )
        for v in joined:
            out.append(Planned(unit_id, mine[0].unit, mine[0].depot_id, tuple(of[t.key] for t in v.tasks), v, there))
    return sorted(out, key=lambda p: (min(t.due for t in p.visit.tasks), p.unit))


def undated(connection: Connection) -> list[dict[str, Any]]:
    """Compartments whose next drain no day can be told for, and why."""
    return connection.execute(query("weeks.undated")).fetchall()


def new_batches(connection: Connection, today: date) -> list[dict[str, Any]]:
    """Deliveries of the last weeks that no bottle of new oil was drawn from."""
    return connection.execute(query("weeks.new_batches"), {"since": today - timedelta(days=60)}).fetchall()
