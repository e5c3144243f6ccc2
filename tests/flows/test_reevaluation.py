"""What has not changed is not worked again, and what has changed is: families by digest, single compartments beside them."""

import json
from dataclasses import replace
from datetime import date, timedelta

import pytest

from conftest import HEADER, TODAY, fresh_database, healthy_rows, row, small_register
from vornet.core.limits import FIXED_LIMITS
from vornet.flows.house import fleets
from vornet.flows.judge import decision_record, digests, evaluate, limits, verdicts
from vornet.flows.judge.settle import settle
from vornet.flows.lab import held_samples, results
from vornet.flows.register import register
from vornet.store.database import Database


@pytest.fixture(scope="module")
def db(worker_id):
    """A database with a queue nobody else works on: a worker would evaluate what these tests watch."""
    database = Database(fresh_database(f"test_{worker_id}_again"), size=6)
    yield database
    database.close()


@pytest.fixture
def two(db, fleet_name, monkeypatch):
    """A ferry with an engine and, in another family, a gearbox; batches so small that each family is one."""
    document = small_register(fleet_name)
    engine = document["units"][0]["compartments"][0]
    document["units"][0]["compartments"].append({**engine, "compartment": "gearbox", "kind": "gearbox", "family": "T1 gearbox"})
    document["drains"] += [{**d, "compartment": "gearbox", "filter_changed": False} for d in document["drains"]]
    register.load(db, json.dumps(document).encode(), by="test", today=TODAY)
    gears = [r.replace("engine", "gearbox", 1).replace("S0", "G0", 1) for r in healthy_rows()]
    results.load(db, ("\n".join([HEADER, *healthy_rows(), *gears]) + "\n").encode(), fleet=fleet_name, name="a.csv", by="test")
    monkeypatch.setattr(evaluate, "AT_ONCE", 5)
    monkeypatch.setattr(evaluate, "crc32", lambda name: 0 if b"engine" in name else 1)
    evaluate.evaluate(db, fleet_name, TODAY)
    return fleet_name


def written(db, fleet):
    """{family: the transaction its standing was written in} and the parts that are known."""
    with db.fleet(fleets.find(db, fleet)) as c:
        rows = c.execute(
            "SELECT family, s.xmin::text::bigint AS tx FROM standing s JOIN compartment USING (fleet_id, compartment_id)"
        ).fetchall()
        parts = c.execute("SELECT part, families FROM evaluated ORDER BY part").fetchall()
    return {r["family"]: r["tx"] for r in rows}, {p["part"]: p["families"] for p in parts}


def again(db, fleet, today=TODAY, **more):
    """Families that evaluating again wrote."""
    before, _ = written(db, fleet)
    evaluate.evaluate(db, fleet, today, **more)
    after, _ = written(db, fleet)
    return {f for f in after if after[f] != before.get(f)}


BOTH = {"T1 engine", "T1 gearbox"}


def test_nothing_changed_nothing_written(db, two):
    assert written(db, two)[1] == {"": [], "1 of 2": ["T1 engine"], "2 of 2": ["T1 gearbox"], "learned": []}
    assert again(db, two) == set()
    assert again(db, two, afresh=True) == BOTH
    assert again(db, two) == set()


def test_batches_of_another_size_start_anew(db, two, monkeypatch):
    monkeypatch.setattr(evaluate, "AT_ONCE", 1000)
    assert again(db, two) == BOTH
    assert set(written(db, two)[1]) == {"", "1 of 1", "learned"}
    monkeypatch.setattr(evaluate, "AT_ONCE", 5)
    assert again(db, two) == BOTH  # what had been kept of the smaller ones is gone


def test_another_day_other_forecasts(db, two):
    assert again(db, two, TODAY + timedelta(days=1)) == BOTH


def test_a_new_sample_concerns_its_family(db, two):
    results.load(db, f"{HEADER}\n{row('N1', '2025-12-20', 3690, 190, False)}\n".encode(), fleet=two, name="b.csv", by="test")
    assert again(db, two) == {"T1 engine"}
    with db.fleet(fleets.find(db, two)) as c:
        assert c.execute("SELECT 1 FROM evaluation JOIN sample USING (fleet_id, sample_id) WHERE sample_no = 'N1'").fetchone()


def test_a_limit_concerns_its_duty(db, two):
    fleet_id = fleets.find(db, two)
    changed = [replace(r, act=r.act + 5) if (r.duty, r.key, r.side) == ("gear", "fe", "high") else r for r in FIXED_LIMITS]
    with db.fleet(fleet_id) as c:
        limits.save(c, fleet_id, changed, "gear", by="An Analyst", why="gearboxes of ours run dirtier", today=TODAY)
    assert again(db, two) == {"T1 gearbox"}


def test_a_signature_concerns_its_family(db, two):
    fleet_id = fleets.find(db, two)
    with db.fleet(fleet_id) as c:
        sample = c.execute("SELECT sample_id FROM sample WHERE sample_no = 'S004'").fetchone()
        verdicts.sign(c, fleet_id, sample["sample_id"], "watch", by="An Analyst", today=TODAY, reason="heard it knock")
    changed = again(db, two)
    assert changed <= {"T1 engine"}  # signing evaluates its compartment at once; the other family stays as it was


def test_a_drain_evaluated_by_itself_is_no_longer_what_the_whole_was_worked_from(db, two):
    fleet_id = fleets.find(db, two)
    with db.fleet(fleet_id) as c:
        mine = c.execute("SELECT compartment_id FROM compartment WHERE name = 'gearbox'").fetchone()["compartment_id"]
    evaluate.evaluate(db, two, TODAY, [mine])
    # the ferry's other compartment keeps it company in the screening, so both families are looked at anew
    assert "" not in written(db, two)[1]
    assert "2 of 2" not in written(db, two)[1]
    evaluate.evaluate(db, two, TODAY)
    assert set(written(db, two)[1]) == {"", "1 of 2", "2 of 2", "learned"}


def test_a_figure_poured_is_learned_from_though_no_judgement_rests_on_it(db, two, monkeypatch):
    asked = []
    monkeypatch.setattr(evaluate.learned, "refresh", lambda *given: asked.append(given[2:]))
    evaluate.evaluate(db, two, TODAY)
    assert asked == []
    drain = {"unit": "MV Test", "compartment": "engine", "on": "2026-01-05", "meter": 3800, "volume_in_l": 49}
    register.load(db, json.dumps({"fleet": two, "drains": [drain]}).encode(), by="test", today=TODAY)
    evaluate.evaluate(db, two, TODAY)
    assert asked == [(None,)]


def test_other_rules_other_judgements(db, two, monkeypatch):
    monkeypatch.setattr(digests, "rules", lambda: b"others")
    assert again(db, two) == BOTH


def test_holds_stand_while_nothing_changes_and_a_release_is_seen(db, two):
    fleet_id = fleets.find(db, two)
    bad = row("BAD", "2025-12-20", 3690, 190, False, v40=9.0, v100=14.0)
    results.load(db, f"{HEADER}\n{bad}\n".encode(), fleet=two, name="b.csv", by="test")
    evaluate.evaluate(db, two, TODAY)
    judged = "SELECT proposed FROM evaluation JOIN sample USING (fleet_id, sample_id) WHERE sample_no = 'BAD'"
    sql = "SELECT reason, settlement FROM hold JOIN sample USING (fleet_id, sample_id) WHERE sample_no = 'BAD' ORDER BY reason"
    with db.fleet(fleet_id) as c:
        held = c.execute(sql).fetchall()
        assert c.execute(judged).fetchone()["proposed"] == -1
    assert "viscosity_order" in [h["reason"] for h in held]
    assert again(db, two) == set()
    with db.fleet(fleet_id) as c:
        assert c.execute(sql).fetchall() == held
        holds = c.execute("SELECT hold_id, sample_id FROM hold WHERE settled_at IS NULL").fetchall()
        for h in holds:
            held_samples.settle(c, fleet_id, h["hold_id"], "released", "measured twice, it is so", by="An Analyst", today=TODAY)
        settle(c, fleet_id, TODAY)
        assert c.execute(judged).fetchone()["proposed"] >= 0


def test_a_decision_is_kept_small_and_opens_whole(db, two):
    with db.fleet(fleets.find(db, two)) as c:
        kept = c.execute("SELECT decision, slopes FROM standing JOIN compartment USING (fleet_id, compartment_id) WHERE name = 'engine'")
        found = kept.fetchone()
    assert "slopes" not in found["decision"]
    opened = decision_record.opened(found["decision"], found["slopes"])
    bn = next(p for p in opened["properties"] if p["key"] == "bn")
    assert [s["charge"] for s in bn["slopes"]] == [1, 2, 3, 4, 5]
    used = [s["slope"] for s in bn["slopes"] if s["used"]]
    assert min(used) <= bn["mean_slope"] <= max(used)
    assert len(json.dumps(opened)) > len(json.dumps(found["decision"])) + len(found["slopes"])
    # one kept before slopes were packed beside it opens as it is
    old = decision_record.opened({"properties": [{"key": "bn", "slopes": [1]}], "guards": [{"key": "cap"}]}, None)
    assert (old["properties"][0]["slopes"], old["properties"][0]["state"], old["guards"][0]["lifts"]) == ([1], "answered", None)
    assert decision_record.opened(None, None) is None


def test_a_fleet_with_nothing_in_it_evaluates_to_nothing(db, fleet_name):
    fleets.find_or_make(db, fleet_name)
    assert evaluate.evaluate(db, fleet_name, date(2026, 1, 15)) == {"compartments": 0, "samples": 0, "held": 0, "set_aside": []}


def test_an_oil_s_cap_that_changed_is_judged_though_nothing_else_did(db, fleet):
    """What an oil may run is no part of any compartment's history: it is looked at all the same."""
    evaluate.evaluate(db, fleet, TODAY)
    document = small_register(fleet)
    document["oils"] = [{**document["oils"][0], "cap_h": 400}]
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    with db.fleet(fleets.find(db, fleet)) as c:
        found = c.execute("SELECT outcome, proposed_meter FROM standing").fetchone()
    assert found == {"outcome": "shorten", "proposed_meter": 400.0}
