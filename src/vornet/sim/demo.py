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

from vornet.flows import evaluate, fleets, people, register, results
from vornet.sim import engine
from vornet.sim.fleet import FLEET, LAB, OILS, UNITS, ZONE
from vornet.store.database import Database, clone_dir, query

SEED = 20260115
DAYS = 731
LOGINS = (
    ("planner", "plan-ahead", "planner"),
    ("analyst", "look-twice", "analyst"),
    ("technician", "warm-oil", "technician"),
)
NAMES = {"planner": "Ingrid Vale", "analyst": "Tomas Reeve", "technician": "Sunniva Holt"}


def simulate(start: date, until: date, seed: int = SEED) -> tuple[dict[str, Any], dict[str, str], list[dict]]:
    """(register document, results files by name, truth) of the demo fleet between two days."""
    oils = {o.name: o for o in OILS}
    document: dict[str, Any] = {
        "fleet": FLEET,
        "oils": [{"name": o.name, "grade": o.grade, "density_kg_l": o.density, **o.v} for o in OILS],
        "units": [], "readings": [], "drains": [], "top_ups": [],
    }  # fmt: skip
    rows: list[dict] = []
    truth: list[dict] = []
    for index, unit in enumerate(UNITS):
        m = unit.meter_unit
        document["units"].append({
            "unit": unit.name, "depot": unit.depot, "model": unit.model, "duty": unit.duty, "meter_unit": m,
            "compartments": [
                {
                    "compartment": c.name, "kind": c.kind, "family": c.family, "system_volume_l": c.system_l,
                    "capacity_l": c.capacity_l, "capacity_without_filter_l": round(c.capacity_l * 0.96, 1),
                    "oil": c.oil, f"interval_{m}": c.interval, f"cap_{m}": c.cap, "interval_days": c.interval_days,
                    **({"fuel": c.fuel} if c.fuel else {}),
                }
                for c in unit.compartments
            ],
        })  # fmt: skip
        story = engine.live(unit, index, oils, start, until, seed)
        document["readings"] += story.readings
        document["drains"] += story.drains
        document["top_ups"] += story.top_ups
        rows += story.samples
        truth += story.truth
    return document, _files(rows), truth


def _files(rows: list[dict]) -> dict[str, str]:
    """The lab's files, one a month; a few rows carry the mistakes that happen."""
    months: dict[str, list[dict]] = defaultdict(list)
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
            written = {**row, "lab": LAB}
            if at % 6 == 5 and i == 3:
                written["unit"] = row["unit"].replace("MV ", "M/V ").replace("Bus ", "Buss ").replace("GS ", "Genset ")
            if at % 9 == 7 and i == 5:
                written["fe"] = "n.d. see note"
            if at % 7 == 4 and i == 8:
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


def load(db: Database, until: date, progress: Callable[[str], None] = lambda step: None) -> tuple:
    """Make the demo fleet, or carry it on to ``until``; returns the sign-ins."""
    before = _simulated(db)
    if before is None or before[1] < until:
        start = before[0] if before else until - timedelta(days=DAYS)
        progress("simulating two years of running")
        document, files, truth = simulate(start, until)
        folder = clone_dir() / ".local" / "demo"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "truth.json").write_text(json.dumps(truth, indent=0))
        progress("taking the register in")
        content = json.dumps(document).encode()
        register.load(db, content, by="demo", today=until, demo=True, zone=ZONE)
        for name, text in files.items():
            progress(f"taking {name} in")
            results.load(db, text.encode(), fleet=FLEET, name=name, by="demo")
        for login, password, role in LOGINS:
            people.add(db, FLEET, login, NAMES[login], password, role)
        fleet_id = fleets.find(db, FLEET)
        with db.fleet(fleet_id) as connection:
            evaluate.evaluate_within(connection, fleet_id, until, progress=progress)
            fleets.audit(
                connection, fleet_id, "demo", "demo simulated", FLEET, start=start.isoformat(), until=until.isoformat()
            )
    return LOGINS
