"""The week on paper: visits by day and depot with their kit, for the workshop's wall and for mail."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

from vornet.flows.house import fleets
from vornet.flows.weeks import kit, mail
from vornet.io import paper
from vornet.store.database import Connection
from vornet.web.charts.ribbon import oil_tone
from vornet.web.pages import paper_text


def found(connection: Connection, first: date, depots: list[int] | None, today: date) -> dict[str, Any]:
    """What the week's paper says: visits by day, and the kit of every depot in it."""
    last = first + timedelta(days=6)
    rows = mail.week_rows(connection, first, last, depots)
    names = {v["depot"] for v in rows}
    kits = [k for k in kit.of_days(connection, first, last, today) if k.depot in names]
    return {"first": first, "last": last, "rows": rows, "kits": kits, "tone": oil_tone}


def week_pdf(connection: Connection, first: date, depots: list[int] | None) -> bytes:
    """The week from a Monday on as PDF."""
    settings = fleets.settings(connection)
    text = paper_text("paper_plan.html", first, settings["measures"], fleet=settings["name"], **found(connection, first, depots, first))
    return paper.pdf(text)
