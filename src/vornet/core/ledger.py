"""The ledger of a charge: metal released into oil that is lost and made up while it runs.

V system volume (L), ρ density (kg/L), R metal released (mg/h), C concentration (mg/kg).
Between two times at which the level is known (full at the fill and after a top-up; as read at a level check) it falls
steadily, at q = (litres gone less what part changes took out net) ÷ hours between. After the last of them nothing is known
to be lost.

- loss ``with_oil`` (leak, burnt oil takes its metal along): dC/dh = R / (ρ·volume(h));
- loss ``clean`` (evaporation): the mass of metal stays, C = mass / (ρ·volume);
- at a top-up of v litres: C⁺ = (C⁻·(V−v) + C_new·v) / V;
- at a part change v_out leaves at the present concentration, v_in of new oil comes in, whatever the level.

Every concentration is linear in R, C = a·R + b, which makes R a weighted least-squares fit.
Source: mass balance, check values confirmed by numerical integration in the tests.
Compartments that count distance use km for h throughout.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from vornet.core.errors import InputError

Loss = Literal["with_oil", "clean"]


@dataclass(frozen=True)
class TopUp:
    """Make-up oil: ``litres`` poured at hour ``h`` of the charge, back to the full level."""

    h: float
    litres: float


@dataclass(frozen=True)
class PartChange:
    """Oil out at the present concentration, then new oil in, at hour ``h`` (filter-only change, repair)."""

    h: float
    litres_out: float
    litres_in: float


@dataclass(frozen=True)
class LevelCheck:
    """The level read at hour ``h`` with nothing added: ``missing_l`` litres below full."""

    h: float
    missing_l: float


@dataclass(frozen=True)
class Point:
    """A sample of the charge: hour, concentration (mg/kg) and optionally its standard deviation."""

    h: float
    ppm: float
    sd_ppm: float | None = None


@dataclass(frozen=True)
class Stretch:
    """Rate (mg/h) between two samples, or from the fill to the first; a, b of its end; SE where sds are known."""

    from_h: float
    to_h: float
    rate_mg_h: float
    a: float
    b: float
    se_mg_h: float | None = None


@dataclass(frozen=True)
class WearRate:
    """Rate of a charge and what the engine would have shown without top-ups."""

    rate_mg_h: float
    undiluted_rise_ppm: float
    per_100h_ppm: float
    stretches: tuple[Stretch, ...]
    a: float
    b: float
    se_mg_h: float | None


@dataclass(frozen=True)
class _Line:
    """C = a·R + b along the charge."""

    a: float
    b: float

    def dilute(self, keep: float, new_ppm: float) -> _Line:
        return _Line(self.a * keep, self.b * keep + new_ppm * (1 - keep))


def _run(line: _Line, hours: float, volume: float, q: float, density: float, loss: Loss) -> _Line:
    """Let the charge run for ``hours`` from ``volume`` while the level falls at ``q`` L/h."""
    if hours <= 0:
        return line
    end = volume - q * hours
    if loss == "clean":
        return _Line((line.a * volume + hours / density) / end, line.b * volume / end)
    if q * hours < 1e-12 * volume:
        return _Line(line.a + hours / (density * volume), line.b)
    return _Line(line.a + math.log(volume / end) / (density * q), line.b)


def _check(
    system_volume_l: float, density_kg_l: float, top_ups: Sequence[TopUp], changes: Sequence[PartChange], checks: Sequence[LevelCheck]
) -> None:
    if not system_volume_l > 0:
        raise InputError("system_volume_l", "the system volume must be above zero")
    if not density_kg_l > 0:
        raise InputError("density_kg_l", "the density must be above zero")
    for i, t in enumerate(top_ups):
        if t.litres <= 0:
            raise InputError(f"top_ups[{i}].litres", "a top-up must be above zero")
        if t.h < 0:
            raise InputError(f"top_ups[{i}].h", "a top-up cannot come before the fill")
        if t.litres >= system_volume_l:
            raise InputError(f"top_ups[{i}].litres", f"{t.litres:g} L does not fit: the system holds {system_volume_l:g} L")
    for i, c in enumerate(changes):
        if c.h < 0:
            raise InputError(f"part_changes[{i}].h", "a part change cannot come before the fill")
        if c.litres_out < 0 or c.litres_in < 0 or c.litres_out >= system_volume_l:
            raise InputError(f"part_changes[{i}].litres_out", "the volumes do not fit the system")
    for i, k in enumerate(checks):
        if k.h < 0:
            raise InputError(f"level_checks[{i}].h", "a level check cannot come before the fill")
        if not 0 <= k.missing_l < system_volume_l:
            raise InputError(f"level_checks[{i}].missing_l", f"{k.missing_l:g} L below full does not fit {system_volume_l:g} L")


@dataclass(frozen=True)
class _Event:
    """What happens to the volume at hour ``h``: ``order`` 1 a level check, 2 a part change, 3 a top-up."""

    h: float
    order: int
    litres_in: float = 0.0
    litres_out: float = 0.0
    missing: float = 0.0


def _losses(system: float, events: Sequence[_Event]) -> list[tuple[float, float]]:
    """(q, volume just before) of each event in order; raises InputError where the volume would not stay above zero."""
    rates: list[float] = []
    at, volume, net, waiting = 0.0, system, 0.0, 0
    out: list[tuple[float, float]] = []
    start = volume
    for e in events:
        waiting += 1
        if e.order == 2:
            net += e.litres_in - e.litres_out
            continue
        end = system - (e.missing if e.order == 1 else e.litres_in)
        q = max(0.0, start + net - end) / (e.h - at) if e.h > at else 0.0
        rates += [q] * waiting
        after = system - e.missing if e.order == 1 else start + net - q * (e.h - at) + e.litres_in
        at, start, net, waiting = e.h, after, 0.0, 0
    rates += [0.0] * waiting
    at, volume = 0.0, system
    for e, q in zip(events, rates, strict=True):
        volume -= q * (e.h - at)
        if volume <= e.litres_out:
            name = "part_changes" if e.order == 2 else "top_ups"
            raise InputError(name, f"{max(e.litres_out, 0):g} L cannot leave {max(volume, 0):.3g} L at {e.h:g} h")
        out.append((q, volume))
        volume = system - e.missing if e.order == 1 else volume - e.litres_out + e.litres_in
        at = e.h
    return out


def trace(
    system_volume_l: float,
    start_ppm: float,
    new_oil_ppm: float,
    sample_hours: Sequence[float],
    top_ups: Sequence[TopUp],
    *,
    density_kg_l: float = 0.87,
    loss: Loss = "with_oil",
    part_changes: Sequence[PartChange] = (),
    restart_ppm: Sequence[float] | None = None,
    level_checks: Sequence[LevelCheck] = (),
) -> list[tuple[float, float]]:
    """(a, b) of C = a·R + b at each of the ascending ``sample_hours``.

    With ``restart_ppm`` (the measured values) the line starts again at every sample, which gives the
    stretches. A sample between top-ups sees the level fallen so far; at the same hour the sample comes
    before a level check, a part change and a top-up; what comes after the last sample is ignored, and so is a
    top-up at hour 0, which belongs to the fill. Raises InputError where a volume would not stay above zero.
    """
    _check(system_volume_l, density_kg_l, top_ups, part_changes, level_checks)
    last = sample_hours[-1]
    poured: dict[float, float] = {}
    for t in top_ups:
        if 0 < t.h < last:
            poured[t.h] = poured.get(t.h, 0.0) + t.litres
    for h, litres in poured.items():
        if litres >= system_volume_l:
            raise InputError("top_ups", f"{litres:g} L at {h:g} h does not fit in {system_volume_l:g} L")
    events = [_Event(h, 3, litres) for h, litres in poured.items()]
    events += [_Event(c.h, 2, c.litres_in, c.litres_out) for c in part_changes if c.h < last]
    events += [_Event(k.h, 1, missing=k.missing_l) for k in level_checks if 0 < k.h < last]
    events.sort(key=lambda e: (e.h, e.order))
    known = _losses(system_volume_l, events)

    line, now, volume, out, done = _Line(0.0, start_ppm), 0.0, system_volume_l, [], 0

    def run_to(h: float, q: float) -> None:
        nonlocal line, now, volume
        line = _run(line, h - now, volume, q, density_kg_l, loss)
        volume, now = volume - q * (h - now), h

    for i, h in enumerate(sample_hours):
        while done < len(events) and events[done].h < h:
            e, (q, _) = events[done], known[done]
            run_to(e.h, q)
            if e.order == 1:
                volume = system_volume_l - e.missing
            else:
                after = volume - e.litres_out + e.litres_in
                line = line.dilute((volume - e.litres_out) / after, new_oil_ppm)
                volume = after
            done += 1
        run_to(h, known[done][0] if done < len(events) else 0.0)
        out.append((line.a, line.b))
        if restart_ppm is not None:
            line = _Line(0.0, restart_ppm[i])
    return out


def wear_rate(
    system_volume_l: float,
    start_ppm: float,
    new_oil_ppm: float,
    samples: Sequence[Point],
    top_ups: Sequence[TopUp] = (),
    *,
    density_kg_l: float = 0.87,
    loss: Loss = "with_oil",
    part_changes: Sequence[PartChange] = (),
    level_checks: Sequence[LevelCheck] = (),
) -> WearRate:
    """Wear rate R (mg/h) of a charge by weighted least squares, and stretch by stretch.

    The *undiluted rise* R·Δh/(ρV) in mg/kg is what the engine would have shown without top-ups; per
    100 h it compares engines of different thirst. Raises InputError naming the field.

    >>> tops = [TopUp(100, 5), TopUp(220, 6), TopUp(360, 7)]
    >>> w = wear_rate(40, 8, 2, [Point(500, 60)], tops)
    >>> round(w.a, 5), round(w.b, 5), round(w.rate_mg_h, 5), round(w.undiluted_rise_ppm, 3)
    (12.17488, 5.68156, 4.46152, 64.102)
    """
    if not samples:
        raise InputError("samples", "at least one sample is needed")
    given = [s.sd_ppm is not None for s in samples]
    if any(given) and not all(given):
        raise InputError("samples", "give sd_ppm for every sample or for none")
    for i, s in enumerate(samples):
        if s.h < 0:
            raise InputError(f"samples[{i}].h", "a sample cannot come before the fill")
        if s.sd_ppm is not None and not s.sd_ppm > 0:
            raise InputError(f"samples[{i}].sd_ppm", "a standard deviation must be above zero")
    points = sorted(samples, key=lambda s: s.h)
    hours = [p.h for p in points]
    if hours[-1] <= 0:
        raise InputError("samples", "a sample at hour 0 says nothing about wear: one at a later hour is needed")

    ledger = {"density_kg_l": density_kg_l, "loss": loss, "part_changes": part_changes, "level_checks": level_checks}
    lines = trace(system_volume_l, start_ppm, new_oil_ppm, hours, top_ups, **ledger)  # type: ignore[arg-type]
    weights = [1.0 if p.sd_ppm is None else p.sd_ppm**-2 for p in points]
    info = math.fsum(w * a * a for w, (a, _) in zip(weights, lines, strict=True))
    rate = math.fsum(w * a * (p.ppm - b) for w, (a, b), p in zip(weights, lines, points, strict=True)) / info

    restarts = [p.ppm for p in points]
    pieces = trace(
        system_volume_l,
        start_ppm,
        new_oil_ppm,
        hours,
        top_ups,
        restart_ppm=restarts,
        **ledger,  # type: ignore[arg-type]
    )
    stretches, before = [], None
    for p, (a, b) in zip(points, pieces, strict=True):
        from_h = 0.0 if before is None else before.h
        if a > 0:
            se = None
            if p.sd_ppm is not None:
                carried = before.sd_ppm if before is not None and before.sd_ppm is not None else 0.0
                se = math.hypot(p.sd_ppm, carried) / a
            stretches.append(Stretch(from_h, p.h, (p.ppm - b) / a, a, b, se))
        before = p

    rise = rate * hours[-1] / (density_kg_l * system_volume_l)
    a, b = lines[-1]
    return WearRate(rate, rise, rise / hours[-1] * 100, tuple(stretches), a, b, info**-0.5 if all(given) else None)


def steady_make_up(
    hours: float,
    rate_mg_h: float,
    system_volume_l: float,
    make_up_l_h: float,
    start_ppm: float = 0.0,
    new_oil_ppm: float = 0.0,
    density_kg_l: float = 0.87,
) -> float:
    """Concentration (mg/kg) after ``hours`` when only a total make-up is known and taken as steady.

    dC/dh = R/(ρV) − (q/V)·(C − C_new); its ceiling is C_new + R/(ρq).

    >>> round(steady_make_up(500, 20, 40, 0.05), 2)
    213.67
    """
    if make_up_l_h <= 0:
        return start_ppm + rate_mg_h * hours / (density_kg_l * system_volume_l)
    ceiling = new_oil_ppm + rate_mg_h / (density_kg_l * make_up_l_h)
    return ceiling + (start_ppm - ceiling) * math.exp(-make_up_l_h * hours / system_volume_l)
