"""A fleet judged in shares, by several workers at once, stands as one that was judged at one go."""

import json
import re
from concurrent.futures import ThreadPoolExecutor
from zlib import crc32

import psycopg
import pytest

from conftest import TODAY, fresh_database
from vornet.flows.house import fleets
from vornet.flows.judge import afresh, evaluate, limits, turns
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.register import register
from vornet.sim import volume
from vornet.store import queue
from vornet.store.database import Database

#: what is written of each sample and each compartment, but for ids and when
WRITTEN = {
    "evaluation": "sample_id, proposed, evidence::text, hypotheses::text, oil_hours",
    "standing": "compartment_id, outcome, headroom, running_safe, limiting, proposed_meter, ranking, urgency, due_day, due_first, due_last, "
                "held, open_faults::text, reason::text, life, early_l, overrun",
    "baseline": "family, measurand, n, mean, sd",
    "hold": "sample_id, reason, detail::text",
}  # fmt: skip


@pytest.fixture(scope="module")
def db(worker_id):
    """A database in which no worker of another test takes these jobs."""
    database = Database(fresh_database(f"afresh_{worker_id}"), size=6)
    yield database
    database.close()


@pytest.fixture
def large(db, fleet_name, monkeypatch):
    """A fleet that is too large for one share: 40 engines of 25 families, a sixth of the iron far too high."""
    monkeypatch.setattr(evaluate, "AT_ONCE", 100)
    register_file, samples = volume.make(fleet_name, 40, 480, TODAY)
    lines = samples.decode().splitlines()
    fe = lines[0].split(",").index("fe")
    for i in range(6, len(lines), 6):
        cells = lines[i].split(",")
        cells[fe] = "260"
        lines[i] = ",".join(cells)
    document = json.loads(register_file)
    document["units"][0]["compartments"][0].pop("cap_h")
    assert register.load(db, json.dumps(document).encode(), by="t", today=TODAY).problems == []
    report = results.load(db, "\n".join(lines).encode(), fleet=fleet_name, name="v.csv", by="t")
    assert report.new == 480
    evaluate.evaluate(db, fleet_name, TODAY)
    return fleet_name, fleets.find(db, fleet_name)


def _rounded(row):
    """A row as text, its figures to seven digits: how many stand side by side may move the last ones."""
    return re.sub(r"-?\d+\.\d+(e-?\d+)?", lambda m: f"{float(m[0]):.7g}", str(tuple(row.values())))


def written(db, fleet_id):
    with db.fleet(fleet_id) as c:
        return {t: sorted(_rounded(r) for r in c.execute(f"SELECT {columns} FROM {t}").fetchall()) for t, columns in WRITTEN.items()}


def waiting(db, fleet_id):
    """Jobs of the fleet on the queue, taken off it: (task, arguments)."""
    with db.anyone() as c:
        taken = "DELETE FROM procrastinate_jobs WHERE (args ->> 'fleet_id')::int = %s RETURNING id, task_name, args"
        rows = sorted(c.execute(taken, [fleet_id]).fetchall(), key=lambda r: r["id"])
    return [(r["task_name"], {k: v for k, v in r["args"].items() if k != "fleet_id"}) for r in rows]


def begun(db, fleet_id):
    with db.fleet(fleet_id) as c:
        afresh.begin(c, fleet_id, TODAY)
    jobs = waiting(db, fleet_id)
    assert {task for task, _ in jobs} == {queue.JUDGE_SHARE} and len(jobs) > 4
    return [given for _, given in jobs]


def judge(db, fleet_id, given):
    with db.fleet(fleet_id) as c:
        afresh.judge_share(c, fleet_id, given["run"], given["share"], TODAY)


def test_shares_side_by_side_come_to_what_one_go_comes_to(db, large):
    _, fleet_id = large
    whole = written(db, fleet_id)
    assert len(whole["evaluation"]) == 480 and any("260" in row for row in whole["evaluation"])
    with db.fleet(fleet_id) as c:  # nothing may be left that only stands there still
        c.execute("DELETE FROM evaluation")
        c.execute("UPDATE standing SET headroom = 1, outcome = 'hold', ranking = 1, life = 1")
        c.execute("DELETE FROM baseline")
    shares = begun(db, fleet_id)
    with ThreadPoolExecutor(3) as workers:
        list(workers.map(lambda given: judge(db, fleet_id, given), shares))
    ends = waiting(db, fleet_id)  # one of them was the last
    assert ends == [(queue.JUDGE_END, {"run": shares[0]["run"], "part": part}) for part in range(afresh.ENDS)]
    for _, given in ends:
        with db.fleet(fleet_id) as c:
            afresh.end(c, fleet_id, given["run"], given["part"], TODAY)
    assert written(db, fleet_id) == whole


def test_a_later_run_overtakes_an_earlier_one(db, large):
    _, fleet_id = large
    first, second = begun(db, fleet_id), begun(db, fleet_id)
    for given in (*first, *second[:-1]):
        judge(db, fleet_id, given)
        judge(db, fleet_id, given)  # the same once more, as a job whose worker died is taken up again
    assert waiting(db, fleet_id) == []  # one share is left
    judge(db, fleet_id, second[-1])
    assert {task for task, _ in waiting(db, fleet_id)} == {queue.JUDGE_END}
    with db.fleet(fleet_id) as c:
        c.execute("UPDATE standing SET due_first = NULL")
        afresh.end(c, fleet_id, first[0]["run"], 0, TODAY)  # not its end
        assert c.execute("SELECT count(due_first) AS n FROM standing").fetchone()["n"] == 0
        for part in range(afresh.ENDS):
            afresh.end(c, fleet_id, second[0]["run"], part, TODAY)
        assert c.execute("SELECT count(due_first) AS n FROM standing").fetchone()["n"] > 0


def test_other_limits_put_the_whole_fleet_on_the_queue_and_workers_judge_it(db, large):
    from vornet.flows import worker

    name, fleet_id = large
    with settling(db, fleet_id, TODAY) as c:
        rows = limits.in_force(c, TODAY)["rows"]
        lower = [r if r.key != "fe" else type(r)(**{**r.__dict__, "watch": 1.0, "act": 2.0}) for r in rows]
        limits.save(c, fleet_id, lower, "", by="t", why="tried", today=TODAY)
    before = written(db, fleet_id)
    worker.drain_queue(db, TODAY)
    assert waiting(db, fleet_id) == []  # nothing of it failed, or is to be tried again
    after = written(db, fleet_id)
    assert sum(a != b for a, b in zip(after["evaluation"], before["evaluation"], strict=True)) > 300
    evaluate.evaluate(db, name, TODAY, afresh=True)
    assert written(db, fleet_id) == after  # and at one go nothing is otherwise


def test_what_the_shares_wrote_is_not_taken_for_what_was_worked_before(db, large):
    """Limits changed and changed back: what a batch was last worked from no longer describes its rows."""
    _, fleet_id = large
    for given in begun(db, fleet_id):
        judge(db, fleet_id, given)
    with db.fleet(fleet_id) as c:
        left = {r["part"] for r in c.execute("SELECT part FROM evaluated").fetchall()}
    assert left == {"", "learned"}


def test_two_who_judge_the_same_at_a_time_do_not_stop_each_other(db, large):
    """A share, and the whole fleet beside it: whoever comes second waits and writes over it, and neither fails."""
    name, fleet_id = large
    whole = written(db, fleet_id)
    given = begun(db, fleet_id)
    with db.fleet(fleet_id) as c:
        c.execute("DELETE FROM evaluation")
    with ThreadPoolExecutor(3) as several:
        shares = [several.submit(judge, db, fleet_id, g) for g in given for _ in range(2)]
        evaluate.evaluate(db, name, TODAY, afresh=True)
        assert [s.result(timeout=90) for s in shares] == [None] * len(shares)
    waiting(db, fleet_id)
    evaluate.evaluate(db, name, TODAY, afresh=True)
    assert written(db, fleet_id)["evaluation"] == whole["evaluation"]


def test_shares_do_not_wait_for_one_another_and_the_same_families_do(db, large):
    _, fleet_id = large
    families = [f"family {i}" for i in range(200)]
    shares = [[f for f in families if crc32(f.encode()) % afresh.SHARES == s] for s in range(afresh.SHARES)]
    with db.fleet(fleet_id) as one, db.fleet(fleet_id) as other:
        turns.hold_families(one, shares[0])
        other.execute("SET LOCAL lock_timeout = '300ms'")
        for share in shares[1:]:
            turns.hold_families(other, share)
        with pytest.raises(psycopg.errors.LockNotAvailable), other.transaction():
            turns.hold_families(other, shares[0][:1])
