"""Registers and results in: idempotent, bad rows kept with their reason, fleets apart, round trip."""

import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import HEADER, TODAY, healthy_rows, row, small_register
from vornet.core.errors import InputError
from vornet.core.measurands import INDEX
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate, judgements
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.register import dump, register
from vornet.io import cells, results_file


def load(db, name, document):
    return register.load(db, json.dumps(document).encode(), by="test", today=TODAY)


def take(db, fleet, *rows, name="more.csv", header=HEADER):
    return results.load(db, ("\n".join([header, *rows]) + "\n").encode(), fleet=fleet, name=name, by="test")


def count(db, fleet, table):
    with settling(db, fleets.find(db, fleet), TODAY) as connection:
        return connection.execute(f"SELECT count(*) AS n FROM {table}").fetchone()["n"]


def test_the_same_register_twice_changes_nothing(db, fleet):
    before = dump.dump(db, fleet, TODAY)
    report = load(db, fleet, small_register(fleet))
    assert report.problems == []
    assert (report.counts["drains"], report.counts["readings"]) == (0, 0)
    assert dump.dump(db, fleet, TODAY) == before


def test_a_round_trip_loses_nothing(db, fleet_name):
    document = small_register(fleet_name)
    document["units"][0]["plate"] = "kept though not used"
    document["meter_changes"] = [{"unit": "MV Test", "on": "2025-12-01", "old": 3600, "new": 0}]
    document["readings"] = [{"unit": "MV Test", "on": "2025-12-15", "meter": 50}]
    document["events"] = [{"unit": "MV Test", "compartment": "engine", "on": "2025-06-01", "meter": 3100,
                           "kind": "part_change", "litres_out": 3, "litres_in": 3}]  # fmt: skip
    document["level_checks"] = [{"unit": "MV Test", "compartment": "engine", "on": "2025-06-09", "level_missing_l": 1}]
    document["top_ups"] = [{"unit": "MV Test", "compartment": "engine", "on": "2025-02-01", "meter": 1200, "litres": 4}]
    assert load(db, fleet_name, document).problems == []
    out = dump.dump(db, fleet_name, TODAY)
    again = fleet_name + " again"
    register.load(db, json.dumps(out).encode(), fleet=again, by="test", today=TODAY)
    second = dump.dump(db, again, TODAY)
    assert {**second, "fleet": ""} == {**out, "fleet": ""}
    assert out["units"][0]["plate"] == "kept though not used"
    assert out["drains"][0]["volume_out_l"] == 54


@pytest.mark.parametrize(
    ("change", "where", "field"),
    [
        ({"drains": [{"unit": "MV Test", "compartment": "engine", "on": "2025-12-20", "meter": 3700, "volume_out_l": 90}]},
         "drains[0]", "volume_out_l"),
        ({"drains": [{"unit": "MV Test", "compartment": "engine", "on": "2025-12-20", "meter": 2100}]}, "drains[0]", "meter"),
        ({"readings": [{"unit": "MV Nowhere", "on": "2025-12-20", "meter": 1}]}, "readings[0]", "unit"),
        ({"readings": [{"unit": "MV Test", "on": "2025-12-20", "meter": "lots"}]}, "readings[0]", "meter"),
        ({"readings": [{"unit": "MV Test", "on": "soon", "meter": 5}]}, "readings[0]", "on"),
        ({"top_ups": [{"unit": "MV Test", "compartment": "sauna", "on": "2025-12-20", "meter": 3700, "litres": 2}]},
         "top_ups[0]", "compartment"),
    ],
)  # fmt: skip
def test_a_bad_register_row_is_named_and_the_rest_goes_in(db, fleet, change, where, field):
    report = load(db, fleet, {"fleet": fleet, **change})
    assert [(p.where, p.field) for p in report.problems] == [(where, field)]


def test_capacity_below_capacity_without_filter(db, fleet_name):
    document = small_register(fleet_name)
    document["units"][0]["compartments"][0]["capacity_without_filter_l"] = 58
    report = load(db, fleet_name, document)
    assert "capacity_without_filter_l 58 L is above capacity_l 55 L" in str(report.problems[0])


@pytest.mark.parametrize("content", [b"", b"[1,2]", b"{", b"\xff\xfe\x00", b'{"hello": 1}', b"PK\x03\x04zip"])
def test_a_file_that_is_no_register_is_refused_whole(db, content):
    with pytest.raises(InputError):
        register.load(db, content, by="test", today=TODAY)


def test_the_same_results_twice_change_nothing(db, fleet):
    again = take(db, fleet, *healthy_rows())
    assert (again.new, again.same, again.import_file_id) == (0, 5, None)
    assert count(db, fleet, "sample") == 5


def test_bad_rows_are_held_with_field_and_reason_and_the_good_go_in(db, fleet):
    report = take(
        db, fleet, row("N1", "2025-12-01", 3600, 100, drained=False), row("N2", "2025-12-02", 3610, 110, unit="MV Ghost"),
        row("N3", "2025-12-03", 3620, 120, fe="plenty"), row("N4", "32.13.2025", 3630, 130), row("", "2025-12-04", 3640, 140),
        row("N1", "2025-12-05", 3650, 150),
    )  # fmt: skip
    held = {(b.row_no, b.field, b.reason) for b in report.held}
    assert held == {
        (3, "unit", "unknown_unit"), (4, "fe", "bad_number"), (5, "sampled_on", "bad_date"),
        (6, "sample_no", "no_sample_number"), (7, "sample_no", "number_twice"),
    }  # fmt: skip
    assert report.new == 1
    assert count(db, fleet, "held_row") == 5
    assert next(b for b in report.held if b.row_no == 4).original["fe"] == "plenty"


def test_a_held_row_goes_in_once_its_unit_exists(db, fleet):
    take(db, fleet, row("N9", "2025-12-02", 10, 10, unit="MV Late"))
    document = small_register(fleet)
    document["units"][0]["unit"] = "MV Late"
    load(db, fleet, {"fleet": fleet, "units": document["units"]})
    [report] = results.retry(db, fleet, "test")
    assert report.new == 1
    with settling(db, fleets.find(db, fleet), TODAY) as connection:
        assert connection.execute("SELECT count(*) AS n FROM held_row WHERE resolved_at IS NULL").fetchone()["n"] == 0


def test_a_later_report_supersedes_and_an_equal_date_contradicts(db, fleet):
    newer = row("S004", "2025-11-01", 3500, 500).replace("Lab A,2025-11-01,2025-11-01", "Lab A,2025-11-01,2025-11-20")
    assert take(db, fleet, newer).reissued == 1
    assert take(db, fleet, newer).same == 1
    clash = take(db, fleet, newer.replace(",105.000,", ",108.000,"))
    assert [b.reason for b in clash.held] == ["contradicts"]
    other_day = take(db, fleet, row("S003", "2025-09-09", 3100, 100))
    assert [b.reason for b in other_day.held] == ["other_date"]
    with settling(db, fleets.find(db, fleet), TODAY) as connection:
        n = connection.execute("SELECT count(*) AS n FROM sample WHERE sample_no = 'S004'").fetchone()["n"]
    assert n == 2  # the old report is still there, superseded


def test_foreign_headers_separators_decimal_commas_and_censored_values(db, fleet):
    header = "Sample No;Unit;Component;Sample date;Meter;Hours on oil;Iron (ppm);KV100;TBN;Water (%);Soot"
    report = take(db, fleet, "X1;mv test;Engine;01.12.2025;3600;100;12,5;14,1;9,2;0,02;<0,1", header=header)
    assert report.held == []
    with settling(db, fleets.find(db, fleet), TODAY) as connection:
        s = connection.execute("SELECT values, below FROM sample WHERE sample_no = 'X1'").fetchone()
    at = INDEX
    got = [s["values"][at[k]] for k in ("fe", "v100", "bn", "water_ppm", "soot_pct")]
    assert got == pytest.approx([12.5, 14.1, 9.2, 200, 0.1])
    assert s["below"] == 1 << at["soot_pct"]


@pytest.mark.parametrize("content", [b"", b"\x00\x01\x02", b"a,b\n1,2\n", b"sample_no,unit\nA,B\n", b"PK\x03\x04", HEADER.encode()])
def test_a_file_that_is_no_results_file_is_refused_whole(db, fleet, content):
    with pytest.raises(InputError):
        results.load(db, content, fleet=fleet, name="x", by="test")
    assert count(db, fleet, "import_file") == 1


def test_screening_holds_and_a_held_sample_has_no_verdict(db, fleet):
    take(
        db, fleet, row("H1", "2025-12-20", 900, 100, drained=False), row("H2", "2025-12-21", 3680, 180, False, v40=9, v100=14),
        row("H3", "2025-12-22", 3690, 190, False, bn=14), row("H4", "2025-12-23", 3700, 900, False),
    )  # fmt: skip
    evaluate.evaluate(db, fleet, TODAY)
    out = {r["sample_no"]: r for r in judgements.judgements(db, fleet)}
    reasons = {n: [h["reason"] for h in out[n]["held"]] for n in ("H1", "H2", "H3", "H4")}
    assert reasons == {
        "H1": ["meter_back"], "H2": ["viscosity_order"], "H3": ["bn_above_new"], "H4": ["oil_hours_exceed_drain"],
    }  # fmt: skip
    assert all(out[n]["proposed"] is None for n in reasons)
    assert out["S001"]["proposed"] == "run_on"


def test_intervals_export_has_the_contract_keys(db, fleet):
    [answer] = judgements.intervals(db, fleet)
    assert {"unit", "compartment", "current_h", "outcome", "proposed_h", "safe_h", "safe_h_as_is", "limiting", "next_h",
            "next_limiting", "guards", "schools", "charges"} <= set(answer)  # fmt: skip
    assert (answer["outcome"], answer["limiting"], answer["charges"]) == ("lengthen", "bn", 5)


def test_evaluating_one_compartment_equals_evaluating_all(db, fleet):
    before = judgements.intervals(db, fleet)
    with settling(db, fleets.find(db, fleet), TODAY) as connection:
        ids = [r["compartment_id"] for r in connection.execute("SELECT compartment_id FROM compartment").fetchall()]
    evaluate.evaluate(db, fleet, TODAY, ids)
    assert judgements.intervals(db, fleet) == before


def test_drains_unknown_to_the_register_are_taken_from_the_samples(db, fleet_name):
    load(db, fleet_name, small_register(fleet_name, drains=[]))
    take(db, fleet_name, *healthy_rows())
    evaluate.evaluate(db, fleet_name, TODAY)
    [answer] = judgements.intervals(db, fleet_name)
    assert answer["charges"] == 4  # five drains drawn from samples start five charges, four of them sampled


@settings(max_examples=120, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.text(alphabet="0123456789.,-+<>eE nda", max_size=12), st.booleans())
def test_any_cell_is_a_number_or_a_sentence(text, comma):
    answer = cells.read_number(text, comma)
    if isinstance(answer, str):
        assert answer
    else:
        value, sign = answer
        assert value != value or abs(value) <= cells.LARGEST
        assert sign in ("", "<", ">")


@settings(max_examples=60)
@given(st.binary(max_size=300))
def test_any_bytes_are_rows_or_one_refusal(content):
    refused = ""
    chunks = []
    try:
        chunks = list(results_file.chunks(results_file.open_file(content)))
    except InputError as error:
        refused = error.why
    assert refused or all(len(c.row_no) == len(c.values) for c in chunks)


def test_a_long_file_takes_its_place_from_the_drain_that_announced_it(db, fleet):
    load(db, fleet, {"fleet": fleet, "drains": [{"unit": "MV Test", "compartment": "engine", "on": "2025-12-20",
                     "meter": 3700, "sample_no": "L77"}]})  # fmt: skip
    report = take(db, fleet, "L77,fe,12,ppm", "L77,bn,8.1,", "L78,fe,3,ppm", header="sample_no,measurand,value,unit")
    assert (report.new, [(b.field, b.reason) for b in report.held]) == (1, [("sampled_on", "no_date")])
    with settling(db, fleets.find(db, fleet), TODAY) as connection:
        s = connection.execute("SELECT sampled_on, meter, values[1] AS fe FROM sample WHERE sample_no = 'L77'").fetchone()
    assert (s["sampled_on"].isoformat(), s["meter"], s["fe"]) == ("2025-12-20", 3700, 12)
