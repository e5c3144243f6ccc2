"""Shared by all tests: a private test server, a database per worker, a served application, a browser."""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import hashlib
import itertools
import json
import os
import socket
import tempfile
import threading
import time
from collections.abc import Iterator
from datetime import date
from importlib import resources
from pathlib import Path

import psycopg
import pytest
from argon2 import PasswordHasher
from hypothesis import settings
from playwright.sync_api import expect

from vornet.flows import worker
from vornet.flows.house import fleets, passwords, people
from vornet.flows.judge import approval, evaluate, prices, trials
from vornet.flows.lab import results
from vornet.flows.register import register
from vornet.store import cluster
from vornet.store.database import Database, Location, clone_dir, migrate

TODAY = date(2026, 1, 15)
os.environ["VORNET_URL"] = "http://testserver"  # what an application without a port is asked as; this machine itself is always known
EXAMPLES = Path(__file__).resolve().parents[1] / "docs" / "examples"
_numbers = itertools.count(1)
# hundreds of sign-ins, none of them worth a tenth of a second; what the product does is looked at in test_signin
passwords.hasher = PasswordHasher(time_cost=1, memory_cost=8 * 1024, parallelism=1)
# the same cases on every machine, and no time limit a busy machine could miss; `--hypothesis-profile default` draws new ones
settings.register_profile("suite", derandomize=True, deadline=None)
settings.load_profile("suite")
expect.set_options(timeout=20_000)  # as long as a busy machine may need; a page that answers is not waited for


#: files that take longest, s on two cores: they are begun first, so that no core waits for the last of them at the end
LONGEST = (
    "test_away_browser", "test_job_browser", "test_browser", "test_causes_trial", "test_hostile_text", "test_library_browser",
    "test_lab_browser", "test_weeks_browser", "test_api_described", "test_access", "test_demo", "test_lab", "test_forms_fuzzed",
    "test_intervals_trial", "test_another_language", "test_causes", "test_trial_browser", "test_interval_year", "test_screening_trial",
)  # fmt: skip


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    place = {f"{name}.py": i for i, name in enumerate(LONGEST)}
    items.sort(key=lambda item: place.get(item.path.name, len(place)))


@pytest.fixture(scope="session")
def location(worker_id: str) -> Location:
    """A fresh database of this worker's own on the private test server (DATABASE_URL is left alone)."""
    return fresh_database(f"test_{worker_id}")


def bare_database(name: str) -> Location:
    """A database of that name without any table; one that is there already is dropped first."""
    private = cluster.fresh_database(clone_dir(), "pg-test", 54700, name)
    return Location(private.url(cluster.OWNER, name), private.url(cluster.APP, name))


def fresh_database(name: str) -> Location:
    """An empty, migrated database of that name; one that is there already is dropped first. A copy of one that was migrated once: how a
    database is migrated is looked at in test_migrations and test_dumps."""
    found = bare_database(name)
    sources = sorted((resources.files("vornet.store") / "migrations").iterdir(), key=lambda p: p.name)
    model = "model_" + hashlib.sha256("".join(p.read_text() for p in sources if p.name.endswith(".sql")).encode()).hexdigest()[:12]
    with (
        open(Path(tempfile.gettempdir()) / f"vornet_{os.getuid()}.lock", "w") as lock,
        psycopg.connect(found.owner_url.rpartition("/")[0] + "/vornet", autocommit=True) as owner,
    ):
        fcntl.flock(lock, fcntl.LOCK_EX)
        if owner.execute("SELECT 1 FROM pg_database WHERE datname = %s", [model]).fetchone() is None:
            migrate(bare_database(f"{model}_new"))
            owner.execute(f"ALTER DATABASE {model}_new RENAME TO {model}")
        owner.execute(f'DROP DATABASE "{name}" WITH (FORCE)')
        owner.execute(f'CREATE DATABASE "{name}" TEMPLATE {model}')
    migrate(found)
    return found


@pytest.fixture(scope="session")
def db(location: Location) -> Iterator[Database]:
    database = Database(location, size=6)
    database.check_role()
    yield database
    database.close()


def small_register(fleet: str, **changes: object) -> dict:
    """A ferry with one engine, drained every 500 h; dates end before TODAY."""
    drains = [{"unit": "MV Test", "compartment": "engine", "on": f"2025-{m:02d}-01", "meter": 1000 + 500 * i,
               "volume_out_l": 54, "level_missing_l": 2, "volume_in_l": 54, "oil": "Test 15W-40", "filter_changed": True, "magnet_grade": 1}
              for i, m in enumerate((1, 3, 5, 7, 9, 11))]  # fmt: skip
    document = {
        "fleet": fleet,
        "oils": [{"name": "Test 15W-40", "grade": "15W-40", "density_kg_l": 0.87, "v40": 105, "v100": 14.2, "bn": 10,
                  "an": 2, "si": 5, "oxidation": 8, "nitration": 5}],
        "units": [{"unit": "MV Test", "depot": "Quay", "model": "T1", "duty": "ferry", "meter_unit": "h",
                   "compartments": [{"compartment": "engine", "kind": "engine", "fuel": "diesel", "family": "T1 engine",
                                     "system_volume_l": 60, "capacity_l": 55, "capacity_without_filter_l": 53,
                                     "oil": "Test 15W-40", "interval_h": 500, "cap_h": 1000, "interval_days": 365}]}],
        "readings": [{"unit": "MV Test", "on": "2025-01-01", "meter": 1000},
                     {"unit": "MV Test", "on": "2025-12-15", "meter": 3650},
                     {"unit": "MV Test", "on": "2026-01-10", "meter": 3850}],
        "drains": drains, "top_ups": [],
    }  # fmt: skip
    return {**document, **changes}


HEADER = ("sample_no,unit,compartment,sampled_on,meter,oil_hours,oil,topup_l,drained,filter_changed,lab,received_on,"
          "reported_on,fe,cr,al,cu,pb,sn,si,na,k,v40,v100,bn,an,soot_pct,oxidation,nitration,fuel_pct,water_ppm")  # fmt: skip


def row(number: str, on: str, meter: float, hours: float, drained: bool = True, **values: float | str) -> str:
    """One line of a wide results file for MV Test's engine: healthy unless told otherwise."""
    h = hours
    cells = {"fe": 0.06 * h, "cr": 1.5, "al": 4, "cu": 6, "pb": 3, "sn": 1, "si": 5 + 0.008 * h, "na": 3, "k": 1,
             "v40": 105, "v100": 14.2, "bn": 10 - 0.006 * h, "an": 2 + 0.0018 * h, "soot_pct": 0.0018 * h,
             "oxidation": 8 + 0.015 * h, "nitration": 5 + 0.011 * h, "fuel_pct": 0.4, "water_ppm": 120}  # fmt: skip
    cells |= values  # type: ignore[arg-type]
    shown = [v if isinstance(v, str) else f"{v:.3f}" for v in cells.values()]
    unit = values.get("unit", "MV Test")
    shown = [s for k, s in zip(cells, shown, strict=True) if k != "unit"]
    flag = str(drained).lower()
    return f"{number},{unit},engine,{on},{meter},{hours},Test 15W-40,0,{flag},{flag},Lab A,{on},{on}," + ",".join(shown)


def healthy_rows() -> list[str]:
    days = ("2025-03-01", "2025-05-01", "2025-07-01", "2025-09-01", "2025-11-01")
    wobble = (1.0, 1.06, 0.95, 1.03, 0.97)
    out = []
    for i, (day, w) in enumerate(zip(days, wobble, strict=True)):
        out.append(row(f"S{i:03d}", day, 1500 + 500 * i, 500, bn=10 - 3.0 * w, oxidation=8 + 7.5 * w))
    return out


@pytest.fixture
def fleet(db: Database) -> str:
    """A small fleet with five healthy charges, evaluated; returns its name."""
    name = f"Fleet {next(_numbers)} {os.environ.get('PYTEST_XDIST_WORKER', 'alone')}"
    register.load(db, json.dumps(small_register(name)).encode(), by="test", today=TODAY)
    results.load(db, ("\n".join([HEADER, *healthy_rows()]) + "\n").encode(), fleet=name, name="start.csv", by="test")
    evaluate.evaluate(db, name, TODAY)
    return name


def set_prices(
    db: Database,
    fleet: str,
    currency: str,
    *,
    oil_per_l: float,
    filter: float,
    labour_per_h: float,
    sample: float,
    labour_h: float = 2.0,
    consequence: float,
) -> int:
    """A currency and one price list for the whole fleet; returns the fleet's id."""
    fleet_id = fleets.find(db, fleet)
    given = {
        "oil_per_l": oil_per_l,
        "filter": filter,
        "labour_h": labour_h,
        "labour_per_h": labour_per_h,
        "sample": sample,
        "consequence": consequence,
    }
    with db.fleet(fleet_id) as c:
        prices.set_currency(c, fleet_id, "t", currency)
        prices.put(c, fleet_id, "t", "fleet", "", TODAY, given)
    return fleet_id


def approve_seen(connection, fleet_id, compartment_id, meter, why, by, today, *, rests_on=None, **more):
    """Approve on what stands now, as somebody does who has the page open; ``rests_on`` where it is an older page."""
    seen = approval.asked(connection, compartment_id, today).stamp if rests_on is None else rests_on
    approval.approve(connection, fleet_id, compartment_id, meter, why, by, today, rests_on=seen, **more)


def start_seen(connection, fleet_id, compartment_id, length, why, by, today, *, rests_on=None, **more):
    """Begin a trial on what stands now."""
    seen = approval.asked(connection, compartment_id, today).stamp if rests_on is None else rests_on
    return trials.start(connection, fleet_id, compartment_id, length, why, by, today, rests_on=seen, **more)


@pytest.fixture
def fleet_name() -> str:
    return f"New fleet {next(_numbers)} {os.environ.get('PYTEST_XDIST_WORKER', 'alone')}"


class Served:
    """The application on a loopback port, in a thread."""

    def __init__(self, db: Database, demo: bool = True, port: int = 0, today: date = TODAY) -> None:
        import uvicorn

        from vornet.web.app import create_app

        with socket.socket() as s:
            s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            s.bind(("127.0.0.1", port))
            self.port = s.getsockname()[1]
        self.url = f"http://127.0.0.1:{self.port}"
        config = uvicorn.Config(create_app(db, today=today, demo=demo), port=self.port, log_level="error")
        self.server = uvicorn.Server(config)
        self.thread = threading.Thread(target=self.server.run, daemon=True)
        self.thread.start()
        deadline = time.monotonic() + 20
        while not self.server.started and time.monotonic() < deadline:
            time.sleep(0.02)

    def stop(self) -> None:
        self.server.should_exit = True
        self.server.force_exit = True
        self.thread.join(10)


class Working:
    """A worker on the queue, in a thread."""

    def __init__(self, db: Database) -> None:
        self.loop = asyncio.new_event_loop()
        self.task = self.loop.create_task(worker.work(db, TODAY, ask_every_s=3600, handle_signals=False))
        self.thread = threading.Thread(target=self._run, daemon=True)
        self.thread.start()

    def _run(self) -> None:
        with contextlib.suppress(asyncio.CancelledError):
            self.loop.run_until_complete(self.task)

    def stop(self) -> None:
        self.loop.call_soon_threadsafe(self.task.cancel)
        self.thread.join(10)


@pytest.fixture(scope="session")
def served(db: Database) -> Iterator[Served]:
    server, worker = Served(db), Working(db)
    yield server
    worker.stop()
    server.stop()


@pytest.fixture
def planner(db: Database, fleet: str) -> tuple[str, str]:
    """A planner's sign-in for ``fleet``."""
    login = f"planner{next(_numbers)}{os.environ.get('PYTEST_XDIST_WORKER', '')}"
    people.add(db, fleet, login, "Test Planner", "right-and-long", "planner")
    return login, "right-and-long"


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict:
    return {
        "executable_path": "/usr/bin/chromium",
        "args": ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-quic"],
    }


@pytest.fixture(scope="session")
def browser_context_args(browser_context_args: dict) -> dict:
    """Pages without what keeps them for where no signal is: only the tests of that need it, and every fresh browser would load it anew."""
    return {**browser_context_args, "service_workers": "block"}


def routes(app):
    """Every route, looked for in included routers too."""
    from fastapi.routing import APIRoute

    found, seen = [], set()

    def walk(items):
        for r in items:
            if isinstance(r, APIRoute):
                if id(r) not in seen:
                    seen.add(id(r))
                    found.append(r)
            else:
                for name in ("routes", "router", "original_router", "app"):
                    inner = getattr(r, name, None)
                    if inner is not None and not callable(getattr(inner, "__iter__", None)):
                        inner = getattr(inner, "routes", None)
                    if inner:
                        walk(inner)

    walk(app.routes)
    return found
