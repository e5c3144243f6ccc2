"""Taking turns: who judges a family, or decides of one of its compartments, holds it to the end of the transaction, so that whoever comes
second reads what the first was given and wrote."""

from __future__ import annotations

from collections.abc import Sequence
from zlib import crc32

from vornet.store.database import Connection, query

#: groups of families that are held at once by whoever judges one of them; a multiple of the shares of a large fleet
GROUPS = 32


def hold_families(connection: Connection, families: Sequence[str] | None) -> None:
    """Hold some families, or all (None). In groups that the shares of a large fleet do not have in common, so that these are judged side by
    side, and always in one order, so that nobody waits in a circle."""
    places = range(GROUPS) if families is None else sorted({crc32(name.encode()) % GROUPS for name in families})
    connection.execute(query("history.hold_families"), {"places": list(places)})


def with_company(connection: Connection, compartments: Sequence[int], today: object) -> list[int]:
    """Some compartments and those whose bottles are screened with theirs: a swap has two sides."""
    company = connection.execute(query("history.company"), {"compartments": list(compartments), "today": today}).fetchall()
    return sorted({*compartments, *(r["compartment_id"] for r in company)})


def hold_for(connection: Connection, compartments: Sequence[int], today: object) -> None:
    """Hold what settling these compartments will hold: for whoever decides of them by what was judged."""
    written = with_company(connection, compartments, today)
    hold_families(connection, [r["family"] for r in connection.execute(query("history.families_of"), {"compartments": written}).fetchall()])
