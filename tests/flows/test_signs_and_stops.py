"""Weights signed by a person move the judgement of their family; the stops that somebody must hear; what a verdict signed
again takes back."""

from datetime import date, timedelta

import pytest

from conftest import HEADER, TODAY, approve_seen, fresh_database, row
from vornet.core.errors import InputError
from vornet.flows import worker
from vornet.flows.house import fleets
from vornet.flows.judge import backtest, evaluate, fleet_history, judgements, learning, verdicts
from vornet.flows.lab import results
from vornet.store.database import Database


@pytest.fixture(scope="module")
def db(worker_id):
    """A database with a queue nobody else works on."""
    database = Database(fresh_database(f"test_{worker_id}_learning"), size=4)
    yield database
    database.close()


def take(db, fleet, *rows: str) -> None:
    results.load(db, ("\n".join([HEADER, *rows]) + "\n").encode(), fleet=fleet, name=f"{rows[0][:8]}.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)


def opened(db, fleet):
    return db.fleet(fleets.find(db, fleet))


def sample_of(c, number: str) -> dict:
    sql = "SELECT sample_id, compartment_id FROM sample WHERE sample_no = %s AND superseded_by IS NULL"
    return c.execute(sql, [number]).fetchone()


@pytest.fixture
def looked_into(db, fleet):
    """Copper up in December, three times looked into, nothing found."""
    take(db, fleet, row("L1", "2025-12-20", 3690, 190, False, cu=26))
    with opened(db, fleet) as c:
        found = sample_of(c, "L1")
        for days in (2, 9, 16):
            on = date(2025, 12, 20) + timedelta(days=days)
            verdicts.record_finding(c, fleets.find(db, fleet), found["compartment_id"], on, "nothing", "", by="W", today=TODAY)
    return fleet


def proposed(db, fleet):
    with opened(db, fleet) as c:
        found = backtest.backtest(c, TODAY)
    return found["learning"]


def test_what_findings_say_is_shown_signed_and_moves_the_family(db, looked_into):
    fleet_id = fleets.find(db, looked_into)
    [family] = proposed(db, looked_into)
    said = {f"{r.cause}|{r.sign}": r for r in family.rows}
    main = said["bushing|main"]
    assert (main.n, main.right, main.now, main.proposed) == (3, 0, 1.0, 0.9)
    assert family.past["samples"] >= 5
    with opened(db, looked_into) as c:
        learning.sign(c, fleet_id, family.family, {"bushing|main": 0.9}, by="An Analyst", why="Three looks, nothing", today=TODAY)
        [now] = learning.in_force(c, TODAY)
        [version] = learning.versions(c)
    assert (now["family"], now["lines"][0]["factor"]) == (family.family, 0.9)
    assert version["changed"][0]["findings"] and version["past"]["samples"] == family.past["samples"]
    worker.drain_queue(db, TODAY)
    with opened(db, looked_into) as c:
        loaded = fleet_history.load(c, TODAY)
        assert loaded.factors["bushing|main"].tolist() == [0.9]
    before, after = 1.0, next(s for p in proposed(db, looked_into) for s in p.rows if s.cause == "bushing" and s.sign == "main")
    assert after.now == 0.9 < before and after.proposed == pytest.approx(0.8)  # a step further, when signed again
    with opened(db, looked_into) as c:
        learning.take_back(c, fleet_id, family.family, by="An Analyst", why="Too soon", today=TODAY)
        assert learning.in_force(c, TODAY) == [] and len(learning.versions(c)) == 2


@pytest.mark.parametrize(("chosen", "why", "field"), [
    ({"bushing|main": 0.7}, "so", "sign"), ({}, "so", "sign"), ({"bushing|main": 0.9}, " ", "why"), ({"no|such": 0.9}, "so", "sign"),
])  # fmt: skip
def test_nothing_is_signed_that_was_not_shown(db, looked_into, chosen, why, field):
    [family] = proposed(db, looked_into)
    with pytest.raises(InputError) as problem, opened(db, looked_into) as c:
        learning.sign(c, fleets.find(db, looked_into), family.family, chosen, by="A", why=why, today=TODAY)
    assert problem.value.field == field
    with opened(db, looked_into) as c:
        assert learning.versions(c) == []


def test_calibration_counts_what_was_looked_into(db, looked_into):
    with opened(db, looked_into) as c:
        found = backtest.backtest(c, TODAY)
    assert sum(x.n for x in found["confirmed"]) >= 1 and sum(x.right for x in found["confirmed"]) == 0
    assert found["ended"].n == 0


def test_an_approval_keeps_the_chance_it_was_given_on(db, fleet):
    with opened(db, fleet) as c:
        one = c.execute("SELECT compartment_id FROM compartment LIMIT 1").fetchone()["compartment_id"]
        approve_seen(c, fleets.find(db, fleet), one, 450, "tried out", "A Planner", TODAY)
        kept = c.execute("SELECT evidence FROM drain_interval WHERE origin = 'approved'").fetchone()["evidence"]
    assert kept["chance_at_approved"] is None or 0 <= kept["chance_at_approved"] <= 1
    assert "chance_at_approved" in kept


def test_a_verdict_signed_again_takes_back_what_the_one_before_opened(db, fleet):
    take(db, fleet, row("S1", "2025-12-20", 3690, 190, False, na=85, k=32, water_ppm=500))
    fleet_id = fleets.find(db, fleet)
    with opened(db, fleet) as c:
        one = sample_of(c, "S1")
        look = verdicts.Action("Pressure-test it", "do", "W", TODAY + timedelta(days=3), "coolant")
        verdicts.sign(c, fleet_id, one["sample_id"], "act", by="A", today=TODAY, cause="coolant", actions=(look,))
        assert [a["what"] for a in verdicts.open_actions(c, None)] == ["Pressure-test it"]
        verdicts.sign(c, fleet_id, one["sample_id"], "watch", by="B", today=TODAY, reason="The wrong bottle")
        assert verdicts.open_actions(c, None) == []
        closed = verdicts.follow_up(c)["closed"]
        assert closed[0]["withdrawn_by"] is not None and closed[0]["closed_by"] == "B"
        assert [v["verdict"] for v in verdicts.of_sample(c, one["sample_id"])] == [1, 2]


def test_what_a_wrong_verdict_closed_is_open_again(db, fleet):
    take(db, fleet, row("S1", "2025-12-20", 3690, 190, False, na=85, k=32, water_ppm=500), row("S2", "2026-01-10", 3840, 340, False))
    fleet_id = fleets.find(db, fleet)
    with opened(db, fleet) as c:
        first, second = sample_of(c, "S1"), sample_of(c, "S2")
        look = verdicts.Action("Pressure-test it", "do", "W", TODAY + timedelta(days=3), "coolant")
        verdicts.sign(c, fleet_id, first["sample_id"], "act", by="A", today=TODAY, cause="coolant", actions=(look,))
        [action] = verdicts.open_actions(c, None)
        said = judgements.VERDICTS[verdicts.judged(c, second["sample_id"])["proposed"]]
        verdicts.sign(c, fleet_id, second["sample_id"], said, by="A", today=TODAY, closes=(action["action_id"],))
        assert verdicts.open_actions(c, None) == []
        verdicts.sign(c, fleet_id, second["sample_id"], said, by="A", today=TODAY, closes=(action["action_id"],))
        assert verdicts.open_actions(c, None) == []  # still closed on it
        verdicts.sign(c, fleet_id, second["sample_id"], said, by="A", today=TODAY)
        assert [a["action_id"] for a in verdicts.open_actions(c, None)] == [action["action_id"]]


def test_a_stop_calls_until_somebody_who_answers_has_heard_it(db, fleet):
    take(db, fleet, row("S1", "2025-12-20", 3690, 190, False, na=160, k=60, water_ppm=1500))
    fleet_id = fleets.find(db, fleet)
    with opened(db, fleet) as c:
        [stop] = verdicts.unheard_stops(c)
        one = sample_of(c, "S1")
        assert (stop["sample_id"], stop["signed"]) == (one["sample_id"], False)
        verdicts.hear_stop(c, fleet_id, stop["sample_id"], by="A Planner", note="Engine is off")
        verdicts.hear_stop(c, fleet_id, stop["sample_id"], by="Another")  # heard is heard
        assert verdicts.unheard_stops(c) == []
        assert verdicts.heard(c, one["sample_id"])["heard_by"] == "A Planner"
        with pytest.raises(InputError):
            verdicts.hear_stop(c, fleet_id, 999_999, by="A Planner")


def test_nothing_older_than_the_queue_is_lost_from_sight(db, fleet):
    with opened(db, fleet) as c:
        old, young = verdicts.queue(c, TODAY, older=True), verdicts.queue(c, TODAY)
        assert {r["sample_no"] for r in old} == {"S000", "S001", "S002", "S003"}
        assert not {r["sample_id"] for r in old} & {r["sample_id"] for r in young}
        assert verdicts.waiting(c, TODAY, older=True) == 4
