"""A kept file from waiting to done, refused, explained or set aside: each step by itself, in the reader's own process."""

import io
import json

import psycopg
import pytest

from conftest import HEADER, TODAY, fresh_database, row, small_register
from vornet.core.errors import InputError
from vornet.flows import worker
from vornet.flows.house import fleets
from vornet.flows.lab import files, held_rows, inbox, labs
from vornet.flows.register import register
from vornet.io.lab_header import Meaning
from vornet.store import queue
from vornet.store.database import Database


@pytest.fixture(scope="module")
def db(worker_id):
    """A database whose queue nobody works on but these tests."""
    database = Database(fresh_database(f"reading_{worker_id}"), size=6)
    yield database
    database.close()


@pytest.fixture
def fleet_id(db, fleet_name):
    register.load(db, json.dumps(small_register(fleet_name)).encode(), by="t", today=TODAY)
    return fleets.find(db, fleet_name)


def drop(db, fleet_id, content, name="f.csv", lab="Lab A"):
    with db.fleet(fleet_id) as c:
        return inbox.take(c, fleet_id, io.BytesIO(content), name=name, lab=lab, by="A").import_file_id


def state(db, fleet_id, file_id):
    with db.fleet(fleet_id) as c:
        return c.execute("SELECT * FROM import_file WHERE import_file_id = %s", (file_id,)).fetchone()


def samples(db, fleet_id):
    with db.fleet(fleet_id) as c:
        return c.execute("SELECT count(*) AS n FROM sample").fetchone()["n"]


GOOD = f"{HEADER}\n{row('R1', '2025-12-20', 3700, 200, False)}\n".encode()
STRANGE = GOOD.replace(b"nitration", b"Mystery", 1)


def test_a_good_file_is_read_judged_and_then_nobody_s_business_any_more(db, fleet_id):
    file_id = drop(db, fleet_id, GOOD)
    worker.read_kept(db, fleet_id, file_id, TODAY)
    done = state(db, fleet_id, file_id)
    assert (done["state"], done["rows_new"], done["rows_done"]) == ("done", 1, 1)
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT proposed FROM evaluation").fetchall() == [{"proposed": 0}]
        assert c.execute("SELECT count(*) AS n FROM touched").fetchone()["n"] == 0
    worker.read_kept(db, fleet_id, file_id, TODAY)  # asked again: done already
    assert state(db, fleet_id, file_id) == done
    worker.read_kept(db, fleet_id, 999_999, TODAY)  # gone meanwhile


@pytest.mark.parametrize("content", [b"\x89PNG\r\n\x1a\n", b"a,b\n1,2\n"], ids=["a picture", "no sample number"])
def test_what_cannot_be_read_is_refused_with_its_reason_and_told(db, fleet_id, content):
    file_id = drop(db, fleet_id, content)
    worker.read_kept(db, fleet_id, file_id, TODAY)
    found = state(db, fleet_id, file_id)
    assert found["state"] == "refused"
    assert len(found["trouble"]) > 10
    assert samples(db, fleet_id) == 0
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT count(*) AS n FROM audit WHERE what = 'file refused'").fetchone()["n"] == 1
        assert inbox.file_page(c, file_id)["file"]["trouble"] == found["trouble"]


def test_an_empty_file_is_not_even_kept(db, fleet_id):
    with pytest.raises(InputError, match="is empty"):
        drop(db, fleet_id, b"")


def test_headings_nobody_knows_wait_are_explained_once_and_remembered(db, fleet_id):
    file_id = drop(db, fleet_id, STRANGE)
    worker.read_kept(db, fleet_id, file_id, TODAY)
    assert (state(db, fleet_id, file_id)["state"], samples(db, fleet_id)) == ("mapping", 0)
    with db.fleet(fleet_id) as c:
        asked = inbox.file_page(c, file_id)["mapping"]
        assert [h["name"] for h in asked["unknown"]] == ["Mystery"]
        assert asked["unknown"][0]["examples"]
        with pytest.raises(InputError, match="say what each of these is, or leave it out: Mystery"), c.transaction():
            inbox.explain(c, fleet_id, file_id, "Lab A", {}, "A")
        with pytest.raises(InputError, match="neither a measurand nor"), c.transaction():
            inbox.explain(c, fleet_id, file_id, "Lab A", {"Mystery": Meaning("colour", "")}, "A")
        with pytest.raises(InputError, match="still cannot be read"), c.transaction():
            inbox.explain(c, fleet_id, file_id, "Lab A", {"Mystery": Meaning("", ""), "sample_no": Meaning("", "")}, "A")
        inbox.explain(c, fleet_id, file_id, "Lab A", {"Mystery": Meaning("nitration", "A/cm")}, "A")
        c.execute("UPDATE import_file SET state = 'waiting' WHERE import_file_id = %s", (file_id,))
    worker.read_kept(db, fleet_id, file_id, TODAY)
    assert (state(db, fleet_id, file_id)["state"], samples(db, fleet_id)) == ("done", 1)
    again = drop(db, fleet_id, STRANGE.replace(b"R1", b"R2"))
    worker.read_kept(db, fleet_id, again, TODAY)
    assert state(db, fleet_id, again)["state"] == "done"
    with db.fleet(fleet_id) as c:
        with pytest.raises(InputError, match="waits for no headings"):
            inbox.explain(c, fleet_id, file_id, "Lab A", {}, "A")
        lab_id = c.execute("SELECT lab_id FROM lab WHERE name = 'Lab A'").fetchone()["lab_id"]
        labs.forget_meaning(c, fleet_id, lab_id, "Mystery", "A")
        labs.forget_meaning(c, fleet_id, lab_id, "mystery", "A")
        assert "mystery" not in {k.lower() for k in labs.meanings(c, "Lab A")}


def test_a_file_that_ends_its_reader_is_tried_once_more_and_then_set_aside(db, fleet_id):
    file_id = drop(db, fleet_id, GOOD)
    with db.fleet(fleet_id) as c:
        c.execute("UPDATE import_file SET state = 'reading', begun = 1 WHERE import_file_id = %s", (file_id,))
    assert not worker.set_aside_if_again(db, fleet_id, file_id, "killed")  # once may be anybody's fault
    with db.fleet(fleet_id) as c:
        c.execute("UPDATE import_file SET begun = %s WHERE import_file_id = %s", (worker.MOST_BEGUN, file_id))
    worker.read_kept(db, fleet_id, file_id, TODAY)
    found = state(db, fleet_id, file_id)
    assert (found["state"], samples(db, fleet_id)) == ("refused", 0)
    assert "ended its reader" in found["trouble"]
    assert not worker.set_aside_if_again(db, fleet_id, file_id, "killed")  # it is already


def test_two_workers_do_not_read_one_file(db, fleet_id):
    file_id = drop(db, fleet_id, GOOD)
    with psycopg.connect(db.location.owner_url) as held:  # as a worker that is in the middle of it
        claim = "SELECT pg_advisory_xact_lock(%s, %s)"
        held.execute(claim, (fleet_id, file_id))
        worker.read_kept(db, fleet_id, file_id, TODAY)
        first = state(db, fleet_id, file_id)["state"]
    assert first in ("reading", "done")  # whichever lock the claim is, what was read is read once
    worker.read_kept(db, fleet_id, file_id, TODAY)
    assert samples(db, fleet_id) <= 1


@pytest.mark.parametrize(
    ("content", "register_file"),
    [(b'{"units": []}', True), (b'  \n{"oils": []}', True), (b'{"samples": []}', False), (b"[1]", False), (b"{", False),
     (b"{" * 100_000, False), (b"sample_no,unit\n", False), (b"", False)],
    ids=["units", "blanks first", "results", "a list", "cut off", "a deep one", "a table", "nothing"],
)  # fmt: skip
def test_a_register_document_is_told_from_results(content, register_file):
    source = io.BytesIO(content)
    assert (inbox.register_in(source) is not None) is register_file
    assert source.read() == content  # and can be read from its start


def test_a_register_file_that_was_dropped_is_loaded_and_listed(db, fleet_id, fleet_name):
    document = {"units": [{"unit": "MV New", "meter_unit": "h", "compartments": [{"compartment": "engine", "kind": "engine"}]}],
                "readings": [{"unit": "No ship", "on": "2025-01-01", "meter": 5}]}  # fmt: skip
    file_id = inbox.take_register(db.location, fleet_name, json.dumps(document).encode(), name="r.json", by="A", today=TODAY)
    found = state(db, fleet_id, file_id)
    assert (found["state"], found["layout"], found["rows_held"]) == ("done", "register", 1)
    assert any("No ship" in note for note in found["notes"])
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT count(*) AS n FROM unit").fetchone()["n"] == 2
        assert inbox.retry(c, fleet_id) == 0  # a register is not read again by itself


def test_rows_that_wait_are_put_away_or_tried_again(db, fleet_id):
    lost = GOOD.replace(b"MV Test", b"MV Tset")
    file_id = drop(db, fleet_id, lost)
    worker.read_kept(db, fleet_id, file_id, TODAY)
    assert state(db, fleet_id, file_id)["rows_held"] == 1
    with db.fleet(fleet_id) as c:
        page = inbox.file_page(c, file_id)
        assert [r["check"][0] for r in page["rows"]] == ["Unit not in the register"]
        assert "MV Tset" in inbox.waiting_csv(db, fleet_id)
        came = inbox.row_as_it_came(c, file_id, 2)
        assert dict(zip(came["names"], came["rows"][0], strict=True))["unit"] == "MV Tset"
        assert inbox.row_as_it_came(c, file_id, 99) is None
        assert inbox.row_as_it_came(c, 999_999, 2) is None
        assert inbox.file_page(c, 999_999) is None
        assert inbox.retry(c, fleet_id) == 1
        held = c.execute("SELECT held_row_id FROM held_row").fetchone()["held_row_id"]
        with pytest.raises(InputError, match="say"):
            held_rows.dismiss(c, fleet_id, held, " ", "A")
        held_rows.dismiss(c, fleet_id, held, "not our ship", "A")
        held_rows.dismiss(c, fleet_id, held, "again", "A")  # put away already
        assert c.execute("SELECT count(*) AS n FROM audit WHERE what = 'row put away'").fetchone()["n"] == 1


def test_a_file_is_kept_whole_in_pieces_and_read_from_any_place(db, fleet_id):
    content = bytes(range(256)) * 9000  # more than one piece
    with db.fleet(fleet_id) as c:
        kept = files.keep(c, fleet_id, io.BytesIO(content), name="big.bin", lab="", by="A")
        again = files.keep(c, fleet_id, io.BytesIO(content), name="other name.bin", lab="", by="A")
        assert (again.import_file_id, again.known) == (kept.import_file_id, True)
        source = files.stream(c, kept.import_file_id)
        assert source.read() == content
        source.seek(0)
        assert source.read(10) == content[:10]
        source.seek(2_000_000)
        assert source.read(5) == content[2_000_000:2_000_005]
        assert files.piece(c, kept.import_file_id, 10_000) == b""


def test_what_a_fleet_left_behind_troubles_no_worker(db, fleet_name):
    register.load(db, json.dumps(small_register(fleet_name)).encode(), by="t", today=TODAY)
    fleet_id = fleets.find(db, fleet_name)
    with db.fleet(fleet_id) as c:
        queue.put_evaluation(c, fleet_id, [1, 2, 3])
    fleets.delete(db, fleet_name)
    worker.drain_queue(db, TODAY)
    with db.anyone() as c:
        assert c.execute("SELECT task_name, status, args FROM procrastinate_jobs WHERE status <> 'succeeded'").fetchall() == []
