"""Putting work on the queue, and noting what a fact touched; always in the transaction that is open already.

The queue is PostgreSQL's, so that what is put there survives whoever was to do it. ``flows.worker`` does the work.
"""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from vornet.store.database import Connection, query

TAKE_IN, ASK_LABS, EVALUATE = "vornet:take_in", "vornet:ask_labs", "vornet:evaluate"
JUDGE_ALL, JUDGE_SHARE, JUDGE_END = "vornet:judge_all", "vornet:judge_share", "vornet:judge_end"
SETTLE, TAKE_UP = "vornet:settle", "vornet:take_up"
LEVEL, SEND, BACKUP, TELL, NEW_DAY = "vornet:level", "vornet:send", "vornet:backup", "vornet:tell", "vornet:new_day"


@dataclass(frozen=True)
class Touched:
    """What facts changed: compartments to be judged anew, units whose due dates follow; ``everything`` the whole fleet."""

    compartments: tuple[int, ...]
    units: tuple[int, ...]
    everything: bool


def _outside() -> Any:
    """Puts jobs on the queue over a connection that is handed to it; never opens one of its own."""
    import procrastinate

    global _app
    if _app is None:
        _app = procrastinate.App(connector=procrastinate.SyncPsycopgConnector())
    return _app


_app: Any = None


def put_file(connection: Connection, fleet_id: int, import_file_id: int) -> None:
    """Put a kept file on the queue."""
    _outside().configure_task(TAKE_IN, connection=connection, lock=f"file {fleet_id}/{import_file_id}").defer(
        fleet_id=fleet_id, import_file_id=import_file_id
    )


def put_evaluation(connection: Connection, fleet_id: int, compartments: Iterable[int]) -> None:
    """Put the evaluation of some compartments on the queue; once, however often asked, by however many at a time."""
    from procrastinate.exceptions import AlreadyEnqueued

    mine = sorted(compartments)
    which = hashlib.blake2b(",".join(map(str, mine)).encode(), digest_size=12).hexdigest()
    lock = f"evaluate {fleet_id}/{which}"
    while connection.execute(query("queue.evaluation_waits"), {"lock": lock}).fetchone() is None:
        task = _outside().configure_task(EVALUATE, connection=connection, lock=f"evaluate {fleet_id}", queueing_lock=lock)
        # somebody else's transaction may put the same there meanwhile: theirs then waits for the end of this one too
        with contextlib.suppress(AlreadyEnqueued), connection.transaction():
            task.defer(fleet_id=fleet_id, compartments=mine)


def put_afresh(connection: Connection, fleet_id: int) -> None:
    """Put the judging of a whole fleet on the queue; once, however often asked."""
    from procrastinate.exceptions import AlreadyEnqueued

    lock = f"judge all {fleet_id}"
    while connection.execute(query("queue.evaluation_waits"), {"lock": lock}).fetchone() is None:
        task = _outside().configure_task(JUDGE_ALL, connection=connection, lock=f"evaluate {fleet_id}", queueing_lock=lock)
        with contextlib.suppress(AlreadyEnqueued), connection.transaction():
            task.defer(fleet_id=fleet_id)


def judging_all(connection: Connection, fleet_id: int) -> bool:
    """Whether the judging of a whole fleet is on the queue, or begun."""
    return connection.execute(query("queue.judging_all"), {"task": JUDGE_ALL, "fleet_id": fleet_id}).fetchone() is not None


def put_shares(connection: Connection, fleet_id: int, run: str, shares: Iterable[int]) -> None:
    """Put the shares of a fleet on the queue; they may be judged beside one another."""
    for share in shares:
        task = _outside().configure_task(JUDGE_SHARE, connection=connection, lock=f"judge {fleet_id}/{share}")
        task.defer(fleet_id=fleet_id, run=run, share=share)


def put_ends(connection: Connection, fleet_id: int, run: str, parts: int) -> None:
    """Put what rests on all shares on the queue, in parts."""
    for part in range(parts):
        _outside().configure_task(JUDGE_END, connection=connection, lock=f"judge {fleet_id}/end {part}").defer(
            fleet_id=fleet_id, run=run, part=part
        )


def touch(connection: Connection, fleet_id: int, compartments: Iterable[int]) -> None:
    """Note that a fact about some compartments was recorded: they are to be judged anew."""
    connection.execute(query("queue.touch"), {"fleet_id": fleet_id, "what": "compartment", "ids": list(compartments)})


def touch_units(connection: Connection, units: Iterable[int]) -> None:
    """Note a fact about every compartment of some units."""
    connection.execute(query("queue.touch_units"), {"units": list(units)})


def touch_everything(connection: Connection) -> None:
    """Note a fact that every compartment of the fleet rests on."""
    connection.execute(query("queue.touch_everything"))


def touch_plans(connection: Connection, fleet_id: int, units: Iterable[int]) -> None:
    """Note that service items of some units, or what was done, changed: when they are due follows."""
    connection.execute(query("queue.touch"), {"fleet_id": fleet_id, "what": "plan", "ids": list(units)})


def hold(connection: Connection, what: str) -> None:
    """One at a time in this fleet at something, to the end of the transaction."""
    connection.execute(query("queue.hold"), {"what": what})


def take_touched(connection: Connection) -> Touched:
    """Everything that is touched, taken off."""
    rows = connection.execute(query("queue.touched")).fetchall()
    compartments = tuple(sorted({r["id"] for r in rows if r["what"] == "compartment"}))
    units = tuple(sorted({r["id"] for r in rows if r["what"] == "plan"}))
    count = connection.execute(query("queue.compartments")).fetchone() if compartments else None
    return Touched(compartments, units, count is not None and len(compartments) >= count["n"])


def put_levelling(connection: Connection, fleet_id: int, proposal_id: int) -> None:
    """Put the working out of a plan on the queue."""
    _outside().configure_task(LEVEL, connection=connection, lock=f"level {fleet_id}").defer(fleet_id=fleet_id, proposal_id=proposal_id)
