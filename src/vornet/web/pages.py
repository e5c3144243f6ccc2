"""What every page shares: templates, formats, the visitor, today, CSRF."""

from __future__ import annotations

import contextlib
import hmac
import re
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from hashlib import blake2b
from importlib.resources import files
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote, urlsplit
from zoneinfo import ZoneInfo

from fastapi import Depends, Request
from fastapi.responses import HTMLResponse, Response
from jinja2 import Environment, FileSystemBytecodeCache, FileSystemLoader, StrictUndefined, pass_context, select_autoescape
from jinja2.bccache import Bucket
from jinja2.runtime import Context
from markupsafe import Markup
from starlette.datastructures import FormData, UploadFile
from starlette.exceptions import HTTPException

from vornet.core import measures
from vornet.core.causes import NAMES
from vornet.core.decision import OUTCOME_WORDS
from vornet.core.drain import LEVEL_NOT_READ, MARKS_UNKNOWN, OUT_NOT_MEASURED
from vornet.core.errors import InputError
from vornet.core.judge import VERDICTS, WORDS
from vornet.core.measurands import spoken
from vornet.core.measures import Hand
from vornet.core.oil_properties import BY_PROPERTY
from vornet.flows.house import access, days, installation
from vornet.flows.house.people import Visitor
from vornet.flows.judge import trials, verdicts
from vornet.flows.judge.settle import AT_ONCE, settling
from vornet.flows.pages import rows as rows_of
from vornet.store.database import Connection, Database
from vornet.web import again, both
from vornet.web.charts import ribbon
from vornet.web.server import DIST
from vornet.words.en import AS_READ
from vornet.words.say import each, say
from vornet.words.writing import day, figure, marked, quantities, read_day, short_day

#: fields of one form
MOST_FIELDS = 20_000


class _Compiled(FileSystemBytecodeCache):
    """Templates as set-up compiled them; one that has changed since is compiled anew, and kept where that can be written."""

    def dump_bytecode(self, bucket: Bucket) -> None:
        with contextlib.suppress(OSError):
            super().dump_bytecode(bucket)


TEMPLATES = Path(str(files("vornet.web") / "templates"))
COMPILED = TEMPLATES.with_name("templates_built")
_environment = Environment(
    loader=FileSystemLoader(TEMPLATES), bytecode_cache=_Compiled(str(COMPILED)) if COMPILED.is_dir() else None,
    autoescape=select_autoescape(), undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True,
)  # fmt: skip


def signed(value: float | None, decimals: int = 0) -> str:
    if value is None or value != value:
        return "–"
    shown = figure(value, decimals)
    return shown if shown[0] == "−" or not shown.strip("0.,") else "+" + shown


def as_day(value: Any) -> str:
    """A day as its reader would type it: a date, or one that came as ISO; anything else as it was typed."""
    if isinstance(value, str) and re.fullmatch(r"\d{4}-\d\d-\d\d", value):
        with contextlib.suppress(ValueError):
            value = date.fromisoformat(value)
    return day(value) if isinstance(value, date) else str(value or "")


@pass_context
def moment(context: Context, value: datetime | None) -> str:
    """A day and a time of it, in the fleet's zone."""
    if value is None:
        return "–"
    who = context.get("visitor")
    local = value.astimezone(ZoneInfo(who.zone if who else "UTC"))
    return f"{day(local.date())} {local:%H:%M}"


@pass_context
def _short_day(context: Context, value: date | None) -> str:
    """A day in little room; with its year where that is not this year."""
    return short_day(value, context.get("today"))


def in_field(value: float | None, sign: str = "") -> str:
    """A stored figure in a field: all its digits, with its reader's decimal mark, and never such that it reads back as thousands."""
    if value is None or value != value:
        return ""
    text = f"{value:.10g}" if 1e-4 <= abs(value) < 1e10 else f"{value:.10f}".rstrip("0").rstrip(".")
    return marked(sign + measures.unmistakable(text))


def property_name(key: str | None) -> str:
    """A deciding property in the words of a list: 'soot', 'base number'."""
    if key is None:
        return ""
    short = {"bn_minus_an": "base over acid number", "v100_high": "thickening", "v100_low": "thinning",
             "v40_high": "thickening", "v40_low": "thinning"}  # fmt: skip
    return short.get(key) or spoken(BY_PROPERTY[key].name)


NO_COMPARTMENT = "There is no such compartment in this fleet."
#: what an arithmetic took for granted, in words
ASSUMED = {
    LEVEL_NOT_READ: "level not read before the drain: taken as full",
    MARKS_UNKNOWN: "volume between the marks is not on record: taken as full",
    OUT_NOT_MEASURED: "litres out not measured: system less refill capacity",
}


def assumed_words(keys: Iterable[str]) -> list[str]:
    """What was taken for granted; what older records keep as words stays as it is."""
    return [ASSUMED.get(key, key) for key in keys]


def _kind(unit: str) -> str:
    return {"km": "distance", "h": "hours"}.get(unit, unit)


@pass_context
def amount(context: Context, value: float | None, kind: str, decimals: int | None = None) -> str:
    """A stored quantity as shown: in the fleet's unit, to its usual digits. ``kind`` of measures, or h/km."""
    system, kind = context["measures"], _kind(kind)
    return figure(measures.shown(value, kind, system), measures.digits(value, kind, system) if decimals is None else decimals)


@pass_context
def per(context: Context, value: float | None, kind: str, decimals: int, plus: bool = True) -> str:
    """A stored rate per km (or h) as shown: per mile for a fleet that counts miles."""
    system, kind = context["measures"], _kind(kind)
    one = measures.shown(1.0, kind, system) or 1.0
    rate = None if value is None else value / one
    return signed(rate, decimals) if plus else figure(rate, decimals)


@pass_context
def unit_of(context: Context, kind: str) -> str:
    """How the fleet writes the unit of a kind (or of h/km)."""
    return measures.unit(_kind(kind), context["measures"])


@pass_context
def said(context: Context, sentence: str | None) -> str:
    """A stored sentence with its quantities in the fleet's units, as its reader writes them."""
    return quantities(measures.said(sentence or "", context["measures"]))


@pass_context
def in_words(context: Context, facts: Any, capital: bool = False) -> str:
    """A fact, or several, in words and in the fleet's units."""
    system = context["measures"]
    text = "; ".join(each(facts, system, AS_READ)) if isinstance(facts, list | tuple) else say(facts, system, AS_READ) if facts else ""
    return text[:1].upper() + text[1:] if capital else text


@pass_context
def as_typed(context: Context, value: float | None, kind: str) -> str:
    return measures.as_typed(value, _kind(kind), context["measures"])


@pass_context
def figure_of(context: Context, value: float | None, kind: str) -> str:
    """A stored quantity as it was typed once, for reading."""
    return measures.significant(value, _kind(kind), context["measures"])


class _Open(dict[str, Any]):
    def __missing__(self, key: str) -> None:
        return None


def inside(to: str, otherwise: str = "/") -> str:
    """Only a path of our own, never another site."""
    try:
        parts = urlsplit(to)
    except ValueError:
        return otherwise
    ours = to.startswith("/") and not to.startswith("//") and not parts.netloc and "\\" not in to and to.isprintable()
    return to if ours else otherwise


def opened(document: Any) -> Any:
    """A register document for templates: a key that is not there reads as None, all the way down."""
    if isinstance(document, dict):
        return _Open({k: opened(v) for k, v in document.items()})
    if isinstance(document, list):
        return [opened(v) for v in document]
    return document


def named(name: str, inline: bool = False) -> dict[str, str]:
    """The header that names what is handed out (RFC 6266): in plain letters, and in full for those who read that."""
    kept = re.sub(r"[\x00-\x1f\x7f/\\\\]+", "-", name).encode("utf-8", "replace").decode()
    plain = re.sub(r'[^ -~]|["%;]', "_", kept)
    full = "" if plain == kept else f"; filename*=UTF-8''{quote(kept, safe='')}"
    return {"Content-Disposition": f'{"inline" if inline else "attachment"}; filename="{plain}"{full}'}


def sheet(text: str, name: str) -> Response:
    """A table as CSV that a spreadsheet opens with its letters whole: it tells UTF-8 by the mark at its start."""
    return Response("\ufeff" + text, media_type="text/csv; charset=utf-8", headers=named(name))


def from_here(request: Request) -> bool:
    """Whether a form that no session vouches for was sent from a page of our own."""
    origin = request.headers.get("Origin")
    if origin and origin == installation.address():
        return True
    try:
        return not origin or urlsplit(origin).netloc == request.headers.get("Host")
    except ValueError:  # no address at all
        return False


def base_address(request: Request) -> str:
    """Where this installation is reached, for links and codes that are handed on."""
    return installation.address() or str(request.base_url).rstrip("/")


def drop(word: str, size: int = 18) -> Markup:
    """The verdict drop on its own, for lists; always beside its word."""
    return Markup(
        f'<svg class="drop-icon" viewBox="-10 -10 20 20" width="{size}" height="{size}" aria-hidden="true">'
        f"{ribbon.verdict_drop(word, 0, 0)}</svg>"
    )


def life_bar(*args: Any) -> Markup:
    return Markup(ribbon.life_bar(*args))


_environment.filters.update(
    fig=figure,
    signed=signed,
    spoken=spoken,
    day=day,
    short_day=_short_day,
    as_day=as_day,
    moment=moment,
    prop=property_name,
    amount=amount,
    per=per,
    u=unit_of,
    said=said,
    say=in_words,
    typed=as_typed,
    figure_of=figure_of,
    year_before=lambda day: day - timedelta(days=365),
    significant=lambda value: marked(f"{value:.6g}"),
    in_field=in_field,
    as_figure=lambda text: marked(measures.unmistakable(text)),
)


@lru_cache(maxsize=1)
def asset_version() -> str:
    """What all that a page loads is, as a digest: a page and what it was made with belong together."""
    built = sorted(p for p in DIST.rglob("*") if p.is_file())
    return blake2b(b"".join(p.name.encode() + p.read_bytes() for p in built), digest_size=6).hexdigest()


def asset(name: str) -> str:
    """The address of a style, script or picture of this version."""
    return f"/static/{name}?v={asset_version()}"


#: words of the trade and of Vornet, told behind ? and where they stand over a column
GLOSSARY = {
    "Headroom": "safe oil life less what is used, at 95 %; none while a Stop stands",
    "Charge": "one filling of oil, from refill to drain",
    "Safe hours": "how long the oil may run before the property that limits it would pass its limit in one of twenty",
    "Bites": "of a wall: it stops the interval sooner than the oil itself would",
    "School": "a way in which practitioners do it; where they differ, both are here and one is chosen",
    "Held": "a sample that may not be true, or not of this machine: not judged until somebody says so",
    "Carry-over": "old oil that stays in the sump at a drain and goes on counting",
    "Duty": "how hard and in what a unit works",
}


def term(word: str) -> Markup:
    """A word with what it means on hover, for whoever meets it the first time."""
    means = GLOSSARY[word[:1].upper() + word[1:]]
    return Markup('<abbr class="term" title="{}">{}</abbr>').format(means, word)


_environment.globals.update(
    glossary=GLOSSARY, term=term, asset=asset, now_ms=lambda: int(datetime.now(UTC).timestamp() * 1000),
    drop=drop, life_bar=life_bar, verdict_words={**WORDS, "none": "No verdict", "held": "Held"},
    verdict_of=lambda code: VERDICTS.get(code, "none"), outcome_words=OUTCOME_WORDS, cause_names=NAMES, assumed_words=assumed_words,
)  # fmt: skip


def compile_templates() -> None:
    """Compile every template, so that no first visitor waits for it."""
    for name in _environment.list_templates(["html"]):
        _environment.get_template(name)


def visitor(request: Request) -> Visitor:
    """Who asks; the guard has let nobody else through."""
    found: Visitor | None = request.state.visitor
    if found is None:
        raise HTTPException(401, "sign in first")
    return found


def database(request: Request) -> Database:
    found: Database = request.app.state.db
    return found


def today(request: Request) -> date:
    """The day it is in the visitor's fleet; fixed for demo and screenshots."""
    fixed: date | None = request.app.state.fixed_today
    who = getattr(request.state, "visitor", None)
    return fixed or days.day_in(who.zone if who else "UTC")


class Posted(dict[str, str]):
    """A posted form: its texts by name, every one of a name that came several times (``many``), its files."""

    def __init__(self, fields: FormData) -> None:
        super().__init__({k: v for k, v in fields.items() if isinstance(v, str)})
        self._many = {k: [v for v in fields.getlist(k) if isinstance(v, str)] for k in fields}
        self.files: dict[str, UploadFile] = {k: v for k, v in fields.items() if isinstance(v, UploadFile) and v.filename}

    def many(self, name: str) -> list[str]:
        """Every text that came under a name."""
        return self._many.get(name, [])

    def ids(self, name: str) -> list[int]:
        """Every number that came under a name; what is none is left out."""
        return [int(v) for v in self.many(name) if number_like(v)]

    def id(self, name: str) -> int | None:
        """The number under a name, None for anything else."""
        return int(self.get(name, "")) if number_like(self.get(name, "")) else None


def number_like(text: str) -> bool:
    """Whether a text is the number of a row."""
    return text.isascii() and text.isdigit() and len(text) < 16


async def _posted(request: Request) -> Posted:
    if request.headers.get("Content-Type", "").startswith("multipart/"):
        return Posted(await request.form(max_files=10, max_fields=MOST_FIELDS, max_part_size=1_000_000))
    return Posted(await request.form())


async def _posted_here(request: Request) -> Posted:
    form = await _posted(request)
    token = form.get("csrf") or request.headers.get("X-CSRF", "")
    if not hmac.compare_digest(token.encode(), visitor(request).csrf.encode()):
        raise HTTPException(403, "This form is from an ended session. Go back, reload and send it again.")
    request.state.posted = form
    return form


#: a form that anybody may send: it opens no session and changes nothing of one
OpenForm = Annotated[Posted, Depends(_posted)]
#: a form of the visitor's own session: its CSRF token is checked. Raises 403 otherwise.
Form = Annotated[Posted, Depends(_posted_here)]


@contextmanager
def recording(request: Request, at_once: int = AT_ONCE) -> Iterator[Connection]:
    """A transaction of the visitor's fleet in which something is recorded; what it touched is settled at its end."""
    with settling(database(request), visitor(request).fleet_id, today(request), at_once) as connection:
        yield connection


def compartment_row(request: Request, compartment_id: int) -> dict[str, Any]:
    """The compartment that an address names; 404 when it is not in the visitor's fleet."""
    with database(request).fleet(visitor(request).fleet_id) as connection:
        row = rows_of.compartment(connection, compartment_id)
    if row is None:
        raise HTTPException(404, NO_COMPARTMENT)
    return row


#: a route's compartment, found before the route begins
CompartmentRow = Annotated[dict[str, Any], Depends(compartment_row)]


def may(request: Request, right: str) -> None:
    """Let only those go on whose role (and token) carries the right. Raises 403 otherwise."""
    who = visitor(request)
    if not who.may(right):
        words = access.RIGHTS[right].words
        raise HTTPException(403, f"To {words} is for {access.who_may(right)}; you are signed in as {who.role}.")


def needs(right: str) -> Any:
    """A route's right, as a dependency; every route but sign-in has one."""

    def check(request: Request) -> None:
        may(request, right)
        request.state.taken = right == "export" and request.method == "GET"

    check.right = right  # type: ignore[attr-defined]
    return Depends(check)


def typed(form: dict[str, Any], field_name: str, kind: str, request: Request) -> float | None:
    """A quantity from a form in its stored unit, None when blank. Raises InputError by field."""
    text = str(form.get(field_name, "")).strip()
    return measures.typed(text, kind, hand(request), field_name) if text else None


#: languages whose people write a decimal point; all others write a comma
_POINT = ("en", "zh", "ja", "ko", "th", "he", "hi", "ms")


def begins(request: Request) -> int:
    """The weekday that the visitor's weeks begin on, 0 a Monday."""
    return visitor(request).writes.begins


def hand(request: Request) -> Hand:
    """How the visitor writes figures: the fleet's units, and the decimal mark they chose, else that of the browser's first language."""
    if visitor(request).writes.mark:
        return Hand(visitor(request).measures, visitor(request).writes.mark)
    first = request.headers.get("Accept-Language", "").split(",")[0].split(";")[0].strip().lower()
    language = first.split("-")[0]
    mark = "" if not language or language == "*" else "." if language in _POINT or first in ("de-ch", "es-mx") else ","
    return Hand(visitor(request).measures, mark)


def number_of(text: Any, field_name: str) -> int:
    """A whole number from a form, 0 when blank. Raises InputError by field."""
    plain = str(text or "0").strip()
    if not re.fullmatch(r"-?\d{1,15}", plain):
        raise InputError(field_name, f"{plain[:30]!r} is not a whole number")
    return int(plain)


def maybe_day(text: Any, field_name: str) -> date | None:
    """A date from a form or an address, as people write it, None when blank. Raises InputError by field."""
    return read_day(str(text or ""), field_name)


def day_of(text: Any, field_name: str, otherwise: date) -> date:
    """A date from a form, ``otherwise`` when blank. Raises InputError by field."""
    return maybe_day(text, field_name) or otherwise


def _unheard_stops(request: Request) -> list[dict[str, Any]]:
    """Stops that this visitor answers for and that nobody has said were heard: on every page until somebody has."""
    who = request.state.visitor
    if who is None or not who.may("hear_stop"):
        return []
    with database(request).fleet(who.fleet_id) as connection:
        return verdicts.unheard_stops(connection)


def _stopped_trials(request: Request) -> list[dict[str, Any]]:
    """Trials that a bottle stopped: on every page of everybody until a planner has taken note."""
    who = request.state.visitor
    if who is None:
        return []
    with database(request).fleet(who.fleet_id) as connection:
        return trials.stopped(connection)


def paper_text(template: str, day: date, system: str, **context: Any) -> str:
    """A template of paper that nobody asked for over the web: mail goes out by itself."""
    fonts = files("vornet.web") / "static" / "dist" / "fonts"
    return _environment.get_template(template).render(today=day, measures=system, fonts=f"file://{fonts}", base="", **context)


def render_text(request: Request, template: str, **context: Any) -> str:
    """A template's text with what every page needs."""
    who = request.state.visitor
    return _environment.get_template(template).render(
        visitor=who, today=today(request), path=request.url.path, demo=request.app.state.demo,
        measures=who.measures if who else measures.SI, unheard_stops=lambda: _unheard_stops(request),
        stopped_trials=lambda: _stopped_trials(request), **context,
    )  # fmt: skip


def render(request: Request, template: str, status: int = 200, **context: Any) -> HTMLResponse:
    """A template as a page."""
    text = both.with_seen(request, render_text(request, template, **context))
    posted: Posted | None = getattr(request.state, "posted", None)
    if status == 422 and posted is not None:
        what, _, why = str(context.get("error") or "").partition(": ")
        text = again.refilled(text, request.url.path, posted, {what: why} if why else {})
    return HTMLResponse(text, status)
