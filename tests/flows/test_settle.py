"""Facts below, judgement above: writers touch, the opener of the transaction settles, a worker does what is many."""

import asyncio
import json
import threading
from concurrent.futures import ThreadPoolExecutor

import psycopg
import pytest

from conftest import HEADER, TODAY, fresh_database, row, small_register
from vornet.flows import worker
from vornet.flows.house import fleets
from vornet.flows.judge import afresh, evaluate, settle
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.plan import service
from vornet.flows.register import register, units
from vornet.flows.work import notes
from vornet.io.equipment import ServiceItem
from vornet.store import queue
from vornet.store.database import Database


@pytest.fixture(scope="module")
def db(worker_id):
    """A database with a queue nobody else works on: here the tests say when work is done."""
    database = Database(fresh_database(f"settle_{worker_id}"), size=6)
    yield database
    database.close()


NEW = f"{HEADER}\n{row('T1', '2025-12-20', 3700, 200, False)}\n".encode()


def touched(db, fleet):
    with db.fleet(fleets.find(db, fleet)) as c:
        return sorted({(r["what"], r["id"]) for r in c.execute("SELECT what, id FROM touched").fetchall()})


def judged(db, fleet, number):
    with db.fleet(fleets.find(db, fleet)) as c:
        sql = "SELECT proposed FROM evaluation JOIN sample USING (fleet_id, sample_id) WHERE sample_no = %s"
        return c.execute(sql, [number]).fetchone()


@pytest.fixture
def place(db, fleet):
    with db.fleet(fleets.find(db, fleet)) as c:
        queue.take_touched(c)
        return c.execute("SELECT unit_id, compartment_id FROM compartment").fetchone()


def test_taking_a_file_in_only_touches(db, fleet, place):
    results.load(db, NEW, fleet=fleet, name="t.csv", by="t")
    assert touched(db, fleet) == [("compartment", place["compartment_id"])]
    assert judged(db, fleet, "T1") is None
    with settling(db, fleets.find(db, fleet), TODAY):
        pass
    assert touched(db, fleet) == []
    assert judged(db, fleet, "T1")["proposed"] == 0


@pytest.mark.parametrize(
    "write",
    [
        lambda c, f, p: notes.read_meter(c, f, p["unit_id"], 1, 3900, TODAY, "t", TODAY),
        lambda c, f, p: notes.top_up(c, f, p["compartment_id"], TODAY, 3900, 2, None, None, "t", TODAY),
        lambda c, f, p: notes.level_check(c, f, p["compartment_id"], TODAY, 3900, 0.5, "t", TODAY),
        lambda c, f, p: notes.event(c, f, p["compartment_id"], "repair", TODAY, 3900, 1, 1, "", "", "t", TODAY),
        lambda c, f, p: units.save_compartment(c, f, p["compartment_id"], {"interval_h": 450}, "t", TODAY),
        lambda c, f, p: units.set_state(c, f, p["unit_id"], "laid_up", TODAY, "", "t", TODAY),
    ],
)
def test_writers_touch_what_they_change(db, fleet, place, write):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        before = c.execute("SELECT * FROM standing").fetchone()
        write(c, fleet_id, place)
        assert c.execute("SELECT * FROM standing").fetchone() == before  # nothing is worked yet
    assert touched(db, fleet) == [("compartment", place["compartment_id"])]
    with db.fleet(fleet_id) as c:
        assert settle.settle(c, fleet_id, TODAY) == 0
    assert touched(db, fleet) == []


def test_a_plan_is_touched_by_itself(db, fleet, place):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        service.put(c, fleet_id, ServiceItem(unit="MV Test", item="Belt", every_days=90), "t")
    assert touched(db, fleet) == [("plan", place["unit_id"])]
    with settling(db, fleet_id, TODAY) as c:
        item = c.execute("SELECT item_id FROM service_item").fetchone()["item_id"]
        service.record(c, fleet_id, item, TODAY, None, "done", {}, "", "t", TODAY)
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT due_day FROM service_item").fetchone()["due_day"].isoformat() == "2026-04-15"


def test_what_fails_touches_nothing(db, fleet, place):
    fleet_id = fleets.find(db, fleet)

    def broken():
        with settling(db, fleet_id, TODAY) as c:
            notes.top_up(c, fleet_id, place["compartment_id"], TODAY, 3900, 2, None, None, "t", TODAY)
            raise RuntimeError

    with pytest.raises(RuntimeError):
        broken()
    assert touched(db, fleet) == []


def test_many_go_on_the_queue_and_a_worker_does_them(db, fleet_name):
    document = small_register(fleet_name)
    base = document["units"][0]
    document["units"] = [base, *({**base, "unit": f"MV {i}"} for i in range(settle.AT_ONCE + 2))]
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    results.load(db, NEW, fleet=fleet_name, name="t.csv", by="t")
    fleet_id = fleets.find(db, fleet_name)
    assert len(touched(db, fleet_name)) == settle.AT_ONCE + 3
    with db.fleet(fleet_id) as c:
        assert settle.settle(c, fleet_id, TODAY) == settle.AT_ONCE + 3
    assert judged(db, fleet_name, "T1") is None
    assert touched(db, fleet_name) == []
    worker.drain_queue(db, TODAY)
    assert judged(db, fleet_name, "T1") is not None


def test_a_document_touches_the_units_it_names(db, fleet_name):
    document = small_register(fleet_name)
    document["units"].append({**document["units"][0], "unit": "MV Other"})
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet_name, TODAY)
    assert touched(db, fleet_name) == []  # a whole evaluation looks at everything
    register.load(db, json.dumps({"fleet": fleet_name, "readings": [{"unit": "MV Other", "on": "2026-01-12", "meter": 50}]}).encode(),
                  by="t", today=TODAY)  # fmt: skip
    assert len(touched(db, fleet_name)) == 1
    register.load(db, json.dumps({"fleet": fleet_name, "oils": [{"name": "New 5W-30"}]}).encode(), by="t", today=TODAY)
    assert len(touched(db, fleet_name)) == 2  # everybody rests on the oils


def test_two_who_touch_one_compartment_do_not_wait_for_each_other(db, fleet, place):
    fleet_id, mine = fleets.find(db, fleet), [place["compartment_id"]]
    with db.fleet(fleet_id) as a, db.fleet(fleet_id) as b:
        a.execute("SET LOCAL lock_timeout = '2s'")
        b.execute("SET LOCAL lock_timeout = '2s'")
        queue.touch(a, fleet_id, mine)
        queue.touch(b, fleet_id, mine)
        queue.touch(b, fleet_id, mine)
        assert queue.take_touched(b).compartments == tuple(mine)
        assert queue.take_touched(a).compartments == tuple(mine)


def test_two_who_ask_for_one_evaluation_at_a_time_are_both_served(db, fleet):
    """Two signatures in one moment; the second found the first's job only when it wrote its own."""
    fleet_id, asked = fleets.find(db, fleet), "SELECT count(*) AS n FROM procrastinate_jobs WHERE task_name = %s AND status = 'todo'"
    with ThreadPoolExecutor(1) as second:
        with db.fleet(fleet_id) as first:
            queue.put_evaluation(first, fleet_id, [1, 2])
            other = second.submit(asks_too, db, fleet_id)
            with pytest.raises(TimeoutError):  # it waits for what the first does
                other.result(timeout=0.5)
        other.result(timeout=10)
    with db.fleet(fleet_id) as c:
        assert c.execute(asked, [queue.EVALUATE]).fetchone()["n"] == 1
        c.execute("DELETE FROM procrastinate_jobs")


def asks_too(db, fleet_id):
    with db.fleet(fleet_id) as c:
        queue.put_evaluation(c, fleet_id, [2, 1])


def test_an_evaluation_is_not_begun_before_the_last_who_asked_for_it_has_written(db, fleet):
    fleet_id = fleets.find(db, fleet)
    asks_too(db, fleet_id)
    with db.fleet(fleet_id) as writing:
        queue.put_evaluation(writing, fleet_id, [1, 2])  # waits there already
        with db.fleet(fleet_id) as c:
            assert c.execute("SELECT 1 FROM procrastinate_jobs WHERE status = 'todo' FOR UPDATE SKIP LOCKED").fetchone() is None
    with db.fleet(fleet_id) as c:
        c.execute("DELETE FROM procrastinate_jobs")


def test_a_dead_worker_s_job_does_not_stop_the_others_from_being_taken_up(db, fleet):
    """One of its jobs waits anew already, so that it cannot wait twice: it is put away, and those behind it are taken up."""
    fleet_id = fleets.find(db, fleet)
    with psycopg.connect(db.location.owner_url, autocommit=True) as c:
        worker_id = c.execute("INSERT INTO procrastinate_workers (last_heartbeat) VALUES (now() - interval '1 day') RETURNING id").fetchone()[
            0
        ]
        for name, lock in ((queue.EVALUATE, "evaluate 1/x"), (queue.TAKE_IN, None)):
            c.execute(
                "INSERT INTO procrastinate_jobs (task_name, queue_name, queueing_lock, status, worker_id, args) "
                "VALUES (%s, 'default', %s, 'doing', %s, %s)",
                (name, lock, worker_id, json.dumps({"fleet_id": fleet_id, "import_file_id": 0, "compartments": []})),
            )
        c.execute(
            "INSERT INTO procrastinate_jobs (task_name, queue_name, queueing_lock, status, args) "
            "VALUES (%s, 'default', 'evaluate 1/x', 'todo', '{}')",
            (queue.EVALUATE,),
        )

    async def take_up():
        app = worker.app_of(worker.Works(db, TODAY), None)
        async with app.open_async():
            return await worker.requeue(app)

    with ThreadPoolExecutor(1) as apart:
        assert apart.submit(asyncio.run, take_up()).result() == 2
    with psycopg.connect(db.location.owner_url, autocommit=True) as c:
        left = c.execute("SELECT task_name, status::text FROM procrastinate_jobs ORDER BY task_name").fetchall()
        c.execute("DELETE FROM procrastinate_jobs")
    assert left == [(queue.EVALUATE, "todo"), (queue.TAKE_IN, "todo")]


def test_what_waits_for_a_fleet_that_is_gone_troubles_nobody(db, fleet, place):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        queue.put_evaluation(c, fleet_id, [place["compartment_id"]])
    fleets.delete(db, fleet)
    worker.drain_queue(db, TODAY)
    with db.anyone() as c:
        failed = c.execute("SELECT 1 FROM procrastinate_jobs WHERE status = 'failed' AND (args ->> 'fleet_id')::int = %s", [fleet_id])
        assert failed.fetchone() is None


def test_what_a_killed_writer_left_is_settled_by_a_worker(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        queue.touch_everything(c)  # and nobody settles it
    assert worker.settle_left(db, TODAY) == 0  # somebody may be about to
    with psycopg.connect(db.location.owner_url) as c:
        c.execute("UPDATE touched SET at = at - make_interval(secs => %s) WHERE fleet_id = %s", (worker.LEFT_AFTER_S + 1, fleet_id))
    assert worker.settle_left(db, TODAY) == 1
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT count(*) AS n FROM touched").fetchone()["n"] == 0
        assert (
            c.execute("SELECT count(*) AS n FROM compartment LEFT JOIN standing USING (compartment_id) WHERE as_of IS NULL").fetchone()["n"]
            == 0
        )
    assert worker.settle_left(db, TODAY) == 0


def test_what_comes_round_by_itself_is_asked_for_by_the_queue(db):
    app = worker.app_of(worker.Works(db, TODAY), ask_every_s=30)
    found = {task.task.name: task.cron for task in app.periodic_registry.periodic_tasks.values()}
    assert found == {queue.ASK_LABS: "* * * * * */30", queue.SETTLE: "*/1 * * * * 0", queue.TAKE_UP: "* * * * * */30",
                     queue.SEND: "*/1 * * * * 0", queue.BACKUP: "*/15 * * * * 0", queue.TELL: "* * * * * */20"}  # fmt: skip
    by_the_clock = worker.app_of(worker.Works(db), ask_every_s=30).periodic_registry.periodic_tasks.values()
    assert {t.task.name: t.cron for t in by_the_clock} == found | {queue.NEW_DAY: "*/5 * * * * 0"}
    assert worker.app_of(worker.Works(db, TODAY)).periodic_registry.periodic_tasks == {}


@pytest.mark.parametrize("how", ["whole", "job", "share"])
def test_a_fact_recorded_while_its_family_is_judged_is_not_judged_away(db, fleet, place, monkeypatch, how):
    """A long evaluation has read the history; somebody drains and is judged; what the long one writes must not be from before."""
    fleet_id = fleets.find(db, fleet)
    evaluate.evaluate(db, fleet, TODAY)
    monkeypatch.setattr(evaluate, "AT_ONCE", 1)
    run = ""
    if how == "share":
        with db.fleet(fleet_id) as c:
            afresh.begin(c, fleet_id, TODAY)
            run, share = (c.execute("SELECT run::text, share FROM judging").fetchone()[k] for k in ("run", "share"))
    has_read, recorded = threading.Event(), threading.Event()
    real = evaluate.judge_and_write

    def slow(connection, *rest):
        if not has_read.is_set():
            has_read.set()
            recorded.wait(3)  # as long as a large fleet takes: whoever must wait for it does
        return real(connection, *rest)

    monkeypatch.setattr(evaluate, "judge_and_write", slow)

    def long():
        with db.fleet(fleet_id) as c:
            if how == "share":
                afresh.judge_share(c, fleet_id, run, share, TODAY)
            else:
                evaluate.evaluate_within(c, fleet_id, TODAY, [place["compartment_id"]] if how == "job" else None, afresh=how == "whole")

    def drained():
        assert has_read.wait(30)
        with settling(db, fleet_id, TODAY) as c:
            notes.read_meter(c, fleet_id, place["unit_id"], 1, 3990, TODAY, "t", TODAY)
        recorded.set()

    with ThreadPoolExecutor(2) as both:
        for done in [both.submit(long), both.submit(drained)]:
            done.result(timeout=60)
    with db.fleet(fleet_id) as c:
        stands = c.execute("SELECT oil_hours, to_due FROM standing").fetchone()
    evaluate.evaluate(db, fleet, TODAY, afresh=True)
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT oil_hours, to_due FROM standing").fetchone() == stands
