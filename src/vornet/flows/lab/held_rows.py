"""Rows of a lab's file that wait for a person: put away, or taken in as corrected."""

from __future__ import annotations

import re

from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.lab import files, labs, results
from vornet.io import results_file
from vornet.io.lab_header import Mapping_
from vornet.store.database import Connection, query


def reason_given(text: str) -> str:
    why = " ".join(text.split())[:500]
    if not why:
        raise InputError("why", "say in a few words why")
    return why


def dismiss(connection: Connection, fleet_id: int, held_row_id: int, why: str, by: str) -> None:
    """A waiting row has been dealt with elsewhere; a reason is kept."""
    said = reason_given(why)
    if connection.execute(query("results.dismiss_row"), {"held_row_id": held_row_id, "by": by, "resolution": said}).rowcount:
        fleets.audit(connection, fleet_id, by, "row put away", f"row {held_row_id}", why=said)


def _came_in(connection: Connection, import_file_id: int, said: Mapping_) -> results_file.ResultsFile | None:
    """The kept file a row came in, opened as when it was read; None where it cannot be any more."""
    try:
        return results_file.open_file(files.stream(connection, import_file_id), said)
    except InputError:
        return None


_EITHER = re.compile(r"[<>≤≥]?=?\s*[+-]?[1-9]\d{0,2}[.,]\d{3}")


def _not_either(changed: dict[str, str], file: results_file.ResultsFile | None, mark: str) -> None:
    """A figure that the file's way of writing and its writer's read as different numbers is asked back; a name or a sample number is no
    figure. Raises InputError."""
    if file is None or not mark or mark == ("," if file.decimal_comma else "."):
        return
    words = {place for name, place in file.header.context.items() if name not in ("meter", "oil_hours", "topup_l")}
    figures = {results_file.heading(name, place) for place, name in enumerate(file.header.names) if place not in words}
    for name, cell in changed.items():
        if name in figures and _EITHER.fullmatch(cell.strip()):
            whole, point = re.sub(r"[.,]", "", cell.strip()), cell.strip().replace(",", ".")
            raise InputError(name, f"{cell.strip()!r} may mean {whole} or {point}: write {whole}, or {cell.strip()}0")


def correct_row(
    connection: Connection, fleet_id: int, held_row_id: int, cells: dict[str, str], why: str, by: str, force: bool = False, mark: str = "",
) -> str:  # fmt: skip
    """Take a held row in with cells as a person corrected them; the original text is kept. Returns its sample number.

    ``force``: it replaces the sample that has its number; ``mark``: the decimal mark of whoever corrects. Cells are read as the file they
    came in. Raises InputError when it still cannot go in.
    """
    said = reason_given(why)
    row = connection.execute(query("results.held_row"), {"held_row_id": held_row_id}).fetchone()
    if row is None or row["resolved_at"] is not None:
        raise InputError("row", "is dealt with already")
    changed = {k: v for k, v in cells.items() if k in row["original"] and v.strip() != row["original"][k].strip()}
    lab = row["file_lab"]
    meanings = labs.meanings(connection, lab)
    whole = _came_in(connection, row["import_file_id"], meanings)
    _not_either(changed, whole, mark)
    file = results_file.one_row({**row["original"], **changed}, meanings, row["row_no"], whole)
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


def act(
    connection: Connection, fleet_id: int, held_row_id: int, do: str, cells: dict[str, str], why: str, by: str, mark: str = ""
) -> str:  # fmt: skip
    """What a person decides about a waiting row: ``away``, ``take`` with corrected cells, ``replace`` the sample that has its number;
    what was done, in a sentence. Raises InputError by field."""
    if do == "away":
        dismiss(connection, fleet_id, held_row_id, why, by)
        return "put away"
    number = correct_row(connection, fleet_id, held_row_id, cells, why, by, force=do == "replace", mark=mark)
    return f"sample {number} went in"
