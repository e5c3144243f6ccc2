"""What needs whom today: the Board, the planner's desk and finding anything by name."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

from vornet.flows.judge import aside, in_force, verdicts
from vornet.flows.pages import open_ends
from vornet.store.database import Connection, query

PAGE = 60
FILTERS = (
    ("all", "In service"), ("overdue", "Overdue"), ("past", "Past safe life"), ("faults", "Open faults"),
    ("held", "Held"), ("back", "Did not hold"), ("unsigned", "Unsigned"), ("shorten", "Shorten"), ("lengthen", "Lengthen"), ("hold", "Hold"),
    ("not_enough", "Not enough"), ("laid_up", "Laid up"),
)  # fmt: skip
OUTCOMES = (*(f for f in FILTERS if f[0] in ("all", "shorten", "lengthen", "hold", "not_enough", "back")), ("trial", "On trial"))


def _like(q: str) -> str:
    return "%" + q.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"


def board(connection: Connection, show: str, depot: str, q: str, page: int, today: date) -> dict[str, Any]:
    """One page of the Board with the counts of every filter; unsigned samples counted as Review does."""
    show = show if show in dict(FILTERS) else "all"
    rows = connection.execute(
        query("board.rows"),
        {
            "show": show,
            "depot": depot,
            "q": q,
            "like": _like(q),
            "limit": PAGE + 1,
            "offset": PAGE * page,
            "since": today - timedelta(days=verdicts.QUEUE_DAYS),
        },
        prepare=False,  # planned for what is asked: in the Board's order it stops after a page
    ).fetchall()
    counts = connection.execute(query("board.counts")).fetchone()
    waiting = connection.execute(query("board.waiting")).fetchone()
    assert counts is not None and waiting is not None
    counts |= {"unsigned": verdicts.waiting(connection, today)}
    return {
        "rows": open_ends.with_visits(connection, rows[:PAGE]), "more": len(rows) > PAGE, "counts": counts, "waiting": waiting["held"],
        "ends": open_ends.open_ends(connection, today), "set_aside": aside.list_of(connection),
        "held_up": in_force.held_up(connection, today),
        "depots": depots(connection),
        "show": show, "depot": depot, "q": q, "page": page, "filters": FILTERS,
    }  # fmt: skip


def depots(connection: Connection) -> list[str]:
    return [r["name"] for r in connection.execute(query("board.depots")).fetchall()]


def desk(connection: Connection, show: str, page: int) -> dict[str, Any]:
    """The planner's desk: every compartment's answer, what changes most first."""
    show = show if show in dict(OUTCOMES) else "all"
    asked = {"show": show, "limit": PAGE + 1, "offset": PAGE * page}
    rows = connection.execute(query("board.rows_by_outcome"), asked, prepare=False).fetchall()
    counts = connection.execute(query("board.counts")).fetchone()
    return {
        "rows": rows[:PAGE], "more": len(rows) > PAGE, "counts": counts, "show": show, "page": page,
        "filters": OUTCOMES,
    }  # fmt: skip


def find(connection: Connection, q: str, limit: int = 12) -> list[dict[str, Any]]:
    """Samples by number, compartments by unit, name, model or family, units, oils and service items: what fits."""
    q = q.strip()[:80]
    if not q:
        return []
    out = [
        {"compartment_id": r["compartment_id"], "text": f"Sample {r['sample_no']}", "kind": "sample",
         "sample_id": r["sample_id"]}
        for r in connection.execute(query("board.find_sample"), {"q": q, "start": _like(q)[1:], "long": len(q) > 3}).fetchall()
    ]  # fmt: skip
    rows = connection.execute(query("board.find"), {"like": _like(q), "start": _like(q)[1:], "limit": limit}).fetchall()
    out += [{**r, "text": f"{r['unit']} · {r['compartment']}", "kind": "compartment"} for r in rows]
    if len(out) < limit:
        others = connection.execute(query("units.find_oils_and_units"), {"like": _like(q), "limit": limit - len(out)})
        places = {"unit": "/units/", "oil": "/library/oils/", "item": "/items/"}
        out += [{"kind": r["kind"], "text": r["name"], "href": f"{places[r['kind']]}{r['id']}"} for r in others.fetchall()]
    return out
