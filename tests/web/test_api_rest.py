"""The lab's side, limits, what hangs on units and who is told, by program: through the pages' doors, refused as they refuse."""

import io
import json
import uuid

import pytest
from PIL import Image
from test_api_weeks import client_of, refused

from conftest import HEADER, TODAY, healthy_rows, row, small_register
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate
from vornet.flows.register import register

EVERYTHING = ["read", "work", "import", "judge", "register", "decide", "plan"]
ON = "2026-01-12"


@pytest.fixture
def api(db, fleet):
    """(fleet id, a program that may all, one that only reads, the engine's ids) of a ferry with bottles in."""
    fleet_id, login = fleets.find(db, fleet), f"rest{uuid.uuid4().hex[:8]}"
    document = small_register(fleet)
    document["service_items"] = [{"unit": "MV Test", "item": "Look at the hoses", "action": "inspect", "every_h": 250}]
    assert register.load(db, json.dumps(document).encode(), by="t", today=TODAY).problems == []
    for suffix, roles in (("", ("planner", "analyst")), ("v", ("viewer",))):
        people.add(db, fleet, login + suffix, "Robot", "right-and-long", *roles)
    with db.fleet(fleet_id) as c:
        ids = c.execute("SELECT u.unit_id, compartment_id, oil_id FROM compartment JOIN unit u USING (fleet_id, unit_id)").fetchone()
    client = client_of(db, fleet_id, login, EVERYTHING)
    # a viscosity at 40 °C below that at 100 °C is held; a row of a unit that is not there waits
    rows = [
        *healthy_rows(),
        row("V-1", "2026-01-10", 3850, 350, False, v40=13),
        row("W-1", "2026-01-10", 3850, 350).replace("MV Test", "MV Tset"),
    ]
    taken = client.post("/results?name=t.csv", content="\n".join([HEADER, *rows])).json()
    assert len(taken["held"]) == 1, taken
    evaluate.evaluate(db, fleet, TODAY)
    return fleet_id, client, client_of(db, fleet_id, login + "v", ["read"]), ids


def test_what_is_held_is_seen_and_settled(db, api):
    fleet_id, client, reader, ids = api
    refused(reader.get("/holds"), "this token may not", 403)
    [hold] = [h for h in client.get("/holds").json() if h["sample_no"] == "V-1"]
    assert (hold["unit"], hold["reason"]) == ("MV Test", "viscosity_order")
    refused(client.post(f"/holds/{hold['hold_id']}", json={"do": "released"}), "few words")
    refused(client.post(f"/holds/{hold['hold_id']}", json={"do": "swap", "why": "x"}), "not about swapped")
    refused(client.post(f"/holds/{hold['hold_id']}", json={"do": "correct", "why": "x", "values": {"v40": "ten"}}), "v40")
    said = client.post(f"/holds/{hold['hold_id']}", json={"do": "correct", "why": "comma slipped", "values": {"v40": "104"}}).json()
    assert said == {"said": "corrected and screened again"}
    assert all(h["sample_no"] != "V-1" for h in client.get("/holds").json())
    [waiting] = client.get("/held-rows").json()
    assert (waiting["reason"], waiting["cells"]["unit"], waiting["file"]) == ("unknown_unit", "MV Tset", "t.csv")
    refused(client.post(f"/held-rows/{waiting['held_row_id']}", json={"do": "take", "why": "x"}), "no unit named")
    right = {"do": "take", "why": "misspelt", "cells": {"unit": "MV Test"}}
    assert client.post(f"/held-rows/{waiting['held_row_id']}", json=right).json()["said"] == "sample W-1 went in"
    assert client.get("/held-rows").json() == []
    refused(client.post(f"/held-rows/{waiting['held_row_id']}", json=right), "dealt with")
    with db.fleet(fleet_id) as c:
        number = c.execute("SELECT sample_id FROM sample WHERE sample_no = 'W-1'").fetchone()["sample_id"]
        other = c.execute("INSERT INTO compartment (fleet_id, unit_id, name, kind, family, counts) SELECT fleet_id, unit_id, 'second', kind, "
                          "family, counts FROM compartment RETURNING compartment_id").fetchone()["compartment_id"]  # fmt: skip
    refused(client.post(f"/samples/{number}/move", json={"compartment_id": ids["compartment_id"], "why": "x"}), "there")
    assert client.post(f"/samples/{number}/move", json={"compartment_id": other, "why": "the second engine"}).status_code == 200


def test_bottles_go_to_a_lab_in_parcels(api):
    _, client, reader, ids = api
    here = ids["compartment_id"]
    refused(reader.post("/bottles", json={"sample_no": "B-1", "on": ON}), "this token may not", 403)
    refused(client.post("/bottles", json={"sample_no": "B-1", "on": ON}), "names its oil")
    refused(client.post("/bottles", json={"sample_no": "B-1", "on": "2030-01-01", "compartment_id": here}), "still to come")
    one = client.post("/bottles", json={"sample_no": "B-1", "on": ON, "compartment_id": here, "meter": 3870, "sample_how": "valve"}).json()[
        "id"
    ]
    two = client.post("/bottles", json={"sample_no": "B-2", "on": ON, "oil_id": ids["oil_id"], "batch": "K7"}).json()["id"]
    refused(client.post("/bottles", json={"sample_no": "B-1", "on": ON, "compartment_id": here}), "drawn before")
    lab = client.put("/labs", json={"name": "Test lab", "way": "pull", "address": "http://127.0.0.1:1", "key": "sesame"}).json()["id"]
    refused(client.put("/labs", json={"name": "Test lab", "way": "folder", "address": "../up"}), "without slashes")
    [kept] = [x for x in reader.get("/labs").json() if x["lab_id"] == lab]
    assert kept["has_key"] and "sesame" not in json.dumps(kept)
    refused(client.post(f"/labs/{lab}/forget", json={"heading": "Iron"}), "not one that")
    parcel = client.post("/parcels", json={"bottles": [one, two], "lab_id": lab}).json()["id"]
    refused(client.post("/parcels", json={"bottles": [one], "lab_id": lab}), "in a parcel already")
    assert client.post(f"/bottles/{two}", json={"do": "unpack"}).status_code == 204
    assert client.post(f"/parcels/{parcel}/send", json={"on": ON}).status_code == 204
    refused(client.post(f"/parcels/{parcel}/send", json={"on": ON}), "has left")
    assert [b["sample_no"] for b in reader.get(f"/parcels/{parcel}").json()["bottles"]] == ["B-1"]
    assert reader.get("/parcels/999999999").status_code == 404
    assert client.post("/bottles/received", json={"sample_no": "B-1", "on": ON}).status_code == 204
    refused(client.post("/bottles/received", json={"sample_no": "B-9", "on": ON}), "on its way")
    refused(client.post(f"/bottles/{two}", json={"do": "lose"}), "few words")
    assert client.post(f"/bottles/{two}", json={"do": "lose", "why": "fell"}).status_code == 204
    states = {b["sample_no"]: b["state"] for b in reader.get("/bottles").json()}
    assert (states["B-1"], states["B-2"]) == ("received", "lost")
    assert client.post(f"/bottles/{two}", json={"do": "find"}).status_code == 204
    assert [(p["number"], p["bottles"], p["received"]) for p in reader.get("/parcels").json()] == [("P26-0001", 1, 1)]


def test_limits_are_tried_set_and_refused(api):
    _, client, reader, ids = api
    before = reader.get("/limits").json()
    rows = before["limits"]
    iron = next(r for r in rows if (r["duty"], r["key"], r["side"]) == ("diesel_engine", "fe", "high"))
    lower = [r | {"watch": 5, "act": 10} if r == iron else r for r in rows]
    tried = client.post("/limits/what-if", json={"limits": lower, "duty": "diesel_engine"}).json()
    assert tried["samples"] == tried["of"] > 0 and sum(tried["counts"].values()) > 0
    assert {c["unit"] for c in tried["changed"]} == {"MV Test"}
    assert reader.get("/limits").json() == before  # nothing was written
    refused(reader.put("/limits", json={"limits": lower, "why": "x"}), "this token may not", 403)
    refused(client.put("/limits", json={"limits": lower}), "why")
    refused(client.put("/limits", json={"limits": rows, "why": "x"}), "nothing is changed")
    refused(client.put("/limits", json={"limits": [*rows, iron], "why": "x"}), "second time")
    refused(client.put("/limits", json={"limits": [iron | {"watch": 99, "act": 9}], "why": "x"}), "beyond act")
    refused(client.put("/limits", json={"limits": [iron | {"key": "xx"}], "why": "x"}), "none of")
    own = iron | {"unit": "MV Test", "watch": 40, "act": 60, "source": ""}
    after = client.put("/limits", json={"limits": [*rows, own], "why": "an old engine", "version": before["version"]}).json()
    refused(client.put("/limits", json={"limits": rows, "why": "x", "version": before["version"]}), "in force meanwhile")
    assert after["version"] > before["version"] and own | {"source": "from a program"} in after["limits"]
    known = {p["key"]: p for p in reader.get("/limits/precision").json()}
    row = {k: known["fe"][k] for k in ("key", "scale", "power", "constant", "floor")}
    refused(client.put("/limits/precision", json={"rows": [row], "why": "x"}), "nothing is changed")
    kept = client.put("/limits/precision", json={"rows": [row | {"scale": 0.2}], "why": "ring trial"}).json()
    now = {p["key"]: p for p in kept}
    assert now["fe"]["scale"] == 0.2 and now["fe"]["source"] == "set by the fleet"
    assert {k: p for k, p in now.items() if k != "fe"} == {k: p for k, p in known.items() if k != "fe"}
    here = ids["compartment_id"]
    refused(client.post("/findings", json={"compartment_id": here, "on": ON, "cause": "gremlins"}), "choose what")
    found = client.post("/findings", json={"compartment_id": here, "on": ON, "cause": "nothing", "note": "looked"}).json()["id"]
    assert [(f["finding_id"], f["cause"], f["by"]) for f in reader.get(f"/findings?compartment_id={here}").json()] == [
        (found, "nothing", "Robot")
    ]


def photo():
    out = io.BytesIO()
    Image.new("RGB", (40, 30), "brown").save(out, "JPEG")
    return out.getvalue()


def test_what_hangs_on_a_unit(db, api):
    fleet_id, client, reader, ids = api
    unit, here = ids["unit_id"], ids["compartment_id"]
    refused(client.post(f"/units/{unit}/attachments?name=x.txt", content=b"text"), "picture")
    assert client.post(f"/units/{unit}/attachments?name=book.pdf&compartment_id={here}", content=b"%PDF-1.7 x").status_code == 204
    refused(client.post(f"/units/{unit}/attachments?name=b.pdf&compartment_id={here + 9999}", content=b"%PDF-1.7 x"), "one of this unit")
    [file] = reader.get(f"/units/{unit}/attachments").json()
    assert (file["name"], file["kind"], file["compartment_id"]) == ("book.pdf", "manual", here)
    assert client.post(f"/attachments/{file['attachment_id']}/remove").status_code == 204
    assert client.post(f"/attachments/{file['attachment_id']}/remove").status_code == 404
    mine = str(uuid.uuid4())
    for _ in range(2):  # the same one twice is one
        kept = client.post(f"/units/{unit}/pictures?about=leak&compartment_id={here}&client_id={mine}", content=photo())
        assert kept.status_code == 201 and kept.json() == {"photo_id": mine}
    assert [p["about"] for p in reader.get(f"/units/{unit}/pictures").json()] == ["leak"]
    refused(client.post(f"/pictures/{mine}/take-back", json={}), "few words")
    assert client.post(f"/pictures/{mine}/take-back", json={"why": "another boat"}).status_code == 204
    assert reader.get(f"/units/{unit}/pictures").json() == []
    with db.fleet(fleet_id) as c:
        item = c.execute("SELECT item_id FROM service_item").fetchone()["item_id"]
        row = "INSERT INTO service_record (fleet_id, item_id, on_day, meter, outcome, note, recorded_by) "
        row += "VALUES (%s, %s, '2026-01-05', 3800, 'done', '', 't')"
        c.execute(row, [fleet_id, item])
        c.execute("INSERT INTO deferred (fleet_id, unit_id, compartment_id, entry_id, kind, what, made_by) "
                  "VALUES (%s, %s, %s, gen_random_uuid(), 'defect', 'hose sweats', 't')", [fleet_id, unit, here])  # fmt: skip
        c.execute("INSERT INTO unit_template (fleet_id, name, content, recorded_by) VALUES (%s, 'Ferry', '{}', 't')", [fleet_id])
        c.execute("INSERT INTO doubt (fleet_id, compartment_id, field, said, learned, low, high, n) "
            "VALUES (%s, %s, 'capacity_l', 55, 61.2, 60, 62, 5)",
                  [fleet_id, here])  # fmt: skip
    [record] = reader.get(f"/items/{item}/records").json()
    refused(client.post(f"/items/{item}/records/{record['record_id']}/take-back", json={}), "few words")
    assert client.post(f"/items/{item}/records/{record['record_id']}/take-back", json={"why": "not done"}).status_code == 204
    assert reader.get(f"/items/{item}/records").json() == []
    assert client.post(f"/items/{item}/remove").status_code == 204
    assert reader.get(f"/items/{item}/records").status_code == 404
    [thing] = reader.get("/put-off").json()
    refused(client.post(f"/put-off/{thing['deferred_id']}", json={}), "what was found")
    assert client.post(f"/put-off/{thing['deferred_id']}", json={"finding": "new hose"}).status_code == 204
    refused(client.post(f"/put-off/{thing['deferred_id']}", json={"finding": "again"}), "already")
    [pattern] = reader.get("/templates").json()
    assert client.post(f"/templates/{pattern['template_id']}/remove").status_code == 204 and reader.get("/templates").json() == []
    assert [(d["field"], d["learned"], d["settled"]) for d in reader.get("/doubts").json()] == [("capacity_l", 61.2, None)]
    refused(client.post(f"/compartments/{here}/doubt", json={"field": "capacity_l", "do": "keep"}), "few words")
    assert client.post(f"/compartments/{here}/doubt", json={"field": "capacity_l", "do": "take"}).status_code == 204
    assert client.get("/register").json()["units"][0]["compartments"][0]["capacity_l"] == 61.2
    refused(client.post(f"/compartments/{here}/decline", json={"why": ""}), "propos")


def test_who_is_told(api):
    _, client, reader, _ids = api
    refused(reader.post("/calendar-links", json={"depot_id": 1}), "made by a planner", 403)
    path = reader.post("/calendar-links", json={}).json()["path"]
    outside = reader.base_url.join("/").copy_with(path=path)
    assert b"BEGIN:VCALENDAR" in reader.get(outside).content
    [link] = reader.get("/calendar-links").json()
    assert reader.delete(f"/calendar-links/{link['feed_id']}").status_code == 204
    assert reader.get(outside).status_code == 404
    assert reader.get("/mail").json() is None
    refused(reader.put("/mail", json={"address": "nobody"}), "not a mail address")
    assert reader.put("/mail", json={"address": "a@b.example", "week_day": 0, "stops": True}).json()["week_hour"] == 6
    assert reader.get("/mail").json()["address"] == "a@b.example" and client.get("/mail").json() is None
    assert reader.delete("/mail").status_code == 204 and reader.get("/mail").json() is None
    refused(client.post("/webhooks/deliveries/999999/again"), "not one that")
