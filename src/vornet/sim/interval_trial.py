"""Is a proposed interval safe in truth? Simulated fleets of known ageing, decided from their bottles alone."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vornet.core.charges import cut
from vornet.core.decide import decide
from vornet.core.decision import LENGTHEN, Policy, Terms
from vornet.core.judge import judge
from vornet.core.limits import table
from vornet.core.rates import stretch_rates
from vornet.sim import ageing
from vornet.sim.ageing import INTERVAL, Cell

FAMILIES, CHARGES, NOISES, BENDS = (1, 5, 20), (2, 3, 5, 10), (1.0, 0.5), (1.0, 1.5, 2.0)
CELLS: tuple[Cell, ...] = (
    *(Cell(f, n, noise, p) for p in BENDS for noise in NOISES for f in FAMILIES for n in CHARGES),
    *(Cell(f, n, noise, 1.0, twist) for twist in ("drift", "oil", "censored") for noise in NOISES for f in FAMILIES for n in (5, 10)),
    *(Cell(f, n, noise, 1.0, "scatter") for noise in NOISES for f in FAMILIES for n in CHARGES),
)  # fmt: skip
#: proposals a cell needs, and compartments tried for them at most
FEWEST, AT_ONCE, BATCHES = 400, 600, 12


@dataclass(frozen=True)
class Found:
    """Of one cell: arrays over its compartments. ``proposed`` (NaN: not lengthened), ``chance`` true at the proposal,
    ``truly`` safe hours, ``said`` safe hours (∞ never, NaN none), ``cap`` of the evidence."""

    cell: Cell
    proposed: np.ndarray
    chance: np.ndarray
    truly: np.ndarray
    said: np.ndarray
    cap: np.ndarray

    @property
    def lengthened(self) -> np.ndarray:
        return np.asarray(~np.isnan(self.proposed))

    @property
    def proposals(self) -> int:
        return int(self.lengthened.sum())

    @property
    def mean_chance(self) -> float:
        """Mean true chance of being past a limit at a proposed lengthening."""
        return float(self.chance[self.lengthened].mean()) if self.proposals else float("nan")

    @property
    def beyond(self) -> float:
        """Share of proposals over 10 % beyond the true safe hours."""
        return float((self.proposed > 1.1 * self.truly)[self.lengthened].mean()) if self.proposals else float("nan")

    @property
    def wrongly(self) -> float:
        """Of compartments truly safe for less than 1.1 × today's interval, the share lengthened."""
        short = self.truly < 1.1 * INTERVAL
        return float(self.lengthened[short].mean()) if short.any() else float("nan")

    @property
    def rightly(self) -> float:
        """Of compartments that could truly go 30 % longer, the share lengthened."""
        long = self.truly > 1.3 * INTERVAL
        return float(self.lengthened[long].mean()) if long.any() else float("nan")

    @property
    def close(self) -> float:
        """Share of safe hours within 15 % of the truth, both up to what the evidence reaches."""
        told = ~np.isnan(self.said) & ~np.isnan(self.cap)
        said, truly = np.minimum(self.said, self.cap)[told], np.minimum(self.truly, self.cap)[told]
        return float((np.abs(said / truly - 1) <= 0.15).mean()) if told.any() else float("nan")

    @property
    def held_to(self) -> bool:
        """Is this a cell where the closeness and the courage of the answer count: straight, and enough of everything?"""
        return self.cell.bend == 1 and not self.cell.twist and self.cell.family >= 5 and self.cell.charges >= 5


def run(cell: Cell, seed: int, fewest: int = FEWEST, batches: int = BATCHES) -> Found:
    """Play a cell until it has so many proposals."""
    draws = ageing.futures(seed)
    policy = Policy(charges_needed=min(3, cell.charges), run_on_needed=min(3, cell.charges))
    parts: list[tuple[np.ndarray, ...]] = []
    count = 0
    for batch in range(batches):
        made = ageing.make(cell, AT_ONCE, seed + 1000 * batch)
        charges = cut(made.history)
        judgement = judge(made.history, charges, stretch_rates(made.history, charges), table())
        terms = [Terms()] * len(made.cv)
        decisions = decide(made.history, charges, judgement, table(), policy, terms)
        proposed = np.array([d.proposed if d.outcome == LENGTHEN and d.proposed else np.nan for d in decisions])
        chance = made.chance(np.where(np.isnan(proposed), INTERVAL, proposed), draws)
        said = np.array([np.inf if d.never else np.nan if d.safe is None else d.safe for d in decisions])
        cap = np.array([np.nan if d.evidence_cap is None else d.evidence_cap for d in decisions])
        parts.append((proposed, chance, made.safe(draws), said, cap))
        count += int((~np.isnan(proposed)).sum())
        if count >= fewest:
            break
    return Found(cell, *(np.concatenate(column) for column in zip(*parts, strict=True)))


def line(found: Found) -> str:
    """One row of the table."""
    c = found.cell

    def share(x: float) -> str:
        return "    –" if np.isnan(x) else f"{x:5.1%}"

    held = f"{share(found.close)}  {share(found.rightly)}" if found.held_to else " "
    return (
        f"  {c.family:>6} {c.charges:>7} {c.noise:>5g} {c.bend:>4g} {c.twist or 'plain':<9}{found.proposals:>9}  "
        f"{share(found.mean_chance)}  {share(found.beyond)}  {share(found.wrongly)}  {held}"
    )


HEAD = (
    "  family charges noise bend twist    proposals  chance beyond  wrongly  close  rightly\n"
    "         (asked at most 6 % in every cell, 2 % beyond true safe hours by a tenth, 10 % of what is safe for less than\n"
    "         1.1 of today; close and rightly at least 80 % where families and charges of five or more age straight)"
)
