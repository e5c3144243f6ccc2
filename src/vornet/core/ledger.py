"""The ledger of a charge: metal released into oil that is lost and made up while it runs.

V system volume (L), ρ density (kg/L), R metal released (mg/h), C concentration (mg/kg).
Between fillings the level falls steadily at q = top-up volume ÷ hours since the last filling.

- loss ``with_oil`` (leak, burnt oil takes its metal along): dC/dh = R / (ρ·volume(h));
- loss ``clean`` (evaporation): the mass of metal stays, C = mass / (ρ·volume);
- at a top-up of v litres: C⁺ = (C⁻·(V−v) + C_new·v) / V.

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
    system_volume_l: float, density_kg_l: float, top_ups: Sequence[TopUp], changes: Sequence[PartChange]
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
            raise InputError(
                f"top_ups[{i}].litres", f"{t.litres:g} L does not fit: the system holds {system_volume_l:g} L"
            )
    for i, c in enumerate(changes):
        if c.h < 0:
            raise InputError(f"part_changes[{i}].h", "a part change cannot come before the fill")
        if c.litres_out < 0 or c.litres_in < 0 or c.litres_out >= system_volume_l:
            raise InputError(f"part_changes[{i}].litres_out", "the volumes do not fit the system")


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
) -> list[tuple[float, float]]:
    """(a, b) of C = a·R + b at each of the ascending ``sample_hours``.

    With ``restart_ppm`` (the measured values) the line starts again at every sample, which gives the
    stretches. A sample between top-ups sees the level fallen so far; at the same hour the sample comes
    before the top-up; top-ups after the last sample are ignored, and so is one at hour 0, which belongs
    to the fill.
    """
    _check(system_volume_l, density_kg_l, top_ups, part_changes)
    last = sample_hours[-1]
    poured: dict[float, float] = {}
    for t in top_ups:
        if 0 < t.h < last:
            poured[t.h] = poured.get(t.h, 0.0) + t.litres
    for h, litres in poured.items():
        if litres >= system_volume_l:
            raise InputError("top_ups", f"{litres:g} L at {h:g} h does not fit in {system_volume_l:g} L")
    steps: list[tuple[float, int, object]] = [(h, 0, i) for i, h in enumerate(sample_hours)]
    steps += [(c.h, 1, c) for c in part_changes if c.h < last]
    steps += [(h, 2, litres) for h, litres in poured.items()]
    steps.sort(key=lambda s: (s[0], s[1]))

    fillings = sorted(poured)
    line, now, volume, out = _Line(0.0, start_ppm), 0.0, system_volume_l, []
    filled_at, next_filling = 0.0, 0
    for h, kind, what in steps:
        if next_filling < len(fillings):
            until = fillings[next_filling]
            q = poured[until] / (until - filled_at)
        else:
            q = 0.0
        line = _run(line, h - now, volume, q, density_kg_l, loss)
        volume, now = volume - q * (h - now), h
        if kind == 0:
            out.append((line.a, line.b))
            if restart_ppm is not None:
                assert isinstance(what, int)
                line = _Line(0.0, restart_ppm[what])
        elif kind == 1:
            assert isinstance(what, PartChange)
            after = volume - what.litres_out + what.litres_in
            if volume <= what.litres_out or after <= 0:
                raise InputError("part_changes", f"{what.litres_out:g} L cannot leave {volume:g} L")
            line = line.dilute((volume - what.litres_out) / after, new_oil_ppm)
            volume = min(after, system_volume_l)
        else:
            line = line.dilute((system_volume_l - poured[h]) / system_volume_l, new_oil_ppm)
            volume, filled_at, next_filling = system_volume_l, h, next_filling + 1
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

    ledger = {"density_kg_l": density_kg_l, "loss": loss, "part_changes": part_changes}
    lines = trace(system_volume_l, start_ppm, new_oil_ppm, hours, top_ups, **ledger)  # type: ignore[arg-type]
    weights = [1.0 if p.sd_ppm is None else p.sd_ppm**-2 for p in points]
    info = math.fsum(w * a * a for w, (a, _) in zip(weights, lines, strict=True))
    rate = math.fsum(w * a * (p.ppm - b) for w, (a, b), p in zip(weights, lines, points, strict=True)) / info

    restarts = [p.ppm for p in points]
    pieces = trace(
        system_volume_l, start_ppm, new_oil_ppm, hours, top_ups, restart_ppm=restarts, **ledger  # type: ignore[arg-type]
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
    return WearRate(
        rate, rise, rise / hours[-1] * 100, tuple(stretches), a, b, info**-0.5 if all(given) else None
    )


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
