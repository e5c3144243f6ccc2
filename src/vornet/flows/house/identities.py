"""Signing in by a provider that vouches for somebody (OpenID Connect). Nobody is taken for somebody else by an address or a name: a person
who is signed in joins the provider's sign-in to their own, or takes an invitation with it."""

from __future__ import annotations

import json
import time
from dataclasses import asdict, dataclass
from typing import Any

from vornet.core.errors import InputError
from vornet.flows.house import installation, links, people, sessions
from vornet.flows.house.installation import Provider
from vornet.flows.house.people import Visitor
from vornet.flows.house.sessions import Opened
from vornet.io import provider as asking
from vornet.io.provider import Asked, NotVouched, Vouched
from vornet.store import secrets
from vornet.store.database import Database, StoreError, query

BACK = "/sign-in/vouched"
#: how long somebody may take at the provider's, s
PATIENCE_S = 600


@dataclass(frozen=True)
class Errand:
    """Why somebody was sent to the provider: to sign in and go on ``to``, to join it to their account, to take an invitation."""

    to: str = "/"
    account_id: int | None = None
    invitation: str = ""


def _provider() -> Provider:
    found = installation.provider()
    if found is None:
        raise InputError("sign-in", "no provider of sign-ins is set up here")
    return found


def send(errand: Errand) -> tuple[str, str]:
    """Where to send somebody, and what they keep (sealed) until they are back. Raises InputError."""
    there = _provider()
    try:
        asked = asking.ask(there.issuer, there.client_id, there.client_secret, installation.address() + BACK)
    except NotVouched as error:
        raise InputError("sign-in", str(error)) from None
    kept = secrets.seal(json.dumps({"asked": asdict(asked), "errand": asdict(errand), "at": int(time.time())}))
    return asked.address, kept


def came_back(kept: str, came: str) -> tuple[Vouched, Errand]:
    """Whom the provider means, and what they were sent for. Raises InputError."""
    there = _provider()
    try:
        if not kept.startswith(secrets.SEALED):
            raise ValueError
        note: dict[str, Any] = json.loads(secrets.unseal(kept))
        asked, errand = Asked(**note["asked"]), Errand(**note["errand"])
    except (ValueError, KeyError, TypeError, StoreError):
        raise InputError("sign-in", "this browser did not ask to sign in, or too long ago: begin again") from None
    if not 0 <= time.time() - note["at"] <= PATIENCE_S:
        raise InputError("sign-in", "that took too long: begin again")
    try:
        vouched = asking.answered(there.issuer, there.client_id, there.client_secret, installation.address() + BACK, asked, came)
    except NotVouched as error:
        raise InputError("sign-in", str(error)) from None
    return vouched, errand


def _whose(db: Database, vouched: Vouched) -> int | None:
    with db.anyone() as connection:
        row = connection.execute(query("people.identity"), {"issuer": vouched.issuer, "subject": vouched.subject}).fetchone()
    return row["id"] if row else None


def sign_in(db: Database, vouched: Vouched, address: str, agent: str) -> Opened:
    """A session for whom the provider means; their own second factor is asked for where the provider asked for none. Raises InputError."""
    account_id = _whose(db, vouched)
    if account_id is None:
        raise InputError("sign-in", "nobody here signs in that way yet: sign in with your password, and join it under your account")
    code = bool(sessions.secrets_of(db, account_id)["totp"]) and not vouched.strong
    return sessions.open_session(db, account_id, address, agent, code=code, second=vouched.strong, how="provider")


def join(db: Database, vouched: Vouched, account_id: int) -> None:
    """The provider vouches for an account from now on. Raises InputError where it vouches for another one already."""
    with db.person(account_id) as connection:
        named = {"issuer": vouched.issuer, "subject": vouched.subject, "account_id": account_id}
        if connection.execute(query("people.put_identity"), named).fetchone() is None:
            raise InputError("sign-in", "is joined already: to this account or to another one")
    person = sessions.secrets_of(db, account_id)
    sessions.tell(db, account_id, person["display_name"], "provider joined", person["login"], issuer=vouched.issuer)


def part(db: Database, who: Visitor) -> None:
    """The provider vouches no more. Raises InputError for whoever has no password to sign in with."""
    there = _provider()
    if not sessions.secrets_of(db, who.account_id)["password_hash"]:
        raise InputError("sign-in", "is the only way you have: ask an admin for a link to a password first")
    with db.person(who.account_id) as connection:
        connection.execute(query("people.forget_identity"), {"account_id": who.account_id, "issuer": there.issuer})
    sessions.tell(db, who.account_id, who.name, "provider parted from", who.login, issuer=there.issuer)


def accept(db: Database, vouched: Vouched, token: str) -> None:
    """The invitee joins with the provider's sign-in: an account of theirs, or a new one without a password."""
    found = links.offered(db, token)
    if found is None:
        raise InputError("invitation", links.GONE)
    account_id = _whose(db, vouched)
    if account_id is None:
        login = _free_login(db, vouched.name or found.name)
        account_id = people.make_account(db, login, vouched.name or found.name, None)
        join(db, vouched, account_id)
    links.accept(db, token, account_id)


def _free_login(db: Database, name: str) -> str:
    """A sign-in name made of a person's name."""
    plain = ".".join("".join(c if c.isalnum() else " " for c in name.lower()).split())[:60] or "person"
    for n in range(1, 1000):
        login = plain if n == 1 else f"{plain}.{n}"
        if sessions.account_named(db, login) is None:
            return login
    raise InputError("sign-in", "no sign-in name is free: make one with a password")


def joined(db: Database, who: Visitor) -> str:
    """The subject that the provider knows somebody by; '' when it does not."""
    there = installation.provider()
    if there is None:
        return ""
    with db.person(who.account_id) as connection:
        rows = connection.execute(query("people.identities"), {"account_id": who.account_id}).fetchall()
    return next((str(r["subject"]) for r in rows if r["issuer"] == there.issuer), "")
