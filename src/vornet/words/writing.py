"""How somebody writes dates and figures: told once per person, used on every page and paper, and read back the same way."""

from __future__ import annotations

import re
from collections.abc import Mapping
from contextvars import ContextVar
from dataclasses import dataclass
from datetime import date
from typing import Any

from vornet.core import written_day
from vornet.core.errors import InputError

#: how a day is written in each style, with its year and without; in words where none is said
_STYLES = {
    "iso": ("%Y-%m-%d", "%m-%d"),
    "dots": ("%d.%m.%Y", "%d.%m."),
    "day_first": ("%d/%m/%Y", "%d/%m"),
    "month_first": ("%m/%d/%Y", "%m/%d"),
}
#: styles of a day, with an example each
DATES = {"words": "5 Jan 2026", "iso": "2026-01-05", "dots": "05.01.2026", "day_first": "05/01/2026", "month_first": "01/05/2026"}
MARKS = {".": "1,234.5", ",": "1.234,5"}
#: the day a week begins on, and its number as a date counts them
WEEKS = {"mon": "Monday", "sun": "Sunday", "sat": "Saturday"}
_BEGINS = {"": 0, "mon": 0, "sun": 6, "sat": 5}


@dataclass(frozen=True)
class Writes:
    """A person's date style, decimal mark and first day of the week ('' where not said: days in words, points, and what the browser's
    language says of typed figures; weeks from Monday)."""

    date: str = ""
    mark: str = ""
    week: str = ""

    @staticmethod
    def of(document: Mapping[str, Any]) -> Writes:
        """As it is kept; what is no style any more is none."""
        return Writes(
            *(document[key] if document.get(key) in known else "" for key, known in (("date", DATES), ("mark", MARKS), ("week", WEEKS)))
        )

    def as_dict(self) -> dict[str, Any]:
        return {"date": self.date, "mark": self.mark, "week": self.week}

    @property
    def begins(self) -> int:
        """The weekday that a week begins on, as ``date.weekday`` counts them."""
        return _BEGINS[self.week]


USUAL = Writes()
#: how whoever asks writes, for the length of a request
writes: ContextVar[Writes] = ContextVar("writes", default=USUAL)


def checked(document: Mapping[str, Any]) -> Writes:
    """What a person chose. Raises InputError by field."""
    for key, known in (("date", DATES), ("mark", MARKS), ("week", WEEKS)):
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
    return f"{value:{_STYLES[style][0]}}" if style in _STYLES else f"{value.day} {value:%b %Y}"


def short_day(value: date | None, today: date | None = None) -> str:
    """A day in little room: without its year where that is this year's, or nobody says what today is."""
    if value is None:
        return "–"
    if today is not None and value.year != today.year:
        return day(value)
    style = writes.get().date
    return f"{value:{_STYLES[style][1]}}" if style in _STYLES else f"{value.day} {value:%b}"


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
_QUANTITY = re.compile(
    r"(?<![\w.,])(?:\d{1,3}(?:,\d{3})+(?:\.\d+)?|\d+\.\d+)"
    r"(?=[ \u202f\u00a0]?(?:%|°[CF]|(?:h|km|mi|L|mL|gal|qt|days?|mg/kg|ppm|mm²/s|N·m|lbf·ft|kPa|psi|bar|kg|g)(?![\w/])))"
)


def quantities(sentence: str) -> str:
    """A kept sentence's quantities, written with points and grouped with commas, with its reader's mark; what has no unit stays.

    >>> token = writes.set(Writes(mark=","))
    >>> quantities("every 1,000 h or 900 days, part 12.345, 1,234.5 km"); writes.reset(token)
    'every 1.000 h or 900 days, part 12.345, 1.234,5 km'
    """
    return _QUANTITY.sub(lambda m: m[0].translate(_SWAPPED), sentence) if writes.get().mark == "," else sentence


def day_first() -> bool | None:
    """Whether its reader writes the day before the month where both are figures; None where nobody has said."""
    return {"month_first": False, "day_first": True, "dots": True}.get(writes.get().date)


def read_day(text: str, field: str) -> date | None:
    """A day as people write it, None when blank. What may be two days is read as its writer writes; asked back where that is not known.
    Raises InputError.

    >>> read_day("5 Jan 2026", "on"), read_day("2026-01-05", "on"), read_day("5.1.26", "on")
    (datetime.date(2026, 1, 5), datetime.date(2026, 1, 5), datetime.date(2026, 1, 5))
    """
    if not text.strip():
        return None
    try:
        return written_day.read(text, day_first())
    except written_day.TwoDays as error:
        said = f"{error}: write it as {error.first.isoformat()}, or say under your account how you write"
        raise InputError(field, said) from None
    except ValueError as error:
        raise InputError(field, f"{error}: write {day(date(2026, 1, 5))}, or 2026-01-05") from None
