"""Files as they came: kept in pieces so that long ones pass through flat memory, opened again as a stream."""

from __future__ import annotations

import hashlib
import io
from dataclasses import dataclass
from typing import BinaryIO, cast

from vornet.store.database import Connection, query

PIECE_BYTES = 1 << 20


@dataclass(frozen=True)
class Kept:
    """A file that is kept: its id, its size, and whether the same bytes had come before."""

    import_file_id: int
    bytes: int
    known: bool


def keep(
    connection: Connection, fleet_id: int, source: BinaryIO, *, name: str, lab: str, by: str, way: str = "hand",
    layout: str = "", state: str = "waiting",
) -> Kept:  # fmt: skip
    """Keep a file as it comes. The same bytes from the same lab are recognised and kept once."""
    row = connection.execute(
        query("results.put_file"),
        {"fleet_id": fleet_id, "name": name, "lab": lab, "layout": layout, "by": by, "way": way, "state": state},
    ).fetchone()  # fmt: skip
    assert row is not None
    import_file_id = int(row["import_file_id"])
    digest, size, n = hashlib.sha256(), 0, 0
    while piece := source.read(PIECE_BYTES):
        connection.execute(
            query("results.put_piece"),
            {"fleet_id": fleet_id, "import_file_id": import_file_id, "n": n, "content": piece},
        )
        digest.update(piece)
        size, n = size + len(piece), n + 1
    known = connection.execute(
        query("results.file_known"), {"sha256": digest.digest(), "lab": lab, "import_file_id": import_file_id}
    ).fetchone()
    if known is not None:
        connection.execute(query("results.forget_file"), {"import_file_id": import_file_id})
        connection.execute(query("results.came_again"), {"import_file_id": known["import_file_id"]})
        return Kept(known["import_file_id"], size, True)
    connection.execute(query("results.measure_file"), {"import_file_id": import_file_id, "sha256": digest.digest(), "bytes": size})
    return Kept(import_file_id, size, False)


def piece(connection: Connection, import_file_id: int, n: int) -> bytes:
    """The ``n``-th piece of a kept file, empty past its end."""
    row = connection.execute(query("results.piece"), {"import_file_id": import_file_id, "n": n}).fetchone()
    return bytes(row["content"]) if row else b""


class Pieces(io.RawIOBase):
    """A kept file as a stream. The connection must not be used for anything else meanwhile."""

    def __init__(self, connection: Connection, import_file_id: int) -> None:
        self._connection, self._id, self._at = connection, import_file_id, 0
        self._n, self._piece = -1, b""

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._at

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        if whence == io.SEEK_SET:
            self._at = offset
        elif whence == io.SEEK_CUR:
            self._at += offset
        else:
            raise io.UnsupportedOperation("seek from the end")
        return self._at

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        n, within = divmod(self._at, PIECE_BYTES)
        if n != self._n:
            self._n, self._piece = n, piece(self._connection, self._id, n)
        part = self._piece[within : within + len(buffer)]
        buffer[: len(part)] = part
        self._at += len(part)
        return len(part)


def stream(connection: Connection, import_file_id: int) -> BinaryIO:
    """A kept file, buffered."""
    return cast(BinaryIO, io.BufferedReader(Pieces(connection, import_file_id), PIECE_BYTES))
