"""What was typed wrong is put right where it was typed: with the reason, the old row kept, and everything judged from it judged again."""

import json
from datetime import date

import pytest

from conftest import HEADER, TODAY, row, small_register
from vornet.core.drain import DrainFacts
from vornet.core.errors import FormErrors, InputError
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate
from vornet.flows.judge.settle import settling
from vornet.flows.lab import put_right, results
from vornet.flows.register import register
from vornet.flows.work import drain, notes


@pytest.fixture
def wrong(db, fleet):
    """(fleet's id, unit's id, the reading that was typed with a digit too many) of a fleet that no true figure fits any more."""
    fleet_id = fleets.find(db, fleet)
    register.load(db, json.dumps(small_register(fleet)).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    with settling(db, fleet_id, TODAY) as c:
        unit_id = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        notes.read_meter(c, fleet_id, unit_id, 1, 3890.0, date(2026, 1, 12), "Sunniva", TODAY)
        c.execute("UPDATE meter_reading SET meter = 38900 WHERE on_day = '2026-01-12'")  # as nobody would be let type it
        return fleet_id, unit_id, next(r for r in notes.readings(c, unit_id) if r["meter"] == 38900)


def standing(db, fleet_id):
    with db.fleet(fleet_id) as c:
        return c.execute("SELECT oil_hours, due_day FROM standing").fetchone()


def test_a_wrong_reading_blocks_the_unit_until_it_is_put_right(db, wrong):
    fleet_id, unit_id, reading = wrong
    with pytest.raises(InputError, match="goes back"), settling(db, fleet_id, TODAY) as c:
        notes.read_meter(c, fleet_id, unit_id, 1, 3905.0, date(2026, 1, 14), "Sunniva", TODAY)
    with settling(db, fleet_id, TODAY) as c:
        notes.correct_reading(c, fleet_id, reading["reading_id"], 3890.0, None, "a digit too many", "Pat", TODAY)
        notes.read_meter(c, fleet_id, unit_id, 1, 3905.0, date(2026, 1, 14), "Sunniva", TODAY)
    assert standing(db, fleet_id)["oil_hours"] == 405  # filled at 3,500
    with db.fleet(fleet_id) as c:
        rows = {r["reading_id"]: r for r in notes.readings(c, unit_id)}
    old = rows[reading["reading_id"]]
    assert (old["meter"], old["superseded_why"]) == (38900, "a digit too many")
    assert (rows[old["superseded_by"]]["meter"], rows[old["superseded_by"]]["recorded_by"]) == (3890.0, "Pat")


def test_a_reading_is_taken_back_with_nothing_in_its_place(db, wrong):
    fleet_id, _, reading = wrong
    with settling(db, fleet_id, TODAY) as c:
        notes.correct_reading(c, fleet_id, reading["reading_id"], None, None, "another unit's", "Pat", TODAY)
    assert standing(db, fleet_id)["oil_hours"] == 350  # as of the reading before
    with pytest.raises(InputError, match="meanwhile"), settling(db, fleet_id, TODAY) as c:
        notes.correct_reading(c, fleet_id, reading["reading_id"], 3890.0, None, "again", "Pat", TODAY)


@pytest.mark.parametrize(
    ("meter", "on", "why", "field"),
    [(3890.0, None, " ", "why"), (100.0, None, "x", "meter"), (90_000.0, None, "x", "meter"), (3890.0, date(2026, 2, 1), "x", "on")],
)
def test_a_correction_that_cannot_be_changes_nothing(db, wrong, meter, on, why, field):
    fleet_id, unit_id, reading = wrong
    with pytest.raises(InputError) as refused, settling(db, fleet_id, TODAY) as c:
        notes.correct_reading(c, fleet_id, reading["reading_id"], meter, on, why, "Pat", TODAY)
    assert refused.value.field == field
    with db.fleet(fleet_id) as c:
        assert next(r for r in notes.readings(c, unit_id) if r["reading_id"] == reading["reading_id"])["superseded_by"] is None


@pytest.fixture
def misplaced(db, fleet):
    """(fleet's id, the compartments' ids by unit, the drain's id): drained on MV Other, noted on MV Test, its bottle reported."""
    fleet_id = fleets.find(db, fleet)
    own = small_register(fleet)
    other = json.loads(json.dumps(own).replace("MV Test", "MV Other"))
    both = {key: own[key] + other[key] for key in ("units", "readings", "drains")}
    register.load(db, json.dumps({**own, **both}).encode(), by="t", today=TODAY)
    with settling(db, fleet_id, TODAY) as c:
        places = {
            r["name"]: r["compartment_id"]
            for r in c.execute("SELECT u.name, compartment_id FROM compartment JOIN unit u USING (fleet_id, unit_id)").fetchall()
        }
        facts = DrainFacts(missing_l=2, out_l=54)
        noted = drain.Drained(date(2026, 1, 12), 3870.0, facts, in_l=54, sample_no="M-1", note="calm", magnet_grade=1)
        drain_id = drain.log(c, fleet_id, places["MV Test"], noted, "Sunniva", TODAY, {"job": 7})
        c.execute(
            "INSERT INTO bottle (fleet_id, sample_no, compartment_id, drawn_on, meter, oil_hours, drain_id, drawn_by) "
            "VALUES (%s, 'M-1', %s, '2026-01-12', 3870, 370, %s, 'Sunniva')",
            [fleet_id, places["MV Test"], drain_id],
        )
    content = "\n".join([HEADER, row("M-1", "2026-01-12", 3870, 370)]).encode()
    results.load(db, content, fleet=fleet, name="a.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    return fleet_id, places, drain_id


def fills(db, fleet_id):
    """Hours in the oil that runs now, by compartment."""
    with db.fleet(fleet_id) as c:
        return {r["compartment_id"]: r["oil_hours"] for r in c.execute("SELECT compartment_id, oil_hours FROM standing").fetchall()}


def test_a_drain_on_the_wrong_unit_is_moved_with_its_bottle_and_its_sample(db, misplaced):
    fleet_id, places, drain_id = misplaced
    here, there = places["MV Test"], places["MV Other"]
    before = fills(db, fleet_id)
    with settling(db, fleet_id, TODAY) as c:
        change = put_right.Change({"compartment_id": there}, "wrong boat")
        new_id = put_right.correct_drain(c, fleet_id, drain_id, change, "Pat", TODAY)
    after = fills(db, fleet_id)
    assert (before[there], after[there]) == (after[here], before[here])  # both charges followed, each as the other had been
    assert after[here] > 300
    with db.fleet(fleet_id) as c:
        old, new = (c.execute("SELECT * FROM drain WHERE drain_id = %s", [i]).fetchone() for i in (drain_id, new_id))
        assert (old["superseded_by"], old["superseded_why"], old["recorded_by"]) == (new_id, "wrong boat", "Sunniva")
        kept = (
            "on_day", "meter", "volume_out_l", "volume_out_kind", "level_missing_l", "volume_in_l", "oil_id", "filter_changed",
            "magnet_grade", "air_filter", "sample_no", "note", "extra",
        )  # fmt: skip
        assert {k: old[k] for k in kept} == {k: new[k] for k in kept}  # only the place was named
        bottle = c.execute("SELECT * FROM bottle WHERE sample_no = 'M-1'").fetchone()
        assert (bottle["compartment_id"], bottle["drain_id"], bottle["oil_hours"]) == (there, new_id, 370)
        sample = c.execute("SELECT compartment_id, superseded_by FROM sample WHERE sample_no = 'M-1' ORDER BY sample_id").fetchall()
        assert [r["compartment_id"] for r in sample] == [here, there]
        assert sample[1]["superseded_by"] is None


def test_a_corrected_drain_keeps_its_bottle_and_all_that_was_not_named(db, misplaced):
    fleet_id, places, drain_id = misplaced
    with settling(db, fleet_id, TODAY) as c:
        change = put_right.Change({"on_day": date(2026, 1, 13), "volume_out_l": 52.0, "meter": 3870.0}, "a day off")
        new_id = put_right.correct_drain(c, fleet_id, drain_id, change, "Pat", TODAY)
    with db.fleet(fleet_id) as c:
        new = c.execute("SELECT * FROM drain WHERE drain_id = %s", [new_id]).fetchone()
        now = [new[k] for k in ("on_day", "volume_out_l", "meter", "sample_no", "note")]
        assert now == [date(2026, 1, 13), 52.0, 3870.0, "M-1", "calm"]
        bottle = c.execute("SELECT * FROM bottle WHERE sample_no = 'M-1'").fetchone()
        assert (bottle["drain_id"], bottle["compartment_id"], bottle["drawn_on"]) == (new_id, places["MV Test"], date(2026, 1, 13))
        sample = c.execute("SELECT sampled_on FROM sample WHERE sample_no = 'M-1' AND superseded_by IS NULL").fetchone()
        assert sample["sampled_on"] == date(2026, 1, 13)
        assert c.execute("SELECT count(*) AS n FROM correction WHERE made_by = 'Pat'").fetchone()["n"] == 1
    with pytest.raises(InputError, match="meanwhile"), settling(db, fleet_id, TODAY) as c:
        put_right.correct_drain(c, fleet_id, drain_id, change, "Pat", TODAY)  # a correction of a corrected row


def test_a_drain_that_never_was_is_taken_back_and_its_bottle_stays(db, misplaced):
    fleet_id, places, drain_id = misplaced
    with settling(db, fleet_id, TODAY) as c:
        put_right.take_back(c, fleet_id, drain_id, "only a sample was taken", "Pat")
    after = fills(db, fleet_id)
    assert (after[places["MV Test"]], after[places["MV Other"]]) == (370, 350)  # the oil of November runs in both; the sample read 3,870
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT drain_id FROM bottle WHERE sample_no = 'M-1'").fetchone()["drain_id"] is None
        assert c.execute("SELECT superseded_by FROM drain WHERE drain_id = %s", [drain_id]).fetchone()["superseded_by"] == drain_id


@pytest.mark.parametrize(
    ("right", "why", "field"),
    [
        ({"volume_out_l": 52.0}, " ", "why"), ({"volume_out_l": 54.0}, "x", "why"), ({"meter": 100.0}, "x", "meter"),
        ({"meter": 99_000.0}, "x", "meter"), ({"on_day": date(2026, 2, 1)}, "x", "on"), ({"on_day": date(2025, 11, 1)}, "x", "on"),
        ({"volume_out_l": 400.0}, "x", "volume_out_l"), ({"compartment_id": 0}, "x", "compartment"),
    ],
)  # fmt: skip
def test_a_drain_that_cannot_be_changes_nothing(db, misplaced, right, why, field):
    fleet_id, _, drain_id = misplaced
    with pytest.raises(FormErrors) as refused, settling(db, fleet_id, TODAY) as c:
        put_right.correct_drain(c, fleet_id, drain_id, put_right.Change(right, why), "Pat", TODAY)
    assert field in refused.value.errors
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT superseded_by FROM drain WHERE drain_id = %s", [drain_id]).fetchone()["superseded_by"] is None


def test_a_drain_is_not_moved_to_a_unit_that_is_gone(db, misplaced):
    fleet_id, places, drain_id = misplaced
    with db.fleet(fleet_id) as c:
        c.execute("UPDATE unit SET state = 'retired' WHERE name = 'MV Other'")
    change = put_right.Change({"compartment_id": places["MV Other"]}, "wrong boat")
    with pytest.raises(FormErrors, match="retired"), settling(db, fleet_id, TODAY) as c:
        put_right.correct_drain(c, fleet_id, drain_id, change, "Pat", TODAY)


def test_a_file_that_corrects_a_drain_changes_only_what_it_says(db, fleet, misplaced):
    fleet_id, _, drain_id = misplaced
    said = {"unit": "MV Test", "compartment": "engine", "on": "2026-01-12", "meter": 3870}
    register.load(db, json.dumps({"fleet": fleet, "drains": [said]}).encode(), by="t", today=TODAY)  # says nothing new
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT superseded_by FROM drain WHERE drain_id = %s", [drain_id]).fetchone()["superseded_by"] is None
    register.load(db, json.dumps({"fleet": fleet, "drains": [{**said, "volume_out_l": 52}]}).encode(), by="t", today=TODAY)
    with db.fleet(fleet_id) as c:
        old = c.execute("SELECT * FROM drain WHERE drain_id = %s", [drain_id]).fetchone()
        new = c.execute("SELECT * FROM drain WHERE drain_id = %s", [old["superseded_by"]]).fetchone()
        row_s_own = {"drain_id", "superseded_by", "superseded_why", "recorded_at", "recorded_by", "client_id"}
        assert {k for k in old if old[k] != new[k]} - row_s_own == {"volume_out_l"}
        assert c.execute("SELECT drain_id FROM bottle WHERE sample_no = 'M-1'").fetchone()["drain_id"] == new["drain_id"]
