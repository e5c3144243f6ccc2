"""Fifty changes made to the heart of the job, one at a time: does a test notice? The list of those that none noticed is printed.

    .venv/bin/python bench/mutants.py [how many] [seed]

Drawn at random from drain, ledger, safe hours, what a decision is made by and what is in force (a mutation package makes them, in a
copy of the tree), each tried against the tests of core and the arithmetic's references.
"""

from __future__ import annotations

import ast
import json
import os
import random
import shutil
import sqlite3
import subprocess
import sys
import tempfile
from pathlib import Path

CLONE = Path(__file__).resolve().parents[1]
#: as many are drawn from each of these
GROUPS = (
    ("drain",), ("ledger",), ("safe_hours",), ("decide", "safe_by", "answers", "decision_case", "guards", "outcome", "next_bottle"),
    ("in_force", "against", "held_bottles"),
)  # fmt: skip
TESTS = " ".join((
    "tests/core/test_drain.py", "tests/core/test_job.py", "tests/core/test_ledger.py", "tests/core/test_safe_hours.py",
    "tests/core/test_volumes.py", "tests/core/test_rates_and_due.py", "tests/core/test_history_and_decide.py",
    "tests/core/test_intervals_hold.py", "tests/core/test_decide_with_causes.py", "tests/reference/test_oil_arithmetic.py",
    "tests/core/test_in_force.py", "tests/core/test_guards_hold.py", "tests/core/test_outcome.py", "tests/core/test_ledger_edges.py",
))  # fmt: skip


def said_only(path: Path) -> set[tuple[int, int]]:
    """Places (row, column) that are never run: annotations."""
    out: set[tuple[int, int]] = set()
    for node in ast.walk(ast.parse(path.read_text())):
        notes = [getattr(node, "annotation", None), getattr(node, "returns", None)]
        for note in filter(None, notes):
            out |= {(n.lineno, c) for n in ast.walk(note) if hasattr(n, "lineno") for c in range(n.col_offset, n.end_col_offset + 1)}
    return out


def main() -> int:
    count, seed = (int(x) for x in (*sys.argv[1:3], *("50", "7")[len(sys.argv) - 1 :]))
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        for name in ("src", "tests", "pyproject.toml"):
            (shutil.copytree if (CLONE / name).is_dir() else shutil.copy)(CLONE / name, place / name)
        command = f"{sys.executable} -m pytest -x -q -p no:cacheprovider -o addopts= -o testpaths= -m 'not slow' {TESTS}"
        paths = [f"src/vornet/core/{m}.py" for group in GROUPS for m in group]
        (place / "mutants.toml").write_text(
            f"[cosmic-ray]\nmodule-path = {json.dumps(paths)}\ntimeout = 120.0\nexcluded-modules = []\ntest-command = {json.dumps(command)}\n"
            '[cosmic-ray.distributor]\nname = "local"\n'
        )
        environment = {**os.environ, "PYTHONPATH": str(place / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
        tool = str(Path(sys.executable).parent / "cosmic-ray")

        def run(*arguments: str) -> str:
            return subprocess.run([tool, *arguments], cwd=place, env=environment, capture_output=True, text=True, check=True).stdout

        subprocess.run(command, shell=True, cwd=place, env=environment, check=True, capture_output=True)  # fine before anything is changed
        run("init", "mutants.toml", "mutants.sqlite")
        with sqlite3.connect(place / "mutants.sqlite") as session:
            order = "module_path, start_pos_row, operator_name, occurrence"
            found = session.execute(
                f"SELECT job_id, module_path, start_pos_row, start_pos_col FROM mutation_specs ORDER BY {order}"
            ).fetchall()
            silent = {p: said_only(place / p) for p in paths}
            every = [e for e in found if (e[2], e[3]) not in silent[e[1]]]
            session.executemany("DELETE FROM mutation_specs WHERE job_id = ?", [(e[0],) for e in found if e not in every])
            session.executemany("DELETE FROM work_items WHERE job_id = ?", [(e[0],) for e in found if e not in every])
            draw = random.Random(seed)
            of = [[e for e in every if Path(e[1]).stem in group] for group in GROUPS]
            each, over = divmod(count, len(GROUPS))
            chosen = {e[0] for i, mine in enumerate(of) for e in draw.sample(mine, min(len(mine), each + (i < over)))}
            for table in ("mutation_specs", "work_items"):
                session.executemany(f"DELETE FROM {table} WHERE job_id = ?", [(e[0],) for e in every if e[0] not in chosen])
        run("exec", "mutants.toml", "mutants.sqlite")
        with sqlite3.connect(place / "mutants.sqlite") as session:
            rows = session.execute(
                "SELECT m.module_path, m.start_pos_row, m.operator_name, r.test_outcome FROM mutation_specs m "
                "LEFT JOIN work_results r USING (job_id) ORDER BY 1, 2").fetchall()  # fmt: skip
    killed = sum(str(r[3]).upper().endswith("KILLED") for r in rows)
    for path, line, operator, outcome in rows:
        if not str(outcome).upper().endswith("KILLED"):
            print(f"survived: {path}:{line} {operator.split('/')[-1]} ({outcome})")
    print(f"mutants          {killed} of {len(rows)} killed (asked {int(0.8 * len(rows))}), of {len(every)} there are; seed {seed}")
    return 0 if killed >= 0.8 * len(rows) else 1


if __name__ == "__main__":
    sys.exit(main())
