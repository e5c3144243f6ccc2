"""English: every sentence that evidence, holds, guards, reasons and faults are said in, one template a kind of fact.

How fields are filled stands in ``say``. Another language is a module like this one.
"""

from __future__ import annotations

from dataclasses import replace

from vornet.core.causes import NAMES as CAUSES
from vornet.core.measurands import MEASURANDS, spoken
from vornet.core.oil_properties import PROPERTIES
from vornet.words.say import Language
from vornet.words.writing import marked

UNITS = {
    u: u
    for u in (
        "h", "km", "mi", "mg/h", "mg/km", "mg/mi", "L", "qt", "°C", "°F", "mg/kg", "g/kg", "mm²/s", "mg KOH/g", "%", "A/cm",
        "A/0.1 mm", "/mL",
    )
}  # fmt: skip

TABLES = {
    "UNITS": UNITS,
    "NAMES": {m.key: m.spoken for m in MEASURANDS},
    "PROPERTIES": {p.key: spoken(p.name) for p in PROPERTIES},
    # in a list each thing once: thickening and thinning are one viscosity
    "LISTED": {p.key: spoken(p.name).partition(", ")[0] for p in PROPERTIES},
    "CAUSES": CAUSES,
    "STRENGTHS": {"possible": "possible", "probable": "probable", "strong": "strong"},
    "SIDES": {"high": "above", "low": "below"},
    "SCHOOLS": {
        "printed": "the maker's printed interval", "indicator": "the on-board indicator", "supplier": "the oil supplier's claim",
        "calendar": "the calendar", "house_rule": "the house rule", "fixed_last_sample": "the last sample's line",
        "statistical": "the statistical limits",
    },
    "LIMITS": {"watch": "watch", "act": "act"},
    "VERDICTS": {"act": "Act", "stop": "Stop"},
    "MAGNETS": {"furry": "thick furry build-up", "chips": "slivers or chips"},
    "SEEN": {
        "air_filter": "air filter found dusty, blocked or leaking",
        "magnet": "magnet grade up at the drain",
        "magnet_clean": "magnet clean: not ferrous",
        "repair": "repaired within the last weeks",
        "oil_changed": "another oil since this charge",
        "gas": "runs on gas",
        "long_charge": "well past the interval",
        "oil_use": "uses more oil than it used to",
        "coolant_low": "coolant level low",
        "air_blown": "air filter blown out again and again since it was new",
        "intake_loose": "a loose clamp found",
        "oil_milky": "oil milky at the drain",
        "oil_fuel": "oil smelt of fuel at the drain",
        "oil_grit": "oil gritty at the drain",
        "oil_glitter": "oil glittered at the drain",
        "oil_coolant": "coolant seen in the oil at the drain",
        "filter_metal": "metal in the filter's pleats at the drain",
        "filter_collapsed": "filter found collapsed: the oil ran past it",
        "sludge": "sludge in filter or strainer",
        "strainer_chunks": "chunks in the strainer",
        "leaked": "it leaked, so oil use says little",
        "noise": "noise noticed",
        "hard_shifting": "shifts hard",
        "hard_starting": "starts hard",
        "lamp": "a lamp came on",
        "smell": "a smell noticed",
        "smoke": "smoke noticed",
        "low_power": "low on power",
        "plug_dark": "a plug darker than the others, oily or sooty",
        "hose_weeps": "a coolant hose weeps",
        "an_past_bn": "acid number has passed base number",
        "spent": "base number past its watch limit, or passed by the acid number",
        "break_in": "first charge after new or overhauled",
        "young": "within the first charges after new or overhauled",
        "fading": "copper fading over the charges",
        "gears": "iron here is gears and bearings",
        "sea_salt": "magnesium came with the sodium, in the proportion of sea water",
        "salt_undecided": "the oil's own magnesium hides whether sea water's came with the sodium",
    },
    "BESIDE": {
        "sea_water": "salt, source undecided: the oil's own magnesium hides it",
        "fuel": "shear and a wrong top-up thin the oil too",
        "bushing": "copper alone may be brass, whose zinc hides among the additives",
    },
}  # fmt: skip

#: what speaks for a proposed verdict
_EVIDENCE = {
    "past_limit": "{of:^name} {value:figure} is {side:SIDES} {limit:LIMITS} {bound:figure}{parts}",
    "barely": ", by less than two standard deviations",
    "as_always": ", as always here: its rate is its own usual one ({z:+.1f} sd, {n:.0f} stretches), {times:.1f} times the family's. "
    "It still stands against lengthening",
    "an_past_bn": "Acid number {an:.2f} has passed base number {bn:figure}",
    "wears": "{of:^name} wears at {rate:rate} since {since:length}, usual {usual:bare_rate} ± {spread:bare_rate}",
    "wears_faster": "{of:^name} wears faster inside this charge: {rate:rate} since {since:length}, {before:bare_rate} before ({z:.1f} sd)",
    "magnet": "Magnet grade {grade:.0f} at the drain: {found:MAGNETS}",
    "seen_here": "{seen:^SEEN}, too coarse for what the lab burns",
    "seen_water": "{seen:^SEEN}",
    "break_in": "Break-in charge: metal counts one step less",
    "stood": "Drawn after the oil had stood or cooled: metal, dirt and water may be higher. Sample again warm",
    "no_cause": "No cause fits: {of:name} stands alone, without the signs that would name one",
    "no_cause_seen": "No cause fits: what was seen stands alone, without the signs that would name one",
    "nothing_limited": "No value that a limit applies to",
}
#: what speaks for a cause, and against it
_SIGNS = {
    "supports": "Supports: {parts}",
    "against": "Against: {parts}",
    "beside": "Beside it: {cause:BESIDE}",
    "seen": "{seen:^SEEN}",
    "ratio": "{over:^name} to {under:name} {found:.1f} : 1, expected {low:g} to {high:g}",
    "as_usual": "{of:Name} as usual",
    "past_untold": "{of:^name} past its limit, with no stretch to tell a rate from",
    "gains": "{of:^name} gains {got:fine} {0}, usual {usual:fine_bare} ± {sd:fine_bare} ({z:.1f} sd{1})",
    "loses": "{of:^name} loses {got:fine} {0}, usual {usual:fine_bare} ± {sd:fine_bare} ({z:.1f} sd{1})",
    "stands_at": "{of:^name} {got:fine}, usual {usual:fine_bare} ± {sd:fine_bare} ({z:.1f} sd{0})",
    "per": "per {span:length}",
    "an_interval": "an interval",
    "drift": ", a small lasting shift",
}
#: faults that stand open
_FAULTS = {
    "open_level": "{of:^name} {value:bare} past watch {limit:given}",
    "open_rate": "{of:^name} wears faster than usual",
    "open_cause": "{cause:CAUSES} ({strength:STRENGTHS})",
    "open_magnet": "magnet grade {grade:.0f} at the last drain",
}
#: guards as they are asked
_GUARDS = {
    "no_open_fault": "No open fault",
    "open_faults": "Open: {parts:joined}",
    "calm": "Last {needed:.0f} verdicts are Run on{parts}",
    "verdicts_to_go": "Run on: {to_go:.0f} more samples to go{parts}",
    "unsigned": " ({n:.0f} of them only proposed, not signed)",
    "passed_over": "; {n:.0f} drawn after the oil had stood not counted",
    "charges": "{n:.0f} of {needed:.0f} charges sampled{parts}",
    "charges_of": " ({of:LISTED})",
    "charges_limiting": " for the limiting property",
    "unanswered": "Measured too seldom to answer: {of:LISTED}",
    "no_limit": "Limit not known without the new oil's value: {of:LISTED}",
    "impossible": "This limit cannot hold for this oil: {parts:joined}",
    "impossible_limit": "{of:PROPERTIES} of new oil {new:g}, limit {limit:given}",
    "bounded": "Known only to lie beyond what the lab reports in {n:.0f} charges: {of:LISTED}",
    "unmeasured": "Never measured here, so not weighed: {of:LISTED}",
    "never": "No limit is within reach: that alone never lengthens",
    "within_reach": "A limit is within reach",
    "cap": "Maker's or warranty cap {limit:length}",
    "oil_cap": "What {oil:or the oil} may run at most {limit:length}",
    "filter": "What the oil filter may run: {limit:length}",
    "bypass": "What the bypass filter may run: {limit:length}",
    "no_held_bottle": "No bottle waits to be settled",
    "held_bottles": "Held and not settled: {parts:joined}",
    "held_newest": "the newest bottle",
    "held_act": "a bottle past act in {of:name}",
    "school_unknown": "The policy never goes beyond {school:SCHOOLS}, and none is on record",
    "beyond_safe": "Beyond its safe {safe:length}",
    "days_step": "At most +{share:.0%} at once: {days:.0f} days",
    "sampled": "At most {times:g} × the longest oil hours sampled: {limit:length}",
    "step_too_fine": "The longest step at once is less than a full step of {step:length} for an interval of {interval:length}: nothing could "
    "ever be lengthened",
    "gain_beyond_step": "Nothing moves for less than {gain:.0%}, and at most {step:.0%} at once: nothing could ever be lengthened",
    "act_unsure": "Running to the act limit asks for {sure:.0%} sure at least: else more than one drain in twenty would be past it",
    "more_verdicts_than_bottles": "{verdicts:.0f} verdicts in a row and only {charges:.0f} charges: more than their bottles can give",
    "house_beyond_cap": "The house rule is the whole of the maker's cap: it would say nothing that the cap does not",
    "no_room_to_learn": "Never beyond what was sampled, and nothing moves without a gain: nothing longer could ever be tried",
    "school": "The policy never goes beyond {school:SCHOOLS}: {limit:length}",
    "step": "At most +{share:.0%} at once: {limit:length}",
    "calendar": "The calendar limit falls at about {limit:length}",
    "trial": "{limit:length} are on trial in this charge",
}
#: what lifts a guard
_LIFTS = {
    "lifts_fault": "A later sample whose rise is back at the usual, or a finding, closes it",
    "lifts_verdicts": "{to_go:.0f} more in a row that say Run on",
    "lifts_charges": "{more:.0f} more {more:charge|charges} of this oil, each sampled near its end",
    "lifts_unanswered": "Bottles late in the next charges with {of:LISTED} measured",
    "lifts_no_limit": "A sample of new {oil:or oil} with {of:LISTED} measured",
    "lifts_impossible": "Another limit for this oil, or its new-oil value put right",
    "lifts_bounded": "Figures from the lab in place of bounds, over as many charges as are needed",
    "lifts_never": "Samples at greater oil age, until a limit comes into reach",
    "lifts_filter": "A filter made for more, or changed between drains",
    "lifts_cap": "The maker's written consent to more",
    "lifts_held_bottle": "Settling it in the lab inbox, or a later bottle",
    "lifts_school_unknown": "{school:SCHOOLS} in the register, or another school in the policy",
    "lifts_sampled": "A bottle later than {longest:length} on one oil",
    "lifts_school": "Another school in the policy",
    "lifts_step": "A next step, once this one holds",
    "lifts_calendar": "A longer calendar limit, or more use",
    "lifts_trial": "The trial's end: adopted, or fallen back from",
}
#: why a trial stopped
_TRIALS = {
    "trial_past": "the bottle at {at:length} is past the watch limit of {of:PROPERTIES}",
    "trial_verdict": "the bottle at {at:length} says {verdict:VERDICTS}",
    "trial_fault": "a fault is open: {parts:joined}",
    "trial_sold": "the unit is no longer in the fleet",
    "trial_replaced": "another length was put in force while its charge ran",
    "trial_unread": "its charge ended without a bottle at {at:length}",
    "trial_forecast": "as its bottles say now, this charge is safe for {safe:length}, short of the next bottle at {next:length}",
}
#: why a decision came out as it did
_REASONS = {
    "reasons": "{parts:joined}",
    "and_so": "{parts:sentences}",
    "no_interval": "No interval on record to move",
    "bends": "Safe for {safe:length} should {of:PROPERTIES} bend as it may, {0} if it does not: no bottle half way has shown which",
    "at_least": "{mild:length}",
    "no_reach": "without a limit in reach",
    "beyond_sampled": "Never sampled beyond {longest:length} of a {base:length} interval",
    "longer": "Safe for {safe:length}, limited by {of:PROPERTIES}",
    "too_little": "Safe for {safe:length}: too little above {base:length} to move for",
    "faster_lately": "The last charges age {pace:.1f} times as fast as those before, and decide",
    "by_family": "Told by the family's charges of {oil:or this oil}, none of its own yet",
    "no_charge_yet": "No charge of {oil:or the oil in use} has been sampled yet",
    "one_charge": "Only one charge of {oil:or the oil in use} has been sampled, and of one no spread can be told",
    "few_charges": "So few charges tell no spread: {of:LISTED}",
    "limits_unknown": "Limits not known without the new oil's values: {of:LISTED}",
    "nothing_measured": "No deciding property has been measured in a charge with a known start",
    "cap_below": "The maker's cap of {limit:length} lies below the {base:length} it runs today",
    "filter_below": "The oil filter may run {limit:length}, less than the {base:length} it runs today",
    "bypass_below": "The bypass filter may run {limit:length}, less than the {base:length} it runs today",
    "oil_cap_below": "{oil:or The oil} may run {limit:length} at most, and it runs {base:length} today",
    "as_it_is": "Safe for {limit:length} as it is now, with the fault open{parts}",
    "repaired": "; {safe:length} once repaired",
    "too_close": "New oil lies too close to the limit of {of:PROPERTIES} to run at all",
    "shorter": "Safe for {safe:length} of the {base:length} it runs today, limited by {of:PROPERTIES}",
}
#: the bottle most worth drawing
_BOTTLES = {
    "bottle_new": "A bottle of new {oil:or oil}: without it no limit for {of:LISTED}",
    "bottle_fault": "A bottle from warm oil at half the interval or later: it shows whether the fault is gone",
    "bottle_thin": "A bottle late in this charge with {of:LISTED} measured",
    "bottle_any": "A bottle late in this charge with what wears the oil out measured",
    "bottle_charge": "A bottle late in this charge, with figures rather than bounds: one charge more that counts",
    "bottle_verdict": "The next bottle from warm oil: {parts}",
    "bottle_bend": "A bottle half way through a charge, and one at its end: together they show whether it bends",
    "bottle_end": "A bottle at the end of this charge: what lies beyond the oldest oil sampled is not proposed",
    "bottle_weighed": "A bottle at about {at:length}, with {of:PROPERTIES} measured",
}
#: why a sample is held
_HOLDS = {
    "meter_back": "the meter goes back: {total:length} after a reading of {prior:length}",
    "meter_ahead": "the meter is ahead of a later reading: {total:length}, then {later:length}",
    "meter_jump": "the meter jumps: {gain:length} more in {days:.0f} days",
    "meter_beyond_use": "the meter gained {gain:length} in {days:.0f} days; usual is {usual:length.1} a day",
    "oil_hours": "{given:bare_length} oil hours, but only {known:bare_length} since the last drain on record",
    "before_fill": "the meter lies before the fill of this charge",
    "viscosity_order": "viscosity {v40:g} mm²/s at 40 °C is not above {v100:g} mm²/s at 100 °C",
    "viscosity_index": "viscosities {v40:g} and {v100:g} mm²/s make an index of {index:.0f}; "
    "engine oils lie between {low:.0f} and {high:.0f}",
    "bn_above_new": "base number {bn:.2f} is above the new oil's {new:figure}",
    "negative_value": "a measured value is below zero",
    "slips": "{parts:joined}",
    "slip": "{of:name} {value:g} {0} {right:figure} would fit, {usual:bare} usual",
    "slip_unit": "in {unit:UNITS}?",
    "slip_times": "off by {times:g}?",
    "other_oil": "fits {0}: {1} mg/kg",
    "no_oil": "the additives do not fit {oil:or the oil on record} nor any mixture of known oils: {0} mg/kg{1}",
    "reason_and": "{parts}",
    "shares": "{parts:plus}",
    "share": "{share:.0%} {oil:or the oil on record}",
    "figures": "{parts:listed}",
    "figure_for": "{of:name} {value:,.0f} for {new:,.0f}",
    "nearest": "; nearest other is {oil}",
    "nothing": "",
    "labels_open": "; it would fit {parts} as well, whose bottle would fit here: whether labels were changed over cannot be told",
    "dirty": "{0}; no iron or chromium came with it{1}",
    "dirty_figure": "{of:name} {value:,.0f} where {expected:,.0f} was to be expected",
    "dirty_settled": ", and a later sample of the same charge is without it",
    "dirty_clean": ", and the next sample is clean",
    "unrecorded_drain": "fell inside one charge: {0}; {share:.0%} of the oil is new, which no top-up on record explains",
    "unrecorded_top_up": "fell inside one charge: {0}; at least {share:.0%} new oil{1} that nobody recorded",
    "fell": "{of:name} {before:,.0f} to {after:,.0f}",
    "about_litres": ", about {litres:volume}",
    "swapped": "its values fit {0} and the other's fit here: {1} times likelier swapped, {pairs:.0f} {pairs:pair|pairs} tried{2}",
    "times": "{times:,.0f}",
    "over_a_million": "over a million",
    "as_like": "; {parts} is so like that one that it cannot be told which of the two it was",
    "another_bottle": "another bottle",
    "bottle": "{unit} {compartment} (sample {no})",
}
#: what a cause's sign looks at, where what findings teach is shown
_LEARNED = {
    "main_signs": "its main signs",
    "seen_sign": "{seen:SEEN}",
    "sign_up": "{of:name_or} up",
    "sign_down": "{of:name_or} down",
    "sign_trace": "{of:name_or} up, however little",
    "sign_flat": "{of:name_or} as usual",
    "sign_ratio": "{over:name} to {under:name} in proportion",
    "sign_either": "{of:name_or}",
    "sign_both": "{of:name_or}",
}
#: why an oil needs a concession
_CONCESSIONS = {
    "not_among": "{oil} is not among this compartment's oils: {oils}",
    "not_usual": "{oil} is not this compartment's oil, which is {usual}",
    "outside": "{oil} is meant {parts:or}, and it is {ambient:temperature}",
    "any_weather": "in any weather",
    "up_to": "up to {max:temperature}",
    "from": "from {min:temperature}",
    "from_to": "from {min:bare_temperature} to {max:temperature}",
    "not_held": "{oil} does not hold {parts:and}",
    "approval": "{approval}",
}

ENGLISH = Language(
    sentences={
        **_EVIDENCE,
        **_SIGNS,
        **_FAULTS,
        **_GUARDS,
        **_LIFTS,
        **_TRIALS,
        **_REASONS,
        **_BOTTLES,
        **_HOLDS,
        **_LEARNED,
        **_CONCESSIONS,
    },
    tables=TABLES,
    marks={"joined": "; ", "listed": ", ", "plus": " + ", "sentences": ". ", "and": " and ", "or": " or "},
)

#: the same with figures as whoever reads them writes figures, for what is shown and not kept
AS_READ = replace(ENGLISH, figure=marked)
