"""Job cards from making to closing: entries once, figures right to the number, stops, faults of device and connection."""

import io
import json
import uuid
from datetime import UTC, datetime, timedelta

import pytest
from PIL import Image

from conftest import TODAY, small_register
from vornet.core import measuring
from vornet.core.errors import InputError
from vornet.flows.house import days, fleets, people, sessions
from vornet.flows.judge import evaluate, fleet_history
from vornet.flows.judge.settle import settling
from vornet.flows.register import register, units
from vornet.flows.weeks import depots
from vornet.flows.work import cards, entries, photos, put_off
from vornet.store.database import query
from vornet.words.say import each

NOW = datetime(2026, 1, 15, 12, tzinfo=UTC)


@pytest.fixture
def ready(db, fleet):
    """A fleet with an engine and a gearbox ready for a visit, two technicians, and a job card."""
    fleet_id = fleets.find(db, fleet)
    document = small_register(fleet)
    engine = document["units"][0]["compartments"][0]
    engine |= {"volume_between_marks_l": 4, "drain_points": [{"place": "sump", "torque_min_nm": 60, "torque_max_nm": 75, "magnet": True}],
               "filters": [{"part": "F-1"}]}  # fmt: skip
    document["units"][0]["compartments"].append(
        {"compartment": "gearbox", "kind": "gearbox", "system_volume_l": 20, "capacity_l": 18, "oil": "Test 15W-40", "interval_h": 1000}
    )
    document["service_items"] = [{"unit": "MV Test", "item": "Coolant", "every_days": 365, "reading": {"type": "coolant_mix", "high": -20}}]
    report = register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    assert report.problems == []
    evaluate.evaluate(db, fleet, TODAY)
    tag = fleet.replace(" ", "").lower()
    for name in ("sunniva", "tomas"):
        people.add(db, fleet, f"{name}{tag}", name.title(), "right-and-long", "technician")
    visitors = [sessions.visitor(db, sessions.sign_in(db, f"{n}{tag}", "right-and-long").token) for n in ("sunniva", "tomas")]
    with settling(db, fleet_id, TODAY) as c:
        unit_id = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        ids = {r["name"]: r["compartment_id"] for r in c.execute("SELECT name, compartment_id FROM compartment").fetchall()}
        item = c.execute("SELECT item_id FROM service_item").fetchone()["item_id"]
        job_id = cards.make(c, fleet_id, unit_id, [ids["engine"], ids["gearbox"]], [item], TODAY, True, "", "Pat")
        parts = [p["part_id"] for p in c.execute(query("jobs.parts"), {"job_id": job_id}).fetchall()]
    return fleet_id, job_id, parts, visitors, ids


def row(part, key, value, minutes=0, skew=0, name=None):
    at = (NOW - timedelta(hours=2) + timedelta(minutes=minutes)).timestamp() * 1000 + skew
    return {"id": name or str(uuid.uuid4()), "part": part, "key": key, "value": value, "at": at, "skew": skew}


def engine_rows(part):
    return [
        row(None, "meter", 3900.0, 0), row(part, "level_before", 0.5, 1), row(part, "warmed_min", 5.0, 2),
        row(part, "sample_no", f"B-{uuid.uuid4().hex[:6]}", 3), row(part, "sample_how", "mid_stream", 4), row(part, "way", "plug", 5),
        row(part, "warmth", "warm", 6), row(part, "minutes", 8.0, 7), row(part, "magnets", {"sump": 2}, 8),
        row(part, "oil_looks", ["normal"], 9), row(part, "filter_changed", "yes", 10), row(part, "air_filter", "dusty", 11),
        row(part, "air_action", "replaced", 12), row(part, "out_l", 52.0, 13), row(part, "out_kind", "measured", 14),
        row(part, "shut", {"sump": True}, 15), row(part, "torque", {"sump": "wrench"}, 16), row(part, "pour", {"litres": 49.0}, 17),
        row(part, "level_read", {"reading": 0.3, "run": True}, 20), row(part, "pour", {"litres": 2.8}, 22),
        row(part, "level_read", {"reading": 1.0, "run": True}, 25), row(part, "leaks", "none", 26), row(part, "waste_l", 52.0, 27),
    ]  # fmt: skip


def send(db, ready, rows, who=0, now=NOW):
    fleet_id, job_id, _, visitors, _ = ready
    with settling(db, fleet_id, TODAY) as c:
        return entries.take(c, visitors[who], job_id, rows, now, TODAY)


def test_a_drain_done_at_the_unit_is_right_to_the_number(db, ready):
    fleet_id, _job_id, parts, _, ids = ready
    rows = engine_rows(parts[0])
    answer = send(db, ready, [*rows, row(parts[0], "done", {}, 30)])
    assert answer["refused"] == []
    f = answer["parts"][parts[0]]["figures"]
    # 60 L system, half of 4 L low, 52 L out: 6 L stay, a tenth of the next charge
    assert (f["missing_l"], f["residual_l"], f["residual_share"], f["poured_l"]) == (2.0, 6.0, pytest.approx(0.1), pytest.approx(51.8))
    assert f["packs"] == {"pack_l": 5.0, "whole": 10, "from_last_l": pytest.approx(1.8), "left_in_last_l": pytest.approx(3.2)}
    assert f["next_due"] == 4400.0
    with settling(db, fleet_id, TODAY) as c:
        d = c.execute("SELECT * FROM drain WHERE compartment_id = %s ORDER BY on_day DESC LIMIT 1", [ids["engine"]]).fetchone()
        assert (d["meter"], d["volume_out_l"], d["level_missing_l"], d["volume_in_l"], d["magnet_grade"], d["air_filter"]) == (
            3900, 52, 2, 51.8, 2, "dusty")  # fmt: skip
        assert (d["extra"]["way"], d["extra"]["air_action"], d["extra"]["magnets"]) == ("plug", "replaced", {"sump": 2})
        assert d["extra"]["pours"] == [{"litres": 49.0, "point": ""}, {"litres": 2.8, "point": ""}]
        bottle = c.execute("SELECT * FROM bottle").fetchone()
        assert (bottle["sample_no"], bottle["oil_hours"], bottle["drain_id"]) == (d["sample_no"], 400, d["drain_id"])
        assert c.execute("SELECT litres FROM waste").fetchone()["litres"] == 52
        recheck = c.execute("SELECT kind, due_on, level_left FROM deferred").fetchone()
        assert (recheck["kind"], recheck["due_on"], recheck["level_left"]) == ("recheck", TODAY + timedelta(days=1), 1.0)
        standing = c.execute("SELECT oil_hours, due_meter FROM standing WHERE compartment_id = %s", [ids["engine"]]).fetchone()
        assert (standing["oil_hours"], standing["due_meter"]) == (0, 4400)
        whats = [r["what"] for r in c.execute("SELECT what FROM audit").fetchall()]
    assert {"job card made", "drain logged", "job part done"} <= set(whats)
    assert whats.count("drain logged") == 1


def test_the_charge_starts_with_what_stayed_behind(db, ready):
    """A tenth of the old oil's iron starts the next charge (carry-over, a mass balance)."""
    from conftest import HEADER
    from conftest import row as result
    from vornet.flows.lab import results

    _fleet_id, _, parts, visitors, _ = ready
    fe = 24.0
    results.load(db, f"{HEADER}\n{result('LAST', '2026-01-12', 3880, 380, False, fe=fe)}\n".encode(), fleet=visitors[0].fleet,
                 name="l.csv", by="t")  # fmt: skip
    evaluate.evaluate(db, visitors[0].fleet, TODAY)
    answer = send(db, ready, [*engine_rows(parts[0]), row(parts[0], "done", {}, 30)])
    assert answer["parts"][parts[0]]["figures"]["starts"]["fe"] == pytest.approx(0.1 * fe)


def test_everything_sent_twice_is_there_once(db, ready):
    fleet_id, _, parts, _, ids = ready
    rows = [*engine_rows(parts[0]), row(parts[0], "done", {}, 30)]
    send(db, ready, rows[:9])
    send(db, ready, rows)
    answer = send(db, ready, rows)
    assert answer["refused"] == []
    assert len(answer["kept"]) == len(rows)
    with settling(db, fleet_id, TODAY) as c:
        n = c.execute("SELECT count(*) AS n FROM drain WHERE compartment_id = %s AND on_day = %s", [ids["engine"], TODAY]).fetchone()["n"]
        assert n == 1
        assert c.execute("SELECT count(*) AS n FROM job_entry").fetchone()["n"] == len(rows)
        assert c.execute("SELECT count(*) AS n FROM bottle").fetchone()["n"] == 1


def test_two_people_both_keep_what_they_said(db, ready):
    fleet_id, job_id, parts, _, _ = ready
    rows = engine_rows(parts[0])
    send(db, ready, rows, who=0)
    send(db, ready, [row(parts[0], "out_l", 51.0, 40), row(parts[0], "done", {}, 41)], who=1)
    answer = send(db, ready, [row(parts[0], "done", {}, 42)], who=0)  # the second to finish changes nothing
    assert answer["refused"] == []
    assert answer["parts"][parts[0]]["figures"]["residual_l"] == 7.0
    with settling(db, fleet_id, TODAY) as c:
        card = cards.card(c, job_id, TODAY)
        assert card["parts"][0]["said"].others["out_l"] == [("Sunniva", 52.0)]
        assert c.execute("SELECT count(*) AS n FROM drain WHERE on_day = %s", [TODAY]).fetchone()["n"] == 1


def test_what_cannot_be_is_refused_and_nothing_else_is_lost(db, ready):
    _fleet_id, _, parts, _, _ids = ready
    rows = engine_rows(parts[0])
    bad = [row(parts[0], "out_l", "lots"), row(parts[0], "pour", {"litres": -4}), row(parts[0], "magnets", {"sump": 9}),
           row(parts[0], "moon", 1), row(999_999, "out_l", 4.0), {"id": "no", "key": "leaks"}, "nonsense",
           row(parts[0], "warmth", "lava")]  # fmt: skip
    answer = send(db, ready, [*rows[:5], *bad, *rows[5:]])
    assert len(answer["refused"]) == len(bad)
    assert len(answer["kept"]) == len(rows)
    early = send(db, ready, [row(parts[0], "shut", {"sump": False}, 28), row(parts[0], "done", {}, 29)])
    assert early["refused"][0]["why"] == "not confirmed shut: sump"
    over = send(db, ready, [row(parts[0], "shut", {"sump": True}, 30), row(parts[0], "out_l", 80.0, 31), row(parts[0], "done", {}, 32)])
    assert "80 L came out, but the system held only 58 L" in over["refused"][0]["why"]
    back = send(db, ready, [row(parts[0], "out_l", 52.0, 33), row(None, "meter", 100.0, 34), row(parts[0], "done", {}, 35)])
    assert "the meter goes back" in back["refused"][0]["why"]
    fine = send(db, ready, [row(None, "meter", 3900.0, 36), row(parts[0], "done", {}, 37)])
    assert fine["refused"] == []
    assert fine["parts"][parts[0]]["state"] == "done"


def test_a_seized_fill_plug_stops_safely_and_hands_over(db, ready):
    fleet_id, _job_id, parts, _, ids = ready
    send(db, ready, [*engine_rows(parts[0]), row(parts[0], "done", {}, 30)])
    stop = row(parts[1], "stop", {"reason": "fill_plug", "note": "hex rounded", "owner": "Workshop"}, 31)
    item = row(parts[2], "item", {"outcome": "done", "value": -31.0}, 32)
    answer = send(db, ready, [stop, item])
    assert answer["refused"] == []
    assert (answer["state"], answer["parts"][parts[1]]["state"]) == ("part", "stopped")
    with settling(db, fleet_id, TODAY) as c:
        handed = c.execute("SELECT what, owner FROM deferred WHERE kind = 'stopped'").fetchone()
        assert handed["what"].startswith("Fill plug will not open: hex rounded. Leave the oil in")
        assert handed["owner"] == "Workshop"
        assert c.execute("SELECT 1 FROM drain WHERE compartment_id = %s AND on_day = %s", [ids["gearbox"], TODAY]).fetchone() is None
        done = c.execute("SELECT reading, meter FROM service_record").fetchone()
        assert (done["reading"], done["meter"]) == ({"value": -31.0}, 3900)


def test_a_part_missing_is_put_off_and_the_rest_goes_on(db, ready):
    fleet_id, _, parts, _, _ = ready
    defer = {"kind": "part_missing", "what": "no O-ring", "part": "OR-44", "owner": "Stores", "due_on": "2026-02-01", "instead": True}
    answer = send(db, ready, [row(parts[1], "defer", defer), row(parts[0], "defer", {"kind": "defect", "what": "hose chafed"})])
    assert (answer["parts"][parts[1]]["state"], answer["parts"][parts[0]]["state"]) == ("deferred", "open")
    with settling(db, fleet_id, TODAY) as c:
        rows = {d["kind"]: d for d in put_off.deferred(c)}
        assert (rows["part_missing"]["part"], rows["part_missing"]["owner"], str(rows["part_missing"]["due_on"])) == (
            "OR-44", "Stores", "2026-02-01")  # fmt: skip
        put_off.close_deferred(c, fleet_id, rows["defect"]["deferred_id"], "clamped", None, "t")
        assert len(put_off.deferred(c)) == 1
        with pytest.raises(InputError, match="dealt with"):
            put_off.close_deferred(c, fleet_id, rows["defect"]["deferred_id"], "again", None, "t")


def test_a_level_that_fell_after_the_first_run_is_an_alarm(db, ready):
    fleet_id, _, parts, _, _ = ready
    send(db, ready, [*engine_rows(parts[0]), row(parts[0], "done", {}, 30)])
    with settling(db, fleet_id, TODAY) as c:
        recheck = next(d for d in put_off.deferred(c) if d["kind"] == "recheck")
        assert put_off.close_deferred(c, fleet_id, recheck["deferred_id"], "", 0.6, "t") == "fallen"
        assert "Level fell from 1.00 to 0.60" in next(d["what"] for d in put_off.deferred(c))


@pytest.mark.parametrize("wrong", [timedelta(days=1), timedelta(days=-1), timedelta(days=400)])
def test_a_phone_whose_clock_is_wrong_by_a_day_dates_nothing_wrong(db, ready, wrong):
    fleet_id, _, parts, _, ids = ready
    skew = wrong.total_seconds() * 1000
    rows = [{**r, "at": r["at"] + skew, "skew": skew} for r in [*engine_rows(parts[0]), row(parts[0], "done", {}, 30)]]
    assert send(db, ready, rows)["refused"] == []
    with settling(db, fleet_id, TODAY) as c:
        assert c.execute("SELECT 1 FROM drain WHERE compartment_id = %s AND on_day = %s", [ids["engine"], TODAY]).fetchone()
        late = c.execute("SELECT max(at) AS at FROM job_entry").fetchone()["at"]
    assert late < NOW


def test_entries_of_yesterday_sent_today_are_yesterdays(db, ready):
    fleet_id, _, parts, _, ids = ready
    day = timedelta(days=1).total_seconds() * 1000
    rows = [{**r, "at": r["at"] - day} for r in [*engine_rows(parts[0]), row(parts[0], "done", {}, 30)]]
    assert send(db, ready, rows)["refused"] == []
    with settling(db, fleet_id, TODAY) as c:
        d = c.execute("SELECT on_day FROM drain WHERE compartment_id = %s ORDER BY on_day DESC LIMIT 1", [ids["engine"]]).fetchone()
    assert d["on_day"] == TODAY - timedelta(days=1)


def test_a_bottle_drawn_before_is_not_drawn_again(db, ready):
    fleet_id, _, parts, _visitors, ids = ready
    with settling(db, fleet_id, TODAY) as c:
        c.execute(
            query("jobs.put_bottle"),
            {
                "fleet_id": fleet_id,
                "sample_no": "TWICE",
                "compartment_id": ids["gearbox"],
                "drawn_on": TODAY,
                "meter": 1,
                "oil_hours": None,
                "oil_id": None,
                "topup_l": None,
                "conditions": "{}",
                "drain_id": None,
                "by": "t",
            },
        )
    rows = [*engine_rows(parts[0]), row(parts[0], "sample_no", "TWICE", 28), row(parts[0], "done", {}, 30)]
    answer = send(db, ready, rows)
    assert "bottle TWICE was drawn before" in answer["refused"][0]["why"]
    with settling(db, fleet_id, TODAY) as c:
        assert c.execute("SELECT 1 FROM drain WHERE on_day = %s", [TODAY]).fetchone() is None  # nothing half done


@pytest.mark.parametrize(("warmth", "minutes", "weak"), [("cool", 8.0, True), ("warm", 95.0, True), ("warm", 8.0, False)])
def test_how_the_bottle_was_drawn_is_weighed_when_its_result_comes(db, ready, warmth, minutes, weak):
    from conftest import HEADER
    from conftest import row as result
    from vornet.flows.lab import results

    fleet_id, _, parts, visitors, _ = ready
    rows = [*engine_rows(parts[0]), row(parts[0], "warmth", warmth, 28), row(parts[0], "minutes", minutes, 28),
            row(parts[0], "sample_no", "STOOD-1", 28), row(parts[0], "done", {}, 30)]  # fmt: skip
    assert send(db, ready, rows)["refused"] == []
    line = result("STOOD-1", TODAY.isoformat(), 3900, 400)
    results.load(db, f"{HEADER}\n{line}\n".encode(), fleet=visitors[0].fleet, name="l.csv", by="t")
    evaluate.evaluate(db, visitors[0].fleet, TODAY)
    with settling(db, fleet_id, TODAY) as c:
        said = c.execute(
            "SELECT proposed, evidence FROM evaluation JOIN sample USING (fleet_id, sample_id) WHERE sample_no = 'STOOD-1'"
        ).fetchone()
    assert said["proposed"] == 0  # still Run on: what is low may be true
    assert any("had stood" in text for text in each(said["evidence"])) is weak


def picture(size=(80, 60)):
    out = io.BytesIO()
    exif = Image.Exif()
    exif[0x010F] = "Tell-tale camera"
    Image.new("RGB", size, "brown").save(out, "JPEG", exif=exif)
    return out.getvalue()


def test_photos_are_kept_once_and_say_nothing_of_the_camera(db, ready):
    fleet_id, job_id, parts, visitors, _ = ready
    name = str(uuid.uuid4())
    with settling(db, fleet_id, TODAY) as c:
        for _ in range(2):
            photos.keep_photo(c, visitors[0], job_id, name, parts[0], "looks", "magnet", photos.photo_drawn(picture()))
        kept = c.execute("SELECT content FROM job_photo").fetchall()
        assert len(kept) == 1
        assert b"Tell-tale" not in bytes(kept[0]["content"])
        for content, why in ((b"MZ\x90", "neither a PDF nor a picture"), (b"\xff" * (photos.LARGEST_PHOTO + 1), "larger than 12 MB")):
            with pytest.raises(InputError, match=why):
                photos.photo_drawn(content)
        with pytest.raises(InputError, match="not part of this job"):
            photos.keep_photo(c, visitors[0], job_id, str(uuid.uuid4()), 999_999, "looks", "x", picture())


def test_a_level_check_tells_the_loss_of_the_last_stretch(db, fleet):
    """Level unread at the drain: the check before it stands in, so the residual is right."""
    from vornet.core.charges import cut

    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        i = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        units.save_compartment(c, fleet_id, i, {"volume_between_marks_l": 5}, "t", TODAY)
    check = {"unit": "MV Test", "compartment": "engine", "on": "2025-12-20", "meter": 3700, "reading": 0.2}
    document = {"fleet": fleet, "level_checks": [check],
                "drains": [{"unit": "MV Test", "compartment": "engine", "on": "2026-01-12", "meter": 3860, "volume_out_l": 50}]}  # fmt: skip
    assert register.load(db, json.dumps(document).encode(), by="t", today=TODAY).problems == []
    with settling(db, fleet_id, TODAY) as c:
        loaded = fleet_history.load(c, TODAY)
    charges = cut(loaded.history)
    assert charges.share[-1] == pytest.approx((60 - 4 - 50) / 60)  # 4 L of 5 between the marks were missing


def test_the_weeks_kit_adds_up(db, ready):
    fleet_id, job_id, _parts, _, _ = ready
    with settling(db, fleet_id, TODAY) as c:
        kit = cards.week_kit(c, TODAY, TODAY + timedelta(days=6), TODAY)
        assert [(o["oil"], o["litres"], o["packs"]) for o in kit["oils"]] == [("Test 15W-40", 55 + 18, 15)]
        assert dict(kit["parts"])["sample bottle and label"] == 2
        with pytest.raises(InputError, match="why the job"):
            cards.cancel(c, fleet_id, job_id, " ", "t")
        cards.cancel(c, fleet_id, job_id, "unit sold", "t")
        assert cards.week_kit(c, TODAY, TODAY, TODAY)["oils"] == []
        assert cards.cards(c, "cancelled")["rows"][0]["note"] == "unit sold"
        with pytest.raises(InputError, match="closed already"):
            cards.cancel(c, fleet_id, job_id, "again", "t")


def test_a_card_is_for_its_own_unit(db, ready, fleet_name):
    fleet_id, _, _, _, _ids = ready
    with settling(db, fleet_id, TODAY) as c:
        unit_id = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        for compartments, items, why in (([], [], "at least one"), ([999_999], [], "own compartments")):
            with pytest.raises(InputError, match=why):
                cards.make(c, fleet_id, unit_id, compartments, items, TODAY, True, "", "t")


def test_a_device_key_opens_its_own_job_only(db, ready):
    fleet_id, job_id, _, visitors, _ = ready
    with settling(db, fleet_id, TODAY) as c:
        key = entries.open_on_device(c, visitors[0], job_id)
        assert c.execute("SELECT state FROM job").fetchone()["state"] == "planned"  # a page that is kept for the day has begun nothing
    assert entries.device_owner(db, key, job_id).name == "Sunniva"
    assert entries.device_owner(db, key, job_id + 1) is None
    assert entries.device_owner(db, "guess", job_id) is None


def test_an_estimated_volume_makes_the_start_less_certain(db, fleet):
    """Volume uncertainty reaches the wear rate's standard error through what the charge is taken to have started with."""
    from vornet.core.charges import cut
    from vornet.core.rates import stretch_rates

    errors = {}
    for kind in ("measured", "estimated", "unknown"):
        drains = [{**d, "volume_out_kind": kind, **({"volume_out_l": None} if kind == "unknown" else {})}
                  for d in small_register(fleet)["drains"]]  # fmt: skip
        assert register.load(db, json.dumps({"fleet": fleet, "drains": drains}).encode(), by="t", today=TODAY).problems == []
        with settling(db, fleets.find(db, fleet), TODAY) as c:
            loaded = fleet_history.load(c, TODAY)
        charges = cut(loaded.history)
        errors[kind] = float(stretch_rates(loaded.history, charges).se[-1, 0])
        assert (charges.start_sd[2] > 0).any()
    assert errors["measured"] < errors["estimated"] < errors["unknown"]


def test_a_weighed_drain_is_right_to_the_centilitre_and_keeps_how_it_was_weighed(db, ready):
    """33.7 kg of oil at 60 °C are 40.0 L as warm as they are, and 38.74 L cold: what the ledger compares with capacities."""
    fleet_id, job_id, parts, (who, _), ids = ready
    cold = round(measuring.weigh(35.7038, 2.0, 60).litres_at_reference, 3)
    rows = [r for r in engine_rows(parts[0]) if r["key"] not in ("out_l", "out_kind", "pour", "waste_l")]
    said = [("gross_kg", 35.7038), ("tare_kg", 2.0), ("oil_c", 60.0), ("drip", {"min": 4, "litres": 37.5}),
            ("drip", {"min": 16, "litres": 38.4}), ("out_l", cold), ("out_kind", "measured"), ("pour", {"litres": 40.0}),
            ("done", {})]  # fmt: skip
    rows += [row(parts[0], key, value, 30 + i) for i, (key, value) in enumerate(said)]
    with settling(db, fleet_id, TODAY) as c:
        answer = entries.take(c, who, job_id, rows, NOW, TODAY)
        assert answer["refused"] == []
        kept = c.execute(
            "SELECT volume_out_l, extra FROM drain WHERE compartment_id = %s ORDER BY drain_id DESC", (ids["engine"],)
        ).fetchone()
    assert (kept["volume_out_l"], cold) == (pytest.approx(38.74, abs=0.005), kept["volume_out_l"])
    said = kept["extra"]
    assert (said["gross_kg"], said["tare_kg"], said["oil_c"]) == (35.7038, 2.0, 60.0)
    assert said["drip"] == [{"min": 4.0, "litres": 37.5}, {"min": 16.0, "litres": 38.4}]


@pytest.mark.parametrize("value", [{"min": 0, "litres": 3}, {"min": 4}, {"min": "soon", "litres": 3}, {"min": 4, "litres": -1}, 7])
def test_a_drip_reading_that_cannot_be_is_refused_and_the_others_are_kept(db, ready, value):
    fleet_id, job_id, parts, (who, _), _ = ready
    with settling(db, fleet_id, TODAY) as c:
        answer = entries.take(c, who, job_id, [row(parts[0], "drip", value, 1), row(parts[0], "oil_c", 55.0, 2)], NOW, TODAY)
    assert len(answer["refused"]) == 1 and len(answer["kept"]) >= 1


def test_a_job_stopped_after_the_new_oil_went_in_keeps_its_drain(db, ready):
    """Stopped while proving: the part is stopped and handed over, and the ledger knows that the charge has changed."""
    fleet_id, job_id, parts, (who, _), ids = ready
    rows = [r for r in engine_rows(parts[0]) if r["key"] != "leaks"]
    rows.append(row(parts[0], "stop", {"reason": "unsafe", "note": "sprays oil from the cooler hose"}, 40))
    with settling(db, fleet_id, TODAY) as c:
        assert entries.take(c, who, job_id, rows, NOW, TODAY)["refused"] == []
        part = next(p for p in c.execute(query("jobs.parts"), {"job_id": job_id}).fetchall() if p["part_id"] == parts[0])
        kept = c.execute(
            "SELECT drain_id, volume_in_l FROM drain WHERE compartment_id = %s AND on_day = %s", (ids["engine"], TODAY)
        ).fetchone()
    assert part["state"] == "stopped" and part["drain_id"] == kept["drain_id"] and kept["volume_in_l"] == pytest.approx(51.8)
    assert any("sprays oil" in d["what"] for d in deferred_of(db, fleet_id))


def test_a_stop_is_never_refused_for_a_figure_that_does_not_fit(db, ready):
    fleet_id, job_id, parts, (who, _), ids = ready
    rows = [r | {"value": 300.0} if r["key"] == "out_l" else r for r in engine_rows(parts[0])]
    with settling(db, fleet_id, TODAY) as c:
        answer = entries.take(c, who, job_id, [*rows, row(parts[0], "stop", {"reason": "unsafe"}, 40)], NOW, TODAY)
        part = next(p for p in c.execute(query("jobs.parts"), {"job_id": job_id}).fetchall() if p["part_id"] == parts[0])
        drains = c.execute("SELECT 1 FROM drain WHERE compartment_id = %s AND on_day = %s", (ids["engine"], TODAY)).fetchall()
    assert answer["refused"] == [] and part["state"] == "stopped" and "not on record yet" in part["reason"] and drains == []


def test_a_job_stopped_before_the_oil_is_in_keeps_none(db, ready):
    fleet_id, job_id, parts, (who, _), ids = ready
    rows = [r for r in engine_rows(parts[0]) if r["key"] not in ("leaks", "pour", "level_read")]
    with settling(db, fleet_id, TODAY) as c:
        entries.take(c, who, job_id, [*rows, row(parts[0], "stop", {"reason": "chips"}, 40)], NOW, TODAY)
        assert c.execute("SELECT 1 FROM drain WHERE compartment_id = %s AND on_day = %s", (ids["engine"], TODAY)).fetchone() is None


def deferred_of(db, fleet_id):
    with db.fleet(fleet_id) as c:
        return put_off.deferred(c)


# ---- closed by mistake -----------------------------------------------------------------------------------------
def test_a_part_closed_by_mistake_is_opened_again_and_closed_once_more(db, ready):
    from vornet.flows.work import reopen

    fleet_id, job_id, parts, _, ids = ready
    rows = engine_rows(parts[0])
    send(db, ready, [*rows, row(parts[0], "done", {}, 30)])
    with settling(db, fleet_id, TODAY) as c:
        with pytest.raises(InputError, match="few words"):
            reopen.reopen(c, fleet_id, job_id, parts[0], " ", "Pat", TODAY)
        reopen.reopen(c, fleet_id, job_id, parts[0], "wrong engine", "Pat", TODAY)
        for table in ("bottle", "waste", "deferred"):
            assert c.execute(f"SELECT count(*) AS n FROM {table}").fetchone()["n"] == 0
        held = c.execute("SELECT superseded_by, superseded_why FROM drain WHERE on_day = %s", [TODAY]).fetchall()
        assert [r["superseded_why"] for r in held] == ["wrong engine"]
        assert c.execute("SELECT state FROM job_part WHERE part_id = %s", [parts[0]]).fetchone()["state"] == "open"
        with pytest.raises(InputError, match="open already"):
            reopen.reopen(c, fleet_id, job_id, parts[0], "again", "Pat", TODAY)
    answer = send(db, ready, [row(parts[0], "out_l", 51.0, 40), row(parts[0], "done", {}, 41)])
    assert answer["refused"] == []
    with db.fleet(fleet_id) as c:
        d = c.execute("SELECT volume_out_l FROM drain WHERE compartment_id = %s AND superseded_by IS NULL AND on_day = %s",
                      [ids["engine"], TODAY]).fetchall()  # fmt: skip
        assert [r["volume_out_l"] for r in d] == [51.0]


def test_a_slip_is_undone_in_the_first_minute_on_the_phone(db, ready):
    fleet_id, _, parts, _, _ = ready
    answer = send(db, ready, [row(parts[1], "stop", {"reason": "unsafe"}, 5), row(parts[1], "undo", {}, 5.5)])
    assert (answer["refused"], answer["parts"][parts[1]]["state"]) == ([], "open")
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT count(*) AS n FROM deferred").fetchone()["n"] == 0
    answer = send(db, ready, [row(parts[1], "stop", {"reason": "unsafe"}, 10), row(parts[1], "undo", {}, 12)])
    assert ("minute" in answer["refused"][0]["why"], answer["parts"][parts[1]]["state"]) == (True, "stopped")
    passing, instead = ({"kind": "defect", "what": w, "instead": i} for w, i in (("hose chafed", False), ("no gasket", True)))
    send(db, ready, [row(parts[0], "defer", passing, 13), row(parts[0], "defer", instead, 13.2), row(parts[0], "undo", {}, 13.6)])
    with db.fleet(fleet_id) as c:  # what was seen in passing stays put off, what was to be done instead is taken back with the part
        assert [r["what"] for r in c.execute("SELECT what FROM deferred WHERE kind = 'defect'").fetchall()] == ["hose chafed"]
    answer = send(db, ready, [row(parts[2], "item", {"outcome": "done", "value": -30}, 14)])
    answer = send(db, ready, [row(parts[2], "undo", {}, 14.2)], who=1)  # somebody else's slip is not one's own
    assert answer["parts"][parts[2]]["state"] == "done"
    answer = send(db, ready, [row(parts[2], "undo", {}, 14.4)])
    assert answer["parts"][parts[2]]["state"] == "open"
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT count(*) AS n FROM service_record WHERE superseded_by IS NULL").fetchone()["n"] == 0


def test_a_part_whose_bottle_is_reported_is_not_opened_again(db, ready, fleet):
    from conftest import HEADER
    from conftest import row as result
    from vornet.flows.lab import results
    from vornet.flows.work import reopen

    fleet_id, job_id, parts, _, _ = ready
    rows = engine_rows(parts[0])
    number = next(r["value"] for r in rows if r["key"] == "sample_no")
    send(db, ready, [*rows, row(parts[0], "done", {}, 30)])
    results.load(db, "\n".join([HEADER, result(number, "2026-01-15", 3900, 400)]).encode(), fleet=fleet, name="a.csv", by="t")
    with pytest.raises(InputError, match="has reported"), settling(db, fleet_id, TODAY) as c:
        reopen.reopen(c, fleet_id, job_id, parts[0], "x", "Pat", TODAY)


def test_a_card_cancelled_by_mistake_is_wanted_again(db, ready):
    from vornet.flows.work import reopen

    fleet_id, job_id, _, _, _ = ready
    with settling(db, fleet_id, TODAY) as c:
        with pytest.raises(InputError):
            reopen.restore(c, fleet_id, job_id, "x", "Pat")
        cards.cancel(c, fleet_id, job_id, "rain", "Pat")
        reopen.restore(c, fleet_id, job_id, "dry again", "Pat")
        assert c.execute("SELECT state FROM job WHERE job_id = %s", [job_id]).fetchone()["state"] == "planned"


def test_a_drain_at_a_depot_a_day_ahead_is_of_the_day_it_is_there(db, ready, monkeypatch):
    """Eight in the evening UTC is nine the next morning in Auckland: the drain, its bottle, service and stock are of that day."""
    fleet_id, _, parts, _, ids = ready
    evening = datetime(2026, 1, 15, 20, 0, tzinfo=UTC)
    monkeypatch.setattr(days, "now", lambda: evening)
    with settling(db, fleet_id, TODAY) as c:
        depot = c.execute("SELECT depot_id FROM depot").fetchone()["depot_id"]
        depots.set_zone(c, fleet_id, depot, "Pacific/Auckland", "Pat")
    late = [{**r, "at": r["at"] + 9.5 * 3_600_000} for r in [*engine_rows(parts[0]), row(parts[0], "done", {}, 30)]]
    item = {**row(parts[2], "item", {"outcome": "done", "value": -31.0}, 32), "at": evening.timestamp() * 1000}
    answer = send(db, ready, [*late, item], now=evening)
    assert answer["refused"] == []
    with settling(db, fleet_id, TODAY) as c:
        there = TODAY + timedelta(days=1)
        drained = c.execute("SELECT on_day, meter FROM drain WHERE compartment_id = %s ORDER BY on_day DESC", [ids["engine"]]).fetchone()
        assert (drained["on_day"], drained["meter"]) == (there, 3900)
        assert c.execute("SELECT drawn_on FROM bottle").fetchone()["drawn_on"] == there
        assert c.execute("SELECT on_day FROM service_record").fetchone()["on_day"] == there
    with db.fleet(fleet_id) as c:  # it counts at once, though the fleet's own day is not there yet
        standing = c.execute("SELECT oil_hours, due_meter FROM standing WHERE compartment_id = %s", [ids["engine"]]).fetchone()
        assert (standing["oil_hours"], standing["due_meter"]) == (0, 4400)


def test_at_a_depot_behind_the_fleet_a_drain_is_of_the_day_before(db, ready, monkeypatch):
    fleet_id, _, parts, _, ids = ready
    morning = datetime(2026, 1, 15, 3, 0, tzinfo=UTC)  # still the 14th in Denver
    monkeypatch.setattr(days, "now", lambda: morning)
    with settling(db, fleet_id, TODAY) as c:
        depots.set_zone(c, fleet_id, c.execute("SELECT depot_id FROM depot").fetchone()["depot_id"], "America/Denver", "Pat")
    early = [{**r, "at": r["at"] - 7.5 * 3_600_000} for r in [*engine_rows(parts[0]), row(parts[0], "done", {}, 30)]]
    assert send(db, ready, early, now=morning)["refused"] == []
    with settling(db, fleet_id, TODAY) as c:
        found = c.execute("SELECT max(on_day) AS d FROM drain WHERE compartment_id = %s", [ids["engine"]]).fetchone()
        assert found["d"] == TODAY - timedelta(days=1)


def test_who_has_begun_is_told_by_the_clock_at_the_depot(db, ready):
    fleet_id, job_id, parts, visitors, _ = ready
    send(db, ready, [row(parts[0], "note", "seen", 5)], who=0)
    with settling(db, fleet_id, TODAY) as c:
        c.execute("UPDATE job SET state = 'open' WHERE job_id = %s", [job_id])
        assert "last entry 10:05" in entries.begun_by_others(c, visitors[1], job_id)
        depots.set_zone(c, fleet_id, c.execute("SELECT depot_id FROM depot").fetchone()["depot_id"], "Pacific/Auckland", "Pat")
        assert "last entry 23:05" in entries.begun_by_others(c, visitors[1], job_id)
