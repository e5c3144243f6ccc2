"""Everything about one compartment: its charges, samples, measurands, forecast, and its decision opened up."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

import numpy as np

from vornet.core import job
from vornet.core import meter as meter_rules
from vornet.core.charges import Charges
from vornet.core.history import DRAIN_MATCH_DAYS
from vornet.core.judge import NONE, VERDICTS, Judgement
from vornet.core.limits import FEWEST
from vornet.core.measurands import BY_KEY, INDEX, MEASURANDS, WEAR_METALS
from vornet.core.oil_properties import BY_PROPERTY
from vornet.core.rates import StretchRates, stretch_rates
from vornet.flows.judge import decision_record, fleet_history, in_force, trials
from vornet.flows.judge.judging import judge_loaded
from vornet.flows.pages import looks
from vornet.flows.plan import planned
from vornet.flows.work import photos
from vornet.store.database import Connection, query

#: of what is wrong so many measurands are drawn first
MOST_OPEN = 4
DEFAULT_PANELS = {
    "engine": ("fe", "si", "bn", "soot_pct"), "gearbox": ("fe", "cu", "an"), "hydraulics": ("fe", "an", "v40"),
}  # fmt: skip


@dataclass(frozen=True)
class Facts:
    """A compartment's page: register and standing, the worked history, and what is known of each sample."""

    row: dict[str, Any]
    loaded: fleet_history.Loaded
    charges: Charges
    rates: StretchRates
    judgement: Judgement
    samples: dict[int, dict[str, Any]]
    baselines: dict[str, dict[str, Any]]
    intervals: list[dict[str, Any]]
    drains: list[dict[str, Any]]
    sisters: list[dict[str, Any]]
    events: list[dict[str, Any]]
    trials: list[dict[str, Any]]
    noticed: list[looks.Noticed]
    pictures: list[dict[str, Any]]
    waits: list[dict[str, Any]]

    @property
    def unit(self) -> str:
        found: str = self.row["meter_unit"]
        return found


def row_of(connection: Connection, compartment_id: int) -> dict[str, Any] | None:
    """The register's row of a compartment, where it stands, and its decision opened up."""
    row = connection.execute(query("board.compartment"), {"compartment_id": compartment_id}).fetchone()
    return None if row is None else {**row, "decision": decision_record.opened(row["decision"], row["slopes"])}


def load(connection: Connection, compartment_id: int, today: date) -> Facts | None:
    """Read and work one compartment; None when there is none with this id in the fleet."""
    mine = {"compartment_id": compartment_id}
    row = row_of(connection, compartment_id)
    if row is None:
        return None
    key = f"drain:{compartment_id}"
    row["visit"] = planned.next_by_key(connection, [key]).get(key)
    loaded, charges = fleet_history.drop_held(connection, fleet_history.load(connection, today, [compartment_id]))
    rates = stretch_rates(loaded.history, charges)
    judgement = judge_loaded(loaded, charges, rates, causes=False)
    drains = connection.execute(query("board.drains_of"), mine).fetchall()
    noticed = looks.noticed(connection, compartment_id, drains, row["meter_unit"])
    return Facts(
        row, loaded, charges, rates, judgement,
        {r["sample_id"]: r for r in connection.execute(query("board.sample_facts"), mine).fetchall()},
        {r["measurand"]: r for r in connection.execute(query("board.baselines"), {"family": row["family"]}).fetchall()},
        in_force.lengths(connection, compartment_id),
        looks.with_looks(drains, noticed),
        connection.execute(query("board.sisters"), {"unit_id": row["unit_id"]}).fetchall(),
        _events(connection, compartment_id, loaded, charges, [*_seen_events(drains), *_noticed_events(noticed)]),
        trials.listed(connection, compartment_id), noticed, photos.of_unit(connection, row["unit_id"], compartment_id, 200),
        in_force.waits_here(connection, compartment_id, today),
    )  # fmt: skip


def _seen_events(drains: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Drains at which more was seen than a clean oil, as events."""
    out = []
    for d in drains:
        bad = [f"{look.what} {look.words}" for look in looks.of_drain(d) if look.bad]
        if bad:
            out.append({"on_day": d["on_day"], "meter": d["meter"], "kind": "seen", "note": "; ".join(bad)})
    return out


def _noticed_events(noticed: list[looks.Noticed]) -> list[dict[str, Any]]:
    return [
        {"on_day": n.on, "meter": n.meter, "kind": "noticed", "note": n.words + (f", {n.note}" if n.note else "")}
        for n in noticed if n.bad or n.kind == "coolant"
    ]  # fmt: skip


def _events(
    connection: Connection, compartment_id: int, loaded: fleet_history.Loaded, charges: Charges, more: list[dict[str, Any]]
) -> list[dict[str, Any]]:  # fmt: skip
    """What was done, found, seen and noticed, with ``total`` the place along the meter: as noted, else read off samples and drains."""
    rows = [*connection.execute(query("board.events_of"), {"compartment_id": compartment_id}).fetchall(), *more]
    if not rows:
        return []
    samples = loaded.history.samples
    known = ~np.isnan(samples.total)
    day = np.concatenate([samples.day[known], charges.fill_day[~np.isnan(charges.fill)]])
    total = np.concatenate([samples.total[known], charges.fill[~np.isnan(charges.fill)]])
    order = np.argsort(day)
    changes = loaded.changes.get(int(loaded.register[0]["meter_id"]), [])
    out = []
    for r in rows:
        on = r["on_day"].toordinal()
        if r["meter"] is not None:
            at = meter_rules.running_total(r["meter"], on, changes)
        elif len(day):
            at = float(np.interp(on, day[order], total[order]))
        else:
            continue
        out.append({**r, "total": at})
    return out


def with_family(connection: Connection, facts: Facts, today: date) -> tuple[Facts, int]:
    """The same with every compartment of its family loaded beside it, and which row of them is its own."""
    rows = connection.execute(query("history.family_mates"), {"compartments": [facts.row["compartment_id"]]}).fetchall()
    loaded, charges = fleet_history.drop_held(connection, fleet_history.load(connection, today, [r["compartment_id"] for r in rows]))
    own = int(np.flatnonzero(loaded.compartment_ids == facts.row["compartment_id"])[0])
    return replace(facts, loaded=loaded, charges=charges), own


def panels_asked(facts: Facts, asked: list[str]) -> list[str]:
    """The measurands to draw: those asked for that exist here, else what is wrong and what limits first, then the usual ones for
    this kind."""
    have = [m.key for m in MEASURANDS if not np.isnan(facts.loaded.history.samples.values[:, INDEX[m.key]]).all()]
    wanted = [k for k in asked if k in have]
    if wanted:
        return wanted
    usual = DEFAULT_PANELS.get(facts.row["kind"], ("fe", "an", "v40"))
    limiting = [BY_PROPERTY[p].measurand for p in (facts.row["limiting"],) if p in BY_PROPERTY]
    first = [k for k in dict.fromkeys([*(facts.row["open_measurands"] or [])[:MOST_OPEN], *limiting]) if k in have]
    rest = [k for k in usual if k in have and k not in first]
    return [*first, *rest[: max(len(usual) - len(first), 0)]] or have[:3]


def measured(facts: Facts) -> list[str]:
    """Measurands with at least one value here, in storage order."""
    return panels_asked(facts, list(INDEX))


def sample_word(facts: Facts, i: int) -> str:
    """The verdict of sample ``i`` as a word, signed or else proposed: run_on, watch, act, stop, none or held."""
    if not facts.loaded.history.samples.usable[i]:
        return "held"
    known = facts.samples.get(int(facts.loaded.sample_ids[i]), {})
    if known.get("signed") is not None:
        return VERDICTS[known["signed"]]
    return proposed_word(facts, i)


def proposed_word(facts: Facts, i: int) -> str:
    """What was proposed for sample ``i``, as evaluated with its family; worked here alone only if it never was."""
    proposed = facts.samples.get(int(facts.loaded.sample_ids[i]), {}).get("proposed")
    return VERDICTS.get(int(facts.judgement.proposed[i]) if proposed is None else proposed, "none")


def is_signed(facts: Facts, i: int) -> bool:
    return facts.samples.get(int(facts.loaded.sample_ids[i]), {}).get("signed") is not None


def sample_detail(facts: Facts, sample_id: int) -> dict[str, Any] | None:
    """One sample opened: every value with its limits and baseline, rates of its stretch, evidence, source."""
    at = np.flatnonzero(facts.loaded.sample_ids == sample_id)
    if not len(at):
        return None
    i = int(at[0])
    samples, past = facts.loaded.history.samples, facts.judgement.past
    known = facts.samples.get(sample_id, {})
    known = {**known, "rejected": [{**r, "on": date.fromisoformat(r["on"])} for r in known.get("rejected") or []]}
    rows = []
    for m, measurand in enumerate(MEASURANDS):
        value = samples.values[i, m]
        if math.isnan(value):
            continue
        base = facts.baselines.get(measurand.key)
        mark = "act" if past.act[i, m] else "watch" if past.watch[i, m] else ""
        rows.append({
            "m": measurand, "value": float(value), "mark": mark,
            "sign": "<" if (samples.below[i] >> m) & 1 else ">" if (samples.above[i] >> m) & 1 else "",
            "watch": _limits(past.limits, 0, i, m), "act": _limits(past.limits, 1, i, m),
            "base": base if base and base["n"] >= FEWEST else None,
            "far": (float(value) - base["mean"]) / base["sd"] if base and base["n"] >= FEWEST and base["sd"] else None,
        })  # fmt: skip
    rates = []
    for k, key in enumerate(WEAR_METALS):
        rate = facts.rates.rate[i, k]
        if not math.isnan(rate):
            rates.append({
                "m": BY_KEY[key], "rate": float(rate), "se": float(facts.rates.se[i, k]),
                "rise": float(facts.rates.rise_100h[i, k]), "usual": float(facts.judgement.shift.usual[i, k]),
                "real": bool(facts.judgement.shift.real[i, k]), "bent": bool(facts.judgement.bend.real[i, k]),
            })  # fmt: skip
    return {
        "sample_id": sample_id, "known": known, "word": sample_word(facts, i), "proposed": proposed_word(facts, i),
        "signed": is_signed(facts, i), "at": i, "on": date.fromordinal(int(samples.day[i])),
        "meter": float(samples.total[i]), "oil_hours": float(facts.charges.oil_hours[i]),
        "charge": int(facts.charges.number[facts.charges.charge_of[i]]), "rows": rows, "rates": rates,
        "from_h": float(facts.rates.from_h[i]), "to_h": float(facts.rates.to_h[i]),
        "none": facts.judgement.proposed[i] == NONE,
    }  # fmt: skip


@dataclass(frozen=True)
class Around:
    """What people saw around a sample: the ``drain`` it was drawn at, None between drains; what was ``noticed`` in the charge up to
    then; the drain its charge began with, which defects found now speak of (``job_before``)."""

    drain: dict[str, Any] | None
    noticed: list[looks.Noticed]
    job_before: dict[str, Any] | None
    pictures: list[dict[str, Any]]

    def __bool__(self) -> bool:
        return bool(self.drain or self.noticed)


def around(facts: Facts, detail: dict[str, Any]) -> Around:
    """What was seen at the drain of a sample, if it was drawn at one, and noticed since the drain before."""
    on: date = detail["on"]
    own = next((d for d in facts.drains if abs((d["on_day"] - on).days) <= DRAIN_MATCH_DAYS), None)
    before = next((d for d in facts.drains if d["on_day"] < (own["on_day"] if own else on)), None)
    since = before["on_day"] if before else date.min
    last = (own["on_day"] if own else on) + timedelta(days=DRAIN_MATCH_DAYS)
    some = [n for n in facts.noticed if since <= n.on <= last and (n.bad or n.kind == "coolant")]
    odd = own is not None and any(look.what == "as found" and look.bad for look in own["looks"])
    told = before if before is not None and (odd or any(n.after == before["drain_id"] for n in some)) else None
    job = (own["extra"] or {}).get("job") if own else None
    symptoms = {n.row_id for n in some if n.kind != "item"}
    pictures = [p for p in facts.pictures if (p["job_id"] is not None and p["job_id"] == job) or p["observation_id"] in symptoms]
    return Around(own, some, told, pictures)


def _limits(limits: dict[str, tuple[np.ndarray, np.ndarray]], which: int, i: int, m: int) -> list[float]:
    return [float(limits[s][which][i, m]) for s in ("low", "high") if math.isfinite(limits[s][which][i, m])]


@dataclass(frozen=True)
class OilUse:
    """Litres per 1,000 meter units of each finished charge, oldest first; ``alarm``: '', watch or act."""

    rates: list[float]
    alarm: str


def oil_use(facts: Facts) -> OilUse:
    """How much oil each charge used: what was topped up, by the hours it ran."""
    charges, fillings = facts.charges, facts.loaded.history.fillings
    total = len(charges.comp)
    litres = np.bincount(facts.charges.charge_of_filling, fillings.in_l - fillings.out_l, total) if len(fillings.comp) else np.zeros(total)
    hours = charges.end - charges.fill
    done = ~np.isnan(hours) & (hours > 0)
    rates, alarm = job.oil_use(litres[done].tolist(), hours[done].tolist())
    return OilUse(rates, alarm)
