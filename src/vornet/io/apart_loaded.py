"""Loaded once into the process that others are forked from: what is slow to import or to begin."""

from __future__ import annotations

import gc

gc.disable()  # everything loaded here stays, also in those that are forked from here; each of them switches it on again

with __import__("contextlib").suppress(Exception):  # paper needs libraries of the system: without them only paper is missing
    from weasyprint import HTML

    HTML(string="<p>·</p>").write_pdf()
