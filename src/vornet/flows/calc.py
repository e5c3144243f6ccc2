"""The calculators: one JSON object in, one out, the same for the command line and the API.

Units are in the field names. Every input is checked at this edge; the arithmetic is core's.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from vornet.core import contamination, conversion, identity, ledger, limits, safe_hours, trend, viscosity, volumes
from vornet.core import due as due_rules
from vornet.core.errors import InputError

Viscosity = Annotated[float, Field(gt=0, le=1e6)]
Temperature = Annotated[float, Field(ge=-100, le=400)]
Day = date  # a field may be called date, too
Number = Annotated[float, Field(ge=-1e15, le=1e15)]
Litres = Annotated[float, Field(gt=0, le=1e7)]
SomeLitres = Annotated[float, Field(ge=0, le=1e7)]


class _In(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, populate_by_name=True)


class ConvertIn(_In):
    value: Annotated[float, Field(ge=-1e300, le=1e300)]
    from_: Annotated[str, Field(alias="from", max_length=60)]
    to: Annotated[str, Field(max_length=60)]


class ConvertOut(BaseModel):
    value: float


def convert(given: ConvertIn) -> ConvertOut:
    """Convert a value between units (NIST SP 811)."""
    return ConvertOut(value=conversion.convert(given.value, given.from_, given.to))


class CarryOverIn(_In):
    system_volume_l: Litres
    level_missing_l: SomeLitres = 0.0
    drained_volume_l: SomeLitres
    old_value: Number
    new_value: Number


class CarryOverOut(BaseModel):
    residual_share: float
    start_value: float
    residual_l: float


def carry_over(given: CarryOverIn) -> CarryOverOut:
    """Residual share after a drain and the value the next charge starts with."""
    answer = volumes.carry_over(given.system_volume_l, given.drained_volume_l, given.old_value, given.new_value, given.level_missing_l)
    return CarryOverOut(residual_share=answer.residual_share, start_value=answer.start_value, residual_l=answer.residual_l)


class FlushIn(_In):
    system_volume_l: Litres
    drained_volume_l: SomeLitres
    target_share: Annotated[float, Field(gt=0, lt=1)]


class FlushOut(BaseModel):
    drains: int
    final_share: float


def flush(given: FlushIn) -> FlushOut:
    """How many drain-and-fills bring the old oil's share to the target."""
    drains, share = volumes.flush(given.system_volume_l, given.drained_volume_l, given.target_share)
    return FlushOut(drains=drains, final_share=share)


class RefillIn(_In):
    capacity_l: Litres
    residual_l: SomeLitres = 0.0
    first_pour_share: Annotated[float, Field(gt=0, le=1)] = 0.9
    pack_l: Litres


class RefillOut(BaseModel):
    target_l: float
    first_pour_l: float
    top_up_l: float
    whole_packs: int
    from_last_pack_l: float
    left_in_last_pack_l: float


def refill(given: RefillIn) -> RefillOut:
    """First pour, approach and packs of a refill."""
    answer = volumes.refill(given.capacity_l, given.pack_l, given.residual_l, given.first_pour_share)
    return RefillOut(**answer.__dict__)


class TopUpIn(_In):
    h: Annotated[float, Field(ge=0, le=1e7)]
    litres: Litres


class PartChangeIn(_In):
    h: Annotated[float, Field(ge=0, le=1e7)]
    litres_out: SomeLitres
    litres_in: SomeLitres


class LevelCheckIn(_In):
    h: Annotated[float, Field(ge=0, le=1e7)]
    missing_l: SomeLitres


class SampleIn(_In):
    h: Annotated[float, Field(ge=0, le=1e7)]
    ppm: Annotated[float, Field(ge=0, le=1e7)]
    sd_ppm: Annotated[float, Field(gt=0, le=1e7)] | None = None


class WearRateIn(_In):
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


class LimitsIn(_In):
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


class PointIn(_In):
    x: Number
    y: Number


class TrendIn(_In):
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


class SafeIntervalIn(_In):
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


class ReadingIn(_In):
    date: Day
    meter: Annotated[float, Field(ge=0, le=1e9)]


class LimitIn(_In):
    meter: Annotated[float, Field(gt=0, le=1e9)] | None = None
    days: Annotated[int, Field(gt=0, le=100_000)] | None = None


class DueIn(_In):
    readings: Annotated[list[ReadingIn], Field(min_length=1, max_length=100_000)]
    last_drain: ReadingIn
    interval: LimitIn
    today: date


class DueOut(BaseModel):
    due_meter: float | None
    due_date: date | None
    earliest: date | None
    latest: date | None
    driver: Literal["meter", "calendar"]


def due(given: DueIn) -> DueOut:
    """When the next drain is due: by meter, forecast from the recent readings, or by calendar."""
    for i, reading in enumerate(given.readings):
        if reading.date > given.today:
            raise InputError(f"readings[{i}].date", f"{reading.date} is after today, {given.today}")
    if given.last_drain.date > given.today:
        raise InputError("last_drain.date", f"{given.last_drain.date} is after today, {given.today}")
    order = sorted(range(len(given.readings)), key=lambda i: (given.readings[i].date, given.readings[i].meter))
    for before, now in zip(order, order[1:], strict=False):
        a, b = given.readings[before], given.readings[now]
        if b.meter < a.meter:
            raise InputError(f"readings[{now}].meter", f"the meter goes back: {b.meter:g} after {a.meter:g}")
    days = np.array([given.readings[i].date.toordinal() for i in order])
    totals = np.array([given.readings[i].meter for i in order])
    answer = due_rules.forecast(
        days, totals, given.last_drain.meter, given.last_drain.date.toordinal(), given.interval.meter, given.interval.days
    )
    dates = [_date(x) for x in (answer.due_day, answer.earliest, answer.latest)]
    driver: Literal["meter", "calendar"] = "meter" if answer.driver == "meter" else "calendar"
    return DueOut(due_meter=answer.due_total, due_date=dates[0], earliest=dates[1], latest=dates[2], driver=driver)


def _date(ordinal: int | None) -> date | None:
    return date.fromordinal(ordinal) if ordinal is not None and 1 <= ordinal <= date.max.toordinal() else None


class ViscosityAtIn(_In):
    t1_c: Temperature
    kv1_cst: Viscosity
    t2_c: Temperature
    kv2_cst: Viscosity
    t_c: Temperature


class ViscosityAtOut(BaseModel):
    kv_cst: float


def viscosity_at(given: ViscosityAtIn) -> ViscosityAtOut:
    """Viscosity at any temperature from two points (ASTM D341)."""
    return ViscosityAtOut(kv_cst=viscosity.viscosity_at(given.t1_c, given.kv1_cst, given.t2_c, given.kv2_cst, given.t_c))


class ViscosityIndexIn(_In):
    kv40_cst: Viscosity
    kv100_cst: Viscosity


class ViscosityIndexOut(BaseModel):
    vi: int
    vi_unrounded: float


def viscosity_index(given: ViscosityIndexIn) -> ViscosityIndexOut:
    """Viscosity index (ASTM D2270), rounded to the whole number, halves to even."""
    exact = viscosity.viscosity_index(given.kv40_cst, given.kv100_cst)
    return ViscosityIndexOut(vi=round(exact), vi_unrounded=exact)


class GradeIn(_In):
    kv100_cst: Viscosity | None = None
    kv40_cst: Viscosity | None = None


class GradeOut(BaseModel):
    sae_engine: list[str]
    sae_gear: list[str]
    iso_vg: int | None


def grade(given: GradeIn) -> GradeOut:
    """Every SAE engine and gear grade and the ISO VG that a viscosity fits (SAE J300, J306, ISO 3448)."""
    engine, gear, iso = viscosity.grades(given.kv100_cst, given.kv40_cst)
    return GradeOut(sae_engine=engine, sae_gear=gear, iso_vg=iso)


class PartIn(_In):
    share: Annotated[float, Field(ge=0, le=1.001)]
    kv_cst: Viscosity


class BlendIn(_In):
    parts: Annotated[list[PartIn], Field(min_length=1, max_length=50)]


class BlendOut(BaseModel):
    kv_cst: float


def blend(given: BlendIn) -> BlendOut:
    """Viscosity of a blend by mass shares (Refutas/Maples blending index)."""
    return BlendOut(kv_cst=viscosity.blend([(p.share, p.kv_cst) for p in given.parts]))


class FuelIn(_In):
    kv_new_cst: Viscosity
    kv_used_cst: Viscosity
    kv_fuel_cst: Viscosity


class FuelOut(BaseModel):
    fuel_share: float


def fuel_from_viscosity(given: FuelIn) -> FuelOut:
    """The fuel share that explains a used oil's viscosity."""
    return FuelOut(fuel_share=viscosity.fuel_share(given.kv_new_cst, given.kv_used_cst, given.kv_fuel_cst))


class CountsIn(_In):
    four: Annotated[float | None, Field(alias="4", ge=0, le=1e12)] = None
    six: Annotated[float | None, Field(alias="6", ge=0, le=1e12)] = None
    fourteen: Annotated[float | None, Field(alias="14", ge=0, le=1e12)] = None


class CleanlinessIn(_In):
    counts_per_ml: CountsIn


class CleanlinessOut(BaseModel):
    code: str


def cleanliness(given: CleanlinessIn) -> CleanlinessOut:
    """Cleanliness code from particle counts (ISO 4406)."""
    c = given.counts_per_ml
    return CleanlinessOut(code=contamination.cleanliness({"4": c.four, "6": c.six, "14": c.fourteen}))


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


class IdentifyIn(_In):
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


@dataclass(frozen=True)
class Calculator:
    """A calculator: its name on the command line and in the URL, what goes in, what comes out."""

    name: str
    given: type[BaseModel]
    answer: type[BaseModel]
    run: Callable[[Any], BaseModel]


CALCULATORS: dict[str, Calculator] = {
    c.name: c
    for c in (
        Calculator("convert", ConvertIn, ConvertOut, convert),
        Calculator("carry-over", CarryOverIn, CarryOverOut, carry_over),
        Calculator("flush", FlushIn, FlushOut, flush),
        Calculator("refill", RefillIn, RefillOut, refill),
        Calculator("wear-rate", WearRateIn, WearRateOut, wear_rate),
        Calculator("limits", LimitsIn, LimitsOut, statistical_limits),
        Calculator("trend", TrendIn, TrendOut, find_trend),
        Calculator("safe-interval", SafeIntervalIn, SafeIntervalOut, safe_interval),
        Calculator("due", DueIn, DueOut, due),
        Calculator("viscosity-at", ViscosityAtIn, ViscosityAtOut, viscosity_at),
        Calculator("viscosity-index", ViscosityIndexIn, ViscosityIndexOut, viscosity_index),
        Calculator("grade", GradeIn, GradeOut, grade),
        Calculator("blend", BlendIn, BlendOut, blend),
        Calculator("fuel-from-viscosity", FuelIn, FuelOut, fuel_from_viscosity),
        Calculator("cleanliness", CleanlinessIn, CleanlinessOut, cleanliness),
        Calculator("identify", IdentifyIn, IdentifyOut, identify),
    )
}


#: anybody may ask, and some answers take memory: so many are worked at a time
_at_once = threading.BoundedSemaphore(2)


def plain_problem(error: ValidationError) -> InputError:
    """The first thing wrong with an input, as one field and one sentence."""
    first = error.errors(include_url=False)[0]
    parts: list[str] = []
    for step in first["loc"]:
        if isinstance(step, int) and parts:
            parts[-1] += f"[{step}]"
        else:
            parts.append(str(step))
    field = ".".join(parts) or "input"
    if first["type"] == "missing":
        return InputError(field, "is missing")
    if first["type"] == "extra_forbidden":
        return InputError(field, "is not a field of this calculator")
    message = str(first["msg"]).removeprefix("Value error, ").removeprefix("Input ")
    return InputError(field, message[:1].lower() + message[1:])


def calculate(name: str, given: Any) -> dict[str, Any]:
    """Run a calculator on a JSON object. Raises InputError naming the field and why."""
    calculator = CALCULATORS.get(name)
    if calculator is None:
        raise InputError("name", f"there is no calculator {name!r}: {', '.join(CALCULATORS)}")
    if not isinstance(given, dict):
        raise InputError("input", "must be one JSON object")
    try:
        checked = calculator.given.model_validate(given)
    except ValidationError as error:
        raise plain_problem(error) from None
    try:
        with _at_once:
            answer = calculator.run(checked)
    except (OverflowError, ZeroDivisionError, FloatingPointError):
        raise InputError("input", "the figures are too large or too small to calculate with") from None
    out = answer.model_dump(mode="json", exclude_none=name == "limits")
    _refuse_nonsense(out)
    return out


def _refuse_nonsense(value: Any) -> None:
    if isinstance(value, dict):
        for item in value.values():
            _refuse_nonsense(item)
    elif isinstance(value, list | tuple):
        for item in value:
            _refuse_nonsense(item)
    elif isinstance(value, float) and (value != value or value in (float("inf"), float("-inf"))):
        raise InputError("input", "the figures are too large or too small to calculate with")
