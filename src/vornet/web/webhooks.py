"""Other programs that are told what happens."""

from __future__ import annotations

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.flows.weeks import webhooks
from vornet.web.pages import Form, database, needs, recording, render, today, visitor

router = APIRouter(prefix="/admin/webhooks")


def _page(request: Request, secret: str = "") -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        hooks, told = webhooks.hooks(connection), webhooks.deliveries(connection)
    return render(request, "webhooks.html", hooks=hooks, told=told, secret=secret, events=webhooks.EVENTS, tab="webhooks", error="")


@router.get("", dependencies=[needs("keep_webhooks")])
def show(request: Request) -> Response:
    """Who is told what, and what became of it."""
    return _page(request)


@router.post("", dependencies=[needs("keep_webhooks")])
def make(request: Request, form: Form) -> Response:
    """A new address; its secret is on the answer and nowhere else."""
    who = visitor(request)
    with recording(request) as connection:
        _, secret = webhooks.put(connection, who.fleet_id, form.get("address", ""), form.many("events"), who.name, today(request))
    return _page(request, secret)


@router.post("/{webhook_id}/remove", dependencies=[needs("keep_webhooks")])
def remove(request: Request, webhook_id: int, form: Form) -> Response:
    who = visitor(request)
    with recording(request) as connection:
        webhooks.remove(connection, who.fleet_id, webhook_id, who.name)
    return RedirectResponse("/admin/webhooks", 303)


@router.post("/deliveries/{delivery_id}/again", dependencies=[needs("keep_webhooks")])
def again(request: Request, delivery_id: int, form: Form) -> Response:
    """Try one that was given up once more."""
    with recording(request) as connection:
        webhooks.again(connection, delivery_id)
    return RedirectResponse("/admin/webhooks", 303)
