"""What hangs on the invented units: plugs, seals, filters, manuals' words, service plans and who kept to them."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

import numpy as np

from vornet.sim.fleet import CompartmentSpec, UnitSpec

SETTINGS = {"measures": "si", "zone": "Atlantic/Faroe", "schools": {"pour": "approach", "seals": "new", "interval": "condition"}}
APPROVALS = {
    "Skerry D 15W-40": ["MIT-D3", "Tarn TB-A"], "Skerry W 5W-40": ["MIT-D3"], "Skerry G 40": ["Gaseng 2"],
    "Brennova Axle 80W-90": ["AXL-5"], "Brennova Marine Gear 30": ["RG gear"], "Fjarra Hydro 46": ["HP-2"],
}  # fmt: skip


def approvals_of(oil: str) -> list[str]:
    """What an oil is approved for; one that may replace another bears its name and a letter."""
    return next((found for name, found in APPROVALS.items() if oil.startswith(name)), [])


#: filters by family: part, what may replace it, what never may, how it goes on
_FILTERS: dict[str, dict[str, Any]] = {
    "HX-6 marine": {"part": "HX-1042", "count": 2, "volume_l": 1.1, "tightening": "turns", "turns": 0.75, "prefill": True,
                    "approved": ["SK-77", "SK-78"], "barred": ["SK-70 (shorter)"]},
    "TB-7 bus": {"part": "TB-330", "volume_l": 0.9, "tightening": "torque", "torque_nm": 28, "prefill": False,
                 "approved": ["NV-1220"], "barred": ["NV-1210 (no bypass)"]},
    "GN-8 diesel": {"part": "GN-8F", "count": 2, "volume_l": 1.4, "tightening": "turns", "turns": 1, "prefill": True},
    "GN-12 biogas": {"part": "GN-12F", "count": 3, "volume_l": 1.6, "tightening": "turns", "turns": 1, "prefill": True},
    "RG-30 marine gear": {"part": "RG-5", "volume_l": 0.5, "tightening": "hand"},
    "AG-4 gearbox": {"part": "AG-4K", "volume_l": 0.4, "tightening": "back_off"},
    "HP-120 hydraulics": {"part": "HP-RF10", "volume_l": 1.8, "tightening": "hand", "approved": ["RF-10B"]},
}  # fmt: skip
_PLUGS = {"engine": ("M26x1.5", 65, 80, "27 mm"), "gearbox": ("M22x1.5", 45, 55, "22 mm"), "axle": ("M24x1.5", 60, 75, "24 mm"),
          "hydraulics": ("G 3/4", 70, 90, "32 mm")}  # fmt: skip


def fittings(c: CompartmentSpec) -> dict[str, Any]:
    """A compartment's register beyond its volumes."""
    size, low, high, wrench = _PLUGS[c.kind]
    big = c.system_l > 100
    out: dict[str, Any] = {
        "volume_between_marks_l": c.said_marks_l or c.marks_l,
        "sources": {"system_volume_l": "manual", "capacity_l": "guessed" if c.said_capacity_l else "manual",
                    "volume_between_marks_l": "guessed" if c.said_marks_l else "manual"},
        "drain_points": [{
            "place": "sump, aft" if "marine" in c.family else "lowest point", "type": "valve" if big else "plug", "size": size,
            "wrench": wrench, "torque_min_nm": low, "torque_max_nm": high, "magnet": c.kind != "hydraulics",
        }],
        "seals": [{
            "place": "drain plug", "kind": "crush washer", "part": f"CW-{size.split('x')[0]}", "count": 1, "single_use": True,
        }],
        "level_method": {"engine": "dipstick", "gearbox": "dipstick_not_threaded", "axle": "overflow",
                         "hydraulics": "sight_glass"}[c.kind],
        "fill_method": "pump" if big or c.kind in ("gearbox", "axle") else "funnel",
        "sampling_point": "valve" if big else "mid_stream",
        "required_approvals": APPROVALS[c.oil][:1],
    }  # fmt: skip
    if c.family in _FILTERS:
        out["filters"] = [dict(_FILTERS[c.family])]
    if c.kind == "engine":
        out["fill_points"] = [{"place": "rocker cover", "litres": c.capacity_l}]
        out["breathers"] = [{"place": "crankcase", "part": "CB-2", "washable": True}]
        if c.fuel == "diesel":
            out["oils"] = [
                {"oil": "Skerry D 15W-40", "min_c": -15, "max_c": 45},
                {"oil": "Skerry W 5W-40", "min_c": -30, "max_c": 10, "alternative": True},
            ]
    if c.kind == "axle":
        out["fill_points"] = [{"place": "axle end, left", "litres": 2.5}, {"place": "axle end, right", "litres": 2.5},
                              {"place": "centre", "litres": 10}]  # fmt: skip
        out["drain_points"].append({**out["drain_points"][0], "place": "axle end"})
        out["schools"] = {"drain_temperature": "hot"}
    if c.kind == "hydraulics":
        out["strainers"] = [{"place": "suction line", "part": "HP-S4", "washable": True}]
        out["magnetic_filters"] = [{"place": "return line", "washable": True}]
    return out


def plan(unit: UnitSpec) -> list[dict[str, Any]]:
    """A unit's service items, as its family's are."""
    m = unit.meter_unit
    items: list[dict[str, Any]] = []

    def item(name: str, compartment: str | None = None, **rest: Any) -> None:
        items.append({"unit": unit.name, **({"compartment": compartment} if compartment else {}), "item": name, **rest})

    road = m == "km"
    for c in unit.compartments:
        if c.kind == "engine":
            gas = c.fuel == "biogas"
            if gas:
                gap = {"type": "plug_gap", "low": 0.28, "high": 0.35}
                item("Spark plugs", c.name, every_h=1500, reading=gap, parts=["GN-SP6"])
            else:
                every = {f"every_{m}": 40000 if road else 500}
                item("Fuel filter", c.name, **every, every_days=365, parts=[f"FF-{c.family[:2]}"])
            item("Air filter", c.name, condition="no light through the pleats", reading={"type": "air_filter", "good": ["clean"]})
            if not road:
                item("Valve clearance", c.name, every_h=2000, first_h=250)
        if c.kind == "gearbox":
            nth = {"every_nth": 2, "nth_of": "oil drain"}
            item("Gearbox filter", c.name, **({"every_days": 640} if road else nth), parts=[_FILTERS[c.family]["part"]])
        if c.kind == "hydraulics":
            item("Return filter", c.name, every_h=1000, every_days=900, parts=["HP-RF10"])
    if unit.compartments:
        item("Coolant", every_days=365, reading={"type": "coolant_mix", "high": -20})
    if road:
        item("Tyre pressures", every_days=30, reading={"type": "tyre_pressure", "low": 780, "high": 860})
        item("Pedal play", every_km=20000, reading={"type": "pedal_play", "low": 10, "high": 25})
        item("Kingpins and shackles", every_km=10000, grease={"points": 14, "strokes": 3, "grease": "lithium 2"})
    elif unit.duty == "power station":
        item("Belt", every_days=180, reading={"type": "belt", "low": 8, "high": 13})
    elif unit.duty == "harbour":
        item("Hoses", every_days=180, reading={"type": "hose_look", "good": ["sound"]})
        item("Grease round", every_days=30, grease={"points": 26, "strokes": 2})
    else:
        item("Mount bolts", every_days=365, reading={"type": "bolt_torque", "low": 180, "high": 205})
        item("Grease round", every_days=30, grease={"points": 12, "strokes": 4, "grease": "marine"})
        if unit.duty == "workboat":
            item("Winter lay-up", season="10-31", note="fresh oil before it stands; used oil eats bearings")
    return items


def kept(unit: UnitSpec, items: list[dict[str, Any]], days: list[tuple[date, float]], index: int, seed: int) -> list[dict[str, Any]]:
    """What was done of a plan: nearly on time, now and then forgotten, readings mostly in tolerance."""
    rng = np.random.default_rng([seed, index, 2])
    out: list[dict[str, Any]] = []
    for item in items:
        lazy = rng.random() < 0.06
        every_m = item.get(f"every_{unit.meter_unit}")
        otherwise = {"season": 365, "every_nth": 330, "condition": 160}
        every_d = item.get("every_days") or next((d for key, d in otherwise.items() if key in item), None)
        last_day, last_meter = days[0][0] - timedelta(days=int(rng.integers(0, every_d or 90))), days[0][1]
        if every_m:
            last_meter -= float(rng.uniform(0, every_m))
        slack = 1.0
        for day, meter in days:
            by_meter = every_m is not None and meter - last_meter >= every_m * slack
            by_days = every_d is not None and (day - last_day).days >= every_d * slack
            in_season = "season" not in item or (day.month == 10 and day.day > 12)
            if not (by_meter or by_days) or not in_season or (lazy and (days[-1][0] - day).days < 120):
                continue
            place = {"compartment": item["compartment"]} if "compartment" in item else {}
            row: dict[str, Any] = {"unit": unit.name, **place, "item": item["item"], "on": day.isoformat()}
            row["meter"] = meter
            if "condition" in item:
                row["outcome"] = "done" if rng.random() < 0.3 else "looked_at"
            reading = _read(item, rng)
            if reading:
                row["reading"] = reading
            out.append(row)
            last_day, last_meter, slack = day, meter, float(rng.normal(1.0, 0.06))
    return out


def _read(item: dict[str, Any], rng: np.random.Generator) -> dict[str, Any]:
    wanted, route = item.get("reading"), item.get("grease")
    if route:
        missed = int(rng.random() < 0.08) * int(rng.integers(1, 3))
        return {"greased": route["points"] - missed, "missed": missed, "cleaned": bool(rng.random() < 0.9)}
    if not wanted:
        return {}
    if wanted.get("good"):
        return {"value": wanted["good"][0]}
    if wanted["type"] == "coolant_mix":
        return {"value": round(float(rng.normal(-29, 3)))}
    low, high = wanted["low"], wanted["high"]
    return {"value": float(f"{rng.normal((low + high) / 2, (high - low) / 5):.3g}")}


def templates(documents: list[dict[str, Any]], items: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Patterns kept from the families' first units."""
    out = []
    for name, unit_name in (("Tarn 12 bus", "Bus 18"), ("Workboat 14", "WB Petrel"), ("Diesel genset GN-8", "GS Northholm 1")):
        unit = next(d for d in documents if d["unit"] == unit_name)
        own = {"unit", "depot", "compartments", "states", "serial", "plate", "year"}
        out.append({
            "name": name, "unit": {k: v for k, v in unit.items() if k not in own}, "compartments": unit["compartments"],
            "service_items": [{k: v for k, v in i.items() if k != "unit"} for i in items if i["unit"] == unit_name],
        })  # fmt: skip
    return out


def batches(start: date, until: date) -> dict[str, list[dict[str, Any]]]:
    """Two deliveries a year of every oil; their samples of new oil come with the lab's results."""
    out: dict[str, list[dict[str, Any]]] = {}
    for o, oil in enumerate(APPROVALS):
        mine, n, day = [], 1, start + timedelta(days=11 * o)
        while day <= until:
            short = "".join(w[0] for w in oil.split()[:2]).upper()
            mine.append({"batch": f"{short}{day:%y}-{n:02d}", "received_on": day.isoformat(), "litres": 1000.0,
                         "sample_no": f"NEW-{short}-{day:%y%m}"})  # fmt: skip
            day, n = day + timedelta(days=183), n + 1
        out[oil] = mine
    return out
