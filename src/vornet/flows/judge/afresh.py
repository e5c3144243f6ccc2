"""A whole fleet judged afresh in shares: screened once, then families by families, by as many workers as there are.

Each step is a job in a transaction of its own; whoever ends the last share puts the end on the queue. A run that a later one has
overtaken does nothing more.
"""

from __future__ import annotations

import uuid
from datetime import date
from zlib import crc32

import numpy as np

from vornet.flows.judge import aside, evaluate, in_force, learned, taught, turns
from vornet.flows.judge.fleet_history import Loaded, load, without_held
from vornet.flows.plan import bands, service
from vornet.store import queue
from vornet.store.database import Connection, query

#: shares that a fleet is judged in, where it is too large for one; parts in which its units' days follow
SHARES, ENDS = 8, 4
assert turns.GROUPS % SHARES == 0, "shares would wait for one another"


def begin(connection: Connection, fleet_id: int, today: date) -> None:
    """Screen the fleet and put its shares on the queue; a fleet of one share is judged at once."""
    turns.hold_families(connection, None)
    in_force.refresh(connection, fleet_id)
    loaded = load(connection, today)
    if len(loaded.sample_ids) <= evaluate.AT_ONCE:
        evaluate.evaluate_within(connection, fleet_id, today)
        return
    known = {r["part"]: bytes(r["digest"]) for r in connection.execute(query("history.digests"))}
    left_out = aside.Aside(connection, fleet_id, loaded, None)
    evaluate.screened(connection, fleet_id, loaded, today, None, left_out, known.get(""))
    left_out.settle()
    families: dict[int, list[str]] = {}
    samples = np.bincount(loaded.history.compartments.family[loaded.history.samples.comp], minlength=len(loaded.families))
    sizes: dict[int, int] = {}
    for name, n in zip(loaded.families, samples.tolist(), strict=True):
        share = crc32(name.encode()) % SHARES
        families.setdefault(share, []).append(name)
        sizes[share] = sizes.get(share, 0) + n
    run = str(uuid.uuid4())
    connection.execute(query("history.drop_shares"))
    for share, names in families.items():
        connection.execute(query("history.put_share"), {"fleet_id": fleet_id, "run": run, "share": share, "families": names})
    connection.execute(query("history.judged_on"), {"today": today})
    queue.put_shares(connection, fleet_id, run, sorted(families, key=lambda share: -sizes[share]))  # the longest first


def judge_share(connection: Connection, fleet_id: int, run: str, share: int, today: date) -> None:
    """Judge and write one share of a run."""
    row = connection.execute(query("history.share"), {"run": run, "share": share}).fetchone()
    if row is None:
        return  # done, or overtaken by a later run
    ids = [r["compartment_id"] for r in connection.execute(query("history.of_families"), {"families": row["families"]})]
    if ids:
        _judge(connection, fleet_id, ids, row["families"], today)
    queue.hold(connection, "shares")  # whoever is last sees that they are
    left = connection.execute(query("history.share_done"), {"run": run, "share": share}).fetchone()
    if left is not None and left["n"] == 0:
        queue.put_ends(connection, fleet_id, run, ENDS)


def _judge(connection: Connection, fleet_id: int, ids: list[int], families: list[str], today: date) -> None:
    turns.hold_families(connection, families)
    loaded = without_held(connection, load(connection, today, ids))
    left_out = aside.Aside(connection, fleet_id, loaded, ids)
    mine = set(ids)
    left_out.found |= {r["compartment_id"]: r["trouble"] for r in aside.list_of(connection) if r["compartment_id"] in mine}
    loaded = loaded.without(np.isin(loaded.compartment_ids, list(left_out.found)))
    signed = taught.signed_verdicts(connection, ids)

    def judged(some: Loaded) -> Loaded:
        evaluate.judge_and_write(connection, fleet_id, some, today, signed, None, left_out)
        return some

    for _, keep in evaluate.parts_of(loaded):
        left_out.through(loaded.part(keep), judged, evaluate.tried)
    connection.execute(query("history.forget_parts"), {"families": families})  # not what these rows were worked from any more
    left_out.settle()


def end(connection: Connection, fleet_id: int, run: str, part: int, today: date) -> None:
    """What rests on every share, of one part of the units: when services and drains are due; with the first part of the whole fleet what
    the register's figures are against what was poured, and the order."""
    if connection.execute(query("history.run_over"), {"run": run}).fetchone() is None:
        return
    units = [r["unit_id"] for r in connection.execute(query("history.units_in_part"), {"parts": ENDS, "part": part})]
    if units:
        service.refresh(connection, today, units)
        bands.refresh(connection, today, units)
    if part == 0:
        learned.refresh(connection, fleet_id)
        connection.execute(query("history.rank"), {"only": None})
