"""Paper: job card, labels, sticker and the week's kit as PDF, true to size, readable in black and white."""

from __future__ import annotations

from datetime import date
from importlib.resources import files
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response
from markupsafe import Markup
from starlette.exceptions import HTTPException

from vornet.core import job as rules
from vornet.flows.pages import rows as rows_of
from vornet.flows.weeks import kit
from vornet.flows.work import cards
from vornet.io import paper
from vornet.web.job import screens
from vornet.web.pages import base_address, begins, database, maybe_day, named, needs, opened, render_text, today, visitor

router = APIRouter()


def qr(text: str, millimetres: float) -> Markup:
    """A QR code of a text as an inline SVG of this size."""
    import segno

    code = segno.make_qr(text, error="m")  # never a micro one: hardly a phone reads it
    drawn = code.svg_inline(border=2, scale=1, omitsize=True, dark="#000", light="#fff")
    return Markup(drawn.replace("<svg ", f'<svg style="width:{millimetres}mm;height:{millimetres}mm" ', 1))


def pdf(request: Request, template: str, name: str, **context: Any) -> Response:
    """A template as a PDF with the bundled fonts; nothing is fetched."""
    fonts = files("vornet.web") / "static" / "dist" / "fonts"
    html = render_text(request, template, qr=qr, fonts=f"file://{fonts}", base=base_address(request), **context)
    content = paper.pdf(html)
    return Response(content, media_type="application/pdf", headers=named(f"{name}.pdf", inline=True))


def _card(request: Request, job_id: int) -> dict[str, Any]:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = cards.card(connection, job_id, today(request))
    if found is None:
        raise HTTPException(404, "There is no such job card in this fleet.")
    return found


@router.get("/jobs/{job_id}/card.pdf", dependencies=[needs("see")])
def card(request: Request, job_id: int) -> Response:
    """The job card: kit, steps with this unit's numbers, and room to write."""
    found = _card(request, job_id)
    found = opened(found)
    return pdf(request, "paper_card.html", f"job-{job_id}", **found, screens=screens(found), magnet=rules.MAGNET)


@router.get("/jobs/{job_id}/labels.pdf", dependencies=[needs("see")])
def labels(request: Request, job_id: int) -> Response:
    """Bottle labels, one a sample, 70 × 37 mm."""
    found = _card(request, job_id)
    parts = [p for p in found["parts"] if p["compartment_id"] is not None and p["sample"]]
    if not parts:
        raise HTTPException(404, "No sample is planned on this card.")
    return pdf(request, "paper_labels.html", f"bottles-{job_id}", job=found["job"], parts=opened(parts), number=bottle_number)


def bottle_number(job: dict[str, Any], part: dict[str, Any]) -> str:
    """The number printed on a bottle's label: unique by job and part."""
    return f"J{job['job_id']:04d}-{part['part_id']:04d}"


@router.get("/jobs/{job_id}/sticker.pdf", dependencies=[needs("see")])
def sticker(request: Request, job_id: int) -> Response:
    """The stickers of the drains that are done: when the next one is due. 60 × 40 mm."""
    found = _card(request, job_id)
    parts = [p for p in found["parts"] if p["state"] == "done" and p["figures"].get("next_due")]
    if not parts:
        raise HTTPException(404, "No drain of this card is finished yet.")
    return pdf(request, "paper_sticker.html", f"sticker-{job_id}", job=found["job"], parts=opened(parts))


@router.get("/units/{unit_id}/labels.pdf", dependencies=[needs("see")])
def compartment_labels(request: Request, unit_id: int) -> Response:
    """Labels for a unit's compartments: the phone's camera opens what can be noted there. 70 × 37 mm."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        unit = rows_of.unit(connection, unit_id)
        rows = rows_of.sisters(connection, unit_id)
        full = rows_of.compartments(connection, today(request), [r["compartment_id"] for r in rows])
    if unit is None:
        raise HTTPException(404, "There is no such unit in this fleet.")
    return pdf(request, "paper_compartments.html", f"labels-{unit_id}", unit=unit, rows=full)


@router.get("/kit.pdf", dependencies=[needs("see")])
def week_kit(request: Request, week: str = "") -> Response:
    """What the week's open cards need together."""
    first, last = kit.week_of(maybe_day(week, "week") or today(request), begins(request))
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = cards.week_kit(connection, first, last, today(request))
    return pdf(request, "paper_kit.html", f"kit-{date.isoformat(first)}", **found)
