"""Charges laid over one another, sparks and paper: values land at their pixels, limits join only where they do not squash."""

import re

import pytest

from vornet.web.charts import overlay, ribbon
from vornet.web.charts.overlay import LEFT, PANEL_H, RIGHT, TOP, WIDTH, Line, Sheet
from vornet.web.charts.spark import EDGE, HEIGHT, spark
from vornet.web.charts.spark import WIDTH as SPARK_WIDTH

PAST = Line(((0.0, 0.0), (500.0, 30.0)), "charge 3", 0.4)
NOW = Line(((0.0, 2.0), (250.0, 20.0)), "charge 4, running", 1.0)


def points(svg: str, kind: str) -> list[tuple[float, float]]:
    found = re.search(rf'class="over {kind}">.*?<polyline points="([^"]+)"', svg)
    return [tuple(float(x) for x in p.split(",")) for p in found[1].split()]


def test_a_value_lands_at_its_pixel():
    sheet = Sheet("Iron", "mg/kg", (PAST, NOW))
    svg = overlay.draw([sheet], "h", (0.0, 500.0))
    scale = overlay.y_scale(sheet, float(TOP))
    (x0, y0), (x1, y1) = points(svg, "past")
    assert (x0, x1) == (LEFT, WIDTH - RIGHT)
    assert y0 == pytest.approx(scale(0.0), abs=0.06)
    assert y1 == pytest.approx(scale(30.0), abs=0.06)
    assert TOP <= y1 < y0 <= TOP + PANEL_H
    assert points(svg, "running")[1][0] == pytest.approx((LEFT + WIDTH - RIGHT) / 2, abs=0.06)


def test_the_running_charge_is_drawn_last_and_strongest():
    svg = overlay.draw([Sheet("Iron", "mg/kg", (NOW, PAST))], "h", (0.0, 500.0))
    assert svg.index("over past") < svg.index("over running")
    shades = [float(x) for x in re.findall(r'polyline points="[^"]+" stroke-opacity="([\d.]+)"', svg)]
    assert shades == sorted(shades)


def test_a_limit_joins_where_it_does_not_squash_the_lines():
    near, far = Sheet("Iron", "mg/kg", (PAST,), watch=(45.0,)), Sheet("Iron", "mg/kg", (PAST,), watch=(900.0,))
    assert overlay.y_scale(near, 0.0).high > 45
    assert overlay.y_scale(far, 0.0).high < 60
    assert "watch 45" in overlay.draw([near], "h", (0.0, 500.0))
    assert "watch 900" not in overlay.draw([far], "h", (0.0, 500.0))


def test_sisters_lie_underneath_and_undiluted_lines_have_no_points():
    sister = Line(((0.0, 1.0), (400.0, 10.0)), "Bus 2 engine, charge 1", 1.0, sister=True)
    thin = Line(((0.0, 0.0), (500.0, 40.0)), "charge 3, without top-ups", 0.5, undiluted=True)
    svg = overlay.draw([Sheet("Iron", "mg/kg", (NOW, thin, sister))], "h", (0.0, 500.0))
    assert svg.index("over sister") < svg.index("over undiluted")
    assert "<circle" not in re.search(r'class="over undiluted">.*?</g>', svg)[0]


def test_titles_cannot_break_out_of_the_drawing():
    svg = overlay.draw([Sheet("<b>", "&", (Line(((0.0, 1.0),), '"><script>', 0.0),))], "h", (0.0, 0.0))
    assert "<script>" not in svg
    assert "<b>" not in svg


def test_a_spark_holds_its_values_and_marks_the_last():
    drawn = str(spark([1.0, 3.0, 2.0]))
    ends = [tuple(float(x) for x in p.split(",")) for p in re.search(r'points="([^"]+)"', drawn)[1].split()]
    assert [x for x, _ in ends] == [EDGE, SPARK_WIDTH / 2, SPARK_WIDTH - EDGE]
    assert [y for _, y in ends] == [HEIGHT - EDGE, EDGE, HEIGHT / 2]
    assert f'cy="{ends[-1][1]:.1f}"' in drawn
    assert spark([1.0]) == ""
    assert "spark-limit" in spark([1.0, 3.0], 3.5)
    assert "spark-limit" not in spark([1.0, 3.0], 300.0)


def test_on_paper_a_drawing_carries_its_style_and_no_gradient():
    block = ribbon.Block(0.0, 500.0, 500.0, 500.0, False, True, "Charge 1", None)
    drawn = ribbon.draw(ribbon.Ribbon((block,), (), (), (), "h", marks=(ribbon.Mark(250.0, "Repaired 1 May 2025: <hose>"),)))
    assert 'fill="url(#oil0)"' in drawn
    assert "Repaired 1 May 2025: &lt;hose&gt;" in drawn
    paper = ribbon.on_paper(drawn)
    assert "url(#oil" not in paper
    assert "<style>" in paper
    assert "var(" not in paper
    assert ribbon.on_paper("") == ""
