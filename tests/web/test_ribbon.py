"""The ribbon by numbers: a value lands at its pixel, a frame ends where its interval does, a drop has its shape."""

import re

import pytest

from vornet.web.charts import ribbon as r


def drawing(**more):
    block = r.Block(1000, 1500, 800, 500, False, True, "charge 1")
    running = r.Block(1500, 1700, 800, 500, True, True, "charge 2", magnet=3)
    panel = r.Panel(
        "fe", "Iron", "mg/kg", (((1000.0, 0.0), (1500.0, 40.0)),), (r.Point(1500, 40, "Iron 40", 7),), (75.0,), (150.0,),
        (10.0, 50.0),
    )  # fmt: skip
    return r.Ribbon((block, running), (r.Notch(1500, "watch", "Watch", 7),), (r.Drop(1200, 4),), (panel,), "h", drains=(1500.0,), **more)


def test_a_total_lands_at_its_pixel():
    sx = r.x_scale(drawing())
    assert (sx.low, sx.high) == (1000, 2000)  # the running charge's frame ends the axis
    assert sx(1000) == r.LEFT
    assert sx(1500) == pytest.approx((r.LEFT + 1200 - r.RIGHT) / 2)


def test_points_limits_and_band_share_one_scale():
    chart = drawing()
    svg = r.draw(chart)
    top = r.TOP + r.BLOCK_H + r.DROP_Y
    sy = r.y_scale(chart.panels[0], top)
    assert f'cy="{sy(40):.1f}"' in svg
    assert f'H{r.x_scale(chart).last:.1f}"/>' in svg
    assert sy.high > 75  # the watch limit is in view
    assert re.search(rf'class="limit watch" d="M{r.LEFT},{sy(75):.1f} ', svg)


def test_the_frame_ends_where_the_interval_does():
    sx = r.x_scale(drawing())
    assert f"H{sx(2000):.1f}" in r.draw(drawing())


def test_a_furry_magnet_kinks_the_lower_edge():
    assert f"{r.TOP + r.BLOCK_H + 7}" in r.draw(drawing())


@pytest.mark.parametrize(("share", "tone"), [(0, "#e9ba5c"), (0.35, "#c98a2c"), (1.0, "#261e1a"), (9, "#181616")])
def test_oil_tones(share, tone):
    assert r.oil_tone(share) == tone


def test_words_have_shapes_of_their_own():
    drawn = {w: re.findall(r'class="(drop-[a-z]+)"', r.verdict_drop(w, 0, 0)) for w in ("run_on", "watch", "act", "stop", "held")}
    assert drawn == {
        "run_on": ["drop-line"], "watch": ["drop-half", "drop-line"], "act": ["drop-full"],
        "stop": ["drop-full", "drop-bar"], "held": ["drop-held", "drop-line"],
    }  # fmt: skip


def test_titles_are_escaped():
    bad = r.Notch(1500, "act", '<script>"x"</script>', 1)
    svg = r.draw(r.Ribbon(drawing().blocks, (bad,), (), (), "h"))
    assert "<script>" not in svg


def test_nice_ticks_are_round():
    assert r.nice_ticks(0, 100, 5) == [0, 20, 40, 60, 80, 100]
