"""Figures as their writer writes them: a form that a comma's friend sends back as it came changes nothing, 12,345 is twelve and a bit, and
what may be two numbers is asked back. A limit or a meter that is a thousand times off is believed by everybody after."""

import re
from dataclasses import replace
from html.parser import HTMLParser

import pytest
from fastapi.testclient import TestClient

from conftest import HEADER, TODAY, row
from vornet.core.errors import InputError
from vornet.core.fact import told
from vornet.core.limits import FIXED_LIMITS
from vornet.core.measurands import INDEX
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate, limits
from vornet.flows.judge.settle import settling
from vornet.flows.lab import held_rows, results
from vornet.flows.plan import service
from vornet.io.equipment import ServiceItem
from vornet.web.app import create_app
from vornet.words.en import AS_READ
from vornet.words.say import say
from vornet.words.writing import Writes, writes


class Sent(HTMLParser):
    """What a browser would send of the form with an action: names and values as the page came."""

    def __init__(self, text, action):
        super().__init__()
        self.action, self.inside, self.ids, self.fields, self.select = action, False, set(), {}, None
        self.feed(text)
        self.feed(text)  # fields may stand before the form that they name

    def handle_starttag(self, tag, attributes):
        given = dict(attributes)
        if tag == "form":
            self.inside = given.get("action") == self.action
            self.ids |= {given["id"]} if self.inside and "id" in given else set()
        if not (given.get("form") in self.ids if "form" in given else self.inside):
            return
        if tag == "input" and given.get("type") not in ("checkbox", "radio", "file") and given.get("name"):
            self.fields.setdefault(given["name"], given.get("value") or "")
        elif tag == "select":
            self.select = given.get("name")
        elif tag == "option" and self.select and ("selected" in given or self.select not in self.fields):
            self.fields[self.select] = given.get("value", "")

    def handle_endtag(self, tag):
        self.inside = self.inside and tag != "form"


class Comma:
    """Somebody with every right who writes 1.234,5."""

    def __init__(self, db, fleet):
        login = "comma" + fleet.replace(" ", "").lower()
        people.add(db, fleet, login, "Comma", "right-and-long", "planner", "analyst", "admin", "manager")
        self.client = TestClient(create_app(db, today=TODAY), follow_redirects=True, headers={"Accept-Language": "de"})
        self.client.post("/sign-in", data={"login": login, "password": "right-and-long"})
        self.csrf = re.search(r'name="csrf" value="([^"]+)"', self.client.get("/me").text)[1]
        assert self.client.post("/me/writing", data={"csrf": self.csrf, "mark": ",", "date": "dots"}).status_code == 200

    def form(self, path, action=None):
        answer = self.client.get(path)
        assert answer.status_code == 200, path
        return Sent(answer.text, action or path).fields

    def send(self, path, fields):
        return self.client.post(path, data={**fields, "csrf": self.csrf})


@pytest.fixture
def comma(db, fleet):
    return Comma(db, fleet)


def test_an_oil_sent_back_as_it_came_stays_as_it_is(db, fleet, comma):
    with db.fleet(fleets.find(db, fleet)) as c:
        oil = c.execute("SELECT oil_id FROM oil").fetchone()["oil_id"]
        c.execute("UPDATE oil SET new_values[%s] = 14.125, density_kg_l = 0.875 WHERE oil_id = %s", [INDEX["v100"] + 1, oil])
    fields = comma.form(f"/library/oils/{oil}")
    assert fields["v100"] == "14,1250", "as its reader writes it, and never such that thousands are read in it"
    assert comma.send(f"/library/oils/{oil}", fields).status_code == 200
    with db.fleet(fleets.find(db, fleet)) as c:
        kept = c.execute("SELECT new_values, density_kg_l FROM oil").fetchone()
    assert (kept["new_values"][INDEX["v100"]], kept["density_kg_l"]) == (14.125, 0.875)


def test_limits_and_precision_are_read_as_their_writer_writes(db, fleet, comma):
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        rows = [replace(r, watch=75.125) if (r.duty, r.key, r.side) == ("diesel_engine", "fe", "high") else r
                for r in limits.in_force(c, TODAY)["rows"]]  # fmt: skip
        limits.save(c, fleet_id, rows, "", by="t", why="with decimals", today=TODAY)
    fields = comma.form("/limits?duty=diesel_engine", "/limits")
    assert fields["watch.fe.high"] == "75,1250"
    same = comma.send("/limits", {**fields, "why": "as it came"})
    assert same.status_code == 422 and "nothing" in same.text, "sent back as it came, nothing is changed"
    assert comma.send("/limits", {**fields, "act.fe.high": "1.500,5", "why": "higher"}).status_code == 200
    with db.fleet(fleet_id) as c:
        found = next(
            r for r in limits.in_force(c, TODAY)["rows"] if (r.duty, r.key, r.side, r.scope) == ("diesel_engine", "fe", "high", ("", ""))
        )
    assert (found.watch, found.act) == (75.125, 1500.5)
    fields = comma.form("/limits/precision")
    same = comma.send("/limits/precision", {**fields, "why": "as it came"})
    assert same.status_code == 422 and "nothing is changed" in same.text
    assert comma.send("/limits/precision", {**fields, "constant.fe": "1,125", "why": "finer"}).status_code == 200
    with db.fleet(fleet_id) as c:
        assert next(r for r in limits.precision_rows(c, TODAY) if r.key == "fe").constant == 1.125


def test_a_limit_that_may_be_two_numbers_is_asked_back_where_nobody_knows(db):
    rows = [r for r in FIXED_LIMITS if r.duty == "diesel_engine"]
    typed = {f"{w}.{r.key}.{r.side}": str(getattr(r, w)) for r in rows for w in ("watch", "act")} | {"act.fe.high": "1,500"}

    def act(mark):
        return next(r for r in limits.typed(rows, "diesel_engine", typed, mark=mark) if (r.key, r.side) == ("fe", "high")).act

    assert act(".") == 1500
    with pytest.raises(InputError, match="may mean 1500"):
        act("")


@pytest.fixture
def slipped(db, fleet):
    """A held sample: oxidation in another unit."""
    results.load(db, f"{HEADER}\n{row('V1', '2025-12-20', 3700, 200, False, oxidation=0.11, fe=12.345)}\n".encode(), fleet=fleet,
                 name="s.csv", by="t")  # fmt: skip
    evaluate.evaluate(db, fleet, TODAY)
    with db.fleet(fleets.find(db, fleet)) as c:
        return c.execute("SELECT hold_id FROM hold WHERE settled_at IS NULL").fetchone()["hold_id"]


def test_a_held_sample_is_corrected_with_figures_as_its_analyst_writes_them(db, fleet, comma, slipped):
    fields = comma.form("/lab?show=holds", f"/lab/holds/{slipped}")
    assert (fields["value.fe"], fields["value.meter"]) == ("12,3450", "3700")
    sent = {**fields, "do": "correct", "why": "unit", "value.oxidation": "11,25", "value.meter": "3.700,5"}
    answer = comma.send(f"/lab/holds/{slipped}", sent)
    assert answer.status_code == 200, answer.text[-500:]
    with db.fleet(fleets.find(db, fleet)) as c:
        now = c.execute("SELECT values, meter FROM sample WHERE sample_no = 'V1' AND superseded_by IS NULL").fetchone()
        what = c.execute("SELECT what FROM correction ORDER BY correction_id DESC LIMIT 1").fetchone()["what"]
    assert (now["values"][INDEX["oxidation"]], now["meter"]) == (11.25, 3700.5)
    assert now["values"][INDEX["fe"]] == pytest.approx(12.345)
    assert "iron" not in what.lower(), "what was sent back as it came was not corrected"


def test_a_corrected_figure_that_may_be_two_is_never_a_thousand_times_off(db, fleet, comma, slipped):
    fields = comma.form("/lab?show=holds", f"/lab/holds/{slipped}")
    sent = {**fields, "do": "correct", "why": "unit", "value.oxidation": "11,125"}
    assert comma.send(f"/lab/holds/{slipped}", sent).status_code == 200
    with db.fleet(fleets.find(db, fleet)) as c:
        now = c.execute("SELECT values FROM sample WHERE sample_no = 'V1' AND superseded_by IS NULL").fetchone()
    assert now["values"][INDEX["oxidation"]] == 11.125


STRANGE = """sample_no;unit;compartment;sampled_on;meter;oil_hours;fe;water;v100
;;;;h;h;mg/kg;%;mm²/s
G1;MV Test;engine;13/12/2025;3.700;200,5;12,5;0,02;14,1
G2;M/V Test;engine;05/12/2025;3.650;150,5;11;0,02;14,1
G3;MV Test;engine;06/12/2025;3.655;155,5;11;0,02;14,1;7
"""


def test_a_waiting_row_is_read_as_the_file_it_came_in(db, fleet):
    """Units in a row of their own, decimal commas, grouped thousands: one row alone tells none of it (water in % would be ppm)."""
    fleet_id = fleets.find(db, fleet)
    results.load(db, STRANGE.encode(), fleet=fleet, name="g.csv", by="t")
    with db.fleet(fleet_id) as c:
        held = c.execute("SELECT held_row_id FROM held_row WHERE sample_no = 'G2'").fetchone()["held_row_id"]
    with settling(db, fleet_id, TODAY) as c:
        with pytest.raises(InputError, match="may mean 3650"):
            held_rows.correct_row(c, fleet_id, held, {"unit": "MV Test", "meter": "3,650"}, "typo", "A", mark=".")
        held_rows.correct_row(c, fleet_id, held, {"unit": "MV Test"}, "typo", "A", mark=".")
        long = c.execute("SELECT held_row_id FROM held_row WHERE reason = 'too_many_cells'").fetchone()["held_row_id"]
        held_rows.correct_row(c, fleet_id, long, {"sample_no": "123.456"}, "a cell too many", "A", mark=".")
    with db.fleet(fleet_id) as c:
        whole = {r["sample_no"]: r for r in c.execute("SELECT * FROM sample WHERE sample_no IN ('G1', 'G2', '123.456')")}
    for number, on, meter in (("G1", "2025-12-13", 3700), ("G2", "2025-12-05", 3650), ("123.456", "2025-12-06", 3655)):
        one = whole[number]
        assert (str(one["sampled_on"]), one["meter"], one["values"][INDEX["water_ppm"]]) == (on, meter, pytest.approx(200)), number
    assert whole["G2"]["oil_hours"] == 150.5


def test_a_waiting_row_of_a_file_that_writes_the_month_first(db, fleet):
    text = "sample_no,unit,compartment,sampled_on,meter,fe\nM1,MV Test,engine,12/20/2025,3700,12\nM2,M/V Test,engine,12/05/2025,3650,11\n"
    fleet_id = fleets.find(db, fleet)
    results.load(db, text.encode(), fleet=fleet, name="m.csv", by="t")
    with settling(db, fleet_id, TODAY) as c:
        held = c.execute("SELECT held_row_id FROM held_row WHERE sample_no = 'M2'").fetchone()["held_row_id"]
        held_rows.correct_row(c, fleet_id, held, {"unit": "MV Test"}, "typo", "A")
        assert str(c.execute("SELECT sampled_on FROM sample WHERE sample_no = 'M2'").fetchone()["sampled_on"]) == "2025-12-05"


def test_hours_and_prices_sent_back_as_they_came_stay(db, fleet, comma):
    fleet_id = fleets.find(db, fleet)
    fields = comma.form("/weeks/depots")
    depot = fields["depot"]
    week = {"what": "week", "depot": depot, **{f"hours_{i}": "7,125" for i in range(7)}}
    assert comma.send("/weeks/depots", week).status_code == 200
    page = comma.client.get("/weeks/depots").text
    assert page.count('value="7,1250"') == 7
    again = {"what": "week", "depot": depot, **{f"hours_{i}": "7,1250" for i in range(7)}}
    assert comma.send("/weeks/depots", again).status_code == 200
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT hours FROM depot").fetchone()["hours"] == [7.125] * 7


def test_sentences_are_shown_with_their_reader_s_mark_and_kept_without():
    fact = told("wears", of="fe", rate=0.0152, since=12000, usual=0.0101, spread=0.001, meter="km")
    held = writes.set(Writes(mark=","))
    try:
        assert say(fact, language=AS_READ) == "Iron wears at 0,0152 mg/km since 12.000 km, usual 0,0101 ± 0,0010"
        assert say(fact) == "Iron wears at 0.0152 mg/km since 12,000 km, usual 0.0101 ± 0.0010"
    finally:
        writes.reset(held)


def test_a_plan_and_an_error_are_not_read_a_thousand_times_off(db, fleet, comma):
    """'every 1,000 h' is one hour to whoever writes commas for points; a figure in a refusal is not grouped at all."""
    fleet_id = fleets.find(db, fleet)
    with settling(db, fleet_id, TODAY) as c:
        service.put(c, fleet_id, ServiceItem(unit="MV Test", item="Belt", every_h=1000, first_h=12_500), "t")
        unit = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
    page = comma.client.get(f"/units/{unit}").text
    assert "every 1.000 h, first at 12.500 h" in page and "1,000 h" not in page
    refused = comma.send(f"/units/{unit}/meter", {"on": "14.01.2026", "meter": "10", "meter_no": "1"})
    assert refused.status_code == 422 and re.search(r"it read 3\d{3} h", refused.text), refused.text[:2000]
