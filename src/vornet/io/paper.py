"""Paper: HTML with the bundled fonts as a PDF; nothing is fetched."""

from __future__ import annotations

from vornet.io import apart

MEMORY_MB, SECONDS = 1500, 90


def pdf(html: str) -> bytes:
    """A page as PDF, drawn in a process of its own. Only files may be named in it (fonts)."""
    return apart.short(MEMORY_MB, SECONDS, drawn, html)


def drawn(html: str) -> bytes:
    """The drawing itself."""
    from weasyprint import HTML
    from weasyprint.urls import URLFetcher

    content: bytes = HTML(string=html, url_fetcher=URLFetcher(allowed_protocols=("file",))).write_pdf()
    return content
