"""Other programs are told what happened: signed, once each, tried again, never what was so before."""

import hashlib
import hmac
import json
import threading
from datetime import timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import httpx
import pytest
from fastapi.testclient import TestClient

from conftest import HEADER, TODAY, fresh_database, row
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate
from vornet.flows.lab import results
from vornet.flows.weeks import webhooks
from vornet.store.database import Database
from vornet.web.app import create_app


@pytest.fixture(scope="module")
def db(worker_id):
    """A database of its own: a worker of another test would tell what is told here."""
    database = Database(fresh_database(f"webhooks_{worker_id}"), size=6)
    yield database
    database.close()


@pytest.fixture
def heard():
    """A server of this machine that keeps what it is sent, and answers what it is told to."""
    kept, answers = [], []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self):
            body = self.rfile.read(int(self.headers["Content-Length"]))
            kept.append((dict(self.headers), body))
            self.send_response(answers.pop(0) if answers else 204)
            self.end_headers()

        def log_message(self, *args):
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}/oil", kept, answers
    server.shutdown()


@pytest.fixture
def hook(db, fleet, heard, monkeypatch):
    monkeypatch.setenv("VORNET_PRIVATE_LABS", "1")
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        webhook_id, secret = webhooks.put(c, fleet_id, heard[0], list(webhooks.EVENTS), "t", TODAY)
    return fleet_id, webhook_id, secret, heard[1], heard[2]


def round_of(db, fleet_id, later=timedelta(0)):
    """One turn of the worker for this fleet."""
    with db.fleet(fleet_id) as c:
        c.execute("UPDATE webhook_delivery SET next_at = next_at - %s", [later])
        webhooks.line_up(c, fleet_id, TODAY)
    with httpx.Client(timeout=5, trust_env=False) as client:
        return webhooks.tell(db, fleet_id, client)


def test_a_new_result_is_told_once_signed_and_what_was_there_is_not(db, fleet, hook):
    fleet_id, _, secret, kept, _ = hook
    assert round_of(db, fleet_id) == 0 and kept == [], "what was so before is no news"
    line = row("NEW-1", "2026-01-10", 3850, 350, drained=False, fe=400)
    results.load(db, f"{HEADER}\n{line}\n".encode(), fleet=fleet, name="n.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    told = round_of(db, fleet_id)
    assert told == len(kept) >= 1 and round_of(db, fleet_id) == 0
    events = [json.loads(body)["event"] for _, body in kept]
    assert events.count("result") == 1
    headers, body = next((h, b) for h, b in kept if json.loads(b)["event"] == "result")
    document = json.loads(body)
    assert document["data"]["sample_no"] == "NEW-1" and document["data"]["unit"] == "MV Test" and document["fleet"] == fleet
    seconds, given = (part.split("=")[1] for part in headers["Vornet-Signature"].split(","))
    # HMAC as RFC 2104 has it, worked by the standard library over what was received
    assert hmac.compare_digest(given, hmac.new(secret.encode(), f"{seconds}.".encode() + body, hashlib.sha256).hexdigest())


def test_a_verdict_a_stop_and_a_hold_are_told(db, fleet, hook):
    fleet_id, _, _, kept, _ = hook
    line = row("BAD-1", "2026-01-10", 3850, 350, drained=False, fe=900, cu=400, pb=300, fuel_pct=12, v100=8)
    swap = row("ODD-1", "2026-01-11", 3851, 351, drained=False, fe=-5)
    results.load(db, f"{HEADER}\n{line}\n{swap}\n".encode(), fleet=fleet, name="n.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    with db.fleet(fleet_id) as c:
        sample = c.execute("SELECT sample_id FROM sample WHERE sample_no = 'BAD-1'").fetchone()["sample_id"]
        c.execute("INSERT INTO hold (fleet_id, sample_id, reason, detail) VALUES (%s, %s, 'slip_unit', '{}')", [fleet_id, sample])
        c.execute("UPDATE standing SET urgency = 0, last_sample_id = %s", [sample])
        c.execute(
            "INSERT INTO verdict (fleet_id, sample_id, compartment_id, verdict, proposed, hypotheses, evidence, limit_set_id, signed_by) "
            "SELECT fleet_id, sample_id, compartment_id, %s, %s, '[]', '{}', limit_set_id, 't' FROM sample "
            "JOIN evaluation USING (fleet_id, sample_id) WHERE sample_id = %s", [3, 3, sample])  # fmt: skip
    round_of(db, fleet_id)
    events = {json.loads(body)["event"] for _, body in kept}
    assert {"result", "verdict", "hold", "stop"} <= events


def test_what_is_not_taken_is_tried_again_and_given_up(db, fleet, hook):
    fleet_id, _, _, kept, answers = hook
    answers += [500] * 20
    results.load(db, f"{HEADER}\n{row('NEW-2', '2026-01-10', 3850, 350, drained=False)}\n".encode(), fleet=fleet, name="n.csv", by="t")
    with db.fleet(fleet_id) as c:
        c.execute("UPDATE webhook SET events = '{result}'")
    assert round_of(db, fleet_id) == 0 and len(kept) == 1
    assert round_of(db, fleet_id) == 0 and len(kept) == 1, "not before its time"
    for n in range(2, 7):
        round_of(db, fleet_id, timedelta(days=1))
        assert len(kept) == n
    assert len({h["Vornet-Delivery"] for h, _ in kept}) == 1, "the same message, by its number"
    round_of(db, fleet_id, timedelta(days=1))
    with db.fleet(fleet_id) as c:
        (d,) = webhooks.deliveries(c)
        assert (d["state"], d["tries"], d["trouble"]) == ("given up", 6, "answers 500") and len(kept) == 6
        webhooks.again(c, d["delivery_id"])
        with pytest.raises(InputError):
            webhooks.again(c, d["delivery_id"])
    answers.clear()
    assert round_of(db, fleet_id) == 1


@pytest.mark.parametrize("address", ["ftp://x.example", "javascript:1", "http://plain.example/x", "https://", "x" * 600])
def test_an_address_that_is_none_is_refused(db, fleet, address):
    with db.fleet(fleets.find(db, fleet)) as c, pytest.raises(InputError, match="address"):
        webhooks.put(c, fleets.find(db, fleet), address, ["result"], "t", TODAY)


def test_a_neighbour_of_this_machine_is_not_asked(db, fleet, heard, monkeypatch):
    """Outside an installation that allows it, an address inside the network is refused where it is resolved."""
    monkeypatch.delenv("VORNET_PRIVATE_LABS", raising=False)
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        webhooks.put(c, fleet_id, "https://localhost:1/x", ["due"], "t", TODAY)
        c.execute("UPDATE webhook_delivery SET state = 'waits'")
        c.execute("INSERT INTO webhook_delivery (fleet_id, webhook_id, event, about) SELECT fleet_id, webhook_id, 'due', 'x' FROM webhook")
    webhooks.line_up_and_tell(db, TODAY)
    with db.fleet(fleet_id) as c:
        assert {d["trouble"] for d in webhooks.deliveries(c)} == {
            "its address is inside this network, which this installation does not allow"
        }


def test_the_page_and_the_api_make_and_remove_one(db, fleet, planner):
    client = TestClient(create_app(db, today=TODAY), follow_redirects=True)
    client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    csrf = client.get("/me").text.split('name="csrf" value="')[1].split('"')[0]
    page = client.post("/admin/webhooks", data={"csrf": csrf, "address": "https://h.example/a", "events": ["stop", "due"]})
    assert page.status_code == 200 and "whsec_" in page.text and "whsec_" not in client.get("/admin/webhooks").text
    (listed,) = client.get("/api/v1/webhooks").json()
    assert listed["events"] == ["due", "stop"] and "secret" not in listed
    assert client.post(f"/admin/webhooks/{listed['webhook_id']}/remove", data={"csrf": csrf}).status_code == 200
    assert client.get("/api/v1/webhooks").json() == []
