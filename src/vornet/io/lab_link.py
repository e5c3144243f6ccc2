"""Ways to a lab: over its HTTP interface, or through a folder both sides can reach. A further lab is one more adapter.

An adapter tells the lab of a parcel, says which bottles the lab has received, and hands over reports that are new.
"""

from __future__ import annotations

import csv
import io
import json
import os
import re
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any, BinaryIO, Protocol

import httpx

from vornet.io.address import CheckedTransport, Refused, inside_allowed
from vornet.io.tables import cell

#: a report, and any other answer, bytes
LARGEST, MOST_ANSWER = 200_000_000, 20_000_000
#: a file in a drop folder is taken when nobody has written to it for so long
SETTLED_S = 2.0


class LabTrouble(Exception):
    """The lab cannot be reached or answers nonsense; the sentence says which."""


@dataclass(frozen=True)
class Arrived:
    """A report as the lab hands it over; ``cursor`` is where to go on once it is kept."""

    name: str
    content: BinaryIO
    cursor: str


class LabLink(Protocol):
    """One way to one lab."""

    def tell(self, parcel: dict[str, Any]) -> None:
        """Tell the lab what is on its way: number, sent_on, bottles with their labels. Telling twice changes nothing."""

    def received(self, number: str) -> dict[str, date]:
        """Bottles of a parcel that have reached the lab, and when."""

    def reports(self, cursor: str) -> Iterator[Arrived]:
        """Reports after ``cursor``, oldest first."""

    def kept(self, report: Arrived) -> None:
        """The report is safe on our side."""


class HttpLab:
    """A lab with an HTTP interface: PUT parcels/NUMBER, GET parcels/NUMBER, GET reports?after=, GET reports/ID."""

    def __init__(self, address: str, key: str, transport: httpx.BaseTransport | None = None) -> None:
        headers = {"Authorization": f"Bearer {key}"} if key else {}
        if transport is None:
            transport = None if inside_allowed() else CheckedTransport()
        self._client = httpx.Client(
            base_url=address.rstrip("/") + "/", headers=headers, timeout=httpx.Timeout(20, connect=5), transport=transport,
            follow_redirects=False, trust_env=False,
        )  # fmt: skip

    def _ask(self, method: str, path: str, most: int = MOST_ANSWER, **more: Any) -> bytes:
        """The answer's content, at most ``most`` bytes of it. Nothing of a refusal is repeated: it may be another server's secret."""
        try:
            with self._client.stream(method, path, **more) as answer:
                if answer.is_redirect:
                    raise LabTrouble(f"sends on to another address ({answer.status_code}), which is not followed")
                if answer.status_code >= 400:
                    raise LabTrouble(f"answers {answer.status_code} {answer.reason_phrase}".strip())
                content = b""
                for part in answer.iter_bytes():
                    content += part
                    if len(content) > most:
                        raise LabTrouble(f"sends more than {most // 1_000_000:,} MB")
                return content
        except Refused as error:
            raise LabTrouble(f"cannot be reached: {error}") from None
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            why = "nothing answers at its address" if isinstance(error, httpx.ConnectError) else "it was too slow, or broke off"
            raise LabTrouble(f"cannot be reached: {why}") from None

    def _document(self, path: str, **more: Any) -> Any:
        try:
            return json.loads(self._ask("GET", path, **more))
        except (ValueError, RecursionError):
            raise LabTrouble("answers something that is not JSON") from None

    def tell(self, parcel: dict[str, Any]) -> None:
        self._ask("PUT", f"parcels/{parcel['number']}", json=parcel)

    def received(self, number: str) -> dict[str, date]:
        document = self._document(f"parcels/{number}")
        try:
            return {str(b["sample_no"]): date.fromisoformat(b["received_on"]) for b in document["bottles"] if b["received_on"]}
        except (KeyError, TypeError, ValueError):
            raise LabTrouble("answers a parcel in another shape") from None

    def reports(self, cursor: str) -> Iterator[Arrived]:
        document = self._document("reports", params={"after": cursor})
        try:
            listed = [(str(r["id"]), str(r["name"])[:200]) for r in document["reports"]]
        except (KeyError, TypeError):
            raise LabTrouble("answers a list of reports in another shape") from None
        for number, name in listed:
            if not re.fullmatch(r"[\w.-]{1,80}", number):
                raise LabTrouble(f"names a report {number[:40]!r}")
            yield Arrived(name, io.BytesIO(self._ask("GET", f"reports/{number}", LARGEST)), number)

    def kept(self, report: Arrived) -> None:
        pass  # the cursor says it


class FolderLab:
    """A drop folder: files put there are taken in and moved to ``taken``; packing lists go to ``parcels``."""

    def __init__(self, folder: Path, settled_s: float = SETTLED_S) -> None:
        self._folder, self._settled_s = folder, settled_s
        try:
            for name in ("", "taken", "parcels"):
                (folder / name).mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise LabTrouble(f"its folder cannot be used: {error.strerror or error}") from None

    def tell(self, parcel: dict[str, Any]) -> None:
        out = io.StringIO()
        names = ["number", "sent_on", *dict.fromkeys(k for b in parcel["bottles"] for k in b)]
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(names)
        for bottle in parcel["bottles"]:
            writer.writerow([cell({**parcel, **bottle}.get(n)) for n in names])
        unfinished = self._folder / "parcels" / f".{parcel['number']}.csv"
        unfinished.write_text(out.getvalue(), encoding="utf-8")
        os.replace(unfinished, self._folder / "parcels" / f"{parcel['number']}.csv")

    def received(self, number: str) -> dict[str, date]:
        """A lab behind a folder may put NUMBER.received.json ({sample_no: date}) beside the packing list."""
        path = self._folder / "parcels" / f"{number}.received.json"
        if not path.exists():
            return {}
        try:
            return {str(k): date.fromisoformat(v) for k, v in json.loads(path.read_text()).items()}
        except (OSError, ValueError, AttributeError, TypeError):
            raise LabTrouble(f"wrote a {path.name} that cannot be read") from None

    def reports(self, cursor: str) -> Iterator[Arrived]:
        del cursor  # what is taken is no longer there
        try:
            waiting = sorted(p for p in self._folder.iterdir() if p.is_file() and not p.name.startswith("."))
        except OSError as error:
            raise LabTrouble(f"its folder cannot be read: {error.strerror or error}") from None
        for path in waiting:
            stat = path.stat()
            if path.is_symlink() or time.time() - stat.st_mtime < self._settled_s:
                continue
            with path.open("rb") as content:
                yield Arrived(path.name, content, "")

    def kept(self, report: Arrived) -> None:
        target, n = self._folder / "taken" / report.name, 1
        while target.exists():
            target, n = self._folder / "taken" / f"{n} {report.name}", n + 1
        os.replace(self._folder / report.name, target)
