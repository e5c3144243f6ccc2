"""Viscosity, grades, blends and cleanliness."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from vornet.core import contamination, viscosity
from vornet.flows.calc.base import Answer, Calculator, Given, answered, asked

Viscosity = Annotated[float, Field(gt=0, le=1e6)]
Temperature = Annotated[float, Field(ge=-100, le=400)]


class ViscosityAtIn(Given):
    t1_c: Annotated[Temperature, asked("First point", "°C", 40)]
    kv1_cst: Annotated[Viscosity, asked("viscosity", "mm²/s", 105)]
    t2_c: Annotated[Temperature, asked("Second point", "°C", 100)]
    kv2_cst: Annotated[Viscosity, asked("viscosity", "mm²/s", 14.2)]
    t_c: Annotated[Temperature, asked("Wanted at", "°C", 25)]


class ViscosityAtOut(Answer):
    kv_cst: Annotated[float, answered("viscosity, mm²/s")]


def viscosity_at(given: ViscosityAtIn) -> ViscosityAtOut:
    """Viscosity at any temperature from two points (ASTM D341)."""
    return ViscosityAtOut(kv_cst=viscosity.viscosity_at(given.t1_c, given.kv1_cst, given.t2_c, given.kv2_cst, given.t_c))


class ViscosityIndexIn(Given):
    kv40_cst: Annotated[Viscosity, asked("At 40 °C", "mm²/s", 73.30)]
    kv100_cst: Annotated[Viscosity, asked("At 100 °C", "mm²/s", 8.86)]


class ViscosityIndexOut(Answer):
    vi: Annotated[int, answered("viscosity index")]
    vi_unrounded: Annotated[float, answered("before rounding")]


def viscosity_index(given: ViscosityIndexIn) -> ViscosityIndexOut:
    """Viscosity index (ASTM D2270), rounded to the whole number, halves to even."""
    exact = viscosity.viscosity_index(given.kv40_cst, given.kv100_cst)
    return ViscosityIndexOut(vi=round(exact), vi_unrounded=exact)


class GradeIn(Given):
    kv100_cst: Annotated[Viscosity | None, asked("At 100 °C", "mm²/s", 14.2)] = None
    kv40_cst: Annotated[Viscosity | None, asked("At 40 °C", "mm²/s", 105)] = None


class GradeOut(Answer):
    sae_engine: Annotated[list[str], answered("SAE engine grade")]
    sae_gear: Annotated[list[str], answered("SAE gear grade")]
    iso_vg: Annotated[int | None, answered("ISO VG")]


def grade(given: GradeIn) -> GradeOut:
    """Every SAE engine and gear grade and the ISO VG that a viscosity fits (SAE J300, J306, ISO 3448)."""
    engine, gear, iso = viscosity.grades(given.kv100_cst, given.kv40_cst)
    return GradeOut(sae_engine=engine, sae_gear=gear, iso_vg=iso)


class PartIn(Given):
    share: Annotated[float, Field(ge=0, le=1.001)]
    kv_cst: Viscosity


class BlendIn(Given):
    parts: Annotated[
        list[PartIn],
        asked(
            "Mass share and viscosity, a line each",
            "mm²/s",
            [{"share": 0.5, "kv_cst": 10}, {"share": 0.5, "kv_cst": 100}],
            min_length=1,
            max_length=50,
        ),
    ]


class BlendOut(Answer):
    kv_cst: Annotated[float, answered("viscosity, mm²/s")]


def blend(given: BlendIn) -> BlendOut:
    """Viscosity of a blend by mass shares (Refutas/Maples blending index)."""
    return BlendOut(kv_cst=viscosity.blend([(p.share, p.kv_cst) for p in given.parts]))


class FuelIn(Given):
    kv_new_cst: Annotated[Viscosity, asked("New oil at 100 °C", "mm²/s", 14.2)]
    kv_used_cst: Annotated[Viscosity, asked("Used oil", "mm²/s", 12.5)]
    kv_fuel_cst: Annotated[Viscosity, asked("Fuel", "mm²/s", 1.1)]


class FuelOut(Answer):
    fuel_share: Annotated[float, answered("share of fuel")]


def fuel_from_viscosity(given: FuelIn) -> FuelOut:
    """The fuel share that explains a used oil's viscosity."""
    return FuelOut(fuel_share=viscosity.fuel_share(given.kv_new_cst, given.kv_used_cst, given.kv_fuel_cst))


class CountsIn(Given):
    four: Annotated[float | None, asked("≥ 4 µm", "per mL", 2100, alias="4", ge=0, le=1e12)] = None
    six: Annotated[float | None, asked("≥ 6 µm", "per mL", 340, alias="6", ge=0, le=1e12)] = None
    fourteen: Annotated[float | None, asked("≥ 14 µm", "per mL", 42, alias="14", ge=0, le=1e12)] = None


class CleanlinessIn(Given):
    counts_per_ml: CountsIn


class CleanlinessOut(Answer):
    code: str


def cleanliness(given: CleanlinessIn) -> CleanlinessOut:
    """Cleanliness code from particle counts (ISO 4406)."""
    c = given.counts_per_ml
    return CleanlinessOut(code=contamination.cleanliness({"4": c.four, "6": c.six, "14": c.fourteen}))


CALCULATORS = (
    Calculator(
        "viscosity-at",
        ViscosityAtIn,
        ViscosityAtOut,
        viscosity_at,
        "Viscosity at any temperature",
        "log₁₀ log₁₀(ν + 0.7) = A − B·log₁₀ T, T in kelvin",
        "ASTM D341, valid above 2 mm²/s",
    ),
    Calculator(
        "viscosity-index",
        ViscosityIndexIn,
        ViscosityIndexOut,
        viscosity_index,
        "Viscosity index",
        "up to 100: (L − U)/(L − H)·100; above: (10ᴺ − 1)/0.00715 + 100 with N = (log H − log U)/log Y",
        "ASTM D2270",
    ),
    Calculator(
        "grade",
        GradeIn,
        GradeOut,
        grade,
        "Which grade is it",
        "min ≤ ν < max at 100 °C; ISO VG ± 10 % at 40 °C; ranges overlap from 8 to 20",
        "SAE J300 and J306 (edition before 2019), from memory; ISO 3448",
    ),
    Calculator(
        "blend",
        BlendIn,
        BlendOut,
        blend,
        "Viscosity of a blend",
        "VBN = 14.534·ln ln(ν + 0.8) + 10.975, weighted by mass, and back",
        "Refutas/Maples blending index",
    ),
    Calculator(
        "fuel-from-viscosity",
        FuelIn,
        FuelOut,
        fuel_from_viscosity,
        "Fuel from viscosity",
        "(VBN new − VBN used)/(VBN new − VBN fuel); soot and oxidation hide it, shear imitates it",
        "Refutas/Maples blending index",
        4,
    ),
    Calculator("cleanliness", CleanlinessIn, CleanlinessOut, cleanliness, "Cleanliness code", "a code up for every doubling", "ISO 4406"),
)
