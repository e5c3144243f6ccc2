"""A mail server of this machine alone: it takes mail to anybody over SMTP, keeps the last of it, and shows it on a page."""

from __future__ import annotations

import email
import html
from collections import deque
from dataclasses import dataclass
from email import policy
from email.message import EmailMessage
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

#: so many mails are kept, the largest so large
MOST_KEPT, LARGEST = 300, 20_000_000


@dataclass(frozen=True)
class Received:
    sender: str
    to: tuple[str, ...]
    mail: EmailMessage

    def body(self, kind: str) -> str:
        """Its text, plain or html; '' where it has none."""
        part = self.mail.get_body(preferencelist=(kind,))
        return str(part.get_content()) if part is not None else ""

    def files(self) -> list[tuple[str, bytes]]:
        return [(a.get_filename() or "file", a.get_payload(decode=True) or b"") for a in self.mail.iter_attachments()]  # type: ignore[misc]


class Post:
    """What came in, newest last."""

    def __init__(self) -> None:
        self.received: deque[Received] = deque(maxlen=MOST_KEPT)

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        mail = email.message_from_bytes(envelope.content, policy=policy.default)
        assert isinstance(mail, EmailMessage)
        self.received.append(Received(envelope.mail_from or "", tuple(envelope.rcpt_tos), mail))
        return "250 kept"


def page(post: Post) -> str:
    """What came in, newest first."""
    rows = "".join(
        f"<section><h2>{html.escape(str(r.mail['Subject']))}</h2><p>to {html.escape(', '.join(r.to))}, {html.escape(str(r.mail['Date']))}"
        f"{''.join(f' · {html.escape(name)}, {len(content):,} bytes' for name, content in r.files())}</p>"
        f"<pre>{html.escape(r.body('plain'))}</pre></section>"
        for r in reversed(post.received)
    )
    style = "body{font:15px/1.45 sans-serif;margin:24px;max-width:860px}pre{white-space:pre-wrap;background:#f4f6f7;padding:12px}"
    return (f"<!doctype html><html lang='en'><head><meta charset='utf-8'><title>Mail that was sent</title><style>{style}</style></head><body>"
            f"<h1>Mail that was sent</h1><p>It stays on this machine.</p>{rows or '<p>Nothing yet.</p>'}</body></html>")  # fmt: skip


def started(post: Post, port: int) -> Any:
    """An SMTP server on loopback, running in a thread of its own; ``stop()`` ends it."""
    from aiosmtpd.controller import Controller

    controller = Controller(post, hostname="127.0.0.1", port=port, data_size_limit=LARGEST)
    controller.start()
    return controller


def serve(port: int, page_port: int) -> None:
    """Take mail and show it until stopped."""
    post = Post()

    class Page(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            content = page(post).encode()
            self.send_response(200)
            self.send_header("Content-Type", "text/html; charset=utf-8")
            self.send_header("Content-Length", str(len(content)))
            self.end_headers()
            self.wfile.write(content)

        def log_message(self, format: str, *args: Any) -> None:
            return

    controller = started(post, port)
    try:
        ThreadingHTTPServer(("127.0.0.1", page_port), Page).serve_forever()
    finally:
        controller.stop()
