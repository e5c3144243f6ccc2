"""Limits: the set in force beside what history says, what would change before it is saved; and whether the scheme works."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any
from urllib.parse import urlencode

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from vornet.api.bodies import takes
from vornet.core.causes import NAMES
from vornet.core.errors import FormErrors, InputError
from vornet.core.judge import WORDS
from vornet.core.learning import key_of, sign_of
from vornet.core.limits import DUTIES, FixedLimit
from vornet.core.measurands import BY_KEY, MEASURANDS
from vornet.flows.judge import backtest as backtests
from vornet.flows.judge import learning, limits
from vornet.io import apart, tables
from vornet.store.database import Connection
from vornet.web import both
from vornet.web.charts.calibration import Line, picture
from vornet.web.pages import Form, database, hand, needs, number_of, opened, recording, render, sheet, today, visitor
from vornet.words.writing import figure

router = APIRouter()
#: a table of limits
LARGEST_FILE = 1_000_000


def _whose(connection: Connection, duty: str, scope: str) -> tuple[str, str, str]:
    """(family, unit, the unit's family) of what a page is about: '' of the whole duty, 'family NAME', 'unit NAME'."""
    kind, _, name = scope.partition(" ")
    units = limits.units_of(connection, duty)
    if kind == "unit" and name in units:
        return "", name, units[name]
    return (name if kind == "family" and name in limits.families_of(connection, duty) else ""), "", ""


def _context(request: Request, connection: Connection, duty: str, family: str, scope: str) -> dict[str, Any]:
    day = today(request)
    duty = duty if duty in DUTIES else DUTIES[0]
    now = limits.in_force(connection, day)
    own_family, own_unit, above = _whose(connection, duty, scope)
    scoped = limits.of_scope(now["rows"], duty, own_family or above, own_unit)
    rows = sorted(scoped, key=lambda r: [m.key for m in MEASURANDS].index(r.key))
    families = limits.families_of(connection, duty)
    family = own_family or above or (family if family in families else (families[0] if families else ""))
    known = limits.suggestions(connection, family, rows, day) if family else {}
    return {
        "duty": duty, "duties": limits.DUTY_WORDS, "rows": rows, "now": now, "families": families, "family": family, "known": known,
        "by_key": BY_KEY, "basis": limits.BASIS_WORDS, "methods": limits.METHODS, "versions": limits.versions(connection),
        "measurands": MEASURANDS, "scope": f"unit {own_unit}" if own_unit else f"family {own_family}" if own_family else "",
        "whose": own_unit or own_family, "units": list(limits.units_of(connection, duty)),
        "special": sorted({(r.family or r.unit, f"family {r.family}" if r.family else f"unit {r.unit}")
                           for r in now["rows"] if r.duty == duty and (r.family or r.unit)}),
    }  # fmt: skip


@router.get("/limits", dependencies=[needs("see_review")])
def show(request: Request, duty: str = "", family: str = "", scope: str = "") -> Response:
    """The limits in force, with the statistical school beside them."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        context = _context(request, connection, duty, family, scope)
    return render(request, "limits.html", typed=opened({}), error="", **context)


@router.post("/limits/what-if", dependencies=[needs("see_review")])
def what_if(request: Request, form: Form) -> Response:
    """What the figures as typed would change; nothing is written."""
    duty, day, fleet_id, db = form.get("duty", ""), today(request), visitor(request).fleet_id, database(request)
    error, found = "", None
    with db.fleet(fleet_id) as connection:
        in_force = limits.in_force(connection, day)["rows"]
        whose = _whose(connection, duty, form.get("scope", ""))
    try:
        rows = limits.typed(in_force, duty, form, *whose, mark=hand(request).mark)
        found = apart.long(limits.what_if_apart, db.location, fleet_id, rows, duty, day, form.get("family", ""))
    except InputError as problem:
        error = str(problem)
    return render(request, "what_if.html", 422 if error else 200, found=found, error=error)


def _said(problem: InputError) -> str:
    """What is wrong, each field by its name: 'Iron high, act'."""
    found = problem.errors if isinstance(problem, FormErrors) else {problem.field: problem.why}

    def named(field: str) -> str:
        which, _, rest = field.partition(".")
        key, _, side = rest.partition(".")
        return f"{BY_KEY[key].name}{' ' + side if side else ''}, {which}" if key in BY_KEY else field.replace(".", " ")

    return "; ".join(f"{named(field)}: {why}" for field, why in found.items())


@router.post("/limits", dependencies=[needs("edit_limits")])
def save(request: Request, form: Form) -> Response:
    """A new version of the limits, in force from today."""
    who, duty = visitor(request), form.get("duty", "")
    with recording(request) as connection:
        try:
            both.merge(request, connection, form, lambda: show(request, duty, form.get("family", ""), form.get("scope", "")))
            whose = _whose(connection, duty, form.get("scope", ""))
            rows = limits.typed(limits.to_change(connection, today(request))["rows"], duty, form, *whose, mark=hand(request).mark)
            about = whose[1] or whose[0]
            limits.save(connection, who.fleet_id, rows, duty, by=who.name, why=form.get("why", ""), today=today(request), about=about)
        except InputError as problem:
            context = _context(request, connection, duty, form.get("family", ""), form.get("scope", ""))
            return render(request, "limits.html", 422, typed=opened(dict(form)), error=_said(problem), **context)
    return RedirectResponse(f"/limits?{urlencode({'duty': duty, 'scope': form.get('scope', '')})}", 303)


@router.get("/limits.csv", dependencies=[needs("see_review")])
def as_file(request: Request) -> Response:
    """The limits in force as a table."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = limits.in_force(connection, today(request))["rows"]
    return sheet(tables.as_csv(limits.as_rows(rows)), "limits.csv")


@router.post("/limits/file", dependencies=[needs("edit_limits"), takes(LARGEST_FILE)])
def from_file(request: Request, form: Form) -> Response:
    """A table of limits or of precision as a new version: all of it, or nothing."""
    who, upload = visitor(request), form.files.get("file")
    if upload is None:
        raise InputError("file", "choose a file first")
    text = upload.file.read(LARGEST_FILE).decode("utf-8-sig", "replace")
    with recording(request) as connection:
        if form.get("what") == "precision":
            given = limits.precision_from_csv(text)
            limits.save_precision(connection, who.fleet_id, given, by=who.name, why=form.get("why", ""), today=today(request))
            return RedirectResponse("/limits/precision", 303)
        rows = limits.from_csv(text)
        limits.save(connection, who.fleet_id, rows, "", by=who.name, why=form.get("why", ""), today=today(request), about="from a file")
    return RedirectResponse("/limits", 303)


@router.get("/limits/precision.csv", dependencies=[needs("see_review")])
def precision_file(request: Request) -> Response:
    """How well each measurand is known, as a table."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = limits.precision_rows(connection, today(request))
    return sheet(tables.as_csv([asdict(r) for r in rows]), "precision.csv")


@router.get("/limits/precision", dependencies=[needs("see_review")])
def show_precision(request: Request) -> Response:
    """How well each measurand is known."""
    return _precision(request, {}, "")


def _precision(request: Request, typed: dict[str, Any], error: str) -> Response:
    with database(request).fleet(visitor(request).fleet_id) as connection:
        rows = limits.precision_rows(connection, today(request))
        versions = limits.precision_versions(connection)
    return render(
        request, "precision.html", 422 if error else 200, as_shown=limits.as_shown, rows=rows, typed=opened(typed),
        error=error, versions=versions, by_key=BY_KEY,
    )  # fmt: skip


@router.post("/limits/precision", dependencies=[needs("edit_limits")])
def save_precision(request: Request, form: Form) -> Response:
    """A new version of the fleet's own precision."""
    who = visitor(request)
    try:
        with recording(request) as connection:
            both.merge(request, connection, form, lambda: show_precision(request))
            limits.save_precision(
                connection, who.fleet_id, form, by=who.name, why=form.get("why", ""), today=today(request), mark=hand(request).mark
            )
    except InputError as problem:
        return _precision(request, dict(form), _said(problem))
    return RedirectResponse("/limits/precision", 303)


@router.get("/backtest", dependencies=[needs("see_review")])
def backtest(request: Request, version: int = 0) -> Response:
    """The whole history through every way of judging, against what was found; what findings say of the signs."""
    return _backtest(request, version, "")


def _backtest(request: Request, version: int, error: str) -> Response:
    db, fleet_id = database(request), visitor(request).fleet_id
    with db.fleet(fleet_id) as connection:
        known = limits.versions(connection)
        chosen = next((v for v in known if v["version"] == version), None)
        sets = {f"limits version {version}": [FixedLimit(**r) for r in chosen["limits"]]} if chosen else {}
    found = apart.long(backtests.backtest_apart, db.location, fleet_id, today(request), sets)
    with db.fleet(fleet_id) as connection:
        signed, weighed = learning.versions(connection), learning.in_force(connection, today(request))
    return render(
        request, "backtest.html", 422 if error else 200, found=found, versions=known, version=version, picture=picture(_lines(found)),
        signed=signed, weighed=weighed, names=NAMES, sign_of=sign_of, key_of=key_of, verdict_words=WORDS, error=error,
    )  # fmt: skip


def _lines(found: dict[str, Any]) -> list[Line]:
    out = []
    for c in found["confirmed"]:
        said = f"{c.right} of {c.n} confirmed" if c.n else "nobody looked yet"
        under = f"{figure(c.unlooked)} samples so called that nobody looked into" if c.unlooked else "every one was looked into"
        out.append(Line(f"Called {c.strength}", under, c.share, c.low, c.high, said))
    e = found["ended"]
    said = f"{e.past} of {e.n} past; expected {figure(e.expected, 1)}" if e.n else "none has run so far yet"
    under = f"{e.unread} more without a sample at their end" if e.unread else "watch limits of what wears the oil out"
    out.append(Line("Ended past a limit", under, e.past / e.n if e.n else None, e.low, e.high, said, e.expected / e.n if e.n else None))
    return out


@router.post("/backtest/signs", dependencies=[needs("weigh_signs")])
def weigh_signs(request: Request, form: Form) -> Response:
    """Sign what a family's findings make of its signs, or take all of it back."""
    who, family, why = visitor(request), form.get("family", ""), form.get("why", "")
    try:
        with recording(request) as connection:
            if form.get("take_back"):
                learning.take_back(connection, who.fleet_id, family, by=who.name, why=why, today=today(request))
            else:
                # factors in hundredths, so that what is signed is what was shown
                pairs = [str(text).rpartition("=") for text in form.many("sign")]
                chosen = {key: number_of(hundredths, "sign") / 100 for key, _, hundredths in pairs}
                learning.sign(connection, who.fleet_id, family, chosen, by=who.name, why=why, today=today(request))
    except InputError as problem:
        return _backtest(request, 0, str(problem))
    return RedirectResponse("/backtest#signs", 303)
