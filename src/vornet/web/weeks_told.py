"""Who is told: calendar links for depots and persons, mail on its schedule, and what was sent."""

from __future__ import annotations

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.exceptions import HTTPException

from vornet.core.errors import InputError
from vornet.flows.weeks import depots, feed, mail
from vornet.web.pages import Form, base_address, database, needs, number_of, recording, render, today, visitor

router = APIRouter()


@router.get("/weeks/told", dependencies=[needs("see")])
def show(request: Request, error: str = "", secret: str = "", said: str = "") -> Response:
    """One's own calendar and mail; for planners the depots' links and what was sent."""
    who = visitor(request)
    planner = who.may("plan_weeks")
    try:
        server, trouble = mail.server(), ""
    except InputError as wrong:
        server, trouble = None, str(wrong)
    with database(request).fleet(who.fleet_id) as connection:
        mine = mail.contacts(connection, who.account_id)
        links = feed.listed(connection, None if planner else who.account_id)
        places = list(depots.all_of(connection, today(request), 1).values())
        sent = mail.written(connection) if planner else []
        others = mail.contacts(connection) if planner else []
    return render(
        request, "weeks_told.html", 422 if error else 200, mine=mine[0] if mine else None, links=links, places=places, sent=sent,
        others=others, error=error, link=f"{base_address(request)}/feeds/{secret}.ics" if secret else "", server=server, trouble=trouble,
        said=said[:200], weekdays=depots.WEEKDAYS, names={d.depot_id: d.name for d in places}, planner=planner,
    )  # fmt: skip


@router.post("/weeks/told/link", dependencies=[needs("see")])
def make_link(request: Request, form: Form) -> Response:
    """A calendar link: one's own, or (a planner) a depot's. Its secret is shown once."""
    who, depot_id = visitor(request), form.id("depot")
    if depot_id is not None and not who.may("plan_weeks"):
        raise HTTPException(403, "A depot's calendar link is made by a planner.")
    with recording(request) as connection:
        secret = feed.make(connection, who.fleet_id, who.name, depot_id, None if depot_id is not None else who.account_id)
    return show(request, secret=secret)


@router.post("/weeks/told/link/{feed_id}/revoke", dependencies=[needs("see")])
def revoke(request: Request, feed_id: int, form: Form) -> Response:
    """Take a link back: it opens nothing from now on."""
    who = visitor(request)
    with recording(request) as connection:
        feed.revoke(connection, who.fleet_id, feed_id, who.name, None if who.may("plan_weeks") else who.account_id)
    return RedirectResponse("/weeks/told?said=Taken+back", 303)


@router.post("/weeks/told/mail", dependencies=[needs("own_account")])
def own_mail(request: Request, form: Form) -> Response:
    """What is sent to oneself."""
    who = visitor(request)
    try:
        with recording(request) as connection:
            if form.get("do") == "end":
                mail.drop_contact(connection, who.fleet_id, who.account_id, who.name)
            else:
                day = form.get("week_day", "")
                mail.set_contact(
                    connection, who.fleet_id, who.account_id, form.get("address", ""), form.ids("depot") or None,
                    number_of(day, "week_day") if day else None, number_of(form.get("week_hour", "6"), "week_hour"),
                    form.get("stops") == "yes", who.name,
                )  # fmt: skip
    except InputError as error:
        return show(request, f"{error.field.replace('_', ' ')}: {error.why}")
    return RedirectResponse("/weeks/told?said=Kept", 303)


@router.get("/feeds/{secret}.ics")
def read(request: Request, secret: str) -> Response:
    """The calendar behind a link; nobody signs in for it, whoever has the link reads it."""
    content = feed.read(database(request), secret[:200], today(request), base_address(request))
    if content is None:
        return Response("This calendar link opens nothing (any more).\n", 404, media_type="text/plain")
    return Response(content, media_type="text/calendar; charset=utf-8", headers={"Cache-Control": "private, max-age=900"})
