"""A period for management: which intervals were moved, by whom, on which evidence, what that saves a year, and what held."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Any

from vornet.core import reckoning
from vornet.core.errors import InputError
from vornet.core.oil_life import DAYS_A_YEAR
from vornet.core.prices import drain_cost, saving_error
from vornet.flows.judge import approval, prices, trials
from vornet.flows.pages.in_oil import Sum, load
from vornet.store.database import Connection, query

#: a period is at most so long
MOST_DAYS = 3700


def report(connection: Connection, since: date, until: date, today: date) -> dict[str, Any]:
    """Everything the report says of the days from ``since`` to ``until``, both counted. Raises InputError."""
    if since > until:
        raise InputError("since", "lies behind the last day of the period")
    if (until - since).days > MOST_DAYS:
        raise InputError("since", f"a period is at most {MOST_DAYS // 366} years")
    known = prices.in_force(connection, today)
    rows = connection.execute(query("money.moved"), {"since": since, "until": until}).fetchall()
    moved = [r | _saved(r, known, _kept(connection, r["compartment_id"])) for r in rows]
    span = {"since": since, "until": until}
    tried = [t for t in trials.listed(connection) if since <= t["started_on"] <= until or (t["ended_on"] and since <= t["ended_on"] <= until)]
    longer = [m for m in moved if m["from"] is not None and m["meter"] > m["from"]]
    shorter = [m for m in moved if m["from"] is not None and m["meter"] < m["from"]]
    whole: Sum = load(connection, "early", "", "", 0, today)["whole"]
    told = [m["saving"] for m in moved if m["saving"] is not None]
    saving = sum(told) if known.currency and (told or not moved) else None  # not known is not nothing
    return span | {
        "moved": moved, "longer": len(longer), "shorter": len(shorter), "trials": tried, "currency": known.currency, "saving": saving,
        "saving_of": len(told),
        "saving_error": saving_error(saving) if saving is not None else None, "drains": sum(m["drains"] or 0.0 for m in moved),
        "litres": sum(m["litres_less"] or 0.0 for m in moved), "held": connection.execute(query("money.held_now")).fetchone(),
        "declined": approval.declined(connection, since, until), "whole": whole,
        "states": {word: sum(t["state"] == word for t in tried) for word in trials.STATE_WORDS},
    }  # fmt: skip


def _kept(connection: Connection, compartment_id: int) -> reckoning.Reckoning | None:
    row = connection.execute(query("board.reckoning"), {"compartment_id": compartment_id}).fetchone()
    return reckoning.unpacked(row["reckoning"]) if row is not None and row["reckoning"] else None


def _saved(r: dict[str, Any], known: prices.PriceList, reckoned: reckoning.Reckoning | None) -> dict[str, Any]:
    """What one change saves a year at the unit's recent use: drains, litres, money with its risk (None: not known); and what was run
    before it, trials left out."""
    before = r["before"]
    if not before or not r["rate_per_day"]:
        return {"from": before, "drains": None, "litres_less": None, "saving": None}
    drains = r["rate_per_day"] * DAYS_A_YEAR * (1 / before - 1 / r["meter"])
    cost = drain_cost(known.of(r["family"], r["unit"]), r["litres"])
    saving = None
    if known.currency and not cost.missing:
        saving = drains * cost.total
        if reckoned is not None:  # what is past an act limit more often costs too
            fewer = reckoned.act_chance(before) / before - reckoned.act_chance(r["meter"]) / r["meter"]
            saving += r["rate_per_day"] * DAYS_A_YEAR * fewer * cost.consequence
    return {"from": before, "drains": drains, "litres_less": None if r["litres"] is None else drains * r["litres"], "saving": saving}


def sheets(found: dict[str, Any]) -> dict[str, Sequence[dict[str, Any]]]:
    """The report as tables: what was decided, what was tried, what was not followed, and what it comes to."""
    decided = [
        {"effective_from": m["effective_from"], "unit": m["unit"], "compartment": m["compartment"], "family": m["family"],
         "depot": m["depot"], "counts": m["meter_unit"], "before": m["from"], "interval": m["meter"], "proposed": m["proposed"],
         "origin": m["origin"],
         "by": m["approved_by"], "why": m["why"], "limited_by": m["limiting"], "safe": _round(m["safe"]), "charges": m["charges"],
         "chance_past_limit": _round(m["chance"], 4), "drains_a_year_fewer": _round(m["drains"], 2),
         "litres_a_year_less": _round(m["litres_less"], 1), "saving_a_year": _round(m["saving"], 2), "currency": found["currency"],
         "held": m["held_word"] if m["meter"] == m["now_meter"] else None}
        for m in found["moved"]
    ]  # fmt: skip
    declined = [
        {k: d[k] for k in ("on_day", "unit", "compartment", "outcome", "current", "proposed", "by", "why")} for d in found["declined"]
    ]
    sums = [
        {"what": "intervals lengthened", "figure": found["longer"]}, {"what": "intervals shortened", "figure": found["shorter"]},
        {"what": "drains a year fewer", "figure": _round(found["drains"], 1)},
        {"what": "litres a year less", "figure": _round(found["litres"], 0)},
        {"what": f"saving a year, {found['currency'] or 'no prices'}", "figure": _round(found["saving"], 0)},
        {"what": "one standard error of it", "figure": _round(found["saving_error"], 0)},
        {"what": "approved intervals that held", "figure": found["held"]["held"]},
        {"what": "too early to say", "figure": found["held"]["early"]}, {"what": "did not hold", "figure": found["held"]["back"]},
        {"what": "litres a year poured away with life left", "figure": _round(found["whole"].early_l, 0)},
    ]  # fmt: skip
    return {"decisions": decided, "trials": [trials.flat(t) for t in found["trials"]], "not followed": declined, "sums": sums}


def _round(x: float | None, digits: int = 1) -> float | None:
    return None if x is None else round(x, digits)
