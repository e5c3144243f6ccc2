"""Parsers, tables, drains and roles at their edges."""

import csv
import io
import json
import socket

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import HEADER, TODAY, approve_seen
from vornet.core.errors import FormErrors, InputError
from vornet.core.measurands import INDEX
from vornet.core.meter import longest_rising
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate
from vornet.flows.judge.settle import settling
from vornet.flows.register import register
from vornet.flows.work import drain
from vornet.io import cells, lab_header, register_file, results_file, tables
from vornet.store import cluster
from vornet.web.charts.ribbon import life_bar
from vornet.web.drain_form import DrainForm


@pytest.mark.parametrize(
    ("text", "day_first", "expected"),
    [
        ("2026-01-05", True, "2026-01-05"), ("5.1.2026", True, "2026-01-05"), ("05/01/2026", True, "2026-01-05"),
        ("01/05/2026", False, "2026-01-05"), ("2026/01/05", True, "2026-01-05"), ("2026-01-05T10:00:00", True, "2026-01-05"),
        ("", True, "None"),
    ],
)  # fmt: skip
def test_dates_in_their_styles(text, day_first, expected):
    assert str(cells.read_date(text, day_first)) == expected


@pytest.mark.parametrize("text", ["2026-13-01", "31.02.2026", "yesterday", "20260105", "1/2/26"])
def test_dates_that_are_none(text):
    with pytest.raises(ValueError, match=r"date|month|day"):
        cells.read_date(text)


@pytest.mark.parametrize(
    ("key", "unit", "factor"),
    [("water_ppm", "%", 1e4), ("fe", "ppm", 1), ("oxidation", "A/0.1 mm", 100), ("v100", "cSt", 1), ("fe", "cSt", None),
     ("bn", "mg KOH/g", 1), ("soot_pct", "ppm", 1e-4)],
)  # fmt: skip
def test_lab_units(key, unit, factor):
    assert lab_header.unit_factor(key, unit) == factor


@pytest.mark.parametrize(
    ("cell", "comma", "expected"),
    [("12", False, (12, "")), ("1.234,5", True, (1234.5, "")), ("1,234.5", False, (1234.5, "")), ("0,5", False, (0.5, "")),
     ("<0.5", False, (0.5, "<")), ("> 100", False, (100, ">")), ("≤2", False, (2, "<")), ("1e3", False, (1000, ""))],
)  # fmt: skip
def test_numbers(cell, comma, expected):
    assert cells.read_number(cell, comma) == expected


def test_a_wrong_unit_in_a_header_is_said_and_left_out():
    header = lab_header.read_header(["sample_no", "Fe (cSt)", "Cu (ppm)"])
    assert [m for m, _, _ in header.measurands] == [INDEX["cu"]]
    assert "is not a unit for iron" in header.problems[0]


def test_a_million_columns_are_refused():
    with pytest.raises(InputError, match="at most"):
        lab_header.read_header(["sample_no"] + ["x"] * 500)


def test_long_rows_become_samples():
    text = b"sample_no,measurand,value,unit\nA,fe,12,ppm\nA,Water,0.02,%\nB,fe,7,mg/kg\nB,fe,9,cSt\n"
    [chunk] = results_file.chunks(results_file.open_file(text))
    assert chunk.values[0, INDEX["water_ppm"]] == pytest.approx(200)
    assert [(b.field, b.original["sample_no"]) for b in chunk.bad] == [("fe", "B")]


def test_json_results():
    text = json.dumps([{"sample_no": "A", "unit": "U", "sampled_on": "2026-01-05", "values": {"fe": 3}}]).encode()
    [chunk] = results_file.chunks(results_file.open_file(text))
    assert chunk.values[0, 0] == 3


@given(st.lists(st.floats(0, 1000, allow_nan=False), max_size=30))
def test_the_kept_meters_never_fall_and_no_longer_run_exists(totals):
    points = list(enumerate(totals))
    kept = [t for (_, t), keep in zip(points, longest_rising(points), strict=True) if keep]
    assert kept == sorted(kept)
    best = [1] * len(totals)
    for i in range(len(totals)):
        best[i] = 1 + max((best[j] for j in range(i) if totals[j] <= totals[i]), default=0)
    assert len(kept) == max(best, default=0)


def test_one_mistyped_meter_does_not_condemn_the_rest():
    assert longest_rising([(1, 100), (2, 99999), (3, 120), (4, 130)]) == [True, False, True, True]


@pytest.mark.parametrize("text", ["=1+1", "+cmd", "-2+3", "@x", "\t=1", "worn;=1+1", 'a "b";@x|-2', "two\n=lines", "it's", "'=held", ";'+x"])
@pytest.mark.parametrize("separator", [",", ";", "\t", "|"])
def test_no_cell_carries_a_live_formula(text, separator):
    """Whatever a spreadsheet takes for the separator; and what is read back is what was written."""
    out = tables.as_csv([{"a": "x", "b": text, "c": text}])
    cells = [c for line in csv.reader(io.StringIO(out), delimiter=separator) for c in line]
    assert not [c for c in cells if c.startswith(("=", "+", "-", "@", "\t", "\r"))]
    assert tables.let_go(tables.cell(text)) == text


def test_numbers_stay_numbers_in_tables():
    assert tables.as_csv([{"a": -2.5, "b": None, "c": ["x"]}]) == 'a,b,c\n-2.5,,"[""x""]"\n'


def test_register_errors_name_place_and_field():
    document = {"fleet": "F", "units": [{"unit": "A", "compartments": [
        {"compartment": "e", "kind": "rocket"}, {"compartment": "e", "kind": "engine", "interval_h": 0}, 5]}, {"depot": "x"}],
        "oils": [{"name": "o", "bn": "ten"}], "drains": "none"}  # fmt: skip
    found = {(p.where, p.field) for p in register_file.read(json.dumps(document).encode()).problems}
    assert found == {
        ("oils[0]", ""), ("units[0].compartments[0]", "kind"), ("units[0].compartments[1]", "interval_h"),
        ("units[0].compartments[2]", ""), ("units[1]", "unit"), ("drains", ""),
    }  # fmt: skip


def test_lists_not_read_yet_are_said(db, fleet):
    document = {"fleet": fleet, "units": [], "wagons": [1, 2]}
    report = register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    assert report.left_out == ["wagons: not read yet (2 entries)"]


def place(db, fleet):
    with settling(db, fleets.find(db, fleet), TODAY) as connection:
        i = connection.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        return i, drain.place(connection, i)


def test_drain_figures_follow_what_is_typed(db, fleet):
    _, row = place(db, fleet)
    form = DrainForm({"meter": "3950", "volume_out_l": "52,0", "level_missing_l": "2", "filter_changed": "yes"})
    f = drain.follow(row, form.drained("h", TODAY), TODAY)
    assert (f.sums.residual_l, f.sums.residual_share, f.sums.target_l) == (pytest.approx(6), pytest.approx(0.1), pytest.approx(54))
    assert f.next_due == 4450
    assert (form.errors, f.errors) == ({}, {})


def test_unmeasured_litres_fall_back_on_the_refill_capacity(db, fleet):
    _, row = place(db, fleet)
    f = drain.follow(row, DrainForm({"meter": "3950", "filter_changed": "no"}).drained("h", TODAY), TODAY).sums
    assert f.target_l == 53  # without filter, nothing taken off again
    assert f.assumed == ("level_not_read", "out_not_measured")


@pytest.mark.parametrize(
    ("fields", "bad"),
    [({"meter": "3800"}, "meter"), ({"meter": "9999"}, "meter"), ({"meter": "x"}, "meter"), ({"on": "2027-01-01"}, "on"),
     ({"volume_out_l": "61"}, "volume_out_l"), ({"level_missing_l": "70", "volume_out_l": "1"}, "level_missing_l"),
     ({"magnet_grade": "7"}, "magnet_grade"), ({"on": "2025-11-01", "meter": "3500"}, "on"),
     ({"volume_in_l": "90"}, "volume_in_l")],
)  # fmt: skip
def test_impossible_drains_are_refused_by_field(db, fleet, fields, bad):
    i, _ = place(db, fleet)
    form = DrainForm({"meter": "3950", **fields})
    fleet_id, drained = fleets.find(db, fleet), form.drained("h", TODAY)
    if bad not in form.errors:
        with settling(db, fleet_id, TODAY) as connection, pytest.raises(FormErrors) as refused:
            drain.log(connection, fleet_id, i, drained, "test", TODAY)
        assert bad in refused.value.errors


def test_a_technician_logs_drains_but_approves_nothing(db, fleet, served):
    login = "tech" + fleet.replace(" ", "").lower()
    people.add(db, fleet, login, "T", "right-and-long", "technician")
    client = httpx.Client(base_url=served.url, timeout=30)
    client.post("/sign-in", data={"login": login, "password": "right-and-long"})
    i, _ = place(db, fleet)
    csrf = client.get(f"/compartments/{i}/drain").text.split('name="csrf" value="')[1].split('"')[0]
    refused = client.post(f"/compartments/{i}/interval", data={"csrf": csrf, "interval": "600", "why": "x"})
    assert refused.status_code == 403
    assert client.post(f"/compartments/{i}/drain", data={"csrf": csrf, "meter": "3950"}).status_code == 303
    assert client.post("/lab/retry", data={"csrf": csrf}).status_code == 403


def test_an_interval_beyond_the_cap_is_refused(db, fleet, served):
    login = "cap" + fleet.replace(" ", "").lower()
    people.add(db, fleet, login, "P", "right-and-long", "planner")
    client = httpx.Client(base_url=served.url, timeout=30)
    client.post("/sign-in", data={"login": login, "password": "right-and-long"})
    i, _ = place(db, fleet)
    page = client.get(f"/compartments/{i}/interval").text
    csrf, seen = (page.split(f'name="{name}" value="')[1].split('"')[0] for name in ("csrf", "seen"))
    answer = client.post(f"/compartments/{i}/interval", data={"csrf": csrf, "interval": "1200", "why": "x", "seen": seen})
    assert answer.status_code == 422
    assert "cap of 1000" in answer.text


def test_an_approved_interval_survives_the_same_register_again(db, fleet):
    from conftest import small_register

    i, _ = place(db, fleet)
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as connection:
        approve_seen(connection, fleet_id, i, 625, "", "Planner", TODAY)
    register.load(db, json.dumps(small_register(fleet)).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    assert place(db, fleet)[1]["interval_meter"] == 625


def test_a_taken_port_is_not_an_error():
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        taken = s.getsockname()[1]
        assert cluster._free_port(taken) != taken


def test_the_life_bar_ends_where_the_safe_life_ends():
    assert 'width="166.7"' in life_bar(100, 500, 400, True, 172)  # 170 px over 1.02 × 500
    assert "hollow" in life_bar(100, 500, 500, False)
    assert "life-end" in life_bar(600, 500, 500, True)
    assert "life-none" in life_bar(None, None, None, False)


def test_header_of_the_shared_example_is_known():
    assert lab_header.read_header(HEADER.split(",")).unknown == []
