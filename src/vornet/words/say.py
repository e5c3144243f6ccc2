"""How a fact becomes a sentence: the template of its kind in a language, its fields filled in the reader's units.

A field is ``{name:way}``. ``name`` is a number or a key of the fact; a digit is one of its parts, ``parts`` all of them. Ways:

===================  ==================================================================================================
``TABLE``            a key (or several) by the language's table of that name
``name``             a measurand by its name; several are listed, ``Name`` each with a capital, ``name_or`` with "or" between
``figure``           a number of the measurand that the fact is ``of``, with its unit, to the digits it is reported in;
                     ``bare`` without the unit; ``fine``, ``fine_bare`` with two digits below one; ``given`` as it was given
``length``           a number on the meter in the reader's unit; ``length.1`` to a digit, ``bare_length`` without unit
``rate``             mg per unit of the meter; ``bare_rate`` without unit
``volume``           litres, or what the reader pours by; ``temperature`` likewise
``or …``             the key itself, a name people gave; the words behind ``or`` where there is none
``one|many``         the word for so many, by the language's plural rule
``joined`` …         of parts: with the language's mark of that name between them
``.0f`` and the like a number as Python formats it
===================  ==================================================================================================

``^`` before a way makes the first letter a capital.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from string import Formatter
from typing import Any

from vornet.core import measures
from vornet.core.fact import WRITTEN, Fact, Key, read
from vornet.core.measurands import BY_KEY
from vornet.core.oil_properties import BY_PROPERTY


@dataclass(frozen=True)
class Language:
    """One language. ``sentences``: a template by kind; ``tables``: words by key, of which UNITS, NAMES and PROPERTIES are always there;
    ``marks``: what stands between parts; ``plural``: which of the forms after a number; ``figure``: a number written the
    language's way, from Python's."""

    sentences: Mapping[str, str]
    tables: Mapping[str, Mapping[str, str]]
    marks: Mapping[str, str]
    plural: Callable[[float], int] = lambda n: 0 if n == 1 else 1
    figure: Callable[[str], str] = field(default=lambda text: text)


@lru_cache(maxsize=1024)
def parsed(template: str) -> tuple[tuple[str, str | None, str], ...]:
    """A template as (text, field, way), as Python's own format strings are read."""
    return tuple((text, name, way or "") for text, name, way, _ in Formatter().parse(template))


def say(fact: Fact | Mapping[str, Any], system: str = measures.SI, language: Language | None = None) -> str:
    """The sentence of a fact (or of one as it was kept), in the units of ``system`` (measures.SI, measures.US).

    Raises KeyError for a kind, a key or a field that the language does not know.

    >>> from vornet.core.fact import told
    >>> say(told("wears", of="fe", rate=0.0152, since=12000, usual=0.0101, spread=0.001, meter="km"))
    'Iron wears at 0.0152 mg/km since 12,000 km, usual 0.0101 ± 0.0010'
    """
    if not isinstance(fact, Fact):
        fact = read(fact)
    if fact.kind == WRITTEN:
        return str(fact.keys["text"])
    if language is None:
        from vornet.words.en import ENGLISH as language
    assert language is not None
    return _Said(fact, system, language).whole()


def each(facts: Iterable[Fact | Mapping[str, Any]] | None, system: str = measures.SI, language: Language | None = None) -> list[str]:
    """Several facts, each said."""
    return [say(fact, system, language) for fact in facts or ()]


@dataclass(frozen=True)
class _Said:
    fact: Fact
    system: str
    language: Language

    def whole(self) -> str:
        template = self.language.sentences[self.fact.kind]
        return "".join(text + ("" if name is None else self._field(name, way)) for text, name, way in parsed(template))

    def _part(self, part: Fact) -> str:
        return say(part, self.system, self.language)

    def _field(self, name: str, way: str) -> str:
        if way.startswith("^"):
            return _capital(self._field(name, way[1:]))
        if name == "parts":
            return (self.language.marks[way] if way else "").join(map(self._part, self.fact.parts))
        if name.isdigit():
            at = int(name)
            return self._part(self.fact.parts[at]) if at < len(self.fact.parts) else ""
        if way.startswith("or "):
            return str(self.fact.keys.get(name) or way[3:])
        if name in self.fact.keys:
            return self._key(self.fact.keys[name], way)
        return self._number(self.fact.numbers[name], way)

    def _key(self, key: Key, way: str) -> str:
        if way == "":
            return self._listed(key, str)
        names = self.language.tables["NAMES"]
        if way == "Name":
            return self._listed(key, lambda k: _capital(names[k]))
        if way == "name_or":
            return self._listed(key, names.__getitem__, "or")
        return self._listed(key, (names if way == "name" else self.language.tables[way]).__getitem__)

    def _listed(self, key: Key, one: Callable[[str], str], mark: str = "listed") -> str:
        if isinstance(key, str):
            return one(key)
        return self.language.marks[mark].join(dict.fromkeys(map(one, key)))

    def _number(self, value: float, way: str) -> str:
        if "|" in way:
            return way.split("|")[self.language.plural(value)]
        made = _WAYS.get(way)
        if made is None:
            return self.language.figure(_plain(value) if way in ("", "g") else format(value, way))
        return made(self, value)

    def _unit(self, symbol: str) -> str:
        return self.language.tables["UNITS"][symbol] if symbol else ""

    def _with_unit(self, text: str, symbol: str) -> str:
        return f"{self.language.figure(text)} {self._unit(symbol)}".rstrip()

    def _of(self) -> tuple[int, str]:
        """(decimals, unit's symbol) of what the fact is of."""
        key = str(self.fact.keys["of"])
        m = BY_KEY.get(key) or BY_KEY[BY_PROPERTY[key].measurand]
        return m.decimals, m.unit

    def figure(self, value: float, fine: bool = False, bare: bool = False) -> str:
        decimals, unit = self._of()
        if fine and abs(value) < 1 and decimals <= 1:
            decimals = 2
        text = f"{value:,.{decimals}f}"
        return self.language.figure(text) if bare else self._with_unit(text, unit)

    def given(self, value: float) -> str:
        return self._with_unit(_plain(value), self._of()[1])

    def length(self, value: float, decimals: int = 0, bare: bool = False) -> str:
        meter = str(self.fact.keys["meter"])
        kind = "distance" if meter == "km" else "hours"
        text = f"{measures.shown(value, kind, self.system):,.{decimals}f}"
        return self.language.figure(text) if bare else self._with_unit(text, measures.unit(kind, self.system))

    def rate(self, value: float, bare: bool = False) -> str:
        km = self.fact.keys["meter"] == "km"
        per = measures.unit("distance" if km else "hours", self.system)
        of_one = measures.shown(1.0, "distance", self.system) if km else 1.0
        text = f"{value / (of_one or 1.0):.{4 if km else 2}f}"
        return self.language.figure(text) if bare else self._with_unit(text, f"mg/{per}")

    def quantity(self, value: float, kind: str, bare: bool = False) -> str:
        text = f"{measures.shown(value, kind, self.system):,.1f}"
        if kind == "temperature":
            text = text.removesuffix(".0")
        return self.language.figure(text) if bare else self._with_unit(text, measures.unit(kind, self.system))


_WAYS: dict[str, Callable[[_Said, float], str]] = {
    "figure": lambda said, x: said.figure(x),
    "bare": lambda said, x: said.figure(x, bare=True),
    "fine": lambda said, x: said.figure(x, fine=True),
    "fine_bare": lambda said, x: said.figure(x, fine=True, bare=True),
    "given": lambda said, x: said.given(x),
    "length": lambda said, x: said.length(x),
    "length.1": lambda said, x: said.length(x, 1),
    "bare_length": lambda said, x: said.length(x, bare=True),
    "rate": lambda said, x: said.rate(x),
    "bare_rate": lambda said, x: said.rate(x, bare=True),
    "volume": lambda said, x: said.quantity(x, "volume"),
    "temperature": lambda said, x: said.quantity(x, "temperature"),
    "bare_temperature": lambda said, x: said.quantity(x, "temperature", bare=True),
}


def _plain(value: float) -> str:
    """A figure to six digits, never in powers of ten."""
    text = f"{value:.6g}"
    return text if "e" not in text else f"{value:.0f}" if abs(value) >= 1 else f"{value:.10f}".rstrip("0")


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]
