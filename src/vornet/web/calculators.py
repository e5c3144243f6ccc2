"""The Calculators page: every calculator of the command line, answering as one types, with its formula and source."""

from __future__ import annotations

import warnings
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Literal, get_args, get_origin

from fastapi import APIRouter, Request
from fastapi.responses import Response
from markupsafe import Markup
from pydantic import BaseModel
from pydantic.fields import FieldInfo
from starlette.exceptions import HTTPException

from vornet.core import measures, viscosity
from vornet.core.errors import InputError
from vornet.flows import calc
from vornet.web.charts import oil_curves
from vornet.web.pages import OpenForm, hand, needs, render
from vornet.words.writing import figure

router = APIRouter(prefix="/calculators")


@dataclass(frozen=True)
class Ask:
    """One input: its key in the calculator, label, unit, what stands in it first, and how it is typed: num, text, choice
    (``choices``), numbers, pairs (a name and a figure a line), oils, depots (a name and its hours a line), or lines (one row a line, its
    ``columns`` in order, of which ``words`` are text)."""

    key: str
    label: str
    unit: str = ""
    first: str = ""
    kind: str = "num"
    choices: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    words: tuple[str, ...] = ()


@dataclass(frozen=True)
class Page:
    """A calculator as people see it: its question, inputs, formula, source, its answers in words (by field), and how many
    decimals they have."""

    name: str
    title: str
    asks: tuple[Ask, ...]
    formula: str
    source: str
    words: dict[str, str]
    decimals: int = 2


def _models(annotation: Any) -> list[type[BaseModel]]:
    """The models in an annotation, outermost first."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [m for part in get_args(annotation) for m in _models(part)]


def _types(annotation: Any) -> set[Any]:
    """The plain types in an annotation."""
    inner = get_args(annotation)
    return {t for part in inner for t in _types(part)} if inner else {annotation} if isinstance(annotation, type) else set()


def _asks(model: type[BaseModel], prefix: str = "") -> Iterator[Ask]:
    """What a calculator's input asks of people: every field with a title, inner models field by field."""
    for name, info in model.model_fields.items():
        key, models = prefix + (info.alias or name), _models(info.annotation)
        if info.title is None:
            if models and get_origin(info.annotation) is not list:
                yield from _asks(models[0], f"{key}.")
            continue
        yield _ask(key, info, models)


def _ask(key: str, info: FieldInfo, models: list[type[BaseModel]]) -> Ask:
    of = info.json_schema_extra
    unit = str(of["unit"]) if isinstance(of, dict) and "unit" in of else ""
    first = info.examples[0] if info.examples else None
    label = str(info.title)
    if models and get_origin(info.annotation) is dict:
        rows = ([k, *(f"{h:g}" for h in v["hours"])] for k, v in (first or {}).items())
        return Ask(key, label, unit, "\n".join(" ".join(r) for r in rows), "depots")
    if models and get_origin(info.annotation) is not list:
        return Ask(key, label, unit, "\n".join(f"{k} {v:g}" for k, v in (first or {}).items()), "pairs")
    if models and "name" in models[0].model_fields:
        lines = (" ".join([o["name"], *(f"{k}={v:g}" for k, v in o.items() if k != "name")]) for o in first or ())
        return Ask(key, label, unit, "\n".join(lines), "oils")
    if models:
        columns = tuple(n for n, f in models[0].model_fields.items() if f.is_required())
        words = tuple(n for n in columns if str in _types(models[0].model_fields[n].annotation))
        shown = "\n".join(" ".join(str(row[c]) for c in columns) for row in first or ())
        return Ask(key, label, unit, shown, "lines", columns=columns, words=words)
    if get_origin(info.annotation) is list:
        return Ask(key, label, unit, " ".join(str(x) for x in first or ()), "numbers")
    if get_origin(info.annotation) is Literal:
        return Ask(key, label, unit, str(first), "choice", choices=get_args(info.annotation))
    kind = "num" if {int, float} & _types(info.annotation) else "text"
    return Ask(key, label, unit, "" if first is None else str(first), kind)


def _words(model: type[BaseModel]) -> dict[str, str]:
    """A calculator's answers in words, inner ones too, where a field's own name is none."""
    out: dict[str, str] = {}
    for name, info in model.model_fields.items():
        if info.title:
            out[name] = info.title
        for inner in _models(info.annotation):
            out |= _words(inner)
    return out


def _page(name: str) -> Page:
    c = calc.calculator(name)
    return Page(name, c.title, tuple(_asks(c.given)), c.formula, c.source, _words(c.answer), c.decimals)


#: in the order people look for them on the page
PAGES: dict[str, Page] = {
    name: _page(name)
    for name in (
        "viscosity-at", "viscosity-index", "grade", "blend", "fuel-from-viscosity", "cleanliness", "identify", "carry-over", "flush",
        "refill", "weigh", "drip", "due", "level",
        "wear-rate", "limits", "trend", "safe-interval", "interval-cost", "age-replacement", "convert",
    )
}  # fmt: skip


def given(page: Page, form: dict[str, str], mark: str) -> dict[str, Any]:
    """What was typed, as the calculator wants it. Raises InputError by field."""
    out: dict[str, Any] = {}
    for ask in page.asks:
        text = form.get(ask.key, "").strip()
        if not text:
            continue
        value = _typed(ask, text, mark)
        head, _, inner = ask.key.partition(".")
        if inner:
            out.setdefault(head, {})[inner] = value
        else:
            out[head] = value
    return out


def _figure(text: str, label: str, mark: str) -> float | int:
    value = measures.number(text, label, mark)
    return int(value) if value.is_integer() else value


def _typed(ask: Ask, text: str, mark: str) -> Any:
    if ask.kind == "num":
        value = measures.number(text, ask.label, mark)
        return int(value) if ask.key.endswith("days") and value.is_integer() else value
    if ask.kind == "numbers":
        return [measures.number(t, ask.label, mark) for t in text.replace(";", " ").split()]
    if ask.kind == "oils":
        oils = []
        for line in text.splitlines():
            words = line.split()
            pairs = dict(w.split("=", 1) for w in words if "=" in w)
            if words:
                name = " ".join(w for w in words if "=" not in w)
                oils.append({"name": name, **{k.lower(): measures.number(v, ask.label, mark) for k, v in pairs.items()}})
        return oils
    if ask.kind == "depots":
        lines = [line.replace(";", " ").split() for line in text.splitlines() if line.strip()]
        return {r[0]: {"hours": [measures.number(x, ask.label, mark) for x in r[1:]]} for r in lines}
    if ask.kind in ("lines", "pairs"):
        rows = [line.replace(";", " ").split() for line in text.splitlines() if line.strip()]
        if ask.kind == "pairs":
            if any(len(r) != 2 for r in rows):
                raise InputError(ask.label, "each line is an element and its figure")
            return {r[0].lower(): measures.number(r[1], ask.label, mark) for r in rows}
        if any(len(r) != len(ask.columns) for r in rows):
            raise InputError(ask.label, f"each line has {len(ask.columns)} figures")
        text_columns = {"date", *ask.words}
        return [{c: x if c in text_columns else _figure(x, ask.label, mark) for c, x in zip(ask.columns, r, strict=True)} for r in rows]
    return text


def answers(page: Page, answer: dict[str, Any]) -> list[tuple[str, str]]:
    """(words, figure) of each thing a calculator answers, in order."""
    out: list[tuple[str, str]] = []

    def add(name: str, value: Any) -> None:
        if isinstance(value, dict):
            for k, v in value.items():
                add(f"{name} {page.words.get(k, k.replace('_', ' '))}".strip(), v)
        elif isinstance(value, list) and value and isinstance(value[0], dict):
            for i, v in enumerate(value):
                title = v.get("name") or str(i + 1)
                add(f"{name} {title}", {k: x for k, x in v.items() if k != "name"})
        elif isinstance(value, list):
            out.append((name, ", ".join(figure(v, page.decimals) if isinstance(v, float) else str(v) for v in value) or "none"))
        elif isinstance(value, bool):
            out.append((name, "yes" if value else "no"))
        elif isinstance(value, int):
            out.append((name, figure(value, 0)))
        elif isinstance(value, float):
            small = 0 < abs(value) < 10 ** (1 - page.decimals)
            out.append((name, f"{value:.3g}" if small else figure(value, page.decimals)))
        else:
            out.append((name, "–" if value is None else str(value)))

    for key, value in answer.items():
        add(page.words.get(key, key.replace("_", " ")), value)
    return out


def _picture(name: str, asked: dict[str, Any], answer: dict[str, Any]) -> Markup:
    if name == "viscosity-at":
        points = [(float(t), viscosity.viscosity_at(asked["t1_c"], asked["kv1_cst"], asked["t2_c"], asked["kv2_cst"], t))
                  for t in range(-10, 141, 5) if _thin_enough(asked, t)]  # fmt: skip
        return Markup(oil_curves.line(points, (asked["t_c"], answer["kv_cst"]), "°C", "mm²/s"))
    if name == "grade" and asked.get("kv100_cst"):
        return Markup(oil_curves.bands([(g.name, g.low, g.high) for g in viscosity.SAE_ENGINE], asked["kv100_cst"]))
    if name == "blend" and len(asked["parts"]) == 2:
        a, b = (p["kv_cst"] for p in asked["parts"])
        points = [(100 * x / 20, viscosity.blend([(1 - x / 20, a), (x / 20, b)])) for x in range(21)]
        return Markup(oil_curves.line(points, (100 * asked["parts"][1]["share"], answer["kv_cst"]), "% of the second", "mm²/s"))
    return Markup("")


def _thin_enough(asked: dict[str, Any], t: int) -> bool:
    try:
        return viscosity.viscosity_at(asked["t1_c"], asked["kv1_cst"], asked["t2_c"], asked["kv2_cst"], t) < 20_000
    except InputError:
        return False


def _worked(page: Page, form: dict[str, str], mark: str = ".") -> dict[str, Any]:
    try:
        asked = given(page, form, mark)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            answer = calc.calculate(page.name, asked)
        return {"rows": answers(page, answer), "error": "", "picture": _picture(page.name, asked, answer)}
    except InputError as error:
        return {"rows": [], "error": f"{error.field}: {error.why}", "picture": Markup("")}


def worked_examples() -> dict[str, dict[str, Any]]:
    """Every calculator's answer to what stands in it first."""
    return {p.name: _worked(p, {a.key: a.first for a in p.asks}) for p in PAGES.values()}


@router.get("", dependencies=[needs("see")])
def show(request: Request) -> Response:
    """Every calculator, each worked with an example."""
    return render(request, "calculators.html", pages=PAGES.values(), worked=worked_examples(), tab="calculators")


@router.post("/{name}", dependencies=[needs("see")])
def work(request: Request, name: str, form: OpenForm) -> Response:
    """One calculator's answer to what is typed so far; nothing is kept, so no token is asked for."""
    page = PAGES.get(name)
    if page is None:
        raise HTTPException(404, "There is no such calculator.")
    return render(request, "calculator_answer.html", w=_worked(page, {k: v[:20_000] for k, v in form.items()}, hand(request).mark))
