"""Wear rates of a charge, and the hours it is safe for."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from vornet.core import ledger, safe_hours
from vornet.flows.calc.base import Answer, Calculator, Given, Litres, Number, SomeLitres, answered, asked


class TopUpIn(Given):
    h: Annotated[float, Field(ge=0, le=1e7)]
    litres: Litres


class PartChangeIn(Given):
    h: Annotated[float, Field(ge=0, le=1e7)]
    litres_out: SomeLitres
    litres_in: SomeLitres


class LevelCheckIn(Given):
    h: Annotated[float, Field(ge=0, le=1e7)]
    missing_l: SomeLitres


class SampleIn(Given):
    h: Annotated[float, Field(ge=0, le=1e7)]
    ppm: Annotated[float, Field(ge=0, le=1e7)]
    sd_ppm: Annotated[float, Field(gt=0, le=1e7)] | None = None


class WearRateIn(Given):
    system_volume_l: Annotated[Litres, asked("System", "L", 40)]
    density_kg_l: Annotated[float, asked("Density", "kg/L", 0.87, gt=0.3, le=2)] = 0.87
    start_ppm: Annotated[float, asked("Started with", "mg/kg", 8, ge=0, le=1e7)]
    new_oil_ppm: Annotated[float, asked("New oil has", "mg/kg", 2, ge=0, le=1e7)]
    loss: Annotated[Literal["with_oil", "clean"], asked("Metal", "", "with_oil")] = "with_oil"
    top_ups: Annotated[
        list[TopUpIn],
        asked(
            "Top-ups: hour and litres, a line each",
            "",
            [{"h": 100, "litres": 5}, {"h": 220, "litres": 6}, {"h": 360, "litres": 7}],
            max_length=2000,
        ),
    ] = []
    part_changes: Annotated[list[PartChangeIn], asked("Part changes: hour, litres out, litres in", max_length=2000)] = []
    level_checks: Annotated[list[LevelCheckIn], asked("Levels read, nothing added: hour, litres below full", max_length=2000)] = []
    samples: Annotated[list[SampleIn], asked("Samples: hour and mg/kg", "", [{"h": 500, "ppm": 60}], min_length=1, max_length=2000)]


class StretchOut(Answer):
    from_h: Annotated[float, answered("from, h")]
    to_h: Annotated[float, answered("to, h")]
    rate_mg_h: Annotated[float, answered("wear rate, mg/h")]
    se_mg_h: Annotated[float | None, answered("standard error, mg/h")]


class WearRateOut(Answer):
    rate_mg_h: Annotated[float, answered("wear rate, mg/h")]
    undiluted_rise_ppm: Annotated[float, answered("undiluted rise, mg/kg")]
    per_100h_ppm: Annotated[float, answered("per 100 h, mg/kg")]
    stretches: list[StretchOut]
    a: Annotated[float, answered("a of the last sample")]
    b: Annotated[float, answered("b of the last sample")]
    se_mg_h: Annotated[float | None, answered("standard error, mg/h")]


def wear_rate(given: WearRateIn) -> WearRateOut:
    """Wear rate of a charge from its samples and top-ups, stretch by stretch."""
    answer = ledger.wear_rate(
        given.system_volume_l, given.start_ppm, given.new_oil_ppm,
        [ledger.Point(s.h, s.ppm, s.sd_ppm) for s in given.samples],
        [ledger.TopUp(t.h, t.litres) for t in given.top_ups],
        density_kg_l=given.density_kg_l, loss=given.loss,
        part_changes=[ledger.PartChange(p.h, p.litres_out, p.litres_in) for p in given.part_changes],
        level_checks=[ledger.LevelCheck(k.h, k.missing_l) for k in given.level_checks],
    )  # fmt: skip
    stretches = [StretchOut(from_h=s.from_h, to_h=s.to_h, rate_mg_h=s.rate_mg_h, se_mg_h=s.se_mg_h) for s in answer.stretches]
    return WearRateOut(
        rate_mg_h=answer.rate_mg_h, undiluted_rise_ppm=answer.undiluted_rise_ppm, per_100h_ppm=answer.per_100h_ppm,
        stretches=stretches, a=answer.a, b=answer.b, se_mg_h=answer.se_mg_h,
    )  # fmt: skip


class SafeIntervalIn(Given):
    start: Annotated[Number, asked("Starts at", "", 10)]
    limit: Annotated[Number, asked("Limit", "", 5)]
    side: Literal["high", "low"] | None = None
    slopes_per_h: Annotated[
        list[Number], asked("Slopes of past charges, per h", "", [-0.0080, -0.0095, -0.0088, -0.0102, -0.0091], max_length=10_000)
    ]
    sd: Annotated[float, asked("Measurement sd", "", 0.25, ge=0, le=1e15)]
    confidence: Annotated[float, asked("Confidence", "", 0.95)] = 0.95


class SafeIntervalOut(Answer):
    mean_crossing_h: Annotated[float | None, answered("mean meets the limit, h")]
    safe_h: Annotated[float | None, answered("safe hours")]
    limiting: Annotated[Literal["high", "low"] | None, answered("side")]


def safe_interval(given: SafeIntervalIn) -> SafeIntervalOut:
    """Hours until the chance of being past the limit reaches 1 − confidence."""
    answer = safe_hours.safe_hours(given.start, given.limit, given.slopes_per_h, given.sd, given.confidence, given.side)
    return SafeIntervalOut(**answer.__dict__)


CALCULATORS = (
    Calculator(
        "wear-rate",
        WearRateIn,
        WearRateOut,
        wear_rate,
        "Wear rate of a charge",
        "between top-ups C grows by R/(ρq)·ln(V/(V − v)); each sample is linear in R: R = (C − b)/a",
        "mass balance; ASTM D7669 for rates",
        3,
    ),
    Calculator(
        "safe-interval",
        SafeIntervalIn,
        SafeIntervalOut,
        safe_interval,
        "Safe hours",
        "(m² − t²S²)T² − 2mDT + D² − t²σ² = 0, S² = s²(1 + 1/n), D = limit − start",
        "prediction interval, Student t with n − 1",
    ),
)
