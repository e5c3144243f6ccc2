"""Histories that stop the judgement are found by halving, left out by name, and tried again every time."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any

import numpy as np
import psycopg

from vornet.flows.judge.fleet_history import Loaded
from vornet.store.database import Connection, query

log = logging.getLogger("vornet")
#: no more than so many are looked for one by one: with more something else is wrong
MOST = 64


class Aside:
    """Who was left out of one evaluation."""

    def __init__(self, connection: Connection, fleet_id: int, loaded: Loaded, written: list[int] | None) -> None:
        self._connection, self._fleet_id, self._written = connection, fleet_id, written
        self._names = {int(i): f"{r['unit']} {r['name']}" for i, r in zip(loaded.compartment_ids.tolist(), loaded.register, strict=True)}
        self.found: dict[int, str] = {}

    @property
    def ids(self) -> set[int]:
        return set(self.found)

    def through(self, loaded: Loaded, step: Callable[[Loaded], Loaded], alone: Callable[[Loaded], object]) -> Loaded:
        """What ``step`` makes of it, all or, if that fails, without the compartments that ``alone`` fails for too; what a failed
        try wrote is undone. Failures of the database are nobody's history and go on up."""
        while True:
            try:
                with self._connection.transaction():
                    return step(loaded)
            except psycopg.Error:
                raise
            except Exception as error:
                culprits = self._culprits(loaded, alone, np.arange(len(loaded.compartment_ids)))
                if not culprits or len(self.found) > MOST:
                    raise
                log.error("histories set aside: %s", [self._names[i] for i in culprits], exc_info=error)
                self.found |= culprits
                loaded = loaded.without(np.isin(loaded.compartment_ids, list(culprits)))

    def _culprits(self, loaded: Loaded, alone: Callable[[Loaded], object], some: np.ndarray) -> dict[int, str]:
        """Compartments without whose histories it goes, and why each stopped it."""
        out = ~np.isin(np.arange(len(loaded.compartment_ids)), some)
        try:
            alone(loaded.without(out))
        except psycopg.Error:
            raise
        except Exception as error:
            if len(some) == 1:
                return {int(loaded.compartment_ids[some[0]]): _said(error)}
            half = len(some) // 2
            return self._culprits(loaded, alone, some[:half]) | self._culprits(loaded, alone, some[half:])
        return {}

    def settle(self) -> list[dict[str, Any]]:
        """Write down who was left out, take back who no longer is; all that stand aside: {unit, compartment, trouble}."""
        self._connection.execute(query("history.take_back"), {"only": self._written, "but": list(self.found)})
        with self._connection.cursor() as cursor:
            cursor.executemany(
                query("history.put_aside"), [{"fleet_id": self._fleet_id, "compartment_id": i, "trouble": t} for i, t in self.found.items()]
            )
        return [{k: r[k] for k in ("unit", "compartment", "trouble")} for r in list_of(self._connection)]


def list_of(connection: Connection) -> list[dict[str, Any]]:
    """Who stands aside, longest first: {compartment_id, unit, compartment, trouble, since}."""
    return connection.execute(query("history.set_aside")).fetchall()


def _said(error: Exception) -> str:
    """A failure in one plain line."""
    text = " ".join(str(error).split())[:300]
    return f"{type(error).__name__}: {text}" if text else type(error).__name__
