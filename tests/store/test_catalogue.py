"""The database's own catalogue: every table has its fleet and its policy, every function its path and its grants; the next one too."""

import psycopg
import pytest

from conftest import TODAY
from vornet.flows.house import fleets, people, sessions
from vornet.flows.judge import verdicts

#: tables that belong to a person, who signs in once for several fleets: a policy asks for the person
OF_A_PERSON = {"account", "session", "recovery_code", "identity", "known_address"}
#: tables that belong to nobody yet, and why: the application may not touch them but through functions that do one thing each
OF_NOBODY = {"sign_in_failure": "counted before anybody is known", "first_run": "there is no fleet yet"}
NO_FLEET = OF_A_PERSON | set(OF_NOBODY)
#: other people's tables: migrations, the queue (its jobs name fleets and hold nothing of theirs)
FOREIGN = ("yoyo", "_yoyo", "procrastinate")
#: what is signed: added to, never rewritten; columns that say what stands in its place
SIGNED = {"verdict": {"superseded_by"}, "drain_interval": set(), "limit_set": set(), "policy": set(), "audit": set()}
#: columns that nobody reads but through the function that signs in
SECRET = {("account", "password_hash"), ("account", "totp")}


@pytest.fixture(scope="module")
def catalogue(location):
    with psycopg.connect(location.owner_url) as c:
        yield c


def columns_of(c, table):
    return [r[0] for r in c.execute("SELECT column_name FROM information_schema.columns WHERE table_name = %s", (table,)).fetchall()]


def may_write(c, table, column):
    return c.execute("SELECT has_column_privilege('vornet_app', %s, %s, 'UPDATE')", (table, column)).fetchone()[0]


def tables(c):
    sql = """SELECT relname, relrowsecurity FROM pg_class WHERE relnamespace = 'public'::regnamespace AND relkind IN ('r', 'p')
             AND NOT relispartition"""
    return {name: secured for name, secured in c.execute(sql).fetchall() if not name.startswith(FOREIGN)}


def test_every_table_has_its_fleet_and_a_policy_that_asks_for_it(catalogue):
    wrong = []
    for name, secured in tables(catalogue).items():
        if name in NO_FLEET:
            continue
        columns = {
            r[0] for r in catalogue.execute("SELECT column_name FROM information_schema.columns WHERE table_name = %s", (name,)).fetchall()
        }
        policies = catalogue.execute("SELECT qual, with_check, cmd FROM pg_policies WHERE tablename = %s", (name,)).fetchall()
        asks = policies and all("vornet.fleet_id" in (qual or check) for qual, check, _ in policies)
        if not (secured and "fleet_id" in columns and asks):
            wrong.append(name)
    assert wrong == []
    assert set(tables(catalogue)) >= NO_FLEET


def test_what_belongs_to_a_person_is_seen_by_that_person(catalogue):
    for name in OF_A_PERSON:
        assert tables(catalogue)[name], name
        policies = catalogue.execute("SELECT qual, with_check FROM pg_policies WHERE tablename = %s", (name,)).fetchall()
        assert policies and all("vornet.account_id" in qual and "vornet.fleet_id" not in (check or "") for qual, check in policies), name


def test_what_belongs_to_nobody_is_touched_by_functions_alone(catalogue):
    for name in OF_NOBODY:
        for privilege in ("SELECT", "INSERT", "UPDATE", "DELETE"):
            assert catalogue.execute("SELECT has_table_privilege('vornet_app', %s, %s)", (name, privilege)).fetchone() == (False,), name
    for table, column in SECRET:
        assert catalogue.execute("SELECT has_column_privilege('vornet_app', %s, %s, 'SELECT')", (table, column)).fetchone() == (False,)


def test_who_asks_without_saying_who_they_are_sees_no_account_and_no_session(db, fleet):
    people.add(db, fleet, f"unseen-{abs(hash(fleet))}", "Unseen", "right-and-long", "viewer")
    sessions.sign_in(db, f"unseen-{abs(hash(fleet))}", "right-and-long")
    with db.anyone() as c:
        for name in OF_A_PERSON:
            assert c.execute(f"SELECT count(*) AS n FROM (SELECT account_id FROM {name}) AS seen").fetchone()["n"] == 0
    with db.fleet(fleets.find(db, fleet)) as c:  # in a fleet: who is in it
        assert c.execute("SELECT count(*) AS n FROM (SELECT account_id FROM account) AS seen").fetchone()["n"] == 1
        assert c.execute("SELECT count(*) AS n FROM recovery_code").fetchone()["n"] == 0
        assert c.execute("UPDATE account SET display_name = 'Another' WHERE false").rowcount == 0
        with pytest.raises(psycopg.errors.InsufficientPrivilege), c.transaction():
            c.execute("UPDATE account SET display_name = 'Another'")  # somebody else's


def test_what_belongs_to_a_fleet_goes_with_it(catalogue):
    """Every table with a fleet hangs on it, by itself or by what it hangs on."""
    sql = """SELECT conrelid::regclass::text, confrelid::regclass::text FROM pg_constraint
             WHERE contype = 'f' AND confdeltype = 'c' AND connamespace = 'public'::regnamespace"""
    hangs: dict[str, set[str]] = {}
    for child, parent in catalogue.execute(sql).fetchall():
        hangs.setdefault(child, set()).add(parent)
    reached = {"fleet"}
    while more := {c for c, parents in hangs.items() if c not in reached and parents & reached}:
        reached |= more
    left = {name for name in tables(catalogue) if name not in NO_FLEET} - reached
    dropped = catalogue.execute("SELECT prosrc FROM pg_proc WHERE proname = 'fleet_drop'").fetchone()[0]
    assert {name for name in left if f"DELETE FROM {name} " not in dropped} == set()


def test_every_function_that_acts_as_its_owner_finds_only_our_tables_and_is_nobody_else_s(catalogue):
    sql = """SELECT p.oid::regprocedure::text, p.proconfig, has_function_privilege('public', p.oid, 'execute') FROM pg_proc p
             WHERE pronamespace = 'public'::regnamespace AND prosecdef"""
    found = catalogue.execute(sql).fetchall()
    assert len(found) > 8
    assert [(name, path, public) for name, path, public in found if path != ["search_path=public, pg_temp"] or public] == []


def test_the_application_owns_nothing_and_is_bound_by_every_policy(catalogue):
    row = catalogue.execute("SELECT rolsuper, rolbypassrls, rolcreaterole, rolcreatedb FROM pg_roles WHERE rolname = 'vornet_app'").fetchone()
    assert row == (False, False, False, False)
    owned = """SELECT count(*) FROM pg_class c JOIN pg_roles r ON r.oid = c.relowner
               WHERE r.rolname = 'vornet_app' AND relnamespace = 'public'::regnamespace"""
    assert catalogue.execute(owned).fetchone() == (0,)
    assert catalogue.execute("SELECT has_schema_privilege('vornet_app', 'public', 'create')").fetchone() == (False,)


@pytest.mark.parametrize("table", sorted(SIGNED))
def test_what_is_signed_is_added_to_and_never_rewritten(catalogue, table):
    may = {p: catalogue.execute("SELECT has_table_privilege('vornet_app', %s, %s)", (table, p)).fetchone()[0]
           for p in ("SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE")}  # fmt: skip
    assert may == {"SELECT": True, "INSERT": True, "UPDATE": False, "DELETE": False, "TRUNCATE": False}
    columns = [
        r[0] for r in catalogue.execute("SELECT column_name FROM information_schema.columns WHERE table_name = %s", (table,)).fetchall()
    ]
    writable = {
        c for c in columns if catalogue.execute("SELECT has_column_privilege('vornet_app', %s, %s, 'UPDATE')", (table, c)).fetchone()[0]
    }
    assert writable == SIGNED[table]


REWRITES = [
    "UPDATE verdict SET verdict = 0", "UPDATE verdict SET signed_by = 'Another'", "DELETE FROM verdict", "TRUNCATE verdict",
    "UPDATE drain_interval SET meter = 9000", "DELETE FROM drain_interval", "UPDATE audit SET who = 'Another'", "DELETE FROM audit",
    "UPDATE limit_set SET limits = '[]'", "ALTER TABLE verdict DISABLE ROW LEVEL SECURITY", "SELECT fleet_drop(1)", "SET ROLE postgres",
    "DROP TABLE verdict", "SELECT password_hash FROM account",
    "UPDATE membership SET account_id = 1", "UPDATE api_token SET scopes = ARRAY['register']", "DELETE FROM audit_link",
    "INSERT INTO audit_link SELECT * FROM audit_link", "SELECT audit_chain(a) FROM audit a", "DELETE FROM sign_in_failure",
    "UPDATE password_link SET expires_at = now() + interval '9 years'",
    "UPDATE invitation SET roles = ARRAY['admin']",
]  # fmt: skip


@pytest.mark.parametrize("statement", REWRITES)
def test_whoever_holds_the_application_s_connection_cannot_rewrite_a_signature(db, fleet, statement):
    refused = (psycopg.errors.InsufficientPrivilege, psycopg.errors.InvalidParameterValue)
    with db.fleet(fleets.find(db, fleet)) as c, pytest.raises(refused), c.transaction():
        c.execute(statement)


def test_a_later_verdict_still_takes_the_place_of_an_earlier_one(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        sample = c.execute("SELECT max(sample_id) AS id FROM sample").fetchone()["id"]
        verdicts.sign(c, fleet_id, sample, "run_on", by="A", today=TODAY)
        verdicts.sign(c, fleet_id, sample, "watch", by="B", today=TODAY, reason="seen again")
        rows = c.execute("SELECT signed_by, superseded_by IS NULL AS stands FROM verdict WHERE sample_id = %s ORDER BY verdict_id", (sample,))
        assert [(r["signed_by"], r["stands"]) for r in rows.fetchall()] == [("A", False), ("B", True)]


def test_a_fleet_is_dropped_whole_by_the_owner_alone(db, fleet_name):
    fleets.find_or_make(db, fleet_name)
    people.add(db, fleet_name, f"gone-{abs(hash(fleet_name))}", "Gone", "right-and-long", "admin")
    fleets.delete(db, fleet_name)
    assert fleet_name not in fleets.names(db)
