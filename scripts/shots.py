"""Take one PNG of each main view from the demo data into docs/screenshots (the server must be running)."""

from __future__ import annotations

import sys
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

BASE = "http://127.0.0.1:8460"
HERE = Path(__file__).resolve().parents[1]
OUT = HERE / "docs" / "screenshots"
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]


def sign_in(page: Page, login: str, password: str) -> None:
    page.goto(f"{BASE}/sign-in")
    page.fill('input[name="login"]', login)
    page.fill('input[name="password"]', password)
    page.click("button.primary")
    page.wait_for_url(f"{BASE}/")


def compartment(page: Page, name: str) -> str:
    """Address of a compartment found by name."""
    page.goto(f"{BASE}/drain?q={name}")
    return str(page.locator(".choose a").first.get_attribute("href")).removesuffix("/drain")


def main(only: list[str], out: Path = OUT) -> None:
    out.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as p:
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        desk = browser.new_page(viewport={"width": 1280, "height": 800})

        def shoot(page: Page, name: str, full: bool = False) -> None:
            if not only or name in only:
                page.wait_for_load_state("networkidle")
                page.screenshot(path=str(out / f"{name}.png"), full_page=full)

        sign_in(desk, "planner", "plan-ahead")
        shoot(desk, "board")
        dirty = compartment(desk, "MV Hallovane starboard engine")
        desk.goto(BASE + dirty)
        shoot(desk, "compartment")
        desk.keyboard.press("ArrowLeft")
        desk.keyboard.press("Enter")
        desk.wait_for_selector(".sample")
        desk.locator("#opened").scroll_into_view_if_needed()
        desk.evaluate("window.scrollTo(0, document.querySelector('#opened').offsetTop - 60)")
        desk.wait_for_timeout(600)
        shoot(desk, "sample")
        desk.goto(BASE + compartment(desk, "WB Gannet engine") + "/interval")
        desk.wait_for_selector("[data-any]:not(:empty)")
        shoot(desk, "interval")
        desk.goto(BASE + compartment(desk, "MV Braelune port engine") + "/interval")
        desk.wait_for_load_state("networkidle")
        desk.evaluate("document.querySelector('#course').scrollIntoView()")
        if only and "course" in only:  # an approval or two make it speak: see the planner's guide
            shoot(desk, "course")
        desk.goto(f"{BASE}/decide/fleet")
        shoot(desk, "fleet-in-oil")
        desk.goto(f"{BASE}/decide")
        shoot(desk, "decide")
        desk.goto(f"{BASE}/lab")
        shoot(desk, "lab")
        judge = browser.new_page(viewport={"width": 1280, "height": 800})
        sign_in(judge, "analyst", "look-twice")
        judge.goto(f"{BASE}/review")
        shoot(judge, "review")
        judge.goto(f"{BASE}/limits")
        judge.locator('input[name="watch.fe.high"]').fill("40")
        judge.keyboard.press("Tab")
        judge.wait_for_selector(".what-counts")
        shoot(judge, "limits")
        judge.goto(f"{BASE}/backtest")
        shoot(judge, "works", full=True)
        desk.goto(f"{BASE}/weeks")
        desk.locator("a.visit.v-planned").nth(12).click()
        desk.wait_for_selector("#picked-visit")
        shoot(desk, "weeks", full=True)
        desk.goto(f"{BASE}/weeks/kit")
        desk.get_by_role("link", name="Week after").click()
        desk.wait_for_selector(".depot-kit")
        shoot(desk, "kit")
        desk.goto(f"{BASE}/library?q=Bus+16")
        desk.locator("#rows tbody td.name a").first.click()
        desk.wait_for_selector(".sump")
        desk.evaluate("window.scrollTo(0, 0)")
        shoot(desk, "unit")
        desk.goto(f"{BASE}/library/files")
        desk.set_input_files("input[type=file]", HERE / "src" / "vornet" / "web" / "samples" / "fleet-list.csv")
        desk.click("[data-dropzone] button.primary")
        shoot(desk, "list")
        desk.locator('button[value="forget"]').click()
        dark = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme="dark")
        sign_in(dark, "planner", "plan-ahead")
        dark.goto(f"{BASE}/decide/trials")
        shoot(dark, "trials")
        phone = browser.new_page(viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True)
        sign_in(phone, "technician", "warm-oil")
        phone.goto(BASE + dirty)
        shoot(phone, "compartment-phone")
        phone.goto(f"{BASE}/weeks")
        phone.locator(".week-list").scroll_into_view_if_needed()
        shoot(phone, "weeks-phone")
        phone.goto(f"{BASE}/jobs")
        phone.locator(".jobs a", has_text="GS Ostrelle 2").click()
        phone.wait_for_selector("#job-next")
        while phone.locator(".step:not([hidden])").get_attribute("data-step") != "looks":
            phone.locator("#job-next").click()
        shoot(phone, "job-phone")
        browser.close()


if __name__ == "__main__":
    main(sys.argv[1:])
