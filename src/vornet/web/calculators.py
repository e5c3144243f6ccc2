"""The Calculators page: every calculator of the command line, answering as one types, with its formula and source."""

from __future__ import annotations

import warnings
from dataclasses import dataclass
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response
from markupsafe import Markup
from starlette.exceptions import HTTPException

from vornet.core import measures, viscosity
from vornet.core.errors import InputError
from vornet.flows import calc
from vornet.web.charts import oil_curves
from vornet.web.pages import OpenForm, figure, hand, needs, render

router = APIRouter(prefix="/calculators")


@dataclass(frozen=True)
class Ask:
    """One input: its key in the calculator, label, unit, what stands in it first, and how it is typed: num, text, day,
    choice (``choices``), or lines (one row a line, its ``columns`` in order)."""

    key: str
    label: str
    unit: str = ""
    first: str = ""
    kind: str = "num"
    choices: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()


@dataclass(frozen=True)
class Page:
    """A calculator as people see it: its question, inputs, formula, source, and how many decimals its answers have."""

    name: str
    title: str
    asks: tuple[Ask, ...]
    formula: str
    source: str
    decimals: int = 2


PAGES: dict[str, Page] = {
    p.name: p
    for p in (
        Page("viscosity-at", "Viscosity at any temperature", (
            Ask("t1_c", "First point", "°C", "40"), Ask("kv1_cst", "viscosity", "mm²/s", "105"),
            Ask("t2_c", "Second point", "°C", "100"), Ask("kv2_cst", "viscosity", "mm²/s", "14.2"), Ask("t_c", "Wanted at", "°C", "25")),
            "log₁₀ log₁₀(ν + 0.7) = A − B·log₁₀ T, T in kelvin", "ASTM D341, valid above 2 mm²/s"),
        Page("viscosity-index", "Viscosity index", (
            Ask("kv40_cst", "At 40 °C", "mm²/s", "73.30"), Ask("kv100_cst", "At 100 °C", "mm²/s", "8.86")),
            "up to 100: (L − U)/(L − H)·100; above: (10ᴺ − 1)/0.00715 + 100 with N = (log H − log U)/log Y", "ASTM D2270"),
        Page("grade", "Which grade is it", (
            Ask("kv100_cst", "At 100 °C", "mm²/s", "14.2"), Ask("kv40_cst", "At 40 °C", "mm²/s", "105")),
            "min ≤ ν < max at 100 °C; ISO VG ± 10 % at 40 °C; ranges overlap from 8 to 20",
            "SAE J300 and J306 (edition before 2019), from memory; ISO 3448"),
        Page("blend", "Viscosity of a blend", (
            Ask("parts", "Mass share and viscosity, a line each", "mm²/s", "0.5 10\n0.5 100", "lines", columns=("share", "kv_cst")),),
            "VBN = 14.534·ln ln(ν + 0.8) + 10.975, weighted by mass, and back", "Refutas/Maples blending index"),
        Page("fuel-from-viscosity", "Fuel from viscosity", (
            Ask("kv_new_cst", "New oil at 100 °C", "mm²/s", "14.2"), Ask("kv_used_cst", "Used oil", "mm²/s", "12.5"),
            Ask("kv_fuel_cst", "Fuel", "mm²/s", "1.1")),
            "(VBN new − VBN used)/(VBN new − VBN fuel); soot and oxidation hide it, shear imitates it",
            "Refutas/Maples blending index", 4),
        Page("cleanliness", "Cleanliness code", (
            Ask("counts_per_ml.4", "≥ 4 µm", "per mL", "2100"), Ask("counts_per_ml.6", "≥ 6 µm", "per mL", "340"),
            Ask("counts_per_ml.14", "≥ 14 µm", "per mL", "42")), "a code up for every doubling", "ISO 4406"),
        Page("identify", "Which oil is it", (
            Ask("sample", "The sample: element and mg/kg, a line each", "", "ca 1924\nzn 966\np 1110", "lines", columns=("*", "*")),
            Ask("oils", "Oils: name, then element=value", "",
                "House ca=2400 zn=1200 p=1050\nGear ca=20 zn=30 p=1350", "oils")),
            "non-negative shares that sum to one, each element scaled by its precision",
            "non-negative least squares; ASTM D5185 precision", 3),
        Page("carry-over", "What stays behind", (
            Ask("system_volume_l", "System", "L", "40"), Ask("level_missing_l", "Level low by", "L", "3"),
            Ask("drained_volume_l", "Came out", "L", "33"), Ask("old_value", "Old oil had", "", "50"),
            Ask("new_value", "New oil has", "", "0")),
            "f = (system − low − out)/system; start = f·old + (1 − f)·new", "mass balance"),
        Page("flush", "Change of oil", (
            Ask("system_volume_l", "System", "L", "40"), Ask("drained_volume_l", "Each drain takes out", "L", "30"),
            Ask("target_share", "Old oil down to", "share", "0.05")), "old share after n drain-and-fills is fⁿ", "mass balance", 4),
        Page("refill", "Refill in packs", (
            Ask("capacity_l", "Capacity", "L", "36"), Ask("residual_l", "Stayed behind", "L", "0"),
            Ask("first_pour_share", "Pour first", "share", "0.9"), Ask("pack_l", "Packs of", "L", "5")),
            "target = capacity − residual; whole packs and the rest from the next", "arithmetic"),
        Page("due", "When is it due", (
            Ask("readings", "Meter readings: day and figure, a line each", "", "2026-01-01 1000\n2026-01-08 1070\n2026-01-15 1150", "lines",
                columns=("date", "meter")),
            Ask("last_drain.date", "Last drain", "day", "2025-12-01", "text"), Ask("last_drain.meter", "at meter", "", "900"),
            Ask("interval.meter", "Interval", "h or km", "500"), Ask("interval.days", "or days", "", "365"),
            Ask("today", "Today", "day", "2026-01-20", "text")),
            "earliest of meter and calendar; the rate is the median of pairwise slopes, its band 90 %", "Sen 1968", 0),
        Page("wear-rate", "Wear rate of a charge", (
            Ask("system_volume_l", "System", "L", "40"), Ask("density_kg_l", "Density", "kg/L", "0.87"),
            Ask("start_ppm", "Started with", "mg/kg", "8"), Ask("new_oil_ppm", "New oil has", "mg/kg", "2"),
            Ask("loss", "Metal", "", "with_oil", "choice", ("with_oil", "clean")),
            Ask("top_ups", "Top-ups: hour and litres, a line each", "", "100 5\n220 6\n360 7", "lines", columns=("h", "litres")),
            Ask("part_changes", "Part changes: hour, litres out, litres in", "", "", "lines", columns=("h", "litres_out", "litres_in")),
            Ask("level_checks", "Levels read, nothing added: hour, litres below full", "", "", "lines", columns=("h", "missing_l")),
            Ask("samples", "Samples: hour and mg/kg", "", "500 60", "lines", columns=("h", "ppm"))),
            "between top-ups C grows by R/(ρq)·ln(V/(V − v)); each sample is linear in R: R = (C − b)/a",
            "mass balance; ASTM D7669 for rates", 3),
        Page("limits", "Limits from history", (
            Ask("values", "Values", "", "12 15 11 14 13 16 12 15 14 13 17 12", "numbers"),
            Ask("method", "Method", "", "normal", "choice", ("normal", "lognormal", "percentile", "robust")),
            Ask("side", "Side", "", "high", "choice", ("high", "low")),
            Ask("below", "Only known to lie below", "", "", "numbers"), Ask("method_sd", "Method's sd", "", "0")),
            "mean + 2s / + 3s, the same on logarithms, percentiles 95/98, or median + 2k/3k with k = 1.4826·MAD", "ASTM D7720 approach"),
        Page("trend", "Is there a trend", (
            Ask("points", "x and y, a line each", "", "100 12\n200 14\n300 13\n400 17\n500 18\n600 21", "lines", columns=("x", "y")),),
            "least squares; median of pairwise slopes; Mann–Kendall with ties and continuity; below five points never one",
            "Theil 1950, Sen 1968; Mann 1945, Kendall 1975", 4),
        Page("safe-interval", "Safe hours", (
            Ask("start", "Starts at", "", "10"), Ask("limit", "Limit", "", "5"),
            Ask("slopes_per_h", "Slopes of past charges, per h", "", "-0.0080 -0.0095 -0.0088 -0.0102 -0.0091", "numbers"),
            Ask("sd", "Measurement sd", "", "0.25"), Ask("confidence", "Confidence", "", "0.95")),
            "(m² − t²S²)T² − 2mDT + D² − t²σ² = 0, S² = s²(1 + 1/n), D = limit − start", "prediction interval, Student t with n − 1"),
        Page("convert", "Convert", (
            Ask("value", "Value", "", "9.5"), Ask("from", "from", "", "us_qt", "text"), Ask("to", "to", "", "liter", "text")),
            "exact by definition", "NIST SP 811", 4),
    )
}  # fmt: skip


#: answers in words, where a calculator's own key is not one
WORDS = {
    "kv_cst": "viscosity, mm²/s", "vi": "viscosity index", "vi_unrounded": "before rounding", "sae_engine": "SAE engine grade",
    "sae_gear": "SAE gear grade", "iso_vg": "ISO VG", "fuel_share": "share of fuel", "residual_share": "stays behind, share",
    "start_value": "next charge starts with", "residual_l": "stays behind, L", "final_share": "old oil's share then",
    "target_l": "to pour in all, L", "first_pour_l": "first pour, L", "top_up_l": "then up to, L", "whole_packs": "whole packs",
    "from_last_pack_l": "from the next pack, L", "left_in_last_pack_l": "stays in that pack, L", "due_meter": "due at meter",
    "due_date": "due on", "driver": "driven by", "rate_mg_h": "wear rate, mg/h", "undiluted_rise_ppm": "undiluted rise, mg/kg",
    "per_100h_ppm": "per 100 h, mg/kg", "se_mg_h": "standard error, mg/h", "n": "values", "watch_ci": "watch, 95 %",
    "act_ci": "act, 95 %", "ols": "least squares", "theil_sen": "median slope", "mann_kendall": "Mann–Kendall",
    "too_few": "too few to tell", "mean_crossing_h": "mean meets the limit, h", "safe_h": "safe hours", "limiting": "side",
    "runner_up": "best other single oil", "shares": "share of", "from_h": "from, h", "to_h": "to, h", "a": "a of the last sample",
    "b": "b of the last sample",
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
    if ask.kind == "lines":
        rows = [line.replace(";", " ").split() for line in text.splitlines() if line.strip()]
        if ask.columns == ("*", "*"):
            if any(len(r) != 2 for r in rows):
                raise InputError(ask.label, "each line is an element and its figure")
            return {r[0].lower(): measures.number(r[1], ask.label) for r in rows}
        if any(len(r) != len(ask.columns) for r in rows):
            raise InputError(ask.label, f"each line has {len(ask.columns)} figures")
        return [{c: x if c == "date" else measures.number(x, ask.label, mark) for c, x in zip(ask.columns, r, strict=True)} for r in rows]
    return text


def answers(page: Page, answer: dict[str, Any]) -> list[tuple[str, str]]:
    """(words, figure) of each thing a calculator answers, in order."""
    out: list[tuple[str, str]] = []

    def add(name: str, value: Any) -> None:
        if isinstance(value, dict):
            for k, v in value.items():
                add(f"{name} {WORDS.get(k, k.replace('_', ' '))}".strip(), v)
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
        add(WORDS.get(key, key.replace("_", " ")), value)
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


@router.get("", dependencies=[needs("see")])
def show(request: Request) -> Response:
    """Every calculator, each worked with an example."""
    worked = {p.name: _worked(p, {a.key: a.first for a in p.asks}) for p in PAGES.values()}
    return render(request, "calculators.html", pages=PAGES.values(), worked=worked, tab="calculators")


@router.post("/{name}", dependencies=[needs("see")])
def work(request: Request, name: str, form: OpenForm) -> Response:
    """One calculator's answer to what is typed so far; nothing is kept, so no token is asked for."""
    page = PAGES.get(name)
    if page is None:
        raise HTTPException(404, "There is no such calculator.")
    return render(request, "calculator_answer.html", w=_worked(page, {k: v[:20_000] for k, v in form.items()}, hand(request).mark))
