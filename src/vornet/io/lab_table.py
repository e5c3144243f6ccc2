"""A lab's file as rows of text, whatever it is: CSV and TSV in any common encoding and separator, XLSX, ODS, JSON.

Text files are read as a stream, so memory stays flat as files grow.
"""

from __future__ import annotations

import codecs
import csv
import io
import itertools
import json
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, BinaryIO

from vornet.core.errors import InputError
from vornet.io import cells, sheet_reader
from vornet.io.lab_header import Mapping_, recognised

#: how many of a row's cells are headings
Headings = Callable[[Sequence[str]], int]
HEAD_BYTES = 262_144
LONGEST_LINE = 1_000_000
#: so many characters of a text are cut into lines at a time
BLOCK = 262_144
#: a workbook or a JSON file is read whole
LARGEST_WHOLE = 80_000_000
HEADER_WITHIN = 30
#: headings of a file, and cells of one that is read whole
MOST_COLUMNS, MOST_CELLS = 2_000, sheet_reader.MOST_CELLS
SEPARATORS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}


def _as_1252(error: UnicodeError) -> tuple[str, int]:
    assert isinstance(error, UnicodeDecodeError)
    return error.object[error.start : error.end].decode("cp1252", "replace"), error.end


# UTF-8, and byte by byte Windows-1252 where it is not: reads either, and files that mix them
codecs.register_error("vornet_1252", _as_1252)


@dataclass
class LabTable:
    """Rows as (number in the file from 1, cells). ``layout``: csv, tsv, xlsx, ods or json; ``reading`` says how it is
    read, for people."""

    layout: str
    rows: Iterator[tuple[int, list[str]]]
    decimal_comma: bool
    day_first: bool
    reading: str


def open_table(source: BinaryIO, said: Mapping_ | None = None, headings: Headings | None = None) -> LabTable:
    """Recognise what a file is. ``source`` can seek; ``headings`` counts a row's headings, a lab's where it is not given.

    Raises InputError when it is no table.
    """
    known = headings or (lambda row: recognised(row, said or {}))
    head = source.read(HEAD_BYTES)
    if not head.strip():
        raise InputError("file", "is empty")
    if head[:4] == b"%PDF":
        raise InputError("file", "is a PDF: ask the lab for its data as CSV or XLSX")
    if head[:2] == b"PK" or head[:8] == b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1":
        return _workbook(source, head)
    encoding = _encoding(head)
    text = head.decode(encoding, "vornet_1252" if encoding == "utf-8-sig" else "replace")
    if text.lstrip()[:1] in ("{", "["):
        return _json(_whole(source))
    return _text(source, encoding, text, known)


def _whole(source: BinaryIO) -> bytes:
    source.seek(0)
    content = source.read(LARGEST_WHOLE + 1)
    if len(content) > LARGEST_WHOLE:
        raise InputError("file", f"is larger than {LARGEST_WHOLE // 1_000_000} MB: send it as CSV, which is read as a stream")
    return content


def _encoding(head: bytes) -> str:
    if head[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return "utf-16"
    zeros = head.count(b"\x00")
    if zeros:
        if head[1::2].count(b"\x00") > 0.4 * (len(head) / 2):
            return "utf-16-le"
        raise InputError("file", "is not a CSV or JSON file (nor a workbook)")
    return "utf-8-sig"


def _lines(stream: io.TextIOWrapper) -> Iterator[str]:
    """Lines with their ends as they came, cut from blocks: a line at a time costs several times as much."""
    number, rest = 0, ""
    try:
        while block := stream.read(BLOCK):
            if block[-1] == "\r":  # its "\n" may be the next one
                block += stream.read(1)
            lines = list(io.StringIO(rest + block, newline=""))
            rest = "" if lines[-1][-1] in "\r\n" else lines.pop()
            if max(map(len, lines), default=0) > LONGEST_LINE or len(rest) >= LONGEST_LINE:
                first = next((i for i, line in enumerate(lines) if len(line) > LONGEST_LINE), len(lines))
                raise InputError(f"row {number + first + 1}", f"is longer than {LONGEST_LINE:,} characters")
            yield from lines
            number += len(lines)
    except UnicodeError:
        raise InputError(f"row {number + 1}", "is not readable text") from None
    if rest:
        yield rest


def _cut(lines: Iterator[str], separator: str) -> Iterator[tuple[int, list[str]]]:
    csv.field_size_limit(LONGEST_LINE)
    number = 0
    try:
        for number, row in enumerate(csv.reader(lines, delimiter=separator), 1):
            if len(row) > MOST_COLUMNS:
                raise InputError(f"row {number}", f"has more than {MOST_COLUMNS:,} columns")
            yield number, row
    except csv.Error as error:
        raise InputError(f"row {number + 1}", f"cannot be read: {error}") from None


def _separator(text: str, headings: Headings) -> str:
    """The separator with which most headings are recognised; else the one that is there most often."""
    lines = text.splitlines()[:HEADER_WITHIN]
    best, most = "", 0
    for separator in SEPARATORS:
        try:
            found = max((headings(row) for row in csv.reader(lines, delimiter=separator)), default=0)
        except csv.Error:
            continue
        if found > most:
            best, most = separator, found
    return best or max(SEPARATORS, key=lambda s: max((line.count(s) for line in lines), default=0))


def _text(source: BinaryIO, encoding: str, head: str, headings: Headings) -> LabTable:
    separator = _separator(head, headings)
    if separator not in head:
        raise InputError("header", "the first rows have one column only: is this a table?")
    source.seek(0)
    errors = "vornet_1252" if encoding == "utf-8-sig" else "replace"
    stream = io.TextIOWrapper(source, encoding=encoding, errors=errors, newline="")
    known = [c for line in head.splitlines()[:400] for c in line.split(separator)]
    comma = separator != "," and cells.has_decimal_comma(known)
    first = cells.day_first(known)
    words = f"{SEPARATORS[separator]} between columns, decimal {'comma' if comma else 'point'}"
    if encoding != "utf-8-sig":
        words += ", UTF-16"
    return LabTable("tsv" if separator == "\t" else "csv", _cut(_lines(stream), separator), comma, first, words)


def _json(content: bytes) -> LabTable:
    text = content.decode(_encoding(content[:HEAD_BYTES]), "replace")
    try:
        document = json.loads(text)
    except (ValueError, RecursionError):
        raise InputError("file", "looks like JSON but cannot be read as such") from None
    if isinstance(document, dict):
        document = document.get("samples", document.get("results"))
    if not isinstance(document, list) or not all(isinstance(r, dict) for r in document):
        raise InputError("file", "JSON results are a list of objects, one a sample")
    flat = []
    for row in document:
        nested = row.get("values")
        flat.append({**{k: v for k, v in row.items() if k != "values"}, **(nested if isinstance(nested, dict) else {})})
    names = list(dict.fromkeys(name for row in flat for name in row))
    if not names:
        raise InputError("file", "holds no samples")
    if len(names) > MOST_COLUMNS or len(names) * len(flat) > MOST_CELLS:
        raise InputError("file", f"has {len(names):,} different names in {len(flat):,} rows: at most {MOST_COLUMNS:,} names are read")

    def texts(some: list[dict[str, Any]]) -> Iterator[list[str]]:
        return (["" if row.get(n) is None else str(row[n]) for n in names] for row in some)

    rows = enumerate(itertools.chain([names], texts(flat)), 1)
    return LabTable("json", iter(rows), False, cells.day_first(c for r in texts(flat[:400]) for c in r), "JSON")


def _workbook(source: BinaryIO, head: bytes) -> LabTable:
    rows = sheet_reader.first_sheet(_whole(source))
    if not any(any(c.strip() for c in row) for row in rows):
        raise InputError("file", "holds no rows")
    sample = [c for row in rows[:400] for c in row]
    comma = cells.has_decimal_comma(sample)
    layout = "ods" if b"opendocument" in head[:200] else "xlsx"
    words = f"first sheet with rows, decimal {'comma' if comma else 'point'} in text cells"
    return LabTable(layout, iter(list(enumerate(rows, 1))), comma, cells.day_first(sample), words)


def head_of(table: LabTable, count: int) -> list[tuple[int, list[str]]]:
    """The first rows, put back so that reading goes on from the start."""
    first = []
    for numbered in table.rows:
        first.append(numbered)
        if len(first) >= count:
            break
    rest = table.rows

    def again() -> Iterator[tuple[int, list[str]]]:
        yield from first
        yield from rest

    table.rows = again()
    return first


def header_at(rows: Sequence[tuple[int, list[str]]], said: Mapping_) -> int | None:
    """Position of the heading row among the first rows; None when no row has a sample number among its headings."""
    best, most = None, 1
    for i, (_, row) in enumerate(rows[:HEADER_WITHIN]):
        found = recognised(row, said)
        if found > most:
            best, most = i, found
    return best
