"""The drain job: its steps in the compartment's own order, its kit, its arithmetic, and what stops it.

A job's entries are only ever added to; ``fold`` says what holds now. Volumes in L, levels 0 at MIN, 1 at MAX.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from vornet.core import drain, volumes
from vornet.core.drain import DrainFacts, DrainFigures

#: what a part of a visit is for: the oil is changed, or a bottle is drawn between two drains
DRAIN, BOTTLE = "drain", "sample"
#: or one part of it is changed or cleaned while the oil stays in
FILTER_ONLY, MAGNETIC, BREATHER = "filter", "magnetic_filter", "breather"
PART_TASKS: dict[str, str] = {FILTER_ONLY: "Filter of ", MAGNETIC: "Magnetic filter of ", BREATHER: "Breather of "}
#: where a part task finds what it is about in the register
PARTS_OF: dict[str, str] = {FILTER_ONLY: "filters", MAGNETIC: "magnetic_filters", BREATHER: "breathers"}
#: entries of these keys are a list: each one counts
LISTS = ("pour", "level_read", "photo", "drip")
MAGNET = ("clean", "fine fuzz", "a few flecks", "thick furry build-up", "slivers or chips")
OIL_LOOKS = {"normal": "dark, clean", "milky": "milky: water", "fuel": "smells of fuel", "grit": "gritty", "glitter": "glitters",
             "coolant": "coolant in it"}  # fmt: skip
FILTER_LOOKS = {"clean": "clean pleats", "metal": "metal in the pleats", "sludge": "sludge", "collapsed": "collapsed",
                "seal_left": "old seal left on the face"}  # fmt: skip
STRAINER_LOOKS = {"clean": "clean", "sludge": "sludge", "chunks": "chunks"}
AIR_FILTERS = {"clean": "clean", "dusty": "dusty", "blocked": "blocked", "leaking": "badly seated, leaking"}
AIR_ACTIONS = {"left": "left as it was", "blown": "blown out below the maximum pressure", "replaced": "replaced"}
AS_FOUND = {"over_tight": "over-tight", "fused_washer": "fused or doubled washer", "loose_clamp": "loose clamp",
            "loose_filter": "loose filter", "leak": "leaking", "nothing": "nothing odd"}  # fmt: skip
TIGHTENED = {"turns": "by turns after contact", "hand": "hand-tight", "torque": "to a torque", "back_off": "to contact, back off, again",
             "feel": "by feel"}  # fmt: skip
#: what is looked after when a filter is changed, for whoever asks to be reminded
FILTER_CHECKS = ("old seal is off the face", "face is clean", "new seal is oiled", "film is off", "arrow points with the flow")
BREATHERS = {"clean": "clean", "oily": "oily", "blocked": "blocked"}
PART_ACTIONS = {"cleaned": "cleaned and refitted", "replaced": "replaced", "left": "left as it was"}
WAYS = {"plug": "drain plug", "valve": "valve and hose", "suction": "suction"}
WARMTH = {"hot": "hot", "warm": "warm", "cool": "cool"}


@dataclass(frozen=True)
class Stop:
    """A reason to stop: what is seen, what to do now, and whether oil is still in."""

    key: str
    words: str
    do_now: str
    oil_left_in: bool


STOPS: dict[str, Stop] = {
    s.key: s
    for s in (
        Stop("fill_plug", "Fill plug will not open",
             "Leave the oil in and the drain shut: a drained box that cannot be filled is stranded. Hand it to a workshop.", True),
        Stop("drain_plug", "Drain plug rounded or seized", "Leave it. Do not heat or cut it here. Hand it to a workshop.", True),
        Stop("chips", "Slivers or chips on the magnet",
             "Keep what came off the magnet. Do not run it. Tell the analyst before anything is refilled.", False),
        Stop("coolant", "Coolant in the oil",
             "Do not run the engine. Keep a bottle of it. It needs a pressure test before new oil goes in.", False),
        Stop("filter", "Filter collapsed", "Search the housing for pieces before a new element goes in. Keep the old one.", False),
        Stop("unsafe", "Not safe to go on", "Make it safe, leave it, tell the workshop lead.", True),
    )
}  # fmt: skip


@dataclass(frozen=True)
class Step:
    """One screen: its key, its heading, and the caution that belongs there."""

    key: str
    title: str
    caution: str = ""


_STEPS: dict[str, Step] = {
    s.key: s
    for s in (
        Step("kit", "Is it all here?"),
        Step("safe", "Make it safe", "Level ground, brake on, wheels chocked. Supports under the lifting points and a push test before "
             "anyone goes under; a second support as a back-up. Run engines only where the exhaust can leave. Dirt is washed off and dried, "
             "dry debris cleared first: it burns."),
        Step("meter", "Read the meter"),
        Step("fill_open", "Does the fill plug open?", "Open it before the drain. If it will not open, stop here."),
        Step("level", "Level before the drain", "Clean round the cap first. Never open a hot, pressurised coolant cap."),
        Step("warm", "Warm it through", "Hot oil burns. Warm, not scalding; keep rags off the exhaust."),
        Step("sample", "Catch the sample", "Gloves and eye protection: used oil harms skin."),
        Step("drain", "Let it out", "Hot oil burns, and spilt oil is slippery. Gloves and eye protection."),
        Step("filter", "The filter", "The housing may hold about a litre: slacken the cap first and let air in."),
        Step("looks", "What was in it"),
        Step("strainer", "The strainer"),
        Step("air", "The air filter", "Blow out only below the maximum pressure, eyes covered, or not at all."),
        Step("out", "How much came out"),
        Step("shut", "Every drain shut", "Start threads by hand. Over-tightening strips plastic and aluminium."),
        Step("pour", "Fill it", "Adding is easy, removing is not: overfilled oil foams and pushes out of the vents."),
        Step("prove", "Prove it", "Running: keep clear of belts and fans, and let the exhaust out."),
        Step("magnetic", "The magnetic filter", "Gloves: slivers cut. Wipe it off on paper, not into the wash."),
        Step("breather", "The breather", "Clean round it first; what falls in stays in."),
        Step("end", "Finish", "Used oil and filters go to a licensed collector; never on the ground, never mixed with coolant."),
    )
}  # fmt: skip
_FILL_FIRST = ("gearbox", "axle", "differential", "final_drive", "primary")


def fills_first(kind: str, document: Mapping[str, Any]) -> bool:
    """Whether the fill plug has to be proven open before a drain is touched: a drained box that cannot be filled is stranded.

    >>> fills_first("axle", {}), fills_first("engine", {})
    (True, False)
    """
    return kind in _FILL_FIRST or document.get("level_method") == "overflow"


def steps(kind: str, document: Mapping[str, Any], schools: Mapping[str, str], sample: bool, task: str = DRAIN) -> tuple[Step, ...]:
    """The steps of one compartment's drain in its own order; of a bottle alone, the few it takes.

    ``schools``: options in force (core.schools). A box with a fill plug proves that it opens first; oil
    that is drained after cooling is not warmed; the filter comes off before, while or after it drains.
    """
    if task in PART_TASKS:
        own = {FILTER_ONLY: ("filter", "prove"), MAGNETIC: ("magnetic",), BREATHER: ("breather",)}[task]
        return tuple(_STEPS[k] for k in ("safe", "meter", *own, "end"))
    if task == BOTTLE:
        warm = () if schools.get("drain_temperature") == "cooled" else ("warm",)
        return tuple(_STEPS[k] for k in ("safe", "meter", *warm, "sample", "end"))
    order = ["safe", "meter"]
    if fills_first(kind, document):
        order.append("fill_open")
    order.append("level")
    if schools.get("drain_temperature") != "cooled":
        order.append("warm")
    body = ["drain", "looks"]
    if sample:
        body.insert(0, "sample")
    has_filter = bool(document.get("filters"))
    if has_filter:
        at = {"before": 0, "during": body.index("drain") + 1}.get(schools.get("filter_order", "after"), len(body))
        body.insert(at, "filter")
    order += body
    if document.get("strainers"):
        order.append("strainer")
    if kind in ("engine", "compressor"):
        order.append("air")
    order += ["out", "shut", "pour", "prove", "end"]
    return tuple(_STEPS[k] for k in order)


# ---- what is needed --------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class KitLine:
    """One thing to have at hand; ``unknown`` when the register does not say."""

    what: str
    detail: str = ""
    unknown: bool = False


@dataclass(frozen=True)
class Kit:
    """What one drain needs. ``refill`` None when the capacity is unknown."""

    lines: tuple[KitLine, ...]
    refill: volumes.Refill | None
    pack_l: float
    pan_l: float | None


def kit(document: Mapping[str, Any], sample: bool, pack_l: float, task: str = DRAIN) -> Kit:
    """Oil in packs, filters, seals, bottle, tools and pan for one compartment as the register knows it."""
    if task in PART_TASKS:
        return _part_kit(document, task, pack_l)
    if task == BOTTLE:
        return Kit((KitLine("Sample bottle and label", "capped until the moment"), KitLine("Tube or valve fitting")), None, pack_l, None)
    lines: list[KitLine] = []
    capacity = document.get("capacity_l") or document.get("system_volume_l")
    refill = volumes.refill(capacity, pack_l, first_pour_share=drain.FIRST_SHARE) if capacity else None
    if refill is None:
        lines.append(KitLine("Oil", "how much is not on record", True))
    for f in document.get("filters", ()):
        lines.append(KitLine(f"{f.get('count', 1)} × filter {f['part']}", "never " + ", ".join(f["barred"]) if f.get("barred") else ""))
    for s in document.get("seals", ()):
        if s.get("single_use", True):
            name = " ".join(filter(None, [s.get("kind") or "seal", s.get("part")]))
            lines.append(KitLine(f"{s.get('count', 1)} × {name}", s["place"]))
    if document.get("drain_points") and not document.get("seals"):
        lines.append(KitLine("Drain seals", "not on record: look before the oil is out", True))
    if sample:
        lines.append(KitLine("Sample bottle and label", "capped until the moment"))
    tools = sorted({d["wrench"] for d in document.get("drain_points", ()) if d.get("wrench")})
    if tools:
        lines.append(KitLine("Socket " + ", ".join(tools)))
    torques = [t for d in document.get("drain_points", ()) for t in (d.get("torque_min_nm"), d.get("torque_max_nm")) if t]
    if torques:
        lines.append(KitLine(f"Torque wrench {min(torques):g}–{max(torques):g} N·m"))
    elif document.get("drain_points"):
        lines.append(KitLine("Drain torque", "not on record: take it from the manual", True))
    fills = {"pump": "Pump", "gun": "Suction gun", "funnel": "Funnel"}.get(str(document.get("fill_method", "")))
    if fills:
        lines.append(KitLine(fills, ", ".join(p["place"] for p in document.get("fill_points", ()))))
    holds = document.get("system_volume_l") or capacity
    return Kit(tuple(lines), refill, pack_l, None if not holds else float(holds))


def _part_kit(document: Mapping[str, Any], task: str, pack_l: float) -> Kit:
    lines = []
    for f in document.get(PARTS_OF[task], ()):
        name = f.get("part") or f.get("place", "part")
        never = "never " + ", ".join(f["barred"]) if f.get("barred") else ""
        lines.append(KitLine(f"{f.get('count', 1)} × {name}", never or ("washed and refitted" if f.get("washable") else "")))
    lines.append(KitLine("Oil to fill it up", document.get("oil", "")))
    return Kit(tuple(lines), None, pack_l, None)


# ---- what was entered ------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class Entry:
    """Something said at a time by someone; ``part`` None for the visit."""

    entry_id: str
    part: int | None
    key: str
    value: Any
    at: float
    by: str


@dataclass
class Said:
    """What holds for one part (or the visit): the latest of each key, lists whole, and what others said."""

    now: dict[str, Any] = field(default_factory=dict)
    lists: dict[str, list[Any]] = field(default_factory=dict)
    others: dict[str, list[tuple[str, Any]]] = field(default_factory=dict)

    def get(self, key: str, otherwise: Any = None) -> Any:
        return self.now.get(key, otherwise)


def fold(entries: Iterable[Entry]) -> dict[int | None, Said]:
    """What holds now, per part: by time, then by id, so that the order of arrival does not matter.

    Two people who said different things about one key both stay: the later one holds, the other is in
    ``others`` with the name of who said it.
    """
    out: dict[int | None, Said] = {}
    by: dict[tuple[int | None, str], str] = {}
    for e in sorted(entries, key=lambda e: (e.at, e.entry_id)):
        said = out.setdefault(e.part, Said())
        if e.key in LISTS:
            taken_back = isinstance(e.value, dict) and e.value.get("taken_back")
            mine = said.lists.setdefault(e.key, [])
            if taken_back:
                said.lists[e.key] = [v for v in mine if v.get("id") != e.value["taken_back"]]
            else:
                mine.append({**e.value, "id": e.entry_id} if isinstance(e.value, dict) else {"value": e.value, "id": e.entry_id})
            continue
        before = said.now.get(e.key)
        who = by.get((e.part, e.key))
        if before is not None and before != e.value and who is not None and who != e.by:
            said.others.setdefault(e.key, []).append((who, before))
        said.now[e.key] = e.value
        by[(e.part, e.key)] = e.by
    return out


def level_before(said: Said) -> float | None:
    """The level found, between the marks; of a two-sided axle the lower side's."""
    found = [said.get(k) for k in ("level_before", "level_before_left", "level_before_right")]
    return min((float(v) for v in found if v is not None), default=None)


def level_after(said: Said) -> float | None:
    """The level read last once it had run; of two sides the lower one's last."""
    last: dict[str, float] = {}
    for v in said.lists.get("level_read", ()):
        if v.get("run"):
            last[str(v.get("side") or "")] = float(v["reading"])
    return min(last.values(), default=None)


def fitted(document: Mapping[str, Any], said: Said) -> str | None:
    """Why the filter that was fitted may not stay: one that is barred here; None when nothing is wrong with it.

    >>> fitted({"filters": [{"part": "F-1", "barred": ["F-9 short"]}]}, Said({"filter_part": "f-9 SHORT"}))
    'F-9 short is barred here: a look-alike that starves it'
    """
    part = str(said.get("filter_part") or "").strip().casefold()
    for f in document.get("filters", ()):
        for barred in f.get("barred", ()):
            if part and part == str(barred).strip().casefold():
                return f"{barred} is barred here: a look-alike that starves it"
    return None


# ---- what follows ----------------------------------------------------------------------------------------------
def facts_of(document: Mapping[str, Any], said: Said) -> DrainFacts:
    """What one part's entries say of its drain."""
    before, out_l = level_before(said), said.get("out_l")
    return DrainFacts(
        level_before=before, out_l=None if out_l is None else float(out_l),
        out_kind=str(said.get("out_kind", "measured")),
        filter_changed=said.get("filter_changed", "yes" if document.get("filters") else "no") == "yes",
        prefilled=said.get("prefilled") == "yes", poured_l=sum(float(p["litres"]) for p in said.lists.get("pour", ())),
        level_after=level_after(said),
    )  # fmt: skip


def figures(document: Mapping[str, Any], said: Said, pour: str = "approach") -> DrainFigures:
    """What follows from one part's entries. ``pour``: the school in force. Raises InputError when they cannot be."""
    return drain.figures(drain.sump_of(document), facts_of(document, said), pour)


def open_drains(document: Mapping[str, Any], said: Said) -> list[str]:
    """Drain points not yet confirmed shut; an unnamed one when the register knows none."""
    places = [d["place"] for d in document.get("drain_points", ())] or ["drain"]
    shut = said.get("shut") or {}
    return [p for p in places if not (isinstance(shut, dict) and shut.get(p))]


def meter_key(meter_no: int) -> str:
    """Under which key a visit's entries hold the reading of a unit's first or second meter."""
    return "meter_2" if meter_no == 2 else "meter"


def wanting(document: Mapping[str, Any], said: Said, visit: Said, meter_no: int = 1, task: str = DRAIN) -> list[tuple[str, str]]:
    """What still has to be entered before a part can be finished: (key, sentence). ``meter_no``: the meter it counts."""
    out = []
    if visit.get(meter_key(meter_no)) is None:
        out.append(("meter", "the meter has not been read"))
    if task == BOTTLE:
        return out if said.get("sample_no") else [*out, ("sample", "the bottle has no number")]
    if task in (MAGNETIC, BREATHER):
        return out if said.get("part_action") else [*out, ("part_action", "say what was done with it")]
    if fitted(document, said) is not None and said.get("filter_changed") != "no":
        out.append(("filter_part", fitted(document, said) or ""))
    if task == FILTER_ONLY:
        return [*out, *_leaks(said)]
    if fills_first(str(document.get("kind", "")), document) and said.get("fill_open") != "yes":
        out.append(("fill_open", "the fill plug is not proven open"))
    still = open_drains(document, said)
    if still:
        out.append(("shut", f"not confirmed shut: {', '.join(still)}"))
    if not said.lists.get("pour"):
        out.append(("pour", "nothing has been poured in"))
    out += _leaks(said)
    away = said.get("parts_out") or 0
    if away and said.get("parts_in") != away:
        out.append(("parts_in", f"{away:g} parts came out, {said.get('parts_in') or 0:g} went back"))
    return out


def _leaks(said: Said) -> list[tuple[str, str]]:
    if said.get("leaks") is None:
        return [("leaks", "the leak check is missing")]
    if said.get("leaks") != "none" and not said.get("defer"):
        return [("leaks", "it leaks: put that off with an owner and a day, or stop")]
    return []


def suggests_stop(said: Said) -> str | None:
    """The stop that what was seen calls for, if any: chips on a magnet, coolant in the oil, a collapsed filter."""
    magnets = said.get("magnets") or {}
    if any(int(g) == 4 for g in magnets.values()):
        return "chips"
    if "coolant" in (said.get("oil_looks") or ()):
        return "coolant"
    if "collapsed" in (said.get("filter_looks") or ()):
        return "filter"
    return None


def worst_magnet(said: Said) -> int | None:
    grades = [int(g) for g in (said.get("magnets") or {}).values()]
    return max(grades) if grades else None


def marker_share(before: float, after: float, new: float, sd: float) -> tuple[float, float] | None:
    """Share of old oil left after a drain-and-fill from a marker element, with its standard deviation.

    f = (after − new)/(before − new); ``sd`` one standard deviation of each result. None when before and
    new are too close (within 3 sd) to tell.
    """
    span = before - new
    if abs(span) <= 3 * sd:
        return None
    share = (after - new) / span
    spread = sd / abs(span) * (1 + share**2 + (1 - share) ** 2) ** 0.5
    return share, spread


def oil_use(litres: Sequence[float], hours: Sequence[float]) -> tuple[list[float], str]:
    """Oil used per 1,000 h of each charge, oldest first, and whether the last one stands out: '', 'watch' or 'act'.

    Watch above the mean of the earlier charges by 2 standard deviations and half as much again, act by 3 and
    twice as much; at least three earlier charges. Common practice, no source.
    """
    rates = [1000 * v / h for v, h in zip(litres, hours, strict=True) if h > 0]
    if len(rates) < 4:
        return rates, ""
    before = rates[:-1]
    mean = sum(before) / len(before)
    sd = (sum((x - mean) ** 2 for x in before) / (len(before) - 1)) ** 0.5
    last = rates[-1]
    if mean > 0 and last > mean + 3 * sd and last > 2 * mean:
        return rates, "act"
    if mean > 0 and last > mean + 2 * sd and last > 1.5 * mean:
        return rates, "watch"
    return rates, ""
