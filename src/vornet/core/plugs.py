"""Whether a tightening torque can be meant for a thread: thread sizes read, and what a plug of that size bears."""

from __future__ import annotations

import re
from fractions import Fraction

from vornet.core.errors import InputError

#: N·m per mm³ of nominal diameter, the order of a class 8.8 bolt's tightening torque (M12 85, M20 425 N·m:
#: published bolt tables after ISO 898-1 and VDI 2230, from memory); half as much again is taken as impossible
_BOLT, _MARGIN = 0.05, 1.5
#: no drain or fill plug is tightened beyond this whatever its size; common practice, no source
MOST_NM = 1000.0
_METRIC = re.compile(r"\bm\s?(\d{1,3}(?:[.,]\d+)?)", re.I)
_INCH = re.compile(r"(\d+\s+)?(\d+/\d+|\d*\.\d+)")
_WHOLE = re.compile(r"\b(1|2|3)\b\s*(?:-|\"|in|npt|bsp|g\b)", re.I)


def nominal_mm(size: str) -> float | None:
    """Nominal diameter (mm) of a thread as people write it: ``M22x1.5``, ``3/4-16``, ``1/2 NPT``; None unreadable.

    Pipe threads (NPT, BSP, G) are larger than their name; the name is taken, which errs to the strict side
    by less than the margin for the sizes that plugs have.

    >>> nominal_mm("M22x1.5"), nominal_mm("3/4-16 UNF")
    (22.0, 19.049999999999997)
    """
    metric = _METRIC.search(size)
    if metric:
        return float(metric[1].replace(",", "."))
    inch = _INCH.search(size)
    if inch:
        whole = float(inch[1]) if inch[1] else 0.0
        pipe = re.search(r"npt|bsp|\bg\b|\bg\s?\d", size, re.I)
        mm = (whole + float(Fraction(inch[2]))) * 25.4
        return mm + 6.0 if pipe else mm
    only = _WHOLE.search(size)
    return float(only[1]) * 25.4 if only else None


def most_torque_nm(size: str | None) -> float:
    """The largest believable torque (N·m) for a plug of this thread; ``MOST_NM`` when the size is unknown."""
    mm = nominal_mm(size) if size else None
    return MOST_NM if mm is None else min(MOST_NM, _BOLT * _MARGIN * mm**3)


def check_torque(size: str | None, torque_nm: float | None, field: str) -> None:
    """Raise InputError when a torque is more than such a plug bears."""
    most = most_torque_nm(size)
    if torque_nm is not None and torque_nm > most * 1.001:
        plug = f"an {size} plug" if size else "any plug"
        raise InputError(field, f"{torque_nm:,.0f} N·m is more than {plug} bears (about {most:,.0f} N·m)")
