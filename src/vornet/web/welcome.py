"""What a link opens: an invitation to accept, a new password to choose. Nobody is signed in yet, or it does not matter who."""

from __future__ import annotations

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.api.bodies import takes
from vornet.core.errors import InputError
from vornet.flows.house import access, installation, links
from vornet.flows.house.links import Invitation
from vornet.web.pages import OpenForm, database, from_here, opened, render

router = APIRouter()
#: what such a form may weigh, bytes
SMALL = 16_000
ELSEWHERE = "This form came from another site."


def _offered(request: Request, token: str) -> Invitation:
    found = links.offered(database(request), token[:100])
    if found is None:
        raise HTTPException(404, f"This invitation {links.GONE}.")
    return found


def _invitation(request: Request, token: str, found: Invitation, error: str = "", form: dict[str, str] | None = None) -> Response:
    who = request.state.visitor
    here = who is not None and any(fleet_id == found.fleet_id for fleet_id, _ in who.fleets)
    return render(
        request, "invitation.html", 422 if error else 200, token=token, offer=found, error=error, form=opened(form or {}), here=here,
        role_words=access.ROLE_WORDS, provider=installation.provider(),
    )  # fmt: skip


@router.get("/invitation/{token}")
def invitation(request: Request, token: str) -> Response:
    """What one is invited to; joined with the sign-in one has, or a new one."""
    return _invitation(request, token, _offered(request, token))


@router.post("/invitation/{token}", dependencies=[takes(SMALL)])
def accept(request: Request, token: str, form: OpenForm) -> Response:
    if not from_here(request):
        return Response(ELSEWHERE, 403)
    found, db, who = _offered(request, token), database(request), request.state.visitor
    try:
        if who is not None and form.get("do") == "join":
            links.accept(db, token, who.account_id)
            return RedirectResponse("/me", 303)
        links.accept_new(db, token, form.get("login", ""), form.get("name", ""), form.get("password", ""))
    except InputError as error:
        return _invitation(request, token, found, f"{error.field}: {error.why}", form)
    return RedirectResponse("/sign-in", 303)


def _password(request: Request, token: str, login: str, error: str = "") -> Response:
    return render(request, "new_password.html", 422 if error else 200, token=token, login=login, error=error)


def _whose(request: Request, token: str) -> str:
    login = links.whose_password(database(request), token[:100])
    if login is None:
        raise HTTPException(404, f"This link {links.GONE}.")
    return login


@router.get("/password/{token}")
def new_password(request: Request, token: str) -> Response:
    """A new password, by a link that an admin made."""
    return _password(request, token, _whose(request, token))


@router.post("/password/{token}", dependencies=[takes(SMALL)])
def choose_password(request: Request, token: str, form: OpenForm) -> Response:
    if not from_here(request):
        return Response(ELSEWHERE, 403)
    login = _whose(request, token)
    try:
        links.choose_password(database(request), token[:100], form.get("password", ""))
    except InputError as error:
        return _password(request, token, login, error.why)
    return RedirectResponse("/sign-in", 303)
