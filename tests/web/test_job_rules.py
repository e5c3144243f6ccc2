"""One arithmetic and one reading of numbers in two languages: generated cases through core and through the phone's own rules."""

import random

import pytest

from vornet.core import drain, job, measures, measuring, written_day
from vornet.core.errors import InputError
from vornet.core.measures import Hand
from vornet.web import job as job_pages
from vornet.web.server import DIST

pytestmark = pytest.mark.browser


@pytest.fixture(scope="module")
def rules(browser):
    page = browser.new_page()
    page.add_script_tag(path=str(DIST / "job_rules.js"))
    yield page
    page.close()


def drains():
    """Sumps, entries and visits as they come, and as they should not."""
    draw = random.Random(7)
    maybe = lambda x, p=0.75: x if draw.random() < p else None  # noqa: E731
    for n in range(1500):
        system = maybe(round(draw.uniform(2, 400), 1), 0.8)
        capacity = maybe(round((system or draw.uniform(2, 400)) * draw.uniform(0.7, 1.0), 1), 0.85)
        document = {
            "system_volume_l": system, "capacity_l": capacity,
            "capacity_without_filter_l": maybe(capacity and round(capacity * 0.95, 2), 0.5),
            "volume_between_marks_l": maybe(round(draw.uniform(0.5, 8), 1)),
            "filters": [{"part": "F", "barred": ["short F"]}] if draw.random() < 0.6 else [],
            "drain_points": [{"place": p} for p in ("fore", "aft")[: draw.randint(0, 2)]], "kind": draw.choice(["engine", "axle"]),
        }  # fmt: skip
        now = {
            "level_before": maybe(round(draw.uniform(-1, 2), 2)), "out_l": maybe(round(draw.uniform(0, (system or 50) * 1.1), 2)),
            "filter_changed": maybe(draw.choice(["yes", "no"])), "prefilled": maybe(draw.choice(["yes", "no"])),
            "leaks": maybe(draw.choice(["none", "weeps", "leaks"])), "defer": maybe({"kind": "defect", "what": "it weeps"}, 0.4),
            "parts_out": maybe(draw.randint(0, 3)), "parts_in": maybe(draw.randint(0, 3)),
            "shut": {p: draw.random() < 0.7 for p in ("fore", "aft", "drain")}, "magnets": {"fore": draw.randint(0, 4)},
            "oil_looks": draw.sample(list(job.OIL_LOOKS), draw.randint(0, 2)),
            "filter_looks": draw.sample(list(job.FILTER_LOOKS), draw.randint(0, 1)), "fill_open": maybe("yes"),
            "filter_part": maybe(draw.choice(["F", "SHORT f "]), 0.3), "part_action": maybe("cleaned", 0.5),
        }  # fmt: skip
        lists = {
            "pour": [{"litres": round(draw.uniform(0.1, (system or 50) * 0.7), 2), "id": str(i)} for i in range(draw.randint(0, 2))],
            "level_read": [
                {"reading": round(draw.uniform(-0.5, 1.5), 2), "run": draw.random() < 0.6, "id": str(i)} for i in range(draw.randint(0, 2))
            ],
        }  # fmt: skip
        if draw.random() < 0.25:  # an axle levelled on both sides
            now |= {f"level_before_{side}": maybe(round(draw.uniform(-1, 2), 2)) for side in ("left", "right")}
            for row in lists["level_read"]:
                row["side"] = draw.choice(["left", "right"])
        meter_no = draw.choice([1, 2])
        visit = {k: 100.0 for k in ("meter", "meter_2") if draw.random() < 0.6}
        yield n, document, {k: v for k, v in now.items() if v is not None}, lists, visit, meter_no


def spec_of(document, meter_no):
    return {
        "system": document["system_volume_l"], "capacity": document["capacity_l"], "without": document["capacity_without_filter_l"],
        "marks": document["volume_between_marks_l"], "filters": bool(document["filters"]), "meter_no": meter_no,
        "drains": [d["place"] for d in document["drain_points"]] or ["drain"], "gate": job.fills_first(document["kind"], document),
        "barred": [b for f in document["filters"] for b in f["barred"]],
    }  # fmt: skip


SCHOOLS = ("approach", "all", "returned")
TASKS = ("drain", "sample", "filter", "magnetic_filter", "breather")


def test_the_phone_works_as_core_does(rules):
    cases = list(drains())
    asked = [[spec_of(d, m) | {"pour": SCHOOLS[n % 3], "task": TASKS[n % 5]}, {"now": now, "lists": lists}, {"now": visit, "lists": {}}]
             for n, d, now, lists, visit, m in cases]  # fmt: skip
    answers = rules.evaluate(
        """([cases, shared]) => cases.map(([spec, said, visit]) => ({ f: JobRules.figures(spec, said, shared),
             w: JobRules.wanting(spec, said, visit).map((x) => x[0]), s: JobRules.stopSuggested(said) }))""",
        [asked, job_pages.job_rules()],
    )
    refused = 0
    for (n, document, now, lists, visit, meter_no), answer in zip(cases, answers, strict=True):
        said, visited, f = job.Said(now, lists), job.Said(visit), answer["f"]
        assert answer["w"] == [k for k, _ in job.wanting(document, said, visited, meter_no, TASKS[n % 5])], n
        assert answer["s"] == job.suggests_stop(said), n
        try:
            got = job.figures(document, said, SCHOOLS[n % 3])
        except InputError as error:
            refused += 1
            assert f["wrong"]["field"] == ("pour" if error.field == "poured_l" else "out_l"), (n, error)
            continue
        assert f["wrong"] is None, n
        assert f["assumed"] == list(got.assumed), n
        pairs = [("missing", got.missing_l), ("residual", got.residual_l), ("share", got.residual_share), ("target", got.target_l),
                 ("first", got.first_pour_l), ("poured", got.poured_l), ("level", got.level), ("fall", got.fall_l)]  # fmt: skip
        for name, value in pairs:
            assert f[name] == (None if value is None else pytest.approx(value, abs=1e-9)), (n, name)
        assert f["add"] == (None if got.add_l is None else pytest.approx(got.add_l, abs=0.0051)), n  # core rounds to a cupful
    assert 100 < refused < 800
    assert rules.evaluate("JobRules.startValue(0.1, 50, 10)") == pytest.approx(drain.start_value(0.1, 50.0, 10.0))


def texts():
    draw = random.Random(11)
    known = ["12.345,5", "12,345.5", "1,250", "1.250", "0,125", "0.125", ".5", ",5", "1.2.3", "1,2,3", "1,234,567", "1.234.567", "12 000",
             "12'000", "1e3", "−4", "+4", "", "-", "1,", "1.", "abc", "12 345,5", "999.999", "1000.123", "1,23,456.7",
             "1.234,567"]  # fmt: skip
    for _ in range(900):
        known.append("".join(draw.choice("0123456789.,  '") for _ in range(draw.randint(1, 9))))
    return known


def tried(reading, *given):
    try:
        return reading(*given)
    except InputError:
        return None


@pytest.mark.parametrize("mark", ["", ".", ","])
def test_both_read_a_number_alike(rules, mark):
    known = texts()
    answers = rules.evaluate("([texts, mark]) => texts.map((t) => JobRules.number(t, mark).value)", [known, mark])
    for text, answer in zip(known, answers, strict=True):
        value = tried(measures.number, text, "x", mark)
        assert answer == (None if value is None else pytest.approx(value)), (text, mark)


@pytest.mark.parametrize("system", ["si", "us"])
def test_both_read_a_quantity_alike(rules, system):
    hand = {"mark": ",", "us": system == "us", "kinds": {k: measures.written(k) for k in job_pages.PHONE_KINDS}}
    units = {"volume": ["", "L", "qt", "us gal", "ml", "kg"], "hours": ["", "h", "km"], "distance": ["", "km", "mi", "us"],
             "temperature": ["", "°C", "F", "K"],
             "mass": ["", "kg", "lb", "L"], "pressure": ["", "bar", "psi"], "length": ["", "in"]}  # fmt: skip
    for kind, written in units.items():
        cases = [f"{n} {u}" for n in ("9,5", "1.250", "12", "-4", "x") for u in written]
        answers = rules.evaluate("([texts, kind, hand]) => texts.map((t) => JobRules.typed(t, kind, hand).value)", [cases, kind, hand])
        for text, answer in zip(cases, answers, strict=True):
            value = tried(measures.typed, text, kind, Hand(system, ","), "x")
            assert answer == (None if value is None else pytest.approx(value, rel=1e-6)), (text, kind, system)


def test_a_figure_shown_for_typing_means_itself_to_everybody(rules):
    for value in (1.125, 999.999, 0.125, 12.5, 1250.0, 1000.125):
        assert rules.evaluate("(x) => JobRules.plain(x)", value) == measures.plain_figure(value) or value > 1000
        for mark in ("", ".", ","):
            assert measures.number(measures.plain_figure(value), "x", mark) == pytest.approx(value, rel=1e-4)


def test_weighed_and_dripping_are_worked_alike_in_both_languages(rules):
    """core.measuring and the phone's own rules, on scales and readings as they come, and as they should not."""
    draw = random.Random(11)
    scales = [(round(draw.uniform(0, 60), 2), round(draw.uniform(0, 6), 2), round(draw.uniform(-10, 110), 1)) for _ in range(300)]
    said = {"density": 0.871, "expansion": measuring.EXPANSION_PER_K, "reference": measuring.REFERENCE_C}
    answers = rules.evaluate("([rows, w]) => rows.map((r) => JobRules.weigh(r[0], r[1], r[2], w))", [scales, said])
    for (gross, tare, at), answer in zip(scales, answers, strict=True):
        if tare > gross:
            assert answer is None
            continue
        found = measuring.weigh(gross, tare, at, 0.871)
        assert (answer["litres"], answer["cold"]) == (pytest.approx(found.litres), pytest.approx(found.litres_at_reference))
    readings = []
    for _ in range(300):
        n, at, out = draw.randint(0, 5), 0.0, draw.uniform(5, 50)
        rows = []
        for _ in range(n):
            at += draw.choice([0, 0.5, 4, 9])
            out += draw.uniform(-0.02, 0.6)
            rows.append({"min": at, "litres": round(out, 3)})
        draw.shuffle(rows)
        readings.append(rows)
    answers = rules.evaluate("(all) => all.map((rows) => { const f = JobRules.drip(rows); return f && [f.final, f.k, f.at(36)]; })", readings)
    told = 0
    for rows, answer in zip(readings, answers, strict=True):
        try:
            found = measuring.drip([(r["min"], r["litres"]) for r in rows])
        except InputError:
            assert answer is None, rows
            continue
        told += 1
        assert answer == pytest.approx([found.final_litres, found.k, found.at(36)]), rows
    assert told > 60


def written_days():
    known = ["2026-01-05", "2026/1/5", "5.1.26", "5. 1. 2026", "31.02.2026", "03/04/2026", "25/12/2025", "12/25/2025", "5-6-69", "5-6-70",
             "5 Jan 2026", "Jan 5, 2026", "5. März 2026", "5 août 2026", "1st Dec 2026", "Dec 2nd 26", "2026 Jan 5", "5 Foo 2026", "soon",
             "5 Jan", "0.0.2026", "29.2.2024", "29.2.2023", "1/1/0000", "x 5 Jan 2026", "5 enero 2026", "2026-13-01", "05/05/2026",
             "5 Jan 2026 7"]  # fmt: skip
    draw = random.Random(29)
    for _ in range(400):
        d, m, y, sep = draw.randint(0, 33), draw.randint(0, 14), draw.choice((2026, 26, 1999, 70, 5)), draw.choice("/.-")
        known.append(f"{d}{sep}{m}{sep}{y:02d}")
    return known


@pytest.mark.parametrize("day_first", [True, False, None])
def test_a_day_is_read_on_the_phone_as_at_the_desk(rules, day_first):
    given = written_days()
    answers = rules.evaluate("([texts, first, months]) => texts.map((t) => JobRules.day(t, first, months))",
                             [given, day_first, written_day.MONTHS])  # fmt: skip
    read = 0
    for text, answer in zip(given, answers, strict=True):
        try:
            expected = written_day.read(text, day_first).isoformat()
            read += 1
        except ValueError:
            expected = None
        assert answer["value"] == expected, text
        assert answer.get("why") or expected, text
    assert 150 < read < len(given)
