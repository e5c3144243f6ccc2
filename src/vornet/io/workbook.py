"""The register as flat tables: XLSX with a sheet a table, CSV with a file a table, and back without loss.

A table's columns are the register file's own keys; a nested object becomes dotted columns (``reading.low``),
a list of names is joined by `` | ``, a list of objects has a table of its own that names its unit and
compartment. Keys that Vornet does not know stay together as JSON in ``more``.
"""

from __future__ import annotations

import csv
import io
import json
import zipfile
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import date, datetime
from typing import Any

from pydantic import BaseModel

from vornet.core.errors import InputError
from vornet.core.measurands import BY_KEY, KEYS
from vornet.io import equipment, register_file, sheet_reader, tables

JOIN = " | "


@dataclass(frozen=True)
class Table:
    """One table: its columns in order, where its rows live in the document, and the columns that place them."""

    name: str
    model: type[BaseModel]
    columns: tuple[str, ...]
    parents: tuple[str, ...] = ()
    child: str = ""  # the list of a unit, compartment or oil that its rows are


#: objects that become dotted columns
_INSIDE = {"reading": ("type", "low", "high", "good"), "grease": ("points", "strokes", "grease", "places"),
           "shared_with": ("unit",)}  # fmt: skip
_SOURCED = ("system_volume_l", "capacity_l", "capacity_without_filter_l", "volume_between_marks_l")
_LISTS = {"units": ("states", "compartments"), "oils": ("batches",),
          "compartments": ("oils", "drain_points", "fill_points", "seals", "filters", "strainers", "magnetic_filters",
                           "breathers")}  # fmt: skip


def _columns(model: type[BaseModel], without: Iterable[str] = (), open_reading: bool = False) -> tuple[str, ...]:
    out: list[str] = []
    for name in model.model_fields:
        if name in without:
            continue
        if name in _INSIDE and not open_reading:
            out += [f"{name}.{inner}" for inner in _INSIDE[name]]
        elif name == "sources":
            out += [f"sources.{f}" for f in _SOURCED]
        else:
            out.append(name)
    return (*out, "more")


def _table(name: str, model: type[BaseModel], parents: tuple[str, ...] = (), child: str = "", open_reading: bool = False) -> Table:
    own = _columns(model, _LISTS.get(name, ()), open_reading)
    if name == "oils":
        own = (*own[:-1], *KEYS, "more")
    return Table(name, model, (*(p for p in parents if p not in own), *own), parents, child)


_IN_COMPARTMENT = ("unit", "compartment")
TABLES: dict[str, Table] = {
    t.name: t
    for t in (
        _table("oils", register_file.Oil),
        _table("oil_batches", register_file.Batch, ("oil",), "batches"),
        _table("units", register_file.Unit),
        _table("unit_states", register_file.UnitState, ("unit",), "states"),
        _table("compartments", register_file.Compartment, ("unit",), "compartments"),
        _table("oil_bands", equipment.OilBand, _IN_COMPARTMENT, "oils"),
        _table("drain_points", equipment.DrainPoint, _IN_COMPARTMENT, "drain_points"),
        _table("fill_points", equipment.FillPoint, _IN_COMPARTMENT, "fill_points"),
        _table("seals", equipment.Seal, _IN_COMPARTMENT, "seals"),
        _table("filters", equipment.Filter, _IN_COMPARTMENT, "filters"),
        _table("strainers", equipment.Part, _IN_COMPARTMENT, "strainers"),
        _table("magnetic_filters", equipment.Part, _IN_COMPARTMENT, "magnetic_filters"),
        _table("breathers", equipment.Part, _IN_COMPARTMENT, "breathers"),
        _table("service_items", equipment.ServiceItem),
        _table("service_records", register_file.ServiceRecord, open_reading=True),
        _table("readings", register_file.Reading),
        _table("meter_changes", register_file.MeterChange),
        _table("drains", register_file.Drain),
        _table("top_ups", register_file.TopUp),
        _table("level_checks", register_file.LevelCheck, open_reading=True),
        _table("events", register_file.Event),
        _table("intervals", register_file.Interval),
        _table("templates", register_file.Template),
    )
}
_CHILDREN = tuple(t for t in TABLES.values() if t.child and t.parents == _IN_COMPARTMENT)
#: columns whose cells are JSON
_JSON = {"more", "schools", "compartments", "service_items"}


def _is_json(table: Table, column: str) -> bool:
    return column in _JSON or (table.name == "service_records" and column == "reading") or (
        table.name == "templates" and column == "unit")  # fmt: skip


def _flat(table: Table, row: dict[str, Any], placed: dict[str, str]) -> dict[str, Any]:
    known = {c.split(".")[0] for c in table.columns} | set(_LISTS.get(table.name, ()))
    out: dict[str, Any] = dict(placed)
    for column in table.columns:
        if column in placed and column not in row:
            continue
        head, _, inner = column.partition(".")
        value = row.get(head)
        if inner:
            value = value.get(inner) if isinstance(value, dict) else None
        if value in (None, "", [], {}):
            continue
        if _is_json(table, column):
            value = json.dumps(value, ensure_ascii=False)
        elif isinstance(value, list):
            value = JOIN.join(str(v) for v in value)
        out[column] = value
    more = {k: v for k, v in row.items() if k not in known}
    for head in ("sources",) if "sources" in row else ():
        rest = {k: v for k, v in row[head].items() if k not in _SOURCED}
        if rest:
            more[head] = rest
    for head, known_inside in _INSIDE.items():
        if f"{head}.{known_inside[0]}" in table.columns and isinstance(row.get(head), dict):
            rest = {k: v for k, v in row[head].items() if k not in known_inside}
            if rest:
                more[head] = rest
    if more:
        out["more"] = json.dumps(more, ensure_ascii=False)
    return out


def tables_of(document: dict[str, Any]) -> dict[str, list[dict[str, Any]]]:
    """A register document as flat rows by table name; every table is there, empty or not."""
    out: dict[str, list[dict[str, Any]]] = {name: [] for name in TABLES}
    for oil in document.get("oils", ()):
        out["oils"].append(_flat(TABLES["oils"], {k: v for k, v in oil.items() if k != "batches"}, {}))
        for batch in oil.get("batches", ()):
            out["oil_batches"].append(_flat(TABLES["oil_batches"], batch, {"oil": oil["name"]}))
    for unit in document.get("units", ()):
        out["units"].append(_flat(TABLES["units"], unit, {}))
        for state in unit.get("states", ()):
            out["unit_states"].append(_flat(TABLES["unit_states"], state, {"unit": unit["unit"]}))
        for c in unit.get("compartments", ()):
            out["compartments"].append(_flat(TABLES["compartments"], c, {"unit": unit["unit"]}))
            place = {"unit": unit["unit"], "compartment": c["compartment"]}
            for table in _CHILDREN:
                out[table.name] += [_flat(table, row, place) for row in c.get(table.child, ())]
    for name in ("service_items", "service_records", "readings", "meter_changes", "drains", "top_ups", "level_checks",
                 "events", "intervals", "templates"):  # fmt: skip
        out[name] = [_flat(TABLES[name], row, {}) for row in document.get(name, ())]
    return out


# ---- out -------------------------------------------------------------------------------------------------------
def as_xlsx(document: dict[str, Any], notes: bool = True) -> bytes:
    """A register document as a workbook, a sheet a table; text is text, so that no cell is a live formula."""
    import xlsxwriter

    out = io.BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False})
    head = book.add_format({"bold": True, "bottom": 1})
    if notes:
        _notes(book, head, str(document.get("fleet", "")))
    for name, rows in tables_of(document).items():
        sheet = book.add_worksheet(name)
        sheet.freeze_panes(1, len(TABLES[name].parents) or 1)
        tables.fill_sheet(sheet, rows, TABLES[name].columns, head)
    book.close()
    return out.getvalue()


def _notes(book: Any, head: Any, fleet: str) -> None:
    sheet = book.add_worksheet("about")
    lines = [
        ("fleet", fleet), ("", ""),
        ("How it works", "A row is known by its names: unit, compartment, item, day. The same name again changes the row."),
        ("", "A sheet that is missing or empty changes nothing; the list of a compartment's parts is replaced as a whole."),
        ("", "Dates as 2026-01-05. Volumes in L, torques in N·m, temperatures in °C; a column's unit is in its name."),
        ("", "A bad row is reported with its sheet, row and column; the others go in."), ("", ""),
        ("Sheet", "Column, and what may stand in it"),
    ]  # fmt: skip
    for table in TABLES.values():
        for i, column in enumerate(table.columns):
            lines.append((table.name if i == 0 else "", f"{column}: {_meaning(table, column)}"))
    for y, (a, b) in enumerate(lines):
        sheet.write_string(y, 0, a, head if a and b != fleet else None)
        sheet.write_string(y, 1, b)
    sheet.set_column(0, 0, 20)
    sheet.set_column(1, 1, 110)


def _meaning(table: Table, column: str) -> str:
    if column == "more":
        return "further keys, as JSON"
    if column in BY_KEY and table.name == "oils":
        m = BY_KEY[column]
        return f"new oil's {m.name.lower()}, {m.unit}"
    annotation = table.model.model_fields.get(column.split(".")[0])
    text = str(annotation.annotation) if annotation else "a name"
    for old, new in (("typing.", ""), ("<class '", ""), ("'>", ""), ("datetime.", ""), ("Literal", "one of "),
                     ("Optional", ""), (" | None", ", may be left out"), ("NoneType", "nothing")):  # fmt: skip
        text = text.replace(old, new)
    if "Annotated" in text or "vornet" in text or "list" in text:
        kind = "a number" if "float" in text or "int," in text else "text"
        text = f"several, joined by '{JOIN.strip()}'" if "list" in text else kind
    return text.replace("bool", "true or false").replace("str", "text").replace("float", "number")


def as_csv(document: dict[str, Any], table: str) -> str:
    """One table of a register document as CSV with all its columns."""
    if table not in TABLES:
        raise InputError("table", f"{table!r} is not one of {', '.join(TABLES)}")
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    columns = TABLES[table].columns
    writer.writerow(columns)
    for row in tables_of(document)[table]:
        writer.writerow([_bool_word(tables.cell(row.get(c))) for c in columns])
    return out.getvalue()


def _bool_word(value: Any) -> Any:
    return str(value).lower() if isinstance(value, bool) else value


def as_zip(document: dict[str, Any]) -> bytes:
    """Every table that has rows as a CSV, in one ZIP."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as pack:
        for name, rows in tables_of(document).items():
            if rows:
                pack.writestr(f"{name}.csv", as_csv(document, name))
    return out.getvalue()


# ---- in --------------------------------------------------------------------------------------------------------
@dataclass
class Sheets:
    """Rows by table name, each with its row number in the sheet; what could not be understood."""

    fleet: str | None = None
    rows: dict[str, list[tuple[int, dict[str, Any]]]] = field(default_factory=dict)
    problems: list[register_file.Problem] = field(default_factory=list)


def looks_flat(name: str, content: bytes) -> bool:
    """Whether a file is a workbook, a CSV table or a ZIP of them, by its first bytes and its name."""
    return content[:2] == b"PK" or name.lower().endswith((".csv", ".xlsx", ".ods", ".zip"))


def is_ours(name: str, content: bytes) -> bool:
    """Whether a table is written in the register's own columns; a list that people keep is not."""
    try:
        if content[:2] == b"PK":
            with zipfile.ZipFile(io.BytesIO(content)) as pack:
                names = pack.namelist()
            if "[Content_Types].xml" not in names and "content.xml" not in names:
                return True  # a ZIP of tables
            sheets = sheet_reader.all_sheets(content)
            mine = [(TABLES[n], rows[0]) for n, rows in ((s.strip().lower().replace(" ", "_"), r) for s, r in sheets.items())
                    if n in TABLES and rows]  # fmt: skip
            return "about" in {s.strip().lower() for s in sheets} or any(_own_columns(table, head) for table, head in mine)
        head = content[:20_000].decode("utf-8-sig", "replace").partition("\n")[0]
        cells = next(csv.reader([head.strip("\r")], delimiter=max(",;\t", key=head.count)), [])
    except (zipfile.BadZipFile, InputError, csv.Error):
        return False
    stem = name.rsplit("/", 1)[-1].rsplit(".", 1)[0].lower().replace("-", "_").replace(" ", "_")
    table = TABLES.get(stem) or next((t for t in TABLES.values() if stem.endswith("_" + t.name)), None)
    return _by_columns(cells) is not None or (table is not None and _own_columns(table, cells))


def _own_columns(table: Table, head: Iterable[Any]) -> bool:
    named = {str(c).strip().lower() for c in head if str(c).strip()}
    return bool(named) and len(named & set(table.columns)) * 2 > len(named)


def read(name: str, content: bytes) -> Sheets:
    """Read XLSX, ODS, a CSV named after its table, or a ZIP of CSVs. Raises InputError when it is none of them."""
    if content[:2] == b"PK":
        try:
            with zipfile.ZipFile(io.BytesIO(content)) as pack:
                sheet_reader.check_unpacked(content)
                names = pack.namelist()
                if "[Content_Types].xml" not in names and "content.xml" not in names:
                    return _from_zip(pack)
        except zipfile.BadZipFile:
            raise InputError("file", "is cut off or damaged") from None
        return _from_workbook(content)
    out = Sheets()
    _csv_table(out, name.rsplit("/", 1)[-1], content)
    return out


def _from_zip(pack: zipfile.ZipFile) -> Sheets:
    out = Sheets()
    for info in pack.infolist():
        if info.filename.lower().endswith(".csv"):
            _csv_table(out, info.filename.rsplit("/", 1)[-1], pack.read(info))
    if not out.rows:
        raise InputError("file", f"holds no CSV named after a table: {', '.join(TABLES)}")
    return out


def _csv_table(out: Sheets, name: str, content: bytes) -> None:
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise InputError("file", "is not UTF-8 text") from None
    separator = max(",;\t", key=text.partition("\n")[0].count)
    try:
        rows = list(csv.reader(io.StringIO(text), delimiter=separator))
    except csv.Error as error:  # a quote that never closes, say
        raise InputError("file", f"cannot be read as a table: {error}") from None
    if not rows:
        raise InputError("file", "is empty")
    stem = name.rsplit(".", 1)[0].lower().replace("-", "_").replace(" ", "_")
    table = TABLES.get(stem) or next((t for t in TABLES.values() if stem.endswith("_" + t.name)), None) or _by_columns(rows[0])
    if table is None:
        raise InputError("file", f"its columns fit no table: name it after one of {', '.join(TABLES)}")
    _rows(out, table, rows[0], ((i, cells) for i, cells in enumerate(rows[1:], 2)), quoted=True)


def _by_columns(header: list[str]) -> Table | None:
    names = {h.strip().lower() for h in header if h.strip()}
    fitting = [t for t in TABLES.values() if names <= set(t.columns) and set(t.parents) <= names and len(names) >= 2]
    return min(fitting, key=lambda t: len(t.columns)) if fitting else None


def _from_workbook(content: bytes) -> Sheets:
    sheets = {name.strip().lower(): rows for name, rows in sheet_reader.all_sheets(content).items()}
    out = Sheets()
    about = sheets.pop("about", None)
    if about and len(about[0]) > 1 and str(about[0][0]).strip() == "fleet":
        out.fleet = str(about[0][1]).strip() or None
    for name, rows in sheets.items():
        table = TABLES.get(name.replace(" ", "_"))
        if table is None:
            out.problems.append(register_file.Problem(f"sheet {name}", "", "is no table of the register; not read"))
        elif rows:
            _rows(out, table, [str(c) for c in rows[0]], ((i, list(r)) for i, r in enumerate(rows[1:], 2)), quoted=False)
    if not out.rows:
        raise InputError("file", f"has none of the sheets {', '.join(list(TABLES)[:6])} …")
    return out


def _rows(out: Sheets, table: Table, header: list[str], rows: Iterable[tuple[int, list[Any]]], quoted: bool) -> None:
    names = [h.strip().lower() for h in header]
    unknown = [n for n in names if n and n not in table.columns]
    for n in unknown:
        out.problems.append(register_file.Problem(table.name, n, "is no column of this table; not read"))
    mine = out.rows.setdefault(table.name, [])
    for number, cells in rows:
        row: dict[str, Any] = {}
        bad = ""
        for name, cell in zip(names, cells, strict=False):
            if name not in table.columns or cell in (None, ""):
                continue
            try:
                value = _value(table, name, cell, quoted)
            except ValueError as error:
                bad = bad or f"{name}: {error}"
                continue
            head, _, inner = name.partition(".")
            if name == "more":
                _merge(row, value)
            elif inner:
                row.setdefault(head, {})[inner] = value
            else:
                row[name] = value
        if bad:
            column, _, why = bad.partition(": ")
            out.problems.append(register_file.Problem(f"{table.name} row {number}", column, why))
        elif row:
            mine.append((number, row))


def _merge(row: dict[str, Any], more: dict[str, Any]) -> None:
    for key, value in more.items():
        if isinstance(value, dict) and isinstance(row.get(key), dict):
            row[key].update(value)
        elif isinstance(value, dict):
            row[key] = {**value}
        else:
            row.setdefault(key, value)


def _value(table: Table, column: str, cell: Any, quoted: bool) -> Any:
    if isinstance(cell, datetime | date):
        if _is_json(table, column):
            raise ValueError("is not a JSON object")
        return cell.isoformat()[:10]
    if isinstance(cell, str):
        cell = cell.strip()
        if quoted:
            cell = tables.let_go(cell)
    if _is_json(table, column):
        try:
            value = json.loads(cell) if isinstance(cell, str) else cell
        except ValueError:
            raise ValueError("is not JSON") from None
        if not isinstance(value, dict | list) or (column == "more" and not isinstance(value, dict)):
            raise ValueError("is not a JSON object")
        return value
    if _is_list(table, column):
        return [part.strip() for part in str(cell).split(JOIN.strip()) if part.strip()]
    if column == "meter_no" and str(cell).strip() in ("1", "2"):
        return int(cell)
    if column in KEYS and table.name == "oils" and isinstance(cell, str):
        try:
            return float(cell)
        except ValueError:
            raise ValueError(f"{cell[:30]!r} is not a number") from None
    if isinstance(cell, float) and _is_text(table, column):
        return f"{cell:g}"
    if isinstance(cell, float) and cell.is_integer():
        return int(cell)
    return cell


def _annotation(table: Table, column: str) -> str:
    head, _, inner = column.partition(".")
    info = table.model.model_fields.get(head)
    if inner in ("good", "places"):
        return "list[str]"
    if inner:
        return "str" if inner in ("type", "grease", "unit") or head == "sources" else "float"
    return str(info.annotation) if info else "str"


def _is_list(table: Table, column: str) -> bool:
    return "list[" in _annotation(table, column)


def _is_text(table: Table, column: str) -> bool:
    annotation = _annotation(table, column)
    if column in KEYS and table.name == "oils":
        return False
    return "str" in annotation or "StringConstraints" in annotation


# ---- rows onto the register ------------------------------------------------------------------------------------
def document_of(sheets: Sheets, base: dict[str, Any]) -> tuple[dict[str, Any], dict[str, str]]:
    """A register document from rows laid over the register there is, and where each of its parts came from.

    ``base``: the fleet's present document; a unit or compartment in the sheets keeps what the sheets do not
    say. Lists of parts are replaced where their sheet names the compartment. The second value maps places
    in the document (``units[0].compartments[1].seals.2``) to places in the file (``seals row 7``).
    """
    out: dict[str, Any] = {}
    places: dict[str, str] = {}
    problems = sheets.problems
    rows = sheets.rows
    oils = {o["name"]: dict(o) for o in base.get("oils", ())}
    touched_oils: dict[str, str] = {}
    for number, row in rows.get("oils", ()):
        name = row.get("name", "")
        oils[name] = {**oils.get(name, {}), **row}
        touched_oils.setdefault(name, f"oils row {number}")
    for number, row in rows.get("oil_batches", ()):
        name, where = row.pop("oil", ""), f"oil_batches row {number}"
        if name not in oils:
            problems.append(register_file.Problem(where, "oil", f"there is no oil named {name!r}"))
            continue
        touched_oils.setdefault(name, where)
        kept = [b for b in oils[name].get("batches", ()) if b.get("batch") != row.get("batch")]
        oils[name]["batches"] = [*kept, row]
    out["oils"] = []
    for name, where in touched_oils.items():
        places[f"oils[{len(out['oils'])}]"] = where
        out["oils"].append(oils[name])
    _units(sheets, base, out, places)
    for name in ("service_items", "service_records", "readings", "meter_changes", "drains", "top_ups", "level_checks",
                 "events", "intervals", "templates"):  # fmt: skip
        out[name] = []
        for number, row in rows.get(name, ()):
            places[f"{name}[{len(out[name])}]"] = f"{name} row {number}"
            out[name].append(row)
    return out, places


def _units(sheets: Sheets, base: dict[str, Any], out: dict[str, Any], places: dict[str, str]) -> None:
    units: dict[str, dict[str, Any]] = {u["unit"]: dict(u) for u in base.get("units", ())}
    known: dict[tuple[str, str], dict[str, Any]] = {
        (u["unit"], c["compartment"]): dict(c) for u in base.get("units", ()) for c in u.get("compartments", ())
    }
    touched: dict[str, str] = {}
    changed: dict[tuple[str, str], str] = {}
    parts: dict[tuple[str, str, str], list[str]] = {}

    def missing(where: str, unit: str, compartment: str | None = None) -> None:
        if compartment is None:
            why, column = f"there is no unit named {unit!r}" if unit else "is missing", "unit"
        else:
            why, column = f"unit {unit!r} has no compartment {compartment!r}", "compartment"
        sheets.problems.append(register_file.Problem(where, column, why))

    for number, row in sheets.rows.get("units", ()):
        name = row.get("unit", "")
        kept = {k: v for k, v in units.get(name, {}).items() if k != "compartments"}
        units[name] = {**kept, **row}
        touched.setdefault(name, f"units row {number}")
    for number, row in sheets.rows.get("unit_states", ()):
        name, where = row.pop("unit", ""), f"unit_states row {number}"
        if name not in units:
            missing(where, name)
            continue
        units[name]["states"] = [*(s for s in units[name].get("states", ()) if s.get("on") != row.get("on")), row]
        touched.setdefault(name, where)
    for number, row in sheets.rows.get("compartments", ()):
        name, where = row.pop("unit", ""), f"compartments row {number}"
        if name not in units:
            missing(where, name)
            continue
        key = (name, row.get("compartment", ""))
        known[key] = {**known.get(key, {}), **row}
        changed[key] = where
    for table in _CHILDREN:
        fresh: dict[tuple[str, str], list[dict[str, Any]]] = {}
        for number, row in sheets.rows.get(table.name, ()):
            key, where = (row.pop("unit", ""), row.pop("compartment", "")), f"{table.name} row {number}"
            if key not in known:
                missing(where, key[0], None if key[0] not in units else key[1])
                continue
            fresh.setdefault(key, []).append(row)
            parts.setdefault((*key, table.child), []).append(where)
            changed.setdefault(key, where)
        for key, mine in fresh.items():
            known[key] = {**known[key], table.child: mine}
    out["units"] = []
    for name in dict.fromkeys([*touched, *(u for u, _ in changed)]):
        i = len(out["units"])
        mine_of = [(c, where) for (u, c), where in changed.items() if u == name]
        places[f"units[{i}]"] = touched.get(name) or mine_of[0][1]
        for j, (c, where) in enumerate(mine_of):
            places[f"units[{i}].compartments[{j}]"] = where
            for (u, cc, child), wheres in parts.items():
                if (u, cc) == (name, c):
                    places.update({f"units[{i}].compartments[{j}].{child}.{n}": w for n, w in enumerate(wheres)})
        out["units"].append({**units[name], "compartments": [known[(name, c)] for c, _ in mine_of]})


def in_the_file(problem: register_file.Problem, places: dict[str, str]) -> register_file.Problem:
    """A problem of the document, told by its place in the file."""
    steps = problem.field.split(".")
    inner = f"{problem.where}.{'.'.join(steps[:2])}" if len(steps) >= 2 else ""
    if inner in places:
        return register_file.Problem(places[inner], ".".join(steps[2:]), problem.why)
    return register_file.Problem(places.get(problem.where, problem.where), problem.field, problem.why)
