"""Running the application under uvicorn."""

from __future__ import annotations

from datetime import date


def run(host: str, port: int, today: date | None = None, demo: bool = False) -> None:
    """Serve until stopped. ``today`` fixes the day (demo and screenshots)."""
    import uvicorn

    from vornet.store.database import Database, locate
    from vornet.web.app import create_app

    db = Database(locate())
    try:
        uvicorn.run(create_app(db, today=today, demo=demo), host=host, port=port, log_level="warning", access_log=False)
    finally:
        db.close()
