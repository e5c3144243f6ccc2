"""A fleet's own list into its register: what its headings mean is said once, the whole is tried before anything is kept, good rows go in,
and each of the others waits with the cell that is wrong until somebody mends it."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from psycopg import Rollback

from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.register import register
from vornet.flows.register.dump import oils_out, units_out
from vornet.flows.register.register import RegisterReport
from vornet.io import fleet_list, list_header, list_rows, register_file
from vornet.io.fleet_list import Assumed, ListRow, Sheet
from vornet.io.list_cells import Cell, text_of
from vornet.io.list_header import FIELDS, UNITS_OF, Column
from vornet.io.list_rows import CellProblem, Understood
from vornet.store.database import Connection, query

LARGEST = 20_000_000
#: so often a list is tried again without the rows that the register's own rules refused
MOST_ROUNDS = 6


@dataclass
class Tried:
    """A list with what it would do: rows that go in, rows that wait and why, questions to be answered first."""

    sheet: Sheet
    found: Understood
    counts: dict[str, int] = field(default_factory=dict)
    problems: dict[int, list[CellProblem]] = field(default_factory=dict)

    @property
    def good(self) -> int:
        """Rows that go in."""
        return len(self.sheet.rows) - len(self.problems) - len(self.found.skipped)


# ---- a file ----------------------------------------------------------------------------------------------------
def keep(connection: Connection, fleet_id: int, name: str, content: bytes, by: str) -> int:
    """Keep a list as it came; its id. Raises InputError when it is no list at all, or no row of headings is recognised."""
    if not content:
        raise InputError("file", "is empty")
    if len(content) > LARGEST:
        raise InputError("file", f"is larger than {LARGEST // 1_000_000} MB")
    fleet_list.read(content, meanings(connection), Assumed())
    row = connection.execute(query("lists.put_file"), {"fleet_id": fleet_id, "name": name[:200], "content": content, "by": by}).fetchone()
    assert row is not None
    return int(row["list_file_id"])


def file(connection: Connection, list_file_id: int) -> dict[str, Any] | None:
    return connection.execute(query("lists.file"), {"list_file_id": list_file_id}).fetchone()


def files(connection: Connection) -> list[dict[str, Any]]:
    return connection.execute(query("lists.files")).fetchall()


def meanings(connection: Connection) -> dict[str, Column]:
    """What people of this fleet have said of headings."""
    rows = connection.execute(query("lists.headings")).fetchall()
    return {r["heading"]: Column(**r["meaning"]) for r in rows if not r["meaning"]["key"] or r["meaning"]["key"] in FIELDS}


def explain(connection: Connection, fleet_id: int, list_file_id: int, said: Mapping[str, Column | None], assumed: Assumed) -> None:
    """Remember what headings mean (None: forget what was said) and what a list takes for granted. Raises InputError by heading."""
    for heading, column in said.items():
        if column is None:
            connection.execute(query("lists.forget_heading"), {"heading": list_header.said_key(heading)})
            continue
        if column.key and column.key not in FIELDS:
            raise InputError(heading, f"{column.key!r} is nothing that a list can tell")
        if column.unit and column.unit not in UNITS_OF.get(FIELDS[column.key].kind if column.key else "", ()):
            raise InputError(heading, f"{column.unit!r} is not a unit for {FIELDS[column.key].words if column.key else 'nothing'}")
        key = list_header.said_key(heading)
        connection.execute(query("lists.put_heading"), {"fleet_id": fleet_id, "heading": key, "meaning": json.dumps(column.as_dict())})
    document = json.dumps(assumed.as_dict())
    connection.execute(query("lists.assume"), {"list_file_id": list_file_id, "assumed": document})


def base_of(connection: Connection, today: date) -> dict[str, Any]:
    """The register there is, as far as a list lies over it."""
    return {"oils": oils_out(connection), "units": units_out(connection, today)}


def tried(connection: Connection, fleet_id: int, file: Mapping[str, Any], by: str, today: date) -> Tried:
    """What a list would do, told by doing it and taking it back."""
    assumed = Assumed.of(file["assumed"])
    sheet = fleet_list.read(bytes(file["content"]), meanings(connection), assumed)
    with connection.transaction(force_rollback=True):
        return _taken(connection, fleet_id, sheet, base_of(connection, today), assumed, by, today)


def _taken(connection: Connection, fleet_id: int, sheet: Sheet, base: dict[str, Any], assumed: Assumed, by: str, today: date) -> Tried:
    """Take a list's good rows in, inside an open transaction: rows that the register's own rules refuse are left out as a whole."""
    wrong: dict[int, list[CellProblem]] = {}
    for last in (*(False,) * MOST_ROUNDS, True):
        found = list_rows.settled(sheet, base, assumed, today, wrong)
        wrong |= found.problems
        report = RegisterReport("")
        if found.questions:
            break
        with connection.transaction() as savepoint:
            document = register_file.understand({"fleet": "x", **found.document})
            report.problems = document.problems
            register.take(connection, fleet_id, document, report, by, today)
            refused: dict[int, list[CellProblem]] = {}
            for problem in report.problems:
                number, cell = list_rows.in_the_list(sheet, found, problem)
                if number:
                    refused.setdefault(number, []).append(cell)
                else:
                    found.said.append(str(problem))
            wrong |= refused
            if refused and not last:
                raise Rollback(savepoint)
        if not refused:
            break
    counts = {k: v for k, v in report.counts.items() if v}
    return Tried(sheet, found, counts, wrong)


def take(connection: Connection, fleet_id: int, list_file_id: int, by: str, today: date) -> Tried:
    """Take a list in: its good rows into the register, the others waiting. Raises InputError while something has to be said first."""
    row = file(connection, list_file_id)
    if row is None or row["state"] != "mapping":
        raise InputError("list", "has been taken in already")
    assumed = Assumed.of(row["assumed"])
    sheet = fleet_list.read(bytes(row["content"]), meanings(connection), assumed)
    done = _taken(connection, fleet_id, sheet, base_of(connection, today), assumed, by, today)
    if done.found.questions:
        raise InputError("list", " ".join(fleet_list.QUESTIONS[q] for q in done.found.questions))
    named = next((name for name, column in sheet.by_name().items() if column.key == "unit"), "")
    for listed in sheet.rows:
        if listed.number in done.problems:
            above = {named: done.found.carried[listed.number]} if listed.number in done.found.carried else {}
            connection.execute(
                query("lists.put_row"),
                {"fleet_id": fleet_id, "list_file_id": list_file_id, "row_no": listed.number, "cells": _cells(above | listed.cells),
                 "problems": _problems(done.problems[listed.number])},
            )  # fmt: skip
    counts = {**done.counts, "rows": len(sheet.rows), "rows_in": done.good, "waits": len(done.problems), "skipped": len(done.found.skipped)}
    notes = [*done.found.said, *(f"row {n}: {why}" for n, why in done.found.skipped.items())]
    connection.execute(query("lists.finish"), {"list_file_id": list_file_id, "counts": json.dumps(counts), "notes": json.dumps(notes)})
    fleets.took_in(connection, sum(done.counts.values()))
    fleets.audit(connection, fleet_id, by, "list taken in", row["name"], **counts)
    return done


def _cells(cells: Mapping[str, Cell]) -> str:
    return json.dumps([[name, cell] for name, cell in cells.items()], ensure_ascii=False)


def _problems(problems: list[CellProblem]) -> str:
    return json.dumps([[p.heading, p.why, p.clash] for p in problems], ensure_ascii=False)


# ---- rows that wait --------------------------------------------------------------------------------------------
def waiting(connection: Connection, list_file_id: int) -> list[dict[str, Any]]:
    """Rows of a list that wait, each cell with what is wrong with it; a heading that the list does not have is offered too."""
    rows = connection.execute(query("lists.rows"), {"list_file_id": list_file_id}).fetchall()
    for row in rows:
        why: dict[str, str] = {}
        for heading, text, _ in row["problems"]:
            why[heading] = f"{why[heading]}; {text}" if heading in why else text
        cells = {name: text_of(cell) for name, cell in row["cells"]}
        row["fields"] = [(name, shown, why.get(name, "")) for name, shown in cells.items()]
        row["fields"] += [(heading, "", text) for heading, text in why.items() if heading and heading not in cells]
        row["whole"] = why.get("", "")
    return rows


def mend(connection: Connection, fleet_id: int, list_row_id: int, typed: Mapping[str, str], by: str, today: date) -> bool:
    """Read a waiting row once more with what somebody typed; whether it went in. What was typed is kept either way."""
    row = connection.execute(query("lists.row"), {"list_row_id": list_row_id}).fetchone()
    if row is None:
        raise InputError("row", "does not wait any more")
    was: dict[str, Cell] = dict(row["cells"])
    cells: dict[str, Cell] = {}
    for name in [*was, *(n for n in typed if n not in was)]:
        text = typed.get(name, text_of(was[name]) if name in was else "").strip()
        if name in was and text == text_of(was[name]):
            cells[name] = was[name]
        elif text:
            cells[name] = text
    if still := [CellProblem(*p) for p in row["problems"] if p[2] and cells.get(p[0]) == was.get(p[0])]:
        _still_wrong(connection, list_row_id, cells, still)  # which of two is right is said by changing the one that is not
        return False
    content = fleet_list_of(connection, row["list_file_id"])
    assumed = Assumed.of(row["assumed"])
    whole = fleet_list.read(content, meanings(connection), assumed)
    names = [*whole.names, *(n for n in cells if n not in whole.names)]
    columns = list_header.columns_of(names, [], meanings(connection)) | whole.columns
    sheet = Sheet(names, columns, [ListRow(row["row_no"], cells)], whole.marks, whole.header_row, whole.reading)
    done = _taken(connection, fleet_id, sheet, base_of(connection, today), assumed, by, today)
    if done.problems or done.found.questions or done.found.skipped:
        problems = done.problems.get(row["row_no"]) or [CellProblem("", "; ".join(done.found.skipped.values()) or "is not understood")]
        _still_wrong(connection, list_row_id, cells, problems)
        return False
    settled = {"list_row_id": list_row_id, "state": "in", "cells": _cells(cells), "by": by, "why": ""}
    connection.execute(query("lists.settle_row"), settled)
    fleets.audit(connection, fleet_id, by, "list row mended", row["name"], row=row["row_no"])
    return True


def _still_wrong(connection: Connection, list_row_id: int, cells: Mapping[str, Cell], problems: list[CellProblem]) -> None:
    row = {"list_row_id": list_row_id, "cells": _cells(cells), "problems": _problems(problems)}
    connection.execute(query("lists.row_still_wrong"), row)


def leave_out(connection: Connection, fleet_id: int, list_row_id: int, why: str, by: str) -> None:
    """A row that is not to go in, for a reason."""
    row = connection.execute(query("lists.row"), {"list_row_id": list_row_id}).fetchone()
    if row is None:
        raise InputError("row", "does not wait any more")
    if not why.strip():
        raise InputError("why", "say why this row is left out")
    settled = {"list_row_id": list_row_id, "state": "left", "cells": json.dumps(row["cells"]), "by": by, "why": why.strip()[:400]}
    connection.execute(query("lists.settle_row"), settled)
    fleets.audit(connection, fleet_id, by, "list row left out", row["name"], row=row["row_no"], why=why.strip()[:400])


def fleet_list_of(connection: Connection, list_file_id: int) -> bytes:
    """A kept list's bytes."""
    row = file(connection, list_file_id)
    assert row is not None
    return bytes(row["content"])


def forget(connection: Connection, list_file_id: int) -> None:
    """Put a list away that nobody took in."""
    connection.execute(query("lists.forget_file"), {"list_file_id": list_file_id})
