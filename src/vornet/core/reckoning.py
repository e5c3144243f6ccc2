"""What the chances of one compartment are reckoned from, small enough to keep where it stands.

A decision works a whole fleet; whoever opens one interval later needs only its own part: the outlook of each property that answers, its
margins, and what was measured. Nothing is judged again to draw it. Hours stand for km where a compartment counts distance.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from vornet.core.charges import Charges
from vornet.core.decision import Policy
from vornet.core.history import History, offsets
from vornet.core.judge import Judgement
from vornet.core.limits import LimitTable
from vornet.core.oil_properties import EVENTS, PROPERTY_COUNT, SIGNS, property_limits
from vornet.core.outlook import Outlook, Standing, any_chance
from vornet.core.safe_by import Prepared, SafeBy, confidences, prepared, safe_by

#: points of the last charges that are kept of each property, to be drawn faint behind
MOST_POINTS = 40
_HEAD = struct.Struct("<BBB")
_VERSION = 1


@dataclass(frozen=True)
class Reckoning:
    """One compartment's. ``clean``: rows of its properties ``at`` (G,), by charges that speak for a healthy one; ``as_is`` and
    ``as_is_at`` with those that an open fault moved counted too (None: none was). ``act`` (G,) margins to the act limit (NaN not known);
    ``fresh``, ``watch_limit``, ``act_limit`` (P,); ``points`` (N, 4): property, charge, oil hours, value as measured."""

    clean: Standing
    at: np.ndarray
    act: np.ndarray
    as_is: Standing | None
    as_is_at: np.ndarray
    fresh: np.ndarray
    watch_limit: np.ndarray
    act_limit: np.ndarray
    points: np.ndarray

    def chance(self, hours: float) -> float:
        """Chance that any property is past the policy's limit at the end of charges of so many hours: the one function of guards, picture,
        money, trial and approval."""
        return self._any(self.clean, hours)

    def act_chance(self, hours: float) -> float:
        """The same, past its act limit: what money counts."""
        return self._any(self.to_act, hours)

    @property
    def to_act(self) -> Standing:
        """Its properties against their act limits; where one is not known, as near as the other."""
        return replace(self.clean, margin=np.where(np.isnan(self.act), self.clean.margin, self.act))

    def _any(self, standing: Standing, hours: float) -> float:
        each = standing.chance(np.full(len(self.at), hours))
        return float(any_chance(each, np.zeros(len(self.at), dtype=int), EVENTS[self.at], 1)[0])


@dataclass(frozen=True)
class Ground:
    """Columns that every compartment's reckoning is cut from, (C, P)."""

    act_margin: np.ndarray
    watch: np.ndarray
    act: np.ndarray


def ground(history: History, p: Prepared, table: LimitTable) -> Ground:
    known = history.known.at(p.oil).value
    act = property_limits(table, history.compartments.limited, known, act=True)
    return Ground(SIGNS * (act - p.fresh.value), property_limits(table, history.compartments.limited, known), act)


def act_chances(g: Ground, clean: SafeBy, hours: np.ndarray) -> np.ndarray:
    """``Reckoning.act_chance`` of every compartment at ``hours`` (C,); NaN where no property answers or no hours are given, (C,)."""
    row, (c, j) = clean.at[clean.at >= 0], np.nonzero(clean.at >= 0)
    told = hours[c] > 0
    row, c, j = row[told], c[told], j[told]
    standing, act = clean.standing.of(row), g.act_margin[c, j]
    past = replace(standing, margin=np.where(np.isnan(act), standing.margin, act)).chance(hours[c])
    out = np.full(len(hours), np.nan)
    out[c] = any_chance(past, c, EVENTS[j], len(hours))[c]
    return out


def each(
    history: History, charges: Charges, p: Prepared, g: Ground, clean: SafeBy, as_is: SafeBy | None, touched: np.ndarray,
    only: Sequence[int],
) -> Iterator[Reckoning | None]:  # fmt: skip
    """The reckoning of each compartment of ``only``, in order; None where no property answers. ``touched`` (C,): a fault moved some."""
    samples = history.samples
    start = offsets(samples.comp, len(history.compartments.duty))
    drawn = p.evidence[charges.charge_of] & (charges.oil_hours > 0)
    for c in only:
        rows = _rows(clean, c)
        if not len(rows):
            yield None
            continue
        at = _properties(clean, c)
        other = as_is if as_is is not None and touched[c] else None
        others = _rows(other, c) if other is not None else np.zeros(0, dtype=int)
        some = slice(start[c], start[c + 1])
        i, j = np.nonzero((p.read.counts[some] & drawn[some, None])[:, at])
        i += start[c]
        points = np.column_stack([at[j], charges.number[charges.charge_of[i]], charges.oil_hours[i], p.read.value[i, at[j]]])
        points = points[np.lexsort((points[:, 2], points[:, 1], points[:, 0]))] if len(points) else points.reshape(0, 4)
        keep = np.concatenate([np.flatnonzero(points[:, 0] == k)[-MOST_POINTS:] for k in at.tolist()])
        yield Reckoning(
            clean.standing.of(rows), at, g.act_margin[c, at], other.standing.of(others) if other is not None and len(others) else None,
            _properties(other, c) if other is not None else np.zeros(0, dtype=int), p.fresh.value[c], g.watch[c], g.act[c],
            points[keep],
        )  # fmt: skip


def of(
    history: History, charges: Charges, judgement: Judgement, table: LimitTable, policy: Policy | Sequence[Policy], compartment: int
) -> Reckoning | None:  # fmt: skip
    """The reckoning of one compartment, worked by itself."""
    p = prepared(history, charges, judgement, table, policy)
    only = np.zeros(len(history.compartments.duty), dtype=bool)
    only[compartment] = True
    sure = confidences(policy, len(only))
    clean = safe_by(p.ground, p.path, p.now, p.evidence[:, None] & ~p.moved, only, sure)
    touched = np.zeros(len(only), dtype=bool)
    touched[charges.comp[(p.moved & p.evidence[:, None] & ~np.isnan(p.path.rise[:, :, 0])).any(axis=1)]] = True
    as_is = safe_by(p.ground, p.path, p.now, np.repeat(p.evidence[:, None], PROPERTY_COUNT, 1), only, sure) if touched[compartment] else None
    return next(each(history, charges, p, ground(history, p, table), clean, as_is, touched, [compartment]))


def _rows(seen: SafeBy, compartment: int) -> np.ndarray:
    """Rows of a compartment, in order: as its properties are."""
    rows = seen.at[compartment]
    return np.sort(rows[rows >= 0])


def _properties(seen: SafeBy, compartment: int) -> np.ndarray:
    """Which property each of a compartment's rows is, in the rows' order."""
    rows = seen.at[compartment]
    j = np.flatnonzero(rows >= 0)
    return np.asarray(j[np.argsort(rows[j])])


# ---- kept ------------------------------------------------------------------------------------------------------
def _standing_bytes(s: Standing) -> bytes:
    o = s.outlook
    bend = np.broadcast_to(o.bend, o.weight.shape)
    return b"".join(np.ascontiguousarray(x, "<f4").tobytes() for x in (o.weight, o.mean, o.mean_var, o.spread_var, bend, s.margin, s.new_var,
                                                                       s.share, s.ref))  # fmt: skip


def _standing_of(raw: memoryview, rows: int, parts: int) -> tuple[Standing, int]:
    width = rows * parts
    x = np.frombuffer(raw, "<f4", 5 * width + 4 * rows).astype(float)
    tables = [x[k * width : (k + 1) * width].reshape(rows, parts) for k in range(5)]
    margin, new_var, share, ref = (x[5 * width + k * rows : 5 * width + (k + 1) * rows] for k in range(4))
    yes, no = np.ones(rows, dtype=bool), np.zeros(rows, dtype=bool)
    weight, mean, mean_var, spread_var, bend = tables
    outlook = Outlook(weight, mean, mean_var, spread_var, bend, np.ones(rows), yes, no, no, np.ones(rows))
    return Standing(outlook, margin, new_var, share, ref), 4 * (5 * width + 4 * rows)


def packed(r: Reckoning) -> bytes:
    """To be kept: a head, then rows of little-endian float32. Figures keep seven digits, chances about six."""
    rows, others = len(r.at), len(r.as_is_at) if r.as_is is not None else 0
    parts = r.clean.outlook.weight.shape[1]
    out = [_HEAD.pack(_VERSION, rows, others), bytes([parts]), bytes(r.at.tolist()), bytes(r.as_is_at.tolist() if others else [])]
    floats = [r.act, r.fresh, r.watch_limit, r.act_limit]
    out += [np.ascontiguousarray(x, "<f4").tobytes() for x in floats]
    out.append(_standing_bytes(r.clean))
    if r.as_is is not None:
        out.append(_standing_bytes(r.as_is))
    out.append(np.ascontiguousarray(r.points, "<f4").tobytes())
    return b"".join(out)


def unpacked(content: bytes) -> Reckoning:
    """What ``packed`` made. Raises ValueError for anything else."""
    raw = memoryview(content)
    version, rows, others = _HEAD.unpack_from(raw)
    if version != _VERSION:
        raise ValueError(f"kept by another version: {version}")
    parts, at = raw[3], 4
    places, as_is_at = np.array(raw[at : at + rows], dtype=int), np.array(raw[at + rows : at + rows + others], dtype=int)
    at += rows + others

    def floats(n: int) -> np.ndarray:
        nonlocal at
        found = np.frombuffer(raw[at : at + 4 * n], "<f4").astype(float)
        at += 4 * n
        return found

    act, fresh, watch_limit, act_limit = floats(rows), floats(PROPERTY_COUNT), floats(PROPERTY_COUNT), floats(PROPERTY_COUNT)
    clean, size = _standing_of(raw[at:], rows, parts)
    at += size
    as_is = None
    if others:
        as_is, size = _standing_of(raw[at:], others, parts)
        at += size
    points = np.frombuffer(raw[at:], "<f4").astype(float).reshape(-1, 4)
    return Reckoning(clean, places, act, as_is, as_is_at, fresh, watch_limit, act_limit, points)
