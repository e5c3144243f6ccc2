"""The demo fleet: repeatable, carried on without change, its planted troubles found, every page of it standing."""

import re
from datetime import date, timedelta

import httpx
import pytest

from conftest import TODAY
from vornet.flows.house import fleets
from vornet.flows.judge import judgements, learned
from vornet.flows.work import cards
from vornet.sim import demo, engine
from vornet.sim.fleet import OILS, UNITS

pytestmark = pytest.mark.slow


@pytest.fixture(scope="module")
def loaded(db):
    demo.load(db, TODAY)
    return db


def test_a_longer_run_starts_with_the_same_history():
    oils = {o.name: o for o in OILS}
    start = date(2024, 1, 1)
    short = engine.live(UNITS[0], 0, oils, start, start + timedelta(days=200), 5)
    longer = engine.live(UNITS[0], 0, oils, start, start + timedelta(days=260), 5)
    assert longer.drains[: len(short.drains)] == short.drains
    assert {s["sample_no"]: s for s in short.samples}.items() <= {s["sample_no"]: s for s in longer.samples}.items()


def test_size_and_mostly_healthy(loaded):
    rows = judgements.intervals(loaded, demo.FLEET)
    assert len(demo.UNITS) == 45
    assert len(rows) == 109
    proposed = [j["proposed"] for j in judgements.judgements(loaded, demo.FLEET)]
    assert proposed.count("run_on") / len(proposed) > 0.9


def test_every_hypothesis_occurs_and_the_truth_is_kept(loaded):
    _, _, truth = demo.simulate(TODAY - timedelta(days=demo.DAYS), TODAY)
    planted = {kind for t in truth for kind in t["faults"]}
    assert planted == {
        "dirt", "silicone", "coolant", "sea_water", "condensation", "fuel", "combustion", "overheated_oil", "blow_by", "scuffing",
        "bearing", "bushing", "cooler_leaching", "gear_or_valve", "break_in", "wrong_oil", "swapped_bottle", "dirty_bottle",
        "spent_additive",
    }  # fmt: skip


def test_job_cards_in_every_state(loaded):
    with loaded.fleet(fleets.find(loaded, demo.FLEET)) as c:
        counts = cards.cards(c, "all")["counts"]
    assert {k for k in ("todo", "done", "part", "stopped", "cancelled") if counts[k] == 0} == set()


def test_the_register_doubts_what_is_planted_wrong(loaded):
    with loaded.fleet(fleets.find(loaded, demo.FLEET)) as c:
        found = {(d["unit"], d["field"]) for d in learned.doubts(c)}
    assert found == {("Bus 16", "capacity_l"), ("WB Petrel", "capacity_l"), ("WB Dunlin", "volume_between_marks_l")}


def test_planted_troubles_are_seen(loaded):
    rows = {(r["unit"], r["compartment"]): r for r in judgements.intervals(loaded, demo.FLEET)}
    assert any("Silicon" in f for f in rows["MV Hallovane", "starboard engine"]["open_faults"])
    assert any("Sodium" in f for f in rows["MV Sulvenna", "starboard engine"]["open_faults"])
    assert any("Fuel" in f for f in rows["WB Tern", "engine"]["open_faults"])
    assert any("Lead" in f for f in rows["Bus 15", "engine"]["open_faults"])
    for name in (("WB Gannet", "engine"), ("Bus 14", "engine")):  # planted over-long
        assert rows[name]["outcome"] == "shorten"
    for name in (("MV Tavrinne Light", "port engine"), ("GS Ostrelle 1", "engine")):  # planted too short
        assert rows[name]["outcome"] == "lengthen"


def test_healthy_samples_are_left_alone(loaded, tmp_path):
    _, _, truth = demo.simulate(TODAY - timedelta(days=demo.DAYS), TODAY)
    faulty = {t["sample_no"] for t in truth if t["faults"]}
    over_long = {"WB Gannet", "Bus 14", "Bus 11", "GS Northholm 2"}
    alarms = [
        j for j in judgements.judgements(loaded, demo.FLEET)
        if j["proposed"] in ("act", "stop") and j["sample_no"] not in faulty and j["unit"] not in over_long
    ]  # fmt: skip
    assert alarms == []


def test_a_second_start_changes_nothing(loaded):
    before = judgements.judgements(loaded, demo.FLEET)
    demo.load(loaded, TODAY)
    assert judgements.judgements(loaded, demo.FLEET) == before


def test_every_compartment_has_a_page(loaded, served):
    client = httpx.Client(base_url=served.url, timeout=30)
    client.post("/sign-in", data={"login": "planner", "password": "plan-ahead"})
    with loaded.fleet(fleets.find(loaded, demo.FLEET)) as connection:
        ids = [r["compartment_id"] for r in connection.execute("SELECT compartment_id FROM compartment").fetchall()]
    for i in ids:
        page = client.get(f"/compartments/{i}?all=1")
        assert page.status_code == 200
        shown = re.sub(r'name="csrf" value="[^"]*"', "", page.text.split("<main")[1])  # a token may spell anything
        assert not re.search(r"(?<![a-z])nan(?![a-z])", shown.lower())
    # the retired and the laid-up unit are not on the Board
    assert client.get("/board.csv?show=all").text.count("\n") - 1 == len(ids) - 4
