"""A whole installation in one file, and back: every fleet's rows, pictures and attachments, and the key that its sealed rows are read with.

One moment of the database (a snapshot shared with pg_dump), a count and a digest of every table beside it; reading back refuses to lay
itself over anything and compares row for row. With a passphrase the file is sealed piece by piece (scrypt, then Fernet), so that a cut or
reordered file is told from a whole one.
"""

from __future__ import annotations

import base64
import hashlib
import io
import json
import os
import re
import shutil
import subprocess
import tarfile
import tempfile
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime
from importlib.metadata import version
from pathlib import Path
from typing import IO, Any

import psycopg
from psycopg import sql
from psycopg.conninfo import conninfo_to_dict, make_conninfo

from vornet.core.errors import InputError
from vornet.store import cluster, secrets
from vornet.store.database import Location, StoreError, migrate

SEALED = b"vornet backup, sealed 1 "
MANIFEST, DUMP, KEY = "manifest.json", "database.dump", "secret.key"
#: bytes sealed at one go
PIECE = 4_000_000
#: what scrypt asks of whoever guesses: 128·N·r bytes
SCRYPT = {"n": 2**15, "r": 8, "p": 1, "maxmem": 128 * 2**15 * 8 * 2}
_NAME = re.compile(r"vornet-(\d{4}-\d{2}-\d{2})-\d{6}\.backup$")
Said = Callable[[str], None]


@dataclass(frozen=True)
class Written:
    """Where a backup lies, how large it is, what is in it."""

    path: Path
    bytes: int
    tables: int
    rows: int
    sealed: bool


# ---- what is in the database -----------------------------------------------------------------------------------
def same_text(connection: psycopg.Connection[Any]) -> None:
    """From here on in this transaction the same row is the same text, wherever it lies."""
    for setting in (
        "TimeZone TO 'UTC'",
        "DateStyle TO 'ISO'",
        "bytea_output TO 'hex'",
        "extra_float_digits TO 1",
        "IntervalStyle TO 'iso_8601'",
    ):
        connection.execute(sql.SQL("SET LOCAL " + setting))


def _tables(connection: psycopg.Connection[Any]) -> dict[str, dict[str, Any]]:
    """Rows and digest of every table, whatever order the rows lie in."""
    same_text(connection)
    names = connection.execute(
        "SELECT c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
        "WHERE n.nspname = 'public' AND c.relkind = 'r' AND c.relname !~ '^_?yoyo' ORDER BY 1"
    ).fetchall()
    out = {}
    for (name,) in names:
        asked = sql.SQL("SELECT count(*), coalesce(sum(('x' || left(md5(t::text), 15))::bit(60)::bigint), 0)::text FROM {} t")
        row = connection.execute(asked.format(sql.Identifier(name))).fetchone()
        assert row is not None
        out[name] = {"rows": row[0], "digest": row[1]}
    return out


def _program(name: str) -> str:
    found = cluster.bin_dir() / name
    return str(found) if found.exists() else name


def _run(location: Location, args: list[str], what: str) -> None:
    """A client program of the database; its password goes by the environment, where no list of processes shows it."""
    known = conninfo_to_dict(location.owner_url)
    password = known.pop("password", None)
    given = {**os.environ, **({"PGPASSWORD": str(password)} if password else {})}
    try:
        done = subprocess.run([*args, "--dbname=" + make_conninfo("", **known)], capture_output=True, text=True, check=False, env=given)
    except FileNotFoundError:
        raise StoreError(f"{args[0]} is not installed: it comes with the database's client programs") from None
    if done.returncode:
        told = (done.stderr.strip().splitlines() or ["it said nothing"])[-1]
        raise StoreError(f"{what}: {told[:300]}")


# ---- sealing ---------------------------------------------------------------------------------------------------
def _lock(passphrase: str, salt: bytes) -> Any:
    from cryptography.fernet import Fernet

    drawn = hashlib.scrypt(passphrase.encode(), salt=salt, dklen=32, n=SCRYPT["n"], r=SCRYPT["r"], p=SCRYPT["p"], maxmem=SCRYPT["maxmem"])
    return Fernet(base64.urlsafe_b64encode(drawn))


def _seal(plain: IO[bytes], out: IO[bytes], passphrase: str) -> None:
    salt = os.urandom(16)
    lock = _lock(passphrase, salt)
    out.write(SEALED + base64.b64encode(salt) + b"\n")
    number, piece = 0, plain.read(PIECE)
    while True:
        following = plain.read(PIECE)
        head = number.to_bytes(8, "big") + (b"." if following else b"!")  # the last piece says that it is
        out.write(lock.encrypt(head + piece) + b"\n")
        if not following:
            return
        number, piece = number + 1, following


def _unseal(sealed: IO[bytes], out: IO[bytes], passphrase: str) -> None:
    from cryptography.fernet import InvalidToken

    first = sealed.readline()
    lock = _lock(passphrase, base64.b64decode(first.removeprefix(SEALED).strip()))
    last = False
    for number, line in enumerate(sealed):
        try:
            piece = lock.decrypt(line.strip())
        except InvalidToken:
            raise InputError("file", "the passphrase is another one, or the file was changed") from None
        if last or int.from_bytes(piece[:8], "big") != number:
            raise InputError("file", "its pieces are not in their order: it was changed")
        last = piece[8:9] == b"!"
        out.write(piece[9:])
    if not last:
        raise InputError("file", "it ends before its end: it was cut off")


# ---- out -------------------------------------------------------------------------------------------------------
def write(location: Location, to: Path, passphrase: str = "", now: datetime | None = None, said: Said = lambda _: None) -> Written:
    """Write everything into a new file (or into a folder, under the day's name); nothing there is overwritten."""
    now = now or datetime.now(UTC)
    path = to / f"vornet-{now:%Y-%m-%d-%H%M%S}.backup" if to.is_dir() else to
    if path.exists():
        raise InputError("file", f"{path} is there already")
    if not path.parent.is_dir():
        raise InputError("file", f"there is no folder {path.parent}")
    with tempfile.TemporaryDirectory(dir=path.parent, prefix=".vornet-backup-") as folder:
        dump = Path(folder) / DUMP
        with psycopg.connect(location.owner_url) as connection:
            connection.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
            shot = connection.execute("SELECT pg_export_snapshot()").fetchone()
            assert shot is not None
            said("reading the database")
            _run(location, [_program("pg_dump"), "--format=custom", "--no-owner", f"--snapshot={shot[0]}", f"--file={dump}"], "pg_dump")
            said("counting what is in it")
            tables = _tables(connection)
            migrations = [r[0] for r in connection.execute("SELECT migration_id FROM _yoyo_migration ORDER BY 1").fetchall()]
        manifest = {"vornet": version("vornet"), "made_at": now.isoformat(), "migrations": migrations, "tables": tables}
        whole = Path(folder) / "whole"
        with tarfile.open(whole, "w") as tar:
            _add(tar, MANIFEST, json.dumps(manifest, indent=1).encode())
            _add(tar, KEY, secrets.own_key())
            tar.add(dump, DUMP)
        said("sealing it" if passphrase else "putting it in its place")
        ready = Path(folder) / "ready"
        if passphrase:
            with whole.open("rb") as plain, ready.open("wb") as out:
                _seal(plain, out, passphrase)
        else:
            ready = whole
        ready.chmod(0o600)
        with ready.open("rb") as f:
            os.fsync(f.fileno())
        os.link(ready, path)  # fails where somebody else's file has come meanwhile
    return Written(path, path.stat().st_size, len(tables), sum(t["rows"] for t in tables.values()), bool(passphrase))


def _add(tar: tarfile.TarFile, name: str, content: bytes) -> None:
    entry = tarfile.TarInfo(name)
    entry.size, entry.mode = len(content), 0o600
    tar.addfile(entry, io.BytesIO(content))


# ---- back ------------------------------------------------------------------------------------------------------
def restore(location: Location, file: Path, passphrase: str = "", said: Said = lambda _: None) -> dict[str, Any]:
    """Read a backup into an empty place, compare it row for row and bring it to this version; what was in it.

    Raises InputError for a file that is none, StoreError where something is there already or a table differs (then nothing stays).
    """
    if not file.is_file():
        raise InputError("file", f"there is no file {file}")
    with tempfile.TemporaryDirectory(dir=file.parent, prefix=".vornet-restore-") as folder:
        manifest, dump, key = _opened(file, Path(folder), passphrase)
        _only_known(manifest)
        _empty(location)
        _key_fits(key)
        said("reading it back")
        _roles(location)
        _run(location, [_program("pg_restore"), "--no-owner", "--exit-on-error", "--single-transaction", str(dump)], "pg_restore")
        said("comparing it row for row")
        with psycopg.connect(location.owner_url) as connection:
            found = _tables(connection)
        wrong = sorted(name for name in {*found, *manifest["tables"]} if found.get(name) != manifest["tables"].get(name))
        if wrong:
            _drop_all(location)
            raise StoreError(f"what came back is not what was written: {', '.join(wrong[:6])}. Nothing was kept.")
        secrets.take_key(key)
    said("bringing it to this version")
    migrate(location)
    return manifest


def _opened(file: Path, folder: Path, passphrase: str) -> tuple[dict[str, Any], Path, bytes]:
    with file.open("rb") as f:
        sealed = f.read(len(SEALED)) == SEALED
    whole = file
    if sealed:
        if not passphrase:
            raise InputError("passphrase", "this backup is sealed: give its passphrase")
        whole = folder / "whole"
        with file.open("rb") as f, whole.open("wb") as out:
            _unseal(f, out, passphrase)
    try:
        with tarfile.open(whole) as tar:
            manifest = json.loads(_entry(tar, MANIFEST).read())
            key = _entry(tar, KEY).read()
            dump = folder / DUMP
            with dump.open("wb") as out:
                shutil.copyfileobj(_entry(tar, DUMP), out)
    except (tarfile.TarError, KeyError, ValueError, EOFError):
        raise InputError("file", "is no backup of Vornet, or was cut off") from None
    return manifest, dump, key


def _entry(tar: tarfile.TarFile, name: str) -> IO[bytes]:
    found = tar.extractfile(name)
    if found is None:
        raise KeyError(name)
    return found


def _only_known(manifest: dict[str, Any]) -> None:
    from vornet.store.database import migrations_here

    newer = sorted(set(manifest["migrations"]) - migrations_here())
    if newer:
        raise StoreError(f"this backup is of a newer Vornet ({manifest['vornet']}, {newer[0]}): install that one, or a later one, first")


def _empty(location: Location) -> None:
    """Refuse where any fleet or account lives; a place that was only prepared is cleared."""
    with psycopg.connect(location.owner_url) as connection:
        known = connection.execute("SELECT to_regclass('public.fleet') IS NOT NULL").fetchone()
        if known and known[0]:
            there = connection.execute("SELECT (SELECT count(*) FROM fleet), (SELECT count(*) FROM account)").fetchone()
            if there != (0, 0):
                raise StoreError("this place is not empty: a backup is read into a new installation, never over one")
    _drop_all(location)


def _drop_all(location: Location) -> None:
    with psycopg.connect(location.owner_url, autocommit=True) as connection:
        connection.execute("DROP SCHEMA public CASCADE")
        connection.execute("CREATE SCHEMA public")
        connection.execute("GRANT USAGE ON SCHEMA public TO PUBLIC")


def _roles(location: Location) -> None:
    with psycopg.connect(location.owner_url, autocommit=True) as connection:
        if not connection.execute("SELECT 1 FROM pg_roles WHERE rolname = 'vornet_app'").fetchone():
            connection.execute("CREATE ROLE vornet_app NOLOGIN NOSUPERUSER NOBYPASSRLS")


def _key_fits(key: bytes) -> None:
    there = secrets.key_there()
    if there is not None and key and there != key:
        raise StoreError("another key is in use here (VORNET_SECRET, or this installation's file): what is sealed in the backup could not be "
                         "read with it. Take it away first, or set VORNET_SECRET to the backup's.")  # fmt: skip


# ---- which to keep ---------------------------------------------------------------------------------------------
def let_go(days: Iterable[date], daily: int = 7, weekly: int = 5, monthly: int = 12) -> list[date]:
    """Of the days of which there are backups, those that no rule keeps: the last of each of so many days, weeks and months is kept.

    >>> from datetime import timedelta
    >>> days = [date(2026, 3, 1) + timedelta(days=n) for n in range(40)]
    >>> kept = sorted(set(days) - set(let_go(days, 3, 2, 2)))
    >>> [f"{d:%d %b}" for d in kept]
    ['31 Mar', '05 Apr', '07 Apr', '08 Apr', '09 Apr']
    """
    newest_first = sorted(set(days), reverse=True)
    keep: set[date] = set()
    rules: tuple[tuple[int, Callable[[date], Any]], ...] = (
        (daily, lambda d: d), (weekly, lambda d: d.isocalendar()[:2]), (monthly, lambda d: (d.year, d.month)),
    )  # fmt: skip
    for count, of in rules:
        seen: dict[Any, date] = {}
        for day in newest_first:
            seen.setdefault(of(day), day)
        keep |= set(list(seen.values())[:count])
    return [d for d in newest_first if d not in keep]


def tidy(folder: Path, daily: int, weekly: int, monthly: int) -> list[Path]:
    """Remove the backups of a folder that no rule keeps; which those were. What is named otherwise is not touched."""
    dated = {p: date.fromisoformat(m[1]) for p in sorted(folder.iterdir()) if (m := _NAME.fullmatch(p.name))}
    gone = set(let_go(dated.values(), daily, weekly, monthly))
    out = [p for p, day in dated.items() if day in gone]
    out += list(_but_last(p for p, day in dated.items() if day not in gone and day != max(dated.values())))
    for p in out:
        p.unlink()
    return out


def _but_last(paths: Iterable[Path]) -> Iterator[Path]:
    """Of several of one day all but the last."""
    by_day: dict[str, list[Path]] = {}
    for p in paths:
        by_day.setdefault(p.name[:17], []).append(p)
    for several in by_day.values():
        yield from sorted(several)[:-1]


# ---- by rule ---------------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class Rule:
    """Where backups of every day go, the file of their passphrase, and how many days, weeks and months are kept."""

    folder: Path
    passphrase_file: str
    keep: tuple[int, int, int]


def rule() -> Rule | None:
    """``VORNET_BACKUP`` (a folder), ``VORNET_BACKUP_PASSPHRASE_FILE``, ``VORNET_BACKUP_KEEP`` (7,5,12); None where no folder is named.

    Raises StoreError for what cannot be followed.
    """
    folder = os.environ.get("VORNET_BACKUP", "")
    if not folder:
        return None
    counts = [int(n) for n in os.environ.get("VORNET_BACKUP_KEEP", "7,5,12").split(",") if n.strip().isdigit()]
    if len(counts) != 3:
        raise StoreError("VORNET_BACKUP_KEEP is three whole numbers: days, weeks, months")
    if not Path(folder).is_dir():
        raise StoreError(f"VORNET_BACKUP: there is no folder {folder}")
    return Rule(Path(folder), os.environ.get("VORNET_BACKUP_PASSPHRASE_FILE", ""), (counts[0], counts[1], counts[2]))


def newest(folder: Path) -> datetime | None:
    """When the newest backup of a folder was written, by its name."""
    names = [p.name for p in folder.iterdir() if _NAME.fullmatch(p.name)]
    return max((datetime.strptime(n[7:24], "%Y-%m-%d-%H%M%S").replace(tzinfo=UTC) for n in names), default=None)


def by_rule(location: Location, now: datetime) -> Written | None:
    """Write today's backup where the rule says so and none has been written this day (UTC), then let go of what no rule keeps."""
    wanted = rule()
    if wanted is None:
        return None
    last = newest(wanted.folder)
    if last is not None and last.date() >= now.date():
        return None
    passphrase = Path(wanted.passphrase_file).read_text().strip() if wanted.passphrase_file else ""
    made = write(location, wanted.folder, passphrase, now)
    tidy(wanted.folder, *wanted.keep)
    return made
