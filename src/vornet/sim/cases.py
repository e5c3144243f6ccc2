"""Fleets with other faults than the demo's: who has one, which, how strong, when, and how it shows, drawn at random.

Two ranges: the one the scoring of causes was tuned on, and a wider one that it was not.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from vornet.sim import fleet as f
from vornet.sim.fleet import UNITS, CompartmentSpec, Fault, UnitSpec

#: what can go wrong where
KINDS: dict[str, tuple[Fault, ...]] = {
    "engine": (f.DIRT, f.COOLANT, f.FUEL, f.BEARING, f.SOOT, f.SILOXANE, f.CONDENSATION, f.HEAT, f.BLOW_BY, f.SCUFFING,
               f.BUSHING, f.LEACHING, f.GEAR, f.WORN_OUT),
    "gearbox": (f.BUSHING, f.GEAR, f.BEARING, f.CONDENSATION),
    "axle": (f.GEAR, f.CONDENSATION),
    "hydraulics": (f.CONDENSATION, f.DIRT),
}  # fmt: skip
MARINE_TOO: tuple[Fault, ...] = (f.SEA,)
GAS_NOT = ("combustion", "dirt", "fuel")


@dataclass(frozen=True)
class Ranges:
    """``amplitude`` of a fault against the demo's; ``mixture`` log sd of how its signs share out; ``wear`` log sd of a
    compartment's release against its family; ``spread`` and ``thirst`` factors; ``share`` of compartments with a fault."""

    amplitude: tuple[float, float] = (0.5, 1.3)
    mixture: float = 0.12
    wear: float = 0.0
    spread: tuple[float, float] = (1.0, 1.0)
    thirst: tuple[float, float] = (1.0, 1.0)
    share: float = 0.3


TUNED, OTHER = Ranges(), Ranges((0.35, 1.6), 0.22, 0.25, (0.8, 1.5), (0.6, 1.8))


def _fault(kind: Fault, days: int, ranges: Ranges, rng: np.random.Generator) -> tuple[Fault, float]:
    amplitude = float(rng.uniform(*ranges.amplitude))

    def some() -> float:
        return amplitude * float(rng.lognormal(0, ranges.mixture))

    start = int(rng.uniform(0.3, 0.88) * days)
    metals = {k: 1 + (v - 1) * some() for k, v in kind.metals.items()}
    moves = {k: 1 + (v - 1) * some() for k, v in kind.moves.items()}
    adds = {k: v * some() for k, v in kind.adds.items()}
    if kind.kind == "sea_water":  # sea water is sea water
        adds["mg"] = adds["na"] / 8.35
    mended = start + int(rng.uniform(90, 300)) if rng.random() < 0.4 else None
    return replace(kind, start=start, ramp=int(rng.uniform(10, 120)), end=mended, metals=metals, moves=moves, adds=adds), amplitude


def _compartment(
    c: CompartmentSpec, unit: UnitSpec, days: int, ranges: Ranges, rng: np.random.Generator
) -> tuple[CompartmentSpec, tuple[str, float] | None]:
    wear = replace(
        c.wear, spread=c.wear.spread * float(rng.uniform(*ranges.spread)),
        metals={k: v * float(rng.lognormal(0, ranges.wear)) for k, v in c.wear.metals.items()},
    )  # fmt: skip
    plain = replace(c, faults=(), poured=None, new_at_start=False, wear=wear, thirst=c.thirst * float(rng.uniform(*ranges.thirst)))
    kinds = KINDS.get(c.kind, ())
    if c.kind in ("engine", "gearbox") and unit.meter_unit == "h" and unit.duty != "power station":
        kinds = kinds + MARINE_TOO
    if c.fuel in ("gas", "biogas"):
        kinds = tuple(k for k in kinds if k.kind not in GAS_NOT)
    if not kinds or rng.random() > ranges.share:
        return plain, None
    fault, amplitude = _fault(kinds[int(rng.integers(len(kinds)))], days, ranges, rng)
    return replace(plain, faults=(fault,)), (fault.kind, amplitude)


def fleet(seed: int, days: int, ranges: Ranges) -> tuple[tuple[UnitSpec, ...], dict[tuple[str, str], tuple[str, float]]]:
    """Units with faults of this seed, and which fault each (unit, compartment) has, with its amplitude."""
    rng = np.random.default_rng([seed, 4])
    units, planted = [], {}
    for unit in UNITS:
        compartments = []
        for c in unit.compartments:
            made, fault = _compartment(c, unit, days, ranges, rng)
            compartments.append(made)
            if fault:
                planted[(unit.name, c.name)] = fault
        units.append(replace(unit, compartments=tuple(compartments)))
    return tuple(units), planted
