"""What stands before every route: who asks, how much may be sent, and the headers that every answer carries."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from fastapi import Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import RedirectResponse
from starlette.datastructures import MutableHeaders
from starlette.requests import ClientDisconnect
from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from vornet.api.bodies import USUAL_BODY, check_length, too_large
from vornet.api.calculators import problem
from vornet.flows.house import people
from vornet.flows.house.people import Visitor
from vornet.flows.work import entries
from vornet.store.database import Database
from vornet.web.job import DEVICE_PATH
from vornet.web.signin import COOKIE

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
OPEN_PATHS = ("/sign-in", "/set-up", "/invitation/", "/password/", "/static/", "/api/v1/calc/", "/api/v1/openapi.json", "/healthy")


class Guard:
    """Lets through who is signed in, counts what comes in, and dresses what goes out."""

    def __init__(self, app: ASGIApp, db: Database, broken: Callable[[Request, Exception], Response]) -> None:
        self.app, self.db, self.broken = app, db, broken

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        request = Request(scope)
        request.state.largest_body, request.state.visitor = USUAL_BODY, None
        path, begun = request.url.path, False

        async def dressed(message: Message) -> None:
            nonlocal begun
            if message["type"] == "http.response.start":
                begun = True
                headers = MutableHeaders(scope=message)
                headers["Content-Security-Policy"] = POLICY
                headers["X-Content-Type-Options"] = "nosniff"
                headers["Referrer-Policy"] = "same-origin"
                if path.startswith("/static/"):
                    headers["Cache-Control"] = "public, max-age=3600"
                elif "cache-control" not in headers:
                    headers["Cache-Control"] = "no-store"
            await send(message)

        refused = await self._let_in(request, path)
        if refused is not None:
            await refused(scope, receive, dressed)
            return
        try:
            await self.app(scope, self._counted(scope, receive), dressed)
        except ClientDisconnect:
            return  # nobody waits for an answer
        except Exception as error:
            if begun:
                raise
            answer = await run_in_threadpool(self.broken, request, error)
            await answer(scope, receive, dressed)

    @staticmethod
    def _counted(scope: Scope, receive: Receive) -> Receive:
        came = 0

        async def counted() -> Message:
            nonlocal came
            if came == 0:
                check_length(scope)
            message = await receive()
            came += len(message.get("body", b""))
            await asyncio.sleep(0)  # a long body that is there already must not keep the loop to itself
            if came > scope["state"]["largest_body"]:
                raise too_large(scope["state"]["largest_body"])
            return message

        return counted

    async def _let_in(self, request: Request, path: str) -> Response | None:
        """Find out who asks; the refusal where nobody may."""
        token, bearer = request.cookies.get(COOKIE), request.headers.get("Authorization", "")
        job, key = DEVICE_PATH.match(path), request.headers.get("X-Job-Key")
        found: Visitor | None = None
        if job and key:
            found = await run_in_threadpool(entries.device_owner, self.db, key, int(job[1]))
            if found is None:
                return JSONResponse({"detail": "this job's key has ended: open the job again"}, 401)
        elif bearer[:7].lower() == "bearer " and path.startswith("/api/"):
            found = await run_in_threadpool(people.bearer, self.db, bearer[7:].strip())
        elif token and not path.startswith(("/static/", "/healthy")):
            found = await run_in_threadpool(people.visitor, self.db, token)
        request.state.visitor = found
        if found is not None or path.startswith(OPEN_PATHS):
            return None
        if path.startswith("/api/"):
            response: Response = problem(401, "Who is asking", "sign in, or send a token that has not ended")
            response.headers["WWW-Authenticate"] = "Bearer"
            return response
        if request.headers.get("HX-Request"):
            return Response(status_code=401, headers={"HX-Redirect": "/sign-in"})
        return RedirectResponse(f"/sign-in?to={path}", status_code=303)
