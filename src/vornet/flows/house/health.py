"""Whether what is kept is whole: the installation, the audit trail's chain, and that every table asks for its fleet or its person."""

from __future__ import annotations

from dataclasses import dataclass

from vornet.flows.house import fleets, trail
from vornet.store import wholeness
from vornet.store.database import Database, query


@dataclass(frozen=True)
class Finding:
    """One thing that was looked at: what, how it stands in words, and whether it is as it should be."""

    about: str
    said: str
    good: bool


def counts(db: Database) -> dict[str, int]:
    """Jobs on the queue by their state: what wait, are at work, failed."""
    with db.anyone() as connection:
        rows = connection.execute(query("queue.counts")).fetchall()
    return {"todo": 0, "doing": 0, "failed": 0} | {r["state"]: r["n"] for r in rows}


def look(db: Database, only: str | None = None, seen: str = "") -> list[Finding]:
    """Look at the database and at every fleet's audit trail (or ``only`` one's, which must still hold the link ``seen``)."""
    with db.anyone() as connection:
        bare = [r["name"] for r in connection.execute(query("people.unguarded")).fetchall()]
    found = [Finding("tables", f"without a policy: {', '.join(bare)}" if bare else "each asks for its fleet or its person", not bare)]
    if not only:
        found = [Finding(*f) for f in wholeness.look(db.location)] + found
    for name in [only] if only else fleets.names(db):
        with db.fleet(fleets.find(db, name)) as connection:
            chain = trail.verify(connection, seen)
        whole = f"{chain.lines:,} lines, whole; last link {chain.seq}:{chain.head}" if chain.lines else "empty"
        found.append(Finding(f"audit trail of {name}", "; ".join(chain.wrong[:20]) if chain.wrong else whole, not chain.wrong))
    return found
