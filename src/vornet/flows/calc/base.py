"""What every calculator's input shares: kinds of numbers, and a model that refuses what it does not know."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field

Number = Annotated[float, Field(ge=-1e15, le=1e15)]
Litres = Annotated[float, Field(gt=0, le=1e7)]
SomeLitres = Annotated[float, Field(ge=0, le=1e7)]


class Given(BaseModel):
    """An input: every field known, every number finite."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, populate_by_name=True)


@dataclass(frozen=True)
class Calculator:
    """A calculator: its name on the command line and in the URL, what goes in, what comes out."""

    name: str
    given: type[BaseModel]
    answer: type[BaseModel]
    run: Callable[[Any], BaseModel]
