"""Settling what was touched: whoever opened the transaction in which facts were recorded has them judged at its end."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date

from vornet.flows.judge import evaluate, in_force
from vornet.flows.plan import bands, planned, service
from vornet.store import queue
from vornet.store.database import Connection, Database

#: so many compartments are judged while somebody waits for a page; more go on the queue
AT_ONCE = 12
#: so many while somebody waits for a file to be taken in
AT_ONCE_FILE = 300


def settle(connection: Connection, fleet_id: int, today: date, at_once: int = AT_ONCE) -> int:
    """Judge what was touched, here for up to ``at_once`` compartments, by a worker for more; how many went on the queue."""
    touched = queue.take_touched(connection)
    if len(touched.compartments) > at_once:  # judged later; what is in force is told at once
        in_force.refresh(connection, fleet_id, None if touched.everything else list(touched.compartments))
    if touched.everything and len(touched.compartments) > at_once:
        queue.put_afresh(connection, fleet_id)
    elif touched.compartments and len(touched.compartments) > at_once:
        queue.put_evaluation(connection, fleet_id, touched.compartments)
    elif touched.compartments:
        only = None if touched.everything and len(touched.compartments) > AT_ONCE else list(touched.compartments)
        evaluate.evaluate_within(connection, fleet_id, today, only)
    if touched.units:
        service.refresh(connection, today, list(touched.units))
        bands.refresh(connection, today, list(touched.units))
    planned.follow(connection, today, touched.units, touched.compartments)
    return len(touched.compartments) if len(touched.compartments) > at_once else 0


@contextmanager
def settling(db: Database, fleet_id: int, today: date, at_once: int = AT_ONCE) -> Iterator[Connection]:
    """A transaction of a fleet in which facts are recorded; what they touched is settled at its end."""
    with db.fleet(fleet_id) as connection:
        yield connection
        settle(connection, fleet_id, today, at_once)
