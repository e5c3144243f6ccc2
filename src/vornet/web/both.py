"""Two people at one form: whoever saves second keeps what they changed, takes what they did not touch from the first, and is shown both
where both changed the same field.

A form marked ``data-both`` carries what it showed (``seen``). What stands now is read off the page as it would be shown now; so one rule
serves every form, whatever its fields are.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from html import escape
from typing import TYPE_CHECKING, Any

from fastapi import Request
from fastapi.responses import Response

from vornet.core.errors import FormErrors
from vornet.store import queue
from vornet.store.database import Connection
from vornet.web.page_forms import forms_of

if TYPE_CHECKING:
    from vornet.web.pages import Posted

MARK = "data-both"
_OWN = ("csrf", "seen")


def _plain(text: str) -> str:
    return text.replace("\r", "").strip()


def _quoted(text: str) -> str:
    return repr(text) if text else "empty"


def fields(page: str) -> dict[str, str]:
    """What a page's marked form would send back untouched, by name."""
    form = next((f for f in forms_of(page) if MARK in f.attrs), None)
    return {k: v for k, v in form.values().items() if k not in _OWN} if form else {}


def with_seen(request: Request, page: str) -> str:
    """A page whose marked form carries what it shows; after a refusal what its reader saw at first, or what stands now where that was
    told beside the fields."""
    if MARK not in page:
        return page
    kept = getattr(request.state, "seen", None)
    text = kept if kept is not None else json.dumps(fields(page), ensure_ascii=False)
    return re.sub(
        rf"(<form\b[^>]*\b{MARK}\b[^>]*>)", lambda m: m[1] + f'<input type="hidden" name="seen" value="{escape(text)}">', page, count=1
    )


def merge(request: Request, connection: Connection, form: Posted, show: Callable[[], Response]) -> None:
    """Take into ``form`` what somebody else saved meanwhile and this one did not touch. ``show``: the form's page as it would be shown now.

    Raises FormErrors with both where both changed a field; saved once more as it is then, it is saved knowingly. Whoever comes second
    waits until the first is through.
    """
    request.state.seen = form.get("seen")
    if not form.get("seen"):
        return  # a program, or a page from before
    queue.hold(connection, f"form {request.url.path}")
    try:
        was: dict[str, Any] = json.loads(form["seen"])
    except ValueError:
        was = {}
    if not isinstance(was, dict):
        was = {}
    now = fields(bytes(show().body).decode())
    told: dict[str, str] = {}
    for name in {**was, **now}:
        mine, before, stands = _plain(form.get(name, "")), _plain(str(was.get(name, ""))), _plain(now.get(name, ""))
        if before == stands or mine == stands:
            continue
        if mine == before:
            form[name] = stands
        else:
            told[name] = f"somebody saved {_quoted(stands)} here meanwhile (it was {_quoted(before)}); yours is in the field"
    if told:
        request.state.seen = json.dumps(now, ensure_ascii=False)
        raise FormErrors(told)
