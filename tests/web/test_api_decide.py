"""Deciding by program: what the pages do, the API does, in the token owner's name, and refuses the same."""

import pytest
from fastapi.testclient import TestClient

from conftest import TODAY
from vornet.flows.house import fleets, people, sessions, tokens
from vornet.web.app import create_app


@pytest.fixture
def api(db, fleet):
    fleet_id = fleets.find(db, fleet)
    login = f"robot{fleet_id}"
    people.add(db, fleet, login, "Robot Planner", "right-and-long", "planner")
    with db.fleet(fleet_id) as c:
        key = tokens.make(c, fleet_id, sessions.account_named(db, login), "t", "decides", ["read", "decide"], 30)
        compartment = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
    client = TestClient(create_app(db, today=TODAY), headers={"Authorization": f"Bearer {key}", "Host": "testserver"})
    client.base_url = str(client.base_url) + "/api/v1"
    return client, f"/compartments/{compartment}"


def refused(answer, *said):
    assert answer.status_code == 422 and answer.headers["content-type"] == "application/problem+json"
    for word in said:
        assert word in answer.json()["detail"]


def test_a_decision_is_read_approved_and_read_again(api):
    client, here = api
    [decision] = client.get("/decisions?outcome=lengthen").json()
    assert (decision["current"], decision["proposed"], decision["counts"]) == (500, 625, "h")
    rests_on = client.get(f"{here}/interval").json()["rests_on"]
    refused(client.post(f"{here}/approvals", json={"interval": 1200, "why": "more", "rests_on": rests_on}), "cap")
    refused(client.post(f"{here}/approvals", json={"interval": 525, "rests_on": rests_on}), "say why")
    refused(client.post(f"{here}/approvals", json={"interval": 525, "why": "not looked at"}), "rests_on")
    refused(client.post(f"{here}/approvals", json={"interval": "much"}), "interval")
    versions = client.post(f"{here}/approvals", json={"interval": 625, "rests_on": rests_on}).json()
    assert [(v["interval"], v["origin"], v["by"]) for v in versions][-1] == (625, "approved", "Robot Planner")
    refused(
        client.post(f"{here}/approvals", json={"interval": 600, "why": "x", "rests_on": rests_on}), "Robot Planner has approved 625 meanwhile"
    )
    assert client.get("/compartments/99999999/approvals").status_code == 404


def test_a_trial_is_begun_and_ended_by_program(api):
    client, here = api
    rests_on = client.get(f"{here}/interval").json()["rests_on"]
    refused(client.post(f"{here}/trials", json={"interval": 600, "why": "not looked at"}), "rests_on")
    trial = client.post(f"{here}/trials", json={"interval": 600, "why": "to see", "rests_on": rests_on}).json()
    assert [b["at"] for b in trial["bottles"]] == [300, 450, 600, 660] and trial["started_by"] == "Robot Planner"
    refused(client.post(f"/trials/{trial['trial_id']}/adopt", json={}), "cannot be adopted yet")
    refused(client.post(f"/trials/{trial['trial_id']}/fall-back", json={}), "say why")
    assert client.get("/decisions?outcome=trial").json()[0]["trial"] == "running"
    ended = client.post(f"/trials/{trial['trial_id']}/fall-back", json={"why": "no bottles left"}).json()
    assert (ended["state"], ended["ending"]) == ("fell_back", "no bottles left")
    assert [t["trial_id"] for t in client.get("/trials").json()] == [trial["trial_id"]]


def test_prices_and_policies_are_set_tried_and_refused(api):
    client, _ = api
    refused(client.put("/prices", json={"scope": "fleet", "prices": {"oil_per_l": 4}, "currency": "crowns"}), "three letters")
    assert client.put("/prices", json={"scope": "fleet", "prices": {"oil_per_l": 4.0}, "currency": "NOK"}).json()["currency"] == "NOK"
    refused(client.put("/prices", json={"scope": "fleet", "prices": {"oil_per_l": -4.0}}), "oil_per_l")
    found = client.post("/policies/what-if", json={"scope": "fleet", "rules": {"most_at_once": 0.1}}).json()
    assert found["compartments"] == 1 and found["changed"][0]["becomes_at"] < 625
    rules = {"scope": "fleet", "rules": {"most_at_once": 0.1}}
    refused(client.put("/policies", json=rules), "say why")
    refused(
        client.put("/policies", json={"scope": "fleet", "rules": {"most_at_once": 0.05, "least_gain": 0.1}, "why": "x"}), "nothing could ever"
    )
    assert client.put("/policies", json={**rules, "why": "carefully"}).json() == [
        {"scope": "fleet", "place": "", "rules": {"most_at_once": 0.1}}
    ]
    assert client.get("/decisions").json()[0]["proposed"] <= 550


def test_a_token_that_may_only_read_decides_nothing(db, fleet, api):
    client, here = api
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        key = tokens.make(c, fleet_id, sessions.account_named(db, f"robot{fleet_id}"), "t", "reads", ["read"], 30)
    only = {"Authorization": f"Bearer {key}"}
    for path, body in ((f"{here}/approvals", {"interval": 525, "why": "x", "rests_on": "x"}),
                       (f"{here}/trials", {"interval": 600, "rests_on": "x"}),
                       ("/roll-outs", {"family": "T1 engine", "interval": 600, "compartments": [1]})):  # fmt: skip
        assert client.post(path, json=body, headers=only).status_code == 403
    assert client.get("/trials", headers=only).json() == []
