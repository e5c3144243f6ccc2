"""The demo's bottles: parcels of the last months, some still on their way to the lab that does not exist, one forgotten."""

from __future__ import annotations

import json
from collections import defaultdict
from datetime import date, timedelta
from typing import Any

from vornet.flows.lab import labs
from vornet.io.lab_header import Meaning
from vornet.sim import lab
from vornet.sim.fleet import LAB
from vornet.store.database import Connection, query

DAYS = 75
DEPOTS = {"holm": ["Vessary Quay", "Morvane Town"], "kaj": ["Northholm Pier", "Northholm Power"],
          "pier": ["Ostrelle Power", "Quenholm Power", "Dellarow Digester"]}  # fmt: skip
assert lab.DESKS["holm"] == LAB


def set_up(connection: Connection, fleet_id: int, address: str) -> dict[str, int]:
    """The three desks as labs of the fleet; what Kaj Nord's headings mean has been said once."""
    ids = {}
    for desk, name in lab.DESKS.items():
        ids[desk] = labs.put(
            connection, fleet_id, name=name, way="pull", address=f"{address}/{desk}", key=lab.KEY, usual_days=10,
            depots=DEPOTS[desk], by="demo",
        )  # fmt: skip
    said = {h: Meaning(k, u) for h, (k, u) in lab.kaj_headings().items()}
    known = labs.meanings(connection, lab.DESKS["kaj"])
    if not known:
        labs.explain(connection, fleet_id, lab.DESKS["kaj"], said, "Tomas Querrin")
    return ids


def load(connection: Connection, fleet_id: int, ids: dict[str, int], truth: list[dict[str, Any]], until: date) -> None:
    """Bottles and parcels of the last weeks, once: what has been reported travelled in parcels of its week; what has not
    is with the lab, on its way, or still on the shelf."""
    if connection.execute(query("labs.shipments"), {"today": until, "shipment_id": None}).fetchone():
        return
    places = {(r["unit"], r["compartment"]): r for r in connection.execute(query("results.places")).fetchall() if r["compartment_id"]}
    depot_of = {r["unit"]: r["depot"] for r in connection.execute(query("units.depots_of_units")).fetchall()}
    desk_of = {d: desk for desk, depots in DEPOTS.items() for d in depots}
    reported = {r["sample_no"] for r in connection.execute(query("results.numbers")).fetchall()}
    weeks: dict[tuple[date, str, bool], list[int]] = defaultdict(list)
    shelf = 0
    for n, bottle in enumerate(sorted(truth, key=lambda b: (b["on"], b["sample_no"]))):
        on = date.fromisoformat(bottle["on"])
        place = places.get((bottle["unit"], bottle["compartment"]))
        if on < until - timedelta(days=DAYS) or place is None:
            continue
        minutes = 8 + 5 * (n % 4)
        drawn: dict[str, Any] = {"sample_how": "mid_stream", "warmth": "warm", "minutes": minutes}
        if n % 17 == 5:
            drawn = {"sample_how": "valve", "warmth": "cool"}
        row = connection.execute(
            query("labs.put_bottle"),
            {"fleet_id": fleet_id, "sample_no": bottle["sample_no"], "compartment_id": place["compartment_id"], "drawn_on": on,
             "meter": bottle["meter"], "oil_hours": bottle["oil_hours"], "oil_id": None, "batch": "", "topup_l": bottle["topup_l"],
             "conditions": json.dumps(drawn), "by": "Sunniva Holtane"},
        ).fetchone()  # fmt: skip
        if row is None:
            continue
        desk = desk_of.get(depot_of.get(bottle["unit"]) or "", "holm")
        known = bottle["sample_no"] in reported
        friday = on + timedelta(days=(4 - on.weekday()) % 7)
        if not known and (until - on).days <= 3 and shelf < 4:
            shelf += 1  # nobody has packed it yet
            continue
        weeks[(min(friday, until), desk, known)].append(row["bottle_id"])
    forgotten = False
    for number, ((friday, desk, known), bottles) in enumerate(sorted(weeks.items(), key=lambda w: w[0][:2]), 1):
        parcel = connection.execute(
            query("labs.make_shipment"),
            {"fleet_id": fleet_id, "number": f"P{friday:%y}-{number:04d}", "lab_id": ids[desk], "made_on": friday, "note": "",
             "by": "Sunniva Holtane"},
        ).fetchone()  # fmt: skip
        assert parcel is not None
        chosen = {"shipment_id": parcel["shipment_id"]}
        connection.execute(query("labs.pack"), {**chosen, "bottles": bottles})
        connection.execute(query("labs.send"), {**chosen, "on": friday, "by": "Sunniva Holtane"})
        late = not known and not forgotten and (until - friday).days > 4
        if known or late:  # the lab was told in its day; one parcel it has forgotten
            connection.execute(query("labs.told"), {**chosen, "trouble": ""})
            forgotten |= late
