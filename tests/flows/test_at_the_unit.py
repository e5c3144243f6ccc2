"""What the drain saw reaches the judgement and the pages; parts looked after, a change of oil, a technician's day, pictures, loss."""

import json
import uuid
from datetime import date, timedelta

import numpy as np
import pytest
from test_jobs import engine_rows, picture, ready, row, send  # noqa: F401

from conftest import HEADER, TODAY
from conftest import row as result
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate, fleet_history
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.pages import compartment as pages
from vornet.flows.pages import looks
from vornet.flows.plan import service
from vornet.flows.register import register
from vornet.flows.work import cards, my_day, notes, photos, put_off, series


def seen_of(connection, compartment_id):
    loaded = fleet_history.load(connection, TODAY, [compartment_id])
    return loaded.seen, loaded.sample_ids


def test_what_a_job_saw_reaches_the_samples_judgement_and_its_page(db, ready, fleet):  # noqa: F811
    """Equal values, drawn at two drains: the one with glitter and metal in the filter is a Watch and says why."""
    fleet_id, _, parts, _, ids = ready
    rows = [r for r in engine_rows(parts[0]) if r["key"] not in ("oil_looks", "air_filter")]
    number = next(r["value"] for r in rows if r["key"] == "sample_no")
    rows += [
        row(parts[0], "oil_looks", ["glitter"], 9),
        row(parts[0], "filter_looks", ["metal"], 10),
        row(parts[0], "as_found", ["loose_filter"], 11),
    ]
    assert send(db, ready, [*rows, row(parts[0], "done", {}, 30)])["refused"] == []
    results.load(db, "\n".join([HEADER, result(number, TODAY.isoformat(), 3900, 400)]).encode(), fleet=fleet, name="a.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    with db.fleet(fleet_id) as c:
        facts = pages.load(c, ids["engine"], TODAY)
        sample = next(i for i, s in facts.samples.items() if s["sample_no"] == number)
        evaluation = c.execute("SELECT proposed, evidence FROM evaluation WHERE sample_id = %s", [sample]).fetchone()
        healthy = c.execute("SELECT DISTINCT proposed FROM evaluation WHERE sample_id <> %s", [sample]).fetchall()
    assert [r["proposed"] for r in healthy] == [0]
    assert evaluation["proposed"] == 1
    assert {e["keys"]["seen"] for e in evaluation["evidence"] if e["kind"] == "seen_here"} == {"oil_glitter", "filter_metal"}
    around = pages.around(facts, pages.sample_detail(facts, sample))
    assert {(look.what, look.words) for look in around.drain["looks"] if look.bad} == {
        ("oil", "glitters"), ("filter", "metal in the pleats"), ("as found", "loose filter")}  # fmt: skip
    assert around.job_before is not None  # the loose filter speaks of the job before
    assert any(e["kind"] == "seen" and "glitters" in e["note"] for e in facts.events)  # a flag on the ribbon


def test_metal_in_the_filter_still_speaks_half_in_the_next_charge_and_an_air_filter_until_it_is_seen_to(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        compartment = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        drains = c.execute("SELECT drain_id FROM drain WHERE compartment_id = %s ORDER BY on_day", [compartment]).fetchall()
        c.execute("UPDATE drain SET extra = extra || '{\"filter_looks\": [\"metal\"]}', air_filter = 'blocked' WHERE drain_id = %s",
                  [drains[2]["drain_id"]])  # fmt: skip
        seen, _ = seen_of(c, compartment)
    assert sorted(set(seen.of("filter_metal").tolist())) == [0.0, 0.5, 1.0]
    at = int(np.flatnonzero(seen.of("filter_metal") == 1.0)[0])
    assert seen.at_drain("filter_metal")[at] == 1.0
    assert seen.of("filter_metal")[at + 1] == 0.5
    assert seen.at_drain("filter_metal")[at + 1] == 0.0
    assert (seen.of("air_filter")[at:] == 1.0).all()


def test_a_dirty_air_filter_speaks_until_a_new_one_goes_in_and_its_cleanings_of_the_charge_that_ran_with_it(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        compartment = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        drains = [r["drain_id"] for r in c.execute("SELECT drain_id FROM drain ORDER BY on_day").fetchall()]
        for drain_id, action in zip(drains, ("blown", "blown", "replaced", "left", "left", "left"), strict=False):
            c.execute("UPDATE drain SET air_filter = %s, extra = jsonb_build_object('air_action', %s::text) WHERE drain_id = %s",
                      ["dusty" if action == "replaced" else "clean", action, drain_id])  # fmt: skip
        found, _ = seen_of(c, compartment)
    dirty = np.flatnonzero(found.of("air_filter"))
    assert len(dirty) == 1  # only where it was found: a new one went in
    assert found.of("air_blown")[dirty[0]] == pytest.approx(2 / 3)  # that charge ran with one blown out twice
    assert found.of("air_blown")[dirty[0] + 1] == 0.0


def test_symptoms_coolant_and_readings_speak_for_ninety_days(db, fleet):
    fleet_id = fleets.find(db, fleet)
    item = {"unit": "MV Test", "item": "Plugs", "every_days": 365, "reading": {"type": "plug_look", "good": ["light tan"]}}
    register.load(db, json.dumps({"fleet": fleet, "service_items": [item]}).encode(), by="t", today=TODAY)
    with settling(db, fleet_id, TODAY) as c:
        row_ = c.execute("SELECT compartment_id, unit_id FROM compartment").fetchone()
        item_id = c.execute("SELECT item_id FROM service_item").fetchone()["item_id"]
        put_off.observe(c, fleet_id, row_["unit_id"], row_["compartment_id"], "symptom", "smoke", None, None, date(2025, 10, 30), "", "", "S")
        put_off.observe(c, fleet_id, row_["unit_id"], row_["compartment_id"], "coolant", "", 2.0, None, date(2025, 10, 30), "", "", "S")
        reading = {"value": "light tan", "values": ["light tan", "sooty", "light tan"]}
        service.record(c, fleet_id, item_id, date(2025, 10, 29), None, "done", reading, "", "S", TODAY)
        seen, sample_ids = seen_of(c, row_["compartment_id"])
        days = {r["sample_id"]: r["sampled_on"] for r in c.execute("SELECT sample_id, sampled_on FROM sample").fetchall()}
    for sign in ("smoke", "coolant_low", "plug_dark"):
        spoken = {days[int(i)] for i, d in zip(sample_ids, seen.of(sign), strict=True) if d}
        assert spoken == {date(2025, 11, 1)}, sign  # not of the samples before, nor of one half a year later


def test_a_leak_soon_after_a_drain_speaks_of_that_job(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        row_ = c.execute("SELECT compartment_id, unit_id FROM compartment").fetchone()
        last = c.execute("SELECT * FROM drain WHERE compartment_id = %s ORDER BY on_day DESC", [row_["compartment_id"]]).fetchone()
        c.execute('UPDATE drain SET extra = extra || \'{"torque": {"sump": "feel"}, "seals_new": "no", "reading_after": 0.9}\'')
        on = last["on_day"] + timedelta(days=5)
        for what in ("leak under it", "low power"):
            put_off.observe(c, fleet_id, row_["unit_id"], row_["compartment_id"], "symptom", what, None, last["meter"] + 40, on, "", "", "S")
        facts = pages.load(c, row_["compartment_id"], TODAY)
    drain = next(d for d in facts.drains if d["drain_id"] == last["drain_id"])
    assert [(look.words, hours) for look, hours in drain["left"]] == [("leak under it", 40.0)]  # low power says nothing of a plug
    assert drain["closed"] == ["sump by feel", "seals reused", "level left at 90% between MIN and MAX"]
    assert looks.of_drain({"extra": None, "magnet_grade": 2})[0].words == "2 a few flecks"


# ---- parts looked after while the oil stays in -----------------------------------------------------------------
@pytest.mark.parametrize(
    ("task", "said", "words", "changed"),
    [
        ("filter", [("filter_changed", "yes"), ("filter_part", "F-1"), ("leaks", "none"), ("litres_out", 1.5), ("litres_in", 1.6)],
         "filter, changed, F-1", True),
        ("magnetic_filter", [("part_magnet", 3.0), ("part_action", "cleaned")], "magnetic filter, cleaned and refitted, magnet 3", None),
        ("breather", [("breather_look", "oily"), ("part_action", "replaced")], "breather, replaced, oily", None),
    ],
)  # fmt: skip
def test_a_part_looked_after_is_an_event_inside_the_charge(db, ready, task, said, words, changed):  # noqa: F811
    fleet_id, _, _, visitors, ids = ready
    with settling(db, fleet_id, TODAY) as c:
        unit = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        job_id = cards.make(c, fleet_id, unit, [], [], TODAY, True, "", "Pat", None, [(task, ids["engine"])])
        part = c.execute("SELECT part_id FROM job_part WHERE job_id = %s", [job_id]).fetchone()["part_id"]
    mine = (fleet_id, job_id, [part], visitors, ids)
    rows = [row(None, "meter", 3900.0, 0), *(row(part, k, v, i + 1) for i, (k, v) in enumerate(said))]
    refused = send(db, mine, [*rows[:1], row(part, "done", {}, 20)])["refused"]
    assert refused, "nothing was said of it yet"
    answer = send(db, mine, [*rows, row(part, "done", {}, 30)])
    assert (answer["refused"], answer["parts"][part]["state"], answer["state"]) == ([], "done", "done")
    with db.fleet(fleet_id) as c:
        event = c.execute("SELECT * FROM event WHERE kind = 'part_change'").fetchone()
        assert (event["meter"], event["filter_changed"], event["litres_out"]) == (3900, changed, 1.5 if task == "filter" else None)
        assert event["note"].startswith(words)
        assert c.execute("SELECT count(*) AS n FROM drain WHERE on_day = %s", [TODAY]).fetchone()["n"] == 0  # the oil stayed in


# ---- a change of oil -------------------------------------------------------------------------------------------
def test_a_change_of_oil_is_planned_as_its_series(db, fleet):
    """60 L, 55 of them change: 8.3 % stay, 0.7 % after two (powers of what stays, a mass balance)."""
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        compartment = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        found = series.plan(c, compartment, "Test 15W-40", 0.05, TODAY, 2, TODAY)
        assert (found.count, found.one, found.left) == (2, pytest.approx(5 / 60), pytest.approx((5 / 60) ** 2))
        made = series.make(c, fleet_id, compartment, "Test 15W-40", 0.05, TODAY, 2, "Pat", TODAY)
        jobs = c.execute("SELECT planned_on, note FROM job ORDER BY planned_on").fetchall()
        assert [j["planned_on"] for j in jobs] == [TODAY, TODAY + timedelta(days=2)]
        assert jobs[0]["note"].startswith("Flush with the same oil: 1 of 2")
        assert [c.execute("SELECT sample FROM job_part WHERE job_id = %s", [j]).fetchone()["sample"] for j in made] == [False, True]
        for wrong, field in (({"oil": "No such"}, "oil"), ({"target": 0.9}, "target"), ({"target": 1e-9}, "target"), ({"apart": 0}, "apart"),
                             ({"first": TODAY - timedelta(days=1)}, "on")):  # fmt: skip
            given = {"oil": "Test 15W-40", "target": 0.05, "first": TODAY, "apart": 1} | wrong
            with pytest.raises(InputError) as refused:
                series.plan(c, compartment, given["oil"], given["target"], given["first"], given["apart"], TODAY)
            assert refused.value.field == field


# ---- a technician's day ----------------------------------------------------------------------------------------
def test_a_day_begins_with_ones_own_jobs_then_the_depots_then_what_waits(db, ready):  # noqa: F811
    fleet_id, job_id, parts, visitors, ids = ready
    who, other = visitors
    with settling(db, fleet_id, TODAY) as c:
        unit = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        made = {
            when: cards.make(c, fleet_id, unit, [ids["engine"]], [], TODAY + timedelta(days=d), True, "", "Pat")
            for when, d in (("late", -3), ("coming", 1), ("far", 30))
        }
        depot = my_day.depots(c)[0]["depot_id"]
        my_day.work_at(c, who, depot)
        elsewhere = c.execute("INSERT INTO depot (fleet_id, name) VALUES (%s, 'Other') RETURNING depot_id", [fleet_id]).fetchone()["depot_id"]
        my_day.work_at(c, other, elsewhere)
        with pytest.raises(InputError):
            my_day.work_at(c, who, 999_999)
    send(db, ready, [row(None, "meter", 3900.0)])
    with db.fleet(fleet_id) as c:
        day = {g: [r["job_id"] for r in rows] for g, rows in my_day.day(c, who, TODAY).items()}
        assert day == {"mine": [job_id], "late": [made["late"]], "coming": [made["coming"], made["far"]]}
        assert list(my_day.day(c, other, TODAY)) == ["elsewhere"]  # all of it is at another depot
        kept = my_day.kept(c, who, TODAY)
        assert {f"/jobs/{job_id}/do", f"/jobs/{made['coming']}/do", f"/jobs/{job_id}/labels.pdf", f"/q/{ids['engine']}", "/jobs"} <= set(kept)
        assert f"/jobs/{made['far']}/do" not in kept
    assert parts


# ---- pictures --------------------------------------------------------------------------------------------------
def test_a_picture_of_anything_stands_beside_the_last_of_its_place(db, ready):  # noqa: F811
    fleet_id, job_id, parts, visitors, ids = ready
    fresh = photos.photo_drawn(picture())
    with settling(db, fleet_id, TODAY) as c:
        unit = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        later = cards.make(c, fleet_id, unit, [ids["engine"]], [], TODAY, True, "", "Pat")
        name = str(uuid.uuid4())
        photos.keep_photo(c, visitors[0], job_id, name, parts[0], "looks", "What was in it", fresh)
        photos.keep(c, visitors[0], photos.Of(unit, compartment_id=ids["gearbox"], place="plate"), str(uuid.uuid4()), "plate", fresh)
        last = photos.last_ones(c, unit, later)
        assert str(last[(ids["engine"], None, "looks")]["photo_id"]) == name
        assert (ids["engine"], None, "looks") not in photos.last_ones(c, unit, job_id)  # its own are not the last ones
        assert [p["about"] for p in photos.of_unit(c, unit, ids["gearbox"])] == ["plate"]
        for wrong in ({"compartment_id": 999_999}, {"item_id": 999_999}, {"deferred_id": 1}, {"observation_id": 1}):
            with pytest.raises(InputError, match="is not at"):
                photos.keep(c, visitors[0], photos.Of(unit, **wrong), str(uuid.uuid4()), "x", fresh)
        assert photos.take_back(c, fleet_id, name, "another engine", "Pat") == unit
        assert photos.last_ones(c, unit, later).get((ids["engine"], None, "looks")) is None
        with pytest.raises(InputError, match="meanwhile"):
            photos.take_back(c, fleet_id, name, "again", "Pat")


# ---- levels ----------------------------------------------------------------------------------------------------
def test_a_level_tells_what_its_stretch_lost(db, ready):  # noqa: F811
    fleet_id, _, _, _, ids = ready
    engine = ids["engine"]
    with settling(db, fleet_id, TODAY) as c:
        notes.level_check(c, fleet_id, engine, TODAY - timedelta(days=20), 3700.0, 1.0, "S", TODAY)
        assert notes.last_stretch(c, engine, 4.0) is None  # one level tells nothing
        notes.top_up(c, fleet_id, engine, TODAY - timedelta(days=8), 3750.0, 1.0, None, None, "S", TODAY)
        notes.level_check(c, fleet_id, engine, TODAY, 3900.0, 0.75, "S", TODAY)
        assert notes.last_stretch(c, engine, 4.0) == (pytest.approx(2.0), pytest.approx(10.0), 200.0)  # a litre low, a litre put in
        assert notes.last_stretch(c, engine, None) is None


def test_a_stop_at_a_job_goes_out_by_mail_until_it_is_dealt_with(db, ready):  # noqa: F811
    from vornet.store.database import query

    fleet_id, _, parts, _, _ = ready
    send(db, ready, [row(parts[1], "stop", {"reason": "fill_plug", "note": "round"}, 3)])
    with settling(db, fleet_id, TODAY) as c:
        told = [s for s in c.execute(query("weeks.stops_to_tell")).fetchall() if s["about"].startswith("job")]
        assert [(s["compartment"], "Fill plug will not open: round" in s["words"]) for s in told] == [("gearbox", True)]
        off = next(d for d in put_off.deferred(c) if d["kind"] == "stopped")
        put_off.close_deferred(c, fleet_id, off["deferred_id"], "new plug", None, "Pat")
        assert not [s for s in c.execute(query("weeks.stops_to_tell")).fetchall() if s["about"].startswith("job")]


def test_a_service_that_was_not_done_is_taken_back_and_is_due_again(db, fleet):
    fleet_id = fleets.find(db, fleet)
    item = {"unit": "MV Test", "item": "Coolant", "every_days": 365}
    register.load(db, json.dumps({"fleet": fleet, "service_items": [item]}).encode(), by="t", today=TODAY)
    with settling(db, fleet_id, TODAY) as c:
        item_id = c.execute("SELECT item_id FROM service_item").fetchone()["item_id"]
        service.record(c, fleet_id, item_id, TODAY, None, "done", {}, "", "S", TODAY)
    with settling(db, fleet_id, TODAY) as c:
        assert c.execute("SELECT last_day FROM service_item").fetchone()["last_day"] == TODAY
        record = c.execute("SELECT record_id FROM service_record").fetchone()["record_id"]
        with pytest.raises(InputError, match="few words"):
            service.take_back(c, fleet_id, item_id, record, " ", "Pat")
        service.take_back(c, fleet_id, item_id, record, "another unit", "Pat")
        with pytest.raises(InputError, match="meanwhile"):
            service.take_back(c, fleet_id, item_id, record, "again", "Pat")
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT last_day FROM service_item").fetchone()["last_day"] is None
