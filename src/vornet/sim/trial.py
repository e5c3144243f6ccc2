"""Does screening catch what people and labs get wrong, and leave the rest alone? A fleet nobody has seen, mistakes with
known truth, and the months played through one by one, so that nothing is held with knowledge of what came later."""

from __future__ import annotations

import json
from collections import Counter, defaultdict
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

import numpy as np

from vornet.flows.house import fleets
from vornet.flows.judge import fleet_history, new_oil, replay
from vornet.flows.lab import results
from vornet.flows.register import register
from vornet.sim import demo, mistakes, trial_fleets
from vornet.sim.fleet import OILS
from vornet.store.database import Database, query

DEPOT_LABS = {"Vessary Quay": 0, "Morvane Town": 0, "Northholm Pier": 1, "Northholm Power": 1}
#: what a mistake is caught as, to be called rightly named
NAMED = {"swapped": {"swapped_bottle"}, "mixed": {"wrong_oil"}, "dirty": {"dirty_bottle"}, "unit": {"unit_slip"},
         "digit": {"meter_back", "meter_beyond_use", "meter_jump"}}  # fmt: skip


@dataclass(frozen=True)
class Tally:
    """Bottles of the trial: what was done to each, whether anyone could tell, what it was held for."""

    bottles: int
    rows: tuple[tuple[str, bool, tuple[str, ...], str], ...]  # kind ('' healthy, 'fault'), plain, reasons, number

    def caught(self, kind: str) -> tuple[int, int, int, int]:
        """(plain ones, of them held, of them named rightly, ties)."""
        mine = [r for r in self.rows if r[0] == kind]
        plain = [r for r in mine if r[1]]
        return (
            len(plain), sum(bool(r[2]) for r in plain), sum(bool(NAMED[kind] & set(r[2])) for r in plain), len(mine) - len(plain),
        )  # fmt: skip

    def held(self, kind: str) -> tuple[int, int]:
        """(bottles, of them held) of '' healthy or 'fault'."""
        mine = [r for r in self.rows if r[0] == kind]
        return len(mine), sum(bool(r[2]) for r in mine)

    def table(self) -> dict[str, Counter[str]]:
        """What was done → how often held as what ('let in': not held)."""
        out: dict[str, Counter[str]] = defaultdict(Counter)
        for kind, plain, reasons, _ in self.rows:
            name = kind or "healthy"
            if kind in NAMED and not plain:
                name = f"{kind}, cannot be told"
            out[name][reasons[0] if reasons else "let in"] += 1
        return dict(out)


def _parcels(rows: list[dict[str, Any]], depots: dict[str, str], since: date) -> list[list[dict[str, Any]]]:
    weeks: dict[tuple[int, int], list[dict[str, Any]]] = defaultdict(list)
    for row in rows:
        on = date.fromisoformat(row["sampled_on"])
        if on >= since:
            weeks[(DEPOT_LABS.get(depots[row["unit"]], 2), (on - date(2000, 1, 3)).days // 7)].append(row)
    return [weeks[k] for k in sorted(weeks)]


def run(db: Database, seed: int, today: date, months: int = 12, rate: float = 0.16, wider: trial_fleets.Wider | None = None) -> Tally:
    """Play a fleet of this seed; mistakes in about ``rate`` of the bottles of its last months. Of the world, half of the
    fleets' parcels are not known to whoever screens."""
    start = today - timedelta(days=demo.DAYS)
    since = today - timedelta(days=int(30.4 * months))
    world = trial_fleets.world(seed, demo.DAYS, wider=wider) if wider else None
    document, rows, truth = demo.lived(start, today, seed, world=world)
    name = f"Trial {seed}"
    document["fleet"] = name
    depots = {u["unit"]: u["depot"] for u in document["units"]}
    parcels = _parcels(rows, depots, since)
    rng = np.random.default_rng([seed, 77])
    made = mistakes.make(parcels, {o.name: o for o in (world.oils if world else OILS)}, rate, rng)
    kind_of = {n: (m.kind, m.plain) for m in made for n in m.sample_nos}
    faults = {t["sample_no"]: t["faults"] for t in truth}
    parcel_of = {row["sample_no"]: i for i, parcel in enumerate(parcels) for row in parcel}
    register.load(db, json.dumps(document, default=float).encode(), by="trial", today=today)
    for file_name, text in demo.files(rows, slips=False).items():
        results.load(db, text.encode(), fleet=name, name=file_name, by="trial")
    fleet_id = fleets.find(db, name)
    with db.fleet(fleet_id) as connection:
        loaded = fleet_history.load(connection, today)
        # as a full evaluation has them: each estimate of new oil from its own day on
        loaded = replace(loaded, history=new_oil.made_anew(loaded.history))
        numbers = {r["sample_id"]: r["sample_no"] for r in connection.execute(query("results.numbers")).fetchall()}
    fleets.delete(db, name)
    of_sample = [numbers[int(i)] for i in loaded.sample_ids]
    group = np.array([parcel_of.get(n, -1) for n in of_sample])
    if world is not None and seed % 2:
        group[:] = -1
    reasons: dict[str, list[str]] = defaultdict(list)
    day = since
    while day <= today:
        end = min(day + timedelta(days=30), today)
        for finding in replay.held_then(loaded, group, end):
            if loaded.history.samples.day[finding.sample] >= day.toordinal():
                reasons[of_sample[finding.sample]].append(finding.reason)
        day = end + timedelta(days=1)
    out = []
    for i, number in enumerate(of_sample):
        if number not in parcel_of or loaded.history.samples.day[i] < since.toordinal():
            continue
        kind, plain = kind_of.get(number, ("fault" if faults.get(number) else "", True))
        out.append((kind, plain, tuple(dict.fromkeys(reasons.get(number, ()))), number))
    return Tally(len(out), tuple(out))


def together(tallies: list[Tally]) -> Tally:
    return Tally(sum(t.bottles for t in tallies), tuple(r for t in tallies for r in t.rows))
