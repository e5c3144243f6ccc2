"""Running the application under uvicorn, and the processes that belong beside it."""

from __future__ import annotations

import gc
import subprocess
import sys
import threading
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from datetime import date
from importlib.resources import files
from pathlib import Path
from typing import Any

#: what pages have worked in processes of their own is loaded once, where those are forked from
APART = ("vornet.flows.judge.backtest", "vornet.flows.judge.limits", "vornet.flows.judge.policies", "vornet.flows.lab.inbox")
#: styles, scripts and fonts as they are built
DIST = Path(str(files("vornet.web"))) / "static" / "dist"


def run(host: str, port: int, today: date | None = None, demo: bool = False, beside: Sequence[Sequence[str]] = ()) -> None:
    """Serve until stopped, with ``vornet`` commands running beside once it answers. ``today`` fixes the day (demo and screenshots)."""
    from vornet.io import apart

    apart.prepare(*APART)
    apart.begin()  # loads on another core while this process loads the application
    gc.disable()  # everything made from here to the first request stays
    import uvicorn

    from vornet.flows.house import passwords
    from vornet.store.database import Database, locate
    from vornet.web.app import create_app

    with ExitStack() as open_here:

        class Server(uvicorn.Server):
            async def startup(self, sockets: Any = None) -> None:
                await super().startup(sockets)
                if not self.should_exit:
                    open_here.enter_context(_beside(*beside))
                    threading.Thread(target=passwords.fits, args=(None, ""), name="common passwords", daemon=True).start()

        db = Database(locate(), size=16)
        open_here.callback(db.close)
        app = create_app(db, today=today, demo=demo)
        _warm()
        gc.collect()
        gc.freeze()
        gc.enable()
        config = uvicorn.Config(app, host=host, port=port, log_level="warning", access_log=False)
        Server(config).run()


def _warm() -> None:
    """Load what the first calculator and typed quantity would wait for."""
    from vornet.web import calculators

    calculators.worked_examples()


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
