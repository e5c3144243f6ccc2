"""The weeks from what falls due to visits on days: proposed, accepted, moved by hand, done; what goes wrong is said and loses nothing."""

import json
from datetime import date, timedelta

import icalendar
import pytest

from conftest import TODAY, small_register
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate
from vornet.flows.judge.settle import settling
from vornet.flows.plan import planned, stock
from vornet.flows.register import register
from vornet.flows.weeks import calendar, depots, done, feed, kit, levelling, tasks
from vornet.flows.work import cards, drain, notes, put_off
from vornet.io import calendar_file
from vornet.store.database import query

MONDAY = date(2026, 1, 12)
BY = "Pat Planner"


def register_of(fleet, **unit):
    """A ferry whose engine, gearbox and items fall due within weeks, and a bus that has no meter reading at all."""
    document = small_register(fleet)
    ferry = document["units"][0] | unit
    ferry["compartments"][0] |= {"filters": [{"part": "F-1", "approved": ["G-1"]}], "seals": [{"place": "plug", "part": "CW-26"}]}
    ferry["compartments"].append({"compartment": "gearbox", "kind": "gearbox", "system_volume_l": 20, "capacity_l": 18,
                                  "oil": "Test 15W-40", "interval_h": 500, "interval_days": 365})  # fmt: skip
    document["units"] = [ferry, {"unit": "Bus Test", "depot": "Town", "meter_unit": "km", "compartments": [
        {"compartment": "engine", "kind": "engine", "capacity_l": 28, "interval_km": 20000}]}]  # fmt: skip
    document["drains"].append({"unit": "MV Test", "compartment": "gearbox", "on": "2025-11-05", "meter": 3520, "volume_in_l": 18})
    document["service_items"] = [
        {"unit": "MV Test", "item": "Coolant", "every_days": 365, "parts": ["C-9"]},
        {"unit": "MV Test", "compartment": "engine", "item": "Belt", "every_days": 90},
        {"unit": "MV Test", "item": "Hoses", "every_days": 365},
    ]
    document["service_records"] = [
        {"unit": "MV Test", "item": "Coolant", "on": "2025-01-30", "outcome": "done"},
        {"unit": "MV Test", "item": "Hoses", "on": "2025-04-05", "outcome": "done"},
        {"unit": "MV Test", "compartment": "engine", "item": "Belt", "on": "2025-11-10", "outcome": "done"},
    ]
    return document


@pytest.fixture
def weeks(db, fleet):
    """(fleet's id, unit's id, depot's id by name) of a fleet with crew hours at the quay from Monday to Friday."""
    fleet_id = fleets.find(db, fleet)
    report = register.load(db, json.dumps(register_of(fleet)).encode(), by="t", today=TODAY)
    assert report.problems == []
    evaluate.evaluate(db, fleet, TODAY)
    with db.fleet(fleet_id) as c:
        found = {d.name: d.depot_id for d in depots.all_of(c, TODAY, 1).values()}
        depots.set_week(c, fleet_id, found["Quay"], [8, 8, 8, 8, 8, 0, 0], None, BY)
        units = {r["name"]: r["unit_id"] for r in c.execute("SELECT name, unit_id FROM unit").fetchall()}
    return fleet_id, units["MV Test"], found


def proposed(db, fleet_id, days=28, today=TODAY):
    with settling(db, fleet_id, today) as c:
        number = levelling.ask(c, fleet_id, today, days, BY)
    levelling.work_out(db, fleet_id, number)
    with db.fleet(fleet_id) as c:
        return number, levelling.proposal(c, number)


def accepted(db, fleet_id, days=28, today=TODAY):
    number, found = proposed(db, fleet_id, days, today)
    assert found["state"] == "ready", found["progress"]
    with settling(db, fleet_id, today) as c:
        levelling.accept(c, fleet_id, number, BY, today)
        return c.execute(query("weeks.planned")).fetchall()


def visits(db, fleet_id):
    with db.fleet(fleet_id) as c:
        span = {"visit_id": None, "first": date(2025, 12, 1), "last": date(2026, 12, 31), "depot_id": None}
        return c.execute(query("weeks.visits"), span).fetchall()


# ---- what falls due --------------------------------------------------------------------------------------------
def test_due_days_come_with_their_band_and_nothing_is_planned_past_its_cap(db, weeks):
    fleet_id, _, _ = weeks
    with db.fleet(fleet_id) as c:
        standing = c.execute(
            "SELECT * FROM standing JOIN compartment USING (fleet_id, compartment_id) WHERE name = 'engine' AND due_first IS NOT NULL"
        )
        s = standing.fetchone()
        found = {d.what: d for d in tasks.due_by(c, TODAY, TODAY + timedelta(days=90), depots.terms(c, fleet_id))}
    assert s["due_first"] <= s["due_day"] <= s["due_last"] and s["due_first"] < s["due_last"]
    engine = found["Drain engine"]
    assert engine.task.due == s["due_day"].toordinal() and (engine.first, engine.last) == (s["due_first"], s["due_last"])
    assert {"Drain engine", "Drain gearbox", "Coolant", "Belt, engine"} <= set(found)
    assert engine.task.latest >= engine.task.due >= engine.task.earliest >= TODAY.toordinal()
    assert engine.task.share_due == pytest.approx(1.0, abs=0.35) and engine.litres == 55


def test_a_unit_without_readings_and_one_whose_meter_stopped_are_said_plainly(db, fleet, weeks):
    fleet_id, _, _ = weeks
    with db.fleet(fleet_id) as c:
        assert [(u["unit"], u["why"]) for u in tasks.undated(c)] == [("Bus Test", "no readings")]
    document = register_of(fleet)
    document["readings"] += [{"unit": "Bus Test", "on": d, "meter": 5000} for d in ("2025-06-01", "2025-09-01", "2026-01-02")]
    document["drains"].append({"unit": "Bus Test", "compartment": "engine", "on": "2025-06-01", "meter": 5000, "volume_in_l": 28})
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    with db.fleet(fleet_id) as c:
        assert [(u["unit"], u["why"]) for u in tasks.undated(c)] == [("Bus Test", "its meter stands still")]


def test_the_first_drain_after_new_comes_early_and_once(db, fleet_name):
    document = small_register(fleet_name, drains=[], readings=[{"unit": "MV Test", "on": d, "meter": m} for d, m in
                              (("2026-01-02", 8), ("2026-01-08", 20), ("2026-01-14", 32))])  # fmt: skip
    document["units"][0]["compartments"][0]["first_drain_h"] = 50
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet_name, TODAY)
    fleet_id = fleets.find(db, fleet_name)
    with db.fleet(fleet_id) as c:
        s = c.execute("SELECT due_day, due_meter, due_driver, to_due FROM standing").fetchone()
    assert (s["due_driver"], s["due_meter"], s["to_due"]) == ("break-in", 50, 18) and s["due_day"] == date(2026, 1, 23)
    document["drains"] = [{"unit": "MV Test", "compartment": "engine", "on": "2026-01-15", "meter": 34, "volume_in_l": 55}]
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet_name, TODAY)
    with db.fleet(fleet_id) as c:
        after = c.execute("SELECT due_meter, due_driver FROM standing").fetchone()
    assert (after["due_meter"], after["due_driver"]) == (534, "meter")


def test_the_first_drain_after_an_overhaul_comes_early_and_once(db, fleet):
    document = small_register(fleet)
    document["units"][0]["compartments"][0]["first_drain_h"] = 60
    document["events"] = [{"unit": "MV Test", "compartment": "engine", "on": "2026-01-09", "meter": 3845, "kind": "overhaul"}]
    document["drains"].append({"unit": "MV Test", "compartment": "engine", "on": "2026-01-09", "meter": 3845, "volume_in_l": 55})
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    with db.fleet(fleets.find(db, fleet)) as c:
        s = c.execute("SELECT due_meter, due_driver FROM standing").fetchone()
    assert (s["due_meter"], s["due_driver"]) == (3905, "break-in")


def test_what_would_fall_into_a_lay_up_is_done_before_it(db, fleet):
    """Due about the end of January; laid up from the 26th: on the 25th at the latest."""
    register.load(db, json.dumps(register_of(fleet, lay_up_from="01-26", lay_up_to="03-31")).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        found = {d.what: d for d in tasks.due_by(c, TODAY, TODAY + timedelta(days=90), depots.terms(c, fleet_id))}
    assert date.fromordinal(found["Drain engine"].task.latest) == date(2026, 1, 25) and found["Drain engine"].why == "lay_up"
    refused = register.load(db, json.dumps(register_of(fleet, lay_up_from="01-26")).encode(), by="t", today=TODAY)
    assert "lay_up_to" in str(refused.problems[0])


def test_a_stop_put_off_and_an_action_stand_in_the_plan_and_leave_it_when_they_are_dealt_with(db, weeks):
    fleet_id, unit_id, _ = weeks
    with settling(db, fleet_id, TODAY) as c:
        none = dict.fromkeys(("compartment_id", "job_id", "entry_id", "level_left"))
        said = {"kind": "defect", "what": "hose end chafed", "part": "", "owner": "", "due_on": TODAY + timedelta(days=8), "by": "t"}
        c.execute(query("jobs.put_deferred"), {"fleet_id": fleet_id, "unit_id": unit_id, **none, **said})
        deferred_id = c.execute("SELECT deferred_id FROM deferred").fetchone()["deferred_id"]
    planned_rows = accepted(db, fleet_id)
    [visit] = [v for v in planned_rows if f"look:{deferred_id}" in v["keys"]]
    assert visit["on_day"] <= TODAY + timedelta(days=11)
    with settling(db, fleet_id, TODAY) as c:
        put_off.close_deferred(c, fleet_id, deferred_id, "replaced", None, "t")
    left = {k for v in visits(db, fleet_id) for k in (t["key"] for t in v["tasks"] if t["done_on"] is None)}
    assert f"look:{deferred_id}" not in left


# ---- proposed, compared, accepted ------------------------------------------------------------------------------
def test_a_plan_is_proposed_compared_and_accepted_and_the_next_one_is_calm(db, weeks):
    fleet_id, _, found = weeks
    rows = accepted(db, fleet_id)
    keys = [k for v in rows for k in v["keys"]]
    assert len(keys) == len(set(keys)) >= 4
    assert all(v["on_day"].weekday() < 5 for v in rows if v["depot_id"] == found["Quay"])
    assert any(len(v["keys"]) > 1 for v in rows)  # what falls close together is one visit
    before = visits(db, fleet_id)
    number, again = proposed(db, fleet_id)
    assert (again["plan"]["moves"], again["plan"]["sums"]["new"], again["plan"]["gone"]) == (0, 0, [])
    with settling(db, fleet_id, TODAY) as c:
        levelling.accept(c, fleet_id, number, BY, TODAY)
    after = visits(db, fleet_id)
    assert [(v["uid"], v["sequence"], v["on_day"]) for v in before] == [(v["uid"], v["sequence"], v["on_day"]) for v in after]


def test_what_is_fixed_by_hand_stays_whatever_is_worked_out(db, weeks):
    fleet_id, unit_id, _ = weeks
    rows = accepted(db, fleet_id)
    mine = next(v for v in rows if v["unit_id"] == unit_id)
    to = next(d for d in (TODAY + timedelta(days=i) for i in range(1, 8)) if d.weekday() < 5 and d != mine["on_day"])
    with settling(db, fleet_id, TODAY) as c:
        levelling.move(c, fleet_id, mine["visit_id"], to, BY, TODAY)
    after = next(v for v in accepted(db, fleet_id) if v["visit_id"] == mine["visit_id"])
    assert (after["on_day"], after["fixed"], after["keys"]) == (to, True, mine["keys"])
    with settling(db, fleet_id, TODAY) as c:
        levelling.fix(c, fleet_id, mine["visit_id"], False, BY)
    assert next(v for v in accepted(db, fleet_id) if v["visit_id"] == mine["visit_id"])["fixed"] is False


def test_a_plan_that_rests_on_what_has_changed_is_refused_and_nothing_is_half_planned(db, weeks):
    fleet_id, unit_id, _ = weeks
    accepted(db, fleet_id)
    number, _ = proposed(db, fleet_id)
    before = visits(db, fleet_id)
    mine = next(v for v in before if v["unit_id"] == unit_id)
    with settling(db, fleet_id, TODAY) as c:
        levelling.move(c, fleet_id, mine["visit_id"], mine["on_day"] + timedelta(days=1), BY, TODAY)
    with pytest.raises(InputError, match="changed by hand"), settling(db, fleet_id, TODAY) as c:
        levelling.accept(c, fleet_id, number, BY, TODAY)
    with pytest.raises(InputError, match="have another worked out"), settling(db, fleet_id, TODAY) as c:
        levelling.accept(c, fleet_id, number, BY, TODAY + timedelta(days=1))
    now = visits(db, fleet_id)
    assert [(v["visit_id"], v["on_day"]) for v in now if v["visit_id"] != mine["visit_id"]] == [
        (v["visit_id"], v["on_day"]) for v in before if v["visit_id"] != mine["visit_id"]
    ]


def test_a_month_worked_out_anew_leaves_the_quarter_behind_it_alone(db, weeks):
    """What stands behind the month stays; what stands inside it and is due behind it stays too."""
    fleet_id, _, _ = weeks
    quarter = {v["visit_id"]: (v["on_day"], v["keys"]) for v in accepted(db, fleet_id, 91)}
    assert max(on for on, _ in quarter.values()) > TODAY + timedelta(days=28)
    _, found = proposed(db, fleet_id)
    assert (found["plan"]["gone"], found["plan"]["trimmed"], found["plan"]["moves"], found["plan"]["sums"]["new"]) == ([], {}, 0, 0)
    assert {v["visit_id"]: (v["on_day"], v["keys"]) for v in accepted(db, fleet_id)} == quarter


def test_what_has_no_day_is_forgotten_once_it_is_done(db, weeks):
    fleet_id, unit_id, found = weeks
    with settling(db, fleet_id, TODAY) as c:
        depots.set_week(c, fleet_id, found["Quay"], [0] * 7, None, BY)
    accepted(db, fleet_id)
    with db.fleet(fleet_id) as c:
        before = {k for p in calendar.read(c, fleet_id, TODAY, MONDAY, 4).placeless for k in p["keys"]}
        gearbox = c.execute("SELECT compartment_id FROM compartment WHERE name = 'gearbox'").fetchone()["compartment_id"]
    assert f"drain:{gearbox}" in before
    drained(db, fleet_id, unit_id, "gearbox", TODAY, 3890)
    with db.fleet(fleet_id) as c:
        assert f"drain:{gearbox}" not in {k for p in calendar.read(c, fleet_id, TODAY, MONDAY, 4).placeless for k in p["keys"]}


@pytest.mark.parametrize(
    ("hours", "rule", "said", "way"),
    [([0, 0, 0, 0, 0, 0, 0], None, "more than the crew has on any day", "At Town"),
     ([1, 1, 1, 1, 1, 0, 0], None, "more than the crew has on any day", "crew hours more"),
     ([8, 8, 8, 8, 8, 0, 0], {"kind": "days", "days": ["2026-09-01"]}, "not at its depot", "")],
)  # fmt: skip
def test_what_has_no_day_says_why_and_the_cheapest_way_out(db, weeks, hours, rule, said, way):
    fleet_id, unit_id, found = weeks
    with settling(db, fleet_id, TODAY) as c:
        depots.set_week(c, fleet_id, found["Quay"], hours, None, BY)
        if rule:
            depots.set_rota(c, fleet_id, unit_id, rule, BY)
    _, got = proposed(db, fleet_id)
    unplaced = [v for v in got["plan"]["visits"] if v["on"] is None]
    assert unplaced and all(v["unit"] == "MV Test" for v in unplaced) and got["plan"]["unplaced"] == len(unplaced)
    assert any(said in v["why"] for v in unplaced), [v["why"] for v in unplaced]
    assert any(way in v["way"] for v in unplaced)
    accepted(db, fleet_id)
    with db.fleet(fleet_id) as c:
        page = calendar.read(c, fleet_id, TODAY, MONDAY, 4)
    assert {v["unit"] for v in page.placeless} == {"MV Test"} and page.without_a_day == len(unplaced)


def test_a_units_days_in_port_are_kept_and_a_full_depot_is_never_overfull(db, weeks):
    fleet_id, unit_id, found = weeks
    with settling(db, fleet_id, TODAY) as c:
        depots.set_rota(c, fleet_id, unit_id, {"kind": "weekdays", "weekdays": [2]}, BY)
        depots.set_week(c, fleet_id, found["Quay"], [4, 4, 8, 4, 4, 0, 0], [1] * 7, BY)
    accepted(db, fleet_id)
    with db.fleet(fleet_id) as c:
        page = calendar.read(c, fleet_id, TODAY, MONDAY, 4)
    quay = next(r for r in page.rows if r.name == "Quay")
    used = [d for d in quay.days if d.visits]
    assert used and all(d.on.weekday() == 2 and d.over == 0 and d.over_bays == 0 for d in used)


def test_a_holiday_holds_nothing(db, weeks):
    fleet_id, _, found = weeks
    days = {v["on_day"] for v in accepted(db, fleet_id)}
    with settling(db, fleet_id, TODAY) as c:
        for d in days:
            depots.set_day(c, fleet_id, found["Quay"], d, 0, None, "holiday", BY)
    assert not {v["on_day"] for v in accepted(db, fleet_id) if v["depot_id"] == found["Quay"]} & days


# ---- by hand ---------------------------------------------------------------------------------------------------
def test_every_day_for_a_visit_says_what_it_costs_before_it_is_moved(db, weeks):
    fleet_id, unit_id, _ = weeks
    mine = next(v for v in accepted(db, fleet_id) if v["unit_id"] == unit_id and any(k.startswith("drain") for k in v["keys"]))
    with db.fleet(fleet_id) as c:
        found = calendar.pick(c, fleet_id, mine["visit_id"], TODAY, MONDAY, 42)
    here = found.on(mine["on_day"])
    assert here.inside and here.there and here.room >= -1e-9
    losses = {o.on: o.loss_h for o in found.options}
    assert here.loss_h <= min(losses[o.on] for o in found.options if calendar.fits(o)) * 1.05 + 0.5
    assert found.options[0].unused_l > 0 and found.options[0].share < found.options[-1].share
    weekend = [o for o in found.options if o.on.weekday() > 4]
    assert all(o.room < 0 for o in weekend)
    chances = [o.chance_late for o in found.options if o.chance_late is not None]
    assert chances == sorted(chances)


@pytest.mark.parametrize(("on", "why"), [(TODAY - timedelta(days=1), "over"), (TODAY + timedelta(days=500), "at most")])
def test_a_visit_is_not_moved_where_no_visit_can_be(db, weeks, on, why):
    fleet_id, _, _ = weeks
    one = accepted(db, fleet_id)[0]
    with pytest.raises(InputError, match=why), settling(db, fleet_id, TODAY) as c:
        levelling.move(c, fleet_id, one["visit_id"], on, BY, TODAY)


def test_what_is_due_is_put_on_a_day_by_hand_once(db, weeks):
    fleet_id, unit_id, _ = weeks
    with settling(db, fleet_id, TODAY) as c:
        due = [d.task.key for d in tasks.due_by(c, TODAY, TODAY + timedelta(days=60), depots.terms(c, fleet_id)) if d.unit_id == unit_id]
        visit_id = levelling.put_by_hand(c, fleet_id, unit_id, TODAY + timedelta(days=4), due[:1], BY, TODAY)
    with pytest.raises(InputError, match="has a visit already"), settling(db, fleet_id, TODAY) as c:
        levelling.put_by_hand(c, fleet_id, unit_id, TODAY + timedelta(days=5), due[:1], BY, TODAY)
    with pytest.raises(InputError, match="choose among"), settling(db, fleet_id, TODAY) as c:
        levelling.put_by_hand(c, fleet_id, unit_id, TODAY + timedelta(days=5), ["drain:999999"], BY, TODAY)
    rows = accepted(db, fleet_id)
    assert next(v for v in rows if v["visit_id"] == visit_id)["on_day"] == TODAY + timedelta(days=4)
    assert sum(due[0] in v["keys"] for v in rows) == 1


# ---- cards, and what is done -----------------------------------------------------------------------------------
def drained(db, fleet_id, unit_id, name, on, meter):
    with settling(db, fleet_id, on) as c:
        compartment = c.execute("SELECT compartment_id FROM compartment WHERE name = %s AND unit_id = %s", (name, unit_id)).fetchone()
        facts = drain.DrainFacts(out_l=16.0, out_kind="measured", filter_changed=True, poured_l=18.0)
        return drain.log(c, fleet_id, compartment["compartment_id"], drain.Drained(on, meter, facts, in_l=18.0), "t", on)


def test_cards_are_made_from_the_week_in_one_step_and_move_with_their_visit(db, weeks):
    fleet_id, unit_id, _ = weeks
    mine = next(v for v in accepted(db, fleet_id) if v["unit_id"] == unit_id)
    monday = kit.week_of(mine["on_day"])[0]
    with settling(db, fleet_id, TODAY) as c:
        made = levelling.make_cards(c, fleet_id, monday, monday + timedelta(days=6), None, BY)
        assert made and levelling.make_cards(c, fleet_id, monday, monday + timedelta(days=6), None, BY) == []
        v = levelling.visit(c, mine["visit_id"])
        card = cards.card(c, v["job_id"], TODAY)
    assert card["job"]["planned_on"] == mine["on_day"]
    assert {f"drain:{p['compartment_id']}" if p["compartment_id"] else f"item:{p['item_id']}" for p in card["parts"]} == set(mine["keys"])
    with settling(db, fleet_id, TODAY) as c:
        levelling.move(c, fleet_id, mine["visit_id"], mine["on_day"] + timedelta(days=1), BY, TODAY)
        assert cards.card(c, v["job_id"], TODAY)["job"]["planned_on"] == mine["on_day"] + timedelta(days=1)
        cards.cancel(c, fleet_id, v["job_id"], "no crew", BY)
    with db.fleet(fleet_id) as c:
        assert levelling.visit(c, mine["visit_id"])["job_id"] is None  # planned as before


def test_a_job_done_early_is_done_in_the_plan_and_the_plan_follows(db, weeks):
    fleet_id, unit_id, _ = weeks
    accepted(db, fleet_id)
    with db.fleet(fleet_id) as c:
        gearbox = c.execute("SELECT compartment_id FROM compartment WHERE name = 'gearbox'").fetchone()["compartment_id"]
        key = f"drain:{gearbox}"
        was = planned.next_by_key(c, [key])[key]
    drained(db, fleet_id, unit_id, "gearbox", TODAY, 3890)
    with db.fleet(fleet_id) as c:
        assert planned.next_by_key(c, [key]) == {}
        v = levelling.visit(c, was["visit_id"])
        assert next(t for t in v["tasks"] if t["key"] == key)["done_on"] == TODAY.isoformat()
        looked = done.between(c, TODAY, TODAY + timedelta(days=60), TODAY)
    [r] = [r for r in looked["rows"] if r["key"] == key]
    assert (r["word"], r["days"]) == (("early", (TODAY - was["on_day"]).days) if was["on_day"] > TODAY else ("on_day", 0))
    assert r["unused_l"] > 0 and done.table(looked)[0]["unit"] == "MV Test"
    rows = accepted(db, fleet_id)
    assert all(key not in v["keys"] for v in rows)  # due again in months, not in these weeks


def test_a_visit_whose_day_is_over_comes_first_in_the_next_plan(db, fleet, weeks):
    fleet_id, _, _ = weeks
    one = min(accepted(db, fleet_id), key=lambda v: v["on_day"])
    later = one["on_day"] + timedelta(days=3)
    evaluate.evaluate(db, fleet, later)
    with db.fleet(fleet_id) as c:
        page = calendar.read(c, fleet_id, later, kit.week_of(later)[0], 4)
    assert one["visit_id"] in {v.visit_id for v in page.missed}
    rows = accepted(db, fleet_id, today=later)
    again = [v for v in rows if set(one["keys"]) & set(v["keys"])]
    assert again and all(v["on_day"] >= later for v in again)


def test_what_jobs_took_is_learned_and_can_be_put_right(db, weeks):
    fleet_id, unit_id, _ = weeks
    with settling(db, fleet_id, TODAY) as c:
        depots.set_terms(c, fleet_id, {"gearbox": 2.0}, 0.0, 1.0, BY)
        assert depots.terms(c, fleet_id).hours("gearbox") == 2.0
        for i in range(10):
            row = c.execute(query("weeks.put_past_visit"), {"fleet_id": fleet_id, "unit_id": unit_id, "depot_id": None, "on_day": TODAY,
                            "first_on": TODAY, "hours": 2.0, "took": 3.0, "by": "t"}).fetchone()  # fmt: skip
            gearbox = c.execute("SELECT compartment_id FROM compartment WHERE name = 'gearbox'").fetchone()["compartment_id"]
            task = {"key": f"drain:{gearbox}", "what": "x", "compartment_id": gearbox, "item_id": None, "hours": 2.0, "due": TODAY,
                    "earliest": TODAY, "latest": TODAY, "worth": 1, "life_days": 1, "litres": 1, "share_due": 1}  # fmt: skip
            c.execute(query("weeks.put_task"), {"fleet_id": fleet_id, "visit_id": row["visit_id"], **task})
            assert i >= 0
        assert depots.terms(c, fleet_id).hours("gearbox") >= 2.7
        levelling.set_took(c, fleet_id, row["visit_id"], 2.0, BY)
        assert depots.terms(c, fleet_id).hours("gearbox") < 2.77
        with pytest.raises(InputError, match="hours"):
            levelling.set_took(c, fleet_id, row["visit_id"], 0, BY)


# ---- feeds -----------------------------------------------------------------------------------------------------
def events(content):
    return {str(e["UID"]): e for e in icalendar.Calendar.from_ical(content).walk("VEVENT")}


def test_a_feed_keeps_uids_raises_sequences_and_tells_what_was_cancelled(db, weeks):
    fleet_id, unit_id, found = weeks
    with settling(db, fleet_id, TODAY) as c:
        depots.set_terms(c, fleet_id, {}, 0.0, 0.0, BY)  # a visit of its own costs nothing: nothing rides along
    rows = accepted(db, fleet_id)
    with settling(db, fleet_id, TODAY) as c:
        secret = feed.make(c, fleet_id, BY, found["Quay"], None)
        town = feed.make(c, fleet_id, BY, found["Town"], None)
    first = events(feed.read(db, secret, TODAY))
    assert len(first) == len([v for v in rows if v["depot_id"] == found["Quay"]]) and events(feed.read(db, town, TODAY)) == {}
    moved, gone = rows[0], rows[-1]
    assert moved["visit_id"] != gone["visit_id"]
    to = next(d for d in (TODAY + timedelta(days=i) for i in range(1, 60)) if d not in {v["on_day"] for v in rows})
    with pytest.raises(InputError, match="one place at a time"), settling(db, fleet_id, TODAY) as c:
        levelling.move(c, fleet_id, moved["visit_id"], next(v["on_day"] for v in rows if v["on_day"] != moved["on_day"]), BY, TODAY)
    with settling(db, fleet_id, TODAY) as c:
        levelling.move(c, fleet_id, moved["visit_id"], to, BY, TODAY)
        levelling.cancel(c, fleet_id, gone["visit_id"], "sold", BY, TODAY)
    after = events(feed.read(db, secret, TODAY, "https://vornet.example"))
    assert set(after) == set(first)
    by_id = {str(v["uid"]) + "@vornet": v for v in visits(db, fleet_id)}
    for uid, event in after.items():
        was = first[uid]
        if uid in by_id and by_id[uid]["visit_id"] == moved["visit_id"]:
            assert (event["SEQUENCE"], event.decoded("DTSTART")) == (was["SEQUENCE"] + 1, to)
            assert str(event["STATUS"]) == "CONFIRMED" and str(event["URL"]).endswith(f"/units/{unit_id}")
        elif uid not in by_id:
            assert (str(event["STATUS"]), event["SEQUENCE"]) == ("CANCELLED", was["SEQUENCE"] + 1)
        else:
            assert event["SEQUENCE"] == was["SEQUENCE"]


def test_a_link_that_was_taken_back_or_never_was_opens_nothing(db, weeks):
    fleet_id, _, found = weeks
    with settling(db, fleet_id, TODAY) as c:
        secret = feed.make(c, fleet_id, BY, found["Quay"], None)
        number = feed.listed(c)[0]["feed_id"]
    assert feed.read(db, secret, TODAY) is not None and feed.read(db, secret + "x", TODAY) is None and feed.read(db, "", TODAY) is None
    with settling(db, fleet_id, TODAY) as c:
        feed.revoke(c, fleet_id, number, BY)
        with pytest.raises(InputError):
            feed.revoke(c, fleet_id, number, BY)
    assert feed.read(db, secret, TODAY) is None


# ---- calendar files in -----------------------------------------------------------------------------------------
def ics(*lines):
    return "\r\n".join(["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:x", *lines, "END:VCALENDAR", ""]).encode()


def event(*lines):
    return ["BEGIN:VEVENT", "UID:1", "DTSTAMP:20260101T000000Z", *lines, "END:VEVENT"]


@pytest.mark.parametrize(
    ("lines", "expected"),
    [(event("DTSTART;VALUE=DATE:20260120", "DTEND;VALUE=DATE:20260122"), [20, 21]),
     (event("DTSTART:20260120T080000Z", "DTEND:20260121T160000Z"), [20, 21]),
     (event("DTSTART:20260120T080000Z", "DTEND:20260121T000000Z"), [20]),
     (event("DTSTART;VALUE=DATE:20260119", "RRULE:FREQ=WEEKLY;COUNT=2"), [19, 26]),
     (event("DTSTART;VALUE=DATE:20251201", "RRULE:FREQ=DAILY;INTERVAL=10;UNTIL=20260125"), [20]),
     (event("DTSTART;VALUE=DATE:20260119", "RRULE:FREQ=WEEKLY;COUNT=2", "EXDATE;VALUE=DATE:20260126"), [19]),
     (event("DTSTART;VALUE=DATE:20260120", "DURATION:P2D"), [20, 21]),
     (event("DTSTART;VALUE=DATE:20260120", "STATUS:CANCELLED"), [])],
)  # fmt: skip
def test_the_days_of_a_calendar_file_are_those_its_events_cover(lines, expected):
    """RFC 5545: DTEND is not covered itself; RRULE, EXDATE, DURATION and STATUS as written there."""
    found = calendar_file.days(ics(*lines), TODAY, date(2026, 1, 31))
    assert [d.day for d in found] == expected


@pytest.mark.parametrize(
    ("content", "why"),
    [(b"BEGIN:VCALENDAR\r\n" + b"BEGIN:VEVENT\r\nEND:VEVENT\r\n" * 100_000, "at most 5,000"), (b"x" * 6_000_000, "larger than"),
     (b"hello", "not an iCalendar"), (ics(*event("DTSTART:sometime")), "read"),
     (ics(*event("DTSTART;VALUE=DATE:20260120", "DTEND:20260121T000000Z")), "read")],
)  # fmt: skip
def test_a_calendar_file_that_cannot_be_is_answered_plainly(content, why):
    with pytest.raises(InputError, match=why):
        calendar_file.days(content, TODAY, date(2026, 12, 31))


# ---- stock -----------------------------------------------------------------------------------------------------
def test_stock_is_counted_used_by_jobs_and_what_is_missing_is_said_before_the_oil_is_out(db, weeks):
    fleet_id, unit_id, found = weeks
    with settling(db, fleet_id, TODAY) as c:
        with pytest.raises(InputError, match="count it first"):
            stock.move(c, fleet_id, found["Quay"], "F-1", "received", 2, TODAY, "", "t", TODAY)
        stock.move(c, fleet_id, found["Quay"], "F-1", "counted", 0, TODAY, "", "t", TODAY)
        stock.move(c, fleet_id, found["Quay"], "oil Test 15W-40", "counted", 80, TODAY, "", "t", TODAY)
        stock.set_thing(c, fleet_id, "F-1", 30, 1, "t", TODAY)
    mine = next(v for v in accepted(db, fleet_id) if any(k.startswith("drain") for k in v["keys"]) and v["unit_id"] == unit_id)
    with settling(db, fleet_id, TODAY) as c:
        lines = {x.thing: x for x in stock.lines(c, TODAY)}
        assert lines["F-1"].outlook.too_late and lines["F-1"].outlook.short == 1 and lines["F-1"].outlook.waits
        short = c.execute(query("stock.short"), {"unit_id": unit_id}).fetchall()
        assert any("F-1" in s["short"] for s in short)
        job_id = cards.make(
            c, fleet_id, unit_id, [int(k.split(":")[1]) for k in mine["keys"] if k.startswith("drain")], [], TODAY, True, "", "t"
        )
        missing = {m["thing"]: m for m in cards.card(c, job_id, TODAY)["missing"]}
        assert missing["F-1"]["there"] == 0 and missing["F-1"]["instead"] == []
        stock.move(c, fleet_id, found["Quay"], "G-1", "counted", 3, TODAY, "", "t", TODAY)
        assert next(m for m in cards.card(c, job_id, TODAY)["missing"] if m["thing"] == "F-1")["instead"] == ["G-1"]
        assert c.execute(query("stock.short"), {"unit_id": unit_id}).fetchall() == []  # what may take its place is there
        stock.move(c, fleet_id, found["Quay"], "F-1", "received", 4, TODAY, "", "t", TODAY)
        assert "F-1" not in {m["thing"] for m in cards.card(c, job_id, TODAY)["missing"]}
        assert {x.thing: x.outlook.there for x in stock.lines(c, TODAY)}["F-1"] == 4
        part = c.execute("SELECT part_id FROM job_part WHERE job_id = %s", (job_id,)).fetchone()["part_id"]
        used = [stock.kit.Thing("F-1", 2.0, "pcs"), stock.kit.Thing("nobody counts this", 1.0, "pcs")]
        for _ in range(2):  # a part uses a thing once, however often it is sent
            stock.use(c, fleet_id, found["Quay"], part, used, TODAY, "t", TODAY)
        assert {x.thing: x.outlook.there for x in stock.lines(c, TODAY)}["F-1"] == 2


def test_a_weeks_kit_holds_packs_equivalents_and_tools_by_depot(db, weeks):
    fleet_id, unit_id, _ = weeks
    mine = next(v for v in accepted(db, fleet_id) if any(k.startswith("drain") for k in v["keys"]) and v["unit_id"] == unit_id)
    first, last = kit.week_of(mine["on_day"])
    with db.fleet(fleet_id) as c:
        [quay] = [k for k in kit.of_days(c, first, last, TODAY) if k.depot == "Quay"]
    [oil] = quay.oils
    assert oil.oil == "Test 15W-40" and oil.packs.packs * oil.packs.pack_l >= oil.litres and not oil.pack_known
    rows = {r["what"]: r for r in kit.rows([quay])}
    assert oil.litres in (18, 55, 73) and rows["Test 15W-40"]["packs"] == oil.packs.packs
    if oil.litres > 18:
        assert rows["F-1"]["instead"] == "G-1" and "seal CW-26" in rows


def test_a_bottle_of_a_trial_is_a_visit_of_its_own_where_no_drain_is_near(db, weeks):
    """Trial bottles stand in the same plan, inside the stretch in which they count."""
    fleet_id, _, _ = weeks
    with settling(db, fleet_id, TODAY) as c:
        engine = c.execute("""SELECT compartment_id FROM compartment c JOIN unit u USING (fleet_id, unit_id)
                              WHERE c.name = 'engine' AND u.name = 'MV Test'""").fetchone()["compartment_id"]
        c.execute(
            """INSERT INTO trial (fleet_id, compartment_id, length, before, steps, started_on, started_by, next_at, next_day)
                     VALUES (%s, %s, 600, 500, '{300,450,600}', %s::date, 't', 450, %s::date + 5)""",
            (fleet_id, engine, TODAY, TODAY),
        )
        found = tasks.due_by(c, TODAY, TODAY + timedelta(days=28), depots.terms(c, fleet_id))
    bottle = next(d for d in found if d.task.key == f"bottle:{engine}")
    assert bottle.task.earliest >= TODAY.toordinal() and bottle.task.latest < (TODAY + timedelta(days=20)).toordinal()
    with settling(db, fleet_id, TODAY) as c:
        notes.read_meter(c, fleet_id, weeks[1], 1, 3880, TODAY, "t", TODAY)
    assert date.fromordinal(bottle.task.latest) > TODAY
