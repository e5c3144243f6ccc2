"""Oil that was refreshed within its charge is reckoned as it ages without that, unless the policy says that it goes on."""

from dataclasses import replace

import numpy as np
import pytest
from test_intervals_hold import answer, history

from vornet.core.charges import cut
from vornet.core.decision import Policy
from vornet.core.history import Fillings
from vornet.core.oil_properties import PROPERTIES
from vornet.core.paths import refreshed

BN = next(i for i, p in enumerate(PROPERTIES) if p.key == "bn")


def with_part_changes(h, at=400.0, out_l=30.0, system=60.0):
    """The same engine, half of whose oil was renewed at ``at`` hours of every charge; its bottles show the fresher oil, linear ageing."""
    fills = h.drains.total
    k = len(fills)
    fillings = Fillings(np.zeros(k, dtype=int), h.drains.day + 1, fills + at, np.full(k, out_l), np.full(k, out_l), np.ones(k, dtype=bool))
    comps = replace(h.compartments, system_l=np.array([system]))
    plain = replace(h, compartments=comps)
    charges = cut(plain)
    new = plain.oils.new[plain.compartments.oil[0]]
    values = plain.samples.values.copy()
    phi = 1 - out_l / system
    for i in range(len(values)):
        hours = charges.oil_hours[i]
        if hours > at:
            aged = values[i] - new  # as much as it had aged by ``hours``, evenly
            values[i] = new + aged * (phi * at + hours - at) / hours
    return replace(plain, fillings=fillings, samples=replace(plain.samples, values=values)), plain


def test_ageing_is_reckoned_without_part_changes_unless_they_go_on():
    """30 of 60 L at 400 h of each charge of 500: safe hours went from 678 to 917."""
    changed, plain = with_part_changes(history())
    usual, reckoned = answer(plain), answer(changed)
    goes_on = answer(changed, policy=replace(Policy(), part_changes="go_on"))
    assert reckoned.safe == pytest.approx(usual.safe, rel=0.05)
    assert goes_on.safe > 1.2 * usual.safe


def test_what_is_left_of_a_charge_after_its_part_changes():
    """Half renewed at 400 h: at 500 h a linear property shows 0.5 × 400 + 100 of its hours, a quarter after another half at 450 h."""
    changed, _ = with_part_changes(history())
    charges = cut(changed)
    part = refreshed(changed, charges, np.array([500.0]), np.array([True]))
    assert len(part.rows) and np.allclose(part.kept, 0.5)
    hours = charges.oil_hours[part.rows]
    assert np.allclose(part.aged[:, 0], (0.5 * 400 + hours - 400) / 500)
    assert not len(refreshed(changed, charges, np.array([500.0]), np.array([False])).rows)
