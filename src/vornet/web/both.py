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
from html.parser import HTMLParser
from typing import TYPE_CHECKING, Any

from fastapi import Request
from fastapi.responses import Response

from vornet.core.errors import FormErrors
from vornet.store import queue
from vornet.store.database import Connection

if TYPE_CHECKING:
    from vornet.web.pages import Posted

MARK = "data-both"
_OWN = ("csrf", "seen")


class _Fields(HTMLParser):
    """The fields of the page's marked form, as a browser would send them back untouched."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.found: dict[str, str] = {}
        self._in, self._select, self._area = False, "", ""
        self.feed(page)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        a = dict(attrs)
        name, value = a.get("name") or "", a.get("value") or ""
        if tag == "form":
            self._in = MARK in a
        elif not self._in:
            return
        elif tag == "select":
            self._select = name
        elif tag == "option" and self._select:
            if "selected" in a or self._select not in self.found:
                self.found[self._select] = a["value"] or "" if "value" in a else "\0"  # an option without a value: its text
        elif tag == "textarea":
            self._area = name
            self.found[name] = ""
        elif tag == "input" and name and name not in _OWN:
            if a.get("type") in ("checkbox", "radio"):
                if "checked" in a:
                    self.found[name] = value or "on"
            elif a.get("type") != "file":
                self.found[name] = value

    def handle_data(self, data: str) -> None:
        if self._area:
            self.found[self._area] += data
        elif self._select and self.found.get(self._select) == "\0":
            self.found[self._select] = data.strip()

    def handle_endtag(self, tag: str) -> None:
        if tag == "form":
            self._in = False
        elif tag == "select":
            self._select = ""
        elif tag == "textarea":
            self._area = ""


def _plain(text: str) -> str:
    return text.replace("\r", "").strip()


def fields(page: str) -> dict[str, str]:
    """What a page's marked form would send back untouched, by name."""
    return {k: "" if v == "\0" else v for k, v in _Fields(page).found.items()}


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
            told[name] = f"somebody saved {stands or 'nothing'!r} here meanwhile (it was {before or 'empty'!r}); yours is in the field"
    if told:
        request.state.seen = json.dumps(now, ensure_ascii=False)
        raise FormErrors(told)
