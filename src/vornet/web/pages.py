"""What every page shares: templates, formats, the visitor, today, CSRF."""

from __future__ import annotations

import hmac
from datetime import date
from importlib.resources import files
from typing import Any

from fastapi import Request
from fastapi.responses import HTMLResponse
from jinja2 import Environment, FileSystemLoader, StrictUndefined, select_autoescape
from markupsafe import Markup
from starlette.exceptions import HTTPException

from vornet.core.decide import OUTCOME_WORDS
from vornet.core.judge import VERDICTS, WORDS
from vornet.core.properties import BY_PROPERTY
from vornet.flows.people import Visitor
from vornet.store.database import Database
from vornet.web.charts import ribbon

_environment = Environment(
    loader=FileSystemLoader(str(files("vornet.web") / "templates")),
    autoescape=select_autoescape(), undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True,
)  # fmt: skip


def figure(value: float | None, decimals: int = 0) -> str:
    """A number as shown: grouped, with so many decimals; a dash when not known."""
    if value is None or value != value:
        return "–"
    return f"{value:,.{decimals}f}".replace("-", "−")


def signed(value: float | None, decimals: int = 0) -> str:
    if value is None or value != value:
        return "–"
    return ("+" if value > 0 else "") + figure(value, decimals)


def day(value: date | None) -> str:
    return "–" if value is None else f"{value.day} {value:%b %Y}"


def short_day(value: date | None) -> str:
    return "–" if value is None else f"{value.day} {value:%b}"


def property_name(key: str | None) -> str:
    """A deciding property in the words of a list: 'soot', 'base number'."""
    if key is None:
        return ""
    short = {"bn_minus_an": "base over acid number", "v100_high": "thickening", "v100_low": "thinning",
             "v40_high": "thickening", "v40_low": "thinning"}  # fmt: skip
    return short.get(key) or BY_PROPERTY[key].name.lower()


def drop(word: str, size: int = 18) -> Markup:
    """The verdict drop on its own, for lists; always beside its word."""
    return Markup(
        f'<svg class="drop-icon" viewBox="-10 -10 20 20" width="{size}" height="{size}" aria-hidden="true">'
        f"{ribbon.verdict_drop(word, 0, 0)}</svg>"
    )


def life_bar(*args: Any) -> Markup:
    return Markup(ribbon.life_bar(*args))


_environment.filters.update(fig=figure, signed=signed, day=day, short_day=short_day, prop=property_name)
_environment.globals.update(
    drop=drop, life_bar=life_bar, verdict_words={**WORDS, "none": "No verdict", "held": "Held"},
    verdict_of=lambda code: VERDICTS.get(code, "none"), outcome_words=OUTCOME_WORDS,
)  # fmt: skip


def visitor(request: Request) -> Visitor:
    """Who asks; the guard has let nobody else through."""
    found = request.state.visitor
    if found is None:
        raise HTTPException(401, "sign in first")
    return found


def database(request: Request) -> Database:
    return request.app.state.db


def today(request: Request) -> date:
    """The day this application lives in: fixed for demo and screenshots, else the calendar's."""
    return request.app.state.fixed_today or date.today()


async def checked_form(request: Request) -> dict[str, Any]:
    """A posted form whose CSRF token is this session's. Raises 403 otherwise."""
    form = await request.form(max_part_size=80_000_000)
    token = form.get("csrf") or request.headers.get("X-CSRF", "")
    if not hmac.compare_digest(str(token), visitor(request).csrf):
        raise HTTPException(403, "This form is from an ended session. Go back, reload and send it again.")
    return dict(form)


def may(request: Request, *roles: str) -> None:
    """Let only some roles go on."""
    if visitor(request).role not in (*roles, "admin"):
        raise HTTPException(403, f"This is for {' and '.join(roles)}; you are signed in as {visitor(request).role}.")


def render(request: Request, template: str, status: int = 200, **context: Any) -> HTMLResponse:
    """A template with what every page needs."""
    html = _environment.get_template(template).render(
        visitor=request.state.visitor, today=today(request), path=request.url.path, demo=request.app.state.demo,
        **context,
    )  # fmt: skip
    return HTMLResponse(html, status)

