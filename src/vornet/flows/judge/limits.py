"""Keeping limits: the set in force, what history says beside it, what would change before anything is saved, versions."""

from __future__ import annotations

import csv
import io
import json
from collections import Counter
from collections.abc import Iterable
from dataclasses import asdict, dataclass, replace
from datetime import date
from typing import Any

import numpy as np

from vornet.core import measures, precision
from vornet.core.errors import InputError
from vornet.core.judge import VERDICTS
from vornet.core.limits import DUTIES, FixedLimit, StatLimits, check_limit, duty_of, statistical_limits
from vornet.core.measurands import BY_KEY, INDEX
from vornet.core.precision import PRECISION, Precision
from vornet.core.rates import stretch_rates
from vornet.flows.house import fleets
from vornet.flows.judge import evaluate, fleet_history, taught
from vornet.flows.judge.judging import judge_loaded
from vornet.io import tables
from vornet.io.cells import has_decimal_comma
from vornet.store import queue
from vornet.store.database import Connection, Location, opened, query

DUTY_WORDS = {
    "diesel_engine": "Diesel engines", "gas_engine": "Gas engines", "gear": "Gearboxes and axles", "hydraulics": "Hydraulics",
}  # fmt: skip
BASIS_WORDS = {"absolute": "as it is", "above_new": "above new oil", "percent": "% from new oil"}
METHODS = ("normal", "lognormal", "percentile", "robust")
#: changes listed of a what-if; all are counted
MOST_LISTED = 60
#: samples that a set of limits is tried on while somebody waits
MOST_TRIED = 12_000


@dataclass(frozen=True)
class Change:
    """A sample whose proposal would change."""

    sample_id: int
    compartment_id: int
    unit: str
    compartment: str
    on: date
    before: str
    after: str


def in_force(connection: Connection, today: date) -> dict[str, Any]:
    """The version in force: {limit_set_id, version, effective_from, rows}."""
    row = connection.execute(query("register.default_limits"), {"today": today}).fetchone()
    assert row is not None
    return {**row, "rows": [FixedLimit(**r) for r in row["limits"]]}


def to_change(connection: Connection, today: date) -> dict[str, Any]:
    """The version in force, for whoever makes the next one of it: nobody else makes one before this transaction ends."""
    queue.hold(connection, "limits")
    return in_force(connection, today)


def versions(connection: Connection) -> list[dict[str, Any]]:
    """Every version, newest first, with what it changed from the one before."""
    rows = connection.execute(query("register.limit_versions")).fetchall()
    out = []
    for row, before in zip(rows, [*rows[1:], None], strict=True):
        changed = []
        if before is not None:
            old = {_place(r): r for r in before["limits"]}
            for r in row["limits"]:
                was = old.pop(_place(r), None)
                what = _said(r)
                if was is None:
                    changed.append(f"{what}: {r['watch']:g}/{r['act']:g}, new")
                elif (was["watch"], was["act"], was["basis"]) != (r["watch"], r["act"], r["basis"]):
                    changed.append(f"{what}: {was['watch']:g}/{was['act']:g} → {r['watch']:g}/{r['act']:g}")
            changed += [f"{_said(r)}: taken out" for r in old.values()]
        out.append({**row, "changed": changed})
    return out


def _place(r: dict[str, Any]) -> tuple[str, ...]:
    return r["duty"], r.get("family", ""), r.get("unit", ""), r["key"], r["side"]


def _said(r: dict[str, Any]) -> str:
    whose = r.get("unit") or r.get("family") or DUTY_WORDS[r["duty"]].lower()
    return f"{whose}, {BY_KEY[r['key']].spoken} {r['side']}"


def of_scope(rows: list[FixedLimit], duty: str, family: str = "", unit: str = "") -> list[FixedLimit]:
    """The limits that hold for a duty, or for a family or unit of it: its own where it has some, else those above it."""
    found: dict[tuple[str, str], FixedLimit] = {}
    for r in sorted((r for r in rows if r.duty == duty), key=lambda r: (bool(r.unit), bool(r.family))):
        if r.scope in (("", ""), (family, ""), ("", unit)):
            found[(r.key, r.side)] = r
    return list(found.values())


def typed(
    rows: list[FixedLimit], duty: str, form: dict[str, Any], family: str = "", unit: str = "", above: str = "", mark: str = "."
) -> list[FixedLimit]:  # fmt: skip
    """The set with a duty's figures as typed: ``watch.KEY.SIDE``, ``act.KEY.SIDE``; both blank takes a row out.

    ``new.key``, ``new.side``, ``new.basis``, ``new.watch``, ``new.act`` add one. With ``family`` or ``unit`` they are that one's own:
    what is left as it is above is none of its own, both blank go back to it (``above``: the unit's family). ``mark``: the decimal mark of
    whoever types. Raises InputError by field; also for a figure that may be two.
    """
    form = {**form, "mark": mark}
    if family or unit:
        return _typed_own(rows, duty, form, family, unit, above)
    out = [r for r in rows if r.duty != duty or r.family or r.unit]
    for r in (r for r in rows if r.duty == duty and not (r.family or r.unit)):
        name = f"{r.key}.{r.side}"
        watch, act = _figure(form, f"watch.{name}"), _figure(form, f"act.{name}")
        if watch is None and act is None:
            continue
        if watch is None or act is None:
            raise InputError(f"{BY_KEY[r.key].name} {r.side}", "needs both watch and act, or neither")
        source = r.source if (watch, act) == (r.watch, r.act) else "set by the fleet"
        row = FixedLimit(r.duty, r.key, r.side, r.basis, watch, act, source)
        check_limit(row, f"{BY_KEY[r.key].name} {r.side}")
        out.append(row)
    if (
        added := _added(form, duty, [(r.key, r.side) for r in out if r.duty == duty and r.scope == ("", "")], "set by the fleet")
    ) is not None:
        out.append(added)
    return out


def _added(
    form: dict[str, Any], duty: str, there: list[tuple[str, str]], source: str, scope: tuple[str, str] = ("", "")
) -> FixedLimit | None:  # fmt: skip
    """The row that a form adds, None where it adds none. Raises InputError by field; for a measurand and side that are ``there``."""
    key = str(form.get("new.key") or "")
    if not key:
        return None
    side, basis = str(form.get("new.side") or "high"), str(form.get("new.basis") or "absolute")
    if key not in INDEX or side not in ("high", "low") or basis not in BASIS_WORDS:
        raise InputError("new", "is not a measurand, side and basis")
    watch, act = _figure(form, "new.watch"), _figure(form, "new.act")
    if watch is None or act is None:
        raise InputError(BY_KEY[key].name, "needs both watch and act")
    if (key, side) in there:
        raise InputError(BY_KEY[key].name, f"has a {side} limit already")
    row = FixedLimit(duty, key, side, basis, watch, act, source, *scope)  # type: ignore[arg-type]
    check_limit(row, f"{BY_KEY[key].name} {side}")
    return row


def _typed_own(rows: list[FixedLimit], duty: str, form: dict[str, Any], family: str, unit: str, above: str) -> list[FixedLimit]:
    """The set with a family's or a unit's own figures as typed."""
    scope = (family, "") if not unit else ("", unit)
    out = [r for r in rows if not (r.duty == duty and r.scope == scope)]
    inherited = {(r.key, r.side): r for r in of_scope(out, duty, above if unit else "", "")}
    whose = unit or family
    seen = {(r.key, r.side): r for r in of_scope(rows, duty, above if unit else family, unit)}
    for (key, side), r in seen.items():
        name = f"{key}.{side}"
        watch, act = _figure(form, f"watch.{name}"), _figure(form, f"act.{name}")
        if watch is None and act is None:
            continue
        if watch is None or act is None:
            raise InputError(f"{BY_KEY[key].name} {side}", "needs both watch and act, or neither")
        from_above = inherited.get((key, side))
        if from_above is not None and (watch, act, r.basis) == (from_above.watch, from_above.act, from_above.basis):
            continue
        same = r.scope == scope and (watch, act) == (r.watch, r.act)
        row = replace(r, watch=watch, act=act, family=scope[0], unit=scope[1], source=r.source if same else f"set for {whose}")
        check_limit(row, f"{BY_KEY[key].name} {side}")
        out.append(row)
    if (added := _added(form, duty, list(seen), f"set for {whose}", scope)) is not None:
        out.append(added)
    return out


def units_of(connection: Connection, duty: str) -> dict[str, str]:
    """Units whose compartments have this duty, each with the family of the first of them."""
    rows = connection.execute(query("register.duties")).fetchall()
    out: dict[str, str] = {}
    for r in rows:
        if duty_of(r["kind"], r["fuel"]) == duty:
            out.setdefault(r["unit"], r["family"])
    return dict(sorted(out.items()))


# ---- in and out as files ---------------------------------------------------------------------------------------
COLUMNS = ("duty", "family", "unit", "key", "side", "basis", "watch", "act", "source")


def as_rows(rows: list[FixedLimit]) -> list[dict[str, Any]]:
    """Limits as a table's rows, in the order they are read in."""
    return [{c: getattr(r, c) for c in COLUMNS} for r in rows]


def from_csv(text: str) -> list[FixedLimit]:
    """Limits from a table with those columns; separators and decimal commas as spreadsheets write them. Raises InputError by row."""
    separator = max(",;\t", key=text.partition("\n")[0].count)
    try:
        table_rows = list(csv.DictReader(io.StringIO(text.lstrip("\ufeff")), delimiter=separator))
    except csv.Error as error:
        raise InputError("file", f"cannot be read as a table: {error}") from None
    out: list[FixedLimit] = []
    said: set[tuple[Any, ...]] = set()
    mark = _mark_of(separator, (v for row in table_rows for v in row.values()))
    for n, cells in enumerate(table_rows, 2):
        row = {k.strip().lower(): (v or "").strip() for k, v in cells.items() if k and isinstance(v, str | None)}
        if not any(row.values()):
            continue
        if missing := [c for c in COLUMNS[:8] if c not in row]:
            raise InputError("file", f"has no column {missing[0]!r}; it has {', '.join(COLUMNS)}")
        watch, act = (_figure({name: tables.let_go(row[name]), "mark": mark}, name) for name in ("watch", "act"))
        if watch is None or act is None:
            raise InputError(f"row {n}", "needs both watch and act")
        made = FixedLimit(row["duty"], row["key"], row["side"], row["basis"], watch, act, row.get("source", "") or "from a file",  # type: ignore[arg-type]
                          tables.let_go(row["family"]), tables.let_go(row["unit"]))  # fmt: skip
        out.append(_checked(made, f"row {n}", said))
    if not out:
        raise InputError("file", "holds no limits")
    return out


def _mark_of(separator: str, values: Iterable[Any]) -> str:
    """The decimal mark of a table: where its columns stand between commas, a point."""
    return "," if separator != "," and has_decimal_comma(v for v in values if isinstance(v, str)) else "."


def checked(rows: list[FixedLimit]) -> list[FixedLimit]:
    """A whole set as it was sent. Raises InputError by row (``limits.0``) for what Vornet does not know or what is said twice."""
    said: set[tuple[Any, ...]] = set()
    return [_checked(row, f"limits.{i}", said) for i, row in enumerate(rows)]


def _checked(row: FixedLimit, field: str, said: set[tuple[Any, ...]]) -> FixedLimit:
    wrong = {"duty": DUTIES, "key": tuple(INDEX), "side": ("high", "low"), "basis": tuple(BASIS_WORDS)}
    for name, known in wrong.items():
        if getattr(row, name) not in known:
            raise InputError(field, f"{name} {getattr(row, name)[:30]!r} is none of {', '.join(known[:8])} …")
    if row.family and row.unit:
        raise InputError(field, "is of a family or of a unit, not both")
    check_limit(row, field)
    mine = row.duty, row.scope, row.key, row.side
    if mine in said:
        raise InputError(field, f"says {row.key} {row.side} of the same a second time")
    said.add(mine)
    return row


def precision_from_csv(text: str) -> dict[str, str]:
    """What ``save_precision`` takes, from a table with key, scale, power, constant, floor. Raises InputError by row."""
    separator = max(",;\t", key=text.partition("\n")[0].count)
    table_rows = list(csv.DictReader(io.StringIO(text.lstrip("\ufeff")), delimiter=separator))
    out = {"mark": _mark_of(separator, (v for row in table_rows for v in row.values()))}
    for n, cells in enumerate(table_rows, 2):
        row = {k.strip().lower(): (v or "").strip() for k, v in cells.items() if k and isinstance(v, str | None)}
        if row.get("key", "") not in INDEX:
            raise InputError(f"row {n}", f"{row.get('key', '')[:30]!r} is no measurand")
        out |= {f"{name}.{row['key']}": row.get(name, "") for name in ("scale", "power", "constant", "floor")}
    if len(out) == 1:
        raise InputError("file", "holds no precision")
    return out


def _figure(form: dict[str, Any], name: str) -> float | None:
    """What stands in a field, None when blank; ``mark`` in the form says how its writer writes decimals."""
    text = str(form.get(name) or "").strip()
    return measures.number(text, name, form.get("mark", ".")) if text else None


def _of_duty(connection: Connection, duty: str) -> list[int]:
    rows = connection.execute(query("register.duties")).fetchall()
    return [r["compartment_id"] for r in rows if duty_of(r["kind"], r["fuel"]) == duty]


def families_of(connection: Connection, duty: str) -> list[str]:
    """Families whose compartments have this duty, largest first."""
    rows = connection.execute(query("register.duties")).fetchall()
    return [f for f, _ in Counter(r["family"] for r in rows if duty_of(r["kind"], r["fuel"]) == duty).most_common()]


def what_if(connection: Connection, rows: list[FixedLimit], duty: str, today: date, family: str = "") -> dict[str, Any]:
    """What a set of limits would change against the one in force: proposals of the samples of a duty so far.

    {samples, of, counts: {(before, after): n}, changes: newest first}. Nothing is written. Somebody waits for the answer, so
    a large fleet is tried on ``family`` and as many of its largest others as hold MOST_TRIED samples, ``of`` all there are.
    """
    families = sorted(families_of(connection, duty), key=lambda f: f != family)
    mine, _, whole = fleet_history.tried_on(connection, families, MOST_TRIED)
    if not mine:
        return {"samples": 0, "of": 0, "counts": {}, "changes": []}
    loaded, charges = fleet_history.drop_held(connection, fleet_history.load(connection, today, mine))
    rates = stretch_rates(loaded.history, charges)
    before = judge_loaded(loaded, charges, rates).proposed
    other = fleet_history.with_limits(loaded, rows)
    after = judge_loaded(other, charges, rates).proposed
    samples = loaded.history.samples
    changed = np.flatnonzero(before != after)
    words = [(VERDICTS.get(int(b), "none"), VERDICTS.get(int(a), "none")) for b, a in zip(before[changed], after[changed], strict=True)]
    newest = changed[np.argsort(-samples.day[changed], kind="stable")][:MOST_LISTED]
    listed = []
    for i in newest.tolist():
        r = loaded.register[samples.comp[i]]
        listed.append(Change(
            int(loaded.sample_ids[i]), int(r["compartment_id"]), r["unit"], r["name"], date.fromordinal(int(samples.day[i])),
            VERDICTS.get(int(before[i]), "none"), VERDICTS.get(int(after[i]), "none"),
        ))  # fmt: skip
    return {"samples": len(before), "of": max(whole, len(before)), "counts": dict(Counter(words)), "changes": listed}


def what_if_apart(location: Location, fleet_id: int, rows: list[FixedLimit], duty: str, today: date, family: str) -> dict[str, Any]:
    """``what_if`` for a process of its own, which opens the database by itself."""
    with opened(location) as db, db.fleet(fleet_id) as connection:
        return what_if(connection, rows, duty, today, family)


def suggestions(connection: Connection, family: str, rows: list[FixedLimit], today: date) -> dict[tuple[str, str], dict[str, Any]]:
    """What a family's own healthy history would set beside each fixed row, counted as that row counts: absolute, above new
    oil, or per cent from new oil. (key, side) → {method: StatLimits or the reason there is none, n}.

    Break-in, held and stood samples, signed Act or Stop and confirmed findings are left out; never what a limit flags.
    """
    mine = [r["compartment_id"] for r in connection.execute(query("register.duties")).fetchall() if r["family"] == family]
    if not mine:
        return {}
    loaded, charges = fleet_history.drop_held(connection, fleet_history.load(connection, today, mine))
    samples = loaded.history.samples
    healthy = evaluate.healthy(loaded, charges, taught.signed_verdicts(connection, mine))
    fresh = loaded.history.known.at(charges.oil[charges.charge_of], samples.day).value
    out: dict[tuple[str, str], dict[str, Any]] = {}
    for row in rows:
        m = INDEX[row.key]
        x, new = samples.values[:, m], fresh[:, m]
        sd = loaded.history.precision.columns_sd(x[:, None], [row.key])[:, 0]
        if row.basis == "above_new":  # as the fixed limit does: of new oil that nobody knows nothing is told
            x = x - new
        elif row.basis == "percent":  # as a share of the new oil, which is above zero also for logarithms
            with np.errstate(invalid="ignore", divide="ignore"):
                x, sd = x / new, sd / new
        censored = (samples.below >> m) & 1 == 1
        measured = healthy & np.isfinite(x) & ((samples.above >> m) & 1 == 0)
        seen, unseen = x[measured & ~censored], x[measured & censored]
        typical_sd = float(np.median(sd[measured])) if measured.any() else 0.0
        found: dict[str, Any] = {"n": len(seen) + len(unseen)}
        for method in METHODS:
            try:
                answer = statistical_limits(seen.tolist(), method, row.side, typical_sd, unseen.tolist())  # type: ignore[arg-type]
                found[method] = _in_per_cent(answer) if row.basis == "percent" else answer
            except InputError as error:
                found[method] = error.why
        out[(row.key, row.side)] = found
    return out


def _in_per_cent(limits: StatLimits) -> StatLimits:
    """Limits found as shares of the new oil, as per cent from it."""

    def turned(share: float) -> float:
        return 100 * (share - 1)

    def interval(found: tuple[float | None, float | None] | None) -> tuple[float | None, float | None] | None:
        return found and (None if found[0] is None else turned(found[0]), None if found[1] is None else turned(found[1]))

    return replace(
        limits, watch=turned(limits.watch), act=turned(limits.act), watch_ci=interval(limits.watch_ci), act_ci=interval(limits.act_ci)
    )


def save(connection: Connection, fleet_id: int, rows: list[FixedLimit], duty: str, *, by: str, why: str, today: date, about: str = "") -> int:
    """A new version in force from today (``duty`` '': of every duty); what it touches is evaluated by a worker. Raises InputError when
    nothing changed."""
    if duty and duty not in DUTIES:
        raise InputError("duty", "is not one Vornet knows")
    now = to_change(connection, today)
    if {_key(r) for r in now["rows"]} == {_key(r) for r in rows}:
        raise InputError("limits", "nothing is changed")
    if not why.strip():
        raise InputError("why", "say why they change")
    row = connection.execute(
        query("register.put_limits"),
        {"fleet_id": fleet_id, "effective_from": today, "limits": json.dumps([asdict(r) for r in rows]), "by": by, "why": why.strip()[:300]},
    ).fetchone()  # fmt: skip
    assert row is not None
    fleets.audit(
        connection,
        fleet_id,
        by,
        "limits changed",
        about or DUTY_WORDS.get(duty, "from a file"),
        version=row["limit_set_id"],
        why=why.strip()[:300],
    )
    if duty:
        queue.touch(connection, fleet_id, _of_duty(connection, duty))
    else:
        queue.touch_everything(connection)
    return int(row["limit_set_id"])


def precision_rows(connection: Connection, today: date) -> list[Precision]:
    """How well each measurand is known here: start values with the fleet's own laid over them."""
    own = {p.key: p for p in fleet_history.precision_on(connection, today)}
    return [own.get(p.key, p) for p in PRECISION]


def precision_versions(connection: Connection) -> list[dict[str, Any]]:
    """The fleet's own versions, newest first."""
    return connection.execute(query("register.precision_versions")).fetchall()


def as_shown(figure: float) -> str:
    """A precision's figure as people read it: four digits say all that such a figure knows.

    >>> as_shown(0.0464285714286), as_shown(2.0), as_shown(0.00001)
    ('0.04643', '2', '1e-05')
    """
    return f"{figure:.4g}"


def save_precision(
    connection: Connection, fleet_id: int, form: dict[str, Any], *, by: str, why: str, today: date, mark: str = "."
) -> int:  # fmt: skip
    """The fleet's own precision from ``scale.KEY``, ``power.KEY``, ``constant.KEY``, ``floor.KEY``, typed with that decimal ``mark``; a
    dated version.

    Raises InputError by field, or when nothing is changed. Everything is evaluated anew by a worker.
    """
    queue.hold(connection, "limits")
    now, own, form = precision_rows(connection, today), [], {"mark": mark, **form}
    for row in now:
        figures = {n: _figure(form, f"{n}.{row.key}") for n in ("scale", "power", "constant", "floor")}
        # a figure left as the page shows it is the figure that stands
        given = {n: getattr(row, n) if v is None or v == float(as_shown(getattr(row, n))) else v for n, v in figures.items()}
        start = next(p for p in PRECISION if p.key == row.key)
        if any(given[n] != getattr(start, n) for n in given):
            same = all(given[n] == getattr(row, n) for n in given)
            own.append(Precision(row.key, **given, source=row.source if same else "set by the fleet"))
    precision.arranged([*PRECISION, *own])
    if not why.strip():
        raise InputError("why", "say why they change")
    if own == fleet_history.precision_on(connection, today):
        raise InputError("precision", "nothing is changed")
    row_id = connection.execute(
        query("register.put_precision"),
        {"fleet_id": fleet_id, "effective_from": today, "rows": json.dumps([asdict(r) for r in own]), "by": by, "why": why.strip()[:300]},
    ).fetchone()  # fmt: skip
    assert row_id is not None
    fleets.audit(connection, fleet_id, by, "precision changed", f"version {row_id['version']}", why=why.strip()[:300])
    queue.touch_everything(connection)
    return int(row_id["version"])


def _key(r: FixedLimit) -> tuple[Any, ...]:
    return r.duty, r.family, r.unit, r.key, r.side, r.basis, r.watch, r.act
