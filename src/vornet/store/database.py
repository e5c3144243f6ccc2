"""The way into the database: settings, migrations, the pool, and one place that opens a fleet's transaction."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from functools import lru_cache
from importlib.resources import files
from pathlib import Path
from typing import Any

import psycopg
from psycopg.rows import dict_row
from psycopg_pool import ConnectionPool

from vornet.store import cluster

Connection = psycopg.Connection[Any]


#: the account whose request this is: what it writes into the audit trail is written as its own
acting: ContextVar[int | None] = ContextVar("acting", default=None)
_AS = "SELECT set_config('vornet.fleet_id', %s, true), set_config('vornet.account_id', %s, true)"

#: how long a request waits for a connection before it is told that there is none, s
WAIT_S = 5.0


class StoreError(RuntimeError):
    """The database cannot be used as it is; the message says what to do."""


@dataclass(frozen=True)
class Location:
    """Where the database is: the owner's URL for migrations, the application's for everything else.

    ``set_role``: the application connects as the owner and steps down to vornet_app.
    """

    owner_url: str
    app_url: str
    set_role: bool = False


def clone_dir() -> Path:
    """The clone Vornet runs from (where ``.local`` lives), or the current folder when installed elsewhere."""
    here = Path(__file__).resolve().parents[3]
    return here if (here / "pyproject.toml").exists() else Path.cwd()


def locate(name: str = "pg") -> Location:
    """``DATABASE_URL`` (and optionally ``DATABASE_APP_URL``) if set, else the private server, started if need be."""
    url = os.environ.get("DATABASE_URL")
    if url:
        app = os.environ.get("DATABASE_APP_URL")
        return Location(url, app or url, set_role=app is None)
    private = cluster.start(clone_dir(), name)
    return Location(private.url(cluster.OWNER), private.url(cluster.APP))


def migrations_here() -> set[str]:
    """Names of the migrations that this version knows."""
    return {path.name.rpartition(".")[0] for path in (files("vornet.store") / "migrations").iterdir() if path.name[:4].isdigit()}


def _waiting(connection: psycopg.Connection[Any]) -> bool:
    """Whether some migration has not been applied; asked without the package that applies them, which takes long to load."""
    known = connection.execute("SELECT to_regclass('_yoyo_migration') IS NOT NULL").fetchone()
    if not (known and known[0]):
        return True
    applied = {row[0] for row in connection.execute("SELECT migration_id FROM _yoyo_migration").fetchall()}
    return not migrations_here() <= applied


def migrate(location: Location) -> int:
    """Apply what has not been applied; the number of migrations applied."""
    try:
        with psycopg.connect(location.owner_url, autocommit=True) as connection:
            waiting = _waiting(connection)
            known = connection.execute("SELECT 1 FROM pg_roles WHERE rolname = 'vornet_app'").fetchone()
            if not known:
                connection.execute("CREATE ROLE vornet_app NOLOGIN NOSUPERUSER NOBYPASSRLS")
            member = connection.execute("SELECT pg_has_role(current_user, 'vornet_app', 'MEMBER')").fetchone()
            if location.set_role and not (member and member[0]):
                connection.execute("GRANT vornet_app TO CURRENT_USER")
    except psycopg.errors.InsufficientPrivilege as error:
        raise StoreError(
            f"DATABASE_URL's role may not use the role vornet_app ({str(error).strip().splitlines()[0]}): make that role "
            "and grant it to the owner as a superuser, or give DATABASE_APP_URL"
        ) from None
    except psycopg.Error as error:
        raise StoreError(f"the database cannot be prepared: {str(error).strip().splitlines()[0]}") from None
    count = _apply(location) if waiting else 0
    _widen(location)
    _seal_keys(location)
    return count


def _apply(location: Location) -> int:
    import yoyo
    from yoyo import migrations as yoyo_migrations

    backend = yoyo.get_backend(re.sub(r"^postgres(ql)?://", "postgresql+psycopg://", location.owner_url))
    with backend.lock():
        found = yoyo_migrations.read_migrations(str(files("vornet.store") / "migrations"))
        todo = backend.to_apply(found)
        count = len(todo)
        backend.apply_migrations(todo)
    backend.connection.close()
    return count


def _widen(location: Location) -> None:
    """Arrays of values as wide as there are measurands now: a measurand that was appended is NaN in what was stored before."""
    from vornet.core.measurands import COUNT

    with psycopg.connect(location.owner_url) as connection:
        for table, column in (("sample", "values"), ("oil", "new_values")):
            wide = f"{column} || array_fill('NaN'::double precision, ARRAY[%(count)s - cardinality({column})])"
            connection.execute(f"UPDATE {table} SET {column} = {wide} WHERE cardinality({column}) < %(count)s", {"count": COUNT})


def as_json(what: Any) -> str:
    """What a jsonb column takes, the same text for the same thing: keys in order, people's names as they write them."""
    return json.dumps(what, ensure_ascii=False, sort_keys=True).replace("\\u0000", "")


def _seal_keys(location: Location) -> None:
    """Labs' keys that an earlier version kept as they were typed."""
    from vornet.store import secrets

    with psycopg.connect(location.owner_url) as connection:
        bare = "SELECT fleet_id, lab_id, key FROM lab WHERE key <> '' AND NOT starts_with(key, %s)"
        for fleet_id, lab_id, key in connection.execute(bare, (secrets.SEALED,)).fetchall():
            connection.execute("UPDATE lab SET key = %s WHERE fleet_id = %s AND lab_id = %s", (secrets.seal(key), fleet_id, lab_id))


class Database:
    """A pool of connections as the application's role."""

    def __init__(self, location: Location, size: int = 8) -> None:
        self.location = location

        def configure(connection: Connection) -> None:
            if location.set_role:
                connection.execute("SET ROLE vornet_app")
                connection.commit()

        self.pool: ConnectionPool[Connection] = ConnectionPool(
            location.app_url, min_size=1, max_size=size, open=True, configure=configure, timeout=WAIT_S,
            kwargs={"row_factory": dict_row, "options": "-c timezone=UTC -c jit=off"},
        )  # fmt: skip

    def close(self) -> None:
        self.pool.close()

    @contextmanager
    def as_owner(self) -> Iterator[Connection]:
        """A transaction as the owner of the tables, whom row-level security does not bind: for what no request may do."""
        with psycopg.connect(self.location.owner_url, row_factory=dict_row) as connection:
            yield connection

    def check_role(self) -> None:
        """Refuse to serve with a role that row-level security would not bind."""
        with self.pool.connection() as connection:
            row = connection.execute(
                "SELECT r.rolsuper OR r.rolbypassrls AS strong, "
                "EXISTS (SELECT 1 FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
                "        WHERE n.nspname = 'public' AND c.relowner = r.oid) AS owns "
                "FROM pg_roles r WHERE r.rolname = current_user"
            ).fetchone()
        if row is None or row["strong"] or row["owns"]:
            raise StoreError(
                "the application's database role must own no tables and must not bypass row-level security; "
                "use the role vornet_app (DATABASE_APP_URL)"
            )

    @contextmanager
    def anyone(self) -> Iterator[Connection]:
        """A transaction outside any fleet: sign-in and fleet names. Fleet tables look empty from here."""
        with self.pool.connection() as connection, connection.transaction():
            yield connection

    @contextmanager
    def fleet(self, fleet_id: int, account_id: int | None = None) -> Iterator[Connection]:
        """A transaction that sees one fleet only: the one place where a fleet is chosen. ``account_id``: who acts, where it is not whose
        request this is."""
        who = account_id if account_id is not None else acting.get()
        with self.pool.connection() as connection, connection.transaction():
            connection.execute(_AS, [str(fleet_id), "" if who is None else str(who)])
            yield connection

    @contextmanager
    def person(self, account_id: int) -> Iterator[Connection]:
        """A transaction that sees one person's own sign-in, and no fleet."""
        with self.pool.connection() as connection, connection.transaction():
            connection.execute(_AS, ["", str(account_id)])
            yield connection


@contextmanager
def opened(location: Location, size: int = 3) -> Iterator[Database]:
    """A database by its location, for as long as a piece of work takes."""
    db = Database(location, size)
    try:
        yield db
    finally:
        db.close()


@lru_cache(maxsize=64)
def _queries(module: str) -> dict[str, str]:
    text = (files("vornet.store") / "queries" / f"{module}.sql").read_text()
    out = {}
    for block in re.split(r"^-- :", text, flags=re.M)[1:]:
        head, _, body = block.partition("\n")
        out[head.split()[0]] = body.strip()
    return out


def query(name: str) -> str:
    """SQL text by name, ``module.query_name`` from ``queries/module.sql``."""
    module, _, key = name.partition(".")
    return _queries(module)[key]
