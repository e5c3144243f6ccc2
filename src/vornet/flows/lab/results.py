"""Results in: a lab's file goes in row by row; what cannot be believed or placed is held with its reason.

Sample identity is fleet + lab + sample number. Equal content changes nothing, a later ``reported_on``
supersedes, another unit or date under the same number is held. The file is kept as it came.
"""

from __future__ import annotations

import contextlib
import gc
import hashlib
import io
import json
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import date
from typing import Any, BinaryIO

import psycopg

from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge.settle import AT_ONCE_FILE, settling
from vornet.flows.lab import files, labs
from vornet.flows.lab.placing import Batch, cells, places_in, prepare
from vornet.flows.lab.results_report import MOST_LISTED, ResultsReport
from vornet.io import lab_header, results_file
from vornet.io.cells import read_date
from vornet.io.results_file import BadRow, NeedsMapping, ResultsFile
from vornet.store import queue
from vornet.store.database import Connection, Database, Location, opened, query


def load(
    db: Database,
    content: bytes | BinaryIO,
    *,
    fleet: str,
    name: str,
    by: str,
    lab: str = "",
    progress: Callable[[int], None] = lambda rows: None,
) -> ResultsReport:
    """Take a results file in at once. Raises InputError, with nothing written, when it cannot be read at all.

    ``content`` as a stream must be able to seek; it is read twice and never whole where it is text.
    """
    fleet_id = fleets.find(db, fleet)
    source = io.BytesIO(content) if isinstance(content, bytes) else content
    report = ResultsReport(fleet, name)
    with db.fleet(fleet_id) as connection:
        kept = files.keep(connection, fleet_id, source, name=name, lab=lab, by=by, state="reading")
        source.seek(0)
        report.import_file_id = kept.import_file_id
        read_in(connection, fleet_id, source, report, lab=lab, by=by, progress=progress, known=kept.known)
        if kept.known and not (report.new or report.reissued):
            report.import_file_id = None
    return report


def read_in(
    connection: Connection,
    fleet_id: int,
    source: BinaryIO,
    report: ResultsReport,
    *,
    lab: str,
    by: str,
    progress: Callable[[int], None] = lambda rows: None,
    known: bool = False,
    all_mapped: bool = False,
) -> None:
    """Read a kept file in, inside one transaction; ``report`` names the file and is filled.

    ``all_mapped``: every heading must be known, or have been explained once (raises NeedsMapping).
    """
    file = results_file.open_file(source, labs.meanings(connection, lab))
    if all_mapped and file.header.unknown:
        raise NeedsMapping("header", "columns that nobody has explained yet: " + ", ".join(file.header.unknown[:20]))
    if file.header.unknown:
        report.notes.append("columns not recognised: " + ", ".join(file.header.unknown[:20]))
    report.notes += file.header.problems
    connection.execute(query("results.staging"))
    places = places_in(connection)
    names = file.header.names
    # one chunk is stored while the next is read and packed; the connection is used by one thread at a time
    with ThreadPoolExecutor(1) as store, _cells_only():
        pending: Future[None] | None = None
        for chunk in results_file.chunks(file):
            batch = prepare(chunk, places, lab, report, names)
            if pending is not None:
                pending.result()
            pending = store.submit(_store, connection, fleet_id, batch, by, report, names)
            progress(report.rows)
        if pending is not None:
            pending.result()
    _touch(connection, fleet_id, report)
    report.held.sort(key=lambda b: b.row_no)
    if not report.rows:
        raise InputError("file", "has a header but no rows")
    connection.execute(query("results.resolve_rows"), {"by": by})
    labs.note(connection, fleet_id, report.labs, by)
    if known and not (report.new or report.reissued):
        return
    connection.execute(
        query("results.finish_file"),
        {"import_file_id": report.import_file_id, "layout": file.layout, "reading": file.reading, "rows_in": report.rows,
         "rows_new": report.new, "rows_same": report.same, "rows_reissued": report.reissued, "rows_held": report.held_rows,
         "notes": report.notes},
    )  # fmt: skip
    fleets.took_in(connection, report.new + report.reissued + report.held_rows)
    if report.new or report.reissued or report.held_rows:
        fleets.audit(
            connection, fleet_id, by, "results imported", report.file, rows=report.rows, new=report.new,
            reissued=report.reissued, held=report.held_rows,
        )  # fmt: skip


@contextlib.contextmanager
def _cells_only() -> Iterator[None]:
    """Millions of cells, none of which points back at another: looking for circles among them, as often as their number asks for, takes
    a fifth of the reading."""
    usual = gc.get_threshold()
    gc.set_threshold(max(usual[0], 200_000), max(usual[1], 20), max(usual[2], 20))
    try:
        yield
    finally:
        gc.set_threshold(*usual)


def _store(connection: Connection, fleet_id: int, batch: Batch, by: str, report: ResultsReport, names: list[str]) -> None:
    """Stage a batch and let the database sort new from known, re-issued and contradicting."""
    chunk = batch.chunk
    with connection.cursor() as cursor, cursor.copy(query("results.copy_staging")) as copy:
        copy.write(batch.packed)
    parameters = {"fleet_id": fleet_id, "import_file_id": report.import_file_id, "by": by}
    try:  # most of what comes is new: only where a number is known already is looked at what becomes of each row
        with connection.transaction():
            report.new += connection.execute(query("results.insert_new"), parameters).rowcount
        report.compartments |= batch.compartments
    except psycopg.errors.UniqueViolation:
        _sort_out(connection, batch, parameters, report, names)
        report.new += connection.execute(query("results.insert_new"), parameters).rowcount
        report.compartments |= {r["compartment_id"] for r in connection.execute(query("results.touched")).fetchall()}
    connection.execute(query("results.empty_staging"))
    report.rows += len(chunk.row_no) + len(chunk.bad)
    report.held_rows += len(batch.held)
    report.held += batch.held[: max(MOST_LISTED - len(report.held), 0)]
    _keep_held(connection, fleet_id, report.import_file_id, batch.held)


def _sort_out(connection: Connection, batch: Batch, parameters: dict[str, Any], report: ResultsReport, names: list[str]) -> None:
    """What becomes of staged rows whose number is known: the same again, re-issued, read again, or held as contradicting."""
    connection.execute(query("results.fates"), parameters)
    words = {
        "number_twice": "is already in row {known_row}",
        "other_unit": "is already used for {known_unit} {known_compartment}",
        "other_date": "is already used for a sample of {known_on}",
        "contradicts": "is already there with other values, and this report is not newer",
    }
    for r in connection.execute(query("results.contradicting")).fetchall():
        i = batch.positions[r["row_no"]]
        detail = f"sample number {batch.chunk.text['sample_no'][i]} " + words[r["fate"]].format(**r)
        batch.held.append(BadRow(r["row_no"], "sample_no", r["fate"], detail, cells(batch.chunk, i, names)))
    for r in connection.execute(query("results.count_fates")).fetchall():
        if r["fate"] == "same":
            report.same += r["n"]
        elif r["fate"] in ("reissued", "reread"):
            report.reissued += r["n"]
    connection.execute(query("results.supersede"), parameters)
    connection.execute(query("results.enact"), parameters)


def _keep_held(connection: Connection, fleet_id: int, import_file_id: int | None, held: list[BadRow]) -> None:
    """Keep held rows with their original text, each once."""
    rows = []
    for b in held:
        try:
            header = lab_header.read_header(list(b.original)) if b.original else None
        except InputError:  # headings that only this lab's mapping explains
            header = None

        def cell(name: str, b: BadRow = b, header: lab_header.Header | None = header) -> str:
            at = header.context.get(name) if header else None
            return "" if at is None else list(b.original.values())[at].strip()

        try:
            day = read_date(cell("sampled_on"))
        except ValueError:
            day = None
        original = json.dumps(b.original).replace("\\u0000", "")
        rows.append(
            {
                "fleet_id": fleet_id, "import_file_id": import_file_id, "row_no": b.row_no, "reason": b.reason,
                "field": b.field, "detail": b.detail.replace("\x00", ""), "sample_no": cell("sample_no")[:80],
                "lab": cell("lab"), "unit_name": cell("unit")[:120], "compartment_name": cell("compartment")[:120],
                "sampled_on": day, "original": original, "digest": hashlib.sha256(original.encode()).digest(),
            }
        )  # fmt: skip
    if not rows:
        return
    with connection.cursor() as cursor:
        try:
            cursor.executemany(query("results.hold_row"), rows)
        except psycopg.DataError as error:
            raise InputError("file", f"holds text that cannot be kept: {error}") from None


def _touch(connection: Connection, fleet_id: int, report: ResultsReport) -> None:
    if report.new_oil:
        queue.touch_everything(connection)
    else:
        queue.touch(connection, fleet_id, report.compartments)


def load_and_judge(location: Location, content: bytes, *, fleet: str, name: str, by: str, lab: str, today: date) -> dict[str, Any]:
    """Take a results file in and judge what it touched; for a process of its own, which opens the database by itself."""
    with opened(location) as db:
        report = load(db, content, fleet=fleet, name=name, by=by, lab=lab)
        with settling(db, fleets.find(db, fleet), today, AT_ONCE_FILE):
            return report.as_dict()


def read_again(db: Database, fleet_id: int, import_file_id: int, by: str) -> ResultsReport | None:
    """Read a kept file once more: units registered or headings explained since may have made room for its rows."""
    with db.fleet(fleet_id) as reading, db.fleet(fleet_id) as connection:
        file = connection.execute(query("results.file"), {"import_file_id": import_file_id}).fetchone()
        if file is None or file["layout"] == "register":
            return None
        report = ResultsReport("", file["name"], import_file_id)
        source = files.stream(reading, import_file_id)
        read_in(connection, fleet_id, source, report, lab=file["lab"], by=by, known=True)
    return report


def retry(db: Database, fleet: str, by: str) -> list[ResultsReport]:
    """Read every file with waiting rows once more."""
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as connection:
        waiting = [r["import_file_id"] for r in connection.execute(query("results.held_files")).fetchall()]
    return [report for f in waiting if (report := read_again(db, fleet_id, f, by)) is not None]


def take_row(
    connection: Connection, fleet_id: int, file: ResultsFile, *, import_file_id: int, lab: str, by: str, force: bool
) -> ResultsReport:
    """Take one row in as a person corrected it. ``force``: it supersedes the sample that has its number.

    Raises InputError with the reason when it still cannot go in.
    """
    report = ResultsReport("", "", import_file_id)
    connection.execute(query("results.staging"))
    names = file.header.names
    chunk = next(results_file.chunks(file))
    if chunk.bad:
        raise InputError(chunk.bad[0].field, chunk.bad[0].detail)
    batch = prepare(chunk, places_in(connection), lab, report, names)
    if batch.held:
        raise InputError(batch.held[0].field, batch.held[0].detail)
    if force:
        connection.execute(query("results.make_room"), {"sample_no": chunk.text["sample_no"][0], "lab": chunk.text["lab"][0] or lab})
    _store(connection, fleet_id, batch, by, report, names)
    if report.held:
        raise InputError(report.held[0].field, report.held[0].detail)
    report.numbers = set(chunk.text["sample_no"])
    _touch(connection, fleet_id, report)
    if force:
        connection.execute(query("results.room_made"), {"sample_no": chunk.text["sample_no"][0], "lab": chunk.text["lab"][0] or lab})
    return report
