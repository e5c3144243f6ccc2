"""Prices: versions by fleet, family and unit, each from a day on; never rewritten."""

from __future__ import annotations

import json
import math
from dataclasses import dataclass
from datetime import date
from typing import Any

from vornet.core.errors import FormErrors, InputError
from vornet.core.prices import PRICES, Said, nearest
from vornet.flows.house import fleets
from vornet.store import queue
from vornet.store.database import Connection, query

#: more than any of these costs anywhere
MOST = 1e9
SCOPE_WORDS = {"fleet": "the whole fleet", "family": "a family", "unit": "one unit"}


@dataclass(frozen=True)
class PriceList:
    """Prices in force on a day: by (scope, place), and the currency they are in ('' none chosen)."""

    rows: dict[tuple[str, str], dict[str, float]]
    currency: str

    def of(self, family: str, unit: str) -> dict[str, Said]:
        """What holds for a compartment of a family on a unit."""
        places = {"unit": unit, "family": family, "fleet": ""}
        return nearest({scope: self.rows.get((scope, place), {}) for scope, place in places.items()})


def in_force(connection: Connection, today: date) -> PriceList:
    rows = connection.execute(query("money.prices"), {"today": today}).fetchall()
    currency = connection.execute(query("money.currency")).fetchone()
    assert currency is not None
    return PriceList({(r["scope"], r["place"]): r["prices"] for r in rows}, currency["currency"])


def versions(connection: Connection) -> list[dict[str, Any]]:
    """Every version, the newest first."""
    return connection.execute(query("money.price_versions")).fetchall()


def places(connection: Connection) -> dict[str, list[str]]:
    row = connection.execute(query("money.places")).fetchone()
    assert row is not None
    return {"family": list(row["families"]), "unit": list(row["units"])}


def set_currency(connection: Connection, fleet_id: int, by: str, text: str) -> None:
    """What money is counted in: three letters as banks write them. Raises InputError."""
    currency = text.strip().upper()
    if len(currency) != 3 or not currency.isascii() or not currency.isalpha():
        raise InputError("currency", f"{text.strip()[:20]!r} is not three letters such as EUR, NOK or USD")
    was = connection.execute(query("money.currency")).fetchone()
    assert was is not None
    if was["currency"] == currency:
        return
    connection.execute(query("money.put_currency"), {"currency": currency})
    fleets.audit(connection, fleet_id, by, "currency set", currency, was=was["currency"])


def put(
    connection: Connection, fleet_id: int, by: str, scope: str, place: str, effective_from: date, given: dict[str, float | None],
) -> None:  # fmt: skip
    """A new version of what one place says; a price left out is not said there. Raises FormErrors by key."""
    errors: dict[str, str] = {}
    if scope not in SCOPE_WORDS:
        errors["scope"] = f"one of {', '.join(SCOPE_WORDS)}"
    known = places(connection)
    if scope == "fleet":
        place = ""
    elif scope in known and place not in known[scope]:
        errors["place"] = f"choose a {scope} of this fleet"
    for key, value in given.items():
        if key not in PRICES:
            errors[key] = "is not a price that is kept"
        elif value is not None and not (math.isfinite(value) and 0 <= value <= MOST):
            errors[key] = f"lies outside 0 to {MOST:.0f}"
    kept = {key: value for key, value in given.items() if value is not None}
    if errors:
        raise FormErrors(errors)
    queue.hold(connection, "prices")
    was = in_force(connection, effective_from).rows.get((scope, place), {})
    if kept == was:
        raise InputError("prices", "are as they were: nothing was kept")
    connection.execute(
        query("money.put_price"),
        {"fleet_id": fleet_id, "scope": scope, "place": place, "effective_from": effective_from, "prices": json.dumps(kept), "by": by},
    )
    fleets.audit(
        connection, fleet_id, by, "prices set", place or SCOPE_WORDS["fleet"], effective_from=str(effective_from), **fleets.changed(was, kept)
    )
