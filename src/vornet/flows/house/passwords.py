"""Passwords: which may be chosen, how they are kept, and how many may be worked on at a time."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from vornet.core.errors import InputError

SHORTEST, LONGEST = 8, 1000
#: a password costs 64 MiB and a moment of every core by design: so many at a time, and so many more may wait for their turn
AT_A_TIME, MAY_WAIT, WAIT_S = 2, 8, 5.0
#: argon2id with its package's defaults, which are those of RFC 9106 for little memory: 64 MiB, three rounds
hasher = PasswordHasher()


class Busy(RuntimeError):
    """Too many passwords are being worked on; nothing was tried."""


class Gate:
    """Lets ``at_a_time`` through, keeps ``may_wait`` more waiting for up to ``wait_s``, and refuses whoever comes beyond them at once, so
    that a flood of sign-ins takes neither memory nor the threads that everybody else's pages need."""

    def __init__(self, at_a_time: int, may_wait: int, wait_s: float) -> None:
        self._inside = threading.BoundedSemaphore(at_a_time)
        self._places = threading.BoundedSemaphore(at_a_time + may_wait)
        self._wait_s = wait_s

    @contextmanager
    def passed(self) -> Iterator[None]:
        """Raises Busy."""
        if not self._places.acquire(blocking=False):
            raise Busy("many people are signing in: try again in a moment")
        try:
            if not self._inside.acquire(timeout=self._wait_s):
                raise Busy("many people are signing in: try again in a moment")
            try:
                yield
            finally:
                self._inside.release()
        finally:
            self._places.release()


gate = Gate(AT_A_TIME, MAY_WAIT, WAIT_S)


@lru_cache(maxsize=1)
def _common() -> frozenset[str]:
    """Passwords that everybody tries first: the list of a package, 30,000 of them."""
    from zxcvbn.frequency_lists import FREQUENCY_LISTS

    return frozenset(FREQUENCY_LISTS["passwords"])


def checked(password: str, *about: str) -> str:
    """A password that may be chosen. ``about``: what others know of the person (sign-in name, name, fleet). Raises InputError."""
    if len(password) < SHORTEST:
        raise InputError("password", f"at least {SHORTEST} characters are needed")
    if len(password) > LONGEST:
        raise InputError("password", f"at most {LONGEST:,} characters")
    plain = password.casefold().strip()
    if plain in _common() or plain.rstrip("0123456789!.?-_") in _common() or len(set(plain)) < 3:
        raise InputError("password", "is one of those that everybody tries first: choose another")
    known = {word.casefold().strip() for word in about if len(word.strip()) >= 3}
    if plain.rstrip("0123456789!.?-_ ") in known or plain in known or plain.startswith("vornet"):
        raise InputError("password", "is a name that others know: choose another")
    return password


def hashed(password: str, *about: str) -> str:
    """What is kept of a password. Raises InputError for one that may not be, Busy."""
    checked(password, *about)
    with gate.passed():
        return hasher.hash(password)


@lru_cache(maxsize=1)
def _nobody() -> str:
    """Tried when the sign-in is unknown, so that it takes as long as a wrong password."""
    return hasher.hash("nobody's")


def fits(kept: str | None, password: str) -> bool:
    """Whether a password is the one that was kept; for nobody's (None, or '' for who signs in elsewhere) it takes as long. Raises Busy."""
    with gate.passed():
        try:
            return bool(hasher.verify(kept or _nobody(), password[:LONGEST])) and bool(kept)
        except (VerificationError, InvalidHashError):
            return False
