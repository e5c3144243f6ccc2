"""The tables behind the picture of an interval: along the hours, the chance of being past a limit and where each property may stand.

One function gives every chance here, in the guards, in the money and in the trial: ``outlook.Standing.chance``. Hours stand for km where
a compartment counts distance.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from vornet.core.oil_properties import EVENTS, PROPERTIES, SIGNS
from vornet.core.outlook import Standing, any_chance
from vornet.core.reckoning import Reckoning

#: lengths in a table; between two of them the page draws a straight line
POINTS = 241
#: a cone is worked at every fifth of them, and drawn straight between
COARSE = 5
#: edges of a cone: nine charges of ten lie between them
LOW, HIGH = 0.05, 0.95


@dataclass(frozen=True)
class PropertyAlong:
    """One property along the hours (T,): its value's ``low``, ``middle`` and ``high`` at the end of a standing interval of each length,
    and the ``chance`` that it is past the policy's limit. ``past``: what finished charges were measured at, (charge, oil hours, value)."""

    key: str
    name: str
    unit: str
    side: str
    new_oil: float
    watch: float | None
    act: float | None
    low: np.ndarray
    middle: np.ndarray
    high: np.ndarray
    chance: np.ndarray
    past: tuple[tuple[int, float, float], ...]


@dataclass(frozen=True)
class Along:
    """What the picture of one compartment stands on. ``hours`` (T,) from 0; ``any_past`` the chance that some property is past the
    policy's limit, ``any_act`` past its act limit, ``as_is`` the former with charges that an open fault moved counted too (None: none
    was); ``properties`` the limiting one first."""

    hours: np.ndarray
    any_past: np.ndarray
    any_act: np.ndarray
    as_is: np.ndarray | None
    properties: tuple[PropertyAlong, ...]

    def chance(self, hours: float) -> float:
        """As the page reads it off its table: a straight line between two lengths."""
        return float(np.interp(hours, self.hours, self.any_past))


def _together(standing: Standing, event: np.ndarray, hours: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(each property's chance (G, T), any property's (T,)) at the end of charges of each length; nothing has happened at 0."""
    count, steps = len(event), len(hours) - 1
    alone = np.zeros((count, steps + 1))
    alone[:, 1:] = standing.of(np.repeat(np.arange(count), steps)).chance(np.tile(hours[1:], count)).reshape(count, steps)
    # every length is a compartment of its own to the function that puts properties together
    return alone, any_chance(alone.ravel(), np.tile(np.arange(steps + 1), count), np.repeat(event, steps + 1), steps + 1)


def along(r: Reckoning, to_h: float, confidence: float) -> Along:
    """The tables of one compartment from 0 to ``to_h``; ``confidence`` says which property limits."""
    hours = np.linspace(0, to_h, POINTS)
    event = EVENTS[r.at]
    alone, any_past = _together(r.clean, event, hours)
    _, any_act = _together(r.to_act, event, hours)
    as_is = None if r.as_is is None else _together(r.as_is, EVENTS[r.as_is_at], hours)[1]
    count = len(r.at)
    coarse = hours[COARSE::COARSE]
    many = r.clean.of(np.repeat(np.arange(count), len(coarse)))
    edges = {q: many.rise(np.tile(coarse, count), q).reshape(count, -1) for q in (LOW, 0.5, HIGH)}
    out = []
    for row, j in enumerate(r.at.tolist()):

        def value(q: float, row: int = row, j: int = j) -> np.ndarray:
            return np.asarray(r.fresh[j] + SIGNS[j] * np.interp(hours, np.r_[0.0, coarse], np.r_[0.0, edges[q][row]]))

        low, high = (LOW, HIGH) if SIGNS[j] > 0 else (HIGH, LOW)
        past = tuple((int(n), float(h), float(x)) for _, n, h, x in r.points[r.points[:, 0] == j].tolist())
        prop = PROPERTIES[j]
        out.append(PropertyAlong(
            prop.key, prop.name, prop.unit, prop.side, float(r.fresh[j]), _known(r.watch_limit[j]), _known(r.act_limit[j]),
            value(low), value(0.5), value(high), alone[row], past,
        ))  # fmt: skip
    order = np.argsort([_reach(a.chance, hours, 1 - confidence) for a in out], kind="stable")
    return Along(hours, any_past, any_act, as_is, tuple(out[i] for i in order.tolist()))


def _known(x: float) -> float | None:
    return float(x) if math.isfinite(x) else None


def _reach(chance: np.ndarray, hours: np.ndarray, target: float) -> float:
    """The length at which a chance first reaches the target; beyond the table by how far it still is."""
    past = np.flatnonzero(chance >= target)
    return float(hours[past[0]]) if len(past) else float(hours[-1] * (2 - chance[-1]))
