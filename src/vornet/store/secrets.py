"""What must be kept but never read by whoever reads the database: sealed with a key that lies elsewhere.

The key is VORNET_SECRET (a Fernet key), else a file of this installation that is made when it is first needed.
"""

from __future__ import annotations

import os
from functools import lru_cache
from pathlib import Path

from vornet.store import cluster
from vornet.store.database import StoreError, clone_dir

SEALED = "sealed:"


def secret_file() -> Path:
    """Where this installation's key lies: beside its private server, never in the database."""
    return cluster.home_of(clone_dir(), "secret")


@lru_cache(maxsize=4)
def _key(given: str) -> bytes:
    from cryptography.fernet import Fernet

    if given:
        return given.encode()
    path = secret_file()
    path.parent.mkdir(parents=True, exist_ok=True)
    try:
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as made:
            made.write(Fernet.generate_key())
    except FileExistsError:
        pass  # another process was first, or it has long been there
    return path.read_bytes().strip()


def key_there() -> bytes | None:
    """The key in use, None while there is none yet."""
    given = os.environ.get("VORNET_SECRET", "")
    if given:
        return given.encode()
    path = secret_file()
    return path.read_bytes().strip() if path.exists() else None


def own_key() -> bytes:
    """The key in use, made where there was none: what is sealed is read with it wherever it is read back."""
    return _key(os.environ.get("VORNET_SECRET", ""))


def take_key(key: bytes) -> None:
    """Use a backup's key where there is none yet."""
    if key and key_there() is None:
        path = secret_file()
        path.parent.mkdir(parents=True, exist_ok=True)
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as made:
            made.write(key)
        _key.cache_clear()


def _lock() -> object:
    from cryptography.fernet import Fernet

    try:
        return Fernet(_key(os.environ.get("VORNET_SECRET", "")))
    except ValueError:
        raise StoreError("VORNET_SECRET, or the file of this installation's key, is no key: make one with `vornet secret`") from None


def seal(text: str) -> str:
    """A text as it is kept; '' stays ''."""
    return SEALED + _lock().encrypt(text.encode()).decode() if text else ""  # type: ignore[attr-defined]


def unseal(kept: str) -> str:
    """A kept text; one from before there were seals as it is. Raises StoreError when the key is another one now."""
    from cryptography.fernet import InvalidToken

    if not kept.startswith(SEALED):
        return kept
    try:
        return str(_lock().decrypt(kept.removeprefix(SEALED).encode()).decode())  # type: ignore[attr-defined]
    except InvalidToken:
        raise StoreError(
            "what is kept sealed (a lab's key, a second factor) was sealed by another installation: give the VORNET_SECRET of then, or "
            "set it up again"
        ) from None
