"""Each role sees exactly its pages; tokens act within their scopes; one fleet never sees another's."""

import inspect
import re
from datetime import timedelta

import httpx
import pytest

from conftest import EXAMPLES, HEADER, TODAY, routes, row
from vornet.core.errors import InputError
from vornet.flows.house import access, first_run, fleets, people, sessions, tokens
from vornet.flows.judge import trials
from vornet.flows.judge.settle import settling
from vornet.flows.lab import labs, parcels
from vornet.flows.register import lists
from vornet.flows.weeks import depots, levelling, tasks
from vornet.flows.work import cards, noted, notes
from vornet.store.database import query
from vornet.web.app import create_app
from vornet.web.guard import OPEN_PATHS

PASSWORD = "right-and-long"


def right_of(route):
    for dependency in route.dependant.dependencies:
        if getattr(dependency.call, "right", None):
            return dependency.call.right
    return None


def test_every_route_but_sign_in_declares_its_right(db):
    found = routes(create_app(db, today=TODAY))
    assert len(found) > 60
    without = [r.path for r in found if right_of(r) is None and not r.path.startswith(OPEN_PATHS)]
    assert without == []


@pytest.fixture(scope="module")
def cast(db):
    """One fleet with one person per role, and the ids of something of everything in it."""
    import json

    from conftest import healthy_rows, small_register
    from vornet.flows.judge import evaluate
    from vornet.flows.lab import results
    from vornet.flows.register import register

    name = f"Cast {db.location.app_url[-12:]}"
    document = small_register(name) | {"service_items": [{"unit": "MV Test", "item": "Coolant", "every_days": 365}]}
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    results.load(db, ("\n".join([HEADER, *healthy_rows()]) + "\n").encode(), fleet=name, name="s.csv", by="t")
    evaluate.evaluate(db, name, TODAY)
    for role in access.ROLES:
        people.add(db, name, f"cast-{role}", role.title(), PASSWORD, role)
    with settling(db, fleets.find(db, name), TODAY) as c:
        ids = {
            "compartment_id": c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"],
            "unit_id": c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"],
            "item_id": c.execute("SELECT item_id FROM service_item").fetchone()["item_id"],
            "oil_id": c.execute("SELECT oil_id FROM oil").fetchone()["oil_id"],
            "drain_id": c.execute("SELECT drain_id FROM drain").fetchone()["drain_id"],
            "sample_id": c.execute("SELECT sample_id FROM sample").fetchone()["sample_id"],
            "import_file_id": c.execute("SELECT import_file_id FROM import_file").fetchone()["import_file_id"],
            "note": "level",
            "layout": "csv",
            "row_no": 2,
        }
        fleet_id = fleets.find(db, name)
        ids["kind"] = "csv"
        ids["name"] = "fleet-list.csv"
        ids["list_file_id"] = lists.keep(c, fleet_id, "l.csv", b"Unit;Hours;Component;Oil\nMV Test;3900;Engine;Test 15W-40\n", "t")
        notes.level_check(c, fleet_id, ids["compartment_id"], TODAY, 3900.0, 0.5, "t", TODAY)
        ids["note_id"] = noted.listed(c, ids["compartment_id"])[0]["row_id"]
        ids["lab_id"] = labs.put(c, fleet_id, name="Lab A", way="hand", address="", key="", usual_days=9, depots=[], by="t")
        ids["bottle_id"] = parcels.draw(
            c, fleet_id, sample_no="CAST-1", compartment_id=ids["compartment_id"], oil_id=None, batch="", on=TODAY, meter=3860,
            conditions={}, by="t", today=TODAY,
        )  # fmt: skip
        ids["shipment_id"] = parcels.pack(c, fleet_id, [ids["bottle_id"]], ids["lab_id"], "", "t", TODAY)
        ids["rollout_id"], _ = trials.roll_out(c, fleet_id, "T1 engine", 600, [ids["compartment_id"]], "", "t", TODAY)
        ids["trial_id"] = trials.listed(c)[0]["trial_id"]
        due = [d.task.key for d in tasks.due_by(c, TODAY, TODAY + timedelta(days=90), depots.terms(c, fleet_id))]
        ids["proposal_id"] = levelling.ask(c, fleet_id, TODAY, 28, "t")
        ids["visit_id"] = levelling.put_by_hand(c, fleet_id, ids["unit_id"], TODAY + timedelta(days=3), due[:1], "t", TODAY)
        ids["job_id"] = cards.make(c, fleets.find(db, name), ids["unit_id"], [ids["compartment_id"]], [], TODAY, True, "", "t")
    return name, ids


def signed_in(served, login):
    client = httpx.Client(base_url=served.url, timeout=120)
    assert client.post("/sign-in", data={"login": login, "password": PASSWORD}).status_code == 303
    return client


@pytest.mark.parametrize("role", access.ROLES)
def test_each_role_sees_exactly_its_pages(db, served, cast, role):
    client = signed_in(served, f"cast-{role}")
    wrong = []
    for route in routes(create_app(db, today=TODAY)):
        right = right_of(route)
        if "GET" not in route.methods or right is None or re.search(r"attachment|photo|sticker", route.path):
            continue
        path = re.sub(r"{(\w+)}", lambda m: str(cast[1][m[1]]), route.path)
        status = client.get(path).status_code
        if status != (200 if access.allowed([role], right) else 403):
            wrong.append((path, right, status))
    assert wrong == []


@pytest.mark.parametrize("role", access.ROLES)
def test_each_role_may_post_only_what_is_its_own(db, served, cast, role):
    """A post that the role may not make answers 403 whatever is in it; nothing is written by any of them."""
    client = signed_in(served, f"cast-{role}")
    csrf = re.search(r'name="csrf" value="([^"]+)"', client.get("/me").text)[1]
    ids = {**cast[1], "template_id": 999999, "attachment_id": 999999, "account_id": 999999, "token_id": 999999, "hold_id": 999999,
           "held_row_id": 999999, "deferred_id": 999999, "invitation_id": 999999, "feed_id": 999999, "reading_id": 999999,
           "part_id": 999999, "list_row_id": 999999, "webhook_id": 999999,
           "delivery_id": 999999, "record_id": 999999, "photo_id": "0" * 36, "answer": "drop",
           "what": "fix"}  # fmt: skip
    reached = []
    for route in routes(create_app(db, today=TODAY)):
        right = right_of(route)
        if route.methods != {"POST"} or right is None or route.path.startswith(("/api", "/sign-out", "/calculators")):
            continue
        path = re.sub(r"{(\w+)}", lambda m: str(ids[m[1]]), route.path)
        status = client.post(path, data={"csrf": csrf if not access.allowed([role], right) else "wrong"}).status_code
        assert status == 403, (path, status)
        reached.append(path)
    assert len(reached) > 25


def test_menus_show_what_the_role_may(served, cast):
    links = {}
    for role in access.ROLES:
        text = signed_in(served, f"cast-{role}").get("/").text
        links[role] = {w for w in ("/jobs", "/lab", "/decide", "/admin") if f'href="{w}' in text.split("<main")[0]}
    assert links["technician"] == {"/jobs", "/lab"}  # bottles and parcels, not the inbox
    assert links["planner"] == {"/jobs", "/lab", "/decide", "/admin"}
    assert links["viewer"] == {"/jobs", "/lab", "/decide"}
    assert links["admin"] == {"/jobs", "/admin"}


def test_a_refusal_says_who_may(served, cast):
    answer = signed_in(served, "cast-viewer").get("/lab")
    assert answer.status_code == 403
    assert "is for planners, analysts and managers; you are signed in as viewer" in answer.text


IDS = ("compartments/{compartment_id}", "compartments/{compartment_id}/register", "units/{unit_id}", "units/{unit_id}/edit",
       "items/{item_id}", "items/{item_id}/edit", "library/oils/{oil_id}", "units/new?copy={unit_id}",
       "compartments/{compartment_id}/drain", "jobs/{job_id}", "jobs/{job_id}/do", "jobs/{job_id}/card.pdf", "q/{compartment_id}",
       "units/{unit_id}/job", "units/{unit_id}/labels.pdf", "compartments/{compartment_id}/samples/{sample_id}",
       "compartments/{compartment_id}/drains/{drain_id}", "compartments/{compartment_id}/notes/{note}/{note_id}")  # fmt: skip


@pytest.mark.parametrize("path", IDS)
def test_another_fleets_ids_are_not_there(served, db, cast, planner, path):
    client = httpx.Client(base_url=served.url, timeout=120)
    client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    answer = client.get("/" + path.format(**cast[1]))
    assert answer.status_code == 404
    assert "MV Test" not in answer.text.split("<main")[-1]


def test_another_fleets_ids_cannot_be_changed(served, db, cast, planner):
    client = httpx.Client(base_url=served.url, timeout=120)
    client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    csrf = re.search(r'name="csrf" value="([^"]+)"', client.get("/me").text)[1]
    ids = cast[1]
    with settling(db, fleets.find(db, cast[0]), TODAY) as c:
        before = c.execute("SELECT * FROM unit").fetchall(), c.execute("SELECT * FROM compartment").fetchall()
    for path, form in (
        (f"/units/{ids['unit_id']}/edit", {"unit": "Stolen"}), (f"/units/{ids['unit_id']}/state", {"state": "retired"}),
        (f"/compartments/{ids['compartment_id']}/register", {"compartment": "Stolen", "kind": "engine"}),
        (f"/items/{ids['item_id']}/remove", {}), (f"/library/oils/{ids['oil_id']}", {"name": "Stolen"}),
        ("/library/change", {"ids": str(ids["compartment_id"]), "what": "family", "value": "Stolen", "step": "do"}),
    ):  # fmt: skip
        assert client.post(path, data={"csrf": csrf, **form}).status_code in (200, 404, 422), path
    with settling(db, fleets.find(db, cast[0]), TODAY) as c:
        assert (c.execute("SELECT * FROM unit").fetchall(), c.execute("SELECT * FROM compartment").fetchall()) == before
        assert c.execute("SELECT 1 FROM service_item").fetchone()


@pytest.mark.parametrize("table", ["service_item", "service_record", "unit_state", "oil_batch", "attachment", "unit_template",
                                   "doubt", "api_token", "job", "job_part", "job_entry", "job_photo", "job_device",
                                   "deferred", "bottle", "waste", "observation",
                                   "lab", "shipment", "import_piece", "correction"])  # fmt: skip
def test_new_tables_keep_fleets_apart(db, cast, fleet_name, table):
    other = fleets.find_or_make(db, fleet_name)
    with settling(db, other, TODAY) as c:
        assert c.execute(f"SELECT 1 FROM {table}").fetchall() == []
    with db.anyone() as c:
        assert c.execute(f"SELECT 1 FROM {table}").fetchall() == []


# ---- tokens ------------------------------------------------------------------------------------------------------
def token(db, cast, role, *scopes, days=30):
    fleet_id = fleets.find(db, cast[0])
    with settling(db, fleet_id, TODAY) as c:
        member = next(m for m in people.members(c) if m["login"] == f"cast-{role}")
        return tokens.make(c, fleet_id, member["account_id"], "test", f"{role} {scopes}", list(scopes), days)


def test_a_token_reads_within_its_scopes_and_never_beyond_its_owner(served, db, cast):
    reads = {"Authorization": f"Bearer {token(db, cast, 'planner', 'read')}"}
    assert httpx.get(f"{served.url}/api/v1/register", headers=reads).json()["fleet"] == cast[0]
    assert httpx.get(f"{served.url}/api/v1/due?days=4000", headers=reads).json()
    assert len(httpx.get(f"{served.url}/api/v1/judgements", headers=reads).json()) == 5
    put = httpx.put(f"{served.url}/api/v1/register", headers=reads, content=b"{}")
    assert (put.status_code, put.headers["content-type"]) == (403, "application/problem+json")
    viewer = {"Authorization": f"Bearer {token(db, cast, 'viewer', 'read', 'register')}"}
    assert httpx.get(f"{served.url}/api/v1/register", headers=viewer).status_code == 403  # a viewer exports nothing
    assert httpx.get(f"{served.url}/api/v1/due", headers=viewer).status_code == 200
    assert httpx.get(f"{served.url}/", headers=reads).status_code == 303  # pages are for people


def test_a_token_takes_results_and_readings_in(served, db, cast):
    imports = {"Authorization": f"Bearer {token(db, cast, 'planner', 'import', 'work', 'register')}"}
    body = f"{HEADER}\n{row('T1', '2026-01-12', 3800, 300)}\n".encode()
    assert httpx.post(f"{served.url}/api/v1/results?name=t.csv", headers=imports, content=body, timeout=90).json()["new"] == 1
    rows = [{"unit": "MV Test", "on": "2026-01-14", "meter": 3890}, {"unit": "MV Test", "on": "2026-01-15", "meter": 30},
            {"unit": "MV Ghost", "on": "2026-01-15", "meter": 30}]  # fmt: skip
    answer = httpx.post(f"{served.url}/api/v1/readings", headers=imports, json=rows, timeout=90).json()
    assert answer["taken"] == 1
    assert [(p["where"], p["field"]) for p in answer["problems"]] == [("[1]", "meter"), ("[2]", "unit")]
    register = httpx.put(f"{served.url}/api/v1/register", headers=imports, content=(EXAMPLES / "register.json").read_bytes(), timeout=90)
    assert register.status_code == 200
    assert register.json()["units"] == 1


def test_tokens_end(served, db, cast):
    url, text = f"{served.url}/api/v1/due", token(db, cast, "manager", "read")
    headers = {"Authorization": f"Bearer {text}"}
    assert httpx.get(url, headers=headers).status_code == 200
    fleet_id = fleets.find(db, cast[0])
    with settling(db, fleet_id, TODAY) as c:
        found = next(t for t in tokens.kept(c, None) if t["name"].startswith("manager"))
        stored = bytes(c.execute("SELECT token_hash FROM api_token WHERE token_id = %s", [found["token_id"]]).fetchone()["token_hash"])
        assert text.encode() not in stored
    with db.as_owner() as c:
        c.execute("UPDATE api_token SET expires_at = now() - interval '1 s' WHERE token_id = %s", [found["token_id"]])
    answer = httpx.get(url, headers=headers)
    assert (answer.status_code, answer.headers["www-authenticate"]) == (401, "Bearer")
    assert httpx.get(url, headers={"Authorization": "Bearer vnt_guess"}).status_code == 401
    with settling(db, fleet_id, TODAY) as c, pytest.raises(InputError, match="1 to 730 days"):
        tokens.make(c, fleet_id, found["token_id"], "t", "x", ["read"], 9999)


def test_a_browsers_session_cannot_change_things_through_the_api(served, cast):
    client = signed_in(served, "cast-planner")
    assert client.get("/api/v1/intervals").status_code == 200
    assert client.put("/api/v1/register", content=b"{}").status_code == 403


# ---- people ------------------------------------------------------------------------------------------------------
def test_someone_in_two_fleets_goes_on_in_the_other(served, db, fleet, fleet_name):
    fleets.find_or_make(db, fleet_name)
    login = f"both{fleet.split()[1]}{fleet_name.split()[2]}"
    people.add(db, fleet, login, "Both", PASSWORD, "planner")
    people.add(db, fleet_name, login, "Both", PASSWORD, "viewer")
    client = signed_in(served, login)
    csrf = re.search(r'name="csrf" value="([^"]+)"', client.get("/me").text)[1]
    assert "MV Test" in client.get("/library").text
    client.post("/fleet", data={"csrf": csrf, "fleet": fleets.find(db, fleet_name)})
    assert "MV Test" not in client.get("/library").text
    assert client.get("/lab").status_code == 403  # a viewer there, whatever one is elsewhere
    assert client.post("/fleet", data={"csrf": csrf, "fleet": 1_000_000}).status_code == 422


def test_a_new_password_ends_other_sessions(served, db, planner):
    here, there = (httpx.Client(base_url=served.url, timeout=120) for _ in range(2))
    for client in (here, there):
        client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    csrf = re.search(r'name="csrf" value="([^"]+)"', here.get("/me").text)[1]
    wrong = here.post("/me/password", data={"csrf": csrf, "old": "nope", "new": "another-long"})
    assert "does not fit" in wrong.text
    here.post("/me/password", data={"csrf": csrf, "old": planner[1], "new": "another-long"})
    assert (here.get("/").status_code, there.get("/").status_code) == (200, 303)
    here.post("/sign-out", data={"csrf": csrf, "everywhere": "1"})
    assert here.get("/").status_code == 303


def test_first_run_makes_the_first_admin(db, fleet, monkeypatch):
    """On a database where nobody has a sign-in yet; the others' accounts are looked away from."""
    monkeypatch.setattr(first_run, "nobody_yet", lambda db: True)
    with db.anyone() as c:
        c.execute(query("people.put_first_run"), {"code_hash": sessions.hashed("abcd1234")})
    name = f"First {fleet}"
    login = "first" + fleet.replace(" ", "").lower()
    with pytest.raises(InputError, match="printed"):
        first_run.set_up(db, "wrong", name, "UTC", login, "First", PASSWORD)
    with pytest.raises(InputError, match="time zone"):
        first_run.set_up(db, "abcd1234", name, "Moon/Base", login, "First", PASSWORD)
    first_run.set_up(db, "abcd1234", name, "UTC", login, "First", PASSWORD)
    token_ = sessions.sign_in(db, login, PASSWORD).token
    assert (sessions.visitor(db, token_).role, sessions.visitor(db, token_).fleet) == ("admin", name)
    with pytest.raises(InputError, match="printed"):  # the code is used up
        first_run.set_up(db, "abcd1234", name, "UTC", login, "First", PASSWORD)


def test_the_table_of_rights_is_whole():
    assert set(access.ROLE_WORDS) == set(access.ROLES)
    for right in access.RIGHTS.values():
        assert right.roles <= set(access.ROLES)
        assert right.scope is None or right.scope in access.SCOPES
    assert [k for k, r in access.RIGHTS.items() if "viewer" in r.roles] == [
        "see", "own_account", "see_intervals", "see_bottles", "see_review",
    ]  # fmt: skip
    assert inspect.signature(access.allowed).parameters.keys() == {"roles", "right", "scopes"}
