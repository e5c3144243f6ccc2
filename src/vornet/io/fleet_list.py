"""A fleet's list as people keep it: one sheet of units, of compartments, or of both at once, made into register rows.

Nothing is guessed in silence: a row with a cell that cannot be read, or may mean two things, waits as a whole with the cell named; what
is taken for granted of the whole list is said, and can be said otherwise.
"""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from vornet.core.errors import InputError
from vornet.io import lab_table, list_cells, sheet_reader
from vornet.io.list_cells import Cell, Marks, blank
from vornet.io.list_header import FIELDS, Column, Said, columns_of, letter, recognised, unique

HEADER_WITHIN = 30
MOST_ROWS = 5_000
#: what the file says of the whole: a key of ``Assumed`` that has to be said before rows go in
QUESTIONS = {
    "counts": "What do the meters count, where the list does not say?",
    "compartment": "Which compartment is this list about?",
    "unit": "Which column names the unit?",
}


@dataclass(frozen=True)
class Assumed:
    """What a person has said of the whole list: what meters count, which compartment it is about, its decimal mark, whether days stand
    before months, whether a row without a unit belongs to the one above, whether units whose names differ by case, blanks and hyphens only
    are ``apart`` ('' and None: as the list shows it)."""

    counts: str = ""
    compartment: str = ""
    decimal: str = ""
    day_first: bool | None = None
    carry: bool = True
    apart: bool = False

    @staticmethod
    def of(document: Mapping[str, Any]) -> Assumed:
        order = document.get("day_first")
        return Assumed(
            document["counts"] if document.get("counts") in ("h", "km") else "", str(document.get("compartment") or "").strip()[:120],
            document["decimal"] if document.get("decimal") in (",", ".") else "", order if isinstance(order, bool) else None,
            document.get("carry") is not False, document.get("apart") is True,
        )  # fmt: skip

    def as_dict(self) -> dict[str, Any]:
        return {"counts": self.counts, "compartment": self.compartment, "decimal": self.decimal, "day_first": self.day_first,
                "carry": self.carry, "apart": self.apart}  # fmt: skip


@dataclass(frozen=True)
class ListRow:
    """One row: its number in the file, its cells by heading, in order; blank ones are not there."""

    number: int
    cells: dict[str, Cell]


@dataclass
class Sheet:
    """A list as it was read: headings, what each is, its rows, how it writes."""

    names: list[str]
    columns: dict[int, Column]
    rows: list[ListRow]
    marks: Marks
    header_row: int
    reading: str
    too_wide: dict[int, int] = field(default_factory=dict)  # row number -> cells beyond the headings

    def by_name(self) -> dict[str, Column]:
        return {self.names[i]: c for i, c in self.columns.items() if c.key}

    def not_read(self) -> list[str]:
        """Headings with something under them that are not known."""
        used = {name for row in self.rows for name in row.cells}
        return [n for i, n in enumerate(self.names) if i not in self.columns and n in used]


# ---- the table -------------------------------------------------------------------------------------------------
def read(content: bytes, said: Said, assumed: Assumed) -> Sheet:
    """A list's headings and rows, whatever table it is. Raises InputError when it is none, or has no headings one can recognise."""
    numbered, reading = _table(content, said)
    at = _header(numbered, said)
    if at is None:
        raise InputError("file", "there is no row of headings among its first rows: unit, model, oil, capacity and the like")
    head = [str(c) for c in numbered[at][1]]
    while head and not head[-1].strip():
        head.pop()
    above = [str(c) for c in numbered[at - 1][1]] if at else []
    names = unique(head)
    columns = columns_of(names, above, said)
    rows, wide = [], {}
    for number, cells in numbered[at + 1 :]:
        filled = {names[i]: c for i, c in enumerate(cells[: len(names)]) if not blank(c)}
        beyond = sum(not blank(c) for c in cells[len(names) :])
        if filled or beyond:
            rows.append(ListRow(number, filled))
        if beyond:
            wide[number] = beyond
    if not rows:
        raise InputError("file", "has headings and no rows under them")
    if len(rows) > MOST_ROWS:
        raise InputError("file", f"has {len(rows):,} rows: a list of at most {MOST_ROWS:,} is read")
    sheet = Sheet(names, columns, rows, Marks(), numbered[at][0], reading, wide)
    sheet.marks = marks_of(sheet, assumed)
    return sheet


def _table(content: bytes, said: Said) -> tuple[list[tuple[int, Sequence[Cell]]], str]:
    if content[:2] == b"PK" or content[:8] == b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1":
        best: tuple[int, str, list[list[Cell]]] = (-1, "", [])
        for name, cells in sheet_reader.all_sheets(content).items():
            found = max((recognised([str(c) for c in row], said) for row in cells[:HEADER_WITHIN]), default=0)
            if found > best[0]:
                best = (found, name, cells)
        return list(enumerate(best[2], 1)), f"sheet {best[1]!r}"
    table = lab_table.open_table(io.BytesIO(content), headings=lambda row: recognised(row, said))
    rows: list[tuple[int, Sequence[Cell]]] = []
    for number, row in table.rows:
        if len(rows) > MOST_ROWS + HEADER_WITHIN:
            break
        rows.append((number, row))
    return rows, table.reading.partition(", decimal")[0]


def _header(rows: Sequence[tuple[int, Sequence[Cell]]], said: Said) -> int | None:
    best, most = None, 1
    for i, (_, row) in enumerate(rows[:HEADER_WITHIN]):
        found = recognised([str(c) for c in row], said)
        if found > most:
            best, most = i, found
    return _words_only(rows) if best is None else best


def _words_only(rows: Sequence[tuple[int, Sequence[Cell]]]) -> int | None:
    """The first row of several words and nothing else, in a language nobody has explained yet."""
    for i, (_, row) in enumerate(rows[:HEADER_WITHIN]):
        filled = [c for c in row if not blank(c)]
        if len(filled) > 2 and all(isinstance(c, str) and any(x.isalpha() for x in c) for c in filled):
            return i
    return None


def marks_of(sheet: Sheet, assumed: Assumed) -> Marks:
    """How the list writes figures and days: as it was said, else as it shows."""
    by_name = sheet.by_name()
    figures, days = [], []
    for row in sheet.rows:
        for name, cell in row.cells.items():
            kind = FIELDS[by_name[name].key].kind if name in by_name else ""
            if kind in ("volume", "meter", "interval", "days"):
                figures.append(cell)
            elif kind == "day":
                days.append(cell)
    shown = list_cells.marks_of(figures, days)
    return Marks(assumed.decimal or shown.decimal, shown.day_first if assumed.day_first is None else assumed.day_first)


def column_name(sheet: Sheet, heading: str) -> str:
    """A heading with the letter of its column, as people find it: 'C, Capacity'."""
    return f"{letter(sheet.names.index(heading))}, {heading}" if heading in sheet.names else heading
