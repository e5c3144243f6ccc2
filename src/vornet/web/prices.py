"""What oil, work and standing still cost: for the fleet, a family or one unit, each from a day on."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.core import measures
from vornet.core.errors import FormErrors, InputError
from vornet.core.prices import PRICES
from vornet.flows.judge import prices
from vornet.web import both
from vornet.web.pages import Form, database, day_of, hand, needs, opened, recording, render, today, visitor

router = APIRouter(prefix="/decide/prices")
#: prices that are kept per litre and shown per the fleet's own volume
BY_VOLUME = ("oil_per_l", "disposal_per_l")


def _factor(request: Request, key: str) -> float:
    """Money per litre to money per what the fleet pours in."""
    return 1 / (measures.shown(1.0, "volume", visitor(request).measures) or 1.0) if key in BY_VOLUME else 1.0


def _page(request: Request, errors: dict[str, str] | None = None, form: dict[str, Any] | None = None) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        now, places, versions = prices.in_force(connection, today(request)), prices.places(connection), prices.versions(connection)
    volume = measures.unit("volume", visitor(request).measures)
    per = {key: words.replace("per litre", f"per {volume}") for key, (_, words) in PRICES.items()}
    return render(
        request, "prices.html", 422 if errors else 200, now=now, places=places, versions=versions, names=PRICES, per=per,
        factors={key: _factor(request, key) for key in PRICES}, errors=errors or {}, form=opened(form or {}), scopes=prices.SCOPE_WORDS,
    )  # fmt: skip


@router.get("", dependencies=[needs("see_intervals")])
def show(request: Request) -> Response:
    """Prices in force, and every version."""
    return _page(request)


@router.post("/currency", dependencies=[needs("edit_prices")])
def currency(request: Request, form: Form) -> Response:
    who = visitor(request)
    try:
        with recording(request) as connection:
            prices.set_currency(connection, who.fleet_id, who.name, form.get("currency", ""))
    except InputError as error:
        return _page(request, {error.field: error.why}, form)
    return RedirectResponse("/decide/prices", 303)


def _typed(request: Request, form: dict[str, Any]) -> dict[str, float | None]:
    """What was typed, per litre where it is by volume; a blank one is not said. Raises FormErrors."""
    given: dict[str, float | None] = {}
    errors: dict[str, str] = {}
    for key in PRICES:
        text = form.get(key, "").strip()
        try:
            given[key] = measures.number(text, key, hand(request).mark) / _factor(request, key) if text else None
        except InputError as error:
            errors[key] = error.why
    if errors:
        raise FormErrors(errors)
    return given


@router.post("", dependencies=[needs("edit_prices")])
def put(request: Request, form: Form) -> Response:
    """A new version of what one place says."""
    who = visitor(request)
    try:
        with recording(request) as connection:
            both.merge(request, connection, form, lambda: show(request))
            given, start = _typed(request, form), day_of(form.get("effective_from"), "effective_from", today(request))
            scope, _, place = form.get("where", "fleet").partition(":")
            prices.put(connection, who.fleet_id, who.name, scope, place, start, given)
    except FormErrors as wrong:
        return _page(request, wrong.errors, form)
    except InputError as error:
        return _page(request, {error.field: error.why}, form)
    return RedirectResponse("/decide/prices", 303)
