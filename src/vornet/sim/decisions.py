"""What the demo's planner has decided so far: longer intervals that were approved and run, and trials that run now."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.judge import approval, in_force, trials
from vornet.sim.fleet import UNITS
from vornet.store.database import Connection, query

#: why, by (unit, compartment); the length and its day stand in the unit's own history
WHY = {
    ("GS Ostrelle 1", "engine"): "base number had half its reserve left at every drain",
    ("MV Braelune", "port engine"): "as proposed",
    ("GS Northholm 2", "engine"): "agreed with the station for the winter; longer than proposed",
}
#: families of which one compartment each is on trial, at the share of the new length where its charge is about half way
TRIED, FROM, TO = ("GN-8 diesel", "HX-6 marine", "RG-30 marine gear"), 0.45, 0.9


def load(connection: Connection, fleet_id: int, planner: str, start: date, until: date) -> None:
    """Approve what the history ran to, once."""
    rows = {(r["unit"], r["name"]): r["compartment_id"] for r in
            connection.execute(query("register.compartments"), {"today": until, "only": None}).fetchall()}  # fmt: skip
    for unit in UNITS:
        for spec in unit.compartments:
            place = rows.get((unit.name, spec.name))
            for day, length in spec.longer:
                on = start + timedelta(days=day)
                known = in_force.said_of(connection, place) if place else []
                if place is None or on > until or any(v["origin"] == "approved" and v["meter"] == length for v in known):
                    continue
                in_force.say(connection, fleet_id, [in_force.Statement(
                    compartment_id=place, on=on, origin="approved", by=planner, length=length, why=WHY.get((unit.name, spec.name), ""),
                    evidence="{}",
                )], on)  # fmt: skip


def try_some(connection: Connection, fleet_id: int, planner: str, until: date) -> None:
    """Begin a trial in each of a few families, as of the day its charge was filled, once."""
    if trials.listed(connection):
        return
    for family in TRIED:
        mates = connection.execute(query("trials.family"), {"family": family}).fetchall()
        for r in sorted(mates, key=_ripest, reverse=True):
            if _ripest(r) <= 0:
                break
            begun = connection.execute(query("board.drains_of"), {"compartment_id": r["compartment_id"]}).fetchall()[0]["on_day"]
            try:
                with connection.transaction():
                    it = approval.asked(connection, r["compartment_id"], until)
                    trials.start(connection, fleet_id, r["compartment_id"], r["proposed_meter"], "as proposed, tried first", planner, until,
                                 since=begun, rests_on=it.stamp)  # fmt: skip
                break
            except InputError:
                continue


def _ripest(r: dict[str, Any]) -> float:
    """How far along its charge a compartment that may be lengthened is; 0 where a trial would show nothing yet."""
    if r["outcome"] != "lengthen" or not r["proposed_meter"] or not r["rate_per_day"] or r["oil_hours"] is None:
        return 0.0
    share = float(r["oil_hours"] / r["proposed_meter"])
    return share if FROM <= share <= TO else 0.0
