"""What people change is kept under its new name, is told in the audit trail, and reaches whatever rests on it."""

import json
import uuid
from dataclasses import asdict

import pytest

from conftest import HEADER, TODAY, approve_seen, row, small_register
from vornet.core.errors import FormErrors, InputError
from vornet.flows.house import fleets, people, tokens
from vornet.flows.lab import results
from vornet.flows.pages import board
from vornet.flows.register import doubts, dump, many, oils, register, templates, units
from vornet.flows.work import cards, put_off

COLD = {"name": "Cold 5W-30", "density_kg_l": 0.85, "v100": 11.5}


@pytest.fixture
def place(db, fleet):
    """(fleet's id, unit, engine, oil), of a small fleet of one's own."""
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        r = c.execute("SELECT unit_id, compartment_id, (SELECT oil_id FROM oil) AS oil FROM compartment").fetchone()
    return fleet_id, r["unit_id"], r["compartment_id"], r["oil"]


@pytest.fixture
def open_fleet(db, place):
    with db.fleet(place[0]) as c:
        yield c


def one(c, sql, *values):
    return c.execute(sql, values).fetchone()


def told(c, what):
    return [r["detail"] for r in c.execute("SELECT detail FROM audit WHERE what = %s ORDER BY audit_id", (what,)).fetchall()]


def touched(c):
    return {(r["what"], r["id"]) for r in c.execute("SELECT what, id FROM touched").fetchall()}


# ---- units and compartments ------------------------------------------------------------------------------------------------
def test_a_unit_gets_another_name_and_place_and_keeps_its_history(open_fleet, place):
    c, (fleet_id, unit, engine, _) = open_fleet, place
    units.save_unit(c, fleet_id, unit, {"unit": "MV Renamed", "depot": "North"}, "A", TODAY)
    document = dump.units_out(c, TODAY, [unit])[0]
    assert (document["unit"], document["depot"]) == ("MV Renamed", "North")
    assert one(c, "SELECT count(*) AS n FROM drain WHERE compartment_id = %s", engine)["n"] == 6
    assert told(c, "unit changed") == [{"unit": ["MV Test", "MV Renamed"], "depot": ["Quay", "North"]}]
    assert touched(c) == set()  # neither moves a judgement


def test_what_a_unit_counts_by_moves_its_judgements(open_fleet, place):
    c, (fleet_id, unit, engine, _) = open_fleet, place
    units.save_unit(c, fleet_id, unit, {"estimated_per_day": 9.5}, "A", TODAY)
    assert ("compartment", engine) in touched(c)


def test_a_name_that_is_taken_is_not_given_twice(open_fleet, place):
    c, (fleet_id, unit, engine, _) = open_fleet, place
    templates.make_unit(c, fleet_id, templates.NewUnit({"unit": "MV Other", "meter_unit": "h"}, {}, None, TODAY), "A", TODAY)
    with pytest.raises(FormErrors, match="there is a unit named 'MV Other' already"):
        units.save_unit(c, fleet_id, unit, {"unit": "MV Other"}, "A", TODAY)
    units.add_compartment(c, fleet_id, unit, {"compartment": "gearbox", "kind": "gearbox"}, "A", TODAY)
    with pytest.raises(FormErrors, match="has a compartment 'gearbox' already"):
        units.save_compartment(c, fleet_id, engine, {"compartment": "gearbox"}, "A", TODAY)


def test_a_compartment_gets_another_name_figure_and_interval(open_fleet, place):
    c, (fleet_id, _, engine, _) = open_fleet, place
    units.save_compartment(c, fleet_id, engine, {"compartment": "main engine", "capacity_l": 54, "interval_h": 450}, "A", TODAY)
    now = units.compartment_document(c, engine, TODAY)
    assert (now["compartment"], now["capacity_l"], now["interval_h"]) == ("main engine", 54, 450)
    [changed] = told(c, "compartment changed")
    assert changed["interval_h"] == [500, 450]
    assert ("compartment", engine) in touched(c)
    c.execute("DELETE FROM touched")
    units.save_compartment(c, fleet_id, engine, {"capacity_l": 54}, "A", TODAY)  # says nothing new
    assert touched(c) == set()
    assert len(told(c, "compartment changed")) == 1


def test_a_compartment_without_a_history_can_go(open_fleet, place):
    c, (fleet_id, unit, _, _) = open_fleet, place
    gearbox = units.add_compartment(c, fleet_id, unit, {"compartment": "gearbox", "kind": "gearbox", "interval_h": 2000}, "A", TODAY)
    assert units.compartment_document(c, gearbox, TODAY)["interval_h"] == 2000
    units.remove_compartment(c, fleet_id, gearbox, "A")
    with pytest.raises(InputError, match="not in this fleet"):
        units.compartment_document(c, gearbox, TODAY)


@pytest.mark.parametrize(
    ("item", "said"),
    [
        ({"every_meter": 500, "every_days": 365}, "every 500 h or 365 days"),
        ({"every_nth": 2, "nth_of": "oil"}, "every 2nd oil"),
        ({"season": "10-15"}, "before 15 Oct each year"),
        ({"first_meter": 50, "every_meter": 1000}, "every 1,000 h, first at 50 h"),
        ({"condition": "dusty"}, "by look: dusty"),
        ({}, ""),
    ],
)
def test_a_service_plan_in_words(item, said):
    keys = ("every_meter", "every_days", "every_nth", "nth_of", "season", "first_meter", "condition")
    assert units.plan_words({"meter_unit": "h", **dict.fromkeys(keys), **item}) == said


# ---- oils ------------------------------------------------------------------------------------------------------------------
def test_an_oil_gets_another_name_and_who_runs_on_it_is_judged_anew(open_fleet, place):
    c, (fleet_id, _, engine, oil) = open_fleet, place
    assert oils.save_oil(c, fleet_id, oil, {"name": "Renamed 15W-40", "bn": 10.4}, "A") == oil
    assert units.compartment_document(c, engine, TODAY)["oil"] == "Renamed 15W-40"
    assert touched(c) == {("compartment", engine)}
    other = oils.save_oil(c, fleet_id, None, COLD, "A")
    with pytest.raises(FormErrors, match="already"):
        oils.save_oil(c, fleet_id, other, {"name": "Renamed 15W-40"}, "A")
    oils.save_batch(c, fleet_id, other, {"batch": "B-7", "litres": 208}, "A")
    assert one(c, "SELECT litres FROM oil_batch WHERE batch = 'B-7'")["litres"] == 208


# ---- many at once ----------------------------------------------------------------------------------------------------------
def test_many_at_once_are_looked_at_before_they_are_done(open_fleet, place):
    c, (fleet_id, _, engine, _) = open_fleet, place
    seen = many.change_many(c, fleet_id, [engine], "oil", "Unheard-of", "A", TODAY, apply=False)
    assert "no oil named" in seen[0].problem
    oils.save_oil(c, fleet_id, None, COLD, "A")
    seen = many.change_many(c, fleet_id, [engine], "oil", COLD["name"], "A", TODAY, apply=False)
    assert (seen[0].was, seen[0].problem) == ("Test 15W-40", "")
    assert units.compartment_document(c, engine, TODAY)["oil"] == "Test 15W-40"  # only looked at
    many.change_many(c, fleet_id, [engine], "oil", COLD["name"], "A", TODAY, apply=True)
    assert units.compartment_document(c, engine, TODAY)["oil"] == COLD["name"]
    assert ("compartment", engine) in touched(c)
    assert many.change_many(c, fleet_id, [engine], "oil", COLD["name"], "A", TODAY, apply=True)[0].same


def test_a_depot_for_many_units_and_a_figure_that_cannot_be(open_fleet, place):
    c, (fleet_id, unit, engine, _) = open_fleet, place
    many.change_many(c, fleet_id, [engine], "depot", "South", "A", TODAY, apply=True)
    assert dump.units_out(c, TODAY, [unit])[0]["depot"] == "South"
    [line] = many.change_many(c, fleet_id, [engine], "interval", -5, "A", TODAY, apply=True)
    assert line.problem
    assert units.compartment_document(c, engine, TODAY)["interval_h"] == 500
    assert set(asdict(line)) >= {"where", "was", "problem", "same"}


# ---- figures in doubt ------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("learned", "now"),
    [
        (50.0, {"capacity_l": 50.0, "capacity_without_filter_l": 48.0}),  # the filter's share is what it was
        (62.0, {"capacity_l": 62.0, "system_volume_l": 62.0}),  # it cannot hold less than what goes in
    ],
)
def test_a_figure_that_was_learned_is_taken_with_what_must_follow(open_fleet, place, learned, now):
    c, (fleet_id, _, engine, _) = open_fleet, place
    c.execute("DELETE FROM doubt")
    put = """INSERT INTO doubt (fleet_id, compartment_id, field, said, learned, low, high, n)
             VALUES (%s, %s, 'capacity_l', 55, %s, %s, %s, 5)"""
    c.execute(put, (fleet_id, engine, learned, learned - 1, learned + 1))
    doubts.settle(c, fleet_id, engine, "capacity_l", True, "", "A", TODAY)
    document = units.compartment_document(c, engine, TODAY)
    assert {k: document[k] for k in now} == now
    assert document["sources"]["capacity_l"] == "measured"
    with pytest.raises(InputError, match="not in doubt"):
        doubts.settle(c, fleet_id, engine, "capacity_l", True, "", "A", TODAY)


# ---- what is noted in between ----------------------------------------------------------------------------------------------
def test_a_symptom_is_kept_once_however_often_it_is_sent(open_fleet, place):
    c, (fleet_id, unit, engine, _) = open_fleet, place
    client = str(uuid.uuid4())
    for _ in range(2):
        put_off.observe(c, fleet_id, unit, engine, "symptom", "knocks when cold", None, 3900, TODAY, "", client, "A")
    put_off.observe(c, fleet_id, unit, None, "coolant", "", 1.5, None, TODAY, "", "no id", "A")
    found = c.execute("SELECT kind, what, litres FROM observation ORDER BY observation_id").fetchall()
    assert [(r["kind"], r["what"], r["litres"]) for r in found] == [
        ("symptom", "knocks when cold", None),
        ("coolant", "coolant made up", 1.5),
    ]


def test_a_level_that_fell_after_the_first_run_is_an_alarm(open_fleet, place):
    c, (fleet_id, unit, engine, _) = open_fleet, place
    put = """INSERT INTO deferred (fleet_id, unit_id, compartment_id, kind, what, level_left, entry_id, made_by)
             VALUES (%s, %s, %s, 'recheck', 'Read the level again', 0.8, %s, 'A') RETURNING deferred_id"""
    ids = [one(c, put, fleet_id, unit, engine, uuid.uuid4())["deferred_id"] for _ in range(2)]
    assert put_off.close_deferred(c, fleet_id, ids[0], "", 0.7, "A") == ""
    assert put_off.close_deferred(c, fleet_id, ids[1], "", 0.5, "A") == "fallen"
    [left] = [d for d in put_off.deferred(c, unit) if d["kind"] == "defect"]
    assert left["what"] == "Level fell from 0.80 to 0.50 after the first run: look for the leak"
    with pytest.raises(InputError, match="already"):
        put_off.close_deferred(c, fleet_id, ids[1], "again", None, "A")


# ---- finding things --------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(("typed", "kinds"), [("engine", {"compartment"}), ("15w", {"oil"}), ("mv t", {"compartment", "unit"}), ("%", set())])
def test_anything_is_found_by_a_part_of_its_name(open_fleet, typed, kinds):
    found = board.find(open_fleet, typed)
    assert {f["kind"] for f in found if "kind" in f} >= kinds
    assert board.find(open_fleet, "  ") == []
    if not kinds:
        assert found == []  # a sign of the language of patterns is a letter like others


# ---- the interval ----------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("meter", "why", "field"), [(0, "so", "interval"), (2e6, "so", "interval"), (480, " ", "why")], ids=["nothing", "beyond all", "no reason"]
)
def test_an_interval_of_one_s_own_needs_a_figure_and_a_reason(open_fleet, place, meter, why, field):
    fleet_id, _, engine, _ = place
    with pytest.raises(InputError) as refused:
        approve_seen(open_fleet, fleet_id, engine, meter, why, "A", TODAY)
    assert refused.value.field == field


# ---- rows of a results file find their place --------------------------------------------------------------------------------
PLACES = [
    ("MV Test,", "MV Test,engine,", 1, ""),  # its only compartment
    ("mv test,", "MV Test,engine,", 1, ""),  # as a lab writes it
    ("MV Tset,engine,", "MV Test,engine,", 0, "unknown_unit"),
    ("MV Test,gearbox,", "MV Test,engine,", 0, "unknown_compartment"),
    (",,", "MV Test,engine,", 1, ""),  # a sample of new oil: the oil is named
]


@pytest.mark.parametrize(("now", "was", "new", "held"), PLACES)
def test_a_row_without_its_whole_place(db, fleet, now, was, new, held):
    line = row("P1", "2025-12-20", 3700, 200, False)
    line = line.replace(was, now if now.count(",") == 2 else now + ",", 1)
    report = results.load(db, f"{HEADER}\n{line}\n".encode(), fleet=fleet, name="p.csv", by="t")
    assert (report.new, [b.reason for b in report.held]) == (new, [held] if held else [])


def test_a_unit_with_several_compartments_must_say_which(db, fleet_name):
    document = small_register(fleet_name)
    document["units"][0]["compartments"].append({"compartment": "gearbox", "kind": "gearbox"})
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    bare = row("P1", "2025-12-20", 3700, 200, False).replace("MV Test,engine,", "MV Test,,", 1)
    nothing = row("P2", "2025-12-20", 3700, 200, False).replace("MV Test,engine,", ",,", 1).replace("Test 15W-40", "", 1)
    strange = row("P3", "2025-12-20", 3700, 200, False).replace("MV Test,engine,", ",,", 1).replace("Test 15W-40", "Odd 0W-8", 1)
    report = results.load(db, "\n".join([HEADER, bare, nothing, strange, ""]).encode(), fleet=fleet_name, name="p.csv", by="t")
    assert [b.reason for b in report.held] == ["no_compartment", "no_unit", "unknown_oil"]


# ---- kits ------------------------------------------------------------------------------------------------------------------
def test_a_week_s_kit_counts_seals_filters_and_bottles(db, fleet_name):
    document = small_register(fleet_name)
    washer = {"place": "drain plug", "kind": "crush washer", "part": "W-22", "count": 1, "single_use": True}
    ring = {"place": "housing", "kind": "O-ring", "part": "O-9", "count": 3, "single_use": False}
    document["units"][0]["compartments"][0] |= {"filters": [{"part": "F-1", "count": 2}], "seals": [washer, ring]}
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    fleet_id = fleets.find(db, fleet_name)
    with db.fleet(fleet_id) as c:
        unit, engine = one(c, "SELECT unit_id, compartment_id FROM compartment WHERE name = 'engine'").values()
        for _ in range(2):
            cards.make(c, fleet_id, unit, [engine], [], TODAY, True, "", "A")
        kit = cards.week_kit(c, TODAY, TODAY, TODAY)
    parts = dict(kit["parts"])
    assert parts["crush washer W-22"] == 2
    assert parts["filter F-1"] == 4
    assert parts["sample bottle and label"] == 2
    assert not any("O-ring" in name for name in parts)  # a sound one goes back


# ---- people ----------------------------------------------------------------------------------------------------------------
def test_a_token_is_ended_by_its_owner_and_by_an_admin_only(db, fleet):
    for login, role in (("tok-one", "analyst"), ("tok-two", "planner"), ("tok-head", "admin")):
        people.add(db, fleet, f"{login}-{fleet[-6:].replace(' ', '')}", login, "right-and-long", role)
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        who = {r["login"][:8].rstrip("-"): people.Visitor(r["account_id"], r["login"], r["login"], fleet_id, fleet, tuple(r["roles"]), "")
               for r in c.execute("SELECT account_id, login, roles FROM membership JOIN account USING (account_id)").fetchall()}  # fmt: skip
        tokens.make(c, fleet_id, who["tok-one"].account_id, "tok-one", "lab bench", ["import"], 30)
        [mine] = tokens.kept(c, who["tok-one"].account_id)
        assert tokens.kept(c, who["tok-two"].account_id) == []
        with pytest.raises(InputError, match="not there"):
            tokens.end(c, who["tok-two"], mine["token_id"], anyone=False)
        tokens.end(c, who["tok-head"], mine["token_id"], anyone=True)
        with pytest.raises(InputError, match="ended already"):
            tokens.end(c, who["tok-one"], mine["token_id"], anyone=False)
