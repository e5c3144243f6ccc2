"""How much a route takes: counted before and while it is read, so that nothing larger ever lies in memory or on disk."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Depends, Request
from starlette.exceptions import HTTPException
from starlette.types import Scope

#: bytes of a body that a route takes unless it says otherwise (``takes``): a form that people fill in
USUAL_BODY = 512_000


def too_large(largest: int) -> HTTPException:
    amount = f"{largest // 1_000_000} MB" if largest >= 1_000_000 else f"{largest // 1000} kB"
    return HTTPException(413, f"more than {amount} cannot be taken here")


def check_length(scope: Scope) -> None:
    """Refuse by what the head says, before a byte of the body is read. Raises 413."""
    largest = scope["state"]["largest_body"]
    for name, value in scope["headers"]:
        if name == b"content-length" and value.isdigit() and int(value) > largest:
            raise too_large(largest)


def takes(largest: int) -> Any:
    """A route's own cap on its body in bytes, as a dependency named before whatever reads the body."""

    def widen(request: Request) -> None:
        request.state.largest_body = largest
        check_length(request.scope)

    widen.largest = largest  # type: ignore[attr-defined]
    return Depends(widen)


async def _raw(request: Request) -> bytes:
    return await request.body()


#: a body as it came
Raw = Annotated[bytes, Depends(_raw)]
