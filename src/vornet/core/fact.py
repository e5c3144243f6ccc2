"""What was found, before anybody says it: a kind, with the numbers and the keys that belong to it.

``core`` finds facts, the store keeps them, ``words`` says them in the reader's language and units. Numbers are in SI, lengths on a
meter in the unit that ``meter`` names (h or km); keys are those of the trade's tables, or names that people gave.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

Key = str | tuple[str, ...]
#: a sentence of an earlier version, kept as it was written
WRITTEN = "written"


@dataclass(frozen=True, slots=True)
class Fact:
    """``parts``: facts that are said inside this one, in the order its sentence asks for them."""

    kind: str
    numbers: dict[str, float] = field(default_factory=dict)
    keys: dict[str, Key] = field(default_factory=dict)
    parts: tuple[Fact, ...] = ()

    def plain(self) -> dict[str, Any]:
        """As JSON would have it, what is empty left out; ``read`` is the way back.

        >>> told("magnet", told("stood"), grade=3, found="furry").plain()
        {'kind': 'magnet', 'numbers': {'grade': 3.0}, 'keys': {'found': 'furry'}, 'parts': [{'kind': 'stood'}]}
        """
        out: dict[str, Any] = {"kind": self.kind}
        if self.numbers:
            out["numbers"] = self.numbers
        if self.keys:
            out["keys"] = self.keys
        if self.parts:
            out["parts"] = [part.plain() for part in self.parts]
        return out

    def changed(self, how: Callable[[Fact], Fact]) -> Fact:
        """The fact with ``how`` done to it and to every part of it."""
        return replace(how(self), parts=tuple(part.changed(how) for part in self.parts))


def told(kind: str, *parts: Fact, **things: float | str | tuple[str, ...]) -> Fact:
    """A fact of a kind: figures become its numbers, words its keys.

    >>> told("an_past_bn", an=5, bn=4.5, of="bn")
    Fact(kind='an_past_bn', numbers={'an': 5.0, 'bn': 4.5}, keys={'of': 'bn'}, parts=())
    """
    numbers: dict[str, float] = {}
    keys: dict[str, Key] = {}
    for name, thing in things.items():
        if isinstance(thing, str | tuple):
            keys[name] = thing
        else:
            numbers[name] = float(thing)
    return Fact(kind, numbers, keys, parts)


def read(plain: Mapping[str, Any]) -> Fact:
    """A fact that was kept. Keys that are lists come back as tuples."""
    keys = {name: tuple(key) if isinstance(key, list) else key for name, key in (plain.get("keys") or {}).items()}
    return Fact(plain["kind"], dict(plain.get("numbers") or {}), keys, tuple(read(part) for part in plain.get("parts") or ()))
