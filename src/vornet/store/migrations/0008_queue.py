"""The job queue's own tables, as the pinned package brings them; the application's role may use them."""

from typing import Any

from procrastinate.schema import SchemaManager
from yoyo import step


def _make(connection: Any) -> None:
    cursor = connection.cursor()
    cursor.execute(SchemaManager.get_schema())
    cursor.execute(
        "GRANT SELECT, INSERT, UPDATE, DELETE ON procrastinate_jobs, procrastinate_events, procrastinate_workers, "
        "procrastinate_periodic_defers TO vornet_app"
    )
    cursor.execute("GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO vornet_app")


steps = [step(_make)]
