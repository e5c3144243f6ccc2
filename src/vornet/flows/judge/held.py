"""Whether the approved interval of a compartment has held, and what its charges were like before it and since."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from datetime import date
from typing import Any

import numpy as np

from vornet.core.charges import Charges
from vornet.core.held import Held, Run, whether
from vornet.core.judge import Judgement
from vornet.core.oil_properties import decides
from vornet.flows.judge.fleet_history import Loaded
from vornet.flows.judge.learning import past_limit

#: charges before the approval that are compared with those since
BEFORE = 4


@dataclass(frozen=True)
class Side:
    """Charges on one side of an approval: how many, how long they ran, how much of the safe hours was left at the drain (None: no safe
    hours), and the verdicts of their last bottles (code → how many; −1 none drawn)."""

    charges: int
    ran: float | None
    left: float | None
    verdicts: dict[int, int]


@dataclass(frozen=True)
class Standing:
    """The approved interval in force, what was run before it, whether it has held, and the charges on both sides."""

    version: dict[str, Any]
    before: float | None
    found: Held
    earlier: Side
    since: Side


def since_when(versions: Sequence[dict[str, Any]]) -> tuple[int, int]:
    """(place of the span that the interval in force was approved by, place of the first at this length): the charge of a trial that was
    adopted has run to it already, whatever stood between its drain and the adoption.

    >>> since_when([{"origin": "register", "meter": 500}, {"origin": "trial", "meter": 660}, {"origin": "approved", "meter": 600}])
    (2, 1)
    >>> since_when([{"origin": "register", "meter": 500}, {"origin": "trial", "meter": 660, "trial_state": "adopted"},
    ...             {"origin": "register", "meter": 500}, {"origin": "approved", "meter": 600}])
    (3, 1)
    """
    last = first = len(versions) - 1

    def tried(i: int, adopted: bool) -> bool:
        v = versions[i]
        return bool(i > 0 and v["origin"] == "trial" and v["meter"] >= 0.95 * versions[last]["meter"]
                    and (not adopted or v.get("trial_state") == "adopted"))  # fmt: skip

    while first > 1 and (tried(first - 1, False) or tried(first - 2, True)):
        first -= 1 if tried(first - 1, False) else 2
    return last, first


def standing(
    loaded: Loaded, charges: Charges, judgement: Judgement, stands: np.ndarray, at: int, versions: Sequence[dict[str, Any]],
    safe: float | None, day: int,
) -> Standing | None:  # fmt: skip
    """Whether the approved interval of compartment number ``at`` has held by ``day``; None where none was approved, or it is not in
    force yet. ``stands``: (N,) verdicts that stand; ``safe``: its safe hours now; ``versions`` oldest first."""
    until_now = [v for v in versions if v["effective_from"].toordinal() <= day and v["meter"]]
    if not until_now or until_now[-1]["origin"] != "approved":
        return None
    last, first = since_when(until_now)
    now, before = until_now[last], until_now[first - 1]["meter"] if first else None
    start = until_now[first]["effective_from"].toordinal()
    samples = loaded.history.samples
    deciding = decides(loaded.limits, loaded.history.compartments.limited)[at]
    past = (past_limit(judgement) & deciding).any(axis=1)
    earlier: list[tuple[float, int]] = []
    since: list[tuple[float, int]] = []
    runs: list[Run] = []
    for h in np.flatnonzero((charges.comp == at) & ~np.isnan(charges.end)).tolist():
        ran = float(charges.end[h] - charges.fill[h])
        if not math.isfinite(ran):
            continue
        mine = np.flatnonzero((charges.charge_of == h) & samples.usable & (charges.oil_hours > 0))
        i = int(mine[np.argmax(charges.oil_hours[mine])]) if len(mine) else -1
        verdict = int(stands[i]) if i >= 0 else -1
        if charges.end_day[h] > start:
            since.append((ran, verdict))
            runs.append(Run(ran, float(charges.oil_hours[i]) if i >= 0 else None, bool(i >= 0 and past[i])))
        else:
            earlier.append((ran, verdict))
    return Standing(now, before, whether(now["meter"], before, safe, runs), _side(earlier[-BEFORE:], safe), _side(since, safe))


def _side(rows: list[tuple[float, int]], safe: float | None) -> Side:
    if not rows:
        return Side(0, None, None, {})
    ran = sum(r for r, _ in rows) / len(rows)
    return Side(len(rows), ran, None if safe is None else safe - ran, dict(Counter(v for _, v in rows)))


def plain(found: Standing) -> dict[str, Any]:
    """As it is kept."""
    version = {k: found.version[k] for k in ("meter", "approved_by")} | {"effective_from": found.version["effective_from"].isoformat()}
    return asdict(found) | {"version": version}


def read(kept: dict[str, Any]) -> Standing:
    """The way back."""
    version = kept["version"] | {"effective_from": date.fromisoformat(kept["version"]["effective_from"])}

    def side(s: dict[str, Any]) -> Side:
        return Side(**{**s, "verdicts": {int(code): n for code, n in s["verdicts"].items()}})

    return Standing(version, kept["before"], Held(**kept["found"]), side(kept["earlier"]), side(kept["since"]))


def safe_now(decision: Any) -> float | None:
    """A decision's safe hours: as it is while a fault stands open."""
    get = decision.get if isinstance(decision, dict) else lambda key: getattr(decision, key)
    found = get("safe_as_is") if get("open_faults") and get("safe_as_is") is not None else get("safe")
    return None if found is None else float(found)
