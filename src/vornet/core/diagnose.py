"""Scoring causes: how far each one's signs are there, what supports it and what speaks against it.

A sign has a degree: 0 not there, 1 clear and material, at most 2. A cause's main signs must all be there (the least of
them counts); supporting signs add, contrary ones take away, and a better cause that brings the same signs along takes
away too. Several causes can hold at once.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from vornet.core.causes import CAUSES, Cause, Sign
from vornet.core.charges import Charges
from vornet.core.compare import Past
from vornet.core.departures import AT, AT_CHARGE, BOTH_WAYS, COLUMNS, FOLLOWED, OWN_STRETCHES, RATES, Departures
from vornet.core.fact import Fact, told
from vornet.core.history import History
from vornet.core.limits import DUTIES
from vornet.core.measurands import INDEX
from vornet.core.seen import SIGNS as SEEN_SIGNS
from vornet.core.seen import Seen

NONE, POSSIBLE, PROBABLE, STRONG = 0, 1, 2, 3
STRENGTHS: dict[int, str] = {POSSIBLE: "possible", PROBABLE: "probable", STRONG: "strong"}
#: (least degree of the main signs, least score); tuned on simulated fleets, checked on others
NEEDS: dict[int, tuple[float, float]] = {POSSIBLE: (0.3, 0.45), PROBABLE: (0.60, 0.88), STRONG: (0.9, 1.25)}
#: what a better explanation takes away
EXPLAINED = 0.6
#: a limit passed counts for this degree where no stretch can be told
PAST_ACT, PAST_WATCH = 1.0, 0.6
#: a ratio outside its range by this factor counts for nothing
RATIO_EDGE = 1.5
#: a single sign with less support than this is alone
ALONE_BELOW = 0.1
#: a sign flat below this degree
FLAT_BELOW = 0.5
#: days after a repair during which sealant and stirred-up dirt are to be expected; common practice, no source
REPAIR_DAYS = 60


@dataclass(frozen=True)
class Diagnosis:
    """Shape (N, len(CAUSES)): ``strength`` NONE…STRONG, ``score``, and the degree of the ``main`` signs.

    ``signs`` degrees per sign (N,), by which evidence is given; ``departures`` what they rest on.
    """

    strength: np.ndarray
    score: np.ndarray
    main: np.ndarray
    signs: dict[Sign, np.ndarray]
    departures: Departures

    def best_first(self, i: int) -> list[int]:
        """Causes of sample ``i`` that hold at all, strongest first."""
        some = np.flatnonzero(self.strength[i])
        return [int(k) for k in some[np.lexsort((-self.score[i, some], -self.strength[i, some]))]]


def nothing_found(n: int) -> Diagnosis:
    """No cause looked for."""
    blank = np.full((n, len(FOLLOWED)), np.nan)
    none = np.zeros((n, len(CAUSES)))
    return Diagnosis(none.astype(np.int8), none, none, {}, Departures(*([blank] * 9)))


def oil_use(history: History, charges: Charges) -> np.ndarray:
    """Make-up per hour of each sample's charge so far against the compartment's charges before it: 1 when it is at least
    twice the usual, 0 at the usual; shape (N,)."""
    fillings = history.fillings
    h = len(charges.comp)
    made_up = fillings.in_l - fillings.out_l  # what a part change put back for what it took out was not used
    per_charge = np.bincount(charges.charge_of_filling, made_up, h)
    length = charges.end - charges.fill
    order = np.lexsort((charges.filling_hours, charges.charge_of_filling))
    key = charges.charge_of_filling[order] * 1e7 + np.nan_to_num(charges.filling_hours[order])
    sums = np.r_[0.0, np.cumsum(made_up[order])]
    hours = np.nan_to_num(charges.oil_hours)
    first = np.searchsorted(key, charges.charge_of * 1e7, "left")
    last = np.searchsorted(key, charges.charge_of * 1e7 + hours, "right")
    so_far = sums[np.maximum(last, first)] - sums[first]
    ok = ~np.isnan(length) & (length > 0)
    litres, spans = np.where(ok, per_charge, 0.0), np.where(ok, length, 0.0)

    def before(x: np.ndarray) -> np.ndarray:
        total = np.cumsum(x) - x
        return np.asarray(total - total[charges.first[charges.comp]])

    with np.errstate(invalid="ignore", divide="ignore"):
        usual = before(litres) / before(spans)
        now = so_far / hours
        share = now / usual[charges.charge_of] - 1
    typical = before(spans)[charges.charge_of] / np.maximum(charges.number[charges.charge_of] - 1, 1)
    enough = (before(litres)[charges.charge_of] > 0) & (hours > 0.3 * typical)
    return np.where(enough, np.clip(np.nan_to_num(share), 0, 1), 0.0)


#: degree of a base number past its watch limit, or passed by the acid number: at all (probable), by more than 2 sd (strong)
SPENT, SPENT_CLEARLY = 0.9, 1.3
#: sodium to magnesium in standard sea water, S = 35: 10.77 to 1.29 g/kg
SODIUM_TO_MAGNESIUM = 10.77 / 1.29
#: how much likelier, as a difference of half squares, one source of salt must make the magnesium before it is told
SALT_TOLD = 2.0
#: a fault once named stays named while what shows it is above so many times what is usual in the family
STAYS = 2.0
#: copper that has fallen to this share of what it was at its worst is fading
FADED = 0.8


def _spent(history: History, past: Past) -> np.ndarray:
    """Degree of the additive's being worn out by its level, engines only; (N,)."""
    values = history.samples.values
    bn, an = values[:, INDEX["bn"]], values[:, INDEX["an"]]
    engine = np.array([name.endswith("engine") for name in DUTIES])[history.compartments.duty[history.samples.comp]]
    low = past.limits["low"][0][:, INDEX["bn"]]
    with np.errstate(invalid="ignore"):
        sds = history.precision.columns_sd(np.stack([bn, an], axis=1), ["bn", "an"])
        beyond = np.fmax((low - bn) / sds[:, 0], (an - bn) / np.hypot(sds[:, 0], sds[:, 1]))
        degree = np.where(beyond > 2, SPENT_CLEARLY, np.where((beyond > 0) | past.watch_low[:, INDEX["bn"]], SPENT, 0.0))
    return np.where(engine, degree, 0.0)


def _salt(d: Departures) -> tuple[np.ndarray, np.ndarray]:
    """Degrees (N,) of: the magnesium that came with the sodium is sea water's; and of: it cannot be told.

    Two explanations of the magnesium's excess, sodium's share of it in sea water and none at all, compared by their
    squared distances in standard deviations; sea water is told when it is likelier by SALT_TOLD.
    """
    columns = [AT_CHARGE["na"], AT_CHARGE["mg"]]
    with np.errstate(invalid="ignore", divide="ignore"):
        span = d.excess[:, columns] / (d.moved - d.usual)[:, columns]
    na, mg = d.excess[:, columns[0]], d.excess[:, columns[1]]
    sd_na, sd_mg = (np.abs(d.sd[:, column] * span[:, k]) for k, column in enumerate(columns))
    with np.errstate(invalid="ignore", divide="ignore"):
        sea = na / SODIUM_TO_MAGNESIUM
        far_from_sea = (mg - sea) ** 2 / (sd_mg**2 + (sd_na / SODIUM_TO_MAGNESIUM) ** 2 + (0.25 * sea) ** 2)
        for_sea = 0.5 * (np.maximum(mg, 0.0) ** 2 / sd_mg**2 - far_from_sea)
        told = np.isfinite(for_sea) & (na > 0)
        fits = far_from_sea < 9.0  # much more magnesium than sea water brings is another oil's
        sure = np.clip(for_sea / SALT_TOLD, 0, 2) * fits
        open_ = np.where(np.abs(for_sea) < SALT_TOLD, 2.0, 0.0)
    unknown = np.isnan(mg) & (na > 0)
    return np.where(told, np.nan_to_num(sure), 0.0), np.where(told, np.nan_to_num(open_), np.where(unknown, 2.0, 0.0))


def _fading(history: History, charges: Charges, d: Departures) -> np.ndarray:
    """Whether copper, clearly up in an earlier charge of the compartment, has come down since charge by charge, and stays up:
    what wears does not heal, what leaches fades. (N,), 0 or 1."""
    samples, column = history.samples, AT_CHARGE["cu"]
    out = np.zeros(len(samples.comp))
    excess, z, sd = d.excess[:, column], d.z[:, column], d.sd[:, column]
    with np.errstate(invalid="ignore", divide="ignore"):
        one_sd = np.abs(sd * excess / (d.moved - d.usual)[:, column])
        clear = np.flatnonzero(samples.usable & (z > 3))
    for c in np.unique(samples.comp[clear]):
        rows = np.flatnonzero((samples.comp == c) & samples.usable & np.isfinite(excess))
        worst, last, of_last = 0.0, 0.0, -1
        for i in rows.tolist():
            charge = int(charges.charge_of[i])
            if charge != of_last:
                worst, last, of_last = max(worst, last), 0.0, charge
            if worst > 0 and 0 < excess[i] <= FADED * worst and worst - excess[i] > one_sd[i]:
                out[i] = 1.0
            if z[i] > 3:
                last = float(excess[i])  # the charge's last word, and its surest
            elif excess[i] <= 0:
                worst, last = 0.0, 0.0  # over
    return out


def _facts(history: History, charges: Charges, d: Departures, seen: Seen, past: Past) -> dict[str, np.ndarray]:
    samples, comps = history.samples, history.compartments
    charge = charges.charge_of
    magnet = np.where(samples.drained, charges.magnet[charge], np.nan)
    interval = comps.interval[samples.comp]
    before = np.maximum(charge - 1, 0)
    another = (charges.number[charge] >= 2) & (charges.oil[charge] != charges.oil[before])
    two_before = np.maximum(charge - 2, 0)
    lately = ~another & (charges.number[charge] >= 3) & (charges.oil[before] != charges.oil[two_before])
    bn, an = samples.values[:, INDEX["bn"]], samples.values[:, INDEX["an"]]
    total = charges.fill[charge] - np.nan_to_num(comps.overhaul[samples.comp])
    sea, undecided = _salt(d)
    with np.errstate(invalid="ignore"):
        return {
            **{sign: seen.of(sign) for sign in SEEN_SIGNS},
            "magnet": np.where(magnet >= 3, 1.0, np.where(magnet == 2, 0.3, 0.0)),
            "magnet_clean": (magnet <= 1).astype(float),
            "oil_changed": np.where(another, 1.0, np.where(lately, 0.6, 0.0)),
            "gas": (comps.duty[samples.comp] == DUTIES.index("gas_engine")).astype(float),
            "long_charge": (charges.oil_hours > 1.15 * interval).astype(float),
            "oil_use": oil_use(history, charges) * (1 - seen.of("leaked")),  # what leaks out is not burnt
            "an_past_bn": (an > bn).astype(float),
            "spent": _spent(history, past),
            "break_in": 2.0 * charges.break_in[charge],
            # what a new cooler gives off fades over charges, without a day on which it is over
            "young": 2.0 * np.clip(1.5 - total / (12 * interval), 0, 1) * (total >= 0),
            "fading": 2.0 * _fading(history, charges, d),
            "gears": (comps.duty[samples.comp] == DUTIES.index("gear")).astype(float) * 1.2,
            "sea_salt": sea,
            "salt_undecided": undecided,
        }  # fmt: skip


def _with_limits(degree: np.ndarray, d: Departures, past: Past) -> np.ndarray:
    """Where no stretch can be told, a limit passed speaks for itself."""
    columns = COLUMNS[: len(AT)]
    clear, watch = past.act_clear[:, columns] & past.act_high[:, columns], past.watch_high[:, columns]
    alone = np.isnan(d.z[:, : len(AT)]) & ~np.isnan(past.limits["high"][0][:, columns])
    return np.where(alone, np.maximum(degree, np.where(clear, PAST_ACT, np.where(watch, PAST_WATCH, 0.0))), degree)


def _degree_of(sign: Sign, up: np.ndarray, down: np.ndarray, trace: np.ndarray, d: Departures, facts: dict[str, np.ndarray]) -> np.ndarray:
    alone = np.isnan(d.z)
    if sign.kind == "fact":
        return facts[sign.keys[0]]
    columns = [AT[k] for k in sign.keys]
    if sign.kind == "up":
        return np.asarray(up[:, columns].max(axis=1))
    if sign.kind == "trace":
        return np.asarray(np.where(alone[:, columns], up[:, columns], trace[:, columns]).max(axis=1))
    if sign.kind == "down":
        return np.asarray(down[:, columns].max(axis=1))
    seen = ~np.isnan(d.z[:, columns]).any(axis=1)
    if sign.kind == "flat":
        return np.where(seen, np.clip(1 - up[:, columns].max(axis=1) / FLAT_BELOW, 0, 1), 0.0)
    # over the charge, where both are known better
    columns = [AT_CHARGE.get(k, AT[k]) for k in sign.keys]
    over, under = d.excess[:, columns[0]], d.excess[:, columns[1]]
    with np.errstate(invalid="ignore", divide="ignore"):
        r = np.log(over / under)
        outside = np.maximum(np.maximum(np.log(sign.low) - r, r - np.log(sign.high)), 0)
        fits = np.clip(1 - outside / np.log(RATIO_EDGE), 0, 1)
        # a ratio says nothing while either part may be scatter
        sure = np.clip((np.minimum(d.z[:, columns[0]], d.z[:, columns[1]]) - 1.0) / 2.0, 0, 1)
    return np.nan_to_num(np.where((over > 0) & (under > 0), fits * sure, 0.0))


def _applies(cause: Cause, duty: np.ndarray) -> np.ndarray:
    engine = np.isin(duty, [DUTIES.index("diesel_engine"), DUTIES.index("gas_engine")])
    return engine if cause.where == "engine" else ~engine if cause.where == "gear" else np.ones(len(duty), dtype=bool)


#: factors on the weights of signs, (F,) a family, by cause and sign ("bearing|up cu", "bearing|main"); what is not named is 1
Factors = Mapping[str, np.ndarray]


def diagnose(history: History, charges: Charges, past: Past, d: Departures, seen: Seen, factors: Factors | None = None) -> Diagnosis:
    """Score every cause for every sample, its signs weighed by ``factors`` of its family where it has any."""
    samples = history.samples
    family = history.compartments.family[samples.comp]

    def factor(cause: Cause, sign: str) -> np.ndarray | float:
        known = (factors or {}).get(f"{cause.key}|{sign}")
        return 1.0 if known is None else known[family]

    n = len(samples.comp)
    up, down, trace = _with_limits(d.up(), d, past), d.down(), d.trace()
    known = _facts(history, charges, d, seen, past)
    signs: dict[Sign, np.ndarray] = {}

    def degree(sign: Sign) -> np.ndarray:
        if sign.kind == "both" and sign not in signs:
            for part in sign.parts:
                degree(part)
            signs[sign] = d.together([(part.keys[0], part.kind == "up") for part in sign.parts])
        elif sign.kind == "either" and sign not in signs:
            signs[sign] = np.max([degree(p) * (1.2 if p.kind == "flat" else 1.0) for p in sign.parts], axis=0)
        elif sign not in signs:
            signs[sign] = _degree_of(sign, up, down, trace, d, known)
        return signs[sign]

    def least(group: tuple[Sign, ...]) -> np.ndarray:
        out = np.full(n, 2.0)
        for sign in group:
            if sign.kind == "ratio":
                out *= degree(sign)
            else:
                out = np.minimum(out, degree(sign) * (2.0 if sign.kind == "flat" else 1.0))
        return out

    main, score = np.zeros((n, len(CAUSES))), np.zeros((n, len(CAUSES)))
    weak, alone = np.zeros((n, len(CAUSES)), dtype=bool), np.zeros((n, len(CAUSES)), dtype=bool)
    duty = history.compartments.duty[samples.comp]
    for k, cause in enumerate(CAUSES):
        here = _applies(cause, duty) & samples.usable
        m = least(cause.main)
        if cause.otherwise:
            other = least(cause.otherwise)
            weak[:, k] = (other > m) & (m < NEEDS[POSSIBLE][0])
            m = np.where(weak[:, k], other, m)
        helped = sum(
            (factor(cause, " ".join((sign.kind, *sign.keys))) * weight * np.clip(degree(sign), 0, 1) for sign, weight in cause.supports),
            np.zeros(n),
        )
        s = factor(cause, "main") * np.minimum(m, 1.5) + helped
        if len(cause.main) == 1 and cause.main[0].kind == "up":
            # one sign alone is never strong while it stays below the act limit
            passed = past.act_high[:, [INDEX[key] for key in cause.main[0].keys]].any(axis=1)
            alone[:, k] = ~passed & (helped < ALONE_BELOW)
        for sign, weight in cause.against:
            s = s - factor(cause, " ".join((sign.kind, *sign.keys))) * weight * np.clip(degree(sign), 0, 1)
        main[:, k], score[:, k] = np.where(here, m, 0.0), np.where(here, s, 0.0)
        if cause.strong_with:
            beside = np.max([degree(sign) for sign in cause.strong_with], axis=0)
            alone[:, k] |= beside < NEEDS[POSSIBLE][0]
    at = {c.key: k for k, c in enumerate(CAUSES)}
    lowered = score.copy()
    for k, cause in enumerate(CAUSES):
        for o in (at[name] for name in cause.explains):
            better = (score[:, k] > score[:, o]) & (main[:, k] >= NEEDS[PROBABLE][0])
            lowered[:, o] -= np.where(better, EXPLAINED * np.minimum(main[:, k], 1.0), 0.0)
    strength = np.zeros((n, len(CAUSES)), dtype=np.int8)
    for level, (least_main, least_score) in NEEDS.items():
        strength[(main >= least_main) & (lowered >= least_score)] = level
    strength[alone] = np.minimum(strength[alone], PROBABLE)
    for k, cause in enumerate(CAUSES):
        columns = [AT[key] for sign in cause.main if sign.kind in ("up", "trace") for key in sign.keys]
        if columns:  # nothing of its own to lay it beside yet; a level clearly past its act limit needs none
            young = np.nanmax(np.nan_to_num(d.n[:, columns]), axis=1) < OWN_STRETCHES
            young &= ~past.act_clear[:, COLUMNS[columns]].any(axis=1)
            sure = main[:, k] >= NEEDS[STRONG][0]
            strength[young, k] = np.minimum(strength[young, k], np.where(sure[young], PROBABLE, POSSIBLE))
    most = np.array([cause.otherwise_most for cause in CAUSES])
    strength = np.where(weak, np.minimum(strength, most), strength).astype(np.int8)
    _stays_named(history, strength, lowered, d)
    return Diagnosis(strength, lowered, main, signs, d)


def _rests_on(cause: Cause) -> list[list[int]]:
    """Columns of the rises a cause rests on, one group a main sign; empty when none of them accumulates."""
    return [
        [AT_CHARGE[key] for key in sign.keys if key in AT_CHARGE] for sign in cause.main
        if sign.kind == "up" and any(key in BOTH_WAYS for key in sign.keys)
    ]  # fmt: skip


def _stays_named(history: History, strength: np.ndarray, score: np.ndarray, d: Departures) -> None:
    """A fault named in the sample before stays probable while what shows it falls but is above ``STAYS`` times what is usual
    in the family, unless another cause of the same rise has taken its place. Changes ``strength`` and ``score``."""
    samples, overhaul = history.samples, history.compartments.overhaul
    named = np.flatnonzero((strength >= PROBABLE).any(axis=1))
    resting = {k: groups for k, c in enumerate(CAUSES) if not c.passes and (groups := _rests_on(c))}
    for c in np.unique(samples.comp[named]):
        rows = np.flatnonzero((samples.comp == c) & samples.usable)
        for before, i in zip(rows[:-1].tolist(), rows[1:].tolist(), strict=True):
            if not (strength[before] >= PROBABLE).any() or samples.total[before] < overhaul[c] <= samples.total[i]:
                continue
            for k, groups in resting.items():
                if strength[before, k] < PROBABLE or strength[i, k] >= PROBABLE:
                    continue
                others = {column for o, g in resting.items() if o != k and strength[i, o] >= PROBABLE for part in g for column in part}
                mine = {column for part in groups for column in part}
                if mine & others:
                    continue
                up = all(
                    any(
                        d.moved[i, x] > STAYS * max(d.family[i, x], 0.0)
                        and d.z[i, x] > 1
                        and d.excess[i, x] > 0
                        and d.n[i, AT[FOLLOWED[x]]] >= OWN_STRETCHES
                        for x in part
                    )
                    for part in groups
                )
                if up:
                    strength[i, k], score[i, k] = PROBABLE, max(score[i, k], NEEDS[PROBABLE][1])


def sign_fact(sign: Sign, d: Departures, i: int, per: Fact) -> Fact:
    """A sign of sample ``i`` with its values. ``per`` stands beside rates: over how long."""
    if sign.kind == "fact":
        return told("seen", seen=sign.keys[0])
    columns = [AT[k] for k in sign.keys]
    if sign.kind == "ratio":
        columns = [AT_CHARGE.get(k, AT[k]) for k in sign.keys]
        found = float(d.excess[i, columns[0]] / d.excess[i, columns[1]])
        return told("ratio", over=sign.keys[0], under=sign.keys[1], found=found, low=sign.low, high=sign.high)
    if sign.kind == "flat":
        return told("as_usual", of=sign.keys)
    columns = columns if sign.kind == "down" else [d.way(k, i) for k in sign.keys]
    z = d.z[i, columns]
    best = columns[int(np.nanargmin(z) if sign.kind == "down" else np.nanargmax(z))] if not np.isnan(z).all() else columns[0]
    key = FOLLOWED[best]
    if np.isnan(d.z[i, best]):
        return told("past_untold", of=key)
    got, usual, sd, z_best = (float(x[i, best]) for x in (d.moved, d.usual, d.sd, d.z))
    drifted = (told("drift"),) if z_best < 3 and sign.kind != "down" and d.drift[i, best] >= 5 else ()
    if key not in RATES:
        return told("stands_at", *drifted, of=key, got=got, usual=usual, sd=sd, z=abs(z_best))
    span = float(d.excess[i, best]) / (got - usual)
    got, usual, sd = got * span, usual * span, sd * abs(span)
    kind, usual = ("gains", usual) if got >= 0 else ("loses", -usual)
    return told(kind, per, *drifted, of=key, got=abs(got), usual=usual, sd=sd, z=abs(z_best))


def evidence_of(diagnosis: Diagnosis, k: int, i: int, per: Fact | None = None) -> list[Fact]:
    """Why cause ``k`` is held for sample ``i``: main signs, then what supports it, then what speaks against it."""
    cause, per = CAUSES[k], per or told("an_interval")
    d, out = diagnosis.departures, []
    main = cause.main
    if cause.otherwise and min(diagnosis.signs[s][i] for s in cause.main) < NEEDS[POSSIBLE][0]:
        main = cause.otherwise
    for sign in main:
        shown = max(sign.parts, key=lambda p: diagnosis.signs[p][i]) if sign.kind == "either" else sign
        if shown.kind == "both":
            out += [sign_fact(part, d, i, per) for part in shown.parts]
        elif not (shown.kind == "fact" and shown.keys[0] == "gears"):
            out.append(sign_fact(shown, d, i, per))
    for sign, _ in cause.supports:
        if sign not in main and diagnosis.signs[sign][i] >= 0.3:
            found = sign_fact(sign, d, i, per)
            if found not in out:
                out.append(told("supports", found))
    for sign, _ in cause.against:
        if diagnosis.signs[sign][i] >= 0.3:
            out.append(told("against", sign_fact(sign, d, i, per)))
    if cause.beside and main is cause.otherwise:
        out.append(told("beside", cause=cause.key))
    return out
