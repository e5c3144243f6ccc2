"""Whether an installation is whole: its migrations and roles, what its rows point at, its clock and room, versions, the queue.

Looked at as the owner of the tables, over every fleet at once.
"""

from __future__ import annotations

import shutil
import sys
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import psycopg
from psycopg import sql

from vornet.store import backup
from vornet.store.database import Location, StoreError, clone_dir, migrations_here

#: seconds that the database's clock and this machine's may differ
CLOCK_S = 5.0
#: room below which one is told
LEAST_FREE = 2_000_000_000
OLDEST_SERVER, OLDEST_PYTHON = 15, (3, 11)
#: a job that waits longer has no worker, s
QUEUE_S = 600
#: a failure that is older is no news, s
FAILED_S = 7 * 86_400
#: columns that name a row of a table by another name than the table's
_NAMED = {"superseded_by": "", "old_sample_id": "sample", "shared_unit_id": "unit"}
Found = tuple[str, str, bool]


def look(location: Location) -> Iterator[Found]:
    """Each thing that was looked at: what, how it stands in words, whether it is as it should be."""
    with psycopg.connect(location.owner_url) as connection:
        connection.read_only = True
        yield _migrations(connection)
        yield _roles(connection)
        yield _versions(connection)
        yield _clock(connection)
        yield _references(connection)
        yield _charges(connection)
        yield _queue(connection)
    yield _room()
    yield _backups()


def _one(connection: psycopg.Connection[Any], text: str, *values: object) -> tuple[Any, ...]:
    row = connection.execute(text.encode(), values).fetchone()
    assert row is not None
    return tuple(row)


def _migrations(connection: psycopg.Connection[Any]) -> Found:
    applied = {r[0] for r in connection.execute("SELECT migration_id FROM _yoyo_migration").fetchall()}
    missing, newer = sorted(migrations_here() - applied), sorted(applied - migrations_here())
    if missing or newer:
        told = [f"not applied: {', '.join(missing)}"] if missing else []
        told += [f"of a newer version: {', '.join(newer)}"] if newer else []
        return "migrations", "; ".join(told), False
    return "migrations", f"all {len(applied)} applied", True


def _roles(connection: psycopg.Connection[Any]) -> Found:
    row = connection.execute("SELECT rolsuper, rolbypassrls, rolcreaterole FROM pg_roles WHERE rolname = 'vornet_app'").fetchone()
    if row is None:
        return "roles", "there is no role vornet_app", False
    owned = _one(
        connection,
        "SELECT count(*) FROM pg_class c JOIN pg_roles r ON r.oid = c.relowner WHERE r.rolname = 'vornet_app' "
        "AND c.relnamespace = 'public'::regnamespace",
    )[0]
    if any(row) or owned:
        return "roles", "vornet_app may more than it should: it owns tables, or no policy binds it", False
    return "roles", "the application's role owns nothing and is bound by every policy", True


def _versions(connection: psycopg.Connection[Any]) -> Found:
    server = int(_one(connection, "SHOW server_version_num")[0])
    python = sys.version_info[:2]
    good = server >= OLDEST_SERVER * 10_000 and python >= OLDEST_PYTHON
    return "versions", f"PostgreSQL {server // 10_000}.{server % 10_000}, Python {python[0]}.{python[1]}", good


def _clock(connection: psycopg.Connection[Any]) -> Found:
    there = _one(connection, "SELECT clock_timestamp()")[0]
    apart = abs((datetime.now(UTC) - there).total_seconds())
    newest = _one(connection, "SELECT max(at) FROM audit")[0]
    if newest is not None and (newest - there).total_seconds() > CLOCK_S:
        return "clock", f"it stands behind the newest line of the audit trail ({newest:%Y-%m-%d %H:%M} UTC): it was put back", False
    return "clock", f"{apart:.1f} s between this machine and the database", apart <= CLOCK_S


def _pointers(connection: psycopg.Connection[Any]) -> list[tuple[str, str, str, str]]:
    """(table, column, table it names, its key) for columns that no constraint watches."""
    keys = dict(
        connection.execute(
            """SELECT c.relname, (SELECT attname FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum = k.conkey[2])
               FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
               WHERE k.contype = 'p' AND cardinality(k.conkey) = 2 AND n.nspname = 'public'
               AND (SELECT attname FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum = k.conkey[1]) = 'fleet_id'"""
        ).fetchall()
    )
    columns = connection.execute(
        """SELECT c.relname, a.attname FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
           WHERE n.nspname = 'public' AND c.relkind = 'r' AND a.attnum > 0 AND NOT a.attisdropped
           AND a.atttypid IN ('bigint'::regtype, 'integer'::regtype)
           AND NOT EXISTS (SELECT 1 FROM pg_constraint f WHERE f.contype = 'f' AND f.conrelid = c.oid AND a.attnum = ANY(f.conkey))"""
    ).fetchall()
    tables_with_fleet = {
        r[0]
        for r in connection.execute(
            "SELECT table_name FROM information_schema.columns WHERE column_name = 'fleet_id' AND table_schema = 'public'"
        )
    }
    out = []
    for table, column in columns:
        named = _NAMED[column] or table if column in _NAMED else column.removesuffix("_id") if column.endswith("_id") else ""
        if table in tables_with_fleet and named in keys and keys[named] and column != keys.get(table):
            out.append((table, column, named, keys[named]))
    return sorted(out)


def _references(connection: psycopg.Connection[Any]) -> Found:
    broken, looked = [], 0
    for table, column, named, key in _pointers(connection):
        looked += 1
        asked = sql.SQL(
            "SELECT count(*) FROM {t} a WHERE a.{c} IS NOT NULL AND a.{c} > 0 AND NOT EXISTS "
            "(SELECT 1 FROM {n} b WHERE b.fleet_id = a.fleet_id AND b.{k} = a.{c})"
        ).format(t=sql.Identifier(table), c=sql.Identifier(column), n=sql.Identifier(named), k=sql.Identifier(key))
        row = connection.execute(asked).fetchone()
        if row and row[0]:
            broken.append(f"{table}.{column} ({row[0]:,})")
    if broken:
        return "references", f"rows that point at nothing: {', '.join(broken)}", False
    return "references", f"{looked} kinds of pointers beside the constraints, none of them broken", True


def _charges(connection: psycopg.Connection[Any]) -> Found:
    """A later drain on a lower meter, with no change of meter between: two charges that overlap."""
    rows = connection.execute(
        """WITH d AS (
               SELECT d.fleet_id, d.compartment_id, c.unit_id, c.name, d.on_day, d.meter, coalesce(c.meter_no, 1) AS meter_no,
                      lag(d.meter) OVER w AS before, lag(d.on_day) OVER w AS day_before
               FROM drain d JOIN compartment c USING (fleet_id, compartment_id) WHERE d.superseded_by IS NULL
               WINDOW w AS (PARTITION BY d.fleet_id, d.compartment_id ORDER BY d.on_day, d.drain_id))
           SELECT u.name, d.name, d.on_day FROM d JOIN unit u USING (fleet_id, unit_id)
           WHERE d.meter < d.before AND NOT EXISTS (
               SELECT 1 FROM meter_change m WHERE m.fleet_id = d.fleet_id AND m.unit_id = d.unit_id AND m.meter_no = d.meter_no
               AND m.on_day BETWEEN d.day_before AND d.on_day)
           ORDER BY 1, 2 LIMIT 20"""
    ).fetchall()
    if rows:
        return "charges", "overlap at " + ", ".join(f"{u} {c} on {on}" for u, c, on in rows), False
    return "charges", "none overlaps another", True


def _queue(connection: psycopg.Connection[Any]) -> Found:
    counts = dict(connection.execute("SELECT status::text, count(*) FROM procrastinate_jobs GROUP BY 1").fetchall())
    late = _one(
        connection,
        "SELECT count(*) FROM procrastinate_jobs j WHERE status = 'todo' AND coalesce(scheduled_at, (SELECT min(at) "
        "FROM procrastinate_events e WHERE e.job_id = j.id)) < now() - make_interval(secs => %s)", QUEUE_S,
    )[0]  # fmt: skip
    failed = _one(
        connection,
        "SELECT count(*) FROM procrastinate_jobs j WHERE status = 'failed' AND EXISTS (SELECT 1 FROM procrastinate_events e "
        "WHERE e.job_id = j.id AND e.type = 'failed' AND e.at > now() - make_interval(secs => %s))", FAILED_S,
    )[0]  # fmt: skip
    words = f"{counts.get('todo', 0)} wait, {counts.get('doing', 0)} at work, {failed} failed within a week"
    return (
        "queue",
        words + (f"; {late} have waited more than {QUEUE_S // 60} minutes: is a worker running?" if late else ""),
        not late and not failed,
    )


def _backups() -> Found:
    try:
        wanted = backup.rule()
    except StoreError as error:
        return "backups", str(error), False
    if wanted is None:
        return "backups", "none are written by Vornet itself (VORNET_BACKUP is not set)", True
    last = backup.newest(wanted.folder)
    if last is None:
        return "backups", f"none yet in {wanted.folder}", False
    age_h = (datetime.now(UTC) - last).total_seconds() / 3600
    return "backups", f"the newest is {age_h:.0f} h old", age_h < 36


def _room() -> Found:
    where = clone_dir() / ".local"
    usage = shutil.disk_usage(where if where.exists() else Path.cwd())
    return "disk", f"{usage.free / 1e9:,.1f} GB free of {usage.total / 1e9:,.0f}", usage.free >= LEAST_FREE
