"""The audit trail's chain: whoever holds the whole database may alter it, and cannot without its showing."""

import hashlib
import json
from concurrent.futures import ThreadPoolExecutor

import psycopg
import pytest
from typer.testing import CliRunner

from vornet.cli import app
from vornet.flows.house import fleets, health, trail


@pytest.fixture
def told(db, fleet_name):
    """A fleet with five lines in its trail; its number."""
    fleet_id = fleets.find_or_make(db, fleet_name)
    for i in range(5):
        with db.fleet(fleet_id) as c:
            fleets.audit(c, fleet_id, "somebody", "did", f"thing {i}", n=i, words='"quoted", ünïcode')
    return fleet_id


def chain(db, fleet_id, seen=""):
    with db.fleet(fleet_id) as c:
        return trail.verify(c, seen)


def as_owner(db, sql, *values):
    with psycopg.connect(db.location.owner_url) as c:
        c.execute(sql, values)


def test_the_chain_is_whole_and_each_hash_is_over_the_line_and_the_one_before(db, told):
    found = chain(db, told)
    assert (found.lines, found.seq, found.wrong) == (5, 5, ())
    with db.fleet(told) as c:
        links = c.execute("SELECT l.hash, a.* FROM audit_link l JOIN audit a USING (fleet_id, audit_id) ORDER BY seq").fetchall()
    before = b""
    for row in links:  # by hand, from what the columns say
        micros = round(row["at"].timestamp() * 1_000_000)
        line = [told, row["audit_id"], micros, row["who"], row["what"], row["about"], row["detail"], row["account_id"]]
        # jsonb's own text: keys by length and then by letter, a space after each comma and colon
        detail = {k: row["detail"][k] for k in sorted(row["detail"], key=lambda k: (len(k), k))}
        line[6] = detail
        assert hashlib.sha256(before + json.dumps(line, ensure_ascii=False).encode()).digest() == bytes(row["hash"])
        before = bytes(row["hash"])
    assert found.head == before.hex()


ALTERED = [
    ("UPDATE audit SET who = 'Another' WHERE fleet_id = %s AND about = 'thing 2'", "was altered"),
    ("UPDATE audit SET at = at + interval '1 microsecond' WHERE fleet_id = %s AND about = 'thing 0'", "was altered"),
    ("UPDATE audit SET detail = '{}' WHERE fleet_id = %s AND about = 'thing 4'", "was altered"),
    ("UPDATE audit SET account_id = 1 WHERE fleet_id = %s AND about = 'thing 3'", "was altered"),
    ("DELETE FROM audit WHERE fleet_id = %s AND about = 'thing 1'", "is missing"),
    ("DELETE FROM audit_link WHERE fleet_id = %s AND seq = 3", "links 3 to 3 are missing"),
    ("DELETE FROM audit_link WHERE fleet_id = %s AND seq = 5", "stands outside the chain"),
    ("UPDATE audit_link SET hash = sha256('x') WHERE fleet_id = %s AND seq = 5", "was altered"),
    ("UPDATE audit_link SET audit_id = -audit_id WHERE fleet_id = %s AND seq = 2", "is missing"),
]


@pytest.mark.parametrize(("statement", "says"), ALTERED)
def test_what_was_done_to_the_trail_shows(db, told, statement, says):
    as_owner(db, statement, told)
    assert any(says in wrong for wrong in chain(db, told).wrong)


def test_a_trail_that_was_cut_and_grew_again_lacks_the_link_that_was_seen(db, told):
    noted = chain(db, told)
    seen = f"{noted.seq}:{noted.head}"
    for table in ("audit", "audit_link"):
        where = "about IN ('thing 3', 'thing 4')" if table == "audit" else "seq > 3"
        as_owner(db, f"DELETE FROM {table} WHERE fleet_id = %s AND {where}", told)
    with db.fleet(told) as c:
        fleets.audit(c, told, "somebody", "did", "something nicer")
        fleets.audit(c, told, "somebody", "did", "something nicer still")
    assert chain(db, told).wrong == ()  # whole in itself
    assert "made anew" in chain(db, told, seen).wrong[0]
    assert "made anew" in chain(db, told, "what?").wrong[0]


def test_two_who_write_at_one_time_make_one_chain_and_do_not_wait_while_they_work(db, told):
    with db.fleet(told) as first, db.fleet(told) as second:
        first.execute("SET LOCAL lock_timeout = '2s'")
        second.execute("SET LOCAL lock_timeout = '2s'")
        fleets.audit(first, told, "a", "did", "x")
        fleets.audit(second, told, "b", "did", "y")

    def write(i):
        with db.fleet(told) as c:
            fleets.audit(c, told, "many", "did", str(i))

    with ThreadPoolExecutor(4) as many:
        list(many.map(write, range(24)))
    found = chain(db, told)
    assert (found.lines, found.seq, found.wrong) == (31, 31, ())


def test_what_is_undone_leaves_no_link(db, told):
    with db.fleet(told) as c:
        fleets.audit(c, told, "a", "did", "x")
        c.execute("SAVEPOINT before")
        fleets.audit(c, told, "a", "did", "y")
        c.execute("ROLLBACK TO before")
    assert chain(db, told).seq == 6
    with db.pool.connection() as c:
        c.execute("SELECT set_config('vornet.fleet_id', %s, true)", [str(told)])
        fleets.audit(c, told, "a", "did", "x")
        c.rollback()
    assert (chain(db, told).seq, chain(db, told).wrong) == (6, ())


def test_the_command_says_so_and_ends_with_one(db, told, fleet_name, monkeypatch):
    monkeypatch.setenv("DATABASE_URL", db.location.owner_url)
    monkeypatch.setenv("DATABASE_APP_URL", db.location.app_url)
    run = CliRunner()
    good = run.invoke(app, ["check", "--fleet", fleet_name])
    assert good.exit_code == 0 and "good  audit trail of" in good.stdout and "5 lines, whole; last link 5:" in good.stdout
    as_owner(db, "DELETE FROM audit WHERE fleet_id = %s AND about = 'thing 0'", told)
    bad = run.invoke(app, ["check", "--fleet", fleet_name, "--json"])
    assert bad.exit_code == 1
    assert [f["good"] for f in json.loads(bad.stdout)] == [True, False]


def test_a_table_without_a_policy_is_found(db, told):
    as_owner(db, "CREATE TABLE forgotten (n integer); GRANT SELECT ON forgotten TO vornet_app")
    try:
        assert [f.said for f in health.look(db) if f.about == "tables"] == ["without a policy: forgotten"]
    finally:
        as_owner(db, "DROP TABLE forgotten")
