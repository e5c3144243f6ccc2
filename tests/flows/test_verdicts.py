"""Signing on PostgreSQL: proposals and signatures both kept, actions, findings and their score, limits tried and saved,
history played through other ways of judging."""

import json
from datetime import date, timedelta

import numpy as np
import psycopg
import pytest

from conftest import HEADER, TODAY, fresh_database, healthy_rows, row, small_register
from vornet.core import precision
from vornet.core.errors import InputError
from vornet.core.limits import FIXED_LIMITS, FixedLimit
from vornet.core.measurands import INDEX
from vornet.core.precision import PRECISION
from vornet.flows import worker
from vornet.flows.house import fleets
from vornet.flows.judge import backtest, evaluate, judgements, limits, verdicts
from vornet.flows.judge.settle import settling
from vornet.flows.judge.verdicts import Action
from vornet.flows.lab import held_samples, inbox, labs, parcels, results
from vornet.flows.register import register
from vornet.store import queue
from vornet.store.database import Database, query


@pytest.fixture(scope="module")
def db(worker_id):
    """A database with a queue nobody else works on: here the tests say when work is done."""
    database = Database(fresh_database(f"test_{worker_id}_verdicts"), size=6)
    yield database
    database.close()


def take(db, fleet, *rows: str) -> None:
    results.load(db, ("\n".join([HEADER, *rows]) + "\n").encode(), fleet=fleet, name=f"{rows[0][:8]}.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)


def sample_of(db, fleet, number: str) -> dict:
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        sql = "SELECT sample_id, compartment_id, sampled_on FROM sample WHERE sample_no = %s AND superseded_by IS NULL"
        return c.execute(sql, [number]).fetchone()


def sign(db, fleet, number: str, verdict: str, **more) -> int:
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        found = c.execute("SELECT sample_id FROM sample WHERE sample_no = %s AND superseded_by IS NULL", [number]).fetchone()
        return verdicts.sign(c, fleet_id, found["sample_id"], verdict, by="An Analyst", today=TODAY, **more)


def judged(db, fleet, number: str) -> dict:
    return next(r for r in judgements.judgements(db, fleet) if r["sample_no"] == number)


@pytest.fixture
def leaking(db, fleet):
    """Coolant in the ferry's engine in December."""
    take(db, fleet, row("C1", "2025-12-20", 3690, 190, False, na=85, k=32, water_ppm=500))
    return fleet


def test_causes_are_proposed_with_their_evidence(db, leaking):
    found = judged(db, leaking, "C1")
    best = found["hypotheses"][0]
    assert (best["key"], best["strength"], found["proposed"]) == ("coolant", "strong", "act")
    assert best["evidence"][0].startswith("Sodium gains 2")
    assert "per 500 h, usual" in best["evidence"][0]
    assert found["signed"] is None


def test_the_queue_is_worst_first_and_what_is_signed_leaves_it(db, leaking):
    take(db, leaking, row("C2", "2025-12-10", 3640, 140, False))
    with settling(db, fleets.find(db, leaking), TODAY) as c:
        waiting = verdicts.queue(c, TODAY)
        assert [r["sample_no"] for r in waiting] == ["C1", "S004", "C2"]  # the last 120 days, Act before Run on
        assert verdicts.waiting(c, TODAY) == 3
    sign(db, leaking, "C1", "act", cause="coolant", comment="Pressure-test it.")
    with settling(db, fleets.find(db, leaking), TODAY) as c:
        assert [r["sample_no"] for r in verdicts.queue(c, TODAY)] == ["S004", "C2"]
    found = judged(db, leaking, "C1")
    assert (found["signed"], found["signed_by"], found["signed_cause"], found["comment"]) == (
        "act", "An Analyst", "coolant", "Pressure-test it.",
    )  # fmt: skip


def test_another_verdict_needs_a_reason_and_the_proposal_stays(db, leaking):
    with pytest.raises(InputError, match="reason: say why"):
        sign(db, leaking, "C1", "watch")
    assert judged(db, leaking, "C1")["signed"] is None
    sign(db, leaking, "C1", "watch", reason="Known, being followed")
    found = judged(db, leaking, "C1")
    assert (found["proposed"], found["signed"], found["signed_reason"]) == ("act", "watch", "Known, being followed")
    sign(db, leaking, "C1", "act")  # signing again replaces, and keeps what was signed before
    with settling(db, fleets.find(db, leaking), TODAY) as c:
        kept = verdicts.of_sample(c, sample_of(db, leaking, "C1")["sample_id"])
    assert [(v["verdict"], v["superseded_by"] is None) for v in kept] == [(2, True), (1, False)]


def test_a_verdict_without_its_reason_cannot_be_written_at_all(db, leaking):
    place = sample_of(db, leaking, "C1")
    fleet_id = fleets.find(db, leaking)
    with pytest.raises(psycopg.errors.CheckViolation), db.fleet(fleet_id) as c:
        c.execute(query("verdicts.sign"), {
            "fleet_id": fleet_id, "sample_id": place["sample_id"], "compartment_id": place["compartment_id"], "verdict": 0, "proposed": 2,
            "hypotheses": "[]", "evidence": [], "limit_set_id": 1, "cause": "", "comment": "", "reason": "", "by": "x",
        })  # fmt: skip


@pytest.mark.parametrize(("verdict", "more", "field"), [
    ("fine", {}, "verdict"), ("act", {"cause": "gremlins"}, "cause"), ("act", {"comment": "x" * 5000}, "comment"),
    ("act", {"actions": (Action(""),)}, "action"), ("act", {"actions": (Action("Look", due_on=TODAY - timedelta(days=1)),)}, "due"),
    ("act", {"closes": (999_999,)}, "action"),
])  # fmt: skip
def test_a_signature_that_cannot_be_is_refused_by_field(db, leaking, verdict, more, field):
    with pytest.raises(InputError) as refused:
        sign(db, leaking, "C1", verdict, **more)
    assert refused.value.field == field
    assert judged(db, leaking, "C1")["signed"] is None


def test_a_held_sample_cannot_be_signed(db, fleet):
    take(db, fleet, row("H1", "2025-12-20", 3690, 190, False, bn=15))
    with pytest.raises(InputError, match="held"):
        sign(db, fleet, "H1", "run_on")
    assert judged(db, fleet, "H1")["proposed"] is None


def test_an_action_closes_only_on_a_later_sample_or_a_finding(db, leaking):
    sign(db, leaking, "C1", "act", cause="coolant", actions=(
        Action("Pressure-test the cooling system", "do", "Workshop", TODAY + timedelta(days=3), "coolant"),
        Action("Sample again", "resample", "", TODAY + timedelta(days=7)),
    ))  # fmt: skip
    fleet_id, place = fleets.find(db, leaking), sample_of(db, leaking, "C1")
    with settling(db, fleet_id, TODAY) as c:
        [first, second] = verdicts.open_actions(c, place["compartment_id"])
        assert [first["kind"], second["kind"], first["owner"]] == ["do", "resample", "Workshop"]
    with pytest.raises(InputError, match="drawn after"), db.fleet(fleet_id) as c:
        verdicts.close_on_sample(c, fleet_id, first["action_id"], place["sample_id"], "x")
    with pytest.raises(psycopg.errors.CheckViolation), db.fleet(fleet_id) as c:
        c.execute("UPDATE action SET closed_at = now() WHERE action_id = %s", [first["action_id"]])
    take(db, leaking, row("C3", "2026-01-12", 3850, 350, False, na=4, k=1))
    sign(db, leaking, "C3", "run_on", closes=(first["action_id"],))
    with settling(db, fleet_id, TODAY) as c:
        follow = verdicts.follow_up(c, place["compartment_id"])
    assert follow["open"] == []  # the one asked for came; the other was shown to have worked
    assert {(a["kind"], a["closed_sample_no"]) for a in follow["closed"]} == {("do", "C3"), ("resample", "C3")}


def test_findings_close_actions_and_keep_a_score(db, leaking):
    sign(db, leaking, "C1", "act", actions=(Action("Look at it"),))
    fleet_id, place = fleets.find(db, leaking), sample_of(db, leaking, "C1")
    with settling(db, fleet_id, TODAY) as c:
        [action] = verdicts.open_actions(c, place["compartment_id"])
        verdicts.record_finding(c, fleet_id, place["compartment_id"], TODAY, "coolant", "Liner seal", by="W", today=TODAY,
                                closes=(action["action_id"],))  # fmt: skip
        verdicts.record_finding(c, fleet_id, place["compartment_id"], TODAY, "bearing", "", by="W", today=TODAY)
        verdicts.record_finding(c, fleet_id, place["compartment_id"], TODAY, "nothing", "", by="W", today=TODAY)
        follow = verdicts.follow_up(c)
    assert follow["open"] == []
    assert follow["closed"][0]["found"] == "coolant"
    score = {r["key"]: (r["named"], r["right"], r["missed"]) for r in follow["score"]}
    assert score == {"coolant": (3, 1, 0), "bearing": (0, 0, 1)}  # named before each of the three, right once


@pytest.mark.parametrize(("cause", "on", "note", "field"), [
    ("gremlins", TODAY, "", "cause"), ("other", TODAY, "", "note"), ("dirt", TODAY + timedelta(days=1), "", "on"),
])  # fmt: skip
def test_a_finding_that_cannot_be_is_refused(db, leaking, cause, on, note, field):
    fleet_id, place = fleets.find(db, leaking), sample_of(db, leaking, "C1")
    with pytest.raises(InputError) as refused, db.fleet(fleet_id) as c:
        verdicts.record_finding(c, fleet_id, place["compartment_id"], on, cause, note, by="W", today=TODAY)
    assert refused.value.field == field


def test_the_signed_verdict_stands_before_the_proposal_in_the_guards(db, fleet):
    def guard() -> str:
        evaluate.evaluate(db, fleet, TODAY)
        [decided] = judgements.intervals(db, fleet)
        return next(g["text"] for g in decided["guards"] if g["key"] == "verdicts")

    assert "Last 3 verdicts are Run on" in guard()
    sign(db, fleet, "S004", "watch", reason="Noise from the bearing side")
    assert "3 more samples to go" in guard()
    worker.drain_queue(db, TODAY)  # signing puts the compartment on the queue itself


def test_a_reissued_report_wants_another_signature(db, leaking):
    sign(db, leaking, "C1", "act")
    again = row("C1", "2025-12-20", 3690, 190, False, na=4, k=1).replace("2025-12-20,2025-12-20", "2025-12-20,2026-01-02")
    take(db, leaking, again)
    found = judged(db, leaking, "C1")
    assert (found["proposed"], found["signed"]) == ("run_on", None)


def test_a_held_bottle_says_what_it_is(db, fleet):
    take(db, fleet, row("D1", "2025-12-20", 3690, 190, False, si=60, al=14))
    found = judged(db, fleet, "D1")
    assert [h["reason"] for h in found["held"]] == ["dirty_bottle"]
    assert (found["proposed"], found["hypotheses"][0]["key"]) == (None, "dirty_bottle")
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        [hold] = inbox.inbox(c)["holds"]
    assert hold["reason"] == "dirty_bottle"


def test_a_guard_says_how_many_verdicts_nobody_has_signed(db, fleet):
    def guard() -> str:
        evaluate.evaluate(db, fleet, TODAY)
        [decided] = judgements.intervals(db, fleet)
        return next(g["text"] for g in decided["guards"] if g["key"] == "verdicts")

    assert guard() == "Last 3 verdicts are Run on (3 of them only proposed, not signed)"
    sign(db, fleet, "S004", "run_on")
    assert guard() == "Last 3 verdicts are Run on (2 of them only proposed, not signed)"
    sign(db, fleet, "S003", "run_on")
    sign(db, fleet, "S002", "run_on")
    assert guard() == "Last 3 verdicts are Run on"
    worker.drain_queue(db, TODAY)


def baseline(db, fleet, key: str) -> tuple[int, float] | None:
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        found = c.execute("SELECT n, mean FROM baseline WHERE measurand = %s ORDER BY as_of DESC", [key]).fetchone()
    return found and (found["n"], found["mean"])


def rows_of(*keys: str) -> list[FixedLimit]:
    return [r for r in FIXED_LIMITS if r.duty == "diesel_engine" and r.key in keys]


def eight_more() -> list[str]:
    """Healthy samples of the running charge, drawn day by day."""
    out = []
    for i in range(8):
        h = 100 + 5 * i
        metals = {"cr": 0.003 * h, "al": 0.008 * h, "cu": 0.012 * h, "pb": 0.006 * h, "sn": 0.002 * h}
        out.append(row(f"M{i}", f"2025-12-{2 + i:02d}", 3500 + h, h, False, **metals))
    return out


def test_what_the_workshop_confirmed_says_no_longer_what_is_usual(db, fleet):
    take(db, fleet, *eight_more(), row("C1", "2025-12-20", 3690, 190, False, na=85, k=32, water_ppm=500))
    n, mean = baseline(db, fleet, "na")
    assert n == 14  # what a limit itself would flag stays in, or limits would ratchet down
    assert mean == pytest.approx((13 * 3 + 85) / 14, rel=0.01)
    fleet_id, place = fleets.find(db, fleet), sample_of(db, fleet, "C1")
    with settling(db, fleet_id, TODAY) as c:
        verdicts.record_finding(c, fleet_id, place["compartment_id"], date(2026, 1, 10), "coolant", "", by="W", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    assert baseline(db, fleet, "na") == (13, pytest.approx(3.0, rel=0.01))
    with settling(db, fleet_id, TODAY) as c:
        assert limits.suggestions(c, "T1 engine", rows_of("na"), TODAY)[("na", "high")]["n"] == 13


def test_a_signed_act_says_no_longer_what_is_usual(db, fleet):
    take(db, fleet, *eight_more())
    assert baseline(db, fleet, "fe")[0] == 13
    sign(db, fleet, "M7", "act", reason="Seen in the workshop")
    evaluate.evaluate(db, fleet, TODAY)
    assert baseline(db, fleet, "fe")[0] == 12
    sign(db, fleet, "M6", "watch", reason="Trend says worse than the limits do")
    evaluate.evaluate(db, fleet, TODAY)
    assert baseline(db, fleet, "fe")[0] == 12  # a Watch still says what is usual


def test_an_evaluation_waits_once_however_often_it_is_asked_for(db, fleet):
    fleet_id = fleets.find(db, fleet)
    asked = ([7, 9], [9, 7], [7], [7, 9])
    sql = "SELECT args -> 'compartments' AS c FROM procrastinate_jobs WHERE task_name = %s AND (args ->> 'fleet_id')::int = %s ORDER BY id"
    with settling(db, fleet_id, TODAY) as c:
        for compartments in asked:
            queue.put_evaluation(c, fleet_id, compartments)
        waiting = [r["c"] for r in c.execute(sql, [queue.EVALUATE, fleet_id]).fetchall()]
        many = list(range(5000))
        queue.put_evaluation(c, fleet_id, many)  # a lock's name stays short, whatever it locks
        assert len(c.execute(sql, [queue.EVALUATE, fleet_id]).fetchall()) == 3
        c.execute("DELETE FROM procrastinate_jobs WHERE (args ->> 'fleet_id')::int = %s", [fleet_id])
    assert waiting == [[7, 9], [7]]


# ---- limits ----------------------------------------------------------------------------------------


def with_watch(key: str, watch: float) -> list[FixedLimit]:
    return [FixedLimit(r.duty, r.key, r.side, r.basis, watch, r.act) if (r.duty, r.key, r.side) == ("diesel_engine", key, "high") else r
            for r in FIXED_LIMITS]  # fmt: skip


def test_what_a_limit_would_change_is_seen_before_it_is_saved(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        nothing = limits.what_if(c, list(FIXED_LIMITS), "diesel_engine", TODAY)
        assert (nothing["samples"], nothing["of"], nothing["changes"]) == (5, 5, [])
        found = limits.what_if(c, with_watch("fe", 25.0), "diesel_engine", TODAY)
    assert found["counts"] == {("run_on", "watch"): 5}
    assert [c.on for c in found["changes"]] == sorted((c.on for c in found["changes"]), reverse=True)
    assert {r["proposed"] for r in judgements.judgements(db, fleet)} == {"run_on"}  # nothing was written


def test_a_large_fleet_is_tried_on_some_of_its_families_and_says_so(db, fleet_name, monkeypatch):
    document = small_register(fleet_name)
    unit = document["units"][0]
    for name in ("B", "C"):
        [engine] = unit["compartments"]
        document["units"].append({**unit, "unit": f"MV {name}", "compartments": [{**engine, "family": f"Family {name}"}]})
        document["drains"] += [{**d, "unit": f"MV {name}"} for d in document["drains"] if d["unit"] == "MV Test"]
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    rows = [r for name in ("Test", "B", "C") for r in
            (x.replace("MV Test", f"MV {name}", 1).replace("S0", f"{name}0", 1) for x in healthy_rows())]  # fmt: skip
    results.load(db, ("\n".join([HEADER, *rows]) + "\n").encode(), fleet=fleet_name, name="a.csv", by="t")
    evaluate.evaluate(db, fleet_name, TODAY)
    fleet_id = fleets.find(db, fleet_name)
    monkeypatch.setattr(limits, "MOST_TRIED", 11)
    monkeypatch.setattr(backtest, "MOST_PLAYED", 6)
    with settling(db, fleet_id, TODAY) as c:
        found = limits.what_if(c, with_watch("fe", 25.0), "diesel_engine", TODAY, "Family C")
        place = c.execute("SELECT compartment_id FROM compartment WHERE family = 'Family B'").fetchone()["compartment_id"]
        verdicts.record_finding(c, fleet_id, place, date(2026, 1, 10), "coolant", "", by="W", today=TODAY)
        played = backtest.backtest(c, TODAY)
    assert (found["samples"], found["of"]) == (10, 15)
    assert "MV C" in {x.unit for x in found["changes"]}
    assert (played["samples"], played["of"], played["findings"]) == (5, 15, 1)  # where something was found comes first


def test_saved_limits_are_a_version_and_old_verdicts_keep_theirs(db, fleet):
    sign(db, fleet, "S003", "run_on")
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        with pytest.raises(InputError, match="nothing is changed"):
            limits.save(c, fleet_id, list(FIXED_LIMITS), "diesel_engine", by="A", why="x", today=TODAY)
        with pytest.raises(InputError, match="say why"):
            limits.save(c, fleet_id, with_watch("fe", 25.0), "diesel_engine", by="A", why=" ", today=TODAY)
        limits.save(c, fleet_id, with_watch("fe", 25.0), "diesel_engine", by="A", why="Maker's letter", today=TODAY)
    worker.drain_queue(db, TODAY)  # what it touches is evaluated by a worker
    found = judged(db, fleet, "S003")
    assert (found["proposed"], found["signed"]) == ("watch", "run_on")
    with settling(db, fleet_id, TODAY) as c:
        newest, oldest = limits.versions(c)
        assert newest["changed"] == ["diesel engines, iron high: 75/150 → 25/150"]
        [verdict] = verdicts.of_sample(c, sample_of(db, fleet, "S003")["sample_id"])
    assert verdict["limit_set_id"] == oldest["limit_set_id"]


@pytest.mark.parametrize(("form", "field"), [
    ({"watch.fe.high": "200"}, "Iron high"), ({"watch.fe.high": "x"}, "watch.fe.high"), ({"watch.fe.high": "nan"}, "watch.fe.high"),
    ({"watch.fe.high": ""}, "Iron high"), ({"new.key": "mo", "new.watch": "5"}, "Molybdenum"),
    ({"new.key": "fe", "new.watch": "5", "new.act": "6"}, "Iron"), ({"new.key": "bogus"}, "new"),
])  # fmt: skip
def test_a_limit_that_contradicts_itself_is_refused_by_name(form, field):
    rows = [r for r in FIXED_LIMITS if r.duty == "diesel_engine"]
    typed = {f"{w}.{r.key}.{r.side}": str(getattr(r, w)) for r in rows for w in ("watch", "act")} | form
    with pytest.raises(InputError) as refused:
        limits.typed(rows, "diesel_engine", typed)
    assert refused.value.field == field


def test_what_history_would_set_says_when_it_cannot(db, fleet):
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        found = limits.suggestions(c, "T1 engine", rows_of("fe"), TODAY)[("fe", "high")]
    assert found["n"] == 5
    assert "too few" in found["normal"]


def test_what_history_would_set_counts_as_the_fixed_limit_beside_it_does(db, fleet):
    take(db, fleet, *eight_more())
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        found = limits.suggestions(c, "T1 engine", rows_of("fe", "si", "bn"), TODAY)
        values = c.execute("SELECT values FROM sample WHERE compartment_id IS NOT NULL ORDER BY sample_id").fetchall()
    x = {k: np.array([v["values"][INDEX[k]] for v in values]) for k in ("fe", "si", "bn")}
    assert found[("fe", "high")]["normal"].watch == pytest.approx(x["fe"].mean() + 2 * x["fe"].std(ddof=1))
    silicon = x["si"] - 5  # "above new oil"; the new oil has 5
    assert found[("si", "high")]["normal"].act == pytest.approx(silicon.mean() + 3 * max(silicon.std(ddof=1), 0.3), rel=0.1)
    base = 100 * (x["bn"] / 10 - 1)  # per cent from a new oil of 10
    assert found[("bn", "low")]["normal"].watch == pytest.approx(base.mean() - 2 * base.std(ddof=1))
    assert -100 < found[("bn", "low")]["lognormal"].watch < base.min()  # logarithms of shares, which are above zero
    assert found[("bn", "low")]["percentile"].watch_ci[0] is None  # thirteen values cannot bound a twentieth from below


def test_history_is_played_through_every_way_of_judging(db, leaking):
    fleet_id, place = fleets.find(db, leaking), sample_of(db, leaking, "C1")
    with settling(db, fleet_id, TODAY) as c:
        verdicts.record_finding(c, fleet_id, place["compartment_id"], date(2026, 1, 10), "coolant", "", by="W", today=TODAY)
        found = backtest.backtest(c, TODAY, {"a low iron limit": with_watch("fe", 25.0)})
    ways = {w.key: w for w in found["ways"]}
    assert (found["samples"], found["findings"]) == (6, 1)
    assert (ways["all"].spoken, ways["all"].lead_days, ways["all"].lead_samples, ways["all"].idle) == (1, 21, 1, 0)
    assert ways["set a low iron limit"].watch == 5
    assert ways["set a low iron limit"].lead_samples > 1
    assert ways["statistical"].spoken == 0  # five samples are no family history
    assert ways["statistical"].missed == ("MV Test engine",)


# ---- precision -------------------------------------------------------------------------------------


def precision_form(**changes) -> dict[str, str]:
    return {f"{n}.{p.key}": repr(getattr(p, n)) for p in PRECISION for n in ("scale", "power", "constant", "floor")} | changes


def test_a_fleet_s_own_precision_is_a_version_and_moves_the_judgement(db, fleet):
    take(db, fleet, row("P1", "2025-12-20", 3690, 190, False, fe=170))
    assert judged(db, fleet, "P1")["proposed"] == "act"  # iron 20 above act, many standard deviations
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        limits.save_precision(c, fleet_id, precision_form(**{"constant.fe": "25"}), by="A", why="An old instrument", today=TODAY)
        [own] = [p for p in limits.precision_rows(c, TODAY) if p.source == "set by the fleet"]
        assert (own.key, own.constant) == ("fe", 25.0)
        assert limits.precision_versions(c)[0]["why"] == "An old instrument"
    worker.drain_queue(db, TODAY)
    found = judged(db, fleet, "P1")
    assert found["proposed"] == "watch"  # 20 is now less than two standard deviations
    assert any("less than two standard deviations" in e for e in found["evidence"])
    assert precision.START.standard_deviation("fe", 100) < 2  # nobody else's precision has moved


@pytest.mark.parametrize(("form", "why", "field"), [
    ({}, "x", "precision"), ({"constant.fe": "1"}, " ", "why"), ({"scale.fe": "-1"}, "x", "fe"), ({"power.fe": "9"}, "x", "fe"),
    ({"scale.fe": "0", "floor.fe": "0"}, "x", "fe"), ({"scale.fe": "inf"}, "x", "scale.fe"), ({"scale.fe": "many"}, "x", "scale.fe"),
])  # fmt: skip
def test_a_precision_that_is_none_is_refused(db, fleet, form, why, field):
    fleet_id = fleets.find(db, fleet)
    with pytest.raises(InputError) as refused, db.fleet(fleet_id) as c:
        limits.save_precision(c, fleet_id, precision_form(**form), by="A", why=why, today=TODAY)
    assert refused.value.field == field


# ---- the lab's side, where it asks for another bottle ------------------------------------------------


def test_a_dirty_bottle_is_rejected_and_another_is_asked_for(db, fleet):
    take(db, fleet, row("D1", "2025-12-20", 3690, 190, False, si=60, al=14))
    fleet_id, place = fleets.find(db, fleet), sample_of(db, fleet, "D1")
    with settling(db, fleet_id, TODAY) as c:
        [hold] = inbox.inbox(c)["holds"]
        assert "resample" in hold["check"].offers
        held_samples.settle(c, fleet_id, hold["hold_id"], "rejected", "Bottle was dirty", "An Analyst", TODAY, again=True)
        [asked] = verdicts.resamples(c)
    assert (asked["compartment_id"], asked["what"]) == (place["compartment_id"], "Sample again")
    assert asked["due_on"] > TODAY
    take(db, fleet, row("D2", "2026-01-12", 3850, 350, False))
    sign(db, fleet, "D2", "run_on")
    with settling(db, fleet_id, TODAY) as c:
        assert verdicts.resamples(c) == []  # it came


def test_a_parcel_that_was_emptied_leaves_no_number_twice(db, fleet):
    fleet_id = fleets.find(db, fleet)
    place = sample_of(db, fleet, "S004")["compartment_id"]
    with settling(db, fleet_id, TODAY) as c:
        lab = labs.put(c, fleet_id, name="Lab A", way="hand", address="", key="", usual_days=9, depots=[], by="t")
        drawn = [
            parcels.draw(c, fleet_id, sample_no=f"P{i}", compartment_id=place, oil_id=None, batch="", on=TODAY, meter=3860 + i,
                         conditions={}, by="t", today=TODAY) for i in range(3)
        ]  # fmt: skip
        first = parcels.pack(c, fleet_id, drawn[:1], lab, "", "t", TODAY)
        parcels.pack(c, fleet_id, drawn[1:2], lab, "", "t", TODAY)
        parcels.unpack(c, fleet_id, drawn[0], "t")
        assert parcels.packing_list(c, first, TODAY) is None
        third = parcels.pack(c, fleet_id, drawn[2:], lab, "", "t", TODAY)
        assert parcels.packing_list(c, third, TODAY)["shipment"]["number"] == "P26-0003"
