"""Labs: what their headings mean, how their files come in, and asking them for what is new."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Callable, Iterable
from datetime import date
from pathlib import Path
from typing import Any

from vornet.core.errors import InputError
from vornet.core.measurands import INDEX
from vornet.flows.house import fleets
from vornet.flows.lab import files
from vornet.io.lab_header import CONTEXT, Meaning, said_key, unit_factor
from vornet.io.lab_link import FolderLab, HttpLab, LabLink, LabTrouble
from vornet.store import secrets
from vornet.store.database import Connection, Database, StoreError, clone_dir, query

WAYS = {"hand": "files are dropped by hand", "pull": "asked over its interface", "folder": "a drop folder is watched"}


def meanings(connection: Connection, lab: str) -> dict[str, Meaning]:
    """What people have said of a lab's headings, by heading."""
    row = connection.execute(query("labs.lab_named"), {"name": lab}).fetchone()
    if row is None:
        return {}
    return {heading: Meaning(m["key"], m.get("unit", "")) for heading, m in row["meanings"].items()}


def note(connection: Connection, fleet_id: int, names: Iterable[str], by: str) -> None:
    """List labs that results came from."""
    for name in sorted(n for n in names if n):
        connection.execute(query("labs.note"), {"fleet_id": fleet_id, "name": name[:80], "by": by})


def explain(connection: Connection, fleet_id: int, lab: str, said: dict[str, Meaning], by: str) -> None:
    """Remember what a lab's headings mean. Raises InputError when a unit does not fit its measurand."""
    if not lab.strip():
        raise InputError("lab", "name the lab, so that its headings are remembered")
    for heading, meaning in said.items():
        if meaning.key and meaning.key not in INDEX and meaning.key not in CONTEXT:
            raise InputError(heading, f"{meaning.key!r} is neither a measurand nor a sample's fact")
        if meaning.key in INDEX and unit_factor(meaning.key, meaning.unit) is None:
            raise InputError(heading, f"{meaning.unit!r} is not a unit for it")
    note(connection, fleet_id, [lab], by)
    document = {said_key(h): {"key": m.key, "unit": m.unit} for h, m in said.items()}
    connection.execute(query("labs.explain"), {"name": lab, "meanings": json.dumps(document)})
    fleets.audit(connection, fleet_id, by, "headings explained", lab, headings=document)


def forget_meaning(connection: Connection, fleet_id: int, lab_id: int, heading: str, by: str) -> None:
    connection.execute(query("labs.forget_meaning"), {"lab_id": lab_id, "heading": heading})
    fleets.audit(connection, fleet_id, by, "heading forgotten", heading)


def put(
    connection: Connection, fleet_id: int, *, name: str, way: str, address: str, key: str, usual_days: int, depots: list[str], by: str
) -> int:
    """Make or change a lab. Raises InputError by field."""
    name, address = " ".join(name.split()), address.strip()
    if not 1 <= len(name) <= 80:
        raise InputError("name", "a lab has a name of 1 to 80 characters")
    if way not in WAYS:
        raise InputError("way", f"is one of {', '.join(WAYS)}")
    if way == "pull" and not re.match(r"https?://[\w.:\[\]-]+(/[\w./-]*)?$", address):
        raise InputError("address", "is the lab's interface, like https://lab.example/vornet")
    if way == "folder" and not re.fullmatch(r"[\w][\w .-]{0,60}", address):
        raise InputError("address", "is the name of a folder in the drop folder, without slashes")
    if not 1 <= usual_days <= 365:
        raise InputError("usual_days", "1 to 365 days")
    row = connection.execute(
        query("labs.put_lab"),
        {"fleet_id": fleet_id, "name": name, "way": way, "address": address, "key": secrets.seal(key.strip()), "usual_days": usual_days,
         "depots": depots, "by": by},
    ).fetchone()  # fmt: skip
    assert row is not None
    fleets.audit(connection, fleet_id, by, "lab set", name, way=way, address=address, usual_days=usual_days, depots=depots)
    return int(row["lab_id"])


def drop_root() -> Path:
    """Where drop folders live: VORNET_DROP, else beside the clone's other local files."""
    return Path(os.environ.get("VORNET_DROP") or clone_dir() / ".local" / "drop")


def link_to(lab: dict[str, Any], fleet_id: int) -> LabLink:
    """The adapter for a lab's way in."""
    if lab["way"] == "pull":
        return HttpLab(lab["address"], secrets.unseal(lab["key"]))
    return FolderLab(drop_root() / str(fleet_id) / lab["address"])


def parcel(connection: Connection, shipment: dict[str, Any], today: date) -> dict[str, Any]:
    """A shipment's packing list in the open shape labs are told it."""
    bottles = connection.execute(
        query("labs.bottles"), {"today": today, "shipment_id": shipment["shipment_id"], "bottle_id": None}
    ).fetchall()
    return {
        "number": shipment["number"], "sent_on": shipment["sent_on"].isoformat() if shipment["sent_on"] else None,
        "note": shipment["note"],
        "bottles": [
            {
                "sample_no": b["sample_no"], "unit": b["unit"], "compartment": b["compartment"], "sampled_on": b["drawn_on"].isoformat(),
                "meter": b["meter"], "oil_hours": b["oil_hours"], "meter_unit": b["meter_unit"], "oil": b["oil"], "batch": b["batch"],
                "topup_l": b["topup_l"], "drained": b["drain_id"] is not None,
            }
            for b in bottles
        ],
    }  # fmt: skip


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
        parcels = [(s, parcel(connection, s, today)) for s in untold]
        awaited = connection.execute(query("labs.awaited"), {"lab_id": lab["lab_id"]}).fetchall()
    for shipment, document in parcels:
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
