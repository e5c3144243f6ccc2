"""The invented fleet: Morvane Isles Transport. Every name, model code and oil is made up."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

FLEET = "Morvane Isles Transport"
ZONE = "Atlantic/Faroe"
LAB = "Holm Street Oil Lab"


@dataclass(frozen=True)
class OilSpec:
    """New-oil values. ``v`` maps measurand keys to the new oil's figures."""

    name: str
    grade: str
    density: float
    v: dict[str, float]


OILS: tuple[OilSpec, ...] = (
    OilSpec("Skerry D 15W-40", "15W-40", 0.875, {
        "v40": 105, "v100": 14.2, "bn": 10.0, "an": 2.0, "ca": 2400, "mg": 20, "zn": 1200, "p": 1050, "b": 5,
        "mo": 40, "si": 5, "oxidation": 8, "nitration": 5, "s": 3800}),
    OilSpec("Skerry G 40", "40", 0.885, {
        "v40": 125, "v100": 13.6, "bn": 6.0, "an": 1.2, "ca": 1500, "mg": 8, "zn": 320, "p": 290, "b": 3, "mo": 2,
        "si": 4, "oxidation": 5, "nitration": 4, "s": 2200}),
    OilSpec("Brennova Axle 80W-90", "80W-90", 0.895, {
        "v40": 142, "v100": 14.8, "an": 1.9, "ca": 20, "mg": 4, "zn": 30, "p": 1350, "b": 210, "mo": 1, "si": 8,
        "s": 21000}),
    OilSpec("Brennova Marine Gear 30", "30", 0.885, {
        "v40": 98, "v100": 11.3, "an": 1.4, "ca": 3100, "mg": 12, "zn": 1150, "p": 1000, "b": 4, "mo": 1, "si": 6,
        "s": 4300}),
    OilSpec("Skerry W 5W-40", "5W-40", 0.855, {
        "v40": 84, "v100": 14.0, "bn": 10.0, "an": 2.0, "ca": 2350, "mg": 25, "zn": 1150, "p": 1020, "b": 8,
        "mo": 60, "si": 5, "oxidation": 9, "nitration": 5, "s": 3300}),
    OilSpec("Fjarra Hydro 46", "ISO VG 46", 0.87, {
        "v40": 46.2, "v100": 6.9, "an": 0.6, "ca": 45, "mg": 2, "zn": 430, "p": 340, "b": 1, "mo": 1, "si": 2,
        "s": 1300, "p4": 900, "p6": 220, "p14": 25}),
)  # fmt: skip


@dataclass(frozen=True)
class Wear:
    """A healthy compartment over one reference interval: ppm gained per metal, oil properties moved.

    ``spread`` is the coefficient of variation between charges; ``use`` litres lost per reference interval.
    """

    reference: float
    metals: dict[str, float]
    moves: dict[str, float]
    use: float
    spread: float = 0.12


DIESEL = Wear(500, {"fe": 32, "cr": 1.6, "ni": 0.6, "al": 5, "cu": 7, "pb": 4, "sn": 1.4, "si": 4, "na": 3, "k": 1},
              {"bn": -2.9, "an": 0.9, "oxidation": 7.5, "nitration": 5.5, "sulfation": 8, "soot_pct": 0.85, "v100": 0.22,
               "water_ppm": 120, "fuel_pct": 0.5}, 5.0)  # fmt: skip
BUS = Wear(20000, {"fe": 38, "cr": 2.0, "ni": 0.5, "al": 6, "cu": 6, "pb": 5, "sn": 1.6, "si": 5, "na": 4, "k": 1.5},
           {"bn": -3.4, "an": 1.1, "oxidation": 9, "nitration": 6, "sulfation": 9, "soot_pct": 1.0, "v100": 0.3,
            "water_ppm": 150, "fuel_pct": 0.8}, 3.0)  # fmt: skip
GAS = Wear(1000, {"fe": 13, "cr": 1.0, "al": 4, "cu": 5, "pb": 4, "sn": 1.2, "si": 6, "na": 2, "k": 0.8},
           {"bn": -2.1, "an": 0.9, "oxidation": 7, "nitration": 6, "sulfation": 5, "v100": 0.5, "water_ppm": 90},
           22.0)  # fmt: skip
MARINE_GEAR = Wear(
    1000,
    {"fe": 40, "cr": 1.0, "cu": 12, "pb": 3, "sn": 1, "si": 6},
    {"an": 0.32, "oxidation": 3, "v40": 1.2, "v100": 0.1, "water_ppm": 130},
    0.8,
)
GEARBOX = Wear(
    60000,
    {"fe": 90, "cr": 1.5, "cu": 22, "pb": 4, "sn": 1, "si": 12},
    {"an": 0.45, "oxidation": 4, "v40": -3, "v100": -0.2, "water_ppm": 110},
    0.3,
)
AXLE = Wear(60000, {"fe": 130, "cr": 2, "cu": 6, "si": 15}, {"an": 0.5, "oxidation": 4, "v40": -3, "v100": -0.25,
            "water_ppm": 160}, 0.2)  # fmt: skip
HYDRAULICS = Wear(2000, {"fe": 6, "cr": 0.4, "cu": 5, "pb": 1, "si": 2},
                  {"an": 0.16, "oxidation": 1.5, "v40": -0.5, "v100": -0.05, "water_ppm": 110, "p4": 500, "p6": 130,
                   "p14": 18}, 3.0)  # fmt: skip


@dataclass(frozen=True)
class Fault:
    """Something planted: ``kind`` and what it does from ``start`` days into the history, ramping over ``ramp``.

    ``metals`` multiplies release, ``adds`` puts in so much per reference interval, ``moves`` multiplies the
    oil's ageing; ``end`` day it is repaired; ``fade`` days over which it dies away by itself; ``use``
    multiplies the oil lost; ``magnet`` is what the plug shows when it is at its worst.
    """

    kind: str
    start: int
    ramp: int = 40
    end: int | None = None
    metals: dict[str, float] = field(default_factory=dict)
    adds: dict[str, float] = field(default_factory=dict)
    moves: dict[str, float] = field(default_factory=dict)
    fade: float | None = None
    use: float = 1.0
    magnet: int = 1


@dataclass(frozen=True)
class CompartmentSpec:
    name: str
    kind: str
    family: str
    wear: Wear
    oil: str
    system_l: float
    capacity_l: float
    interval: float
    cap: float
    fuel: str | None = None
    interval_days: int = 365
    samples_a_charge: int = 1
    thirst: float = 1.0
    pace: float = 1.0
    faults: tuple[Fault, ...] = ()
    meter_no: int = 1
    new_at_start: bool = False
    poured: tuple[int, str] | None = None  # from this day on the next drain gets another oil, and nobody notices
    said_capacity_l: float | None = None  # what the register says, where it is wrong
    said_marks_l: float | None = None
    bend: float = 1.0  # what oxidises gains like oil hours to this power
    faster: tuple[int, float] | None = None  # from the first drain after this day on the oil ages so many times as fast
    changed: tuple[int, str] | None = None  # from this day on the next drain gets another oil, and it is written down
    longer: tuple[tuple[int, float], ...] = ()  # from each of these days on it is run to another interval
    stays: float | None = None  # share of the system that a drain leaves behind; None: what the capacities say

    def run_to(self, day: int) -> float:
        """The interval that drains follow on a day of the history."""
        return next((length for since, length in reversed(self.longer) if day >= since), self.interval)

    @property
    def marks_l(self) -> float:
        """Volume between the level marks."""
        return 1.0 if self.system_l < 20 else round(0.075 * self.system_l, 1)


@dataclass(frozen=True)
class UnitSpec:
    name: str
    depot: str
    model: str
    duty: str
    meter_unit: str
    per_day: float
    start_meter: float
    compartments: tuple[CompartmentSpec, ...]
    second_share: float | None = None  # a second meter in hours that runs this share of the first
    estimated: bool = False
    away: tuple[tuple[int, int, str], ...] = ()  # (from day, to day or a far one, state)
    shares: str = ""  # its sump is another unit's


def _marine(name: str, faults: tuple[Fault, ...] = (), **more: object) -> CompartmentSpec:
    settings = {"interval": 500.0, "cap": 1000.0, "samples_a_charge": 2, **more}
    return CompartmentSpec(
        name,
        "engine",
        "HX-6 marine",
        DIESEL,
        "Skerry D 15W-40",
        62,
        56,
        fuel="diesel",
        faults=faults,
        **settings,  # type: ignore[arg-type]
    )


def _marine_gear(name: str, faults: tuple[Fault, ...] = (), **more: object) -> CompartmentSpec:
    return CompartmentSpec(name, "gearbox", "RG-30 marine gear", MARINE_GEAR, "Brennova Marine Gear 30", 24, 21, 1000,
                           2000, samples_a_charge=2, faults=faults, **more)  # type: ignore[arg-type]  # fmt: skip


def _hydraulics(name: str, litres: float = 120, faults: tuple[Fault, ...] = (), **more: object) -> CompartmentSpec:
    return CompartmentSpec(name, "hydraulics", "HP-120 hydraulics", HYDRAULICS, "Fjarra Hydro 46", litres,
                           litres * 0.92, 2000, 4000, interval_days=1825, samples_a_charge=4, faults=faults,
                           **more)  # type: ignore[arg-type]  # fmt: skip


def _bus(number: int, meter: float, engine: tuple[Fault, ...] = (), gearbox: tuple[Fault, ...] = (),
         axle: tuple[Fault, ...] = (), interval: float = 20000, pace: float = 1.0, more: dict[str, Any] | None = None,
         away: tuple[tuple[int, int, str], ...] = ()) -> UnitSpec:  # fmt: skip
    extra = more or {}
    return UnitSpec(
        f"Bus {number}", "Morvane Town", "Tarn 12", "island bus" if number > 15 else "town bus", "km",
        230 if number > 15 else 190, meter,
        (
            CompartmentSpec("engine", "engine", "TB-7 bus", BUS, "Skerry D 15W-40", 31, 28, interval, 40000,
                            fuel="diesel", samples_a_charge=2, faults=engine, pace=pace, **extra),
            CompartmentSpec("gearbox", "gearbox", "AG-4 gearbox", GEARBOX, "Brennova Axle 80W-90", 13, 12, 60000, 120000,
                            interval_days=1095, samples_a_charge=3, faults=gearbox),
            CompartmentSpec("rear axle", "axle", "RA-9 axle", AXLE, "Brennova Axle 80W-90", 16, 15, 60000, 120000,
                            interval_days=1095, samples_a_charge=3, faults=axle),
        ),
        away=away,
    )  # fmt: skip


def _genset(name: str, depot: str, fuel: str, meter: float, faults: tuple[Fault, ...] = (), **more: object) -> UnitSpec:
    gas = fuel == "biogas"
    settings = {"interval": 1000.0 if gas else 500.0, "cap": 2000.0 if gas else 1000.0, **more}
    engine = CompartmentSpec(
        "engine", "engine", "GN-12 biogas" if gas else "GN-8 diesel", GAS if gas else DIESEL,
        "Skerry G 40" if gas else "Skerry D 15W-40", 150 if gas else 84, 138 if gas else 76, fuel=fuel,
        samples_a_charge=2, faults=faults, thirst=1.0 if gas else 1.5, **settings,  # type: ignore[arg-type]
    )  # fmt: skip
    return UnitSpec(name, depot, "GN-12" if gas else "GN-8", "power station", "h", 15 if gas else 8, meter, (engine,))


DIRT = Fault("dirt", 925, 60, None, {"fe": 2.6, "cr": 3.0}, {"si": 34, "al": 9}, magnet=2)
COOLANT = Fault("coolant", 1005, 30, None, {"cu": 2.2, "pb": 2.0}, {"na": 130, "k": 48, "b": 30, "water_ppm": 400})
FUEL = Fault("fuel", 965, 30, None, {"fe": 1.4}, {"fuel_pct": 5.5})
BEARING = Fault("bearing", 965, 60, None, {"pb": 9.0, "sn": 7.0, "cu": 3.5})
OLD_DIRT = Fault("dirt", 200, 30, 330, {"fe": 2.4, "cr": 2.6}, {"si": 28, "al": 8}, magnet=2)
SOOT = Fault("combustion", 945, 60, None, {"fe": 1.5}, {}, {"soot_pct": 3.6, "bn": 1.4})
SILOXANE = Fault("silicone", 860, 60, None, {}, {"si": 46})
SEA = Fault("sea_water", 960, 40, None, {"cu": 1.9}, {"na": 210, "mg": 25, "water_ppm": 1500})
CONDENSATION = Fault("condensation", 900, 60, None, {}, {"water_ppm": 1500, "fuel_pct": 0.5})
HEAT = Fault("overheated_oil", 930, 60, None, {"fe": 1.2}, {}, {"oxidation": 3.2, "v100": 6.0, "an": 2.2, "bn": 1.5,
             "nitration": 1.6})  # fmt: skip
BLOW_BY = Fault("blow_by", 900, 90, None, {"fe": 2.8, "cr": 7.0, "al": 1.5}, {}, {"soot_pct": 1.9, "nitration": 2.4}, use=2.6)
SCUFFING = Fault("scuffing", 970, 25, None, {"al": 8.0, "fe": 2.6, "cr": 2.0}, magnet=2)
BUSHING = Fault("bushing", 880, 90, None, {"cu": 4.2, "sn": 7.0})
LEACHING = Fault("cooler_leaching", 420, 10, None, {}, {"cu": 60}, fade=170)
GEAR = Fault("gear_or_valve", 820, 120, None, {"fe": 3.4, "ni": 6.0, "cr": 1.6, "pq": 6.0}, magnet=3)
RUNNING_IN = Fault("break_in", 0, 1, None, {"fe": 5.0, "cu": 5.0, "al": 4.0, "cr": 3.0}, {"si": 22}, fade=18, magnet=2)
WORN_OUT = Fault("spent_additive", 880, 60, None, {"fe": 1.2}, {}, {"bn": 2.0, "an": 3.2})
FOREVER = 100_000

UNITS: tuple[UnitSpec, ...] = (
    UnitSpec("MV Hallovane", "Vessary Quay", "Ferry 40", "inter-island ferry", "h", 11.5, 8200, (
        _marine("port engine"), _marine("starboard engine", (DIRT,)), _marine_gear("port gearbox"),
        _marine_gear("starboard gearbox"), _hydraulics("ramp hydraulics"))),
    UnitSpec("MV Tavrinne Light", "Vessary Quay", "Ferry 40", "inter-island ferry", "h", 10.2, 15400, (
        _marine("port engine", interval=250.0), _marine("starboard engine", interval=250.0),
        _marine_gear("port gearbox"), _marine_gear("starboard gearbox"), _hydraulics("ramp hydraulics"))),
    UnitSpec("MV Sulvenna", "Northholm Pier", "Ferry 28", "inter-island ferry", "h", 9.0, 21900, (
        _marine("port engine"), _marine("starboard engine", (COOLANT,)), _marine_gear("gearbox"),
        _hydraulics("steering hydraulics", 60))),
    UnitSpec("WB Tern", "Vessary Quay", "Workboat 14", "workboat", "h", 5.5, 5100, (
        _marine("engine", (FUEL,)), _marine_gear("gearbox"), _hydraulics("deck hydraulics", 90))),
    UnitSpec("WB Petrel", "Northholm Pier", "Workboat 14", "workboat", "h", 4.8, 6400, (
        _marine("engine"), _marine_gear("gearbox", said_capacity_l=18.5), _hydraulics("deck hydraulics", 90))),
    UnitSpec("WB Gannet", "Northholm Pier", "Workboat 18", "workboat", "h", 6.2, 2900, (
        _marine("engine", interval=750.0, pace=1.5), _marine_gear("gearbox"), _hydraulics("deck hydraulics", 90))),
    _bus(11, 182000), _bus(12, 240500, engine=(OLD_DIRT,)), _bus(13, 96000),
    _bus(14, 131000, interval=30000, pace=1.25), _bus(15, 310200, engine=(BEARING,)),
    _bus(16, 58800, more={"said_capacity_l": 24.0}), _bus(17, 203300, engine=(SOOT,)), _bus(18, 144000),
    _genset("GS Northholm 1", "Northholm Power", "diesel", 18200), 
    _genset("GS Northholm 2", "Northholm Power", "diesel", 17650, longer=((700, 700.0),)),
    _genset("GS Ostrelle 1", "Ostrelle Power", "diesel", 30100, interval=250.0, longer=((640, 300.0),)),
    _genset("GS Ostrelle 2", "Ostrelle Power", "diesel", 29400),
    _genset("GS Dellarow 1", "Dellarow Digester", "biogas", 41000),
    _genset("GS Dellarow 2", "Dellarow Digester", "biogas", 39500, (SILOXANE,)),
    UnitSpec("Quay Crane 1", "Vessary Quay", "QC-25", "harbour", "h", 6, 12000, (_hydraulics("hydraulics", 260),)),
    UnitSpec("Quay Crane 2", "Vessary Quay", "QC-25", "harbour", "h", 5, 11050, (_hydraulics("hydraulics", 260),)),
    UnitSpec("Linkspan Northholm", "Northholm Pier", "LS-2", "harbour", "h", 3.5, 7700, (_hydraulics("hydraulics", 180),)),
    UnitSpec("Boat Lift", "Vessary Quay", "BL-60", "harbour", "h", 2.5, 3300, (_hydraulics("hydraulics", 140),)),
    UnitSpec("MV Ardessa Voe", "Vessary Quay", "Ferry 40", "inter-island ferry", "h", 10.8, 5200, (
        _marine("port engine"), _marine("starboard engine"), _marine_gear("port gearbox"), _marine_gear("starboard gearbox"),
        _hydraulics("ramp hydraulics"), _hydraulics("bow thruster hydraulics", 75))),
    UnitSpec("MV Braelune", "Northholm Pier", "Ferry 28", "inter-island ferry", "h", 8.6, 26300, (
        _marine("port engine", longer=((1040, 600.0),)), _marine("starboard engine"), _marine_gear("port gearbox"),
        _marine_gear("starboard gearbox", (SEA,)), _hydraulics("steering hydraulics", 60))),
    UnitSpec("WB Skua", "Vessary Quay", "Workboat 18", "workboat", "h", 6.0, 3900, (
        _marine("engine", (SCUFFING,)), _marine_gear("gearbox"), _hydraulics("deck hydraulics", 90, meter_no=2)),
        second_share=0.4),
    UnitSpec("WB Fulmar", "Northholm Pier", "Workboat 14", "workboat", "h", 5.1, 7100, (
        _marine("engine", (WORN_OUT,)), _marine_gear("gearbox"), _hydraulics("deck hydraulics", 90))),
    UnitSpec("WB Dunlin", "Northholm Pier", "Workboat 14", "workboat", "h", 3.6, 4400, (
        _marine("engine", (CONDENSATION,), said_marks_l=2.6), _marine_gear("gearbox"), _hydraulics("deck hydraulics", 90)),
        away=((300, 410, "laid_up"), (665, 775, "laid_up"), (1030, FOREVER, "laid_up"))),
    _bus(19, 77100), _bus(20, 165400), _bus(21, 288900, engine=(BLOW_BY,)), _bus(22, 121700),
    _bus(23, 219300, gearbox=(BUSHING,)), _bus(24, 254600, axle=(GEAR,)), _bus(25, 41900, more={"changed": (1000, "Skerry W 5W-40")}),
    _bus(26, 188200, more={"poured": (935, "Skerry G 40")}),
    _genset("GS Northholm 3", "Northholm Power", "diesel", 0, (RUNNING_IN,), new_at_start=True),
    _genset("GS Ostrelle 3", "Ostrelle Power", "diesel", 24800), _genset("GS Quenholm 1", "Quenholm Power", "diesel", 15300, (HEAT,)),
    _genset("GS Quenholm 2", "Quenholm Power", "diesel", 9900, (LEACHING,)),
    _genset("GS Dellarow 3", "Dellarow Digester", "biogas", 22400),
    UnitSpec("Quay Crane 3", "Vessary Quay", "QC-25", "harbour", "h", 4, 900, (), shares="Quay Crane 1"),
    UnitSpec("Slipway Winch", "Northholm Pier", "SW-8", "harbour", "h", 2, 15900, (_hydraulics("hydraulics", 110),),
             away=((1000, FOREVER, "retired"),)),
    UnitSpec("Fuel Barge", "Vessary Quay", "FB-1", "harbour", "h", 4, 2100, (
        _marine("pump engine", samples_a_charge=1), _hydraulics("crane hydraulics", 80)), estimated=True),
)  # fmt: skip
