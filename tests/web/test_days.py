"""The fleet's day, not the server's: Pacific/Auckland at 20:00 UTC; and how a person writes dates and figures."""

import re
from datetime import UTC, date, datetime

import pytest
from fastapi.testclient import TestClient

from conftest import TODAY
from vornet.core.errors import InputError
from vornet.flows import worker
from vornet.flows.house import days, fleets, people
from vornet.flows.weeks import kit
from vornet.web.app import create_app
from vornet.words import writing
from vornet.words.writing import Writes, read_day, writes

EVENING = datetime(2026, 1, 20, 20, 0, tzinfo=UTC)


@pytest.fixture
def auckland(db, fleet, planner, monkeypatch):
    monkeypatch.setattr(days, "now", lambda: EVENING)
    with db.fleet(fleets.find(db, fleet)) as c:
        c.execute("UPDATE fleet SET zone = 'Pacific/Auckland' WHERE fleet_id = %s", [fleets.find(db, fleet)])
        place = c.execute("SELECT unit_id, compartment_id FROM compartment").fetchone()
    client = TestClient(create_app(db), follow_redirects=True)
    client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    csrf = re.search(r'name="csrf" value="([^"]+)"', client.get("/me").text)[1]
    return client, csrf, place


def test_in_auckland_it_is_tomorrow_at_eight_in_the_evening_utc(db, fleet, auckland):
    client, csrf, place = auckland
    assert days.day_of(db, fleets.find(db, fleet)) == date(2026, 1, 21)
    assert 'value="21 Jan 2026"' in client.get(f"/units/{place['unit_id']}").text
    form = {"csrf": csrf, "on": "2026-01-21", "meter": "3900"}
    assert client.post(f"/units/{place['unit_id']}/meter", data=form).status_code == 200, "today there is not in the future"
    refused = client.post(f"/units/{place['unit_id']}/meter", data={**form, "on": "2026-01-22", "meter": "3901"})
    assert refused.status_code == 422
    assert worker.Works(db).today(fleets.find(db, fleet)) == date(2026, 1, 21)
    with db.fleet(fleets.find(db, fleet)) as c:
        assert c.execute("SELECT count(*) AS n FROM meter_reading WHERE on_day = '2026-01-21'").fetchone()["n"] == 1


def test_a_depot_in_another_zone_has_a_day_of_its_own(db, fleet, planner, monkeypatch):
    """The fleet in UTC, its depot in Auckland, eight in the evening UTC: there it is the 21st."""
    monkeypatch.setattr(days, "now", lambda: EVENING)
    client = TestClient(create_app(db), follow_redirects=True)
    client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    csrf = re.search(r'name="csrf" value="([^"]+)"', client.get("/me").text)[1]
    page = client.get("/weeks/depots").text
    depot = re.search(r'name="depot" value="(\d+)"', page)[1]
    week = {"csrf": csrf, "what": "week", "depot": depot, **{f"hours_{i}": "8" for i in range(7)}}
    assert client.post("/weeks/depots", data={**week, "zone": "Moon/Tycho"}).status_code == 422
    assert 'value="Pacific/Auckland"' in client.post("/weeks/depots", data={**week, "zone": "Pacific/Auckland"}).text
    assert 'value="Pacific/Auckland"' in client.post("/weeks/depots", data=week).text, "a page that does not ask leaves it"
    with db.fleet(fleets.find(db, fleet)) as c:
        place = c.execute("SELECT unit_id, compartment_id FROM compartment").fetchone()
        assert days.latest(c, date(2026, 1, 20)) == date(2026, 1, 21)
    unit, compartment = f"/units/{place['unit_id']}", f"/compartments/{place['compartment_id']}"
    assert 'value="21 Jan 2026"' in client.get(unit).text
    assert 'value="21 Jan 2026"' in client.get(f"{compartment}/drain").text
    assert 'value="2026-01-21"' in client.get(f"/q/{place['compartment_id']}").text
    for path, form in (
        (f"{unit}/meter", {"meter": "3900"}), (f"{compartment}/drain", {"meter": "3905", "client_id": "", "filter_changed": "yes"}),
        (f"/q/{place['compartment_id']}", {"do": "symptom", "what": "noise"}),
    ):  # fmt: skip
        assert client.post(path, data={"csrf": csrf, "on": "2026-01-22", **form}).status_code == 422, path
        assert client.post(path, data={"csrf": csrf, "on": "2026-01-21", **form}).status_code == 200, path
    with db.fleet(fleets.find(db, fleet)) as c:
        assert c.execute("SELECT max(on_day) AS d FROM drain").fetchone()["d"] == date(2026, 1, 21)
        whats = [r["what"] for r in c.execute("SELECT what FROM audit").fetchall()]
    assert whats.count("zone set") == 1
    assert worker.Works(db).today(fleets.find(db, fleet)) == date(2026, 1, 20), "the fleet's own day stays its own"


def test_a_time_is_shown_as_the_fleet_s_clocks_show_it(auckland):
    client, _, _ = auckland
    seen = re.search(r"since (\d+ \w+ \d{4} \d\d:\d\d)", client.get("/me").text)[1]
    shown = datetime.strptime(seen, "%d %b %Y %H:%M")
    now = datetime.now(UTC).astimezone(__import__("zoneinfo").ZoneInfo("Pacific/Auckland")).replace(tzinfo=None)
    assert abs((now - shown).total_seconds()) < 300


def test_dates_and_figures_are_written_as_their_reader_writes_them(auckland):
    client, csrf, place = auckland
    client.post("/me/writing", data={"csrf": csrf, "date": "dots", "mark": ","})
    page = client.get(f"/units/{place['unit_id']}").text
    assert 'value="21.01.2026"' in page
    assert "3.850" in page, "grouped by points, for the comma is the decimal mark"
    answer = client.post(f"/units/{place['unit_id']}/meter", data={"csrf": csrf, "on": "20.01.2026", "meter": "3.890,5"})
    assert answer.status_code == 200 and ("3.890" in answer.text or "3.891" in answer.text)
    assert client.post("/me/writing", data={"csrf": csrf, "date": "stone"}).status_code == 422


@pytest.mark.parametrize(
    ("style", "text", "expected"),
    [
        ("", "5 Jan 2026", date(2026, 1, 5)), ("", "Jan 5, 2026", date(2026, 1, 5)), ("", "2026-1-5", date(2026, 1, 5)),
        ("", "05.01.26", date(2026, 1, 5)), ("day_first", "03/04/2026", date(2026, 4, 3)), ("month_first", "03/04/2026", date(2026, 3, 4)),
        ("", "25/12/2025", date(2025, 12, 25)), ("", " ", None),
    ],
)  # fmt: skip
def test_a_day_is_read_as_people_write_it(style, text, expected):
    held = writes.set(Writes(date=style))
    try:
        assert read_day(text, "on") == expected
        if expected:
            assert read_day(writing.day(expected), "on") == expected
    finally:
        writes.reset(held)


@pytest.mark.parametrize("text", ["03/04/2026", "31.02.2026", "soon", "2026-13-01", "5 Foo 2026", "²/1/2026"])
def test_what_is_no_day_or_may_be_two_is_asked_back(text):
    with pytest.raises(InputError):
        read_day(text, "on")


def test_how_one_writes_goes_with_the_person_and_not_the_fleet(db, fleet):
    login = "writes" + fleet.replace(" ", "").lower()
    people.add(db, fleet, login, "W", "right-and-long", "viewer")
    client = TestClient(create_app(db, today=date(2026, 1, 15)), follow_redirects=True)
    client.post("/sign-in", data={"login": login, "password": "right-and-long"})
    assert 'data-dates=""' in client.get("/").text


def test_weeks_begin_on_the_day_that_one_says(db, fleet, planner):
    client = TestClient(create_app(db, today=TODAY), follow_redirects=False)  # a Thursday
    client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    csrf = re.search(r'name="csrf" value="([^"]+)"', client.get("/me").text)[1]
    for week, first, later in (("mon", "2026-01-12", "2026-02-09"), ("sun", "2026-01-11", "2026-02-08"), ("sat", "2026-01-10", "2026-02-07")):
        assert client.post("/me/writing", data={"csrf": csrf, "week": week, "date": "iso"}).status_code == 303
        page = client.get("/weeks").text
        assert f'data-first="{first}"' in page or f"from={first}" in page, week
        assert f"from={later}" in page
        assert first in client.get("/weeks/kit?week=2026-01-15").text
    assert client.post("/me/writing", data={"csrf": csrf, "week": "tue"}).status_code == 422
    sunday = kit.week_of(date(2026, 1, 11), 6)[0]
    assert (sunday, kit.week_of(date(2026, 1, 11))[0]) == (date(2026, 1, 11), date(2026, 1, 5))
