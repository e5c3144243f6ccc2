"""The second factor: six figures that a device works out from a secret and the time (RFC 6238), and codes for when it is lost."""

from __future__ import annotations

import secrets
import time

import pyotp

from vornet.core.errors import InputError
from vornet.flows.house import fleets, people, sessions
from vornet.flows.house.people import Visitor
from vornet.flows.house.sessions import Halfway, Opened, attempt, hashed
from vornet.store import secrets as sealed
from vornet.store.database import Connection, Database, StoreError, query

CODES = 10
#: letters and figures that nobody mixes up: 24 of them are 120 bits, so that a plain hash keeps them
LETTERS = "abcdefghijkmnpqrstuvwxyz23456789"
STEP_S = 30
#: steps before and after now whose code still fits: clocks differ
DRIFT = 1
NO_FIT = "does not fit: take the one that is shown now"


def offered(who: Visitor) -> tuple[str, str, str]:
    """A new secret: as it is typed by hand, as the address in a QR code, and sealed for the form that brings it back."""
    secret = pyotp.random_base32()
    return secret, pyotp.TOTP(secret).provisioning_uri(name=who.login, issuer_name="Vornet"), sealed.seal(f"{who.account_id} {secret}")


def _step(secret: str, code: str, used: int) -> int | None:
    """The step of time a code belongs to, None when it fits none; one that was used, or an earlier one, fits no more."""
    totp, now = pyotp.TOTP(secret), int(time.time()) // STEP_S
    plain = "".join(code.split())
    for step in range(now - DRIFT, now + DRIFT + 1):
        if step > used and secrets.compare_digest(totp.at(step * STEP_S).encode(), plain.encode("utf-8", "replace")):
            return step
    return None


def _new_codes(connection: Connection, account_id: int) -> list[str]:
    codes = ["-".join("".join(secrets.choice(LETTERS) for _ in range(4)) for _ in range(6)) for _ in range(CODES)]
    connection.execute(query("people.forget_codes"), {"account_id": account_id})
    for code in codes:
        connection.execute(query("people.put_code"), {"account_id": account_id, "code_hash": hashed(code)})
    return codes


def take_up(db: Database, who: Visitor, brought: str, code: str, password: str, token: str, address: str) -> list[str]:
    """Begin to use an offered secret, proven by a code of it; the recovery codes, shown this once. Other sessions end. Raises InputError."""
    sessions.own_password(db, who, password, address)
    try:
        whose, _, secret = sealed.unseal(brought).partition(" ") if brought.startswith(sealed.SEALED) else ("", "", "")
    except StoreError:
        whose, secret = "", ""
    if whose != str(who.account_id):
        raise InputError("code", "this page is too old, or somebody else's: load it again")
    step = _step(secret, code, 0)
    if step is None:
        raise InputError("code", NO_FIT)
    with db.person(who.account_id) as connection:
        connection.execute(query("people.put_second"), {"account_id": who.account_id, "totp": sealed.seal(secret), "step": step})
        connection.execute(query("people.session_second"), {"token_hash": hashed(token)})
        codes = _new_codes(connection, who.account_id)
    sessions.end_others(db, who.account_id, token)
    sessions.tell(db, who.account_id, who.name, "second factor taken up", who.login)
    return codes


def _fits(db: Database, account_id: int, code: str) -> str:
    """What fitted: 'code', 'recovery code', or ''. Either is used up."""
    kept = sessions.secrets_of(db, account_id)
    if not kept["totp"]:
        return ""
    step = _step(sealed.unseal(kept["totp"]), code, kept["totp_step"])
    with db.person(account_id) as connection:
        if step is not None:
            # two who bring the same code at one time: one of them is late
            fresh = connection.execute(query("people.use_step"), {"account_id": account_id, "step": step}).rowcount
            return "code" if fresh else ""
        plain = code.strip().lower()
        return (
            "recovery code"
            if connection.execute(query("people.use_code"), {"account_id": account_id, "code_hash": hashed(plain)}).rowcount
            else ""
        )


def enter(db: Database, who: Halfway, code: str, address: str, agent: str) -> Opened:
    """The second half of signing in; the token that awaited it ends. Raises InputError."""
    kept = sessions.secrets_of(db, who.account_id)
    try:
        with attempt(db, f"{who.login} code", address):
            how = _fits(db, who.account_id, code)
            if not how:
                raise InputError("code", NO_FIT)
            opened = sessions.open_session(db, who.account_id, address, agent, code=False, second=True, how=f"password and {how}")
    except sessions.TooMany:
        raise
    except InputError as error:
        sessions.tell(db, who.account_id, kept["display_name"], "sign-in failed", who.login, address=address, why=f"code: {error.why}")
        raise
    sessions.sign_out(db, who.token)
    return opened


def _own_code(db: Database, who: Visitor, code: str, address: str) -> None:
    with attempt(db, f"{who.login} code", address):
        if not _fits(db, who.account_id, code):
            raise InputError("code", NO_FIT)


def codes_afresh(db: Database, who: Visitor, code: str, address: str) -> list[str]:
    """New recovery codes; those before are good no more."""
    _own_code(db, who, code, address)
    with db.person(who.account_id) as connection:
        codes = _new_codes(connection, who.account_id)
    sessions.tell(db, who.account_id, who.name, "recovery codes made", who.login)
    return codes


def give_up(db: Database, who: Visitor, code: str, password: str, address: str) -> None:
    """Sign in without a second factor again. Refused where the fleet asks for one."""
    with db.person(who.account_id) as connection:
        mine = connection.execute(query("people.fleets_of"), {"account_id": who.account_id}).fetchall()
    asking = [f["name"] for f in mine if people.owes_second(f["roles"], f["second_factor"])]
    if asking:
        raise InputError("second factor", f"{asking[0]} asks for one of whoever does what you do there")
    sessions.own_password(db, who, password, address)
    _own_code(db, who, code, address)
    with db.person(who.account_id) as connection:
        connection.execute(query("people.put_second"), {"account_id": who.account_id, "totp": "", "step": 0})
        connection.execute(query("people.forget_codes"), {"account_id": who.account_id})
    sessions.tell(db, who.account_id, who.name, "second factor given up", who.login)


def codes_left(db: Database, account_id: int) -> int | None:
    """How many recovery codes somebody has left; None without a second factor."""
    if not sessions.secrets_of(db, account_id)["totp"]:
        return None
    with db.person(account_id) as connection:
        row = connection.execute(query("people.codes_left"), {"account_id": account_id}).fetchone()
    return row["n"] if row else 0


def take_off(connection: Connection, fleet_id: int, by: str, account_id: int) -> None:
    """An admin takes a lost second factor off a member who is in this fleet alone; whatever they had open ends."""
    member = connection.execute(query("people.member"), {"account_id": account_id}).fetchone()
    if member is None:
        raise InputError("person", "is not in this fleet")
    done = connection.execute(query("people.second_off"), {"account_id": account_id, "fleet_id": fleet_id}).fetchone()
    if not (done and done["done"]):
        raise InputError("person", "has a sign-in that is not this fleet's alone: a recovery code of their own helps them")
    fleets.audit(connection, fleet_id, by, "second factor taken off", member["login"])


def ask_of(connection: Connection, by: Visitor, roles: list[str]) -> None:
    """Of whom the fleet asks for a second factor."""
    wanted = people.checked_roles(roles) if roles else []
    was = fleets.settings(connection)["second_factor"]
    connection.execute(query("people.ask_second"), {"roles": wanted})
    fleets.audit(connection, by.fleet_id, by.name, "second factor asked of", ", ".join(wanted) or "nobody", was=was, now=wanted)
