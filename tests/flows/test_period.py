"""The period report for management, and proposals that are not followed."""

import io
from datetime import timedelta

import openpyxl
import pytest

from conftest import TODAY, approve_seen, set_prices, start_seen
from vornet.core.errors import InputError
from vornet.flows.judge import approval, trials
from vornet.flows.judge.settle import settling
from vornet.flows.pages import board, interval, period
from vornet.io import tables


@pytest.fixture
def place(db, fleet):
    fleet_id = set_prices(db, fleet, "EUR", oil_per_l=4.0, filter=40.0, labour_h=1.0, labour_per_h=60.0, sample=30.0, consequence=9000.0)
    with db.fleet(fleet_id) as c:
        return fleet_id, c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]


def reported(db, place, since=TODAY, until=TODAY):
    with db.fleet(place[0]) as c:
        return period.report(c, since, until, TODAY)


def test_a_decision_with_who_why_evidence_saving_and_whether_it_held(db, fleet, place):
    assert reported(db, place)["moved"] == []
    with settling(db, place[0], TODAY) as c:
        approve_seen(c, place[0], place[1], 600, "half its reserve is left", "A Planner", TODAY)
    found = reported(db, place)
    [m] = found["moved"]
    assert (m["from"], m["meter"], m["approved_by"], m["why"], m["proposed"]) == (500, 600, "A Planner", "half its reserve is left", 625)
    assert m["chance"] is not None and m["charges"] == 5 and m["limiting"]
    assert (found["longer"], found["shorter"], found["held"]["early"]) == (1, 0, 1)
    with db.fleet(place[0]) as c:
        table = interval.load(c, place[1], TODAY)
    drains = table.rate_per_year * (1 / 500 - 1 / 600)
    assert m["drains"] == pytest.approx(drains, rel=1e-6)
    # by hand from the picture's own table: what a drain costs, and the risk of running past the act limit
    at = {t: table.costs.drain.total / t + _act(table, t) * 9000 / t for t in (500, 600)}
    assert m["saving"] == pytest.approx(table.rate_per_year * (at[500] - at[600]), rel=0.01)


def _act(found, hours):
    import numpy as np

    return float(np.interp(hours, found.table.hours, found.table.any_act))


def test_an_adopted_trial_counts_from_what_ran_before_it(db, fleet, place):
    with settling(db, place[0], TODAY) as c:
        trial_id = start_seen(c, place[0], place[1], 600, "", "A Planner", TODAY)
    with settling(db, place[0], TODAY) as c:
        c.execute("UPDATE trial SET progress = jsonb_set(progress, '{word}', '\"ripe\"') WHERE trial_id = %s", (trial_id,))
        trials.adopt(c, place[0], trial_id, "", "A Planner", TODAY)
    found = reported(db, place)
    assert [(m["from"], m["meter"]) for m in found["moved"]] == [(500, 600)]
    assert found["states"]["adopted"] == 1 and found["drains"] > 0


def test_the_workbook_holds_the_same(db, fleet, place):
    with settling(db, place[0], TODAY) as c:
        approve_seen(c, place[0], place[1], 600, "=1+1", "A Planner", TODAY)
    book = openpyxl.load_workbook(io.BytesIO(tables.as_xlsx(period.sheets(reported(db, place)))))
    assert book.sheetnames == ["decisions", "trials", "not followed", "sums"]
    head, first = list(book["decisions"].iter_rows(values_only=True))[:2]
    line = dict(zip(head, first, strict=True))
    assert (line["interval"], line["before"], line["why"], line["currency"]) == (600, 500, "'=1+1", "EUR")
    sums = dict(list(book["sums"].iter_rows(values_only=True))[1:])
    assert sums["intervals lengthened"] == 1 and sums["saving a year, EUR"] == round(reported(db, place)["saving"])


@pytest.mark.parametrize(("since", "until"), [(TODAY, TODAY - timedelta(days=1)), (TODAY - timedelta(days=9000), TODAY)])
def test_a_period_that_is_none_is_refused(db, place, since, until):
    with pytest.raises(InputError):
        reported(db, place, since, until)


def test_a_proposal_not_followed_keeps_its_reason_until_something_else_is_proposed(db, fleet, place):
    with pytest.raises(InputError, match="say why"), settling(db, place[0], TODAY) as c:
        approval.decline(c, place[0], place[1], " ", "A Planner", TODAY)
    with settling(db, place[0], TODAY) as c:
        approval.decline(c, place[0], place[1], "the yard is shut all summer", "A Planner", TODAY)
    with db.fleet(place[0]) as c:
        [shown] = board.desk(c, "all", 0)["rows"]
        assert shown["declined"]["why"] == "the yard is shut all summer"
        assert [d["by"] for d in period.report(c, TODAY, TODAY, TODAY)["declined"]] == ["A Planner"]
    with settling(db, place[0], TODAY) as c:
        approve_seen(c, place[0], place[1], 550, "a little", "A Planner", TODAY)
    with db.fleet(place[0]) as c:
        [shown] = board.desk(c, "all", 0)["rows"]
    assert shown["declined"] is None
    with pytest.raises(InputError, match="not in this fleet"), settling(db, place[0], TODAY) as c:
        approval.decline(c, place[0], 10**9, "x", "A Planner", TODAY)


def test_a_saving_that_is_not_known_is_not_shown_as_none_at_all(db, fleet, place):
    assert reported(db, place)["saving"] == 0.0  # nothing was moved
    with settling(db, place[0], TODAY) as c:
        approve_seen(c, place[0], place[1], 600, "half its reserve is left", "A Planner", TODAY)
    with db.fleet(place[0]) as c:
        c.execute("UPDATE standing SET rate_per_day = NULL WHERE compartment_id = %s", (place[1],))
    found = reported(db, place)
    assert (found["saving"], found["saving_error"], found["saving_of"], len(found["moved"])) == (None, None, 0, 1)
