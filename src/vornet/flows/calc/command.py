"""A calculator on the command line: JSON in, JSON out. It loads nothing but the calculator it is asked for."""

from __future__ import annotations

import json
import sys
import warnings
from typing import Any

from vornet.core.errors import InputError
from vornet.flows import calc


def _parsed(text: str) -> Any:
    try:
        return json.loads(text)
    except (json.JSONDecodeError, RecursionError):
        raise InputError("input", "is not JSON") from None


def run(name: str, lines: bool) -> None:
    """Answer standard input: one JSON object, or one a line. Raises InputError."""
    if name not in calc.WHERE:
        raise InputError("name", f"there is no calculator {name!r}: {', '.join(calc.WHERE)}")
    warnings.simplefilter("ignore")
    if not lines:
        answer = calc.calculate(name, _parsed(sys.stdin.buffer.read().decode("utf-8", "replace")))
        sys.stdout.write(json.dumps(answer, ensure_ascii=False, allow_nan=False) + "\n")
        return
    for raw in sys.stdin.buffer:
        text = raw.decode("utf-8", "replace")
        if not text.strip():
            continue
        try:
            answer = calc.calculate(name, _parsed(text))
        except InputError as error:
            answer = {"error": str(error), "field": error.field, "why": error.why}
        sys.stdout.write(json.dumps(answer, ensure_ascii=False) + "\n")
        sys.stdout.flush()
