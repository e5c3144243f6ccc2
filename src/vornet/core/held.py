"""Whether an interval that was approved has held: by the charges that were run to it, as their last bottles read.

Hours stand for km where a compartment counts distance.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

HELD, EARLY, BACK = "held", "early", "back"
#: charges at the new length that say so
NEEDED = 2
#: a charge was run to an interval from this share of it on; a bottle tells its end from this share of the charge on
RUN_OUT, AT_END = 0.95, 0.85


@dataclass(frozen=True)
class Run:
    """A finished charge since the approval: how long it ran, at what oil hours its last bottle was drawn (None: none), and whether that
    was past the watch limit of a property that decides."""

    ran: float
    drawn_at: float | None
    past: bool


@dataclass(frozen=True)
class Held:
    """``word``: held, early or back; ``full`` charges run to the interval and read at their end, ``past`` of them past watch, ``unread``
    run to it without a bottle at the end; ``back_to`` what to go back to."""

    word: str
    full: int
    past: int
    unread: int
    back_to: float | None = None


def whether(approved: float, before: float | None, safe: float | None, runs: Sequence[Run]) -> Held:
    """Held after two charges at the new length whose ends read well; back as soon as one of the last two does not. To go back to: what
    was run before, or the safe hours of now where they are less; a shorter length than the approved one in any case.

    >>> whether(600, 500, 640, [Run(590, 580, False), Run(610, 600, False)]).word
    'held'
    >>> whether(600, 500, 450, [Run(590, 580, False), Run(610, 600, True)])
    Held(word='back', full=2, past=1, unread=0, back_to=450)
    """
    full = [r for r in runs if r.ran >= RUN_OUT * approved]
    read = [r for r in full if r.drawn_at is not None and r.drawn_at >= AT_END * r.ran]
    past, unread = sum(r.past for r in read), len(full) - len(read)
    if any(r.past for r in read[-NEEDED:]):
        known = [x for x in (before, safe) if x is not None and 0 < x < approved]
        return Held(BACK, len(read), past, unread, min(known) if known else None)
    return Held(HELD if len(read) >= NEEDED else EARLY, len(read), past, unread)
