"""Unit conversion for people's units. pint is loaded only when a unit is converted (it is slow to import)."""

from __future__ import annotations

import contextlib
import re
from functools import lru_cache
from pathlib import Path
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


#: units of the trade and of everyday life; with any SI prefix where they take one
_NAMES = """
us_qt us_gal imp_gal us_floz lbf_ft cSt
meter inch foot yard mile nautical_mile thou micron
gram pound ounce tonne metric_ton short_ton long_ton ton grain slug
second minute hour day week month year
liter quart pint gallon cup fluid_ounce oil_barrel cubic_centimeter imperial_gallon imperial_quart imperial_pint
degree_Celsius degree_Fahrenheit kelvin degree_Rankine delta_degree_Celsius delta_degree_Fahrenheit
pascal bar pound_force_per_square_inch standard_atmosphere torr millimeter_Hg inch_Hg
newton force_kilogram force_pound dyne foot_pound
joule calorie british_thermal_unit watt_hour watt horsepower metric_horsepower
poise stokes mole hertz revolutions_per_minute turn radian degree percent ppm
knot mile_per_hour kilometer_per_hour ampere volt ohm coulomb hectare acre
""".split()
#: pint's definitions, read once at set-up
BUILT = Path(__file__).with_name("units_built")
_PART = re.compile(r"([^\W\d]\w{0,39}|1)(?:(?:\*\*|\^)([+-]?[1-3]|\([+-]?[1-3]\)))?")
_BETWEEN = re.compile(r"\s*([*/·])\s*(?!\*)")


@lru_cache(maxsize=1)
def _allowed() -> frozenset[str]:
    """The names as the registry spells them."""
    registry = _registry()
    return frozenset(registry.get_name(name) for name in _NAMES)


@lru_cache(maxsize=1)
def _registry() -> Any:
    import pint

    registry: Any = None
    if BUILT.is_dir():  # as set-up left it: a tenth of the time that reading the definitions takes
        with contextlib.suppress(OSError):
            registry = pint.UnitRegistry(cache_folder=BUILT)
    registry = registry or pint.UnitRegistry()
    for line in _TRADE_UNITS.strip().splitlines():
        registry.define(line)
    return registry


def _unit(name: str, field: str) -> Any:
    if not name.strip() or len(name) > 60:
        raise InputError(field, "a unit name is needed, such as L, us_qt, N*m or degC")
    try:
        return _spelled(" ".join(name.split()))
    except Exception:
        raise InputError(field, f"{name!r} is not a unit that Vornet knows") from None


@lru_cache(maxsize=512)
def _spelled(text: str) -> Any:
    """A unit out of names, products, quotients and powers from −3 to 3; nothing else is ever handed on. Raises ValueError."""
    registry = _registry()
    unit, at, divide = registry.Unit(""), 0, False
    while True:
        part = _PART.match(text, at)
        if part is None:
            raise ValueError(text)
        unit = unit * _known(part[1], -1 if divide else 1, int(part[2].strip("()")) if part[2] else 1)
        at = part.end()
        if at == len(text):
            return unit
        between = _BETWEEN.match(text, at)
        if between is None:
            raise ValueError(text)
        at, divide = between.end(), between[1] == "/"


def _known(name: str, way: int, power: int) -> Any:
    registry = _registry()
    if name == "1":
        return registry.Unit("")
    if not {unit for _, unit, _ in registry.parse_unit_name(name)} & _allowed():
        raise ValueError(name)
    unit = registry.Unit(name)
    return unit if way * power == 1 else unit ** (way * power)


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
