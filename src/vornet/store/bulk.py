"""Many rows at once: fixed-width binary reads straight into numpy, and superseding writes through staging."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from psycopg import sql

from vornet.core.measurands import COUNT
from vornet.store.database import Connection

_FLOAT_OID = 701
#: what a column of a fixed-width read may be, and its bytes on the wire
_WIRE = {"i2": (">i2", 2), "i4": (">i4", 4), "i8": (">i8", 8), "f8": (">f8", 8), "b": ("i1", 1), "day": (">i4", 4)}
_DAY_ZERO = np.datetime64("2000-01-01").astype("datetime64[D]").astype(int) + 719163  # ordinal of PostgreSQL's day 0


def _wire_dtype(columns: Sequence[tuple[str, str]]) -> np.dtype:
    fields: list[tuple[Any, ...]] = [("#fields", ">i2")]
    for name, kind in columns:
        fields.append((f"#{name}", ">i4"))
        if kind == "values":
            fields.append((f"#{name}head", ">i4", (5,)))
            fields.append((name, np.dtype([("len", ">i4"), ("x", ">f8")]), (COUNT,)))
        else:
            fields.append((name, _WIRE[kind][0]))
    return np.dtype(fields)


def read_columns(
    connection: Connection, query: str, columns: Sequence[tuple[str, str]], parameters: dict[str, object] | None = None, few: bool = False
) -> dict[str, np.ndarray]:
    """Run ``query`` and return its columns as arrays.

    ``columns``: (name, kind) in the query's order; kinds i2, i4, i8, f8, b (boolean), day (date, returned as
    ordinal day) and values (a sample's array, returned as (n, COUNT)). No column may be NULL: say
    coalesce(x, 'NaN'). Binary COPY of fixed-width rows needs no parsing; ``few`` rows come sooner as one plain result.
    """
    dtype = _wire_dtype(columns)
    body = _plain(connection, query, parameters) if few else _copied(connection, query, parameters)
    if len(body) % dtype.itemsize:
        raise ValueError("a column of a fixed-width read was NULL or of another width")
    rows = np.frombuffer(body, dtype)
    out = {}
    for name, kind in columns:
        if kind == "values":
            out[name] = rows[name]["x"].astype(float)
        elif kind == "day":
            out[name] = rows[name].astype(np.int64) + _DAY_ZERO
        elif kind == "b":
            out[name] = rows[name].astype(bool)
        else:
            out[name] = rows[name].astype(_WIRE[kind][0].lstrip(">"))
    return out


def _copied(connection: Connection, query: str, parameters: dict[str, object] | None) -> bytes:
    with connection.cursor() as cursor, cursor.copy(f"COPY ({query}) TO STDOUT (FORMAT binary)", parameters) as copy:
        return b"".join([bytes(block) for block in copy])[19:-2]


def _plain(connection: Connection, query: str, parameters: dict[str, object] | None) -> bytes:
    """The rows as COPY would have sent them: a round trip in all, where COPY hands every row over by itself."""
    with connection.cursor(binary=True) as cursor:
        cursor.execute(query, parameters)
        result = cursor.pgresult
        if result is None:
            return b""
        width = result.nfields
        head, parts = width.to_bytes(2, "big"), []
        for i in range(result.ntuples):
            parts.append(head)
            for j in range(width):
                value = result.get_value(i, j)
                if value is None:
                    raise ValueError("a column of a fixed-width read was NULL or of another width")
                parts += [len(value).to_bytes(4, "big"), value]
        return b"".join(parts)


@dataclass(frozen=True)
class Log:
    """A table that is only ever added to: its id, the columns that identify a row, the columns it says; ``stays``: how a column that a
    new row does not say is filled from the row that stands (``s`` the new one, ``t`` the old); ``otherwise``: where none stands."""

    table: str
    id_column: str
    keys: tuple[str, ...]
    content: tuple[str, ...]
    types: dict[str, str]
    stays: dict[str, str] = field(default_factory=dict)
    otherwise: dict[str, str] = field(default_factory=dict)


READINGS = Log("meter_reading", "reading_id", ("unit_id", "on_day", "meter", "meter_no"), (), {
    "unit_id": "bigint", "on_day": "date", "meter": "double precision", "meter_no": "smallint"})  # fmt: skip
DRAINS = Log(
    "drain", "drain_id", ("compartment_id", "on_day"),
    ("meter", "volume_out_l", "volume_out_kind", "level_missing_l", "volume_in_l", "oil_id", "filter_changed",
     "magnet_grade", "air_filter", "sample_no", "note", "extra"),
    {"compartment_id": "bigint", "on_day": "date", "meter": "double precision", "volume_out_l": "double precision",
     "volume_out_kind": "text", "level_missing_l": "double precision", "volume_in_l": "double precision",
     "oil_id": "bigint", "filter_changed": "boolean", "magnet_grade": "smallint", "air_filter": "text",
     "sample_no": "text", "note": "text", "extra": "jsonb"},
    {**{c: f"coalesce(s.{c}, t.{c})" for c in (
        "level_missing_l", "volume_in_l", "oil_id", "filter_changed", "magnet_grade", "air_filter", "sample_no")},
     "volume_out_l": "CASE s.volume_out_kind WHEN 'unknown' THEN s.volume_out_l ELSE coalesce(s.volume_out_l, t.volume_out_l) END",
     "volume_out_kind": "coalesce(nullif(s.volume_out_kind, ''), t.volume_out_kind)",
     "note": "CASE WHEN s.note = '' THEN t.note ELSE s.note END", "extra": "t.extra || s.extra"},
    {"volume_out_kind": "CASE s.volume_out_kind WHEN '' THEN 'unknown' ELSE s.volume_out_kind END"},
)  # fmt: skip
TOP_UPS = Log("top_up", "top_up_id", ("compartment_id", "on_day", "meter"), ("litres", "extra"), {
    "compartment_id": "bigint", "on_day": "date", "meter": "double precision", "litres": "double precision",
    "extra": "jsonb"})  # fmt: skip
LEVEL_CHECKS = Log(
    "level_check", "level_check_id", ("compartment_id", "on_day", "meter"), ("level_missing_l", "extra"),
    {"compartment_id": "bigint", "on_day": "date", "meter": "double precision",
     "level_missing_l": "double precision", "extra": "jsonb"},
)  # fmt: skip
EVENTS = Log(
    "event", "event_id", ("compartment_id", "on_day", "kind"),
    ("meter", "litres_out", "litres_in", "filter_changed", "serial", "note", "extra"),
    {"compartment_id": "bigint", "on_day": "date", "kind": "text", "meter": "double precision",
     "litres_out": "double precision", "litres_in": "double precision", "filter_changed": "boolean",
     "serial": "text", "note": "text", "extra": "jsonb"},
)  # fmt: skip


RECORDS = Log(
    "service_record", "record_id", ("item_id", "on_day"), ("meter", "outcome", "reading", "note"),
    {"item_id": "bigint", "on_day": "date", "meter": "double precision", "outcome": "text", "reading": "jsonb", "note": "text"},
)  # fmt: skip


def _filled(how: dict[str, str]) -> sql.Composed:
    return sql.SQL(", ").join(sql.SQL("{} = " + by).format(sql.Identifier(column)) for column, by in how.items())


def append(connection: Connection, log: Log, fleet_id: int, rows: Iterable[Sequence[object]], by: str, why: str) -> tuple[int, int]:
    """Add rows to a log (keys then content); what is already there stays, what differs is superseded.

    Returns (added, superseded). Rows go through a staging table, because COPY does not write into tables
    with row-level security.
    """
    columns = log.keys + log.content
    names = sql.SQL(", ").join(map(sql.Identifier, columns))
    table, id_column = sql.Identifier(log.table), sql.Identifier(log.id_column)
    staging = sql.Identifier("staging_" + log.table)
    fields = sql.SQL(", ").join(sql.SQL("{} {}").format(sql.Identifier(c), sql.SQL(log.types[c])) for c in columns)
    connection.execute(sql.SQL("DROP TABLE IF EXISTS {}").format(staging))
    connection.execute(sql.SQL("CREATE TEMP TABLE {} (id bigint, {}) ON COMMIT DROP").format(staging, fields))
    with connection.cursor() as cursor, cursor.copy(sql.SQL("COPY {} ({}) FROM STDIN").format(staging, names)) as copy:
        for row in rows:
            copy.write_row(row)
    same_key = sql.SQL(" AND ").join(
        sql.SQL("t.{0} IS NOT DISTINCT FROM s.{0}" if c == "meter" else "t.{0} = s.{0}").format(sql.Identifier(c)) for c in log.keys
    )
    same = sql.SQL(" AND ").join(
        [sql.SQL("true")] + [sql.SQL("t.{0} IS NOT DISTINCT FROM s.{0}").format(sql.Identifier(c)) for c in log.content]
    )
    parts = {"table": table, "id": id_column, "staging": staging, "key": same_key, "same": same, "names": names}
    if log.stays:
        told = {**parts, "stays": _filled(log.stays), "otherwise": _filled(log.otherwise)}
        connection.execute(sql.SQL("UPDATE {staging} s SET {stays} FROM {table} t WHERE t.superseded_by IS NULL AND {key}").format(**told))
        connection.execute(sql.SQL("UPDATE {staging} s SET {otherwise}").format(**told))
    connection.execute(sql.SQL("DELETE FROM {staging} s USING {table} t WHERE t.superseded_by IS NULL AND {key} AND {same}").format(**parts))
    sequence = f"pg_get_serial_sequence('{log.table}', '{log.id_column}')"
    connection.execute(sql.SQL("UPDATE {staging} SET id = nextval(" + sequence + ")").format(**parts))
    superseded = connection.execute(
        sql.SQL(
            "UPDATE {table} t SET superseded_by = s.id, superseded_why = %s FROM {staging} s WHERE t.superseded_by IS NULL AND {key}"
        ).format(**parts),
        [why],
    ).rowcount
    added = connection.execute(
        sql.SQL(
            "INSERT INTO {table} (fleet_id, {id}, {names}, recorded_by) OVERRIDING SYSTEM VALUE "
            "SELECT %s, id, {names}, %s FROM {staging} ORDER BY id"
        ).format(**parts),
        [fleet_id, by],
    ).rowcount
    return added, superseded
