"""Are causes found, and named rightly, and is nothing cried over healthy engines? Fleets of random faults with known truth,
judged sample by sample by what was known on the day."""

from __future__ import annotations

import json
from collections import Counter, defaultdict
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

import numpy as np

from vornet.flows.house import fleets
from vornet.flows.judge import evaluate, fleet_history
from vornet.flows.lab import results
from vornet.flows.register import register
from vornet.sim import demo, trial_fleets
from vornet.store.database import Database, query

#: a fault at this share of the demo's size, over the whole stretch, is clear; below the second it is subtle; below the third nothing
CLEAR, SUBTLE = 0.7, 0.3
#: oil that has truly gone so far towards where common practice watches it is not called healthy
WORN = 0.9


@dataclass(frozen=True)
class Row:
    """One sample of the trial."""

    number: str
    place: tuple[str, str]
    truth: str  # '' healthy, 'aftermath' what is left of a fault that was mended
    size: float
    proposed: int
    causes: tuple[tuple[str, int], ...]  # best first: key, 1 possible … 3 strong
    fixed: bool  # the fixed limits alone say watch or worse
    aged: float = 0.0  # how far the oil had truly gone towards where common practice watches it
    kind: str = "engine"
    gappy: bool = False  # its oil's record has gaps


@dataclass(frozen=True)
class Outcome:
    rows: tuple[Row, ...]
    faults: int

    def _faulty(self, clear: bool) -> list[Row]:
        return [r for r in self.rows if r.truth not in ("", "aftermath") and (r.size >= CLEAR) == clear and r.size >= SUBTLE]

    def found(self, clear: bool) -> tuple[int, int, int]:
        """(samples with a clear, or a subtle, fault; of them spoken of; of them named first)."""
        mine = self._faulty(clear)
        spoken = [r for r in mine if r.proposed >= 1 or any(s >= 2 for _, s in r.causes)]
        return len(mine), len(spoken), sum(bool(r.causes) and r.causes[0][0] == r.truth for r in mine)

    def episodes(self) -> tuple[int, int, int]:
        """(faults that were clear at least once; of them spoken of while there; named first by most of the samples that spoke)."""
        by: dict[tuple[str, str], list[Row]] = defaultdict(list)
        for r in self.rows:
            if r.truth not in ("", "aftermath") and r.size >= SUBTLE:
                by[r.place].append(r)
        clear = [rows for rows in by.values() if any(r.size >= CLEAR for r in rows)]
        spoken = [[r for r in rows if r.causes and r.causes[0][1] >= 2] for rows in clear]
        named = sum(bool(s) and 2 * sum(r.causes[0][0] == r.truth for r in s) > len(s) for s in spoken)
        heard = sum(any(r.proposed >= 1 or (r.causes and r.causes[0][1] >= 2) for r in rows) for rows in clear)
        return len(clear), heard, named

    def healthy(self) -> tuple[int, int, int]:
        """(healthy samples judged; of them called Act or Stop; called Watch)."""
        mine = self.healthy_rows()
        return len(mine), sum(r.proposed >= 2 for r in mine), sum(r.proposed == 1 for r in mine)

    def healthy_rows(self) -> list[Row]:
        """Judged samples without a fault, of oil that has not truly aged to where it would be watched."""
        return [r for r in self.rows if r.truth == "" and r.proposed >= 0 and r.aged < WORN]

    def leads(self) -> list[int]:
        """Per fault: how many samples earlier a cause was spoken of (probable or better) than the fixed limits spoke."""
        by: dict[tuple[str, str], list[Row]] = defaultdict(list)
        for r in self.rows:
            if r.truth not in ("", "aftermath"):
                by[r.place].append(r)
        out = []
        for rows in by.values():
            if not any(r.size >= CLEAR for r in rows):
                continue
            ours = next((i for i, r in enumerate(rows) if any(s >= 2 for _, s in r.causes) or r.proposed >= 1), len(rows))
            fixed = next((i for i, r in enumerate(rows) if r.fixed), len(rows))
            out.append(fixed - ours)
        return out

    def confusion(self) -> dict[str, Counter[str]]:
        """Truth of samples with a clear fault → the first cause named."""
        table: dict[str, Counter[str]] = defaultdict(Counter)
        for r in self._faulty(True):
            table[r.truth][r.causes[0][0] if r.causes else ("a verdict" if r.proposed >= 1 else "nothing")] += 1
        return dict(table)


def run(db: Database, seed: int, today: date, ranges: trial_fleets.Ranges, wider: trial_fleets.Wider | None = None) -> Outcome:
    """Play a fleet of this seed and judge every sample of it."""
    start = today - timedelta(days=demo.DAYS)
    world = trial_fleets.world(seed, demo.DAYS, ranges, wider) if wider else None
    units, planted = (world.units, world.planted) if world else trial_fleets.fleet(seed, demo.DAYS, ranges)
    document, rows, truth = demo.lived(start, today, seed, units, world)
    kinds = {(u.name, c.name): c.kind for u in units for c in u.compartments}
    gappy = {o["name"] for o in document["oils"] if any(k not in o for k in trial_fleets.GAPS)}
    oil_of = {r["sample_no"]: r["oil"] for r in rows}
    name = f"Causes {seed}"
    document["fleet"] = name
    register.load(db, json.dumps(document, default=float).encode(), by="trial", today=today)
    for file_name, text in demo.files(rows, slips=False).items():
        results.load(db, text.encode(), fleet=name, name=file_name, by="trial")
    fleet_id = fleets.find(db, name)
    with db.fleet(fleet_id) as connection:
        evaluate.evaluate_within(connection, fleet_id, today)
        loaded, charges = fleet_history.drop_held(connection, fleet_history.load(connection, today))
        numbers = {r["sample_id"]: r["sample_no"] for r in connection.execute(query("results.numbers")).fetchall()}
    worked = evaluate.work(loaded, charges)
    fleets.delete(db, name)
    made = _rows(worked, numbers, truth, planted)
    made = [replace(r, kind=kinds[r.place], gappy=oil_of[r.number] in gappy) for r in made]
    return Outcome(tuple(made), len(planted))


def _rows(worked: evaluate.Worked, numbers: dict[int, str], truth: list[dict[str, Any]], planted: dict[Any, Any]) -> list[Row]:
    of = {t["sample_no"]: t for t in truth}
    judgement, samples = worked.judgement, worked.loaded.history.samples
    fixed: list[bool] = np.any(judgement.past.watch, axis=1).tolist()
    out, last, since = [], {}, {}  # type: ignore[var-annotated]
    for i, sample_id in enumerate(worked.loaded.sample_ids.tolist()):
        t = of[numbers[sample_id]]
        place = (t["unit"], t["compartment"])
        kind, amplitude = planted.get(place, ("", 0.0))
        now = amplitude * t["faults"].get(kind, 0.0)
        # over the stretch, not only on its last day
        size = min(now, 0.5 * (now + last.get(place, 0.0)) if place in last else now)
        last[place] = now
        if now > 0:
            since[place] = 0
        elif place in since:
            since[place] += 1
        said = kind if now > 0 else "aftermath" if place in since and since[place] <= 4 else ""
        if not samples.usable[i]:
            continue
        causes = tuple((worked.cause_keys[k], int(judgement.diagnosis.strength[i, k])) for k in judgement.diagnosis.best_first(i))
        out.append(Row(t["sample_no"], place, said, float(size), int(judgement.proposed[i]), causes, bool(fixed[i]), t["aged"]))
    return out


def together(outcomes: list[Outcome]) -> Outcome:
    """Several fleets as one; places are told apart by fleet."""
    rows = [
        replace(r, place=(f"{n} {r.place[0]}", r.place[1]))
        for n, o in enumerate(outcomes) for r in o.rows
    ]  # fmt: skip
    return Outcome(tuple(rows), sum(o.faults for o in outcomes))


def lead_median(outcome: Outcome) -> float:
    return float(np.median(outcome.leads())) if outcome.leads() else 0.0
