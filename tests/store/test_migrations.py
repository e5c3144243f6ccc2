"""A database of before is opened: what was kept as English stays readable, and is judged once more."""

import json
from datetime import date

import psycopg
import pytest
import yoyo
from psycopg.rows import dict_row

from conftest import bare_database
from vornet.flows.house import people, sessions, trail
from vornet.flows.judge import decision_record, policies
from vornet.store.database import Database, clone_dir, migrate
from vornet.words.say import each, say

PLAIN = {"int": 1, "float": 1.0, "double": 1.0, "text": "x", "date": "2026-01-01", "bool": False, "time": "2026-01-01", "json": "{}",
         "ARRAY": "{}", "smallint": 0, "bigint": 1, "byte": b"", "char": "x"}  # fmt: skip


def as_of(name: str, last: str):
    """A database with the migrations up to ``last``, its rows free of what they hang on; its location."""
    location = bare_database(name)
    backend = yoyo.get_backend(location.owner_url.replace("postgresql://", "postgresql+psycopg://"))
    found = yoyo.read_migrations(str(clone_dir() / "src/vornet/store/migrations"))
    backend.apply_migrations(backend.to_apply(found.filter(lambda m: m.id <= last)))
    backend.connection.close()
    with psycopg.connect(location.owner_url) as c:
        for table, name in c.execute("SELECT conrelid::regclass::text, conname FROM pg_constraint WHERE contype = 'f'").fetchall():
            c.execute(f"ALTER TABLE {table} DROP CONSTRAINT {name}")
    return location


def put(connection, table, **known):
    """A row with something plain in every column that must not be empty."""
    sql = """SELECT column_name, data_type FROM information_schema.columns WHERE table_name = %s AND is_nullable = 'NO'
             AND column_default IS NULL AND is_identity = 'NO'"""
    row = {c: next(v for t, v in PLAIN.items() if kind.startswith(t)) for c, kind in connection.execute(sql, (table,)).fetchall()} | known
    names = ", ".join(row)
    connection.execute(f"INSERT INTO {table} ({names}) OVERRIDING SYSTEM VALUE VALUES ({', '.join(['%s'] * len(row))})", list(row.values()))


@pytest.fixture(scope="module")
def opened(worker_id):
    location = as_of(f"before_{worker_id}", "0015_touched")
    hypotheses = [{"key": "coolant", "strength": "probable", "score": 1.0,
                   "evidence": ["Sodium gains 30 mg/kg per 500 h", "Against: Boron as usual"]}]  # fmt: skip
    decision = {
        "reason": "Run on: 2 more samples to go", "open_faults": ["Sodium 40 past watch 25 mg/kg"], "properties": [], "outcome": "hold",
        "guards": [{"key": "verdicts", "bites": True, "text": "Run on: 2 more samples to go", "lifts": "2 more in a row", "worth": 50.0},
                   {"key": "cap", "bites": False, "text": "Cap 500 h", "lifts": ""}],
        "next_sample": {"kind": "used", "text": "A bottle late in this charge", "at": [400, 500], "chance": None},
    }  # fmt: skip
    with psycopg.connect(location.owner_url) as c:
        put(c, "fleet", fleet_id=1, name="Before")
        put(c, "evaluation", sample_id=1, proposed=2, evidence=["Sodium 40 mg/kg is above watch 25 mg/kg", 'said "so"'],
            hypotheses=json.dumps(hypotheses))  # fmt: skip
        put(c, "evaluation", sample_id=2, proposed=0)
        put(c, "verdict", sample_id=1, verdict=2, proposed=2, evidence=["Sodium 40 mg/kg is above watch 25 mg/kg"],
            hypotheses=json.dumps(hypotheses))  # fmt: skip
        put(c, "hold", sample_id=2, reason="meter_back", detail="the meter goes back: 20 h after a reading of 30 h")
        put(c, "standing", compartment_id=7, reason=decision["reason"], open_faults=decision["open_faults"], decision=json.dumps(decision),
            outcome="hold", headroom=90, headroom_as_is=40)  # fmt: skip
        put(c, "drain_interval", compartment_id=7, effective_from="2026-01-01", meter=500.0, origin="approved",
            evidence=json.dumps(decision | {"chance_at_approved": 0.04}))  # fmt: skip
        put(c, "evaluated", part="x", digest=b"1")
    assert migrate(location) >= 1
    with psycopg.connect(location.owner_url, row_factory=dict_row) as c:
        yield c


def one(connection, sql):
    return connection.execute(sql).fetchone()


def test_evidence_of_before_is_read_as_it_was_written(opened):
    kept = one(opened, "SELECT * FROM evaluation WHERE sample_id = 1")
    assert each(kept["evidence"]) == ["Sodium 40 mg/kg is above watch 25 mg/kg", 'said "so"']
    [cause] = kept["hypotheses"]
    assert (cause["key"], each(cause["evidence"])) == ("coolant", ["Sodium gains 30 mg/kg per 500 h", "Against: Boron as usual"])
    assert [f["kind"] for f in cause["evidence"]] == ["written", "against"]
    assert one(opened, "SELECT * FROM evaluation WHERE sample_id = 2")["evidence"] == []
    signed = one(opened, "SELECT * FROM verdict")
    assert each(signed["evidence"]) == ["Sodium 40 mg/kg is above watch 25 mg/kg"]
    assert say(one(opened, "SELECT detail FROM hold")["detail"]) == "the meter goes back: 20 h after a reading of 30 h"


def test_decisions_of_before_open(opened):
    row = one(opened, "SELECT *, headroom_now(5::smallint, open_faults, headroom, headroom_as_is) AS now_left FROM standing")
    assert (say(row["reason"]), each(row["open_faults"]), row["now_left"]) == (
        "Run on: 2 more samples to go", ["Sodium 40 past watch 25 mg/kg"], 40,
    )  # fmt: skip
    for kept in (row["decision"], one(opened, "SELECT evidence FROM drain_interval")["evidence"]):
        decision = decision_record.opened(kept, None)
        assert [say(g["fact"]) for g in decision["guards"]] == ["Run on: 2 more samples to go", "Cap 500 h"]
        assert (say(decision["guards"][0]["lifts"]), decision["guards"][1]["lifts"]) == ("2 more in a row", None)
        assert (say(decision["next_sample"]["fact"]), decision["next_sample"]["at"]) == ("A bottle late in this charge", [400, 500])
        assert say(decision["reason"]) == "Run on: 2 more samples to go"
    assert one(opened, "SELECT evidence FROM drain_interval")["evidence"]["chance_at_approved"] == 0.04


def test_whatever_was_judged_is_judged_once_more(opened):
    assert opened.execute("SELECT DISTINCT fleet_id, what, id FROM touched").fetchall() == [{"fleet_id": 1, "what": "compartment", "id": 7}]
    assert one(opened, "SELECT count(*) AS n FROM evaluated")["n"] == 0


@pytest.fixture(scope="module")
def signed_in_before(worker_id):
    """People, sessions, a policy and an audit trail as the version before kept them."""
    location = as_of(f"people_{worker_id}", "0018_defended")
    with psycopg.connect(location.owner_url) as c:
        put(c, "fleet", fleet_id=1, name="Before")
        put(c, "account", account_id=5, login="olga", display_name="Olga", password_hash="kept")
        put(c, "membership", fleet_id=1, account_id=5, roles=["planner"])
        put(c, "session", token_hash=b"t", account_id=5, fleet_id=1, expires_at="2999-01-01")
        put(c, "policy", fleet_id=1, policy_id=1, version=1, effective_from="2026-01-01", rules=json.dumps({"confidence": 0.9}))
        for n in range(3):
            put(c, "audit", fleet_id=1, audit_id=n + 1, who="somebody", what="did", about=str(n))
    migrate(location)
    database = Database(location)
    yield database
    database.close()


def test_who_was_signed_in_stays_so_and_the_trail_of_before_is_chained(signed_in_before):
    db = signed_in_before
    with db.fleet(1) as c:
        assert trail.verify(c) == trail.Chain(3, 3, trail.verify(c).head, ())
        assert [m["login"] for m in people.members(c)] == ["olga"]
        assert policies.in_force(c, date(2026, 2, 1)).rows == {("fleet", ""): {"confidence": 0.9}}
    with db.person(5) as c:
        assert c.execute("SELECT stage, second FROM session").fetchone() == {"stage": "in", "second": False}
    assert sessions.secrets_of(db, 5)["password_hash"] == "kept"
