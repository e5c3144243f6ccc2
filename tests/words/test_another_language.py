"""Another language is one module: every fact is said in it, and no letter of English comes through."""

import pytest
from test_say import ROWS

from made_up import MADE_UP, english_in, without_names
from vornet.core.fact import read, told
from vornet.core.measures import SI, US
from vornet.words.say import say


@pytest.mark.parametrize("system", [SI, US])
@pytest.mark.parametrize("fact", [f for f, _, _ in ROWS], ids=[f.kind for f, _, _ in ROWS])
def test_every_fact_is_said_in_a_language_without_ascii_letters(fact, system):
    said = say(without_names(fact), system, MADE_UP)
    assert said
    assert english_in(said) == "", said


def test_the_language_writes_its_own_figures_and_plurals():
    assert say(told("lifts_charges", more=1), SI, MADE_UP).startswith("1 μορε ψηαργε ")
    assert say(told("lifts_charges", more=2), SI, MADE_UP).startswith("2 μορε ψηαργεσ ")
    assert "12·000 κμ" in say(told("cap_below", limit=12000, base=30000, meter="km"), SI, MADE_UP)
    assert "0,0152" in say(told("wears", of="fe", rate=0.0152, since=1, usual=0.0101, spread=0.001, meter="km"), SI, MADE_UP)


def test_a_sentence_that_core_would_write_itself_is_caught():
    assert english_in(say(told("written", text="Iron as usual"), SI, MADE_UP))
    assert english_in(say(told("charges_of", of=("bn",)), SI, MADE_UP)) == ""
    with pytest.raises(KeyError):
        say(told("seen", seen="air filter found dusty"), SI, MADE_UP)


def every_fact_kept(connection):
    """(where, fact) of everything that evidence, holds, guards, reasons and faults are kept as."""
    for row in connection.execute("SELECT evidence, hypotheses FROM evaluation").fetchall():
        yield from (("evidence", read(f)) for f in row["evidence"])
        yield from (("cause", read(f)) for h in row["hypotheses"] for f in h["evidence"])
    for row in connection.execute("SELECT detail FROM hold").fetchall():
        yield "hold", read(row["detail"])
    for row in connection.execute("SELECT reason, open_faults, decision FROM standing").fetchall():
        yield "reason", read(row["reason"])
        yield from (("fault", read(f)) for f in row["open_faults"])
        for guard in row["decision"]["guards"]:
            yield "guard", read(guard["fact"])
            if guard["lifts"]:
                yield "lifts", read(guard["lifts"])
        if row["decision"]["next_sample"]:
            yield "bottle", read(row["decision"]["next_sample"]["fact"])


@pytest.mark.slow
def test_a_whole_fleet_in_a_language_without_ascii_letters(db):
    """Everything the demo's judgements, holds, guards and reasons say, over three years and every planted trouble."""
    from conftest import TODAY
    from vornet.flows.house import fleets
    from vornet.sim import demo

    demo.load(db, TODAY)
    with db.fleet(fleets.find(db, demo.FLEET)) as connection:
        kept = list(every_fact_kept(connection))
    assert {where for where, _ in kept} == {"evidence", "cause", "hold", "reason", "fault", "guard", "lifts", "bottle"}
    wrong = set()
    for where, fact in kept:
        for system in (SI, US):
            said = say(without_names(fact), system, MADE_UP)
            if english_in(said):
                wrong.add((where, fact.kind, said))
    assert wrong == set()
    assert len({fact.kind for _, fact in kept}) > 40
