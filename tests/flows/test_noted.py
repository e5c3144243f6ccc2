"""Notes between drains, grades, samples and jobs put right: each door of it, and what cannot be changes nothing."""

import json
from datetime import date

import pytest

from conftest import HEADER, TODAY, row, small_register
from vornet.core.errors import FormErrors, InputError
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate
from vornet.flows.judge.settle import settling
from vornet.flows.lab import put_right, results
from vornet.flows.register import register
from vornet.flows.work import noted, notes, put_off
from vornet.store.database import query

ON = date(2026, 1, 12)
KINDS = ("level", "topup", "event", "symptom", "coolant")


@pytest.fixture
def two(db, fleet):
    """(fleet's id, engine of MV Test, engine of MV Other), each with one note of every kind on MV Test."""
    fleet_id = fleets.find(db, fleet)
    own = small_register(fleet)
    other = json.loads(json.dumps(own).replace("MV Test", "MV Other"))
    both = {key: own[key] + other[key] for key in ("units", "readings", "drains")}
    register.load(db, json.dumps({**own, **both}).encode(), by="t", today=TODAY)
    with settling(db, fleet_id, TODAY) as c:
        at = {
            r["name"]: r for r in c.execute("SELECT u.name, u.unit_id, compartment_id FROM compartment JOIN unit u USING (fleet_id, unit_id)")
        }
        here, there = (at[n]["compartment_id"] for n in ("MV Test", "MV Other"))
        notes.level_check(c, fleet_id, here, ON, 3870.0, 0.25, "Sunniva", TODAY)
        notes.top_up(c, fleet_id, here, ON, 3870.0, 2.0, 0.25, 0.75, "Sunniva", TODAY)
        notes.event(c, fleet_id, here, "part_change", ON, 3870.0, 4.0, 4.5, "", "hose", "Sunniva", TODAY)
        for kind, what, litres in (("symptom", "noise", None), ("coolant", "", 1.5)):
            put_off.observe(c, fleet_id, at["MV Test"]["unit_id"], here, kind, what, litres, 3870.0, ON, "", "",
                            "Sunniva")  # fmt: skip
    return fleet_id, here, there


def held(db, fleet_id, here, kind):
    with db.fleet(fleet_id) as c:
        return [n for n in noted.listed(c, here) if n["kind"] == kind]


@pytest.mark.parametrize(
    ("kind", "right", "stays"),
    [
        ("level", {"reading": 0.5}, ("on_day", "meter")), ("topup", {"litres": 3.0}, ("reading_before", "reading_after", "meter")),
        ("event", {"litres_in": 5.0}, ("litres_out", "note", "what")), ("symptom", {"what": "smoke"}, ("on_day", "meter", "note")),
        ("coolant", {"litres": 2.5}, ("on_day", "meter")), ("topup", {"on_day": date(2026, 1, 11)}, ("litres", "meter")),
    ],
)  # fmt: skip
def test_a_correction_changes_only_what_it_names_and_keeps_the_old_row(db, two, kind, right, stays):
    fleet_id, here, _ = two
    old = held(db, fleet_id, here, kind)[0]
    with settling(db, fleet_id, TODAY) as c:
        new_id = noted.correct(c, fleet_id, kind, old["row_id"], noted.Change(right, "misread"), "Pat", TODAY)
    rows = {n["row_id"]: n for n in held(db, fleet_id, here, kind)}
    assert len(rows) == 2
    was, now = rows[old["row_id"]], rows[new_id]
    assert (was["superseded_by"], was["superseded_why"], was["recorded_by"]) == (new_id, "misread", "Sunniva")
    assert (now["superseded_by"], now["recorded_by"]) == (None, "Pat")
    name = {"reading": "reading_before"}.get(next(iter(right)), next(iter(right)))
    assert now[name] == next(iter(right.values()))
    assert {k: now[k] for k in stays} == {k: was[k] for k in stays}
    with pytest.raises(InputError, match="meanwhile"), settling(db, fleet_id, TODAY) as c:  # a correction of a corrected row
        noted.correct(c, fleet_id, kind, old["row_id"], noted.Change(right, "again"), "Pat", TODAY)


@pytest.mark.parametrize("kind", KINDS)
def test_a_note_on_the_wrong_unit_is_moved(db, two, kind):
    fleet_id, here, there = two
    old = held(db, fleet_id, here, kind)[0]
    with settling(db, fleet_id, TODAY) as c:
        noted.correct(c, fleet_id, kind, old["row_id"], noted.Change({"compartment_id": there}, "the other boat"), "Pat", TODAY)
    assert [n["superseded_why"] for n in held(db, fleet_id, here, kind)] == ["the other boat"]
    moved = held(db, fleet_id, there, kind)
    assert [(n["on_day"], n["meter"], n["superseded_by"]) for n in moved] == [(ON, 3870.0, None)]


@pytest.mark.parametrize("kind", KINDS)
def test_a_note_is_taken_back_with_the_reason_and_counts_no_more(db, two, kind):
    fleet_id, here, _ = two
    old = held(db, fleet_id, here, kind)[0]
    with pytest.raises(InputError, match="few words"), settling(db, fleet_id, TODAY) as c:
        noted.take_back(c, fleet_id, kind, old["row_id"], " ", "Pat")
    with settling(db, fleet_id, TODAY) as c:
        noted.take_back(c, fleet_id, kind, old["row_id"], "never was", "Pat")
    assert held(db, fleet_id, here, kind)[0]["superseded_by"] == old["row_id"]


@pytest.mark.parametrize(
    ("kind", "right", "why", "field"),
    [
        ("topup", {"litres": 3.0}, "", "why"), ("topup", {"litres": 2.0}, "x", "why"), ("topup", {"litres": 900.0}, "x", "litres"),
        ("topup", {"reading_after": 0.1}, "x", "reading_after"), ("level", {"meter": 100.0}, "x", "meter"),
        ("level", {"on_day": date(2026, 3, 1)}, "x", "on"), ("event", {"what": "magic"}, "x", "kind"),
        ("symptom", {"compartment_id": 0}, "x", "compartment"),
    ],
)  # fmt: skip
def test_a_note_that_cannot_be_changes_nothing(db, two, kind, right, why, field):
    fleet_id, here, _ = two
    old = held(db, fleet_id, here, kind)
    with pytest.raises(InputError) as refused, settling(db, fleet_id, TODAY) as c:
        noted.correct(c, fleet_id, kind, old[0]["row_id"], noted.Change(right, why), "Pat", TODAY)
    assert refused.value.field == field
    assert held(db, fleet_id, here, kind) == old


def test_a_correction_does_not_take_the_place_of_another_note(db, two):
    fleet_id, here, _ = two
    with settling(db, fleet_id, TODAY) as c:
        notes.level_check(c, fleet_id, here, date(2026, 1, 13), 3880.0, 0.9, "Sunniva", TODAY)
        later = noted.listed(c, here)[0]
        with pytest.raises(InputError, match="already"):
            noted.correct(c, fleet_id, "level", later["row_id"], noted.Change({"on_day": ON, "meter": 3870.0}, "x"), "Pat", TODAY)
    assert [n["superseded_by"] for n in held(db, fleet_id, here, "level")] == [None, None]


def test_nothing_is_moved_to_a_unit_that_was_sold(db, two):
    fleet_id, here, there = two
    with db.fleet(fleet_id) as c:
        c.execute("UPDATE unit SET state = 'retired' WHERE name = 'MV Other'")
    old = held(db, fleet_id, here, "topup")[0]
    with pytest.raises(InputError, match="retired"), settling(db, fleet_id, TODAY) as c:
        noted.correct(c, fleet_id, "topup", old["row_id"], noted.Change({"compartment_id": there}, "x"), "Pat", TODAY)


def test_a_slip_is_undone_in_the_first_minute_by_whoever_made_it(db, two):
    fleet_id, here, _ = two
    with settling(db, fleet_id, TODAY) as c:
        notes.level_check(c, fleet_id, here, TODAY, 3900.0, 1.1, "Tomas", TODAY)
        slip = noted.just_now(c, here, "Tomas")
        assert (slip["kind"], slip["said"]) == ("level", "Level")
        with pytest.raises(InputError, match="minute"):
            noted.undo(c, fleet_id, here, slip["kind"], slip["row_id"], "Sunniva", TODAY)
        noted.undo(c, fleet_id, here, slip["kind"], slip["row_id"], "Tomas", TODAY)
    assert held(db, fleet_id, here, "level")[0]["superseded_why"] == "undone in the first minute"
    with settling(db, fleet_id, TODAY) as c:
        notes.level_check(c, fleet_id, here, TODAY, 3901.0, 1.0, "Tomas", TODAY)
        c.execute("UPDATE level_check SET recorded_at = now() - interval '61 seconds' WHERE meter = 3901")
        late = next(n for n in noted.listed(c, here) if n["meter"] == 3901)
        with pytest.raises(InputError, match="minute"):
            noted.undo(c, fleet_id, here, "level", late["row_id"], "Tomas", TODAY)


def test_a_top_up_taken_back_no_longer_thins_what_the_ledger_reckons(db, two):
    """Judged again: the litres that are no longer on record are no longer in any rate."""
    fleet_id, here, _ = two
    from vornet.flows.judge import fleet_history

    with db.fleet(fleet_id) as c:
        before = fleet_history.load(c, TODAY, [here]).history.fillings.in_l.sum()
    old = held(db, fleet_id, here, "topup")[0]
    with settling(db, fleet_id, TODAY) as c:
        noted.take_back(c, fleet_id, "topup", old["row_id"], "never was", "Pat")
        assert fleet_history.load(c, TODAY, [here]).history.fillings.in_l.sum() == before - 2.0


# ---- samples and grades ----------------------------------------------------------------------------------------
@pytest.fixture
def labelled_wrong(db, two, fleet):
    """A sample of MV Other that came in under MV Test, with its bottle."""
    fleet_id, here, there = two
    content = "\n".join([HEADER, row("W-1", "2026-01-12", 3870, 370)]).encode()
    with settling(db, fleet_id, TODAY) as c:
        c.execute(
            "INSERT INTO bottle (fleet_id, sample_no, compartment_id, drawn_on, meter, drawn_by) "
            "VALUES (%s, 'W-1', %s, '2026-01-12', 3870, 'x')",
            [fleet_id, here],
        )
    results.load(db, content, fleet=fleet, name="a.csv", by="t")
    evaluate.evaluate(db, fleet, TODAY)
    with db.fleet(fleet_id) as c:
        sample = c.execute("SELECT sample_id FROM sample WHERE sample_no = 'W-1'").fetchone()["sample_id"]
    return fleet_id, here, there, sample, content


def test_a_sample_on_the_wrong_compartment_is_moved_not_imported_again(db, labelled_wrong, fleet):
    fleet_id, here, there, sample, content = labelled_wrong
    with settling(db, fleet_id, TODAY) as c:
        new_id = put_right.move_sample(c, fleet_id, sample, there, None, "label of the sister boat", "Tomas")
    with db.fleet(fleet_id) as c:
        rows = c.execute("SELECT sample_id, compartment_id, superseded_by, values FROM sample WHERE sample_no = 'W-1' ORDER BY 1").fetchall()
        assert [(r["compartment_id"], r["superseded_by"]) for r in rows] == [(here, new_id), (there, None)]
        assert repr(rows[0]["values"]) == repr(rows[1]["values"])  # what the lab printed went with it
        assert c.execute("SELECT compartment_id FROM bottle WHERE sample_no = 'W-1'").fetchone()["compartment_id"] == there
        judged = c.execute("SELECT sample_id FROM evaluation WHERE sample_id = ANY(%s)", [[sample, new_id]]).fetchall()
        assert new_id in {r["sample_id"] for r in judged}  # judged anew where it belongs
        last = {r["compartment_id"]: r["last_sample_id"] for r in c.execute("SELECT compartment_id, last_sample_id FROM standing")}
        assert last[there] == new_id
        assert last[here] not in (sample, new_id)
    results.load(db, content, fleet=fleet, name="a.csv", by="t")  # the lab sends the same file once more
    with db.fleet(fleet_id) as c:
        now = c.execute("SELECT sample_id, compartment_id FROM sample WHERE sample_no = 'W-1' AND superseded_by IS NULL").fetchall()
        assert [tuple(r.values()) for r in now] == [(new_id, there)]
        assert c.execute("SELECT count(*) AS n FROM held_row").fetchone()["n"] == 0


@pytest.mark.parametrize(("to", "meter", "why", "field"), [("here", None, "x", "compartment"), ("no", None, "x", "compartment"),
                                                           ("there", 10.0, "x", "meter"), ("there", None, " ", "why")])  # fmt: skip
def test_a_sample_that_cannot_be_moved_stays(db, labelled_wrong, to, meter, why, field):
    fleet_id, here, there, sample, _ = labelled_wrong
    with pytest.raises(InputError) as refused, settling(db, fleet_id, TODAY) as c:
        put_right.move_sample(c, fleet_id, sample, {"here": here, "there": there, "no": 0}[to], meter, why, "Tomas")
    assert refused.value.field == field
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT superseded_by FROM sample WHERE sample_id = %s", [sample]).fetchone()["superseded_by"] is None


def test_grades_of_a_drain_are_put_right_and_judged_by(db, two):
    fleet_id, here, _ = two
    with settling(db, fleet_id, TODAY) as c:
        drain_id = c.execute("SELECT drain_id FROM drain WHERE compartment_id = %s ORDER BY on_day DESC", [here]).fetchone()["drain_id"]
        c.execute('UPDATE drain SET extra = extra || \'{"magnets": {"sump": 1}, "oil_looks": ["normal"], "way": "plug"}\'')
        right = {"magnet_grade": 3, "air_filter": "dusty", "oil_looks": ["glitter"], "strainer_look": None}
        new_id = put_right.correct_drain(c, fleet_id, drain_id, put_right.Change(right, "tapped the wrong one"), "Pat", TODAY)
        d = c.execute("SELECT * FROM drain WHERE drain_id = %s", [new_id]).fetchone()
        assert (d["magnet_grade"], d["air_filter"]) == (3, "dusty")
        assert d["extra"] == {**d["extra"], "oil_looks": ["glitter"], "way": "plug"}
        assert "magnets" not in d["extra"]
        with pytest.raises(FormErrors):
            put_right.correct_drain(c, fleet_id, new_id, put_right.Change({"oil_looks": ["purple"]}, "x"), "Pat", TODAY)
        with pytest.raises(FormErrors):
            put_right.correct_drain(c, fleet_id, new_id, put_right.Change({"magnet_grade": 9}, "x"), "Pat", TODAY)
        assert c.execute(query("board.drains_of"), {"compartment_id": here}).fetchall()[0]["drain_id"] == new_id
