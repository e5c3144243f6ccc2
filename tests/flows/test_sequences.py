"""Sequences of permitted actions: whatever was done before, what is in force holds (``sequences``). Longer in ``make bench sequences``."""

import pytest
from hypothesis import HealthCheck, settings
from hypothesis.stateful import run_state_machine_as_test
from sequences import Intervals


@pytest.mark.slow
def test_whatever_is_done_in_whatever_order(db):
    class Here(Intervals):
        pass

    Here.db = db
    run_state_machine_as_test(
        Here, settings=settings(max_examples=5, stateful_step_count=30, deadline=None, suppress_health_check=list(HealthCheck)))  # fmt: skip
