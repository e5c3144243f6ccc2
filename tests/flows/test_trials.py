"""Trials: begun in the charge that runs, planned, followed by every result, stopped, adopted, fallen back from, rolled out."""

import copy
import json
import threading
from datetime import UTC, date, datetime, timedelta
from uuid import uuid4

import pytest

from conftest import HEADER, TODAY, approve_seen, healthy_rows, row, small_register, start_seen
from vornet.core.errors import InputError
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate, in_force, judgements, trials
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.pages import compartment
from vornet.flows.plan import service
from vornet.flows.register import register
from vornet.flows.work import cards, entries, notes


@pytest.fixture
def place(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        return fleet_id, c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]


def start(db, place, length, **more):
    with settling(db, place[0], TODAY) as c:
        return start_seen(c, place[0], place[1], length, "to see", "A Planner", TODAY, **more)


def one(db, place, trial_id=None):
    with db.fleet(place[0]) as c:
        return trials.listed(c, place[1], trial_id=trial_id)[0]


def standing(db, place):
    with db.fleet(place[0]) as c:
        return compartment.row_of(c, place[1])


def drawn(db, fleet, number, on, hours, today, **values):
    """A bottle of the running charge (filled at 3,500 h), read."""
    results.load(
        db, f"{HEADER}\n{row(number, on, 3500 + hours, hours, False, **values)}\n".encode(), fleet=fleet, name=f"{number}.csv", by="t"
    )
    evaluate.evaluate(db, fleet, today)


def test_it_plans_its_bottles_and_the_drain_moves(db, fleet, place):
    before = standing(db, place)
    trial_id = start(db, place, 600)
    t, now = one(db, place, trial_id), standing(db, place)
    assert t["steps"] == [300, 450, 600, 660] and (t["state"], t["before"], t["length"]) == ("running", 500, 600)
    assert now["interval_meter"] == 660 and now["due_day"] > before["due_day"]
    assert t["chance"] is not None and 0 <= t["chance"] < 0.05
    with db.fleet(place[0]) as c:
        rows = service.due_list(c, TODAY, 90, "", "bottles", 0)
        versions = in_force.said_of(c, place[1])
    [bottle] = rows["rows"]
    assert rows["counts"]["bottles"] == 1 and bottle["item"] == "Bottle for the trial"
    assert bottle["due_meter"] == pytest.approx(3500 + t["next_at"]) and TODAY <= bottle["due_day"] <= TODAY + timedelta(days=20)
    assert [v["origin"] for v in versions] == ["register", "trial"]


def test_while_it_runs_nothing_longer_is_proposed_and_nothing_else_approved(db, fleet, place):
    start(db, place, 600)
    now = standing(db, place)
    assert now["outcome"] != "lengthen"
    assert any(g["key"] == "trial" and g["bites"] for g in now["decision"]["guards"])
    with pytest.raises(InputError, match="a trial runs here"), settling(db, place[0], TODAY) as c:
        approve_seen(c, place[0], place[1], 525, "no", "A Planner", TODAY)
    with pytest.raises(InputError, match="a trial runs here already"):
        start(db, place, 665)


def test_two_who_begin_in_one_moment_begin_one_trial(db, fleet, place):
    """Both have looked before either has written: the second is told, and its interval is not kept."""
    both, answers = threading.Barrier(2), []

    def begin(length):
        try:
            with settling(db, place[0], TODAY) as c:
                c.execute("SELECT 1")
                both.wait(10)
                answers.append(start_seen(c, place[0], place[1], length, "", "A Planner", TODAY))
        except InputError as error:
            answers.append(error.why)

    threads = [threading.Thread(target=begin, args=(length,)) for length in (600, 575)]
    for t in threads:
        t.start()
    for t in threads:
        t.join(60)
    assert sum(isinstance(a, int) for a in answers) == 1 and any("runs here already" in str(a) for a in answers)
    with db.fleet(place[0]) as c:
        versions = in_force.said_of(c, place[1])
    assert [v["origin"] for v in versions] == ["register", "trial"]


@pytest.mark.parametrize(
    ("length", "said"),
    [
        (500, "longer interval than"),
        (450, "longer interval than"),
        (700, "beyond the 625 h"),
        (float("nan"), "longer"),
        (1001, "cap of 1000 h"),
    ],
)
def test_what_cannot_be_tried_is_refused_in_words(db, fleet, place, length, said):
    with pytest.raises(InputError, match=said):
        start(db, place, length)
    assert standing(db, place)["interval_meter"] == 500


@pytest.mark.parametrize(("state", "said"), [("retired", "no longer in the fleet"), ("laid_up", "is laid up")])
def test_nothing_is_tried_on_a_unit_that_is_sold_or_laid_up(db, fleet, place, state, said):
    with db.fleet(place[0]) as c:
        c.execute("UPDATE unit SET state = %s", (state,))
    with pytest.raises(InputError, match=said):
        start(db, place, 600)


def test_a_trial_ends_when_its_unit_is_sold(db, fleet, place):
    start(db, place, 600)
    with db.fleet(place[0]) as c:
        c.execute("UPDATE unit SET state = 'retired'")
    evaluate.evaluate(db, fleet, TODAY, afresh=True)
    assert one(db, place)["state"] == "stopped" and "no longer in the fleet" in one(db, place)["ending"]


def test_too_late_in_the_charge_to_begin(db, fleet, place):
    with settling(db, place[0], TODAY) as c:
        unit_id = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        notes.read_meter(c, place[0], unit_id, 1, 3940, date(2026, 1, 14), "t", TODAY)
    with pytest.raises(InputError, match="begin after the next drain"):
        start(db, place, 550)


def test_good_bottles_make_it_ripe_and_it_is_adopted_by_name(db, fleet, place):
    trial_id = start(db, place, 600)
    with pytest.raises(InputError, match="cannot be adopted yet"), settling(db, place[0], TODAY) as c:
        trials.adopt(c, place[0], trial_id, "", "A Planner", TODAY)
    later = date(2026, 3, 10)
    for number, on, hours in (("T1", "2026-01-14", 355), ("T2", "2026-02-05", 452), ("T3", "2026-03-08", 598)):
        drawn(db, fleet, number, on, hours, later)
    t = one(db, place, trial_id)
    assert t["progress"]["word"] == "ripe" and [s["state"] for s in t["progress"]["steps"]][:3] == ["drawn"] * 3
    with settling(db, place[0], later) as c:
        trials.adopt(c, place[0], trial_id, "", "A Planner", later)
    now, t = standing(db, place), one(db, place, trial_id)
    assert (t["state"], t["ended_by"], now["interval_meter"]) == ("adopted", "A Planner", 600)
    with pytest.raises(InputError, match="has ended already"), settling(db, place[0], later) as c:
        trials.fall_back(c, place[0], trial_id, "changed my mind", "A Planner", later)


def test_a_bad_bottle_stops_it_at_once_and_everybody_is_told(db, fleet, place):
    trial_id = start(db, place, 600)
    later = date(2026, 2, 7)
    drawn(db, fleet, "T1", "2026-02-05", 452, later, soot_pct=4.6, bn=4.2)
    t, now = one(db, place, trial_id), standing(db, place)
    assert t["state"] == "stopped" and t["progress"]["stop"]["kind"] in ("trial_past", "trial_verdict")
    assert now["interval_meter"] <= 500 and "452" in t["ending"]
    with db.fleet(place[0]) as c:
        assert [s["trial_id"] for s in trials.stopped(c)] == [trial_id]
        versions = in_force.said_of(c, place[1])
        assert (versions[-1]["origin"], versions[-1]["approved_by"]) == ("fell_back", "A Planner")
        trials.take_note(c, place[0], trial_id, "A Planner")
        assert trials.stopped(c) == []


def test_falling_back_asks_why_and_brings_the_old_length_back(db, fleet, place):
    trial_id = start(db, place, 600)
    for why, said in (("  ", "say why"), ("the workshop cannot", None)):
        if said:
            with pytest.raises(InputError, match=said), settling(db, place[0], TODAY) as c:
                trials.fall_back(c, place[0], trial_id, why, "A Planner", TODAY)
            assert one(db, place, trial_id)["state"] == "running"
        else:
            with settling(db, place[0], TODAY) as c:
                trials.fall_back(c, place[0], trial_id, why, "A Planner", TODAY)
    assert one(db, place, trial_id)["state"] == "fell_back" and standing(db, place)["interval_meter"] == 500


def test_a_bottle_alone_goes_by_a_job_card_and_waits_for_its_result(db, fleet, place):
    trial_id = start(db, place, 600)
    people.add(db, fleet, f"tech{place[0]}", "Tove Tech", "warm-oil-and-rags", "technician")
    with settling(db, place[0], TODAY) as c:
        member = next(m for m in people.members(c) if m["login"] == f"tech{place[0]}")
        who = people.Visitor(member["account_id"], member["login"], "Tove Tech", place[0], fleet, ("technician",), "")
        unit_id = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        job_id = cards.make(c, place[0], unit_id, [], [], TODAY, True, "", "Tove Tech", [place[1]])
        [part] = cards.card(c, job_id, TODAY)["parts"]
        assert [s.key for s in part["steps"]] == ["safe", "meter", "warm", "sample", "end"]
        assert part["kit"].refill is None and part["title"] == "Bottle from engine"

        now = datetime(2026, 1, 15, 10, 0, tzinfo=UTC)

        def said(part_id, key, value):
            at = datetime(2026, 1, 15, 9, 0, tzinfo=UTC)
            return {"id": str(uuid4()), "part": part_id, "key": key, "value": value, "at": at.timestamp() * 1000}

        answer = entries.take(c, who, job_id, [said(part["part_id"], "done", {})], now, TODAY)
        assert answer["refused"] and cards.card(c, job_id, TODAY)["parts"][0]["state"] == "open"
        entries.take(c, who, job_id, [
            said(None, "meter", 3860), said(part["part_id"], "sample_no", "T-BOTTLE"), said(part["part_id"], "done", {}),
        ], now, TODAY)  # fmt: skip
        assert cards.card(c, job_id, TODAY)["parts"][0]["state"] == "done"
        bottle = c.execute("SELECT * FROM bottle WHERE sample_no = 'T-BOTTLE'").fetchone()
        assert (bottle["oil_hours"], bottle["drain_id"]) == (360, None)
        assert c.execute("SELECT count(*) AS n FROM drain WHERE superseded_by IS NULL").fetchone()["n"] == 6
    t = one(db, place, trial_id)
    assert "waits" in [s["state"] for s in t["progress"]["steps"]]


@pytest.fixture
def family(db):
    """Four ferries of one family, healthy."""
    name = f"Family {uuid4().hex[:8]}"
    document = small_register(name)
    for key in ("units", "readings", "drains"):
        document[key] = [
            {**copy.deepcopy(r), "unit": f"MV Test {n}"} for n in range(4) for r in document[key]
        ]  # fmt: skip
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    lines = [line.replace("MV Test,", f"MV Test {n},").replace("S00", f"F{n}0") for n in range(4) for line in healthy_rows()]
    results.load(db, ("\n".join([HEADER, *lines]) + "\n").encode(), fleet=name, name="all.csv", by="t")
    evaluate.evaluate(db, name, TODAY)
    return name


def test_a_family_follows_once_its_trials_are_adopted(db, family):
    fleet_id = fleets.find(db, family)
    with settling(db, fleet_id, TODAY) as c:
        ids = [r["compartment_id"] for r in trials.mates(c, "T1 engine")]
        with pytest.raises(InputError, match="choose at least one"):
            trials.roll_out(c, fleet_id, "T1 engine", 600, [], "", "A Planner", TODAY)
        with pytest.raises(InputError, match="none can try it"), c.transaction():
            trials.roll_out(c, fleet_id, "T1 engine", 900, ids[:2], "", "A Planner", TODAY)
        rollout_id, refused = trials.roll_out(c, fleet_id, "T1 engine", 600, ids[:2], "cheaper", "A Planner", TODAY)
        assert refused == []
    with settling(db, fleet_id, TODAY) as c, pytest.raises(InputError, match="have to be adopted first"):
        trials.follow_suit(c, fleet_id, rollout_id, ids[2:], "A Planner", TODAY)
    later = date(2026, 3, 10)
    lines = [row(f"R{n}{k}", on, 3500 + h, h, False).replace("MV Test,", f"MV Test {n},")
             for n in range(2) for k, (on, h) in enumerate((("2026-01-14", 355), ("2026-02-05", 452), ("2026-03-08", 598)))]  # fmt: skip
    results.load(db, ("\n".join([HEADER, *lines]) + "\n").encode(), fleet=family, name="r.csv", by="t")
    evaluate.evaluate(db, family, later)
    with settling(db, fleet_id, later) as c:
        for t in trials.listed(c, rollout_id=rollout_id):
            trials.adopt(c, fleet_id, t["trial_id"], "", "A Planner", later)
    with settling(db, fleet_id, later) as c:
        found = trials.rollout(c, rollout_id)
        assert found["ready"] and {r["compartment_id"] for r in found["rest"]} == set(ids[2:])
        done, refused = trials.follow_suit(c, fleet_id, rollout_id, ids[2:], "A Planner", later)
        assert done == ids[2:] and refused == []
        trials.close(c, fleet_id, rollout_id, "done", "A Planner", later)
        with pytest.raises(InputError, match="closed already"):
            trials.close(c, fleet_id, rollout_id, "again", "A Planner", later)
    rows = judgements.intervals(db, family)
    assert {r["current_h"] for r in rows} == {600}
    assert [r["trial"] and (r["trial"]["state"], r["trial"]["length_h"]) for r in rows] == [("adopted", 600)] * 2 + [None] * 2
