"""The weeks by program: what the pages do, the API does, within the scope of the token, and refuses the same."""

import json
from datetime import date, timedelta

import pytest
from fastapi.testclient import TestClient

from conftest import TODAY, small_register
from vornet.flows.house import fleets, people, sessions, tokens
from vornet.flows.judge import evaluate
from vornet.flows.register import register
from vornet.flows.weeks import levelling
from vornet.web.app import create_app

SOON = date(2026, 1, 20)


def client_of(db, fleet_id, login, scopes):
    with db.fleet(fleet_id) as c:
        key = tokens.make(c, fleet_id, sessions.account_named(db, login), "t", "plans", scopes, 30)
    client = TestClient(create_app(db, today=TODAY), headers={"Authorization": f"Bearer {key}", "Host": "testserver"})
    client.base_url = str(client.base_url) + "/api/v1"
    return client


@pytest.fixture
def api(db, fleet):
    """(a planner's program, one that only reads, ids) of a fleet with two ferries at one quay."""
    fleet_id, login = fleets.find(db, fleet), f"wkbot{abs(hash(fleet))}"
    document = small_register(fleet)
    document["units"].append(document["units"][0] | {"unit": "MV Second"})
    for key in ("readings", "drains"):
        document[key] += [r | {"unit": "MV Second"} for r in document[key]]
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    people.add(db, fleet, login, "Robot Planner", "right-and-long", "planner")
    with db.fleet(fleet_id) as c:
        ids = {r["name"]: r["unit_id"] for r in c.execute("SELECT name, unit_id FROM unit").fetchall()}
    return client_of(db, fleet_id, login, ["read", "plan", "work"]), client_of(db, fleet_id, login, ["read"]), fleet_id, ids


def refused(answer, word, status=422):
    assert answer.status_code == status and answer.headers["content-type"] == "application/problem+json", answer.text
    assert word in answer.json()["detail"], answer.json()["detail"]


def planned(db, client, fleet_id):
    number = client.post("/plans", json={"days": 28}).json()["proposal_id"]
    levelling.work_out(db, fleet_id, number)  # a worker's part
    return number


def test_capacities_are_read_and_set(api):
    client, reader, _, ids = api
    [quay] = client.get("/depots").json()
    assert (quay["name"], quay["said"], quay["hours"]) == ("Quay", False, [8, 8, 8, 8, 8, 0, 0])
    here = f"/depots/{quay['depot_id']}"
    [set_] = client.put(f"{here}/week", json={"hours": [4] * 5 + [0, 0], "bays": [1] * 7}).json()
    assert (set_["said"], set_["bays"]) == (True, [1] * 7)
    [other] = client.put(f"{here}/days/2026-01-19", json={"hours": 0, "why": "holiday"}).json()
    assert other["other"] == [{"on": "2026-01-19", "hours": 0, "bays": None, "why": "holiday"}]
    assert client.delete(f"{here}/days/2026-01-19").json()[0]["other"] == []
    refused(client.put(f"{here}/week", json={"hours": [4] * 6}), "hours")
    refused(client.put(f"{here}/week", json={"hours": [-1] * 7}), "hours")
    refused(client.put("/depots/999999/week", json={"hours": [1] * 7}), "not in this fleet")
    refused(reader.put(f"{here}/week", json={"hours": [1] * 7}), "token may not", 403)
    unit = ids["MV Test"]
    assert len(client.get(f"/units/{unit}/days").json()) == 91
    days = client.put(f"/units/{unit}/days", json={"kind": "weekdays", "weekdays": [2]}).json()
    assert {date.fromisoformat(d).weekday() for d in days} == {2}
    refused(client.put(f"/units/{unit}/days", json={"kind": "moon"}), "kind")
    assert len(client.delete(f"/units/{unit}/days").json()) == 91


def test_a_plan_is_asked_for_looked_at_taken_and_moved(db, api):
    client, reader, fleet_id, ids = api
    number = planned(db, client, fleet_id)
    found = reader.get(f"/plans/{number}").json()
    assert (found["state"], found["optimal"], found["unplaced"]) == ("ready", True, 0) and len(found["visits"]) == 2
    refused(reader.post(f"/plans/{number}/accept"), "token may not", 403)
    assert client.post(f"/plans/{number}/accept").json()["state"] == "accepted"
    refused(client.post(f"/plans/{number}/accept"), "any more")
    weeks = reader.get("/weeks").json()
    visits = [v for d in weeks["days"] for v in d["visits"]]
    assert {v["unit"] for v in visits} == {"MV Test", "MV Second"} and weeks["placeless"] == []
    one = visits[0]["visit_id"]
    asked = reader.get(f"/visits/{one}").json()
    assert len(asked["options"]) == 91 and asked["earliest"] <= asked["due"] <= asked["latest"]
    free = next(o["on"] for o in asked["options"] if o["inside"] and o["room_h"] >= 0 and o["on"] not in {v["on"] for v in visits})
    moved = client.post(f"/visits/{one}/move", json={"on": free}).json()["visit"]
    assert (moved["on"], moved["fixed"]) == (free, True)
    assert client.post(f"/visits/{one}/fix", json={"fixed": False}).json()["visit"]["fixed"] is False
    refused(client.post(f"/visits/{one}/move", json={"on": "2020-01-01"}), "over")
    refused(client.post(f"/visits/{one}/took", json={"hours": 2}), "not done")
    jobs = client.post("/jobs/from-week", json={"week": free}).json()["jobs"]
    assert jobs and {j["job_id"] for j in reader.get("/jobs").json()} >= set(jobs)
    assert client.post(f"/visits/{one}/cancel", json={"why": "sold"}).json() == {"cancelled": one}
    assert reader.get(f"/visits/{one}").status_code == 404
    due = reader.get(f"/units/{ids[moved['unit']]}/due").json()
    by_hand = client.post("/visits", json={"unit_id": ids[moved["unit"]], "on": free, "tasks": [due[0]["key"]]}).json()
    assert by_hand["visit"]["fixed"] and [t["key"] for t in by_hand["visit"]["tasks"]] == [due[0]["key"]]
    later = client.post("/plans", json={"days": 28}).json()["proposal_id"]
    assert client.post(f"/plans/{later}/drop").json()["state"] == "dropped"
    refused(client.post("/plans", json={"days": 5}), "weeks at a time")


def test_stock_kit_and_what_was_done(db, api):
    client, reader, fleet_id, _ = api
    number = planned(db, client, fleet_id)
    client.post(f"/plans/{number}/accept")
    depot = client.get("/depots").json()[0]["depot_id"]
    oil = {"depot_id": depot, "thing": "oil Test 15W-40", "kind": "counted", "amount": 60}
    [line] = client.post("/stock", json=oil).json()
    assert (line["there"], line["needed"], line["order"], line["unit"]) == (60, 110, 50, "L") and line["runs_out"] and line["waits"]
    refused(client.post("/stock", json=oil | {"kind": "lost"}), "kind")
    refused(client.post("/stock", json=oil | {"depot_id": 999999}), "no such depot", 404)
    refused(reader.post("/stock", json=oil), "token may not", 403)
    first = reader.get("/weeks").json()
    week = next(d["on"] for d in first["days"] if d["visits"])
    [kit] = reader.get(f"/kit?week={week}").json()
    assert kit["oils"][0]["packs"] * kit["oils"][0]["pack_l"] >= kit["oils"][0]["litres"]
    rows = reader.get(f"/done?since={TODAY}&until={TODAY + timedelta(days=60)}").json()
    assert {r["kept"] for r in rows} == {"open"} and len(rows) == 2
    refused(reader.get("/done?since=2026-02-01&until=2026-01-01"), "lies behind")
