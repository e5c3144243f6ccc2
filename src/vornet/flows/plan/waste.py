"""Used oil and filters by depot and month, against what was poured: for the collector and the auditor."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import asdict, dataclass
from datetime import date
from typing import Any

from vornet.core.errors import InputError
from vornet.store.database import Connection, query

#: a ledger spans at most so many days
MOST_DAYS = 3700


@dataclass
class Month:
    """What left and what went in, L: ``out_l`` drained as measured (``unmeasured`` drains told no figure), ``handed_l`` of it on record as
    handed over, ``poured_l`` at drains, ``topped_l`` between them; ``filters`` changed."""

    depot: str
    month: str
    drains: int = 0
    out_l: float = 0.0
    unmeasured: int = 0
    handed_l: float = 0.0
    poured_l: float = 0.0
    topped_l: float = 0.0
    filters: int = 0

    @property
    def used_up_l(self) -> float | None:
        """What went in and did not come out: burnt, leaked, or still in there; None where a drain told no figure."""
        return None if self.unmeasured else self.poured_l + self.topped_l - self.out_l

    def add(self, other: Month) -> None:
        for name in ("drains", "out_l", "unmeasured", "handed_l", "poured_l", "topped_l", "filters"):
            setattr(self, name, getattr(self, name) + getattr(other, name))


def ledger(connection: Connection, since: date, until: date) -> dict[str, Any]:
    """Months by depot, a sum a depot and of all, and what was handed over. Raises InputError."""
    if since > until:
        raise InputError("since", "lies behind the last day")
    if (until - since).days > MOST_DAYS:
        raise InputError("since", f"at most {MOST_DAYS // 366} years at a time")
    span = {"since": since, "until": until}
    months = [Month(**r) for r in connection.execute(query("waste.by_month"), span).fetchall()]
    depots: dict[str, Month] = defaultdict(lambda: Month("", ""))
    whole = Month("", "")
    for m in months:
        whole.add(m)
        depots[m.depot].add(m)
    by_depot = {name: [m for m in months if m.depot == name] for name in sorted(depots)}
    handed = connection.execute(query("waste.handed"), span).fetchall()
    return span | {"by_depot": by_depot, "sums": dict(depots), "whole": whole, "handed": handed}


def rows(found: dict[str, Any]) -> list[dict[str, Any]]:
    """The ledger as a table for other programs."""
    return [{**asdict(m), "used_up_l": None if m.used_up_l is None else round(m.used_up_l, 1)}
            for months in found["by_depot"].values() for m in months]  # fmt: skip
