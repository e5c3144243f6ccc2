"""The fleet in oil: what was poured away with life left, what ran past it, and what it comes to; by hand on a fleet of one."""

import json
import re

import pytest
from fastapi.testclient import TestClient

from conftest import TODAY, small_register
from vornet.core.oil_life import LOOK_BACK_DAYS, Charge, oil_life
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate, prices
from vornet.flows.pages import in_oil
from vornet.flows.register import register
from vornet.web.app import create_app
from vornet.web.charts import in_oil as chart

YEARS = LOOK_BACK_DAYS / 365.25


def load(db, fleet, by="early", **more):
    with db.fleet(fleets.find(db, fleet)) as c:
        return in_oil.load(c, by, more.get("family", ""), more.get("depot", ""), more.get("page", 0), TODAY)


def test_early_and_over_by_hand():
    today = 1000
    charges = [Charge(1, 100, 9999.0), Charge(400, 500, 300.0), Charge(500, 700, 900.0), Charge(700, None, 50.0)]
    found = oil_life(charges, 600.0, 40.0, today)
    assert found.charges == tuple(charges[1:])  # the first ended too long ago
    assert found.used == pytest.approx((0.5 + 1.5) / 2)
    assert found.early_l == pytest.approx(40 * 0.5 / YEARS)
    assert found.overrun == 300.0


@pytest.mark.parametrize("life", [None, 0.0, float("nan"), float("inf")])
def test_where_nobody_knows_what_is_safe_nothing_is_summed(life):
    found = oil_life([Charge(400, 500, 300.0)], life, 40.0, 1000)
    assert (found.used, found.early_l, found.overrun) == (None, None, None)
    assert len(found.charges) == 1  # drawn all the same


def test_a_fleet_of_one_adds_up(db, fleet):
    found = load(db, fleet)
    [row] = found["rows"]
    done = [h for _, end, h in row["charges"] if end is not None and h is not None]
    assert len(done) >= 5 and row["life"] is not None
    early = 55 * sum(max(1 - h / row["life"], 0) for h in done) / YEARS
    assert row["early_l"] == pytest.approx(early, rel=1e-3)
    assert found["whole"].early_l == pytest.approx(early, rel=1e-3)
    assert found["families"]["T1 engine"].compartments == found["depots"]["Quay"].compartments == 1
    assert found["whole"].early_cost is None
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        prices.set_currency(c, fleet_id, "t", "NOK")
        prices.put(c, fleet_id, "t", "fleet", "", TODAY, {"oil_per_l": 50.0, "disposal_per_l": 2.0, "filter": 400.0})
    priced = load(db, fleet)["whole"]
    assert priced.early_cost == pytest.approx(52 * early, rel=1e-3)
    if priced.drains:
        assert priced.saving == pytest.approx(52 * priced.litres + 400 * priced.drains)
        assert priced.saving_error == pytest.approx(0.15 * priced.saving)


def test_order_filter_and_pages(db, fleet, monkeypatch):
    document = small_register(fleet)
    unit = document["units"][0]
    document["units"] = [{**unit, "unit": f"MV {i}", "depot": "Quay" if i % 2 else "Head"} for i in range(7)]
    document["drains"] = [{**d, "unit": f"MV {i}"} for i in range(7) for d in document["drains"][: 3 + i % 3]]
    document["readings"] = [{**r, "unit": f"MV {i}"} for i in range(7) for r in document["readings"]]
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    monkeypatch.setattr(in_oil, "PAGE", 3)
    seen, page = [], 0
    while True:
        found = load(db, fleet, "depot", page=page)
        seen += [(r["depot"], r["compartment_id"]) for r in found["rows"]]
        if not found["more"]:
            break
        page += 1
    assert len(seen) == len(set(seen)) == 8
    assert [d for d, _ in seen] == sorted(d for d, _ in seen)
    assert {r["depot"] for r in load(db, fleet, "early", depot="Head")["rows"]} == {"Head"}
    assert load(db, fleet, "nonsense", family="T1 engine")["by"] == "early"


def test_the_page_draws_a_row_each_and_names_are_only_names(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        c.execute("UPDATE unit SET name = %s", ('"><script>alert(1)</script>',))
    login = "oil-" + re.sub(r"\W", "", fleet.lower())
    people.add(db, fleet, login, "M", "right-and-long", "manager")
    client = TestClient(create_app(db, today=TODAY))
    client.post("/sign-in", data={"login": login, "password": "right-and-long"})
    page = client.get("/decide/fleet").text
    assert page.count('class="thin-ribbon"') == 1 and "<script>alert" not in page
    assert "poured away with life left" in page
    assert client.get("/decide/fleet.csv").text.startswith("\ufeffunit,"), "a spreadsheet is told that it is UTF-8"


def test_colours_follow_the_life_that_was_used():
    assert "url(#oil10)" in chart.ribbon([[100, 200, 300.0]], 600.0, TODAY.replace(year=1, month=12), 730, "x")
    assert 'class="unknown"' in chart.ribbon([[100, 200, 300.0]], None, TODAY.replace(year=1, month=12), 730, "x")
    past = chart.ribbon([[100, 200, 900.0]], 600.0, TODAY.replace(year=1, month=12), 730, "x")
    assert "past-life" in past and "url(#oil28)" in past
    assert len(re.findall("<linearGradient", chart.gradients())) == 28
