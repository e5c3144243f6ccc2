"""What hangs on a compartment, as the register file and the forms know it: plugs, seals, filters, oils, readings.

Everything is optional; further keys are kept. Torques in N·m, volumes in L, temperatures in °C.
"""

from __future__ import annotations

import re
from datetime import date
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, field_validator, model_validator

from vornet.core import plugs, schools
from vornet.core.errors import InputError

Name = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=120)]
Words = Annotated[str, StringConstraints(strip_whitespace=True, max_length=4000)]
Positive = Annotated[float, Field(gt=0, le=1e7)]
NotNegative = Annotated[float, Field(ge=0, le=1e9)]
Count = Annotated[int, Field(ge=1, le=999)]
Torque = Annotated[float, Field(gt=0, le=1e5)]

#: where a figure came from
Source = Literal["manual", "plate", "measured", "guessed"]
SOURCES = ("manual", "plate", "measured", "guessed")
DRAIN_TYPES = ("plug", "valve", "suction")
LEVEL_METHODS = {
    "dipstick": "dipstick, wiped, fully home", "dipstick_threaded": "dipstick, threaded in",
    "dipstick_not_threaded": "dipstick, rested on the thread", "sight_glass": "sight glass, to the middle",
    "overflow": "filled until it overflows", "electronic": "electronic, read warm",
    "two_sided": "levelled on both sides",
}  # fmt: skip
FILL_METHODS = {"pour": "poured", "funnel": "by funnel", "pump": "pumped", "gun": "by suction gun"}
SAMPLING_POINTS = {"mid_stream": "mid-stream at the drain", "valve": "sampling valve", "dipstick_tube": "vacuum tube at the "
                   "dipstick"}  # fmt: skip
TIGHTENING = {
    "turns": "turns after contact", "hand": "hand-tight only", "torque": "to a torque",
    "back_off": "contact, back off a third, retighten",
}  # fmt: skip


def day_of_year(value: str | None) -> str | None:
    """A day of the year as MM-DD, None for none. Raises ValueError.

    >>> day_of_year("10-31"), day_of_year("")
    ('10-31', None)
    """
    if not value:
        return None
    if not re.fullmatch(r"\d\d-\d\d", value):
        raise ValueError(f"{value!r} is not a day of the year like 10-31")
    try:
        date(2000, int(value[:2]), int(value[3:]))
    except ValueError:
        raise ValueError(f"{value!r} is not a day of the year like 10-31") from None
    return value


class Row(BaseModel):
    model_config = ConfigDict(extra="allow", allow_inf_nan=False)

    @property
    def extra(self) -> dict[str, Any]:
        return dict(self.model_extra or {})


class DrainPoint(Row):
    place: Name
    type: Literal["plug", "valve", "suction"] = "plug"
    size: str | None = None
    wrench: str | None = None
    torque_min_nm: Torque | None = None
    torque_max_nm: Torque | None = None
    magnet: bool | None = None

    @model_validator(mode="after")
    def _bears(self) -> DrainPoint:
        for name in ("torque_min_nm", "torque_max_nm"):
            try:
                plugs.check_torque(self.size, getattr(self, name), name)
            except InputError as error:
                raise ValueError(f"{error.field} {error.why}") from None
        if self.torque_min_nm and self.torque_max_nm and self.torque_min_nm > self.torque_max_nm:
            raise ValueError(f"torque_min_nm {self.torque_min_nm:g} is above torque_max_nm {self.torque_max_nm:g}")
        return self


class FillPoint(Row):
    place: Name
    litres: Positive | None = None
    size: str | None = None


class Seal(Row):
    place: Name
    part: str | None = None
    kind: str | None = None
    count: Count = 1
    single_use: bool = True


class Filter(Row):
    part: Name
    place: str | None = None
    kind: Literal["spin_on", "cartridge", "inline"] | None = None
    count: Count = 1
    volume_l: Positive | None = None
    tightening: Literal["turns", "hand", "torque", "back_off"] | None = None
    turns: Annotated[float, Field(gt=0, le=5)] | None = None
    torque_nm: Torque | None = None
    prefill: bool | None = None
    approved: list[Name] = []
    barred: list[Name] = []

    @model_validator(mode="after")
    def _rule_has_its_figure(self) -> Filter:
        if self.tightening == "turns" and self.turns is None:
            raise ValueError("turns is needed when the filter is tightened by turns")
        if self.tightening == "torque" and self.torque_nm is None:
            raise ValueError("torque_nm is needed when the filter is tightened to a torque")
        if self.torque_nm is not None and self.torque_nm > 200:
            raise ValueError(f"torque_nm {self.torque_nm:,.0f} is more than any filter bears (about 200 N·m)")
        both = {p.casefold() for p in self.approved} & {p.casefold() for p in self.barred}
        if both:
            raise ValueError(f"{sorted(both)[0]!r} is both approved and barred")
        return self


class Part(Row):
    """A strainer, magnetic filter or breather: where it sits, its part number, whether it is washed and refitted."""

    place: Name
    part: str | None = None
    washable: bool | None = None


class OilBand(Row):
    """An oil allowed between two ambient temperatures; ``alternative``: allowed, not preferred."""

    oil: Name
    min_c: Annotated[float, Field(ge=-60, le=70)] | None = None
    max_c: Annotated[float, Field(ge=-60, le=70)] | None = None
    alternative: bool = False

    @model_validator(mode="after")
    def _band(self) -> OilBand:
        if self.min_c is not None and self.max_c is not None and self.min_c >= self.max_c:
            raise ValueError(f"min_c {self.min_c:g} is not below max_c {self.max_c:g}")
        return self


class Facts(Row):
    """What a compartment's register knows beside its volumes, oil and interval."""

    sources: dict[str, Source] = {}
    fill_method: Literal["pour", "funnel", "pump", "gun"] | None = None
    level_method: Literal[
        "dipstick", "dipstick_threaded", "dipstick_not_threaded", "sight_glass", "overflow", "electronic", "two_sided"
    ] | None = None  # fmt: skip
    sampling_point: Literal["mid_stream", "valve", "dipstick_tube"] | None = None
    oil_loss: Literal["with_metal", "clean"] | None = None
    oil_pressure_wait_s: Positive | None = None
    indicator_reset: Words | None = None
    access: Words | None = None
    required_approvals: list[Name] = []
    oils: list[OilBand] = []
    drain_points: list[DrainPoint] = []
    fill_points: list[FillPoint] = []
    seals: list[Seal] = []
    filters: list[Filter] = []
    strainers: list[Part] = []
    magnetic_filters: list[Part] = []
    breathers: list[Part] = []
    schools: dict[str, str] = {}

    @field_validator("schools")
    @classmethod
    def _schools_known(cls, value: dict[str, Any]) -> dict[str, str]:
        try:
            return schools.checked(value)
        except InputError as error:
            raise ValueError(str(error)) from None


#: readings a service item may ask for: key → (words, kind of quantity or unit, choices)
READINGS: dict[str, tuple[str, str, tuple[str, ...]]] = {
    "coolant_level": ("Coolant level", "choice", ("at the mark", "low", "empty")),
    "coolant_mix": ("Coolant mix, protects to", "temperature", ()),
    "coolant_added": ("Coolant made up", "volume", ()),
    "plug_gap": ("Plug gap", "length", ()),
    "plug_look": ("Plug look", "choice", ("light tan", "one darker than the others", "oily", "sooty", "white")),
    "belt": ("Belt deflection", "length", ()),
    "belt_look": ("Belt look", "choice", ("sound", "cracked", "glazed", "frayed")),
    "hose_look": ("Hose look", "choice", ("sound", "soft", "cracked", "weeping")),
    "tyre_pressure": ("Tyre pressure", "pressure", ()),
    "bolt_torque": ("Bolt torque", "torque", ()),
    "pedal_play": ("Pedal play", "length", ()),
    "air_filter": ("Air filter", "choice", ("clean", "dusty", "blocked", "leaking")),
    "oil_pressure": ("Oil pressure", "pressure", ()),
    "look": ("What was seen", "words", ()),
}
_SUFFIX = {"temperature": "_c", "volume": "_l", "length": "_mm", "pressure": "_kpa", "torque": "_nm"}


class Reading(Row):
    """What to read at a service, with its tolerance in the stored unit (°C, L, mm, kPa, N·m) or the good choice."""

    type: str
    low: Annotated[float, Field(ge=-1e6, le=1e6)] | None = None
    high: Annotated[float, Field(ge=-1e6, le=1e6)] | None = None
    good: list[str] = []

    @model_validator(mode="after")
    def _known(self) -> Reading:
        if self.type not in READINGS:
            raise ValueError(f"type {self.type!r} is not one of {', '.join(READINGS)}")
        if self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError(f"low {self.low:g} is above high {self.high:g}")
        choices = READINGS[self.type][2]
        for one in self.good:
            if choices and one not in choices:
                raise ValueError(f"good {one!r} is not one of {', '.join(choices)}")
        return self


class GreaseRoute(Row):
    points: Annotated[int, Field(ge=1, le=500)]
    strokes: Annotated[float, Field(gt=0, le=500)] | None = None
    grease: str | None = None
    places: list[Name] = []


class ServiceItem(Row):
    """One item of a service plan: what makes it due (whichever comes first) and what it asks for."""

    unit: Name
    compartment: Name | None = None
    item: Name
    every_h: Positive | None = None
    every_km: Positive | None = None
    every_days: Annotated[int, Field(gt=0, le=20000)] | None = None
    every_nth: Annotated[int, Field(ge=2, le=50)] | None = None
    nth_of: Name | None = None
    first_h: Positive | None = None
    first_km: Positive | None = None
    season: str | None = None
    condition: Words | None = None
    reading: Reading | None = None
    grease: GreaseRoute | None = None
    parts: list[Name] = []
    note: Words | None = None

    @field_validator("every_h", "every_km", "every_days", "first_h", "first_km", mode="before")
    @classmethod
    def _not_zero(cls, value: Any) -> Any:
        if isinstance(value, int | float) and not isinstance(value, bool) and value == 0:
            raise ValueError("an interval of zero is always due: leave it out, or give a length")
        return value

    @field_validator("season")
    @classmethod
    def _a_day_of_the_year(cls, value: str | None) -> str | None:
        return day_of_year(value)

    @model_validator(mode="after")
    def _comes_due(self) -> ServiceItem:
        if self.every_nth and not self.nth_of:
            raise ValueError("nth_of is needed beside every_nth: which service it rides on (oil drain, or an item's name)")
        if self.nth_of and not self.every_nth:
            raise ValueError("every_nth is needed beside nth_of: 2 for every second one")
        if self.nth_of and self.nth_of.casefold() == self.item.casefold():
            raise ValueError("nth_of: an item cannot ride on itself")
        if not (self.every_h or self.every_km or self.every_days or self.every_nth or self.season or self.condition):
            raise ValueError("never comes due: give every_h, every_km, every_days, every_nth with nth_of, season, or a condition")
        return self
