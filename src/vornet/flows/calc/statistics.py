"""Limits from history, and trends."""

from __future__ import annotations

from typing import Annotated, Literal

from vornet.core import limits, trend
from vornet.flows.calc.base import Answer, Calculator, Given, Number, answered, asked


class LimitsIn(Given):
    values: Annotated[list[Number], asked("Values", "", [12, 15, 11, 14, 13, 16, 12, 15, 14, 13, 17, 12], max_length=200_000)]
    method: Annotated[Literal["normal", "lognormal", "percentile", "robust"], asked("Method", "", "normal")] = "normal"
    side: Annotated[Literal["high", "low"], asked("Side", "", "high")] = "high"
    below: Annotated[list[Number], asked("Only known to lie below", max_length=200_000)] = []
    method_sd: Annotated[float, asked("Method's sd", "", 0, ge=0, le=1e7)] = 0.0


class LimitsOut(Answer):
    watch: float
    act: float
    n: Annotated[int, answered("values")]
    provisional: bool
    watch_ci: Annotated[tuple[float | None, float | None] | None, answered("watch, 95 %")] = None
    act_ci: Annotated[tuple[float | None, float | None] | None, answered("act, 95 %")] = None


def statistical_limits(given: LimitsIn) -> LimitsOut:
    """Watch and act limits from a healthy history."""
    return LimitsOut(**limits.statistical_limits(given.values, given.method, given.side, given.method_sd, given.below).__dict__)


class PointIn(Given):
    x: Number
    y: Number


class TrendIn(Given):
    points: Annotated[
        list[PointIn],
        asked(
            "x and y, a line each",
            "",
            [{"x": 100, "y": 12}, {"x": 200, "y": 14}, {"x": 300, "y": 13}, {"x": 400, "y": 17}, {"x": 500, "y": 18}, {"x": 600, "y": 21}],
            max_length=3000,
        ),
    ]


class OlsOut(Answer):
    slope: float
    intercept: float
    se: float | None
    p: float | None


class TheilSenOut(Answer):
    slope: float
    low: float | None
    high: float | None


class MannKendallOut(Answer):
    tau: float
    p: float


class TrendOut(Answer):
    ols: Annotated[OlsOut, answered("least squares")]
    theil_sen: Annotated[TheilSenOut, answered("median slope")]
    mann_kendall: Annotated[MannKendallOut, answered("Mann–Kendall")]
    verdict: Literal["rising", "falling", "none"]
    too_few: Annotated[bool, answered("too few to tell")]


def find_trend(given: TrendIn) -> TrendOut:
    """Whether a series rises or falls, by least squares, Theil–Sen and Mann–Kendall."""
    answer = trend.trend([(p.x, p.y) for p in given.points])
    return TrendOut(
        ols=OlsOut(**answer.ols.__dict__), theil_sen=TheilSenOut(**answer.theil_sen.__dict__),
        mann_kendall=MannKendallOut(**answer.mann_kendall.__dict__), verdict=answer.verdict, too_few=answer.too_few,
    )  # fmt: skip


CALCULATORS = (
    Calculator(
        "limits",
        LimitsIn,
        LimitsOut,
        statistical_limits,
        "Limits from history",
        "mean + 2s / + 3s, the same on logarithms, percentiles 95/98, or median + 2k/3k with k = 1.4826·MAD",
        "ASTM D7720 approach",
    ),
    Calculator(
        "trend",
        TrendIn,
        TrendOut,
        find_trend,
        "Is there a trend",
        "least squares; median of pairwise slopes; Mann–Kendall with ties and continuity; below five points never one",
        "Theil 1950, Sen 1968; Mann 1945, Kendall 1975",
        4,
    ),
)
