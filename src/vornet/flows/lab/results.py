"""Results in: a lab's file goes in row by row; what cannot be believed or placed is held with its reason.

Sample identity is fleet + lab + sample number. Equal content changes nothing, a later ``reported_on``
supersedes, another unit or date under the same number is held. The file is kept as it came.
"""

from __future__ import annotations

import hashlib
import io
import json
import struct
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import date
from typing import Any, BinaryIO

import numpy as np
import psycopg

from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge.settle import AT_ONCE_FILE, settling
from vornet.flows.lab import files, labs
from vornet.io import lab_header, results_file
from vornet.io.cells import read_date
from vornet.io.results_file import BadRow, Chunk, NeedsMapping, ResultsFile
from vornet.store import queue
from vornet.store.database import Connection, Database, Location, opened, query

#: held rows listed in a report; all are kept
MOST_LISTED = 2000


@dataclass
class ResultsReport:
    """What a results file did: rows by fate, what was held, and which compartments it touched."""

    fleet: str
    file: str
    import_file_id: int | None = None
    rows: int = 0
    new: int = 0
    same: int = 0
    reissued: int = 0
    held_rows: int = 0
    held: list[BadRow] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    compartments: set[int] = field(default_factory=set)
    labs: set[str] = field(default_factory=set)
    numbers: set[str] = field(default_factory=set)  # of a corrected row
    new_oil: bool = False

    def as_dict(self) -> dict[str, Any]:
        return {
            "fleet": self.fleet, "file": self.file, "rows": self.rows, "new": self.new, "same": self.same,
            "reissued": self.reissued, "held_rows": self.held_rows, "notes": self.notes,
            "held": [
                {"row": b.row_no, "field": b.field, "reason": b.reason, "detail": b.detail} for b in self.held
            ],
        }  # fmt: skip


@dataclass(frozen=True)
class _Places:
    """Names to ids: units, compartments, oils, bottles and samples announced at drains."""

    units: dict[str, int]
    compartments: dict[tuple[int, str], int]
    only: dict[int, int]
    oils: dict[str, int]
    announced: dict[str, dict[str, Any]]


def _plain(name: str) -> str:
    return " ".join(name.lower().split())


def _places(connection: Connection) -> _Places:
    units: dict[str, int] = {}
    compartments: dict[tuple[int, str], int] = {}
    count: dict[int, list[int]] = {}
    for r in connection.execute(query("results.places")).fetchall():
        units[r["unit"]] = units[_plain(r["unit"])] = r["unit_id"]
        if r["compartment_id"] is not None:
            compartments[(r["unit_id"], r["compartment"])] = r["compartment_id"]
            compartments[(r["unit_id"], _plain(r["compartment"]))] = r["compartment_id"]
            count.setdefault(r["unit_id"], []).append(r["compartment_id"])
    only = {unit: ids[0] for unit, ids in count.items() if len(ids) == 1}
    oils = {}
    for r in connection.execute(query("register.oils")).fetchall():
        oils[r["name"]] = oils[_plain(r["name"])] = r["oil_id"]
    announced = {r["sample_no"]: r for r in connection.execute(query("results.announced")).fetchall()}
    return _Places(units, compartments, only, oils, announced)


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
    places = _places(connection)
    names = file.header.names
    # one chunk is stored while the next is read and packed; the connection is used by one thread at a time
    with ThreadPoolExecutor(1) as store:
        pending: Future[None] | None = None
        for chunk in results_file.chunks(file):
            batch = _prepare(chunk, places, lab, report, names)
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


def _digest(text: str, values: bytes) -> int:
    return int.from_bytes(hashlib.blake2b(text.encode() + values, digest_size=8).digest(), "big", signed=True)


@dataclass
class _Batch:
    """A chunk placed and packed, ready for the database: binary COPY rows, and where each row came from."""

    chunk: Chunk
    packed: bytes
    positions: dict[int, int]
    held: list[BadRow]


_COPY_HEAD = b"PGCOPY\n\xff\r\n\x00" + b"\x00" * 8
_NULL = struct.pack(">i", -1)
_pack_long = struct.Struct(">iq").pack
_pack_double = struct.Struct(">id").pack
_pack_int = struct.Struct(">ii").pack
_DAY_ZERO = date(2000, 1, 1).toordinal()
_EMPTY = struct.pack(">i", 0)
#: fields side by side when none of them is NULL: how many there are, three ids, a day; three figures; two masks; row and digest
_pack_place = struct.Struct(">hiqiqiqii").pack
_pack_figures = struct.Struct(">ididid").pack
_pack_masks = struct.Struct(">iqiq").pack
_pack_tail = struct.Struct(">iiiq").pack
_FIELDS = 20
_FALSE, _TRUE = struct.pack(">i?", 1, False), struct.pack(">i?", 1, True)


def _long(value: int | None) -> bytes:
    return _NULL if value is None else _pack_long(8, value)


def _double(value: float | None) -> bytes:
    return _NULL if value is None or value != value else _pack_double(8, value)


def _day(value: date | None) -> bytes:
    return _NULL if value is None else _pack_int(4, value.toordinal() - _DAY_ZERO)


def _bool(value: bool | None) -> bytes:
    return _NULL if value is None else _TRUE if value else _FALSE


def _text(value: str) -> bytes:
    if not value:
        return _EMPTY
    raw = value.replace("\x00", "").encode("utf-8", "replace")
    return len(raw).to_bytes(4, "big") + raw


def _arrays(block: np.ndarray) -> tuple[bytes, int]:
    """A block of values as PostgreSQL's binary float8[] fields, one after another, and the width of one."""
    n, width = block.shape
    out = np.zeros(n, np.dtype([("len", ">i4"), ("head", ">i4", (5,)), ("x", [("len", ">i4"), ("v", ">f8")], (width,))]))
    out["len"], out["head"] = 20 + 12 * width, (1, 0, 701, width, 1)
    out["x"]["len"], out["x"]["v"] = 8, block
    return out.tobytes(), out.dtype.itemsize


def _prepare(chunk: Chunk, places: _Places, lab: str, report: ResultsReport, names: list[str]) -> _Batch:
    """Place each row of a chunk and pack it; rows without a place are held."""
    text, numbers = chunk.text, chunk.numbers
    meters, hours, topups = numbers["meter"].tolist(), numbers["oil_hours"].tolist(), numbers["topup_l"].tolist()
    below, above = chunk.below.tolist(), chunk.above.tolist()
    # NaN payloads and -0.0 must not make equal rows look different
    block = np.where(np.isnan(chunk.values), np.nan, chunk.values + 0.0)
    raw, width = block.tobytes(), block.shape[1] * 8
    arrays, step = _arrays(block)
    positions: dict[int, int] = {}
    held = list(chunk.bad)
    lab_fields: dict[str, bytes] = {}
    known_places: dict[tuple[str, str, str], tuple[Any, ...]] = {}
    flag_fields = {(d, f): _bool(d) + _bool(f) for d in (False, True) for f in (None, False, True)}
    date_fields: dict[tuple[date | None, date | None], bytes] = {}
    units, compartments, oils = text["unit"], text["compartment"], text["oil"]
    comments, severities, of_labs = text["comment"], text["severity"], text["lab"]
    seen: dict[tuple[str, str], int] = {}  # of this chunk; the database knows the chunks before

    def hold(i: int, field_name: str, reason: str, detail: str) -> None:
        held.append(BadRow(chunk.row_no[i], field_name, reason, detail, _cells(chunk, i, names)))

    out = [_COPY_HEAD]
    for i, number in enumerate(text["sample_no"]):
        named = (units[i], compartments[i], oils[i])
        place = known_places.get(named)
        if place is None or number in places.announced or chunk.sampled_on[i] is None:
            place = _place(chunk, i, number, places)
            if isinstance(place[0], str):
                hold(i, *place)
                continue
            if number not in places.announced:
                known_places[named] = place
        else:
            place = (*place[:3], chunk.sampled_on[i])
        unit_id, compartment_id, oil_id, sampled_on = place
        received, reported = chunk.received_on[i], chunk.reported_on[i]
        if (received or sampled_on) < sampled_on or (reported or sampled_on) < (received or sampled_on):
            days = ", ".join(f"{w} {d}" for w, d in (("drawn", sampled_on), ("received", received), ("reported", reported)) if d)
            hold(i, "sampled_on", "dates_order", days)
            continue
        if compartment_id is None:
            report.new_oil = True
        meter, oil_hours, topup = meters[i], hours[i], topups[i]
        told = places.announced.get(number)
        if told:  # what the label says where the lab does not repeat it
            meter = told["meter"] if meter != meter and told["meter"] is not None else meter
            oil_hours = told["oil_hours"] if oil_hours != oil_hours and told["oil_hours"] is not None else oil_hours
            topup = told["topup_l"] if topup != topup and told["topup_l"] is not None else topup
        from_lab = of_labs[i] or lab
        report.labs.add(from_lab)
        first_row = seen.setdefault((from_lab, number), chunk.row_no[i])
        if first_row != chunk.row_no[i]:
            hold(i, "sample_no", "number_twice", f"sample number {number} is already in row {first_row}")
            continue
        drained, changed = chunk.drained[i], chunk.filter_changed[i]
        digest = _digest(
            f"{compartment_id}\x1f{oil_id}\x1f{sampled_on}\x1f{meter}\x1f{oil_hours}\x1f{topup}\x1f{drained}\x1f{changed}\x1f"
            f"{below[i]}\x1f{above[i]}\x1f{reported}", raw[i * width : (i + 1) * width],
        )  # fmt: skip
        positions[chunk.row_no[i]] = i
        lab_field = lab_fields.get(from_lab) or lab_fields.setdefault(from_lab, _text(from_lab))
        dates = date_fields.get((received, reported))
        if dates is None:
            dates = date_fields[(received, reported)] = _day(received) + _day(reported)
        if compartment_id is None or unit_id is None or oil_id is None:
            at = _FIELDS.to_bytes(2, "big") + _long(compartment_id) + _long(unit_id) + _long(oil_id) + _day(sampled_on)
        else:
            at = _pack_place(_FIELDS, 8, compartment_id, 8, unit_id, 8, oil_id, 4, sampled_on.toordinal() - _DAY_ZERO)
        if meter == meter and oil_hours == oil_hours and topup == topup:
            figures = _pack_figures(8, meter, 8, oil_hours, 8, topup)
        else:
            figures = _double(meter) + _double(oil_hours) + _double(topup)
        out += (
            at, figures, flag_fields[(drained, changed)], _pack_masks(8, below[i], 8, above[i]), arrays[i * step : (i + 1) * step],
            _text(number), lab_field, dates, _text(comments[i]), _text(severities[i]), _pack_tail(4, chunk.row_no[i], 8, digest),
        )  # fmt: skip
    out.append(b"\xff\xff")
    return _Batch(chunk, b"".join(out), positions, held)


def _cells(chunk: Chunk, i: int, names: list[str]) -> dict[str, str]:
    cells = zip(names, chunk.originals[i], strict=False)
    return {name or f"column {j + 1}": cell[:500] for j, (name, cell) in enumerate(cells)}


def _store(connection: Connection, fleet_id: int, batch: _Batch, by: str, report: ResultsReport, names: list[str]) -> None:
    """Stage a batch and let the database sort new from known, re-issued and contradicting."""
    chunk = batch.chunk
    with connection.cursor() as cursor, cursor.copy(query("results.copy_staging")) as copy:
        copy.write(batch.packed)
    parameters = {"fleet_id": fleet_id, "import_file_id": report.import_file_id, "by": by}
    known = connection.execute(query("results.known_identities")).fetchone()
    assert known is not None
    if known["exists"]:
        connection.execute(query("results.fates"), parameters)
        words = {
            "number_twice": "is already in row {known_row}",
            "other_unit": "is already used for {known_unit} {known_compartment}",
            "other_date": "is already used for a sample of {known_on}",
            "contradicts": "is already there with other values, and this report is not newer",
        }
        for r in connection.execute(query("results.contradicting")).fetchall():
            i = batch.positions[r["row_no"]]
            detail = f"sample number {chunk.text['sample_no'][i]} " + words[r["fate"]].format(**r)
            batch.held.append(BadRow(r["row_no"], "sample_no", r["fate"], detail, _cells(chunk, i, names)))
        for r in connection.execute(query("results.count_fates")).fetchall():
            if r["fate"] == "same":
                report.same += r["n"]
            elif r["fate"] in ("reissued", "reread"):
                report.reissued += r["n"]
        connection.execute(query("results.supersede"), parameters)
        connection.execute(query("results.enact"), parameters)
    report.new += connection.execute(query("results.insert_new"), parameters).rowcount
    report.compartments |= {r["compartment_id"] for r in connection.execute(query("results.touched")).fetchall()}
    connection.execute(query("results.empty_staging"))
    report.rows += len(chunk.row_no) + len(chunk.bad)
    report.held_rows += len(batch.held)
    report.held += batch.held[: max(MOST_LISTED - len(report.held), 0)]
    _keep_held(connection, fleet_id, report.import_file_id, batch.held)


def _place(
    chunk: Chunk, i: int, number: str, places: _Places
) -> tuple[int | None, int | None, int | None, date | None] | tuple[str, str, str]:
    """(unit, compartment, oil, sampled on) of a row, or (field, reason, sentence) why it has no place."""
    text, sampled_on = chunk.text, chunk.sampled_on[i]
    unit_name, compartment_name, oil_name = text["unit"][i], text["compartment"][i], text["oil"][i]
    oil_id = None
    if oil_name:
        oil_id = places.oils.get(oil_name) or places.oils.get(_plain(oil_name))
    announced = places.announced.get(number)
    if sampled_on is None and announced:
        sampled_on = announced["on_day"]
    if sampled_on is None:
        return "sampled_on", "no_date", "sampled_on is missing"
    if not unit_name:
        if announced:
            return announced["unit_id"], announced["compartment_id"], oil_id or announced["oil_id"], sampled_on
        if not oil_name:
            return "unit", "no_unit", "the unit is missing (a sample of new oil names its oil)"
        if oil_id is None:
            return "oil", "unknown_oil", f"there is no oil named {oil_name!r} in the register"
        return None, None, oil_id, sampled_on
    unit_id = places.units.get(unit_name) or places.units.get(_plain(unit_name))
    if unit_id is None:
        return "unit", "unknown_unit", f"there is no unit named {unit_name!r} in the register"
    if not compartment_name:
        compartment_id = places.only.get(unit_id)
        if compartment_id is None and announced and announced["unit_id"] == unit_id:
            compartment_id = announced["compartment_id"]
        if compartment_id is None:
            return "compartment", "no_compartment", f"the compartment is missing and {unit_name} has several"
    else:
        found = places.compartments.get((unit_id, compartment_name))
        compartment_id = found or places.compartments.get((unit_id, _plain(compartment_name)))
        if compartment_id is None:
            return "compartment", "unknown_compartment", f"unit {unit_name} has no compartment {compartment_name!r}"
    if announced and announced["compartment_id"] != compartment_id:
        other = f"the bottle {number} was labelled for another place than {unit_name} {compartment_name}"
        return "unit", "label_differs", other.rstrip()
    return unit_id, compartment_id, oil_id, sampled_on


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
    batch = _prepare(chunk, _places(connection), lab, report, names)
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
