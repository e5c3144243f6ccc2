"""The lab's side end to end on PostgreSQL: files as jobs, headings explained once, re-issues, corrections, swaps, bottles,
a lab that is asked, a folder that is watched, a worker that is killed."""

import io
import json
import os
import signal
import subprocess
import sys
import time
from datetime import UTC, date, datetime, timedelta

import numpy as np
import pytest
from fastapi.testclient import TestClient

from conftest import HEADER, TODAY, fresh_database, row, small_register
from vornet.core.errors import InputError
from vornet.core.measurands import INDEX
from vornet.flows import worker
from vornet.flows.house import days, fleets
from vornet.flows.judge import evaluate, fleet_history, judgements, verdicts
from vornet.flows.judge.settle import settling
from vornet.flows.lab import asking, files, held_rows, held_samples, inbox, labs, parcels, results
from vornet.flows.register import register
from vornet.io.lab_header import Meaning
from vornet.io.lab_link import FolderLab, HttpLab, LabTrouble
from vornet.sim import lab as lab_sim
from vornet.store import queue, secrets
from vornet.store.database import Database, clone_dir, query
from vornet.words.say import say


@pytest.fixture(scope="module")
def db(worker_id):
    """A database with a queue nobody else works on: here the tests say when work is done."""
    database = Database(fresh_database(f"test_{worker_id}_lab"), size=6)
    yield database
    database.close()


def csv_of(*rows: str, header: str = HEADER) -> bytes:
    return ("\n".join([header, *rows]) + "\n").encode()


def drop(db, fleet, content: bytes, name="r.csv", lab="") -> int:
    """A file dropped on the page: kept and put on the queue."""
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        return inbox.take(c, fleet_id, io.BytesIO(content), name=name, lab=lab, by="An Analyst").import_file_id


def rows_of(db, fleet, sql: str, *args):
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        return c.execute(sql, args).fetchall()


def one(db, fleet, sql: str, *args):
    return rows_of(db, fleet, sql, *args)[0]


def state(db, fleet, import_file_id: int) -> dict:
    return one(db, fleet, "SELECT * FROM import_file WHERE import_file_id = %s", import_file_id)


def open_holds(db, fleet) -> dict[str, dict]:
    sql = """SELECT h.*, s.sample_no FROM hold h JOIN sample s USING (fleet_id, sample_id)
              WHERE h.settled_at IS NULL AND s.superseded_by IS NULL"""
    return {f"{h['sample_no']} {h['reason']}": h for h in rows_of(db, fleet, sql)}


# ---- files on the queue ----------------------------------------------------------------------------------


def test_a_dropped_file_is_read_by_a_worker_and_judged(db, fleet):
    file_id = drop(db, fleet, csv_of(row("Q1", "2025-12-20", 3700, 200, False)))
    assert state(db, fleet, file_id)["state"] == "waiting"
    worker.drain_queue(db, TODAY)
    done = state(db, fleet, file_id)
    assert (done["state"], done["rows_in"], done["rows_new"], done["rows_done"]) == ("done", 1, 1, 1)
    assert done["reading"] == "commas between columns, decimal point"
    assert {r["sample_no"]: r["proposed"] for r in judgements.judgements(db, fleet)}["Q1"] == "run_on"


def test_the_same_bytes_are_recognised_and_change_nothing(db, fleet):
    content = csv_of(row("Q2", "2025-12-20", 3700, 200, False))
    first = drop(db, fleet, content)
    worker.drain_queue(db, TODAY)
    assert drop(db, fleet, content, name="again.csv") == first
    worker.drain_queue(db, TODAY)
    done = state(db, fleet, first)
    assert (done["state"], done["rows_new"], done["rows_same"]) == ("done", 1, 0)
    assert done["again_at"] is not None
    assert one(db, fleet, "SELECT count(*) AS n FROM sample WHERE sample_no = 'Q2'")["n"] == 1


def test_a_file_that_cannot_be_read_is_refused_kept_and_writes_nothing(db, fleet):
    before = one(db, fleet, "SELECT count(*) AS n FROM sample")["n"]
    file_id = drop(db, fleet, b"\x89PNG\r\n\x1a\n\x00\x00", name="photo.csv")
    worker.drain_queue(db, TODAY)
    refused = state(db, fleet, file_id)
    assert (refused["state"], refused["trouble"]) == ("refused", "file: is not a CSV or JSON file (nor a workbook)")
    assert one(db, fleet, "SELECT count(*) AS n FROM sample")["n"] == before
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        assert files.stream(c, file_id).read() == b"\x89PNG\r\n\x1a\n\x00\x00"


def test_a_long_file_is_kept_in_pieces_and_comes_back_byte_for_byte(db, fleet):
    content = os.urandom(2 * files.PIECE_BYTES + 12345)
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        kept = files.keep(c, fleet_id, io.BytesIO(content), name="x", lab="", by="t")
        assert kept.bytes == len(content)
        stream = files.stream(c, kept.import_file_id)
        assert stream.read() == content
        stream.seek(files.PIECE_BYTES - 5)
        assert stream.read(10) == content[files.PIECE_BYTES - 5 : files.PIECE_BYTES + 5]
        assert one(db, fleet, "SELECT count(*) AS n FROM import_piece WHERE false")["n"] == 0


def test_headings_are_explained_once_and_remembered_for_the_lab(db, fleet):
    header = "Prøve;Maskin;Del;Uttatt;Telleverk;Jern;Kalsium %;Vær"
    content = f"{header}\nN1;MV Test;engine;20.12.2025;3700;12,5;0,24;sol\n".encode("cp1252")
    first = drop(db, fleet, content, lab="Kaj")
    worker.drain_queue(db, TODAY)
    assert state(db, fleet, first)["state"] == "mapping"
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        page = inbox.file_page(c, first)
    assert [u["name"] for u in page["mapping"]["unknown"]] == header.split(";")
    assert page["mapping"]["unknown"][5]["examples"] == ["12,5"]
    said = {"Prøve": Meaning("sample_no"), "Maskin": Meaning("unit"), "Del": Meaning("compartment"), "Uttatt": Meaning("sampled_on"),
            "Telleverk": Meaning("meter"), "Jern": Meaning("fe", "ppm"), "Kalsium %": Meaning("ca", "%")}  # fmt: skip
    with pytest.raises(InputError, match="Vær"), db.fleet(fleet_id) as c:
        inbox.explain(c, fleet_id, first, "Kaj", said, "An Analyst")
    with pytest.raises(InputError, match="not a unit"), db.fleet(fleet_id) as c:
        inbox.explain(c, fleet_id, first, "Kaj", {**said, "Jern": Meaning("fe", "cSt"), "Vær": Meaning("")}, "An Analyst")
    with settling(db, fleet_id, TODAY) as c:
        inbox.explain(c, fleet_id, first, "Kaj", {**said, "Vær": Meaning("")}, "An Analyst")
    worker.drain_queue(db, TODAY)
    assert state(db, fleet, first)["state"] == "done"
    values = one(db, fleet, "SELECT values FROM sample WHERE sample_no = 'N1'")["values"]
    assert (values[INDEX["fe"]], values[INDEX["ca"]]) == (12.5, pytest.approx(2400))
    second = drop(db, fleet, content.replace(b"N1", b"N2"), lab="Kaj")
    worker.drain_queue(db, TODAY)
    assert state(db, fleet, second)["state"] == "done"


def test_a_value_opens_to_its_row_in_the_lab_s_own_words(db, fleet):
    file_id = drop(db, fleet, b"A lab\n\n" + csv_of(row("P1", "2025-12-20", 3700, 200, False, fe="<2.0")))
    worker.drain_queue(db, TODAY)
    sample = one(db, fleet, "SELECT import_file_id, row_no FROM sample WHERE sample_no = 'P1'")
    assert sample == {"import_file_id": file_id, "row_no": 4}
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        found = inbox.row_as_it_came(c, file_id, 4)
    assert dict(zip(found["names"], found["rows"][0], strict=True))["fe"] == "<2.0"
    assert found["keys"][found["names"].index("fe")] == "fe"


def test_a_long_file_shows_every_row_of_the_sample(db, fleet):
    lines = ["Bottle,Asset,Component,Date drawn,Meter,Parameter,Result,Unit"]
    lines += [f"L{n},MV Test,engine,20/12/2025,3700,{p},{v},ppm" for p, v in (("FE", 12), ("CU", 4)) for n in (1, 2)]
    file_id = drop(db, fleet, "\n".join(lines).encode())
    worker.drain_queue(db, TODAY)
    assert state(db, fleet, file_id)["layout"] == "long csv"
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        found = inbox.row_as_it_came(c, file_id, 3)
    assert [r[5:7] for r in found["rows"]] == [["FE", "12"], ["CU", "4"]]


# ---- a worker is killed ----------------------------------------------------------------------------------

KILLED = """
import sys
from datetime import date
from vornet.flows import worker
from vornet.store.database import Database, Location
db = Database(Location(*sys.argv[1:3]), size=4)
def step(rows):
    print(rows, flush=True)
    import time; time.sleep(60)
worker.read_kept(db, int(sys.argv[3]), int(sys.argv[4]), date(2026, 1, 15), step)
"""


def test_a_killed_worker_leaves_nothing_half_done_and_its_file_is_taken_up_again(db, fleet):
    lines = [row(f"K{i:05d}", "2025-12-20", 3700, 200, False) for i in range(6000)]  # more than one chunk
    file_id = drop(db, fleet, csv_of(*lines))
    fleet_id = fleets.find(db, fleet)
    reading = subprocess.Popen(
        [sys.executable, "-c", KILLED, db.location.owner_url, db.location.app_url, str(fleet_id), str(file_id)],
        stdout=subprocess.PIPE, text=True, cwd=clone_dir(),
    )  # fmt: skip
    assert reading.stdout.readline()  # it is in the middle of the file
    reading.send_signal(signal.SIGKILL)
    reading.wait()
    assert one(db, fleet, "SELECT count(*) AS n FROM sample WHERE sample_no LIKE 'K%%'")["n"] == 0
    assert state(db, fleet, file_id)["state"] == "reading"
    worker.drain_queue(db, TODAY)
    done = state(db, fleet, file_id)
    assert (done["state"], done["rows_new"]) == ("done", 6000)
    assert one(db, fleet, "SELECT count(DISTINCT sample_no) AS d, count(*) AS n FROM sample WHERE sample_no LIKE 'K%%'") == {
        "d": 6000,
        "n": 6000,
    }


def test_a_job_whose_worker_is_dead_goes_back_on_the_queue(db, fleet):
    import asyncio
    from concurrent.futures import ThreadPoolExecutor

    file_id = drop(db, fleet, csv_of(row("D1", "2025-12-20", 3700, 200, False)))
    with db.anyone() as c:  # as a dead worker leaves it
        c.execute("INSERT INTO procrastinate_workers (last_heartbeat) VALUES (now() - interval '1 hour')")
        c.execute(
            "UPDATE procrastinate_jobs SET status = 'doing', worker_id = (SELECT max(id) FROM procrastinate_workers) WHERE status = 'todo'"
        )

    async def back() -> int:
        app = worker.app_of(worker.Works(db, TODAY))
        async with app.open_async():
            return await worker.requeue(app)

    with ThreadPoolExecutor(1) as aside:  # a browser of another test may hold this thread's loop
        assert aside.submit(asyncio.run, back()).result() == 1
    worker.drain_queue(db, TODAY)
    assert state(db, fleet, file_id)["state"] == "done"


# ---- re-issues, corrections ------------------------------------------------------------------------------


def test_a_reissued_report_supersedes_and_both_stay_to_be_seen(db, fleet):
    results.load(db, csv_of(row("R1", "2025-12-20", 3700, 200, False)), fleet=fleet, name="a.csv", by="t")
    again = row("R1", "2025-12-20", 3700, 200, False, fe=20.0)
    cells = again.split(",")
    cells[12] = "2025-12-28"  # reported_on
    results.load(db, csv_of(",".join(cells)), fleet=fleet, name="b.csv", by="t")
    sample = one(db, fleet, "SELECT sample_id FROM sample WHERE sample_no = 'R1' AND superseded_by IS NULL")
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        newest, oldest = held_samples.history_of(c, sample["sample_id"])
    assert newest["changed"] == ["Iron 12 to 20"]
    assert (newest["file_name"], oldest["file_name"], oldest["superseded_why"]) == (
        "b.csv",
        "a.csv",
        "re-issued by the lab",
    )


def test_a_file_read_again_with_more_headings_explained_replaces_its_own_rows(db, fleet):
    content = b"sample_no,unit,compartment,sampled_on,meter,Fe,Jerninnhold\nG1,MV Test,engine,2025-12-20,3700,12,7\n"
    results.load(db, content, fleet=fleet, name="g.csv", by="t", lab="Kaj")
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        labs.explain(c, fleet_id, "Kaj", {"Jerninnhold": Meaning("cr", "ppm")}, "t")
    results.load(db, content, fleet=fleet, name="g.csv", by="t", lab="Kaj")
    found = rows_of(db, fleet, "SELECT values, superseded_why FROM sample WHERE sample_no = 'G1' ORDER BY sample_id")
    assert [f["superseded_why"] for f in found] == ["read again", None]
    assert found[1]["values"][INDEX["cr"]] == 7


def test_a_number_twice_in_one_file_is_held_even_far_apart(db, fleet):
    lines = [row(f"T{i:05d}", "2025-12-20", 3700, 200, False) for i in range(5100)]
    lines.append(row("T00003", "2025-12-21", 3710, 210, False))
    report = results.load(db, csv_of(*lines), fleet=fleet, name="t.csv", by="t")
    assert (report.new, report.held_rows) == (5100, 1)
    assert (report.held[0].reason, report.held[0].detail) == (
        "number_twice",
        "sample number T00003 is already in row 5",
    )
    again = results.load(db, csv_of(*lines), fleet=fleet, name="t.csv", by="t")
    assert (again.new, again.same, again.import_file_id) == (0, 5100, None)


@pytest.mark.parametrize(("received", "reported", "held"), [
    ("2025-12-22", "2025-12-24", False), ("2025-12-20", "2025-12-20", False), ("", "2025-12-19", True),
    ("2025-12-19", "2025-12-24", True), ("2025-12-23", "2025-12-22", True),
])  # fmt: skip
def test_days_come_in_order_drawn_received_reported(db, fleet, received, reported, held):
    cells = row("T1", "2025-12-20", 3700, 200, False).split(",")
    at = HEADER.split(",").index("received_on")
    cells[at : at + 2] = [received, reported]
    report = results.load(db, csv_of(",".join(cells)), fleet=fleet, name="t.csv", by="t")
    assert [b.reason for b in report.held] == (["dates_order"] if held else [])
    assert report.new == (not held)


def test_a_day_that_lies_ahead_waits_and_does_not_stand_before_every_later_sample(db, fleet, monkeypatch):
    """A digit wrong in the year: the sample would be the last one of its engine for years."""
    monkeypatch.setattr(days, "now", lambda: datetime(2026, 1, 15, 12, tzinfo=UTC))
    lines = [row("T1", "2036-01-12", 3860, 360, False), row("T2", "2026-01-15", 3870, 370, False)]
    report = results.load(db, csv_of(*lines), fleet=fleet, name="t.csv", by="t")
    assert [(b.reason, b.field, b.detail) for b in report.held] == [
        ("date_ahead", "sampled_on", "drawn on 2036-01-12, and today is 2026-01-15")
    ]
    assert report.new == 1


def test_a_register_s_days_to_come_are_left_out_with_their_place(db, fleet):
    """A meter read next year would stand before every reading to come."""
    document = small_register(fleet)
    document["readings"] += [{"unit": "MV Test", "on": "2027-01-10", "meter": 5000}, {"unit": "MV Test", "on": "2026-01-15", "meter": 3860}]
    document["drains"].append({**document["drains"][-1], "on": "2026-10-01", "meter": 4000})
    report = register.load(db, json.dumps(document).encode(), by="test", today=TODAY)
    assert [str(p) for p in report.problems] == [
        "readings[3], on: 2027-01-10 is still to come", "drains[6], on: 2026-10-01 is still to come",
    ]  # fmt: skip
    with db.fleet(fleets.find(db, fleet)) as c:
        assert c.execute("SELECT max(on_day) AS d FROM meter_reading").fetchone()["d"] == TODAY
        assert c.execute("SELECT max(on_day) AS d FROM drain").fetchone()["d"] < TODAY


@pytest.fixture
def slipped(db, fleet):
    """A sample with oxidation in A/0.1 mm."""
    results.load(db, csv_of(row("U1", "2025-12-20", 3700, 200, False, oxidation=0.11)), fleet=fleet, name="u.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    return fleet


def test_a_slip_of_unit_is_put_right_and_the_lab_s_file_still_changes_nothing(db, slipped):
    hold = open_holds(db, slipped)["U1 unit_slip"]
    assert "in A/0.1 mm?" in say(hold["detail"])
    fleet_id = fleets.find(db, slipped)
    with settling(db, fleet_id, TODAY) as c:
        held_samples.correct(c, fleet_id, hold["sample_id"], {"oxidation": "11"}, "the lab uses A/0.1 mm", "An Analyst", TODAY)
    assert open_holds(db, slipped) == {}
    assert {r["sample_no"]: r["proposed"] for r in judgements.judgements(db, slipped)}["U1"] == "run_on"
    again = results.load(db, csv_of(row("U1", "2025-12-20", 3700, 200, False, oxidation=0.11)), fleet=slipped, name="u.csv", by="t")
    assert (again.new, again.same, again.held_rows) == (0, 1, 0)
    with settling(db, fleet_id, TODAY) as c:
        current = c.execute("SELECT sample_id, values FROM sample WHERE sample_no = 'U1' AND superseded_by IS NULL").fetchone()
        newest = held_samples.history_of(c, current["sample_id"])[0]
    assert current["values"][INDEX["oxidation"]] == 11
    assert (newest["kind"], newest["what"], newest["made_by"]) == ("corrected", "oxidation 0.11 to 11", "An Analyst")


@pytest.mark.parametrize(("typed", "why", "field"), [
    ({"oxidation": "much"}, "x", "oxidation"), ({"meter": "-3"}, "x", "meter"), ({"sampled_on": "2027-01-01"}, "x", "sampled_on"),
    ({"oxidation": "0.11"}, "x", "values"), ({"oxidation": "11"}, " ", "why"), ({"unit": "Other"}, "x", "unit"),
])  # fmt: skip
def test_a_correction_that_is_none_says_which_field(db, slipped, typed, why, field):
    hold = open_holds(db, slipped)["U1 unit_slip"]
    fleet_id = fleets.find(db, slipped)
    with pytest.raises(InputError) as told, db.fleet(fleet_id) as c:
        held_samples.correct(c, fleet_id, hold["sample_id"], typed, why, "An Analyst", TODAY)
    assert told.value.field == field
    assert "U1 unit_slip" in open_holds(db, slipped)


def test_what_was_released_stays_released_through_a_correction(db, fleet):
    results.load(db, csv_of(row("V1", "2025-12-20", 3700, 200, False, oxidation=0.11, bn=14)), fleet=fleet, name="v.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    holds = open_holds(db, fleet)
    assert set(holds) == {"V1 unit_slip"}  # the unit is told first: what follows from it waits
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        new = held_samples.correct(c, fleet_id, holds["V1 unit_slip"]["sample_id"], {"oxidation": "11"}, "unit", "A", TODAY)
    assert set(open_holds(db, fleet)) == {"V1 bn_above_new"}
    with settling(db, fleet_id, TODAY) as c:
        held_samples.settle(c, fleet_id, open_holds(db, fleet)["V1 bn_above_new"]["hold_id"], "released", "another method", "A", TODAY)
        held_samples.correct(c, fleet_id, new, {"fe": "14"}, "printed wrongly", "A", TODAY)
    assert open_holds(db, fleet) == {}


def test_a_rejected_sample_is_out_of_every_judgement(db, slipped):
    hold = open_holds(db, slipped)["U1 unit_slip"]
    fleet_id = fleets.find(db, slipped)
    with settling(db, fleet_id, TODAY) as c:
        held_samples.settle(c, fleet_id, hold["hold_id"], "rejected", "withdrawn", "A", TODAY)
    judged = {r["sample_no"]: r for r in judgements.judgements(db, slipped)}["U1"]
    assert judged["proposed"] is None
    assert [h["reason"] for h in judged["held"]] == ["unit_slip"]
    with pytest.raises(InputError, match="settled already"), db.fleet(fleet_id) as c:
        held_samples.settle(c, fleet_id, hold["hold_id"], "released", "no", "A", TODAY)


def test_a_held_row_is_corrected_and_taken_in_with_its_original_kept(db, fleet):
    results.load(db, csv_of(row("W1", "2025-12-20", 3700, 200, False, unit="M/V Test")), fleet=fleet, name="w.csv", by="t")
    held = one(db, fleet, "SELECT * FROM held_row WHERE sample_no = 'W1'")
    fleet_id = fleets.find(db, fleet)
    with pytest.raises(InputError, match="no unit named"), db.fleet(fleet_id) as c:
        held_rows.correct_row(c, fleet_id, held["held_row_id"], {"unit": "MV Tset"}, "typo", "A")
    with settling(db, fleet_id, TODAY) as c:
        assert held_rows.correct_row(c, fleet_id, held["held_row_id"], {"unit": "MV Test"}, "typo at the lab", "A") == "W1"
    assert {r["sample_no"]: r["proposed"] for r in judgements.judgements(db, fleet)}["W1"] == "run_on"
    after = one(db, fleet, "SELECT * FROM held_row WHERE sample_no = 'W1'")
    assert after["original"]["unit"] == "M/V Test"
    assert after["resolution"] == "taken in: typo at the lab"
    with pytest.raises(InputError, match="dealt with"), db.fleet(fleet_id) as c:
        held_rows.correct_row(c, fleet_id, held["held_row_id"], {}, "again", "A")


def test_a_row_whose_number_is_taken_replaces_the_earlier_one_only_when_told_to(db, fleet):
    results.load(db, csv_of(row("X1", "2025-12-20", 3700, 200, False)), fleet=fleet, name="x.csv", by="t")
    results.load(db, csv_of(row("X1", "2025-12-20", 3700, 200, False, fe=33.0)), fleet=fleet, name="y.csv", by="t")
    held = one(db, fleet, "SELECT * FROM held_row WHERE sample_no = 'X1'")
    assert held["reason"] == "contradicts"
    fleet_id = fleets.find(db, fleet)
    with pytest.raises(InputError, match="already there"), db.fleet(fleet_id) as c:
        held_rows.correct_row(c, fleet_id, held["held_row_id"], {}, "as it is", "A")
    with settling(db, fleet_id, TODAY) as c:
        held_rows.correct_row(c, fleet_id, held["held_row_id"], {}, "the lab confirms", "A", force=True)
    found = rows_of(db, fleet, "SELECT values, superseded_by FROM sample WHERE sample_no = 'X1' ORDER BY sample_id")
    assert [f["superseded_by"] is None for f in found] == [False, True]
    assert found[1]["values"][INDEX["fe"]] == 33


# ---- swaps and oil that nobody recorded ------------------------------------------------------------------


@pytest.fixture
def pair(db, fleet_name):
    """A ferry with an engine and a gearbox, four samples each."""
    document = small_register(fleet_name)
    oil = {"ca": 2400, "zn": 1200, "p": 1050, "mg": 20, "b": 5, "s": 3800}
    document["oils"][0] |= oil
    gear = {
        "name": "Gear 90",
        "v40": 142,
        "v100": 14.8,
        "an": 1.9,
        "ca": 20,
        "zn": 30,
        "p": 1350,
        "mg": 4,
        "b": 210,
        "s": 21000,
    }
    document["oils"].append(gear)
    document["units"][0]["compartments"].append(
        {"compartment": "gearbox", "kind": "gearbox", "family": "T1 gearbox", "system_volume_l": 20, "capacity_l": 18, "oil": "Gear 90",
         "interval_h": 1000})  # fmt: skip
    document["drains"] += [{**d, "compartment": "gearbox", "oil": "Gear 90", "volume_out_l": 17.5, "level_missing_l": 0.5, "volume_in_l": 18}
                           for d in document["drains"][:5]]  # fmt: skip
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    keys = ("fe", "cu", "v40", "v100", "an", "bn", "ca", "zn", "p", "mg", "b", "s", "oxidation", "soot_pct")
    lines = ["sample_no,unit,compartment,sampled_on,meter,oil_hours,drained," + ",".join(keys)]
    rng = np.random.default_rng(1)
    days = ("2025-03-01", "2025-05-01", "2025-07-01", "2025-09-01", "2025-11-01")
    for i, day in enumerate(days):
        for place, new, moves in (
            ("engine", {**oil, "v40": 105, "v100": 14.2, "bn": 10, "an": 2, "oxidation": 8},
             {"fe": 30, "cu": 6, "bn": -3, "an": 0.9, "oxidation": 7, "soot_pct": 0.8}),
            ("gearbox", gear, {"fe": 20, "cu": 5, "an": 0.2}),
        ):  # fmt: skip
            values = {k: (new.get(k, 0.0) + moves.get(k, 0.0)) * (1 + 0.01 * rng.standard_normal()) for k in keys}
            shown = ["" if place == "gearbox" and k in ("bn", "soot_pct", "oxidation") else f"{values[k]:.3f}" for k in keys]
            lines.append(f"{place[0].upper()}{i},MV Test,{place},{day},{1500 + 500 * i},500,true," + ",".join(shown))
    return fleet_name, lines


def exchanged(lines: list[str], a: str, b: str) -> list[str]:
    at = {line.split(",")[0]: i for i, line in enumerate(lines)}
    one_, two = lines[at[a]].split(","), lines[at[b]].split(",")
    one_[7:], two[7:] = two[7:], one_[7:]
    out = list(lines)
    out[at[a]], out[at[b]] = ",".join(one_), ",".join(two)
    return out


def test_swapped_bottles_are_swapped_back_with_one_word_and_the_file_still_changes_nothing(db, pair):
    name, lines = pair
    content = "\n".join(exchanged(lines, "E3", "G3")).encode()
    results.load(db, content, fleet=name, name="s.csv", by="t")
    evaluate.evaluate(db, name, TODAY)
    holds = open_holds(db, name)
    assert {"E3 swapped_bottle", "G3 swapped_bottle"} <= set(holds)
    assert "MV Test gearbox (sample G3)" in say(holds["E3 swapped_bottle"]["detail"])
    fleet_id = fleets.find(db, name)
    with settling(db, fleet_id, TODAY) as c:
        held_samples.swap(c, fleet_id, holds["E3 swapped_bottle"]["hold_id"], "labels", "A")
    assert not any("swapped" in k for k in open_holds(db, name))
    sulfur = {
        r["sample_no"]: r["values"][INDEX["s"]] for r in rows_of(db, name, "SELECT sample_no, values FROM sample WHERE superseded_by IS NULL")
    }
    assert sulfur["E3"] == pytest.approx(3800, rel=0.1)
    assert sulfur["G3"] == pytest.approx(21000, rel=0.1)
    where = {r["sample_no"]: r["row_no"] for r in rows_of(db, name, "SELECT sample_no, row_no FROM sample WHERE superseded_by IS NULL")}
    at = {line.split(",")[0]: i + 1 for i, line in enumerate(lines)}
    assert (where["E3"], where["G3"]) == (at["G3"], at["E3"])  # each value opens to the row where it is printed
    again = results.load(db, content, fleet=name, name="s.csv", by="t")
    assert (again.new, again.reissued, again.held_rows) == (0, 0, 0)


def test_the_second_half_of_a_swap_is_seen_when_only_one_place_is_evaluated(db, pair):
    name, lines = pair
    swapped = exchanged(lines, "E4", "G4")
    results.load(db, "\n".join(swapped[:-1]).encode(), fleet=name, name="a.csv", by="t")
    evaluate.evaluate(db, name, TODAY)
    report = results.load(db, "\n".join([swapped[0], swapped[-1]]).encode(), fleet=name, name="b.csv", by="t")
    evaluate.evaluate(db, name, TODAY, sorted(report.compartments))
    assert {"E4 swapped_bottle", "G4 swapped_bottle"} <= set(open_holds(db, name))


def test_a_healthy_pair_is_let_in(db, pair):
    name, lines = pair
    results.load(db, "\n".join(lines).encode(), fleet=name, name="h.csv", by="t")
    evaluate.evaluate(db, name, TODAY)
    assert open_holds(db, name) == {}


def test_oil_that_nobody_recorded_is_recorded_from_its_hold(db, fleet):
    full = {"fe": 40.0, "cr": 6.0, "al": 12.0, "cu": 20.0, "pb": 14.0, "sn": 8.0}
    results.load(
        db,
        csv_of(row("O1", "2025-12-01", 3600, 100, False, **full),
               row("O2", "2025-12-20", 3700, 200, False, **{k: 0.6 * v for k, v in full.items()})),
        fleet=fleet, name="o.csv", by="t",
    )  # fmt: skip
    evaluate.evaluate(db, fleet, TODAY)
    hold = open_holds(db, fleet)["O2 unrecorded_top_up"]
    assert hold["facts"]["litres"] == pytest.approx(24, abs=1)  # 40 % of 60 L
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        assert held_samples.record_oil(c, fleet_id, hold["hold_id"], "A", TODAY).endswith("top-up on 2025-12-10 recorded")
    top_up = one(db, fleet, "SELECT litres, on_day, meter FROM top_up")
    assert (top_up["on_day"], top_up["meter"]) == (date(2025, 12, 10), 3650)
    assert not any("unrecorded" in k for k in open_holds(db, fleet))


# ---- bottles and parcels ---------------------------------------------------------------------------------


def compartment_of(db, fleet) -> int:
    return one(db, fleet, "SELECT compartment_id FROM compartment LIMIT 1")["compartment_id"]


def make_lab(db, fleet, **more) -> int:
    fleet_id = fleets.find(db, fleet)
    settings = {
        "name": "Lab A",
        "way": "hand",
        "address": "",
        "key": "",
        "usual_days": 10,
        "depots": [],
        "by": "t",
        **more,
    }
    with settling(db, fleet_id, TODAY) as c:
        return labs.put(c, fleet_id, **settings)


def draw(db, fleet, number: str, on: date = TODAY, **more) -> int:
    fleet_id = fleets.find(db, fleet)
    given = {
        "compartment_id": compartment_of(db, fleet),
        "oil_id": None,
        "batch": "",
        "meter": 3850.0,
        "conditions": {},
        **more,
    }
    with settling(db, fleet_id, TODAY) as c:
        return parcels.draw(c, fleet_id, sample_no=number, on=on, by="Sunniva", today=TODAY, **given)


def bottle(db, fleet, number: str, day: date = TODAY) -> dict:
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        return next(b for b in parcels.shown(c, day) if b["sample_no"] == number)


def test_a_bottle_goes_from_the_shelf_to_a_verdict(db, fleet):
    lab_id = make_lab(db, fleet)
    bottle_id = draw(db, fleet, "B-1")
    assert bottle(db, fleet, "B-1")["state"] == "drawn"
    assert bottle(db, fleet, "B-1")["oil_hours"] == 350  # since the fill at 3,500 h
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        parcel = parcels.pack(c, fleet_id, [bottle_id], lab_id, "fragile", "Sunniva", TODAY)
        listed = parcels.packing_list(c, parcel, TODAY)
        assert listed["document"]["bottles"][0] | {"oil_hours": 350.0} == {
            "sample_no": "B-1", "unit": "MV Test", "compartment": "engine", "sampled_on": "2026-01-15", "meter": 3850.0, "oil_hours": 350.0,
            "meter_unit": "h", "oil": "Test 15W-40", "batch": "", "topup_l": 0.0, "drained": False}  # fmt: skip
        parcels.send(c, fleet_id, parcel, TODAY, "Sunniva", TODAY)
    assert bottle(db, fleet, "B-1")["state"] == "sent"
    with settling(db, fleet_id, TODAY) as c:
        parcels.receive(c, fleet_id, "B-1", TODAY, "Sunniva")
    assert bottle(db, fleet, "B-1")["state"] == "received"
    # the lab repeats nothing but the number: the label says the rest
    results.load(
        db,
        b"sample_no,fe,v100,bn,reported_on\nB-1,20,14.2,8,2026-01-15\n",
        fleet=fleet,
        name="b.csv",
        by="t",
        lab="Lab A",
    )
    assert bottle(db, fleet, "B-1")["state"] == "reported"
    evaluate.evaluate(db, fleet, TODAY)
    assert bottle(db, fleet, "B-1")["state"] == "screened"
    with settling(db, fleet_id, TODAY) as c:
        verdicts.sign(c, fleet_id, bottle(db, fleet, "B-1")["sample_id"], "run_on", by="A", today=TODAY, reason="as usual")
    done = bottle(db, fleet, "B-1")
    assert (done["state"], done["shipment"]) == ("judged", "P26-0001")
    sample = one(db, fleet, "SELECT meter, oil_hours, sampled_on FROM sample WHERE sample_no = 'B-1'")
    assert sample == {"meter": 3850, "oil_hours": 350, "sampled_on": TODAY}


def test_a_held_result_is_reported_and_no_further(db, fleet):
    draw(db, fleet, "B-2")
    results.load(db, b"sample_no,v40,v100,reported_on\nB-2,9,14.2,2026-01-15\n", fleet=fleet, name="b.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    assert bottle(db, fleet, "B-2")["state"] == "reported"


def test_late_missing_and_unsent_bottles_are_found(db, fleet):
    lab_id = make_lab(db, fleet, usual_days=10)
    sent = draw(db, fleet, "B-3", TODAY - timedelta(days=40), meter=3600.0)
    draw(db, fleet, "B-4", TODAY - timedelta(days=5), meter=3800.0)
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        parcel = parcels.pack(c, fleet_id, [sent], lab_id, "", "S", TODAY - timedelta(days=15))
        parcels.send(c, fleet_id, parcel, TODAY - timedelta(days=15), "S", TODAY)
    assert [bottle(db, fleet, "B-3")[k] for k in ("late", "missing")] == [True, False]
    assert bottle(db, fleet, "B-3", TODAY + timedelta(days=10))["missing"]
    assert bottle(db, fleet, "B-4")["unsent"]
    with settling(db, fleet_id, TODAY) as c:
        [shown] = parcels.shipments(c, TODAY)
        assert shown["late"]
        assert parcels.overview(c, TODAY)["late"] == 1
        parcels.lose(c, fleet_id, sent, "broken in the post", "S", TODAY)
        assert not parcels.shipments(c, TODAY)[0]["late"]
    assert bottle(db, fleet, "B-3")["state"] == "lost"
    with settling(db, fleet_id, TODAY) as c:
        parcels.find_again(c, fleet_id, sent, "S")
    assert bottle(db, fleet, "B-3")["state"] == "sent"


def test_a_parcel_can_be_undone_until_it_has_left(db, fleet):
    lab_id = make_lab(db, fleet)
    first, second = draw(db, fleet, "B-5"), draw(db, fleet, "B-6")
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        parcel = parcels.pack(c, fleet_id, [first, second], lab_id, "", "S", TODAY)
        with pytest.raises(InputError, match="in a parcel already"):
            parcels.pack(c, fleet_id, [first], lab_id, "", "S", TODAY)
        parcels.unpack(c, fleet_id, first, "S")
        parcels.send(c, fleet_id, parcel, TODAY, "S", TODAY)
        with pytest.raises(InputError, match="has left"):
            parcels.unpack(c, fleet_id, second, "S")
        with pytest.raises(InputError, match="left already"):
            parcels.send(c, fleet_id, parcel, TODAY, "S", TODAY)


@pytest.mark.parametrize(("more", "field"), [
    ({"number": ""}, "sample_no"), ({"number": "x" * 50}, "sample_no"), ({"on": TODAY + timedelta(days=1)}, "on"),
    ({"meter": 3000.0}, "meter"),
    ({"compartment_id": 999999}, "compartment"), ({"compartment_id": None}, "oil"),
])  # fmt: skip
def test_a_bottle_that_cannot_be_is_refused_by_field(db, fleet, more, field):
    given = {"number": "B-7", "on": TODAY, **more}
    with pytest.raises(InputError) as told:
        draw(db, fleet, given.pop("number"), given.pop("on"), **given)
    assert told.value.field == field


def test_a_number_is_given_to_one_bottle_only(db, fleet):
    draw(db, fleet, "B-8")
    with pytest.raises(InputError, match="drawn before"):
        draw(db, fleet, "B-8")


def test_a_bottle_of_new_oil_makes_the_oil_s_fingerprint(db, fleet):
    oil = one(db, fleet, "SELECT oil_id FROM oil")["oil_id"]
    draw(db, fleet, "N-1", compartment_id=None, oil_id=oil, batch="T15-1", meter=None)
    assert bottle(db, fleet, "N-1")["batch"] == "T15-1"
    report = results.load(db, b"sample_no,ca,zn\nN-1,2410,1190\n", fleet=fleet, name="n.csv", by="t", lab="Lab A")
    assert report.new_oil
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        loaded = fleet_history.load(c, TODAY)
        values = loaded.history.known.at(np.array([loaded.oil_ids.index(oil)])).value[0]
    assert (values[INDEX["ca"]], values[INDEX["zn"]]) == (2410, 1190)


def test_a_lab_that_names_another_place_than_the_label_is_held(db, fleet, pair):
    name, _ = pair
    engine = one(db, name, "SELECT compartment_id FROM compartment WHERE name = 'engine'")["compartment_id"]
    draw(db, name, "B-9", compartment_id=engine)
    report = results.load(
        db,
        b"sample_no,unit,compartment,sampled_on,fe\nB-9,MV Test,gearbox,2026-01-15,3\n",
        fleet=name,
        name="x.csv",
        by="t",
    )
    assert [b.reason for b in report.held] == ["label_differs"]


def test_turnaround_is_measured(db, fleet):
    make_lab(db, fleet)
    lines = []
    for i, (way, bench) in enumerate(((2, 4), (3, 5), (2, 9))):
        on = date(2025, 11, 10 + i)
        cells = row(f"Z{i}", on.isoformat(), 3560 + 10 * i, 60 + 10 * i, False).split(",")
        cells[11], cells[12] = (on + timedelta(days=way)).isoformat(), (on + timedelta(days=way + bench)).isoformat()
        lines.append(",".join(cells))
    results.load(db, csv_of(*lines), fleet=fleet, name="z.csv", by="t")
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        c.execute("DELETE FROM sample WHERE sample_no LIKE 'S0%%'")
        [lab] = c.execute(query("labs.labs"), {"today": TODAY}).fetchall()
    assert (lab["n"], lab["way_days"], lab["lab_days"], lab["all_days"]) == (3, 2, 5, 8)


# ---- ways in ---------------------------------------------------------------------------------------------


class Watch:
    now = 1000.0

    def __call__(self) -> float:
        return self.now


@pytest.fixture
def bench(tmp_path):
    """The lab that ships with Vornet, in this process, with a clock of its own and no mistakes."""
    watch = Watch()
    made = lab_sim.Bench(tmp_path / "books", lab_sim.Clock(5, 20, watch), TODAY - timedelta(days=1096), 1, 0.0, 1.0)
    transport = TestClient(lab_sim.create_app(made))._transport

    def link(lab, fleet_id):
        return HttpLab("http://testserver/" + lab["address"].rsplit("/", 1)[-1], secrets.unseal(lab["key"]), transport)

    return made, watch, link


@pytest.mark.parametrize(("desk", "layout"), [("holm", "wide xlsx"), ("kaj", "wide csv"), ("pier", "long csv")])
def test_a_bottle_sent_to_each_desk_comes_back_as_a_judged_sample(db, fleet, bench, desk, layout):
    _, watch, link = bench
    name = lab_sim.DESKS[desk]
    lab_id = make_lab(db, fleet, name=name, way="pull", address=f"http://lab.test/{desk}", key=lab_sim.KEY)
    fleet_id = fleets.find(db, fleet)
    if desk == "kaj":
        with settling(db, fleet_id, TODAY) as c:
            labs.explain(c, fleet_id, name, {h: Meaning(k, u) for h, (k, u) in lab_sim.kaj_headings().items()}, "t")
    bottle_id = draw(db, fleet, f"D-{desk}")
    with settling(db, fleet_id, TODAY) as c:
        parcel = parcels.pack(c, fleet_id, [bottle_id], lab_id, "", "S", TODAY)
        parcels.send(c, fleet_id, parcel, TODAY, "S", TODAY)

    def ask() -> dict:
        done = asking.ask(db, fleet_id, TODAY, queue.put_file, link)
        worker.drain_queue(db, TODAY)
        return done

    assert ask() == {"told": 1, "received": 0, "reports": 0, "trouble": 0}
    watch.now += 6
    assert ask()["received"] == 1
    assert bottle(db, fleet, f"D-{desk}")["state"] == "received"
    watch.now += 20
    assert ask()["reports"] == 1
    file = one(db, fleet, "SELECT * FROM import_file WHERE lab = %s", name)
    assert (file["state"], file["layout"], file["rows_new"], file["way"]) == ("done", layout, 1, "pull")
    done = bottle(db, fleet, f"D-{desk}")
    assert done["state"] in ("screened", "reported")
    sample = one(db, fleet, "SELECT values, meter, compartment_id FROM sample WHERE sample_no = %s", f"D-{desk}")
    assert sample["meter"] == 3850
    assert sample["values"][INDEX["fe"]] > 3
    watch.now += 40  # the lab issues it again, with iron run once more
    assert ask()["reports"] == 1
    assert (
        one(
            db,
            fleet,
            "SELECT count(*) AS n FROM sample WHERE sample_no = %s AND superseded_by IS NOT NULL",
            f"D-{desk}",
        )["n"]
        == 1
    )
    assert ask() == {"told": 0, "received": 0, "reports": 0, "trouble": 0}


def test_a_lab_that_cannot_be_reached_is_noted_and_the_parcel_waits(db, fleet):
    lab_id = make_lab(db, fleet, way="pull", address="http://127.0.0.1:9/none", key="k")
    bottle_id = draw(db, fleet, "E-1")
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        parcel = parcels.pack(c, fleet_id, [bottle_id], lab_id, "", "S", TODAY)
        parcels.send(c, fleet_id, parcel, TODAY, "S", TODAY)
    assert asking.ask(db, fleet_id, TODAY, queue.put_file)["trouble"] == 1
    lab = one(db, fleet, "SELECT trouble FROM lab")
    assert "cannot be reached" in lab["trouble"]
    shipment = one(db, fleet, "SELECT told_at, trouble FROM shipment")
    assert shipment["told_at"] is None
    assert "cannot be reached" in shipment["trouble"]


def test_the_wrong_key_is_said_to_be_wrong(bench):
    made, _, _ = bench
    transport = TestClient(lab_sim.create_app(made))._transport
    with pytest.raises(LabTrouble, match=r"answers 401 Unauthorized$"):
        list(HttpLab("http://testserver/holm", "guess", transport).reports(""))


def test_a_lab_s_books_survive_a_restart(bench, tmp_path):
    made, watch, _ = bench
    label = {
        "sample_no": "A",
        "unit": "MV Hallovane",
        "compartment": "port engine",
        "sampled_on": "2026-01-10",
        "oil_hours": 200,
        "oil": "Skerry D 15W-40",
    }
    made.accept("holm", "P1", {"sent_on": "2026-01-11", "bottles": [label]})
    watch.now += 100
    [report, *_] = made.reports("holm", "")
    again = lab_sim.Bench(tmp_path / "books", lab_sim.Clock(5, 20, watch), TODAY - timedelta(days=1096), 1, 0.0, 1.0)
    assert again.report("holm", report["id"]) == made.report("holm", report["id"])
    assert again.accept("holm", "P1", {"sent_on": "2026-01-11", "bottles": []})["bottles"] == 1


def test_a_watched_folder_hands_over_what_is_finished_and_moves_it_away(db, fleet, tmp_path):
    make_lab(db, fleet, name="Folder lab", way="folder", address="folder-lab")
    folder = tmp_path / "drop"

    def link(lab, fleet_id):
        return FolderLab(folder, settled_s=1.0)

    fleet_id = fleets.find(db, fleet)
    asking.ask(db, fleet_id, TODAY, queue.put_file, link)
    content = csv_of(row("F1", "2025-12-20", 3700, 200, False))
    (folder / "r.csv").write_bytes(content)
    os.utime(folder / "r.csv", (time.time() - 60, time.time() - 60))
    (folder / "still-being-written.csv").write_bytes(content)
    (folder / ".hidden").write_bytes(content)
    assert asking.ask(db, fleet_id, TODAY, queue.put_file, link)["reports"] == 1
    worker.drain_queue(db, TODAY)
    assert one(db, fleet, "SELECT lab FROM sample WHERE sample_no = 'F1'")["lab"] == "Lab A"  # the file says which lab
    assert sorted(p.name for p in folder.iterdir() if p.is_file()) == [".hidden", "still-being-written.csv"]
    assert (folder / "taken" / "r.csv").read_bytes() == content


def test_a_folder_gets_the_packing_list_and_may_say_what_arrived(tmp_path):
    way = FolderLab(tmp_path)
    way.tell({"number": "P1", "sent_on": "2026-01-11", "bottles": [{"sample_no": "=1+1", "unit": "U"}]})
    assert (tmp_path / "parcels" / "P1.csv").read_text() == "number,sent_on,sample_no,unit\nP1,2026-01-11,'=1+1,U\n"
    assert way.received("P1") == {}
    (tmp_path / "parcels" / "P1.received.json").write_text('{"A": "2026-01-12"}')
    assert way.received("P1") == {"A": date(2026, 1, 12)}
    (tmp_path / "parcels" / "P1.received.json").write_text("[")
    with pytest.raises(LabTrouble):
        way.received("P1")


@pytest.mark.parametrize(("more", "field"), [
    ({"name": ""}, "name"), ({"way": "pigeon"}, "way"), ({"way": "pull", "address": "ftp://x"}, "address"),
    ({"way": "folder", "address": "../etc"}, "address"), ({"usual_days": 0}, "usual_days"),
])  # fmt: skip
def test_a_lab_that_cannot_be_set_up_says_which_field(db, fleet, more, field):
    with pytest.raises(InputError) as told:
        make_lab(db, fleet, **more)
    assert told.value.field == field


def test_a_lab_s_opinion_is_kept_and_not_obeyed(db, fleet):
    line = row("C1", "2025-12-20", 3700, 200, False) + ",C,change the engine at once"
    results.load(db, csv_of(line, header=HEADER + ",severity,comment"), fleet=fleet, name="c.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    assert one(db, fleet, "SELECT severity, comment FROM sample WHERE sample_no = 'C1'") == {
        "severity": "C",
        "comment": "change the engine at once",
    }
    assert {r["sample_no"]: r["proposed"] for r in judgements.judgements(db, fleet)}["C1"] == "run_on"


def test_what_waits_goes_out_as_a_table_without_live_formulas(db, fleet):
    results.load(db, csv_of(row("=cmd|x", "2025-12-20", 3700, 200, False, unit="@U")), fleet=fleet, name="e.csv", by="t")
    text = inbox.waiting_csv(db, fleets.find(db, fleet))
    assert "'=cmd|x,'@U" in text
