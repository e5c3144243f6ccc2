"""What is known of new oil in a fleet: records, samples of new oil, and estimates from used samples kept beside them.

Estimates are made when a whole fleet is evaluated, and in between when an oil that lacks figures has ``AGAIN_AT`` times as many
used samples as when they were last made; whoever judges a few compartments takes what is kept, so that all judge alike.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from vornet.core.fresh import Fresh, Step
from vornet.core.history import History
from vornet.core.measurands import COUNT, INDEX, KEYS
from vornet.core.new_oil import AGAIN_AT, with_estimates
from vornet.core.precision import BETWEEN_DATES, PrecisionTable
from vornet.store.database import Connection, query


def known(connection: Connection, oil_at: dict[int, int], recorded: np.ndarray, precision: PrecisionTable) -> Fresh:
    """New-oil values of a fleet. ``oil_at``: oil id → row of ``recorded`` (O, COUNT)."""
    return Fresh(recorded, (*_sampled(connection, oil_at, precision), *_kept(connection, oil_at)))


def _sampled(connection: Connection, oil_at: dict[int, int], precision: PrecisionTable) -> list[Step]:
    """The mean of each oil's samples of new oil, from each one's day on."""
    rows = connection.execute(query("history.new_oil_samples")).fetchall()
    sums: dict[int, np.ndarray] = defaultdict(lambda: np.zeros(COUNT))
    counts: dict[int, np.ndarray] = defaultdict(lambda: np.zeros(COUNT))
    out = []
    for r in sorted(rows, key=lambda r: r["sampled_on"]):
        if r["oil_id"] not in oil_at:
            continue
        x = np.array(r["values"], dtype=float)
        seen = ~np.isnan(x)
        sums[r["oil_id"]] += np.where(seen, x, 0.0)
        counts[r["oil_id"]] += seen
        day = r["sampled_on"].toordinal()
        for m in np.flatnonzero(seen).tolist():
            n = counts[r["oil_id"]][m]
            mean = float(sums[r["oil_id"]][m] / n)
            sd = BETWEEN_DATES * precision.standard_deviation(KEYS[m], mean) / float(np.sqrt(n))
            out.append(Step(oil_at[r["oil_id"]], m, float(day - 1), mean, sd, False))  # known on its own day
    return out


def _kept(connection: Connection, oil_at: dict[int, int]) -> list[Step]:
    out = []
    for r in connection.execute(query("history.estimates")).fetchall():
        if r["oil_id"] in oil_at:
            out += [Step(oil_at[r["oil_id"]], INDEX[key], day, value, sd, True) for key, day, value, sd in r["steps"] if key in INDEX]
    return out


def _lacking_in_use(history: History) -> list[int]:
    """Rows of oils in use whose records lack what used samples could tell."""
    used = np.union1d(history.compartments.oil, history.drains.oil[history.drains.oil >= 0]).astype(int)
    lacking: np.ndarray = np.any(history.known.lacking(), axis=1)
    return [int(o) for o in used if lacking[o]]


def keep(connection: Connection, fleet_id: int, history: History, oil_ids: list[int], oils: list[int] | None = None) -> None:
    """Keep the estimates of a history, of all its oils or of the rows ``oils``."""
    steps: dict[int, list[list[Any]]] = defaultdict(list)
    for s in history.known.steps:
        if s.estimated:
            steps[s.oil].append([KEYS[s.measurand], s.day, round(s.value, 6), round(s.sd, 6)])
    rows = [o for o in _lacking_in_use(history) if o < len(oil_ids) and (oils is None or o in oils)]
    samples = np.bincount(history.samples.comp, minlength=len(history.compartments.oil))
    found = []
    for o in rows:
        users = np.union1d(np.flatnonzero(history.compartments.oil == o), history.drains.comp[history.drains.oil == o]).astype(int)
        found.append({"fleet_id": fleet_id, "oil_id": oil_ids[o], "steps": json.dumps(steps[o]), "samples": int(samples[users].sum())})
    with connection.cursor() as cursor:
        cursor.executemany(query("history.put_estimate"), found)
    if oils is None:
        connection.execute(query("history.drop_estimates"), {"oils": [oil_ids[o] for o in rows]})


def made_anew(history: History) -> History:
    """The history with its estimates made from itself."""
    return with_estimates(history)


def for_some(connection: Connection, fleet_id: int, history: History, oil_ids: list[int], load: Callable[[list[int]], History]) -> History:
    """A part of a fleet with estimates as the whole has them: kept ones, made anew where so much has come in since.

    ``load``: reads the history of given compartments, what is held left out.
    """
    last = {r["oil_id"]: r["samples"] for r in connection.execute(query("history.estimates")).fetchall()}
    steps = list(history.known.steps)
    for o in _lacking_in_use(history):
        if o >= len(oil_ids):
            continue
        users = [r["compartment_id"] for r in connection.execute(query("history.oil_users"), {"oils": [oil_ids[o]]})]
        row = connection.execute(query("history.samples_count"), {"compartments": users}).fetchone()
        if oil_ids[o] in last and row and row["n"] < AGAIN_AT * max(last[oil_ids[o]], 1):
            continue
        whole = with_estimates(load(sorted(users)))
        keep(connection, fleet_id, whole, oil_ids, [o])
        steps = [s for s in steps if not (s.estimated and s.oil == o)] + [s for s in whole.known.steps if s.estimated and s.oil == o]
    return replace(history, fresh=Fresh(history.known.recorded, tuple(steps)))
