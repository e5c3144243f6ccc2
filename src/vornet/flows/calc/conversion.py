"""Units of measure."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from vornet.core import conversion
from vornet.flows.calc.base import Calculator, Given


class ConvertIn(Given):
    value: Annotated[float, Field(ge=-1e300, le=1e300)]
    from_: Annotated[str, Field(alias="from", max_length=60)]
    to: Annotated[str, Field(max_length=60)]


class ConvertOut(BaseModel):
    value: float


def convert(given: ConvertIn) -> ConvertOut:
    """Convert a value between units (NIST SP 811)."""
    return ConvertOut(value=conversion.convert(given.value, given.from_, given.to))


CALCULATORS = (Calculator("convert", ConvertIn, ConvertOut, convert),)
