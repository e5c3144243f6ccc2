"""What is handed on: rows of a history, workbooks without live formulas, the week."""

import io
import json

import pytest
from fastapi.testclient import TestClient
from pypdf import PdfReader
from python_calamine import CalamineWorkbook

from conftest import HEADER, TODAY, row
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate, verdicts
from vornet.flows.judge.settle import settling
from vornet.flows.judge.verdicts import Action
from vornet.flows.lab import results
from vornet.flows.pages import compartment, report
from vornet.web.app import create_app


@pytest.fixture
def leaking(db, fleet):
    results.load(db, f"{HEADER}\n{row('C1', '2025-12-20', 3690, 190, False, na='>85', k=32)}\n".encode(), fleet=fleet, name="c.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        found = c.execute("SELECT sample_id, compartment_id FROM sample WHERE sample_no = 'C1'").fetchone()
        verdicts.sign(c, fleet_id, found["sample_id"], "act", by="An Analyst", today=TODAY, cause="coolant", comment="=1+1",
                      actions=(Action("Pressure-test it", due_on=TODAY), Action("Sample again", "resample")))  # fmt: skip
    return fleet, found


@pytest.fixture
def client(db, leaking):
    login = "report" + leaking[0].replace(" ", "").lower()
    people.add(db, leaking[0], login, "A", "right-and-long", "analyst")
    client = TestClient(create_app(db, today=TODAY), follow_redirects=True)
    client.post("/sign-in", data={"login": login, "password": "right-and-long"})
    return client


def test_a_history_row_says_what_was_measured_judged_and_signed(db, leaking):
    with settling(db, fleets.find(db, leaking[0]), TODAY) as c:
        facts = compartment.load(c, leaking[1]["compartment_id"], TODAY)
    rows = report.history_rows(facts)
    last = rows[-1]
    assert (last["sample_no"], last["oil_h"], last["proposed"], last["signed"], last["signed_by"]) == (
        "C1", 190.0, "act", "act", "An Analyst",
    )  # fmt: skip
    assert (last["na"], last["k"], last["first_cause"]) == (">85", 32.0, "coolant")
    assert [r["sampled_on"] for r in rows] == sorted(r["sampled_on"] for r in rows)


def test_histories_come_as_pdf_csv_xlsx_and_json(client, leaking):
    base = f"/compartments/{leaking[1]['compartment_id']}"
    text = client.get(f"{base}/history.csv").text
    assert "'=1+1" in text  # no cell can carry a live formula
    book = CalamineWorkbook.from_filelike(io.BytesIO(client.get(f"{base}/history.xlsx").content))
    heads, *rows = book.get_sheet_by_name("samples").to_python()
    assert rows[-1][heads.index("comment")] == "'=1+1"
    assert rows[-1][heads.index("k")] == 32
    document = json.loads(client.get(f"{base}/history.json").content)
    assert document["samples"][-1]["comment"] == "=1+1"
    assert len(document["drains"]) == 6
    words = "".join(p.extract_text() for p in PdfReader(io.BytesIO(client.get(f"{base}/history.pdf").content)).pages)
    assert "MV Test · engine" in words
    assert "Coolant in the oil" in words
    assert client.get(f"{base}/history.exe").status_code == 404


def test_a_sample_on_paper(client, leaking):
    found = leaking[1]
    answer = client.get(f"/compartments/{found['compartment_id']}/samples/{found['sample_id']}/report.pdf")
    words = "".join(p.extract_text() for p in PdfReader(io.BytesIO(answer.content)).pages)
    for said in ("signed by An Analyst", "Pressure-test it", "Coolant in the oil", ">85"):
        assert said in words


def test_the_week_on_paper(client, db, leaking):
    with settling(db, fleets.find(db, leaking[0]), TODAY) as c:
        found = report.week(c, TODAY)
    assert [a["what"] for a in found["open"]] == ["Pressure-test it", "Sample again"]
    words = "".join(p.extract_text() for p in PdfReader(io.BytesIO(client.get("/reports/week.pdf").content)).pages)
    assert "Pressure-test it" in words


def test_a_sample_asked_for_is_on_the_plan_and_unsigned_ones_are_counted_alike(client, db, leaking):
    assert "Samples asked for" in client.get("/plan").text
    with settling(db, fleets.find(db, leaking[0]), TODAY) as c:
        waiting = verdicts.waiting(c, TODAY)
        assert waiting == len(verdicts.queue(c, TODAY)) > 0
    assert f'<b class="num">{waiting}</b> samples unsigned' in client.get("/").text  # whichever sample of a compartment it is
    assert "MV Test" in client.get("/?show=unsigned").text.split("<tbody>")[-1]


@pytest.mark.parametrize("view", ["over", "date", "sisters", "nonsense"])
def test_charges_are_laid_out_in_every_way(client, leaking, view):
    page = client.get(f"/compartments/{leaking[1]['compartment_id']}?view={view}&m=fe").text
    assert ("ribbon overlay" in page) == (view != "nonsense")
