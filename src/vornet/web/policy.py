"""The rules by which intervals move: said for the fleet, a duty, a family or one unit; tried, then saved."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.core import measures
from vornet.core.decision import OUTCOME_WORDS, Policy
from vornet.core.errors import FormErrors, InputError
from vornet.core.policy import RULES
from vornet.flows.judge import policies
from vornet.io import apart
from vornet.web import both
from vornet.web.pages import Form, database, day_of, hand, needs, opened, recording, render, today, visitor
from vornet.words.writing import marked

router = APIRouter(prefix="/decide/policy")
CHOICE_WORDS = {
    "watch": "watch", "act": "act", "condition": "safe hours alone", "house_rule": "the house rule",
    "printed": "the maker's printed interval", "indicator": "the on-board indicator", "supplier": "the oil supplier's claim",
    "calendar": "the calendar",
    "fixed_last_sample": "the last sample's line",
    "statistical": "the statistical limits",
    "without": "reckoned without them", "go_on": "they go on",
}  # fmt: skip


def _per_cent(key: str) -> bool:
    return RULES[key].unit == "share"


def _shown(key: str, value: Any) -> str:
    """A rule's value as people type it."""
    if RULES[key].choices:
        return str(value)
    if key.startswith("house_") and not value:
        return "none"
    return marked(measures.unmistakable(f"{value * 100:.4g}" if _per_cent(key) else f"{value:.6g}"))


def said_value(key: str, value: Any) -> str:
    """A rule's value as people read it, with its unit."""
    rule = RULES[key]
    return CHOICE_WORDS[value] if rule.choices else f"{_shown(key, value)}{' %' if _per_cent(key) else ' ' + rule.unit if rule.unit else ''}"


def _typed(request: Request, form: dict[str, str]) -> dict[str, Any]:
    """What was typed, each rule as it is kept; a blank one is not said here. Raises FormErrors."""
    given: dict[str, Any] = {}
    errors: dict[str, str] = {}
    for key, rule in RULES.items():
        text = form.get(key, "").strip()
        if not text:
            continue
        if rule.choices:
            given[key] = text
            continue
        try:
            number = measures.number(text.removesuffix("%"), key, hand(request).mark)
            given[key] = round(number / 100, 9) if _per_cent(key) else int(number) if rule.whole and number == int(number) else number
        except InputError as error:
            errors[key] = error.why
    if errors:
        raise FormErrors(errors)
    return given


def _where(form: dict[str, str]) -> tuple[str, str]:
    scope, _, place = form.get("where", "fleet").partition(":")
    return scope, place


def _page(request: Request, errors: dict[str, str] | None = None, form: dict[str, Any] | None = None, found: Any = None) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        now, places, versions = policies.in_force(connection, today(request)), policies.places(connection), policies.versions(connection)
    start = Policy()
    return render(
        request, "policy.html", 422 if errors else 200, now=now.rows, places=places, versions=versions, rules=RULES, shown=_shown,
        choice_words=CHOICE_WORDS, start={key: getattr(start, key) for key in RULES}, errors=errors or {}, form=opened(form or {}),
        scopes=policies.SCOPE_WORDS, found=found, outcome_names=OUTCOME_WORDS,
    )  # fmt: skip


@router.get("", dependencies=[needs("see_intervals")])
def show(request: Request) -> Response:
    """Rules in force, and every version."""
    return _page(request)


def _tried(request: Request, form: dict[str, str]) -> Any:
    scope, place = _where(form)
    given = _typed(request, form)
    fleet_id, day = visitor(request).fleet_id, today(request)
    return apart.long(policies.what_if_apart, database(request).location, fleet_id, scope, place, given, day)


@router.post("/what-if", dependencies=[needs("see_intervals")])
def what_if(request: Request, form: Form) -> Response:
    """Which decisions would change; nothing is written."""
    request.state.seen = form.get("seen")
    try:
        return _page(request, form=form, found=_tried(request, form))
    except FormErrors as wrong:
        return _page(request, wrong.errors, form)
    except InputError as error:
        return _page(request, {error.field: error.why}, form)


@router.post("", dependencies=[needs("edit_policy")])
def save(request: Request, form: Form) -> Response:
    """A new version of what one scope says."""
    who, (scope, place) = visitor(request), _where(form)
    try:
        with recording(request) as connection:
            both.merge(request, connection, form, lambda: show(request))
            given, start = _typed(request, form), day_of(form.get("effective_from"), "effective_from", today(request))
            policies.save(connection, who.fleet_id, who.name, scope, place, given, form.get("why", ""), start, today(request))
    except FormErrors as wrong:
        return _page(request, wrong.errors, form)
    except InputError as error:
        return _page(request, {error.field: error.why}, form)
    return RedirectResponse("/decide/policy", 303)
