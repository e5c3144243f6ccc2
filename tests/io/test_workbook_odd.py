"""A register as tables: odd workbooks, CSVs and archives are read for what they are, or refused in a sentence."""

import csv
import io
import json
import zipfile
from datetime import date, datetime

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from vornet.core.errors import InputError
from vornet.io import register_file, workbook


def book(**sheets):
    """A workbook of sheets, each a list of rows."""
    made = openpyxl.Workbook()
    made.remove(made.active)
    for name, rows in sheets.items():
        sheet = made.create_sheet(name.replace("_", " ") if name.startswith("Unit_s") else name)
        for row in rows:
            sheet.append(row)
    out = io.BytesIO()
    made.save(out)
    return out.getvalue()


def zipped(**files):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as pack:
        for name, text in files.items():
            pack.writestr(name.replace("__", "/") + ".csv", text)
    return out.getvalue()


def rows_of(name, content):
    return {table: [r for _, r in rows] for table, rows in workbook.read(name, content).rows.items()}


def problems(sheets):
    return [(p.where, p.field, p.why) for p in sheets.problems]


# ---- what a file is --------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("name", "content", "flat"),
    [
        ("a.csv", b"", True),
        ("A.XLSX", b"", True),
        ("a.json", b"{}", False),
        ("a", b"PK\x03\x04", True),
        ("a.ods", b"x", True),
        ("a", b"{", False),
    ],
)
def test_what_looks_like_tables(name, content, flat):
    assert workbook.looks_flat(name, content) is flat


@pytest.mark.parametrize(
    ("name", "content", "said"),
    [
        ("x.xlsx", b"PK\x03\x04 and then nothing", "cut off or damaged"),
        ("x.csv", b"", "is empty"),
        ("x.csv", b"\xff\xfe\x00", "not UTF-8"),
        ("x.csv", b"colour,shape\nred,round\n", "fit no table: name it after one of oils"),
        ("x.zip", zipped(readme="hello"), "fit no table"),
        ("x.xlsx", book(about=[["fleet", "F"]], notes=[["a"]]), "has none of the sheets oils"),
    ],
)
def test_what_is_no_table_of_the_register_is_refused_in_a_sentence(name, content, said):
    with pytest.raises(InputError, match=said) as refused:
        workbook.read(name, content)
    assert refused.value.field == "file"


def test_a_quote_that_never_closes_is_said_to_be_one():
    before = csv.field_size_limit(100_000)
    try:
        with pytest.raises(InputError, match="cannot be read as a table"):
            workbook.read("units.csv", b'unit,depot\n"never closed,x\n' + b"y" * 200_000)
    finally:
        csv.field_size_limit(before)


def test_an_archive_without_a_table_says_what_it_should_hold():
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as pack:
        pack.writestr("readme.txt", "hello")
    with pytest.raises(InputError, match="no CSV named after a table: oils"):
        workbook.read("x.zip", out.getvalue())


# ---- which table a CSV is --------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    "name", ["units.csv", "Units.csv", "2026-01 fleet_units.csv", "some/folder/units.csv", "whatever.csv"], ids=str
)  # fmt: skip
def test_a_csv_is_known_by_its_name_or_by_its_columns(name):
    found = rows_of(name, b"unit,depot,meter_unit\nMV A,Quay,h\n")
    assert found == {"units": [{"unit": "MV A", "depot": "Quay", "meter_unit": "h"}]}


def test_the_smallest_table_that_has_the_columns_is_meant():
    assert set(rows_of("x.csv", b"unit,on,meter\nMV A,2026-01-01,5\n")) == {"readings"}


@pytest.mark.parametrize("separator", [",", ";", "\t"])
def test_whatever_stands_between_columns(separator):
    text = separator.join(("unit", "depot")) + "\n" + separator.join(("MV A", "Quay")) + "\n"
    assert rows_of("units.csv", ("\ufeff" + text).encode()) == {"units": [{"unit": "MV A", "depot": "Quay"}]}


def test_an_archive_of_tables_in_folders_among_other_things():
    content = zipped(units="unit\nMV A\n", data__readings="unit,on,meter\nMV A,2026-01-01,5\n")
    assert set(rows_of("x.zip", content)) == {"units", "readings"}


# ---- cells -----------------------------------------------------------------------------------------------------------------
def test_typed_cells_are_what_they_are():
    rows = [["MV A", date(2026, 1, 5), 1250.5, 1], ["MV B", datetime(2026, 1, 6, 7, 30), 40.0, "2"]]
    found = rows_of("x.xlsx", book(readings=[["unit", "on", "meter", "meter_no"], *rows]))["readings"]
    assert found == [
        {"unit": "MV A", "on": "2026-01-05", "meter": 1250.5, "meter_no": 1},
        {"unit": "MV B", "on": "2026-01-06", "meter": 40, "meter_no": 2},
    ]


def test_a_number_where_a_name_belongs_is_written_as_one_types_it():
    found = rows_of("x.xlsx", book(units=[["unit", "model"], [17.0, 2026.0]]))
    assert found["units"] == [{"unit": "17", "model": "2026"}]


def test_blanks_and_columns_nobody_knows_are_left_out_and_said():
    sheets = workbook.read("x.xlsx", book(units=[["unit", "depot", "colour"], ["MV A", "", "red"], ["", None, None]]))
    assert [r for _, r in sheets.rows["units"]] == [{"unit": "MV A"}]
    assert problems(sheets) == [("units", "colour", "is no column of this table; not read")]


def test_a_sheet_nobody_knows_is_said_and_the_others_are_read():
    sheets = workbook.read("x.xlsx", book(about=[["fleet", " Isles "]], units=[["unit"], ["MV A"]], Pivot=[["sum"], [1]]))
    assert (sheets.fleet, set(sheets.rows)) == ("Isles", {"units"})
    assert problems(sheets) == [("sheet pivot", "", "is no table of the register; not read")]


@pytest.mark.parametrize(("about", "fleet"), [([["fleet", ""]], None), ([["fleet"]], None), ([["name", "F"]], None), ([["fleet", "F"]], "F")])
def test_the_fleet_s_name_where_there_is_one(about, fleet):
    assert workbook.read("x.xlsx", book(about=about, units=[["unit"], ["MV A"]])).fleet == fleet


@pytest.mark.parametrize(
    ("cell", "said"), [("ten", "'ten' is not a number"), ("1,5", "'1,5' is not a number"), ("x" * 90, "is not a number")]
)  # fmt: skip
def test_a_new_oil_s_value_that_is_no_number_leaves_its_row_out(cell, said):
    sheets = workbook.read("oils.csv", f'name,bn\n"Oil 1","{cell}"\nOil 2,10.5\n'.encode())
    assert [r for _, r in sheets.rows["oils"]] == [{"name": "Oil 2", "bn": 10.5}]
    [(where, field, why)] = problems(sheets)
    assert (where, field) == ("oils row 2", "bn")
    assert said in why
    assert len(why) < 80


@pytest.mark.parametrize(
    ("cell", "said"), [("{", "is not JSON"), ("[1]", "is not a JSON object"), ('"text"', "is not a JSON object"), ("7", "is not")]
)
def test_more_of_a_row_is_a_json_object_or_nothing(cell, said):
    quoted = cell.replace('"', '""')
    sheets = workbook.read("units.csv", f'unit,more\nMV A,"{quoted}"\n'.encode())
    assert sheets.rows["units"] == []
    [(where, field, why)] = problems(sheets)
    assert (where, field) == ("units row 2", "more")
    assert said in why


def test_more_of_a_row_adds_and_does_not_replace():
    cell = json.dumps({"depot": "Other", "note": "n", "sources": {"capacity_l": "plate"}}).replace('"', '""')
    [row] = rows_of("units.csv", f'unit,depot,more\nMV A,Quay,"{cell}"\n'.encode())["units"]
    assert row == {"unit": "MV A", "depot": "Quay", "note": "n", "sources": {"capacity_l": "plate"}}


@pytest.mark.parametrize("first", ["=", "+", "-", "@"])
def test_what_a_spreadsheet_would_run_comes_back_as_it_was_typed(first):
    document = {"fleet": "F", "units": [{"unit": f"{first}A1", "compartments": []}]}
    text = workbook.as_csv(document, "units")
    assert f"'{first}A1" in text
    assert rows_of("units.csv", text.encode())["units"] == [{"unit": f"{first}A1"}]


# ---- rows onto the register ------------------------------------------------------------------------------------------------
BASE = {
    "oils": [{"name": "Oil 1", "bn": 10, "batches": [{"batch": "B1", "litres": 100}, {"batch": "B2", "litres": 50}]}],
    "units": [{"unit": "MV A", "depot": "Quay", "states": [{"on": "2025-01-01", "state": "laid_up"}], "compartments": [
        {"compartment": "engine", "kind": "engine", "capacity_l": 55, "seals": [{"place": "plug", "count": 1}]},
        {"compartment": "gearbox", "kind": "gearbox"}]}],
}  # fmt: skip


def laid(**tables):
    sheets = workbook.Sheets(rows={t: list(enumerate(rows, 2)) for t, rows in tables.items()})
    document, places = workbook.document_of(sheets, json.loads(json.dumps(BASE)))
    return document, places, problems(sheets)


def test_only_what_the_sheets_name_is_in_the_document_and_keeps_the_rest():
    document, places, wrong = laid(compartments=[{"unit": "MV A", "compartment": "engine", "capacity_l": 54}])
    [unit] = document["units"]
    assert (unit["depot"], [c["compartment"] for c in unit["compartments"]]) == ("Quay", ["engine"])
    assert unit["compartments"][0] == {"compartment": "engine", "kind": "engine", "capacity_l": 54, "seals": [{"place": "plug", "count": 1}]}
    assert places["units[0].compartments[0]"] == "compartments row 2"
    assert wrong == []


def test_a_list_of_parts_is_replaced_where_its_sheet_names_the_compartment():
    document, places, _ = laid(seals=[{"unit": "MV A", "compartment": "engine", "place": "plug", "count": 2},
                                      {"unit": "MV A", "compartment": "engine", "place": "filler"}])  # fmt: skip
    assert document["units"][0]["compartments"][0]["seals"] == [{"place": "plug", "count": 2}, {"place": "filler"}]
    assert places["units[0].compartments[0].seals.1"] == "seals row 3"


def test_a_delivery_of_the_same_number_is_corrected_and_another_one_added():
    document, places, _ = laid(oil_batches=[{"oil": "Oil 1", "batch": "B1", "litres": 90}, {"oil": "Oil 1", "batch": "B3"}])
    [oil] = document["oils"]
    assert {b["batch"]: b.get("litres") for b in oil["batches"]} == {"B1": 90, "B2": 50, "B3": None}
    assert places["oils[0]"] == "oil_batches row 2"


def test_a_state_of_the_same_day_is_corrected():
    document, _, _ = laid(
        unit_states=[{"unit": "MV A", "on": "2025-01-01", "state": "in_service"}, {"unit": "MV A", "on": "2025-06-01", "state": "retired"}]
    )
    assert [(s["on"], s["state"]) for s in document["units"][0]["states"]] == [("2025-01-01", "in_service"), ("2025-06-01", "retired")]


@pytest.mark.parametrize(
    ("table", "row", "field", "said"),
    [
        ("compartments", {"unit": "No ship", "compartment": "engine"}, "unit", "there is no unit named 'No ship'"),
        ("compartments", {"compartment": "engine"}, "unit", "is missing"),
        ("unit_states", {"unit": "No ship", "on": "2025-01-01"}, "unit", "there is no unit named 'No ship'"),
        ("seals", {"unit": "MV A", "compartment": "stern", "place": "x"}, "compartment", "unit 'MV A' has no compartment 'stern'"),
        ("seals", {"unit": "No ship", "compartment": "engine", "place": "x"}, "unit", "there is no unit named 'No ship'"),
        ("oil_batches", {"oil": "Odd", "batch": "B1"}, "oil", "there is no oil named 'Odd'"),
    ],
)
def test_a_row_that_belongs_nowhere_is_said_with_its_row(table, row, field, said):
    document, _, wrong = laid(**{table: [row]})
    assert wrong == [(f"{table} row 2", field, said)]
    assert document["units"] == []


def test_a_problem_is_told_by_its_place_in_the_file():
    document, places, _ = laid(
        units=[{"unit": "MV B", "meter_unit": "parsecs"}], seals=[{"unit": "MV A", "compartment": "engine", "place": "plug", "count": -3}],
        readings=[{"unit": "MV A", "on": "someday", "meter": 5}],
    )  # fmt: skip
    taken = register_file.understand({"fleet": "F", **document})
    told = {(p.where, p.field) for p in (workbook.in_the_file(p, places) for p in taken.problems)}
    assert ("units row 2", "meter_unit") in told
    assert ("seals row 2", "count") in told
    assert ("readings row 2", "on") in told


CELLS = st.one_of(st.none(), st.text(max_size=12), st.floats(allow_nan=False, allow_infinity=False), st.booleans(), st.dates())


HEADS = st.lists(st.text("abeilnorstu_.", max_size=10) | st.sampled_from(["unit", "on", "meter", "more", "oil", "name", "bn"]), max_size=6)
SHEETS = HEADS.flatmap(lambda head: st.tuples(st.just(head), st.lists(st.lists(CELLS, max_size=6), max_size=4)))


@given(st.lists(SHEETS, min_size=1, max_size=3), st.lists(st.sampled_from(sorted(workbook.TABLES)), min_size=3, max_size=3, unique=True))
def test_any_sheets_are_rows_and_problems_never_a_crash(contents, names):
    sheets = workbook.Sheets()
    for (head, rows), name in zip(contents, names, strict=False):
        workbook._rows(sheets, workbook.TABLES[name], head, list(enumerate(rows, 2)), quoted=True)
    document, places = workbook.document_of(sheets, json.loads(json.dumps(BASE)))
    taken = register_file.understand({"fleet": "F", **document})
    for problem in (*sheets.problems, *taken.problems):
        told = workbook.in_the_file(problem, places)
        assert told.why
        assert told.where
