"""Whether an oil poured is one the compartment may have in this weather; if not, that is a recorded concession."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from vornet.core.fact import Fact, told


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

    def fact(self) -> Fact:
        """In which weather it is meant."""
        if self.min_c is None:
            return told("any_weather") if self.max_c is None else told("up_to", max=self.max_c)
        return told("from", min=self.min_c) if self.max_c is None else told("from_to", min=self.min_c, max=self.max_c)


def reasons(
    oil: str,
    usual: str | None,
    bands: Sequence[Band],
    ambient_c: float | None,
    required: Sequence[str],
    held: Sequence[str],
) -> list[Fact]:
    """Why pouring ``oil`` needs a concession; empty when it does not.

    ``usual``: the register's oil, always allowed where no bands are given. ``required`` approvals of the
    compartment against those ``held`` by the oil, compared without regard to case.

    >>> reasons("Thin 5W-30", "Thick 15W-40", [Band("Thick 15W-40", -15, 40)], 25, [], [])
    [Fact(kind='not_among', numbers={}, keys={'oil': 'Thin 5W-30', 'oils': ('Thick 15W-40',)}, parts=())]
    """
    out = []
    mine = [b for b in bands if b.oil == oil]
    if bands and not mine and oil != usual:
        out.append(told("not_among", oil=oil, oils=tuple(dict.fromkeys(b.oil for b in bands))))
    elif not bands and usual and oil != usual:
        out.append(told("not_usual", oil=oil, usual=usual))
    elif mine and ambient_c is not None and not any(b.covers(ambient_c) for b in mine):
        out.append(told("outside", *(b.fact() for b in mine), oil=oil, ambient=ambient_c))
    have = {h.casefold() for h in held}
    lacking = [r for r in required if r.casefold() not in have]
    if lacking:
        out.append(told("not_held", *(told("approval", approval=name) for name in lacking), oil=oil))
    return out
