"""Fleets with other faults than the demo's: who has one, which, how strong, when, and how it shows, drawn at random.

Three ranges: the one the scoring of causes was tuned on, a wider one that it was not, and the world, in which the register
has gaps, oils have an acid number of their own, ageing bends and changes pace, oils are changed, bottles go to two labs that
do not quite agree, and a drain leaves up to a quarter behind. Ranges only ever widen.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from vornet.sim import fleet as f
from vornet.sim.engine import KEYS, Lab, Labs
from vornet.sim.fleet import OILS, UNITS, CompartmentSpec, Fault, OilSpec, UnitSpec

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


@dataclass(frozen=True)
class Wider:
    """What the world adds. ``unlike``: log sd between steady engines of one family, ``bend`` power of oil hours by which what
    oxidises gains, ``faster`` share of compartments whose oil ages at another pace late, and by what factor; ``changed``
    share that gets another oil; ``stays`` share of the system a drain leaves behind; ``gaps`` share of oils whose record
    lacks what ``GAPS`` names; ``meterless`` share of units whose bottles carry oil hours but no meter; ``bias`` of a lab
    in sd of one result; ``noise`` of a lab against the usual scatter."""

    unlike: float = 0.25
    bend: tuple[float, float] = (1.0, 2.0)
    faster: tuple[float, tuple[float, float]] = (0.2, (1.1, 1.4))
    changed: float = 0.2
    stays: tuple[float, float] = (0.04, 0.25)
    gaps: float = 0.6
    meterless: float = 0.12
    bias: float = 1.6
    noise: tuple[float, float] = (0.5, 1.0)


TUNED, OTHER = Ranges(), Ranges((0.35, 1.6), 0.22, 0.25, (0.8, 1.5), (0.6, 1.8))
#: the widest: as OTHER, and what the world adds
WORLD = Wider()
#: what an oil's record may not know
GAPS = ("an", "oxidation", "nitration", "b")


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


@dataclass(frozen=True)
class World:
    """A fleet of the world: ``units``, the ``oils`` there are, what the register knows of them (``records``: oil → figures),
    which fault each place has (``planted``), units whose bottles carry no meter, and who measures."""

    units: tuple[UnitSpec, ...]
    oils: tuple[OilSpec, ...]
    records: dict[str, dict[str, float]]
    planted: dict[tuple[str, str], tuple[str, float]]
    meterless: frozenset[str]
    labs: Labs


def _oils(rng: np.random.Generator, wider: Wider) -> tuple[list[OilSpec], dict[str, dict[str, float]], dict[str, list[str]]]:
    """Every oil with an acid number and additives of its own, three that could replace it, and what the register knows."""
    oils: list[OilSpec] = []
    records: dict[str, dict[str, float]] = {}
    instead: dict[str, list[str]] = {}
    for oil in OILS:
        instead[oil.name] = []
        for n in range(4):
            v = {k: x * float(rng.lognormal(0, 0.04 if k in ("v40", "v100") else 0.15)) for k, x in oil.v.items()}
            v["v40"] = v["v100"] * oil.v["v40"] / oil.v["v100"]
            v["an"] = float(rng.uniform(0.3, 2.4)) * (1.0 if "bn" in v else 1.6)
            v["oxidation"] = v.get("oxidation", 4.0) * float(rng.lognormal(0, 0.5)) + float(rng.uniform(0, 8))
            v["nitration"] = v.get("nitration", 3.0) * float(rng.lognormal(0, 0.4))
            v["b"] = oil.v.get("b", 2.0) * float(rng.lognormal(0, 0.4)) + (float(rng.uniform(20, 120)) if rng.random() < 0.25 else 0.0)
            name = oil.name if n == 0 else f"{oil.name} {'BCD'[n - 1]}"
            oils.append(OilSpec(name, oil.grade, oil.density, v))
            records[name] = {k: round(x, 2) for k, x in v.items()}
            if rng.random() < wider.gaps:
                for k in GAPS:
                    if rng.random() < 0.75:
                        records[name].pop(k, None)
            if n:
                instead[oil.name].append(name)
    return oils, records, instead


def world(seed: int, days: int, ranges: Ranges = OTHER, wider: Wider = WORLD) -> World:
    """A fleet of the world, of this seed."""
    units, planted = fleet(seed, days, ranges)
    rng = np.random.default_rng([seed, 5])
    oils, records, instead = _oils(rng, wider)
    made = []
    for unit in units:
        compartments = []
        for c in unit.compartments:
            bend, late = float(rng.uniform(*wider.bend)), int(rng.uniform(0.55, 0.9) * days)
            faster = (late, float(rng.uniform(*wider.faster[1]))) if rng.random() < wider.faster[0] else None
            other = instead[c.oil][int(rng.integers(3))]
            changed = (int(rng.uniform(0.3, 0.85) * days), other) if rng.random() < wider.changed else None
            unlike = {k: float(rng.lognormal(0, wider.unlike)) for k in c.wear.metals}
            wear = replace(c.wear, metals={k: v * unlike[k] for k, v in c.wear.metals.items()})
            compartments.append(replace(c, bend=bend, faster=faster, changed=changed, stays=float(rng.uniform(*wider.stays)), wear=wear))
        made.append(replace(unit, compartments=tuple(compartments)))
    meterless = frozenset(u.name for u in made if rng.random() < wider.meterless)
    two = [
        Lab(name, float(rng.choice(wider.noise)), {k: float(np.clip(rng.normal(0, wider.bias), -2.5, 2.5)) for k in KEYS})
        for name in ("Holm Street Oil Lab", "Quill Road Laboratory")
    ]  # fmt: skip
    first = [int(rng.integers(2)) for _ in made]
    moved = [int(rng.uniform(0.4, 0.9) * days) if rng.random() < 0.4 else days + 1 for _ in made]
    return World(
        tuple(made), tuple(oils), records, planted, meterless,
        lambda unit, day: two[first[unit] if day < moved[unit] else 1 - first[unit]],
    )  # fmt: skip
