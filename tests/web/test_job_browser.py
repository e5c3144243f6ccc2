"""The drain job on a phone in headless Chromium: a whole visit with the server stopped for part of it; a seized plug;
what waits on the device; in-between notes; paper."""

import io
import json
import re

import httpx
import pytest
from axe_playwright_python.sync_playwright import Axe
from PIL import Image
from playwright.sync_api import Page, expect
from pypdf import PdfReader

from conftest import TODAY, Served, small_register
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate
from vornet.flows.judge.settle import settling
from vornet.flows.register import register
from vornet.flows.work import cards
from vornet.store.database import query

pytestmark = pytest.mark.browser
PASSWORD = "right-and-long"


@pytest.fixture
def visit(db, fleet):
    """A ferry with an engine and a gearbox, a technician, and a job card for both."""
    document = small_register(fleet)
    engine = document["units"][0]["compartments"][0]
    engine |= {"volume_between_marks_l": 4, "level_method": "dipstick", "filters": [{"part": "F-1"}],
               "drain_points": [{"place": "sump", "wrench": "27 mm", "torque_min_nm": 60, "torque_max_nm": 75, "magnet": True}]}  # fmt: skip
    document["oils"][0]["pack_l"] = 20
    document["units"][0]["compartments"].append(
        {
            "compartment": "gearbox",
            "kind": "gearbox",
            "system_volume_l": 20,
            "capacity_l": 18,
            "oil": "Test 15W-40",
            "interval_h": 1000,
            "level_method": "overflow",
        }
    )
    assert register.load(db, json.dumps(document).encode(), by="t", today=TODAY).problems == []
    evaluate.evaluate(db, fleet, TODAY)
    login = "tech" + fleet.replace(" ", "").lower()
    people.add(db, fleet, login, "Sunniva Holtane", PASSWORD, "technician")
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        ids = {r["name"]: r["compartment_id"] for r in c.execute("SELECT name, compartment_id FROM compartment").fetchall()}
        unit_id = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        job_id = cards.make(c, fleet_id, unit_id, [ids["engine"], ids["gearbox"]], [], TODAY, True, "", "Pat")
    return {"fleet_id": fleet_id, "job": job_id, "login": login, "ids": ids, "unit": unit_id}


@pytest.fixture
def own_server(db):
    server = Served(db)
    yield server
    server.stop()


@pytest.fixture
def phone(browser):
    context = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True, service_workers="block")
    page = context.new_page()
    problems = []
    page.on("pageerror", lambda e: problems.append(str(e)))
    yield page
    context.close()
    assert problems == []


def open_job(page: Page, server, visit):
    page.goto(f"{server.url}/jobs/{visit['job']}/do")
    page.get_by_label("Name").fill(visit["login"])
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="Is it all here?")).to_be_visible()


def step(page: Page, heading: str):
    """Go forward to the step with this heading."""
    for _ in range(30):
        if page.locator(".step:not([hidden]) h1").inner_text() == heading:
            return page.locator(".step:not([hidden])")
        page.locator("#job-next").click()
    raise AssertionError(f"no step {heading!r}")


def number(page: Page, key: str, value: str):
    field = page.locator(f'.step:not([hidden]) [data-number="{key}"]')
    field.fill(value)
    field.press("Tab")


def tap(page: Page, words: str):
    page.locator(".step:not([hidden])").get_by_role("button", name=words, exact=True).click()


def drain_engine(page: Page):
    step(page, "Read the meter")
    number(page, "meter", "3,900")
    at = step(page, "Level before the drain")
    at.locator("input[type=range]").fill("0.5")
    expect(at.locator('[data-out="missing"]')).to_have_text("2.0")
    step(page, "Catch the sample")
    page.get_by_role("button", name=re.compile("Use the printed label")).click()
    tap(page, "mid-stream")
    step(page, "Let it out")
    tap(page, "drain plug")
    tap(page, "warm")
    step(page, "What was in it")
    page.get_by_role("button", name="2 a few flecks").click()
    page.get_by_role("button", name="dark, clean").click()


def finish_engine(page: Page):
    step(page, "The filter")
    tap(page, "changed")
    step(page, "How much came out")
    number(page, "out_l", "52")
    tap(page, "measured")
    at = page.locator(".step:not([hidden])")
    expect(at.locator('[data-out="residual"]')).to_have_text("6.0")  # 60 L, 2 low, 52 out
    expect(at.locator('[data-out="share"]')).to_have_text("10.0")
    at = step(page, "Fill it")
    expect(at).to_contain_text("Not confirmed shut: sump")
    expect(at.get_by_role("button", name="Poured")).to_be_disabled()  # not a litre before every drain is shut
    page.locator("#job-back").click()
    tap(page, "Shut")
    tap(page, "by wrench")
    at = step(page, "Fill it")
    expect(at.locator('[data-out="target"]')).to_have_text("54.0")
    expect(at.locator('[data-out="first"]')).to_have_text("48.6")
    at.locator("[data-pour-in]").fill("49")
    at.get_by_role("button", name="Poured").click()
    at.get_by_role("button", name="not yet").click()
    expect(at).to_contain_text("the level will fall by about 2.0 L")  # 55 with the filter, 53 without
    at.get_by_role("button", name="run 30–60 s, stopped").click()
    at.locator("[data-level-read]").fill("0.3")
    at.get_by_role("button", name="Keep this level").click()
    expect(at.locator('[data-out="add"]')).to_have_text("2.8")
    at.locator("[data-pour-in]").fill("2.8")
    at.get_by_role("button", name="Poured").click()
    at.get_by_role("button", name="run 30–60 s, stopped").click()
    at.locator("[data-level-read]").fill("1")
    at.get_by_role("button", name="Keep this level").click()
    expect(at.locator('[data-out="poured"]')).to_have_text("51.8")
    at = step(page, "Prove it")
    tap(page, "none")
    expect(at.locator('[data-out="due"]')).to_have_text("4,400")


def test_a_whole_visit_with_the_server_stopped_for_part_of_it(phone: Page, own_server, db, visit):
    page = phone
    open_job(page, own_server, visit)
    drain_engine(page)
    expect(page.locator("#job-net")).to_have_text("all sent")
    port = own_server.port
    own_server.stop()  # between two taps
    finish_engine(page)
    expect(page.locator("#job-net")).to_contain_text("no connection")
    at = step(page, "Finish")
    at.get_by_role("button", name="Finish engine").click()
    expect(at.locator("[data-result]")).to_contain_text("Kept on this phone")
    with settling(db, visit["fleet_id"], TODAY) as c:
        assert c.execute("SELECT 1 FROM drain WHERE on_day = %s", [TODAY]).fetchone() is None
    again = Served(db, port=port)
    try:
        expect(at.locator("[data-result]")).to_contain_text("Done. 6.0 L stayed behind, 51.8 L poured. Sticker: 4,400 h.", timeout=15000)
        expect(page.locator("#job-net")).to_have_text("all sent")
        # the gearbox: fill plug first, filled to its hole
        step(page, "Does the fill plug open?")
        tap(page, "It opens")
        step(page, "Level before the drain")
        tap(page, "Runs out or at the hole")
        step(page, "How much came out")
        number(page, "out_l", "17.5 L")
        step(page, "Every drain shut")
        tap(page, "Shut")
        at = step(page, "Fill it")
        expect(at.locator('[data-out="target"]')).to_have_text("17.5")
        at.locator("[data-pour-in]").fill("17.5")
        at.get_by_role("button", name="Poured").click()
        step(page, "Prove it")
        tap(page, "none")
        at = step(page, "Finish")
        at.get_by_role("button", name="Finish gearbox").click()
        expect(at.locator("[data-result]")).to_contain_text("2.5 L stayed behind, 17.5 L poured. Sticker: 4,900 h.")
        page.locator("#job-next").click()
        expect(page.locator("[data-over]")).to_contain_text("Everything on this card is closed")
        page.get_by_role("link", name="See the card").click()
        expect(page.locator("main")).to_contain_text("2 whole + 11.8, 8.2 left")  # 51.8 L from packs of 20
    finally:
        again.stop()
    with settling(db, visit["fleet_id"], TODAY) as c:
        drains = c.execute("SELECT * FROM drain WHERE on_day = %s ORDER BY compartment_id", [TODAY]).fetchall()
        assert [(d["meter"], d["volume_out_l"], d["volume_in_l"]) for d in drains] == [(3900, 52, 51.8), (3900, 17.5, 17.5)]
        assert drains[0]["extra"]["torque"] == {"sump": "wrench"}
        assert c.execute("SELECT state FROM job").fetchone()["state"] == "done"
        logged = c.execute("SELECT count(*) AS n FROM audit WHERE what = 'drain logged' AND who = 'Sunniva Holtane'").fetchone()["n"]
        assert logged == 2
        assert c.execute("SELECT count(*) AS n FROM bottle").fetchone()["n"] == 1
        row = c.execute(query("board.compartment"), {"compartment_id": visit["ids"]["engine"]}).fetchone()
        assert (row["oil_hours"], row["due_meter"]) == (0, 4400)


def test_a_visit_stopped_by_a_seized_plug(phone: Page, served, db, visit):
    page = phone
    open_job(page, served, visit)
    step(page, "Does the fill plug open?")
    page.get_by_role("button", name="It will not open").click()
    stop = page.locator("#job-stop")
    expect(stop).to_contain_text("a drained box that cannot be filled is stranded")
    stop.get_by_label("What you saw").fill("rounded hex")
    stop.get_by_role("button", name="Stop this part").click()
    expect(page.locator("#job-net")).to_have_text("all sent")
    page.goto(f"{served.url}/jobs?state=all")
    expect(page.locator("main")).to_contain_text("Fill plug will not open: rounded hex. Leave the oil in")
    with settling(db, visit["fleet_id"], TODAY) as c:
        states = [p["state"] for p in c.execute(query("jobs.parts"), {"job_id": visit["job"]}).fetchall()]
        assert states == ["open", "stopped"]
        assert c.execute("SELECT 1 FROM drain WHERE on_day = %s", [TODAY]).fetchone() is None


def test_chips_on_the_magnet_call_for_a_stop(phone: Page, served, visit):
    open_job(phone, served, visit)
    at = step(phone, "What was in it")
    at.get_by_role("button", name="4 slivers or chips").click()
    expect(at).to_contain_text("Do not run it")


def test_what_came_out_is_weighed_and_what_drips_still_is_told(phone: Page, served, db, visit):
    """33.7 kg at 60 °C: 40.00 L warm, 38.74 L cold; 34.0 and 34.6 L at 4 and 16 minutes: 35.2 L at the end."""
    open_job(phone, served, visit)
    at = step(phone, "How much came out")
    at.get_by_text("Weigh it").click()
    for key, value in (("gross_kg", "35.7038"), ("tare_kg", "2"), ("oil_c", "60")):
        number(phone, key, value)
    expect(at.locator('[data-out="weighed"]')).to_have_text("38.74")
    expect(at.locator('[data-out="weighed_hot"]')).to_contain_text("40.00 L as warm as it is")
    at.get_by_role("button", name="Take it").click()
    expect(at.locator('[data-number="out_l"]')).to_have_value("38.74")
    expect(at.locator('[data-set="out_kind"][data-value="measured"]')).to_have_attribute("aria-pressed", "true")
    at.get_by_text("Still dripping").click()
    for minutes, litres in (("4", "34.0"), ("16", "34.6")):
        at.locator("[data-drip-min]").fill(minutes)
        at.locator("[data-drip-out]").fill(litres)
        at.locator("[data-drip]").click()
    expect(at.locator("[data-drip-say]")).to_contain_text("35.2 L at the end: 0.6 L still to come")
    expect(at.locator("[data-drip-curve] .drip-dot")).to_have_count(2)
    at.locator("[data-drip-min]").fill("20")
    at.locator("[data-drip-out]").fill("30")
    at.locator("[data-drip]").click()
    expect(at).to_contain_text("what is out does not go back")
    expect(phone.locator("#job-net")).to_have_text("all sent")


def test_a_reload_without_an_end_keeps_what_was_entered(phone: Page, served, visit):
    page = phone
    open_job(page, served, visit)
    drain_engine(page)
    expect(page.locator("#job-net")).to_have_text("all sent")
    page.reload()
    at = page.locator(".step:not([hidden])")
    expect(at.get_by_role("button", name="2 a few flecks")).to_have_attribute("aria-pressed", "true")


def test_an_ended_session_keeps_the_queue(phone: Page, served, db, visit):
    page = phone
    open_job(page, served, visit)
    with db.as_owner() as c:
        c.execute("DELETE FROM session")  # everybody is signed out; the job's own key still stands
    step(page, "Read the meter")
    number(page, "meter", "3900")
    expect(page.locator("#job-net")).to_have_text("all sent")
    with settling(db, visit["fleet_id"], TODAY) as c:
        c.execute("UPDATE job_device SET expires_at = now() - interval '1 s'")
    number(page, "meter", "3901")
    expect(page.locator("#job-net")).to_contain_text("sign in again in another tab, they stay here")
    assert json.loads(page.evaluate(f"localStorage.getItem('vornet-job-{visit['job']}')"))[0]["value"] == 3901
    with settling(db, visit["fleet_id"], TODAY) as c:
        c.execute("UPDATE job_device SET expires_at = now() + interval '1 day'")
    expect(page.locator("#job-net")).to_have_text("all sent", timeout=10000)


def test_something_seen_is_put_off_with_its_part_and_owner(phone: Page, served, db, visit):
    page = phone
    open_job(page, served, visit)
    page.locator("#job-more").click()
    page.locator("#defer-kind").select_option("part_missing")
    page.get_by_label("What was seen").fill("O-ring not in the kit")
    page.get_by_label("Part needed").fill("OR-44")
    page.get_by_label("Who sees to it").fill("Stores")
    page.get_by_role("button", name="Put it off").click()
    expect(page.locator("#job-net")).to_have_text("all sent")
    page.goto(f"{served.url}/jobs")
    row = page.locator("tr", has_text="O-ring not in the kit")
    expect(row).to_contain_text("OR-44")
    row.get_by_label("What was done").fill("fitted")
    row.get_by_role("button", name="Close").click()
    expect(page.locator("main")).not_to_contain_text("O-ring not in the kit")


def test_a_photo_goes_up_and_one_that_is_not_is_refused(phone: Page, served, db, visit, tmp_path):
    page = phone
    open_job(page, served, visit)
    Image.new("RGB", (50, 40), "black").save(tmp_path / "magnet.jpg")
    (tmp_path / "not.jpg").write_text("hello")
    page.locator("#job-more").click()
    page.locator("#job-photo").set_input_files(str(tmp_path / "not.jpg"))
    expect(page.locator("#job-refused")).to_contain_text("neither a PDF nor a picture", timeout=30000)
    page.locator("#job-more").click()
    page.locator("#job-photo").set_input_files(str(tmp_path / "magnet.jpg"))
    expect(page.locator("#job-net")).to_have_text("photo sent", timeout=30000)
    page.goto(f"{served.url}/jobs/{visit['job']}")
    expect(page.locator(".photos img")).to_have_count(1)


def test_every_step_is_accessible_and_fits_the_phone(phone: Page, served, visit):
    page = phone
    open_job(page, served, visit)
    problems = []
    for _ in range(40):
        heading = page.locator(".step:not([hidden]) h1").inner_text()
        found = Axe().run(page, options={"runOnly": ["wcag2a", "wcag2aa", "wcag21aa", "wcag22aa"]})
        if found.violations_count:
            problems.append(f"{heading}: {found.generate_report()}")
        if page.evaluate("document.documentElement.scrollWidth") > 390:
            problems.append(f"{heading} is too wide")
        small = page.evaluate(
            "[...document.querySelectorAll('.step:not([hidden]) .tap, .job-foot button')].filter(b => b.offsetHeight && b.offsetHeight < 56)"
            ".map(b => b.textContent)"
        )
        if small:
            problems.append(f"{heading}: targets below 56 px: {small}")
        if page.locator("#job-next").is_hidden():
            break
        page.locator("#job-next").click()
    assert problems == [], "\n".join(problems)


def test_in_between_in_two_taps(phone: Page, served, db, visit):
    """From the QR: the level is one tap; a top-up that cannot be is refused with its reason."""
    page, i = phone, visit["ids"]["engine"]
    page.goto(f"{served.url}/q/{i}")
    page.get_by_label("Name").fill(visit["login"])
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("button", name="½").click()
    expect(page.get_by_role("status")).to_contain_text("Level kept.")
    page.get_by_text("Top-up", exact=True).click()
    form = page.locator("details", has_text="Keep top-up")
    form.get_by_label("Poured").fill("80")
    form.get_by_role("button").click()
    expect(page.get_by_role("alert")).to_contain_text("does not fit: the system holds 60 L")
    page.get_by_text("Symptom", exact=True).click()
    page.get_by_role("button", name="hard starting").click()
    expect(page.get_by_role("status")).to_contain_text("Noted.")
    with settling(db, visit["fleet_id"], TODAY) as c:
        check = c.execute("SELECT level_missing_l, extra FROM level_check").fetchone()
        assert (check["level_missing_l"], check["extra"]) == (2.0, {"reading": 0.5})
        assert c.execute("SELECT what FROM observation").fetchone()["what"] == "hard starting"


# ---- what devices may not do -------------------------------------------------------------------------------------
def signed_in(served, visit):
    client = httpx.Client(base_url=served.url, timeout=60)
    assert client.post("/sign-in", data={"login": visit["login"], "password": PASSWORD}).status_code == 303
    return client


def test_entries_need_the_jobs_key_and_our_own_page(served, db, visit):
    client = signed_in(served, visit)
    url = f"/jobs/{visit['job']}/entries"
    assert client.post(url, json={"entries": []}).status_code == 403  # a session alone is not enough
    key = json.loads(re.search(r"data-job='([^']+)'", client.get(f"/jobs/{visit['job']}/do").text)[1].replace("&#34;", '"'))["token"]
    headers = {"X-Job-Key": key}
    assert httpx.post(served.url + url, json={"entries": []}, headers=headers).status_code == 200
    assert httpx.post(served.url + url, json={"entries": []}, headers={**headers, "Origin": "https://elsewhere.example"}).status_code == 403
    assert httpx.post(served.url + url, json={"entries": []}, headers={"X-Job-Key": "guess"}).status_code == 401
    assert httpx.post(f"{served.url}/jobs/{visit['job'] + 1}/entries", json={"entries": []}, headers=headers).status_code == 401
    for body in (b"", b"{", b'{"entries": 5}', b"[]"):
        answer = httpx.post(served.url + url, content=body, headers=headers)
        assert answer.status_code == 422
        assert "not understood" in answer.text or "not a list" in answer.text
    big = httpx.post(f"{served.url}/jobs/{visit['job']}/photos", headers=headers, data={"id": "x"}, files={"file": b"\xff" * 50_000_000})
    assert big.status_code == 413


# ---- paper -------------------------------------------------------------------------------------------------------
PAPER = {"jobs/{job}/card.pdf": (210, 297), "jobs/{job}/labels.pdf": (70, 37), "units/{unit}/labels.pdf": (70, 37), "kit.pdf": (210, 297)}


@pytest.mark.parametrize("path", PAPER)
def test_paper_is_true_to_size(served, visit, path):
    answer = signed_in(served, visit).get("/" + path.format(**visit))
    assert answer.content[:5] == b"%PDF-"
    pages = PdfReader(io.BytesIO(answer.content)).pages
    assert len(pages) > 0
    for page in pages:
        size = float(page.mediabox.width) * 25.4 / 72, float(page.mediabox.height) * 25.4 / 72
        assert size == (pytest.approx(PAPER[path][0], abs=0.3), pytest.approx(PAPER[path][1], abs=0.3))


def test_the_card_carries_the_kit(served, visit):
    answer = signed_in(served, visit).get(f"/jobs/{visit['job']}/card.pdf")
    text = " ".join(p.extract_text() for p in PdfReader(io.BytesIO(answer.content)).pages)
    text = re.sub(r"\s+", " ", text)
    for words in ("MV Test", "55.0 L", "2 whole packs of 20.0 L", "27 mm", "60–75 N·m", "Does the fill plug open?"):
        assert words in text


def test_qr_codes_open_what_they_should():
    """Read back by an independent decoder is not to be had here: the drawn modules are segno's own for this text."""
    import segno

    from vornet.web.paper import qr

    drawn = str(qr("http://127.0.0.1:8460/q/7", 30))
    assert "width:30mm" in drawn
    expected = io.BytesIO()
    segno.make("http://127.0.0.1:8460/q/7", error="m").save(expected, kind="svg", border=2, dark="#000", light="#fff")
    path = re.search(r'stroke="#000" d="([^"]+)"', expected.getvalue().decode())
    assert path is None or path[1] in drawn
