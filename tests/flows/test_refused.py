"""Bad input to what people do: a clear word by field, and nothing changed, wherever it is refused."""

import uuid
from dataclasses import dataclass
from datetime import timedelta

import pytest

from conftest import TODAY, small_register
from vornet.core.errors import FormErrors, InputError
from vornet.flows.house import fleets, links, people, sessions, tokens
from vornet.flows.house.people import Visitor
from vornet.flows.judge import learning, limits, verdicts
from vornet.flows.lab import held_rows, held_samples, labs, parcels
from vornet.flows.plan import service
from vornet.flows.register import attachments, doubts, many, oils, templates, units
from vornet.flows.work import cards, notes, put_off
from vornet.flows.work.drain import Drained
from vornet.flows.work.drain import log as log_drain
from vornet.flows.work.notes import ReadingIn
from vornet.io.equipment import ServiceItem

TOMORROW = TODAY + timedelta(days=1)
NOWHERE = 999_999_999


@dataclass(frozen=True)
class Place:
    fleet_id: int
    unit: int
    engine: int
    oil: int
    who: Visitor


@pytest.fixture(scope="module")
def place(db):
    """A fleet of one ferry that nothing below may change."""
    import json

    from vornet.flows.register import register

    name = f"Refusing {uuid.uuid4().hex[:8]}"
    register.load(db, json.dumps(small_register(name)).encode(), by="t", today=TODAY)
    people.add(db, name, f"head-{uuid.uuid4().hex[:8]}", "A Head", "right-and-long", "admin")
    fleet_id = fleets.find(db, name)
    with db.fleet(fleet_id) as c:
        row = c.execute("SELECT unit_id, compartment_id, (SELECT oil_id FROM oil) AS oil FROM compartment").fetchone()
        account = c.execute("SELECT account_id, login FROM membership JOIN account USING (account_id)").fetchone()
    who = Visitor(account["account_id"], account["login"], "A Head", fleet_id, name, ("admin",), "")
    return Place(fleet_id, row["unit_id"], row["compartment_id"], row["oil"], who)


def kept(connection):
    """How much the fleet holds, table by table."""
    tables = connection.execute(
        "SELECT table_name AS name FROM information_schema.columns WHERE table_schema = 'public' AND column_name = 'fleet_id'"
    ).fetchall()
    out = {}
    for t in tables:
        try:
            with connection.transaction():
                whole = f"SELECT count(*) AS n, md5(string_agg(x::text, '|' ORDER BY x::text)) AS rows FROM {t['name']} x"
                out[t["name"]] = connection.execute(whole).fetchone()
        except Exception as error:  # not for the application's role to read
            out[t["name"]] = type(error).__name__
    return out


UNIT, ENGINE = "MV Test", "engine"
#: (what, the call on (connection, place), the field that is named, what is said)
CASES = [
    ("a unit of another fleet", lambda c, p: units.save_unit(c, p.fleet_id, NOWHERE, {}, "t", TODAY), "unit", "not in this fleet"),
    ("a unit without a name", lambda c, p: units.save_unit(c, p.fleet_id, p.unit, {"unit": ""}, "t", TODAY), "unit", ""),
    ("no such state", lambda c, p: units.set_state(c, p.fleet_id, p.unit, "lost", TODAY, "", "t", TODAY), "state", "one of"),
    ("a state of no unit", lambda c, p: units.set_state(c, p.fleet_id, NOWHERE, "retired", TODAY, "", "t", TODAY), "unit", "not in this"),
    ("a compartment of another fleet",
     lambda c, p: units.save_compartment(c, p.fleet_id, NOWHERE, {}, "t", TODAY), "compartment", "not in"),
    ("its register file", lambda c, p: units.compartment_document(c, NOWHERE, TODAY), "compartment", "not in this fleet"),
    ("an oil nobody knows",
     lambda c, p: units.save_compartment(c, p.fleet_id, p.engine, {"oil": "Unheard-of"}, "t", TODAY), "oil", "no oil"),
    ("an oil for the cold nobody knows",
     lambda c, p: units.save_compartment(c, p.fleet_id, p.engine, {"oils": [{"oil": "Unheard-of", "max_c": 0}]}, "t", TODAY),
     "oils.0.oil", "no oil"),
    ("a second meter that is not there",
     lambda c, p: units.save_compartment(c, p.fleet_id, p.engine, {"meter_no": 2}, "t", TODAY), "meter_no",
     "one meter"),
    ("shared with nobody",
     lambda c, p: units.save_compartment(c, p.fleet_id, p.engine, {"shared_with": {"unit": "No ship", "compartment": ENGINE}}, "t", TODAY),
     "shared_with", "no unit"),
    ("shared with itself",
     lambda c, p: units.save_compartment(c, p.fleet_id, p.engine, {"shared_with": {"unit": UNIT, "compartment": ENGINE}}, "t", TODAY),
     "shared_with", "itself"),
    ("the engine twice", lambda c, p: units.add_compartment(c, p.fleet_id, p.unit, {"compartment": ENGINE, "kind": "engine"}, "t", TODAY),
     "compartment", "already"),
    ("taking out what has a history",
     lambda c, p: units.remove_compartment(c, p.fleet_id, p.engine, "t"), "compartment", "so that its history does"),
    ("an oil of another fleet", lambda c, p: oils.save_oil(c, p.fleet_id, NOWHERE, {"name": "Other"}, "t"), "oil", ""),
    ("an oil without a name", lambda c, p: oils.save_oil(c, p.fleet_id, None, {"name": ""}, "t"), "name", ""),
    ("a delivery of no oil", lambda c, p: oils.save_batch(c, p.fleet_id, NOWHERE, {"batch": "B1"}, "t"), "oil", "not in this fleet"),
    ("a doubt about nothing", lambda c, p: doubts.settle(c, p.fleet_id, p.engine, "colour", True, "", "t", TODAY), "field", "one of"),
    ("keeping a figure without a word",
     lambda c, p: doubts.settle(c, p.fleet_id, p.engine, "capacity_l", False, " ", "t", TODAY), "why", "say"),
    ("a figure that is not in doubt", lambda c, p: doubts.settle(c, p.fleet_id, p.engine, "capacity_l", True, "", "t", TODAY), "field",
     "not in doubt"),
    ("a manual too large", lambda c, p: attachments.attachable(b"%PDF-" + bytes(attachments.LARGEST_ATTACHMENT)), "file", "larger"),
    ("a manual that is a program", lambda c, p: attachments.attachable(b"MZ\x90\x00"), "file", ""),
    ("a manual of no unit",
     lambda c, p: attachments.attach(c, p.fleet_id, NOWHERE, None, "manual", "m.pdf", (b"%PDF-1.4", "application/pdf"), "t"),
     "unit", "not in"),
    ("a pattern of no unit", lambda c, p: templates.pattern_of(c, NOWHERE, TODAY), "unit", "not in this fleet"),
    ("a pattern that is gone", lambda c, p: templates.remove_template(c, p.fleet_id, NOWHERE, "t"), "template", "not in this fleet"),
    ("a unit of that name again",
     lambda c, p: templates.make_unit(c, p.fleet_id, templates.NewUnit({"unit": UNIT}, {}, None, TODAY), "t", TODAY),
     "unit", "already"),
    ("a unit from tomorrow",
     lambda c, p: templates.make_unit(c, p.fleet_id, templates.NewUnit({"unit": "MV New", "meter_unit": "h"}, {}, 5, TOMORROW), "t", TODAY),
     "on", "still to come"),
    ("a change of nothing",
     lambda c, p: many.change_many(c, p.fleet_id, [p.engine], "colour", "red", "t", TODAY, True), "what", "one of"),
    ("nothing selected", lambda c, p: many.change_many(c, p.fleet_id, [], "oil", "x", "t", TODAY, True), "ids", "nothing"),
    ("too many selected",
     lambda c, p: many.change_many(c, p.fleet_id, list(range(many.MOST_AT_ONCE + 1)), "oil", "x", "t", TODAY, True), "ids",
     "at most"),
    ("an invitation for nobody", lambda c, p: links.invite(c, p.who, "  ", ["viewer"]), "name", "who is invited"),
    ("an invitation to do nothing", lambda c, p: links.invite(c, p.who, "N", []), "roles", "one or more"),
    ("an invitation as captain", lambda c, p: links.invite(c, p.who, "N", ["viewer", "captain"]), "roles", "'captain' is not one of"),
    ("an invitation that is gone", lambda c, p: links.take_back(c, p.who, NOWHERE), "invitation", "already"),
    ("a role for a stranger", lambda c, p: people.set_roles(c, p.who, NOWHERE, ["viewer"]), "person", "not in this fleet"),
    ("a role there is not", lambda c, p: people.set_roles(c, p.who, p.who.account_id, ["captain"]), "roles", "not one of"),
    ("the only admin demoted", lambda c, p: people.set_roles(c, p.who, p.who.account_id, ["viewer"]), "roles", "only admin"),
    ("the only admin taken out", lambda c, p: people.remove(c, p.who, p.who.account_id), "roles", "only admin"),
    ("nothing ticked", lambda c, p: people.set_roles(c, p.who, p.who.account_id, []), "roles", "tick what"),
    ("a password link for a stranger", lambda c, p: links.password_link(c, p.who, NOWHERE), "person", "not in this fleet"),
    ("signing a stranger out", lambda c, p: sessions.end_sessions(c, p.who, NOWHERE), "person", "not in this fleet"),
    ("a token for nothing", lambda c, p: tokens.make(c, p.fleet_id, p.who.account_id, "t", " ", ["import"], 30), "name", "what"),
    ("a token with no right", lambda c, p: tokens.make(c, p.fleet_id, p.who.account_id, "t", "lab", [], 30), "scopes", "choose"),
    ("a token for everything",
     lambda c, p: tokens.make(c, p.fleet_id, p.who.account_id, "t", "lab", ["all"], 30), "scopes", "choose"),
    ("a token for ever", lambda c, p: tokens.make(c, p.fleet_id, p.who.account_id, "t", "lab", ["import"], 100_000), "days", ""),
    ("a token that is gone", lambda c, p: tokens.end(c, p.who, NOWHERE, True), "token", "not there"),
    ("units of measure of nowhere", lambda c, p: fleets.set_settings(c, p.fleet_id, "t", "UTC", "imperial", {}), "measures", "si or us"),
    ("a time of nowhere", lambda c, p: fleets.set_settings(c, p.fleet_id, "t", "Moon/Base", "si", {}), "zone", ""),
    ("a school nobody follows",
     lambda c, p: fleets.set_settings(c, p.fleet_id, "t", "UTC", "si", {"pour": "overboard"}), "schools.pour", "not one of"),
    ("nothing found", lambda c, p: put_off.close_deferred(c, p.fleet_id, NOWHERE, " ", None, "t"), "finding", "say"),
    ("what is not put off", lambda c, p: put_off.close_deferred(c, p.fleet_id, NOWHERE, "mended", None, "t"), "", ""),
    ("a symptom of nothing",
     lambda c, p: put_off.observe(c, p.fleet_id, p.unit, None, "mood", "x", None, None, TODAY, "", "", "t"), "kind", "or"),
    ("a symptom not said",
     lambda c, p: put_off.observe(c, p.fleet_id, p.unit, None, "symptom", " ", None, None, TODAY, "", "", "t"), "what", "say"),
    ("a meter of no unit",
     lambda c, p: notes.read_meter(c, p.fleet_id, NOWHERE, 1, 5000, TODAY, "t", TODAY), "unit", "not in this fleet"),
    ("a meter that goes back", lambda c, p: notes.read_meter(c, p.fleet_id, p.unit, 1, 5, TODAY, "t", TODAY), "meter", "goes back"),
    ("tomorrow's level", lambda c, p: notes.level_check(c, p.fleet_id, p.engine, TOMORROW, 3900, 0.5, "t", TODAY), "on", "still to come"),
    ("a level of nothing", lambda c, p: notes.level_check(c, p.fleet_id, NOWHERE, TODAY, 3900, 0.5, "t", TODAY), "compartment", "not in"),
    ("a top-up of nothing",
     lambda c, p: notes.top_up(c, p.fleet_id, p.engine, TODAY, 3900, 0, None, None, "t", TODAY), "litres", "gone in"),
    ("a top-up of more than it holds",
     lambda c, p: notes.top_up(c, p.fleet_id, p.engine, TODAY, 3900, 60, None, None, "t", TODAY), "litres",
     "does not fit"),
    ("more out than there is",
     lambda c, p: notes.event(c, p.fleet_id, p.engine, "repair", TODAY, 3900, 62, None, "", "", "t", TODAY), "litres_out", "more than"),
    ("a drain tomorrow", lambda c, p: log_drain(c, p.fleet_id, p.engine, Drained(on=TOMORROW, meter=3900), "t", TODAY), "on", ""),
    ("a drain before the last reading", lambda c, p: log_drain(c, p.fleet_id, p.engine, Drained(on=TODAY, meter=10), "t", TODAY), "meter",
     "goes back"),
    ("a grade there is not", lambda c, p: log_drain(c, p.fleet_id, p.engine, Drained(on=TODAY, meter=3900, magnet_grade=7), "t", TODAY),
     "magnet_grade", "0 to 4"),
    ("an air filter that sings",
     lambda c, p: log_drain(c, p.fleet_id, p.engine, Drained(on=TODAY, meter=3900, air_filter="sings"), "t", TODAY),
     "air_filter", "one of"),
    ("an oil that was never bought",
     lambda c, p: log_drain(c, p.fleet_id, p.engine, Drained(on=TODAY, meter=3900, oil="Unheard-of"), "t", TODAY),
     "oil", "no oil"),
    ("a second drain of the day",
     lambda c, p: log_drain(c, p.fleet_id, p.engine, Drained(on=TODAY.replace(year=2025, month=11, day=1), meter=3500), "t", TODAY),
     "on", "on record already"),
    ("an item of no unit", lambda c, p: service.put(c, p.fleet_id, ServiceItem(unit="No ship", item="Belt", every_days=90), "t"),
     "unit", "not in this fleet"),
    ("an item that is gone", lambda c, p: service.remove(c, p.fleet_id, NOWHERE, "t"), "item", "not in this fleet"),
    ("work on an item that is gone",
     lambda c, p: service.record(c, p.fleet_id, NOWHERE, TODAY, None, "done", {}, "", "t", TODAY), "item", "not in"),
    ("a card without work", lambda c, p: cards.make(c, p.fleet_id, p.unit, [], [], TODAY, True, "", "t"), "", ""),
    ("a card of no unit", lambda c, p: cards.make(c, p.fleet_id, NOWHERE, [p.engine], [], TODAY, True, "", "t"), "", ""),
    ("a bottle from nowhere",
     lambda c, p: parcels.draw(c, p.fleet_id, sample_no="B1", compartment_id=NOWHERE, oil_id=None, batch="", on=TODAY, meter=None,
                               conditions={}, by="t", today=TODAY), "", ""),
    ("a bottle without a number",
     lambda c, p: parcels.draw(c, p.fleet_id, sample_no=" ", compartment_id=p.engine, oil_id=None, batch="", on=TODAY, meter=None,
                               conditions={}, by="t", today=TODAY), "sample_no", ""),
    ("a bottle of tomorrow",
     lambda c, p: parcels.draw(c, p.fleet_id, sample_no="B1", compartment_id=p.engine, oil_id=None, batch="", on=TOMORROW, meter=None,
                               conditions={}, by="t", today=TODAY), "on", ""),
    ("a parcel of nothing", lambda c, p: parcels.pack(c, p.fleet_id, [], NOWHERE, "", "t", TODAY), "", ""),
    ("a bottle lost without a word", lambda c, p: parcels.lose(c, p.fleet_id, NOWHERE, " ", "t", TODAY), "", ""),
    ("a lab without a name",
     lambda c, p: labs.put(c, p.fleet_id, name=" ", way="hand", address="", key="", usual_days=5, depots=[], by="t"), "name", ""),
    ("a lab reached by pigeon",
     lambda c, p: labs.put(c, p.fleet_id, name="Lab P", way="pigeon", address="", key="", usual_days=5, depots=[], by="t"), "way", ""),
    ("a row put away without a word", lambda c, p: held_rows.dismiss(c, p.fleet_id, NOWHERE, "", "t"), "why", ""),
    ("a hold that is gone", lambda c, p: held_samples.hold(c, NOWHERE), "", ""),
    ("a verdict on no sample", lambda c, p: verdicts.sign(c, p.fleet_id, NOWHERE, "act", by="t", today=TODAY), "", ""),
    ("a finding of nothing known",
     lambda c, p: verdicts.record_finding(c, p.fleet_id, p.engine, TODAY, "ghosts", "", by="t", today=TODAY), "cause", ""),
    ("a finding of tomorrow",
     lambda c, p: verdicts.record_finding(c, p.fleet_id, p.engine, TOMORROW, "bearing", "", by="t", today=TODAY), "on", ""),
    ("limits without a word", lambda c, p: limits.save(c, p.fleet_id, [], "diesel_engine", by="t", why="", today=TODAY), "why", ""),
    ("weights of no family",
     lambda c, p: learning.sign(c, p.fleet_id, "No family", {"bearing|main": 1.1}, by="t", why="so", today=TODAY), "", ""),
    ("weights without a word",
     lambda c, p: learning.sign(c, p.fleet_id, "T1 engine", {"bearing|main": 1.1}, by="t", why="", today=TODAY), "why", ""),
]  # fmt: skip


@pytest.mark.parametrize(("call", "field", "said"), [c[1:] for c in CASES], ids=[c[0] for c in CASES])
def test_it_is_refused_by_field_and_nothing_is_changed(db, place, call, field, said):
    with db.fleet(place.fleet_id) as c:
        before = kept(c)
        with pytest.raises(InputError) as refused, c.transaction():
            call(c, place)
        after = kept(c)
    errors = refused.value.errors if isinstance(refused.value, FormErrors) else {refused.value.field: refused.value.why}
    assert field in errors or not field, errors
    assert said in errors.get(field, " ".join(errors.values()))
    assert all(len(why) > 5 and "Traceback" not in why for why in errors.values())
    assert after == before


def test_readings_from_a_program_are_taken_one_by_one(db, place):
    """What is right goes in, what is not is said; here nothing is right."""
    rows = [
        ReadingIn(unit="No ship", on=TODAY, meter=4000), ReadingIn(unit=UNIT, on=TODAY, meter=4000, meter_no=2),
        ReadingIn(unit=UNIT, on=TOMORROW, meter=4000), ReadingIn(unit=UNIT, on=TODAY, meter=1),
    ]  # fmt: skip
    with db.fleet(place.fleet_id) as c:
        got = notes.take(c, place.fleet_id, rows, "t", TODAY)
    assert got["taken"] == 0
    assert [p["field"] for p in got["problems"]] == ["unit", "meter_no", "on", "meter"]


def test_who_runs_the_command_line_is_asked_which_fleet(db, place):
    fleets.find_or_make(db, f"{place.who.fleet} too")
    with pytest.raises(InputError, match=f"say which with --fleet NAME: .*{place.who.fleet}"):
        fleets.only(db)
    with pytest.raises(InputError, match="No such fleet"):
        fleets.find(db, "No such fleet")
