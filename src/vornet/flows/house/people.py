"""Who may sign in: accounts, memberships, sessions, API tokens. Only a token's hash is ever stored."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError

from vornet.core.errors import InputError
from vornet.flows.house import access, fleets
from vornet.store.database import Connection, Database, query

LIFETIME = timedelta(hours=14)
#: failed sign-ins within a quarter of an hour before a name, or an address, has to wait
MOST_FAILURES, MOST_FROM_ADDRESS = 8, 60
LONGEST_TOKEN_DAYS = 730
ROLES = access.ROLES
TOKEN_PREFIX = "vnt_"
_hasher = PasswordHasher()
#: verified when the login is unknown, so that an unknown login takes as long as a wrong password
_NOBODY = _hasher.hash(secrets.token_urlsafe(16))


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
    fleets: tuple[tuple[int, str], ...] = ()
    scopes: tuple[str, ...] | None = None

    def may(self, right: str) -> bool:
        return access.allowed(self.roles, right, self.scopes)

    @property
    def role(self) -> str:
        """What the person is in the fleet, as one says it."""
        return " and ".join(self.roles)


def _login(text: str) -> str:
    login = text.strip().lower()
    if not login or len(login) > 80 or any(c.isspace() for c in login):
        raise InputError("login", "a sign-in name of at most 80 characters without spaces is needed")
    return login


def _password(text: str) -> str:
    if len(text) < 8:
        raise InputError("password", "at least 8 characters are needed")
    if len(text) > 1000:
        raise InputError("password", "at most 1,000 characters")
    return text


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


def hashed_password(password: str) -> str:
    """What is kept of a password. Raises InputError for one that may not be."""
    return _hasher.hash(_password(password))


def make_account(db: Database, login: str, name: str, password: str) -> int:
    """A new sign-in; its number. Raises InputError when the name is taken, changing nothing."""
    login, kept = _login(login), hashed_password(password)
    with db.anyone() as connection:
        made = connection.execute(
            query("people.new_account"), {"login": login, "name": (name.strip() or login)[:120], "hash": kept}
        ).fetchone()
    if made is None:
        raise InputError("login", "is taken: choose another one, or sign in with it if it is yours")
    return int(made["account_id"])


def add(db: Database, fleet: str, login: str, name: str, password: str, *roles: str) -> bool:
    """Make a sign-in and its membership of a fleet (from the command line); whether the sign-in is new. One that exists keeps its name and
    password, and joins the fleet; one that is in it already is left as it is (InputError)."""
    login, wanted = _login(login), checked_roles(roles)
    fleet_id = fleets.find(db, fleet)
    with db.anyone() as connection:
        known = connection.execute(query("people.account"), {"login": login}).fetchone()
    account_id = make_account(db, login, name, password) if known is None else known["account_id"]
    with db.fleet(fleet_id) as connection:
        if connection.execute(query("people.member"), {"account_id": account_id}).fetchone() is not None:
            raise InputError(
                "login", f"{login} is in {fleet} already: an admin changes roles on the page People, `vornet user link` a password"
            )
        connection.execute(query("people.put_member"), {"fleet_id": fleet_id, "account_id": account_id, "roles": wanted})
        fleets.audit(connection, fleet_id, "command line", "person let in", login, roles=wanted)
    return known is None


def set_roles(connection: Connection, by: Visitor, account_id: int, roles: list[str]) -> None:
    """Change what a member does; none takes the membership away. The last admin stays."""
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


def hashed(token: str) -> bytes:
    return hashlib.sha256(token.encode()).digest()


def sign_in(db: Database, login: str, password: str, address: str = "", agent: str = "") -> str:
    """Check a password and open a session; returns its token. Raises InputError with one sentence."""
    login = login.strip().lower()[:80]
    with db.anyone() as connection:
        failures = connection.execute(query("people.failures"), {"login": login, "address": address}).fetchone()
        assert failures is not None
        if failures["named"] >= MOST_FAILURES or failures["from_there"] >= MOST_FROM_ADDRESS:
            raise InputError("login", "too many attempts: wait a quarter of an hour")
        account = connection.execute(query("people.account"), {"login": login}).fetchone()
    try:
        good = bool(_hasher.verify(account["password_hash"] if account else _NOBODY, password[:1000]))
    except (VerifyMismatchError, InvalidHashError):
        good = False
    with db.anyone() as connection:
        if not good or account is None:
            connection.execute(query("people.note_failure"), {"login": login, "address": address})
        else:
            connection.execute(query("people.forget_failures"), {"login": login})
            mine = connection.execute("SELECT * FROM fleets_of(%s)", [account["account_id"]]).fetchall()
            if mine:
                token = secrets.token_urlsafe(32)
                connection.execute(
                    query("people.open_session"),
                    {"token_hash": hashed(token), "account_id": account["account_id"],
                     "fleet_id": mine[0]["fleet_id"], "csrf": secrets.token_urlsafe(24), "lifetime": LIFETIME,
                     "agent": agent[:200]},
                )  # fmt: skip
                return token
    raise InputError("login", "that name and password do not fit together")


def visitor(db: Database, token: str) -> Visitor | None:
    """Who a session token belongs to, or None when it has ended."""
    with db.anyone() as connection:
        s = connection.execute(query("people.session"), {"token_hash": hashed(token)}).fetchone()
        if s is None:
            return None
        mine = connection.execute("SELECT * FROM fleets_of(%s)", [s["account_id"]]).fetchall()
    for f in mine:
        if f["fleet_id"] == s["fleet_id"]:
            return Visitor(
                s["account_id"], s["login"], s["display_name"], f["fleet_id"], f["name"], tuple(f["roles"]), s["csrf"],
                f["measures"], tuple((m["fleet_id"], m["name"]) for m in mine),
            )  # fmt: skip
    return None


def bearer(db: Database, token: str) -> Visitor | None:
    """The person a program acts for, within its token's scopes; None when the token is unknown or has ended."""
    with db.anyone() as connection:
        t = connection.execute("SELECT * FROM token_owner(%s)", [hashed(token)]).fetchone()
    if t is None:
        return None
    with db.fleet(t["fleet_id"]) as connection:
        connection.execute(query("people.token_used"), {"token_id": t["token_id"]})
    return Visitor(
        t["account_id"], t["login"], t["display_name"], t["fleet_id"], t["fleet"], tuple(t["roles"]), "", t["measures"],
        scopes=tuple(t["scopes"]),
    )  # fmt: skip


def choose_fleet(db: Database, token: str, who: Visitor, fleet_id: int) -> None:
    """Go on in another of one's fleets."""
    if fleet_id not in dict(who.fleets):
        raise InputError("fleet", "you are not in that fleet")
    with db.anyone() as connection:
        connection.execute(query("people.choose_fleet"), {"token_hash": hashed(token), "fleet_id": fleet_id})


def sign_out(db: Database, token: str) -> None:
    with db.anyone() as connection:
        connection.execute(query("people.close_session"), {"token_hash": hashed(token)})


def sign_out_everywhere(db: Database, account_id: int, keep: str | None = None) -> int:
    """End all of a person's sessions, but for the one whose token is ``keep``, and every token and job key that acts for them; how many
    ended."""
    with db.anyone() as connection:
        closed = connection.execute(
            query("people.close_sessions"), {"account_id": account_id, "keep": hashed(keep) if keep else None}
        ).rowcount
        keys = connection.execute("SELECT end_keys_of(%s) AS n", [account_id]).fetchone()
    return closed + (keys["n"] if keys else 0)


def members(connection: Connection) -> list[dict[str, Any]]:
    return connection.execute(query("people.members")).fetchall()


def tokens(connection: Connection, account_id: int | None) -> list[dict[str, Any]]:
    """API tokens, one person's or (None) everyone's; never their text."""
    return connection.execute(query("people.tokens"), {"account_id": account_id}).fetchall()


def end_sessions(connection: Connection, by: Visitor, account_id: int) -> None:
    """An admin ends what a member has open in this fleet: sessions, tokens and job keys; other fleets are none of an admin's business."""
    member = connection.execute(query("people.member"), {"account_id": account_id}).fetchone()
    if member is None:
        raise InputError("person", "is not in this fleet")
    ended = connection.execute(query("people.close_sessions_here"), {"account_id": account_id, "fleet_id": by.fleet_id}).rowcount
    ended += connection.execute(query("people.end_keys_here"), {"account_id": account_id}).rowcount
    ended += connection.execute(query("people.end_devices_here"), {"account_id": account_id}).rowcount
    fleets.audit(connection, by.fleet_id, by.name, "signed out here", member["login"], ended=ended)


def audit_words(connection: Connection) -> dict[str, list[str]]:
    """The people and the doings there are, to filter the audit trail by."""
    row = connection.execute(query("people.audit_words")).fetchone()
    assert row is not None
    return {"who": sorted(row["who"] or []), "what": sorted(row["what"] or [])}


def sessions(db: Database, who: Visitor, token: str) -> list[dict[str, Any]]:
    with db.anyone() as connection:
        return connection.execute(query("people.sessions"), {"account_id": who.account_id, "token_hash": hashed(token)}).fetchall()


def change_password(db: Database, who: Visitor, old: str, new: str, token: str) -> None:
    """Change one's own password; every other session ends."""
    with db.anyone() as connection:
        account = connection.execute(query("people.account_by_id"), {"account_id": who.account_id}).fetchone()
    assert account is not None
    try:
        _hasher.verify(account["password_hash"], old[:1000])
    except (VerifyMismatchError, InvalidHashError):
        raise InputError("old password", "does not fit") from None
    with db.anyone() as connection:
        connection.execute(query("people.set_password"), {"account_id": who.account_id, "hash": hashed_password(new)})
    sign_out_everywhere(db, who.account_id, keep=token)


def make_token(connection: Connection, fleet_id: int, account_id: int, by: str, name: str, scopes: list[str], days: int) -> str:
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


def revoke_token(connection: Connection, by: Visitor, token_id: int, anyone: bool) -> None:
    """End a token: one's own, or ``anyone``'s for an admin."""
    row = connection.execute(query("people.revoke_token"), {"token_id": token_id, "account_id": None if anyone else by.account_id}).fetchone()
    if row is None:
        raise InputError("token", "is not there, or has ended already")
    fleets.audit(connection, by.fleet_id, by.name, "token ended", row["name"])


def first_run_code(db: Database) -> str | None:
    """A code that lets the first person make the first fleet; None when somebody has a sign-in already."""
    with db.anyone() as connection:
        row = connection.execute(query("people.any_account")).fetchone()
        if row and row["known"]:
            return None
        code = secrets.token_hex(4)
        connection.execute(query("people.put_first_run"), {"code_hash": hashed(code)})
    return code


def nobody_yet(db: Database) -> bool:
    with db.anyone() as connection:
        row = connection.execute(query("people.any_account")).fetchone()
    return not (row and row["known"])


def set_up(db: Database, code: str, fleet: str, zone: str, login: str, name: str, password: str) -> None:
    """First run: make the first fleet and its first admin. Needs the code that the start printed."""
    with db.anyone() as connection:
        if not connection.execute(query("people.first_run"), {"code_hash": hashed(code.strip())}).fetchone():
            raise InputError("code", "is not the one that was printed when Vornet was started")
    if not nobody_yet(db):
        raise InputError("code", "Vornet is set up already: sign in")
    fleet = fleet.strip()[:120]
    if not fleet:
        raise InputError("fleet", "give the fleet a name")
    _login(login), _password(password)
    fleets.check_zone(zone)
    fleets.find_or_make(db, fleet, zone=zone)
    add(db, fleet, login, name.strip() or login, password, "admin")
    with db.anyone() as connection:
        connection.execute(query("people.forget_first_run"))


def audit_trail(
    connection: Connection, who: str = "", what: str = "", q: str = "", since: Any = None, until: Any = None,
    before: int | None = None, limit: int = 100,
) -> list[dict[str, Any]]:  # fmt: skip
    """The fleet's audit trail, newest first, filtered."""
    like = "%" + q.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
    return connection.execute(
        query("people.audit_trail"),
        {"who": who, "what": what, "q": q, "like": like, "since": since, "until": until, "before": before, "limit": limit},
    ).fetchall()
