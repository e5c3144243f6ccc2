"""Where no signal is: the day's pages open from the phone, what is entered waits through a restart, and comes back exactly once."""

import json
import re

import pytest
from PIL import Image
from playwright.sync_api import Page, expect
from test_job_browser import PASSWORD, drain_engine, finish_engine, number, open_job, own_server, phone, step, tap, visit  # noqa: F401

from conftest import TODAY, Served
from vornet.flows.judge.settle import settling
from vornet.flows.work import cards

pytestmark = pytest.mark.browser


@pytest.fixture
def profile(playwright, browser_type_launch_args, tmp_path):
    """Opens a phone's browser on one and the same profile, again and again."""
    open_ones = []

    def opened():
        context = playwright.chromium.launch_persistent_context(
            str(tmp_path / "profile"), **browser_type_launch_args, viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True,
        )  # fmt: skip
        open_ones.append(context)
        return context

    yield opened
    for context in open_ones:
        context.close()


def sign_in(page: Page, server, of, to="/jobs"):
    page.goto(f"{server.url}{to}")
    page.get_by_label("Name").fill(of["login"])
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()


def kept_for_today(page: Page):
    expect(page.locator("#away-say")).to_contain_text(re.compile(r"Kept on this phone: \d+ pages"), timeout=30000)


def nothing_waits(page: Page):
    for _ in range(300):
        if page.evaluate("JobQueue.waiting()") == []:
            return
        page.wait_for_timeout(100)
    raise AssertionError(page.evaluate("JobQueue.waiting()"))


def rows(db, of, sql):
    with settling(db, of["fleet_id"], TODAY) as c:
        return c.execute(sql).fetchall()


def test_a_job_is_done_without_a_signal_through_a_restart_and_counts_once(profile, own_server, db, visit, tmp_path):  # noqa: F811
    context = profile()
    page = context.pages[0]
    sign_in(page, own_server, visit)
    kept_for_today(page)
    context.close()
    port = own_server.port
    own_server.stop()

    context = profile()
    page = context.pages[0]
    page.goto(f"{own_server.url}/jobs")
    expect(page.locator("#away-say")).to_contain_text("No connection")
    page.locator(".choose.jobs a").first.click()
    expect(page.get_by_role("heading", name="Is it all here?")).to_be_visible()
    drain_engine(page)
    Image.new("RGB", (50, 40), "black").save(tmp_path / "magnet.jpg")
    page.locator('.step:not([hidden]) [data-photo="looks"]').set_input_files(str(tmp_path / "magnet.jpg"))
    expect(page.locator("#job-net")).to_contain_text("1 photo wait on this phone")
    page.reload()  # nothing is lost by it
    expect(page.get_by_role("button", name="2 a few flecks")).to_have_attribute("aria-pressed", "true")
    finish_engine(page)
    page.locator('.step:not([hidden]) [data-photo="prove"]').set_input_files(str(tmp_path / "magnet.jpg"))
    at = step(page, "Finish")
    at.get_by_role("button", name="Finish engine").click()
    expect(at.locator("[data-result]")).to_contain_text("Kept on this phone")
    expect(page.locator("#job-net")).to_contain_text("2 photos")
    context.close()
    assert rows(db, visit, "SELECT 1 FROM job_entry") == []

    again = Served(db, port=port)
    try:
        context = profile()
        page = context.pages[0]
        page.goto(f"{again.url}/jobs")  # not the job's own page: whatever is opened sends what waits
        expect(page.locator("#waits")).to_be_hidden(timeout=20000)
        nothing_waits(page)
        counts = {
            table: rows(db, visit, f"SELECT count(*) AS n FROM {table}")[0]["n"] for table in ("bottle", "job_photo", "waste")
        }  # fmt: skip
        assert counts == {"bottle": 1, "job_photo": 2, "waste": 1}
        drains = rows(db, visit, f"SELECT volume_out_l, volume_in_l FROM drain WHERE on_day = '{TODAY}'")
        assert [tuple(d.values()) for d in drains] == [(52, 51.8)]
        places = rows(db, visit, "SELECT place FROM job_photo ORDER BY place")
        assert [p["place"] for p in places] == ["looks", "prove"]
        page.goto(f"{again.url}/jobs/{visit['job']}/do")
        page.wait_for_timeout(500)
        assert rows(db, visit, "SELECT count(*) AS n FROM drain WHERE superseded_by IS NULL AND on_day = '2026-01-15'")[0]["n"] == 1
        context.close()
    finally:
        again.stop()


def test_a_note_waits_on_the_phone_and_is_kept_once(profile, own_server, db, visit):  # noqa: F811
    context = profile()
    page = context.pages[0]
    sign_in(page, own_server, visit)
    kept_for_today(page)
    port, engine = own_server.port, visit["ids"]["engine"]
    own_server.stop()
    page.goto(f"{own_server.url}/q/{engine}")
    page.get_by_label("Meter", exact=False).first.fill("3900")
    page.get_by_role("button", name="¾").click()
    expect(page.locator("#note-say")).to_contain_text("kept on this phone")
    page.locator("summary", has_text="Symptom").click()
    page.get_by_role("button", name="noise").click()
    expect(page.locator("#note-waits li")).to_have_count(2)
    again = Served(db, port=port)
    try:
        expect(page.locator("#note-waits")).to_be_hidden(timeout=30000)
        page.reload()
        page.wait_for_timeout(300)
        levels = rows(db, visit, "SELECT (extra ->> 'reading')::float8 AS reading, on_day FROM level_check WHERE superseded_by IS NULL")
        assert [tuple(r.values()) for r in levels] == [(0.75, TODAY)]
        assert [r["what"] for r in rows(db, visit, "SELECT what FROM observation")] == ["noise"]
        # the same note sent once more is heard and changes nothing
        sent = rows(db, visit, "SELECT client_id FROM note_heard WHERE said = 'symptom'")[0]["client_id"]
        answer = page.evaluate(
            """async (id) => { const f = new FormData(document.querySelector('form[data-note]'));
               f.set('do', 'symptom'); f.set('what', 'smoke');
               const a = await fetch(location.pathname, { method: 'POST', headers: { 'X-Note': id }, body: f }); return a.json(); }""",
            str(sent),
        )
        assert answer == {"said": "Kept already"}
        assert len(rows(db, visit, "SELECT 1 FROM observation")) == 1
        context.close()
    finally:
        again.stop()


def test_a_note_that_cannot_be_is_told_and_not_lost(phone: Page, served, visit):  # noqa: F811
    page = phone
    sign_in(page, served, visit, f"/q/{visit['ids']['engine']}")
    page.get_by_label("Meter", exact=False).first.fill("10")
    page.get_by_role("button", name="¾").click()
    expect(page.locator("#note-say")).to_contain_text("goes back")
    expect(page.get_by_label("Meter", exact=False).first).to_have_value("10")


def test_an_update_does_not_strand_a_half_done_job(profile, own_server, db, visit, monkeypatch):  # noqa: F811
    """A page kept yesterday loads what it was made with, also when a newer version has been seen since."""
    from vornet.web import away, pages

    context = profile()
    page = context.pages[0]
    sign_in(page, own_server, visit)
    kept_for_today(page)
    page.goto(f"{own_server.url}/jobs/{visit['job']}/do")
    step(page, "Read the meter")
    port = own_server.port
    own_server.stop()
    number(page, "meter", "3,900")
    monkeypatch.setattr(pages, "asset_version", lambda: "newer")
    monkeypatch.setattr(away, "asset_version", lambda: "newer")
    away.worker_text.cache_clear()
    newer = Served(db, port=port)
    try:
        expect(page.locator("#job-net")).to_have_text("all sent", timeout=20000)
        other = context.new_page()
        other.goto(f"{newer.url}/q")  # the newer version comes in with another page
        other.wait_for_function("caches.keys().then((n) => n.includes('vornet-assets-newer'))", timeout=20000)
        newer.stop()
        page.reload()
        step(page, "Level before the drain").locator("input[type=range]").fill("0.5")
        expect(page.locator('.step:not([hidden]) [data-out="missing"]')).to_have_text("2.0")
        assert "3900" in page.evaluate(f"localStorage.getItem('vornet-job-{visit['job']}-known')")
        context.close()
    finally:
        newer.stop()
        away.worker_text.cache_clear()


def test_a_phone_without_room_says_so_and_sends_all_the_same(phone: Page, served, db, visit):  # noqa: F811
    page = phone
    page.add_init_script("Storage.prototype.setItem = () => { throw new DOMException('full', 'QuotaExceededError'); };")
    open_job(page, served, visit)
    step(page, "Read the meter")
    number(page, "meter", "3,900")
    expect(page.locator("#job-net")).to_have_text("all sent")
    assert [r["value"] for r in rows(db, visit, "SELECT value FROM job_entry WHERE key = 'meter'")] == [3900]
    expect(page.locator("#job-full")).to_contain_text("storage is full")


def test_two_phones_on_one_job_and_a_clock_a_day_ahead(browser, phone: Page, served, db, visit):  # noqa: F811
    page = phone
    open_job(page, served, visit)
    step(page, "Read the meter")
    number(page, "meter", "3,900")
    expect(page.locator("#job-net")).to_have_text("all sent")
    context = browser.new_context(viewport={"width": 390, "height": 844})
    second = context.new_page()
    second.add_init_script("const now = Date.now; Date.now = () => now() + 86400000;")
    open_job(second, served, visit)
    expect(second.locator(".begun")).to_contain_text("You began this before, here or on another phone")
    step(second, "Read the meter")
    expect(second.locator('[data-number="meter"]')).to_have_value("3900")
    number(second, "meter", "3,905")
    expect(second.locator("#job-net")).to_have_text("all sent")
    number(page, "meter", "3,902")  # said last, whatever the other's clock shows
    expect(page.locator("#job-net")).to_have_text("all sent")
    with settling(db, visit["fleet_id"], TODAY) as c:
        found = cards.card(c, visit["job"], TODAY)
        assert found["visit"].get("meter") == 3902
        spread = c.execute("SELECT max(at) - min(at) AS d FROM job_entry").fetchone()["d"]
    assert spread.total_seconds() < 3600
    context.close()


def test_a_meter_that_cannot_be_is_refused_at_its_step(phone: Page, served, db, visit):  # noqa: F811
    open_job(phone, served, visit)
    at = step(phone, "Read the meter")
    for typed, why in (("100", "goes back"), ("99,000", "cannot be")):
        number(phone, "meter", typed)
        expect(at).to_contain_text(why)
    expect(phone.locator("#job-net")).to_have_text("all sent")
    assert rows(db, visit, "SELECT 1 FROM job_entry") == []


def test_a_drain_is_not_touched_before_the_fill_plug_is_proven_open(phone: Page, served, db, visit):  # noqa: F811
    page = phone
    open_job(page, served, visit)
    step(page, "Does the fill plug open?")
    for _ in range(12):  # on to the gearbox's drain
        page.locator("#job-next").click()
        if page.locator(".step:not([hidden]) h1").inner_text() == "Let it out":
            break
    at = page.locator(".step:not([hidden])")
    expect(at.locator("[data-gate]")).to_contain_text("Prove first")
    expect(at.get_by_role("button", name="drain plug")).to_be_disabled()
    at.get_by_role("button", name="Go there").click()
    tap(page, "It opens")
    page.locator("#job-next").click()
    page.locator("#job-next").click()
    for _ in range(6):
        if page.locator(".step:not([hidden]) h1").inner_text() == "Let it out":
            break
        page.locator("#job-next").click()
    expect(page.locator(".step:not([hidden])").get_by_role("button", name="drain plug")).to_be_enabled()


def test_a_slip_is_undone_from_wherever_the_page_has_gone(phone: Page, served, db, visit):  # noqa: F811
    page = phone
    open_job(page, served, visit)
    page.locator("#job-more").click()
    page.get_by_role("button", name="Not safe to go on").click()
    page.get_by_role("button", name="Stop this part").click()
    expect(page.locator("#job-slip")).to_contain_text("engine: stopped")
    expect(page.locator("#job-net")).to_have_text("all sent")
    page.locator("#job-slip").get_by_role("button", name="Undo").click()
    expect(page.locator("#job-slip")).to_be_hidden()
    expect(page.locator("#job-net")).to_have_text("all sent")
    assert rows(db, visit, "SELECT state FROM job_part ORDER BY part_id")[0]["state"] == "open"
    assert rows(db, visit, "SELECT 1 FROM deferred") == []


def test_the_visit_is_over_only_when_it_is(phone: Page, served, visit):  # noqa: F811
    open_job(phone, served, visit)
    at = step(phone, "Not over yet")
    expect(at.locator("[data-open-parts] li")).to_have_count(2)
    at.get_by_role("button", name="gearbox").click()
    expect(phone.locator(".step:not([hidden]) h1")).to_have_text("Finish")


def test_a_label_is_read_by_the_decoder_that_ships(phone: Page, served, visit, tmp_path):  # noqa: F811
    """A label as it is printed, read where the browser has no reader of its own."""
    from vornet.web.paper import qr

    (tmp_path / "label.html").write_text(f"<body style='margin:30px;background:#fff'>{qr('J0042-0007', 40)}")
    drawing = phone.context.new_page()
    drawing.goto((tmp_path / "label.html").as_uri())
    drawing.screenshot(path=str(tmp_path / "label.png"))
    drawing.close()
    phone.add_init_script("delete globalThis.BarcodeDetector;")
    open_job(phone, served, visit)
    at = step(phone, "Catch the sample")
    at.locator('[data-scan="sample_no"] input').set_input_files(str(tmp_path / "label.png"))
    expect(at.locator('[data-words="sample_no"]')).to_have_value("J0042-0007")
    Image.new("RGB", (200, 200), "white").save(tmp_path / "blank.png")
    at.locator('[data-scan="sample_no"] input').set_input_files(str(tmp_path / "blank.png"))
    expect(at).to_contain_text("no code to be read there")


def test_a_plain_drain_costs_no_more_taps_than_before_and_a_sample_two_and_a_label(browser, served, db, visit):  # noqa: F811
    """Screens and taps of the shortest way through the engine's drain, counted as a finger does them."""
    with settling(db, visit["fleet_id"], TODAY) as c:
        jobs = [cards.make(c, visit["fleet_id"], visit["unit"], [visit["ids"]["engine"]], [], TODAY, s, "", "Pat") for s in (False, True)]
    counts = []
    for job, sample in zip(jobs, (False, True), strict=True):
        context = browser.new_context(viewport={"width": 390, "height": 844})
        page = context.new_page()
        page.add_init_script("""globalThis.taps = 0;
            addEventListener('click', (e) => {
              if (e.isTrusted && e.target.closest('button:not(#job-next), input')) globalThis.taps += 1; }, true);""")
        open_job(page, served, visit | {"job": job})
        screens = page.locator(".step").count()
        if sample:
            step(page, "Catch the sample")
            page.get_by_role("button", name=re.compile("Use the printed label")).click()  # the label
            tap(page, "mid-stream")
        counts.append((screens, page.evaluate("globalThis.taps")))
        context.close()
    (plain, _), (with_sample, taps) = counts
    # the kit, made safe, meter, level, warm, drain, looks, filter, air, out, shut, pour, prove, end, over: what it was before
    assert plain == 15
    assert with_sample == plain + 1
    assert taps <= 2 + 1
    needed = json.loads(json.dumps(["meter", "shut", "pour", "leaks"]))  # and what has to be entered is what it was
    from vornet.core import job as rules

    with settling(db, visit["fleet_id"], TODAY) as c:
        found = cards.card(c, jobs[0], TODAY)["parts"][0]
    assert [k for k, _ in rules.wanting(found["document"], rules.Said(), rules.Said())] == needed


def test_photos_that_never_arrive_wait_and_are_counted(phone: Page, served, db, visit, tmp_path):  # noqa: F811
    page = phone
    open_job(page, served, visit)
    Image.new("RGB", (50, 40), "black").save(tmp_path / "magnet.jpg")
    with settling(db, visit["fleet_id"], TODAY) as c:
        c.execute("UPDATE job_device SET expires_at = now() - interval '1 s'")  # the job's key has ended
    step(page, "What was in it")
    page.locator('.step:not([hidden]) [data-photo="looks"]').set_input_files(str(tmp_path / "magnet.jpg"))
    expect(page.locator("#job-net")).to_contain_text("1 photo waits on this phone")
    page.reload()  # a fresh page brings a fresh key
    nothing_waits(page)
    assert [r["place"] for r in rows(db, visit, "SELECT place FROM job_photo")] == ["looks"]


def test_a_picture_of_a_symptom_an_item_and_something_put_off(phone: Page, served, db, visit, tmp_path):  # noqa: F811
    page = phone
    sign_in(page, served, visit, f"/q/{visit['ids']['engine']}")
    Image.new("RGB", (60, 40), "brown").save(tmp_path / "leak.jpg")
    page.locator("summary", has_text="Symptom").click()
    page.get_by_role("button", name="leak under it").click()
    form = page.locator(".add-picture")
    form.locator("input[type=file]").set_input_files(str(tmp_path / "leak.jpg"))
    form.get_by_role("button", name="Keep it").click()
    expect(page.get_by_role("status").first).to_contain_text("Picture kept")
    page.goto(f"{served.url}/units/{visit['unit']}")
    expect(page.locator(".gallery img")).to_have_count(1)
    page.locator("#lately summary").first.click()
    expect(page.locator("#lately")).to_contain_text("leak under it")
    page.locator(".gallery summary").click()
    page.locator(".gallery input[name=why]").fill("another boat")
    page.locator(".gallery").get_by_role("button", name="Take back").click()
    expect(page.locator(".gallery img")).to_have_count(0)


def test_a_note_is_put_right_on_its_page(phone: Page, served, db, visit):  # noqa: F811
    page, engine = phone, visit["ids"]["engine"]
    sign_in(page, served, visit, f"/q/{engine}")
    page.get_by_role("button", name="½").click()
    expect(page.get_by_role("button", name="Undo level")).to_be_visible()
    page.goto(f"{served.url}/compartments/{engine}")
    page.locator("#between tbody a").first.click()
    page.get_by_label("Level, 0 MIN to 1 MAX").fill("80 %")
    page.get_by_label("What was wrong").fill("read in the dark")
    page.get_by_role("button", name="Put right").click()
    expect(page.locator("#between tr").nth(1)).to_contain_text("80 %")
    expect(page.locator("#between")).to_contain_text("put right: read in the dark")


def test_a_change_of_oil_is_looked_at_and_made(phone: Page, served, visit):  # noqa: F811
    page, engine = phone, visit["ids"]["engine"]
    sign_in(page, served, visit, f"/compartments/{engine}/oil-change")
    expect(page.locator(".answer-line")).to_contain_text("2 drain-and-fills of 55.0 L leave 0.7 %")
    page.get_by_label("Old oil left, at most").fill("10")
    page.get_by_role("button", name="What would it take?").click()
    expect(page.locator(".answer-line")).to_contain_text("1 drain-and-fill of 55.0 L leave 8.3 %")
    page.get_by_label("Old oil left, at most").fill("90")
    page.get_by_role("button", name="What would it take?").click()
    expect(page.get_by_role("alert")).to_contain_text("between 0.1 and 50")
    page.get_by_label("Old oil left, at most").fill("5")
    page.get_by_role("button", name="cards").click()
    expect(page.locator("main")).to_contain_text("Flush with the same oil: 1 of 2")
