"""Contamination in figures: the cleanliness code, and sea water by its salts."""

from __future__ import annotations

from vornet.core.errors import InputError

#: upper count per mL of each code from 0, as ISO 4406 prints them (doubling, with its rounding)
UPPER = (0.01, 0.02, 0.04, 0.08, 0.16, 0.32, 0.64, 1.3, 2.5, 5, 10, 20, 40, 80, 160, 320, 640, 1300, 2500, 5000, 10_000, 20_000,
         40_000, 80_000, 160_000, 320_000, 640_000, 1_300_000, 2_500_000)  # fmt: skip
#: standard sea water, salinity 35 (mg/kg)
SEA_NA, SEA_MG = 10_770.0, 1_290.0
SIZES = ("4", "6", "14")


def scale_number(per_ml: float) -> int:
    """ISO 4406 scale number of a count per mL. Raises InputError above code 28.

    >>> [scale_number(x) for x in (2100, 340, 42, 0, 0.01, 0.011, 2500, 2501)]
    [18, 16, 13, 0, 0, 1, 18, 19]
    """
    if not per_ml >= 0:
        raise InputError("counts_per_ml", "a count cannot be negative")
    for code, upper in enumerate(UPPER):
        if per_ml <= upper:
            return code
    raise InputError("counts_per_ml", f"{per_ml:.0f} per mL is above code 28, the last of the scale")


def cleanliness(counts: dict[str, float | None]) -> str:
    """The code ``18/16/13`` from counts per mL at ≥ 4, 6 and 14 µm(c); a size not counted prints ``-``.

    Source: ISO 4406. Raises InputError when counts grow with size, or none is given.

    >>> cleanliness({"4": 2100, "6": 340, "14": 42}), cleanliness({"4": None, "6": 340, "14": 42})
    ('18/16/13', '-/16/13')
    """
    known = [(size, counts[size]) for size in SIZES if counts.get(size) is not None]
    if not known:
        raise InputError("counts_per_ml", "give at least one count")
    for (small, a), (large, b) in zip(known, known[1:], strict=False):
        if b > a:  # type: ignore[operator]
            why = f"{b:g} at {large} µm is more than {a:g} at {small} µm: larger ones are among the smaller"
            raise InputError(f"counts_per_ml.{large}", why)
    codes = dict.fromkeys(SIZES, "-")
    for size, count in known:
        try:
            codes[size] = str(scale_number(float(count)))  # type: ignore[arg-type]
        except InputError as error:
            raise InputError(f"counts_per_ml.{size}", error.why) from None
    return "/".join(codes[s] for s in SIZES)


def sea_water_share(na_rise_ppm: float) -> float:
    """Mass share of sea water that a rise of sodium (mg/kg) means; magnesium rises by 1/8.4 of it.

    Source: standard sea water, S = 35 (Na 10.77, Mg 1.29 g/kg).

    >>> round(100 * sea_water_share(107.7), 3)
    1.0
    """
    return na_rise_ppm / SEA_NA
