"""What was seen at each drain and noticed after it, as people read it, with the job that it speaks of."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Any

from vornet.core import job, seen
from vornet.store.database import Connection, query

_WORDS: tuple[tuple[str, str, Mapping[str, str]], ...] = (
    ("oil_looks", "oil", job.OIL_LOOKS), ("filter_looks", "filter", job.FILTER_LOOKS), ("strainer_look", "strainer", job.STRAINER_LOOKS),
    ("air_action", "air filter was", job.AIR_ACTIONS), ("as_found", "as found", job.AS_FOUND),
)  # fmt: skip
#: what is said when all is well
_WELL = frozenset({"normal", "clean", "left", "nothing"})


@dataclass(frozen=True)
class Look:
    """One thing seen: what was looked at, what was said of it, and whether it is more than all being well."""

    what: str
    words: str
    bad: bool


def _each(value: Any) -> list[str]:
    return [value] if isinstance(value, str) else [v for v in value if isinstance(v, str)] if isinstance(value, list) else []


def of_drain(row: Mapping[str, Any]) -> list[Look]:
    """What a drain's record shows, the magnets first. ``row``: a drain with its ``extra``."""
    extra = row.get("extra") or {}
    out = []
    magnets = extra.get("magnets") if isinstance(extra.get("magnets"), dict) else {}
    for place, grade in (magnets or {}).items():
        if isinstance(grade, int | float) and 0 <= grade < len(job.MAGNET):
            out.append(Look(f"magnet, {place}", f"{grade:.0f} {job.MAGNET[int(grade)]}", grade >= 3))
    if not out and row.get("magnet_grade") is not None:
        out.append(Look("magnet", f"{row['magnet_grade']} {job.MAGNET[row['magnet_grade']]}", row["magnet_grade"] >= 3))
    if row.get("air_filter"):
        out.append(Look("air filter", job.AIR_FILTERS.get(row["air_filter"], row["air_filter"]), row["air_filter"] in seen.AIR_FILTER))
    for key, what, words in _WORDS:
        for value in _each(extra.get(key)):
            if value in words:
                out.append(Look(what, words[value], value not in _WELL and key != "air_action"))
    if extra.get("leaks") in ("weeps", "leaks"):
        out.append(Look("at proving", "it weeps" if extra["leaks"] == "weeps" else "it leaks", True))
    return out


def how_closed(row: Mapping[str, Any]) -> list[str]:
    """How a drain was closed, which is what a later defect is laid beside: torque, seals, filter, level."""
    extra, out = row.get("extra") or {}, []
    torque = extra.get("torque")
    if isinstance(torque, dict):
        out += [f"{place} by {how}" for place, how in torque.items() if how in ("wrench", "feel")]
    if extra.get("seals_new") in ("yes", "no"):
        out.append("new seals" if extra["seals_new"] == "yes" else "seals reused")
    if row.get("filter_changed") is False:
        out.append("filter left in")
    if extra.get("filter_tightened"):
        out.append(f"filter tightened {job.TIGHTENED.get(extra['filter_tightened'], extra['filter_tightened'])}")
    if extra.get("reading_after") is not None:
        out.append(f"level left at {extra['reading_after']:.0%} between MIN and MAX")
    return out


@dataclass(frozen=True)
class Noticed:
    """Something noticed or read between drains; ``after`` the drain it speaks of, if any, and ``hours`` since it, None unknown."""

    on: date
    meter: float | None
    words: str
    note: str
    by: str
    bad: bool
    kind: str
    row_id: int
    after: int | None = None
    hours: float | None = None


def noticed(connection: Connection, compartment_id: int, drains: list[dict[str, Any]], unit: str) -> list[Noticed]:
    """Symptoms, coolant made up and what service items read at a compartment, newest first."""
    rows = connection.execute(query("board.noticed_of"), {"compartment_id": compartment_id}).fetchall()
    out = []
    for r in rows:
        bad, words = r["kind"] == "symptom", r["what"]
        if r["kind"] == "item":
            reading = r["reading"] or {}
            values = reading.get("values") or [reading.get("value")]
            bad = bool(seen.signs_read(r["type"], values if isinstance(values, list) else []))
            if not bad:
                continue
            words = f"{r['what']}: {', '.join(str(v) for v in values)}"
        before = next((d for d in drains if d["on_day"] <= r["on_day"]), None)
        mine = (
            bad and r["kind"] == "symptom" and r["what"] in seen.SYMPTOMS_OF_A_JOB and before is not None
            and seen.speaks_of_job(r["on_day"], r["meter"], before["on_day"], before["meter"], unit)
        )  # fmt: skip
        hours = r["meter"] - before["meter"] if mine and r["meter"] is not None and before is not None else None
        out.append(Noticed(
            r["on_day"], r["meter"], words, r["note"], r["recorded_by"], bad, r["kind"], r["row_id"],
            before["drain_id"] if mine and before is not None else None, hours,
        ))  # fmt: skip
    return out


def with_looks(drains: list[dict[str, Any]], found: list[Noticed]) -> list[dict[str, Any]]:
    """Drains, newest first, each with what was seen at it (``looks``), how it was closed, and what speaks of it since
    (``left``): symptoms of its first hundred hours, defects found at the next drain."""
    out = []
    for i, d in enumerate(drains):
        later = drains[i - 1] if i else None
        left = [Look("after it" if n.hours is None else "", n.words, True) for n in found if n.after == d["drain_id"]]
        hours = [n.hours for n in found if n.after == d["drain_id"]]
        odd = [v for v in _each((later.get("extra") or {}).get("as_found")) if v in seen.OF_THE_JOB] if later else []
        out.append({
            **d, "looks": of_drain(d), "closed": how_closed(d), "left": list(zip(left, hours, strict=True)),
            "left_defects": [job.AS_FOUND[v] for v in odd], "left_found_on": later["on_day"] if later and odd else None,
        })  # fmt: skip
    return out
