"""The real interface in headless Chromium: the whole job, keyboard, phone, and accessibility of every screen."""

import re

import httpx
import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Page, expect

from conftest import EXAMPLES, HEADER, row
from vornet.flows.house import fleets, people

pytestmark = pytest.mark.browser


@pytest.fixture
def signed_in(page: Page, served, planner):
    problems = []
    page.on("console", lambda m: problems.append(m.text) if m.type == "error" and "status of 4" not in m.text else None)
    page.on("pageerror", lambda e: problems.append(str(e)))
    page.set_viewport_size({"width": 1280, "height": 800})
    page.goto(served.url)
    page.get_by_label("Name").fill(planner[0])
    page.get_by_label("Password").fill(planner[1])
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="Board")).to_be_visible()
    yield page
    assert problems == []  # nothing broke the content policy or threw


def figure(page: Page, selector: str) -> float:
    return float(re.sub(r"[^\d.\-]", "", page.locator(selector).first.inner_text().replace("−", "-")))


def test_the_whole_job(page: Page, served, db, fleet_name):
    """Import register and results, read the trend, open the decision, log the next drain, watch headroom change."""
    fleets.find_or_make(db, fleet_name)
    login = f"whole{fleet_name.split()[2]}{fleet_name[-3:]}"
    people.add(db, fleet_name, login, "Whole Job", "right-and-long", "planner")
    page.set_viewport_size({"width": 1280, "height": 800})
    page.goto(f"{served.url}/lab")
    page.get_by_label("Name").fill(login)
    page.get_by_label("Password").fill("right-and-long")
    page.get_by_role("button", name="Sign in").click()
    page.locator('input[type="file"]').set_input_files(str(EXAMPLES / "register.json"))
    page.get_by_role("button", name="Take it in").click()
    expect(page.get_by_role("heading", name="register.json")).to_be_visible()
    page.goto(f"{served.url}/lab")
    page.locator('input[type="file"]').set_input_files(str(EXAMPLES / "results.csv"))
    page.get_by_role("button", name="Take it in").click()
    expect(page.get_by_role("heading", name="results.csv")).to_be_visible()
    expect(page.get_by_role("status")).to_contain_text("1 held", timeout=20_000)  # a worker reads it meanwhile
    expect(page.locator("main")).to_contain_text("there is no unit named 'MV Sundrelt'")

    page.keyboard.press("g")
    page.keyboard.press("b")
    page.get_by_role("link", name="MV Sundrel engine").click()
    expect(page.locator("svg.ribbon .panel")).to_have_count(4)
    expect(page.locator(".trends")).to_contain_text("Iron")
    before = figure(page, ".figure .num")
    page.keyboard.press("ArrowLeft")
    expect(page.locator("#say")).to_contain_text("sample")
    page.keyboard.press("Enter")
    expect(page.locator(".sample")).to_contain_text("Base number")

    expect(page.locator("#decision")).to_contain_text("Lengthen")
    page.locator("tr.limiting summary").click()
    expect(page.locator(".opened-row:visible")).to_contain_text("where bottles are usually drawn")
    expect(page.locator(".opened-row:visible .mini tbody tr")).to_have_count(6)

    page.get_by_role("link", name="Log a drain").click()
    page.locator('input[name="meter"]').fill("3950")
    page.locator('input[name="level_missing_l"]').fill("2")
    page.locator('input[name="volume_out_l"]').fill("52")
    expect(page.locator("#residual")).to_have_text("6.0")  # 60 L, 2 low, 52 out
    expect(page.locator("#next-due")).to_have_text("4,450")
    page.get_by_text("fine fuzz").click()
    page.get_by_role("button", name="Save the drain").click()
    expect(page.get_by_role("heading", name="MV Sundrel")).to_be_visible()
    expect(page.locator(".headroom-figure")).to_contain_text("0 h on this oil")
    assert figure(page, ".figure .num") > before


def test_a_drain_that_cannot_be_is_refused_and_keeps_what_was_typed(signed_in: Page, served):
    signed_in.goto(f"{served.url}/drain")
    signed_in.get_by_role("link", name="MV Test").click()
    signed_in.locator('input[name="meter"]').fill("90")
    signed_in.locator('input[name="volume_out_l"]').fill("99")
    expect(signed_in.locator("#figures")).to_contain_text("the meter goes back")
    signed_in.get_by_role("button", name="Save the drain").click()
    expect(signed_in.locator(".drainfields")).to_contain_text("Nothing is saved yet")
    expect(signed_in.locator(".drainfields")).to_contain_text("99 L came out, but the system held only 60 L")
    expect(signed_in.locator('input[name="volume_out_l"]')).to_have_value("99")


def test_the_same_form_sent_twice_is_one_drain(signed_in: Page, served):
    signed_in.goto(f"{served.url}/drain")
    signed_in.get_by_role("link", name="MV Test").click()
    form = {i.get_attribute("name"): i.input_value() for i in signed_in.locator("form.drainform input[type=hidden]").all()}
    form |= {"on": "2026-01-14", "meter": "3900", "volume_out_l": "54", "filter_changed": "yes"}
    cookies = {c["name"]: c["value"] for c in signed_in.context.cookies()}
    answers = [httpx.post(signed_in.url, data=form, cookies=cookies) for _ in range(2)]
    assert [a.status_code for a in answers] == [303, 303]
    assert answers[0].headers["location"] == answers[1].headers["location"]


def test_measurands_are_chosen_without_leaving_the_page(signed_in: Page):
    signed_in.get_by_role("link", name="MV Test engine").click()
    signed_in.get_by_text("Measurands").click()
    signed_in.get_by_label("Copper").check()
    expect(signed_in.locator('.panel[data-key="cu"]')).to_be_visible()


def test_approving_an_interval_moves_it_and_asks_why_when_it_differs(signed_in: Page):
    signed_in.get_by_role("link", name="MV Test engine").click()
    signed_in.get_by_role("link", name="Approve an interval").click()
    signed_in.locator('input[name="interval"]').fill("600")
    signed_in.get_by_role("button", name="Approve interval").click()
    expect(signed_in.get_by_role("alert")).to_contain_text("say why")
    expect(signed_in.locator('input[name="interval"]')).to_have_value("600")  # what was typed is still there
    signed_in.locator('input[name="why"]').fill("one step short while the new filter settles")
    signed_in.get_by_role("button", name="Approve interval").click()
    expect(signed_in.locator(".versions").first).to_contain_text("600 h from 15 Jan 2026, approved by Test Planner")
    expect(signed_in.locator(".versions").first).to_contain_text("500 h")


def test_find_and_rows_by_keyboard(signed_in: Page):
    signed_in.keyboard.press("/")
    signed_in.keyboard.type("mv te")
    expect(signed_in.locator("#found a")).to_have_count(2)  # the compartment and its unit
    signed_in.keyboard.press("Enter")
    expect(signed_in.get_by_role("heading", name="MV Test")).to_be_visible()
    signed_in.wait_for_load_state("load")  # keys work once the page's script has run
    signed_in.keyboard.press("g")
    signed_in.keyboard.press("b")
    expect(signed_in.get_by_role("heading", name="Board")).to_be_visible()
    signed_in.wait_for_load_state("load")
    signed_in.keyboard.press("j")
    signed_in.keyboard.press("Enter")
    expect(signed_in.get_by_role("heading", name="MV Test")).to_be_visible()
    signed_in.keyboard.press("?")
    expect(signed_in.get_by_role("dialog")).to_be_visible()


def test_a_refused_file_is_one_sentence(signed_in: Page, served, tmp_path):
    broken = tmp_path / "photo.csv"
    broken.write_bytes(b"\x89PNG\r\n\x1a\n\x00\x00")
    signed_in.goto(f"{served.url}/lab")
    signed_in.locator('input[type="file"]').set_input_files(str(broken))
    signed_in.get_by_role("button", name="Take it in").click()
    expect(signed_in.get_by_role("alert")).to_contain_text("file: is not a CSV or JSON file", timeout=20_000)
    expect(signed_in.get_by_role("alert")).to_contain_text("Nothing was changed")


def test_a_held_sample_is_rejected_with_a_reason(page: Page, served, db, fleet):
    from vornet.flows.judge import evaluate
    from vornet.flows.lab import results

    results.load(
        db, f"{HEADER}\n{row('B1', '2025-12-21', 3680, 180, False, v40=9, v100=14)}\n".encode(), fleet=fleet, name="b.csv",
        by="test",
    )  # fmt: skip
    evaluate.evaluate(db, fleet, page_day())
    login = f"analyst{fleet.replace(' ', '').lower()}"
    people.add(db, fleet, login, "An Analyst", "right-and-long", "analyst")
    page.goto(f"{served.url}/lab")
    page.get_by_label("Name").fill(login)
    page.get_by_label("Password").fill("right-and-long")
    page.get_by_role("button", name="Sign in").click()
    held = page.get_by_role("article", name="Viscosity the wrong way round")
    expect(held).to_contain_text("Viscosity 9 mm²/s at 40 °C is not above 14 mm²/s at 100 °C")
    page.keyboard.press("x")
    page.keyboard.type("columns swapped at the lab")
    page.keyboard.press("Enter")
    expect(page.locator("main")).to_contain_text("No sample is held")
    page.reload()
    expect(page.locator("main")).to_contain_text("Nothing waits")


def page_day():
    from conftest import TODAY

    return TODAY


SCREENS = ("/", "/decide", "/decide/trials?family=HX-6+marine", "/decide/fleet", "/decide/policy", "/waste",
           "/decide/prices", "compartment/interval",
           "/lab", "/drain", "compartment", "compartment/drain", "drain right", "sample", "/plan?days=3660", "/library",
           "/library/oils", "/library/oils/new", "/library/templates", "/library/doubts", "/library/files", "/units/new",
           "/admin/settings", "/me", "unit", "unit/edit", "unit/items/new", "unit/compartments/new", "compartment/register",
           "/jobs?state=all", "unit/job", "quick", "/calculators", "/lab?show=rows", "/lab?show=files", "lab file", "lab row",
           "/lab/bottles", "/lab/labs", "/review", "/review/actions", "/limits", "/limits/precision", "/backtest", "/begin",
           "/admin/webhooks", "/docs/", "/docs/guide/running/")  # fmt: skip


RULES = {"light": ["wcag2a", "wcag2aa", "wcag21aa", "wcag22aa"], "dark": ["color-contrast"]}  # what the dark one may change is colours


def test_every_screen_is_accessible_in_both_themes_and_fits_a_phone(signed_in: Page, served):
    href = signed_in.locator(".board .name a").first.get_attribute("href")
    signed_in.goto(served.url + href)
    sample = signed_in.locator(".ribbon .drop").first.get_attribute("data-sample")
    right = signed_in.locator("#drains td a").first.get_attribute("href")
    unit = signed_in.get_by_role("link", name="Unit and register").get_attribute("href").split("#")[0]
    signed_in.goto(served.url + "/lab?show=files")
    file = signed_in.locator("table a").first.get_attribute("href")
    problems = []
    for screen in SCREENS:
        path = screen.replace("compartment", href) if "compartment" in screen else screen
        path = {"sample": f"{href}/samples/{sample}", "drain right": right}.get(screen, path)
        path = file + path.removeprefix("lab file").replace("lab row", "/rows/1") if path.startswith("lab ") else path
        path = href.replace("/compartments", "/q") if screen == "quick" else path
        path = unit + path.removeprefix("unit") if path.startswith("unit") else path
        signed_in.set_viewport_size({"width": 1280, "height": 800})
        signed_in.goto(served.url + path)
        for scheme, rules in RULES.items():
            signed_in.emulate_media(color_scheme=scheme)
            found = Axe().run(signed_in, options={"runOnly": rules})
            if found.violations_count:
                problems.append(f"{path}, {scheme}: {found.generate_report()}")
        signed_in.set_viewport_size({"width": 390, "height": 844})
        wide = signed_in.evaluate("document.documentElement.scrollWidth")
        if wide > 390:
            problems.append(f"{path} is {wide} px wide on a phone")
    assert problems == [], "\n".join(problems)


def test_sign_in_page_is_accessible(page: Page, served):
    page.goto(f"{served.url}/sign-in")
    assert Axe().run(page).violations_count == 0


def test_nothing_is_loaded_from_elsewhere(signed_in: Page, served):
    seen = set()
    signed_in.on("request", lambda r: seen.add(r.url.split("/")[2]))
    for path in ("/", "/decide", "/lab", "/drain"):
        signed_in.goto(served.url + path)
    assert seen == {served.url.split("/")[2]}


def test_without_a_session_pages_lead_to_sign_in_and_posts_need_the_token(served, db, planner):
    assert httpx.get(f"{served.url}/lab").headers["location"] == "/sign-in?to=/lab"
    client = httpx.Client(base_url=served.url, timeout=30)
    client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    assert client.get("/").status_code == 200
    assert client.post("/lab", data={"csrf": "wrong"}).status_code == 403
    assert client.get("/compartments/999999999").status_code == 404
    page = client.get("/compartments/999999999").text
    assert "Traceback" not in page
    policy = client.get("/").headers["content-security-policy"]
    assert "script-src 'self'" in policy
    assert "unsafe-inline" not in policy


def test_another_fleets_compartment_is_not_there(served, db, planner, fleet_name):
    other = fleets.find_or_make(db, fleet_name)
    with db.fleet(other) as c:
        c.execute("INSERT INTO unit (fleet_id, name) VALUES (%s, 'secret')", [other])
        row_ = c.execute(
            "INSERT INTO compartment (fleet_id, unit_id, name, kind, family) "
            "SELECT fleet_id, unit_id, 'engine', 'engine', 'f' FROM unit RETURNING compartment_id"
        ).fetchone()
    client = httpx.Client(base_url=served.url, timeout=30)
    client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    answer = client.get(f"/compartments/{row_['compartment_id']}")
    assert answer.status_code == 404
    assert "secret" not in answer.text


def test_calculators_answer_as_one_types(signed_in: Page, served):
    signed_in.goto(f"{served.url}/calculators")
    answer = signed_in.locator("#a-viscosity-index")
    expect(answer).to_contain_text("92")
    form = signed_in.locator("form#viscosity-index")
    form.get_by_label("At 40 °C").fill("22,83")
    form.get_by_label("At 100 °C").fill("5.05")
    expect(answer).to_contain_text("156")
    form.get_by_label("At 40 °C").fill("4")
    expect(answer).to_contain_text("4 mm²/s at 40 °C is not above 5.05 mm²/s at 100 °C")
    expect(signed_in.locator(".calc-answer .error")).to_have_count(1)  # every other example works
    expect(signed_in.locator("#a-cleanliness")).to_contain_text("18/16/13")
    signed_in.locator("form#blend textarea").fill("0.5 10\n0.4 100")
    expect(signed_in.locator("#a-blend")).to_contain_text("the shares sum to 0.9, not to 1")


def test_pages_fit_a_sheet_laid_across(signed_in: Page, served):
    """A4 across, 12 mm of margin: 1032 px; nothing is cut off at its edge, and no first sheet is empty for a picture too tall for it."""
    href = signed_in.locator(".board .name a").first.get_attribute("href")
    signed_in.set_viewport_size({"width": 1032, "height": 703})
    for path in ("/", "/plan", "/weeks", "/library", "/decide", href, f"{href}/interval"):
        signed_in.goto(served.url + path)
        signed_in.emulate_media(media="print")
        wide = signed_in.evaluate("""() => Math.max(document.documentElement.scrollWidth,
            ...[...document.querySelectorAll("main table, main svg")].map((x) => Math.ceil(x.getBoundingClientRect().right)))""")
        assert wide <= 1032, (path, wide)
        tall = signed_in.evaluate("Math.max(0, ...[...document.querySelectorAll('main svg')].map((x) => x.getBoundingClientRect().height))")
        assert tall <= 560, (path, tall)
        signed_in.emulate_media(media="screen")


@pytest.mark.parametrize(("dates", "week", "first", "written"), [("dots", "sat", "Sa", "07.01.2026"), ("", "mon", "Mo", "7 Jan 2026")])
def test_the_calendar_behind_a_day_begins_its_week_as_its_reader_does(signed_in, served, db, fleet, dates, week, first, written):
    """It fills the field as people write it, by mouse and by keys; what it cannot read it leaves as it was typed."""
    page = signed_in
    page.goto(served.url + "/me")
    page.locator("select[name=date]").select_option(dates)
    page.locator("select[name=week]").select_option(week)
    page.locator("form[action='/me/writing'] button").click()
    with db.fleet(fleets.find(db, fleet)) as c:
        unit = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
    page.goto(f"{served.url}/units/{unit}")
    field = page.locator("form[action$='/meter'] input[data-day]")
    field.fill("14 Jan 2026" if not dates else "14.01.2026")
    box = field.bounding_box()
    page.mouse.click(box["x"] + box["width"] - 12, box["y"] + box["height"] / 2)
    expect(page.locator(".datepicker.active .dow").first).to_have_text(first)
    expect(page.locator(".datepicker .view-switch")).to_have_text("January 2026")
    page.locator(".datepicker-cell.day:not(.prev):not(.next)", has_text=re.compile("^7$")).click()
    expect(field).to_have_value(written)
    expect(page.locator(".datepicker")).to_have_count(0)
    field.press("Alt+ArrowDown")
    page.keyboard.press("ArrowDown")  # a week on
    page.keyboard.press("Enter")
    expect(field).to_have_value(written.replace("07", "14").replace("7 J", "14 J"))
    field.fill("the day before")
    field.press("Alt+ArrowDown")
    expect(page.locator(".datepicker.active")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.locator(".datepicker")).to_have_count(0)
    expect(field).to_have_value("the day before")


@pytest.mark.parametrize("path", ["/", "/plan", "/decide", "/decide/policy", "/decide/prices", "/library", "/limits", "/weeks"])
def test_no_table_of_a_desk_page_runs_out_at_its_side(signed_in, served, path):
    signed_in.goto(served.url + path)
    wide = signed_in.evaluate(
        "[...document.querySelectorAll('.scroll')].filter(e => e.scrollWidth > e.clientWidth + 1).map(e => e.getAttribute('aria-label'))"
    )
    assert wide == []
