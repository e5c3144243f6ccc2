"""The lab's inbox: files, rows that wait, samples that are held, and what people decide about them."""

from __future__ import annotations

import hashlib
from datetime import date
from typing import Any

from vornet.core.errors import InputError
from vornet.flows import evaluate, fleets
from vornet.flows.register import RegisterReport
from vornet.store.database import Connection, query

MOST_SHOWN = 200


def inbox(connection: Connection, chosen: int | None) -> dict[str, Any]:
    """The newest files, the chosen one, and everything that waits for a person."""
    files = connection.execute(query("results.files"), {"limit": 40}).fetchall()
    file = connection.execute(query("results.file"), {"import_file_id": chosen}).fetchone() if chosen else None
    rows = connection.execute(
        query("results.held_rows"), {"import_file_id": None, "limit": MOST_SHOWN}
    ).fetchall()
    holds = connection.execute(query("results.holds"), {"limit": MOST_SHOWN, "open_only": True}).fetchall()
    return {"files": files, "file": file, "rows": rows, "holds": holds}


def original(connection: Connection, import_file_id: int) -> dict[str, Any] | None:
    """Name and bytes of a file as it came."""
    return connection.execute(query("results.file_content"), {"import_file_id": import_file_id}).fetchone()


def note_register(
    connection: Connection, fleet_id: int, name: str, content: bytes, report: RegisterReport, by: str
) -> int:
    """List a register file that came through the page among the files, its left-out rows as held rows."""
    row = connection.execute(
        query("results.put_file"),
        {"fleet_id": fleet_id, "name": name, "lab": "", "sha256": hashlib.sha256(content).digest(),
         "bytes": len(content), "content": content, "layout": "register", "by": by},
    ).fetchone()  # fmt: skip
    assert row is not None
    total = sum(report.counts.values())
    connection.execute(
        query("results.finish_file"),
        {"import_file_id": row["import_file_id"], "rows_in": total + len(report.problems), "rows_new": total,
         "rows_same": 0, "rows_reissued": 0, "rows_held": len(report.problems),
         "notes": report.left_out + [str(p) for p in report.problems[:100]]},
    )  # fmt: skip
    return int(row["import_file_id"])


def dismiss(connection: Connection, fleet_id: int, held_row_id: int, why: str, by: str) -> None:
    """A waiting row has been dealt with elsewhere; a reason is kept."""
    if not why.strip():
        raise InputError("why", "say in a few words why this row can be put away")
    connection.execute(
        query("results.dismiss_row"), {"held_row_id": held_row_id, "by": by, "resolution": why.strip()[:500]}
    )
    fleets.audit(connection, fleet_id, by, "row put away", f"row {held_row_id}", why=why.strip())


def settle(
    connection: Connection, fleet_id: int, hold_id: int, settlement: str, why: str, by: str, today: date
) -> None:
    """Release a held sample into judgement, or reject it for good; then evaluate its compartment."""
    if settlement not in ("released", "rejected"):
        raise InputError("settlement", "release it or reject it")
    if not why.strip():
        raise InputError("why", "say in a few words why")
    row = connection.execute(
        query("results.settle_hold"), {"hold_id": hold_id, "by": by, "settlement": settlement, "why": why.strip()[:500]}
    ).fetchone()
    if row is None:
        raise InputError("hold", "is settled already")
    sample = connection.execute(query("results.sample_compartment"), {"sample_id": row["sample_id"]}).fetchone()
    assert sample is not None
    fleets.audit(connection, fleet_id, by, f"sample {settlement}", sample["sample_no"], why=why.strip())
    evaluate.evaluate_within(connection, fleet_id, today, [sample["compartment_id"]])

