"""A fleet lived day by day through the real flows and a real database: whatever is done in whatever order, what stands in force is never
longer than its evidence. Run short by test_sequences, long by ``make bench``. All data is made up."""

from __future__ import annotations

import itertools
import json
from collections import Counter
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import ClassVar

from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from conftest import HEADER, TODAY, healthy_rows, row, small_register
from vornet.core import in_force as rules
from vornet.core.against import CAPS, length_against
from vornet.core.drain import DrainFacts
from vornet.core.errors import InputError
from vornet.flows.house import fleets
from vornet.flows.judge import approval, decision_record, evaluate, in_force, policies, trials
from vornet.flows.judge.settle import settling
from vornet.flows.lab import held_samples, put_right, results
from vornet.flows.pages import compartment
from vornet.flows.register import dump, many, register, units
from vornet.flows.work import drain as drains
from vornet.flows.work import notes
from vornet.store.database import Database, query

OILS = ("Test 15W-40", "Other 15W-40")
PER_DAY = 8.0
NAMES = ("MV Test", "MV Two", "MV Three")
SAME = 1e-6
#: what a bottle shows beside healthy wear; the held one has its viscosities changed over
BOTTLES: dict[str, dict[str, float | str]] = {
    "good": {},
    "bad": {"bn": 3.4, "oxidation": 34.0, "soot_pct": 4.4},
    "coolant": {"na": 160, "k": 95, "water_ppm": 2600},
    "held": {"v40": 14.0, "v100": 105.0, "bn": 1.0, "water_ppm": 9000, "fe": 400},
}
#: one rule of the policy at a time
RULES: list[dict[str, float | int | str]] = [
    {"most_at_once": 0.1}, {"most_at_once": 0.5}, {"school": "printed"}, {"school": "condition"}, {"limit": "act"}, {"limit": "watch"},
    {"confidence": 0.99}, {"charges_needed": 2}, {"part_changes": "go_on"},
]  # fmt: skip
_numbers = itertools.count(1)


@dataclass
class Engine:
    """What the world knows of one engine beside the database: its meter, the charge that runs, how it wears."""

    unit: str
    compartment_id: int
    unit_id: int
    meter: float
    filled: float
    oil: str = OILS[0]
    drains: list[tuple[int, float, str]] = field(default_factory=list)  # (drain id, filled before, oil before)
    #: the last length that was seen in force, and what somebody signed for, on which day
    seen: float | None = None
    signed: dict[float, date] = field(default_factory=dict)


class World:
    """One fleet of three like engines on one day, through the flows that pages and programs use."""

    def __init__(self, db: Database) -> None:
        self.db, self.today, self.done = db, TODAY, Counter[str]()
        self.name = f"Sequences {next(_numbers)} {id(self)}"
        base = small_register(self.name)
        unit, oil = base["units"][0], base["oils"][0]
        document = base | {
            "oils": [oil, oil | {"name": OILS[1]}],
            "units": [unit | {"unit": n} for n in NAMES],
            "readings": [r | {"unit": n} for n in NAMES for r in base["readings"]],
            "drains": [d | {"unit": n} for n in NAMES for d in base["drains"]],
        }
        register.load(db, json.dumps(document).encode(), by="t", today=TODAY)
        rows = [r.replace("S0", f"S{k}0", 1).replace("MV Test", n) for k, n in enumerate(NAMES) for r in healthy_rows()]
        results.load(db, "\n".join([HEADER, *rows, ""]).encode(), fleet=self.name, name="start.csv", by="t")
        evaluate.evaluate(db, self.name, TODAY)
        self.fleet_id = fleets.find(db, self.name)
        with db.fleet(self.fleet_id) as c:
            found = c.execute(
                "SELECT c.compartment_id, u.unit_id, u.name FROM compartment c JOIN unit u USING (fleet_id, unit_id) ORDER BY 1"
            ).fetchall()
        self.engines = [Engine(r["name"], r["compartment_id"], r["unit_id"], 3850.0, 3500.0) for r in found]
        for e in self.engines:
            e.seen = self.length(e)
        self.old_stamp: dict[int, str] = {}

    # ---- looking
    def row(self, e: Engine) -> dict:
        with self.db.fleet(self.fleet_id) as c:
            return compartment.row_of(c, e.compartment_id)

    def decision(self, e: Engine):
        with self.db.fleet(self.fleet_id) as c:
            figures = c.execute(query("board.compartment"), {"compartment_id": e.compartment_id}).fetchone()["decision"]
        return decision_record.typed(figures)

    def now(self, e: Engine) -> dict:
        with self.db.fleet(self.fleet_id) as c:
            return in_force.register_said(c, [e.compartment_id], self.today)[e.compartment_id]

    def length(self, e: Engine) -> float | None:
        return self.now(e)["length"]

    def stamp(self, e: Engine) -> str:
        with self.db.fleet(self.fleet_id) as c:
            return approval.asked(c, e.compartment_id, self.today).stamp

    # ---- doing
    def settled(self):
        return settling(self.db, self.fleet_id, self.today)

    def attempt(self, what: str, call) -> bool:
        """Whether it was taken; what is refused in words changes nothing."""
        try:
            call()
        except InputError:
            self.done[f"{what}, refused"] += 1
            return False
        self.done[what] += 1
        return True

    def bottle(self, e: Engine, kind: str, drained: bool = False) -> None:
        hours = e.meter - e.filled
        values = BOTTLES[kind]
        line = row(f"Q{next(_numbers):05d}", self.today.isoformat(), e.meter, hours, drained, unit=e.unit, **values).replace(OILS[0], e.oil)
        results.load(self.db, f"{HEADER}\n{line}\n".encode(), fleet=self.name, name=f"{next(_numbers)}.csv", by="t")
        with self.settled():
            pass
        self.done[f"bottle {kind}"] += 1

    def drain(self, e: Engine, oil: str) -> None:
        facts = drains.Drained(self.today, e.meter, DrainFacts(missing_l=2.0, out_l=54.0), in_l=54.0, oil=oil, concession="as agreed")

        def log() -> None:
            with self.settled() as c:
                drain_id = drains.log(c, self.fleet_id, e.compartment_id, facts, "T", self.today)
            e.drains.append((drain_id, e.filled, e.oil))
            e.filled, e.oil = e.meter, oil

        self.attempt("drain", log)

    def drain_back(self, e: Engine) -> None:
        drain_id, filled, oil = e.drains[-1]

        def back() -> None:
            with self.settled() as c:
                put_right.take_back(c, self.fleet_id, drain_id, "it was the gearbox", "T")
            e.drains.pop()
            e.filled, e.oil = filled, oil

        self.attempt("drain taken back", back)

    def approve(self, e: Engine, length: float, why: str, ahead: int, days: int | None, upholds: bool, stamp: str) -> None:
        rests_on = {"now": self.stamp(e), "old": self.old_stamp.get(e.compartment_id, "0.0"), "none": ""}[stamp]
        self.old_stamp[e.compartment_id] = self.stamp(e)

        def sign() -> None:
            with self.settled() as c:
                approval.approve(c, self.fleet_id, e.compartment_id, length, why, "P", self.today, rests_on=rests_on, days=days,
                                 effective_from=self.today + timedelta(days=ahead), upholds=upholds)  # fmt: skip
            assert rests_on and stamp != "none", "nothing is approved unseen"
            if why and not ahead:
                e.signed[length] = self.today

        self.attempt("approved ahead" if ahead else "approved", sign)


class Intervals(RuleBasedStateMachine):
    """Everything that moves an interval, in any order."""

    db: Database
    counts: ClassVar[Counter[str]] = Counter()

    @initialize()
    def begin(self) -> None:
        self.world = World(self.db)

    def teardown(self) -> None:
        if hasattr(self, "world"):
            type(self).counts.update(self.world.done)

    def engine(self, k: int) -> Engine:
        return self.world.engines[k % len(NAMES)]

    # ---- what people do
    @rule(k=st.integers(0, 2), share=st.sampled_from([0.5, 0.8, 0.9, 1.0, 1.06, 1.1, 1.25, 1.5]), why=st.sampled_from(["", "we know better"]),
          ahead=st.sampled_from([0, 0, 0, 3, 30]), days=st.sampled_from([None, None, 200, 400, 3650]), upholds=st.booleans(),
          stamp=st.sampled_from(["now", "now", "now", "old", "none"]))  # fmt: skip
    def approve(self, k, share, why, ahead, days, upholds, stamp):
        e = self.engine(k)
        now = self.world.length(e) or 500.0
        self.world.approve(e, round(share * now), why, ahead, days, upholds, stamp)

    @rule(k=st.integers(0, 2), ahead=st.sampled_from([0, 0, 5, 30]))
    def approve_proposal(self, k, ahead):
        e = self.engine(k)
        decision = self.world.decision(e)
        if decision.proposed:
            self.world.approve(e, decision.proposed, "", ahead, None, False, "now")

    @rule(rare=st.integers(0, 2), ks=st.sets(st.integers(0, 2), min_size=1))
    def approve_many(self, rare, ks):
        if rare:
            return
        shown = {e.compartment_id: d.proposed for e in map(self.engine, ks) if (d := self.world.decision(e)).proposed}
        with self.world.settled() as c:
            approval.approve_many(c, self.world.fleet_id, shown, "P", self.world.today)
        self.world.done["approved together"] += 1

    @rule(rare=st.integers(0, 1), k=st.integers(0, 2))
    def withdraw(self, rare, k):
        if rare:
            return
        e, w = self.engine(k), self.world
        with w.settled() as c:
            for waiting in in_force.waits_here(c, e.compartment_id, w.today)[:1]:
                in_force.withdraw(c, w.fleet_id, e.compartment_id, waiting["interval_id"], "not any more", "P", w.today)
                w.done["withdrawn"] += 1

    @rule(k=st.integers(0, 2), share=st.sampled_from([1.1, 1.2, 1.25, 1.4]))
    def try_longer(self, k, share):
        e, w = self.engine(k), self.world
        length = round(share * (w.length(e) or 500))

        def start():
            with w.settled() as c:
                stamp = approval.asked(c, e.compartment_id, w.today).stamp
                trials.start(c, w.fleet_id, e.compartment_id, length, "to see", "P", w.today, rests_on=stamp)

        w.attempt("trial begun", start)

    @rule(k=st.integers(0, 2), adopt=st.booleans(), why=st.sampled_from(["", "agreed"]))
    def end_trial(self, k, adopt, why):
        e, w = self.engine(k), self.world
        with w.db.fleet(w.fleet_id) as c:
            running = [t for t in trials.listed(c, e.compartment_id) if t["state"] == "running"]
        for t in running:

            def end(t=t):
                with w.settled() as c:
                    (trials.adopt if adopt else trials.fall_back)(c, w.fleet_id, t["trial_id"], why, "P", w.today)
                if adopt and why:
                    e.signed[t["length"]] = w.today

            w.attempt("adopted" if adopt else "fell back", end)

    @rule(rare=st.integers(0, 3), ks=st.sets(st.integers(0, 2), min_size=1), share=st.sampled_from([1.1, 1.2]))
    def roll_out(self, rare, ks, share):
        if rare:
            return
        w = self.world

        def begin():
            with w.settled() as c:
                trials.roll_out(
                    c, w.fleet_id, "T1 engine", round(500 * share), [self.engine(k).compartment_id for k in ks], "all", "P", w.today
                )

        w.attempt("roll-out begun", begin)

    @rule()
    def follow_suit(self):
        w = self.world
        with w.db.fleet(w.fleet_id) as c:
            open_ = [r for r in trials.rollouts(c) if r["closed_on"] is None]
        for r in open_[:1]:

            def follow(r=r):
                with w.settled() as c:
                    trials.follow_suit(c, w.fleet_id, r["rollout_id"], [e.compartment_id for e in w.engines], "P", w.today)

            w.attempt("rolled out", follow)

    @rule(k=st.integers(0, 2), kind=st.sampled_from(["good", "good", "good", "bad", "coolant", "held"]))
    def bottle(self, k, kind):
        self.world.bottle(self.engine(k), kind)

    @rule(settlement=st.sampled_from(["released", "rejected"]))
    def settle_holds(self, settlement):
        w = self.world
        with w.db.fleet(w.fleet_id) as c:
            open_ = c.execute("SELECT hold_id FROM hold WHERE settled_at IS NULL").fetchall()
        for h in open_[:1]:

            def settle(h=h):
                with w.settled() as c:
                    held_samples.settle(c, w.fleet_id, h["hold_id"], settlement, "looked at", "A", w.today)

            w.attempt("hold settled", settle)

    @rule(k=st.integers(0, 2), oil=st.sampled_from([0, 0, 0, 1]), bottle=st.sampled_from(["good", "good", "", "bad"]))
    def drain(self, k, oil, bottle):
        e = self.engine(k)
        if e.meter - e.filled < 50:
            return
        if bottle:
            self.world.bottle(e, bottle, drained=False)
        self.world.drain(e, OILS[oil])

    @precondition(lambda self: any(e.drains for e in self.world.engines))
    @rule(k=st.integers(0, 2))
    def take_drain_back(self, k):
        e = self.engine(k)
        if e.drains:
            self.world.drain_back(e)

    @rule(rare=st.integers(0, 2), k=st.integers(0, 2), litres=st.sampled_from([1.0, 4.0]))
    def top_up(self, rare, k, litres):
        if rare:
            return
        e, w = self.engine(k), self.world

        def pour():
            with w.settled() as c:
                notes.top_up(c, w.fleet_id, e.compartment_id, w.today, e.meter, litres, None, None, "T", w.today)

        w.attempt("top-up", pour)

    @rule(k=st.integers(0, 2), oil=st.sampled_from([0, 0, 0, 0, 1]))
    def run_a_charge(self, k, oil):
        """The others wait; one runs to its interval, a good bottle and a drain at its end."""
        e, w = self.engine(k), self.world
        rest = (w.length(e) or 500) - (e.meter - e.filled)
        if rest < 30:
            return
        self.days_pass(max(int(rest / PER_DAY), 1), True, False)
        w.bottle(e, "good")
        w.drain(e, OILS[oil])

    @rule(k=st.integers(0, 2), rare=st.integers(0, 5))
    def overhaul(self, k, rare):
        if rare:
            return
        e, w = self.engine(k), self.world

        def note():
            with w.settled() as c:
                notes.event(c, w.fleet_id, e.compartment_id, "overhaul", w.today, e.meter, None, None, "", "", "T", w.today)

        w.attempt("overhaul", note)

    @rule(k=st.integers(0, 2), share=st.sampled_from([None, 0.8, 1.1, 1.5]), days=st.sampled_from([None, 180, 300, 420, 3650]),
          how=st.sampled_from(["form", "many", "file"]))  # fmt: skip
    def edit_register(self, k, share, days, how):
        e, w = self.engine(k), self.world
        length = None if share is None else round(share * (w.length(e) or 500))
        given = {key: v for key, v in (("interval_h", length), ("interval_days", days)) if v is not None}
        if not given:
            return

        def form():
            with w.settled() as c:
                units.save_compartment(c, w.fleet_id, e.compartment_id, given, "P", w.today)

        def together():
            with w.settled() as c:
                for key, value in (("interval", length), ("interval_days", days)):
                    if value is not None:
                        many.change_many(c, w.fleet_id, [e.compartment_id], key, value, "P", w.today, True)

        def file():
            with w.db.fleet(w.fleet_id) as c:
                document = dump.units_out(c, w.today, [e.unit_id])[0]
            document["compartments"][0] |= given
            register.load(w.db, json.dumps({"fleet": w.name, "units": [document]}).encode(), by="P", today=w.today)
            with w.settled():
                pass

        w.attempt(f"register by {how}", {"form": form, "many": together, "file": file}[how])

    @rule(k=st.integers(0, 2), cap=st.sampled_from([450.0, 550.0, 1000.0, 2000.0]), rare=st.integers(0, 2))
    def change_cap(self, k, cap, rare):
        if rare:
            return
        e, w = self.engine(k), self.world

        def change():
            with w.settled() as c:
                many.change_many(c, w.fleet_id, [e.compartment_id], "cap", cap, "P", w.today, True)

        w.attempt("cap changed", change)

    @rule(rare=st.integers(0, 3), given=st.sampled_from(RULES))
    def change_policy(self, rare, given):
        if rare:
            return
        w = self.world

        def save():
            with w.settled() as c:
                policies.save(c, w.fleet_id, "P", "fleet", "", given, "agreed", w.today, w.today)

        w.attempt("policy changed", save)

    @rule(n=st.sampled_from([1, 5, 12, 30]), read=st.booleans(), judged=st.booleans())
    def days_pass(self, n, read, judged):
        w = self.world
        w.today += timedelta(days=n)
        for e in w.engines:
            e.meter += PER_DAY * n
        if read:
            with w.settled() as c:
                for e in w.engines:
                    notes.read_meter(c, w.fleet_id, e.unit_id, 1, e.meter, w.today, "T", w.today)
        if judged or read:
            evaluate.evaluate(w.db, w.name, w.today)
        w.done["days passed"] += 1

    # ---- what holds on every day
    @invariant()
    def nothing_longer_than_its_evidence(self):
        """What has become longer was signed with a reason on this day, or nothing stood against it on this day's evidence."""
        if not hasattr(self, "world"):
            return
        w = self.world
        for e in w.engines:
            with w.db.fleet(w.fleet_id) as c:
                course = in_force.course(c, e.compartment_id)
            spans = in_force.spans_of(course, in_force.LENGTH)
            now = rules.on_day(spans, w.today.toordinal())
            was, e.seen = e.seen, None if now is None else now.value
            if now is None or now.value is None or (was is not None and now.value <= was * (1 + SAME)):
                continue
            if now.origin == "trial":
                with w.db.fleet(w.fleet_id) as c:
                    t = next(t for t in trials.listed(c, e.compartment_id) if t["state"] == "running")
                assert now.value <= 1.1 * t["length"] + 1
                continue
            if e.signed.get(now.value) == w.today:
                continue
            before = [s for s in spans if s.state == "stood" and s.end == now.start]
            back = bool(before) and before[-1].why == rules.CHARGE_ENDED
            taken_back = (
                any(s.start <= now.start and s.value == now.value for s in spans if s.state in ("stood", "stands"))
                and now.start < w.today.toordinal()
            )
            if back or taken_back:
                continue  # what was in force before; a drain that never was ended it
            decision = replace_current(w.decision(e), was)
            against = [f for f in length_against(decision, now.value, "h") if f.kind != "trial"]
            assert not against, (was, now.value, now.origin, [f.kind for f in against])

    @invariant()
    def history_adds_up(self):
        if not hasattr(self, "world"):
            return
        w = self.world
        with w.db.fleet(w.fleet_id) as c:
            kept = {e.compartment_id: in_force.course(c, e.compartment_id) for e in w.engines}
            in_force.refresh(c, w.fleet_id)
            anew = {e.compartment_id: in_force.course(c, e.compartment_id) for e in w.engines}
            signed = {r["interval_id"]: r for e in w.engines for r in in_force.said_of(c, e.compartment_id)}
        assert kept == anew, "what is kept is what the rule says"
        for course in kept.values():
            for fact in (in_force.LENGTH, in_force.CALENDAR):
                spans = in_force.spans_of(course, fact)
                stood = [s for s in spans if s.state in ("stood", "stands")]
                assert sum(s.state == "stands" for s in spans) == 1
                assert all(a.end == b.start for a, b in itertools.pairwise(stood))
                assert all(signed[s.key]["approved_by"] for s in spans), "nothing in force without a name"

    @invariant()
    def readers_agree_and_caps_are_told(self):
        """Register, standing, plan and exports say one length; what is beyond a cap, or past its safe hours for sure, is called out."""
        if not hasattr(self, "world"):
            return
        w = self.world
        for e in w.engines:
            now, r = w.now(e), w.row(e)
            if r["as_of"] != w.today:
                continue
            assert r["interval_meter"] == now["length"], (r["interval_meter"], now["length"])
            decision = w.decision(e)
            assert decision.current == now["length"]
            assert decision.outcome != "lengthen" or not length_against(decision, decision.proposed, "h")
            over = [
                g for g in decision.guards if g.key in CAPS and g.limit is not None and now["length"] is not None and now["length"] > g.limit
            ]
            assert not over or decision.outcome == "shorten", [g.key for g in over]

    @invariant()
    def no_drain_is_due_later_than_anything_that_drives_it(self):
        if not hasattr(self, "world"):
            return
        w = self.world
        for e in w.engines:
            now, r = w.now(e), w.row(e)
            if r["as_of"] != w.today or now["length"] is None:
                continue
            filled = dated(w, e)
            assert r["due_day"] is not None
            if now["days"]:
                assert r["due_day"] <= filled + timedelta(days=now["days"]), (r["due_day"], filled, now["days"])
            if r["rate_per_day"]:
                left = (now["length"] - r["oil_hours"]) / r["rate_per_day"]
                assert r["due_day"] <= r["meter_day"] + timedelta(days=max(left, 0) + 1)

    @rule(rare=st.integers(0, 3))
    def evaluate_afresh(self, rare):
        """A fresh evaluation says what stands."""
        if rare:
            return
        w = self.world
        evaluate.evaluate(w.db, w.name, w.today)
        before = {e.compartment_id: w.row(e) for e in w.engines}
        evaluate.evaluate(w.db, w.name, w.today, afresh=True)
        for e in w.engines:
            after = w.row(e)
            for key in ("interval_meter", "outcome", "proposed_meter", "due_day", "to_due", "headroom"):
                assert before[e.compartment_id][key] == after[key], key
        w.done["judged afresh"] += 1


def replace_current(decision, was):
    """The decision as of what was in force before: guards that step from it are asked from there."""
    from dataclasses import replace

    if was is None:
        return decision
    guards = tuple(g for g in decision.guards if g.key not in ("step", "verdicts"))
    return replace(decision, current=was, guards=guards)


def dated(w: World, e: Engine) -> date:
    with w.db.fleet(w.fleet_id) as c:
        asked = "SELECT max(on_day) AS on_day FROM drain WHERE compartment_id = %s AND superseded_by IS NULL"
        found = c.execute(asked, [e.compartment_id]).fetchone()
    return found["on_day"]
