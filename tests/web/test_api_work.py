"""Work at the unit by program: what the pages do, the API does, through the same doors, and refuses the same."""

import json
import uuid
from datetime import date

import pytest
from fastapi.testclient import TestClient
from test_api_weeks import client_of, refused

from conftest import TODAY, small_register
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate
from vornet.flows.register import register


@pytest.fixture
def api(db, fleet):
    """(a planner's program, an analyst's, ids by unit) of a fleet with two ferries."""
    fleet_id, login = fleets.find(db, fleet), f"wb{abs(hash(fleet))}"
    document = small_register(fleet)
    engine = document["units"][0]["compartments"][0]
    engine |= {"volume_between_marks_l": 4, "filters": [{"part": "F-1", "approved": ["F-2"], "barred": ["F-9"]}],
               "magnetic_filters": [{"place": "return", "washable": True}], "breathers": [{"place": "top", "part": "B-1"}]}  # fmt: skip
    document["units"].append(document["units"][0] | {"unit": "MV Second"})
    for key in ("readings", "drains"):
        document[key] += [r | {"unit": "MV Second"} for r in document[key]]
    assert register.load(db, json.dumps(document).encode(), by="t", today=TODAY).problems == []
    evaluate.evaluate(db, fleet, TODAY)
    people.add(db, fleet, login, "Robot", "right-and-long", "planner")
    people.add(db, fleet, login + "a", "Analyst", "right-and-long", "analyst")
    with db.fleet(fleet_id) as c:
        rows = c.execute("SELECT u.name, u.unit_id, compartment_id FROM compartment JOIN unit u USING (fleet_id, unit_id)").fetchall()
    ids = {r["name"]: r for r in rows}
    return client_of(db, fleet_id, login, ["read", "work"]), client_of(db, fleet_id, login + "a", ["read"]), ids


ON = "2026-01-12"


def test_a_drain_is_logged_seen_put_right_moved_and_taken_back(api):
    client, reader, ids = api
    here, there = (ids[n]["compartment_id"] for n in ("MV Test", "MV Second"))
    said = {"on": ON, "meter": 3870, "level_before": 0.5, "volume_out_l": 52, "volume_in_l": 51, "magnet_grade": 1, "oil_looks": ["glitter"],
            "client_id": str(uuid.uuid4()), "sample_no": "A-1"}  # fmt: skip
    number = client.post(f"/compartments/{here}/drains", json=said).json()["id"]
    assert client.post(f"/compartments/{here}/drains", json=said).json()["id"] == number  # the same one twice
    first = reader.get(f"/compartments/{here}/drains").json()[0]
    assert (first["drain_id"], first["level_missing_l"], first["seen"]["oil_looks"]) == (number, 2.0, ["glitter"])
    refused(client.post(f"/compartments/{here}/drains", json=said | {"client_id": None, "on": "2026-01-13", "meter": 10}), "goes back")
    refused(client.post(f"/compartments/{here}/drains", json=said | {"client_id": None, "oil_looks": ["purple"]}), "some of")
    refused(reader.post(f"/compartments/{here}/drains", json=said), "token may not", 403)
    right = client.post(f"/drains/{number}/put-right", json={"volume_out_l": 51, "oil_looks": ["normal"], "why": "misread"}).json()["id"]
    now = client.get(f"/compartments/{here}/drains").json()[0]
    assert (now["drain_id"], now["volume_out_l"], now["volume_in_l"], now["seen"]["oil_looks"], now["magnet_grade"]) == (
        right, 51, 51, ["normal"], 1)  # fmt: skip
    refused(client.post(f"/drains/{right}/put-right", json={"volume_out_l": 50}), "few words")
    refused(client.post(f"/drains/{number}/put-right", json={"volume_out_l": 50, "why": "x"}), "meanwhile")
    moved = client.post(f"/drains/{right}/put-right", json={"compartment_id": there, "why": "the other boat"}).json()["id"]
    assert client.get(f"/compartments/{there}/drains").json()[0]["drain_id"] == moved
    assert client.post(f"/drains/{moved}/take-back", json={"why": "never was"}).status_code == 200
    assert moved not in [d["drain_id"] for d in client.get(f"/compartments/{there}/drains").json()]


@pytest.mark.parametrize(
    ("kind", "said", "right"),
    [
        ("level", {"reading": 0.5}, {"reading": 0.25}), ("topup", {"litres": 2}, {"litres": 3}),
        ("event", {"what": "repair", "litres_out": 3}, {"litres_in": 4}), ("symptom", {"what": "noise"}, {"what": "smoke"}),
        ("coolant", {"litres": 1}, {"litres": 2}),
    ],
)  # fmt: skip
def test_notes_are_kept_once_put_right_and_taken_back(api, kind, said, right):
    client, _, ids = api
    here = ids["MV Test"]["compartment_id"]
    sent = {"kind": kind, "on": ON, "meter": 3870, **said, "client_id": str(uuid.uuid4())}
    assert client.post(f"/compartments/{here}/notes", json=sent).json() == {"said": "kept"}
    assert client.post(f"/compartments/{here}/notes", json=sent).json() == {"said": "kept already"}
    [note] = client.get(f"/compartments/{here}/notes").json()
    refused(client.post(f"/notes/{kind}/{note['note_id']}/put-right", json=right), "few words")
    new = client.post(f"/notes/{kind}/{note['note_id']}/put-right", json=right | {"why": "misread"}).json()["id"]
    both = {n["note_id"]: n for n in client.get(f"/compartments/{here}/notes").json()}
    assert (both[note["note_id"]]["holds"], both[note["note_id"]]["why"], both[new]["holds"]) == (False, "misread", True)
    assert client.post(f"/notes/{kind}/{new}/take-back", json={"why": "never was"}).status_code == 200
    assert not any(n["holds"] for n in client.get(f"/compartments/{here}/notes").json())
    refused(client.post(f"/compartments/{here}/notes", json={"kind": kind, "on": "2026-02-01", "meter": 3870, **said}), "still to come")


def test_readings_are_put_right_and_taken_back(api):
    client, _, ids = api
    unit = ids["MV Test"]["unit_id"]
    client.post("/readings", json=[{"unit": "MV Test", "on": ON, "meter": 3890}])
    reading = next(r for r in client.get(f"/units/{unit}/readings").json() if r["meter"] == 3890)
    refused(client.post(f"/readings/{reading['reading_id']}/put-right", json={"meter": 10, "why": "x"}), "goes back")
    assert client.post(f"/readings/{reading['reading_id']}/put-right", json={"meter": 3880, "why": "a digit"}).status_code == 200
    held = [r["meter"] for r in client.get(f"/units/{unit}/readings").json() if r["holds"] and r["on"] == ON]
    assert held == [3880]


def test_jobs_are_made_read_cancelled_and_their_parts_are_checked(api):
    client, reader, ids = api
    unit, here = ids["MV Test"]["unit_id"], ids["MV Test"]["compartment_id"]
    parts = [{"task": t, "compartment_id": here} for t in ("magnetic_filter", "breather")]
    job = client.post("/jobs", json={"unit_id": unit, "on": "2026-01-20", "compartments": [here], "parts": parts}).json()
    assert [(p["what"], p["task"], p["state"]) for p in job["parts"]] == [
        ("engine", "drain", "open"), ("Magnetic filter of engine", "magnetic_filter", "open"), ("Breather of engine", "breather", "open"),
    ]  # fmt: skip
    assert reader.get(f"/jobs/{job['job_id']}").json()["on"] == "2026-01-20"
    refused(client.post("/jobs", json={"unit_id": unit, "on": "2026-01-20"}), "at least one")
    refused(client.post("/jobs", json={"unit_id": ids["MV Second"]["unit_id"], "on": "2026-01-20", "compartments": [here]}), "own")
    refused(client.post(f"/jobs/{job['job_id']}/parts/{job['parts'][0]['part_id']}/reopen", json={"why": "x"}), "open already")
    assert client.post(f"/jobs/{job['job_id']}/cancel", json={"why": "rain"}).json()["state"] == "cancelled"
    assert reader.get("/jobs/999999999").status_code == 404


def test_a_program_may_not_do_by_session_or_scope_what_it_has_no_token_for(db, api):
    from vornet.web.app import create_app

    _, _, ids = api
    nobody = TestClient(create_app(db, today=TODAY), headers={"Host": "testserver"})
    assert nobody.post(f"/api/v1/compartments/{ids['MV Test']['compartment_id']}/notes", json={"kind": "level", "on": ON}).status_code == 401
    _, analyst, _ = api
    refused(analyst.post("/samples/1/move", json={"compartment_id": 1, "why": "x"}), "this token may not", 403)
    assert date.fromisoformat(ON) < TODAY


def test_a_cancelled_card_is_planned_again(db, fleet, api):
    client, _, ids = api
    here = ids["MV Test"]
    job = client.post("/jobs", json={"unit_id": here["unit_id"], "compartments": [here["compartment_id"]], "on": ON}).json()
    number = job["job_id"]
    assert client.post(f"/jobs/{number}/cancel", json={"why": "the wrong week"}).json()["state"] == "cancelled"
    assert client.post(f"/jobs/{number}/restore", json={"why": "it was right"}).json()["state"] == "planned"
    refused(client.post(f"/jobs/{number}/restore", json={"why": "again"}), "not cancelled")
