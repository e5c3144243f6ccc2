"""What can be wrong, as data: for each cause its signs, what supports it, what speaks against it, and what to do.

Signs and actions are common practice of the trade, no source, unless one is named beside the row. ``diagnose`` scores
them.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from vornet.core.seen import SIGNS as SEEN_SIGNS

Kind = Literal["up", "down", "trace", "flat", "ratio", "fact", "either", "both"]


@dataclass(frozen=True)
class Sign:
    """One thing to look for. ``keys``: measurands (up, down: the clearest of them; trace: up for sure, however little;
    flat: all as usual; ratio: two), or a fact's name.

    ``low``, ``high``: for a ratio, between the two excesses, mg/kg to mg/kg.
    """

    kind: Kind
    keys: tuple[str, ...]
    low: float = 0.0
    high: float = 0.0
    parts: tuple[Sign, ...] = ()


def either(*parts: Sign) -> Sign:
    """The clearest of several signs."""
    return Sign("either", tuple(k for p in parts for k in p.keys), parts=parts)


def both(*parts: Sign) -> Sign:
    """All of several signs: the least of them counts."""
    return Sign("both", tuple(k for p in parts for k in p.keys), parts=parts)


def up(*keys: str) -> Sign:
    return Sign("up", keys)


def down(*keys: str) -> Sign:
    return Sign("down", keys)


def trace(*keys: str) -> Sign:
    return Sign("trace", keys)


def flat(*keys: str) -> Sign:
    return Sign("flat", keys)


def ratio(over: str, under: str, low: float, high: float) -> Sign:
    return Sign("ratio", (over, under), low, high)


def fact(name: str) -> Sign:
    return Sign("fact", (name,))


#: facts a sign may ask for
FACTS: tuple[str, ...] = (
    "magnet", "magnet_clean", "oil_changed", "gas", "long_charge", "oil_use", "an_past_bn", "spent", "break_in", "young", "fading",
    "gears", "sea_salt", "salt_undecided", *SEEN_SIGNS,
)  # fmt: skip

Grave = Literal["note", "fault", "stop"]
Where = Literal["engine", "gear", "any"]


@dataclass(frozen=True)
class Cause:
    """``main``: all are needed. ``supports`` and ``against``: sign and weight. ``otherwise``: a weaker main, which makes it no
    more than possible. ``explains``: causes whose signs this one brings along. ``grave``: what a strong one calls for:
    note (Watch), fault (Act), stop (Stop with an act limit passed). ``passes``: it belongs to its time and goes by itself, so it
    neither moves the proposal nor stays named. ``beside``: where only the weaker main is there, something is to be said beside it.
    ``stands_open``: only to be noted, yet open until it is seen to be over."""

    key: str
    name: str
    main: tuple[Sign, ...]
    do: str
    supports: tuple[tuple[Sign, float], ...] = ()
    against: tuple[tuple[Sign, float], ...] = ()
    otherwise: tuple[Sign, ...] = ()
    otherwise_most: int = 1
    strong_with: tuple[Sign, ...] = ()
    explains: tuple[str, ...] = ()
    grave: Grave = "fault"
    where: Where = "any"
    source: str = "common practice, no source"
    beside: bool = False
    limits: tuple[str, ...] = field(default=())
    passes: bool = False
    stands_open: bool = False


#: silicon to aluminium: upper crust 3.8 by mass (Rudnick & Gao 2003); road and test dusts 2 to 10
DUST = (2.0, 10.0)

CAUSES: tuple[Cause, ...] = (
    Cause(
        "dirt", "Dirt past the air filter", (up("si"), trace("al"), ratio("si", "al", *DUST)),
        "Find the leak in the intake, change the element, sample again in half an interval.",
        supports=(
            (up("fe"), 0.3), (up("cr"), 0.3), (fact("air_filter"), 0.4), (up("pq"), 0.1),
            (fact("oil_grit"), 0.3), (fact("air_blown"), 0.2), (fact("intake_loose"), 0.3), (fact("filter_collapsed"), 0.15),
        ),
        against=((flat("al"), 0.8),),
        explains=("silicone", "scuffing", "blow_by", "gear_or_valve"),
        source="dust ratio: Rudnick & Gao 2003 and common road and test dusts",
    ),
    Cause(
        "silicone", "Silicone, antifoam, sealant or siloxane", (up("si"),),
        "Note it; watch the next sample. No dirt, no wear.",
        supports=((flat("al"), 0.3), (fact("repair"), 0.3), (fact("oil_changed"), 0.2), (fact("gas"), 0.3)),
        against=((trace("al"), 0.9), (up("fe"), 0.5), (up("cr"), 0.5)),
        grave="note",
    ),
    Cause(
        "coolant", "Coolant in the oil", (up("na", "k"),),
        "Pressure-test the cooling system; drain once it is mended. Never open a hot pressurised cap.",
        supports=(
            (up("k"), 0.3), (up("b"), 0.3), (up("glycol_pct"), 0.5), (up("water_ppm"), 0.2), (up("v100"), 0.1), (up("cu"), 0.15),
            (up("pb"), 0.15), (fact("coolant_low"), 0.4), (fact("oil_coolant"), 0.5), (fact("oil_milky"), 0.2), (fact("hose_weeps"), 0.15),
        ),
        against=((fact("sea_salt"), 0.9),),
        strong_with=(up("k"), up("b"), up("si"), up("glycol_pct"), fact("coolant_low"), fact("oil_coolant")),
        otherwise=(fact("oil_coolant"),), otherwise_most=2,
        explains=("condensation", "bearing", "bushing", "cooler_leaching"), grave="stop", where="engine",
        limits=("na", "k", "glycol_pct", "water_ppm"),
    ),
    Cause(
        "sea_water", "Sea water in the oil", (up("na"), fact("sea_salt")),
        "Test the cooler; flush once it is mended.",
        supports=(
            (trace("mg"), 0.2), (up("water_ppm"), 0.3), (up("cu"), 0.2), (up("ni"), 0.1), (flat("k", "b"), 0.2), (fact("oil_milky"), 0.2),
        ),
        against=((up("b"), 0.5), (up("k"), 0.5)),
        otherwise=(up("na"), flat("k", "b"), fact("salt_undecided")), otherwise_most=2,
        explains=("condensation", "cooler_leaching", "bushing"),
        source="standard sea water, S = 35", beside=True,
    ),
    Cause(
        "condensation", "Condensation, short runs", (up("water_ppm"),),
        "Run it hot for an hour; shorten by calendar if it stands much.",
        supports=((flat("na", "k"), 0.3), (up("fuel_pct"), 0.1), (fact("oil_milky"), 0.3), (fact("sludge"), 0.1)),
        against=((up("na"), 0.8), (up("k"), 0.8), (up("glycol_pct"), 0.8)), grave="note", stands_open=True,
    ),
    Cause(
        "fuel", "Fuel in the oil", (up("fuel_pct"),),
        "Check injectors and lift pump; shorten the interval until it is mended.",
        supports=(
            (down("v100"), 0.3), (up("soot_pct"), 0.1), (up("fe"), 0.05), (fact("oil_fuel"), 0.3), (fact("hard_starting"), 0.15),
            (fact("smell"), 0.15), (fact("plug_dark"), 0.15),
        ),
        otherwise=(down("v100"),), grave="stop", where="engine", limits=("fuel_pct", "v100"), explains=("condensation",),
        beside=True,
    ),
    Cause(
        "combustion", "Poor combustion", (up("soot_pct"),),
        "Check air supply and injection timing.",
        supports=(
            (up("v100"), 0.15), (down("bn"), 0.25), (fact("air_filter"), 0.2), (up("fe"), 0.15), (flat("cr"), 0.3),
            (fact("smoke"), 0.2), (fact("low_power"), 0.15), (fact("plug_dark"), 0.15), (fact("sludge"), 0.1),
        ),
        against=((up("cr"), 0.4), (up("nitration"), 0.2)), explains=("spent_additive",), where="engine",
    ),
    Cause(
        "overheated_oil", "Overheated or overworked oil", (either(up("oxidation"), both(up("an"), up("v100"))),),
        "Check oil temperature and cooler; shorten the interval.",
        supports=((up("v100", "v40"), 0.5), (up("an"), 0.3), (down("bn"), 0.2), (up("nitration"), 0.15), (fact("sludge"), 0.2)),
        against=((up("fuel_pct"), 0.4), (up("cr"), 0.3)), explains=("spent_additive",),
    ),
    Cause(
        "blow_by", "Blow-by: rings and liners", (up("fe"), up("cr")),
        "Compression or leak-down test.",
        supports=(
            (up("soot_pct"), 0.25), (up("nitration"), 0.3), (fact("oil_use"), 0.3), (up("al"), 0.05),
            (fact("smoke"), 0.2), (fact("low_power"), 0.15), (fact("hard_starting"), 0.1), (fact("plug_dark"), 0.15),
        ),
        against=((up("si"), 0.6), (up("al"), 0.2), (up("ni"), 0.3), (up("fuel_pct"), 0.2)),
        explains=("combustion", "gear_or_valve"), where="engine",
    ),
    Cause(
        "scuffing", "Piston scuffing", (up("al"), trace("fe", "cr")),
        "Inspect at once; do not load it.",
        supports=((flat("si"), 0.4), (fact("magnet"), 0.1), (fact("oil_glitter"), 0.15), (fact("filter_metal"), 0.15), (fact("noise"), 0.15)),
        against=((ratio("si", "al", *DUST), 0.9), (up("si"), 0.5)),
        explains=("blow_by", "gear_or_valve"), grave="stop", where="engine", limits=("al", "fe", "cr"),
    ),
    Cause(
        "bearing", "Bearing wear", (up("pb", "sn"),),
        "Cut the filter open, check oil pressure, plan the overhaul.",
        supports=(
            (up("cu"), 0.4), (up("pb"), 0.3), (up("sn"), 0.1), (fact("magnet_clean"), 0.1), (fact("oil_glitter"), 0.3),
            (fact("filter_metal"), 0.3), (fact("strainer_chunks"), 0.3), (fact("filter_collapsed"), 0.15), (fact("noise"), 0.15),
            (fact("lamp"), 0.15),
        ),
        against=((flat("pb"), 1.0), (up("na"), 0.5), (up("k"), 0.5)),
        explains=("bushing", "cooler_leaching"), grave="stop", limits=("pb", "sn", "cu"),
    ),
    Cause(
        "bushing", "Bushing wear", (up("cu"), trace("sn")),
        "Inspect bushings and thrust washers.",
        supports=(
            (flat("pb"), 0.5), (fact("magnet_clean"), 0.1), (flat("pq"), 0.1), (fact("oil_glitter"), 0.2), (fact("filter_metal"), 0.15),
        ),
        against=((up("pb"), 0.7), (fact("oil_changed"), 0.3), (fact("young"), 0.2), (fact("fading"), 0.6), (up("na"), 0.4)),
        otherwise=(up("cu"), flat("pb")), otherwise_most=2, explains=("cooler_leaching",),
        beside=True,
    ),
    Cause(
        "cooler_leaching", "Copper leaching from the cooler",
        (up("cu"), flat("pb", "sn"), either(fact("oil_changed"), fact("young"), fact("fading"))),
        "Let it fade; look for lead or tin before anything is opened.",
        supports=((fact("oil_changed"), 0.3), (fact("fading"), 0.2), (flat("fe"), 0.1)),
        against=((trace("pb"), 0.8), (trace("sn"), 0.8), (up("na"), 0.4), (up("k"), 0.4)),
        otherwise=(up("cu"), flat("pb", "sn")), grave="note",
    ),
    Cause(
        "gear_or_valve", "Gear or valve-train wear", (up("fe"), either(trace("ni", "pq"), fact("gears"), flat("cr", "al", "si"))),
        "Inspect; look at the magnet and cut the filter.",
        supports=(
            (trace("pq"), 0.3), (trace("ni"), 0.3), (fact("magnet"), 0.5), (fact("strainer_chunks"), 0.4),
            (fact("filter_metal"), 0.3), (fact("oil_glitter"), 0.2), (fact("filter_collapsed"), 0.15), (fact("noise"), 0.15),
            (fact("hard_shifting"), 0.2),
        ),
        against=((up("si"), 0.5), (up("al"), 0.3), (up("soot_pct"), 0.4), (up("fuel_pct"), 0.3)), explains=("blow_by",),
    ),
    Cause(
        "break_in", "Running in", (fact("break_in"), up("fe", "cu", "si", "al", "cr")),
        "Drain early and go on; it falls with every charge.",
        explains=(
            "dirt", "silicone", "blow_by", "scuffing", "bearing", "bushing", "cooler_leaching", "gear_or_valve",
        ), grave="note", passes=True,
    ),
    Cause(
        "spent_additive", "Worn-out additive", (either(fact("spent"), both(down("bn"), up("an"))),),
        "Shorten the interval.",
        supports=((fact("an_past_bn"), 0.5), (fact("long_charge"), 0.2), (flat("oxidation"), 0.3), (fact("sludge"), 0.15)),
        against=((up("oxidation"), 0.5), (up("soot_pct"), 0.3)), where="engine",
    ),
)  # fmt: skip

BY_KEY: dict[str, Cause] = {c.key: c for c in CAUSES}
#: holds that are themselves an answer: reason of the hold → cause's key and name
OF_HOLDS: dict[str, tuple[str, str]] = {
    "wrong_oil": ("wrong_oil", "Wrong or mixed oil"),
    "swapped_bottle": ("swapped_bottle", "Swapped bottle"),
    "dirty_bottle": ("dirty_bottle", "Dirty bottle"),
}
NAMES: dict[str, str] = {**{c.key: c.name for c in CAUSES}, **dict(OF_HOLDS.values())}
DO: dict[str, str] = {
    **{c.key: c.do for c in CAUSES},
    "wrong_oil": "Find the can that was poured; drain it if the oil is not approved there.",
    "swapped_bottle": "Ask for both bottles again.",
    "dirty_bottle": "Sample again.",
}
#: a comment ready to be taken for a verdict, by its code (run on, watch, act, stop); common practice, no source
READY: dict[int, str] = {
    0: "Nothing stands out. Go on as planned.",
    1: "Keep an eye on it: sample again at half the interval.",
    2: "Act before the next drain; sample again after.",
    3: "Stop it and look before it runs again.",
}
READY_WITHOUT = "Sample again: too little was measured."
#: days until an action is due, by the verdict's code; common practice, no source
DUE_DAYS: dict[int, int] = {1: 30, 2: 14, 3: 2}


def main_keys(cause: str) -> set[str]:
    """Measurands among a cause's main signs; none for one that only a hold tells."""
    found = BY_KEY.get(cause)
    signs = [part for sign in (found.main if found else ()) for part in (sign.parts or (sign,))]
    return {key for sign in signs if sign.kind != "fact" for key in sign.keys}


#: every key, in the order of the trade's list
ORDER: tuple[str, ...] = (
    "dirt", "silicone", "coolant", "sea_water", "condensation", "fuel", "combustion", "overheated_oil", "blow_by", "scuffing",
    "bearing", "bushing", "cooler_leaching", "gear_or_valve", "break_in", "wrong_oil", "swapped_bottle", "dirty_bottle",
    "spent_additive",
)  # fmt: skip
