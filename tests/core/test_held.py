"""Whether an approved interval held: two charges to its length, read at their end."""

import pytest

from vornet.core.held import BACK, EARLY, HELD, Run, whether

GOOD, BAD = Run(600, 590, False), Run(600, 590, True)


@pytest.mark.parametrize(
    ("runs", "word", "full", "past", "unread"),
    [
        ([], EARLY, 0, 0, 0), ([GOOD], EARLY, 1, 0, 0), ([GOOD, GOOD], HELD, 2, 0, 0), ([GOOD, BAD], BACK, 2, 1, 0), ([BAD], BACK, 1, 1, 0),
        ([BAD, GOOD, GOOD], HELD, 3, 1, 0),  # what once was past, and has been right twice since
        ([Run(400, 395, True)], EARLY, 0, 0, 0),  # never run to it: says nothing of it
        ([GOOD, Run(610, None, False)], EARLY, 1, 0, 1), ([GOOD, Run(610, 300, True)], EARLY, 1, 0, 1),  # no bottle at its end
        ([Run(575, 470, False), Run(590, 510, False), Run(560, 555, True)], EARLY, 1, 0, 1),
    ],
)  # fmt: skip
def test_it_takes_two_charges_run_to_it_and_read_at_the_end(runs, word, full, past, unread):
    found = whether(600, 500, 650, runs)
    assert (found.word, found.full, found.past, found.unread) == (word, full, past, unread)


@pytest.mark.parametrize(
    ("before", "safe", "back_to"), [(500, 650, 500), (500, 430, 430), (700, 430, 430), (700, None, None), (None, 430, 430), (None, 0, None)]
)
def test_what_to_go_back_to_is_never_longer(before, safe, back_to):
    assert whether(600, before, safe, [BAD]).back_to == back_to
