"""What was typed wrong is put right where it was typed: with the reason, the old row kept, and everything judged from it judged again."""

import json
from datetime import date

import pytest

from conftest import TODAY, small_register
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate
from vornet.flows.judge.settle import settling
from vornet.flows.register import register
from vornet.flows.work import notes


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
