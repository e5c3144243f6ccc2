"""Moving the interval: safe hours per deciding property and of all of them, guards, and an outcome with its reasons.

Follow one compartment: charges of the oil in use → rises through their own starts (``paths``) → what the next charge may do
(``outlook``) → safe hours of a standing interval, where the chance that any property is past its limit reaches 1 − p → guards
(``guards``) → Lengthen, Hold, Shorten or Not enough evidence. Hours stand for km where a compartment counts distance.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from vornet.core import reckoning
from vornet.core.answers import Answers, last_charges, packed_slopes, schools, statistical
from vornet.core.charges import Charges
from vornet.core.decision import (
    ANSWERED,
    Decision,
    Policy,
    Terms,
)
from vornet.core.decision_case import Case
from vornet.core.faults import open_faults
from vornet.core.held_bottles import held_bottles
from vornet.core.history import History, offsets, sums
from vornet.core.judge import RUN_ON, Judgement
from vornet.core.limits import LimitTable
from vornet.core.oil_properties import PROPERTY_COUNT, decides
from vornet.core.outcome import outcome
from vornet.core.paths import (
    new_oil_of,
)
from vornet.core.policy import each
from vornet.core.safe_by import SafeBy, prepared, safe_by


def decide(
    history: History,
    charges: Charges,
    judgement: Judgement,
    table: LimitTable,
    policy: Policy | Sequence[Policy],
    terms: list[Terms],
    verdicts: np.ndarray | None = None,
    signed: np.ndarray | None = None,
    only: Sequence[int] | None = None,
    oil_names: Sequence[str] | None = None,
) -> list[Decision]:
    """A decision for every compartment of the history, or for ``only`` those, in their order.

    ``verdicts``: (N,) codes that stand (signed, else proposed); defaults to the proposals. ``signed`` (N,), bool: which of
    them a person has signed; none unless given. ``oil_names`` for what is said about oils. ``policy``: one for all, or one a compartment.
    """
    comps, samples = history.compartments, history.samples
    count = len(comps.duty)
    policies = each(policy, count)
    p = prepared(history, charges, judgement, table, policies)
    sure = np.array([x.confidence for x in policies])
    now, read, running, oil, evidence, moved, fresh, limit, ref, path, share, ground = p
    wanted = np.zeros(count, dtype=bool)
    wanted[list(range(count) if only is None else only)] = True
    clean = safe_by(ground, path, now, evidence[:, None] & ~moved, wanted, sure)
    touched = np.zeros(count, dtype=bool)
    touched[charges.comp[(moved & evidence[:, None] & ~np.isnan(path.rise[:, :, 0])).any(axis=1)]] = True
    as_is = safe_by(ground, path, now, np.repeat(evidence[:, None], PROPERTY_COUNT, 1), wanted & touched, sure) if (
        wanted & touched).any() else None  # fmt: skip

    deciding = decides(table, comps.limited)
    measured = sums(read.counts, samples.comp, count)
    used = evidence[:, None] & ~moved & ~np.isnan(path.rise[:, :, 0])
    bounded, own = sums(used & path.bounded, charges.comp, count), sums(used, charges.comp, count)
    faults = open_faults(history, charges, judgement)
    stands = judgement.proposed if verdicts is None else verdicts
    start = offsets(samples.comp, count)
    stat = statistical(history, read, judgement, new_oil_of(history, charges.oil[charges.charge_of]).value)
    packed = packed_slopes(path, charges, moved, evidence, deciding, ref)
    answers_of = Answers(clean, as_is, ground, fresh, limit, path, deciding, measured, own, bounded, touched)
    last_of = last_charges(charges, path, evidence)
    out, kept = [], []
    mine = range(count) if only is None else only
    to_act = reckoning.ground(history, p, table)
    for c, reckoned in zip(mine, reckoning.each(history, charges, p, to_act, clean, as_is, touched, mine), strict=True):
        policy = policies[c]
        rows = slice(start[c], start[c + 1])
        answers = answers_of.of(c)
        counted = samples.usable[rows] & (stands[rows] >= 0)
        weak = samples.settled[rows] & (stands[rows] == RUN_ON)  # clean, but what sinks was not in the bottle
        firm = counted & ~weak
        interval = float(comps.interval[c])
        deepest = [a.deepest for a in answers if a.state == ANSWERED and a.deepest is not None]
        at = int(running[c])
        joint_as_is = float(as_is.joint[c]) if as_is is not None and touched[c] else float(clean.joint[c])
        run_as_is = float(as_is.running_joint[c]) if as_is is not None and touched[c] else float(clean.running_joint[c])
        case = Case(
            distance=bool(comps.distance[c]), current=None if math.isnan(interval) else interval, answers=answers, policy=policy,
            terms=terms[c], verdicts=stands[rows][firm], unsigned=0 if signed is None else
            int((~signed[rows][firm])[-policy.run_on_needed :].sum()), passed_over=int((counted & weak)[-policy.run_on_needed :].sum()),
            joint=float(clean.joint[c]), mild=float(clean.mild[c]), joint_as_is=joint_as_is,
            running=float(clean.running_joint[c]), running_as_is=run_as_is,
            longest=min(deepest) if deepest else None, faults=tuple(f.fact for f in faults[c]),
            open_keys=tuple(dict.fromkeys(k for f in faults[c] for k in f.keys)),
            schools=schools(c, policy, terms[c], path, last_of[c], limit, stat, answers, ref, bool(comps.distance[c])),
            share=float(share[c]), slopes=packed[c],
            held=held_bottles(history, judgement, start[c], start[c + 1], policy.run_on_needed),
            oil=oil_names[oil[c]] if oil_names is not None and oil[c] < len(oil_names) else "", on_oil=float(samples_on(charges, at)),
        )  # fmt: skip
        out.append(outcome(case, clean.outlook, clean.at[c], ground.margin[c], float(ref[c])))
        kept.append(b"" if reckoned is None else reckoning.packed(reckoned))
    lengths = [d.current for d in out], [d.proposed for d in out]
    acts = zip(*(_act_chances(to_act, clean, mine, x) for x in lengths), strict=True)
    return [replace(d, act_now=now_, act_proposed=then, reckoning=packed_) for d, (now_, then), packed_ in zip(out, acts, kept, strict=True)]


def _act_chances(to_act: reckoning.Ground, clean: SafeBy, mine: Sequence[int], lengths: list[float | None]) -> list[float | None]:
    """Of each compartment of ``mine``: the chance of being past an act limit at the end of charges of its length; None not told."""
    hours = np.full(len(clean.at), np.nan)
    hours[list(mine)] = [math.nan if x is None else x for x in lengths]
    return [None if math.isnan(x) else x for x in reckoning.act_chances(to_act, clean, hours)[list(mine)].tolist()]


def samples_on(charges: Charges, running: int) -> float:
    """Oil hours of the latest sample of the running charge; 0 none."""
    mine = charges.oil_hours[charges.charge_of == running]
    return float(np.nanmax(mine)) if len(mine) and not np.isnan(mine).all() else 0.0
