"""What each property answers for one compartment, and what each school would say."""

from __future__ import annotations

import itertools
import math

import numpy as np

from vornet.core.charges import Charges
from vornet.core.decision import (
    ANSWERED,
    IMPOSSIBLE,
    NO_LIMIT,
    UNANSWERED,
    UNMEASURED,
    Policy,
    PropertyAnswer,
    Terms,
)
from vornet.core.history import History, offsets
from vornet.core.judge import Judgement
from vornet.core.oil_properties import PROPERTIES, PROPERTY_COUNT, SIGNS
from vornet.core.paths import (
    NewOil,
    Paths,
    Readings,
)
from vornet.core.safe_by import Ground, SafeBy


def statistical(history: History, read: Readings, judgement: Judgement, fresh: np.ndarray) -> np.ndarray:
    """Family limits mean + 2s towards each property's limit, as a rise above new oil; (C, P), NaN below 10."""
    comps, samples = history.compartments, history.samples
    families = int(comps.family.max(initial=0)) + 1
    out = np.full((families, PROPERTY_COUNT), np.nan)
    family = comps.family[samples.comp]
    rise = SIGNS * (read.value - fresh)
    for j in range(PROPERTY_COUNT):
        rows = read.counts[:, j] & ~read.bound[:, j] & ~judgement.break_in & ~np.isnan(rise[:, j])
        n = np.bincount(family[rows], minlength=families)
        with np.errstate(invalid="ignore", divide="ignore"):
            mean = np.bincount(family[rows], rise[rows, j], families) / n
            square = np.bincount(family[rows], rise[rows, j] ** 2, families) / n
            sd = np.sqrt(np.maximum(square - mean**2, 0) * n / (n - 1))
        out[:, j] = np.where(n >= 10, mean + 2 * sd, np.nan)
    return np.asarray(out[comps.family])


def packed_slopes(
    path: Paths, charges: Charges, moved: np.ndarray, evidence: np.ndarray, deciding: np.ndarray, ref: np.ndarray
) -> list[bytes]:
    """``Decision.slopes`` of every compartment. ``deciding`` (C, P): properties that are answered for."""
    h, j = np.nonzero(~np.isnan(path.rise[:, :, 0]) & deciding[charges.comp] & evidence[:, None])
    order = np.lexsort((h, j, charges.comp[h]))
    h, j = h[order], j[order]
    per = ref[charges.comp[h]]
    rows = np.column_stack([
        j, charges.number[h], path.start[h, j], SIGNS[j] * path.rise[h, j, 0] / per, np.sqrt(path.var[h, j, 0]) / per,
        path.samples[h, j], ~moved[h, j],
    ]).astype("<f4")  # fmt: skip
    at = offsets(charges.comp[h], len(deciding)).tolist()
    return [rows[a:b].tobytes() for a, b in itertools.pairwise(at)]


def last_charges(charges: Charges, path: Paths, evidence: np.ndarray) -> list[int]:
    """The last charge of each compartment with anything measured, −1 none."""
    out = [-1] * len(charges.first)
    some = np.flatnonzero(evidence & (path.samples > 0).any(axis=1))
    for h, c in zip(some.tolist(), charges.comp[some].tolist(), strict=True):
        out[c] = h
    return out


def _number(x: float) -> float | None:
    return float(x) if math.isfinite(x) else None


class Answers:
    """Makes the answers of one compartment after another out of the columns."""

    def __init__(
        self, clean: SafeBy, as_is: SafeBy | None, ground: Ground, fresh: NewOil, limit: np.ndarray, path: Paths, deciding: np.ndarray,
        measured: np.ndarray, own: np.ndarray, bounded: np.ndarray, touched: np.ndarray,
    ) -> None:  # fmt: skip
        mean, between, error, bend = clean.outlook.moments() if len(clean.outlook.n) else (np.zeros(0),) * 4
        ref = ground.ref[:, None]

        def placed(x: np.ndarray) -> np.ndarray:
            return np.where(clean.at >= 0, np.append(x, np.nan)[clean.at], np.nan)

        with np.errstate(invalid="ignore", divide="ignore"):
            p = placed(bend)
            reach = ground.margin * (1 - ground.share[:, None]) / placed(mean)
            crossing = np.where(reach > 0, ref * np.maximum(reach, 0) ** (1 / p), np.nan)
        safe_as_is = np.where(touched[:, None], as_is.each, clean.each) if as_is is not None else clean.each
        columns = {
            "limit": limit, "fresh": fresh.value, "mean": SIGNS * placed(mean) / ref, "between": placed(between) / ref,
            "error": placed(error) / ref, "bend": p, "crossing": crossing, "safe": clean.each, "safe_as_is": safe_as_is,
            "run": clean.running, "run_start": path.start[ground.running], "run_slope": SIGNS * clean.run_rise / ref,
            "run_sd": clean.run_sd / ref, "pace": placed(np.where(clean.outlook.drifted, clean.outlook.pace, np.nan)),
            "deepest": path.deepest, "chance": clean.chance,
        }  # fmt: skip
        self._columns = {k: v.tolist() for k, v in columns.items()}
        self._borrowed = np.where(clean.at >= 0, np.append(clean.outlook.borrowed, False)[clean.at], False)
        self._margin, self._at, self._deciding, self._measured = ground.margin, clean.at, deciding, measured
        self._own, self._bounded, self._estimated, self._ref = own, bounded, fresh.estimated, ground.ref

    def of(self, c: int) -> tuple[PropertyAnswer, ...]:
        of = {k: v[c] for k, v in self._columns.items()}
        out = []
        for j in np.flatnonzero(self._deciding[c]).tolist():
            p, f = PROPERTIES[j], {k: v[j] for k, v in of.items()}
            if not self._measured[c, j]:
                state = UNMEASURED
            elif math.isnan(self._margin[c, j]):
                state = NO_LIMIT
            elif self._margin[c, j] <= 0:
                state = IMPOSSIBLE
            else:
                state = ANSWERED if self._at[c, j] >= 0 else UNANSWERED
            out.append(
                PropertyAnswer(
                    key=p.key, name=p.name, unit=p.unit, side=p.side, state=state, new_oil=_number(f["fresh"]),
                    new_oil_estimated=bool(self._estimated[c, j]), limit=_number(f["limit"]), n=int(self._own[c, j]),
                    mean_slope=_number(f["mean"]), between_sd=_number(f["between"]), mean_se=_number(f["error"]), bend=_number(f["bend"]),
                    ref=float(self._ref[c]), mean_crossing=_number(f["crossing"]), safe=_number(f["safe"]),
                    safe_as_is=_number(f["safe_as_is"]), never=f["safe"] == math.inf, running_safe=_number(f["run"]),
                    running_never=f["run"] == math.inf, running_start=_number(f["run_start"]), running_slope=_number(f["run_slope"]),
                    running_slope_sd=_number(f["run_sd"]), borrowed=bool(self._borrowed[c, j]), pace=_number(f["pace"]),
                    bounded=int(self._bounded[c, j]), deepest=_number(f["deepest"]), chance_at_safe=_number(f["chance"]),
                )
            )  # fmt: skip
        return tuple(out)


def schools(
    c: int, policy: Policy, terms: Terms, path: Paths, last: int, limit: np.ndarray, stat: np.ndarray,
    answers: tuple[PropertyAnswer, ...], ref: np.ndarray, distance: bool = False,
) -> dict[str, float | None]:  # fmt: skip
    """What each school would say: the maker's cap and his printed interval, the house rule (a figure, else a share of the cap), indicator,
    supplier, calendar, last sample's line, statistical limits."""
    house = policy.house_km if distance else policy.house_h
    last_line = statistical = math.inf
    for a in answers:
        j = next(i for i, p in enumerate(PROPERTIES) if p.key == a.key)
        if a.limit is None:
            continue
        rise = path.rise[last, j, 0] if last >= 0 else math.nan
        if rise > 0:
            room = SIGNS[j] * (limit[c, j] - path.start[last, j])
            last_line = min(last_line, max(room, 0.0) / rise * float(ref[c]))
        towards = SIGNS[j] * (a.mean_slope or 0.0)
        if not math.isnan(stat[c, j]) and towards > 0:
            statistical = min(statistical, max(stat[c, j], 0.0) / towards)
    return {
        "maker": terms.cap,
        "printed": terms.printed,
        "house_rule": house or (None if terms.cap is None else terms.cap * policy.house_share),
        "indicator": terms.indicator,
        "supplier": terms.claim,
        "calendar": terms.calendar,
        "fixed_last_sample": _number(last_line),
        "statistical": _number(statistical),
    }
