"""The register in headless Chromium: a unit from a template, a capacity put right, fifty plans changed, both measures."""

import json
import time

import pytest
from playwright.sync_api import Page, expect

from conftest import TODAY, small_register
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate
from vornet.flows.judge.settle import settling
from vornet.flows.register import register, templates

pytestmark = pytest.mark.browser


@pytest.fixture
def buses(db, fleet_name):
    """Fifty buses of one kind, a template of them, and one whose refill capacity is wrong."""
    document = small_register(fleet_name)
    engine = document["units"][0]["compartments"][0]
    bus = [engine, {**engine, "compartment": "gearbox", "kind": "gearbox", "family": "G"},
           {**engine, "compartment": "axle", "kind": "axle", "family": "A"}]  # fmt: skip
    document["units"] += [{"unit": f"Bus {i:02d}", "depot": "Town", "model": "B1", "compartments": bus} for i in range(50)]
    document["units"][0]["compartments"] = [{**engine, "capacity_l": 45, "capacity_without_filter_l": 43}]
    items = [{"unit": "Bus 00", "item": "Coolant", "every_days": 365}]
    document |= {"service_items": items}
    report = register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    assert report.problems == []
    evaluate.evaluate(db, fleet_name, TODAY)
    fleet_id = fleets.find(db, fleet_name)
    with settling(db, fleet_id, TODAY) as c:
        first = c.execute("SELECT unit_id FROM unit WHERE name = 'Bus 00'").fetchone()["unit_id"]
        templates.save_template(c, fleet_id, "B1 bus", first, "t", TODAY)
    login = f"lib{fleet_name.split()[2]}{fleet_name[-3:]}"
    people.add(db, fleet_name, login, "Pat Planner", "right-and-long", "planner")
    return fleet_name, login


@pytest.fixture
def at_library(page: Page, served, buses):
    problems = []
    page.on("console", lambda m: problems.append(m.text) if m.type == "error" and "status of 4" not in m.text else None)
    page.on("pageerror", lambda e: problems.append(str(e)))
    page.set_viewport_size({"width": 1280, "height": 800})
    page.goto(f"{served.url}/library")
    page.get_by_label("Name").fill(buses[1])
    page.get_by_label("Password").fill("right-and-long")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="Library")).to_be_visible()
    yield page
    assert problems == []


def test_a_unit_with_three_compartments_from_a_template(at_library: Page):
    """Few steps, well under the two minutes that a planner has for it."""
    page, began = at_library, time.monotonic()
    page.get_by_role("link", name="New unit").click()
    page.get_by_role("link", name="B1 bus").click()
    page.get_by_label("Name", exact=True).first.fill("Bus 77")
    page.get_by_label("Depot").fill("Harbour")
    page.get_by_label("Meter now").fill("12,500")
    page.locator('input[name="c.0.system_volume_l"]').fill("64 qt")
    page.get_by_role("button", name="Make the unit").click()
    expect(page.get_by_role("heading", name="Bus 77")).to_be_visible()
    expect(page.locator(".sump")).to_have_count(3)
    expect(page.locator(".sump").first).to_contain_text("60.6")  # 64 US quarts
    expect(page.locator(".facts")).to_contain_text("12,500.0 h")
    expect(page.locator("#plan")).to_contain_text("Coolant")
    assert time.monotonic() - began < 120


def test_a_wrong_figure_keeps_what_was_typed(at_library: Page):
    page = at_library
    page.goto(page.url.split("/library")[0] + "/library?q=Bus+01")
    page.get_by_role("link", name="Bus 01 engine").click()
    page.locator(".sump").first.get_by_role("link", name="Edit").click()
    page.locator('input[name="capacity_without_filter_l"]').fill("57")
    page.locator('input[name="drain_points.0.place"]').fill("sump")
    page.locator('input[name="drain_points.0.torque_max_nm"]').fill("much")
    page.get_by_role("button", name="Save register").click()
    expect(page.get_by_role("alert")).to_contain_text("Drain points 1, torque to: 'much' is not a number")
    expect(page.locator('input[name="drain_points.0.torque_max_nm"]')).to_have_value("much")
    page.locator('input[name="drain_points.0.torque_max_nm"]').fill("50 lbf·ft")
    page.get_by_role("button", name="Save register").click()
    expect(page.get_by_role("alert")).to_contain_text("is above capacity_l 55 L")
    expect(page.locator('input[name="capacity_without_filter_l"]')).to_have_value("57")
    page.locator('input[name="capacity_without_filter_l"]').fill("53")
    page.get_by_role("button", name="Save register").click()
    expect(page.locator(".sump").first).to_contain_text("68 N·m")  # 50 lbf·ft


def test_a_capacity_that_vornet_doubts_is_put_right(at_library: Page):
    page = at_library
    page.get_by_role("link", name="1 with a figure in doubt").click()
    row = page.locator("tr", has_text="MV Test")
    expect(row).to_contain_text("45.00")
    expect(row).to_contain_text("54.00")
    row.get_by_role("button", name="Take it").click()
    expect(page.get_by_role("heading", name="MV Test")).to_be_visible()
    expect(page.locator(".sump")).to_contain_text("54.0 L measured")
    page.goto(page.url.split("/units")[0] + "/library/doubts")
    expect(page.locator("main")).to_contain_text("Nothing in doubt")


def test_fifty_plans_change_at_once(at_library: Page, db, buses):
    page = at_library
    page.goto(page.url.split("/library")[0] + "/library?q=Bus&kind=engine")
    page.get_by_role("button", name="Change all 50 listed").click()
    expect(page.get_by_role("heading", name="Change 50 compartments")).to_be_visible()
    page.locator('select[name="what"]').select_option("item")
    page.locator('input[name="item"]').fill("Fuel filter")
    page.get_by_label("or every, days").fill("0")
    page.get_by_role("button", name="See what would change").click()
    expect(page.get_by_role("main")).to_contain_text("an interval of zero is always due")
    page.get_by_label("or every, days").fill("180")
    page.get_by_role("button", name="See what would change").click()
    expect(page.locator("main")).to_contain_text("50 would change")
    with settling(db, fleets.find(db, buses[0]), TODAY) as c:
        assert c.execute("SELECT count(*) AS n FROM service_item").fetchone()["n"] == 1  # a look changes nothing
    page.get_by_role("button", name="Change 50").click()
    expect(page.get_by_role("heading", name="Changed")).to_be_visible()
    with settling(db, fleets.find(db, buses[0]), TODAY) as c:
        assert c.execute("SELECT count(*) AS n FROM service_item WHERE name = 'Fuel filter'").fetchone()["n"] == 50


def test_chosen_rows_are_counted_and_narrowing_needs_no_button(at_library: Page):
    page = at_library
    page.get_by_placeholder("Name, model, family").fill("bus 1")
    expect(page.locator("#rows tbody tr")).to_have_count(30)
    page.locator('select[name="kind"]').select_option("axle")
    expect(page.locator("#rows tbody tr")).to_have_count(10)
    page.locator("[data-pick-all]").check()
    expect(page.locator(".chosen")).to_have_text("10 chosen")
    page.get_by_role("button", name="Change the chosen").click()
    expect(page.get_by_role("heading", name="Change 10 compartments")).to_be_visible()


def test_us_customary_everywhere_a_person_reads_or_types(at_library: Page, served):
    page = at_library
    page.goto(f"{served.url}/admin/settings")
    page.get_by_label("Read and typed in").select_option("us")
    page.get_by_role("button", name="Save settings").click()
    expect(page.get_by_role("status")).to_contain_text("Saved")
    page.goto(f"{served.url}/library?q=MV+Test")
    expect(page.locator("#rows tbody")).to_contain_text("63.4qt")  # 60 L
    page.get_by_role("link", name="MV Test engine").click()
    page.locator(".sump").first.get_by_role("link", name="Edit").click()
    expect(page.locator('input[name="system_volume_l"]')).to_have_value("63.4013")
    page.get_by_role("button", name="Save register").click()  # sent back as shown, nothing has changed
    expect(page.locator(".sump")).to_contain_text("63.4 qt")
    page.locator(".sump h2 a").click()
    page.get_by_role("link", name="Log a drain").click()
    page.locator('input[name="meter"]').fill("3950")
    page.locator('input[name="volume_out_l"]').fill("57")
    expect(page.locator("#residual")).to_have_text("6.4")  # 63.4 less 57
    page.locator('input[name="volume_out_l"]').fill("70")
    expect(page.locator("#figures")).to_contain_text("70.0 qt came out, but the system held only 63.4 qt")


def test_a_manual_and_a_picture_hang_on_the_unit(at_library: Page, tmp_path):
    from PIL import Image

    page = at_library
    Image.new("RGB", (30, 20), "navy").save(tmp_path / "plate.png")
    (tmp_path / "notes.txt").write_text("not a picture")
    page.get_by_role("link", name="Bus 02 engine").click()
    page.locator('#attachments input[type="file"]').set_input_files(str(tmp_path / "notes.txt"))
    page.get_by_role("button", name="Attach").click()
    expect(page.get_by_role("alert")).to_contain_text("neither a PDF nor a picture")
    page.locator('#attachments select[name="kind"]').select_option("plate")
    page.locator('#attachments input[type="file"]').set_input_files(str(tmp_path / "plate.png"))
    page.get_by_role("button", name="Attach").click()
    expect(page.locator("#attachments")).to_contain_text("plate.png")


def test_an_item_is_done_with_its_reading(at_library: Page):
    page = at_library
    page.get_by_role("link", name="Bus 00 engine").click()
    page.get_by_role("link", name="Add an item").click()
    page.locator('input[name="item"]').fill("Tyres")
    page.get_by_role("button", name="Save item").click()
    expect(page.get_by_role("main")).to_contain_text("never comes due")
    page.get_by_label("or every, days").fill("30")
    page.locator('select[name="reading_type"]').select_option("tyre_pressure")
    page.get_by_label("Tolerance from").fill("780")
    page.get_by_label("Tolerance to").fill("8.6 bar")
    page.get_by_role("button", name="Save item").click()
    page.get_by_role("link", name="Tyres").click()
    expect(page.locator(".facts")).to_contain_text("from 780 to 860 kPa")
    page.get_by_label("Tyre pressure").fill("700")
    page.get_by_role("button", name="Done", exact=True).click()
    expect(page.locator("table")).to_contain_text("out of tolerance")
    expect(page.locator(".facts")).to_contain_text("14 Feb 2026")


def test_a_register_file_through_the_page(at_library: Page, tmp_path):
    page = at_library
    page.get_by_role("link", name="Files in and out").click()
    with page.expect_download() as got:
        page.get_by_role("link", name="XLSX").click()
    path = tmp_path / "register.xlsx"
    got.value.save_as(path)
    page.locator('input[type="file"]').set_input_files(str(path))
    page.get_by_role("button", name="Take it in").click()
    expect(page.get_by_role("status")).to_contain_text("rows went in")
    (tmp_path / "broken.xlsx").write_bytes(b"PK\x03\x04 nothing")
    page.locator('input[type="file"]').set_input_files(str(tmp_path / "broken.xlsx"))
    page.get_by_role("button", name="Take it in").click()
    expect(page.get_by_role("alert")).to_contain_text("cut off or damaged. Nothing was changed")
