"""A small database as this version makes it, for the tests of the next: ``.venv/bin/python scripts/dump.py``, before a migration is added."""

from __future__ import annotations

import gzip
import json
import subprocess
import sys
from pathlib import Path

HERE = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(HERE / "tests"))

from conftest import HEADER, TODAY, fresh_database, healthy_rows, small_register  # noqa: E402
from vornet.flows.house import people  # noqa: E402
from vornet.flows.judge import evaluate  # noqa: E402
from vornet.flows.lab import results  # noqa: E402
from vornet.flows.register import register  # noqa: E402
from vornet.store import backup  # noqa: E402
from vornet.store.database import Database, migrations_here  # noqa: E402

FLEET = "Old fleet"


def main() -> None:
    location = fresh_database("dump_of_now")
    db = Database(location, size=3)
    document = small_register(FLEET) | {
        "top_ups": [{"unit": "MV Test", "compartment": "engine", "on": "2025-04-01", "meter": 1700, "litres": 1.5}]
    }
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    results.load(db, ("\n".join([HEADER, *healthy_rows()]) + "\n").encode(), fleet=FLEET, name="start.csv", by="t")
    evaluate.evaluate(db, FLEET, TODAY)
    people.add(db, FLEET, "old-planner", "Old Planner", "right-and-long", "planner")
    db.close()
    ran = subprocess.run([backup._program("pg_dump"), "--no-owner", "--dbname", location.owner_url], capture_output=True, check=True)
    lines = [line for line in ran.stdout.decode().splitlines() if line and not line.startswith(("--", "\\restrict", "\\unrestrict"))]
    out = HERE / "tests" / "store" / "dumps" / f"{max(migrations_here())}.sql.gz"
    out.write_bytes(gzip.compress(("\n".join(lines) + "\n").encode(), 9, mtime=0))
    print(f"{out.name}: {out.stat().st_size:,} bytes")


if __name__ == "__main__":
    main()
