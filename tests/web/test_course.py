"""The course of an interval as a picture: what lands where, and what is said of it."""

import re
from datetime import date

from vornet.web.charts.course import LEFT, RIGHT, WIDTH, Step, picture

TODAY = date(2026, 1, 15).toordinal()


def step(fact, value, start, end, state="stood", origin="approved", words=None):
    words = words or (f"{value:g} h" if fact == "length" else f"{value:g} days")
    return Step(fact, value, start, end, state, origin, words, f"{words} from {start}")


def drawn(*steps):
    return picture(steps, TODAY, lambda d: d.isoformat(), "said")


def path(svg, kind):
    found = re.search(rf'class="course-{kind}" d="M([\d.]+),([\d.]+) H([\d.]+)"', svg)
    return tuple(float(x) for x in found.groups())


def test_what_never_changed_has_no_picture():
    assert drawn(step("length", 500, -1, None, "stands", "register"), step("calendar", 365, -1, None, "stands", "register")) == ""


def test_steps_lie_on_their_days_the_longer_higher_and_each_says_itself():
    svg = drawn(
        step("length", 500, -1, TODAY - 100, origin="register"), step("length", 660, TODAY - 100, TODAY - 40, origin="trial"),
        step("length", 500, TODAY - 40, None, "stands", "register"), step("length", 625, TODAY + 20, None, "waits"),
        step("calendar", 365, -1, None, "stands", "register"),
    )  # fmt: skip
    first, trial, waits = path(svg, "stood"), path(svg, "trial"), path(svg, "waits")
    assert first[0] == LEFT and first[2] == trial[0] < trial[2] < waits[0] and waits[2] == WIDTH - RIGHT
    assert trial[1] < waits[1] < first[1]  # longer is higher
    assert trial[2] - trial[0] == (waits[0] - trial[2]) or abs((trial[2] - trial[0]) / (waits[0] - trial[2]) - 1) < 0.01  # 60 days each
    for words in ("500 h", "660 h, on trial", "625 h, waits", "365 days", "today"):
        assert words in svg
    assert svg.count("<title>") == 5


def test_what_never_began_is_crossed_out_on_the_day_it_ended():
    svg = drawn(step("length", 500, -1, None, "stands", "register"), step("length", 625, TODAY + 30, TODAY - 10, "never"))
    assert "625 h, never began" in svg and "course-never" in svg


def test_names_are_never_markup():
    svg = drawn(step("length", 500, -1, TODAY - 3, words="500 <b>"), step("length", 400, TODAY - 3, None, "stands"))
    assert "<b>" not in svg and "500 &lt;b&gt;" in svg
