"""Which oils explain a sample."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from vornet.core import identity
from vornet.flows.calc.base import Answer, Calculator, Given, answered, asked


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
    sample: Annotated[AdditivesIn, asked("The sample: element and mg/kg, a line each", "", {"ca": 1924, "zn": 966, "p": 1110})]
    oils: Annotated[
        list[OilIn],
        asked(
            "Oils: name, then element=value",
            "",
            [{"name": "House", "ca": 2400, "zn": 1200, "p": 1050}, {"name": "Gear", "ca": 20, "zn": 30, "p": 1350}],
            min_length=1,
            max_length=200,
        ),
    ]


class ShareOut(Answer):
    name: str
    share: float


class RunnerUpOut(Answer):
    name: str
    residual: float


class IdentifyOut(Answer):
    shares: Annotated[list[ShareOut], answered("share of")]
    residual: float
    runner_up: Annotated[RunnerUpOut | None, answered("best other single oil")]


def identify(given: IdentifyIn) -> IdentifyOut:
    """Which oils explain a sample's additives, and the best other single oil."""
    found = identity.identify(given.sample.known(), [(o.name, o.known()) for o in given.oils])
    second = found.runner_up
    return IdentifyOut(
        shares=[ShareOut(name=n, share=s) for n, s in found.shares], residual=found.residual,
        runner_up=None if second is None else RunnerUpOut(name=second[0], residual=second[1]),
    )  # fmt: skip


CALCULATORS = (
    Calculator(
        "identify",
        IdentifyIn,
        IdentifyOut,
        identify,
        "Which oil is it",
        "non-negative shares that sum to one, each element scaled by its precision",
        "non-negative least squares; ASTM D5185 precision",
        3,
    ),
)
