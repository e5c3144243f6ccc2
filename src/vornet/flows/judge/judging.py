"""Judging what was loaded: one way for evaluations, pages, what-ifs and track records, so that all say the same of the same samples."""

from __future__ import annotations

from vornet.core.charges import Charges
from vornet.core.judge import Judgement, judge
from vornet.core.rates import StretchRates, stretch_rates
from vornet.flows.judge.fleet_history import Loaded


def judge_loaded(loaded: Loaded, charges: Charges, rates: StretchRates | None = None, causes: bool = True) -> Judgement:
    """The judgement of everything that was loaded, with what people taught and findings weighed; ``rates`` where they are there already;
    without ``causes`` levels and rates alone, for pages that read the causes that were kept."""
    known = stretch_rates(loaded.history, charges) if rates is None else rates
    return judge(
        loaded.history, charges, known, loaded.limits, loaded.seen, causes=causes, teaching=loaded.teaching, factors=loaded.factors,
    )  # fmt: skip
