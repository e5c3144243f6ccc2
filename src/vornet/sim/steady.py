"""Engines that wear as they always have, for counting alarms that mean nothing.

Each compartment has a rate of its own, every charge one that strays from it (shared by all that is sampled in it), every
stretch one that strays from its charge's; the lab adds its scatter. Nothing is ever wrong.
"""

from __future__ import annotations

import numpy as np

from vornet.core.history import Compartments, Drains, Fillings, History, Oils, Samples
from vornet.core.measurands import COUNT, INDEX

INTERVAL, LITRES, DENSITY = 500.0, 40.0, 0.87
#: mg/kg gained over one interval, of the order of a diesel engine's
GAINS = {"fe": 34.0, "cr": 1.8, "al": 6.0, "cu": 8.0, "pb": 5.0, "sn": 1.6, "ni": 0.6}
#: relative, one standard deviation: between compartments, between charges of one, between stretches of one charge
BETWEEN, CHARGE, STRETCH = 0.3, 0.18, 0.12
#: one result: share and floor in mg/kg, of the order a good lab achieves
SHARE, FLOOR = 0.025, 0.3


def history(seed: int, samples_a_charge: int, compartments: int = 60, charges: int = 20, lab_changes: bool = False) -> History:
    """Compartments of one family, sampled so often a charge, the last bottle at the drain.

    ``lab_changes``: half-way through the bottles go to another lab, which leans otherwise.
    """
    rng = np.random.default_rng([seed, samples_a_charge, int(lab_changes)])
    c, k, s = compartments, charges, samples_a_charge
    own = rng.lognormal(0, BETWEEN, (c, 1, 1, len(GAINS)))
    charge = np.maximum(rng.normal(1, CHARGE, (c, k, 1, len(GAINS))), 0.2)
    stretch = np.maximum(rng.normal(1, STRETCH, (c, k, s, len(GAINS))), 0.2)
    true = np.cumsum(own * charge * stretch * np.array(list(GAINS.values())) / s, axis=2)
    read = true + rng.normal(0, 1, true.shape) * np.hypot(SHARE * true, FLOOR)
    second = np.zeros((k, s), dtype=bool)
    if lab_changes:
        second[k // 2 :] = True
        read += second[None, :, :, None] * rng.normal(0, 2.0, (1, 1, 1, len(GAINS))) * np.hypot(SHARE * true, FLOOR)
    part = (np.arange(s) + 1) / s
    start = 3000 + INTERVAL * np.arange(k + 1)
    total = (start[:-1, None] + INTERVAL * part).ravel()
    comp = np.repeat(np.arange(c), k * s)
    total = np.tile(total, c)
    values = np.full((c * k * s, COUNT), np.nan)
    for j, key in enumerate(GAINS):
        values[:, INDEX[key]] = np.round(np.maximum(read[..., j], 0).ravel(), 1)
    day = (730_000 + total // 8).astype(np.int64)
    n, empty = len(comp), np.zeros(0)
    samples = Samples(
        comp, day, total, np.tile(np.tile(INTERVAL * part, k), c), np.zeros(n), np.tile(part == 1, c * k), np.ones(n, dtype=bool), values,
        np.zeros(n, dtype=np.int64), np.zeros(n, dtype=np.int64), None, np.tile(second.ravel().astype(np.int64), c),
    )  # fmt: skip
    dc = np.repeat(np.arange(c), k + 1)
    d_total = np.tile(start, c)
    drains = Drains(dc, (730_000 + d_total // 8).astype(np.int64), d_total, np.full(len(dc), LITRES), np.zeros(len(dc)),
                    np.zeros(len(dc), dtype=int), np.full(len(dc), np.nan))  # fmt: skip
    new = np.zeros((1, COUNT))
    comps = Compartments(
        np.zeros(c, dtype=int), np.zeros(c, dtype=int), np.zeros(c, dtype=int), np.full(c, LITRES), np.full(c, LITRES),
        np.full(c, INTERVAL), np.zeros(c, dtype=bool), np.full(c, np.nan),
    )  # fmt: skip
    fillings = Fillings(empty.astype(int), empty, empty, empty, empty)
    return History(comps, Oils(new, np.full(1, DENSITY)), drains, fillings, samples)
