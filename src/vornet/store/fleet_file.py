"""One whole fleet in one open file, and into another installation: every table's rows as CSV in a ZIP, with a count and a digest each.

What belongs to an installation stays there: people, their rights and tokens, links, webhooks, keys of labs. The audit trail goes along line
by line; its chain is made anew where it arrives, and the chain as it was lies beside it in the file.
"""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import dataclass
from datetime import UTC, datetime
from importlib.metadata import version
from pathlib import Path
from typing import Any

import psycopg
from psycopg import sql

from vornet.core.errors import InputError
from vornet.store import backup
from vornet.store.database import Location, StoreError, migrations_here

MANIFEST = "fleet.json"
#: tables that are an installation's, or made anew
LEFT_OUT = frozenset({
    "membership", "api_token", "session", "job_device", "invitation", "password_link", "works_at", "feed", "mail", "touched", "fleet",
    "note_heard", "evaluated", "judging", "webhook", "webhook_delivery",
})  # fmt: skip
#: made anew on arrival, kept in the file to be looked at
BESIDE = frozenset({"audit_link"})
#: columns that are good for nothing elsewhere
_BLANK = {("lab", "key"): "''", ("lab", "cursor"): "''"}
_SETTINGS = ("zone", "measures", "schools", "weeks", "begun")
LARGEST_MANIFEST = 4_000_000


@dataclass(frozen=True)
class Moved:
    """What went out or came in: the fleet, rows by table."""

    fleet: str
    tables: dict[str, int]

    @property
    def rows(self) -> int:
        return sum(self.tables.values())


@dataclass(frozen=True)
class _Table:
    name: str
    columns: tuple[str, ...]
    nulled: frozenset[str]
    after: frozenset[str]
    identity: tuple[str, ...]

    def selected(self, alias: str = "t") -> sql.Composable:
        """Its columns but for the fleet's id, those of other installations blank."""
        parts: list[sql.Composable] = []
        for c in self.columns:
            blank = _BLANK.get((self.name, c))
            value = sql.SQL("NULL") if c in self.nulled else sql.SQL(blank) if blank else sql.Identifier(alias, c)
            parts.append(sql.SQL("{} AS {}").format(value, sql.Identifier(c)))
        return sql.SQL(", ").join(parts)


def _tables(connection: psycopg.Connection[Any]) -> list[_Table]:
    """A fleet's tables, those that others point at first."""
    found: dict[str, _Table] = {}
    for (name,) in connection.execute(
        "SELECT c.relname FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND a.attname = 'fleet_id' "
        "WHERE c.relkind = 'r' AND c.relnamespace = 'public'::regnamespace ORDER BY 1"
    ).fetchall():
        if name in LEFT_OUT:
            continue
        columns = connection.execute(
            """SELECT a.attname, a.attidentity <> '', a.attnotnull,
                      EXISTS (SELECT 1 FROM pg_constraint f WHERE f.contype = 'f' AND f.conrelid = a.attrelid AND a.attnum = ANY(f.conkey)
                              AND f.confrelid = 'account'::regclass)
               FROM pg_attribute a WHERE a.attrelid = %s::regclass AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''
               ORDER BY a.attnum""",
            [name],
        ).fetchall()
        if any(account and needed for _, _, needed, account in columns):
            continue  # somebody's own, who is not there
        parents = connection.execute(
            "SELECT DISTINCT confrelid::regclass::text FROM pg_constraint WHERE contype = 'f' AND conrelid = %s::regclass", [name]
        ).fetchall()
        found[name] = _Table(
            name, tuple(c for c, *_ in columns if c != "fleet_id"), frozenset(c for c, _, _, account in columns if account),
            frozenset(p for (p,) in parents) - {name}, tuple(c for c, identity, *_ in columns if identity),
        )  # fmt: skip
    out: list[_Table] = []
    while len(out) < len(found):
        there = {t.name for t in out}
        ready = [t for t in found.values() if t.name not in there and not (t.after & found.keys()) - there]
        if not ready:
            raise StoreError(f"tables that point at one another in a circle: {', '.join(sorted(found.keys() - there))}")
        out += ready
    return out


def _digest(connection: psycopg.Connection[Any], table: _Table, fleet_id: int) -> dict[str, Any]:
    """Rows and digest of a fleet's part of a table, whatever its fleet is numbered here."""
    asked = sql.SQL(
        "SELECT count(*), coalesce(sum(('x' || left(md5(r::text), 15))::bit(60)::bigint), 0)::text "
        "FROM (SELECT {} FROM {} t WHERE fleet_id = %s) r"
    )
    row = connection.execute(asked.format(table.selected(), sql.Identifier(table.name)), [fleet_id]).fetchone()
    assert row is not None
    return {"rows": row[0], "digest": row[1]}


def write(location: Location, fleet: str, to: Path) -> Moved:
    """Write a fleet into a new file. Raises InputError when the file is there already, or there is no such fleet."""
    if to.exists():
        raise InputError("file", f"{to} is there already")
    with psycopg.connect(location.owner_url) as connection:
        connection.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
        backup.same_text(connection)
        row = connection.execute("SELECT fleet_id FROM fleet WHERE name = %s", [fleet]).fetchone()
        if row is None:
            raise InputError("fleet", f"there is no fleet named {fleet!r}")
        fleet_id = row[0]
        about = connection.execute(
            sql.SQL("SELECT to_jsonb(f) FROM (SELECT {} FROM fleet WHERE fleet_id = %s) f").format(
                sql.SQL(", ").join(map(sql.Identifier, _SETTINGS))
            ),
            [fleet_id],
        ).fetchone()
        migrations = [r[0] for r in connection.execute("SELECT migration_id FROM _yoyo_migration ORDER BY 1").fetchall()]
        tables = _tables(connection)
        half = to.with_name(to.name + ".part")
        try:
            with zipfile.ZipFile(half, "w", zipfile.ZIP_DEFLATED) as pack:
                counts = {}
                for table in tables:
                    counts[table.name] = _digest(connection, table, fleet_id)
                    with pack.open(f"tables/{table.name}.csv", "w", force_zip64=True) as out, connection.cursor() as cursor:
                        asked = sql.SQL("COPY (SELECT {} FROM {} t WHERE fleet_id = {}) TO STDOUT (FORMAT csv, HEADER)").format(
                            table.selected(), sql.Identifier(table.name), sql.Literal(fleet_id)
                        )
                        with cursor.copy(asked) as copy:
                            for piece in copy:
                                out.write(bytes(piece))
                manifest = {
                    "vornet": version("vornet"), "made_at": datetime.now(UTC).isoformat(), "fleet": fleet, "numbered": fleet_id,
                    "migrations": migrations, "settings": about[0] if about else {}, "tables": counts,
                }  # fmt: skip
                pack.writestr(MANIFEST, json.dumps(manifest, indent=1, ensure_ascii=False))
            half.rename(to)
        finally:
            half.unlink(missing_ok=True)
    return Moved(fleet, {name: int(c["rows"]) for name, c in counts.items() if c["rows"]})


def read(location: Location, file: Path, name: str = "") -> Moved:
    """Read a fleet's file in as a new fleet (``name``: another one than its own) and compare it row for row; all of it or nothing.

    Raises InputError for what is no such file or a name that is taken, StoreError where what came in is not what went out.
    """
    try:
        with zipfile.ZipFile(file) as pack:
            if pack.getinfo(MANIFEST).file_size > LARGEST_MANIFEST:
                raise InputError("file", "is no fleet's file")
            manifest = json.loads(pack.read(MANIFEST))
            fleet = name.strip()[:120] or str(manifest["fleet"])
            _fits(manifest)
            with psycopg.connect(location.owner_url) as connection:
                return _read(connection, pack, manifest, fleet)
    except InputError:
        raise
    except (zipfile.BadZipFile, KeyError, ValueError, FileNotFoundError):
        raise InputError("file", "is no fleet's file, or was cut off") from None


def _fits(manifest: dict[str, Any]) -> None:
    theirs, ours = set(manifest["migrations"]), migrations_here()
    if theirs - ours:
        raise StoreError(f"this file is of a newer Vornet ({manifest['vornet']}): bring this installation up to it first")
    if ours - theirs:
        raise StoreError(
            "this file is of an earlier Vornet: restore that installation's backup here, or bring it up to date and export again"
        )


def _read(connection: psycopg.Connection[Any], pack: zipfile.ZipFile, manifest: dict[str, Any], fleet: str) -> Moved:
    backup.same_text(connection)
    if connection.execute("SELECT 1 FROM fleet WHERE name = %s", [fleet]).fetchone():
        raise InputError("fleet", f"there is a fleet named {fleet!r} already: give another name")
    made = connection.execute("INSERT INTO fleet (name) VALUES (%s) RETURNING fleet_id", [fleet]).fetchone()
    assert made is not None
    fleet_id = int(made[0])
    settings = manifest["settings"]
    for column in _SETTINGS:
        if column in settings:
            value = settings[column] if isinstance(settings[column], str) else json.dumps(settings[column])
            connection.execute(sql.SQL("UPDATE fleet SET {} = %s WHERE fleet_id = %s").format(sql.Identifier(column)), [value, fleet_id])
    counts, wrong = {}, []
    for table in _tables(connection):
        if table.name in BESIDE:
            continue
        _rows(connection, pack, table, fleet_id)
        found = _digest(connection, table, fleet_id)
        counts[table.name] = int(found["rows"])
        if found != manifest["tables"].get(table.name):
            wrong.append(table.name)
        for column in table.identity:
            connection.execute(
                sql.SQL(
                    "SELECT setval(pg_get_serial_sequence({t}, {c}), greatest((SELECT max({i}) FROM {n}), "
                    "(SELECT last_value FROM pg_sequences WHERE (quote_ident(schemaname) || '.' || quote_ident(sequencename))::regclass = "
                    "pg_get_serial_sequence({t}, {c})::regclass), 1))"
                ).format(t=sql.Literal(table.name), c=sql.Literal(column), i=sql.Identifier(column), n=sql.Identifier(table.name)),
            )
    if wrong:
        connection.rollback()
        raise StoreError(f"what came in is not what went out: {', '.join(wrong[:6])}. Nothing was kept.")
    connection.execute(
        "INSERT INTO touched (fleet_id, what, id) SELECT fleet_id, 'compartment', compartment_id FROM compartment WHERE fleet_id = %s "
        "ON CONFLICT DO NOTHING", [fleet_id],
    )  # fmt: skip
    return Moved(fleet, {name: n for name, n in counts.items() if n})


def _rows(connection: psycopg.Connection[Any], pack: zipfile.ZipFile, table: _Table, fleet_id: int) -> None:
    """A table's rows by way of a temporary one without constraints, in which they get their fleet's number here."""
    aside, columns = sql.Identifier(f"arriving_{table.name}"), sql.SQL(", ").join(map(sql.Identifier, table.columns))
    named = sql.Identifier(table.name)
    connection.execute(sql.SQL("CREATE TEMP TABLE {} ON COMMIT DROP AS SELECT {} FROM {} WITH NO DATA").format(aside, columns, named))
    with pack.open(f"tables/{table.name}.csv") as raw, connection.cursor() as cursor:
        first = io.TextIOWrapper(io.BytesIO(raw.readline()), "utf-8").read().strip().split(",")
        given = sql.SQL(", ").join(sql.Identifier(c.strip('"')) for c in first)
        with cursor.copy(sql.SQL("COPY {} ({}) FROM STDIN (FORMAT csv)").format(aside, given)) as copy:
            while piece := raw.read(1 << 20):
                copy.write(piece)
    order = sql.SQL(" ORDER BY {}").format(sql.Identifier(table.identity[0])) if table.identity else sql.SQL("")
    connection.execute(
        sql.SQL("INSERT INTO {} (fleet_id, {}) OVERRIDING SYSTEM VALUE SELECT {}, {} FROM {}{}").format(
            named, columns, sql.Literal(fleet_id), columns, aside, order
        )
    )
