"""Mail: the week on its schedule, a stop until somebody has heard, through an SMTP server; what cannot be sent waits."""

from __future__ import annotations

import html
import os
import re
import smtplib
import ssl
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from typing import Any
from zoneinfo import ZoneInfo

from vornet.core.causes import NAMES
from vornet.core.errors import InputError
from vornet.flows.house import days, fleets, installation
from vornet.flows.judge import in_force
from vornet.flows.weeks import kit
from vornet.store.database import Connection, Database, query
from vornet.words.say import each

#: an unheard stop is written again after so many hours, at most so often
AGAIN_H, MOST_AGAIN = 4, 42
#: a mail is tried so often
MOST_TRIES = 12
TIMEOUT_S = 20.0
#: draws the week from a Monday on, of some depots (None: all)
Pdf = Callable[[Connection, date, list[int] | None], bytes | None]
_ADDRESS = re.compile(r"[^@\s,;<>\"']{1,64}@[A-Za-z0-9.-]{1,190}")


@dataclass(frozen=True)
class Server:
    """Where mail is handed to: VORNET_SMTP=host:port, VORNET_SMTP_USER and _PASSWORD, VORNET_SMTP_TLS=starttls, tls or none (the default on
    this machine itself), VORNET_MAIL_FROM."""

    host: str
    port: int
    sender: str
    user: str = ""
    password: str = ""
    tls: str = "none"


def server() -> Server | None:
    """The mail server that this installation knows, None for none. Raises InputError where it is said wrongly."""
    said = os.environ.get("VORNET_SMTP", "").strip()
    if not said:
        return None
    host, _, port = said.rpartition(":")
    if not host or not port.isdigit() or not 0 < int(port) < 65536:
        raise InputError("VORNET_SMTP", "is not host:port")
    here = host in ("127.0.0.1", "localhost", "::1")
    tls = os.environ.get("VORNET_SMTP_TLS", "none" if here else "starttls").strip().lower()
    if tls not in ("none", "starttls", "tls"):
        raise InputError("VORNET_SMTP_TLS", "starttls, tls or none")
    sender = os.environ.get("VORNET_MAIL_FROM", "vornet@localhost")
    return Server(host, int(port), sender, os.environ.get("VORNET_SMTP_USER", ""), os.environ.get("VORNET_SMTP_PASSWORD", ""), tls)


# ---- who is written to -----------------------------------------------------------------------------------------
def contacts(connection: Connection, account_id: int | None = None) -> list[dict[str, Any]]:
    return connection.execute(query("weeks.contacts"), {"account_id": account_id}).fetchall()


def set_contact(
    connection: Connection, fleet_id: int, account_id: int, address: str, depots: list[int] | None, week_day: int | None, week_hour: int,
    stops: bool, by: str,
) -> None:  # fmt: skip
    """What is sent to a person, and for which depots (None: all). Raises InputError by field."""
    plain = address.strip()
    if not _ADDRESS.fullmatch(plain):
        raise InputError("address", f"{plain[:60]!r} is not a mail address")
    if week_day is not None and not 0 <= week_day <= 6:
        raise InputError("week_day", "Monday to Sunday")
    if not 0 <= week_hour <= 23:
        raise InputError("week_hour", "from 0 to 23")
    known = {r["depot_id"] for r in connection.execute(query("weeks.depots")).fetchall()}
    if depots is not None and not set(depots) <= known:
        raise InputError("depots", "one of them is not in this fleet")
    connection.execute(
        query("weeks.put_contact"),
        {"fleet_id": fleet_id, "account_id": account_id, "address": plain, "depots": depots, "week_day": week_day, "week_hour": week_hour,
         "stops": stops},
    )  # fmt: skip
    fleets.audit(connection, fleet_id, by, "mail set", plain, depots=depots, week_day=week_day, stops=stops)


def drop_contact(connection: Connection, fleet_id: int, account_id: int, by: str) -> None:
    """Nothing is sent to a person any more."""
    if connection.execute(query("weeks.drop_contact"), {"account_id": account_id}).fetchone() is not None:
        fleets.audit(connection, fleet_id, by, "mail ended", f"account {account_id}")


def written(connection: Connection) -> list[dict[str, Any]]:
    """What was written lately, and what became of it."""
    return connection.execute(query("weeks.mails")).fetchall()


# ---- what is written -------------------------------------------------------------------------------------------
def write_due(connection: Connection, fleet_id: int, now: datetime, today: date, pdf: Pdf) -> int:
    """Write what is due to be written: the week to whoever asked for it on this day and hour, stops that nobody has heard. How many.

    ``pdf``: draws the week of some depots (None: all)."""
    zone = ZoneInfo(fleets.settings(connection)["zone"])
    local = now.astimezone(zone)
    people = contacts(connection)
    count = 0
    for c in people:
        if c["week_day"] is not None and today.weekday() == c["week_day"] and local.hour >= c["week_hour"]:
            count += _week(connection, fleet_id, c, today, pdf)
    for stop in connection.execute(query("weeks.stops_to_tell")).fetchall():
        for c in people:
            if c["stops"] and (c["depots"] is None or stop["depot_id"] in c["depots"]):
                count += _stop(connection, fleet_id, c, stop, now)
    for held in in_force.held_up(connection, today):
        for c in people:
            if c["stops"] and (c["depots"] is None or held["depot_id"] in c["depots"]):
                count += _held_up(connection, fleet_id, c, held)
    return count


def _held_up(connection: Connection, fleet_id: int, c: dict[str, Any], held: dict[str, Any]) -> int:
    """An approval whose day has come and that waits because something stands against it: told once."""
    about = f"approval {held['interval_id']} waits to {c['account_id']}"
    if connection.execute(query("weeks.mail_written"), {"about": about}).fetchone() is not None:
        return 0
    where = f"{held['unit']}, {held['compartment']}"
    what = f"{held['value']:g} {held['meter_unit']}" if held["fact"] == in_force.LENGTH else f"{held['value']:.0f} days"
    subject = f"Approved, and waits: {where}"
    said = (f"{what} on {where}, approved by {held['approved_by']} from {_day(held['from_day'])}, has not begun: "
            f"{'; '.join(each(held['held_up']))}.")  # fmt: skip
    then = "What was in force before stays. It begins once nothing stands against it; approve another, or withdraw it, in Vornet."
    base = installation.address() or ""
    link = f"{base}/compartments/{held['compartment_id']}/interval" if base else ""
    anchor = f'<p><a href="{html.escape(link)}">Open it</a></p>' if link else ""
    return _put(connection, fleet_id, about, c["address"], subject, "\n".join(filter(None, [said, "", then, link])),
                _page(subject, f"<p><b>{html.escape(said)}</b></p><p>{html.escape(then)}</p>{anchor}"), None)  # fmt: skip


def _put(
    connection: Connection, fleet_id: int, about: str, to: str, subject: str, plain: str, marked: str, file: tuple[str, bytes] | None
) -> int:
    row = connection.execute(
        query("weeks.put_mail"),
        {"fleet_id": fleet_id, "about": about, "to": to, "subject": subject[:200], "plain": plain, "html": marked,
         "file_name": file[0] if file else "", "file": file[1] if file else None},
    ).fetchone()  # fmt: skip
    return 1 if row is not None else 0


def _week(connection: Connection, fleet_id: int, c: dict[str, Any], today: date, pdf: Pdf) -> int:
    first, last = kit.week_of(today)
    about = f"week {first} to {c['account_id']}"
    if connection.execute(query("weeks.mail_written"), {"about": about}).fetchone() is not None:
        return 0
    rows = week_rows(connection, first, last, c["depots"])
    drawn = pdf(connection, first, c["depots"])
    file = None if drawn is None else (f"week-{first}.pdf", drawn)
    subject = f"Week {first.isocalendar().week}: {len(rows)} visits"
    return _put(connection, fleet_id, about, c["address"], subject, week_plain(rows, first, last), week_html(rows, first, last), file)


def week_rows(connection: Connection, first: date, last: date, depots: list[int] | None) -> list[dict[str, Any]]:
    """The visits of a week at some depots."""
    span = {"visit_id": None, "first": first, "last": last, "depot_id": None}
    found = connection.execute(query("weeks.visits"), span).fetchall()
    return [v for v in found if depots is None or v["depot_id"] in depots]


def _day(on: date) -> str:
    return f"{on:%a} {on.day} {on:%b}"


def _what(v: dict[str, Any]) -> str:
    return ", ".join(t["what"] for t in v["tasks"] or ())


def _short(v: dict[str, Any]) -> str:
    return f" MISSING: {', '.join(v['short'])}" if v["short"] and v["state"] == "planned" else ""


def week_plain(rows: list[dict[str, Any]], first: date, last: date) -> str:
    lines = [f"Visits from {_day(first)} to {_day(last)}", ""]
    for v in rows:
        done = " (done)" if v["state"] == "done" else ""
        lines.append(f"{_day(v['on_day'])}  {v['depot'] or 'no depot'}  {v['unit']}, {v['hours']:.1f} h{done}: {_what(v)}{_short(v)}")
    return "\n".join([*lines, *([] if rows else ["No visit is planned."]), "", "The maker's manual, site rules and local law come first."])


def _row(v: dict[str, Any]) -> str:
    said = html.escape(_what(v) + _short(v)) + (" (done)" if v["state"] == "done" else "")
    where = f"<td>{_day(v['on_day'])}</td><td>{html.escape(v['depot'] or 'no depot')}</td><td><b>{html.escape(v['unit'])}</b></td>"
    return f'<tr>{where}<td align="right">{v["hours"]:.1f} h</td><td>{said}</td></tr>'


def week_html(rows: list[dict[str, Any]], first: date, last: date) -> str:
    cells = "".join(_row(v) for v in rows)
    table = f'<table cellpadding="4"><tr><th>Day</th><th>Depot</th><th>Unit</th><th>Hours</th><th>What</th></tr>{cells}</table>'
    return _page(f"Visits from {_day(first)} to {_day(last)}", table if rows else "<p>No visit is planned.</p>")


def _page(title: str, body: str) -> str:
    foot = "The maker's manual, site rules and local law come first."
    return f"<!doctype html><html><body><h2>{html.escape(title)}</h2>{body}<p><small>{foot}</small></p></body></html>"


def _stop(connection: Connection, fleet_id: int, c: dict[str, Any], stop: dict[str, Any], now: datetime) -> int:
    about = f"{stop['about']} to {c['account_id']}"
    last = connection.execute(query("weeks.last_mail_about"), {"about": f"{about} no %"}).fetchone()
    assert last is not None
    if last["n"] >= MOST_AGAIN or (last["at"] is not None and now - last["at"] < timedelta(hours=AGAIN_H)):
        return 0
    where = ", ".join(filter(None, [stop["unit"], stop["compartment"]]))
    base = installation.address() or ""
    link = f"{base}/compartments/{stop['compartment_id']}" if base and stop["compartment_id"] else ""
    if stop["about"].startswith("stop"):
        subject = f"STOP: {where}"
        cause = f" {NAMES[stop['cause']]}." if stop["cause"] in NAMES else ""
        said = f"Do not run {where} before somebody has looked.{cause} Sample of {stop['on_day']}."
        then = "It is written again every four hours until somebody who answers for it says in Vornet that they have heard."
    elif stop["about"].startswith("job"):
        subject = f"Job stopped: {where}"
        said = f"The job on {where} was stopped on {_day(stop['on_day'])}. {stop['words']}"
        then = "It is written again every four hours until it is dealt with in Vornet."
    else:
        subject = f"Trial stopped: {where}"
        on = f" on {_day(stop['on_day'])}" if stop["on_day"] else ""
        said = f"The trial of a longer interval on {where} was stopped{on}. {stop['words']}"
        then = "It is written again every four hours until a planner has taken note of it in Vornet."
    plain = "\n".join(filter(None, [said, "", then, link]))
    anchor = f'<p><a href="{html.escape(link)}">Open it</a></p>' if link else ""
    return _put(connection, fleet_id, f"{about} no {last['n'] + 1}", c["address"], subject, plain,
                _page(subject, f"<p><b>{html.escape(said)}</b></p><p>{html.escape(then)}</p>{anchor}"), None)  # fmt: skip


# ---- and sent --------------------------------------------------------------------------------------------------
def message(row: dict[str, Any], sender: str) -> EmailMessage:
    """A mail as it goes over the wire: plain and marked up, with its file."""
    out = EmailMessage()
    out["From"], out["To"], out["Subject"] = sender, row["to_address"], " ".join(row["subject"].split())
    out["Date"], out["Message-ID"] = formatdate(localtime=False), make_msgid(domain="vornet.local")
    out["Auto-Submitted"] = "auto-generated"
    out.set_content(row["plain"])
    out.add_alternative(row["html"], subtype="html")
    if row["file"]:
        out.add_attachment(bytes(row["file"]), maintype="application", subtype="pdf", filename=row["file_name"])
    return out


def send_waiting(db: Database, fleet_id: int, to: Server) -> tuple[int, int]:
    """(sent, failed) of what waits in a fleet. What fails is kept, says why, and is tried again later."""
    sent = failed = 0
    with db.fleet(fleet_id) as connection:
        rows = connection.execute(query("weeks.mail_to_send"), {"most": MOST_TRIES}).fetchall()
        if not rows:
            return 0, 0
        for row, trouble in _hand_over(rows, to):
            if trouble:
                failed += 1
                connection.execute(query("weeks.mail_failed"), {"mail_id": row["mail_id"], "trouble": trouble})
            else:
                sent += 1
                connection.execute(query("weeks.mail_sent"), {"mail_id": row["mail_id"]})
    return sent, failed


def _hand_over(rows: list[dict[str, Any]], to: Server) -> Iterable[tuple[dict[str, Any], str]]:
    try:
        smtp = _connected(to)
    except (OSError, smtplib.SMTPException) as error:
        return [(row, _words(error)) for row in rows]
    out = []
    with smtp:
        for row in rows:
            try:
                smtp.send_message(message(row, to.sender))
                out.append((row, ""))
            except (OSError, smtplib.SMTPException, ValueError) as error:
                out.append((row, _words(error)))
    return out


def _connected(to: Server) -> smtplib.SMTP:
    context = ssl.create_default_context()
    if to.tls == "tls":
        smtp: smtplib.SMTP = smtplib.SMTP_SSL(to.host, to.port, timeout=TIMEOUT_S, context=context)
    else:
        smtp = smtplib.SMTP(to.host, to.port, timeout=TIMEOUT_S)
        if to.tls == "starttls":
            smtp.starttls(context=context)
    if to.user:
        smtp.login(to.user, to.password)
    return smtp


def _words(error: Exception) -> str:
    if isinstance(error, ConnectionRefusedError | TimeoutError):
        return "the mail server does not answer"
    if isinstance(error, smtplib.SMTPRecipientsRefused):
        return "the mail server refuses this address"
    return f"{type(error).__name__}: {str(error)[:160]}"


def write_and_send(db: Database, fixed_today: date | None, pdf: Pdf, to: Server | None) -> None:
    """Write what is due in every fleet that writes to somebody, and send what waits (``to`` None: it waits until there is a server)."""
    with db.anyone() as connection:
        found = connection.execute(query("weeks.fleets_with_contacts")).fetchall()
    for row in found:
        with db.fleet(row["fleet_id"]) as connection:
            write_due(connection, row["fleet_id"], days.now(), days.day_here(connection, fixed_today), pdf)
        if to is not None:
            send_waiting(db, row["fleet_id"], to)
