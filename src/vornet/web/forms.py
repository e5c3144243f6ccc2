"""The register's forms as data: fields by kind, lists of rows; read from what was posted, shown as it would be typed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from vornet.core import measures, schools
from vornet.core.errors import InputError
from vornet.core.measures import Hand
from vornet.io import equipment as eq
from vornet.web.pages import number_like
from vornet.words.writing import read_day

#: kinds whose figures have a unit
QUANTITIES = ("volume", "torque", "length", "pressure", "temperature", "distance", "hours")


@dataclass(frozen=True)
class Field:
    """One field: its key in the register, its label, its kind (a quantity, text, words, int, number, bool, choice,
    list, date, oil), the choices of a choice, and a word of help."""

    key: str
    label: str
    kind: str = "text"
    choices: tuple[tuple[str, str], ...] = ()
    hint: str = ""
    sourced: bool = False


@dataclass(frozen=True)
class RowList:
    """A list of rows that are edited together; ``blank`` empty ones are offered below what is there."""

    key: str
    title: str
    fields: tuple[Field, ...]
    blank: int = 1


def _pairs(words: Mapping[str, str]) -> tuple[tuple[str, str], ...]:
    return tuple(words.items())


KINDS = tuple((k, k.replace("_", " ")) for k in (
    "engine", "gearbox", "primary", "final_drive", "differential", "axle", "hydraulics", "compressor", "other"))  # fmt: skip
FUELS = tuple((k, k) for k in ("diesel", "gas", "biogas", "heavy", "petrol", "none"))
METERS = (("h", "hours"), ("km", "distance"))

UNIT_FIELDS = (
    Field("unit", "Name"), Field("depot", "Depot"), Field("model", "Model"), Field("duty", "Duty"),
    Field("meter_unit", "Meter counts", "choice", METERS),
    Field("second_meter_unit", "Second meter counts", "choice", (("", "no second meter"), *METERS)),
    Field("estimated_per_day", "No meter: estimated per day", "number", hint="counted on from the last figure"),
    Field("serial", "Serial number"), Field("plate", "Plate"), Field("year", "Built", "int"),
    Field("lay_up_from", "Laid up every year from", hint="MM-DD"), Field("lay_up_to", "to", hint="MM-DD"),
    Field("access", "Getting at it", "words"),
)  # fmt: skip


def compartment_groups(counts: str) -> tuple[tuple[str, tuple[Field, ...]], ...]:
    """The compartment's single fields by heading; interval and cap in what its meter counts."""
    meter = "distance" if counts == "km" else "hours"
    return (
        ("What it is", (
            Field("compartment", "Name"), Field("kind", "Kind", "choice", KINDS),
            Field("fuel", "Fuel", "choice", (("", "–"), *FUELS)),
            Field("family", "Family", hint="compared with the others of this name"),
            Field("meter_no", "Counts the unit's", "choice", (("1", "first meter"), ("2", "second meter"))),
            Field("shared_with", "Sump shared with", hint="the other unit's name"),
        )),
        ("Oil and interval", (
            Field("oil", "Oil meant", "oil"), Field(f"interval_{counts}", "Interval", meter),
            Field("interval_days", "or days", "int"), Field(f"cap_{counts}", "Maker's cap", meter),
            Field(f"first_drain_{counts}", "First drain after new or overhauled", meter, hint="early and once"),
            Field(f"printed_{counts}", "Maker's printed interval", meter), Field(f"indicator_{counts}", "On-board indicator asks at", meter),
            Field(f"filter_{counts}", "Oil filter may run", meter), Field(f"bypass_{counts}", "Bypass filter may run", meter),
            Field("required_approvals", "Approvals required", "list", hint="separated by commas"),
        )),
        ("Volumes", (
            Field("system_volume_l", "Whole system", "volume", sourced=True),
            Field("capacity_l", "Refill with filter", "volume", sourced=True),
            Field("capacity_without_filter_l", "Refill, filter left", "volume", sourced=True),
            Field("volume_between_marks_l", "Between the marks", "volume", sourced=True),
            Field("oil_loss", "Oil it loses", "choice", (("", "–"), ("with_metal", "leaks or burns, metal goes along"),
                                                         ("clean", "evaporates, metal stays"))),
        )),
        ("How it is done here", (
            Field("fill_method", "Filled", "choice", (("", "–"), *_pairs(eq.FILL_METHODS))),
            Field("level_method", "Level read by", "choice", (("", "–"), *_pairs(eq.LEVEL_METHODS))),
            Field("sampling_point", "Sample drawn at", "choice", (("", "–"), *_pairs(eq.SAMPLING_POINTS))),
            Field("indicator_reset", "Resetting the indicator", "words"),
            Field("access", "Getting at it", "words"),
        )),
    )  # fmt: skip


_YES = (("", "–"), ("yes", "yes"), ("no", "no"))
LISTS: tuple[RowList, ...] = (
    RowList("drain_points", "Drain points", (
        Field("place", "Where"), Field("type", "Leaves by", "choice", tuple((t, t) for t in eq.DRAIN_TYPES)),
        Field("size", "Thread", hint="M22x1.5"), Field("wrench", "Wrench"),
        Field("torque_min_nm", "Torque from", "torque"), Field("torque_max_nm", "Torque to", "torque"),
        Field("magnet", "Magnet", "bool", _YES),
    )),
    RowList("fill_points", "Fill points", (
        Field("place", "Where"), Field("litres", "Takes", "volume"), Field("size", "Thread"),
    )),
    RowList("seals", "Seals", (
        Field("place", "Where"), Field("part", "Part no."), Field("kind", "Kind", hint="crush washer, O-ring"),
        Field("count", "Count", "int"), Field("single_use", "Single use", "bool", (("yes", "yes"), ("no", "no"))),
    )),
    RowList("filters", "Filters", (
        Field("part", "Part no."), Field("place", "Where"),
        Field("kind", "Kind", "choice", (("", "–"), ("spin_on", "spin-on"), ("cartridge", "cartridge"), ("inline", "in line"))),
        Field("count", "Count", "int"), Field("volume_l", "Holds", "volume"),
        Field("tightening", "Tightened", "choice", (("", "–"), *_pairs(eq.TIGHTENING))),
        Field("turns", "Turns", "number"), Field("torque_nm", "Torque", "torque"),
        Field("prefill", "Pre-filled", "bool", _YES),
        Field("approved", "May be replaced by", "list"), Field("barred", "Never", "list"),
    )),
    RowList("strainers", "Strainers", (
        Field("place", "Where"), Field("part", "Part no."), Field("washable", "Washed and refitted", "bool", _YES),
    )),
    RowList("magnetic_filters", "Magnetic filters", (
        Field("place", "Where"), Field("part", "Part no."), Field("washable", "Washed and refitted", "bool", _YES),
    )),
    RowList("breathers", "Breathers", (
        Field("place", "Where"), Field("part", "Part no."), Field("washable", "Washed and refitted", "bool", _YES),
    )),
    RowList("oils", "Oils by weather", (
        Field("oil", "Oil", "oil"), Field("min_c", "From", "temperature"), Field("max_c", "To", "temperature"),
        Field("alternative", "Only an alternative", "bool", (("no", "no"), ("yes", "yes"))),
    )),
)  # fmt: skip
OIL_FIELDS = (
    Field("name", "Name"), Field("grade", "Grade", hint="15W-40"), Field("density_kg_l", "Density, kg/L", "number"),
    Field("approvals", "Approvals held", "list", hint="separated by commas"),
    Field("pack_l", "Comes in packs of", "volume"),
    Field("cap_h", "May run at most, h", "number", hint="this oil's own cap"), Field("cap_km", "May run at most, km", "number"),
    Field("claim_h", "Supplier claims, h", "number", hint="the life its supplier claims"), Field("claim_km", "Supplier claims, km", "number"),
)  # fmt: skip
BATCH_FIELDS = (
    Field("batch", "Batch"), Field("received_on", "Came in", "date"), Field("litres", "How much", "volume"),
    Field("sample_no", "Sample of new oil"), Field("note", "Note"),
)  # fmt: skip


def item_fields(counts: str) -> tuple[Field, ...]:
    """A service item's fields, with its meter figures in what the meter counts."""
    meter = "distance" if counts == "km" else "hours"
    readings = (("", "nothing to read"), *((k, v[0]) for k, v in eq.READINGS.items()))
    return (
        Field("item", "Item"), Field("every_meter", "Every", meter), Field("every_days", "or every, days", "int"),
        Field("first_meter", "First at (break-in)", meter),
        Field("every_nth", "At every nth", "int", hint="2: every second"),
        Field("nth_of", "of", hint="oil drain, or another item"),
        Field("season", "Before the day", hint="10-31: each year"), Field("condition", "By look, in words"),
        Field("reading_type", "Read", "choice", readings), Field("low", "from", "reading"), Field("high", "to", "reading"),
        Field("good", "good if", "list"), Field("points", "Grease points", "int"), Field("strokes", "Strokes each", "number"),
        Field("grease", "Grease"), Field("parts", "Parts", "list"), Field("note", "Note"),
    )  # fmt: skip


def shown(field: Field, value: Any, system: str) -> str:
    """A stored value as it would be typed."""
    if value is None or value == [] or value == {}:
        return ""
    if isinstance(value, str):
        return value
    if field.kind in QUANTITIES:
        return measures.as_typed(float(value), field.kind, system)
    if field.kind == "list":
        return ", ".join(str(v) for v in value)
    if field.kind == "bool":
        return "yes" if value else "no"
    if field.key == "shared_with" and isinstance(value, dict):
        return str(value.get("unit", ""))
    if isinstance(value, float):
        return measures.plain_figure(value)
    return str(value)


def read(field: Field, text: str, hand: Hand, name: str | None = None) -> Any:
    """What a field's text means, None for blank. Raises InputError under ``name`` (or the field's key)."""
    name, text = name or field.key, text.strip()
    if not text:
        return None
    if field.kind in QUANTITIES:
        return round(measures.typed(text, field.kind, hand, name), 6)
    if field.kind == "int":
        value = measures.number(text, name, hand.mark)
        if not value.is_integer():
            raise InputError(name, f"{text[:30]!r} is not a whole number")
        return int(value)
    if field.kind == "number":
        return measures.number(text, name, hand.mark)
    if field.kind == "list":
        return [part.strip() for part in text.split(",") if part.strip()]
    if field.kind == "bool":
        return text == "yes"
    if field.kind == "date":
        found = read_day(text, name)
        return found.isoformat() if found else None
    if field.key == "shared_with":
        return {"unit": text}
    if field.key == "meter_no":
        return int(text) if text in ("1", "2") else text
    return text


def read_fields(fields: tuple[Field, ...], form: Mapping[str, Any], hand: Hand, errors: dict[str, str], prefix: str = "") -> dict[str, Any]:
    """Every field that the form has, read; what is wrong goes into ``errors`` under the input's own name."""
    out: dict[str, Any] = {}
    for field in fields:
        name = prefix + field.key
        if name not in form:
            continue
        try:
            out[field.key] = read(field, str(form[name])[:4000], hand, name)
        except InputError as error:
            errors[name] = error.why
            out[field.key] = str(form[name])[:4000]  # shown again as it was typed
    return out


def read_compartment(form: Mapping[str, Any], counts: str, hand: Hand) -> tuple[dict[str, Any], dict[str, str]]:
    """A posted compartment form as register keys, and what is wrong by input name."""
    errors: dict[str, str] = {}
    out: dict[str, Any] = {}
    sources = {}
    for _, fields in compartment_groups(counts):
        out |= read_fields(fields, form, hand, errors)
        for field in fields:
            if field.sourced and form.get(f"sources.{field.key}"):
                sources[field.key] = str(form[f"sources.{field.key}"])
    out["sources"] = {k: v for k, v in sources.items() if out.get(k) is not None}
    for rows in LISTS:
        out[rows.key] = read_rows(rows, form, hand, errors)
    chosen = {s.key: str(form.get(f"school_{s.key}", "")) for s in schools.SCHOOLS}
    out["schools"] = {k: v for k, v in chosen.items() if v}
    return out, errors


def read_rows(rows: RowList, form: Mapping[str, Any], hand: Hand, errors: dict[str, str]) -> list[dict[str, Any]]:
    """The filled rows of a list. Choices alone do not make a row: one is empty until something is typed in it."""
    got: list[dict[str, Any]] = []
    for i in range(200):
        prefix = f"{rows.key}.{i}."
        if not any(f"{prefix}{f.key}" in form for f in rows.fields):
            break
        typed = any(str(form.get(prefix + f.key, "")).strip() for f in rows.fields if f.kind not in ("choice", "bool"))
        if not typed:
            continue
        # errors are told under the row's place among the filled ones, as the validator counts them
        mine: dict[str, str] = {}
        row = read_fields(rows.fields, form, hand, mine, prefix)
        errors.update({f"{rows.key}.{len(got)}.{name.removeprefix(prefix)}": why for name, why in mine.items()})
        got.append({k: v for k, v in row.items() if v is not None})
    return got


def read_item(form: Mapping[str, Any], counts: str, hand: Hand) -> tuple[dict[str, Any], dict[str, str]]:
    """A posted service item as register keys (``every_meter`` still without its unit), and what is wrong by name."""
    errors: dict[str, str] = {}
    given = read_fields(item_fields(counts), form, hand, errors)
    kind = given.pop("reading_type", None)
    reading: dict[str, Any] = {}
    low, high = str(form.get("low", "")), str(form.get("high", ""))
    given.pop("low", None)
    given.pop("high", None)
    good = given.pop("good", None)
    if kind:
        quantity = eq.READINGS[kind][1] if kind in eq.READINGS else "number"
        reading = {"type": kind, "good": good or []}
        for name, text in (("low", low), ("high", high)):
            try:
                reading[name] = read(Field(name, name, quantity if quantity in QUANTITIES else "number"), text, hand)
            except InputError as error:
                errors[name] = error.why
    points, strokes, grease = given.pop("points", None), given.pop("strokes", None), given.pop("grease", None)
    if reading:
        given["reading"] = {k: v for k, v in reading.items() if v not in (None, [])}
    if points:
        route = {"points": points, "strokes": strokes, "grease": grease}
        given["grease"] = {k: v for k, v in route.items() if v is not None}
    return {k: v for k, v in given.items() if v not in (None, "", [])}, errors


def item_shown(item: dict[str, Any], counts: str, system: str) -> dict[str, str]:
    """A stored service item as it would be typed, by input name."""
    flat: dict[str, Any] = {**item, **item.get("facts", {})}
    reading, grease = flat.get("reading") or {}, flat.get("grease") or {}
    flat |= {"reading_type": reading.get("type"), "good": reading.get("good"), "points": grease.get("points")}
    flat |= {"strokes": grease.get("strokes"), "grease": grease.get("grease")}
    out = {f.key: shown(f, flat.get(f.key), system) for f in item_fields(counts) if f.kind != "reading"}
    kind = eq.READINGS.get(reading.get("type", ""), ("", "number", ()))[1]
    for name in ("low", "high"):
        value = reading.get(name)
        out[name] = "" if value is None else shown(Field(name, name, kind if kind in QUANTITIES else "number"), value, system)
    return out


def label_of(name: str) -> str:
    """An input's name as people read it: ``drain_points.0.torque_max_nm`` → 'Drain points 1, torque to'."""
    parts = name.split(".")
    rows = next((r for r in LISTS if r.key == parts[0]), None)
    if rows is not None and len(parts) >= 2 and number_like(parts[1]):
        place = f"{rows.title} {int(parts[1]) + 1}"
        field = next((f for f in rows.fields if len(parts) > 2 and f.key == parts[2]), None)
        return f"{place}, {field.label.lower()}" if field else place
    every = [f for group in compartment_groups("h") + compartment_groups("km") for f in group[1]]
    found = next((f for f in (*every, *UNIT_FIELDS, *OIL_FIELDS) if f.key == name), None)
    return found.label if found else name.replace("_", " ")
