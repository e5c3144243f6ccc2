"""Has anything changed that a judgement rests on? Digests of what was worked from, kept beside what came of it."""

from __future__ import annotations

from dataclasses import fields, is_dataclass
from datetime import date
from functools import lru_cache
from hashlib import blake2b
from importlib.resources import files

import numpy as np

from vornet.core.judge import NONE
from vornet.flows.judge.fleet_history import Loaded


@lru_cache(maxsize=1)
def rules() -> bytes:
    """What the rules are, as a digest of their sources: other rules, other judgements."""
    sources = sorted((p for p in files("vornet.core").iterdir() if p.name.endswith(".py")), key=lambda p: p.name)
    return blake2b(b"".join(p.read_bytes() for p in sources), digest_size=16).digest()


def digest(*facts: object) -> bytes:
    """Digest of arrays, blocks of arrays and plain values."""
    out = blake2b(rules(), digest_size=16)

    def take(x: object) -> None:
        if isinstance(x, np.ndarray) and x.dtype != object:
            out.update(f"{x.dtype}{x.shape}".encode())
            out.update(np.ascontiguousarray(x).view(np.uint8).data if x.size else b"")
        elif is_dataclass(x):
            for f in fields(x):
                take(getattr(x, f.name))
        elif isinstance(x, dict):
            for key in sorted(x, key=repr):
                out.update(repr(key).encode())
                take(x[key])
        elif isinstance(x, (list, tuple)) and any(isinstance(y, np.ndarray) for y in x):
            for y in x:
                take(y)
        else:
            out.update(repr(x).encode())

    for fact in facts:
        take(fact)
    return out.digest()


def digest_of_part(part: Loaded, signed: dict[int, int], today: date) -> bytes:
    """Everything that the evaluation of these families rests on."""
    rows = np.unique(part.history.compartments.limited)  # their duties', and those of a family's or a unit's own
    limits = [block[side][rows] for block in (part.limits.watch, part.limits.act, part.limits.basis) for side in ("high", "low")]
    codes = np.array([signed.get(i, NONE) for i in part.sample_ids.tolist()])
    return digest(
        today, part.history, part.compartment_ids, part.sample_ids, part.register, part.rate_per_day, part.latest_total,
        part.latest_day, limits, part.policies, part.oil_caps, part.oil_names, part.seen, codes, part.found, part.teaching, part.factors,
    )  # fmt: skip
