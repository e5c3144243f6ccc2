"""Pictures taken at the unit: of a job's step, an item, something noticed or put off, the register; beside the last one of the place."""

from __future__ import annotations

import uuid
from dataclasses import asdict, dataclass
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.house.people import Visitor
from vornet.io import pictures
from vornet.store.database import Connection, query

LARGEST_PHOTO = 12_000_000


@dataclass(frozen=True)
class Of:
    """What a picture shows: always a unit; ``place`` the step of a job, or what else it is of, by which it finds the last one."""

    unit_id: int
    compartment_id: int | None = None
    job_id: int | None = None
    part_id: int | None = None
    item_id: int | None = None
    observation_id: int | None = None
    deferred_id: int | None = None
    place: str = ""


def photo_drawn(content: bytes) -> bytes:
    """A photo drawn anew without its metadata. Raises InputError when it is not one."""
    if len(content) > LARGEST_PHOTO:
        raise InputError("photo", f"is larger than {LARGEST_PHOTO // 1_000_000} MB")
    return pictures.redrawn(content, 1600)


def keep_photo(
    connection: Connection, who: Visitor, job_id: int, photo_id: str, part: int | None, place: str, about: str, fresh: bytes
) -> None:  # fmt: skip
    """Keep a photo of a job that was drawn anew; the same one twice is one."""
    job = connection.execute(query("jobs.job"), {"job_id": job_id}).fetchone()
    parts = {p["part_id"]: p for p in connection.execute(query("jobs.parts"), {"job_id": job_id}).fetchall()}
    if job is None or not parts or (part is not None and part not in parts):
        raise InputError("part", "is not part of this job")
    mine = parts.get(part) if part is not None else None
    of = Of(job["unit_id"], mine["compartment_id"] if mine else None, job_id, part, mine["item_id"] if mine else None, place=place[:120])
    _keep(connection, who, of, photo_id, about, fresh)


def keep(connection: Connection, who: Visitor, of: Of, photo_id: str, about: str, fresh: bytes) -> None:
    """Keep a picture of anything at a unit. Raises InputError by field when what it is of is not at that unit."""
    unit = connection.execute(query("units.unit"), {"unit_id": of.unit_id}).fetchone()
    if unit is None:
        raise InputError("unit", "is not in this fleet")
    there = connection.execute(query("jobs.photo_of"), asdict(of)).fetchone()
    assert there is not None
    for name in ("compartment_id", "item_id", "observation_id", "deferred_id"):
        if getattr(of, name) is not None and not there[name]:
            raise InputError(name.removesuffix("_id"), f"is not at {unit['unit']}")
    _keep(connection, who, of, photo_id, about, fresh)
    fleets.audit(connection, who.fleet_id, who.name, "picture kept", unit["unit"], of=of.place, words=about[:120])


def _keep(connection: Connection, who: Visitor, of: Of, photo_id: str, about: str, fresh: bytes) -> None:
    try:
        name = uuid.UUID(photo_id)
    except ValueError:
        raise InputError("id", "is not a photo's id") from None
    connection.execute(
        query("jobs.put_photo"),
        {"fleet_id": who.fleet_id, "photo_id": name, **asdict(of), "about": about[:120], "content": fresh, "by": who.name},
    )  # fmt: skip


def of_unit(connection: Connection, unit_id: int, compartment_id: int | None = None, limit: int = 60) -> list[dict[str, Any]]:
    """Pictures of a unit, or of one of its compartments, newest first, without their bytes."""
    return connection.execute(
        query("jobs.photos_of_unit"), {"unit_id": unit_id, "compartment_id": compartment_id, "limit": limit}
    ).fetchall()  # fmt: skip


def last_ones(connection: Connection, unit_id: int, but_job: int) -> dict[tuple[int | None, int | None, str], dict[str, Any]]:
    """The last picture of each place of a unit before a job, by (compartment, item, place)."""
    rows = connection.execute(query("jobs.last_photos"), {"unit_id": unit_id, "job_id": but_job}).fetchall()
    return {(r["compartment_id"], r["item_id"], r["place"]): r for r in rows}


def take_back(connection: Connection, fleet_id: int, photo_id: str, why: str, by: str) -> int:
    """A picture that is of something else is shown no more; it stays on record. The unit it stood at."""
    if not why.strip():
        raise InputError("why", "say in a few words what is wrong with it")
    row = connection.execute(query("jobs.photo_back"), {"photo_id": photo_id, "by": by, "why": why.strip()[:300]}).fetchone()
    if row is None:
        raise InputError("photo", "is not there, or was taken back meanwhile")
    fleets.audit(connection, fleet_id, by, "picture taken back", row["unit"], words=row["about"], why=why.strip())
    return int(row["unit_id"])
