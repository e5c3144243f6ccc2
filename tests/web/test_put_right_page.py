"""A drain put right at its page: read as a person writes figures, refused by field with what was typed kept, moved by name."""

import re
from datetime import date

import httpx
import pytest

from conftest import TODAY
from vornet.core.drain import DrainFacts
from vornet.flows.house import fleets
from vornet.flows.judge.settle import settling
from vornet.flows.work import drain


@pytest.fixture
def page(served, db, fleet, planner):
    """(client, the drain's address, its csrf) of a drain noted with a digit wrong."""
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        place = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        noted = drain.Drained(date(2026, 1, 12), 3870.5, DrainFacts(missing_l=2, out_l=45.25), in_l=54)
        drain_id = drain.log(c, fleet_id, place, noted, "Sunniva", TODAY)
    client = httpx.Client(base_url=served.url, timeout=120)
    client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    path = f"/compartments/{place}/drains/{drain_id}"
    return client, path, re.search(r'name="csrf" value="([^"]+)"', client.get(path).text)[1]


def form_of(text):
    """What the page's form would send back untouched."""
    fields = dict(re.findall(r'<input (?:class="dayfield" data-day )?name="(\w+)"[^>]*?value="([^"]*)"', text))
    return {**fields, "filter_changed": re.search(r'value="(\w*)" selected', text)[1]}


def stand(db, fleet):
    with db.fleet(fleets.find(db, fleet)) as c:
        return c.execute("SELECT * FROM drain WHERE on_day > '2025-12-31' AND superseded_by IS NULL").fetchall()


def test_what_comes_back_untouched_changes_nothing(page, db, fleet):
    client, path, csrf = page
    before = stand(db, fleet)
    answer = client.post(path, data={**form_of(client.get(path).text), "csrf": csrf, "why": "x"})
    assert answer.status_code == 422
    assert "nothing is changed" in answer.text
    assert stand(db, fleet) == before


def test_one_figure_is_put_right_and_the_rest_is_as_it_was(page, db, fleet):
    client, path, csrf = page
    fields = {**form_of(client.get(path).text), "csrf": csrf, "volume_out_l": "54.25", "why": "read 45 for 54"}
    answer = client.post(path, data=fields)
    assert (answer.status_code, answer.headers["location"]) == (303, path.split("/drains")[0] + "#drains")
    row = stand(db, fleet)[0]
    assert (row["volume_out_l"], row["meter"], row["volume_in_l"], row["recorded_by"]) == (54.25, 3870.5, 54, "Test Planner")
    assert client.get(path).status_code == 404  # the old row is on record, and is not what stands


@pytest.mark.parametrize(
    ("typed", "said"),
    [
        ({"meter": "lots"}, "is not a number"), ({"meter": ""}, "the meter is needed"), ({"on": "soon"}, "is not a date"),
        ({"unit": "MV Nowhere"}, "there is no"), ({"volume_out_l": "400"}, "400"), ({"why": ""}, "say in a few words"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_said_beside_its_field_and_kept(page, db, fleet, typed, said):
    client, path, csrf = page
    before = stand(db, fleet)
    answer = client.post(path, data={**form_of(client.get(path).text), "csrf": csrf, "volume_in_l": "53", "why": "two at once", **typed})
    assert answer.status_code == 422
    assert said in answer.text
    assert form_of(answer.text)["volume_in_l"] == "53"
    assert stand(db, fleet) == before


def test_it_is_taken_back_with_its_reason(page, db, fleet):
    client, path, csrf = page
    assert client.post(path, data={"csrf": csrf, "do": "take", "why": ""}).status_code == 422
    assert client.post(path, data={"csrf": csrf, "do": "take", "why": "another boat's"}).status_code == 303
    assert stand(db, fleet) == []
