"""What was planned against what was done, visit by visit and by depot and month."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from vornet.core import kept_plan
from vornet.core.errors import InputError
from vornet.store.database import Connection, query

MOST_DAYS = 1100
WORDS = {"on_day": "on its day", "early": "early", "late": "late", "missed": "not done", "open": "still to come"}


@dataclass
class Sums:
    depot: str
    month: str
    tasks: int = 0
    words: dict[str, int] = field(default_factory=lambda: dict.fromkeys(WORDS, 0))
    unused_l: float = 0.0
    over_l: float = 0.0
    planned_h: float = 0.0
    took_h: float = 0.0
    timed: int = 0

    def add(self, k: kept_plan.Kept) -> None:
        self.tasks += 1
        self.words[k.word] += 1
        self.unused_l += k.unused_l
        self.over_l += k.over_l


def between(connection: Connection, since: date, until: date, today: date) -> dict[str, Any]:
    """Every thing planned for a span or done in it, with what became of it; sums by depot and month. Raises InputError."""
    if since > until:
        raise InputError("since", "lies behind the last day")
    if (until - since).days > MOST_DAYS:
        raise InputError("since", "at most three years at a time")
    rows: list[dict[str, Any]] = []
    by_month: dict[tuple[str, str], Sums] = {}
    seen: set[int] = set()
    whole = Sums("", "")
    for r in connection.execute(query("weeks.done_between"), {"since": since, "until": until}).fetchall():
        done = r["task_done_on"]
        found = kept_plan.kept(
            r["first_on"].toordinal(), done.toordinal() if done else None, today.toordinal(), r["due_day"].toordinal(), r["life_days"],
            r["litres"] if r["key"].startswith("drain:") else None,
        )  # fmt: skip
        if done is None and r["state"] == "done":
            found = kept_plan.Kept("missed", None, found.unused_l, found.over_l)
        rows.append(
            {**r, "word": found.word, "words": WORDS[found.word], "days": found.days, "unused_l": found.unused_l, "over_l": found.over_l}
        )
        at = (r["depot"] or "no depot", f"{r['first_on']:%Y-%m}")
        month = by_month.setdefault(at, Sums(*at))
        for s in (month, whole):
            s.add(found)
        if r["visit_id"] not in seen:
            seen.add(r["visit_id"])
            if r["took_h"] is not None:
                for s in (month, whole):
                    s.planned_h, s.took_h, s.timed = s.planned_h + r["hours"], s.took_h + r["took_h"], s.timed + 1
    months: dict[str, list[Sums]] = defaultdict(list)
    for (depot, _), s in sorted(by_month.items()):
        months[depot].append(s)
    return {"since": since, "until": until, "rows": rows, "months": dict(months), "whole": whole, "visits": len(seen)}


def table(found: dict[str, Any]) -> list[dict[str, Any]]:
    """One row a thing planned, for other programs."""
    return [
        {"depot": r["depot"], "unit": r["unit"], "what": r["what"], "first_planned": r["first_on"], "planned": r["on_day"],
         "due": r["due_day"], "done": r["task_done_on"], "kept": WORDS[r["word"]], "days_after_plan": r["days"],
         "oil_life_unused_l": round(r["unused_l"], 2),
         "oil_life_over_l": round(r["over_l"], 2), "planned_h": r["hours"], "took_h": r["took_h"]}
        for r in found["rows"]
    ]  # fmt: skip
