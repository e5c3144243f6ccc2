"""Speed, as ratios measured side by side in one run.

    .venv/bin/python bench/bench.py [compartments samples]

Prints: import against a bare COPY of the same rows into the same indexed tables; evaluation (writes included)
against the time the database takes to hand the same rows to one client; server time of Board and Compartment
on the demo fleet and on the generated one, after vacuum.
"""

from __future__ import annotations

import statistics
import sys
import time
from datetime import date

from fastapi.testclient import TestClient

from vornet.flows import evaluate, fleets, people, register, results
from vornet.sim import demo, volume
from vornet.store import cluster
from vornet.store.database import Database, Location, clone_dir, migrate
from vornet.web.app import create_app

TODAY = date(2026, 1, 15)
NAME = "Bench fleet"


def fresh() -> tuple[Database, Location]:
    import psycopg

    private = cluster.start(clone_dir(), "pg-bench", 54800)
    with psycopg.connect(private.url(cluster.OWNER, "vornet"), autocommit=True) as admin:
        admin.execute("DROP DATABASE IF EXISTS bench WITH (FORCE)")
        cluster.make_database(admin, "bench")
    location = Location(private.url(cluster.OWNER, "bench"), private.url(cluster.APP, "bench"))
    migrate(location)
    return Database(location), location


def timed(call):
    start = time.perf_counter()
    answer = call()
    return answer, time.perf_counter() - start


def bare_copy(location: Location) -> float:
    """The sample rows that were imported, by COPY, into a table with the same columns and indexes."""
    import psycopg

    with psycopg.connect(location.owner_url, autocommit=True) as c:
        c.execute("CREATE TABLE bare (LIKE sample INCLUDING ALL EXCLUDING IDENTITY)")
        with c.cursor() as cursor, cursor.copy("COPY sample TO STDOUT") as out:
            rows = b"".join(bytes(b) for b in out)

        def go() -> None:
            with c.cursor() as cursor, cursor.copy("COPY bare FROM STDIN") as into:
                into.write(rows)

        _, seconds = timed(go)
        c.execute("DROP TABLE bare")
    return seconds


def bare_read(location: Location) -> float:
    """Every current sample row handed to one client by binary COPY and thrown away."""
    import psycopg

    def go() -> None:
        rows = "COPY (SELECT * FROM sample WHERE superseded_by IS NULL) TO STDOUT (FORMAT binary)"
        with psycopg.connect(location.owner_url) as c, c.cursor() as cursor, cursor.copy(rows) as out:
            for _ in out:
                pass

    return min(timed(go)[1] for _ in range(3))


def settle(location: Location) -> None:
    """What autovacuum does within minutes of a bulk load, done at once: pages are timed in the steady state."""
    import psycopg

    with psycopg.connect(location.owner_url, autocommit=True) as c:
        c.execute("VACUUM ANALYZE")
        c.execute("SELECT pg_sleep(5)")


def pages(db: Database, fleet: str, runs: int = 60) -> dict[str, tuple[float, float]]:
    login = "bench" + str(len(fleet))
    people.add(db, fleet, login, "Bench", "right-and-long", "planner")
    client = TestClient(create_app(db, today=TODAY), follow_redirects=True)
    client.post("/sign-in", data={"login": login, "password": "right-and-long"})
    with db.fleet(fleets.find(db, fleet)) as c:
        some = "SELECT compartment_id FROM compartment ORDER BY random() LIMIT 30"
        ids = [r["compartment_id"] for r in c.execute(some).fetchall()]
    out = {}
    for name, path in (("Board", lambda i: "/"), ("Compartment", lambda i: f"/compartments/{ids[i % len(ids)]}"),
                       ("Library", lambda i: f"/library?sort={('unit', 'family', 'due', 'interval')[i % 4]}&q={i % 10}"),
                       ("Plan", lambda i: "/plan?days=90")):
        for i in range(5):
            client.get(path(i))
        seconds = []
        for i in range(runs):
            answer, took = timed(lambda i=i, path=path: client.get(path(i)))
            assert answer.status_code == 200
            seconds.append(took * 1000)
        out[name] = statistics.median(seconds), statistics.quantiles(seconds, n=20)[18]
    return out


def main() -> None:
    compartments, samples = (int(a) for a in (sys.argv[1:3] or ("1000", "50000")))
    db, location = fresh()
    register_file, results_file = volume.make(NAME, compartments, samples, TODAY)
    _, seconds = timed(lambda: register.load(db, register_file, by="bench", today=TODAY))
    print(f"fleet            {compartments:,} compartments, {samples:,} samples; register in {seconds:.1f} s")
    report, import_s = timed(lambda: results.load(db, results_file, fleet=NAME, name="bench.csv", by="bench"))
    assert report.new == (samples // compartments) * compartments, (report.new, len(report.held))
    copy_s = bare_copy(location)
    print(f"import           {import_s:6.2f} s  {report.new / import_s:9,.0f} rows/s")
    ratio = copy_s / import_s
    copy_rate = report.new / copy_s
    print(f"bare COPY        {copy_s:6.2f} s  {copy_rate:9,.0f} rows/s   import at {ratio:.2f} of its rate (asked 0.50)")
    read_s = bare_read(location)
    _, first_s = timed(lambda: evaluate.evaluate(db, NAME, TODAY))
    _, again_s = timed(lambda: evaluate.evaluate(db, NAME, TODAY))
    print(f"bare read        {read_s:6.2f} s")
    each = first_s / samples * 1e6
    print(f"evaluate, first  {first_s:6.2f} s  {first_s / read_s:.1f} x the read (asked 3), {each:.0f} µs a sample")
    print(f"evaluate, again  {again_s:6.2f} s  {again_s / read_s:.1f} x the read, nothing changed")
    demo.load(db, TODAY)
    settle(location)
    for fleet in (demo.FLEET, NAME):
        for page, (p50, p95) in pages(db, fleet).items():
            print(f"{page:<12} on {fleet:<24} p50 {p50:5.1f} ms  p95 {p95:5.1f} ms")
    db.close()
    cluster.stop(clone_dir(), "pg-bench")


if __name__ == "__main__":
    main()
