"""Row-level security, sessions, and the private server."""

import psycopg
import pytest
from psycopg.rows import dict_row

from conftest import TODAY
from vornet.core.errors import InputError
from vornet.core.measurands import COUNT
from vornet.flows.house import fleets, people, sessions
from vornet.store import bulk, cluster
from vornet.store.database import Database, StoreError, clone_dir

TABLES = ("unit", "compartment", "oil", "drain", "sample", "evaluation", "standing", "import_file", "audit", "limit_set")


@pytest.mark.parametrize("table", TABLES)
def test_a_query_that_forgets_its_filter_sees_one_fleet_only(db, fleet, fleet_name, table):
    other = fleets.find_or_make(db, fleet_name)
    with db.fleet(fleets.find(db, fleet)) as connection:
        mine = connection.execute(f"SELECT DISTINCT fleet_id FROM {table}").fetchall()
    assert [r["fleet_id"] for r in mine] == [fleets.find(db, fleet)]
    with db.fleet(other) as connection:
        rows = connection.execute(f"SELECT fleet_id FROM {table}").fetchall()
    assert all(r["fleet_id"] == other for r in rows)
    with db.anyone() as connection:
        assert connection.execute(f"SELECT 1 FROM {table}").fetchall() == []


def test_a_row_cannot_be_written_into_another_fleet(db, fleet, fleet_name):
    other = fleets.find_or_make(db, fleet_name)
    with pytest.raises(Exception, match="row-level security"), db.fleet(fleets.find(db, fleet)) as connection:
        connection.execute("INSERT INTO depot (fleet_id, name) VALUES (%s, 'x')", [other])


def test_the_audit_trail_can_only_be_added_to(db, fleet):
    with pytest.raises(Exception, match="permission denied"), db.fleet(fleets.find(db, fleet)) as connection:
        connection.execute("DELETE FROM audit")


def test_a_role_that_owns_the_tables_is_refused(location):
    owner = Database(location.__class__(location.owner_url, location.owner_url))
    with pytest.raises(StoreError):
        owner.check_role()
    owner.close()


def test_deleting_a_fleet_removes_it_whole(db, fleet):
    fleet_id = fleets.find(db, fleet)
    fleets.delete(db, fleet)
    with pytest.raises(InputError):
        fleets.find(db, fleet)
    with db.fleet(fleet_id) as connection:
        assert connection.execute("SELECT 1 FROM sample UNION ALL SELECT 1 FROM evaluation").fetchall() == []


def test_sign_in_sessions_and_the_limit_on_attempts(db, fleet):
    people.add(db, fleet, "Olga.Tester", "Olga", "a-long-one", "analyst")
    token = sessions.sign_in(db, "olga.tester", "a-long-one").token
    found = sessions.visitor(db, token)
    assert (found.name, found.role, found.fleet) == ("Olga", "analyst", fleet)
    sessions.sign_out(db, token)
    assert sessions.visitor(db, token) is None
    for _ in range(sessions.FREE):
        with pytest.raises(InputError, match="do not fit"):
            sessions.sign_in(db, "olga.tester", "wrong")
    with pytest.raises(InputError, match="too many"):
        sessions.sign_in(db, "olga.tester", "a-long-one")


def test_only_the_token_s_hash_is_stored(db, fleet):
    people.add(db, fleet, "hash.tester", "H", "a-long-one", "viewer")
    token = sessions.sign_in(db, "hash.tester", "a-long-one").token
    with psycopg.connect(db.location.owner_url, row_factory=dict_row) as connection:
        stored = [bytes(r["token_hash"]) for r in connection.execute("SELECT token_hash FROM session").fetchall()]
    assert token.encode() not in stored


def test_fixed_width_reads_give_numbers_days_and_arrays(db, fleet):
    with db.fleet(fleets.find(db, fleet)) as connection:
        got = bulk.read_columns(
            connection, "SELECT sampled_on, meter, values FROM sample ORDER BY sampled_on",
            [("day", "day"), ("meter", "f8"), ("values", "values")],
        )  # fmt: skip
    assert got["values"].shape == (5, COUNT)
    assert got["meter"].tolist() == [1500, 2000, 2500, 3000, 3500]
    assert got["day"][0] == TODAY.replace(year=2025, month=3, day=1).toordinal()


def test_the_private_server_survives_a_killed_start():
    name = "pg-kill-test"
    first = cluster.start(clone_dir(), name, 54790)
    cluster.stop(clone_dir(), name)
    (first.home / "data" / "postmaster.pid").write_text("999999\n" + str(first.home / "data") + "\n")
    again = cluster.start(clone_dir(), name, 54790)
    assert again.app_password == first.app_password
    cluster.stop(clone_dir(), name)
