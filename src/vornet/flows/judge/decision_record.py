"""How a decision is kept beside where a compartment stands: its figures as JSON, its charges' slopes packed small.

Pages that list compartments read the figures alone; who opens the decision gets every charge's slope with it.
"""

from __future__ import annotations

import zlib
from typing import Any

from pydantic import TypeAdapter

from vornet.core.decision import Decision, charge_slopes_of

_DECISION = TypeAdapter(Decision)
_LATER: dict[str, Any] = {"running_as_is": None, "open_measurands": [], "next_sample": None, "act_now": None, "act_proposed": None}
_LATER_OF_A_PROPERTY: dict[str, Any] = {
    "state": "answered", "bend": None, "ref": None, "borrowed": False, "pace": None, "bounded": 0, "deepest": None, "chance_at_safe": None,
}  # fmt: skip


def packed(decision: Decision) -> tuple[str, bytes]:
    """(JSON without slopes, slopes as in ``Decision.slopes``, deflated)."""
    return _DECISION.dump_json(decision, exclude={"slopes", "reckoning"}).decode(), zlib.compress(decision.slopes, 1)


def typed(figures: dict[str, Any] | None) -> Decision | None:
    """A kept decision as core made it, without its slopes; None where nothing was decided."""
    found = opened(figures, None)
    return None if found is None else _DECISION.validate_python(found)


def opened(figures: dict[str, Any] | None, slopes: bytes | None) -> dict[str, Any] | None:
    """A kept decision with its slopes put back; ``slopes`` None: they are inside already, or there are none."""
    if figures is None:
        return None
    # kept by an earlier version: what it did not know yet, until the next evaluation
    figures = {**_LATER, **figures, "properties": [{**_LATER_OF_A_PROPERTY, **p} for p in figures["properties"]],
               "guards": [{"lifts": None, "worth": None, "limit": None, "ceiling": None, **g} for g in figures["guards"]]}  # fmt: skip
    if slopes is None:
        return figures
    by_property: dict[str, list[dict[str, Any]]] = {p["key"]: [] for p in figures["properties"]}
    for row in charge_slopes_of(zlib.decompress(slopes)):
        by_property[row.key].append({**row._asdict(), "why_not": "" if row.used else "a fault moved it"})
    return {**figures, "properties": [{**p, "slopes": by_property[p["key"]]} for p in figures["properties"]]}
