"""Manuals and pictures that hang on a unit."""

from __future__ import annotations

import hashlib
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.io import pictures
from vornet.store.database import Connection, query

LARGEST_ATTACHMENT = 20_000_000
ATTACHMENT_KINDS = {"manual": "manual", "plate": "plate photo", "drawing": "drawing", "photo": "photo"}


def attachable(content: bytes) -> tuple[bytes, str]:
    """What is kept of a manual (PDF) or a picture, and its media type. Pictures are drawn anew, so that no place or camera data
    stays in them. Raises InputError for anything else."""
    if len(content) > LARGEST_ATTACHMENT:
        raise InputError("file", f"is larger than {LARGEST_ATTACHMENT // 1_000_000} MB")
    if content[:5] == b"%PDF-":
        return content, "application/pdf"
    return pictures.redrawn(content), "image/jpeg"


def attach(
    connection: Connection, fleet_id: int, unit_id: int, compartment_id: int | None, kind: str, name: str, kept: tuple[bytes, str],
    by: str,
) -> None:  # fmt: skip
    """Keep a manual or a picture beside a unit. ``kept``: as ``attachable`` gives it."""
    unit = connection.execute(query("units.unit"), {"unit_id": unit_id}).fetchone()
    if unit is None:
        raise InputError("unit", "is not in this fleet")
    if kind not in ATTACHMENT_KINDS:
        raise InputError("kind", f"one of {', '.join(ATTACHMENT_KINDS)}")
    content, media = kept
    connection.execute(
        query("units.put_attachment"),
        {"fleet_id": fleet_id, "unit_id": unit_id, "compartment_id": compartment_id, "name": name[:200], "kind": kind,
         "media_type": media, "content": content, "sha256": hashlib.sha256(content).digest(), "by": by},
    )  # fmt: skip
    fleets.audit(connection, fleet_id, by, "file attached", unit["unit"], name=name[:200], kind=kind)


def of_unit(connection: Connection, unit_id: int) -> list[dict[str, Any]]:
    """Files of a unit, without their bytes."""
    return connection.execute(query("units.attachments_of"), {"unit_id": unit_id}).fetchall()
