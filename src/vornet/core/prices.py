"""What a drain costs, from prices that are kept for a fleet, a family and a unit: for each price the nearest that says something wins."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

#: prices by key, in the order people read them: what they are, and per what
PRICES: dict[str, tuple[str, str]] = {
    "oil_per_l": ("Oil", "per litre"), "filter": ("Filters", "per drain"), "labour_h": ("Work", "hours per drain"),
    "labour_per_h": ("Work", "per hour"),
    "downtime_h": ("Standing still", "hours per drain"), "downtime_per_h": ("Standing still", "per hour"), "sample": ("Sample", "per drain"),
    "disposal_per_l": ("Disposal", "per litre"), "consequence": ("Running past the act limit", "each time"),
}  # fmt: skip
#: the nearest first
SCOPES = ("unit", "family", "fleet")
#: a year's use differs from the one before by about this share: common practice, no source
YEARS_DIFFER = 0.15
#: without these nothing can be said: the rest counts as nothing where nobody gave it
NEEDED = ("oil_per_l",)


@dataclass(frozen=True)
class Said:
    """One price, and who said it: the scope it comes from."""

    value: float
    scope: str


def nearest(by_scope: Mapping[str, Mapping[str, float]]) -> dict[str, Said]:
    """For each price the nearest scope that says it.

    >>> nearest({"fleet": {"oil_per_l": 4.0, "sample": 30.0}, "unit": {"oil_per_l": 5.0}})["oil_per_l"]
    Said(value=5.0, scope='unit')
    """
    out: dict[str, Said] = {}
    for key in PRICES:
        for scope in SCOPES:
            value = by_scope.get(scope, {}).get(key)
            if value is not None:
                out[key] = Said(float(value), scope)
                break
    return out


@dataclass(frozen=True)
class DrainCost:
    """What one drain costs, part by part in the order of ``PRICES``, and what running past the act limit would. ``missing``: prices
    that nobody gave and that nothing can be said without."""

    parts: tuple[tuple[str, float], ...]
    consequence: float
    missing: tuple[str, ...]

    @property
    def total(self) -> float:
        return sum(cost for _, cost in self.parts)


def drain_cost(prices: Mapping[str, Said], litres: float | None) -> DrainCost:
    """The cost of a drain that pours ``litres`` (None: not known, which is missing too)."""
    at = {key: said.value for key, said in prices.items()}
    missing = [key for key in NEEDED if key not in at]
    if litres is None:
        missing.append("litres")
    poured = litres or 0.0
    parts = (
        ("oil", at.get("oil_per_l", 0.0) * poured), ("filter", at.get("filter", 0.0)),
        ("labour", at.get("labour_per_h", 0.0) * at.get("labour_h", 0.0)),
        ("downtime", at.get("downtime_per_h", 0.0) * at.get("downtime_h", 0.0)), ("sample", at.get("sample", 0.0)),
        ("disposal", at.get("disposal_per_l", 0.0) * poured),
    )  # fmt: skip
    return DrainCost(parts, at.get("consequence", 0.0), tuple(missing))


def saving_error(saving: float) -> float:
    """One standard error of a yearly saving: the year's use is not the last one's."""
    return abs(saving) * YEARS_DIFFER
