"""Approving an interval: what may be, what never may, what it rests on; and prices by fleet, family and unit."""

import json
import re
from datetime import date, timedelta

import pytest
from fastapi.testclient import TestClient

from conftest import HEADER, TODAY, approve_seen, row, small_register
from vornet.core.errors import FormErrors, InputError
from vornet.core.prices import Said, drain_cost
from vornet.flows.house import fleets, people
from vornet.flows.judge import approval, evaluate, in_force, prices
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.pages import compartment, interval
from vornet.flows.register import register
from vornet.web.app import create_app


@pytest.fixture
def place(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        return fleet_id, c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]


def approve(db, place, meter, why="", **more):
    with settling(db, place[0], TODAY) as c:
        approve_seen(c, place[0], place[1], meter, why, "A Planner", TODAY, **more)


def standing(db, place):
    with db.fleet(place[0]) as c:
        return compartment.row_of(c, place[1])


def test_with_a_fault_open_nothing_is_lengthened_whatever_is_written_beside_it(db, fleet, place):
    sick = row("BAD", "2025-12-20", 3700, 200, False, na=180, k=70, water_ppm=2500)
    results.load(db, f"{HEADER}\n{sick}\n".encode(), fleet=fleet, name="bad.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    assert standing(db, place)["open_faults"]
    with pytest.raises(InputError, match="while a fault is open"):
        approve(db, place, 600, "we know better, and it was only a splash")
    approve(db, place, 400, "shorter until it is found")  # shorter always may
    assert standing(db, place)["interval_meter"] == 400
    with pytest.raises(InputError, match="while a fault is open"):
        approve(db, place, 450, "back up a little")


@pytest.mark.parametrize(
    ("meter", "more", "field"),
    [(0, {}, "interval"), (float("nan"), {}, "interval"), (2e6, {}, "interval"), (1001, {"why": "x"}, "interval"),
     (510, {}, "why"), (510, {"why": "x", "days": 0}, "days"), (510, {"why": "x", "days": 9999}, "days"),
     (510, {"why": "x", "effective_from": TODAY - timedelta(days=1)}, "effective_from"),
     (510, {"why": "x", "effective_from": TODAY + timedelta(days=400)}, "effective_from")],
)  # fmt: skip
def test_what_may_not_be_approved_is_said_by_its_field_and_changes_nothing(db, place, meter, more, field):
    before = standing(db, place)["interval_meter"]
    with pytest.raises(InputError) as refused:
        approve(db, place, meter, **more)
    assert refused.value.field == field
    assert standing(db, place)["interval_meter"] == before


def test_it_takes_effect_on_its_day_and_its_days_limit_with_it(db, fleet, place):
    approve(db, place, 525, "next month", days=200, effective_from=TODAY + timedelta(days=30))
    assert standing(db, place)["interval_meter"] == 500
    evaluate.evaluate(db, fleet, TODAY + timedelta(days=31), afresh=True)
    assert standing(db, place)["interval_meter"] == 525


def test_what_it_rests_on_is_asked_again_when_it_changed(db, fleet, place):
    with db.fleet(place[0]) as c:
        rests_on = interval.load(c, place[1], TODAY).seen
    worse = row("NEW", "2025-12-20", 3700, 200, False, bn=5.2, soot_pct=1.9)
    results.load(db, f"{HEADER}\n{worse}\n".encode(), fleet=fleet, name="new.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    with pytest.raises(approval.Changed, match="has changed since"):
        approve(db, place, 525, "x", rests_on=rests_on)
    with db.fleet(place[0]) as c:
        rests_on = interval.load(c, place[1], TODAY).seen
    approve(db, place, 450, "x", rests_on=rests_on)
    with pytest.raises(approval.Changed, match="A Planner has approved 450 meanwhile"):
        approve(db, place, 475, "x", rests_on=rests_on)


# ---- prices ---------------------------------------------------------------------------------------------------


def put(db, place, scope, where, **given):
    with db.fleet(place[0]) as c:
        prices.put(c, place[0], "A", scope, where, TODAY, given)


def test_the_nearest_price_wins_one_by_one(db, place):
    put(db, place, "fleet", "", oil_per_l=4.0, sample=30.0, filter=20.0)
    put(db, place, "family", "T1 engine", filter=25.0, sample=None)
    put(db, place, "unit", "MV Test", oil_per_l=5.5)
    with db.fleet(place[0]) as c:
        said = prices.in_force(c, TODAY).of("T1 engine", "MV Test")
        other = prices.in_force(c, TODAY).of("", "Another")
        before = prices.in_force(c, TODAY - timedelta(days=1)).of("T1 engine", "MV Test")
    assert said == {"oil_per_l": Said(5.5, "unit"), "filter": Said(25.0, "family"), "sample": Said(30.0, "fleet")}
    assert other["oil_per_l"] == Said(4.0, "fleet") and before == {}
    cost = drain_cost(said, 55)
    assert cost.total == pytest.approx(5.5 * 55 + 25 + 30) and cost.missing == ()
    assert drain_cost({}, None).missing == ("oil_per_l", "litres")


def test_a_later_version_stands_and_the_earlier_one_stays(db, place):
    put(db, place, "fleet", "", oil_per_l=4.0)
    put(db, place, "fleet", "", oil_per_l=4.4)
    with db.fleet(place[0]) as c:
        assert prices.in_force(c, TODAY).rows[("fleet", "")] == {"oil_per_l": 4.4}
        assert [v["prices"]["oil_per_l"] for v in prices.versions(c)] == [4.4, 4.0]
    with pytest.raises(InputError, match="as they were"):
        put(db, place, "fleet", "", oil_per_l=4.4)


@pytest.mark.parametrize(
    ("scope", "where", "given", "field"),
    [("fleet", "", {"oil_per_l": -1.0}, "oil_per_l"), ("fleet", "", {"oil_per_l": float("inf")}, "oil_per_l"),
     ("unit", "No such", {"oil_per_l": 1.0}, "place"), ("planet", "", {"oil_per_l": 1.0}, "scope"), ("fleet", "", {"beer": 1.0}, "beer")],
)  # fmt: skip
def test_a_price_that_cannot_be_is_said_by_its_field(db, place, scope, where, given, field):
    with pytest.raises(FormErrors) as refused:
        put(db, place, scope, where, **given)
    assert field in refused.value.errors


def test_one_currency_a_fleet_as_banks_write_it(db, place):
    with db.fleet(place[0]) as c:
        for wrong in ("", "kr", "12 crowns", "EURO", "€€€"):
            with pytest.raises(InputError, match="three letters"):
                prices.set_currency(c, place[0], "A", wrong)
        prices.set_currency(c, place[0], "A", " nok ")
        assert prices.in_force(c, TODAY).currency == "NOK"


def test_without_prices_or_charges_the_picture_says_what_is_lacking(db, place):
    with db.fleet(place[0]) as c:
        found = interval.load(c, place[1], TODAY)
        assert found.costs is None and found.lacking == ("oil_per_l", "currency") and found.table is not None
        assert interval.load(c, 10**9, TODAY) is None


def test_the_oil_in_use_has_a_cap_of_its_own(db, fleet, place):
    document = small_register(fleet)
    document["oils"] = [{**document["oils"][0], "cap_h": 560}]
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    with pytest.raises(InputError, match="that the oil in use may run"):
        approve(db, place, 600, "the maker allows a thousand")
    approve(db, place, 550, "within it")
    assert standing(db, place)["interval_meter"] == 550


def approved_before(db, place, on, meter):
    day = date.fromisoformat(on)
    with db.fleet(place[0]) as c:
        said = in_force.Statement(compartment_id=place[1], on=day, origin="approved", by="A Planner", length=meter)
        in_force.say(c, place[0], [said], day)
    name = next(n for n in fleets.names(db) if fleets.find(db, n) == place[0])
    evaluate.evaluate(db, name, TODAY, afresh=True)


def held(db, place):
    with db.fleet(place[0]) as c:
        return interval.load(c, place[1], TODAY).held


def test_whether_it_held_is_told_by_the_charges_since(db, fleet, place):
    assert held(db, place) is None  # nobody approved anything yet
    approved_before(db, place, "2025-12-10", 500)
    assert held(db, place).found.word == "early"
    approved_before(db, place, "2025-04-01", 480)
    approved_before(db, place, "2025-12-11", 450)
    found = held(db, place)
    assert (found.version["meter"], found.before, found.found.word) == (450, 500, "early")


def test_held_after_two_and_back_when_the_last_was_past(db, fleet, place):
    approved_before(db, place, "2025-03-15", 500)
    found = held(db, place).found
    assert (found.word, found.past) == ("held", 0) and found.full >= 2
    thick = row("S004", "2025-11-01", 3500, 500, True, v100=19.5, oxidation=60)
    again = thick.replace("Lab A,2025-11-01,2025-11-01", "Lab A,2025-11-01,2025-11-20")  # the lab issues it anew
    results.load(db, f"{HEADER}\n{again}\n".encode(), fleet=fleet, name="late.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    with db.fleet(place[0]) as c:
        c.execute("UPDATE hold SET settled_at = now(), settlement = 'released', settled_by = 't', why = 'x'")
    evaluate.evaluate(db, fleet, TODAY, afresh=True)
    found = held(db, place).found
    assert (found.word, found.past) == ("back", 1)
    assert found.back_to is None or found.back_to < 500


def many(db, place, shown):
    with settling(db, place[0], TODAY) as c:
        return approval.approve_many(c, place[0], shown, "A Planner", TODAY)


def test_many_are_approved_as_they_were_shown_and_each_stands_alone(db, fleet, place):
    proposed = standing(db, place)["proposed_meter"]
    assert standing(db, place)["outcome"] == "lengthen"
    done, refused = many(db, place, {place[1]: proposed + 25, 10**9: 500.0})
    assert done == [] and [r.why for r in refused][1] == "is not in this fleet" and "has changed" in refused[0].why
    assert standing(db, place)["interval_meter"] == 500
    done, refused = many(db, place, {10**9: 500.0, place[1]: proposed})
    assert done == [place[1]] and len(refused) == 1
    assert standing(db, place)["interval_meter"] == proposed
    again, refused = many(db, place, {place[1]: proposed})  # nothing is proposed any more, or something else
    assert again == [] and "has changed" in refused[0].why


def test_the_desk_approves_what_is_ticked_and_names_what_it_refuses(db, fleet, place):
    login = "many-" + re.sub(r"\W", "", fleet.lower())
    people.add(db, fleet, login, "A Planner", "right-and-long", "planner")
    client = TestClient(create_app(db, today=TODAY), follow_redirects=False)
    client.post("/sign-in", data={"login": login, "password": "right-and-long"})
    page = client.get("/decide").text
    csrf = re.search(r'name="csrf" value="([^"]+)"', page)[1]
    shown = re.search(rf'name="p{place[1]}" value="([^"]+)"', page)[1]
    stale = client.post("/decide/approve", data={"csrf": csrf, "id": place[1], f"p{place[1]}": "575"})
    assert stale.status_code == 422 and "has changed since" in stale.text
    odd = client.post("/decide/approve", data={"csrf": csrf, "id": [place[1], "x", 5], f"p{place[1]}": "nan", "p5": "1e99"})
    assert odd.status_code == 200 and standing(db, place)["interval_meter"] == 500
    done = client.post("/decide/approve", data={"csrf": csrf, "id": place[1], f"p{place[1]}": shown})
    assert "<b>1</b> approved by A Planner" in done.text
    assert standing(db, place)["interval_meter"] == float(shown)


def test_the_api_tells_what_the_page_shows(db, fleet, place):
    put(db, place, "fleet", "", oil_per_l=4.0, consequence=5000.0)
    with db.fleet(place[0]) as c:
        prices.set_currency(c, place[0], "A", "EUR")
    login = "api-" + re.sub(r"\W", "", fleet.lower())
    people.add(db, fleet, login, "M", "right-and-long", "manager")
    client = TestClient(create_app(db, today=TODAY))
    client.post("/sign-in", data={"login": login, "password": "right-and-long"})
    told = client.get(f"/api/v1/compartments/{place[1]}/interval").json()
    with db.fleet(place[0]) as c:
        found = interval.load(c, place[1], TODAY)
    assert told["chance_past"] == found.table.any_past.tolist() and told["hours"][-1] == found.to_h
    assert (told["drain_cost"], told["currency"], told["held"]) == (found.costs.drain.total, "EUR", None)
    assert client.get("/api/v1/prices").json() == {
        "currency": "EUR", "in_force": [{"scope": "fleet", "place": "", "prices": {"oil_per_l": 4.0, "consequence": 5000.0}}],
    }  # fmt: skip
    assert client.get("/api/v1/policies").json() == []
    assert client.get("/api/v1/compartments/999999999/interval").status_code == 404
