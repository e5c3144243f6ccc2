"""Typed and shown quantities, thread sizes, schools of practice, concessions."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vornet.core import concession, measures, plugs, schools
from vornet.core.errors import InputError
from vornet.words.say import each


@pytest.mark.parametrize(
    ("text", "kind", "stored"),
    [
        # NIST SP 811 (2008), appendix B: 1 US qt 0.946352946 L, 1 US gal 3.785411784 L, 1 mi 1.609344 km,
        # 1 lbf·ft 1.3558179483314004 N·m, 1 in 25.4 mm, 1 psi 6.894757 kPa
        ("9.5 qt", "volume", 9.5 * 0.946352946), ("2 gal", "volume", 2 * 3.785411784), ("3 imp gal", "volume", 3 * 4.54609),
        ("19.2 fl oz", "volume", 19.2 * 0.0295735295625), ("18 lbf·ft", "torque", 18 * 1.3558179483314004),
        ("18 ft-lb", "torque", 18 * 1.3558179483314004), ("62 Nm", "torque", 62), ("100 mi", "distance", 160.9344),
        ("0.5 in", "length", 12.7), ("32 psi", "pressure", 32 * 6.894757293), ("50 °F", "temperature", 10),
        ("1,250 km", "distance", 1250), ("12 500", "distance", 12500), ("9,5", "volume", 9.5), ("-15 C", "temperature", -15),
    ],
)  # fmt: skip
def test_typed_quantities_with_their_units(text, kind, stored):
    assert measures.typed(text, kind, measures.Hand("si", "."), "x") == pytest.approx(stored, rel=1e-6)


def test_a_bare_number_is_in_the_fleets_unit():
    assert measures.typed("10", "volume", measures.Hand("us", "."), "x") == pytest.approx(9.46352946)
    assert measures.typed("10", "volume", measures.Hand("si", "."), "x") == 10
    assert measures.typed("10 L", "volume", measures.Hand("us", "."), "x") == 10


@pytest.mark.parametrize("text", ["nine", "9 bananas", "9 N·m", "", "1e999", "--4"])
def test_what_is_not_a_volume_is_refused_by_field(text):
    with pytest.raises(InputError) as refused:
        measures.typed(text, "volume", measures.Hand("si", "."), "capacity_l")
    assert refused.value.field == "capacity_l"


@given(st.floats(0.01, 99_000), st.sampled_from(["volume", "torque", "distance", "pressure"]), st.sampled_from(["si", "us"]))
def test_what_is_shown_comes_back_when_typed(value, kind, system):
    shown = measures.as_typed(value, kind, system)
    assert measures.typed(shown, kind, measures.Hand(system), "x") == pytest.approx(value, rel=2e-4, abs=2e-6)


def test_sentences_in_the_fleets_units():
    text = "99 L came out, but the system held only 60.5 L before; silicon 51 mg/kg, 5 mg/L"
    assert measures.said(text, "us") == ("104.6 qt came out, but the system held only 63.9 qt before; silicon 51 mg/kg, 5 mg/L")
    assert measures.said(text, "si") == text


def test_torque_against_thread():
    plugs.check_torque("M22x1.5", 55, "t")
    with pytest.raises(InputError, match=r"more than an M14x1\.5 plug bears"):
        plugs.check_torque("M14x1.5", 3000, "t")
    with pytest.raises(InputError, match="any plug"):
        plugs.check_torque(None, 3000, "t")
    # class 8.8 bolts, published tables after ISO 898-1 (from memory): what they take is never called impossible
    for size, torque in (("M8", 25), ("M10", 49), ("M12", 85), ("M16", 210), ("M20", 425), ("M24", 730)):
        plugs.check_torque(size, torque, "t")
    assert plugs.nominal_mm("1/2 NPT") == pytest.approx(18.7)
    assert plugs.nominal_mm("odd") is None


def test_schools_of_practice_stand_side_by_side():
    chosen = schools.in_force({"pour": "all"}, {"seals": "sound_reused"})
    assert chosen["pour"] == ("all", "fleet")
    assert chosen["seals"] == ("sound_reused", "compartment")
    assert chosen["torque"] == ("wrench", "default")
    with pytest.raises(InputError, match="not one of approach, all, returned"):
        schools.checked({"pour": "glug"})
    with pytest.raises(InputError, match="not a school"):
        schools.checked({"moon_phase": "full"})


def test_concessions_say_why():
    bands = [concession.Band("Thick", -15, 45), concession.Band("Thin", -30, 10, True)]

    def reasons(*given, system="si"):
        return each(concession.reasons(*given), system)

    assert reasons("Thick", "Thick", bands, 20, ["A"], ["a"]) == []
    assert reasons("Thin", "Thick", bands, 20, [], []) == ["Thin is meant from -30 to 10 °C, and it is 20 °C"]
    assert reasons("Thin", "Thick", bands, 20, [], [], system="us") == ["Thin is meant from -22 to 50 °F, and it is 68 °F"]
    assert reasons("Thin", "Thick", bands, None, [], []) == []
    assert "not among this compartment's oils" in reasons("Odd", "Thick", bands, 20, [], [])[0]
    assert reasons("Odd", "Thick", [], None, [], []) == ["Odd is not this compartment's oil, which is Thick"]
    assert reasons("Thick", "Thick", [], None, ["B-7"], ["A"]) == ["Thick does not hold B-7"]


@pytest.mark.parametrize(
    ("text", "expected"), [("0", 0.0), ("1", 1.0), ("80 %", 0.8), ("80%", 0.8), ("0,5", 0.5), ("-20 %", -0.2), ("  ", None)]
)
def test_a_level_as_people_type_it(text, expected):
    assert measures.level(text, "level") == (None if expected is None else pytest.approx(expected))


@pytest.mark.parametrize(("text", "why"), [("80", "MIN"), ("250 %", "MIN"), ("-1.2", "MIN"), ("full", "not a number"), ("%", "not a number")])
def test_a_level_far_from_the_marks_is_refused(text, why):
    with pytest.raises(InputError, match=why) as error:
        measures.level(text, "level_after")
    assert error.value.field == "level_after"
