"""The one error that core raises for input that cannot be worked with."""

from __future__ import annotations


class InputError(ValueError):
    """Bad input: which field, and one plain sentence why.

    ``field`` is the name the caller used for the value (``samples[2].ppm``).
    """

    def __init__(self, field: str, why: str) -> None:
        super().__init__(f"{field}: {why}")
        self.field = field
        self.why = why

    def __reduce__(self) -> tuple[object, ...]:  # handed over between processes
        return type(self), (self.field, self.why)
