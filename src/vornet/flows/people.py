"""Who may sign in: accounts, memberships, sessions kept in the database (only a token's hash is stored)."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass
from datetime import timedelta

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError

from vornet.core.errors import InputError
from vornet.flows import fleets
from vornet.store.database import Database, query

LIFETIME = timedelta(hours=14)
MOST_FAILURES = 8
ROLES = ("technician", "planner", "analyst", "manager", "admin", "viewer")
_hasher = PasswordHasher()
#: verified when the login is unknown, so that an unknown login takes as long as a wrong password
_NOBODY = _hasher.hash(secrets.token_urlsafe(16))


@dataclass(frozen=True)
class Visitor:
    """A signed-in person in one fleet."""

    account_id: int
    login: str
    name: str
    fleet_id: int
    fleet: str
    role: str
    csrf: str


def add(db: Database, fleet: str, login: str, name: str, password: str, role: str) -> None:
    """Make or update a sign-in and its membership of a fleet."""
    login = login.strip().lower()
    if not login or len(login) > 80:
        raise InputError("login", "a login of at most 80 characters is needed")
    if role not in ROLES:
        raise InputError("role", f"{role!r} is not one of {', '.join(ROLES)}")
    if len(password) < 8:
        raise InputError("password", "at least 8 characters are needed")
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as connection:
        row = connection.execute(
            query("people.put_account"), {"login": login, "name": name, "hash": _hasher.hash(password)}
        ).fetchone()
        assert row is not None
        connection.execute(
            query("people.put_member"), {"fleet_id": fleet_id, "account_id": row["account_id"], "role": role}
        )


def _hash(token: str) -> bytes:
    return hashlib.sha256(token.encode()).digest()


def sign_in(db: Database, login: str, password: str) -> str:
    """Check a password and open a session; returns its token. Raises InputError with one sentence."""
    login = login.strip().lower()[:80]
    with db.anyone() as connection:
        failures = connection.execute(query("people.failures"), {"login": login}).fetchone()
        if failures and failures["n"] >= MOST_FAILURES:
            raise InputError("login", "too many attempts: wait a quarter of an hour")
        account = connection.execute(query("people.account"), {"login": login}).fetchone()
    try:
        good = bool(_hasher.verify(account["password_hash"] if account else _NOBODY, password))
    except (VerifyMismatchError, InvalidHashError):
        good = False
    with db.anyone() as connection:
        if not good or account is None:
            connection.execute(query("people.note_failure"), {"login": login})
        else:
            connection.execute(query("people.forget_failures"), {"login": login})
            mine = connection.execute("SELECT * FROM fleets_of(%s)", [account["account_id"]]).fetchall()
            if mine:
                token = secrets.token_urlsafe(32)
                connection.execute(
                    query("people.open_session"),
                    {"token_hash": _hash(token), "account_id": account["account_id"],
                     "fleet_id": mine[0]["fleet_id"], "csrf": secrets.token_urlsafe(24), "lifetime": LIFETIME},
                )  # fmt: skip
                return token
    raise InputError("login", "that name and password do not fit together")


def visitor(db: Database, token: str) -> Visitor | None:
    """Who a session token belongs to, or None when it has ended."""
    with db.anyone() as connection:
        s = connection.execute(query("people.session"), {"token_hash": _hash(token)}).fetchone()
        if s is None:
            return None
        mine = connection.execute("SELECT * FROM fleets_of(%s)", [s["account_id"]]).fetchall()
    for f in mine:
        if f["fleet_id"] == s["fleet_id"]:
            return Visitor(
                s["account_id"], s["login"], s["display_name"], f["fleet_id"], f["name"], f["role"], s["csrf"]
            )
    return None


def sign_out(db: Database, token: str) -> None:
    with db.anyone() as connection:
        connection.execute(query("people.close_session"), {"token_hash": _hash(token)})
