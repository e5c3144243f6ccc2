"""The demo's weeks: crew hours of every depot, ferries with rotas, a holiday, what was planned and done in the weeks before, a plan that
stands, stock, and who is written to."""

from __future__ import annotations

from datetime import date, timedelta

import numpy as np

from vornet.flows.house import people
from vornet.flows.plan import stock
from vornet.flows.weeks import depots, levelling, mail
from vornet.store.database import Connection, Database, query

#: crew hours from Monday to Sunday, bays
WEEKS: dict[str, tuple[tuple[float, ...], tuple[int, ...] | None]] = {
    "Vessary Quay": ((12, 12, 12, 12, 8, 0, 0), (3, 3, 3, 3, 2, 0, 0)), "Northholm Pier": ((8, 8, 8, 8, 8, 4, 0), (2, 2, 2, 2, 2, 1, 0)),
    "Morvane Town": ((16, 16, 16, 16, 12, 0, 0), (4, 4, 4, 4, 4, 0, 0)), "Northholm Power": ((0, 6, 0, 6, 0, 0, 0), None),
    "Ostrelle Power": ((0, 0, 8, 0, 0, 0, 0), None), "Dellarow Digester": ((6, 0, 0, 6, 0, 0, 0), None),
    "Quenholm Power": ((0, 0, 0, 0, 6, 0, 0), None),
}  # fmt: skip
#: days in port of the ferries: a rotation from a day on, or weekdays
ROTAS: dict[str, dict[str, object]] = {
    "MV Hallovane": {"kind": "rotation", "there": 2, "away": 5}, "MV Tavrinne Light": {"kind": "rotation", "there": 3, "away": 4},
    "MV Ardessa Voe": {"kind": "rotation", "there": 2, "away": 4}, "MV Sulvenna": {"kind": "weekdays", "weekdays": [1, 5]},
    "MV Braelune": {"kind": "weekdays", "weekdays": [2, 3]}, "WB Tern": {"kind": "weekdays", "weekdays": [0, 3, 4]},
}  # fmt: skip
ROUGH_DAYS = 56


def set_up(connection: Connection, fleet_id: int, planner: str, start: date, until: date) -> None:
    """Crew hours, rotas, a holiday and the weeks that are behind; once."""
    found = {d.name: d for d in depots.all_of(connection, until, 1).values()}
    if any(d.said for d in found.values()):
        return
    for name, (hours, bays) in WEEKS.items():
        if name in found:
            depots.set_week(connection, fleet_id, found[name].depot_id, list(hours), None if bays is None else list(bays), planner)
    units = {r["name"]: r["unit_id"] for r in connection.execute(query("weeks.unit_names")).fetchall()}
    for i, (name, rule) in enumerate(ROTAS.items()):
        kept = rule | {"anchor": (start + timedelta(days=i)).isoformat()} if rule["kind"] == "rotation" else rule
        depots.set_rota(connection, fleet_id, units[name], kept, planner)
    holiday = until + timedelta(days=(2 - until.weekday()) % 7 + 14)
    depots.set_day(connection, fleet_id, None, holiday, 0.0, None, "Harbour day", planner)
    _behind(connection, fleet_id, planner, until)


def _behind(connection: Connection, fleet_id: int, planner: str, until: date) -> None:
    """Visits of the last weeks as they were planned, from the drains that were made: mostly on their day, some late, one not at all."""
    rng = np.random.default_rng([20260115, 77])
    for r in connection.execute(query("weeks.drains_lately"), {"since": until - timedelta(days=ROUGH_DAYS), "until": until}).fetchall():
        slip = int(rng.choice([0, 0, 0, 0, 1, 2, -2, 5]))
        planned_on = r["on_day"] - timedelta(days=slip)
        hours = 2.0 if r["kind"] == "engine" else 2.5 if r["kind"] == "hydraulics" else 1.0
        due = r["on_day"] + timedelta(days=int(rng.integers(-2, 9)))
        life = r["life_days"] or 120.0
        row = connection.execute(
            query("weeks.put_past_visit"),
            {"fleet_id": fleet_id, "unit_id": r["unit_id"], "depot_id": r["depot_id"], "on_day": r["on_day"], "first_on": planned_on,
             "hours": hours + 0.5, "took": round(float((hours + 0.5) * rng.lognormal(0.12, 0.2)), 1), "by": planner},
        ).fetchone()  # fmt: skip
        assert row is not None
        connection.execute(
            query("weeks.put_task"),
            {"fleet_id": fleet_id, "visit_id": row["visit_id"], "key": f"drain:{r['compartment_id']}", "what": f"Drain {r['compartment']}",
             "compartment_id": r["compartment_id"], "item_id": None, "hours": hours, "due": due, "earliest": due - timedelta(days=14),
             "latest": due + timedelta(days=7), "worth": 5.0, "life_days": life, "litres": r["litres"], "share_due": 1.0},
        )  # fmt: skip
        connection.execute(query("weeks.task_was_done"), {"visit_id": row["visit_id"], "on_day": r["on_day"]})


#: what depots count: litres of an oil or pieces, and how many days each takes to come
STOCK: dict[str, dict[str, float]] = {
    "Vessary Quay": {"oil Skerry D 15W-40": 320, "HX-1042": 5, "SK-77": 6, "RG-5": 3, "HP-RF10": 2, "crush washer CW-M26": 30},
    "Morvane Town": {"oil Skerry D 15W-40": 240, "TB-330": 3, "NV-1220": 4, "AG-4K": 4, "crush washer CW-M26": 24},
    "Northholm Pier": {"oil Skerry D 15W-40": 90, "HX-1042": 4, "HP-RF10": 2},
}
TERMS = {"oil Skerry D 15W-40": (5, 60.0), "HX-1042": (12, 2.0), "TB-330": (9, 2.0), "HP-RF10": (21, 1.0)}
#: who is written to, for which depots, on which weekday
CONTACTS: dict[str, tuple[str, tuple[str, ...] | None, int | None]] = {
    "planner": ("planner@morvane.example", None, 0), "manager": ("manager@morvane.example", None, None),
    "technician": ("technician@morvane.example", ("Vessary Quay", "Northholm Pier"), 4),
}  # fmt: skip


def stores(connection: Connection, fleet_id: int, by: dict[str, str], until: date) -> None:
    """What is there, and who is written to."""
    found = {d.name: d.depot_id for d in depots.all_of(connection, until, 1).values()}
    for name, things in STOCK.items():
        for thing, amount in things.items():
            stock.move(connection, fleet_id, found[name], thing, "counted", amount, until - timedelta(days=3), "", by["technician"], until)
    for thing, (lead, least) in TERMS.items():
        stock.set_thing(connection, fleet_id, thing, lead, least, by["planner"], until)
    accounts = {m["login"]: m["account_id"] for m in people.members(connection)}
    for login, (address, mine, day) in CONTACTS.items():
        ids = None if mine is None else [found[n] for n in mine]
        mail.set_contact(connection, fleet_id, accounts[login], address, ids, day, 6, True, by[login])


def plan(db: Database, fleet_id: int, by: dict[str, str], until: date) -> None:
    """Have a month worked out and take it, once."""
    with db.fleet(fleet_id) as connection:
        if connection.execute(query("weeks.planned")).fetchone() is not None:
            return
        proposal_id = levelling.ask(connection, fleet_id, until, 28, by["planner"])
    levelling.work_out(db, fleet_id, proposal_id)
    with db.fleet(fleet_id) as connection:
        levelling.accept(connection, fleet_id, proposal_id, by["planner"], until)
        stores(connection, fleet_id, by, until)
