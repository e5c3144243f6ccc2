"""Two people at one form: the second keeps what they changed, takes what they did not touch, and is shown both where both changed it."""

import html
import re

import pytest
from fastapi.testclient import TestClient
from starlette.datastructures import FormData

from conftest import TODAY
from vornet.flows.house import fleets, people
from vornet.flows.register import dump
from vornet.flows.work import notes
from vornet.web import again, both
from vornet.web.app import create_app
from vornet.web.pages import Posted


@pytest.fixture
def two(db, fleet, planner):
    """Two planners of one fleet, each with the csrf of their session; the ids of its unit and compartment."""
    people.add(db, fleet, planner[0] + "b", "Other", planner[1], "planner", "analyst", "manager", "admin")
    app = create_app(db, today=TODAY)
    out = []
    for login in (planner[0], planner[0] + "b"):
        client = TestClient(app, follow_redirects=False)
        client.post("/sign-in", data={"login": login, "password": planner[1]})
        out.append(client)
    with db.fleet(fleets.find(db, fleet)) as c:
        ids = c.execute("SELECT unit_id, compartment_id, oil_id FROM compartment").fetchone()
    return (*out, ids)


def opened(client, path):
    """What the page's form would send back untouched."""
    page = client.get(path).text
    csrf = re.search(r'name="csrf" value="([^"]+)"', page)[1]
    return {**both.fields(page), "csrf": csrf, "seen": html.unescape(re.search(r'name="seen" value="([^"]*)"', page)[1])}


def test_the_second_is_shown_both_and_saves_over_it_knowingly(db, fleet, two):
    first, second, ids = two
    path = f"/compartments/{ids['compartment_id']}/register"
    mine, theirs = opened(first, path), opened(second, path)
    assert first.post(path, data={**mine, "capacity_l": "54"}).status_code == 303
    answer = second.post(path, data={**theirs, "capacity_l": "53.5"})
    assert answer.status_code == 422
    assert "&#39;54&#39; here meanwhile" in answer.text and 'value="53.5"' in answer.text
    compartment = dump.dump(db, fleet, TODAY)["units"][0]["compartments"][0]
    assert compartment["capacity_l"] == 54, "nothing of the second is kept before they have seen it"
    again = {
        **both.fields(answer.text),
        "csrf": theirs["csrf"],
        "seen": html.unescape(re.search(r'name="seen" value="([^"]*)"', answer.text)[1]),
    }
    assert second.post(path, data=again).status_code == 303
    assert dump.dump(db, fleet, TODAY)["units"][0]["compartments"][0]["capacity_l"] == 53.5


def test_what_the_second_did_not_touch_stays_as_the_first_saved_it(db, fleet, two):
    first, second, ids = two
    path = f"/units/{ids['unit_id']}/edit"
    mine, theirs = opened(first, path), opened(second, path)
    assert first.post(path, data={**mine, "serial": "S-77"}).status_code == 303
    assert second.post(path, data={**theirs, "plate": "VN 12"}).status_code == 303
    unit = dump.dump(db, fleet, TODAY)["units"][0]
    assert (unit["serial"], unit["plate"]) == ("S-77", "VN 12")


def test_a_refused_form_keeps_what_was_typed_and_what_was_seen(db, fleet, two):
    first, second, ids = two
    path = f"/units/{ids['unit_id']}/edit"
    theirs = opened(second, path)
    refused = second.post(path, data={**theirs, "year": "soon", "plate": "VN 9"})
    assert refused.status_code == 422 and 'value="soon"' in refused.text and 'value="VN 9"' in refused.text
    assert first.post(path, data={**opened(first, path), "plate": "VN 8"}).status_code == 303
    kept = {**both.fields(refused.text), "csrf": theirs["csrf"], "year": "2011",
            "seen": html.unescape(re.search(r'name="seen" value="([^"]*)"', refused.text)[1])}  # fmt: skip
    assert "VN 8" in second.post(path, data=kept).text, "the first's plate is told although a refusal lay between"


@pytest.mark.parametrize("what", ["oil", "item", "settings"])
def test_other_forms_tell_too(db, fleet, two, what):
    first, second, ids = two
    if what == "item":
        form = {"csrf": opened(second, f"/units/{ids['unit_id']}/edit")["csrf"], "item": "Belts", "every_days": "100"}
        assert second.post(f"/units/{ids['unit_id']}/items", data=form).status_code == 303
        with db.fleet(fleets.find(db, fleet)) as c:
            item = c.execute("SELECT item_id FROM service_item").fetchone()["item_id"]
    show, post, field, one, other = {
        "oil": (f"/library/oils/{ids['oil_id']}", f"/library/oils/{ids['oil_id']}", "bn", "9.5", "9.25"),
        "item": (f"/items/{what == 'item' and item}/edit", f"/units/{ids['unit_id']}/items", "every_days", "200", "300"),
        "settings": ("/admin/settings", "/admin/settings", "zone", "Europe/Oslo", "Atlantic/Faroe"),
    }[what]
    with db.fleet(fleets.find(db, fleet)) as c:
        c.execute("UPDATE membership SET roles = '{planner,analyst,admin}'")
    mine, theirs = opened(first, show), opened(second, show)
    assert first.post(post, data={**mine, field: one}).status_code == 303
    answer = second.post(post, data={**theirs, field: other})
    assert answer.status_code == 422 and "meanwhile" in answer.text


def test_a_form_is_read_as_a_browser_would_send_it():
    page = """<form><input name="x" value="no"></form><form data-both><input type="hidden" name="csrf" value="c">
      <input name="a" value="1&amp;2">
      <select name="s"><option>one</option><option selected>two</option></select><select name="t"><option value="">none</option></select>
      <textarea name="w">lines</textarea><input type="checkbox" name="k" value="yes" checked><input type="checkbox" name="l"></form>"""
    assert both.fields(page) == {"a": "1&2", "s": "two", "t": "", "w": "lines", "k": "yes"}


def test_any_refused_form_comes_back_as_it_was_sent(db, fleet, two):
    first, _, ids = two
    unit = f"/units/{ids['unit_id']}"
    csrf = opened(first, unit + "/edit")["csrf"]
    refused = first.post(unit + "/meter", data={"csrf": csrf, "on": "12.01.2026", "meter": "3 9x0"})
    form = refused.text.split(f'action="{unit}/meter"')[1].split("</form>")[0]
    assert refused.status_code == 422
    assert 'value="3 9x0"' in form and 'value="12.01.2026"' in form and "is not a unit of hours" in form and 'aria-invalid="true"' in form
    # one that no handler shows again by itself: the page it was sent from does
    came = {"Referer": "http://testserver/library/templates"}
    answer = first.post("/library/templates/999999/remove", data={"csrf": csrf}, headers=came)
    assert answer.status_code == 422 and "What you typed is still there" in answer.text and "<h1>Library</h1>" in answer.text
    elsewhere = first.post("/library/templates/999999/remove", data={"csrf": csrf}, headers={"Referer": "http://elsewhere.example/"})
    assert elsewhere.status_code == 422 and "What you typed" not in elsewhere.text


def test_a_page_is_refilled_where_it_was_typed_and_nowhere_else():
    page = """<form action="/a"><label><span>Day</span><input name="on" value="x"></label></form>
<form action="/b"><input type="hidden" name="id" value="1"><input name="on" value="x"></form>
<form action="/b"><input type="hidden" name="id" value="2"><label><span>Day</span><input name="on" value="x"></label>
<select name="s"><option value="1" selected>one<option value="2">two</option></select><textarea name="t">old</textarea>
<input type="checkbox" name="k" checked><input type="password" name="p"></form>"""
    typed = Posted(FormData([("csrf", "c"), ("id", "2"), ("on", '"><b>'), ("s", "2"), ("t", "new <i>"), ("p", "secret")]))
    got = again.refilled(page, "/b", typed, {"on": "is no day"})
    before, _, mine = got.partition('name="id" value="2"')
    assert before.count('value="x"') == 2
    assert 'value="&quot;&gt;&lt;b&gt;"' in mine and '<small class="error">is no day</small>' in mine
    assert '<option value="2" selected>' in mine and 'value="1">' in mine
    assert '<textarea name="t">new &lt;i&gt;</textarea>' in mine
    assert "checked" not in mine and "secret" not in mine


def test_a_unit_made_by_mistake_is_deleted_and_one_with_history_explains(db, fleet, two):
    first, _, ids = two
    csrf = opened(first, f"/units/{ids['unit_id']}/edit")["csrf"]
    made = first.post("/units/new", data={"csrf": csrf, "unit": "Oops", "meter_unit": "h", "meter": "10"}).headers["location"]
    assert first.post(f"{made}/remove", data={"csrf": csrf, "why": ""}).status_code == 422
    assert first.post(f"{made}/remove", data={"csrf": csrf, "why": "typed twice"}).headers["location"] == "/library"
    assert first.get(made).status_code == 404
    kept = first.post(f"/units/{ids['unit_id']}/remove", data={"csrf": csrf, "why": "gone"})
    assert kept.status_code == 422 and "6 drains, 5 samples" in kept.text and "Retire it instead" in kept.text
    part = first.post(f"/compartments/{ids['compartment_id']}/remove", data={"csrf": csrf})
    assert part.status_code == 422 and "6 drains, 5 samples" in part.text
    assert len(dump.dump(db, fleet, TODAY)["units"]) == 1
    with db.fleet(fleets.find(db, fleet)) as c:
        assert c.execute("SELECT detail FROM audit WHERE what = 'unit deleted'").fetchone()["detail"]["why"] == "typed twice"


def test_a_compartment_with_a_top_up_alone_stays(db, fleet, two):
    first, _, ids = two
    csrf = opened(first, f"/units/{ids['unit_id']}/edit")["csrf"]
    first.post(f"/units/{ids['unit_id']}/compartments/new", data={"csrf": csrf, "compartment": "gearbox", "kind": "gearbox"})
    with db.fleet(fleets.find(db, fleet)) as c:
        gearbox = c.execute("SELECT compartment_id FROM compartment WHERE name = 'gearbox'").fetchone()["compartment_id"]
        notes.top_up(c, fleets.find(db, fleet), gearbox, TODAY, 3860.0, 2.0, None, None, "t", TODAY)
    assert "1 top-up" in first.post(f"/compartments/{gearbox}/remove", data={"csrf": csrf}).text


def said_of(client, path, name):
    return both.fields(client.get(path).text)[name]


@pytest.mark.parametrize(("path", "mine", "theirs", "more", "given"), [
    ("/limits?duty=diesel_engine", "act.fe.high", "act.cu.high", {"why": "x"}, {}),
    ("/limits/precision", "scale.fe", "scale.cu", {"why": "x"}, {}),
    ("/decide/policy", "confidence", "charges_needed", {"why": "x"}, {"confidence": "90", "charges_needed": "5"}),
    ("/decide/prices", "oil_per_l", "labour_per_h", {}, {}),
])  # fmt: skip
def test_versions_are_not_written_over_either(db, fleet, two, path, mine, theirs, more, given):
    """Limits, precision, rules and prices make versions: one that was made meanwhile is not undone by whoever had the page open."""
    _, client, _ = two
    to = path.partition("?")[0]
    one, other = opened(client, path), opened(client, path)
    fresh = {name: "1.5" if one[name] == "" else f"{float(one[name]) * 1.25:g}" for name in (mine, theirs)} | given
    assert client.post(to, data={**one, mine: fresh[mine], **more}).status_code == 303
    kept = said_of(client, path, mine)
    assert kept != one[mine]
    assert client.post(to, data={**other, theirs: fresh[theirs], **more}).status_code == 303
    assert (said_of(client, path, mine), said_of(client, path, theirs) != one[theirs]) == (kept, True)
    clash = client.post(to, data={**other, mine: "85", **more})
    assert clash.status_code == 422 and "here meanwhile" in clash.text
    if path.startswith("/limits?"):
        assert "Iron high, act: somebody saved" in clash.text
    assert said_of(client, path, mine) == kept
