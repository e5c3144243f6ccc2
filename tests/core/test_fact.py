"""A fact is a kind, its numbers, its keys and its parts; kept as JSON it comes back the same."""

import json

from hypothesis import given
from hypothesis import strategies as st

from vornet.core.fact import Fact, read, told

NAMES = st.text("abcdefgh", min_size=1, max_size=4)
THINGS = st.dictionaries(
    NAMES, st.floats(allow_nan=False, allow_infinity=False) | st.text(max_size=8) | st.lists(st.text(max_size=4)).map(tuple)
)
FACTS = st.recursive(
    st.builds(lambda kind, things: told(kind, **things), NAMES, THINGS),
    lambda inner: st.builds(lambda kind, parts, things: told(kind, *parts, **things), NAMES, st.lists(inner, max_size=3), THINGS),
    max_leaves=6,
)


@given(FACTS.filter(lambda f: "kind" not in {**f.numbers, **f.keys}))
def test_what_is_kept_comes_back_the_same(fact):
    assert read(json.loads(json.dumps(fact.plain()))) == fact


def test_what_is_empty_is_left_out():
    assert told("break_in").plain() == {"kind": "break_in"}
    assert told("open_faults", told("open_rate", of="fe")).plain() == {
        "kind": "open_faults", "parts": [{"kind": "open_rate", "keys": {"of": "fe"}}],
    }  # fmt: skip


def test_a_change_reaches_every_part():
    fact = told("reason_and", told("wrong"), told("labels_open", told("another_bottle", sample=3)))
    named = fact.changed(lambda f: told("bottle", no="A-3") if f.kind == "another_bottle" else f)
    assert named.parts[1].parts == (told("bottle", no="A-3"),)
    assert fact.parts[1].parts == (told("another_bottle", sample=3),)
    assert isinstance(named, Fact)
