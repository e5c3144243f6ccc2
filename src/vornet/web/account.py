"""One's own account: password, second factor, the provider's sign-in, sessions, tokens."""

from __future__ import annotations

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.core.errors import InputError
from vornet.flows.house import access, identities, installation, people, second_factor, sessions, tokens
from vornet.flows.house.identities import Errand
from vornet.web import cookies
from vornet.web.pages import Form, database, needs, number_like, recording, render, visitor
from vornet.web.paper import qr
from vornet.web.signin import address_of
from vornet.words import writing

router = APIRouter(prefix="/me")


def _me(request: Request, error: str = "", fresh: str = "") -> Response:
    who, db = visitor(request), database(request)
    with db.fleet(who.fleet_id) as connection:
        keys = tokens.kept(connection, who.account_id)
    return render(
        request, "me.html", 422 if error else 200, error=error, fresh=fresh, tokens=keys, scopes=access.SCOPES,
        sessions=sessions.sessions(db, who, cookies.session(request)), codes_left=second_factor.codes_left(db, who.account_id),
        role_words="; ".join(access.ROLE_WORDS[role] for role in who.roles), provider=installation.provider(),
        joined=identities.joined(db, who), dates=writing.DATES, marks=writing.MARKS, weeks=writing.WEEKS,
    )  # fmt: skip


@router.get("", dependencies=[needs("own_account")])
def me(request: Request) -> Response:
    """One's own sign-in: password, second factor, sessions, tokens."""
    return _me(request)


@router.post("/password", dependencies=[needs("own_account")])
def password(request: Request, form: Form) -> Response:
    try:
        sessions.change_password(
            database(request), visitor(request), form.get("old", ""), form.get("new", ""), cookies.session(request), address_of(request)
        )
    except InputError as error:
        return _me(request, f"{error.field}: {error.why}")
    return RedirectResponse("/me", 303)


@router.post("/writing", dependencies=[needs("own_account")])
def writes(request: Request, form: Form) -> Response:
    """How one writes dates and figures."""
    who = visitor(request)
    try:
        people.set_writing(database(request), who, {k: form.get(k, "") for k in ("date", "mark", "week")})
    except InputError as error:
        return _me(request, f"{error.field}: {error.why}")
    return RedirectResponse("/me", 303)


@router.post("/tokens", dependencies=[needs("own_account")])
def make_token(request: Request, form: Form) -> Response:
    """A new token; its text is on the answer and nowhere else."""
    who, days = visitor(request), form.get("days", "90")
    try:
        if not number_like(days):
            raise InputError("days", "a number of days is needed")
        with recording(request) as connection:
            token = tokens.make(
                connection, who.fleet_id, who.account_id, who.name, form.get("name", ""),
                [str(s) for s in form.many("scopes")], int(days[:6]),
            )  # fmt: skip
    except InputError as error:
        return _me(request, f"{error.field}: {error.why}")
    return _me(request, fresh=token)


@router.post("/tokens/{token_id}/end", dependencies=[needs("own_account")])
def end_token(request: Request, token_id: int, form: Form) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        tokens.end(connection, visitor(request), token_id, anyone=False)
    return RedirectResponse("/me", 303)


def _second(request: Request, error: str = "", codes: tuple[str, ...] = ()) -> Response:
    who = visitor(request)
    left = second_factor.codes_left(database(request), who.account_id)
    kept = bool(sessions.secrets_of(database(request), who.account_id)["password_hash"])
    secret, address, brought = second_factor.offered(who) if left is None else ("", "", "")
    return render(
        request, "second_factor.html", 422 if error else 200, error=error, codes=codes, left=left, secret=secret, brought=brought,
        drawn=qr(address, 44) if address else "", address=address, own_password=kept,
    )  # fmt: skip


@router.get("/second-factor", dependencies=[needs("own_account")])
def second(request: Request) -> Response:
    """Set up a second factor, or see to the one there is."""
    return _second(request)


@router.post("/second-factor", dependencies=[needs("own_account")])
def change_second(request: Request, form: Form) -> Response:
    """Take it up, make recovery codes anew, or give it up."""
    db, who, do, address = database(request), visitor(request), form.get("do", ""), address_of(request)
    code, own = form.get("code", ""), form.get("password", "")
    try:
        if do == "take_up":
            codes = second_factor.take_up(db, who, form.get("brought", ""), code, own, cookies.session(request), address)
            return _second(request, codes=tuple(codes))
        if do == "codes":
            return _second(request, codes=tuple(second_factor.codes_afresh(db, who, code, address)))
        if do == "give_up":
            second_factor.give_up(db, who, code, own, address)
    except InputError as error:
        return _second(request, f"{error.field}: {error.why}")
    return RedirectResponse("/me", 303)


@router.post("/provider", dependencies=[needs("own_account")])
def provider(request: Request, form: Form) -> Response:
    """Join the provider's sign-in to one's account, or part from it."""
    who = visitor(request)
    try:
        if form.get("do") == "part":
            identities.part(database(request), who)
            return RedirectResponse("/me", 303)
        sessions.own_password(database(request), who, form.get("password", ""), address_of(request))
        address, note = identities.send(Errand(account_id=who.account_id))
    except InputError as error:
        return _me(request, f"{error.field}: {error.why}")
    page = render(request, "leave.html", address=address, there=installation.provider())
    cookies.keep_way(request, page, note, identities.PATIENCE_S)
    return page
