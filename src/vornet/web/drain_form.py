"""The form of a drain at the desk: texts read as a person writes them, told apart by field."""

from __future__ import annotations

import uuid
from dataclasses import dataclass, field
from datetime import date

from vornet.core import measures
from vornet.core.drain import DrainFacts
from vornet.core.errors import InputError
from vornet.core.measures import Hand
from vornet.flows.work.drain import AIR_FILTERS, Drained
from vornet.web.pages import number_like
from vornet.words.writing import read_day


@dataclass
class DrainForm:
    """What was typed, as text; ``errors`` by field."""

    fields: dict[str, str]
    hand: Hand = field(default_factory=Hand)
    errors: dict[str, str] = field(default_factory=dict)

    def amount(self, name: str, kind: str, label: str, low: float = 0.0, high: float = 1e7) -> float | None:
        """A typed quantity in its stored unit (`9.5 qt` is understood), None when blank; notes an error by field."""
        text = self.text(name)
        if not text:
            return None
        try:
            value = measures.typed(text, kind, self.hand, name)
        except InputError as error:
            self.errors[name] = error.why
            return None
        if not low <= value <= high:
            system = self.hand.system
            bounds = [f"{measures.shown(x, kind, system):g}" for x in (low, high)]
            self.errors[name] = f"{label} must lie between {bounds[0]} and {bounds[1]} {measures.unit(kind, system)}"
            return None
        return value

    def text(self, name: str) -> str:
        return self.fields.get(name, "").strip()

    def volume(self, name: str, label: str, low: float = 0.0) -> float | None:
        return self.amount(name, "volume", label, low, 1e5)

    def level(self, name: str) -> float | None:
        try:
            return measures.level(self.fields.get(name, ""), name, self.hand.mark)
        except InputError as error:
            self.errors[name] = error.why
            return None

    def day(self, today: date) -> date:
        try:
            return read_day(self.text("on"), "on") or today
        except InputError as error:
            self.errors["on"] = error.why
            return today

    def drained(self, counts: str, today: date) -> Drained:
        """The drain as far as it can be read; ``counts`` h or km. What cannot is in ``errors``."""
        magnet, air = self.text("magnet_grade"), self.text("air_filter")
        if magnet not in ("", "0", "1", "2", "3", "4"):
            self.errors["magnet_grade"] = "a grade from 0 to 4"
        if air not in ("", *AIR_FILTERS):
            self.errors["air_filter"] = f"one of {', '.join(AIR_FILTERS)}"
        try:
            client = uuid.UUID(self.fields.get("client_id", ""))
        except ValueError:
            client = uuid.uuid4()
        return Drained(
            on=self.day(today), meter=self.amount("meter", "distance" if counts == "km" else "hours", "the meter"),
            facts=DrainFacts(
                missing_l=self.volume("level_missing_l", "oil missing", -50), out_l=self.volume("volume_out_l", "oil out"),
                out_kind=self.fields.get("volume_out_kind", "measured"), filter_changed=self.fields.get("filter_changed", "yes") == "yes",
            ),
            in_l=self.volume("volume_in_l", "oil in"), magnet_grade=int(magnet) if number_like(magnet) else None,
            air_filter=air if air in AIR_FILTERS else None, oil=self.text("oil"), batch=self.text("batch"),
            ambient_c=self.amount("ambient_c", "temperature", "the air temperature", -60, 70), reading_after=self.level("reading_after"),
            concession=self.text("concession")[:500], sample_no=self.text("sample_no"), note=self.text("note"), client_id=client,
        )  # fmt: skip
