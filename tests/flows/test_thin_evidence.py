"""Fleets that know little: no volumes, no oil, no drains, no meters, distance, replaced meters. A clear answer, never a NaN."""

import json
import math

from conftest import TODAY, small_register
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate, judgements
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.pages import compartment
from vornet.flows.register import register


def built(db, name, document, rows):
    report = register.load(db, json.dumps({**document, "fleet": name}).encode(), by="test", today=TODAY)
    if rows:
        results.load(db, ("\n".join(rows) + "\n").encode(), fleet=name, name="r.csv", by="test")
    evaluate.evaluate(db, name, TODAY)
    return report


def answers(db, name):
    rows = judgements.intervals(db, name)
    text = json.dumps(rows, allow_nan=False)  # raises on NaN
    assert "Infinity" not in text
    with settling(db, fleets.find(db, name), TODAY) as connection:
        for r in connection.execute("SELECT compartment_id FROM compartment").fetchall():
            assert compartment.load(connection, r["compartment_id"], TODAY) is not None
    return {(r["unit"], r["compartment"]): r for r in rows}


def test_a_fleet_of_bare_names(db, fleet_name):
    axle = {"unit": "B", "meter_unit": "km", "compartments": [{"compartment": "axle", "kind": "axle"}]}
    document = {"units": [{"unit": "A", "compartments": [{"compartment": "engine", "kind": "engine"}]}, axle]}
    rows = ["sample_no,unit,compartment,sampled_on,fe,bn,v100", "1,A,engine,2025-05-01,20,8,14", "2,B,axle,2025-05-01,<1,,",
            "3,A,engine,2025-06-01,,,"]  # fmt: skip
    built(db, fleet_name, document, rows)
    found = answers(db, fleet_name)
    assert {r["outcome"] for r in found.values()} == {"not_enough"}
    proposed = {j["sample_no"]: j["proposed"] for j in judgements.judgements(db, fleet_name)}
    assert proposed == {"1": "run_on", "2": "run_on", "3": None}  # nothing measured: no confident verdict


def test_an_empty_fleet(db, fleet_name):
    built(db, fleet_name, {"units": []}, [])
    assert answers(db, fleet_name) == {}


def test_no_drains_but_oil_hours_are_told(db, fleet_name):
    document = small_register(fleet_name, drains=[])
    header = "sample_no,unit,compartment,sampled_on,meter,oil_hours,bn,oxidation"
    rows = [header] + [
        f"{i},MV Test,engine,2025-{m:02d}-01,{1500 + 500 * i},490,{7 + 0.1 * (i % 2)},{15 + i % 3}" for i, m in enumerate((2, 4, 6, 8, 10))
    ]
    built(db, fleet_name, document, rows)
    answer = answers(db, fleet_name)["MV Test", "engine"]
    assert answer["charges"] == 5
    assert answer["limiting"] == "bn"


def test_a_unit_that_counts_distance_speaks_km(db, fleet_name):
    document = small_register(fleet_name)
    unit = document["units"][0]
    unit["meter_unit"] = "km"
    c = unit["compartments"][0]
    c["interval_km"], c["cap_km"] = 20000, 40000
    del c["interval_h"], c["cap_h"]
    document["drains"] = [{**d, "meter": 100000 + 20000 * i} for i, d in enumerate(document["drains"])]
    document["readings"] = [{"unit": "MV Test", "on": "2026-01-10", "meter": 205000}]
    header = "sample_no,unit,compartment,sampled_on,meter,oil_km,drained,bn,oxidation"
    rows = [header] + [
        f"{i},MV Test,engine,{d['on']},{d['meter']},20000,true,{7.2 + 0.1 * (i % 2)},{14 + i % 2}"
        for i, d in enumerate(document["drains"]) if i
    ]  # fmt: skip
    built(db, fleet_name, document, rows)
    answer = answers(db, fleet_name)["MV Test", "engine"]
    assert answer["current_km"] == 20000
    assert answer["proposed_km"] % 1000 == 0
    assert answer["outcome"] == "lengthen"
    assert "safe_h" not in answer


def test_a_replaced_meter_goes_on(db, fleet_name):
    document = small_register(fleet_name)
    document["meter_changes"] = [{"unit": "MV Test", "on": "2025-06-01", "old": 2250, "new": 0}]
    for d in document["drains"]:
        if d["on"] > "2025-06-01":
            d["meter"] -= 2250
    document["readings"] = [{"unit": "MV Test", "on": "2026-01-10", "meter": 1600}]
    report = built(db, fleet_name, document, [])
    assert report.problems == []
    answer = answers(db, fleet_name)["MV Test", "engine"]
    assert answer["oil_h"] == 350  # 1600 + 2250 on the running total, last drain at 3500


def test_an_absurd_value_is_not_a_confident_verdict(db, fleet):
    header = "sample_no,unit,compartment,sampled_on,meter,fe,bn"
    report = results.load(
        db, f"{header}\nZ1,MV Test,engine,2025-12-20,3700,1e308,8\nZ2,MV Test,engine,2025-12-21,3705,NaN,8\n".encode(),
        fleet=fleet, name="z.csv", by="test",
    )  # fmt: skip
    assert [b.field for b in report.held] == ["fe", "fe"]


def test_safe_hours_are_numbers_or_none(db, fleet):
    for answer in judgements.intervals(db, fleet):
        for key in ("safe_h", "next_h", "proposed_h"):
            assert answer[key] is None or math.isfinite(answer[key])
