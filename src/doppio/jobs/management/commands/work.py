"""`./doppio manage work`: run queued jobs."""

import asyncio
import contextlib
import logging
import threading
import time

from asgiref.sync import sync_to_async
from django.conf import settings
from django.core.management.base import BaseCommand, CommandParser
from django.db import DatabaseError, InterfaceError, connections
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.exceptions import ConnectorException
from procrastinate.manager import JobManager

from doppio.core.errors import DoppioError
from doppio.jobs.signals import looking_through
from doppio.jobs.sweep import sweep, tidy
from doppio.jobs.taking_over import BEAT, SILENT_FOR, take_over

SWEEP_EVERY, TIDY_EVERY = 5.0, 3600.0
FIRST_LOOK, LOOK_EVERY = 1800.0, 24 * 3600.0
log = logging.getLogger(__name__)


class Command(BaseCommand):
    help = "Run queued jobs until stopped; jobs of a worker that died are taken over."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--once", action="store_true", help="Stop when nothing is left to do.")
        parser.add_argument("--silent-for", type=float, default=SILENT_FOR,
                            help="Take over jobs whose worker has been silent for so many seconds.")  # fmt: skip

    def handle(self, *args: object, once: bool, silent_for: float, **options: object) -> None:
        asyncio.run(_work(once, silent_for))


async def _work(once: bool, silent_for: float) -> None:
    try:
        await _run(once, silent_for)
    finally:
        # What is done through the ORM is done on a thread whose connection would stay open.
        await sync_to_async(connections.close_all)()


async def _run(once: bool, silent_for: float) -> None:
    connector = app.connector.get_worker_connector()  # type: ignore[attr-defined]
    worker_app = app.with_connector(connector)
    async with worker_app.open_async():
        manager = worker_app.job_manager
        await take_over(manager, silent_for)
        await sync_to_async(sweep)()
        stopping = threading.Event()
        beside = [] if once else [_upkeep(manager, silent_for), _look_through(stopping)]
        tasks = [asyncio.create_task(work) for work in beside]
        try:
            await worker_app.run_worker_async(
                wait=not once, install_signal_handlers=not once, concurrency=1, listen_notify=True,
                update_heartbeat_interval=BEAT, stalled_worker_timeout=SILENT_FOR,
            )  # fmt: skip
        finally:
            stopping.set()
            for task in tasks:
                task.cancel()
                with contextlib.suppress(asyncio.CancelledError):
                    await task


async def _look_through(stopping: threading.Event) -> None:
    """Once a day, slowly: is everything on disk still what was written?"""
    await asyncio.sleep(FIRST_LOOK)
    while True:
        found = await asyncio.to_thread(looking_through.send, None, stopping=stopping)
        for _, damaged in found:
            for damage in damaged or ():
                log.error("%s", damage)
        await asyncio.sleep(LOOK_EVERY)


async def _upkeep(manager: JobManager, silent_for: float) -> None:
    """Beside the jobs: those of workers that died, those that nobody works on, and what has been kept long enough."""
    tidied = time.monotonic() - TIDY_EVERY
    while True:
        await asyncio.sleep(SWEEP_EVERY)
        try:
            await take_over(manager, silent_for)
            await sync_to_async(sweep)()
            if time.monotonic() - tidied >= TIDY_EVERY:
                tidied = time.monotonic()
                await sync_to_async(tidy)(timezone.now())
                await manager.delete_old_jobs(
                    nb_hours=int(settings.DOPPIO_KEEP_JOBS_DAYS * 24), include_failed=True, include_cancelled=True
                )
        except (DatabaseError, InterfaceError, ConnectorException) as error:
            log.warning("the queue could not be looked at: %s", error)
            await sync_to_async(connections.close_all)()
        except (DoppioError, OSError) as error:
            # Such as a store that does not answer: jobs are looked after all the same, and it is tried again.
            log.warning("not everything could be tidied: %s", error)
