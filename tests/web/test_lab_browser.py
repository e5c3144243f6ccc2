"""The lab's side in headless Chromium: a morning's holds cleared by keyboard alone, headings explained in the page, a
bottle followed from the shelf through the lab that ships with Vornet to its place on the ribbon."""

import socket
import threading
import time
from datetime import date, timedelta

import numpy as np
import pytest
import uvicorn
from playwright.sync_api import Page, expect

from conftest import HEADER, TODAY, row
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate
from vornet.flows.judge.settle import settling
from vornet.flows.lab import asking, results
from vornet.sim import lab as lab_sim
from vornet.store import queue

pytestmark = pytest.mark.browser
PASSWORD = "right-and-long"


KNOWN_DAYS = [date(2025, 11, 1).toordinal(), date(2025, 12, 15).toordinal(), date(2026, 1, 10).toordinal()]


def sign_in(page: Page, served, db, fleet: str, role: str, path: str) -> None:
    login = role + fleet.replace(" ", "").lower()
    people.add(db, fleet, login, f"Test {role.title()}", PASSWORD, role)
    page.set_viewport_size({"width": 1280, "height": 800})
    page.goto(served.url + path)
    page.get_by_label("Name").fill(login)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()


def rows_of(db, fleet: str, sql: str) -> list[dict]:
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        return c.execute(sql).fetchall()


def test_forty_holds_are_cleared_by_keyboard_alone(page: Page, served, db, fleet):
    lines = [HEADER]
    for i in range(40):
        on = TODAY - timedelta(days=60 - i)  # the meter on that day, between the readings there are
        meter = round(float(np.interp(on.toordinal(), KNOWN_DAYS, (3500, 3650, 3850))))
        lines.append(row(f"K{i:02d}", on.isoformat(), meter, meter - 3500, False, bn=14.0))
    results.load(db, ("\n".join(lines) + "\n").encode(), fleet=fleet, name="k.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    sign_in(page, served, db, fleet, "analyst", "/lab")
    held = page.locator(".waiting li")
    expect(held).to_have_count(40)
    expect(page.locator(".held-one h2")).to_contain_text("MV Test")
    for i in range(40):
        page.keyboard.press("x" if i % 4 == 3 else "r")
        if i % 4 == 3:
            page.keyboard.type("Wrong method at the lab")
        else:
            expect(page.locator(".say:focus-within [data-why]")).to_have_value("")  # nobody else's words stand there
            page.keyboard.press("1")
        page.keyboard.press("Enter")
        expect(held).to_have_count(39 - i)
    expect(page.locator("#inbox")).to_contain_text("No sample is held")
    settled = rows_of(db, fleet, "SELECT settlement, why, settled_by FROM hold")
    assert sorted(h["settlement"] for h in settled) == ["rejected"] * 10 + ["released"] * 30
    assert {h["settled_by"] for h in settled} == {"Test Analyst"}
    assert {h["why"] for h in settled if h["settlement"] == "rejected"} == {"Wrong method at the lab"}
    assert all(h["why"] for h in settled)


FOREIGN = "Probe;Anlage;Entnahme;Betriebsstunden;Eisengehalt;Trübung\nM-{n};MV Test;20.12.2025;3700;0,0021;7\n"


def test_headings_are_explained_once_in_the_page(page: Page, served, db, fleet, tmp_path):
    sign_in(page, served, db, fleet, "planner", "/lab")
    first, second = tmp_path / "january.csv", tmp_path / "february.csv"
    first.write_text(FOREIGN.format(n=1), encoding="cp1252")
    second.write_text(FOREIGN.format(n=2).replace("20.12", "28.12"), encoding="cp1252")
    page.locator('input[type="file"]').set_input_files(str(first))
    page.get_by_label("Lab, if the file does not say").fill("Haver Labor")
    page.get_by_role("button", name="Take it in").click()
    table = page.locator("form.mapping")
    expect(table).to_be_visible(timeout=20_000)
    for heading, key, unit in (("Probe", "sample_no", ""), ("Anlage", "unit", ""), ("Entnahme", "sampled_on", ""),
                               ("Betriebsstunden", "meter", ""), ("Eisengehalt", "fe", "%")):  # fmt: skip
        chosen = table.get_by_label(f"What {heading} means")
        if chosen.count():
            chosen.select_option(key)
            if unit:
                table.get_by_label(f"Unit of {heading}").fill(unit)
    page.get_by_role("button", name="Remember and read the file").click()
    expect(page.get_by_role("alert")).to_contain_text("Trübung")  # one is still open; what was chosen stays
    expect(table.get_by_label("What Eisengehalt means")).to_have_value("fe")
    table.get_by_label("What Trübung means").select_option("-")
    page.get_by_role("button", name="Remember and read the file").click()
    expect(page.get_by_role("status")).to_contain_text("1 new", timeout=20_000)
    page.goto(served.url + "/lab")
    page.locator('input[type="file"]').set_input_files(str(second))
    page.get_by_label("Lab, if the file does not say").fill("Haver Labor")
    page.get_by_role("button", name="Take it in").click()
    expect(page.get_by_role("status")).to_contain_text("1 new", timeout=60_000)  # nothing is asked again
    found = rows_of(db, fleet, "SELECT sample_no, values[1] AS fe FROM sample WHERE lab = 'Haver Labor' ORDER BY 1")
    assert [(r["sample_no"], round(r["fe"], 6)) for r in found] == [("M-1", 21.0), ("M-2", 21.0)]  # 0.0021 % is 21 mg/kg


@pytest.fixture
def lab_on_loopback(tmp_path, monkeypatch):
    """The lab that ships with Vornet, listening, with a clock the test turns."""
    monkeypatch.setenv("VORNET_PRIVATE_LABS", "1")
    now = [1000.0]
    made = lab_sim.Bench(tmp_path / "books", lab_sim.Clock(5, 20, lambda: now[0]), TODAY - timedelta(days=1096), 1, 0.0, 0.0)
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    server = uvicorn.Server(uvicorn.Config(lab_sim.create_app(made), port=port, log_level="error"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    deadline = time.monotonic() + 20
    while not server.started and time.monotonic() < deadline:
        time.sleep(0.02)
    yield f"http://127.0.0.1:{port}", now
    server.should_exit = True
    thread.join(10)


def test_a_bottle_goes_from_the_shelf_to_the_ribbon(page: Page, served, db, fleet, lab_on_loopback):
    address, now = lab_on_loopback
    sign_in(page, served, db, fleet, "planner", "/lab/labs")
    page.get_by_text("Set up a lab").click()
    page.get_by_role("combobox", name="Name").fill(lab_sim.DESKS["pier"])
    page.get_by_label("How results come").select_option("pull")
    page.get_by_label("Address").fill(address + "/pier")
    page.get_by_role("textbox", name="Key").fill(lab_sim.KEY)
    page.get_by_role("button", name="Keep it").click()
    expect(page.locator("main")).to_contain_text(lab_sim.DESKS["pier"])

    page.goto(served.url + "/lab/bottles")
    page.get_by_text("Register a bottle").click()
    page.get_by_label("Number on the bottle").fill("SHELF-1")
    page.get_by_label("Drawn from").select_option(label="MV Test · engine")
    page.get_by_label("Meter").fill("3850")
    page.get_by_label("Oil was").select_option("warm")
    page.get_by_role("button", name="Register it").click()
    expect(page.get_by_role("row", name="SHELF-1")).to_contain_text("MV Test · engine")
    page.get_by_role("combobox", name="To").select_option(label=lab_sim.DESKS["pier"])
    page.get_by_role("button", name="Pack the chosen ones").click()
    expect(page.get_by_role("heading", name="Parcel")).to_be_visible()
    page.get_by_role("button", name="It has left").click()
    expect(page.get_by_role("row", name="SHELF-1")).to_contain_text("sent")
    parcel = page.url

    fleet_id = fleets.find(db, fleet)
    assert asking.ask(db, fleet_id, TODAY, queue.put_file)["told"] == 1
    now[0] += 6
    asking.ask(db, fleet_id, TODAY, queue.put_file)
    page.goto(parcel)
    expect(page.get_by_role("row", name="SHELF-1")).to_contain_text("received")
    now[0] += 20
    assert asking.ask(db, fleet_id, TODAY, queue.put_file)["reports"] == 1
    page.goto(served.url + "/lab?show=files")
    page.get_by_role("table").get_by_role("link").first.click()
    expect(page.get_by_role("status")).to_contain_text("1 new", timeout=20_000)
    page.goto(parcel)
    page.get_by_role("link", name="MV Test · engine").click()
    expect(page.get_by_role("heading", name="SHELF-1")).to_be_visible()
    [sample] = rows_of(db, fleet, "SELECT sample_id, compartment_id FROM sample WHERE sample_no = 'SHELF-1'")
    page.goto(f"{served.url}/compartments/{sample['compartment_id']}")
    expect(page.locator(f'.ribbon .drop[data-sample="{sample["sample_id"]}"]')).to_have_count(1)
