"""What came out, weighed or still dripping."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from vornet.core import measuring
from vornet.flows.calc.base import Answer, Calculator, Given, SomeLitres, answered, asked


class WeighIn(Given):
    gross_kg: Annotated[float, asked("Full", "kg", 35.7, ge=0, le=1e6)]
    tare_kg: Annotated[float, asked("Empty", "kg", 2.0, ge=0, le=1e6)]
    temperature_c: Annotated[float, asked("Oil at", "°C", 60, ge=-60, le=400)]
    density_kg_l: Annotated[float, asked("Density at 15 °C", "kg/L", 0.87, gt=0, le=5)] = measuring.DENSITY_KG_L
    expansion_per_k: Annotated[float, asked("Expansion", "1/K", 0.0007, ge=0, le=0.1)] = measuring.EXPANSION_PER_K
    reference_c: Annotated[float, asked("Compared at", "°C", 15, ge=-60, le=400)] = measuring.REFERENCE_C


class WeighOut(Answer):
    litres: Annotated[float, answered("as it is, L")]
    litres_at_reference: Annotated[float, answered("at the reference, L")]


def weigh(given: WeighIn) -> WeighOut:
    """Litres from a weighed pan, at the oil's temperature and at the reference."""
    found = measuring.weigh(**given.model_dump())
    return WeighOut(litres=found.litres, litres_at_reference=found.litres_at_reference)


class DripReading(Given):
    min: Annotated[float, Field(ge=-1e6, le=1e6)]
    litres: SomeLitres


class DripIn(Given):
    readings: Annotated[
        list[DripReading],
        asked("Readings: minutes and litres, a line each", "", [{"min": 4, "litres": 34.0}, {"min": 16, "litres": 34.6}], max_length=10_000),
    ]
    at_min: Annotated[list[Annotated[float, Field(gt=0, le=1e6)]], asked("Asked at", "min", [36, 60], max_length=10_000)]


class DripAt(Answer):
    min: float
    litres: Annotated[float, answered("out, L")]
    still_to_come_l: Annotated[float, answered("still to come, L")]


class DripOut(Answer):
    final_litres: Annotated[float, answered("at the end, L")]
    at: list[DripAt]


def drip(given: DripIn) -> DripOut:
    """What is still to come out, and what stopping now leaves behind."""
    found = measuring.drip([(r.min, r.litres) for r in given.readings])
    at = [DripAt(min=m, litres=found.at(m), still_to_come_l=max(found.final_litres - found.at(m), 0.0)) for m in given.at_min]
    return DripOut(final_litres=found.final_litres, at=at)


CALCULATORS = (
    Calculator("weigh", WeighIn, WeighOut, weigh, "Weighed", "ρ(T) = ρ₁₅·(1 − α·(T − 15)); litres = net/ρ", "mass balance; α from memory"),
    Calculator("drip", DripIn, DripOut, drip, "Still dripping", "litres(t) = L∞ − k/√t, least squares; L∞ never below the last reading",
               "draining of a vertical plate (Jeffreys 1930)"),
)  # fmt: skip
