"""Keys for programs: each acts for a person, within its scopes, until it ends. Only its hash is kept."""

from __future__ import annotations

import secrets
from datetime import timedelta
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import access, fleets
from vornet.flows.house.people import Visitor
from vornet.flows.house.sessions import hashed
from vornet.store.database import Connection, Database, query

LONGEST_TOKEN_DAYS = 730
TOKEN_PREFIX = "vnt_"


def kept(connection: Connection, account_id: int | None) -> list[dict[str, Any]]:
    """API tokens, one person's or (None) everyone's; never their text."""
    return connection.execute(query("people.tokens"), {"account_id": account_id}).fetchall()


def bearer(db: Database, token: str) -> Visitor | None:
    """The person a program acts for, within its token's scopes; None when the token is unknown or has ended."""
    with db.anyone() as connection:
        t = connection.execute(query("people.token_owner"), {"token_hash": hashed(token)}).fetchone()
    if t is None:
        return None
    with db.fleet(t["fleet_id"]) as connection:
        connection.execute(query("people.token_used"), {"token_id": t["token_id"]})
    return Visitor(
        t["account_id"], t["login"], t["display_name"], t["fleet_id"], t["fleet"], tuple(t["roles"]), "", t["measures"], t["zone"],
        scopes=tuple(t["scopes"]), owes_second=t["owes_second"],
    )  # fmt: skip


def make(connection: Connection, fleet_id: int, account_id: int, by: str, name: str, scopes: list[str], days: int) -> str:
    """A new API token, shown once."""
    name = name.strip()[:80]
    if not name:
        raise InputError("name", "say what the token is for")
    wrong = [s for s in scopes if s not in access.SCOPES]
    if wrong or not scopes:
        raise InputError("scopes", f"choose from {', '.join(access.SCOPES)}")
    if not 1 <= days <= LONGEST_TOKEN_DAYS:
        raise InputError("days", f"a token lasts 1 to {LONGEST_TOKEN_DAYS} days")
    token = TOKEN_PREFIX + secrets.token_urlsafe(32)
    connection.execute(
        query("people.put_token"),
        {"fleet_id": fleet_id, "account_id": account_id, "name": name, "token_hash": hashed(token),
         "scopes": sorted(set(scopes)), "lifetime": timedelta(days=days)},
    )  # fmt: skip
    fleets.audit(connection, fleet_id, by, "token made", name, scopes=scopes, days=days)
    return token


def end(connection: Connection, by: Visitor, token_id: int, anyone: bool) -> None:
    """End a token: one's own, or ``anyone``'s for an admin."""
    row = connection.execute(query("people.revoke_token"), {"token_id": token_id, "account_id": None if anyone else by.account_id}).fetchone()
    if row is None:
        raise InputError("token", "is not there, or has ended already")
    fleets.audit(connection, by.fleet_id, by.name, "token ended", row["name"])
