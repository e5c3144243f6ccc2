"""Signing in and out: the password, the second factor's turn, the provider that vouches, the first run."""

from __future__ import annotations

from urllib.parse import quote

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.api.bodies import takes
from vornet.core.errors import InputError
from vornet.flows.house import access, days, first_run, identities, installation, second_factor, sessions
from vornet.flows.house.identities import Errand
from vornet.flows.house.sessions import Opened
from vornet.web import cookies
from vornet.web.pages import Form, OpenForm, base_address, database, from_here, inside, needs, number_like, opened, render, visitor

router = APIRouter()
#: what a sign-in's form may weigh, bytes
SMALL = 16_000


def address_of(request: Request) -> str:
    """Where a request comes from."""
    return request.client.host if request.client else ""


def agent_of(request: Request) -> str:
    return request.headers.get("User-Agent", "")


def _page(request: Request, to: str, error: str = "", login: str = "") -> Response:
    logins: list[tuple[str, str, str, str, str]] = []
    if request.app.state.demo:  # the simulator is loaded for the demo alone
        from vornet.sim.demo import LOGINS, NAMES

        logins = [(name, word, role, NAMES[name], access.ROLE_WORDS[role]) for name, word, role in LOGINS]
    return render(
        request, "signin.html", 422 if error else 200, to=inside(to), error=error, login=login, logins=logins,
        provider=installation.provider(),
    )  # fmt: skip


@router.get("/sign-in")
def ask(request: Request, to: str = "/") -> Response:
    if request.state.visitor:
        return RedirectResponse(inside(to), 303)
    if first_run.nobody_yet(database(request)):
        return RedirectResponse("/set-up", 303)
    return _page(request, to)


def enter_with(request: Request, opened_: Opened, to: str) -> Response:
    """The answer that carries a session just opened; the one this browser had before ends."""
    before = cookies.session(request)
    if before:
        sessions.sign_out(database(request), before)
    response = RedirectResponse(f"/sign-in/code?to={quote(inside(to))}" if opened_.awaits_code else inside(to), 303)
    cookies.keep_session(request, response, opened_.token)
    return response


@router.post("/sign-in", dependencies=[takes(SMALL)])
def enter(request: Request, form: OpenForm) -> Response:
    login, password, to = form.get("login", ""), form.get("password", ""), form.get("to", "/")
    if not from_here(request):
        return Response("This sign-in came from another site.", 403)
    try:
        made = sessions.sign_in(database(request), login, password, address_of(request), agent_of(request))
    except InputError as error:
        return _page(request, to, error.why, login)
    return enter_with(request, made, to)


def _code_page(request: Request, to: str, login: str, error: str = "") -> Response:
    return render(request, "signin_code.html", 422 if error else 200, to=inside(to), login=login, error=error)


@router.get("/sign-in/code")
def ask_code(request: Request, to: str = "/") -> Response:
    """The second factor's turn."""
    who = sessions.halfway(database(request), cookies.session(request))
    return RedirectResponse("/sign-in", 303) if who is None else _code_page(request, to, who.login)


@router.post("/sign-in/code", dependencies=[takes(SMALL)])
def enter_code(request: Request, form: OpenForm) -> Response:
    if not from_here(request):
        return Response("This sign-in came from another site.", 403)
    db, to = database(request), form.get("to", "/")
    who = sessions.halfway(db, cookies.session(request))
    if who is None:
        return RedirectResponse("/sign-in", 303)
    try:
        made = second_factor.enter(db, who, form.get("code", ""), address_of(request), agent_of(request))
    except InputError as error:
        return _code_page(request, to, who.login, error.why)
    return enter_with(request, made, to)


@router.get("/sign-in/with")
def by_provider(request: Request, to: str = "/", invitation: str = "") -> Response:
    """Off to the provider of sign-ins."""
    try:
        address, note = identities.send(Errand(inside(to), invitation=invitation[:100]))
    except InputError as error:
        return _page(request, to, error.why)
    response = RedirectResponse(address, 303)
    cookies.keep_way(request, response, note, identities.PATIENCE_S)
    return response


@router.get(identities.BACK)
def vouched(request: Request) -> Response:
    """Back from the provider: signed in, joined, or the invitation taken."""
    db, who = database(request), request.state.visitor
    came = f"{base_address(request)}{identities.BACK}?{request.url.query}"
    try:
        found, errand = identities.came_back(cookies.way(request), came)
        if errand.account_id is not None:
            if who is None or who.account_id != errand.account_id:
                raise InputError("sign-in", "somebody else is signed in here now: begin again")
            identities.join(db, found, errand.account_id)
            response: Response = RedirectResponse("/me", 303)
        else:
            if errand.invitation:
                identities.accept(db, found, errand.invitation)
            response = enter_with(request, identities.sign_in(db, found, address_of(request), agent_of(request)), errand.to)
    except InputError as error:
        response = render(request, "problem.html", 422, title="Not signed in", detail=error.why[:1].upper() + error.why[1:] + ".")
    cookies.clear(request, response, cookies.WAY)
    return response


@router.get("/set-up")
def begin(request: Request, code: str = "") -> Response:
    """The first person makes the first fleet."""
    if not first_run.nobody_yet(database(request)):
        return RedirectResponse("/sign-in", 303)
    return render(request, "setup.html", form=opened({"code": code, "zone": ""}), error="", zones=days.zones(), role_words=access.ROLE_WORDS)


@router.post("/set-up", dependencies=[takes(SMALL)])
def set_up(request: Request, form: OpenForm) -> Response:
    if not from_here(request):
        return Response("This form came from another site.", 403)
    try:
        first_run.set_up(
            database(request), form.get("code", ""), form.get("fleet", ""), form.get("zone", "UTC") or "UTC",
            form.get("login", ""), form.get("name", ""), form.get("password", ""), form.many("roles"),
        )  # fmt: skip
        entered = sessions.sign_in(database(request), form.get("login", ""), form.get("password", ""), address_of(request), agent_of(request))
    except InputError as error:
        return render(request, "setup.html", 422, form=opened(form), error=str(error), zones=days.zones(), role_words=access.ROLE_WORDS)
    return enter_with(request, entered, "/begin")


@router.post("/sign-out", dependencies=[needs("own_account")])
def leave(request: Request, form: Form) -> Response:
    sessions.sign_out(database(request), cookies.session(request))
    if form.get("everywhere"):
        sessions.sign_out_everywhere(database(request), visitor(request).account_id)
    response = RedirectResponse("/sign-in", 303)
    cookies.clear(request, response)
    return response


@router.post("/fleet", dependencies=[needs("own_account")])
def choose_fleet(request: Request, form: Form) -> Response:
    """Go on in another of one's fleets."""
    chosen = form.get("fleet", "")
    if not number_like(chosen):
        raise InputError("fleet", "choose one of your fleets")
    sessions.choose_fleet(database(request), cookies.session(request), visitor(request), int(chosen))
    return RedirectResponse("/", 303)
