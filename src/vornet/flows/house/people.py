"""Who there is: sign-ins, and what each person does in a fleet."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import access, fleets, passwords
from vornet.store.database import Connection, Database, query
from vornet.words.writing import Writes, checked

ROLES = access.ROLES


@dataclass(frozen=True)
class Visitor:
    """A signed-in person, or a program with a person's token (``scopes`` given), in one fleet."""

    account_id: int
    login: str
    name: str
    fleet_id: int
    fleet: str
    roles: tuple[str, ...]
    csrf: str
    measures: str = "si"
    #: the fleet's time zone: its day is the visitor's
    zone: str = "UTC"
    #: how the person writes dates and figures
    writes: Writes = Writes()  # noqa: RUF009 - it cannot be changed
    fleets: tuple[tuple[int, str], ...] = ()
    scopes: tuple[str, ...] | None = None
    #: whether the session was opened with a second factor, and whether the fleet asks for one that was not given
    second: bool = False
    owes_second: bool = False

    def may(self, right: str) -> bool:
        return access.allowed(self.roles, right, self.scopes)

    @property
    def role(self) -> str:
        """What the person is in the fleet, as one says it."""
        return " and ".join(self.roles)


def checked_login(text: str) -> str:
    login = text.strip().lower()
    if not login or len(login) > 80 or any(c.isspace() for c in login):
        raise InputError("login", "a sign-in name of at most 80 characters without spaces is needed")
    return login


def in_order(roles: Iterable[str]) -> list[str]:
    """Roles each once, in the order they are listed in everywhere."""
    return [role for role in ROLES if role in set(roles)]


def checked_roles(roles: Iterable[str]) -> list[str]:
    """Roles as they are kept. Raises InputError for one there is none of, and for none at all."""
    given = list(roles)
    wrong = [role for role in given if role not in ROLES]
    if wrong or not given:
        raise InputError("roles", f"{wrong[0]!r} is not one of {', '.join(ROLES)}" if wrong else f"choose one or more of {', '.join(ROLES)}")
    return in_order(given)


def owes_second(roles: Iterable[str], asked_of: Iterable[str]) -> bool:
    """Whether a fleet that asks some roles for a second factor asks whoever has these."""
    return not set(roles).isdisjoint(asked_of)


def make_account(db: Database, login: str, name: str, password: str | None, *about: str) -> int:
    """A new sign-in; its number. Without a password it is for whoever signs in by the provider. ``about``: what others know of the person.
    Raises InputError when the name is taken, changing nothing."""
    login = checked_login(login)
    kept = "" if password is None else passwords.hashed(password, login, name, *about)
    with db.anyone() as connection:
        made = connection.execute(
            query("people.new_account"), {"login": login, "name": (name.strip() or login)[:120], "hash": kept}
        ).fetchone()
    if made is None or made["id"] is None:
        raise InputError("login", "is taken: choose another one, or sign in with it if it is yours")
    return int(made["id"])


def add(db: Database, fleet: str, login: str, name: str, password: str, *roles: str) -> bool:
    """Make a sign-in and its membership of a fleet (from the command line); whether the sign-in is new. One that exists keeps its name and
    password, and joins the fleet; one that is in it already is left as it is (InputError)."""
    login, wanted = checked_login(login), checked_roles(roles)
    fleet_id = fleets.find(db, fleet)
    with db.anyone() as connection:
        row = connection.execute(query("people.account_named"), {"login": login}).fetchone()
    known = row["id"] if row else None
    account_id = make_account(db, login, name, password, fleet) if known is None else known
    with db.fleet(fleet_id) as connection:
        if connection.execute(query("people.member"), {"account_id": account_id}).fetchone() is not None:
            raise InputError(
                "login", f"{login} is in {fleet} already: an admin changes roles on the page People, `vornet user link` a password"
            )
        connection.execute(query("people.put_member"), {"fleet_id": fleet_id, "account_id": account_id, "roles": wanted})
        fleets.audit(connection, fleet_id, "command line", "person let in", login, roles=wanted)
    return known is None


def set_writing(db: Database, who: Visitor, document: Mapping[str, str]) -> None:
    """How somebody writes dates and figures. Raises InputError by field."""
    chosen = checked({k: v for k, v in document.items() if v})
    with db.person(who.account_id) as connection:
        connection.execute(query("people.set_writing"), {"account_id": who.account_id, "writes": json.dumps(chosen.as_dict())})


def set_roles(connection: Connection, by: Visitor, account_id: int, roles: list[str]) -> None:
    """Change what a member does. Raises InputError for nothing at all: to take somebody out is ``remove``."""
    if not roles:
        raise InputError("roles", "tick what the person does here, or take them out of the fleet")
    _change(connection, by, account_id, roles)


def remove(connection: Connection, by: Visitor, account_id: int) -> None:
    """Take a member out of the fleet; what they had open here ends."""
    _change(connection, by, account_id, [])


def _change(connection: Connection, by: Visitor, account_id: int, roles: list[str]) -> None:
    """Other roles for a member, none takes the membership away. The last admin stays."""
    connection.execute(query("people.lock_members"))
    member = connection.execute(query("people.member"), {"account_id": account_id}).fetchone()
    if member is None:
        raise InputError("person", "is not in this fleet")
    wanted = checked_roles(roles) if roles else []
    admins = connection.execute(query("people.admins")).fetchone()
    assert admins is not None
    if "admin" in member["roles"] and "admin" not in wanted and admins["n"] <= 1:
        raise InputError("roles", "this is the fleet's only admin: make another one first")
    if wanted:
        connection.execute(query("people.put_member"), {"fleet_id": by.fleet_id, "account_id": account_id, "roles": wanted})
        fleets.audit(connection, by.fleet_id, by.name, "roles changed", member["login"], was=member["roles"], now=wanted)
        return
    connection.execute(query("people.remove_member"), {"account_id": account_id})
    connection.execute(query("people.close_sessions_here"), {"account_id": account_id, "fleet_id": by.fleet_id})
    connection.execute(query("people.end_keys_here"), {"account_id": account_id})
    connection.execute(query("people.end_devices_here"), {"account_id": account_id})
    fleets.audit(connection, by.fleet_id, by.name, "person taken out", member["login"], was=member["roles"])


def members(connection: Connection) -> list[dict[str, Any]]:
    return connection.execute(query("people.members")).fetchall()
