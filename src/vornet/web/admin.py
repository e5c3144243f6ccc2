"""Admin: people and their roles, the audit trail, the fleet's settings."""

from __future__ import annotations

import json
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.core import schools
from vornet.core.errors import InputError
from vornet.flows.house import access, days, fleets, links, people, second_factor, sessions, tokens, trail
from vornet.io import tables
from vornet.web import both
from vornet.web.pages import Form, base_address, database, maybe_day, named, needs, opened, recording, render, sheet, visitor

router = APIRouter(prefix="/admin")
PAGE = 100


def _people(request: Request, error: str = "", form: dict[str, Any] | None = None, fresh: tuple[str, str] | None = None) -> Response:
    """Who is in this fleet; ``fresh``: what a link just made is for, and its path, shown this once."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        members, keys, invited = people.members(connection), tokens.kept(connection, None), links.invitations(connection)
        asked = fleets.settings(connection)["second_factor"]
    return render(
        request, "people.html", 422 if error else 200, members=members, tokens=keys, invited=invited, asked=asked, error=error,
        form=opened(form or {}),
        roles=access.ROLE_WORDS, rights=access.RIGHTS.values(), role_names=access.ROLES, fresh=fresh, base=base_address(request),
    )  # fmt: skip


@router.get("/people", dependencies=[needs("manage_people")])
def show_people(request: Request) -> Response:
    """Who is in this fleet, and who may do what."""
    return _people(request)


@router.post("/people", dependencies=[needs("manage_people")])
def invite(request: Request, form: Form) -> Response:
    """An invitation; its link is on the answer and nowhere else."""
    try:
        with recording(request) as connection:
            token = links.invite(connection, visitor(request), form.get("name", ""), [str(r) for r in form.many("roles")])
    except InputError as error:
        return _people(request, str(error), form)
    return _people(request, fresh=(f"{form.get('name', '').strip()} joins with", f"/invitation/{token}"))


@router.post("/people/{account_id}", dependencies=[needs("manage_people")])
def change(request: Request, account_id: int, form: Form) -> Response:
    """Other roles, out of the fleet, signed out here, or a link for a new password."""
    who, do = visitor(request), form.get("do", "roles")
    token = ""
    try:
        with recording(request) as connection:
            if do == "roles":
                people.set_roles(connection, who, account_id, [str(r) for r in form.many("roles")])
            elif do == "remove":
                people.remove(connection, who, account_id)
            elif do == "sign_out":
                sessions.end_sessions(connection, who, account_id)
            elif do == "second_off":
                second_factor.take_off(connection, who.fleet_id, who.name, account_id)
            elif do == "password":
                token = links.password_link(connection, who, account_id)
    except InputError as error:
        return _people(request, str(error))
    if token:
        return _people(request, fresh=("A new password is chosen with", f"/password/{token}"))
    return RedirectResponse("/admin/people", 303)


@router.post("/second-factor", dependencies=[needs("manage_people")])
def ask_second(request: Request, form: Form) -> Response:
    """Of whom the fleet asks for a second factor."""
    with recording(request) as connection:
        second_factor.ask_of(connection, visitor(request), [str(r) for r in form.many("roles")])
    return RedirectResponse("/admin/people", 303)


@router.post("/invitations/{invitation_id}/end", dependencies=[needs("manage_people")])
def end_invitation(request: Request, invitation_id: int, form: Form) -> Response:
    try:
        with recording(request) as connection:
            links.take_back(connection, visitor(request), invitation_id)
    except InputError as error:
        return _people(request, str(error))
    return RedirectResponse("/admin/people", 303)


@router.post("/tokens/{token_id}/end", dependencies=[needs("manage_people")])
def end_token(request: Request, token_id: int, form: Form) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        tokens.end(connection, visitor(request), token_id, anyone=True)
    return RedirectResponse("/admin/people", 303)


def _trail(request: Request, before: int | None, limit: int) -> tuple[list[dict[str, Any]], dict[str, str]]:
    asked = {k: request.query_params.get(k, "")[:120] for k in ("who", "what", "q", "since", "until")}
    since, until = maybe_day(asked["since"], "since"), maybe_day(asked["until"], "until")
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = trail.lines(connection, asked["who"], asked["what"], asked["q"], since, until, before, limit)
    return rows, asked


@router.get("/audit", dependencies=[needs("see_audit")])
def audit(request: Request, before: int | None = None) -> Response:
    """The audit trail, newest first."""
    rows, asked = _trail(request, before, PAGE + 1)
    with database(request).fleet(visitor(request).fleet_id) as connection:
        words = trail.words(connection)
    return render(request, "audit.html", rows=rows[:PAGE], more=len(rows) > PAGE, asked=asked, words=words)


@router.get("/audit.{layout}", dependencies=[needs("see_audit")])
def audit_file(request: Request, layout: str) -> Response:
    """The audit trail as CSV or JSON, filtered as the page is."""
    rows, _ = _trail(request, None, 200_000)
    if layout == "json":
        body = json.dumps(rows, default=lambda x: x.isoformat(), ensure_ascii=False, indent=1)
        return Response(body, media_type="application/json",
                        headers=named("audit.json"))  # fmt: skip
    if layout != "csv":
        raise InputError("layout", "csv or json")
    flat = [{**r, "at": r["at"].isoformat()} for r in rows]
    return sheet(tables.as_csv(flat), "audit.csv")


@router.get("/settings", dependencies=[needs("edit_settings")])
def settings(request: Request, saved: int = 0) -> Response:
    """Units of measure, time zone, schools of practice."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        found = fleets.settings(connection)
    return render(request, "settings.html", fleet=found, schools=schools.SCHOOLS, saved=saved, error="", zones=days.zones())


@router.post("/settings", dependencies=[needs("edit_settings")])
def save_settings(request: Request, form: Form) -> Response:
    who = visitor(request)
    chosen: dict[str, object] = {s.key: form.get(f"school_{s.key}", "") for s in schools.SCHOOLS}
    try:
        with recording(request) as connection:
            both.merge(request, connection, form, lambda: settings(request))
            chosen = {s.key: form.get(f"school_{s.key}", "") for s in schools.SCHOOLS}
            fleets.set_settings(connection, who.fleet_id, who.name, form.get("zone", "UTC"), form.get("measures", "si"), chosen)
    except InputError as error:
        shown = {"measures": form.get("measures"), "zone": form.get("zone"), "schools": chosen, "name": who.fleet}
        return render(request, "settings.html", 422, fleet=shown, schools=schools.SCHOOLS, saved=0, error=str(error), zones=days.zones())
    return RedirectResponse("/admin/settings?saved=1", 303)
