"""The lab's results file: wide or long CSV (any common separator, decimal comma, encoding) or JSON.

Reads headers, cuts a file into chunks of columns, and turns cells into numbers. Censored values (``<0.5``,
``>100``) keep their side; blanks and ``ND`` are not measured. A row that cannot be read is returned with its
field, its reason and its original cells. Common foreign headers are recognised. See docs/formats.md.
"""

from __future__ import annotations

import csv
import io
import json
import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date
from functools import lru_cache
from itertools import islice

import numpy as np

from vornet.core.errors import InputError
from vornet.core.measurands import BY_KEY, COUNT, INDEX, KEYS, MEASURANDS

CHUNK_ROWS = 5000
MOST_COLUMNS = 400
LARGEST = 1e7

CONTEXT = (
    "sample_no", "unit", "compartment", "sampled_on", "meter", "oil_hours", "oil", "topup_l", "drained",
    "filter_changed", "lab", "received_on", "reported_on", "comment", "severity",
)  # fmt: skip

_CONTEXT_ALIASES = {
    "sample number": "sample_no", "sample id": "sample_no", "sample": "sample_no", "lab no": "sample_no",
    "unit id": "unit", "unit no": "unit", "equipment": "unit", "machine": "unit", "vehicle": "unit",
    "component": "compartment", "sample date": "sampled_on", "date sampled": "sampled_on", "sampled": "sampled_on",
    "date": "sampled_on", "unit hours": "meter", "meter h": "meter", "meter km": "meter", "meter reading": "meter",
    "hours": "meter", "oil h": "oil_hours", "oil km": "oil_hours", "hours on oil": "oil_hours",
    "oil age": "oil_hours", "lubricant": "oil", "oil name": "oil", "top up": "topup_l", "topup": "topup_l",
    "oil added": "topup_l", "make up l": "topup_l", "oil changed": "drained", "oil drained": "drained",
    "laboratory": "lab", "received": "received_on", "date received": "received_on", "reported": "reported_on",
    "report date": "reported_on", "date reported": "reported_on", "lab comment": "comment", "remarks": "comment",
}  # fmt: skip
_MEASURAND_ALIASES = {
    "kv100": "v100", "visc 100": "v100", "visc @ 100 c": "v100", "viscosity 100 c": "v100", "viscosity @ 100 c": "v100",
    "kv40": "v40", "visc 40": "v40", "visc @ 40 c": "v40", "viscosity 40 c": "v40", "viscosity @ 40 c": "v40",
    "visc @ 100": "v100", "visc @ 40": "v40", "viscosity 100": "v100", "viscosity 40": "v40",
    "tbn": "bn", "tan": "an", "water": "water_ppm", "fuel": "fuel_pct", "fuel dilution": "fuel_pct",
    "soot": "soot_pct", "glycol": "glycol_pct", "flash": "flash_c", "sulphation": "sulfation", "sulphur": "s",
    "aluminum": "al", "visc index": "vi", "pq index": "pq", "particles 4": "p4", "particles 6": "p6",
    "particles 14": "p14", ">4 um": "p4", ">6 um": "p6", ">14 um": "p14",
}  # fmt: skip
for _m in MEASURANDS:
    _MEASURAND_ALIASES.setdefault(_m.name.lower(), _m.key)

#: factor that turns a lab's unit into the stored one
_UNIT_FACTORS: dict[str, dict[str, float]] = {
    "mg/kg": {"ppm": 1, "mg/kg": 1, "%": 1e4, "% m/m": 1e4, "g/kg": 1e3, "ug/g": 1, "ppb": 1e-3},
    "mm²/s": {"cst": 1, "mm2/s": 1, "mm²/s": 1, "mm^2/s": 1},
    "mg KOH/g": {"mgkoh/g": 1, "mg koh/g": 1, "mg/g": 1},
    "%": {"%": 1, "% m/m": 1, "wt%": 1, "mass%": 1, "% w/w": 1, "ppm": 1e-4, "mg/kg": 1e-4},
    "A/cm": {"a/cm": 1, "abs/cm": 1, "a/0.1mm": 100, "a/0.1 mm": 100, "abs/0.1mm": 100, "abs/0.1 mm": 100},
    "°C": {"c": 1, "°c": 1, "degc": 1},
    "/mL": {"/ml": 1, "counts/ml": 1, "1/ml": 1, "p/ml": 1},
    "": {"": 1, "index": 1},
}


def unit_factor(key: str, unit: str) -> float | None:
    """What a value in ``unit`` is multiplied with to be stored; None when the unit does not fit the measurand."""
    given = unit.strip().lower().replace("µ", "u")
    if not given:
        return 1.0
    return _UNIT_FACTORS[BY_KEY[key].unit].get(given)


@dataclass(frozen=True)
class BadRow:
    """A row that could not be read: number in the file (header is row 1), field, reason key, sentence, cells."""

    row_no: int
    field: str
    reason: str
    detail: str
    original: dict[str, str]


@dataclass
class Header:
    """Which column is what: context columns, measurand columns with their factor, and what is not known."""

    context: dict[str, int]
    measurands: list[tuple[int, int, float]]  # measurand position, column, factor
    unknown: list[str]
    problems: list[str]
    names: list[str]
    distance: bool = False


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


def _plain_header(text: str) -> tuple[str, str]:
    """A header's name and the unit in it: 'Fe (ppm)' → ('fe', 'ppm')."""
    unit = ""
    found = re.search(r"[(\[]([^)\]]*)[)\]]\s*$", text)
    if found:
        unit, text = found.group(1), text[: found.start()]
    name = re.sub(r"[\s_.:°]+", " ", text).strip().lower()
    return name, unit


def read_header(names: Sequence[str]) -> Header:
    """Recognise the columns. Raises InputError when there is no sample number or nothing measured."""
    if len(names) > MOST_COLUMNS:
        raise InputError("header", f"{len(names):,} columns: a results file has at most {MOST_COLUMNS}")
    header = Header({}, [], [], [], [n.strip() for n in names])
    for column, raw in enumerate(names):
        cell = raw.strip()
        if not cell:
            continue
        key = cell.lower()
        name, unit = _plain_header(cell)
        underscored = name.replace(" ", "_")
        context = key if key in CONTEXT else underscored if underscored in CONTEXT else _CONTEXT_ALIASES.get(name)
        if context is None and f"{name} {unit.lower()}".strip() in _CONTEXT_ALIASES:
            context = _CONTEXT_ALIASES[f"{name} {unit.lower()}".strip()]
        if context is not None:
            header.context.setdefault(context, column)
            header.distance |= key in ("oil_km", "meter_km")
            continue
        measurand = key if key in INDEX else underscored if underscored in INDEX else _MEASURAND_ALIASES.get(name)
        if measurand is None:
            header.unknown.append(cell)
            continue
        if key.endswith("_pct") and measurand == "water_ppm":
            unit = unit or "%"
        factor = unit_factor(measurand, unit)
        if factor is None:
            header.problems.append(f"column {cell!r}: {unit!r} is not a unit for {BY_KEY[measurand].name.lower()}")
            header.unknown.append(cell)
        elif any(m == INDEX[measurand] for m, _, _ in header.measurands):
            twice = BY_KEY[measurand].name.lower()
            header.problems.append(f"column {cell!r}: {twice} is there twice; the first counts")
        else:
            header.measurands.append((INDEX[measurand], column, factor))
    if "sample_no" not in header.context:
        raise InputError("header", "there is no sample_no column in the first row, so this is not a results file")
    return header


def decode(content: bytes) -> str:
    """Bytes as text: UTF-8 (with or without a mark), UTF-16 with a mark, else Windows-1252.

    Raises InputError for a file that is not text.
    """
    if not content.strip():
        raise InputError("file", "is empty")
    if content[:2] in (b"\xff\xfe", b"\xfe\xff"):
        try:
            return content.decode("utf-16")
        except UnicodeDecodeError:
            raise InputError("file", "is not readable text") from None
    if content[:2] == b"PK" or content[:4] == b"%PDF" or b"\x00" in content[:4096]:
        raise InputError("file", "is not a CSV or JSON file (save it as CSV first)")
    try:
        return content.decode("utf-8-sig")
    except UnicodeDecodeError:
        return content.decode("cp1252", errors="replace")


def _separator(first_line: str) -> str:
    return max(",;\t|", key=first_line.count)


@dataclass
class ResultsFile:
    """An opened results file. ``layout``: wide csv, long csv or json."""

    layout: str
    header: Header
    rows: Iterator[list[str]]
    day_first: bool
    decimal_comma: bool


def open_file(content: bytes) -> ResultsFile:
    """Recognise what a file is and read its header. Raises InputError when it cannot be read at all."""
    text = decode(content)
    start = text.lstrip()[:1]
    if start in "[{":
        names, rows = _json_rows(text)
        return ResultsFile("json", read_header(names), iter(rows), _day_first(text), False)
    first_line = text.lstrip("\r\n").split("\n", 1)[0]
    separator = _separator(first_line)
    if separator not in first_line:
        raise InputError("header", "the first row has one column only: is this a results file?")
    csv.field_size_limit(1_000_000)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator)
    try:
        names = next(row for row in reader if any(cell.strip() for cell in row))
    except (StopIteration, csv.Error):
        raise InputError("file", "holds no rows") from None
    comma = separator != "," and re.search(r"\d,\d", text[:200_000]) is not None
    lowered = [_plain_header(n)[0].replace(" ", "_") for n in names]
    if "measurand" in lowered and "value" in lowered:
        names, rows = _long_rows(names, lowered, reader, comma)
        return ResultsFile("long csv", read_header(names), iter(rows), _day_first(text), comma)
    header = read_header(names)
    if not header.measurands:
        raise InputError("header", "no column is a measurand that Vornet knows (fe, v100, bn, …)")
    return ResultsFile("wide csv", header, reader, _day_first(text), comma)


def _day_first(text: str) -> bool:
    """Whether 03/04/2026 means the third of April: told from the file's own dates, else yes."""
    seen = re.findall(r"\b(\d{1,2})/(\d{1,2})/\d{4}\b", text[:500_000])
    return not any(int(b) > 12 for _, b in seen)


def _json_rows(text: str) -> tuple[list[str], list[list[str]]]:
    try:
        document = json.loads(text)
    except (json.JSONDecodeError, RecursionError):
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
    return names, [["" if row.get(n) is None else str(row[n]) for n in names] for row in flat]


def _long_rows(
    names: list[str], lowered: list[str], reader: Iterator[list[str]], comma: bool
) -> tuple[list[str], list[list[str]]]:
    """Long rows (one result each) gathered to wide rows, one a sample; a value whose unit or name is not
    known is marked so that its row is held."""
    at = {name: i for i, name in enumerate(lowered)}
    if "sample_no" not in at:
        raise InputError("header", "a long results file needs sample_no, measurand and value")
    context = [i for i, name in enumerate(lowered) if name not in ("measurand", "value", "unit")]
    # a long file's "unit" is the value's unit when every row carries a measurand; the machine is "unit_name"
    gathered: dict[str, dict[str, str]] = {}
    for row in reader:
        row = row + [""] * (len(names) - len(row))
        mine = gathered.setdefault(row[at["sample_no"]].strip(), {names[i]: row[i] for i in context})
        raw = row[at["measurand"]].strip()
        if not raw:
            continue
        name, bracket = _plain_header(raw)
        key = raw.lower() if raw.lower() in INDEX else _MEASURAND_ALIASES.get(name)
        unit = row[at["unit"]] if "unit" in at else bracket
        if key is None:
            mine[raw] = row[at["value"]]
            continue
        factor = unit_factor(key, unit)
        cell = row[at["value"]].strip()
        if factor is None:
            mine[key] = f"{cell} {unit}"
        elif factor != 1:
            number = read_number(cell, comma)
            mine[key] = cell if isinstance(number, str) else f"{number[1]}{number[0] * factor!r}"
        else:
            mine[key] = cell
    wide = list(dict.fromkeys(name for row in gathered.values() for name in row))
    return wide, [[row.get(n, "") for n in wide] for row in gathered.values()]


@lru_cache(maxsize=100_000)
def read_date(text: str, day_first: bool = True) -> date | None:
    """A date in ISO, 5.1.2026, 05/01/2026 or 2026/01/05 style; None when blank. Raises ValueError."""
    cell = text.strip()
    if not cell:
        return None
    iso = re.match(r"(\d{4})[-/.](\d{1,2})[-/.](\d{1,2})(?:[T ].*)?$", cell)
    if iso:
        return date(int(iso[1]), int(iso[2]), int(iso[3]))
    dotted = re.match(r"(\d{1,2})\.(\d{1,2})\.(\d{4})$", cell)
    if dotted:
        return date(int(dotted[3]), int(dotted[2]), int(dotted[1]))
    slashed = re.match(r"(\d{1,2})[/-](\d{1,2})[/-](\d{4})$", cell)
    if slashed:
        first, second = int(slashed[1]), int(slashed[2])
        day, month = (first, second) if day_first else (second, first)
        return date(int(slashed[3]), month, day)
    raise ValueError(f"{cell[:40]!r} is not a date")


_NOT_MEASURED = {"", "nd", "n/d", "na", "n/a", "-", "--", "null", "none", "not detected", "not tested"}
_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?$")


def read_number(text: str, decimal_comma: bool = False) -> tuple[float, str] | str:
    """One cell as (value, '' | '<' | '>'), NaN when not measured; or a sentence saying why it is no number."""
    cell = text.strip()
    if cell.lower() in _NOT_MEASURED:
        return math.nan, ""
    sign = ""
    if cell[0] in "<>≤≥":
        sign = "<" if cell[0] in "<≤" else ">"
        cell = cell[1:].lstrip("= ")
    if decimal_comma and "," in cell:
        cell = cell.replace(".", "").replace(",", ".")
    elif re.fullmatch(r"[+-]?\d{1,3}(,\d{3})+(\.\d*)?", cell):
        cell = cell.replace(",", "")
    elif re.fullmatch(r"[+-]?\d+,\d+", cell):
        cell = cell.replace(",", ".")
    if not _NUMBER.match(cell):
        return f"{text.strip()[:40]!r} is not a number"
    value = float(cell)
    if not math.isfinite(value) or abs(value) > LARGEST:
        return f"{text.strip()[:40]} is out of range"
    return value, sign


def _numbers(cells: Sequence[str], comma: bool) -> tuple[np.ndarray, list[tuple[int, str]], list[tuple[int, str]]]:
    """A column of cells as numbers; which rows are censored, which are bad (row, sentence)."""
    try:
        values = np.array(cells, dtype=float)
        if np.all(np.abs(values) <= LARGEST):
            return values, [], []
    except ValueError:
        pass
    values, signs, bad = np.full(len(cells), np.nan), [], []
    for i, cell in enumerate(cells):
        if not cell:
            continue
        number = read_number(cell, comma)
        if isinstance(number, str):
            bad.append((i, number))
        else:
            values[i] = number[0]
            if number[1]:
                signs.append((i, number[1]))
    return values, signs, bad


_YES, _NO = {"true", "yes", "y", "1", "ja", "x"}, {"false", "no", "n", "0", "nein", ""}


def chunks(file: ResultsFile, rows_a_chunk: int = CHUNK_ROWS) -> Iterator[Chunk]:
    """The file's rows, a few thousand at a time, so that memory stays flat as files grow."""
    row_no = 2
    while True:
        try:
            block = list(islice(file.rows, rows_a_chunk))
        except csv.Error as error:
            raise InputError(f"row {row_no}", f"cannot be read: {error}") from None
        if not block:
            return
        yield _chunk(file, block, row_no)
        row_no += len(block)


def _chunk(file: ResultsFile, block: list[list[str]], first_row: int) -> Chunk:
    header, width = file.header, len(file.header.names)
    row_no, rows, bad = [], [], []
    for i, row in enumerate(block):
        if len(row) == width:
            pass
        elif not any(cell.strip() for cell in row):
            continue
        elif len(row) < width:
            row = row + [""] * (width - len(row))
        elif any(cell.strip() for cell in row[width:]):
            detail = f"{len(row)} cells where the header has {width}"
            bad.append(BadRow(first_row + i, "row", "too_many_cells", detail, _original(header, row)))
            continue
        row_no.append(first_row + i)
        rows.append(row)
    n = len(rows)
    columns = list(zip(*rows, strict=False)) if rows else [()] * width
    broken: dict[int, tuple[str, str, str]] = {}

    def fail(i: int, name: str, reason: str, detail: str) -> None:
        broken.setdefault(i, (name, reason, detail))

    text = {
        name: [c.strip() for c in columns[header.context[name]]] if name in header.context else [""] * n
        for name in ("sample_no", "unit", "compartment", "oil", "lab", "comment", "severity")
    }
    for i, number in enumerate(text["sample_no"]):
        if not number:
            fail(i, "sample_no", "no_sample_number", "the sample number is missing")
        elif len(number) > 80:
            fail(i, "sample_no", "bad_value", "the sample number is longer than 80 characters")

    def dates(name: str, needed: bool) -> list[date | None]:
        if name not in header.context:
            if needed:
                for i in range(n):
                    fail(i, name, "no_date", f"{name} is missing")
            return [None] * n
        out: list[date | None] = []
        for i, cell in enumerate(columns[header.context[name]]):
            try:
                day = read_date(cell, file.day_first)
                if day is not None and not 1950 <= day.year <= 2200:
                    raise ValueError(f"{cell.strip()[:40]!r} is not a likely date")
            except ValueError as error:
                day = None
                why = str(error) if "is not" in str(error) else f"{cell.strip()[:40]!r} is not a date"
                fail(i, name, "bad_date", why)
            else:
                if needed and day is None:
                    fail(i, name, "no_date", f"{name} is missing")
            out.append(day)
        return out

    def flags(name: str) -> list[bool | None]:
        if name not in header.context:
            return [None] * n
        out: list[bool | None] = []
        for i, cell in enumerate(columns[header.context[name]]):
            word = cell.strip().lower()
            if word not in _YES and word not in _NO:
                fail(i, name, "bad_value", f"{cell.strip()[:40]!r} is not yes or no")
            out.append(None if not word else word in _YES)
        return out

    # a long file may leave the day to the drain that announced the sample
    sampled_on = dates("sampled_on", file.layout != "long csv")
    received, reported = dates("received_on", False), dates("reported_on", False)
    numbers: dict[str, np.ndarray] = {}
    for name in ("meter", "oil_hours", "topup_l"):
        if name in header.context:
            values, _, wrong = _numbers(columns[header.context[name]], file.decimal_comma)
            for i, why in wrong:
                fail(i, name, "bad_number", why)
            for at in np.flatnonzero(values < 0).tolist():
                fail(at, name, "bad_number", f"{values[at]:g} is below zero")
            numbers[name] = values
        else:
            numbers[name] = np.full(n, np.nan)
    values = np.full((n, COUNT), np.nan)
    below, above = np.zeros(n, dtype=np.int64), np.zeros(n, dtype=np.int64)
    for m, column, factor in header.measurands:
        cells = columns[column]
        if not any(cells):
            continue
        got, signs, wrong = _numbers(cells, file.decimal_comma)
        values[:, m] = got if factor == 1 else got * factor
        for i, sign in signs:
            (below if sign == "<" else above)[i] |= 1 << m
        for i, why in wrong:
            fail(i, KEYS[m], "bad_number", why)
    drained = [bool(f) for f in flags("drained")]
    chunk = Chunk(
        row_no, text, sampled_on, numbers, drained, flags("filter_changed"), received, reported, values, below, above,
        bad, rows,
    )  # fmt: skip
    for i, (name, reason, detail) in sorted(broken.items()):
        chunk.bad.append(BadRow(row_no[i], name, reason, detail, _original(header, rows[i])))
    return _without(chunk, set(broken)) if broken else chunk


def _original(header: Header, row: Sequence[str]) -> dict[str, str]:
    out = {name or f"column {i + 1}": cell[:500] for i, (name, cell) in enumerate(zip(header.names, row, strict=False))}
    if len(row) > len(header.names):
        out["further cells"] = " | ".join(row[len(header.names) :])[:500]
    return out


def _without(chunk: Chunk, drop: set[int]) -> Chunk:
    keep = [i for i in range(len(chunk.row_no)) if i not in drop]

    def pick(items: list) -> list:
        return [items[i] for i in keep]

    return Chunk(
        pick(chunk.row_no), {k: pick(v) for k, v in chunk.text.items()}, pick(chunk.sampled_on),
        {k: v[keep] for k, v in chunk.numbers.items()}, pick(chunk.drained), pick(chunk.filter_changed),
        pick(chunk.received_on), pick(chunk.reported_on), chunk.values[keep], chunk.below[keep], chunk.above[keep],
        chunk.bad, pick(chunk.originals),
    )  # fmt: skip
