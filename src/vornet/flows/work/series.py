"""A change of oil, or a flush with the same one, as its series of drain-and-fills: so many cards, so far apart, until the old oil is below
an agreed share."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

from vornet.core import drain, volumes
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.register import units
from vornet.flows.work import cards
from vornet.store.database import Connection, query

#: more drain-and-fills than this are no plan
MOST = 8


@dataclass(frozen=True)
class Series:
    """``count`` drain-and-fills leave ``left`` (share) of the old oil; each takes ``litres`` L. ``one``: the share that one leaves."""

    oil: str
    count: int
    left: float
    one: float
    litres: float
    days: tuple[date, ...]


def plan(connection: Connection, compartment_id: int, oil: str, target: float, first: date, apart: int, today: date) -> Series:
    """What a change to ``oil`` takes. Raises InputError by field."""
    document = units.compartment_document(connection, compartment_id, today)
    known = {o["name"] for o in connection.execute(query("register.oils")).fetchall()}
    if oil not in known:
        raise InputError("oil", f"there is no oil named {oil!r} in the library")
    if not 0.001 <= target <= 0.5:
        raise InputError("target", "between 0.1 and 50 per cent of the old oil")
    if first < today:
        raise InputError("on", "a series begins today or later")
    if not 1 <= apart <= 60:
        raise InputError("apart", "one to sixty days between two of them, with running in between")
    sump = drain.sump_of(document)
    if not sump.holds_l or not sump.refill_l:
        raise InputError("compartment", "what it holds and what a refill takes are not both on record")
    count, left = volumes.flush(sump.holds_l, sump.refill_l, target)
    if count > MOST:
        raise InputError("target", f"that takes {count} drain-and-fills: empty it another way, or aim for more")
    days = tuple(first + timedelta(days=apart * n) for n in range(count))
    return Series(oil, count, left, 1 - sump.refill_l / sump.holds_l, sump.refill_l, days)


def make(
    connection: Connection, fleet_id: int, compartment_id: int, oil: str, target: float, first: date, apart: int, by: str, today: date
) -> list[int]:  # fmt: skip
    """The cards of a series; their ids. A bottle is drawn at the last one only, which tells whether it worked."""
    found = plan(connection, compartment_id, oil, target, first, apart, today)
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    assert row is not None
    what = "Flush with the same oil" if oil == row["oil"] else f"Change of oil to {oil}"
    out = []
    for n, on in enumerate(found.days, 1):
        last = n == found.count
        note = f"{what}: {n} of {found.count}, pour {oil}." + ("" if last else " Run it warm and stirred before the next.")
        out.append(cards.make(connection, fleet_id, row["unit_id"], [compartment_id], [], on, last, note, by))
    fleets.audit(
        connection, fleet_id, by, "change of oil planned", f"{row['unit']} {row['compartment']}", oil=oil, cards=out, left=found.left
    )
    return out
