"""Work in the background: a queue in PostgreSQL, so that a file taken in survives whoever was reading it.

A job is put on the queue in the transaction that keeps its file; it runs in one transaction of its own; a worker that
dies leaves nothing half done, and its job is taken up again.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from datetime import UTC, date, datetime
from typing import Any

import procrastinate
from procrastinate import PsycopgConnector, RetryStrategy

from vornet.core.errors import InputError
from vornet.flows.house import days, fleets
from vornet.flows.judge import afresh, evaluate
from vornet.flows.judge.settle import settle
from vornet.flows.lab import asking, files, results
from vornet.flows.lab.results_report import ResultsReport
from vornet.flows.weeks import levelling, mail, webhooks
from vornet.io import apart
from vornet.io.results_file import NeedsMapping
from vornet.store import backup, queue
from vornet.store.database import Connection, Database, Location, opened, query
from vornet.store.queue import (
    ASK_LABS,
    BACKUP,
    EVALUATE,
    JUDGE_ALL,
    JUDGE_END,
    JUDGE_SHARE,
    LEVEL,
    NEW_DAY,
    SEND,
    SETTLE,
    TAKE_IN,
    TAKE_UP,
    TELL,
)

#: a worker that has not been heard of for so long is taken for dead
DEAD_AFTER_S = 30.0
STEP_ROWS = 2000
#: a file is begun so often before it is set aside
MOST_BEGUN = 2
#: how long after a failure a file is tried again, s
RETRY_S = 5
#: what was touched so long ago and not settled was left by somebody who is gone, s; looked for every so often, s
LEFT_AFTER_S, SETTLE_EVERY_S = 120.0, 60.0
#: whether a new day has begun in a fleet is looked at so often, s
NEW_DAY_EVERY_S = 300.0
#: mail is written and sent so often, s
SEND_EVERY_S = 60.0
#: other programs are told so often, s
TELL_EVERY_S = 20.0
#: whether a day's backup is due is looked at so often, s
BACKUP_EVERY_S = 900.0
#: a worker judges whatever was touched at once
MOST = 1_000_000


def no_paper(connection: Connection, first: date, depots: list[int] | None) -> bytes | None:  # noqa: ARG001 - where nothing is drawn
    return None


class Works:
    """What jobs need: the database, what day it is, and how the week is drawn on paper."""

    def __init__(self, db: Database, fixed_today: date | None = None, week_pdf: mail.Pdf = no_paper) -> None:
        self.db, self.fixed_today, self.week_pdf = db, fixed_today, week_pdf

    def today(self, fleet_id: int) -> date:
        return days.day_of(self.db, fleet_id, self.fixed_today)


def app_of(works: Works, ask_every_s: float | None = None) -> procrastinate.App:
    """The queue on a database, as the application's role, with the jobs it knows; ``ask_every_s``: with those that come round by
    themselves, the labs asked so often."""
    location = works.db.location

    async def step_down(connection: Any) -> None:
        if location.set_role:
            await connection.execute("SET ROLE vornet_app")
            await connection.commit()

    app = procrastinate.App(connector=PsycopgConnector(conninfo=location.app_url, min_size=1, max_size=3, configure=step_down))

    @app.task(name=TAKE_IN, retry=RetryStrategy(max_attempts=3, wait=RETRY_S))
    def take_in(fleet_id: int, import_file_id: int) -> None:
        take_in_apart(works.db, fleet_id, import_file_id, works.today(fleet_id))

    def judged(fleet_id: int, how: Callable[[Connection, int, date], object]) -> None:
        with works.db.fleet(fleet_id) as connection:
            if connection.execute(query("register.fleet")).fetchone() is None:
                return  # the fleet was taken away meanwhile
            how(connection, fleet_id, days.day_here(connection, works.fixed_today))

    @app.task(name=EVALUATE, retry=RetryStrategy(max_attempts=3, wait=5))
    def evaluate_some(fleet_id: int, compartments: list[int]) -> None:
        judged(fleet_id, lambda connection, mine, today: evaluate.evaluate_within(connection, mine, today, compartments))

    @app.task(name=JUDGE_ALL, retry=RetryStrategy(max_attempts=3, wait=5))
    def judge_all(fleet_id: int) -> None:
        judged(fleet_id, afresh.begin)

    @app.task(name=JUDGE_SHARE, retry=RetryStrategy(max_attempts=3, wait=5))
    def judge_share(fleet_id: int, run: str, share: int) -> None:
        judged(fleet_id, lambda connection, mine, today: afresh.judge_share(connection, mine, run, share, today))

    @app.task(name=JUDGE_END, retry=RetryStrategy(max_attempts=3, wait=5))
    def judge_end(fleet_id: int, run: str, part: int) -> None:
        judged(fleet_id, lambda connection, mine, today: afresh.end(connection, mine, run, part, today))

    @app.task(name=LEVEL, retry=RetryStrategy(max_attempts=2, wait=5))
    def work_a_plan_out(fleet_id: int, proposal_id: int) -> None:
        levelling.work_out(works.db, fleet_id, proposal_id)

    @app.task(name=ASK_LABS)
    def ask_labs(timestamp: int) -> None:  # noqa: ARG001 - when it was to run
        ask_everyone(works.db, works.fixed_today)

    @app.task(name=SETTLE)
    def settle_what_was_left(timestamp: int) -> None:  # noqa: ARG001 - when it was to run
        settle_left(works.db, works.fixed_today)

    @app.task(name=NEW_DAY)
    def judge_as_of_today(timestamp: int) -> None:  # noqa: ARG001 - when it was to run
        new_days(works.db, works.fixed_today)

    @app.task(name=SEND)
    def write_and_send_mail(timestamp: int) -> None:  # noqa: ARG001 - when it was to run
        mail.write_and_send(works.db, works.fixed_today, works.week_pdf, mail.server())

    @app.task(name=TELL)
    def tell_webhooks(timestamp: int) -> None:  # noqa: ARG001 - when it was to run
        webhooks.line_up_and_tell(works.db, works.fixed_today)

    @app.task(name=BACKUP)
    def write_backup(timestamp: int) -> None:  # noqa: ARG001 - when it was to run
        backup.by_rule(works.db.location, days.now())

    @app.task(name=TAKE_UP)
    async def take_up_again(timestamp: int) -> None:  # noqa: ARG001 - when it was to run
        await requeue(app)

    if ask_every_s is not None:  # one at a time of each, however many workers
        app.periodic(cron=_cron(ask_every_s), queueing_lock=ASK_LABS, lock=ASK_LABS)(ask_labs)
        app.periodic(cron=_cron(SETTLE_EVERY_S), queueing_lock=SETTLE, lock=SETTLE)(settle_what_was_left)
        if works.fixed_today is None:  # who lives in one day sees no other begin
            app.periodic(cron=_cron(NEW_DAY_EVERY_S), queueing_lock=NEW_DAY, lock=NEW_DAY)(judge_as_of_today)
        app.periodic(cron=_cron(SEND_EVERY_S), queueing_lock=SEND, lock=SEND)(write_and_send_mail)
        app.periodic(cron=_cron(TELL_EVERY_S), queueing_lock=TELL, lock=TELL)(tell_webhooks)
        app.periodic(cron=_cron(BACKUP_EVERY_S), queueing_lock=BACKUP, lock=BACKUP)(write_backup)
        app.periodic(cron=_cron(DEAD_AFTER_S), queueing_lock=TAKE_UP, lock=TAKE_UP)(take_up_again)
    return app


def _cron(every_s: float) -> str:
    """As cron writes it, the seconds last.

    >>> _cron(30), _cron(300), _cron(7200)
    ('* * * * * */30', '*/5 * * * * 0', '0 */2 * * * 0')
    """
    s = max(round(every_s), 1)
    if s < 60:
        return f"* * * * * */{s}"
    return f"*/{s // 60} * * * * 0" if s < 3600 else f"0 */{min(s // 3600, 23)} * * * 0"


def settle_left(db: Database, fixed_today: date | None = None) -> int:
    """Settle what somebody touched who was gone before it was settled; in how many fleets."""
    with db.anyone() as connection:
        found = connection.execute(query("people.fleets_left_touched"), {"after_s": LEFT_AFTER_S}).fetchall()
    for row in found:
        with db.fleet(row["fleet_id"]) as connection:
            settle(connection, row["fleet_id"], days.day_here(connection, fixed_today))
    return len(found)


def new_days(db: Database, fixed_today: date | None = None) -> int:
    """Put the judging of every fleet in which a new day has begun on the queue; how many. Oil ages by the calendar and by estimate, and
    what was approved from a day on begins, though nobody records anything."""
    with db.anyone() as connection:
        found = connection.execute(query("people.fleets_by_day")).fetchall()
    begun = 0
    for row in found:
        if row["judged_on"] is not None and row["judged_on"] >= (fixed_today or days.day_in(row["zone"])):
            continue
        with db.fleet(row["fleet_id"]) as connection:
            if not queue.judging_all(connection, row["fleet_id"]):
                queue.put_afresh(connection, row["fleet_id"])
                begun += 1
    return begun


def ask_everyone(db: Database, fixed_today: date | None = None) -> None:
    """Ask the labs of every fleet that has any to ask."""
    with db.anyone() as connection:
        found = connection.execute(query("people.fleets_with_labs")).fetchall()
    for row in found:
        asking.ask(db, row["fleet_id"], days.day_of(db, row["fleet_id"], fixed_today), queue.put_file)


def take_in_apart(db: Database, fleet_id: int, import_file_id: int, today: date) -> None:
    """Read a kept file in in a process of its own. Raises Ended when that ended without an answer, the first time."""
    try:
        apart.long(read_apart, db.location, fleet_id, import_file_id, today)
    except apart.Ended as error:
        if not set_aside_if_again(db, fleet_id, import_file_id, error.why):
            raise  # once may be anybody's fault: it is tried again


def read_apart(location: Location, fleet_id: int, import_file_id: int, today: date) -> None:
    """``read_kept`` for a process of its own, which opens the database by itself: a file that ends its reader ends nobody else."""
    with opened(location, 4) as db:
        read_kept(db, fleet_id, import_file_id, today)


def set_aside_if_again(db: Database, fleet_id: int, import_file_id: int, why: str) -> bool:
    """Set a file aside whose reading was begun ``MOST_BEGUN`` times and never ended; whether it was."""
    with db.fleet(fleet_id) as connection:
        file = connection.execute(query("results.begun"), {"import_file_id": import_file_id}).fetchone()
        if file is None or file["state"] != "reading" or file["begun"] < MOST_BEGUN:
            return False
        trouble = f"reading it ended its reader {file['begun']} times ({why}): send it in another form, or in parts"
        connection.execute(query("results.set_aside"), {"import_file_id": import_file_id, "state": "refused", "trouble": trouble})
        fleets.audit(connection, fleet_id, file["recorded_by"], "file refused", file["name"], why=trouble)
    return True


def read_kept(db: Database, fleet_id: int, import_file_id: int, today: date, step: Callable[[int], None] | None = None) -> None:
    """Read a kept file in and evaluate what it touched, in one transaction; progress is seen meanwhile.

    A file that cannot be read is marked refused with its reason; one whose headings nobody has explained waits.
    """
    with db.fleet(fleet_id) as connection:
        file = connection.execute(query("results.begin_reading"), {"import_file_id": import_file_id}).fetchone()
    if file is None:
        return  # done already, or gone
    if file["begun"] > MOST_BEGUN and set_aside_if_again(db, fleet_id, import_file_id, "its worker was gone"):
        return
    told = 0

    def progress(rows: int) -> None:
        nonlocal told
        if step is not None:
            step(rows)
        if rows - told >= STEP_ROWS:
            told = rows
            with db.fleet(fleet_id) as aside:
                aside.execute(query("results.progress"), {"import_file_id": import_file_id, "rows": rows})

    report = ResultsReport("", file["name"], import_file_id)
    state, trouble = "", ""
    try:
        with db.fleet(fleet_id) as reading, db.fleet(fleet_id) as connection:
            mine = connection.execute(query("results.claim"), {"fleet_id": fleet_id, "import_file_id": import_file_id}).fetchone()
            if not mine or not mine["claimed"]:
                return  # another worker has it
            source = files.stream(reading, import_file_id)
            results.read_in(connection, fleet_id, source, report, lab=file["lab"], by=file["recorded_by"], progress=progress, all_mapped=True)
            settle(connection, fleet_id, today, at_once=MOST)
    except NeedsMapping as error:
        state, trouble = "mapping", str(error)
    except InputError as error:
        state, trouble = "refused", str(error)
    if state:
        with db.fleet(fleet_id) as connection:
            connection.execute(query("results.set_aside"), {"import_file_id": import_file_id, "state": state, "trouble": trouble[:1000]})
            if state == "refused":
                fleets.audit(connection, fleet_id, file["recorded_by"], "file refused", file["name"], why=trouble[:500])


async def requeue(app: procrastinate.App, dead_after_s: float = DEAD_AFTER_S) -> int:
    """Take up again what dead workers left; how many jobs."""
    stalled = list(await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=dead_after_s))
    for job in stalled:
        try:
            await app.job_manager.retry_job(job, retry_at=datetime.now(UTC))
        except procrastinate.exceptions.UniqueViolation:  # the same waits already: whoever takes that does this one's work
            await app.job_manager.finish_job(job, procrastinate.jobs.Status.FAILED, delete_job=True)
    await app.job_manager.prune_stalled_workers(dead_after_s)
    return len(stalled)


async def work(
    db: Database, fixed_today: date | None = None, *, ask_every_s: float = 30.0, wait: bool = True, handle_signals: bool = True,
    week_pdf: mail.Pdf = no_paper, at_once: int = 2,
) -> None:  # fmt: skip
    """Work on the queue until stopped (``wait`` False: until it is empty), so many jobs ``at_once``, asking labs every so often."""
    app = app_of(Works(db, fixed_today, week_pdf), ask_every_s if wait else None)
    async with app.open_async():
        if not wait:
            await requeue(app)
        waiting = -1
        while True:
            await app.run_worker_async(
                wait=wait,
                concurrency=at_once,
                install_signal_handlers=handle_signals,
                delete_jobs="successful",
                fetch_job_polling_interval=2.0,
            )
            before, waiting = waiting, 0 if wait else await _due(app)
            if waiting in (0, before):  # what waited for another job's lock has its turn in another round
                return


async def _due(app: procrastinate.App) -> int:
    """How many jobs could be done now."""
    now = datetime.now(UTC)
    return sum(job.scheduled_at is None or job.scheduled_at <= now for job in await app.job_manager.list_jobs_async(status="todo"))


def drain_queue(db: Database, fixed_today: date | None = None, at_once: int = 2) -> None:
    """Work until the queue is empty, in a thread of its own (there may be a loop running here)."""
    import asyncio

    failed: list[BaseException] = []

    def run() -> None:
        try:
            asyncio.run(work(db, fixed_today, wait=False, handle_signals=False, at_once=at_once))
        except BaseException as error:
            failed.append(error)

    thread = threading.Thread(target=run)
    thread.start()
    thread.join()
    if failed:
        raise failed[0]
