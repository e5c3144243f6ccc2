"""What stands before every route: who asks, how much may be sent, and the headers that every answer carries."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable

from fastapi import Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import RedirectResponse
from psycopg.errors import DeadlockDetected, SerializationFailure
from starlette.datastructures import MutableHeaders
from starlette.requests import ClientDisconnect
from starlette.responses import JSONResponse, PlainTextResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from vornet.api.bodies import USUAL_BODY, check_length, too_large
from vornet.api.calculators import problem
from vornet.flows.house import installation, sessions, tokens, trail
from vornet.flows.house.people import Visitor
from vornet.flows.work import entries
from vornet.store.database import Database, acting
from vornet.web import cookies, observed
from vornet.web.job import DEVICE_PATH
from vornet.words.writing import Writes, writes

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; worker-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
#: what a year is, s: for how long browsers reach an installation behind TLS by nothing else
YEAR_S = 31_536_000
#: how often a request is tried whose transaction and another stood in each other's way; bytes of it that are kept for that
TRIES, KEPT_BODY = 3, 1_000_000
#: all that is open to whoever owes the fleet a second factor
OWED_PATHS = ("/me/second-factor", "/sign-out", "/fleet", "/static/", "/healthy")
OPEN_PATHS = (
    "/sign-in", "/set-up", "/invitation/", "/password/", "/static/", "/api/v1/calc/", "/api/v1/openapi.json", "/feeds/", "/healthy",
    "/ready", "/metrics", "/docs", "/sw.js",
)  # fmt: skip


class _Body:
    """What is sent, counted as it comes; a small one is kept until it is answered, to be read a second time."""

    def __init__(self, scope: Scope, receive: Receive) -> None:
        self._scope, self._receive, self._came, self._at = scope, receive, 0, 0
        self._kept: list[Message] = []

    @property
    def kept_whole(self) -> bool:
        return self._came <= KEPT_BODY

    def rewind(self) -> None:
        self._at = 0

    async def read(self) -> Message:
        if self._at < len(self._kept):
            self._at += 1
            return self._kept[self._at - 1]
        if self._came == 0:
            check_length(self._scope)
        message = await self._receive()
        self._came += len(message.get("body", b""))
        await asyncio.sleep(0)  # a long body that is there already must not keep the loop to itself
        if self._came > self._scope["state"]["largest_body"]:
            raise too_large(self._scope["state"]["largest_body"])
        if message["type"] == "http.request" and self.kept_whole:
            self._kept.append(message)
            self._at += 1
        elif not self.kept_whole:
            self._kept.clear()
            self._at = 0
        return message


class Guard:
    """Lets through who is signed in, counts what comes in, and dresses what goes out."""

    def __init__(self, app: ASGIApp, db: Database, broken: Callable[[Request, Exception], Response]) -> None:
        self.app, self.db, self.broken = app, db, broken

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        request = Request(scope)
        request.state.largest_body, request.state.visitor, request.state.taken = USUAL_BODY, None, False
        path, begun, came_at = request.url.path, False, time.perf_counter()

        async def dressed(message: Message) -> None:
            nonlocal begun
            if message["type"] == "http.response.start":
                begun = True
                observed.note(scope, message["status"], came_at)
                headers = MutableHeaders(scope=message)
                await self._note(request, message["status"], headers)
                if cookies.behind_tls(request):
                    headers["Strict-Transport-Security"] = f"max-age={YEAR_S}; includeSubDomains"
                headers["X-Frame-Options"] = "DENY"
                headers["Cross-Origin-Opener-Policy"] = "same-origin"
                headers["Cross-Origin-Resource-Policy"] = "same-origin"
                headers["Content-Security-Policy"] = POLICY
                headers["X-Content-Type-Options"] = "nosniff"
                headers["Referrer-Policy"] = "same-origin"
                if path.startswith("/static/"):
                    headers["Cache-Control"] = "public, max-age=3600"
                elif "cache-control" not in headers:
                    headers["Cache-Control"] = "no-store"
            await send(message)

        try:
            refused = await self._let_in(request, path)
            if refused is not None:
                await refused(scope, receive, dressed)
                return
            acting.set(request.state.visitor.account_id if request.state.visitor else None)
            writes.set(request.state.visitor.writes if request.state.visitor else Writes())
            body = _Body(scope, receive)
            for left in reversed(range(TRIES)):
                try:
                    await self.app(scope, body.read, dressed)
                    break
                except (DeadlockDetected, SerializationFailure):
                    if begun or not left or not body.kept_whole:
                        raise
                    body.rewind()  # two stood in each other's way: its transaction is undone, and goes again
        except ClientDisconnect:
            return  # nobody waits for an answer
        except Exception as error:
            if begun:
                raise
            answer = await run_in_threadpool(self.broken, request, error)
            await answer(scope, receive, dressed)

    async def _note(self, request: Request, status: int, headers: MutableHeaders) -> None:
        """What was refused to somebody, and what they took out as a file, into the audit trail."""
        who: Visitor | None = request.state.visitor
        file = status == 200 and (request.state.taken or "attachment" in headers.get("content-disposition", ""))
        if who is None or not (file or status == 403):
            return
        about = f"{request.method} {request.url.path}"
        await run_in_threadpool(self._tell, who, "file taken" if file else "refused", about)

    def _tell(self, who: Visitor, what: str, about: str) -> None:
        with self.db.fleet(who.fleet_id, who.account_id) as connection:
            trail.note_once(connection, who.fleet_id, who.name, what, about)

    async def _let_in(self, request: Request, path: str) -> Response | None:
        """Find out who asks; the refusal where nobody may."""
        if not installation.host_known(request.headers.get("Host", "")):
            return PlainTextResponse("This is not the address Vornet is reached at.", 421)
        token, bearer = cookies.session(request), request.headers.get("Authorization", "")
        job, key = DEVICE_PATH.match(path), request.headers.get("X-Job-Key")
        found: Visitor | None = None
        if job and key:
            found = await run_in_threadpool(entries.device_owner, self.db, key, int(job[1]))
            if found is None:
                return JSONResponse({"detail": "this job's key has ended: open the job again"}, 401)
        elif bearer[:7].lower() == "bearer " and path.startswith("/api/"):
            found = await run_in_threadpool(tokens.bearer, self.db, bearer[7:].strip())
        elif token and not path.startswith(("/static/", "/healthy", "/sw.js")):
            found = await run_in_threadpool(sessions.visitor, self.db, token)
        if found is not None and found.owes_second and not path.startswith(OWED_PATHS):
            return self._owes(request, path)
        request.state.visitor = found
        if found is not None or path.startswith(OPEN_PATHS):
            return None
        return self._stranger(request, path)

    @staticmethod
    def _owes(request: Request, path: str) -> Response:
        """Whoever is asked for a second factor and has given none sets one up first."""
        if path.startswith("/api/"):
            return problem(403, "Not allowed", "this fleet asks for a second factor: set one up under your account")
        if request.headers.get("HX-Request"):
            return Response(status_code=401, headers={"HX-Redirect": "/me/second-factor"})
        return RedirectResponse("/me/second-factor", status_code=303)

    @staticmethod
    def _stranger(request: Request, path: str) -> Response:
        if path.startswith("/api/"):
            response: Response = problem(401, "Who is asking", "sign in, or send a token that has not ended")
            response.headers["WWW-Authenticate"] = "Bearer"
            return response
        if request.headers.get("HX-Request"):
            return Response(status_code=401, headers={"HX-Redirect": "/sign-in"})
        return RedirectResponse(f"/sign-in?to={path}", status_code=303)
