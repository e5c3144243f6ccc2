"""A week's kit and shopping: what each visit and each depot takes, in packs, with its tools; what stock will not be there."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from vornet.core import kit as rules
from vornet.flows.plan import stock
from vornet.store.database import Connection, query


@dataclass(frozen=True)
class OilLine:
    oil: str
    litres: float
    packs: rules.Packs
    pack_known: bool


@dataclass(frozen=True)
class DepotKit:
    """What one depot needs for the visits of some days."""

    depot: str
    oils: tuple[OilLine, ...]
    parts: tuple[rules.Thing, ...]
    tools: tuple[str, ...]
    wrenches: tuple[tuple[float, float], ...]
    unknown: tuple[str, ...]
    visits: tuple[stock.Visit, ...]


def of_days(connection: Connection, first: date, last: date, today: date) -> list[DepotKit]:
    """The kit of every depot with visits between two days."""
    names = {r["depot_id"]: r["name"] for r in connection.execute(query("weeks.depots")).fetchall()}
    pack_of = {o["name"]: o["facts"].get("pack_l") for o in connection.execute(query("register.oils")).fetchall()}
    by_depot: dict[str, list[stock.Visit]] = {}
    for v in stock.planned(connection, today, max(first, today), last):
        by_depot.setdefault(names.get(v.depot_id or 0, "no depot"), []).append(v)
    return [_of_depot(name, mine, pack_of) for name, mine in sorted(by_depot.items())]


def _of_depot(name: str, visits: list[stock.Visit], pack_of: dict[str, float | None]) -> DepotKit:
    whole = rules.summed(t for v in visits for t in v.things)
    oils = []
    for t in whole:
        if t.unit == rules.LITRES:
            oil = t.name.removeprefix("oil ")
            pack = pack_of.get(oil)
            oils.append(OilLine(oil, t.amount, rules.packs(t.amount, pack or stock.USUAL_PACK_L), bool(pack)))
    return DepotKit(
        name, tuple(oils), tuple(t for t in whole if t.unit == rules.PIECES), tuple(sorted({x for v in visits for x in v.tools})),
        tuple(sorted({w for v in visits for w in v.wrenches})), tuple(dict.fromkeys(u for v in visits for u in v.unknown)), tuple(visits),
    )  # fmt: skip


def rows(found: list[DepotKit]) -> list[dict[str, Any]]:
    """The kit as a table for other programs."""
    out: list[dict[str, Any]] = []
    for d in found:
        out += [{"depot": d.depot, "what": o.oil, "amount": round(o.litres, 2), "unit": "L", "packs": o.packs.packs, "pack_l": o.packs.pack_l,
                 "left_in_last_l": round(o.packs.left_l, 2), "instead": ""} for o in d.oils]  # fmt: skip
        out += [{"depot": d.depot, "what": t.name, "amount": t.amount, "unit": t.unit, "packs": None, "pack_l": None, "left_in_last_l": None,
                 "instead": ", ".join(t.instead)} for t in d.parts]  # fmt: skip
    return out


def shopping(connection: Connection, today: date) -> list[stock.Line]:
    """What is to be ordered: things counted somewhere that will run out or fall below the least to have."""
    return [line for line in stock.lines(connection, today) if line.outlook.order > 0]


#: no week is planned before or behind these days
FIRST_DAY, LAST_DAY = date(1990, 1, 1), date(2190, 1, 1)


def week_of(on: date, begins: int = 0) -> tuple[date, date]:
    """First and last day of the week that holds a day, of the nearest one that is planned in; ``begins`` on this weekday, 0 a Monday.

    >>> week_of(date(2026, 1, 15)), week_of(date.max)[0] < date.max
    ((datetime.date(2026, 1, 12), datetime.date(2026, 1, 18)), True)
    >>> week_of(date(2026, 1, 18), 6), week_of(date(2026, 1, 17), 6)[1]
    ((datetime.date(2026, 1, 18), datetime.date(2026, 1, 24)), datetime.date(2026, 1, 17))
    """
    on = min(max(on, FIRST_DAY), LAST_DAY)
    first = on - timedelta(days=(on.weekday() - begins) % 7)
    return first, first + timedelta(days=6)
