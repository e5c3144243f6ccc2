"""A new day begins and nobody records anything: oil ages by estimate and by the calendar, what was approved from a day on begins, and the
Board says so; once a day, by each fleet's own clock."""

from datetime import UTC, date, datetime, timedelta

import pytest

from conftest import HEADER, TODAY, fresh_database, row
from vornet.flows import worker
from vornet.flows.house import days, fleets
from vornet.flows.judge import evaluate, in_force
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.pages import board
from vornet.flows.register import units
from vornet.store import queue
from vornet.store.database import Database


@pytest.fixture(scope="module")
def db(worker_id):
    """A database whose queue nobody else works on."""
    database = Database(fresh_database(f"new_day_{worker_id}"), size=6)
    yield database
    database.close()


def stands(db, fleet_id):
    with db.fleet(fleet_id) as c:
        return c.execute("SELECT as_of, oil_hours, headroom, to_due, interval_meter, urgency FROM standing").fetchone()


def waiting(db, fleet_id):
    with db.fleet(fleet_id) as c:
        return queue.judging_all(c, fleet_id)


def a_day_begins(db, on):
    worker.new_days(db, on)
    worker.drain_queue(db, on)


@pytest.fixture
def by_estimate(db, fleet):
    """An engine whose hours nobody reads: it runs ten a day."""
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        unit = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        units.save_unit(c, fleet_id, unit, {"estimated_per_day": 10.0}, "t", TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    return fleet_id


def test_oil_that_ages_by_estimate_grows_old_by_itself(db, by_estimate):
    before = stands(db, by_estimate)
    assert worker.new_days(db, TODAY) == 0  # it was judged as of today
    a_day_begins(db, TODAY + timedelta(days=60))
    after = stands(db, by_estimate)
    assert (before["as_of"], after["as_of"]) == (TODAY, TODAY + timedelta(days=60))
    assert after["oil_hours"] == pytest.approx(before["oil_hours"] + 600) and after["headroom"] == pytest.approx(before["headroom"] - 600)
    assert after["to_due"] < 0 and after["urgency"] in (2, 3)
    with db.fleet(by_estimate) as c:
        assert board.board(c, "all", "", "", 1, TODAY + timedelta(days=60))["counts"]["as_of"] == TODAY + timedelta(days=60)
    assert not waiting(db, by_estimate)
    assert worker.new_days(db, TODAY + timedelta(days=60)) == 0  # once a day


def test_days_on_which_nothing_is_drawn_leave_no_baselines_behind(db, fleet):
    """Two samples more than ten: a baseline is told; a week of days says it once."""
    rows = [row(f"B{i}", f"2025-0{1 + i // 4}-{10 + i % 4}", 1000 + 20 * i, 20 + 20 * i, drained=False) for i in range(12)]
    results.load(db, ("\n".join([HEADER, *rows]) + "\n").encode(), fleet=fleet, name="b.csv", by="t")
    fleet_id = fleets.find(db, fleet)
    evaluate.evaluate(db, fleet, TODAY)
    for later in range(1, 4):
        a_day_begins(db, TODAY + timedelta(days=later))
    with db.fleet(fleet_id) as c:
        found = c.execute("SELECT measurand, count(*) AS n, min(as_of) AS first FROM baseline GROUP BY measurand").fetchall()
    assert found and {(r["n"], r["first"]) for r in found} == {(1, TODAY)}


def test_a_shorter_interval_approved_from_a_day_on_is_in_force_on_that_day(db, fleet):
    fleet_id = fleets.find(db, fleet)
    evaluate.evaluate(db, fleet, TODAY)
    before = stands(db, fleet_id)
    with db.fleet(fleet_id) as c:
        place = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        said = in_force.Statement(compartment_id=place, on=TODAY + timedelta(days=5), origin="approved", by="t", length=200)
        in_force.say(c, fleet_id, [said], TODAY)
    for later, interval in ((4, before["interval_meter"]), (5, 200)):
        a_day_begins(db, TODAY + timedelta(days=later))
        assert stands(db, fleet_id)["interval_meter"] == interval, later


def test_the_day_begins_by_each_fleet_s_own_clock_and_once_however_often_asked(db, fleet, monkeypatch):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        c.execute("UPDATE fleet SET zone = 'Pacific/Auckland'")
    evaluate.evaluate(db, fleet, date(2026, 1, 15))
    monkeypatch.setattr(days, "now", lambda: datetime(2026, 1, 15, 10, 30, tzinfo=UTC))  # 23:30 there
    worker.new_days(db)
    assert not waiting(db, fleet_id)
    monkeypatch.setattr(days, "now", lambda: datetime(2026, 1, 15, 11, 30, tzinfo=UTC))  # 00:30 of the 16th there
    worker.new_days(db)
    assert waiting(db, fleet_id)
    worker.new_days(db)
    worker.drain_queue(db)
    assert stands(db, fleet_id)["as_of"] == date(2026, 1, 16)
    with db.anyone() as c:
        done = c.execute("SELECT count(*) AS n FROM procrastinate_jobs WHERE task_name = %s AND (args ->> 'fleet_id')::int = %s",
                         [queue.JUDGE_ALL, fleet_id]).fetchone()["n"]  # fmt: skip
    assert done <= 1, "finished jobs are kept or taken away, never two"
