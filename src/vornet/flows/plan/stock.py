"""Stock of a depot, kept where somebody counts it: counted, received, used by jobs; what planned visits will miss."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from vornet.core import job as rules
from vornet.core import kit
from vornet.core.errors import InputError
from vornet.flows.house import days, fleets
from vornet.store.database import Connection, query

KINDS = {"counted": "counted", "received": "received", "used": "used"}
#: how long things take to come where nobody has said, days; common practice, no source
USUAL_LEAD_DAYS = 7
#: how far ahead visits are looked at
AHEAD_DAYS = 28
#: a pack where the oil's record names none, L; common practice, no source
USUAL_PACK_L = 5.0


@dataclass(frozen=True)
class Visit:
    """A visit with what it uses and which tools it needs; ``unknown``: what its kit lacks on record."""

    visit_id: int
    unit: str
    depot_id: int | None
    on: date
    things: tuple[kit.Thing, ...]
    tools: tuple[str, ...]
    wrenches: tuple[tuple[float, float], ...]
    unknown: tuple[str, ...]
    what: tuple[str, ...]


def of_visits(connection: Connection, visits: Sequence[dict[str, Any]], today: date) -> list[Visit]:
    """What planned visits use, from the register. ``visits``: rows with visit_id, unit, depot_id, on_day and tasks."""
    compartments = sorted({t["compartment_id"] for v in visits for t in v["tasks"] or () if t["compartment_id"] is not None})
    known: dict[int, dict[str, Any]] = {}
    if compartments:
        for r in connection.execute(query("register.compartments"), {"today": today, "only": compartments}).fetchall():
            known[r["compartment_id"]] = {**(r["facts"] or {}), **{k: r[k] for k in ("capacity_l", "system_volume_l", "oil")}}
    items = {r["item_id"]: r for r in connection.execute(query("stock.item_parts")).fetchall()} if visits else {}
    return [_visit(v, known, items) for v in visits]


def _visit(v: dict[str, Any], known: dict[int, dict[str, Any]], items: dict[int, dict[str, Any]]) -> Visit:
    found: list[kit.Thing] = []
    tools: set[str] = set()
    torques: list[tuple[float, float]] = []
    unknown: list[str] = []
    flows = False
    for t in v["tasks"] or ():
        if t["done_on"] is not None:
            continue
        kind = t["key"].split(":")[0]
        document = known.get(t["compartment_id"] or 0, {})
        if kind == "drain":
            flows = True
            found += kit.things(document, True)
            tools |= set(kit.tools(document))
            torques += kit.torques_of(document)
            lacking = rules.kit(document, True, USUAL_PACK_L).lines
            unknown += [f"{t['what']}: {line.what.lower()} {line.detail}" for line in lacking if line.unknown]
        elif kind == "bottle" or (kind == "action" and t["what"].startswith("Bottle")):
            found += kit.things(document, True, rules.BOTTLE)
        elif kind == "item":
            found += [kit.Thing(name, 1.0, kit.PIECES) for name in items.get(t["item_id"], {}).get("parts") or ()]
    if flows:
        found += [kit.Thing(name, amount, kit.PIECES) for name, amount in kit.CONSUMABLES]
    return Visit(
        v["visit_id"], v["unit"], v["depot_id"], v["on_day"], tuple(kit.summed(found)), tuple(sorted(tools)), tuple(kit.wrenches(torques)),
        tuple(unknown), tuple(t["what"] for t in v["tasks"] or () if t["done_on"] is None),
    )  # fmt: skip


def planned(connection: Connection, today: date, first: date, last: date, depot_id: int | None = None) -> list[Visit]:
    """What the visits planned between two days use."""
    span = {"visit_id": None, "first": first, "last": last, "depot_id": depot_id}
    rows = [v for v in connection.execute(query("weeks.visits"), span).fetchall() if v["state"] == "planned"]
    return of_visits(connection, rows, today)


# ---- what is there ---------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class Line:
    """A thing at a depot that counts it, with what becomes of it."""

    depot_id: int
    depot: str
    thing: str
    unit: str
    counted_on: date | None
    lead_days: int
    least: float
    outlook: kit.Outlook
    instead: tuple[tuple[str, float], ...] = ()


def lines(connection: Connection, today: date, days: int = AHEAD_DAYS) -> list[Line]:
    """Every thing that some depot counts, against what its visits of the next days use; what runs out first comes first."""
    there = connection.execute(query("weeks.stock")).fetchall()
    if not there:
        return []
    terms = {r["thing"]: r for r in connection.execute(query("weeks.stock_things")).fetchall()}
    uses: dict[tuple[int, str], list[kit.Use]] = defaultdict(list)
    instead: dict[str, tuple[str, ...]] = {}
    for v in planned(connection, today, today, today + timedelta(days=days)):
        for t in v.things:
            uses[(v.depot_id or 0, t.name)].append(kit.Use(v.on.toordinal(), t.amount, f"{v.unit}, {v.on.day} {v.on:%b}"))
            instead[t.name] = t.instead
    known = {(r["depot_id"], r["thing"]): r["there"] for r in there}
    out = []
    for r in there:
        lead, least = (terms[r["thing"]]["lead_days"], terms[r["thing"]]["least"]) if r["thing"] in terms else (USUAL_LEAD_DAYS, 0.0)
        found = kit.outlook(r["there"], uses.get((r["depot_id"], r["thing"]), []), today.toordinal(), lead, least)
        unit = kit.LITRES if r["thing"].startswith("oil ") else kit.PIECES
        other = tuple((name, known.get((r["depot_id"], name), 0.0)) for name in instead.get(r["thing"], ()))
        out.append(Line(r["depot_id"], r["depot"], r["thing"], unit, r["counted_on"], lead, least, found, other))
    return sorted(out, key=lambda x: (x.outlook.runs_out or 10**7, x.outlook.order_by or 10**7, x.depot, x.thing))


def move(
    connection: Connection, fleet_id: int, depot_id: int, thing: str, kind: str, amount: float, on: date, note: str, by: str, today: date
) -> None:  # fmt: skip
    """Something counted, received or used. Raises InputError by field."""
    name = thing.strip()[:200]
    if not name:
        raise InputError("thing", "say what")
    if kind not in KINDS:
        raise InputError("kind", f"one of {', '.join(KINDS)}")
    if not 0 <= amount < 1e9:
        raise InputError("amount", "from nothing to a thousand million")
    days.check_past(connection, on, today, depot_id=depot_id)
    if kind != "counted" and connection.execute(query("weeks.counted_there"), {"depot_id": depot_id, "thing": name}).fetchone() is None:
        raise InputError("thing", "count it first: what is there is not known yet")
    connection.execute(
        query("weeks.put_move"),
        {"fleet_id": fleet_id, "depot_id": depot_id, "thing": name, "kind": kind, "amount": amount, "on_day": on, "part_id": None,
         "note": note.strip()[:300], "by": by},
    )  # fmt: skip
    fleets.audit(connection, fleet_id, by, f"stock {kind}", name, depot=depot_id, amount=amount, on=str(on), note=note.strip())
    refresh_short(connection, today)


def set_thing(connection: Connection, fleet_id: int, thing: str, lead_days: int, least: float, by: str, today: date) -> None:
    """How long a thing takes to come, and the least to have. Raises InputError by field."""
    if not 0 <= lead_days <= 400:
        raise InputError("lead_days", "from 0 to 400 days")
    if not 0 <= least < 1e9:
        raise InputError("least", "nothing or more")
    connection.execute(query("weeks.put_stock_thing"), {"fleet_id": fleet_id, "thing": thing, "lead_days": lead_days, "least": least})
    fleets.audit(connection, fleet_id, by, "stock terms set", thing, lead_days=lead_days, least=least)
    refresh_short(connection, today)


def use(
    connection: Connection, fleet_id: int, depot_id: int | None, part_id: int, used: Iterable[kit.Thing], on: date, by: str, today: date
) -> None:  # fmt: skip
    """What a job's part used, taken off the stock of a depot that counts it; once a part."""
    if depot_id is None:
        return
    counted = {r["thing"] for r in connection.execute(query("stock.things_of"), {"depot_id": depot_id}).fetchall()}
    rows = [
        {"fleet_id": fleet_id, "depot_id": depot_id, "thing": t.name, "kind": "used", "amount": t.amount, "on_day": on, "part_id": part_id,
         "note": "", "by": by}
        for t in used if t.name in counted
    ]  # fmt: skip
    if rows:
        with connection.cursor() as cursor:
            cursor.executemany(query("weeks.put_move"), rows)
        refresh_short(connection, today)


def missing(connection: Connection, depot_id: int | None, needed: Iterable[kit.Thing]) -> list[dict[str, Any]]:
    """What a job needs and its depot, which counts it, has not: with what may take its place and is there."""
    if depot_id is None:
        return []
    there = {r["thing"]: r["there"] for r in connection.execute(query("weeks.stock")).fetchall() if r["depot_id"] == depot_id}
    out = []
    for t in needed:
        if t.name in there and there[t.name] < t.amount - 1e-9:
            other = [name for name in t.instead if there.get(name, 0.0) >= t.amount]
            out.append({"thing": t.name, "needed": t.amount, "there": there[t.name], "unit": t.unit, "instead": other})
    return out


def refresh_short(connection: Connection, today: date) -> None:
    """Note at every planned visit what it will miss, so that lists can say it."""
    short: dict[int, list[str]] = defaultdict(list)
    there = connection.execute(query("weeks.stock")).fetchall()
    if there:
        left = {(r["depot_id"], r["thing"]): r["there"] for r in there}
        for v in planned(connection, today, today, today + timedelta(days=AHEAD_DAYS)):
            for t in v.things:
                depot = v.depot_id or 0
                if (depot, t.name) not in left:
                    continue
                # what may take its place is taken before it is said to be missing
                name = next((n for n in (t.name, *t.instead) if left.get((depot, n), 0.0) >= t.amount - 1e-9), None)
                left[(depot, name or t.name)] -= t.amount
                if name is None:
                    short[v.visit_id].append(t.name)
    connection.execute(query("stock.set_short"), {"short": json.dumps({str(k): x for k, x in short.items()})})
