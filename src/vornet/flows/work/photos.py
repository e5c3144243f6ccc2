"""Photos taken at the unit."""

from __future__ import annotations

import uuid

from vornet.core.errors import InputError
from vornet.flows.house.people import Visitor
from vornet.io import pictures
from vornet.store.database import Connection, query

LARGEST_PHOTO = 12_000_000


def photo_drawn(content: bytes) -> bytes:
    """A photo drawn anew without its metadata. Raises InputError when it is not one."""
    if len(content) > LARGEST_PHOTO:
        raise InputError("photo", f"is larger than {LARGEST_PHOTO // 1_000_000} MB")
    return pictures.redrawn(content, 1600)


def keep_photo(connection: Connection, who: Visitor, job_id: int, photo_id: str, part: int | None, about: str, fresh: bytes) -> None:
    """Keep a photo that was drawn anew; the same one twice is one."""
    try:
        name = uuid.UUID(photo_id)
    except ValueError:
        raise InputError("id", "is not a photo's id") from None
    parts = {p["part_id"] for p in connection.execute(query("jobs.parts"), {"job_id": job_id}).fetchall()}
    if not parts or (part is not None and part not in parts):
        raise InputError("part", "is not part of this job")
    connection.execute(
        query("jobs.put_photo"),
        {"fleet_id": who.fleet_id, "photo_id": name, "job_id": job_id, "part_id": part, "about": about[:120], "content": fresh,
         "by": who.name},
    )  # fmt: skip
