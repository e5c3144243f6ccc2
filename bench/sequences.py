"""Sequences of permitted actions against a real database, until a breach or so many steps.

    .venv/bin/python bench/sequences.py [steps] [seed]

What is done and what must hold on every day stands in tests/flows/sequences.py; the seed is printed, and the same seed does the same.
"""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path

os.environ.setdefault("VORNET_URL", "http://testserver")
TESTS = Path(__file__).resolve().parents[1] / "tests"
sys.path[:0] = [str(TESTS), str(TESTS / "flows")]

#: actions a fleet lives through
EACH = 50


def run(steps: int = 10_000, seed: int = 2026) -> bool:
    """Whether so many actions led to no breach; prints how often each was taken and refused."""
    import hypothesis
    from hypothesis import HealthCheck, Phase, settings
    from hypothesis.stateful import run_state_machine_as_test
    from sequences import Intervals

    from vornet.store import cluster
    from vornet.store.database import Database, Location, clone_dir, migrate

    name = f"sequences_{os.getpid()}"
    private = cluster.fresh_database(clone_dir(), "pg-bench", 54800, name)
    location = Location(private.url(cluster.OWNER, name), private.url(cluster.APP, name))
    migrate(location)
    db = Database(location)

    class Lived(Intervals):
        pass

    Lived.db, Lived.counts = db, type(Intervals.counts)()
    asked = settings(
        max_examples=max(steps // EACH, 1), stateful_step_count=EACH, deadline=None, suppress_health_check=list(HealthCheck),
        phases=(Phase.generate,), database=None, report_multiple_bugs=False, print_blob=False,
    )  # fmt: skip
    began, breach = time.perf_counter(), ""
    try:
        run_state_machine_as_test(hypothesis.seed(seed)(Lived), settings=asked)
    except Exception as error:
        import traceback

        breach = "".join(traceback.format_exception(error))
    finally:
        db.close()
    done = sum(Lived.counts.values())
    took, said = time.perf_counter() - began, "BREACH" if breach else "no breach"
    print(f"sequences        {done} actions in fleets of up to {EACH} each, seed {seed}, {took:.0f} s: {said}")
    print("  " + ", ".join(f"{what} {n}" for what, n in sorted(Lived.counts.items())))
    if breach:
        print(breach)
    return not breach


if __name__ == "__main__":
    given = [int(x) for x in sys.argv[1:]]
    sys.exit(0 if run(*given) else 1)
