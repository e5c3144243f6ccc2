"""What is measured: keys, names, units and how the columns of a sample are ordered.

The position in ``MEASURANDS`` is the position in every stored array of values.
Append only; never reorder.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Measurand:
    """One measured property. ``group`` is wear, contaminant, additive, oil or particles."""

    key: str
    name: str
    unit: str
    group: str
    decimals: int

    @property
    def spoken(self) -> str:
        """The name inside a sentence."""
        return spoken(self.name)


def spoken(name: str) -> str:
    """A name inside a sentence: its first letter small, unless the word is an abbreviation.

    >>> spoken("Viscosity 100 °C"), spoken("PQ index")
    ('viscosity 100 °C', 'PQ index')
    """
    return name if name[:2].isupper() else name[:1].lower() + name[1:]


_ROWS = """
fe|Iron|mg/kg|wear|0
cr|Chromium|mg/kg|wear|1
ni|Nickel|mg/kg|wear|1
al|Aluminium|mg/kg|wear|1
cu|Copper|mg/kg|wear|0
pb|Lead|mg/kg|wear|1
sn|Tin|mg/kg|wear|1
ag|Silver|mg/kg|wear|1
ti|Titanium|mg/kg|wear|1
v|Vanadium|mg/kg|contaminant|1
mo|Molybdenum|mg/kg|additive|0
si|Silicon|mg/kg|contaminant|0
na|Sodium|mg/kg|contaminant|0
k|Potassium|mg/kg|contaminant|0
b|Boron|mg/kg|additive|0
ba|Barium|mg/kg|additive|1
ca|Calcium|mg/kg|additive|0
mg|Magnesium|mg/kg|additive|0
mn|Manganese|mg/kg|wear|1
p|Phosphorus|mg/kg|additive|0
zn|Zinc|mg/kg|additive|0
s|Sulfur|mg/kg|additive|0
li|Lithium|mg/kg|additive|1
v40|Viscosity 40 °C|mm²/s|oil|1
v100|Viscosity 100 °C|mm²/s|oil|2
vi|Viscosity index||oil|0
bn|Base number|mg KOH/g|oil|2
an|Acid number|mg KOH/g|oil|2
water_ppm|Water|mg/kg|contaminant|0
fuel_pct|Fuel|%|contaminant|2
soot_pct|Soot|%|oil|2
glycol_pct|Glycol|%|contaminant|2
oxidation|Oxidation|A/cm|oil|1
nitration|Nitration|A/cm|oil|1
sulfation|Sulfation|A/cm|oil|1
flash_c|Flash point|°C|oil|0
pq|PQ index||wear|0
p4|Particles ≥ 4 µm|/mL|particles|0
p6|Particles ≥ 6 µm|/mL|particles|0
p14|Particles ≥ 14 µm|/mL|particles|0
"""

MEASURANDS: tuple[Measurand, ...] = tuple(
    Measurand(key, name, unit, group, int(decimals))
    for key, name, unit, group, decimals in (row.split("|") for row in _ROWS.strip().splitlines())
)
KEYS: tuple[str, ...] = tuple(m.key for m in MEASURANDS)
INDEX: dict[str, int] = {key: i for i, key in enumerate(KEYS)}
COUNT = len(MEASURANDS)
BY_KEY: dict[str, Measurand] = {m.key: m for m in MEASURANDS}

#: what sinks when the oil stands: metal, dirt, free water and the coolant's salts with it; what is dissolved does not
SETTLING: tuple[str, ...] = (
    *(m.key for m in MEASURANDS if m.group in ("wear", "particles")), "si", "water_ppm", "glycol_pct", "na", "k",
)  # fmt: skip
#: metals that a compartment's own parts release; the ledger follows these
WEAR_METALS: tuple[str, ...] = ("fe", "cr", "ni", "al", "cu", "pb", "sn")
#: measurands that, when past a limit, mean that something gets in or wears: they block, they are not extrapolated
CONDITIONS: tuple[str, ...] = (
    *WEAR_METALS, "ag", "si", "na", "k", "v", "water_ppm", "fuel_pct", "glycol_pct", "p4", "p6", "p14",
)  # fmt: skip


def dense(values: dict[str, float]) -> np.ndarray:
    """Values by key as one array in storage order, NaN where not measured. Shape (COUNT,)."""
    row = np.full(COUNT, np.nan)
    for key, value in values.items():
        row[INDEX[key]] = value
    return row


def bit(key: str) -> int:
    """The bit that marks ``key`` in a sample's ``below`` and ``above`` masks."""
    return 1 << INDEX[key]
