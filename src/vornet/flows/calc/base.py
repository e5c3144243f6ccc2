"""What every calculator shares: kinds of numbers, how a field is asked for and answered, a model that refuses what it does not know.

A field is described once, here beside its limits: command, API, OpenAPI and page show the same words, unit and example.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field

Number = Annotated[float, Field(ge=-1e15, le=1e15)]
Litres = Annotated[float, Field(gt=0, le=1e7)]
SomeLitres = Annotated[float, Field(ge=0, le=1e7)]


def asked(title: str, unit: str = "", first: Any = None, **limits: Any) -> Any:
    """A field of an input: its label, its unit, and an example (what stands in it first on the page)."""
    return Field(title=title, examples=None if first is None else [first], json_schema_extra={"unit": unit} if unit else None, **limits)


def answered(title: str) -> Any:
    """A field of an answer in words, where its own name is none."""
    return Field(title=title)


class Given(BaseModel):
    """An input: every field known, every number finite."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, populate_by_name=True, defer_build=True)


class Answer(BaseModel):
    """What a calculator answers."""

    model_config = ConfigDict(defer_build=True)


@dataclass(frozen=True)
class Calculator:
    """A calculator: its name on the command line and in the URL, what goes in, what comes out; for people its ``title``, ``formula``
    and ``source``, and how many ``decimals`` its answers have."""

    name: str
    given: type[BaseModel]
    answer: type[BaseModel]
    run: Callable[[Any], BaseModel]
    title: str
    formula: str
    source: str
    decimals: int = 2
