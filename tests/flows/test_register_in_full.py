"""The register in full: everything a job needs in and out without loss, checked by field, learned from, changed at once."""

import io
import json
import zipfile

import openpyxl
import pytest
from PIL import Image

from conftest import TODAY, small_register
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate, learned
from vornet.flows.judge.settle import settle, settling
from vornet.flows.plan import service
from vornet.flows.register import doubts, dump, many, register, templates, units
from vornet.flows.work import notes
from vornet.io import pictures, register_file, workbook
from vornet.io.equipment import ServiceItem
from vornet.store.database import query


def rich_register(name):
    """A unit that uses every corner of the register."""
    document = small_register(name)
    document["settings"] = {"measures": "us", "zone": "UTC", "schools": {"pour": "all"}}
    document["oils"][0] |= {"approvals": ["A-1", "B-2"], "batches": [{"batch": "L7", "received_on": "2025-01-02", "litres": 200}]}
    document["oils"].append({"name": "Winter 5W-40", "grade": "5W-40", "house_code": 17})
    unit = document["units"][0]
    unit |= {"second_meter_unit": "km", "serial": "0042", "plate": "AB 12", "year": 2016, "access": "=hatch by the galley",
             "states": [{"on": "2025-02-01", "state": "laid_up", "note": "dry dock"}, {"on": "2025-02-20", "state": "in_service"}],
             "colour": {"hull": "green"}}  # fmt: skip
    unit["compartments"][0] |= {
        "volume_between_marks_l": 3, "sources": {"capacity_l": "plate", "oddity": "guessed"}, "level_method": "dipstick_threaded",
        "fill_method": "pump", "sampling_point": "valve", "access": "from the port side", "required_approvals": ["A-1"],
        "oils": [{"oil": "Test 15W-40", "min_c": -15}, {"oil": "Winter 5W-40", "max_c": 10, "alternative": True}],
        "drain_points": [{"place": "sump", "type": "plug", "size": "M26x1.5", "wrench": "27 mm", "torque_min_nm": 60,
                          "torque_max_nm": 75.5, "magnet": True}, {"place": "aft", "type": "valve"}],
        "fill_points": [{"place": "cover", "litres": 55}], "seals": [{"place": "plug", "part": "CW-26", "count": 2, "single_use": True}],
        "filters": [{"part": "F-1", "tightening": "turns", "turns": 0.75, "prefill": False, "approved": ["X", "Y"], "barred": ["Z"]}],
        "strainers": [{"place": "pick-up", "washable": True}], "breathers": [{"place": "case"}],
        "schools": {"seals": "sound_reused"}, "shared_with": {"unit": "MV Twin"},
    }  # fmt: skip
    document["units"].append({"unit": "MV Twin", "meter_unit": "h", "compartments": []})
    document["readings"].append({"unit": "MV Test", "on": "2026-01-11", "meter": 9000, "meter_no": 2})
    document["service_items"] = [
        {"unit": "MV Test", "item": "Coolant", "every_days": 365, "reading": {"type": "coolant_mix", "high": -20}},
        {"unit": "MV Test", "compartment": "engine", "item": "Filter", "every_nth": 2, "nth_of": "oil drain", "parts": ["F-1"]},
        {"unit": "MV Test", "item": "Grease", "every_h": 100, "first_h": 20, "grease": {"points": 12, "strokes": 2.5, "maker": "M"}},
        {"unit": "MV Test", "item": "Lay-up", "season": "10-31"},
        {"unit": "MV Test", "item": "Belt", "condition": "looks worn", "reading": {"type": "belt_look", "good": ["sound"]}},
    ]
    document["service_records"] = [
        {"unit": "MV Test", "item": "Coolant", "on": "2025-06-01", "meter": 2600, "outcome": "done", "reading": {"value": -31}},
        {"unit": "MV Test", "item": "Belt", "on": "2026-01-02", "outcome": "looked_at", "reading": {"value": "cracked"}, "note": "soon"},
    ]
    document["templates"] = [
        {"name": "T1", "unit": {"meter_unit": "h"}, "compartments": [{"compartment": "engine", "kind": "engine"}], "service_items": []}
    ]
    document["drains"][-1] |= {"reading_after": 1.0, "ambient_c": 4, "batch": "L7", "concession": "none left"}
    document["top_ups"] = [
        {
            "unit": "MV Test",
            "compartment": "engine",
            "on": "2025-12-01",
            "meter": 3600,
            "litres": 2,
            "reading_before": 0.2,
            "reading_after": 0.9,
        }
    ]
    document["level_checks"] = [{"unit": "MV Test", "compartment": "engine", "on": "2025-12-05", "meter": 3620, "reading": 0.5}]
    return document


def load(db, name, document):
    return register.load(db, json.dumps(document).encode(), fleet=name, by="test", today=TODAY)


@pytest.fixture
def rich(db, fleet_name):
    report = load(db, fleet_name, rich_register(fleet_name))
    assert report.problems == []
    evaluate.evaluate(db, fleet_name, TODAY)
    return fleet_name


def plain(document):
    """A document without its name, numbers as numbers, for comparing."""
    return json.loads(json.dumps({**document, "fleet": ""}), parse_int=float)


def test_everything_given_comes_back(db, rich):
    given, out = rich_register(rich), dump.dump(db, rich, TODAY)
    c, was = out["units"][0]["compartments"][0], given["units"][0]["compartments"][0]
    assert {k: c.get(k) for k in was if k not in ("interval_h",)} == {k: was[k] for k in was if k not in ("interval_h",)}
    assert out["units"][0]["colour"] == {"hull": "green"}
    assert out["service_items"][2]["grease"] == {"points": 12, "strokes": 2.5, "maker": "M"}
    assert out["level_checks"][0]["level_missing_l"] == pytest.approx(1.5)  # half of 3 L between the marks


@pytest.mark.parametrize("way", ["json", "xlsx", "zip"])
def test_a_round_trip_loses_nothing_whichever_way(db, rich, way):
    out = dump.dump(db, rich, TODAY)
    content = {"json": lambda: json.dumps(out).encode(), "xlsx": lambda: workbook.as_xlsx(out), "zip": lambda: workbook.as_zip(out)}
    again = f"{rich} {way}"
    report = register.load(db, content[way](), fleet=again, by="test", today=TODAY, file=f"register.{way}")
    assert report.problems == []
    second = dump.dump(db, again, TODAY)
    if way != "json":  # settings belong to a fleet, not to a table
        second["settings"] = out["settings"]
    assert plain(second) == plain(out)


def test_no_cell_is_a_live_formula(db, rich):
    out = dump.dump(db, rich, TODAY)
    book = openpyxl.load_workbook(io.BytesIO(workbook.as_xlsx(out)))
    cells = {c.value: c.data_type for row in book["units"].iter_rows() for c in row if c.value}
    assert cells["=hatch by the galley"] == "s"
    assert "'=hatch by the galley" in workbook.as_csv(out, "units")
    assert cells["0042"] == "s"  # a serial number keeps its zeros


def test_a_workbook_with_a_broken_row_tells_sheet_row_and_column(db, rich):
    book = openpyxl.load_workbook(io.BytesIO(workbook.as_xlsx(dump.dump(db, rich, TODAY))))
    sheet = book["compartments"]
    header = {c.value: c.column for c in sheet[1]}
    sheet.cell(2, header["system_volume_l"], "sixty")
    seals = book["seals"]
    seals.cell(2, {c.value: c.column for c in seals[1]}["count"], 0)
    book["units"].cell(2, {c.value: c.column for c in book["units"][1]}["duty"], "night ferry")
    out = io.BytesIO()
    book.save(out)
    report = register.load(db, out.getvalue(), fleet=rich, by="test", today=TODAY, file="mine.xlsx")
    told = {(p.where, p.field) for p in report.problems}
    assert ("compartments row 2", "system_volume_l") in told
    assert ("seals row 2", "count") in told
    after = dump.dump(db, rich, TODAY)
    assert after["units"][0]["duty"] == "night ferry"  # the good row went in
    assert after["units"][0]["compartments"][0]["system_volume_l"] == 60  # the bad one changed nothing


def test_a_csv_changes_only_what_it_says(db, rich):
    before = dump.dump(db, rich, TODAY)
    csv = "unit,compartment,system_volume_l,capacity_l\nMV Test,engine,61,56\nMV Ghost,engine,1,1\n"
    report = register.load(db, csv.encode(), fleet=rich, by="test", today=TODAY, file="compartments.csv")
    assert [str(p) for p in report.problems] == ["compartments row 3, unit: there is no unit named 'MV Ghost'"]
    after = dump.dump(db, rich, TODAY)
    c = after["units"][0]["compartments"][0]
    assert (c["system_volume_l"], c["capacity_l"]) == (61, 56)
    assert {**c, "system_volume_l": 60, "capacity_l": 55} == before["units"][0]["compartments"][0]


@pytest.mark.parametrize(
    ("name", "content", "why"),
    [
        ("a.xlsx", b"PK\x03\x04 not a zip", "cut off or damaged"), ("a.csv", b"\xff\xfe\x00", "not UTF-8"),
        ("a.csv", b"colour,size\nred,4\n", "fit no table"), ("a.csv", b"", "is empty"),
    ],
)  # fmt: skip
def test_what_is_no_register_is_refused_in_a_sentence(db, rich, name, content, why):
    with pytest.raises(InputError, match=why):
        register.load(db, content, fleet=rich, by="test", today=TODAY, file=name)


def test_a_zip_bomb_is_refused(db, rich):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as pack:
        for i in range(4):
            pack.writestr(f"drains{i}.csv", b"0" * 100_000_000)
    assert len(out.getvalue()) < 2_000_000
    with pytest.raises(InputError, match="unpacks to more"):
        register.load(db, out.getvalue(), fleet=rich, by="test", today=TODAY, file="bomb.zip")


def test_the_template_explains_every_column():
    book = openpyxl.load_workbook(io.BytesIO(workbook.as_xlsx({"fleet": "F"})))
    assert set(book.sheetnames) == {"about", *workbook.TABLES}
    words = [row[1].value or "" for row in book["about"].iter_rows()]
    for table in workbook.TABLES.values():
        assert all(any(w.startswith(f"{c}: ") for w in words) for c in table.columns)


@pytest.mark.parametrize(
    ("change", "field", "why"),
    [
        ({"capacity_without_filter_l": 58}, "", "capacity_without_filter_l 58 L is above capacity_l 55 L"),
        ({"volume_between_marks_l": 61}, "", "more than the 60 L that the sump holds"),
        ({"drain_points": [{"place": "sump", "size": "M14x1.5", "torque_max_nm": 3000}]}, "drain_points.0", "3,000 N·m is more than"),
        ({"drain_points": [{"place": "sump", "torque_min_nm": 60, "torque_max_nm": 40}]}, "drain_points.0", "is above torque_max_nm"),
        ({"interval_h": 0}, "interval_h", "an interval of zero is always due"),
        ({"filters": [{"part": "F", "tightening": "turns"}]}, "filters.0", "turns is needed"),
        ({"filters": [{"part": "F", "approved": ["a"], "barred": ["A"]}]}, "filters.0", "both approved and barred"),
        ({"oils": [{"oil": "Test 15W-40", "min_c": 20, "max_c": 10}]}, "oils.0", "is not below max_c"),
        ({"schools": {"pour": "glug"}}, "schools", "not one of approach, all, returned"),
        ({"meter_no": 2}, "meter_no", "has one meter"), ({"sources": {"capacity_l": "hearsay"}}, "sources.capacity_l", "guessed"),
        ({"fill_points": [{"place": "a", "litres": 40}, {"place": "b", "litres": 40}]}, "", "fill_points add up to 80 L"),
    ],
)  # fmt: skip
def test_a_compartment_that_cannot_be_is_told_by_field(db, fleet_name, change, field, why):
    document = small_register(fleet_name)
    document["units"][0]["compartments"][0] |= change
    problems = load(db, fleet_name, document).problems
    mine = [p for p in problems if p.where == "units[0].compartments[0]"]
    assert mine[0].field == field
    assert why in mine[0].why


@pytest.mark.parametrize(
    ("item", "field", "why"),
    [
        ({"item": "X"}, "", "never comes due"), ({"item": "X", "every_days": 0}, "every_days", "interval of zero"),
        ({"item": "X", "every_km": 500}, "every_km", "this meter counts h"), ({"item": "X", "season": "31-10"}, "season", "day of the year"),
        ({"item": "X", "every_nth": 2, "nth_of": "Ghost"}, "nth_of", "never comes due"),
        ({"item": "X", "every_nth": 2, "nth_of": "oil drain"}, "nth_of", "needs its compartment"),
        ({"item": "X", "every_nth": 2, "nth_of": "x"}, "", "ride on itself"), ({"item": "X", "every_nth": 2}, "", "nth_of is needed"),
        ({"item": "X", "every_days": 9, "reading": {"type": "mood"}}, "reading", "is not one of"),
        ({"item": "X", "every_days": 9, "unit": "MV Ghost"}, "unit", "no unit named"),
    ],
)  # fmt: skip
def test_an_item_that_never_comes_due_is_refused(db, fleet, item, field, why):
    report = load(db, fleet, {"fleet": fleet, "service_items": [{"unit": "MV Test", **item}]})
    assert report.problems[0].field == field
    assert why in report.problems[0].why


def test_two_meters_on_one_reading(db, fleet):
    rows = [{"unit": "MV Test", "on": "2026-01-12", "meter": [3900, 12]}, {"unit": "MV Test", "on": "2026-01-12", "meter": 4, "meter_no": 2},
            {"unit": "MV Test", "on": "2026-01-12", "meter_h": 1, "meter_km": 2, "meter": 3}]  # fmt: skip
    problems = load(db, fleet, {"fleet": fleet, "readings": rows}).problems
    assert "two meters on one reading" in problems[0].why
    assert {p.field for p in problems} == {"", "meter_no"}


def test_second_meters_do_not_mix(db, fleet):
    """A compartment on the second meter has its own oil hours, due date and rate."""
    document = small_register(fleet)
    document["units"][0]["second_meter_unit"] = "h"
    document["units"][0]["compartments"].append(
        {"compartment": "winch", "kind": "hydraulics", "system_volume_l": 40, "meter_no": 2, "interval_h": 1000, "oil": "Test 15W-40"}
    )
    document["drains"].append({"unit": "MV Test", "compartment": "winch", "on": "2025-11-01", "meter": 171})
    document["readings"] += [{"unit": "MV Test", "on": f"2025-12-{d:02d}", "meter": 200 + d, "meter_no": 2} for d in (5, 15, 25)]
    assert load(db, fleet, document).problems == []
    evaluate.evaluate(db, fleet, TODAY)
    with settling(db, fleets.find(db, fleet), TODAY) as c:
        rows = {
            r["compartment"]: r
            for r in c.execute(
                query("board.rows"), {"show": "all", "depot": "", "q": "", "like": "%", "limit": 9, "offset": 0, "since": TODAY}
            ).fetchall()
        }
        rate = c.execute("SELECT rate_per_day FROM standing s JOIN compartment c USING (compartment_id) WHERE c.name = 'winch'")
        assert rate.fetchone()["rate_per_day"] == pytest.approx(1.0)
    assert rows["winch"]["oil_hours"] == 54
    assert rows["engine"]["oil_hours"] == 350


def test_a_unit_without_a_meter_is_estimated_and_one_laid_up_stands(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        unit_id = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        units.save_unit(c, fleet_id, unit_id, {"estimated_per_day": 10}, "t", TODAY)
        settle(c, fleet_id, TODAY)
        oil_hours = c.execute("SELECT oil_hours FROM standing").fetchone()["oil_hours"]
        assert oil_hours == 350 + 10 * 5  # last read five days ago
        units.set_state(c, fleet_id, unit_id, "laid_up", TODAY, "winter", "t", TODAY)
        settle(c, fleet_id, TODAY)
        row = c.execute("SELECT due_driver FROM standing").fetchone()
        board = query("board.rows"), {"show": "all", "depot": "", "q": "", "like": "%", "limit": 9, "offset": 0, "since": TODAY}
        assert row["due_driver"] == "calendar"
        assert c.execute(*board).fetchall() == []
        units.set_state(c, fleet_id, unit_id, "in_service", TODAY, "", "t", TODAY)
        settle(c, fleet_id, TODAY)
        assert len(c.execute(*board).fetchall()) == 1


def test_what_was_poured_corrects_the_register(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        i = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        units.save_compartment(c, fleet_id, i, {"capacity_l": 45, "capacity_without_filter_l": 43}, "t", TODAY)
        settle(c, fleet_id, TODAY)
        found = learned.doubts(c)
        assert [(d["field"], d["said"], d["n"]) for d in found] == [("capacity_l", 45, 6)]
        assert found[0]["learned"] == pytest.approx(54)
        with pytest.raises(InputError, match="say in a few words"):
            doubts.settle(c, fleet_id, i, "capacity_l", False, "", "t", TODAY)
        doubts.settle(c, fleet_id, i, "capacity_l", True, "", "t", TODAY)
        settle(c, fleet_id, TODAY)
        document = units.compartment_document(c, i, TODAY)
        assert (document["capacity_l"], document["sources"]["capacity_l"]) == (54, "measured")
        assert learned.doubts(c) == []


def test_a_figure_kept_stays_kept(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        i = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        units.save_compartment(c, fleet_id, i, {"capacity_l": 45, "capacity_without_filter_l": 43}, "t", TODAY)
        settle(c, fleet_id, TODAY)
        doubts.settle(c, fleet_id, i, "capacity_l", False, "the plug was left out twice", "t", TODAY)
        learned.refresh(c, fleet_id)
        assert [d["settled"] for d in learned.doubts(c)] == ["kept"]


def test_due_figures_with_their_driver(db, rich):
    with settling(db, fleets.find(db, rich), TODAY) as c:
        rows = {r["item"]: r for r in c.execute(query("register.service_items"), {"units": None}).fetchall()}
    assert (rows["Coolant"]["driver"], rows["Coolant"]["due_day"].isoformat()) == ("calendar", "2026-06-01")
    assert rows["Filter"]["driver"] == "every 2nd oil drain"
    assert rows["Lay-up"]["due_day"].isoformat() == "2026-10-31"
    assert (rows["Belt"]["driver"], rows["Belt"]["due_day"]) == ("out of tolerance", TODAY)
    assert rows["Grease"]["driver"] == "break-in"


def test_doing_an_item_moves_its_due_day(db, rich):
    fleet_id = fleets.find(db, rich)
    with settling(db, fleet_id, TODAY) as c:
        belt = c.execute("SELECT item_id FROM service_item WHERE name = 'Belt'").fetchone()["item_id"]
        with pytest.raises(InputError, match="why it was not done"):
            service.record(c, fleet_id, belt, TODAY, None, "not_done", {}, "", "t", TODAY)
        service.record(c, fleet_id, belt, TODAY, 3900, "done", {"value": "sound"}, "", "t", TODAY)
        settle(c, fleet_id, TODAY)
        row = c.execute(query("plan.item"), {"item_id": belt}).fetchone()
    assert (row["driver"], row["due_day"], row["last_day"]) == ("condition", None, TODAY)


def test_items_that_ride_on_each_other_are_refused(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        for item in ({"item": "A", "every_days": 10}, {"item": "B", "every_nth": 2, "nth_of": "A"}):
            service.put(c, fleet_id, ServiceItem(unit="MV Test", **item), "t")
        with pytest.raises(InputError, match="ride on each other"):
            service.put(c, fleet_id, ServiceItem(unit="MV Test", item="A", every_nth=3, nth_of="B"), "t")


def test_fifty_units_change_at_once_with_a_preview(db, fleet_name):
    document = small_register(fleet_name)
    base = document["units"][0]
    document["units"] = [{**base, "unit": f"Bus {i:02d}"} for i in range(50)]
    document |= {"drains": [], "readings": []}
    assert load(db, fleet_name, document).problems == []
    fleet_id = fleets.find(db, fleet_name)
    value = {"item": "Fuel filter", "every_meter": 400.0, "every_days": 365, "on_compartment": True}
    with settling(db, fleet_id, TODAY) as c:
        ids = units.ids_of(c, units.Wanted(q="Bus"))
        assert len(ids) == 50
        look = many.change_many(c, fleet_id, ids, "item", value, "t", TODAY, apply=False)
        assert [line.now for line in look] == ["every 400 h or 365 days"] * 50
        assert c.execute("SELECT count(*) AS n FROM service_item").fetchone()["n"] == 0
        many.change_many(c, fleet_id, ids, "item", value, "t", TODAY, apply=True)
        assert c.execute("SELECT count(*) AS n FROM service_item").fetchone()["n"] == 50
        same = many.change_many(c, fleet_id, ids, "item", value, "t", TODAY, apply=False)
        assert all(line.same for line in same)
        bad = many.change_many(c, fleet_id, ids, "volume_between_marks_l", 70.0, "t", TODAY, apply=True)
        assert all("more than the 60 L" in line.problem for line in bad)
        many.change_many(c, fleet_id, ids[:3], "depot", "North", "t", TODAY, apply=True)
        assert c.execute("SELECT count(*) AS n FROM unit JOIN depot USING (depot_id) WHERE depot.name = 'North'").fetchone()["n"] == 3
        many.change_many(c, fleet_id, ids, "item_gone", "fuel filter", "t", TODAY, apply=True)
        assert c.execute("SELECT count(*) AS n FROM service_item").fetchone()["n"] == 0


def test_a_copy_takes_compartments_and_plan_but_no_history(db, rich):
    fleet_id = fleets.find(db, rich)
    with settling(db, fleet_id, TODAY) as c:
        unit_id = c.execute("SELECT unit_id FROM unit WHERE name = 'MV Test'").fetchone()["unit_id"]
        pattern = templates.pattern_of(c, unit_id, TODAY)
        made = templates.make_unit(c, fleet_id, templates.NewUnit({"unit": "MV Copy"}, pattern, 12.0, TODAY), "t", TODAY)
        page = units.page(c, made, TODAY)
        assert [x["c"]["compartment"] for x in page["compartments"]] == ["engine"]
        assert len(page["items"]) == 5
        assert page["meters"][1]["meter"] == 12
        assert (
            c.execute("SELECT count(*) AS n FROM drain d JOIN compartment c USING (compartment_id) WHERE c.unit_id = %s", [made]).fetchone()[
                "n"
            ]
            == 0
        )
        with pytest.raises(InputError, match="already"):
            templates.make_unit(c, fleet_id, templates.NewUnit({"unit": "MV Copy"}, pattern, None, TODAY), "t", TODAY)


def test_overhaul_restarts_break_in_and_readings_are_checked(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        row = c.execute("SELECT compartment_id, unit_id FROM compartment").fetchone()
        with pytest.raises(InputError, match="goes back"):
            notes.read_meter(c, fleet_id, row["unit_id"], 1, 3000, TODAY, "t", TODAY)
        with pytest.raises(InputError, match="cannot be"):
            notes.read_meter(c, fleet_id, row["unit_id"], 1, 9000, TODAY, "t", TODAY)
        with pytest.raises(InputError, match="does not fit"):
            notes.top_up(c, fleet_id, row["compartment_id"], TODAY, 3900, 61, None, None, "t", TODAY)
        notes.top_up(c, fleet_id, row["compartment_id"], TODAY, 3900, 2, 0.1, 0.9, "t", TODAY)
        notes.event(c, fleet_id, row["compartment_id"], "overhaul", TODAY, 3900, None, None, "S-9", "new liners", "t", TODAY)
        kinds = [r["what"] for r in c.execute("SELECT what FROM audit ORDER BY audit_id").fetchall()]
    assert {"top-up", "overhaul"} <= set(kinds)


def test_pictures_lose_where_they_were_taken(db, fleet):
    out = io.BytesIO()
    exif = Image.Exif()
    exif[0x0110] = "Secret camera"
    exif.get_ifd(0x8825)[1] = "N"
    Image.new("RGB", (60, 40), "red").save(out, "JPEG", exif=exif)
    assert b"Secret camera" in out.getvalue()
    fresh = pictures.redrawn(out.getvalue())
    assert b"Secret camera" not in fresh
    assert dict(Image.open(io.BytesIO(fresh)).getexif()) == {}
    with pytest.raises(InputError, match="neither a PDF nor a picture"):
        pictures.redrawn(b"MZ\x90\x00 not a picture")


def test_an_oil_poured_outside_its_weather_is_a_recorded_concession(db, rich):
    from vornet.core.errors import FormErrors
    from vornet.core.measures import Hand
    from vornet.flows.work import drain
    from vornet.web.drain_form import DrainForm

    fleet_id = fleets.find(db, rich)
    with settling(db, fleet_id, TODAY) as c:
        i = c.execute("SELECT compartment_id FROM compartment WHERE name = 'engine'").fetchone()["compartment_id"]
        fields = {"on": "2026-01-14", "meter": "3900", "volume_out_l": "54 L", "oil": "Winter 5W-40", "ambient_c": "25 °C"}
        with pytest.raises(FormErrors) as refused:
            drain.log(c, fleet_id, i, DrainForm(dict(fields), Hand("us", ".")).drained("h", TODAY), "t", TODAY)
        assert "is meant up to 10 °C, and it is 25 °C" in refused.value.errors["concession"]
        assert "does not hold A-1" in refused.value.errors["concession"]
        said = DrainForm({**fields, "concession": "the right can had run out"}, Hand("us", ".")).drained("h", TODAY)
        assert drain.log(c, fleet_id, i, said, "t", TODAY)
        row = c.execute(query("units.concessions"), {"oil_id": None}).fetchall()[0]
        assert row["concession"].endswith("the right can had run out")
        assert c.execute("SELECT 1 FROM audit WHERE what = 'oil concession'").fetchone()
        stored = c.execute("SELECT volume_out_l FROM drain ORDER BY on_day DESC LIMIT 1").fetchone()
    assert stored["volume_out_l"] == pytest.approx(54)


def test_five_thousand_compartments_list_sorts_and_narrows(db, fleet_name):
    document = small_register(fleet_name)
    base = document["units"][0]["compartments"][0]
    document["units"] = [
        {"unit": f"U{i:04d}", "depot": f"D{i % 7}", "compartments": [{**base, "compartment": f"c{j}", "family": f"F{j}"} for j in range(4)]}
        for i in range(100)
    ]  # fmt: skip
    document |= {"drains": [], "readings": []}
    load(db, fleet_name, document)
    with settling(db, fleets.find(db, fleet_name), TODAY) as c:
        first = units.listing(c, units.Wanted(sort="family", down=True))
        assert (first["total"], len(first["rows"])) == (400, 100)
        assert [r["family"] for r in first["rows"]] == ["F3"] * 100
        found = units.listing(c, units.Wanted(depot="D2", family="F1", q="u00"))
        assert found["total"] == len([i for i in range(100) if i % 7 == 2])


def test_a_broken_document_never_raises():
    for bad in ({"units": [3, None, {"unit": ""}]}, {"units": [{"unit": "a", "compartments": 5}]}, {"service_items": {"a": 1}},
                {"templates": [{}]}, {"settings": []}, {"oils": [{"name": "x", "batches": 7}]}):  # fmt: skip
        assert register_file.understand(bad).problems
