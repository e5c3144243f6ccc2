"""Samples as PostgreSQL's binary COPY wants them."""

from __future__ import annotations

import struct
from datetime import date

import numpy as np

COPY_HEAD = b"PGCOPY\n\xff\r\n\x00" + b"\x00" * 8
_NULL = struct.pack(">i", -1)
_pack_long = struct.Struct(">iq").pack
_pack_double = struct.Struct(">id").pack
_pack_int = struct.Struct(">ii").pack
DAY_ZERO = date(2000, 1, 1).toordinal()
_EMPTY = struct.pack(">i", 0)
#: fields side by side when none of them is NULL: how many there are, three ids, a day; three figures; two masks; row, its digest's width
pack_place = struct.Struct(">hiqiqiqii").pack
pack_figures = struct.Struct(">ididid").pack
pack_masks = struct.Struct(">iqiq").pack
pack_row_no = struct.Struct(">iii").pack
FIELDS = 20
_FALSE, _TRUE = struct.pack(">i?", 1, False), struct.pack(">i?", 1, True)


def long_field(value: int | None) -> bytes:
    return _NULL if value is None else _pack_long(8, value)


def double_field(value: float | None) -> bytes:
    return _NULL if value is None or value != value else _pack_double(8, value)


def day_field(value: date | None) -> bytes:
    return _NULL if value is None else _pack_int(4, value.toordinal() - DAY_ZERO)


def bool_field(value: bool | None) -> bytes:
    return _NULL if value is None else _TRUE if value else _FALSE


def text_field(value: str) -> bytes:
    if not value:
        return _EMPTY
    raw = value.replace("\x00", "").encode("utf-8", "replace")
    return len(raw).to_bytes(4, "big") + raw


def array_fields(block: np.ndarray) -> tuple[bytes, int]:
    """A block of values as PostgreSQL's binary float8[] fields, one after another, and the width of one."""
    n, width = block.shape
    out = np.zeros(n, np.dtype([("len", ">i4"), ("head", ">i4", (5,)), ("x", [("len", ">i4"), ("v", ">f8")], (width,))]))
    out["len"], out["head"] = 20 + 12 * width, (1, 0, 701, width, 1)
    out["x"]["len"], out["x"]["v"] = 8, block
    return out.tobytes(), out.dtype.itemsize
