"""The lab's inbox: files, rows that wait, samples that are held, and what people decide about them."""

from __future__ import annotations

import csv
import io
import json
from datetime import date
from typing import Any, BinaryIO

from vornet.core.checks import CHECKS, ROW_REASONS
from vornet.core.errors import InputError
from vornet.core.measurands import INDEX, KEYS, MEASURANDS
from vornet.flows.house import fleets
from vornet.flows.judge.settle import AT_ONCE_FILE, settling
from vornet.flows.lab import files, labs
from vornet.flows.register import register
from vornet.flows.register.register import RegisterReport
from vornet.io import lab_header, lab_table, results_file
from vornet.io.lab_header import Meaning
from vornet.store import queue
from vornet.store.database import Connection, Database, Location, opened, query
from vornet.words.say import say

MOST_SHOWN = 200


def inbox(connection: Connection) -> dict[str, Any]:
    """Everything that waits for a person, newest first, and the newest files."""
    holds = connection.execute(query("results.holds"), {"limit": MOST_SHOWN, "hold_id": None}).fetchall()
    for h in holds:
        h["check"] = CHECKS.get(h["reason"])
    rows = connection.execute(query("results.held_rows"), {"import_file_id": None, "limit": MOST_SHOWN}).fetchall()
    for r in rows:
        r["check"] = ROW_REASONS.get(r["reason"], (r["reason"].replace("_", " "), ""))
        r["cells"] = _in_order(r["original"], r["field"])
    counts = connection.execute(query("labs.waiting_counts")).fetchone()
    files = connection.execute(query("results.files"), {"limit": 40}).fetchall()
    return {"holds": holds, "rows": rows, "files": files, "counts": counts}


def _in_order(original: dict[str, str], field: str) -> tuple[list[tuple[str, str, bool]], list[tuple[str, str, bool]]]:
    """A held row's cells as (heading, text, wrong): what places the sample and what is wrong first, the rest apart."""
    order = {k: i for i, k in enumerate(lab_header.CONTEXT)} | {k: 100 + i for i, k in enumerate(KEYS)}
    means = {name: lab_header.context_of(name) or lab_header.measurand_of(name) for name in original}
    wrong = {name for name in original if field in (name, means[name])}
    cells = sorted(original, key=lambda n: (n not in wrong, order.get(means[n] or "", 999)))
    near = [n for n in cells if n in wrong or means[n] in lab_header.CONTEXT[:8]]
    return [(n, original[n], n in wrong) for n in near], [(n, original[n], False) for n in cells if n not in near]


def file_page(connection: Connection, import_file_id: int) -> dict[str, Any] | None:
    """One file: what became of its rows, and the headings that nobody has explained yet."""
    file = connection.execute(query("results.file"), {"import_file_id": import_file_id}).fetchone()
    if file is None:
        return None
    rows = connection.execute(query("results.held_rows"), {"import_file_id": import_file_id, "limit": MOST_SHOWN}).fetchall()
    for r in rows:
        r["check"] = ROW_REASONS.get(r["reason"], (r["reason"].replace("_", " "), ""))
    reissued = connection.execute(query("results.reissued_by"), {"import_file_id": import_file_id}).fetchall()
    mapping = None
    if file["state"] == "mapping":
        with_head = files.stream(connection, import_file_id)
        mapping = headings(with_head, labs.meanings(connection, file["lab"]))
    return {"file": file, "rows": rows, "reissued": reissued, "mapping": mapping}


def headings(source: BinaryIO, said: dict[str, Meaning]) -> dict[str, Any]:
    """A file's headings with what each is taken for, some of its values, and a guess for the rest."""
    found = results_file.guess(source, said)
    long = any(lab_header.plain_header(n)[0] in lab_header.LONG_MEASURAND for n in found.names)
    names = list(enumerate(found.names))
    preview = found.preview
    if long:  # what is measured stands in rows
        opened = results_file.open_file(_again(source), said)
        names = list(enumerate(opened.header.names))
        preview = [row for _, row in list(opened.rows)[:5]]
    out = []
    for column, name in names:
        if not name:
            continue
        meaning = said.get(lab_header.said_key(name))
        key = meaning.key if meaning else lab_header.context_of(name) or lab_header.measurand_of(name)
        unit = meaning.unit if meaning else lab_header.plain_header(name)[1]
        fits = key in INDEX and lab_header.unit_factor(key, unit) is None
        out.append({
            "name": name, "key": key, "unit": unit, "known": (key is not None and not fits) or meaning is not None,
            "examples": [row[column] for row in preview if column < len(row) and row[column].strip()][:3],
        })  # fmt: skip
    return {"columns": out, "reading": found.reading, "header_row": found.row,
            "unknown": [c for c in out if not c["known"]]}  # fmt: skip


def _again(source: BinaryIO) -> BinaryIO:
    source.seek(0)
    return source


def choices() -> list[tuple[str, list[tuple[str, str]]]]:
    """What a heading may mean, for people: facts of the sample, then measurands by group."""
    facts = [(k, k.replace("_", " ")) for k in lab_header.CONTEXT]
    groups: dict[str, list[tuple[str, str]]] = {}
    for m in MEASURANDS:
        groups.setdefault(m.group, []).append((m.key, f"{m.name} ({m.unit})" if m.unit else m.name))
    return [("about the sample", facts), *groups.items()]


def explain(connection: Connection, fleet_id: int, import_file_id: int, lab: str, said: dict[str, Meaning], by: str) -> None:
    """Remember what a file's headings mean for its lab, and read the file."""
    file = connection.execute(query("results.file"), {"import_file_id": import_file_id}).fetchone()
    if file is None or file["state"] != "mapping":
        raise InputError("file", "waits for no headings")
    name = " ".join((lab or file["lab"]).split())
    labs.explain(connection, fleet_id, name, said, by)
    known = labs.meanings(connection, name)
    source = files.stream(connection, import_file_id)
    try:
        opened = results_file.open_file(source, known)
    except InputError as error:
        raise InputError("headings", f"with these the file still cannot be read: {error}") from None
    left = [n for n in opened.header.unknown if lab_header.said_key(n) not in known]
    if left:
        raise InputError("headings", "say what each of these is, or leave it out: " + ", ".join(left[:8]))
    connection.execute(query("results.name_lab"), {"import_file_id": import_file_id, "lab": name})
    queue.put_file(connection, fleet_id, import_file_id)


def original(connection: Connection, import_file_id: int) -> tuple[dict[str, Any], BinaryIO] | None:
    """A file's facts and its bytes as they came, as a stream."""
    file = connection.execute(query("results.file"), {"import_file_id": import_file_id}).fetchone()
    return None if file is None else (file, files.stream(connection, import_file_id))


def row_as_it_came(connection: Connection, import_file_id: int, row_no: int) -> dict[str, Any] | None:
    """A row of a file as text under its headings; of a long file every row of that sample."""
    file = connection.execute(query("results.file"), {"import_file_id": import_file_id}).fetchone()
    if file is None:
        return None
    said = labs.meanings(connection, file["lab"])
    table = lab_table.open_table(files.stream(connection, import_file_id), said)
    first = lab_table.head_of(table, lab_table.HEADER_WITHIN)
    at = lab_table.header_at(first, said)
    names = [c.strip() or f"column {i + 1}" for i, c in enumerate(first[at][1])] if at is not None else []
    row = next((cells for number, cells in table.rows if number == row_no), None)
    if row is None:
        return None
    rows = [row]
    if file["layout"].startswith("long") and at is not None:
        number_at = next((i for i, n in enumerate(names) if lab_header.context_of(n) == "sample_no"), 0)
        wanted = row[number_at] if number_at < len(row) else ""
        again = lab_table.open_table(files.stream(connection, import_file_id), said)
        rows = [cells for _, cells in again.rows if number_at < len(cells) and cells[number_at] == wanted][:100]
    return {"file": file, "row_no": row_no, "names": names, "rows": rows, "keys": [_key_of(n, said) for n in names]}


def _key_of(name: str, said: dict[str, Meaning]) -> str | None:
    meaning = said.get(lab_header.said_key(name))
    return meaning.key if meaning else lab_header.context_of(name) or lab_header.measurand_of(name)


def note_register(connection: Connection, fleet_id: int, name: str, content: bytes, report: RegisterReport, by: str) -> int:
    """List a register file that came through the page among the files, its left-out rows as held rows."""
    kept = files.keep(connection, fleet_id, io.BytesIO(content), name=name, lab="", by=by, layout="register", state="done")
    total = sum(report.counts.values())
    connection.execute(
        query("results.finish_file"),
        {"import_file_id": kept.import_file_id, "layout": "register", "reading": "", "rows_in": total + len(report.problems),
         "rows_new": total, "rows_same": 0, "rows_reissued": 0, "rows_held": len(report.problems),
         "notes": report.left_out + [str(p) for p in report.problems[:100]]},
    )  # fmt: skip
    return kept.import_file_id


def register_in(source: BinaryIO) -> bytes | None:
    """The whole of a dropped file that is a register document (JSON with units, oils, drains or readings); None otherwise."""
    source.seek(0)
    content = source.read() if source.read(4096).lstrip()[:1] == b"{" and not source.seek(0) else b""
    source.seek(0)
    try:
        document = json.loads(content) if content else None
    except (ValueError, RecursionError):
        return None
    return content if isinstance(document, dict) and {"units", "oils", "drains", "readings"} & set(document) else None


def take_register(location: Location, fleet: str, content: bytes, *, name: str, by: str, today: date) -> int:
    """Load a register file into a fleet, judge what it changed and list it among the files; its id there.

    For a process of its own: it opens the database by itself.
    """
    with opened(location) as db:
        report = register.load(db, content, fleet=fleet, by=by, today=today, file=name)
        fleet_id = fleets.find(db, fleet)
        with settling(db, fleet_id, today, AT_ONCE_FILE) as connection:
            return note_register(connection, fleet_id, name, content, report, by)


def take(connection: Connection, fleet_id: int, source: BinaryIO, *, name: str, lab: str, by: str) -> files.Kept:
    """Keep a dropped file and put it on the queue; one that has come before is read once more."""
    kept = files.keep(connection, fleet_id, source, name=name, lab=lab, by=by)
    if not kept.bytes:
        raise InputError("file", "is empty")
    if kept.known:
        connection.execute(query("results.wait_again"), {"import_file_id": kept.import_file_id})
    queue.put_file(connection, fleet_id, kept.import_file_id)
    return kept


def retry(connection: Connection, fleet_id: int) -> int:
    """Put every file with waiting rows on the queue once more; how many."""
    waiting = [r["import_file_id"] for r in connection.execute(query("results.held_files")).fetchall()]
    for import_file_id in waiting:
        connection.execute(query("results.wait_again"), {"import_file_id": import_file_id})
        queue.put_file(connection, fleet_id, import_file_id)
    return len(waiting)


def waiting_csv(db: Database, fleet_id: int) -> str:
    """What waits, as a table that a spreadsheet may open."""
    from vornet.io.tables import cell

    with db.fleet(fleet_id) as connection:
        found = inbox(connection)
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["kind", "sample_no", "unit", "compartment", "sampled_on", "reason", "detail"])
    for h in found["holds"]:
        cells = ["sample", h["sample_no"], h["unit"], h["compartment"], h["sampled_on"], h["reason"], say(h["detail"])]
        writer.writerow([cell(x if x is None or isinstance(x, str) else str(x)) for x in cells])
    for r in found["rows"]:
        cells = ["row", r["sample_no"], r["unit_name"], r["compartment_name"], r["sampled_on"], r["reason"], r["detail"]]
        writer.writerow([cell(x if x is None or isinstance(x, str) else str(x)) for x in cells])
    return out.getvalue()
