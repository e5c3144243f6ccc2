"""The whole way of an interval in headless Chromium: picture, money, trial with its bottles, adoption, approval, due date, sticker, held;
another one shortened for its soot; a policy tried and saved."""

import json
import re
import uuid
from datetime import UTC, date, datetime, timedelta

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Page, expect

from conftest import HEADER, TODAY, Served, row, set_prices
from vornet.flows.house import people
from vornet.flows.judge import evaluate
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.register import register
from vornet.flows.work import cards, entries

pytestmark = pytest.mark.browser
PASSWORD = "right-and-long"
ADOPTED, DRAINED, LATER = date(2026, 3, 10), date(2026, 3, 12), date(2026, 6, 20)


@pytest.fixture
def place(db, fleet):
    fleet_id = set_prices(db, fleet, "nok", oil_per_l=50.0, filter=400.0, labour_per_h=700.0, sample=350.0, consequence=90_000.0)
    with db.fleet(fleet_id) as c:
        return fleet_id, c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]


@pytest.fixture
def at(page: Page, db, fleet):
    """The planner's browser on a day: a server that lives in that day, signed in."""
    login, open_servers = "tr-" + re.sub(r"\W", "", fleet.lower()), []
    people.add(db, fleet, login, "Test Planner", PASSWORD, "planner", "manager", "technician")

    def go(day, path):
        served = Served(db, today=day)
        open_servers.append(served)
        page.context.clear_cookies()
        page.goto(f"{served.url}/sign-in")
        page.get_by_label("Name").fill(login)
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in", exact=True).click()
        page.goto(served.url + path)
        return page

    yield go
    for served in open_servers:
        served.stop()


def bottle(db, fleet, number, on, meter, hours, day, drained=False, **values):
    line = row(number, on, meter, hours, drained, **values)
    results.load(db, f"{HEADER}\n{line}\n".encode(), fleet=fleet, name=f"{number}.csv", by="t")
    evaluate.evaluate(db, fleet, day)


def drained(db, fleet_id, compartment_id, meter, day, login):
    """A drain by its job card, as a phone would send it: what the sticker says."""
    with settling(db, fleet_id, day) as c:
        unit_id = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        job_id = cards.make(c, fleet_id, unit_id, [compartment_id], [], day, False, "", "Test Planner")
        part = cards.card(c, job_id, day)["parts"][0]["part_id"]
        member = next(m for m in people.members(c) if m["login"] == login)
        who = people.Visitor(member["account_id"], login, "Test Planner", fleet_id, "", ("technician",), "")
        now = datetime(day.year, day.month, day.day, 12, tzinfo=UTC)

        def said(n, key, value, of=part):
            at_ = (now - timedelta(minutes=60 - n)).timestamp() * 1000
            return {"id": str(uuid.uuid4()), "part": of, "key": key, "value": value, "at": at_}

        answer = entries.take(c, who, job_id, [
            said(1, "meter", meter, None), said(2, "out_l", 54.0), said(3, "shut", {"drain": True}), said(4, "pour", {"litres": 54.0}),
            said(5, "leaks", "none"), said(6, "done", {}),
        ], now, day)  # fmt: skip
        assert answer["refused"] == []
        return job_id, cards.card(c, job_id, day)["parts"][0]["figures"]["next_due"]


def test_from_the_picture_to_held(at, db, fleet, place):
    fleet_id, compartment_id = place
    here, login = f"/compartments/{compartment_id}/interval", "tr-" + re.sub(r"\W", "", fleet.lower())

    # the picture, and the money in it
    page = at(TODAY, here)
    page.locator("#hand-field").fill("600")
    expect(page.locator("[data-saving]")).to_contain_text("NOK")
    saving = float(page.locator("[data-saving]").inner_text().split("±")[0].replace(",", "").replace("−", "-"))
    assert saving > 0
    page.locator('input[name="why"]').fill("half its reserve is left at every drain")
    page.get_by_role("button", name="Try it first").click()

    # on trial: four bottles, the first in the plan, on a card, and on the ribbon
    expect(page.locator(".trial-line")).to_contain_text("On trial: 600 h")
    expect(page.locator(".trial-strip .phial-of")).to_have_count(4)
    page.goto(page.url.split("/compartments")[0] + "/plan?show=bottles")
    expect(page.locator("tbody")).to_contain_text("Bottle for the trial")
    page.get_by_role("link", name="card", exact=True).click()
    expect(page.locator('input[name="bottle"]')).to_be_checked()
    page.goto(page.url.split("/units")[0] + f"/compartments/{compartment_id}")
    expect(page.locator(".ribbon .phial-of")).not_to_have_count(0)
    due_before = page.locator(".headroom-figure").inner_text()

    # its bottles come in good, and it is adopted by name
    for number, on, hours in (("T1", "2026-01-14", 355), ("T2", "2026-02-05", 452), ("T3", "2026-03-08", 598)):
        bottle(db, fleet, number, on, 3500 + hours, hours, ADOPTED)
    page = at(ADOPTED, here)
    expect(page.locator(".trial-line")).to_contain_text("May be adopted")
    page.get_by_role("button", name="Adopt 600 h").click()
    expect(page.locator(".held-line")).to_contain_text("Too early to say")
    page.goto(page.url.replace("/interval", ""))
    assert "due at 4,100 h" in page.locator(".headroom-figure").inner_text() and "due at 4,160 h" in due_before

    # the sticker follows, and after a second charge it has held
    job_id, sticker = drained(db, fleet_id, compartment_id, 4105.0, DRAINED, login)
    assert sticker == 4705
    page.goto(page.url.split("/compartments")[0] + f"/jobs/{job_id}")
    expect(page.locator(".facts")).to_contain_text("4,705")
    bottle(db, fleet, "T4", "2026-06-15", 4700, 595, LATER)
    drained(db, fleet_id, compartment_id, 4702.0, date(2026, 6, 16), login)
    evaluate.evaluate(db, fleet, LATER, afresh=True)
    page = at(LATER, here)
    expect(page.locator(".held-line")).to_contain_text("Held")
    expect(page.locator(".sides")).to_contain_text("Run on")
    page.goto(page.url.split("/compartments")[0] + "/decide")
    expect(page.locator("tbody")).to_contain_text("held")


def test_a_bad_bottle_is_told_on_every_page_until_somebody_has_taken_note(at, db, fleet, place):
    _, compartment_id = place
    page = at(TODAY, f"/compartments/{compartment_id}/interval")
    page.locator('input[name="interval"]').fill("600")
    page.get_by_role("button", name="Try it first").click()
    expect(page.locator(".trial-line")).to_be_visible()
    bottle(db, fleet, "B1", "2026-01-14", 3855, 355, TODAY, soot_pct=4.6, bn=4.2)
    for path in ("/", "/plan", "/jobs"):
        page.goto(page.url.split("/", 3)[0] + "//" + page.url.split("/", 3)[2] + path)
        expect(page.locator(".trial-call")).to_contain_text("Trial stopped")
    page.get_by_role("button", name="Taken note").click()
    expect(page.locator(".trial-call")).to_have_count(0)


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_trial_pages_pass_axe_in_both_themes(at, db, fleet, place, scheme):
    _, compartment_id = place
    page = at(TODAY, f"/compartments/{compartment_id}/interval")
    page.emulate_media(color_scheme=scheme)
    page.locator('input[name="interval"]').fill("600")
    page.get_by_role("button", name="Try it first").click()
    base = page.url.split("/compartments")[0]
    for path in (f"/compartments/{compartment_id}/interval", "/decide/trials?family=T1+engine", f"/compartments/{compartment_id}"):
        page.goto(base + path)
        found = Axe().run(page)
        assert found.violations_count == 0, found.generate_report()


SOOTY = [row(f"Q{i}", day, 1500 + 500 * i, 500, soot_pct=s).replace("MV Test,", "MV Soot,")
         for i, (day, s) in enumerate(zip(("2025-03-01", "2025-05-01", "2025-07-01", "2025-09-01", "2025-11-01"),
                                          (2.3, 2.4, 2.25, 2.45, 2.35), strict=True))]  # fmt: skip


def test_another_is_shortened_for_its_soot_and_a_policy_is_tried_and_saved(at, db, fleet, place):
    from conftest import small_register

    document = json.loads(json.dumps(small_register(fleet)).replace("MV Test", "MV Soot"))
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    results.load(db, ("\n".join([HEADER, *SOOTY]) + "\n").encode(), fleet=fleet, name="soot.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    page = at(TODAY, "/decide?show=shorten")
    page.get_by_role("link", name="MV Soot engine").first.click()
    expect(page.locator(".answer-line")).to_contain_text("Shorten")
    expect(page.locator(".one-right")).to_contain_text("soot")
    shorter = page.locator("#approve-interval").input_value()
    page.get_by_role("button", name="Approve interval").click()
    expect(page.locator(".headroom-figure")).to_be_visible()
    with db.fleet(place[0]) as c:
        row_ = c.execute("SELECT s.interval_meter FROM standing s JOIN compartment USING (compartment_id) JOIN unit u USING (unit_id) "
                         "WHERE u.name = 'MV Soot'").fetchone()  # fmt: skip
    assert row_["interval_meter"] == float(shorter.replace(",", "")) < 500

    page.goto(page.url.split("/compartments")[0] + "/decide/policy")
    page.locator('input[name="most_at_once"]').fill("10")
    page.get_by_role("button", name="Try it").click()
    expect(page.locator("main")).to_contain_text("MV Test")
    page.locator('input[name="why"]').fill("smaller steps until the autumn")
    page.get_by_role("button", name="Save rules").click()
    expect(page.locator("main")).to_contain_text("smaller steps until the autumn")
    page.goto(page.url.replace("/policy", ""))
    expect(page.locator("tbody")).to_contain_text("550")
