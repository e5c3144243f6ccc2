"""Asking labs: telling them what is on its way, and taking what is new."""

from __future__ import annotations

import os
from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import Any

from vornet.flows.lab import files, parcels
from vornet.io.lab_link import FolderLab, HttpLab, LabLink, LabTrouble
from vornet.store import secrets
from vornet.store.database import Connection, Database, StoreError, clone_dir, query


def drop_root() -> Path:
    """Where drop folders live: VORNET_DROP, else beside the clone's other local files."""
    return Path(os.environ.get("VORNET_DROP") or clone_dir() / ".local" / "drop")


def link_to(lab: dict[str, Any], fleet_id: int) -> LabLink:
    """The adapter for a lab's way in."""
    if lab["way"] == "pull":
        return HttpLab(lab["address"], secrets.unseal(lab["key"]))
    return FolderLab(drop_root() / str(fleet_id) / lab["address"])


def ask(
    db: Database,
    fleet_id: int,
    today: date,
    take_in: Callable[[Connection, int, int], None],
    link: Callable[[dict[str, Any], int], LabLink] = link_to,
) -> dict[str, int]:
    """Tell every lab of a fleet what is on its way, and take what is new: reports kept and read, bottles received.

    ``take_in(connection, fleet_id, import_file_id)`` hands a kept report on, inside the transaction that keeps it.
    A lab that cannot be reached is noted with its trouble; the others go on.
    """
    with db.fleet(fleet_id) as connection:
        waiting = connection.execute(query("labs.to_ask")).fetchall()
    counts = {"told": 0, "received": 0, "reports": 0, "trouble": 0}
    for lab in waiting:
        trouble = ""
        try:
            _ask_one(db, fleet_id, lab, link(lab, fleet_id), today, take_in, counts)
        except (LabTrouble, StoreError) as error:
            trouble = str(error)
            counts["trouble"] += 1
        with db.fleet(fleet_id) as connection:
            connection.execute(query("labs.asked"), {"lab_id": lab["lab_id"], "trouble": trouble})
    return counts


def _ask_one(
    db: Database, fleet_id: int, lab: dict[str, Any], way: LabLink, today: date,
    take_in: Callable[[Connection, int, int], None], counts: dict[str, int],
) -> None:  # fmt: skip
    with db.fleet(fleet_id) as connection:
        untold = connection.execute(query("labs.to_tell"), {"lab_id": lab["lab_id"]}).fetchall()
        untold_lists = [(s, parcels.told(connection, s, today)) for s in untold]
        awaited = connection.execute(query("labs.awaited"), {"lab_id": lab["lab_id"]}).fetchall()
    for shipment, document in untold_lists:
        trouble = ""
        try:
            way.tell(document)
            counts["told"] += 1
        except LabTrouble as error:
            trouble = str(error)
        with db.fleet(fleet_id) as connection:
            connection.execute(query("labs.told"), {"shipment_id": shipment["shipment_id"], "trouble": trouble})
        if trouble:
            raise LabTrouble(trouble)
    for shipment in awaited:
        try:
            arrived = way.received(shipment["number"])
        except LabTrouble as error:
            with db.fleet(fleet_id) as connection:
                connection.execute(query("labs.parcel_trouble"), {"shipment_id": shipment["shipment_id"], "trouble": str(error)[:300]})
            continue
        with db.fleet(fleet_id) as connection:
            for sample_no, on in arrived.items():
                found = connection.execute(query("labs.receive"), {"sample_no": sample_no, "on": on}).fetchone()
                counts["received"] += found is not None
    for report in way.reports(lab["cursor"]):
        with db.fleet(fleet_id) as connection:
            kept = files.keep(connection, fleet_id, report.content, name=report.name, lab=lab["name"], by=lab["name"], way=lab["way"])
            if not kept.known:
                take_in(connection, fleet_id, kept.import_file_id)
                counts["reports"] += 1
            if report.cursor:
                connection.execute(query("labs.move_cursor"), {"lab_id": lab["lab_id"], "cursor": report.cursor})
        way.kept(report)
