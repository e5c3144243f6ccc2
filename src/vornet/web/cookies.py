"""The cookies there are: the session's, and the note of whoever was sent to the provider of sign-ins. Behind TLS they are bound to this
very host."""

from __future__ import annotations

from fastapi import Request, Response

from vornet.flows.house import installation, sessions

SESSION, WAY = "vornet_session", "vornet_way"


def behind_tls(request: Request) -> bool:
    """Whether people reach this installation by https."""
    return (installation.address() or request.url.scheme).startswith("https")


def _name(request: Request, plain: str) -> str:
    return f"__Host-{plain}" if behind_tls(request) else plain


def session(request: Request) -> str:
    """The session's token, '' without one."""
    return request.cookies.get(_name(request, SESSION), "")


def way(request: Request) -> str:
    return request.cookies.get(_name(request, WAY), "")


def _set(request: Request, response: Response, plain: str, value: str, seconds: int) -> None:
    response.set_cookie(_name(request, plain), value, max_age=seconds, path="/", httponly=True, samesite="lax", secure=behind_tls(request))


def keep_session(request: Request, response: Response, token: str) -> None:
    _set(request, response, SESSION, token, int(sessions.LIFETIME.total_seconds()))


def keep_way(request: Request, response: Response, note: str, seconds: int) -> None:
    _set(request, response, WAY, note, seconds)


def clear(request: Request, response: Response, *plain: str) -> None:
    for name in plain or (SESSION, WAY):
        response.delete_cookie(_name(request, name), path="/", httponly=True, samesite="lax", secure=behind_tls(request))
