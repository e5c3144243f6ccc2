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


class FormErrors(InputError):
    """Several things wrong at once: ``errors`` by field, as the one who gave them names the fields."""

    def __init__(self, errors: dict[str, str]) -> None:
        super().__init__(*next(iter(errors.items())))
        self.errors = errors

    def __reduce__(self) -> tuple[object, ...]:
        return type(self), (self.errors,)
