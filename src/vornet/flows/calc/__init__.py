"""The calculators: one JSON object in, one out, the same for the command line and the API.

Units are in the field names. Every input is checked at this edge; the arithmetic is core's. A calculator's module is loaded
when it is asked for: some need packages that take a while.
"""

from __future__ import annotations

import threading
from importlib import import_module
from typing import TYPE_CHECKING, Any

from vornet.core.errors import InputError

if TYPE_CHECKING:
    from pydantic import ValidationError

    from vornet.flows.calc.base import Calculator

#: which module of this package has which calculator, in the order people look for them
WHERE = {
    "convert": "conversion",
    "carry-over": "volumes",
    "flush": "volumes",
    "refill": "volumes",
    "weigh": "measuring",
    "drip": "measuring",
    "wear-rate": "wear",
    "limits": "statistics",
    "trend": "statistics",
    "safe-interval": "wear",
    "interval-cost": "money",
    "age-replacement": "money",
    "due": "due",
    "level": "level",
    "viscosity-at": "oil",
    "viscosity-index": "oil",
    "grade": "oil",
    "blend": "oil",
    "fuel-from-viscosity": "oil",
    "cleanliness": "oil",
    "identify": "identify",
}


def calculator(name: str) -> Calculator:
    """A calculator by its name. Raises InputError for one there is none of."""
    if name not in WHERE:
        raise InputError("name", f"there is no calculator {name!r}: {', '.join(WHERE)}")
    module = import_module(f"vornet.flows.calc.{WHERE[name]}")
    found: Calculator = next(c for c in module.CALCULATORS if c.name == name)
    return found


def calculators() -> list[Calculator]:
    """Every calculator, loaded."""
    return [calculator(name) for name in WHERE]


#: anybody may ask, and some answers take memory: so many are worked at a time
_at_once = threading.BoundedSemaphore(2)


def plain_problem(error: ValidationError) -> InputError:
    """The first thing wrong with an input, as one field and one sentence."""
    first = error.errors(include_url=False)[0]
    parts: list[str] = []
    for step in first["loc"]:
        if isinstance(step, int) and parts:
            parts[-1] += f"[{step}]"
        else:
            parts.append(str(step))
    field = ".".join(parts) or "input"
    if first["type"] == "missing":
        return InputError(field, "is missing")
    if first["type"] == "extra_forbidden":
        return InputError(field, "is not a field of this calculator")
    message = str(first["msg"]).removeprefix("Value error, ").removeprefix("Input ")
    return InputError(field, message[:1].lower() + message[1:])


def calculate(name: str, given: Any) -> dict[str, Any]:
    """Run a calculator on a JSON object. Raises InputError naming the field and why."""
    asked = calculator(name)
    if not isinstance(given, dict):
        raise InputError("input", "must be one JSON object")
    from pydantic import ValidationError

    try:
        checked = asked.given.model_validate(given)
    except ValidationError as error:
        raise plain_problem(error) from None
    try:
        with _at_once:
            answer = asked.run(checked)
    except (OverflowError, ZeroDivisionError, FloatingPointError):
        raise InputError("input", "the figures are too large or too small to calculate with") from None
    out = answer.model_dump(mode="json", exclude_none=name == "limits")
    _refuse_nonsense(out)
    return out


def _refuse_nonsense(value: Any) -> None:
    if isinstance(value, dict):
        for item in value.values():
            _refuse_nonsense(item)
    elif isinstance(value, list | tuple):
        for item in value:
            _refuse_nonsense(item)
    elif isinstance(value, float) and (value != value or value in (float("inf"), float("-inf"))):
        raise InputError("input", "the figures are too large or too small to calculate with")
