"""Viscosity, grades, blends and cleanliness."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from vornet.core import contamination, viscosity
from vornet.flows.calc.base import Calculator, Given

Viscosity = Annotated[float, Field(gt=0, le=1e6)]
Temperature = Annotated[float, Field(ge=-100, le=400)]


class ViscosityAtIn(Given):
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


class ViscosityIndexIn(Given):
    kv40_cst: Viscosity
    kv100_cst: Viscosity


class ViscosityIndexOut(BaseModel):
    vi: int
    vi_unrounded: float


def viscosity_index(given: ViscosityIndexIn) -> ViscosityIndexOut:
    """Viscosity index (ASTM D2270), rounded to the whole number, halves to even."""
    exact = viscosity.viscosity_index(given.kv40_cst, given.kv100_cst)
    return ViscosityIndexOut(vi=round(exact), vi_unrounded=exact)


class GradeIn(Given):
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


class PartIn(Given):
    share: Annotated[float, Field(ge=0, le=1.001)]
    kv_cst: Viscosity


class BlendIn(Given):
    parts: Annotated[list[PartIn], Field(min_length=1, max_length=50)]


class BlendOut(BaseModel):
    kv_cst: float


def blend(given: BlendIn) -> BlendOut:
    """Viscosity of a blend by mass shares (Refutas/Maples blending index)."""
    return BlendOut(kv_cst=viscosity.blend([(p.share, p.kv_cst) for p in given.parts]))


class FuelIn(Given):
    kv_new_cst: Viscosity
    kv_used_cst: Viscosity
    kv_fuel_cst: Viscosity


class FuelOut(BaseModel):
    fuel_share: float


def fuel_from_viscosity(given: FuelIn) -> FuelOut:
    """The fuel share that explains a used oil's viscosity."""
    return FuelOut(fuel_share=viscosity.fuel_share(given.kv_new_cst, given.kv_used_cst, given.kv_fuel_cst))


class CountsIn(Given):
    four: Annotated[float | None, Field(alias="4", ge=0, le=1e12)] = None
    six: Annotated[float | None, Field(alias="6", ge=0, le=1e12)] = None
    fourteen: Annotated[float | None, Field(alias="14", ge=0, le=1e12)] = None


class CleanlinessIn(Given):
    counts_per_ml: CountsIn


class CleanlinessOut(BaseModel):
    code: str


def cleanliness(given: CleanlinessIn) -> CleanlinessOut:
    """Cleanliness code from particle counts (ISO 4406)."""
    c = given.counts_per_ml
    return CleanlinessOut(code=contamination.cleanliness({"4": c.four, "6": c.six, "14": c.fourteen}))


CALCULATORS = (
    Calculator("viscosity-at", ViscosityAtIn, ViscosityAtOut, viscosity_at),
    Calculator("viscosity-index", ViscosityIndexIn, ViscosityIndexOut, viscosity_index),
    Calculator("grade", GradeIn, GradeOut, grade),
    Calculator("blend", BlendIn, BlendOut, blend),
    Calculator("fuel-from-viscosity", FuelIn, FuelOut, fuel_from_viscosity),
    Calculator("cleanliness", CleanlinessIn, CleanlinessOut, cleanliness),
)
