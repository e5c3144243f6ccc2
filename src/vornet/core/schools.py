"""Where practitioners disagree: each school of practice as a setting of fleet and compartment.

The main schools stand side by side; none is enforced. Common practice, no source. A compartment's setting
wins over the fleet's, the fleet's over the first option listed here.
"""

from __future__ import annotations

from dataclasses import dataclass

from vornet.core.errors import InputError


@dataclass(frozen=True)
class School:
    """One question of practice and its options, each (key, words)."""

    key: str
    question: str
    options: tuple[tuple[str, str], ...]

    @property
    def keys(self) -> tuple[str, ...]:
        return tuple(k for k, _ in self.options)


def _school(key: str, question: str, options: str) -> School:
    pairs = (o.split("=") for o in options.split(" | "))
    return School(key, question, tuple((k.strip(), w.strip()) for k, w in pairs))


SCHOOLS: tuple[School, ...] = (
    _school("drain_temperature", "Drain the oil", "warm=warm, stirred | hot=hot | cooled=after cooling"),
    _school("drain_way", "It leaves by", "gravity=gravity | suction=suction"),
    _school("filter_order", "Filter comes off", "after=after the drain | before=before the drain | during=while it drains"),
    _school("pour", "Pour", "approach=short, then approach the mark | all=all of the measured amount | "
            "returned=exactly what came out"),
    _school("torque", "Drain plugs by", "wrench=torque wrench | feel=feel"),
    _school("filter_tightening", "Filters by", "maker=what is printed on them | turns=turns after contact | hand=hand only | "
            "torque=torque | back_off=contact, back off a third, retighten"),
    _school("seals", "Seals", "new=always new | sound_reused=a sound one goes back (never a single-use one)"),
    _school("prefill", "New filters go on", "dry=dry | prefilled=filled with new oil"),
    _school("filter_make", "Filters are", "maker=the maker's | equivalent=an approved equivalent"),
    _school("grade", "Oil grade", "printed=as printed | chart=chart alternative for the weather | own=own minimum | "
            "one_oil=one oil for everything"),
    _school("interval", "Interval by", "condition=condition of the oil | maker=the maker's figure | house=shorter house rule | "
            "indicator=on-board indicator | supplier=oil supplier's claimed life | calendar=calendar"),
    _school("replace", "Parts are replaced", "schedule=by schedule | look=by look"),
    _school("air_filter", "Air filters are", "never_blown=never blown out | blown=blown out below the maximum pressure"),
    _school("oil_change", "A change of oil takes", "several=several drain-and-fills to a target share | one=one drain"),
)  # fmt: skip
BY_KEY = {s.key: s for s in SCHOOLS}


def checked(settings: dict[str, object], field: str = "schools") -> dict[str, str]:
    """Settings with every key and option known. Raises InputError naming the one that is not."""
    out = {}
    for key, option in settings.items():
        school = BY_KEY.get(key)
        if school is None:
            raise InputError(f"{field}.{key}", f"is not a school of practice: {', '.join(BY_KEY)}")
        if option in (None, ""):
            continue
        if option not in school.keys:
            raise InputError(f"{field}.{key}", f"{option!r} is not one of {', '.join(school.keys)}")
        out[key] = str(option)
    return out


def in_force(fleet: dict[str, str], compartment: dict[str, str]) -> dict[str, tuple[str, str]]:
    """For every school the option in force and who set it: compartment, fleet or default."""
    out = {}
    for school in SCHOOLS:
        if compartment.get(school.key) in school.keys:
            out[school.key] = (compartment[school.key], "compartment")
        elif fleet.get(school.key) in school.keys:
            out[school.key] = (fleet[school.key], "fleet")
        else:
            out[school.key] = (school.keys[0], "default")
    return out


def words(key: str, option: str) -> str:
    return dict(BY_KEY[key].options).get(option, option)
