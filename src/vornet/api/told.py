"""Who is told, for programs, the pages' twins: calendar links, and the mail of whoever the token is of."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field
from starlette.exceptions import HTTPException

from vornet.api.decide import Id, Sent
from vornet.api.exchange import permitted
from vornet.api.work import known_id
from vornet.flows.house.people import Visitor
from vornet.flows.weeks import feed, mail

router = APIRouter(prefix="/api/v1", tags=["told"])


class LinkIn(Sent):
    depot_id: Id | None = Field(default=None, description="a depot's, which a planner makes; none: one's own")


class LinkMade(BaseModel):
    path: str = Field(description="of the calendar behind it; whoever has it reads it, and it is shown this once")


class LinkOut(BaseModel):
    feed_id: int
    depot_id: int | None
    depot: str | None
    person: str | None
    made_by: str
    made_at: datetime
    read_at: datetime | None


class MailIn(Sent):
    address: Annotated[str, Field(max_length=200)]
    depots: list[Id] = Field(default=[], max_length=200, description="none: all")
    week_day: Annotated[int, Field(ge=0, le=6, description="0 Monday to 6 Sunday; none: no week's mail")] | None = None
    week_hour: Annotated[int, Field(ge=0, le=23)] = 6
    stops: bool = False


class MailOut(BaseModel):
    address: str
    depots: list[int] | None
    week_day: int | None
    week_hour: int
    stops: bool


@router.get("/calendar-links")
def get_links(request: Request, who: Visitor = permitted("see")) -> list[LinkOut]:
    """Links that open a calendar: one's own; for a planner everybody's."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        rows = feed.listed(connection, None if who.may("plan_weeks") else who.account_id)
    return [LinkOut(**{k: r[k] for k in LinkOut.model_fields}) for r in rows]


@router.post("/calendar-links", status_code=201)
def post_link(request: Request, given: LinkIn, who: Visitor = permitted("see", by_token=True)) -> LinkMade:
    """A calendar link: one's own, or (a planner) a depot's."""
    if given.depot_id is not None and not who.may("plan_weeks"):
        raise HTTPException(403, "a depot's calendar link is made by a planner")
    with request.app.state.db.fleet(who.fleet_id) as connection:
        secret = feed.make(connection, who.fleet_id, who.name, given.depot_id, None if given.depot_id is not None else who.account_id)
    return LinkMade(path=f"/feeds/{secret}.ics")


@router.delete("/calendar-links/{feed_id}", status_code=204)
def delete_link(request: Request, feed_id: int, who: Visitor = permitted("see", by_token=True)) -> None:
    """A link taken back: it opens nothing from now on."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        feed.revoke(connection, who.fleet_id, known_id(feed_id, "link"), who.name, None if who.may("plan_weeks") else who.account_id)


@router.get("/mail")
def get_mail(request: Request, who: Visitor = permitted("see")) -> MailOut | None:
    """What is sent to oneself; nothing where nothing is."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        mine = mail.contacts(connection, who.account_id)
    return MailOut(**{k: mine[0][k] for k in MailOut.model_fields}) if mine else None


@router.put("/mail")
def put_mail(request: Request, given: MailIn, who: Visitor = permitted("see", by_token=True)) -> MailOut:
    """What is sent to oneself from now on."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        mail.set_contact(
            connection, who.fleet_id, who.account_id, given.address, list(given.depots) or None, given.week_day, given.week_hour,
            given.stops, who.name,
        )  # fmt: skip
    return MailOut(**{**given.model_dump(), "address": given.address.strip(), "depots": list(given.depots) or None})


@router.delete("/mail", status_code=204)
def delete_mail(request: Request, who: Visitor = permitted("see", by_token=True)) -> None:
    """Nothing is sent to oneself any more."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        mail.drop_contact(connection, who.fleet_id, who.account_id, who.name)
