"""Compare what two commits make of the demo at a fixed day: judgements, intervals, exports and the HTML of every page.

    .venv/bin/python scripts/compare.py BEFORE [AFTER]

Each commit is laid out in a work tree of its own (AFTER left out: the tree as it stands), makes the demo in a database of
its own on the bench server, exports it and is walked as every role, in metric and then in US units; what differs between
two runs of one commit anyway (keys, ids made up on the spot, times of day) is masked. The differences are printed, and
kept under .local/compare.
"""

from __future__ import annotations

import difflib
import json
import os
import re
import shutil
import subprocess
import sys
import threading
from pathlib import Path

CLONE = Path(__file__).resolve().parents[1]
OUT = CLONE / ".local" / "compare"
UNTIL = "2026-01-15"
#: pages of one kind that are walked for each role
EACH = 3
#: lines of differences that are printed a file
SHOWN = 12
MASKS = (
    (r"[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}", "UUID"),
    (r'(name="csrf" (?:type="hidden" )?value=")[^"]+', r"\1CSRF"),
    (r'(data-csrf=")[^"]+', r"\1CSRF"),
    (r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d(\.\d+)?)?(\+\d\d:?\d\d|Z)?", "TIME"),
    (r"\b\d{1,2} [A-Z][a-z]{2} 20\d\d,? \d\d:\d\d", "TIME"),
    (r"(&#34;|\")(token|now)\1: ?(&#34;[^&]*&#34;|\"[^\"]*\"|[\d.]+)", "MASKED"),
    (r"http://127\.0\.0\.1:\d+|http://testserver", "HOST"),
    (r"\?v=[0-9a-f]+", ""),
)


def masked(text: str) -> str:
    for pattern, instead in MASKS:
        text = re.sub(pattern, instead, text)
    return text


# ---- inside one commit's own code ------------------------------------------------------------------------------
def kind_of(path: str) -> str:
    """A page's kind: its address without numbers."""
    return re.sub(r"\d+", "N", path)


def walk(client, start: str) -> dict[str, str]:  # type: ignore[no-untyped-def]
    """Every page that links lead to, so many of a kind, breadth first in the order of the addresses."""
    seen: dict[str, str] = {}
    count: dict[str, int] = {}
    waiting = [start]
    while waiting:
        path = waiting.pop(0)
        kind = kind_of(path)
        if path in seen or count.get(kind, 0) >= EACH:
            continue
        count[kind] = count.get(kind, 0) + 1
        answer = client.get(path, follow_redirects=False)
        media = answer.headers.get("content-type", "")
        if not media.startswith(("text/", "application/json")):
            seen[path] = f"{answer.status_code} {media}"
            continue
        seen[path] = f"{answer.status_code}\n{masked(answer.text)}"
        if media.startswith("text/html"):
            found = {h.replace("&amp;", "&").split("#")[0] for h in re.findall(r'(?:href|hx-get)="(/[^"]*)"', answer.text)}
            waiting += sorted(h for h in found if h and not h.startswith("/static/"))
    return seen


def dump(out: Path) -> None:
    """Make the demo with the code that is on the path, and write down everything it says."""
    import warnings

    warnings.simplefilter("ignore")
    from starlette.testclient import TestClient

    from vornet.sim import demo
    from vornet.store.database import Database, locate
    from vornet.web.app import create_app

    def command(*arguments: str) -> str:
        run = subprocess.run([sys.executable, "-m", "vornet", *arguments], capture_output=True, text=True, check=False)
        return run.stdout if run.returncode == 0 else run.stdout + run.stderr

    command("demo", "--no-serve", "--until", UNTIL)
    out.mkdir(parents=True, exist_ok=True)
    for name in ("judgements", "intervals", "register"):
        (out / f"{name}.json").write_text(masked(command("export", name, "--fleet", demo.FLEET)))
    from datetime import date

    db = Database(locate())
    try:
        for system in ("si", "us"):
            with db.fleet(1) as connection:
                connection.execute("UPDATE fleet SET measures = %s", [system])
            for login, password, _ in demo.LOGINS:
                if system == "us" and login != "planner":
                    continue
                with TestClient(create_app(db, today=date.fromisoformat(UNTIL), demo=True)) as client:
                    client.post("/sign-in", data={"login": login, "password": password})
                    for path, text in walk(client, "/").items():
                        place = out / f"{system}-{login}" / (re.sub(r"[^\w.-]+", "_", path).strip("_") + ".html")
                        place.parent.mkdir(parents=True, exist_ok=True)
                        place.write_text(text)
    finally:
        db.close()


# ---- beside both -----------------------------------------------------------------------------------------------
def tree_of(commit: str | None) -> Path:
    """Where the code of a commit lies; the tree as it stands for None."""
    if commit is None:
        return CLONE
    place = OUT / f"tree-{commit}"
    if not place.exists():
        subprocess.run(["git", "-C", str(CLONE), "worktree", "add", "--detach", "-f", str(place), commit], check=True, capture_output=True)
    dist = place / "src/vornet/web/static/dist"
    if not dist.exists():
        shutil.copytree(CLONE / "src/vornet/web/static/dist", dist)
    return place


def run(name: str, commit: str | None) -> Path:
    """Dump one commit into a folder of that name."""
    from vornet.store import cluster

    place, out = tree_of(commit), OUT / name
    shutil.rmtree(out, ignore_errors=True)
    database = f"compare_{name}"
    private = cluster.fresh_database(CLONE, "pg-bench", 54800, database)
    environment = {
        **os.environ, "PYTHONPATH": str(place / "src"), 
        "VORNET_URL": "http://testserver", "DATABASE_URL": private.url(cluster.OWNER, database),
        "DATABASE_APP_URL": private.url(cluster.APP, database),
    }  # fmt: skip
    subprocess.run([sys.executable, __file__, "--dump", str(out)], check=True, env=environment, cwd=place)
    return out


def differences(before: Path, after: Path) -> int:
    """Print what differs; how many files do."""
    names = sorted({str(p.relative_to(d)) for d in (before, after) for p in d.rglob("*") if p.is_file()})
    count = 0
    for name in names:
        a, b = ((d / name).read_text().splitlines() if (d / name).exists() else None for d in (before, after))
        if a == b:
            continue
        count += 1
        if a is None or b is None:
            print(f"== {name}: only {'after' if a is None else 'before'}")
            continue
        lines = [line for line in difflib.unified_diff(a, b, lineterm="", n=0) if not line.startswith(("---", "+++", "@@"))]
        print(f"== {name}: {len(lines)} lines")
        for line in lines[:SHOWN]:
            print("   " + line[:240])
    print(json.dumps({"files": len(names), "differ": count}))
    return count


def main() -> int:
    if sys.argv[1:2] == ["--dump"]:
        dump(Path(sys.argv[2]))
        return 0
    if len(sys.argv) not in (2, 3):
        print(__doc__)
        return 2
    OUT.mkdir(parents=True, exist_ok=True)
    commits = [sys.argv[1], sys.argv[2] if len(sys.argv) == 3 else None]
    places: dict[str, Path] = {}
    failed: list[BaseException] = []

    def one(name: str, commit: str | None) -> None:
        try:
            places[name] = run(name, commit)
        except BaseException as error:
            failed.append(error)

    kept = OUT / "before"
    stamp = OUT / "before.commit"
    if not (kept.exists() and stamp.exists() and stamp.read_text() == commits[0]):
        threads = [threading.Thread(target=one, args=pair) for pair in zip(("before", "after"), commits, strict=True)]
    else:  # made by an earlier run
        places["before"] = kept
        threads = [threading.Thread(target=one, args=("after", commits[1]))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    if failed:
        raise failed[0]
    stamp.write_text(str(commits[0]))
    return 1 if differences(places["before"], places["after"]) else 0


if __name__ == "__main__":
    sys.exit(main())
