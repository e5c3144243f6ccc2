"""The one arithmetic of a drain against the mass balance done by hand, and its bounds."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vornet.core import drain
from vornet.core.drain import DrainFacts, Sump
from vornet.core.errors import InputError

SUMP = Sump(60, 55, 53, 4, True)
litres = st.floats(0, 60).map(lambda x: round(x, 2))


def test_an_overfull_sump_keeps_more_when_the_same_comes_out():
    """Reading 1.5 with 4 L between the marks: 2 L too many, 62 L were in, 54 came out, 8 stay (mass balance)."""
    got = drain.figures(SUMP, DrainFacts(level_before=1.5, out_l=54))
    assert (got.missing_l, got.residual_l, got.target_l) == (-2.0, 8.0, 52.0)
    assert got.residual_share == pytest.approx(8 / 60)


def test_litres_below_full_say_the_same_as_the_reading():
    read, given_l = (drain.figures(SUMP, f) for f in (DrainFacts(level_before=0.25, out_l=50), DrainFacts(missing_l=3.0, out_l=50)))
    assert read == given_l


@given(litres, st.floats(-0.5, 1.5).map(lambda x: round(x, 2)))
def test_nothing_is_lost_between_what_was_in_and_what_is(out_l, level):
    was_in = 60 - (1 - level) * 4
    try:
        got = drain.figures(SUMP, DrainFacts(level_before=level, out_l=out_l))
    except InputError as refused:
        assert refused.field == "drained_volume_l"
        assert out_l > was_in
        return
    assert got.residual_l == pytest.approx(max(was_in - out_l, 0), abs=0.07)  # a can's error is taken as all of it
    assert got.residual_l + got.target_l == pytest.approx(60)


@pytest.mark.parametrize(
    ("facts", "field"),
    [(DrainFacts(out_l=61), "drained_volume_l"), (DrainFacts(level_before=0, out_l=57), "drained_volume_l"),
     (DrainFacts(missing_l=60, out_l=1), "level_missing_l"), (DrainFacts(out_l=-1), "drained_volume_l"),
     (DrainFacts(out_l=54, poured_l=70), "poured_l"), (DrainFacts(poured_l=71), "poured_l")],
)  # fmt: skip
def test_what_cannot_be_is_refused_by_field(facts, field):
    with pytest.raises(InputError) as refused:
        drain.figures(SUMP, facts)
    assert refused.value.field == field


def test_what_a_can_is_off_by_is_all_of_it():
    assert drain.figures(SUMP, DrainFacts(out_l=60.05)).residual_l == 0.0
    with pytest.raises(InputError):
        drain.figures(SUMP, DrainFacts(out_l=60.07))


def test_only_a_refill_on_record_tells_the_whole():
    got = drain.figures(Sump(None, 20), DrainFacts(out_l=20))
    assert got.residual_l == pytest.approx(1.0)
    assert drain.figures(Sump(None, None), DrainFacts(out_l=20)).residual_l is None


@pytest.mark.parametrize(
    ("facts", "assumed"),
    [(DrainFacts(), ("level_not_read", "out_not_measured")), (DrainFacts(level_before=1, out_l=50), ()),
     (DrainFacts(missing_l=0, out_l=50), ()), (DrainFacts(out_l=50), ("level_not_read",))],
)  # fmt: skip
def test_what_was_taken_for_granted_is_told(facts, assumed):
    assert drain.figures(SUMP, facts).assumed == assumed


def test_a_level_without_marks_is_taken_as_full():
    got = drain.figures(Sump(60, 55), DrainFacts(level_before=0.2, out_l=50))
    assert (got.assumed, got.residual_l) == (("marks_unknown",), 10.0)


def test_the_filter_decides_what_goes_in_and_what_falls():
    changed, left = (drain.figures(SUMP, DrainFacts(filter_changed=x)) for x in (True, False))
    assert (changed.target_l, changed.fall_l, changed.residual_l) == (55, 2, 5)
    assert (left.target_l, left.fall_l, left.residual_l) == (53, 0, 7)
    assert drain.figures(SUMP, DrainFacts(prefilled=True)).fall_l == 0
    assert changed.first_pour_l == pytest.approx(0.9 * 55)


def test_how_well_the_residual_is_known():
    """Measured 1 %, at least 0.15 L; estimated 6 %; not measured 40 % of itself (common practice, no source)."""
    assert drain.figures(SUMP, DrainFacts(out_l=54)).residual_sd_l == pytest.approx(0.54)
    assert drain.figures(SUMP, DrainFacts(out_l=54, out_kind="estimated")).residual_sd_l == pytest.approx(3.24)
    assert drain.figures(SUMP, DrainFacts()).residual_sd_l == pytest.approx(2.0)


def test_what_is_still_to_add_follows_the_level_once_it_ran():
    low, enough, over = (drain.figures(SUMP, DrainFacts(out_l=54, poured_l=50, level_after=x)).add_l for x in (0.4, 0.85, 1.3))
    assert (low, enough, over) == (pytest.approx(2.4), 0.0, 0.0)
    assert drain.figures(SUMP, DrainFacts(out_l=54, poured_l=50)).add_l == 4.0


def test_the_next_charge_starts_with_its_share_of_the_old():
    assert drain.start_value(8 / 60, 45.0, 3.0) == pytest.approx((8 * 45 + 52 * 3) / 60)


def test_nothing_is_to_add_once_more_is_in_than_was_asked_for():
    assert drain.figures(SUMP, DrainFacts(out_l=54, poured_l=55.5)).add_l == 0.0
