"""Bottles that are held until somebody settles them, and what they would say: an alarm does not sleep in one."""

from __future__ import annotations

import numpy as np

from vornet.core.fact import Fact, told
from vornet.core.history import History
from vornet.core.judge import Judgement
from vornet.core.measurands import KEYS

#: so many values are named of a bottle
MOST_NAMED = 4


def held_bottles(history: History, judgement: Judgement, first: int, last: int, window: int) -> tuple[Fact, ...]:
    """What waits to be settled among the samples ``first`` to ``last`` of one compartment and stands against a longer interval, newest
    first: the newest bottle whatever it shows, and any not older than the last ``window`` that count whose values pass an act limit."""
    samples = history.samples
    rows = np.arange(first, last)
    waiting = rows[samples.unsettled[first:last] & ~samples.usable[first:last]]
    if not len(waiting):
        return ()
    counted = rows[samples.usable[first:last]]
    since = counted[-window] if len(counted) >= window else first
    out = []
    for i in waiting[::-1].tolist():
        past = [KEYS[m] for m in np.flatnonzero(judgement.past.act[i]).tolist()]
        if past:
            if i >= since:
                out.append(told("held_act", of=tuple(past[:MOST_NAMED])))
        elif i == last - 1:
            out.append(told("held_newest"))
    return tuple(out)
