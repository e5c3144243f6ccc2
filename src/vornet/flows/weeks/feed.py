"""Calendars that others subscribe to: a depot's, or a person's; whoever has the link reads it until it is taken back."""

from __future__ import annotations

import secrets
from datetime import date, timedelta
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.house.sessions import hashed
from vornet.io import calendar_file
from vornet.store.database import Connection, Database, query

#: how far back a calendar goes, days
BACK_DAYS = 60


def make(connection: Connection, fleet_id: int, by: str, depot_id: int | None, account_id: int | None) -> str:
    """A new link's secret: of a depot, or of what a person answers for. Only its hash is kept. Raises InputError."""
    if depot_id is not None and not any(r["depot_id"] == depot_id for r in connection.execute(query("weeks.depots")).fetchall()):
        raise InputError("depot", "is not in this fleet")
    secret = secrets.token_urlsafe(32)
    row = connection.execute(
        query("weeks.put_feed"), {"fleet_id": fleet_id, "hash": hashed(secret), "depot_id": depot_id, "account_id": account_id, "by": by}
    ).fetchone()
    assert row is not None
    fleets.audit(connection, fleet_id, by, "calendar link made", f"link {row['feed_id']}", depot=depot_id)
    return secret


def listed(connection: Connection, account_id: int | None = None) -> list[dict[str, Any]]:
    """Links that open something; of one person, or all."""
    return connection.execute(query("weeks.feeds"), {"account_id": account_id}).fetchall()


def revoke(connection: Connection, fleet_id: int, feed_id: int, by: str, account_id: int | None = None) -> None:
    """Take a link back (``account_id``: only that person's own). Raises InputError."""
    if connection.execute(query("weeks.revoke_feed"), {"feed_id": feed_id, "account_id": account_id}).fetchone() is None:
        raise InputError("feed", "is not there, or was taken back")
    fleets.audit(connection, fleet_id, by, "calendar link taken back", f"link {feed_id}")


def read(db: Database, secret: str, today: date, base: str = "") -> bytes | None:
    """The calendar that a secret opens; None where it opens none."""
    with db.anyone() as connection:
        found = connection.execute(query("weeks.feed_of"), {"hash": hashed(secret)}).fetchone()
    if found is None:
        return None
    with db.fleet(found["fleet_id"]) as connection:
        feed = connection.execute(query("weeks.feed"), {"feed_id": found["feed_id"]}).fetchone()
        if feed is None:
            return None
        connection.execute(query("weeks.feed_read"), {"feed_id": found["feed_id"]})
        depots = [feed["depot_id"]] if feed["depot_id"] is not None else feed["depots"]
        rows = connection.execute(query("weeks.calendar"), {"since": today - timedelta(days=BACK_DAYS), "depots": depots}).fetchall()
        names = {r["depot_id"]: r["name"] for r in connection.execute(query("weeks.depots")).fetchall()}
        fleet = fleets.settings(connection)["name"]
    name = f"{names.get(feed['depot_id'], fleet)}: visits"
    return calendar_file.feed(name, [entry(r, base) for r in rows])


def entry(r: dict[str, Any], base: str = "") -> calendar_file.Entry:
    """A visit as a calendar shows it."""
    done = "done: " if r["state"] == "done" else ""
    what = "\n".join(r["what"] or ())
    link = f"{base}/jobs/{r['job_id']}" if r["job_id"] and base else f"{base}/units/{r['unit_id']}" if base else ""
    return calendar_file.Entry(
        str(r["uid"]),
        r["sequence"],
        r["on_day"],
        f"{done}{r['unit']}, {r['hours']:.1f} h",
        what,
        r["depot"] or "",
        r["state"],
        r["changed_at"],
        link,
    )
