"""Used oil by depot and month, added up by hand."""

from datetime import date

import pytest

from conftest import TODAY
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.plan import waste
from vornet.flows.work import notes


def ledger(db, fleet, since, until):
    with db.fleet(fleets.find(db, fleet)) as c:
        return waste.ledger(c, since, until)


def test_what_left_and_what_went_in_by_depot_and_month(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        place = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        notes.top_up(c, fleet_id, place, date(2025, 12, 20), 3700.0, 3.5, None, None, "Tech", TODAY)
        put = "INSERT INTO waste (fleet_id, compartment_id, on_day, litres, handed_to, recorded_by) VALUES (%s, %s, %s, 50, 'drum 7', 't')"
        c.execute(put, (fleet_id, place, date(2025, 11, 3)))
    found = ledger(db, fleet, date(2025, 1, 1), TODAY)
    [months] = found["by_depot"].values()
    by = {m.month: m for m in months}
    # six drains of 54 L out and 54 L in, in January, March … November; 3.5 L topped up in December
    assert sorted(by) == ["2025-01", "2025-03", "2025-05", "2025-07", "2025-09", "2025-11", "2025-12"]
    assert (by["2025-11"].drains, by["2025-11"].out_l, by["2025-11"].handed_l, by["2025-11"].filters) == (1, 54, 50, 1)
    whole = found["whole"]
    assert (whole.drains, whole.out_l, whole.poured_l, whole.topped_l, whole.used_up_l) == (6, 324, 324, 3.5, 3.5)
    assert found["sums"]["Quay"].out_l == 324 and found["handed"][0]["handed_to"] == "drum 7"
    assert ledger(db, fleet, date(2025, 11, 1), date(2025, 11, 30))["whole"].out_l == 54


def test_a_drain_that_told_no_figure_is_counted_and_nothing_is_made_up(db, fleet):
    with db.as_owner() as c:
        c.execute("UPDATE drain SET volume_out_l = NULL WHERE fleet_id = %s AND on_day = '2025-11-01'", (fleets.find(db, fleet),))
    whole = ledger(db, fleet, date(2025, 1, 1), TODAY)["whole"]
    assert (whole.unmeasured, whole.out_l, whole.used_up_l) == (1, 270, None)


@pytest.mark.parametrize(("since", "until"), [(TODAY, date(2025, 1, 1)), (date(1900, 1, 1), TODAY)])
def test_a_span_that_is_none_is_refused(db, fleet, since, until):
    with pytest.raises(InputError):
        ledger(db, fleet, since, until)


def test_nothing_at_all_is_an_empty_ledger(db, fleet):
    found = ledger(db, fleet, date(2010, 1, 1), date(2010, 12, 31))
    assert (found["by_depot"], found["whole"].out_l) == ({}, 0.0)
