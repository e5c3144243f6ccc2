"""A new fleet led by the hand: what comes first, what is there already, what was left aside."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house.people import Visitor
from vornet.store.database import Connection, query
from vornet.words.writing import figure


@dataclass(frozen=True)
class Step:
    """One step: its key, who may do it, what it is and what comes of it."""

    key: str
    right: str
    title: str
    why: str


STEPS: tuple[Step, ...] = (
    Step("units", "edit_register", "Your machines", "The list you keep, as it is. You see what it says before anything is kept."),
    Step(
        "depots",
        "edit_register",
        "Depots and crews",
        "Where machines stand, and which hours somebody works there: visits are laid on days by it.",
    ),
    Step(
        "oils",
        "edit_oils",
        "What the oils are when new",
        "Viscosity, base and acid number, additives of the new oil: what a used one is told from.",
    ),
    Step("people", "manage_people", "People", "A link for each: who drains, who reads results, who decides."),
    Step("results", "take_files", "A first lab file", "As the lab sends it: CSV or XLSX, any headings."),
    Step("verdict", "sign_verdict", "A first verdict", "Vornet proposes, with its reasons; somebody signs."),
    Step("interval", "see_intervals", "A first interval", "What the samples say about how long the oil lasts; approved by somebody by name."),
)


def _some(n: int, one: str, many: str = "") -> str:
    return f"{figure(n)} {one if n == 1 else many or one + 's'}"


def guide(connection: Connection, who: Visitor) -> dict[str, Any]:
    """Every step with what is there of it; which one is next; whether the guide is still on."""
    row = connection.execute(query("register.first_week")).fetchone()
    assert row is not None
    skipped = set(row["begun"].get("skipped", ()))
    there = {
        "units": row["units"], "depots": row["depots"], "oils": row["oils_known"], "people": max(row["people"] - 1, 0),
        "results": row["samples"], "verdict": row["signed"], "interval": row["approved"],
    }  # fmt: skip
    wait = f"; {_some(row['waits'], 'row')} of a list not in yet" if row["waits"] else ""
    words = {
        "units": f"{_some(row['units'], 'unit')}, {_some(row['compartments'], 'compartment')}{wait}",
        "depots": f"{_some(row['depots'], 'depot')} with hours",
        "oils": f"{figure(row['oils_known'])} of {figure(row['oils'])} oils with figures", "people": _some(row["people"], "person", "people"),
        "results": _some(row["samples"], "sample"), "verdict": f"{figure(row['signed'])} signed",
        "interval": f"{figure(row['approved'])} approved",
    }  # fmt: skip
    steps = [{"step": s, "done": there[s.key] > 0, "said": words[s.key], "skipped": s.key in skipped, "may": who.may(s.right)} for s in STEPS]
    following = next((s["step"].key for s in steps if not s["done"] and not s["skipped"] and s["may"]), None)
    done = sum(s["done"] for s in steps)
    on = bool(row["begun"]) and not row["begun"].get("over") and done < len(steps)
    return {"steps": steps, "next": following, "done": done, "on": on, "row": row}


def led(connection: Connection, who: Visitor) -> dict[str, Any] | None:
    """The guide where it is still on, None in a fleet that has left it (which is asked before anything is counted)."""
    row = connection.execute(query("register.begun")).fetchone()
    if row is None or not row["begun"] or row["begun"].get("over"):
        return None
    found = guide(connection, who)
    return found if found["on"] else None


def leave(connection: Connection, key: str) -> None:
    """Leave one step aside, take it up again, or (``all``) the whole guide. Raises InputError for what is no step."""
    row = connection.execute(query("register.first_week")).fetchone()
    assert row is not None
    begun = dict(row["begun"])
    if key == "all":
        begun["over"] = True
    elif key in {s.key for s in STEPS}:
        skipped = set(begun.get("skipped", ()))
        begun["skipped"] = sorted(skipped ^ {key})
    else:
        raise InputError("step", f"{key[:30]!r} is no step")
    connection.execute(query("register.set_begun"), {"begun": json.dumps(begun)})
