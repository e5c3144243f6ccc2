"""Mail through a real SMTP server: the week with its paper, a stop until it is heard, and a server that does not answer."""

import json
import socket
from datetime import UTC, datetime, timedelta

import pytest

from conftest import HEADER, TODAY, approve_seen, row, small_register
from vornet.core.errors import InputError
from vornet.flows.house import fleets, people, sessions
from vornet.flows.judge import evaluate, verdicts
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.register import register
from vornet.flows.weeks import depots, levelling, mail
from vornet.sim import post
from vornet.store.database import query

MORNING = datetime(2026, 1, 15, 7, tzinfo=UTC)  # a Thursday


def free_port():
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return s.getsockname()[1]


@pytest.fixture
def office():
    """A mail server of this machine: (what it received, how to reach it)."""
    taken, port = post.Post(), free_port()
    controller = post.started(taken, port)
    yield taken, mail.Server("127.0.0.1", port, "vornet@fleet.example")
    controller.stop()


@pytest.fixture
def people_of(db, fleet):
    """(fleet's id, account of whoever is written to)."""
    login = f"mail-{abs(hash(fleet))}"
    people.add(db, fleet, login, "Ingrid Test", "right-and-long", "planner")
    return fleets.find(db, fleet), sessions.account_named(db, login)


def no_paper(connection, first, depots):
    return b"%PDF-1.7 a page"


def write(db, fleet_id, now=MORNING, today=TODAY):
    with settling(db, fleet_id, today) as c:
        return mail.write_due(c, fleet_id, now, today, no_paper)


def contact(db, fleet_id, account_id, **changed):
    given = {"address": "ingrid@fleet.example", "depots": None, "week_day": 3, "week_hour": 6, "stops": True} | changed
    with settling(db, fleet_id, TODAY) as c:
        mail.set_contact(c, fleet_id, account_id, by="t", **given)


def with_visits(db, fleet, fleet_id):
    with settling(db, fleet_id, TODAY) as c:
        for d in depots.all_of(c, TODAY, 1):
            depots.set_week(c, fleet_id, d, [8] * 7, None, "t")
        number = levelling.ask(c, fleet_id, TODAY, 28, "t")
    levelling.work_out(db, fleet_id, number)
    with settling(db, fleet_id, TODAY) as c:
        levelling.accept(c, fleet_id, number, "t", TODAY)
        v = c.execute(query("weeks.planned")).fetchone()
        levelling.move(c, fleet_id, v["visit_id"], TODAY + timedelta(days=1), "t", TODAY)


def test_the_week_is_mailed_on_its_day_and_hour_once_with_its_paper(db, fleet, people_of, office):
    fleet_id, account_id = people_of
    taken, server = office
    with_visits(db, fleet, fleet_id)
    contact(db, fleet_id, account_id)
    assert write(db, fleet_id, MORNING - timedelta(hours=2)) == 0  # too early in the day
    assert write(db, fleet_id, MORNING, TODAY - timedelta(days=1)) == 0  # not the day
    assert (write(db, fleet_id), write(db, fleet_id)) == (1, 0)
    assert mail.send_waiting(db, fleet_id, server) == (1, 0) and mail.send_waiting(db, fleet_id, server) == (0, 0)
    [got] = taken.received
    assert got.to == ("ingrid@fleet.example",) and got.mail["Subject"] == "Week 3: 1 visits"
    assert "MV Test" in got.body("plain") and "Drain engine" in got.body("plain") and "<table" in got.body("html")
    assert got.files() == [("week-2026-01-12.pdf", b"%PDF-1.7 a page")]
    assert "Week 3: 1 visits" in post.page(taken) and "<script" not in post.page(taken)


def test_only_the_depots_that_one_answers_for_are_mailed(db, fleet, people_of, office):
    fleet_id, account_id = people_of
    taken, server = office
    with_visits(db, fleet, fleet_id)
    with db.fleet(fleet_id) as c:
        c.execute("INSERT INTO depot (fleet_id, name) VALUES (%s, 'Elsewhere')", (fleet_id,))
        other = [d.depot_id for d in depots.all_of(c, TODAY, 1).values() if d.name == "Elsewhere"]
    contact(db, fleet_id, account_id, depots=other)
    assert write(db, fleet_id) == 1 and mail.send_waiting(db, fleet_id, server) == (1, 0)
    assert "No visit is planned" in taken.received[0].body("plain")


def test_a_mail_server_that_is_down_loses_nothing_and_is_tried_again(db, fleet, people_of, office):
    fleet_id, account_id = people_of
    taken, server = office
    contact(db, fleet_id, account_id)
    assert write(db, fleet_id) == 1
    down = mail.Server("127.0.0.1", free_port(), "vornet@fleet.example")
    assert mail.send_waiting(db, fleet_id, down) == (0, 1)
    with db.fleet(fleet_id) as c:
        [row_] = mail.written(c)
        assert (row_["sent_at"], row_["tries"], row_["trouble"]) == (None, 1, "the mail server does not answer")
    assert mail.send_waiting(db, fleet_id, server) == (0, 0)  # not before its time
    with db.fleet(fleet_id) as c:
        c.execute("UPDATE mail SET next_try_at = now() - interval '1 second'")
    assert mail.send_waiting(db, fleet_id, server) == (1, 0) and len(taken.received) == 1


@pytest.fixture
def stopped(db, people_of, fleet):
    """The fleet's engine under a Stop that nobody has heard."""
    line = row("STOP1", "2026-01-08", 3840, 340, False, na=260, k=120, fe=160, pb=90, cu=140, sn=40, water_ppm=4000)
    results.load(db, f"{HEADER}\n{line}\n".encode(), fleet=fleet, name="stop.csv", by="t")
    document = small_register(fleet)
    document["drains"].append(
        {"unit": "MV Test", "compartment": "engine", "on": "2026-01-08", "meter": 3840, "volume_in_l": 54, "magnet_grade": 4}
    )
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    evaluate.evaluate(db, fleet, TODAY)
    with db.fleet(people_of[0]) as c:
        [stop] = verdicts.unheard_stops(c)
    return stop


def test_a_stop_is_mailed_at_once_and_again_until_somebody_has_heard(db, people_of, stopped, office):
    fleet_id, account_id = people_of
    taken, server = office
    contact(db, fleet_id, account_id, week_day=None)
    now = datetime.now(UTC)  # mails are counted by the database's clock
    assert (write(db, fleet_id, now), write(db, fleet_id, now + timedelta(hours=3))) == (1, 0)
    assert write(db, fleet_id, now + timedelta(hours=4, minutes=1)) == 1
    mail.send_waiting(db, fleet_id, server)
    assert [r.mail["Subject"] for r in taken.received] == ["STOP: MV Test, engine"] * 2
    assert "Do not run MV Test, engine" in taken.received[0].body("plain")
    with settling(db, fleet_id, TODAY) as c:
        verdicts.hear_stop(c, fleet_id, stopped["sample_id"], "Ingrid Test")
    assert write(db, fleet_id, now + timedelta(hours=9)) == 0


def test_whoever_wants_no_stops_gets_none(db, people_of, stopped):
    fleet_id, account_id = people_of
    contact(db, fleet_id, account_id, week_day=None, stops=False)
    assert write(db, fleet_id, datetime.now(UTC)) == 0


def test_a_stopped_trial_is_mailed_until_a_planner_has_taken_note(db, people_of):
    fleet_id, account_id = people_of
    contact(db, fleet_id, account_id, week_day=None)
    with db.fleet(fleet_id) as c:
        compartment = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        c.execute(
            """INSERT INTO trial (fleet_id, compartment_id, length, before, steps, started_on, started_by, state, ended_on, ending)
                     VALUES (%s, %s, 600, 500, '{300}', %s, 't', 'stopped', %s, 'soot past watch')""",
            (fleet_id, compartment, TODAY, TODAY),
        )
    now = datetime.now(UTC)
    assert write(db, fleet_id, now) == 1
    with db.fleet(fleet_id) as c:
        assert mail.written(c)[0]["subject"] == "Trial stopped: MV Test, engine"
        c.execute("UPDATE trial SET seen_by = 't'")
    assert write(db, fleet_id, now + timedelta(hours=9)) == 0


@pytest.mark.parametrize(
    ("changed", "field"),
    [({"address": "nobody"}, "address"), ({"address": "a@b.example\r\nBcc: c@d.example"}, "address"), ({"week_day": 7}, "week_day"),
     ({"week_hour": 24}, "week_hour"), ({"depots": [10**9]}, "depots")],
)  # fmt: skip
def test_what_cannot_be_written_to_is_refused_by_field(db, people_of, changed, field):
    with pytest.raises(InputError) as wrong:
        contact(db, *people_of, **changed)
    assert wrong.value.field == field


@pytest.mark.parametrize("said", ["mail.example", "mail.example:0", ":25", "mail.example:25x"])
def test_a_mail_server_said_wrongly_is_named(monkeypatch, said):
    monkeypatch.setenv("VORNET_SMTP", said)
    with pytest.raises(InputError, match="host:port"):
        mail.server()


def test_mail_to_another_machine_is_encrypted_unless_somebody_says_otherwise(monkeypatch):
    monkeypatch.delenv("VORNET_SMTP", raising=False)
    assert mail.server() is None
    monkeypatch.setenv("VORNET_SMTP", "mail.example:587")
    assert mail.server().tls == "starttls"
    monkeypatch.setenv("VORNET_SMTP", "127.0.0.1:25")
    assert mail.server().tls == "none"


def test_an_approval_that_waits_on_its_day_is_told_once(db, fleet, people_of):
    """Approved for a day to come, and a fault is open on it: what ran before stays, and whoever wants to know of stops is told."""
    fleet_id, account_id = people_of
    contact(db, fleet_id, account_id, week_day=None)
    with settling(db, fleet_id, TODAY) as c:
        place = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        approve_seen(c, fleet_id, place, 625, "", "P", TODAY, effective_from=TODAY + timedelta(days=10))
    day = TODAY + timedelta(days=11)
    sick = row("SICK", (TODAY + timedelta(days=5)).isoformat(), 3900, 400, False, na=70, k=40, water_ppm=1500)
    results.load(db, f"{HEADER}\n{sick}\n".encode(), fleet=fleet, name="sick.csv", by="t")
    evaluate.evaluate(db, fleet, day)
    write(db, fleet_id, MORNING + timedelta(days=11), day)
    write(db, fleet_id, MORNING + timedelta(days=11, hours=9), day)
    with db.fleet(fleet_id) as c:
        told = [m for m in c.execute("SELECT subject, plain FROM mail").fetchall() if m["subject"].startswith("Approved, and waits")]
        assert c.execute("SELECT interval_meter FROM standing").fetchone()["interval_meter"] == 500
    assert len(told) == 1
    assert "625 h on MV Test, engine, approved by P from" in told[0]["plain"] and "Open:" in told[0]["plain"]
