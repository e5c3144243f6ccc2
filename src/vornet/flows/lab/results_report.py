"""What taking in a results file did."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from vornet.io.results_file import BadRow

#: held rows listed in a report; all are kept
MOST_LISTED = 2000


@dataclass
class ResultsReport:
    """What a results file did: rows by fate, what was held, and which compartments it touched."""

    fleet: str
    file: str
    import_file_id: int | None = None
    rows: int = 0
    new: int = 0
    same: int = 0
    reissued: int = 0
    held_rows: int = 0
    held: list[BadRow] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    compartments: set[int] = field(default_factory=set)
    labs: set[str] = field(default_factory=set)
    numbers: set[str] = field(default_factory=set)  # of a corrected row
    new_oil: bool = False

    def as_dict(self) -> dict[str, Any]:
        return {
            "fleet": self.fleet, "file": self.file, "rows": self.rows, "new": self.new, "same": self.same,
            "reissued": self.reissued, "held_rows": self.held_rows, "notes": self.notes,
            "held": [
                {"row": b.row_no, "field": b.field, "reason": b.reason, "detail": b.detail} for b in self.held
            ],
        }  # fmt: skip
