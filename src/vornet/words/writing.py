"""How somebody writes dates and figures: told once per person, used on every page and paper, and read back the same way."""

from __future__ import annotations

import re
from collections.abc import Mapping
from contextvars import ContextVar
from dataclasses import dataclass
from datetime import date
from typing import Any

from vornet.core.errors import InputError

#: styles of a day, with an example each
DATES = {"words": "5 Jan 2026", "iso": "2026-01-05", "dots": "05.01.2026", "day_first": "05/01/2026", "month_first": "01/05/2026"}
MARKS = {".": "1,234.5", ",": "1.234,5"}
_MONTHS = {name: i % 12 + 1 for i, name in enumerate(
    "jan feb mar apr may jun jul aug sep oct nov dec january february march april may june july august september october november "
    "december".split())} | {"sept": 9}  # fmt: skip


@dataclass(frozen=True)
class Writes:
    """A person's date style and decimal mark ('' where not said: days in words, points, and what the browser's language says of typed
    figures)."""

    date: str = ""
    mark: str = ""

    @staticmethod
    def of(document: Mapping[str, Any]) -> Writes:
        """As it is kept; what is no style any more is none."""
        return Writes(
            document["date"] if document.get("date") in DATES else "", document["mark"] if document.get("mark") in MARKS else ""
        )  # fmt: skip

    def as_dict(self) -> dict[str, Any]:
        return {"date": self.date, "mark": self.mark}


USUAL = Writes()
#: how whoever asks writes, for the length of a request
writes: ContextVar[Writes] = ContextVar("writes", default=USUAL)


def checked(document: Mapping[str, Any]) -> Writes:
    """What a person chose. Raises InputError by field."""
    for key, known in (("date", DATES), ("mark", MARKS)):
        given = str(document.get(key, ""))
        if given and given not in known:
            raise InputError(key, f"{given[:20]!r} is not one of {', '.join(known.values())}")
    return Writes.of(document)


def day(value: date | None) -> str:
    """A day as its reader writes it.

    >>> day(date(2026, 1, 5)), day(None)
    ('5 Jan 2026', '–')
    """
    if value is None:
        return "–"
    style = writes.get().date
    if style == "iso":
        return f"{value:%Y-%m-%d}"
    if style == "dots":
        return f"{value:%d.%m.%Y}"
    if style == "day_first":
        return f"{value:%d/%m/%Y}"
    if style == "month_first":
        return f"{value:%m/%d/%Y}"
    return f"{value.day} {value:%b %Y}"


def short_day(value: date | None, today: date | None = None) -> str:
    """A day in little room: without its year where that is this year's, or nobody says what today is."""
    if value is None:
        return "–"
    if today is not None and value.year != today.year:
        return day(value)
    style = writes.get().date
    if style == "iso":
        return f"{value:%m-%d}"
    if style == "dots":
        return f"{value:%d.%m.}"
    if style == "day_first":
        return f"{value:%d/%m}"
    if style == "month_first":
        return f"{value:%m/%d}"
    return f"{value.day} {value:%b}"


def figure(value: float | None, decimals: int = 0) -> str:
    """A number as shown: grouped, with so many decimals; a dash when not known.

    >>> figure(1234.5, 1), figure(-0.0001), figure(None)
    ('1,234.5', '0', '–')
    """
    if value is None or value != value:
        return "–"
    shown = f"{value:,.{decimals}f}"
    shown = shown.lstrip("-") if not shown.strip("-0.,") else shown.replace("-", "−")  # nothing is nothing on either side
    return marked(shown)


def marked(shown: str) -> str:
    """A figure written with points and grouped with commas, with its reader's mark."""
    return shown.translate(_SWAPPED) if writes.get().mark == "," else shown


_SWAPPED = str.maketrans(",.", ".,")


def read_day(text: str, field: str) -> date | None:
    """A day as people write it, None when blank. What may be two days is read as its writer writes; asked back where that is not known.
    Raises InputError.

    >>> read_day("5 Jan 2026", "on"), read_day("2026-01-05", "on"), read_day("5.1.26", "on")
    (datetime.date(2026, 1, 5), datetime.date(2026, 1, 5), datetime.date(2026, 1, 5))
    """
    plain = " ".join(text.split())
    if not plain:
        return None
    shown = f"{plain[:30]!r}"
    try:
        if found := re.fullmatch(r"(\d{4})[-/.](\d{1,2})[-/.](\d{1,2})", plain, re.ASCII):
            return date(int(found[1]), int(found[2]), int(found[3]))
        if found := re.fullmatch(r"(\d{1,2})\.\s?(\d{1,2})\.\s?(\d{4}|\d\d)", plain, re.ASCII):
            return date(_year(found[3]), int(found[2]), int(found[1]))
        if found := re.fullmatch(r"(\d{1,2})[/-](\d{1,2})[/-](\d{4}|\d\d)", plain, re.ASCII):
            return _slashed(int(found[1]), int(found[2]), _year(found[3]), shown, field)
        if found := re.fullmatch(r"(\d{1,2})\.?[ -]([A-Za-z]{3,9})\.?,?[ -](\d{4}|\d\d)", plain, re.ASCII):
            return date(_year(found[3]), _MONTHS[found[2].lower()], int(found[1]))
        if found := re.fullmatch(r"([A-Za-z]{3,9})\.? (\d{1,2}),? (\d{4}|\d\d)", plain, re.ASCII):
            return date(_year(found[3]), _MONTHS[found[1].lower()], int(found[2]))
    except (ValueError, KeyError):
        raise InputError(field, f"{shown} is no day of the calendar") from None
    raise InputError(field, f"{shown} is not a date: write {day(date(2026, 1, 5))}, or 2026-01-05")


def _slashed(first: int, second: int, year: int, shown: str, field: str) -> date:
    style = writes.get().date
    if style == "month_first":
        return date(year, first, second)
    if style in ("day_first", "dots") or first == second or first > 12:
        return date(year, second, first)
    if second > 12:
        return date(year, first, second)
    one, other = date(year, second, first), date(year, first, second)
    raise InputError(
        field, f"{shown} may be {one.day} {one:%B} or {other.day} {other:%B}: write it as 2026-01-05, or say under your account how you write"
    )


def _year(text: str) -> int:
    return int(text) if len(text) == 4 else 2000 + int(text) if int(text) < 70 else 1900 + int(text)
