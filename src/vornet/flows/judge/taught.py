"""What people and the workshop said of samples, as far as it says what is usual: nobody learns from a fault that was told."""

from __future__ import annotations

import numpy as np

from vornet.core.departures import BY_ITSELF, NEVER_TEACHES, SURELY_TEACHES
from vornet.core.judge import ACT, RUN_ON
from vornet.store.database import Connection, query

#: how long before a finding a call was about it, days; common practice, no source
CONFIRMED_DAYS = 183


def signed_verdicts(connection: Connection, compartments: list[int] | None) -> dict[int, int]:
    """Signed verdicts by sample id."""
    return {sample: verdict for sample, (verdict, _) in _signed(connection, compartments).items()}


def stands(connection: Connection, compartments: list[int] | None, sample_ids: np.ndarray, proposed: np.ndarray) -> np.ndarray:
    """The verdict of each sample that stands, (N,): the signed one, else the proposal."""
    signed = signed_verdicts(connection, compartments)
    return np.array([signed.get(i, p) for i, p in zip(sample_ids.tolist(), proposed.tolist(), strict=True)], dtype=int)


def _signed(connection: Connection, compartments: list[int] | None) -> dict[int, tuple[int, int]]:
    which = "verdicts.signed" if compartments is None else "verdicts.signed_of"
    rows = connection.execute(query(which), {"compartments": compartments}).fetchall()
    return {r["sample_id"]: (r["verdict"], r["proposed"]) for r in rows}


def confirmed(connection: Connection, compartment_ids: np.ndarray, comp: np.ndarray, day: np.ndarray, sample_ids: np.ndarray) -> np.ndarray:
    """Samples that called a fault which the workshop then confirmed, shape (N,): Watch or worse, proposed or signed, within
    ``CONFIRMED_DAYS`` before the finding. ``comp``, ``day``, ``sample_ids`` (N,); ``comp`` counts in ``compartment_ids``."""
    out = np.zeros(len(comp), dtype=bool)
    where = {int(c): i for i, c in enumerate(compartment_ids)}
    found = connection.execute(query("verdicts.confirmed"), {"only": compartment_ids.tolist()}).fetchall()
    called = {r["sample_id"] for r in connection.execute(query("verdicts.called"), {"only": [f["compartment_id"] for f in found]})}
    for f in found:
        on = f["on_day"].toordinal()
        out |= (comp == where[f["compartment_id"]]) & (day <= on) & (day > on - CONFIRMED_DAYS)
    return out & np.isin(sample_ids, list(called))


def teaching(connection: Connection, compartments: list[int] | None, sample_ids: np.ndarray, found: np.ndarray) -> np.ndarray:
    """What each sample says of the usual, (N,), for core: never, where signed Act or Stop or ``found`` by the workshop; surely,
    where a person signed Run on against the proposal; by itself otherwise."""
    signed = _signed(connection, compartments)
    out = np.full(len(sample_ids), BY_ITSELF)
    for i, sample in enumerate(sample_ids.tolist()):
        verdict, proposed = signed.get(sample, (-1, -1))
        if verdict >= ACT:
            out[i] = NEVER_TEACHES
        elif verdict == RUN_ON and proposed > RUN_ON:
            out[i] = SURELY_TEACHES
    return np.where(found, NEVER_TEACHES, out)
