"""Faults that stand open in a compartment, and what closes them.

A drain hides a fault, it does not mend it. What accumulates (metals, dirt, salts) is closed by its rate: a later sample whose
rise per hour is back at the usual, and which would have shown the old one. What comes and goes (water, fuel, particles) is
closed by a clear level at half the oil hours at which it was seen, or more. Neither closes while a cause still names it, and
what sinks is not shown clear by a sample from oil that had stood.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from vornet.core.causes import CAUSES, Sign
from vornet.core.charges import Charges
from vornet.core.departures import AT, Departures
from vornet.core.diagnose import POSSIBLE, PROBABLE, STRENGTHS
from vornet.core.fact import Fact, told
from vornet.core.history import History, offsets
from vornet.core.judge import Judgement
from vornet.core.measurands import BY_KEY, CONDITIONS, INDEX, SETTLING, WEAR_METALS

#: share of the oil hours at which a level was seen high from which a clear one counts; common practice, no source
HALF = 0.5
#: what accumulates is not shown over by a bottle drawn before this share of those oil hours; common practice, no source
EARLIEST = 0.25
#: back at the usual: within so many standard deviations of it, in a sample that would have shown the old rise by as many
BACK_SD = 2.0
#: what adds up in the oil, so that its rise per hour tells, not its level
ACCUMULATES = frozenset({*WEAR_METALS, "ag", "si", "na", "k", "v"})


@dataclass(frozen=True)
class Open:
    """A fault that stands open, and the measurands it shows in."""

    fact: Fact
    keys: tuple[str, ...]


@dataclass
class _Seen:
    """When a fault was last seen: ``hours`` on the oil, ``rise`` per hour above usual by measurand; NaN not told, 0 where it was
    the usual one, and only the level had grown with the hours."""

    hours: float
    fact: Fact
    keys: tuple[str, ...]
    rise: dict[str, float]


def _shown_in(signs: tuple[Sign, ...]) -> tuple[str, ...]:
    """Measurands that signs look for a rise of."""
    out: list[str] = []
    for sign in signs:
        if sign.parts:
            out += _shown_in(sign.parts)
        elif sign.kind in ("up", "trace"):
            out += sign.keys
    return tuple(dict.fromkeys(k for k in out if k in AT))


#: measurands that a cause's main signs look for, which it names while it holds
NAMED_BY: dict[str, tuple[str, ...]] = {c.key: _shown_in(c.main) for c in CAUSES}


def _rise(d: Departures, i: int, key: str) -> tuple[float, float]:
    """(rise per hour above usual, its standard deviation) of the stretch that ends in sample ``i``; NaN where not told."""
    at = AT[key]
    return float(d.moved[i, at] - d.usual[i, at]), float(d.sd[i, at])


def _back(d: Departures, i: int, key: str, before: float, value: float, hours: float) -> bool:
    """Is the rise of ``key`` back at the usual, in a sample that would have shown the ``before`` one?"""
    over, sd = _rise(d, i, key)
    if before == 0.0:
        return math.isnan(over) or over <= BACK_SD * sd
    if math.isnan(over):  # no usual to lay it beside: at most half of the rise there was
        return hours > 0 and before > 0 and value / hours <= 0.5 * before
    return over <= BACK_SD * sd and (math.isnan(before) or before - max(over, 0.0) > BACK_SD * sd)


def open_faults(history: History, charges: Charges, judgement: Judgement) -> list[list[Open]]:
    """Contamination and abnormal wear still open, per compartment."""
    samples, d = history.samples, judgement.diagnosis.departures
    at = [INDEX[k] for k in CONDITIONS]
    past = judgement.past.watch[:, at] & samples.usable[:, None]
    wear = np.array([BY_KEY[k].group == "wear" or k == "si" for k in CONDITIONS])
    past &= ~(judgement.break_in[:, None] & wear)
    shift = (judgement.shift.real | judgement.bend.real) & samples.usable[:, None]
    magnet = (judgement.magnet >= 3) & ~judgement.break_in
    out: list[list[Open]] = [[] for _ in history.compartments.duty]
    start = offsets(samples.comp, len(out))
    faults = [k for k, cause in enumerate(CAUSES) if cause.grave != "note" or cause.stands_open]
    strength = judgement.diagnosis.strength
    held = strength[:, faults] >= PROBABLE
    marked = np.unique(samples.comp[past.any(axis=1) | shift.any(axis=1) | magnet | held.any(axis=1)])
    for c in marked:
        seen: dict[str, _Seen] = {}
        for i in range(start[c], start[c + 1]):
            if not samples.usable[i]:
                continue
            hours, stood = float(np.nan_to_num(charges.oil_hours[i])), bool(samples.settled[i])
            named = {key for k in faults if strength[i, k] >= POSSIBLE for key in NAMED_BY[CAUSES[k].key]}

            def closes(key: str, was: _Seen, i: int = i, hours: float = hours, stood: bool = stood, named: set[str] = named) -> bool:
                """Does sample ``i`` show that ``key`` is over?"""
                value = float(samples.values[i, INDEX[key]])
                if math.isnan(value) or key in named or (stood and key in SETTLING):
                    return False
                if key in ACCUMULATES:
                    return hours >= EARLIEST * was.hours and _back(d, i, key, was.rise.get(key, math.nan), value, hours)
                return hours >= HALF * was.hours

            def now(fact: Fact, keys: tuple[str, ...], i: int = i, hours: float = hours) -> _Seen:
                rise = {}
                for key in keys:
                    over, sd = _rise(d, i, key) if key in AT else (math.nan, math.nan)
                    level = float(samples.values[i, INDEX[key]])
                    if math.isnan(over):
                        rise[key] = level / hours if hours > 0 else math.nan
                    else:
                        rise[key] = over if over > BACK_SD * sd else 0.0
                return _Seen(hours, fact, keys, rise)

            for k, key in enumerate(CONDITIONS):
                value = samples.values[i, at[k]]
                if past[i, k]:
                    limit = judgement.past.limits["high"][0][i, at[k]]
                    found = now(told("open_level", of=key, value=value, limit=limit), (key,))
                    # carried into the next charge, or still rising: the steepest rise is what must be gone
                    if key in seen and not math.isnan(seen[key].rise[key]):
                        found.rise[key] = max(seen[key].rise[key], np.nan_to_num(found.rise[key]))
                    seen[key] = found
                elif key in seen and closes(key, seen[key]):
                    del seen[key]
            for k, key in enumerate(WEAR_METALS):
                if shift[i, k]:
                    seen["rate " + key] = now(told("open_rate", of=key), (key,))
                elif "rate " + key in seen and closes(key, seen["rate " + key]):
                    del seen["rate " + key]
            for k, at_cause in enumerate(faults):
                cause = CAUSES[at_cause]
                keys = NAMED_BY[cause.key]
                if held[i, k]:
                    seen[cause.key] = now(told("open_cause", cause=cause.key, strength=STRENGTHS[int(strength[i, at_cause])]), keys)
                elif cause.key in seen and not strength[i, at_cause] and not stood:
                    was = seen[cause.key]
                    adds_up = [key for key in keys if key in ACCUMULATES and not np.isnan(samples.values[i, INDEX[key]])]
                    if all(closes(key, was) for key in adds_up) if adds_up else hours >= HALF * was.hours:
                        del seen[cause.key]
            if magnet[i]:
                seen["magnet"] = _Seen(hours, told("open_magnet", grade=judgement.magnet[i]), ("fe",), {})
            elif judgement.magnet[i] < 3:
                seen.pop("magnet", None)
        # what is wrong by its name first, then what shows it
        named_first = sorted(seen.items(), key=lambda item: (item[0] not in NAMED_BY, item[0].startswith("rate ")))
        out[c] = [Open(s.fact, s.keys) for _, s in named_first]
    return out
