"""A day as people write it: ISO, 5.1.2026, 05/01/2026, 5 Jan 2026, Jan 5, 2026, with the months of a few languages."""

from __future__ import annotations

import re
import unicodedata
from datetime import date

#: names of months, without accents, and their numbers
MONTHS = {name: i % 12 + 1 for i, name in enumerate(
    "jan feb mar apr may jun jul aug sep oct nov dec january february march april may june july august september october november december "
    "januar februar marz april mai juni juli august september oktober november dezember "
    "janvier fevrier mars avril mai juin juillet aout septembre octobre novembre decembre "
    "enero febrero marzo abril mayo junio julio agosto septiembre octubre noviembre diciembre".split())}  # fmt: skip
MONTHS |= {"sept": 9, "okt": 10, "dez": 12, "des": 12, "mrz": 3, "mai": 5}
_CLOCK = r"(?:[T ]\s*\d{1,2}:\d{2}.*)?"


class TwoDays(ValueError):
    """A day that may be two: the day first, or the month first."""

    def __init__(self, text: str, first: date, second: date) -> None:
        super().__init__(f"{text[:40]!r} may be {first.isoformat()} or {second.isoformat()}")
        self.first, self.second = first, second


def read(text: str, day_first: bool | None = None) -> date:
    """The day that a text means; ``day_first``: whether 03/04/2026 is the third of April, None where nobody knows.

    Raises TwoDays for what may be two days, ValueError for what is none.

    >>> read("5 Jan 2026"), read("5.1.26"), read("03/04/2026", False), read("25/12/2025")
    (datetime.date(2026, 1, 5), datetime.date(2026, 1, 5), datetime.date(2026, 3, 4), datetime.date(2025, 12, 25))
    """
    plain = " ".join(text.split())
    try:
        found = _read(plain, day_first)
    except TwoDays:
        raise
    except ValueError:
        raise ValueError(f"{plain[:40]!r} is no day of any calendar") from None
    if found is None:
        raise ValueError(f"{plain[:40]!r} is not a date")
    return found


def _read(plain: str, day_first: bool | None) -> date | None:
    if iso := re.fullmatch(rf"(\d{{4}})[-/.](\d{{1,2}})[-/.](\d{{1,2}}){_CLOCK}", plain, re.ASCII):
        return date(int(iso[1]), int(iso[2]), int(iso[3]))
    if dotted := re.fullmatch(rf"(\d{{1,2}})\.\s?(\d{{1,2}})\.\s?(\d{{4}}|\d\d){_CLOCK}", plain, re.ASCII):
        return date(_year(dotted[3]), int(dotted[2]), int(dotted[1]))
    if slashed := re.fullmatch(rf"(\d{{1,2}})[/-](\d{{1,2}})[/-](\d{{4}}|\d\d){_CLOCK}", plain, re.ASCII):
        return _slashed(int(slashed[1]), int(slashed[2]), _year(slashed[3]), plain, day_first)
    letters = "".join(c for c in unicodedata.normalize("NFKD", plain.casefold()) if not unicodedata.combining(c))
    if not re.fullmatch(r"[a-z0-9., -]+", letters, re.ASCII):
        return None
    words = re.findall(r"[a-z0-9]+", letters)
    named = [w for w in words if w in MONTHS]
    rest = [re.sub(r"(?<=\d)(st|nd|rd|th)$", "", w) for w in words if w not in MONTHS]
    if len(words) != 3 or len(named) != 1 or not all(w.isdigit() for w in rest):
        return None
    day, year = (rest[1], rest[0]) if len(rest[0]) == 4 else (rest[0], rest[1])
    return date(_year(year), MONTHS[named[0]], int(day)) if len(year) in (2, 4) else None


def _slashed(first: int, second: int, year: int, plain: str, day_first: bool | None) -> date:
    if day_first is None and first != second and first <= 12 and second <= 12:
        raise TwoDays(plain, date(year, second, first), date(year, first, second))
    month_first = day_first is False or (day_first is None and second > 12)
    return date(year, first, second) if month_first else date(year, second, first)


def _year(text: str) -> int:
    return int(text) if len(text) == 4 else 2000 + int(text) if int(text) < 70 else 1900 + int(text)
