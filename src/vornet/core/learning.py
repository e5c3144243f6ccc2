"""What the workshop found says of the signs: how strongly each should speak in a family, moved slowly and only by a person.

Every cause scores by its main signs, by what supports it and by what speaks against it (``diagnose``). Of each of these the
findings of a family tell how often the cause was right where the sign was there. That share, drawn towards what is taken
to be usual (a beta prior, Gelman et al., Bayesian Data Analysis, ch. 2), gives a factor on the sign's weight. A step at a time,
never beyond its bounds; what it would have changed is shown before anybody signs.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from vornet.core.causes import CAUSES, Sign
from vornet.core.diagnose import POSSIBLE, PROBABLE, STRENGTHS, STRONG, Diagnosis
from vornet.core.fact import Fact, told
from vornet.core.history import History

#: a finding is about samples of the half year before it
ABOUT_DAYS = 183
#: a sign is there from this degree on
THERE = 0.5
#: how often a cause is taken to be right where a sign of it is there, and how many findings that belief counts as
USUALLY_RIGHT, BELIEF = 0.6, 8.0
#: findings before anything is proposed, and the least change worth a signature
FEWEST, LEAST_CHANGE = 3, 0.03
#: bounds of a factor, and how far it moves at one signature
LEAST, MOST, STEP = 0.5, 1.4, 0.1
#: the main signs of a cause, as one
MAIN = "main"


@dataclass(frozen=True)
class Case:
    """A finding beside what had been held: ``family``, the ``cause`` found, and per cause the signs that were there."""

    finding: int
    family: int
    cause: str
    there: dict[str, frozenset[str]]


@dataclass(frozen=True)
class Suggestion:
    """``now`` and ``proposed`` factor of a sign's weight; in ``n`` findings it was there, in ``right`` of them the cause was
    found. ``role`` main, supports or against; ``findings`` their numbers."""

    cause: str
    role: str
    sign: str
    n: int
    right: int
    now: float
    proposed: float
    findings: tuple[int, ...]


def name_of(sign: Sign) -> str:
    """A sign's name in what is kept: its kind and what it looks at.

    >>> from vornet.core.causes import up
    >>> name_of(up("pb", "sn"))
    'up pb sn'
    """
    return " ".join((sign.kind, *sign.keys))


def sign_of(name: str) -> Fact:
    """What a sign's kept name looks at, to be said to people."""
    if name == MAIN:
        return told("main_signs")
    kind, *keys = name.split(" ")
    if kind == "fact":
        return told("seen_sign", seen=keys[0])
    if kind == "ratio":
        return told("sign_ratio", over=keys[0], under=keys[-1])
    return told(f"sign_{kind}", of=tuple(keys))


def key_of(cause: str, sign: str) -> str:
    return f"{cause}|{sign}"


def roles() -> dict[str, str]:
    """What every factor acts on: key → main, supports or against."""
    out = {}
    for cause in CAUSES:
        out[key_of(cause.key, MAIN)] = MAIN
        for role, group in (("supports", cause.supports), ("against", cause.against)):
            for sign, _ in group:
                out[key_of(cause.key, name_of(sign))] = role
    return out


def cases(history: History, found: Diagnosis, findings: Sequence[tuple[int, int, int, str]], about: int = ABOUT_DAYS) -> list[Case]:
    """Findings beside the samples before them. ``findings``: (number, compartment, day, cause)."""
    samples, out = history.samples, []
    for number, comp, day, cause in findings:
        window = np.flatnonzero((samples.comp == comp) & samples.usable & (samples.day <= day) & (samples.day > day - about))
        there: dict[str, frozenset[str]] = {}
        for k, c in enumerate(CAUSES):
            if not len(window):
                break
            at = int(window[np.argmax(found.score[window, k])])
            if c.key != cause and found.strength[window, k].max() < POSSIBLE:
                continue
            signs = {name_of(s) for s, _ in (*c.supports, *c.against) if found.signs[s][at] >= THERE}
            there[c.key] = frozenset(signs | ({MAIN} if found.main[at, k] >= THERE else set()))
        out.append(Case(number, int(history.compartments.family[comp]), cause, there))
    return out


def suggest(known: Sequence[Case], family: int, in_force: Mapping[str, float]) -> list[Suggestion]:
    """What the findings of a family say of its signs, largest change first."""
    seen: dict[str, list[Case]] = defaultdict(list)
    for case in known:
        if case.family == family and case.cause != "other":  # something else was found: nothing is said of these causes
            for cause, signs in case.there.items():
                for sign in signs:
                    seen[key_of(cause, sign)].append(case)
    out = []
    for key, role in roles().items():
        mine = seen.get(key, [])
        if len(mine) < FEWEST:
            continue
        cause, sign = key.split("|", 1)
        right = sum(c.cause == cause for c in mine)
        q = (right + BELIEF * USUALLY_RIGHT) / (len(mine) + BELIEF)
        target = (1 - q) / (1 - USUALLY_RIGHT) if role == "against" else q / USUALLY_RIGHT
        now = in_force.get(key, 1.0)
        wanted = min(max(target, LEAST), MOST)
        proposed = round(min(max(wanted, now - STEP), now + STEP), 2)
        if abs(proposed - now) >= LEAST_CHANGE:
            out.append(Suggestion(cause, role, sign, len(mine), right, now, proposed, tuple(c.finding for c in mine)))
    return sorted(out, key=lambda s: (-abs(s.proposed - s.now), -s.n, s.cause, s.sign))


@dataclass(frozen=True)
class Confirmed:
    """Of ``n`` calls of a ``strength`` that the workshop looked into, ``right`` were confirmed: their share with its 95 %
    interval; ``unlooked`` calls nobody looked into."""

    strength: str
    n: int
    right: int
    low: float
    high: float
    unlooked: int

    @property
    def share(self) -> float | None:
        return self.right / self.n if self.n else None


def interval_of(right: int, n: int) -> tuple[float, float]:
    """95 % interval of a share (Clopper & Pearson 1934); of nothing 0 to 1."""
    from scipy import special

    low = float(special.betaincinv(right, n - right + 1, 0.025)) if right else 0.0
    high = float(special.betaincinv(right + 1, n - right, 0.975)) if right < n else 1.0
    return low, high


def confirmed(history: History, found: Diagnosis, findings: Sequence[tuple[int, int, int, str]], about: int = ABOUT_DAYS) -> list[Confirmed]:
    """Of the causes called probable and strong, how many the workshop confirmed.

    The samples before one finding are one question asked several times: a cause counts once a finding, by the strongest it
    was called then. Calls with no finding in the ``about`` days after them were not looked into.
    """
    samples = history.samples
    looked = np.zeros(len(samples.comp), dtype=bool)
    counts = {PROBABLE: [0, 0], STRONG: [0, 0]}
    for _, comp, day, cause in findings:
        window = (samples.comp == comp) & samples.usable & (samples.day <= day) & (samples.day > day - about)
        looked |= window
        if cause == "other" or not window.any():
            continue
        strongest = found.strength[window].max(axis=0)
        for k, c in enumerate(CAUSES):
            if strongest[k] >= PROBABLE:
                counts[int(strongest[k])][0] += 1
                counts[int(strongest[k])][1] += c.key == cause
    out = []
    for strength, (n, right) in counts.items():
        rest = int(((found.strength == strength).any(axis=1) & samples.usable & ~looked).sum())
        out.append(Confirmed(STRENGTHS[strength], n, right, *interval_of(right, n), rest))
    return out
