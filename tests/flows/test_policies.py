"""Rules by fleet, duty, family and unit: tried before they are saved, never rewritten, and decided by from their day on."""

import re
from datetime import timedelta

import pytest
from fastapi.testclient import TestClient

from conftest import TODAY
from vornet.core.errors import FormErrors, InputError
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate, policies
from vornet.flows.judge.settle import settling
from vornet.web.app import create_app


@pytest.fixture
def fleet_id(db, fleet):
    return fleets.find(db, fleet)


def save(db, fleet_id, scope="fleet", place="", why="tried", start=TODAY, **rules):
    with settling(db, fleet_id, TODAY) as c:
        policies.save(c, fleet_id, "A Planner", scope, place, rules, why, start, TODAY)


def decision(db, fleet_id):
    with db.fleet(fleet_id) as c:
        return c.execute("SELECT outcome, proposed_meter, decision -> 'safe' AS safe FROM standing").fetchone()


def test_what_if_says_what_would_change_and_saves_nothing(db, fleet_id):
    before = decision(db, fleet_id)
    with db.fleet(fleet_id) as c:
        found = policies.what_if(c, "family", "T1 engine", {"school": "house_rule", "house_share": 0.4}, TODAY)
        assert policies.in_force(c, TODAY).rows == {} and policies.versions(c) == []
    [changed] = found["changed"]
    assert (changed["becomes"], changed["becomes_at"], found["n"]) == ("shorten", 400.0, 1)
    assert decision(db, fleet_id) == before
    save(db, fleet_id, "family", "T1 engine", school="house_rule", house_share=0.4)
    after = decision(db, fleet_id)
    assert (after["outcome"], after["proposed_meter"]) == (changed["becomes"], changed["becomes_at"])  # as was said


def test_a_unit_s_rules_stand_before_its_fleet_s(db, fleet_id):
    usual = decision(db, fleet_id)["safe"]
    save(db, fleet_id, confidence=0.8)
    loose = decision(db, fleet_id)["safe"]
    save(db, fleet_id, "unit", "MV Test", confidence=0.999)
    strict = decision(db, fleet_id)["safe"]
    assert strict < usual < loose
    save(db, fleet_id, "duty", "ferry", confidence=0.85)  # farther away than the unit
    assert decision(db, fleet_id)["safe"] == strict


def test_rules_hold_from_their_day_and_the_earlier_ones_stay(db, fleet, fleet_id):
    usual = decision(db, fleet_id)["safe"]
    save(db, fleet_id, confidence=0.8, start=TODAY + timedelta(days=10))
    assert decision(db, fleet_id)["safe"] == usual
    evaluate.evaluate(db, fleet, TODAY + timedelta(days=11))
    assert decision(db, fleet_id)["safe"] > usual
    save(db, fleet_id, confidence=0.9)
    with db.fleet(fleet_id) as c:
        assert [(v["version"], v["rules"]["confidence"]) for v in policies.versions(c)] == [(2, 0.9), (1, 0.8)]


@pytest.mark.parametrize(
    ("given", "field"),
    [({"rules": {"least_gain": 0.4}}, "gain_beyond_step"), ({"rules": {"most_at_once": 0.04, "least_gain": 0.0}}, "step_too_fine"),
     ({"scope": "unit", "place": "Nobody's", "rules": {"confidence": 0.9}}, "where"), ({"scope": "galaxy", "rules": {}}, "where")],
)  # fmt: skip
def test_what_contradicts_is_refused_and_nothing_is_kept(db, fleet_id, given, field):
    with pytest.raises(FormErrors) as refused:
        save(db, fleet_id, given.get("scope", "fleet"), given.get("place", ""), **given["rules"])
    assert field in refused.value.errors
    with db.fleet(fleet_id) as c:
        assert policies.versions(c) == []


@pytest.mark.parametrize(("more", "field"), [({"why": " "}, "why"), ({"start": TODAY - timedelta(days=1)}, "effective_from")])
def test_why_and_when(db, fleet_id, more, field):
    with pytest.raises(InputError) as refused:
        save(db, fleet_id, confidence=0.9, **more)
    assert refused.value.field == field
    save(db, fleet_id, confidence=0.9)
    with pytest.raises(InputError, match="as they were"):
        save(db, fleet_id, confidence=0.9)


def test_the_page_tries_and_saves_and_keeps_what_was_typed(db, fleet, fleet_id):
    login = "pol-" + re.sub(r"\W", "", fleet.lower())
    people.add(db, fleet, login, "P", "right-and-long", "planner")
    client = TestClient(create_app(db, today=TODAY), headers={"Accept-Language": "en"}, follow_redirects=False)
    client.post("/sign-in", data={"login": login, "password": "right-and-long"})
    csrf = re.search(r'name="csrf" value="([^"]+)"', client.get("/decide/policy").text)[1]
    form = {"csrf": csrf, "where": "unit:MV Test", "confidence": "99.9", "school": "", "why": ""}
    tried = client.post("/decide/policy/what-if", data=form)
    assert tried.status_code == 200 and "decisions would change" in tried.text and 'value="99.9"' in tried.text
    refused = client.post("/decide/policy", data={**form, "why": "x", "least_gain": "60"})
    assert refused.status_code == 422 and "between 0 % and 50 %" in refused.text and 'value="60"' in refused.text
    assert "is not a number" in client.post("/decide/policy", data={**form, "confidence": "very"}).text
    assert "Say why" in client.post("/decide/policy", data=form).text
    assert client.post("/decide/policy", data={**form, "why": "a cautious owner"}).status_code == 303
    shown = client.get("/decide/policy").text
    assert "a cautious owner" in shown and "MV Test" in shown
    people.add(db, fleet, login + "v", "V", "right-and-long", "viewer")
    viewer = TestClient(client.app, follow_redirects=False)
    viewer.post("/sign-in", data={"login": login + "v", "password": "right-and-long"})
    csrf = re.search(r'name="csrf" value="([^"]+)"', viewer.get("/me").text)[1]
    assert viewer.post("/decide/policy", data={**form, "csrf": csrf, "why": "x"}).status_code == 403
