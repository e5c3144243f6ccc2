"""The usual caution of a service item, found by what it is called. The maker's manual, local rules and licensed trades come first.

Common practice of the trade, no source.
"""

from __future__ import annotations

import re

#: words of an item's name or reading → what is said at that step
_SAID: tuple[tuple[str, str], ...] = (
    (
        r"fuel|injector|lift pump|water separator",
        "No flame, no sparks, battery off where it is near. Let the pressure out first; bleed it after a filter, and look for "
        "leaks while it runs. Diesel under pressure goes through skin.",
    ),
    (
        r"brake|brak",
        "Dust may hold fibres: never blow it off, never breathe it. What a licensed trade must sign for is left to it. Chock the "
        "wheels before any brake is released.",
    ),
    (
        r"coolant|radiator|antifreeze|thermostat",
        "Never open a hot, pressurised cap: let it cool until a hand stays on it. Coolant is poison; keep it off the ground and "
        "away from animals.",
    ),
    (
        r"tyre|tire|wheel|jack|hub",
        "Level, firm ground; the jack lifts, stands carry. Stand beside a tyre while it is filled, not before it.",
    ),
    (
        r"belt|fan|pulley|alternator",
        "Stopped, key out, and it cannot start by itself: a fan may run on. Fingers, sleeves and hair away.",
    ),
    (
        r"hydraul|hose|cylinder|ramp",
        "Lower or prop what it holds up, then let the pressure out. Never look for a leak with a hand.",
    ),
    (
        r"batter",
        "Hydrogen burns: no flame, ventilate. Minus off first and on last; acid in the eyes is an emergency.",
    ),
    (
        r"exhaust|turbo|manifold|particul|debris|clean-?out",
        "Dry debris burns: clear it cold, look for hidden smoulder, an extinguisher at hand.",
    ),
    (
        r"air filter|air cleaner|intake",
        "Engine stopped. Blow out only below the maximum pressure, eyes covered, or not at all.",
    ),
    (
        r"grease|greas|lubricat.*point",
        "Clean the fitting first. High-pressure grease goes through skin. Nothing moves while a hand is in it.",
    ),
    (
        r"refrigerant|air ?condition",
        "Refrigerant is for a licensed trade: it freezes skin and eyes, and may not be let out.",
    ),
    (
        r"wash|steam|pressure clean",
        "Wash before the job and dry it; never water into an intake, a breather, an open fill hole or electrics.",
    ),
)
#: where a caution is looked for before words: by the type of the item's reading
_BY_READING = {"coolant_level": "coolant", "coolant_mix": "coolant", "coolant_added": "coolant", "belt": "belt", "belt_look": "belt",
               "hose_look": "hose", "tyre_pressure": "tyre", "air_filter": "air filter", "plug_gap": "plug", "plug_look": "plug",
               "pedal_play": "brake"}  # fmt: skip
USUAL = "Stopped, secured against starting and rolling, and cool enough to touch. Gloves, eyes covered."


def of_item(name: str, reading: str = "") -> str:
    """The caution of a service item by its name, else by the type of its reading, else the usual one.

    >>> of_item("Fuel filter")[:22]
    'No flame, no sparks, b'
    >>> of_item("Check 4", "coolant_mix")[:17]
    'Never open a hot,'
    """
    for text in (name, _BY_READING.get(reading, "")):
        for words, said in _SAID:
            if re.search(words, text, re.IGNORECASE):
                return said
    return USUAL


def bleeds(name: str) -> bool:
    """Whether air is let out after it: a fuel filter.

    >>> bleeds("Fuel filter, coarse"), bleeds("Air filter")
    (True, False)
    """
    return bool(re.search(r"fuel.*filter|water separator", name, re.IGNORECASE))
