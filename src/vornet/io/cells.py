"""Cells of a lab's file as values: dates in the common styles, numbers with their qualifier, yes and no."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Sequence
from datetime import date
from functools import lru_cache

import numpy as np

#: no result of any method is larger
LARGEST = 1e7
_NOT_MEASURED = {"", "nd", "n/d", "na", "n/a", "-", "--", "–", "null", "none", "not detected", "not tested"}
_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?$")
_MONTHS = {m: i % 12 + 1 for i, m in enumerate(
    "jan feb mar apr may jun jul aug sep oct nov dec january february march april may june july august september october "
    "november december".split())}  # fmt: skip
YES, NO = {"true", "yes", "y", "1", "ja", "x", "si", "oui"}, {"false", "no", "n", "0", "nein", "nei", ""}


@lru_cache(maxsize=100_000)
def read_date(text: str, day_first: bool = True) -> date | None:
    """A date in ISO, 5.1.2026, 05/01/2026, 2026/01/05 or 5 Jan 2026 style; None when blank. Raises ValueError."""
    cell = text.strip()
    if not cell:
        return None
    iso = re.match(r"(\d{4})[-/.](\d{1,2})[-/.](\d{1,2})(?:[T ].*)?$", cell)
    if iso:
        return date(int(iso[1]), int(iso[2]), int(iso[3]))
    dotted = re.match(r"(\d{1,2})\.(\d{1,2})\.(\d{4})(?: .*)?$", cell)
    if dotted:
        return date(int(dotted[3]), int(dotted[2]), int(dotted[1]))
    slashed = re.match(r"(\d{1,2})[/-](\d{1,2})[/-](\d{4})(?: .*)?$", cell)
    if slashed:
        first, second = int(slashed[1]), int(slashed[2])
        day, month = (first, second) if day_first else (second, first)
        return date(int(slashed[3]), month, day)
    named = re.match(r"(\d{1,2})[ -]([A-Za-z]{3,9})[ -](\d{4})$", cell)
    if named and named[2].lower() in _MONTHS:
        return date(int(named[3]), _MONTHS[named[2].lower()], int(named[1]))
    raise ValueError(f"{cell[:40]!r} is not a date")


def day_first(texts: Iterable[str]) -> bool:
    """Whether 03/04/2026 means the third of April: told from the dates themselves, else yes."""
    for text in texts:
        for first, second in re.findall(r"\b(\d{1,2})[/-](\d{1,2})[/-]\d{4}\b", text):
            if int(first) > 12:
                return True
            if int(second) > 12:
                return False
    return True


def has_decimal_comma(cells: Iterable[str]) -> bool:
    """Whether numbers are written 12,5: told from the cells, where commas must outnumber points."""
    commas = points = 0
    for cell in cells:
        commas += re.fullmatch(r"[<>]?\s*[+-]?(\d+|\d{1,3}(\.\d{3})+),\d+", cell.strip()) is not None
        points += re.fullmatch(r"[<>]?\s*[+-]?\d+\.\d+", cell.strip()) is not None
    return commas > points


def read_number(text: str, decimal_comma: bool = False) -> tuple[float, str] | str:
    """One cell as (value, '' | '<' | '>'), NaN when not measured; or a sentence saying why it is no number."""
    cell = text.strip()
    if cell.lower() in _NOT_MEASURED:
        return math.nan, ""
    sign = ""
    if cell[0] in "<>≤≥":
        sign = "<" if cell[0] in "<≤" else ">"
        cell = cell[1:].lstrip("= ")
    if decimal_comma and ("," in cell or re.fullmatch(r"[+-]?\d{1,3}(\.\d{3})+", cell)):
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


def numbers(cells: Sequence[str], comma: bool) -> tuple[np.ndarray, list[tuple[int, str]], list[tuple[int, str]]]:
    """A column of cells as numbers; which rows are censored, which are bad (row, sentence)."""
    try:
        if comma and any("." in cell for cell in cells):
            raise ValueError  # 3.700 is three thousand seven hundred here
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
