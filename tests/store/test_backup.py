"""A whole installation out and back: equal row for row, never over anything, told when it was changed, cut or is another's."""

import json
import os
from datetime import UTC, date, datetime, timedelta

import psycopg
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import HEADER, TODAY, bare_database, fresh_database, healthy_rows, small_register
from vornet.core.errors import InputError
from vornet.flows.house import fleets, people
from vornet.flows.judge import evaluate, judgements
from vornet.flows.lab import results
from vornet.flows.register import dump, register
from vornet.store import backup, secrets
from vornet.store.database import Database, StoreError

NOW = datetime(2026, 1, 15, 4, 30, tzinfo=UTC)


@pytest.fixture(scope="module")
def lived_in(worker_id):
    """An installation with two fleets, results, judgements and a picture."""
    location = fresh_database(f"lived_{worker_id}")
    db = Database(location, size=3)
    for name in ("Quay", "Shore"):
        register.load(db, json.dumps(small_register(name)).encode(), by="t", today=TODAY)
        results.load(db, ("\n".join([HEADER, *healthy_rows()]) + "\n").encode(), fleet=name, name="a.csv", by="t")
        evaluate.evaluate(db, name, TODAY)
    people.add(db, "Quay", "keeper", "Keeper", "right-and-long", "admin")
    with db.fleet(fleets.find(db, "Quay")) as c:
        unit = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        c.execute("INSERT INTO job_photo (fleet_id, photo_id, unit_id, about, content, by) VALUES (%s, gen_random_uuid(), %s, 'x', %s, 't')",
                  [fleets.find(db, "Quay"), unit, os.urandom(5000)])  # fmt: skip
    yield location, db
    db.close()


def everything(db):
    def text(what):
        return json.dumps(what, default=str, sort_keys=True)

    return {name: (text(dump.dump(db, name, TODAY)), text(judgements.judgements(db, name))) for name in ("Quay", "Shore")}


@pytest.mark.parametrize("passphrase", ["", "a long one, ünlike others"])
def test_what_went_out_comes_back_equal(lived_in, tmp_path, worker_id, passphrase):
    location, db = lived_in
    written = backup.write(location, tmp_path, passphrase, NOW)
    assert (written.path.name, written.sealed, written.path.stat().st_mode & 0o777) == (
        "vornet-2026-01-15-043000.backup",
        bool(passphrase),
        0o600,
    )
    assert written.rows > 50
    assert list(tmp_path.iterdir()) == [written.path]  # nothing lies about
    if passphrase:
        sealed = written.path.read_bytes()  # four letters alone stand in so many by chance, once in thirty runs
        assert b"MV Test" not in sealed and b"Test 15W-40" not in sealed
    new = bare_database(f"new_{worker_id}")
    manifest = backup.restore(new, written.path, passphrase)
    assert sum(t["rows"] for t in manifest["tables"].values()) == written.rows
    again = Database(new, size=2)
    assert everything(again) == everything(db)
    again.check_role()  # rows of one fleet are kept from another's as before
    with again.fleet(fleets.find(again, "Shore")) as c:
        assert c.execute("SELECT count(*) AS n FROM job_photo").fetchone()["n"] == 0
    again.close()
    with pytest.raises(StoreError, match="not empty"):  # never over what is there
        backup.restore(new, written.path, passphrase)


def test_nothing_there_is_overwritten_and_a_place_without_a_folder_is_told(lived_in, tmp_path):
    location, _ = lived_in
    path = tmp_path / "mine.backup"
    path.write_text("something of somebody")
    with pytest.raises(InputError, match="there already"):
        backup.write(location, path)
    assert path.read_text() == "something of somebody"
    with pytest.raises(InputError, match="no folder"):
        backup.write(location, tmp_path / "no" / "where.backup")


def test_a_sealed_file_that_was_changed_cut_or_is_asked_for_wrongly_says_so(lived_in, tmp_path, worker_id):
    location, _ = lived_in
    good = backup.write(location, tmp_path, "right", NOW).path.read_bytes()
    lines = good.splitlines(keepends=True)
    flipped = bytearray(lines[1])
    flipped[len(flipped) // 2] ^= 1
    cases = {
        "cut": (b"".join(lines[:-1]), "right", "before its end|other|changed"), "changed": (lines[0] + bytes(flipped), "right", "changed"),
        "wrong": (good, "wrong", "passphrase is another"), "none": (good, "", "give its passphrase"),
        "twice": (b"".join([lines[0], lines[1], lines[1]]), "right", "changed"),
    }  # fmt: skip
    empty = bare_database(f"never_{worker_id}")
    for name, (content, passphrase, why) in cases.items():
        path = tmp_path / name
        path.write_bytes(content)
        with pytest.raises(InputError, match=why):
            backup.restore(empty, path, passphrase)
    for content in (b"", b"hello", b"PK\x03\x04"):
        (tmp_path / "odd").write_bytes(content)
        with pytest.raises(InputError, match="no backup"):
            backup.restore(empty, tmp_path / "odd")
    with pytest.raises(InputError, match="no file"):
        backup.restore(empty, tmp_path / "nowhere")


def test_a_backup_of_a_newer_version_or_under_another_key_is_not_read(lived_in, tmp_path, worker_id, monkeypatch):
    location, _ = lived_in
    path = backup.write(location, tmp_path, "", NOW).path
    empty = bare_database(f"other_{worker_id}")
    monkeypatch.setattr(secrets, "key_there", lambda: b"another")
    with pytest.raises(StoreError, match="another key"):
        backup.restore(empty, path)
    monkeypatch.undo()
    monkeypatch.setattr("vornet.store.database.migrations_here", lambda: {"0001_people"})
    with pytest.raises(StoreError, match="newer Vornet"):
        backup.restore(empty, path)


def test_a_row_that_did_not_come_back_as_it_was_is_told_and_nothing_is_kept(lived_in, tmp_path, worker_id, monkeypatch):
    location, _ = lived_in
    path = backup.write(location, tmp_path, "", NOW).path
    empty = bare_database(f"torn_{worker_id}")
    whole = backup._tables
    monkeypatch.setattr(backup, "_tables", lambda c: {**whole(c), "sample": {"rows": 1, "digest": "0"}})
    with pytest.raises(StoreError, match="not what was written: sample"):
        backup.restore(empty, path)
    with psycopg.connect(empty.owner_url) as c:
        assert c.execute("SELECT to_regclass('public.fleet')").fetchone() == (None,)


@given(st.lists(st.dates(date(2024, 1, 1), date(2026, 12, 31)), max_size=60), st.integers(0, 9), st.integers(0, 6), st.integers(0, 6))
def test_the_newest_is_always_kept_and_each_rule_keeps_as_many_as_it_says(days, daily, weekly, monthly):
    kept = set(days) - set(backup.let_go(days, daily, weekly, monthly))
    newest = sorted(set(days), reverse=True)
    assert set(newest[:daily]) <= kept
    if days and daily + weekly + monthly:
        assert newest[0] in kept
    assert len(kept) <= daily + weekly + monthly


def test_a_folder_is_tidied_by_the_rule_and_what_is_not_ours_stays(tmp_path):
    for n in range(30):
        (tmp_path / f"vornet-{date(2026, 1, 1) + timedelta(days=n)}-030000.backup").touch()
    (tmp_path / "vornet-2026-01-05-120000.backup").touch()
    (tmp_path / "letters.txt").touch()
    gone = backup.tidy(tmp_path, 3, 2, 1)
    left = sorted(p.name for p in tmp_path.iterdir())
    assert left == ["letters.txt", "vornet-2026-01-25-030000.backup", *(f"vornet-2026-01-{d}-030000.backup" for d in (28, 29, 30))]
    assert len(gone) == 27


def test_the_command_writes_and_reads_back_with_a_passphrase_of_a_file(lived_in, tmp_path, worker_id):
    import subprocess
    import sys

    def vornet(location, *args):
        env = {**os.environ, "DATABASE_URL": location.owner_url, "DATABASE_APP_URL": location.app_url}
        return subprocess.run([sys.executable, "-m", "vornet", *args], capture_output=True, text=True, timeout=120, env=env, check=False)

    location, _ = lived_in
    (tmp_path / "pass").write_text("a long one\n")
    folder = tmp_path / "kept"
    folder.mkdir()
    done = vornet(location, "backup", str(folder), "--passphrase-file", str(tmp_path / "pass"), "--keep", "7,5,12")
    assert done.returncode == 0, done.stderr
    [path] = folder.iterdir()
    assert "sealed" in done.stdout
    new = bare_database(f"command_{worker_id}")
    assert vornet(new, "restore", str(path)).returncode == 2  # no passphrase
    done = vornet(new, "restore", str(path), "--passphrase-file", str(tmp_path / "pass"))
    assert done.returncode == 0, done.stderr
    assert "came back as they were" in done.stdout
    again = vornet(new, "restore", str(path), "--passphrase-file", str(tmp_path / "pass"))
    assert (again.returncode, "not empty" in again.stderr) == (1, True)
    assert vornet(location, "backup", str(path), "--keep", "7,5,12").returncode == 2
