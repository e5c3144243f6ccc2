"""Webhooks over the API: who is told what, and what became of it."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field

from vornet.api.exchange import permitted, today_of
from vornet.flows.house.people import Visitor
from vornet.flows.weeks import webhooks

router = APIRouter(prefix="/api/v1", tags=["webhooks"])


class WebhookIn(BaseModel):
    address: Annotated[str, Field(max_length=500)]
    events: Annotated[list[Annotated[str, Field(max_length=20)]], Field(max_length=20, description="of result, verdict, hold, stop, due")]


class WebhookMade(BaseModel):
    webhook_id: int
    secret: str = Field(description="what its calls are signed with; shown this once")


class WebhookOut(BaseModel):
    webhook_id: int
    address: str
    events: list[str]
    made_by: str
    made_at: datetime
    waits: int
    told: int
    given_up: int


class DeliveryOut(BaseModel):
    delivery_id: int
    webhook_id: int
    event: str
    about: str
    state: str
    tries: int
    made_at: datetime
    told_at: datetime | None
    trouble: str


@router.get("/webhooks")
def get_webhooks(request: Request, who: Visitor = permitted("keep_webhooks")) -> list[WebhookOut]:
    """Addresses that are told what happens."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        return [WebhookOut(**{k: h[k] for k in WebhookOut.model_fields}) for h in webhooks.hooks(connection)]


@router.post("/webhooks", status_code=201)
def post_webhook(request: Request, body: WebhookIn, who: Visitor = permitted("keep_webhooks", by_token=True)) -> WebhookMade:
    """Tell an address what happens from now on."""
    with request.app.state.db.fleet(who.fleet_id, who.account_id) as connection:
        made, secret = webhooks.put(connection, who.fleet_id, body.address, body.events, who.name, today_of(request))
    return WebhookMade(webhook_id=made, secret=secret)


@router.delete("/webhooks/{webhook_id}", status_code=204)
def delete_webhook(
    request: Request, webhook_id: Annotated[int, Field(gt=0, lt=2**62)], who: Visitor = permitted("keep_webhooks", by_token=True)
) -> None:
    """Tell it nothing more."""
    with request.app.state.db.fleet(who.fleet_id, who.account_id) as connection:
        webhooks.remove(connection, who.fleet_id, webhook_id, who.name)


@router.get("/webhooks/deliveries")
def get_deliveries(request: Request, who: Visitor = permitted("keep_webhooks")) -> list[DeliveryOut]:
    """What was told lately, and what became of it."""
    with request.app.state.db.fleet(who.fleet_id) as connection:
        return [DeliveryOut(**{k: d[k] for k in DeliveryOut.model_fields}) for d in webhooks.deliveries(connection)]


@router.post("/webhooks/deliveries/{delivery_id}/again", status_code=204)
def deliver_again(
    request: Request, delivery_id: Annotated[int, Field(gt=0, lt=2**62)], who: Visitor = permitted("keep_webhooks", by_token=True)
) -> None:
    """One that was given up is tried once more."""
    with request.app.state.db.fleet(who.fleet_id, who.account_id) as connection:
        webhooks.again(connection, delivery_id)
