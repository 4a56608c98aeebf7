"""`./doppio manage work`: run queued jobs."""

import asyncio

from asgiref.sync import sync_to_async
from django.core.management.base import BaseCommand
from django.db import connections
from procrastinate.contrib.django import app

from doppio.indexing.tasks import SILENT_FOR, take_over


class Command(BaseCommand):
    help = "Run queued jobs until stopped; jobs of a worker that died are taken over."

    def add_arguments(self, parser):
        parser.add_argument("--once", action="store_true", help="Stop when nothing is left to do.")
        parser.add_argument("--silent-for", type=float, default=SILENT_FOR,
                            help="Take over jobs whose worker has been silent for so many seconds.")  # fmt: skip

    def handle(self, *args, once: bool, silent_for: float, **options):
        asyncio.run(_work(once, silent_for))


async def _work(once: bool, silent_for: float) -> None:
    try:
        await _run(once, silent_for)
    finally:
        # Periodic jobs are deferred through the ORM, on a thread whose connection would stay open.
        await sync_to_async(connections.close_all)()


async def _run(once: bool, silent_for: float) -> None:
    worker_app = app.with_connector(app.connector.get_worker_connector())
    async with worker_app.open_async():
        await take_over(worker_app.job_manager, silent_for)
        await worker_app.run_worker_async(
            wait=not once, install_signal_handlers=not once, concurrency=1, listen_notify=True
        )
