"""Labs: what their headings mean and how their files come in."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable

from vornet.core.errors import InputError
from vornet.core.measurands import INDEX
from vornet.flows.house import fleets
from vornet.io.lab_header import CONTEXT, Meaning, said_key, unit_factor
from vornet.store import secrets
from vornet.store.database import Connection, query

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
