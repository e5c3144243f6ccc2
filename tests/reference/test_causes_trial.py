"""Are causes found and named, and is nothing cried over healthy engines? A fleet of a seed and of parameter ranges that the
scoring was not tuned on. `make bench` prints the whole table over several seeds."""

import pytest

from conftest import TODAY
from vornet.sim import causes_trial, trial_fleets

pytestmark = pytest.mark.slow


@pytest.fixture(scope="module")
def found(db):
    return causes_trial.together([causes_trial.run(db, seed, TODAY, trial_fleets.OTHER) for seed in (811, 812)])


def test_clear_faults_are_spoken_of_and_named_first(found):
    faults, heard, named = found.episodes()
    assert faults >= 20
    assert heard >= 0.95 * faults
    assert named >= 0.8 * faults


def test_samples_with_a_clear_fault_are_spoken_of(found):
    samples, spoken, first = found.found(True)
    assert samples >= 80
    assert spoken >= 0.88 * samples
    assert first >= 0.85 * samples


def test_healthy_samples_are_hardly_ever_called(found):
    samples, act, watch = found.healthy()
    assert samples >= 3000
    assert act <= 0.01 * samples
    assert watch <= 0.03 * samples


def test_causes_are_spoken_of_before_the_fixed_limits(found):
    leads = found.leads()
    assert min(leads) >= 0  # the fixed limits are part of the proposal
    assert sum(lead >= 1 for lead in leads) >= 0.4 * len(leads)
