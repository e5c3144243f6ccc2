"""Every school of the register beside the others, and as the rule that an interval never goes beyond."""

import json

import pytest

from conftest import TODAY, approve_seen, small_register
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate, policies
from vornet.flows.judge.settle import settling
from vornet.flows.pages import compartment
from vornet.flows.register import dump, register

SAID = {"printed_h": 550, "indicator_h": 575, "filter_h": 600, "bypass_h": 900}


@pytest.fixture
def place(db, fleet):
    document = small_register(fleet)
    document["units"][0]["compartments"][0] |= SAID
    document["oils"][0] |= {"claim_h": 800}
    report = register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    assert report.problems == []
    evaluate.evaluate(db, fleet, TODAY)
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        return fleet_id, c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]


def standing(db, place):
    with db.fleet(place[0]) as c:
        return compartment.row_of(c, place[1])


def test_each_school_says_its_own_and_the_filters_are_walls(db, fleet, place):
    now = standing(db, place)
    schools = now["decision"]["schools"]
    assert {k: schools[k] for k in ("maker", "printed", "indicator", "supplier", "house_rule")} == {
        "maker": 1000, "printed": 550, "indicator": 575, "supplier": 800, "house_rule": 500}  # fmt: skip
    assert now["proposed_meter"] == 600  # what the oil filter may run, short of the step's 625
    with pytest.raises(InputError, match="600 h that the oil filter may run"), settling(db, place[0], TODAY) as c:
        approve_seen(c, place[0], place[1], 625, "more", "A Planner", TODAY)


@pytest.mark.parametrize(
    ("rules", "proposed"),
    [({"school": "printed"}, 550), ({"school": "indicator"}, 575), ({"school": "house_rule", "house_h": 540}, 525),
     ({"school": "house_rule", "house_share": 0.57}, 550), ({"school": "supplier"}, 600)],
)  # fmt: skip
def test_a_policy_that_never_goes_beyond_a_school(db, fleet, place, rules, proposed):
    with settling(db, place[0], TODAY) as c:
        policies.save(c, place[0], "A Planner", "fleet", "", {"least_gain": 0.0, **rules}, "our school", TODAY, TODAY)
    assert standing(db, place)["proposed_meter"] == proposed


def test_what_the_register_says_goes_out_as_it_came_in(db, fleet, place):
    document = dump.dump(db, fleet, TODAY)
    assert {k: document["units"][0]["compartments"][0][k] for k in SAID} == SAID
    assert document["oils"][0]["claim_h"] == 800
