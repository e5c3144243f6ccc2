"""Findings that weigh signs: a beta prior, a step at a time, and what it does to a score."""

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats
from test_causes import KEYS, added, worked
from test_screening import fleet

from vornet.core import judge as j
from vornet.core import learning as le
from vornet.core.charges import cut
from vornet.core.diagnose import POSSIBLE, PROBABLE
from vornet.core.limits import table
from vornet.core.rates import stretch_rates
from vornet.words.say import say


def case(number, cause, **there):
    return le.Case(number, 0, cause, {k: frozenset(v) for k, v in there.items()})


def test_every_sign_has_a_factor_and_words():
    roles = le.roles()
    assert roles["bearing|main"] == "main" and roles["bearing|up cu"] == "supports" and roles["bearing|flat pb"] == "against"
    for key in roles:
        said = say(le.sign_of(key.split("|")[1]))
        assert said and not said.startswith(("up ", "fact "))


@pytest.mark.parametrize(("right", "n", "moves"), [(0, 5, -1), (5, 5, 1), (3, 5, 0)])
def test_a_factor_follows_how_often_the_cause_was_right(right, n, moves):
    known = [case(k, "bearing" if k < right else "nothing", bearing={"up cu"}) for k in range(n)]
    found = {s.sign: s for s in le.suggest(known, 0, {})}
    q = (right + le.BELIEF * le.USUALLY_RIGHT) / (n + le.BELIEF)  # posterior mean of a beta(4.8, 3.2) prior
    target = min(max(q / le.USUALLY_RIGHT, 1 - le.STEP), 1 + le.STEP)
    if moves == 0:
        assert "up cu" not in found
    else:
        one = found["up cu"]
        assert (one.n, one.right, one.proposed) == (n, right, pytest.approx(round(target, 2)))
        assert np.sign(one.proposed - 1) == moves


def test_what_speaks_against_a_cause_that_was_right_all_the_same_speaks_softer():
    known = [case(k, "coolant", coolant={"fact sea_salt"}) for k in range(6)]
    [one] = [s for s in le.suggest(known, 0, {}) if s.sign == "fact sea_salt"]
    assert one.role == "against" and one.proposed < 1


def test_it_moves_a_step_at_a_time_and_never_beyond_its_bounds():
    known = [case(k, "nothing", bearing={"main"}) for k in range(60)]
    factor, seen = 1.0, []
    for _ in range(12):
        found = [s for s in le.suggest(known, 0, {"bearing|main": factor}) if s.sign == "main"]
        if not found:
            break
        assert abs(found[0].proposed - factor) <= le.STEP + 1e-9
        factor = found[0].proposed
        seen.append(factor)
    assert len(seen) >= 4 and min(seen) == pytest.approx(le.LEAST)


def test_two_findings_another_family_and_something_else_say_nothing():
    two = [case(k, "nothing", bearing={"main"}) for k in range(2)]
    assert le.suggest(two, 0, {}) == []
    elsewhere = [replace(case(k, "nothing", bearing={"main"}), family=1) for k in range(5)]
    assert le.suggest(elsewhere, 0, {}) == []
    other = [case(k, "other", bearing={"main"}) for k in range(5)]
    assert le.suggest(other, 0, {}) == []


def test_findings_are_laid_beside_the_signs_that_were_there():
    history, at = fleet()
    broken, i = added(history, at, (0, 13), pb=35, sn=9, cu=15)
    judgement = worked(broken)
    day = int(broken.samples.day[i])
    [found] = le.cases(broken, judgement.diagnosis, [(7, 0, day + 5, "bearing")])
    assert (found.finding, found.family, found.cause) == (7, 0, "bearing")
    assert {"main", "up cu"} <= found.there["bearing"]
    [late] = le.cases(broken, judgement.diagnosis, [(8, 0, day + le.ABOUT_DAYS + 1, "nothing")])
    assert "bearing" not in late.there


def test_a_factor_moves_the_score_of_its_family_only():
    history, at = fleet()
    broken, i = added(history, at, (0, 13), pb=35, sn=9, cu=15)
    charges = cut(broken)
    rates = stretch_rates(broken, charges)
    families = int(broken.compartments.family.max()) + 1
    k = KEYS.index("bearing")

    def scored(factors):
        return j.judge(broken, charges, rates, table(), factors=factors).diagnosis

    plain = scored(None)
    softer = scored({"bearing|main": np.array([0.5] + [1.0] * (families - 1))})
    elsewhere = scored({"bearing|main": np.array([1.0] + [0.5] * (families - 1))})
    assert softer.score[i, k] == pytest.approx(plain.score[i, k] - 0.5 * min(plain.main[i, k], 1.5))
    assert elsewhere.score[i, k] == plain.score[i, k]
    assert softer.strength[i, k] <= plain.strength[i, k]


def test_shares_have_the_interval_of_clopper_and_pearson():
    low, high = le.interval_of(7, 8)
    assert low == pytest.approx(stats.beta.ppf(0.025, 7, 2)) and high == pytest.approx(stats.beta.ppf(0.975, 8, 1))
    assert le.interval_of(0, 0) == (0.0, 1.0)


def test_calls_are_counted_once_a_finding_by_the_strongest():
    history, at = fleet()
    broken, i = added(history, at, (0, 13), pb=35, sn=9, cu=15)
    broken, before = added(broken, at, (0, 12), pb=14, sn=4, cu=6)
    judgement = worked(broken)
    k = KEYS.index("bearing")
    assert judgement.diagnosis.strength[before, k] >= POSSIBLE and judgement.diagnosis.strength[i, k] >= PROBABLE
    day = int(broken.samples.day[i])
    right = le.confirmed(broken, judgement.diagnosis, [(1, 0, day + 3, "bearing")])
    wrong = le.confirmed(broken, judgement.diagnosis, [(1, 0, day + 3, "nothing")])
    assert sum(c.right for c in right) == 1 and sum(c.right for c in wrong) == 0
    assert sum(c.n for c in right) == sum(c.n for c in wrong) >= 1
    assert sum(c.unlooked for c in le.confirmed(broken, judgement.diagnosis, [])) >= 1
