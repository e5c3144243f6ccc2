"""The audit trail: what was done by whom, read and verified."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from typing import Any

from vornet.store.database import Connection, query


@dataclass(frozen=True)
class Chain:
    """What became of an audit trail: how many lines, the last link (its number and hash, in hex), and what is wrong, in words."""

    lines: int
    seq: int
    head: str
    wrong: tuple[str, ...]


def verify(connection: Connection, seen: str = "") -> Chain:
    """Work the chain of the fleet's audit trail anew: each line's hash is over the line and the hash before it. ``seen``: a link that was
    noted elsewhere before, as ``number:hash``; a trail that was cut off and grew again no longer has it."""
    wrong, before, expected, lines, head, known = [], b"", 1, 0, "", {}
    for row in connection.execute(query("people.chain")):
        lines += row["text"] is not None
        if row["seq"] is None:
            wrong.append(f"line {row['audit_id']} stands outside the chain: it was put in")
            continue
        if row["seq"] != expected:
            wrong.append(f"links {expected} to {row['seq'] - 1} are missing")
        expected = row["seq"] + 1
        if row["text"] is None:
            wrong.append(f"line {row['audit_id']} is missing")
        elif hashlib.sha256(before + row["text"].encode()).digest() != row["hash"]:
            wrong.append(f"line {row['audit_id']} was altered, or what stood before it")
        before, head = bytes(row["hash"]), row["hash"].hex()
        known[row["seq"]] = head
    if seen:
        number, _, text = seen.partition(":")
        if not (number.isascii() and number.isdigit()) or known.get(int(number[:15])) != text.strip().lower():
            wrong.append(f"link {number[:15]} is not the one that was seen: the trail was made anew")
    return Chain(lines, expected - 1, head, tuple(wrong))


def note_once(connection: Connection, fleet_id: int, who: str, what: str, about: str, **detail: object) -> None:
    """A line that would stand there many times a minute, once a minute; letters that no line keeps are left out of ``about``."""
    about = "".join(c if c.isprintable() else "?" for c in about[:300])
    connection.execute(
        query("people.note_once"),
        {"fleet_id": fleet_id, "who": who, "what": what, "about": about, "detail": json.dumps(detail, default=str)},
    )


def words(connection: Connection) -> dict[str, list[str]]:
    """The people and the doings there are, to filter the audit trail by."""
    row = connection.execute(query("people.audit_words")).fetchone()
    assert row is not None
    return {"who": sorted(row["who"] or []), "what": sorted(row["what"] or [])}


def lines(
    connection: Connection, who: str = "", what: str = "", q: str = "", since: Any = None, until: Any = None,
    before: int | None = None, limit: int = 100,
) -> list[dict[str, Any]]:  # fmt: skip
    """The fleet's audit trail, newest first, filtered."""
    like = "%" + q.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
    return connection.execute(
        query("people.audit_trail"),
        {"who": who, "what": what, "q": q, "like": like, "since": since, "until": until, "before": before, "limit": limit},
    ).fetchall()
