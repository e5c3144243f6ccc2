"""People in headless Chromium: an invitation handed over and accepted, a second factor set up and asked for, a workshop of one."""

import re
import time

import pyotp
import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Page, expect

from vornet.flows.house import people

pytestmark = pytest.mark.browser
PASSWORD = "right-and-long"


def sign_in(page: Page, url, login, password=PASSWORD):
    page.goto(f"{url}/sign-in")
    page.get_by_label("Name").fill(login)
    page.get_by_label("Password").fill(password)
    page.get_by_role("button", name="Sign in", exact=True).click()


@pytest.fixture
def boss(db, fleet):
    login = "boss-" + re.sub(r"\W", "", fleet.lower())
    people.add(db, fleet, login, "The Boss", PASSWORD, "admin", "planner")
    return login


def accessible(page):
    found = Axe().run(page).response["violations"]
    assert [v["id"] for v in found] == []


def test_an_invitation_is_handed_over_and_accepted(page: Page, served, boss, browser, monkeypatch):
    monkeypatch.setenv("VORNET_URL", served.url)
    sign_in(page, served.url, boss)
    page.goto(f"{served.url}/admin/people")
    invite = page.locator("form").filter(has=page.get_by_role("button", name="Make an invitation"))
    invite.get_by_label("Name").fill("Noor Fjellrand")
    for role in ("technician", "analyst"):
        invite.get_by_label(role).check()
    invite.get_by_role("button").click()
    link = page.locator("code.token").inner_text()
    assert link.startswith(served.url)
    theirs = browser.new_context(viewport={"width": 390, "height": 844}, service_workers="block").new_page()  # on her own phone
    theirs.goto(link)
    expect(theirs.locator(".lede")).to_contain_text("technician and analyst")
    accessible(theirs)
    theirs.get_by_label("Sign-in name").fill(f"noor-{boss}")
    theirs.get_by_label("Password").fill("password1")
    theirs.get_by_role("button", name="Make a sign-in and join").click()
    expect(theirs.get_by_role("alert")).to_contain_text("everybody tries first")
    theirs.get_by_label("Password").fill("a-choice-of-my-own")
    theirs.get_by_role("button", name="Make a sign-in and join").click()
    sign_in(theirs, served.url, f"noor-{boss}", "a-choice-of-my-own")
    expect(theirs.locator(".who summary")).to_have_text("Noor Fjellrand")
    theirs.goto(f"{served.url}/review")
    expect(theirs.locator("h1")).to_be_visible()
    theirs.goto(link)
    expect(theirs.locator("main")).to_contain_text("was used already")
    page.reload()
    expect(page.locator("table.people")).to_contain_text("Noor Fjellrand")


def test_a_second_factor_is_set_up_asked_for_and_its_loss_survived(page: Page, served, boss):
    sign_in(page, served.url, boss)
    page.goto(f"{served.url}/admin/people")
    ask = page.locator("form").filter(has=page.get_by_text("Asked of"))
    ask.get_by_label("admin").check()
    ask.get_by_role("button", name="Keep").click()
    expect(page.locator("h1")).to_have_text("Second factor")  # first of whoever asks
    expect(page.get_by_role("status")).to_contain_text("asks whoever works as")
    accessible(page)
    secret = re.sub(r"\s", "", page.locator("code.token").inner_text())
    page.get_by_label("Password now").fill(PASSWORD)
    page.get_by_label("Six figures").fill(pyotp.TOTP(secret).now())
    page.get_by_role("button", name="Use it from now on").click()
    codes = page.locator(".codes code").all_inner_texts()
    assert len(codes) == 10
    accessible(page)
    page.get_by_role("link", name="I have kept them").click()
    expect(page.locator("h1")).to_be_visible()

    page.context.clear_cookies()
    sign_in(page, served.url, boss)
    expect(page.locator("h1")).to_have_text("Six figures")
    accessible(page)
    page.get_by_label("Code").fill("000000")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("Does not fit")
    page.get_by_label("Code").fill(pyotp.TOTP(secret).at(int(time.time()) + 30))
    page.keyboard.press("Enter")
    expect(page.locator(".who summary")).to_have_text("The Boss")

    page.context.clear_cookies()  # the phone is at the bottom of the harbour
    sign_in(page, served.url, boss)
    page.get_by_label("Code").fill(codes[4])
    page.keyboard.press("Enter")
    expect(page.locator(".who summary")).to_have_text("The Boss")
    page.goto(f"{served.url}/me")
    expect(page.locator("main")).to_contain_text("9 recovery codes left")


def test_a_workshop_of_one_does_it_all_with_one_sign_in(page: Page, served, db, fleet):
    login = "one-" + re.sub(r"\W", "", fleet.lower())
    people.add(db, fleet, login, "Only One", PASSWORD, *people.ROLES[:5])
    sign_in(page, served.url, login)
    for path, words in (("/jobs", "Drain"), ("/review", ""), ("/decide", ""), ("/admin/people", "Admin"), ("/lab", ""), ("/library", "")):
        answer = page.goto(served.url + path)
        assert answer is not None and answer.status == 200, path
        expect(page.locator("h1").first).to_contain_text(words)
    page.locator(".who summary").click()
    expect(page.locator(".who-menu")).to_contain_text("technician and planner and analyst and manager and admin")
    mine = page.goto(f"{served.url}/me")
    assert mine is not None and mine.status == 200
