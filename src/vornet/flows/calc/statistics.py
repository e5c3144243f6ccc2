"""Limits from history, and trends."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from vornet.core import limits, trend
from vornet.flows.calc.base import Calculator, Given, Number


class LimitsIn(Given):
    values: Annotated[list[Number], Field(max_length=200_000)]
    method: Literal["normal", "lognormal", "percentile", "robust"] = "normal"
    side: Literal["high", "low"] = "high"
    below: Annotated[list[Number], Field(max_length=200_000)] = []
    method_sd: Annotated[float, Field(ge=0, le=1e7)] = 0.0


class LimitsOut(BaseModel):
    watch: float
    act: float
    n: int
    provisional: bool
    watch_ci: tuple[float | None, float | None] | None = None
    act_ci: tuple[float | None, float | None] | None = None


def statistical_limits(given: LimitsIn) -> LimitsOut:
    """Watch and act limits from a healthy history."""
    return LimitsOut(**limits.statistical_limits(given.values, given.method, given.side, given.method_sd, given.below).__dict__)


class PointIn(Given):
    x: Number
    y: Number


class TrendIn(Given):
    points: Annotated[list[PointIn], Field(max_length=3000)]


class OlsOut(BaseModel):
    slope: float
    intercept: float
    se: float | None
    p: float | None


class TheilSenOut(BaseModel):
    slope: float
    low: float | None
    high: float | None


class MannKendallOut(BaseModel):
    tau: float
    p: float


class TrendOut(BaseModel):
    ols: OlsOut
    theil_sen: TheilSenOut
    mann_kendall: MannKendallOut
    verdict: Literal["rising", "falling", "none"]
    too_few: bool


def find_trend(given: TrendIn) -> TrendOut:
    """Whether a series rises or falls, by least squares, Theil–Sen and Mann–Kendall."""
    answer = trend.trend([(p.x, p.y) for p in given.points])
    return TrendOut(
        ols=OlsOut(**answer.ols.__dict__), theil_sen=TheilSenOut(**answer.theil_sen.__dict__),
        mann_kendall=MannKendallOut(**answer.mann_kendall.__dict__), verdict=answer.verdict, too_few=answer.too_few,
    )  # fmt: skip


CALCULATORS = (
    Calculator("limits", LimitsIn, LimitsOut, statistical_limits),
    Calculator("trend", TrendIn, TrendOut, find_trend),
)
