"""Rows of a results file find their place: unit, compartment, oil and day; who finds none is held. The others are packed."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import date
from typing import Any

import numpy as np

from vornet.flows.house import days
from vornet.flows.lab.results_report import ResultsReport
from vornet.io.results_file import BadRow, Chunk, heading
from vornet.store.database import Connection, query
from vornet.store.packing import (
    COPY_HEAD,
    DAY_ZERO,
    FIELDS,
    array_fields,
    bool_field,
    day_field,
    double_field,
    long_field,
    pack_figures,
    pack_masks,
    pack_place,
    pack_row_no,
    text_field,
)  # fmt: skip


@dataclass(frozen=True)
class Places:
    """Names to ids: units, compartments, oils, bottles and samples announced at drains; ``latest``: no bottle was drawn after it."""

    units: dict[str, int]
    compartments: dict[tuple[int, str], int]
    only: dict[int, int]
    oils: dict[str, int]
    announced: dict[str, dict[str, Any]]
    latest: date


def _plain(name: str) -> str:
    return " ".join(name.lower().split())


def places_in(connection: Connection) -> Places:
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
    return Places(units, compartments, only, oils, announced, days.latest(connection, days.day_here(connection)))


_FIRST = hashlib.blake2b(digest_size=8)


def _digest(text: str, values: bytes) -> bytes:
    """What tells one row's content from another's, eight bytes."""
    out = _FIRST.copy()
    out.update(text.encode())
    out.update(values)
    return out.digest()


@dataclass
class Batch:
    """A chunk placed and packed, ready for the database: binary COPY rows, and where each row came from; ``compartments`` they are of."""

    chunk: Chunk
    packed: bytes
    positions: dict[int, int]
    held: list[BadRow]
    compartments: set[int]


def prepare(chunk: Chunk, places: Places, lab: str, report: ResultsReport, names: list[str]) -> Batch:
    """Place each row of a chunk and pack it; rows without a place are held."""
    text, numbers = chunk.text, chunk.numbers
    meters, hours, topups = numbers["meter"].tolist(), numbers["oil_hours"].tolist(), numbers["topup_l"].tolist()
    below, above = chunk.below.tolist(), chunk.above.tolist()
    # NaN payloads and -0.0 must not make equal rows look different
    block = np.where(np.isnan(chunk.values), np.nan, chunk.values + 0.0)
    raw, width = block.tobytes(), block.shape[1] * 8
    arrays, step = array_fields(block)
    positions: dict[int, int] = {}
    held = list(chunk.bad)
    lab_fields: dict[str, bytes] = {}
    days_written: dict[date, str] = {}
    known_places: dict[tuple[str, str, str], tuple[Any, ...]] = {}
    flag_fields = {(d, f): bool_field(d) + bool_field(f) for d in (False, True) for f in (None, False, True)}
    date_fields: dict[tuple[date | None, date | None], bytes] = {}
    units, compartments, oils = text["unit"], text["compartment"], text["oil"]
    comments, severities, of_labs = text["comment"], text["severity"], text["lab"]
    touched: set[int | None] = set()
    seen: dict[tuple[str, str], int] = {}  # of this chunk; the database knows the chunks before

    def hold(i: int, field_name: str, reason: str, detail: str) -> None:
        held.append(BadRow(chunk.row_no[i], field_name, reason, detail, cells(chunk, i, names)))

    out = [COPY_HEAD]
    for i, number in enumerate(text["sample_no"]):
        named = (units[i], compartments[i], oils[i])
        place = known_places.get(named)
        if place is None or number in places.announced or chunk.sampled_on[i] is None:
            place = _place(chunk, i, number, places)
            if isinstance(place[0], str):
                hold(i, *place)
                continue
            touched.add(place[1])
            if number not in places.announced:
                known_places[named] = place
        else:
            place = (*place[:3], chunk.sampled_on[i])
        unit_id, compartment_id, oil_id, sampled_on = place
        received, reported = chunk.received_on[i], chunk.reported_on[i]
        if (received or sampled_on) < sampled_on or (reported or sampled_on) < (received or sampled_on):
            told_days = ", ".join(f"{w} {d}" for w, d in (("drawn", sampled_on), ("received", received), ("reported", reported)) if d)
            hold(i, "sampled_on", "dates_order", told_days)
            continue
        if sampled_on > places.latest:
            hold(i, "sampled_on", "date_ahead", f"drawn on {sampled_on}, and today is {places.latest}")
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
        written = days_written.get(sampled_on) or days_written.setdefault(sampled_on, str(sampled_on))
        digest = _digest(
            f"{compartment_id}\x1f{oil_id}\x1f{written}\x1f{meter}\x1f{oil_hours}\x1f{topup}\x1f{drained}\x1f{changed}\x1f"
            f"{below[i]}\x1f{above[i]}\x1f{reported}", raw[i * width : (i + 1) * width],
        )  # fmt: skip
        positions[chunk.row_no[i]] = i
        lab_field = lab_fields.get(from_lab) or lab_fields.setdefault(from_lab, text_field(from_lab))
        dates = date_fields.get((received, reported))
        if dates is None:
            dates = date_fields[(received, reported)] = day_field(received) + day_field(reported)
        if compartment_id is None or unit_id is None or oil_id is None:
            at = FIELDS.to_bytes(2, "big") + long_field(compartment_id) + long_field(unit_id) + long_field(oil_id) + day_field(sampled_on)
        else:
            at = pack_place(FIELDS, 8, compartment_id, 8, unit_id, 8, oil_id, 4, sampled_on.toordinal() - DAY_ZERO)
        if meter == meter and oil_hours == oil_hours and topup == topup:
            figures = pack_figures(8, meter, 8, oil_hours, 8, topup)
        else:
            figures = double_field(meter) + double_field(oil_hours) + double_field(topup)
        out += (
            at, figures, flag_fields[(drained, changed)], pack_masks(8, below[i], 8, above[i]), arrays[i * step : (i + 1) * step],
            text_field(number), lab_field, dates, text_field(comments[i]), text_field(severities[i]),
            pack_row_no(4, chunk.row_no[i], 8), digest,
        )  # fmt: skip
    out.append(b"\xff\xff")
    return Batch(chunk, b"".join(out), positions, held, {c for c in touched if c is not None})


def cells(chunk: Chunk, i: int, names: list[str]) -> dict[str, str]:
    cells = zip(names, chunk.originals[i], strict=False)
    return {heading(name, j): cell[:500] for j, (name, cell) in enumerate(cells)}


def _place(
    chunk: Chunk, i: int, number: str, places: Places
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
