"""What is in force, day by day: what waits, what ends it, what falls back. Invented days."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vornet.core.in_force import (
    APPROVED,
    FELL_BACK,
    NEVER,
    REGISTER,
    STANDS,
    TRIAL,
    WAITS,
    Ground,
    Said,
    history,
    on_day,
)

A, B = 1, 2
OIL_A = Ground(oils=((0, A),))


def row(key, value, on, said_on=None, origin=APPROVED, **more):
    return Said(key=key, value=value, on=on, said_on=on if said_on is None else said_on, origin=origin, **{"oil": A, **more})


REG = row(1, 500, 0, origin=REGISTER)


def at(rows, day, ground=OIL_A):
    found = on_day(history(rows, ground), day)
    return None if found is None else found.value


def end_of(rows, key, ground=OIL_A):
    return next(s for s in history(rows, ground) if s.key == key)


def test_the_latest_word_stands_from_its_day_on():
    rows = [REG, row(2, 400, 10), row(3, 450, 20)]
    assert [at(rows, d) for d in (-1, 0, 9, 10, 19, 20, 999)] == [None, 500, 500, 400, 400, 450, 450]
    assert [(s.value, s.start, s.end, s.by) for s in history(rows, OIL_A)] == [(500, 0, 10, 2), (400, 10, 20, 3), (450, 20, None, None)]


def test_of_two_said_for_one_day_the_later_one_stands():
    rows = [REG, row(2, 450, 10), row(3, 300, 10)]
    assert at(rows, 10) == 300
    assert end_of(rows, 2).end == 10  # it stood for no day


@pytest.mark.parametrize(
    ("between", "why"),
    [
        ([row(3, 400, 20)], "later"),  # a person approves another length meanwhile
        ([row(3, 400, 20, origin=FELL_BACK)], "later"),  # a trial stops
        ([row(3, 450, 20, origin=REGISTER)], "later"),  # the register is changed
        ([row(3, 550, 30, 20)], "later"),  # another one is approved for another day
    ],
)
def test_a_later_word_ends_what_waits(between, why):
    rows = [REG, row(2, 625, 40, 10, begun_on=41), *between]
    assert (end_of(rows, 2).state, end_of(rows, 2).why) == (NEVER, why)
    assert at(rows, 50) != 625


def test_its_signer_may_say_that_what_waits_still_holds():
    rows = [REG, row(2, 625, 40, 10, begun_on=40), row(3, 400, 20, upholds=True)]
    assert (at(rows, 39), at(rows, 40)) == (400, 625)


def test_what_is_longer_begins_only_once_the_guards_let_it():
    waiting = [REG, row(2, 625, 40, 10)]
    assert (at(waiting, 41), end_of(waiting, 2).state) == (500, WAITS)
    begun = [REG, row(2, 625, 40, 10, begun_on=44)]
    assert [at(begun, d) for d in (40, 43, 44)] == [500, 500, 625]
    assert at([REG, row(2, 625, 40, 10, begun_on=39)], 60) == 500  # asked too early is not asked


def test_what_is_not_longer_begins_by_itself():
    assert [at([REG, row(2, 300, 40, 10)], d) for d in (39, 40)] == [500, 300]
    assert at([REG, row(2, 500, 40, 10)], 40) == 500 and end_of([REG, row(2, 500, 40, 10)], 2).state == STANDS
    # and not later, because something longer has come to stand in the meantime
    rows = [REG, row(2, 550, 40, 10), row(3, 600, 50, upholds=True)]
    assert (at(rows, 60), end_of(rows, 2).state) == (600, WAITS)


@pytest.mark.parametrize(
    ("ground", "why"),
    [
        (Ground(oils=((0, A), (30, B))), "oil_change"),
        (Ground(oils=((0, A),), renewals=(30,)), "overhaul"),
        (Ground(oils=((0, A), (40, B))), "oil_change"),  # on the very day
    ],
)
def test_another_oil_or_an_overhaul_ends_what_waits(ground, why):
    rows = [REG, row(2, 625, 40, 10, begun_on=40)]
    assert (at(rows, 50, ground), end_of(rows, 2, ground).why) == (500, why)


def test_withdrawn_it_never_begins():
    rows = [REG, row(2, 300, 40, 10, withdrawn_on=20)]
    assert (at(rows, 50), end_of(rows, 2).why) == (500, "withdrawn")


@pytest.mark.parametrize("ground", [Ground(oils=((0, A), (30, B))), Ground(oils=((0, A),), renewals=(30,))])
def test_what_stands_on_gone_evidence_falls_back_to_the_register_and_never_up(ground):
    assert [at([REG, row(2, 625, 10)], d, ground) for d in (29, 30)] == [625, 500]
    assert at([REG, row(2, 300, 10)], 30, ground) == 300  # shorter than the register's stays
    assert at([row(2, 625, 10)], 30, ground) == 625  # nothing to go back to: a length is better than none


def test_evidence_of_the_new_oil_stands_and_of_an_overhaul_that_was_known():
    ground = Ground(oils=((0, A), (30, B)), renewals=(5,))
    assert at([REG, row(2, 625, 35, oil=B, renewed=5)], 40, ground) == 625
    assert at([REG, row(2, 625, 35, oil=B, renewed=4)], 40, ground) == 500


def test_a_trial_stands_while_its_charge_runs():
    rows = [REG, row(2, 660, 10, origin=TRIAL, ends_on=60)]
    assert [at(rows, d) for d in (10, 59, 60)] == [660, 660, 500]
    assert end_of(rows, 2).why == "charge_ended"
    # what stood before it is asked for its own evidence
    approved = [REG, row(2, 550, 5), row(3, 660, 10, origin=TRIAL, ends_on=60)]
    assert (at(approved, 60), at(approved, 60, Ground(oils=((0, A), (60, B))))) == (550, 500)
    # and what replaced it meanwhile stays
    assert at([*rows, row(3, 450, 20)], 70) == 450


def test_a_trial_that_begins_ends_what_waits():
    rows = [REG, row(2, 625, 40, 10, begun_on=40), row(3, 660, 20, origin=TRIAL, ends_on=35)]
    assert at(rows, 45) == 500


_ROWS = st.builds(
    dict, value=st.sampled_from([None, 200.0, 400.0, 500.0, 625.0]), said_on=st.integers(0, 60), ahead=st.integers(-10, 40),
    origin=st.sampled_from([REGISTER, APPROVED, TRIAL, FELL_BACK]), oil=st.sampled_from([A, B, None]), upholds=st.booleans(),
    begun=st.one_of(st.none(), st.integers(0, 20)), ends=st.integers(1, 40),
)  # fmt: skip


@given(st.lists(_ROWS, max_size=6), st.lists(st.tuples(st.integers(0, 90), st.sampled_from([A, B])), max_size=3), st.sets(st.integers(0, 90)))
def test_every_course_adds_up(given_rows, oils, renewals):
    """Whatever is said: one thing stands a day without gaps, nothing stands that nobody said, and what is longer never begins by itself."""
    rows, last = [], 0
    for key, r in enumerate(given_rows):
        last = max(last, r["said_on"])  # said one after the other
        on = last + (r["ahead"] if r["origin"] != TRIAL else min(r["ahead"], 0))
        rows.append(Said(key=key, on=on, said_on=last, origin=r["origin"], value=r["value"], oil=r["oil"], upholds=r["upholds"],
                         begun_on=None if r["begun"] is None or on <= last else on + r["begun"],
                         ends_on=on + r["ends"] if r["origin"] == TRIAL else None))  # fmt: skip
    ground = Ground(oils=tuple(sorted(dict(oils).items())), renewals=tuple(sorted(renewals)))
    spans = history(rows, ground)
    stood = [s for s in spans if s.state in ("stood", "stands")]
    by_key = {r.key: r for r in rows}
    assert sum(s.state == "stands" for s in spans) == (1 if stood else 0)
    for before, after in zip(stood, stood[1:], strict=False):
        assert before.end == after.start
    for s in spans:
        r = by_key[s.key]
        assert s.value == r.value
        if s.state in ("stood", "stands"):
            assert s.start >= min(r.on, s.start) and (r.on <= s.start)
    for before, after in zip(stood, stood[1:], strict=False):
        r = by_key[after.key]
        longer = before.value is not None and after.value is not None and after.value > before.value
        if longer and r.ahead and after.start != r.begun_on:
            assert before.origin == TRIAL or before.why in ("oil_change", "overhaul", "charge_ended") or after.key < before.key
    for day in range(-10, 110, 7):
        now = on_day(spans, day)
        if now is None:
            continue
        r = by_key[now.key]
        own = [s.value for s in stood if s.origin == REGISTER and s.start <= day and s.value is not None]
        if ground.gone_from(r, day) and now.origin in (APPROVED, FELL_BACK) and own:
            assert now.value is not None and now.value <= own[-1]  # gone evidence never stands above the register
