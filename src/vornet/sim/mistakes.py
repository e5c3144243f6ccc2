"""What goes wrong between the sump and the printed report, as people tell it: labels changed over, the wrong can, dirt
in the bottle, a column in another unit, a digit too many.

Each mistake is made on rows as a lab would print them and comes with what it did and whether anybody could tell: by how
much the printed figures moved against the method's own scatter and against what differs from charge to charge anyway.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from vornet.sim.engine import KEYS, scatter
from vornet.sim.fleet import OilSpec

Row = dict[str, Any]
#: moved by so many times the method's scatter, a figure is another figure
PLAINLY = 6.0
#: charges of one engine differ by about this much anyway
CHARGE_SPREAD = 0.3


@dataclass(frozen=True)
class Mistake:
    """``kind`` swapped, mixed, dirty, unit or digit; the bottles it touched; ``plain``: somebody could tell."""

    kind: str
    sample_nos: tuple[str, ...]
    plain: bool
    what: str


def _figures(row: Row) -> dict[str, float]:
    return {k: float(row[k]) for k in KEYS if row.get(k) not in (None, "")}


def swap(a: Row, b: Row) -> Mistake:
    """Two bottles of one parcel carry each other's labels."""
    one, two = _figures(a), _figures(b)
    apart = 0
    for key in set(one) & set(two):
        x, y = one[key], two[key]
        apart += abs(x - y) > PLAINLY * scatter(key, (x + y) / 2) and abs(x - y) > 2 * CHARGE_SPREAD * max(x, y, 1e-9)
    other_oil = a.get("oil") != b.get("oil")
    for key in KEYS:
        a[key], b[key] = b.get(key, ""), a.get(key, "")
    return Mistake(
        "swapped", (a["sample_no"], b["sample_no"]), other_oil or apart >= 4,
        f"labels of {a['unit']} {a['compartment']} and {b['unit']} {b['compartment']} changed over",
    )  # fmt: skip


def mix(row: Row, can: OilSpec, share: float) -> Mistake:
    """Somebody topped up from another can; so much of what is in there came from it."""
    moved = 0
    for key, was in _figures(row).items():
        if key in ("v40", "v100") or can.v.get(key) is None:
            continue
        now = was * (1 - share) + can.v[key] * share
        row[key] = round(now, 2 if was < 20 else 0)
        if key in ("ca", "mg", "zn", "p", "b", "mo", "s"):
            moved += abs(now - was) > 2 * PLAINLY * scatter(key, was) and abs(now - was) > max(0.12 * was, 15)
    return Mistake("mixed", (row["sample_no"],), moved >= 2, f"{share:.0%} {can.name}")


def dirty(row: Row, dust: float, salt: float, rng: np.random.Generator) -> Mistake:
    """A bottle that stood open: dust of the yard, or salt off a hand."""
    ratio = float(rng.uniform(3, 7))
    row["si"] = round(float(row["si"]) + dust)
    row["al"] = round(float(row["al"]) + dust / ratio, 1)
    row["na"] = round(float(row["na"]) + salt)
    plain = dust > max(PLAINLY * scatter("si", float(row["si"])), 15) or salt > max(PLAINLY * scatter("na", float(row["na"])), 12)
    return Mistake("dirty", (row["sample_no"],), plain, f"dust {dust:.0f}, salt {salt:.0f} mg/kg")


#: what labs print in another unit: measurand, factor, digits that the print keeps
OTHER_UNITS = (("ca", 1e-4, 3), ("zn", 1e-4, 3), ("p", 1e-4, 3), ("oxidation", 0.01, 2), ("nitration", 0.01, 2), ("water_ppm", 1e-4, 2))


def other_unit(row: Row, which: int) -> Mistake:
    """One column of a report in another unit than its heading says."""
    key, factor, digits = OTHER_UNITS[which % len(OTHER_UNITS)]
    was = row.get(key)
    if was in (None, "") or float(was) == 0:
        return Mistake("unit", (row["sample_no"],), False, f"{key} not printed")
    row[key] = round(float(was) * factor, digits)
    plain = row[key] > 0 and (key in ("oxidation", "nitration", "water_ppm") or float(was) >= 100)
    if key in ("oxidation", "nitration"):
        plain = float(was) > PLAINLY * scatter(key, float(was))
    return Mistake("unit", (row["sample_no"],), bool(plain), f"{key} times {factor:g}")


def wrong_digit(row: Row) -> Mistake:
    """A meter typed with a digit missing."""
    row["meter"] = round(float(row["meter"]) * 0.1, 1)
    return Mistake("digit", (row["sample_no"],), True, "meter with a digit missing")


def make(
    parcels: Sequence[list[Row]], oils: dict[str, OilSpec], rate: float, rng: np.random.Generator, kinds: Sequence[str] =
    ("swapped", "mixed", "dirty", "unit")
) -> list[Mistake]:  # fmt: skip
    """Mistakes in about this share of the bottles of these parcels; rows change in place. No bottle suffers two."""
    out: list[Mistake] = []
    names = sorted(oils)
    for rows in parcels:
        free = [r for r in rows if r.get("compartment")]
        rng.shuffle(free)
        while free:
            row = free.pop()
            if rng.random() >= rate:
                continue
            kind = kinds[int(rng.integers(len(kinds)))]
            if kind == "swapped":
                if free:
                    out.append(swap(row, free.pop()))
            elif kind == "mixed":
                others = [n for n in names if n != row["oil"]]
                out.append(mix(row, oils[others[int(rng.integers(len(others)))]], float(rng.uniform(0.08, 0.9))))
            elif kind == "dirty":
                salty = rng.random() < 0.3
                out.append(dirty(row, 0.0 if salty else float(rng.uniform(8, 60)), float(rng.uniform(8, 50)) if salty else 0.0, rng))
            elif kind == "unit":
                out.append(other_unit(row, int(rng.integers(len(OTHER_UNITS)))))
            else:
                out.append(wrong_digit(row))
    return out
