"""iCalendar files (RFC 5545): the days that events cover, and visits as events for whoever subscribes."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any

from vornet.core.errors import InputError

#: a calendar is at most so large, and has at most so many events
LARGEST_FILE, MOST_EVENTS = 5_000_000, 5_000
#: one event covers at most so many days, and repeats at most so often
LONGEST, MOST_REPEATS = 400, 1_000
STATUS = {"planned": "CONFIRMED", "done": "CONFIRMED", "cancelled": "CANCELLED"}


def checked(content: bytes) -> None:
    """Raise InputError for what is no calendar, or too large a one; nothing of it is read before."""
    if len(content) > LARGEST_FILE:
        raise InputError("file", f"is larger than {LARGEST_FILE // 1_000_000} MB")
    if b"BEGIN:VCALENDAR" not in content[:100_000].upper():
        raise InputError("file", "is not an iCalendar file")
    events = content.upper().count(b"BEGIN:VEVENT")
    if events > MOST_EVENTS:
        raise InputError("file", f"has {events:,} events; at most {MOST_EVENTS:,} are read: export a shorter span")


def days(content: bytes, first: date, last: date) -> list[date]:
    """The days between two days (both counted) that events cover, repeated ones too; cancelled events cover none. Raises InputError."""
    checked(content)
    from icalendar import Calendar

    try:
        found = Calendar.from_ical(content)
        events = found.walk("VEVENT")
    except (ValueError, KeyError, IndexError, TypeError) as error:
        raise InputError("file", f"cannot be read as a calendar: {str(error)[:120]}") from None
    out: set[date] = set()
    for event in events:
        try:
            out |= _covered(event, first, last)
        except (ValueError, KeyError, TypeError, AttributeError, OverflowError) as error:
            name = str(event.get("SUMMARY", "an event"))[:60]
            raise InputError("file", f"{name!r} has times that cannot be read: {str(error)[:100]}") from None
    return sorted(out)


def _covered(event: Any, first: date, last: date) -> set[date]:
    if str(event.get("STATUS", "")).upper() == "CANCELLED" or event.get("DTSTART") is None:
        return set()
    start = event.decoded("DTSTART")
    whole_days = not isinstance(start, datetime)
    if event.get("DTEND") is not None:
        end = event.decoded("DTEND")
    else:
        end = start + (event.decoded("DURATION") if event.get("DURATION") is not None else timedelta(days=1 if whole_days else 0))
    if isinstance(end, datetime) == whole_days:
        raise ValueError("it begins with a day and ends with a time, or the other way round")
    # the last day that it covers: an end at midnight, or an end day, is not covered itself
    covers = max((end - timedelta(microseconds=1) if not whole_days else end - timedelta(days=1)), start)
    if not whole_days:
        covers = covers.date() if isinstance(covers, datetime) else covers
    begin = start if whole_days else start.date()
    length = min((covers - begin).days, LONGEST)
    out: set[date] = set()
    excluded = _excluded(event)
    for at in _begins(event, start, first - timedelta(days=LONGEST), last):
        if at in excluded:
            continue
        out |= {d for d in (at + timedelta(days=i) for i in range(length + 1)) if first <= d <= last}
    return out


def _begins(event: Any, start: date | datetime, first: date, last: date) -> list[date]:
    begin = start.date() if isinstance(start, datetime) else start
    more = [d.date() if isinstance(d, datetime) else d for d in _dates(event.get("RDATE"))]
    rule = event.get("RRULE")
    if rule is None:
        return [begin, *more]
    from dateutil.rrule import rrulestr

    text = rule.to_ical().decode()
    if "UNTIL" in text:  # compared as plain times: only the day counts here
        text = ";".join(p[:14] if p.startswith("UNTIL=") else p for p in text.split(";"))
    repeats = rrulestr(text, dtstart=datetime(begin.year, begin.month, begin.day))
    out = []
    for n, at in enumerate(repeats.xafter(datetime(first.year, first.month, first.day), inc=True)):
        if at.date() > last or n >= MOST_REPEATS:
            break
        out.append(at.date())
    return out + more


def _dates(field: Any) -> list[Any]:
    lists = [] if field is None else field if isinstance(field, list) else [field]
    return [d.dt for one in lists for d in one.dts]


def _excluded(event: Any) -> set[date]:
    return {d.date() if isinstance(d, datetime) else d for d in _dates(event.get("EXDATE"))}


@dataclass(frozen=True)
class Entry:
    """One visit as a calendar shows it; ``uid`` stays, ``sequence`` rises with every change."""

    uid: str
    sequence: int
    on: date
    title: str
    detail: str
    place: str
    state: str
    changed: datetime
    link: str = ""


def feed(name: str, entries: Iterable[Entry]) -> bytes:
    """Whole-day events, cancelled ones with their STATUS, as an iCalendar file."""
    from icalendar import Calendar, Event

    calendar = Calendar()
    calendar.add("prodid", "-//Vornet//The weeks//EN")
    calendar.add("version", "2.0")
    calendar.add("method", "PUBLISH")
    calendar.add("x-wr-calname", name)
    for e in entries:
        event = Event()
        event.add("uid", f"{e.uid}@vornet")
        event.add("sequence", e.sequence)
        event.add("dtstamp", e.changed.astimezone(UTC))
        event.add("last-modified", e.changed.astimezone(UTC))
        event.add("dtstart", e.on)
        event.add("dtend", e.on + timedelta(days=1))
        event.add("summary", e.title)
        event.add("description", e.detail)
        if e.place:
            event.add("location", e.place)
        if e.link:
            event.add("url", e.link)
        event.add("status", STATUS[e.state])
        event.add("transp", "TRANSPARENT")
        calendar.add_component(event)
    return bytes(calendar.to_ical())


def spans(found: Sequence[date]) -> list[tuple[date, date]]:
    """Runs of days, for reading.

    >>> spans([date(2026, 1, 5), date(2026, 1, 6), date(2026, 1, 9)])
    [(datetime.date(2026, 1, 5), datetime.date(2026, 1, 6)), (datetime.date(2026, 1, 9), datetime.date(2026, 1, 9))]
    """
    out: list[tuple[date, date]] = []
    for day in sorted(found):
        if out and day - out[-1][1] == timedelta(days=1):
            out[-1] = (out[-1][0], day)
        else:
            out.append((day, day))
    return out
