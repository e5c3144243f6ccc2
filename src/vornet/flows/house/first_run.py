"""The first run: a code that is printed lets the first person make the first fleet and its admin."""

from __future__ import annotations

import json
import secrets
from collections.abc import Sequence

from vornet.core.errors import InputError
from vornet.flows.house import fleets, passwords, people
from vornet.flows.house.sessions import hashed
from vornet.store.database import Database, query


def code(db: Database) -> str | None:
    """A code that lets the first person make the first fleet; None when somebody has a sign-in already."""
    with db.anyone() as connection:
        row = connection.execute(query("people.any_account")).fetchone()
        if row and row["known"]:
            return None
        made = secrets.token_hex(8)
        connection.execute(query("people.put_first_run"), {"code_hash": hashed(made)})
    return made


def nobody_yet(db: Database) -> bool:
    with db.anyone() as connection:
        row = connection.execute(query("people.any_account")).fetchone()
    return not (row and row["known"])


def set_up(db: Database, code: str, fleet: str, zone: str, login: str, name: str, password: str, roles: Sequence[str] = ("admin",)) -> None:
    """First run: make the first fleet and its first admin, who may do more than that. Needs the code that the start printed."""
    with db.anyone() as connection:
        row = connection.execute(query("people.first_run"), {"code_hash": hashed(code.strip())}).fetchone()
        if not (row and row["fits"]):
            raise InputError("code", "is not the one that was printed when Vornet was started")
    if not nobody_yet(db):
        raise InputError("code", "Vornet is set up already: sign in")
    fleet = fleet.strip()[:120]
    if not fleet:
        raise InputError("fleet", "give the fleet a name")
    people.checked_login(login), passwords.checked(password, login, name, fleet)
    fleets.check_zone(zone)
    fleets.find_or_make(db, fleet, zone=zone)
    people.add(db, fleet, login, name.strip() or login, password, *people.in_order(["admin", *roles]))
    with db.fleet(fleets.find(db, fleet)) as connection:
        connection.execute(query("register.set_begun"), {"begun": json.dumps({"skipped": []})})
    with db.anyone() as connection:
        connection.execute(query("people.forget_first_run"))
