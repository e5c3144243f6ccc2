"""Large made-up fleets for the benchmark: straight lines and noise, as fast as files can be written."""

from __future__ import annotations

import io
import json
from datetime import date, timedelta

import numpy as np

KEYS = ("fe", "cr", "ni", "al", "cu", "pb", "sn", "si", "na", "k", "b", "ca", "mg", "zn", "p", "mo",
        "v40", "v100", "bn", "an", "oxidation", "nitration", "soot_pct", "water_ppm")  # fmt: skip
#: (start, gain per 500 h, noise)
_LINES = {
    "fe": (0, 30, 0.8), "cr": (0, 1.5, 0.2), "ni": (0, 0.6, 0.1), "al": (0, 5, 0.4), "cu": (0, 7, 0.4), "pb": (0, 4, 0.4),
    "sn": (0, 1.4, 0.3), "si": (5, 4, 0.5), "na": (0, 3, 0.4), "k": (0, 1, 0.4), "b": (5, 0, 0.4), "ca": (2400, 0, 40),
    "mg": (20, 0, 0.7), "zn": (1200, 0, 25), "p": (1050, 0, 22), "mo": (40, 0, 1.2), "v40": (105, 2, 1),
    "v100": (14.2, 0.2, 0.14), "bn": (10, -2.9, 0.25), "an": (2, 0.9, 0.12),
    "oxidation": (8, 7.5, 1), "nitration": (5, 5.5, 1), "soot_pct": (0, 0.85, 0.06),
    "water_ppm": (0, 110, 10),
}  # fmt: skip


def make(fleet: str, compartments: int, samples: int, until: date, seed: int = 1) -> tuple[bytes, bytes]:
    """(register JSON, wide results CSV) of so many engines and samples, two samples a charge."""
    rng = np.random.default_rng(seed)
    each = samples // compartments
    charges = each // 2 + 1
    gap = max(6, 1000 // charges)
    units, drains, readings = [], [], []
    for c in range(compartments):
        name = f"U{c:05d}"
        units.append({"unit": name, "depot": f"Depot {c % 12}", "model": f"Model {c % 25}", "meter_unit": "h", "compartments": [
            {"compartment": "engine", "kind": "engine", "fuel": "diesel", "family": f"Model {c % 25} engine",
             "system_volume_l": 60, "capacity_l": 55, "oil": "Bench 15W-40", "interval_h": 500, "cap_h": 1000,
             "interval_days": 365}]})  # fmt: skip
        for k in range(charges):
            on = (until - timedelta(days=gap * (charges - k))).isoformat()
            drains.append({"unit": name, "compartment": "engine", "on": on, "meter": 1000 + 500 * k, "volume_out_l": 54,
                           "level_missing_l": 2, "volume_in_l": 54})  # fmt: skip
        readings.append({"unit": name, "on": until.isoformat(), "meter": 1000 + 500 * (charges - 1) + 150})
    oil = {"name": "Bench 15W-40", "density_kg_l": 0.87, **{k: v[0] for k, v in _LINES.items() if v[0]}}
    register = {"fleet": fleet, "oils": [oil], "units": units, "readings": readings, "drains": drains}

    n = compartments * each
    comp, index = np.divmod(np.arange(n), each)
    charge, second = np.divmod(index, 2)
    hours = np.where(second == 1, 500.0, 250.0)
    pace = np.exp(0.1 * rng.standard_normal((compartments, charges)))[comp, np.minimum(charge, charges - 1)]
    columns = []
    for key in KEYS:
        start, gain, noise = _LINES[key]
        values = np.maximum(start + gain * hours / 500 * pace + noise * rng.standard_normal(n), 0)
        columns.append(np.char.mod("%.1f" if start > 30 or abs(gain) > 20 else "%.2f", values))
    days = np.array([(until - timedelta(days=int(d))).isoformat() for d in range(gap * charges + 1)])
    on = days[gap * (charges - charge) - np.where(second == 1, gap, gap // 2)]
    out = io.StringIO()
    context = "sample_no,unit,compartment,sampled_on,meter,oil_hours,oil,topup_l,drained,lab,reported_on"
    out.write(f"{context},{','.join(KEYS)}\n")
    for i, cells in enumerate(zip(*columns, strict=True)):
        meter = 1000 + 500 * charge[i] + hours[i]
        out.write(
            f"B{i:07d},U{comp[i]:05d},engine,{on[i]},{meter:.0f},{hours[i]:.0f},Bench 15W-40,0,{bool(second[i])},Bench lab,"
            f"{on[i]},{','.join(cells)}\n"
        )
    return json.dumps(register).encode(), out.getvalue().encode()
