"""The demo fleet: simulate, take it in through the front door, evaluate, let people in.

A later start simulates on from the same first day with the same seed; import changes only what is new.
"""

from __future__ import annotations

import csv
import io
import json
from collections import defaultdict
from collections.abc import Callable
from datetime import date, timedelta
from typing import Any

import numpy as np

from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate, prices
from vornet.flows.lab import results
from vornet.flows.register import register
from vornet.sim import decisions, engine, fittings, parcels, reviews, trial_fleets, visits, weeks
from vornet.sim.fleet import FLEET, LAB, OILS, UNITS, ZONE, CompartmentSpec, OilSpec, UnitSpec
from vornet.store.database import Connection, Database, clone_dir, query

SEED = 20260115
DAYS = 1096
LOGINS = (
    ("planner", "plan-ahead", "planner"),
    ("analyst", "look-twice", "analyst"),
    ("technician", "warm-oil", "technician"),
    ("manager", "sign-here", "manager"),
    ("admin", "keep-keys", "admin"),
    ("viewer", "only-look", "viewer"),
)
NAMES = {"planner": "Ingrid Valmorra", "analyst": "Tomas Querrin", "technician": "Sunniva Holtane", "manager": "Elin Marrowby",
         "admin": "Oskar Finnavar", "viewer": "Harbour office"}  # fmt: skip


def simulate(start: date, until: date, seed: int = SEED) -> tuple[dict[str, Any], dict[str, str], list[dict[str, Any]]]:
    """(register document, results files by name, truth) of the demo fleet between two days."""
    document, rows, truth = lived(start, until, seed)
    document["templates"] = fittings.templates(document["units"], document["service_items"])
    _concession(document["drains"])
    _looks(document["drains"], start)
    _mishaps(rows, truth)
    rows += _new_oil(fittings.batches(start, until), {o.name: o for o in OILS}, until, seed)
    return document, files(rows), truth


def lived(
    start: date, until: date, seed: int, units: tuple[UnitSpec, ...] = UNITS, world: trial_fleets.World | None = None
) -> tuple[dict[str, Any], list[dict[str, Any]], list[dict[str, Any]]]:
    """(register document, rows as a faultless lab would print them, truth): before anybody's mistake; of a ``world`` its
    units, oils, gaps in their record and labs."""
    units, known = (world.units, world.oils) if world else (units, OILS)
    oils = {o.name: o for o in known}
    deliveries = fittings.batches(start, until)
    document: dict[str, Any] = {
        "fleet": FLEET, "settings": fittings.SETTINGS,
        "oils": [
            {"name": o.name, "grade": o.grade, "density_kg_l": o.density, **(world.records[o.name] if world else o.v),
             "approvals": fittings.approvals_of(o.name), "pack_l": 5 if o.name.startswith("Brennova Axle") else 20,
             "batches": [] if world else deliveries[o.name]}
            for o in known
        ],
        "units": [], "readings": [], "drains": [], "top_ups": [], "service_items": [], "service_records": [],
    }  # fmt: skip
    rows: list[dict[str, Any]] = []
    truth: list[dict[str, Any]] = []
    shared = {u.shares: u.name for u in units if u.shares}
    for index, unit in enumerate(units):
        story = engine.live(unit, index, oils, start, until, seed, *([world.labs] if world else []))
        document["units"].append(_unit(unit, story, shared, index))
        items = fittings.plan(unit)
        document["service_items"] += items
        document["service_records"] += fittings.kept(unit, items, story.days, index, seed)
        document["readings"] += story.readings
        document["drains"] += story.drains
        document["top_ups"] += story.top_ups
        if world and unit.name in world.meterless:
            story.samples = [{**row, "meter": ""} for row in story.samples]
        rows += story.samples
        truth += story.truth
    return document, rows, truth


def _unit(unit: UnitSpec, story: engine.Story, shared: dict[str, str], index: int) -> dict[str, Any]:
    m = unit.meter_unit
    out: dict[str, Any] = {
        "unit": unit.name, "depot": unit.depot, "model": unit.model, "duty": unit.duty, "meter_unit": m,
        "serial": f"{unit.model.replace(' ', '')}-{1000 + 37 * index}", "year": 2008 + index % 14,
        "compartments": [
            {
                "compartment": c.name, "kind": c.kind, "family": c.family, "system_volume_l": c.system_l,
                "capacity_l": c.said_capacity_l or c.capacity_l,
                "capacity_without_filter_l": _without_filter(c),
                "oil": c.oil, f"interval_{m}": c.interval, f"cap_{m}": c.cap, "interval_days": c.interval_days, f"printed_{m}": c.cap / 2,
                **({"indicator_km": 0.6 * c.cap} if m == "km" and c.kind == "engine" else {}),
                **({"filter_h": c.cap} if c.family.startswith("GN-") else {}),
                **({"fuel": c.fuel} if c.fuel else {}), **({"meter_no": 2} if c.meter_no == 2 else {}),
                **({"shared_with": {"unit": shared[unit.name]}} if unit.name in shared else {}), **fittings.fittings(c),
            }
            for c in unit.compartments
        ],
    }  # fmt: skip
    if unit.name == "WB Dunlin":
        out |= {"lay_up_from": "11-10", "lay_up_to": "03-01"}
    if unit.second_share:
        out["second_meter_unit"] = "h"
    if unit.estimated:
        out["estimated_per_day"] = unit.per_day
    if story.states:
        out["states"] = story.states
    return out


def _without_filter(c: CompartmentSpec) -> float:
    capacity = c.said_capacity_l or c.capacity_l
    return capacity if c.kind == "axle" else round(capacity * 0.96, 1)


#: what a fault in full swing shows the eye
LOOKS: dict[str, dict[str, Any]] = {
    "coolant": {"oil_looks": ["milky"]}, "sea_water": {"oil_looks": ["milky"]}, "condensation": {"oil_looks": ["milky"]},
    "fuel": {"oil_looks": ["fuel"]}, "bearing": {"oil_looks": ["glitter"], "filter_looks": ["metal"]},
    "scuffing": {"filter_looks": ["metal"]}, "gear_or_valve": {"filter_looks": ["metal"]}, "combustion": {"filter_looks": ["sludge"]},
    "overheated_oil": {"filter_looks": ["sludge"]},
}  # fmt: skip


def _looks(drains: list[dict[str, Any]], start: date) -> None:
    """What whoever drained it saw: that of a fault in full swing, else a dark clean oil; how it was closed; once a loose filter."""
    faults = {(u.name, c.name): c.faults for u in UNITS for c in u.compartments}
    for i, row in enumerate(drains):
        day = (date.fromisoformat(row["on"]) - start).days
        row |= {"oil_looks": ["normal"], "seals_new": "yes" if i % 7 else "no", "torque": {"drain": "feel" if i % 5 == 2 else "wrench"}}
        if row["filter_changed"]:
            row |= {"filter_looks": ["clean"], "filter_tightened": "hand" if i % 3 else "turns"}
        for f in faults[(row["unit"], row["compartment"])]:
            if day >= f.start + 0.7 * f.ramp and (f.end is None or day < f.end):
                row |= {k: v for k, v in LOOKS.get(f.kind, {}).items() if k != "filter_looks" or row["filter_changed"]}
        if row.get("air_filter"):
            row["air_action"] = "replaced" if row["air_filter"] == "dusty" or i % 4 == 0 else "left"
    mine = [d for d in drains if d["unit"] == "Bus 22" and d["compartment"] == "engine"]
    if mine:
        mine[-1]["as_found"] = ["loose_filter", "leak"]


def _concession(drains: list[dict[str, Any]]) -> None:
    """The can that was meant had run out once."""
    mine = [d for d in drains if d["unit"] == "Bus 25" and d["compartment"] == "engine"]
    if len(mine) > 1:
        mine[-1] |= {
            "oil": "Skerry W 5W-40", "ambient_c": 17,
            "concession": "Skerry W 5W-40 is meant from -30 to 10 °C, and it is 17 °C. The 15W-40 had run out.",
        }  # fmt: skip


def _mishaps(rows: list[dict[str, Any]], truth: list[dict[str, Any]]) -> None:
    """Two bottles of one day with each other's labels; one bottle that was not clean."""
    of = {t["sample_no"]: t for t in truth}
    by_day: dict[tuple[str, str], list[dict[str, Any]]] = defaultdict(list)
    for row in rows:
        if not of[row["sample_no"]]["faults"]:
            by_day[(row["unit"], row["sampled_on"])].append(row)
    wrong = sorted(k for k, v in by_day.items() if len({r["compartment"].split()[-1] for r in v}) > 1)
    late = [k for k in wrong if k[0].startswith(("MV ", "WB "))]
    if late:
        a, b = next(
            (x, y) for x in by_day[late[-1]] for y in by_day[late[-1]]
            if x["compartment"].split()[-1] != y["compartment"].split()[-1]
        )  # fmt: skip
        for key in engine.KEYS:
            a[key], b[key] = b.get(key, ""), a.get(key, "")
        for row in (a, b):
            of[row["sample_no"]]["faults"] = {"swapped_bottle": 1.0}
    clean = [r for r in rows if r["unit"] == "Bus 13" and r["compartment"] == "engine" and not of[r["sample_no"]]["faults"]]
    if len(clean) > 2:
        row = clean[-2]
        row |= {"si": row["si"] + 31, "al": round(row["al"] + 6.5, 1), "na": row["na"] + 9}
        of[row["sample_no"]]["faults"] = {"dirty_bottle": 1.0}


def _new_oil(deliveries: dict[str, list[dict[str, Any]]], oils: dict[str, OilSpec], until: date, seed: int) -> list[dict[str, Any]]:
    """The lab's results for a bottle of every delivery."""
    out = []
    for o, (name, mine) in enumerate(deliveries.items()):
        rng = np.random.default_rng([seed, 9000 + o])
        for batch in mine:
            noise = rng.standard_normal(len(engine.KEYS))
            reported = date.fromisoformat(batch["received_on"]) + timedelta(days=8)
            if reported > until:
                continue
            out.append({
                "sample_no": batch["sample_no"], "oil": name, "sampled_on": batch["received_on"],
                "received_on": batch["received_on"], "reported_on": reported.isoformat(),
                **engine.new_oil_measured(oils[name], noise),
            })  # fmt: skip
    return out


def files(rows: list[dict[str, Any]], slips: bool = True) -> dict[str, str]:
    """The lab's files, one a month; with ``slips`` a few rows carry the mistakes that happen."""
    months: dict[str, list[dict[str, Any]]] = defaultdict(list)
    for row in sorted(rows, key=lambda r: (r["reported_on"], r["sample_no"])):
        months[row["reported_on"][:7]].append(row)
    context = ["sample_no", "unit", "compartment", "sampled_on", "meter", "oil_hours", "oil", "topup_l", "drained",
               "filter_changed", "lab", "received_on", "reported_on"]  # fmt: skip
    out = {}
    for at, (month, mine) in enumerate(sorted(months.items())):
        text = io.StringIO()
        writer = csv.DictWriter(text, context + list(engine.KEYS), restval="", lineterminator="\n")
        writer.writeheader()
        for i, row in enumerate(mine):
            written = {"lab": LAB, **row}
            if not slips:
                writer.writerow(written)
                continue
            if at % 6 == 5 and i == 3:
                written["unit"] = row.get("unit", "").replace("MV ", "M/V ").replace("Bus ", "Buss ").replace("GS ", "Genset ")
            if at % 9 == 7 and i == 5:
                written["fe"] = "n.d. see note"
            if at % 7 == 4 and i == 8 and "meter" in row:
                written["meter"] = round(row["meter"] * 0.1, 1)
            writer.writerow(written)
        out[f"holm-street-{month}.csv"] = text.getvalue()
    return out


def _simulated(db: Database) -> tuple[date, date] | None:
    if FLEET not in fleets.names(db):
        return None
    with db.fleet(fleets.find(db, FLEET)) as connection:
        row = connection.execute(query("register.demo_simulated")).fetchone()
    return (date.fromisoformat(row["detail"]["start"]), date.fromisoformat(row["detail"]["until"])) if row else None


def _technician(connection: Connection, fleet_id: int) -> people.Visitor:
    member = next(m for m in people.members(connection) if m["login"] == "technician")
    return people.Visitor(member["account_id"], "technician", NAMES["technician"], fleet_id, FLEET, ("technician",), "")


def load(
    db: Database, until: date, progress: Callable[[str], None] = lambda step: None, lab_address: str = "http://127.0.0.1:8462"
) -> tuple[Any, ...]:
    """Make the demo fleet, or carry it on to ``until``; returns the sign-ins."""
    before = _simulated(db)
    if before is None or before[1] < until:
        start = before[0] if before else until - timedelta(days=DAYS)
        progress("simulating three years of running")
        document, by_month, truth = simulate(start, until)
        folder = clone_dir() / ".local" / "demo"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "truth.json").write_text(json.dumps(truth, indent=0))
        progress("taking the register in")
        content = json.dumps(document).encode()
        register.load(db, content, by="demo", today=until, demo=True, zone=ZONE)
        for name, text in by_month.items():
            progress(f"taking {name} in")
            results.load(db, text.encode(), fleet=FLEET, name=name, by="demo")
        for login, password, role in LOGINS:
            people.add(db, FLEET, login, NAMES[login], password, role)
        fleet_id = fleets.find(db, FLEET)
        with db.fleet(fleet_id) as connection:
            evaluate.evaluate_within(connection, fleet_id, until, progress=progress)
            visits.load(connection, _technician(connection, fleet_id), until)
            parcels.load(connection, fleet_id, parcels.set_up(connection, fleet_id, lab_address), truth, until)
            evaluate.evaluate_within(connection, fleet_id, until)
            reviews.load(connection, fleet_id, NAMES["analyst"], until)
            decisions.load(connection, fleet_id, NAMES["planner"], start, until)
            evaluate.evaluate_within(connection, fleet_id, until)
            decisions.try_some(connection, fleet_id, NAMES["planner"], until)
            evaluate.evaluate_within(connection, fleet_id, until)
            _set_prices(connection, fleet_id, start)
            fleets.audit(connection, fleet_id, "demo", "demo simulated", FLEET, start=start.isoformat(), until=until.isoformat())
    else:
        fleet_id = fleets.find(db, FLEET)
        with db.fleet(fleet_id) as connection:
            parcels.set_up(connection, fleet_id, lab_address)
            _set_prices(connection, fleet_id, before[0])
    progress("planning the weeks")
    with db.fleet(fleet_id) as connection:
        weeks.set_up(connection, fleet_id, NAMES["planner"], before[0] if before else until - timedelta(days=DAYS), until)
    weeks.plan(db, fleet_id, NAMES, until)
    return LOGINS


def _set_prices(connection: Connection, fleet_id: int, start: date) -> None:
    """What things cost in a fleet that does not exist; left alone where somebody has set prices."""
    if prices.in_force(connection, date.max).rows:
        return
    prices.set_currency(connection, fleet_id, NAMES["planner"], "EUR")
    usual = {"oil_per_l": 4.2, "filter": 38.0, "labour_h": 1.5, "labour_per_h": 62.0, "downtime_h": 0.0, "downtime_per_h": 0.0,
             "sample": 29.0, "disposal_per_l": 0.25, "consequence": 9000.0}  # fmt: skip
    prices.put(connection, fleet_id, NAMES["planner"], "fleet", "", start, dict(usual))


def first_day(db: Database) -> date:
    """The day the demo's history begins."""
    found = _simulated(db)
    return found[0] if found else date.today() - timedelta(days=DAYS)
