"""The fleet in oil: every compartment's last charges, what was poured away with life left, what ran past it, and what it comes to."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from datetime import date
from typing import Any

from vornet.core.prices import drain_cost, saving_error
from vornet.flows.judge import prices
from vornet.flows.judge.prices import PriceList
from vornet.store.database import Connection, query

PAGE = 60
ORDERS = {"early": "life poured away", "overrun": "overrun", "used": "least life used", "family": "family", "depot": "depot"}


@dataclass
class Sum:
    """What some compartments come to in a year: litres poured away with life left, hours (by unit) past it, and what approving every
    lengthening would save: drains, litres, money (None without prices; what running past an act limit more often costs is taken off)."""

    compartments: int = 0
    unknown: int = 0
    early_l: float = 0.0
    overrun_h: float = 0.0
    overrun_km: float = 0.0
    past: int = 0
    drains: float = 0.0
    litres: float = 0.0
    early_cost: float | None = None
    saving: float | None = None

    def add(self, row: dict[str, Any], per_litre: float | None, per_drain: float, consequence: float) -> None:
        self.compartments += row["n"]
        self.unknown += row["unknown"]
        self.early_l += row["early_l"] or 0.0
        self.past += row["past"]
        if row["meter_unit"] == "km":
            self.overrun_km += row["overrun"] or 0.0
        else:
            self.overrun_h += row["overrun"] or 0.0
        self.drains += row["drains_saved"] or 0.0
        self.litres += row["litres_saved"] or 0.0
        if per_litre is not None:
            self.early_cost = (self.early_cost or 0.0) + per_litre * (row["early_l"] or 0.0)
            saved = per_litre * (row["litres_saved"] or 0.0) + per_drain * (row["drains_saved"] or 0.0)
            self.saving = (self.saving or 0.0) + saved + consequence * (row["past_act_fewer"] or 0.0)

    @property
    def saving_error(self) -> float:
        """One standard error of the yearly saving."""
        return saving_error(self.saving or 0.0)


def _costs(known: PriceList, family: str, unit: str) -> tuple[float | None, float, float]:
    """What a litre that is drained costs (None without prices), what a drain costs beside its litres, and running past an act limit."""
    said = known.of(family, unit)
    one, none = drain_cost(said, 1.0), drain_cost(said, 0.0)
    return None if one.missing or not known.currency else one.total - none.total, none.total, one.consequence


def load(connection: Connection, by: str, family: str, depot: str, page: int, today: date) -> dict[str, Any]:
    """One page of rows in an order, and the sums over all of them: of the fleet, each family and each depot."""
    by = by if by in ORDERS else "early"
    asked = {"by": by, "family": family, "depot": depot, "limit": PAGE + 1, "offset": PAGE * page}
    rows = connection.execute(query("board.in_oil"), asked, prepare=False).fetchall()
    known = prices.in_force(connection, today)
    whole = Sum()
    families: dict[str, Sum] = defaultdict(Sum)
    depots: dict[str, Sum] = defaultdict(Sum)
    costs: dict[tuple[str, str], tuple[float | None, float, float]] = {}
    priced = [place for scope, place in known.rows if scope == "unit"]  # most units have no prices of their own
    for row in connection.execute(query("board.in_oil_sums"), {"family": family, "depot": depot, "priced": priced}):
        if (row["family"], row["unit"]) not in costs:
            costs[row["family"], row["unit"]] = _costs(known, row["family"], row["unit"])
        for total in (whole, families[row["family"]], depots[row["depot"]]):
            total.add(row, *costs[row["family"], row["unit"]])
    return {
        "rows": rows[:PAGE], "more": len(rows) > PAGE, "page": page, "by": by, "orders": ORDERS, "family": family, "depot": depot,
        "whole": whole, "families": dict(sorted(families.items())), "depots": dict(sorted(depots.items())), "currency": known.currency,
    }  # fmt: skip
