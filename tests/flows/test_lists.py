"""A fleet's own list into the register: tried first, good rows in, the others wait and are mended; honest counts."""

from __future__ import annotations

import re
from datetime import date

import httpx
import pytest

from conftest import Served
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.register import dump, lists
from vornet.io.fleet_list import Assumed
from vornet.io.list_header import Column
from vornet.store.database import Database

TODAY = date(2026, 1, 15)
LIST = (
    "Our tractors;;;;;;;;\n"
    "Machine;Hours;Component;Oil;Capacity (l);Change every;Last oil change;Hours at last change;Colour\n"
    "T-01;3 850;Engine;Fallow D 15W-40;12,5;500 h / 12 months;13.02.2025;3600;red\n"
    "T-01;3 850;Gearbox;Fallow Gear 80W;22;1500 h;;;red\n"
    "T-02;1 200;Engine;Fallow D 15W40;12,5;500 h;14.02.2025;9OO;red\n"
    "T-03;1 900;Winch;Fallow D 15W40;3;500 h;;;\n"
    "T-04;800;Engine;Fallow D 15W40;12,5;500 h;14.02.2025;900;\n"
).encode("cp1252")


def made(db: Database, name: str, content: bytes = LIST) -> tuple[int, int]:
    fleet_id = fleets.find_or_make(db, name)
    with db.fleet(fleet_id) as connection:
        return fleet_id, lists.keep(connection, fleet_id, "tractors.csv", content, "t")


def test_a_list_is_tried_without_keeping_anything_and_then_its_good_rows_go_in(db: Database, fleet_name: str) -> None:
    fleet_id, list_id = made(db, fleet_name)
    with db.fleet(fleet_id) as connection:
        file = lists.file(connection, list_id)
        assert file is not None
        tried = lists.tried(connection, fleet_id, file, "t", TODAY)
    assert not dump.dump(db, fleet_name, TODAY)["units"], "a preview keeps nothing"
    # row 5: a letter O; row 6: no kind; row 7: changed at 900 h, and reads 800 h today: the register's own rule
    assert {n: p[0].heading for n, p in tried.problems.items()} == {5: "Hours at last change", 6: "kind", 7: "Hours"}
    assert tried.good == 2 and tried.counts["compartments"] == 2 and "columns not read: Colour" in tried.found.said
    with db.fleet(fleet_id) as connection:
        done = lists.take(connection, fleet_id, list_id, "t", TODAY)
        kept = lists.file(connection, list_id)
    assert kept is not None and kept["counts"]["rows_in"] == 2 and kept["counts"]["waits"] == 3 == len(done.problems)
    document = dump.dump(db, fleet_name, TODAY)
    assert [u["unit"] for u in document["units"]] == ["T-01"]
    engine = next(c for c in document["units"][0]["compartments"] if c["compartment"] == "Engine")
    assert (engine["capacity_l"], engine["interval_h"], engine["interval_days"], engine["oil"]) == (12.5, 500, 365, "Fallow D 15W-40")
    assert [(d["on"], d["meter"]) for d in document["drains"]] == [("2025-02-13", 3600)]
    assert document["oils"][0]["grade"] == "15W-40"
    with db.fleet(fleet_id) as connection, pytest.raises(InputError, match="taken in already"):
        lists.take(connection, fleet_id, list_id, "t", TODAY)


def test_a_row_that_waits_is_mended_or_left_out_with_its_reason(db: Database, fleet_name: str) -> None:
    fleet_id, list_id = made(db, fleet_name)
    with db.fleet(fleet_id) as connection:
        lists.take(connection, fleet_id, list_id, "t", TODAY)
        rows = {r["row_no"]: r for r in lists.waiting(connection, list_id)}
        wrong = [(name, why) for name, _, why in rows[5]["fields"] if why]
        assert [name for name, _ in wrong] == ["Hours at last change"], "which cell is wrong, not only which row"
        assert not lists.mend(connection, fleet_id, rows[5]["list_row_id"], {"Hours at last change": "9O0"}, "t", TODAY)
        again = {r["row_no"]: r for r in lists.waiting(connection, list_id)}[5]
        assert ("Hours at last change", "9O0") in [(name, shown) for name, shown, _ in again["fields"]], "what was typed is kept"
        assert lists.mend(connection, fleet_id, rows[5]["list_row_id"], {"Hours at last change": "900"}, "t", TODAY)
        assert lists.mend(connection, fleet_id, rows[6]["list_row_id"], {"kind": "gearbox"}, "t", TODAY)
        with pytest.raises(InputError, match="say why"):
            lists.leave_out(connection, fleet_id, rows[7]["list_row_id"], " ", "t")
        lists.leave_out(connection, fleet_id, rows[7]["list_row_id"], "sold", "t")
        assert lists.waiting(connection, list_id) == []
        with pytest.raises(InputError, match="does not wait"):
            lists.mend(connection, fleet_id, rows[7]["list_row_id"], {}, "t", TODAY)
    document = dump.dump(db, fleet_name, TODAY)
    assert {(u["unit"], c["compartment"], c["kind"]) for u in document["units"] for c in u["compartments"]} == {
        ("T-01", "Engine", "engine"), ("T-01", "Gearbox", "gearbox"), ("T-02", "Engine", "engine"), ("T-03", "Winch", "gearbox")}  # fmt: skip
    assert {u["unit"]: u["meter_unit"] for u in document["units"]} == {"T-01": "h", "T-02": "h", "T-03": "h"}


def test_a_heading_explained_once_is_known_in_the_next_list_and_in_rows_that_wait(db: Database, fleet_name: str) -> None:
    text = "Wagen Kennung;Zähler;Aggregat;Saft;Inhalt\nB 7;1200;Engine;Fallow D 15W-40;1x\n"
    fleet_id, list_id = made(db, fleet_name, text.replace("Aggregat", "Component").encode())
    with db.fleet(fleet_id) as connection:
        file = lists.file(connection, list_id)
        assert file is not None and "unit" in lists.tried(connection, fleet_id, file, "t", TODAY).found.questions
        with pytest.raises(InputError, match="Which column names the unit"):
            lists.take(connection, fleet_id, list_id, "t", TODAY)
        said = {"Wagen Kennung": Column("unit"), "Zähler": Column("meter", "km"), "Saft": Column("oil"), "Inhalt": Column("capacity_l", "qt")}
        lists.explain(connection, fleet_id, list_id, said, Assumed())
        lists.take(connection, fleet_id, list_id, "t", TODAY)
        row = lists.waiting(connection, list_id)[0]
        assert lists.mend(connection, fleet_id, row["list_row_id"], {"Inhalt": "10"}, "t", TODAY)
        second = lists.keep(
            connection, fleet_id, "next.csv", text.replace("B 7", "B 8").replace("1x", "10").replace("Aggregat", "Component").encode(), "t"
        )
        lists.take(connection, fleet_id, second, "t", TODAY)
        with pytest.raises(InputError, match="is not a unit for"):
            lists.explain(connection, fleet_id, second, {"Inhalt": Column("capacity_l", "km")}, Assumed())
    units = dump.dump(db, fleet_name, TODAY)["units"]
    # 10 US quarts, NIST SP 811 (2008), appendix B
    assert [(u["unit"], u["meter_unit"], round(u["compartments"][0]["capacity_l"], 3)) for u in units] == [
        ("B 7", "km", 9.464),
        ("B 8", "km", 9.464),
    ]


def test_a_row_that_waits_keeps_the_unit_that_stood_above_it(db: Database, fleet_name: str) -> None:
    text = b"Unit;Hours;Component;Oil;Litres\nT1;900;Engine;X 15W-40;12\n;;Gearbox;X 80W;2x\nT2;800;Engine;X 15W-40;12\n"
    fleet_id, list_id = made(db, fleet_name, text)
    with db.fleet(fleet_id) as connection:
        lists.take(connection, fleet_id, list_id, "t", TODAY)
        (row,) = lists.waiting(connection, list_id)
        assert ("Unit", "T1", "") in row["fields"]
        assert lists.mend(connection, fleet_id, row["list_row_id"], {"Litres": "22"}, "t", TODAY)
    units = {u["unit"]: u for u in dump.dump(db, fleet_name, TODAY)["units"]}
    assert [c["compartment"] for c in units["T1"]["compartments"]] == ["Engine", "Gearbox"]


def test_the_page_takes_a_list_as_it_is_and_shows_which_cell_is_wrong(db: Database, served: Served, planner: tuple[str, str]) -> None:
    with httpx.Client(base_url=served.url, timeout=120, follow_redirects=True) as c:
        c.post("/sign-in", data={"login": planner[0], "password": planner[1]})
        csrf = re.search(r'name="csrf" value="([^"]+)"', c.get("/library/files").text)
        assert csrf is not None
        token = {"csrf": csrf[1]}
        answer = c.post("/library/files", data=token, files={"file": ("tractors.csv", LIST)})
        assert answer.url.path.startswith("/library/lists/") and answer.status_code == 200
        assert "would go in" in answer.text and "which kind of compartment" in answer.text and "H, Hours at last change" in answer.text
        path = answer.url.path
        assert c.post("/library/lists/999999", data={**token, "do": "take"}).status_code in (404, 422)
        answer = c.post(path, data={**token, "do": "take"})
        assert '<b class="num">2</b> of <b class="num">5</b> rows went in' in answer.text and 'aria-invalid="true"' in answer.text
        row = re.search(rf'action="({path}/rows/\d+)"', answer.text)
        assert row is not None
        refused = c.post(row[1], data={**token, "do": "leave", "why": "", "name.0": "Machine", "cell.0": "T-02 as typed"})
        assert refused.status_code == 422 and "T-02 as typed" in refused.text, "what was typed is kept"
        assert "waits to be read" not in c.get("/library/files").text


def test_a_row_that_contradicts_another_does_not_go_in_by_pressing_the_button(db: Database, fleet_name: str) -> None:
    rows = ("Unit;Hours;Depot;Component;Oil;Litres", "T1;900;North;Engine;X 15W-40;12", "T1;900;South;Gearbox;X 80W;20",
            "T1;900;North;Engine;X 15W-40;14")  # fmt: skip
    text = "\n".join(rows).encode()
    fleet_id, list_id = made(db, fleet_name, text)
    with db.fleet(fleet_id) as connection:
        lists.take(connection, fleet_id, list_id, "t", TODAY)
        depot, litres = lists.waiting(connection, list_id)
        for row in (depot, litres):
            assert not lists.mend(connection, fleet_id, row["list_row_id"], {}, "t", TODAY), "nobody has said which is right"
        again = lists.waiting(connection, list_id)
        assert ["which is right?" in "".join(why for _, _, why in row["fields"]) for row in again] == [True, True]
        assert lists.mend(connection, fleet_id, depot["list_row_id"], {"Depot": "North"}, "t", TODAY)
        assert lists.mend(connection, fleet_id, litres["list_row_id"], {"Litres": "12"}, "t", TODAY)
    (unit,) = dump.dump(db, fleet_name, TODAY)["units"]
    assert unit["depot"] == "North" and {c["compartment"]: c["capacity_l"] for c in unit["compartments"]} == {"Engine": 12, "Gearbox": 20}
