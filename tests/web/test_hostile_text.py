"""What no person types: a letter no column takes, a digit that is none, a number too large, sent to every route by every name it knows."""

import json
import re
from pathlib import Path
from urllib.parse import quote

import pytest
from fastapi.testclient import TestClient

import vornet
from conftest import HEADER, TODAY, healthy_rows, routes, small_register
from vornet.core.errors import InputError
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate
from vornet.flows.lab import results
from vornet.flows.register import register
from vornet.flows.work import cards
from vornet.web.app import create_app

ODD = {"nul": "\x00", "a digit that is none": "²", "too large": "9" * 15}
ENDS = ("/sign-out", "/me/end", "/me/password", "/admin/people")  # they would sign the tester out


def _names() -> list[str]:
    """Every name a form or a query may be asked for: each word in quotes in the pages' code."""
    found: set[str] = set()
    for file in (Path(vornet.__file__).parent / "web").rglob("*.py"):
        found.update(re.findall(r'"([a-z][a-z_0-9]+)"', file.read_text()))
    for file in Path(vornet.__file__).parent.rglob("*.html"):
        found.update(re.findall(r'name="(\w+)"', file.read_text()))
    return sorted(found - {"csrf"})


@pytest.fixture
def workshop(db, fleet):
    """A workshop of one, signed in, with a unit, its samples and a job; and the ids its paths take."""
    register.load(db, json.dumps(small_register(fleet)).encode(), by="t", today=TODAY)
    results.load(db, ("\n".join([HEADER, *healthy_rows()]) + "\n").encode(), fleet=fleet, name="s.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    login = "all" + fleet.replace(" ", "").lower()
    people.add(db, fleet, login, "All", "right-and-long", "technician", "planner", "analyst", "manager", "admin")
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        ids = dict(c.execute("SELECT unit_id, compartment_id, oil_id FROM compartment").fetchone())
        ids["sample_id"] = c.execute("SELECT max(sample_id) AS s FROM sample").fetchone()["s"]
        ids["job_id"] = cards.make(c, fleet_id, ids["unit_id"], [ids["compartment_id"]], [], TODAY, True, "", "t")
    client = TestClient(create_app(db, today=TODAY), raise_server_exceptions=False)
    client.post("/sign-in", data={"login": login, "password": "right-and-long"})
    return client, re.search(r'name="csrf" value="([^"]+)"', client.get("/me").text)[1], ids


@pytest.mark.parametrize("odd", ODD.values(), ids=ODD)
def test_no_route_breaks(workshop, odd):
    client, csrf, ids = workshop
    names, broken, asked = _names(), [], 0
    for route in routes(client.app):
        for method in route.methods & {"GET", "POST"}:
            if route.path.startswith(ENDS):
                continue
            form = {"csrf": csrf} if method == "POST" else None
            odd_path = re.sub(r"{(\w+)(:\w+)?}", quote(odd, safe=""), route.path)
            path = re.sub(r"{(\w+)(:\w+)?}", lambda m: str(ids.get(m[1], 1)), route.path)
            sent = {"params": dict.fromkeys(names, odd)} if method == "GET" else {"data": {**form, **dict.fromkeys(names, odd)}}
            for where, answer in (
                ("path", client.request(method, odd_path, data=form, follow_redirects=False)),
                ("names", client.request(method, path, follow_redirects=False, **sent)),
            ):
                asked += 1
                if answer.status_code >= 500:
                    broken.append((method, route.path, where))
    assert broken == []
    assert client.get("/me").status_code == 200, "signed out on the way: the rest was not seen"
    assert asked > 300


def test_a_nul_in_a_results_file_is_said(db, fleet):
    """As text it is no results file; in a row of JSON the rows beside it go in."""
    register.load(db, json.dumps(small_register(fleet)).encode(), by="t", today=TODAY)
    rows = healthy_rows()
    rows[1] = rows[1].replace(",", "\x00,", 1)
    with pytest.raises(InputError, match="not a CSV or JSON file"):
        results.load(db, "\n".join([HEADER, *rows]).encode(), fleet=fleet, name="s.csv", by="t")
    listed = json.dumps([dict(zip(HEADER.split(","), r.split(","), strict=False)) for r in rows])
    results.load(db, listed.encode(), fleet=fleet, name="s.json", by="t")
    with db.fleet(fleets.find(db, fleet)) as c:
        assert c.execute("SELECT count(*) AS n FROM sample").fetchone()["n"] >= len(rows) - 1
