"""Telling other programs what happened: a result, a verdict, a hold, a stop, something due; signed, once each, tried again."""

from __future__ import annotations

import hashlib
import hmac
import json
import re
import secrets as randomness
from collections.abc import Iterator
from datetime import date, datetime
from typing import Any

import httpx

from vornet.core.errors import InputError
from vornet.core.judge import VERDICTS
from vornet.flows.house import days, fleets
from vornet.io.address import CheckedTransport, Refused, inside_allowed
from vornet.store import secrets
from vornet.store.database import Connection, Database, query

EVENTS = {
    "result": "a sample's result came in", "verdict": "a verdict was signed", "hold": "a sample is held",
    "stop": "a Stop, or a stopped job or trial",
    "due": "an oil change is due",
}  # fmt: skip
#: how long after each failure it is tried again, s; then it is given up
AGAIN_S = (60, 300, 1800, 7200, 43200)
PATIENCE_S = 10.0
MOST_AT_ONCE = 200


def hooks(connection: Connection) -> list[dict[str, Any]]:
    """Addresses that are told, without their secrets."""
    rows = connection.execute(query("webhooks.hooks")).fetchall()
    return [{k: v for k, v in row.items() if k != "secret"} for row in rows]


def deliveries(connection: Connection) -> list[dict[str, Any]]:
    return connection.execute(query("webhooks.deliveries")).fetchall()


def put(connection: Connection, fleet_id: int, address: str, events: list[str], by: str, today: date) -> tuple[int, str]:
    """A new address; its id, and its secret, which is shown this once. What is so already is not told. Raises InputError."""
    address = address.strip()
    if not re.fullmatch(r"https?://[\w.:\[\]-]+(/[^\s]*)?", address) or len(address) > 500:
        raise InputError("address", "is an address like https://example.net/oil")
    if address.startswith("http://") and not inside_allowed():
        raise InputError("address", "begins with https://: what is told is nobody else's")
    wrong = [e for e in events if e not in EVENTS]
    if wrong or not events:
        raise InputError("events", f"choose from {', '.join(EVENTS)}")
    secret = "whsec_" + randomness.token_urlsafe(24)
    row = connection.execute(
        query("webhooks.put"),
        {"fleet_id": fleet_id, "address": address, "events": sorted(set(events)), "secret": secrets.seal(secret), "by": by},
    ).fetchone()  # fmt: skip
    assert row is not None
    made = int(row["webhook_id"])
    for event, about, body in _now(connection, today):
        _line_up(connection, fleet_id, made, event, about, body, "before")
    fleets.audit(connection, fleet_id, by, "webhook made", address, events=sorted(set(events)))
    return made, secret


def remove(connection: Connection, fleet_id: int, webhook_id: int, by: str) -> None:
    row = connection.execute(query("webhooks.remove"), {"webhook_id": webhook_id}).fetchone()
    if row is None:
        raise InputError("webhook", "is not in this fleet")
    fleets.audit(connection, fleet_id, by, "webhook removed", row["address"])


def again(connection: Connection, delivery_id: int) -> None:
    """Try one that was given up once more, at once."""
    if connection.execute(query("webhooks.try_again"), {"delivery_id": delivery_id}).fetchone() is None:
        raise InputError("delivery", "is not one that was given up")


# ---- what happened ---------------------------------------------------------------------------------------------
def _now(connection: Connection, today: date) -> Iterator[tuple[str, str, dict[str, Any]]]:
    """What stands open: holds, stops, what is due."""
    for h in connection.execute(query("webhooks.open_holds")).fetchall():
        yield "hold", f"hold {h['hold_id']}", dict(h)
    for s in connection.execute(query("weeks.stops_to_tell")).fetchall():
        body = {k: s[k] for k in ("compartment_id", "unit", "compartment", "on_day", "cause")}
        yield "stop", s["about"], body | {"kind": s["about"].split()[0]}
    for d in connection.execute(query("webhooks.due"), {"today": today}).fetchall():
        yield "due", f"due {d['compartment_id']} {d['due_driver']} {d['due_meter'] or 0:.0f}", dict(d)


def line_up(connection: Connection, fleet_id: int, today: date) -> int:
    """Put in line what happened since the last time; how much."""
    count = 0
    open_now: list[tuple[str, str, dict[str, Any]]] | None = None
    for hook in connection.execute(query("webhooks.hooks")).fetchall():
        wanted, up_to = set(hook["events"]), {"last_sample": 0, "last_verdict": 0}
        if "result" in wanted:
            for s in connection.execute(query("webhooks.new_samples"), {"since": hook["last_sample"]}).fetchall():
                count += _line_up(connection, fleet_id, hook["webhook_id"], "result", f"result {s['sample_id']}", dict(s))
                up_to["last_sample"] = s["sample_id"]
        if "verdict" in wanted:
            for v in connection.execute(query("webhooks.new_verdicts"), {"since": hook["last_verdict"]}).fetchall():
                body = dict(v) | {"verdict": VERDICTS.get(v["verdict"], "none"), "proposed": VERDICTS.get(v["proposed"], "none")}
                count += _line_up(connection, fleet_id, hook["webhook_id"], "verdict", f"verdict {v['verdict_id']}", body)
                up_to["last_verdict"] = v["verdict_id"]
        if any(up_to.values()):
            connection.execute(query("webhooks.told_up_to"), up_to | {"webhook_id": hook["webhook_id"]})
        if wanted & {"hold", "stop", "due"}:
            open_now = list(_now(connection, today)) if open_now is None else open_now
            for event, about, body in open_now:
                if event in wanted:
                    count += _line_up(connection, fleet_id, hook["webhook_id"], event, about, body)
    return count


def _line_up(
    connection: Connection, fleet_id: int, webhook_id: int, event: str, about: str, body: dict[str, Any], state: str = "waits"
) -> int:
    text = json.dumps(body, default=_plain, ensure_ascii=False)
    row = {"fleet_id": fleet_id, "webhook_id": webhook_id, "event": event, "about": about, "body": text, "state": state}
    return connection.execute(query("webhooks.put_delivery"), row).rowcount


def _plain(value: Any) -> str:
    return value.isoformat() if isinstance(value, date | datetime) else str(value)


# ---- telling ---------------------------------------------------------------------------------------------------
def signature(secret: str, seconds: int, body: bytes) -> str:
    """What stands in ``Vornet-Signature``: HMAC-SHA256 (RFC 2104, FIPS 180-4) of ``SECONDS.BODY``.

    >>> signature("whsec_x", 1700000000, b"{}")[:19]
    't=1700000000,v1=f98'
    """
    digest = hmac.new(secret.encode(), f"{seconds}.".encode() + body, hashlib.sha256).hexdigest()
    return f"t={seconds},v1={digest}"


def tell(db: Database, fleet_id: int, client: httpx.Client) -> int:
    """Tell what waits and whose time has come; how many were told."""
    told = 0
    for _ in range(MOST_AT_ONCE):
        with db.fleet(fleet_id) as connection:
            d = connection.execute(query("webhooks.take_waiting")).fetchone()
            fleet = fleets.settings_or_none(connection)
        if d is None or fleet is None:
            return told
        trouble = _post(client, d, fleet["name"])
        with db.fleet(fleet_id) as connection:
            if not trouble:
                connection.execute(query("webhooks.was_told"), {"delivery_id": d["delivery_id"]})
                told += 1
                continue
            over = d["tries"] > len(AGAIN_S)
            after = 0 if over else AGAIN_S[d["tries"] - 1]
            row = {"delivery_id": d["delivery_id"], "state": "given up" if over else "waits", "trouble": trouble[:300], "after_s": after}
            connection.execute(query("webhooks.was_not_told"), row)
    return told


def _post(client: httpx.Client, d: dict[str, Any], fleet: str) -> str:
    """Send one; '' when it was taken, else why not."""
    document = {"event": d["event"], "delivery": d["delivery_id"], "fleet": fleet, "at": d["made_at"].isoformat(), "data": d["body"]}
    body = json.dumps(document, ensure_ascii=False).encode()
    seconds = int(days.now().timestamp())
    headers = {
        "Content-Type": "application/json", "Vornet-Event": d["event"], "Vornet-Delivery": str(d["delivery_id"]),
        "Vornet-Signature": signature(secrets.unseal(d["secret"]), seconds, body),
    }  # fmt: skip
    try:
        with client.stream("POST", d["address"], content=body, headers=headers) as answer:
            return "" if 200 <= answer.status_code < 300 else f"answers {answer.status_code}"
    except Refused as error:
        return str(error)
    except httpx.TimeoutException:
        return "does not answer in time"
    except (httpx.HTTPError, httpx.InvalidURL, UnicodeError) as error:
        return f"cannot be reached ({type(error).__name__})"


def line_up_and_tell(db: Database, fixed_today: date | None = None) -> int:
    """Every fleet's; how many were told."""
    with db.anyone() as connection:
        found = [r["fleet_id"] for r in connection.execute(query("webhooks.fleets")).fetchall()]
    if not found:
        return 0
    transport = None if inside_allowed() else CheckedTransport()
    told = 0
    with httpx.Client(timeout=httpx.Timeout(PATIENCE_S, connect=5), transport=transport, follow_redirects=False, trust_env=False) as client:
        for fleet_id in found:
            with db.fleet(fleet_id) as connection:
                line_up(connection, fleet_id, days.day_here(connection, fixed_today))
            told += tell(db, fleet_id, client)
    return told
