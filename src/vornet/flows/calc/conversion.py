"""Units of measure."""

from __future__ import annotations

from typing import Annotated

from vornet.core import conversion
from vornet.flows.calc.base import Answer, Calculator, Given, asked


class ConvertIn(Given):
    value: Annotated[float, asked("Value", "", 9.5, ge=-1e300, le=1e300)]
    from_: Annotated[str, asked("from", "", "us_qt", alias="from", max_length=60)]
    to: Annotated[str, asked("to", "", "liter", max_length=60)]


class ConvertOut(Answer):
    value: float


def convert(given: ConvertIn) -> ConvertOut:
    """Convert a value between units (NIST SP 811)."""
    return ConvertOut(value=conversion.convert(given.value, given.from_, given.to))


CALCULATORS = (Calculator("convert", ConvertIn, ConvertOut, convert, "Convert", "exact by definition", "NIST SP 811", 4),)
