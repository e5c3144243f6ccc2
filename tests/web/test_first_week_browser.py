"""A fleet of ten from a list of its owner's own style to a signed interval: fresh database, no demo, no address typed but the one that the
start prints; clicks counted."""

from __future__ import annotations

import io
import os

import pytest
import xlsxwriter
from playwright.sync_api import Locator, Page, expect

from conftest import HEADER, Served, Working, fresh_database, row
from vornet.flows.house import first_run
from vornet.store.database import Database

HEADINGS = {"sample_no": "Sample No", "unit": "Equipment", "compartment": "Component", "sampled_on": "Sample Date", "meter": "Unit Hours",
            "oil_hours": "Hours on oil", "drained": "Oil changed", "v40": "Visc @ 40 C", "v100": "Visc @ 100 C",
            "bn": "TBN", "an": "TAN"}  # fmt: skip
#: clicks from the printed address to the approved interval; typing, choosing a file and keys not counted
MOST_CLICKS = 16


@pytest.fixture
def empty():
    """(address with its code, what is to be stopped) of an installation that nobody has set up."""
    db = Database(fresh_database(f"test_first_{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}"), size=6)
    code = first_run.code(db)
    server, worker = Served(db, demo=False), Working(db)
    yield f"{server.url}/set-up?code={code}"
    worker.stop()
    server.stop()
    db.close()


def machines() -> bytes:
    """A list as its owner keeps it: a title, own headings, hours with their unit, an oil written two ways, a letter for a nought."""
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True})
    sheet = book.add_worksheet("Maschinen 2026")
    sheet.write_row(0, 0, ["Hof Lindgrund, Maschinen"])
    sheet.write_row(
        2, 0, ["Maschine", "Modell", "Standort", "Betriebsstunden", "Komponente", "Ölsorte", "Füllmenge (l)", "Wechselintervall (h)"]
    )
    for i in range(10):
        oil = "Test 15W-40" if i % 2 else "Test 15W40"
        hours = "385O" if i == 9 else 3850 + i
        sheet.write_row(3 + i, 0, [f"LG {i + 1:02d}", "HX 6", "Hof" if i < 6 else "Mühle", hours, "Motor", oil, 55, 500])
    book.close()
    return out.getvalue()


def lab_file() -> bytes:
    names = [HEADINGS.get(name, name) for name in HEADER.split(",")]
    rows = [",".join(names)]
    for u in range(10):
        for i, day in enumerate(("2025-03-01", "2025-05-01", "2025-07-01", "2025-09-01", "2025-11-01")):
            wobble = (1.0, 1.06, 0.95, 1.03, 0.97)[(i + u) % 5]
            cells = row(f"L{u:02d}{i}", day, 1500 + 500 * i, 500, bn=10 - 3.0 * wobble, oxidation=8 + 7.5 * wobble, unit=f"LG {u + 1:02d}")
            rows.append(cells.replace(",engine,", ",Motor,", 1))
    return ("\n".join(rows) + "\n").encode()


def test_from_a_list_of_ones_own_to_a_signed_interval_without_a_demo(page: Page, empty: str) -> None:
    clicks: list[str] = []
    broken: list[str] = []
    page.on("pageerror", lambda e: broken.append(str(e)))
    page.set_viewport_size({"width": 1280, "height": 800})

    def click(what: Locator) -> None:
        clicks.append(what.inner_text()[:40])
        what.click()

    page.goto(empty)
    page.get_by_label("Fleet").fill("Hof Lindgrund")
    page.get_by_label("Sign-in name").fill("lindgrund")
    page.get_by_label("Password").fill("oil-by-the-litre")
    click(page.get_by_role("button", name="Begin"))

    expect(page.get_by_role("heading", name="First steps")).to_be_visible()
    page.locator(".now input[type=file]").set_input_files({"name": "Maschinen.xlsx", "mimeType": "application/x", "buffer": machines()})
    click(page.locator(".now button.primary"))
    expect(page.locator(".list-sum")).to_contain_text("9 of 10 rows would go in, 1 would wait")
    click(page.get_by_role("button", name="Take 9 rows in"))
    expect(page.get_by_text("9 of 10 rows went in")).to_be_visible()
    wrong = page.locator('[aria-invalid="true"]')
    expect(wrong).to_have_value("385O")
    wrong.fill("3859")
    click(page.get_by_role("button", name="Read the row again"))
    expect(wrong).to_have_count(0)

    click(page.get_by_role("link", name="First steps"))
    expect(page.locator(".done").first).to_contain_text("10 units, 10 compartments")
    for _ in range(3):  # depots, oils, people: each can wait
        click(page.locator(".now").get_by_role("button", name="Later"))
    page.locator(".now input[type=file]").set_input_files({"name": "Q4.csv", "mimeType": "text/csv", "buffer": lab_file()})
    click(page.locator(".now button.primary"))
    expect(page.get_by_text("50 new")).to_be_visible(timeout=60_000)

    click(page.get_by_role("link", name="Judge"))
    page.locator("body").press("s")
    expect(page.get_by_text("signed", exact=False).first).to_be_visible()
    click(page.get_by_role("link", name="Decide", exact=True))
    proposed = page.locator("tr", has_text="LG 01").first
    expect(proposed).to_be_visible()
    click(proposed.get_by_role("link").first)
    expect(page.get_by_text("the interval on one axis of hours")).to_be_visible()
    page.locator("form.approve-line [name=why]").fill("five charges alike")
    click(page.locator("form.approve-line button.primary"))
    expect(page.get_by_role("heading", name="The interval", exact=True)).to_be_visible()
    click(page.get_by_label("Vornet, to the Board"))
    click(page.get_by_role("link", name="See them"))
    done = page.locator(".first-steps .done")
    expect(done.filter(has_text="A first interval")).to_contain_text("1 approved")
    print(f"{len(clicks)} clicks: {clicks}")
    assert broken == []
    assert len(clicks) <= MOST_CLICKS, clicks
