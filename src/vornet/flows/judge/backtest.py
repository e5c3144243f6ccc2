"""Does the scheme work? A fleet's history played through several ways of judging, set against what was really found."""

from __future__ import annotations

from collections import Counter
from datetime import date
from typing import Any

import numpy as np

from vornet.core.backtest import Found, against_findings, by_family, by_fixed_limits, by_rates
from vornet.core.departures import NEVER_TEACHES
from vornet.core.judge import RUN_ON
from vornet.core.learning import confirmed
from vornet.core.limits import FixedLimit
from vornet.core.rates import stretch_rates
from vornet.flows.judge import fleet_history, learning
from vornet.flows.judge.judging import judge_loaded
from vornet.store.database import Connection, Location, opened, query

MOST_FINDINGS = 10_000
#: samples that are played while somebody waits
MOST_PLAYED = 40_000


def backtest(connection: Connection, today: date, sets: dict[str, list[FixedLimit]] | None = None) -> dict[str, Any]:
    """Ways side by side over the history: {samples, of, findings, first, last, ways}. ``sets``: further limit sets by name.

    A large fleet is played over the families in which most was found, then the largest, up to MOST_PLAYED samples, ``of`` all.
    """
    recorded = connection.execute(query("verdicts.findings"), {"compartment_id": None, "limit": MOST_FINDINGS}).fetchall()
    register = connection.execute(query("register.duties")).fetchall()
    family_of = {r["compartment_id"]: r["family"] for r in register}
    found_in, size = Counter(family_of.get(f["compartment_id"], "") for f in recorded), Counter(family_of.values())
    families = sorted(size, key=lambda f: (-found_in[f], -size[f], f))
    mine, _, whole = fleet_history.tried_on(connection, families, MOST_PLAYED)
    only = None if len(mine) == len(register) else mine
    loaded, charges = fleet_history.drop_held(connection, fleet_history.load(connection, today, only))
    history, rates = loaded.history, stretch_rates(loaded.history, charges)
    judgement = judge_loaded(loaded, charges, rates)
    teaches = ~judgement.break_in & (loaded.teaching > NEVER_TEACHES)
    codes = {
        ("all", "Vornet's proposals"): np.maximum(judgement.proposed, RUN_ON),
        ("fixed", "Fixed limits alone"): by_fixed_limits(judgement.past),
        ("statistical", "Family mean + 2 s, + 3 s"): by_family(history, teaches, loaded.limits),
        ("rate", "Wear and dirt rates alone"): by_rates(judgement.diagnosis.departures),
    }
    for name, rows in (sets or {}).items():
        other = fleet_history.with_limits(loaded, rows)
        tried = judge_loaded(other, charges, rates)
        codes[("set " + name, f"Proposals with {name}")] = np.maximum(tried.proposed, RUN_ON)
    at = {int(c): i for i, c in enumerate(loaded.compartment_ids)}
    findings = [
        Found(at[f["compartment_id"]], f["on_day"].toordinal(), f"{f['unit']} {f['compartment']}")
        for f in recorded
        if f["compartment_id"] in at and f["cause"] != "nothing"
    ]
    days = history.samples.day[history.samples.usable]
    mine_found = learning.findings_of(recorded, loaded)
    return {
        "confirmed": confirmed(history, judgement.diagnosis, mine_found),
        "ended": learning.ended_past(connection, loaded, charges, judgement),
        "learning": learning.propose(loaded, judgement, mine_found),
        "samples": len(days), "of": whole if only else len(days), "findings": len(findings),
        "ways": [against_findings(key, name, code, history, findings) for (key, name), code in codes.items()],
        "first": date.fromordinal(int(days.min())) if len(days) else None, "last": date.fromordinal(int(days.max())) if len(days) else None,
    }  # fmt: skip


def backtest_apart(location: Location, fleet_id: int, today: date, sets: dict[str, list[FixedLimit]]) -> dict[str, Any]:
    """``backtest`` for a process of its own, which opens the database by itself."""
    with opened(location) as db, db.fleet(fleet_id) as connection:
        return backtest(connection, today, sets)
