"""A form that was refused comes back as it was sent: what was typed is in its fields, and what is wrong beside them, whatever form it is."""

from __future__ import annotations

from collections.abc import Mapping
from html import escape
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

import httpx
from fastapi import FastAPI, Request
from fastapi.responses import HTMLResponse, Response
from starlette.concurrency import run_in_threadpool

from vornet.core.errors import InputError
from vornet.web.page_forms import PageForm, Tag, forms_of

if TYPE_CHECKING:
    from vornet.web.pages import Posted

_KEPT = ("csrf", "seen")
#: a page that is asked for again weighs at most so much
LARGEST = 4_000_000


def refilled(page: str, path: str, typed: Posted, wrong: Mapping[str, str]) -> str:
    """A page whose form for ``path`` holds what was typed, with what is wrong beside the fields it names."""
    form = _which(forms_of(page), path, typed)
    if form is None:
        return page
    edits: list[tuple[int, int, str]] = []
    for tag in form.tags:
        name = tag.name
        why = _said_of(tag, name, wrong) if tag.kind != "option" else ""
        if name in _KEPT or tag.type in ("hidden", "file", "password") or (name not in typed and tag.type != "checkbox"):
            continue
        given = typed.many(name) or ([typed[name]] if name in typed else [])
        attrs = {k: v for k, v in tag.attrs.items() if k not in ("selected", "checked")}
        if tag.kind == "input" and tag.type in ("checkbox", "radio"):
            if tag.value in given:
                attrs["checked"] = None
        elif tag.kind == "input":
            attrs["value"] = typed.get(name, "")
        elif tag.kind == "option" and tag.value in given:
            attrs["selected"] = None
        if why and "aria-invalid" not in attrs and tag.kind != "option":
            attrs["aria-invalid"] = "true"
        edits.append((tag.start, tag.end, _written(tag.kind, attrs)))
        if tag.kind == "textarea" and tag.inside_end:
            edits.append((tag.end, tag.inside_end, escape(typed.get(name, ""))))
        if why and tag.kind == "input":
            edits.append((tag.end, tag.end, f'<small class="error">{escape(why)}</small>'))
    for start, end, text in sorted(edits, key=lambda e: (e[0], e[1]), reverse=True):
        page = page[:start] + text + page[end:]
    return page


def _which(forms: list[PageForm], path: str, typed: Posted) -> PageForm | None:
    """The form that was sent: to that address, with those names, and with the same hidden values."""
    for form in forms:
        hidden = {t.name: t.value for t in form.tags if t.type == "hidden"}
        same = all(typed.get(k) == v for k, v in hidden.items() if k not in _KEPT)
        if form.action in (path, "") and same and form.names() & (set(typed) - set(_KEPT)):
            return form
    return None


def _said_of(tag: Tag, name: str, wrong: Mapping[str, str]) -> str:
    if name in wrong:
        return wrong[name]
    plain = tag.label.lower()
    return next((why for field_name, why in wrong.items() if plain and plain.startswith(field_name.replace("_", " ").lower())), "")


def _written(kind: str, attrs: Mapping[str, str | None]) -> str:
    return f"<{kind}" + "".join(f" {k}" if v is None else f' {k}="{escape(v)}"' for k, v in attrs.items()) + ">"


async def shown_again(app: FastAPI, request: Request, error: InputError) -> Response | None:
    """The page that a refused form was sent from, filled in as it was sent, with the sentence on top; None where that page is not known."""
    typed: Posted | None = getattr(request.state, "posted", None)
    came = urlsplit(request.headers.get("Referer", ""))
    if typed is None or request.headers.get("HX-Request") or came.netloc != request.headers.get("Host"):
        return None
    headers = {k: v for k, v in request.headers.items() if k in ("host", "cookie", "accept-language")}
    transport = httpx.ASGITransport(app=app, raise_app_exceptions=False)
    async with httpx.AsyncClient(transport=transport, base_url=f"{request.url.scheme}://{request.headers['Host']}") as client:
        page = await client.get(came.path + (f"?{came.query}" if came.query else ""), headers=headers)
    if page.status_code != 200 or "text/html" not in page.headers.get("content-type", "") or len(page.text) > LARGEST:
        return None
    wrong = dict(getattr(error, "errors", None) or {error.field: error.why})
    text = await run_in_threadpool(refilled, page.text, request.url.path, typed, wrong)
    sentence = escape(f"{str(error)[:1].upper()}{str(error)[1:]}"[:600])
    banner = f'<p class="banner page-banner" role="alert"><span class="open">Not done</span> {sentence}. What you typed is still there.</p>'
    head, mark, rest = text.partition('<main id="main" tabindex="-1">')
    return HTMLResponse(head + mark + banner + rest if mark else text, 422) if mark else None
