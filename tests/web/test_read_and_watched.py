"""What people read (served here, its examples true) and what watches ask (ready, figures, logs); searching as people type."""

import io
import json
import logging
import re
import shlex

import pytest
import typer.main
from fastapi.testclient import TestClient
from pythonjsonlogger.json import JsonFormatter

from conftest import TODAY
from vornet import cli
from vornet.flows.house import fleets
from vornet.flows.pages import board
from vornet.flows.register import units
from vornet.store.database import clone_dir
from vornet.web.app import create_app
from vornet.web.server import DIST

GUIDE = clone_dir() / "docs"
COMMANDS = typer.main.get_command(cli.app)


@pytest.fixture
def client(db, planner):
    made = TestClient(create_app(db, today=TODAY), follow_redirects=True, client=("127.0.0.1", 50000))
    made.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    return made


def test_what_is_read_is_served_without_signing_in_and_without_a_network(db):
    stranger = TestClient(create_app(db, today=TODAY))
    page = stranger.get("/docs/")
    assert page.status_code == 200 and "First steps" in page.text
    for name in ("technician", "analyst", "planner", "manager", "howto", "words", "commands", "api", "running"):
        text = stranger.get(f"/docs/guide/{name}/").text
        assert "<h1" in text, name
        assert not re.findall(r'(?:src|href)="(?:https?:)?//', text), "nothing is loaded from elsewhere"
    assert stranger.get("/docs/nowhere/").status_code == 404


def test_every_link_between_the_pages_leads_somewhere():
    built = DIST / "docs"
    broken = []
    for page in built.rglob("*.html"):
        for href in re.findall(r'href="([^"#]+)', page.read_text()):
            if href.startswith(("/", "http", "mailto")) or (".." in href and "src/" in href):
                continue
            to = (page.parent / href).resolve()
            if not (to.exists() or (to / "index.html").exists()) and not href.endswith((".py", ".sql", "tests/", "LICENSE")):
                broken.append((str(page.relative_to(built)), href))
    guide = [b for b in broken if b[0].startswith("guide") or b[0] == "index.html"]
    assert guide == []


def _known(words):
    """The command that words name, with its parameters."""
    found = COMMANDS
    while words and hasattr(found, "commands") and words[0] in found.commands:
        found, words = found.commands[words[0]], words[1:]
    return found, words


def test_every_command_that_is_told_exists_with_its_options_and_none_is_left_out():
    text = "\n".join(p.read_text() for p in [*GUIDE.rglob("*.md"), clone_dir() / "README.md"])
    for told in re.findall(
        r"vornet ((?:[a-z][a-z-]+)(?: [^`\n|]*)?)", "\n".join(re.findall(r"`([^`\n]+)`|\.venv/bin/(vornet .*)", text).__str__().split("'"))
    ):
        words = told.split("#")[0].split()
        found, rest = _known(words)
        assert found is not COMMANDS, told
        options = {o for p in found.params for o in [*p.opts, *p.secondary_opts]} | {"--help"}
        assert {w.split("=")[0] for w in rest if w.startswith("--")} <= options, told
    page = (GUIDE / "guide" / "commands.md").read_text()
    names = {f"{a} {b}" for a, c in COMMANDS.commands.items() if hasattr(c, "commands") for b in c.commands}
    names |= {a for a, c in COMMANDS.commands.items() if not hasattr(c, "commands")}
    assert [n for n in sorted(names) if f"`vornet {n}`" not in page] == []


def test_the_calculator_s_example_runs(capsys, monkeypatch):
    line = re.search(r"```console\n\$ (.*)\n", (GUIDE / "guide" / "commands.md").read_text())[1]
    given, _, command = line.partition(" | vornet ")
    monkeypatch.setattr("sys.stdin", io.TextIOWrapper(io.BytesIO(shlex.split(given)[1].encode())))
    COMMANDS(shlex.split(command), standalone_mode=False)
    # 62 N·m in lbf·ft: NIST SP 811 (2008), appendix B, 1 lbf·ft = 1.355 817 948 331 4 N·m
    assert json.loads(capsys.readouterr().out)["value"] == pytest.approx(45.728853, abs=1e-5)


def test_the_api_s_examples_answer(client):
    block = re.search(r"```http\n(.*?)```", (GUIDE / "guide" / "api.md").read_text(), re.S)[1]
    asked = block.split()
    assert len(asked) >= 10
    for method, path in zip(asked[::2], asked[1::2], strict=True):
        assert client.request(method, path).status_code == 200, path


def test_every_setting_that_the_code_reads_is_in_the_one_table():
    page = (GUIDE / "guide" / "running.md").read_text().replace("`VORNET_OIDC_ISSUER`, `_CLIENT`, `_SECRET`, `_NAME`", " ".join(
        f"VORNET_OIDC_{x}" for x in ("ISSUER", "CLIENT", "SECRET", "NAME")))  # fmt: skip
    code = "\n".join(p.read_text() for p in (clone_dir() / "src" / "vornet").rglob("*.py"))
    read = set(re.findall(r'"((?:VORNET|DATABASE)_[A-Z_]*[A-Z])"', code))
    assert {name for name in read if name not in page} - {"VORNET_OIDC_"} == set()


def test_ready_says_whether_the_database_answers(db, client):
    assert client.get("/ready").json() == {"ready": True}

    class Gone:
        def anyone(self):
            from psycopg import OperationalError

            raise OperationalError("gone")

    app = create_app(db, today=TODAY)
    app.state.db = Gone()
    answer = TestClient(app).get("/ready")
    assert answer.status_code == 503 and answer.json()["ready"] is False


def test_figures_are_told_in_the_usual_format_to_this_machine_or_with_a_token(client, monkeypatch):
    client.get("/library")
    text = client.get("/metrics").text
    assert re.search(r'vornet_requests_total\{method="GET",route="/library",status="200"\} [1-9]', text)
    assert "vornet_request_seconds_bucket" in text and 'vornet_queue_jobs{state="todo"}' in text
    assert client.get("/metrics", headers={"X-Forwarded-For": "203.0.113.5"}).status_code == 403
    monkeypatch.setenv("VORNET_METRICS_TOKEN", "watch-me")
    assert client.get("/metrics").status_code == 403
    assert client.get("/metrics", headers={"Authorization": "Bearer watch-me"}).status_code == 200


def test_a_request_is_logged_as_one_object_without_what_was_in_it(client):
    out = io.StringIO()
    handler = logging.StreamHandler(out)
    handler.setFormatter(JsonFormatter("%(message)s"))
    log = logging.getLogger("vornet.request")
    log.addHandler(handler)
    log.setLevel(logging.INFO)
    try:
        client.get("/find?q=secret-word")
    finally:
        log.removeHandler(handler)
        log.setLevel(logging.NOTSET)
    told = json.loads(out.getvalue().splitlines()[-1])
    assert (told["method"], told["route"], told["status"]) == ("GET", "/find", 200) and told["ms"] >= 0 and told["account"]
    assert "secret-word" not in out.getvalue()


@pytest.mark.parametrize("q", ["HX-7788", "hx-77", "vn 12", "GRUSSGERAT", "grußgerät", "S000", "s00"])
def test_units_are_found_by_serial_plate_and_letters_and_samples_by_how_their_number_begins(db, fleet, q):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        c.execute('UPDATE unit SET name = \'Grußgerät\', facts = \'{"serial": "HX-7788", "plate": "VN 12"}\'')
        found = board.find(c, q)
        if q.lower().startswith("s0"):
            assert bool(found and found[0]["kind"] == "sample") == (len(q) > 3)
            return
        assert any("Grußgerät" in f["text"] for f in found)
        assert units.listing(c, units.Wanted(q=q))["rows"]
