"""What no person types: a letter no column takes, a digit that is none, a number too large, sent to every route by every name it knows."""

import html
import io
import json
import os
import re
import uuid
from pathlib import Path
from urllib.parse import quote, unquote

import pytest
from fastapi.testclient import TestClient
from PIL import Image

import vornet
from conftest import HEADER, TODAY, healthy_rows, routes, small_register
from vornet.core.errors import InputError
from vornet.flows.house import access, fleets, people
from vornet.flows.judge import evaluate
from vornet.flows.lab import results
from vornet.flows.register import register
from vornet.flows.work import cards
from vornet.io import pictures
from vornet.web.app import create_app

ODD = {"nul": "\x00", "a digit that is none": "²", "too large": "9" * 26}
ENDS = ("/sign-out", "/me/end", "/me/password", "/me/second", "/admin/people", "/admin/second")  # they would sign the tester out


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


def filled(path, ids):
    """A route's path with the numbers there are."""
    return re.sub(r"{(\w+)(:\w+)?}", lambda m: str(ids.get(m[1], 1)), path)


@pytest.mark.parametrize("odd", ODD.values(), ids=ODD)
def test_no_route_breaks(workshop, odd):
    client, csrf, ids = workshop
    names, broken, asked = _names(), [], 0
    turn = list(ODD.values()).index(odd)
    for n, route in enumerate(routes(client.app)):
        for method in route.methods & {"GET", "POST"}:
            if route.path.startswith(ENDS):
                continue
            form = {"csrf": csrf} if method == "POST" else None
            odd_path = re.sub(r"{(\w+)(:\w+)?}", quote(odd, safe=""), route.path)
            path = filled(route.path, ids)
            sent = {"params": dict.fromkeys(names, odd)} if method == "GET" else {"data": {**form, **dict.fromkeys(names, odd)}}
            answers, mine = (
                [],
                n % len(ODD) == turn or os.environ.get("VORNET_CASES"),
            )  # each route has one of them, and all of them at length
            if "{" in route.path and mine:
                answers.append(("path", client.request(method, odd_path, data=form, follow_redirects=False)))
            if mine:
                answers.append(("names", client.request(method, path, follow_redirects=False, **sent)))
            for where, answer in answers:
                asked += 1
                if answer.status_code >= 500:
                    broken.append((method, route.path, where))
    assert broken == []
    assert client.get("/me").status_code == 200, "signed out on the way: the rest was not seen"
    assert asked > 100


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


BODIES = (
    b"", b"\xff\xff", b"[" * 3000, b"null", b"[null]", b'{"x":1e999}', b'{"x":NaN}', b"9" * 5000, b'{"fleet":"\\u0000"}',
    b'{"a":"\\ud800"}', b'[{"\\ud800":1,"unit":"\\ud800"}]', b'[{"unit":"\\u0000","on":"2026-01-01","meter":1}]',
)  # fmt: skip


def test_no_body_breaks_the_api(workshop, db, fleet):
    client, csrf, _ = workshop
    page = client.post("/me/tokens", data={"csrf": csrf, "name": "t", "days": "9", "scopes": list(access.SCOPES)}).text
    token = re.search(r'<code class="token">([^<]+)', page)[1]
    seen = set()
    for route in routes(client.app):
        for method in route.methods & {"POST", "PUT"} if route.path.startswith("/api") else ():
            for body in BODIES if "/calc/" in route.path or route.path.endswith("/readings") else BODIES[1:2] + BODIES[-2:]:
                for kind in ("application/json", "text/csv") if route.path.endswith(("/register", "/results")) else ("application/json",):
                    head = {"Authorization": f"Bearer {token}", "Content-Type": kind}
                    answer = client.request(method, route.path, content=body, headers=head)
                    known = (200, 400, 415, 422) if not route.path.endswith("/move") else (400, 403, 415, 422)  # an analyst's
                    assert answer.status_code in known, (method, route.path, body[:40], kind, answer.status_code)
                    assert answer.headers["Content-Security-Policy"] and answer.headers["X-Content-Type-Options"] == "nosniff"
                    seen.add(route.path)
    assert {"/api/v1/readings", "/api/v1/register", "/api/v1/results"} <= seen and len(seen) > 15


@pytest.mark.parametrize("origin", [b"http://[", b"null", b"http://\xc3\xa9", b"\xff", b"http://x:99999999"])
def test_an_odd_origin_is_a_stranger(workshop, origin):
    client, _, _ = workshop
    answer = client.post("/sign-in", data={"login": "x", "password": "y"}, headers={"Origin": origin})
    assert answer.status_code == 403 and answer.headers["Content-Security-Policy"]
    odd = {"Authorization": b"Bearer \xff", "Accept-Language": b"\xff", "Cookie": b"vornet_session=\xff", "Range": b"bytes=9-1"}
    assert client.get("/api/v1/register", headers=odd).status_code == 401


ODD_ENTRIES = (
    None, [], "x", {}, {"id": "x"}, {"part": []}, {"part": {}}, {"part": True}, {"key": []}, {"key": "meter", "value": 10**400},
    {"key": "meter", "value": "NaN"}, {"key": "note", "value": "\x00"}, {"key": "note", "value": "\ud800"},
    {"key": "magnets", "value": {"a": []}},
    {"key": "oil_looks", "value": [[]]}, {"key": "item", "value": {"item_id": "\x00"}}, {"key": "item", "value": {"item_id": 10**30}},
    {"key": "done", "value": {"x": []}}, {"key": "stop", "value": {"reason": []}}, {"key": "defer", "value": {"what": {}}},
    {"key": "photo", "value": {"id": 7}}, {"key": "pour", "value": {"litres": 1e308}}, {"key": "level_read", "value": {"reading": "x"}},
    {"key": "meter", "value": 1, "at": 10**400}, {"key": "meter", "value": 1, "at": 1, "skew": []}, {"key": "way", "value": {}},
)  # fmt: skip


@pytest.mark.parametrize("odd", ODD_ENTRIES, ids=str)
def test_one_bad_entry_of_a_batch_costs_none_of_the_others(workshop, odd):
    client, _, ids = workshop
    path = f"/jobs/{ids['job_id']}"
    key = re.search(r'"token": "([^"]+)"', html.unescape(client.get(path + "/do").text))[1]
    good = [{"id": str(uuid.uuid4()), "part": None, "key": "meter", "value": 3900 + i, "at": 0, "skew": 0} for i in range(2)]
    bad = {"id": str(uuid.uuid4()), "part": None, "at": 0, "skew": 0, **odd} if isinstance(odd, dict) else odd
    sent = json.dumps({"entries": [good[0], bad, good[1]]})
    answer = client.post(path + "/entries", content=sent, headers={"X-Job-Key": key, "Content-Type": "application/json"})
    assert answer.status_code == 200, answer.text[:300]
    assert {g["id"] for g in good} <= set(answer.json()["kept"])


def test_what_a_camera_writes_into_a_picture_is_gone():
    """Place, maker and comment: of the picture as it is kept only the picture is left."""
    made, out = Image.new("RGB", (60, 40), "red"), io.BytesIO()
    exif = Image.Exif()
    exif[0x010F], exif[0x8825] = "A maker", {1: "N", 2: (61.0, 59.0, 0.0)}
    made.save(out, "JPEG", comment=b"written by somebody: <script>", exif=exif, icc_profile=b"profile of somebody")
    kept = pictures.redrawn(out.getvalue())
    for told in (b"somebody", b"A maker", b"script"):
        assert told in out.getvalue() and told not in kept
    assert Image.open(io.BytesIO(kept)).size == (60, 40)


def test_a_file_is_named_in_every_letter(db, fleet):
    """RFC 6266 and RFC 5987: plain letters in quotes, the rest in percent signs; no letter ends the header."""
    document = small_register(fleet, drains=[], readings=[])
    unit = 'Ω "é"\n;x%41'
    document["units"][0]["unit"] = unit
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    login = "n" + fleet.replace(" ", "").lower()
    people.add(db, fleet, login, "N", "right-and-long", "analyst")
    with db.fleet(fleets.find(db, fleet)) as c:
        sql = "SELECT compartment_id FROM compartment JOIN unit USING (unit_id) WHERE unit.name = %s"
        row = c.execute(sql, (unit.strip(),)).fetchone()
    client = TestClient(create_app(db, today=TODAY))
    client.post("/sign-in", data={"login": login, "password": "right-and-long"})
    for kind in ("csv", "xlsx", "json", "pdf"):
        head = client.get(f"/compartments/{row['compartment_id']}/history.{kind}").headers["Content-Disposition"]
        plain, full = re.fullmatch(r"(?:attachment|inline); filename=\"([ -~]+)\"; filename\*=UTF-8''([\w.%~-]+)", head, re.ASCII).groups()
        assert not set(plain) & set('";%\\/')
        assert "Ω" in unquote(full) and "\n" not in unquote(full) and unquote(full).endswith("." + kind)
