"""Reads XLSX and ODS workbooks in a process of its own with a limit on memory, cells and time, so that a workbook made to
burst takes nothing else with it.

``python -m vornet.io.sheet_reader first|all`` takes the workbook on stdin and answers JSON lines: {"sheet": name}, then a
list a row; ``first`` the first sheet with rows, its cells as text, ``all`` every sheet, numbers and truths as they are.
"""

from __future__ import annotations

import io
import json
import subprocess
import sys
import zipfile
import zlib
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from typing import Any

from vornet.core.errors import InputError

MEMORY_BYTES, SECONDS = 1_500_000_000, 120
LARGEST_UNPACKED, MOST_MEMBERS = 300_000_000, 2_000
#: cells of a sheet, empty ones between others counted
MOST_CELLS = 12_000_000
UNREADABLE, TOO_LARGE = 3, 4
_TOO_LARGE = "is a workbook too large to read: save the sheet as CSV"


def text_of(cell: Any) -> str:
    """A cell as text: whole numbers without .0, dates as ISO, yes and no as true and false."""
    if isinstance(cell, bool):
        return str(cell).lower()
    if isinstance(cell, float):
        return str(int(cell)) if cell.is_integer() and abs(cell) < 1e15 else repr(cell)
    if isinstance(cell, datetime):
        return cell.date().isoformat()
    if isinstance(cell, date):
        return cell.isoformat()
    if isinstance(cell, timedelta):
        return str(cell.total_seconds() / 3600)
    return str(cell)


def typed_cell(cell: Any) -> Any:
    """A cell as JSON knows it: numbers and truths as they are, the rest as text."""
    return cell if isinstance(cell, bool | int | float | str) else text_of(cell)


# ---- beside it -------------------------------------------------------------------------------------------------
def first_sheet(content: bytes) -> list[list[str]]:
    """Rows of the first sheet that has any, as text. Raises InputError when the workbook cannot be read."""
    return [row for row in _read(content, "first") if isinstance(row, list)]


def all_sheets(content: bytes) -> dict[str, list[list[Any]]]:
    """Rows by sheet. Raises InputError when the workbook cannot be read."""
    out: dict[str, list[list[Any]]] = {}
    mine: list[list[Any]] = []
    for line in _read(content, "all"):
        if isinstance(line, dict):
            mine = out.setdefault(line["sheet"], [])
        else:
            mine.append(line)
    return out


def _read(content: bytes, which: str) -> Iterator[Any]:
    if content[:2] == b"PK":
        check_unpacked(content)
    command = [sys.executable, "-m", "vornet.io.sheet_reader", which]
    try:
        ran = subprocess.run(command, input=content, capture_output=True, timeout=SECONDS * 1.5, check=False)
    except subprocess.TimeoutExpired:
        raise InputError("file", "is a workbook that takes too long to read: save the sheet as CSV") from None
    if ran.returncode == UNREADABLE:
        raise InputError("file", "is not a workbook that can be read (XLSX and ODS are)")
    if ran.returncode:
        raise InputError("file", _TOO_LARGE)
    return (json.loads(line) for line in ran.stdout.splitlines())


def check_unpacked(content: bytes) -> None:
    """Refuse a packed file that opens to more than a workbook can sensibly hold, whatever its directory says."""
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as pack:
            members = pack.infolist()
    except (zipfile.BadZipFile, ValueError, NotImplementedError, EOFError):
        raise InputError("file", "is cut off or damaged") from None
    if len(members) > MOST_MEMBERS or sum(m.file_size for m in members) > LARGEST_UNPACKED:
        raise InputError("file", f"unpacks to more than {LARGEST_UNPACKED // 1_000_000} MB")
    total = 0
    for member in members:
        start = member.header_offset + 30 + int.from_bytes(content[member.header_offset + 26 : member.header_offset + 28], "little")
        start += int.from_bytes(content[member.header_offset + 28 : member.header_offset + 30], "little")
        if member.compress_type != zipfile.ZIP_DEFLATED:
            continue
        engine, packed = zlib.decompressobj(-15), content[start : start + member.compress_size]
        try:
            while packed:
                total += len(engine.decompress(packed, 1 << 20))
                packed = engine.unconsumed_tail
                if total > LARGEST_UNPACKED:
                    raise InputError("file", f"unpacks to more than {LARGEST_UNPACKED // 1_000_000} MB")
        except zlib.error:
            raise InputError("file", "is cut off or damaged") from None


# ---- in the process --------------------------------------------------------------------------------------------
def main() -> None:
    """Write the rows, each as one line of JSON; exit 3 when the workbook cannot be read, 4 when it is too large."""
    import resource

    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
    from python_calamine import CalamineWorkbook

    every = sys.argv[1:] == ["all"]
    cell_of = typed_cell if every else text_of
    try:
        book = CalamineWorkbook.from_filelike(io.BytesIO(sys.stdin.buffer.read()))
        for name in book.sheet_names:
            sheet = book.get_sheet_by_name(name)
            if sheet.total_width * sheet.total_height > MOST_CELLS:
                sys.exit(TOO_LARGE)
            rows = sheet.to_python(skip_empty_area=False)
            if len(rows) <= 1 and not every:
                continue
            sys.stdout.write(json.dumps({"sheet": name}) + "\n")
            for row in rows:
                sys.stdout.write(json.dumps([cell_of(c) for c in row]) + "\n")
            if not every:
                break
    except Exception:
        sys.exit(UNREADABLE)
    except BaseException as error:  # the reader's own panics are not Exceptions
        sys.exit(error.code if isinstance(error, SystemExit) else UNREADABLE)


if __name__ == "__main__":
    main()
