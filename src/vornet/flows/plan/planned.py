"""Visits that are planned: following what was done, and when the next one is."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from typing import Any

from vornet.store.database import Connection, query


def follow(connection: Connection, today: date, units: Iterable[int] | None = None, compartments: Iterable[int] = ()) -> None:
    """What was done since a visit was planned counts for it, by whichever way it came on record; a visit with nothing left to do, or
    whose card is closed, is done. ``units``, ``compartments``: looked at alone (None: all)."""
    connection.execute(query("weeks.free_of_cards"))
    among = {"units": None if units is None else list(units), "compartments": list(compartments)}
    connection.execute(query("weeks.tasks_undone"), {"units": among["units"] or [], "compartments": among["compartments"]})
    connection.execute(query("weeks.tasks_done"), {"today": today, **among})
    connection.execute(query("weeks.visits_done"), {"today": today})
    if among["compartments"]:
        connection.execute(query("weeks.placeless_done"), {"compartments": among["compartments"]})


def next_of_units(connection: Connection, units: Iterable[int]) -> dict[int, dict[str, Any]]:
    """The next visit by unit."""
    return {r["unit_id"]: r for r in connection.execute(query("weeks.next_visits"), {"units": list(units)}).fetchall()}


def next_by_key(connection: Connection, keys: Iterable[str]) -> dict[str, dict[str, Any]]:
    """The next visit by what is done in it: 'drain:ID', 'item:ID', 'bottle:ID'."""
    return {r["key"]: r for r in connection.execute(query("weeks.next_by_key"), {"keys": list(keys)}).fetchall()}
