"""Signing in and out."""

from __future__ import annotations

from urllib.parse import urlsplit

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.core.errors import InputError
from vornet.flows import people
from vornet.sim.demo import LOGINS, NAMES
from vornet.web.pages import checked_form, database, render

router = APIRouter()
COOKIE = "vornet_session"


def _inside(to: str) -> str:
    """Only a path of our own, never another site."""
    parts = urlsplit(to)
    return to if to.startswith("/") and not to.startswith("//") and not parts.netloc and "\\" not in to else "/"


@router.get("/sign-in")
def ask(request: Request, to: str = "/") -> Response:
    if request.state.visitor:
        return RedirectResponse(_inside(to), 303)
    logins = [(login, password, role, NAMES[login]) for login, password, role in LOGINS]
    return render(request, "signin.html", to=_inside(to), error="", login="", logins=logins)


@router.post("/sign-in")
async def enter(request: Request) -> Response:
    form = await request.form()
    login, password, to = str(form.get("login", "")), str(form.get("password", "")), str(form.get("to", "/"))
    origin = request.headers.get("Origin")
    if origin and urlsplit(origin).netloc != request.headers.get("Host"):
        return Response("This sign-in came from another site.", 403)
    try:
        token = people.sign_in(database(request), login, password)
    except InputError as error:
        logins = [(name, word, role, NAMES[name]) for name, word, role in LOGINS]
        return render(request, "signin.html", 422, to=_inside(to), error=error.why, login=login, logins=logins)
    response = RedirectResponse(_inside(to), 303)
    response.set_cookie(
        COOKIE, token, max_age=int(people.LIFETIME.total_seconds()), httponly=True, samesite="lax",
        secure=request.url.scheme == "https",
    )  # fmt: skip
    return response


@router.post("/sign-out")
async def leave(request: Request) -> Response:
    await checked_form(request)
    people.sign_out(database(request), request.cookies.get(COOKIE, ""))
    response = RedirectResponse("/sign-in", 303)
    response.delete_cookie(COOKIE)
    return response
