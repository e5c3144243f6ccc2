"""Signing in and being signed in: attempts, the second factor's turn, sessions that end. Only a token's hash is ever stored."""

from __future__ import annotations

import hashlib
import math
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import fleets, installation, passwords
from vornet.flows.house.people import Visitor, owes_second
from vornet.store.database import Connection, Database, query
from vornet.words.writing import Writes

LIFETIME = timedelta(hours=14)
#: how long the second factor is waited for
HALFWAY = timedelta(minutes=10)
#: failures from one place that cost nothing; then 1, 2, 4 … s, the longest a quarter of an hour
FREE, LONGEST_S = 5, 900
#: failures from everywhere within an hour after which places that are not known for the person wait
MOST_AN_HOUR = 100


class TooMany(InputError):
    """A place has to wait before it may try again; nothing was tried."""


@dataclass(frozen=True)
class Opened:
    """A session's token; ``awaits_code``: it is good for nothing but the second factor."""

    token: str
    awaits_code: bool


@dataclass(frozen=True)
class Halfway:
    """Somebody whose password fitted and whose second factor is awaited."""

    account_id: int
    login: str
    token: str


def hashed(token: str) -> bytes:
    return hashlib.sha256(token.encode("utf-8", "replace")).digest()


def waiting(seconds: float) -> str:
    """How long to wait, in words."""
    whole = math.ceil(seconds)
    return f"{whole} s" if whole < 90 else f"{math.ceil(whole / 60)} minutes"


@contextmanager
def attempt(db: Database, what: str, address: str) -> Iterator[None]:
    """One try at a secret from one place: refused while the place waits (InputError), counted as failed unless the block ends well.

    The place waits by name and address together: whoever guesses keeps nobody else waiting, neither behind the same address nor
    elsewhere. ``what``: the sign-in, and after a space which secret of theirs.
    """
    with db.anyone() as connection:
        asked = {"what": what, "place": address, "free": FREE, "longest": LONGEST_S, "most": MOST_AN_HOUR}
        row = connection.execute(query("people.attempt_begin"), asked).fetchone()
    assert row is not None
    if row["wait"] > 0:
        raise TooMany("login", f"too many attempts: wait {waiting(row['wait'])}")
    try:
        yield
    except passwords.Busy:
        with db.anyone() as connection:
            connection.execute(query("people.attempt_fits"), {"what": what, "place": address})
        raise
    with db.anyone() as connection:
        connection.execute(query("people.attempt_fits"), {"what": what, "place": address})


def tell(db: Database, account_id: int, who: str, what: str, about: str, **detail: object) -> None:
    """A line about an account, in the audit trail of every fleet it belongs to."""
    with db.person(account_id) as connection:
        mine = connection.execute(query("people.fleets_of"), {"account_id": account_id}).fetchall()
    for fleet in mine:
        with db.fleet(fleet["fleet_id"], account_id) as connection:
            fleets.audit(connection, fleet["fleet_id"], who, what, about, **detail)


def open_session(db: Database, account_id: int, address: str, agent: str, code: bool, second: bool, how: str) -> Opened:
    """A new session in the first of a person's fleets. ``code``: it only awaits the second factor. Raises InputError for whoever is in
    no fleet."""
    token = secrets.token_urlsafe(32)
    with db.person(account_id) as connection:
        mine = connection.execute(query("people.fleets_of"), {"account_id": account_id}).fetchall()
        if not mine:
            raise InputError("login", "that name and password do not fit together")
        connection.execute(
            query("people.open_session"),
            {"token_hash": hashed(token), "account_id": account_id, "fleet_id": mine[0]["fleet_id"], "csrf": secrets.token_urlsafe(24),
             "lifetime": HALFWAY if code else LIFETIME, "agent": agent[:200], "stage": "code" if code else "in", "second": second},
        )  # fmt: skip
        if not code:
            connection.execute(query("people.known_address"), {"account_id": account_id, "address": address})
    if not code:
        person = secrets_of(db, account_id)
        with db.fleet(mine[0]["fleet_id"], account_id) as connection:
            fleets.audit(connection, mine[0]["fleet_id"], person["display_name"], "signed in", person["login"], how=how, address=address)
    return Opened(token, code)


def secrets_of(db: Database, account_id: int) -> dict[str, Any]:
    """What is kept of an account to sign in with."""
    with db.anyone() as connection:
        row = connection.execute(query("people.account_secrets"), {"account_id": account_id}).fetchone()
    assert row is not None
    found: dict[str, Any] = row
    return found


def account_named(db: Database, login: str) -> int | None:
    with db.anyone() as connection:
        row = connection.execute(query("people.account_named"), {"login": login}).fetchone()
    return row["id"] if row else None


def sign_in(db: Database, login: str, password: str, address: str = "", agent: str = "") -> Opened:
    """Check a password and open a session; where the person has a second factor, one that awaits it. Raises InputError with one
    sentence, Busy."""
    login = login.strip().lower()[:80]
    account_id = account_named(db, login)
    kept = secrets_of(db, account_id) if account_id is not None else None
    try:
        with attempt(db, login, address):
            if not passwords.fits(kept["password_hash"] if kept else None, password) or account_id is None or kept is None:
                raise InputError("login", "that name and password do not fit together")
            return open_session(db, account_id, address, agent, code=bool(kept["totp"]), second=False, how="password")
    except InputError as error:
        if account_id is not None and kept is not None and not isinstance(error, TooMany):
            tell(db, account_id, kept["display_name"], "sign-in failed", login, address=address, why=error.why)
        raise


def halfway(db: Database, token: str) -> Halfway | None:
    """Whose second factor a token awaits; None when it awaits none."""
    with db.anyone() as connection:
        s = connection.execute(query("people.session"), {"token_hash": hashed(token), "idle": installation.idle()}).fetchone()
    return Halfway(s["account_id"], s["login"], token) if s and s["stage"] == "code" else None


def visitor(db: Database, token: str) -> Visitor | None:
    """Who a session token belongs to, or None when it has ended, was not used for too long, or awaits a second factor."""
    with db.anyone() as connection:
        s = connection.execute(query("people.session"), {"token_hash": hashed(token), "idle": installation.idle()}).fetchone()
        if s is None or s["stage"] != "in":
            return None
        mine = connection.execute(query("people.fleets_of"), {"account_id": s["account_id"]}).fetchall()
    for f in mine:
        if f["fleet_id"] == s["fleet_id"]:
            roles = tuple(f["roles"])
            return Visitor(
                s["account_id"], s["login"], s["display_name"], f["fleet_id"], f["name"], roles, s["csrf"], f["measures"], f["zone"],
                Writes.of(s["writes"]), tuple((m["fleet_id"], m["name"]) for m in mine), second=s["second"],
                owes_second=owes_second(roles, f["second_factor"]) and not s["second"],
            )  # fmt: skip
    return None


def choose_fleet(db: Database, token: str, who: Visitor, fleet_id: int) -> None:
    """Go on in another of one's fleets."""
    if fleet_id not in dict(who.fleets):
        raise InputError("fleet", "you are not in that fleet")
    with db.person(who.account_id) as connection:
        connection.execute(query("people.choose_fleet"), {"token_hash": hashed(token), "fleet_id": fleet_id})
    with db.fleet(fleet_id, who.account_id) as connection:
        fleets.audit(connection, fleet_id, who.name, "signed in", who.login, how="from another fleet")


def sign_out(db: Database, token: str) -> None:
    """End a session; those that ended by themselves go with it."""
    with db.anyone() as connection:
        connection.execute(query("people.close_session"), {"token_hash": hashed(token), "idle": installation.idle()})


def end_others(db: Database, account_id: int, keep: str | None) -> int:
    """End a person's sessions but the one whose token is ``keep``; how many ended."""
    with db.person(account_id) as connection:
        return connection.execute(query("people.close_sessions"), {"account_id": account_id, "keep": hashed(keep) if keep else None}).rowcount


def sign_out_everywhere(db: Database, account_id: int, keep: str | None = None) -> int:
    """End all of a person's sessions, but for the one whose token is ``keep``, and every token and job key that acts for them; how many
    ended."""
    closed = end_others(db, account_id, keep)
    with db.person(account_id) as connection:
        keys = connection.execute(query("people.end_keys"), {"account_id": account_id}).fetchone()
    return closed + (keys["n"] if keys else 0)


def sessions(db: Database, who: Visitor, token: str) -> list[dict[str, Any]]:
    """One's open sessions, the newest first."""
    with db.person(who.account_id) as connection:
        asked = {"account_id": who.account_id, "token_hash": hashed(token), "idle": installation.idle()}
        return connection.execute(query("people.sessions"), asked).fetchall()


def end_sessions(connection: Connection, by: Visitor, account_id: int) -> None:
    """An admin ends what a member has open in this fleet: sessions, tokens and job keys; other fleets are none of an admin's business."""
    member = connection.execute(query("people.member"), {"account_id": account_id}).fetchone()
    if member is None:
        raise InputError("person", "is not in this fleet")
    ended = connection.execute(query("people.close_sessions_here"), {"account_id": account_id, "fleet_id": by.fleet_id}).rowcount
    ended += connection.execute(query("people.end_keys_here"), {"account_id": account_id}).rowcount
    ended += connection.execute(query("people.end_devices_here"), {"account_id": account_id}).rowcount
    fleets.audit(connection, by.fleet_id, by.name, "signed out here", member["login"], ended=ended)


def own_password(db: Database, who: Visitor, password: str, address: str) -> None:
    """Whoever is signed in says their password once more: as often as a stranger may. Raises InputError, Busy."""
    kept = secrets_of(db, who.account_id)
    if not kept["password_hash"]:
        return  # signs in by the provider alone
    with attempt(db, f"{who.login} password", address):
        if not passwords.fits(kept["password_hash"], password):
            raise InputError("password now", "does not fit")


def change_password(db: Database, who: Visitor, old: str, new: str, token: str, address: str = "") -> None:
    """Change one's own password; every other session ends."""
    own_password(db, who, old, address)
    made = passwords.hashed(new, who.login, who.name, who.fleet)
    with db.person(who.account_id) as connection:
        connection.execute(query("people.set_password"), {"account_id": who.account_id, "hash": made})
    sign_out_everywhere(db, who.account_id, keep=token)
    tell(db, who.account_id, who.name, "password changed", who.login)
