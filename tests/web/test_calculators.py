"""The calculators' page is drawn from the models that the command and the API are checked by: one description of a field."""

import json

import pytest
from fastapi.testclient import TestClient

from conftest import TODAY
from vornet.flows import calc
from vornet.web import calculators as page
from vornet.web.app import create_app

NAMES = sorted(calc.WHERE)


@pytest.fixture(scope="module")
def client(db):
    with TestClient(create_app(db, today=TODAY)) as made:
        yield made


def test_every_calculator_is_on_the_page_and_the_other_way_round():
    assert sorted(page.PAGES) == NAMES


@pytest.mark.parametrize("name", NAMES)
def test_the_first_figures_of_the_page_are_an_example_that_works(name):
    p = page.PAGES[name]
    typed = {a.key: a.first for a in p.asks}
    given = page.given(p, typed, ".")
    answer = calc.calculate(name, given)
    rows = page.answers(p, answer)
    assert rows
    assert all(words and figure for words, figure in rows)
    assert p.title
    assert p.formula
    assert p.source


@pytest.mark.parametrize("name", NAMES)
def test_the_api_says_the_same_words_and_takes_the_same_example(client, name):
    schema = client.get("/api/v1/openapi.json").json()["paths"][f"/api/v1/calc/{name}"]["post"]["requestBody"]["content"]["application/json"][
        "schema"
    ]
    asked = {a.key: a for a in page.PAGES[name].asks if "." not in a.key}
    for key, field in schema["properties"].items():
        if key in asked:
            assert field["title"] == asked[key].label
            assert field.get("unit", "") == asked[key].unit
    examples = {k: f["examples"][0] for k, f in schema["properties"].items() if f.get("examples")}
    if not any("." in a.key for a in page.PAGES[name].asks):  # else the example stands in the inner fields
        answer = client.post(f"/api/v1/calc/{name}", content=json.dumps(examples))
        assert answer.status_code == 200, answer.text


@pytest.mark.parametrize(
    ("name", "typed", "said"),
    [
        ("refill", {"capacity_l": "thirty"}, "Capacity: "),
        ("refill", {"capacity_l": "36"}, "pack_l: is missing"),
        ("trend", {"points": "1 2 3"}, "each line has 2 figures"),
        ("identify", {"sample": "ca 1 2", "oils": "A ca=1"}, "each line is an element and its figure"),
        ("due", {"readings": "someday 5", "today": "2026-01-01"}, "readings[0].date"),
        ("limits", {"values": "1 two 3"}, "Values: 'two' is not a number"),
        ("safe-interval", {"start": "10", "limit": "5", "slopes_per_h": "-0.01", "sd": "0.1"}, "of one no spread can be told"),
    ],
)
def test_what_is_typed_wrong_is_said_beside_the_calculator(name, typed, said):
    worked = page._worked(page.PAGES[name], typed)
    assert said in worked["error"]
    assert worked["rows"] == []


def test_a_comma_s_friend_types_figures_as_ever():
    p = page.PAGES["carry-over"]
    typed = {"system_volume_l": "40,5", "drained_volume_l": "33,25", "old_value": "50", "new_value": "0"}
    assert page.given(p, typed, ",")["system_volume_l"] == 40.5
    assert page.given(page.PAGES["identify"], {"sample": "ca 1.250,5", "oils": ""}, ",") == {"sample": {"ca": 1250.5}}
