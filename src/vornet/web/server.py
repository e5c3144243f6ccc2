"""Running the application under uvicorn, and the processes that belong beside it."""

from __future__ import annotations

import subprocess
import sys
import threading
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from datetime import date
from importlib.resources import files
from pathlib import Path
from typing import Any

#: styles, scripts and fonts as they are built
DIST = Path(str(files("vornet.web"))) / "static" / "dist"


def run(host: str, port: int, today: date | None = None, demo: bool = False, beside: Sequence[Sequence[str]] = ()) -> None:
    """Serve until stopped, with ``vornet`` commands running beside once it answers. ``today`` fixes the day (demo and screenshots)."""
    import uvicorn

    from vornet.store.database import Database, locate
    from vornet.web.app import create_app

    with ExitStack() as open_here:

        class Server(uvicorn.Server):
            async def startup(self, sockets: Any = None) -> None:
                await super().startup(sockets)
                if not self.should_exit:
                    open_here.enter_context(_beside(*beside))
                    threading.Thread(target=_warm, name="warming", daemon=True).start()

        db = Database(locate(), size=16)
        open_here.callback(db.close)
        config = uvicorn.Config(create_app(db, today=today, demo=demo), host=host, port=port, log_level="warning", access_log=False)
        Server(config).run()


def _warm() -> None:
    """Load beside the first requests what the first calculator, typed quantity, paper and sign-in would wait for."""
    from vornet.core import conversion
    from vornet.flows import calc
    from vornet.flows.house import passwords
    from vornet.io import apart

    calc.calculators()
    conversion.convert(1.0, "us_qt", "liter")
    passwords.fits(None, "")
    apart.begin()


@contextmanager
def _beside(*commands: Sequence[str]) -> Iterator[None]:
    """``vornet`` commands running beside this process; they end with it, even when it is killed (their stdin closes)."""
    started = [subprocess.Popen([sys.executable, "-m", "vornet", *command, "--with-parent"], stdin=subprocess.PIPE) for command in commands]
    try:
        yield
    finally:
        for process in started:
            process.terminate()
        for process in started:
            try:
                process.wait(10)
            except subprocess.TimeoutExpired:
                process.kill()
