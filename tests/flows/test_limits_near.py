"""Limits of a family and of a unit beside the duty's: the nearest wins, nobody else moves, versions say why, files both ways."""

import csv
import io
import json
import re
import threading
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from fastapi.testclient import TestClient

from conftest import HEADER, TODAY, healthy_rows, row, small_register
from vornet.core.errors import InputError
from vornet.core.judge import VERDICTS
from vornet.core.limits import DUTIES, FIXED_LIMITS, FixedLimit, arranged, table
from vornet.core.measurands import COUNT, INDEX
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate, limits
from vornet.flows.lab import results
from vornet.flows.register import register
from vornet.web.app import create_app

OWN = FixedLimit("diesel_engine", "fe", "high", "absolute", 20, 25, "maker", "T1 engine")
UNITS = FixedLimit("diesel_engine", "fe", "high", "absolute", 30, 35, "maker", "", "MV Other")


def test_the_nearest_limit_is_each_compartment_s_and_nobody_else_s():
    duty = np.array([0, 0, 0, 2])
    arr, mine = arranged(
        [*FIXED_LIMITS, OWN, UNITS], duty, ["T1 engine", "T1 engine", "else", "T1 engine"], ["MV Test", "MV Other", "MV X", "MV Test"]
    )
    fe = arr.resolve(mine, np.full((4, COUNT), np.nan), [INDEX["fe"]])["high"]
    assert fe[0][:, 0].tolist() == [20, 30, 75, 200] and fe[1][:, 0].tolist() == [25, 35, 150, 400]
    usual = table()
    for name in ("watch", "act"):  # the duties' own rows are what they were, whatever hangs below them
        for side in ("high", "low"):
            assert np.array_equal(getattr(arr, name)[side][: len(DUTIES)], getattr(usual, name)[side], equal_nan=True)
    others = [m for m in range(COUNT) if m != INDEX["fe"]]
    assert np.array_equal(arr.watch["high"][mine[0], others], usual.watch["high"][0, others], equal_nan=True)
    same, plain = arranged(FIXED_LIMITS, duty, ["a"] * 4, ["b"] * 4)
    assert plain.tolist() == duty.tolist() and same.watch["high"].shape == usual.watch["high"].shape


@pytest.fixture
def two(db, fleet_name):
    """Two ferries of one family, the same samples each; iron at 30 in the last."""
    document = small_register(fleet_name)
    other = json.loads(json.dumps(document["units"][0]).replace("MV Test", "MV Other"))
    document["units"].append(other)
    document["drains"] += [d | {"unit": "MV Other"} for d in document["drains"]]
    document["readings"] += [r | {"unit": "MV Other"} for r in document["readings"]]
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    rows = [*healthy_rows(), row("LAST", "2026-01-10", 3850, 350, drained=False, fe=30)]
    both = rows + [r.replace(",MV Test,", ",MV Other,").replace("S0", "O0").replace("LAST", "OLAST") for r in rows]
    results.load(db, ("\n".join([HEADER, *both]) + "\n").encode(), fleet=fleet_name, name="s.csv", by="t")
    evaluate.evaluate(db, fleet_name, TODAY)
    return fleets.find(db, fleet_name)


def proposed(db, fleet_id):
    with db.fleet(fleet_id) as c:
        rows = c.execute(
            "SELECT sample_no, proposed FROM sample JOIN evaluation USING (fleet_id, sample_id) WHERE superseded_by IS NULL"
        ).fetchall()
    return {r["sample_no"]: VERDICTS.get(r["proposed"], "none") for r in rows}


def test_a_unit_s_own_limit_moves_its_verdict_alone_and_its_family_s_both(db, fleet_name, two):
    before = proposed(db, two)
    with db.fleet(two) as c:
        rows = limits.in_force(c, TODAY)["rows"]
        form = {f"{w}.{r.key}.{r.side}": f"{getattr(r, w):g}" for r in limits.of_scope(rows, "diesel_engine") for w in ("watch", "act")}
        own = limits.typed(rows, "diesel_engine", form | {"watch.fe.high": "20", "act.fe.high": "25"}, "", "MV Other", "T1 engine")
        assert [(r.key, r.unit, r.watch) for r in own if r.unit] == [("fe", "MV Other", 20)], "what is left as it is above is none of its own"
        changed = limits.what_if(c, own, "diesel_engine", TODAY)
        assert {x.unit for x in changed["changes"]} == {"MV Other"}
        limits.save(c, two, own, "diesel_engine", by="t", why="the maker's letter", today=TODAY, about="MV Other")
    evaluate.evaluate(db, fleet_name, TODAY)
    after = proposed(db, two)
    assert after["OLAST"] == "act" and {k: v for k, v in after.items() if not k.startswith("O")} == {
        k: v for k, v in before.items() if not k.startswith("O")
    }
    with db.fleet(two) as c:
        newest = limits.versions(c)[0]
        assert newest["why"] == "the maker's letter" and newest["changed"] == ["MV Other, iron high: 20/25, new"]
        rows = limits.in_force(c, TODAY)["rows"]
        back = limits.typed(rows, "diesel_engine", {**form, "watch.fe.high": "", "act.fe.high": ""}, "", "MV Other", "T1 engine")
        assert not any(r.unit for r in back), "both blank go back to what is above"
        with pytest.raises(InputError, match="watch 30 lies beyond act 20"):
            limits.typed(rows, "diesel_engine", form | {"watch.fe.high": "30", "act.fe.high": "20"}, "T1 engine")
        limits.save(c, two, [*back, OWN], "diesel_engine", by="t", why="all of them", today=TODAY)
    evaluate.evaluate(db, fleet_name, TODAY)
    assert {proposed(db, two)[k] for k in ("LAST", "OLAST")} == {"act"}


@pytest.mark.parametrize("of", [{"family": "T1 engine"}, {"unit": "MV Test"}], ids=["family", "unit"])
def test_a_limit_of_one_s_own_that_is_tightened_later_judges_again(db, fleet_name, two, of):
    """The row is there already and only its figures move: what was judged by the old ones is judged again, unasked."""
    loose, tight = (FixedLimit("diesel_engine", "fe", "high", "absolute", *x, "house", of.get("family", ""), of.get("unit", ""))
                    for x in ((100, 200), (20, 25)))  # fmt: skip
    for own, verdict in ((loose, "run on"), (tight, "act"), (loose, "run on")):
        with db.fleet(two) as c:
            rows = [r for r in limits.in_force(c, TODAY)["rows"] if not (r.family or r.unit)]
            limits.save(c, two, [*rows, own], "diesel_engine", by="t", why="moved", today=TODAY)
        evaluate.evaluate(db, fleet_name, TODAY)
        assert (proposed(db, two)["LAST"] == "act") is (verdict == "act"), own


def test_limits_and_precision_go_out_and_come_back_the_same(db, fleet_name, two):
    with db.fleet(two) as c:
        rows = limits.in_force(c, TODAY)["rows"]
    from vornet.io import tables

    text = tables.as_csv(limits.as_rows([*rows, OWN, UNITS]))
    assert limits.from_csv(text) == [*rows, OWN, UNITS]
    german = io.StringIO()
    cells = [[c.replace(".", ",") if i in (6, 7) else c for i, c in enumerate(r)] for r in csv.reader(io.StringIO(text))]
    csv.writer(german, delimiter=";").writerows(cells)
    assert limits.from_csv(german.getvalue()) == [*rows, OWN, UNITS], "as a spreadsheet with decimal commas writes it"
    for spoilt, said in (
        ("diesel_engine,,,fe,high", "diesel_engine,T1,U,fe,high"),
        ("diesel_engine,,,fe", "diesel_engine,,,iron"),
        (",75.0,150.0,", ",175.0,150.0,"),
    ):
        with pytest.raises(InputError, match="row 2"):
            limits.from_csv(text.replace(spoilt, said, 1))
    with pytest.raises(InputError, match="second time"):
        limits.from_csv(text + text.splitlines()[1] + "\n")


def test_the_page_shows_whose_limits_they_are_and_takes_a_file(db, fleet, planner):
    with db.fleet(fleets.find(db, fleet)) as c:
        c.execute("UPDATE membership SET roles = '{planner,analyst}'")
    client = TestClient(create_app(db, today=TODAY), follow_redirects=True)
    client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    page = client.get("/limits?scope=unit MV Test").text
    csrf = re.search(r'name="csrf" value="([^"]+)"', page)[1]
    form = dict(re.findall(r'name="((?:watch|act)\.[\w.]+)" value="([^"]*)"', page))
    data = {
        **form,
        "csrf": csrf,
        "duty": "diesel_engine",
        "scope": "unit MV Test",
        "watch.fe.high": "11",
        "act.fe.high": "22",
        "why": "a maker's letter",
    }
    saved = client.post("/limits", data=data)
    assert saved.status_code == 200 and "its own" in saved.text and "a maker&#39;s letter" in saved.text
    assert "its own" not in client.get("/limits").text
    text = client.get("/limits.csv").text
    assert "diesel_engine,,MV Test,fe,high,absolute,11" in text
    changed = text.replace("MV Test,fe,high,absolute,11", "MV Test,fe,high,absolute,12")
    assert client.post("/limits/file", data={"csrf": csrf, "why": "from the lab"}, files={"file": ("l.csv", changed)}).status_code == 200
    assert "MV Test,fe,high,absolute,12" in client.get("/limits.csv").text
    precision = client.get("/limits/precision.csv").text
    again = client.post("/limits/file", data={"csrf": csrf, "what": "precision", "why": "x"}, files={"file": ("p.csv", precision)})
    assert again.status_code == 422 and "nothing is changed" in again.text


def _limit(c, fleet_id, key):
    rows = limits.to_change(c, TODAY)["rows"]
    form = {f"{w}.{r.key}.{r.side}": f"{getattr(r, w):g}" for r in limits.of_scope(rows, "diesel_engine") for w in ("watch", "act")}
    rows = limits.typed(rows, "diesel_engine", form | {f"watch.{key}.high": "1.5", f"act.{key}.high": "2.5"})
    limits.save(c, fleet_id, rows, "diesel_engine", by="t", why="tried", today=TODAY)


def _precision(c, fleet_id, key):
    limits.save_precision(c, fleet_id, {f"scale.{key}": "0.21"}, by="t", why="tried", today=TODAY)


def _limits_now(c):
    return {r.key for r in limits.in_force(c, TODAY)["rows"] if (r.watch, r.act) == (1.5, 2.5)}


def _precision_now(c):
    return {p.key for p in limits.precision_rows(c, TODAY) if p.scale == 0.21}


@pytest.mark.parametrize(("change", "now"), [(_limit, _limits_now), (_precision, _precision_now)], ids=["limits", "precision"])
def test_two_who_make_a_version_at_the_same_moment_do_not_undo_each_other(db, fleet, change, now):
    """Each changes another measurand; the second begins before the first is through."""
    fleet_id, first_has = fleets.find(db, fleet), threading.Event()

    def first():
        with db.fleet(fleet_id) as c:
            change(c, fleet_id, "fe")
            first_has.set()
            time.sleep(0.7)

    def second():
        assert first_has.wait(20)
        with db.fleet(fleet_id) as c:
            change(c, fleet_id, "cr")

    with ThreadPoolExecutor(2) as both:
        for done in [both.submit(first), both.submit(second)]:
            done.result(timeout=30)
    with db.fleet(fleet_id) as c:
        assert now(c) == {"fe", "cr"}
