"""What whoever runs Vornet says of the installation, in the environment: its address, how long an unused session lasts, the provider of
sign-ins."""

from __future__ import annotations

import ipaddress
import os
from dataclasses import dataclass
from datetime import timedelta
from urllib.parse import urlsplit

from vornet.core.errors import InputError

#: names this machine has for itself
LOOPBACK = ("localhost", "127.0.0.1", "::1")


def address() -> str:
    """Where people reach Vornet (VORNET_URL), as in https://oil.example.net; '' when nobody said. Raises InputError."""
    text = os.environ.get("VORNET_URL", "").strip().rstrip("/")
    if not text:
        return ""
    try:
        parts = urlsplit(text)
        good = parts.scheme in ("http", "https") and parts.hostname and not parts.path and not parts.query and "@" not in parts.netloc
    except ValueError:
        good = False
    if not good:
        raise InputError("VORNET_URL", f"{text[:80]!r} is not an address such as https://oil.example.net")
    return text


def host_known(host: str) -> bool:
    """Whether a request's Host is one of ours: the installation's address, this machine itself, or a bare number where no address was
    said; anything else is somebody else's name that points here.

    >>> host_known("127.0.0.1:8460"), host_known("[::1]:8460"), host_known("evil.example")
    (True, True, False)
    """
    try:
        parts = urlsplit("//" + host)
        name, port = parts.hostname or "", parts.port
    except ValueError:
        return False
    ours = address()
    if ours:
        own = urlsplit(ours)
        usual = {"http": 80, "https": 443}[own.scheme]
        if name == own.hostname and (port or usual) == (own.port or usual):
            return True
    if name in LOOPBACK:
        return True
    try:
        ipaddress.ip_address(name)
    except ValueError:
        return False
    return not ours


def idle() -> timedelta:
    """How long a session may go unused (VORNET_IDLE_MINUTES, else two hours). Raises InputError."""
    text = os.environ.get("VORNET_IDLE_MINUTES", "").strip() or "120"
    if not text.isascii() or not text.isdigit() or not 1 <= int(text[:6]) <= 1440:
        raise InputError("VORNET_IDLE_MINUTES", f"{text[:20]!r} is not a number of minutes from 1 to 1440")
    return timedelta(minutes=int(text))


@dataclass(frozen=True)
class Provider:
    """Who vouches for sign-ins (OpenID Connect): its issuer's address, and what Vornet is to it."""

    issuer: str
    client_id: str
    client_secret: str
    name: str


def provider() -> Provider | None:
    """The provider of sign-ins: VORNET_OIDC_ISSUER, _CLIENT, _SECRET and _NAME; None when there is none. Raises InputError."""
    issuer = os.environ.get("VORNET_OIDC_ISSUER", "").strip()
    if not issuer:
        return None
    parts = urlsplit(issuer)
    if parts.scheme != "https" and parts.hostname not in LOOPBACK:
        raise InputError("VORNET_OIDC_ISSUER", "must begin with https://")
    client = os.environ.get("VORNET_OIDC_CLIENT", "").strip()
    if not client or not address():
        raise InputError("VORNET_OIDC_CLIENT" if not client else "VORNET_URL", "is needed with VORNET_OIDC_ISSUER")
    return Provider(issuer, client, os.environ.get("VORNET_OIDC_SECRET", ""), os.environ.get("VORNET_OIDC_NAME", "") or str(parts.hostname))


def check() -> None:
    """Look at all of it when Vornet starts, not when somebody signs in. Raises InputError."""
    address(), idle(), provider()
