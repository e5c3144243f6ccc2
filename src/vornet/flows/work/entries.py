"""Entries from devices that may have had no connection for hours: each carries its own id and is kept exactly once; what
follows from it follows once. Nobody's entry replaces anybody's."""

from __future__ import annotations

import hashlib
import json
import math
import secrets
import uuid
from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import psycopg

from vornet.core import job as rules
from vornet.core.errors import InputError
from vornet.flows.house import days
from vornet.flows.house.people import Visitor
from vornet.flows.work.finish import follow
from vornet.store.database import Connection, Database, query

_NUMBERS = {
    "meter": (0, 1e9), "meter_2": (0, 1e9), "level_before": (-1, 2), "out_l": (0, 1e5), "minutes": (0, 10_000), "parts_out": (0, 99),
    "parts_in": (0, 99), "waste_l": (0, 1e5), "ambient_c": (-60, 70), "warmed_min": (0, 600), "dripped_min": (0, 6000),
    "gross_kg": (0, 1e6), "tare_kg": (0, 1e6), "oil_c": (-60, 200), "level_before_left": (-1, 2), "level_before_right": (-1, 2),
    "pressure_s": (0, 600), "filter_turns": (0, 5), "litres_out": (0, 1e5), "litres_in": (0, 1e5), "part_magnet": (0, 4),
}  # fmt: skip
_CHOICES = {
    "out_kind": ("measured", "estimated", "unknown"), "way": tuple(rules.WAYS), "warmth": tuple(rules.WARMTH),
    "filter_changed": ("yes", "no"), "prefilled": ("yes", "no"), "air_filter": tuple(rules.AIR_FILTERS),
    "air_action": tuple(rules.AIR_ACTIONS), "strainer_look": tuple(rules.STRAINER_LOOKS), "fill_open": ("yes", "no"),
    "leaks": ("none", "weeps", "leaks"), "indicator": ("reset", "none", "not_reset"), "sample_how": ("mid_stream", "valve", "tube"),
    "seals_new": ("yes", "no"), "tilted": ("yes", "no"), "filler_open": ("yes", "no"), "cap_slackened": ("yes", "no"),
    "filter_tightened": tuple(rules.TIGHTENED), "breather_look": tuple(rules.BREATHERS), "part_action": tuple(rules.PART_ACTIONS),
    "airbox": ("clean", "dusty"), "bled": ("yes", "no"),
}  # fmt: skip
_TICKS = ("kit", "safe", "shut", "torque", "magnets", "filter_checks")
_MANY = {"oil_looks": rules.OIL_LOOKS, "filter_looks": rules.FILTER_LOOKS, "as_found": rules.AS_FOUND}
_WORDS = ("sample_no", "oil", "batch", "concession", "note", "waste_into", "filter_part")


#: what an entry that no device of ours makes may lead to: it is refused, and the others beside it are kept
NOT_UNDERSTOOD = (psycopg.DataError, psycopg.IntegrityError, ArithmeticError, LookupError, TypeError, ValueError, AttributeError)


def _hash(token: str) -> bytes:
    return hashlib.sha256(token.encode()).digest()


def open_on_device(connection: Connection, who: Visitor, job_id: int) -> str:
    """Open a job on a device: its state moves on, and the device gets a key for this job's entries only."""
    token = secrets.token_urlsafe(24)
    connection.execute(
        query("jobs.put_device"),
        {"fleet_id": who.fleet_id, "token_hash": _hash(token), "job_id": job_id, "account_id": who.account_id},
    )
    return token


def begun_by_others(connection: Connection, who: Visitor, job_id: int) -> str:
    """Who else has entered something in an open job, or on which other phone it is open, in words; '' nobody."""
    row = connection.execute(query("jobs.others"), {"job_id": job_id, "me": who.name}).fetchone()
    if row is None or row["state"] != "open":
        return ""
    if row["others"]:
        at = row["last_at"].astimezone(ZoneInfo(days.zone_at(connection, depot_id=row["depot_id"], unit_id=row["unit_id"])))
        names = ", ".join(row["others"])
        return f"Begun by {names}, last entry {at:%H:%M}. Both may go on: of two answers the later one holds, and both are kept."
    if row["mine"]:
        return "You began this before, here or on another phone. What you entered is here; what waits on the other comes with its signal."
    return ""


def device_owner(db: Database, token: str, job_id: int) -> Visitor | None:
    """Whose device a key belongs to, for this job; None when it has ended or was made for another job."""
    with db.anyone() as connection:
        d = connection.execute(query("jobs.device_owner"), {"token_hash": _hash(token)}).fetchone()
    if d is None or d["job_id"] != job_id:
        return None
    return Visitor(d["account_id"], d["login"], d["display_name"], d["fleet_id"], d["fleet"], tuple(d["roles"]), "", d["measures"], d["zone"])


def checked_value(key: str, value: Any) -> Any:
    """An entry's value as it is kept. Raises InputError by key when it cannot be."""
    if key in _NUMBERS:
        low, high = _NUMBERS[key]
        if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
            raise InputError(key, "is not a number")
        if not low <= value <= high:
            raise InputError(key, f"{value:g} lies outside {low:g} to {high:g}")
        return float(value)
    if key in _CHOICES:
        if value not in _CHOICES[key]:
            raise InputError(key, f"one of {', '.join(_CHOICES[key])}")
        return value
    if key in _MANY:
        if not isinstance(value, list) or any(v not in _MANY[key] for v in value):
            raise InputError(key, f"some of {', '.join(_MANY[key])}")
        return value
    if key in _TICKS:
        if not isinstance(value, dict) or len(value) > 60:
            raise InputError(key, "is not a set of ticks")
        if key == "magnets" and any(g not in (0, 1, 2, 3, 4) for g in value.values()):
            raise InputError(key, "a grade from 0 to 4")
        return {str(k)[:120]: v for k, v in value.items() if isinstance(v, bool | int | float | str)}
    if key in _WORDS:
        return str(value).strip()[:1000]
    if key in ("pour", "level_read", "drip"):
        return _list_value(key, value)
    if key in ("stop", "defer", "item", "done", "photo", "undo"):
        if not isinstance(value, dict):
            raise InputError(key, "is not understood")
        return value
    raise InputError("key", f"{key[:40]!r} is not something a job asks for")


def _list_value(key: str, value: Any) -> dict[str, Any]:
    if not isinstance(value, dict):
        raise InputError(key, "is not understood")
    if value.get("taken_back"):
        return {"taken_back": str(value["taken_back"])[:40]}
    name, low, high = ("reading", -1.0, 2.0) if key == "level_read" else ("litres", 0.0, 1e5)
    number = value.get(name)
    if isinstance(number, bool) or not isinstance(number, int | float) or not math.isfinite(number) or not low <= number <= high:
        raise InputError(key, f"{name} must be a number between {low:g} and {high:g}")
    if key == "pour" and number <= 0:
        raise InputError(key, "something must have been poured")
    out: dict[str, Any] = {name: float(number)}
    if key == "pour":
        out["point"] = str(value.get("point", ""))[:120]
    elif key == "drip":
        minutes = value.get("min")
        if isinstance(minutes, bool) or not isinstance(minutes, int | float) or not math.isfinite(minutes) or not 0 < minutes <= 1e5:
            raise InputError(key, "minutes are more than zero")
        out["min"] = float(minutes)
    else:
        out["run"] = bool(value.get("run"))
        if value.get("side") in ("left", "right"):
            out["side"] = value["side"]
    return out


def take(connection: Connection, who: Visitor, job_id: int, rows: list[Any], now: datetime, today: date) -> dict[str, Any]:
    """Keep a device's entries and do what follows from them; what cannot be is refused with its sentence.

    ``rows``: {id, part, key, value, at, skew}: ``at`` the device's clock in ms, ``skew`` what that clock was
    ahead of the server's when the page was opened. Each entry is kept together with what follows from it,
    on its own, so that one that is wrong costs none of the others.
    """
    connection.execute(query("jobs.lock"), {"job_id": job_id})  # two devices take turns
    job = connection.execute(query("jobs.job"), {"job_id": job_id}).fetchone()
    if job is None:
        raise InputError("job", "is not in this fleet")
    parts = {p["part_id"]: p for p in connection.execute(query("jobs.parts"), {"job_id": job_id}).fetchall()}
    if rows:
        connection.execute(query("jobs.opened"), {"job_id": job_id, "by": who.name})
    kept, refused = [], []
    for row in rows[:2000]:
        name = str(row.get("id", ""))[:40] if isinstance(row, dict) else ""
        try:
            entry = _entry(row, parts, now)
            with connection.transaction():
                if _keep(connection, who, job_id, entry):
                    follow(connection, who, job, parts, entry, today)
            kept.append(name)
        except InputError as error:
            refused.append({"id": name, "field": error.field, "why": error.why})
        except NOT_UNDERSTOOD:
            refused.append({"id": name, "field": "entry", "why": "is not understood"})
    return {"kept": kept, "refused": refused, **standing(connection, job_id)}


def _entry(row: Any, parts: dict[int, dict[str, Any]], now: datetime) -> dict[str, Any]:
    if not isinstance(row, dict):
        raise InputError("entry", "is not understood")
    try:
        entry_id = uuid.UUID(str(row.get("id")))
    except ValueError:
        raise InputError("id", "is not an entry's id") from None
    part = row.get("part")
    if part is not None and part not in parts:
        raise InputError("part", "is not part of this job")
    key = str(row.get("key", ""))
    at = now
    clock, skew = row.get("at"), row.get("skew") or 0
    if isinstance(clock, int | float) and isinstance(skew, int | float) and math.isfinite(clock - skew):
        try:
            at = datetime.fromtimestamp((clock - skew) / 1000, UTC)
        except (ValueError, OverflowError, OSError):
            at = now
    if at > now or at < now - timedelta(days=60):
        at = now  # a clock that was set while the page was open
    return {"entry_id": entry_id, "part": part, "key": key, "value": checked_value(key, row.get("value")), "at": at}


def _keep(connection: Connection, who: Visitor, job_id: int, entry: dict[str, Any]) -> bool:
    return bool(connection.execute(
        query("jobs.put_entry"),
        {"fleet_id": who.fleet_id, "entry_id": entry["entry_id"], "job_id": job_id, "part_id": entry["part"], "key": entry["key"],
         "value": json.dumps(entry["value"]), "at": entry["at"], "by": who.name},
    ).fetchone())  # fmt: skip


def standing(connection: Connection, job_id: int) -> dict[str, Any]:
    """The job's state and everybody's entries, so that two devices see each other's."""
    job = connection.execute(query("jobs.job"), {"job_id": job_id}).fetchone()
    assert job is not None
    rows = connection.execute(query("jobs.entries"), {"job_id": job_id}).fetchall()
    parts = connection.execute(query("jobs.parts"), {"job_id": job_id}).fetchall()
    return {
        "state": job["state"],
        "parts": {p["part_id"]: {"state": p["state"], "reason": p["reason"], "figures": p["figures"]} for p in parts},
        "entries": [
            {"id": str(r["entry_id"]), "part": r["part_id"], "key": r["key"], "value": r["value"],
             "at": r["at"].timestamp() * 1000, "by": r["by"]}
            for r in rows
        ],
    }  # fmt: skip
