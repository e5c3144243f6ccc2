"""The 90 % band of the day that a drain or a service item is due, where a meter drives it."""

from __future__ import annotations

import math
from collections import defaultdict
from datetime import date

import numpy as np

from vornet.core import due as due_rules
from vornet.core import meter as meter_rules
from vornet.flows.house import meters
from vornet.store.database import Connection, query

#: what a meter drives; for the others the day is the day
BY_METER = ("meter", "break-in")


def refresh(connection: Connection, today: date, units: list[int] | None = None) -> None:
    """Work the bands of some units (or all) out anew; those that cannot be told are left empty."""
    rows = connection.execute(query("weeks.due_by_meter"), {"units": units}).fetchall()
    if not rows:
        return
    changes = meters.changes_by_meter(connection)
    points: dict[int, list[tuple[int, float]]] = defaultdict(list)
    for r in connection.execute(query("weeks.meter_points"), {"units": units, "today": today}).fetchall():
        day = r["on_day"].toordinal()
        points[r["meter_id"]].append((day, meter_rules.running_total(r["meter"], day, changes.get(r["meter_id"], []))))
    paces: dict[int, due_rules.Pace] = {}
    found: dict[str, tuple[list[int], list[date | None], list[date | None]]] = {"drain": ([], [], []), "item": ([], [], [])}
    for r in rows:
        first = last = None
        mine = points.get(r["meter_id"])
        if r["due_day"] is not None and r["driver"] in BY_METER and r["due_meter"] is not None and mine:
            if r["meter_id"] not in paces:
                paces[r["meter_id"]] = due_rules.pace_of(*(np.array(x, dtype=float) for x in zip(*mine, strict=True)))
            first, last = _band(paces[r["meter_id"]], mine[-1], r["due_meter"], r["due_day"])
        ids, firsts, lasts = found[r["what"]]
        ids.append(r["id"])
        firsts.append(first)
        lasts.append(last)
    drains, items = ({"ids": ids, "first": firsts, "last": lasts} for ids, firsts, lasts in (found["drain"], found["item"]))
    connection.execute(query("weeks.band"), drains)
    connection.execute(query("weeks.band_of_items"), items)


def _band(
    pace: due_rules.Pace, newest: tuple[int, float], due_total: float, due_day: date
) -> tuple[date | None, date | None]:  # fmt: skip
    rest = due_total - newest[1]
    band = due_rules.band_of(pace, rest) if rest > 0 else None
    if band is None:
        return None, None
    due = due_day.toordinal()
    first, last = min(newest[0] + math.floor(band[0]), due), max(newest[0] + math.floor(band[1]), due)
    return date.fromordinal(first), date.fromordinal(min(last, due + 3650))
