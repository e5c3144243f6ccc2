"""Where we may be sent: addresses that people type are resolved, and what is not out there is refused.

A private, loopback or link-local address would let whoever types it make this machine ask its own neighbours. An installation that has
its labs inside allows them (VORNET_PRIVATE_LABS=1).
"""

from __future__ import annotations

import ipaddress
import os
import socket
from collections.abc import Iterable

import httpx


def inside_allowed() -> bool:
    return os.environ.get("VORNET_PRIVATE_LABS", "") == "1"


class Refused(Exception):
    """The address is none that may be asked; the sentence says why."""


def outside(addresses: Iterable[str]) -> str:
    """The first of a name's addresses, all of which must be out there. Raises Refused.

    >>> outside(["9.9.9.9"])
    '9.9.9.9'
    """
    found = [ipaddress.ip_address(a.partition("%")[0]) for a in addresses]
    if not found:
        raise Refused("its name is not known")
    for address in found:
        mapped = getattr(address, "ipv4_mapped", None) or address
        if not mapped.is_global or mapped.is_multicast:
            raise Refused("its address is inside this network, which this installation does not allow")
    return str(found[0])


def resolved(host: str, port: int) -> list[str]:
    """A name's addresses. Raises Refused when it has none."""
    try:
        return [str(info[4][0]) for info in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)]
    except (OSError, UnicodeError):
        raise Refused("its name is not known") from None


class CheckedTransport(httpx.BaseTransport):
    """Asks only what is out there: the name is resolved once, its addresses are looked at, and the one that was looked at is asked, so
    that a name cannot mean another place a moment later."""

    def __init__(self, inner: httpx.BaseTransport | None = None) -> None:
        self._inner = inner or httpx.HTTPTransport()

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        host, port = request.url.host, request.url.port or (443 if request.url.scheme == "https" else 80)
        address = outside(resolved(host, port))
        asked = httpx.Request(
            request.method, request.url.copy_with(host=address), headers=request.headers, stream=request.stream,
            extensions={**request.extensions, "sni_hostname": host},
        )  # fmt: skip
        return self._inner.handle_request(asked)

    def close(self) -> None:
        self._inner.close()
