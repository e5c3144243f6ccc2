"""The lab's inbox: files, rows that wait, samples that are held, and what people decide about them."""

from __future__ import annotations

import csv
import io
import json
from datetime import date, timedelta
from typing import Any, BinaryIO

from vornet.core.checks import CHECKS, ROW_REASONS
from vornet.core.errors import InputError
from vornet.core.measurands import BY_KEY, INDEX, KEYS, MEASURANDS
from vornet.flows.house import fleets
from vornet.flows.judge import verdicts
from vornet.flows.judge.settle import AT_ONCE_FILE, settling
from vornet.flows.lab import files, labs, results
from vornet.flows.register import register
from vornet.flows.register.register import RegisterReport
from vornet.flows.work import drain, notes
from vornet.io import lab_header, lab_table, results_file
from vornet.io.cells import read_date, read_number
from vornet.io.lab_header import Meaning
from vornet.store import queue
from vornet.store.database import Connection, Database, Location, opened, query

MOST_SHOWN = 200
SETTLED = ("released", "rejected")


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


# ---- held rows -----------------------------------------------------------------------------------------


def _why(text: str) -> str:
    why = " ".join(text.split())[:500]
    if not why:
        raise InputError("why", "say in a few words why")
    return why


def dismiss(connection: Connection, fleet_id: int, held_row_id: int, why: str, by: str) -> None:
    """A waiting row has been dealt with elsewhere; a reason is kept."""
    said = _why(why)
    if connection.execute(query("results.dismiss_row"), {"held_row_id": held_row_id, "by": by, "resolution": said}).rowcount:
        fleets.audit(connection, fleet_id, by, "row put away", f"row {held_row_id}", why=said)


def correct_row(
    connection: Connection, fleet_id: int, held_row_id: int, cells: dict[str, str], why: str, by: str, today: date, force: bool = False
) -> str:  # fmt: skip
    """Take a held row in with cells as a person corrected them; the original text is kept. Returns its sample number.

    ``force``: it replaces the sample that has its number. Raises InputError when it still cannot go in.
    """
    said = _why(why)
    row = connection.execute(query("results.held_row"), {"held_row_id": held_row_id}).fetchone()
    if row is None or row["resolved_at"] is not None:
        raise InputError("row", "is dealt with already")
    changed = {k: v for k, v in cells.items() if k in row["original"] and v.strip() != row["original"][k].strip()}
    lab = row["file_lab"]
    file = results_file.one_row({**row["original"], **changed}, labs.meanings(connection, lab), row["row_no"])
    report = results.take_row(connection, fleet_id, file, import_file_id=row["import_file_id"], lab=lab, by=by, force=force)
    number = next(iter(report.numbers), "")
    connection.execute(query("results.dismiss_row"), {"held_row_id": held_row_id, "by": by, "resolution": f"taken in: {said}"[:500]})
    for sample in connection.execute(query("results.sample_of_row"), {"import_file_id": row["import_file_id"], "row_no": row["row_no"]}):
        what = "; ".join(f"{k}: {row['original'][k]!r} to {v!r}" for k, v in changed.items()) or "as it came"
        connection.execute(
            query("results.put_correction"),
            {"fleet_id": fleet_id, "sample_id": sample["sample_id"], "old_sample_id": sample["sample_id"], "kind": "accepted",
             "what": what, "why": said, "by": by},
        )  # fmt: skip
    fleets.audit(connection, fleet_id, by, "row taken in", number, row=held_row_id, why=said, changed=changed)
    return number


# ---- held samples --------------------------------------------------------------------------------------


def hold(connection: Connection, hold_id: int) -> dict[str, Any]:
    """One hold with its sample. Raises InputError when it is settled or not there."""
    row = connection.execute(query("results.holds"), {"limit": 1, "hold_id": hold_id}).fetchone()
    if row is None:
        raise InputError("hold", "is settled already")
    row["check"] = CHECKS.get(row["reason"])
    found: dict[str, Any] = row
    return found


#: which measurands speak to a hold
_SPEAKING = {
    "wrong_oil": ("ca", "mg", "zn", "p", "b", "mo", "s", "v40", "v100"),
    "swapped_bottle": ("ca", "zn", "p", "s", "v40", "v100", "fe", "cu", "bn", "an", "soot_pct", "oxidation"),
    "dirty_bottle": ("si", "al", "na", "k", "fe", "cr", "cu", "water_ppm"),
    "unrecorded_drain": ("fe", "cr", "cu", "pb", "al", "sn", "bn", "soot_pct", "oxidation"),
    "unrecorded_top_up": ("fe", "cr", "cu", "pb", "al", "sn", "bn", "soot_pct", "oxidation"),
    "viscosity_order": ("v40", "v100"), "viscosity_index": ("v40", "v100", "ca", "zn", "p", "s"),
    "bn_above_new": ("bn", "an", "ca", "mg", "zn"),
}  # fmt: skip
_OTHERWISE = ("fe", "cu", "si", "na", "v100", "bn", "water_ppm")


def beside(connection: Connection, found: dict[str, Any]) -> dict[str, Any]:
    """The held sample beside its neighbours, the new oil and, of a swap, the other bottle: columns and rows."""
    own = _sample(connection, found["sample_id"])
    around = connection.execute(
        query("results.around"), {"compartment_id": own["compartment_id"], "on": own["sampled_on"], "sample_id": own["sample_id"]}
    ).fetchall()
    columns = [{"name": day_words(r["sampled_on"]), "values": r["values"], "below": r["below"], "kind": ""} for r in around]
    at = sum(r["sampled_on"] < own["sampled_on"] for r in around)
    this = {"name": "this sample", "values": own["values"], "below": own["below"], "kind": "this"}
    columns.insert(at, this)
    fresh = connection.execute(query("results.new_oil_of"), {"compartment_id": own["compartment_id"]}).fetchone()
    if fresh and fresh["new_values"]:
        columns.insert(0, {"name": "new oil", "values": fresh["new_values"], "below": 0, "kind": "new"})
    other = found["facts"].get("other")
    if other:
        try:
            theirs = _sample(connection, int(other["sample_id"]))
        except InputError:
            theirs = None
        if theirs:
            columns.append({"name": f"{other['unit']} {other['compartment']}", "values": theirs["values"], "below": theirs["below"],
                            "kind": "other"})  # fmt: skip
    keys = _SPEAKING.get(found["reason"], ())
    factors = found["facts"].get("factors", {})
    keys = (*factors, *(k for k in _OTHERWISE if k not in factors)) if factors else keys or _OTHERWISE
    rows = []
    for key in keys:
        m = INDEX[key]
        cells = [c["values"][m] if m < len(c["values"]) else None for c in columns]
        if any(x is not None and x == x for x in cells):
            signs = ["<" if (c["below"] >> m) & 1 else "" for c in columns]
            rows.append({"m": BY_KEY[key], "cells": list(zip(cells, signs, strict=True))})
    put_right = {key: own["values"][INDEX[key]] * factor for key, factor in factors.items()}
    return {"columns": columns, "rows": rows, "put_right": put_right, "sample": own}


def day_words(on: date) -> str:
    return f"{on.day} {on:%b %Y}"


def settle(connection: Connection, fleet_id: int, hold_id: int, settlement: str, why: str, by: str, today: date, again: bool = False) -> None:
    """Release a held sample into judgement, or reject it for good; then evaluate its compartment.

    ``again``: with a rejection, ask for another bottle; it stands on the Plan until it comes.
    """
    if settlement not in SETTLED:
        raise InputError("settlement", "release it or reject it")
    said = _why(why)
    row = connection.execute(query("results.settle_hold"), {"hold_id": hold_id, "by": by, "settlement": settlement, "why": said}).fetchone()
    if row is None:
        raise InputError("hold", "is settled already")
    sample = connection.execute(query("results.sample_compartment"), {"sample_id": row["sample_id"]}).fetchone()
    assert sample is not None
    if settlement == "rejected":  # the sample is out: its other holds need nobody any more
        connection.execute(query("results.settle_others"), {"sample_id": row["sample_id"], "by": by, "why": f"rejected: {said}"[:500]})
        if again:
            verdicts.ask_again(connection, fleet_id, sample["compartment_id"], row["sample_id"], by, today)
    fleets.audit(connection, fleet_id, by, f"sample {settlement}", sample["sample_no"], why=said, again=again)
    queue.touch(connection, fleet_id, [sample["compartment_id"]])


def _replace(
    connection: Connection, fleet_id: int, old: dict[str, Any], changes: dict[str, Any], kind: str, what: str, why: str, by: str
) -> int:
    """A sample's row superseded by a changed one; what was released stays released, what was held is looked at anew."""
    connection.execute(query("results.step_aside"), {"sample_id": old["sample_id"]})
    new = connection.execute(query("results.insert_changed"), {**old, **changes, "fleet_id": fleet_id, "by": by}).fetchone()
    assert new is not None
    ids = {"sample_id": new["sample_id"], "old_sample_id": old["sample_id"]}
    connection.execute(query("results.superseded"), {**ids, "why": f"{kind} by {by}: {why}"[:300]})
    connection.execute(query("results.carry_releases"), {**ids, "fleet_id": fleet_id})
    connection.execute(query("results.clear_holds"), {"sample_id": old["sample_id"], "by": by, "why": f"{kind}: {why}"[:500]})
    connection.execute(
        query("results.put_correction"), {"fleet_id": fleet_id, **ids, "kind": kind, "what": what[:1000], "why": why, "by": by}
    )
    return int(new["sample_id"])


def _sample(connection: Connection, sample_id: int) -> dict[str, Any]:
    row = connection.execute(query("results.whole_sample"), {"sample_id": sample_id}).fetchone()
    if row is None:
        raise InputError("sample", "has been replaced meanwhile: look again")
    found: dict[str, Any] = row
    return found


def correct(connection: Connection, fleet_id: int, sample_id: int, typed: dict[str, str], why: str, by: str, today: date) -> int:
    """Correct a sample: values by measurand key, ``meter``, ``oil_hours``, ``sampled_on``; a blank value was not
    measured. What the lab printed stays on record. Returns the new sample's id. Raises InputError by field."""
    said = _why(why)
    old = _sample(connection, sample_id)
    values = list(old["values"]) + [None] * (len(KEYS) - len(old["values"]))
    below, above = old["below"], old["above"]
    changes: dict[str, Any] = {}
    told: list[str] = []
    for name, text in typed.items():
        cell = text.strip()
        if name in INDEX:
            m = INDEX[name]
            number = read_number(cell)
            if isinstance(number, str):
                raise InputError(name, number)
            was = values[m]
            new = None if number[0] != number[0] else number[0]
            sign = "<" if (below >> m) & 1 else ">" if (above >> m) & 1 else ""
            if new == was and number[1] == sign:
                continue
            values[m] = new if new is not None else float("nan")
            below = (below & ~(1 << m)) | ((1 << m) if number[1] == "<" else 0)
            above = (above & ~(1 << m)) | ((1 << m) if number[1] == ">" else 0)
            label = BY_KEY[name].spoken
            told.append(f"{label} {sign}{_shown(was)} to {cell or 'not measured'}")
        elif name in ("meter", "oil_hours"):
            number = read_number(cell)
            if isinstance(number, str) or number[1] or number[0] < 0:
                raise InputError(name, number if isinstance(number, str) else "must be a plain number")
            new = None if number[0] != number[0] else number[0]
            if new != old[name]:
                changes[name] = new
                told.append(f"{name.replace('_', ' ')} {_shown(old[name])} to {cell or 'unknown'}")
        elif name == "sampled_on":
            try:
                day = read_date(cell)
            except ValueError as error:
                raise InputError(name, str(error)) from None
            if day is None or day > today:
                raise InputError(name, "a day up to today")
            if day != old["sampled_on"]:
                changes[name] = day
                told.append(f"day {old['sampled_on']} to {day}")
        else:
            raise InputError(name, "cannot be corrected here")
    if not told:
        raise InputError("values", "nothing is changed: type what is right, or release it")
    changes |= {"values": [float("nan") if v is None else v for v in values], "below": below, "above": above}
    new_id = _replace(connection, fleet_id, old, changes, "corrected", "; ".join(told), said, by)
    fleets.audit(connection, fleet_id, by, "sample corrected", old["sample_no"], changes=told, why=said)
    if old["compartment_id"] is not None:
        queue.touch(connection, fleet_id, [old["compartment_id"]])
    return new_id


def _shown(value: float | None) -> str:
    return "unknown" if value is None or value != value else f"{value:g}"


_PRINTED = ("values", "below", "above", "comment", "severity", "import_file_id", "row_no")


def swap(connection: Connection, fleet_id: int, hold_id: int, why: str, by: str, today: date) -> None:
    """Two bottles carried each other's labels: exchange what the lab printed between them; both rows stay on record."""
    said = _why(why)
    found = hold(connection, hold_id)
    other = found["facts"].get("other")
    if found["reason"] != "swapped_bottle" or not other:
        raise InputError("hold", "is not about swapped bottles")
    a, b = _sample(connection, found["sample_id"]), _sample(connection, int(other["sample_id"]))
    for mine, theirs in ((a, b), (b, a)):
        what = f"results exchanged with sample {theirs['sample_no']}"
        _replace(connection, fleet_id, mine, {k: theirs[k] for k in _PRINTED}, "swapped", what, said, by)
    fleets.audit(connection, fleet_id, by, "bottles swapped back", f"{a['sample_no']} and {b['sample_no']}", why=said)
    queue.touch(connection, fleet_id, {a["compartment_id"], b["compartment_id"]} - {None})


def record_oil(connection: Connection, fleet_id: int, hold_id: int, by: str, today: date) -> str:
    """Record the drain or top-up that a fall inside a charge speaks of, half way between the two samples."""
    found = hold(connection, hold_id)
    before = found["facts"].get("after")
    if found["reason"] not in ("unrecorded_drain", "unrecorded_top_up") or not before:
        raise InputError("hold", "is not about oil that nobody recorded")
    earlier, later = _sample(connection, int(before["sample_id"])), _sample(connection, found["sample_id"])
    if earlier["meter"] is None or later["meter"] is None:
        raise InputError("meter", "one of the two samples has no meter: log it on the compartment's page")
    on = earlier["sampled_on"] + timedelta(days=max((later["sampled_on"] - earlier["sampled_on"]).days // 2, 0))
    meter = round((earlier["meter"] + later["meter"]) / 2, 1)
    if found["reason"] == "unrecorded_top_up":
        litres = round(float(found["facts"]["litres"]), 1)
        notes.top_up(connection, fleet_id, later["compartment_id"], on, meter, litres, None, None, by, today)
        return f"{litres:g} L top-up on {on} recorded"
    found_drain = drain.Drained(on, meter, note="found from the oil: nobody recorded it")
    drain.log(connection, fleet_id, later["compartment_id"], found_drain, by, today, {"found_from_sample": later["sample_no"]})
    return f"drain on {on} recorded"


def history_of(connection: Connection, sample_id: int) -> list[dict[str, Any]]:
    """Every row a sample's number has had, newest first: re-issues and corrections, with what changed."""
    rows = connection.execute(query("results.versions"), {"sample_id": sample_id}).fetchall()
    for newer, older in zip(rows, rows[1:], strict=False):
        newer["changed"] = _differences(older, newer)
    for row in rows:
        row.setdefault("changed", [])
    return rows


def _differences(older: dict[str, Any], newer: dict[str, Any]) -> list[str]:
    out = []
    for m, (x, y) in enumerate(zip(older["values"], newer["values"], strict=False)):
        if x != y and not (x != x and y != y):
            out.append(f"{MEASURANDS[m].name} {_shown(x)} to {_shown(y)}")
    for name in ("meter", "oil_hours", "sampled_on"):
        if older[name] != newer[name]:
            out.append(f"{name.replace('_', ' ')} {older[name]} to {newer[name]}")
    return out


def waiting_csv(db: Database, fleet_id: int) -> str:
    """What waits, as a table that a spreadsheet may open."""
    from vornet.io.tables import cell

    with db.fleet(fleet_id) as connection:
        found = inbox(connection)
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["kind", "sample_no", "unit", "compartment", "sampled_on", "reason", "detail"])
    for h in found["holds"]:
        cells = ["sample", h["sample_no"], h["unit"], h["compartment"], h["sampled_on"], h["reason"], h["detail"]]
        writer.writerow([cell(x if x is None or isinstance(x, str) else str(x)) for x in cells])
    for r in found["rows"]:
        cells = ["row", r["sample_no"], r["unit_name"], r["compartment_name"], r["sampled_on"], r["reason"], r["detail"]]
        writer.writerow([cell(x if x is None or isinstance(x, str) else str(x)) for x in cells])
    return out.getvalue()
