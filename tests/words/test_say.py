"""Facts in words: the digits and units of the reader, and English as the trade reads it."""

import ast
from string import Formatter

import pytest

from vornet.core.fact import told
from vornet.core.measures import SI, US
from vornet.store.database import clone_dir
from vornet.words import en
from vornet.words.say import _WAYS, each, parsed, say

#: 1 mi = 1.609344 km, 1 US qt = 0.946352946 L (NIST SP 811)
ROWS = [
    (told("cap_below", limit=20000, base=30000, meter="km"),
     "The maker's cap of 20,000 km lies below the 30,000 km it runs today",
     "The maker's cap of 12,427 mi lies below the 18,641 mi it runs today"),
    (told("cap_below", limit=500, base=600, meter="h"), "The maker's cap of 500 h lies below the 600 h it runs today", None),
    (told("wears", of="fe", rate=0.0152, since=12000, usual=0.0101, spread=0.001, meter="km"),
     "Iron wears at 0.0152 mg/km since 12,000 km, usual 0.0101 ± 0.0010",
     "Iron wears at 0.0245 mg/mi since 7,456 mi, usual 0.0163 ± 0.0016"),
    (told("wears", of="pq", rate=1.234, since=1250, usual=0.9, spread=0.1, meter="h"),
     "PQ index wears at 1.23 mg/h since 1,250 h, usual 0.90 ± 0.10", None),
    (told("about_litres", litres=3.8), ", about 3.8 L", ", about 4.0 qt"),
    (told("meter_beyond_use", gain=8000, days=3, usual=250.5, meter="km"),
     "the meter gained 8,000 km in 3 days; usual is 250.5 km a day", "the meter gained 4,971 mi in 3 days; usual is 155.7 mi a day"),
    (told("viscosity_order", v40=12.5, v100=13), "viscosity 12.5 mm²/s at 40 °C is not above 13 mm²/s at 100 °C", None),
    (told("from", min=-12.5), "from -12.5 °C", "from 9.5 °F"),
    (told("past_limit", told("barely"), of="cr", value=12.34, side="high", limit="act", bound=12),
     "Chromium 12.3 mg/kg is above act 12.0 mg/kg, by less than two standard deviations", None),
    (told("stands_at", of="soot_pct", got=0.4, usual=0.2, sd=0.05, z=4.0), "Soot 0.40 %, usual 0.20 ± 0.05 (4.0 sd)", None),
    (told("gains", told("per", span=20000, meter="km"), told("drift"), of="ag", got=0.25, usual=0.1, sd=0.04, z=2.5),
     "Silver gains 0.25 mg/kg per 20,000 km, usual 0.10 ± 0.04 (2.5 sd, a small lasting shift)",
     "Silver gains 0.25 mg/kg per 12,427 mi, usual 0.10 ± 0.04 (2.5 sd, a small lasting shift)"),
    (told("as_usual", of=("na", "k")), "Sodium, Potassium as usual", None),
    (told("unmeasured", of=("v100_high", "v100_low", "bn")), "Never measured here, so not weighed: viscosity 100 °C, base number", None),
    (told("longer", safe=612.4, of="v100_low", meter="h"), "Safe for 612 h, limited by viscosity 100 °C, thinning", None),
    (told("lifts_charges", more=1), "1 more charge of this oil, each sampled near its end", None),
    (told("lifts_charges", more=2), "2 more charges of this oil, each sampled near its end", None),
    (told("oil_cap_below", limit=100, base=200, meter="h", oil=""), "The oil may run 100 h at most, and it runs 200 h today", None),
    (told("oil_cap_below", limit=100, base=200, meter="h", oil="Tarn 40"), "Tarn 40 may run 100 h at most, and it runs 200 h today", None),
    (told("and_so", told("charges", n=2, needed=3), told("faster_lately", pace=1.5)),
     "2 of 3 charges sampled. The last charges age 1.5 times as fast as those before, and decide", None),
    (told("impossible", told("impossible_limit", of="bn_minus_an", new=-1, limit=0), told("impossible_limit", of="an", new=3, limit=2.5)),
     "This limit cannot hold for this oil: base number over acid number of new oil -1, limit 0 mg KOH/g; "
     "acid number of new oil 3, limit 2.5 mg KOH/g", None),
    (told("slip", told("slip_unit", unit="A/0.1 mm"), of="oxidation", value=0.12, right=12, usual=11.4),
     "oxidation 0.12 in A/0.1 mm? 12.0 A/cm would fit, 11.4 usual", None),
    (told("slip", told("slip_times", times=0.01), of="fe", value=2500, right=25, usual=21),
     "iron 2500 off by 0.01? 25 mg/kg would fit, 21 usual", None),
]  # fmt: skip


@pytest.mark.parametrize(("fact", "metric", "customary"), ROWS, ids=[f.kind for f, _, _ in ROWS])
def test_a_fact_in_the_reader_s_units(fact, metric, customary):
    assert say(fact, SI) == metric
    assert say(fact.plain(), US) == (customary or metric)


def test_what_an_earlier_version_wrote_stands_as_it_was_written():
    assert say({"kind": "written", "keys": {"text": "Iron 60 mg/kg at 1,000 km"}}, US) == "Iron 60 mg/kg at 1,000 km"
    assert say(told("against", told("written", text="Iron as usual"))) == "Against: Iron as usual"


def test_a_kind_that_nobody_knows_is_an_error():
    with pytest.raises(KeyError, match="unheard_of"):
        say(told("unheard_of"))
    assert each(None) == []


def test_every_field_asks_for_a_way_there_is():
    ways = set()
    for template in en.ENGLISH.sentences.values():
        for _, name, way in parsed(template):
            if name is not None:
                ways.add(way.removeprefix("^"))
    plain = {w for w in ways if not w.startswith("or ") and "|" not in w}
    known = {*_WAYS, *en.ENGLISH.tables, *en.ENGLISH.marks, "name", "Name", "name_or", ""}
    formats = {w for w in plain - known if w[-1:] in "gf%"}
    for way in formats:
        format(1.0, way)  # a number's own format
    assert plain - known - formats == set()


def test_no_sentence_is_left_open():
    assert all(list(Formatter().parse(t)) and t.count("{") == t.count("}") for t in en.ENGLISH.sentences.values() if t)


@pytest.mark.parametrize(
    ("value", "shown"), [(1234567.0, "1234567"), (0.00001234, "0.00001234"), (12.5, "12.5"), (0.0, "0"), (-3.25, "-3.25")]
)
def test_a_figure_as_it_was_given_is_never_in_powers_of_ten(value, shown):
    assert say(told("viscosity_order", v40=value, v100=1)).startswith(f"viscosity {shown} mm²/s")
    assert say(told("open_level", of="fe", value=3, limit=value)).endswith(f"past watch {shown} mg/kg")


#: kinds whose names core puts together, and where
PUT_TOGETHER = {
    "lifts_unanswered", "lifts_no_limit", "unanswered", "no_limit", "cap", "oil_cap", "filter", "bypass", "cap_below",
    "oil_cap_below", "filter_below", "bypass_below", "gains", "loses", "calm",
    "sign_up", "sign_down", "sign_trace", "sign_flat", "sign_either", "sign_both",
}  # fmt: skip


def test_there_is_a_sentence_for_every_kind_and_a_kind_for_every_sentence():
    kinds = set()
    for path in (clone_dir() / "src" / "vornet").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            called = isinstance(node, ast.Call) and getattr(node.func, "id", getattr(node.func, "attr", "")) == "told"
            if called and node.args:
                kinds |= {n.value for n in ast.walk(node.args[0]) if isinstance(n, ast.Constant) and isinstance(n.value, str)}
    kinds -= {"_below", "lifts_", "sign_", "written"}
    assert set(en.ENGLISH.sentences) == kinds | PUT_TOGETHER
