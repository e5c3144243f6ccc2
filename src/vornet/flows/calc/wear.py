"""Wear rates of a charge, and the hours it is safe for."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from vornet.core import ledger, safe_hours
from vornet.flows.calc.base import Calculator, Given, Litres, Number, SomeLitres


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
    system_volume_l: Litres
    density_kg_l: Annotated[float, Field(gt=0.3, le=2)] = 0.87
    start_ppm: Annotated[float, Field(ge=0, le=1e7)]
    new_oil_ppm: Annotated[float, Field(ge=0, le=1e7)]
    loss: Literal["with_oil", "clean"] = "with_oil"
    top_ups: Annotated[list[TopUpIn], Field(max_length=2000)] = []
    part_changes: Annotated[list[PartChangeIn], Field(max_length=2000)] = []
    level_checks: Annotated[list[LevelCheckIn], Field(max_length=2000)] = []
    samples: Annotated[list[SampleIn], Field(min_length=1, max_length=2000)]


class StretchOut(BaseModel):
    from_h: float
    to_h: float
    rate_mg_h: float
    se_mg_h: float | None


class WearRateOut(BaseModel):
    rate_mg_h: float
    undiluted_rise_ppm: float
    per_100h_ppm: float
    stretches: list[StretchOut]
    a: float
    b: float
    se_mg_h: float | None


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
    start: Number
    limit: Number
    side: Literal["high", "low"] | None = None
    slopes_per_h: Annotated[list[Number], Field(max_length=10_000)]
    sd: Annotated[float, Field(ge=0, le=1e15)]
    confidence: float = 0.95


class SafeIntervalOut(BaseModel):
    mean_crossing_h: float | None
    safe_h: float | None
    limiting: Literal["high", "low"] | None


def safe_interval(given: SafeIntervalIn) -> SafeIntervalOut:
    """Hours until the chance of being past the limit reaches 1 − confidence."""
    answer = safe_hours.safe_hours(given.start, given.limit, given.slopes_per_h, given.sd, given.confidence, given.side)
    return SafeIntervalOut(**answer.__dict__)


CALCULATORS = (
    Calculator("wear-rate", WearRateIn, WearRateOut, wear_rate),
    Calculator("safe-interval", SafeIntervalIn, SafeIntervalOut, safe_interval),
)
