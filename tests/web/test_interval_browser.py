"""The interval on one axis in headless Chromium: the hand moves everything by tables that came with the page, approval keeps what it rests
on, and prices bring the money."""

import json
import re
from datetime import timedelta

import numpy as np
import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Page, expect

from conftest import HEADER, TODAY, approve_seen, row, set_prices
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.pages import interval

pytestmark = pytest.mark.browser
PASSWORD = "right-and-long"


@pytest.fixture
def place(db, fleet):
    with db.fleet(fleets.find(db, fleet)) as c:
        return c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]


@pytest.fixture
def priced(db, fleet):
    set_prices(db, fleet, "nok", oil_per_l=50.0, filter=400.0, labour_per_h=700.0, sample=350.0, consequence=90_000.0)


@pytest.fixture
def planner(page: Page, served, db, fleet):
    login = "iv-" + re.sub(r"\W", "", fleet.lower())
    people.add(db, fleet, login, "Test Planner", PASSWORD, "planner", "manager")
    page.goto(f"{served.url}/sign-in")
    page.get_by_label("Name").fill(login)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in", exact=True).click()
    return page


def shown(page, name):
    return page.locator(f"[data-{name}]").inner_text()


def share(text):
    return float(text.replace("<", "").replace("%", "").strip()) / 100


def test_the_hand_moves_everything_at_once_and_asks_the_server_nothing(planner: Page, served, db, fleet, place, priced):
    page, asked = planner, []
    page.goto(f"{served.url}/compartments/{place}/interval")
    page.on("request", lambda r: asked.append(r.url) if "/static/" not in r.url else None)
    with db.fleet(fleets.find(db, fleet)) as c:
        found = interval.load(c, place, TODAY)
    for hours in (300, 500, 625, 700, 900):
        page.locator("#hand-field").fill(str(hours))
        assert share(shown(page, "any")) == pytest.approx(found.table.chance(hours), abs=0.006)
        drains = found.rate_per_year / hours
        assert shown(page, "drains").endswith(f"{drains:.1f}")
        risk = np.interp(hours, found.table.hours, found.table.any_act) * found.costs.drain.consequence
        assert float(shown(page, "cost").replace(",", "")) == pytest.approx((found.costs.drain.total + risk) / hours, abs=0.006)
    page.locator("#hand-field").fill("500")
    page.locator("#hand-range").focus()
    page.keyboard.press("ArrowRight")
    assert shown(page, "hand") == "525"
    page.keyboard.press("Shift+ArrowLeft")
    assert shown(page, "hand") == "520"
    box = page.locator("#axis").bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + 200)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.75, box["y"] + 200, steps=4)
    page.mouse.up()
    dragged = float(shown(page, "hand").replace(",", ""))
    assert dragged > 600 and dragged % 5 == 0
    assert float(page.locator('input[name="interval"]').input_value()) == dragged  # what is in the hand is what is approved
    assert page.locator('[data-school="1000"]').inner_text()  # the maker's own
    assert asked == []


def test_schools_and_walls_answer_for_the_length_in_the_hand(planner: Page, served, place):
    page = planner
    page.goto(f"{served.url}/compartments/{place}/interval")
    page.locator("#hand-field").fill("400")
    expect(page.locator('[data-school="500"]')).to_contain_text("agrees")  # half of the maker's 1,000
    page.locator("#hand-field").fill("640")
    expect(page.locator('[data-school="500"]')).to_contain_text("too long")
    expect(page.locator(".wall-list li.stands").filter(has_text="at once")).to_have_count(1)
    page.locator("#hand-field").fill("400")
    expect(page.locator("[data-wall].stands")).to_have_count(0)


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_the_picture_is_accessible_fits_a_phone_and_shows_the_next_property(planner: Page, served, place, priced, theme):
    page = planner
    page.emulate_media(color_scheme=theme)
    for path in (f"/compartments/{place}/interval", "/decide/prices", "/decide"):
        page.goto(served.url + path)
        assert [v["id"] for v in Axe().run(page).response["violations"]] == [], path
        page.set_viewport_size({"width": 390, "height": 844})
        assert page.evaluate("document.documentElement.scrollWidth") <= 390, path
        page.set_viewport_size({"width": 1280, "height": 800})
    page.goto(f"{served.url}/compartments/{place}/interval")
    first = page.locator("[data-property][aria-current]").inner_text()
    page.keyboard.press("n")
    page.wait_for_url("**property=**")
    assert page.locator("[data-property][aria-current]").inner_text() != first


def test_miles_and_quarts(planner: Page, served, db, fleet, place, priced):
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        c.execute("UPDATE fleet SET measures = 'us'")
        c.execute("UPDATE compartment SET counts = 'km'")
    page = planner
    page.goto(f"{served.url}/compartments/{place}/interval")
    data = json.loads(page.locator("#interval-data").inner_text())
    assert (data["unit"], data["litreUnit"]) == ("mi", "qt")
    page.locator("#hand-field").fill("400")
    assert share(shown(page, "any")) < 0.05
    expect(page.locator(".hand-field")).to_contain_text("mi")


def test_two_who_approve_the_second_is_shown_the_first(planner: Page, served, db, fleet, place):
    page = planner
    page.goto(f"{served.url}/compartments/{place}/interval")
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        approve_seen(c, fleet_id, place, 550, "a colleague's", "Ingrid Colleague", TODAY)
    page.locator('input[name="interval"]').fill("600")
    page.locator('input[name="why"]').fill("mine")
    page.get_by_role("button", name="Approve interval").click()
    expect(page.get_by_role("alert")).to_contain_text("Ingrid Colleague has approved 550 meanwhile")
    expect(page.locator('input[name="why"]')).to_have_value("mine")
    page.get_by_role("button", name="Approve interval").click()  # looked again, and still
    expect(page.locator(".versions").first).to_contain_text("600 h")


def test_days_and_a_day_to_begin(planner: Page, served, db, fleet, place):
    page, start = planner, TODAY + timedelta(days=30)
    page.goto(f"{served.url}/compartments/{place}/interval")
    page.locator('input[name="interval"]').fill("525")
    page.locator('input[name="days"]').fill("180")
    page.locator('input[name="effective_from"]').fill(start.isoformat())
    page.locator('input[name="why"]').fill("from the next season on")
    page.get_by_role("button", name="Approve interval").click()
    expect(page.locator(".versions").first).to_contain_text("525 h is to begin, from 14 Feb 2026, approved by")
    expect(page.locator(".versions").first).to_contain_text("180 days is to begin, from 14 Feb 2026")
    with db.fleet(fleets.find(db, fleet)) as c:
        assert c.execute("SELECT interval_meter FROM standing").fetchone()["interval_meter"] == 500  # not in force yet


def test_prices_are_typed_once_and_every_decision_shows_its_money(planner: Page, served, place):
    page = planner
    page.goto(f"{served.url}/compartments/{place}/interval")
    expect(page.locator("main")).to_contain_text("No money yet")
    page.get_by_role("link", name="Give prices").click()
    page.get_by_label("Three letters").fill("12€")
    page.get_by_role("button", name="Keep").click()
    expect(page.get_by_role("alert")).to_contain_text("three letters")
    page.get_by_label("Three letters").fill("isk")
    page.get_by_role("button", name="Keep").click()
    page.get_by_label("Oil, per L").fill("12 crowns")
    page.get_by_label("Filters, per drain").fill("4000")
    page.get_by_role("button", name="Save prices").click()
    expect(page.get_by_role("alert")).to_contain_text("is not a number")
    expect(page.get_by_label("Filters, per drain")).to_have_value("4000")
    page.get_by_label("Oil, per L").fill("650")
    page.get_by_role("button", name="Save prices").click()
    expect(page.locator("table.prices")).to_contain_text("650")
    page.goto(f"{served.url}/compartments/{place}/interval")
    expect(page.locator("[data-saving]")).to_contain_text("ISK")


def test_with_a_fault_open_what_holds_now_comes_first(planner: Page, served, db, fleet, place):
    """Coolant in the oil: the picture of the repaired oil stands behind the one as it is."""
    hot = row("HOT", "2025-12-20", 3700, 200, False, na=180, k=70, water_ppm=2500)
    results.load(db, f"{HEADER}\n{hot}\n".encode(), fleet=fleet, name="hot.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    page = planner
    page.goto(f"{served.url}/compartments/{place}/interval")
    expect(page.locator(".banner .open").first).to_have_text("Open")
    data = json.loads(page.locator("#interval-data").inner_text())
    if data["asIs"] is not None:
        assert share(shown(page, "asis")) >= share(shown(page, "any")) - 0.001
    page.locator('input[name="interval"]').fill("600")
    page.locator('input[name="why"]').fill("it will be fine")
    page.get_by_role("button", name="Approve interval").click()
    expect(page.get_by_role("alert").filter(has_text="while a fault is open")).to_be_visible()
    expect(page.locator('input[name="why"]')).to_have_value("it will be fine")
