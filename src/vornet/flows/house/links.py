"""Letting people in and giving them a new password: by a link that works once, so that nobody knows another's password.

Only a link's hash is kept; its text is shown once, to whoever made it.
"""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import fleets, passwords, people, sessions
from vornet.flows.house.people import Visitor
from vornet.flows.house.sessions import hashed
from vornet.store.database import Connection, Database, query

#: how long somebody has to open a link
INVITED, PASSWORD = timedelta(days=14), timedelta(days=2)
GONE = "is not there, was used already, or has ended: ask for a new one"


@dataclass(frozen=True)
class Invitation:
    """What an invitation offers: a fleet, and what one is to do there."""

    fleet_id: int
    invitation_id: int
    fleet: str
    name: str
    roles: tuple[str, ...]
    made_by: str


def invite(connection: Connection, by: Visitor, name: str, roles: list[str]) -> str:
    """An invitation into the fleet; its text, to be handed to whoever is meant. Says nothing of who has a sign-in already."""
    name = " ".join(name.split())[:120]
    if not name:
        raise InputError("name", "say who is invited")
    token, wanted = secrets.token_urlsafe(24), people.checked_roles(roles)
    connection.execute(
        query("people.put_invitation"),
        {"fleet_id": by.fleet_id, "token_hash": hashed(token), "name": name, "roles": wanted, "by": by.name, "lifetime": INVITED},
    )
    fleets.audit(connection, by.fleet_id, by.name, "person invited", name, roles=wanted)
    return token


def invitations(connection: Connection) -> list[dict[str, Any]]:
    """Those that wait for an answer."""
    return connection.execute(query("people.invitations")).fetchall()


def take_back(connection: Connection, by: Visitor, invitation_id: int) -> None:
    row = connection.execute(query("people.end_invitation"), {"invitation_id": invitation_id, "account_id": None}).fetchone()
    if row is None:
        raise InputError("invitation", "is accepted or taken back already")
    fleets.audit(connection, by.fleet_id, by.name, "invitation taken back", row["name"])


def offered(db: Database, token: str) -> Invitation | None:
    """What an invitation's link offers; None when it has ended."""
    with db.anyone() as connection:
        row = connection.execute(query("people.invitation_of"), {"token_hash": hashed(token)}).fetchone()
    return None if row is None else Invitation(**{**row, "roles": tuple(row["roles"])})


def accept(db: Database, token: str, account_id: int) -> Invitation:
    """The invitee joins with a sign-in of their own. What they may in the fleet already, they keep."""
    found = offered(db, token)
    if found is None:
        raise InputError("invitation", GONE)
    with db.fleet(found.fleet_id) as connection:
        # whoever is first has it
        if (
            connection.execute(query("people.end_invitation"), {"invitation_id": found.invitation_id, "account_id": account_id}).fetchone()
            is None
        ):
            raise InputError("invitation", GONE)
        member = connection.execute(query("people.member"), {"account_id": account_id}).fetchone()
        roles = people.in_order([*(member["roles"] if member else ()), *found.roles])
        connection.execute(query("people.put_member"), {"fleet_id": found.fleet_id, "account_id": account_id, "roles": roles})
        now = connection.execute(query("people.member"), {"account_id": account_id}).fetchone()
        assert now is not None
        fleets.audit(
            connection, found.fleet_id, now["display_name"], "invitation accepted", now["login"], invited_by=found.made_by, roles=roles
        )
    return found


def accept_new(db: Database, token: str, login: str, name: str, password: str) -> Invitation:
    """The invitee joins with a new sign-in. Raises InputError by field."""
    found = offered(db, token)
    if found is None:
        raise InputError("invitation", GONE)
    account_id = people.make_account(db, login, name or found.name, password, found.fleet)
    return accept(db, token, account_id)


def password_link(connection: Connection, by: Visitor, account_id: int) -> str:
    """A link by which a member chooses a new password. Only for whoever is in this fleet alone: another fleet's admin must not be
    able to sign in as them there."""
    member = connection.execute(query("people.member"), {"account_id": account_id}).fetchone()
    if member is None:
        raise InputError("person", "is not in this fleet")
    mine = connection.execute(query("people.fleets_of"), {"account_id": account_id}).fetchall()
    if len(mine) != 1:
        raise InputError("person", "has a sign-in that is not this fleet's alone: whoever runs Vornet gives the link (vornet user link)")
    return make_password_link(connection, by.fleet_id, account_id, member["login"], by.name)


def make_password_link(connection: Connection, fleet_id: int, account_id: int, login: str, by: str) -> str:
    """The link itself, told in the audit trail; earlier ones end."""
    token = secrets.token_urlsafe(24)
    connection.execute(query("people.end_password_links"), {"account_id": account_id})
    connection.execute(
        query("people.put_password_link"),
        {"fleet_id": fleet_id, "token_hash": hashed(token), "account_id": account_id, "by": by, "lifetime": PASSWORD},
    )
    fleets.audit(connection, fleet_id, by, "password link made", login)
    return token


def whose_password(db: Database, token: str) -> str | None:
    """Whose password a link is for; None when it has ended."""
    with db.anyone() as connection:
        row = connection.execute(query("people.password_link_of"), {"token_hash": hashed(token)}).fetchone()
    return None if row is None else str(row["login"])


def choose_password(db: Database, token: str, password: str) -> None:
    """Set the password that a link is for; the link is used up, and whatever was signed in or acted for the person ends."""
    with db.anyone() as connection:
        row = connection.execute(query("people.password_link_of"), {"token_hash": hashed(token)}).fetchone()
    if row is None:
        raise InputError("link", GONE)
    made = passwords.hashed(password, row["login"])
    with db.fleet(row["fleet_id"], row["account_id"]) as connection:
        used = connection.execute(query("people.use_password_link"), {"token_hash": hashed(token), "hash": made}).fetchone()
        if used is None or used["whose"] is None:
            raise InputError("link", GONE)
        fleets.audit(connection, row["fleet_id"], row["login"], "password chosen", row["login"], link_made_by=row["made_by"])
    sessions.sign_out_everywhere(db, row["account_id"])
