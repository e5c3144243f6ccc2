"""What a machine that watches asks: whether Vornet is ready, and its figures in the usual text format. Requests are counted by route, never
by what was in them."""

from __future__ import annotations

import hmac
import logging
import os
import time

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, Response
from prometheus_client import CONTENT_TYPE_LATEST, CollectorRegistry, Counter, Gauge, Histogram, generate_latest
from psycopg import Error
from psycopg_pool import PoolTimeout
from starlette.types import Scope

from vornet.flows.house import health
from vornet.web.pages import database

router = APIRouter()
log = logging.getLogger("vornet.request")
registry = CollectorRegistry()
REQUESTS = Counter("vornet_requests", "Requests answered", ["method", "route", "status"], registry=registry)
SECONDS = Histogram(
    "vornet_request_seconds", "How long answers took, s", ["route"], registry=registry,
    buckets=(0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30),
)  # fmt: skip
QUEUE = Gauge("vornet_queue_jobs", "Jobs on the queue", ["state"], registry=registry)


def note(scope: Scope, status: int, begun: float) -> None:
    """One answer: counted, and told where requests are logged."""
    route = getattr(scope.get("route"), "path", "") or ("/static" if scope["path"].startswith("/static/") else "other")
    took = time.perf_counter() - begun
    REQUESTS.labels(scope["method"], route, str(status)).inc()
    SECONDS.labels(route).observe(took)
    if log.isEnabledFor(logging.INFO):
        who = scope.get("state", {}).get("visitor")
        told = {"method": scope["method"], "route": route, "status": status, "ms": round(took * 1000, 1)}
        log.info("request", extra=told | {"account": who.account_id if who else None, "fleet": who.fleet_id if who else None})


@router.get("/ready")
def ready(request: Request) -> Response:
    """Whether pages can be worked: the database answers."""
    try:
        health.counts(database(request))
    except (Error, PoolTimeout):
        return JSONResponse({"ready": False, "why": "the database does not answer"}, 503, {"Retry-After": "5"})
    return JSONResponse({"ready": True})


@router.get("/metrics")
def metrics(request: Request) -> Response:
    """Figures in the usual text format; for this machine itself, or whoever holds the token that was set."""
    token = os.environ.get("VORNET_METRICS_TOKEN", "")
    given = request.headers.get("Authorization", "").removeprefix("Bearer ")
    host = request.client.host if request.client else ""
    here = host in ("127.0.0.1", "::1") and "X-Forwarded-For" not in request.headers
    if not (hmac.compare_digest(given.encode(), token.encode()) if token else here):
        return Response("not for you\n", 403, media_type="text/plain")
    for state, n in health.counts(database(request)).items():
        QUEUE.labels(state).set(n)
    return Response(generate_latest(registry), media_type=CONTENT_TYPE_LATEST)
