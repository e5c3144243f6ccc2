"""A month in the planner's browser: a week proposed, one visit dragged, another fixed, cards and kit made, the feed read back, the mail
received, a job done early and the plan following; by keys and on a phone as well."""

import json
import re
import socket
from datetime import date, timedelta

import icalendar
import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Page, expect

from conftest import TODAY, small_register
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate
from vornet.flows.judge.settle import settling
from vornet.flows.register import register
from vornet.flows.weeks import depots, levelling, mail
from vornet.flows.work import drain
from vornet.sim import post
from vornet.store.database import query
from vornet.web import week_paper

pytestmark = pytest.mark.browser
PASSWORD = "right-and-long"
STEP = """(() => { const s = document.getElementById("weeks");
                   return s.getBoundingClientRect().width * +s.dataset.step / +s.dataset.width; })()"""  # px a day
UNITS = (("MV Test", "Quay"), ("MV Second", "Quay"), ("MV Third", "Quay"))


@pytest.fixture
def plan(db, fleet, page: Page, served):
    """(fleet's id, browser of its planner) of a fleet with three ferries at one quay."""
    fleet_id, login = fleets.find(db, fleet), "wk-" + re.sub(r"\W", "", fleet.lower())
    document = small_register(fleet)
    for k, (name, _) in enumerate(UNITS[1:], 1):
        document["units"].append(document["units"][0] | {"unit": name})
        document["readings"] += [r | {"unit": name} for r in document["readings"] if r["unit"] == "MV Test"]
        document["drains"] += [d | {"unit": name, "meter": d["meter"] + 30 * k} for d in document["drains"] if d["unit"] == "MV Test"]
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    people.add(db, fleet, login, "Test Planner", PASSWORD, "planner", "technician")
    with db.fleet(fleet_id) as c:
        for d in depots.all_of(c, TODAY, 1):
            depots.set_week(c, fleet_id, d, [8, 8, 8, 8, 8, 0, 0], [2] * 7, "t")
    page.goto(f"{served.url}/sign-in")
    page.get_by_label("Name").fill(login)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in", exact=True).click()
    expect(page.get_by_role("heading", name="Board")).to_be_visible()
    return fleet_id, page


def planned(db, fleet_id):
    with db.fleet(fleet_id) as c:
        return {v["visit_id"]: v for v in c.execute(query("weeks.planned")).fetchall()}


def taken(page, served):
    """Have a plan worked out by the worker and take it."""
    page.goto(f"{served.url}/weeks")
    page.get_by_role("button", name="Work out a plan").click()
    expect(page.get_by_text("Proposed for 4 weeks")).to_be_visible()
    page.get_by_role("link", name="Look at it").click()
    expect(page.locator("a.visit.c-new").first).to_be_visible()
    page.get_by_role("button", name="Take this plan").click()
    expect(page.get_by_text("visits stand in the plan")).to_be_visible()


def drag(page, el, days):
    """Drag a block so many days to the side; what it costs is told before it is let go."""
    box, step = el.bounding_box(), page.evaluate(STEP)
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] / 2 + step * days * 0.6, box["y"], steps=4)
    expect(page.locator("#picked-visit")).to_be_visible()
    page.mouse.move(box["x"] + box["width"] / 2 + step * days, box["y"], steps=4)
    expect(page.locator("#picked-say")).to_contain_text("costs")
    page.mouse.up()


def test_a_month_of_the_planners(db, fleet, plan, served):
    fleet_id, page = plan
    taken(page, served)
    before = planned(db, fleet_id)
    assert len(before) == 3 and all(v["on_day"] >= TODAY for v in before.values())

    # one visit is dragged to the day before, with its cost told first
    last = max(before.values(), key=lambda v: v["on_day"])
    back = -3 if (last["on_day"] - timedelta(days=1)).weekday() > 4 else -1
    drag(page, page.locator(f'a.visit[data-visit="{last["visit_id"]}"]'), back)
    expect(page.locator("#picked-visit .tag", has_text="fixed")).to_be_visible()
    moved = planned(db, fleet_id)[last["visit_id"]]
    assert (moved["on_day"], moved["fixed"]) == (last["on_day"] + timedelta(days=back), True)

    # another is fixed by a key, and put a day later by keys
    first = min((v for v in before.values() if v["visit_id"] != last["visit_id"]), key=lambda v: v["on_day"])
    page.goto(f"{served.url}/weeks")
    block = page.locator(f'a.visit[data-visit="{first["visit_id"]}"]')
    block.focus()
    page.keyboard.press("Enter")
    expect(page.locator("#picked-visit")).to_have_attribute("data-visit", str(first["visit_id"]))
    page.keyboard.press("f")
    expect(page.locator("#picked-visit .tag", has_text="fixed")).to_be_visible()
    assert planned(db, fleet_id)[first["visit_id"]]["fixed"] is True
    block.focus()
    page.keyboard.press("ArrowLeft")
    expect(page.locator("#picked-say")).to_contain_text("costs")
    page.keyboard.press("Escape")
    assert planned(db, fleet_id)[first["visit_id"]]["on_day"] == first["on_day"]

    # cards and kit of a week
    week = moved["on_day"] - timedelta(days=moved["on_day"].weekday())
    page.goto(f"{served.url}/weeks?from={week}")
    page.get_by_label("Job cards for the week of").fill(week.isoformat())
    page.get_by_role("button", name="Make cards").click()
    expect(page.get_by_text("job cards made")).to_be_visible()
    assert planned(db, fleet_id)[last["visit_id"]]["job_id"] is not None
    page.goto(f"{served.url}/weeks/kit?week={week}")
    expect(page.locator(".depot-kit")).to_contain_text("Test 15W-40")
    expect(page.locator(".depot-kit")).to_contain_text("11 × 5.0")

    # the feed, read back by a library
    page.goto(f"{served.url}/weeks/told")
    page.get_by_label("A link for").select_option(label="Quay")
    page.get_by_role("button", name="Make a link").click()
    link = served.url + "/feeds/" + page.get_by_label("The calendar's link").input_value().split("/feeds/")[1]
    feed = icalendar.Calendar.from_ical(page.request.get(link).body())
    shown = {e.decoded("DTSTART") for e in feed.walk("VEVENT")}
    assert shown == {v["on_day"] for v in planned(db, fleet_id).values()}
    assert page.request.get(link.replace(".ics", "x.ics")).status == 404

    # the week by mail, received by the stand-in with its paper
    page.get_by_label("Address").fill("month@fleet.example")
    page.get_by_label("The week, every").select_option(label="Thursday")
    page.get_by_label("from o'clock").fill("0")
    page.get_by_role("button", name="Keep", exact=True).click()
    expect(page.get_by_text("Kept.")).to_be_visible()
    office, port = post.Post(), _free()
    controller = post.started(office, port)
    mail.write_and_send(db, TODAY, week_paper.week_pdf, mail.Server("127.0.0.1", port, "vornet@fleet.example"))
    controller.stop()
    [got] = [r for r in office.received if r.to == ("month@fleet.example",)]
    assert got.mail["Subject"].startswith("Week 3") and got.files()[0][1].startswith(b"%PDF")

    # a job done early: the plan follows
    with settling(db, fleet_id, TODAY) as c:
        v = levelling.visit(c, first["visit_id"])
        facts = drain.DrainFacts(out_l=50.0, out_kind="measured", filter_changed=True, poured_l=54.0)
        for t in v["tasks"]:
            drain.log(c, fleet_id, t["compartment_id"], drain.Drained(TODAY, 3890.0, facts, in_l=54.0), "t", TODAY)
    page.goto(f"{served.url}/weeks/done?since={TODAY}&until={TODAY + timedelta(days=40)}")
    expect(page.get_by_role("row", name=v["unit"]).first).to_contain_text("early")
    page.goto(f"{served.url}/weeks")
    page.get_by_role("button", name="Work out a plan").click()
    expect(page.get_by_text("Proposed for 4 weeks")).to_be_visible()
    page.get_by_role("button", name="Take this plan").click()
    left = planned(db, fleet_id)
    assert first["visit_id"] not in left and left[last["visit_id"]]["on_day"] == moved["on_day"]


def _free():
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return s.getsockname()[1]


def test_a_visit_is_moved_on_a_phone_and_every_page_of_the_weeks_fits_and_is_accessible(db, plan, served):
    fleet_id, page = plan
    taken(page, served)
    one = min(planned(db, fleet_id).values(), key=lambda v: v["on_day"])
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto(f"{served.url}/weeks")
    page.locator(".week-list a").first.click()
    options = page.locator("#move-on option").all_inner_texts()
    assert any("costs" in o for o in options)
    to = one["on_day"] + timedelta(days=3 if one["on_day"].weekday() == 4 else 1)
    page.locator("#move-on").select_option(to.isoformat())
    expect(page.locator("#picked-say")).to_contain_text("costs")
    page.get_by_role("button", name="Move").click()
    expect(page.locator("#picked-visit .tag", has_text="fixed")).to_be_visible()
    assert planned(db, fleet_id)[one["visit_id"]]["on_day"] == to
    with db.fleet(fleet_id) as c:
        unit_id = c.execute("SELECT unit_id FROM unit ORDER BY unit_id").fetchone()["unit_id"]
    problems = []
    for scheme in ("light", "dark"):
        page.emulate_media(color_scheme=scheme)
        for path in (f"/weeks?pick={one['visit_id']}", "/weeks?weeks=13", "/weeks/kit", "/weeks/done", "/weeks/depots", "/weeks/told",
                     f"/weeks/units/{unit_id}", "/plan", "/"):  # fmt: skip
            page.set_viewport_size({"width": 1280, "height": 800})
            page.goto(served.url + path)
            found = Axe().run(page, options={"runOnly": ["wcag2a", "wcag2aa", "wcag21aa", "wcag22aa"]})
            if found.violations_count:
                problems.append(f"{scheme} {path}: {found.generate_report()}")
            page.set_viewport_size({"width": 390, "height": 844})
            if page.evaluate("document.documentElement.scrollWidth") > 390:
                problems.append(f"{path} is wide on a phone")
    assert problems == [], "\n".join(problems)


def test_papers_and_tables_of_the_weeks_are_drawn(plan, served):
    _, page = plan
    taken(page, served)
    for path, start in (("/weeks.pdf", b"%PDF"), ("/weeks/done.pdf", b"%PDF"), ("/weeks/done.csv?until=2026-03-01", b"depot"),
                        ("/weeks/kit.xlsx", b"PK"), ("/weeks/done.xlsx", b"PK")):  # fmt: skip
        answer = page.request.get(served.url + path)
        assert answer.status == 200 and answer.body().removeprefix(b"\xef\xbb\xbf").startswith(start), (path, answer.body()[:20])
    assert date.fromisoformat("2026-01-12") and page.request.get(served.url + "/weeks.pdf?week=soon").status == 422


def test_bad_input_gets_a_plain_answer_and_changes_nothing(db, plan, served):
    fleet_id, page = plan
    taken(page, served)
    before = planned(db, fleet_id)
    token = page.locator('input[name="csrf"]').first.get_attribute("value")

    def send(path, **form):
        return page.request.post(served.url + path, form={"csrf": token, **form})

    visit = next(iter(before))
    for path, form in (
        (f"/weeks/visits/{visit}/move", {"on": "yesterday"}), (f"/weeks/visits/{visit}/move", {"on": "2020-01-01"}),
        (f"/weeks/visits/{visit}/cancel", {"why": " "}), ("/weeks/visits/999999/move", {"on": "2026-01-20"}),
        ("/weeks/propose", {"days": "5"}), ("/weeks/depots", {"what": "week", "depot": "1", "hours_0": "-3"}),
        ("/weeks/depots", {"what": "day", "on": ""}), ("/weeks/depots", {"what": "hours", "hours_engine": "0"}),
        ("/weeks/stock", {"thing": "F-1", "kind": "stolen", "amount": "1"}), ("/weeks/stock", {"thing": "F-1", "amount": "many"}),
        ("/weeks/told/mail", {"address": "nobody"}), ("/weeks/visits/1/dance", {}),
    ):  # fmt: skip
        answer = send(path, **form)
        assert answer.status in (200, 404, 422), (path, form, answer.status)
        text = answer.text()
        assert "Something broke" not in text and ('open">Not' in text or "does not fit" in text or answer.status == 404), (path, form)
    assert planned(db, fleet_id) == before
