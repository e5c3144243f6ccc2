"""Lists as people keep them: every cell is read right or named, never wrong in silence.

The hundred sheets are made up from one true fleet: written in other styles, and damaged. What is checked is the promise of the reader, not
another program; styles of numbers and dates are those spreadsheets write (common practice, no source).
"""

from __future__ import annotations

import csv
import io
import random
from datetime import date
from typing import Any

import pytest
import xlsxwriter

from vornet.core.errors import InputError
from vornet.io import fleet_list, list_rows
from vornet.io.fleet_list import Assumed
from vornet.io.list_header import Column

TODAY = date(2026, 3, 10)
#: the true fleet: a row a compartment
TRUE = [
    {"unit": f"T-{10 + i // 2}", "depot": "North yard" if i < 6 else "Südhof", "model": f"H {100 + i // 2}", "serial": f"HM{7000 + i // 2}",
     "meter": 1210.0 + 137 * (i // 2), "compartment": ("Engine", "Gearbox")[i % 2], "oil": ("Fallow D 15W-40", "Fallow Gear 80W-90")[i % 2],
     "capacity_l": (18.5, 52.0)[i % 2] + (i // 2), "interval": (500.0, 1500.0)[i % 2],
     "drained_on": date(2025, 2 + i // 2, 3 + 4 * (i // 2)), "drained_meter": 900.0 + 137 * (i // 2) + i % 2}
    for i in range(12)
]  # fmt: skip
HEADINGS = {
    "unit": ("Unit", "Machine no", "Fleet No.", "Fahrzeug", "ASSET ID"), "depot": ("Depot", "Location", "Standort"),
    "model": ("Model", "Modell"), "serial": ("Serial", "S/N", "Serial No."),
    "meter": ("Hours", "Hour meter (h)", "Betriebsstunden", "Current hours"), "compartment": ("Compartment", "Component", "Komponente"),
    "oil": ("Oil", "Oil type", "Lubricant", "Ölsorte"), "capacity_l": ("Capacity (l)", "Refill capacity, litres", "Füllmenge [L]", 
                   "Oil qty (ltr)"),
    "interval": ("Interval (h)", "Change every (hours)", "Oil change interval h"),
    "drained_on": ("Last oil change", "Last changed", "Letzter Ölwechsel"),
    "drained_meter": ("Hours at last change", "Last change hours", "Drained at (h)"),
}  # fmt: skip
NUMBERS = ("meter", "capacity_l", "interval", "drained_meter")


def grouped(value: float, comma: bool, group: bool) -> str:
    text = f"{value:,.1f}" if group else f"{value:.1f}"
    text = text.removesuffix(".0")
    return text.replace(",", "_").replace(".", ",").replace("_", ".") if comma else text


def day_text(value: date, style: str) -> str:
    return {
        "iso": value.isoformat(), "dots": f"{value.day}.{value.month}.{value.year}", "short": f"{value:%d.%m.%y}",
        "dmy": f"{value:%d/%m/%Y}", "mdy": f"{value:%m/%d/%Y}", "words": f"{value.day} {value:%b %Y}", 
        "us": f"{value:%b} {value.day}, {value.year}",
    }[style]  # fmt: skip


def sheet(seed: int) -> tuple[bytes, dict[int, dict[str, Any]], dict[tuple[int, str], str]]:
    """A list in a style of its own, damaged in a cell or three: its bytes, the true row by row number, what was damaged."""
    dice = random.Random(seed)
    keys = list(HEADINGS)
    dice.shuffle(keys)
    names = {k: dice.choice(HEADINGS[k]) for k in keys}
    comma, group, style = dice.random() < 0.5, dice.random() < 0.4, dice.choice(("iso", "dots", "short", "dmy", "mdy", "words", "us"))
    above = [[] for _ in range(dice.choice((0, 0, 1, 3)))]
    if above:
        above[0] = ["Our fleet, spring"]
    lines: list[list[Any]] = [[names[k] for k in keys]]
    truth: dict[int, dict[str, Any]] = {}
    workbook = dice.random() < 0.25
    for row in TRUE:
        cells: list[Any] = []
        for k in keys:
            value = row[k]
            if isinstance(value, float):
                cells.append(value if workbook and dice.random() < 0.8 else grouped(value, comma, group))
            elif isinstance(value, date):
                cells.append(day_text(value, style))
            else:
                cells.append(f" {value} " if dice.random() < 0.1 else value)
        truth[len(above) + 1 + len(lines)] = row
        lines.append(cells)
    damaged: dict[tuple[int, str], str] = {}
    for _ in range(dice.choice((0, 1, 1, 2, 3))):
        n, k = dice.randrange(1, len(lines)), dice.choice(keys)
        cell = lines[n][keys.index(k)]
        text = str(cell)
        ways = {
            "blank": "", "letters": "see file", "error": "#REF!", "letter o": text.replace("0", "O", 1), "minus": f"-{text}",
            "twice": f"{text} / {text}x", "no day": "31.02.2025", "ahead": "2031-05-01", "question": f"{text}?", "approx": f"ca. {text}",
            "thousands": "1.250" if comma is False else "1,250", "unit": f"{text} bar", "other case": text.swapcase() + " ",
        }  # fmt: skip
        way = dice.choice(list(ways))
        lines[n][keys.index(k)] = ways[way]
        damaged[(len(above) + 1 + n, k)] = way
    if dice.random() < 0.2:
        lines.append(["Total", *[""] * (len(keys) - 1)])
    out = [*above, *lines]
    if workbook:
        stream = io.BytesIO()
        book = xlsxwriter.Workbook(stream, {"in_memory": True})
        book.add_worksheet("Read me").write_string(0, 0, "see the other sheet")
        page = book.add_worksheet("Machines")
        for y, line in enumerate(out):
            for x, cell in enumerate(line):
                (page.write_number if isinstance(cell, float) else page.write_string)(y, x, cell)
        book.close()
        return stream.getvalue(), truth, damaged
    text = io.StringIO()
    csv.writer(text, delimiter=dice.choice(";\t|" if comma else ",;\t"), lineterminator=dice.choice(("\n", "\r\n"))).writerows(
        [[str(c) for c in line] for line in out]
    )
    encoding = dice.choice(("utf-8", "utf-8-sig", "cp1252", "utf-16"))
    return text.getvalue().encode(encoding), truth, damaged


def cells_of(document: dict[str, Any]) -> dict[tuple[str, str, str], Any]:
    """What a document says, by unit, compartment ('' the unit itself) and field."""
    out: dict[tuple[str, str, str], Any] = {}
    for unit in document["units"]:
        out |= {(unit["unit"], "", k): unit.get(k) for k in ("depot", "model", "serial")}
        for c in unit["compartments"]:
            place = (unit["unit"], c["compartment"])
            out |= {(*place, k): c.get(k) for k in ("oil", "capacity_l")} | {
                (*place, "interval"): c.get("interval_h"),
                (*place, "kind"): c["kind"],
            }
    out |= {(r["unit"], "", "meter"): r["meter"] for r in document["readings"]}
    for d in document["drains"]:
        out |= {(d["unit"], d["compartment"], "drained_on"): d["on"], (d["unit"], d["compartment"], "drained_meter"): d["meter"]}
    return out


def true_value(row: dict[str, Any], key: str) -> Any:
    return row[key].isoformat() if isinstance(row[key], date) else row[key]


@pytest.mark.parametrize("seed", range(100))
def test_a_sheet_in_a_style_of_its_own_and_damaged_is_read_right_or_named(seed: int) -> None:
    content, truth, damaged = sheet(seed)
    assumed = Assumed()
    read = fleet_list.read(content, {}, assumed)
    assert not read.not_read(), "every heading of the hundred sheets is one people write"
    found = list_rows.settled(read, {}, assumed, TODAY)
    assert not found.questions
    said = cells_of(found.document)
    by_place = {(row["unit"], row["compartment"]): row for row in truth.values()}
    assert len(by_place) == 12
    blanked = {(truth[n]["unit"], truth[n]["compartment"], k) for (n, k), way in damaged.items() if way == "blank"}
    swapped = {(truth[n]["unit"], truth[n]["compartment"], k) for (n, k), way in damaged.items() if way == "other case"}
    for (unit, compartment, key), value in said.items():
        mine = [r for (u, c), r in by_place.items() if u == unit and compartment in ("", c)]
        spoilt = {str(k) for (n, k), way in damaged.items() if k in ("unit", "compartment", "oil") and n not in found.problems}
        if not mine or ((unit, compartment) not in by_place and compartment):
            assert spoilt & {"unit", "compartment"}, f"{unit} {compartment} is nothing of this fleet"
            if compartment and "compartment" in spoilt and compartment.casefold() not in ("engine", "gearbox"):
                assert any(repr(compartment) in words for words in found.said), "a name of its own is at least told"
            continue
        if key == "kind":
            assert value == compartment.lower()
            continue
        if value is None:  # not said: its cell was blanked, and that is what the list says
            assert any((unit, r["compartment"], key) in blanked or (key in ("depot", "model", "serial")) for r in mine), (
                unit,
                compartment,
                key,
            )
            continue
        expected = {true_value(r, key) for r in mine}
        if key == "capacity_l" and any(way == "thousands" and k == key and truth[n] in mine for (n, k), way in damaged.items()):
            expected.add(1.25)  # with the list's own decimal mark it says just that
        if isinstance(value, str) and any((unit, r["compartment"], key) in swapped for r in mine):
            assert value.casefold() in {str(e).casefold() for e in expected}
        elif isinstance(value, str) and value not in expected:  # a text that cannot be told from a right one: as it was written
            assert key in ("depot", "model", "serial", "oil")
            assert any((n, key) in damaged for n, r in truth.items() if r in mine)
        else:
            assert value in expected, (unit, compartment, key, value)
    for number, row in truth.items():  # and nothing is gone in silence
        if number not in found.problems and not any((number, k) in damaged for k in ("unit", "compartment")):
            assert (row["unit"], row["compartment"], "oil") in said
    unreadable = ("letters", "error", "question", "approx", "no day", "ahead")
    for (n, k), way in damaged.items():
        if k in (*NUMBERS, "drained_on") and way in unreadable:
            headings = {p.heading for p in found.problems.get(n, [])}
            assert any(read.by_name().get(h, Column("")).key == k for h in headings), (n, k, way, found.problems)


def read(text: str, assumed: Assumed = Assumed(), base: dict[str, Any] | None = None) -> list_rows.Understood:
    return list_rows.settled(fleet_list.read(text.encode(), {}, assumed), base or {}, assumed, TODAY)


def whys(found: list_rows.Understood) -> str:
    return " | ".join(f"{n} {p.heading}: {p.why}" for n, several in sorted(found.problems.items()) for p in several)


def test_one_wide_sheet_of_units_with_their_compartments_in_columns() -> None:
    found = read(
        "Bus,Odometer (x1000 km),Engine oil,Engine oil capacity (qt),Gearbox oil,Gearbox (L),Engine oil change interval\n"
        "B1,120,Bright 15W-40,30,Gear 75W-90,9,30000 km\nB2,90.5,Bright 15W40,30,,,30000 km\n"
    )
    assert not found.problems
    b1, b2 = found.document["units"]
    assert [c["compartment"] for c in b1["compartments"]] == ["Engine", "Gearbox"]
    assert b1["compartments"][0]["capacity_l"] == pytest.approx(28.39058838)  # 30 US quarts, NIST SP 811 (2008) appendix B
    assert b1["compartments"][0]["interval_km"] == 30000 and b1["meter_unit"] == "km"
    assert [c["compartment"] for c in b2["compartments"]] == ["Engine"] and b2["compartments"][0]["oil"] == "Bright 15W-40"
    assert {r["meter"] for r in found.document["readings"]} == {120_000, 90_500}


def test_names_of_compartments_above_the_headings_reach_over_their_columns() -> None:
    found = read(";;Engine;;Hydraulic;\nUnit;Hours;Oil;Litres;Oil;Litres\nD1;900;Bright 15W-40;12;Hydra 46;80\n")
    assert not found.problems
    assert [(c["compartment"], c["oil"], c["capacity_l"]) for c in found.document["units"][0]["compartments"]] == [
        ("Engine", "Bright 15W-40", 12), ("Hydraulic", "Hydra 46", 80)]  # fmt: skip


def test_a_unit_written_once_for_the_rows_below_it_and_a_hole_are_told_apart() -> None:
    once = read("Unit;Hours;Component;Oil\nT1;900;Engine;X 15W-40\n;;Gearbox;X 80W\nT2;800;Engine;X 15W-40\n")
    assert not once.problems and len(once.document["units"][0]["compartments"]) == 2
    assert any("taken as the one above" in said for said in once.said)
    hole = read("Unit;Hours;Component;Oil\nT1;900;Engine;X 15W-40\nT1;900;Gearbox;X 80W\n;800;Engine;X 15W-40\n")
    assert "4 Unit: is missing" in whys(hole)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("Unit;Hours;Component;Oil;Litres\nT1;1.250;Engine;X;12\n", "may mean 1250 or 1.25"),
        ("Unit;Hours;Component;Oil;Last change;Hours at last change\nT1;900;Engine;X;03/04/2025;800\n", "2025-04-03 or 2025-03-04"),
        ("Unit;Hours;Component;Oil;Interval\nT1;900;Engine;X;10000 km\n", "is in km; the unit's meter counts h"),
        ("Unit;Hours;Component;Oil\nT-01;900;Engine;X\nT 1;900;Gearbox;X\n", "is written 'T-01' in row 2"),
        ("Unit;Hours;Component;Oil\nT1;900;Winch;X\n", "which kind of compartment"),
        ("Unit;Hours;Component;Oil\nT1;900;Axle differential;X\n", "which kind of compartment"),
        ("Unit;Hours;Component;Oil;Litres\nT1;900;Engine;X;12\nT1;900;engine;X;14\n", "14.0 here, 12.0 in row 2"),
        ("Unit,Hours,Component,Oil,Litres\nT1,900,Engine,X,12,5\n", "more than there are headings"),
        ("Unit;Hours;Component;Oil;Hours at last change\nT1;900;Engine;X;800\n", "on which day?"),
        ("Unit;Hours;Component;Oil;Capacity;Capacity without filter\nT1;900;Engine;X;12;14\n", "above Capacity 12 L"),
        ("Unit;Hours;Year;Component;Oil\nT1;900;205;Engine;X\n", "is not a year"),
        ("Unit;Hours;Depot;Component;Oil\nT1;900;A;Engine;X\nT1;900;B;Gearbox;X\n", "B here, A in row 2"),
    ],
)  # fmt: skip
def test_what_may_mean_two_things_or_contradicts_waits_and_is_named(text: str, expected: str) -> None:
    found = read(text)
    assert expected in whys(found)


def test_what_the_whole_list_does_not_say_is_asked_once() -> None:
    text = "Machine;Meter;Oil;Litres\nT1;900;X 15W-40;12\n"
    assert read(text).questions == ["compartment", "counts"]
    said = read(text, Assumed(counts="h", compartment="Engine"))
    assert not said.questions and said.document["units"][0]["compartments"][0]["kind"] == "engine"


def test_a_list_over_a_register_changes_what_it_says_and_leaves_the_rest() -> None:
    base = {"oils": [{"name": "X 15W-40"}], "units": [{"unit": "T1", "meter_unit": "h", "serial": "S9", "compartments": [
        {"compartment": "engine", "kind": "engine", "capacity_l": 12, "oil": "X 15W-40", "printed_h": 600}]}]}  # fmt: skip
    found = read("Unit;Depot;Component;Oil;Litres\nT1;North;Engine;X 15W40;13\n", base=base)
    assert not found.problems and not found.document["oils"]
    unit = found.document["units"][0]
    assert (unit["serial"], unit["depot"]) == ("S9", "North")
    assert unit["compartments"] == [{"compartment": "engine", "kind": "engine", "capacity_l": 13, "oil": "X 15W-40", "printed_h": 600}]


def test_what_is_no_list_is_refused_in_words() -> None:
    for content in (b"", b"%PDF-1.4", b"just a letter to the workshop", b"a;b\n1;2\n"):
        with pytest.raises(InputError):
            fleet_list.read(content, {}, Assumed())


@pytest.mark.parametrize(
    ("cells", "heading"),
    [("B1,4000,120000,Engine,X,500 h,2025-03-01,110000", "Changed at"), ("B1,4000,120000,Engine,X,30000,,", "Change every")],
)
def test_a_bare_figure_of_a_unit_with_two_meters_is_asked_about(cells: str, heading: str) -> None:
    """30,000 taken for hours would be an interval nobody drains at."""
    found = read(f"Unit,Engine hours,Odometer (km),Component,Oil,Change every,Last oil change,Changed at\n{cells}\n")
    assert [(p.heading, "h or km" in p.why) for p in found.problems[2]] == [(heading, True)]


def test_an_interval_in_the_second_meter_s_unit_goes_with_that_meter_and_its_last_change_too() -> None:
    found = read(
        "Unit,Engine hours,Odometer (km),Component,Oil,Change every,Last oil change,Changed at (km)\n"
        "B1,4000,120000,Gearbox,X,60000 km,2025-03-01,110000\n"
    )
    assert not found.problems
    gearbox = found.document["units"][0]["compartments"][0]
    assert (gearbox["meter_no"], gearbox["interval_km"], found.document["drains"][0]["meter"]) == (2, 60000, 110000)
