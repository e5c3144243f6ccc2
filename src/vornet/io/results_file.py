"""The lab's results file: wide (a row a sample) or long (a row a result), in any table that ``lab_table`` reads.

Finds the heading row, cuts the file into chunks of columns, and turns cells into numbers. Censored values
(``<0.5``, ``>100``) keep their side; blanks and ``ND`` are not measured. A row that cannot be read is returned
with its field, its reason and its original cells. See docs/formats.md.
"""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date
from itertools import islice
from typing import Any, BinaryIO

import numpy as np

from vornet.core.errors import InputError
from vornet.core.measurands import COUNT, INDEX, KEYS
from vornet.io import lab_table
from vornet.io.cells import NO, YES, numbers, read_date, read_number
from vornet.io.lab_header import (
    LONG_MEASURAND,
    LONG_VALUE,
    Header,
    Mapping_,
    is_units_row,
    measurand_of,
    plain_header,
    read_header,
    said_key,
    unit_factor,
)

CHUNK_ROWS, AT_A_TIME = 5000, 500


@dataclass(frozen=True)
class BadRow:
    """A row that could not be read: number in the file from 1, field, reason key, sentence, cells."""

    row_no: int
    field: str
    reason: str
    detail: str
    original: dict[str, str]


@dataclass
class Chunk:
    """Rows read from a file, column by column. ``values`` (n, COUNT) float; masks of censored values."""

    row_no: list[int]
    text: dict[str, list[str]]
    sampled_on: list[date | None]
    numbers: dict[str, np.ndarray]
    drained: list[bool]
    filter_changed: list[bool | None]
    received_on: list[date | None]
    reported_on: list[date | None]
    values: np.ndarray
    below: np.ndarray
    above: np.ndarray
    bad: list[BadRow] = field(default_factory=list)
    originals: list[list[str]] = field(default_factory=list)


class NeedsMapping(InputError):
    """A table that can be read, but whose headings a person must explain first."""


@dataclass
class ResultsFile:
    """An opened results file. ``layout``: wide csv, long csv, wide xlsx, json …; ``header_row`` its number in the file."""

    layout: str
    header: Header
    rows: Iterator[tuple[int, list[str]]]
    day_first: bool
    decimal_comma: bool
    header_row: int
    reading: str
    preview: list[list[str]]


def open_file(source: bytes | BinaryIO, said: Mapping_ | None = None) -> ResultsFile:
    """Recognise what a file is and read its headings.

    Raises NeedsMapping when no row of headings with a sample number and something measured is found, InputError
    when the file cannot be read at all.
    """
    said = said or {}
    table = lab_table.open_table(io.BytesIO(source) if isinstance(source, bytes) else source, said)
    first = lab_table.head_of(table, lab_table.HEADER_WITHIN + 10)
    at = lab_table.header_at(first, said)
    if at is None:
        _not_found(first)
    assert at is not None
    number, names = first[at]
    rows: Iterator[tuple[int, list[str]]] = islice(table.rows, at + 1, None)
    lowered = [plain_header(n)[0] for n in names]
    is_long = any(n in LONG_MEASURAND for n in lowered) and any(n in LONG_VALUE for n in lowered)
    if is_long:
        names, rows = _long_rows(names, lowered, rows, table.decimal_comma, said)
        header = read_header(names, said)
    else:
        header = read_header(names, said)
        below = first[at + 1][1] if at + 1 < len(first) else []
        if is_units_row(below, header):
            header = read_header(names, said, below)
            rows = islice(rows, 1, None)
        if not header.measurands:
            raise NeedsMapping("header", "no column is a measurand that Vornet knows (fe, v100, bn, …)")
    layout = table.layout if table.layout == "json" else f"{'long' if is_long else 'wide'} {table.layout}"
    preview = [row for _, row in first[at + 1 : at + 6]]
    return ResultsFile(layout, header, rows, table.day_first, table.decimal_comma, number, table.reading, preview)


def _not_found(first: Sequence[tuple[int, list[str]]]) -> None:
    widest = max((sum(bool(c.strip()) for c in row) for _, row in first), default=0)
    if any(len(row) > 400 for _, row in first):
        raise InputError("header", f"{max(len(r) for _, r in first):,} columns: a results file has at most 400")
    why = "there is no sample_no column in the first rows, so this is not a results file"
    if widest < 3 or len(first) < 2:
        raise InputError("header", why)
    raise NeedsMapping("header", why)


@dataclass(frozen=True)
class Guess:
    """A table whose headings nobody knows yet: the likeliest heading row and the rows under it."""

    names: list[str]
    preview: list[list[str]]
    row: int
    reading: str


def guess(source: BinaryIO, said: Mapping_ | None = None) -> Guess:
    """The headings of a file as they stand, for a person to explain. Raises InputError when it is no table."""
    said = said or {}
    table = lab_table.open_table(source, said)
    first = lab_table.head_of(table, lab_table.HEADER_WITHIN + 10)
    at = lab_table.header_at(first, said)
    if at is None:

        def headlike(row: list[str]) -> int:
            filled = [c for c in row if c.strip()]
            return sum(isinstance(read_number(c), str) for c in filled) if len(set(filled)) == len(filled) else 0

        at = max(range(len(first)), key=lambda i: headlike(first[i][1]))
    return Guess([c.strip() for c in first[at][1]], [row for _, row in first[at + 1 : at + 6]], first[at][0], table.reading)


def _long_rows(
    names: list[str], lowered: list[str], rows: Iterable[tuple[int, list[str]]], comma: bool, said: Mapping_
) -> tuple[list[str], Iterator[tuple[int, list[str]]]]:
    """Long rows (one result each) gathered to wide rows, one a sample, under the number of its first row; a value
    whose unit or name is not known is marked so that its row is held."""
    what = next(i for i, n in enumerate(lowered) if n in LONG_MEASURAND)
    how_much = next(i for i, n in enumerate(lowered) if n in LONG_VALUE)
    unit_at = next((i for i, n in enumerate(lowered) if n in ("unit", "units", "unit of measure")), None)
    context = [i for i in range(len(names)) if i not in (what, how_much, unit_at)]
    header = read_header([n if i in context else "" for i, n in enumerate(names)], said)
    number_at = header.context["sample_no"]
    gathered: dict[str, dict[str, str]] = {}
    numbers_of: dict[str, int] = {}
    for number, row in rows:
        row = row + [""] * (len(names) - len(row))
        if not any(c.strip() for c in row):
            continue
        sample_no = row[number_at].strip()
        mine = gathered.get(sample_no)
        if mine is None:
            mine = gathered[sample_no] = {names[i]: row[i] for i in context}
            numbers_of[sample_no] = number
        raw = row[what].strip()
        if not raw:
            continue
        meaning = said.get(said_key(raw))
        key = (meaning.key or None) if meaning else measurand_of(raw)
        if key is None or key not in INDEX:
            mine[raw] = row[how_much]
            continue
        unit = (meaning.unit if meaning else "") or (row[unit_at] if unit_at is not None else plain_header(raw)[1])
        factor, cell = unit_factor(key, unit), row[how_much].strip()
        if factor is None:
            mine[key] = f"{cell} {unit}"
        elif factor != 1:
            value = read_number(cell, comma)
            mine[key] = cell if isinstance(value, str) else f"{value[1]}{value[0] * factor!r}" if value[0] == value[0] else ""
        else:
            mine[key] = cell
    wide = list(dict.fromkeys(name for row in gathered.values() for name in row))
    return wide, iter([(numbers_of[s], [row.get(n, "") for n in wide]) for s, row in gathered.items()])


def chunks(file: ResultsFile, rows_a_chunk: int = CHUNK_ROWS) -> Iterator[Chunk]:
    """The file's rows, a few thousand at a time, so that memory stays flat as files grow; read so few together that their cells stay
    near the processor until they are columns."""
    while True:
        parts: list[Chunk] = []
        while len(parts) * AT_A_TIME < rows_a_chunk and (block := list(islice(file.rows, min(AT_A_TIME, rows_a_chunk)))):
            parts.append(_chunk(file, block))
        if not parts:
            return
        yield parts[0] if len(parts) == 1 else _joined(parts)


def _joined(parts: list[Chunk]) -> Chunk:
    out = parts[0]
    for c in parts[1:]:
        for name in ("row_no", "sampled_on", "drained", "filter_changed", "received_on", "reported_on", "bad", "originals"):
            getattr(out, name).extend(getattr(c, name))
        for name, cells in c.text.items():
            out.text[name].extend(cells)
    out.numbers = {k: np.concatenate([c.numbers[k] for c in parts]) for k in out.numbers}
    out.values, out.below, out.above = (np.concatenate([getattr(c, k) for c in parts]) for k in ("values", "below", "above"))
    return out


def _even_rows(header: Header, block: list[tuple[int, list[str]]]) -> tuple[list[int], list[list[str]], list[BadRow]]:
    """(numbers, rows as wide as the header, rows that cannot be); empty rows are left out."""
    width = len(header.names)
    row_no, rows, bad = [], [], []
    for number, row in block:
        if not (row and row[0]) and not any(cell.strip() for cell in row):
            continue
        if len(row) > width and any(cell.strip() for cell in row[width:]):
            detail = f"{len(row)} cells where the header has {width}"
            bad.append(BadRow(number, "row", "too_many_cells", detail, _original(header, row)))
            continue
        row_no.append(number)
        rows.append(row if len(row) == width else (row + [""] * width)[:width])
    return row_no, rows, bad


class _Columns:
    """A block's columns by what they hold, and what is wrong with which row: the first thing found in each."""

    def __init__(self, file: ResultsFile, rows: list[list[str]]) -> None:
        self.file, self.header, self.n = file, file.header, len(rows)
        self.columns: list[Any] = list(zip(*rows, strict=True)) if rows else [()] * len(file.header.names)
        self.broken: dict[int, tuple[str, str, str]] = {}

    def fail(self, i: int, name: str, reason: str, detail: str) -> None:
        self.broken.setdefault(i, (name, reason, detail))

    def cells(self, name: str) -> Sequence[str] | None:
        return self.columns[self.header.context[name]] if name in self.header.context else None

    def text(self, name: str) -> list[str]:
        cells = self.cells(name)
        return [""] * self.n if cells is None else [c.strip() for c in cells]

    def sample_numbers(self, numbers: list[str]) -> None:
        for i, number in enumerate(numbers):
            if not number:
                self.fail(i, "sample_no", "no_sample_number", "the sample number is missing")
            elif len(number) > 80:
                self.fail(i, "sample_no", "bad_value", "the sample number is longer than 80 characters")

    def dates(self, name: str) -> list[date | None]:
        cells = self.cells(name)
        if cells is None:
            return [None] * self.n
        out: list[date | None] = []
        for i, cell in enumerate(cells):
            try:
                day = read_date(cell, self.file.day_first)
                if day is not None and not 1950 <= day.year <= 2200:
                    raise ValueError(f"{cell.strip()[:40]!r} is not a likely date")
            except ValueError as error:
                day = None
                self.fail(i, name, "bad_date", str(error) if "is not" in str(error) else f"{cell.strip()[:40]!r} is not a date")
            out.append(day)
        return out

    def flags(self, name: str) -> list[bool | None]:
        cells = self.cells(name)
        if cells is None:
            return [None] * self.n
        out: list[bool | None] = []
        for i, cell in enumerate(cells):
            word = cell.strip().lower()
            if word not in YES and word not in NO:
                self.fail(i, name, "bad_value", f"{cell.strip()[:40]!r} is not yes or no")
            out.append(None if not word else word in YES)
        return out

    def figures(self, name: str) -> np.ndarray:
        """A column of figures that cannot be below zero; NaN where there is none."""
        cells = self.cells(name)
        if cells is None:
            return np.full(self.n, np.nan)
        values, _, wrong = numbers(cells, self.file.decimal_comma)
        for i, why in wrong:
            self.fail(i, name, "bad_number", why)
        for at in np.flatnonzero(values < 0).tolist():
            self.fail(at, name, "bad_number", f"{values[at]:g} is below zero")
        return values

    def measured(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """(values (N, COUNT), masks of what is below and above what the lab reports (N,))."""
        values = np.full((self.n, COUNT), np.nan)
        below, above = np.zeros(self.n, dtype=np.int64), np.zeros(self.n, dtype=np.int64)
        for m, column, factor in self.header.measurands:
            cells = self.columns[column]
            if not any(cells):
                continue
            got, signs, wrong = numbers(cells, self.file.decimal_comma)
            values[:, m] = got if factor == 1 else got * factor
            for i, sign in signs:
                (below if sign == "<" else above)[i] |= 1 << m
            for i, why in wrong:
                self.fail(i, KEYS[m], "bad_number", why)
        return values, below, above


def _chunk(file: ResultsFile, block: list[tuple[int, list[str]]]) -> Chunk:
    row_no, rows, bad = _even_rows(file.header, block)
    it = _Columns(file, rows)
    text = {name: it.text(name) for name in ("sample_no", "unit", "compartment", "oil", "lab", "comment", "severity")}
    it.sample_numbers(text["sample_no"])
    sampled_on, received, reported = (it.dates(name) for name in ("sampled_on", "received_on", "reported_on"))
    given = {name: it.figures(name) for name in ("meter", "oil_hours", "topup_l")}
    values, below, above = it.measured()
    drained = [bool(f) for f in it.flags("drained")]
    chunk = Chunk(
        row_no, text, sampled_on, given, drained, it.flags("filter_changed"), received, reported, values, below, above,
        bad, rows,
    )  # fmt: skip
    for i, (name, reason, detail) in sorted(it.broken.items()):
        chunk.bad.append(BadRow(row_no[i], name, reason, detail, _original(file.header, rows[i])))
    return _without(chunk, set(it.broken)) if it.broken else chunk


def _original(header: Header, row: Sequence[str]) -> dict[str, str]:
    out = {heading(name, i): cell[:500] for i, (name, cell) in enumerate(zip(header.names, row, strict=False))}
    if len(row) > len(header.names):
        out["further cells"] = " | ".join(row[len(header.names) :])[:500]
    return out


def _without(chunk: Chunk, drop: set[int]) -> Chunk:
    keep = [i for i in range(len(chunk.row_no)) if i not in drop]

    def pick(items: list[Any]) -> list[Any]:
        return [items[i] for i in keep]

    return Chunk(
        pick(chunk.row_no), {k: pick(v) for k, v in chunk.text.items()}, pick(chunk.sampled_on),
        {k: v[keep] for k, v in chunk.numbers.items()}, pick(chunk.drained), pick(chunk.filter_changed),
        pick(chunk.received_on), pick(chunk.reported_on), chunk.values[keep], chunk.below[keep], chunk.above[keep],
        chunk.bad, pick(chunk.originals),
    )  # fmt: skip


def heading(name: str, place: int) -> str:
    """What a column is called where its row is kept."""
    return name or f"column {place + 1}"


def one_row(cells: dict[str, str], said: Mapping_ | None = None, row_no: int = 0, of: ResultsFile | None = None) -> ResultsFile:
    """A single row of text, as a person corrected it, opened like a file of its own. ``of``: the file it came in; a row alone does not
    tell in which units its columns are, nor how days and decimals are written."""
    if of is not None:
        names = [heading(name, place) for place, name in enumerate(of.header.names)]
        if len(set(names)) == len(names) and not set(names).isdisjoint(cells):  # what stood beyond the last column is in none
            row = [cells.get(name, "") for name in names]
            return ResultsFile("corrected row", of.header, iter([(row_no, row)]), of.day_first, of.decimal_comma, row_no, "", [row])
    names, row = list(cells), list(cells.values())
    first, comma = (of.day_first, of.decimal_comma) if of is not None else (True, False)
    return ResultsFile("corrected row", read_header(names, said), iter([(row_no, row)]), first, comma, row_no, "", [row])
