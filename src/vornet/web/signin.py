"""Signing in and out, the first run, and one's own account."""

from __future__ import annotations

from urllib.parse import urlsplit

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.api.bodies import takes
from vornet.core.errors import InputError
from vornet.flows.house import access, people
from vornet.sim.demo import LOGINS, NAMES
from vornet.web.pages import Form, OpenForm, database, from_here, needs, number_like, opened, recording, render, visitor

router = APIRouter()
COOKIE = "vornet_session"


def _inside(to: str) -> str:
    """Only a path of our own, never another site."""
    parts = urlsplit(to)
    return to if to.startswith("/") and not to.startswith("//") and not parts.netloc and "\\" not in to else "/"


def _page(request: Request, to: str, error: str = "", login: str = "") -> Response:
    logins = [(name, word, role, NAMES[name], access.ROLE_WORDS[role]) for name, word, role in LOGINS]
    return render(request, "signin.html", 422 if error else 200, to=_inside(to), error=error, login=login, logins=logins)


@router.get("/sign-in")
def ask(request: Request, to: str = "/") -> Response:
    if request.state.visitor:
        return RedirectResponse(_inside(to), 303)
    if people.nobody_yet(database(request)):
        return RedirectResponse("/set-up", 303)
    return _page(request, to)


@router.post("/sign-in", dependencies=[takes(16_000)])
def enter(request: Request, form: OpenForm) -> Response:
    login, password, to = form.get("login", ""), form.get("password", ""), form.get("to", "/")
    if not from_here(request):
        return Response("This sign-in came from another site.", 403)
    address = request.client.host if request.client else ""
    try:
        token = people.sign_in(database(request), login, password, address, request.headers.get("User-Agent", ""))
    except InputError as error:
        return _page(request, to, error.why, login)
    response = RedirectResponse(_inside(to), 303)
    response.set_cookie(
        COOKIE, token, max_age=int(people.LIFETIME.total_seconds()), httponly=True, samesite="lax",
        secure=request.url.scheme == "https",
    )  # fmt: skip
    return response


@router.get("/set-up")
def first_run(request: Request, code: str = "") -> Response:
    """The first person makes the first fleet."""
    if not people.nobody_yet(database(request)):
        return RedirectResponse("/sign-in", 303)
    return render(request, "setup.html", form=opened({"code": code, "zone": "UTC"}), error="")


@router.post("/set-up", dependencies=[takes(16_000)])
def set_up(request: Request, form: OpenForm) -> Response:
    if not from_here(request):
        return Response("This form came from another site.", 403)
    try:
        people.set_up(
            database(request), form.get("code", ""), form.get("fleet", ""), form.get("zone", "UTC") or "UTC",
            form.get("login", ""), form.get("name", ""), form.get("password", ""),
        )  # fmt: skip
    except InputError as error:
        return render(request, "setup.html", 422, form=opened(form), error=str(error))
    return RedirectResponse("/sign-in", 303)


@router.post("/sign-out", dependencies=[needs("own_account")])
def leave(request: Request, form: Form) -> Response:
    token = request.cookies.get(COOKIE, "")
    people.sign_out(database(request), token)
    if form.get("everywhere"):
        people.sign_out_everywhere(database(request), visitor(request).account_id)
    response = RedirectResponse("/sign-in", 303)
    response.delete_cookie(COOKIE)
    return response


@router.post("/fleet", dependencies=[needs("own_account")])
def choose_fleet(request: Request, form: Form) -> Response:
    """Go on in another of one's fleets."""
    chosen = form.get("fleet", "")
    if not number_like(chosen):
        raise InputError("fleet", "choose one of your fleets")
    people.choose_fleet(database(request), request.cookies.get(COOKIE, ""), visitor(request), int(chosen))
    return RedirectResponse("/", 303)


def _me(request: Request, error: str = "", fresh: str = "") -> Response:
    who, db = visitor(request), database(request)
    with db.fleet(who.fleet_id) as connection:
        tokens = people.tokens(connection, who.account_id)
    return render(
        request, "me.html", 422 if error else 200, error=error, fresh=fresh, tokens=tokens, scopes=access.SCOPES,
        sessions=people.sessions(db, who, request.cookies.get(COOKIE, "")),
        role_words="; ".join(access.ROLE_WORDS[role] for role in who.roles),
    )  # fmt: skip


@router.get("/me", dependencies=[needs("own_account")])
def me(request: Request) -> Response:
    """One's own sign-in: password, sessions, tokens."""
    return _me(request)


@router.post("/me/password", dependencies=[needs("own_account")])
def password(request: Request, form: Form) -> Response:
    try:
        people.change_password(
            database(request), visitor(request), form.get("old", ""), form.get("new", ""),
            request.cookies.get(COOKIE, ""),
        )  # fmt: skip
    except InputError as error:
        return _me(request, f"{error.field}: {error.why}")
    return RedirectResponse("/me", 303)


@router.post("/me/tokens", dependencies=[needs("own_account")])
def make_token(request: Request, form: Form) -> Response:
    """A new token; its text is on the answer and nowhere else."""
    who, days = visitor(request), form.get("days", "90")
    try:
        if not number_like(days):
            raise InputError("days", "a number of days is needed")
        with recording(request) as connection:
            token = people.make_token(
                connection, who.fleet_id, who.account_id, who.name, form.get("name", ""),
                [str(s) for s in form.many("scopes")], int(days[:6]),
            )  # fmt: skip
    except InputError as error:
        return _me(request, f"{error.field}: {error.why}")
    return _me(request, fresh=token)


@router.post("/me/tokens/{token_id}/end", dependencies=[needs("own_account")])
def end_token(request: Request, token_id: int, form: Form) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        people.revoke_token(connection, visitor(request), token_id, anyone=False)
    return RedirectResponse("/me", 303)
