"""Which oils explain a sample."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from vornet.core import identity
from vornet.flows.calc.base import Calculator, Given


class AdditivesIn(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    ca: Annotated[float, Field(ge=0, le=1e6)] | None = None
    mg: Annotated[float, Field(ge=0, le=1e6)] | None = None
    zn: Annotated[float, Field(ge=0, le=1e6)] | None = None
    p: Annotated[float, Field(ge=0, le=1e6)] | None = None
    b: Annotated[float, Field(ge=0, le=1e6)] | None = None
    mo: Annotated[float, Field(ge=0, le=1e6)] | None = None
    ba: Annotated[float, Field(ge=0, le=1e6)] | None = None
    s: Annotated[float, Field(ge=0, le=1e6)] | None = None

    def known(self) -> dict[str, float]:
        return {k: v for k in identity.ADDITIVES if (v := getattr(self, k)) is not None}


class OilIn(AdditivesIn):
    name: Annotated[str, Field(min_length=1, max_length=120)]


class IdentifyIn(Given):
    sample: AdditivesIn
    oils: Annotated[list[OilIn], Field(min_length=1, max_length=200)]


class ShareOut(BaseModel):
    name: str
    share: float


class RunnerUpOut(BaseModel):
    name: str
    residual: float


class IdentifyOut(BaseModel):
    shares: list[ShareOut]
    residual: float
    runner_up: RunnerUpOut | None


def identify(given: IdentifyIn) -> IdentifyOut:
    """Which oils explain a sample's additives, and the best other single oil."""
    found = identity.identify(given.sample.known(), [(o.name, o.known()) for o in given.oils])
    second = found.runner_up
    return IdentifyOut(
        shares=[ShareOut(name=n, share=s) for n, s in found.shares], residual=found.residual,
        runner_up=None if second is None else RunnerUpOut(name=second[0], residual=second[1]),
    )  # fmt: skip


CALCULATORS = (Calculator("identify", IdentifyIn, IdentifyOut, identify),)
