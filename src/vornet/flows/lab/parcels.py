"""Bottles on their way: drawn, sent, received, reported, screened, judged; parcels with a packing list; what is late."""

from __future__ import annotations

import json
import re
from datetime import date
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import days, fleets
from vornet.store.database import Connection, query

STATES = ("drawn", "sent", "received", "reported", "screened", "judged", "lost")
STATE_WORDS = {
    "drawn": "at the unit or on the shelf", "sent": "on its way to the lab", "received": "the lab has it",
    "reported": "a result is in: held for a person, or not screened yet", "screened": "the result can be true and waits for a verdict",
    "judged": "a verdict on it is signed", "lost": "given up",
}  # fmt: skip
HOW = {"mid_stream": "mid-stream at the drain", "valve": "from the sampling valve", "tube": "by vacuum tube through the dipstick"}


def shown(connection: Connection, today: date, shipment_id: int | None = None, bottle_id: int | None = None) -> list[dict[str, Any]]:
    """Bottles with their state, newest first: all that are under way, and those of the last weeks."""
    return connection.execute(query("labs.bottles"), {"today": today, "shipment_id": shipment_id, "bottle_id": bottle_id}).fetchall()


def overview(connection: Connection, today: date) -> dict[str, Any]:
    """What a sample room needs: bottles to send, under way, late; parcels; labs with their turnaround; silent drains."""
    bottles = shown(connection, today)
    return {
        "to_send": [b for b in bottles if b["state"] == "drawn" and b["shipment_id"] is None],
        "away": [b for b in bottles if b["state"] in ("drawn", "sent", "received") and b["shipment_id"] is not None],
        "back": [b for b in bottles if b["state"] in ("reported", "screened", "judged", "lost")][:60],
        "shipments": shipments(connection, today), "labs": connection.execute(query("labs.labs"), {"today": today}).fetchall(),
        "silent": connection.execute(query("labs.silent_drains"), {"today": today}).fetchall(),
        "counts": {s: sum(b["state"] == s for b in bottles) for s in STATES},
        "late": sum(bool(b["late"]) for b in bottles),
    }  # fmt: skip


def shipments(connection: Connection, today: date, shipment_id: int | None = None) -> list[dict[str, Any]]:
    return connection.execute(query("labs.shipments"), {"today": today, "shipment_id": shipment_id}).fetchall()


def _number(text: str) -> str:
    number = " ".join(text.split())
    if not re.fullmatch(r"[\w][\w ./-]{0,39}", number):
        raise InputError("sample_no", "the number on the label: letters, figures, dashes, up to 40")
    return number


def draw(
    connection: Connection, fleet_id: int, *, sample_no: str, compartment_id: int | None, oil_id: int | None, batch: str, on: date,
    meter: float | None, conditions: dict[str, Any], by: str, today: date,
) -> int:  # fmt: skip
    """Register a bottle drawn between drains, or of new oil (no compartment; oil and batch). Raises InputError by field."""
    number = _number(sample_no)
    days.check_past(connection, on, today, compartment_id=compartment_id)
    oil_hours = topup = None
    if compartment_id is not None:
        place = connection.execute(query("labs.place_bottle"), {"compartment_id": compartment_id, "on": on}).fetchone()
        if place is None:
            raise InputError("compartment", "there is no such compartment")
        oil_id, batch = place["oil_id"], ""
        if meter is not None and place["filled_at"] is not None:
            if meter < place["filled_at"] - 0.05:
                raise InputError("meter", f"is behind the last fill at {place['filled_at']:.1f}: read it again")
            oil_hours = meter - place["filled_at"]
        added = connection.execute(query("jobs.topped_up_since"), {"compartment_id": compartment_id, "since": place["filled_on"]}).fetchone()
        topup = added["litres"] if added else None
    elif oil_id is None or connection.execute(query("labs.oil_of_batch"), {"oil_id": oil_id}).fetchone() is None:
        raise InputError("oil", "a bottle of new oil names its oil")
    row = connection.execute(
        query("labs.put_bottle"),
        {"fleet_id": fleet_id, "sample_no": number, "compartment_id": compartment_id, "drawn_on": on, "meter": meter,
         "oil_hours": oil_hours, "oil_id": oil_id, "batch": batch.strip()[:80], "topup_l": topup,
         "conditions": json.dumps({k: v for k, v in conditions.items() if v not in (None, "")}), "by": by},
    ).fetchone()  # fmt: skip
    if row is None:
        raise InputError("sample_no", f"bottle {number} was drawn before: look at the label again")
    if compartment_id is None and batch.strip():
        connection.execute(query("labs.name_batch"), {"sample_no": number, "oil_id": oil_id, "batch": batch.strip()})
    fleets.audit(connection, fleet_id, by, "bottle drawn", number, on=on, new_oil=compartment_id is None)
    return int(row["bottle_id"])


def lab_for(connection: Connection, today: date, depots: list[str | None]) -> int | None:
    """The lab that the depots' bottles usually go to: one that names them, else one that takes any, else the only one."""
    known = connection.execute(query("labs.labs"), {"today": today}).fetchall()
    wanted = {d for d in depots if d}
    for lab in known:
        if wanted and wanted <= set(lab["depots"]):
            return int(lab["lab_id"])
    open_to_all = [lab for lab in known if not lab["depots"]]
    if open_to_all:
        return int(open_to_all[0]["lab_id"])
    return int(known[0]["lab_id"]) if known else None


def pack(connection: Connection, fleet_id: int, bottle_ids: list[int], lab_id: int, note: str, by: str, today: date) -> int:
    """Put bottles into a new parcel to a lab. Raises InputError when none of them is free."""
    if not bottle_ids:
        raise InputError("bottles", "choose the bottles that go into the parcel")
    lab = connection.execute(query("labs.lab"), {"lab_id": lab_id}).fetchone()
    if lab is None:
        raise InputError("lab", "choose the lab it goes to")
    connection.execute(query("labs.number_parcels_one_by_one"), {"fleet_id": fleet_id})
    year = connection.execute(query("labs.last_of_year"), {"like": f"P{today:%y}-%"}).fetchone()
    assert year is not None
    row = connection.execute(
        query("labs.make_shipment"),
        {"fleet_id": fleet_id, "number": f"P{today:%y}-{year['n'] + 1:04d}", "lab_id": lab_id, "made_on": today, "note": note.strip()[:300],
         "by": by},
    ).fetchone()  # fmt: skip
    assert row is not None
    packed = connection.execute(query("labs.pack"), {"shipment_id": row["shipment_id"], "bottles": bottle_ids}).rowcount
    if not packed:
        raise InputError("bottles", "all of them are in a parcel already")
    fleets.audit(connection, fleet_id, by, "parcel made", str(row["shipment_id"]), bottles=packed, lab=lab["name"])
    return int(row["shipment_id"])


def unpack(connection: Connection, fleet_id: int, bottle_id: int, by: str) -> None:
    """Take a bottle out of a parcel that has not left; an empty parcel goes away."""
    row = connection.execute(query("labs.unpack"), {"bottle_id": bottle_id}).fetchone()
    if row is None:
        raise InputError("bottle", "is in no parcel, or the parcel has left")
    connection.execute(query("labs.drop_empty"), {"shipment_id": row["shipment_id"]})
    fleets.audit(connection, fleet_id, by, "bottle taken out of its parcel", row["sample_no"])


def send(connection: Connection, fleet_id: int, shipment_id: int, on: date, by: str, today: date) -> None:
    """The parcel has left. The lab is told when it is next asked."""
    if on > days.latest(connection, today):
        raise InputError("on", "this day is still to come")
    row = connection.execute(query("labs.send"), {"shipment_id": shipment_id, "on": on, "by": by}).fetchone()
    if row is None:
        raise InputError("shipment", "has left already, or is not there")
    fleets.audit(connection, fleet_id, by, "parcel sent", row["number"], on=on)


def receive(connection: Connection, fleet_id: int, sample_no: str, on: date, by: str) -> None:
    """The lab says by telephone that it has a bottle."""
    if connection.execute(query("labs.receive"), {"sample_no": sample_no, "on": on}).fetchone() is None:
        raise InputError("sample_no", f"there is no bottle {sample_no} on its way")
    fleets.audit(connection, fleet_id, by, "bottle received by the lab", sample_no, on=on)


def lose(connection: Connection, fleet_id: int, bottle_id: int, why: str, by: str, today: date) -> None:
    """Give a bottle up, with the reason. Its compartment counts as not sampled."""
    if not why.strip():
        raise InputError("why", "say in a few words what became of it")
    row = connection.execute(query("labs.lose"), {"bottle_id": bottle_id, "on": today, "why": why.strip()[:300], "by": by}).fetchone()
    if row is None:
        raise InputError("bottle", "is given up already, or is not there")
    fleets.audit(connection, fleet_id, by, "bottle given up", row["sample_no"], why=why.strip()[:300])


def find_again(connection: Connection, fleet_id: int, bottle_id: int, by: str) -> None:
    row = connection.execute(query("labs.find_again"), {"bottle_id": bottle_id}).fetchone()
    if row is not None:
        fleets.audit(connection, fleet_id, by, "bottle found again", row["sample_no"])


def change(connection: Connection, fleet_id: int, bottle_id: int, do: str, why: str, by: str, today: date) -> None:
    """A bottle given up (``lose``), found again (``find``) or taken out of its parcel (``unpack``). Raises InputError by field."""
    if do == "lose":
        lose(connection, fleet_id, bottle_id, why, by, today)
    elif do == "find":
        find_again(connection, fleet_id, bottle_id, by)
    elif do == "unpack":
        unpack(connection, fleet_id, bottle_id, by)
    else:
        raise InputError("do", "lose, find or unpack")


def packing_list(connection: Connection, shipment_id: int, today: date) -> dict[str, Any] | None:
    """A parcel with its bottles as people and labs read it, or None."""
    found = shipments(connection, today, shipment_id)
    if not found:
        return None
    return {"shipment": found[0], "bottles": shown(connection, today, shipment_id)[::-1],
            "document": told(connection, found[0], today)}  # fmt: skip


def told(connection: Connection, shipment: dict[str, Any], today: date) -> dict[str, Any]:
    """A shipment in the open shape in which labs are told of it."""
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
