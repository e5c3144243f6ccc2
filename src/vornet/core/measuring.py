"""Measuring what came out: by weight, with the temperature taken out, and by two readings while it still drips."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from vornet.core.errors import InputError

#: density at 15 °C, kg/L, and how much it falls a kelvin, 1/K; from memory of usual mineral oils, a figure of the oil's own is better
DENSITY_KG_L, EXPANSION_PER_K = 0.87, 0.0007
#: temperature at which densities are given and volumes compared, °C
REFERENCE_C = 15.0


@dataclass(frozen=True)
class Weighed:
    """Litres at the oil's temperature and at the reference temperature, and its net mass, kg."""

    litres: float
    litres_at_reference: float
    net_kg: float


def density_at(temperature_c: float, density_kg_l: float, expansion_per_k: float) -> float:
    """ρ(T) = ρ₁₅·(1 − α·(T − 15)), kg/L. Raises InputError where that is no density.

    >>> round(density_at(60, 0.87, 0.0007), 6)
    0.842595
    """
    found = density_kg_l * (1 - expansion_per_k * (temperature_c - 15.0))
    if not found > 0:
        raise InputError("temperature_c", "is so far from 15 °C that the density is no density any more")
    return found


def weigh(
    gross_kg: float, tare_kg: float, temperature_c: float, density_kg_l: float = DENSITY_KG_L, expansion_per_k: float = EXPANSION_PER_K,
    reference_c: float = REFERENCE_C,
) -> Weighed:  # fmt: skip
    """Litres from a weighed pan or can. Capacities are cold figures: what is weighed hot is compared at the reference.

    Raises InputError for a tare above gross.

    >>> hot = weigh(40 * 0.842595 + 2, 2, 60)
    >>> round(hot.litres, 3), round(hot.litres_at_reference, 2)
    (40.0, 38.74)
    """
    if tare_kg > gross_kg:
        raise InputError("tare_kg", f"{tare_kg:g} kg empty is more than {gross_kg:g} kg full")
    net = gross_kg - tare_kg
    hot, cold = (density_at(t, density_kg_l, expansion_per_k) for t in (temperature_c, reference_c))
    return Weighed(net / hot, net / cold, net)


@dataclass(frozen=True)
class Dripped:
    """What will have come out at the end, L, and the film's constant k, L·√min."""

    final_litres: float
    k: float

    def at(self, minutes: float) -> float:
        """Litres that are out after so many minutes."""
        return self.final_litres - self.k / math.sqrt(minutes)


def drip(readings: Sequence[tuple[float, float]]) -> Dripped:
    """litres(t) = L∞ − k/√t through readings of (minutes, litres): what still clings to walls drains like a film on a plate, whose
    thickness falls as 1/√t (Jeffreys 1930, Proceedings of the Cambridge Philosophical Society 26, 204). Least squares; L∞ is never below
    the last reading, which is kept then and k fitted to it. Raises InputError.

    >>> found = drip([(4, 34.0), (16, 34.6)])
    >>> round(found.final_litres, 6), round(found.at(36), 6)
    (35.2, 34.8)
    """
    rows = sorted(readings)
    if len(rows) < 2:
        raise InputError("readings", "two or more are needed: one alone does not tell how it goes on")
    for i, (minutes, litres) in enumerate(rows):
        if not minutes > 0:
            raise InputError("readings", "minutes are counted from when it began to run: more than zero")
        if i and minutes == rows[i - 1][0]:
            raise InputError("readings", f"two readings at {minutes:g} min")
        if i and litres < rows[i - 1][1]:
            raise InputError("readings", f"fall from {rows[i - 1][1]:g} to {litres:g} L: what is out does not go back")
    x, y = [1 / math.sqrt(m) for m, _ in rows], [v for _, v in rows]
    mean_x, mean_y = math.fsum(x) / len(x), math.fsum(y) / len(y)
    slope = math.fsum((a - mean_x) * (b - mean_y) for a, b in zip(x, y, strict=True)) / math.fsum((a - mean_x) ** 2 for a in x)
    final = mean_y - slope * mean_x
    if final >= y[-1]:
        return Dripped(final, -slope)
    final = y[-1]
    return Dripped(final, math.fsum(a * (final - b) for a, b in zip(x, y, strict=True)) / math.fsum(a * a for a in x))
