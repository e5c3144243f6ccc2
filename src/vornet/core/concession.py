"""Whether an oil poured is one the compartment may have in this weather; if not, that is a recorded concession."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Band:
    """An oil allowed from ``min_c`` to ``max_c`` ambient (°C, None open); ``alternative``: allowed, not preferred."""

    oil: str
    min_c: float | None = None
    max_c: float | None = None
    alternative: bool = False

    def covers(self, ambient_c: float | None) -> bool:
        if ambient_c is None:
            return True
        return (self.min_c is None or ambient_c >= self.min_c) and (self.max_c is None or ambient_c <= self.max_c)

    def words(self) -> str:
        if self.min_c is None and self.max_c is None:
            return "in any weather"
        if self.min_c is None:
            return f"up to {self.max_c:g} °C"
        if self.max_c is None:
            return f"from {self.min_c:g} °C"
        return f"from {self.min_c:g} to {self.max_c:g} °C"


def reasons(
    oil: str,
    usual: str | None,
    bands: Sequence[Band],
    ambient_c: float | None,
    required: Sequence[str],
    held: Sequence[str],
) -> list[str]:
    """Why pouring ``oil`` needs a concession, as sentences; empty when it does not.

    ``usual``: the register's oil, always allowed where no bands are given. ``required`` approvals of the
    compartment against those ``held`` by the oil, compared without regard to case.

    >>> reasons("Thin 5W-30", "Thick 15W-40", [Band("Thick 15W-40", -15, 40), Band("Thin 5W-30", -30, 20, True)], 25, [], [])
    ['Thin 5W-30 is meant from -30 to 20 °C, and it is 25 °C']
    """
    out = []
    mine = [b for b in bands if b.oil == oil]
    if bands and not mine and oil != usual:
        out.append(f"{oil} is not among this compartment's oils: {', '.join(dict.fromkeys(b.oil for b in bands))}")
    elif not bands and usual and oil != usual:
        out.append(f"{oil} is not this compartment's oil, which is {usual}")
    elif mine and not any(b.covers(ambient_c) for b in mine):
        out.append(f"{oil} is meant {' or '.join(b.words() for b in mine)}, and it is {ambient_c:g} °C")
    have = {h.casefold() for h in held}
    lacking = [r for r in required if r.casefold() not in have]
    if lacking:
        out.append(f"{oil} does not hold {' and '.join(lacking)}")
    return out
