"""Review in headless Chromium: a queue signed by keyboard alone, with a changed verdict and an action that closes on the next
sample; limits tried in the page."""

import re
from datetime import date

import pytest
from playwright.sync_api import Page, expect

from conftest import HEADER, TODAY, row
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate, verdicts
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results

pytestmark = pytest.mark.browser
PASSWORD = "right-and-long"


def take(db, fleet, *rows: str) -> None:
    results.load(db, ("\n".join([HEADER, *rows]) + "\n").encode(), fleet=fleet, name=f"{rows[0][:8]}.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)


@pytest.fixture
def analyst(page: Page, served, db, fleet):
    take(db, fleet, row("R1", "2025-12-10", 3640, 140, False), row("R2", "2025-12-20", 3690, 190, False, na=85, k=32),
         row("R3", "2025-12-22", 3705, 205, False, na=86, k=32))  # fmt: skip
    login = "analyst" + fleet.replace(" ", "").lower()
    people.add(db, fleet, login, "Test Analyst", PASSWORD, "analyst")
    problems = []
    page.on("pageerror", lambda e: problems.append(str(e)))
    page.set_viewport_size({"width": 1280, "height": 800})
    page.goto(served.url + "/review")
    page.get_by_label("Name").fill(login)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_load_state("load")
    yield page
    assert problems == []


def verdicts_of(db, fleet) -> dict[str, tuple]:
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        sql = """SELECT s.sample_no, v.verdict, v.reason, v.comment, v.cause FROM verdict v JOIN sample s USING (fleet_id, sample_id)
                  WHERE v.superseded_by IS NULL"""
        return {r["sample_no"]: (r["verdict"], r["reason"], r["comment"], r["cause"]) for r in c.execute(sql).fetchall()}


def test_a_queue_is_signed_by_keyboard_alone(analyst: Page, served, db, fleet):
    page, keys = analyst, analyst.keyboard
    shown = page.locator(".review-facts h2 + p")
    expect(shown).to_contain_text("R2")  # worst first, then oldest
    expect(page.locator(".proposal")).to_contain_text("Act")
    expect(page.locator(".causes")).to_contain_text("Coolant in the oil")
    keys.press("a")  # the action stands ready; a takes it out and puts it back
    keys.press("a")
    expect(page.locator('input[name="action"]')).to_be_focused()
    keys.press("End")
    keys.type(" Today.")
    keys.press("Tab")
    keys.type("Workshop")
    keys.press("Escape")
    keys.press("s")
    expect(shown).to_contain_text("R3")
    keys.press("2")  # Watch instead: a reason is asked
    expect(page.locator('input[name="reason"]')).to_be_focused()
    keys.type("The same leak, being followed")
    keys.press("Escape")
    keys.press("c")
    keys.type("See R2.")
    keys.press("Escape")
    if page.locator("[data-action]").is_checked():
        keys.press("a")
    keys.press("s")
    expect(shown).not_to_contain_text("R3")
    expect(shown).to_contain_text("S004")  # this and R1 are as they should be
    keys.press("s")
    expect(shown).to_contain_text("R1")
    keys.press("s")
    expect(page.locator("#review")).to_contain_text("Nothing waits for a signature")
    page.wait_for_function("() => signing.size === 0")  # the last signature goes behind what is shown
    signed = verdicts_of(db, fleet)
    assert signed["R2"][0] == 2
    assert signed["R2"][3] == "coolant"
    assert signed["R3"] == (1, "The same leak, being followed", "See R2.", "coolant")
    assert {signed[n][0] for n in ("S004", "R1")} == {0}
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        [action] = verdicts.open_actions(c, None)
    assert (action["owner"], action["what"].endswith(" Today.")) == ("Workshop", True)

    take(db, fleet, row("R4", "2026-01-12", 3850, 350, False, na=4, k=1))  # the next sample shows that it worked
    page.goto(served.url + "/review")
    page.wait_for_load_state("load")
    expect(page.locator(".closes")).to_contain_text("Today.")
    keys.press("s")
    expect(page.locator("#review")).to_contain_text("Nothing waits for a signature")
    page.wait_for_function("() => signing.size === 0")
    page.goto(served.url + "/review/actions")
    expect(page.locator("main")).to_contain_text("Nothing is open")
    expect(page.locator("main")).to_contain_text("by sample R4")


def test_a_signature_without_its_reason_is_refused_in_place_and_loses_nothing(analyst: Page):
    page, keys = analyst, analyst.keyboard
    keys.press("c")
    keys.type("Looked at it twice.")
    keys.press("Escape")
    page.evaluate("document.querySelector('input[name=reason]').required = false")
    page.locator('[data-verdict="1"]').check(force=True)
    page.evaluate("document.querySelector('input[name=reason]').required = false")
    keys.press("Escape")
    page.evaluate("document.querySelector('[data-sign]').requestSubmit()")
    expect(page.get_by_role("alert")).to_contain_text("say why your verdict differs")
    expect(page.locator('textarea[name="comment"]')).to_have_value("Looked at it twice.")
    expect(page.locator('[data-verdict="1"]')).to_be_checked()


def test_later_and_earlier_by_key(analyst: Page):
    shown = analyst.locator(".review-facts h2 + p")
    first = shown.inner_text()
    analyst.keyboard.press("j")
    expect(shown).not_to_have_text(first)
    analyst.keyboard.press("k")
    expect(shown).to_have_text(first)


def test_a_limit_is_tried_and_saved_in_the_page(analyst: Page, served, db, fleet):
    page = analyst
    page.goto(served.url + "/limits")
    field = page.get_by_label("Iron high, watch")
    field.fill("25")
    field.press("Tab")
    expect(page.locator("#what-if")).to_contain_text("samples would be judged otherwise")
    expect(page.locator(".what-counts")).to_contain_text("Run on")
    field.fill("500")
    field.press("Tab")
    expect(page.locator("#what-if")).to_contain_text("lies beyond act")
    field.fill("25")
    page.get_by_label("Why they change").fill("Maker's letter")
    page.get_by_role("button", name="Save as version 2").click()
    expect(page.locator("main")).to_contain_text("iron high: 75/150 → 25/150")
    page.goto(served.url + "/backtest?version=1")
    expect(page.locator("main")).to_contain_text("Proposals with limits version 1")
    assert date(2026, 1, 15) == TODAY


def test_the_next_sample_is_there_before_the_signature_is_answered(analyst: Page, served, db, fleet):
    """Signing shows the sample fetched ahead at once; the signature goes behind it."""
    page, keys = analyst, analyst.keyboard
    shown = page.locator(".review-facts h2 + p")
    with page.expect_response(re.compile(r"/review/next")):
        page.reload()
    page.wait_for_function("() => ahead !== null")
    held_back = []
    page.route(re.compile(r"/review/\d+$"), lambda route: held_back.append(route))
    keys.press("s")
    expect(shown).to_contain_text("R3")
    assert verdicts_of(db, fleet) == {}  # nobody has answered yet
    for route in held_back:
        route.continue_()
    page.unroute_all(behavior="ignoreErrors")
    page.wait_for_function("() => signing.size === 0")
    assert set(verdicts_of(db, fleet)) == {"R2"}


def test_a_signature_that_does_not_arrive_brings_the_sample_back_as_typed(analyst: Page, served, db, fleet):
    page, keys = analyst, analyst.keyboard
    page.wait_for_function("() => ahead !== null")
    keys.press("c")
    keys.type("Looked at it twice.")
    keys.press("Escape")
    page.route(re.compile(r"/review/\d+$"), lambda route: route.abort())
    keys.press("s")
    expect(page.get_by_role("alert")).to_contain_text("Not signed")
    expect(page.locator('textarea[name="comment"]')).to_have_value("Looked at it twice.")
    expect(page.locator(".review-facts h2 + p")).to_contain_text("R2")
    assert verdicts_of(db, fleet) == {}


def test_the_sign_form_fits_the_screen(analyst: Page):
    box = analyst.get_by_role("button", name="Sign and next").bounding_box()
    assert box is not None and box["y"] + box["height"] <= 800
    until = analyst.locator('input[name="due"]').bounding_box()
    assert until is not None and until["y"] + until["height"] <= box["y"]  # its last line is not under the button


def test_a_signed_sample_is_signed_again_from_its_own_page(analyst: Page, served, db, fleet):
    page, keys = analyst, analyst.keyboard
    page.locator(".review-facts p a").first.click()
    expect(page.get_by_role("link", name="Sign it", exact=True)).to_be_visible()
    page.go_back()
    page.wait_for_load_state("load")
    page.wait_for_function("() => ahead !== null")
    keys.press("s")
    expect(page.locator(".review-facts h2 + p")).to_contain_text("R3")
    page.wait_for_function("() => signing.size === 0")
    page.goto(served.url + "/review/actions")
    page.get_by_role("link", name="R2").first.click()
    page.get_by_role("link", name="Sign it again").click()
    expect(page.locator("[data-sign]")).to_be_visible()
    page.wait_for_load_state("load")
    keys.press("2")
    expect(page.locator('input[name="reason"]')).to_be_focused()
    keys.type("The bottle was another's")
    keys.press("Escape")
    keys.press("s")
    expect(page.locator("#review")).to_contain_text("Here is the next")
    assert verdicts_of(db, fleet)["R2"][:2] == (1, "The bottle was another's")


def test_older_samples_are_one_step_away(analyst: Page, served):
    analyst.get_by_role("link", name="older than 120 days").click()
    expect(analyst.locator(".review-facts h2 + p")).to_contain_text("S000")
