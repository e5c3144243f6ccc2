"""An extension on trial: bottles along one charge at the new length, what stops it, and when it may be adopted.

Hours stand for km where a compartment counts distance.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from vornet.core.fact import Fact, told
from vornet.core.judge import ACT
from vornet.core.judge import STOP as STOP_NOW

#: bottles of a trial, in shares of its length; what lies beyond the length only within safe hours and every cap; common practice, no source
STEPS = (0.5, 0.75, 1.0, 1.1)
#: a bottle counts for a step that it was drawn so near to, in shares of the length; a step is late when it is passed by so much
NEAR, LATE = 0.12, 0.04
#: a trial begins in the charge that runs while this share of the new length lies ahead: its bottle and the last can still be drawn
BEGINS_BEFORE = 0.75

#: verdicts that stop a trial, as keys
WORDS = {ACT: "act", STOP_NOW: "stop"}
DRAWN, WAITS, AHEAD, LATE_NOW, MISSED = "drawn", "waits", "ahead", "late", "missed"
RUNNING, STOP, RIPE, UNREAD = "running", "stop", "ripe", "unread"


def steps(length: float, today: float | None, reach: float) -> list[float]:
    """Where the bottles of a trial are drawn; none where the length is no extension. ``reach``: the least of safe hours and caps.

    >>> steps(600, 500, 650)
    [300.0, 450.0, 600.0]
    >>> steps(600, 500, 660)
    [300.0, 450.0, 600.0, 660.0]
    """
    return [] if today is not None and length <= today else [round(s * length, 6) for s in STEPS if s <= 1 or s * length <= reach]


@dataclass(frozen=True)
class Bottle:
    """A bottle of the trial's charge: at what oil hours it was drawn, its verdict (None: its result is still to come), and the
    deciding properties whose watch limit it is past."""

    at: float
    verdict: int | None
    past: tuple[str, ...] = ()
    sample_id: int | None = None


@dataclass(frozen=True)
class Step:
    """One bottle that was planned: where, and what became of it (drawn, waits for its result, ahead, late or missed)."""

    at: float
    state: str
    drawn_at: float | None = None
    verdict: int | None = None
    sample_id: int | None = None


@dataclass(frozen=True)
class Progress:
    """``word``: running, stop, ripe (the bottle at the new length was read and is good, and no result is awaited) or unread (the charge
    ended without it); ``stop`` says why; ``next_at`` the bottle to draw next."""

    word: str
    steps: tuple[Step, ...]
    stop: Fact | None = None
    next_at: float | None = None


def progress(
    length: float, planned: Sequence[float], bottles: Sequence[Bottle], on_oil: float | None, ended: bool, safe: float | None,
    faults: Sequence[Fact] = (), meter: str = "h", gone: bool = False, replaced: bool = False,
) -> Progress:  # fmt: skip
    """How far a trial is. ``on_oil``: hours on the trial's charge now, or when it ended; ``safe``: how long that charge may run as its
    bottles say (None: not known, or no limit in reach); ``faults`` open now; ``meter``: h or km; ``gone``:
    the unit is no longer in the fleet; ``replaced``: another length is in force while its charge runs.

    It stops when a bottle is past a limit or its verdict is Act or Stop, when a fault is open, and when the charge's oil would be
    past its safe hours before the next bottle is due.

    >>> progress(600, [300, 450, 600], [Bottle(310, 0), Bottle(455, None)], 470, False, 700).next_at
    600
    """
    nearest: dict[int, Bottle] = {}
    for b in bottles:
        i = min(range(len(planned)), key=lambda k: abs(planned[k] - b.at))
        if abs(planned[i] - b.at) <= NEAR * length and (i not in nearest or abs(planned[i] - b.at) < abs(planned[i] - nearest[i].at)):
            nearest[i] = b
    found = [_step(i, planned, nearest.get(i), max(nearest, default=-1), on_oil, ended, length) for i in range(len(planned))]
    to_draw = None if ended else next((s.at for s in found if s.state in (AHEAD, LATE_NOW)), None)
    stop = told("trial_sold") if gone else told("trial_replaced") if replaced else _stop(bottles, safe, to_draw, faults, meter)
    if stop is not None:
        return Progress(STOP, tuple(found), stop, None)
    whole = next(s for s in found if s.at >= length * 0.9999)
    read = [s for s in found if s.at >= whole.at and s.state == DRAWN]
    if read and all(b.verdict is not None for b in bottles):
        return Progress(RIPE, tuple(found), None, to_draw)
    if ended and not read and not any(s.state == WAITS for s in found if s.at >= whole.at):
        return Progress(UNREAD, tuple(found), told("trial_unread", at=length, meter=meter), None)
    return Progress(RUNNING, tuple(found), None, to_draw)


def _step(i: int, planned: Sequence[float], b: Bottle | None, last: int, on_oil: float | None, ended: bool, length: float) -> Step:
    at = planned[i]
    if b is not None:
        return Step(at, WAITS if b.verdict is None else DRAWN, b.at, b.verdict, b.sample_id)
    if ended or i < last:
        return Step(at, MISSED)
    if on_oil is not None and on_oil > at + LATE * length:
        following = i + 1 < len(planned) and on_oil > planned[i + 1] - NEAR * length
        return Step(at, MISSED if following else LATE_NOW)
    return Step(at, AHEAD)


def _stop(bottles: Sequence[Bottle], safe: float | None, to_draw: float | None, faults: Sequence[Fact], meter: str) -> Fact | None:
    for b in bottles:
        if b.past:
            return told("trial_past", at=b.at, of=b.past, meter=meter)
    for b in bottles:
        if b.verdict is not None and b.verdict >= ACT:
            return told("trial_verdict", at=b.at, verdict=WORDS[b.verdict], meter=meter)
    if faults:
        return told("trial_fault", *faults)
    if safe is not None and to_draw is not None and safe < to_draw:
        return told("trial_forecast", safe=safe, next=to_draw, meter=meter)
    return None
