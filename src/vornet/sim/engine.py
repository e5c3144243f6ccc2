"""Day by day through two years of one unit: running, losing oil, topping up, sampling, draining.

Mass balance for metals and salts, straight or bent ageing for the oil, a technician with habits, labs with noise and a bias.
Every day draws the same number of random values, so a run to a later day starts with the same history.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import Any

import numpy as np

from vornet.sim.fleet import CompartmentSpec, Fault, OilSpec, UnitSpec

ELEMENTS = ("fe", "cr", "ni", "al", "cu", "pb", "sn", "si", "na", "k", "b", "ca", "mg", "zn", "p", "mo", "s")
OTHERS = ("bn", "an", "oxidation", "nitration", "sulfation", "soot_pct", "v40", "v100", "water_ppm", "fuel_pct",
          "p4", "p6", "p14", "pq")  # fmt: skip
KEYS = ELEMENTS + OTHERS
#: relative and absolute noise of one result, of the order a good lab achieves
_RELATIVE = {**dict.fromkeys(ELEMENTS, 0.022), "bn": 0.03, "an": 0.05, "oxidation": 0, "nitration": 0, "sulfation": 0,
             "soot_pct": 0.07, "v40": 0.009, "v100": 0.009, "water_ppm": 0.1, "fuel_pct": 0.08, "p4": 0.15, "p6": 0.15,
             "p14": 0.15, "pq": 0.05}  # fmt: skip
_ABSOLUTE = {**dict.fromkeys(ELEMENTS, 0.25), "bn": 0.12, "an": 0.06, "oxidation": 0.8, "nitration": 0.8,
             "sulfation": 0.8, "soot_pct": 0.05, "fuel_pct": 0.06, "water_ppm": 8, "pq": 2}  # fmt: skip
_DECIMALS = {**dict.fromkeys(ELEMENTS, 0), "cr": 1, "ni": 1, "al": 1, "pb": 1, "sn": 1, "bn": 2, "an": 2, "oxidation": 1,
             "nitration": 1, "sulfation": 1, "soot_pct": 2, "v40": 1, "v100": 2, "water_ppm": 0, "fuel_pct": 2, "p4": 0,
             "p6": 0, "p14": 0, "pq": 0}  # fmt: skip


#: what gains ever faster where an oil oxidises
BENT = ("oxidation", "an", "v40", "v100")


@dataclass(frozen=True)
class Lab:
    """A lab as good as ``noise`` times the usual scatter; ``bias`` per measurand in standard deviations of one result."""

    name: str
    noise: float = 1.0
    bias: dict[str, float] = field(default_factory=dict)


#: which lab a unit's bottle goes to on a day of the history, None: the usual one
Labs = Callable[[int, int], Lab | None]


def scatter(key: str, value: float) -> float:
    """One standard deviation of a printed result of this measurand at this value, in its own unit."""
    return math.hypot(_RELATIVE[key] * value, _ABSOLUTE.get(key, 0.0), 0.3 * 10.0 ** -_DECIMALS[key])


@dataclass
class Story:
    """What one unit left behind: the register's logs, the lab's rows, and the truth."""

    readings: list[dict[str, Any]] = field(default_factory=list)
    drains: list[dict[str, Any]] = field(default_factory=list)
    top_ups: list[dict[str, Any]] = field(default_factory=list)
    samples: list[dict[str, Any]] = field(default_factory=list)
    truth: list[dict[str, Any]] = field(default_factory=list)
    states: list[dict[str, Any]] = field(default_factory=list)
    days: list[tuple[date, float]] = field(default_factory=list)  # the first meter, day by day


class _Oil:
    """One compartment's oil as it really is. ``value`` per key; ``litres`` present."""

    def __init__(self, spec: CompartmentSpec, oil: OilSpec) -> None:
        self.spec, self.oil = spec, oil
        self.usual = oil
        self.new = {k: oil.v.get(k, 0.0) for k in KEYS}
        self.value = dict(self.new)
        self.litres = spec.system_l
        self.hours = 0.0
        self.since_day = 0
        self.added = 0.0
        self.pace = 1.0
        self.metal_pace = 1.0
        self.next_sample = 0
        self.wrong = False

    def mix_in(self, litres: float) -> None:
        total = self.litres + litres
        for k in KEYS:
            self.value[k] = (self.value[k] * self.litres + self.new[k] * litres) / total
        self.litres = total

    def run(self, h: float, faults: list[tuple[Fault, float]]) -> None:
        wear = self.spec.wear
        metals = {k: v * self.metal_pace for k, v in wear.metals.items()}
        metals["pq"] = 0.3 * metals["fe"]  # the coarse, magnetic part of the iron
        moves = {k: v * self.spec.pace * self.pace for k, v in wear.moves.items()}
        if self.spec.bend != 1.0:
            bent = self.spec.bend * ((self.hours + h / 2) / self.spec.interval) ** (self.spec.bend - 1)
            moves |= {k: moves[k] * bent for k in BENT if k in moves}
        adds: dict[str, float] = {}
        for fault, strength in faults:
            for k, factor in fault.metals.items():
                metals[k] = metals.get(k, 0.0) * (1 + (factor - 1) * strength)
            for k, factor in fault.moves.items():
                moves[k] = moves.get(k, 0.0) * (1 + (factor - 1) * strength)
            for k, amount in fault.adds.items():
                adds[k] = adds.get(k, 0.0) + amount * strength
        share = h / wear.reference
        concentration = self.spec.system_l / self.litres
        for source in (metals, adds):
            for k, amount in source.items():
                if k not in ("fuel_pct", "water_ppm"):
                    self.value[k] += amount * share * concentration
        for k, amount in moves.items():
            if k not in ("fuel_pct", "water_ppm", "p4", "p6", "p14"):
                self.value[k] = max(self.value[k] + amount * share, 0.0)
        for k in ("fuel_pct", "water_ppm", "p4", "p6", "p14"):  # come and go: a level, reached within days
            target = moves.get(k, 0.0) + adds.get(k, 0.0) + (self.new[k] if k[0] == "p" else 0.0)
            self.value[k] += (target - self.value[k]) * min(1.0, 6 * share)
        thirst = self.spec.thirst * math.prod(1 + (f.use - 1) * strength for f, strength in faults)
        self.litres -= wear.use * thirst * share
        self.hours += h

    def aged(self) -> float:
        """The largest share of the way that any property of the oil has gone to where common practice would watch it."""
        v, new = self.value, self.new
        engine, gas = self.spec.kind == "engine", self.spec.fuel in ("gas", "biogas")
        ways = {"an": 2.0 if gas else math.inf if engine else 0.5 if self.spec.kind == "hydraulics" else 1.0}
        if engine:
            ways |= {"oxidation": 15.0 if gas else 20.0, "nitration": 15.0 if gas else 20.0}
        shares = [(v[k] - new[k]) / way for k, way in ways.items()]
        seen = self.thickness()
        if engine:
            shares += [(new["bn"] - v["bn"]) / max(0.5 * new["bn"], 1e-9), v["an"] / max(v["bn"], 1e-9), v["soot_pct"] / 2.0]
        shares += [abs(seen[k] / new[k] - 1) / 0.1 for k in (("v100",) if engine else ("v100", "v40"))]
        return max(shares)

    def thickness(self) -> dict[str, float]:
        """Viscosities as they are: thickened by what oxidised, thinned by fuel."""
        rise = 0.035 * max(self.value["oxidation"] - self.new["oxidation"], 0) / 10
        factor = math.exp(rise * 0.2 - 0.042 * self.value["fuel_pct"])
        v40 = self.value["v40"] * factor * (1 + 0.7 * (self.value["v100"] / self.new["v100"] - 1))
        return {"v40": v40, "v100": self.value["v100"] * factor}

    def measured(self, noise: np.ndarray, lab: Lab | None = None) -> dict[str, float]:
        """What the lab would print: the true value, thinned by fuel, with the method's noise and the lab's own bias."""
        out = {}
        if lab is not None:
            noise = noise * lab.noise + np.array([lab.bias.get(k, 0.0) for k in KEYS])
        seen = self.thickness()
        for i, k in enumerate(KEYS):
            if k in ("p4", "p6", "p14") and self.spec.kind != "hydraulics":
                continue
            if k == "pq" and self.spec.kind == "hydraulics":
                continue
            if k in ("bn", "soot_pct", "nitration", "sulfation", "fuel_pct") and self.spec.kind != "engine":
                continue
            if k == "soot_pct" and self.spec.fuel in ("gas", "biogas"):
                continue
            x = seen.get(k, self.value[k])
            x = x * (1 + _RELATIVE[k] * noise[i]) if k[0] == "p" and k[1:].isdigit() else (
                x + noise[i] * math.hypot(_RELATIVE[k] * x, _ABSOLUTE.get(k, 0.0)))  # fmt: skip
            out[k] = round(max(x, 0.0), _DECIMALS[k])
        return out


def new_oil_measured(oil: OilSpec, noise: np.ndarray) -> dict[str, float]:
    """What the lab would print of new oil: the figures its record knows, with the method's noise."""
    out = {}
    for i, k in enumerate(KEYS):
        if k in oil.v and k[1:] not in ("4", "6", "14"):
            x = oil.v[k] + noise[i] * math.hypot(_RELATIVE[k] * oil.v[k], _ABSOLUTE.get(k, 0.0))
            out[k] = round(max(x, 0.0), _DECIMALS[k])
    return out


def _strength(fault: Fault, day: int) -> float:
    if day < fault.start or (fault.end is not None and day >= fault.end):
        return 0.0
    risen = min(1.0, (day - fault.start + 1) / max(fault.ramp, 1))
    return risen if fault.fade is None else risen * math.exp(-(day - fault.start) / fault.fade)


def paces(unit: UnitSpec, index: int, seed: int) -> tuple[list[float], list[float]]:
    """How fast each compartment of a unit ages its oil and wears, against its family: its own for life.

    They come after each tank's beginnings in the same stream of random values, so those are drawn first.
    """
    habit = np.random.default_rng([seed, index, 1])
    for _ in unit.compartments:
        habit.uniform(0.2, 0.8), habit.normal(1.0, 0.05), habit.lognormal(0, 0.05), habit.lognormal(0, 0.15)
    own = [float(habit.lognormal(0, 0.08)) for _ in unit.compartments]
    return own, [float(habit.lognormal(0, 0.22)) for _ in unit.compartments]


def oil_after(spec: CompartmentSpec, oil: OilSpec, hours: float, topped_up_l: float, day: int, pace: float, metal_pace: float) -> _Oil:
    """The oil of a compartment that has run so long on it, with what is wrong in there on that day of the history."""
    tank = _Oil(spec, oil)
    tank.pace, tank.metal_pace = pace, metal_pace
    faults = [(f, s) for f in spec.faults if (s := _strength(f, day)) > 0.08]
    steps = 20
    for _ in range(steps):
        tank.run(max(hours, 0.0) / steps, faults)
        if topped_up_l > 0:
            tank.mix_in(topped_up_l / steps)
    return tank


def live(
    unit: UnitSpec, index: int, oils: dict[str, OilSpec], start: date, until: date, seed: int, labs: Labs = lambda unit, day: None
) -> Story:
    """Simulate one unit from ``start`` to ``until``, both included; ``labs`` says who measures its bottles."""
    rng = np.random.default_rng([seed, index])
    habit = np.random.default_rng([seed, index, 1])
    story = Story()
    meter, second = unit.start_meter, 0.3 * unit.start_meter
    far = {first: (last, state) for first, last, state in unit.away}
    tanks = [_Oil(c, oils[c.oil]) for c in unit.compartments]
    drains_seen = [0] * len(tanks)
    overdue = [1.0] * len(tanks)
    numbers = [0] * len(tanks)
    own, own_metal = paces(unit, index, seed)
    for c, tank in enumerate(tanks):
        # histories begin mid-life: the first drain comes early and differs per compartment
        tank.hours = float(habit.uniform(0.2, 0.8)) * tank.spec.interval * (not tank.spec.new_at_start)
        overdue[c] = float(habit.normal(1.0, 0.05))
        tank.pace, tank.metal_pace = float(habit.lognormal(0, 0.05)), float(habit.lognormal(0, 0.15))
        tank.value = {k: tank.new[k] for k in KEYS}
        for k, amount in tank.spec.wear.metals.items():
            tank.value[k] += amount * tank.hours / tank.spec.wear.reference
    for day in range((until - start).days + 1):
        today = start + timedelta(days=day)
        draw = rng.standard_normal((len(tanks) + 1, 8 + len(KEYS)))
        season = 1 + 0.18 * math.sin(2 * math.pi * (today.timetuple().tm_yday - 100) / 365)
        away = any(first <= day < last for first, last, _ in unit.away)
        if day in far:
            story.states.append({"on": today.isoformat(), "state": far[day][1]})
            back = start + timedelta(days=far[day][0])
            if far[day][0] < 90_000 and back <= until:
                story.states.append({"on": back.isoformat(), "state": "in_service"})
        idle = draw[0, 0] < -1.35 or away
        gained = 0.0 if idle else max(unit.per_day * season * (1 + 0.22 * draw[0, 1]), 0.05 * unit.per_day)
        if unit.meter_unit == "h":
            gained = min(gained, 23.0)
        meter += gained
        second += gained * (unit.second_share or 0.0)
        shown = first_shown = round(meter, 1) if unit.meter_unit == "h" else round(meter)
        story.days.append((today, first_shown))
        if today.weekday() == index % 5 and not away and (not unit.estimated or day < 7):
            story.readings.append({"unit": unit.name, "on": today.isoformat(), "meter": shown})
            if unit.second_share:
                story.readings.append({"unit": unit.name, "on": today.isoformat(), "meter": round(second, 1), "meter_no": 2})
        for c, tank in enumerate(tanks):
            z, spec = draw[c + 1], tank.spec
            shown = first_shown if spec.meter_no == 1 else round(second, 1)
            faults = [(f, _strength(f, day)) for f in spec.faults if _strength(f, day) > 0.08]
            tank.run(gained if spec.meter_no == 1 else gained * (unit.second_share or 1.0), faults)
            early = spec.new_at_start and not drains_seen[c] and tank.hours >= 0.25 * spec.interval
            due = early or tank.hours >= spec.run_to(day) * overdue[c] or day - tank.since_day >= spec.interval_days
            missing = spec.system_l - tank.litres
            step = max(1.0, 0.05 * spec.system_l)
            if missing >= step * (1 + 0.15 * abs(z[0])) and not due and not idle:
                litres = round(missing * (1 - 0.03 * abs(z[1])), 1)
                tank.mix_in(litres)
                tank.added += litres
                if z[2] > -1.9:  # now and then nobody writes it down
                    row = {
                        "unit": unit.name, "compartment": spec.name, "on": today.isoformat(), "meter": shown, "litres": litres,
                    }  # fmt: skip
                    if z[3] > -0.4:  # the careful ones read the level before and after
                        row["reading_before"] = round(1 - missing / spec.marks_l + 0.03 * z[4], 2)
                        row["reading_after"] = round(1 - (missing - litres) / spec.marks_l + 0.03 * z[5], 2)
                    story.top_ups.append(row)
            part = spec.samples_a_charge
            mark = spec.run_to(day) * (tank.next_sample + 1) / part
            if not due and tank.next_sample < part - 1 and tank.hours >= mark * (1 + 0.04 * z[3]) and not idle:
                tank.next_sample += 1
                numbers[c] += 1
                _sample(story, unit, index, c, numbers[c], tank, today, shown, False, z, faults, until, labs(index, day))
            if due and not idle:
                numbers[c] += 1
                number = _sample(story, unit, index, c, numbers[c], tank, today, shown, True, z, faults, until, labs(index, day))
                _drain(story, unit, tank, oils, day, today, shown, number, z, faults)
                drains_seen[c] += 1
                tank.pace = own[c] * math.exp(0.10 * z[6])
                if spec.faster and day >= spec.faster[0]:
                    tank.pace *= spec.faster[1]
                tank.metal_pace = own_metal[c] * math.exp(spec.wear.spread * z[7])
                overdue[c] = 1.0 + 0.05 * z[5]
                tank.since_day, tank.hours, tank.next_sample, tank.added = day, 0.0, 0, 0.0
    return story


def _drain(
    story: Story, unit: UnitSpec, tank: _Oil, oils: dict[str, OilSpec], day: int, today: date, shown: float,
    number: str | None, z: np.ndarray, faults: list[tuple[Fault, float]],
) -> None:  # fmt: skip
    spec = tank.spec
    usual = max(spec.system_l - spec.capacity_l, 0.04 * spec.system_l) if spec.stays is None else spec.stays * spec.system_l
    residual = min(usual * math.exp(0.25 * z[4]), 0.3 * spec.system_l)
    out = max(tank.litres - residual, 0.5 * spec.system_l)
    residual = tank.litres - out
    missing = max(spec.system_l - tank.litres, 0.0)
    if spec.changed and day >= spec.changed[0]:
        tank.usual = oils[spec.changed[1]]
    oil = oils[spec.poured[1]] if spec.poured and day >= spec.poured[0] else tank.usual
    tank.new = {k: oil.v.get(k, 0.0) for k in KEYS}
    tank.wrong = oil is not tank.usual
    refill = spec.system_l - residual
    for k in KEYS:
        tank.value[k] = (tank.value[k] * residual + tank.new[k] * refill) / spec.system_l
    tank.litres = spec.system_l
    kinds = {f.kind: s for f, s in faults}
    grade = max([1 if z[0] < 0.9 else 2, *(f.magnet for f, s in faults if s > 0.5)])
    row: dict[str, object] = {
        "unit": unit.name, "compartment": spec.name, "on": today.isoformat(), "meter": shown,
        "volume_in_l": round(refill, 1), "oil": tank.usual.name, "filter_changed": spec.kind != "axle", "magnet_grade": grade,
    }  # fmt: skip
    if z[1] > -0.7:
        row["volume_out_l"] = round(out, 1)
    if z[2] > -0.3:
        row["level_missing_l"] = round(missing, 1)
    if z[3] > -0.8:
        row["reading_after"] = round(1 + 0.03 * z[5], 2)
    if spec.kind == "engine":
        row["air_filter"] = "dusty" if kinds.get("dirt", 0) > 0.3 else "clean"
    if number:
        row["sample_no"] = number
    story.drains.append(row)


def _sample(
    story: Story, unit: UnitSpec, index: int, c: int, number: int, tank: _Oil, today: date, shown: float, drained: bool,
    z: np.ndarray, faults: list[tuple[Fault, float]], until: date, lab: Lab | None = None,
) -> str | None:  # fmt: skip
    """Draw a bottle; its result counts once the lab has answered. Now and then nobody draws one."""
    if z[6] < -1.8:
        return None
    name = f"M{index + 1:02d}{chr(65 + c)}{number:03d}"
    received = today + timedelta(days=2 + int(abs(z[7]) * 1.5))
    reported = received + timedelta(days=3 + int(abs(z[5]) * 2))
    story.truth.append({
        "sample_no": name, "unit": unit.name, "compartment": tank.spec.name, "on": today.isoformat(), "meter": shown,
        "oil_hours": round(tank.hours, 1), "topup_l": round(tank.added, 1),
        "faults": {f.kind: round(s, 2) for f, s in faults} | ({"wrong_oil": 1.0} if tank.wrong else {}),
        "aged": round(tank.aged(), 3),
    })  # fmt: skip
    if reported > until:
        return name
    story.samples.append({
        "sample_no": name, "unit": unit.name, "compartment": tank.spec.name, "sampled_on": today.isoformat(),
        "meter": shown, "oil_hours": round(tank.hours, 1 if unit.meter_unit == "h" else 0), "oil": tank.usual.name,
        "topup_l": round(tank.added, 1), "drained": drained, "filter_changed": drained,
        "received_on": received.isoformat(), "reported_on": reported.isoformat(), **tank.measured(z[8:], lab),
        **({"lab": lab.name} if lab else {}),
    })  # fmt: skip
    return name
