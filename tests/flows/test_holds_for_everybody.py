"""Intervals as a fleet meets them: histories that must not stop anybody else, new oil known alike wherever one looks, an oil
changed after the approval, the plan of the database, due days of what stands, and what the Board says first."""

import json
from datetime import timedelta

import numpy as np
import pytest
from fastapi.testclient import TestClient
from typer.testing import CliRunner

from conftest import HEADER, TODAY, approve_seen, healthy_rows, row, small_register
from vornet.flows.house import fleets, people
from vornet.flows.judge import afresh, aside, evaluate, fleet_history, holds, in_force, judgements, verdicts
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.pages import board, compartment
from vornet.flows.register import dump, register
from vornet.sim import use
from vornet.store.database import query
from vornet.web.app import create_app


def built(db, name, document, rows, header=HEADER):
    register.load(db, json.dumps({**document, "fleet": name}).encode(), by="test", today=TODAY)
    results.load(db, ("\n".join([header, *rows]) + "\n").encode(), fleet=name, name="r.csv", by="test")
    return evaluate.evaluate(db, name, TODAY)


def units_of(document, count):
    """The same engine in so many units, with their readings and drains."""
    unit, out = document["units"][0], {**document, "units": [], "readings": [], "drains": []}
    for i in range(count):
        name = f"MV Test {i}"
        out["units"].append({**unit, "unit": name})
        out["readings"] += [{**r, "unit": name} for r in document["readings"]]
        out["drains"] += [{**d, "unit": name} for d in document["drains"]]
    return out


def rows_of(count, without=()):
    """Healthy rows of those units; columns ``without`` are left blank."""
    out = []
    blank = [HEADER.split(",").index(k) for k in without]
    for i in range(count):
        for line in healthy_rows():
            cells = line.replace("MV Test", f"MV Test {i}", 1).split(",")
            cells[0] = f"{cells[0]}-{i}"
            for at in blank:
                cells[at] = ""
            out.append(",".join(cells))
    return out


def one(db, name, sql):
    with settling(db, fleets.find(db, name), TODAY) as c:
        return c.execute(sql).fetchone()


@pytest.fixture
def shown(db, fleet_name):
    """Asks for a page of the fleet as its planner."""
    clients = {}

    def get(path):
        if not clients:
            people.add(db, fleet_name, fleet_name.replace(" ", "-"), "P", "right-and-long", "planner")
            clients[0] = TestClient(create_app(db, today=TODAY), follow_redirects=True)
            clients[0].post("/sign-in", data={"login": fleet_name.replace(" ", "-"), "password": "right-and-long"})
        return clients[0].get(path).text

    return get


# ---- nobody stops anybody else ---------------------------------------------------------------------------------
def poison(monkeypatch, where, figure=666.0):
    """The judgement fails wherever a history holds this much iron, as an unforeseen history might make it."""
    real = getattr(where, "judge_loaded" if where is evaluate else "screen")

    def fails(given, *rest, **more):
        history = given.history if where is evaluate else given
        if (history.samples.values[:, 0] == figure).any():
            raise ZeroDivisionError("float division by zero")
        return real(given, *rest, **more)

    monkeypatch.setattr(where, real.__name__, fails)


@pytest.mark.parametrize("shares", [False, True], ids=["in one go", "in shares"])
def test_it_is_set_aside_in_a_fleet_that_is_judged_in_parts_too(db, fleet_name, monkeypatch, shares):
    """A large fleet is judged some families at a time: the one is left out of its part, which goes on without it."""
    monkeypatch.setattr(evaluate, "AT_ONCE", 3)
    document = units_of(small_register(fleet_name), 5)
    for i, unit in enumerate(document["units"]):
        unit["compartments"] = [{**x, "family": f"family {i // 2}"} for x in unit["compartments"]]
    rows = rows_of(5)
    rows[7] = rows[7].replace(",30.000,", ",666,", 1)
    poison(monkeypatch, evaluate)
    counts = built(db, fleet_name, document, rows)
    fleet_id = fleets.find(db, fleet_name)
    with db.fleet(fleet_id) as c:
        assert len(list(evaluate.parts_of(fleet_history.load(c, TODAY)))) > 1
        if shares:
            afresh.begin(c, fleet_id, TODAY)
            (run,) = {str(r["run"]) for r in c.execute("SELECT run FROM judging")}
            for share in range(afresh.SHARES):
                afresh.judge_share(c, fleet_id, run, share, TODAY)
            counts = {"set_aside": aside.list_of(c)}
    assert [(a["unit"], a["trouble"].partition(":")[0]) for a in counts["set_aside"]] == [("MV Test 1", "ZeroDivisionError")]
    outcomes = {r["unit"]: r["outcome"] for r in judgements.intervals(db, fleet_name)}
    assert {u: outcomes.get(f"MV Test {u}") for u in (0, 2, 3, 4)} == dict.fromkeys((0, 2, 3, 4), "lengthen")


@pytest.mark.parametrize("at", ["judging", "screening"])
def test_a_history_that_stops_the_judgement_is_set_aside_by_name(db, fleet_name, shown, monkeypatch, at):

    rows = rows_of(5)
    rows[7] = rows[7].replace(",30.000,", ",666,", 1)
    assert ",666," in rows[7]
    where = evaluate if at == "judging" else holds
    with monkeypatch.context() as patched:
        poison(patched, where)
        counts = built(db, fleet_name, units_of(small_register(fleet_name), 5), rows)
        assert [(a["unit"], a["compartment"]) for a in counts["set_aside"]] == [("MV Test 1", "engine")]
        assert "ZeroDivisionError" in counts["set_aside"][0]["trouble"]
        outcomes = {r["unit"]: r["outcome"] for r in judgements.intervals(db, fleet_name)}
        assert {u: outcomes.get(u) for u in ("MV Test 0", "MV Test 2", "MV Test 3", "MV Test 4")} == dict.fromkeys(
            ("MV Test 0", "MV Test 2", "MV Test 3", "MV Test 4"), "lengthen")  # fmt: skip
        assert "Set aside" in shown("/")
        assert "MV Test 1 engine" in shown("/")
        # tried again every time, and by the command, which says so
        again = evaluate.evaluate(db, fleet_name, TODAY)
        assert [a["unit"] for a in again["set_aside"]] == ["MV Test 1"]
    mended = evaluate.evaluate(db, fleet_name, TODAY)
    assert mended["set_aside"] == []
    assert "Set aside" not in shown("/")
    assert {r["unit"] for r in judgements.intervals(db, fleet_name)} == {f"MV Test {i}" for i in range(5)}


def test_the_command_names_who_was_set_aside(db, fleet_name, monkeypatch):
    import contextlib

    from vornet import cli

    rows = rows_of(2)
    rows[2] = rows[2].replace(",30.000,", ",666,", 1)
    poison(monkeypatch, evaluate)
    built(db, fleet_name, units_of(small_register(fleet_name), 2), rows)
    monkeypatch.setattr(cli, "database", lambda: contextlib.nullcontext(db))
    done = CliRunner().invoke(cli.app, ["evaluate", "--fleet", fleet_name, "--today", TODAY.isoformat()])
    assert done.exit_code == 0, done.output
    assert "set aside: MV Test 0 engine" in done.output


def test_one_of_a_few_is_set_aside_too_and_what_stood_of_it_stays(db, fleet_name, monkeypatch):
    built(db, fleet_name, units_of(small_register(fleet_name), 3), rows_of(3))
    before = {r["unit"]: r for r in judgements.intervals(db, fleet_name)}
    with settling(db, fleets.find(db, fleet_name), TODAY) as c:
        ids = {r["unit"]: r["compartment_id"] for r in c.execute(
            "SELECT u.name AS unit, compartment_id FROM compartment JOIN unit u USING (fleet_id, unit_id)")}  # fmt: skip
        c.execute("UPDATE sample SET values[1] = 666 WHERE compartment_id = %s AND sample_no LIKE 'S004%%'", [ids["MV Test 2"]])
    poison(monkeypatch, evaluate)
    with settling(db, fleets.find(db, fleet_name), TODAY) as c:
        counts = evaluate.evaluate_within(c, fleets.find(db, fleet_name), TODAY, list(ids.values()))
        assert [a["unit"] for a in aside.list_of(c)] == ["MV Test 2"]
    assert [a["unit"] for a in counts["set_aside"]] == ["MV Test 2"]
    assert {r["unit"]: r for r in judgements.intervals(db, fleet_name)}["MV Test 2"] == before["MV Test 2"]


def test_a_row_with_the_labs_hours_and_no_meter_neither_loops_nor_lengthens(db, fleet_name):
    document = small_register(fleet_name)
    days = ("2025-02-10", "2025-04-10", "2025-06-10", "2025-08-10", "2025-10-10")
    rows = [row(f"H{i}", day, 1300 + 500 * i, 300, drained=False) for i, day in enumerate(days)]
    cells = rows[2].split(",")
    cells[4] = ""
    rows[2] = ",".join(cells)
    built(db, fleet_name, document, rows)
    found = judgements.intervals(db, fleet_name)[0]
    assert (found["outcome"], found["evidence_cap_h"]) == ("not_enough", 375)
    assert one(db, fleet_name, "SELECT max(oil_hours) AS h FROM evaluation")["h"] == 300


# ---- new oil ---------------------------------------------------------------------------------------------------
@pytest.fixture
def gappy(db, fleet_name):
    """Four engines on an oil whose record knows no oxidation and no acid number, sampled twice a charge."""
    document = units_of(small_register(fleet_name), 4)
    document["oils"] = [{k: v for k, v in document["oils"][0].items() if k not in ("oxidation", "an")}]
    rows = rows_of(4)
    for i in range(4):
        for n, day in enumerate(("2025-02-01", "2025-04-01", "2025-06-01", "2025-08-01", "2025-10-01")):
            rows.append(row(f"M{n}-{i}", day, 1250 + 500 * n, 250, drained=False).replace("MV Test", f"MV Test {i}", 1))
    built(db, fleet_name, document, rows)
    return fleet_name


def test_estimates_are_kept_and_a_few_are_judged_as_all_are(db, gappy):
    fleet_id = fleets.find(db, gappy)
    with settling(db, fleet_id, TODAY) as c:
        kept = c.execute("SELECT steps, samples FROM new_oil_estimate").fetchone()
        assert {key for key, *_ in kept["steps"]} >= {"oxidation", "an"}
        assert kept["samples"] == 40
        first = c.execute("SELECT sample_id, proposed, evidence FROM evaluation ORDER BY 1").fetchall()
        ids = [r["compartment_id"] for r in c.execute("SELECT compartment_id FROM compartment ORDER BY 1")]
        before = judgements.intervals(db, gappy)
        evaluate.evaluate_within(c, fleet_id, TODAY, ids[:1])
        assert c.execute("SELECT sample_id, proposed, evidence FROM evaluation ORDER BY 1").fetchall() == first
    assert judgements.intervals(db, gappy) == before
    answer = before[0]
    assert answer["outcome"] == "lengthen"
    facts = compartment.load  # the page of one compartment asks the same figure
    with settling(db, fleet_id, TODAY) as c:
        alone = facts(c, ids[0], TODAY).loaded.history.known.at(np.array([0])).value
        whole = fleet_history.load(c, TODAY).history.known.at(np.array([0])).value
    np.testing.assert_allclose(alone, whole)


def test_a_part_judged_before_the_whole_ever_was_makes_the_estimates_itself(db, gappy):
    fleet_id = fleets.find(db, gappy)
    with settling(db, fleet_id, TODAY) as c:
        whole = c.execute("SELECT steps FROM new_oil_estimate").fetchone()["steps"]
        c.execute("DELETE FROM new_oil_estimate")
        one_of = c.execute("SELECT min(compartment_id) AS i FROM compartment").fetchone()["i"]
        evaluate.evaluate_within(c, fleet_id, TODAY, [one_of])
        assert c.execute("SELECT steps FROM new_oil_estimate").fetchone()["steps"] == whole


def test_a_record_put_right_ends_the_estimate(db, gappy):
    document = units_of(small_register(gappy), 4)
    register.load(db, json.dumps({"fleet": gappy, "oils": document["oils"], "units": []}).encode(), by="test", today=TODAY)
    evaluate.evaluate(db, gappy, TODAY)
    with settling(db, fleets.find(db, gappy), TODAY) as c:
        history = fleet_history.load(c, TODAY).history
    assert not history.known.at(np.array([0])).estimated.any()


# ---- another oil after the approval ----------------------------------------------------------------------------
def test_an_approved_interval_falls_back_when_another_oil_is_poured(db, fleet):
    fleet_id = fleets.find(db, fleet)
    assert judgements.intervals(db, fleet)[0]["outcome"] == "lengthen"
    with settling(db, fleet_id, TODAY) as c:
        i = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        approve_seen(c, fleet_id, i, 625, "as proposed, rounded", "P", TODAY)
    later = TODAY + timedelta(days=20)
    document = {
        "fleet": fleet, "oils": [{"name": "Other 10W-40", "bn": 9, "an": 2, "oxidation": 8, "nitration": 5, "v100": 14.2, "cap_h": 450}],
        "units": [], "drains": [{"unit": "MV Test", "compartment": "engine", "on": later.isoformat(), "meter": 4020, "volume_out_l": 54,
                                 "oil": "Other 10W-40"}],
    }  # fmt: skip
    register.load(db, json.dumps(document).encode(), by="test", today=later)
    evaluate.evaluate(db, fleet, later)
    found = judgements.intervals(db, fleet)[0]
    assert (found["current_h"], found["outcome"], found["proposed_h"], found["charges"]) == (500, "shorten", 450, 0)
    with db.fleet(fleet_id) as c:
        course = [r for r in in_force.course(c, i) if r["fact"] == "length"]
    assert [(r["value"], r["state"], r["why"]) for r in course] == [
        (500, "stood", "later"),
        (625, "stood", "oil_change"),
        (500, "stands", ""),
    ]
    out = dump.dump(db, fleet, later)
    assert next(o for o in out["oils"] if o["name"] == "Other 10W-40")["cap_h"] == 450  # and it comes back out


# ---- the plan of the database, and of the workshop -------------------------------------------------------------
def rows_touched(plan):
    """Rows that all nodes of an executed plan handed on or threw away; what is worked out once for all of them (whose fleet) apart."""
    loops = plan.get("Actual Loops", 1)
    mine = loops * (plan.get("Actual Rows", 0) + plan.get("Rows Removed by Filter", 0) + plan.get("Rows Removed by Join Filter", 0))
    return mine + sum(rows_touched(p) for p in plan.get("Plans", ()) if p.get("Parent Relationship") != "InitPlan")


@pytest.mark.parametrize("name", ["decisions", "compartment_names", "unit_names"])
def test_decisions_are_read_in_proportion_whatever_the_planner_knows(db, fleet_name, name):
    """No statistics, and every join planned as a nested loop, as it may be straight after a bulk load: each row is touched once."""
    built(db, fleet_name, units_of(small_register(fleet_name), 60), rows_of(60)[:5])
    with settling(db, fleets.find(db, fleet_name), TODAY) as c:
        c.execute("SET LOCAL enable_hashjoin = off")
        c.execute("SET LOCAL enable_mergejoin = off")
        c.execute("SET LOCAL enable_indexscan = off")
        c.execute("SET LOCAL enable_bitmapscan = off")
        everything = c.execute(f"SELECT count(*) AS n FROM {'unit' if name == 'unit_names' else 'compartment'}").fetchone()["n"]
        plan = c.execute("EXPLAIN (ANALYZE, FORMAT JSON) " + query(f"history.{name}")).fetchone()["QUERY PLAN"][0]["Plan"]
        whole = rows_touched(plan) - plan.get("Rows Removed by Filter", 0)  # other tests' fleets in the same table
    assert everything == 60 == whole
    assert len(judgements.intervals(db, fleet_name)) == 60


def test_the_application_may_have_statistics_collected_and_nothing_more(db, fleet):
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        c.execute(query("history.collect_statistics"))
        known = c.execute("SELECT reltuples FROM pg_class WHERE relname = 'standing'").fetchone()["reltuples"]
    assert known >= 0


def test_what_stands_still_past_due_is_due_and_on_the_plan(db, fleet_name, shown):
    document = small_register(fleet_name)
    document["readings"] = [*document["readings"][:1], {"unit": "MV Test", "on": "2025-12-01", "meter": 4200},
                            *({"unit": "MV Test", "on": f"2026-01-{d:02d}", "meter": 4200} for d in (1, 2, 3, 5, 7, 9, 11, 13))]  # fmt: skip
    document["units"][0]["compartments"][0].pop("interval_days")
    built(db, fleet_name, document, healthy_rows())
    found = one(db, fleet_name, "SELECT due_day, to_due, rate_per_day, urgency FROM standing")
    assert found["to_due"] < 0
    assert found["due_day"] is not None
    assert found["urgency"] in (2, 3)
    assert "MV Test" in shown("/plan?show=overdue")


@pytest.mark.parametrize("kind", use.KINDS)
def test_due_days_lie_inside_their_band_as_often_as_it_says(kind):
    """Units that were let run on after their forecast: about nine in ten, by simulation."""
    found = use.covered(kind, 4711, 300)
    assert found.forecasts >= 280
    assert 0.83 <= found.inside / found.forecasts <= 0.965


# ---- the screens tell the truth first --------------------------------------------------------------------------
@pytest.fixture
def trouble(db, fleet_name):
    """Four like engines: one well, one late, one with coolant in its oil that calls for a Stop, one whose iron calls for Act."""
    document = units_of(small_register(fleet_name), 4)
    for r in document["readings"]:
        if r["unit"] == "MV Test 1" and r["on"] == "2026-01-10":
            r["meter"] = 4300  # 300 h past due
    rows = [r for r in rows_of(4) if not r.startswith(("S004-2", "S004-3"))]
    rows.append(row("C2", "2025-11-01", 3500, 500, na=160, k=80, cu=40, water_ppm=900).replace("MV Test", "MV Test 2", 1))
    rows.append(row("C3", "2025-11-01", 3500, 500, fe=172).replace("MV Test", "MV Test 3", 1))
    built(db, fleet_name, document, rows)
    with settling(db, fleets.find(db, fleet_name), TODAY) as c:
        found = board.board(c, "all", "", "", 0, TODAY)
    return {r["unit"]: r for r in found["rows"]}, [r["unit"] for r in found["rows"]], found


def test_a_stop_stands_first_then_act_then_what_is_late(trouble):
    rows, order, _ = trouble
    assert rows["MV Test 2"]["last_proposed"] == 3
    assert order == ["MV Test 2", "MV Test 3", "MV Test 1", "MV Test 0"]
    assert [rows[u]["urgency"] for u in order] == [0, 1, 2 if rows["MV Test 1"]["headroom_now"] < 0 else 3, 5]


def test_headroom_is_what_holds_now(trouble, shown):
    rows, _, _ = trouble
    assert rows["MV Test 2"]["headroom_now"] <= 0 < rows["MV Test 2"]["headroom"]  # a Stop leaves none, whatever the oil could do
    assert rows["MV Test 3"]["headroom_now"] <= rows["MV Test 3"]["headroom"]
    text = shown(f"/compartments/{rows['MV Test 2']['compartment_id']}")
    figure = text.split('headroom-figure">')[1].split("</div>")[0]
    assert '<span class="num">0</span>' in figure
    assert "once repaired" in text


def test_a_compartment_opens_on_what_is_wrong_and_what_limits(trouble, db, fleet_name):
    rows, _, _ = trouble
    with settling(db, fleets.find(db, fleet_name), TODAY) as c:
        facts = compartment.load(c, rows["MV Test 2"]["compartment_id"], TODAY)
        assert compartment.panels_asked(facts, [])[:2] == ["na", "k"]
        assert "bn" in compartment.panels_asked(facts, [])
        assert compartment.panels_asked(facts, ["fe"]) == ["fe"]
        well = compartment.load(c, rows["MV Test 0"]["compartment_id"], TODAY)
        assert compartment.panels_asked(well, [])[0] == "bn"


def test_a_signed_act_taken_in_hand_makes_room(db, fleet_name, trouble):
    rows, _, _ = trouble
    fleet_id = fleets.find(db, fleet_name)
    with settling(db, fleet_id, TODAY) as c:
        sample = rows["MV Test 3"]["last_sample_id"]
        verdicts.sign(c, fleet_id, sample, verdict="act", by="A", today=TODAY, actions=(verdicts.Action("Look inside"),))
        after = {r["unit"]: r["urgency"] for r in board.board(c, "all", "", "", 0, TODAY)["rows"]}
    assert after["MV Test 3"] > 1
    assert after["MV Test 2"] == 0


def test_decide_says_why_not_longer_and_which_bottle_would_tell(db, fleet_name, shown):
    built(db, fleet_name, small_register(fleet_name), healthy_rows()[:2])
    assert "Next bottle:" in shown("/decide")
    opened = shown(f"/compartments/{one(db, fleet_name, 'SELECT compartment_id FROM compartment')['compartment_id']}")
    assert "Why not longer" in opened
    assert "more charge" in opened
    assert "Next best bottle" in opened
