"""The checks that hold a sample or a row, as people meet them: name, what it asks, and what to do about it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Check:
    """``key`` the reason of a hold; ``remedy`` what to do; ``ready`` phrases for releasing and for rejecting; ``offers``
    what can be done with one key besides: swap, correct, top_up, drain, resample."""

    key: str
    name: str
    remedy: str
    release: str
    reject: str
    offers: tuple[str, ...] = ()


CHECKS: dict[str, Check] = {
    c.key: c
    for c in (
        Check(
            "meter_back", "Meter goes back",
            "Compare the label with the unit's readings; correct the meter, or record that it was replaced.",
            "Meter checked: right as it stands", "Meter unknown, nothing can be said by hours", ("correct",),
        ),
        Check(
            "meter_ahead", "Meter ahead of a later reading",
            "One of the two readings is wrong; correct the one that is.",
            "Meter checked: right as it stands", "Meter unknown, nothing can be said by hours", ("correct",),
        ),
        Check(
            "meter_jump", "Meter faster than the clock",
            "A digit too many, or two digits changed places; correct the meter.",
            "Meter checked: right as it stands", "Meter unknown, nothing can be said by hours", ("correct",),
        ),
        Check(
            "meter_beyond_use", "Meter beyond usual use",
            "Ask how the unit was used; if the figure is wrong, correct it.",
            "Use confirmed: it ran that much", "Meter unknown, nothing can be said by hours", ("correct",),
        ),
        Check(
            "oil_hours_exceed_drain", "Oil older than its fill",
            "A drain is missing on the record, or the label's oil hours are wrong.",
            "Oil hours on the label are wrong, the meter is right", "Cannot be placed in a charge", ("correct", "drain"),
        ),
        Check(
            "sample_before_fill", "Sample before the fill",
            "The day, the meter or the drain is wrong; correct the one that is.",
            "Checked: belongs to this charge", "Cannot be placed in a charge", ("correct",),
        ),
        Check(
            "viscosity_order", "Viscosity the wrong way round",
            "The lab has changed two columns; ask, or correct them.",
            "Checked with the lab", "Result withdrawn by the lab", ("correct",),
        ),
        Check(
            "viscosity_index", "Viscosity index out of range",
            "One of the two viscosities is wrong, or this is another oil.",
            "Checked with the lab", "Result withdrawn by the lab", ("correct",),
        ),
        Check(
            "bn_above_new", "Base number above new oil",
            "Oil does not gain base: a wrong bottle, another oil, or another method.",
            "Another batch or method, checked", "Result withdrawn by the lab", ("correct",),
        ),
        Check(
            "negative_value", "Value below zero",
            "Ask the lab.",
            "Taken as zero", "Result withdrawn by the lab", ("correct",),
        ),
        Check(
            "unit_slip", "Another unit than declared",
            "A column came in another unit; correct it, and tell the lab.",
            "Checked: the value is right", "Result withdrawn by the lab", ("correct",),
        ),
        Check(
            "wrong_oil", "Oil does not fit",
            "Find the can that was poured. If the oil is not approved there, drain it.",
            "This oil is really in there", "Not from this compartment", ("correct",),
        ),
        Check(
            "swapped_bottle", "Swapped bottles",
            "Two labels were changed over: swap the results, or ask for both again.",
            "Labels checked: not swapped", "Both bottles to be drawn again", ("swap", "resample"),
        ),
        Check(
            "unrecorded_drain", "Drain nobody recorded",
            "The oil is fresher than the record says: record the drain.",
            "Checked: no drain, the fall stands", "Result withdrawn by the lab", ("drain",),
        ),
        Check(
            "unrecorded_top_up", "Top-up nobody recorded",
            "More oil went in than the record says: record it, so that wear is worked out rightly.",
            "Small, left as it is", "Result withdrawn by the lab", ("top_up",),
        ),
        Check(
            "dirty_bottle", "Dirty bottle",
            "Dirt once, alone, with no wear to go with it: draw again before anything is concluded.",
            "Drawn again or explained: take it", "Bottle was dirty", ("resample",),
        ),
    )
}  # fmt: skip

#: why a row of a file waits, in words
ROW_REASONS: dict[str, tuple[str, str]] = {
    "unknown_unit": ("Unit not in the register", "Correct the name, or register the unit and try again."),
    "no_unit": ("No unit", "Correct the row, or find the bottle by its number."),
    "unknown_compartment": ("Compartment not in the register", "Correct the name, or register it and try again."),
    "no_compartment": ("No compartment", "Correct the row: say which."),
    "unknown_oil": ("Oil not in the library", "Correct the name, or add the oil and try again."),
    "no_date": ("No day", "Correct the row: when was it drawn?"),
    "bad_date": ("Day cannot be read", "Correct it as 2026-01-15."),
    "bad_number": ("Number cannot be read", "Correct it, or blank it if it was not measured."),
    "bad_value": ("Cell cannot be read", "Correct it."),
    "no_sample_number": ("No sample number", "Correct the row: the number on the bottle."),
    "too_many_cells": ("More cells than headings", "A separator stands inside a cell: correct the row."),
    "number_twice": ("Number twice in one file", "Two bottles cannot have one number: correct one of them."),
    "other_unit": ("Number used for another place", "Replace the earlier result, or correct the number."),
    "other_date": ("Number used for another day", "Replace the earlier result, or correct the number."),
    "contradicts": ("Other values, no newer report", "Replace the earlier result if the lab confirms this one."),
    "label_differs": ("Label says another place", "The bottle was registered elsewhere: correct the row, or the bottle."),
    "date_ahead": ("Day lies ahead", "Correct it: day and month may have changed places, or a digit is wrong."),
    "dates_order": ("Days out of order", "A sample is drawn before it is received, and received before it is reported."),
}
