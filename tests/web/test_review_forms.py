"""What is typed wrongly into Review, Limits and Precision: said by field, nothing written, what was typed still there."""

import re

import httpx
import pytest

from conftest import HEADER, TODAY, row
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate, verdicts
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results

PASSWORD = "right-and-long"


@pytest.fixture
def at(db, fleet, served):
    """An analyst signed in, coolant in the ferry's engine: (client, csrf token, sample, compartment)."""
    coolant = row("C1", "2025-12-20", 3690, 190, False, na=85, k=32, water_ppm=500)
    results.load(db, f"{HEADER}\n{coolant}\n".encode(), fleet=fleet, name="c.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    login = "an" + re.sub(r"\W", "", fleet)
    people.add(db, fleet, login, "An Analyst", PASSWORD, "analyst")
    client = httpx.Client(base_url=served.url, timeout=60)
    assert client.post("/sign-in", data={"login": login, "password": PASSWORD}).status_code == 303
    csrf = re.search(r'name="csrf" value="([^"]+)"', client.get("/me").text)[1]
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        found = c.execute("SELECT sample_id, compartment_id FROM sample WHERE sample_no = 'C1'").fetchone()
    return client, csrf, found["sample_id"], found["compartment_id"]


def signed(db, fleet) -> int:
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        return c.execute("SELECT count(*) AS n FROM verdict").fetchone()["n"]


@pytest.mark.parametrize(("form", "said"), [
    ({"verdict": "watch"}, "why your verdict differs"), ({"verdict": "fine"}, "run_on, watch, act or stop"),
    ({"verdict": "act", "cause": "gremlins"}, "not one Vornet knows"), ({"verdict": "act", "closes": "first"}, "closes"),
    ({"verdict": "act", "with_action": "on", "action": "Look", "due": "soon"}, "due"),
    ({"verdict": "act", "with_action": "on", "action": "Look", "due": "2020-01-01"}, "before today"),
])  # fmt: skip
def test_a_signature_that_cannot_be_stays_on_the_page_with_its_reason(db, fleet, at, form, said):
    client, csrf, sample, _ = at
    typed = {"csrf": csrf, "at": "0", "comment": "Pressure-test it first", **form}
    answer = client.post(f"/review/{sample}", data=typed, headers={"HX-Request": "true"})
    assert answer.status_code == 422
    assert said in answer.text
    assert "Pressure-test it first" in answer.text
    assert signed(db, fleet) == 0


def test_without_scripts_a_refusal_is_a_page(db, fleet, at):
    client, csrf, sample, _ = at
    answer = client.post(f"/review/{sample}", data={"csrf": csrf, "at": "x", "verdict": "act"})
    assert answer.status_code == 422
    assert "at" in answer.text
    assert signed(db, fleet) == 0
    done = client.post(f"/review/{sample}", data={"csrf": csrf, "at": "0", "verdict": "act"})
    assert (done.status_code, done.headers["location"]) == (303, "/review?at=0")
    assert signed(db, fleet) == 1


@pytest.mark.parametrize("path", ["/review?at=-4", "/review?at=99999", "/review?sample=99999999"])
def test_a_place_that_is_not_there_shows_what_is(at, path):
    answer = at[0].get(path)
    assert answer.status_code == 200
    assert "Traceback" not in answer.text


@pytest.mark.parametrize(("form", "said"), [
    ({"on": "2026-01-10", "cause": ""}, "choose what was found"), ({"on": "yesterday", "cause": "coolant"}, "on"),
    ({"on": "2026-02-10", "cause": "coolant"}, "still to come"), ({"on": "2026-01-10", "cause": "other"}, "say what it was"),
    ({"on": "2026-01-10", "cause": "coolant", "closes": "7777777"}, "no such action"),
])  # fmt: skip
def test_a_finding_that_cannot_be_is_refused(db, fleet, at, form, said):
    client, csrf, _, compartment = at
    answer = client.post("/review/findings", data={"csrf": csrf, "compartment": str(compartment), **form})
    assert answer.status_code == 422
    assert said in answer.text
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        assert verdicts.follow_up(c)["findings"] == []


def test_limits_typed_wrongly_come_back_as_typed(at, db, fleet):
    client, csrf, _, _ = at
    page = client.get("/limits?duty=diesel_engine").text
    form = dict(re.findall(r'name="((?:watch|act)\.[\w.]+)"[^>]*value="([^"]*)"', page))
    assert form["watch.fe.high"] == "75"
    wrong = {**form, "watch.fe.high": "200", "csrf": csrf, "duty": "diesel_engine", "why": "Maker's letter"}
    tried = client.post("/limits/what-if", data=wrong)
    assert (tried.status_code, "lies beyond act" in tried.text) == (422, True)
    saved = client.post("/limits", data=wrong)
    assert (saved.status_code, "lies beyond act" in saved.text) == (422, True)
    assert 'value="200"' in saved.text
    assert "Maker&#39;s letter" in saved.text or "Maker's letter" in saved.text
    right = {**wrong, "watch.fe.high": "25"}
    found = client.post("/limits/what-if", data=right)
    assert found.status_code == 200
    assert re.search(r"\b5\b", found.text)  # the five healthy samples hold 30 of iron
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        assert c.execute("SELECT count(*) AS n FROM limit_set").fetchone()["n"] == 1


def test_precision_typed_wrongly_comes_back_as_typed(at):
    client, csrf, _, _ = at
    page = client.get("/limits/precision").text
    form = dict(re.findall(r'name="((?:scale|power|constant|floor)\.\w+)"[^>]*value="([^"]*)"', page))
    answer = client.post("/limits/precision", data={**form, "scale.fe": "-1", "csrf": csrf, "why": "An old instrument"})
    assert answer.status_code == 422
    assert 'value="-1"' in answer.text
    nothing = client.post("/limits/precision", data={**form, "csrf": csrf, "why": "An old instrument"})
    assert nothing.status_code == 422


def test_the_page_says_where_each_number_comes_from(at):
    client, _, sample, compartment = at
    page = client.get(f"/review?sample={sample}").text
    assert f"/compartments/{compartment}/samples/{sample}" in page
    assert "Coolant" in page
    assert re.search(r"Sodium gains [\d,.]+ mg/kg per 500 h, usual", page)
    assert "40" in page  # sodium's watch limit
    assert "Pressure-test" in page  # what to do about it, in a phrase one can edit


def test_us_measures_do_not_change_a_judgement(at, db, fleet):
    client, _, sample, _ = at
    before = client.get(f"/review?sample={sample}").text
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        fleets.set_settings(c, fleets.find(db, fleet), "t", "UTC", "us", {})
    after = client.get(f"/review?sample={sample}").text
    for text in (before, after):
        assert re.search(r"Sodium gains [\d,.]+ mg/kg", text)  # metals are told in mg/kg everywhere
    strengths = [re.findall(r'class="strength (\w+)"', t) for t in (before, after)]
    assert strengths[0] == strengths[1] != []


def test_a_rejected_sample_says_so_on_its_own_page(db, fleet, at):
    client, csrf, _, compartment = at
    results.load(db, f"{HEADER}\n{row('B1', '2025-12-28', 3720, 220, False, bn=14.0)}\n".encode(), fleet=fleet, name="b.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        hold = c.execute("SELECT hold_id, sample_id FROM hold WHERE settled_at IS NULL").fetchone()
    page = client.get("/lab?show=holds").text
    assert 'name="why"' in page and "This is" not in re.findall(r'name="why"[^>]*value="([^"]*)"', page)
    assert re.findall(r'name="why"[^>]*value=', page) == []  # nobody else's words stand there
    empty = client.post(f"/lab/holds/{hold['hold_id']}", data={"csrf": csrf, "do": "rejected", "why": "", "at": "0"})
    assert empty.status_code == 422
    done = client.post(f"/lab/holds/{hold['hold_id']}", data={"csrf": csrf, "do": "rejected", "why": "Label was wet", "at": "0"})
    assert done.status_code in (200, 303)
    shown = client.get(f"/compartments/{compartment}/samples/{hold['sample_id']}").text
    assert "Rejected" in shown and "Label was wet" in shown and "An Analyst" in shown
    assert "Clear it in the inbox" not in shown


def test_a_stop_stands_on_every_page_of_who_answers_until_it_is_heard(db, fleet, at, served):
    stop = row("S1", "2025-12-28", 3720, 220, False, na=190, k=70, water_ppm=1500)
    results.load(db, f"{HEADER}\n{stop}\n".encode(), fleet=fleet, name="s.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    login = "pl" + re.sub(r"\W", "", fleet)
    people.add(db, fleet, login, "A Planner", PASSWORD, "planner")
    planner = httpx.Client(base_url=served.url, timeout=60)
    assert planner.post("/sign-in", data={"login": login, "password": PASSWORD}).status_code == 303
    for path in ("/", "/plan", "/library"):
        assert "stop-call" in planner.get(path).text, path
    analyst = at[0]
    assert "stop-call" not in analyst.get("/").text  # who signs is not who answers for the unit
    csrf = re.search(r'name="csrf" value="([^"]+)"', planner.get("/me").text)[1]
    sample = re.search(r'action="/stops/(\d+)"', planner.get("/plan").text)[1]
    heard = planner.post(f"/stops/{sample}", data={"csrf": csrf, "back": "/plan"})
    assert (heard.status_code, heard.headers["location"]) == (303, "/plan")
    assert "stop-call" not in planner.get("/").text
    for elsewhere in ("//elsewhere.example", "/\\elsewhere.example", "https://elsewhere.example/"):
        astray = planner.post(f"/stops/{sample}", data={"csrf": csrf, "back": elsewhere})
        assert astray.headers["location"] == "/", elsewhere
    compartment = at[3]
    assert "was heard by A Planner" in analyst.get(f"/compartments/{compartment}/samples/{sample}").text


def test_what_findings_make_of_the_signs_is_signed_in_the_page(db, fleet, at):
    client, csrf, _, compartment = at
    for day in ("2025-12-22", "2025-12-28", "2026-01-05"):
        form = {"csrf": csrf, "compartment": str(compartment), "on": day, "cause": "nothing", "note": ""}
        assert client.post("/review/findings", data=form).status_code == 303
    page = client.get("/backtest").text
    assert "Does it mean what it says?" in page and "nobody looked" not in page.split("Called strong")[0][-10:]
    sign = re.search(r'name="sign" value="([^"]+)"', page)[1]
    family = re.search(r'name="family" value="([^"]+)"', page)[1]
    refused = client.post("/backtest/signs", data={"csrf": csrf, "family": family, "sign": sign, "why": ""})
    assert refused.status_code == 422 and "say why" in refused.text
    changed = client.post("/backtest/signs", data={"csrf": csrf, "family": family, "sign": sign.split("=")[0] + "=55", "why": "so"})
    assert changed.status_code == 422 and "look again" in changed.text
    assert client.post("/backtest/signs", data={"csrf": csrf, "family": family, "sign": sign, "why": "Looked three times"}).status_code == 303
    after = client.get("/backtest").text
    assert "signed by An Analyst" in after and "Looked three times" in after
    back = client.post("/backtest/signs", data={"csrf": csrf, "family": family, "take_back": "1", "why": "Too soon"})
    assert back.status_code == 303 and "signed by An Analyst:" not in client.get("/backtest").text


@pytest.mark.parametrize("behind", [False, True])
def test_what_is_still_being_signed_is_not_shown_as_the_next(db, fleet, at, behind):
    """The answer to one signature brings the next sample: not one whose own signature is still on its way."""
    client, csrf, sample, _ = at
    with db.fleet(fleets.find(db, fleet)) as c:
        others = [r["sample_id"] for r in c.execute("SELECT sample_id FROM sample WHERE sample_no LIKE 'S0%'").fetchall()]
    on_its_way = ",".join(map(str, others)) if behind else ""
    answer = client.post(
        f"/review/{sample}", data={"csrf": csrf, "at": "0", "verdict": "act", "signing": on_its_way}, headers={"HX-Request": "true"}
    )
    assert answer.status_code == 200 and ("Nothing waits for a signature" in answer.text) == behind
