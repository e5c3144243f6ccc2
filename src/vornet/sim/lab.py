"""The lab that ships with Vornet: a separate process with a small HTTP interface of its own. Everything in it is made up.

Three desks speak three layouts: ``holm`` sends XLSX with decimal commas and ``<`` values, ``kaj`` a wide CSV with its own
headings and units, ``pier`` a long CSV. Bottles hold what the simulator's engines hold; every method has its scatter; now
and then a label, a unit or a digit goes wrong, and now and then a report is issued again.
"""

from __future__ import annotations

import csv
import io
import json
import threading
import time
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import numpy as np
from fastapi import FastAPI, Header, HTTPException, Response

from vornet.sim import engine, mistakes
from vornet.sim.engine import KEYS
from vornet.sim.fleet import DIESEL, GEARBOX, HYDRAULICS, OILS, UNITS, CompartmentSpec

DESKS = {"holm": "Holm Street Oil Lab", "kaj": "Kaj Nord Analyse", "pier": "Pier Chemistry"}
KEY = "bottle-for-bottle"
_OILS = {o.name: o for o in OILS}
#: below this the print says less than: what the methods see at all
_SEES = {**dict.fromkeys(engine.ELEMENTS, 1.0), "cr": 0.5, "ni": 0.5, "sn": 0.5, "soot_pct": 0.1, "fuel_pct": 0.3, "water_ppm": 50}

_KAJ = {
    "sample_no": "Prøve", "unit": "Maskin", "compartment": "Del", "sampled_on": "Uttatt", "received_on": "Mottatt", "reported_on": "Svart",
    "meter": "Telleverk", "oil_hours": "Oljetid", "oil": "Olje", "fe": "Jern mg/kg", "cr": "Krom mg/kg", "ni": "Nikkel mg/kg",
    "al": "Aluminium mg/kg", "cu": "Kobber mg/kg", "pb": "Bly mg/kg", "sn": "Tinn mg/kg", "si": "Silisium mg/kg", "na": "Natrium mg/kg",
    "k": "Kalium mg/kg", "b": "Bor mg/kg", "ca": "Kalsium %", "mg": "Magnesium mg/kg", "zn": "Sink %", "p": "Fosfor %",
    "mo": "Molybden mg/kg", "s": "Svovel %", "v40": "Viskositet 40", "v100": "Viskositet 100", "bn": "Basetall", "an": "Syretall",
    "oxidation": "Oksidasjon A/0.1mm", "nitration": "Nitrering A/0.1mm", "sulfation": "Sulfatering A/0.1mm", "soot_pct": "Sot %",
    "water_ppm": "Vann %", "fuel_pct": "Drivstoff %", "pq": "PQ-tall", "p4": "Partikler 4", "p6": "Partikler 6", "p14": "Partikler 14",
    "comment": "Merknad", "severity": "Grad",
}  # fmt: skip
_KAJ_UNIT = {**dict.fromkeys(("ca", "zn", "p", "s", "water_ppm"), "%"), **dict.fromkeys(("oxidation", "nitration", "sulfation"), "A/0.1mm")}
_KAJ_FACTOR = {key: 1e-4 if unit == "%" else 0.01 for key, unit in _KAJ_UNIT.items()}


def kaj_headings() -> dict[str, tuple[str, str]]:
    """What Kaj Nord's headings mean: heading → (key, unit)."""
    units = dict.fromkeys(engine.ELEMENTS, "ppm") | {"soot_pct": "%", "fuel_pct": "%"} | _KAJ_UNIT
    return {heading: (key, units.get(key, "")) for key, heading in _KAJ.items()}


@dataclass(frozen=True)
class Clock:
    """Seconds from a parcel's arrival at the interface until its bottles are received, and until they are reported."""

    received_s: float
    reported_s: float
    now: Callable[[], float] = time.time


def contents(label: dict[str, Any], start: date, seed: int) -> dict[str, float] | None:
    """What a bottle with this label holds, as the lab's methods would print it; None for a label nobody can read."""
    oil = _OILS.get(str(label.get("oil")))
    noise = np.random.default_rng([seed, zlib.crc32(str(label["sample_no"]).encode())]).standard_normal(len(KEYS))
    if not label.get("compartment"):
        return engine.new_oil_measured(oil, noise) if oil else None
    spec, place = _spec(label)
    oil = oil or _OILS[spec.oil]
    hours = float(label.get("oil_hours") or 0.3 * spec.interval)
    pace = metal = 1.0
    if place is not None:
        index, at = place
        own, own_metal = engine.paces(UNITS[index], index, seed)
        pace, metal = own[at], own_metal[at]
    day = (date.fromisoformat(label["sampled_on"]) - start).days
    tank = engine.oil_after(spec, oil, hours, float(label.get("topup_l") or 0.0), day, pace, metal)
    return tank.measured(noise)


def _spec(label: dict[str, Any]) -> tuple[CompartmentSpec, tuple[int, int] | None]:
    for index, unit in enumerate(UNITS):
        if unit.name == label.get("unit"):
            for at, spec in enumerate(unit.compartments):
                if spec.name == label.get("compartment"):
                    return spec, (index, at)
    name = str(label.get("compartment", "")).lower()
    if "hydraulic" in name:
        return CompartmentSpec(name, "hydraulics", "", HYDRAULICS, "Fjarra Hydro 46", 100, 92, 2000, 4000), None
    if any(word in name for word in ("gear", "axle", "drive", "differential")):
        return CompartmentSpec(name, "gearbox", "", GEARBOX, "Brennova Axle 80W-90", 13, 12, 60000, 120000), None
    return CompartmentSpec(name, "engine", "", DIESEL, "Skerry D 15W-40", 40, 37, 500, 1000, fuel="diesel"), None


class Bench:
    """The lab's work and its books, kept in one JSON file a desk so that a restart forgets nothing."""

    def __init__(self, folder: Path, clock: Clock, start: date, seed: int, mistake_rate: float, reissue_rate: float) -> None:
        self._folder, self._clock, self._start, self._seed = folder, clock, start, seed
        self._mistake_rate, self._reissue_rate = mistake_rate, reissue_rate
        self._lock = threading.Lock()
        folder.mkdir(parents=True, exist_ok=True)

    def _book(self, desk: str) -> dict[str, Any]:
        path = self._folder / f"{desk}.json"
        return json.loads(path.read_text()) if path.exists() else {"parcels": {}, "reports": []}

    def _keep(self, desk: str, book: dict[str, Any]) -> None:
        unfinished = self._folder / f".{desk}.json"
        unfinished.write_text(json.dumps(book))
        unfinished.replace(self._folder / f"{desk}.json")

    def accept(self, desk: str, number: str, parcel: dict[str, Any]) -> dict[str, Any]:
        """A parcel is announced; announced again, nothing changes."""
        with self._lock:
            book = self._book(desk)
            if number not in book["parcels"]:
                book["parcels"][number] = {**parcel, "at": self._clock.now(), "reported": False}
                self._keep(desk, book)
            return {"number": number, "bottles": len(book["parcels"][number]["bottles"])}

    def parcel(self, desk: str, number: str) -> dict[str, Any] | None:
        """What has become of a parcel's bottles."""
        with self._lock:
            parcel = self._book(desk)["parcels"].get(number)
        if parcel is None:
            return None
        there = self._clock.now() - parcel["at"] >= self._clock.received_s
        on = parcel["sent_on"] if there else None
        return {"number": number, "bottles": [{"sample_no": b["sample_no"], "received_on": on} for b in parcel["bottles"]]}

    def reports(self, desk: str, after: str) -> list[dict[str, Any]]:
        """Reports issued after one, oldest first; what has become ready is written now."""
        with self._lock:
            book = self._book(desk)
            now, changed = self._clock.now(), False
            for number, parcel in list(book["parcels"].items()):
                age = now - parcel["at"]
                if not parcel["reported"] and age >= self._clock.reported_s:
                    self._analyse(desk, book, number, parcel)
                    parcel["reported"] = changed = True
                again = parcel.get("again_on")
                if again and age >= 2 * self._clock.reported_s and not parcel.get("issued_again"):
                    self._issue(book, desk, f"{number}-b", parcel["rows"], again)
                    parcel["issued_again"] = changed = True
            if changed:
                self._keep(desk, book)
        ids = [r["id"] for r in book["reports"]]
        first = ids.index(after) + 1 if after in ids else 0
        return [{"id": r["id"], "name": r["name"]} for r in book["reports"][first:]]

    def report(self, desk: str, report_id: str) -> tuple[str, bytes] | None:
        with self._lock:
            found = next((r for r in self._book(desk)["reports"] if r["id"] == report_id), None)
        return None if found is None else (found["name"], bytes.fromhex(found["content"]))

    def _analyse(self, desk: str, book: dict[str, Any], number: str, parcel: dict[str, Any]) -> None:
        rng = np.random.default_rng([self._seed, zlib.crc32(f"{desk}{number}".encode())])
        rows: list[dict[str, Any]] = []
        for label in parcel["bottles"]:
            found = contents(label, self._start, self._seed)
            if found is None:
                continue
            on = parcel["sent_on"]
            rows.append({
                **{k: label.get(k) for k in ("sample_no", "unit", "compartment", "sampled_on", "meter", "oil_hours", "oil")},
                "received_on": on, "reported_on": on, **found, **_opinion(found),
            })  # fmt: skip
        mistakes.make([rows], _OILS, self._mistake_rate, rng, ("swapped", "dirty", "unit", "digit"))
        self._issue(book, desk, f"{number}-a", rows, parcel["sent_on"])
        if rows and rng.random() < self._reissue_rate:  # a dilution was forgotten: one figure comes again, put right
            row = rows[int(rng.integers(len(rows)))]
            if row.get("fe"):
                row["fe"] = round(float(row["fe"]) * 1.25)
            row["comment"] = "iron run again"
            later = (date.fromisoformat(parcel["sent_on"]) + timedelta(days=1)).isoformat()
            row["reported_on"] = later
            parcel["again_on"], parcel["rows"] = later, rows

    def _issue(self, book: dict[str, Any], desk: str, report_id: str, rows: list[dict[str, Any]], on: str) -> None:
        name, content = LAYOUTS[desk](rows)
        book["reports"].append({"id": f"{report_id}", "name": f"{desk}-{on}-{report_id}.{name}", "content": content.hex()})


def _opinion(found: dict[str, float]) -> dict[str, str]:
    """What a lab writes under a report: by the figures alone, knowing nothing of the engine."""
    if found.get("fe", 0) > 60 or found.get("si", 0) > 30:
        return {"severity": "C", "comment": "wear or dirt above normal, change oil and filter"}
    if found.get("water_ppm", 0) > 800:
        return {"severity": "B", "comment": "water present"}
    return {"severity": "A", "comment": "normal"}


def _shown(key: str, value: Any, decimal: str = ".") -> str:
    if value in (None, ""):
        return ""
    if key in _SEES and isinstance(value, int | float) and value < _SEES[key]:
        return f"<{_SEES[key]:g}".replace(".", decimal)
    return str(value).replace(".", decimal) if isinstance(value, int | float) else str(value)


def _dotted(day: Any) -> str:
    return date.fromisoformat(day).strftime("%d.%m.%Y") if day else ""


def holm(rows: list[dict[str, Any]]) -> tuple[str, bytes]:
    """XLSX: a title above the headings, units in a row of their own, everything text with decimal commas."""
    import xlsxwriter

    names = {"sample_no": "Sample No.", "unit": "Equipment", "compartment": "Component", "sampled_on": "Date sampled",
             "received_on": "Date received", "reported_on": "Date reported", "meter": "Meter reading", "oil_hours": "Oil age",
             "oil": "Lubricant", "comment": "Remarks", "severity": "Lab severity"}  # fmt: skip
    keys = [*names, *(k for k in KEYS if any(r.get(k) not in (None, "") for r in rows))]
    pretty = {"v40": "Visc 40", "v100": "Visc 100", "bn": "TBN", "an": "TAN", "soot_pct": "Soot", "water_ppm": "Water", "fuel_pct": "Fuel"}
    unit = {**dict.fromkeys(engine.ELEMENTS, "ppm"), "v40": "cSt", "v100": "cSt", "bn": "mg KOH/g", "an": "mg KOH/g", "soot_pct": "%",
            "water_ppm": "ppm", "fuel_pct": "%", "oxidation": "A/cm", "nitration": "A/cm", "sulfation": "A/cm"}  # fmt: skip
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True})
    sheet = book.add_worksheet("Results")
    sheet.write_string(0, 0, f"{DESKS['holm']} · analysis report")
    for c, key in enumerate(keys):
        sheet.write_string(2, c, names.get(key) or pretty.get(key) or key.capitalize())
        sheet.write_string(3, c, unit.get(key, ""))
    for r, row in enumerate(rows):
        for c, key in enumerate(keys):
            text = _dotted(row[key]) if key.endswith("_on") else _shown(key, row.get(key), ",")
            sheet.write_string(4 + r, c, text)
    book.close()
    return "xlsx", out.getvalue()


def kaj(rows: list[dict[str, Any]]) -> tuple[str, bytes]:
    """Wide CSV in Windows-1252: semicolons, decimal commas, headings and units of its own."""
    keys = [k for k in _KAJ if k not in KEYS or any(r.get(k) not in (None, "") for r in rows)]
    out = io.StringIO()
    writer = csv.writer(out, delimiter=";", lineterminator="\r\n")
    writer.writerow([_KAJ[k] for k in keys])
    for row in rows:
        cells = []
        for key in keys:
            value = row.get(key)
            if key.endswith("_on"):
                cells.append(_dotted(value))
            elif key in _KAJ_FACTOR and isinstance(value, int | float):
                cells.append(f"{value * _KAJ_FACTOR[key]:.4f}".rstrip("0").rstrip(".").replace(".", ","))
            else:
                cells.append(_shown(key, value, ","))
        writer.writerow(cells)
    return "csv", out.getvalue().encode("cp1252", "replace")


def pier(rows: list[dict[str, Any]]) -> tuple[str, bytes]:
    """Long CSV: a row a result, days as 05/01/2026."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["Bottle", "Asset", "Component", "Date drawn", "Date received", "Date reported", "Parameter", "Result", "Unit",
                     "Remarks"])  # fmt: skip
    for row in rows:
        days = [date.fromisoformat(row[k]).strftime("%d/%m/%Y") if row.get(k) else "" for k in ("sampled_on", "received_on", "reported_on")]
        for key in KEYS:
            if row.get(key) in (None, ""):
                continue
            unit = "ppm" if key in engine.ELEMENTS or key == "water_ppm" else "cSt" if key in ("v40", "v100") else ""
            unit = "mg KOH/g" if key in ("bn", "an") else "%" if key.endswith("_pct") else unit
            name = {"water_ppm": "Water", "soot_pct": "Soot", "fuel_pct": "Fuel", "v40": "KV40", "v100": "KV100"}.get(key, key.upper())
            writer.writerow([row["sample_no"], row.get("unit") or "", row.get("compartment") or "", *days, name, _shown(key, row[key]), unit,
                             row.get("comment") or ""])  # fmt: skip
    return "csv", out.getvalue().encode()


LAYOUTS: dict[str, Callable[[list[dict[str, Any]]], tuple[str, bytes]]] = {"holm": holm, "kaj": kaj, "pier": pier}


def create_app(bench: Bench, key: str = KEY) -> FastAPI:
    """The lab's interface: PUT and GET parcels, list and fetch reports, a desk each."""
    app = FastAPI(title="A lab that does not exist", docs_url=None, redoc_url=None, openapi_url=None)

    def let_in(desk: str, authorization: str) -> None:
        if desk not in DESKS:
            raise HTTPException(404, "no such desk")
        if authorization != f"Bearer {key}":
            raise HTTPException(401, "this desk does not know you")

    @app.put("/{desk}/parcels/{number}")
    def put(desk: str, number: str, parcel: dict[str, Any], authorization: str = Header("")) -> dict[str, Any]:
        let_in(desk, authorization)
        if not isinstance(parcel.get("bottles"), list) or not parcel.get("sent_on"):
            raise HTTPException(422, "a parcel has bottles and the day it was sent")
        return bench.accept(desk, number, parcel)

    @app.get("/{desk}/parcels/{number}")
    def get(desk: str, number: str, authorization: str = Header("")) -> dict[str, Any]:
        let_in(desk, authorization)
        found = bench.parcel(desk, number)
        if found is None:
            raise HTTPException(404, "no such parcel")
        return found

    @app.get("/{desk}/reports")
    def reports(desk: str, after: str = "", authorization: str = Header("")) -> dict[str, Any]:
        let_in(desk, authorization)
        return {"reports": bench.reports(desk, after)}

    @app.get("/{desk}/reports/{report_id}")
    def report(desk: str, report_id: str, authorization: str = Header("")) -> Response:
        let_in(desk, authorization)
        found = bench.report(desk, report_id)
        if found is None:
            raise HTTPException(404, "no such report")
        return Response(found[1], media_type="application/octet-stream")

    return app
