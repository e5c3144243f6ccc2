"""Due days keep every driver: a break-in drain, a cap, a drain taken back, a season nobody did, a reading that cannot be."""

import json
from datetime import date, timedelta

import pytest
from test_weeks import accepted, register_of, visits, weeks

from conftest import TODAY, small_register, start_seen
from vornet.core.drain import DrainFacts
from vornet.core.errors import InputError
from vornet.flows.calc.due import DueIn, due
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate
from vornet.flows.judge.settle import settling
from vornet.flows.lab import put_right
from vornet.flows.register import register
from vornet.flows.weeks import depots, tasks
from vornet.flows.work import drain
from vornet.store.database import query

assert weeks  # a fixture


def standing(db, fleet_id):
    with db.fleet(fleet_id) as c:
        return c.execute("SELECT s.* FROM standing s JOIN compartment USING (fleet_id, compartment_id) WHERE name = 'engine'").fetchone()


def fresh_engine(db, name, today, filled, days=365, readings=()):
    """An engine overhauled and filled on a day, with an early first drain 50 h later and a calendar limit."""
    document = small_register(name)
    document["units"][0]["compartments"][0] |= {"first_drain_h": 50, "interval_days": days}
    first = document["drains"][0]
    document["drains"] = [first | {"on": "2024-03-01", "meter": 900}, first | {"on": filled.isoformat(), "meter": 1400}]
    document["readings"] = [{"unit": "MV Test", "on": on.isoformat(), "meter": m} for on, m in readings]
    document["events"] = [{"unit": "MV Test", "compartment": "engine", "on": filled.isoformat(), "meter": 1400, "kind": "overhaul"}]
    register.load(db, json.dumps(document).encode(), by="t", today=today)
    evaluate.evaluate(db, name, today)
    return standing(db, fleets.find(db, name))


def test_a_break_in_drain_keeps_the_calendar_s_day(db, fleet_name):
    """2026-01-01 became 2029-01-10, or none: the earlier of both, always."""
    slow = fresh_engine(db, fleet_name, TODAY, date(2025, 1, 1), readings=[(date(2025, 6, 1), 1402), (date(2026, 1, 2), 1405)])
    assert (slow["due_day"], slow["due_driver"]) == (date(2026, 1, 1), "calendar")
    assert slow["to_due"] < 0  # overdue, and on the list of what is


def test_a_break_in_drain_of_a_unit_that_stands_is_due_by_the_calendar(db, fleet_name):
    still = [(date(2025, 6 + k, 2), 1400) for k in range(7)] + [(date(2026, 1, 2), 1400)]
    stands = fresh_engine(db, fleet_name, TODAY, date(2025, 6, 1), readings=still)
    assert (stands["due_day"], stands["due_driver"]) == (date(2026, 6, 1), "calendar")


def test_a_break_in_drain_that_comes_first_drives(db, fleet_name):
    runs = fresh_engine(db, fleet_name, TODAY, date(2025, 12, 20), readings=[(date(2025, 12, 30), 1410), (date(2026, 1, 9), 1420)])
    assert runs["due_driver"] == "break-in" and runs["due_day"] < date(2026, 3, 1) and runs["due_meter"] == 1450


@pytest.mark.parametrize(
    ("where", "facts"), [("oils", {"cap_h": 500}), ("compartments", {"filter_h": 500}), ("compartments", {"bypass_h": 500})]
)
def test_levelling_knows_the_caps_of_oil_and_filters(db, fleet, where, facts):
    """528 h were placed with a cap of 500."""
    fleet_id = fleets.find(db, fleet)
    document = register_of(fleet)
    if where == "oils":
        document["oils"][0] |= facts
    else:
        document["units"][0]["compartments"][0] |= facts
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    with db.fleet(fleet_id) as c:
        found = {d.what: d for d in tasks.due_by(c, TODAY, TODAY + timedelta(days=120), depots.terms(c, fleet_id))}
        s = c.execute("SELECT * FROM standing JOIN compartment USING (fleet_id, compartment_id) WHERE name = 'engine'").fetchone()
    latest = found["Drain engine"].task.latest
    at = s["oil_hours"] + s["rate_per_day"] * (latest - s["meter_day"].toordinal())
    assert at <= 500 + s["rate_per_day"]


def test_a_drain_taken_back_comes_back_with_its_visit(db, weeks):
    fleet_id = weeks[0]
    accepted(db, fleet_id)
    key = next(t["key"] for v in visits(db, fleet_id) for t in v["tasks"] if t["key"].startswith("drain:") and t["what"] == "Drain engine")
    place = int(key.split(":")[1])
    with settling(db, fleet_id, TODAY) as c:
        drain_id = drain.log(c, fleet_id, place, drain.Drained(TODAY, 3900, DrainFacts(missing_l=2.0, out_l=54.0), in_l=54.0), "T", TODAY)
    done = [t for v in visits(db, fleet_id) for t in v["tasks"] if t["key"] == key]
    assert [t["done_on"] for t in done] == [TODAY.isoformat()]
    with settling(db, fleet_id, TODAY) as c:
        put_right.take_back(c, fleet_id, drain_id, "it was the gearbox", "T")
    again = [(v["state"], t["done_on"]) for v in visits(db, fleet_id) for t in v["tasks"] if t["key"] == key]
    assert again == [("planned", None)]
    with db.fleet(fleet_id) as c:
        assert key in {r["key"] for r in c.execute(query("weeks.next_by_key"), {"keys": [key]}).fetchall()}


def test_a_season_s_item_never_done_is_overdue_the_day_after(db, fleet):
    """It turned to next year."""
    fleet_id = fleets.find(db, fleet)
    document = {"fleet": fleet, "oils": [], "units": [], "service_items": [{"unit": "MV Test", "item": "Winter service", "season": "02-01"}]}
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    days = []
    for today in (TODAY, date(2026, 2, 1), date(2026, 2, 2), date(2026, 6, 1)):
        with db.fleet(fleet_id) as c:
            c.execute("UPDATE service_item SET since = %s", [TODAY])
        evaluate.evaluate(db, fleet, today, afresh=True)
        with db.fleet(fleet_id) as c:
            days.append(c.execute("SELECT due_day FROM service_item WHERE name = 'Winter service'").fetchone()["due_day"])
    assert days == [date(2026, 2, 1)] * 4


READINGS = [{"date": "2026-01-01", "meter": 1000}, {"date": "2026-01-08", "meter": 1070}, {"date": "2026-01-15", "meter": 1150}]


def asked(readings, drained):
    return due(
        DueIn.model_validate({"readings": readings, "last_drain": drained, "interval": {"meter": 500, "days": 365}, "today": "2026-01-20"})
    )


@pytest.mark.parametrize("drained", [{"date": "2026-01-05", "meter": 1200}, {"date": "2026-01-12", "meter": 1010}])
def test_readings_on_the_wrong_side_of_the_last_drain_are_refused(drained):
    with pytest.raises(InputError, match="the meter goes back"):
        asked(READINGS, drained)


def test_a_drain_behind_the_last_reading_is_itself_a_reading():
    found = asked(READINGS, {"date": "2026-01-18", "meter": 1180})
    assert found.due_meter == 1680 and found.due_date > date(2026, 2, 1)
    assert found.due_date == asked([*READINGS, {"date": "2026-01-18", "meter": 1180}], {"date": "2026-01-18", "meter": 1180}).due_date


@pytest.mark.parametrize(("oil", "expected"), [("", 500), ("Test 15W-40", 500), ("Other 10W-40", 500)])
def test_the_sticker_says_what_stands_after_the_drain(db, fleet, oil, expected):
    """While a trial of 660 runs the next charge is not due at 660."""
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        place = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        start_seen(c, fleet_id, place, 600, "to see", "P", TODAY)
    with db.fleet(fleet_id) as c:
        row = drain.place(c, place)
        assert row["interval_meter"] == 660
        told = drain.follow(row, drain.Drained(TODAY, 3900, oil=oil), TODAY)
    assert told.next_due == 3900 + expected
