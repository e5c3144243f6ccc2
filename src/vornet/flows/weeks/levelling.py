"""A plan for some weeks: worked out by a worker, compared with the one that stands, accepted, and changed by hand after."""

from __future__ import annotations

import json
import math
from collections import defaultdict
from collections.abc import Callable
from datetime import date, timedelta
from typing import Any

from vornet.core import level, visits
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.plan import planned, stock
from vornet.flows.weeks import depots as depots_of
from vornet.flows.weeks import tasks
from vornet.flows.work import cards
from vornet.io import apart
from vornet.store import queue
from vornet.store.database import Connection, Database, query

#: spans that are planned at one go, days
SPANS = (28, 91)
#: how far beyond the planned span what falls due is looked at when a person moves a visit there
FAR_DAYS = 400
#: s of the clock for levelling one fleet
SECONDS = 45.0
#: a depot of units that have none
NOWHERE = "no depot"


def ask(connection: Connection, fleet_id: int, today: date, days: int, by: str) -> int:
    """Have a plan worked out for so many days from today; what was waiting is dropped. Its number."""
    if days not in SPANS:
        raise InputError("days", f"{' or '.join(str(d // 7) for d in SPANS)} weeks at a time")
    connection.execute(query("weeks.drop_proposals"), {"by": by})
    row = connection.execute(query("weeks.begin_proposal"), {"fleet_id": fleet_id, "first_day": today, "days": days, "by": by}).fetchone()
    assert row is not None
    queue.put_levelling(connection, fleet_id, row["proposal_id"])
    fleets.audit(connection, fleet_id, by, "plan asked for", f"{days // 7} weeks", proposal=row["proposal_id"])
    return int(row["proposal_id"])


def work_out(db: Database, fleet_id: int, proposal_id: int) -> None:
    """Work a proposal out and keep it; what could not be worked out is said."""

    def tell(words: str) -> None:
        with db.fleet(fleet_id) as aside:
            aside.execute(query("weeks.proposal_progress"), {"proposal_id": proposal_id, "progress": words})

    with db.fleet(fleet_id) as connection:
        row = connection.execute(query("weeks.proposal"), {"proposal_id": proposal_id}).fetchone()
    if row is None or row["state"] != "working":
        return
    tell("reading what falls due")
    state, words, plan = "ready", "", {}
    try:
        with db.fleet(fleet_id) as connection:
            planned.follow(connection, row["first_day"])
            found = _read(connection, fleet_id, row["first_day"], row["days"])
        plan = _levelled(found, tell)
    except InputError as error:
        state, words = "failed", str(error)
    except Exception:
        _keep(db, fleet_id, proposal_id, "failed", "something broke; it is written down", {})
        raise
    _keep(db, fleet_id, proposal_id, state, words, plan)


def _keep(db: Database, fleet_id: int, proposal_id: int, state: str, words: str, plan: dict[str, Any]) -> None:
    with db.fleet(fleet_id) as connection:
        kept = {"proposal_id": proposal_id, "state": state, "progress": words, "plan": json.dumps(plan, default=str)}
        connection.execute(query("weeks.proposal_ready"), kept)


class _Read:
    """Everything that levelling needs, read at one moment."""

    def __init__(self, first: date, days: int) -> None:
        self.first, self.days = first, days
        self.visits: list[tasks.Planned] = []
        self.depots: dict[int, depots_of.Depot] = {}
        self.kept: list[dict[str, Any]] = []  # fixed by a person, or with a card
        self.standing: list[dict[str, Any]] = []


def _read(connection: Connection, fleet_id: int, first: date, days: int) -> _Read:
    found = _Read(first, days)
    terms = depots_of.terms(connection, fleet_id)
    last = first + timedelta(days=days - 1)
    found.depots = depots_of.all_of(connection, first, days)
    standing = connection.execute(query("weeks.planned")).fetchall()
    found.kept = [v for v in standing if keeps_its_day(v, first)]
    held = {key for v in found.kept for key in v["keys"] or ()}
    today = {"visit_id": None, "first": first, "last": first, "depot_id": None}
    found.kept += [v | {"keys": []} for v in connection.execute(query("weeks.visits"), today).fetchall() if v["state"] == "done"]
    found.standing = [v for v in standing if not keeps_its_day(v, first)]
    # what is due behind the span and stands inside it already stays there
    inside = {key for v in found.standing if v["on_day"] <= last for key in v["keys"] or ()}
    due = tasks.due_by(connection, first, last + timedelta(days=visits.AHEAD_DAYS), terms)
    things = [d for d in due if d.task.key not in held and (d.task.due <= last.toordinal() or d.task.key in inside)]
    found.visits = tasks.visits_of(things, depots_of.rotas(connection), found.depots, first, days, terms)
    return found


def keeps_its_day(v: dict[str, Any], today: date) -> bool:
    """Whether a planned visit is left where it is: a person has fixed it, or its card is made, and its day is still to come."""
    return v["on_day"] >= today and bool(v["fixed"] or (v["job_id"] is not None and v["job_state"] in ("planned", "open")))


def job_of(p: tasks.Planned, depot: str, first: date, name: str, busy: set[date], span: int) -> level.Job:
    """A visit as levelling sees it; days count from the first of the span. ``busy``: days on which its unit is in another visit."""
    zero = first.toordinal()
    lead, *beside = ((at - zero, early, late) for at, early, late in (t.slopes for t in p.visit.tasks))
    days = None if p.days is None else tuple(d - zero for d in p.days)
    if busy:
        days = tuple(d for d in (range(span) if days is None else days) if first + timedelta(days=d) not in busy)
    window = p.visit.earliest - zero, p.visit.latest - zero
    return level.Job(name, depot, p.visit.hours, *window, *lead, days=days, beside=tuple(beside), apart=str(p.unit_id))


def rooms(found: dict[int, depots_of.Depot], kept: list[dict[str, Any]], first: date, days: int) -> dict[str, level.Depot]:
    """Crew hours and bays of every depot by day, less what keeps its day; by depot id as text."""
    out = {}
    for depot in found.values():
        hours, bays = (None if x is None else list(x) for x in depot.span(first, days))
        assert hours is not None
        for v in kept:
            at = (v["on_day"] - first).days
            if v["depot_id"] == depot.depot_id and 0 <= at < days:
                hours[at] = max(hours[at] - v["hours"], 0.0)
                if bays is not None:
                    bays[at] = max(bays[at] - 1, 0)
        out[str(depot.depot_id)] = level.Depot(tuple(hours), None if bays is None else tuple(int(b) for b in bays))
    return out


def _matched(found: _Read) -> dict[int, dict[str, Any]]:
    """For each visit worked out, by its place, the planned one of its unit that it is most like."""
    by_unit: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for v in found.standing:
        by_unit[v["unit_id"]].append(v)
    out: dict[int, dict[str, Any]] = {}
    for i, p in enumerate(found.visits):
        keys = {t.key for t in p.visit.tasks}
        mine = by_unit.get(p.unit_id, [])
        best = max(mine, key=lambda v: len(keys & set(v["keys"] or ())), default=None)
        if best is not None and keys & set(best["keys"] or ()):
            out[i] = best
            mine.remove(best)
    return out


def _levelled(found: _Read, tell: Callable[[str], None]) -> dict[str, Any]:
    first, days = found.first, found.days
    homeless = [i for i, p in enumerate(found.visits) if p.depot_id not in found.depots]
    room = rooms(found.depots, found.kept, first, days)
    busy: dict[int, set[date]] = defaultdict(set)
    for v in found.kept:
        busy[v["unit_id"]].add(v["on_day"])
    jobs = [
        job_of(p, str(p.depot_id), first, str(i), busy[p.unit_id], days) for i, p in enumerate(found.visits) if i not in set(homeless)
    ]  # fmt: skip
    was = _matched(found)
    standing = {str(i): (v["on_day"] - first).days for i, v in was.items() if i not in set(homeless)}
    placed: dict[str, int] = {}
    optimal = True
    for n, depot in enumerate(room):
        mine = [j for j in jobs if j.depot == depot]
        if not mine:
            continue
        tell(f"levelling {found.depots[int(depot)].name}, {n + 1} of {len(room)}: {len(mine)} visits")
        share = SECONDS * len(mine) / len(jobs)
        plan = apart.long(level.level, days, {depot: room[depot]}, mine, dict(standing), max(share, 2.0))
        placed |= plan.placed
        optimal = optimal and plan.optimal
    out = level.Plan(placed, tuple(j.id for j in jobs if j.id not in placed), 0.0, optimal)
    ways = {w.job: w for w in level.ways_out(days, room, jobs, out)}
    rows, loss, stands = [], 0.0, 0.0
    for i, p in enumerate(found.visits):
        at, before = placed.get(str(i)), was.get(i)
        on = None if at is None else first + timedelta(days=at)
        row: dict[str, Any] = {
            "unit_id": p.unit_id, "unit": p.unit, "depot_id": p.depot_id, "on": on, "hours": round(p.visit.hours, 2),
            "was": None if before is None else before["visit_id"], "was_on": None if before is None else before["on_day"],
            "tasks": [d.plain() for d in p.things], "cost": round(p.visit.cost, 3), "saved": round(p.visit.saved, 3),
        }  # fmt: skip
        if on is None:
            row["why"] = reason(p, found, homeless=i in set(homeless), room=room)
            row["way"] = way_words(ways.get(str(i)), found, first)
        else:
            loss += p.visit.loss(on.toordinal())
            if before is not None:
                stands += p.visit.loss(max(before["on_day"], first).toordinal())
        rows.append(row)
    gone, trimmed = _left_over(found, {x["visit_id"] for x in was.values()})
    moved = sum(r["on"] is not None and r["was_on"] is not None and r["on"] != r["was_on"] for r in rows)
    kept = sum(bool(v["keys"]) for v in found.kept)
    known = sum(p.visit.loss(r["on"].toordinal()) for p, r in zip(found.visits, rows, strict=True) if r["on"] and r["was_on"])
    return {
        "visits": rows, "gone": gone, "trimmed": trimmed, "moves": moved, "unplaced": sum(r["on"] is None for r in rows), "optimal": optimal,
        "sums": {"visits": len(rows), "new": sum(r["was"] is None and r["on"] is not None for r in rows), "gone": len(gone),
                 "loss_h": round(loss, 3), "kept_loss_h": round(known, 3), "standing_loss_h": round(stands, 3), "kept": kept,
                 "joined": sum(len(r["tasks"]) - 1 for r in rows), "saved_h": round(sum(r["saved"] for r in rows), 2),
                 "join_cost_h": round(sum(r["cost"] for r in rows), 2)},
    }  # fmt: skip


def _left_over(found: _Read, went_on: set[int]) -> tuple[list[int], dict[str, list[str]]]:
    """(planned visits that fall away, what others no longer hold by their id): those inside the span that none of the new ones goes on
    from; one behind the span stays, less what is done earlier now."""
    last = found.first + timedelta(days=found.days - 1)
    taken = {t.key for p in found.visits for t in p.visit.tasks}
    gone: list[int] = []
    trimmed: dict[str, list[str]] = {}
    for v in found.standing:
        keys = set(v["keys"] or ())
        if v["visit_id"] in went_on:
            continue
        if v["on_day"] <= last or keys <= taken:
            gone.append(v["visit_id"])
        elif keys & taken:
            trimmed[str(v["visit_id"])] = sorted(keys & taken)
    return gone, trimmed


def reason(p: tasks.Planned, found: _Read, homeless: bool, room: dict[str, level.Depot]) -> str:
    """Why a visit has no day, in one sentence."""
    if homeless:
        return "The unit has no depot"
    zero = found.first.toordinal()
    low, high = max(p.visit.earliest, zero), min(p.visit.latest, zero + found.days - 1)
    if low > high:
        return "Its window is closed"
    window = f"{short(low)} to {short(high)}"
    if p.days is not None and not any(low <= d <= high for d in p.days):
        return f"The unit is not at its depot from {window}"
    there = [d for d in range(low, high + 1) if p.days is None or d in p.days]
    hours = room[str(p.depot_id)].hours
    whole = found.depots[p.depot_id or 0].span(found.first, found.days)[0]
    if max((whole[d - zero] for d in there), default=0.0) + level.EXACT < p.visit.hours:
        return f"{p.visit.hours:.1f} h are more than the crew has on any day from {window}"
    if not any(hours[d - zero] > 0 for d in there):
        return f"Nobody is at the depot from {window}"
    if any(hours[d - zero] + level.EXACT >= p.visit.hours for d in there):
        return f"Every bay from {window} is taken"
    return f"The crew's hours from {window} are taken by others"


def short(day: float) -> str:
    d = date.fromordinal(int(day))
    return f"{d.day} {d:%b}"


def way_words(way: level.WayOut | None, found: _Read, first: date) -> str:
    """The cheapest way to a day, in one sentence; '' where there is none to tell."""
    if way is None or way.kind == "none":
        return ""
    on = "" if way.day is None else short(first.toordinal() + way.day)
    if way.kind == "hours":
        return f"{way.amount:.1f} crew hours more on {on}"
    if way.kind == "bay":
        return f"One bay more on {on}"
    if way.kind == "depot":
        return f"At {found.depots[int(way.depot)].name} on {on}"
    days = f"{way.amount:.0f} day{'s' if way.amount != 1 else ''}"
    return f"{days} {'after its last day' if way.kind == 'later' else 'before its first day'}, on {on}"


# ---- a person says yes, or otherwise ---------------------------------------------------------------------------
def proposal(connection: Connection, proposal_id: int | None = None) -> dict[str, Any] | None:
    """One proposal, or the one that waits for an answer."""
    return connection.execute(query("weeks.proposal"), {"proposal_id": proposal_id}).fetchone()


def accept(connection: Connection, fleet_id: int, proposal_id: int, by: str, today: date) -> int:
    """Make a proposal the plan: visits keep their uid where they go on, those that fell away are cancelled. How many visits it has.
    Raises InputError where what it rests on has changed since."""
    connection.execute(query("weeks.lock_plan"), {"fleet_id": fleet_id})
    row = proposal(connection, proposal_id)
    if row is None or row["state"] != "ready":
        raise InputError("proposal", "is not there to be accepted any more: have another worked out")
    if row["first_day"] != today:
        raise InputError("proposal", f"is of {row['first_day']}: have another worked out")
    standing = {v["visit_id"]: v for v in connection.execute(query("weeks.planned")).fetchall()}
    plan = row["plan"]
    taken = {key for v in standing.values() if keeps_its_day(v, today) for key in v["keys"] or ()}
    for v in plan["visits"]:
        before = standing.get(v["was"]) if v["was"] is not None else None
        changed = before is None if v["was"] is not None else False
        if changed or (before and (keeps_its_day(before, today) or before["on_day"].isoformat() != v["was_on"])):
            raise InputError("proposal", f"{v['unit']}'s visit was changed by hand since: have another worked out")
        if taken & {t["key"] for t in v["tasks"]}:
            raise InputError("proposal", f"{v['unit']} has a visit for the same work since: have another worked out")
    count = 0
    for v in plan["visits"]:
        if v["on"] is None:
            if v["was"] is not None:
                _end(connection, v["was"], "no day for it", by)
            continue
        _put(connection, fleet_id, v, standing.get(v["was"]), today, by)
        count += 1
    connection.execute(query("weeks.drop_placeless"))
    nowhere = [
        {"fleet_id": fleet_id, "unit_id": v["unit_id"], "keys": [t["key"] for t in v["tasks"]], "what": [t["what"] for t in v["tasks"]],
         "latest": min(t["latest"] for t in v["tasks"]), "why": v["why"], "way": v["way"]}
        for v in plan["visits"] if v["on"] is None
    ]  # fmt: skip
    with connection.cursor() as cursor:
        cursor.executemany(query("weeks.put_placeless"), nowhere)
    for visit_id in plan["gone"]:
        if visit_id in standing:
            _end(connection, visit_id, "nothing is due any more", by)
    for visit_id, keys in plan.get("trimmed", {}).items():
        connection.execute(query("weeks.drop_some_tasks"), {"visit_id": int(visit_id), "keys": keys})
    connection.execute(query("weeks.proposal_ended"), {"proposal_id": proposal_id, "state": "accepted", "by": by})
    stock.refresh_short(connection, today)
    fleets.audit(connection, fleet_id, by, "plan accepted", f"{row['days'] // 7} weeks", visits=count, moved=plan["moves"],
                 unplaced=plan["unplaced"], gone=len(plan["gone"]))  # fmt: skip
    return count


def drop(connection: Connection, fleet_id: int, proposal_id: int, by: str) -> None:
    """Leave the plan as it is."""
    if connection.execute(query("weeks.proposal_ended"), {"proposal_id": proposal_id, "state": "dropped", "by": by}).fetchone() is None:
        connection.execute(query("weeks.drop_proposals"), {"by": by})
    fleets.audit(connection, fleet_id, by, "plan not taken", f"proposal {proposal_id}")


def _put(connection: Connection, fleet_id: int, v: dict[str, Any], before: dict[str, Any] | None, today: date, by: str) -> int:
    on = v["on"] if isinstance(v["on"], date) else date.fromisoformat(v["on"])
    if before is None:
        made = {"fleet_id": fleet_id, "unit_id": v["unit_id"], "depot_id": v["depot_id"], "on_day": on, "hours": v["hours"], "made_on": today}
        row = connection.execute(query("weeks.put_visit"), {**made, "by": by}).fetchone()
        assert row is not None
        visit_id = row["visit_id"]
    else:
        visit_id = before["visit_id"]
        keys = sorted(t["key"] for t in v["tasks"])
        same = on == before["on_day"] and abs(v["hours"] - before["hours"]) < 0.01 and keys == sorted(before["keys"] or ())
        if not same or v["depot_id"] != before["depot_id"]:
            connection.execute(
                query("weeks.change_visit"),
                {"visit_id": visit_id, "on_day": on, "hours": v["hours"], "depot_id": v["depot_id"], "by": by},
            )
        connection.execute(query("weeks.drop_tasks"), {"visit_id": visit_id})
    with connection.cursor() as cursor:
        cursor.executemany(query("weeks.put_task"), [{"fleet_id": fleet_id, "visit_id": visit_id, **t} for t in v["tasks"]])
    return int(visit_id)


def _end(connection: Connection, visit_id: int, note: str, by: str) -> dict[str, Any] | None:
    return connection.execute(query("weeks.end_visit"), {"visit_id": visit_id, "note": note, "by": by}).fetchone()


# ---- by hand ---------------------------------------------------------------------------------------------------
def visit(connection: Connection, visit_id: int) -> dict[str, Any] | None:
    """One visit with what it is for; None when it is not in this fleet or was cancelled."""
    span = {"visit_id": visit_id, "first": None, "last": None, "depot_id": None}
    return connection.execute(query("weeks.visits"), span).fetchone()


def unit(connection: Connection, unit_id: int) -> dict[str, Any] | None:
    """A unit by its number; None when it is not in this fleet."""
    return connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()


def _planned(connection: Connection, fleet_id: int, visit_id: int) -> dict[str, Any]:
    connection.execute(query("weeks.lock_plan"), {"fleet_id": fleet_id})
    found = visit(connection, visit_id)
    if found is None:
        raise InputError("visit", "is not in this fleet, or was taken out of the plan")
    if found["state"] != "planned":
        raise InputError("visit", "is done already")
    return found


def _one_a_day(connection: Connection, unit_id: int, unit_name: str, on: date, but: int = 0) -> None:
    """Raise InputError where a unit has another visit on a day: it is in one place at a time."""
    for v in connection.execute(query("weeks.planned")).fetchall():
        if v["unit_id"] == unit_id and v["on_day"] == on and v["visit_id"] != but:
            raise InputError("on", f"{unit_name} has another visit on that day: it is in one place at a time")


def move(connection: Connection, fleet_id: int, visit_id: int, on: date, by: str, today: date, depot_id: int | None = None) -> None:
    """Put a visit on another day, or at another depot, by hand: from then on it is fixed there. Raises InputError."""
    found = _planned(connection, fleet_id, visit_id)
    if on < today:
        raise InputError("on", "this day is over")
    if (on - today).days > FAR_DAYS:
        raise InputError("on", f"at most {FAR_DAYS} days ahead")
    _one_a_day(connection, found["unit_id"], found["unit"], on, visit_id)
    depot = found["depot_id"] if depot_id is None else depot_id
    if depot_id is not None and depot_id not in depots_of.all_of(connection, today, 1):
        raise InputError("depot", "is not in this fleet")
    with_card = {"visit_id": visit_id, "on_day": on, "hours": found["hours"], "depot_id": depot, "by": by}
    connection.execute(query("weeks.change_visit"), with_card)
    connection.execute(query("weeks.fix_visit"), {"visit_id": visit_id, "fixed": True, "by": by})
    if found["job_id"] is not None:
        connection.execute(query("weeks.move_job"), {"job_id": found["job_id"], "on_day": on})
    stock.refresh_short(connection, today)
    fleets.audit(connection, fleet_id, by, "visit moved", found["unit"], was=str(found["on_day"]), now=str(on), visit=visit_id)


def fix(connection: Connection, fleet_id: int, visit_id: int, fixed: bool, by: str) -> None:
    """Hold a visit to its day, whatever is worked out later; or let it go again."""
    found = _planned(connection, fleet_id, visit_id)
    connection.execute(query("weeks.fix_visit"), {"visit_id": visit_id, "fixed": fixed, "by": by})
    fleets.audit(connection, fleet_id, by, "visit fixed" if fixed else "visit let go", found["unit"], on=str(found["on_day"]), visit=visit_id)


def cancel(connection: Connection, fleet_id: int, visit_id: int, why: str, by: str, today: date) -> None:
    """Take a visit out of the plan; what it was for comes up again when another plan is worked out."""
    found = _planned(connection, fleet_id, visit_id)
    if not why.strip():
        raise InputError("why", "say in a few words why it is not made")
    _end(connection, visit_id, why.strip()[:300], by)
    if found["job_id"] is not None and found["job_state"] in ("planned", "open"):
        cards.cancel(connection, fleet_id, found["job_id"], why, by)
    stock.refresh_short(connection, today)
    fleets.audit(connection, fleet_id, by, "visit taken out", found["unit"], on=str(found["on_day"]), why=why.strip(), visit=visit_id)


def put_by_hand(connection: Connection, fleet_id: int, unit_id: int, on: date, keys: list[str], by: str, today: date) -> int:
    """A visit for things that are due, put on a day by hand, fixed there. Raises InputError."""
    connection.execute(query("weeks.lock_plan"), {"fleet_id": fleet_id})
    if not today <= on <= today + timedelta(days=FAR_DAYS):
        raise InputError("on", f"from today to {FAR_DAYS} days ahead")
    terms = depots_of.terms(connection, fleet_id)
    held = {k for v in connection.execute(query("weeks.planned")).fetchall() for k in v["keys"] or ()}
    mine = {d.task.key: d for d in tasks.due_by(connection, today, today + timedelta(days=FAR_DAYS), terms) if d.unit_id == unit_id}
    chosen = [mine[k] for k in dict.fromkeys(keys) if k in mine]
    if not chosen or len(chosen) < len(set(keys)):
        raise InputError("tasks", "choose among what is due on this unit")
    if taken := [d.what for d in chosen if d.task.key in held]:
        raise InputError("tasks", f"has a visit already: {', '.join(taken)}")
    _one_a_day(connection, unit_id, chosen[0].unit, on)
    hours = round(terms.set_up_h + math.fsum(d.task.hours for d in chosen), 2)
    v = {"unit_id": unit_id, "depot_id": chosen[0].depot_id, "on": on, "hours": hours, "tasks": [d.plain() for d in chosen]}
    visit_id = _put(connection, fleet_id, v, None, today, by)
    connection.execute(query("weeks.fix_visit"), {"visit_id": visit_id, "fixed": True, "by": by})
    stock.refresh_short(connection, today)
    fleets.audit(connection, fleet_id, by, "visit put by hand", chosen[0].unit, on=str(on), visit=visit_id)
    return visit_id


def make_cards(connection: Connection, fleet_id: int, first: date, last: date, depot_id: int | None, by: str) -> list[int]:
    """Job cards for every visit between two days that has none yet; the visits they are for keep their day."""
    connection.execute(query("weeks.lock_plan"), {"fleet_id": fleet_id})
    span = {"visit_id": None, "first": first, "last": last, "depot_id": depot_id}
    made = []
    for v in connection.execute(query("weeks.visits"), span).fetchall():
        if v["state"] == "planned" and v["job_id"] is None:
            made.append(make_card(connection, fleet_id, v, by))
    return [m for m in made if m]


def make_card(connection: Connection, fleet_id: int, v: dict[str, Any], by: str) -> int:
    """The job card of one visit; 0 where it holds nothing that a card is made of."""
    left = [t for t in v["tasks"] or () if t["done_on"] is None]
    drains = [t["compartment_id"] for t in left if t["key"].startswith("drain:")]
    items = [t["item_id"] for t in left if t["key"].startswith("item:")]
    bottles = [
        t["compartment_id"]
        for t in left
        if t["key"].startswith("bottle:") or (t["key"].startswith("action:") and t["what"].startswith("Bottle"))
    ]
    looks = [
        t["what"] for t in left if t["key"].startswith("look:") or (t["key"].startswith("action:") and not t["what"].startswith("Bottle"))
    ]
    if not drains and not items and not bottles:
        return 0
    job_id = cards.make(connection, fleet_id, v["unit_id"], drains, items, v["on_day"], True, "; ".join(looks)[:500], by, bottles)
    connection.execute(query("weeks.set_job"), {"visit_id": v["visit_id"], "job_id": job_id, "by": by})
    return job_id


def set_took(connection: Connection, fleet_id: int, visit_id: int, hours: float, by: str) -> None:
    """How long a visit took, as somebody says; what is planned next learns from it."""
    if not 0 < hours <= 200:
        raise InputError("hours", "from a few minutes to 200 hours")
    row = connection.execute(query("weeks.set_took"), {"visit_id": visit_id, "hours": hours, "by": by}).fetchone()
    if row is None:
        raise InputError("visit", "is not done yet")
    fleets.audit(connection, fleet_id, by, "hours a visit took", f"visit {visit_id}", hours=hours)
