"""What people see at a drain and notice between drains, as signs of what is wrong, and as evidence about the job before.

Which word is a sign of what is common practice of the trade, no source. ``causes`` says how much each sign weighs.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Any

import numpy as np

#: (what is looked at, what is said of it) → sign, at a drain
AT_DRAIN: dict[tuple[str, str], str] = {
    ("oil_looks", "milky"): "oil_milky", ("oil_looks", "fuel"): "oil_fuel", ("oil_looks", "grit"): "oil_grit",
    ("oil_looks", "glitter"): "oil_glitter", ("oil_looks", "coolant"): "oil_coolant", ("filter_looks", "metal"): "filter_metal",
    ("filter_looks", "sludge"): "sludge", ("filter_looks", "collapsed"): "filter_collapsed", ("strainer_look", "sludge"): "sludge",
    ("strainer_look", "chunks"): "strainer_chunks", ("as_found", "leak"): "leaked", ("as_found", "loose_filter"): "leaked",
    ("as_found", "loose_clamp"): "intake_loose", ("filter_looks", "seal_left"): "leaked",
}  # fmt: skip
#: what operators notice → sign
NOTICED: dict[str, str] = {
    "noise": "noise", "hard shifting": "hard_shifting", "hard starting": "hard_starting", "lamp": "lamp", "smell": "smell",
    "smoke": "smoke", "leak under it": "leaked", "low power": "low_power",
}  # fmt: skip
#: (type of a service item's reading, what was read) → sign
READ: dict[tuple[str, str], str] = {
    ("coolant_level", "low"): "coolant_low", ("coolant_level", "empty"): "coolant_low",
    ("plug_look", "one darker than the others"): "plug_dark", ("plug_look", "oily"): "plug_dark", ("plug_look", "sooty"): "plug_dark",
    ("hose_look", "weeping"): "hose_weeps",
}  # fmt: skip
#: how much an air filter's look speaks for dirt past it
AIR_FILTER = {"dusty": 0.6, "blocked": 1.0, "leaking": 1.0}
#: an element blown out once may be sound; after three times none is
BLOWN_OUT_MOST = 3
#: what was found at the last drain still speaks this much while the next charge runs: it did not come from nowhere
STILL_SPEAKS = 0.5
#: signs of which that is so
LASTING = ("filter_metal", "oil_glitter", "strainer_chunks", "filter_collapsed", "oil_grit")
#: days for which a symptom, a low coolant level or a plug's look speaks
NOTICED_DAYS = 90
SIGNS: tuple[str, ...] = (
    "air_filter", "air_blown", "repair", *dict.fromkeys([*AT_DRAIN.values(), *NOTICED.values(), *READ.values()]),
)  # fmt: skip
#: seen with the eye, too coarse for what the lab burns: it is not to run on unwatched, whatever the values say
COARSE = ("oil_glitter", "filter_metal", "oil_grit", "strainer_chunks", "filter_collapsed")
WATER = ("oil_milky", "oil_coolant")
#: of these, what asks for more than to be watched
GRAVE = ("strainer_chunks", "oil_coolant")
#: metal, which is usual while a thing runs in
METAL = ("oil_glitter", "filter_metal", "strainer_chunks")


@dataclass(frozen=True)
class Seen:
    """How much each of SIGNS was seen, per sample: 0 to 1, shape (n,); what nobody saw is left out of ``degrees``. ``here``: as
    ``degrees``, but only of the drain that the sample was drawn at."""

    n: int
    degrees: Mapping[str, np.ndarray] = field(default_factory=dict)
    here: Mapping[str, np.ndarray] = field(default_factory=dict)

    def of(self, sign: str) -> np.ndarray:
        return self.degrees.get(sign, np.zeros(self.n))

    def at_drain(self, sign: str) -> np.ndarray:
        return self.here.get(sign, np.zeros(self.n))

    def rows(self, keep: np.ndarray) -> Seen:
        """The same of some samples, ``keep`` (n,) a mask."""
        return Seen(int(keep.sum()), {k: x[keep] for k, x in self.degrees.items()}, {k: x[keep] for k, x in self.here.items()})


def nothing_seen(n: int) -> Seen:
    return Seen(n)


def _each(what: Any) -> list[str]:
    return [x for x in what if isinstance(x, str)] if isinstance(what, list | tuple) else [what] if isinstance(what, str) else []


def signs_at_drain(air_filter: str | None, facts: Mapping[str, Any]) -> dict[str, float]:
    """What a drain's record shows, by sign, 0 to 1.

    >>> signs_at_drain("dusty", {"oil_looks": ["milky", "glitter"], "strainer_look": "clean"})
    {'air_filter': 0.6, 'oil_milky': 1.0, 'oil_glitter': 1.0}
    """
    out: dict[str, float] = {}
    if air_filter in AIR_FILTER:
        out["air_filter"] = AIR_FILTER[air_filter]
    for (field_, word), sign in AT_DRAIN.items():
        if word in _each(facts.get(field_)):
            out[sign] = 1.0
    return out


def signs_read(type_: str, values: Iterable[Any]) -> dict[str, float]:
    """What a service item's readings show, several of one kind (each plug for itself) taken together.

    >>> signs_read("plug_look", ["light tan", "light tan", "sooty", "light tan"])
    {'plug_dark': 1.0}
    """
    if type_ == "air_filter":
        degrees = [AIR_FILTER.get(str(v), 0.0) for v in values]
        return {"air_filter": max(degrees)} if any(degrees) else {}
    return {READ[(type_, str(v))]: 1.0 for v in values if (type_, str(v)) in READ}


def times_blown(actions: Sequence[str | None]) -> int:
    """How often an air filter was blown out since it was new, from what was done to it at each drain, oldest first.

    >>> times_blown(["blown", "replaced", "blown", "left", "blown"])
    2
    """
    count = 0
    for action in actions:
        count = 0 if action == "replaced" else count + (action == "blown")
    return count


def blown_out(actions: Sequence[str | None]) -> float:
    """How much its cleanings speak against an air filter, 0 to 1."""
    return min(times_blown(actions) / BLOWN_OUT_MOST, 1.0)


# ---- what speaks of the job before -----------------------------------------------------------------------------
#: a defect or a symptom this soon after a job is evidence about it; common practice, no source
AFTER_JOB = {"h": 100.0, "km": 4000.0}
AFTER_JOB_DAYS = 30


def speaks_of_job(on: date, meter: float | None, drained_on: date, drained_at: float, unit: str) -> bool:
    """Whether something noticed falls within the first hundred hours (4,000 km) after a drain; without a meter, within thirty days.

    >>> speaks_of_job(date(2026, 3, 9), 5090.0, date(2026, 3, 1), 5000.0, "h")
    True
    >>> speaks_of_job(date(2026, 3, 9), 5190.0, date(2026, 3, 1), 5000.0, "h")
    False
    """
    if on < drained_on:
        return False
    if meter is None or not meter >= drained_at:
        return (on - drained_on).days <= AFTER_JOB_DAYS
    return meter - drained_at <= AFTER_JOB[unit]


#: defects that were left by whoever closed it last
OF_THE_JOB = ("over_tight", "fused_washer", "loose_clamp", "loose_filter", "leak")
SYMPTOMS_OF_A_JOB = ("leak under it", "lamp", "smell", "smoke", "noise", "hard shifting")
