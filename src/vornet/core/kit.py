"""What a visit takes along: things by name and amount, wrenches that cover every torque, and what stock will not be there in time."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from vornet.core.job import BOTTLE, PARTS_OF

#: spans of torque wrenches as they are sold, N·m; common practice, no source
WRENCHES = ((5.0, 25.0), (20.0, 100.0), (40.0, 200.0), (100.0, 500.0), (200.0, 1000.0))
LITRES, PIECES = "L", "pcs"
BOTTLE_THING = "sample bottle and label"
#: what every visit at which oil flows uses up; common practice, no source
CONSUMABLES = (("pair of gloves", 2.0), ("rag", 4.0), ("drip mat", 1.0))


@dataclass(frozen=True)
class Thing:
    """Something a visit uses: litres of an oil, or pieces of a part; ``instead``: what may take its place, ``never``: what must not."""

    name: str
    amount: float
    unit: str
    instead: tuple[str, ...] = ()
    never: tuple[str, ...] = ()


def oil_thing(oil: str) -> str:
    return f"oil {oil}"


def things(document: Mapping[str, Any], sample: bool, task: str = "drain") -> list[Thing]:
    """What one compartment's drain, or its bottle, uses. What the register does not know is left out: the kit says that it is unknown.

    >>> [(t.name, t.amount) for t in things({"oil": "D 15W-40", "capacity_l": 28, "filters": [{"part": "F-1", "count": 2}]}, True)]
    [('oil D 15W-40', 28.0), ('F-1', 2.0), ('sample bottle and label', 1.0)]
    """
    if task == BOTTLE:
        return [Thing(BOTTLE_THING, 1.0, PIECES)]
    if task in PARTS_OF:  # a washable one goes back
        return summed(
            Thing(str(f["part"]), float(f.get("count", 1)), PIECES, tuple(f.get("approved", ())), tuple(f.get("barred", ())))
            for f in document.get(PARTS_OF[task], ()) if f.get("part") and not f.get("washable")
        )  # fmt: skip
    out = []
    capacity = document.get("capacity_l") or document.get("system_volume_l")
    if document.get("oil") and capacity:
        out.append(Thing(oil_thing(document["oil"]), float(capacity), LITRES))
    for f in document.get("filters", ()):
        out.append(Thing(f["part"], float(f.get("count", 1)), PIECES, tuple(f.get("approved", ())), tuple(f.get("barred", ()))))
    for s in document.get("seals", ()):
        if s.get("single_use", True):
            name = " ".join(filter(None, [s.get("kind") or "seal", s.get("part")]))
            out.append(Thing(name, float(s.get("count", 1)), PIECES))
    if sample:
        out.append(Thing(BOTTLE_THING, 1.0, PIECES))
    return summed(out)


def summed(found: Iterable[Thing]) -> list[Thing]:
    """Things of one name put together, in the order they came."""
    out: dict[str, Thing] = {}
    for t in found:
        known = out.get(t.name)
        amount = t.amount + (known.amount if known else 0.0)
        out[t.name] = Thing(t.name, amount, t.unit, (known or t).instead, (known or t).never)
    return list(out.values())


@dataclass(frozen=True)
class Packs:
    """Litres in packs: ``left_l`` stays in the last one."""

    pack_l: float
    packs: int
    left_l: float


def packs(litres: float, pack_l: float) -> Packs:
    """
    >>> packs(56, 20)
    Packs(pack_l=20, packs=3, left_l=4)
    """
    n = math.ceil(litres / pack_l - 1e-9)
    return Packs(pack_l, n, n * pack_l - litres)


def wrenches(torques: Sequence[tuple[float, float]]) -> list[tuple[float, float]]:
    """The fewest wrenches whose spans cover every (least, most) torque that is asked for, N·m; a torque that none covers stands as it is.

    >>> wrenches([(65, 80), (24, 28)]), wrenches([(5, 7), (180, 210)]), wrenches([(1500, 1600)])
    ([(20.0, 100.0)], [(5.0, 25.0), (100.0, 500.0)], [(1500, 1600)])
    """
    left = list(dict.fromkeys(torques))
    out: list[tuple[float, float]] = []
    while left:
        covers = {w: [t for t in left if w[0] <= t[0] and t[1] <= w[1]] for w in WRENCHES}
        best = max(WRENCHES, key=lambda w: (len(covers[w]), -w[1]))
        if not covers[best]:
            out += left
            break
        out.append(best)
        left = [t for t in left if t not in covers[best]]
    return sorted(out)


def torques_of(document: Mapping[str, Any]) -> list[tuple[float, float]]:
    """Torques that a drain asks for, (least, most) N·m: of its plugs and of filters tightened to one."""
    out = []
    for d in document.get("drain_points", ()):
        found = [t for t in (d.get("torque_min_nm"), d.get("torque_max_nm")) if t]
        if found:
            out.append((float(min(found)), float(max(found))))
    out += [(float(f["torque_nm"]),) * 2 for f in document.get("filters", ()) if f.get("torque_nm")]
    return out


def tools(document: Mapping[str, Any]) -> list[str]:
    """Sockets, plug and filter wrenches, and what fills it; torque wrenches apart (``wrenches``)."""
    out = {f"socket {d['wrench']}" for d in document.get("drain_points", ()) if d.get("wrench")}
    out |= {f"fill plug key {p['size']}" for p in document.get("fill_points", ()) if p.get("size")}
    for f in document.get("filters", ()):
        out.add("filter cap wrench" if f.get("tightening") == "torque" else "filter wrench")
    fills = {"pump": "pump", "gun": "suction gun", "funnel": "funnel"}.get(str(document.get("fill_method", "")))
    if fills:
        out.add(fills)
    return sorted(out)


# ---- stock -----------------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class Use:
    """So much of a thing is used on a day, by whom."""

    day: int
    amount: float
    by: str


@dataclass(frozen=True)
class Outlook:
    """What becomes of a thing at a depot: ``runs_out`` on the day (None: never in sight) when ``short`` is missing at the end; ``order``
    so much by ``order_by`` so that it is there in time and the least to have is kept; ``too_late`` where no order arrives in time."""

    there: float
    needed: float
    runs_out: int | None
    short: float
    order: float
    order_by: int | None
    too_late: bool
    waits: tuple[str, ...]


def outlook(there: float, uses: Sequence[Use], today: int, lead_days: int, least: float = 0.0) -> Outlook:
    """
    >>> outlook(60, [Use(10, 40, "a"), Use(20, 40, "b")], 5, 7)
    Outlook(there=60, needed=80.0, runs_out=20, short=20, order=20.0, order_by=13, too_late=False, waits=('b',))
    >>> outlook(60, [Use(10, 40, "a")], 5, 7, least=30)
    Outlook(there=60, needed=40.0, runs_out=None, short=0, order=10, order_by=5, too_late=False, waits=())
    """
    left, runs_out = there, None
    waits = []
    below = None
    for u in sorted(uses, key=lambda u: u.day):
        left -= u.amount
        if left < -1e-9:
            runs_out = u.day if runs_out is None else runs_out
            waits.append(u.by)
        if left < least - 1e-9 and below is None:
            below = u.day
    needed = math.fsum(u.amount for u in uses)
    order = max(least - left, 0.0)
    by = runs_out if runs_out is not None else below if below is not None else (today if order > 0 else None)
    order_by = None if order <= 0 or by is None else max(by - lead_days, today)
    late = runs_out is not None and runs_out - lead_days < today
    return Outlook(there, needed, runs_out, max(-left, 0), order, order_by, late, tuple(dict.fromkeys(waits)))
