"""A database of every earlier version, as its own code made it, is opened by this one: brought up to date, whole, its register and samples
there, judged, its pages shown. `scripts/dump.py` makes the one of this version, for the next."""

import gzip
import os
import re
import subprocess
from pathlib import Path

import pytest
from fastapi.testclient import TestClient

from conftest import TODAY, bare_database
from vornet.flows.house import fleets, health
from vornet.flows.judge import evaluate
from vornet.flows.register import dump
from vornet.store import backup
from vornet.store.database import Database, migrate, migrations_here
from vornet.web.app import create_app

DUMPS = sorted((Path(__file__).parent / "dumps").glob("*.sql.gz"))


@pytest.mark.parametrize("file", DUMPS, ids=lambda p: p.name[:4])
def test_a_database_of_an_earlier_version_is_opened(file):
    location = bare_database(f"test_old_{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}")
    ran = subprocess.run(
        [backup._program("psql"), "-q", "-v", "ON_ERROR_STOP=1", "--dbname", location.owner_url],
        input=gzip.decompress(file.read_bytes()).replace(b"CREATE SCHEMA public;", b""), capture_output=True,
    )  # fmt: skip
    assert ran.returncode == 0, ran.stderr.decode()[-400:]
    assert migrate(location) > 0
    db = Database(location, size=3)
    try:
        assert [f for f in health.look(db) if not f.good] == []
        document = dump.dump(db, "Old fleet", TODAY)
        assert [u["unit"] for u in document["units"]] == ["MV Test"]
        assert (len(document["drains"]), len(document["top_ups"]), len(document["readings"])) == (6, 1, 3)
        if DUMPS.index(file) % 4 and not os.environ.get("VORNET_CASES"):
            return  # judged and shown is every fourth, and all of them at length
        evaluate.evaluate(db, "Old fleet", TODAY)
        with db.fleet(fleets.find(db, "Old fleet")) as c:
            assert c.execute("SELECT count(*) AS n FROM sample WHERE superseded_by IS NULL").fetchone()["n"] == 5
            assert c.execute("SELECT running_safe FROM standing").fetchone() is not None
        client = TestClient(create_app(db, today=TODAY), follow_redirects=True)
        assert client.post("/sign-in", data={"login": "old-planner", "password": "right-and-long"}).status_code == 200
        assert "MV Test" in client.get("/").text
        compartment = re.search(r'href="(/compartments/\d+)"', client.get("/").text)[1]
        assert 'class="ribbon' in client.get(compartment).text
    finally:
        db.close()


def test_there_is_one_for_every_version_that_was(tmp_path):
    """Migrations that came together in one version are one."""
    together = {"0001_people", "0002_register", "0003_oil", "0007_lab", "0008_queue", "0009_verdict", "0010_precision", "0019_signin"}
    earlier = sorted(migrations_here())[:-1]
    assert {p.name.removesuffix(".sql.gz") for p in DUMPS} == set(earlier) - together
