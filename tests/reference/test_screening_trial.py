"""Does screening hold what people and labs get wrong, and leave the rest alone? A fleet of a seed that nothing was tuned
on, mistakes of known truth, played month by month. `make bench` prints the whole table over several seeds."""

import pytest

from conftest import TODAY
from vornet.sim import trial

pytestmark = pytest.mark.slow


@pytest.fixture(scope="module")
def found(db):
    return trial.run(db, 911, TODAY)


def test_mistakes_that_can_be_told_are_held(found):
    plain, caught, named, _ = (sum(column) for column in zip(*(found.caught(kind) for kind in trial.NAMED), strict=True))
    assert plain >= 40
    assert caught >= 0.9 * plain
    assert named >= 0.8 * plain


def test_healthy_bottles_are_let_in(found):
    healthy, held = found.held("")
    assert healthy >= 400
    assert held <= 0.01 * healthy


def test_a_fault_in_the_engine_is_not_taken_for_a_mistake(found):
    faults, held = found.held("fault")
    assert faults >= 15
    assert held <= 0.15 * faults
