"""The ``vornet`` command. Errors are one plain sentence on stderr: exit 2 for bad input, 1 for failure."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, BinaryIO

import typer

from vornet.core.errors import InputError

if TYPE_CHECKING:
    from vornet.store.database import Connection, Database

app = typer.Typer(no_args_is_help=True, add_completion=False, pretty_exceptions_enable=False, help=__doc__)
import_app = typer.Typer(no_args_is_help=True, help="Take files in.")
export_app = typer.Typer(no_args_is_help=True, help="Give files out.")
fleet_app = typer.Typer(no_args_is_help=True, help="Fleets.")
user_app = typer.Typer(no_args_is_help=True, help="People.")
token_app = typer.Typer(no_args_is_help=True, help="Keys for programs.")
app.add_typer(import_app, name="import")
app.add_typer(export_app, name="export")
app.add_typer(fleet_app, name="fleet")
app.add_typer(user_app, name="user")
app.add_typer(token_app, name="token")

Fleet = Annotated[str | None, typer.Option("--fleet", help="Which fleet; needed when there are several.")]
AsJson = Annotated[bool, typer.Option("--json", help="Answer as JSON.")]
Today = Annotated[str | None, typer.Option("--today", help="Take this day (YYYY-MM-DD) for today.")]


def _say(text: str) -> None:
    typer.echo(text, err=True)


def _logged() -> None:
    """What goes wrong while serving or working goes to standard error, in UTC, without the values that were at hand."""
    import logging
    import time

    logging.Formatter.converter = time.gmtime
    logging.basicConfig(level=logging.WARNING, format="%(asctime)sZ %(levelname)s %(message)s")
    if os.environ.get("VORNET_LOG") == "json":
        from pythonjsonlogger.json import JsonFormatter

        shape = JsonFormatter("%(asctime)s %(levelname)s %(name)s %(message)s", rename_fields={"asctime": "at", "levelname": "level"})
        logging.getLogger().handlers[0].setFormatter(shape)
        logging.getLogger("vornet.request").setLevel(logging.INFO)


def _day(text: str | None) -> date:
    if text is None:
        return date.today()
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise InputError("--today", f"{text!r} is not a date like 2026-01-15") from None


def _day_of(db: Database, fleet: str | None, text: str | None) -> date:
    """The day that was given; else the fleet's own today."""
    from vornet.flows.house import days, fleets

    known = fleet is not None and fleet in fleets.names(db)
    return days.day_of(db, fleets.find(db, fleet)) if text is None and known and fleet else _day(text)


@contextmanager
def database() -> Iterator[Database]:
    """The database, migrated and ready."""
    from vornet.store.database import Database, locate, migrate

    location = locate()
    migrate(location)
    db = Database(location, size=4)
    try:
        yield db
    finally:
        db.close()


def _fleet(db: Database, name: str | None) -> str:
    from vornet.flows.house import fleets

    if name is None:
        return fleets.only(db)
    fleets.find(db, name)
    return name


def _read(path: str) -> bytes:
    try:
        return sys.stdin.buffer.read() if path == "-" else Path(path).read_bytes()
    except OSError as error:
        raise InputError(path, f"cannot be read: {error.strerror or error}") from None


@contextmanager
def _opened(path: str) -> Iterator[BinaryIO]:
    """A file to be read twice; what comes on stdin is put aside on disk first."""
    import shutil
    import tempfile

    try:
        if path == "-":
            file: BinaryIO = tempfile.TemporaryFile()  # noqa: SIM115 (closed below)
            shutil.copyfileobj(sys.stdin.buffer, file)
            file.seek(0)
        else:
            file = Path(path).open("rb")  # noqa: SIM115
    except OSError as error:
        raise InputError(path, f"cannot be read: {error.strerror or error}") from None
    with file:
        yield file


def _print(document: Any, indent: int | None = 1) -> None:
    typer.echo(json.dumps(document, ensure_ascii=False, indent=indent, allow_nan=False))


@app.command()
def calc(
    name: Annotated[str, typer.Argument(help="convert, carry-over, flush, refill, wear-rate, limits, trend, …")],
    lines: Annotated[bool, typer.Option("--lines", help="One JSON object a line, answered line by line.")] = False,
) -> None:
    """A calculator: JSON on stdin, JSON on stdout."""
    from vornet.flows.calc import command

    command.run(name, lines)


@app.command()
def migrate() -> None:
    """Bring the database up to date."""
    from vornet.store.database import locate
    from vornet.store.database import migrate as apply

    _say(f"{apply(locate())} migrations applied")


@import_app.command("register")
def import_register(path: str, fleet: Fleet = None, as_json: AsJson = False, today: Today = None) -> None:
    """Load or update a fleet from a register file (JSON, XLSX, ODS, CSV or ZIP of CSVs; - for JSON on stdin)."""
    from vornet.flows.register import register

    content = _read(path)
    with database() as db, _progress() as step:
        report = register.load(
            db, content, fleet=fleet, by="command line", today=_day_of(db, fleet, today), file=Path(path).name,
            progress=lambda what, rows: step(f"{rows:,} {what}"),
        )  # fmt: skip
        _settle(db, report.fleet, _day_of(db, report.fleet, today), step)
    if as_json:
        _print(report.as_dict())
    else:
        typer.echo(f"{report.fleet}: " + (", ".join(register.counts_text(report.counts)) or "nothing new"))
    _problems([str(p) for p in report.problems], report.left_out)


@import_app.command("results")
def import_results(
    path: str, fleet: Fleet = None, as_json: AsJson = False,
    lab: Annotated[str, typer.Option("--lab", help="The lab, where the file does not say.")] = "", today: Today = None,
) -> None:  # fmt: skip
    """Take a lab's results in (wide or long: CSV, TSV, XLSX, ODS, JSON; - for stdin). Text is streamed, never held whole."""
    from vornet.flows.lab import results

    with _opened(path) as content, database() as db, _progress() as step:
        name = _fleet(db, fleet)
        report = results.load(
            db, content, fleet=name, name=Path(path).name, by="command line", lab=lab,
            progress=lambda rows: step(f"{rows:,} rows"),
        )  # fmt: skip
        _settle(db, name, _day_of(db, name, today), step)
    if as_json:
        _print(report.as_dict())
    else:
        typer.echo(
            f"{report.fleet}: {report.rows:,} rows, {report.new:,} new, {report.same:,} already there, "
            f"{report.reissued:,} re-issued, {report.held_rows:,} held"
        )
    _problems([f"row {b.row_no}, {b.field}: {b.detail}" for b in report.held], report.notes)


def _settle(db: Database, fleet: str, today: date, step: Any) -> None:
    """Judge what a file touched; what would take long goes on the queue."""
    from vornet.flows.house import fleets
    from vornet.flows.judge import settle

    step("judging what the file touched")
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as connection:
        waiting = settle.settle(connection, fleet_id, today, settle.AT_ONCE_FILE)
    if waiting:
        _say(f"note: {waiting:,} compartments are to be judged: a worker does it, or vornet evaluate")


def _problems(problems: list[str], notes: list[str]) -> None:
    for text in notes:
        _say(f"note: {text}")
    for text in problems[:40]:
        _say(f"held: {text}")
    if len(problems) > 40:
        _say(f"held: and {len(problems) - 40:,} more (--json lists all)")


@contextmanager
def _progress() -> Iterator[Any]:
    """A line of progress on a terminal; nothing elsewhere."""
    if not sys.stderr.isatty():
        yield lambda text: None
        return
    from rich.console import Console

    console = Console(stderr=True)
    with console.status("working …") as status:
        yield lambda text: status.update(text)


@app.command()
def evaluate(
    fleet: Fleet = None, today: Today = None, as_json: AsJson = False,
    afresh: Annotated[bool, typer.Option(help="Work also what has not changed since the last time.")] = False,
) -> None:  # fmt: skip
    """Judge every sample and decide every interval, where anything has changed since the last time."""
    from vornet.flows.judge import evaluate as flow

    with database() as db, _progress() as step:
        name = _fleet(db, fleet)
        counts = flow.evaluate(db, name, _day_of(db, name, today), progress=step, afresh=afresh)
    if as_json:
        _print(counts)
    else:
        typer.echo(f"{name}: " + ", ".join(f"{counts[what]:,} {what}" for what in ("compartments", "samples", "held")))
        for a in counts["set_aside"]:
            typer.echo(f"set aside: {a['unit']} {a['compartment']}, whose history stopped the judgement ({a['trouble']})", err=True)


@import_app.command("fleet")
def import_fleet(file: str, name: Annotated[str, typer.Option("--as", help="Another name than its own.")] = "") -> None:
    """Read a whole fleet in from another installation's file, as a new fleet, and compare it row for row."""
    from vornet.store import fleet_file
    from vornet.store.database import locate
    from vornet.store.database import migrate as apply

    location = locate()
    apply(location)
    found = fleet_file.read(location, Path(file), name)
    typer.echo(f"{found.fleet}: {found.rows:,} rows of {len(found.tables)} tables, equal to what went out")
    typer.echo("People, tokens, calendar links and labs' keys stay with their installation: `vornet user add` lets somebody in.", err=True)


@import_app.command("list")
def import_list(path: str, fleet: Fleet = None, today: Today = None) -> None:
    """Take in a list of machines as its owner keeps it, in headings of its own; rows that are wrong wait in the Library."""
    from vornet.flows.house import fleets
    from vornet.flows.judge.settle import AT_ONCE_FILE, settling
    from vornet.flows.register import lists
    from vornet.io.list_rows import CellProblem

    def said(number: int, problem: CellProblem) -> str:
        return f"row {number}, {problem.heading}: {problem.why}" if problem.heading else f"row {number}: {problem.why}"

    with database() as db:
        chosen = _fleet(db, fleet)
        day, fleet_id = _day_of(db, chosen, today), fleets.find(db, chosen)
        with settling(db, fleet_id, day, AT_ONCE_FILE) as connection:
            made = lists.keep(connection, fleet_id, Path(path).name, _read(path), "command line")
            done = lists.take(connection, fleet_id, made, "command line", day)
    typer.echo(f"{chosen}: {done.good} of {len(done.sheet.rows)} rows in, {len(done.problems)} wait in the Library")
    _problems([said(n, p) for n, several in sorted(done.problems.items()) for p in several], done.found.said)


@export_app.command("fleet")
def export_fleet(out: Annotated[str, typer.Option("--out", help="Write to this file.")], fleet: Fleet = None) -> None:
    """A whole fleet (register, samples, verdicts, limits, intervals, pictures, audit trail) as one open file for another installation."""
    from vornet.store import fleet_file

    with database() as db:
        found = fleet_file.write(db.location, _fleet(db, fleet), Path(out))
    typer.echo(f"{out}: {found.rows:,} rows of {len(found.tables)} tables of {found.fleet}")


@export_app.command("register")
def export_register(
    fleet: Fleet = None, today: Today = None,
    layout: Annotated[str, typer.Option("--format", help="json, xlsx, csv (needs --table) or zip of CSVs")] = "json",
    table: Annotated[str, typer.Option("--table", help="Which table, with --format csv.")] = "",
    out: Annotated[str, typer.Option("--out", help="Write to this file; needed for xlsx and zip.")] = "",
    template: Annotated[bool, typer.Option("--template", help="An empty workbook with its columns explained.")] = False,
) -> None:  # fmt: skip
    """The whole register, in the shapes that import reads."""
    from vornet.flows.register import dump
    from vornet.io import workbook

    if layout not in ("json", "xlsx", "csv", "zip"):
        raise InputError("--format", f"{layout!r} is not json, xlsx, csv or zip")
    if layout in ("xlsx", "zip") and not out:
        raise InputError("--out", f"say where the {layout} file goes")
    if template:
        document: dict[str, Any] = {"fleet": fleet or ""}
    else:
        with database() as db:
            name = _fleet(db, fleet)
            document = dump.dump(db, name, _day_of(db, name, today))
    content: bytes | str
    if layout == "json":
        content = json.dumps(document, ensure_ascii=False, indent=1, allow_nan=False) + "\n"
    elif layout == "csv":
        content = workbook.as_csv(document, table)
    else:
        content = workbook.as_xlsx(document) if layout == "xlsx" else workbook.as_zip(document)
    if not out:
        typer.echo(content, nl=False)
        return
    try:
        Path(out).write_bytes(content.encode() if isinstance(content, str) else content)
    except OSError as error:
        raise InputError("--out", f"cannot be written: {error.strerror or error}") from None
    typer.echo(f"{out} written")


def _out(rows: list[dict[str, Any]], layout: str) -> None:
    from vornet.io import tables

    if layout == "json":
        _print(rows)
    elif layout == "csv":
        typer.echo(tables.as_csv(rows), nl=False)
    else:
        raise InputError("--format", f"{layout!r} is not json or csv")


Layout = Annotated[str, typer.Option("--format", help="json or csv")]


@export_app.command("judgements")
def export_judgements(fleet: Fleet = None, layout: Layout = "json") -> None:
    """Every sample with its proposed verdict, its evidence and its holds."""
    from vornet.flows.judge import judgements

    with database() as db:
        _out(judgements.judgements(db, _fleet(db, fleet)), layout)


@export_app.command("intervals")
def export_intervals(fleet: Fleet = None, layout: Layout = "json") -> None:
    """Every compartment's interval decision."""
    from vornet.flows.judge import judgements

    with database() as db:
        _out(judgements.intervals(db, _fleet(db, fleet)), layout)


@fleet_app.command("list")
def fleet_list() -> None:
    """The fleets there are."""
    from vornet.flows.house import fleets

    with database() as db:
        for name in fleets.names(db):
            typer.echo(name)


@fleet_app.command("delete")
def fleet_delete(name: str, yes: Annotated[bool, typer.Option("--yes", help="Really.")] = False) -> None:
    """Remove a fleet and everything in it."""
    from vornet.flows.house import fleets

    if not yes:
        raise InputError("--yes", f"is needed: this removes {name!r} and everything in it for good")
    with database() as db:
        fleets.delete(db, name)
    typer.echo(f"{name} removed")


@user_app.command("add")
def user_add(
    login: str,
    fleet: Fleet = None,
    role: Annotated[list[str] | None, typer.Option("--role", help="technician, planner, analyst, manager, admin or viewer; may be given "
                                                   "several times.")] = None,
    name: Annotated[str, typer.Option("--name", help="Name as shown.")] = "",
) -> None:  # fmt: skip
    """Let someone in; the password is asked for (or read from stdin). Who has a sign-in already keeps name and password."""
    from vornet.flows.house import people

    password = typer.prompt("Password", hide_input=True) if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
    with database() as db:
        new = people.add(db, _fleet(db, fleet), login, name or login, password, *(role or ["viewer"]))
    typer.echo(f"{login} may sign in" if new else f"{login} had a sign-in already and keeps its password; joined the fleet")


def _member(connection: Connection, login: str, fleet: str) -> dict[str, Any]:
    from vornet.flows.house import people

    for member in people.members(connection):
        if member["login"] == login.strip().lower():
            return member
    raise InputError("login", f"{login!r} is not in {fleet}")


@user_app.command("link")
def user_link(login: str, fleet: Fleet = None) -> None:
    """Make a link by which someone chooses a new password; it works once, for two days."""
    from vornet.flows.house import fleets, installation, links

    with database() as db:
        chosen = _fleet(db, fleet)
        fleet_id = fleets.find(db, chosen)
        with db.fleet(fleet_id) as connection:
            member = _member(connection, login, chosen)
            token = links.make_password_link(connection, fleet_id, member["account_id"], member["login"], "command line")
    typer.echo(f"{installation.address()}/password/{token}")


@user_app.command("second-factor-off")
def user_second_off(login: str, fleet: Fleet = None) -> None:
    """Take a lost second factor off someone who is in this fleet alone."""
    from vornet.flows.house import fleets, second_factor

    with database() as db:
        chosen = _fleet(db, fleet)
        fleet_id = fleets.find(db, chosen)
        with db.fleet(fleet_id) as connection:
            second_factor.take_off(connection, fleet_id, "command line", _member(connection, login, chosen)["account_id"])
    typer.echo(f"{login} signs in with the password alone")


@app.command()
def check(
    fleet: Fleet = None, as_json: AsJson = False,
    seen: Annotated[str, typer.Option("--seen", help="NUMBER:HASH of the audit trail as noted before; needs one fleet.")] = "",
) -> None:  # fmt: skip
    """Look whether what is kept is whole: the audit trail's chain, every table's policy. Exit 1 when something is not."""
    from dataclasses import asdict

    from vornet.flows.house import health

    with database() as db:
        found = health.look(db, _fleet(db, fleet) if fleet or seen else None, seen)
    if as_json:
        _print([asdict(f) for f in found])
    else:
        for f in found:
            typer.echo(f"{'good ' if f.good else 'WRONG'} {f.about}: {f.said}")
    if not all(f.good for f in found):
        raise typer.Exit(1)


@token_app.command("add")
def token_add(
    login: str, name: Annotated[str, typer.Option("--name", help="What the token is for.")],
    scopes: Annotated[list[str], typer.Option("--scope", help="read, work, import, register or decide; may be given several times.")],
    fleet: Fleet = None, days: Annotated[int, typer.Option("--days", help="How long it lasts.")] = 90,
) -> None:  # fmt: skip
    """Make an API token for a program; it is printed once."""
    from vornet.flows.house import fleets, tokens

    with database() as db:
        chosen = _fleet(db, fleet)
        fleet_id = fleets.find(db, chosen)
        with db.fleet(fleet_id) as connection:
            member = _member(connection, login, chosen)
            token = tokens.make(connection, fleet_id, member["account_id"], "command line", name, scopes, days)
    typer.echo(token)


@app.command()
def serve(
    host: str = "127.0.0.1", port: int = 8460, today: Today = None,
    demo: Annotated[bool, typer.Option("--demo", help="Show demo sign-ins on the sign-in page.")] = False,
    worker: Annotated[bool, typer.Option(help="Work on the queue beside serving; without, run `vornet worker` elsewhere.")] = True,
) -> None:  # fmt: skip
    """Serve the application, with a worker beside it."""
    from vornet.flows.house import first_run, installation
    from vornet.web import server

    installation.check()
    with database() as db:
        db.check_role()
        code = first_run.code(db)
    if code:
        base = installation.address() or f"http://{host}:{port}"
        typer.echo(f"Nobody has a sign-in yet: {base}/set-up?code={code} makes the first fleet and its admin.")
    beside = [["worker", *(["--today", today] if today else [])]] if worker else []
    _logged()
    server.run(host, port, today=_day(today) if today else None, demo=demo, beside=beside)


WithParent = Annotated[bool, typer.Option("--with-parent", hidden=True, help="End when standard input closes.")]


def _end_with_parent() -> None:
    """Leave when whoever started this process is gone."""
    import os
    import threading

    def watch() -> None:
        while os.read(0, 4096):
            pass
        os._exit(0)

    threading.Thread(target=watch, daemon=True).start()


@app.command()
def worker(
    today: Today = None, with_parent: WithParent = False,
    ask_every: Annotated[float, typer.Option("--ask-every", help="Ask the labs every so many seconds.")] = 30.0,
    once: Annotated[bool, typer.Option("--once", help="Ask the labs, work until the queue is empty, and stop.")] = False,
) -> None:  # fmt: skip
    """Work in the background: read files in, ask labs, watch drop folders. As many as you like may run."""
    import asyncio

    from vornet.flows import worker
    from vornet.web import week_paper

    if with_parent:
        _end_with_parent()
    day = _day(today) if today else None
    _logged()
    with database() as db:
        db.check_role()
        if once:
            worker.ask_everyone(db, day)
        asyncio.run(worker.work(db, day, ask_every_s=ask_every, wait=not once, week_pdf=week_paper.week_pdf))


@app.command("mail-sim")
def mail_sim(
    port: int = 8464, with_parent: WithParent = False,
    page: Annotated[int, typer.Option("--page", help="Where what came in is shown.")] = 8465,
) -> None:  # fmt: skip
    """The mail server that ships with Vornet: it takes what is sent to anybody, keeps it, and shows it on a page."""
    from vornet.sim import post

    if with_parent:
        _end_with_parent()
    post.serve(port, page)


@app.command("lab-sim")
def lab_sim(
    port: int = 8462, with_parent: WithParent = False,
    delay: Annotated[float, typer.Option("--delay", help="Seconds from a parcel's arrival to its report.")] = 40.0,
    mistakes: Annotated[float, typer.Option("--mistakes", help="Share of bottles that something goes wrong with.")] = 0.08,
    reissues: Annotated[float, typer.Option("--reissues", help="Share of reports that are issued again.")] = 0.2,
    start: Annotated[str | None, typer.Option("--start", help="First day of the simulated history.")] = None,
) -> None:  # fmt: skip
    """The lab that ships with Vornet: it takes parcels over HTTP and answers with reports."""
    import uvicorn

    from vornet.sim import demo as demo_fleet
    from vornet.sim import lab
    from vornet.store.database import clone_dir

    if with_parent:
        _end_with_parent()
    if not (delay >= 0 and 0 <= mistakes <= 1 and 0 <= reissues <= 1):
        raise InputError("lab-sim", "a delay of 0 or more; shares from 0 to 1")
    bench = lab.Bench(clone_dir() / ".local" / "lab-sim", lab.Clock(delay / 3, delay), _day(start), demo_fleet.SEED, mistakes, reissues)
    uvicorn.run(lab.create_app(bench), host="127.0.0.1", port=port, log_level="warning", access_log=False)


@app.command()
def demo(
    port: int = 8460, until: Annotated[str | None, typer.Option("--until", help="Simulate to this day.")] = None,
    no_serve: Annotated[bool, typer.Option("--no-serve", help="Load and stop.")] = False,
    lab_delay: Annotated[float, typer.Option("--lab-delay", help="Seconds the lab takes.")] = 40.0,
) -> None:  # fmt: skip
    """Load the demo fleet (or carry it on to today) and serve it, with a worker and a lab beside it."""
    from vornet.sim import demo as demo_fleet
    from vornet.web import server

    day = _day(until)
    lab_port = port + 2
    with database() as db, _progress() as step:
        db.check_role()
        logins = demo_fleet.load(db, day, progress=step, lab_address=f"http://127.0.0.1:{lab_port}")
        start = demo_fleet.first_day(db)
    if no_serve:
        return
    typer.echo(f"\nVornet is at http://127.0.0.1:{port}  (Ctrl-C stops it); its mail at http://127.0.0.1:{port + 5}\nDemo sign-ins:")
    for login, password, role in logins:
        typer.echo(f"  {login:<12} {password:<12} {role}")
    os.environ["VORNET_PRIVATE_LABS"] = "1"  # the demo's own lab is on this machine
    lab_command = ["lab-sim", "--port", str(lab_port), "--delay", str(lab_delay), "--start", start.isoformat()]
    os.environ.setdefault("VORNET_SMTP", f"127.0.0.1:{port + 4}")
    mail_command = ["mail-sim", "--port", str(port + 4), "--page", str(port + 5)]
    worker_command = ["worker", "--ask-every", "10", *(["--today", until] if until else [])]
    _logged()
    server.run("127.0.0.1", port, today=day if until else None, demo=True, beside=[lab_command, mail_command, worker_command])


PassFile = Annotated[str, typer.Option("--passphrase-file", help="A file whose first line is the passphrase; VORNET_BACKUP_PASSPHRASE else.")]


def _passphrase(path: str) -> str:
    import os

    if not path:
        return os.environ.get("VORNET_BACKUP_PASSPHRASE", "")
    lines = _read(path).decode("utf-8", "replace").splitlines()
    if not lines or not lines[0].strip():
        raise InputError("passphrase", f"{path} has none on its first line")
    return lines[0].strip()


@app.command()
def backup(
    to: str, passphrase_file: PassFile = "",
    keep: Annotated[str, typer.Option("--keep", help="In a folder: how many days, weeks and months to keep, as 7,5,12.")] = "",
) -> None:  # fmt: skip
    """Write the whole installation into one new file, or into a folder under the day's name; with a passphrase it is sealed."""
    from pathlib import Path

    from vornet.store import backup as backups
    from vornet.store.database import locate

    counts = [int(n) for n in keep.split(",")] if keep and all(n.isdigit() for n in keep.split(",")) else []
    if keep and (len(counts) != 3 or not Path(to).is_dir()):
        raise InputError("keep", "three whole numbers (days, weeks, months), and a folder to keep them in")
    found = backups.write(locate(), Path(to), _passphrase(passphrase_file), said=_say)
    how = "sealed" if found.sealed else "not sealed: whoever has the file can read everything, keys too"
    typer.echo(f"{found.path}: {found.bytes:,} bytes, {found.rows:,} rows of {found.tables} tables, {how}")
    for gone in backups.tidy(Path(to), *counts) if keep else ():
        typer.echo(f"let go: {gone.name}")


@app.command()
def restore(file: str, passphrase_file: PassFile = "") -> None:
    """Read a backup into an empty installation and compare it row for row; nothing is ever laid over what is there."""
    from pathlib import Path

    from vornet.store import backup as backups
    from vornet.store.database import locate

    found = backups.restore(locate(), Path(file), _passphrase(passphrase_file), _say)
    rows = sum(t["rows"] for t in found["tables"].values())
    typer.echo(f"{rows:,} rows of {len(found['tables'])} tables came back as they were on {found['made_at'][:16].replace('T', ' ')} UTC")


@app.command()
def secret() -> None:
    """Print a new key for VORNET_SECRET, with which labs' keys are kept."""
    from cryptography.fernet import Fernet

    typer.echo(Fernet.generate_key().decode())


@app.command()
def stop() -> None:
    """Stop the private database server."""
    from vornet.store import cluster
    from vornet.store.database import clone_dir

    typer.echo("stopped" if cluster.stop(clone_dir()) else "was not running")


def _sentence(error: Exception) -> tuple[str, int] | None:
    """What an expected failure says on stderr, and its exit status; None for one that nobody expects."""
    if isinstance(error, InputError):
        return str(error), 2
    if isinstance(error, BrokenPipeError):
        return "", 1
    kind = type(error)
    if kind.__name__ in ("ClusterError", "StoreError"):
        return str(error), 1
    if any(c.__module__.startswith("psycopg") for c in kind.__mro__):  # known only where it was loaded
        return f"the database refused: {str(error).strip().splitlines()[0]}", 1
    if hasattr(error, "format_message"):  # usage errors of the command line itself
        return str(error.format_message()), 2
    return None


def main() -> None:
    """Run the command; turn every expected error into one sentence."""
    try:
        app(standalone_mode=False)
    except typer.Abort:
        raise SystemExit(1) from None
    except Exception as error:
        said = _sentence(error)
        if said is None:
            raise
        if said[0]:
            _say(f"vornet: {said[0]}")
        raise SystemExit(said[1]) from None
    raise SystemExit(0)
