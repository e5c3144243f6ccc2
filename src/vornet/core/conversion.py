"""Unit conversion for people's units. pint is loaded only when a unit is converted (it is slow to import)."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from vornet.core.errors import InputError

# Exact by definition: NIST SP 811 (2008), appendix B.
_TRADE_UNITS = """
us_qt = 0.946352946 liter
us_gal = 3.785411784 liter
imp_gal = 4.54609 liter
us_floz = 29.5735295625 milliliter
lbf_ft = 1.3558179483314004 newton * meter
cSt = 1 millimeter ** 2 / second
"""


@lru_cache(maxsize=1)
def _registry() -> Any:
    import pint

    registry: Any = pint.UnitRegistry()
    for line in _TRADE_UNITS.strip().splitlines():
        registry.define(line)
    return registry


def _unit(name: str, field: str) -> Any:
    if not name.strip() or len(name) > 60:
        raise InputError(field, "a unit name is needed, such as L, us_qt, N*m or degC")
    try:
        return _registry().Unit(name)
    except Exception:
        raise InputError(field, f"{name!r} is not a unit that Vornet knows") from None


def convert(value: float, from_unit: str, to_unit: str) -> float:
    """Convert ``value`` between two units of the same kind.

    Units are pint's names plus ``cSt``, ``us_qt``, ``us_gal``, ``imp_gal``, ``us_floz``, ``lbf_ft``.
    Raises InputError for an unknown unit (fields ``from``, ``to``) or two units of different kinds.
    Source: NIST SP 811 (2008), appendix B, for the trade's units.

    >>> round(convert(62, "N*m", "lbf_ft"), 3)
    45.729
    >>> round(convert(17, "L", "us_qt"), 3)
    17.964
    """
    source, target = _unit(from_unit, "from"), _unit(to_unit, "to")
    try:
        result = float(_registry().Quantity(value, source).to(target).magnitude)
    except Exception:
        raise InputError("to", f"{from_unit} cannot be turned into {to_unit}: not the same kind of quantity") from None
    if result != result or result in (float("inf"), float("-inf")):
        raise InputError("value", f"{value:g} {from_unit} is too large to express in {to_unit}")
    return result
