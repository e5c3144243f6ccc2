"""Jobs on days."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from vornet.core import level as rules
from vornet.flows.calc.base import Answer, Calculator, Given, answered, asked

MOST_DAYS, MOST_JOBS = 400, 2000


#: three visits that do not fit on the day they are due
FIRST = [
    {"id": name, "depot": "Quay", "hours": 5, "earliest": 0, "latest": 4, "due": 2, "loss_early_per_day": 1, "loss_late_per_day": 3}
    for name in ("ferry", "crane", "tug")
]


class DepotIn(Given):
    hours: Annotated[list[Annotated[float, Field(ge=0, le=1e5)]], Field(max_length=MOST_DAYS)]
    bays: Annotated[list[Annotated[int, Field(ge=0, le=10_000)]] | None, Field(max_length=MOST_DAYS)] = None


class JobIn(Given):
    id: Annotated[str, Field(min_length=1, max_length=120)]
    depot: Annotated[str, Field(min_length=1, max_length=120)]
    hours: Annotated[float, Field(ge=0, le=1e5)]
    earliest: Annotated[int, Field(ge=-100_000, le=100_000)]
    latest: Annotated[int, Field(ge=-100_000, le=100_000)]
    due: Annotated[float, Field(ge=-1e5, le=1e5)]
    loss_early_per_day: Annotated[float, Field(ge=0, le=1e9)]
    loss_late_per_day: Annotated[float, Field(ge=0, le=1e9)]
    days: Annotated[list[int] | None, Field(max_length=MOST_DAYS)] = None


class LevelIn(Given):
    days: Annotated[int, asked("Days", "", 5, ge=0, le=MOST_DAYS)]
    depots: Annotated[
        dict[str, DepotIn],
        asked("Depots: name and crew hours of each day, a line each", "", {"Quay": {"hours": [8, 8, 8, 8, 4]}}, max_length=100),
    ]
    jobs: Annotated[
        list[JobIn],
        asked("Jobs: name, depot, hours, earliest, latest, due, loss a day early, loss a day late; a line each", "", FIRST,
              max_length=MOST_JOBS),
    ]  # fmt: skip


class PlacedOut(Answer):
    id: str
    day: int


class LevelOut(Answer):
    placed: Annotated[list[PlacedOut], answered("on its day")]
    unplaced: Annotated[list[str], answered("without a day")]
    loss: Annotated[float, answered("lost")]
    optimal: bool


def level(given: LevelIn) -> LevelOut:
    """Days for jobs: as few without one as can be, then the least loss, never more than a day holds."""
    depots = {name: rules.Depot(tuple(d.hours), None if d.bays is None else tuple(d.bays)) for name, d in given.depots.items()}
    jobs = [rules.Job(j.id, j.depot, j.hours, j.earliest, j.latest, j.due, j.loss_early_per_day, j.loss_late_per_day,
                      None if j.days is None else tuple(j.days)) for j in given.jobs]  # fmt: skip
    found = rules.level(given.days, depots, jobs)
    placed = [PlacedOut(id=j.id, day=found.placed[j.id]) for j in given.jobs if j.id in found.placed]
    return LevelOut(placed=placed, unplaced=list(found.unplaced), loss=found.loss, optimal=found.optimal)


CALCULATORS = (
    Calculator(
        "level", LevelIn, LevelOut, level, "Jobs on days",
        "integer programme: first as few unplaced as can be, then least Σ early·(due − day)⁺ + late·(day − due)⁺; hours and bays of a day "
        f"are never exceeded; a time limit of {rules.SECONDS:g} s",
        "HiGHS (Huangfu and Hall 2018)",
    ),
)  # fmt: skip
