"""A whole fleet into another installation and equal there; backups by rule; where the data lies; what `vornet check` tells."""

import json
import os
import shutil
import zipfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from conftest import TODAY, fresh_database
from vornet.core.errors import InputError
from vornet.flows.house import fleets, health, trail
from vornet.flows.judge import evaluate
from vornet.flows.register import dump
from vornet.flows.weeks import webhooks
from vornet.store import backup, cluster, fleet_file, wholeness
from vornet.store.database import Database, StoreError


@pytest.fixture(scope="module")
def elsewhere():
    """Another installation."""
    db = Database(fresh_database(f"test_elsewhere_{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}"), size=3)
    yield db
    db.close()


def test_a_fleet_moves_to_another_installation_and_reads_equal(db, elsewhere, fleet, tmp_path):
    out = fleet_file.write(db.location, fleet, tmp_path / "fleet.zip")
    came = fleet_file.read(elsewhere.location, tmp_path / "fleet.zip")
    assert {k: v for k, v in out.tables.items() if k not in fleet_file.BESIDE} == came.tables
    assert {"sample", "drain", "compartment", "evaluation", "drain_interval", "audit", "import_piece"} <= set(came.tables)
    assert dump.dump(elsewhere, fleet, TODAY) == dump.dump(db, fleet, TODAY)
    here, there = fleets.find(db, fleet), fleets.find(elsewhere, fleet)
    shown = "SELECT unit_id, compartment_id, running_safe, last_proposed FROM standing JOIN compartment USING (fleet_id, compartment_id)"
    with db.fleet(here) as a, elsewhere.fleet(there) as b:
        assert a.execute(shown).fetchall() == b.execute(shown).fetchall()
        assert not trail.verify(b, "").wrong, "the trail's chain is made anew and whole"
    evaluate.evaluate(elsewhere, fleet, TODAY)  # and it can be worked on: numbers go on after those that came
    with elsewhere.fleet(there) as c:
        most = c.execute("SELECT max(compartment_id) AS n FROM compartment").fetchone()["n"]
        unit = c.execute("SELECT unit_id FROM unit").fetchone()["unit_id"]
        c.execute("INSERT INTO compartment (fleet_id, unit_id, name, kind, family) VALUES (%s, %s, 'x', 'other', 'x')", [there, unit])
        assert c.execute("SELECT max(compartment_id) AS n FROM compartment").fetchone()["n"] > most
    with pytest.raises(InputError, match="already"):
        fleet_file.read(elsewhere.location, tmp_path / "fleet.zip")
    assert fleet_file.read(elsewhere.location, tmp_path / "fleet.zip", fleet + " again").rows == came.rows


def rewritten(file: Path, out: Path, change) -> Path:
    with zipfile.ZipFile(file) as pack, zipfile.ZipFile(out, "w") as made:
        for name in pack.namelist():
            made.writestr(name, change(name, pack.read(name)))
    return out


def test_a_fleet_file_that_was_changed_or_is_of_another_version_leaves_nothing(db, elsewhere, fleet, tmp_path):
    file = tmp_path / "fleet.zip"
    fleet_file.write(db.location, fleet, file)
    before = fleets.names(elsewhere)
    swapped = rewritten(file, tmp_path / "a.zip", lambda n, c: c.replace(b"3850", b"3860") if n == "tables/meter_reading.csv" else c)
    with pytest.raises(StoreError, match="meter_reading"):
        fleet_file.read(elsewhere.location, swapped, "changed")

    def newer(name, content):
        if name != fleet_file.MANIFEST:
            return content
        return json.dumps(json.loads(content) | {"migrations": [*json.loads(content)["migrations"], "9999_next"]}).encode()

    with pytest.raises(StoreError, match="newer Vornet"):
        fleet_file.read(elsewhere.location, rewritten(file, tmp_path / "b.zip", newer), "newer")
    (tmp_path / "cut.zip").write_bytes(file.read_bytes()[:400])
    for wrong in (tmp_path / "cut.zip", tmp_path / "none.zip"):
        with pytest.raises(InputError, match="no fleet's file"):
            fleet_file.read(elsewhere.location, wrong)
    with pytest.raises(InputError, match="there already"):
        fleet_file.write(db.location, fleet, file)
    with pytest.raises(InputError, match="no fleet named"):
        fleet_file.write(db.location, "Nowhere", tmp_path / "n.zip")
    assert fleets.names(elsewhere) == before


def test_nobody_s_key_leaves_with_a_fleet(db, fleet, tmp_path):
    with db.fleet(fleets.find(db, fleet)) as c:
        c.execute("INSERT INTO lab (fleet_id, name, way, address, key) VALUES (%s, 'L', 'pull', 'https://lab.example', 'sealed-key')",
                  [fleets.find(db, fleet)])  # fmt: skip
        webhooks.put(c, fleets.find(db, fleet), "https://told.example/x", ["due"], "t", TODAY)
    fleet_file.write(db.location, fleet, tmp_path / "f.zip")
    with zipfile.ZipFile(tmp_path / "f.zip") as pack:
        assert b"sealed-key" not in b"".join(pack.read(n) for n in pack.namelist())
        assert not {
            "tables/webhook.csv",
            "tables/webhook_delivery.csv",
            "tables/membership.csv",
            "tables/api_token.csv",
            "tables/session.csv",
        } & set(pack.namelist())


def test_a_day_s_backup_is_written_once_by_rule_and_old_ones_go(elsewhere, tmp_path, monkeypatch):
    folder, word = tmp_path / "backups", tmp_path / "word"
    folder.mkdir()
    word.write_text("a long passphrase\n")
    now = datetime(2026, 3, 10, 2, 0, tzinfo=UTC)
    assert backup.by_rule(elsewhere.location, now) is None, "nobody asked for any"
    monkeypatch.setenv("VORNET_BACKUP", str(folder))
    monkeypatch.setenv("VORNET_BACKUP_PASSPHRASE_FILE", str(word))
    monkeypatch.setenv("VORNET_BACKUP_KEEP", "2,0,0")
    assert [backup.by_rule(elsewhere.location, now + timedelta(hours=h)) is not None for h in (0, 5, 23, 47)] == [True, False, True, True]
    assert sorted(p.name[7:17] for p in folder.iterdir()) == ["2026-03-11", "2026-03-12"]
    assert backup.newest(folder) == now + timedelta(hours=47)
    assert all(p.read_bytes().startswith(backup.SEALED) for p in folder.iterdir())
    monkeypatch.setenv("VORNET_BACKUP_KEEP", "many")
    with pytest.raises(StoreError, match="three whole numbers"):
        backup.rule()
    told = {f[0]: f for f in wholeness.look(elsewhere.location)}
    assert told["backups"][2] is False


def test_what_is_wrong_is_told(fleet_name):
    """Each fault made on purpose, and only that one told."""
    location = fresh_database(f"test_faulty_{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}")
    db = Database(location, size=2)
    try:
        from conftest import small_register
        from vornet.flows.register import register

        register.load(db, json.dumps(small_register(fleet_name)).encode(), by="t", today=TODAY)
        assert [f for f in health.look(db) if not f.good] == []
        import psycopg

        with psycopg.connect(location.owner_url, autocommit=True) as c:
            c.execute("UPDATE drain SET meter = 10 WHERE on_day = '2025-09-01'")
            assert [f.about for f in health.look(db) if not f.good] == ["charges"]
            c.execute("UPDATE drain SET meter = 3000 WHERE on_day = '2025-09-01'")
            c.execute("UPDATE drain SET superseded_by = 999999 WHERE on_day = '2025-09-01'")
            assert [(f.about, "drain.superseded_by (1)" in f.said) for f in health.look(db) if not f.good] == [("references", True)]
            c.execute("UPDATE drain SET superseded_by = NULL")
            c.execute("DELETE FROM _yoyo_migration WHERE migration_id = '0026_at_the_unit'")
            assert [f.said for f in health.look(db) if not f.good] == ["not applied: 0026_at_the_unit"]
    finally:
        db.close()


def test_the_data_is_found_where_a_clone_was_moved_and_a_copy_gets_its_own(tmp_path, monkeypatch):
    monkeypatch.setattr(cluster, "ROOT_DATA", tmp_path / "var")
    monkeypatch.setattr(os, "geteuid", lambda: 0)
    monkeypatch.delenv("VORNET_DATA", raising=False)
    clone = tmp_path / "clone"
    (clone / ".local").mkdir(parents=True)
    home = cluster.home_of(clone)
    home.mkdir(parents=True)
    (home / "vornet.json").write_text("{}")
    cluster._remember(clone, "pg", home)
    copied = tmp_path / "copied"
    shutil.copytree(clone, copied)
    assert cluster.home_of(copied) != home, "a copy beside its original has a place of its own"
    assert cluster.others(copied) == [home]
    shutil.rmtree(copied)
    moved = clone.rename(tmp_path / "moved")
    assert cluster.home_of(moved) == home
    monkeypatch.setenv("VORNET_DATA", str(tmp_path / "here"))
    assert cluster.home_of(moved) == tmp_path / "here" / "pg"
