"""Quantities as people type and read them: stored in SI, shown as the fleet prefers, `9.5 qt` understood.

The factors are pint's (NIST SP 811); each is asked for once and kept, because pint is slow to import.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from functools import lru_cache

from vornet.core.conversion import convert
from vornet.core.errors import InputError

SI, US = "si", "us"


@dataclass(frozen=True)
class Kind:
    """A kind of quantity: its stored unit and its US customary one, each as (pint name, as people write it)."""

    name: str
    si: tuple[str, str]
    us: tuple[str, str]
    decimals: tuple[int, int]


KINDS: dict[str, Kind] = {
    k.name: k
    for k in (
        Kind("volume", ("liter", "L"), ("us_qt", "qt"), (1, 1)),
        Kind("torque", ("newton * meter", "N·m"), ("lbf_ft", "lbf·ft"), (0, 0)),
        Kind("distance", ("kilometer", "km"), ("mile", "mi"), (0, 0)),
        Kind("length", ("millimeter", "mm"), ("inch", "in"), (2, 3)),
        Kind("pressure", ("kilopascal", "kPa"), ("psi", "psi"), (0, 0)),
        Kind("temperature", ("degC", "°C"), ("degF", "°F"), (0, 0)),
        Kind("hours", ("hour", "h"), ("hour", "h"), (0, 0)),
        Kind("mass", ("kilogram", "kg"), ("pound", "lb"), (2, 1)),
    )
}
#: what people write, to pint's names; letters are compared in lower case
_WRITTEN = {
    "volume": {
        "l": "liter", "litre": "liter", "litres": "liter", "liter": "liter", "liters": "liter", "ml": "milliliter",
        "qt": "us_qt", "qts": "us_qt", "quart": "us_qt", "quarts": "us_qt", "us qt": "us_qt", "gal": "us_gal",
        "gallon": "us_gal", "gallons": "us_gal", "us gal": "us_gal", "imp gal": "imp_gal", "fl oz": "us_floz",
        "floz": "us_floz", "us fl oz": "us_floz",
    },
    "torque": {
        "n·m": "newton * meter", "nm": "newton * meter", "n m": "newton * meter", "n*m": "newton * meter",
        "lbf·ft": "lbf_ft", "lbf ft": "lbf_ft", "lb·ft": "lbf_ft", "lb ft": "lbf_ft", "lb-ft": "lbf_ft",
        "lbf-ft": "lbf_ft", "ft·lbf": "lbf_ft", "ft lb": "lbf_ft", "ft-lb": "lbf_ft", "ft·lb": "lbf_ft",
        "ft-lbs": "lbf_ft", "ft lbs": "lbf_ft",
    },
    "distance": {"km": "kilometer", "mi": "mile", "mile": "mile", "miles": "mile", "m": "meter"},
    "length": {"mm": "millimeter", "cm": "centimeter", "in": "inch", "inch": "inch", "inches": "inch", '"': "inch"},
    "pressure": {"kpa": "kilopascal", "bar": "bar", "psi": "psi", "mpa": "megapascal"},
    "temperature": {"°c": "degC", "c": "degC", "degc": "degC", "°f": "degF", "f": "degF", "degf": "degF"},
    "mass": {"kg": "kilogram", "g": "gram", "lb": "pound", "lbs": "pound", "oz": "ounce"},
    "hours": {"h": "hour", "hr": "hour", "hrs": "hour", "hour": "hour", "hours": "hour"},
}  # fmt: skip
_TYPED = re.compile(r"^([+\-−]?[\d.,'’   ]*\d[\d.,]*|[+\-−]?[.,]\d+)\s*([^\d\s].*)?$")


@lru_cache(maxsize=256)
def _line(source: str, target: str) -> tuple[float, float]:
    """(factor, offset) of a linear conversion."""
    zero = convert(0.0, source, target)
    return convert(1.0, source, target) - zero, zero


def _through(value: float, source: str, target: str) -> float:
    if source == target:
        return value
    if "deg" in source:
        factor, offset = _line(source, target)
        return round(value * factor + offset, 9)
    return value * _line(source, target)[0]


@dataclass(frozen=True)
class Hand:
    """How somebody writes figures: the fleet's units, and the person's decimal mark ('' where it is not known)."""

    system: str = SI
    mark: str = ""


_NUMBER = re.compile(r"[+-]?(?:\d[\d.,]*|[.,]\d+)(?:[eE][+-]?\d{1,3})?")


def number(text: str, field: str, mark: str = "") -> float:
    """A typed number: decimal point or comma, thousands grouped by the other one, a blank or an apostrophe.

    One mark with three digits behind it can mean two things; the person's own decimal ``mark`` says which, and where it is not
    known the question is asked back (InputError, as for what is no number).

    >>> number("1,250.5", "x"), number("12.345,5", "x"), number("9,5", "x"), number("12 000", "x"), number("1,250", "x", ".")
    (1250.5, 12345.5, 9.5, 12000.0, 1250.0)
    """
    plain = re.sub(r"[\s'’\u00a0\u202f\u2009]", "", text).replace("−", "-")
    if not _NUMBER.fullmatch(plain):
        raise InputError(field, f"{text.strip()[:30]!r} is not a number")
    value = float(_pointed(plain, text, field, mark))
    if not math.isfinite(value):
        raise InputError(field, f"{text.strip()[:30]!r} is not a number one can work with")
    return value


def _pointed(plain: str, text: str, field: str, mark: str) -> str:
    """The number with a decimal point and without groups."""
    marks = [c for c in plain if c in ".,"]
    if not marks:
        return plain
    last = marks[-1]
    head, _, tail = plain.rpartition(last)
    if len(set(marks)) == 2:  # the last one is the decimal mark, the other groups
        if marks.count(last) > 1 or not _grouped(head, marks[0]):
            raise InputError(field, f"{text.strip()[:30]!r} is not a number")
        return f"{head.replace(marks[0], '')}.{tail}"
    if len(marks) > 1:
        if not _grouped(plain, last):
            raise InputError(field, f"{text.strip()[:30]!r} is not a number")
        return plain.replace(last, "")
    if re.fullmatch(r"[+-]?[1-9]\d{0,2}", head) and re.fullmatch(r"\d{3}", tail):
        if not mark:
            whole, part = head + tail, f"{float(f'{head}.{tail}'):g}"
            raise InputError(field, f"{text.strip()[:30]!r} may mean {whole} or {part}: write {whole}, or {head}{last}{tail}0")
        return f"{head}.{tail}" if mark == last else head + tail
    return f"{head}.{tail}"


def _grouped(text: str, mark: str) -> bool:
    """Whether a whole number is grouped in threes by a mark."""
    return re.fullmatch(rf"[+-]?\d{{1,3}}(?:{re.escape(mark)}\d{{3}})+", text) is not None


def level(text: str, field: str, mark: str = "") -> float | None:
    """A typed level between the marks, None when blank: 0 at MIN, 1 at MAX; a per cent sign is understood.

    Raises InputError outside −1 to 2.

    >>> level("80 %", "x"), level("0,5", "x"), level(" ", "x")
    (0.8, 0.5, None)
    """
    text = text.strip()
    if not text:
        return None
    value = number(text.rstrip("% "), field, mark) / (100 if text.endswith("%") else 1)
    if not -1 <= value <= 2:
        raise InputError(field, "0 is at MIN, 1 at MAX: a level lies near them")
    return value


def typed(text: str, kind: str, hand: Hand, field: str) -> float:
    """A typed quantity in the stored unit of its kind: ``9.5 qt``, ``18 lbf·ft``, or a bare number in the
    fleet's preferred unit. Raises InputError for text, or for a unit of another kind.

    >>> round(typed("9.5 qt", "volume", Hand(), "capacity"), 6)
    8.990353
    >>> round(typed("18 lbf·ft", "torque", Hand(), "torque"), 3)
    24.405
    """
    match = _TYPED.match(text.strip())
    if not match:
        raise InputError(field, f"{text.strip()[:30]!r} is not a number, nor a number with a unit")
    value = number(match[1], field, hand.mark)
    found = KINDS[kind]
    unit = (match[2] or "").strip().lower().rstrip(".").replace("⋅", "·")
    if not unit:
        source = found.us[0] if hand.system == US else found.si[0]
    elif unit in _WRITTEN[kind]:
        source = _WRITTEN[kind][unit]
    else:
        raise InputError(field, f"{match[2]!r} is not a unit of {kind}: {found.si[1]} or {found.us[1]}, say")
    return _through(value, source, found.si[0])


def shown(value: float | None, kind: str, measures: str) -> float | None:
    """A stored quantity in the unit the fleet prefers."""
    if value is None or measures != US:
        return value
    found = KINDS[kind]
    return _through(value, found.si[0], found.us[0])


def unit(kind: str, measures: str) -> str:
    """How the fleet writes the unit of a kind."""
    return KINDS[kind].us[1] if measures == US else KINDS[kind].si[1]


def decimals(kind: str, measures: str) -> int:
    return KINDS[kind].decimals[measures == US]


def digits(value: float | None, kind: str, measures: str) -> int:
    """Digits behind the mark that a shown figure is worth: the usual ones, and one more where a small one would lose by it.

    >>> digits(0.23, "volume", SI), digits(0.5, "volume", SI), digits(7.5, "torque", SI), digits(75.4, "torque", SI)
    (2, 1, 1, 0)
    """
    usual, got = decimals(kind, measures), shown(value, kind, measures)
    small = {"volume": 1.0, "torque": 20.0}.get(kind, 0.0)
    if got is None or not 0 < abs(got) < small:
        return usual
    return usual + 1 if abs(round(got, usual) - got) >= 0.5 * 10.0 ** -(usual + 1) else usual


def as_typed(value: float | None, kind: str, measures: str) -> str:
    """A stored quantity as it would be typed into a field: enough digits that it comes back the same."""
    got = shown(value, kind, measures)
    return "" if got is None else plain_figure(got)


def significant(value: float | None, kind: str, measures: str) -> str:
    """A stored quantity in the fleet's unit to six digits, for reading only; '' for none."""
    got = shown(value, kind, measures)
    return "" if got is None else _six(got)


def _six(value: float) -> str:
    return f"{value:.6g}" if abs(value) < 1e6 else f"{value:.0f}"


def plain_figure(value: float) -> str:
    """A number with a decimal point as it may be typed by anybody: never one that a comma's friend would read as thousands."""
    return unmistakable(_six(value))


def unmistakable(text: str) -> str:
    """A number written with a decimal point such that nobody reads thousands in it.

    >>> unmistakable("14.125"), unmistakable("<14.125"), unmistakable("0.875")
    ('14.1250', '<14.1250', '0.875')
    """
    return text + "0" if re.fullmatch(r"[<>]?-?[1-9]\d{0,2}\.\d{3}", text) else text


def written(kind: str) -> dict[str, tuple[float, float]]:
    """(factor, offset) to the stored unit of everything people write for a kind; '' and 'us' are bare numbers in either system."""
    found = KINDS[kind]
    out = {name: _line(source, found.si[0]) if source != found.si[0] else (1.0, 0.0) for name, source in _WRITTEN[kind].items()}
    return out | {"": (1.0, 0.0), "us": _line(found.us[0], found.si[0]) if found.us[0] != found.si[0] else (1.0, 0.0)}


_SAID = re.compile(
    r"(?<![\w.–])(?:(\d+(?:\.\d+)?)–)?"
    r"([−\-]?\d{1,3}(?:,\d{3})+(?:\.\d+)?|[−\-]?\d+(?:\.\d+)?)([   ]?)(km|L|N·m|kPa|°C)(?![\w/·])"
)
_SAID_KIND = {"km": "distance", "L": "volume", "N·m": "torque", "kPa": "pressure", "°C": "temperature"}


def said(sentence: str, measures: str) -> str:
    """A stored sentence with its quantities turned into the fleet's units.

    >>> said("The maker's cap of 20,000 km lies below 30,000 km", "us"), said("Torque wrench 65–80 N·m", "us")
    ("The maker's cap of 12,427 mi lies below 18,641 mi", 'Torque wrench 48–59 lbf·ft')
    """
    if measures != US:
        return sentence

    def swap(match: re.Match[str]) -> str:
        kind = _SAID_KIND[match[4]]
        digits = 1 if kind == "volume" else min(len(match[2].partition(".")[2]), 1)

        def turned(figure: str) -> str:
            value = shown(float(figure.replace(",", "").replace("−", "-")), kind, measures)
            return f"{value:,.{digits}f}".replace("-", "−")

        low = f"{turned(match[1])}–" if match[1] else ""  # both ends of a span
        return low + turned(match[2]) + match[3] + unit(kind, measures)

    return _SAID.sub(swap, sentence)
