"""Permitted sequences that left a length in force which Vornet itself would refuse: each as it was found, one engine at 500 h."""

import copy
import json
import threading
from datetime import date, timedelta
from uuid import uuid4

import pytest

from conftest import HEADER, TODAY, approve_seen, healthy_rows, row, small_register, start_seen
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate, policies, trials
from vornet.flows.judge.settle import settling
from vornet.flows.lab import results
from vornet.flows.pages import compartment, period
from vornet.flows.register import many, register, units
from vornet.flows.work import notes
from vornet.store.database import query

OTHER = {"name": "Other 10W-40", "bn": 9, "an": 2, "oxidation": 8, "nitration": 5, "v40": 105, "v100": 14.2}
BAD = {"soot_pct": 4.6, "bn": 4.2}


class Engine:
    """One engine, filled at 3,500 h, from TODAY on; ``to`` another day with a reading on it."""

    def __init__(self, db, fleet):
        self.db, self.fleet, self.today, self.meter = db, fleet, TODAY, 3850.0
        self.fleet_id = fleets.find(db, fleet)
        with db.fleet(self.fleet_id) as c:
            r = c.execute("SELECT compartment_id, unit_id FROM compartment").fetchone()
        self.id, self.unit_id = r["compartment_id"], r["unit_id"]

    @property
    def row(self):
        with self.db.fleet(self.fleet_id) as c:
            return compartment.row_of(c, self.id)

    @property
    def length(self):
        return self.row["interval_meter"]

    @property
    def days(self):
        with self.db.fleet(self.fleet_id) as c:
            return c.execute(query("register.compartments"), {"today": self.today, "only": None}).fetchone()["interval_days"]

    def to(self, days, hours=None):
        self.today += timedelta(days=days)
        if hours:
            self.meter += hours
            with settling(self.db, self.fleet_id, self.today) as c:
                notes.read_meter(c, self.fleet_id, self.unit_id, 1, self.meter, self.today, "T", self.today)
        evaluate.evaluate(self.db, self.fleet, self.today)

    def approve(self, meter, why="agreed", ahead=0, **more):
        with settling(self.db, self.fleet_id, self.today) as c:
            on = self.today + timedelta(days=ahead)
            approve_seen(c, self.fleet_id, self.id, meter, why, "P", self.today, effective_from=on, **more)

    def bottle(self, hours, number=None, **values):
        line = row(number or f"B{uuid4().hex[:8]}", self.today.isoformat(), 3500 + hours, hours, False, **values)
        results.load(self.db, f"{HEADER}\n{line}\n".encode(), fleet=self.fleet, name=f"{uuid4().hex}.csv", by="t")
        evaluate.evaluate(self.db, self.fleet, self.today)

    def says(self, **lists):
        """A register file that says so."""
        document = {"fleet": self.fleet, "oils": [], "units": []} | lists
        found = register.load(self.db, json.dumps(document).encode(), by="t", today=self.today)
        evaluate.evaluate(self.db, self.fleet, self.today)
        return found

    def register_says(self, **changes):
        unit = small_register(self.fleet)["units"][0]
        unit["compartments"][0] |= changes
        return self.says(units=[unit])

    def drained(self, oil="Test 15W-40"):
        return self.says(
            oils=[OTHER],
            drains=[{"unit": "MV Test", "compartment": "engine", "on": self.today.isoformat(), "meter": self.meter, "volume_out_l": 54,
                     "level_missing_l": 2, "oil": oil}],
        )  # fmt: skip


@pytest.fixture
def engine(db, fleet):
    return Engine(db, fleet)


# ---- what was approved for a day to come ------------------------------------------------------------------------------
def test_a_later_approval_ends_what_waits(engine):
    """625 for +30 days; a bad bottle; a person approves 400 at once; on day 31 625 was in force."""
    engine.approve(625, ahead=30)
    engine.to(5, 40)
    engine.bottle(390, **BAD)
    assert engine.row["outcome"] == "shorten"
    engine.approve(400, "the oil is worn")
    engine.to(26, 60)
    assert engine.length == 400


def test_a_stopped_trial_ends_what_waits(engine):
    engine.approve(625, ahead=30)
    with settling(engine.db, engine.fleet_id, engine.today) as c:
        start_seen(c, engine.fleet_id, engine.id, 600, "to see", "P", engine.today)
    engine.to(12, 90)
    engine.bottle(440, **BAD)
    assert engine.length <= 500  # it stopped by its own rule
    engine.to(20, 5)
    assert engine.length <= 500


def test_with_a_fault_open_on_its_day_it_waits_and_is_told(engine):
    engine.approve(625, ahead=10)
    engine.to(5, 40)
    engine.bottle(390, na=180, k=70, water_ppm=2500)
    engine.to(6, 10)
    assert engine.row["open_faults"] and engine.length == 500
    from vornet.flows.judge import in_force
    from vornet.flows.pages import board

    with engine.db.fleet(engine.fleet_id) as c:
        told = board.board(c, "all", "", "", 0, engine.today)["held_up"]
        [waits] = in_force.waits_here(c, engine.id, engine.today)
    assert [(h["value"], h["held_up"][0]["kind"]) for h in told] == [(625, "open_faults")] and waits["held_up"]
    # and it begins by itself once nothing stands against it any more
    engine.to(1)
    with engine.db.fleet(engine.fleet_id) as c:
        in_force.withdraw(c, engine.fleet_id, engine.id, waits["interval_id"], "found", "P", engine.today)
        assert in_force.waits_here(c, engine.id, engine.today) == [] and in_force.held_up(c, engine.today) == []


def test_it_begins_on_its_day_where_nothing_stands_against_it(engine):
    engine.approve(625, "", ahead=10)
    engine.to(9, 40)
    assert engine.length == 500
    engine.to(1, 5)
    assert engine.length == 625


def test_what_was_approved_on_one_oil_does_not_begin_on_another(engine):
    """Approved on oil A from a later day, oil B poured before it begins: nothing bit."""
    engine.approve(625, ahead=30)
    engine.to(20, 140)
    engine.drained("Other 10W-40")
    engine.to(15, 100)
    assert engine.length == 500


def test_what_is_in_force_on_one_oil_falls_back_on_another(engine):
    engine.approve(625)
    engine.to(20, 140)
    engine.drained("Other 10W-40")
    assert engine.length == 500
    engine.to(3, 20)
    engine.approve(300, "to be sure")
    engine.to(3, 20)
    engine.drained()
    assert engine.length == 300  # never up again by itself


# ---- two facts --------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("how", ["form", "many", "file"])
def test_another_calendar_limit_leaves_the_length_and_its_evidence(engine, how):
    """An edit of the calendar alone made the approved length the register's own: the other-oil guard was lost."""
    engine.approve(625)
    edit_days(engine, how, 300)
    assert (engine.length, engine.days) == (625, 300)
    engine.to(20, 140)
    engine.drained("Other 10W-40")
    assert engine.length == 500


def edit_days(engine, how, days):
    with settling(engine.db, engine.fleet_id, engine.today) as c:
        if how == "form":
            units.save_compartment(c, engine.fleet_id, engine.id, {"interval_days": days}, "P", engine.today)
        elif how == "many":
            many.change_many(c, engine.fleet_id, [engine.id], "interval_days", days, "P", engine.today, True)
    if how == "file":
        engine.register_says(interval_days=days)


def test_a_file_that_says_other_days_brings_no_old_length_back(engine):
    """A file with 300 days for 365 brought 500 h back over an approved 400."""
    engine.approve(400)
    engine.register_says(interval_days=300)
    assert (engine.length, engine.days) == (400, 300)


def test_a_trial_s_length_is_never_the_register_s(engine):
    with settling(engine.db, engine.fleet_id, engine.today) as c:
        start_seen(c, engine.fleet_id, engine.id, 600, "to see", "P", engine.today)
    edit_days(engine, "form", 300)
    engine.to(45, 330)
    engine.drained()
    assert engine.length == 500


@pytest.mark.parametrize("how", ["form", "many", "file"])
def test_the_register_lengthens_nothing_that_something_stands_against(engine, how):
    given = {"interval_h": 900}
    if how == "file":
        found = engine.register_says(**given)
        assert any("left as it is" in p.why for p in found.problems)
    else:
        with settling(engine.db, engine.fleet_id, engine.today) as c:
            why = told_by(c, engine, how, given)
        assert "approve it on its interval's page" in why
    assert engine.length == 500
    engine.register_says(interval_h=450)
    assert engine.length == 450  # shorter always may


def told_by(connection, engine, how, given):
    """Why the register does not take it, by the form or for many."""
    if how == "many":
        [line] = many.change_many(connection, engine.fleet_id, [engine.id], "interval", given["interval_h"], "P", engine.today, True)
        return line.problem
    with pytest.raises(InputError) as error, connection.transaction():
        units.save_compartment(connection, engine.fleet_id, engine.id, given, "P", engine.today)
    return error.value.why


# ---- stamps and days --------------------------------------------------------------------------------------------------
def test_two_approvals_at_one_moment_are_not_both_taken(engine):
    """450 and 300 on one page's stamp both succeeded, four times of four."""
    from vornet.flows.judge import approval

    with engine.db.fleet(engine.fleet_id) as c:
        stamp = approval.asked(c, engine.id, engine.today).stamp
    both, answers = threading.Barrier(2), []

    def sign(meter):
        try:
            with settling(engine.db, engine.fleet_id, engine.today) as c:
                c.execute("SELECT 1")
                both.wait(10)
                approve_seen(c, engine.fleet_id, engine.id, meter, "x", "P", engine.today, rests_on=stamp)
            answers.append("taken")
        except InputError as error:
            answers.append(error.why)

    threads = [threading.Thread(target=sign, args=(m,)) for m in (450, 300)]
    for t in threads:
        t.start()
    for t in threads:
        t.join(60)
    assert sorted(a == "taken" for a in answers) == [False, True]
    assert any("meanwhile: look again" in a for a in answers)


def test_without_a_stamp_nothing_is_approved_or_tried(engine):
    with pytest.raises(InputError, match="which evidence"):
        engine.approve(450, rests_on="")
    with pytest.raises(InputError, match="which evidence"), settling(engine.db, engine.fleet_id, engine.today) as c:
        start_seen(c, engine.fleet_id, engine.id, 600, "x", "P", engine.today, rests_on="")


def test_days_are_guarded_as_hours_are(engine):
    """365 to 3,650 days with four faults open and no reason."""
    with pytest.raises(InputError, match="say why"):
        engine.approve(engine.row["proposed_meter"], "", days=3650)
    engine.bottle(355, na=180, k=70, water_ppm=2500)
    with pytest.raises(InputError, match="while a fault is open"):
        engine.approve(500, "we are sure", days=3650)
    with pytest.raises(InputError, match="approve it on its interval's page"), settling(engine.db, engine.fleet_id, engine.today) as c:
        units.save_compartment(c, engine.fleet_id, engine.id, {"interval_days": 3650}, "P", engine.today)
    engine.approve(500, "sooner", days=200)
    assert engine.days == 200


# ---- trials -----------------------------------------------------------------------------------------------------------
@pytest.fixture
def trial(engine):
    with settling(engine.db, engine.fleet_id, engine.today) as c:
        engine.trial_id = start_seen(c, engine.fleet_id, engine.id, 600, "to see", "P", engine.today)
    return engine


def tried(engine):
    with engine.db.fleet(engine.fleet_id) as c:
        return trials.listed(c, engine.id, trial_id=engine.trial_id)[0]


def test_a_bottle_s_day_is_counted_from_the_last_reading_and_late_once_it_is_past(trial):
    """A 450 h bottle: 27 Jan, later 21 Feb, a day behind its own drain."""
    trial.bottle(355)
    first = tried(trial)["next_day"]
    assert tried(trial)["next_at"] == 450
    trial.to(10)
    assert tried(trial)["next_day"] == first
    trial.to(10)
    assert tried(trial)["next_day"] == first
    assert "late" in [s["state"] for s in tried(trial)["progress"]["steps"]]
    assert first <= trial.row["due_day"]


def test_a_charge_that_ends_unread_ends_its_trial(trial):
    """The next charge was due at 110 % with an Act beside it."""
    trial.to(40, 300)
    trial.drained()
    assert (trial.length, tried(trial)["state"]) == (500, "stopped")
    assert "ended without a bottle" in tried(trial)["ending"]


def test_a_charge_that_ends_with_its_bottle_read_waits_for_a_name_at_the_old_length(trial):
    for hours, days in ((355, 1), (450, 14), (598, 22)):
        trial.to(days, 3500 + hours - trial.meter)
        trial.bottle(hours)
    trial.to(1, 4)
    trial.drained()
    assert (trial.length, tried(trial)["progress"]["word"]) == (500, "ripe")
    with settling(trial.db, trial.fleet_id, trial.today) as c:
        trials.adopt(c, trial.fleet_id, trial.trial_id, "", "P", trial.today)
    assert trial.length == 600


def test_a_shorter_one_can_be_approved_while_a_trial_runs(trial):
    with pytest.raises(InputError, match="a trial runs here"):
        trial.approve(525)
    trial.approve(300, "we saw metal")
    assert (trial.length, tried(trial)["state"]) == (300, "fell_back")
    trial.to(5, 30)
    assert trial.length == 300


def test_the_last_bottle_of_a_trial_is_asked_like_every_other(engine):
    """Adopted at 600 with safe 568, and 10.2 % at 600 where 5 % is allowed, without a reason."""
    engine.register_says(cap_h=650)  # so that no bottle is planned beyond 600
    with settling(engine.db, engine.fleet_id, engine.today) as c:
        engine.trial_id = start_seen(c, engine.fleet_id, engine.id, 600, "to see", "P", engine.today)
    for hours, days in ((355, 1), (450, 14), (598, 22)):
        engine.to(days, 3500 + hours - engine.meter)
        engine.bottle(hours)
    with settling(engine.db, engine.fleet_id, engine.today) as c:
        policies.save(c, engine.fleet_id, "P", "fleet", "", {"confidence": 0.999}, "surer", engine.today, engine.today)
    assert tried(engine)["progress"]["word"] == "ripe" and engine.row["decision"]["safe"] < 600
    with pytest.raises(InputError, match="something stands against"), settling(engine.db, engine.fleet_id, engine.today) as c:
        trials.adopt(c, engine.fleet_id, engine.trial_id, "", "P", engine.today)
    assert tried(engine)["state"] == "running"
    with settling(engine.db, engine.fleet_id, engine.today) as c:
        trials.adopt(c, engine.fleet_id, engine.trial_id, "drained early all winter", "P", engine.today)
    assert (engine.length, tried(engine)["state"]) == (600, "adopted")


@pytest.fixture
def family(db):
    """Four ferries of one family, healthy."""
    name = f"Between {uuid4().hex[:8]}"
    document = small_register(name)
    for key in ("units", "readings", "drains"):
        document[key] = [{**copy.deepcopy(r), "unit": f"MV Test {n}"} for n in range(4) for r in document[key]]
    register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
    lines = [line.replace("MV Test,", f"MV Test {n},").replace("S00", f"F{n}0") for n in range(4) for line in healthy_rows()]
    results.load(db, ("\n".join([HEADER, *lines]) + "\n").encode(), fleet=name, name="all.csv", by="t")
    evaluate.evaluate(db, name, TODAY)
    return name


def rolled(db, name, tries=2):
    """A roll-out to 600 h whose trials have been adopted: (fleet id, compartments, roll-out, day)."""
    fleet_id, later = fleets.find(db, name), date(2026, 3, 10)
    with settling(db, fleet_id, TODAY) as c:
        ids = [r["compartment_id"] for r in trials.mates(c, "T1 engine")]
        rollout_id, _ = trials.roll_out(c, fleet_id, "T1 engine", 600, ids[:tries], "", "P", TODAY)
    lines = [row(f"R{n}{k}", on, 3500 + h, h, False).replace("MV Test,", f"MV Test {n},")
             for n in range(tries) for k, (on, h) in enumerate((("2026-01-14", 355), ("2026-02-05", 452), ("2026-03-08", 598)))]  # fmt: skip
    results.load(db, ("\n".join([HEADER, *lines]) + "\n").encode(), fleet=name, name="r.csv", by="t")
    evaluate.evaluate(db, name, later)
    with settling(db, fleet_id, later) as c:
        for t in trials.listed(c, rollout_id=rollout_id):
            trials.adopt(c, fleet_id, t["trial_id"], "", "P", later)
    return fleet_id, ids, rollout_id, later


def follow(db, fleet_id, rollout_id, chosen, day):
    with settling(db, fleet_id, day) as c:
        return trials.follow_suit(c, fleet_id, rollout_id, chosen, "P", day)


def test_a_mate_follows_by_every_guard_of_its_own_policy(db, family):
    """+140 % for a mate at 250 h; a unit whose policy never goes beyond 550."""
    fleet_id, ids, rollout_id, day = rolled(db, family)
    with settling(db, fleet_id, day) as c:
        many.change_many(c, fleet_id, [ids[2]], "interval", 250.0, "P", day, True)
        policies.save(c, fleet_id, "P", "unit", "MV Test 3", {"school": "house_rule", "house_h": 550.0}, "its own", day, day)
    done, refused = follow(db, fleet_id, rollout_id, ids[2:], day)
    assert done == [] and {r.compartment_id for r in refused} == set(ids[2:])
    assert "At most +25%" in next(r.why for r in refused if r.compartment_id == ids[2])
    assert "house rule" in next(r.why for r in refused if r.compartment_id == ids[3])


def test_one_adoption_is_not_two(db, family):
    fleet_id, ids, rollout_id, day = rolled(db, family, tries=1)
    with pytest.raises(InputError, match="2 of its trials have to be adopted"):
        follow(db, fleet_id, rollout_id, ids[2:], day)


def test_nobody_follows_once_the_adopted_have_come_back(db, family):
    fleet_id, ids, rollout_id, day = rolled(db, family)
    with settling(db, fleet_id, day) as c:
        approve_seen(c, fleet_id, ids[0], 450, "it did not hold", "P", day)
    with pytest.raises(InputError, match="did not hold where it was adopted"):
        follow(db, fleet_id, rollout_id, ids[2:], day)


def test_a_trial_that_ended_is_no_loss_in_the_period_report(trial):
    with settling(trial.db, trial.fleet_id, trial.today) as c:
        trials.fall_back(c, trial.fleet_id, trial.trial_id, "no bottles left", "P", trial.today)
    with trial.db.fleet(trial.fleet_id) as c:
        report = period.report(c, trial.today - timedelta(days=30), trial.today, trial.today)
    assert (report["shorter"], report["drains"]) == (0, 0)
    assert [(m["from"], m["meter"]) for m in report["moved"]] == [(500, 500)]


# ---- held bottles -----------------------------------------------------------------------------------------------------
def test_an_alarm_does_not_sleep_in_a_held_bottle(engine):
    """A held last bottle with BN 1.0, water 9,000, iron 400 did not stand against Lengthen 625, and bulk approval took it."""
    from vornet.flows.judge import approval

    assert engine.row["outcome"] == "lengthen"
    engine.bottle(355, v40=14.0, v100=105.0, bn=1.0, water_ppm=9000, fe=400)
    assert engine.row["held"] and engine.row["outcome"] != "lengthen"
    assert any(g["key"] == "held_bottle" and g["bites"] for g in engine.row["decision"]["guards"])
    with settling(engine.db, engine.fleet_id, engine.today) as c:
        done, refused = approval.approve_many(c, engine.fleet_id, {engine.id: 625.0}, "P", engine.today)
    assert done == [] and refused
    assert engine.length == 500


# ---- the page ---------------------------------------------------------------------------------------------------------
def test_the_page_says_what_the_verdict_rested_on(engine):
    """The sample's page judged anew without what was taught: another usual, tin 0.12 for 0.089."""
    from vornet.core.judge import judge
    from vornet.core.rates import stretch_rates
    from vornet.flows.judge import fleet_history, verdicts

    engine.bottle(300, "LOUD", fe=60)
    engine.to(10, 80)
    engine.bottle(420)
    with settling(engine.db, engine.fleet_id, engine.today) as c:
        loud = c.execute("SELECT sample_id FROM sample WHERE sample_no = 'S002'").fetchone()["sample_id"]
        verdicts.sign(c, engine.fleet_id, loud, "act", by="A", today=engine.today, reason="seen in the filter")
    with engine.db.fleet(engine.fleet_id) as c:
        facts = compartment.load(c, engine.id, engine.today)
        loaded, charges = fleet_history.drop_held(c, fleet_history.load(c, engine.today, [engine.id]))
        as_judged = judge(loaded.history, charges, stretch_rates(loaded.history, charges), loaded.limits, loaded.seen,
                          teaching=loaded.teaching, factors=loaded.factors)  # fmt: skip
    assert (loaded.teaching < 0).any()
    import numpy as np

    np.testing.assert_array_equal(facts.judgement.shift.usual, as_judged.shift.usual)
